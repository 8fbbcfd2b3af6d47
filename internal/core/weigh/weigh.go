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
var Kinds = []Kind{Holds, Weak, Conflicting, Missing}

var worse = []Kind{Holds, Missing, Conflicting, Weak}

// Rank orders verdicts; a higher rank is worse.
func (k Kind) Rank() int { return slices.Index(worse, k) }

// Verdict is the outcome of one demand of one baseline on one scope.
type Verdict struct {
	Scope    *govern.Scope
	Baseline *baseline.Baseline
	Demand   *baseline.Demand
	Kind     Kind
	Severity baseline.Severity
	Observed string
	Reason   string
	Evidence []estate.Cite
}

// Finding is a verdict that does not hold, or what a check found.
type Finding struct {
	Fingerprint string
	Kind        Kind
	Check       string // empty when a baseline's demand found it
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
		return f.Authority.Name
	}
	return f.Scope.Name()
}

// Headline says in a few words what the finding is about.
func (f *Finding) Headline() string {
	if f.Check == "" {
		text := setting.Get(f.Settings[0]).Title
		if f.Kind == Weak {
			text += ": " + f.Observed
		}
		return text
	}
	return f.Check
}

// Source names a baseline and the section of it that a finding fails.
type Source struct{ ID, Ref string }

// Result is one weighing.
type Result struct {
	Scopes   []*govern.Scope
	Verdicts []Verdict
	Findings []Finding
}

// Run weighs all scopes. chosen returns the baselines for an authority.
func Run(survey *govern.Survey, chosen func(*estate.Authority) []*baseline.Baseline, expect Expectation) *Result {
	r := &Result{Scopes: survey.Scopes}
	r.Findings = append(runExpectation(survey, expect), runGovernance(survey)...)
	for _, scope := range survey.Scopes {
		var found []Finding
		if scope.Elsewhere == nil { // else they were looked at where they are set
			found = runChecks(scope)
		}
		for _, b := range chosen(scope.Authority) {
			if !b.Covers(scope.Authority.Platform) {
				continue
			}
			for i := range b.Demands {
				if scope.Elsewhere != nil && !govern.TenantsOwn(b.Demands[i].Setting) {
					continue // the domain's own scope has the verdict
				}
				r.Verdicts = append(r.Verdicts, judge(scope, b, &b.Demands[i], found))
			}
		}
		r.Findings = append(r.Findings, found...)
	}
	r.Findings = append(r.Findings, fromVerdicts(r.Verdicts)...)
	for i := range r.Findings {
		f := &r.Findings[i]
		f.Fingerprint = fingerprint(f)
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
		return cmp.Or(cmp.Compare(place[x.Scope], place[y.Scope]), strings.Compare(x.Authority.Name, y.Authority.Name), cmp.Compare(y.Severity.Rank(), x.Severity.Rank()),
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
				v.Kind, v.Reason = Conflicting, "meets the demand on paper, but: "+f.Reason
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
	way := "too much"
	if have < limit {
		way = "too little"
	}
	return fmt.Sprintf("%s %s. %s", by, way, d.Why)
}

// fromVerdicts makes the findings of the demands that do not hold: one for
// each scope and setting, however many baselines it fails.
func fromVerdicts(verdicts []Verdict) []Finding {
	type key struct {
		scope *govern.Scope
		id    setting.ID
	}
	at := map[key]int{}
	var all []Finding
	for i := range verdicts {
		v := &verdicts[i]
		// A demand that a check defeats is told by the check's own finding.
		if v.Kind == Holds || v.Kind == Conflicting {
			continue
		}
		k := key{v.Scope, v.Demand.Setting}
		source := Source{v.Baseline.ID, v.Demand.Ref}
		if n, ok := at[k]; ok {
			f := &all[n]
			f.Baselines = append(f.Baselines, source)
			if v.Severity.Rank() > f.Severity.Rank() {
				f.Severity = v.Severity
			}
			continue
		}
		at[k] = len(all)
		all = append(all, Finding{Kind: v.Kind, Severity: v.Severity, Scope: v.Scope, Authority: v.Scope.Authority, Settings: []setting.ID{v.Demand.Setting},
			Observed: v.Observed, Demanded: v.Demand.Text(), Reason: v.Reason, Remedy: remedy(v), Evidence: v.Evidence, Baselines: []Source{source}})
	}
	return all
}

// remedy says what to do, naming the setting as the place calls it.
func remedy(v *Verdict) string {
	s := setting.Get(v.Demand.Setting)
	e := v.Scope.Settings[s.ID]
	switch {
	case e.Missing == govern.NoSuch:
		return "Nothing here can set it; meet the demand by another measure, and record that."
	case v.Scope.Why != "":
		return "Export the fine-grained policies whole, with an account that may read them, and gather again."
	case e.Missing == govern.Unreadable:
		return "Correct the value where it is set, export again, and gather."
	case e.Missing != govern.Present:
		return fmt.Sprintf("Collect it, and set %s to %s.", strings.ToLower(s.Title), v.Demand.Text())
	}
	return fmt.Sprintf("Set %s of %s to %s.", place(e), e.From, v.Demand.Text())
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

// Counts counts a scope's verdicts, each setting once and at its worst.
func (r *Result) Counts(scope *govern.Scope) map[Kind]int {
	worst := map[setting.ID]Kind{}
	for i := range r.Verdicts {
		if v := &r.Verdicts[i]; v.Scope == scope {
			if old, ok := worst[v.Demand.Setting]; !ok || v.Kind.Rank() > old.Rank() {
				worst[v.Demand.Setting] = v.Kind
			}
		}
	}
	counts := map[Kind]int{}
	for _, k := range worst {
		counts[k]++
	}
	return counts
}
