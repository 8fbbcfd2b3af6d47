package report

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"sternledger/internal/core/check"
	"sternledger/internal/core/record"
	"sternledger/internal/labtest"
)

// browser runs chromium on a page and returns what it writes.
func browser(t *testing.T, address string, args ...string) []byte {
	t.Helper()
	program, err := exec.LookPath("chromium")
	if err != nil {
		labtest.Lacking(t, "chromium: %v", err)
	}
	cmd := exec.Command(program, append(append([]string{"--headless", "--no-sandbox", "--disable-gpu", "--user-data-dir=" + t.TempDir()},
		args...), address)...)
	var out bytes.Buffer
	cmd.Stdout = &out
	if err := cmd.Run(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// The page for the board prints on one sheet, however many weighings there were.
func TestBoardIsOnePage(t *testing.T) {
	labtest.Wanted(t)
	r := reported(t)
	for n := range 30 { // a long course
		p := r.Course[0]
		p.Weighing = int64(n + 1)
		r.Course = append(r.Course, p)
	}
	file, pdf := filepath.Join(t.TempDir(), "board.html"), filepath.Join(t.TempDir(), "b.pdf")
	if err := os.WriteFile(file, written(t, r, "board.html"), 0o600); err != nil {
		t.Fatal(err)
	}
	browser(t, "file://"+file, "--print-to-pdf="+pdf)
	info, err := exec.Command("pdfinfo", pdf).Output()
	if err != nil {
		labtest.Lacking(t, "pdfinfo: %v", err)
	}
	if !regexp.MustCompile(`Pages:\s+1\n`).Match(info) {
		t.Errorf("it prints on more than a page: %s", info)
	}
}

// What the page shows for each filter is what the record holds, to the unit; the
// filter is in the address, and the page prints on few pages.
func TestPageInBrowser(t *testing.T) {
	labtest.Wanted(t)
	r := reported(t)
	file := filepath.Join(t.TempDir(), "r.html")
	if err := os.WriteFile(file, written(t, r, ".html"), 0o600); err != nil {
		t.Fatal(err)
	}
	matters := r.Weighing.Matters()
	counted := func(fits func(m *record.Matter, f *check.Finding) bool) string {
		findings, in := 0, 0
		for _, m := range matters {
			n := 0
			for _, f := range m.Findings {
				if fits(m, f) {
					n++
				}
			}
			if findings += n; n > 0 {
				in++
			}
		}
		return fmt.Sprintf("%d of %d findings, %d of %d matters", findings, len(r.Weighing.Findings), in, len(matters))
	}
	says := regexp.MustCompile(`<output[^>]*>([^<]*)`)
	shown := regexp.MustCompile(`<article class="entry matter [a-z]+" id="m[0-9]+">`)
	for query, fits := range map[string]func(m *record.Matter, f *check.Finding) bool{
		"":                              func(*record.Matter, *check.Finding) bool { return true },
		"severity=grave":                func(_ *record.Matter, f *check.Finding) bool { return f.Severity == "grave" },
		"verdict=missing":               func(_ *record.Matter, f *check.Finding) bool { return f.Kind == check.Missing },
		"verdict=waived":                func(_ *record.Matter, f *check.Finding) bool { return f.Kind == check.Waived },
		"verdict=weak&severity=minor":   func(_ *record.Matter, f *check.Finding) bool { return f.Kind == check.Weak && f.Severity == "minor" },
		"q=nothing-is-called-like-this": func(*record.Matter, *check.Finding) bool { return false },
	} {
		t.Run(query, func(t *testing.T) {
			dom := browser(t, "file://"+file+"?"+query, "--dump-dom")
			got := says.FindSubmatch(dom)
			if want := counted(fits); got == nil || string(got[1]) != want {
				t.Errorf("%s, want %s", got, want)
			}
			n, _ := strconv.Atoi(strings.Fields(strings.Split(counted(fits), ", ")[1])[0])
			if visible := len(shown.FindAll(dom, -1)); visible != n {
				t.Errorf("%d matters are shown, want %d", visible, n)
			}
		})
	}
	pdf := filepath.Join(t.TempDir(), "r.pdf")
	browser(t, "file://"+file, "--print-to-pdf="+pdf)
	info, err := exec.Command("pdfinfo", pdf).Output()
	if err != nil {
		labtest.Lacking(t, "pdfinfo: %v", err)
	}
	pages := regexp.MustCompile(`Pages:\s+([0-9]+)`).FindSubmatch(info)
	if n, _ := strconv.Atoi(string(pages[1])); n < 5 || n > 10 {
		t.Errorf("it prints on %d pages", n)
	}
}
