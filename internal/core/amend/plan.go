package amend

import (
	"bytes"
	"cmp"
	"fmt"
	"math"
	"path"
	"slices"
	"strings"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/weigh"
)

// maker makes the plan of one record.
type maker struct {
	r       *record.Record
	writing *weigh.Writing
	owner   func(at estate.Place) string
	demands map[about][]baseline.Named
	may     map[about]bool             // where something may be demanded, and fails or is not known
	beside  map[about][]baseline.Named // what ways ask of other settings, by the one that they are about
	setters map[atPlace]*govern.Setter
	groups  map[estate.Place]string                     // of alike places
	ranks   map[*estate.Authority]map[estate.Cite]*rank // made when asked for
	drafts  map[spotKey]*draft
	order   []*draft
	decided map[string]*Decision
	plan    *Plan
}

type about struct {
	scope   *govern.Scope
	setting setting.ID
}

type atPlace struct {
	at      estate.Place
	setting setting.ID
}

// spotKey is the identity of a spot.
type spotKey struct {
	PolicyID
	setting setting.ID
	where   string // a Unix machine's policies share lines
	line    int
}

// key is the identity of a setting of a spot.
func (s *Spot) key(id setting.ID) spotKey {
	return spotKey{s.PolicyID, id, s.Where, s.Cite.Line}
}

// draft is what is wanted of one spot.
type draft struct {
	Spot
	setting  setting.ID
	from, to setting.Value
	notSet   bool
	scopes   []*govern.Scope
	demands  []baseline.Named
	findings []*check.Finding
	first    []*draft
	notes    []string
	flag     estate.Flag
	rank     bool // its precedence
	made     *Amendment
}

// New plans what ends the findings of a record, as far as one thing is right. owner
// names who answers for a place; nil: nobody is named.
func New(r *record.Record, writing *weigh.Writing, owner func(at estate.Place) string) *Plan {
	if owner == nil {
		owner = func(estate.Place) string { return "" }
	}
	m := &maker{r: r, writing: writing, owner: owner, demands: map[about][]baseline.Named{}, may: map[about]bool{}, beside: map[about][]baseline.Named{},
		setters: map[atPlace]*govern.Setter{}, groups: map[estate.Place]string{}, drafts: map[spotKey]*draft{},
		ranks:   map[*estate.Authority]map[estate.Cite]*rank{},
		decided: map[string]*Decision{}, plan: &Plan{}}
	for i := range r.Setters {
		s := &r.Setters[i]
		m.setters[atPlace{s.Place, s.Setting}] = s
	}
	for _, c := range r.Cohorts() {
		for _, a := range c.Places {
			if len(c.Places) > 1 && a.Kind == estate.Machine {
				m.groups[a.Place()] = c.ID
			}
		}
	}
	for i := range r.Verdicts {
		v := &r.Verdicts[i]
		if v.Kind == check.Waived {
			continue
		}
		key := about{v.Scope, v.Demand.Setting}
		if len(v.Open) > 0 && v.Kind == check.Missing { // it may not hold there: nobody's reason to change anything
			m.may[key] = true
			continue
		}
		m.demands[key] = append(m.demands[key], baseline.Named{Baseline: v.Baseline, Demand: v.Demand})
	}
	m.ways()
	for i := range r.Findings {
		m.take(&r.Findings[i])
	}
	m.reach()
	m.values()
	m.loosening()
	m.together()
	m.amendments()
	m.plan.value(r)
	m.plan.sort()
	return m.plan
}

