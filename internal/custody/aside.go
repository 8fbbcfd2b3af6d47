package custody

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"sternledger/internal/core/strictyaml"
	"sternledger/internal/ledger"
)

// asideEntry is the ledger's entry of evidence that is taken out of use, or back
// into it.
type asideEntry struct {
	Names     []string `json:"names"` // of stored copies
	Reason    string   `json:"reason"`
	TakenBack bool     `json:"taken_back,omitempty"`
}

// asideOf are the files that entries leave set aside.
func asideOf(entries []ledger.Entry) ([]string, error) {
	var aside []string
	for i := range entries {
		var x asideEntry
		if err := json.Unmarshal([]byte(entries[i].Body), &x); err != nil {
			return nil, fmt.Errorf("entry %d: %w", entries[i].Seq, err)
		}
		aside = slices.DeleteFunc(aside, func(name string) bool { return slices.Contains(x.Names, name) })
		if !x.TakenBack {
			aside = append(aside, x.Names...)
		}
	}
	return aside, nil
}

// Aside are the stored copies that are taken out of use: facts in which they have a
// part are not current.
func (e *Engagement) Aside() ([]string, error) {
	entries, err := e.Ledger.EntriesOf(AsideKind)
	if err != nil {
		return nil, err
	}
	return asideOf(entries)
}

// AsideIn are they, as a change to the ledger sees them.
func AsideIn(tx *ledger.Tx) ([]string, error) {
	entries, err := tx.EntriesOf(AsideKind)
	if err != nil {
		return nil, err
	}
	return asideOf(entries)
}

// SetAside is what was taken out of use, or back into it.
type SetAside struct {
	Entry     int64
	Names     []string
	TakenBack bool
	Before    []string // places with facts before
	After     []string // and now
}

// SetAside takes evidence out of use that was gathered by mistake: what was known
// before it counts again. Names are those of stored copies, or of the folder of an
// export that is made of several files. back takes it into use again. Nothing is
// removed.
func (e *Engagement) SetAside(names []string, reason string, back bool) (*SetAside, error) {
	if strings.TrimSpace(reason) == "" {
		return nil, fmt.Errorf("without a reason this is refused; say why with --reason")
	}
	known, err := e.Ledger.Evidence()
	if err != nil {
		return nil, err
	}
	aside, err := e.Aside()
	if err != nil {
		return nil, err
	}
	out := &SetAside{TakenBack: back}
	meant, err := meantBy(names, known)
	if err != nil {
		return nil, err
	}
	for _, file := range meant {
		if slices.Contains(aside, file) == back {
			out.Names = append(out.Names, file)
		}
	}
	if len(out.Names) == 0 {
		return nil, fmt.Errorf("%s: that is so already", strings.Join(names, ", "))
	}
	if out.Before, err = e.subjects(); err != nil {
		return nil, err
	}
	if err := e.record(AsideKind, asideEntry{out.Names, reason, back}); err != nil {
		return nil, err
	}
	if out.Entry, err = e.Ledger.Last(); err != nil {
		return nil, err
	}
	out.After, err = e.subjects()
	return out, err
}

// meantBy are the stored copies that have these names, or lie in folders of these names.
func meantBy(names []string, known []ledger.Evidence) (all []string, err error) {
	var of []string
	for i := range known {
		of = append(of, known[i].Name)
	}
	for _, name := range names {
		name = strings.TrimPrefix(name, EvidenceDir+"/")
		before := len(all)
		for _, file := range of {
			if file == name || strings.HasPrefix(file, strings.TrimSuffix(name, "/")+"/") {
				all = append(all, file)
			}
		}
		if len(all) == before {
			return nil, fmt.Errorf("%q: no such evidence; %s", name, strictyaml.Hint(name, of))
		}
	}
	slices.Sort(all)
	return slices.Compact(all), nil
}

// subjects names what there are current facts of, with the entry that they are of.
func (e *Engagement) subjects() ([]string, error) {
	aside, err := e.Aside()
	if err != nil {
		return nil, err
	}
	holdings, err := e.Ledger.Current(aside)
	if err != nil {
		return nil, err
	}
	var all []string
	for _, h := range holdings {
		name := strings.TrimPrefix(strings.TrimPrefix(h.Subject, authoritySubject), TemplateSubject)
		all = append(all, fmt.Sprintf("%s, as of entry %d", strings.Replace(name, ":", " ", 1), h.Entry))
	}
	return all, nil
}
