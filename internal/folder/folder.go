// Package folder is the folder of an engagement, and the only place where a
// name becomes a path in it. Names come from archives, bags, the ledger,
// configuration and servers, and any of these may be somebody else's: whatever
// they say, nothing outside the folder is read, written or removed.
package folder

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
)

// Name is a name inside a folder that is the same on every system: steps of
// plain characters with slashes between them. Only Parse makes one of a text
// that the program did not write itself.
type Name string

// NameError is a text that is no Name.
type NameError struct{ Text, Why string }

func (e *NameError) Error() string {
	return fmt.Sprintf("%q is no name in an engagement's folder: %s", e.Text, e.Why)
}

// reserved are names that Windows gives to devices, whatever stands behind
// their first dot.
var reserved = []string{"con", "prn", "aux", "nul", "conin$", "conout$", "com0", "com1", "com2", "com3", "com4", "com5", "com6",
	"com7", "com8", "com9",
	"lpt0", "lpt1", "lpt2", "lpt3", "lpt4", "lpt5", "lpt6", "lpt7", "lpt8", "lpt9"}

// Parse checks a text from outside. It refuses what leads out of the folder on
// any system, what a system could not hold, and hidden names.
func Parse(text string) (Name, error) {
	refuse := func(why string) (Name, error) { return "", &NameError{text, why} }
	if !fs.ValidPath(text) || text == "." || len(text) > 1024 {
		return refuse("expected steps with / between them, and none of them empty, . or ..")
	}
	for step := range strings.SplitSeq(text, "/") {
		stem, _, _ := strings.Cut(strings.ToLower(step), ".")
		switch {
		case strings.HasPrefix(step, "."):
			return refuse("hidden files are none of an engagement's")
		case strings.ContainsAny(step, `\:*?"<>|`) ||
			strings.ContainsFunc(step, func(r rune) bool { return r < ' ' || r == 0x7f || r == '\uFFFD' }):
			return refuse("a character in it is not one of a file's name on every system")
		case strings.HasSuffix(step, ".") || strings.HasSuffix(step, " ") || slices.Contains(reserved, strings.TrimRight(stem, " ")):
			return refuse("Windows could not hold it")
		case len(step) > 255:
			return refuse("a step of it is longer than 255 bytes")
		}
	}
	return Name(text), nil
}

// Join puts names together that the program made itself, or that were parsed.
func Join(steps ...Name) Name {
	all := make([]string, len(steps))
	for i, s := range steps {
		all[i] = string(s)
	}
	return Name(path.Join(all...))
}

// Folder is an open folder. Symbolic links that lead out of it are not
// followed, whoever puts them there and whenever.
type Folder struct {
	dir  string
	root *os.Root
}

// Open opens a folder that is there.
func Open(dir string) (*Folder, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	return &Folder{dir, root}, nil
}

// Close ends the use of the folder.
func (f *Folder) Close() error { return f.root.Close() }

// Dir is the folder as the auditor named it.
func (f *Folder) Dir() string { return f.dir }

// Path is a name as a path, for messages and for what can open nothing else.
func (f *Folder) Path(n Name) string { return filepath.Join(f.dir, filepath.FromSlash(string(n))) }

// ErrNotPlain says that a name stands for a link, a device or a folder.
var ErrNotPlain = errors.New("no plain file")

// Stat returns what a plain file is like; a link or anything else is ErrNotPlain.
func (f *Folder) Stat(n Name) (fs.FileInfo, error) {
	info, err := f.root.Lstat(filepath.FromSlash(string(n)))
	if err == nil && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: f.Path(n), Err: ErrNotPlain}
	}
	return info, err
}

// Has reports whether anything has that name.
func (f *Folder) Has(n Name) bool {
	_, err := f.root.Lstat(filepath.FromSlash(string(n)))
	return err == nil
}

// Open opens a plain file to read.
func (f *Folder) Open(n Name) (*os.File, error) {
	if _, err := f.Stat(n); err != nil {
		return nil, err
	}
	return f.root.Open(filepath.FromSlash(string(n)))
}

// ReadFile reads a plain file of at most so many bytes.
func (f *Folder) ReadFile(n Name, most int64) ([]byte, error) {
	in, err := f.Open(n)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	data, err := io.ReadAll(io.LimitReader(in, most+1))
	if err == nil && int64(len(data)) > most {
		err = &fs.PathError{Op: "read", Path: f.Path(n), Err: fmt.Errorf("more than %d bytes", most)}
	}
	return data, err
}

