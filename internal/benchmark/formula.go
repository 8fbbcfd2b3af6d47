package benchmark

import (
	"errors"
	"fmt"
	"slices"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/setting"
)

// clause is a choice: one of some settings has one of some values. One without any is
// never true.
type clause map[setting.ID]*values

// formula is what a test comes to: clauses, all of which have to be true. It is kept in
// this form all along; none means that it is always true.
type formula []clause

// mostClauses bounds a formula; published tests have a handful.
const mostClauses = 64

var errTooMany = fmt.Errorf("it has more than %d alternatives", mostClauses)

// never is the formula that nothing meets.
var never = formula{clause{}}

func leaf(v *values) formula { return formula{clause{v.of.ID: v}}.tidy() }

// leaf is what a comparison of a setting comes to.
func (w *written) leaf(a *asked) (formula, error) {
	v := w.accepting(a.accepts, a.figures())
	if a.slow() {
		return nil, errSlow
	}
	return leaf(v), nil
}

// and is true where all of them are.
func and(all ...formula) (formula, error) {
	var out formula
	for _, f := range all {
		if out = append(out, f...); len(out) > mostClauses {
			return nil, errTooMany
		}
	}
	return out.tidy(), nil
}

// or is true where one of them is.
func or(all ...formula) (formula, error) {
	out := never
	for _, f := range all {
		var next formula
		for _, a := range out {
			for _, b := range f {
				if next = append(next, a.or(b)); len(next) > mostClauses*8 {
					if next = next.tidy(); len(next) > mostClauses {
						return nil, errTooMany
					}
				}
			}
		}
		if out = next.tidy(); len(out) > mostClauses {
			return nil, errTooMany
		}
	}
	return out, nil
}

func (c clause) or(o clause) clause {
	out := clause{}
	for id, v := range c {
		out[id] = v
	}
	for id, v := range o {
		if before, ok := out[id]; ok {
			v = before.either(v)
		}
		out[id] = v
	}
	return out
}

// not is true where the formula is not.
func not(f formula) (formula, error) {
	var none []formula
	for _, c := range f {
		var all formula
		for _, v := range c {
			all = append(all, clause{v.of.ID: v.not()})
		}
		none = append(none, all.tidy())
	}
	return or(none...)
}

// tidy leaves out what is always true and what another clause says, and joins those on
// one setting.
func (f formula) tidy() formula {
	single := map[setting.ID]*values{}
	var order []setting.ID
	var out formula
	for _, c := range f {
		left := clause{}
		always := false
		for id, v := range c {
			if always = always || v.full(); !v.empty() {
				left[id] = v
			}
		}
		switch {
		case always:
		case len(left) == 0:
			return never
		case len(left) == 1:
			for id, v := range left {
				if before, ok := single[id]; ok {
					v = before.both(v)
				} else {
					order = append(order, id)
				}
				single[id] = v
			}
		default:
			out = append(out, left)
		}
	}
	for _, id := range order {
		if single[id].empty() {
			return never
		}
		out = append(out, clause{id: single[id]})
	}
	var least formula
	for i, c := range out {
		if !slices.ContainsFunc(least, func(o clause) bool { return o.within(c) }) &&
			!slices.ContainsFunc(out[i+1:], func(o clause) bool { return o.within(c) && !c.within(o) }) {
			least = append(least, c)
		}
	}
	return least
}

// within reports whether the clause is true only where the other one is.
func (c clause) within(o clause) bool {
	for id, v := range c {
		if o[id] == nil || !v.within(o[id]) {
			return false
		}
	}
	return true
}

// trivial reports whether the formula is always true, or never.
func (f formula) trivial() bool {
	return len(f) == 0 || slices.ContainsFunc(f, func(c clause) bool { return len(c) == 0 })
}

// same reports whether two formulas ask for the same.
func (f formula) same(g formula) bool {
	implies := func(f, g formula) bool {
		return !slices.ContainsFunc(g, func(d clause) bool { return !slices.ContainsFunc(f, func(c clause) bool { return c.within(d) }) })
	}
	return implies(f, g) && implies(g, f)
}

// group is what a document demands of some settings together.
type group struct {
	settings []setting.ID
	ways     []map[setting.ID]*values
	rules    []*Rule
}

// groups puts the clauses of all rules together by the settings that they are about.
// A rule that excludes what another one demands is told so, and left out.
func groups(rules []*Rule) (all []*group) {
	for _, r := range rules {
		taken := map[*group][]map[setting.ID]*values{}
		var added []*group
		for _, c := range r.formula {
			ids := slices.SortedFunc(keys(c), setting.Order)
			ways := waysOf(c, ids)
			find := func(g *group) bool { return slices.Equal(g.settings, ids) }
			var g *group
			before := []map[setting.ID]*values(nil)
			if i := slices.IndexFunc(all, find); i >= 0 {
				g = all[i]
			} else if i := slices.IndexFunc(added, find); i >= 0 {
				g = added[i]
			} else {
				g = &group{settings: ids}
				added = append(added, g)
			}
			if before = taken[g]; before == nil {
				before = g.ways
			}
			if before != nil {
				ways = product(before, ways)
			}
			if taken[g] = ways; len(ways) == 0 || len(ways) > mostClauses {
				if r.Why = errTooMany.Error(); len(ways) == 0 {
					r.Why = "it excludes what " + g.names() + " demands"
				}
				break
			}
		}
		if r.Why != "" {
			continue
		}
		all = append(all, added...)
		for g, ways := range taken {
			g.ways, g.rules = ways, append(g.rules, r)
		}
	}
	return all
}

