package benchmark

import (
	"errors"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dlclark/regexp2"
)

func number(text string) (int64, bool) {
	n, err := strconv.ParseInt(strings.TrimSpace(text), 10, 64)
	return n, err == nil
}

func decimal(n int64) string { return strconv.FormatInt(n, 10) }

var digits = regexp.MustCompile(`[0-9]{1,12}`)

// figures are the numbers in a text.
func figures(text string) (all []int64) {
	for _, d := range digits.FindAllString(text, 64) {
		n, _ := number(d)
		all = append(all, n)
	}
	return all
}

// compare compares as the OVAL language says, by datatype and operation.
func (a *asked) compare(have, want string) (bool, error) {
	order, ordered := 0, false
	switch a.datatype {
	case "int":
		x, okX := number(have)
		y, okY := number(want)
		if !okY {
			return false, fmt.Errorf("%q is compared as a whole number, and is none", want)
		}
		if !okX {
			return a.operation == "not equal", nil
		}
		order, ordered = int(min(max(x-y, -1), 1)), true
	case "boolean":
		order = strings.Compare(truth(have), truth(want))
	case "", "string":
		order = strings.Compare(have, want)
	default:
		return false, fmt.Errorf("it compares values of the type %s, which is not read", a.datatype)
	}
	switch a.operation {
	case "equals":
		return order == 0, nil
	case "not equal":
		return order != 0, nil
	case "case insensitive equals":
		return strings.EqualFold(have, want), nil
	case "case insensitive not equal":
		return !strings.EqualFold(have, want), nil
	case "pattern match":
		if a.matchers[want] == nil {
			m, err := pattern(want, a.spent)
			if err != nil {
				return false, err
			}
			if a.matchers == nil {
				a.matchers = map[string]*matcher{}
			}
			a.matchers[want] = m
		}
		return len(a.matchers[want].all(have)) > 0, nil
	}
	if ordered {
		switch a.operation {
		case "greater than":
			return order > 0, nil
		case "greater than or equal":
			return order >= 0, nil
		case "less than":
			return order < 0, nil
		case "less than or equal":
			return order <= 0, nil
		}
	}
	return false, fmt.Errorf("it compares by %q values of the type %s, which is not read", a.operation, a.datatype)
}

// truth is one spelling for each of the two.
func truth(text string) string {
	switch strings.ToLower(text) {
	case "true", "1":
		return "1"
	case "false", "0":
		return "0"
	}
	return text
}

// matcher finds a pattern in a text.
type matcher struct {
	plain *regexp.Regexp
	perl  *regexp2.Regexp
	slow  bool           // it took too long once, and is not asked again
	spent *time.Duration // on all patterns of the document
}

// all returns each match with its groups.
func (m *matcher) all(text string) (found [][]string) {
	if m.slow {
		return nil
	}
	defer m.spend(time.Now())
	if m.plain != nil {
		return m.plain.FindAllStringSubmatch(text, -1)
	}
	one, err := m.perl.FindStringMatch(text)
	for ; one != nil && err == nil; one, err = m.perl.FindNextMatch(one) {
		var groups []string
		for _, g := range one.Groups() {
			groups = append(groups, g.String())
		}
		found = append(found, groups)
	}
	m.slow = err != nil
	return found
}

// spend counts what a pattern took; beyond what all of a document's may take it is slow.
func (m *matcher) spend(begun time.Time) {
	if *m.spent += time.Since(begun); *m.spent > mostSpent {
		m.slow = true
	}
}

// longestMatch bounds how long a pattern of Perl's may look for a match, and mostSpent
// what all patterns of a document may take together: those of published ones take
// less than a second.
const (
	longestMatch = time.Second
	mostSpent    = 20 * time.Second
)

// pattern compiles a pattern. OVAL's are Perl's; those that only Perl's rules can read
// are matched by a package that can, within bounds. spent is what the document's others
// took.
func pattern(text string, spent *time.Duration) (*matcher, error) {
	const most = 4096
	if len(text) > most {
		return nil, fmt.Errorf("a pattern of more than %d bytes", most)
	}
	if *spent > mostSpent {
		return nil, errSlow
	}
	text = translated(text)
	m := &matcher{spent: spent}
	begun := time.Now()
	plain, err := regexp.Compile(text)
	if m.spend(begun); err == nil {
		m.plain = plain
		return m, nil
	}
	if m.perl, err = regexp2.Compile(text, regexp2.None); err != nil {
		return nil, fmt.Errorf("its pattern cannot be read (%s)", strings.TrimPrefix(err.Error(), "error parsing regexp: "))
	}
	m.perl.MatchTimeout = longestMatch
	if m.all(strings.Repeat("a", 64) + "!"); m.slow {
		return nil, errSlow
	}
	return m, nil
}

