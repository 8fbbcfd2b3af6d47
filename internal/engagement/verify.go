package engagement

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"sternledger/internal/ledger"
)

// Verified is what came of proving the ledger.
type Verified struct {
	Entries   int
	Files     int
	Size      int64 // of the files, in bytes
	Weighings int
	Last      ledger.Entry
	Seal      string // that was compared; empty: none
	Since     int    // entries since that seal
	Signer    string // of the signature that was compared; empty: none
	Failures  []Failure
	Notes     []string
}

// Failure is something that does not hold.
type Failure struct {
	Entry int64 // 0: the database as a whole
	Text  string
}

// gatherEntry is what verify reads of a gather's entry.
type gatherEntry struct {
	Files    []ledger.Evidence `json:"files"`
	Facts    map[string]string `json:"facts_sha256"`
	Problems string            `json:"problems_sha256"`
}

// Verify proves that nothing was altered: the chain of entries; every evidence
// file against its SHA-256; the facts against the digests in the chain; each
// recorded weighing by making it again.
func (e *Engagement) Verify() (*Verified, error) {
	v := &Verified{}
	if err := e.Ledger.Check(); err != nil {
		v.fail(0, "%v", err)
		return v, nil
	}
	// What another program adds meanwhile is not looked at.
	seen, err := e.Ledger.Last()
	if err != nil {
		v.fail(0, "the entries cannot be read: %v", err)
		return v, nil
	}
	now := *e
	now.Ledger = e.Ledger.Before(seen + 1)
	return v, now.verify(v)
}

func (e *Engagement) verify(v *Verified) error {
	entries, err := e.Ledger.Entries()
	if err != nil {
		v.fail(0, "the entries cannot be read: %v", err)
		return nil
	}
	if v.Entries = len(entries); v.Entries == 0 {
		v.fail(0, "the ledger has no entries")
		return nil
	}
	v.Last = entries[len(entries)-1]
	var broken *ledger.ChainError
	if err := e.Ledger.CheckChain(); errors.As(err, &broken) {
		v.fail(broken.Entry, "it is not the entry that was written, or does not follow the one before")
		return nil // nothing behind it proves anything
	} else if err != nil {
		return err
	}
	for i := 1; i < len(entries); i++ {
		if entries[i].At < entries[i-1].At {
			v.Notes = append(v.Notes, fmt.Sprintf("entry %d is dated %s, before entry %d (%s): a clock was set back", entries[i].Seq, entries[i].At, entries[i-1].Seq, entries[i-1].At))
		}
	}
	if err := e.verifyEvidence(v, entries); err != nil {
		return err
	}
	if err := e.verifyWeighings(v, entries); err != nil {
		return err
	}
	slices.SortStableFunc(v.Failures, func(a, b Failure) int { return cmp.Compare(a.Entry, b.Entry) })
	return nil
}

func (v *Verified) fail(entry int64, format string, args ...any) {
	v.Failures = append(v.Failures, Failure{entry, fmt.Sprintf(format, args...)})
}

// verifyEvidence holds files, records of files, and facts against the entries
// of the gathers.
func (e *Engagement) verifyEvidence(v *Verified, entries []ledger.Entry) error {
	evidence, err := e.Ledger.Evidence()
	if err != nil {
		return err
	}
	recorded := map[string]ledger.Evidence{}
	for _, x := range evidence {
		recorded[x.Name] = x
	}
	told := map[string]bool{}
	for _, entry := range entries {
		if entry.Kind != gatherKind {
			continue
		}
		var body gatherEntry
		if err := json.Unmarshal([]byte(entry.Body), &body); err != nil {
			v.fail(entry.Seq, "its body cannot be read: %v", err)
			continue
		}
		for _, x := range body.Files {
			told[x.Name] = true
			v.Files, v.Size = v.Files+1, v.Size+x.Size
			x.Entry = entry.Seq
			if recorded[x.Name] != x {
				v.fail(entry.Seq, "the record of evidence/%s was altered or removed", x.Name)
			}
			if text := e.fileFault(&x); text != "" {
				v.fail(entry.Seq, "evidence/%s: %s", x.Name, text)
			}
		}
		digests, err := e.Ledger.DigestsOf(entry.Seq)
		if err != nil {
			return err
		}
		for subject, digest := range body.Facts {
			if digests[subject] != digest {
				v.fail(entry.Seq, "the facts about %s were altered or removed", subject)
			}
			delete(digests, subject)
		}
		for subject := range digests {
			v.fail(entry.Seq, "facts about %s were put in", subject)
		}
		problems, err := e.Ledger.ProblemsOf(entry.Seq)
		if err != nil {
			return err
		}
		if digest, err := problemsDigest(problems); err != nil || digest != body.Problems {
			v.fail(entry.Seq, "what was not understood was altered")
		}
	}
	for _, x := range evidence {
		if !told[x.Name] {
			v.fail(x.Entry, "evidence/%s was put in: no gather tells of it", x.Name)
		}
	}
	return e.strangers(v, told)
}

