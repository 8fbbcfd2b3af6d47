package weigh

import (
	"testing"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/coretest"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// A waiver covers what was accepted, and no more: what got worse since outgrows it.
func TestWaiversAreOutgrown(t *testing.T) {
	const demand = "- {setting: min-length, at-least: 14, severity: serious, why: w.}\n- {setting: max-age, at-most: 90 days, specials: " +
		"{never: fails}, severity: serious, why: w.}\n"
	number := func(n int64) setting.Value { return setting.Number(n) }
	for name, c := range map[string]struct {
		settings string
		on       setting.ID
		waiver   check.Waiver
		want     check.WaiverState
		why      string
	}{
		"the same": {"min-length 8", "min-length", check.Waiver{Kind: check.Weak, Value: number(8), Observed: "8 characters"},
			check.InForce, ""},
		"better": {"min-length 10", "min-length", check.Waiver{Kind: check.Weak, Value: number(8), Observed: "8 characters"},
			check.InForce, ""},
		"worse": {"min-length 7", "min-length", check.Waiver{Kind: check.Weak, Value: number(8), Observed: "8 characters"},
			check.Outgrown, "accepted at 8 characters, now 7 characters"},
		"another kind": {"min-length ?", "min-length", check.Waiver{Kind: check.Weak, Value: number(8)}, check.Outgrown,
			"accepted as weak, now missing"},
		"missing still": {"min-length ?", "min-length", check.Waiver{Kind: check.Missing}, check.InForce, ""},
		"not to be compared": {"max-age never", "max-age", check.Waiver{Kind: check.Weak, Value: number(180 * 86400), Observed: "180 days"},
			check.Outgrown, "accepted at 180 days, now never expires"},
		"neither way, same": {"max-age never", "max-age", check.Waiver{Kind: check.Weak, Value: setting.Of(setting.Never),
			Observed: "never expires"}, check.InForce, ""},
		"withdrawn": {"min-length 8", "min-length", check.Waiver{Kind: check.Weak, Value: number(8), Withdrawn: true}, check.Withdrawn,
			""},
		"over": {"min-length 8", "min-length", check.Waiver{Kind: check.Weak, Value: number(8), Over: true, Until: "2026-06-30"},
			check.Ended, "its last day was 2026-06-30"},
		"of nothing": {"min-length 14", "min-length", check.Waiver{Kind: check.Weak, Value: number(8), Fingerprint: "none"},
			check.Needless, ""},
	} {
		t.Run(name, func(t *testing.T) {
			r := weighed(t, coretest.ScopeWith(t, setting.WindowsMachine, estate.Enforced, c.settings), demand)
			w := c.waiver
			w.Setting = c.on
			for i := range r.Findings {
				if f := &r.Findings[i]; f.Check == "" && f.Settings[0] == c.on && w.Fingerprint == "" {
					w.Fingerprint = f.Fingerprint
				}
			}
			r.Waive([]check.Waiver{w})
			if got := r.Waivers[0]; got.State != c.want || got.Why != c.why {
				t.Errorf("%s %q, want %s %q", got.State, got.Why, c.want, c.why)
			}
			for i := range r.Findings {
				f := &r.Findings[i]
				covered := c.want == check.InForce && f.Fingerprint == w.Fingerprint
				if (f.Kind == check.Waived) != covered || covered && (f.Beneath != w.Kind || f.Waiver != &r.Waivers[0] || f.Found() != w.Kind) {
					t.Errorf("%s: %s, beneath %s", f.Settings[0], f.Kind, f.Beneath)
				}
			}
			for i := range r.Verdicts {
				v := &r.Verdicts[i]
				if covered := c.want == check.InForce && v.Demand.Setting == c.on; (v.Kind == check.Waived) != covered || covered &&
					v.Beneath != w.Kind {
					t.Errorf("verdict on %s: %s, beneath %s", v.Demand.Setting, v.Kind, v.Beneath)
				}
			}
		})
	}
}

// Of a check, a graver finding or more accounts outgrow what was accepted; of two
// waivers on one finding the newer counts.
func TestWaiversOnChecks(t *testing.T) {
	three, two, four := 3, 2, 4
	for name, c := range map[string]struct {
		waiver check.Waiver
		want   check.WaiverState
		why    string
	}{
		"the same":          {check.Waiver{Severity: baseline.Serious, Accounts: &three}, check.InForce, ""},
		"fewer accepted":    {check.Waiver{Severity: baseline.Serious, Accounts: &two}, check.Outgrown, "accepted for 2 accounts, now 3"},
		"one more accepted": {check.Waiver{Severity: baseline.Serious, Accounts: &four}, check.InForce, ""},
		"not counted":       {check.Waiver{Severity: baseline.Serious}, check.InForce, ""},
		"less grave":        {check.Waiver{Severity: baseline.Minor, Accounts: &three}, check.Outgrown, "accepted as minor, now serious"},
		"graver":            {check.Waiver{Severity: baseline.Grave, Accounts: &three}, check.InForce, ""},
	} {
		t.Run(name, func(t *testing.T) {
			f := check.Finding{Fingerprint: "f", Alias: "a", Check: "window-past-duration", Kind: check.Conflicting, Severity: baseline.Serious,
				Accounts: &three}
			r := &Result{Findings: []check.Finding{f}}
			w := c.waiver
			w.Fingerprint, w.Check, w.Kind, w.Entry = "f", f.Check, check.Conflicting, 7
			older := w
			older.Entry = 3
			r.Waive([]check.Waiver{older, w})
			if got := r.Waivers[1]; got.State != c.want || got.Why != c.why {
				t.Errorf("%s %q, want %s %q", got.State, got.Why, c.want, c.why)
			}
			if got := r.Waivers[0]; got.State != check.Overtaken || got.Why != "by entry 7" {
				t.Errorf("the older one: %s %q", got.State, got.Why)
			}
		})
	}
}

// A weak finding of a check is held against its severity, not against a value; a
// missing demand against nothing that could grow.
func TestWhatOutgrows(t *testing.T) {
	two, three := 2, 3
	for name, c := range map[string]struct {
		found  check.Finding
		waiver check.Waiver
		want   check.WaiverState
	}{
		"a weak check": {check.Finding{Check: "empty-password", Kind: check.Weak, Severity: baseline.Grave},
			check.Waiver{Kind: check.Weak, Severity: baseline.Minor, Setting: "min-length", Check: "empty-password"}, check.Outgrown},
		"a missing demand": {check.Finding{Kind: check.Missing, Settings: []setting.ID{"min-length"}, Severity: baseline.Grave, Accounts: &three},
			check.Waiver{Kind: check.Missing, Severity: baseline.Minor, Setting: "min-length", Accounts: &two}, check.InForce},
	} {
		c.found.Fingerprint, c.waiver.Fingerprint = "f", "f"
		other := check.Finding{Fingerprint: "g", Alias: "a", Kind: check.Weak, Settings: []setting.ID{"max-age"}}
		another := other
		another.Fingerprint = "h"
		r := &Result{Findings: []check.Finding{other, c.found, another}}
		r.Waive([]check.Waiver{c.waiver})
		if got := r.Waivers[0]; got.State != c.want {
			t.Errorf("%s: %s, want %s", name, got.State, c.want)
		}
	}
}
