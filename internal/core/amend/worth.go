package amend

import (
	"math"
	"slices"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/exposure"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
)

// Step is an amendment of a staircase, and how exposed the estate is when it and those
// before it are made.
type Step struct {
	*Amendment
	After exposure.Total
	// Falls is what it takes off, each account by the weight of its tier, after those before.
	Falls exposure.Millionths
}

// mostSteps is how many amendments are put in order jointly: what one is worth depends on
// those that were made before it.
const mostSteps = 10

// stairs works out what amendments are worth together.
type stairs struct {
	model   *exposure.Model
	cohorts []exposure.Cohort
	at      map[*govern.Scope][]int // by scope, those that it bears on
	changes exposure.Changes        // of the amendments that were taken
	now     []exposure.Range        // of each cohort, with these
	taken   map[*Amendment]bool
	total   exposure.Total
}

// newStairs begins at what is; nil where the record does not say who is exposed.
func newStairs(r *record.Record) *stairs {
	a, err := exposure.With(r.Assumed)
	if err != nil || len(r.Population) == 0 {
		return nil
	}
	s := &stairs{model: exposure.NewModel(a, r.Scopes), cohorts: r.Population, at: map[*govern.Scope][]int{}, changes: exposure.Changes{},
		taken: map[*Amendment]bool{}}
	for i := range s.cohorts {
		c := &s.cohorts[i]
		s.at[c.Scope] = append(s.at[c.Scope], i)
		if c.Beyond != nil {
			s.at[c.Beyond] = append(s.at[c.Beyond], i)
		}
		s.now = append(s.now, c.Now)
	}
	s.total, _ = exposure.Sum(s.cohorts)
	return s
}

// change is what an amendment changes in a scope.
func (a *Amendment) change(to exposure.Change) exposure.Change {
	if a.Flag != 0 {
		to.Clear |= a.Flag
		return to
	}
	set := map[setting.ID]setting.Value{}
	for id, v := range to.Set {
		set[id] = v
	}
	set[a.Setting] = a.To
	to.Set = set
	return to
}

// with is what is changed when some more amendments are made, and the cohorts that this
// bears on.
func (s *stairs) with(more []*Amendment) (exposure.Changes, []int) {
	changes := exposure.Changes{}
	for scope, c := range s.changes {
		changes[scope] = c
	}
	seen := map[int]bool{}
	var cohorts []int
	for _, a := range more {
		if a.Precedence || s.taken[a] {
			continue
		}
		for _, scope := range a.Scopes {
			changes[scope] = a.change(changes[scope])
			for _, i := range s.at[scope] {
				if !seen[i] {
					seen[i] = true
					cohorts = append(cohorts, i)
				}
			}
		}
	}
	return changes, cohorts
}

// falls is what amendments take off together, after those that were taken.
func (s *stairs) falls(more []*Amendment, counts func(c *exposure.Cohort) float64) exposure.Millionths {
	changes, cohorts := s.with(more)
	sum := 0.0
	for _, i := range cohorts {
		c := &s.cohorts[i]
		if weight := counts(c); weight > 0 {
			chances := s.model.Of(c, changes, exposure.Default)
			sum += weight * float64(s.now[i].Default-chances.Together())
		}
	}
	return exposure.Millionths(math.Round(sum))
}

// weighted counts each account by the weight of its tier.
func (s *stairs) weighted(c *exposure.Cohort) float64 {
	return float64(c.Count) * s.model.Weight(c.Tier())
}

// admins counts privileged accounts that the evidence lists.
func admins(c *exposure.Cohort) float64 {
	if !c.Counts() || c.Tier() != govern.Privileged {
		return 0
	}
	return float64(c.Count)
}

// take makes an amendment and what has to come before it.
func (s *stairs) take(all []*Amendment) {
	changes, cohorts := s.with(all)
	s.changes = changes
	for _, i := range cohorts {
		c := &s.cohorts[i]
		after := s.model.Range(c, changes)
		if c.Counts() {
			s.total = s.total.Moved(c, s.now[i], after)
		}
		s.now[i] = after
	}
	for _, a := range all {
		s.taken[a] = true
	}
}

// best is the amendment that takes most off for each place that it touches, with what has
// to come before it; nil where none takes anything off.
func (s *stairs) best(all []*Amendment, counts func(c *exposure.Cohort) float64) (with []*Amendment, falls exposure.Millionths) {
	most := 0.0
	for _, a := range all {
		if s.taken[a] {
			continue
		}
		more := slices.DeleteFunc(a.WithFirst(), func(b *Amendment) bool { return s.taken[b] })
		places := map[estate.Place]bool{}
		for _, b := range more {
			for i := range b.Spots {
				places[b.Spots[i].At] = true
			}
		}
		fall := s.falls(more, counts)
		if each := float64(fall) / float64(max(len(places), 1)); fall > 0 && each > most {
			most, with, falls = each, more, fall
		}
	}
	return with, falls
}

// value says what each amendment is worth alone, and which come first together.
func (p *Plan) value(r *record.Record) {
	s := newStairs(r)
	if s == nil {
		return
	}
	for _, a := range p.Amendments {
		a.Worth = s.falls(a.WithFirst(), s.weighted)
		if a.Precedence { // who it moves under which policy is seen by weighing anew
			a.Worth = 0
			for _, f := range a.Settles {
				if f.Worth != nil {
					a.Worth = max(a.Worth, f.Worth.Sum)
				}
			}
		}
	}
	rank := 0
	for range mostSteps {
		with, _ := s.best(p.Amendments, s.weighted)
		if with == nil {
			break
		}
		s.take(with)
		for _, a := range with {
			rank++
			a.rank = rank
		}
	}
}

// Staircase is how exposure falls when amendments are made one after the other, in the
// order in which they take most off for each place; what is held back is left out. It ends
// after so many steps, or when nothing takes anything off.
func Staircase(r *record.Record, all []*Amendment, most int) []Step {
	s := newStairs(r)
	if s == nil {
		return nil
	}
	free := slices.DeleteFunc(slices.Clone(all), func(a *Amendment) bool { return len(a.Back()) > 0 })
	var steps []Step
	for range min(most, len(free)) {
		with, falls := s.best(free, s.weighted)
		if with == nil {
			break
		}
		s.take(with)
		steps = append(steps, Step{with[len(with)-1], s.total, falls})
	}
	return steps
}

// Until are the fewest of some amendments, as far as one after the other tells, after which
// somebody gets in as a privileged account with no more than a chance on average. reached is
// the chance that they come to.
func Until(r *record.Record, all []*Amendment, chance float64) (picked []*Amendment, reached float64) {
	s := newStairs(r)
	if s == nil || s.total.Privileged == 0 {
		return nil, 0
	}
	mean := func(s *stairs) float64 { return s.total.Admins.Default.Float() / float64(s.total.Privileged) }
	for mean(s) > chance {
		with, _ := s.best(all, admins)
		if with == nil {
			return picked, mean(s)
		}
		s.take(with)
		picked = append(picked, with...)
	}
	for i := len(picked) - 1; i >= 0; i-- { // what turns out not to be needed
		a := picked[i]
		if slices.ContainsFunc(picked, func(b *Amendment) bool { return slices.Contains(b.First, a) }) {
			continue
		}
		without := slices.Delete(slices.Clone(picked), i, i+1)
		t := newStairs(r)
		t.take(without)
		if mean(t) <= chance {
			picked, s = without, t
		}
	}
	return picked, mean(s)
}
