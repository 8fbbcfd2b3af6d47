// Package weigh compares what governs each account scope with what baselines
// demand, and looks for settings that defeat each other.
package weigh

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Kind is the verdict of one demand on one scope.
type Kind string

// The verdicts, from good to bad.
const (
	Holds       Kind = "holds"
	Missing     Kind = "missing"
	Conflicting Kind = "conflicting"
	Weak        Kind = "weak"
)

// Kinds lists the verdicts in the order in which pages count them.
var Kinds = []Kind{Holds, Weak, Conflicting, Missing, Waived}

var worse = []Kind{Holds, Waived, Missing, Conflicting, Weak}

// Rank orders verdicts; a higher rank is worse.
func (k Kind) Rank() int { return slices.Index(worse, k) }

// Verdict is the outcome of one demand of one baseline on one scope.
type Verdict struct {
	Scope    *govern.Scope
	Baseline *baseline.Baseline
	Demand   *baseline.Demand
	Kind     Kind
	Beneath  Kind   // of a waived one: what it would be
	Check    string // that defeats it
	Severity baseline.Severity
	Observed string
	Reason   string
	Evidence []estate.Cite
}

// Finding is a verdict that does not hold, or what a check found.
type Finding struct {
	Fingerprint string
	Alias       string // the fingerprint of versions before 0.2, which did not know the place's kind
	Kind        Kind
	Beneath     Kind    // of a waived one: what it would be
	Waiver      *Waiver // in force
	Check       string  // empty when a baseline's demand found it
	Severity    baseline.Severity
	Scope       *govern.Scope // nil: about the authority as a whole
	Authority   *estate.Authority
	About       string   // what the finding is about where the settings do not say it
	Accounts    *int     // nil: the evidence names no accounts
	Examples    []string // the first few of the accounts
	Rows        []int    // of the accounts, where they are not the whole scope
	Settings    []setting.ID
	Observed    string
	Demanded    string
	Reason      string
	Remedy      string
	Evidence    []estate.Cite
	Baselines   []Source
}

// ScopeName is the scope the finding is about, or the authority.
func (f *Finding) ScopeName() string {
	if f.Scope == nil {
		return f.Authority.Label()
	}
	return f.Scope.Name()
}

// Head names in a few words what the finding is about.
func (f *Finding) Head() string {
	if f.Check == "" {
		return setting.Get(f.Settings[0]).Title
	}
	return f.Check
}

// Headline is the head, with the value where that is what is wrong.
func (f *Finding) Headline() string {
	if f.Check == "" && f.Kind == Weak {
		return f.Head() + ": " + f.Observed
	}
	return f.Head()
}

// Source names a baseline and the section of it that a finding fails.
type Source struct{ ID, Ref string }

// Result is one weighing.
type Result struct {
	Scopes   []*govern.Scope
	Verdicts []Verdict
	Findings []Finding
	Idle     []Idle  // demands on settings that a platform does not have
	SetAside []Aside // demands that a decision of the engagement sets aside
	Waivers  []Waiver
	// Unweighed are the places that no chosen baseline covers.
	Unweighed []Unweighed
}

// Unweighed is a place that no chosen baseline covers, with the shipped ones
// that would.
type Unweighed struct {
	Authority *estate.Authority
	Fitting   []string
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
	Expect    Expectation
	Day       func(unix int64) string // writes a day; nil: days are left out
	// Fitting returns the ids of baselines that cover a platform; nil: none known.
	Fitting func(p setting.Platform) []string
}

