package fieldmap

import (
	"iter"
	"strconv"

	"github.com/theory/jsonpath"
	"github.com/theory/jsonpath/spec"
)

// route is a JSONPath. Most only name members, and perhaps all elements of the list
// there; those are followed here, since the package makes a path of its own for every
// value of every account. Others are the package's.
type route struct {
	*jsonpath.Path
	plain bool
	names []string
	all   bool   // the elements of the list to which the names lead
	text  string // of the names, as the package writes them
}

func routeOf(path *jsonpath.Path) *route {
	r := &route{Path: path, plain: true}
	var at spec.NormalizedPath
	segments := path.Query().Segments()
	for i, segment := range segments {
		selectors := segment.Selectors()
		if segment.IsDescendant() || len(selectors) != 1 {
			return &route{Path: path}
		}
		switch s := selectors[0].(type) {
		case spec.Name:
			r.names, at = append(r.names, string(s)), append(at, s)
		case spec.WildcardSelector:
			if i < len(segments)-1 {
				return &route{Path: path}
			}
			r.all = true
		default:
			return &route{Path: path}
		}
	}
	r.text = at.String()
	return r
}

// target follows the names; ok is false where nothing stands there. lines is as near as
// lines are known.
func (r *route) target(value any, lines *node) (any, *node, bool) {
	known := true
	for _, name := range r.names {
		members, _ := value.(map[string]any)
		next, ok := members[name]
		if !ok {
			return nil, nil, false
		}
		value = next
		if known {
			if at := lines.named[name]; at != nil {
				lines = at
			} else {
				known = false
			}
		}
	}
	return value, lines, true
}

// leads goes through the values to which the route leads, with the lines of each.
func (r *route) leads(value any, lines *node) iter.Seq2[any, *node] {
	return func(yield func(any, *node) bool) {
		if r.plain {
			at, near, ok := r.target(value, lines)
			list, isList := at.([]any)
			_, isObject := at.(map[string]any)
			switch {
			case !ok, r.all && !isList && !isObject:
				return
			case !r.all:
				yield(at, near)
				return
			case isList:
				for i, v := range list {
					if !yield(v, near.step(spec.Index(i), near)) {
						return
					}
				}
				return
			}
		}
		for _, located := range r.Path.SelectLocated(value) {
			if !yield(located.Node, lines.along(located.Path)) {
				return
			}
		}
	}
}

// Select returns the values to which the route leads.
func (r *route) Select(value any) (all []any) {
	for v := range r.leads(value, noLines) {
		all = append(all, v)
	}
	return all
}

// noLines stands for the lines of what nobody asks for lines of.
var noLines = &node{}

// along follows a path as far as lines are known.
func (n *node) along(path spec.NormalizedPath) *node {
	for _, step := range path {
		next := n.step(step, nil)
		if next == nil {
			break
		}
		n = next
	}
	return n
}

// step is the node one step further, or what is given where there is none.
func (n *node) step(s spec.NormalSelector, none *node) *node {
	var next *node
	switch s := s.(type) {
	case spec.Name:
		next = n.named[string(s)]
	case spec.Index:
		if int(s) < len(n.items) {
			next = n.items[s]
		}
	}
	if next == nil {
		return none
	}
	return next
}

// ask returns what a route leads to from a value, with lines and paths.
func ask(value any, lines *node, r *route) (all []found) {
	if !r.plain {
		for _, located := range r.Path.SelectLocated(value) {
			all = append(all, found{located.Node, lines.along(located.Path).line, located.Path.String()})
		}
		return all
	}
	at, _, _ := r.target(value, lines)
	if _, isObject := at.(map[string]any); r.all && isObject {
		return ask(value, lines, &route{Path: r.Path})
	}
	for v, near := range r.leads(value, lines) {
		path := r.text
		if r.all {
			path += "[" + strconv.Itoa(len(all)) + "]"
		}
		all = append(all, found{v, near.line, path})
	}
	return all
}
