// Package record is what a weighing found, whole and for good: everything that is
// shown, reported, compared or accepted later is made of it, and nothing is judged
// again. A record is never changed. Each has the number of its format, and every
// later version of the program reads the formats that earlier ones wrote.
package record

import (
	"iter"
	"maps"
	"slices"
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/exposure"
	"sternledger/internal/core/forecast"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/weigh"
)

// Format is that of the records which this version writes. From 3 on a record may have
// fields that a version does not know, and that it passes over: the number rises again only
// where a field's meaning changes.
const Format = 3

// Program names the one that judged.
type Program struct {
	Version string `json:"version"`
	Commit  string `json:"commit,omitempty"` // where the build knows it
	// Modified: it was built of more than that commit.
	Modified bool `json:"modified,omitempty"`
}

// Same reports whether both are known to be one program: what it judges from the same
// facts at the same time is the same.
func (p Program) Same(other Program) bool {
	return p.Commit != "" && p == other && !p.Modified
}

// String writes the version, with the commit where it is known.
func (p Program) String() string {
	if p.Commit == "" {
		return p.Version
	}
	return p.Version + " (" + p.Commit[:min(len(p.Commit), 12)] + ")"
}

// Record is one weighing.
type Record struct {
	Program   Program
	Number    int64
	Made      string // RFC 3339, UTC
	Title     string
	Auditor   string
	Places    []*estate.Authority // all of the estate, without their objects
	Baselines []*baseline.Baseline
	*weigh.Result
	Forecasts []Forecast        // of the usual assumptions, scope by scope
	Rolls     []*Roll           // who lives in which scope, place by place
	Files     map[string]string // evidence that the facts of the time came from, with its SHA-256
	Written   map[string]string // on which day each of them was last changed, as 2006-01-02
	// Setters are the templates that set settings of domains' heads and of machines;
	// Unseen names a template that acts on a place and is not in the evidence.
	// SettersKnown is false in records of versions that did not look for them.
	SettersKnown bool
	Setters      []govern.Setter
	Unseen       map[estate.Place]string

	// First are the amendments that take most off, in their order; none in records of
	// versions that valued nothing.
	First []First

	OutOfService []OutOfService
	names        map[string]string // of matters, by fingerprint, of a part: those of the whole
}

// First is an amendment that comes among the first, and how exposed the estate is when it
// and those before it are made.
type First struct {
	Amendment string         `json:"amendment"` // its name in the plan that is made of the record
	After     exposure.Total `json:"after"`
}

// OutOfService is a place of which what is on record counts no more, and why.
type OutOfService struct {
	Place  estate.Place `json:"place"`
	Entry  int64        `json:"entry"`
	Reason string       `json:"reason"`
}

// Age says of which days the evidence is; empty where nothing does.
func (r *Record) Age() string { return Age(maps.Values(r.Written)) }

// Age says of which days evidence is, from the day of each file.
func Age(days iter.Seq[string]) string {
	all := slices.DeleteFunc(slices.Sorted(days), func(day string) bool { return day == "" })
	switch {
	case len(all) == 0:
		return ""
	case all[0] == all[len(all)-1]:
		return "evidence of " + all[0]
	}
	return "evidence of " + all[0] + " to " + all[len(all)-1]
}

// Forecast is what the settings of a scope allow and ask.
type Forecast struct {
	Scope    *govern.Scope
	Accounts *int64 // enabled ones; nil: not listed
	Figures
}

// Figures are a forecast with what follows for the scope's accounts.
type Figures struct {
	forecast.Forecast
	forecast.Scope
	Weak Share // what the rules make of the weak patterns of probe
}

// Share says what rules make of passwords.
type Share struct {
	Tried      int `json:"tried"`
	Accepted   int `json:"accepted"`
	Refused    int `json:"refused"`
	CannotTell int `json:"cannot_tell"`
}

// Standing is how an account stands: its scope, and the way in which the policy
// came to it.
type Standing struct {
	Scope  *govern.Scope
	Rule   govern.Rule
	Origin string // of the policy; "-" for the default
	Via    string // the group that carries the policy, or "-"
}

// Roll says of each account of a place how it stands.
type Roll struct {
	Place     estate.Place
	Standings []Standing
	rows      []uint32 // by row of the place's objects: 1 + its standing; 0: no account
	known     map[Standing]uint32
}

// NewRoll returns an empty roll of a place.
func NewRoll(at estate.Place) *Roll {
	return &Roll{Place: at, known: map[Standing]uint32{}}
}

// Add notes how the account at a row stands. Rows come in order.
func (r *Roll) Add(row int, s Standing) {
	for len(r.rows) < row {
		r.rows = append(r.rows, 0)
	}
	i, ok := r.known[s]
	if !ok {
		r.Standings = append(r.Standings, s)
		i = uint32(len(r.Standings))
		r.known[s] = i
	}
	r.rows = append(r.rows, i)
}

// Of returns how the account at a row stands; nil for what is none, and where there is
// no roll.
func (r *Roll) Of(row int) *Standing {
	if r == nil || row >= len(r.rows) || r.rows[row] == 0 {
		return nil
	}
	return &r.Standings[r.rows[row]-1]
}

// Roll returns the roll of a place, or nil.
func (r *Record) Roll(at estate.Place) *Roll {
	for _, roll := range r.Rolls {
		if roll.Place == at {
			return roll
		}
	}
	return nil
}
