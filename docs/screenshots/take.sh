#!/bin/bash
# Takes the pictures in this folder anew from the demo (needs ../shared/tools,
# xvfb, xterm, imagemagick, chromium, libreoffice-calc, poppler-utils and cmark-gfm). Look at
# each before you commit it.
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
shot=$here/../../../shared/tools/terminal-shot
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
CGO_ENABLED=0 go build -C "$here/../.." -o "$work/sternledger" ./cmd/sternledger
export PATH=$work:$PATH
sternledger demo "$work/harbour" >/dev/null

take() { # NAME COMMAND…: the first page of what the command prints on a terminal
  local name=$1
  shift
  printf 'export TERM=xterm-256color\ncd %q\n' "$work/${harbour:-harbour}/audit" >"$work/$name"
  printf '%q ' "$@" >>"$work/$name"
  "$shot" "$here/$name.png" bash -c "PAGER= script -qc 'bash $work/$name' /dev/null </dev/tty | head -n ${lines:-45}"
}
take demo sternledger demo
take scopes sternledger scopes
take trace sternledger trace w.lowe
take weigh sternledger weigh
take requirements sternledger requirements
SHOT_DARK=1 take matter-dark sternledger weigh --matter M1
take matrix sternledger weigh --matrix
cp "$here/../../internal/benchmark/testdata/harbour-linux-ds.xml" "$work/harbour/audit/"
take baseline sternledger baseline new published --from harbour-linux-ds.xml
take forecast sternledger forecast
take probe sternledger probe --patterns
take rehearse sternledger rehearse --scope "marrowick.example / Pilots" --tries 5 --every 10m --for 62h

take amend sternledger amend

# The change files, a month later, and a quarter later.
cp -r "$work/harbour" "$work/second"
(cd "$work/second/audit" && sternledger amend --to ../change --quiet && for when in month quarter; do
  sternledger gather --quiet ../later/$when && sternledger weigh
done) >/dev/null
{ echo '<meta charset="utf-8"><style>body{font:15px/1.45 sans-serif;margin:24px 40px;max-width:1150px}table{border-collapse:collapse}td,th{border:1px solid #bbb;padding:4px 14px}</style>'
  cmark-gfm -e table "$work/second/change/CHANGE.md"; } >"$work/change.html"
harbour=second take amend-status sternledger amend --status

# A quarter later: a waiver, a newer export, another weighing.
cd "$work/harbour/audit"
sternledger waive --setting max-age --scope "marrowick.example / Ticket Kiosks" --until 2027-06-30 --reason "Kiosks are replaced in spring" >/dev/null
sed -e 's/^minPwdLength: .*/minPwdLength: 12/' -e '/^cn: Pilots$/,/^dn: /s/^msDS-LockoutThreshold: .*/msDS-LockoutThreshold: 20/' ../exports/marrowick.ldif >"$work/marrowick.ldif"
sternledger gather --quiet "$work/marrowick.ldif" >/dev/null
sternledger weigh >/dev/null
take drift sternledger drift

page() { # NAME FILE: the top of a page
  chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,800 --screenshot="$here/$1.png" "file://$2" 2>/dev/null
}
sternledger report --quiet --to "$work/report.html,$work/paper.xlsx"
page change "$work/change.html"
page report "$work/report.html"
# The matters alone: without a window Chromium draws no other part of a page.
sed "s|</head>|<style>header,#glance{display:none}</style></head>|" "$work/report.html" >"$work/matters.html"
page report-matters "$work/matters.html"
(cd "$work" && libreoffice --headless --convert-to pdf paper.xlsx >/dev/null 2>&1)
pdftoppm -r 130 -f 1 -l 1 -png "$work/paper.pdf" "$work/paper"
convert "$work"/paper-*.png -trim -bordercolor white -border 20 -resize 1280x -crop 1280x800+0+0 +repage "$here/workbook.png"
