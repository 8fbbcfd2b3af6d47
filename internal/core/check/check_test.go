package check_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/coretest"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/weigh"
)

// findings lists "check authority-or-scope accounts".
func findings(s *govern.Survey) []string {
	r := weigh.Run(s, weigh.Choice{Baselines: func(*estate.Authority, string) []*baseline.Baseline { return nil },
		Expect: check.Expectation{Age: func(string) int64 { return 0 }}})
	var all []string
	for _, f := range r.Findings {
		if f.Check == "not-weighed" { // no baseline is chosen here
			continue
		}
		text := f.Check + " " + f.ScopeName()
		if f.Accounts != nil {
			text += fmt.Sprint(" ", *f.Accounts)
		}
		all = append(all, text)
		if f.Reason == "" || f.Remedy == "" || f.Fingerprint == "" {
			all = append(all, "incomplete: "+f.Check)
		}
	}
	slices.Sort(all)
	return all
}

func TestPlaceChecks(t *testing.T) {
	number, never := setting.Number, setting.Of(setting.Never)
	type settings = map[setting.ID]setting.Value
	type accounts = map[string]estate.Flag
	for name, c := range map[string]struct {
		build func(b *estate.Builder)
		want  []string
	}{
		"nothing is wrong": {func(b *estate.Builder) {
			coretest.Settle(b, "m", estate.Machine, settings{"min-length": number(14)}, accounts{"ada": 0})
		}, nil},
		"what a reader saw": {func(b *estate.Builder) {
			a := coretest.Settle(b, "m", estate.Machine, settings{"min-length": number(14)}, accounts{"ada": 0, "bo": 0})
			for _, kind := range []estate.RemarkKind{estate.NotCalled, estate.NotObeyed, estate.NotTaken, estate.NotModelled,
				estate.DoorsDiffer, estate.NewAccountsOnly, estate.OldHash, estate.DatedAhead} {
				a.Remarks = append(a.Remarks, estate.Remark{Kind: kind, Text: "t", Remedy: "r", Cites: []estate.Cite{{File: "m.x", Line: 1}}})
			}
			a.Remarks[6].Accounts = []string{"bo"}
		}, []string{"doors-differ m", "module-not-called m", "module-not-modelled m", "module-not-obeyed m", "new-accounts-only m",
			"old-hash m 1", "option-not-taken m", "password-dated-ahead m"}},
		"empty, and not seen": {func(b *estate.Builder) {
			coretest.Settle(b, "m", estate.Machine, settings{"min-length": number(14)}, accounts{"ada": estate.EmptyPassword, "bo": estate.NoControl,
				"cy": 0})
		}, []string{"empty-password m 1", "shadow-unseen m 1"}},
		"an LDAP directory without its default": {func(b *estate.Builder) {
			coretest.Settle(b, "l", estate.LDAP, nil, accounts{"ada": 0})
			at := estate.Place{Name: "l", Kind: estate.LDAP}
			b.Override(at, []byte("cn=idle"), 3)
			b.Object(at, &estate.Record{Class: estate.Account, DN: []byte("bo"), Name: []byte("bo"), Applied: [][]byte{[]byte("cn=gone")}, Line: 4})
		}, []string{"default-unknown l 1", "pointer-broken l 1", "policy-unused l 0"}},
		"a tenant and its domain": {func(b *estate.Builder) {
			coretest.Settle(b, "quay.example", estate.Domain, settings{"lockout-threshold": number(5), "lockout-duration": number(900),
				"max-age": number(86400), "min-length": number(12)}, accounts{"ada": 0, "cy": 0}).PoliciesLie = true
			coretest.Settle(b, "t", estate.Tenant, settings{"lockout-threshold": number(10), "lockout-duration": number(900),
				"expiry-for-synced": setting.Off},
				accounts{"ada": estate.Synced, "bo": estate.Synced, "fed": estate.Federated}).Sync = estate.PasswordHash
		}, []string{"cloud-lock-looser t / own of quay.example 1", "federated-unseen t 1", "synchronised-never-expire t / own of quay.example 1",
			"synchronised-unseen t 1"}},
		"a tenant that is as strict": {func(b *estate.Builder) {
			coretest.Settle(b, "quay.example", estate.Domain, settings{"lockout-threshold": never,
				"lockout-duration": setting.Of(setting.UntilAdmin),
				"max-age":          never}, accounts{"ada": 0}).PoliciesLie = true
			coretest.Settle(b, "t", estate.Tenant, settings{"lockout-threshold": number(10), "lockout-duration": number(60),
				"expiry-for-synced": setting.Off}, accounts{"ada": estate.Synced})
		}, []string{"lockout-dormant quay.example / own 1"}},
		"an administrator who is spared, and others": {func(b *estate.Builder) {
			a := coretest.Settle(b, "m", estate.Machine, settings{"lockout-threshold": number(5), "lockout-duration": number(900),
				"lockout-window": number(900), "lockout-administrator": setting.Off}, accounts{"ada": 0})
			a.Platform = setting.WindowsMachine
			b.Object(a.Place(), &estate.Record{Class: estate.Account, DN: []byte("Keeper"), Name: []byte("Keeper"), RID: 500, Line: 6})
		}, []string{"root-never-locks m / own / privileged (never locked) 1"}},
		"passwords that nobody uses": {func(b *estate.Builder) {
			coretest.Settle(b, "t", estate.Tenant, nil, nil)
			const day = 24 * 60 * 60
			for name, used := range map[string]struct{ last, set uint32 }{
				"newest": {100 * day, 0}, "just": {55 * day, 0}, "within": {55*day + 1, 0}, "changed": {10 * day, 90 * day}, "unknown": {0, 10 * day}} {
				b.Object(estate.Place{Name: "t", Kind: estate.Tenant}, &estate.Record{Class: estate.Account, DN: []byte(name),
					Name: []byte(name), LastLogon: used.last, PwdSet: used.set, Line: 5})
			}
			b.Object(estate.Place{Name: "t", Kind: estate.Tenant}, &estate.Record{Class: estate.Account, DN: []byte("off"),
				Name: []byte("off"), Flags: estate.Disabled, LastLogon: day, Line: 5})
		}, []string{"password-unused t 1"}},
		"a weaker door": {func(b *estate.Builder) {
			coretest.Settle(b, "quay.example", estate.Domain, settings{"min-length": number(12), "history": number(5)},
				accounts{"ada": 0, "bo": 0, "cy": estate.Disabled}).PoliciesLie = true
			coretest.Settle(b, "m", estate.Machine, settings{"min-length": number(6), "history": number(9)},
				accounts{"ada": 0, "bo": estate.Disabled, "cy": 0})
			coretest.Settle(b, "n", estate.Machine, settings{"min-length": number(14), "history": number(5)}, accounts{"ada": 0})
		}, []string{"weaker-door m 1"}},
	} {
		b := estate.NewBuilder()
		c.build(b)
		survey := govern.NewSurvey(&estate.Estate{Authorities: b.Finish()}, func(*estate.Authority) estate.Dialect { return estate.Windows }, nil)
		if got := findings(survey); !slices.Equal(got, c.want) {
			t.Errorf("%s:\n%s, want\n%s", name, strings.Join(got, "\n"), strings.Join(c.want, "\n"))
		}
	}
}