// take finds the spot at which a finding ends, or says why there is none.
func (m *maker) take(f *check.Finding) {
	if f.Kind == check.Waived {
		return
	}
	m.plan.Findings++
	if x, ok := flags[f.Check]; ok && f.Authority.Kind == estate.Domain && len(f.Rows) > 0 {
		m.flag(f, x.flag, x.title)
		return
	}
	if f.Check == "precedence-shared" {
		m.precedence(f)
		return
	}
	if f.Check != "" || f.Scope == nil {
		return // whether it ends with the others is seen by weighing anew
	}
	id := f.Settings[0]
	e := f.Scope.Settings[id]
	if e.Missing != govern.Present && !(e.Missing == govern.NotSet && f.Scope.Policy != nil) {
		return
	}
	at := about{f.Scope, id}
	if m.may[at] && len(m.demands[at]) == 0 {
		return // a word of the auditor comes first
	}
	band, exclude := baseline.Together(id, m.demands[at])
	if band.Empty() {
		m.decide(f, fmt.Sprintf("%s: no value satisfies all chosen baselines%s", setting.Get(id).Title, against(exclude)),
			"Say under decisions in engagement.yaml which of them to follow.")
		return
	}
	spot, id, why := m.placeOf(f.Scope, id)
	if why != "" {
		choices := f.Remedy
		if setter := m.setters[atPlace{f.Scope.Authority.Place(), id}]; setter != nil && setter.Open == "" {
			choices = "Find out why the template does not reach the place, or who changed it behind the template; then weigh again."
		}
		m.decide(f, setting.Get(id).Title+": "+why, choices)
		return
	}
	beside, ok := m.besides(f)
	if !ok {
		return
	}
	if e.Missing == govern.Present && band.Has(e.Value) { // the setting is right: others are not, or are not known
		for _, x := range beside {
			x.findings = append(x.findings, f)
		}
		return
	}
	d := m.draftOf(spot, id, e)
	d.findings = append(d.findings, f)
	d.first = append(d.first, beside...)
}

// flag takes a flag off accounts. Where programs may stop, those that they sign in as
// are a change of their own.
func (m *maker) flag(f *check.Finding, flag estate.Flag, title string) {
	at, roll := f.Authority, m.r.Roll(f.Authority.Place())
	var rows [2][]int // of people, of services
	for _, row := range f.Rows {
		tier := govern.Standard
		if x := roll.Of(row); x != nil {
			tier = x.Scope.Tier
		}
		k := 0
		if flag == estate.NeverExpires && serving(at, row, tier) > ForPeople {
			k = 1
		}
		rows[k] = append(rows[k], row)
	}
	for k, name := range []string{title, title + ", of services"} {
		if len(rows[k]) == 0 {
			continue
		}
		key := spotKey{PolicyID: PolicyID{at.Place(), Flags, at.Name, name}}
		d := m.drafts[key]
		if d == nil {
			d = &draft{Spot: Spot{PolicyID: key.PolicyID, Where: "userAccountControl", Cite: first(f.Evidence), Owner: m.owner(at.Place())}, flag: flag}
			m.drafts[key] = d
			m.order = append(m.order, d)
		}
		d.Rows, d.findings = append(slices.Clone(d.Rows), rows[k]...), append(d.findings, f)
	}
}

// ways takes of each demand with ways the one that asks least, on each scope.
func (m *maker) ways() {
	var beside []about // in order, so that a plan comes out the same again
	for _, s := range m.r.Scopes {
		for _, row := range setting.Table() {
			at := about{s, row.ID}
			demands, ok := m.demands[at]
			if !ok {
				continue
			}
			taken := baseline.Take(row.ID, demands, s.Now)
			if m.demands[at] = taken.Demands; taken.Beside != nil {
				m.beside[at], beside = taken.Beside, append(beside, at)
			}
		}
	}
	for _, at := range beside { // only now: what a way asks of another setting is no demand that has ways
		for _, n := range m.beside[at] {
			key := about{at.scope, n.Demand.Setting}
			m.demands[key] = append(m.demands[key], n)
		}
	}
}

// besides are the drafts of the other settings that the way of a finding's demand asks
// for; ok is false where one of them has no right place.
func (m *maker) besides(f *check.Finding) (all []*draft, ok bool) {
	for _, n := range m.beside[about{f.Scope, f.Settings[0]}] {
		id := n.Demand.Setting
		e := f.Scope.Settings[id]
		if e.Missing == govern.Present && n.Demand.Met(e.Value) {
			continue
		}
		spot, at, why := m.placeOf(f.Scope, id)
		if e.Missing != govern.Present && e.Missing != govern.NotSet {
			why = string(e.Missing)
		}
		if why != "" {
			m.decide(f, setting.Get(f.Settings[0]).Title+": "+n.Demand.Named()+": "+why, f.Remedy)
			return nil, false
		}
		all = append(all, m.draftOf(spot, at, e))
	}
	return all, true
}

