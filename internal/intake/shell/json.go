package shell

import (
	"bytes"
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
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

var jsonName = regexp.MustCompile(`"([A-Za-z]+)"\s*:`)

// readJSON reads one object, or a list of them.
func readJSON(r *reader, text []byte) ([]object, []byte, error) {
	wrong := func(offset int, err error) error {
		return r.wrong((&lines{text: text}).to(min(offset, len(text))), "JSON that cannot be read: "+err.Error(),
			"objects as ConvertTo-Json writes them", "export it again")
	}
	var objects []object
	at := &lines{text: text}
	d := json.NewDecoder(bytes.NewReader(text))
	lead := bytes.TrimLeft(text, " \t\r\n")
	many := len(lead) > 0 && lead[0] == '['
	if many {
		if _, err := d.Token(); err != nil {
			return nil, nil, wrong(int(d.InputOffset()), err)
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
			return nil, nil, wrong(int(d.InputOffset()), err)
		}
		o := object{line: at.to(begin)}
		for name, value := range raw {
			p := property{name: name, line: o.line}
			p.setJSON(value)
			o.add(p)
		}
		objects = append(objects, o)
	}
	if many {
		if _, err := d.Token(); err != nil {
			return nil, nil, wrong(len(text), err)
		}
	}
	kept, err := r.keepJSON(text)
	if err != nil {
		return nil, nil, wrong(0, err)
	}
	return objects, kept, nil
}

// setJSON takes a value: text, a number, a span of time, a collection, or null.
func (p *property) setJSON(raw json.RawMessage) {
	var list []any
	var span struct {
		Ticks *int64
		Value any `json:"value"`
	}
	var text string
	switch {
	case bytes.Equal(raw, []byte("null")):
	case json.Unmarshal(raw, &text) == nil:
		p.setText(text)
	case json.Unmarshal(raw, &list) == nil:
		p.setList(list)
	case json.Unmarshal(raw, &span) == nil && span.Ticks != nil:
		p.text = fmt.Sprintf("%d ticks", *span.Ticks)
	case span.Value != nil: // a collection with its count, a date, a SID
		if list, ok := span.Value.([]any); ok {
			p.setList(list)
		} else {
			p.setText(fmt.Sprint(span.Value))
		}
	default:
		p.text = strings.TrimSpace(string(raw))
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

// keepJSON marks the texts under names that no rule reads, byte for byte otherwise.
// A text in a list, or in an object that a name holds, stands under that name.
func (r *reader) keepJSON(text []byte) ([]byte, error) {
	var out bytes.Buffer
	last := 0
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	type level struct {
		array bool
		name  string // under which its values stand
		key   bool   // a name comes next
	}
	var open []level
	for {
		token, err := d.Token()
		if err != nil {
			break // the end: what cannot be read was told before
		}
		top := func() *level { return &open[len(open)-1] }
		if delim, ok := token.(json.Delim); ok {
			switch delim {
			case '{', '[':
				name := ""
				if len(open) > 0 {
					name = top().name
				}
				open = append(open, level{array: delim == '[', name: name, key: delim == '{'})
			default:
				open = open[:len(open)-1]
				if len(open) > 0 && !top().array {
					top().key = true
				}
			}
			continue
		}
		if len(open) == 0 {
			continue
		}
		if top().key {
			name, _ := token.(string)
			// What an object within a property calls its parts is not a property.
			if len(open) > 1 && open[len(open)-2].name != "" {
				if outer := open[len(open)-2].name; r.kind.known[strings.ToLower(outer)] || r.kind.known[strings.ToLower(name)] {
					name = outer
				}
			}
			top().name, top().key = name, false
			continue
		}
		if !top().array {
			top().key = true
		}
		value, ok := token.(string)
		if !ok {
			continue
		}
		if shown := r.keep(top().name, value); shown != value {
			end := int(d.InputOffset())
			begin := begins(text, end)
			mark, err := json.Marshal(shown)
			if err != nil {
				return nil, err
			}
			out.Write(text[last:begin])
			out.Write(mark)
			last = end
		}
	}
	out.Write(text[last:])
	return out.Bytes(), nil
}

// begins finds the quote with which the text begins that ends at end.
func begins(text []byte, end int) int {
	for i := end - 2; i >= 0; i-- {
		if text[i] != '"' {
			continue
		}
		slashes := 0
		for i-1-slashes >= 0 && text[i-1-slashes] == '\\' {
			slashes++
		}
		if slashes%2 == 0 {
			return i
		}
	}
	return 0
}
