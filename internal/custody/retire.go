package custody

import (
	"encoding/json"
	"fmt"
	"strings"

	"sternledger/internal/ledger"
)

// retireKind is the entry that says that the evidence so far was destroyed.
const retireKind = "retire"

// retireEntry is its body.
type retireEntry struct {
	Reason string `json:"reason"`
	Files  int    `json:"files"`
	Size   int64  `json:"size"` // as they were gathered
}

// Retired says what was destroyed.
type Retired struct {
	Entry int64
	retireEntry
}

// Retire destroys the stored copies of all evidence, as a contract's end may ask
// for, and records that. The facts and the records of weighings stay, and go on
// being proven; that the facts are what the files said no longer is.
func (e *Engagement) Retire(reason string) (*Retired, error) {
	if strings.TrimSpace(reason) == "" {
		return nil, fmt.Errorf("say why with --reason, such as the contract's end and who decided")
	}
	tx, err := e.Ledger.Change()
	if err != nil {
		return nil, fmt.Errorf("the ledger is in use by another program; try again when it is done: %w", err)
	}
	defer tx.Rollback()
	all, err := tx.Evidence()
	if err != nil {
		return nil, err
	}
	entries, err := tx.Entries()
	if err != nil {
		return nil, err
	}
	before := retiredBy(entries)
	body := retireEntry{Reason: reason}
	for _, x := range all {
		if x.Entry > before {
			body.Files, body.Size = body.Files+1, body.Size+x.Size
		}
	}
	if body.Files == 0 {
		return nil, fmt.Errorf("there is no evidence to destroy")
	}
	entry, err := tx.Append(e.Now, e.Actor(), retireKind, body)
	if err != nil {
		return nil, err
	}
	// First it is recorded: a run that is stopped in between is finished by the
	// next (settle).
	if err := tx.Commit(); err != nil {
		return nil, err
	}
	return &Retired{entry.Seq, body}, e.destroy(append(entries, entry))
}

// retiredBy is the newest entry that retired the evidence before it; 0: none.
func retiredBy(entries []ledger.Entry) (seq int64) {
	for _, x := range entries {
		if x.Kind == retireKind {
			seq = x.Seq
		}
	}
	return seq
}

// DestroyedBefore is the entry before which all stored copies were destroyed; 0: none.
func DestroyedBefore(tx *ledger.Tx) (int64, error) {
	entries, err := tx.EntriesOf(retireKind)
	return retiredBy(entries), err
}

// destroy removes the stored copies of evidence that was retired.
func (e *Engagement) destroy(entries []ledger.Entry) error {
	by, removed := retiredBy(entries), discardedBy(entries)
	if by == 0 && len(removed.by) == 0 {
		return nil
	}
	for _, x := range gathered(entries) {
		name, err := Stored(x.Name)
		if err != nil {
			return err
		}
		if (x.Entry < by || removed.by[x.Name] > 0) && e.Folder.Has(name) {
			if err := e.Folder.RemoveAll(name); err != nil {
				return err
			}
		}
	}
	if err := e.Folder.RemoveEmpty(EvidenceDir); err != nil {
		return err
	}
	return e.Folder.Sync(EvidenceDir)
}

// gathered is the evidence that entries tell of.
func gathered(entries []ledger.Entry) (all []ledger.Evidence) {
	for _, entry := range entries {
		var body gatherEntry
		if entry.Kind == GatherKind && json.Unmarshal([]byte(entry.Body), &body) == nil {
			for _, x := range body.Files {
				x.Entry = entry.Seq
				all = append(all, x)
			}
		}
	}
	return all
}