func TestChecks(t *testing.T) {
	for _, c := range []struct{ settings, finds string }{
		{"history 24; min-age 1 day; min-age 1 day; max-age 42 days", ""},
		{"history 24; min-age at-once", "history-run-through"},
		{"history 0; min-age at-once", ""},
		{"history 24", ""},
		{"min-age 2 days; max-age 1 day", "age-order"},
		{"min-age 2 days; max-age never", ""},
		{"lockout-threshold 5; lockout-duration 30 minutes", ""},
		{"lockout-threshold never; lockout-window 30 minutes", "lockout-dormant"},
		{"lockout-threshold never", ""},
		{"min-length 15; length-limit-relaxed on", ""},
		{"min-length 14; length-limit-relaxed off", ""},
		{"min-length 15; length-limit-relaxed off", "length-capped"},
		{"min-length 15", "length-cap-unseen"},
		{"lockout-threshold 5; lockout-duration 15 minutes; lockout-window 30 minutes", "window-over-duration"},
		{"lockout-threshold 5; lockout-duration until-admin; lockout-window 30 minutes", ""},
		{"min-length 12; min-length-audit 12", "audit-length-idle"},
		{"min-length 12; min-length-audit 13", ""},
		{"min-length 12; min-length-audit 0", ""},
		{"blocklist on; dictionary-check audit", "audit-only"},
		{"blocklist on; dictionary-check on", ""},
		{"complexity on; min-length 7", "complexity-too-short"},
		{"complexity on; min-length 8", ""},
		{"complexity off; min-length 3", ""},
		{"complexity on; min-length 8; max-age 59 days", "changed-too-often"},
		{"complexity on; min-length 8; max-age 60 days", ""},
		{"complexity off; max-age 30 days", ""},
		{"lockout-threshold 5; lockout-duration 15 minutes; lockout-window 15 minutes", ""},
		{"lockout-threshold 6; lockout-duration 15 minutes; lockout-window 15 minutes", "weekend-of-guesses"},
		{"lockout-threshold 1; lockout-window 1 minute", ""},
		{"lockout-threshold 99; lockout-window never", ""},
		{"max-length 63", "length-cap-low"},
		{"max-length 64", ""},
		{"max-length unlimited", ""},
		{"lockout-administrator off; lockout-threshold 5", ""}, // nobody who is spared is in it
		{"lockout-administrator on; lockout-threshold 5", ""},
		{"lockout-administrator off; lockout-threshold never", ""},
	} {
		platform := setting.WindowsMachine
		if strings.Contains(c.settings, "dictionary-check") || strings.Contains(c.settings, "max-length") {
			platform = setting.CloudDirectory
		}
		found := check.Run(check.AtSettings, check.Pass{Scope: coretest.ScopeWith(t, platform, estate.Enforced, c.settings)})
		var names []string
		for _, f := range found {
			names = append(names, f.Check)
			if len(f.Evidence) == 0 {
				t.Errorf("%s: %s shows no evidence", c.settings, f.Check)
			}
		}
		if strings.Join(names, " ") != c.finds {
			t.Errorf("%s: %v, want %q", c.settings, names, c.finds)
		}
	}
	for _, f := range check.Run(check.AtSettings,
		check.Pass{Scope: coretest.ScopeWith(t, setting.WindowsMachine, estate.Enforced,
			"complexity on; min-length 6; max-age 42 days; lockout-threshold 10; lockout-duration 10 minutes; lockout-window 10 minutes")}) {
		for check, want := range map[string]string{"complexity-too-short": "in 7 seconds", "changed-too-often": "8 times a year",
			"weekend-of-guesses": "3348 guesses"} {
			if f.Check == check && !strings.Contains(f.Reason, want) {
				t.Errorf("%s: %s, want %q", check, f.Reason, want)
			}
		}
	}
	if found := check.Run(check.AtSettings,
		check.Pass{Scope: coretest.ScopeWith(t, setting.WindowsMachine, estate.Override,
			"min-length 20; length-limit-relaxed off")}); len(found) != 0 {
		t.Errorf("a fine-grained policy needs no relaxed limit: %+v", found)
	}
}

