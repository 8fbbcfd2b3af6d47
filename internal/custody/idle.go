package custody

import (
	"maps"
	"path"
	"slices"
	"strings"

	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/strictyaml"
)

// namesObjects are the columns that hold what the engagement names: of a million accounts
// none is read where nobody asks.
func (c *Config) namesObjects() []string {
	if slices.ContainsFunc(c.Tiers, func(t Tier) bool { return len(t.Groups)+len(t.Accounts)+len(t.Units) > 0 }) {
		return []string{"class", "name", "rdn", "parent"}
	}
	return nil
}

// Named are the facts on record now, with what the engagement names.
func (e *Engagement) Named() (*estate.Estate, error) { return e.Estate(e.Config.namesObjects()...) }

// Idle are the names in engagement.yaml that fit nothing in the evidence.
func (c *Config) Idle(facts *estate.Estate) (idle []check.IdleName) {
	var places, groups, accounts, units []string
	policies := map[string]bool{}
	for _, a := range facts.Authorities {
		places = append(places, a.Name, a.Place().String())
		for i := range a.Overrides {
			policies[estate.NormalDN(a.Overrides[i].Origin)] = true
		}
	}
	if len(c.namesObjects()) > 0 {
		for _, a := range facts.Authorities {
			for row := range a.Objects.Len() {
				switch a.Objects.ClassOf(row) {
				case estate.Group:
					groups = append(groups, a.Objects.Name.At(row), estate.NameOf(a.Objects.RDN.At(row)), a.DN(row))
				case estate.Account:
					accounts = append(accounts, a.Objects.Name.At(row))
				}
			}
			for _, parent := range a.Parents {
				for rest := parent; rest != ""; {
					at := rest
					var first string
					first, rest = estate.SplitDN(rest)
					units = append(units, at, estate.NameOf(first))
				}
			}
		}
	}
	fits := func(word string, all []string) bool {
		low := strings.ToLower(word)
		return slices.ContainsFunc(all, func(name string) bool {
			ok, _ := path.Match(low, strings.ToLower(name))
			return name != "" && (ok || strings.EqualFold(word, name) || strings.Contains(word, "=") && estate.NormalDN(word) == estate.NormalDN(name))
		})
	}
	look := func(as, word string, all []string) {
		if !fits(word, all) {
			const mostCompared = 5000 // names, for the nearest of them
			idle = append(idle, check.IdleName{As: as, Name: word, Nearest: strictyaml.Nearest(word, all[:min(len(all), mostCompared)])})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(c.Authorities)) {
		look("a place under authorities", name, places)
		if dn := c.Authorities[name].DefaultPolicy.Value; dn != "" && !policies[estate.NormalDN(dn)] {
			idle = append(idle, check.IdleName{As: "the default policy of " + name, Name: dn})
		}
	}
	tiers := []string{govern.Standard, govern.Privileged, govern.Service}
	for _, t := range c.Tiers {
		tiers = append(tiers, t.Name)
	}
	for _, a := range c.Applies {
		for _, name := range a.Authorities {
			look("a place under applies", name.Value, places)
		}
		for _, name := range a.Tiers {
			look("a tier under applies", name.Value, tiers)
		}
	}
	for _, t := range c.Tiers {
		for _, g := range t.Groups {
			look("a group of the tier "+t.Name, g, groups)
		}
		for _, a := range t.Accounts {
			look("an account of the tier "+t.Name, a, accounts)
		}
		for _, u := range t.Units {
			look("a unit of the tier "+t.Name, u, units)
		}
	}
	return idle
}
