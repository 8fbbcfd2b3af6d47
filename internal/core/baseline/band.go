package baseline

import (
	"slices"
	"strings"

	"sternledger/internal/core/setting"
)

// Band is the set of values that meet a demand, or several at once: numbers
// from Low to High, or only certain ones, some specials, some words.
type Band struct {
	Setting   setting.ID
	Numbers   bool
	Low, High *int64 // nil: no bound
	Only      []int64
	Specials  []setting.Special
	Words     []string
}

// Band returns the values that meet the demand.
func (d *Demand) Band() Band {
	s := setting.Get(d.Setting)
	b := Band{Setting: d.Setting}
	for _, k := range s.Specials {
		if d.Specials[k.Special] || slices.Contains(d.Values, setting.Of(k.Special)) {
			b.Specials = append(b.Specials, k.Special)
		}
	}
	if len(s.Choices) > 0 {
		for _, word := range s.Choices {
			if d.Met(setting.Word(word)) {
				b.Words = append(b.Words, word)
			}
		}
		return b
	}
	bound := func(i int) *int64 {
		n, _ := d.Values[i].Number()
		return &n
	}
	switch d.Kind {
	case AtLeast:
		b.Numbers, b.Low = true, bound(0)
	case AtMost:
		b.Numbers, b.High = true, bound(0)
	case Between:
		b.Numbers, b.Low, b.High = true, bound(0), bound(1)
	default:
		for _, v := range d.Values {
			if n, ok := v.Number(); ok {
				b.Numbers, b.Only = true, append(b.Only, n)
			}
		}
	}
	return b
}

// Intersect returns the values that are in both bands.
func (b Band) Intersect(c Band) Band {
	out := Band{Setting: b.Setting, Low: b.Low, High: b.High}
	if c.Low != nil && (out.Low == nil || *c.Low > *out.Low) {
		out.Low = c.Low
	}
	if c.High != nil && (out.High == nil || *c.High < *out.High) {
		out.High = c.High
	}
	inside := func(n int64) bool { return (out.Low == nil || n >= *out.Low) && (out.High == nil || n <= *out.High) }
	out.Numbers = b.Numbers && c.Numbers && (out.Low == nil || out.High == nil || *out.Low <= *out.High)
	if b.Only != nil || c.Only != nil {
		for _, n := range append(slices.Clone(b.Only), c.Only...) {
			inBoth := (b.Only == nil || slices.Contains(b.Only, n)) && (c.Only == nil || slices.Contains(c.Only, n))
			if inBoth && inside(n) && !slices.Contains(out.Only, n) {
				out.Only = append(out.Only, n)
			}
		}
		out.Low, out.High, out.Numbers = nil, nil, out.Numbers && len(out.Only) > 0
		slices.Sort(out.Only)
	}
	for _, sp := range b.Specials {
		if slices.Contains(c.Specials, sp) {
			out.Specials = append(out.Specials, sp)
		}
	}
	for _, w := range b.Words {
		if slices.Contains(c.Words, w) {
			out.Words = append(out.Words, w)
		}
	}
	return out
}

// Empty reports whether no value is in the band.
func (b Band) Empty() bool { return !b.Numbers && len(b.Specials) == 0 && len(b.Words) == 0 }

// Text says in words which values are in the band.
func (b Band) Text() string {
	if b.Empty() {
		return "no value"
	}
	s := setting.Get(b.Setting)
	var words []string
	switch {
	case !b.Numbers:
	case b.Only != nil:
		for _, n := range b.Only {
			words = append(words, s.Text(setting.Number(n)))
		}
	case b.Low != nil && b.High != nil && *b.Low == *b.High:
		words = append(words, s.Text(setting.Number(*b.Low)))
	case b.Low != nil && b.High != nil:
		words = append(words, s.Text(setting.Number(*b.Low))+" to "+s.Text(setting.Number(*b.High)))
	case b.Low != nil:
		words = append(words, "at least "+s.Text(setting.Number(*b.Low)))
	case b.High != nil:
		words = append(words, "at most "+s.Text(setting.Number(*b.High)))
	default:
		words = append(words, "any number")
	}
	for _, sp := range b.Specials {
		words = append(words, s.Text(setting.Of(sp)))
	}
	return strings.Join(append(words, b.Words...), " or ")
}

