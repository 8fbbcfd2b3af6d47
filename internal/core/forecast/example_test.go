package forecast_test

import (
	"fmt"

	"sternledger/internal/core/forecast"
	"sternledger/internal/core/setting"
)

func ExampleOf() {
	policy := map[setting.ID]setting.Value{"lockout-threshold": setting.Number(5), "lockout-window": setting.Number(15 * 60),
		"lockout-duration": setting.Number(15 * 60)}
	f := forecast.Of(setting.WindowsDomain, func(id setting.ID) setting.Value { return policy[id] }, forecast.Usual)
	for _, g := range f.Guesses {
		fmt.Println(g.Horizon+":", *g.UnderLock, "guesses without a lock,", *g.IntoLock, "into", *g.Locks, "locks")
	}
	// Output:
	// hour: 16 guesses without a lock, 20 into 4 locks
	// night: 224 guesses without a lock, 280 into 56 locks
	// weekend: 992 guesses without a lock, 1240 into 248 locks
	// 90 days: 34560 guesses without a lock, 43200 into 8640 locks
}
