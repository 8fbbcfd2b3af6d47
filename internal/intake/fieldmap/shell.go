package fieldmap

import (
	"bytes"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"sternledger/internal/intake"
)

// shells are what vendors' shells make of a reply: the same fields in other letter
// cases, and a list, or its only element, without the envelope it came in, as JSON or
// as CSV. A document that no map knows as it is is tried so.
func (d *document) shells(x *Export, spelled map[string]string) []*document {
	value, lines := takenApart(d.value, d.lines)
	value, lines = respelled(value, lines, spelled)
	if d.csv != nil {
		value = cellsOf(value)
	}
	all := []*document{{part: d.part, value: value, lines: lines}}
	list, ok := value.([]any)
	if !ok {
		list, lines = []any{value}, &node{line: lines.line, items: []*node{lines}}
	}
	for _, p := range x.JSON {
		if m := envelope.FindStringSubmatch(p.text.Value); m != nil {
			all = append(all, &document{part: d.part, bare: true, value: map[string]any{m[1]: list},
				lines: &node{line: lines.line, named: map[string]*node{m[1]: lines}}})
		}
	}
	return all
}

// cellsOf gives cells of a shell's CSV their values: a cell tells neither nothing from
// an empty text nor a list from the name of its type.
func cellsOf(rows any) any {
	list, _ := rows.([]any)
	all := make([]any, len(list))
	for i := range list {
		cells, _ := list[i].(map[string]any)
		row := make(map[string]any, len(cells))
		for name, cell := range cells {
			switch text, _ := cell.(string); {
			case text == "", intake.TypeName.MatchString(text):
				row[name] = nil
			case strings.EqualFold(text, "true"), strings.EqualFold(text, "false"):
				row[name] = strings.EqualFold(text, "true")
			default:
				row[name] = text
			}
		}
		all[i] = row
	}
	return all
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

// spellings are the names that a map reads, by their lower case.
func spellings(m *Map) map[string]string {
	all := map[string]string{}
	w := vocabulary{}
	w.take(reflect.ValueOf(m), all)
	return all
}
