package engagement

import (
	"fmt"
	"time"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/drift"
	"sternledger/internal/core/setting"
)

// Drift says what changed between two recorded weighings.
func (e *Engagement) Drift(before, after int64) (*drift.Report, error) {
	a, err := e.state(before)
	if err != nil {
		return nil, err
	}
	b, err := e.state(after)
	if err != nil {
		return nil, err
	}
	return drift.Between(*a, *b), nil
}

// state makes a weighing again, with what it was made of.
func (e *Engagement) state(number int64) (*drift.State, error) {
	past, w, err := e.Recall(number)
	if err != nil {
		return nil, err
	}
	return past.stateOf(w)
}

func (e *Engagement) stateOf(w *Weighing) (*drift.State, error) {
	evidence, err := e.Ledger.Evidence()
	if err != nil {
		return nil, err
	}
	// Only what the facts of the time came from: an export that a newer one took
	// the place of is no change when it leaves.
	current := map[string]bool{}
	for _, a := range w.survey.Estate.Authorities {
		for _, f := range a.Files {
			current[f] = true
		}
	}
	for _, t := range w.survey.Estate.Templates {
		current[t.Policy.Cite.File] = true
	}
	s := &drift.State{Number: w.Number, At: w.At.Format(time.RFC3339), Files: map[string]string{}, Baselines: w.Baselines, Survey: w.survey, Result: w.Result}
	for _, x := range evidence {
		if current[x.Name] {
			s.Files[x.Name] = x.SHA256
		}
	}
	return s, nil
}

// LastTwo are the numbers of the newest weighing and of the one before.
func (e *Engagement) LastTwo() (before, after int64, err error) {
	if before, err = e.Newest(1); err != nil {
		return 0, 0, fmt.Errorf("drift compares two weighings: %w", err)
	}
	after, err = e.Newest(0)
	return before, after, err
}

// DriftDocument is the output of drift.
type DriftDocument struct {
	Schema    string                 `json:"schema"`
	Before    DriftStateDocument     `json:"before"`
	After     DriftStateDocument     `json:"after"`
	Nothing   bool                   `json:"nothing_changed"`
	Evidence  []ChangeDocument       `json:"evidence"`
	Baselines []ChangeDocument       `json:"baselines"`
	Scopes    []ChangeDocument       `json:"scopes"`
	Moves     []MoveDocument         `json:"moves"`
	Accounts  []ChangeDocument       `json:"accounts"`
	Settings  []SettingDriftDocument `json:"settings"`
	Findings  []FindingDriftDocument `json:"findings"`
	Waivers   []ChangeDocument       `json:"waivers"`
}

// DriftStateDocument names a weighing.
type DriftStateDocument struct {
	Weighing int64  `json:"weighing"`
	At       string `json:"at"`
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
	d := DriftDocument{Schema: "sternledger/drift/1", Before: DriftStateDocument{r.Before.Number, r.Before.At}, After: DriftStateDocument{r.After.Number, r.After.At}, Nothing: r.Nothing(),
		Evidence: changes(r.Evidence), Baselines: changes(r.Baselines), Scopes: changes(r.Scopes), Accounts: changes(r.Accounts), Waivers: changes(r.Waivers),
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
