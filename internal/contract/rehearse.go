package contract

import (
	"sternledger/internal/core/rehearse"
)

// RehearseDocument is the output of rehearse.
type RehearseDocument struct {
	Schema   string                      `json:"schema"`
	Scope    string                      `json:"scope"`
	Account  string                      `json:"account"`
	Counting string                      `json:"counting"`
	Settings map[string]*SettingDocument `json:"settings"`
	Events   []EventDocument             `json:"events"`
	Summary  RehearseSummaryDocument     `json:"summary"`
	Notes    []string                    `json:"notes"`
}

// EventDocument is what happened at a time.
type EventDocument struct {
	Seconds int64         `json:"seconds"`
	Event   rehearse.Kind `json:"event"`
	Count   int64         `json:"count"` // of failures, after it
}

// RehearseSummaryDocument counts the events.
type RehearseSummaryDocument struct {
	Failures  int    `json:"failures"`
	Successes int    `json:"successes"`
	Refused   int    `json:"refused"`
	Locks     int    `json:"locks"`
	FirstLock *int64 `json:"first_lock_seconds"`
}
