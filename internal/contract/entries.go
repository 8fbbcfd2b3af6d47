package contract

import (
	"encoding/json"
)

// EntriesDocument is the output of entries.
type EntriesDocument struct {
	Schema  string          `json:"schema"`
	Entries []EntryDocument `json:"entries"`
}

// EntryDocument is one entry.
type EntryDocument struct {
	Entry    int64           `json:"entry"`
	At       string          `json:"at"`
	By       string          `json:"by"`
	Kind     string          `json:"kind"`
	About    string          `json:"about"`
	Body     json.RawMessage `json:"body"`
	Previous string          `json:"previous"`
	Hash     string          `json:"hash"`
}
