package shell

import (
	"bytes"
	"regexp"
	"strings"
)

// listLine is a property of list text; listMore goes on with the one before.
var (
	listLine = regexp.MustCompile(`^([A-Za-z][A-Za-z0-9-]*) *: ?(.*)$`)
	listMore = regexp.MustCompile(`^ {4,}(\S.*)$`)
)

func isList(k *kind, text []byte) bool {
	seen := map[string]bool{}
	for line := range bytes.Lines(text) {
		if m := listLine.FindSubmatch(bytes.TrimRight(line, "\r\n")); m != nil {
			seen[strings.ToLower(string(m[1]))] = true
		}
	}
	return tells(k.telling, func(name string) bool { return seen[name] })
}

// readList reads list text: a property a line, objects parted by empty lines. Long
// values go on in lines that are indented.
func readList(r *reader, text []byte) ([]object, []byte, error) {
	var objects []object
	var kept bytes.Buffer
	var open *property
	begun := false
	end := func() {
		if open != nil {
			open.setText(open.text)
			objects[len(objects)-1].add(*open)
		}
		open = nil
	}
	line, dropped := 0, false
	for full := range bytes.Lines(text) {
		line++
		bare := bytes.TrimRight(full, "\r\n")
		tail := full[len(bare):]
		m := listLine.FindSubmatch(bare)
		more := listMore.FindSubmatch(bare)
		switch {
		case m != nil:
			end()
			name := string(m[1])
			if !begun {
				objects = append(objects, object{line: line})
				begun = true
			}
			value := string(m[2])
			shown := r.keep(name, value)
			dropped = shown != value
			open = &property{name: name, line: line, text: value}
			kept.Write(bare[:len(bare)-len(m[2])])
			kept.WriteString(shown)
		case more != nil && open != nil:
			open.text += string(more[1])
			if dropped {
				kept.WriteString(strings.Repeat(" ", 4))
			} else {
				kept.Write(bare)
			}
		case len(bytes.TrimSpace(bare)) == 0:
			end()
			begun = false
			kept.Write(bare)
		case len(objects) == 0: // the prompt, with the command
			if shown := r.keep("", string(bare)); shown != string(bare) {
				bare = []byte(shown)
			}
			kept.Write(bare)
		case bytes.HasPrefix(bare, []byte("PS ")): // the prompt behind it
			end()
			begun = false
			kept.WriteString(r.keep("", string(bare)))
		default:
			return nil, nil, r.wrong(line, "a line that is neither a property nor goes on with one", "\"Name : value\"",
				"export again, to a file of its own, with Format-List *")
		}
		kept.Write(tail)
	}
	end()
	return objects, kept.Bytes(), nil
}
