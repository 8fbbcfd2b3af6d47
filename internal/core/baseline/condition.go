package baseline

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"sternledger/internal/core/setting"
	"sternledger/internal/core/strictyaml"
)

// Condition says which values of a setting are good.
type Condition struct {
	Setting  setting.ID
	Kind     Kind
	Values   []setting.Value // one; two for Between; any number for OneOf
	Specials map[setting.Special]bool
}

// Way is a list of conditions, all of which have to be met.
type Way []Condition

// Text says in words what is demanded.
func (d *Demand) Text() string {
	var words []string
	for _, w := range d.AllWays() {
		words = append(words, w.text(d.Setting))
	}
	return strings.Join(words, ", or ")
}

// WayText says one of the demand's ways in words.
func (d *Demand) WayText(w Way) string { return w.text(d.Setting) }

// text says a way in words; the setting that it is about is not named.
func (w Way) text(about setting.ID) string {
	text := ""
	for i := range w {
		c := &w[i]
		if text != "" || c.Setting != about {
			text += joint(i-1) + c.Named()
			continue
		}
		text = c.Text()
	}
	return strings.TrimSpace(text)
}

// joint comes before the further settings of a way.
func joint(i int) string {
	switch {
	case i < 0:
		return ""
	case i == 0:
		return " with "
	}
	return " and "
}

// Named says the condition with the name of its setting.
func (c *Condition) Named() string {
	return strings.ToLower(setting.Get(c.Setting).Title) + " " + c.Text()
}

// Text says in words which values are good.
func (c *Condition) Text() string {
	s := setting.Get(c.Setting)
	var words []string
	for _, v := range c.Values {
		words = append(words, s.Text(v))
	}
	text := ""
	switch c.Kind {
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
		if c.Specials[k.Special] && !slices.Contains(c.Values, setting.Of(k.Special)) {
			text += ", or " + k.Phrase
		}
	}
	return text
}

// Met reports whether v, which must be set, meets the condition. A special meets
// it only by the condition's own word, never as a number.
func (c *Condition) Met(v setting.Value) bool {
	if slices.Contains(c.Values, v) { // the limits themselves are good
		return true
	}
	if sp, ok := v.Special(); ok {
		return c.Specials[sp]
	}
	if c.Kind == Exactly || c.Kind == OneOf {
		return false
	}
	at := func(i int) int {
		n, isNumber := v.Number()
		limit, _ := c.Values[i].Number()
		if isNumber {
			return cmp.Compare(n, limit)
		}
		s := setting.Get(c.Setting)
		have, _ := v.Word()
		want, _ := c.Values[i].Word()
		return cmp.Compare(slices.Index(s.Choices, have), slices.Index(s.Choices, want))
	}
	switch c.Kind {
	case AtLeast:
		return at(0) > 0
	case AtMost:
		return at(0) < 0
	}
	return at(0) > 0 && at(1) < 0
}

// AllWays are the ways in which the demand can be met: one, where it is a condition.
func (d *Demand) AllWays() []Way {
	if d.Ways != nil {
		return d.Ways
	}
	return []Way{{d.Condition}}
}

// Involved are the settings that the demand is about, its own first.
func (d *Demand) Involved() []setting.ID {
	all := []setting.ID{d.Setting}
	for _, w := range d.Ways {
		for i := range w {
			if !slices.Contains(all, w[i].Setting) {
				all = append(all, w[i].Setting)
			}
		}
	}
	return all
}

// possible reports whether a platform has all settings of one of the ways.
func (d *Demand) possible(p setting.Platform) bool {
	return slices.ContainsFunc(d.AllWays(), func(w Way) bool {
		return !slices.ContainsFunc(w, func(c Condition) bool { return !setting.Get(c.Setting).Exists(p) })
	})
}

// Now says which value a setting has; the zero Value where that is not known.
type Now func(id setting.ID) setting.Value

// Taken is a set of demands on one setting, each with ways by the one that it is met
// by best.
type Taken struct {
	Demands []Named // about the setting itself, each a condition
	Beside  []Named // what the ways ask of other settings
}

// Take picks, of each demand on a setting with ways, the one that asks for the fewest
// changes of what is now, so that a value is left that satisfies all, if there is one.
func Take(id setting.ID, demands []Named, now Now) Taken {
	if !slices.ContainsFunc(demands, func(n Named) bool { return n.Demand.Ways != nil }) {
		return Taken{Demands: demands}
	}
	var best Taken
	least, tries := -1, 0
	var try func(at int, so Taken, bands map[setting.ID]Band, cost int)
	try = func(at int, so Taken, bands map[setting.ID]Band, cost int) {
		tries++
		if tries > mostWays || least >= 0 && cost >= least {
			return
		}
		if at == len(demands) {
			best, least = so, cost
			return
		}
		n := demands[at]
		for _, way := range n.Demand.AllWays() {
			next, narrowed, more := Taken{slices.Clip(so.Demands), slices.Clip(so.Beside)}, maps.Clone(bands), 0
			for i := range way {
				one := *n.Demand
				one.Condition, one.Ways = way[i], nil
				named := Named{n.Baseline, &one}
				if n.Demand.Ways == nil {
					named = n
				}
				band := meet(narrowed, way[i].Band())
				if band.Empty() {
					more += costOfNone
				}
				if way[i].Setting == id {
					next.Demands = append(next.Demands, named)
					more += farness(band, now(id))
					continue
				}
				next.Beside = append(next.Beside, named)
				if v := now(way[i].Setting); !v.IsSet() || !way[i].Met(v) {
					more += costOfAnother
				}
			}
			try(at+1, next, narrowed, cost+more)
		}
	}
	try(0, Taken{}, map[setting.ID]Band{id: Anything(id)}, 0)
	return best
}

