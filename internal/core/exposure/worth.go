package exposure

import (
	"maps"
	"math"

	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Class says whether anything has to be guessed.
type Class int

// The classes, the gravest last.
const (
	ToGuess Class = iota // somebody has to guess
	NoGuess              // passwords can be read back, or may be empty
	OpenNow              // an empty password lets in
)

// Worth is what mending one thing is worth: the larger of what exposure falls by if it
// alone is mended, and what it rises by if it alone stays while all else is mended.
type Worth struct {
	// Sum is over all accounts, each by the weight of its tier. Below zero: mending it
	// raises exposure.
	Sum Millionths `json:"sum"`
	// Each is the most that it is worth to one account, and Admin to one of a privileged one.
	Each  Millionths `json:"each"`
	Admin Millionths `json:"each_privileged"`
	// Hard is Each without what becomes known elsewhere, and HardAdmin Admin: what is known
	// elsewhere makes nothing grave by itself.
	Hard      Millionths `json:"-"`
	HardAdmin Millionths `json:"-"`
	// Most is, of what is not known, Sum at the weakest that the place may have.
	Most  Millionths `json:"most,omitempty"`
	Class Class      `json:"class,omitempty"`
}

// Mend is what mending one thing changes.
type Mend struct {
	Scopes []*govern.Scope
	Change Change
}

// Mended is what several mends come to, with what each of them is worth.
type Mended struct {
	model   *Model
	cohorts []Cohort
	at      map[*govern.Scope][]int // the cohorts of a scope, and those that sign in there too
	all     Changes
	sets    map[put]int // so many mends set it
	parts   []*Mend
}

type put struct {
	scope *govern.Scope
	id    setting.ID
}

// Values makes ready to value mends, on a population.
func (m *Model) Values(cohorts []Cohort, all []*Mend) *Mended {
	x := &Mended{model: m, cohorts: cohorts, at: map[*govern.Scope][]int{}, all: Changes{}, sets: map[put]int{}, parts: all}
	for i := range cohorts {
		c := &cohorts[i]
		x.at[c.Scope] = append(x.at[c.Scope], i)
		if c.Beyond != nil {
			x.at[c.Beyond] = append(x.at[c.Beyond], i)
		}
	}
	for _, mend := range all {
		for _, s := range mend.Scopes {
			change := x.all[s]
			if change.Set == nil {
				change.Set = map[setting.ID]setting.Value{}
			}
			for id, v := range mend.Change.Set {
				if old, ok := change.Set[id]; !ok || weaker(id, old, v) {
					change.Set[id] = v
				}
				x.sets[put{s, id}]++
			}
			change.Clear |= mend.Change.Clear
			x.all[s] = change
		}
	}
	return x
}

// Of is what one of the mends is worth; nil where it changes nothing that the model reads,
// or no account is there. missing says that it is about what is not known.
func (x *Mended) Of(mend *Mend, missing bool) *Worth {
	reads := mend.Change.Clear&matter != 0
	for id := range mend.Change.Set {
		reads = reads || Reads(id)
	}
	var cohorts []int
	seen := map[int]bool{}
	for _, s := range mend.Scopes {
		for _, i := range x.at[s] {
			if !seen[i] {
				seen[i] = true
				cohorts = append(cohorts, i)
			}
		}
	}
	if !reads || len(cohorts) == 0 {
		return nil
	}
	alone, rest := Changes{}, maps.Clone(x.all)
	for _, s := range mend.Scopes {
		alone[s] = mend.Change
		change := rest[s]
		change.Set = maps.Clone(change.Set)
		for id := range mend.Change.Set {
			if x.sets[put{s, id}] == 1 {
				delete(change.Set, id)
			}
		}
		change.Clear &^= mend.Change.Clear
		rest[s] = change
	}
	w := x.worth(cohorts, alone, rest, Default)
	if missing {
		most := x.worth(cohorts, alone, rest, Most)
		w.Most, w.Class = most.Sum, ToGuess
		share := x.model.Assumptions[MissingShare]
		for _, m := range []*Millionths{&w.Sum, &w.Each, &w.Admin, &w.Hard, &w.HardAdmin} {
			*m = Millionths(math.Round(share * float64(*m)))
		}
	}
	return w
}

func (x *Mended) worth(cohorts []int, alone, rest Changes, fill Completion) *Worth {
	w := &Worth{}
	var fall, rise float64
	for _, i := range cohorts {
		c := &x.cohorts[i]
		now, mended := x.model.Of(c, nil, fill), x.model.Of(c, alone, fill)
		stays, all := x.model.Of(c, rest, fill), x.model.Of(c, x.all, fill)
		falls, rises := now.Together()-mended.Together(), stays.Together()-all.Together()
		weight := float64(c.Count) * x.model.Weight(c.Tier())
		fall, rise = fall+weight*float64(falls), rise+weight*float64(rises)
		each := max(falls, rises)
		hard := max(now.without(Known)-mended.without(Known), stays.without(Known)-all.without(Known))
		if c.Tier() == govern.Privileged {
			w.Admin, w.HardAdmin = max(w.Admin, each), max(w.HardAdmin, hard)
		}
		w.Each, w.Hard = max(w.Each, each), max(w.Hard, hard)
		switch {
		case now[Open] >= 1 && mended[Open] < 1:
			w.Class = OpenNow
		case now[Open] > mended[Open] && now[Open] > x.model.Assumptions[EmptyTaken], now[Read] > mended[Read]:
			w.Class = max(w.Class, NoGuess)
		}
	}
	w.Sum = Millionths(math.Round(max(fall, rise)))
	if fall < 0 && rise <= 0 {
		w.Sum = Millionths(math.Round(fall))
	}
	return w
}

// Figures notes in the cohorts what their chances are, and what they would be when all is
// mended.
func (x *Mended) Figures(cohorts []Cohort) {
	for i := range cohorts {
		c := &cohorts[i]
		c.Now, c.Then = x.model.Range(c, nil), x.model.Range(c, x.all)
	}
}