// demandsOn returns the demands on a scope, by setting, after the decisions.
func (c *Choice) demandsOn(r *Result, scope *govern.Scope) map[setting.ID][]baseline.Named {
	factor := baseline.Only
	if word, _ := scope.Settings["mfa"].Value.Word(); word == "all" {
		factor = baseline.Second
	}
	all := map[setting.ID][]baseline.Named{}
	for _, b := range c.Baselines(scope.Authority, scope.Tier) {
		for _, d := range b.For(scope.Authority.Platform, scope.Tier, factor) {
			n := baseline.Named{Baseline: b, Demand: d}
			named := slices.Contains(d.Platforms, scope.Authority.Platform)
			switch {
			case !scope.Here(d.Setting): // the domain's own scope has the verdict
			case scope.Settings[d.Setting].Missing == govern.NoSuch && !named:
				r.Idle = append(r.Idle, Idle{scope, n})
			default:
				all[d.Setting] = append(all[d.Setting], n)
			}
		}
	}
	for i := range c.Decisions {
		x := &c.Decisions[i]
		demands := all[x.Setting]
		if !slices.ContainsFunc(demands, func(n baseline.Named) bool { return n.Baseline.ID == x.Follow }) {
			continue
		}
		all[x.Setting] = nil
		for _, n := range demands {
			if n.Baseline.ID == x.Follow {
				all[x.Setting] = append(all[x.Setting], n)
			} else {
				r.SetAside = append(r.SetAside, Aside{scope, n, x})
			}
		}
	}
	return all
}

// Run weighs all scopes.
func Run(survey *govern.Survey, choice Choice) *Result {
	r := &Result{Scopes: survey.Scopes}
	expect := choice.Expect
	r.Findings = append(runExpectation(survey, expect), runGovernance(survey, choice.Day)...)
	for _, scope := range survey.Scopes {
		var found []Finding
		if scope.Elsewhere == nil { // else they were looked at where they are set
			found = runChecks(scope)
		}
		demands := choice.demandsOn(r, scope)
		for _, id := range sortedSettings(demands) {
			for _, n := range demands[id] {
				r.Verdicts = append(r.Verdicts, judge(scope, n.Baseline, n.Demand, found))
			}
		}
		r.Findings = append(r.Findings, found...)
	}
	r.Findings = append(r.Findings, fromVerdicts(r.Verdicts)...)
	r.notWeighed(survey, choice.Fitting)
	for i := range r.Findings {
		f := &r.Findings[i]
		f.Fingerprint, f.Alias = fingerprint(f), alias(f)
		if f.Scope != nil && f.Accounts == nil && f.Scope.Listed() {
			f.Accounts, f.Examples = &f.Scope.Accounts, names(f.Authority, f.Scope.Examples)
		}
	}
	r.sort()
	return r
}

// sort puts the findings in order: scope by scope, the worst first.
func (r *Result) sort() {
	place := map[*govern.Scope]int{nil: -1}
	for i, s := range r.Scopes {
		place[s] = i
	}
	slices.SortStableFunc(r.Findings, func(x, y Finding) int {
		return cmp.Or(cmp.Compare(place[x.Scope], place[y.Scope]), strings.Compare(x.Authority.Name, y.Authority.Name), strings.Compare(string(x.Authority.Kind), string(y.Authority.Kind)), cmp.Compare(y.Severity.Rank(), x.Severity.Rank()),
			cmp.Compare(y.Kind.Rank(), x.Kind.Rank()), slices.CompareFunc(x.Settings, y.Settings, setting.Order),
			strings.Compare(x.Check, y.Check), strings.Compare(x.About, y.About))
	})
}

// names returns the account names of rows.
func names(a *estate.Authority, rows []int) []string {
	var all []string
	for _, row := range rows {
		all = append(all, a.Objects.Name.At(row))
	}
	return all
}

// severityIn raises a severity one step in a privileged scope.
func severityIn(scope *govern.Scope, s baseline.Severity) baseline.Severity {
	if scope.Tier == govern.Privileged {
		return s.Raised()
	}
	return s
}

