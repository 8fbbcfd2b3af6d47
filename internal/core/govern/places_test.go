package govern

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// land builds several authorities from short lines.
//
//	KIND NAME [SID]                              the ones that follow are its own
//	head SETTING=VALUE…
//	policy NAME PRECEDENCE SETTING=VALUE,… TARGET…   precedence "-": none
//	account NAME [FLAG…] [->POLICY] [from=DOMAIN\NAME\SID] [rid=N] [upn=NAME]
//	group NAME MEMBER…
func land(t testing.TB, lines string) *estate.Estate {
	t.Helper()
	b := estate.NewBuilder()
	b.StartFile("x")
	var at estate.Place
	var domains []estate.Place
	facts := func(words []string) estate.Settings {
		all := estate.Settings{}
		for _, w := range words {
			id, text, ok := strings.Cut(w, "=")
			if !ok {
				continue
			}
			v, err := setting.Get(setting.ID(id)).Parse(strings.ReplaceAll(text, "_", " "))
			if err != nil {
				t.Fatal(err)
			}
			all[setting.ID(id)] = estate.Fact{Value: v, Cite: estate.Cite{File: "x", Line: 1}}
		}
		return all
	}
	for i, line := range strings.Split(strings.TrimSpace(lines), "\n") {
		f := strings.Fields(line)
		switch f[0] {
		case "domain", "machine", "ldap", "tenant":
			at = estate.Place{Name: f[1], Kind: estate.Kind(f[0])}
			if a := b.At(at); len(f) > 2 {
				a.SID, a.PoliciesLie = f[2], true
				b.ShowsMembers(at)
				domains = append(domains, at)
			}
		case "head":
			a := b.At(at)
			a.Head = &estate.Policy{Name: "own", Origin: "own of " + at.Name, Standing: estate.Enforced, Platform: a.Platform, Settings: facts(f[1:])}
		case "policy":
			p := b.Override(at, []byte(f[1]), i+1)
			p.Name, p.Settings = f[1], facts(strings.Split(f[3], ","))
			if n, err := strconv.ParseInt(f[2], 10, 64); err == nil {
				p.Precedence = &n
			}
			for _, target := range f[4:] {
				p.Targets = append(p.Targets, estate.Target{DN: target})
			}
		case "account":
			r := &estate.Record{Class: estate.Account, DN: []byte(f[1]), Name: []byte(f[1]), Line: i + 1, Primary: 513}
			for _, w := range f[2:] {
				key, value, _ := strings.Cut(w, "=")
				flag, isFlag := estate.FlagNamed(w)
				switch {
				case isFlag:
					r.Flags |= flag
				case strings.HasPrefix(w, "->"):
					r.Applied = [][]byte{[]byte(w[2:])}
				case key == "from":
					r.Source = []byte(strings.ReplaceAll(value, `\`, "\t"))
				case key == "rid":
					n, _ := strconv.ParseUint(value, 10, 32)
					r.RID = uint32(n)
				case key == "upn":
					r.Principal = []byte(value)
				default:
					t.Fatal(line)
				}
			}
			b.Object(at, r)
		case "group":
			row := b.Object(at, &estate.Record{Class: estate.Group, DN: []byte(f[1]), Name: []byte(f[1]), GroupType: estate.SecurityGroup, RID: uint32(100 + i), Line: i + 1})
			for _, m := range f[2:] {
				b.Member(at, row, []byte(m), i+1)
			}
		}
	}
	for _, at := range domains { // the export is whole
		for _, rid := range []uint32{512, 513} {
			b.Object(at, &estate.Record{Class: estate.Group, DN: fmt.Append(nil, rid), GroupType: estate.SecurityGroup, RID: rid})
		}
	}
	return &estate.Estate{Authorities: b.Finish()}
}

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
	const quay = "domain quay.example S-1-5-21-7\nhead min-length=8\naccount ada rid=1104 upn=ada.west@quay.example\naccount bo rid=1105 admin-count\n"
	for name, c := range map[string]struct{ land, want string }{
		"a machine": {"machine m\nhead min-length=8\npolicy root - min-length=0\naccount ada\naccount root administrator ->root\naccount bo\ngroup sudo bo\naccount cy ->gone",
			"ada=own/machine bo=own/machine/privileged cy=not known/unknown root=root/machine/privileged"},
		"an LDAP directory": {"ldap l\nhead min-length=8\npolicy strict - min-length=14\naccount ada\naccount bo ->strict\naccount cy ->gone",
			"ada=own/default bo=strict/pointer cy=not known/unknown"},
		"one whose default is not known": {"ldap l\npolicy strict - min-length=14\naccount ada\naccount bo ->strict", "ada=not known/unknown bo=strict/pointer"},
		"a tenant":                       {"tenant t\nhead min-length=8\naccount ada\naccount bo federated\naccount cy administrator", "ada=own/tenant bo=not known/unknown cy=own/tenant/privileged"},
		"priorities": {"tenant t\npolicy second 2 min-length=9 g\npolicy first 1 min-length=12 h\npolicy rest 9 min-length=7\naccount ada\naccount bo\naccount cy\ngroup g ada bo\ngroup h bo",
			"ada=second/group/g bo=first/group/h cy=rest/tenant"},
		"a group that is not there": {"tenant t\npolicy first 1 min-length=12 gone\npolicy rest 9 min-length=7\naccount ada", "ada=not known/unknown"},
		"only behind one that is": {"tenant t\npolicy first 1 min-length=12 g\npolicy next 2 min-length=9 gone\naccount ada\naccount bo\ngroup g ada",
			"ada=first/group/g bo=not known/unknown"},
		"an account named itself": {"tenant t\npolicy first 1 min-length=12 ada\nhead min-length=5\naccount ada\naccount bo", "ada=first/direct bo=own/tenant"},
		"one number for two":      {"tenant t\npolicy x 1 min-length=12 g\npolicy y 1 min-length=9 g\naccount ada\ngroup g ada", "ada=not known/unknown/g"},
		"groups in groups":        {"tenant t\nhead min-length=5\npolicy first 1 min-length=12 outer\naccount ada\ngroup inner ada\ngroup outer inner", "ada=first/group/outer"},
		"synchronised, by SID": {quay + "tenant t\nhead min-length=5\naccount a1 synchronised from=other.example\\x\\S-1-5-21-7-1104\naccount b1 synchronised from=x\\y\\S-1-5-21-7-1105",
			"a1=own of quay.example/default ada=own/default b1=own of quay.example/default bo=own/default"},
		"by domain and name": {quay + "tenant t\nhead min-length=5\naccount a1 synchronised from=Quay.Example\\ADA\naccount b1 synchronised from=QUAY\\bo",
			"a1=own of quay.example/default ada=own/default b1=own of quay.example/default bo=own/default"},
		"by principal name": {quay + "tenant t\nhead min-length=5\naccount a1 synchronised upn=Ada.West@quay.example\naccount b1 synchronised upn=bo@quay.example",
			"a1=own of quay.example/default ada=own/default b1=not known/unknown bo=own/default"},
		"from a domain that is not there": {"tenant t\nhead min-length=5\naccount a1 synchronised from=far.example\\ada", "a1=not known/unknown"},
		"not in the domain":               {quay + "tenant t\nhead min-length=5\naccount a1 synchronised from=quay.example\\eve", "a1=not known/unknown ada=own/default bo=own/default"},
		"under a fine-grained policy": {quay + "policy strict 5 min-length=20 ada\ntenant t\nhead min-length=5\naccount a1 synchronised from=quay.example\\ada",
			"a1=strict of quay.example/direct ada=strict/direct bo=own/default"},
	} {
		if got := told(surveyed(land(t, c.land))); got != c.want {
			t.Errorf("%s:\n%s, want\n%s", name, got, c.want)
		}
	}
}

// What the domain asks for governs a synchronised account; a second factor is
// the tenant's own, and its tier is the domain account's where it has none.
func TestSettingsOfSynchronisedAccounts(t *testing.T) {
	e := land(t, "domain quay.example S-1-5-21-7\nhead min-length=8 history=24 max-age=90_days\naccount ada rid=500\naccount bo rid=1105\n"+
		"tenant t\nhead min-length=5 blocklist=on expiry-for-synced=off\naccount a synchronised second-factor from=quay.example\\ada\naccount b synchronised no-second-factor from=quay.example\\bo\n"+
		"account c second-factor\naccount d no-second-factor\naccount f")
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
		"t / own":                              "5 characters |not set the platform has no such setting|not set not collected: the evidence does not hold it|on |off |not set not collected: the evidence does not hold it",
	} {
		if got[name] != want {
			t.Errorf("%s: %q, want %q", name, got[name], want)
		}
	}
	if len(got) != 3 {
		t.Errorf("scopes: %v", got)
	}
}

func TestCandidatesElsewhere(t *testing.T) {
	s := surveyed(land(t, "tenant t\nhead min-length=5\npolicy first 1 min-length=12 g\npolicy second 2 min-length=9 g\npolicy idle 3 min-length=9 h\naccount ada\naccount bo\ngroup g ada\ngroup h"))
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
	s = surveyed(land(t, "machine m\nhead min-length=5\npolicy own - min-length=9\naccount ada ->own\naccount bo"))
	if c := s.Resolutions[0].Candidates(0); len(c) != 1 || c[0].Outcome != Won || !strings.Contains(c[0].Why, "own lines") {
		t.Errorf("on a machine: %+v", c)
	}
	if c := s.Resolutions[0].Candidates(1); c != nil {
		t.Errorf("on a machine, of the machine's own: %+v", c)
	}
}
