package drift

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/weigh"
)

// strict asks for a length and a threshold.
const strict = "id: %s\ntitle: T\nversion: %s\nfor: {platforms: [windows-domain, ldap-directory]}\ndemands:\n  - {setting: min-length, at-least: 14 characters, severity: serious, why: W.}\n  - {setting: lockout-threshold, at-most: 5 failed tries, specials: {never: fails}, severity: serious, why: W.}\n"

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
		a.Head = &estate.Policy{Name: "default", Origin: "cn=default", Standing: estate.Enforced, Platform: setting.LDAPDirectory, Settings: estate.Settings{}}
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
	s := State{Number: number, At: "2026-11-23T09:00:00Z", Files: map[string]string{}, Survey: govern.NewSurvey(e, func(*estate.Authority) estate.Dialect { return estate.Windows }, nil)}
	for _, name := range baselines {
		id, version, _ := strings.Cut(name, " ")
		x, err := baseline.Parse(id, fmt.Appendf(nil, strict, id, version))
		if err != nil {
			t.Fatal(err)
		}
		s.Baselines = append(s.Baselines, x)
	}
	s.Result = weigh.Run(s.Survey, weigh.Choice{Expect: weigh.Expectation{Age: func(string) int64 { return 0 }}, Baselines: func(*estate.Authority, string) []*baseline.Baseline { return s.Baselines }})
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
		"the same":         {weighed(t, 1, one, weak), weighed(t, 2, one, weak), ""},
		"better and short": {weighed(t, 1, one, weak), weighed(t, 2, one, with("min-length=12 lockout-threshold=3 max-age=90d")), "Minimum length better x / default; min-length better x / default"},
		"worse":            {weighed(t, 1, one, weak), weighed(t, 2, one, with("min-length=4 lockout-threshold=3 max-age=90d")), "Minimum length worse x / default; min-length worse x / default"},
		"mended":           {weighed(t, 1, one, weak), weighed(t, 2, one, with("min-length=14 lockout-threshold=3 max-age=90d")), "Minimum length gone x / default; min-length better x / default"},
		"broken": {weighed(t, 1, one, weak), weighed(t, 2, one, with("min-length=8 lockout-threshold=never max-age=90d")),
			"Lockout threshold new x / default; lockout-threshold worse x / default"},
		"neither way": {weighed(t, 1, one, weak), weighed(t, 2, one, with("min-length=8 lockout-threshold=3 max-age=60d")), "max-age differs x / default"},
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
		f := &s.Result.Findings[slices.IndexFunc(s.Result.Findings, func(f weigh.Finding) bool { return f.Check == "" })]
		w := weigh.Waiver{Entry: 7, Fingerprint: f.Fingerprint, Scope: f.ScopeName(), Setting: "min-length", Kind: weigh.Weak, Value: setting.Number(8), Reason: "R", Over: !waive}
		s.Result.Waive([]weigh.Waiver{w})
		return s
	}
	r := Between(made(1, true), made(2, false))
	if len(r.Findings) != 1 || r.Findings[0].Way != WaiverEnd || r.Findings[0].Before != "waived (weak), 8 characters" || len(r.Waivers) != 1 || r.Waivers[0].After != "ended" {
		t.Errorf("ended: %+v %+v", r.Findings, r.Waivers)
	}
	r = Between(made(1, false), made(2, true))
	if len(r.Findings) != 1 || r.Findings[0].Way != Accepted || r.Findings[0].Why != "R" {
		t.Errorf("waived: %+v", r.Findings)
	}
}
