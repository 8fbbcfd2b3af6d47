package record_test

import (
	"fmt"
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
func TestWorlds(t *testing.T) {
	worldtest.Play(t, "worlds.txt", func(t *testing.T, lines []string) (said []string) {
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
				if f := &r.Findings[i]; len(f.Settings) > 0 && string(f.Settings[0]) == id {
					waivers = append(waivers, check.Waiver{Entry: int64(i), Fingerprint: f.Fingerprint, Setting: f.Settings[0], Kind: f.Kind,
						Value: f.Scope.Settings[f.Settings[0]].Value, Observed: f.Observed})
				}
			}
		}
		r.Waive(waivers)
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
		if record.CohortOf(r.Cohorts(), &estate.Authority{}) != nil {
			t.Error("a place of no record is in a cohort")
		}
		return said
	})
}
