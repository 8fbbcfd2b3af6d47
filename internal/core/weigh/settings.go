package weigh

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
		Name: "window-over-duration", Kind: Conflicting, Severity: baseline.Minor,
		Doc:     "A lockout window that is longer than the duration: an account opens again while its failures still count, and the next failure locks it anew.",
		Reads:   []setting.ID{"lockout-window", "lockout-duration"},
		Defeats: []setting.ID{"lockout-window"},
		Find: func(h Held) (string, string) {
			window, okW := h.Number("lockout-window")
			duration, okD := h.Number("lockout-duration")
			if !okW || !okD || window <= duration || h.Value("lockout-threshold").Is(setting.Never) {
				return "", ""
			}
			return fmt.Sprintf("a lock ends after %s, and failures count for %s: whoever comes back is locked out by one more mistake", h.Text("lockout-duration"), h.Text("lockout-window")),
				"Set the lockout window no longer than the duration."
		},
	},
	{
		Name: "audit-length-idle", Kind: Conflicting, Severity: baseline.Minor,
		Doc:   "An audited length that is not above the enforced one never logs anything.",
		Reads: []setting.ID{"min-length-audit", "min-length"},
		Find: func(h Held) (string, string) {
			audited, okA := h.Number("min-length-audit")
			enforced, okE := h.Number("min-length")
			if !okA || !okE || audited == 0 || audited > enforced {
				return "", ""
			}
			return fmt.Sprintf("passwords below %d characters are to be logged, and those below %d are refused: nothing is ever logged", audited, enforced),
				"Set the audited length above the enforced one, or take it away."
		},
	},
	{
		Name: "audit-only", Kind: Conflicting, Severity: baseline.Serious,
		Doc:   "A list of banned words that only logs refuses nothing.",
		Reads: []setting.ID{"dictionary-check", "blocklist", "directory-blocklist-mode"},
		Find: func(h Held) (string, string) {
			var only []string
			for _, id := range []setting.ID{"dictionary-check", "blocklist", "directory-blocklist-mode"} {
				if h.Value(id) == setting.Word("audit") {
					only = append(only, strings.ToLower(setting.Get(id).Title))
				}
			}
			if len(only) == 0 {
				return "", ""
			}
			return strings.Join(only, " and ") + ": audit only, so a banned password is logged and accepted", "Look through what was logged, and enforce the list."
		},
	},
	{
		Name: "complexity-too-short", Kind: Conflicting, Severity: baseline.Serious,
		Doc:     "Complexity with so short a length that it adds nothing: every password can be tried.",
		Reads:   []setting.ID{"complexity", "min-length"},
		Defeats: []setting.ID{"complexity"},
		Find: func(h Held) (string, string) {
			n, ok := h.Number("min-length")
			if !ok || n >= shortWhole || h.Value("complexity") != setting.On {
				return "", ""
			}
			least := max(n, 3) // three kinds of characters take three
			seconds := math.Pow(95, float64(least)) / forecast.Usual.OfflineRate
			return fmt.Sprintf("complexity is demanded of passwords of %d characters: all of them can be tried on a stolen hash in %s, whatever kinds they are of", least, roughly(seconds)),
				fmt.Sprintf("Ask for length first: %d characters at the least.", shortWhole)
		},
	},
	{
		Name: "changed-too-often", Kind: Conflicting, Severity: baseline.Minor,
		Doc:   "A change is forced faster than every 60 days, together with complexity: people count their password up.",
		Reads: []setting.ID{"max-age", "complexity"},
		Find: func(h Held) (string, string) {
			age, ok := h.Number("max-age")
			if !ok || age >= oftenChanged || h.Value("complexity") != setting.On {
				return "", ""
			}
			return fmt.Sprintf("a complex new password every %s, %d times a year: users just add one to the old one", h.Text("max-age"), 365*day/age),
				"Force changes more rarely, and ask for length instead."
		},
	},
	{
		Name: "weekend-of-guesses", Kind: Conflicting, Severity: baseline.Minor,
		Doc:   "Under the lock, a weekend gives a guesser so many tries for each account that the common passwords are all among them.",
		Reads: []setting.ID{"lockout-threshold", "lockout-window", "lockout-duration"},
		Find: func(h Held) (string, string) {
			l := forecast.LockoutOf(h.scope.Counter(), h.Value)
			if !l.Known || l.Never || l.NoWindow || l.Under(weekend) < manyGuesses {
				return "", ""
			}
			return fmt.Sprintf("%d tries every %s lock nothing: %d guesses for each account from Friday evening to Monday morning, and nobody sees a lock", l.Threshold-1, setting.Span(l.Window), l.Under(weekend)),
				"Lengthen the lockout window or lower the threshold, ban common passwords, and watch for failures across accounts."
		},
	},
	{
		Name: "length-cap-low", Kind: Weak, Severity: baseline.Minor,
		Doc:   "Passwords are capped or cut below 64 characters: long phrases are shut out.",
		Reads: []setting.ID{"max-length"},
		Find: func(h Held) (string, string) {
			n, ok := h.Number("max-length")
			if !ok || n >= longPhrase {
				return "", ""
			}
			return fmt.Sprintf("no more than %d characters are accepted", n), fmt.Sprintf("Accept at least %d characters.", longPhrase)
		},
	},
	{
		Name: "root-never-locks", Kind: Conflicting, Severity: baseline.Serious,
		Doc:   "The lockout spares the administrator, or root: the one account that every guesser knows.",
		Reads: []setting.ID{"lockout-administrator", "lockout-threshold"},
		Find: func(h Held) (string, string) {
			_, locks := h.Number("lockout-threshold")
			if !locks || h.Value("lockout-window").Is(setting.AtOnce) || h.Value("lockout-administrator") != setting.Off || h.Overridden() {
				return "", ""
			}
			return fmt.Sprintf("%s lock an account, and the built-in administrator, or root, is spared", h.Text("lockout-threshold")), "Let the lockout reach it too; keep another way in for the case that it is locked."
		},
	},
}

