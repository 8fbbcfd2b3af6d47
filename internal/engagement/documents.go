package engagement

import (
	"fmt"
	"slices"
	"time"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/weigh"
	"sternledger/internal/intake/live"
	"sternledger/internal/ledger"
)

// The documents are the contract of --format json: fields are added, never
// renamed. docs/formats.md describes them, "sternledger schema" prints their
// schemas, and a test holds one against the other.

// ScopesDocument is the output of scopes.
type ScopesDocument struct {
	Schema string          `json:"schema"`
	Scopes []ScopeDocument `json:"scopes"`
}

// ScopeDocument is one account scope.
type ScopeDocument struct {
	Scope     string                      `json:"scope"`
	ID        string                      `json:"id"` // unique, also where two places have one name
	Authority string                      `json:"authority"`
	Kind      estate.Kind                 `json:"kind"`
	Policy    string                      `json:"policy"`
	Standing  estate.Standing             `json:"standing,omitempty"`
	Tier      string                      `json:"tier"`
	Accounts  *int                        `json:"accounts"`
	Enabled   *int                        `json:"enabled"`
	Settings  map[string]*SettingDocument `json:"settings"`
}

// SettingDocument is one effective setting. Value is a number, a boolean or a
// word; Special stands in its place; neither when it is not set.
type SettingDocument struct {
	Value    any             `json:"value,omitempty"`
	Special  setting.Special `json:"special,omitempty"`
	Text     string          `json:"text"`
	Raw      string          `json:"raw,omitempty"`
	Evidence string          `json:"evidence,omitempty"`
	From     string          `json:"from,omitempty"`
	Remark   string          `json:"remark,omitempty"` // what is unusual about the value
}

func scopeDocument(s *govern.Scope) ScopeDocument {
	d := ScopeDocument{Scope: s.Name(), ID: s.ID().String(), Authority: s.Authority.Name, Kind: s.Authority.Kind, Policy: s.PolicyName(),
		Tier: s.Tier, Settings: map[string]*SettingDocument{}}
	if s.Policy != nil {
		d.Standing = s.Policy.Standing
	}
	if s.Listed() {
		d.Accounts = &s.Accounts
	}
	if s.Authority.Listed {
		d.Enabled = &s.Enabled
	}
	for id, e := range s.Settings {
		if e.Missing != govern.NoSuch {
			d.Settings[string(id)] = settingDocument(id, e)
		}
	}
	return d
}

func settingDocument(id setting.ID, e govern.Effective) *SettingDocument {
	s := setting.Get(id)
	d := &SettingDocument{Text: s.Text(e.Value), Raw: e.Cite.Raw, Evidence: e.Cite.String(), From: e.From, Remark: e.Remark}
	if e.Missing != govern.Present {
		d.Text = string(e.Missing)
		return d
	}
	d.Value, d.Special = valueDocument(id, e.Value)
	return d
}

// valueDocument returns a value as JSON has it: a number, a boolean or a word,
// or, in its place, a special.
func valueDocument(id setting.ID, v setting.Value) (any, setting.Special) {
	if n, ok := v.Number(); ok {
		return n, ""
	}
	if sp, ok := v.Special(); ok {
		return nil, sp
	}
	w, ok := v.Word()
	switch {
	case ok && setting.Get(id).Kind == setting.Toggle:
		return w == "on", ""
	case ok:
		return w, ""
	}
	return nil, ""
}

// NewScopesDocument describes scopes.
func NewScopesDocument(scopes []*govern.Scope) ScopesDocument {
	d := ScopesDocument{Schema: "sternledger/scopes/1", Scopes: []ScopeDocument{}}
	for _, s := range scopes {
		d.Scopes = append(d.Scopes, scopeDocument(s))
	}
	return d
}

