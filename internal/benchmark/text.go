package benchmark

import (
	"fmt"

	"sternledger/internal/core/setting"
)

// matching is a test on what a pattern finds in a file.
type matching struct {
	pattern  *matcher
	instance *asked
	states   [][]entity
	anyState []bool // of each state: one entity is enough
	operator string
	none     bool // no item may be as the states say
	there    bool // what the test says where the pattern finds something, and no state asks more
	absent   bool // and where it finds nothing
	figures  []int64
}

// entity is what a state asks of an item.
type entity struct {
	name string
	*asked
}

// matching reads the test.
func (e *evaluation) matching(o *oval, t, object *node, states []*node) (*matching, error) {
	m := &matching{operator: t.of("state_operator")}
	var err error
	if m.there, m.absent, err = exists(t); err != nil {
		return nil, err
	}
	if m.none, err = negated(t); err != nil {
		return nil, err
	}
	p, err := e.expected(o, object.first("pattern"))
	if err != nil {
		return nil, err
	}
	if len(p.values) != 1 {
		return nil, fmt.Errorf("its pattern is several")
	}
	text := p.values[0]
	if p.operation != "pattern match" {
		return nil, fmt.Errorf("its pattern is compared by %q, which is not read", p.operation)
	}
	m.figures = figures(text)
	flags := "m"
	if b := object.first("behaviors"); b.name != "" {
		if b.of("multiline") == "false" || b.of("multiline") == "0" {
			flags = ""
		}
		if isTrue(b.of("singleline")) {
			flags += "s"
		}
		if isTrue(b.of("ignore_case")) {
			flags += "i"
		}
	}
	if flags != "" {
		text = "(?" + flags + ")" + text
	}
	if m.pattern, err = pattern(text, &o.spent); err != nil {
		return nil, err
	}
	m.instance = &asked{operation: "greater than or equal", datatype: "int", values: []string{"1"}, spent: &o.spent}
	if n := object.first("instance"); n.name != "" {
		if m.instance, err = e.expected(o, n); err != nil {
			return nil, err
		}
		m.instance.datatype = "int"
	}
	for _, s := range states {
		var all []entity
		for _, n := range s.below {
			a, err := e.expected(o, n)
			if err != nil {
				return nil, err
			}
			switch n.name {
			case "subexpression", "text":
			case "filepath", "path", "filename", "pattern", "instance":
				continue // as the object has them
			default:
				return nil, fmt.Errorf("it asks for the %s of lines, which is not read", n.name)
			}
			m.figures = append(m.figures, a.figures()...)
			all = append(all, entity{n.name, a})
		}
		switch operator := s.of("operator"); operator {
		case "", "AND", "OR":
			m.anyState = append(m.anyState, operator == "OR")
		default:
			return nil, fmt.Errorf("its state joins by %s, which is not read", operator)
		}
		m.states = append(m.states, all)
	}
	if m.operator != "" && m.operator != "AND" && m.operator != "OR" {
		return nil, fmt.Errorf("its states are joined by %s, which is not read", m.operator)
	}
	return m, nil
}

// slow reports whether a pattern took too long, so that what was said is not so.
func (m *matching) slow() bool {
	for _, s := range m.states {
		for _, n := range s {
			if n.asked.slow() {
				return true
			}
		}
	}
	return m.pattern.slow
}

// accepts reports what the test says of a file.
func (m *matching) accepts(text string) bool {
	found, met := 0, 0
	for i, match := range m.pattern.all(text) {
		if !m.instance.accepts(decimal(int64(i + 1))) {
			continue
		}
		if found++; m.meets(match) {
			met++
		}
	}
	switch {
	case found == 0:
		return m.absent
	case !m.there:
		return false
	case len(m.states) == 0:
		return true
	case m.none:
		return met == 0
	}
	return met == found
}

// meets reports whether an item is as the states say.
func (m *matching) meets(match []string) bool {
	ones := 0
	for i, s := range m.states {
		good := 0
		for _, n := range s {
			have := match[0]
			if n.name == "subexpression" {
				if len(match) < 2 {
					continue
				}
				have = match[1]
			}
			if n.accepts(have) {
				good++
			}
		}
		if good == len(s) || m.anyState[i] && good > 0 {
			ones++
		}
	}
	return ones == len(m.states) || m.operator == "OR" && ones > 0
}

// tries are values for which a pattern may stand.
var tries = []int64{0, 1, 2, 3, 4, 5, 6, 8, 9, 10, 12, 14, 15, 16, 20, 24, 30, 45, 60, 64, 90, 99, 120, 180, 300, 365, 366, 400, 600, 900,
	999, 1000, 1800, 3600,
	10000, 86400, 100000}

// samples are an option's written values that are tried first.
func (m *matching) samples(o *option) (all []string) {
	s := setting.Get(o.id)
	for _, word := range s.Choices {
		all = append(all, o.form(setting.Word(word)))
	}
	for _, k := range s.Specials {
		all = append(all, o.form(setting.Of(k.Special)))
	}
	if len(s.Choices) == 0 {
		for _, n := range append(append([]int64{}, tries...), m.figures...) {
			all = append(all, o.form(setting.Number(n*o.unit)))
		}
	}
	return all
}

// finds reports whether the pattern finds anything in a file.
func (m *matching) finds(text string) bool { return len(m.pattern.all(text)) > 0 }

// way is the first way of writing an option in which the test tells values apart;
// else, if that is enough, one that its pattern finds; below zero: none.
func (m *matching) way(p *place, found bool) int {
	said := map[int]map[bool]bool{}
	first := -1
	for _, value := range m.samples(p.option) {
		if value == "" {
			continue
		}
		for i := range p.with {
			text := p.text(i, value)
			if said[i] == nil {
				said[i] = map[bool]bool{}
			}
			said[i][m.accepts(text)] = true
			if first < 0 && m.finds(text) {
				first = i
			}
		}
	}
	for i := range len(said) {
		if len(said[i]) == 2 {
			return i
		}
	}
	if found {
		return first
	}
	return -1
}
