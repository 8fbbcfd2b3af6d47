package drift_test

import (
	"encoding/json"
	"strings"
	"testing"

	"sternledger/internal/assess"
	"sternledger/internal/contract"
	"sternledger/internal/custody"
	"sternledger/internal/demotest"
)

// What a month and a quarter change in the demo.
func TestDriftOfTheDemo(t *testing.T) {
	e := demotest.Demo(t)
	weigh := func() {
		t.Helper()
		if _, err := assess.Weigh(e, custody.WeighOptions{}); err != nil {
			t.Fatal(err)
		}
	}
	weigh()
	for _, setting := range []string{"min-length", "history"} {
		if _, err := e.Waive(custody.WaiveOptions{Setting: setting, Scope: "*", Until: "2027-11-23", Reason: "Rebuilt in spring"}); err != nil {
			t.Fatal(err)
		}
	}
	weigh()
	demotest.Later(t, e, "month")
	weigh()
	demotest.Later(t, e, "quarter")
	weigh()
	var lines []string
	for _, pair := range [][2]int64{{1, 2}, {2, 3}, {3, 4}, {4, 1}} {
		r, err := assess.Drift(e, pair[0], pair[1])
		if err != nil {
			t.Fatal(err)
		}
		text, err := json.MarshalIndent(contract.NewDriftDocument(r), "", " ")
		if err != nil {
			t.Fatal(err)
		}
		lines = append(lines, strings.Split(string(text), "\n")...)
	}
	demotest.Same(t, "demo.txt", lines)
}
