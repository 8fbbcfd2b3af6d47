package govern

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// reference answers for one account straight from the words of the rule, with
// no regard to speed: collect the groups, collect the candidates, compare.
func reference(a *estate.Authority, d estate.Dialect, row int) (winner *estate.Policy, candidates []*estate.Policy) {
	o := a.Objects
	if o.FlagsOf(row)&estate.NeverOverride != 0 {
		return nil, nil
	}
	counts := func(g int) bool {
		return o.ClassOf(g) == estate.Group && Carries(d, estate.GroupType(o.GroupType.At(g)))
	}
	holds := map[int]bool{}
	var climb func(g int)
	climb = func(g int) {
		if holds[g] || !counts(g) {
			return
		}
		holds[g] = true
		for above := range o.GroupsOf(g) {
			climb(above)
		}
	}
	for g := range o.GroupsOf(row) {
		climb(g)
	}
	for g := range o.Len() {
		if o.ClassOf(g) == estate.Group && o.RID.At(g) == o.Primary.At(row) {
			climb(g)
		}
	}
	names := func(p *estate.Policy, want func(int) bool) bool {
		return slices.ContainsFunc(p.Targets, func(t estate.Target) bool { return t.Object >= 0 && want(t.Object) })
	}
	var direct, through []*estate.Policy
	for i := range a.Overrides {
		p := &a.Overrides[i]
		if names(p, func(target int) bool { return target == row }) {
			direct = append(direct, p)
		} else if names(p, func(target int) bool { return holds[target] }) {
			through = append(through, p)
		}
	}
	best := through
	if len(direct) > 0 {
		best = direct
	}
	for _, p := range best {
		if winner == nil || *p.Precedence < *winner.Precedence || *p.Precedence == *winner.Precedence &&
			bytes.Compare(p.GUID[:], winner.GUID[:]) < 0 {
			winner = p
		}
	}
	return winner, append(direct, through...)
}

// randomWorld writes a population in the language of world: groups of all
// types in each other, circles, ties, primary groups, direct targets.
func randomWorld(rnd *rand.Rand) string {
	const accounts, groups, policies = 40, 25, 12
	var b strings.Builder
	for i := range accounts {
		kind := "account"
		if rnd.IntN(15) == 0 {
			kind = "trust"
		}
		fmt.Fprintf(&b, "%s a%d %d\n", kind, i, 100+rnd.IntN(groups+20))
	}
	types := []string{"global", "global", "global", "local", "universal", "list"}
	for i := range groups {
		fmt.Fprintf(&b, "group g%d %s %d", i, types[rnd.IntN(len(types))], 100+i)
		for range rnd.IntN(4) {
			fmt.Fprintf(&b, " a%d", rnd.IntN(accounts))
		}
		for range rnd.IntN(3) {
			fmt.Fprintf(&b, " g%d", rnd.IntN(groups))
		}
		b.WriteString("\n")
	}
	for i := range policies {
		fmt.Fprintf(&b, "policy p%d %d %d", i, 1+rnd.IntN(6), i+1)
		for range rnd.IntN(3) {
			fmt.Fprintf(&b, " g%d", rnd.IntN(groups))
		}
		if rnd.IntN(4) == 0 {
			fmt.Fprintf(&b, " a%d", rnd.IntN(accounts))
		}
		b.WriteString("\n")
	}
	return b.String()
}

func policyNames(policies []*estate.Policy) string {
	var names []string
	for _, p := range policies {
		names = append(names, p.Name)
	}
	slices.Sort(names)
	return strings.Join(names, " ")
}

// On random populations the fast way and the plain reading of the rule agree,
// for winners, candidates, chains and reach.
func TestAgreesWithTheRuleAsWritten(t *testing.T) {
	for seed := range uint64(60) {
		text := randomWorld(rand.New(rand.NewPCG(seed, 7)))
		a := world(t, text)
		for _, dialect := range []estate.Dialect{estate.Windows, estate.Samba} {
			r := Resolve(a, dialect)
			reached := map[string][]int{}
			for row := range a.Objects.Len() {
				if a.Objects.ClassOf(row) != estate.Account {
					continue
				}
				want, all := reference(a, dialect, row)
				name := a.Objects.Name.At(row)
				if got := r.Of(row); got.Policy != want || got.Rule == Unknown {
					t.Fatalf("seed %d, %s, %s: %+v, want %+v\n%s", seed, dialect, name, got, want, text)
				}
				var candidates []*estate.Policy
				won := 0
				for _, c := range r.Candidates(row) {
					candidates = append(candidates, c.Policy)
					if c.Why == "" {
						t.Errorf("seed %d, %s: no reason for %s", seed, name, c.Policy.Name)
					}
					if c.Outcome == Won {
						won++
					}
					checkChain(t, a, row, c)
				}
				if policyNames(candidates) != policyNames(all) || want != nil && won != 1 || want == nil && won != 0 {
					t.Fatalf("seed %d, %s, %s: candidates %s, want %s; %d won", seed, dialect, name, policyNames(candidates), policyNames(all), won)
				}
				if got := r.Surely(row); policyNames(got) != policyNames(all) {
					t.Fatalf("seed %d, %s, %s: surely %s, want %s", seed, dialect, name, policyNames(got), policyNames(all))
				}
				for _, p := range all {
					reached[p.Name] = append(reached[p.Name], row)
				}
			}
			for i := range a.Overrides {
				if p := &a.Overrides[i]; !slices.Equal(r.Reaches(p), reached[p.Name]) {
					t.Errorf("seed %d, %s: %s reaches %v, want %v", seed, dialect, p.Name, r.Reaches(p), reached[p.Name])
				}
			}
		}
	}
}

