package baseline

import (
	"cmp"
	"slices"

	"sternledger/internal/core/setting"
)

// Change is what became of a demand from one baseline to another.
type Change string

// The changes.
const (
	Same     Change = "same"
	Stricter Change = "stricter"
	Laxer    Change = "laxer"
	Differs  Change = "differs" // neither asks all that the other does
	Added    Change = "added"
	Removed  Change = "removed"
)

// Differing is a demand of one baseline beside that of another.
type Differing struct {
	Setting setting.ID
	Where   string // in words, if not everywhere
	Change  Change
	Was, Is *Demand // nil: there is none
}

// Diff lays two baselines side by side, demand by demand.
func Diff(was, is *Baseline) []Differing {
	var all []Differing
	taken := map[*Demand]bool{}
	for i := range was.Demands {
		d := &was.Demands[i]
		row := Differing{Setting: d.Setting, Where: was.where(d), Change: Removed, Was: d}
		for k := range is.Demands {
			e := &is.Demands[k]
			if e.Setting == d.Setting && !taken[e] && is.where(e) == row.Where && slices.Equal(d.Involved(), e.Involved()) {
				taken[e], row.Is, row.Change = true, e, compared(d, e)
				break
			}
		}
		all = append(all, row)
	}
	// What is left of both is the same demand in another form, or for other places.
	for k := range is.Demands {
		e := &is.Demands[k]
		if taken[e] {
			continue
		}
		i := slices.IndexFunc(all, func(r Differing) bool { return r.Setting == e.Setting && r.Change == Removed && r.Where == is.where(e) })
		if i < 0 {
			all = append(all, Differing{Setting: e.Setting, Where: is.where(e), Change: Added, Is: e})
			continue
		}
		all[i].Is, all[i].Change = e, compared(all[i].Was, e)
	}
	slices.SortStableFunc(all, func(x, y Differing) int {
		return cmp.Or(setting.Order(x.Setting, y.Setting), cmp.Compare(x.Where, y.Where))
	})
	return all
}

// where says where a demand holds; that it does wherever the baseline does is left out.
func (b *Baseline) where(d *Demand) string {
	w := *d
	if slices.Equal(w.Platforms, b.Platforms) {
		w.Platforms = nil
	}
	return w.Where()
}

// compared says what became of a demand.
func compared(was, is *Demand) Change {
	asksAll := func(x, y *Demand) bool { // whatever meets x meets y
		return !slices.ContainsFunc(x.AllWays(), func(w Way) bool { return !slices.ContainsFunc(y.AllWays(), w.Implies) })
	}
	up, down := asksAll(is, was), asksAll(was, is)
	switch {
	case up && down:
		return Same
	case up:
		return Stricter
	case down:
		return Laxer
	}
	return Differs
}
