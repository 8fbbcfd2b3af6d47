package cli_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"

	"sternledger/internal/cli"
)

// workplace is a folder in which every worked example can run as printed: the
// sample engagement, its exports, and a second engagement beside it.
func workplace(t *testing.T) string {
	t.Helper()
	dir := harbour(t)
	audit := filepath.Join(dir, "audit")
	for from, to := range map[string]string{"exports": "exports", "exports/marrowick.ldif": "marrowick.ldif",
		"exports/weigh1.inf": "weighbridge.inf"} {
		if out, err := exec.Command("cp", "-a", filepath.Join(dir, from), filepath.Join(audit, to)).CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
	if out, err := exec.Command("tar", "-C", filepath.Join(dir, "exports", "gates"), "-czf", filepath.Join(audit, "gates.tar.gz"),
		".").CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	guide, err := os.ReadFile("../../docs/field-maps.md") // its whole map
	if err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(audit, "fieldmaps/tide-desk.yaml"),
		string(regexp.MustCompile("(?s)```yaml\n(id: tide-desk.*?)```").FindSubmatch(guide)[1]))
	published(t, audit)
	must(t, audit, "begin", "harbour-2026")
	must(t, audit, "-C", "harbour-2026", "gather", "exports")
	config, err := os.ReadFile(filepath.Join(audit, "engagement.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(audit, "engagement.yaml"), strings.Replace(string(config), "authorities:",
		"authorities:\n  \"gate*\": {owner: Lock keepers}", 1))
	must(t, audit, "weigh", "--against", "cis-windows-server", "--record")
	must(t, audit, "weigh")
	must(t, audit, "pack", "harbour.zip")
	return audit
}

// shell runs a line as an auditor would type it.
func shell(dir, line string) (string, error) {
	cmd := exec.Command("bash", "-c", line)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"))
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	err := cmd.Run()
	return out.String(), err
}

// Every worked example of every command's help runs as printed, those of one command in
// one place.
func TestHelpExamplesRun(t *testing.T) {
	t.Parallel()
	posix(t)
	var halves [2][]string
	var walk func(cmd *cobra.Command, half int)
	walk = func(cmd *cobra.Command, half int) {
		if cmd.Short == "" || cmd.Runnable() && cmd.Example == "" && !strings.Contains(cmd.CommandPath(), "completion") && cmd.Name() != "help" {
			t.Errorf("%s has no short help or no example", cmd.CommandPath())
		}
		for line := range strings.Lines(cmd.Example) {
			line = strings.TrimSpace(line)
			if i := strings.Index(line, "   "); i > 0 {
				line = line[:i] // what follows is an explanation
			}
			halves[half] = append(halves[half], line)
		}
		for i, sub := range cmd.Commands() {
			if cmd.Parent() == nil {
				half = i % 2
			}
			walk(sub, half)
		}
	}
	walk(cli.New(), 0)
	if n := len(halves[0]) + len(halves[1]); n < 20 {
		t.Errorf("only %d examples", n)
	}
	for i, lines := range halves {
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			t.Parallel()
			dir := workplace(t)
			for _, line := range lines {
				runsAsPrinted(t, dir, line)
			}
		})
	}
}

func runsAsPrinted(t *testing.T, dir, line string) {
	t.Helper()
	at := dir
	if strings.Contains(line, "begin") || strings.Contains(line, "demo") {
		at = t.TempDir()
		if err := os.Link(filepath.Join(dir, "harbour.zip"), filepath.Join(at, "harbour.zip")); err != nil {
			t.Fatal(err)
		}
	}
	if strings.Contains(line, "--matter") { // names are of the newest record
		must(t, dir, "weigh")
	}
	out, err := shell(at, line)
	if failOn := strings.Contains(line, "--fail-on"); err != nil && !(failOn && strings.Contains(out, "--fail-on: findings")) {
		t.Errorf("%s: %v\n%s", line, err, out)
	}
}

// What the README and the documents tell people to type exists.
func TestDocumentsNameRealCommands(t *testing.T) {
	known := map[string]bool{"help": true, "completion": true}
	for _, cmd := range cli.New().Commands() {
		known[cmd.Name()] = true
	}
	named := regexp.MustCompile("(?m)(?:^|[`\"(])sternledger (?:-C \\S+ )?([a-z-]+)")
	documents, _ := filepath.Glob("../../docs/*.md")
	documents = append(documents, "../../README.md", "../../CONTRIBUTING.md", "../../SECURITY.md")
	for _, file := range documents {
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range named.FindAllStringSubmatch(string(data), -1) {
			if !known[m[1]] {
				t.Errorf("%s names the command %q", file, m[1])
			}
		}
		for _, m := range regexp.MustCompile(`\]\(([^)#]+)\)`).FindAllStringSubmatch(string(data), -1) {
			if strings.Contains(m[1], "://") {
				continue
			}
			if _, err := os.Stat(filepath.Join(filepath.Dir(file), m[1])); err != nil {
				t.Errorf("%s links to %s, which is not there", file, m[1])
			}
		}
	}
}

// The tour of the README runs as printed, in its order, and comes out right.
func TestReadmeTour(t *testing.T) {
	beside(t)
	posix(t)
	readme, err := os.ReadFile("../../README.md")
	if err != nil {
		t.Fatal(err)
	}
	tour := regexp.MustCompile("(?s)## The ten-minute tour.*?```sh\n(.*?)```").FindSubmatch(readme)
	if tour == nil {
		t.Fatal("the README has no tour")
	}
	dir := t.TempDir()
	out, err := shell(dir, "set -e\n"+string(tour[1]))
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for _, want := range []string{"M1  ", "Recorded: a waiver was added", "Verified: nothing was altered", "waived until 2027-06-30"} {
		if !strings.Contains(out+must(t, filepath.Join(dir, "harbour", "audit"), "weigh", "--findings"), want) {
			t.Errorf("the tour does not say %q", want)
		}
	}
	for _, name := range []string{"harbour/audit.html", "harbour/audit.xlsx", "harbour.zip"} {
		if _, err := os.Stat(filepath.Join(dir, "harbour", strings.TrimPrefix(name, "harbour/"))); err != nil {
			t.Error(err)
		}
	}
}
