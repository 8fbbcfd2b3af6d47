package collect

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/custody"
	"sternledger/internal/intake"
)

// Held is what an export holds of settings in one place.
type Held struct {
	Name     string
	Platform setting.Platform
	Settings estate.Settings
}

// SettingsIn reads the settings that a file or folder holds, and takes nothing into
// evidence: of a template, a policy backup, a report of the console, or whatever else
// gather reads. part names one of several.
func SettingsIn(e *custody.Engagement, source, part string) (*Held, error) {
	candidates, _, _, err := look(e, []string{source}, nil)
	if err != nil {
		return nil, fmt.Errorf("%s", strings.TrimPrefix(err.Error(), "gather "))
	}
	b := estate.NewBuilder()
	for _, c := range candidates {
		if err := c.readInto(b); err != nil {
			return nil, err
		}
	}
	var all []Held
	add := func(name string, p *estate.Policy) {
		if p != nil && len(p.Settings) > 0 {
			all = append(all, Held{name, p.Platform, p.Settings})
		}
	}
	for _, a := range b.Finish() {
		add(a.Name, a.Head)
		for i := range a.Overrides {
			add(a.Overrides[i].Name, &a.Overrides[i])
		}
	}
	for _, p := range b.Problems {
		if p.Damaged {
			return nil, fmt.Errorf("%s:%d: %s; mend it, or export again, for what stands there would not be demanded", source, p.Cite.Line, p.Text)
		}
	}
	for i := range b.Templates {
		add(b.Templates[i].Policy.Name, &b.Templates[i].Policy)
	}
	var names []string
	for _, h := range all {
		names = append(names, h.Name)
	}
	if part != "" {
		all = slices.DeleteFunc(all, func(h Held) bool { return h.Name != part })
	}
	switch {
	case len(all) == 1:
		return &all[0], nil
	case len(names) == 0:
		return nil, fmt.Errorf("%s holds no settings of passwords or lockout; expected a security template, a policy backup or a report of the "+
			"policy console", source)
	case part != "":
		return nil, fmt.Errorf("%s: %d of its policies are called %q; %s", source, len(all), part, strictyaml.Hint(part, names))
	}
	return nil, fmt.Errorf("%s holds settings of %d policies; name one behind the source: --from %s#NAME, of %s", source, len(names), source,
		strings.Join(names, ", "))
}

// readInto reads a candidate, and keeps nothing of it.
func (c *candidate) readInto(b *estate.Builder) error {
	if c.tree == nil {
		f, err := c.open()
		if err != nil {
			return fmt.Errorf("%s: %w", c.path, custody.Cause(err))
		}
		defer f.Close()
		b.StartFile(c.path)
		return c.format.Read(&intake.Source{Path: c.path, In: f, Keep: io.Discard, Differs: func() {}, Beside: c.beside}, b)
	}
	t := &intake.Tree{Name: c.calls, Path: c.path}
	for i := range c.parts {
		data, err := c.parts[i].whole()
		if err != nil {
			return err
		}
		t.Parts = append(t.Parts, &intake.Part{Name: c.parts[i].part, Path: c.parts[i].path, Stored: c.parts[i].part, Data: data})
	}
	slices.SortFunc(t.Parts, func(x, y *intake.Part) int { return strings.Compare(x.Name, y.Name) })
	return c.tree.Read(t, b)
}
