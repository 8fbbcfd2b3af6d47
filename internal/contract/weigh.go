package contract

import (
	"math"
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/exposure"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
)

// WeighDocument is the output of weigh, and what the ledger keeps of it.
type WeighDocument struct {
	Schema    string                    `json:"schema"`
	Weighing  int64                     `json:"weighing"`
	At        string                    `json:"at"`
	Baselines []BaselineDocument        `json:"baselines"`
	Scopes    []ScopeCountDocument      `json:"scopes"`
	Verdicts  []VerdictDocument         `json:"verdicts"`
	Findings  []FindingDocument         `json:"findings"`
	SetAside  []AsideDocument           `json:"set_aside"`      // by decisions of the engagement
	Idle      []IdleDocument            `json:"not_applicable"` // the platform has no such setting
	Waivers   []WaiverDocument          `json:"waivers"`
	Unweighed []UnweighedDocument       `json:"unweighed"` // places that no chosen baseline covers
	Recorded  bool                      `json:"recorded"`  // now; else it is a trial, or says the same as the record of that number
	Trial     bool                      `json:"trial"`
	Reasons   []string                  `json:"reasons"` // for recording it: what differs from the record before
	MadeBy    string                    `json:"made_by"` // version of the program that judged, with its commit where that is known
	Totals    map[baseline.Severity]int `json:"totals"`  // findings, waived ones left out
	Matters   []MatterDocument          `json:"matters"` // in the order of the page
	Cohorts   []CohortDocument          `json:"cohorts"`
	Exposure  *ExposureDocument         `json:"exposure"` // null: a record of a version that valued nothing
}

// ExposureDocument is how many accounts would fall within a year under the assumptions: it
// compares, and does not foretell.
type ExposureDocument struct {
	Accounts   int                `json:"accounts"` // that a password opens, each counted once
	Privileged int                `json:"privileged"`
	Now        FallsDocument      `json:"now"`
	Mended     FallsDocument      `json:"mended"`  // if every finding were mended
	Changed    map[string]float64 `json:"changed"` // assumptions that are not the usual ones
}

// FallsDocument is numbers of accounts: what it is at least, what it is at documented
// defaults where the evidence is silent, and what it may be.
type FallsDocument struct {
	All        [3]float64 `json:"all"`
	Privileged [3]float64 `json:"privileged"`
}

// NewExposureDocument describes the exposure of an estate.
func NewExposureDocument(population []exposure.Cohort, changed map[string]float64) *ExposureDocument {
	if population == nil {
		return nil
	}
	now, then := exposure.Sum(population)
	falls := func(t *exposure.Total) FallsDocument { return FallsDocument{three(t.Falls), three(t.Admins)} }
	d := &ExposureDocument{Accounts: now.Accounts, Privileged: now.Privileged, Now: falls(&now), Mended: falls(&then), Changed: changed}
	if d.Changed == nil {
		d.Changed = map[string]float64{}
	}
	return d
}

// rangeOf reads what three writes.
func rangeOf(n [3]float64) exposure.Range {
	of := func(x float64) exposure.Millionths { return exposure.Millionths(math.Round(x * float64(exposure.One))) }
	return exposure.Range{Least: of(n[0]), Default: of(n[1]), Most: of(n[2])}
}

func three(r exposure.Range) [3]float64 {
	return [3]float64{r.Least.Float(), r.Default.Float(), r.Most.Float()}
}

// WorthDocument is what mending something is worth: how far the exposure falls, an account
// counted by the weight of its tier. Below zero it rises.
type WorthDocument struct {
	Sum   float64 `json:"sum"`
	Most  float64 `json:"most,omitempty"` // of what is not known: at the weakest that it may be
	Each  float64 `json:"each"`           // to one account, a chance in a year
	Class string  `json:"class"`
}

var classes = map[exposure.Class]string{exposure.ToGuess: "to-guess", exposure.NoGuess: "nothing-to-guess", exposure.OpenNow: "open"}

func newWorth(w *exposure.Worth) *WorthDocument {
	if w == nil {
		return nil
	}
	return &WorthDocument{w.Sum.Float(), w.Most.Float(), w.Each.Float(), classes[w.Class]}
}

// RowDocument is the part of a matter that has one value, or one reason. Its fingerprint is
// the one that the matter of it had in documents of sternledger/weigh/1.
type RowDocument struct {
	Fingerprint string            `json:"fingerprint"`
	Title       string            `json:"title"`
	Severity    baseline.Severity `json:"severity"`
	Observed    string            `json:"observed"`
	Demanded    string            `json:"demanded"`  // as the documents state it
	Satisfies   string            `json:"satisfies"` // all of them at once
	Reason      string            `json:"reason"`
	Remedy      string            `json:"remedy"`
	Places      []string          `json:"places"`
	Accounts    *int              `json:"accounts"`
	Privileged  int               `json:"privileged"`
	Worth       *WorthDocument    `json:"worth"`
	Findings    []string          `json:"findings"`
}