// How a finding is called, on pages and in lists.
func TestWordsOfAFinding(t *testing.T) {
	s := &govern.Scope{Authority: &estate.Authority{Name: "m"}, Why: "two policies may apply", Settings: map[setting.ID]govern.Effective{
		"min-length": {Missing: govern.NotCollected}, "history": {Missing: govern.Unreadable}}}
	for _, c := range []struct {
		f                     check.Finding
		found                 check.Kind
		head, title, headline string
		undecided             bool
	}{
		{check.Finding{Kind: check.Weak, Settings: []setting.ID{"min-length"}, Observed: "8 characters"}, check.Weak, "Minimum length",
			"Minimum length", "Minimum length: 8 characters", false},
		{check.Finding{Kind: check.Missing, Settings: []setting.ID{"min-length"}, Scope: s}, check.Missing, "Minimum length", "Minimum length",
			"Minimum length", true},
		{check.Finding{Kind: check.Missing, Settings: []setting.ID{"history"}, Scope: s}, check.Missing, "Password history", "Password history",
			"Password history", false},
		{check.Finding{Kind: check.Waived, Beneath: check.Conflicting, Check: "empty-password", Observed: "empty"}, check.Conflicting,
			"empty-password", "An account has an empty password", "empty-password", false},
		{check.Finding{Kind: check.Weak, Check: "of-another-version"}, check.Weak, "of-another-version", "of-another-version",
			"of-another-version", false},
	} {
		if c.f.Found() != c.found || c.f.Head() != c.head || c.f.Title() != c.title || c.f.Headline() != c.headline ||
			c.f.Undecided() != c.undecided {
			t.Errorf("%+v: %s, %q, %q, %q, %v", c.f, c.f.Found(), c.f.Head(), c.f.Title(), c.f.Headline(), c.f.Undecided())
		}
	}
}

