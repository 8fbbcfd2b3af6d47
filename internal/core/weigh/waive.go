package weigh

import (
	"fmt"

	"sternledger/internal/core/check"
	"sternledger/internal/core/setting"
)

// Waive puts waivers on the findings that they accept. The newest on a finding
// counts.
func (r *Result) Waive(waivers []check.Waiver) {
	r.Waivers = waivers
	newest, steady := map[string]*check.Waiver{}, map[string]*check.Waiver{}
	for i := range waivers {
		w := &waivers[i]
		switch {
		case w.Withdrawn:
			w.State = check.Withdrawn
		case w.Over:
			w.State, w.Why = check.Ended, "its last day was "+w.Until
		default:
			if before := newest[w.Fingerprint]; before != nil {
				before.State, before.Why = check.Overtaken, fmt.Sprintf("by entry %d", w.Entry)
			}
			newest[w.Fingerprint] = w
			if w.Steady != "" {
				steady[w.Steady] = w
			}
			w.State = check.Needless
		}
	}
	aliases, here, called := map[string]int{}, map[string]bool{}, map[string]int{}
	for i := range r.Findings {
		f := &r.Findings[i]
		aliases[f.Alias]++
		if here[f.Fingerprint] = true; len(steady) > 0 {
			called[check.Steady(f)]++
		}
	}
	for i := range r.Findings {
		f := &r.Findings[i]
		w := newest[f.Fingerprint]
		if old := newest[f.Alias]; w == nil && old != nil {
			if aliases[f.Alias] > 1 {
				old.State, old.Why = check.Ambiguous,
					"it was recorded by an earlier version and fits findings of two places of one name: waive the one that is meant anew"
				continue
			}
			w = old
		}
		if w == nil && len(steady) > 0 {
			// Under another name it is the same, unless copies of one machine could be meant, or
			// what was accepted is there under its own name.
			now := check.Steady(f)
			if was := steady[now]; was != nil && called[now] == 1 && !here[was.Fingerprint] {
				w = was
			}
		}
		if w == nil {
			continue
		}
		if w.Mended > 0 {
			w.State, w.Why = check.Lapsed, fmt.Sprintf("weighing %d found it mended, and it is back: accept it anew, or mend it", w.Mended)
			continue
		}
		if why := outgrown(w, f); why != "" {
			w.State, w.Why = check.Outgrown, why
			continue
		}
		w.State = check.InForce
		f.Beneath, f.Kind, f.Waiver = f.Kind, check.Waived, w
		for k := range r.Verdicts {
			v := &r.Verdicts[k]
			if v.Scope == f.Scope && v.Kind != check.Holds && (f.Check == "" && v.Check == "" && v.Demand.Setting == f.Settings[0] ||
				f.Check != "" && v.Check == f.Check) {
				v.Beneath, v.Kind = v.Kind, check.Waived
			}
		}
	}
}

// outgrown says what is worse now than what was accepted; empty for nothing.
func outgrown(w *check.Waiver, f *check.Finding) string {
	may := len(f.Open) > 0 && w.Kind == check.Weak // what only may be demanded is no worse
	switch {
	case f.Kind != w.Kind && !may:
		return fmt.Sprintf("accepted as %s, now %s", w.Kind, f.Kind)
	case f.Check == "" && (f.Kind == check.Weak || may):
		now := f.Scope.Settings[w.Setting].Value
		if order, known := setting.Get(w.Setting).Compare(now, w.Value); known && order < 0 || !known && now != w.Value {
			return fmt.Sprintf("accepted at %s, now %s", w.Observed, f.Observed)
		}
	case f.Check != "" && w.Valued == (f.Worth != nil) && f.Severity.Rank() > w.Severity.Rank():
		return fmt.Sprintf("accepted as %s, now %s", w.Severity, f.Severity)
	case f.Check != "" && f.Accounts != nil && w.Accounts != nil && *f.Accounts > *w.Accounts:
		return fmt.Sprintf("accepted for %d accounts, now %d", *w.Accounts, *f.Accounts)
	}
	return ""
}
