package check

import (
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/setting"
)

// Waived is the verdict on what was knowingly accepted.
const Waived Kind = "waived"

// Waiver is an accepted exception: one finding as it was when it was accepted.
type Waiver struct {
	Entry       int64 // of the ledger
	At, By      string
	Fingerprint string
	Steady      string // the same under another name of the place or policy; empty: none
	Scope       string
	Check       string
	Setting     setting.ID // of a demand's finding
	Kind        Kind
	Severity    baseline.Severity
	Valued      bool // the severity followed from what mending it is worth
	Observed    string
	Value       setting.Value // of the setting, where a demand's finding was accepted
	Accounts    *int          // concerned by a check's finding
	Until       string        // the last day, as 2006-01-02
	Reason      string
	Over        bool // the last day is past
	Withdrawn   bool
	Mended      int64 // the first weighing that found nothing for it any more; 0: none did

	State WaiverState
	Why   string // it does not hold
}

// WaiverState says whether a waiver holds.
type WaiverState string

// The states.
const (
	InForce   WaiverState = "in force"
	Ended     WaiverState = "ended"      // its last day is past
	Withdrawn WaiverState = "withdrawn"  //
	Outgrown  WaiverState = "outgrown"   // what is observed got worse than what was accepted
	Needless  WaiverState = "not needed" // there is no such finding any more
	Ambiguous WaiverState = "ambiguous"  // it is of an earlier version, and could mean findings of two places
	Overtaken WaiverState = "taken over" // by a newer one on the same finding
	Lapsed    WaiverState = "lapsed"     // it was mended, and is there again
)
