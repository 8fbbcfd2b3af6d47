package folder

import (
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
)

func TestParse(t *testing.T) {
	for _, good := range []string{"a", "evidence/x.ldif", "evidence/m/etc/pam.d/sshd", "a b", "Ä", "a..b", "auxiliary.txt",
		strings.Repeat("x", 255)} {
		if n, err := Parse(good); err != nil || string(n) != good {
			t.Errorf("%q: %v", good, err)
		}
	}
	for _, bad := range []string{"", ".", "..", "../x", "a/../b", "/etc/x", "a//b", "a/", `a\b`, `C:\x`, "C:x", "a:b", "a\x00b",
		"a\nb", "a\x7f", ".bash_profile", "a/.git/hooks", "aux", "AUX.txt", "a/con.x", "nul", "COM1", "a.", "a ",
		"a/b./c", "con .txt", "a*", "a?", "a|b", "a<b", `a"b`, strings.Repeat("x", 256), strings.Repeat("x/", 600) + "x", "\xff"} {
		var wrong *NameError
		if n, err := Parse(bad); !errors.As(err, &wrong) {
			t.Errorf("%q is taken, as %q", bad, n)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, seed := range []string{"a/b", "../x", "con.txt", "a\x00", `\\server\share`, "a/..."} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		n, err := Parse(text)
		if err != nil {
			return
		}
		if !filepath.IsLocal(filepath.FromSlash(string(n))) || filepath.Clean(filepath.FromSlash(text)) != filepath.FromSlash(text) ||
			strings.ContainsAny(text, "\\:\x00") {
			t.Fatalf("%q is taken", text)
		}
	})
}

func TestSafe(t *testing.T) {
	for name, want := range map[string]string{"aux": "file-aux", "Con.inf": "file-Con.inf", "a.": "a", "a:b": "a-b", "../../x": "x",
		"": "export", "..": "export", "a/b": "a-b", strings.Repeat("x", 99): strings.Repeat("x", 60)} {
		if got := Safe(name); got != want {
			t.Errorf("%q: %q, want %q", name, got, want)
		}
		if _, err := Parse(Safe(name)); err != nil {
			t.Errorf("%q: %v", name, err)
		}
	}
}

func TestFolderStaysInside(t *testing.T) {
	above := t.TempDir()
	dir := filepath.Join(above, "audit")
	if err := errors.Join(os.Mkdir(dir, 0o700), os.WriteFile(filepath.Join(above, "mine"), []byte("mine"), 0o600)); err != nil {
		t.Fatal(err)
	}
	f, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if runtime.GOOS != "windows" {
		if err := errors.Join(os.Symlink(above, filepath.Join(dir, "out")), os.Symlink(filepath.Join(above, "mine"),
			filepath.Join(dir, "link"))); err != nil {
			t.Fatal(err)
		}
		for _, n := range []Name{"out/mine", "link", "../mine"} { // the last no Parse makes
			if data, err := f.ReadFile(n, 100); err == nil {
				t.Errorf("%s: %q was read", n, data)
			}
			if w, err := f.Create(n); err == nil {
				w.Close()
				t.Errorf("%s: was made", n)
			}
			if err := f.Move("link", n); err == nil {
				t.Errorf("something was moved to %s", n)
			}
			_ = f.RemoveAll(n)
		}
	}
	if data, err := os.ReadFile(filepath.Join(above, "mine")); string(data) != "mine" {
		t.Errorf("what is outside: %q %v", data, err)
	}
	w, err := f.Create("a/b")
	if err != nil {
		t.Fatal(err)
	}
	w.WriteString("0123456789")
	w.Close()
	if _, err := f.ReadFile("a/b", 9); err == nil {
		t.Error("more than the bound was read")
	}
	if _, err := f.Create("a/b"); err == nil {
		t.Error("a file was made twice")
	}
	if err := errors.Join(f.Move("a/b", "c/d"), f.Sync("c")); err != nil || f.Has("a/b") || !f.Has("c/d") {
		t.Errorf("moved: %v", err)
	}
	if _, err := f.Stat("c"); !errors.Is(err, ErrNotPlain) {
		t.Errorf("a folder is taken for a file: %v", err)
	}
}

// A folder for an engagement is closed to others, or refused.
func TestMakePrivate(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("modes say nothing here")
	}
	dir := t.TempDir()
	open := filepath.Join(dir, "open")
	if err := errors.Join(os.Mkdir(open, 0o755), os.Chmod(open, 0o755), MakePrivate(open)); err != nil {
		t.Fatal(err)
	}
	if info, _ := os.Stat(open); info.Mode().Perm() != 0o700 {
		t.Errorf("mode %v", info.Mode())
	}
	if err := errors.Join(os.Chmod(open, 0o755), os.WriteFile(filepath.Join(open, "x"), nil, 0o600)); err != nil {
		t.Fatal(err)
	}
	if err := MakePrivate(open); err == nil || !strings.Contains(err.Error(), "chmod 700") {
		t.Errorf("a folder in use: %v", err)
	}
	if err := MakePrivate(filepath.Join(dir, "a", "b")); err != nil {
		t.Error(err)
	}
}

// Drafts of others that are under way are left alone; those nobody holds go.
func TestDrafts(t *testing.T) {
	dir := t.TempDir()
	first, err := NewDraft(dir, ".writing-")
	if err != nil {
		t.Fatal(err)
	}
	dead := filepath.Join(dir, ".writing-dead")
	mine := filepath.Join(dir, ".writing-mine")
	if err := errors.Join(os.Mkdir(dead, 0o700), os.WriteFile(filepath.Join(dead, lockName), nil, 0o600),
		os.WriteFile(filepath.Join(dead, "half"), []byte("x"), 0o600), os.Mkdir(mine, 0o700)); err != nil {
		t.Fatal(err)
	}
	second, err := NewDraft(dir, ".writing-")
	if err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]bool{first.Dir: true, second.Dir: true, mine: true, dead: false} {
		if _, err := os.Stat(path); (err == nil) != want {
			t.Errorf("%s is there: %v", filepath.Base(path), err == nil)
		}
	}
	if err := errors.Join(first.Remove(), second.Remove(), second.Remove()); err != nil {
		t.Error(err)
	}
	if left, _ := os.ReadDir(dir); len(left) != 1 {
		t.Errorf("left: %v", left)
	}
}
