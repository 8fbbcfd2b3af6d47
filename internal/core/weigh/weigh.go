// Package weigh compares what governs each account scope with what baselines
// demand, and looks for settings that defeat each other.
package weigh

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/exposure"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Verdict is the outcome of one demand of one baseline on one scope.
type Verdict struct {
	Scope    *govern.Scope      `json:"-"`
	Baseline *baseline.Baseline `json:"-"`
	Demand   *baseline.Demand   `json:"-"`
	Kind     check.Kind         `json:"kind"`
	Beneath  check.Kind         `json:"beneath,omitempty"` // of a waived one: what it would be
	Check    string             `json:"check,omitempty"`   // that defeats it
	Severity baseline.Severity  `json:"severity"`
	Observed string             `json:"observed"`
	Reason   string             `json:"reason"`
	Evidence []estate.Cite      `json:"evidence"`
	// Open are the words of the auditor that decide whether the demand holds there at all.
	Open []baseline.Word `json:"open,omitempty"`
	// May: what is known fails the demand, and the words decide whether it holds.
	May bool `json:"may,omitempty"`
}

// Result is one weighing.
type Result struct {
	Scopes   []*govern.Scope
	Verdicts []Verdict
	Findings []check.Finding
	Idle     []Idle  // demands on settings that a platform does not have
	SetAside []Aside // demands that a decision of the engagement sets aside
	Waivers  []check.Waiver
	// Unweighed are the places that no chosen baseline covers.
	Unweighed []check.Unweighed
	// Population is whom findings are valued by, with how exposed they are; nil in records of
	// versions that valued nothing. Assumed are the assumptions that were not the usual ones.
	Population []exposure.Cohort
	Assumed    map[string]float64
}

// Idle is a demand that does not apply to a scope: its platform has no such
// setting, and the demand does not name the platform.
type Idle struct {
	Scope *govern.Scope
	baseline.Named
}

// Aside is a demand that was set aside by a decision.
type Aside struct {
	Scope *govern.Scope
	baseline.Named
	Decision *Decision
}

// Decision says which baseline is followed on a setting on which the chosen
// ones exclude each other.
type Decision struct {
	Setting setting.ID
	Follow  string
	Why     string
}

// Choice says what is weighed against what.
type Choice struct {
	Baselines func(a *estate.Authority, tier string) []*baseline.Baseline
	Decisions []Decision
	// Says is what the auditor says of what evidence does not tell; nil: nothing.
	Says    func(at estate.Place, tier string, w baseline.Word) (holds, known bool)
	Expect  check.Expectation
	Day     func(unix int64) string // writes a day; nil: days are left out
	Writing *Writing                // nil: nothing is written as places do
	// Assumptions by which findings are valued; nil: the usual ones. At is when, in Unix
	// seconds: by then some accounts have come to their end.
	Assumptions *exposure.Assumptions
	At          int64
	// Fitting returns the ids of baselines that cover a place; nil: none known.
	Fitting func(a *estate.Authority) []string
}

// asked is a demand on a scope, and in which of the cases that can be: it is certain where
// it is in all of them.
type asked struct {
	baseline.Named
	in, of uint
}

// known says what evidence, or else the auditor, tells of a word at a scope.
func (c *Choice) known(scope *govern.Scope) func(baseline.Word) (holds, known bool) {
	return func(w baseline.Word) (bool, bool) {
		if e := scope.Settings[setting.SecondFactor]; w == baseline.SecondFactorAsked && (e.Missing == govern.Present || e.Missing == govern.NoSuch) {
			word, _ := e.Value.Word()
			return word == "all", true
		}
		// An identity provider may be a service of somebody else's, or a server of one's own.
		if p := scope.Authority.Platform; w == baseline.CloudService && p != setting.IdentityProvider && p != setting.Other {
			return scope.Authority.Kind == estate.Tenant, true
		}
		if c.Says == nil {
			return false, false
		}
		return c.Says(scope.Authority.Place(), scope.Tier, w)
	}
}

