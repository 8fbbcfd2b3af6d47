package engagement

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
)

// Output is a file to be written.
type Output struct {
	File  string
	Write func(io.Writer) error
}

// WriteFiles writes all files or none: each beside its place first, and then
// put there. A file that exists is refused unless it may be replaced.
func WriteFiles(outputs []Output, replace bool) (err error) {
	var drafts []string
	defer func() {
		for _, d := range drafts {
			err = errors.Join(err, ignoreGone(os.Remove(d)))
		}
	}()
	for _, o := range outputs {
		if info, err := os.Lstat(o.File); err == nil && (!replace || !info.Mode().IsRegular()) {
			return fmt.Errorf("%s exists already; name another file, or say --replace", o.File)
		}
	}
	for _, o := range outputs {
		f, err := os.CreateTemp(filepath.Dir(o.File), ".writing-*")
		if err != nil {
			return fmt.Errorf("%s: %w", o.File, cause(err))
		}
		drafts = append(drafts, f.Name())
		err = o.Write(f)
		if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
			return fmt.Errorf("%s: %w", o.File, cause(err))
		}
	}
	for i, o := range outputs {
		if err := os.Rename(drafts[i], o.File); err != nil {
			return fmt.Errorf("%s: %w", o.File, cause(err))
		}
	}
	return nil
}

func ignoreGone(err error) error {
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	return err
}
