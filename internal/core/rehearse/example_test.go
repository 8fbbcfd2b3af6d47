package rehearse_test

import (
	"fmt"

	"sternledger/internal/core/forecast"
	"sternledger/internal/core/rehearse"
)

func ExamplePlay() {
	l := forecast.Lockout{Known: true, Threshold: 3, Window: 600, Duration: 900}
	tries, err := rehearse.Timeline("friday.txt", "0 wrong\n1m wrong\n2m wrong\n3m right\n17m right\n")
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, e := range rehearse.Play(l, tries) {
		fmt.Println(e.Seconds, e.Kind)
	}
	// Output:
	// 0 failure
	// 60 failure
	// 120 failure
	// 120 locked
	// 180 refused
	// 720 counter-restarts
	// 1020 opened
	// 1020 success
}
