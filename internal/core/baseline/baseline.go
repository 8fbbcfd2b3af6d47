// Package baseline reads baselines: what an organisation's settings should be,
// as a list of demands, each with its reason and its place in a public
// document. The document rules; a baseline file only carries its figures.
package baseline

import (
	"fmt"
	"slices"
	"strings"

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

// Raised returns the severity one step up.
func (s Severity) Raised() Severity { return severities[min(s.Rank()+1, len(severities)-1)] }

// Baseline is a list of demands.
type Baseline struct {
	ID        string
	Title     string
	Version   string // of the file, not of the document
	Publisher string // of the document
	Edition   string // of the document
	Platforms []setting.Platform
	Demands   []Demand
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
)

// Demand is one line of a baseline.
type Demand struct {
	Setting  setting.ID
	Kind     Kind
	Values   []setting.Value // one; two for Between; any number for OneOf
	Specials map[setting.Special]bool
	Ref      string
	Severity Severity
	Why      string
}

// Text says in words what is demanded.
func (d *Demand) Text() string {
	s := setting.Get(d.Setting)
	var words []string
	for _, v := range d.Values {
		words = append(words, s.Text(v))
	}
	text := ""
	switch d.Kind {
	case AtLeast:
		text = "at least " + words[0]
	case AtMost:
		text = "at most " + words[0]
	case Between:
		text = words[0] + " to " + words[1]
	default:
		text = strings.Join(words, " or ")
	}
	for _, k := range s.Specials {
		if d.Specials[k.Special] && !slices.Contains(d.Values, setting.Of(k.Special)) {
			text += ", or " + k.Phrase
		}
	}
	return text
}

// Met reports whether v, which must be set, meets the demand. A special meets
// it only by the demand's own word, never as a number.
func (d *Demand) Met(v setting.Value) bool {
	if slices.Contains(d.Values, v) {
		return true
	}
	if sp, ok := v.Special(); ok {
		return d.Specials[sp]
	}
	if d.Kind == Exactly || d.Kind == OneOf {
		return false
	}
	at := func(i int) int {
		n, isNumber := v.Number()
		limit, _ := d.Values[i].Number()
		if isNumber {
			return compare(n, limit)
		}
		s := setting.Get(d.Setting)
		have, _ := v.Word()
		want, _ := d.Values[i].Word()
		return compare(int64(slices.Index(s.Choices, have)), int64(slices.Index(s.Choices, want)))
	}
	switch d.Kind {
	case AtLeast:
		return at(0) >= 0
	case AtMost:
		return at(0) <= 0
	}
	return at(0) >= 0 && at(1) <= 0
}

func compare(a, b int64) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

// file is a baseline as it is written; docs/formats.md describes it.
type file struct {
	ID        strictyaml.Text   `yaml:"id"`
	Title     string            `yaml:"title"`
	Version   strictyaml.Text   `yaml:"version"`
	Publisher string            `yaml:"publisher"`
	Edition   strictyaml.Text   `yaml:"edition"`
	Note      string            `yaml:"note"`
	Sources   []string          `yaml:"sources"`
	For       forWhom           `yaml:"for"`
	Demands   []demandAsWritten `yaml:"demands"`
}

type forWhom struct {
	Platforms []strictyaml.Text `yaml:"platforms"`
}

type demandAsWritten struct {
	Setting  strictyaml.Text            `yaml:"setting"`
	AtLeast  strictyaml.Text            `yaml:"at-least"`
	AtMost   strictyaml.Text            `yaml:"at-most"`
	Exactly  strictyaml.Text            `yaml:"exactly"`
	OneOf    []strictyaml.Text          `yaml:"one-of"`
	Between  []strictyaml.Text          `yaml:"between"`
	Specials map[string]strictyaml.Text `yaml:"specials"`
	Ref      strictyaml.Text            `yaml:"ref"`
	Severity strictyaml.Text            `yaml:"severity"`
	Why      string                     `yaml:"why"`
}

// Parse reads a baseline file. Errors name path, line and column.
func Parse(path string, data []byte) (*Baseline, error) {
	var f file
	if err := strictyaml.Unmarshal(path, data, &f); err != nil {
		return nil, err
	}
	b := &Baseline{ID: f.ID.Value, Title: f.Title, Version: f.Version.Value, Publisher: f.Publisher, Edition: f.Edition.Value}
	if b.ID == "" || b.Title == "" || b.Version == "" {
		return nil, f.ID.Errorf(path, "a baseline needs id, title and version")
	}
	for _, p := range f.For.Platforms {
		if !slices.Contains(setting.Places, setting.Platform(p.Value)) {
			return nil, p.Errorf(path, "unknown platform %q; known are %v", p.Value, setting.Places)
		}
		b.Platforms = append(b.Platforms, setting.Platform(p.Value))
	}
	if len(b.Platforms) == 0 || len(f.Demands) == 0 {
		return nil, f.ID.Errorf(path, "a baseline needs \"for: platforms:\" and at least one demand")
	}
	seen := map[setting.ID]int{}
	for i := range f.Demands {
		d, err := f.Demands[i].parse(path)
		if err != nil {
			return nil, err
		}
		if line := seen[d.Setting]; line > 0 {
			return nil, f.Demands[i].Setting.Errorf(path, "a second demand on %s; the first is on line %d", d.Setting, line)
		}
		seen[d.Setting] = f.Demands[i].Setting.Line
		b.Demands = append(b.Demands, *d)
	}
	return b, nil
}

func (w *demandAsWritten) parse(path string) (*Demand, error) {
	s, ok := setting.Lookup(setting.ID(w.Setting.Value))
	if !ok {
		var ids []string
		for _, row := range setting.Table() {
			ids = append(ids, string(row.ID))
		}
		return nil, w.Setting.Errorf(path, "unknown setting %q; the nearest known one is %q", w.Setting.Value, strictyaml.Nearest(w.Setting.Value, ids))
	}
	d := &Demand{Setting: s.ID, Ref: w.Ref.Value, Why: strings.TrimSpace(w.Why), Severity: Severity(w.Severity.Value), Specials: map[setting.Special]bool{}}
	if d.Severity.Rank() < 0 {
		return nil, w.Severity.Errorf(path, "severity %q of the demand on %s; expected one of %v", d.Severity, s.ID, severities)
	}
	if d.Why == "" {
		return nil, w.Setting.Errorf(path, "the demand on %s gives no reason (why)", s.ID)
	}
	if err := w.values(path, s, d); err != nil {
		return nil, err
	}
	for name, answer := range w.Specials {
		known := slices.ContainsFunc(s.Specials, func(k setting.Known) bool { return string(k.Special) == name })
		if !known {
			return nil, answer.Errorf(path, "%s has no special %q", s.ID, name)
		}
		if answer.Value != "holds" && answer.Value != "fails" {
			return nil, answer.Errorf(path, "%q; a special either holds or fails", answer.Value)
		}
		d.Specials[setting.Special(name)] = answer.Value == "holds"
	}
	for _, k := range s.Specials {
		if _, said := d.Specials[k.Special]; !said && !slices.Contains(d.Values, setting.Of(k.Special)) {
			return nil, w.Setting.Errorf(path, "the demand on %s must say whether %q holds or fails (specials)", s.ID, k.Special)
		}
	}
	return d, nil
}

// values reads the one form that the demand takes.
func (w *demandAsWritten) values(path string, s *setting.Setting, d *Demand) error {
	forms := map[Kind][]strictyaml.Text{AtLeast: {w.AtLeast}, AtMost: {w.AtMost}, Exactly: {w.Exactly}, OneOf: w.OneOf, Between: w.Between}
	for _, kind := range []Kind{AtLeast, AtMost, Exactly, OneOf, Between} {
		written := forms[kind]
		if len(written) == 0 || written[0].Line == 0 {
			continue
		}
		if d.Kind != "" {
			return written[0].Errorf(path, "the demand on %s says both %s and %s", s.ID, d.Kind, kind)
		}
		if d.Kind = kind; kind == Between && len(written) != 2 {
			return written[0].Errorf(path, "between takes two values, the lower and the upper")
		}
		for _, text := range written {
			v, err := s.Parse(text.Value)
			if err != nil {
				return text.Errorf(path, "%v", err)
			}
			_, special := v.Special()
			if special && kind != Exactly && kind != OneOf {
				return text.Errorf(path, "%s takes a quantity; say what %q means under specials", kind, text.Value)
			}
			d.Values = append(d.Values, v)
		}
	}
	if d.Kind == "" {
		return w.Setting.Errorf(path, "the demand on %s says nothing: give at-least, at-most, exactly, one-of or between", s.ID)
	}
	return nil
}

// Covers reports whether the baseline speaks about that platform.
func (b *Baseline) Covers(p setting.Platform) bool { return slices.Contains(b.Platforms, p) }

// String names the baseline with its version.
func (b *Baseline) String() string { return fmt.Sprintf("%s %s", b.ID, b.Version) }