// judge gives one demand's verdict on one scope.
func judge(scope *govern.Scope, b *baseline.Baseline, d *baseline.Demand, found []Finding) Verdict {
	s := setting.Get(d.Setting)
	e := scope.Settings[d.Setting]
	v := Verdict{Scope: scope, Baseline: b, Demand: d, Observed: "-", Severity: severityIn(scope, d.Severity)}
	if e.Cite.File != "" {
		v.Evidence = []estate.Cite{e.Cite}
	}
	switch {
	case e.Missing == govern.Unreadable:
		v.Kind, v.Reason = Missing, fmt.Sprintf("%s: %s", e.Missing, e.Problem)
	case e.Missing == govern.Unproven:
		v.Kind, v.Reason = Missing, fmt.Sprintf("%s (%s) by %s; %s", strings.ToLower(s.Title), s.Text(e.Value), e.From, e.Missing)
		if e.Open != "" {
			v.Reason += ": " + e.Open
		}
	case e.Missing == govern.NotCollected && scope.Why != "":
		v.Kind, v.Reason = Missing, scope.Why
	case e.Missing != govern.Present:
		v.Kind, v.Reason = Missing, string(e.Missing)
	case !d.Met(e.Value):
		v.Kind, v.Observed, v.Reason = Weak, s.Text(e.Value), shortfall(s, d, e.Value)
	default:
		v.Kind, v.Observed = Holds, s.Text(e.Value)
		for _, f := range found {
			if f.Kind == Conflicting && slices.Contains(checkNamed(f.Check).Defeats, d.Setting) {
				v.Kind, v.Check, v.Reason = Conflicting, f.Check, "meets the demand on paper, but: "+f.Reason
				v.Evidence = f.Evidence
				break
			}
		}
	}
	return v
}

// shortfall says how far a known value misses the demand.
func shortfall(s *setting.Setting, d *baseline.Demand, v setting.Value) string {
	have, isNumber := v.Number()
	limit, hasLimit := d.Values[0].Number()
	if !isNumber || !hasLimit || d.Kind == baseline.OneOf {
		return d.Why
	}
	if d.Kind == baseline.Between && have > limit {
		limit, _ = d.Values[1].Number()
	}
	by := s.Text(setting.Number(max(limit-have, have-limit)))
	way := "too many"
	switch {
	case have < limit:
		way = "short"
	case s.Kind == setting.Duration:
		way = "too long"
	}
	return fmt.Sprintf("%s %s. %s", by, way, d.Why)
}

// fromVerdicts makes the findings of the demands that do not hold: one for
// each scope and setting, however many baselines it fails, with one remedy that
// satisfies all.
func fromVerdicts(verdicts []Verdict) []Finding {
	var all []Finding
	for len(verdicts) > 0 {
		n := 1
		for n < len(verdicts) && verdicts[n].Scope == verdicts[0].Scope && verdicts[n].Demand.Setting == verdicts[0].Demand.Setting {
			n++
		}
		if f := merged(verdicts[:n]); f != nil {
			all = append(all, *f)
		}
		verdicts = verdicts[n:]
	}
	return all
}

// merged makes one finding of the verdicts on a setting of a scope.
func merged(verdicts []Verdict) *Finding {
	var worst *Verdict
	var demands []baseline.Named
	var failed []Source
	severity := baseline.Minor
	for i := range verdicts {
		v := &verdicts[i]
		demands = append(demands, baseline.Named{Baseline: v.Baseline, Demand: v.Demand})
		// A demand that a check defeats is told by the check's own finding.
		if v.Kind == Holds || v.Kind == Conflicting {
			continue
		}
		if worst == nil || v.Severity.Rank() > worst.Severity.Rank() {
			worst = v
		}
		if v.Severity.Rank() > severity.Rank() {
			severity = v.Severity
		}
		failed = append(failed, Source{v.Baseline.ID, v.Demand.Ref})
	}
	if worst == nil {
		return nil
	}
	band, exclude := baseline.Together(demands)
	f := &Finding{Kind: worst.Kind, Severity: severity, Scope: worst.Scope, Authority: worst.Scope.Authority, Settings: []setting.ID{worst.Demand.Setting},
		Observed: worst.Observed, Demanded: band.Text(), Reason: worst.Reason, Evidence: worst.Evidence, Baselines: failed}
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
		return f
	}
	f.Remedy = remedy(worst, band)
	return f
}

