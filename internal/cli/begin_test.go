package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// begin is one step: killed at any moment it leaves nothing, or what begin finishes.
func TestBeginIsOneStep(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "audit")
	for i := range 30 {
		cmd := exec.Command(program, "begin", dir, "--title", "x")
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(i) * 700 * time.Microsecond)
		_ = cmd.Process.Kill()
		if err := cmd.Wait(); err == nil {
			os.RemoveAll(dir)
			continue
		}
		// Nothing is left, or something that begin finishes.
		if out, err := exec.Command(program, "begin", dir, "--title", "x").CombinedOutput(); err != nil && !strings.Contains(string(out), "holds an engagement") {
			t.Fatalf("killed after %d: %s", i, out)
		}
		if out, err := exec.Command(program, "-C", dir, "entries").CombinedOutput(); err != nil {
			t.Fatalf("killed after %d: %s", i, out)
		}
		for _, left := range leftOver(t, filepath.Dir(dir)) {
			t.Errorf("killed after %d: %s stays", i, left)
		}
		os.RemoveAll(dir)
	}
}

// leftOver are drafts below a folder that nobody took away.
func leftOver(t *testing.T, dir string) (all []string) {
	t.Helper()
	err := filepath.WalkDir(dir, func(path string, _ os.DirEntry, err error) error {
		if strings.HasPrefix(filepath.Base(path), ".") && path != dir {
			all = append(all, path)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return all
}

// Where nothing may be written, what cannot be done and what to do about it is said in
// the program's own words.
func TestReadOnlyFolder(t *testing.T) {
	posix(t)
	if os.Getuid() == 0 {
		if _, err := exec.LookPath("setpriv"); err != nil {
			t.Skip("skipped: root may write everywhere, and there is no setpriv")
		}
	}
	dir, src := begin(t), t.TempDir()
	must(t, dir, "gather", write(t, filepath.Join(src, "x.ldif"), smallHead))
	against(t, dir, "cis-windows-server")
	must(t, dir, "weigh")
	top := filepath.Dir(dir)
	for at := dir; strings.HasPrefix(at, os.TempDir()) && at != os.TempDir(); at = filepath.Dir(at) {
		os.Chmod(at, 0o755)
	}
	os.Chmod(src, 0o755)
	exec.Command("chmod", "-R", "a+rX,a-w", dir).Run()
	defer exec.Command("chmod", "-R", "u+w", dir).Run()
	as := []string{}
	if os.Getuid() == 0 {
		as = []string{"setpriv", "--reuid=65534", "--regid=65534", "--clear-groups"}
	}
	for args, say := range map[string]string{
		"gather " + filepath.Join(src, "x.ldif"):                             "the engagement cannot be written to; give yourself the right",
		"weigh --against nist-800-63b --record":                              "the engagement cannot be written to; give yourself the right",
		"amend --to " + filepath.Join(top, "change"):                         "name a folder in a place where you may write",
		"report --to " + filepath.Join(dir, "x.html"):                        "name a place where you may write",
		"pack " + filepath.Join(dir, "x.zip"):                                "name a place where you may write",
		"waive --setting min-length --scope * --until 2027-01-01 --reason x": "the engagement cannot be written to; give yourself the right",
	} {
		full := append(append(append([]string{}, as...), program, "-C", dir), strings.Fields(args)...)
		cmd := exec.Command(full[0], full[1:]...)
		cmd.Dir = "/"
		out, err := cmd.CombinedOutput()
		if err == nil || !strings.Contains(string(out), say) {
			t.Errorf("%s: %v %s", args, err, out)
		}
	}
}