// demandsOn returns the demands on a scope, by setting, after the decisions.
func (c *Choice) demandsOn(r *Result, scope *govern.Scope) map[setting.ID][]asked {
	all := map[setting.ID][]asked{}
	for _, b := range c.Baselines(scope.Authority, scope.Tier) {
		cases := b.Situations(c.known(scope))
		for _, n := range demandsIn(b, scope, cases) {
			d := n.Demand
			named := slices.Contains(d.Platforms, scope.Authority.Platform)
			switch {
			case !scope.Here(d.Setting): // the domain's own scope has the verdict
			case !named && closed(scope, d):
				r.Idle = append(r.Idle, Idle{scope, n.Named})
			case fixedApart(scope, d.Setting) && judge(scope, b, d, nil).Kind != check.Holds:
				// It concerns the accounts that the place's own settings govern; of these nobody can change it.
				r.Idle = append(r.Idle, Idle{scope, n.Named})
			default:
				all[d.Setting] = append(all[d.Setting], n)
			}
		}
	}
	for i := range c.Decisions {
		x := &c.Decisions[i]
		demands := all[x.Setting]
		if !slices.ContainsFunc(demands, func(n asked) bool { return n.Baseline.ID == x.Follow }) {
			continue
		}
		all[x.Setting] = nil
		for _, n := range demands {
			if n.Baseline.ID == x.Follow {
				all[x.Setting] = append(all[x.Setting], n)
			} else {
				r.SetAside = append(r.SetAside, Aside{scope, n.Named, x})
			}
		}
	}
	return all
}

// demandsIn are the demands of a baseline on a scope, in any of the cases.
func demandsIn(b *baseline.Baseline, scope *govern.Scope, cases []baseline.Situation) (all []asked) {
	of := uint(1)<<len(cases) - 1
	for i, situation := range cases {
		for _, d := range b.For(scope.Authority.Platform, scope.Tier, situation) {
			at := slices.IndexFunc(all, func(a asked) bool { return a.Demand == d })
			if at < 0 {
				at, all = len(all), append(all, asked{Named: baseline.Named{Baseline: b, Demand: d}, of: of})
			}
			all[at].in |= 1 << i
		}
	}
	return all
}

// judgeAll gives the verdicts on a setting of a scope. A demand that fails, and of which
// nobody tells whether it holds there, leaves open whether anything is wrong; unless in each
// case one of the same baseline's fails.
func judgeAll(scope *govern.Scope, demands []asked, found []check.Finding) []Verdict {
	all := make([]Verdict, 0, len(demands))
	fail := map[*baseline.Baseline]uint{}
	for _, n := range demands {
		v := judge(scope, n.Baseline, n.Demand, found)
		if v.Kind == check.Weak {
			fail[n.Baseline] |= n.in
		}
		all = append(all, v)
	}
	for i, n := range demands {
		v := &all[i]
		if n.in == n.of {
			continue
		}
		v.Open = n.Demand.Depends()
		if v.Kind == check.Weak && fail[n.Baseline] != n.of {
			v.Kind, v.May = check.Missing, true
			v.Reason = "the demand holds " + n.Demand.Where() + "; whether that is so here the evidence does not tell. If it is: " + v.Reason
		}
	}
	return all
}

func named(words []baseline.Word) string {
	var all []string
	for _, w := range words {
		all = append(all, "case: "+string(w))
	}
	return strings.Join(all, ", ")
}

