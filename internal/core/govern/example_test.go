package govern_test

import (
	"fmt"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// A reader hands what it finds to a Builder; who governs whom is then asked of the estate.
func ExampleResolve() {
	b := estate.NewBuilder()
	b.StartFile("x.ldif")
	at := estate.InDomain("x.example")
	domain := b.At(at)
	domain.Head = &estate.Policy{Name: "domain default", Standing: estate.Enforced, Platform: setting.WindowsDomain}
	ada := b.Object(at, &estate.Record{Class: estate.Account, DN: []byte("CN=Ada,DC=x,DC=example"), Name: []byte("ada"), Primary: 513})
	crew := b.Object(at, &estate.Record{Class: estate.Group, DN: []byte("CN=Crew,DC=x,DC=example"), Name: []byte("crew"),
		GroupType: estate.SecurityGroup, RID: 1200})
	b.Member(at, crew, []byte("CN=Ada,DC=x,DC=example"), 9)
	policy, first := b.Override(at, []byte("CN=Strict,CN=Password Settings Container,CN=System,DC=x,DC=example"), 12), int64(1)
	policy.Precedence = &first
	b.Target(at, policy, estate.Target{DN: "CN=Crew,DC=x,DC=example"})

	r := govern.Resolve(b.Finish()[0], estate.Windows)
	g := r.Of(int(ada))
	fmt.Println(g.Policy.Name, g.Rule)
	for _, c := range r.Candidates(int(ada)) {
		fmt.Println(c.Policy.Name, c.Outcome+":", c.Why)
	}
	// Output:
	// Strict group
	// Strict won: the only policy that reaches the account
}
