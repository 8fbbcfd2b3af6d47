package cli_test

import (
	"path/filepath"
	"strings"
	"testing"
)

// Evidence that was gathered by mistake is taken out of use, recorded and
// reversible: what was known before counts again, in every command.
func TestSetAside(t *testing.T) {
	beside(t)
	dir, src := begin(t), t.TempDir()
	right := write(t, filepath.Join(src, "right.ldif"), smallHead+smallUser)
	wrong := write(t, filepath.Join(src, "wrong.ldif"), strings.Replace(smallHead, "minPwdLength: 10", "minPwdLength: 20", 1)+smallUser)
	length := func() any {
		for _, s := range document(t, dir, "scopes")["scopes"].([]any) {
			if at(s, "authority") == "x.example" {
				return at(s, "settings", "min-length", "value")
			}
		}
		return nil
	}
	must(t, dir, "gather", right, "--quiet")
	must(t, dir, "weigh")
	must(t, dir, "gather", wrong, "--quiet")
	other := write(t, filepath.Join(src, "other.ldif"), strings.ReplaceAll(smallHead+smallUser, "DC=x,", "DC=y,"))
	must(t, dir, "gather", other, "--quiet")
	must(t, dir, "weigh")
	if got := length(); got != 20.0 {
		t.Fatalf("%v", got)
	}
	for _, bad := range [][]string{{"wrong.ldif"}, {"wrong.ldif", "--reason", " "}, {"absent.ldif", "--reason", "x"},
		{"wrong.ldif", "--take-back", "--reason", "x"}, {"--reason", "x"}} {
		if _, _, status := run(t, dir, append([]string{"set-aside"}, bad...)...); status == 0 {
			t.Errorf("%v was accepted", bad)
		}
	}
	out := must(t, dir, "set-aside", "wrong.ldif", "--reason", "The test system")
	if !strings.Contains(out, "as of entry 2") || length() != 10.0 {
		t.Errorf("%v after\n%s", length(), out)
	}
	if out := must(t, dir, "weigh"); !strings.Contains(out, "Recorded: the evidence is another") {
		t.Errorf("%s", out)
	}
	must(t, dir, "verify")
	if out := must(t, dir, "set-aside", "--list"); strings.TrimSpace(out) != "wrong.ldif" {
		t.Errorf("%q", out)
	}
	// A place of which nothing else is known is gone; the other stays.
	must(t, dir, "set-aside", "evidence/other.ldif", "--reason", "x")
	if out := must(t, dir, "scopes"); strings.Contains(out, "y.example") || !strings.Contains(out, "x.example") {
		t.Errorf("%s", out)
	}
	must(t, dir, "set-aside", "other.ldif", "wrong.ldif", "--take-back", "--reason", "They were right")
	if out := must(t, dir, "scopes"); length() != 20.0 || !strings.Contains(out, "y.example") {
		t.Errorf("%v\n%s", length(), out)
	}
	// What is set aside is not known: gathered again, it counts again.
	must(t, dir, "set-aside", "wrong.ldif", "--reason", "x")
	must(t, dir, "gather", wrong, "--quiet")
	if got := length(); got != 20.0 {
		t.Errorf("gathered again: %v", got)
	}
	must(t, dir, "weigh")
	must(t, dir, "verify")
	if out := must(t, dir, "entries", "--kind", "set-aside"); strings.Count(out, "out of use") != 3 ||
		strings.Count(out, "into use again") != 1 {
		t.Errorf("%s", out)
	}
}
