package custody

import (
	"encoding/json"
	"fmt"

	"sternledger/internal/core/amend"
	"sternledger/internal/core/setting"
)

// AmendKind is the kind of the entries that tell of change files.
const AmendKind = "amend"

// AmendEntry is the ledger's entry of change files that were written: what was
// proposed, so that later records tell what came of it.
type AmendEntry struct {
	Weighing   int64             `json:"weighing"` // from whose record they were made
	To         string            `json:"to"`       // the folder's name
	Files      map[string]string `json:"files_sha256"`
	Amendments []Amended         `json:"amendments"`
}

// Amended is one proposed change of one place.
type Amended struct {
	Amendment   string        `json:"amendment"` // A3: others of that name are of the same one
	Fingerprint string        `json:"fingerprint"`
	Setting     setting.ID    `json:"setting,omitempty"`
	Flag        string        `json:"flag,omitempty"`
	Precedence  bool          `json:"precedence,omitempty"`
	Title       string        `json:"title"`
	Was         string        `json:"was"`     // for people
	Becomes     string        `json:"becomes"` // for people
	From        setting.Value `json:"from"`
	To          setting.Value `json:"to_value"`
	NotSet      bool          `json:"not_set,omitempty"`
	Accounts    []string      `json:"accounts,omitempty"` // whose flag was to be taken off
	amend.Spot
}

// ToldAmend is such an entry with when and by whom it was recorded.
type ToldAmend struct {
	AmendEntry
	Entry  int64
	At, By string
}

// RecordAmend records that change files were written.
func (e *Engagement) RecordAmend(entry AmendEntry) error { return e.record(AmendKind, entry) }

// Amends are the entries of change files, the oldest first.
func (e *Engagement) Amends() ([]ToldAmend, error) {
	entries, err := e.Ledger.EntriesOf(AmendKind)
	if err != nil {
		return nil, err
	}
	var all []ToldAmend
	for _, x := range entries {
		one := ToldAmend{Entry: x.Seq, At: x.At, By: x.Actor}
		if err := json.Unmarshal([]byte(x.Body), &one.AmendEntry); err != nil {
			return nil, fmt.Errorf("entry %d: %w", x.Seq, err)
		}
		all = append(all, one)
	}
	return all, nil
}
