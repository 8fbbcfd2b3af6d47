package report

import (
	"crypto/sha256"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strings"

	"sternledger/internal/assess"
	"sternledger/internal/core/check"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
	"sternledger/internal/custody"
	"sternledger/internal/page"
)

type object = map[string]any

// ruleOf names what a finding is an instance of: a check, or a setting.
func ruleOf(f *check.Finding) string {
	if f.Check != "" {
		return f.Check
	}
	return string(f.Settings[0])
}

// lookUp is the command that tells of a rule.
func lookUp(f *check.Finding) string {
	if f.Check != "" {
		return "sternledger checks"
	}
	return "sternledger settings"
}

// levels are SARIF's words for our severities.
var levels = map[string]string{"grave": "error", "serious": "warning", "minor": "note"}

// evidenceURI is a stored file's place, seen from the engagement's folder.
func evidenceURI(name string) string {
	return (&url.URL{Path: custody.EvidenceDir + "/" + name}).EscapedPath()
}

// reportSARIF writes the findings in the Static Analysis Results Interchange
// Format, version 2.1.0 (OASIS). A waived finding is a suppressed result.
func reportSARIF(w io.Writer, r *assess.Report) error {
	titles, docs := map[string]string{}, map[string]string{}
	for _, c := range check.All {
		titles[c.Name], docs[c.Name] = c.Title, c.Doc
	}
	for _, s := range setting.Table() {
		titles[string(s.ID)], docs[string(s.ID)] = s.Title, s.Meaning
	}
	matters := map[*check.Finding]*record.Matter{}
	for _, m := range r.Weighing.Matters() {
		for _, f := range m.Findings {
			matters[f] = m
		}
	}
	var rules []object
	index := map[string]int{}
	results := []object{}
	for i := range r.Weighing.Findings {
		f := &r.Weighing.Findings[i]
		id := ruleOf(f)
		if _, known := index[id]; !known {
			index[id] = len(rules)
			rules = append(rules, object{"id": id, "shortDescription": object{"text": page.Clean(titles[id])},
				"fullDescription": object{"text": page.Clean(docs[id])},
				"help": object{"text": page.Clean(docs[id] + " Fix: " + f.Remedy),
					"markdown": page.Clean(docs[id]) + "\n\nSee [the formats](docs/formats.md) and `" + lookUp(f) + "`."},
				"defaultConfiguration": object{"level": levels[string(f.Severity)]}})
		}
		text := fmt.Sprintf("%s: %s. %s Fix: %s", f.ScopeName(), strings.TrimSuffix(f.Headline(), "."), sentenceOf(f.Reason), sentenceOf(f.Remedy))
		result := object{"ruleId": id, "ruleIndex": index[id], "level": levels[string(f.Severity)], "kind": "fail",
			"message":             object{"text": page.Clean(text)},
			"partialFingerprints": object{"sternledger/1": f.Fingerprint},
			"properties": object{"matter": matters[f].Name, "matterFingerprint": matters[f].Fingerprint, "verdict": f.Kind, "severity": f.Severity,
				"scope": f.ScopeName(), "observed": f.Observed,
				"demanded": f.Required(), "worth": page.WorthCell(f.Worth), "remedy": f.Remedy, "baselines": sourceTexts(f)}}
		logical := []object{{"fullyQualifiedName": f.ScopeName(), "kind": "namespace"}}
		locations := []object{}
		for _, c := range f.Evidence {
			region := object{"startLine": max(c.Line, 1)}
			if c.Raw != "" {
				region["snippet"] = object{"text": c.Raw}
			}
			locations = append(locations,
				object{"physicalLocation": object{"artifactLocation": object{"uri": evidenceURI(c.File), "uriBaseId": "ENGAGEMENT"}, "region": region},
					"logicalLocations": logical})
		}
		if len(locations) == 0 {
			locations = append(locations, object{"logicalLocations": logical})
		}
		result["locations"] = locations
		if f.Waiver != nil {
			result["suppressions"] = []object{{"kind": "external", "status": "accepted",
				"justification": page.Clean(fmt.Sprintf("%s (by %s, until %s)", f.Waiver.Reason, f.Waiver.By, f.Waiver.Until))}}
		}
		results = append(results, result)
	}
	artifacts := []object{}
	for _, x := range r.Evidence {
		artifacts = append(artifacts, object{"location": object{"uri": evidenceURI(x.Name), "uriBaseId": "ENGAGEMENT"},
			"hashes": object{"sha-256": x.StoredSHA256}})
	}
	if rules == nil {
		rules = []object{}
	}
	return page.JSON(w, object{
		"$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json", "version": "2.1.0",
		"runs": []object{{
			"tool":               object{"driver": object{"name": "Stern Ledger", "version": custody.Version, "rules": rules}},
			"invocations":        []object{{"executionSuccessful": true, "endTimeUtc": r.Weighing.At.Format("2006-01-02T15:04:05Z")}},
			"originalUriBaseIds": object{"ENGAGEMENT": object{"description": object{"text": "the engagement's folder"}}},
			"artifacts":          artifacts, "results": results, "columnKind": "unicodeCodePoints",
			"properties": object{"weighing": r.Weighing.Number, "seal": r.Seal},
		}},
	})
}

func sourceTexts(f *check.Finding) []string {
	all := []string{}
	for _, b := range f.Baselines {
		all = append(all, b.String())
	}
	return all
}

