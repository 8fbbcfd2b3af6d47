package check

import (
	"fmt"
	"slices"
	"strings"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
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
	Ended       map[string]bool         // names of places out of service, in lower case: nothing is expected of them
	Idle        []IdleName              // words of the engagement that mean nothing in the evidence
}

// IdleName is a word of the engagement that means nothing in the evidence: what it decides, it
// decides for nobody.
type IdleName struct {
	As      string // "a group of the tier privileged"
	Name    string
	Nearest string // what is there and is spelt most like it; empty: nothing is
}

// completenessChecks look at what the evidence covers.
var completenessChecks = []Check{
	{
		Name: "authority-missing", Title: "Expected evidence is missing", Kind: Missing, Severity: baseline.Serious,
		Doc: "The engagement expects evidence of an authority or machine, and there is none.",
		Run: notGathered,
	},
	{
		Name: "name-means-nothing", Title: "The engagement names what is not in the evidence", Kind: Missing, Severity: baseline.Serious,
		Doc: "A name in engagement.yaml fits nothing in the evidence: a place, a group, an account, a unit or a policy. What it decides, it " +
			"decides for nobody.",
		Run: meansNothing,
	},
	{
		Name: "evidence-old", Title: "Evidence is older than the engagement allows", Kind: Missing, Severity: baseline.Serious,
		Doc: "The newest evidence of an authority is older than the engagement allows.",
		Run: tooOld,
	},
	{
		Name: "not-weighed", Title: "No chosen baseline covers a place", Kind: Missing, Severity: baseline.Serious,
		Doc: "No chosen baseline covers a place: nothing there was held against anything.",
		Run: notCovered,
	},
	{
		Name: "evidence-not-understood", Title: "Lines were not understood", Kind: Missing, Severity: baseline.Minor,
		Doc: "Something in a file was taken and not understood.",
		Run: func(p *Pass) {
			for _, a := range p.Estate.Authorities {
				notUnderstood(p, a)
			}
		},
	},
}

// notGathered reports what the engagement expects and nothing was gathered of.
func notGathered(p *Pass) {
	expect := func(at estate.Place, list string, is func(a *estate.Authority) bool) {
		if !p.Expect.Ended[strings.ToLower(at.Name)] && !slices.ContainsFunc(p.Estate.Authorities, is) {
			p.report(Finding{Authority: &estate.Authority{Name: at.Name, Kind: at.Kind},
				Reason: "the engagement expects evidence of " + at.Name + ", and there is none",
				Remedy: "Collect its export and gather it, or take it off the list (expect: " + list + ")."}, "", nil)
		}
	}
	for _, name := range p.Expect.Authorities {
		expect(estate.Place{Name: name}, "authorities", func(a *estate.Authority) bool { return a.Place().Means(name) })
	}
	machines := map[string]bool{}
	for _, a := range p.Estate.Authorities {
		if a.Kind == estate.Machine {
			machines[strings.ToLower(a.Name)] = true
		}
	}
	for _, name := range p.Expect.Machines {
		at := estate.Place{Name: name, Kind: estate.Machine}
		expect(at, "machines-from", func(*estate.Authority) bool { return machines[strings.ToLower(name)] })
	}
}

// meansNothing reports the engagement's names that fit nothing.
func meansNothing(p *Pass) {
	for _, x := range p.Expect.Idle {
		remedy := "Correct it in engagement.yaml, gather what it means, or take it out."
		if x.Nearest != "" {
			remedy = "Did you mean " + x.Nearest + "? " + remedy
		}
		p.report(Finding{Authority: &estate.Authority{Name: "engagement.yaml"}, Remedy: remedy,
			Reason: x.Name + ", " + x.As + ", fits nothing in the evidence"}, x.As+" "+x.Name, nil)
	}
}

// tooOld reports the places of which even the newest evidence is old.
func tooOld(p *Pass) {
	for _, a := range p.Estate.Authorities {
		newest := int64(-1)
		for _, file := range a.Files {
			if age := p.Expect.Age(file); newest < 0 || age < newest {
				newest = age
			}
		}
		if p.Expect.MaxAge == 0 || newest <= p.Expect.MaxAge {
			continue
		}
		p.report(Finding{Authority: a, Remedy: "Export again, and gather.", Evidence: []estate.Cite{{File: a.Files[len(a.Files)-1], Line: 1}},
			Reason: fmt.Sprintf("the newest evidence is %d days old, and the engagement allows %s: what holds today was not collected",
				newest/day, setting.Span(p.Expect.MaxAge))},
			"", nil)
	}
}

// notCovered reports them.
func notCovered(p *Pass) {
	for _, u := range p.Unweighed {
		a := u.Authority
		f := Finding{Authority: a, Reason: fmt.Sprintf("no chosen baseline covers %s (%s): nothing here was held against anything",
			a.Label(), a.Platform),
			Remedy: "Choose one with \"sternledger baseline choose\", or with --against: of the shipped ones, " +
				strings.Join(u.Fitting, ", ") + "."}
		if len(u.Fitting) == 0 {
			f.Remedy = "None of the shipped baselines does: write one (sternledger baseline new)."
		}
		if len(a.Files) > 0 {
			f.Evidence = []estate.Cite{{File: a.Files[0], Line: 1}}
		}
		p.report(f, "", nil)
	}
}

// notUnderstood reports, for each file that an authority's facts come from,
// what in it was passed over.
func notUnderstood(p *Pass, a *estate.Authority) {
	for _, file := range a.Files {
		var texts []string
		var lines []estate.Cite
		for _, x := range p.Expect.Problems {
			// What belongs to one group or policy has a finding of its own.
			if x.Cite.File == file && !slices.ContainsFunc(a.Problems, func(own estate.Problem) bool { return own.Cite == x.Cite }) {
				texts, lines = append(texts, x.Text), append(lines, x.Cite)
			}
		}
		if len(lines) > 0 {
			p.report(Finding{Authority: a, Reason: fmt.Sprintf("%s of %s not understood; the first: %s", number(len(lines), "line"), file, texts[0]),
				Remedy: "Look at the lines, and export again what is damaged.", Evidence: lines[:min(len(lines), mostExamples)]}, file, nil)
		}
	}
}
