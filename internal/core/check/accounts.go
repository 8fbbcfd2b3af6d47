package check

import (
	"fmt"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// required says how an account is made to need a password.
var required = map[estate.Kind]string{
	estate.Domain:  "Clear the flag (userAccountControl, 0x20), and have the passwords changed.",
	estate.Machine: "Make the accounts need a password (net user NAME /passwordreq:yes), and have the passwords changed.",
}

// accountChecks look at flags of single accounts that switch settings off.
var accountChecks = []Check{
	{
		Name: "never-expires", Title: "Passwords never expire, by the account's own flag",
		Kind: Conflicting, Severity: baseline.Serious, On: []estate.Kind{estate.Domain, estate.Tenant},
		Clears: estate.NeverExpires,
		Doc:    "Accounts whose passwords never expire, by their own flag, under a maximum age.",
		Run: func(p *Pass) {
			p.byPolicy(estate.NeverExpires, func(s *govern.Scope, rows []int) *Finding {
				age, finite := s.Settings[setting.MaxAge].Value.Number()
				if !finite || s.Elsewhere != nil {
					return nil
				}
				oldest := ""
				if old := p.oldest(rows); old != "" {
					oldest = "; the oldest password is of " + old
				}
				return &Finding{Settings: []setting.ID{setting.MaxAge}, Observed: "never expires",
					Reason: fmt.Sprintf("%s: the password never expires, by the account's own flag, where others must change it after %s%s",
						number(len(rows), "enabled account"), setting.Span(age), oldest),
					Remedy: "Clear the flag, or give such accounts a fine-grained policy of their own with long random passwords."}
			})
		},
	},
	{
		Name: "none-required", Title: "Accounts may have an empty password, by their own flag",
		Kind: Weak, Severity: baseline.Grave,
		Clears: estate.NoneRequired, On: []estate.Kind{estate.Domain, estate.Machine},
		Doc: "Accounts that need no password, by their own flag: an empty one can be set, whatever the minimum length.",
		Run: func(p *Pass) {
			p.byPolicy(estate.NoneRequired, func(s *govern.Scope, rows []int) *Finding {
				return &Finding{Settings: []setting.ID{setting.MinLength}, Observed: "0 characters",
					Reason: number(len(rows), "enabled account") + ": the password may be empty, by the account's own flag",
					Remedy: required[p.Authority.Kind]}
			})
		},
	},
	{
		Name: "reversible-account", Title: "Passwords can be read back, by the account's own flag",
		Kind: Weak, Severity: baseline.Grave,
		Clears: estate.Reversible,
		Doc:    "Accounts whose passwords are stored so that they can be read back, by their own flag.",
		Run: func(p *Pass) {
			p.byPolicy(estate.Reversible, func(s *govern.Scope, rows []int) *Finding {
				return &Finding{Settings: []setting.ID{setting.Reversible}, Observed: "on",
					Reason: number(len(rows), "enabled account") + ": the password can be read back, by the account's own flag",
					Remedy: "Clear the flag (userAccountControl, 0x80), and have the passwords changed: until then the old copy stays."}
			})
		},
	},
	{
		Name: "no-preauthentication", Title: "Passwords can be guessed at offline: no pre-authentication",
		Kind: Weak, Severity: baseline.Serious,
		Clears: estate.NoPreauth,
		Doc:    "Accounts that need no Kerberos pre-authentication: anybody can ask for something to guess their password on, without a failed attempt.",
		Run: func(p *Pass) {
			p.byPolicy(estate.NoPreauth, func(s *govern.Scope, rows []int) *Finding {
				return &Finding{Settings: []setting.ID{setting.LockoutThreshold}, Observed: "no pre-authentication",
					Reason: number(len(rows), "enabled account") + ": the password can be guessed at offline, past the lockout",
					Remedy: "Clear the flag (userAccountControl, 0x400000); until then give them long random passwords."}
			})
		},
	},
	{
		Name: "privileged-service-name", Title: "Privileged accounts with a principal name and a chosen password",
		Kind: Weak, Severity: baseline.Serious, Clears: estate.ServiceName,
		Doc: "Privileged accounts with a service principal name and a password that somebody chose: any account of the domain may ask for " +
			"a ticket to guess that password on, without a failed attempt.",
		Run: func(p *Pass) {
			rows := p.accounts(func(row int) bool {
				tier, _ := p.TierOf(p.index, row)
				return tier == govern.Privileged && p.Authority.Objects.FlagsOf(row)&(estate.ServiceName|estate.Disabled) == estate.ServiceName
			})
			if len(rows) == 0 {
				return
			}
			p.report(Finding{Settings: []setting.ID{setting.LockoutThreshold}, Observed: "service principal name",
				Reason: number(len(rows), "enabled privileged account") + " with a service principal name: whoever signs in anywhere in the domain " +
					"can ask for a ticket and guess the password on it, past the lockout",
				Remedy:   "Run the service under a managed account, or under one without privileges; until then give it a long random password.",
				Evidence: p.lines(rows)}, "", rows)
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
		s, _ := p.ScopeOf(p.index, row)
		if s == nil {
			continue
		}
		k := under{policy: s.Policy, rule: s.Rule}
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
	if oldest == 0 {
		return ""
	}
	return p.day(int64(oldest))
}
