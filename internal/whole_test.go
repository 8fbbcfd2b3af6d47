package internal_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// A format is whole: it is fuzzed, and docs/sources.md tells of it.
func TestFormatsAreWhole(t *testing.T) {
	docs, err := os.ReadFile("../docs/sources.md")
	if err != nil {
		t.Fatal(err)
	}
	formatName := regexp.MustCompile(`Format\{\s*Name:\s*"([^"(]+)`)
	seen := 0
	packages, err := filepath.Glob("intake/*")
	if err != nil {
		t.Fatal(err)
	}
	for _, dir := range packages {
		code, tests := source(t, dir, false), source(t, dir, true)
		m := formatName.FindStringSubmatch(code)
		if m == nil {
			continue // a live source: what it writes is read by a format
		}
		seen++
		if !strings.Contains(tests, "func Fuzz") {
			t.Errorf("%s: nothing fuzzes its reader", dir)
		}
		if word := strings.ToLower(strings.Fields(m[1])[0]); !strings.Contains(strings.ToLower(string(docs)), word) {
			t.Errorf("%s: docs/sources.md says nothing of a %q", dir, strings.TrimSpace(m[1]))
		}
	}
	if seen < 5 {
		t.Errorf("only %d formats were found: the test looks in the wrong place", seen)
	}
}

// source is the text of a package's files.
func source(t *testing.T, dir string, tests bool) string {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(dir, "*.go"))
	if err != nil {
		t.Fatal(err)
	}
	var b strings.Builder
	for _, f := range files {
		if strings.HasSuffix(f, "_test.go") == tests {
			data, err := os.ReadFile(f)
			if err != nil {
				t.Fatal(err)
			}
			b.Write(data)
		}
	}
	return b.String()
}
