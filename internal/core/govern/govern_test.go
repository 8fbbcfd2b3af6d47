package govern

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// world builds a domain from short lines, so that cases read like the rules.
//
//	account NAME [PRIMARY-RID]
//	group NAME TYPE RID MEMBER…      TYPE: global, local, universal, list
//	policy NAME PRECEDENCE GUID-BYTE TARGET…      precedence or GUID "-": missing
//
// The export is whole, but for what a line says: "without members", "without
// container", "without targets", "without users" (the usual primary group).
func world(t testing.TB, lines string) *estate.Authority {
	t.Helper()
	b := estate.NewBuilder()
	b.StartFile("x.ldif")
	dn := func(name string) []byte { return []byte("CN=" + name + ",DC=x,DC=example") }
	pso := func(name string) []byte { return dn(name + ",CN=Password Settings Container,CN=System") }
	types := map[string]uint32{"global": 0x80000002, "local": 0x80000004, "universal": 0x80000008, "list": 0x2, "builtin": 0x80000005, "-": 0}
	a := b.At(estate.InDomain("x.example"))
	a.Head = &estate.Policy{Name: "domain default", Standing: estate.Enforced, Platform: setting.WindowsDomain,
		Settings: estate.Settings{"min-length": {Value: setting.Number(7)}, "lockout-threshold": {Value: setting.Of(setting.Never)}}}
	a.SID = "S-1-5-21-1-2-3"
	without := func(what string) bool { return strings.Contains(lines, "without "+what) }
	if a.PoliciesLie = !without("container"); !without("members") {
		b.ShowsMembers(estate.InDomain("x.example"))
	}
	for i, line := range strings.Split(strings.TrimSpace(lines), "\n") {
		f := strings.Fields(line)
		num := func(k int) (n int64) {
			if _, err := fmt.Sscan(f[k], &n); err != nil {
				t.Fatal(line)
			}
			return n
		}
		switch f[0] {
		case "account", "trust":
			r := &estate.Record{Class: estate.Account, DN: dn(f[1]), Name: []byte(f[1]), RID: uint32(2000 + i), Primary: 513, Line: i + 1}
			if len(f) > 2 {
				r.Primary = uint32(num(2))
			}
			if f[0] == "trust" {
				r.Flags = estate.NeverOverride
			}
			b.Object(estate.InDomain("x.example"), r)
		case "member": // member NAME GROUP…: what the object's own list says; an account unless it is a group elsewhere
			r := &estate.Record{DN: dn(f[1]), Line: i + 1}
			if !strings.Contains(lines, "group "+f[1]+" ") && f[1] != "users" {
				r.Class, r.Name, r.Primary, r.RID = estate.Account, []byte(f[1]), 513, uint32(2000+i)
			} else {
				r.Class = estate.Group
			}
			for _, g := range f[2:] {
				r.Holders, r.HolderLines = append(r.Holders, dn(g)), append(r.HolderLines, uint32(i+1))
			}
			b.Object(estate.InDomain("x.example"), r)
		case "answer": // answer ACCOUNT POLICY: the directory's own
			b.Object(estate.InDomain("x.example"), &estate.Record{Class: estate.Account, DN: dn(f[1]), Resultant: pso(f[2]), Line: i + 1})
		case "points": // points ACCOUNT POLICY: the directory's own back-link
			b.Object(estate.InDomain("x.example"), &estate.Record{DN: dn(f[1]), Applied: [][]byte{pso(f[2])}, Line: i + 1})
		case "group":
			row := b.Object(estate.InDomain("x.example"), &estate.Record{Class: estate.Group, DN: dn(f[1]), Name: []byte(f[1]),
				GroupType: types[f[2]], RID: uint32(num(3)), Line: i + 1})
			for _, m := range f[4:] {
				b.Member(estate.InDomain("x.example"), row, dn(m), i+1)
			}
		case "policy":
			p := b.Override(estate.InDomain("x.example"), pso(f[1]), i+1)
			p.Settings["min-length"] = estate.Fact{Value: setting.Number(20)}
			p.TargetsPart = without("targets")
			if f[2] != "-" {
				n := num(2)
				p.Precedence = &n
			}
			if f[3] != "-" {
				p.GUID[0], p.GUID[15] = byte(num(3)), 1
			}
			for _, target := range f[4:] {
				b.Target(estate.InDomain("x.example"), p, estate.Target{DN: string(dn(target)), Cite: p.Cite})
			}
		}
	}
	if !without("users") {
		b.Object(estate.InDomain("x.example"), &estate.Record{Class: estate.Group, DN: dn("users"), Name: []byte("users"),
			GroupType: types["global"], RID: 513})
	}
	return b.Finish()[0]
}

