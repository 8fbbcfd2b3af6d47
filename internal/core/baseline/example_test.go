package baseline_test

import (
	"fmt"

	"sternledger/internal/core/baseline"
)

func ExampleReconcile() {
	parse := func(id, demand string) *baseline.Baseline {
		b, err := baseline.Parse(id+".yaml", []byte("id: "+id+"\ntitle: T\nversion: 1\nfor: {platforms: [windows-domain]}\ndemands:\n  - "+
			""+demand))
		if err != nil {
			panic(err)
		}
		return b
	}
	for _, r := range baseline.Reconcile([]*baseline.Baseline{
		parse("harbour", "{setting: min-length, at-least: 14, severity: serious, why: Short ones are guessed.}"),
		parse("insurer", "{setting: min-length, between: [12, 64 characters], severity: minor, why: The contract says so.}"),
	}) {
		fmt.Println(r.Setting+":", r.Text())
	}
	// Output: min-length: 14 characters to 64 characters
}
