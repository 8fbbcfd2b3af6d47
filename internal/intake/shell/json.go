package shell

import (
	"bytes"
	"encoding/json"
	"fmt"
	"regexp"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"sternledger/internal/redact"
)

func isJSON(k *kind, text []byte) bool {
	text = bytes.TrimLeft(text, " \t\r\n")
	if len(text) == 0 || text[0] != '{' && text[0] != '[' {
		return false
	}
	seen := map[string]bool{}
	for _, m := range jsonName.FindAllSubmatch(text, -1) {
		seen[strings.ToLower(string(m[1]))] = true
	}
	return tells(k.telling, func(name string) bool { return seen[name] })
}

var jsonName = regexp.MustCompile(`"([A-Za-z][A-Za-z-]*)"\s*:`)

// readJSON reads one object, or a list of them.
func readJSON(r *reader) ([]object, error) {
	text := r.text.Bytes
	wrong := func(offset int, err error) error {
		return r.wrong((&lines{text: text}).to(min(offset, len(text))), "JSON that cannot be read: "+err.Error(),
			"objects as ConvertTo-Json writes them", "export it again")
	}
	keeps := r.keepJSON()
	var objects []object
	at := &lines{text: text}
	d := json.NewDecoder(bytes.NewReader(text))
	lead := bytes.TrimLeft(text, " \t\r\n")
	many := len(lead) > 0 && lead[0] == '['
	if many {
		if _, err := d.Token(); err != nil {
			return nil, wrong(int(d.InputOffset()), err)
		}
	}
	for d.More() {
		// The decoder stands behind the object before; this one begins at its brace.
		begin := int(d.InputOffset())
		if i := bytes.IndexByte(text[begin:], '{'); i > 0 {
			begin += i
		}
		var raw map[string]json.RawMessage
		if err := d.Decode(&raw); err != nil {
			return nil, wrong(int(d.InputOffset()), err)
		}
		o := object{line: at.to(begin)}
		for name, value := range raw {
			p := property{name: name, line: o.line}
			p.setJSON(value, func(text string) string { return r.shown(name, text) })
			o.add(p)
		}
		objects = append(objects, o)
	}
	if many {
		if _, err := d.Token(); err != nil {
			return nil, wrong(len(text), err)
		}
	}
	return objects, keeps
}

// setJSON takes a value: text, a number, a span of time, a collection, or null.
func (p *property) setJSON(raw json.RawMessage, shown func(string) string) {
	var list []any
	var span struct {
		Ticks *int64
		Value any `json:"value"`
	}
	var text string
	switch {
	case bytes.Equal(raw, []byte("null")):
	case json.Unmarshal(raw, &text) == nil:
		p.setText(shown(text))
	case json.Unmarshal(raw, &list) == nil:
		p.setList(list)
	case json.Unmarshal(raw, &span) == nil && span.Ticks != nil:
		p.text = fmt.Sprintf("%d ticks", *span.Ticks)
	case span.Value != nil: // a collection with its count, a date, a SID
		if list, ok := span.Value.([]any); ok {
			p.setList(list)
		} else {
			p.setText(shown(fmt.Sprint(span.Value)))
		}
	default:
		p.text = shown(strings.TrimSpace(string(raw)))
		if collections[strings.ToLower(p.name)] {
			p.isList, p.cut = true, true // an object in a collection's place
		}
	}
}

func (p *property) setList(list []any) {
	p.isList = true
	for _, x := range list {
		if text, ok := x.(string); ok {
			p.list = append(p.list, text)
		} else {
			p.cut = true
		}
	}
}

// shown is what a property may show of a text: as much as is kept of it.
func (r *reader) shown(name, text string) string {
	switch {
	case redact.Look(text):
		return redact.Struck
	case r.kind.reads(strings.ToLower(name), strings.TrimSpace(text)):
		return text
	}
	return redact.NotKept
}

// keepJSON tells which texts and numbers are read, and of the others their names. What
// stands in a list, or in an object that a name holds, stands under that name.
func (r *reader) keepJSON() error {
	type level struct {
		array bool
		name  string // under which its values stand
		key   bool   // a name comes next
	}
	var open []level
	top := func() *level { return &open[len(open)-1] }
	d := jsontext.NewDecoder(bytes.NewBuffer(r.text.Bytes), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	for {
		from := int(d.InputOffset())
		token, err := d.ReadToken()
		if err != nil {
			return nil // the end: what cannot be read was told before
		}
		to := int(d.InputOffset())
		for from < to && bytes.IndexByte([]byte(" \t\r\n:,"), r.text.Bytes[from]) >= 0 {
			from++
		}
		kind := token.Kind()
		switch kind {
		case '{', '[':
			name := ""
			if len(open) > 0 {
				name = top().name
				top().key = !top().array
			}
			open = append(open, level{array: kind == '[', name: name, key: kind == '{'})
			continue
		case '}', ']':
			open = open[:len(open)-1]
			continue
		}
		switch {
		case len(open) == 0:
		case top().key:
			name := token.String()
			r.text.Name(from, to, name, quoted)
			// What an object within a property calls its parts is not a property.
			if len(open) > 1 && open[len(open)-2].name != "" {
				outer := open[len(open)-2].name
				if r.known(outer) || r.known(name) {
					name = outer
				}
			}
			top().name, top().key = name, false
		default:
			top().key = !top().array
			if kind == '"' || kind == '0' {
				r.keep(from, to, top().name, token.String(), quoted)
			} else {
				r.text.Read(from, to) // true, false, null
			}
		}
	}
}

func (r *reader) known(name string) bool {
	_, known := r.kind.known[strings.ToLower(name)]
	return known
}

// quoted is a mark as a text of JSON.
func quoted(mark string) string { return `"` + mark + `"` }
