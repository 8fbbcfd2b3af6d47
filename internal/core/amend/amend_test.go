package amend

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/weigh"
)

// shippedBaselines are those that do not extend another.
func shippedBaselines(t testing.TB) (all []*baseline.Baseline) {
	t.Helper()
	files, err := filepath.Glob("../../../baselines/*.yaml")
	if err != nil || len(files) < 8 {
		t.Fatal(files, err)
	}
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		b, err := baseline.Parse(file, data)
		if err != nil {
			t.Fatal(err)
		}
		if len(b.Demands) > 0 && !strings.Contains(string(data), "\nextends:") {
			all = append(all, b)
		}
	}
	ways, err := baseline.Parse("ways.yaml", []byte(inWays))
	if err != nil {
		t.Fatal(err)
	}
	return append(all, ways, ways)
}

// inWays makes demands that can be met in several ways.
const inWays = `id: ways
title: T
version: 1
for: {platforms: [windows-domain, windows-machine, unix-machine, ldap-directory, cloud-directory]}
demands:
- any-of:
    - [{setting: lockout-threshold, at-most: 5 failed attempts, specials: {never: fails}}]
    - [{setting: lockout-threshold, at-most: 50 failed attempts, specials: {never: fails}}, {setting: lockout-duration, at-least: 30 minutes, specials: {until-admin: holds}}]
    - [{setting: min-length, at-least: 15 characters}]
  severity: grave
  why: w.
- any-of:
    - [{setting: history, at-least: 12 passwords}, {setting: min-age, at-least: 1 day, specials: {at-once: fails}}]
    - [{setting: max-age, exactly: never}]
  severity: serious
  why: w.
`

// world is a random estate, and what it is held against.
type world struct {
	*estate.Estate
	tiers   []govern.TierRule
	choice  weigh.Choice
	waivers []check.Waiver
}

// anyValue is a random value that a platform lets be set.
func anyValue(rnd *rand.Rand, row *setting.Setting, p setting.Platform) setting.Value {
	if len(row.Choices) > 0 {
		return setting.Word(row.Choices[rnd.IntN(len(row.Choices))])
	}
	if row.Kind == setting.Toggle {
		return setting.Switch(rnd.IntN(2) == 0)
	}
	if len(row.Specials) > 0 && rnd.IntN(4) == 0 {
		return setting.Of(row.Specials[rnd.IntN(len(row.Specials))].Special)
	}
	for range 20 {
		n := int64(rnd.IntN(30))
		if row.Kind == setting.Duration {
			n = int64([]int{60, 300, 600, 900, 1800, 3600, 86400, 30 * 86400, 90 * 86400, 365 * 86400, 400 * 86400}[rnd.IntN(11)])
		}
		if v := setting.Number(n); row.Allows(p, v) == nil {
			return v
		}
	}
	return setting.Number(0)
}

// settings are random ones of a policy, each with a line of its own.
func settings(rnd *rand.Rand, p setting.Platform, file string, line *int) estate.Settings {
	all := estate.Settings{}
	for _, row := range setting.Table() {
		if len(row.Of) > 0 || !row.Exists(p) || rnd.IntN(8) == 0 {
			continue
		}
		*line++
		all[row.ID] = estate.Fact{Value: anyValue(rnd, row, p), Cite: estate.Cite{File: file, Line: *line, Where: string(row.ID), Raw: "x"}}
	}
	return all
}

