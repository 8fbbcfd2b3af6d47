package govern

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/landtest"
	"sternledger/internal/core/setting"
)

// told prints what governs each account of the land: "name=policy/rule/via",
// and the tier where it is not standard.
func told(s *Survey) string {
	var all []string
	for i, a := range s.Estate.Authorities {
		for row := range a.Objects.Len() {
			if a.Objects.ClassOf(row) != estate.Account {
				continue
			}
			scope, g := s.ScopeOf(i, row)
			text := fmt.Sprintf("%s=%s/%s", a.Objects.Name.At(row), scope.PolicyName(), g.Rule)
			if g.Via != estate.NotFound {
				text += "/" + a.Objects.Name.At(g.Via)
			}
			if scope.Tier != Standard {
				text += "/" + scope.Tier
			}
			all = append(all, text)
		}
	}
	slices.Sort(all)
	return strings.Join(all, " ")
}

func surveyed(e *estate.Estate, tiers ...TierRule) *Survey {
	return NewSurvey(e, func(*estate.Authority) estate.Dialect { return estate.Windows }, tiers)
}

func TestEveryKindOfPlace(t *testing.T) {
	const quay = "domain quay.example S-1-5-21-7\nhead min-length=8\naccount ada rid=1104 upn=ada.west@quay.example\naccount bo " +
		"rid=1105 admin-count\n"
	for name, c := range map[string]struct{ land, want string }{
		"a machine": {"machine m\nhead min-length=8\npolicy root - min-length=0\naccount ada\naccount root administrator " +
			"->root\naccount bo\ngroup sudo bo\naccount cy ->gone",
			"ada=own/machine bo=own/machine/privileged cy=not known/unknown root=root/machine/privileged"},
		"an LDAP directory": {"ldap l\nhead min-length=8\npolicy strict - min-length=14\naccount ada\naccount bo ->strict\naccount cy ->gone",
			"ada=own/default bo=strict/pointer cy=not known/unknown"},
		"one whose default is not known": {"ldap l\npolicy strict - min-length=14\naccount ada\naccount bo ->strict",
			"ada=not known/unknown bo=strict/pointer"},
		"a tenant": {"tenant t\nhead min-length=8\naccount ada\naccount bo federated\naccount cy administrator",
			"ada=own/tenant bo=not known/unknown cy=own/tenant/privileged"},
		"priorities": {"tenant t\npolicy second 2 min-length=9 g\npolicy first 1 min-length=12 h\npolicy rest 9 " +
			"min-length=7\naccount ada\naccount bo\naccount cy\ngroup g ada bo\ngroup h bo",
			"ada=second/group/g bo=first/group/h cy=rest/tenant"},
		"a group that is not there": {"tenant t\npolicy first 1 min-length=12 gone\npolicy rest 9 min-length=7\naccount ada",
			"ada=not known/unknown"},
		"only behind one that is": {"tenant t\npolicy first 1 min-length=12 g\npolicy next 2 min-length=9 gone\naccount ada\naccount " +
			"bo\ngroup g ada",
			"ada=first/group/g bo=not known/unknown"},
		"an account named itself": {"tenant t\npolicy first 1 min-length=12 ada\nhead min-length=5\naccount ada\naccount bo",
			"ada=first/direct bo=own/tenant"},
		"one number for two": {"tenant t\npolicy x 1 min-length=12 g\npolicy y 1 min-length=9 g\naccount ada\ngroup g ada",
			"ada=not known/unknown/g"},
		"groups in groups": {"tenant t\nhead min-length=5\npolicy first 1 min-length=12 outer\naccount ada\ngroup inner " +
			"ada\ngroup outer inner", "ada=first/group/outer"},
		"synchronised, by SID": {quay +
			"tenant t\nhead min-length=5\naccount a1 synchronised from=other.example\\x\\S-1-5-21-7-1104\naccount b1 synchronised " +
			"from=x\\y\\S-1-5-21-7-1105",
			"a1=own of quay.example/default ada=own/default b1=own of quay.example/default bo=own/default"},
		"by domain and name": {quay +
			"tenant t\nhead min-length=5\naccount a1 synchronised from=Quay.Example\\ADA\naccount b1 synchronised from=QUAY\\bo",
			"a1=own of quay.example/default ada=own/default b1=own of quay.example/default bo=own/default"},
		"by principal name": {quay +
			"tenant t\nhead min-length=5\naccount a1 synchronised upn=Ada.West@quay.example\naccount b1 synchronised upn=bo@quay.example",
			"a1=own of quay.example/default ada=own/default b1=not known/unknown bo=own/default"},
		"from a domain that is not there": {"tenant t\nhead min-length=5\naccount a1 synchronised from=far.example\\ada", "a1=not known/unknown"},
		"not in the domain": {quay + "tenant t\nhead min-length=5\naccount a1 synchronised from=quay.example\\eve",
			"a1=not known/unknown ada=own/default bo=own/default"},
		"under a fine-grained policy": {quay +
			"policy strict 5 min-length=20 ada\ntenant t\nhead min-length=5\naccount a1 synchronised from=quay.example\\ada",
			"a1=strict of quay.example/direct ada=strict/direct bo=own/default"},
	} {
		if got := told(surveyed(landtest.Land(t, c.land))); got != c.want {
			t.Errorf("%s:\n%s, want\n%s", name, got, c.want)
		}
	}
}

