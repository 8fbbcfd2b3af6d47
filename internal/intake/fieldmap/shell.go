package fieldmap

import (
	"bytes"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"sternledger/internal/intake"
)

// asShell is the document as what a vendor's shell makes of a reply: the same fields in
// other letter cases, and cells with values.
func (d *document) asShell(spelled map[string]string) *document {
	s := &document{part: d.part}
	s.value, s.lines = respelled(d.value, d.lines, spelled)
	return s
}

// shells are what an export may be of such a document: as it is, or a list, or its only
// element, without the envelope it came in. A document that no map knows as it is is tried
// so.
func (d *document) shells(x *Export) []*document {
	all := []*document{d}
	list, lines := d.value, d.lines
	switch list.(type) {
	case []any, *long:
	default:
		list, lines = []any{list}, &node{line: lines.line, items: []*node{lines}}
	}
	for _, p := range x.JSON {
		if m := envelope.FindStringSubmatch(p.text.Value); m != nil {
			all = append(all, &document{part: d.part, bare: true, value: map[string]any{m[1]: list},
				lines: &node{line: lines.line, named: map[string]*node{m[1]: lines}}})
		}
	}
	return all
}

// respelled is the list with the spelling that maps know, with its lines.
func (l *long) respelled(lines *node, spelled map[string]string) (*long, *node) {
	begin, n := respelled(l.begin, lines, spelled)
	out := &long{begin.([]any), slices.Clone(l.rest)}
	sources, shapes := map[*source]*source{}, map[*field][]field{}
	for i := range out.rest {
		r := &out.rest[i]
		of := sources[r.of]
		if of == nil {
			of = &source{text: r.of.text, spans: r.of.spans, cells: r.of.cells, shell: spelled}
			sources[r.of] = of
		}
		r.of = of
		if len(r.shape) == 0 {
			continue
		}
		first := &r.shape[0]
		if len(shapes[first]) < len(r.shape) { // rows of a table that end early have the beginning of one shape
			shapes[first] = respelledFields(r.shape, spelled)
		}
		r.shape = shapes[first][:len(r.shape)]
	}
	return out, n
}

func respelledFields(fields []field, spelled map[string]string) []field {
	all := slices.Clone(fields)
	for i := 0; i < len(fields); i += 1 + fields[i].inner {
		if known := spelled[strings.ToLower(fields[i].name)]; known != "" && find(fields, known) < 0 {
			all[i].name = known
		}
		inner := all[i+1 : i+1+fields[i].inner]
		copy(inner, respelledFields(inner, spelled))
	}
	return all
}

// cellOf gives a cell of a shell's CSV its value: a cell tells neither nothing from an empty
// text nor a list from the name of its type.
func cellOf(cell string) any {
	switch {
	case cell == "", intake.TypeName.MatchString(cell):
		return nil
	case strings.EqualFold(cell, "true"), strings.EqualFold(cell, "false"):
		return strings.EqualFold(cell, "true")
	}
	return cell
}

// mayBeShell reports whether a CSV has the columns that a list's elements have as
// fields, in any letter case.
func (m *Map) mayBeShell(text []byte) bool {
	if bytes.HasPrefix(text, typeLine) {
		_, text, _ = bytes.Cut(text, []byte("\n"))
	}
	line, _, _ := bytes.Cut(text, []byte("\n"))
	columns := strings.Split(strings.ToLower(string(line)), string(intake.Separator(line)))
	for i := range columns {
		columns[i] = strings.Trim(strings.TrimSpace(columns[i]), `"`)
	}
	return slices.ContainsFunc(m.Exports, func(x Export) bool {
		for _, p := range x.JSON {
			field := fieldOfList.FindStringSubmatch(p.text.Value)
			if field == nil || !slices.Contains(columns, strings.ToLower(field[1])) {
				return false
			}
		}
		return len(x.JSON) > 0
	})
}