// remedy says what to do, naming the setting as the place calls it and the
// value in that place's unit.
func remedy(v *Verdict, band baseline.Band) string {
	s := setting.Get(v.Demand.Setting)
	e := v.Scope.Settings[s.ID]
	switch {
	case e.Missing == govern.NoSuch:
		return "Nothing here can set it; meet the demand by another measure, and record that."
	case e.Missing == govern.Unproven:
		return "Export the policy containers with nTSecurityDescriptor and all their attributes, and the templates of all linked policies, and gather again."
	case e.Remedy != "" && e.Missing != govern.Present:
		return e.Remedy
	case v.Scope.Why != "":
		return "Export the policies whole, with an account that may read them, and gather again."
	case e.Missing == govern.Unreadable:
		return "Correct the value where it is set, export again, and gather."
	case e.Missing == govern.NotSet && v.Scope.Settings["lockout-threshold"].Value.Is(setting.Never):
		return "Nothing locks here: set the lockout threshold first, and this with it to " + band.Text() + "."
	case e.Missing != govern.Present:
		return fmt.Sprintf("Collect it, and set %s to %s.", strings.ToLower(s.Title), band.Text())
	}
	value := band.Nearest(e.Value)
	meant := s.Text(value) + orMore(s, band, value)
	if e.Remedy != "" {
		return e.Remedy
	}
	// What decides the value is not always where it is set.
	if name, module := setting.AskedAs(v.Scope.Platform(), s.ID); name != "" && e.Written(value) == "" && e.Cite.Where != name {
		if own := setting.Written(name, "", value); own != "" {
			meant = fmt.Sprintf("%s (%s)", own, meant)
		}
		return fmt.Sprintf("Set %s of %s to %s, and see that it counts: what holds now comes from %s.", name, cmp.Or(module, e.From), meant, place(e))
	}
	if own := e.Written(value); own != "" && own != s.Text(value) {
		return fmt.Sprintf("Set %s of %s to %s (%s).", place(e), e.From, own, meant)
	}
	return fmt.Sprintf("Set %s of %s to %s.", place(e), e.From, meant)
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

// fingerprint names a finding by what it is about, not by how bad it is, so
// that it keeps its name from one weighing to the next.
func fingerprint(f *Finding) string {
	about := []string{string(f.Authority.Kind), f.Authority.Name, f.Check, f.About}
	if s := f.Scope; s != nil {
		id := s.ID()
		about = append(about, id.Name, id.Origin, string(id.From.Kind), id.From.Name, id.Tier)
	}
	if f.Check == "" { // a check's settings can be more or fewer next time
		about = append(about, string(f.Settings[0]))
	}
	return govern.Fingerprint(about...)
}

// alias is the fingerprint that the first versions gave: waivers on record are
// on it. It can fit two places of one name.
func alias(f *Finding) string {
	about := []string{f.Authority.Name, f.Check, f.About}
	if s := f.Scope; s != nil {
		about = append(about, s.PolicyName(), s.Tier)
		if s.Policy != nil {
			about = append(about, s.Policy.Origin)
		}
	}
	if f.Check == "" { // a check's settings can be more or fewer next time
		about = append(about, string(f.Settings[0]))
	}
	sum := sha256.Sum256([]byte(strings.Join(about, "\x00")))
	return hex.EncodeToString(sum[:6])
}

// Counts counts each scope's verdicts, each setting once and at its worst. A
// scope that no baseline speaks of has none.
func (r *Result) Counts() map[*govern.Scope]map[Kind]int {
	type about struct {
		scope   *govern.Scope
		setting setting.ID
	}
	worst := map[about]Kind{}
	for i := range r.Verdicts {
		v := &r.Verdicts[i]
		key := about{v.Scope, v.Demand.Setting}
		if old, ok := worst[key]; !ok || v.Kind.Rank() > old.Rank() {
			worst[key] = v.Kind
		}
	}
	counts := map[*govern.Scope]map[Kind]int{}
	for key, k := range worst {
		if counts[key.scope] == nil {
			counts[key.scope] = map[Kind]int{}
		}
		counts[key.scope][k]++
	}
	return counts
}
