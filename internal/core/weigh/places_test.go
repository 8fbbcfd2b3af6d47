package weigh

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// settle adds one authority with accounts, each a name and flags.
func settle(b *estate.Builder, name string, kind estate.Kind, settings map[setting.ID]setting.Value, accounts map[string]estate.Flag) *estate.Authority {
	b.StartFile(name + ".x")
	at := estate.Place{Name: name, Kind: kind}
	a := b.At(at)
	if settings != nil {
		a.Head = &estate.Policy{Name: "own", Origin: "own", Standing: estate.Enforced, Platform: a.Platform, Settings: estate.Settings{}}
		for id, v := range settings {
			a.Head.Settings[id] = estate.Fact{Value: v, Cite: estate.Cite{File: name + ".x", Line: 1, Where: string(id)}}
		}
	}
	for who, flags := range accounts {
		b.Object(at, &estate.Record{Class: estate.Account, DN: []byte(who), Name: []byte(who), Flags: flags, Source: []byte("quay.example\t" + who), Line: 2})
	}
	return a
}

// findings lists "check authority-or-scope accounts".
func findings(s *govern.Survey) []string {
	r := Run(s, Choice{Baselines: against(), Expect: Expectation{Age: func(string) int64 { return 0 }}})
	var all []string
	for _, f := range r.Findings {
		if f.Check == notCovered { // no baseline is chosen here
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
			settle(b, "m", estate.Machine, settings{"min-length": number(14)}, accounts{"ada": 0})
		}, nil},
		"what a reader saw": {func(b *estate.Builder) {
			a := settle(b, "m", estate.Machine, settings{"min-length": number(14)}, accounts{"ada": 0, "bo": 0})
			for _, kind := range []estate.RemarkKind{estate.NotCalled, estate.NotObeyed, estate.NotTaken, estate.NotModelled, estate.DoorsDiffer, estate.NewAccountsOnly, estate.OldHash} {
				a.Remarks = append(a.Remarks, estate.Remark{Kind: kind, Text: "t", Remedy: "r", Cites: []estate.Cite{{File: "m.x", Line: 1}}})
			}
			a.Remarks[6].Accounts = []string{"bo"}
		}, []string{"doors-differ m", "module-not-called m", "module-not-modelled m", "module-not-obeyed m", "new-accounts-only m", "old-hash m 1", "option-not-taken m"}},
		"empty, and not seen": {func(b *estate.Builder) {
			settle(b, "m", estate.Machine, settings{"min-length": number(14)}, accounts{"ada": estate.EmptyPassword, "bo": estate.NoControl, "cy": 0})
		}, []string{"empty-password m 1", "shadow-unseen m 1"}},
		"an LDAP directory without its default": {func(b *estate.Builder) {
			settle(b, "l", estate.LDAP, nil, accounts{"ada": 0})
			at := estate.Place{Name: "l", Kind: estate.LDAP}
			b.Override(at, []byte("cn=idle"), 3)
			b.Object(at, &estate.Record{Class: estate.Account, DN: []byte("bo"), Name: []byte("bo"), Applied: [][]byte{[]byte("cn=gone")}, Line: 4})
		}, []string{"default-unknown l 1", "pointer-broken l 1", "policy-unused l 0"}},
		"a tenant and its domain": {func(b *estate.Builder) {
			settle(b, "quay.example", estate.Domain, settings{"lockout-threshold": number(5), "lockout-duration": number(900), "max-age": number(86400), "min-length": number(12)}, accounts{"ada": 0, "cy": 0}).PoliciesLie = true
			settle(b, "t", estate.Tenant, settings{"lockout-threshold": number(10), "lockout-duration": number(900), "expiry-for-synced": setting.Off},
				accounts{"ada": estate.Synced, "bo": estate.Synced, "fed": estate.Federated}).Sync = estate.PasswordHash
		}, []string{"cloud-lock-looser t / own of quay.example 1", "federated-unseen t 1", "synchronised-never-expire t / own of quay.example 1", "synchronised-unseen t 1"}},
		"a tenant that is as strict": {func(b *estate.Builder) {
			settle(b, "quay.example", estate.Domain, settings{"lockout-threshold": never, "lockout-duration": setting.Of(setting.UntilAdmin), "max-age": never}, accounts{"ada": 0}).PoliciesLie = true
			settle(b, "t", estate.Tenant, settings{"lockout-threshold": number(10), "lockout-duration": number(60), "expiry-for-synced": setting.Off}, accounts{"ada": estate.Synced})
		}, []string{"lockout-dormant quay.example / own 1"}},
		"a weaker door": {func(b *estate.Builder) {
			settle(b, "quay.example", estate.Domain, settings{"min-length": number(12), "history": number(5)}, accounts{"ada": 0, "bo": 0, "cy": estate.Disabled}).PoliciesLie = true
			settle(b, "m", estate.Machine, settings{"min-length": number(6), "history": number(9)}, accounts{"ada": 0, "bo": estate.Disabled, "cy": 0})
			settle(b, "n", estate.Machine, settings{"min-length": number(14), "history": number(5)}, accounts{"ada": 0})
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

// Demands are judged where the settings are: those of a domain in the domain,
// even for accounts that a tenant has a copy of.
func TestDemandsOnSynchronisedAccounts(t *testing.T) {
	b := estate.NewBuilder()
	settle(b, "quay.example", estate.Domain, map[setting.ID]setting.Value{"min-length": setting.Number(8)}, map[string]estate.Flag{"ada": 0}).PoliciesLie = true
	settle(b, "t", estate.Tenant, map[setting.ID]setting.Value{"min-length": setting.Number(8), "blocklist": setting.Off, "expiry-for-synced": setting.Off}, map[string]estate.Flag{"ada": estate.Synced, "bo": 0})
	survey := govern.NewSurvey(&estate.Estate{Authorities: b.Finish()}, func(*estate.Authority) estate.Dialect { return estate.Windows }, nil)
	demands, err := baseline.Parse("t.yaml", []byte("id: t\ntitle: T\nversion: 1\nfor: {platforms: [cloud-directory]}\ndemands:\n"+
		"- {setting: min-length, at-least: 14, severity: grave, why: w.}\n- {setting: blocklist, exactly: \"on\", severity: grave, why: w.}\n- {setting: expiry-for-synced, exactly: \"on\", severity: grave, why: w.}\n"))
	if err != nil {
		t.Fatal(err)
	}
	r := Run(survey, Choice{Baselines: against(demands), Expect: Expectation{Age: func(string) int64 { return 0 }}})
	var got []string
	for _, v := range r.Verdicts {
		got = append(got, fmt.Sprintf("%s %s %s", v.Scope.Name(), v.Demand.Setting, v.Kind))
	}
	want := []string{"t / own min-length weak", "t / own blocklist weak", "t / own expiry-for-synced weak", "t / own of quay.example expiry-for-synced weak"}
	if !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
}

// A waiver that an earlier version recorded, which did not know kinds of places,
// still covers its finding; where it could mean two, it covers neither.
func TestWaiversOnOldFingerprints(t *testing.T) {
	for kinds, want := range map[string]string{"machine": "in force waived", "machine ldap": "ambiguous missing missing"} {
		b := estate.NewBuilder()
		for kind := range strings.FieldsSeq(kinds) {
			settle(b, "quay", estate.Kind(kind), map[setting.ID]setting.Value{"min-length": setting.Number(14)}, map[string]estate.Flag{"ada": 0})
		}
		survey := govern.NewSurvey(&estate.Estate{Authorities: b.Finish()}, func(*estate.Authority) estate.Dialect { return "" }, nil)
		r := Run(survey, Choice{Baselines: against(), Expect: Expectation{Age: func(string) int64 { return 0 }}})
		r.Findings = slices.DeleteFunc(r.Findings, func(f Finding) bool { return f.Check != notCovered })
		old := r.Findings[0]
		r.Waive([]Waiver{{Fingerprint: old.Alias, Check: old.Check, Kind: Missing, Severity: old.Severity, Until: "2027-06-30"}})
		got := string(r.Waivers[0].State)
		for _, f := range r.Findings {
			got += " " + string(f.Kind)
		}
		if got != want || old.Alias == old.Fingerprint {
			t.Errorf("%s: %s, want %s", kinds, got, want)
		}
	}
}
