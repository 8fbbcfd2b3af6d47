package template

import (
	"fmt"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// resultReport is what a resultant report says of its machine, while it is read: the
// settings that won, as people see them.
type resultReport struct {
	line            int
	machine, domain string
	id, name        string // of the policy that is read
	names           map[string]string
	template        *reader
	by              []givenBy
}

// givenBy says which policy gave a setting.
type givenBy struct {
	id     setting.ID
	policy string
}

// endResult takes what the report shows. It is what is displayed, and no more: it does
// not know fine-grained policies, and on a controller not what the directory enforces.
func (r *reportReader) endResult() {
	x := r.result
	r.result = nil
	r.seen++
	domain := strings.ToLower(x.domain)
	machine := x.machine
	if i := strings.IndexByte(machine, '\\'); i >= 0 {
		machine = machine[i+1:]
	}
	machine = strings.ToLower(strings.TrimSuffix(machine, "$"))
	c := r.into.Cite(x.line, "ComputerResults", "")
	if machine == "" || !strings.Contains(domain, ".") {
		r.into.NotUnderstood(c, "a resultant report without its machine's name or the domain's")
		return
	}
	shown := estate.Display{Machine: machine, Settings: x.template.facts, By: map[setting.ID]string{}, Cite: c}
	for _, given := range x.by {
		name := x.names[given.policy]
		if name == "" {
			name = given.policy
		}
		shown.By[given.id] = name
	}
	if len(shown.Settings) == 0 {
		r.into.NotUnderstood(c, "%s", fmt.Sprintf("the report of %s shows no account settings: it was made without an administrator's rights, "+
			"or none are set", machine))
		return
	}
	r.into.Displayed(estate.InDomain(domain), shown)
}