// checkChain walks a candidate's chain: the policy names its first group, each
// group holds the next, the last one holds the account.
func checkChain(t *testing.T, a *estate.Authority, row int, c Candidate) {
	t.Helper()
	if c.Direct {
		if len(c.Chain) != 0 {
			t.Errorf("%s names the account and has a chain", c.Policy.Name)
		}
		return
	}
	if !slices.ContainsFunc(c.Policy.Targets, func(target estate.Target) bool { return target.Object == c.Chain[0] }) {
		t.Errorf("%s does not name %s", c.Policy.Name, a.DN(c.Chain[0]))
	}
	for i, group := range c.Chain {
		member := row
		if i+1 < len(c.Chain) {
			member = c.Chain[i+1]
		}
		primary := a.Objects.Primary.At(member) != 0 && a.Objects.Primary.At(member) == a.Objects.RID.At(group)
		if !slices.Contains(slices.Collect(a.Objects.GroupsOf(member)), group) && !primary {
			t.Errorf("%s does not hold %s", a.DN(group), a.DN(member))
		}
	}
}

func TestWhyAndWithout(t *testing.T) {
	for _, c := range []struct{ world, why, next string }{
		{"account a\npolicy p 1 1 a", "p: the only policy that reaches the account", "domain default"},
		{"account a\ngroup g global 1 a\npolicy p 9 1 a\npolicy q 1 2 g",
			"p: names the account itself: overrides any that comes through a group; q: comes through a group; p names the account itself", "q"},
		{"account a\ngroup g global 1 a\npolicy p 9 1 g\npolicy q 1 2 g", "q: lowest precedence; p: higher precedence number than q", "p"},
		{"account a\ngroup g global 1 a\npolicy p 5 9 g\npolicy q 5 2 g",
			"q: lowest precedence, and of those with the same the smallest GUID; p: same precedence as q, whose GUID is smaller", "p"},
		{"account a\ngroup g global 1 a\npolicy p - 9 g", "p: the precedence of p is not in the evidence", ""},
	} {
		a := world(t, c.world)
		r := Resolve(a, estate.Windows)
		var why []string
		for _, candidate := range r.Candidates(0) {
			why = append(why, candidate.Policy.Name+": "+candidate.Why)
		}
		if got := strings.Join(why, "; "); got != c.why {
			t.Errorf("%q:\n  %s\n  want %s", c.world, got, c.why)
		}
		next, decided := r.Without(0)
		if (c.next == "") == decided || decided && next.Name != c.next {
			t.Errorf("%q: without the winner %+v, want %s", c.world, next, c.next)
		}
	}
}

