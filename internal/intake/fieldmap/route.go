package fieldmap

import (
	"iter"
	"maps"
	"slices"
	"strings"

	"github.com/theory/jsonpath"
	"github.com/theory/jsonpath/spec"
)

// route is a JSONPath, followed step by step, one value after the other: the package
// makes lists of all values, and a path for each. What names members and goes through
// all elements is followed here; what a filter or the like selects, the package says.
type route struct {
	steps  []step
	toRoot bool // a filter asks about the whole document
}

// step is the member of a name, whatever is in the list or the object, an element, or
// what the package selects.
type step struct {
	name    spec.Name
	all     bool
	index   *spec.Index
	other   *spec.Segment
	filters bool // the other only filters: it looks at one element at a time
}

func routeOf(path *jsonpath.Path) *route {
	r := &route{toRoot: strings.Count(path.String(), "$") > 1}
	for _, segment := range path.Query().Segments() {
		s := step{other: segment}
		if selectors := segment.Selectors(); !segment.IsDescendant() && len(selectors) == 1 {
			switch by := selectors[0].(type) {
			case spec.Name:
				s = step{name: by}
			case spec.WildcardSelector:
				s = step{all: true}
			case spec.Index:
				s = step{index: &by}
			case *spec.FilterSelector:
				s.filters = true
			}
		}
		r.steps = append(r.steps, s)
	}
	return r
}

// follower goes a route through a document.
type follower struct {
	root any // where a filter asks about it
	// told gets each value, with its lines, and its path where paths are wanted. It
	// returns false when it has enough, and so does what calls it.
	told  func(any, *node, spec.NormalizedPath) bool
	paths bool
}

func (r *route) follow(value any, lines *node, f follower) {
	if r.toRoot {
		f.root, _ = takenApart(value, noLines)
	}
	f.walk(r.steps, value, lines, nil)
}

func (f *follower) walk(steps []step, value any, lines *node, at spec.NormalizedPath) bool {
	if len(steps) == 0 {
		return f.told(value, lines, at)
	}
	if steps[0].other != nil {
		return f.selected(steps, value, lines, at)
	}
	name := steps[0].name
	if steps[0].index != nil {
		return f.element(steps, value, lines, at)
	}
	switch value := value.(type) {
	case map[string]any:
		if !steps[0].all {
			to, ok := value[string(name)]
			return !ok || f.walk(steps[1:], to, lines.next(name), f.then(at, name))
		}
		for _, name := range slices.Sorted(maps.Keys(value)) {
			if !f.walk(steps[1:], value[name], lines.next(spec.Name(name)), f.then(at, spec.Name(name))) {
				return false
			}
		}
	case *row:
		if !steps[0].all {
			to, near, ok := value.member(string(name), lines)
			return !ok || f.walk(steps[1:], to, near, f.then(at, name))
		}
		for _, name := range value.names() {
			to, near, _ := value.member(name, lines)
			if !f.walk(steps[1:], to, near, f.then(at, spec.Name(name))) {
				return false
			}
		}
	case []any:
		for i := 0; steps[0].all && i < len(value); i++ {
			if !f.walk(steps[1:], value[i], lines.next(spec.Index(i)), f.then(at, spec.Index(i))) {
				return false
			}
		}
	case *long:
		if !steps[0].all {
			return true
		}
		for i := range value.len() {
			element, near := value.at(i, lines)
			if !f.walk(steps[1:], element, near, f.then(at, spec.Index(i))) {
				return false
			}
		}
	}
	return true
}

// element goes on from the element of a number, from the end where that is below zero.
func (f *follower) element(steps []step, value any, lines *node, at spec.NormalizedPath) bool {
	list, ok := value.(*long)
	if all, isList := value.([]any); isList {
		list, ok = &long{begin: all}, true
	}
	if !ok {
		return true
	}
	i := int(*steps[0].index)
	if i < 0 {
		i += list.len()
	}
	if i < 0 || i >= list.len() {
		return true
	}
	to, near := list.at(i, lines)
	return f.walk(steps[1:], to, near, f.then(at, spec.Index(i)))
}

// selected goes on from what the package selects.
func (f *follower) selected(steps []step, value any, lines *node, at spec.NormalizedPath) bool {
	list, isLong := value.(*long)
	if !isLong || !steps[0].filters {
		value, lines = takenApart(value, lines)
		for _, located := range steps[0].other.SelectLocated(value, f.root, nil) {
			if !f.walk(steps[1:], located.Node, lines.along(located.Path), f.then(at, located.Path...)) {
				return false
			}
		}
		return true
	}
	for i := range list.len() {
		element, near := takenApart(list.at(i, lines))
		for _, located := range steps[0].other.SelectLocated([]any{element}, f.root, nil) {
			if !f.walk(steps[1:], located.Node, near, f.then(at, spec.Index(i))) {
				return false
			}
		}
	}
	return true
}

// then is the path one step further.
func (f *follower) then(at spec.NormalizedPath, by ...spec.NormalSelector) spec.NormalizedPath {
	if !f.paths {
		return nil
	}
	return append(at[:len(at):len(at)], by...)
}

// scalar is what the one value says to which the route leads, where that is known without
// following it: of a member of a row.
func (r *route) scalar(value any) (text string, null, ok bool) {
	of, isRow := value.(*row)
	if !isRow || len(r.steps) != 1 || r.steps[0].other != nil || r.steps[0].all {
		return "", false, false
	}
	return of.scalar(string(r.steps[0].name))
}

// leads goes through the values to which the route leads, with the lines of each.
func (r *route) leads(value any, lines *node) iter.Seq2[any, *node] {
	return func(yield func(any, *node) bool) {
		r.follow(value, lines, follower{told: func(v any, near *node, _ spec.NormalizedPath) bool { return yield(v, near) }})
	}
}

// Select returns the values to which the route leads.
func (r *route) Select(value any) (all []any) {
	for v := range r.leads(value, noLines) {
		all = append(all, v)
	}
	return all
}

// somewhere reports whether the route leads to anything.
func (r *route) somewhere(value any) bool {
	for range r.leads(value, noLines) {
		return true
	}
	return false
}

// located returns what the route leads to, with the path of each.
func (r *route) located(value any) (all []*spec.LocatedNode) {
	r.follow(value, noLines, follower{paths: true, told: func(v any, _ *node, path spec.NormalizedPath) bool {
		v, _ = takenApart(v, noLines)
		all = append(all, &spec.LocatedNode{Node: v, Path: path})
		return true
	}})
	return all
}

// ask returns what a route leads to from a value, with lines and paths.
func ask(value any, lines *node, r *route) (all []found) {
	r.follow(value, lines, follower{paths: true, told: func(v any, near *node, path spec.NormalizedPath) bool {
		all = append(all, found{v, near.line, path.String()})
		return true
	}})
	return all
}

// noLines stands for the lines of what nobody asks for lines of.
var noLines = &node{}

// along follows a path as far as lines are known.
func (n *node) along(path spec.NormalizedPath) *node {
	for _, by := range path {
		n = n.next(by)
	}
	return n
}

// next is the node one step further; where that is not known, one that is told as n is.
func (n *node) next(by spec.NormalSelector) *node {
	var next *node
	switch by := by.(type) {
	case spec.Name:
		next = n.named[string(by)]
	case spec.Index:
		if int(by) < len(n.items) {
			next = n.items[by]
		}
	}
	if next != nil {
		return next
	}
	if n.named == nil && n.items == nil {
		return n
	}
	return &node{line: n.line}
}
