package record

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
)

// Outcome is what came of weighing again what is on record.
type Outcome string

// The outcomes. None is a failure: a record is proven by the chain.
const (
	Same         Outcome = "same"
	OtherVersion Outcome = "intact-judged-otherwise" // today, by this program
	NotPossible  Outcome = "intact-not-judged"       // it cannot be weighed again
	Altered      Outcome = "altered"                 // of the whole: something does not match the chain
)

// Difference is a verdict or finding that two judgements of one thing do not share.
type Difference struct {
	What   string `json:"what"` // scope and setting, or check
	Before string `json:"before"`
	After  string `json:"after"`
}

// Differences compares two judgements of the same evidence, or of another.
func Differences(before, after *Record) []Difference {
	// A finding of before identities were typed has its fingerprint of then.
	renamed := map[string]string{}
	for i := range after.Findings {
		f := &after.Findings[i]
		renamed[f.Alias] = f.Fingerprint
	}
	of := func(r *Record) map[string]string {
		all := map[string]string{}
		for i := range r.Verdicts {
			v := &r.Verdicts[i]
			all[fmt.Sprintf("%s: %s (%s %s)", v.Scope.Name(), v.Demand.Setting, v.Baseline.ID, v.Demand.Ref)] = string(v.Kind) + ", " + v.Observed
		}
		for i := range r.Findings {
			f := &r.Findings[i]
			accounts := ""
			if f.Accounts != nil {
				accounts = fmt.Sprintf(", %d accounts", *f.Accounts)
			}
			all[fmt.Sprintf("%s: %s (%s)", f.ScopeName(), f.Head(), cmp.Or(renamed[f.Fingerprint], f.Fingerprint))] = string(f.Kind) +
				", " + string(f.Severity) + ", " + f.Observed + accounts
		}
		return all
	}
	x, y := of(before), of(after)
	var all []Difference
	for _, what := range slices.Sorted(maps.Keys(x)) {
		if x[what] != y[what] {
			all = append(all, Difference{what, x[what], cmp.Or(y[what], "-")})
		}
	}
	for _, what := range slices.Sorted(maps.Keys(y)) {
		if _, had := x[what]; !had {
			all = append(all, Difference{what, "-", y[what]})
		}
	}
	return all
}
