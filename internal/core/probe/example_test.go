package probe_test

import (
	"fmt"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/probe"
	"sternledger/internal/core/setting"
)

func ExampleJudge() {
	at := &probe.Place{Platform: setting.WindowsDomain, Settings: map[setting.ID]govern.Effective{
		"min-length": {Fact: estate.Fact{Value: setting.Number(8)}}, "complexity": {Fact: estate.Fact{Value: setting.On}},
		"history": {Missing: govern.NoSuch}, "max-length": {Missing: govern.NoSuch}}}
	r := probe.Judge(at, probe.Person{Account: "mferrier", Display: "Maud Ferrier"}, "Ferrier-2026")
	fmt.Println(r.Verdict)
	for _, o := range r.Rules {
		if o.Verdict == probe.Refused {
			fmt.Println(o.Rule+":", o.Why)
		}
	}
	// Output:
	// refused
	// account-name: names of the account of 3 characters and more must not be in it
}