// answers prints what governs each account: "name=policy/rule/via".
func answers(r *Resolution) string {
	var all []string
	o := r.Authority.Objects
	for row := range o.Len() {
		if o.ClassOf(row) != estate.Account {
			continue
		}
		g := r.Of(row)
		text := o.Name.At(row) + "="
		if g.Policy != nil {
			text += g.Policy.Name
		} else {
			text += string(g.Rule)
		}
		if g.Rule == Group {
			via := "-"
			if g.Via != estate.NotFound {
				via = o.Name.At(g.Via)
			}
			text += "<" + via
		}
		all = append(all, text)
	}
	return strings.Join(all, " ")
}

// The rules of MS-ADTS 3.1.1.4.5.36, a small case each, in both dialects.
func TestPrecedence(t *testing.T) {
	for _, c := range []struct{ name, world, windows, samba string }{
		{"no policy", "account a", "a=default", ""},
		{"direct before group, whatever the precedence", "account a\ngroup g global 1 a\npolicy viagroup 1 1 g\npolicy direct 99 2 a",
			"a=direct", ""},
		{"lowest precedence among groups", "account a\ngroup g global 1 a\ngroup h global 2 a\npolicy p 20 1 g\npolicy q 10 2 h", "a=q<h", ""},
		{"lowest precedence among direct ones", "account a\npolicy p 20 1 a\npolicy q 10 2 a", "a=q", ""},
		{"tie: smallest GUID in stored order", "account a\ngroup g global 1 a\npolicy p 10 9 g\npolicy q 10 3 g", "a=q<g", ""},
		{"nested three deep", "account a\ngroup g global 1 h\ngroup h global 2 i\ngroup i global 3 a\npolicy p 1 1 g", "a=p<g", ""},
		{"groups in a circle", "account a\ngroup g global 1 h\ngroup h global 2 g a\npolicy p 1 1 g", "a=p<g", ""},
		{"a group in itself", "account a\ngroup g global 1 g a\npolicy p 1 1 g", "a=p<g", ""},
		{"primary group", "account a 1\naccount b\ngroup g global 1\npolicy p 1 1 g", "a=p<g b=default", ""},
		{"primary group, nested", "account a 2\ngroup g global 1 h\ngroup h global 2\npolicy p 1 1 g", "a=p<g", ""},
		{"universal group", "account a\ngroup g universal 1 a\npolicy p 1 1 g", "a=default", "a=p<g"},
		{"domain-local group", "account a\ngroup g local 1 a\npolicy p 1 1 g", "a=default", "a=p<g"},
		{"distribution group", "account a\ngroup g list 1 a\npolicy p 1 1 g", "a=default", ""},
		{"through a distribution group", "account a\ngroup g global 1 h\ngroup h list 2 a\npolicy p 1 1 g", "a=default", ""},
		{"worse policy on an inner group",
			"account a\naccount b\ngroup g global 1 h b\ngroup h global 2 a\npolicy inner 20 1 h\npolicy outer 10 2 g", "a=outer<g b=outer<g", ""},
		{"better policy on an inner group",
			"account a\naccount b\ngroup g global 1 h b\ngroup h global 2 a\npolicy inner 5 1 h\npolicy outer 10 2 g", "a=inner<h b=outer<g", ""},
		{"a trust never has one", "trust a\ngroup g global 1 a\npolicy p 1 1 g a", "a=default", ""},
		{"precedence missing", "account a\naccount b\ngroup g global 1 a\npolicy p - 1 g\npolicy q 1 2 g", "a=unknown b=default", ""},
		{"GUID missing in a tie", "account a\naccount b\naccount c\ngroup g global 1 a b\ngroup h global 2 a c\npolicy p 10 - g\npolicy q 10 2 h",
			"a=unknown b=p<g c=q<h", ""},
		{"GUID missing without a tie", "account a\ngroup g global 1 a\npolicy p 10 - g\npolicy q 20 2 g", "a=p<g", ""},
		{"two policies with one GUID", "account a\ngroup g global 1 a\npolicy p 10 7 g\npolicy q 10 7 g", "a=unknown", ""},
		{"a better policy settles a tie", "account a\ngroup g global 1 a\npolicy p 10 - g\npolicy q 10 2 g\npolicy r 5 3 g", "a=r<g", ""},
		{"a hidden policy on the account", "account a\naccount b\npoints a gone", "a=unknown b=default", ""},
		{"a hidden policy on a group", "account a\naccount b\ngroup g global 1 a\npoints g gone\npolicy p 1 1 g", "a=unknown b=default", ""},
		{"direct before a hidden policy on a group", "account a\ngroup g global 1 a\npoints g gone\npolicy p 1 1 a", "a=p", ""},
		{"a built-in group, and what is inside it", "account a\naccount b\ngroup g builtin 1 a h\ngroup h global 2 b\npolicy p 1 1 g",
			"a=default b=default", ""},
		{"a group without its type",
			"account a\naccount b\naccount c\ngroup g - 1 a b\ngroup h global 2 b\ngroup i global 3 c\npolicy p 5 1 g\npolicy q 1 2 " +
				"h\npolicy r 9 3 i", "a=unknown b=q<h c=r<i", ""},
		{"a better one that may reach", "account a\ngroup g - 1 a\ngroup h global 2 a\npolicy p 1 1 g\npolicy q 5 2 h", "a=unknown", ""},
		{"a target that is not there", "account a\npolicy p 1 1 gone", "a=unknown", ""},
		{"a target that is not there, and one's own groups are",
			"member a users\ngroup x global 9 users\nmember users x\nmember x x\npolicy p 1 1 gone", "a=default", ""},
		{"a group that only the member names", "member a g\npolicy p 1 1 g", "a=unknown", ""},
		{"a member that is not there", "account a\ngroup g global 1 gone\npolicy p 1 1 g", "a=unknown", ""},
		{"a member that is not there, under a better policy",
			"account a\ngroup g global 1 gone\ngroup h global 2 a\npolicy p 9 1 g\npolicy q 1 2 h", "a=q<h", ""},
		{"members not exported", "without members\naccount a\ngroup g global 1\npolicy p 1 1 g", "a=unknown", ""},
		{"members not exported, but memberOf",
			"without members\nmember a g\nmember g g\nmember b h\nmember users h\nmember h h\ngroup g global 1\ngroup h global 2\npolicy p 1 1 g",
			"a=p<g b=default", ""},
		{"neither policies nor their container", "without container\naccount a\ntrust t", "a=unknown t=default", ""},
		{"a policy proves that policies were exported", "without container\naccount a\ngroup g global 1\npolicy p 1 1 g", "a=default", ""},
		{"whom policies name was not exported", "without targets\naccount a\npolicy p 1 1", "a=unknown", ""},
		{"the primary group is not there", "without users\naccount a\ngroup g global 1\npolicy p 1 1 g", "a=default", ""},
		{"it is not there, and some group has no SID", "without users\naccount a\ngroup g global 0\npolicy p 1 1 g", "a=unknown", ""},
		{"no primary group was exported", "account a 0\ngroup g global 1\npolicy p 1 1 g", "a=unknown", ""},
		{"the directory's own answer", "account a\ngroup g - 1 a\npolicy p 1 1 g\nanswer a p", "a=p<-", ""},
	} {
		a := world(t, c.world)
		if c.samba == "" {
			c.samba = c.windows
		}
		for dialect, want := range map[estate.Dialect]string{estate.Windows: c.windows, estate.Samba: c.samba} {
			if got := answers(Resolve(a, dialect)); got != want {
				t.Errorf("%s, %s: %s, want %s", c.name, dialect, got, want)
			}
		}
	}
}

