// Package benchmark makes baselines of published benchmarks: of checklists (XCCDF 1.1.4
// and 1.2) with their tests (OVAL 5), alone or in a SCAP source data stream; and of what
// an organisation has set somewhere. Of a document only figures, identifiers and section
// numbers are taken; none of its sentences is.
//
// A rule's test is understood as what it accepts of each value that a setting can have.
// What is not understood is told with its reason, never guessed.
package benchmark

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
)

// Source is a document, and the way to files that lie beside it.
type Source struct {
	File   string
	Data   []byte
	Beside func(name string) ([]byte, error) // nil: there are none
}

// Options choose what of a document is taken.
type Options struct {
	Part    string // the id of a data stream or checklist, where there are several
	Profile string // the id of a profile, or how it ends
}

// Outcome is what came of a rule.
type Outcome string

// The outcomes.
const (
	Understood    Outcome = "understood"
	NotUnderstood Outcome = "not-understood" // though it is about passwords or lockout
	Elsewhere     Outcome = "elsewhere"      // it is about other things
)

// Rule is one that was selected.
type Rule struct {
	ID       string // without the part that all share
	Ref      string
	Severity baseline.Severity
	Outcome  Outcome
	Why      string   // it was not understood
	Remarks  []string // on what was
	Settings []setting.ID

	formula   formula
	platforms []setting.Platform
	relevant  bool
	where     []string // what the system has to be, by identifiers of the document
	only      []string // of where, what it does not have to be for every rule
}

// Imported is what was made of a document.
type Imported struct {
	Kind     string // "XCCDF 1.2", "OVAL", …
	Document string // its own identifier
	Version  string
	Profile  string
	Profiles []string // that it has
	Rules    []*Rule  // the selected ones
	All      int      // how many it has
	Demands  []baseline.Demand
}

// Count counts the rules of an outcome.
func (i *Imported) Count(o Outcome) (n int) {
	for _, r := range i.Rules {
		if r.Outcome == o {
			n++
		}
	}
	return n
}

// Platforms are those that the demands are for.
func (i *Imported) Platforms() (all []setting.Platform) {
	for _, p := range setting.Places {
		if slices.ContainsFunc(i.Demands, func(d baseline.Demand) bool { return slices.Contains(d.Platforms, p) }) {
			all = append(all, p)
		}
	}
	return all
}

// IsDocument reports whether a file looks like a document of a benchmark.
func IsDocument(head []byte) bool {
	text := string(intake.Opening(head))
	for _, name := range []string{xccdfSpace, "http://checklists.nist.gov/xccdf/1.1", ovalSpace, streamSpace} {
		if strings.Contains(text, name) {
			return true
		}
	}
	return false
}

// Read makes demands of a document.
func Read(src Source, opt Options) (*Imported, error) {
	root, err := parse(src.File, src.Data)
	if err != nil {
		return nil, err
	}
	l := &library{src: src, files: map[string]*node{}}
	out := &Imported{}
	switch root.name {
	case "Benchmark":
		err = out.checklist(l, root, opt)
	case "oval_definitions":
		err = out.definitions(l, root, opt)
	case "data-stream-collection":
		err = out.stream(l, root, opt)
	default:
		return nil, &intake.Error{Path: src.File, Line: root.line, Seen: fmt.Sprintf("the element %s", root.name),
			Expected: "a checklist (XCCDF Benchmark), definitions (oval_definitions) or a data stream (data-stream-collection)",
			Next:     "the workbook or CSV form of a checklist is not read; publishers give out the form for tools beside it"}
	}
	if err != nil {
		return nil, err
	}
	out.settle()
	return out, nil
}

// settle sorts the rules by what came of them, and makes the demands.
func (i *Imported) settle() {
	var good []*Rule
	for _, r := range i.Rules {
		switch {
		case r.Why == "" && len(r.formula) > 0 && len(r.formula[0]) > 0:
			good = append(good, r)
		case r.Why == "" && len(r.formula) == 0:
			r.Why = errNothing.Error()
		case r.Why == "":
			r.Why = "its test accepts no value"
		}
	}
	everywhere(good)
	good = alike(good)
	by := map[string][]*Rule{}
	var order []string
	for _, r := range good {
		key := fmt.Sprint(r.platforms)
		if by[key] == nil {
			order = append(order, key)
		}
		by[key] = append(by[key], r)
	}
	for _, key := range order {
		for _, d := range demands(groups(by[key])) {
			d.Platforms = by[key][0].platforms
			i.Demands = append(i.Demands, d)
		}
	}
	slices.SortStableFunc(i.Demands, func(x, y baseline.Demand) int { return setting.Order(x.Setting, y.Setting) })
	for _, r := range i.Rules {
		switch {
		case r.Why == "":
			r.Outcome = Understood
		case r.relevant:
			r.Outcome = NotUnderstood
		default:
			r.Outcome = Elsewhere
		}
		for _, c := range r.formula {
			for id := range c {
				if !slices.Contains(r.Settings, id) {
					r.Settings = append(r.Settings, id)
				}
			}
		}
		slices.SortFunc(r.Settings, setting.Order)
		if r.Why != "" {
			r.Remarks = nil
			continue
		}
		r.doubt()
	}
}