// WeighDocument is the output of weigh, and what the ledger keeps of it.
type WeighDocument struct {
	Schema    string               `json:"schema"`
	Weighing  int64                `json:"weighing"`
	At        string               `json:"at"`
	Baselines []BaselineDocument   `json:"baselines"`
	Scopes    []ScopeCountDocument `json:"scopes"`
	Verdicts  []VerdictDocument    `json:"verdicts"`
	Findings  []FindingDocument    `json:"findings"`
	SetAside  []AsideDocument      `json:"set_aside"`      // by decisions of the engagement
	Idle      []IdleDocument       `json:"not_applicable"` // the platform has no such setting
	Waivers   []WaiverDocument     `json:"waivers"`
	Unweighed []UnweighedDocument  `json:"unweighed"` // places that no chosen baseline covers
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

func idleDocument(scope *govern.Scope, n baseline.Named) IdleDocument {
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
	Verdict  weigh.Kind        `json:"verdict"`
	Beneath  weigh.Kind        `json:"beneath,omitempty"` // of a waived one: what it would be
	Severity baseline.Severity `json:"severity"`
	Observed string            `json:"observed"`
	Demanded string            `json:"demanded"`
}

// FindingDocument is one finding.
type FindingDocument struct {
	Fingerprint string            `json:"fingerprint"`
	Verdict     weigh.Kind        `json:"verdict"`
	Beneath     weigh.Kind        `json:"beneath,omitempty"` // of a waived one: what it would be
	Waiver      int64             `json:"waiver,omitempty"`  // the ledger's entry that waives it
	Check       string            `json:"check,omitempty"`
	Severity    baseline.Severity `json:"severity"`
	Scope       string            `json:"scope"`
	Settings    []setting.ID      `json:"settings"`
	Accounts    *int              `json:"accounts"`
	Examples    []string          `json:"examples"`
	AllAccounts []string          `json:"all_accounts,omitempty"` // only when asked for
	Observed    string            `json:"observed"`
	Demanded    string            `json:"demanded"`
	Reason      string            `json:"reason"`
	Remedy      string            `json:"remedy"`
	Evidence    []CiteDocument    `json:"evidence"`
	Baselines   []SourceDocument  `json:"baselines"`
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
	ID  string `json:"id"`
	Ref string `json:"ref"`
}

// Document describes the weighing.
func (w *Weighing) Document() WeighDocument {
	d := WeighDocument{Schema: "sternledger/weigh/1", Weighing: w.Number, At: w.At.Format(time.RFC3339),
		Baselines: []BaselineDocument{}, Scopes: []ScopeCountDocument{}, Verdicts: []VerdictDocument{}, Findings: []FindingDocument{}, SetAside: []AsideDocument{}, Idle: []IdleDocument{}}
	for _, a := range w.SetAside {
		d.SetAside = append(d.SetAside, AsideDocument{idleDocument(a.Scope, a.Named), a.Decision.Follow, a.Decision.Why})
	}
	for _, i := range w.Idle {
		d.Idle = append(d.Idle, idleDocument(i.Scope, i.Named))
	}
	for _, b := range w.Baselines {
		d.Baselines = append(d.Baselines, BaselineDocument{b.ID, b.Version})
	}
	d.Unweighed = unweighedDocuments(w.Unweighed)
	found := w.Whole().Counts()
	for _, s := range w.Scopes {
		counts := map[string]int{}
		for _, k := range weigh.Kinds {
			counts[string(k)] = found[s][k]
		}
		c := ScopeCountDocument{Scope: s.Name(), ID: s.ID().String(), Kind: s.Authority.Kind, Tier: s.Tier, Counts: counts}
		if s.Listed() {
			c.Accounts = &s.Accounts
		}
		d.Scopes = append(d.Scopes, c)
	}
	for _, v := range w.Verdicts {
		d.Verdicts = append(d.Verdicts, VerdictDocument{v.Scope.Name(), v.Demand.Setting, v.Baseline.ID, v.Demand.Ref, v.Kind, v.Beneath,
			v.Severity, v.Observed, v.Demand.Text()})
	}
	for i := range w.Findings {
		d.Findings = append(d.Findings, findingDocument(&w.Findings[i]))
	}
	d.Waivers = waiverDocuments(w.Waivers)
	return d
}

// WithAllAccounts describes the weighing with every account of every finding.
func (w *Weighing) WithAllAccounts() WeighDocument {
	d := w.Document()
	inScope := map[*govern.Scope][]string{}
	for i, a := range w.survey.Estate.Authorities {
		for _, row := range byName(a) {
			scope, _ := w.survey.ScopeOf(i, row)
			inScope[scope] = append(inScope[scope], a.Objects.Name.At(row))
		}
	}
	for i := range w.Findings {
		f := &w.Findings[i]
		if d.Findings[i].AllAccounts = inScope[f.Scope]; f.Scope == nil {
			for _, row := range f.Rows {
				d.Findings[i].AllAccounts = append(d.Findings[i].AllAccounts, f.Authority.Objects.Name.At(row))
			}
			slices.Sort(d.Findings[i].AllAccounts)
		}
	}
	return d
}

func findingDocument(f *weigh.Finding) FindingDocument {
	d := FindingDocument{Fingerprint: f.Fingerprint, Verdict: f.Kind, Beneath: f.Beneath, Check: f.Check, Severity: f.Severity, Scope: f.ScopeName(),
		Settings: append([]setting.ID{}, f.Settings...), Accounts: f.Accounts, Examples: []string{}, Observed: f.Observed, Demanded: f.Demanded,
		Reason: f.Reason, Remedy: f.Remedy, Evidence: []CiteDocument{}, Baselines: []SourceDocument{}}
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

// SettingsDocument is the output of settings.
type SettingsDocument struct {
	Schema   string               `json:"schema"`
	Settings []SettingRowDocument `json:"settings"`
}

// SettingRowDocument is one row of the table of settings.
type SettingRowDocument struct {
	ID       setting.ID         `json:"id"`
	Title    string             `json:"title"`
	Kind     setting.Kind       `json:"kind"`
	Specials []string           `json:"specials"`
	Choices  []string           `json:"choices"`
	On       []setting.Platform `json:"on"`
	Defaults map[string]string  `json:"defaults"` // of a new installation, by platform
	Limits   map[string]string  `json:"limits"`   // of the platform itself
	Meaning  string             `json:"meaning"`
}

// NewSettingsDocument describes the table of settings.
func NewSettingsDocument() SettingsDocument {
	d := SettingsDocument{Schema: "sternledger/settings/1"}
	for _, s := range setting.Table() {
		row := SettingRowDocument{ID: s.ID, Title: s.Title, Kind: s.Kind, Specials: []string{}, Choices: []string{}, On: []setting.Platform{}, Meaning: s.Meaning}
		for _, k := range s.Specials {
			row.Specials = append(row.Specials, string(k.Special))
		}
		row.Choices = append(row.Choices, s.Choices...)
		row.On = append(row.On, s.On...)
		row.Defaults, row.Limits = map[string]string{}, map[string]string{}
		for p, v := range s.Defaults {
			row.Defaults[string(p)] = s.Text(v)
		}
		for p, r := range s.Limits {
			row.Limits[string(p)] = s.Text(setting.Number(r.Low)) + " to " + s.Text(setting.Number(r.High))
		}
		d.Settings = append(d.Settings, row)
	}
	return d
}

// GatherDocument is the output of gather.
type GatherDocument struct {
	Schema      string                    `json:"schema"`
	Entry       int64                     `json:"entry"` // 0: nothing new
	Files       []GatheredFileDocument    `json:"files"`
	Authorities []GatheredSubjectDocument `json:"authorities"`
	Templates   []GatheredSubjectDocument `json:"templates"`
	Problems    []ProblemDocument         `json:"problems"`
	Passed      []PassedDocument          `json:"passed"`
	PassedOver  []PassedOverDocument      `json:"passed_over"` // those, and what says again what is known
	Lost        []LostDocument            `json:"lost"`
	Unweighed   []UnweighedDocument       `json:"unweighed"` // places that no chosen baseline covers
	Live        []*live.Collected         `json:"live"`
	Archives    []Archive                 `json:"archives"`
}

// GatheredFileDocument is one file and what became of it.
type GatheredFileDocument struct {
	ledger.Evidence
	State string `json:"state"` // taken, or known
}

// GatheredSubjectDocument counts what was found of an authority or template.
type GatheredSubjectDocument struct {
	Name      string `json:"name"`
	Kind      string `json:"kind"`
	Settings  int    `json:"settings"`
	Policies  int    `json:"policies"`
	Accounts  *int   `json:"accounts"`
	Groups    int    `json:"groups"`
	Computers int    `json:"computers"`
	Managed   int    `json:"managed"` // managed service accounts, which are no accounts of people or programs
	Deleted   int    `json:"deleted"` // deleted objects, left out
}

// ProblemDocument is something that was not understood.
type ProblemDocument struct {
	CiteDocument
	Text string `json:"text"`
}

// PassedOverDocument is one file that was passed over, and why.
type PassedOverDocument struct {
	Path      string `json:"path"`
	Why       string `json:"why"`
	LooksLike string `json:"looks_like"`
	Instead   string `json:"instead"`
}

// LostDocument is what new evidence of a place holds less of than before.
type LostDocument struct {
	Place  string      `json:"place"`
	Kind   estate.Kind `json:"kind"`
	What   estate.Lost `json:"what"`
	Before int         `json:"before"`
	Now    int         `json:"now"`
	Names  []string    `json:"names"`
}

// UnweighedDocument is a place that no chosen baseline covers.
type UnweighedDocument struct {
	Place    string           `json:"place"`
	Kind     estate.Kind      `json:"kind"`
	Platform setting.Platform `json:"platform"`
	Fitting  []string         `json:"fitting"` // baselines that would cover it
}

func unweighedDocuments(all []weigh.Unweighed) []UnweighedDocument {
	docs := []UnweighedDocument{}
	for _, u := range all {
		docs = append(docs, UnweighedDocument{u.Authority.Name, u.Authority.Kind, u.Authority.Platform, append([]string{}, u.Fitting...)})
	}
	return docs
}

// PassedDocument is one file that was not taken, and why.
type PassedDocument struct {
	Path string `json:"path"`
	Why  string `json:"why"`
}

// Document describes the gather.
func (g *Gathered) Document() GatherDocument {
	d := GatherDocument{Schema: "sternledger/gather/1", Entry: g.Entry, Files: []GatheredFileDocument{}, Authorities: []GatheredSubjectDocument{},
		Templates: []GatheredSubjectDocument{}, Problems: []ProblemDocument{}, Passed: []PassedDocument{}, PassedOver: []PassedOverDocument{}, Lost: []LostDocument{}, Unweighed: []UnweighedDocument{}, Live: append([]*live.Collected{}, g.Live...), Archives: append([]Archive{}, g.Archives...)}
	for _, f := range g.Files {
		state := "taken"
		if f.Known {
			state = "known"
		}
		d.Files = append(d.Files, GatheredFileDocument{f.Evidence, state})
	}
	for _, a := range g.Authorities {
		s := GatheredSubjectDocument{Name: a.Name, Kind: string(a.Kind), Policies: len(a.Overrides), Groups: a.Groups, Computers: a.Computers, Managed: a.Managed, Deleted: a.Deleted}
		if a.Head != nil {
			s.Settings = len(a.Head.Settings)
		}
		if a.Listed {
			s.Accounts = &a.Accounts
		}
		d.Authorities = append(d.Authorities, s)
	}
	for _, t := range g.Templates {
		d.Templates = append(d.Templates, GatheredSubjectDocument{Name: t.Policy.Name, Kind: "template", Settings: len(t.Policy.Settings)})
	}
	for _, p := range g.Problems {
		d.Problems = append(d.Problems, ProblemDocument{CiteDocument(p.Cite), p.Text})
	}
	for _, p := range g.Passed {
		d.Passed = append(d.Passed, PassedDocument{p.Path, p.Why})
		d.PassedOver = append(d.PassedOver, PassedOverDocument(p))
	}
	for _, f := range g.Files {
		if f.Known {
			why := fmt.Sprintf("says the same as %s, taken by entry %d and still current", f.Name, f.Entry)
			if f.Entry == 0 {
				why = "says the same as " + f.Name + ", taken by this gather"
			}
			d.PassedOver = append(d.PassedOver, PassedOverDocument{f.Given, why, f.Format, ""})
		}
	}
	d.Unweighed = unweighedDocuments(g.Unweighed)
	for _, l := range g.Lost {
		d.Lost = append(d.Lost, LostDocument{l.Place.Name, l.Place.Kind, l.What, l.Before, l.Now, append([]string{}, l.Names...)})
	}
	return d
}

// ChecksDocument is the output of checks.
type ChecksDocument struct {
	Schema string          `json:"schema"`
	Checks []CheckDocument `json:"checks"`
}

// CheckDocument is one check.
type CheckDocument struct {
	Name     string            `json:"name"`
	Looks    string            `json:"looks"` // at completeness, governance, or settings
	Verdict  weigh.Kind        `json:"verdict"`
	Severity baseline.Severity `json:"severity"`
	Settings []setting.ID      `json:"settings"`
	Doc      string            `json:"doc"`
}

// NewChecksDocument describes the checks.
func NewChecksDocument() ChecksDocument {
	d := ChecksDocument{Schema: "sternledger/checks/1"}
	for _, c := range weigh.Describe() {
		d.Checks = append(d.Checks, CheckDocument{c.Name, c.Looks, c.Kind, c.Severity, append([]setting.ID{}, c.Reads...), c.Doc})
	}
	return d
}
