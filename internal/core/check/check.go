// Package check looks for what is wrong besides what baselines demand: settings
// that defeat each other, policies that govern nobody, evidence that is missing.
// Checks are values in tables, one file a family; what they find, and what a
// demand finds, is a Finding.
package check

import (
	"slices"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/exposure"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Check is one thing that the program looks for besides what baselines demand. A
// new check is one more value in the table of its family.
type Check struct {
	Name     string // for scripts; never changed
	Title    string // for people: what is wrong, in a few words
	Doc      string // the same, whole
	Kind     Kind
	Severity baseline.Severity
	Looks    Looks
	On       []estate.Kind // places that it looks at; nil: all, or, of the governance, directory domains
	Reads    []setting.ID  // of the settings: all of them are cited; the first names the finding's place
	Each     bool          // it finds one setting at a time, which is a part of what is wrong
	Defeats  []setting.ID  // what holds only on paper when the check finds something
	// What mending a finding changes, for what it is worth: settings, and flags of accounts.
	// A finding may say it itself.
	Sets   map[setting.ID]setting.Value
	Clears estate.Flag
	// Restates: it says of a setting what a demand on that says already: on Of, or on the
	// finding's first.
	Restates bool
	Of       setting.ID
	Run      func(p *Pass)
}

// Looks says at what a check looks, and so what its Pass holds.
type Looks string

// The families of checks.
const (
	AtCompleteness Looks = "completeness" // the estate, once, when all is weighed
	AtGovernance   Looks = "governance"   // each authority, with everything known of it
	AtSettings     Looks = "settings"     // each scope's settings
)

// All are all checks. The tables are filled in before this one, family by
// family.
var All = slices.Concat(
	family(AtCompleteness, completenessChecks),
	family(AtGovernance, governanceChecks, accountChecks, placeChecks),
	family(AtSettings, coreChecks, furtherChecks),
)

func family(looks Looks, tables ...[]Check) []Check {
	all := slices.Concat(tables...)
	for i := range all {
		all[i].Looks = looks
	}
	return all
}

// CheckNamed returns a check; nil where there is none of that name.
func Named(name string) *Check {
	i := slices.IndexFunc(All, func(c Check) bool { return c.Name == name })
	if i < 0 {
		return nil
	}
	return &All[i]
}

// looksAt reports whether the check looks at authorities of that kind.
func (c *Check) looksAt(kind estate.Kind) bool {
	if c.On == nil {
		return c.Looks != AtGovernance || kind == estate.Domain
	}
	return slices.Contains(c.On, kind)
}

// Pass is one run of a check, with what it looks at. Which of its fields are set depends on
// what the check looks at (Check.Looks): at governance Authority, Resolution, Tiering and
// Templates, once for each authority; at settings Authority and Scope, once for each scope; at
// completeness Expect and Unweighed, once. The survey is always there, and is not changed: passes
// of several checks look at it one after the other. A check reports by Pass.report alone.
type Pass struct {
	*govern.Survey
	Authority  *estate.Authority
	Resolution *govern.Resolution
	Tiering    *govern.Tiering
	Templates  *govern.Templates
	Scope      *govern.Scope
	Expect     *Expectation
	Unweighed  []Unweighed

	check *Check
	index int // of the authority
	found *[]Finding
	known *known
	day   func(unix int64) string
}

// report adds a finding. rows are the accounts concerned, nobody's for none,
// nil where accounts are not the point; about names what it is about and keeps
// its fingerprint apart from others of the check.
func (p *Pass) report(f Finding, about string, rows []int) {
	f.Kind, f.Check, f.About = p.check.Kind, p.check.Name, about
	if f.Authority == nil {
		f.Authority = p.Authority
	}
	if f.Severity == "" {
		f.Severity = p.check.Severity
	}
	if f.Mend == nil && (p.check.Sets != nil || p.check.Clears != 0) {
		f.Mend = &exposure.Change{Set: p.check.Sets, Clear: p.check.Clears}
	}
	if f.Scope == nil && f.Scopes == nil && (f.Mend != nil || p.check.Kind == Missing) {
		f.Scopes = p.scopesOf(rows)
	}
	if f.Scope == nil && rows != nil && f.Authority.Listed {
		n := len(rows)
		f.Accounts, f.Rows = &n, rows
		f.Examples = Names(f.Authority, rows[:min(len(rows), mostExamples)])
	}
	*p.found = append(*p.found, f)
}

// scopesOf are the scopes in which accounts stand, of those only in part that are enabled.
func (p *Pass) scopesOf(rows []int) (all []*govern.Scope) {
	if p.Authority == nil {
		return nil
	}
	seen := map[*govern.Scope]bool{nil: true}
	for _, row := range rows {
		if p.Authority.Objects.ClassOf(row) != estate.Account {
			continue
		}
		if s, _ := p.ScopeOf(p.index, row); !seen[s] {
			seen[s] = true
			all = append(all, s)
		}
	}
	return all
}

// Restating is the setting of which a finding says what a demand on that says already;
// empty: none.
func (f *Finding) Restating() setting.ID {
	c := Named(f.Check)
	switch {
	case c == nil || !c.Restates:
		return ""
	case c.Of != "" || len(f.Settings) == 0:
		return c.Of
	}
	return f.Settings[0]
}

// Run runs the checks of a family on what the pass holds.
func Run(looks Looks, p Pass) []Finding {
	var found []Finding
	p.found = &found
	for i := range All {
		c := &All[i]
		if c.Looks == looks && (p.Authority == nil || c.looksAt(p.Authority.Kind)) {
			p.check = c
			one := p
			c.Run(&one)
		}
	}
	return found
}

// OnGovernance runs the checks on every authority.
func OnGovernance(s *govern.Survey, day func(unix int64) string) []Finding {
	if day == nil {
		day = func(int64) string { return "" }
	}
	var found []Finding
	for i, a := range s.Estate.Authorities {
		found = append(found, Run(AtGovernance, Pass{Survey: s, Authority: a, Resolution: s.Resolutions[i],
			Tiering: s.Tierings[i], Templates: s.Templates[i], index: i, known: new(known), day: day})...)
	}
	return found
}

// between makes a check of settings of one scope that defeat each other. find
// returns the reason, with its numbers, and the remedy; an empty reason where
// there is nothing to report.
func between(find func(h Held) (reason, remedy string)) func(*Pass) {
	return func(p *Pass) {
		h := Held{p.Scope}
		f := Finding{Scope: p.Scope, Settings: p.check.Reads}
		if f.Reason, f.Remedy = find(h); f.Reason == "" {
			return
		}
		for n, id := range p.check.Reads {
			if n > 0 {
				f.Observed += ", "
			}
			f.Observed += string(id) + " " + h.Text(id)
		}
		f.Evidence = evidenceOf(p.Scope, p.check.Reads)
		p.report(f, "", nil)
	}
}
