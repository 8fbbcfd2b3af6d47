package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// directory is a real directory in a folder of its own (see the lab's README).
type directory struct {
	t      *testing.T
	script string
	dir    string
}

// newDirectory builds a real directory, or skips the test where there is none.
func newDirectory(t *testing.T) *directory {
	t.Helper()
	script := os.Getenv("DIRECTORY_LAB")
	if script == "" {
		script, _ = filepath.Abs("../../../shared/lab/directory-lab")
	}
	if _, err := os.Stat(script); err != nil {
		t.Skip("skipped: no directory-lab script; name it in DIRECTORY_LAB")
	}
	for _, tool := range []string{"samba-tool", "ldbsearch"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("skipped: no %s; \"directory-lab install\" installs it", tool)
		}
	}
	d := &directory{t, script, filepath.Join(t.TempDir(), "d")}
	d.lab("build", d.dir)
	return d
}

func (d *directory) lab(args ...string) string {
	d.t.Helper()
	var errs strings.Builder
	cmd := exec.Command(d.script, args...)
	cmd.Stderr = &errs
	out, err := cmd.Output()
	if err != nil {
		d.t.Fatalf("directory-lab %v: %v\n%s%s", args, err, out, errs.String())
	}
	return string(out)
}

// export writes every object of the directory to a file.
func (d *directory) export() string {
	return write(d.t, filepath.Join(d.t.TempDir(), "marrowick.ldif"), d.lab("export", d.dir))
}

// The values of a real directory's changed default, each with the line that
// shows it.
func TestRealDirectoryDefault(t *testing.T) {
	d := newDirectory(t)
	change := write(t, filepath.Join(t.TempDir(), "change.ldif"), `dn: DC=marrowick,DC=example
changetype: modify
replace: minPwdLength
minPwdLength: 10
-
replace: maxPwdAge
maxPwdAge: -25920000000000
-
replace: minPwdAge
minPwdAge: 0
-
replace: lockoutThreshold
lockoutThreshold: 3
-
replace: lockoutDuration
lockoutDuration: -9223372036854775808
`)
	d.lab("modify", d.dir, change)
	dir := begin(t)
	must(t, dir, "gather", d.export())
	settings := at(document(t, dir, "scopes"), "scopes", 0, "settings")
	for id, want := range map[string]struct {
		value, special any
		raw            string
	}{
		"min-length":            {10.0, nil, "10"},
		"max-age":               {30.0 * 86400, nil, "-25920000000000"},
		"min-age":               {nil, "at-once", "0"},
		"lockout-threshold":     {3.0, nil, "3"},
		"lockout-duration":      {nil, "until-admin", "-9223372036854775808"},
		"lockout-window":        {1800.0, nil, "-18000000000"},
		"history":               {24.0, nil, "24"},
		"complexity":            {true, nil, "1"},
		"reversible":            {false, nil, "1"},
		"lockout-administrator": {false, nil, "1"},
	} {
		got := at(settings, id)
		if at(got, "value") != want.value || at(got, "special") != want.special || at(got, "raw") != want.raw {
			t.Errorf("%s: %v, want %+v", id, got, want)
		}
		if at(got, "evidence") == nil {
			t.Errorf("%s: no evidence", id)
		} else {
			checkEvidence(t, dir, id, got.(map[string]any))
		}
	}
}
