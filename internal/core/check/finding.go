package check

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"slices"
	"strings"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/exposure"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Kind is the verdict of one demand on one scope.
type Kind string

// The verdicts, from good to bad.
const (
	Holds       Kind = "holds"
	Missing     Kind = "missing"
	Conflicting Kind = "conflicting"
	Weak        Kind = "weak"
)

// Kinds lists the verdicts in the order in which pages count them.
var Kinds = []Kind{Holds, Weak, Conflicting, Missing, Waived}

var worse = []Kind{Holds, Waived, Missing, Conflicting, Weak}

// Rank orders verdicts; a higher rank is worse.
func (k Kind) Rank() int { return slices.Index(worse, k) }

// Finding is a verdict that does not hold, or what a check found.
type Finding struct {
	Fingerprint string            `json:"fingerprint"`
	Alias       string            `json:"alias,omitempty"` // the fingerprint of versions before 0.2, which did not know the place's kind
	Kind        Kind              `json:"kind"`
	Beneath     Kind              `json:"beneath,omitempty"` // of a waived one: what it would be
	Waiver      *Waiver           `json:"-"`                 // in force
	Check       string            `json:"check,omitempty"`   // empty when a baseline's demand found it
	Severity    baseline.Severity `json:"severity"`
	Scope       *govern.Scope     `json:"-"` // nil: about the authority as a whole
	Authority   *estate.Authority `json:"-"`
	About       string            `json:"about,omitempty"`    // what the finding is about where the settings do not say it
	Accounts    *int              `json:"accounts"`           // nil: the evidence names no accounts
	Examples    []string          `json:"examples,omitempty"` // the first few of the accounts
	Rows        []int             `json:"rows,omitempty"`     // of the accounts, where they are not the whole scope
	Settings    []setting.ID      `json:"settings,omitempty"`
	Observed    string            `json:"observed"`
	Demanded    string            `json:"demanded"`
	Reason      string            `json:"reason"`
	Remedy      string            `json:"remedy"`
	Evidence    []estate.Cite     `json:"evidence,omitempty"`
	Baselines   []Source          `json:"baselines,omitempty"`
	// Open are the words of the auditor that decide whether what is demanded holds there at all.
	Open []baseline.Word `json:"open,omitempty"`
	// Worth is what mending it is worth; nil: no model says so.
	Worth *exposure.Worth `json:"worth,omitempty"`
	// Stated: the severity is an organisation's own, whatever it is worth.
	Stated bool `json:"stated,omitempty"`
	// Mend is what mending it changes, and Scopes where, of a finding that is about no one scope.
	Mend   *exposure.Change `json:"-"`
	Scopes []*govern.Scope  `json:"-"`
	// Unlisted are accounts that it is about and no evidence lists.
	Unlisted []exposure.Cohort `json:"-"`
}

// ScopeName is the scope the finding is about, or the authority.
func (f *Finding) ScopeName() string {
	if f.Scope == nil {
		return f.Authority.Label()
	}
	return f.Scope.Name()
}

// Found is the verdict, of what is waived the one beneath.
func (f *Finding) Found() Kind {
	if f.Kind == Waived {
		return f.Beneath
	}
	return f.Kind
}

// Undecided reports whether a demand is missing because the evidence does not
// decide which policy governs.
func (f *Finding) Undecided() bool {
	return f.Check == "" && f.Scope != nil && f.Scope.Why != "" && f.Scope.Settings[f.Settings[0]].Missing == govern.NotCollected
}

// Head names in a few words what the finding is about.
func (f *Finding) Head() string {
	if f.Check == "" {
		return setting.Get(f.Settings[0]).Title
	}
	return f.Check
}

// Title says what the finding is about as a person would.
func (f *Finding) Title() string {
	if c := Named(f.Check); c != nil {
		return c.Title
	}
	return f.Head()
}

// Headline is the head, with the value where that is what is wrong.
func (f *Finding) Headline() string {
	if f.Check == "" && (f.Kind == Weak || len(f.Open) > 0) {
		return f.Head() + ": " + f.Observed
	}
	return f.Head()
}

// Source names a baseline and the section of it that a finding fails.
type Source struct {
	ID, Ref string
	// Asks is what the document states; empty in records of earlier versions.
	Asks string `json:",omitempty"`
}

