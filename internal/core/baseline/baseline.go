// Package baseline reads baselines: what an organisation's settings should be,
// as a list of demands, each with its reason and its place in a public
// document. The document rules; a baseline file only carries its figures.
package baseline

import (
	"fmt"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/strictyaml"
)

// Severity is how much a shortfall matters.
type Severity string

// The severities.
const (
	Minor   Severity = "minor"
	Serious Severity = "serious"
	Grave   Severity = "grave"
)

var severities = []Severity{Minor, Serious, Grave}

// Rank orders severities; a higher rank is worse.
func (s Severity) Rank() int { return slices.Index(severities, s) }

// Baseline is a list of demands.
type Baseline struct {
	ID        string
	Title     string
	Version   string // of the file, not of the document
	Publisher string // of the document
	Published string // when the document was
	Edition   string // of the document
	Sources   []string
	Note      string
	Extends   string // the baseline that it changes; empty: none
	Platforms []setting.Platform
	Systems   []estate.System // that the document is about, by kind and, if not all, version; empty: any
	Tiers     []string        // empty: all
	Who       Who             `json:",omitempty"`
	Demands   []Demand
	Dropped   []Dropped // what it takes out of the one that it extends

	path string
	at   strictyaml.Text // of extends
	refs map[setting.ID]strictyaml.Text
}

// Dropped is a setting on which an extending baseline demands nothing.
type Dropped struct {
	Setting setting.ID
	Why     string
}

// Kind is the form of a demand.
type Kind string

// The kinds.
const (
	AtLeast Kind = "at-least"
	AtMost  Kind = "at-most"
	Exactly Kind = "exactly"
	OneOf   Kind = "one-of"
	Between Kind = "between"
	AnyOf   Kind = "any-of" // of a demand only: it has ways
)

// Demand is one line of a baseline: a condition, or ways, any of which will do. One
// with ways is about the setting that its first way begins with.
type Demand struct {
	Condition
	Ways     []Way `json:",omitempty"`
	Ref      string
	Severity Severity
	Why      string
	// Stated: an organisation of its own states the severity, and it rules over what the
	// finding is worth.
	Stated bool `json:",omitempty"`

	// Where it holds; empty: wherever the baseline does.
	Platforms []setting.Platform
	Tiers     []string
	Factor    Factor
	Access    Access `json:",omitempty"`
	Who       Who    `json:",omitempty"`
	// Of a demand in a baseline that extends another: the baseline it comes
	// from, and what it takes the place of.
	From string
	Was  string
	at   strictyaml.Text
}

// Where says in words where a demand holds, if not everywhere.
func (d *Demand) Where() string {
	var words []string
	if len(d.Platforms) > 0 {
		var names []string
		for _, p := range d.Platforms {
			names = append(names, string(p))
		}
		words = append(words, "on "+strings.Join(names, ", "))
	}
	if d.Tiers != nil {
		words = append(words, "for "+strings.Join(d.Tiers, ", "))
	}
	if d.Who != "" {
		words = append(words, "for "+string(d.Who))
	}
	switch d.Factor {
	case Only:
		words = append(words, "where the password is the only factor")
	case Second:
		words = append(words, "with a second factor")
	}
	if d.Access != "" {
		words = append(words, accessWords[d.Access])
	}
	return strings.Join(words, " ")
}

// applies reports whether the demand holds there.
func (d *Demand) applies(p setting.Platform, tier string, s Situation) bool {
	return (len(d.Platforms) == 0 || slices.Contains(d.Platforms, p)) && (len(d.Tiers) == 0 || slices.Contains(d.Tiers, tier)) &&
		d.Who.has(tier) && d.In(s)
}

// overlaps reports whether two demands about a setting can hold at one place.
func (d *Demand) overlaps(e *Demand) bool {
	meet := func(x, y int, any bool) bool { return x == 0 || y == 0 || any }
	return d.Setting == e.Setting &&
		meet(len(d.Platforms), len(e.Platforms),
			slices.ContainsFunc(d.Platforms, func(p setting.Platform) bool { return slices.Contains(e.Platforms, p) })) &&
		meet(len(d.Tiers), len(e.Tiers), slices.ContainsFunc(d.Tiers, func(t string) bool { return slices.Contains(e.Tiers, t) })) &&
		(d.Factor == "" || e.Factor == "" || d.Factor == e.Factor) && (d.Who == "" || e.Who == "" || d.Who == e.Who)
}