// placeOf is the right place to change a setting, and which of those that it sums up
// is changed there.
func (m *maker) placeOf(s *govern.Scope, id setting.ID) (Spot, setting.ID, string) {
	e := s.Settings[id]
	spot, why := m.spotOf(s, id, e)
	if of := m.summed(s, id, e); why != "" && of != "" {
		id = of
		spot, why = m.spotOf(s, id, s.Settings[id])
	}
	return spot, id, why
}

// precedence gives policies that share a precedence numbers of their own, in the order
// in which they go before each other now.
func (m *maker) precedence(f *check.Finding) {
	if len(f.Evidence) < 2 {
		return
	}
	shared := m.shared(f.Authority)[f.Evidence[1]]
	switch {
	case shared == nil:
		return
	case !shared.room:
		m.decide(f, "Two policies share a precedence, and no number is free between them and the next", f.Remedy)
		return
	case shared.drafts == nil:
		m.spread(f.Authority, shared)
	}
	if d := shared.drafts[f.Evidence[1]]; d != nil {
		d.findings = append(d.findings, f)
	}
}

// rank is a precedence that several policies of a domain share.
type rank struct {
	number   int64
	policies []*estate.Policy       // the one that keeps it first
	room     bool                   // whether the numbers after it are free for the others, whose order is known
	drafts   map[estate.Cite]*draft // by the policies' own lines; nil: none made yet
}

// shared returns the precedences that an authority's policies share, by their lines.
func (m *maker) shared(a *estate.Authority) map[estate.Cite]*rank {
	if found, ok := m.ranks[a]; ok {
		return found
	}
	used := map[int64]*rank{}
	for i := range a.Overrides {
		if p := &a.Overrides[i]; p.Precedence != nil {
			if used[*p.Precedence] == nil {
				used[*p.Precedence] = &rank{number: *p.Precedence, room: true}
			}
			used[*p.Precedence].policies = append(used[*p.Precedence].policies, p)
		}
	}
	found := map[estate.Cite]*rank{}
	for _, r := range used {
		slices.SortFunc(r.policies, func(x, y *estate.Policy) int { return bytes.Compare(x.GUID[:], y.GUID[:]) })
		found[r.policies[0].Cite] = r
		for k := 1; k < len(r.policies); k++ {
			before, p := r.policies[k-1], r.policies[k]
			r.room = r.room && p.GUID != before.GUID && before.GUID != (estate.GUID{}) && used[r.number+int64(k)] == nil
			found[p.Cite] = r
		}
	}
	m.ranks[a] = found
	return found
}

// spread drafts a precedence of its own for each policy of a rank but the first.
func (m *maker) spread(a *estate.Authority, shared *rank) {
	shared.drafts = map[estate.Cite]*draft{}
	for k, p := range shared.policies {
		if k == 0 {
			continue
		}
		spot := Spot{PolicyID: PolicyID{a.Place(), FineGrained, p.Origin, p.Name}, Cite: p.Cite, Where: "msDS-PasswordSettingsPrecedence",
			PolicyGUID: p.GUID, Identity: a.Identity(),
			Owner: m.owner(a.Place()), Via: a.Place()}
		d := &draft{Spot: spot, rank: true, from: setting.Number(shared.number), to: setting.Number(shared.number + int64(k))}
		m.drafts[spot.key("")] = d
		m.order = append(m.order, d)
		for _, s := range m.r.Scopes {
			if s.Policy != nil && s.Authority == a && s.Policy.Origin == p.Origin {
				d.scopes = append(d.scopes, s)
			}
		}
		shared.drafts[p.Cite] = d
	}
}

// summed is the setting from which the effective value of one comes that sums up
// several; empty: it sums up none.
func (m *maker) summed(s *govern.Scope, id setting.ID, e govern.Effective) setting.ID {
	for _, of := range setting.Get(id).Of {
		if x := s.Settings[of]; x.Missing == govern.Present && x.Cite == e.Cite {
			return of
		}
	}
	return ""
}