// Nearest returns the value in the band that changes least from what is
// there; not set if the band is empty.
func (b Band) Nearest(from setting.Value) setting.Value {
	n, isNumber := from.Number()
	switch {
	case b.Empty():
		return setting.Value{}
	case b.Numbers && b.Only != nil:
		best := b.Only[0]
		for _, o := range b.Only {
			if isNumber && abs(o-n) < abs(best-n) {
				best = o
			}
		}
		return setting.Number(best)
	case b.Numbers && b.Low != nil && (b.High == nil || isNumber && n < *b.Low):
		return setting.Number(*b.Low)
	case b.Numbers && b.High != nil:
		return setting.Number(*b.High)
	case len(b.Words) > 0:
		return setting.Word(b.Words[0])
	case len(b.Specials) > 0:
		return setting.Of(b.Specials[0])
	}
	return setting.Value{}
}

func abs(n int64) int64 { return max(n, -n) }

// Named is a demand with the baseline that makes it.
type Named struct {
	Baseline *Baseline
	Demand   *Demand
}

// String says who demands what.
func (n Named) String() string {
	text := n.Baseline.ID
	if n.Demand.Ref != "" {
		text += " " + n.Demand.Ref
	}
	return text + ": " + n.Demand.Text()
}

// Together returns the values that meet all demands on one setting, and, where
// there are none, those of the demands that exclude each other.
func Together(demands []Named) (Band, [][2]Named) {
	band := demands[0].Demand.Band()
	for _, n := range demands[1:] {
		band = band.Intersect(n.Demand.Band())
	}
	if !band.Empty() {
		return band, nil
	}
	var pairs [][2]Named
	for i, x := range demands {
		for _, y := range demands[i+1:] {
			if x.Demand.Band().Intersect(y.Demand.Band()).Empty() {
				pairs = append(pairs, [2]Named{x, y})
			}
		}
	}
	return band, pairs
}

// Reconciled is one setting under several baselines, in one case.
type Reconciled struct {
	Setting setting.ID
	Case    string // where it differs from case to case; empty: everywhere
	Demands []Named
	Band    Band
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
			r := Reconciled{Setting: s.ID, Demands: c.demands}
			r.Band, r.Exclude = Together(r.Demands)
			if len(cases) > 1 {
				r.Case = c.name(len(tiers))
			}
			rows = append(rows, r)
		}
	}
	return rows
}

// tiersOf returns the tiers that baselines name; the empty one is any.
func tiersOf(all []*Baseline) []string {
	tiers := []string{""}
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
	platform setting.Platform
	tier     string
	factor   Factor
}

// oneCase is the kinds of places on which the same demands count.
type oneCase struct {
	demands []Named
	places  []where
}

// casesOf finds them for a setting.
func casesOf(all []*Baseline, s setting.Setting, tiers []string) []*oneCase {
	var cases []*oneCase
	take := func(w where) {
		named := demandsAt(all, s.ID, w)
		if len(named) == 0 {
			return
		}
		i := slices.IndexFunc(cases, func(c *oneCase) bool { return slices.Equal(c.demands, named) })
		if i < 0 {
			i, cases = len(cases), append(cases, &oneCase{demands: named})
		}
		cases[i].places = append(cases[i].places, w)
	}
	for _, p := range setting.Places {
		if !s.Exists(p) {
			continue
		}
		for _, tier := range tiers {
			take(where{p, tier, Only})
			take(where{p, tier, Second})
		}
	}
	return cases
}

func demandsAt(all []*Baseline, id setting.ID, w where) []Named {
	var named []Named
	for _, b := range all {
		for _, d := range b.For(w.platform, w.tier, w.factor) {
			if d.Setting == id {
				named = append(named, Named{b, d})
			}
		}
	}
	return named
}

// name says of which places the case is, leaving out what all of them share.
func (c *oneCase) name(tiers int) string {
	var ps, ts, fs, words []string
	for _, w := range c.places {
		ps, ts, fs = appendNew(ps, string(w.platform)), appendNew(ts, w.tier), appendNew(fs, string(w.factor))
	}
	if len(fs) == 1 {
		words = append(words, map[string]string{"only": "password alone", "second": "with a second factor"}[fs[0]])
	}
	if len(ts) < tiers {
		words = append(words, strings.TrimSpace(strings.Join(ts, ", ")))
	}
	return strings.Join(append(words, strings.Join(ps, ", ")), "; ")
}

func appendNew(all []string, word string) []string {
	if slices.Contains(all, word) {
		return all
	}
	return append(all, word)
}
