package drift

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
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

// strict asks for a length and a threshold.
const strict = "id: %s\ntitle: T\nversion: %s\nfor: {platforms: [windows-domain, ldap-directory]}\ndemands:\n  - {setting: " +
	"min-length, at-least: 14 characters, severity: serious, why: W.}\n  - {setting: lockout-threshold, at-most: 5 failed attempts, " +
	"specials: {never: fails}, severity: serious, why: W.}\n"

// place describes an authority for the tests: settings as "id=value", and its
// accounts by name, each "enabled" or "disabled".
type place struct {
	name     string
	settings string
	accounts []string
}

// weighed weighs places against baselines, named "id version".
func weighed(t *testing.T, number int64, baselines []string, places ...place) State {
	t.Helper()
	b := estate.NewBuilder()
	for _, p := range places {
		at := estate.Place{Name: p.name, Kind: estate.LDAP}
		b.StartFile(p.name + ".ldif")
		a := b.At(at)
		a.Platform = setting.LDAPDirectory
		b.ShowsPointers(at)
		a.Head = &estate.Policy{Name: "default", Origin: "cn=default", Standing: estate.Enforced, Platform: setting.LDAPDirectory,
			Settings: estate.Settings{}}
		for _, text := range strings.Fields(p.settings) {
			id, value, _ := strings.Cut(text, "=")
			v, err := setting.Get(setting.ID(id)).Parse(strings.ReplaceAll(value, "_", " "))
			if err != nil {
				t.Fatal(err)
			}
			a.Head.Settings[setting.ID(id)] = estate.Fact{Value: v, Cite: estate.Cite{File: p.name + ".ldif", Line: 1}}
		}
		for _, name := range p.accounts {
			b.Object(at, &estate.Record{Class: estate.Account, DN: []byte("uid=" + name + ",dc=" + p.name), Name: []byte(name), Line: 2})
		}
	}
	e := &estate.Estate{Authorities: b.Finish()}
	survey := govern.NewSurvey(e, func(*estate.Authority) estate.Dialect { return estate.Windows }, nil)
	s := State{At: "2026-11-23T09:00:00Z", Record: &record.Record{Number: number, Files: map[string]string{}, Places: e.Authorities}}
	for i, a := range e.Authorities {
		roll := record.NewRoll(a.Place())
		for row := range a.Objects.Len() {
			if a.Objects.ClassOf(row) == estate.Account {
				scope, g := survey.ScopeOf(i, row)
				roll.Add(row, record.Standing{Scope: scope, Rule: g.Rule})
			}
		}
		s.Rolls = append(s.Rolls, roll)
	}
	for _, name := range baselines {
		id, version, _ := strings.Cut(name, " ")
		x, err := baseline.Parse(id, fmt.Appendf(nil, strict, id, version))
		if err != nil {
			t.Fatal(err)
		}
		s.Baselines = append(s.Baselines, x)
	}
	s.Result = weigh.Run(survey, weigh.Choice{Expect: check.Expectation{Age: func(string) int64 { return 0 }},
		Baselines: func(*estate.Authority, string) []*baseline.Baseline { return s.Baselines }})
	return s
}

// told writes a report's changes in short, sorted.
func told(r *Report) string {
	var all []string
	add := func(part string, c Change) { all = append(all, fmt.Sprintf("%s %s %s", part, c.Way, c.What)) }
	for _, c := range r.Baselines {
		add("baseline", c)
	}
	for _, c := range r.Scopes {
		add("scope", c)
	}
	for _, c := range r.Accounts {
		add("account", c)
	}
	for _, s := range r.Settings {
		add(string(s.Setting), s.Change)
	}
	for _, f := range r.Findings {
		if f.Headline == "Minimum length" || f.Headline == "Lockout threshold" {
			add(f.Headline, f.Change)
		}
	}
	slices.Sort(all)
	return strings.Join(all, "; ")
}