// everywhere takes away from each rule what the system has to be for all of them: that is what
// the document is for. Of what is left, it is remarked.
func everywhere(all []*Rule) {
	for _, r := range all {
		r.only = slices.DeleteFunc(slices.Clone(r.where), func(id string) bool {
			return len(all) > 1 && !slices.ContainsFunc(all, func(o *Rule) bool { return !slices.Contains(o.where, id) })
		})
		if len(r.only) > 0 {
			r.Remarks = append(r.Remarks, "the document asks it only by what the system is ("+shortly(r.only)+
				"); here it is demanded wherever the baseline is chosen")
		}
	}
}

// alike leaves out rules that ask otherwise of one setting by what the system is: one for each
// of two editions, say. Places are not told apart by that.
func alike(all []*Rule) []*Rule {
	for i, r := range all {
		for _, o := range all[i+1:] {
			if len(r.only) == 0 || len(o.only) == 0 || slices.Equal(r.only, o.only) {
				continue
			}
			for _, c := range r.formula {
				if slices.ContainsFunc(o.formula, func(d clause) bool { return c.about(d) && !(c.within(d) && d.within(c)) }) {
					why := "%s asks for something else, by what the system is (%s here, %s there), and places are not told apart by that"
					r.Why = cmp.Or(r.Why, fmt.Sprintf(why, o.ID, shortly(r.only), shortly(o.only)))
					o.Why = cmp.Or(o.Why, fmt.Sprintf(why, r.ID, shortly(o.only), shortly(r.only)))
				}
			}
		}
	}
	return slices.DeleteFunc(all, func(r *Rule) bool { return r.Why != "" })
}

// about reports whether two clauses are about the same settings.
func (c clause) about(o clause) bool {
	if len(c) != len(o) {
		return false
	}
	for id := range c {
		if o[id] == nil {
			return false
		}
	}
	return true
}

// doubt remarks on a test that what is no protection at all passes.
func (r *Rule) doubt() {
	for _, c := range r.formula {
		for id, v := range c {
			for _, k := range v.of.Specials {
				if len(c) == 1 && k.Rank == setting.Weakest && v.specials[k.Special] && len(v.numbers) > 0 {
					r.Remarks = append(r.Remarks, fmt.Sprintf("its test passes where %s is %q, for it compares numbers; if the document means "+
						"otherwise, write \"%s: fails\"",
						strings.ToLower(setting.Get(id).Title), k.Phrase, k.Special))
				}
			}
		}
	}
}

// describe says whose the demand is, and how much it matters.
func (g *group) describe(d *baseline.Demand) {
	var refs []string
	for i, r := range g.rules {
		if i < mostNamed && !slices.Contains(refs, r.Ref) {
			refs = append(refs, r.Ref)
		}
		if d.Severity == "" || r.Severity.Rank() > d.Severity.Rank() {
			d.Severity = r.Severity
		}
	}
	if more := len(g.rules) - mostNamed; more > 0 {
		refs = append(refs, fmt.Sprintf("and %d more", more))
	}
	d.Ref = strings.Join(refs, "; ")
	d.Why = "The document says why: rule " + g.names() + "."
	if len(g.rules) > 1 {
		d.Why = "The document says why: rules " + g.names() + "."
	}
}

// mostNamed bounds how many rules a demand names; documents have a few.
const mostNamed = 8

// library holds the definitions that a checklist points at, by the name under which it
// does.
type library struct {
	src   Source
	inner map[string]*node // of a data stream
	files map[string]*node
	known map[*node]*oval
}

// find returns the definitions of that name.
func (l *library) find(href string) (*oval, error) {
	name := strings.TrimPrefix(href, "#")
	n := l.inner[name]
	if n == nil && l.files[name] == nil {
		if !plainName(name) || l.src.Beside == nil {
			return nil, fmt.Errorf("its definitions (%s) are not in the document, and nothing is fetched", name)
		}
		data, err := l.src.Beside(name)
		if err != nil {
			return nil, fmt.Errorf("its definitions (%s) do not lie beside the document", name)
		}
		root, err := parse(name, data)
		if err != nil {
			return nil, err
		}
		l.files[name] = root
	}
	if n == nil {
		n = l.files[name]
	}
	if n.name != "oval_definitions" {
		return nil, fmt.Errorf("%s holds no definitions of OVAL", name)
	}
	if l.known == nil {
		l.known = map[*node]*oval{}
	}
	if l.known[n] == nil {
		l.known[n] = newOval(n)
	}
	return l.known[n], nil
}

// plainName reports whether a name is that of a file in the same folder.
func plainName(name string) bool {
	return name != "" && path.Base(name) == name && !strings.ContainsAny(name, `\:`) && name != "." && name != ".."
}
