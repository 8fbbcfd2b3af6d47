package contract

import (
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
)

// RequirementsDocument is the output of requirements.
type RequirementsDocument struct {
	Schema    string                        `json:"schema"`
	Weighing  int64                         `json:"weighing"`
	Baselines []BaselineRequirementDocument `json:"baselines"`
}

// BaselineRequirementDocument is how far a baseline is met.
type BaselineRequirementDocument struct {
	ID           string                `json:"id"`
	Title        string                `json:"title"`
	Version      string                `json:"version"`
	Edition      string                `json:"edition"`
	States       map[record.State]int  `json:"states"` // sections, by state
	Requirements []RequirementDocument `json:"requirements"`
}

// TallyDocument counts verdicts: one for each demand and scope.
type TallyDocument struct {
	State    record.State `json:"state"`
	Met      int          `json:"met"`
	Failed   int          `json:"failed"`
	Unknown  int          `json:"unknown"`
	Accepted int          `json:"accepted"`
	Accounts int          `json:"accounts"` // enabled ones in scopes that fail it
}

// RequirementDocument is one section of a baseline.
type RequirementDocument struct {
	Section  string       `json:"section"`
	Settings []setting.ID `json:"settings"`
	TallyDocument
	By      []PlatformTallyDocument `json:"by"`
	Matters []string                `json:"matters"` // by which it is not met, or not known
}

// PlatformTallyDocument is what a section comes to on the places of one platform.
type PlatformTallyDocument struct {
	Platform setting.Platform `json:"platform"`
	TallyDocument
}

// NewRequirementsDocument describes how far the baselines of a record are met.
func NewRequirementsDocument(r *record.Record, all []*record.Requirement) *RequirementsDocument {
	d := &RequirementsDocument{Schema: "sternledger/requirements/1", Weighing: r.Number, Baselines: []BaselineRequirementDocument{}}
	for _, x := range all {
		if n := len(d.Baselines); n == 0 || d.Baselines[n-1].ID != x.Baseline.ID {
			b := BaselineRequirementDocument{ID: x.Baseline.ID, Title: x.Baseline.Title, Version: x.Baseline.Version, Edition: x.Baseline.Edition,
				States: map[record.State]int{}, Requirements: []RequirementDocument{}}
			for _, state := range record.States {
				b.States[state] = 0
			}
			d.Baselines = append(d.Baselines, b)
		}
		b := &d.Baselines[len(d.Baselines)-1]
		one := RequirementDocument{Section: x.Ref, Settings: x.Settings, TallyDocument: tallyDocument(&x.Tally), By: []PlatformTallyDocument{},
			Matters: append([]string{}, x.Matters...)}
		for i := range x.By {
			one.By = append(one.By, PlatformTallyDocument{x.By[i].Platform, tallyDocument(&x.By[i].Tally)})
		}
		b.States[one.State]++
		b.Requirements = append(b.Requirements, one)
	}
	return d
}

func tallyDocument(t *record.Tally) TallyDocument {
	return TallyDocument{t.State(), t.Met, t.Failed, t.Unknown, t.Accepted, t.Accounts}
}
