// Package worldtest plays files of small worlds: what a test is told, line by line, and
// what the code makes of it, in words that people read and hold against the rule.
//
//	# words for the reader
//
//	== what this world is about
//	a line of the test's own language
//	> what comes of it
//
// STERNLEDGER_UPDATE=1 writes the answers anew: read what has changed before you commit it.
package worldtest

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Play plays each world of a file of the test's package, and holds what play returns for
// its lines against the answers there.
func Play(t *testing.T, name string, play func(t *testing.T, lines []string) []string) {
	t.Helper()
	file := filepath.Join("testdata", name)
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	worlds := strings.Split(strings.ReplaceAll(string(data), "\r\n", "\n"), "\n== ")
	if len(worlds) < 2 {
		t.Fatalf("%s holds no world", file)
	}
	out := []string{worlds[0]}
	for _, text := range worlds[1:] {
		title, body, _ := strings.Cut(text, "\n")
		var lines, want, got []string
		for _, line := range strings.Split(strings.TrimSpace(body), "\n") {
			if answer, is := strings.CutPrefix(line, "> "); is {
				want = append(want, strings.TrimRight(answer, " "))
			} else {
				lines = append(lines, line)
			}
		}
		t.Run(title, func(t *testing.T) {
			for _, answer := range play(t, lines) {
				got = append(got, strings.TrimRight(answer, " "))
			}
			for i := range max(len(got), len(want)) {
				if i >= len(got) || i >= len(want) || got[i] != want[i] {
					t.Errorf("from answer %d on:\n%s\nwant\n%s", i+1, strings.Join(got[min(i, len(got)):], "\n"), strings.Join(want[min(i, len(want)):],
						"\n"))
					break
				}
			}
		})
		world := title + "\n" + strings.Join(lines, "\n") + "\n"
		for _, answer := range got {
			world += "> " + answer + "\n"
		}
		out = append(out, world)
	}
	if os.Getenv("STERNLEDGER_UPDATE") != "" {
		if err := os.WriteFile(file, []byte(strings.Join(out, "\n== ")), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}