// For returns the demands that hold on a platform for a tier: the first one about each
// setting, and the first with ways of the same file. Own demands go before those of
// the baseline that is extended.
func (b *Baseline) For(p setting.Platform, tier string, s Situation) []*Demand {
	if !b.Covers(p) || b.Tiers != nil && !slices.Contains(b.Tiers, tier) || !b.Who.has(tier) {
		return nil
	}
	var all []*Demand
	for i := range b.Demands {
		d := &b.Demands[i]
		if d.applies(p, tier, s) && !slices.ContainsFunc(all, func(e *Demand) bool { return e.instead(d) }) {
			all = append(all, d)
		}
	}
	slices.SortStableFunc(all, func(x, y *Demand) int { return setting.Order(x.Setting, y.Setting) })
	return all
}

// instead reports whether the demand goes before another one on the same setting. Of
// one file, a condition and ways both hold, and so do ways of other settings.
func (d *Demand) instead(e *Demand) bool {
	return d.Setting == e.Setting && (d.From != e.From || slices.Equal(d.Involved(), e.Involved()))
}

// file is a baseline as it is written; docs/formats.md describes it.
type file struct {
	ID        strictyaml.Text            `yaml:"id"`
	Title     string                     `yaml:"title"`
	Version   strictyaml.Text            `yaml:"version"`
	Publisher string                     `yaml:"publisher"`
	Published strictyaml.Text            `yaml:"published"`
	Edition   strictyaml.Text            `yaml:"edition"`
	Note      string                     `yaml:"note"`
	Sources   []string                   `yaml:"sources"`
	Extends   strictyaml.Text            `yaml:"extends"`
	For       forWhom                    `yaml:"for"`
	Demands   []demandAsWritten          `yaml:"demands"`
	Refs      map[string]strictyaml.Text `yaml:"refs"`
	Drop      []struct {
		Setting strictyaml.Text `yaml:"setting"`
		Why     string          `yaml:"why"`
	} `yaml:"drop"`
}

type forWhom struct {
	Platforms []strictyaml.Text `yaml:"platforms"`
	Systems   []strictyaml.Text `yaml:"systems"`
	Tiers     []strictyaml.Text `yaml:"tiers"`
	Who       strictyaml.Text   `yaml:"who"`
}

type demandAsWritten struct {
	One       conditionAsWritten     `yaml:",inline"`
	AnyOf     [][]conditionAsWritten `yaml:"any-of"`
	Ref       strictyaml.Text        `yaml:"ref"`
	Severity  strictyaml.Text        `yaml:"severity"`
	Why       string                 `yaml:"why"`
	Platforms []strictyaml.Text      `yaml:"platforms"`
	Tiers     []strictyaml.Text      `yaml:"tiers"`
	Factor    strictyaml.Text        `yaml:"factor"`
	Access    strictyaml.Text        `yaml:"access"`
	Who       strictyaml.Text        `yaml:"who"`
}

// Parse reads a baseline file. Errors name path, line and column. One that
// extends another is only whole after Resolve.
func Parse(path string, data []byte) (*Baseline, error) {
	var f file
	if err := strictyaml.Unmarshal(path, data, &f); err != nil {
		return nil, err
	}
	b := &Baseline{ID: f.ID.Value, Title: f.Title, Version: f.Version.Value, Publisher: f.Publisher, Published: f.Published.Value,
		Edition: f.Edition.Value,
		Sources: f.Sources, Note: strings.TrimSpace(f.Note), Extends: f.Extends.Value, Tiers: texts(f.For.Tiers), Who: Who(f.For.Who.Value), path: path, at: f.Extends}
	if b.ID == "" || b.Title == "" || b.Version == "" {
		return nil, f.ID.Errorf(path, "a baseline needs id, title and version")
	}
	if err := whom(path, f.For.Who); err != nil {
		return nil, err
	}
	var err error
	if b.Platforms, err = platforms(path, f.For.Platforms); err != nil {
		return nil, err
	}
	for _, text := range f.For.Systems {
		kind, version, _ := strings.Cut(text.Value, " ")
		if kind == "" || kind != strings.ToLower(kind) {
			return nil, text.Errorf(path, "system %q; expected its name as os-release has it, and the version where it matters: debian 12",
				text.Value)
		}
		b.Systems = append(b.Systems, estate.System{Kind: kind, Version: version})
	}
	if err := b.numbers(path, f.Refs); err != nil {
		return nil, err
	}
	if b.Extends == "" && (len(b.Platforms) == 0 || len(f.Demands) == 0) {
		return nil, f.ID.Errorf(path, "a baseline needs \"for: platforms:\" and at least one demand")
	}
	for i := range f.Demands {
		d, err := f.Demands[i].parse(path)
		if err != nil {
			return nil, err
		}
		for k := range b.Demands {
			// A narrower one may go before a wider one: the first that holds counts.
			if e := &b.Demands[k]; d.overlaps(e) && e.instead(d) && (!d.contains(e) || e.contains(d)) {
				return nil, d.at.Errorf(path, "a second demand on %s for the same platform and tier; the first is on line %d", d.Setting, e.at.Line)
			}
		}
		b.Demands = append(b.Demands, *d)
	}
	for _, w := range f.Drop {
		s, err := lookup(path, w.Setting)
		if err != nil {
			return nil, err
		}
		if strings.TrimSpace(w.Why) == "" || b.Extends == "" {
			return nil, w.Setting.Errorf(path, "drop takes a demand out of the baseline that is extended (extends), and says why")
		}
		b.Dropped = append(b.Dropped, Dropped{s.ID, strings.TrimSpace(w.Why)})
	}
	if b.Extends == "" {
		return b, b.check()
	}
	return b, nil
}

