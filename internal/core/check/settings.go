package check

import (
	"fmt"
	"math"
	"strings"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/forecast"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Figures that the checks below go by. Each says where it comes from.
const (
	day          = 24 * 60 * 60
	weekend      = 62 * 60 * 60 // Friday evening to Monday morning, in seconds
	manyGuesses  = 1000         // as many as lists of common passwords begin with; for one account in a weekend
	oftenChanged = 60 * day     // faster than this, people count up (NIST SP 800-63B, appendix on strength, tells why)
	shortWhole   = 8            // characters: below, every password of all 95 kinds can be tried on a stolen hash
	longPhrase   = 64           // characters that should be accepted (NIST SP 800-63B-4, 3.1.1.2)
)

// furtherChecks find settings that undermine one another.
var furtherChecks = []Check{
	{
		Name: "window-over-duration", Title: "Accounts unlock while their failures still count",
		Kind: Conflicting, Severity: baseline.Minor,
		Doc: "A lockout window that is longer than the duration: an account opens again while its failures still count, and the " +
			"next failure locks it anew.",
		Reads:   []setting.ID{setting.LockoutWindow, setting.LockoutDuration},
		Defeats: []setting.ID{setting.LockoutWindow},
		Run: between(func(h Held) (string, string) {
			window, okW := h.Number(setting.LockoutWindow)
			duration, okD := h.Number(setting.LockoutDuration)
			if !okW || !okD || window <= duration || h.Value(setting.LockoutThreshold).Is(setting.Never) {
				return "", ""
			}
			return fmt.Sprintf("a lock ends after %s, and failures count for %s: after unlocking, one more mistake locks the account again",
					h.Text(setting.LockoutDuration), h.Text(setting.LockoutWindow)),
				"Set the lockout window no longer than the duration."
		}),
	},
	{
		Name: "audit-length-idle", Title: "The audited length never logs anything",
		Kind: Conflicting, Severity: baseline.Minor,
		Doc:   "An audited length that is not above the enforced one never logs anything.",
		Reads: []setting.ID{setting.MinLengthAudit, setting.MinLength},
		Run: between(func(h Held) (string, string) {
			audited, okA := h.Number(setting.MinLengthAudit)
			enforced, okE := h.Number(setting.MinLength)
			if !okA || !okE || audited == 0 || audited > enforced {
				return "", ""
			}
			return fmt.Sprintf("passwords below %d characters are to be logged, and those below %d are refused: nothing is ever logged",
					audited, enforced),
				"Set the audited length above the enforced one, or take it away."
		}),
	},
	{
		Name: "audit-only", Title: "Banned words are logged and accepted",
		Kind: Conflicting, Severity: baseline.Serious,
		Sets:  map[setting.ID]setting.Value{setting.BannedList: setting.On},
		Doc:   "A list of banned words that only logs refuses nothing.",
		Reads: []setting.ID{setting.DictionaryCheck, setting.Blocklist, setting.DirectoryBlocklistMode},
		Run: between(func(h Held) (string, string) {
			var only []string
			for _, id := range []setting.ID{setting.DictionaryCheck, setting.Blocklist, setting.DirectoryBlocklistMode} {
				if h.Value(id) == setting.Word("audit") {
					only = append(only, strings.ToLower(setting.Get(id).Title))
				}
			}
			if len(only) == 0 {
				return "", ""
			}
			return strings.Join(only, " and ") + ": audit only, so a banned password is logged and accepted",
				"Look through what was logged, and enforce the list."
		}),
	},
	{
		Name: "complexity-too-short", Title: "Complexity at a length that can be tried in full",
		Kind: Conflicting, Severity: baseline.Serious,
		Restates: true, Of: setting.MinLength,
		Doc:     "Complexity with so short a length that it adds nothing: every password can be tried.",
		Reads:   []setting.ID{setting.Complexity, setting.MinLength},
		Defeats: []setting.ID{setting.Complexity},
		Run: between(func(h Held) (string, string) {
			n, ok := h.Number(setting.MinLength)
			if !ok || n >= shortWhole || h.Value(setting.Complexity) != setting.On {
				return "", ""
			}
			least := max(n, 3) // three kinds of characters take three
			seconds := math.Pow(95, float64(least)) / forecast.Usual.OfflineRate
			return fmt.Sprintf("complexity is demanded of passwords of %d characters: all of them can be tried on a stolen hash in %s, "+
					"whatever kinds they are of", least, roughly(seconds)),
				fmt.Sprintf("Ask for length first: at least %d characters.", shortWhole)
		}),
	},
	{
		Name: "changed-too-often", Title: "Passwords change so often that people count them up",
		Kind: Conflicting, Severity: baseline.Minor,
		Doc:   "A change is forced faster than every 60 days, together with complexity: users just add one to the old password.",
		Reads: []setting.ID{setting.MaxAge, setting.Complexity},
		Run: between(func(h Held) (string, string) {
			age, ok := h.Number(setting.MaxAge)
			if !ok || age >= oftenChanged || h.Value(setting.Complexity) != setting.On {
				return "", ""
			}
			return fmt.Sprintf("a complex new password every %s, %d times a year: users just add one to the old one", h.Text(setting.MaxAge),
					365*day/age),
				"Force changes more rarely, and ask for length instead."
		}),
	},
	{
		Name: "weekend-of-guesses", Title: "A weekend of guesses stays under the lock",
		Kind: Conflicting, Severity: baseline.Minor,
		Restates: true, Of: setting.LockoutThreshold,
		Doc:   "Under the lock, a weekend gives a guesser so many tries for each account that the common passwords are all among them.",
		Reads: []setting.ID{setting.LockoutThreshold, setting.LockoutWindow, setting.LockoutDuration},
		Run: between(func(h Held) (string, string) {
			l := forecast.LockoutOf(h.scope.Counter(), h.Value)
			if !l.Known || l.Never || l.NoWindow || l.Under(weekend) < manyGuesses {
				return "", ""
			}
			return fmt.Sprintf("%d tries every %s lock nothing: %d guesses for each account from Friday evening to Monday morning, and "+
					"nobody sees a lock", l.Threshold-1, setting.Span(l.Window), l.Under(weekend)),
				"Lengthen the lockout window or lower the threshold, ban common passwords, and watch for failures across accounts."
		}),
	},
	{
		Name: "length-cap-low", Title: "Long passphrases are shut out",
		Kind: Weak, Severity: baseline.Minor,
		Doc:   "Passwords are capped or cut below 64 characters: long phrases are shut out.",
		Reads: []setting.ID{setting.MaxLength},
		Run: between(func(h Held) (string, string) {
			n, ok := h.Number(setting.MaxLength)
			if !ok || n >= longPhrase {
				return "", ""
			}
			return fmt.Sprintf("no more than %d characters are accepted", n), fmt.Sprintf("Accept at least %d characters.", longPhrase)
		}),
	},
	{
		Name: "factor-never-asked", Title: "People have a second factor, and nobody is ever asked for it",
		Kind: Conflicting, Severity: baseline.Serious, On: []estate.Kind{estate.Tenant},
		Sets: map[setting.ID]setting.Value{setting.SecondFactor: setting.Word("all")}, Restates: true, Of: setting.SecondFactor,
		Doc:   "Accounts have registered a second factor, and no rule ever asks them for it: a password alone lets in.",
		Reads: []setting.ID{setting.SecondFactor, setting.SecondFactorRegistered},
		Run: between(func(h Held) (string, string) {
			have, _ := h.Value(setting.SecondFactorRegistered).Word()
			if h.Value(setting.SecondFactor) != setting.Word("none") || have != "all" && have != "some" {
				return "", ""
			}
			return have + " of these accounts have registered a second factor, and none is asked for it at a sign-in: a password alone lets in",
				"Ask for the second factor at every sign-in."
		}),
	},
	{
		Name: "root-never-locks", Title: "Root, or the administrator, never locks",
		Kind: Conflicting, Severity: baseline.Serious,
		Sets: map[setting.ID]setting.Value{setting.LockoutAdministrator: setting.On}, Restates: true, Of: setting.LockoutAdministrator,
		Doc:   "The lockout spares the administrator, or root: the one account that every guesser knows.",
		Reads: []setting.ID{setting.LockoutAdministrator, setting.LockoutThreshold},
		Run: between(func(h Held) (string, string) {
			return h.adminSpared()
		}),
	},
}

// adminSpared says that the lockout passes by the administrator, or root, that the scope
// holds: of others it is no matter.
func (h Held) adminSpared() (reason, remedy string) {
	s := h.scope
	head := s.Authority.Head
	threshold, spared := setting.Value{}, false
	switch {
	case s.Spared == govern.NeverLocked:
		threshold, spared = s.Policy.Settings[setting.LockoutThreshold].Value, true
	case s.Authority.Platform == setting.UnixMachine && head != nil && (s.Root || !s.Authority.Listed):
		threshold, spared = head.Settings[setting.LockoutThreshold].Value, h.Value(setting.LockoutAdministrator) == setting.Off
	}
	if _, locks := threshold.Number(); !locks {
		return "", ""
	}
	if !spared || h.Value(setting.LockoutWindow).Is(setting.AtOnce) {
		return "", ""
	}
	return setting.Get(setting.LockoutThreshold).Text(threshold) + " lock an account, and the built-in administrator, or root, is spared",
		"Let the lockout reach it too; keep another way in for the case that it is locked."
}

// roughly says a time in one unit.
func roughly(seconds float64) string {
	for _, u := range []struct {
		name string
		size float64
	}{{"days", day}, {"hours", 3600}, {"minutes", 60}} {
		if seconds >= 2*u.size {
			return fmt.Sprintf("%.0f %s", seconds/u.size, u.name)
		}
	}
	if seconds < 2 {
		return "a second"
	}
	return fmt.Sprintf("%.0f seconds", seconds)
}
