package fieldmap

import (
	"bytes"
	"slices"

	"github.com/theory/jsonpath/spec"
)

// long is a list of which only the beginning is taken apart. Of what follows it is known
// where each element stands in the text, and each of its members: a list of all accounts
// of a tenant takes little more room than its text.
type long struct {
	begin []any
	rest  []row
}

// row is an element of a long list. What a path asks of it is read when it is asked.
type row struct {
	of       *source
	shape    []field // its members; nil: it is no object
	first    uint32  // of its members' places among the text's spans: from and to of each
	from, to uint32
	line     uint32
}

// field is a member of a row. Those of its value, where that is an object, follow it.
type field struct {
	name  string
	inner int // how many of those that follow are in its value
}

// find is where the field of a name is; -1: nowhere.
func find(fields []field, name string) int {
	for i := 0; i < len(fields); i += 1 + fields[i].inner {
		if fields[i].name == name {
			return i
		}
	}
	return -1
}

// source is what is kept of an export, and where the members of its rows stand in it. Of a
// table it is the cells, one after the other.
type source struct {
	text  []byte
	spans []uint32
	cells bool
	// shell says that a shell wrote it: its cells have values, and fields whose case is
	// another get the spelling that maps know.
	shell  map[string]string
	parser *jsonParser
}

// value reads what stands between two places, on that line. It was read before, and is
// known to be right.
func (s *source) value(from, to, line uint32) (any, *node) {
	raw, at := s.text[from:to], noLines
	if line > 0 {
		at = &node{line: int(line)}
	}
	if s.cells {
		if s.shell != nil {
			return cellOf(string(raw)), at
		}
		return string(raw), at
	}
	switch raw[0] {
	case '"':
		if bytes.IndexByte(raw, '\\') < 0 {
			return string(raw[1 : len(raw)-1]), at
		}
	case 't', 'f':
		return raw[0] == 't', at
	case 'n':
		return nil, at
	}
	if s.parser == nil {
		s.parser = newParser(nil, reading{again: true})
	}
	s.parser.from(raw, int(line))
	value, lines, _ := s.parser.document()
	if s.shell != nil {
		return respelled(value, lines, s.shell)
	}
	return value, lines
}

// scalar is the member of a name as textOf would write it, if it is a text that is written
// as it is, a switch or null: without the value in between, since most of what is asked of
// all accounts is this.
func (r *row) scalar(name string) (text string, null, ok bool) {
	i := find(r.shape, name)
	if i < 0 {
		return "", false, false
	}
	at := r.first + 2*uint32(i)
	raw := r.of.text[r.of.spans[at]:r.of.spans[at+1]]
	if r.of.cells {
		v, _ := r.of.value(r.of.spans[at], r.of.spans[at+1], 0)
		return textOf(v), v == nil, true
	}
	switch raw[0] {
	case '"':
		if bytes.IndexByte(raw, '\\') < 0 {
			return string(raw[1 : len(raw)-1]), false, true
		}
	case 't':
		return "true", false, true
	case 'f':
		return "false", false, true
	case 'n':
		return "", true, true
	}
	return "", false, false
}

// whole reads a row with all that is in it.
func (r *row) whole() (any, *node) {
	if !r.of.cells {
		return r.of.value(r.from, r.to, r.line)
	}
	all := make(map[string]any, len(r.shape))
	for _, f := range r.shape {
		all[f.name], _, _ = r.member(f.name, noLines)
	}
	return all, &node{line: int(r.line)}
}

// names are those of its members, sorted.
func (r *row) names() (all []string) {
	for i := 0; i < len(r.shape); i += 1 + r.shape[i].inner {
		all = append(all, r.shape[i].name)
	}
	slices.Sort(all)
	return all
}

// member reads the member of a name, with its lines if lines are asked for.
func (r *row) member(name string, lines *node) (any, *node, bool) {
	i := find(r.shape, name)
	if i < 0 {
		return nil, nil, false
	}
	at := r.first + 2*uint32(i)
	from, to := r.of.spans[at], r.of.spans[at+1]
	line := uint32(0)
	switch {
	case lines == noLines:
	case r.of.cells:
		line = r.line
	default:
		line = r.line + uint32(bytes.Count(r.of.text[r.from:from], []byte("\n")))
	}
	if !r.of.cells && r.of.text[from] == '{' {
		inner := r.shape[i+1 : i+1+r.shape[i].inner]
		near := lines
		if lines != noLines {
			near = &node{line: int(line)}
		}
		return &row{r.of, inner, at + 2, from, to, line}, near, true
	}
	v, near := r.of.value(from, to, line)
	return v, near, true
}

func (l *long) len() int { return len(l.begin) + len(l.rest) }

// at is an element, with its lines, given those of the list.
func (l *long) at(i int, lines *node) (any, *node) {
	if i < len(l.begin) {
		return l.begin[i], lines.next(spec.Index(i))
	}
	r := &l.rest[i-len(l.begin)]
	switch {
	case r.shape == nil:
		return r.whole()
	case lines == noLines:
		return r, lines
	}
	return r, &node{line: int(r.line)}
}

// takenApart is a value in which nothing is left to be read, with its lines.
func takenApart(value any, lines *node) (any, *node) {
	switch v := value.(type) {
	case *row:
		return v.whole()
	case *long:
		n := &node{line: lines.line, items: slices.Clone(lines.items)}
		all := slices.Clone(v.begin)
		for i := range v.rest {
			element, near := v.rest[i].whole()
			all, n.items = append(all, element), append(n.items, near)
		}
		return all, n
	case map[string]any: // of the whole document: long lists stand nowhere else
		if !containsLong(v) {
			break
		}
		out, n := make(map[string]any, len(v)), &node{line: lines.line, named: make(map[string]*node, len(v))}
		for name, inner := range v {
			near := lines.next(spec.Name(name))
			if list, ok := inner.(*long); ok {
				inner, near = takenApart(list, near)
			}
			out[name], n.named[name] = inner, near
		}
		return out, n
	}
	return value, lines
}

func containsLong(members map[string]any) bool {
	for _, v := range members {
		if _, ok := v.(*long); ok {
			return true
		}
	}
	return false
}
