package govern

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
)

// woods is a forest as a plain list, to be read plainly: domains x.example and
// y.x.example of one forest, and z.example that they trust.
type woods struct {
	objects []wood
	members map[int][]int // by group
	targets [][]int       // by policy
}

type wood struct {
	domain int
	group  bool
	kind   estate.GroupType
	rid    uint32
}

var domainsOfWoods = []string{"x.example", "y.x.example", "z.example"}

func (w *wood) name(i int) string {
	return fmt.Sprintf("CN=o%d,CN=Users,DC=%s", i, strings.ReplaceAll(domainsOfWoods[w.domain], ".", ",DC="))
}

func sidOf(domain int) string { return fmt.Sprint("S-1-5-21-7-7-", domain+1) }

func randomWoods(rnd *rand.Rand) *woods {
	const accounts, groups, policies = 30, 24, 8
	w := &woods{members: map[int][]int{}}
	kinds := []estate.GroupType{groupSecurity | groupGlobal, groupSecurity | groupGlobal, groupSecurity | 8, groupSecurity | 4, groupGlobal}
	administrativeOnes := []uint32{512, 519, 518, 526}
	for i := range accounts {
		w.objects = append(w.objects, wood{domain: rnd.IntN(3), rid: uint32(1000 + i)})
	}
	for i := range groups {
		g := wood{domain: rnd.IntN(3), group: true, kind: kinds[rnd.IntN(len(kinds))], rid: uint32(2000 + i)}
		if rnd.IntN(6) == 0 {
			g.rid, g.kind = administrativeOnes[rnd.IntN(len(administrativeOnes))], groupSecurity|8
			if slices.ContainsFunc(w.objects, func(o wood) bool { return o.rid == g.rid && o.domain == g.domain }) {
				g.rid = uint32(2000 + i)
			}
		}
		w.objects = append(w.objects, g)
	}
	for g := accounts; g < accounts+groups; g++ {
		for range rnd.IntN(4) {
			w.members[g] = append(w.members[g], rnd.IntN(accounts))
		}
		for range rnd.IntN(3) {
			w.members[g] = append(w.members[g], accounts+rnd.IntN(groups))
		}
		// A group of another forest holds nothing of this one, and a global group
		// nothing of another domain.
		group := w.objects[g]
		w.members[g] = slices.DeleteFunc(w.members[g], func(m int) bool {
			return m == g || w.objects[m].domain != group.domain && (group.domain == 2 || group.kind.Global())
		})
	}
	for range policies {
		var targets []int
		for range 1 + rnd.IntN(2) {
			targets = append(targets, accounts+rnd.IntN(groups))
		}
		w.targets = append(w.targets, targets)
	}
	return w
}

// estate writes the woods as evidence, without the domains left out. With
// memberOf objects tell the groups of their own domain, as controllers do.
func (w *woods) estate(memberOf bool, without ...int) *estate.Estate {
	b := estate.NewBuilder()
	b.StartFile("x")
	at := func(domain int) estate.Place { return estate.InDomain(domainsOfWoods[domain]) }
	seen := func(domain int) bool { return !slices.Contains(without, domain) }
	for d := range domainsOfWoods {
		if seen(d) {
			a := b.At(at(d))
			a.SID, a.PoliciesLie = sidOf(d), true
			a.Head = &estate.Policy{Name: "own", Origin: "DC=" + strings.ReplaceAll(domainsOfWoods[d], ".", ",DC="), Settings: estate.Settings{}}
			b.ShowsMembers(at(d))
			b.ShowsTargets(at(d))
			b.Object(at(d), &estate.Record{Class: estate.Group, DN: []byte("CN=Domain Users,CN=Users," + a.Head.Origin),
				GroupType: uint32(groupSecurity | groupGlobal), RID: 513})
			if !slices.ContainsFunc(w.objects, func(o wood) bool { return o.domain == d && o.rid == 512 }) {
				b.Object(at(d), &estate.Record{Class: estate.Group, DN: []byte("CN=Domain Admins,CN=Users," + a.Head.Origin),
					GroupType: uint32(groupSecurity | groupGlobal), RID: 512})
			}
		}
	}
	rows := map[int]uint32{}
	for i, o := range w.objects {
		if !seen(o.domain) {
			continue
		}
		rec := &estate.Record{Class: estate.Account, DN: []byte(o.name(i)), Name: fmt.Append(nil, "o", i), RID: o.rid, Primary: 513, Line: i + 1}
		if o.group {
			rec.Class, rec.GroupType, rec.Primary = estate.Group, uint32(o.kind), 0
		}
		if memberOf {
			rec.Holders = [][]byte{}
			for g := range w.objects {
				if w.objects[g].domain == o.domain && slices.Contains(w.members[g], i) {
					rec.Holders, rec.HolderLines = append(rec.Holders, []byte(w.objects[g].name(g))), append(rec.HolderLines, uint32(i+1))
				}
			}
		}
		rows[i] = b.Object(at(o.domain), rec)
	}
	for g := range w.objects {
		if !w.objects[g].group || !seen(w.objects[g].domain) {
			continue
		}
		for _, m := range w.members[g] {
			dn := []byte(w.objects[m].name(m))
			if w.objects[m].domain == 2 && w.objects[g].domain != 2 {
				dn = fmt.Appendf(nil, "CN=%s-%d,CN=ForeignSecurityPrincipals,DC=%s", sidOf(2), w.objects[m].rid,
					strings.ReplaceAll(domainsOfWoods[w.objects[g].domain], ".", ",DC="))
				b.Object(at(w.objects[g].domain), &estate.Record{DN: dn, Line: g + 1})
			}
			b.Member(at(w.objects[g].domain), rows[g], dn, g+1)
		}
	}
	for p, targets := range w.targets {
		d := w.objects[targets[0]].domain
		if !seen(d) {
			continue
		}
		n := int64(p % 5)
		policy := b.Override(at(d), fmt.Appendf(nil, "CN=p%d,CN=Password Settings Container,CN=System,%s", p, "DC="+strings.ReplaceAll(domainsOfWoods[d], ".", ",DC=")), p+1)
		policy.Name, policy.Precedence, policy.GUID[0] = fmt.Sprint("p", p), &n, byte(p+1)
		for _, t := range targets {
			if w.objects[t].domain == d {
				policy.Targets = append(policy.Targets, estate.Target{DN: w.objects[t].name(t), Cite: b.Cite(p+1, "", "")})
			}
		}
	}
	return &estate.Estate{Authorities: b.Finish()}
}

