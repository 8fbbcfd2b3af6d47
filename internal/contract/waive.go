package contract

import (
	"sternledger/internal/core/check"
	"sternledger/internal/core/setting"
)

// WaiversDocument is the output of waive.
type WaiversDocument struct {
	Schema  string           `json:"schema"`
	Entry   int64            `json:"entry"` // that recorded it; 0: a list
	Waivers []WaiverDocument `json:"waivers"`
}

// WaiverDocument is one accepted finding.
type WaiverDocument struct {
	Entry       int64             `json:"entry"`
	At          string            `json:"at"`
	By          string            `json:"by"`
	Fingerprint string            `json:"fingerprint"`
	Scope       string            `json:"scope"`
	Check       string            `json:"check"`
	Setting     setting.ID        `json:"setting"`
	Verdict     check.Kind        `json:"verdict"`
	Observed    string            `json:"observed"`
	Accounts    *int              `json:"accounts"`
	Until       string            `json:"until"`
	Reason      string            `json:"reason"`
	State       check.WaiverState `json:"state"`
	Why         string            `json:"why"` // it does not hold
}

func NewWaiverDocuments(all []check.Waiver) []WaiverDocument {
	docs := []WaiverDocument{}
	for _, w := range all {
		docs = append(docs, WaiverDocument{w.Entry, w.At, w.By, w.Fingerprint, w.Scope, w.Check, w.Setting, w.Kind, w.Observed,
			w.Accounts, w.Until, w.Reason, w.State, w.Why})
	}
	return docs
}

// NewWaiversDocument describes waivers.
func NewWaiversDocument(entry int64, all []check.Waiver) WaiversDocument {
	return WaiversDocument{"sternledger/waive/1", entry, NewWaiverDocuments(all)}
}
