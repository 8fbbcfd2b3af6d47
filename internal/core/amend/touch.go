package amend

import (
	"fmt"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
)

// Touched says whom a change hits, and when: from the dates and flags in the evidence.
type Touched struct {
	*Played
	Next     int      // accounts that it reaches at their next change of password
	Services []string // those that programs sign in as, or seem to, and that stop
	Lockable []string // those that a stranger can stop by failed attempts from then on
	What     string   // in a sentence
}

const aDay = 24 * 60 * 60

// Population is who is in which scope, for questions about many amendments.
type Population struct {
	places  []*estate.Authority
	scopeOf func(authority, row int) *govern.Scope
	enabled map[int]map[govern.ScopeID]*crowd // by authority, made when asked for
	tiers   map[int]*govern.Tiering           // by what the places themselves say
	index   map[estate.Place]int
}

// NewPopulation prepares the answers about a survey's accounts.
func NewPopulation(s *govern.Survey) *Population {
	return newPopulation(s.Estate.Authorities, func(authority, row int) *govern.Scope {
		scope, _ := s.ScopeOf(authority, row)
		return scope
	})
}

// Columns are those of the objects that a plan and its effects ask for.
var Columns = []string{"class", "flags", "name", "rdn", "parent", "rid", "primary", "group-type", "pwd-set", "ends", "failures", "max-days",
	"idle-days", "traits", "hold-ends", "holds"}

// PopulationOf prepares the answers about a record's accounts, of whose objects Columns
// have been loaded.
func PopulationOf(r *record.Record) *Population {
	rolls := make([]*record.Roll, len(r.Places))
	for i, a := range r.Places {
		rolls[i] = r.Roll(a.Place())
	}
	return newPopulation(r.Places, func(authority, row int) *govern.Scope {
		if roll := rolls[authority]; roll != nil {
			if x := roll.Of(row); x != nil {
				return x.Scope
			}
		}
		return nil
	})
}

func newPopulation(places []*estate.Authority, scopeOf func(authority, row int) *govern.Scope) *Population {
	p := &Population{places: places, scopeOf: scopeOf, enabled: map[int]map[govern.ScopeID]*crowd{},
		tiers: map[int]*govern.Tiering{}, index: map[estate.Place]int{}}
	for i, a := range places {
		p.index[a.Place()] = i
	}
	return p
}

// crowd are the enabled accounts of one authority that are in one scope.
type crowd struct {
	scope *govern.Scope
	rows  []int
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
	for row := range p.places[authority].Objects.Len() {
		if !p.counts(authority, row) {
			continue
		}
		scope := p.scopeOf(authority, row)
		if scope == nil {
			continue
		}
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
	o := p.places[authority].Objects
	return o.ClassOf(row) == estate.Account && o.FlagsOf(row)&estate.Disabled == 0
}

// Touch finds whom an amendment hits with what it needs, as of a time in Unix seconds,
// whether it is held back or not.
func (p *Population) Touch(a *Amendment, at int64) *Touched {
	t := &Touched{Played: p.play(a.WithFirst(), at, true)}
	for _, f := range t.Fates {
		if f.Serves > ForPeople && f.Outcome > NotKnown {
			t.Services = append(t.Services, f.Name)
		}
	}
	slices.Sort(t.Services)
	switch {
	case a.Precedence:
		t.What = "Nobody: the policies go before each other as they do now"
	case a.Flag == estate.NoPreauth:
		t.What = fmt.Sprintf("%s must pre-authenticate from the next sign-in: only very old programs cannot", accounts(a.Accounts))
	case a.Flag == estate.Reversible || a.Setting == setting.Reversible && a.To == setting.Off:
		t.Next = p.reached(a)
		t.What = "Nobody at once; what signs in by digest or CHAP stops with the next change of password (" + accounts(t.Next) + ")"
	case a.Bears() && a.Setting == setting.LockoutThreshold:
		t.What = p.locks(t, a)
	case a.Setting != "" && setting.Get(a.Setting).Felt == setting.Later:
		t.What = "Nobody at once"
	case a.Bears():
		t.What = t.Played.Text()
	case a.Flag != 0 || a.Setting != "" && setting.Get(a.Setting).Felt == setting.AtNextChange:
		t.Next = p.reached(a)
		t.What = "Nobody at once; " + accounts(t.Next) + " at the next change of password"
		if t.Next == 0 && p.unlisted(a) {
			t.What = "Nobody at once; how many accounts there are is not known: the evidence names none"
		}
	default:
		t.What = "Whom it hits at once is not modelled"
	}
	return t
}

// unlisted reports whether the evidence names no account of a place that is reached.
func (p *Population) unlisted(a *Amendment) bool {
	for at := range a.places() {
		if i, ok := p.index[at]; ok && !p.places[i].Listed {
			return true
		}
	}
	return false
}

// locks says what a lock brings: from then on others can lock an account, too.
func (p *Population) locks(t *Touched, a *Amendment) string {
	what := "Nobody at once, as far as the evidence tells: the lock counts from the next failed attempt"
	if t.NextLocks > 0 {
		what = fmt.Sprintf("%s as many failed attempts as lock from then on: the next one locks them", has(t.NextLocks))
	}
	var until setting.Value
	p.each(a, func(at *estate.Authority, row int, scope *govern.Scope) {
		if until = scope.Settings[setting.LockoutDuration].Value; serving(at, row, scope.Tier) > ForPeople {
			t.Lockable = append(t.Lockable, at.Objects.Name.At(row))
		}
	})
	for _, b := range a.WithFirst() {
		if b.Setting == setting.LockoutDuration {
			until = b.To
		}
	}
	slices.Sort(t.Lockable)
	if len(t.Lockable) > 0 {
		how := "for some time"
		if n, ok := until.Number(); ok {
			how = "for " + setting.Get(setting.LockoutDuration).Text(setting.Number(n))
		} else if until.Is(setting.UntilAdmin) {
			how = "until an administrator unlocks it"
		}
		what += fmt.Sprintf("; whoever reaches a sign-in can stop what runs as %s, %s, by %s", named(t.Lockable), how, a.Becomes())
	}
	return what
}

func has(n int) string {
	if n == 1 {
		return "1 account has"
	}
	return fmt.Sprintf("%d accounts have", n)
}

// named lists the first few names.
func named(all []string) string {
	const most = 5
	if len(all) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(all[:most], ", "), len(all)-most)
	}
	return strings.Join(all, ", ")
}

