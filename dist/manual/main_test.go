package main

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// The pages keep the tables of the help, line by line.
func TestManualTables(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "pages")
	if err := write(dir); err != nil {
		t.Fatal(err)
	}
	page, err := os.ReadFile(filepath.Join(dir, "sternledger-weigh.1"))
	if err != nil {
		t.Fatal(err)
	}
	text := strings.ReplaceAll(string(page), `\-`, "-")
	for _, line := range []string{"holds        the effective value meets the demand", "weak         it is known and falls short"} {
		if !regexp.MustCompile(`(?m)^\s*` + regexp.QuoteMeta(line) + `$`).MatchString(text) {
			t.Errorf("the page has no line %q", line)
		}
	}
	if table := regexp.MustCompile(`(?s)\.EX(.*?)\.EE`).FindString(text); !strings.Contains(table, "conflicting  it meets the demand") {
		t.Errorf("the table is filled: %s", table)
	}
}