// What the domain asks for governs a synchronised account; a second factor is
// the tenant's own, and its tier is the domain account's where it has none.
func TestSettingsOfSynchronisedAccounts(t *testing.T) {
	e := landtest.Land(t, "domain quay.example S-1-5-21-7\nhead min-length=8 history=24 max-age=90_days\naccount ada rid=500\naccount bo "+
		"rid=1105\n"+
		"tenant t sync=pass-through\nhead min-length=5 blocklist=on expiry-for-synced=off\naccount a synchronised factor-required "+
		"from=quay.example\\ada\naccount b synchronised second-factor factor-not-required from=quay.example\\bo\n"+
		"account c factor-required\naccount d factor-not-required\naccount f second-factor")
	s := surveyed(e)
	got := map[string]string{}
	for _, scope := range s.Scopes {
		if scope.Authority.Kind != estate.Tenant {
			continue
		}
		var words []string
		for _, id := range []setting.ID{"min-length", "history", "max-age", "blocklist", "expiry-for-synced", "mfa"} {
			e := scope.Settings[id]
			words = append(words, fmt.Sprintf("%s %s", setting.Get(id).Text(e.Value), e.Missing))
		}
		got[scope.Name()] = strings.Join(words, "|")
	}
	for name, want := range map[string]string{
		"t / own of quay.example / privileged": "8 characters |24 passwords |90 days |not set the platform has no such setting|off |all ",
		"t / own of quay.example / standard":   "8 characters |24 passwords |90 days |not set the platform has no such setting|off |none ",
		"t / own": "5 characters |not set the platform has no such setting|not set not collected: the " +
			"evidence does not hold it|on |off |not set not collected: the evidence does not hold it",
	} {
		if got[name] != want {
			t.Errorf("%s: %q, want %q", name, got[name], want)
		}
	}
	if len(got) != 3 {
		t.Errorf("scopes: %v", got)
	}
}