// fieldOfList is a path to a field of a list's elements.
var fieldOfList = regexp.MustCompile(`^\$(?:\.[A-Za-z_]\w*)?\[\*\]\.([A-Za-z_]\w*)$`)

// envelope is a path into a list that stands alone in its reply.
var envelope = regexp.MustCompile(`^\$\.([A-Za-z_]\w*)\[`)

// respelled gives each field the spelling that the maps know, whatever its case.
func respelled(value any, lines *node, spelled map[string]string) (any, *node) {
	switch v := value.(type) {
	case map[string]any:
		all, n := make(map[string]any, len(v)), &node{line: lines.line}
		if lines.named != nil {
			n.named = make(map[string]*node, len(lines.named))
		}
		for key, inner := range v {
			name := key
			if known := spelled[strings.ToLower(key)]; known != "" {
				if _, taken := v[known]; !taken {
					name = known
				}
			}
			at := lines.named[key]
			if at == nil {
				at = &node{line: lines.line}
			}
			field, where := respelled(inner, at, spelled)
			if all[name] = field; n.named != nil {
				n.named[name] = where
			}
		}
		return all, n
	case *long:
		return v.respelled(lines, spelled)
	case []any:
		all, n := make([]any, len(v)), &node{line: lines.line, items: make([]*node, len(v))}
		for i, inner := range v {
			at := &node{line: lines.line}
			if i < len(lines.items) && lines.items[i] != nil {
				at = lines.items[i]
			}
			all[i], n.items[i] = respelled(inner, at, spelled)
		}
		return all, n
	}
	return value, lines
}

// spell collects the names that the map reads, by their lower case, and of each export
// those without which it is not recognised.
func (m *Map) spell() {
	m.spelled = map[string]string{}
	spellings(reflect.ValueOf(m), m.spelled)
	for i := range m.Exports {
		x := &m.Exports[i]
		for _, p := range x.JSON {
			var names []string
			if fields := filterField.FindAllStringSubmatch(p.text.Value, -1); len(fields) > 0 {
				for _, f := range fields { // a filter may ask for one or another
					names = append(names, strings.ToLower(f[1]))
				}
			} else if steps := stepName.FindAllStringSubmatch(p.text.Value, -1); len(steps) > 0 {
				// The last name of its path: what stands before it may be the envelope, which a shell leaves out.
				last := steps[len(steps)-1]
				names = []string{strings.ToLower(last[1] + last[2] + last[3])}
			}
			if len(names) > 0 {
				x.wants = append(x.wants, names)
			}
		}
	}
}

// filterField is a field that a filter of a path asks for.
var filterField = regexp.MustCompile(`@\.([A-Za-z_]\w*)`)

// mayBe reports whether a document with those names, in lower case, can be one of a map's
// exports at all.
func (m *Map) mayBe(names map[string]bool, empty bool) bool {
	return slices.ContainsFunc(m.Exports, func(x Export) bool {
		return x.Empty != nil && empty || len(x.JSON) > 0 && !slices.ContainsFunc(x.wants,
			func(any []string) bool {
				return !slices.ContainsFunc(any, func(name string) bool { return names[name] })
			})
	})
}

// namesIn collects those names of a value, in lower case, that some map reads.
func namesIn(value any, read func(low string) bool, into map[string]bool) {
	add := func(name string) {
		if low := strings.ToLower(name); read(low) {
			into[low] = true
		}
	}
	switch v := value.(type) {
	case map[string]any:
		for name, inner := range v {
			add(name)
			namesIn(inner, read, into)
		}
	case []any:
		for _, inner := range v {
			namesIn(inner, read, into)
		}
	case *long:
		for _, inner := range v.begin {
			namesIn(inner, read, into)
		}
		var last *field // rows of one shape stand together
		for i := range v.rest {
			shape := v.rest[i].shape
			if len(shape) == 0 || &shape[0] == last {
				continue
			}
			last = &shape[0]
			for _, f := range shape {
				add(f.name)
			}
		}
	}
}
