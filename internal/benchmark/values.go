package benchmark

import (
	"math"
	"slices"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/setting"
)

// span is a range of numbers, both ends included.
type span struct{ low, high int64 }

// most is the greatest number that is told from none at all.
const most = math.MaxInt64

// values are some of the values that a setting can have.
type values struct {
	of       *setting.Setting
	unit     int64  // the least number that is told from none
	numbers  []span // in order, with gaps between them
	specials map[setting.Special]bool
	words    map[string]bool
}

// written is a setting as a test sees it: what stands for each value there.
type written struct {
	id   setting.ID
	unit int64 // of numbers, in those of the setting
	form setting.Form
	// also are further spellings of specials, that a test has to name by themselves.
	also map[setting.Special][]string
}

// accepting are the values of which a test accepts what stands for them. The test
// changes its mind only at figures, or, by a pattern, at any number of few digits.
func (w *written) accepting(accepts func(text string) bool, figures []int64) *values {
	s := setting.Get(w.id)
	v := &values{of: s, unit: w.unit, specials: map[setting.Special]bool{}, words: map[string]bool{}}
	for _, word := range s.Choices {
		if text := w.form(setting.Word(word)); text != "" {
			v.words[word] = accepts(text)
		}
	}
	special := map[string]bool{}
	for _, k := range s.Specials {
		text := w.form(setting.Of(k.Special))
		special[text] = true
		v.specials[k.Special] = text != "" && accepts(text)
		for _, other := range w.also[k.Special] {
			special[other] = true
			v.specials[k.Special] = v.specials[k.Special] || alone(other, accepts)
		}
	}
	if len(s.Choices) > 0 {
		return v
	}
	v.numbers = w.spans(accepts, figures, special)
	for _, k := range s.Specials {
		if w.form(setting.Of(k.Special)) == "" && len(v.numbers) > 0 {
			// Nothing stands for it there: it is as good as the strongest numbers.
			v.specials[k.Special] = k.Rank == setting.Strongest && (s.Stronger == setting.Higher && v.numbers[len(v.numbers)-1].high == most ||
				s.Stronger == setting.Lower && v.numbers[0].low == 0)
		}
	}
	return v
}

// alone reports whether a test accepts a number, and not those beside it.
func alone(text string, accepts func(string) bool) bool {
	n, ok := number(text)
	return ok && accepts(text) && !accepts(decimal(n-1)) && !accepts(decimal(n+1))
}

// spans finds the ranges that are accepted.
func (w *written) spans(accepts func(text string) bool, figures []int64, special map[string]bool) []span {
	var all []span
	open := false
	before := int64(-1)
	for _, n := range w.tried(figures) {
		text := w.form(setting.Number(n * w.unit))
		if text == "" || special[text] {
			continue // no number stands so there
		}
		switch is := accepts(text); {
		case is && !open:
			low := n
			if before < 0 {
				low = 0 // below is nothing, or only what is a special
			}
			all, open = append(all, span{low * w.unit, most}), true
		case !is && open:
			all[len(all)-1].high, open = before*w.unit, false
		}
		before = n
	}
	return all
}

// greatest is the greatest number that is tried.
const greatest = int64(10_000_000_000)

// tried are the numbers that a test is asked about, in order: all small ones, those
// around figures and around each power of ten, and some between.
func (w *written) tried(figures []int64) []int64 {
	const small = 1100
	var all []int64
	for n := range int64(small) {
		all = append(all, n)
	}
	add := func(n int64) {
		for d := int64(-1); d <= 1; d++ {
			if x := n + d; x >= small && x <= greatest {
				all = append(all, x)
			}
		}
	}
	for _, f := range figures {
		add(max(f, -f))
		add(max(f, -f) / w.unit)
	}
	for p := int64(100); p <= greatest; p *= 10 {
		for k := int64(10); k < 100; k++ { // by the first two digits
			add(p * k)
		}
	}
	add(greatest)
	slices.Sort(all)
	return slices.Compact(all)
}

// both are the values in both sets; either those in one of them; not the others.
func (v *values) both(o *values) *values {
	out := v.merged(o, func(a, b bool) bool { return a && b })
	for _, a := range v.numbers {
		for _, b := range o.numbers {
			if low, high := max(a.low, b.low), min(a.high, b.high); low <= high {
				out.numbers = append(out.numbers, span{low, high})
			}
		}
	}
	return out
}

