// Package contract has the documents of --format json, one file a command. Their
// schemas are in the folder schemas; a field is added, never renamed.
package contract

import (
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
)

// The documents are the contract of --format json: fields are added, never
// renamed. docs/formats.md describes them, "sternledger schema" prints their
// schemas, and a test holds one against the other.

// ScopesDocument is the output of scopes.
type ScopesDocument struct {
	Schema string          `json:"schema"`
	Scopes []ScopeDocument `json:"scopes"`
}

// ScopeDocument is one account scope.
type ScopeDocument struct {
	Scope     string                      `json:"scope"`
	ID        string                      `json:"id"` // unique, also where two places have one name
	Authority string                      `json:"authority"`
	Kind      estate.Kind                 `json:"kind"`
	Cohort    string                      `json:"cohort"` // the id of its place's: places that are alike
	Policy    string                      `json:"policy"`
	Standing  estate.Standing             `json:"standing,omitempty"`
	Tier      string                      `json:"tier"`
	Accounts  *int                        `json:"accounts"`
	Enabled   *int                        `json:"enabled"`
	Settings  map[string]*SettingDocument `json:"settings"`
}

// SettingDocument is one effective setting. Value is a number, a boolean or a
// word; Special stands in its place; neither when it is not set.
type SettingDocument struct {
	Value    any             `json:"value,omitempty"`
	Special  setting.Special `json:"special,omitempty"`
	Text     string          `json:"text"`
	Raw      string          `json:"raw,omitempty"`
	Evidence string          `json:"evidence,omitempty"`
	From     string          `json:"from,omitempty"`
	Remark   string          `json:"remark,omitempty"` // what is unusual about the value
}

func scopeDocument(s *govern.Scope) ScopeDocument {
	d := ScopeDocument{Scope: s.Name(), ID: s.ID().String(), Authority: s.Authority.Name, Kind: s.Authority.Kind, Policy: s.PolicyName(),
		Tier: s.Tier, Settings: map[string]*SettingDocument{}}
	if s.Policy != nil {
		d.Standing = s.Policy.Standing
	}
	if s.Listed() {
		d.Accounts = &s.Accounts
	}
	if s.Authority.Listed {
		d.Enabled = &s.Enabled
	}
	for id, e := range s.Settings {
		if e.Missing != govern.NoSuch {
			d.Settings[string(id)] = NewSettingDocument(id, e)
		}
	}
	return d
}

func NewSettingDocument(id setting.ID, e govern.Effective) *SettingDocument {
	s := setting.Get(id)
	d := &SettingDocument{Text: s.Text(e.Value), Raw: e.Cite.Raw, Evidence: e.Cite.String(), From: e.From, Remark: e.Remark}
	if e.Missing != govern.Present {
		d.Text = string(e.Missing)
		return d
	}
	d.Value, d.Special = valueDocument(id, e.Value)
	return d
}

// valueDocument returns a value as JSON has it: a number, a boolean or a word,
// or, in its place, a special.
func valueDocument(id setting.ID, v setting.Value) (any, setting.Special) {
	if n, ok := v.Number(); ok {
		return n, ""
	}
	if sp, ok := v.Special(); ok {
		return nil, sp
	}
	w, ok := v.Word()
	switch {
	case ok && setting.Get(id).Kind == setting.Toggle:
		return w == "on", ""
	case ok:
		return w, ""
	}
	return nil, ""
}

// NewScopesDocument describes scopes.
func NewScopesDocument(scopes []*govern.Scope) ScopesDocument {
	d := ScopesDocument{Schema: "sternledger/scopes/1", Scopes: []ScopeDocument{}}
	cohort := map[*estate.Authority]string{}
	for _, c := range record.Alike(scopes, nil) {
		for _, a := range c.Places {
			cohort[a] = c.ID
		}
	}
	for _, s := range scopes {
		one := scopeDocument(s)
		one.Cohort = cohort[s.Authority]
		d.Scopes = append(d.Scopes, one)
	}
	return d
}

func NewSettingDocuments(settings map[setting.ID]govern.Effective) map[string]*SettingDocument {
	all := map[string]*SettingDocument{}
	for id, e := range settings {
		if e.Missing != govern.NoSuch {
			all[string(id)] = NewSettingDocument(id, e)
		}
	}
	return all
}