// Run weighs all scopes.
func Run(survey *govern.Survey, choice Choice) *Result {
	r := &Result{Scopes: survey.Scopes}
	r.Findings = check.OnGovernance(survey, choice.Day)
	for _, scope := range survey.Scopes {
		var found []check.Finding
		if scope.Elsewhere == nil { // else they were looked at where they are set
			found = check.Run(check.AtSettings, check.Pass{Survey: survey, Authority: scope.Authority, Scope: scope})
		}
		demands := choice.demandsOn(r, scope)
		for _, id := range check.SortedSettings(demands) {
			r.Verdicts = append(r.Verdicts, judgeAll(scope, demands[id], found)...)
		}
		r.Findings = append(r.Findings, found...)
	}
	r.Findings = append(r.Findings, choice.fromVerdicts(r.Verdicts)...)
	r.uncovered(survey, choice.Fitting)
	r.Findings = append(r.Findings, check.Run(check.AtCompleteness, check.Pass{Survey: survey, Expect: &choice.Expect,
		Unweighed: r.Unweighed})...)
	for i := range r.Findings {
		f := &r.Findings[i]
		f.Fingerprint, f.Alias = check.Fingerprint(f), check.Alias(f)
		if f.Scope != nil && f.Accounts == nil && f.Scope.Listed() {
			f.Accounts, f.Examples = &f.Scope.Accounts, check.Names(f.Authority, f.Scope.Examples)
		}
	}
	assumptions := choice.Assumptions
	if assumptions == nil {
		assumptions = exposure.Usual()
	}
	r.Value(assumptions, exposure.Population(survey, choice.At))
	r.sort()
	return r
}

// uncovered finds the places on which no demand was weighed.
func (r *Result) uncovered(s *govern.Survey, fitting func(*estate.Authority) []string) {
	weighed := map[*estate.Authority]bool{}
	for i := range r.Verdicts {
		weighed[r.Verdicts[i].Scope.Authority] = true
	}
	for _, a := range s.Estate.Authorities {
		if weighed[a] {
			continue
		}
		u := check.Unweighed{Authority: a, Fitting: []string{}}
		if fitting != nil {
			u.Fitting = append(u.Fitting, fitting(a)...)
		}
		r.Unweighed = append(r.Unweighed, u)
	}
}

// sort puts the findings in order: scope by scope, the worst first.
func (r *Result) sort() {
	place := map[*govern.Scope]int{nil: -1}
	for i, s := range r.Scopes {
		place[s] = i
	}
	slices.SortStableFunc(r.Findings, func(x, y check.Finding) int {
		return cmp.Or(cmp.Compare(place[x.Scope], place[y.Scope]), strings.Compare(x.Authority.Name, y.Authority.Name),
			strings.Compare(string(x.Authority.Kind), string(y.Authority.Kind)), cmp.Compare(y.Severity.Rank(), x.Severity.Rank()),
			cmp.Compare(y.Kind.Rank(), x.Kind.Rank()), slices.CompareFunc(x.Settings, y.Settings, setting.Order),
			strings.Compare(x.Check, y.Check), strings.Compare(x.About, y.About))
	})
}

// fixedApart reports whether the platform fixes a setting for accounts that the place's own
// settings do not reach, whatever it is. Whether a second factor is asked for is up to them.
func fixedApart(scope *govern.Scope, id setting.ID) bool {
	return scope.Policy != nil && scope.Policy.Apart && id != setting.SecondFactor
}

// closed reports whether the demand cannot be met in any way, for the platform lacks
// a setting of each.
func closed(scope *govern.Scope, d *baseline.Demand) bool {
	return !slices.ContainsFunc(d.AllWays(), func(w baseline.Way) bool {
		return !slices.ContainsFunc(w, func(c baseline.Condition) bool { return scope.Settings[c.Setting].Missing == govern.NoSuch })
	})
}

// judge gives one demand's verdict on one scope.
func judge(scope *govern.Scope, b *baseline.Baseline, d *baseline.Demand, found []check.Finding) Verdict {
	v := Verdict{Scope: scope, Baseline: b, Demand: d, Observed: "-", Severity: d.Severity}
	if len(d.Ways) == 0 {
		o := outcomeOf(scope, &d.Condition, found)
		v.Kind, v.Check, v.Observed, v.Evidence, v.Reason = o.kind, o.check, o.observed, o.evidence, o.reason
		switch {
		case v.Kind == check.Weak && v.Reason == "":
			v.Reason = d.Why
		case v.Kind == check.Weak:
			v.Reason += ". " + d.Why
		}
		return v
	}
	v.byWays(found)
	return v
}

// outcome is what comes of one condition.
type outcome struct {
	kind     check.Kind
	check    string
	observed string
	reason   string // of a weak one: how far it falls short, where that can be said
	evidence []estate.Cite
}

