package fieldmap

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/theory/jsonpath/spec"

	"sternledger/internal/core/setting"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/intake"
	"sternledger/internal/redact"
)

// Change is the documented request by which an administrator changes what an export
// shows: with which method, at which address, and of which element the body is made.
type Change struct {
	Export  strictyaml.Text   `yaml:"export"`
	Method  string            `yaml:"method"`
	Path    string            `yaml:"path"`    // {field} stands for a field of the element
	Element Path              `yaml:"element"` // what is changed, as a whole
	Only    []strictyaml.Text `yaml:"only"`    // the fields of the body; empty: all of the element
}

// Edit is a setting of a tenant that is to have another value, where evidence cites it.
type Edit struct {
	Setting setting.ID
	Where   string
	Line    int
	Raw     string
	To      setting.Value
}

// Operation is one of a JSON Patch (RFC 6902).
type Operation struct {
	Op    string `json:"op"`
	Path  string `json:"path"`
	Value any    `json:"value"`
}

// Proposal is what an administrator sends to change one element, and to change it back.
type Proposal struct {
	Method string `json:"method"`
	Path   string `json:"path"`
	// Body is whole; nil: the evidence does not hold all of it, and the element has to be
	// fetched and patched.
	Body  any         `json:"body,omitempty"`
	Patch []Operation `json:"patch"` // of the export that was gathered
}

// Amended are the proposals for an export, those that undo them, and the export as it
// would be.
type Amended struct {
	Do, Undo []Proposal
	Then     any
	Left     []Edit // for which the map knows no request, or the export no one field
}

// Amend makes the requests that give an export of the map's other values.
func (m *Map) Amend(file string, stored []byte, edits []Edit) (*Amended, error) {
	d, err := parse(&intake.Part{Path: file, Name: file, Data: stored})
	if err != nil {
		return nil, err
	}
	a := &Amended{Left: edits}
	export := m.ExportOf(file, stored)
	if d.csv != nil || export == "" {
		return a, nil
	}
	a.Left = nil
	then := copied(d.value)
	type done struct{ do, undo *Proposal }
	byElement := map[string]*done{}
	var order []string
	for _, x := range edits {
		path, reading := m.field(d, x)
		change, element := m.changeOf(export, d, path)
		if reading == nil || change == nil {
			a.Left = append(a.Left, x)
			continue
		}
		now := get(then, path) // one field can hold several settings
		next, ok := reading.written(now, x.To)
		if !ok {
			a.Left = append(a.Left, x)
			continue
		}
		put(then, path, next)
		key := pointer(element)
		if byElement[key] == nil {
			byElement[key] = &done{&Proposal{Method: change.Method}, &Proposal{Method: change.Method}}
			order = append(order, key)
		}
		p := byElement[key]
		at := pointer(path)
		p.do.Patch = append(p.do.Patch, Operation{"test", at, now}, Operation{"replace", at, next})
		p.undo.Patch = append([]Operation{{"test", at, next}, {"replace", at, now}}, p.undo.Patch...)
		p.do.Path, p.do.Body = change.request(get(then, element))
		p.undo.Path, p.undo.Body = change.request(get(d.value, element))
	}
	for _, key := range order {
		a.Do, a.Undo = append(a.Do, *byElement[key].do), append(a.Undo, *byElement[key].undo)
	}
	a.Then = then
	return a, nil
}

// field finds the one field that evidence cites, and how it is read.
func (m *Map) field(d *document, x Edit) (spec.NormalizedPath, *Reading) {
	name, _, matched := strings.Cut(x.Where, " (")
	for _, r := range m.readingsOf(x.Setting) {
		if (r.match != nil) != matched {
			continue
		}
		var hits []spec.NormalizedPath
		scalars(d.value, d.lines, nil, func(p spec.NormalizedPath, v any, line int, beside string) {
			last, _ := p[len(p)-1].(spec.Name)
			if line != x.Line || string(last) != name && beside != name {
				return
			}
			if r.match == nil && textOf(v) == x.Raw || r.match != nil && groupOf(r, textOf(v)) == x.Raw && x.Raw != "" {
				hits = append(hits, p)
			}
		})
		if len(hits) == 1 {
			return hits[0], r
		}
	}
	return nil, nil
}

