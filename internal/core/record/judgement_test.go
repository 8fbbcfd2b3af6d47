package record

import (
	"cmp"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/exposure"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/landtest"
	"sternledger/internal/core/weigh"
)

// kinds are the places of testdata/judgement.txt, each well kept.
var kinds = map[string]struct{ head, settings string }{
	"domain": {"domain %s S-1-5-21-%d-2-3", "min-length=15 complexity=on history=24 min-age=1d max-age=365d reversible=off lm-hash-stored=off " +
		"blank-password-console-only=on lockout-threshold=5 lockout-duration=30m lockout-window=30m lockout-administrator=on"},
	"windows": {"machine %s as=windows-machine", "min-length=15 complexity=on history=24 min-age=1d max-age=365d reversible=off lm-hash-stored=off " +
		"blank-password-console-only=on lockout-threshold=5 lockout-duration=30m lockout-window=30m lockout-administrator=on"},
	"unix": {"machine %s as=unix-machine", "min-length=15 classes-required=0 dictionary-check=on blocklist=on history=24 min-age=1d max-age=365d " +
		"hash-method=yescrypt lockout-threshold=5 lockout-duration=30m lockout-window=30m lockout-administrator=on empty-accepted=off"},
	"cloud": {"tenant %s as=cloud-directory", "min-length=15 banned-list=on dictionary-check=on blocklist=on max-age=365d mfa=all " +
		"lockout-threshold=5 lockout-duration=30m"},
	"identity-provider": {"tenant %s as=identity-provider", "min-length=15 banned-list=on dictionary-check=on history=24 min-age=1d max-age=365d mfa=all " +
		"lockout-threshold=5 lockout-duration=30m"},
}

// strict demands of every place what the well-kept ones have. It is nobody's own: its
// severities do not rule.
const strict = `id: strict
title: T
version: 1
for: {platforms: [windows-domain, windows-machine, unix-machine, cloud-directory, identity-provider]}
demands:
- {setting: min-length, at-least: 15 characters, severity: minor, why: w.}
- {setting: complexity, exactly: on, severity: minor, why: w.}
- {setting: dictionary-check, exactly: on, severity: minor, why: w.}
- {setting: banned-list, exactly: on, severity: minor, why: w.}
- {setting: history, at-least: 24 passwords, severity: grave, why: w.}
- {setting: min-age, at-least: 1 day, specials: {at-once: fails}, severity: grave, why: w.}
- {setting: max-age, at-most: 365 days, specials: {never: fails}, severity: grave, why: w.}
- {setting: reversible, exactly: off, severity: minor, why: w.}
- {setting: lm-hash-stored, exactly: off, severity: minor, why: w.}
- {setting: hash-method, one-of: [yescrypt], severity: minor, why: w.}
- {setting: empty-accepted, exactly: off, severity: minor, why: w.}
- {setting: lockout-threshold, at-most: 5 failed attempts, specials: {never: fails}, severity: minor, why: w.}
- {setting: lockout-duration, at-least: 30 minutes, specials: {until-admin: holds}, severity: grave, why: w.}
- {setting: lockout-window, at-least: 30 minutes, specials: {never: holds, at-once: fails}, severity: grave, why: w.}
- {setting: lockout-administrator, exactly: on, severity: minor, why: w.}
- {setting: mfa, exactly: all, severity: minor, why: w.}
`

// side writes one side of a pair as a place, and says which tiers its accounts need.
func side(t *testing.T, name, text string, tiers map[string][]string) string {
	t.Helper()
	words := strings.Fields(text)
	kind, ok := kinds[words[0]]
	if !ok {
		t.Fatalf("%q: no kind of place is called that", words[0])
	}
	n, tier, flags, own := 1, govern.Standard, []string{}, map[string]string{}
	hidden, rid := false, ""
	for _, w := range words[1:] {
		id, value, isSetting := strings.Cut(w, "=")
		switch count, err := strconv.Atoi(strings.TrimPrefix(w, "x")); {
		case isSetting:
			own[id] = value
		case strings.HasPrefix(w, "x") && err == nil:
			n = count
		case strings.HasPrefix(w, "+"):
			flags = append(flags, w[1:])
		case w == "hidden":
			hidden = true
		case w == "rid0":
			rid = " rid=0"
		case w == govern.Privileged, w == govern.Service, w == govern.Standard:
			tier = w
		default:
			t.Fatalf("%q is no word of a side", w)
		}
	}
	var head []string
	for _, w := range strings.Fields(kind.settings) {
		id, _, _ := strings.Cut(w, "=")
		if value, ok := own[id]; ok {
			w = id + "=" + value
			delete(own, id)
		}
		head = append(head, w)
	}
	for id, value := range own {
		head = append(head, id+"="+value)
	}
	lines := []string{kind.head}
	if strings.Contains(kind.head, "%d") {
		lines[0] = fmt.Sprintf(kind.head, name, len(name)*7+int(name[0]))
	} else {
		lines[0] = fmt.Sprintf(kind.head, name)
	}
	lines = append(lines, "head "+strings.Join(head, " "))
	pointing := ""
	if hidden {
		pointing = " ->Hidden"
	}
	for i := range n {
		who := fmt.Sprintf("%s-%s-%d", name, tier, i)
		lines = append(lines, "account "+who+" "+strings.Join(flags, " ")+pointing+rid)
		tiers[tier] = append(tiers[tier], who)
	}
	return strings.Join(lines, "\n")
}