// outcomeOf says whether a scope meets a condition.
func outcomeOf(scope *govern.Scope, d *baseline.Condition, found []check.Finding) outcome {
	s := setting.Get(d.Setting)
	e := scope.Settings[d.Setting]
	v := outcome{observed: "-"}
	if e.Cite.File != "" {
		v.evidence = []estate.Cite{e.Cite}
	}
	switch {
	case e.Missing == govern.Unreadable:
		v.kind, v.reason = check.Missing, fmt.Sprintf("%s: %s", e.Missing, e.Problem)
	case e.Missing == govern.Unproven:
		v.kind, v.reason = check.Missing, fmt.Sprintf("%s (%s) by %s; %s", strings.ToLower(s.Title), s.Text(e.Value), e.From, e.Missing)
		if e.Open != "" {
			v.reason += ": " + e.Open
		}
	case e.Missing == govern.NotCollected && scope.Why != "":
		v.kind, v.reason = check.Missing, scope.Why
	case e.Missing != govern.Present:
		v.kind, v.reason = check.Missing, string(e.Missing)
	case !d.Met(e.Value):
		v.kind, v.observed, v.reason = check.Weak, s.Text(e.Value), shortfall(s, d, e.Value)
	default:
		v.kind, v.observed = check.Holds, s.Text(e.Value)
		for _, f := range found {
			if f.Kind == check.Conflicting && slices.Contains(check.Named(f.Check).Defeats, d.Setting) {
				v.kind, v.check, v.reason = check.Conflicting, f.Check, "meets the demand on paper, but: "+f.Reason
				v.evidence = f.Evidence
				break
			}
		}
	}
	return v
}

// byWays judges a demand that can be met in several ways: one that holds is enough.
// A way of which not all is known keeps the demand from being weak.
func (v *Verdict) byWays(found []check.Finding) {
	var told []string
	kinds := map[check.Kind]string{}
	seen := map[setting.ID]outcome{}
	for _, way := range v.Demand.Ways {
		kind, by, reasons := check.Holds, "", []string(nil)
		for i := range way {
			o := outcomeOf(v.Scope, &way[i], found)
			seen[way[i].Setting] = o
			nowhere := v.Scope.Settings[way[i].Setting].Missing == govern.NoSuch
			if nowhere {
				o.kind = check.Weak // this way is closed
			}
			switch {
			case o.kind == check.Holds:
				continue
			case o.kind == check.Weak && o.reason == "" && !nowhere:
				o.reason = o.observed
			}
			name := ""
			if way[i].Setting != v.Demand.Setting || o.kind != check.Weak {
				name = strings.ToLower(setting.Get(way[i].Setting).Title) + ": "
			}
			reasons = append(reasons, name+o.reason)
			if certain := map[check.Kind]int{check.Holds: 0, check.Conflicting: 1, check.Missing: 2,
				check.Weak: 3}; certain[o.kind] > certain[kind] {
				kind, by = o.kind, o.check
			}
		}
		if _, ok := kinds[kind]; !ok {
			kinds[kind] = by
		}
		told = append(told, fmt.Sprintf("%s (%s)", v.Demand.WayText(way), strings.Join(reasons, "; ")))
	}
	v.Kind = check.Weak
	for _, kind := range []check.Kind{check.Missing, check.Conflicting, check.Holds} {
		if by, ok := kinds[kind]; ok {
			v.Kind, v.Check = kind, by
		}
	}
	if _, open := kinds[check.Missing]; open && v.Kind == check.Conflicting {
		v.Kind, v.Check = check.Missing, ""
	}
	if v.Kind == check.Weak && closed(v.Scope, v.Demand) {
		v.Kind = check.Missing
	}
	switch v.Kind {
	case check.Weak:
		v.Reason = "no way is met: " + strings.Join(told, "; ") + ". " + v.Demand.Why
	case check.Missing:
		v.Reason = "whether one way is met is not known: " + strings.Join(told, "; ")
	case check.Conflicting:
		v.Reason = "one way is met on paper only: " + strings.Join(told, "; ")
	}
	var observed []string
	for _, id := range v.Demand.Involved() {
		o := seen[id]
		for _, c := range o.evidence {
			if !slices.Contains(v.Evidence, c) {
				v.Evidence = append(v.Evidence, c)
			}
		}
		switch {
		case id == v.Demand.Setting:
			observed = append(observed, cmp.Or(o.observed, "-"))
		case o.observed != "-":
			observed = append(observed, strings.ToLower(setting.Get(id).Title)+" "+o.observed)
		}
	}
	v.Observed = strings.Join(observed, ", ")
}

