package drift

import (
	"cmp"
	"slices"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"strings"
)

// Renamed is the way of a place or policy that has another name now.
const Renamed Way = "renamed"

// renamed gives places and policies of the earlier record the names that they have in the
// later one, by what stays the same: SID, machine-id, GUID. Where two could be meant, such as
// copies of one machine, none is.
func (r *Report) renamed() {
	changed, moved := map[*estate.Authority]bool{}, map[estate.Place]bool{}
	for was, is := range pairs(r.Before.Places, r.After.Places, (*estate.Authority).Place, func(a *estate.Authority) string {
		if id := a.Identity(); id != "" {
			return string(a.Kind) + " " + id
		}
		return ""
	}) {
		r.Renamed = append(r.Renamed, Change{Way: Renamed, What: string(was.Kind), Before: was.Name, After: is.Name})
		at := was.Place()
		was.Name, changed[was], moved[is.Place()] = is.Name, true, true
		for _, roll := range r.Before.Rolls {
			if roll.Place == at {
				roll.Place = was.Place()
			}
		}
	}
	type under struct {
		at estate.Place
		id govern.PolicyID
	}
	policies := func(s *State) []*govern.Scope {
		seen := map[*estate.Policy]bool{}
		var all []*govern.Scope
		for _, scope := range s.Scopes {
			if scope.Policy != nil && !seen[scope.Policy] {
				seen[scope.Policy] = true
				all = append(all, scope)
			}
		}
		return all
	}
	another := map[*estate.Policy]bool{}
	for was, is := range pairs(policies(&r.Before), policies(&r.After),
		func(s *govern.Scope) under { return under{s.Authority.Place(), s.Under()} },
		func(s *govern.Scope) string {
			switch {
			case s.Policy.GUID != estate.GUID{} && s.Policy.VariantOf == "":
				return s.Authority.Label() + " " + s.Policy.GUID.String()
			case moved[s.Authority.Place()]: // its path or DN goes with the place
				return s.Authority.Label() + " " + s.PolicyName()
			}
			return ""
		}) {
		if was.Policy.Name == is.Policy.Name {
			was.Policy.Origin, another[was.Policy] = is.Policy.Origin, true
			continue
		}
		r.Renamed = append(r.Renamed, Change{Way: Renamed, What: "policy of " + is.Authority.Label(), Before: was.Policy.Name, After: is.Policy.Name})
		was.Policy.Name, was.Policy.Origin, another[was.Policy] = is.Policy.Name, is.Policy.Origin, true
	}
	if len(r.Renamed) == 0 {
		return
	}
	slices.SortFunc(r.Renamed, func(x, y Change) int {
		return cmp.Or(strings.Compare(x.What, y.What), strings.Compare(x.Before, y.Before))
	})
	for i := range r.Before.Result.Findings {
		f := &r.Before.Result.Findings[i]
		if changed[f.Authority] || f.Scope != nil && another[f.Scope.Policy] {
			f.Fingerprint = check.Fingerprint(f)
		}
	}
}

// pairs are those of the earlier and the later that have another key and one identity, where
// only one on each side has it.
func pairs[T any, K comparable](before, after []*T, key func(*T) K, identity func(*T) string) map[*T]*T {
	there := func(all []*T) (keys map[K]bool) {
		keys = map[K]bool{}
		for _, x := range all {
			keys[key(x)] = true
		}
		return keys
	}
	alone := func(all []*T, not map[K]bool) map[string]*T {
		of, count := map[string]*T{}, map[string]int{}
		for _, x := range all {
			if id := identity(x); id != "" {
				if count[id]++; !not[key(x)] {
					of[id] = x
				}
			}
		}
		for id := range of {
			if count[id] > 1 {
				delete(of, id)
			}
		}
		return of
	}
	gone, come := alone(before, there(after)), alone(after, there(before))
	all := map[*T]*T{}
	for id, was := range gone {
		if is := come[id]; is != nil {
			all[was] = is
		}
	}
	return all
}
