package check_test

import (
	"fmt"
	"strings"
	"testing"

	"sternledger/internal/assess"
	"sternledger/internal/custody"
	"sternledger/internal/demotest"
)

// What the checks find in the demo, to the last word.
func TestChecksOnTheDemo(t *testing.T) {
	w, err := assess.Weigh(demotest.Demo(t), custody.WeighOptions{})
	if err != nil {
		t.Fatal(err)
	}
	var lines []string
	for i := range w.Findings {
		f := &w.Findings[i]
		if f.Check == "" {
			continue
		}
		accounts := "none listed"
		if f.Accounts != nil {
			accounts = fmt.Sprint(*f.Accounts, " ", f.Examples, " rows ", f.Rows)
		}
		lines = append(lines, "", fmt.Sprintf("%s, %s, %s: %s (%s) %s", f.Check, f.Kind, f.Severity, f.ScopeName(), f.Authority.Kind, f.About),
			"  accounts: "+accounts, fmt.Sprintf("  settings: %v, observed: %s, required: %s", f.Settings, f.Observed, f.Demanded),
			"  reason: "+f.Reason, "  remedy: "+f.Remedy)
		for _, c := range f.Evidence {
			lines = append(lines, strings.TrimRight(fmt.Sprintf("  evidence: %s %s", c, c.Raw), " "))
		}
	}
	demotest.Same(t, "demo.txt", lines)
}
