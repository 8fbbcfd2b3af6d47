// Package probe says whether a place would accept a new password, and which
// of its rules refuses it. What the settings do not tell is "cannot tell",
// never a guess. A password is measured here and nowhere kept.
package probe

import (
	"fmt"
	"maps"
	"slices"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Verdict is what becomes of a password.
type Verdict string

// The verdicts.
const (
	Accepted   Verdict = "accepted"
	Refused    Verdict = "refused"
	CannotTell Verdict = "cannot tell"
)

// Place is where the password would be set.
type Place struct {
	Platform setting.Platform
	Dialect  estate.Dialect // of a domain
	Settings map[setting.ID]govern.Effective
	Asks     *estate.Asks
	// Cloud is the tenant whose banned words are enforced in the domain too.
	Cloud *Cloud
}

// With returns the place with some settings changed.
func (p *Place) With(changes map[setting.ID]setting.Value) *Place {
	changed := *p
	changed.Settings = maps.Clone(p.Settings)
	for id, v := range changes {
		if changed.Settings[id].Missing != govern.NoSuch {
			changed.Settings[id] = govern.Effective{Fact: estate.Fact{Value: v}}
		}
	}
	// A length that is changed is asked for as it stands, without credits.
	if _, ok := changes[setting.MinLength]; ok && p.Asks != nil {
		asks := *p.Asks
		asks.Length, asks.Credits, asks.Further = 0, [4]int64{}, slices.Clone(asks.Further)
		for i := range asks.Further {
			asks.Further[i].Length, asks.Further[i].Credits = 0, [4]int64{}
		}
		changed.Asks = &asks
	}
	return &changed
}

// Cloud is a tenant's list of banned words as a domain is held to it.
type Cloud struct {
	Tenant string
	Mode   setting.Value // of directory-blocklist-mode
	Words  []string
	Cite   estate.Cite
}

// Person is whose password it would be. The zero Person is nobody in
// particular.
type Person struct {
	Account string
	Display string // the name in full
}

// Outcome is what one rule says of a password.
type Outcome struct {
	Rule    string
	Verdict Verdict
	Why     string
	// Aside: it depends on the account, such as on its former passwords, and the
	// verdict on the password is without it.
	Aside bool
	Cite  estate.Cite // of what the rule asks
}

// Result is the verdict, and every rule's.
type Result struct {
	Verdict Verdict
	Rules   []Outcome
}

// rule is one thing that places ask of a new password. A rule is asked only
// where the platform has every setting that it reads; where the evidence lacks
// one, it cannot tell.
type rule struct {
	name  string
	on    []setting.Platform // nil: everywhere
	reads []setting.ID
	judge func(q *question) Outcome // the zero Outcome: it does not apply
}

type question struct {
	*Place
	who Person
	m   measure
}

func yes(format string, args ...any) Outcome {
	return Outcome{Verdict: Accepted, Why: fmt.Sprintf(format, args...)}
}

func no(format string, args ...any) Outcome {
	return Outcome{Verdict: Refused, Why: fmt.Sprintf(format, args...)}
}

func unknown(format string, args ...any) Outcome {
	return Outcome{Verdict: CannotTell, Why: fmt.Sprintf(format, args...)}
}

// aside is what only the account could tell.
func aside(format string, args ...any) Outcome {
	o := unknown(format, args...)
	o.Aside = true
	return o
}

// judged refuses where something is wrong.
func judged(bad bool, format string, args ...any) Outcome {
	if bad {
		return no(format, args...)
	}
	return yes(format, args...)
}

func (q *question) number(id setting.ID) int64 {
	n, _ := q.Settings[id].Value.Number()
	return n
}

func (q *question) is(id setting.ID, word string) bool {
	return q.Settings[id].Value == setting.Word(word)
}

// Judge says what a place makes of a password for a person.
func Judge(at *Place, who Person, password string) Result {
	q := &question{Place: at, who: who, m: measured(password)}
	res := Result{Verdict: Accepted}
	for i := range rules {
		o := rules[i].ask(q)
		if o.Verdict == "" {
			continue
		}
		o.Rule = rules[i].name
		res.Rules = append(res.Rules, o)
		switch {
		case o.Verdict == Refused:
			res.Verdict = Refused
		case o.Verdict == CannotTell && !o.Aside && res.Verdict == Accepted:
			res.Verdict = CannotTell
		}
	}
	return res
}

func (r *rule) ask(q *question) Outcome {
	if r.on != nil && !slices.Contains(r.on, q.Platform) {
		return Outcome{}
	}
	var at estate.Cite
	for _, id := range r.reads {
		x := q.Settings[id]
		switch {
		case x.Missing == govern.NoSuch:
			return Outcome{}
		case x.Missing != govern.Present || !x.Value.IsSet():
			why := x.Missing
			if why == govern.Present {
				why = govern.NotSet
			}
			return Outcome{Verdict: CannotTell, Why: fmt.Sprintf("%s: %s", id, why), Cite: x.Cite}
		}
		at = x.Cite
	}
	o := r.judge(q)
	if o.Cite.File == "" {
		o.Cite = at
	}
	return o
}
