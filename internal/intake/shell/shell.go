// Package shell reads what the directory's own shell module prints of a domain: its
// default policy, its fine-grained policies, accounts, groups and their members, as
// list text, table text, CSV, JSON or CLIXML. Names of properties are not
// translated, so that nothing here depends on the machine's language. What such a
// form cannot hold is left out, never filled in: of a list that was cut, or of a
// collection that was printed as the name of its type, nothing is known.
package shell

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/intake"
)

// Format is the output of the directory's shell module; LocalUsers are a machine's
// accounts, as its own shell prints them.
var (
	Format     = intake.Format{Name: "directory export (shell objects)", Detect: directory.detect, Speaks: speaks, Read: directory.read}
	LocalUsers = intake.Format{Name: "local accounts (shell objects)", Detect: local.detect, Speaks: intake.MachineOf, Read: local.read}
)

// kind is what an export is of.
type kind struct {
	// telling are properties of which each kind of object has some, and nothing else
	// that is read has: by them an export is recognised. partly are fewer, where there
	// is no room for all of them.
	telling, partly [][]string
	known           map[string]holds // what is read, in lower case, with what it can hold; of others nothing is kept
	take            func(r *reader, o *object) error
}

// holds reports whether a property can hold a text; nil: any.
type holds func(text string) bool

// reads reports whether a text under a name, in lower case, is one that is read.
func (k *kind) reads(name, text string) bool {
	can, known := k.known[name]
	return known && (can == nil || text == "" || can(text) || intake.TypeName.MatchString(text))
}

var directory = &kind{
	telling: [][]string{
		{"distinguishedname", "minpasswordlength", "passwordhistorycount"},
		{"distinguishedname", "minpasswordlength", "lockoutthreshold"},
		{"distinguishedname", "minpwdlength"},
		{"distinguishedname", "msds-minimumpasswordlength"},
		{"distinguishedname", "msds-lockoutthreshold"},
		{"distinguishedname", "samaccountname", "passwordneverexpires"},
		{"distinguishedname", "samaccountname", "enabled"},
		{"distinguishedname", "samaccountname", "groupscope"},
		{"distinguishedname", "samaccountname", "objectclass", "sid"},
	},
	partly: [][]string{{"distinguishedname", "samaccountname"}, {"distinguishedname", "minpasswordlength"},
		{"distinguishedname", "lockoutthreshold"},
		{"distinguishedname", "precedence"}, {"distinguishedname", "complexityenabled"}, {"distinguishedname", "enabled"}},
	known: known,
	take:  (*reader).take,
}

// tells reports whether names are those of such an object.
func tells(telling [][]string, has func(name string) bool) bool {
	return slices.ContainsFunc(telling, func(names []string) bool {
		return !slices.ContainsFunc(names, func(n string) bool { return !has(n) })
	})
}

// maxSize bounds an export that is read whole. CSV, the form in which a million
// accounts come, is read as a stream.
const maxSize = 256 << 20

// object is one that the shell printed.
type object struct {
	line  int
	index map[string]int // by names in lower case; all rows of a table share it
	props []property
}

// property is a value as it stands there.
type property struct {
	name   string // as it is written
	line   int
	text   string
	list   []string // of a collection
	isList bool
	cut    bool // the value goes on where it was cut, or was lost
}

func (o *object) get(name string) property {
	if i, ok := o.index[name]; ok {
		return o.props[i]
	}
	return property{}
}

func (o *object) has(name string) bool { _, ok := o.index[name]; return ok }

// add takes a property; of two of one name the first counts.
func (o *object) add(p property) {
	name := strings.ToLower(p.name)
	if o.index == nil {
		o.index = map[string]int{}
	}
	if !o.has(name) {
		o.index[name] = len(o.props)
		o.props = append(o.props, p)
	}
}

// form is one way in which the shell prints objects.
type form struct {
	detect func(k *kind, text []byte) bool
	// whole finds the objects of a text that is read whole, and tells what is read of it.
	whole func(r *reader) ([]object, error)
	// stream hands each object to the reader, and writes the copy that is kept.
	stream func(r *reader, in io.Reader) error
}

var forms = []form{{isXML, readXML, nil}, {isJSON, readJSON, nil}, {isTable, readTable, nil}, {isList, readList, nil},
	{isCSV, nil, readCSV}}

func (k *kind) formOf(text []byte) *form {
	i := slices.IndexFunc(forms, func(f form) bool { return f.detect(k, text) })
	if i < 0 {
		return nil
	}
	return &forms[i]
}

func (k *kind) detect(_ string, head []byte) bool { return k.formOf(intake.Opening(head)) != nil }

// reader is one export being read.
type reader struct {
	kind *kind
	path string
	src  *intake.Source // of a form that is read as a stream
	text *intake.Text   // of one that is read whole
	into *estate.Builder

	objects int
	said    map[string]bool   // what was noted once, and is not noted again
	lossy   map[string]int    // DNs that lost letters, with their lines
	domains map[string]string // by the DNs of parents
}