// numbers reads the sections of what is extended.
func (b *Baseline) numbers(path string, refs map[string]strictyaml.Text) error {
	b.refs = map[setting.ID]strictyaml.Text{}
	for id, ref := range refs {
		if b.Extends == "" {
			return ref.Errorf(path, "refs names the sections of demands of the baseline that is extended (extends); write others into their demands")
		}
		s, err := lookup(path, strictyaml.Text{Value: id, Line: ref.Line, Column: ref.Column})
		if err != nil {
			return err
		}
		b.refs[s.ID] = ref
	}
	return nil
}

// check reports demands that none of their platforms could meet.
func (b *Baseline) check() error {
	for i := range b.Demands {
		d := &b.Demands[i]
		where := d.Platforms
		if len(where) == 0 {
			where = b.Platforms
		}
		for _, p := range where {
			if !b.Covers(p) {
				return d.at.Errorf(b.path, "the demand on %s is for %s, which the baseline is not for", d.Setting, p)
			}
		}
		if !slices.ContainsFunc(where, d.possible) {
			if d.Ways != nil {
				return d.at.Errorf(b.path, "the demand on %s: none of its platforms (%v) has the settings of any of its ways", d.Setting, where)
			}
			return d.at.Errorf(b.path, "the demand on %s: none of its platforms (%v) has that setting", d.Setting, where)
		}
	}
	return nil
}

// State makes the severities of its demands rule: it is an organisation's own.
func (b *Baseline) State() {
	for i := range b.Demands {
		b.Demands[i].Stated = true
	}
}

// Resolve loads a baseline, and the ones that it extends, and lays them over
// one another.
func Resolve(id string, load func(id string) (*Baseline, error)) (*Baseline, error) {
	return resolve(id, load, nil)
}

func resolve(id string, load func(id string) (*Baseline, error), above []string) (*Baseline, error) {
	b, err := load(id)
	if err != nil || b.Extends == "" {
		return b, err
	}
	above = append(above, id)
	if slices.Contains(above, b.Extends) {
		return nil, b.at.Errorf(b.path, "a circle: %s extends %s", strings.Join(above, " extends "), b.Extends)
	}
	under, err := resolve(b.Extends, load, above)
	if err != nil {
		return nil, b.at.Errorf(b.path, "extends %q: %v", b.Extends, err)
	}
	return b.over(under)
}

// over lays a baseline over the one that it extends.
func (b *Baseline) over(under *Baseline) (*Baseline, error) {
	all := *b
	if len(all.Platforms) == 0 {
		all.Platforms = under.Platforms
	}
	if len(all.Sources) == 0 {
		all.Sources = under.Sources
	}
	if all.Who == "" {
		all.Who = under.Who
	}
	all.Demands = slices.Clone(b.Demands)
	for i := range under.Demands {
		d := under.Demands[i]
		if slices.ContainsFunc(b.Dropped, func(x Dropped) bool { return x.Setting == d.Setting }) {
			continue
		}
		if d.From == "" {
			d.From = under.ID
		}
		if ref, ok := b.refs[d.Setting]; ok {
			d.Ref = ref.Value
		}
		hidden := false
		for k := range b.Demands {
			own := &all.Demands[k]
			if own.overlaps(&d) {
				own.Was = d.Text() + " of " + d.From
				hidden = hidden || own.contains(&d)
			}
		}
		if !hidden {
			all.Demands = append(all.Demands, d)
		}
	}
	for id, ref := range b.refs {
		if !slices.ContainsFunc(under.Demands, func(d Demand) bool { return d.Setting == id }) {
			return nil, ref.Errorf(b.path, "refs: %s demands nothing on %s", under.ID, id)
		}
	}
	for _, x := range b.Dropped {
		if !slices.ContainsFunc(under.Demands, func(d Demand) bool { return d.Setting == x.Setting }) {
			return nil, b.at.Errorf(b.path, "drop: %s demands nothing on %s", under.ID, x.Setting)
		}
	}
	return &all, all.check()
}

