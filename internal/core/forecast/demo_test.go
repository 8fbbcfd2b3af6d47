package forecast_test

import (
	"encoding/json"
	"fmt"
	"testing"

	"sternledger/internal/assess"
	"sternledger/internal/core/forecast"
	"sternledger/internal/demotest"
)

// The figures of the demo's scopes, under usual and other assumptions.
func TestForecastOfTheDemo(t *testing.T) {
	e := demotest.Demo(t)
	var lines []string
	other := forecast.Assumptions{OnlineRate: 3, OfflineRate: 1e9, LocksPerYear: 7, WorkingDays: 250, SignIns: 5}
	for _, a := range []forecast.Assumptions{forecast.Usual, other} {
		f, err := assess.Forecast(e, assess.ForecastOptions{Assumptions: a})
		if err != nil {
			t.Fatal(err)
		}
		for i := range f.Scopes[:min(len(f.Scopes), 14)] {
			x := &f.Scopes[i]
			text, err := json.Marshal(x.Now)
			if err != nil {
				t.Fatal(err)
			}
			lines = append(lines, fmt.Sprintf("%s: %s", x.Scope.Name(), text))
		}
	}
	demotest.Same(t, "demo.txt", lines)
}
