package check_test

import (
	"fmt"
	"strings"
	"testing"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/landtest"
	"sternledger/internal/core/weigh"
)

// deep is a chain of as many groups, with a policy on each and privileged accounts in each.
func deep(groups, accountsInEach int) string {
	var b strings.Builder
	b.WriteString("domain d S-1-5-21-1-2-3\nhead min-length=8\n")
	for g := range groups {
		fmt.Fprintf(&b, "policy p%d %d min-length=%d,history=%d g%d\n", g, g+1, 8+g%7, g%24, g)
		inside := ""
		if g > 0 {
			inside = fmt.Sprintf(" g%d", g-1)
		}
		for a := range accountsInEach {
			name := fmt.Sprintf("a%d-%d", g, a)
			fmt.Fprintf(&b, "account %s\n", name)
			inside += " " + name
		}
		fmt.Fprintf(&b, "group g%d%s\n", g, inside)
	}
	return b.String()
}

// BenchmarkDeepNest measures the checks where many policies reach privileged accounts
// through a chain of groups: ten times the accounts should take no more than ten times as
// long.
func BenchmarkDeepNest(b *testing.B) {
	for _, in := range []int{1, 10} {
		b.Run(fmt.Sprint(in, " in each of 200 groups"), func(b *testing.B) {
			e := landtest.Land(b, deep(200, in))
			tiers := []govern.TierRule{{Name: govern.Privileged, Accounts: []string{"*"}}}
			for b.Loop() {
				s := govern.NewSurvey(e, func(*estate.Authority) estate.Dialect { return estate.Windows }, tiers)
				r := weigh.Run(s, weigh.Choice{Baselines: func(*estate.Authority, string) []*baseline.Baseline { return nil },
					Expect: check.Expectation{Age: func(string) int64 { return 0 }}})
				if len(r.Findings) < 200 {
					b.Fatalf("%d findings", len(r.Findings))
				}
			}
		})
	}
}
