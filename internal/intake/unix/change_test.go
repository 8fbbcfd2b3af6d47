package unix

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/setting"
	"sternledger/internal/redact"
)

// No name is executed, whatever it holds: a shell gives chage the name as it is.
func TestScriptQuotesNames(t *testing.T) {
	if _, err := exec.LookPath("sh"); err != nil {
		t.Skip("skipped: no sh") // as on Windows
	}
	names := []string{"$(touch pwned)", "`touch pwned`", "a;touch pwned", "'$(touch pwned)'", `"x" \`, "-d", "a b\tc", "&& touch pwned",
		"> pwned", "~", "*", "ö"}
	var all []Aged
	for _, n := range names {
		all = append(all, Aged{n, "max-age", "", setting.Number(90 * day)})
	}
	for _, undo := range []bool{false, true} {
		at := t.TempDir()
		cmd := exec.Command("sh", "-s")
		cmd.Dir = at
		cmd.Stdin = strings.NewReader("chage() { for a; do :; done; printf '%s\\n' \"$a\"; }\n" +
			string(Script(all, []string{"of \"x\"\ntouch pwned"}, undo)))
		out, err := cmd.Output()
		if got := strings.Split(strings.TrimSuffix(string(out), "\n"), "\n"); err != nil || !slices.Equal(got, names) {
			t.Errorf("undo %v: %v %q, want %q", undo, err, got, names)
		}
		if left, _ := filepath.Glob(filepath.Join(at, "*")); len(left) > 0 {
			t.Errorf("executed: %v", left)
		}
	}
}

// What a line becomes for a setting; the rest of it stays to the byte.
func TestEditLine(t *testing.T) {
	n := func(n int64) setting.Value { return setting.Number(n) }
	for _, c := range []struct {
		part, line, where string
		id                setting.ID
		to                setting.Value
		want              string // empty: no change of the line does it
	}{
		{"etc/security/pwquality.conf", "minlen = 8\t# short", "minlen", "min-length", n(14), "minlen = 14\t# short"},
		{"etc/security/pwquality.conf", "dcredit=0\r", "dcredit", "require-digit", n(1), "dcredit=-1\r"},
		{"etc/security/pwquality.conf", "minclass 2", "minclass", "classes-required", n(4), ""},
		{"etc/security/faillock.conf", "deny=10", "deny", "lockout-threshold", n(5), "deny=5"},
		{"etc/login.defs", "PASS_MAX_DAYS\t99999 # never", "PASS_MAX_DAYS", "max-age", n(365 * day), "PASS_MAX_DAYS\t365 # never"},
		{"etc/default/useradd", "INACTIVE=-1", "INACTIVE", "inactive-disable", n(45 * day), "INACTIVE=45"},
		{"etc/pam.d/common-password", "password requisite pam_pwquality.so retry=3 minlen=8 difok=1", "minlen", "min-length", n(14),
			"password requisite pam_pwquality.so retry=3 minlen=14 difok=1"},
		{"etc/pam.d/common-password", "password requisite pam_pwquality.so retry=3  ", "x", "min-length", n(14),
			"password requisite pam_pwquality.so retry=3 minlen=14"},
		{"etc/pam.d/common-password", "password required pam_unix.so", "x", "min-length", n(14), ""},
		{"etc/pam.d/common-password", "password requisite pam_pwquality.so \\", "x", "min-length", n(14), ""},
		{"etc/pam.d/common-password", "# password requisite pam_pwquality.so", "x", "min-length", n(14), ""},
		{"etc/pam.d/common-password", "password required pam_pwhistory.so use_authtok remember=3", "remember", "history", n(24),
			"password required pam_pwhistory.so use_authtok remember=24"},
		{"etc/pam.d/common-auth", "auth [success=1 default=ignore] pam_unix.so nullok try_first_pass", "x", "empty-accepted", setting.Off,
			"auth [success=1 default=ignore] pam_unix.so try_first_pass"},
		{"etc/pam.d/common-auth", "auth sufficient pam_unix.so nullok_secure", "x", "empty-accepted", setting.Off, "auth sufficient pam_unix.so"},
		{"etc/pam.d/common-auth", "auth sufficient pam_badge.so", "x", "empty-accepted", setting.Off, ""},
		{"etc/pam.d/common-auth", "auth required pam_faillock.so preauth", "x", "lockout-administrator", setting.On,
			"auth required pam_faillock.so preauth even_deny_root"},
		{"etc/pam.d/common-auth", "auth required pam_faillock.so even_deny_root", "x", "lockout-administrator", setting.On, ""},
		{"etc/pam.d/common-auth", "auth required pam_unix.so", "x", "lockout-administrator", setting.On, ""},
	} {
		got, ok := editLine(Edit{Setting: c.id, Part: c.part, Where: c.where, To: c.to}, c.line)
		if ok != (c.want != "") || ok && got != c.want {
			t.Errorf("%q for %s: %q %v, want %q", c.line, c.id, got, ok, c.want)
		}
	}
}

// The ordinary patch takes the diffs, forwards and back, at the ends of files and
// around lines that were not kept.
func TestDiffIsTaken(t *testing.T) {
	if _, err := exec.LookPath("patch"); err != nil {
		t.Skip("skipped: no patch")
	}
	kept := map[string][]byte{"etc/a": []byte("one\ntwo\nthree\n[not kept]\nfive\nsix\nseven\neight\nnine\nten"), "etc/b": []byte("only\n"),
		"etc/c": []byte("first\nlast")}
	kept["etc/a"] = []byte(strings.Replace(string(kept["etc/a"]), "[not kept]", "x = "+redact.NotKept, 1))
	real := map[string]string{"etc/a": strings.Replace(string(kept["etc/a"]), redact.NotKept, "the real value", 1), "etc/b": "only\n",
		"etc/c": "first\nlast"}
	changes := []Change{{"etc/a", 3, "three", "3"}, {"etc/a", 5, "five", "5"}, {"etc/a", 10, "ten", "10"}, {"etc/b", 1, "only", "alone"},
		{"etc/c", 2, "last", "least"}}
	at := t.TempDir()
	for name, text := range real {
		os.MkdirAll(filepath.Dir(filepath.Join(at, name)), 0o755)
		os.WriteFile(filepath.Join(at, name), []byte(text), 0o644)
	}
	diff := filepath.Join(t.TempDir(), "d")
	os.WriteFile(diff, Diff(kept, changes), 0o644)
	for _, way := range [][]string{nil, {"-R"}} {
		if out, err := exec.Command("patch", append(way, "-p1", "-s", "-F0", "-d", at, "-i", diff)...).CombinedOutput(); err != nil {
			t.Fatalf("%v %s\n%s", err, out, Diff(kept, changes))
		}
		for name, text := range real {
			want := text
			if way == nil {
				for _, c := range changes {
					if c.Part == name {
						lines := strings.Split(want, "\n")
						lines[c.Line-1] = c.New
						want = strings.Join(lines, "\n")
					}
				}
			}
			if got, _ := os.ReadFile(filepath.Join(at, name)); string(got) != want {
				t.Errorf("%v %s: %q, want %q", way, name, got, want)
			}
		}
	}
}

// A setting that no line has is put behind its module's file, where that is in the
// evidence and ends with a line; the diff says so and can be taken back.
func TestAddedLines(t *testing.T) {
	const stack = "password requisite pam_pwquality.so retry=3\npassword required pam_unix.so\n"
	edit := func(id setting.ID, n int64, line int) Edit {
		return Edit{Setting: id, Part: "etc/pam.d/common-password", Line: line, Where: "common-password password", To: setting.Number(n)}
	}
	for name, c := range map[string]struct {
		conf  string
		edits []Edit
		want  string // of the file; empty: it stays, and the edits are left
		diff  string
	}{
		"two": {"# nothing\nminlen = 14\n", []Edit{edit(setting.MaxRepeat, 3, 2), edit(setting.MaxSequence, 3, 2)}, "# nothing\nminlen = 14\nmaxrepeat = 3\nmaxsequence = 3\n", "@@ -1,2 +1,4 @@\n # nothing\n minlen = 14\n+maxrepeat = 3\n+maxsequence = 3\n"},
		"the last line, too": {"minlen = 8\n", []Edit{edit(setting.MaxRepeat, 3, 2), {Setting: setting.MinLength, Part: "etc/security/pwquality.conf", Line: 1,
			Where: "minlen", To: setting.Number(14)}}, "minlen = 14\nmaxrepeat = 3\n", "-minlen = 8\n+minlen = 14\n+maxrepeat = 3\n"},
		"no line sets":  {"# nothing\n", []Edit{edit(setting.MaxRepeat, 3, 0)}, "# nothing\nmaxrepeat = 3\n", "@@ -1,1 +1,2 @@\n # nothing\n+maxrepeat = 3\n"},
		"in a comment":  {"# maxrepeat = 0\n", []Edit{edit(setting.MaxRepeat, 3, 2)}, "# maxrepeat = 0\nmaxrepeat = 3\n", "+maxrepeat = 3\n"},
		"there already": {"maxrepeat = 9\n", []Edit{edit(setting.MaxRepeat, 3, 2)}, "", ""},
		"no line's end": {"# nothing", []Edit{edit(setting.MaxRepeat, 3, 2)}, "", ""},
		"cut out":       {"# nothing\n[struck out]\n", []Edit{edit(setting.MaxRepeat, 3, 2)}, "", ""},
		"not called by": {"# nothing\n", []Edit{edit(setting.LockoutThreshold, 5, 2)}, "", ""},
	} {
		parts := map[string][]byte{"etc/pam.d/common-password": []byte(stack), "etc/security/pwquality.conf": []byte(c.conf)}
		changes, left := Edited(parts, c.edits)
		if c.want == "" {
			if len(changes) != 0 || len(left) != len(c.edits) {
				t.Errorf("%s: %v, left %v", name, changes, left)
			}
			continue
		}
		if got := string(Apply(parts, changes)["etc/security/pwquality.conf"]); got != c.want || len(left) != 0 {
			t.Errorf("%s: %q, want %q; left %v", name, got, c.want, left)
		}
		if got := string(Diff(parts, changes)); !strings.HasPrefix(got, "--- a/etc/security/pwquality.conf\n") || !strings.HasSuffix(got, c.diff) {
			t.Errorf("%s: %s", name, got)
		}
	}
	// A call that has options of its own gets one more, and a line with that value is left alone.
	parts := map[string][]byte{"etc/pam.d/common-password": []byte(stack), "etc/login.defs": []byte("PASS_MIN_DAYS 1\n")}
	changes, _ := Edited(parts, []Edit{edit(setting.MaxRepeat, 3, 1), {Setting: setting.MinAge, Part: "etc/login.defs", Line: 1, Where: "PASS_MIN_DAYS",
		To: setting.Number(86400)}})
	if len(changes) != 1 || changes[0].New != "password requisite pam_pwquality.so retry=3 maxrepeat=3" {
		t.Errorf("%+v", changes)
	}
	// Accounts that are made later: a line of their own where there is none.
	parts = map[string][]byte{"etc/default/useradd": []byte("SHELL=/bin/sh\n# INACTIVE=-1\n"), "etc/login.defs": []byte("UMASK 022\n")}
	idle, _ := LineOf(parts, setting.InactiveDisable)
	old, _ := LineOf(parts, setting.MaxAge)
	idle.To, old.To = setting.Number(45*86400), setting.Number(365*86400)
	changes, left := Edited(parts, []Edit{*idle, *old, *idle})
	after := Apply(parts, changes)
	if got := string(after["etc/default/useradd"]) + string(after["etc/login.defs"]); len(left) != 0 ||
		got != "SHELL=/bin/sh\n# INACTIVE=-1\nINACTIVE=45\nUMASK 022\nPASS_MAX_DAYS\t365\n" {
		t.Errorf("%q, left %v", got, left)
	}
	for text, want := range map[string]setting.Value{"PASS_MAX_DAYS 90\n": setting.Number(90 * 86400), "PASS_MAX_DAYS\t99999\n": setting.Of(setting.Never),
		"PASS_MAX_DAYS x\n": {}, "# PASS_MAX_DAYS 90\n": {}} {
		if _, now := LineOf(map[string][]byte{"etc/login.defs": []byte(text)}, setting.MaxAge); now != want {
			t.Errorf("%q says %v", text, now)
		}
	}
	if line, _ := LineOf(map[string][]byte{}, setting.InactiveDisable); line != nil {
		t.Error("a file that is not in the evidence has a line")
	}
}
