package weigh

import (
	"fmt"
	"slices"
	"strings"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Expectation is what an engagement expects of its evidence. Ages are in
// seconds.
type Expectation struct {
	Authorities []string                // by name, or by name and kind
	Machines    []string                // by name
	MaxAge      int64                   // 0: any age
	Age         func(file string) int64 // of a file of evidence
	Problems    []estate.Problem        // what was taken and not understood
}

// Names of the checks on completeness, which need no authority to look at.
const (
	notGathered = "authority-missing"
	tooOld      = "evidence-old"
	notRead     = "evidence-not-understood"
	notCovered  = "not-weighed"
)

// completenessChecks tells of them.
var completenessChecks = []Described{
	{notGathered, "completeness", Missing, baseline.Serious, nil, "The engagement expects evidence of an authority or machine, and there is none."},
	{tooOld, "completeness", Missing, baseline.Serious, nil, "The newest evidence of an authority is older than the engagement allows."},
	{notCovered, "completeness", Missing, baseline.Serious, nil, "No chosen baseline covers a place: nothing there was held against anything."},
	{notRead, "completeness", Missing, baseline.Minor, nil, "Something in a file was taken and not understood."},
}

// runExpectation reports what gave no evidence, and what is too old.
func runExpectation(s *govern.Survey, e Expectation) []Finding {
	var found []Finding
	expect := func(at estate.Place, list string, is func(a *estate.Authority) bool) {
		if !slices.ContainsFunc(s.Estate.Authorities, is) {
			found = append(found, Finding{Kind: Missing, Check: notGathered, Severity: baseline.Serious, Authority: &estate.Authority{Name: at.Name, Kind: at.Kind},
				Reason: "the engagement expects evidence of " + at.Name + ", and there is none", Remedy: "Collect its export and gather it, or take it off the list (expect: " + list + ")."})
		}
	}
	for _, name := range e.Authorities {
		expect(estate.Place{Name: name}, "authorities", func(a *estate.Authority) bool { return a.Place().Means(name) })
	}
	machines := map[string]bool{}
	for _, a := range s.Estate.Authorities {
		if a.Kind == estate.Machine {
			machines[strings.ToLower(a.Name)] = true
		}
	}
	for _, name := range e.Machines {
		expect(estate.Place{Name: name, Kind: estate.Machine}, "machines-from", func(*estate.Authority) bool { return machines[strings.ToLower(name)] })
	}
	for _, a := range s.Estate.Authorities {
		newest := int64(-1)
		for _, file := range a.Files {
			if age := e.Age(file); newest < 0 || age < newest {
				newest = age
			}
		}
		if e.MaxAge > 0 && newest > e.MaxAge {
			const day = 24 * 60 * 60
			found = append(found, Finding{Kind: Missing, Check: tooOld, Severity: baseline.Serious, Authority: a,
				Reason: fmt.Sprintf("the newest evidence is %d days old, and the engagement allows %s: what holds today was not collected", newest/day, setting.Span(e.MaxAge)),
				Remedy: "Export again, and gather.", Evidence: []estate.Cite{{File: a.Files[len(a.Files)-1], Line: 1}}})
		}
		found = append(found, notUnderstood(a, e.Problems)...)
	}
	return found
}

// notWeighed finds the places on which no demand was weighed.
func (r *Result) notWeighed(s *govern.Survey, fitting func(setting.Platform) []string) {
	weighed := map[*estate.Authority]bool{}
	for i := range r.Verdicts {
		weighed[r.Verdicts[i].Scope.Authority] = true
	}
	for _, a := range s.Estate.Authorities {
		if weighed[a] {
			continue
		}
		u := Unweighed{Authority: a, Fitting: []string{}}
		if fitting != nil {
			u.Fitting = append(u.Fitting, fitting(a.Platform)...)
		}
		r.Unweighed = append(r.Unweighed, u)
		f := Finding{Kind: Missing, Check: notCovered, Severity: baseline.Serious, Authority: a, Reason: fmt.Sprintf("no chosen baseline covers %s (%s): nothing here was held against anything", a.Label(), a.Platform),
			Remedy: "Choose one under \"baselines:\" in engagement.yaml, or with --against: of the shipped ones, " + strings.Join(u.Fitting, ", ") + "."}
		if len(u.Fitting) == 0 {
			f.Remedy = "None of the shipped baselines does: write one (sternledger baseline new)."
		}
		if len(a.Files) > 0 {
			f.Evidence = []estate.Cite{{File: a.Files[0], Line: 1}}
		}
		r.Findings = append(r.Findings, f)
	}
}

// notUnderstood reports, for each file that an authority's facts come from,
// what in it was passed over.
func notUnderstood(a *estate.Authority, problems []estate.Problem) []Finding {
	var found []Finding
	for _, file := range a.Files {
		var texts []string
		var lines []estate.Cite
		for _, p := range problems {
			// What belongs to one group or policy has a finding of its own.
			if p.Cite.File == file && !slices.ContainsFunc(a.Problems, func(own estate.Problem) bool { return own.Cite == p.Cite }) {
				texts, lines = append(texts, p.Text), append(lines, p.Cite)
			}
		}
		if len(lines) > 0 {
			found = append(found, Finding{Kind: Missing, Check: notRead, Severity: baseline.Minor, Authority: a, About: file,
				Reason: fmt.Sprintf("%s of %s not understood; the first: %s", number(len(lines), "line"), file, texts[0]),
				Remedy: "Look at the lines, and export again what is damaged.", Evidence: lines[:min(len(lines), mostExamples)]})
		}
	}
	return found
}