// String writes it with what it states.
func (s Source) String() string {
	text := strings.TrimSpace(s.ID + " " + s.Ref)
	if s.Asks != "" {
		text += ": " + s.Asks
	}
	return text
}

// Stated are the requirements as their documents state them, each once, with who states
// it; empty where a record does not tell.
func Stated(all []Source) string {
	by := map[string][]string{}
	var asked []string
	for _, s := range all {
		if s.Asks == "" {
			return ""
		}
		name := strings.TrimSpace(s.ID + " " + s.Ref)
		if by[s.Asks] == nil {
			asked = append(asked, s.Asks)
		}
		if !slices.Contains(by[s.Asks], name) {
			by[s.Asks] = append(by[s.Asks], name)
		}
	}
	slices.Sort(asked)
	for i, text := range asked {
		slices.Sort(by[text])
		asked[i] = text + " (" + strings.Join(by[text], ", ") + ")"
	}
	return strings.Join(asked, "; ")
}

// Required is what is demanded, as the documents state it; of records of earlier versions
// what satisfies them all, with their sections.
func (f *Finding) Required() string { return Required(f.Demanded, f.Baselines) }

// Required writes what sources state, or else what satisfies them all, with the sources.
func Required(satisfies string, all []Source) string {
	if satisfies == "" || len(all) == 0 {
		return satisfies
	}
	var names []string
	for _, s := range all {
		if name := strings.TrimSpace(s.ID + " " + s.Ref); !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return cmp.Or(Stated(all), satisfies+" ("+strings.Join(names, "; ")+")")
}

// Unweighed is a place that no chosen baseline covers, with the shipped ones
// that would.
type Unweighed struct {
	Authority *estate.Authority
	Fitting   []string
}

// Names returns the account names of rows.
func Names(a *estate.Authority, rows []int) []string {
	var all []string
	for _, row := range rows {
		all = append(all, a.Objects.Name.At(row))
	}
	return all
}

// Fingerprint names a finding by what it is about, not by how bad it is, so
// that it keeps its name from one weighing to the next.
func Fingerprint(f *Finding) string {
	about := []string{string(f.Authority.Kind), f.Authority.Name, f.Check, f.About}
	if s := f.Scope; s != nil {
		id := s.ID()
		about = append(about, id.Name, id.Origin, string(id.From.Kind), id.From.Name, s.Kind())
	}
	return govern.Fingerprint(append(about, onSetting(f)...)...)
}

// onSetting is the setting of a demand's finding: a check's can be more or fewer next time.
func onSetting(f *Finding) []string {
	if f.Check == "" {
		return []string{string(f.Settings[0])}
	}
	return nil
}

// Steady names a finding by what stays the same when its place or policy gets another name:
// SID, machine-id, GUID. Empty: nothing of it does. It can fit findings of two places, such
// as of machines that are copies of one.
func Steady(f *Finding) string {
	place := func(a *estate.Authority) string { return cmp.Or(a.Identity(), a.Name) }
	about := []string{"steady", string(f.Authority.Kind), place(f.Authority), f.Check}
	known := f.Authority.Identity() != ""
	if s := f.Scope; s != nil {
		switch {
		case s.Policy != nil && s.Policy.GUID != estate.GUID{}:
			about, known = append(about, s.Policy.GUID.String()), true
		default:
			about = append(about, s.PolicyName()) // its path or DN goes with the place
		}
		if s.Elsewhere != nil {
			about = append(about, place(s.Elsewhere))
		}
		about = append(about, s.Kind())
	} else {
		about = append(about, f.About)
	}
	if !known {
		return ""
	}
	return govern.Fingerprint(append(about, onSetting(f)...)...)
}

// Alias is the fingerprint that the first versions gave: waivers on record are
// on it. It can fit two places of one name.
func Alias(f *Finding) string {
	about := []string{f.Authority.Name, f.Check, f.About}
	if s := f.Scope; s != nil {
		about = append(about, s.PolicyName(), s.Kind())
		if s.Policy != nil {
			about = append(about, s.Policy.Origin)
		}
	}
	if f.Check == "" { // a check's settings can be more or fewer next time
		about = append(about, string(f.Settings[0]))
	}
	sum := sha256.Sum256([]byte(strings.Join(about, "\x00")))
	return hex.EncodeToString(sum[:6])
}