// fileFault says what is wrong with a stored copy; empty for nothing.
func (e *Engagement) fileFault(x *ledger.Evidence) string {
	file := filepath.Join(e.Dir, EvidenceDir, filepath.FromSlash(x.Name))
	info, err := os.Lstat(file)
	if errors.Is(err, fs.ErrNotExist) {
		// A gather that is about to end has not put it in its place yet.
		if on, _ := filepath.Glob(filepath.Join(e.Dir, EvidenceDir, stagingPrefix+"*", filepath.FromSlash(x.Name))); len(on) == 1 {
			file = on[0]
		}
		info, err = os.Lstat(file)
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "the file is gone; put it back from a copy"
	case err != nil:
		return cause(err).Error()
	case !info.Mode().IsRegular():
		return "it is no file any more"
	}
	sum, err := fileSum(file)
	switch {
	case err != nil:
		return cause(err).Error()
	case sum != x.StoredSHA256:
		return fmt.Sprintf("its SHA-256 is %s, and was %s; put the right file back from a copy", sum, x.StoredSHA256)
	}
	return ""
}

// strangers notes files in the evidence folder that no gather took.
func (e *Engagement) strangers(v *Verified, told map[string]bool) error {
	root := filepath.Join(e.Dir, EvidenceDir)
	return filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name, err := filepath.Rel(root, path)
		if name = filepath.ToSlash(name); err == nil && !d.IsDir() && !told[name] && !strings.HasPrefix(name, stagingPrefix) {
			v.Notes = append(v.Notes, fmt.Sprintf("evidence/%s was never gathered, and counts for nothing", name))
		}
		return err
	})
}

// verifyWeighings makes every recorded weighing again.
func (e *Engagement) verifyWeighings(v *Verified, entries []ledger.Entry) error {
	all, err := e.Ledger.Weighings()
	if err != nil {
		return err
	}
	at := map[int64]bool{}
	for _, w := range all {
		at[w.Entry] = true
		v.Weighings++
		if _, _, err := e.Recall(w.Number); err != nil {
			v.fail(w.Entry, "%v", err)
		}
	}
	for _, entry := range entries {
		if entry.Kind == weighKind && !at[entry.Seq] {
			v.fail(entry.Seq, "the record of its weighing was removed")
		}
	}
	return nil
}

// VerifyDocument is the output of verify.
type VerifyDocument struct {
	Schema    string            `json:"schema"`
	Holds     bool              `json:"holds"`
	Entries   int               `json:"entries"`
	Files     int               `json:"files"`
	Size      int64             `json:"size"` // of the files as they were gathered, in bytes
	Weighings int               `json:"weighings"`
	Seal      string            `json:"seal"`      // of the last entry
	Compared  string            `json:"compared"`  // seal that was compared; empty: none
	Since     int               `json:"since"`     // entries since that seal
	Signer    string            `json:"signed_by"` // key of the signature that was compared
	Failures  []FailureDocument `json:"failures"`  // by entry
	Notes     []string          `json:"notes"`
}

// FailureDocument is something that does not hold.
type FailureDocument struct {
	Entry int64  `json:"entry"` // 0: the database as a whole
	Text  string `json:"text"`
}

// Document describes the proof.
func (v *Verified) Document() VerifyDocument {
	d := VerifyDocument{Schema: "sternledger/verify/1", Holds: len(v.Failures) == 0, Entries: v.Entries, Files: v.Files, Size: v.Size, Weighings: v.Weighings,
		Compared: v.Seal, Since: v.Since, Signer: v.Signer, Failures: []FailureDocument{}, Notes: append([]string{}, v.Notes...)}
	if v.Last.Seq > 0 {
		d.Seal = SealOf(&v.Last)
	}
	for _, f := range v.Failures {
		d.Failures = append(d.Failures, FailureDocument(f))
	}
	return d
}