// What a way costs: another setting to change weighs more than how far this one has
// to go, and a way that leaves no value most.
const (
	costOfAnother = 1_000
	costOfNone    = 1_000_000
)

// farness is how far a value has to go to be in a band, of 1 to 101; 0 where it is.
func farness(band Band, v setting.Value) int {
	if band.Has(v) || band.Empty() {
		return 0
	}
	n, isNumber := v.Number()
	to, toNumber := band.Nearest(v).Number()
	if !isNumber || !toNumber {
		return 1
	}
	return 1 + int(min(abs(to-n)*100/max(abs(to), abs(n), 1), 100))
}

// conditionAsWritten is one condition.
type conditionAsWritten struct {
	Setting  strictyaml.Text            `yaml:"setting"`
	AtLeast  strictyaml.Text            `yaml:"at-least"`
	AtMost   strictyaml.Text            `yaml:"at-most"`
	Exactly  strictyaml.Text            `yaml:"exactly"`
	OneOf    []strictyaml.Text          `yaml:"one-of"`
	Between  []strictyaml.Text          `yaml:"between"`
	Specials map[string]strictyaml.Text `yaml:"specials"`
}

func (w *conditionAsWritten) parse(path string) (*Condition, error) {
	s, err := lookup(path, w.Setting)
	if err != nil {
		return nil, err
	}
	c := &Condition{Setting: s.ID, Specials: map[setting.Special]bool{}}
	if err := w.values(path, s, c); err != nil {
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
		c.Specials[setting.Special(name)] = answer.Value == "holds"
	}
	for _, k := range s.Specials {
		if _, said := c.Specials[k.Special]; !said && !k.Fails && !slices.Contains(c.Values, setting.Of(k.Special)) {
			return nil, w.Setting.Errorf(path, "the demand on %s must say whether %q holds or fails (specials)", s.ID, k.Special)
		}
	}
	return c, nil
}

// ways reads the ways in which a demand can be met.
func (w *demandAsWritten) ways(path string, d *Demand) error {
	at := w.Severity
	if len(w.AnyOf) > 0 && len(w.AnyOf[0]) > 0 {
		at = w.AnyOf[0][0].Setting
	}
	d.at = at
	switch own := &w.One; {
	case own.Setting.Line > 0:
		return own.Setting.Errorf(path, "any-of and setting beside each other; each way of any-of names its own settings")
	case len(own.Specials) > 0 || own.given():
		return at.Errorf(path, "any-of and a value beside each other; write the values into the ways")
	case len(w.AnyOf) < 2:
		return at.Errorf(path, "any-of with fewer than two ways; give at least two, each a list of conditions, or write the demand without it")
	}
	for i, conditions := range w.AnyOf {
		if len(conditions) == 0 {
			return at.Errorf(path, "way %d of any-of asks nothing; leave it out", i+1)
		}
		var way Way
		for k := range conditions {
			c, err := conditions[k].parse(path)
			if err != nil {
				return err
			}
			if slices.ContainsFunc(way, func(x Condition) bool { return x.Setting == c.Setting }) {
				return conditions[k].Setting.Errorf(path, "a second condition on %s in one way; say it in one, with between or one-of", c.Setting)
			}
			way = append(way, *c)
		}
		for k, other := range d.Ways {
			from, to := k, i
			if !way.Implies(other) {
				if from, to = i, k; !other.Implies(way) {
					continue
				}
			}
			return conditions[0].Setting.Errorf(path, "way %d of any-of asks all that way %d does, so it adds nothing; leave it out", to+1, from+1)
		}
		d.Ways = append(d.Ways, way)
	}
	d.Condition = Condition{Setting: d.Ways[0][0].Setting, Kind: AnyOf}
	return nil
}

// Implies reports whether whatever meets the way meets another, too.
func (w Way) Implies(other Way) bool {
	return !slices.ContainsFunc(other, func(c Condition) bool {
		i := slices.IndexFunc(w, func(x Condition) bool { return x.Setting == c.Setting })
		return i < 0 || !w[i].Band().within(c.Band())
	})
}

func (w *conditionAsWritten) given() bool {
	return w.AtLeast.Line+w.AtMost.Line+w.Exactly.Line+len(w.OneOf)+len(w.Between) > 0
}

// values reads the one form that the condition takes.
func (w *conditionAsWritten) values(path string, s *setting.Setting, d *Condition) error {
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
		return w.Setting.Errorf(path, "the demand on %s says nothing: give at-least, at-most, exactly, one-of, between or any-of", s.ID)
	}
	return nil
}
