package assess

import (
	"cmp"
	"fmt"
	"iter"
	"path"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/record"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/custody"
)

// AccountFilter picks accounts; empty fields pick all.
type AccountFilter struct {
	Name   string // pattern
	Scope  string
	Tier   string
	Policy string
	Flag   string // by name, or "disabled"
	Rule   string
}

// AccountRow is one account with what governs it.
type AccountRow struct {
	Authority string      `json:"authority"`
	Account   string      `json:"account"`
	Enabled   bool        `json:"enabled"`
	Tier      string      `json:"tier"`
	Scope     string      `json:"scope"`
	Policy    string      `json:"policy"`
	Origin    string      `json:"origin"` // "-" for the default
	Rule      string      `json:"rule"`
	Via       string      `json:"via"` // the group that carries the policy, or "-"
	Flags     []string    `json:"flags"`
	Kind      estate.Kind `json:"kind"` // of the authority
	Label     string      `json:"-"`    // the authority as people name it
}

// AccountHead names the fields of an AccountRow as CSV has them.
var AccountHead = []string{"authority", "account", "enabled", "tier", "scope", "policy", "origin", "rule", "via", "flags", "kind"}

// Cells returns the row as CSV has it.
func (r *AccountRow) Cells() []string {
	return []string{r.Authority, r.Account, fmt.Sprint(r.Enabled), r.Tier, r.Scope, r.Policy, r.Origin, r.Rule, r.Via,
		strings.Join(r.Flags, "+"), string(r.Kind)}
}

// rules are all words that a rule can be.
var rules = []string{string(govern.Direct), string(govern.Group), string(govern.Default), string(govern.Local), "tenant",
	"pointer", string(govern.Unknown)}

// Check reports a filter that cannot match anything because a word is wrong.
func (f *AccountFilter) Check(s *govern.Survey) error {
	var scopes, tiers, policies []string
	for _, scope := range s.Scopes {
		scopes, tiers, policies = append(scopes, scope.Name()), append(tiers, scope.Tier), append(policies, scope.PolicyName())
	}
	for _, word := range []struct {
		flag, given string
		known       []string
	}{
		{"--scope", f.Scope, scopes}, {"--tier", f.Tier, tiers}, {"--policy", f.Policy, policies},
		{"--flag", f.Flag, append(estate.FlagsNamed(), "disabled")}, {"--rule", f.Rule, rules},
	} {
		known := slices.ContainsFunc(word.known, func(k string) bool { return strings.EqualFold(k, word.given) })
		if word.given != "" && !known {
			return fmt.Errorf("%s %q: there is none; %s", word.flag, word.given, strictyaml.Hint(word.given, word.known))
		}
	}
	if _, err := path.Match(f.Name, ""); err != nil {
		return fmt.Errorf("pattern %q: %w", f.Name, err)
	}
	return nil
}

func (f *AccountFilter) match(r *AccountRow, name string) bool {
	is := func(want, have string) bool { return want == "" || strings.EqualFold(want, have) }
	named := true
	if f.Name != "" {
		named, _ = path.Match(strings.ToLower(f.Name), strings.ToLower(name))
	}
	flagged := f.Flag == "" || f.Flag == "disabled" && !r.Enabled || slices.Contains(r.Flags, f.Flag)
	return named && flagged && is(f.Scope, r.Scope) && is(f.Tier, r.Tier) && is(f.Policy, r.Policy) && is(f.Rule, r.Rule)
}

// Accounts yields the accounts that match, authority by authority and by name.
// The row is reused.
func Accounts(s *govern.Survey, f AccountFilter) iter.Seq[*AccountRow] {
	return func(yield func(*AccountRow) bool) {
		var r AccountRow
		for i, a := range s.Estate.Authorities {
			for _, row := range byName(a) {
				accountRow(&r, s, i, row)
				if f.match(&r, r.Account) && !yield(&r) {
					return
				}
			}
		}
	}
}

// byName returns the rows of an authority's accounts in order of their names.
func byName(a *estate.Authority) []int {
	o := a.Objects
	var rows []int
	for row := range o.Len() {
		if o.ClassOf(row) == estate.Account {
			rows = append(rows, row)
		}
	}
	slices.SortFunc(rows, func(x, y int) int { return strings.Compare(o.Name.At(x), o.Name.At(y)) })
	return rows
}

// accountRow fills r for one account.
func accountRow(r *AccountRow, s *govern.Survey, authority, row int) {
	a := s.Estate.Authorities[authority]
	told := standing(s, authority, row)
	r.fill(a, row, &told)
}

// fill describes the account at a row.
func (r *AccountRow) fill(a *estate.Authority, row int, s *record.Standing) {
	flags := a.Objects.FlagsOf(row)
	*r = AccountRow{Authority: a.Name, Kind: a.Kind, Label: a.Label(), Account: a.Objects.Name.At(row), Enabled: flags&estate.Disabled == 0,
		Tier:  s.Scope.Tier,
		Scope: s.Scope.Name(), Policy: s.Scope.PolicyName(), Origin: s.Origin, Rule: string(s.Rule), Via: s.Via, Flags: flags.Names()}
}

// Accounts yields every account with what governed it when it was weighed.
func AccountsOf(w *custody.Weighing) iter.Seq[*AccountRow] {
	return func(yield func(*AccountRow) bool) {
		var r AccountRow
		for _, a := range w.Places {
			roll := w.Roll(a.Place())
			if roll == nil {
				continue
			}
			for _, row := range byName(a) {
				if s := roll.Of(row); s != nil {
					if r.fill(a, row, s); !yield(&r) {
						return
					}
				}
			}
		}
	}
}

// groupName is a group's account name, else the name its DN gives.
func groupName(a *estate.Authority, row int) string {
	name := cmp.Or(a.Objects.Name.At(row), estate.NameOf(a.DN(row)))
	if a.Kind == estate.Domain && a.Objects.FlagsOf(row)&estate.Unseen != 0 {
		if domain := estate.DomainOf(a.DN(row)); domain != "" && domain != a.Name {
			name += " of " + domain
		}
	}
	return name
}
