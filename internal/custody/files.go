package custody

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"sternledger/internal/contract"
	"sternledger/internal/core/estate"
	"sternledger/internal/folder"
)

// Output is a file to be written.
type Output struct {
	File  string
	Write func(io.Writer) error
}

// WriteFiles writes all files or none: each beside its place first, and then
// put there. A file that exists is refused unless it may be replaced.
func WriteFiles(outputs []Output, replace bool) (err error) {
	var drafts []*folder.Draft
	defer func() {
		for _, d := range drafts {
			err = errors.Join(err, d.Remove())
		}
	}()
	for _, o := range outputs {
		if info, err := os.Lstat(o.File); err == nil && (!replace || !info.Mode().IsRegular()) {
			return fmt.Errorf("%s exists already; name another file, or say --replace", o.File)
		}
	}
	for _, o := range outputs {
		d, err := folder.NewDraft(filepath.Dir(o.File), ".writing-")
		if errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("%s: there is no folder %s: make it first, or name another", o.File, filepath.Dir(o.File))
		} else if err != nil {
			return fmt.Errorf("%s: %w; name a place where you may write", o.File, Cause(err))
		}
		drafts = append(drafts, d)
		f, err := os.OpenFile(d.Path(draftName), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return fmt.Errorf("%s: %w", o.File, Cause(err))
		}
		err = o.Write(f)
		if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
			return fmt.Errorf("%s: %w", o.File, Cause(err))
		}
	}
	for i, o := range outputs {
		put := folder.PutNew
		if replace {
			put = os.Rename
		}
		if err := put(drafts[i].Path(draftName), o.File); err != nil {
			return fmt.Errorf("%s: %w", o.File, Cause(err))
		}
	}
	return nil
}

// draftName is what a file is called in its draft.
const draftName = "file"

// ProblemsDigest is the digest of what the ledger keeps of problems.
func ProblemsDigest(problems []estate.Problem) (string, error) {
	kept := []contract.ProblemDocument{}
	for _, p := range problems {
		p.Cite.Note = ""
		kept = append(kept, contract.ProblemDocument{CiteDocument: contract.CiteDocument(p.Cite), Text: p.Text})
	}
	body, err := json.Marshal(kept)
	return HexSum(body), err
}

// Cause drops the operation and path of a path error: the message has them.
func Cause(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}

func HexSum(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}
