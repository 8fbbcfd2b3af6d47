package record_test

import (
	"bytes"
	"fmt"
	"testing"

	"sternledger/internal/assess"
	"sternledger/internal/core/record"
	"sternledger/internal/custody"
	"sternledger/internal/demotest"
)

// The matters and cohorts of the demo, and its record read back and written again to
// the same bytes.
func TestRecordOfTheDemo(t *testing.T) {
	e := demotest.Demo(t)
	if _, err := assess.Weigh(e, custody.WeighOptions{}); err != nil {
		t.Fatal(err)
	}
	if _, err := e.Waive(custody.WaiveOptions{Setting: "min-length", Scope: "gate3*", Until: "2027-11-23",
		Reason: "Rebuilt in spring"}); err != nil {
		t.Fatal(err)
	}
	w, err := assess.Weigh(e, custody.WeighOptions{})
	if err != nil {
		t.Fatal(err)
	}
	data, err := w.Encode()
	if err != nil {
		t.Fatal(err)
	}
	again, err := record.Decode(data)
	if err != nil {
		t.Fatal(err)
	}
	if once, err := again.Encode(); err != nil || !bytes.Equal(once, data) {
		t.Errorf("read back, the record is written otherwise (%v)", err)
	}
	var lines []string
	for _, m := range again.Matters() {
		accounts := "none listed"
		if m.Accounts != nil {
			accounts = fmt.Sprint(*m.Accounts)
		}
		lines = append(lines, fmt.Sprintf("%s %s %s %s %s: %s", m.Name, m.Fingerprint, m.Kind, m.Severity, m.Check, m.Title),
			fmt.Sprintf("  %v, %s; %s | %s | %s", m.Settings, m.Observed, m.Demanded, m.Reason, m.Remedy),
			fmt.Sprintf("  %d findings, %d places, %d scopes, accounts %s, %d privileged, %v; %s", len(m.Findings), len(m.Places), len(m.Scopes),
				accounts, m.Privileged, m.Examples, record.Plainly(m.Demanded)))
	}
	for _, c := range again.Cohorts() {
		usual, accounts := "itself", "not listed"
		if c.Usual != nil {
			usual = c.Usual.Place().Label()
		}
		if c.Accounts != nil {
			accounts = fmt.Sprint(*c.Accounts)
		}
		lines = append(lines, fmt.Sprintf("cohort %s of %s: %d places, %d scopes, %v, accounts %s, %v, usual %s, differs %v", c.ID,
			c.Place().Label(), len(c.Places), len(c.Scopes), c.Numbers, accounts, c.Counts, usual, c.Differs))
	}
	for _, roll := range again.Rolls {
		for row := range 40 {
			if s := roll.Of(row); s != nil && s.Scope != nil {
				lines = append(lines, fmt.Sprintf("%s row %d: %s, %s %s via %s", roll.Place, row, s.Scope.Name(), s.Rule, s.Origin, s.Via))
			}
		}
	}
	demotest.Same(t, "demo.txt", lines)
}
