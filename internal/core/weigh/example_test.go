package weigh_test

import (
	"fmt"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/weigh"
)

func ExampleRun() {
	machine := &estate.Authority{Name: "gate3", Kind: estate.Machine, Platform: setting.WindowsMachine, Objects: &estate.Objects{},
		Head: &estate.Policy{Name: "own settings", Standing: estate.Enforced, Platform: setting.WindowsMachine, Settings: estate.Settings{
			"min-length": {Value: setting.Number(8), Cite: estate.Cite{File: "gate3.inf", Line: 4, Where: "MinimumPasswordLength"}}}}}
	own, err := baseline.Parse("own.yaml", []byte("id: own\ntitle: Own\nversion: 1\nfor: {platforms: [windows-machine]}\ndemands:\n"+
		"  - {setting: min-length, at-least: 14, severity: serious, why: Short ones are guessed.}\n"))
	if err != nil {
		fmt.Println(err)
		return
	}
	survey := govern.NewSurvey(&estate.Estate{Authorities: []*estate.Authority{machine}},
		func(*estate.Authority) estate.Dialect { return estate.Windows }, nil)
	r := weigh.Run(survey, weigh.Choice{Baselines: func(*estate.Authority, string) []*baseline.Baseline { return []*baseline.Baseline{own} },
		Expect: check.Expectation{Age: func(string) int64 { return 0 }}})
	for i := range r.Verdicts {
		v := &r.Verdicts[i]
		fmt.Println(v.Scope.Name()+":", v.Demand.Setting, v.Kind+",", v.Observed, "by", v.Evidence[0])
	}
	// Output: gate3 / own settings: min-length weak, 8 characters by gate3.inf:4
}
