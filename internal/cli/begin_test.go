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
