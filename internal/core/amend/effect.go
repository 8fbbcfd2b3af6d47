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
	// What is demanded for certain, and what may be, are two things, though of one name.
	type about struct {
		fingerprint string
		may         bool
	}
	of := func(f *check.Finding) about { return about{f.Fingerprint, len(f.Open) > 0} }
	open := func(r *weigh.Result) map[about]bool {
		all := map[about]bool{}
		for i := range r.Findings {
			if f := &r.Findings[i]; f.Kind != check.Waived {
				all[of(f)] = true
			}
		}
		return all
	}
	was, is := open(before), open(after)
	for i := range before.Findings {
		if f := &before.Findings[i]; f.Kind != check.Waived && !is[of(f)] {
			ended = append(ended, f)
		}
	}
	for i := range after.Findings {
		if f := &after.Findings[i]; f.Kind != check.Waived && !was[of(f)] {
			appeared = append(appeared, *f)
		}
	}
	return ended, appeared
}

// Worsening is a verdict that gets worse from one weighing to another.
type Worsening struct {
	Scope   *govern.Scope
	Setting setting.ID
	Text    string
}

// Texts are worsenings in words.
func Texts(all []Worsening) (texts []string) {
	for _, w := range all {
		texts = append(texts, w.Text)
	}
	return texts
}

// Worse names the verdicts that get worse from one weighing to another.
func Worse(before, after *weigh.Result) (all []Worsening) {
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
			all = append(all, Worsening{v.Scope, v.Demand.Setting, fmt.Sprintf("%s, %s (%s): %s, now %s", v.Scope.Name(),
				setting.Get(v.Demand.Setting).Title, strings.TrimSpace(v.Baseline.ID+" "+v.Demand.Ref), v.Kind, old)})
		}
	}
	return all
}

// Seen notes what weighing anew, with the amendment alone, showed.
func (a *Amendment) Seen(ended []*check.Finding, appeared []check.Finding, worse []Worsening) {
	a.Settles, a.Brings, a.Worse = ended, appeared, Texts(worse)
	a.grade()
}

// Part takes out what makes a verdict worse, though it settles others: a person
// decides that. What does not hold without it goes too.
func (p *Plan) Part() {
	var out []*Amendment
	for _, a := range p.Amendments {
		if len(a.Worse) > 0 {
			out = append(out, a)
		}
	}
	p.Leave(out)
}

// Leave takes amendments out of the plan that make a verdict worse, with all that needs
// them, and makes decisions of them.
func (p *Plan) Leave(all []*Amendment) {
	out := map[*Amendment]bool{}
	for _, a := range all {
		for _, x := range p.Needing(a) {
			out[x] = true
		}
		worse := "It makes other verdicts worse"
		if len(a.Worse) > 0 {
			worse = a.Worse[0]
		}
		p.Decisions = append(p.Decisions, &Decision{Title: fmt.Sprintf("%s of %s to %s: it would make another verdict worse", a.Title(),
			a.Spots[0].Policy(), a.Becomes()), Choices: worse + ". Decide which baseline to follow.", Findings: a.Settles,
			Severity: a.Severity})
	}
	p.Amendments = slices.DeleteFunc(p.Amendments, func(a *Amendment) bool {
		if out[a] {
			p.Out = append(p.Out, Out{a, "it would make another verdict worse, so that a person has to decide"})
		}
		return out[a]
	})
}

// Needing are an amendment and all that do not hold without it.
func (p *Plan) Needing(a *Amendment) []*Amendment {
	all := []*Amendment{a}
	for i := 0; i < len(all); i++ {
		for _, b := range p.Amendments {
			if slices.Contains(b.First, all[i]) && !slices.Contains(all, b) {
				all = append(all, b)
			}
		}
	}
	return all
}

// Idle are the amendments that settle nothing alone, and that no other needs.
func (p *Plan) Idle() (all []*Amendment) {
	for _, a := range p.Amendments {
		if len(a.Settles) == 0 && len(p.Needing(a)) == 1 {
			all = append(all, a)
		}
	}
	return all
}

// Drop takes an amendment out of the plan that settles nothing.
func (p *Plan) Drop(a *Amendment) {
	p.Amendments = slices.DeleteFunc(p.Amendments, func(b *Amendment) bool { return a == b })
	p.Out = append(p.Out, Out{a, "it settles nothing once it is weighed anew"})
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
	held := map[*check.Finding]bool{}
	for _, a := range p.Amendments {
		if len(a.Back()) > 0 {
			for _, f := range a.Settles {
				held[f] = true
			}
		}
	}
	by := map[string]*Decision{}
	for i := range before.Findings {
		f := &before.Findings[i]
		switch {
		case f.Kind == check.Waived, decided[f], over[f]:
			continue
		case held[f]:
			p.Held = append(p.Held, f)
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