// shortfall says how far a known value misses the condition; empty where that cannot
// be counted.
func shortfall(s *setting.Setting, d *baseline.Condition, v setting.Value) string {
	by := distance(d, v)
	way := "too many"
	switch {
	case by < 0:
		way = "short"
	case by == 0:
		return ""
	case s.Kind == setting.Duration:
		way = "too long"
	}
	return s.Text(setting.Number(max(by, -by))) + " " + way
}

// distance is how far a number lies beyond what a condition takes, or, below zero, short
// of it; 0 where there is no such number.
func distance(d *baseline.Condition, v setting.Value) int64 {
	have, isNumber := v.Number()
	limit, hasLimit := d.Values[0].Number()
	if !isNumber || !hasLimit || d.Kind == baseline.OneOf {
		return 0
	}
	if d.Kind == baseline.Between && have > limit {
		limit, _ = d.Values[1].Number()
	}
	return have - limit
}

// far is how far a weak verdict's value is from what its demand takes; 0 where that is
// no number.
func (v *Verdict) far() int64 {
	if v.Kind != check.Weak || len(v.Demand.Ways) > 0 {
		return 0
	}
	by := distance(&v.Demand.Condition, v.Scope.Now(v.Demand.Setting))
	return max(by, -by)
}

// fromVerdicts makes the findings of the demands that do not hold: one for
// each scope and setting, however many baselines it fails, with one remedy that
// satisfies all.
func (c *Choice) fromVerdicts(verdicts []Verdict) []check.Finding {
	var all []check.Finding
	for len(verdicts) > 0 {
		n := 1
		for n < len(verdicts) && verdicts[n].Scope == verdicts[0].Scope && verdicts[n].Demand.Setting == verdicts[0].Demand.Setting {
			n++
		}
		if f := c.merged(verdicts[:n]); f != nil {
			all = append(all, *f)
		}
		verdicts = verdicts[n:]
	}
	return all
}

// merged makes one finding of the verdicts on a setting of a scope.
func (c *Choice) merged(verdicts []Verdict) *check.Finding {
	var worst, farthest *Verdict // the gravest, and the one whose demand is farthest from what is
	var demands []baseline.Named
	var failed []check.Source
	severity, stated := baseline.Minor, baseline.Severity("")
	certain := slices.ContainsFunc(verdicts, func(v Verdict) bool { return v.Kind == check.Weak })
	for i := range verdicts {
		v := &verdicts[i]
		if certain && v.Kind == check.Missing && len(v.Open) > 0 {
			continue // what may be demanded comes after what is
		}
		demands = append(demands, baseline.Named{Baseline: v.Baseline, Demand: v.Demand})
		// A demand that a check defeats is told by the check's own finding.
		if v.Kind == check.Holds || v.Kind == check.Conflicting {
			continue
		}
		if worst == nil || v.Severity.Rank() > worst.Severity.Rank() {
			worst = v
		}
		if far := v.far(); farthest == nil || far > farthest.far() || far == farthest.far() && worst == v {
			farthest = v
		}
		if v.Severity.Rank() > severity.Rank() {
			severity = v.Severity
		}
		if v.Demand.Stated && v.Severity.Rank() > stated.Rank() {
			stated = v.Severity
		}
		failed = append(failed, check.Source{ID: v.Baseline.ID, Ref: v.Demand.Ref, Asks: v.Demand.Text()})
	}
	if worst == nil {
		return nil
	}
	id := worst.Demand.Setting
	taken := baseline.Take(id, demands, worst.Scope.Now)
	band, exclude := baseline.Together(id, taken.Demands)
	f := &check.Finding{Kind: worst.Kind, Severity: cmp.Or(stated, severity), Stated: stated != "", Mend: &exposure.Change{Set: mended(worst, farthest, &taken, band)},
		Scope: worst.Scope, Authority: worst.Scope.Authority,
		Settings: []setting.ID{id},
		Observed: worst.Observed, Demanded: demanded(demands, band), Reason: farthest.Reason, Evidence: worst.Evidence, Baselines: failed}
	if worst.May {
		f.Open = worst.Open
	}
	if band.Empty() {
		var words []string
		for _, n := range demands {
			words = append(words, n.String())
		}
		f.Demanded = strings.Join(words, "; ")
		f.Remedy = "No value satisfies all chosen baselines"
		if len(exclude) > 0 {
			f.Remedy += fmt.Sprintf(" (%s against %s)", exclude[0][0], exclude[0][1])
		}
		f.Remedy += ": decide which to follow, and record it under decisions in engagement.yaml."
	} else {
		f.Remedy = c.Writing.remedies(worst, &taken, band)
	}
	if len(f.Open) > 0 {
		f.Remedy = "Say in engagement.yaml, under \"applies:\", whether that is so there (" + named(f.Open) + "). If the demand holds: " + f.Remedy
	}
	return f
}

