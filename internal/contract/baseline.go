package contract

import (
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/setting"
)

// BaselineRow is one baseline in a list.
type BaselineRow struct {
	ID        string             `json:"id"`
	Title     string             `json:"title"`
	Version   string             `json:"version"`
	Source    string             `json:"source"` // "shipped", or the file
	Extends   string             `json:"extends"`
	Platforms []setting.Platform `json:"platforms"`
	Demands   int                `json:"demands"`
}

// BaselineListDocument is the output of baseline list.
type BaselineListDocument struct {
	Schema    string        `json:"schema"`
	Baselines []BaselineRow `json:"baselines"`
}

// ConditionDocument says which values of a setting are good.
type ConditionDocument struct {
	Setting  setting.ID        `json:"setting"`
	Demanded string            `json:"demanded"`
	Kind     baseline.Kind     `json:"kind"`
	Values   []any             `json:"values"` // numbers, booleans or words; durations in seconds; specials by name
	Specials map[string]string `json:"specials"`
}

// DemandDocument is one demand of a baseline.
type DemandDocument struct {
	ConditionDocument
	// Ways are those in which a demand of the kind any-of can be met: all conditions of
	// one have to be. Else there are none.
	Ways      [][]ConditionDocument `json:"ways"`
	Ref       string                `json:"ref"`
	Severity  baseline.Severity     `json:"severity"`
	Why       string                `json:"why"`
	Platforms []setting.Platform    `json:"platforms"`
	Tiers     []string              `json:"tiers"`
	Factor    string                `json:"factor"`
	From      string                `json:"from"` // the baseline that is extended, where the demand is its
	Was       string                `json:"was"`  // what it takes the place of
}

// BaselineShowDocument is the output of baseline show.
type BaselineShowDocument struct {
	Schema    string             `json:"schema"`
	ID        string             `json:"id"`
	Title     string             `json:"title"`
	Version   string             `json:"version"`
	Publisher string             `json:"publisher"`
	Published string             `json:"published"`
	Edition   string             `json:"edition"`
	Sources   []string           `json:"sources"`
	Note      string             `json:"note"`
	Extends   string             `json:"extends"`
	Platforms []setting.Platform `json:"platforms"`
	Tiers     []string           `json:"tiers"`
	Demands   []DemandDocument   `json:"demands"`
	Dropped   []DroppedDocument  `json:"dropped"`
}

// DroppedDocument is a setting on which an own baseline demands nothing.
type DroppedDocument struct {
	Setting setting.ID `json:"setting"`
	Why     string     `json:"why"`
}

// NewBaselineShowDocument describes a baseline.
func NewBaselineShowDocument(b *baseline.Baseline) BaselineShowDocument {
	d := BaselineShowDocument{Schema: "sternledger/baseline-show/1", ID: b.ID, Title: b.Title, Version: b.Version,
		Publisher: b.Publisher, Published: b.Published, Edition: b.Edition,
		Sources: append([]string{}, b.Sources...), Note: b.Note, Extends: b.Extends, Platforms: b.Platforms,
		Tiers: append([]string{}, b.Tiers...), Demands: []DemandDocument{}, Dropped: []DroppedDocument{}}
	for i := range b.Demands {
		x := &b.Demands[i]
		one := DemandDocument{ConditionDocument: newConditionDocument(&x.Condition, x.Text()), Ways: [][]ConditionDocument{},
			Ref: x.Ref, Severity: x.Severity, Why: x.Why,
			Platforms: append([]setting.Platform{}, x.Platforms...), Tiers: append([]string{}, x.Tiers...), Factor: string(x.Factor),
			From: x.From, Was: x.Was}
		for _, way := range x.Ways {
			var conditions []ConditionDocument
			for k := range way {
				conditions = append(conditions, newConditionDocument(&way[k], way[k].Text()))
			}
			one.Ways = append(one.Ways, conditions)
		}
		d.Demands = append(d.Demands, one)
	}
	for _, x := range b.Dropped {
		d.Dropped = append(d.Dropped, DroppedDocument(x))
	}
	return d
}

func newConditionDocument(c *baseline.Condition, text string) ConditionDocument {
	d := ConditionDocument{Setting: c.Setting, Demanded: text, Kind: c.Kind, Values: []any{}, Specials: map[string]string{}}
	for _, v := range c.Values {
		value, special := valueDocument(c.Setting, v)
		if special != "" {
			value = special
		}
		d.Values = append(d.Values, value)
	}
	for sp, holds := range c.Specials {
		d.Specials[string(sp)] = map[bool]string{true: "holds", false: "fails"}[holds]
	}
	return d
}

// ReconcileDocument is the output of baseline reconcile.
type ReconcileDocument struct {
	Schema    string                `json:"schema"`
	Baselines []BaselineDocument    `json:"baselines"`
	Settings  []ReconciledDocument  `json:"settings"`
	Rows      []baseline.Reconciled `json:"-"` // for pages
}

// ReconciledDocument is one setting under several baselines.
type ReconciledDocument struct {
	Setting setting.ID         `json:"setting"`
	Case    string             `json:"case"`    // where it holds, if cases differ
	Band    string             `json:"band"`    // the values that satisfy all; "no value" if none does
	Agrees  bool               `json:"agrees"`  // some value satisfies all
	Demands []ReconciledDemand `json:"demands"` // of each baseline that demands something
	Exclude [][2]string        `json:"exclude"` // baselines whose demands exclude each other
}

// ReconciledDemand is what one baseline demands.
type ReconciledDemand struct {
	Baseline string `json:"baseline"`
	Ref      string `json:"ref"`
	Demanded string `json:"demanded"`
	Why      string `json:"why"`
}
