package contract

import (
	"time"

	"sternledger/internal/core/amend"
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/exposure"
	"sternledger/internal/core/setting"
)

// AmendDocument is the output of amend, and plan.json among its change files.
type AmendDocument struct {
	Schema     string              `json:"schema"`
	Weighing   int64               `json:"weighing"`
	Seal       string              `json:"seal"` // of the entry of that weighing
	Findings   int                 `json:"findings"`
	Settled    int                 `json:"settled"` // by the amendments that are listed
	Ends       []string            `json:"ends"`    // fingerprints of the findings that end with all of them
	Graves     int                 `json:"grave_left"`
	Amendments []AmendmentDocument `json:"amendments"`
	Decisions  []DecisionDocument  `json:"decisions"`
	Evidence   []string            `json:"need_evidence"` // fingerprints of findings
	Appear     []FindingDocument   `json:"appear"`
	Worse      []string            `json:"worse"`
	LeftOut    []LeftOutDocument   `json:"left_out"`      // planned of the record, and taken out by weighing anew
	Held       []string            `json:"held_findings"` // fingerprints of those that only what is held back would end
	Played     PlayedDocument      `json:"played"`
	Changes    [2]float64          `json:"forced_changes_a_year"` // now, and with them
	Calls      [2]float64          `json:"unlock_calls_a_year"`
	// Exposure is now, and with all that are listed and not held back; null: the record is of
	// a version that valued nothing. Steps are these amendments in the order in which they take
	// most off for each place.
	Exposure *[2]FallsDocument `json:"exposure"`
	Steps    []StepDocument    `json:"steps"`
}

// LeftOutDocument is an amendment that report has and amend has not, and why.
type LeftOutDocument struct {
	Name        string `json:"name"`
	Fingerprint string `json:"fingerprint"`
	Why         string `json:"why"`
}

// StepDocument is how exposed the estate is when an amendment and those before it are made.
type StepDocument struct {
	Amendment string        `json:"amendment"`
	Falls     float64       `json:"falls"` // weighted by tier, after those before
	After     FallsDocument `json:"after"`
}

// NewFallsDocument describes a total.
func NewFallsDocument(t exposure.Total) FallsDocument {
	return FallsDocument{three(t.Falls), three(t.Admins)}
}

// Total is what the document describes, but for how many accounts there are.
func (d *FallsDocument) Total() exposure.Total {
	return exposure.Total{Falls: rangeOf(d.All), Admins: rangeOf(d.Privileged)}
}

// NewStepDocuments describes a staircase.
func NewStepDocuments(all []amend.Step) []StepDocument {
	docs := []StepDocument{}
	for i := range all {
		docs = append(docs, StepDocument{all[i].Name, all[i].Falls.Float(), NewFallsDocument(all[i].After)})
	}
	return docs
}

// AmendmentDocument is one change.
type AmendmentDocument struct {
	Name        string            `json:"name"`
	Fingerprint string            `json:"fingerprint"`
	Setting     setting.ID        `json:"setting,omitempty"`
	Flag        string            `json:"flag,omitempty"` // that is taken off accounts
	Title       string            `json:"title"`          // for people; without setting and flag: a policy's precedence
	From        string            `json:"from"`
	To          string            `json:"to"`
	Value       *setting.Value    `json:"value,omitempty"` // To, as documents write values
	Holder      amend.Holder      `json:"holder"`
	Spots       []SpotDocument    `json:"spots"`
	First       []string          `json:"first"` // names of amendments that have to come before
	Severity    baseline.Severity `json:"severity"`
	Settles     []string          `json:"settles"` // fingerprints of findings
	Appear      []string          `json:"appear"`  // with it alone
	Scopes      []string          `json:"scopes"`
	Accounts    int               `json:"accounts"`
	Privileged  int               `json:"privileged"`
	Worth       float64           `json:"worth"` // what it takes off the exposure alone, each account by the weight of its tier
	Touches     TouchDocument     `json:"touches"`
	Notes       []string          `json:"notes"`
}

// SpotDocument is one place of change.
type SpotDocument struct {
	Place    string         `json:"place"`
	Kind     estate.Kind    `json:"kind"`
	Policy   string         `json:"policy"`
	Origin   string         `json:"origin"`
	Where    string         `json:"where"`
	Owner    string         `json:"owner"`
	Evidence CiteDocument   `json:"evidence"`
	Accounts []string       `json:"accounts,omitempty"`  // whose flags are changed
	Written  string         `json:"written"`             // the value as the place writes it; empty: in words only
	Files    []string       `json:"files,omitempty"`     // that change it, where they were written
	Undo     []string       `json:"undo,omitempty"`      // that change it back
	ByHand   string         `json:"by_hand,omitempty"`   // why no file changes it
	Held     []HeldDocument `json:"held_back,omitempty"` // why it is not to be made yet
}

// TouchDocument says whom a change hits.
type TouchDocument struct {
	Now      int      `json:"change_at_once"`
	Week     int      `json:"change_within_7_days"`
	Month    int      `json:"change_within_30_days"`
	Horizon  int      `json:"change_within_90_days"`
	Disabled int      `json:"switched_off"` // at once
	Later    int      `json:"switched_off_within_90_days"`
	Next     int      `json:"at_next_change"`
	NoDate   int      `json:"without_date"`
	Unlisted []string `json:"accounts_not_listed"` // places
	Services []string `json:"service_accounts"`
	Lockable []string `json:"lockable_service_accounts"` // that a stranger can stop by failed attempts from then on
	What     string   `json:"what"`
}

