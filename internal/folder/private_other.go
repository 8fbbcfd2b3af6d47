//go:build !windows

package folder

import (
	"errors"
	"fmt"
	"os"
)

// MakePrivate makes a folder that this user alone may read. One that is there
// is taken if it is empty, or closed to others already: closing a folder in use
// would take it from them unasked.
func MakePrivate(dir string) error {
	err := os.MkdirAll(dir, 0o700)
	if err != nil {
		return err
	}
	info, err := os.Stat(dir)
	if err != nil || info.Mode().Perm()&0o077 == 0 {
		return err
	}
	found, err := os.ReadDir(dir)
	if err == nil && len(found) > 0 {
		return fmt.Errorf("%s: others may read this folder (mode %04o), and it is not empty; an engagement holds confidential "+
			"evidence: name another folder, or say chmod 700 first", dir, info.Mode().Perm())
	}
	return errors.Join(err, os.Chmod(dir, 0o700))
}