// Create makes a file that nobody has, with the folders that it goes into, for
// this user alone.
func (f *Folder) Create(n Name) (*os.File, error) {
	create := func() (*os.File, error) {
		if ended.Load() {
			return nil, errEnded
		}
		return f.root.OpenFile(filepath.FromSlash(string(n)), os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	}
	file, err := create()
	if !errors.Is(err, fs.ErrNotExist) {
		return file, err
	}
	if err := f.mkdirFor(n); err != nil { // the first file of a folder
		return nil, err
	}
	return create()
}

// Mkdir makes a folder, and those above it, for this user alone.
func (f *Folder) Mkdir(n Name) error {
	if ended.Load() {
		return errEnded
	}
	return f.root.MkdirAll(filepath.FromSlash(string(n)), 0o700)
}

func (f *Folder) mkdirFor(n Name) error {
	if above := path.Dir(string(n)); above != "." {
		return f.Mkdir(Name(above))
	}
	return nil
}

// Move gives a file, or a folder with all in it, another name, which nobody may have.
func (f *Folder) Move(from, to Name) error {
	if f.Has(to) {
		return &fs.PathError{Op: "move", Path: f.Path(to), Err: fs.ErrExist}
	}
	move := func() error { return f.root.Rename(filepath.FromSlash(string(from)), filepath.FromSlash(string(to))) }
	err := move()
	if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := f.mkdirFor(to); err != nil {
		return err
	}
	return move()
}

// Replace gives a file other content, all of it or none.
func (f *Folder) Replace(n Name, data []byte, mode fs.FileMode) error {
	next := n + ".next"
	if err := f.RemoveAll(next); err != nil { // of a run that was ended
		return err
	}
	file, err := f.Create(next)
	if err != nil {
		return err
	}
	_, err = file.Write(data)
	if err = errors.Join(err, file.Chmod(mode), file.Sync(), file.Close()); err == nil {
		err = f.root.Rename(filepath.FromSlash(string(next)), filepath.FromSlash(string(n)))
	}
	if err != nil {
		return errors.Join(err, f.RemoveAll(next))
	}
	return nil
}

// RemoveAll removes a file, or a folder and all in it.
func (f *Folder) RemoveAll(n Name) error { return f.root.RemoveAll(filepath.FromSlash(string(n))) }

// RemoveEmpty removes the folders below one that hold nothing.
func (f *Folder) RemoveEmpty(n Name) error {
	found, err := fs.ReadDir(f.root.FS(), string(n))
	if err != nil {
		return err
	}
	for _, d := range found {
		if !d.IsDir() {
			continue
		}
		below := Join(n, Name(d.Name()))
		if err := f.RemoveEmpty(below); err != nil {
			return err
		}
		if left, err := fs.ReadDir(f.root.FS(), string(below)); err == nil && len(left) == 0 {
			if err := f.root.Remove(filepath.FromSlash(string(below))); err != nil {
				return err
			}
		}
	}
	return nil
}

// Walk calls do for everything below a name, links and hidden files too, by its
// path from the folder with slashes. The path is as the disk has it: Parse
// tells whether it could be a Name.
func (f *Folder) Walk(n Name, do fs.WalkDirFunc) error {
	return fs.WalkDir(f.root.FS(), string(n), do)
}

// List returns what a folder holds with that ending, sorted; nothing where there
// is no such folder. Names that Parse refuses are passed over: they are no
// files of an engagement.
func (f *Folder) List(n Name, ending string) ([]Name, error) {
	found, err := fs.ReadDir(f.root.FS(), string(n))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var names []Name
	for _, d := range found {
		if name, bad := Parse(path.Join(string(n), d.Name())); bad == nil && !d.IsDir() && strings.HasSuffix(d.Name(), ending) {
			names = append(names, name)
		}
	}
	return names, err
}

// Below returns the folders right below one whose names begin with a prefix.
func (f *Folder) Below(n Name, prefix string) []Name {
	found, _ := fs.ReadDir(f.root.FS(), string(n))
	var names []Name
	for _, d := range found {
		if d.IsDir() && strings.HasPrefix(d.Name(), prefix) {
			names = append(names, Join(n, Name(d.Name())))
		}
	}
	return names
}

// Sync makes the names in a folder last.
func (f *Folder) Sync(n Name) error {
	d, err := f.root.Open(filepath.FromSlash(string(n)))
	if err != nil {
		return err
	}
	defer d.Close()
	return syncOpen(d)
}

// SyncDir makes the names in any folder last.
func SyncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return syncOpen(d)
}

// syncOpen does nothing on Windows: it opens no folder for writing, which is
// what it takes to sync one, and keeps its names in a journal of its own.
func syncOpen(d *os.File) error {
	if runtime.GOOS == "windows" {
		return nil
	}
	return d.Sync()
}

// Safe makes one step of a name of any text: one that Parse takes, on every
// system. Different texts may come out the same.
func Safe(text string) string {
	text = strings.Map(func(r rune) rune {
		if r == '.' || r == '-' || r == '_' || '0' <= r && r <= '9' || 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z' {
			return r
		}
		return '-'
	}, text)
	if text = strings.TrimLeft(text, ".-"); text == "" {
		return "export"
	}
	ext := path.Ext(text)
	stem := strings.TrimSuffix(text, ext)
	text = strings.TrimRight(stem[:min(len(stem), 60)]+ext[:min(len(ext), 12)], ".")
	if first, _, _ := strings.Cut(text, "."); slices.Contains(reserved, strings.ToLower(first)) {
		text = "file-" + text
	}
	return text
}
