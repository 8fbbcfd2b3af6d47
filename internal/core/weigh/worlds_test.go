package weigh

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/landtest"
	"sternledger/internal/core/setting"
	"sternledger/internal/worldtest"
)

// TestWorlds plays testdata/worlds.txt: lands held against baselines (see landtest), and beside them
//
//	decide SETTING ID
//	tier NAME ACCOUNT…
func TestWorlds(t *testing.T) {
	worldtest.Play(t, "worlds.txt", func(t *testing.T, lines []string) []string {
		var tiers []govern.TierRule
		var rest []string
		chosen, lines := landtest.Against(t, lines)
		choice := Choice{Writing: plainly, Expect: check.Expectation{Age: func(string) int64 { return 0 }},
			Fitting: func(a *estate.Authority) []string { return []string{"fit-for-" + a.Name} }}
		for _, line := range lines {
			f := strings.Fields(line)
			switch f[0] {
			case "decide":
				choice.Decisions = append(choice.Decisions, Decision{Setting: setting.ID(f[1]), Follow: f[2], Why: "w"})
			case "tier":
				tiers = append(tiers, govern.TierRule{Name: f[1], Accounts: f[2:]})
			default:
				rest = append(rest, line)
			}
		}
		choice.Baselines = against(chosen...)
		survey := govern.NewSurvey(landtest.Land(t, strings.Join(rest, "\n")),
			func(*estate.Authority) estate.Dialect { return estate.Windows }, tiers)
		return concluded(Run(survey, choice))
	})
}

// concluded is all that came of weighing.
func concluded(r *Result) (said []string) {
	for i := range r.Verdicts {
		v := &r.Verdicts[i]
		line := fmt.Sprintf("%s: %s of %s %s (%s), %s observed", v.Scope.Name(), v.Demand.Setting, v.Baseline.ID, v.Kind, v.Severity, v.Observed)
		if v.Check != "" {
			line += ", by " + v.Check
		}
		for _, c := range v.Evidence {
			line += " " + c.String()
		}
		said = append(said, line)
		if v.Reason != "" {
			said = append(said, "  "+v.Reason)
		}
	}
	for i := range r.Findings {
		f := &r.Findings[i]
		var failed []string
		for _, b := range f.Baselines {
			failed = append(failed, fmt.Sprint(b))
		}
		slices.Sort(failed)
		line := fmt.Sprintf("found %s, %s at %s %v%s: %q where %q is demanded %v", f.Kind, f.Severity, f.ScopeName(), f.Settings, f.Check,
			f.Observed, f.Demanded, failed)
		if f.Accounts != nil {
			line += fmt.Sprintf(" (%d accounts %v)", *f.Accounts, f.Examples)
		}
		said = append(said, line, "  "+f.Reason, "  "+f.Remedy)
	}
	for _, x := range r.Idle {
		said = append(said, fmt.Sprintf("idle at %s: %s of %s", x.Scope.Name(), x.Demand.Setting, x.Baseline.ID))
	}
	for _, x := range r.SetAside {
		said = append(said, fmt.Sprintf("set aside at %s: %s of %s, for %s", x.Scope.Name(), x.Demand.Setting, x.Baseline.ID, x.Decision.Follow))
	}
	for _, x := range r.Unweighed {
		said = append(said, fmt.Sprintf("unweighed: %s, %v", x.Authority.Name, x.Fitting))
	}
	return said
}
