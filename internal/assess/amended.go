package assess

import (
	"fmt"
	"slices"

	"sternledger/internal/contract"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/custody"
)

// AmendState is what came of a proposed change at a place.
type AmendState string

// The states.
const (
	Took      AmendState = "took"
	NotYet    AmendState = "not-yet"
	Otherwise AmendState = "otherwise" // it was changed, to another value
	Undone    AmendState = "undone"    // it took, and was undone again
	Unseen    AmendState = "unseen"    // the newest record does not hold the place or policy
)

// AmendStatus is what came of one amendment.
type AmendStatus struct {
	Entry       int64 // that tells of its change files
	At          string
	Name, Title string
	Fingerprint string
	Was         string
	Becomes     string
	Places      []PlaceStatus
}

// PlaceStatus is what came of it at one place.
type PlaceStatus struct {
	custody.Amended
	State AmendState
	Now   string // the value in the newest record, for people
}

// Count counts the places in a state.
func (a *AmendStatus) Count(state AmendState) (n int) {
	for i := range a.Places {
		if a.Places[i].State == state {
			n++
		}
	}
	return n
}

// AmendStatuses tell what came of all change files, by the records since.
type AmendStatuses struct {
	Weighing int64 // the newest
	Behind   string
	All      []*AmendStatus
}

// StatusOf tells, from the records up to one, what came of the change files that were
// written before it. Nothing is judged again.
func StatusOf(e *custody.Engagement, number int64) (*AmendStatuses, error) {
	return statusOf(e, number, false)
}

// statusOf tells of later change files, too, where all are wanted: nothing came of them
// yet.
func statusOf(e *custody.Engagement, number int64, all bool) (*AmendStatuses, error) {
	told, err := e.Amends()
	if err != nil || len(told) == 0 {
		return &AmendStatuses{Weighing: number}, err
	}
	rows, err := e.Ledger.Weighings()
	if err != nil {
		return nil, err
	}
	s := &AmendStatuses{Weighing: number}
	by := map[string]*AmendStatus{}
	until := int64(0)
	for _, row := range rows {
		if row.Number == number {
			until = row.Entry
		}
	}
	for i := range told {
		if told[i].Entry > until && !all {
			continue
		}
		for k := range told[i].Amendments {
			x := &told[i].Amendments[k]
			a := by[x.Fingerprint]
			if a == nil || a.Entry != told[i].Entry { // written anew: what was proposed last counts
				if a != nil {
					s.All = slices.DeleteFunc(s.All, func(y *AmendStatus) bool { return y == a })
				}
				a = &AmendStatus{Entry: told[i].Entry, At: told[i].At, Name: x.Amendment, Title: x.Title, Fingerprint: x.Fingerprint, Was: x.Was,
					Becomes: x.Becomes}
				by[x.Fingerprint] = a
				s.All = append(s.All, a)
			}
			a.Places = append(a.Places, PlaceStatus{Amended: *x, State: NotYet, Now: x.Was})
		}
	}
	for _, row := range rows {
		if row.Number > number {
			break
		}
		if !slices.ContainsFunc(s.All, func(a *AmendStatus) bool { return a.Entry < row.Entry }) {
			continue
		}
		w, err := e.Recall(row.Number)
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(s.All, func(a *AmendStatus) bool {
			return slices.ContainsFunc(a.Places, func(p PlaceStatus) bool { return p.Flag != "" })
		}) {
			if err := w.Objects("class", "flags", "name"); err != nil {
				return nil, err
			}
		}
		for _, a := range s.All {
			if a.Entry >= row.Entry {
				continue
			}
			for i := range a.Places {
				a.Places[i].see(w)
			}
		}
	}
	return s, nil
}

// see takes in what a later record says.
func (p *PlaceStatus) see(w *custody.Weighing) {
	took := p.State == Took || p.State == Undone
	switch now, is := p.in(w); {
	case !is:
		if !took {
			p.State, p.Now = Unseen, "-"
		}
	case p.Flag != "":
		p.Now = map[bool]string{true: "cleared", false: "set"}[now == setting.On]
		p.State = stateOf(now == setting.On, now != setting.On, took)
	case p.Precedence:
		n, _ := now.Number()
		p.Now = fmt.Sprint(n)
		p.State = stateOf(now == p.To, now == p.From, took)
	default:
		p.Now = setting.Get(p.Setting).Text(now)
		p.State = stateOf(now == p.To, now == p.From || p.NotSet && !now.IsSet(), took)
		if !now.IsSet() {
			p.Now = "not set"
		}
	}
}

func stateOf(there, before, took bool) AmendState {
	switch {
	case there:
		return Took
	case took:
		return Undone
	case before:
		return NotYet
	}
	return Otherwise
}

