package benchmark

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
)

// oval holds definitions and what they are made of, by identifier.
type oval struct {
	parts map[string]*node
	list  []*node // the definitions, in order
	read  map[string]*testRead
	spent time.Duration // on patterns
}

// testRead is what a test comes to, and what it is about, whatever rule asks for it.
type testRead struct {
	formula   formula
	err       error
	condition bool // it asks what the system is, and not how it is set
	tells
}

// tells is what tests show beside what they come to.
type tells struct {
	relevant bool // about passwords or lockout
	windows  bool
	unix     bool
	called   []string // modules that it asks to be called
	remarks  []string
	external bool // it depends on what a checklist binds
}

// add joins what another test shows.
func (t *tells) add(o *tells) {
	t.relevant, t.windows, t.unix, t.external = t.relevant || o.relevant, t.windows || o.windows, t.unix || o.unix, t.external || o.external
	for _, module := range o.called {
		if !slices.Contains(t.called, module) {
			t.called = append(t.called, module)
		}
	}
	for _, text := range o.remarks {
		t.remark(text)
	}
}

func (t *tells) remark(text string) {
	if !slices.Contains(t.remarks, text) {
		t.remarks = append(t.remarks, text)
	}
}

func newOval(root *node) *oval {
	o := &oval{parts: map[string]*node{}, read: map[string]*testRead{}, list: root.first("definitions").all("definition")}
	for _, section := range root.below {
		for _, n := range section.below {
			if id := n.of("id"); id != "" && o.parts[id] == nil {
				o.parts[id] = n
			}
		}
	}
	return o
}