// above are all groups that hold an object at any depth, through groups that
// count.
func (w *woods) above(object int, counts func(g int) bool) map[int]bool {
	all := map[int]bool{}
	var climb func(int)
	climb = func(i int) {
		for g := range w.objects {
			if slices.Contains(w.members[g], i) && counts(g) && !all[g] {
				all[g] = true
				climb(g)
			}
		}
	}
	climb(object)
	return all
}

// privileged reads plainly whether an account is in an administrative group of
// any domain.
func (w *woods) privileged(account int) bool {
	for g := range w.above(account, func(g int) bool { return w.objects[g].kind.Security() }) {
		if administrative[w.objects[g].rid] != "" {
			return true
		}
	}
	return false
}

// governing reads plainly which policy governs an account.
func (w *woods) governing(account int, d estate.Dialect) string {
	holds := w.above(account, func(g int) bool { return Carries(d, w.objects[g].kind) })
	best := -1
	for p, targets := range w.targets {
		domain := w.objects[targets[0]].domain
		reaches := func(target int) bool { return w.objects[target].domain == domain && holds[target] }
		if domain != w.objects[account].domain || !slices.ContainsFunc(targets, reaches) {
			continue
		}
		if best < 0 || cmp.Or(cmp.Compare(p%5, best%5), cmp.Compare(p, best)) < 0 {
			best = p
		}
	}
	if best < 0 {
		return "-"
	}
	return fmt.Sprint("p", best)
}

const (
	groupSecurity = estate.GroupType(1 << 31)
	groupGlobal   = estate.GroupType(2)
)

// Across the domains of a forest, and of one that it trusts, tiers and policies
// are those of a plain reading; where a domain is not in the evidence, what is
// said is right, and what is not known is said to be so.
func TestForests(t *testing.T) {
	across, policies, unknown := 0, 0, 0
	for seed := range uint64(150) {
		w := randomWoods(rand.New(rand.NewPCG(seed, 22)))
		for _, d := range []estate.Dialect{estate.Windows, estate.Samba} {
			for _, memberOf := range []bool{false, true} {
				for _, without := range [][]int{nil, {0}, {1}, {2}, {1, 2}} {
					s := Prepare(w.estate(memberOf, without...), func(*estate.Authority) estate.Dialect { return d }, nil)
					for i, a := range s.Estate.Authorities {
						for row := range a.Objects.Len() {
							if a.Objects.ClassOf(row) != estate.Account {
								continue
							}
							var account int
							fmt.Sscanf(a.Objects.Name.At(row), "o%d", &account)
							tier, why := s.TierOf(i, row)
							if want := w.privileged(account); (tier == Privileged) != want && (len(without) == 0 || tier == Privileged) {
								t.Fatalf("seed %d without %v: o%d is %s (%s), and plainly privileged: %v", seed, without, account, tier, why, want)
							} else if want && len(without) == 0 && strings.Contains(why, "of the domain") {
								across++
							}
							g, want := s.Resolutions[i].Of(row), w.governing(account, d)
							got := "-"
							if g.Policy != nil {
								got = g.Policy.Name
							}
							switch {
							case g.Rule == Unknown && len(without) == 0:
								t.Fatalf("seed %d, %s, memberOf %v: o%d is not known: %s; plainly %s", seed, d, memberOf, account, g.Why, want)
							case g.Rule == Unknown:
								unknown++
							case got != want:
								t.Fatalf("seed %d, %s, memberOf %v, without %v: o%d has %s, plainly %s", seed, d, memberOf, without, account, got, want)
							case got != "-":
								policies++
								if cs := s.Resolutions[i].Candidates(row); cs[0].Policy != g.Policy || len(cs[0].Chain) == 0 || cs[0].Open {
									t.Fatalf("seed %d: the candidates of o%d: %+v", seed, account, cs)
								}
							}
						}
						for _, absent := range s.Absent(i) {
							if absent.Part || len(absent.Rows) == 0 || len(without) == 0 {
								t.Fatalf("seed %d without %v: absent of %s: %+v", seed, without, a.Name, absent)
							}
						}
					}
				}
			}
		}
	}
	if across < 500 || policies < 2000 || unknown < 1000 {
		t.Errorf("%d privileged across domains, %d policies, %d not known: the forests test too little", across, policies, unknown)
	}
	t.Logf("%d privileged across domains, %d policies, %d not known", across, policies, unknown)
}
