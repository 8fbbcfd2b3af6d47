package custody

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"syscall"

	"sternledger/internal/folder"
	"sternledger/internal/ledger"
)

// stagingPrefix begins the names of folders in which a gather collects its
// copies until the ledger has accepted them.
const StagingPrefix = ".incoming-"

// MakeStaging makes such a folder. accepted is called when the ledger is about to accept
// what is in it: from then on the next command finishes the moves.
func (e *Engagement) MakeStaging() (name folder.Name, accepted func(), err error) {
	name = folder.Join(EvidenceDir, folder.Name(StagingPrefix+strings.ToLower(rand.Text()[:10])))
	if accepted, err = e.Folder.Staging(name); errors.Is(err, fs.ErrPermission) || errors.Is(err, syscall.EROFS) {
		err = ledger.ErrReadOnly
	}
	return name, accepted, err
}

// Stored is where a copy of that name in the ledger lies. The ledger may be
// somebody else's.
func Stored(name string) (folder.Name, error) {
	n, err := folder.Parse(name)
	return folder.Join(EvidenceDir, n), err
}

// PutInPlace moves accepted copies from the staging folder to where the
// ledger says they are.
func (e *Engagement) PutInPlace(staging folder.Name, files []ledger.Evidence) error {
	moved := map[string]bool{} // folders, whole
	for _, s := range files {
		if top, _, inside := strings.Cut(s.Name, "/"); inside {
			done, seen := moved[top]
			if !seen {
				to, err := Stored(top)
				if err != nil {
					return err
				}
				done = e.Folder.Move(folder.Join(staging, folder.Name(top)), to) == nil
				moved[top] = done
			}
			if done {
				continue
			}
		}
		to, err := Stored(s.Name)
		if err != nil {
			return err
		}
		if err := e.Folder.Move(folder.Join(staging, folder.Name(s.Name)), to); err != nil {
			// Another program that was started meanwhile may have settled it.
			if !e.Folder.Has(to) {
				return err
			}
		}
	}
	return e.syncFolders(files)
}

// syncFolders makes the names of files last that were moved.
func (e *Engagement) syncFolders(files []ledger.Evidence) error {
	folders := map[folder.Name]bool{EvidenceDir: true}
	for _, s := range files {
		for at := path.Dir(s.Name); at != "."; at = path.Dir(at) {
			folders[folder.Join(EvidenceDir, folder.Name(at))] = true
		}
	}
	for f := range folders {
		if err := e.Folder.Sync(f); err != nil {
			return err
		}
	}
	return nil
}

// settle finishes what a program left that was stopped between the ledger's
// acceptance and the last move, and removes what the ledger never accepted. A
// gather under way holds the ledger, and is left alone; so is all of a ledger
// whose chain does not hold.
func (e *Engagement) settle() error {
	if err := e.finishRetiring(); err != nil {
		return err
	}
	left := e.Folder.Below(EvidenceDir, StagingPrefix)
	if len(left) == 0 {
		return nil
	}
	accepted, err := e.accepted()
	if err != nil {
		return nil // verify tells what is wrong with it
	}
	tx, err := e.Ledger.TryChange()
	if err != nil {
		return nil
	}
	defer tx.Rollback()
	for _, staging := range left {
		for _, k := range accepted {
			to, err := Stored(k.Name)
			if err != nil || e.Folder.Has(to) {
				continue
			}
			from := folder.Join(staging, folder.Name(k.Name))
			if sum, err := e.fileSum(from); err == nil && strings.EqualFold(sum, k.StoredSHA256) {
				if err := e.Folder.Move(from, to); err != nil {
					return err
				}
			}
		}
		if err := e.Folder.RemoveAll(staging); err != nil {
			return err
		}
	}
	return e.Folder.Sync(EvidenceDir)
}

// finishRetiring removes what a retirement that was stopped left.
func (e *Engagement) finishRetiring() error {
	entries, err := e.Ledger.Entries()
	if err != nil || retiredBy(entries) == 0 && len(discardedBy(entries).by) == 0 || e.Ledger.CheckChain() != nil {
		return nil // verify tells what is wrong with it
	}
	return e.destroy(entries)
}

// accepted is the evidence that the chain's entries tell of, and that was not
// destroyed since.
func (e *Engagement) accepted() ([]ledger.Evidence, error) {
	if err := e.Ledger.CheckChain(); err != nil {
		return nil, err
	}
	entries, err := e.Ledger.Entries()
	if err != nil {
		return nil, err
	}
	by, removed := retiredBy(entries), discardedBy(entries)
	return slices.DeleteFunc(gathered(entries), func(x ledger.Evidence) bool { return x.Entry < by || removed.by[x.Name] > 0 }), nil
}

// fileSum returns a file's SHA-256.
func (e *Engagement) fileSum(name folder.Name) (string, error) {
	f, err := e.Folder.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	return SumOf(f)
}

func SumOf(in io.Reader) (string, error) {
	h := sha256.New()
	if _, err := io.Copy(h, in); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}