func (k *kind) read(src *intake.Source, into *estate.Builder) error {
	in := bufio.NewReaderSize(src.In, intake.MostHead)
	head, err := in.Peek(intake.MostHead)
	if err != nil && err != io.EOF && err != bufio.ErrBufferFull {
		return err
	}
	r := &reader{kind: k, path: src.Path, src: src, into: into, said: map[string]bool{}, lossy: map[string]int{}, domains: map[string]string{}}
	f := k.formOf(intake.Opening(intake.Head(head)))
	if f == nil {
		return r.wrong(0, "no objects", "what a shell prints of objects", "export it again")
	}
	if f.stream != nil {
		err = f.stream(r, in)
	} else {
		stream := *src
		stream.In = in
		err = (&intake.Whole{Most: maxSize, Expected: "an export of the shell's objects",
			Next: "export it again; accounts as CSV, or the directory as LDIF", Take: func(text *intake.Text, _ *estate.Builder) error {
				r.text = text
				return r.whole(f)
			}}).Read(&stream, into)
		src.Struck, src.NotKept = stream.Struck, stream.NotKept
	}
	if err != nil {
		return err
	}
	if r.objects == 0 {
		return r.wrong(0, "names of properties, and no object", "at least one object", "check the filter of the command, and export it again")
	}
	return nil
}

func (r *reader) wrong(line int, seen, expected, next string) error {
	return &intake.Error{Path: r.path, Line: line, Seen: seen, Expected: expected, Next: next}
}

// once notes something that is the same for many objects, with the first of them.
func (r *reader) once(c estate.Cite, format string, args ...any) {
	if text := fmt.Sprintf(format, args...); !r.said[text] {
		r.said[text] = true
		r.into.NotUnderstood(c, "%s", text)
	}
}

// whole takes the objects of a form that is read whole.
func (r *reader) whole(f *form) error {
	objects, err := f.whole(r)
	if err != nil {
		return err
	}
	for i := range objects {
		if err := r.one(&objects[i]); err != nil {
			return err
		}
	}
	return nil
}

// one takes an object.
func (r *reader) one(o *object) error {
	r.objects++
	return r.kind.take(r, o)
}

// keep tells what stands between two places under a property's name, and returns what is
// kept of it, and may be read.
func (r *reader) keep(from, to int, name, value string, written func(string) string) string {
	if r.kind.reads(strings.ToLower(name), strings.TrimSpace(value)) {
		return r.text.ReadAs(from, to, value, written)
	}
	return r.text.Rest(from, to, name, value, written)
}

// setText takes a value that may be a collection.
func (p *property) setText(text string) { p.set(text, collections[strings.ToLower(p.name)]) }

// set takes one, of a property of which it is known whether it is a collection.
func (p *property) set(text string, collection bool) {
	p.text = strings.TrimSpace(text)
	if p.text == "" || !collection && p.text[0] != '{' && !intake.TypeName.MatchString(p.text) {
		return
	}
	p.isList = true
	inner, braced := strings.CutPrefix(p.text, "{")
	switch {
	case intake.TypeName.MatchString(p.text):
		p.cut = true
	case braced:
		inner, closed := strings.CutSuffix(inner, "}")
		if rest, more := cutMark(inner); more || !closed {
			inner, p.cut = rest, true
		}
		p.list = names(inner)
	default: // joined by hand, as a CSV needs it; or a single one
		p.list = names(p.text)
	}
}

// collections are the properties that hold several names.
var collections = map[string]bool{"appliesto": true, "msds-psoappliesto": true, "memberof": true, "members": true, "member": true}

// cutMark takes off what the shell writes where it cuts a list.
func cutMark(text string) (rest string, cut bool) {
	text = strings.TrimRight(text, " ,")
	for _, mark := range []string{"…", "..."} {
		if rest, ok := strings.CutSuffix(text, mark); ok {
			return strings.TrimRight(rest, " ,"), true
		}
	}
	return text, false
}

// between are the places between DNs: a comma or space behind which one begins.
var between = regexp.MustCompile(`(?:, |[;|]\s*|\s+)((?i:CN|OU|DC)=)`)

// names parts a list of DNs.
func names(text string) []string {
	text = strings.TrimSpace(text)
	switch {
	case text == "":
		return nil
	case !strings.ContainsAny(text, " ;|"):
		return []string{text}
	}
	return strings.Split(between.ReplaceAllString(text, "\x00$1"), "\x00")
}

// has returns a test of which names, in lower case, are among those.
func among(names []string) func(string) bool {
	return func(name string) bool {
		return slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(strings.TrimSpace(n), name) })
	}
}

// lines counts the lines up to offsets that only grow.
type lines struct {
	text []byte
	at   int
	line int
}

func (l *lines) to(offset int) int {
	if offset > l.at {
		l.line += bytes.Count(l.text[l.at:offset], []byte("\n"))
		l.at = offset
	}
	return l.line + 1
}