// PlayedDocument is what comes of all accounts with all that is listed and not held
// back, if nobody acts.
type PlayedDocument struct {
	What     string         `json:"what"`
	Shut     WithinDocument `json:"cannot_sign_in"`
	Must     WithinDocument `json:"must_act_at_sign_in"` // change the password, or register a second factor
	Unknown  int            `json:"not_known"`
	Unlisted []string       `json:"accounts_not_listed"` // places
	Accounts []FateDocument `json:"accounts"`            // the worst first; of people who only have to act the first few
}

// WithinDocument counts accounts by when it is so with them; none is counted twice.
type WithinDocument struct {
	AtOnce  int `json:"at_once"`
	Week    int `json:"within_7_days"`
	Month   int `json:"within_30_days"`
	Horizon int `json:"within_90_days"`
}

// FateDocument is what comes of one account.
type FateDocument struct {
	Place         string `json:"place"`
	Account       string `json:"account"`
	Outcome       string `json:"outcome"` // cannot-sign-in, must-act, not-known
	Day           int    `json:"day"`     // from which on; 0: the day of the weighing
	Cause         string `json:"cause"`   // aged, idle, empty, factor
	Administrator bool   `json:"administrator"`
	Service       string `json:"service"` // told, by-name, or empty
}

// HeldDocument is why a change is held back at a place.
type HeldDocument struct {
	Damage   string   `json:"damage"` // no-way-in, root-out, all-lockable, service-out, may-lock-all, unforeseen
	Place    string   `json:"place"`
	Day      int      `json:"day"`
	Accounts []string `json:"accounts"`
	What     string   `json:"what"`
	Instead  string   `json:"instead"`
}

// DecisionDocument is what a person has to decide.
type DecisionDocument struct {
	Title    string            `json:"title"`
	Choices  string            `json:"choices"`
	Severity baseline.Severity `json:"severity"`
	Findings []string          `json:"findings"`
}

// NewTouchDocument describes whom a change hits.
func NewTouchDocument(t *amend.Touched) TouchDocument {
	return TouchDocument{t.Must.AtOnce, t.Must.Week, t.Must.Month, t.Must.Horizon, t.Shut.AtOnce, t.Shut.All() - t.Shut.AtOnce, t.Next,
		t.Unknown, placeNames(t.Unlisted), append([]string{}, t.Services...), append([]string{}, t.Lockable...), t.What}
}

func placeNames(all []estate.Place) []string {
	names := []string{}
	for _, at := range all {
		names = append(names, at.Name)
	}
	return names
}

// The words of documents for what is typed in the core.
var (
	outcomes = map[amend.Outcome]string{amend.NotKnown: "not-known", amend.MustAct: "must-act", amend.ShutOut: "cannot-sign-in"}
	causes   = map[amend.Cause]string{amend.Aged: "aged", amend.Idle: "idle", amend.EmptyRefused: "empty", amend.FactorAsked: "factor"}
	serving  = map[amend.Serves]string{amend.ByName: "by-name", amend.Told: "told"}
	damages  = map[amend.Damage]string{amend.NoWayIn: "no-way-in", amend.RootOut: "root-out", amend.AllLockable: "all-lockable",
		amend.ServiceOut: "service-out", amend.MayLockAll: "may-lock-all", amend.Unforeseen: "unforeseen"}
)

// NewPlayedDocument describes what comes of all accounts.
func NewPlayedDocument(x *amend.Played) PlayedDocument {
	d := PlayedDocument{What: x.Text(), Shut: WithinDocument(x.Shut), Must: WithinDocument(x.Must), Unknown: x.Unknown,
		Unlisted: placeNames(x.Unlisted), Accounts: []FateDocument{}}
	for _, f := range x.Fates {
		d.Accounts = append(d.Accounts, FateDocument{f.Place.Name, f.Name, outcomes[f.Outcome], f.Day, causes[f.Cause], f.Admin, serving[f.Serves]})
	}
	return d
}

// DayOf names the days of a plan that was made at a time.
func DayOf(at time.Time) func(day int) string {
	return func(day int) string { return at.AddDate(0, 0, day).Format(time.DateOnly) }
}

// NewHeldDocuments describe why a change that was planned at a time is held back.
func NewHeldDocuments(all []amend.Harm, at time.Time) []HeldDocument {
	var out []HeldDocument
	for i := range all {
		h := &all[i]
		one := HeldDocument{Damage: damages[h.Damage], Place: h.Place.Name, Day: h.Day, Accounts: []string{}, What: h.Text(DayOf(at)), Instead: h.Instead()}
		for _, f := range h.Fates {
			one.Accounts = append(one.Accounts, f.Name)
		}
		out = append(out, one)
	}
	return out
}

// AmendStatusDocument is the output of amend --status.
type AmendStatusDocument struct {
	Schema     string            `json:"schema"`
	Weighing   int64             `json:"weighing"` // the newest, by which the states are told
	Behind     string            `json:"behind"`   // what was recorded since, and is not in it
	Amendments []AmendedDocument `json:"amendments"`
}

// AmendedDocument is what came of one amendment.
type AmendedDocument struct {
	Entry       int64                  `json:"entry"`
	At          string                 `json:"at"`
	Name        string                 `json:"name"`
	Fingerprint string                 `json:"fingerprint"`
	Title       string                 `json:"title"`
	From        string                 `json:"from"`
	To          string                 `json:"to"`
	Took        int                    `json:"took"` // places
	Of          int                    `json:"of"`
	Places      []AmendedPlaceDocument `json:"places"`
}

// AmendedPlaceDocument is what came of it at one place.
type AmendedPlaceDocument struct {
	Place  string      `json:"place"`
	Kind   estate.Kind `json:"kind"`
	Policy string      `json:"policy"`
	State  string      `json:"state"` // took, not-yet, otherwise, undone, unseen
	Now    string      `json:"now"`
}
