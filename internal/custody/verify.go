package custody

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"sternledger/internal/contract"
	"sternledger/internal/core/record"
	"sternledger/internal/folder"
	"sternledger/internal/ledger"
)

// Verified is what came of proving the ledger.
type Verified struct {
	Entries   int
	Files     int
	Size      int64 // of the files, in bytes
	Weighings int
	Last      ledger.Entry
	Seal      string   // that was compared; empty: none
	Since     int      // entries since that seal
	Signer    string   // of the signature that was compared; empty: none
	Judged    []Judged // the weighings, made again
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
	Form     int               `json:"facts_form"` // of these digests; 0: 1
	Problems string            `json:"problems_sha256"`
}

// Verify proves that nothing was altered: the chain of entries; every evidence
// file against its SHA-256; the facts and the records of weighings against the
// digests in the chain. Each weighing is made again, once, to see whether this
// program judges as the one that made the record.
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
			v.Notes = append(v.Notes, fmt.Sprintf("entry %d is dated %s, before entry %d (%s): a clock was set back", entries[i].Seq,
				entries[i].At, entries[i-1].Seq, entries[i-1].At))
		}
	}
	// Hashing large files and weighing take about as long, and are done side by side.
	weighed, done := &Verified{}, make(chan error, 1)
	go func() { done <- e.verifyWeighings(weighed, entries) }()
	err = e.verifyEvidence(v, entries)
	if err = errors.Join(err, <-done); err != nil {
		return err
	}
	v.Weighings, v.Judged, v.Failures = weighed.Weighings, weighed.Judged, append(v.Failures, weighed.Failures...)
	// What belongs to no entry is told last.
	slices.SortStableFunc(v.Failures, func(a, b Failure) int { return cmp.Compare(uint64(a.Entry)-1, uint64(b.Entry)-1) })
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
	retired, gone := retiredBy(entries), 0
	removed := discardedBy(entries)
	unvouched, err := e.Ledger.Unvouched(GatherKind, WeighKind)
	if err != nil {
		return err
	}
	for _, text := range unvouched {
		v.fail(0, "%s", text)
	}
	for _, entry := range entries {
		if entry.Kind != GatherKind {
			continue
		}
		var body gatherEntry
		if err := json.Unmarshal([]byte(entry.Body), &body); err != nil {
			v.fail(entry.Seq, "its body cannot be read: %v", err)
			continue
		}
		for _, x := range body.Files {
			if by := removed.by[x.Name]; by > 0 {
				if _, still := recorded[x.Name]; still {
					v.fail(entry.Seq, "the record of evidence/%s is there, which entry %d removed", x.Name, by)
				}
				continue
			}
			told[x.Name] = true
			v.Files, v.Size = v.Files+1, v.Size+x.Size
			x.Entry = entry.Seq
			if recorded[x.Name] != x {
				v.fail(entry.Seq, "the record of evidence/%s was altered or removed", x.Name)
			}
			if x.Entry < retired {
				gone++
			} else if text := e.fileFault(&x); text != "" {
				v.fail(entry.Seq, "evidence/%s: %s", x.Name, text)
			}
		}
		digests, odd, err := e.Ledger.DigestsOf(entry.Seq, cmp.Or(body.Form, 1))
		if err != nil {
			return err
		}
		for _, text := range odd {
			v.fail(entry.Seq, "%s", text)
		}
		for subject, digest := range body.Facts {
			if _, there := digests[subject]; !there && removed.facts[entry.Seq][subject] {
				continue
			}
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
		if digest, err := ProblemsDigest(problems); err != nil || digest != cmp.Or(removed.problems[entry.Seq], body.Problems) {
			v.fail(entry.Seq, "what was not understood was altered")
		}
	}
	if gone > 0 {
		v.Notes = append(v.Notes,
			fmt.Sprintf("%d files of evidence were destroyed, as entry %d records: the facts and records made of them are proven, and "+
				"that the facts are what the files said no longer is", gone, retired))
	}
	if n := len(removed.by); n > 0 {
		v.Notes = append(v.Notes, fmt.Sprintf("removed for good, with the facts made of it: %s of evidence and %s "+
			"(sternledger entries --kind %s says why)", so(n, "file"), so(len(removed.weighings), "weighing"), discardKind))
	}
	for _, x := range evidence {
		if !told[x.Name] {
			v.fail(x.Entry, "evidence/%s was added: no gather recorded it", x.Name)
		}
	}
	return e.strangers(v, told)
}

