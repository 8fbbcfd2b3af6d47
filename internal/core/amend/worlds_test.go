package amend

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
	"sternledger/internal/core/weigh"
	"sternledger/internal/worldtest"
)

// TestWorlds plays testdata/worlds.txt: lands held against baselines (see landtest), the
// plan for them, whom each amendment hits on day 400, and what holds once all are made.
//
//	tier NAME ACCOUNT…
//	waive SETTING SCOPE                 accepted as it is now
func TestWorlds(t *testing.T) {
	worldtest.Play(t, "worlds.txt", func(t *testing.T, lines []string) (said []string) {
		chosen, lines := landtest.Against(t, lines)
		w := &world{choice: weigh.Choice{Baselines: func(*estate.Authority, string) []*baseline.Baseline { return chosen },
			Expect: check.Expectation{Age: func(string) int64 { return 0 }}}}
		var rest, waived []string
		for _, line := range lines {
			switch f := strings.Fields(line); f[0] {
			case "tier":
				w.tiers = append(w.tiers, govern.TierRule{Name: f[1], Accounts: f[2:]})
			case "waive":
				waived = append(waived, strings.TrimPrefix(line, "waive "))
			default:
				rest = append(rest, line)
			}
		}
		w.Estate = landtest.Land(t, strings.Join(rest, "\n"))
		_, now := w.weighed(w.Estate)
		for i := range now.Findings {
			if f := &now.Findings[i]; f.Check == "" && slices.Contains(waived, string(f.Settings[0])+" "+f.ScopeName()) {
				w.waivers = append(w.waivers, check.Waiver{Fingerprint: f.Fingerprint, Kind: f.Kind, Setting: f.Settings[0],
					Severity: f.Severity, Observed: f.Observed,
					Value: f.Scope.Settings[f.Settings[0]].Value})
			}
		}
		p, before, s := w.planned(t)
		_, all := w.weighed(Apply(w.Estate, p.Amendments))
		ended, appeared := Compare(before, all)
		p.Seen(before, ended, appeared)
		for _, a := range p.Amendments {
			var first, scopes []string
			for _, f := range a.First {
				first = append(first, f.Name)
			}
			for _, s := range a.Scopes {
				scopes = append(scopes, s.Name())
			}
			said = append(said, fmt.Sprintf("%s %s (%s, %s): %s to %s, first %v; of %s", a.Name, a.Title(), a.Holder(), a.Severity, a.Was(),
				a.Becomes(),
				first, strings.Join(scopes, ", ")))
			for _, x := range a.Spots {
				said = append(said, fmt.Sprintf("  at %s, %s %s %s, rows %v", x.At.Name, x.Policy(), x.Where, x.Cite, x.Rows))
			}
			touched := NewPopulation(s).Touch(a, 400*aDay)
			said = append(said, fmt.Sprintf("  settles %d, brings %d, %d accounts, %d privileged; %s; services %v, disabled %d", len(a.Settles),
				len(a.Brings),
				a.Accounts, a.Privileged, touched.What, touched.Services, touched.Shut.All()))
			for _, note := range a.Notes {
				said = append(said, "  note: "+note)
			}
		}
		for _, d := range p.Decisions {
			said = append(said, fmt.Sprintf("decide (%s), %d findings: %s | %s", d.Severity, len(d.Findings), d.Title, d.Choices))
		}
		for _, f := range p.Evidence {
			said = append(said, "evidence: "+f.Head()+" at "+f.ScopeName())
		}
		after, then := w.weighed(Apply(w.Estate, p.Amendments))
		if worse := Worse(before, then); len(worse) > 0 {
			t.Errorf("with all made, verdicts are worse: %v", worse)
		}
		for _, scope := range after.Scopes {
			var held []string
			for i := range then.Verdicts {
				if v := &then.Verdicts[i]; v.Scope == scope {
					held = append(held, strings.TrimSpace(fmt.Sprintf("%s %s %s %s", v.Demand.Setting, v.Kind, v.Observed,
						scope.Settings[v.Demand.Setting].Cite)))
				}
			}
			slices.Sort(held)
			said = append(said, fmt.Sprintf("then %s: %s", scope.Name(), strings.Join(slices.Compact(held), ", ")))
		}
		return said
	})
}