// randomWorld makes a domain with fine-grained policies and templates, a machine, an
// LDAP directory and a tenant, and picks baselines.
func randomWorld(rnd *rand.Rand, shipped []*baseline.Baseline) *world {
	b, line := estate.NewBuilder(), 10
	const root = "DC=x,DC=example"
	b.StartFile("x.ldif")
	at := estate.InDomain("x.example")
	d := b.At(at)
	d.PoliciesLie, d.SID = true, "S-1-5-21-1-2-3"
	d.Head = &estate.Policy{Name: "domain default", Origin: root, Standing: estate.Enforced, Platform: setting.WindowsDomain,
		Settings: settings(rnd, setting.WindowsFineGrained, "x.ldif", &line), Cite: estate.Cite{File: "x.ldif", Line: 1}}
	people := 4 + rnd.IntN(12)
	account := func(i int) string { return fmt.Sprintf("CN=u%d,%s", i, root) }
	some := []estate.Flag{0, 0, 0, estate.NeverExpires, estate.NoneRequired, estate.Reversible, estate.NoPreauth, estate.Disabled}
	for i := range people {
		b.Object(at, &estate.Record{Class: estate.Account, DN: []byte(account(i)), Name: fmt.Appendf(nil, "u%d", i), Line: 1000 + i,
			RID:     uint32(1100 + i),
			Primary: 513, Flags: some[rnd.IntN(len(some))] | estate.HoldersShown | estate.AppliedShown, PwdSet: uint32(1_790_000_000 +
				rnd.IntN(1_000_000))})
	}
	for i := range rnd.IntN(4) {
		group := fmt.Sprintf("CN=g%d,%s", i, root)
		row := b.Object(at, &estate.Record{Class: estate.Group, DN: []byte(group), Name: fmt.Appendf(nil, "g%d", i), Line: 2000 + i,
			RID:       uint32(2000 + i),
			GroupType: estate.SecurityGroup | 2})
		for k := range people {
			if rnd.IntN(3) == 0 {
				b.Member(at, row, []byte(account(k)), 2000+i)
			}
		}
		p := b.Override(at, fmt.Appendf(nil, "CN=p%d,CN=Password Settings Container,CN=System,%s", i, root), 3000+i)
		precedence := int64(1 + rnd.IntN(5))
		p.Name, p.Precedence, p.Settings = fmt.Sprintf("p%d", i), &precedence, settings(rnd, setting.WindowsFineGrained, "x.ldif", &line)
		b.Target(at, p, estate.Target{DN: group, Cite: estate.Cite{File: "x.ldif", Line: 3000 + i}})
	}
	e := &estate.Estate{}
	u := b.Unit(at, []byte(root), 5)
	u.Root = true
	for i := range rnd.IntN(3) {
		guid := fmt.Sprintf("{%d}", i)
		u.Links = append(u.Links, estate.Link{GUID: guid})
		d.Containers = append(d.Containers, estate.Container{GUID: guid, Name: "t" + guid, Filtered: true, Whole: true,
			Access: []estate.ACE{{SID: "S-1-5-11", Read: true, Apply: true}}})
		t := estate.Template{GUID: guid, Domain: "x.example", Policy: estate.Policy{Name: guid, Origin: "sysvol/" + guid,
			Standing: estate.Configured,
			Platform: setting.WindowsTemplate, Settings: settings(rnd, setting.WindowsTemplate, guid+".inf", &line)}}
		for _, row := range setting.Table() { // a template configures a few
			id := row.ID
			if _, ok := t.Policy.Settings[id]; !ok {
				continue
			}
			if rnd.IntN(2) == 0 {
				delete(t.Policy.Settings, id)
			} else if _, ok := d.Head.Settings[id]; ok && rnd.IntN(4) > 0 { // and the head follows
				f := d.Head.Settings[id]
				f.Value = t.Policy.Settings[id].Value
				d.Head.Settings[id] = f
			}
		}
		e.Templates = append(e.Templates, t)
	}
	for _, x := range []struct {
		kind     estate.Kind
		platform setting.Platform
	}{{estate.Machine, setting.WindowsMachine}, {estate.Machine, setting.UnixMachine}, {estate.LDAP, setting.LDAPDirectory},
		{estate.Tenant, setting.CloudDirectory}} {
		name := "of-" + string(x.platform)
		b.StartFile(name)
		a := b.At(estate.Place{Name: name, Kind: x.kind})
		a.Platform = x.platform
		a.Head = &estate.Policy{Name: "own", Origin: "own", Standing: estate.Enforced, Platform: x.platform, Settings: settings(rnd, x.platform,
			name, &line),
			Cite: estate.Cite{File: name, Line: 1}}
		for i := range 1 + rnd.IntN(3) {
			b.Object(a.Place(), &estate.Record{Class: estate.Account, DN: fmt.Appendf(nil, "v%d", i), Name: fmt.Appendf(nil, "v%d", i), Line: 5 + i})
		}
	}
	e.Authorities = b.Finish()
	var chosen []*baseline.Baseline
	for _, x := range shipped {
		if rnd.IntN(3) == 0 {
			chosen = append(chosen, x)
		}
	}
	if len(chosen) == 0 {
		chosen = shipped[:1]
	}
	w := &world{Estate: e, choice: weigh.Choice{Baselines: func(*estate.Authority, string) []*baseline.Baseline { return chosen },
		Expect: check.Expectation{Age: func(string) int64 { return 0 }}}}
	if rnd.IntN(2) == 0 {
		w.tiers = []govern.TierRule{{Name: govern.Privileged, Accounts: []string{"u0", "u1"}}}
	}
	return w
}

