package fieldmap

import (
	"iter"
	"maps"
	"slices"

	"github.com/theory/jsonpath"
	"github.com/theory/jsonpath/spec"
)

// route is a JSONPath. Most only name members and go through all elements of lists;
// those are followed here, one value after the other, since the package makes lists of
// all values, and a path for each. Others are the package's.
type route struct {
	*jsonpath.Path
	plain bool
	steps []step
}

// step is the member of a name, or whatever is in the list or the object.
type step struct {
	name spec.Name
	all  bool
}

func routeOf(path *jsonpath.Path) *route {
	r := &route{Path: path, plain: true}
	for _, segment := range path.Query().Segments() {
		selectors := segment.Selectors()
		if segment.IsDescendant() || len(selectors) != 1 {
			return &route{Path: path}
		}
		switch s := selectors[0].(type) {
		case spec.Name:
			r.steps = append(r.steps, step{name: s})
		case spec.WildcardSelector:
			r.steps = append(r.steps, step{all: true})
		default:
			return &route{Path: path}
		}
	}
	return r
}

// leads goes through the values to which the route leads, with the lines of each, as
// near as they are known.
func (r *route) leads(value any, lines *node) iter.Seq2[any, *node] {
	return func(yield func(any, *node) bool) {
		if r.plain {
			follow(r.steps, value, lines, nil, func(v any, near *node, _ spec.NormalizedPath) bool { return yield(v, near) })
			return
		}
		for _, located := range r.Path.SelectLocated(value) {
			if !yield(located.Node, lines.along(located.Path)) {
				return
			}
		}
	}
}

// follow goes the steps from a value; where at is not nil, it tells the path from there.
// It returns false when the one who is told has enough.
func follow(steps []step, value any, lines *node, at *spec.NormalizedPath, told func(any, *node, spec.NormalizedPath) bool) bool {
	if len(steps) == 0 {
		if at == nil {
			return told(value, lines, nil)
		}
		return told(value, lines, *at)
	}
	further := func(to any, by spec.NormalSelector) bool {
		if at == nil {
			return follow(steps[1:], to, lines.next(by), nil, told)
		}
		path := append((*at)[:len(*at):len(*at)], by)
		return follow(steps[1:], to, lines.next(by), &path, told)
	}
	switch value := value.(type) {
	case map[string]any:
		if !steps[0].all {
			to, ok := value[string(steps[0].name)]
			return !ok || further(to, steps[0].name)
		}
		for _, name := range slices.Sorted(maps.Keys(value)) {
			if !further(value[name], spec.Name(name)) {
				return false
			}
		}
	case []any:
		for i := 0; steps[0].all && i < len(value); i++ {
			if !further(value[i], spec.Index(i)) {
				return false
			}
		}
	}
	return true
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

// ask returns what a route leads to from a value, with lines and paths.
func ask(value any, lines *node, r *route) (all []found) {
	if !r.plain {
		for _, located := range r.Path.SelectLocated(value) {
			all = append(all, found{located.Node, lines.along(located.Path).line, located.Path.String()})
		}
		return all
	}
	follow(r.steps, value, lines, &spec.NormalizedPath{}, func(v any, near *node, path spec.NormalizedPath) bool {
		all = append(all, found{v, near.line, path.String()})
		return true
	})
	return all
}
