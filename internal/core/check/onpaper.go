package check

import (
	"fmt"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Held gives a check the effective values of a scope.
type Held struct{ scope *govern.Scope }

// Value returns a setting's effective value; not set where it is missing.
func (h Held) Value(id setting.ID) setting.Value {
	e := h.scope.Settings[id]
	if e.Missing != govern.Present {
		return setting.Value{}
	}
	return e.Value
}

// Number returns a setting's effective number.
func (h Held) Number(id setting.ID) (int64, bool) { return h.Value(id).Number() }

// Text prints a setting's effective value for people.
func (h Held) Text(id setting.ID) string { return setting.Get(id).Text(h.Value(id)) }

// LengthLimited reports whether the scope's policy is one whose length Windows
// caps at 14 unless the limit is relaxed. A fine-grained policy is not.
func (h Held) LengthLimited() bool {
	p := h.scope.Policy
	return p != nil && p.Standing != estate.Override && setting.Get(setting.LengthLimitRelaxed).Exists(h.scope.Authority.Platform)
}

const shortLimit = 14 // characters; more needs the relaxed limit on Windows

// coreChecks find what makes other settings hold on paper only.
var coreChecks = []Check{
	{
		Name: "history-run-through", Title: "The password history can be run through in minutes",
		Kind: Conflicting, Severity: baseline.Serious,
		Sets: map[setting.ID]setting.Value{setting.MinAge: setting.Number(24 * 60 * 60)}, Restates: true, Of: setting.MinAge,
		Doc:     "A history without a minimum age can be run through in minutes, back to the old password.",
		Reads:   []setting.ID{setting.History, setting.MinAge},
		Defeats: []setting.ID{setting.History},
		Run: between(func(h Held) (string, string) {
			n, ok := h.Number(setting.History)
			if !ok || n == 0 || !h.Value(setting.MinAge).Is(setting.AtOnce) {
				return "", ""
			}
			return fmt.Sprintf("back on the old password after 0 days: history %d, minimum age at once", n),
				fmt.Sprintf("Set a minimum age of 1 day; the way back then takes at least %d days.", n)
		}),
	},
	{
		Name: "age-order", Title: "Passwords expire before they may be changed",
		Kind: Conflicting, Severity: baseline.Serious,
		Doc:     "A minimum age that is not below the maximum age leaves no time in which a password can be changed before it expires.",
		Reads:   []setting.ID{setting.MinAge, setting.MaxAge},
		Defeats: []setting.ID{setting.MinAge, setting.MaxAge},
		Run: between(func(h Held) (string, string) {
			low, okLow := h.Number(setting.MinAge)
			high, okHigh := h.Number(setting.MaxAge)
			if !okLow || !okHigh || low < high {
				return "", ""
			}
			return fmt.Sprintf("the minimum age of %s is not below the maximum age of %s: a password expires before its user may change it",
					h.Text(setting.MinAge), h.Text(setting.MaxAge)),
				"Set the minimum age below the maximum age; 1 day is enough to protect the history."
		}),
	},
	{
		Name: "lockout-dormant", Title: "Lockout settings do nothing: no number of failures locks",
		Kind: Conflicting, Severity: baseline.Serious,
		Restates: true, Of: setting.LockoutThreshold,
		Doc:     "A lockout duration or window does nothing while no number of failed attempts locks an account.",
		Reads:   []setting.ID{setting.LockoutThreshold, setting.LockoutDuration, setting.LockoutWindow},
		Defeats: []setting.ID{setting.LockoutDuration, setting.LockoutWindow, setting.LockoutAdministrator},
		Run: between(func(h Held) (string, string) {
			if !h.Value(setting.LockoutThreshold).Is(setting.Never) || !h.Value(setting.LockoutDuration).IsSet() && !h.Value(setting.LockoutWindow).IsSet() {
				return "", ""
			}
			return fmt.Sprintf("no number of failed attempts locks an account, so the lockout duration (%s) and window (%s) do nothing",
					h.Text(setting.LockoutDuration), h.Text(setting.LockoutWindow)),
				"Set a lockout threshold; until then the other lockout settings are only on paper."
		}),
	},
	{
		Name: "window-at-once", Title: "Nothing locks: the lockout window is 0",
		Kind: Conflicting, Severity: baseline.Grave,
		Sets:    map[setting.ID]setting.Value{setting.LockoutWindow: setting.Number(15 * 60)},
		Doc:     "A lockout window of 0 makes every failure start the count again: whatever the threshold, nothing locks.",
		Reads:   []setting.ID{setting.LockoutWindow, setting.LockoutThreshold},
		Defeats: []setting.ID{setting.LockoutThreshold, setting.LockoutDuration, setting.LockoutAdministrator},
		Run: between(func(h Held) (string, string) {
			n, ok := h.Number(setting.LockoutThreshold)
			if !ok || n <= 1 || !h.Value(setting.LockoutWindow).Is(setting.AtOnce) {
				return "", ""
			}
			return fmt.Sprintf("the lockout window is 0, so that every failure starts the count again at 1: the threshold of %d is "+
					"never met, and nothing locks", n),
				"Set the lockout window to 15 minutes or more."
		}),
	},
	{
		Name: "length-capped", Title: "Windows holds the minimum length to 14 characters",
		Kind: Conflicting, Severity: baseline.Serious,
		Doc:     "Windows asks for no more than 14 characters unless the length limit is relaxed.",
		Reads:   []setting.ID{setting.MinLength, setting.LengthLimitRelaxed},
		Defeats: []setting.ID{setting.MinLength},
		Run: between(func(h Held) (string, string) {
			n, ok := h.Number(setting.MinLength)
			if !ok || n <= shortLimit || h.Value(setting.LengthLimitRelaxed) != setting.Off || !h.LengthLimited() {
				return "", ""
			}
			return fmt.Sprintf("a minimum length of %d is required, but the length limit is not relaxed: Windows enforces %d", n, shortLimit),
				"Set RelaxMinimumPasswordLengthLimits to 1 as well."
		}),
	},
	{
		Name: "length-cap-unseen", Title: "Whether more than 14 characters can be enforced was not exported",
		Kind: Missing, Severity: baseline.Minor,
		Doc:   "More than 14 characters are required, and the evidence does not show whether the length limit is relaxed.",
		Reads: []setting.ID{setting.MinLength, setting.LengthLimitRelaxed},
		Run: between(func(h Held) (string, string) {
			n, ok := h.Number(setting.MinLength)
			if !ok || n <= shortLimit || h.Value(setting.LengthLimitRelaxed).IsSet() || !h.LengthLimited() {
				return "", ""
			}
			return fmt.Sprintf("a minimum length of %d takes effect only with the relaxed length limit, which the evidence does not show", n),
				"Collect RelaxMinimumPasswordLengthLimits from the domain's controllers or from the machine's own export."
		}),
	},
}