func (w *world) weighed(e *estate.Estate) (*govern.Survey, *weigh.Result) {
	s := govern.NewSurvey(e, func(*estate.Authority) estate.Dialect { return estate.Windows }, w.tiers)
	r := weigh.Run(s, w.choice)
	r.Waive(slices.Clone(w.waivers))
	return s, r
}

// planned is the plan of a world, each amendment weighed alone.
func (w *world) planned(t testing.TB) (*Plan, *weigh.Result, *govern.Survey) {
	t.Helper()
	s, before := w.weighed(w.Estate)
	r := &record.Record{Places: w.Authorities, Result: before, SettersKnown: true}
	r.Setters, r.Unseen = s.Setters()
	p := New(r, nil, nil)
	for _, a := range p.Amendments {
		_, after := w.weighed(Apply(w.Estate, a.WithFirst()))
		ended, appeared := Compare(before, after)
		a.Seen(ended, appeared, Worse(before, after))
	}
	p.Part()
	return p, before, s
}

func worlds() uint64 {
	if n, err := strconv.ParseUint(os.Getenv("STERNLEDGER_ROUNDS"), 10, 64); err == nil {
		return n
	}
	return 60
}

// Amending a random world makes no verdict worse; what was said to end ends; nothing
// of the world that is planned for is changed; and a second plan finds nothing that
// the first would have done.
func TestAmendingMakesNothingWorse(t *testing.T) {
	shipped := shippedBaselines(t)
	settled, planned, left := 0, 0, 0
	for n := range worlds() {
		w := randomWorld(rand.New(rand.NewPCG(19, n)), shipped)
		was, _ := json.Marshal(w.Estate)
		p, before, _ := w.planned(t)
		s, after := w.weighed(Apply(w.Estate, p.Amendments))
		if is, _ := json.Marshal(w.Estate); string(is) != string(was) {
			t.Fatalf("world %d: planning changed the world itself", n)
		}
		for _, worse := range Worse(before, after) {
			t.Errorf("world %d: worse: %s", n, worse.Text)
		}
		ended, _ := Compare(before, after)
		for _, a := range p.Amendments {
			for _, f := range a.Settles {
				// Another amendment can stand against what this one settles; a demand stays met.
				if f.Check == "" && !slices.Contains(ended, f) {
					t.Errorf("world %d: %s (%s of %s) was to settle %s of %s", n, a.Name, a.Title(), a.Spots[0].Policy(), f.Head(), f.ScopeName())
				}
			}
		}
		again := &record.Record{Places: s.Estate.Authorities, Result: after, SettersKnown: true}
		again.Setters, again.Unseen = s.Setters()
		for _, a := range New(again, nil, nil).Amendments {
			// A new maximum age finds further accounts that escape it.
			if a.Flag == 0 && slices.ContainsFunc(p.Amendments, func(x *Amendment) bool {
				return x.Fingerprint == a.Fingerprint &&
					x.Setting == a.Setting
			}) {
				t.Errorf("world %d: amended, %s of %s is to be amended again: %s to %s", n, a.Title(), a.Spots[0].Policy(), a.Was(), a.Becomes())
			}
		}
		settled, planned, left = settled+len(ended), planned+len(p.Amendments), left+len(p.Decisions)
		if t.Failed() {
			t.FailNow()
		}
	}
	if settled == 0 || planned == 0 || left == 0 {
		t.Errorf("the worlds test too little: %d settled, %d planned, %d decisions", settled, planned, left)
	}
	t.Logf("%d amendments settle %d findings; %d decisions", planned, settled, left)
}
