package baseline

import (
	"maps"
	"slices"
	"strings"

	"sternledger/internal/core/setting"
)

// Reconciled is one setting under several baselines, in one case.
type Reconciled struct {
	Setting setting.ID
	Case    string // where it differs from case to case; empty: everywhere
	Demands []Named
	Ways    []OneWay   // in which all can be met; none: no value satisfies all
	Exclude [][2]Named // the demands that no value meets together
}

// Reconcile lays the demands of baselines together, setting by setting. Where
// they differ by platform, tier or factor, each case has a row of its own.
func Reconcile(all []*Baseline) []Reconciled {
	tiers := tiersOf(all)
	var rows []Reconciled
	for _, s := range setting.Table() {
		cases := casesOf(all, s, tiers)
		for _, c := range cases {
			r := Reconciled{Setting: s.ID, Demands: c.demands, Ways: allWays(s.ID, c.demands, c.beside),
				Exclude: excluding(s.ID, c.demands, c.beside)}
			if len(cases) > 1 || slices.ContainsFunc(c.demands, func(n Named) bool { return n.Demand.Factor != "" || n.Demand.Access != "" }) {
				r.Case = c.name(tiers)
			}
			rows = append(rows, r)
		}
	}
	return rows
}

// Text says in words what satisfies all.
func (r *Reconciled) Text() string {
	if len(r.Ways) == 0 {
		return "no value"
	}
	var words []string
	for _, w := range r.Ways {
		words = append(words, w.Text())
	}
	return strings.Join(words, ", or ")
}

// OneWay is a way to satisfy several demands at once: values of the setting that they
// are about, and of others.
type OneWay struct {
	Band   Band
	Beside []Band
}

// Text says in words what it asks.
func (w *OneWay) Text() string {
	text, further := w.Band.Text(), 0
	if len(w.Beside) > 0 && Anything(w.Band.Setting).within(w.Band) {
		text, further = "", -1
	}
	for i, b := range w.Beside {
		text += joint(i+further) + strings.ToLower(setting.Get(b.Setting).Title) + " " + b.Text()
	}
	return text
}

// mostWays bounds how many ways are played together; people write a handful.
const mostWays = 10_000

// allWays finds the ways to satisfy all demands, each that asks less than another in
// its stead.
func allWays(id setting.ID, demands, beside []Named) []OneWay {
	fixed := map[setting.ID]Band{}
	for _, n := range beside {
		meet(fixed, n.Demand.Band())
	}
	var ways []OneWay
	tries := 0
	var try func(at int, bands map[setting.ID]Band)
	try = func(at int, bands map[setting.ID]Band) {
		if tries++; tries > mostWays {
			return
		}
		if at == len(demands) {
			ways = append(ways, oneWay(id, bands))
			return
		}
		for _, way := range demands[at].Demand.AllWays() {
			next := maps.Clone(bands)
			fits := true
			for i := range way {
				band := meet(next, way[i].Band())
				if at, ok := fixed[way[i].Setting]; ok {
					band = meet(next, at)
				}
				fits = fits && !band.Empty()
			}
			if fits {
				try(at+1, next)
			}
		}
	}
	try(0, map[setting.ID]Band{})
	var least []OneWay
	for i := range ways {
		if !slices.ContainsFunc(ways, func(w OneWay) bool { return ways[i].asksMore(&w) }) && !slices.ContainsFunc(least,
			func(w OneWay) bool { return w.Text() == ways[i].Text() }) {
			least = append(least, ways[i])
		}
	}
	return least
}

// meet narrows the band of a setting.
func meet(bands map[setting.ID]Band, b Band) Band {
	if had, ok := bands[b.Setting]; ok {
		b = had.Intersect(b)
	}
	bands[b.Setting] = b
	return b
}

func oneWay(id setting.ID, bands map[setting.ID]Band) OneWay {
	w := OneWay{Band: Anything(id)}
	for _, b := range bands {
		if b.Setting == id {
			w.Band = b
		} else {
			w.Beside = append(w.Beside, b)
		}
	}
	slices.SortFunc(w.Beside, func(x, y Band) int { return setting.Order(x.Setting, y.Setting) })
	return w
}

// asksMore reports whether a way asks all that another does, and more.
func (w *OneWay) asksMore(other *OneWay) bool {
	of := func(x *OneWay, id setting.ID) Band {
		if i := slices.IndexFunc(x.Beside, func(b Band) bool { return b.Setting == id }); i >= 0 {
			return x.Beside[i]
		}
		return Anything(id)
	}
	if !w.Band.within(other.Band) {
		return false
	}
	for _, b := range other.Beside {
		if !of(w, b.Setting).within(b) {
			return false
		}
	}
	return w.Text() != other.Text()
}

