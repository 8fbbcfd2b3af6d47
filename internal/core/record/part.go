package record

import (
	"slices"

	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/exposure"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/weigh"
)

// Part is the record of some of its places, and of nothing else: what is handed to
// somebody who owns only these. Matters keep the names that they have in the whole.
func (r *Record) Part(keep func(*estate.Authority) bool) *Record {
	part := *r
	part.names = map[string]string{}
	for _, m := range r.Matters() {
		part.names[m.Fingerprint] = m.Name
	}
	in := map[*estate.Authority]bool{}
	part.Places, part.Files, part.Written = nil, map[string]string{}, map[string]string{}
	for _, a := range r.Places {
		if in[a] = keep(a); in[a] {
			part.Places = append(part.Places, a)
			for _, file := range a.Files {
				if sum, ok := r.Files[file]; ok {
					part.Files[file], part.Written[file] = sum, r.Written[file]
				}
			}
		}
	}
	scope := func(s *govern.Scope) bool { return in[s.Authority] }
	part.Result = &weigh.Result{Scopes: only(r.Scopes, scope),
		Verdicts:   only(r.Verdicts, func(v weigh.Verdict) bool { return scope(v.Scope) }),
		Findings:   only(r.Findings, func(f check.Finding) bool { return keep(f.Authority) }),
		Idle:       only(r.Idle, func(i weigh.Idle) bool { return scope(i.Scope) }),
		SetAside:   only(r.SetAside, func(a weigh.Aside) bool { return scope(a.Scope) }),
		Population: only(r.Population, func(c exposure.Cohort) bool { return scope(c.Scope) }),
		Assumed:    r.Assumed,
		Unweighed:  only(r.Unweighed, func(u check.Unweighed) bool { return in[u.Authority] }),
	}
	known := map[string]bool{}
	for i := range part.Findings {
		known[part.Findings[i].Fingerprint], known[part.Findings[i].Alias] = true, true
	}
	part.Waivers = only(r.Waivers, func(w check.Waiver) bool { return known[w.Fingerprint] })
	part.Forecasts = only(r.Forecasts, func(f Forecast) bool { return scope(f.Scope) })
	part.Rolls = only(r.Rolls, func(roll *Roll) bool {
		return slices.ContainsFunc(part.Places, func(a *estate.Authority) bool { return a.Place() == roll.Place })
	})
	return &part
}

// only returns what is kept of a list.
func only[T any](all []T, keep func(T) bool) []T {
	return slices.DeleteFunc(slices.Clone(all), func(x T) bool { return !keep(x) })
}
