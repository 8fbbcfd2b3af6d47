package contract

import (
	"sternledger/internal/core/record"
)

// VerifyDocument is the output of verify.
type VerifyDocument struct {
	Schema    string            `json:"schema"`
	Holds     bool              `json:"holds"`
	Entries   int               `json:"entries"`
	Files     int               `json:"files"`
	Size      int64             `json:"size"` // of the files as they were gathered, in bytes
	Outcome   record.Outcome    `json:"outcome"`
	Weighings []JudgedDocument  `json:"weighings"` // made again
	Seal      string            `json:"seal"`      // of the last entry
	Compared  string            `json:"compared"`  // seal that was compared; empty: none
	Since     int               `json:"since"`     // entries since that seal
	Signer    string            `json:"signed_by"` // key of the signature that was compared
	Failures  []FailureDocument `json:"failures"`  // by entry
	Notes     []string          `json:"notes"`
}

// JudgedDocument is a recorded weighing that was weighed again.
type JudgedDocument struct {
	Weighing int64               `json:"weighing"`
	MadeBy   string              `json:"made_by"` // version of the program, with its commit where that is known
	Outcome  record.Outcome      `json:"outcome"`
	Why      string              `json:"why"` // it cannot be weighed again
	Differs  []record.Difference `json:"differences"`
}

// FailureDocument is something that does not hold.
type FailureDocument struct {
	Entry int64  `json:"entry"` // 0: the database as a whole
	Text  string `json:"text"`
}