func first(cites []estate.Cite) estate.Cite {
	if len(cites) == 0 {
		return estate.Cite{}
	}
	return cites[0]
}

func (m *maker) draftOf(spot Spot, id setting.ID, e govern.Effective) *draft {
	key := spot.key(id)
	d := m.drafts[key]
	if d == nil {
		d = &draft{Spot: spot, setting: id, from: e.Value, notSet: e.Missing == govern.NotSet || spot.Cite.Where == ""}
		if s := m.setters[atPlace{spot.Via, id}]; spot.Holder == Template && s != nil {
			d.from, d.notSet = s.Value, false
		}
		m.drafts[key] = d
		m.order = append(m.order, d)
	}
	return d
}

// holders are the means by platform, of policies that are no overrides.
var holders = map[setting.Platform]Holder{setting.WindowsDomain: Head, setting.WindowsMachine: Local, setting.UnixMachine: Unix,
	setting.LDAPDirectory: LDAPPolicy, setting.DirectoryServer: Server, setting.KerberosRealm: Realm}

// spotOf is the right place to change a setting of a scope; why says what keeps it
// from being one.
func (m *maker) spotOf(s *govern.Scope, id setting.ID, e govern.Effective) (spot Spot, why string) {
	a, p := s.Authority, s.Policy
	if s.Elsewhere != nil { // what is weighed at the tenant's door is the tenant's
		p = a.Head
	}
	if setter := m.setters[atPlace{a.Place(), id}]; setter != nil && (p == nil || p.Standing != estate.Override || e.Cite == setter.Cite) {
		if setter.Open != "" {
			return spot, "a template may set it, and whether it does is not in the evidence (" + setter.Open + ")"
		}
		if e.Missing == govern.Present && !e.Configured && setter.Value != e.Value {
			// What it says now does not reach the place: nothing tells that another value will.
			row := setting.Get(id)
			return spot, fmt.Sprintf("template %s has %s, and what holds is %s", setter.Name, row.Text(setter.Value), row.Text(e.Value))
		}
		return Spot{PolicyID: PolicyID{setter.Domain, Template, setter.Origin, setter.Name}, Cite: setter.Cite, Where: setter.Cite.Where,
			GUID: setter.GUID, Owner: m.owner(setter.Domain), Via: a.Place()}, ""
	}
	if p != nil && p.Standing == estate.Override && !setting.Get(id).Exists(p.Platform) {
		p = a.Head
	}
	if p == nil {
		return spot, "what holds it is not in the evidence"
	}
	if e.Missing != govern.NotSet {
		if fact, ok := p.Settings[id]; !ok || fact.Cite != e.Cite {
			return spot, "what decides it is set elsewhere"
		}
		if e.Remedy != "" {
			return spot, strings.TrimSuffix(strings.ToLower(e.Remedy[:1])+e.Remedy[1:], ".")
		}
	}
	holder, known := holders[p.Platform]
	switch {
	case p.Standing == estate.Override && p.Platform == setting.WindowsFineGrained:
		holder = FineGrained
	case a.Kind == estate.Tenant:
		holder = Field
	case !known:
		holder = Elsewhere
	}
	spot = Spot{PolicyID: PolicyID{a.Place(), holder, p.Origin, cmp.Or(p.VariantOf, p.Name)}, Cite: e.Cite, Where: e.Cite.Where,
		Unit: e.Unit, Owner: m.owner(a.Place()), PolicyGUID: p.GUID, Identity: a.Identity(),
		Via: a.Place()}
	if e.Missing == govern.NotSet {
		spot.Cite = estate.Cite{File: p.Cite.File}
		spot.Where, _ = m.writing.Asks(p.Platform, id)
	}
	if holder == Unix && !Ageing(e.Cite) { // one line for all policies of the machine
		spot.Origin, spot.Name = e.Cite.File, a.Name
		if e.Missing == govern.NotSet {
			spot.Origin = ""
		}
	}
	return spot, ""
}

// Ageing reports whether a value stands in an account's own line of shadow.
func Ageing(c estate.Cite) bool { return path.Base(c.File) == "shadow" }