// excluding are the pairs of demands that cannot be satisfied together.
func excluding(id setting.ID, demands, beside []Named) (pairs [][2]Named) {
	for i, x := range demands {
		for _, y := range append(slices.Clone(demands[i+1:]), beside...) {
			if len(allWays(id, []Named{x, y}, nil)) == 0 {
				pairs = append(pairs, [2]Named{x, y})
			}
		}
	}
	return pairs
}

// tiersOf returns the tiers that baselines name; the empty one is any.
func tiersOf(all []*Baseline) []string {
	tiers := []string{""}
	if slices.ContainsFunc(all, func(b *Baseline) bool {
		return b.Who != "" || slices.ContainsFunc(b.Demands, func(d Demand) bool { return d.Who != "" })
	}) {
		tiers = append(tiers, serviceTier)
	}
	for _, b := range all {
		for _, t := range b.Tiers {
			tiers = appendNew(tiers, t)
		}
		for _, d := range b.Demands {
			for _, t := range d.Tiers {
				tiers = appendNew(tiers, t)
			}
		}
	}
	return tiers
}

// where is a kind of place for which a baseline can have a demand of its own.
type where struct {
	platform  setting.Platform
	tier      string
	situation Situation
}

// situationsOf are the cases that baselines tell apart; that of the second factor always.
func situationsOf(all []*Baseline) []Situation {
	cases := []Situation{{Factor: Only}, {Factor: Second}}
	for _, a := range accesses {
		if !slices.ContainsFunc(all, func(b *Baseline) bool {
			return slices.ContainsFunc(b.Demands, func(d Demand) bool { return d.Access == a })
		}) {
			continue
		}
		for _, s := range slices.Clone(cases) {
			*s.has(a) = true
			cases = append(cases, s)
		}
	}
	return cases
}

// oneCase is the kinds of places on which the same demands count.
type oneCase struct {
	demands []Named
	beside  []Named // demands on other settings that ways of these are about
	places  []where
}

// casesOf finds them for a setting.
func casesOf(all []*Baseline, s *setting.Setting, tiers []string) []*oneCase {
	var cases []*oneCase
	situations := situationsOf(all)
	take := func(w where) {
		named := demandsAt(all, s.ID, w)
		if len(named) == 0 {
			return
		}
		beside := besides(all, named, w)
		i := slices.IndexFunc(cases, func(c *oneCase) bool { return slices.Equal(c.demands, named) && slices.Equal(c.beside, beside) })
		if i < 0 {
			i, cases = len(cases), append(cases, &oneCase{demands: named, beside: beside})
		}
		cases[i].places = append(cases[i].places, w)
	}
	for _, p := range setting.Places {
		if !s.Exists(p) {
			continue
		}
		for _, tier := range tiers {
			for _, situation := range situations {
				take(where{p, tier, situation})
			}
		}
	}
	return cases
}

func demandsAt(all []*Baseline, id setting.ID, w where) []Named {
	var named []Named
	for _, b := range all {
		for _, d := range b.For(w.platform, w.tier, w.situation) {
			if d.Setting == id {
				named = append(named, Named{b, d})
			}
		}
	}
	return named
}

// besides are the demands on the other settings that ways are about.
func besides(all []*Baseline, demands []Named, w where) []Named {
	var beside []Named
	for _, n := range demands {
		for _, id := range n.Demand.Involved() {
			if id != n.Demand.Setting {
				beside = append(beside, slices.DeleteFunc(demandsAt(all, id, w), func(x Named) bool {
					return x.Demand.Ways != nil || slices.Contains(beside, x)
				})...)
			}
		}
	}
	return beside
}

// name says of which places the case is, leaving out what all of them share.
func (c *oneCase) name(tiers []string) string {
	var ps, ts, fs, words []string
	for _, w := range c.places {
		ps, ts, fs = appendNew(ps, string(w.platform)), appendNew(ts, w.tier), appendNew(fs, string(w.situation.Factor))
	}
	if len(fs) == 1 {
		words = append(words, map[string]string{"only": "password alone", "second": "with a second factor"}[fs[0]])
	}
	for _, a := range accesses {
		has := 0
		for i := range c.places {
			if *c.places[i].situation.has(a) {
				has++
			}
		}
		if has == len(c.places) {
			words = append(words, string(a))
		}
	}
	switch whole := slices.Equal(slices.Sorted(slices.Values(tiers)), []string{"", serviceTier}); {
	case len(ts) == len(tiers):
	case whole && slices.Equal(ts, []string{""}):
		words = append(words, string(People))
	case whole:
		words = append(words, string(Services))
	default:
		if i := slices.Index(ts, ""); i >= 0 { // those that no baseline names
			ts = append(slices.Delete(ts, i, i+1), "other tiers")
		}
		words = append(words, strings.Join(ts, ", "))
	}
	return strings.Join(append(words, strings.Join(ps, ", ")), "; ")
}

func appendNew(all []string, word string) []string {
	if slices.Contains(all, word) {
		return all
	}
	return append(all, word)
}
