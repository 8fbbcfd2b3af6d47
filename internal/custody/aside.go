package custody

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/record"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/ledger"
)

// asideEntry is the ledger's entry of evidence, or places, that are taken out of use, or
// back into it.
type asideEntry struct {
	Names     []string       `json:"names"`            // of stored copies
	Places    []estate.Place `json:"places,omitempty"` // out of service
	Reason    string         `json:"reason"`
	TakenBack bool           `json:"taken_back,omitempty"`
}

// asideOf is what entries leave set aside, and which places out of service.
func asideOf(entries []ledger.Entry) (aside ledger.Aside, out []record.OutOfService, err error) {
	aside.Subjects = map[string]int64{}
	for i := range entries {
		var x asideEntry
		if err := json.Unmarshal([]byte(entries[i].Body), &x); err != nil {
			return aside, nil, fmt.Errorf("entry %d: %w", entries[i].Seq, err)
		}
		aside.Files = slices.DeleteFunc(aside.Files, func(name string) bool { return slices.Contains(x.Names, name) })
		out = slices.DeleteFunc(out, func(o record.OutOfService) bool { return slices.Contains(x.Places, o.Place) })
		for _, at := range x.Places {
			delete(aside.Subjects, SubjectOf(at))
		}
		if x.TakenBack {
			continue
		}
		aside.Files = append(aside.Files, x.Names...)
		for _, at := range x.Places {
			aside.Subjects[SubjectOf(at)] = entries[i].Seq
			out = append(out, record.OutOfService{Place: at, Entry: entries[i].Seq, Reason: x.Reason})
		}
	}
	return aside, out, nil
}

// Aside is what does not count: facts in which stored copies have a part that are taken out of
// use, and those about places that went out of service later.
func (e *Engagement) Aside() (ledger.Aside, error) {
	entries, err := e.Ledger.EntriesOf(AsideKind)
	if err != nil {
		return ledger.Aside{}, err
	}
	aside, _, err := asideOf(entries)
	return aside, err
}

// OutOfService are the places that were taken out of service, and of which no newer evidence
// is there.
func (e *Engagement) OutOfService(facts *estate.Estate) ([]record.OutOfService, error) {
	entries, err := e.Ledger.EntriesOf(AsideKind)
	if err != nil {
		return nil, err
	}
	_, out, err := asideOf(entries)
	return slices.DeleteFunc(out, func(o record.OutOfService) bool {
		return slices.ContainsFunc(facts.Authorities, func(a *estate.Authority) bool { return a.Place() == o.Place })
	}), err
}

// AsideIn is what does not count, as a change to the ledger sees it.
func AsideIn(tx *ledger.Tx) (ledger.Aside, error) {
	entries, err := tx.EntriesOf(AsideKind)
	if err != nil {
		return ledger.Aside{}, err
	}
	aside, _, err := asideOf(entries)
	return aside, err
}

// EndService takes places out of service: what is on record about them counts no more, until
// newer evidence of them is gathered. back takes that back.
func (e *Engagement) EndService(names []string, reason string, back bool) (*SetAside, error) {
	if strings.TrimSpace(reason) == "" {
		return nil, fmt.Errorf("without a reason this is refused; say why with --reason")
	}
	facts, err := e.Estate()
	if err != nil {
		return nil, err
	}
	out := &SetAside{TakenBack: back}
	known := map[string]estate.Place{}
	twice := map[string]bool{}
	add := func(at estate.Place) {
		_, there := known[at.Name]
		twice[at.Name] = twice[at.Name] || there
		known[at.Name], known[at.String()] = at, at
	}
	if !back {
		for _, a := range facts.Authorities {
			add(a.Place())
		}
	} else {
		gone, err := e.OutOfService(facts)
		if err != nil {
			return nil, err
		}
		for _, o := range gone {
			add(o.Place)
		}
	}
	for _, name := range names {
		at, ok := known[name]
		switch {
		case !ok:
			return nil, fmt.Errorf("%q: no such place%s; %s", name, map[bool]string{true: " is out of service"}[back],
				strictyaml.Hint(name, slices.Sorted(maps.Keys(known))))
		case twice[name]:
			return nil, fmt.Errorf("%q: two places have this name; write its kind behind it, such as %q", name, at.String())
		}
		out.Places = append(out.Places, at)
	}
	return out, e.putAside(out, reason)
}

// putAside records it.
func (e *Engagement) putAside(out *SetAside, reason string) (err error) {
	if out.Before, err = e.subjects(); err != nil {
		return err
	}
	if err := e.record(AsideKind, asideEntry{append([]string{}, out.Names...), out.Places, reason, out.TakenBack}); err != nil {
		return err
	}
	if out.Entry, err = e.Ledger.Last(); err != nil {
		return err
	}
	out.After, err = e.subjects()
	return err
}

// SetAside is what was taken out of use, or back into it.
type SetAside struct {
	Entry     int64
	Names     []string
	Places    []estate.Place // out of service
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
		if slices.Contains(aside.Files, file) == back {
			out.Names = append(out.Names, file)
		}
	}
	if len(out.Names) == 0 {
		return nil, fmt.Errorf("%s: that is so already", strings.Join(names, ", "))
	}
	return out, e.putAside(out, reason)
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