// reach finds all scopes that a draft's spot reaches: they have their demands, too.
func (m *maker) reach() {
	for _, s := range m.r.Scopes {
		for id, e := range s.Settings {
			if e.Missing != govern.Present && e.Missing != govern.NotSet {
				continue
			}
			spot, why := m.spotOf(s, id, e)
			if why != "" {
				continue
			}
			d := m.drafts[spot.key(id)]
			if d == nil || !s.Here(id) {
				continue
			}
			d.scopes = append(d.scopes, s)
			d.demands = append(d.demands, m.demands[about{s, id}]...)
			for _, row := range setting.Table() {
				if slices.Contains(row.Of, id) && m.summed(s, row.ID, s.Settings[row.ID]) == id {
					d.demands = append(d.demands, m.demands[about{s, row.ID}]...)
				}
			}
		}
	}
	for _, d := range m.order {
		if d.Rows == nil {
			continue
		}
		roll := m.r.Roll(d.At)
		for _, s := range m.r.Scopes { // a roll holds scopes of its own place
			if slices.ContainsFunc(d.Rows, func(row int) bool { x := roll.Of(row); return x != nil && x.Scope == s }) {
				d.scopes = append(d.scopes, s)
			}
		}
	}
}

// values gives each draft the value that satisfies the demands of all scopes that it
// reaches. Where they exclude each other, a person has to decide.
func (m *maker) values() {
	kept := m.order[:0]
	for _, d := range m.order {
		if d.flag != 0 || d.rank {
			kept = append(kept, d)
			continue
		}
		band, exclude := baseline.Together(d.setting, d.demands)
		if band.Empty() {
			for _, f := range d.findings {
				m.decide(f, fmt.Sprintf("%s of %s: the accounts that it governs need different values%s", setting.Get(d.setting).Title,
					d.Policy(), against(exclude)),
					"Give those with the stricter demand a policy of their own, or decide which baseline to follow.")
			}
			delete(m.drafts, d.key(d.setting))
			continue
		}
		if d.to = band.Nearest(d.from); d.to == d.from && !d.notSet {
			for _, f := range d.findings {
				m.decide(f, fmt.Sprintf("%s: %s has it right, and it does not hold", setting.Get(d.setting).Title, d.Policy()), f.Remedy)
			}
			delete(m.drafts, d.key(d.setting))
			continue
		}
		kept = append(kept, d)
	}
	m.order = kept
}

// guards are what keeps passwords from being guessed; strength are the settings that a
// document gives up for them.
var (
	guards   = []setting.ID{setting.MinLength, setting.DictionaryCheck, setting.Blocklist}
	strength = []setting.ID{setting.Complexity, setting.ClassesRequired, setting.RequireLower, setting.RequireUpper, setting.RequireDigit, setting.RequireSymbol, setting.MaxAge,
		setting.MinAge, setting.History, setting.MaxRepeat, setting.MaxSequence, setting.MinChanged}
)

// loosening sees to it that nothing is made weaker alone: a document that gives one
// thing up asks for others instead, and they come first. Where they cannot be had, or
// the document asks for none, a person has to decide.
func (m *maker) loosening() {
	kept := m.order[:0:0]
	for _, d := range m.order {
		if d.flag != 0 || d.rank || !d.loosens() {
			kept = append(kept, d)
			continue
		}
		first, lacks := m.instead(d)
		if lacks == "" {
			d.first = append(d.first, first...)
			kept = append(kept, d)
			continue
		}
		for _, f := range d.findings {
			row := setting.Get(d.setting)
			m.decide(f, fmt.Sprintf("%s of %s from %s to %s is weaker, and %s", row.Title, d.Policy(), row.Text(d.from), row.Text(d.to), lacks),
				"See to what is asked for instead first, or accept the finding.")
		}
		delete(m.drafts, d.key(d.setting))
	}
	m.order = kept
	for _, d := range m.order { // nothing waits for what is not there
		d.first = slices.DeleteFunc(d.first, func(x *draft) bool { return !slices.Contains(m.order, x) })
	}
}

