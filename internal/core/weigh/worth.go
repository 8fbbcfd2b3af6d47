package weigh

import (
	"maps"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/exposure"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Value says of each finding what mending it is worth, and how grave that makes it; and of
// each cohort of accounts how exposed it is, now and when all is mended.
func (r *Result) Value(a *exposure.Assumptions, population []exposure.Cohort) {
	m := exposure.NewModel(a, r.Scopes)
	unweighed := map[*estate.Authority]bool{}
	for _, u := range r.Unweighed {
		unweighed[u.Authority] = true
	}
	for i := range population {
		population[i].Unweighed = unweighed[population[i].Scope.Authority]
	}
	r.Population = population
	required := r.required()
	demanded := map[demandedAt]bool{}
	for i := range r.Findings {
		if f := &r.Findings[i]; f.Check == "" {
			demanded[demandedAt{f.Authority, f.Scope, f.Settings[0]}] = true
			demanded[demandedAt{f.Authority, nil, f.Settings[0]}] = true
		}
	}
	mends := make([]*exposure.Mend, len(r.Findings))
	var all []*exposure.Mend
	for i := range r.Findings {
		for _, mend := range mendsOf(&r.Findings[i], required) {
			mends[i], all = mend, append(all, mend)
		}
	}
	cohorts := population
	for i := range r.Findings {
		cohorts = append(cohorts[:len(cohorts):len(cohorts)], r.Findings[i].Unlisted...)
	}
	x := m.Values(cohorts, all)
	for i := range r.Findings {
		f := &r.Findings[i]
		if id := f.Restating(); id != "" && demanded[demandedAt{f.Authority, f.Scope, id}] {
			f.Worth, f.Severity = &exposure.Worth{}, baseline.Minor // the demand's own finding has what it is worth
			continue
		}
		if mends[i] != nil {
			f.Worth = x.Of(mends[i], f.Kind == check.Missing)
		}
		f.Severity = grade(a, f)
	}
	x.Figures(population)
	r.Assumed = a.Changed()
}

type demandedAt struct {
	authority *estate.Authority
	scope     *govern.Scope
	setting   setting.ID
}

// required are, by scope, the values that satisfy all demands that do not hold there.
func (r *Result) required() map[*govern.Scope]map[setting.ID]setting.Value {
	all := map[*govern.Scope]map[setting.ID]setting.Value{}
	for i := range r.Findings {
		f := &r.Findings[i]
		if f.Check != "" || f.Mend == nil {
			continue
		}
		if all[f.Scope] == nil {
			all[f.Scope] = map[setting.ID]setting.Value{}
		}
		maps.Copy(all[f.Scope], f.Mend.Set)
	}
	return all
}

// mendsOf is what mending a finding changes, and where. What is not known of a scope as a
// whole is valued by all that is required there.
func mendsOf(f *check.Finding, required map[*govern.Scope]map[setting.ID]setting.Value) []*exposure.Mend {
	switch {
	case f.Undecided():
		return []*exposure.Mend{{Scopes: []*govern.Scope{f.Scope}, Change: exposure.Change{Set: required[f.Scope]}}}
	case f.Mend != nil && f.Scope != nil:
		return []*exposure.Mend{{Scopes: []*govern.Scope{f.Scope}, Change: *f.Mend}}
	case f.Mend != nil:
		return []*exposure.Mend{{Scopes: f.Scopes, Change: *f.Mend}}
	case f.Kind == check.Missing && f.Scope == nil:
		mend := &exposure.Mend{Change: exposure.Change{Set: map[setting.ID]setting.Value{}}}
		for _, s := range f.Scopes {
			if s.Rule == govern.Unknown || s.Policy == nil {
				mend.Scopes = append(mend.Scopes, s)
				maps.Copy(mend.Change.Set, required[s])
			}
		}
		if len(mend.Scopes) > 0 {
			return []*exposure.Mend{mend}
		}
	}
	return nil
}

// grade is how grave a finding is. An organisation's own severity rules; without a figure
// the document's or the check's does, but nothing is grave only because it is said to be.
func grade(a *exposure.Assumptions, f *check.Finding) baseline.Severity {
	w := f.Worth
	said := f.Severity
	if said == baseline.Grave {
		said = baseline.Serious
	}
	switch {
	case f.Stated:
		return f.Severity
	case w == nil, w.Sum < 0:
		return said
	case w.Class > exposure.ToGuess, w.Hard >= limit(a, exposure.GraveAny), w.HardAdmin >= limit(a, exposure.GravePrivileged):
		return baseline.Grave
	case w.Each >= limit(a, exposure.SeriousAny), w.Admin >= limit(a, exposure.SeriousPrivileged):
		return baseline.Serious
	}
	return baseline.Minor
}

func limit(a *exposure.Assumptions, id exposure.ID) exposure.Millionths {
	return exposure.Millionths(a[id] * float64(exposure.One))
}