// fileFault says what is wrong with a stored copy; empty for nothing.
func (e *Engagement) fileFault(x *ledger.Evidence) string {
	name, err := Stored(x.Name)
	if err != nil {
		return err.Error()
	}
	sum, err := e.fileSum(name)
	if errors.Is(err, fs.ErrNotExist) {
		// A gather that is about to end has not put it in its place yet, or
		// puts it there while we look.
		for _, staging := range e.Folder.Below(EvidenceDir, StagingPrefix) {
			if s, err := e.fileSum(folder.Join(staging, folder.Name(x.Name))); err == nil && s == x.StoredSHA256 {
				return ""
			}
		}
		sum, err = e.fileSum(name)
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "the file is gone; gather the export again, or put it back from a copy"
	case errors.Is(err, folder.ErrNotPlain):
		return "it is no file any more"
	case err != nil:
		return Cause(err).Error()
	case sum != x.StoredSHA256:
		return fmt.Sprintf("its SHA-256 is %s, and was %s; put the right file back from a copy", sum, x.StoredSHA256)
	}
	return ""
}

// strangers notes files in the evidence folder that no gather took.
func (e *Engagement) strangers(v *Verified, told map[string]bool) error {
	return e.Folder.Walk(EvidenceDir, func(path string, d fs.DirEntry, err error) error {
		name := strings.TrimPrefix(path, EvidenceDir+"/")
		if strings.HasPrefix(name, StagingPrefix) && d.IsDir() {
			return fs.SkipDir // a gather's under way: it may be gone the next moment
		}
		if err == nil && !d.IsDir() && !told[name] {
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
	at, removed := map[int64]bool{}, discardedBy(entries).weighings
	for _, w := range all {
		at[w.Entry] = true
		v.Weighings++
		if err := e.judgeAgain(v, &w); err != nil {
			v.fail(w.Entry, "%v", err)
		}
	}
	for _, entry := range entries {
		var x WeighEntry
		if entry.Kind == WeighKind && !at[entry.Seq] && !(json.Unmarshal([]byte(entry.Body), &x) == nil && removed[x.Weighing]) {
			v.fail(entry.Seq, "the record of its weighing was removed")
		}
	}
	return nil
}

// Judged is a recorded weighing that was weighed again.
type Judged struct {
	Weighing int64
	Program  record.Program // that made the record
	Outcome  record.Outcome
	Why      string              // it cannot be weighed again
	Differs  []record.Difference // today: before as recorded, after as this program judges
}

// judgeAgain proves a record, and weighs again what it is of. An error says that
// the record is not the one that was written.
func (e *Engagement) judgeAgain(v *Verified, row *ledger.Weighing) error {
	w, err := e.Recall(row.Number)
	if err != nil {
		return err
	}
	j := Judged{Weighing: row.Number, Program: w.Program, Outcome: record.Same}
	r, err := e.Recorded(row.Number)
	if err != nil {
		return err
	}
	again, err := r.again(false)
	if err != nil {
		j.Outcome, j.Why = record.NotPossible, err.Error()
	} else if j.Differs = record.Differences(w.Record, again.Record); len(j.Differs) > 0 {
		j.Outcome = record.OtherVersion
		if w.Program.Same(ThisProgram()) {
			v.fail(row.Entry, "this very program judges otherwise from what the ledger holds (%s: %s, now %s): what it was judged from was altered",
				j.Differs[0].What, j.Differs[0].Before, j.Differs[0].After)
		}
	}
	v.Judged = append(v.Judged, j)
	return nil
}

// Document describes the proof.
func (v *Verified) Document() contract.VerifyDocument {
	d := contract.VerifyDocument{Schema: "sternledger/verify/2", Holds: len(v.Failures) == 0, Entries: v.Entries, Files: v.Files,
		Size: v.Size, Outcome: record.Same, Weighings: []contract.JudgedDocument{},
		Compared: v.Seal, Since: v.Since, Signer: v.Signer, Failures: []contract.FailureDocument{}, Notes: append([]string{}, v.Notes...)}
	if v.Last.Seq > 0 {
		d.Seal = SealOf(&v.Last)
	}
	for _, j := range v.Judged {
		d.Weighings = append(d.Weighings, contract.JudgedDocument{Weighing: j.Weighing, MadeBy: j.Program.String(), Outcome: j.Outcome,
			Why: j.Why, Differs: append([]record.Difference{}, j.Differs...)})
		if j.Outcome != record.Same {
			d.Outcome = record.OtherVersion
		}
	}
	if !d.Holds {
		d.Outcome = record.Altered
	}
	for _, f := range v.Failures {
		d.Failures = append(d.Failures, contract.FailureDocument(f))
	}
	return d
}
