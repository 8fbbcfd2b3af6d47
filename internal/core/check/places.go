package check

import (
	"fmt"
	"slices"
	"strings"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

var (
	onMachines   = []estate.Kind{estate.Machine}
	onLDAP       = []estate.Kind{estate.LDAP}
	onTenants    = []estate.Kind{estate.Tenant}
	onEveryPlace = []estate.Kind{estate.Domain, estate.Machine, estate.LDAP, estate.Tenant}
)

// placeChecks look at machines, LDAP directories and tenants.
var placeChecks = []Check{
	{
		Name: "module-not-called", Title: "A module is configured and never called",
		Kind: Conflicting, Severity: baseline.Grave, On: onMachines,
		Doc: "A module's file sets something, and no stack calls the module: the file enforces nothing.",
		Run: remarks(estate.NotCalled),
	},
	{
		Name: "module-not-obeyed", Title: "A module refuses, and its refusal does not count",
		Kind: Conflicting, Severity: baseline.Serious, On: onMachines,
		Doc: "A stack calls a module in such a way that its refusal does not count.",
		Run: remarks(estate.NotObeyed),
	},
	{
		Name: "option-not-taken", Title: "A module does not take an option as it is written",
		Kind: Conflicting, Severity: baseline.Serious, On: onMachines,
		Doc: "A module does not take what its file or its call says: a misspelt name, or something that is not a number. Some then read no " +
			"further.",
		Run: remarks(estate.NotTaken),
	},
	{
		Name: "module-not-modelled", Title: "A module whose answer is not known decides",
		Kind: Missing, Severity: baseline.Serious, On: onMachines,
		Doc: "A stack calls a module whose answer is not in the evidence. Both answers were played; the weaker outcome counts.",
		Run: remarks(estate.NotModelled),
	},
	{
		Name: "ssh-unseen", Title: "Whether ssh asks PAM was not collected",
		Kind: Missing, Severity: baseline.Serious, On: onMachines,
		Doc: "The configuration of the ssh server was not collected: without UsePAM it asks no module, and no stack counts there.",
		Run: remarks(estate.SSHUnseen),
	},
	{
		Name: "accounts-elsewhere", Title: "A machine takes accounts of a directory that was not collected",
		Kind: Missing, Severity: baseline.Serious, On: onMachines,
		Doc: "A machine takes accounts that another place holds, such as a directory: they and what governs them are not in the " +
			"machine's own files.",
		Run: remarks(estate.Elsewhere),
	},
	{
		Name: "doors-differ", Title: "Services of one machine have different rules",
		Kind: Conflicting, Severity: baseline.Serious, On: onMachines,
		Doc: "Services of one machine lock failed sign-ins, or take new passwords, differently; the weakest counts.",
		Run: remarks(estate.DoorsDiffer),
	},
	{
		Name: "new-accounts-only", Title: "Settings reach new accounts only",
		Kind: Conflicting, Severity: baseline.Minor, On: onMachines,
		Doc: "What new accounts are given differs from what the accounts that are there have.",
		Run: remarks(estate.NewAccountsOnly),
	},
	{
		Name: "old-hash", Title: "Passwords are stored in an older, weaker way",
		Kind: Conflicting, Severity: baseline.Serious, On: onMachines,
		Doc: "Passwords are stored in a weaker way than new ones are.",
		Run: remarks(estate.OldHash),
	},
	{
		Name: "password-dated-ahead", Title: "A password was last changed in the future",
		Kind: Conflicting, Severity: baseline.Serious, On: onMachines,
		Doc: "The last change of a password is dated in the future (shadow, field 3): it ages only from then on, whatever its maximum age says.",
		Run: remarks(estate.DatedAhead),
	},
	{
		Name: "empty-password", Title: "An account has an empty password",
		Kind: Weak, Severity: baseline.Grave, On: onEveryPlace,
		Clears: estate.EmptyPassword,
		Doc:    "An account has an empty password.",
		Run: func(p *Pass) {
			rows := p.accounts(func(row int) bool {
				return p.Authority.Objects.FlagsOf(row)&(estate.EmptyPassword|estate.Disabled) == estate.EmptyPassword
			})
			if len(rows) > 0 {
				p.report(Finding{Settings: []setting.ID{setting.MinLength}, Observed: "empty", Reason: number(len(rows), "account") +
					" with an empty password: whatever the minimum length is, nothing has to be guessed",
					Remedy: "Lock the accounts, or give them passwords.", Evidence: p.lines(rows)}, "", rows)
			}
		},
	},
	{
		Name: "shadow-unseen", Title: "Accounts without a line of shadow",
		Kind: Missing, Severity: baseline.Serious, On: onMachines,
		Doc: "Accounts of a Unix machine whose line of shadow is not in the evidence: locked or not, and how they age, is not known.",
		Run: func(p *Pass) {
			rows := p.accounts(func(row int) bool { return p.Authority.Objects.FlagsOf(row)&estate.NoControl != 0 })
			if len(rows) > 0 {
				p.report(Finding{Reason: number(len(rows), "account") + " without a line of shadow in the evidence",
					Remedy:   "Copy etc/shadow as root, and gather the tree again; hashes are struck out.",
					Evidence: p.lines(rows)}, "", rows)
			}
		},
	},
	{
		Name: "pointer-broken", Title: "Accounts point at a policy that is not there",
		Kind: Missing, Severity: baseline.Grave, On: onLDAP,
		Doc: "Accounts of an LDAP directory point at a policy that is not in the evidence.",
		Run: func(p *Pass) {
			p.hidden(func(ref *estate.Reference, cite estate.Cite, rows []int) {
				p.report(Finding{Reason: ref.DN + " is not in the evidence, and " + pointing(len(rows), "account", "accounts") +
					" at it: what governs them is not known",
					Remedy: "Export the policies too, with an account that may read them; if the policy is gone, the server applies none to " +
						"these accounts.", Evidence: []estate.Cite{cite}}, ref.DN, rows)
			})
		},
	},
	{
		Name: "default-unknown", Title: "Which policy the server applies was not exported",
		Kind: Missing, Severity: baseline.Serious, On: onLDAP,
		Doc: "Accounts of an LDAP directory of which it is not known at which policy they point, or, where they point at none, which " +
			"one the server applies to them.",
		Run: func(p *Pass) {
			rows := p.doubtful(func(d govern.Doubt) bool { return d.Kind == govern.OtherDoubt })
			if len(rows) > 0 {
				p.report(Finding{Reason: number(len(rows), "account") + ": " + p.Resolution.Of(rows[0]).Why,
					Remedy: "Export the accounts with their operational attributes (+), and the server's configuration (olcPPolicyDefault); " +
						"or name the policy in engagement.yaml (authorities: default-policy).", Evidence: p.lines(rows)}, "", rows)
			}
		},
	},
	{
		Name: "policy-unused", Title: "A policy governs no account",
		Kind: Conflicting, Severity: baseline.Minor, On: []estate.Kind{estate.LDAP, estate.Tenant},
		Doc: "A policy governs no account: nothing points at it, or others come before it everywhere.",
		Run: func(p *Pass) {
			if !p.Authority.Listed {
				return
			}
			governs := map[string]bool{originOf(p.Authority.Head): true}
			p.accounts(func(row int) bool {
				g := p.Resolution.Of(row)
				governs[originOf(g.Policy)], governs[originOf(g.Doubt.Policy)] = true, true
				return false
			})
			for _, policy := range p.policies() {
				if !governs[originOf(policy)] {
					p.report(Finding{Reason: policy.Name + " governs no account", Remedy: "Give it the accounts it was meant for, or remove it.",
						Evidence: []estate.Cite{policy.Cite}}, policy.Name, nobody)
				}
			}
		},
	},
	{
		Name: "synchronised-unseen", Title: "Synchronised accounts whose domain was not collected",
		Kind: Missing, Severity: baseline.Serious, On: onTenants,
		Doc: "Accounts of a tenant are synchronised from a domain, and their domain account is not in the evidence.",
		Run: func(p *Pass) {
			byReason := map[string][]int{}
			for _, row := range p.Resolution.Unjoined() {
				why := p.Resolution.Of(row).Why
				byReason[why] = append(byReason[why], row)
			}
			for _, why := range sortedKeys(byReason) {
				rows := byReason[why]
				p.report(Finding{Reason: number(len(rows), "account") + ": " + why,
					Remedy: "Export that domain and gather it: its settings govern these accounts, not the tenant's.", Evidence: p.lines(rows)}, why, rows)
			}
		},
	},
	{
		Name: "list-cut", Title: "A list goes on in a page that was not exported",
		Kind: Missing, Severity: baseline.Serious, On: onTenants,
		Doc: "A list of a tenant's export goes on in a further page, which is not in the evidence.",
		Run: remarks(estate.ListCut),
	},
	{
		Name: "rule-not-understood", Title: "A rule on second factors is not understood as a whole",
		Kind: Missing, Severity: baseline.Serious, On: onTenants,
		Doc: "A rule that asks for a second factor says something that is not understood, and may limit it: whether it asks those whom it " +
			"reaches at every sign-in is not known.",
		Run: remarks(estate.RuleOpen),
	},
	{
		Name: "field-unseen", Title: "Accounts of a tenant were exported without a field that matters",
		Kind: Missing, Severity: baseline.Serious, On: onTenants,
		Doc: "A tenant's accounts were exported without a field that tells what governs them, or whether a setting holds for them.",
		Run: remarks(estate.FieldUnseen),
	},
	{
		Name: "home-unseen", Title: "Who checks some passwords was not exported",
		Kind: Missing, Severity: baseline.Serious, On: onTenants,
		Doc: "Whether another place checks the passwords of some accounts of a tenant is not in the evidence, or said in words that are " +
			"not understood.",
		Run: remarks(estate.HomeUnseen),
	},
	{
		Name: "password-unused", Title: "Nobody uses a password that works",
		Kind: Weak, Severity: baseline.Serious, On: onTenants,
		Doc: "Nobody has used a password for 45 days or more, counted to the newest sign-in or change in the same evidence, and its " +
			"account is enabled (CIS AWS 1.12).",
		Run: unusedPasswords,
	},
	{
		Name: "federated-unseen", Title: "Federated accounts whose own place was not collected",
		Kind: Missing, Severity: baseline.Serious, On: onTenants,
		Doc: "Accounts of a tenant sign in at another place, which is not in the evidence.",
		Run: func(p *Pass) {
			rows := p.accounts(func(row int) bool {
				return p.Authority.Objects.FlagsOf(row)&(estate.Federated|estate.Synced) == estate.Federated
			})
			if len(rows) > 0 {
				p.report(Finding{Reason: number(len(rows), "account") + " whose passwords another place checks: the tenant's settings do not govern them",
					Remedy: "Collect the settings of the place where they sign in.", Evidence: p.lines(rows)}, "", rows)
			}
		},
	},
	{
		Name: "synchronised-never-expire", Title: "Expired passwords go on working in the cloud",
		Kind: Conflicting, Severity: baseline.Serious, On: onTenants,
		Doc: "Passwords expire in the domain, and the tenant goes on accepting them: it does not apply an expiry to synchronised accounts.",
		Run: func(p *Pass) {
			own := p.OwnSettings(p.index)
			rule := own[setting.ExpiryForSynced]
			for _, s := range p.scopes() {
				age, finite := s.Home[setting.MaxAge].Value.Number()
				if s.Elsewhere == nil || s.Way != estate.PasswordHash || !finite || rule.Value != setting.Off {
					continue
				}
				p.report(Finding{Scope: s, Settings: []setting.ID{setting.ExpiryForSynced, setting.MaxAge}, Observed: "expiry-for-synced off",
					Reason: fmt.Sprintf("the domain lets a password expire after %s; in the cloud it works on, because the tenant applies "+
						"no expiry to synchronised accounts", setting.Span(age)),
					Remedy:   "Switch the tenant's expiry for synchronised accounts on, or record that expiry is meant for the domain only.",
					Evidence: []estate.Cite{rule.Cite, s.Home[setting.MaxAge].Cite}}, "", nil)
			}
		},
	},
	{
		Name: "cloud-lock-looser", Title: "The cloud locks later than the domain",
		Kind: Conflicting, Severity: baseline.Serious, On: onTenants,
		Doc: "Synchronised accounts lock later in the cloud than in their domain: guesses are made at the cloud's door.",
		Run: func(p *Pass) {
			own := p.OwnSettings(p.index)
			for _, s := range p.scopes() {
				if s.Elsewhere == nil || s.Policy == nil || s.Way == estate.Federation {
					continue // of federated accounts the tenant checks nothing
				}
				var ids []setting.ID
				for _, id := range []setting.ID{setting.LockoutThreshold, setting.LockoutDuration} {
					x, y := own[id], s.Home[id]
					if x.Missing != govern.Present || y.Missing != govern.Present || govern.Dormant(s.Home, id) {
						continue
					}
					if order, ok := setting.Get(id).Compare(x.Value, y.Value); ok && order < 0 {
						ids = append(ids, id)
					}
				}
				if len(ids) == 0 {
					continue
				}
				var words []string
				var lines []estate.Cite
				for _, id := range ids {
					row := setting.Get(id)
					words = append(words, fmt.Sprintf("%s: %s in the cloud, %s in the domain", strings.ToLower(row.Title), row.Text(own[id].Value),
						row.Text(s.Home[id].Value)))
					lines = append(lines, own[id].Cite, s.Home[id].Cite)
				}
				if s.Way == estate.PassThrough {
					words = append(words, "each try is passed on, so that the domain's accounts can be locked from outside")
				}
				p.report(Finding{Scope: s, Settings: ids, Reason: strings.Join(words, "; "),
					Remedy: "Bring the tenant's lockout down to the domain's: below it, so that the cloud locks before the domain does.", Evidence: lines},
					"", nil)
			}
		},
	},
	{
		Name: "weaker-door", Title: "The same person has an account under weaker settings",
		Kind: Conflicting, Severity: baseline.Serious, On: []estate.Kind{estate.Machine, estate.LDAP, estate.Tenant},
		Doc: "An account of the same name as a domain account lives under weaker settings: the person's weaker door.",
		Run: weakerDoor,
	},
}

// pointing counts what points at something.
func pointing(n int, one, several string) string {
	if n == 1 {
		return "1 " + one + " points"
	}
	return fmt.Sprintf("%d %s point", n, several)
}

// remarks reports what a reader remarked on.
func remarks(kind estate.RemarkKind) func(*Pass) {
	return func(p *Pass) {
		for _, m := range p.Authority.Remarks {
			if m.Kind != kind {
				continue
			}
			var rows []int
			if len(m.Accounts) > 0 {
				rows = p.accounts(func(row int) bool { return slices.Contains(m.Accounts, p.Authority.Objects.Name.At(row)) })
			}
			p.report(Finding{Settings: m.Settings, Reason: m.Text, Remedy: m.Remedy, Evidence: m.Cites}, m.About, rows)
		}
	}
}

// hidden goes through the policies that are pointed at and not in the evidence,
// with where that is seen and the accounts whose policy is not known for it.
func (p *Pass) hidden(report func(ref *estate.Reference, cite estate.Cite, rows []int)) {
	for i := range p.Authority.Policies {
		ref := &p.Authority.Policies[i]
		if ref.Known || ref.Lost { // the latter has a check of its own
			continue
		}
		cite := ref.Cite
		cite.Raw = ref.DN
		report(ref, cite, p.doubtful(func(d govern.Doubt) bool { return d.Hidden == ref && d.Kind == govern.PolicyHidden }))
	}
}

// lines are the first few accounts' places in the evidence.
func (p *Pass) lines(rows []int) []estate.Cite {
	var all []estate.Cite
	for _, row := range rows[:min(len(rows), mostExamples)] {
		all = append(all, p.Authority.CiteOf(row))
	}
	return all
}

// weakerDoor compares accounts with the domain account of the same name, where
// they are not the same account, and tells of the doors that are weaker, by
// scope.
func weakerDoor(p *Pass) {
	type pair struct{ here, there *govern.Scope }
	rows := map[pair][]int{}
	var pairs []pair
	o := p.Authority.Objects
	for i, domain := range p.Estate.Authorities {
		if domain.Kind != estate.Domain {
			continue
		}
		byName := map[string]int{}
		for row := range domain.Objects.Len() {
			if domain.Objects.ClassOf(row) == estate.Account && domain.Objects.FlagsOf(row)&estate.Disabled == 0 {
				byName[strings.ToLower(domain.Objects.Name.At(row))] = row
			}
		}
		for _, row := range p.accounts(func(row int) bool { return o.FlagsOf(row)&(estate.Disabled|estate.Synced) == 0 }) {
			name, _, _ := strings.Cut(strings.ToLower(o.Name.At(row)), "@")
			there, ok := byName[name]
			if !ok {
				continue
			}
			here, _ := p.ScopeOf(p.index, row)
			other, _ := p.ScopeOf(i, there)
			if len(weakerIn(here, other)) == 0 {
				continue
			}
			k := pair{here: here, there: other}
			if rows[k] == nil {
				pairs = append(pairs, k)
			}
			rows[k] = append(rows[k], row)
		}
	}
	for _, k := range pairs {
		ids := weakerIn(k.here, k.there)
		p.report(Finding{Settings: ids, Observed: observed(k.here, ids),
			Reason: fmt.Sprintf("%s, named like domain accounts under %s, under weaker settings here: %s", number(len(rows[k]), "account"),
				k.there.Name(), compared(k.here, k.there, ids)),
			Remedy:   "Bring the settings here up to the domain's, or remove the second account.",
			Evidence: append(p.lines(rows[k][:1]), evidenceOf(k.here, ids)...)}, k.here.Name()+" against "+k.there.Name(), rows[k])
	}
}

// unusedAfter is how long a password may lie unused, in seconds.
const unusedAfter = 45 * 24 * 60 * 60

// unusedPasswords counts to the newest date that the accounts have: the evidence
// is at least as old, so that what lies unused by then does so now.
func unusedPasswords(p *Pass) {
	o := p.Authority.Objects
	var newest uint32
	p.accounts(func(row int) bool {
		newest = max(newest, o.LastLogon.At(row), o.PwdSet.At(row))
		return false
	})
	rows := p.accounts(func(row int) bool {
		last := o.LastLogon.At(row)
		return last != 0 && o.FlagsOf(row)&estate.Disabled == 0 && newest-max(last, o.PwdSet.At(row)) >= unusedAfter
	})
	if len(rows) > 0 {
		p.report(Finding{Reason: number(len(rows), "password") + " that nobody used in the 45 days before " + p.day(int64(newest)) +
			", the newest day in this evidence",
			Remedy: "Remove the password, or the account: nobody notices when an unused one is guessed.", Evidence: p.lines(rows)}, "", rows)
	}
}
