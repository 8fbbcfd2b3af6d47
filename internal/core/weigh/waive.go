package weigh

import (
	"fmt"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/setting"
)

// Waived is the verdict on what was knowingly accepted.
const Waived Kind = "waived"

// Waiver is an accepted exception: one finding as it was when it was accepted.
type Waiver struct {
	Entry       int64 // of the ledger
	At, By      string
	Fingerprint string
	Scope       string
	Check       string
	Setting     setting.ID // of a demand's finding
	Kind        Kind
	Severity    baseline.Severity
	Observed    string
	Value       setting.Value // of the setting, where a demand's finding was accepted
	Accounts    *int          // concerned by a check's finding
	Until       string        // the last day, as 2006-01-02
	Reason      string
	Over        bool // the last day is past
	Withdrawn   bool

	State WaiverState
	Why   string // it does not hold
}

// WaiverState says whether a waiver holds.
type WaiverState string

// The states.
const (
	InForce   WaiverState = "in force"
	Ended     WaiverState = "ended"      // its last day is past
	Withdrawn WaiverState = "withdrawn"  //
	Outgrown  WaiverState = "outgrown"   // what is observed got worse than what was accepted
	Needless  WaiverState = "not needed" // there is no such finding any more
	Ambiguous WaiverState = "ambiguous"  // it is of an earlier version, and could mean findings of two places
	Overtaken WaiverState = "taken over" // by a newer one on the same finding
)

// Waive puts waivers on the findings that they accept. The newest on a finding
// counts.
func (r *Result) Waive(waivers []Waiver) {
	r.Waivers = waivers
	newest := map[string]*Waiver{}
	for i := range waivers {
		w := &waivers[i]
		switch {
		case w.Withdrawn:
			w.State = Withdrawn
		case w.Over:
			w.State, w.Why = Ended, "its last day was "+w.Until
		default:
			if before := newest[w.Fingerprint]; before != nil {
				before.State, before.Why = Overtaken, fmt.Sprintf("by entry %d", w.Entry)
			}
			newest[w.Fingerprint] = w
			w.State = Needless
		}
	}
	aliases := map[string]int{}
	for i := range r.Findings {
		aliases[r.Findings[i].Alias]++
	}
	for i := range r.Findings {
		f := &r.Findings[i]
		w := newest[f.Fingerprint]
		if old := newest[f.Alias]; w == nil && old != nil {
			if aliases[f.Alias] > 1 {
				old.State, old.Why = Ambiguous, "it was recorded by an earlier version and fits findings of two places of one name: waive the one that is meant anew"
				continue
			}
			w = old
		}
		if w == nil {
			continue
		}
		if why := w.outgrown(f); why != "" {
			w.State, w.Why = Outgrown, why
			continue
		}
		w.State = InForce
		f.Beneath, f.Kind, f.Waiver = f.Kind, Waived, w
		for k := range r.Verdicts {
			v := &r.Verdicts[k]
			if v.Scope == f.Scope && v.Kind != Holds && (f.Check == "" && v.Check == "" && v.Demand.Setting == f.Settings[0] || f.Check != "" && v.Check == f.Check) {
				v.Beneath, v.Kind = v.Kind, Waived
			}
		}
	}
}

// outgrown says what is worse now than what was accepted; empty for nothing.
func (w *Waiver) outgrown(f *Finding) string {
	switch {
	case f.Kind != w.Kind:
		return fmt.Sprintf("accepted as %s, now %s", w.Kind, f.Kind)
	case f.Check == "" && f.Kind == Weak:
		now := f.Scope.Settings[w.Setting].Value
		if order, known := setting.Get(w.Setting).Compare(now, w.Value); known && order < 0 || !known && now != w.Value {
			return fmt.Sprintf("accepted at %s, now %s", w.Observed, f.Observed)
		}
	case f.Check != "" && f.Severity.Rank() > w.Severity.Rank():
		return fmt.Sprintf("accepted as %s, now %s", w.Severity, f.Severity)
	case f.Check != "" && f.Accounts != nil && w.Accounts != nil && *f.Accounts > *w.Accounts:
		return fmt.Sprintf("accepted for %d accounts, now %d", *w.Accounts, *f.Accounts)
	}
	return ""
}
