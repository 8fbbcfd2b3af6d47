package benchmark

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"golang.org/x/text/encoding/htmlindex"

	"sternledger/internal/intake"
)

// node is an element of a document.
type node struct {
	name  string
	space string
	attr  []xml.Attr
	text  string
	below []*node
	line  int
}

// of returns an attribute's value, whatever its name space.
func (n *node) of(name string) string {
	for _, a := range n.attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

// all are the elements directly below that have one of these names.
func (n *node) all(names ...string) (found []*node) {
	for _, b := range n.below {
		for _, name := range names {
			if b.name == name {
				found = append(found, b)
			}
		}
	}
	return found
}

// first is the first of them; an empty one, if there is none.
func (n *node) first(name string) *node {
	for _, b := range n.below {
		if b.name == name {
			return b
		}
	}
	return &node{}
}

// walk goes through all elements from this one on.
func (n *node) walk(do func(*node)) {
	do(n)
	for _, b := range n.below {
		b.walk(do)
	}
}

// Bounds of a document.
const (
	MostBytes = 256 << 20
	mostDepth = 200
	mostNodes = 3_000_000
	mostText  = 64 << 10
)

// prose are elements of which nothing is read: texts for people, and what other
// programs need. A rule's title only tells what it is about.
var prose = map[string]bool{"description": true, "rationale": true, "fixtext": true, "fix": true, "notice": true, "front-matter": true,
	"rear-matter": true, "metadata": true, "warning": true, "reference": true, "question": true, "model": true, "TestResult": true,
	"extended-component": true, "notes": true, "Signature": true, "impact-metric": true}

// parse reads a document. What it points at outside of itself is never fetched.
func parse(file string, data []byte) (*node, error) {
	line := func(d *xml.Decoder) int { l, _ := d.InputPos(); return l }
	wrong := func(d *xml.Decoder, seen, expected, next string) error {
		return &intake.Error{Path: file, Line: line(d), Seen: seen, Expected: expected, Next: next}
	}
	if bytes.HasPrefix(data, []byte{0xff, 0xfe}) || bytes.HasPrefix(data, []byte{0xfe, 0xff}) {
		text, err := intake.Decode(data)
		if err != nil {
			return nil, &intake.Error{Path: file, Seen: err.Error(), Expected: "a whole document", Next: "copy it again, and compare the sizes"}
		}
		data = text
	}
	d := xml.NewDecoder(bytes.NewReader(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))))
	d.CharsetReader = func(name string, in io.Reader) (io.Reader, error) {
		if strings.HasPrefix(strings.ToLower(name), "utf-16") {
			return in, nil // decoded before
		}
		e, err := htmlindex.Get(name)
		if err != nil {
			return nil, fmt.Errorf("the encoding %q is not known", name)
		}
		return e.NewDecoder().Reader(in), nil
	}
	p := parser{}
	for {
		token, err := d.Token()
		if err == io.EOF {
			break
		}
		if err == nil {
			err = p.take(token, line(d))
		}
		if err != nil {
			return nil, wrong(d, err.Error(), "a document in XML that is whole", "copy it again; is it what its publisher gives out?")
		}
	}
	if p.root == nil {
		return nil, wrong(d, "no element", "a document in XML", "check which file this is")
	}
	return p.root, nil
}

// parser puts a document together.
type parser struct {
	root    *node
	stack   []*node
	nodes   int
	skipped int // elements that are open below one of which nothing is read
}

func (p *parser) take(token xml.Token, line int) error {
	switch token := token.(type) {
	case xml.Directive:
		return errors.New("a document type with declarations, which could make much of little")
	case xml.StartElement:
		if p.skipped > 0 || prose[token.Name.Local] {
			if p.skipped++; p.skipped > mostDepth {
				return errDeep
			}
			return nil
		}
		if p.nodes++; p.nodes > mostNodes || len(p.stack) >= mostDepth {
			return errDeep
		}
		n := &node{name: token.Name.Local, space: token.Name.Space, attr: slices.Clone(token.Attr), line: line}
		if len(p.stack) == 0 {
			if p.root != nil {
				return errors.New("a second document behind the first")
			}
			p.root = n
		} else {
			top := p.stack[len(p.stack)-1]
			top.below = append(top.below, n)
		}
		p.stack = append(p.stack, n)
	case xml.CharData:
		if p.skipped == 0 && len(p.stack) > 0 {
			if text := strings.TrimSpace(string(token)); text != "" {
				top := p.stack[len(p.stack)-1]
				if top.text += text; len(top.text) > mostText {
					return fmt.Errorf("a text of more than %d KiB in the element %s", mostText>>10, top.name)
				}
			}
		}
	case xml.EndElement:
		if p.skipped > 0 {
			p.skipped--
			return nil
		}
		p.stack = p.stack[:len(p.stack)-1]
	}
	return nil
}

var errDeep = fmt.Errorf("more than %d elements in one another, or more than %d in all", mostDepth, mostNodes)
