package fieldmap

import (
	"fmt"
	"slices"
	"strings"

	"sternledger/internal/core/strictyaml"
)

// Doubt is something in a map that is no mistake in form, and that cannot be
// meant.
type Doubt struct {
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Text   string `json:"text"`
}

// Lint returns what cannot be meant: exports that nothing reads, paths that can
// lead to nothing.
func (m *Map) Lint() []Doubt {
	used := map[string]bool{}
	var doubts []Doubt
	add := func(at strictyaml.Text, format string, args ...any) {
		doubts = append(doubts, Doubt{at.Line, at.Column, fmt.Sprintf(format, args...)})
	}
	// A path into a CSV leads to a column of a row; to a row only with each.
	at := func(export strictyaml.Text, within bool, paths ...Path) {
		used[export.Value] = true
		x := m.exports[export.Value]
		for _, p := range paths {
			if p.path == nil || x == nil || len(x.CSV) == 0 || len(x.JSON) > 0 {
				continue
			}
			if within && p.text.Value != "$" && p.text.Value != "$[*]" {
				add(p.text, "the rows of the CSV %s are at $[*]; %s leads to nothing", export.Value, p.text.Value)
			} else if !within && strings.Count(p.text.Value, ".")+strings.Count(p.text.Value, "[") > 1 {
				add(p.text, "a row of the CSV %s has columns and nothing in them; %s leads to nothing", export.Value, p.text.Value)
			}
		}
	}
	conditions := func(export strictyaml.Text, all []Condition) {
		for _, c := range all {
			at(export, false, c.At)
		}
	}
	readings := func(export strictyaml.Text, all []Reading) {
		for i := range all {
			r := &all[i]
			from := r.Export
			if from.Value == "" {
				from = export
			}
			at(from, false, r.At)
			conditions(from, r.Only)
			for _, w := range r.When {
				at(from, false, w.At)
			}
		}
	}
	pick := func(p *Pick) {
		if p != nil {
			at(p.Export, false, p.At)
		}
	}
	readings(strictyaml.Text{}, m.Settings)
	for i := range m.Name {
		pick(&m.Name[i])
	}
	pick(m.Banned)
	for i := range m.Accounts {
		a := &m.Accounts[i]
		at(a.Export, true, a.Each)
		at(a.Export, false, a.ID, a.Name, a.Principal, a.Display, a.Changed, a.Domain, a.Account, a.SID, a.Groups)
		conditions(a.Export, a.Only)
		if a.Used != nil {
			at(a.Export, false, a.Used.At)
			conditions(a.Export, a.Used.Only)
		}
		for _, f := range a.Flags {
			at(a.Export, false, f.At)
		}
		pick(a.Federated)
		pick(a.Domains)
	}
	if g := m.Groups; g != nil {
		at(g.Export, true, g.Each)
		at(g.Export, false, g.ID, g.Name)
		if g.In != nil {
			at(g.In.Export, true, g.In.Each)
		}
	}
	if p := m.Policies; p != nil {
		at(p.Export, true, p.Each)
		readings(p.Export, p.Settings)
	}
	if d := m.Domains; d != nil {
		at(d.Export, true, d.Each)
		readings(d.Export, d.Settings)
	}
	if u := m.Units; u != nil {
		at(u.Export, true, u.Each)
		at(u.Of.Export, true, u.Of.Each)
		readings(u.Of.Export, u.Of.Settings)
	}
	if m.Roles != nil {
		at(m.Roles.Export, true, m.Roles.Each)
	}
	if m.SignOn != nil {
		at(m.SignOn.Export, true, m.SignOn.Each)
	}
	if m.Rollout != nil {
		at(m.Rollout.Export, true, m.Rollout.Each)
	}
	for _, w := range m.Sync {
		at(w.Export, false, w.At)
		for _, x := range w.Needs {
			used[x.Value] = true
		}
	}
	for _, f := range m.Factors {
		at(f.Export, true, f.Each)
	}
	for i := range m.Exports {
		if x := &m.Exports[i]; !used[x.ID.Value] {
			add(x.ID, "nothing is read from the export %s", x.ID.Value)
		}
	}
	if m.Live != nil {
		for _, x := range m.Exports {
			if !slices.ContainsFunc(m.Live.Requests, func(r Request) bool { return r.Export.Value == x.ID.Value }) {
				add(x.ID, "live, the export %s is never asked for", x.ID.Value)
			}
		}
	}
	slices.SortStableFunc(doubts, func(x, y Doubt) int { return x.Line - y.Line })
	return doubts
}