func TestIgnoredTargets(t *testing.T) {
	a := world(t, "account a\ntrust t\ngroup g global 1\ngroup u universal 2\ngroup l list 3")
	target := func(name string) estate.Target {
		for row := range a.Objects.Len() {
			if a.Objects.Name.At(row) == name {
				return estate.Target{DN: a.DN(row), Object: row}
			}
		}
		return estate.Target{DN: "CN=" + name, Object: estate.NotFound}
	}
	for dialect, wants := range map[estate.Dialect]map[string]string{
		estate.Windows: {"a": "", "t": "a kind of account", "g": "", "u": "a universal security group", "l": "a global distribution group",
			"gone": "not in the evidence"},
		estate.Samba: {"u": "", "l": "a global distribution group"},
	} {
		r := Resolve(a, dialect)
		for name, want := range wants {
			if _, got := r.Ignored(target(name)); !strings.HasPrefix(got, want) || want == "" && got != "" {
				t.Errorf("%s, %s: %q, want %q", dialect, name, got, want)
			}
		}
	}
	b := estate.NewBuilder()
	b.StartFile("x")
	b.StartFile("y")
	for dn, r := range map[string]estate.Record{"OU=u,DC=x": {}, "CN=c,DC=x": {}, "CN=k,DC=x": {Class: estate.Computer},
		"CN=m,DC=x": {Class: estate.Managed}, "CN=o,DC=x": {Class: estate.Account, Flags: estate.Unclassified}} {
		r.DN = []byte(dn)
		b.Object(estate.InDomain("x"), &r)
	}
	a = b.Finish()[0]
	r := Resolve(a, estate.Windows)
	for dn, want := range map[string]struct {
		kind  Target
		words string
	}{"OU=u,DC=x": {Idle, "an organisational unit"}, "CN=c,DC=x": {Idle, "neither an account nor a group"}, "CN=k,DC=x": {Idle, "a computer"},
		"CN=m,DC=x": {Idle, "a managed service account"}, "CN=o,DC=x": {OpenType, "an object exported without what tells its kind"}} {
		for row := range a.Objects.Len() {
			if a.DN(row) != dn {
				continue
			}
			if kind, words := r.Ignored(estate.Target{DN: dn, Object: row}); kind != want.kind || words != want.words {
				t.Errorf("%s: %v %q, want %v %q", dn, kind, words, want.kind, want.words)
			}
		}
	}
}

// An account of a Unix machine is told by its own line of shadow, and nothing else is.
func TestOwnLines(t *testing.T) {
	b := estate.NewBuilder()
	b.StartFile("etc/shadow")
	for _, kind := range []estate.Kind{estate.Machine, estate.LDAP} {
		at := estate.Place{Name: "m", Kind: kind}
		b.Object(at, &estate.Record{Class: estate.Account, DN: []byte("ada"), Line: 1})
		b.Object(at, &estate.Record{Class: estate.Account, DN: []byte("bo"), Line: 7})
	}
	for _, a := range b.Finish() {
		settings := map[setting.ID]Effective{
			"max-age":    {Fact: estate.Fact{Cite: estate.Cite{File: "etc/shadow", Line: 1, Where: "shadow field 5"}}},
			"min-age":    {Fact: estate.Fact{Cite: estate.Cite{File: "other/shadow", Line: 1, Where: "shadow field 4"}}},
			"min-length": {Fact: estate.Fact{Cite: estate.Cite{File: "etc/shadow", Line: 1, Where: "minlen"}}}}
		want := map[setting.ID]int{"max-age": 1, "min-age": 1, "min-length": 1}
		if a.Kind == estate.Machine {
			want["max-age"] = 7
		}
		for id, e := range ownLines(settings, a, 1) {
			if e.Cite.Line != want[id] {
				t.Errorf("%s, %s at line %d, want %d", a.Kind, id, e.Cite.Line, want[id])
			}
		}
	}
}

// A chain of groups as long as a hostile export could make it.
func TestLongChain(t *testing.T) {
	const length = 200_000
	b := estate.NewBuilder()
	b.StartFile("x.ldif")
	dn := func(i int) []byte { return fmt.Appendf(nil, "CN=g%d,DC=x,DC=example", i) }
	for i := range length {
		row := b.Object(estate.InDomain("x.example"), &estate.Record{Class: estate.Group, DN: dn(i), GroupType: 0x80000002, RID: uint32(i + 1)})
		b.Member(estate.InDomain("x.example"), row, dn((i+1)%length), i)
	}
	account := b.Object(estate.InDomain("x.example"), &estate.Record{Class: estate.Account, DN: []byte("CN=a,DC=x,DC=example"),
		Primary: length})
	one := int64(1)
	b.At(estate.InDomain("x.example")).Overrides = []estate.Policy{{Name: "p", Precedence: &one,
		Targets: []estate.Target{{DN: string(dn(0))}}}}
	a := b.Finish()[0]
	r := Resolve(a, estate.Windows)
	if g := r.Of(int(account)); g.Policy == nil || len(r.Candidates(int(account))[0].Chain)+r.Candidates(int(account))[0].Left != length {
		t.Errorf("%+v", g)
	}
	if carried := r.Carried(length / 2); len(carried) != 1 || carried[0].Name != "p" {
		t.Errorf("the group in the middle carries %v", carried)
	}
}

// Fingerprints are stored, and written on paper: they stay as they are.
func TestFingerprint(t *testing.T) {
	for want, parts := range map[string][]string{"facdde7abf1e": {"a", "b"}, "5661c0af3067": {"a b"}, "9c50aa7b5039": {"b", "a"}} {
		if got := Fingerprint(parts...); got != want {
			t.Errorf("%q: %s, want %s", parts, got, want)
		}
	}
}