func groupOf(r *Reading, text string) string {
	m := r.match.FindStringSubmatch(text)
	if m == nil {
		return ""
	}
	return m[len(m)-1]
}

// readingsOf are the map's readings of a setting.
func (m *Map) readingsOf(id setting.ID) (all []*Reading) {
	add := func(list []Reading) {
		for i := range list {
			if list[i].row.ID == id {
				all = append(all, &list[i])
			}
		}
	}
	add(m.Settings)
	if m.Policies != nil {
		add(m.Policies.Settings)
	}
	if m.Domains != nil {
		add(m.Domains.Settings)
	}
	if m.Units != nil {
		add(m.Units.Of.Settings)
	}
	return all
}

// written is a value as the field has it, of the kind that stands there now. What
// would not be read as that value is not written.
func (r *Reading) written(now any, v setting.Value) (any, bool) {
	var texts []string
	for _, word := range slices.Sorted(maps.Keys(r.values)) {
		if r.values[word] == v {
			texts = append(texts, word)
			for written := range r.Words { // in the letters that the map has
				if strings.EqualFold(written, word) {
					texts[len(texts)-1] = written
				}
			}
		}
	}
	if n, ok := v.Number(); ok {
		if r.Unit.Value == "with its unit" {
			texts = append(texts, strconv.FormatInt(n, 10)+"s")
		} else if unit := max(units[r.Unit.Value], 1); n%unit == 0 {
			texts = append(texts, strconv.FormatInt(n/unit, 10))
		}
	}
	if v == setting.On || v == setting.Off {
		texts = append(texts, strconv.FormatBool(v == setting.On))
	}
	for _, text := range texts {
		var next any = text
		switch old := now.(type) {
		case float64:
			n, err := strconv.ParseFloat(text, 64)
			if err != nil {
				continue
			}
			next = n
		case bool:
			on, err := strconv.ParseBool(text)
			if err != nil {
				continue
			}
			next = on
		case string:
			if r.match == nil {
				if b, err := strconv.ParseBool(old); err == nil && old == strings.ToUpper(old[:1])+old[1:] { // "True"
					if on, err := strconv.ParseBool(text); err == nil && on != b {
						next = map[bool]string{true: "True", false: "False"}[on]
					}
				}
				break
			}
			at := r.match.FindStringSubmatchIndex(old)
			if len(at) < 2 {
				continue
			}
			next = old[:at[len(at)-2]] + text + old[at[len(at)-1]:]
			if groupOf(r, next.(string)) != text {
				continue
			}
			if got, err := r.value(text); err == nil && got == v {
				return next, true
			}
			continue
		default:
			return nil, false
		}
		if got, err := r.value(next); err == nil && got == v {
			return next, true
		}
	}
	return nil, false
}

// changeOf is the request for a field of an export, and the element that holds it.
func (m *Map) changeOf(export string, d *document, path spec.NormalizedPath) (*Change, spec.NormalizedPath) {
	for i := range m.Changes {
		c := &m.Changes[i]
		if c.Export.Value != export || c.Element.path == nil {
			continue
		}
		for _, located := range c.Element.path.located(d.value) {
			if len(located.Path) <= len(path) && slices.Equal(located.Path, path[:len(located.Path)]) {
				return c, located.Path
			}
		}
	}
	return nil, nil
}

// request fills in the address and the body of a change of an element.
func (c *Change) request(element any) (path string, body any) {
	fields, _ := element.(map[string]any)
	path = c.Path
	for name, v := range fields {
		path = strings.ReplaceAll(path, "{"+name+"}", pathEscape(textOf(v)))
	}
	body = element
	if len(c.Only) > 0 {
		some := map[string]any{}
		for _, name := range c.Only {
			if v, ok := fields[name.Value]; ok {
				some[name.Value] = v
			}
		}
		body = some
	}
	if !whole(body) {
		body = nil
	}
	return path, body
}