// What holds for a synchronised account at the tenant's door depends on who
// checks its password there.
func TestWaysOfSynchronisation(t *testing.T) {
	const domain = "domain quay.example S-1-5-21-7\nhead min-length=8 max-age=90_days lockout-threshold=5 lockout-window=15m " +
		"lockout-duration=15m\naccount ada rid=1104\n"
	for lines, want := range map[string]string{
		"tenant t sync=password-hash\nhead lockout-threshold=10 lockout-duration=60_seconds max-age=30_days expiry-for-synced=off": "8 " +
			"characters; 10 failed attempts; 1 minute; never expires",
		"tenant t sync=password-hash\nhead lockout-threshold=10 lockout-duration=60_seconds max-age=30_days expiry-for-synced=on": "8 " +
			"characters; 10 failed attempts; 1 minute; 30 days",
		"tenant t sync=password-hash\nhead lockout-threshold=10 lockout-duration=60_seconds max-age=30_days": "8 " +
			"characters; 10 failed attempts; 1 minute; ?",
		"tenant t sync=password-hash\nhead expiry-for-synced=off": "8 " +
			"characters; ?; ?; never expires",
		"tenant t sync=pass-through\nhead lockout-threshold=10 lockout-duration=60_seconds expiry-for-synced=off": "8 " +
			"characters; 5 failed attempts; 15 minutes; 90 days",
		"tenant t\nhead lockout-threshold=10 lockout-duration=60_seconds expiry-for-synced=off": "8 " +
			"characters; ?; ?; ?",
		"tenant t\nhead lockout-threshold=5 lockout-duration=15m max-age=90_days expiry-for-synced=on": "8 " +
			"characters; 5 failed attempts; 15 minutes; 90 days",
	} {
		for _, federated := range []string{"", " federated"} {
			s := surveyed(landtest.Land(t, domain+lines+"\naccount a synchronised"+federated+" from=quay.example\\ada"))
			scope, _ := s.ScopeOf(1, 0)
			var words []string
			for _, id := range []setting.ID{"min-length", "lockout-threshold", "lockout-duration", "max-age"} {
				text := setting.Get(id).Text(scope.Settings[id].Value)
				if scope.Settings[id].Missing != Present {
					text = "?"
				}
				words = append(words, text)
			}
			expected := want
			if federated != "" { // the tenant's settings never run
				expected = "8 characters; 5 failed attempts; 15 minutes; 90 days"
			}
			if got := strings.Join(words, "; "); got != expected {
				t.Errorf("%s%s: %s, want %s", lines, federated, got, expected)
			}
			if home := scope.Home["lockout-threshold"]; home.Value != setting.Number(5) {
				t.Errorf("%s: at home %v", lines, home)
			}
		}
	}
}

// A tenant's list reaches into a domain where there is one, and an agent in it.
func TestListInTheDomain(t *testing.T) {
	for lines, want := range map[string]Reason{
		"head directory-blocklist-mode=on\naccount a synchronised from=x\\y":    Unreadable,
		"head directory-blocklist-mode=audit\naccount a synchronised from=x\\y": Present,
		"head directory-blocklist-mode=on\naccount a":                           NoSuch,
		"head directory-blocklist-mode=on":                                      Unreadable, // accounts were not listed
	} {
		s := surveyed(landtest.Land(t, "tenant t\n"+lines))
		if got := s.OwnSettings(0)["directory-blocklist-mode"]; got.Missing != want || want == Unreadable &&
			(got.Problem == "" || got.Remedy == "") {
			t.Errorf("%s: %+v, want %q", lines, got, want)
		}
	}
}

// The strongest of several settings, where none that is missing could be more.
func TestStrongest(t *testing.T) {
	for lines, want := range map[string]string{
		"head require-lower=2 require-upper=1": "2 ", "head require-lower=0 require-upper=0": "0 ", "head require-upper=1": "1 ",
		"head require-upper=0": " not collected: the evidence does not hold it",
		"head min-length=4":    " not collected: the evidence does not hold it",
	} {
		e := landtest.Land(t, "machine m\n"+lines)
		e.Authorities[0].Platform, e.Authorities[0].Head.Platform = setting.UnixMachine, setting.UnixMachine
		s := surveyed(e)
		x := s.OwnSettings(0)["require-letter"]
		text, _ := x.Value.MarshalText()
		if x.Missing != Present {
			text = nil
		}
		if got := string(text) + " " + string(x.Missing); got != want {
			t.Errorf("%s: %q, want %q", lines, got, want)
		}
	}
}