var errSlow = errors.New("its pattern takes too long")

// variable is what a variable comes to.
func (e *evaluation) variable(o *oval, id string, above []string) ([]string, error) {
	v := o.parts[id]
	if v == nil {
		return nil, fmt.Errorf("its variable %s is not in the document", id)
	}
	if slices.Contains(above, id) {
		return nil, fmt.Errorf("a circle of variables: %s", strings.Join(append(above, id), " uses "))
	}
	switch v.name {
	case "constant_variable":
		return texts(v.all("value")), nil
	case "external_variable":
		e.external = true
		if values, ok := e.exported[id]; ok {
			return values, nil
		}
		return nil, fmt.Errorf("its variable %s has no value: the checklist binds none to it", own.ReplaceAllString(id, ""))
	case "local_variable":
		if len(v.below) != 1 {
			return nil, fmt.Errorf("its variable %s is made of %d components", id, len(v.below))
		}
		return e.component(o, v.below[0], append(slices.Clone(above), id))
	}
	return nil, fmt.Errorf("its variable is a %s, which is not read", v.name)
}

// mostValues bounds what several values come to together.
const mostValues = 1000

// component is what a component of a local variable comes to.
func (e *evaluation) component(o *oval, n *node, above []string) ([]string, error) {
	if e.steps++; e.steps > mostSteps {
		return nil, fmt.Errorf("it has more than %d criteria", mostSteps)
	}
	switch n.name {
	case "literal_component":
		return []string{n.text}, nil
	case "variable_component":
		return e.variable(o, n.of("var_ref"), above)
	}
	var parts [][]string
	for _, b := range n.below {
		values, err := e.component(o, b, above)
		if err != nil {
			return nil, err
		}
		parts = append(parts, values)
	}
	one := func(of func(string) string) (all []string, err error) {
		if len(parts) != 1 {
			return nil, fmt.Errorf("its function %s has %d components", n.name, len(parts))
		}
		for _, text := range parts[0] {
			all = append(all, of(text))
		}
		return all, nil
	}
	switch n.name {
	case "arithmetic":
		return combined(parts, func(a, b string) (string, error) { return calculated(n.of("arithmetic_operation"), a, b) })
	case "concat":
		return combined(parts, func(a, b string) (string, error) { return a + b, nil })
	case "escape_regex":
		return one(regexp.QuoteMeta)
	case "begin":
		return one(func(text string) string {
			if c := n.of("character"); !strings.HasPrefix(text, c) {
				return c + text
			}
			return text
		})
	case "end":
		return one(func(text string) string {
			if c := n.of("character"); !strings.HasSuffix(text, c) {
				return text + c
			}
			return text
		})
	}
	return nil, fmt.Errorf("it works a value out by %s, which is not read", n.name)
}

// combined takes each value of a part with each of the next.
func combined(parts [][]string, of func(a, b string) (string, error)) ([]string, error) {
	if len(parts) == 0 {
		return nil, fmt.Errorf("a function of nothing")
	}
	all := parts[0]
	for _, more := range parts[1:] {
		var next []string
		for _, a := range all {
			for _, b := range more {
				text, err := of(a, b)
				if err != nil {
					return nil, err
				}
				if next = append(next, text); len(next) > mostValues {
					return nil, fmt.Errorf("more than %d values", mostValues)
				}
			}
		}
		all = next
	}
	return all, nil
}

func calculated(operation, a, b string) (string, error) {
	x, okX := number(a)
	y, okY := number(b)
	if !okX || !okY {
		return "", fmt.Errorf("it works out %s of %q and %q, which are no whole numbers", operation, a, b)
	}
	switch operation {
	case "add":
		if (y > 0 && x > math.MaxInt64-y) || (y < 0 && x < math.MinInt64-y) {
			return "", fmt.Errorf("a number too large")
		}
		return decimal(x + y), nil
	case "multiply":
		if x != 0 && (x*y/x != y || x == -1 && y == math.MinInt64) {
			return "", fmt.Errorf("a number too large")
		}
		return decimal(x * y), nil
	}
	return "", fmt.Errorf("it works a value out by %q, which is not known", operation)
}
