// Package markup goes through an XML document element by element, with the line of
// each, and tells which texts and attributes of it somebody reads.
package markup

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"html"
	"io"
	"regexp"
	"strings"

	"sternledger/internal/intake"
	"sternledger/internal/redact"
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

// Visitor is told of the elements of a document, and says what of it is read: what it
// does not name is not kept. Stacks have the root first and the element itself last; they
// are good until the function returns.
type Visitor struct {
	Open func(stack []Element)
	// Close is told of an element's end, and of its text where it is a leaf. It says under
	// which name the text stands, and whether it is read.
	Close func(stack []Element, text string) (name string, read bool)
	// Attr, if not nil, says the same of an attribute's value, of the element that was
	// opened last. Declarations of name spaces and types are kept.
	Attr func(name, value string) (as string, read bool)
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

// Walk goes through a document, whatever encoding its declaration names, and tells the
// text which pieces of it were read.
func Walk(t *intake.Text, v *Visitor) error {
	d := xml.NewDecoder(bytes.NewReader(t.Bytes))
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	w := &walk{text: t, visitor: v}
	for {
		offset := int(d.InputOffset())
		token, err := d.Token()
		if err == io.EOF {
			w.loosened()
			return nil
		}
		if err == nil && len(w.stack) > maxDepth {
			err = errTooDeep
		}
		if err != nil {
			return &Error{w.lineAt(min(offset, len(t.Bytes))), err}
		}
		w.token(token, offset, int(d.InputOffset()))
	}
}

var errTooDeep = xml.UnmarshalError("elements that stand more than 256 deep in one another")

type walk struct {
	text    *intake.Text
	visitor *Visitor
	stack   []Element
	chars   strings.Builder
	pieces  []piece // since a tag: whether they are a leaf's is not known yet
	counted int     // bytes of which the lines were counted
	lines   int
}

// piece is text, or a comment.
type piece struct {
	from, to int
	text     string
	chars    bool
}

func (w *walk) lineAt(offset int) int {
	if offset > w.counted {
		w.lines += bytes.Count(w.text.Bytes[w.counted:offset], []byte("\n"))
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
		w.loosened()
		w.stack = append(w.stack, Element{Space: token.Name.Space, Name: token.Name.Local, Attr: token.Attr, Line: w.lineAt(from), Leaf: true,
			from: to})
		w.chars.Reset()
		if w.visitor.Open != nil {
			w.visitor.Open(w.stack)
		}
		w.tag(from, to)
	case xml.CharData:
		w.chars.Write(token)
		w.pieces = append(w.pieces, piece{from, to, string(token), true})
	case xml.Comment:
		w.pieces = append(w.pieces, piece{from + len("<!--"), to - len("-->"), string(token), false})
	case xml.ProcInst:
		if token.Target == "xml" && declaration.Match(token.Inst) {
			w.text.Read(from, to)
		} else {
			w.instruction(string(token.Inst), from, from+len("<?")+len(token.Target), to-len("?>"), to)
		}
	case xml.Directive:
		named := directive.FindIndex(token)
		if named == nil {
			named = []int{0, 0}
		}
		w.instruction(string(token[named[1]:]), from, from+len("<!")+named[1], to-len(">"), to)
	case xml.EndElement:
		w.end(from, to)
	}
}

// end takes the end of the element that was opened last.
func (w *walk) end(from, to int) {
	top := w.stack[len(w.stack)-1]
	text := ""
	if top.Leaf {
		text = w.chars.String()
	}
	name, read := w.visitor.Close(w.stack, text)
	switch {
	case !top.Leaf:
		w.loosened()
	case read && !redact.Look(text):
		for _, p := range w.pieces {
			if p.chars {
				w.text.ReadAs(p.from, p.to, p.text, written)
			} else {
				w.loose(p)
			}
		}
	case strings.TrimSpace(text) != "":
		w.text.Rest(top.from, from, name, text, written) // with the comments in it
	default:
		w.loosened()
	}
	w.pieces = w.pieces[:0]
	if to > from {
		w.tag(from, to)
	}
	w.stack = w.stack[:len(w.stack)-1]
	w.chars.Reset()
}

// loosened takes the pieces that turned out to be no leaf's.
func (w *walk) loosened() {
	for _, p := range w.pieces {
		w.loose(p)
	}
	w.pieces = w.pieces[:0]
}

// loose takes text that belongs to no leaf, or a comment.
func (w *walk) loose(p piece) {
	if !p.chars {
		w.text.Read(p.from-len("<!--"), p.from)
		w.text.Read(p.to, p.to+len("-->"))
	}
	if strings.TrimSpace(p.text) == "" {
		w.text.Read(p.from, p.to)
		return
	}
	w.text.Rest(p.from, p.to, "", p.text, written)
}

// written is a mark as text of XML.
func written(mark string) string {
	var b bytes.Buffer
	_ = xml.EscapeText(&b, []byte(mark))
	return b.String()
}

var (
	// declaration is what a document says of itself, directive what it is called.
	declaration = regexp.MustCompile(`^\s*version=["']1\.\d["'](\s+encoding=["'][A-Za-z0-9._-]+["'])?(\s+standalone=["'](yes|no)["'])?\s*$`)
	directive   = regexp.MustCompile(`^[A-Z]+\s+[A-Za-z_][\w.:-]*`)
)

// instruction takes what is no element's. No mark stands for what is dropped: it would
// be an instruction itself.
func (w *walk) instruction(text string, begin, from, to, end int) {
	w.text.Read(begin, from)
	w.text.Read(to, end)
	if strings.TrimSpace(text) != "" {
		w.text.Rest(from, to, "", text, func(string) string { return " " })
	}
}

var (
	// attribute is one of a tag.
	attribute = regexp.MustCompile(`\s([^\s=/>"']+)\s*=\s*("[^"]*"|'[^']*')`)
	// opening is the name of a tag.
	opening = regexp.MustCompile(`^</?([^\s/>]+)`)
	// foreign stands for a name that is not kept.
	foreign = func(string) string { return "not-kept" }
)

// tag takes one: its name, and its attributes.
func (w *walk) tag(from, to int) {
	tag := w.text.Bytes[from:to]
	if m := opening.FindSubmatchIndex(tag); m != nil {
		w.text.Name(from+m[2], from+m[3], string(tag[m[2]:m[3]]), foreign)
	}
	for i, m := range attribute.FindAllSubmatchIndex(tag, -1) {
		name := string(tag[m[2]:m[3]])
		value := html.UnescapeString(string(tag[m[4]+1 : m[5]-1])) // references to characters hide nothing
		w.text.Name(from+m[2], from+m[3], name, func(string) string { return fmt.Sprintf("not-kept-%d", i) })
		at, end := from+m[4]+1, from+m[5]-1
		switch as, read := w.attr(name, value); {
		case name == "xmlns" || strings.HasPrefix(name, "xmlns:") || name == "type" || strings.HasSuffix(name, ":type"):
			w.text.ReadAs(at, end, value, written)
		case read:
			w.text.ReadAs(at, end, value, written)
		case strings.TrimSpace(value) != "":
			w.text.Rest(at, end, as, value, written)
		}
	}
}

func (w *walk) attr(name, value string) (string, bool) {
	if w.visitor.Attr == nil {
		return name, false
	}
	return w.visitor.Attr(name, value)
}
