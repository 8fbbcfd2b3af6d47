package custody

import (
	"path"
	"slices"
	"strings"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/strictyaml"
)

// Applies is what the auditor says of places that no evidence tells, and on which it
// depends whether a demand holds there.
type Applies struct {
	Case        strictyaml.Text   `yaml:"case"`
	Authorities []strictyaml.Text `yaml:"authorities"` // names or patterns; none: all
	Tiers       []strictyaml.Text `yaml:"tiers"`       // none: all
	Holds       strictyaml.Text   `yaml:"holds"`
	Why         string            `yaml:"why"`
}

// Text says it in words.
func (a *Applies) Text() string {
	about := func(all []strictyaml.Text, none string) string {
		var names []string
		for _, t := range all {
			names = append(names, t.Value)
		}
		if len(names) == 0 {
			return none
		}
		return strings.Join(names, ", ")
	}
	return a.Case.Value + " is " + a.Holds.Value + " of " + about(a.Authorities, "every place") + ", " + about(a.Tiers, "every tier") + ". " + a.Why
}

func (a *Applies) check(file string) error {
	var words []string
	for _, w := range baseline.Words {
		words = append(words, string(w))
	}
	if !slices.Contains(words, a.Case.Value) {
		return a.Case.Errorf(file, "applies: case %q; %s", a.Case.Value, strictyaml.Hint(a.Case.Value, words))
	}
	if a.Holds.Value != "true" && a.Holds.Value != "false" {
		return a.Case.Errorf(file, "applies: case %s: holds %q; expected true or false", a.Case.Value, a.Holds.Value)
	}
	if strings.TrimSpace(a.Why) == "" {
		return a.Case.Errorf(file, "applies: case %s gives no reason (why)", a.Case.Value)
	}
	for _, p := range a.Authorities {
		if _, err := path.Match(p.Value, ""); err != nil || p.Value == "" {
			return p.Errorf(file, "applies: authorities: %q; expected a name, or a pattern with * and ?", p.Value)
		}
	}
	return nil
}

// Says is what the auditor says of a place and a tier: by the first entry that is about them.
func (c *Config) Says(at estate.Place, tier string, w baseline.Word) (holds, known bool) {
	for _, a := range c.Applies {
		fits := func(p strictyaml.Text) bool { return p.Value == at.String() || Fits(p.Value, at.Name) }
		if a.Case.Value == string(w) && (len(a.Authorities) == 0 || slices.ContainsFunc(a.Authorities, fits)) &&
			(len(a.Tiers) == 0 || slices.ContainsFunc(a.Tiers, func(t strictyaml.Text) bool { return t.Value == tier })) {
			return a.Holds.Value == "true", true
		}
	}
	return false, false
}
