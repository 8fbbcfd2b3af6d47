package contract

import (
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/drift"
	"sternledger/internal/core/setting"
)

// DriftDocument is the output of drift.
type DriftDocument struct {
	Schema    string                 `json:"schema"`
	Before    DriftStateDocument     `json:"before"`
	After     DriftStateDocument     `json:"after"`
	Nothing   bool                   `json:"nothing_changed"`
	Exposure  DriftExposureDocument  `json:"exposure"`
	Renamed   []ChangeDocument       `json:"renamed"` // places and policies, by SID, machine-id or GUID
	Evidence  []ChangeDocument       `json:"evidence"`
	Baselines []ChangeDocument       `json:"baselines"`
	Decisions []ChangeDocument       `json:"decisions"` // which baseline is followed, by setting
	Scopes    []ChangeDocument       `json:"scopes"`
	Moves     []MoveDocument         `json:"moves"`
	Accounts  []ChangeDocument       `json:"accounts"`
	Settings  []SettingDriftDocument `json:"settings"`
	Findings  []FindingDriftDocument `json:"findings"`
	Waivers   []ChangeDocument       `json:"waivers"`
	Amended   []AmendedDocument      `json:"amended"` // what came of change files, by the weighing after
}

// DriftStateDocument names a weighing.
type DriftStateDocument struct {
	Weighing int64  `json:"weighing"`
	At       string `json:"at"`
}

// DriftExposureDocument is how exposed the estate was and is; null: a record of a version
// that valued nothing. Where the assumptions changed, the two do not compare.
type DriftExposureDocument struct {
	Before *ExposureDocument `json:"before"`
	After  *ExposureDocument `json:"after"`
}

// ChangeDocument is one thing that changed.
type ChangeDocument struct {
	Way    drift.Way `json:"way"`
	What   string    `json:"what"`
	Before string    `json:"before"`
	After  string    `json:"after"`
	Why    string    `json:"why"`
}

// MoveDocument is an account that another scope holds now.
type MoveDocument struct {
	Authority string `json:"authority"`
	Account   string `json:"account"`
	From      string `json:"from"`
	To        string `json:"to"`
	Enabled   bool   `json:"enabled"`
}

// SettingDriftDocument is a setting of a policy that changed.
type SettingDriftDocument struct {
	ChangeDocument
	Setting  setting.ID `json:"setting"`
	Evidence string     `json:"evidence"`
}

// FindingDriftDocument is a finding that changed.
type FindingDriftDocument struct {
	ChangeDocument
	Fingerprint string            `json:"fingerprint"`
	Severity    baseline.Severity `json:"severity"`
	Headline    string            `json:"headline"`
}

// NewDriftDocument describes what changed.
func NewDriftDocument(r *drift.Report) DriftDocument {
	changes := func(all []drift.Change) []ChangeDocument {
		docs := []ChangeDocument{}
		for _, c := range all {
			docs = append(docs, ChangeDocument(c))
		}
		return docs
	}
	d := DriftDocument{Schema: "sternledger/drift/1", Before: DriftStateDocument{r.Before.Number, r.Before.At},
		After: DriftStateDocument{r.After.Number, r.After.At}, Nothing: r.Nothing(),
		Exposure: DriftExposureDocument{NewExposureDocument(r.Before.Population, r.Before.Assumed), NewExposureDocument(r.After.Population, r.After.Assumed)},
		Renamed:  changes(r.Renamed), Evidence: changes(r.Evidence), Baselines: changes(r.Baselines), Decisions: changes(r.Decisions), Scopes: changes(r.Scopes), Accounts: changes(r.Accounts),
		Waivers: changes(r.Waivers), Amended: []AmendedDocument{},
		Moves: []MoveDocument{}, Settings: []SettingDriftDocument{}, Findings: []FindingDriftDocument{}}
	for _, m := range r.Moves {
		d.Moves = append(d.Moves, MoveDocument(m))
	}
	for _, s := range r.Settings {
		d.Settings = append(d.Settings, SettingDriftDocument{ChangeDocument(s.Change), s.Setting, s.Cite.String()})
	}
	for _, f := range r.Findings {
		d.Findings = append(d.Findings, FindingDriftDocument{ChangeDocument(f.Change), f.Fingerprint, f.Severity, f.Headline})
	}
	return d
}