func (v *values) either(o *values) *values {
	out := v.merged(o, func(a, b bool) bool { return a || b })
	all := slices.SortedFunc(slices.Values(append(slices.Clone(v.numbers), o.numbers...)), func(a, b span) int {
		return int(min(max(a.low-b.low, -1), 1))
	})
	for _, s := range all {
		if n := len(out.numbers); n > 0 && (out.numbers[n-1].high == most || s.low <= out.numbers[n-1].high+1) {
			out.numbers[n-1].high = max(out.numbers[n-1].high, s.high)
			continue
		}
		out.numbers = append(out.numbers, s)
	}
	return out
}

func (v *values) not() *values {
	out := v.merged(v, func(a, _ bool) bool { return !a })
	if len(v.of.Choices) > 0 {
		return out
	}
	low := int64(0)
	for _, s := range v.numbers {
		if low < s.low {
			out.numbers = append(out.numbers, span{low, s.low - 1})
		}
		if s.high == most {
			return out
		}
		low = s.high + 1
	}
	out.numbers = append(out.numbers, span{low, most})
	return out
}

// within reports whether all values of the set are in the other one.
func (v *values) within(o *values) bool { return v.both(o.not()).empty() }

func (v *values) merged(o *values, of func(a, b bool) bool) *values {
	out := &values{of: v.of, unit: min(v.unit, o.unit), specials: map[setting.Special]bool{}, words: map[string]bool{}}
	for _, k := range v.of.Specials {
		out.specials[k.Special] = of(v.specials[k.Special], o.specials[k.Special])
	}
	for _, word := range v.of.Choices {
		out.words[word] = of(v.words[word], o.words[word])
	}
	return out
}

func holding[K comparable](m map[K]bool) (n int) {
	for _, is := range m {
		if is {
			n++
		}
	}
	return n
}

// empty reports whether no value is among them, full whether all are.
func (v *values) empty() bool { return len(v.numbers)+holding(v.specials)+holding(v.words) == 0 }

func (v *values) full() bool {
	return holding(v.specials) == len(v.of.Specials) && holding(v.words) == len(v.of.Choices) &&
		(len(v.of.Choices) > 0 || len(v.numbers) == 1 && v.numbers[0] == span{0, most})
}

// conditions say the same as a baseline does: one where one is enough.
func (v *values) conditions() []baseline.Condition {
	base := func(kind baseline.Kind, all ...setting.Value) baseline.Condition {
		return baseline.Condition{Setting: v.of.ID, Kind: kind, Values: all, Specials: map[setting.Special]bool{}}
	}
	if len(v.of.Choices) > 0 {
		return []baseline.Condition{v.worded(base)}
	}
	var all []baseline.Condition
	var points []setting.Value
	for _, s := range v.numbers {
		switch {
		case s == span{0, most}: // and some special is not good
			all = append(all, base(baseline.AtLeast, setting.Number(v.unit)))
		case s.low == s.high:
			points = append(points, setting.Number(s.low))
		case s.high == most:
			all = append(all, base(baseline.AtLeast, setting.Number(s.low)))
		case s.low == 0:
			all = append(all, base(baseline.AtMost, setting.Number(s.high)))
		default:
			all = append(all, base(baseline.Between, setting.Number(s.low), setting.Number(s.high)))
		}
	}
	var specials []setting.Value
	for _, k := range v.of.Specials {
		if v.specials[k.Special] {
			specials = append(specials, setting.Of(k.Special))
		}
	}
	if len(points) > 0 || len(all) == 0 {
		if len(all) == 0 {
			points = append(points, specials...)
		}
		kind := baseline.OneOf
		if len(points) == 1 {
			kind = baseline.Exactly
		}
		all = append(all, base(kind, points...))
	}
	for i := range all {
		for _, k := range v.of.Specials { // the first says for all
			all[i].Specials[k.Special] = i == 0 && v.specials[k.Special]
		}
	}
	return all
}

func (v *values) worded(base func(baseline.Kind, ...setting.Value) baseline.Condition) baseline.Condition {
	var all []setting.Value
	from := -1
	for i, word := range v.of.Choices {
		if v.words[word] {
			if all = append(all, setting.Word(word)); from < 0 {
				from = i
			}
		}
	}
	c := base(baseline.OneOf, all...)
	switch {
	case len(all) == 1:
		c.Kind = baseline.Exactly
	case v.of.Stronger == setting.Higher && len(all) == len(v.of.Choices)-from:
		c.Kind, c.Values = baseline.AtLeast, all[:1]
	}
	for _, k := range v.of.Specials {
		c.Specials[k.Special] = v.specials[k.Special]
	}
	return c
}
