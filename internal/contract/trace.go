package contract

import (
	"sternledger/internal/core/govern"
)

// DoorDocument is another account of the person who is traced: in another
// domain, a tenant, on a machine.
type DoorDocument struct {
	Authority string                      `json:"authority"`
	Kind      string                      `json:"kind"`
	Account   string                      `json:"account"`
	Enabled   bool                        `json:"enabled"`
	Joined    string                      `json:"joined"` // how it is known to be the same person's
	Policy    string                      `json:"policy"`
	Rule      string                      `json:"rule"`
	Weaker    []string                    `json:"weaker"` // settings in which it is weaker than the traced account
	Evidence  string                      `json:"evidence"`
	Settings  map[string]*SettingDocument `json:"settings"`
	// Own are the tenant's own settings, which stand beside those of the domain
	// that governs a synchronised account; else empty.
	Own map[string]*SettingDocument `json:"own_settings"`
}

// TraceDocument tells why one policy governs one account.
type TraceDocument struct {
	Schema     string                      `json:"schema"`
	Account    TracedAccount               `json:"account"`
	Governing  GoverningDocument           `json:"governing"`
	Candidates []CandidateDocument         `json:"candidates"`
	Settings   map[string]*SettingDocument `json:"settings"`
	Default    map[string]*SettingDocument `json:"default_settings"`
	Configured map[string]*SettingDocument `json:"configured_settings"`
	Displayed  map[string]*SettingDocument `json:"displayed_settings"` // by machines' resultant reports
	Notes      []string                    `json:"notes"`
	Doors      []DoorDocument              `json:"doors"` // the person's other accounts
}

// TracedAccount is who the account is.
type TracedAccount struct {
	Authority string   `json:"authority"`
	Kind      string   `json:"kind"`
	Account   string   `json:"account"`
	Principal string   `json:"principal"`
	Display   string   `json:"display"`
	DN        string   `json:"dn"`
	SID       string   `json:"sid"`
	Enabled   bool     `json:"enabled"`
	Tier      string   `json:"tier"`
	TierRule  string   `json:"tier_rule"`
	Flags     []string `json:"flags"`
	Evidence  string   `json:"evidence"`
	PwdSet    string   `json:"pwd_set"` // RFC 3339, or empty
}

// GoverningDocument is the answer.
type GoverningDocument struct {
	Policy   string `json:"policy"`
	Origin   string `json:"origin"`
	Rule     string `json:"rule"`
	Via      string `json:"via"`
	Dialect  string `json:"dialect"` // empty where it is assumed: both were played
	Assumed  bool   `json:"dialect_assumed"`
	Answered bool   `json:"answered"` // by the directory itself, where the evidence leaves it open
	From     string `json:"dialect_evidence"`
}

// CandidateDocument is one policy that reaches the account.
type CandidateDocument struct {
	Policy     string         `json:"policy"`
	Origin     string         `json:"origin"`
	Precedence *int64         `json:"precedence"`
	Via        []string       `json:"via"`                // groups, from the one that the policy names to the one that holds the account
	ViaLeft    int            `json:"via_left,omitempty"` // groups in the middle of a long chain that are not told
	Won        bool           `json:"won"`
	Outcome    govern.Outcome `json:"outcome"` // won, lost, or not decided
	Why        string         `json:"why"`
	Evidence   string         `json:"evidence"`
}

// PolicyTraceDocument tells whom one policy reaches, and what becomes of it.
type PolicyTraceDocument struct {
	Schema     string           `json:"schema"`
	Authority  string           `json:"authority"`
	Policy     string           `json:"policy"`
	Origin     string           `json:"origin"`
	Precedence *int64           `json:"precedence"`
	Evidence   string           `json:"evidence"`
	Reaches    int              `json:"reaches"`
	Governs    int              `json:"governs"`
	Examples   []string         `json:"examples"`
	LosesTo    []LossDocument   `json:"loses_to"`
	Targets    []TargetDocument `json:"targets"`
}

// LossDocument is another policy that governs accounts which this one reaches.
type LossDocument struct {
	Policy   string   `json:"policy"`
	Accounts int      `json:"accounts"`
	Examples []string `json:"examples"`
}

// TargetDocument is one name in the policy's list of whom it applies to.
type TargetDocument struct {
	DN       string `json:"dn"`
	Idle     string `json:"idle"` // why it does nothing; empty when it works
	Evidence string `json:"evidence"`
}
