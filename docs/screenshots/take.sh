#!/bin/bash
# Takes the pictures in this folder anew from the demo (needs ../shared/tools,
# xvfb, xterm and imagemagick). Look at each before you commit it.
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
  printf 'export TERM=xterm-256color\ncd %q\n' "$work/harbour/audit" >"$work/$name"
  printf '%q ' "$@" >>"$work/$name"
  "$shot" "$here/$name.png" bash -c "script -qc 'bash $work/$name' /dev/null </dev/tty | head -n 46"
}
take demo sternledger demo
take scopes sternledger scopes
take accounts sternledger accounts
take trace sternledger trace w.lowe
take trace-policy sternledger trace --policy "Control Room"
take weigh sternledger weigh
take matrix sternledger weigh --matrix
take by-setting sternledger weigh --by setting --min-severity grave
take baseline sternledger baseline show nist-800-63b
take reconcile sternledger baseline reconcile cis-windows-server nist-800-63b pci-dss-4
take doors sternledger trace a.ledge@marrowick.example --authority marrowickharbour.cloud.example
take forecast sternledger forecast
take probe sternledger probe --patterns
take rehearse sternledger rehearse --scope "marrowick.example / Pilots" --tries 5 --every 10m --for 62h
