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

// Anything is the band of all values that a setting can have.
func Anything(id setting.ID) Band {
	s := setting.Get(id)
	b := Band{Setting: id, Numbers: len(s.Choices) == 0, Words: slices.Clone(s.Choices)}
	for _, k := range s.Specials {
		b.Specials = append(b.Specials, k.Special)
	}
	return b
}

// Has reports whether a value is in the band.
func (b Band) Has(v setting.Value) bool {
	if sp, ok := v.Special(); ok {
		return slices.Contains(b.Specials, sp)
	}
	if n, ok := v.Number(); ok {
		return b.Numbers && (b.Low == nil || n >= *b.Low) && (b.High == nil || n <= *b.High) && (b.Only == nil || slices.Contains(b.Only, n))
	}
	word, ok := v.Word()
	return ok && slices.Contains(b.Words, word)
}

// within reports whether all values of the band are in another one.
func (b Band) within(c Band) bool {
	both := b.Intersect(c)
	same := func(x, y *int64) bool { return x == y || x != nil && y != nil && *x == *y }
	return both.Numbers == b.Numbers && same(both.Low, b.Low) && same(both.High, b.High) &&
		slices.Equal(both.Only, slices.Sorted(slices.Values(b.Only))) &&
		len(both.Specials) == len(b.Specials) && len(both.Words) == len(b.Words)
}

// Band returns the values that meet the condition.
func (d *Condition) Band() Band {
	s := setting.Get(d.Setting)
	b := Band{Setting: d.Setting}
	for _, k := range s.Specials {
		if d.Specials[k.Special] || slices.Contains(d.Values, setting.Of(k.Special)) {
			b.Specials = append(b.Specials, k.Special)
		}
	}
	if s.Choices != nil {
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

// Nearest returns the value in the band that changes least from what is there, which is
// that itself where it is in the band; not set if the band is empty.
func (b Band) Nearest(from setting.Value) setting.Value {
	n, isNumber := from.Number()
	switch {
	case b.Empty():
		return setting.Value{}
	case b.Has(from):
		return from
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
// there are none, those of the demands that exclude each other. Demands with ways are
// Taken before.
func Together(id setting.ID, demands []Named) (Band, [][2]Named) {
	band := Anything(id)
	for _, n := range demands {
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
