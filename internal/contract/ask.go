package contract

import "sternledger/internal/core/setting"

// AskDocument is the output of ask.
type AskDocument struct {
	Schema string             `json:"schema"`
	Owners []AskOwnerDocument `json:"owners"`
}

// AskOwnerDocument is what one owner is asked for.
type AskOwnerDocument struct {
	Owner    string             `json:"owner"` // empty: engagement.yaml names none
	Places   []AskPlaceDocument `json:"places"`
	Complete int                `json:"complete"` // places of which nothing lacks, which are not listed
	// Unassessed are places that no chosen baseline covers: what lacks of them is not known.
	Unassessed int `json:"unassessed"`
}

// AskPlaceDocument is what lacks of one place.
type AskPlaceDocument struct {
	Place    string           `json:"place"`
	Platform setting.Platform `json:"platform"` // empty: nothing came of it
	State    AskState         `json:"state"`
	Came     string           `json:"came"`    // the day of its newest evidence; empty: none came
	Exports  []string         `json:"exports"` // kinds of export that tell of such a place, as gather --ask has them
	Lacks    []AskDocumentRow `json:"lacks"`
}

// AskState says what came of a place.
type AskState string

// The states.
const (
	Awaited    AskState = "awaited"    // nothing came
	Incomplete AskState = "incomplete" // something lacks
	Outdated   AskState = "outdated"   // what came is older than the engagement allows
)

// AskDocumentRow is something that lacks.
type AskDocumentRow struct {
	What         string       `json:"what"`
	Do           string       `json:"do"`
	Settings     []setting.ID `json:"settings"`     // that it leaves open
	Fingerprints []string     `json:"fingerprints"` // of the findings that wait for it
}