// judged weighs a world of lines and returns its record.
func judged(t *testing.T, world string, tiers map[string][]string, a *exposure.Assumptions) *Record {
	t.Helper()
	b, err := baseline.Parse("strict.yaml", []byte(strict))
	if err != nil {
		t.Fatal(err)
	}
	var rules []govern.TierRule
	for _, name := range []string{govern.Privileged, govern.Service, govern.Standard} {
		rules = append(rules, govern.TierRule{Name: name, Accounts: tiers[name]})
	}
	e := landtest.Land(t, world)
	survey := govern.NewSurvey(e, func(*estate.Authority) estate.Dialect { return estate.Windows }, rules)
	return &Record{Places: e.Authorities, Result: weigh.Run(survey, weigh.Choice{Assumptions: a, Expect: check.Expectation{Age: func(string) int64 { return 0 }},
		Baselines: func(*estate.Authority, string) []*baseline.Baseline { return []*baseline.Baseline{b} }})}
}

// first is where the first thing that is wrong at a place stands: its matter, the row in it, and
// the finding in that.
func first(all []*Matter, place string) (matter, row, finding int) {
	for i, m := range all {
		for k, r := range m.Rows {
			if n := slices.IndexFunc(r.Findings, func(f *check.Finding) bool { return f.Authority.Name == place }); n >= 0 {
				return i, k, n
			}
		}
	}
	return len(all), 0, 0
}

// TestJudgement holds the order of matters against what an expert would put first.
func TestJudgement(t *testing.T) {
	data, err := os.ReadFile("testdata/judgement.txt")
	if err != nil {
		t.Fatal(err)
	}
	pairs := 0
	for line := range strings.SplitSeq(string(data), "\n") {
		parts := strings.Split(line, " | ")
		if strings.HasPrefix(line, "#") || len(parts) != 3 {
			continue
		}
		pairs++
		t.Run(parts[0], func(t *testing.T) {
			tiers := map[string][]string{}
			// Named so that nothing but what they are decides which comes first.
			world := side(t, "later", parts[2], tiers) + "\n" + side(t, "nearer", parts[1], tiers)
			r := judged(t, world, tiers, exposure.Usual())
			all := r.Matters()
			m1, r1, f1 := first(all, "nearer")
			m2, r2, f2 := first(all, "later")
			if m1 == len(all) || cmp.Or(m1-m2, r1-r2, f1-f2) >= 0 {
				var told []string
				for _, m := range all {
					for _, row := range m.Rows {
						worth := "no figure"
						if row.Worth != nil {
							worth = fmt.Sprintf("%d", row.Worth.Sum)
						}
						told = append(told, fmt.Sprintf("%s %s (%s, %s): %s", m.Name, row.Title, row.Severity, worth, row.Places[0].Name))
					}
				}
				t.Errorf("%s\nshould come before\n%s\n\n%s", parts[1], parts[2], strings.Join(told, "\n"))
			}
		})
	}
	if pairs < 60 {
		t.Errorf("%d pairs", pairs)
	}
}

// estates reads testdata/estates.txt.
func estates(t *testing.T) map[string][]string {
	t.Helper()
	data, err := os.ReadFile("testdata/estates.txt")
	if err != nil {
		t.Fatal(err)
	}
	all := map[string][]string{}
	for _, text := range strings.Split(string(data), "\n== ")[1:] {
		title, body, _ := strings.Cut(text, "\n")
		all[title] = strings.Split(strings.TrimSpace(body), "\n")
	}
	return all
}

// played is the record of an estate under assumptions.
func played(t *testing.T, lines []string, a *exposure.Assumptions) *Record {
	t.Helper()
	tiers := map[string][]string{}
	var world []string
	for i, line := range lines {
		if word, _, _ := strings.Cut(line, " "); word != "must" && word != "never" {
			world = append(world, side(t, fmt.Sprintf("place%d", i), line, tiers))
		}
	}
	return judged(t, strings.Join(world, "\n"), tiers, a)
}

func titles(all []*Matter) (titles []string) {
	for _, m := range all[:min(len(all), firstPage)] {
		titles = append(titles, m.Title)
	}
	return titles
}

// TestEstates says what stands among the first ten of named estates, and what must not.
func TestEstates(t *testing.T) {
	all := estates(t)
	if len(all) < 12 {
		t.Errorf("%d estates", len(all))
	}
	for name, lines := range all {
		t.Run(name, func(t *testing.T) {
			r := played(t, lines, exposure.Usual())
			got := titles(r.Matters())
			for _, line := range lines {
				word, title, _ := strings.Cut(line, " ")
				there := slices.ContainsFunc(got, func(x string) bool { return strings.HasPrefix(x, title) })
				if word == "must" && !there || word == "never" && there {
					t.Errorf("%s %q among the first:\n%s", word, title, strings.Join(got, "\n"))
				}
			}
		})
	}
}

// TestAssumptionsMove halves and doubles each assumption: of no estate more than two of the
// first ten become others.
func TestAssumptionsMove(t *testing.T) {
	for name, lines := range estates(t) {
		usual := titles(played(t, lines, exposure.Usual()).Matters())
		for i, row := range exposure.Table {
			for _, times := range []float64{0.5, 2} {
				a := exposure.Usual()
				a[i] = min(max(row.Value*times, row.Least), row.Most)
				other, differ := titles(played(t, lines, a).Matters()), 0
				for _, title := range usual {
					if !slices.Contains(other, title) {
						differ++
					}
				}
				if differ > 2 {
					t.Errorf("%s: %s times %v: %d of the first ten are others", name, row.Name, times, differ)
				}
			}
		}
	}
}