// in is the value that a record has at the place. Of accounts it is on where the flag
// is off all of them.
func (p *PlaceStatus) in(w *custody.Weighing) (v setting.Value, seen bool) {
	if p.GUID != "" {
		for i := range w.Setters {
			if s := &w.Setters[i]; s.GUID == p.GUID && s.Setting == p.Setting && s.Domain == p.At {
				return s.Value, true
			}
		}
		return v, false
	}
	i := slices.IndexFunc(w.Record.Places, func(a *estate.Authority) bool { return a.Place() == p.At })
	if i < 0 && p.Identity != "" { // it was renamed
		i = slices.IndexFunc(w.Record.Places, func(a *estate.Authority) bool { return a.Kind == p.At.Kind && a.Identity() == p.Identity })
	}
	if i < 0 {
		return v, false
	}
	a := w.Record.Places[i]
	if p.Precedence {
		for k := range a.Overrides {
			if x := &a.Overrides[k]; (x.Origin == p.Origin || p.means(x)) && x.Precedence != nil {
				return setting.Number(*x.Precedence), true
			}
		}
		return v, false
	}
	if p.Flag != "" {
		flag, _ := estate.FlagNamed(p.Flag)
		off, known := true, 0
		for row := range a.Objects.Len() {
			if a.Objects.ClassOf(row) != estate.Account || !slices.Contains(p.Accounts, a.Objects.Name.At(row)) {
				continue
			}
			if a.Objects.FlagsOf(row)&estate.NoControl == 0 { // else the flags were not exported
				known++
			}
			off = off && a.Objects.FlagsOf(row)&flag == 0
		}
		return setting.Switch(off), known == len(p.Accounts)
	}
	var policies []*estate.Policy
	if a.Head != nil {
		policies = append(policies, a.Head)
	}
	for _, all := range [][]estate.Policy{a.Overrides, a.Typed} {
		for k := range all {
			policies = append(policies, &all[k])
		}
	}
	if a.Kind == estate.Machine && a.Platform == setting.UnixMachine {
		return p.onMachine(policies)
	}
	for _, x := range policies {
		if x.Origin == p.Origin && x.Name == p.Name || p.means(x) || x.Name == p.Name && a.Kind == estate.Machine {
			f := x.Settings[p.Setting]
			return f.Value, f.Problem == ""
		}
	}
	return v, false
}

// means reports whether a policy is the one of the change, whatever it is called now.
func (p *PlaceStatus) means(x *estate.Policy) bool {
	return p.PolicyGUID != estate.GUID{} && x.GUID == p.PolicyGUID && x.VariantOf == ""
}

// onMachine is the value on a Unix machine: its files have other names with each
// gather, and accounts that age otherwise share another policy.
func (p *PlaceStatus) onMachine(policies []*estate.Policy) (v setting.Value, seen bool) {
	for _, x := range policies {
		f, ok := x.Settings[p.Setting]
		if !ok || f.Problem != "" {
			continue
		}
		if f.Value == p.From {
			return f.Value, true // of some accounts it is as it was
		}
		if !seen || f.Value == p.To { // others, such as root's, have values of their own
			v = f.Value
		}
		seen = true
	}
	return v, seen
}

// Document describes the statuses.
func (s *AmendStatuses) Document() contract.AmendStatusDocument {
	d := contract.AmendStatusDocument{Schema: "sternledger/amend-status/1", Weighing: s.Weighing, Behind: s.Behind,
		Amendments: []contract.AmendedDocument{}}
	for _, a := range s.All {
		one := contract.AmendedDocument{Entry: a.Entry, At: a.At, Name: a.Name, Fingerprint: a.Fingerprint, Title: a.Title, From: a.Was,
			To:   a.Becomes,
			Took: a.Count(Took), Of: len(a.Places), Places: []contract.AmendedPlaceDocument{}}
		for _, p := range a.Places {
			one.Places = append(one.Places, contract.AmendedPlaceDocument{Place: p.At.Name, Kind: p.At.Kind, Policy: p.Name,
				State: string(p.State), Now: p.Now})
		}
		d.Amendments = append(d.Amendments, one)
	}
	return d
}

// AmendStatusNow is the status by the newest record.
func AmendStatusNow(e *custody.Engagement) (*AmendStatuses, error) {
	number, err := e.Newest(0)
	if err != nil {
		return nil, err
	}
	s, err := statusOf(e, number, true)
	if err != nil {
		return nil, err
	}
	row, err := e.Ledger.Weighing(number)
	if err != nil {
		return nil, err
	}
	s.Behind, err = behind(e, row.Entry)
	return s, err
}

// Keep leaves the places that are to be told of.
func (s *AmendStatuses) Keep(keep func(at estate.Place) bool) {
	for _, a := range s.All {
		a.Places = slices.DeleteFunc(a.Places, func(p PlaceStatus) bool { return !keep(p.At) })
	}
	s.All = slices.DeleteFunc(s.All, func(a *AmendStatus) bool { return len(a.Places) == 0 })
}