func (g *group) names() string {
	text := ""
	for i, r := range g.rules {
		if i == mostNamed {
			return text + fmt.Sprintf(" and %d more", len(g.rules)-i)
		}
		if i > 0 {
			text += ", "
		}
		text += r.ID
	}
	return text
}

func keys(c clause) func(func(setting.ID) bool) {
	return func(yield func(setting.ID) bool) {
		for id := range c {
			if !yield(id) {
				return
			}
		}
	}
}

func waysOf(c clause, ids []setting.ID) (ways []map[setting.ID]*values) {
	for _, id := range ids {
		ways = append(ways, map[setting.ID]*values{id: c[id]})
	}
	return ways
}

// product are the ways that go both ways at once.
func product(a, b []map[setting.ID]*values) (all []map[setting.ID]*values) {
	for _, x := range a {
		for _, y := range b {
			if len(all) > mostClauses*8 {
				return all // too many, as whoever asked will see
			}
			way, possible := map[setting.ID]*values{}, true
			for id, v := range x {
				way[id] = v
			}
			for id, v := range y {
				if before, ok := way[id]; ok {
					v = before.both(v)
				}
				possible = possible && !v.empty()
				way[id] = v
			}
			if possible {
				all = append(all, way)
			}
		}
	}
	return leastWays(all)
}

// leastWays leaves out ways that ask all that another does.
func leastWays(all []map[setting.ID]*values) (least []map[setting.ID]*values) {
	asks := func(w, o map[setting.ID]*values) bool { // all that o does
		for id, v := range o {
			if w[id] == nil || !w[id].within(v) {
				return false
			}
		}
		return true
	}
	for i, w := range all {
		if !slices.ContainsFunc(least, func(o map[setting.ID]*values) bool { return asks(w, o) }) &&
			!slices.ContainsFunc(all[i+1:], func(o map[setting.ID]*values) bool { return asks(w, o) && !asks(o, w) }) {
			least = append(least, w)
		}
	}
	return least
}

// demands say the groups as a baseline does.
func demands(all []*group) (out []baseline.Demand) {
	for _, g := range plainly(all) {
		d := baseline.Demand{}
		if ways := g.asWays(); len(ways) == 1 && len(ways[0]) == 1 {
			d.Condition = ways[0][0]
		} else {
			d.Condition, d.Ways = baseline.Condition{Setting: ways[0][0].Setting, Kind: baseline.AnyOf}, ways
		}
		g.describe(&d)
		out = append(out, d)
	}
	return out
}

// plainly takes apart what has become one way of several settings: each of them is
// demanded by itself then.
func plainly(all []*group) (out []*group) {
	var plain []*group
	for _, g := range all {
		if len(g.settings) == 1 {
			plain = append(plain, g)
		}
	}
	for _, g := range all {
		switch {
		case len(g.settings) == 1:
		case len(g.ways) > 1:
			out = append(out, g)
		default:
			for id, v := range g.ways[0] {
				i := slices.IndexFunc(plain, func(p *group) bool { return p.settings[0] == id })
				if i < 0 {
					i, plain = len(plain), append(plain, &group{settings: []setting.ID{id}})
				}
				p := plain[i]
				one := []map[setting.ID]*values{{id: v}}
				if p.ways != nil {
					one = product(p.ways, one)
				}
				if len(one) > 0 {
					p.ways, p.rules = one, append(p.rules, g.rules...)
				}
			}
		}
	}
	return append(plain, out...)
}

func (g *group) asWays() []baseline.Way {
	var ways []baseline.Way
	for _, w := range g.ways {
		of := []baseline.Way{nil}
		for _, id := range g.settings {
			if w[id] == nil {
				continue
			}
			var next []baseline.Way
			for _, way := range of {
				for _, c := range w[id].conditions() {
					next = append(next, append(slices.Clone(way), c))
				}
			}
			of = next
		}
		ways = append(ways, of...)
	}
	return needed(ways)
}

// needed leaves out ways that another makes needless.
func needed(ways []baseline.Way) (all []baseline.Way) {
	for i, w := range ways {
		if !slices.ContainsFunc(all, w.Implies) && !slices.ContainsFunc(ways[i+1:], func(o baseline.Way) bool {
			return w.Implies(o) &&
				!o.Implies(w)
		}) {
			all = append(all, w)
		}
	}
	return all
}

var errNothing = errors.New("its test accepts every value")