// Take makes the change that a request asks for, in an export as it is served: what a
// stand-in for the product does with it. ok is false where the map knows no such
// request.
func (m *Map) Take(method, path string, body any, served func(export string) any) (export string, then any, ok bool) {
	for i := range m.Changes {
		c := &m.Changes[i]
		value := copied(served(c.Export.Value))
		if c.Method != method || value == nil {
			continue
		}
		for _, located := range c.Element.path.located(value) {
			if at, _ := c.request(located.Node); at != path {
				continue
			}
			fields, isFields := located.Node.(map[string]any)
			given, isGiven := body.(map[string]any)
			if len(c.Only) == 0 || !isFields || !isGiven { // what is left out is gone
				if len(located.Path) == 0 {
					return c.Export.Value, body, true
				}
				put(value, located.Path, body)
			} else {
				maps.Copy(fields, given)
			}
			return c.Export.Value, value, true
		}
	}
	return "", nil, false
}

// pathEscape keeps a name within its step of an address.
func pathEscape(text string) string {
	var b strings.Builder
	for _, c := range []byte(text) {
		if c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte("-_.~", c) >= 0 {
			b.WriteByte(c)
		} else {
			fmt.Fprintf(&b, "%%%02X", c)
		}
	}
	return b.String()
}

// whole reports whether a value holds nothing that was not kept.
func whole(v any) bool {
	switch v := v.(type) {
	case map[string]any:
		for _, inner := range v {
			if !whole(inner) {
				return false
			}
		}
	case []any:
		return !slices.ContainsFunc(v, func(inner any) bool { return !whole(inner) })
	case string:
		return !redact.IsMark(v)
	}
	return true
}

// scalars visits each text, number and switch, with the name of the element beside it.
func scalars(v any, lines *node, at spec.NormalizedPath, visit func(p spec.NormalizedPath, v any, line int, beside string)) {
	if lines == nil {
		return
	}
	below := func(step spec.NormalSelector) spec.NormalizedPath { return append(slices.Clip(slices.Clone(at)), step) }
	switch v := v.(type) {
	case map[string]any:
		beside, _ := v["name"].(string)
		for name, inner := range v {
			path := below(spec.Name(name))
			switch inner.(type) {
			case map[string]any, []any:
				scalars(inner, lines.named[name], path, visit)
			case nil:
			default:
				if n := lines.named[name]; n != nil {
					visit(path, inner, n.line, beside)
				}
			}
		}
	case []any:
		for i, inner := range v {
			if i < len(lines.items) {
				scalars(inner, lines.items[i], below(spec.Index(i)), visit)
			}
		}
	}
}

// pointer writes a path as a JSON Pointer (RFC 6901).
func pointer(p spec.NormalizedPath) string {
	var b strings.Builder
	for _, step := range p {
		switch s := step.(type) {
		case spec.Name:
			b.WriteString("/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(string(s)))
		case spec.Index:
			b.WriteString("/" + strconv.Itoa(int(s)))
		}
	}
	return b.String()
}

func get(v any, p spec.NormalizedPath) any {
	for _, step := range p {
		switch s := step.(type) {
		case spec.Name:
			fields, _ := v.(map[string]any)
			v = fields[string(s)]
		case spec.Index:
			list, _ := v.([]any)
			if int(s) >= len(list) {
				return nil
			}
			v = list[s]
		}
	}
	return v
}

func put(v any, p spec.NormalizedPath, next any) {
	holder := get(v, p[:len(p)-1])
	switch s := p[len(p)-1].(type) {
	case spec.Name:
		if fields, ok := holder.(map[string]any); ok {
			fields[string(s)] = next
		}
	case spec.Index:
		if list, ok := holder.([]any); ok && int(s) < len(list) {
			list[s] = next
		}
	}
}

func copied(v any) any {
	switch v := v.(type) {
	case map[string]any:
		out := make(map[string]any, len(v))
		for name, inner := range v {
			out[name] = copied(inner)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, inner := range v {
			out[i] = copied(inner)
		}
		return out
	}
	return v
}