func TestBetween(t *testing.T) {
	one := []string{"own 1"}
	weak := place{"x", "min-length=8 lockout-threshold=3 max-age=90d", []string{"ada", "bo"}}
	with := func(settings string) place { return place{"x", settings, weak.accounts} }
	for name, c := range map[string]struct {
		before, after State
		want          string
	}{
		"the same": {weighed(t, 1, one, weak), weighed(t, 2, one, weak), ""},
		"better and short": {weighed(t, 1, one, weak), weighed(t, 2, one, with("min-length=12 lockout-threshold=3 max-age=90d")),
			"Minimum length better x / default; min-length better x / default"},
		"worse": {weighed(t, 1, one, weak), weighed(t, 2, one, with("min-length=4 lockout-threshold=3 max-age=90d")),
			"Minimum length worse x / default; min-length worse x / default"},
		"mended": {weighed(t, 1, one, weak), weighed(t, 2, one, with("min-length=14 lockout-threshold=3 max-age=90d")),
			"Minimum length gone x / default; min-length better x / default"},
		"broken": {weighed(t, 1, one, weak), weighed(t, 2, one, with("min-length=8 lockout-threshold=never max-age=90d")),
			"Lockout threshold new x / default; lockout-threshold worse x / default"},
		"neither way": {weighed(t, 1, one, weak), weighed(t, 2, one, with("min-length=8 lockout-threshold=3 max-age=60d")),
			"max-age differs x / default"},
		"not exported any more": {weighed(t, 1, one, weak), weighed(t, 2, one, with("lockout-threshold=3 max-age=90d")),
			"Minimum length better x / default; min-length gone x / default"},
		"exported now": {weighed(t, 1, one, with("lockout-threshold=3 max-age=90d")), weighed(t, 2, one, weak),
			"Minimum length worse x / default; min-length new x / default"},
		"who came and went": {weighed(t, 1, one, weak), weighed(t, 2, one, place{"x", weak.settings, []string{"bo", "cy", "di"}}),
			"account gone ada; account new cy; account new di; scope differs x / default"},
		"another version":  {weighed(t, 1, one, weak), weighed(t, 2, []string{"own 2"}, weak), "baseline differs own"},
		"another baseline": {weighed(t, 1, one, weak), weighed(t, 2, []string{"other 1"}, weak), "baseline gone own; baseline new other"},
		"a place more": {weighed(t, 1, one, weak), weighed(t, 2, one, weak, place{"y", "min-length=8 lockout-threshold=3", []string{"eve"}}),
			"Minimum length not weighed before y / default; account new eve; scope new y / default"},
		"a place less": {weighed(t, 1, one, weak, place{"y", "min-length=8 lockout-threshold=3", []string{"eve"}}), weighed(t, 2, one, weak),
			"Minimum length not weighed now y / default; account gone eve; scope gone y / default"},
	} {
		r := Between(c.before, c.after)
		got := told(r)
		// An authority that is there only once names its accounts only once: nobody
		// came or went, its scope did.
		got = strings.NewReplacer("account new eve; ", "", "account gone eve; ", "").Replace(got)
		want := strings.NewReplacer("account new eve; ", "", "account gone eve; ", "").Replace(c.want)
		if got != want {
			t.Errorf("%s: %s\nwant %s", name, got, want)
		}
		if r.Nothing() != (want == "") {
			t.Errorf("%s: nothing changed: %v", name, r.Nothing())
		}
	}
}

// A waiver that came, and one that ended, are told with the finding beneath.
func TestWaiversBetween(t *testing.T) {
	weak := place{"x", "min-length=8 lockout-threshold=3", []string{"ada"}}
	made := func(number int64, waive bool) State {
		s := weighed(t, number, []string{"own 1"}, weak)
		f := &s.Result.Findings[slices.IndexFunc(s.Result.Findings, func(f check.Finding) bool { return f.Check == "" })]
		w := check.Waiver{Entry: 7, Fingerprint: f.Fingerprint, Scope: f.ScopeName(), Setting: "min-length", Kind: check.Weak,
			Value: setting.Number(8), Reason: "R", Over: !waive}
		s.Result.Waive([]check.Waiver{w})
		return s
	}
	r := Between(made(1, true), made(2, false))
	if len(r.Findings) != 1 || r.Findings[0].Way != WaiverEnd || r.Findings[0].Before != "waived (weak), 8 characters" ||
		len(r.Waivers) != 1 || r.Waivers[0].After != "ended" {
		t.Errorf("ended: %+v %+v", r.Findings, r.Waivers)
	}
	r = Between(made(1, false), made(2, true))
	if len(r.Findings) != 1 || r.Findings[0].Way != Accepted || r.Findings[0].Why != "R" {
		t.Errorf("waived: %+v", r.Findings)
	}
}

