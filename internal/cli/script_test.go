package cli_test

import (
	"encoding/csv"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"testing"
)

// TestScripts plays what scripts/*.txt hold: what an auditor types, and all that the
// program prints to it. A script is read from its top:
//
//	# words for the reader
//	$ cat > x.ldif <<END        a file, up to the line END
//	$ cd audit
//	$ replace FILE "old" "new"  in a file, which has to hold it; \n is a new line
//	$ sternledger weigh --setting max-age
//	Weighed …                   standard output, line by line
//	! error: …                  then standard error
//	exit 1                      and the status, where it is not 0
//
// "…" in a line stands for anything, and alone on a line for any lines: for what a day,
// a machine or a hash decides. STERNLEDGER_UPDATE=1 writes down what is printed now, in
// place of each answer that no longer fits.
func TestScripts(t *testing.T) {
	scripts, _ := filepath.Glob("scripts/*.txt")
	if len(scripts) == 0 {
		t.Fatal("no scripts")
	}
	for _, file := range scripts {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txt"), func(t *testing.T) {
			t.Parallel()
			played := play(t, t.TempDir(), file, strings.SplitAfter(string(text), "\n"))
			if os.Getenv("STERNLEDGER_UPDATE") != "" {
				if err := os.WriteFile(file, []byte(played), 0o644); err != nil {
					t.Fatal(err)
				}
			}
		})
	}
}

// play plays a script's lines in dir, and returns the script as it should be.
func play(t *testing.T, dir, file string, lines []string) string {
	t.Helper()
	var played strings.Builder
	for i := 0; i < len(lines); {
		typed, is := strings.CutPrefix(lines[i], "$ ")
		at := i + 1
		played.WriteString(lines[i])
		i++
		if !is {
			if text := strings.TrimSpace(lines[i-1]); text != "" && !strings.HasPrefix(text, "#") {
				t.Fatalf("%s:%d: %q stands before any command", file, at, text)
			}
			continue
		}
		words := wordsOf(t, typed)
		var answer string
		for i < len(lines) && words[0] != "cat" && !strings.HasPrefix(lines[i], "$ ") && !strings.HasPrefix(lines[i], "# ") {
			answer += lines[i]
			i++
		}
		switch words[0] {
		case "cat":
			var text string
			for lines[i] != "END\n" {
				text += lines[i]
				i++
			}
			i++
			write(t, filepath.Join(dir, words[2]), text)
			played.WriteString(text + "END\n")
		case "cd":
			dir = filepath.Join(dir, words[1])
			played.WriteString(answer)
		case "replace":
			text, err := os.ReadFile(filepath.Join(dir, words[1]))
			if err != nil || !strings.Contains(string(text), words[2]) {
				t.Fatalf("%s:%d: %s does not hold %q (%v)", file, at, words[1], words[2], err)
			}
			write(t, filepath.Join(dir, words[1]), strings.Replace(string(text), words[2], strings.ReplaceAll(words[3], `\n`, "\n"), 1))
			played.WriteString(answer)
		case "sternledger":
			want := strings.TrimRight(answer, "\n")
			got := printed(t, dir, words[1:])
			if !fits(want, got) {
				t.Errorf("%s:%d: %s\nprints\n%s\nand not\n%s", file, at, strings.TrimSpace(typed), got, want)
				answer = got + answer[len(want):]
			}
			played.WriteString(answer)
		default:
			t.Fatalf("%s:%d: a script cannot %q", file, at, words[0])
		}
	}
	return played.String()
}

// wordsOf parts what was typed at its spaces; "…" keeps a word together.
func wordsOf(t *testing.T, typed string) []string {
	t.Helper()
	r := csv.NewReader(strings.NewReader(typed))
	r.Comma = ' '
	words, err := r.Read()
	if err != nil {
		t.Fatalf("%q: %v", typed, err)
	}
	return words
}

// printed is all that the program answers, as scripts write it.
func printed(t *testing.T, dir string, args []string) string {
	t.Helper()
	out, errs, status := run(t, dir, args...)
	for line := range strings.Lines(errs) {
		out += "! " + line
	}
	if runtime.GOOS == "windows" {
		out = strings.ReplaceAll(out, `\`, "/")
	}
	var lines []string
	for line := range strings.Lines(out) {
		lines = append(lines, strings.TrimRight(line, " \r\n"))
	}
	if status != 0 {
		lines = append(lines, "exit "+string(rune('0'+status)))
	}
	return strings.TrimRight(strings.Join(lines, "\n"), "\n")
}

// fits says whether what was printed is what the script says.
func fits(want, got string) bool {
	pattern := regexp.QuoteMeta("\n" + want)
	pattern = strings.ReplaceAll(pattern, "\n…", "(?:\n.*)*?")
	pattern = strings.ReplaceAll(pattern, "…", ".*?")
	return regexp.MustCompile(`\A` + pattern + `\z`).MatchString("\n" + got)
}