// The groups that MS-ADTS has for administrators, by their numbers. Those of the built-in
// domain count there alone, and a thousand more is somebody else's.
func TestAdministrativeGroups(t *testing.T) {
	for _, rid := range []int{512, 518, 519, 520, 526, 527, 544, 548, 549, 550, 551} {
		for _, off := range []int{0, 1000} {
			a := world(t, fmt.Sprintf("account ada\ngroup G global %d ada", rid+off))
			want := Privileged
			if off > 0 || rid >= 544 {
				want = Standard
			}
			if tier, why := NewTiering(a, nil).Of(0); tier != want {
				t.Errorf("a member of %d is %s (%s), want %s", rid+off, tier, why, want)
			}
		}
	}
}

func TestTiers(t *testing.T) {
	a := world(t, "account ada\naccount adm-bo\naccount cy\naccount kiosk1\naccount dee 1200\naccount eve\ngroup Admins global "+
		"512 inner\ngroup inner global 1100 ada\ngroup Ops local 1101 cy\ngroup Prim global 1200\ngroup list list 518 eve")
	rules := []TierRule{{Name: "kiosk", Accounts: []string{"KIOSK?"}}, {Name: Privileged, Groups: []string{"ops", "CN=prim, DC=x,DC=example"},
		Accounts: []string{"adm-*"}}}
	tiering := NewTiering(a, rules)
	want := map[string]string{"ada": Privileged, "adm-bo": Privileged, "cy": Privileged, "kiosk1": "kiosk", "dee": Privileged, "eve": Standard}
	for row := range a.Objects.Len() {
		name := a.Objects.Name.At(row)
		if tier, why := tiering.Of(row); want[name] != "" && (tier != want[name] || why == "") {
			t.Errorf("%s is %s (%s), want %s", name, tier, why, want[name])
		}
	}
	survey := NewSurvey(&estate.Estate{Authorities: []*estate.Authority{a}},
		func(*estate.Authority) estate.Dialect { return estate.Windows }, rules)
	var names []string
	for _, s := range survey.Scopes {
		names = append(names, fmt.Sprintf("%s %d", s.Name(), s.Accounts))
	}
	if got := strings.Join(names,
		"; "); got != "x.example / domain default / kiosk 1; x.example / domain default / privileged 4; x.example / domain default / standard 1" {
		t.Errorf("scopes: %s", got)
	}
}

