package contract

import (
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/ledger"
)

// CoursePoint counts the findings of one weighing.
type CoursePoint struct {
	Weighing int64              `json:"weighing"`
	At       string             `json:"at"`
	Findings map[check.Kind]int `json:"findings"`
	Exposure *FallsDocument     `json:"exposure"` // null: a record of a version that valued nothing
}

// ReportDocument is a report as JSON.
type ReportDocument struct {
	Schema   string             `json:"schema"`
	Title    string             `json:"title"`
	Auditor  string             `json:"auditor"`
	Seal     string             `json:"seal"`
	Entry    int64              `json:"entry"` // of the weighing
	Weighing WeighDocument      `json:"weighing"`
	Scopes   ScopesDocument     `json:"scopes"`
	Forecast ForecastDocument   `json:"forecast"`
	Course   []CoursePoint      `json:"course"`
	Drift    *DriftDocument     `json:"drift"` // against the weighing before; null: it is the first
	Evidence []EvidenceDocument `json:"evidence"`
	Problems []ProblemDocument  `json:"problems"`
	// Amendments are planned from the record alone; amend weighs each anew.
	Amendments []ReportAmendment `json:"amendments"`
	Amended    []AmendedDocument `json:"amended"` // what came of change files, by this weighing
}

// ReportAmendment is one change that is proposed.
type ReportAmendment struct {
	Name        string            `json:"name"`
	Fingerprint string            `json:"fingerprint"`
	Title       string            `json:"title"`
	From        string            `json:"from"`
	To          string            `json:"to"`
	Severity    baseline.Severity `json:"severity"`
	Settles     []string          `json:"settles"` // fingerprints of findings
	Accounts    int               `json:"accounts"`
	Places      []string          `json:"places"`
}

// EvidenceDocument is one file of evidence.
type EvidenceDocument struct {
	Entry int64 `json:"entry"`
	ledger.Evidence
}