// loosens reports whether what is wanted is weaker than what there is.
func (d *draft) loosens() bool {
	if d.notSet || !d.from.IsSet() {
		return false
	}
	if d.setting == setting.MaxAge { // the table has no direction for it
		was, finite := d.from.Number()
		now, still := d.to.Number()
		return finite && (!still || now > was)
	}
	order, ok := setting.Get(d.setting).Compare(d.to, d.from)
	return ok && order < 0
}

// instead are the drafts of what the documents that want something weaker ask for
// instead; lacks says what of that cannot be had.
func (m *maker) instead(d *draft) (first []*draft, lacks string) {
	if !slices.Contains(strength, d.setting) {
		return nil, "nothing is asked for instead"
	}
	asked := false
	for _, s := range d.scopes {
		for _, n := range m.demands[about{s, d.setting}] {
			if n.Demand.Met(d.from) {
				continue
			}
			for _, id := range guards {
				for _, g := range m.demands[about{s, id}] {
					if g.Baseline != n.Baseline {
						continue
					}
					asked = true
					e := s.Settings[id]
					if e.Missing == govern.Present && g.Demand.Met(e.Value) {
						continue
					}
					spot, at, why := m.placeOf(s, id)
					x := m.drafts[spot.key(at)]
					if why != "" || x == nil || !g.Demand.Met(x.to) {
						return nil, fmt.Sprintf("%s is not as %s asks", strings.ToLower(setting.Get(id).Title), g)
					}
					if !slices.Contains(first, x) {
						first = append(first, x)
					}
				}
			}
		}
	}
	if !asked {
		return nil, "nothing is asked for instead"
	}
	return first, ""
}

// longestPlain is the greatest minimum length that a domain's head and templates hold
// without the relaxed limit.
const longestPlain = 14

// together sees to what settings of one policy ask of each other, and to what has to
// come first.
func (m *maker) together() {
	for _, d := range slices.Clone(m.order) {
		switch d.setting {
		case setting.MinLength:
			m.relaxed(d)
		case setting.LockoutWindow:
			m.windowWithin(d)
		case setting.InactiveDisable: // idle days count from the end of a password: one that never ends has none
			if age := m.find(d, setting.MaxAge); age != nil {
				d.first = append(d.first, age)
			}
		case setting.LockoutThreshold, setting.LockoutDuration:
			if d.setting == setting.LockoutDuration && d.notSet {
				if t := m.find(d, setting.LockoutThreshold); t != nil {
					d.first = append(d.first, t)
				}
			}
		}
	}
}

// find is the draft of another setting of the same policy; nil: there is none.
func (m *maker) find(d *draft, id setting.ID) *draft {
	for _, x := range m.order {
		if x.setting == id && x.PolicyID == d.PolicyID && x.flag == 0 && !x.rank {
			return x
		}
	}
	return nil
}

// relaxed puts the relaxed length limit before a length of a domain's head or
// template that needs it.
func (m *maker) relaxed(d *draft) {
	n, ok := d.to.Number()
	if !ok || n <= longestPlain || d.Holder != Head && d.Holder != Template && d.Holder != Local {
		return
	}
	const limit = setting.ID(setting.LengthLimitRelaxed)
	s := d.scopes[0]
	e := s.Settings[limit]
	if e.Missing == govern.Present && e.Value == setting.On {
		return
	}
	spot, why := m.spotOf(s, limit, e)
	switch {
	case why == "":
	case d.Holder == Template || d.Holder == Local:
		spot = d.Spot
		spot.Cite, spot.Where = estate.Cite{File: d.Cite.File}, "RelaxMinimumPasswordLengthLimits"
		e.Missing = govern.NotSet
	default:
		d.notes = append(d.notes, "Nothing in the evidence says that the controllers take more than 14 characters: let a template that reaches "+
			"them set RelaxMinimumPasswordLengthLimits first.")
		return
	}
	if e.Missing != govern.Present && spot.Cite.Where == "" {
		spot.Where = "RelaxMinimumPasswordLengthLimits"
	}
	x := m.draftOf(spot, limit, e)
	x.to = setting.On
	x.scopes = append(x.scopes, d.scopes...)
	d.first = append(d.first, x)
}

