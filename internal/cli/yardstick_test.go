package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// published copies the invented benchmark documents into a folder.
func published(t testing.TB, dir string) {
	t.Helper()
	for _, name := range []string{"harbour-windows-xccdf.xml", "harbour-windows-oval.xml", "harbour-linux-ds.xml"} {
		data, err := os.ReadFile("../benchmark/testdata/" + name)
		if err != nil {
			t.Fatal(err)
		}
		write(t, filepath.Join(dir, name), string(data))
	}
}

// A published benchmark becomes a baseline that can be shown, checked and weighed
// against; the counts are exact, and none of its sentences is copied.
func TestBaselineOfABenchmark(t *testing.T) {
	beside(t)
	dir := begin(t)
	published(t, dir)
	doc := document(t, dir, "baseline", "new", "quay", "--from", "harbour-windows-xccdf.xml", "--profile", "Level_2")
	for key, want := range map[string]any{"rules": 9.0, "selected": 9.0, "understood": 6.0, "not_understood": 2.0, "other": 1.0,
		"demands": 6.0,
		"kind":    "XCCDF 1.2", "version": "2.1.0", "profile": "xccdf_example.marrowick_profile_Level_2",
		"title": "After quay-server 2.1.0, Level_2"} {
		if at(doc, key) != want {
			t.Errorf("%s: %v, want %v", key, at(doc, key), want)
		}
	}
	if out := must(t, dir, "baseline", "lint", "baselines/quay.yaml"); !strings.Contains(out, "quay 1, 6 demands") {
		t.Error(out)
	}
	text, err := os.ReadFile(filepath.Join(dir, "baselines/quay.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	for _, theirs := range []string{"Quay servers", "How old passwords get", "What the harbour asks", "Failed attempts", "Empty passwords"} {
		if strings.Contains(string(text), theirs) {
			t.Errorf("the file has the document's words %q", theirs)
		}
	}
	if !strings.Contains(string(text), "#   1.6_interview: its check is of another kind") {
		t.Errorf("%s", text)
	}
	write(t, filepath.Join(dir, "in.inf"), "[Unicode]\nUnicode=yes\n[System Access]\nMinimumPasswordLength = 14\nMaximumPasswordAge = "+
		"90\nLockoutBadCount = 0\n")
	must(t, dir, "gather", "in.inf")
	seen := map[string]string{}
	for _, v := range document(t, dir, "weigh", "--against", "quay")["verdicts"].([]any) {
		seen[at(v, "setting").(string)] = fmt.Sprint(at(v, "verdict"), " ", at(v, "demanded"))
	}
	for id, want := range map[string]string{"min-length": "weak at least 16 characters", "max-age": "holds at most 365 days",
		"lockout-threshold": "weak at most 3 failed attempts",
		"min-age":           "missing at least 1 day"} {
		if seen[id] != want {
			t.Errorf("%s: %q, want %q", id, seen[id], want)
		}
	}
	out := must(t, dir, "baseline", "new", "linux", "--from", "harbour-linux-ds.xml")
	for _, want := range []string{"17 of 17 selected: 14 understood", "min_len_defs", "write \"never: fails\"",
		"sternledger weigh --against linux"} {
		if !strings.Contains(strings.Join(strings.Fields(out), " "), want) {
			t.Errorf("%q is not in\n%s", want, out)
		}
	}
}

// A template, a backup, a machine in evidence: what is set there, at least as strong.
func TestBaselineOfWhatIsSet(t *testing.T) {
	posix(t)
	beside(t)
	audit := workplace(t)
	for name, c := range map[string]struct {
		args []string
		want []string
	}{
		"template": {[]string{"--from", "weighbridge.inf"}, []string{"setting: min-length", "setting: max-age",
			"#   min-age: it is the weakest that can be set"}},
		"machine": {[]string{"--from-place", "gate1"}, []string{"setting: min-length\n  at-least: 14 characters", "unix-machine",
			"setting: hash-method"}},
		"gates": {[]string{"--from", "exports/gates#gate1"}, []string{"setting: min-length"}},
	} {
		t.Run(name, func(t *testing.T) {
			id := "of-" + name
			must(t, audit, append([]string{"baseline", "new", id}, c.args...)...)
			text, err := os.ReadFile(filepath.Join(audit, "baselines", id+".yaml"))
			if err != nil {
				t.Fatal(err)
			}
			for _, want := range c.want {
				if !strings.Contains(string(text), want) {
					t.Errorf("%q is not in\n%s", want, text)
				}
			}
			must(t, audit, "baseline", "lint", "baselines/"+id+".yaml")
		})
	}
	// The machine meets what was taken from it.
	for _, v := range document(t, audit, "weigh", "--against", "of-machine", "--place", "gate1")["verdicts"].([]any) {
		if at(v, "scope") == "gate1 / machine / standard" && at(v, "verdict") == "weak" {
			t.Errorf("%v", v)
		}
	}
}

func TestMistakesInNewBaselines(t *testing.T) {
	beside(t)
	dir := begin(t)
	published(t, dir)
	write(t, filepath.Join(dir, "x.xml"), "<a/>")
	for name, c := range map[string]struct{ line, want string }{
		"no such profile": {"--from harbour-windows-xccdf.xml --profile Level_9",
			`--profile "Level_9", which fits 0 profiles; expected one of xccdf_example.marrowick_profile_Level_1, xccdf_example`},
		"no profile": {"--from harbour-windows-xccdf.xml", "no rule that is selected, of 9; expected some; choose a profile, with " +
			"--profile: xccdf"},
		"profile of others": {"--from cis-windows-server --profile x", "only checklists have profiles"},
		"no such file":      {"--from nothing.xml", "no such file or directory; check the name"},
		"no such baseline":  {"--from cis-windows-servr", `unknown baseline "cis-windows-servr"; the nearest is "cis-windows-server"`},
		"a workbook":        {"--from list.xlsx", "no such file"},
		"another document":  {"--from x.xml", "x.xml"},
		"no such place":     {"--from-place gate9", "nothing was gathered yet"},
		"two sources":       {"--from pci-dss-4 --from-place gate1", "two sources; give one"},
		"no such part":      {"--from harbour-linux-ds.xml#other", `0 checklists "other"; expected`},
	} {
		t.Run(name, func(t *testing.T) {
			_, errs, status := run(t, dir, append([]string{"baseline", "new", "x"}, strings.Fields(c.line)...)...)
			if status == 0 || !strings.Contains(errs, c.want) {
				t.Errorf("status %d: %s, want %s", status, errs, c.want)
			}
			if _, err := os.Stat(filepath.Join(dir, "baselines/x.yaml")); err == nil {
				t.Error("a file was written")
			}
		})
	}
	write(t, filepath.Join(dir, "list.xlsx"), "PK")
	if _, errs, _ := run(t, dir, "baseline", "new", "x", "--from", "list.xlsx"); !strings.Contains(errs,
		"the workbook or CSV form of a checklist is not read") {
		t.Error(errs)
	}
}

func TestBaselineDiff(t *testing.T) {
	beside(t)
	dir := begin(t)
	changes := map[string]string{}
	for _, d := range document(t, dir, "baseline", "diff", "pci-dss-4", "cyber-essentials")["demands"].([]any) {
		changes[at(d, "setting").(string)] = fmt.Sprint(at(d, "change"))
	}
	for id, want := range map[string]string{"min-length": "laxer", "lockout-threshold": "same", "lockout-duration": "removed",
		"max-length": "added"} {
		if changes[id] != want {
			t.Errorf("%s: %q, want %q", id, changes[id], want)
		}
	}
	out := must(t, dir, "baseline", "diff", "cis-windows-server", "stig-windows-server-2022")
	if !strings.Contains(out, "2 stricter, 7 added, 2 removed, 7 same") || strings.Contains(out, "min-length") {
		t.Error(out)
	}
	if out := must(t, dir, "baseline", "diff", "cis-windows-server", "stig-windows-server-2022", "--verbose"); !strings.Contains(out,
		"min-length") {
		t.Error(out)
	}
}