// Exceptions, origins, conditions that are not modelled, lists that are cut.
func TestConditionsOfPolicies(t *testing.T) {
	const lines = "tenant t\nhead min-length=5\npolicy p 1 min-length=12 g\npolicy rest 9 min-length=7\naccount ada\naccount " +
		"bo\naccount cy\naccount sy synchronised from=far.example\\x\naccount gi guest\ngroup g ada bo\ngroup h bo\ngroup part cy"
	for name, c := range map[string]struct {
		change func(a *estate.Authority, p *estate.Policy)
		want   string
	}{
		"as it is": {func(*estate.Authority, *estate.Policy) {}, "ada=p bo=p cy=rest"},
		"but one": {func(_ *estate.Authority, p *estate.Policy) { p.Except = []estate.Target{{Object: 1}} },
			"ada=p bo=rest cy=rest"},
		"but a group": {func(a *estate.Authority, p *estate.Policy) { p.Except = []estate.Target{{Object: rowOf(a, "h")}} },
			"ada=p bo=rest cy=rest"},
		"but a group unseen": {func(_ *estate.Authority, p *estate.Policy) { p.Except = []estate.Target{{Object: estate.NotFound}} },
			"ada=not known bo=not known cy=rest"},
		"for another origin": {func(_ *estate.Authority, p *estate.Policy) { p.Of = estate.FromDomain }, "ada=rest bo=rest cy=rest"},
		"for its own":        {func(_ *estate.Authority, p *estate.Policy) { p.Of = estate.Native }, "ada=p bo=p cy=rest"},
		"on a condition":     {func(_ *estate.Authority, p *estate.Policy) { p.Open = "the network" }, "ada=not known bo=not known cy=rest"},
		"for whom is not told": {func(_ *estate.Authority, p *estate.Policy) { p.Targets, p.TargetsPart = nil, true },
			"ada=not known bo=not known cy=not known"},
		"a group cut short": {nil, "ada=p bo=p cy=not known"},
		"the policies cut short": {func(a *estate.Authority, _ *estate.Policy) { a.PoliciesCut = &estate.Cite{} },
			"ada=not known bo=not known cy=not known"},
	} {
		text := lines
		if c.change == nil {
			text = strings.Replace(lines, "group g ", "group g! ", 1)
			text = strings.Replace(text, "min-length=12 g", "min-length=12 g!", 1)
		}
		e := landtest.Land(t, text)
		a := e.Authorities[0]
		for i := range a.Overrides {
			if c.change != nil && a.Overrides[i].Name == "p" {
				c.change(a, &a.Overrides[i])
			}
		}
		s := surveyed(e)
		var got []string
		for row := range 3 {
			scope, _ := s.ScopeOf(0, row)
			got = append(got, a.Objects.Name.At(row)+"="+scope.PolicyName())
		}
		if text := strings.Join(got, " "); text != c.want {
			t.Errorf("%s: %s, want %s", name, text, c.want)
		}
		if scope, g := s.ScopeOf(0, 4); g.Rule != Unknown || !strings.Contains(scope.Why, "guest") && scope.Why != severalReasons {
			t.Errorf("%s: a guest is governed by %s: %s", name, scope.PolicyName(), g.Why)
		}
	}
}

// rowOf finds a row by name.
func rowOf(a *estate.Authority, name string) int {
	for row := range a.Objects.Len() {
		if a.Objects.Name.At(row) == name {
			return row
		}
	}
	return estate.NotFound
}

func TestCandidatesElsewhere(t *testing.T) {
	s := surveyed(landtest.Land(t, "tenant t\nhead min-length=5\npolicy first 1 min-length=12 g\npolicy second 2 min-length=9 g\npolicy "+
		"idle 3 min-length=9 h\naccount ada\naccount bo\ngroup g ada\ngroup h"))
	r := s.Resolutions[0]
	var got []string
	for _, c := range r.Candidates(0) {
		got = append(got, fmt.Sprintf("%s %v %s", c.Policy.Name, c.Outcome == Won, c.Why))
	}
	if want := []string{"first true the first that matches", "second false a policy before it matches"}; !slices.Equal(got, want) {
		t.Errorf("candidates: %q, want %q", got, want)
	}
	for i, want := range []int{1, 1, 0} {
		if n := len(r.Reaches(&r.Authority.Overrides[[]int{0, 2, 1}[i]])); n != want {
			t.Errorf("%s reaches %d, want %d", r.Authority.Overrides[[]int{0, 2, 1}[i]].Name, n, want)
		}
	}
	if p, decided := r.Without(0); !decided || p == nil || p.Name != "second" {
		t.Errorf("without the winner: %v %v", p, decided)
	}
	s = surveyed(landtest.Land(t, "machine m\nhead min-length=5\npolicy own - min-length=9\naccount ada ->own\naccount bo"))
	if c := s.Resolutions[0].Candidates(0); len(c) != 1 || c[0].Outcome != Won || !strings.Contains(c[0].Why, "own lines") {
		t.Errorf("on a machine: %+v", c)
	}
	if c := s.Resolutions[0].Candidates(1); c != nil {
		t.Errorf("on a machine, of the machine's own: %+v", c)
	}
}
