package shell

import (
	"bytes"
	"regexp"
	"strings"

	"sternledger/internal/intake"
)

// listLine is a property of list text; listMore goes on with the one before.
var (
	listLine = regexp.MustCompile(`^([A-Za-z][A-Za-z0-9-]*)(?: *: ?|=)(.*?)\r*$`) // or as wmic has it, with a sign
	listMore = regexp.MustCompile(`^ {4,}(\S.*)$`)
)

func isList(k *kind, text []byte) bool {
	seen, in := map[string]bool{}, map[string]bool{} // of all objects, and of one
	for line := range bytes.Lines(text) {
		line = bytes.TrimRight(line, "\r\n")
		if len(bytes.TrimSpace(line)) == 0 {
			clear(in)
		}
		if m := listLine.FindSubmatch(line); m != nil {
			name := strings.ToLower(string(m[1]))
			if in[name] {
				return false // another tool's: the shell prints a property once
			}
			seen[name], in[name] = true, true
		}
	}
	return tells(k.telling, func(name string) bool { return seen[name] })
}

// readList reads list text: a property a line, objects separated by empty lines. Long
// values go on in lines that are indented.
func readList(r *reader) ([]object, error) {
	var objects []object
	var open *property
	var begins intake.Line // the value of the property that is open
	end := func(to int) {
		if open != nil {
			breaks := bytes.Count(r.text.Bytes[begins.From:to], []byte("\n"))
			open.text = r.keep(begins.From, to, open.name, open.text, func(mark string) string {
				return mark + strings.Repeat("\n", breaks)
			})
			open.setText(open.text)
			objects[len(objects)-1].add(*open)
		}
		open = nil
	}
	begun, until := false, 0 // whether an object is open, and where the line before ends
	for l := range r.text.Lines() {
		m := listLine.FindStringSubmatch(l.Text)
		more := listMore.FindStringSubmatch(l.Text)
		switch {
		case m != nil:
			end(until)
			if !begun {
				objects = append(objects, object{line: l.Number})
				begun = true
			}
			begins = intake.Line{Number: l.Number, Text: m[2], From: l.From + strings.LastIndex(strings.TrimRight(l.Text, "\r"), m[2])}
			r.text.Name(l.From, l.From+len(m[1]), m[1], nil)
			r.text.Read(l.From+len(m[1]), begins.From)
			open = &property{name: m[1], line: l.Number, text: m[2]}
		case more != nil && open != nil:
			open.text += more[1]
		case strings.TrimSpace(l.Text) == "":
			end(until)
			begun = false
		case len(objects) == 0: // the prompt, with the command
		case strings.HasPrefix(l.Text, "PS "): // the prompt behind it
			end(until)
			begun = false
		default:
			return nil, r.wrong(l.Number, "a line that is neither a property nor goes on with one", "\"Name : value\"",
				"export again, to a file of its own, with Format-List *")
		}
		until = l.To()
	}
	end(until)
	return objects, nil
}
