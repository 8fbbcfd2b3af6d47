package baseline

import (
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// Starter is the file of an own baseline that changes nothing yet: what could
// be changed stands in it as comments.
func Starter(id, title string, under *Baseline) string {
	var b strings.Builder
	fmt.Fprintf(&b, `# An organisation's own figures: everything of %s holds, but for what is written
# below. "sternledger baseline lint" checks the file, "baseline show %s" prints
# what comes of it, and %s under "baselines:" in engagement.yaml chooses it.
id: %s
title: %q
version: 1
extends: %s

# Settings on which other figures hold, and why. A demand may be for some
# platforms or tiers only; there it goes before the one that it changes.
demands: []
#  - setting: min-length
#    at-least: 16 characters
#    tiers: [privileged]
#    severity: grave
#    why: Administrators sign in from everywhere.

# Settings on which nothing is required, and why.
# drop:
#   - {setting: max-age, why: "Decided by the board in May."}

# What %s demands:
`, under.ID, id, id, id, title, under.ID, under.ID)
	for i := range under.Demands {
		d := &under.Demands[i]
		fmt.Fprintf(&b, "#   %s: %s\n", d.Setting, strings.TrimSpace(d.Text()+" "+d.Where()))
	}
	return b.String()
}

// written is a baseline as a file has it.
type written struct {
	ID        string          `yaml:"id"`
	Title     string          `yaml:"title"`
	Version   string          `yaml:"version"`
	Publisher string          `yaml:"publisher,omitempty"`
	Published string          `yaml:"published,omitempty"`
	Edition   string          `yaml:"edition,omitempty"`
	Sources   []string        `yaml:"sources,omitempty"`
	Note      string          `yaml:"note,omitempty"`
	For       writtenFor      `yaml:"for"`
	Demands   []yaml.MapSlice `yaml:"demands"`
}

type writtenFor struct {
	Platforms []setting.Platform `yaml:"platforms"`
	Systems   []string           `yaml:"systems,omitempty"`
	Tiers     []string           `yaml:"tiers,omitempty"`
	Who       Who                `yaml:"who,omitempty"`
}

// YAML writes the baseline as a file that reads back as the same, with all that
// it takes from the one it extends.
func (b *Baseline) YAML() ([]byte, error) {
	w := written{ID: b.ID, Title: b.Title, Version: b.Version, Publisher: b.Publisher, Published: b.Published, Edition: b.Edition,
		Sources: b.Sources, Note: b.Note,
		For: writtenFor{b.Platforms, systems(b.Systems), b.Tiers, b.Who}, Demands: []yaml.MapSlice{}}
	for i := range b.Demands {
		d := &b.Demands[i]
		one := yaml.MapSlice{}
		add := func(key string, value any) { one = append(one, yaml.MapItem{Key: key, Value: value}) }
		if d.Ways == nil {
			one = d.Condition.written()
		} else {
			add("any-of", d.writtenWays())
		}
		if d.Ref != "" {
			add("ref", d.Ref)
		}
		if len(d.Platforms) > 0 {
			add("platforms", d.Platforms)
		}
		if d.Tiers != nil {
			add("tiers", d.Tiers)
		}
		if d.Factor != "" {
			add("factor", string(d.Factor))
		}
		if d.Who != "" {
			add("who", string(d.Who))
		}
		if d.Access != "" {
			add("access", string(d.Access))
		}
		add("severity", string(d.Severity))
		add("why", d.Why)
		w.Demands = append(w.Demands, one)
	}
	return yaml.Marshal(w)
}

func systems(all []estate.System) (words []string) {
	for _, s := range all {
		words = append(words, s.String())
	}
	return words
}

func (d *Demand) writtenWays() (all [][]yaml.MapSlice) {
	for _, way := range d.Ways {
		var conditions []yaml.MapSlice
		for i := range way {
			conditions = append(conditions, way[i].written())
		}
		all = append(all, conditions)
	}
	return all
}

func (c *Condition) written() yaml.MapSlice {
	s := setting.Get(c.Setting)
	var values []string
	for _, v := range c.Values {
		if sp, ok := v.Special(); ok {
			values = append(values, string(sp))
		} else {
			values = append(values, s.Text(v))
		}
	}
	one := yaml.MapSlice{{Key: "setting", Value: string(c.Setting)}, {Key: string(c.Kind), Value: values}}
	if c.Kind != OneOf && c.Kind != Between {
		one[1].Value = values[0]
	}
	specials := yaml.MapSlice{}
	for _, k := range s.Specials {
		if holds, said := c.Specials[k.Special]; said {
			specials = append(specials, yaml.MapItem{Key: string(k.Special), Value: map[bool]string{true: "holds", false: "fails"}[holds]})
		}
	}
	if len(specials) > 0 {
		one = append(one, yaml.MapItem{Key: "specials", Value: specials})
	}
	return one
}