// Overridden reports whether the scope lives under a fine-grained policy,
// which does not hold such domain-wide settings itself.
func (h Held) Overridden() bool {
	return h.scope.Policy != nil && h.scope.Policy.Standing == estate.Override && h.scope.Authority.Kind == estate.Domain
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

// accountChecks look at flags of single accounts that switch settings off.
var accountChecks = []GovernanceCheck{
	{
		Name: "never-expires", Kind: Conflicting, Severity: baseline.Serious, On: []estate.Kind{estate.Domain, estate.Tenant},
		Doc: "Accounts whose passwords never expire, by their own flag, under a maximum age.",
		Run: func(p *Pass) {
			p.byPolicy(estate.NeverExpires, func(s *govern.Scope, rows []int) *Finding {
				age, finite := s.Settings["max-age"].Value.Number()
				if !finite || s.Elsewhere != nil {
					return nil
				}
				oldest := ""
				if old := p.oldest(rows); old != "" {
					oldest = "; the oldest password is of " + old
				}
				return &Finding{Settings: []setting.ID{"max-age"}, Observed: "never expires",
					Reason: fmt.Sprintf("%s: the password never expires, by the account's own flag, where others must change it after %s%s", number(len(rows), "enabled account"), setting.Span(age), oldest),
					Remedy: "Take the flag off, or give such accounts a fine-grained policy of their own with long random passwords."}
			})
		},
	},
	{
		Name: "none-required", Kind: Weak, Severity: baseline.Grave,
		Doc: "Accounts that need no password, by their own flag: an empty one can be set, whatever the minimum length.",
		Run: func(p *Pass) {
			p.byPolicy(estate.NoneRequired, func(s *govern.Scope, rows []int) *Finding {
				return &Finding{Settings: []setting.ID{"min-length"}, Observed: "0 characters",
					Reason: number(len(rows), "enabled account") + ": the password may be empty, by the account's own flag",
					Remedy: "Take the flag off (userAccountControl, 0x20), and have the passwords changed."}
			})
		},
	},
	{
		Name: "reversible-account", Kind: Weak, Severity: baseline.Grave,
		Doc: "Accounts whose passwords are stored so that they can be read back, by their own flag.",
		Run: func(p *Pass) {
			p.byPolicy(estate.Reversible, func(s *govern.Scope, rows []int) *Finding {
				return &Finding{Settings: []setting.ID{"reversible"}, Observed: "on",
					Reason: number(len(rows), "enabled account") + ": the password can be read back, by the account's own flag",
					Remedy: "Take the flag off (userAccountControl, 0x80), and have the passwords changed: until then the old copy stays."}
			})
		},
	},
	{
		Name: "no-preauthentication", Kind: Weak, Severity: baseline.Serious,
		Doc: "Accounts that need no Kerberos pre-authentication: anybody can ask for something to guess their password on, without a failed try.",
		Run: func(p *Pass) {
			p.byPolicy(estate.NoPreauth, func(s *govern.Scope, rows []int) *Finding {
				return &Finding{Settings: []setting.ID{"lockout-threshold"}, Observed: "no pre-authentication",
					Reason: number(len(rows), "enabled account") + ": the password can be guessed at offline, past the lockout",
					Remedy: "Take the flag off (userAccountControl, 0x400000); until then give them long random passwords."}
			})
		},
	},
}

// byPolicy reports on the enabled accounts with a flag, policy by policy.
func (p *Pass) byPolicy(flag estate.Flag, find func(s *govern.Scope, rows []int) *Finding) {
	type under struct {
		policy *estate.Policy
		rule   govern.Rule
	}
	rows := map[under][]int{}
	scopes := map[under]*govern.Scope{}
	var order []under
	for _, row := range p.accounts(func(row int) bool { return p.Authority.Objects.FlagsOf(row)&(flag|estate.Disabled) == flag }) {
		s, g := p.ScopeOf(p.index, row)
		if s == nil || g.Rule == govern.Unknown {
			continue
		}
		k := under{s.Policy, s.Rule}
		if rows[k] == nil {
			order, scopes[k] = append(order, k), s
		}
		rows[k] = append(rows[k], row)
	}
	for _, k := range order {
		if f := find(scopes[k], rows[k]); f != nil {
			for _, row := range rows[k][:min(len(rows[k]), mostExamples)] {
				c := p.Authority.CiteOf(row)
				if p.Authority.Kind == estate.Domain {
					c = p.Authority.ControlCite(row)
				}
				f.Evidence = append(f.Evidence, c)
			}
			if e := scopes[k].Settings[f.Settings[0]]; e.Cite.File != "" {
				f.Evidence = append(f.Evidence, e.Cite)
			}
			p.report(*f, scopes[k].PolicyName(), rows[k])
		}
	}
}

// oldest returns the day on which the oldest of the accounts' passwords was
// set; empty where the evidence does not say.
func (p *Pass) oldest(rows []int) string {
	oldest := uint32(0)
	for _, row := range rows {
		if set := p.Authority.Objects.PwdSet.At(row); set != 0 && (oldest == 0 || set < oldest) {
			oldest = set
		}
	}
	if oldest == 0 || p.day == nil {
		return ""
	}
	return p.day(int64(oldest))
}