// hand makes a record by hand: two policies and their accounts, in order. A dash
// before a name is an account that is disabled; one without a name is "".
func hand(policies map[string]string, accounts ...[2]string) State {
	a := &estate.Authority{Name: "x", Kind: estate.LDAP, Platform: setting.LDAPDirectory, Listed: true, Objects: &estate.Objects{}}
	b := estate.NewBuilder()
	at := a.Place()
	b.StartFile("x.ldif")
	for _, x := range accounts {
		name, flags := x[0], estate.Flag(0)
		if rest, off := strings.CutPrefix(name, "-"); off {
			name, flags = rest, estate.Disabled
		}
		dn := "uid=" + name + ",dc=x"
		if name == "" {
			dn = "cn=nameless,dc=x"
		}
		b.Object(at, &estate.Record{Class: estate.Account, DN: []byte(dn), Name: []byte(name), Flags: flags, Line: 2})
	}
	if all := b.Finish(); len(all) > 0 {
		a.Objects, a.Accounts, a.Parents = all[0].Objects, all[0].Accounts, all[0].Parents
	}
	s := State{At: "2026-11-23T09:00:00Z", Record: &record.Record{Files: map[string]string{}, Places: []*estate.Authority{a},
		Result: &weigh.Result{}}}
	scopes := map[string]*govern.Scope{}
	for _, name := range slices.Sorted(maps.Keys(policies)) {
		policy, tier, _ := strings.Cut(name, "/")
		scopes[name] = &govern.Scope{Authority: a, Policy: &estate.Policy{Name: policy, Origin: policy}, Rule: govern.Direct,
			Tier: tier, Split: tier != "",
			Settings: map[setting.ID]govern.Effective{"max-age": {Fact: estate.Fact{Value: setting.Word(policies[name])}}}}
		s.Scopes = append(s.Scopes, scopes[name])
	}
	roll := record.NewRoll(at)
	for row, x := range accounts {
		scopes[x[1]].Accounts++
		roll.Add(row, record.Standing{Scope: scopes[x[1]], Rule: govern.Direct})
	}
	s.Rolls = []*record.Roll{roll}
	return s
}

func movesOf(r *Report) string {
	var all []string
	for _, m := range r.Moves {
		all = append(all, fmt.Sprintf("%s: %s to %s %v", m.Account, m.From, m.To, m.Enabled))
	}
	for _, c := range r.Accounts {
		all = append(all, fmt.Sprintf("%s %s %s%s", c.Way, c.What, c.Before, c.After))
	}
	return strings.Join(all, "; ")
}

// Who moved is told, whether the rolls name the same in the same order or not.
func TestMoves(t *testing.T) {
	two := map[string]string{"A": "1", "B": "2"}
	tiers := map[string]string{"A/standard": "1", "A/privileged": "1"}
	for name, c := range map[string]struct {
		before, after State
		want          string
	}{
		"nobody": {hand(two, [2]string{"ada", "A"}, [2]string{"bo", "B"}),
			hand(two, [2]string{"ada", "A"}, [2]string{"bo", "B"}), ""},
		"one, in order": {hand(two, [2]string{"ada", "A"}, [2]string{"bo", "B"}),
			hand(two, [2]string{"ada", "A"}, [2]string{"bo", "A"}), "bo: x / B to x / A true"},
		"two, by name": {hand(two, [2]string{"bo", "B"}, [2]string{"ada", "A"}),
			hand(two, [2]string{"bo", "A"}, [2]string{"ada", "B"}), "ada: x / A to x / B true; bo: x / B to x / A true"},
		"one, in another order": {hand(two, [2]string{"ada", "A"}, [2]string{"bo", "B"}),
			hand(two, [2]string{"bo", "A"}, [2]string{"ada", "A"}), "bo: x / B to x / A true"},
		"one that is disabled": {hand(two, [2]string{"-ada", "A"}), hand(two, [2]string{"-ada", "B"}), "ada: x / A to x / B false"},
		"one without a name":   {hand(two, [2]string{"", "A"}), hand(two, [2]string{"", "B"}), "cn=nameless,dc=x: x / A to x / B true"},
		"another tier": {hand(tiers, [2]string{"ada", "A/standard"}), hand(tiers, [2]string{"ada", "A/privileged"}),
			"ada: x / A / standard to x / A / privileged true"},
		"one new, one gone, a third": {hand(two, [2]string{"ada", "A"}, [2]string{"bo", "B"}),
			hand(two, [2]string{"cy", "A"}, [2]string{"bo", "A"}), "bo: x / B to x / A true; new cy x / A; gone ada x / A"},
		"one more": {hand(two, [2]string{"ada", "A"}), hand(two, [2]string{"ada", "A"}, [2]string{"bo", "B"}), "new bo x / B"},
	} {
		t.Run(name, func(t *testing.T) {
			if got := movesOf(Between(c.before, c.after)); got != c.want {
				t.Errorf("%q, want %q", got, c.want)
			}
		})
	}
	// Where the evidence names no accounts nobody came or went.
	unlisted := hand(two, [2]string{"ada", "A"})
	unlisted.Places[0].Listed = false
	if got := movesOf(Between(unlisted, hand(two, [2]string{"ada", "B"}))); got != "" {
		t.Errorf("from a place without names: %q", got)
	}
}