// uuid makes a name-based identifier, so that the same weighing is written the
// same way. It is marked as version 5 (RFC 9562), since OSCAL takes only that
// and the random one; the hash is SHA-256.
func uuid(parts ...any) string {
	sum := sha256.Sum256([]byte(fmt.Sprintln(parts...)))
	b := sum[:16]
	b[6], b[8] = b[6]&0x0f|0x50, b[8]&0x3f|0x80
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}

// oscalVersion is the version of OSCAL that is written.
const oscalVersion = "1.1.2"

// reportOSCAL writes assessment results of the Open Security Controls
// Assessment Language (NIST): an observation for each finding with its evidence,
// and a finding for each setting or check on each scope that says whether the
// objective is satisfied.
func reportOSCAL(w io.Writer, r *assess.Report) error {
	at := r.Weighing.At.Format("2006-01-02T15:04:05Z")
	plan := uuid("plan", r.Title)
	prop := func(name string, value any) object {
		return object{"name": name, "ns": "https://sternledger.example/ns", "value": oneValue(fmt.Sprint(value))}
	}
	observations, findings := []object{}, []object{}
	type told struct {
		scope govern.ScopeID
		rule  string
	}
	failed := map[told]bool{}
	for i := range r.Weighing.Findings {
		f := &r.Weighing.Findings[i]
		if f.Scope != nil {
			failed[told{scope: f.Scope.ID(), rule: ruleOf(f)}] = true
		}
		evidence := []object{}
		for _, c := range f.Evidence {
			evidence = append(evidence, object{"href": evidenceURI(c.File) + fmt.Sprintf("#L%d", c.Line), "description": oneValue(page.CiteText(c))})
		}
		seen := uuid("observation", r.Seal, f.Fingerprint)
		observation := object{"uuid": seen, "title": oneValue(f.Headline()), "description": oneValue(f.Reason), "methods": []string{"EXAMINE"},
			"collected": at,
			"props":     []object{prop("fingerprint", f.Fingerprint), prop("verdict", f.Kind), prop("severity", f.Severity)}}
		if len(evidence) > 0 {
			observation["relevant-evidence"] = evidence
		}
		observations = append(observations, observation)
		finding := object{"uuid": uuid("finding", r.Seal, f.Fingerprint), "title": oneValue(f.ScopeName() + ": " + f.Headline()),
			"description": oneValue(f.Reason + " Remedy: " + f.Remedy),
			"target": object{"type": "objective-id", "target-id": token(ruleOf(f)), "title": oneValue(f.ScopeName()),
				"status": object{"state": "not-satisfied", "reason": "fail"}},
			"related-observations": []object{{"observation-uuid": seen}}, "props": []object{prop("scope", f.ScopeName())}}
		if f.Waiver != nil {
			finding["remarks"] = page.Clean(fmt.Sprintf("Waived until %s by %s: %s", f.Waiver.Until, f.Waiver.By, f.Waiver.Reason))
		}
		findings = append(findings, finding)
	}
	for i := range r.Weighing.Verdicts {
		v := &r.Weighing.Verdicts[i]
		key := told{scope: v.Scope.ID(), rule: string(v.Demand.Setting)}
		if v.Kind != check.Holds || failed[key] {
			continue
		}
		failed[key] = true // told
		findings = append(findings, object{"uuid": uuid("holds", r.Seal, key.scope.String(), key.rule),
			"title":       oneValue(v.Scope.Name() + ": " + setting.Get(v.Demand.Setting).Title),
			"description": oneValue("Observed: " + v.Observed + "; required: " + v.Demand.Text()),
			"target": object{"type": "objective-id", "target-id": token(string(v.Demand.Setting)), "title": oneValue(v.Scope.Name()),
				"status": object{"state": "satisfied", "reason": "pass"}}, "props": []object{prop("scope", v.Scope.Name())}})
	}
	var against []string
	for _, b := range r.Weighing.Baselines {
		against = append(against, b.String())
	}
	result := object{"uuid": uuid("result", r.Seal), "title": fmt.Sprintf("Weighing %d", r.Weighing.Number),
		"description": oneValue(strings.Join(summary(r), " ")), "start": at, "end": at,
		"reviewed-controls": object{"control-selections": []object{{"description": oneValue("Password and lockout settings, against " +
			strings.Join(against, ", ")), "include-all": object{}}}},
		"props": []object{prop("seal", r.Seal)}}
	if len(observations) > 0 {
		result["observations"] = observations
	}
	if len(findings) > 0 {
		result["findings"] = findings
	}
	return page.JSON(w, object{"assessment-results": object{
		"uuid": uuid("results", r.Seal),
		"metadata": object{"title": oneValue(r.Title), "last-modified": at, "version": fmt.Sprint(r.Weighing.Number),
			"oscal-version": oscalVersion,
			"parties":       []object{{"uuid": uuid("party", r.Auditor), "type": "person", "name": oneValue(r.Auditor)}}},
		"import-ap": object{"href": "#" + plan},
		"results":   []object{result},
		"back-matter": object{"resources": []object{{"uuid": plan, "title": "The engagement's configuration",
			"rlinks": []object{{"href": custody.ConfigName}}}}},
	}})
}

// oneValue makes a text that OSCAL takes where it wants one line: not empty,
// without spaces at its ends.
func oneValue(text string) string {
	if text = strings.Join(strings.Fields(page.Clean(text)), " "); text == "" {
		return "-"
	}
	return text
}

// token makes a name that OSCAL takes for one.
func token(name string) string {
	runes := []rune(name)
	for i, c := range runes {
		if !slices.Contains([]rune("-._"), c) && !('a' <= c && c <= 'z' || '0' <= c && c <= '9') {
			runes[i] = '-'
		}
	}
	return string(runes)
}