// contains reports whether the demand holds wherever e does.
func (d *Demand) contains(e *Demand) bool {
	all := func(x, y int, inside bool) bool { return x == 0 || y > 0 && inside }
	return all(len(d.Platforms), len(e.Platforms),
		!slices.ContainsFunc(e.Platforms, func(p setting.Platform) bool { return !slices.Contains(d.Platforms, p) })) &&
		all(len(d.Tiers), len(e.Tiers), !slices.ContainsFunc(e.Tiers, func(t string) bool { return !slices.Contains(d.Tiers, t) })) &&
		(d.Factor == "" || d.Factor == e.Factor) && (d.Access == "" || d.Access == e.Access) && (d.Who == "" || d.Who == e.Who)
}

func whom(path string, w strictyaml.Text) error {
	if w.Value != "" && w.Value != string(People) && w.Value != string(Services) {
		return w.Errorf(path, "who %q; expected people or services", w.Value)
	}
	return nil
}

func texts(written []strictyaml.Text) []string {
	var all []string
	for _, t := range written {
		all = append(all, t.Value)
	}
	return all
}

func platforms(path string, written []strictyaml.Text) ([]setting.Platform, error) {
	var all []setting.Platform
	for _, p := range written {
		if known := append(slices.Clone(setting.Places), setting.Other); !slices.Contains(known, setting.Platform(p.Value)) {
			return nil, p.Errorf(path, "unknown platform %q; known are %v", p.Value, known)
		}
		all = append(all, setting.Platform(p.Value))
	}
	return all, nil
}

func lookup(path string, id strictyaml.Text) (*setting.Setting, error) {
	s, ok := setting.Lookup(setting.ID(id.Value))
	if ok {
		return s, nil
	}
	var ids []string
	for _, row := range setting.Table() {
		ids = append(ids, string(row.ID))
	}
	return nil, id.Errorf(path, "unknown setting %q; %s", id.Value, strictyaml.Hint(id.Value, ids))
}

func (w *demandAsWritten) parse(path string) (*Demand, error) {
	d := &Demand{Ref: w.Ref.Value, Why: strings.Join(strings.Fields(w.Why), " "), Severity: Severity(w.Severity.Value),
		Tiers: texts(w.Tiers), Factor: Factor(w.Factor.Value), Access: Access(w.Access.Value), Who: Who(w.Who.Value), at: w.One.Setting}
	if err := w.condition(path, d); err != nil {
		return nil, err
	}
	var err error
	if d.Platforms, err = platforms(path, w.Platforms); err != nil {
		return nil, err
	}
	if d.Factor != "" && d.Factor != Only && d.Factor != Second {
		return nil, w.Factor.Errorf(path, "factor %q of the demand on %s; expected only (no second factor) or second", d.Factor, d.Setting)
	}
	if err := whom(path, w.Who); err != nil {
		return nil, err
	}
	if d.Access != "" && !slices.Contains(accesses, d.Access) {
		return nil, w.Access.Errorf(path, "access %q of the demand on %s; expected one of %v", d.Access, d.Setting, accesses)
	}
	if d.Severity.Rank() < 0 {
		at := w.Severity
		if at.Line == 0 {
			at = d.at
		}
		return nil, at.Errorf(path, "severity %q of the demand on %s; expected one of %v", d.Severity, d.Setting, severities)
	}
	if d.Why == "" {
		return nil, d.at.Errorf(path, "the demand on %s gives no reason (why)", d.Setting)
	}
	return d, nil
}

// condition reads the one condition of a demand, or its ways.
func (w *demandAsWritten) condition(path string, d *Demand) error {
	if w.AnyOf == nil {
		c, err := w.One.parse(path)
		if err == nil {
			d.Condition = *c
		}
		return err
	}
	return w.ways(path, d)
}

// Fits reports whether the baseline is about what a place runs on: what it names, or
// anything where it names nothing.
func (b *Baseline) Fits(at estate.System) bool {
	return len(b.Systems) == 0 || slices.ContainsFunc(b.Systems, func(s estate.System) bool {
		return s.Kind == at.Kind && (s.Version == "" || s.Version == at.Version || strings.HasPrefix(at.Version, s.Version+"."))
	})
}

// Covers reports whether the baseline speaks about that platform.
func (b *Baseline) Covers(p setting.Platform) bool { return slices.Contains(b.Platforms, p) }

// String names the baseline with its version.
func (b *Baseline) String() string { return fmt.Sprintf("%s %s", b.ID, b.Version) }