// finding adds one to a state.
func (s State) finding(f check.Finding) State {
	f.Authority = s.Places[0]
	s.Result.Findings = append(s.Result.Findings, f)
	return s
}

// Findings of checks are compared by their verdict, severity and accounts, and told
// the worst first; one of before identities were typed by its name of then.
func TestFindingsBetween(t *testing.T) {
	one := map[string]string{"A": "1"}
	n := func(i int) *int { return &i }
	found := check.Finding{Fingerprint: "f", Check: "never-expires", Kind: check.Weak, Severity: "serious", Accounts: n(2)}
	with := func(change func(f *check.Finding)) State {
		f := found
		change(&f)
		return hand(one).finding(f)
	}
	as := func(f *check.Finding) {}
	for name, c := range map[string]struct {
		before, after State
		want          string
	}{
		"the same":                    {with(as), with(as), ""},
		"more accounts":               {with(as), with(func(f *check.Finding) { f.Accounts = n(3) }), "worse weak, 2 accounts weak, 3 accounts"},
		"one account":                 {with(as), with(func(f *check.Finding) { f.Accounts = n(1) }), "better weak, 2 accounts weak, 1 account"},
		"graver":                      {with(as), with(func(f *check.Finding) { f.Severity, f.Stated = "grave", true }), "worse weak, 2 accounts weak, 2 accounts"},
		"less grave":                  {with(as), with(func(f *check.Finding) { f.Severity, f.Stated = "minor", true }), "better weak, 2 accounts weak, 2 accounts"},
		"graver by what else changed": {with(as), with(func(f *check.Finding) { f.Severity = "grave" }), ""},
		"another verdict":             {with(as), with(func(f *check.Finding) { f.Kind = check.Missing }), "better weak, 2 accounts missing, 2 accounts"},
		"a worse one":                 {with(func(f *check.Finding) { f.Kind = check.Missing }), with(as), "worse missing, 2 accounts weak, 2 accounts"},
		"by its name of old": {with(func(f *check.Finding) { f.Fingerprint = "old" }),
			with(func(f *check.Finding) { f.Alias = "old"; f.Accounts = n(3) }), "worse weak, 2 accounts weak, 3 accounts"},
		"new":               {hand(one), with(as), "new  weak, 2 accounts"},
		"gone":              {with(as), hand(one), "gone weak, 2 accounts "},
		"accounts not told": {with(as), with(func(f *check.Finding) { f.Accounts = nil }), ""},
	} {
		t.Run(name, func(t *testing.T) {
			var all []string
			for _, f := range Between(c.before, c.after).Findings {
				all = append(all, fmt.Sprintf("%s %s %s", f.Way, f.Before, f.After))
			}
			if got := strings.Join(all, "; "); got != c.want {
				t.Errorf("%q, want %q", got, c.want)
			}
		})
	}
	// The order: what is new first, the gravest first.
	before := hand(one).finding(check.Finding{Fingerprint: "g", Check: "g", Kind: check.Weak, Severity: "grave"})
	after := hand(one).finding(check.Finding{Fingerprint: "a", Check: "a", Kind: check.Weak,
		Severity: "minor"}).finding(check.Finding{Fingerprint: "b", Check: "b", Kind: check.Weak, Severity: "grave"})
	var order []string
	for _, f := range Between(before, after).Findings {
		order = append(order, f.Headline)
	}
	if strings.Join(order, " ") != "b a g" {
		t.Errorf("in the order %v", order)
	}
	// A place that only one of them has cannot be compared.
	other := hand(one)
	other.Places[0].Name = "y"
	r := Between(other, hand(one).finding(found))
	if len(r.Findings) != 1 || r.Findings[0].Way != NotBefore || r.Findings[0].Why != "x is in one of the weighings only" {
		t.Errorf("another place: %+v", r.Findings)
	}
	inScope := hand(map[string]string{"B": "1"})
	f := found
	f.Scope = inScope.Scopes[0]
	inScope.finding(f)
	r = Between(hand(one), inScope)
	if len(r.Findings) != 1 || r.Findings[0].Way != NotBefore || r.Findings[0].Why != "the scope is in one of the weighings only" {
		t.Errorf("another scope: %+v", r.Findings)
	}
}

