package check_test

import (
	"fmt"
	"strconv"
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

// TestWorlds plays testdata/worlds.txt: lands (see landtest) and what the checks find
// there. Beside the language of lands there are
//
//	played as DIALECT
//	tier NAME ACCOUNT…                  patterns of names
//	expect AUTHORITY… | machines NAME… | older than DAYS | age FILE DAYS | passed over FILE LINE
func TestWorlds(t *testing.T) {
	worldtest.Play(t, "worlds.txt", func(t *testing.T, lines []string) (said []string) {
		var dialect estate.Dialect
		var tiers []govern.TierRule
		const day = 24 * 60 * 60
		ages := map[string]int64{}
		expect := check.Expectation{Age: func(file string) int64 { return ages[file] * day }}
		var rest []string
		for _, line := range lines {
			f := strings.Fields(line)
			days, _ := strconv.ParseInt(f[len(f)-1], 10, 64)
			switch f[0] {
			case "played":
				dialect = estate.Dialect(f[2])
			case "tier":
				tiers = append(tiers, govern.TierRule{Name: f[1], Accounts: f[2:]})
			case "expect":
				expect.Authorities = f[1:]
			case "machines":
				expect.Machines = f[1:]
			case "older":
				expect.MaxAge = days * day
			case "age":
				ages[f[1]] = days
			case "passed":
				expect.Problems = append(expect.Problems, estate.Problem{Cite: estate.Cite{File: f[2], Line: int(days)}, Text: "not a number"})
			default:
				rest = append(rest, line)
			}
		}
		survey := govern.NewSurvey(landtest.Land(t, strings.Join(rest, "\n")), func(*estate.Authority) estate.Dialect { return dialect }, tiers)
		r := weigh.Run(survey, weigh.Choice{Baselines: func(*estate.Authority, string) []*baseline.Baseline { return nil }, Expect: expect,
			Day: func(unix int64) string { return fmt.Sprint("day ", unix/day) }})
		for i := range r.Findings {
			f := &r.Findings[i]
			if f.Check == "not-weighed" { // no baseline is chosen here
				continue
			}
			said = append(said, fmt.Sprintf("%s, %s %s at %s: %s", f.Check, f.Severity, f.Kind, f.ScopeName(), f.Reason))
			line := fmt.Sprintf("  fix: %s", f.Remedy)
			if f.Accounts != nil {
				line += fmt.Sprintf(" (%d accounts %v)", *f.Accounts, f.Examples)
			}
			if len(f.Settings) > 0 {
				line += fmt.Sprintf(" %v observed %q", f.Settings, f.Observed)
			}
			for _, c := range f.Evidence {
				line += " " + c.String()
			}
			said = append(said, line)
		}
		return said
	})
}
