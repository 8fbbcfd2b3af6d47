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
	Access    string                `json:"access"`
	Who       string                `json:"who"`
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
	Systems   []string           `json:"systems"` // that the document is about; none: any
	Tiers     []string           `json:"tiers"`
	Who       string             `json:"who"`
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
		Systems: []string{}, Tiers: append([]string{}, b.Tiers...), Who: string(b.Who), Demands: []DemandDocument{}, Dropped: []DroppedDocument{}}
	for _, s := range b.Systems {
		d.Systems = append(d.Systems, s.String())
	}
	for i := range b.Demands {
		x := &b.Demands[i]
		one := DemandDocument{ConditionDocument: newConditionDocument(&x.Condition, x.Text()), Ways: [][]ConditionDocument{},
			Ref: x.Ref, Severity: x.Severity, Why: x.Why,
			Platforms: append([]setting.Platform{}, x.Platforms...), Tiers: append([]string{}, x.Tiers...), Factor: string(x.Factor), Access: string(x.Access), Who: string(x.Who),
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

// BaselineNewDocument is the output of baseline new.
type BaselineNewDocument struct {
	Schema        string            `json:"schema"`
	File          string            `json:"file"`
	ID            string            `json:"id"`
	Title         string            `json:"title"`
	From          string            `json:"from"`
	Kind          string            `json:"kind"`     // "baseline", "settings", "place", or the kind of document
	Document      string            `json:"document"` // what it calls itself
	Version       string            `json:"version"`
	Profile       string            `json:"profile"`
	Profiles      []string          `json:"profiles"` // that the document has
	Demands       int               `json:"demands"`
	All           int               `json:"rules"`
	Selected      int               `json:"selected"`
	Understood    int               `json:"understood"`
	NotUnderstood int               `json:"not_understood"` // though about passwords or lockout
	Elsewhere     int               `json:"other"`          // about other things
	Rules         []RuleDocument    `json:"about"`          // those about passwords or lockout
	Unasked       []DroppedDocument `json:"unasked"`        // settings on which nothing is required
}

// RuleDocument is what came of one rule of a benchmark.
type RuleDocument struct {
	ID       string       `json:"id"`
	Ref      string       `json:"ref"`
	Outcome  string       `json:"outcome"`
	Why      string       `json:"why"`     // it is not understood
	Remarks  []string     `json:"remarks"` // on what is
	Settings []setting.ID `json:"settings"`
}

// BaselineDiffDocument is the output of baseline diff.
type BaselineDiffDocument struct {
	Schema  string               `json:"schema"`
	Was     BaselineDocument     `json:"was"`
	Is      BaselineDocument     `json:"is"`
	Demands []DifferingDocument  `json:"demands"`
	Rows    []baseline.Differing `json:"-"` // for pages
}

// DifferingDocument is a demand of one baseline beside that of another.
type DifferingDocument struct {
	Setting setting.ID      `json:"setting"`
	Where   string          `json:"where"`
	Change  baseline.Change `json:"change"`
	Was     string          `json:"was"`
	WasRef  string          `json:"was_ref"`
	Is      string          `json:"is"`
	IsRef   string          `json:"is_ref"`
}

// NewBaselineDiffDocument lays two baselines side by side.
func NewBaselineDiffDocument(was, is *baseline.Baseline) *BaselineDiffDocument {
	d := &BaselineDiffDocument{Schema: "sternledger/baseline-diff/1", Was: BaselineDocument{ID: was.ID, Version: was.Version},
		Is: BaselineDocument{ID: is.ID, Version: is.Version}, Demands: []DifferingDocument{}, Rows: baseline.Diff(was, is)}
	for _, r := range d.Rows {
		one := DifferingDocument{Setting: r.Setting, Where: r.Where, Change: r.Change}
		if r.Was != nil {
			one.Was, one.WasRef = r.Was.Text(), r.Was.Ref
		}
		if r.Is != nil {
			one.Is, one.IsRef = r.Is.Text(), r.Is.Ref
		}
		d.Demands = append(d.Demands, one)
	}
	return d
}

// ChoosingRow is what fits the places of a platform.
type ChoosingRow struct {
	Platform setting.Platform `json:"platform"`
	Places   int              `json:"places"`
	Chosen   []string         `json:"chosen"`  // of those that fit
	Fitting  []string         `json:"fitting"` // shipped ones that fit and are not chosen
}

// ChoosingDocument is the output of baseline choose.
type ChoosingDocument struct {
	Schema    string        `json:"schema"`
	Chosen    []string      `json:"chosen"`
	Before    []string      `json:"before"` // what was chosen, where that was changed; else the same
	Platforms []ChoosingRow `json:"platforms"`
}
