package drift

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

// TestWorlds plays testdata/worlds.txt: a land held against baselines (see landtest), what
// it is "later", and what changed.
//
//	file NAME SHA256                    of the evidence
//	waive SETTING REASON                accepts what was found on it
//	tier NAME ACCOUNT…
func TestWorlds(t *testing.T) {
	worldtest.Play(t, "worlds.txt", func(t *testing.T, lines []string) (said []string) {
		i := slices.Index(lines, "later")
		if i < 0 {
			t.Fatal("nothing is later")
		}
		r := Between(stateOf(t, 1, lines[:i]), stateOf(t, 2, lines[i+1:]))
		say := func(what string, c Change) {
			said = append(said, fmt.Sprintf("%s %s: %s; %q, then %q; %s", what, c.What, c.Way, c.Before, c.After, c.Why))
		}
		for part, all := range map[string][]Change{"evidence": r.Evidence, "baseline": r.Baselines, "scope": r.Scopes, "account": r.Accounts,
			"waiver": r.Waivers} {
			for _, c := range all {
				say(part, c)
			}
		}
		for _, m := range r.Moves {
			said = append(said, fmt.Sprintf("moved %s of %s: from %s to %s, enabled %v", m.Account, m.Authority, m.From, m.To, m.Enabled))
		}
		slices.Sort(said) // the parts; within each the order is that of names
		for _, s := range r.Settings {
			say("setting "+string(s.Setting)+" of", s.Change)
		}
		for _, f := range r.Findings {
			say(fmt.Sprintf("finding %q (%s) at", f.Headline, f.Severity), f.Change)
		}
		if r.Nothing() != (len(said) == 0) {
			t.Errorf("nothing changed: %v, of %d", r.Nothing(), len(said))
		}
		return said
	})
}

// stateOf weighs a land.
func stateOf(t *testing.T, number int64, lines []string) State {
	t.Helper()
	chosen, lines := landtest.Against(t, lines)
	s := State{At: "2026-11-23T09:00:00Z", Record: &record.Record{Number: number, Files: map[string]string{}, Baselines: chosen}}
	var rest []string
	var tiers []govern.TierRule
	var waived [][]string
	for _, line := range lines {
		switch f := strings.Fields(line); f[0] {
		case "file":
			s.Files[f[1]] = f[2]
		case "waive":
			waived = append(waived, f[1:])
		case "tier":
			tiers = append(tiers, govern.TierRule{Name: f[1], Accounts: f[2:]})
		default:
			rest = append(rest, line)
		}
	}
	e := landtest.Land(t, strings.Join(rest, "\n"))
	survey := govern.NewSurvey(e, func(*estate.Authority) estate.Dialect { return estate.Windows }, tiers)
	s.Places = e.Authorities
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
	s.Result = weigh.Run(survey, weigh.Choice{Expect: check.Expectation{Age: func(string) int64 { return 0 }},
		Baselines: func(*estate.Authority, string) []*baseline.Baseline { return chosen }})
	var waivers []check.Waiver
	for i := range s.Result.Findings {
		for _, w := range waived {
			if f := &s.Result.Findings[i]; len(f.Settings) > 0 && string(f.Settings[0]) == w[0] && f.Check == "" {
				waivers = append(waivers, check.Waiver{Entry: 9, Fingerprint: f.Fingerprint, Setting: f.Settings[0], Scope: f.ScopeName(),
					Kind: f.Kind, Value: f.Scope.Settings[f.Settings[0]].Value, Observed: f.Observed, Reason: strings.Join(w[1:], " "),
					Over: slices.Contains(w, "over")})
			}
		}
	}
	s.Waive(waivers)
	return s
}