// MatterDocument is what people think of as one thing that is wrong: a setting, or a check.
// Name belongs to this record; the fingerprint stays.
type MatterDocument struct {
	Name        string            `json:"matter"`
	Fingerprint string            `json:"fingerprint"`
	Title       string            `json:"title"`
	Verdict     check.Kind        `json:"verdict"`
	Severity    baseline.Severity `json:"severity"`
	Check       string            `json:"check,omitempty"`
	Settings    []setting.ID      `json:"settings"`
	Places      []string          `json:"places"`
	Scopes      []string          `json:"scopes"`
	Accounts    *int              `json:"accounts"` // each counted once; null: not listed
	Privileged  int               `json:"privileged"`
	Examples    []string          `json:"examples"`
	Observed    string            `json:"observed"`  // empty: each finding has its own
	Demanded    string            `json:"demanded"`  // as the documents state it
	Satisfies   string            `json:"satisfies"` // all of them at once
	Reason      string            `json:"reason"`
	Remedy      string            `json:"remedy"`
	Findings    []string          `json:"findings"` // fingerprints
	Disabled    int               `json:"disabled"` // accounts beside those that are counted
	Worth       *WorthDocument    `json:"worth"`    // null: no model says so
	Rows        []RowDocument     `json:"rows"`     // its values or reasons, the worst first
}

// NewMatterDocument describes a matter.
func NewMatterDocument(m *record.Matter) MatterDocument {
	d := MatterDocument{Name: m.Name, Fingerprint: m.Fingerprint, Title: m.Title, Verdict: m.Kind, Severity: m.Severity, Check: m.Check,
		Settings: append([]setting.ID{}, m.Settings...), Places: []string{}, Scopes: []string{}, Accounts: m.Accounts, Privileged: m.Privileged,
		Examples: append([]string{}, m.Examples...), Observed: m.Observed, Demanded: m.Required(), Satisfies: m.Demanded, Reason: m.Reason, Remedy: m.Remedy,
		Findings: []string{}, Disabled: m.Disabled, Worth: newWorth(m.Worth)}
	for _, r := range m.Rows {
		row := RowDocument{Fingerprint: r.Fingerprint, Title: r.Title, Severity: r.Severity, Observed: r.Observed, Demanded: r.Required(), Satisfies: r.Demanded,
			Reason: r.Reason, Remedy: r.Remedy, Places: []string{}, Accounts: r.Accounts, Privileged: r.Privileged, Worth: newWorth(r.Worth),
			Findings: []string{}}
		for _, a := range r.Places {
			row.Places = append(row.Places, a.Label())
		}
		for _, f := range r.Findings {
			row.Findings = append(row.Findings, f.Fingerprint)
		}
		d.Rows = append(d.Rows, row)
	}
	for _, a := range m.Places {
		d.Places = append(d.Places, a.Label())
	}
	for _, s := range m.Scopes {
		d.Scopes = append(d.Scopes, s.Name())
	}
	for _, f := range m.Findings {
		d.Findings = append(d.Findings, f.Fingerprint)
	}
	return d
}

// CohortDocument is places of one kind that are alike in every effective setting
// and verdict.
type CohortDocument struct {
	ID       string         `json:"cohort"`
	Kind     estate.Kind    `json:"kind"`
	Places   []string       `json:"places"`
	Accounts *int           `json:"accounts"`
	Counts   map[string]int `json:"counts"`  // verdicts of all of them
	Usual    string         `json:"usual"`   // the largest cohort of the same platform, from which it deviates; else empty
	Differs  []string       `json:"differs"` // and in what
}

// NewCohortDocuments describes the cohorts of a record.
func NewCohortDocuments(all []*record.Cohort) []CohortDocument {
	docs := []CohortDocument{}
	for _, c := range all {
		d := CohortDocument{ID: c.ID, Kind: c.Place().Kind, Places: []string{}, Accounts: c.Accounts, Counts: map[string]int{},
			Differs: append([]string{}, c.Differs...)}
		for _, a := range c.Places {
			d.Places = append(d.Places, a.Label())
		}
		for _, k := range check.Kinds {
			d.Counts[string(k)] = c.Counts[k]
		}
		if c.Usual != nil {
			d.Usual = c.Usual.ID
		}
		docs = append(docs, d)
	}
	return docs
}

// AsideDocument is a demand that a decision sets aside.
type AsideDocument struct {
	IdleDocument
	Follow string `json:"follow"`
	Why    string `json:"why"`
}

// IdleDocument is a demand that was not weighed on a scope.
type IdleDocument struct {
	Scope    string     `json:"scope"`
	Setting  setting.ID `json:"setting"`
	Baseline string     `json:"baseline"`
	Ref      string     `json:"ref"`
	Demanded string     `json:"demanded"`
}

