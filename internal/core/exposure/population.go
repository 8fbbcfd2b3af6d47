package exposure

import (
	"cmp"
	"maps"
	"slices"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Cohort is accounts of one scope that are alike in all that a chance follows from.
// Accounts that no password opens (disabled, locked for good, of a key or a card only,
// governed elsewhere) are in none.
type Cohort struct {
	Scope *govern.Scope `json:"-"`
	// Beyond is the tenant's scope at whose sign-in the same password is taken, of
	// accounts that a tenant has from a domain; nil: of none.
	Beyond      *govern.Scope `json:"-"`
	Flags       estate.Flag   `json:"flags,omitempty"`
	BeyondFlags estate.Flag   `json:"beyond_flags,omitempty"`
	Root        bool          `json:"root,omitempty"`
	// Local is the administrator that every machine of its kind has.
	Local bool `json:"local,omitempty"`
	// Assumed: the evidence lists no accounts there, and one stands for them. It is in no
	// number of accounts.
	Assumed bool `json:"assumed,omitempty"`
	// Unweighed: no chosen baseline covers the place. Findings there have their worth; the
	// accounts are in no number of them, as in all that is told of a weighing.
	Unweighed bool `json:"unweighed,omitempty"`
	Count     int  `json:"count"`
	// Now is the chance of one of them, and Then what it would be if all findings were
	// mended; Value works them out.
	Now  Range `json:"now"`
	Then Range `json:"then"`
}

// Unlisted are accounts that the evidence does not list, and of which nothing is known but
// that a place of that kind has them.
func Unlisted(kind estate.Kind, platform setting.Platform, tier string, local bool, n int) Cohort {
	s := &govern.Scope{Authority: &estate.Authority{Kind: kind, Platform: platform}, Tier: tier, Settings: map[setting.ID]govern.Effective{}}
	for _, r := range read {
		s.Settings[r.id] = govern.Effective{Missing: govern.NotCollected}
		if !setting.Get(r.id).Exists(platform) {
			s.Settings[r.id] = govern.Effective{Missing: govern.NoSuch}
		}
	}
	return Cohort{Scope: s, Local: local, Assumed: true, Count: n}
}

// matter are the flags that a chance follows from.
const matter = estate.NoneRequired | estate.Reversible | estate.NeverExpires | estate.NoPreauth | estate.ServiceName | estate.EmptyPassword |
	estate.Synced | estate.FactorRequired | estate.FactorOptional | estate.FactorAtTimes | estate.NoControl

// Population are the cohorts of a survey, at a time in Unix seconds.
func Population(s *govern.Survey, at int64) []Cohort {
	type twin struct {
		scope *govern.Scope
		flags estate.Flag
	}
	twins := make([]map[int]twin, len(s.Estate.Authorities))
	for i, a := range s.Estate.Authorities {
		if a.Kind != estate.Tenant {
			continue
		}
		for row := range a.Objects.Len() {
			from, ok := s.Resolutions[i].Source(row)
			if !ok || !opens(a, row, at) {
				continue
			}
			if twins[from.Authority] == nil {
				twins[from.Authority] = map[int]twin{}
			}
			scope, _ := s.ScopeOf(i, row)
			twins[from.Authority][from.Row] = twin{scope, a.Objects.FlagsOf(row) & matter}
		}
	}
	number := map[Cohort]int{}
	listed := map[*govern.Scope]bool{}
	for i, a := range s.Estate.Authorities {
		for row := range a.Objects.Len() {
			if a.Objects.ClassOf(row) != estate.Account {
				continue
			}
			scope, _ := s.ScopeOf(i, row)
			if scope == nil {
				continue
			}
			listed[scope] = true
			if !opens(a, row, at) {
				continue
			}
			if a.Kind == estate.Tenant {
				if _, joined := s.Resolutions[i].Source(row); joined {
					continue // counted where its password is
				}
			}
			rid := a.Objects.RID.At(row)
			c := Cohort{Scope: scope, Flags: a.Objects.FlagsOf(row) & matter, Root: a.Platform == setting.UnixMachine && rid == 0,
				Local: a.Platform == setting.WindowsMachine && rid == 500}
			if t, ok := twins[i][row]; ok {
				c.Beyond, c.BeyondFlags = t.scope, t.flags
			}
			number[c]++
		}
	}
	for _, scope := range s.Scopes {
		switch {
		case listed[scope]:
		case scope.Policy != nil && scope.Policy.Covers != nil && scope.Accounts > 0:
			number[Cohort{Scope: scope}] += scope.Accounts
		case !scope.Authority.Listed:
			number[Cohort{Scope: scope, Assumed: true, Local: scope.Authority.Platform == setting.WindowsMachine}] = 1
		}
	}
	place := map[*govern.Scope]int{nil: -1}
	for i, scope := range s.Scopes {
		place[scope] = i
	}
	all := slices.SortedFunc(maps.Keys(number), func(x, y Cohort) int {
		flag := func(b bool) int {
			if b {
				return 1
			}
			return 0
		}
		return cmp.Or(place[x.Scope]-place[y.Scope], place[x.Beyond]-place[y.Beyond], cmp.Compare(x.Flags, y.Flags),
			cmp.Compare(x.BeyondFlags, y.BeyondFlags), flag(x.Root)-flag(y.Root), flag(x.Local)-flag(y.Local))
	})
	for i := range all {
		all[i].Count = number[all[i]]
	}
	return all
}

// opens reports whether a password that somebody chose lets the account in at its place.
func opens(a *estate.Authority, row int, at int64) bool {
	o := a.Objects
	if end := int64(o.Ends.At(row)); o.FlagsOf(row)&none != 0 || end != 0 && end <= at {
		return false
	}
	return o.TraitsOf(row)&(estate.NoPassword|estate.NoSession|estate.NoLine) == 0
}

// Tier is the cohort's.
// Counts reports whether its accounts are in what is told of the estate.
func (c *Cohort) Counts() bool { return !c.Assumed && !c.Unweighed }

func (c *Cohort) Tier() string { return c.Scope.Tier }

// Change is what is otherwise in some scopes: settings, and flags that are taken off.
type Change struct {
	Set   map[setting.ID]setting.Value `json:"set,omitempty"`
	Clear estate.Flag                  `json:"clear,omitempty"`
}

// Changes are by scope; nil: nothing is changed.
type Changes map[*govern.Scope]Change

// Completion says what is taken for what the evidence does not tell.
type Completion int

// The completions.
const (
	Least   Completion = iota // what makes the chance least
	Default                   // the platform's documented default, or else the weakest value that a like place has, or else what makes it most
	Most
)

// Model works out chances under assumptions. It is not for several goroutines.
type Model struct {
	*Assumptions
	known   map[key]Chances
	numbers map[setting.Value]uint16
	weakest map[like]setting.Value
	bases   map[base]*values
}

// base is what holds in a scope while nothing is changed.
type base struct {
	scope *govern.Scope
	fill  Completion
}

// like are places of one platform.
type like struct {
	platform setting.Platform
	id       setting.ID
}

// NewModel returns a model for the scopes of an estate.
func NewModel(a *Assumptions, scopes []*govern.Scope) *Model {
	m := &Model{a, map[key]Chances{}, map[setting.Value]uint16{}, map[like]setting.Value{}, map[base]*values{}}
	for _, s := range scopes {
		for _, r := range read {
			v := s.Now(r.id)
			if !v.IsSet() {
				continue
			}
			at := like{s.Authority.Platform, r.id}
			if old, ok := m.weakest[at]; !ok || weaker(r.id, v, old) {
				m.weakest[at] = v
			}
		}
	}
	return m
}

// weaker reports whether the model takes a value for worse than another.
func weaker(id setting.ID, v, than setting.Value) bool {
	if id == setting.MaxAge { // the table leaves open whether sooner is better
		old, finite := than.Number()
		n, isNumber := v.Number()
		return finite && (!isNumber || n > old)
	}
	order, ok := setting.Get(id).Compare(v, than)
	return ok && order < 0
}

// Of is the chance of each route for an account of a cohort.
func (m *Model) Of(c *Cohort, changes Changes, fill Completion) Chances {
	change := changes[c.Scope]
	var in inputs
	in.platform, in.counter, in.flags, in.root, in.local = c.Scope.Platform(), c.Scope.Counter(), c.Flags&^change.Clear, c.Root, c.Local
	in.outside = tenant(c.Scope.Authority.Platform)
	if c.Flags&estate.NoControl != 0 {
		switch fill { // most flags are not in the evidence
		case Most:
			in.flags |= (estate.NoneRequired | estate.Reversible | estate.NoPreauth | estate.NeverExpires) &^ change.Clear
		case Least:
			in.flags |= estate.Disabled
		}
	}
	in.flags &^= estate.NoControl
	m.fill(&in.v, c.Scope, change.Set, fill)
	in.flags = askedFor(in.flags, &in.v, change.Set, fill)
	in.ids = in.v.id
	if c.Beyond != nil {
		var v values
		there := changes[c.Beyond]
		m.fill(&v, c.Beyond, there.Set, fill)
		in.beyond, in.beyondCounter, in.beyondFlags = true, c.Beyond.Counter(), c.BeyondFlags&^there.Clear
		in.threshold, in.duration, in.window, in.factor = v.of(setting.LockoutThreshold), v.of(setting.LockoutDuration), v.of(setting.LockoutWindow),
			v.of(setting.SecondFactor)
		in.beyondFlags = askedFor(in.beyondFlags, &v, there.Set, fill)
	}
	chances, ok := m.known[in.key]
	if !ok {
		chances = m.chances(&in)
		m.known[in.key] = chances
	}
	return chances
}

// factors are the flags that say whether an account is asked for a second factor.
const factors = estate.FactorRequired | estate.FactorOptional | estate.FactorAtTimes

// askedFor are an account's flags where its scope asks some or all for a second factor.
func askedFor(flags estate.Flag, v *values, set map[setting.ID]setting.Value, fill Completion) estate.Flag {
	switch word, _ := v.of(setting.SecondFactor).Word(); {
	case set[setting.SecondFactor].IsSet():
		return flags &^ factors // what was said of it is mended
	case word == "some" && flags&factors == 0 && fill == Least:
		return flags | estate.FactorRequired // it may be one of them
	}
	return flags
}

// put notes a value and its number.
func (m *Model) put(v *values, i int, x setting.Value) {
	n, ok := m.numbers[x]
	if !ok {
		n = uint16(len(m.numbers) + 1)
		m.numbers[x] = n
	}
	v.v[i], v.id[i] = x, n
}

// base is what holds in a scope while nothing is changed, completed.
func (m *Model) base(s *govern.Scope, fill Completion) *values {
	if v := m.bases[base{s, fill}]; v != nil {
		return v
	}
	v := new(values)
	for i := range read {
		r := &read[i]
		e := s.Settings[r.id]
		var x setting.Value
		switch {
		case e.Missing == govern.Present:
			x = e.Value
		case e.Missing == govern.NotSet && lockTime(r.id):
		case e.Missing == govern.NotSet:
			x = r.weak
		case e.Missing == govern.NoSuch && r.id != setting.LockoutThreshold:
		default:
			x = m.complete(s, r.id, r.strict, r.weak, fill)
		}
		m.put(v, i, x)
	}
	m.bases[base{s, fill}] = v
	return v
}

// fill puts together what holds in a scope when some settings are changed.
func (m *Model) fill(v *values, s *govern.Scope, set map[setting.ID]setting.Value, fill Completion) {
	*v = *m.base(s, fill)
	for id, x := range set {
		if i, ok := column[id]; ok {
			m.put(v, i, x)
		}
	}
	if set[setting.LockoutAdministrator] == setting.On && s.Spared != govern.NotSpared && s.Authority.Head != nil {
		for _, id := range []setting.ID{setting.LockoutThreshold, setting.LockoutDuration, setting.LockoutWindow} {
			if f, ok := s.Authority.Head.Settings[id]; ok && f.Problem == "" {
				m.put(v, column[id], f.Value)
			}
		}
	}
	if n, ok := v.of(setting.LockoutThreshold).Number(); ok && n > 0 {
		for _, id := range []setting.ID{setting.LockoutDuration, setting.LockoutWindow} {
			if e := s.Settings[id]; !v.of(id).IsSet() && e.Missing != govern.NoSuch {
				m.put(v, column[id], unstated[fill])
			}
		}
	}
	if cost := costOf(v, s, fill); cost != v.of(setting.HashRounds) {
		m.put(v, column[setting.HashRounds], cost)
	}
}

// unstated is how long a lock lasts, and failures count, where that is not set since nothing
// locks yet: at documented defaults what most places say.
var unstated = map[Completion]setting.Value{Least: setting.Number(99999 * 60), Default: setting.Number(15 * 60), Most: setting.Number(1)}

func lockTime(id setting.ID) bool {
	return id == setting.LockoutDuration || id == setting.LockoutWindow
}

// costs are the least and greatest costs of a method.
var costs = map[string][2]int64{"sha256": {1000, 999_999_999}, "sha512": {1000, 999_999_999}, "bcrypt": {4, 31}, "yescrypt": {1, 11}}

// costOf is the cost of hashing, whose bounds depend on the method.
func costOf(v *values, s *govern.Scope, fill Completion) setting.Value {
	if e := s.Settings[setting.HashRounds]; e.Missing == govern.Present {
		return e.Value
	} else if e.Missing != govern.NotCollected && e.Missing != govern.Unreadable && e.Missing != govern.Unproven {
		return setting.Value{}
	}
	method, _ := v.of(setting.HashMethod).Word()
	bounds, ok := costs[method]
	switch {
	case !ok || fill == Default:
		return setting.Value{}
	case fill == Least:
		return setting.Number(bounds[1])
	}
	return setting.Number(bounds[0])
}

// complete is what a value that is not known is taken for.
func (m *Model) complete(s *govern.Scope, id setting.ID, strict, weak setting.Value, fill Completion) setting.Value {
	switch fill {
	case Least:
		return strict
	case Most:
		return weak
	}
	if v, ok := setting.Get(id).Defaults[s.Platform()]; ok {
		return v
	}
	if v, ok := m.weakest[like{s.Authority.Platform, id}]; ok {
		return v
	}
	return everywhere(id, weak)
}

// everywhere is the default that all platforms document which document one; else what is
// weakest.
func everywhere(id setting.ID, weak setting.Value) setting.Value {
	var all setting.Value
	for _, v := range setting.Get(id).Defaults {
		if all.IsSet() && v != all {
			return weak
		}
		all = v
	}
	if all.IsSet() {
		return all
	}
	return weak
}

// Weight is for how many accounts one of a tier counts.
func (a *Assumptions) Weight(tier string) float64 {
	switch tier {
	case govern.Privileged:
		return a[WeightPrivileged]
	case govern.Service:
		return a[WeightService]
	}
	return 1
}

// Range is a sum of chances over accounts, from what it is at least to what it may be.
type Range struct {
	Least   Millionths `json:"least"`
	Default Millionths `json:"default"`
	Most    Millionths `json:"most"`
}

// Total is the exposure of an estate, or of a part of it.
type Total struct {
	Accounts   int   `json:"accounts"`   // that a password opens, each counted once
	Privileged int   `json:"privileged"` // of these
	Falls      Range `json:"falls"`      // of all accounts
	Admins     Range `json:"admins"`     // of privileged ones
}

// Sum adds up the figures of cohorts, as they are and as they would be if all findings were
// mended.
func Sum(all []Cohort) (now, then Total) {
	for i := range all {
		c := &all[i]
		if !c.Counts() {
			continue
		}
		now.add(c, c.Now)
		then.add(c, c.Then)
	}
	return now, then
}

func (t *Total) add(c *Cohort, r Range) {
	n := Millionths(c.Count)
	t.Accounts += c.Count
	t.Falls = Range{t.Falls.Least + n*r.Least, t.Falls.Default + n*r.Default, t.Falls.Most + n*r.Most}
	if c.Tier() == govern.Privileged {
		t.Privileged += c.Count
		t.Admins = Range{t.Admins.Least + n*r.Least, t.Admins.Default + n*r.Default, t.Admins.Most + n*r.Most}
	}
}

// Moved is the total when the chance of a cohort's accounts becomes another.
func (t Total) Moved(c *Cohort, from, to Range) Total {
	n := Millionths(c.Count)
	move := func(r *Range) {
		*r = Range{r.Least + n*(to.Least-from.Least), r.Default + n*(to.Default-from.Default), r.Most + n*(to.Most-from.Most)}
	}
	if move(&t.Falls); c.Tier() == govern.Privileged {
		move(&t.Admins)
	}
	return t
}

// Range is the chance of an account of a cohort under changes, from what it is at least to
// what it may be.
func (m *Model) Range(c *Cohort, changes Changes) Range {
	chance := func(fill Completion) Millionths {
		chances := m.Of(c, changes, fill)
		return chances.Together()
	}
	return Range{chance(Least), chance(Default), chance(Most)}
}
