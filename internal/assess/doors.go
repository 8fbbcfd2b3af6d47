package assess

import (
	"cmp"
	"slices"
	"strings"

	"sternledger/internal/contract"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// How a door was found.
const (
	synchronised = "synchronised"
	sameName     = "same name"
)

// place is one account of an estate.
type place struct{ authority, row int }

// mainOf picks, of accounts that a name means, the one that is told of first:
// the domain's, for the others follow it or stand beside it. Several in one
// authority, or in several domains, cannot be told apart.
func mainOf(s *govern.Survey, found []place) (place, bool) {
	rank := func(p place) int {
		return slices.Index([]estate.Kind{estate.Domain, estate.Tenant, estate.LDAP, estate.Machine}, s.Estate.Authorities[p.authority].Kind)
	}
	slices.SortStableFunc(found, func(x, y place) int { return cmp.Compare(rank(x), rank(y)) })
	for i, p := range found {
		for _, q := range found[i+1:] {
			twoDomains := s.Estate.Authorities[p.authority].Kind == estate.Domain && s.Estate.Authorities[q.authority].Kind == estate.Domain
			if p.authority == q.authority || twoDomains {
				return place{}, false
			}
		}
	}
	return found[0], true
}

// doors finds the other accounts of the person whose account is at p.
func doors(s *govern.Survey, p place) map[place]string {
	found := map[place]string{}
	r := s.Resolutions[p.authority]
	if from, ok := r.Source(p.row); ok {
		found[place{from.Authority, from.Row}] = synchronised
	}
	name, _, _ := strings.Cut(strings.ToLower(s.Estate.Authorities[p.authority].Objects.Name.At(p.row)), "@")
	for i, a := range s.Estate.Authorities {
		if i == p.authority {
			continue
		}
		for row := range a.Objects.Len() {
			if a.Objects.ClassOf(row) != estate.Account {
				continue
			}
			if from, ok := s.Resolutions[i].Source(row); ok && from.Authority == p.authority && from.Row == p.row {
				found[place{i, row}] = synchronised
			} else if own, _, _ := strings.Cut(a.Objects.Name.At(row), "@"); strings.EqualFold(own, name) && found[place{i, row}] == "" {
				found[place{i, row}] = sameName
			}
		}
	}
	return found
}

// effectiveFor returns what governs one account, and every setting as it holds
// for it.
func effectiveFor(s *govern.Survey, p place) (*govern.Scope, govern.Governing, map[setting.ID]govern.Effective) {
	a := s.Estate.Authorities[p.authority]
	g := s.Resolutions[p.authority].Of(p.row)
	policy := g.Policy
	if policy == nil && g.Rule != govern.Unknown {
		if policy = a.Head; g.At != nil {
			policy = g.At.Head
		}
	}
	scope := s.ScopeUnder(p.authority, policy)
	scope.Rule, scope.Why = g.Rule, g.Why
	if g.At == nil {
		return scope, g, govern.WithFlags(scope.Settings, a, p.row)
	}
	from, _ := s.Resolutions[p.authority].Source(p.row)
	scope.Elsewhere, scope.Way = g.At, g.Way
	s.Settle(scope)
	settings := govern.WithFlags(scope.Settings, g.At, from.Row)
	if g.Way == estate.PasswordHash { // the cloud goes by its own exemption from expiry
		settings[setting.MaxAge] = govern.WithFlags(scope.Settings, a, p.row)[setting.MaxAge]
	}
	return scope, g, settings
}

// addDoors tells of the person's other accounts.
func addDoors(d *contract.TraceDocument, s *govern.Survey, p place) {
	_, _, own := effectiveFor(s, p)
	for at, how := range doors(s, p) {
		a := s.Estate.Authorities[at.authority]
		scope, g, settings := effectiveFor(s, at)
		door := contract.DoorDocument{Authority: a.Name, Kind: string(a.Kind), Account: a.Objects.Name.At(at.row),
			Enabled: a.Objects.FlagsOf(at.row)&estate.Disabled == 0,
			Joined:  how, Policy: scope.PolicyName(), Rule: string(g.Rule), Weaker: []string{}, Evidence: a.CiteOf(at.row).String(),
			Settings: contract.NewSettingDocuments(settings), Own: map[string]*contract.SettingDocument{}}
		if g.At != nil {
			door.Own = contract.NewSettingDocuments(s.OwnSettings(at.authority))
		}
		for _, row := range setting.Table() {
			x, y := settings[row.ID], own[row.ID]
			if x.Missing != govern.Present || y.Missing != govern.Present || govern.Dormant(settings, row.ID) || govern.Dormant(own, row.ID) {
				continue
			}
			if order, ok := row.Compare(x.Value, y.Value); ok && order < 0 {
				door.Weaker = append(door.Weaker, string(row.ID))
			}
		}
		d.Doors = append(d.Doors, door)
	}
	slices.SortFunc(d.Doors, func(x, y contract.DoorDocument) int {
		return cmp.Or(strings.Compare(y.Joined, x.Joined), strings.Compare(x.Authority, y.Authority), strings.Compare(x.Account, y.Account))
	})
}