// windowed are what holds a lockout's window and duration together. Windows takes no
// window that is longer than the duration; elsewhere accounts would unlock while their
// failures still count.
var windowed = []Holder{Head, FineGrained, Template, Local, Unix, LDAPPolicy, Server, Realm}

// windowWithin keeps a lockout's window within its duration.
func (m *maker) windowWithin(d *draft) {
	window, ok := d.to.Number()
	if !ok || !slices.Contains(windowed, d.Holder) {
		return
	}
	x := m.durationOf(d, window)
	if x == nil {
		return
	}
	d.first = append(d.first, x)
	if n, ok := x.to.Number(); !ok || n >= window {
		return
	}
	x.to = setting.Number(window)
	switch band, _ := baseline.Together(x.setting, x.demands); {
	case band.Empty():
	case band.High != nil && *band.High < window:
		d.notes = append(d.notes, "The lockout's duration may not be shorter than its window, and the baselines want it shorter.")
	case band.Low != nil:
		x.to = setting.Number(max(window, *band.Low))
	}
}

// durationOf is the draft of the duration beside a window, one that is made if what holds
// now is shorter; nil: none is needed, or has a right place.
func (m *maker) durationOf(d *draft, window int64) *draft {
	const duration = setting.ID(setting.LockoutDuration)
	if x := m.find(d, duration); x != nil {
		return x
	}
	e := d.scopes[0].Settings[duration]
	spot, why := m.spotOf(d.scopes[0], duration, e)
	if why != "" {
		return nil
	}
	if x := m.drafts[spot.key(duration)]; x != nil {
		return x
	}
	now := e.Value
	if setter := m.setters[atPlace{spot.Via, duration}]; spot.Holder == Template && setter != nil {
		now = setter.Value
	}
	if n, ok := now.Number(); !ok || n >= window {
		return nil
	}
	x := m.draftOf(spot, duration, e)
	x.to, x.scopes = now, d.scopes
	for _, s := range d.scopes {
		x.demands = append(x.demands, m.demands[about{s, duration}]...)
	}
	return x
}

// against names two demands that exclude each other; nothing where only three do.
func against(exclude [][2]baseline.Named) string {
	if len(exclude) == 0 {
		return ""
	}
	return fmt.Sprintf(" (%s against %s)", exclude[0][0], exclude[0][1])
}

// decide notes what a person has to decide.
func (m *maker) decide(f *check.Finding, title, choices string) {
	d := m.decided[title]
	if d == nil {
		d = &Decision{Title: title, Choices: choices}
		m.decided[title] = d
		m.plan.Decisions = append(m.plan.Decisions, d)
	}
	d.add(f)
}

func (d *Decision) add(f *check.Finding) {
	d.Findings = append(d.Findings, f)
	if f.Severity.Rank() > d.Severity.Rank() || d.Severity == "" {
		d.Severity = f.Severity
	}
}

// amendments makes one amendment of the drafts that are alike: the same change of
// the same policy at places of one cohort.
func (m *maker) amendments() {
	type key struct {
		group    string
		holder   Holder
		setting  setting.ID
		flag     estate.Flag
		rank     bool
		from, to setting.Value
		notSet   bool
		origin   string
		where    string
	}
	by := map[key]*Amendment{}
	for _, d := range m.order {
		k := key{m.groups[d.At], d.Holder, d.setting, d.flag, d.rank, d.from, d.to, d.notSet, d.Origin + "\x00" + d.Spot.Name, d.Where}
		if k.group == "" {
			k.group = d.At.String()
		} else {
			k.origin = "" // each machine's own file
		}
		a := by[k]
		if a == nil {
			a = &Amendment{Setting: d.setting, Flag: d.flag, Precedence: d.rank, From: d.from, To: d.to, NotSet: d.notSet}
			by[k] = a
			m.plan.Amendments = append(m.plan.Amendments, a)
		}
		a.Spots = append(a.Spots, d.Spot)
		a.Settles = append(a.Settles, d.findings...)
		for _, s := range d.scopes {
			if !slices.Contains(a.Scopes, s) {
				a.Scopes = append(a.Scopes, s)
			}
		}
		for _, n := range d.notes {
			if !slices.Contains(a.Notes, n) {
				a.Notes = append(a.Notes, n)
			}
		}
		if name := m.r.Unseen[d.At]; name != "" && (d.Holder == Head || d.Holder == Local) {
			note := name + " was not exported: if it sets this, change it there."
			if !slices.Contains(a.Notes, note) {
				a.Notes = append(a.Notes, note)
			}
		}
		d.made = a
	}
	for _, d := range m.order {
		for _, x := range d.first {
			if x.made != nil && x.made != d.made && !slices.Contains(d.made.First, x.made) {
				d.made.First = append(d.made.First, x.made)
			}
		}
	}
	for _, a := range m.plan.Amendments {
		a.count(m.r)
	}
}

