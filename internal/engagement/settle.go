package engagement

import (
	"crypto/sha256"
	"encoding/hex"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"
)

// stagingPrefix begins the names of folders in which a gather collects its
// copies until the ledger has accepted them.
const stagingPrefix = ".incoming-"

// putInPlace moves accepted copies from the staging folder to where the
// ledger says they are.
func (e *Engagement) putInPlace(staging string, files []staged) error {
	for _, s := range files {
		to := filepath.Join(e.Dir, EvidenceDir, filepath.FromSlash(s.Name))
		if err := moved(filepath.Join(staging, filepath.FromSlash(s.Name)), to); err != nil {
			// Another program that was started meanwhile may have settled it.
			if _, there := os.Lstat(to); there != nil {
				return err
			}
		}
	}
	return syncDirs(e.Dir, files)
}

// moved renames a copy, and makes the folders that it goes into.
func moved(from, to string) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	return os.Rename(from, to)
}

// syncDirs makes the names of files last that were moved.
func syncDirs(dir string, files []staged) error {
	folders := map[string]bool{filepath.Join(dir, EvidenceDir): true}
	for _, s := range files {
		for at := path.Dir(s.Name); at != "."; at = path.Dir(at) {
			folders[filepath.Join(dir, EvidenceDir, filepath.FromSlash(at))] = true
		}
	}
	for folder := range folders {
		if err := syncDir(folder); err != nil {
			return err
		}
	}
	return nil
}

// settle finishes what a program left that was stopped between the ledger's
// acceptance and the last move, and removes what the ledger never accepted. A
// gather under way holds the ledger, and is left alone.
func (e *Engagement) settle() error {
	evidence := filepath.Join(e.Dir, EvidenceDir)
	left, _ := filepath.Glob(filepath.Join(evidence, stagingPrefix+"*"))
	if len(left) == 0 {
		return nil
	}
	tx, err := e.Ledger.TryChange()
	if err != nil {
		return nil
	}
	defer tx.Rollback()
	known, err := tx.Evidence()
	if err != nil {
		return err
	}
	for _, staging := range left {
		for _, k := range known {
			to := filepath.Join(evidence, filepath.FromSlash(k.Name))
			if _, err := os.Lstat(to); err == nil {
				continue
			}
			from := filepath.Join(staging, filepath.FromSlash(k.Name))
			if sum, err := fileSum(from); err == nil && strings.EqualFold(sum, k.StoredSHA256) {
				if err := moved(from, to); err != nil {
					return err
				}
			}
		}
		if err := os.RemoveAll(staging); err != nil {
			return err
		}
	}
	return syncDir(evidence)
}

// fileSum returns a file's SHA-256.
func fileSum(file string) (string, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	return sumOf(f)
}

func sumOf(in io.Reader) (string, error) {
	h := sha256.New()
	if _, err := io.Copy(h, in); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}