// mended are the values that satisfy what failed, the nearest to what is; where baselines
// exclude each other those of the farthest.
func mended(worst, farthest *Verdict, taken *baseline.Taken, band baseline.Band) map[setting.ID]setting.Value {
	id := worst.Demand.Setting
	if band.Empty() {
		band = farthest.Demand.Band()
	}
	set := map[setting.ID]setting.Value{}
	nearest := func(id setting.ID, band baseline.Band) {
		from := worst.Scope.Now(id)
		if !from.IsSet() {
			from = setting.Get(id).Defaults[worst.Scope.Platform()]
		}
		if v := band.Nearest(from); v.IsSet() {
			set[id] = v
		}
	}
	nearest(id, band)
	for _, n := range taken.Beside {
		nearest(n.Demand.Setting, n.Demand.Band())
	}
	return set
}

// demanded says what satisfies all demands: the band, but of demands with ways all of
// them.
func demanded(demands []baseline.Named, band baseline.Band) string {
	text := band.Text()
	for _, n := range demands {
		switch {
		case len(n.Demand.Ways) == 0:
		case len(demands) == 1:
			return strings.ReplaceAll(n.Demand.Text(), ", or ", " or ")
		default:
			text += "; of " + n.Baseline.ID + " one of: " + n.Demand.Text()
		}
	}
	return text
}

// remedies says what to do where a demand can be met in several ways: what the one that
// was taken asks, and that there are others.
func (w *Writing) remedies(v *Verdict, taken *baseline.Taken, band baseline.Band) string {
	e := v.Scope.Settings[v.Demand.Setting]
	if len(v.Demand.Ways) == 0 {
		return w.remedy(v.Scope, v.Demand.Setting, band)
	}
	var steps []string
	if v.Kind == check.Missing {
		var unknown []string
		for _, id := range v.Demand.Involved() {
			if x := v.Scope.Settings[id]; x.Missing != govern.Present && x.Missing != govern.NoSuch &&
				(id != v.Demand.Setting || len(taken.Beside) > 0) {
				unknown = append(unknown, strings.ToLower(setting.Get(id).Title))
			}
		}
		if len(unknown) > 0 {
			steps = append(steps, "Collect what tells the "+strings.Join(unknown, " and the ")+", or:")
		}
	}
	if e.Missing != govern.Present || !band.Has(e.Value) {
		steps = append(steps, w.remedy(v.Scope, v.Demand.Setting, band))
	}
	for _, n := range taken.Beside {
		if x := v.Scope.Settings[n.Demand.Setting]; x.Missing != govern.Present || !n.Demand.Met(x.Value) {
			steps = append(steps, w.remedy(v.Scope, n.Demand.Setting, n.Demand.Band()))
		}
	}
	return strings.Join(append(steps, "Another of the ways demanded will do as well."), " ")
}