// definitions takes each definition of a document without a checklist for a rule.
func (i *Imported) definitions(l *library, root *node, opt Options) error {
	if !strings.HasPrefix(root.space, ovalSpace) {
		return &intake.Error{Path: l.src.File, Line: root.line, Seen: fmt.Sprintf("definitions of %q", root.space), Expected: "OVAL 5 (" +
			ovalSpace + ")",
			Next: "ask for the definitions in that form"}
	}
	if opt.Profile != "" {
		_, err := profileNamed(l.src.File, opt.Profile, nil)
		return err
	}
	i.Kind = strings.TrimSpace("OVAL " + root.first("generator").first("schema_version").text)
	i.Document = path.Base(strings.ReplaceAll(l.src.File, `\`, "/"))
	o := newOval(root)
	parts := map[string]bool{} // of other definitions
	root.walk(func(n *node) {
		if n.name == "extend_definition" {
			parts[n.of("definition_ref")] = true
		}
	})
	for _, d := range o.list {
		class := d.of("class")
		if parts[d.of("id")] || class == "inventory" || class == "patch" || class == "vulnerability" {
			continue
		}
		i.All++
		r := &Rule{ID: own.ReplaceAllString(d.of("id"), ""), Severity: baseline.Serious}
		r.Ref = r.ID
		e := &evaluation{}
		var err error
		r.formula, err = e.everyWay(func() (formula, error) { return e.definition(o, d.of("id"), nil) })
		if err != nil {
			r.formula, r.Why = nil, err.Error()
		}
		r.relevant, r.platforms = e.relevant || aboutPasswords.MatchString(d.of("id")), e.places()
		r.Remarks, r.where = e.remarks, e.conditions
		i.Rules = append(i.Rules, r)
	}
	return nil
}

// evaluation turns the test of one rule into a formula.
type evaluation struct {
	tells
	bound    map[string][]string
	exported map[string][]string // external variables
	done     map[string]formula  // by definition, of one check
	steps    int
	// conditions are what the rule asks of the system itself: its edition, its kind, what is
	// installed. Nothing here tells them, so each is taken both ways.
	conditions []string
	not        map[string]bool // those that are taken not to be so
}

// mostConditions bounds how many conditions of a rule are taken both ways.
const mostConditions = 6

// condition is something about the system.
func (e *evaluation) condition(id string) (formula, error) {
	if !slices.Contains(e.conditions, id) {
		e.conditions = append(e.conditions, id)
	}
	if e.not[id] {
		return never, nil
	}
	return nil, nil
}

// everyWay reads a rule with its conditions taken both ways. What it then demands has to be
// one thing: where it is not so, nothing is required, or the rule is not for that system.
func (e *evaluation) everyWay(read func() (formula, error)) (formula, error) {
	e.conditions, e.not = nil, nil
	first, err := read()
	if err != nil || len(e.conditions) == 0 {
		return first, err
	}
	all := slices.Clone(e.conditions)
	if len(all) > mostConditions {
		return nil, fmt.Errorf("it depends on more than %d conditions of the system", mostConditions)
	}
	var demanded formula
	for bits := range 1 << len(all) {
		e.not, e.steps = map[string]bool{}, 0
		for i, id := range all {
			e.not[id] = bits>>i&1 == 1
		}
		f, err := read()
		switch {
		case err != nil:
			return nil, err
		case f.trivial():
		case demanded == nil:
			demanded = f
		case !demanded.same(f):
			return nil, fmt.Errorf("it asks for different things by what the system is (%s), and places are not told apart by that",
				shortly(all))
		}
	}
	if demanded == nil {
		return first, nil
	}
	return demanded, nil
}

func shortly(ids []string) string {
	var all []string
	for _, id := range ids {
		all = append(all, Short(id))
	}
	return strings.Join(all, ", ")
}

func (e *evaluation) places() (all []setting.Platform) {
	if e.windows {
		all = append(all, setting.WindowsDomain, setting.WindowsMachine)
	}
	if e.unix {
		all = append(all, setting.UnixMachine)
	}
	return all
}

// mostSteps bounds how many criteria of one rule are looked at.
const mostSteps = 20_000

// definition is what a definition comes to.
func (e *evaluation) definition(o *oval, id string, above []string) (formula, error) {
	f, err := e.inner(o, id, above)
	if err != nil || len(above) > 0 {
		return f, err
	}
	for _, module := range e.called {
		if f.trivial() && len(e.conditions) > 0 {
			break // by what the system is, nothing is asked
		}
		if !slices.ContainsFunc(f, func(c clause) bool {
			for id := range c {
				if slices.Contains(decidedBy[module], id) {
					return true
				}
			}
			return false
		}) {
			return nil, fmt.Errorf("it asks that %s is called, in words of its own; whether a module is called and obeyed is what checks and "+
				"settings tell", module)
		}
	}
	return f, nil
}

func (e *evaluation) inner(o *oval, id string, above []string) (formula, error) {
	d := o.parts[id]
	if d == nil || d.name != "definition" {
		return nil, fmt.Errorf("its definition %s is not in the document", id)
	}
	if slices.Contains(above, id) {
		return nil, fmt.Errorf("a circle of definitions: %s", strings.Join(append(above, id), " extends "))
	}
	if d.of("class") == "inventory" {
		return e.condition(id)
	}
	if f, ok := e.done[id]; ok {
		return f, nil
	}
	if len(d.all("criteria")) == 0 {
		return nil, fmt.Errorf("its definition %s has no criteria", id)
	}
	f, err := e.criteria(o, d.first("criteria"), append(slices.Clone(above), id))
	if err == nil {
		if e.done == nil {
			e.done = map[string]formula{}
		}
		e.done[id] = f
	}
	return f, err
}

func (e *evaluation) criteria(o *oval, n *node, above []string) (formula, error) {
	var all []formula
	var failed error
	for _, part := range n.all("criteria", "criterion", "extend_definition") {
		if e.steps++; e.steps > mostSteps {
			return nil, fmt.Errorf("it has more than %d criteria", mostSteps)
		}
		f, err := formula(nil), error(nil)
		switch part.name {
		case "criteria":
			f, err = e.criteria(o, part, above)
		case "criterion":
			f, err = e.test(o, part.of("test_ref"))
			if err == nil && isTrue(part.of("negate")) {
				f, err = not(f)
			}
		default:
			f, err = e.inner(o, part.of("definition_ref"), above)
			if err == nil && isTrue(part.of("negate")) {
				f, err = not(f)
			}
		}
		if err != nil && failed == nil {
			failed = err // the others still tell what it is about
		}
		all = append(all, f)
	}
	if failed != nil {
		return nil, failed
	}
	if len(all) == 0 {
		return nil, fmt.Errorf("criteria without any")
	}
	return joined(n.of("operator"), n.of("negate"), all)
}

// states are those of a test.
func (e *evaluation) states(o *oval, test *node) (all []*node, err error) {
	for _, ref := range test.all("state") {
		s := o.parts[ref.of("state_ref")]
		if s == nil {
			return nil, fmt.Errorf("its state %s is not in the document", ref.of("state_ref"))
		}
		all = append(all, s)
	}
	return all, nil
}

// test is what one test comes to.
func (e *evaluation) test(o *oval, id string) (formula, error) {
	t := o.read[id]
	if t == nil {
		own := &evaluation{exported: e.exported}
		t = &testRead{}
		t.formula, t.err = own.read(o, id)
		if errors.Is(t.err, errCondition) {
			t.condition, t.err = true, nil
		}
		if t.tells = own.tells; !t.external {
			o.read[id] = t
		}
	}
	e.add(&t.tells)
	if t.condition {
		return e.condition(id)
	}
	return t.formula, t.err
}

func (e *evaluation) read(o *oval, id string) (formula, error) {
	t := o.parts[id]
	if t == nil {
		return nil, fmt.Errorf("its test %s is not in the document", id)
	}
	states, err := e.states(o, t)
	if err != nil {
		return nil, err
	}
	object := o.parts[t.first("object").of("object_ref")]
	if object == nil {
		object = &node{}
	}
	for _, unread := range []string{"set", "filter"} {
		if len(object.all(unread)) > 0 && !(unread == "filter" && t.name == "shadow_test") {
			return nil, fmt.Errorf("its object is made of others (%s), and that is not read", unread)
		}
	}
	switch t.name {
	case "passwordpolicy_test", "lockoutpolicy_test":
		e.relevant = true
		return e.policyTest(o, t, states)
	case "registry_test":
		return e.registryTest(o, t, object, states)
	case "textfilecontent54_test":
		return e.textTest(o, t, object, states)
	case "shadow_test":
		e.relevant = true
		return e.shadowTest(o, t, object, states)
	case "password_test":
		e.relevant = true
		return nil, fmt.Errorf("it asks for lines of passwd, which no setting is; what is wrong there, checks tell")
	case "variable_test":
		return e.variableTest(o, t, object, states)
	case "family_test", "uname_test", "dpkginfo_test", "rpminfo_test":
		return nil, errCondition
	}
	return nil, fmt.Errorf("it asks by %s, which is not read", t.name)
}

// variableTest is a test on what a variable comes to: on what an object's pattern finds, as a
// test on the file itself says it; or on a figure of the document, which is so or not.
func (e *evaluation) variableTest(o *oval, t, object *node, states []*node) (formula, error) {
	v := o.parts[object.first("var_ref").text]
	if v == nil {
		return nil, fmt.Errorf("its variable %s is not in the document", object.first("var_ref").text)
	}
	if v.name == "local_variable" && len(v.below) == 1 && v.below[0].name == "object_component" {
		c := v.below[0]
		of := o.parts[c.of("object_ref")]
		if of == nil || of.name != "textfilecontent54_object" || c.of("item_field") != "subexpression" {
			return nil, fmt.Errorf("its variable takes the %s of an object, and that is not read", c.of("item_field"))
		}
		var all []*node
		for _, s := range states {
			on := *s
			on.below = nil
			for _, n := range s.below {
				if n.name == "var_ref" || n.name == "notes" {
					continue
				}
				as := *n
				as.name = "subexpression"
				on.below = append(on.below, &as)
			}
			all = append(all, &on)
		}
		return e.textTest(o, t, of, all)
	}
	values, err := e.variable(o, v.of("id"), nil)
	if err != nil {
		return nil, err
	}
	return e.byStates(t, states, func(n *node) (formula, error) {
		if n.name != "value" {
			return nil, nil // the variable, as the object has it
		}
		a, err := e.expected(o, n)
		if err != nil {
			return nil, err
		}
		for _, value := range values {
			if !a.accepts(value) {
				return never, nil
			}
		}
		return nil, nil
	})
}

// errCondition is what reading a test comes to that asks what the system is.
var errCondition = errors.New("a condition of the system")

// exists says what a test says where its object is there, and where it is not.
func exists(t *node) (there, absent bool, err error) {
	switch how := t.of("check_existence"); how {
	case "", "at_least_one_exists", "all_exist", "only_one_exists":
		return true, false, nil
	case "any_exist":
		return true, true, nil
	case "none_exist":
		return false, true, nil
	default:
		return false, false, fmt.Errorf("its check_existence %s is not known", how)
	}
}

// negated reports whether a test wants that no item is as its states say.
func negated(t *node) (bool, error) {
	switch how := t.of("check"); how {
	case "", "all", "at least one", "only one":
		return false, nil
	case "none satisfy":
		return true, nil
	default:
		return false, fmt.Errorf("its check %q is not known", how)
	}
}

// byStates joins what states say of entities.
func (e *evaluation) byStates(t *node, states []*node, entity func(n *node) (formula, error)) (formula, error) {
	var all []formula
	for _, s := range states {
		var inside []formula
		for _, n := range s.below {
			if n.name == "notes" {
				continue
			}
			f, err := entity(n)
			if err != nil {
				return nil, err
			}
			inside = append(inside, f)
		}
		f, err := joined(s.of("operator"), "", inside)
		if err != nil {
			return nil, err
		}
		all = append(all, f)
	}
	f, err := joined(t.of("state_operator"), "", all)
	if err != nil {
		return nil, err
	}
	none, err := negated(t)
	if err == nil && none {
		f, err = not(f)
	}
	return f, err
}

// asked is what an entity is compared with.
type asked struct {
	operation, datatype string
	values              []string
	how                 string // of several values
	matchers            map[string]*matcher
	spent               *time.Duration // on patterns of the document
}

// slow reports whether a pattern took too long, so that what was said is not so.
func (a *asked) slow() bool {
	for _, m := range a.matchers {
		if m.slow {
			return true
		}
	}
	return false
}

// expected reads what an entity asks.
func (e *evaluation) expected(o *oval, n *node) (*asked, error) {
	a := &asked{operation: n.of("operation"), datatype: n.of("datatype"), values: []string{n.text}, how: n.of("var_check"), spent: &o.spent}
	if a.operation == "" {
		a.operation = "equals"
	}
	if ref := n.of("var_ref"); ref != "" {
		values, err := e.variable(o, ref, nil)
		if err != nil {
			return a, err
		}
		a.values = values
	}
	if len(a.values) == 0 {
		return a, fmt.Errorf("a variable without a value")
	}
	for _, v := range a.values {
		if _, err := a.compare("0", v); err != nil {
			return a, err
		}
	}
	return a, nil
}

// accepts reports whether a text is as is asked.
func (a *asked) accepts(text string) bool {
	n := 0
	for _, v := range a.values {
		if is, _ := a.compare(text, v); is {
			n++
		}
	}
	switch a.how {
	case "at least one":
		return n > 0
	case "only one":
		return n == 1
	case "none satisfy":
		return n == 0
	}
	return n == len(a.values)
}

// figures are the numbers that the comparison may turn on.
func (a *asked) figures() (all []int64) {
	for _, v := range a.values {
		all = append(all, figures(v)...)
	}
	return all
}
