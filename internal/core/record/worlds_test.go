package record_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/landtest"
	"sternledger/internal/core/record"
	"sternledger/internal/core/weigh"
	"sternledger/internal/worldtest"
)

// TestWorlds plays testdata/worlds.txt: lands held against baselines (see landtest), and
// what a record makes of them: the places that are alike, and the matters.
//
//	waive SETTING                       accepts what was found on it
//	names FINGERPRINT-OF-SETTING NAME   the name that an earlier record gave
//	later                               what follows is another land, and what is told is how it is judged otherwise
func TestWorlds(t *testing.T) {
	worldtest.Play(t, "worlds.txt", func(t *testing.T, lines []string) []string {
		i := slices.Index(lines, "later")
		if i < 0 {
			return played(t, recordOf(t, lines))
		}
		var said []string
		for _, d := range record.Differences(recordOf(t, lines[:i]), recordOf(t, lines[i+1:])) {
			said = append(said, fmt.Sprintf("%s: %s, then %s", d.What, d.Before, d.After))
		}
		return said
	})
}

// recordOf weighs a land.
func recordOf(t *testing.T, lines []string) *record.Record {
	t.Helper()
	chosen, lines := landtest.Against(t, lines)
	var rest, waived []string
	for _, line := range lines {
		if id, ok := strings.CutPrefix(line, "waive "); ok {
			waived = append(waived, id)
		} else {
			rest = append(rest, line)
		}
	}
	survey := govern.NewSurvey(landtest.Land(t, strings.Join(rest, "\n")), func(*estate.Authority) estate.Dialect { return estate.Windows },
		[]govern.TierRule{{Name: "crew", Accounts: []string{"crew-*"}}})
	r := &record.Record{Result: weigh.Run(survey, weigh.Choice{Baselines: func(*estate.Authority,
		string) []*baseline.Baseline {
		return chosen
	},
		Expect: check.Expectation{Age: func(string) int64 { return 0 }}})}
	r.Places, r.Baselines = survey.Estate.Authorities, chosen
	var waivers []check.Waiver
	for i := range r.Findings {
		for _, id := range waived {
			if f := &r.Findings[i]; f.Scope != nil && len(f.Settings) > 0 && string(f.Settings[0]) == id {
				waivers = append(waivers, check.Waiver{Entry: int64(i), Fingerprint: f.Fingerprint, Setting: f.Settings[0], Kind: f.Kind,
					Value: f.Scope.Settings[f.Settings[0]].Value, Observed: f.Observed})
			}
		}
	}
	r.Waive(waivers)
	r.Files = map[string]string{"x": "11", "elsewhere": "22"}
	for i, a := range r.Places {
		a.Files = []string{"x", fmt.Sprintf("lost%d", i)}
		roll := record.NewRoll(a.Place())
		for row := range a.Objects.Len() {
			if a.Objects.ClassOf(row) == estate.Account {
				scope, g := survey.ScopeOf(i, row)
				roll.Add(row, record.Standing{Scope: scope, Rule: g.Rule})
			}
		}
		r.Rolls = append(r.Rolls, roll)
	}
	return r
}

// played is what a record says, and its parts; written and read it says the same.
func played(t *testing.T, r *record.Record) []string {
	t.Helper()
	said := told(t, r)
	for _, a := range r.Places {
		p := r.Part(func(x *estate.Authority) bool { return x == a })
		said = append(said, fmt.Sprintf("alone %s: %d files, %d scopes, %d verdicts, %d findings, %d idle, %d unweighed, %d waivers, rolls %v",
			a.Label(), len(p.Files), len(p.Scopes), len(p.Verdicts), len(p.Findings), len(p.Idle), len(p.Unweighed), len(p.Waivers), rolls(p)))
		for _, m := range p.Matters() {
			if whole := record.MatterNamed(r.Matters(), m.Name); whole == nil || whole.Fingerprint != m.Fingerprint && whole.Name == "" {
				t.Errorf("%s of a part has another name in the whole", m.Name)
			}
		}
	}
	data, err := r.Encode()
	if err != nil {
		t.Fatal(err)
	}
	back, err := record.Decode(data)
	if err != nil {
		t.Fatal(err)
	}
	for i := range back.Places { // objects are stored apart
		back.Places[i].Objects = r.Places[i].Objects
	}
	if again := told(t, back); !slices.Equal(again, said[:len(again)]) || fmt.Sprint(rolls(back)) != fmt.Sprint(rolls(r)) {
		t.Errorf("read back it is otherwise:\n%s", strings.Join(again, "\n"))
	}
	if d := record.Differences(r, back); len(d) != 0 {
		t.Errorf("read back it differs: %v", d)
	}
	if record.CohortOf(r.Cohorts(), &estate.Authority{}) != nil || record.MatterNamed(r.Matters(), "none") != nil {
		t.Error("what is in no record is found")
	}
	return said
}

func rolls(r *record.Record) (all []string) {
	for _, roll := range r.Rolls {
		line := roll.Place.Name
		for row := range 20 {
			if s := roll.Of(row); s != nil {
				line += fmt.Sprintf(" %d:%s", row, s.Scope.Name())
			}
		}
		all = append(all, line)
	}
	return all
}

// told is what a record says of places that are alike, and of its matters.
func told(t *testing.T, r *record.Record) (said []string) {
	t.Helper()
	for _, c := range r.Cohorts() {
		usual := ""
		if c.Usual != nil {
			usual = fmt.Sprintf("; not as usual (%s): %s", c.Usual.Place().Label(), strings.Join(c.Differs, ", "))
		}
		accounts := "not listed"
		if c.Accounts != nil {
			accounts = fmt.Sprint(*c.Accounts)
		}
		var names []string
		for _, a := range c.Places {
			names = append(names, a.Label())
			if record.CohortOf(r.Cohorts(), a).ID != c.ID {
				t.Errorf("%s is found in another cohort", a.Label())
			}
		}
		said = append(said, fmt.Sprintf("alike: %s; accounts %s, by scope %v; holds %d, weak %d, missing %d, waived %d%s",
			strings.Join(names, ", "), accounts,
			c.Numbers, c.Counts[check.Holds], c.Counts[check.Weak], c.Counts[check.Missing], c.Counts[check.Waived], usual))
	}
	for _, m := range r.Matters() {
		accounts := "not listed"
		if m.Accounts != nil {
			accounts = fmt.Sprint(*m.Accounts)
		}
		said = append(said, fmt.Sprintf("%s %s, %s: %s; %d findings at %d places; accounts %s, %d privileged, %v", m.Name, m.Kind, m.Severity,
			m.Title,
			len(m.Findings), len(m.Places), accounts, m.Privileged, m.Examples),
			fmt.Sprintf("  observed %q, demanded %q; %s", m.Observed, m.Demanded, m.Remedy))
	}
	all := r.Matters()
	for _, m := range all {
		if record.MatterNamed(all, strings.ToLower(m.Name)) != m || record.MatterNamed(all, m.Fingerprint) != m {
			t.Errorf("%s is not found", m.Name)
		}
	}
	return said
}