// Text says what comes of it, the worst first.
func (x *Played) Text() string {
	var parts []string
	if n := x.Shut.All(); n > 0 {
		var names []string
		for _, f := range x.Fates {
			if f.Outcome == ShutOut {
				names = append(names, f.Name)
			}
		}
		parts = append(parts, fmt.Sprintf("%s cannot sign in any more%s (%s)", accounts(n), x.Shut.text("at once"), named(names)))
	}
	if n := x.Must.All(); n > 0 {
		act := "change the password"
		if slices.ContainsFunc(x.Fates, func(f Fate) bool { return f.Cause == FactorAsked }) {
			act = "register a second factor"
		}
		parts = append(parts, fmt.Sprintf("%s must %s%s", accounts(n), act, x.Must.text("at the next sign-in")))
	}
	if x.Unknown > 0 {
		parts = append(parts, fmt.Sprintf("of %s it is not known: the evidence lacks when the password was set, or the flags", accounts(x.Unknown)))
	}
	if n := len(x.Unlisted); n > 0 {
		var names []string
		for _, at := range x.Unlisted {
			names = append(names, at.Name)
		}
		parts = append(parts, "not known of "+named(names)+": the evidence names no account there")
	}
	if len(parts) == 0 {
		return fmt.Sprintf("Nobody is affected within %d days", Horizon)
	}
	text := strings.Join(parts, "; ")
	return strings.ToUpper(text[:1]) + text[1:]
}

// text says when, of counts; of one alone without the count.
func (w Within) text(atOnce string) string {
	counts := []int{w.AtOnce, w.Week, w.Month, w.Horizon}
	words := []string{atOnce, "within 7 days", "within 30 days", fmt.Sprintf("within %d days", Horizon)}
	var parts []string
	for i, n := range counts {
		switch {
		case n == w.All():
			return " " + words[i]
		case n > 0:
			parts = append(parts, fmt.Sprintf("%d %s", n, words[i]))
		}
	}
	return ": " + strings.Join(parts, ", ")
}

func accounts(n int) string {
	if n == 1 {
		return "1 account"
	}
	return fmt.Sprintf("%d accounts", n)
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
	for i, at := range p.places {
		switch {
		case !places[at.Place()]:
		case a.Flag != 0:
			for _, row := range rows[at.Place()] { // enabled, all of them
				if scope := p.scopeOf(i, row); scope != nil {
					visit(at, row, scope)
				}
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
