package folder

import (
	"crypto/rand"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gofrs/flock"
)

// Draft is a folder in which something is made that is moved to its place once
// it is whole. A run that is told to end removes its drafts (Abandon); what a
// killed one left is removed by the next that makes one in the same place.
type Draft struct {
	Dir  string
	lock *flock.Flock
}

// lockName is the file in a draft that its maker holds: whoever can lock it
// knows that nobody works there any more.
const lockName = "sternledger.lock"

// drafts are those of this program.
var drafts struct {
	sync.Mutex
	open map[*Draft]bool
}

// ended says that the program is told to end at once: nothing is made any more.
var ended atomic.Bool

// errEnded is what makes anything then.
var errEnded = errors.New("the program was told to end")

// staged are folders inside of engagements that are drafts as well.
var staged = map[*staging]bool{}

type staging struct {
	f *Folder
	n Name
}

// Staging makes a folder whose content counts only once it is accepted: until accepted is
// called, Abandon removes it.
func (f *Folder) Staging(n Name) (accepted func(), err error) {
	drafts.Lock()
	defer drafts.Unlock()
	s := &staging{f, n}
	if err := f.Mkdir(n); err != nil {
		return nil, err
	}
	staged[s] = true
	return func() {
		drafts.Lock()
		defer drafts.Unlock()
		delete(staged, s)
	}, nil
}

// NewDraft makes a draft in a folder. Its name begins with the prefix.
func NewDraft(in, prefix string) (*Draft, error) {
	sweep(in, prefix)
	drafts.Lock()
	defer drafts.Unlock()
	var d *Draft
	for {
		d = &Draft{Dir: filepath.Join(in, prefix+strings.ToLower(rand.Text()[:draftName]))}
		if err := os.Mkdir(d.Dir, 0o700); err != nil {
			return nil, err
		}
		d.lock = flock.New(filepath.Join(d.Dir, lockName))
		_, err := d.lock.TryLock()
		if err == nil {
			break
		}
		if !errors.Is(err, fs.ErrNotExist) { // else another program swept it, between the two
			return nil, errors.Join(err, os.RemoveAll(d.Dir))
		}
	}
	if drafts.open == nil {
		drafts.open = map[*Draft]bool{}
	}
	drafts.open[d] = true
	return d, nil
}

// Path is a file in the draft.
func (d *Draft) Path(name string) string { return filepath.Join(d.Dir, name) }

// Remove removes the draft and what is left in it.
func (d *Draft) Remove() error {
	drafts.Lock()
	defer drafts.Unlock()
	return d.remove()
}

func (d *Draft) remove() error {
	if !drafts.open[d] {
		return nil
	}
	delete(drafts.open, d)
	return errors.Join(d.lock.Close(), os.RemoveAll(d.Dir))
}

// Abandon removes all drafts of this program, which must end then: no further
// one can be made.
func Abandon() {
	drafts.Lock() // for good
	ended.Store(true)
	for d := range drafts.open {
		_ = d.remove()
	}
	const meanwhile = 20 * time.Millisecond // what was being made when it ended
	for range 2 {
		for s := range staged {
			_ = s.f.RemoveAll(s.n)
		}
		if len(staged) > 0 {
			time.Sleep(meanwhile)
		}
	}
}

// draftName is how long the random part of a draft's name is.
const draftName = 10

// sweep removes drafts that nobody holds any more. Whatever else has such a name
// stays: a draft holds its lock, or, of a program that was killed before it had one,
// nothing at all.
func sweep(in, prefix string) {
	for _, left := range Left(in, prefix) {
		if os.Remove(left) != nil && free(left) { // it was not empty, and still nobody holds it
			_ = os.RemoveAll(left)
		}
	}
}

// Left are the drafts in a folder that nobody holds any more.
func Left(in, prefix string) (all []string) {
	found, _ := os.ReadDir(in)
	for _, f := range found {
		if !f.IsDir() || !strings.HasPrefix(f.Name(), prefix) {
			continue
		}
		dir := filepath.Join(in, f.Name())
		inside, err := os.ReadDir(dir)
		if empty := err == nil && len(inside) == 0 && len(f.Name()) == len(prefix)+draftName; empty || free(dir) {
			all = append(all, dir)
		}
	}
	return all
}

// free reports whether a draft has its lock, and nobody holds it.
func free(dir string) bool {
	name := filepath.Join(dir, lockName)
	if info, err := os.Lstat(name); err != nil || !info.Mode().IsRegular() || info.Size() > 0 {
		return false
	}
	lock := flock.New(name)
	locked, err := lock.TryLock()
	if err != nil || !locked {
		return false
	}
	return lock.Close() == nil
}

// PutNew moves a file to a place that nobody may have taken.
func PutNew(from, to string) error {
	// A link takes no file's place, unlike a rename; the file systems of sticks
	// have none.
	err := os.Link(from, to)
	if err == nil {
		return os.Remove(from)
	}
	if errors.Is(err, fs.ErrExist) {
		return fs.ErrExist
	}
	if _, err := os.Lstat(to); err == nil {
		return fs.ErrExist
	}
	return os.Rename(from, to)
}
