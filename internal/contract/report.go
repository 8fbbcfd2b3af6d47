package contract

import (
	"sternledger/internal/core/check"
	"sternledger/internal/ledger"
)

// CoursePoint counts the findings of one weighing.
type CoursePoint struct {
	Weighing int64              `json:"weighing"`
	At       string             `json:"at"`
	Findings map[check.Kind]int `json:"findings"`
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
}

// EvidenceDocument is one file of evidence.
type EvidenceDocument struct {
	Entry int64 `json:"entry"`
	ledger.Evidence
}
