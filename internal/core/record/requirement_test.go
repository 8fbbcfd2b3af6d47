package record_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/landtest"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
)

// How far each section is met, over random records, is what a plain reading of the verdicts gives:
// a list of them, looked through once for each section and platform.
func TestRequirementsArePlain(t *testing.T) {
	rounds := uint64(20)
	if n, err := strconv.ParseUint(os.Getenv("STERNLEDGER_ROUNDS"), 10, 64); err == nil {
		rounds = n
	}
	seen := map[record.State]int{}
	for seed := range rounds {
		asked := landtest.RandomBaselines(seed)
		if slices.ContainsFunc(strings.Split(strings.Join(asked, "\n")+"\n", "baseline ")[1:], func(b string) bool { return !strings.Contains(b, "demand ") }) {
			continue // one demands nothing
		}
		lines := append(asked, landtest.Random(seed)...)
		rnd := rand.New(rand.NewPCG(seed, 23))
		if rnd.IntN(2) == 0 {
			lines = append(lines, "waive min-length", "waive history")
		}
		r := recordOf(t, lines)
		all := r.Requirements()
		var sections []string
		for _, x := range all {
			key := x.Baseline.ID + " " + x.Ref
			if slices.Contains(sections, key) {
				t.Fatalf("seed %d: %s twice", seed, key)
			}
			sections = append(sections, key)
			if got, want := plain(r, x, ""), fmt.Sprint(x.State(), x.Met, x.Failed, x.Unknown, x.Accepted, x.Accounts); got != want {
				t.Fatalf("seed %d: %s is %s, plainly %s\n%s", seed, key, want, got, strings.Join(lines, "\n"))
			}
			seen[x.State()]++
			for i := range x.By {
				p := &x.By[i]
				if got, want := plain(r, x, p.Platform), fmt.Sprint(p.State(), p.Met, p.Failed, p.Unknown, p.Accepted, p.Accounts); got != want {
					t.Fatalf("seed %d: %s on %s is %s, plainly %s", seed, key, p.Platform, want, got)
				}
			}
			for _, name := range x.Matters {
				m := slices.IndexFunc(r.Matters(), func(m *record.Matter) bool { return m.Name == name })
				if m < 0 || !slices.ContainsFunc(r.Matters()[m].Findings, func(f *check.Finding) bool {
					return slices.ContainsFunc(f.Baselines, func(s check.Source) bool { return s.ID == x.Baseline.ID && s.Ref == x.Ref })
				}) {
					t.Fatalf("seed %d: %s names %s, which is of another section", seed, key, name)
				}
			}
		}
		for i := range r.Verdicts {
			if v := &r.Verdicts[i]; !slices.Contains(sections, v.Baseline.ID+" "+v.Demand.Ref) {
				t.Fatalf("seed %d: nothing tells of %s %s", seed, v.Baseline.ID, v.Demand.Ref)
			}
		}
	}
	for _, state := range []record.State{record.Met, record.PartlyMet, record.NotMet, record.NotKnown, record.NotAssessed} {
		if seen[state] == 0 {
			t.Errorf("no section is %s: %v", state, seen)
		}
	}
}

// plain counts by looking.
func plain(r *record.Record, x *record.Requirement, on setting.Platform) string {
	holds, fails, missing, waived, accounts := 0, 0, 0, 0, 0
	var failing []string
	for i := range r.Verdicts {
		v := &r.Verdicts[i]
		if v.Baseline.ID != x.Baseline.ID || v.Demand.Ref != x.Ref || on != "" && v.Scope.Authority.Platform != on {
			continue
		}
		switch v.Kind {
		case check.Holds:
			holds++
		case check.Missing:
			missing++
		case check.Waived:
			waived++
		case check.Weak, check.Conflicting:
			fails++
			if at := fmt.Sprintf("%p", v.Scope); !slices.Contains(failing, at) {
				failing = append(failing, at)
				if v.Scope.Listed() {
					accounts += v.Scope.Enabled
				}
			}
		}
	}
	state := "met"
	switch {
	case fails > 0 && holds+waived > 0:
		state = "partly met"
	case fails > 0:
		state = "not met"
	case missing > 0:
		state = "not known"
	case waived > 0:
		state = "accepted"
	case holds == 0:
		state = "not assessed"
	}
	return fmt.Sprint(record.State(state), holds, fails, missing, waived, accounts)
}

// What is waived everywhere is accepted, and a section of which no place is in evidence not assessed.
func TestRequirementStates(t *testing.T) {
	r := small()
	r.Baselines[0].Demands = append(r.Baselines[0].Demands, baseline.Demand{Condition: baseline.Condition{Setting: "mfa"}, Ref: "1.2"})
	of := func() string {
		var all []string
		for _, x := range r.Requirements() {
			all = append(all, x.Ref+" "+string(x.State()))
		}
		return strings.Join(all, ", ")
	}
	if got := of(); got != "1.1 partly met, 1.2 not assessed" {
		t.Error(got)
	}
	r.Verdicts = r.Verdicts[:1]
	if got := of(); got != "1.1 accepted, 1.2 not assessed" {
		t.Error(got)
	}
}
