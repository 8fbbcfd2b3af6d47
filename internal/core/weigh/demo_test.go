package weigh_test

import (
	"fmt"
	"testing"

	"sternledger/internal/assess"
	"sternledger/internal/core/check"
	"sternledger/internal/custody"
	"sternledger/internal/demotest"
)

// What is weighed in the demo: every verdict that does not hold, what comes of them
// together, and how many hold.
func TestWeighingTheDemo(t *testing.T) {
	e := demotest.Demo(t)
	w, err := assess.Weigh(e, custody.WeighOptions{Against: []string{"cis-windows-server", "cis-debian-12", "cis-microsoft-365",
		"nist-800-63b", "cyber-essentials"}})
	if err != nil {
		t.Fatal(err)
	}
	var lines []string
	for i := range w.Verdicts {
		v := &w.Verdicts[i]
		if v.Kind != check.Holds {
			lines = append(lines, fmt.Sprintf("%s, %s %s: %s %s %s", v.Scope.Name(), v.Demand.Setting, v.Baseline.ID, v.Kind, v.Severity, v.Check))
		}
	}
	for i := range w.Findings {
		if f := &w.Findings[i]; f.Check == "" {
			lines = append(lines, fmt.Sprintf("%s: %s %s %s, %s; %s | %s | %s %v", f.ScopeName(), f.Settings[0], f.Kind, f.Severity, f.Observed,
				f.Demanded, f.Reason, f.Remedy, f.Baselines))
		}
	}
	counts := w.Counts()
	for _, s := range w.Scopes {
		lines = append(lines, fmt.Sprintf("%s: %d hold, %d weak, %d conflicting, %d missing", s.Name(), counts[s][check.Holds],
			counts[s][check.Weak], counts[s][check.Conflicting], counts[s][check.Missing]))
	}
	for _, x := range w.Idle {
		lines = append(lines, fmt.Sprintf("idle: %s %s", x.Scope.Name(), x.Named))
	}
	for _, x := range w.SetAside {
		lines = append(lines, fmt.Sprintf("set aside: %s %s: %s", x.Scope.Name(), x.Named, x.Decision.Why))
	}
	for _, u := range w.Unweighed {
		lines = append(lines, fmt.Sprintf("unweighed: %s %v", u.Authority.Label(), u.Fitting))
	}
	demotest.Same(t, "demo.txt", lines)
}