func NewIdleDocument(scope *govern.Scope, n baseline.Named) IdleDocument {
	return IdleDocument{scope.Name(), n.Demand.Setting, n.Baseline.ID, n.Demand.Ref, n.Demand.Text()}
}

// BaselineDocument names a baseline that was weighed against.
type BaselineDocument struct {
	ID      string `json:"id"`
	Version string `json:"version"`
}

// ScopeCountDocument counts one scope's verdicts.
type ScopeCountDocument struct {
	Scope    string         `json:"scope"`
	ID       string         `json:"id"` // unique, also where two places have one name
	Kind     estate.Kind    `json:"kind"`
	Cohort   string         `json:"cohort"` // the id of its place's
	Tier     string         `json:"tier"`
	Accounts *int           `json:"accounts"`
	Counts   map[string]int `json:"counts"`
}

// VerdictDocument is one demand's verdict on one scope.
type VerdictDocument struct {
	Scope    string            `json:"scope"`
	Setting  setting.ID        `json:"setting"`
	Baseline string            `json:"baseline"`
	Ref      string            `json:"ref"`
	Verdict  check.Kind        `json:"verdict"`
	Beneath  check.Kind        `json:"beneath,omitempty"` // of a waived one: what it would be
	Severity baseline.Severity `json:"severity"`
	Observed string            `json:"observed"`
	Demanded string            `json:"demanded"`
}

// FindingDocument is one finding.
type FindingDocument struct {
	Fingerprint string            `json:"fingerprint"`
	Verdict     check.Kind        `json:"verdict"`
	Beneath     check.Kind        `json:"beneath,omitempty"` // of a waived one: what it would be
	Waiver      int64             `json:"waiver,omitempty"`  // the ledger's entry that waives it
	Check       string            `json:"check,omitempty"`
	Severity    baseline.Severity `json:"severity"`
	Scope       string            `json:"scope"`
	Settings    []setting.ID      `json:"settings"`
	Accounts    *int              `json:"accounts"`
	Examples    []string          `json:"examples"`
	AllAccounts []string          `json:"all_accounts,omitempty"` // only when asked for
	Observed    string            `json:"observed"`
	Demanded    string            `json:"demanded"`  // as the documents state it
	Satisfies   string            `json:"satisfies"` // all of them at once
	Reason      string            `json:"reason"`
	Remedy      string            `json:"remedy"`
	Open        []baseline.Word   `json:"open,omitempty"` // what the auditor has to say, for it to be known whether the demand holds there
	Evidence    []CiteDocument    `json:"evidence"`
	Baselines   []SourceDocument  `json:"baselines"`
	Worth       *WorthDocument    `json:"worth"` // null: no model says so
}

// CiteDocument is a place in the evidence.
type CiteDocument struct {
	File  string `json:"file"`
	Line  int    `json:"line"`
	Where string `json:"where"`
	Raw   string `json:"raw"`
	Note  string `json:"note,omitempty"` // who read it off and when, where a person did
}

// SourceDocument is a section of a baseline that a finding fails.
type SourceDocument struct {
	ID   string `json:"id"`
	Ref  string `json:"ref"`
	Asks string `json:"asks"` // what the document states; empty in records of earlier versions
}

func NewFindingDocument(f *check.Finding) FindingDocument {
	d := FindingDocument{Fingerprint: f.Fingerprint, Verdict: f.Kind, Beneath: f.Beneath, Check: f.Check, Severity: f.Severity,
		Scope:    f.ScopeName(),
		Settings: append([]setting.ID{}, f.Settings...), Accounts: f.Accounts, Examples: []string{}, Observed: f.Observed, Demanded: f.Required(), Satisfies: f.Demanded, Open: f.Open,
		Reason: f.Reason, Remedy: f.Remedy, Evidence: []CiteDocument{}, Baselines: []SourceDocument{}, Worth: newWorth(f.Worth)}
	if f.Waiver != nil {
		d.Waiver = f.Waiver.Entry
	}
	d.Examples = append(d.Examples, f.Examples...)
	for _, c := range f.Evidence {
		d.Evidence = append(d.Evidence, CiteDocument(c))
	}
	for _, b := range f.Baselines {
		d.Baselines = append(d.Baselines, SourceDocument(b))
	}
	return d
}

// UnweighedDocument is a place that no chosen baseline covers.
type UnweighedDocument struct {
	Place    string           `json:"place"`
	Kind     estate.Kind      `json:"kind"`
	Platform setting.Platform `json:"platform"`
	Fitting  []string         `json:"fitting"` // baselines that would cover it
}

func NewUnweighedDocuments(all []check.Unweighed) []UnweighedDocument {
	docs := []UnweighedDocument{}
	for _, u := range all {
		docs = append(docs, UnweighedDocument{u.Authority.Name, u.Authority.Kind, u.Authority.Platform, append([]string{}, u.Fitting...)})
	}
	return docs
}
