package contract

import (
	"sternledger/internal/core/amend"
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// AmendDocument is the output of amend, and plan.json among its change files.
type AmendDocument struct {
	Schema     string              `json:"schema"`
	Weighing   int64               `json:"weighing"`
	Seal       string              `json:"seal"` // of the entry of that weighing
	Findings   int                 `json:"findings"`
	Settled    int                 `json:"settled"` // by the amendments that are listed
	Ends       []string            `json:"ends"`    // fingerprints of the findings that end with all of them
	Graves     int                 `json:"grave_left"`
	Amendments []AmendmentDocument `json:"amendments"`
	Decisions  []DecisionDocument  `json:"decisions"`
	Evidence   []string            `json:"need_evidence"` // fingerprints of findings
	Appear     []FindingDocument   `json:"appear"`
	Worse      []string            `json:"worse"`
	Changes    [2]float64          `json:"forced_changes_a_year"` // now, and with them
	Calls      [2]float64          `json:"unlock_calls_a_year"`
}

// AmendmentDocument is one change.
type AmendmentDocument struct {
	Name        string            `json:"name"`
	Fingerprint string            `json:"fingerprint"`
	Setting     setting.ID        `json:"setting,omitempty"`
	Flag        string            `json:"flag,omitempty"` // that is taken off accounts
	Title       string            `json:"title"`          // for people; without setting and flag: a policy's precedence
	From        string            `json:"from"`
	To          string            `json:"to"`
	Value       *setting.Value    `json:"value,omitempty"` // To, as documents write values
	Holder      amend.Holder      `json:"holder"`
	Spots       []SpotDocument    `json:"spots"`
	First       []string          `json:"first"` // names of amendments that have to come before
	Severity    baseline.Severity `json:"severity"`
	Settles     []string          `json:"settles"` // fingerprints of findings
	Appear      []string          `json:"appear"`  // with it alone
	Scopes      []string          `json:"scopes"`
	Accounts    int               `json:"accounts"`
	Privileged  int               `json:"privileged"`
	Touches     TouchDocument     `json:"touches"`
	Notes       []string          `json:"notes"`
}

// SpotDocument is one place of change.
type SpotDocument struct {
	Place    string       `json:"place"`
	Kind     estate.Kind  `json:"kind"`
	Policy   string       `json:"policy"`
	Origin   string       `json:"origin"`
	Where    string       `json:"where"`
	Owner    string       `json:"owner"`
	Evidence CiteDocument `json:"evidence"`
	Accounts []string     `json:"accounts,omitempty"` // whose flags are changed
	Written  string       `json:"written"`            // the value as the place writes it; empty: in words only
	Files    []string     `json:"files,omitempty"`    // that change it, where they were written
	Undo     []string     `json:"undo,omitempty"`     // that change it back
	ByHand   string       `json:"by_hand,omitempty"`  // why no file changes it
}

// TouchDocument says whom a change hits.
type TouchDocument struct {
	Now      int      `json:"change_at_once"`
	Week     int      `json:"change_within_7_days"`
	Month    int      `json:"change_within_30_days"`
	Disabled int      `json:"switched_off"`
	Next     int      `json:"at_next_change"`
	NoDate   int      `json:"without_date"`
	Services []string `json:"service_accounts"`
	What     string   `json:"what"`
}

// DecisionDocument is what a person has to decide.
type DecisionDocument struct {
	Title    string            `json:"title"`
	Choices  string            `json:"choices"`
	Severity baseline.Severity `json:"severity"`
	Findings []string          `json:"findings"`
}

// NewTouchDocument describes whom a change hits.
func NewTouchDocument(t *amend.Touched) TouchDocument {
	return TouchDocument{t.Now, t.Week, t.Month, t.Disabled, t.Next, t.NoDate, append([]string{}, t.Services...), t.What}
}

// AmendStatusDocument is the output of amend --status.
type AmendStatusDocument struct {
	Schema     string            `json:"schema"`
	Weighing   int64             `json:"weighing"` // the newest, by which the states are told
	Behind     string            `json:"behind"`   // what was recorded since, and is not in it
	Amendments []AmendedDocument `json:"amendments"`
}

// AmendedDocument is what came of one amendment.
type AmendedDocument struct {
	Entry       int64                  `json:"entry"`
	At          string                 `json:"at"`
	Name        string                 `json:"name"`
	Fingerprint string                 `json:"fingerprint"`
	Title       string                 `json:"title"`
	From        string                 `json:"from"`
	To          string                 `json:"to"`
	Took        int                    `json:"took"` // places
	Of          int                    `json:"of"`
	Places      []AmendedPlaceDocument `json:"places"`
}

// AmendedPlaceDocument is what came of it at one place.
type AmendedPlaceDocument struct {
	Place  string      `json:"place"`
	Kind   estate.Kind `json:"kind"`
	Policy string      `json:"policy"`
	State  string      `json:"state"` // took, not-yet, otherwise, undone, unseen
	Now    string      `json:"now"`
}
