// Package markup goes through an XML document element by element, with the line of
// each, and makes the copy that is kept: byte for byte the same but for the texts
// and attributes that somebody replaces.
package markup

import (
	"bytes"
	"encoding/xml"
	"html"
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
	// Loose, if not nil, returns what is kept of text that stands beside elements, of
	// comments, and of instructions to other programs. Without it nothing is.
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
	last    int    // bytes of text that were kept or replaced
	opened  [2]int // what last was, and how much was kept, when the last element was opened
	counted int    // bytes of which the lines were counted
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
		if n := len(w.stack); n > 0 && w.stack[n-1].Leaf {
			w.stack[n-1].Leaf = false
			if text := w.chars.String(); strings.TrimSpace(text) != "" { // it was no leaf's
				if kept := w.ofLoose(text); kept != text {
					w.inside(from, kept)
				}
			}
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
		w.opened = [2]int{w.last, w.kept.Len()}
	case xml.CharData:
		w.chars.Write(token)
		if n := len(w.stack); n == 0 || !w.stack[n-1].Leaf {
			w.loose(string(token), from, to)
		}
	case xml.Comment:
		w.loose(string(token), from+len("<!--"), to-len("-->"))
	case xml.ProcInst:
		if token.Target != "xml" || !declaration.Match(token.Inst) {
			w.instruction(string(token.Inst), from+len("<?")+len(token.Target), to-len("?>"))
		}
	case xml.Directive:
		named := directive.FindIndex(token)
		if named == nil {
			named = []int{0, 0}
		}
		w.instruction(string(token[named[1]:]), from+len("<!")+named[1], to-len(">"))
	case xml.EndElement:
		top := w.stack[len(w.stack)-1]
		text := ""
		if top.Leaf {
			text = w.chars.String()
		}
		kept := w.visitor.Close(w.stack, text)
		if top.Leaf && kept != text && from >= top.from {
			w.inside(from, kept)
		}
		w.stack = w.stack[:len(w.stack)-1]
		w.chars.Reset()
	}
}

var (
	// declaration is what a document says of itself, directive what it is called.
	declaration = regexp.MustCompile(`^\s*version=["']1\.\d["'](\s+encoding=["'][A-Za-z0-9._-]+["'])?(\s+standalone=["'](yes|no)["'])?\s*$`)
	directive   = regexp.MustCompile(`^[A-Z]+\s+[A-Za-z_][\w.:-]*`)
)

// instruction takes what is no element's. No mark stands for what is dropped: it would
// be an instruction itself.
func (w *walk) instruction(text string, from, to int) {
	if strings.TrimSpace(text) != "" && w.ofLoose(text) != text {
		w.replace(from, to, " ")
	}
}

// loose takes text that belongs to no leaf.
func (w *walk) loose(text string, from, to int) {
	if strings.TrimSpace(text) == "" || from > to {
		return
	}
	if kept := w.ofLoose(text); kept != text {
		w.replace(from, to, kept)
	}
}

func (w *walk) ofLoose(text string) string {
	if w.visitor.Loose == nil {
		return ""
	}
	return w.visitor.Loose(text)
}

// inside writes another text for all that stands up to a place in the element that was
// opened last, comments too.
func (w *walk) inside(to int, text string) {
	w.last = w.opened[0]
	w.kept.Truncate(w.opened[1])
	w.replace(w.stack[len(w.stack)-1].from, to, text)
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
		value := html.UnescapeString(string(tag[m[4]+1 : m[5]-1])) // references to characters hide nothing
		if kept := w.visitor.Attr(name, value); kept != value {
			w.replace(from+m[4]+1, from+m[5]-1, kept)
		}
	}
}