// A finding keeps its fingerprint whatever its severity, numbers and settings become, and
// shares it with none of another place, scope or setting.
func TestFingerprints(t *testing.T) {
	at := func(name string, kind estate.Kind) *estate.Authority {
		return &estate.Authority{Name: name, Kind: kind}
	}
	scope := func(a *estate.Authority, policy, tier string) *govern.Scope {
		return &govern.Scope{Authority: a, Policy: &estate.Policy{Name: policy, Origin: "cn=" + policy}, Tier: tier}
	}
	m := at("m", estate.Machine)
	one := check.Finding{Authority: m, Scope: scope(m, "own", "standard"), Settings: []setting.ID{"history"}, Severity: "minor"}
	same := one
	same.Severity, same.Observed, same.Kind = "grave", "3", check.Missing
	if check.Fingerprint(&one) != check.Fingerprint(&same) {
		t.Error("another severity is another finding")
	}
	seen := map[string]string{}
	for name, f := range map[string]check.Finding{"one": one,
		"another setting": {Authority: m, Scope: scope(m, "own", "standard"), Settings: []setting.ID{"min-length"}},
		"another tier":    {Authority: m, Scope: scope(m, "own", "crew"), Settings: []setting.ID{"history"}},
		"another policy":  {Authority: m, Scope: scope(m, "strict", "standard"), Settings: []setting.ID{"history"}},
		"another place": {Authority: at("n", estate.Machine), Scope: scope(at("n", estate.Machine), "own", "standard"),
			Settings: []setting.ID{"history"}},
		"another kind": {Authority: at("m", estate.Domain), Scope: scope(at("m", estate.Domain), "own", "standard"),
			Settings: []setting.ID{"history"}},
		"a check": {Authority: m, Check: "empty-password"}, "of something": {Authority: m, Check: "empty-password", About: "x"},
		"a check's scope": {Authority: m, Check: "empty-password", Scope: scope(m, "own", "standard")}} {
		print := check.Fingerprint(&f)
		if seen[print] != "" || len(print) != 12 {
			t.Errorf("%s has the fingerprint of %s, %s", name, seen[print], print)
		}
		seen[print] = name
	}
}
