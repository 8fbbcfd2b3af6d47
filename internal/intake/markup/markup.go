// Package markup goes through an XML document element by element, with the line of
// each, and makes the copy that is kept: byte for byte the same but for the texts
// and attributes that somebody replaces.
package markup

import (
	"bytes"
	"encoding/xml"
	"io"
	"regexp"
	"strings"
)

// Element is one that is open.
type Element struct {
	Space, Name string
	Attr        []xml.Attr
	Line        int
	Leaf        bool // no element stood in it so far

	from int // where its text begins

}

// Of returns an attribute's value, whatever its name space.
func (e *Element) Of(name string) string {
	for _, a := range e.Attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

// Visitor is told of the elements of a document. Stacks have the root first and the
// element itself last; they are good until the function returns.
type Visitor struct {
	Open func(stack []Element)
	// Close is told of an element's end, and of its text where it is a leaf. It
	// returns the text to keep.
	Close func(stack []Element, text string) string
	// Attr, if not nil, returns what is kept of an attribute's value, of the element that
	// was opened last. Declarations of name spaces and types are kept.
	Attr func(name, value string) string
	// Loose, if not nil, returns what is kept of text that stands beside elements, and
	// of comments. Without it nothing is.
	Loose func(text string) string
}

// Error is a document that cannot be read on.
type Error struct {
	Line int
	Err  error
}

func (e *Error) Error() string { return e.Err.Error() }
func (e *Error) Unwrap() error { return e.Err }

// maxDepth bounds how deep elements may stand in one another.
const maxDepth = 256

// Walk goes through a document in UTF-8, whatever its declaration says, and returns
// the copy that is kept.
func Walk(text []byte, v *Visitor) ([]byte, error) {
	d := xml.NewDecoder(bytes.NewReader(text))
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	w := &walk{text: text, visitor: v}
	for {
		offset := int(d.InputOffset())
		token, err := d.Token()
		if err == io.EOF {
			break
		}
		if err == nil && len(w.stack) > maxDepth {
			err = errTooDeep
		}
		if err != nil {
			return nil, &Error{w.lineAt(min(offset, len(text))), err}
		}
		w.token(token, offset, int(d.InputOffset()))
	}
	w.kept.Write(text[w.last:])
	return w.kept.Bytes(), nil
}

var errTooDeep = xml.UnmarshalError("elements that stand more than 256 deep in one another")

type walk struct {
	text    []byte
	visitor *Visitor
	stack   []Element
	chars   strings.Builder
	kept    bytes.Buffer
	last    int // bytes of text that were kept or replaced
	counted int // bytes of which the lines were counted
	lines   int
}

func (w *walk) lineAt(offset int) int {
	if offset > w.counted {
		w.lines += bytes.Count(w.text[w.counted:offset], []byte("\n"))
		w.counted = offset
	}
	return w.lines + 1
}

func (w *walk) token(token xml.Token, from, to int) {
	switch token := token.(type) {
	case xml.StartElement:
		if n := len(w.stack); n > 0 {
			w.stack[n-1].Leaf = false
		}
		w.stack = append(w.stack, Element{Space: token.Name.Space, Name: token.Name.Local, Attr: token.Attr, Line: w.lineAt(from), Leaf: true,
			from: to})
		w.chars.Reset()
		if w.visitor.Open != nil {
			w.visitor.Open(w.stack)
		}
		if w.visitor.Attr != nil {
			w.attributes(from, to)
		}
	case xml.CharData:
		w.chars.Write(token)
		if n := len(w.stack); n > 0 && !w.stack[n-1].Leaf {
			w.loose(string(token), from, to)
		}
	case xml.Comment:
		w.loose(string(token), from+len("<!--"), to-len("-->"))
	case xml.EndElement:
		top := w.stack[len(w.stack)-1]
		text := ""
		if top.Leaf {
			text = w.chars.String()
		}
		kept := w.visitor.Close(w.stack, text)
		if top.Leaf && kept != text && from >= top.from {
			w.replace(top.from, from, kept)
		}
		w.stack = w.stack[:len(w.stack)-1]
		w.chars.Reset()
	}
}

// loose takes text that belongs to no leaf.
func (w *walk) loose(text string, from, to int) {
	if strings.TrimSpace(text) == "" || from > to {
		return
	}
	kept := ""
	if w.visitor.Loose != nil {
		kept = w.visitor.Loose(text)
	}
	if kept != text {
		w.replace(from, to, kept)
	}
}

// replace writes another text for a piece; the lines stay.
func (w *walk) replace(from, to int, text string) {
	w.kept.Write(w.text[w.last:from])
	_ = xml.EscapeText(&w.kept, []byte(text))
	w.kept.WriteString(strings.Repeat("\n", bytes.Count(w.text[from:to], []byte("\n"))))
	w.last = to
}

// attribute is one of a tag.
var attribute = regexp.MustCompile(`\s([^\s=/>"']+)\s*=\s*("[^"]*"|'[^']*')`)

func (w *walk) attributes(from, to int) {
	tag := w.text[from:to]
	for _, m := range attribute.FindAllSubmatchIndex(tag, -1) {
		name := string(tag[m[2]:m[3]])
		if name == "xmlns" || strings.HasPrefix(name, "xmlns:") || name == "type" || strings.HasSuffix(name, ":type") {
			continue
		}
		value := string(tag[m[4]+1 : m[5]-1])
		if kept := w.visitor.Attr(name, value); kept != value {
			w.replace(from+m[4]+1, from+m[5]-1, kept)
		}
	}
}
