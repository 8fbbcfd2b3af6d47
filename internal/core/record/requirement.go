package record

import (
	"slices"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/weigh"
)

// State says how far a requirement is met.
type State string

// The states, the best first.
const (
	Met         State = "met"
	Accepted    State = "accepted"     // where it is not, the risk was accepted
	PartlyMet   State = "partly met"   // in some scopes it is, in others it is not
	NotMet      State = "not met"      // wherever it can be told
	NotKnown    State = "not known"    // evidence is missing, and nothing that is known fails it
	NotAssessed State = "not assessed" // of no place in evidence, or a decision set it aside
)

// States are all of them, in their order.
var States = []State{Met, Accepted, PartlyMet, NotMet, NotKnown, NotAssessed}

// Tally counts the verdicts on the scopes that a requirement is about, one for each demand and scope.
type Tally struct {
	Met, Failed, Unknown, Accepted int
	Accounts                       int // enabled ones in scopes that fail it; those that no evidence lists are not counted

	failing map[*govern.Scope]bool
}

func (t *Tally) add(v *weigh.Verdict) {
	switch v.Kind {
	case check.Holds:
		t.Met++
	case check.Missing:
		t.Unknown++
	case check.Waived:
		t.Accepted++
	default:
		t.Failed++
		if t.failing == nil {
			t.failing = map[*govern.Scope]bool{}
		}
		if !t.failing[v.Scope] && v.Scope.Listed() {
			t.Accounts += v.Scope.Enabled
		}
		t.failing[v.Scope] = true
	}
}

// State is what the counts come to.
func (t *Tally) State() State {
	switch {
	case t.Failed > 0 && t.Met+t.Accepted > 0:
		return PartlyMet
	case t.Failed > 0:
		return NotMet
	case t.Unknown > 0:
		return NotKnown
	case t.Accepted > 0:
		return Accepted
	case t.Met > 0:
		return Met
	}
	return NotAssessed
}

// Requirement is a section of a baseline, with what it comes to over all scopes that it is about.
type Requirement struct {
	Baseline *baseline.Baseline
	Ref      string // empty: demands that name no section
	Settings []setting.ID
	Tally
	By      []PlatformTally
	Matters []string // by which it is not met, or not known
}

// PlatformTally is what a requirement comes to on the places of one platform.
type PlatformTally struct {
	Platform setting.Platform
	Tally
}

// Requirements tells of every section of the baselines that were weighed against, in the order of
// the baselines and of their demands. It counts verdicts and judges nothing itself.
func (r *Record) Requirements() []*Requirement {
	type section struct{ id, ref string }
	by := map[section]*Requirement{}
	var all []*Requirement
	of := func(b *baseline.Baseline, d *baseline.Demand) *Requirement {
		key := section{b.ID, d.Ref}
		x := by[key]
		if x == nil {
			x = &Requirement{Baseline: b, Ref: d.Ref}
			by[key], all = x, append(all, x)
		}
		if !slices.Contains(x.Settings, d.Setting) {
			x.Settings = append(x.Settings, d.Setting)
		}
		return x
	}
	for _, b := range r.Baselines {
		for i := range b.Demands {
			of(b, &b.Demands[i])
		}
	}
	for i := range r.Verdicts {
		v := &r.Verdicts[i]
		x := of(v.Baseline, v.Demand)
		x.add(v)
		platform := v.Scope.Authority.Platform
		at := slices.IndexFunc(x.By, func(p PlatformTally) bool { return p.Platform == platform })
		if at < 0 {
			at, x.By = len(x.By), append(x.By, PlatformTally{Platform: platform})
		}
		x.By[at].add(v)
	}
	for _, m := range r.Matters() {
		for _, f := range m.Findings {
			if f.Kind == check.Waived {
				continue
			}
			for _, s := range f.Baselines {
				if x := by[section{s.ID, s.Ref}]; x != nil && !slices.Contains(x.Matters, m.Name) {
					x.Matters = append(x.Matters, m.Name)
				}
			}
		}
	}
	return all
}
