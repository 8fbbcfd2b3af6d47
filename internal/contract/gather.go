package contract

import (
	"sternledger/internal/core/estate"
	"sternledger/internal/intake/live"
	"sternledger/internal/ledger"
)

// Archive is an archive whose members were looked at.
type Archive struct {
	Path   string `json:"path"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
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

// PassedDocument is one file that was not taken, and why.
type PassedDocument struct {
	Path string `json:"path"`
	Why  string `json:"why"`
}
