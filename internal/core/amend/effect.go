package amend

import (
	"fmt"
	"slices"
	"strings"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/weigh"
)

// WithFirst are the amendment and all that have to come before it.
func (a *Amendment) WithFirst() []*Amendment {
	var all []*Amendment
	var put func(a *Amendment)
	put = func(a *Amendment) {
		if slices.Contains(all, a) {
			return
		}
		for _, f := range a.First {
			put(f)
		}
		all = append(all, a)
	}
	put(a)
	return all
}

// Compare returns the findings that end from one weighing to another, and those that
// appear.
func Compare(before, after *weigh.Result) (ended []*check.Finding, appeared []check.Finding) {
	open := func(r *weigh.Result) map[string]bool {
		all := map[string]bool{}
		for i := range r.Findings {
			if f := &r.Findings[i]; f.Kind != check.Waived {
				all[f.Fingerprint] = true
			}
		}
		return all
	}
	was, is := open(before), open(after)
	for i := range before.Findings {
		if f := &before.Findings[i]; f.Kind != check.Waived && !is[f.Fingerprint] {
			ended = append(ended, f)
		}
	}
	for i := range after.Findings {
		if f := &after.Findings[i]; f.Kind != check.Waived && !was[f.Fingerprint] {
			appeared = append(appeared, *f)
		}
	}
	return ended, appeared
}

// Worse names the verdicts that get worse from one weighing to another.
func Worse(before, after *weigh.Result) (all []string) {
	type demanded struct {
		scope    govern.ScopeID
		setting  setting.ID
		baseline string
		ref      string
		text     string
	}
	key := func(v *weigh.Verdict) demanded {
		return demanded{v.Scope.ID(), v.Demand.Setting, v.Baseline.ID, v.Demand.Ref, v.Demand.Text()}
	}
	was := map[demanded]check.Kind{}
	for i := range before.Verdicts {
		was[key(&before.Verdicts[i])] = before.Verdicts[i].Kind
	}
	for i := range after.Verdicts {
		v := &after.Verdicts[i]
		if old, ok := was[key(v)]; ok && v.Kind.Rank() > old.Rank() {
			all = append(all, fmt.Sprintf("%s, %s (%s): %s, now %s", v.Scope.Name(), setting.Get(v.Demand.Setting).Title,
				strings.TrimSpace(v.Baseline.ID+" "+v.Demand.Ref),
				v.Kind, old))
		}
	}
	return all
}

// Seen notes what weighing anew, with the amendment alone, showed.
func (a *Amendment) Seen(ended []*check.Finding, appeared []check.Finding, worse []string) {
	a.Settles, a.Brings, a.Worse = ended, appeared, worse
	a.grade()
}

// Part takes out what makes a verdict worse, though it settles others: a person
// decides that. What does not hold without it goes too.
func (p *Plan) Part() {
	out := map[*Amendment]bool{}
	for _, a := range p.Amendments {
		if len(a.Worse) > 0 {
			out[a] = true
			p.Decisions = append(p.Decisions, &Decision{Title: fmt.Sprintf("%s of %s to %s: it would make another verdict worse", a.Title(),
				a.Spots[0].Policy(), a.Becomes()), Choices: a.Worse[0] + ". Decide which baseline to follow.", Findings: a.Settles,
				Severity: a.Severity})
		}
	}
	for more := len(out) > 0; more; {
		more = false
		for _, a := range p.Amendments {
			if !out[a] && slices.ContainsFunc(a.First, func(f *Amendment) bool { return out[f] }) {
				out[a], more = true, true
			}
		}
	}
	p.Amendments = slices.DeleteFunc(p.Amendments, func(a *Amendment) bool { return out[a] })
}

// Seen notes what weighing anew with all amendments showed: what they end, and what
// they leave to be decided or to be collected.
func (p *Plan) Seen(before *weigh.Result, ended []*check.Finding, appeared []check.Finding) {
	p.Settled, p.Brings = len(ended), appeared
	decided, over := map[*check.Finding]bool{}, map[*check.Finding]bool{}
	for _, f := range ended {
		over[f] = true
	}
	for _, d := range p.Decisions {
		d.Findings = slices.DeleteFunc(slices.Clone(d.Findings), func(f *check.Finding) bool { return over[f] })
	}
	p.Decisions = slices.DeleteFunc(p.Decisions, func(d *Decision) bool { return len(d.Findings) == 0 })
	for _, d := range p.Decisions {
		for _, f := range d.Findings {
			decided[f] = true
		}
	}
	by := map[string]*Decision{}
	for i := range before.Findings {
		f := &before.Findings[i]
		switch {
		case f.Kind == check.Waived, decided[f], over[f]:
			continue
		case f.Kind == check.Missing:
			p.Evidence = append(p.Evidence, f)
			continue
		}
		title := f.Title()
		if f.Check == "" {
			title += ": it stays, though it is amended where it is set"
		}
		d := by[title]
		if d == nil {
			d = &Decision{Title: title, Choices: f.Remedy, Severity: baseline.Minor}
			by[title] = d
			p.Decisions = append(p.Decisions, d)
		}
		d.add(f)
	}
	p.sortDecisions()
}
