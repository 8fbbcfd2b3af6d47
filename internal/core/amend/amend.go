// Package amend plans the changes that end findings: at which place each setting is
// to be changed, to which value, what has to come first, and whom it reaches. It
// decides nothing that needs a person, and applies nothing: Apply says what the
// estate would be.
package amend

import (
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/exposure"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Holder is the kind of thing that holds a value, and so the means by which an
// administrator changes it.
type Holder string

// The holders.
const (
	Head        Holder = "domain-head"
	FineGrained Holder = "fine-grained-policy"
	Template    Holder = "template"
	Local       Holder = "windows-machine"
	Unix        Holder = "unix-machine"
	LDAPPolicy  Holder = "ldap-policy"
	Server      Holder = "directory-server"
	Realm       Holder = "realm-policy"
	Field       Holder = "tenant"
	Flags       Holder = "account-flags"
	Elsewhere   Holder = "elsewhere" // no form of change is known
)

// PolicyID is the identity of what is changed: a policy of a place, a template of a
// domain, or a place's accounts.
type PolicyID struct {
	At     estate.Place `json:"at"`
	Holder Holder       `json:"holder"`
	Origin string       `json:"origin"` // DN or path, as the evidence writes it
	Name   string       `json:"name"`
}

// Spot is one place of change: a setting of a policy.
type Spot struct {
	PolicyID
	Cite  estate.Cite `json:"cite"`  // of the value that is there; without Where nothing is set yet
	Where string      `json:"where"` // the attribute, key, option or field, as the place calls it
	Unit  string      `json:"unit,omitempty"`
	GUID  string      `json:"guid,omitempty"` // of a template
	// What stays the same when the policy or the place gets another name.
	PolicyGUID estate.GUID  `json:"policy_guid,omitzero"`
	Identity   string       `json:"identity,omitempty"`
	Owner      string       `json:"owner,omitempty"`
	Rows       []int        `json:"-"` // of accounts whose flags are changed
	Via        estate.Place `json:"-"` // where the setting holds, if a template is changed for it
	Held       []Harm       `json:"-"` // what would come of it; empty: it is not held back
}

// Amendment is one change at one place, or at places that are alike.
type Amendment struct {
	Name        string // A1, A2, …: its place in the order of this plan, and of no other
	Fingerprint string // the same from one plan to the next
	Setting     setting.ID
	Flag        estate.Flag // instead, of accounts: it is taken off
	Precedence  bool        // instead, of a fine-grained policy: From and To are numbers
	From, To    setting.Value
	NotSet      bool // nothing is there yet
	Spots       []Spot
	Scopes      []*govern.Scope
	Settles     []*check.Finding // findings that end with it
	Brings      []check.Finding  // findings that appear with it alone
	Worse       []string         // verdicts that get worse with it alone, in words
	First       []*Amendment     // those without which it does not hold
	Notes       []string         // what the administrator should know
	Severity    baseline.Severity
	Accounts    int // in the scopes that it reaches
	Privileged  int // of these
	// Worth is what it takes off the exposure alone, with what has to come before it, each
	// account by the weight of its tier.
	Worth exposure.Millionths
	rank  int // of those that come first together; 0: it is none of them
}

// Holder is the kind of place that is changed.
func (a *Amendment) Holder() Holder { return a.Spots[0].Holder }

// Title names the setting or the flag.
func (a *Amendment) Title() string {
	switch {
	case a.Flag != 0:
		return a.Spots[0].Name // that of the flag, and of whom it is taken off
	case a.Precedence:
		return "Precedence"
	}
	return setting.Get(a.Setting).Title
}

// Text is a value of the amendment's setting, for people.
func (a *Amendment) Text(v setting.Value) string {
	if a.Precedence {
		n, _ := v.Number()
		return strconv.FormatInt(n, 10)
	}
	return setting.Get(a.Setting).Text(v)
}

// Was and Becomes are what there is and what is proposed, for people.
func (a *Amendment) Was() string {
	switch {
	case a.Flag != 0:
		return "set"
	case a.NotSet:
		return "not set"
	}
	return a.Text(a.From)
}

// Becomes is what is proposed.
func (a *Amendment) Becomes() string {
	if a.Flag != 0 {
		return "cleared"
	}
	return a.Text(a.To)
}

// Policy names what is changed, for people.
func (s *Spot) Policy() string {
	switch s.Holder {
	case Template:
		return "template " + s.Name
	case Flags:
		return "accounts"
	}
	return s.Name
}

// Decision is what a person has to decide: no one change is right.
type Decision struct {
	Title    string
	Choices  string
	Findings []*check.Finding
	Severity baseline.Severity
}

// Plan is what can be changed, what has to be decided, and what lacks evidence.
type Plan struct {
	Amendments []*Amendment
	Decisions  []*Decision
	Evidence   []*check.Finding // that more evidence would settle
	Held       []*check.Finding // that amendments would settle which are held back
	Findings   int              // all that are not waived
	Settled    int              // of these, by all amendments together
	Brings     []check.Finding  // that appear with all of them
	Exact      bool             // it was weighed anew; else it is counted by settings
	// Out are amendments that are planned of the record, and that weighing anew took out
	// again: their names stay theirs.
	Out []Out
}

// Out is an amendment that was taken out of the plan, and why.
type Out struct {
	*Amendment
	Why string
}

// Keep leaves what an owner answers for.
func (p *Plan) Keep(owner string) {
	for _, a := range p.Amendments {
		a.Spots = slices.DeleteFunc(a.Spots, func(s Spot) bool { return !strings.EqualFold(s.Owner, owner) })
	}
	p.Amendments = slices.DeleteFunc(p.Amendments, func(a *Amendment) bool { return len(a.Spots) == 0 })
}

// Left are the findings that remain for a person.
func (p *Plan) Left() (all []*check.Finding) {
	for _, d := range p.Decisions {
		all = append(all, d.Findings...)
	}
	return all
}

// Named returns the amendment of that name or fingerprint; nil where there is none.
func (p *Plan) Named(name string) *Amendment {
	for _, a := range p.Amendments {
		if strings.EqualFold(a.Name, name) || a.Fingerprint == name {
			return a
		}
	}
	return nil
}

// flags are those of accounts that are right to take off, by the check that finds
// them.
var flags = map[string]struct {
	flag  estate.Flag
	mask  uint32 // of userAccountControl
	title string
}{
	"none-required":        {estate.NoneRequired, 0x20, "Password not required (flag)"},
	"reversible-account":   {estate.Reversible, 0x80, "Reversible storage (flag)"},
	"never-expires":        {estate.NeverExpires, 0x10000, "Password never expires (flag)"},
	"no-preauthentication": {estate.NoPreauth, 0x400000, "No Kerberos pre-authentication (flag)"},
}

func flagTitle(f estate.Flag) string {
	for _, x := range flags {
		if x.flag == f {
			return x.title
		}
	}
	return ""
}

// Mask is the bit of userAccountControl in which a flag stands.
func Mask(f estate.Flag) uint32 {
	for _, x := range flags {
		if x.flag == f {
			return x.mask
		}
	}
	return 0
}
