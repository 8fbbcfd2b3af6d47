package contract

import (
	"sternledger/internal/core/probe"
	"sternledger/internal/core/record"
)

// ProbeDocument is the output of probe.
type ProbeDocument struct {
	Schema    string             `json:"schema"`
	Passwords []PasswordDocument `json:"passwords"`
	Results   []ProbeResult      `json:"results"`
	Patterns  []PatternShare     `json:"patterns"`
}

// PasswordDocument tells of a password what may be told. Text is given for
// patterns only.
type PasswordDocument struct {
	Password int      `json:"password"` // its number in the input, from 1
	Length   int      `json:"length"`   // characters
	Bytes    int      `json:"bytes"`    // of UTF-8
	Classes  []string `json:"classes"`
	Marks    int      `json:"combining_characters"`
	Pattern  string   `json:"pattern,omitempty"`
	Text     string   `json:"text,omitempty"`
}

// ProbeResult is what one scope makes of one password.
type ProbeResult struct {
	Password int           `json:"password"`
	Scope    string        `json:"scope"`
	Account  string        `json:"account"`
	Verdict  probe.Verdict `json:"verdict"`
	Rules    []ProbeRule   `json:"rules"`
}

// ProbeRule is what one rule says. Aside ones depend on the account, and are
// not part of the verdict.
type ProbeRule struct {
	Rule     string        `json:"rule"`
	Verdict  probe.Verdict `json:"verdict"`
	Why      string        `json:"why"`
	Aside    bool          `json:"aside"`
	Evidence string        `json:"evidence"`
}

// PatternShare is what one scope makes of one family of patterns.
type PatternShare struct {
	Scope   string `json:"scope"`
	Pattern string `json:"pattern"`
	Weak    bool   `json:"weak"`
	record.Share
}