// count fills in the identity, and whom the amendment reaches.
func (a *Amendment) count(r *record.Record) {
	var parts []string
	for _, s := range a.Spots {
		parts = append(parts, s.At.String(), string(s.Holder), s.Origin, s.Name)
		if s.Holder == Unix { // whose policies share files
			parts = append(parts, s.Where)
		}
	}
	slices.Sort(parts)
	parts = append(parts, string(a.Setting), flagTitle(a.Flag))
	if a.Precedence {
		parts = append(parts, "precedence")
	}
	a.Fingerprint = govern.Fingerprint(parts...)
	a.grade()
	if a.Flag != 0 {
		for _, s := range a.Spots {
			roll := r.Roll(s.At)
			a.Accounts += len(s.Rows)
			for _, row := range s.Rows {
				if x := roll.Of(row); x != nil && x.Scope.Tier == govern.Privileged {
					a.Privileged++
				}
			}
		}
		return
	}
	for _, s := range a.Scopes {
		a.Accounts += s.Accounts
		if s.Tier == govern.Privileged {
			a.Privileged += s.Accounts
		}
	}
}

func (a *Amendment) grade() {
	a.Severity = baseline.Minor
	for _, f := range a.Settles {
		if f.Severity.Rank() > a.Severity.Rank() {
			a.Severity = f.Severity
		}
	}
}

// graves counts the grave findings that end.
func (a *Amendment) graves() int {
	n := 0
	for _, f := range a.Settles {
		if f.Severity == baseline.Grave {
			n++
		}
	}
	return n
}

// place is where those come that are first together; behind them it is the same for all.
func (a *Amendment) place() int {
	if a.rank == 0 {
		return math.MaxInt
	}
	return a.rank
}

// sort puts the amendments in the order of their effect, as far as the record alone
// tells, but for what has to come first, and names them. The names stay, whatever
// weighing anew shows.
func (p *Plan) sort() {
	slices.SortStableFunc(p.Amendments, func(x, y *Amendment) int {
		return cmp.Or(x.place()-y.place(), cmp.Compare(y.Worth, x.Worth), y.graves()-x.graves(), len(y.Settles)-len(x.Settles), y.Privileged-x.Privileged, y.Accounts-x.Accounts,
			strings.Compare(x.Spots[0].At.Name, y.Spots[0].At.Name), strings.Compare(x.Spots[0].Name, y.Spots[0].Name),
			setting.Order(x.Setting, y.Setting), strings.Compare(x.Fingerprint, y.Fingerprint))
	})
	var all []*Amendment
	var put func(a *Amendment)
	done := map[*Amendment]bool{}
	put = func(a *Amendment) {
		if done[a] {
			return
		}
		done[a] = true
		for _, f := range a.First {
			put(f)
		}
		all = append(all, a)
	}
	for _, a := range p.Amendments {
		put(a)
	}
	p.Amendments = all
	for i, a := range all {
		a.Name = fmt.Sprintf("A%d", i+1)
	}
	p.sortDecisions()
}

func (p *Plan) sortDecisions() {
	slices.SortStableFunc(p.Decisions, func(x, y *Decision) int {
		return cmp.Or(y.Severity.Rank()-x.Severity.Rank(), len(y.Findings)-len(x.Findings), strings.Compare(x.Title, y.Title))
	})
}
