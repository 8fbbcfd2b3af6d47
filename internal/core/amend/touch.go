package amend

import (
	"fmt"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Touched says whom a change hits, and when: from the dates and flags in the evidence.
type Touched struct {
	Now, Week, Month int      // accounts that have to change their passwords at once, within 7 and within 30 days
	Disabled         int      // accounts that are switched off at once
	Services         []string // of those that are hit within 30 days, what has a service name: programs break there
	Next             int      // accounts that it reaches at their next change of password
	NoDate           int      // accounts of which the evidence lacks the date or the flags
	What             string   // in a sentence
}

// atNextChange are settings that ask something of new passwords only.
var atNextChange = []setting.ID{"min-length", "max-length", "complexity", "classes-required", "require-lower", "require-upper",
	"require-digit",
	"require-symbol", "history", "name-check", "dictionary-check", "blocklist", "blocklist-size", "min-changed", "max-repeat", "max-sequence",
	"reversible", "hash-rounds", "lm-hash-stored", "banned-list"}

// later are settings that count from the next failed try, lock or change on: nobody
// notices at once.
var later = []setting.ID{"lockout-duration", "lockout-window", "lockout-administrator", "min-age", "expiry-warning", "length-limit-relaxed",
	"min-length-audit", "success-clears", "failure-delay", "hash-method"}

const aDay = 24 * 60 * 60

// Population is who is in which scope of a survey, for questions about many amendments.
type Population struct {
	survey  *govern.Survey
	enabled map[int]map[govern.ScopeID]*crowd // by authority, made when asked for
}

// crowd are the enabled accounts of one authority that are in one scope.
type crowd struct {
	scope *govern.Scope
	rows  []int
}

// NewPopulation prepares the answers about a survey's accounts.
func NewPopulation(s *govern.Survey) *Population {
	return &Population{survey: s, enabled: map[int]map[govern.ScopeID]*crowd{}}
}

// of returns an authority's enabled accounts by scope.
func (p *Population) of(authority int) map[govern.ScopeID]*crowd {
	found, ok := p.enabled[authority]
	if ok {
		return found
	}
	found = map[govern.ScopeID]*crowd{}
	p.enabled[authority] = found
	crowds := map[*govern.Scope]*crowd{} // a scope's pointer is found sooner than its identity
	for row := range p.survey.Estate.Authorities[authority].Objects.Len() {
		if !p.counts(authority, row) {
			continue
		}
		scope, _ := p.survey.ScopeOf(authority, row)
		in := crowds[scope]
		if in == nil {
			if in = found[scope.ID()]; in == nil {
				in = &crowd{scope: scope}
				found[scope.ID()] = in
			}
			crowds[scope] = in
		}
		in.rows = append(in.rows, row)
	}
	return found
}

// counts reports whether a row is an account that is enabled.
func (p *Population) counts(authority, row int) bool {
	o := p.survey.Estate.Authorities[authority].Objects
	return o.ClassOf(row) == estate.Account && o.FlagsOf(row)&estate.Disabled == 0
}

// Touch finds whom an amendment hits, as of a time in Unix seconds.
func (p *Population) Touch(a *Amendment, at int64) *Touched {
	t := &Touched{}
	switch {
	case a.Precedence:
		t.What = "Nobody: the policies go before each other as they do now"
	case a.Setting == "max-age" || a.Flag == estate.NeverExpires:
		t.expiry(a, p, at)
	case a.Setting == "inactive-disable":
		t.inactive(a, p, at)
	case a.Flag == estate.NoPreauth:
		t.What = fmt.Sprintf("%s must pre-authenticate from the next sign-in: only very old programs cannot", accounts(a.Accounts))
	case a.Flag != 0 || slices.Contains(atNextChange, a.Setting):
		t.Next = p.reached(a)
		t.What = "Nobody at once; " + accounts(t.Next) + " at the next change of password"
	case a.Setting == "lockout-threshold":
		t.What = "Nobody at once, as far as the evidence tells: failed tries so far are not in it; the lock counts from the next one"
	case a.Setting == "mfa" || a.Setting == "mfa-capable":
		t.What = accounts(a.Accounts) + " at the next sign-in"
	case a.Setting == "empty-accepted":
		p.each(a, func(at *estate.Authority, row int, _ *govern.Scope) {
			if at.Objects.FlagsOf(row)&estate.EmptyPassword != 0 {
				t.Now++
			}
		})
		t.What = "Nobody at once: no account with an empty password is in the evidence"
		if t.Now > 0 {
			t.What = accounts(t.Now) + " with an empty password cannot sign in any more"
		}
	case slices.Contains(later, a.Setting):
		t.What = "Nobody at once"
	default:
		t.What = "Whom it hits at once is not modelled"
	}
	return t
}

func accounts(n int) string {
	if n == 1 {
		return "1 account"
	}
	return fmt.Sprintf("%d accounts", n)
}

func counted(n int, when string) string {
	if n == 0 {
		return ""
	}
	return accounts(n) + " " + when
}

func joined(parts ...string) string {
	return strings.Join(slices.DeleteFunc(parts, func(p string) bool { return p == "" }), ", ")
}

// reached counts the enabled accounts that the amendment reaches.
func (p *Population) reached(a *Amendment) (n int) {
	p.each(a, func(*estate.Authority, int, *govern.Scope) { n++ })
	return n
}

// each visits the enabled accounts that the amendment reaches.
func (p *Population) each(a *Amendment, visit func(at *estate.Authority, row int, scope *govern.Scope)) {
	places, rows := map[estate.Place]bool{}, map[estate.Place][]int{}
	for _, scope := range a.Scopes {
		places[scope.Authority.Place()] = true
	}
	for _, spot := range a.Spots {
		rows[spot.At], places[spot.At] = spot.Rows, true
	}
	for i, at := range p.survey.Estate.Authorities {
		switch {
		case !places[at.Place()]:
		case a.Flag != 0:
			for _, row := range rows[at.Place()] { // enabled, all of them
				scope, _ := p.survey.ScopeOf(i, row)
				visit(at, row, scope)
			}
		default:
			crowds, met := p.of(i), map[govern.ScopeID]bool{}
			for _, scope := range a.Scopes {
				id := scope.ID()
				if in := crowds[id]; in != nil && !met[id] {
					met[id] = true
					for _, row := range in.rows {
						visit(at, row, in.scope)
					}
				}
			}
		}
	}
}

// expiry counts who has to change when.
func (t *Touched) expiry(a *Amendment, p *Population, at int64) {
	p.each(a, func(from *estate.Authority, row int, scope *govern.Scope) {
		flags := from.Objects.FlagsOf(row)
		was, will := scope.Settings["max-age"].Value, a.To
		if a.Flag != 0 {
			was, will = setting.Of(setting.Never), scope.Settings["max-age"].Value
		} else if flags&estate.NeverExpires != 0 {
			return
		}
		limit, ok := will.Number()
		if !ok || flags&estate.SmartCard != 0 {
			return
		}
		set := int64(from.Objects.PwdSet.At(row))
		if set == 0 || flags&estate.NoControl != 0 {
			t.NoDate++ // or whether it expires at all
			return
		}
		if old, ok := was.Number(); ok && set+old <= at {
			return // it has expired as it is
		}
		switch left := set + limit - at; {
		case left <= 0:
			t.Now++
		case left <= 7*aDay:
			t.Week++
		case left <= 30*aDay:
			t.Month++
		default:
			return
		}
		if flags&estate.ServiceName != 0 {
			t.Services = append(t.Services, from.Objects.Name.At(row))
		}
	})
	slices.Sort(t.Services)
	switch {
	case t.Now+t.Week+t.Month == 0 && t.NoDate == 0:
		t.What = "Nobody within 30 days"
	case t.Now+t.Week+t.Month == 0:
		t.What = fmt.Sprintf("Not known: of %s the evidence lacks when the password was set, or the flags", accounts(t.NoDate))
	default:
		t.What = "The password must be changed by " + joined(counted(t.Now, "at the next sign-in"), counted(t.Week, "within 7 days"),
			counted(t.Month, "within 30 days"))
		if t.NoDate > 0 {
			t.What += fmt.Sprintf("; of %s the evidence lacks the date or the flags", accounts(t.NoDate))
		}
	}
}

// inactive counts whose password expired so long ago that the account is switched
// off.
func (t *Touched) inactive(a *Amendment, p *Population, at int64) {
	limit, ok := a.To.Number()
	p.each(a, func(from *estate.Authority, row int, scope *govern.Scope) {
		age, expires := scope.Settings["max-age"].Value.Number()
		set := int64(from.Objects.PwdSet.At(row))
		if ok && expires && set != 0 && set+age+limit < at {
			t.Disabled++
		}
	})
	t.What = "Nobody at once"
	if t.Disabled > 0 {
		t.What = accounts(t.Disabled) + " switched off at once: their passwords expired longer ago than that"
	}
}
