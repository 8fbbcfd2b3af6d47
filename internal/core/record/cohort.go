package record

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Cohort is places of one kind that are alike: the same policies and tiers, with
// the same effective values and verdicts. Names and numbers of accounts do not
// tell places apart.
type Cohort struct {
	ID       string
	Places   []*estate.Authority // in the order of the record
	Scopes   []*govern.Scope     // of the first; those of the others are like them
	Numbers  []Number            // of the accounts in these scopes, over all places
	Accounts *int                // of all; nil: not listed
	Counts   map[check.Kind]int  // verdicts of all, each setting of a scope once
	// Usual is the largest cohort of the same platform that this one deviates from;
	// nil for that one itself. Differs names the settings and tiers in which it does.
	Usual   *Cohort
	Differs []string
}

// Number counts accounts.
type Number struct{ Accounts, Enabled int }

// Place is the first of its places.
func (c *Cohort) Place() *estate.Authority { return c.Places[0] }

// Cohorts puts the places of the record into cohorts.
func (r *Record) Cohorts() []*Cohort {
	verdicts := map[*govern.Scope][]string{}
	for i := range r.Verdicts {
		v := &r.Verdicts[i]
		verdicts[v.Scope] = append(verdicts[v.Scope], v.Baseline.ID+" "+string(v.Demand.Setting)+" "+string(v.Kind))
	}
	all := Alike(r.Scopes, verdicts)
	counts := r.Counts()
	of := map[*estate.Authority]*Cohort{}
	for _, c := range all {
		for _, a := range c.Places {
			of[a] = c
		}
	}
	for _, s := range r.Scopes {
		for kind, n := range counts[s] {
			of[s.Authority].Counts[kind] += n
		}
	}
	return all
}

// Alike puts the places of scopes into cohorts, in the order of the scopes.
// Verdicts may be nil.
func Alike(scopes []*govern.Scope, verdicts map[*govern.Scope][]string) []*Cohort {
	at := map[*estate.Authority][]*govern.Scope{}
	var places []*estate.Authority
	for _, s := range scopes {
		if at[s.Authority] == nil {
			places = append(places, s.Authority)
		}
		at[s.Authority] = append(at[s.Authority], s)
	}
	by, ids := map[string]*Cohort{}, map[string]bool{}
	var all []*Cohort
	for _, a := range places {
		values, judged := alikeness(a, at[a], verdicts)
		key := values + judged
		c := by[key]
		if c == nil {
			c = &Cohort{ID: govern.Fingerprint("cohort", values), Scopes: at[a], Numbers: make([]Number, len(at[a])), Counts: map[check.Kind]int{}}
			if ids[c.ID] { // the same values, held against other baselines
				c.ID = govern.Fingerprint("cohort", key)
			}
			ids[c.ID] = true
			by[key], all = c, append(all, c)
		}
		c.Places = append(c.Places, a)
		for i, s := range at[a] {
			c.Numbers[i].Accounts += s.Accounts
			c.Numbers[i].Enabled += s.Enabled
			if s.Listed() {
				if c.Accounts == nil {
					c.Accounts = new(int)
				}
				*c.Accounts += s.Accounts
			}
		}
	}
	deviating(all)
	return all
}

// alikeness is what the places of a cohort share.
func alikeness(a *estate.Authority, scopes []*govern.Scope, verdicts map[*govern.Scope][]string) (values, judged string) {
	parts := []string{string(a.Kind), string(a.Platform)}
	var kinds []string
	for _, s := range scopes {
		parts = append(parts, "scope", s.PolicyName(), s.Kind(), string(s.Rule), string(s.Way))
		for _, id := range slices.Sorted(maps.Keys(s.Settings)) {
			parts = append(parts, string(id)+"="+valueIn(s, id))
		}
		own := slices.Clone(verdicts[s])
		slices.Sort(own)
		kinds = append(kinds, own...)
	}
	return strings.Join(parts, "\x00"), strings.Join(kinds, "\x00")
}

// valueIn is a setting's value in a scope, or why there is none.
func valueIn(s *govern.Scope, id setting.ID) string {
	e, ok := s.Settings[id]
	switch {
	case !ok:
		return ""
	case e.Missing != govern.Present:
		return string(e.Missing)
	}
	return setting.Get(id).Text(e.Value)
}

// mostAlone is how many places that are alike do not yet make a rule from which
// others deviate.
const mostAlone = 3

// deviating says of each cohort how it differs from the largest of its platform.
func deviating(all []*Cohort) {
	largest := map[setting.Platform]*Cohort{}
	for _, c := range all {
		if l := largest[c.Place().Platform]; l == nil || len(c.Places) > len(l.Places) {
			largest[c.Place().Platform] = c
		}
	}
	for _, c := range all {
		usual := largest[c.Place().Platform]
		if usual == c || len(usual.Places) < mostAlone || c.Place().Kind != estate.Machine {
			continue
		}
		c.Usual, c.Differs = usual, differs(c.Scopes, usual.Scopes)
	}
}

// differs names what differs between two places: scopes that only one of them has,
// then settings.
func differs(these, usual []*govern.Scope) []string {
	var all []string
	seen := map[string]bool{}
	add := func(text string) {
		if !seen[text] {
			seen[text] = true
			all = append(all, text)
		}
	}
	named := func(in []*govern.Scope, like *govern.Scope) *govern.Scope {
		i := slices.IndexFunc(in, func(s *govern.Scope) bool { return s.PolicyName() == like.PolicyName() && s.Kind() == like.Kind() })
		if i < 0 {
			return nil
		}
		return in[i]
	}
	for _, s := range these {
		other := named(usual, s)
		if other == nil {
			add(s.PolicyName() + " / " + s.Kind())
			continue
		}
		for _, row := range setting.Table() {
			if x, y := valueIn(s, row.ID), valueIn(other, row.ID); x != y {
				add(fmt.Sprintf("%s %s", strings.ToLower(row.Title), x))
			}
		}
	}
	for _, s := range usual {
		if named(these, s) == nil {
			add("no " + s.PolicyName() + " / " + s.Kind())
		}
	}
	return all
}

// CohortOf finds the cohort of a place.
func CohortOf(all []*Cohort, a *estate.Authority) *Cohort {
	for _, c := range all {
		if slices.Contains(c.Places, a) {
			return c
		}
	}
	return nil
}