// remedy says what to do, naming the setting as the place calls it and the
// value in that place's unit.
func (w *Writing) remedy(scope *govern.Scope, id setting.ID, band baseline.Band) string {
	s := setting.Get(id)
	e := scope.Settings[id]
	switch {
	case e.Missing == govern.NoSuch:
		return "Nothing here can set it; meet the demand by another measure, and record that."
	case e.Missing == govern.Unproven:
		return "Export the policy containers with nTSecurityDescriptor and all their attributes, and the templates of all linked " +
			"policies, and gather again."
	case e.Remedy != "" && e.Missing != govern.Present:
		return e.Remedy
	case scope.Why != "":
		return "Export the policies whole, with an account that may read them, and gather again."
	case e.Missing == govern.Unreadable:
		return "Correct the value where it is set, export again, and gather."
	case e.Missing == govern.NotSet && scope.Settings[setting.LockoutThreshold].Value.Is(setting.Never):
		return "Set a lockout threshold first, and with it this to " + band.Text() + "."
	case e.Missing != govern.Present:
		return fmt.Sprintf("Collect it, and set %s to %s.", strings.ToLower(s.Title), band.Text())
	}
	value := band.Nearest(e.Value)
	meant := s.Text(value) + orMore(s, band, value)
	if e.Remedy != "" {
		return e.Remedy
	}
	own := w.Written(e, value)
	head := fmt.Sprintf("Set the %s to %s: ", strings.ToLower(s.Title), meant)
	if value == setting.On || value == setting.Off {
		head = s.Switched(meant) + ": "
	}
	at := scope.Authority.Label()
	// What decides the value is not always where it is set.
	if name, module := w.askedAs(scope.Platform(), s.ID); name != "" && own == "" && e.Cite.Where != name {
		own = w.named(name, value)
		return head + fmt.Sprintf("%s of %s on %s%s, and see that it counts: what holds now comes from %s.", name, cmp.Or(module, e.From), at,
			written(own, meant), place(e))
	}
	where := place(e) + " of " + e.From
	if !strings.Contains(e.From, at) {
		where += ", " + at
	}
	if name := w.editor(scope, s.ID); name != "" {
		if own = written(own, meant); own != "" {
			own = "; " + own[len(" ("):len(own)-len(")")]
		}
		return head + name + " (" + where + own + ")."
	}
	return head + where + written(own, meant) + "."
}

// written is the written form in brackets, where it is not plain already.
func written(own, meant string) string {
	if own == "" || meant == own || strings.HasPrefix(meant, own+" ") {
		return ""
	}
	return " (written " + own + ")"
}

// orMore says which other values of the band would do as well.
func orMore(s *setting.Setting, band baseline.Band, value setting.Value) string {
	text := ""
	if _, isNumber := value.Number(); isNumber && band.Only == nil {
		switch {
		case band.High == nil:
			text = " or more"
		case band.Low == nil:
			text = " or less"
		}
	}
	for _, sp := range band.Specials {
		if setting.Of(sp) != value {
			text += ", or " + s.Text(setting.Of(sp))
		}
	}
	return text
}

func place(e govern.Effective) string {
	if e.Cite.Where == "" {
		return "the setting"
	}
	return e.Cite.Where
}

// Counts counts each scope's verdicts, each setting once and at its worst. A
// scope that no baseline speaks of has none.
func (r *Result) Counts() map[*govern.Scope]map[check.Kind]int {
	type about struct {
		scope   *govern.Scope
		setting setting.ID
	}
	worst := map[about]check.Kind{}
	for i := range r.Verdicts {
		v := &r.Verdicts[i]
		key := about{scope: v.Scope, setting: v.Demand.Setting}
		if old, ok := worst[key]; !ok || v.Kind.Rank() > old.Rank() {
			worst[key] = v.Kind
		}
	}
	counts := map[*govern.Scope]map[check.Kind]int{}
	for key, k := range worst {
		if counts[key.scope] == nil {
			counts[key.scope] = map[check.Kind]int{}
		}
		counts[key.scope][k]++
	}
	return counts
}