// Whether anything changed at all is asked of every part.
func TestNothing(t *testing.T) {
	if r := (&Report{}); !r.Nothing() {
		t.Error("an empty report")
	}
	for name, r := range map[string]*Report{"evidence": {Evidence: make([]Change, 1)}, "baselines": {Baselines: make([]Change, 1)},
		"scopes": {Scopes: make([]Change, 1)}, "moves": {Moves: make([]Move, 1)},
		"accounts": {Accounts: make([]Change, 1)}, "settings": {Settings: make([]Setting, 1)}, "findings": {Findings: make([]Finding, 1)},
		"waivers": {Waivers: make([]Change, 1)}} {
		if r.Nothing() {
			t.Errorf("%s: nothing", name)
		}
	}
}

// A finding that is gone was mended, or the requirement changed; which of the two it is
// is said, and what is demanded is told first.
func TestGoneIsNotMended(t *testing.T) {
	weak := place{"a", "min-length=8 lockout-threshold=3", []string{"u"}}
	strong := place{"a", "min-length=15 lockout-threshold=3", []string{"u"}}
	before := weighed(t, 1, []string{"x 1"}, weak)
	mended := weighed(t, 2, []string{"x 1"}, strong)
	loosened := weighed(t, 2, []string{"x 2"}, weak)
	loosened.Result.Findings = slices.DeleteFunc(slices.Clone(loosened.Result.Findings),
		func(f check.Finding) bool { return slices.Contains(f.Settings, setting.MinLength) })
	for want, after := range map[string]State{"mended: Minimum length: 8 characters → 15 characters": mended,
		"nothing was mended: the value is the same, and the requirement changed": loosened} {
		i := slices.IndexFunc(Between(before, after).Findings, func(f Finding) bool { return f.Way == Gone && f.Headline == "Minimum length" })
		if i < 0 {
			t.Fatalf("%s: it is not gone", want)
		}
		if got := Between(before, after).Findings[i].Why; got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
	before.Decisions, loosened.Decisions = map[string]string{"max-age": "x"}, map[string]string{"max-age": "y"}
	before.Texts, loosened.Texts = map[string]string{"x": "1", "z": "1"}, map[string]string{"x": "2", "z": "2"}
	r := Between(before, loosened)
	if len(r.Decisions) != 1 || r.Decisions[0].After != "y" || len(r.Baselines) != 2 || r.Baselines[0].What != "x" ||
		!strings.Contains(r.Baselines[1].Why, "another text under the same version") {
		t.Errorf("%+v %+v", r.Decisions, r.Baselines)
	}
}

// What random changes come to is what a log of them says: nothing more, nothing less.
func TestRandomPairs(t *testing.T) {
	from, rounds := uint64(0), uint64(60)
	if n, err := strconv.ParseUint(os.Getenv("STERNLEDGER_ROUNDS"), 10, 64); err == nil {
		from, rounds = 1000, n
	}
	lengths, thresholds := []int{6, 8, 14, 20}, []string{"3", "5", "10", "never"}
	weak := func(id string, v string) bool {
		n, _ := strconv.Atoi(v)
		return id == "min-length" && n < 14 || id == "lockout-threshold" && (v == "never" || n > 5)
	}
	rank := func(id, v string) int { // the greater, the stronger
		n, _ := strconv.Atoi(v)
		if id == "min-length" {
			return n
		}
		if v == "never" {
			n = 1000
		}
		return -n
	}
	type land struct {
		values   map[string]string
		accounts map[string]bool
	}
	changes := 0
	for seed := from; seed < from+rounds; seed++ {
		rnd := rand.New(rand.NewPCG(seed, 34))
		some := func(old *land) *land {
			l := &land{map[string]string{"min-length": strconv.Itoa(lengths[rnd.IntN(4)]), "lockout-threshold": thresholds[rnd.IntN(4)]},
				map[string]bool{}}
			for i := range 5 {
				if rnd.IntN(2) == 0 {
					l.accounts[fmt.Sprint("u", i)] = true
				}
			}
			if old != nil && rnd.IntN(3) == 0 {
				l.values = old.values
			}
			if old != nil && rnd.IntN(3) == 0 {
				l.accounts = old.accounts
			}
			return l
		}
		places := func(lands map[string]*land) (all []place) {
			for _, name := range slices.Sorted(maps.Keys(lands)) {
				l := lands[name]
				all = append(all, place{name, "min-length=" + l.values["min-length"] + " lockout-threshold=" + l.values["lockout-threshold"],
					slices.Sorted(maps.Keys(l.accounts))})
			}
			return all
		}
		before, after, log := map[string]*land{}, map[string]*land{}, map[string]bool{}
		for i := range 1 + rnd.IntN(3) {
			name := fmt.Sprint("p", i)
			before[name] = some(nil)
			after[name] = some(before[name])
			for _, id := range []string{"min-length", "lockout-threshold"} {
				was, is := before[name].values[id], after[name].values[id]
				switch {
				case was == is:
					continue
				case rank(id, is) > rank(id, was):
					log[fmt.Sprintf("setting %s %s better", name, id)] = true
				default:
					log[fmt.Sprintf("setting %s %s worse", name, id)] = true
				}
				switch {
				case weak(id, was) && weak(id, is) && rank(id, is) > rank(id, was):
					log[fmt.Sprintf("finding %s %s better", name, id)] = true
				case weak(id, was) && weak(id, is):
					log[fmt.Sprintf("finding %s %s worse", name, id)] = true
				case weak(id, was):
					log[fmt.Sprintf("finding %s %s gone mended", name, id)] = true
				case weak(id, is):
					log[fmt.Sprintf("finding %s %s new changed", name, id)] = true
				}
			}
			if len(before[name].accounts) == 0 || len(after[name].accounts) == 0 {
				continue // no accounts are listed: nobody came or went
			}
			for u := range before[name].accounts {
				if !after[name].accounts[u] {
					log[fmt.Sprintf("account %s %s gone", name, u)] = true
				}
			}
			for u := range after[name].accounts {
				if !before[name].accounts[u] {
					log[fmt.Sprintf("account %s %s new", name, u)] = true
				}
			}
		}
		r := Between(weighed(t, 1, []string{"x 1"}, places(before)...), weighed(t, 2, []string{"x 1"}, places(after)...))
		said := map[string]bool{}
		for _, s := range r.Settings {
			name, _, _ := strings.Cut(s.What, " ")
			said[fmt.Sprintf("setting %s %s %s", name, s.Setting, s.Way)] = true
		}
		for _, f := range r.Findings {
			name, _, _ := strings.Cut(f.What, " ")
			i := slices.IndexFunc([]string{"min-length", "lockout-threshold"}, func(id string) bool { return setting.Get(setting.ID(id)).Title == f.Headline })
			if i < 0 {
				continue // a check's, such as on how settings go together
			}
			word, _, _ := strings.Cut(f.Why, ":")
			said[strings.TrimSpace(fmt.Sprintf("finding %s %s %s %s", name, []string{"min-length", "lockout-threshold"}[i], f.Way, word))] = true
		}
		for _, a := range r.Accounts {
			said[fmt.Sprintf("account %s %s %s", a.Why, a.What, a.Way)] = true
		}
		if !maps.Equal(said, log) {
			t.Fatalf("seed %d: said %v\nwant %v", seed, slices.Sorted(maps.Keys(said)), slices.Sorted(maps.Keys(log)))
		}
		changes += len(log)
	}
	t.Logf("%d changes", changes)
}