// Accounts that are undecided for different reasons are blamed on the right
// policy each, and their scope does not give one's reason for all.
func TestUndecidedForSeveralReasons(t *testing.T) {
	a := world(t, "account a\naccount b\npoints a gone\npolicy p - 1 b")
	survey := NewSurvey(&estate.Estate{Authorities: []*estate.Authority{a}},
		func(*estate.Authority) estate.Dialect { return estate.Windows }, nil)
	r := survey.Resolutions[0]
	if g := r.Of(0); g.Doubt.Hidden != &a.Policies[0] || g.Doubt.Kind != PolicyHidden {
		t.Errorf("a: %+v", g)
	}
	if g := r.Of(1); g.Doubt.Policy != &a.Overrides[0] || g.Doubt.Kind != OrderUnknown {
		t.Errorf("b: %+v", g)
	}
	last := survey.Scopes[len(survey.Scopes)-1]
	if last.Rule != Unknown || last.Accounts != 2 || last.Why != severalReasons {
		t.Errorf("%s: %d accounts, %q", last.Name(), last.Accounts, last.Why)
	}
}

func TestEffective(t *testing.T) {
	a := world(t, "account a\ngroup g global 1 a\npolicy p 1 1 g")
	survey := NewSurvey(&estate.Estate{Authorities: []*estate.Authority{a}},
		func(*estate.Authority) estate.Dialect { return estate.Windows }, nil)
	def, override := survey.Scopes[0], survey.Scopes[1]
	a.Head.Settings["lockout-administrator"] = estate.Fact{Value: setting.On}
	for _, c := range []struct {
		scope *Scope
		id    setting.ID
		want  Reason
		from  string
	}{
		{def, "min-length", Present, "domain default"}, {override, "min-length", Present, "p"},
		{override, "history", NotCollected, ""}, {override, "max-repeat", NoSuch, ""},
		{def, "lockout-duration", NotSet, ""}, {def, "ticket-lifetime", NotCollected, ""},
	} {
		if e := c.scope.Settings[c.id]; e.Missing != c.want || e.From != c.from {
			t.Errorf("%s %s: %q from %q, want %q from %q", c.scope.Name(), c.id, e.Missing, e.From, c.want, c.from)
		}
	}
}

// A million accounts with four memberships each and forty policies.
func BenchmarkResolveMillion(b *testing.B) {
	a := million(b)
	b.ReportAllocs()
	for b.Loop() {
		r := Resolve(a, estate.Windows)
		for row := range a.Objects.Len() {
			r.Of(row)
		}
	}
}

func million(b *testing.B) *estate.Authority {
	const accounts, groups, policies = 1_000_000, 20_000, 40
	rnd := rand.New(rand.NewPCG(1, 2))
	build := estate.NewBuilder()
	build.StartFile("x.ldif")
	rows := make([]uint32, groups)
	name := func(kind string, i int) []byte { return fmt.Appendf(nil, "CN=%s%d,DC=x,DC=example", kind, i) }
	for i := range rows {
		rows[i] = build.Object(estate.InDomain("x.example"), &estate.Record{Class: estate.Group, DN: name("g", i), GroupType: 0x80000002,
			RID: uint32(i + 1000)})
		if i > 0 {
			build.Member(estate.InDomain("x.example"), rows[rnd.IntN(i)], name("g", i), i)
		}
	}
	for i := range accounts {
		build.Object(estate.InDomain("x.example"), &estate.Record{Class: estate.Account, DN: name("a", i), Primary: 513})
		for range 4 {
			build.Member(estate.InDomain("x.example"), rows[rnd.IntN(groups)], name("a", i), i)
		}
	}
	a := build.At(estate.InDomain("x.example"))
	for i := range policies {
		n := int64(i + 1)
		a.Overrides = append(a.Overrides, estate.Policy{Origin: fmt.Sprint(i), Precedence: &n,
			Targets: []estate.Target{{DN: string(name("g", rnd.IntN(groups)))}}})
	}
	return build.Finish()[0]
}
