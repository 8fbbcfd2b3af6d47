package fieldmap

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"sternledger/internal/intake"
	"sternledger/internal/redact"
)

// document is one export, whatever its form: values that a JSONPath can be
// filterAsks of, and the line of each.
type document struct {
	part  *intake.Part
	value any
	lines *node
	csv   []string // the header, where it is a CSV
	text  []byte   // as read, where it is no JSON
	bare  bool     // a list without the envelope that would tell whether it goes on
	gone  string   // a page of its list that is not there
	lacks string   // a field that an element of a complete export has
}

// node remembers on which line a value stands, and those inside it.
type node struct {
	line  int
	named map[string]*node
	items []*node
}

// mostNames bounds how many names and short texts are shared.
const mostNames = 2000

// found is one value that a path led to.
type found struct {
	value any
	line  int
	path  string
}

// enoughItems is how many elements of a list are looked at first, to tell what it is of.
const enoughItems = 200

// reading says how an export is read.
type reading struct {
	words   *words // what is read; nil: all
	keepAll bool   // all that is no secret is kept
	glance  bool   // up to where a long list is long enough to tell what the export is
	rows    bool   // of long lists the beginning is taken apart, and what follows is left as rows
	again   bool   // it is what was kept before
}

// parse reads an export as a whole; neither JSON nor CSV is an error.
func parse(part *intake.Part) (*document, error) { return parseAs(part, reading{}) }

// beginning is the document with the beginnings of its long lists; nil where it has none.
func (d *document) beginning() *document {
	cut := false
	short := func(v any) any {
		if list, ok := v.(*long); ok {
			cut = true
			return &long{list.begin, list.rest[:min(len(list.rest), max(0, enoughItems-len(list.begin)))]}
		}
		return v
	}
	b := *d
	if b.value = short(d.value); !cut {
		if members, ok := d.value.(map[string]any); ok {
			few := make(map[string]any, len(members))
			for name, v := range members {
				few[name] = short(v)
			}
			b.value = few
		}
	}
	if !cut {
		return nil
	}
	return &b
}

// parseAs reads an export, and makes the copy that is kept of it.
func parseAs(part *intake.Part, how reading) (*document, error) {
	raw, err := intake.Decode(part.Data)
	if err != nil {
		return nil, err
	}
	d := &document{part: part}
	if looksLikeJSON(raw) {
		p := newParser(raw, how)
		d.value, d.lines, err = p.document()
		if err != nil && err != errEnough {
			return nil, &intake.Error{Path: part.Path, Line: p.line, Seen: err.Error(), Expected: "JSON (RFC 8259)",
				Next: "the export is cut or was edited: export it again"}
		}
		p.of.text = raw
		part.Keep(part.Data, 0, 0)
		if len(p.cuts) > 0 {
			p.of.text = cutOut(raw, p.cuts)
			part.Keep(p.of.text, p.struck, len(p.cuts)-p.struck)
		}
		return d, nil
	}
	d.text = raw
	if err := d.fromCSV(raw, how.words, how.keepAll); err != nil {
		return nil, err
	}
	return d, nil
}

// empty reports whether the document is a list of nothing.
func (d *document) empty() bool {
	switch v := d.value.(type) {
	case []any:
		return len(v) == 0
	case *long:
		return v.len() == 0
	case map[string]any:
		lists := 0
		for _, member := range v {
			if _, ok := member.(*long); ok {
				return false
			}
			if list, ok := member.([]any); ok {
				if len(list) > 0 {
					return false
				}
				lists++
			}
		}
		return lists > 0
	}
	return false
}

// jsonForm is how an object or a list of objects begins; a template in INF
// begins with a bracket too.
var jsonForm = regexp.MustCompile(`^\s*(?:\{\s*["}]|\[\s*[\[{\]])`)

func looksLikeJSON(text []byte) bool { return jsonForm.Match(text) }

var typeLine = []byte("#TYPE ")

// fromCSV leaves the table's rows as rows, objects of its columns.
func (d *document) fromCSV(raw []byte, read *words, all bool) error {
	c := csv.NewReader(bytes.NewReader(raw))
	c.FieldsPerRecord, c.ReuseRecord = -1, true
	columns := raw
	if bytes.HasPrefix(raw, typeLine) { // a shell's word on what the rows were
		c.Comment = '#'
		_, columns, _ = bytes.Cut(raw, []byte("\n"))
	}
	columns, _, _ = bytes.Cut(columns, []byte("\n"))
	c.Comma = intake.Separator(columns)
	head, err := c.Read()
	if err != nil {
		return &intake.Error{Path: d.part.Path, Line: 1, Seen: err.Error(), Expected: "CSV (RFC 4180)"}
	}
	keep := &csvKeeper{Cells: intake.Cells{Text: raw, Reader: c}, read: read, all: all}
	head = slices.Clone(head)
	for i := range head {
		head[i] = keep.head(i, len(head), strings.TrimSpace(head[i]))
	}
	d.csv = head
	shape := make([]field, len(head))
	for i, name := range head {
		if !slices.Contains(head[i+1:], name) { // of two columns of one name the last counts
			shape[i].name = name
		}
	}
	rows, of := []row{}, &source{cells: true}
	for {
		cells, err := c.Read()
		if err == io.EOF {
			break
		}
		var bad *csv.ParseError
		if errors.As(err, &bad) {
			return &intake.Error{Path: d.part.Path, Line: bad.Line, Seen: bad.Err.Error(), Expected: "CSV (RFC 4180)",
				Next: "the export is cut or was edited: export it again"}
		} else if err != nil {
			return err
		}
		line, _ := c.FieldPos(0)
		r := row{of: of, shape: shape[:min(len(cells), len(head))], first: uint32(len(of.spans)), from: uint32(len(of.text)), line: uint32(line)}
		beside := func(name string) string {
			i := slices.IndexFunc(head, func(x string) bool { return strings.EqualFold(x, name) })
			if i < 0 || i >= len(cells) {
				return ""
			}
			return cells[i]
		}
		for i := range cells {
			name := ""
			if i < len(head) {
				name = head[i]
			}
			kept := keep.cell(i, len(cells), name, cells[i], beside)
			if i < len(head) {
				start := len(of.text)
				of.text = append(of.text, kept...)
				of.spans = append(of.spans, uint32(start), uint32(len(of.text)))
			}
		}
		rows = append(rows, r)
	}
	d.value, d.lines = &long{rest: rows}, &node{line: 1}
	d.part.Keep(d.part.Data, 0, 0)
	if len(keep.cuts) > 0 {
		d.part.Keep(cutOut(raw, keep.cuts), keep.struck, len(keep.cuts)-keep.struck)
	}
	return nil
}

// csvKeeper notes what is not kept of the cells of a CSV.
type csvKeeper struct {
	intake.Cells
	read   *words
	all    bool
	cuts   []cut
	struck int
}

// head returns what is kept of a column's name.
func (k *csvKeeper) head(i, of int, name string) string {
	kept := k.read.named(spot{in: k.read}, name)
	if kept != name {
		k.cut(i, of, kept)
	}
	return kept
}

// cell returns what is kept of a record's cell.
func (k *csvKeeper) cell(i, of int, name, value string, beside func(string) string) string {
	kept, struck := k.read.keep(spot{in: k.read}.member(name, beside), value, k.all)
	if kept == value {
		return value
	}
	if struck {
		k.struck++
	}
	k.cut(i, of, kept)
	return kept
}

func (k *csvKeeper) cut(i, of int, kept string) {
	from, to := k.Span(i, of)
	k.cuts = append(k.cuts, cut{from, to, intake.Cell(kept, bytes.Count(k.Text[from:to], []byte("\n")))})
}

// element is one of the values that a path to a list leads to.
type element struct {
	value any
	lines *node
}

// each returns the values that a path leads to, to ask further of.
func (d *document) each(r *route) iter.Seq[element] {
	return func(yield func(element) bool) {
		for value, lines := range r.leads(d.value, d.lines) {
			if !yield(element{value, lines}) {
				return
			}
		}
	}
}

// jsonParser reads JSON into values and their lines, and finds the secrets.
type jsonParser struct {
	reading
	data    []byte
	decoder *jsontext.Decoder
	names   map[string]string // of members, once each
	texts   map[string]any    // short ones that were met, once each
	last    int               // where the last token begins
	seen    int               // up to here the lines were counted
	line    int               // there
	struck  int               // of the cuts
	cuts    []cut
	shift   int     // by how much what is kept is longer than what was read, up to here
	of      *source // for rows
	shapes  map[string][]field
	shape   []field // of the last row
	met     []field // of this one, as far as it was read
}

func newParser(data []byte, how reading) *jsonParser {
	return &jsonParser{reading: how, data: data, line: 1, names: map[string]string{}, texts: map[string]any{},
		of: &source{}, shapes: map[string][]field{},
		decoder: jsontext.NewDecoder(bytes.NewBuffer(data), lenient...)}
}

// lenient: two members of one name are told with a name of ours, and what is no UTF-8 is
// taken as every other reader takes it.
var lenient = []jsontext.Options{jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true)}

// cut is what is not kept of a text: from, to, quotes included, and what stands
// there instead, as the form writes it.
type cut struct {
	from, to int
	mark     string
}

// deepest bounds how deep values may stand in one another.
const deepest = 200

// from begins anew with another text, which begins on that line.
func (p *jsonParser) from(data []byte, line int) {
	p.data, p.line, p.last, p.seen = data, line, 0, 0
	p.decoder.Reset(bytes.NewBuffer(data), lenient...)
}

func (p *jsonParser) document() (any, *node, error) {
	value, lines, err := p.value(spot{in: p.words}, 0)
	if err == nil {
		if _, more := p.decoder.ReadToken(); more != io.EOF {
			return nil, nil, errors.New("something behind the end")
		}
	}
	p.count(p.last)
	var wrong *jsontext.SyntacticError
	switch {
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		err = errors.New("the file ends in the middle")
	case errors.As(err, &wrong):
		p.count(int(wrong.ByteOffset))
		err = wrong.Err
	}
	return value, lines, err
}

// between are the bytes that stand between two tokens.
var between = [256]bool{' ': true, '\t': true, '\r': true, '\n': true, ':': true, ',': true}

// token reads one token, and says where it begins.
func (p *jsonParser) token() (jsontext.Token, int, error) {
	from := int(p.decoder.InputOffset())
	t, err := p.decoder.ReadToken()
	if err != nil {
		return t, 0, err
	}
	for from < len(p.data) && between[p.data[from]] {
		from++
	}
	p.last = from
	return t, from, nil
}

// count counts the lines up to a place.
func (p *jsonParser) count(to int) {
	if to = min(to, len(p.data)); to > p.seen {
		p.line += bytes.Count(p.data[p.seen:to], []byte("\n"))
		p.seen = to
	}
}

// value reads the value at a spot.
func (p *jsonParser) value(s spot, depth int) (any, *node, error) {
	t, from, err := p.token()
	if err != nil {
		return nil, nil, err
	}
	if depth > deepest {
		return nil, nil, errTooDeep
	}
	p.count(from)
	n := &node{line: p.line}
	var value any
	switch t.Kind() {
	case '[':
		return p.array(n, s, depth)
	case '{':
		return p.object(n, s, from, depth)
	case '"':
		value = p.text(t)
	case '0':
		if value, err = strconv.ParseFloat(t.String(), 64); err != nil {
			return nil, nil, fmt.Errorf("%s is a number that nothing holds", redact.Quote([]byte(t.String())))
		}
	case 'n':
		return nil, n, nil
	default:
		return t.Bool(), n, nil
	}
	text, isText := value.(string)
	if !isText {
		text = textOf(value)
	}
	kept, err := p.keep(s, text, from)
	if err != nil || kept == text {
		return value, n, err
	}
	return kept, n, nil
}

// errEnough ends a glance.
var errEnough = errors.New("enough was read")

var errTooDeep = fmt.Errorf("values more than %d deep in one another", deepest)

// keep notes what is kept of the text or number that was read last.
func (p *jsonParser) keep(s spot, text string, from int) (string, error) {
	if p.again {
		return text, nil
	}
	kept, struck := p.words.keep(s, text, p.keepAll)
	if kept == text {
		return text, nil
	}
	if struck {
		p.struck++
	}
	return kept, p.cut(kept, from)
}

// cut puts a mark in place of the token that was read last.
func (p *jsonParser) cut(kept string, from int) error {
	mark, err := json.Marshal(kept)
	to := int(p.decoder.InputOffset())
	p.cuts = append(p.cuts, cut{from, to, string(mark)})
	p.shift += len(mark) - (to - from)
	return err
}

// beside returns what the fields of the object say that begins at a place, where what is read
// of some of them depends on others.
func (p *jsonParser) beside(s spot, from int) func(string) string {
	if s.in == nil || !s.in.rows {
		return nil
	}
	var said map[string]string
	return func(name string) string {
		if said == nil {
			said = map[string]string{}
			d := jsontext.NewDecoder(bytes.NewBuffer(p.data[from:]), lenient...)
			for _, err := d.ReadToken(); err == nil && d.PeekKind() == '"'; {
				var key, value jsontext.Token
				if key, err = d.ReadToken(); err != nil {
					break
				}
				low := strings.ToLower(key.String())
				if kind := d.PeekKind(); kind == '{' || kind == '[' {
					err = d.SkipValue()
				} else if value, err = d.ReadToken(); err == nil {
					said[low] = value.String()
				}
			}
		}
		return said[name]
	}
}

func (p *jsonParser) array(n *node, s spot, depth int) (any, *node, error) {
	s = s.element()
	all, begins := []any{}, p.place()
	var rest []row
	for p.more(']') {
		switch {
		case len(all) < enoughItems || depth > 1 || !p.glance && !p.rows:
			v, lines, err := p.value(s, depth+1)
			if err != nil {
				return nil, nil, err
			}
			all, n.items = append(all, v), append(n.items, lines)
		case p.glance:
			return all, n, errEnough
		default:
			if rest == nil {
				rest = p.room(begins, all)
			}
			r, err := p.row(s, depth+1)
			if err != nil {
				return nil, nil, err
			}
			rest = append(rest, r)
		}
	}
	_, _, err := p.token()
	if rest != nil {
		return &long{all, rest}, n, err
	}
	return all, n, err
}

// room makes room for the rest of a list, given its beginning, so that little is copied
// as it grows.
func (p *jsonParser) room(begins int, begin []any) []row {
	at, members := p.place(), 0
	more := 1 + len(begin)*(len(p.data)+p.shift-at)/(at-begins)
	for _, v := range begin {
		members = max(members, fieldsIn(v))
	}
	p.of.spans = slices.Grow(p.of.spans, 2*members*more)
	return make([]row, 0, more)
}

func fieldsIn(v any) int {
	object, _ := v.(map[string]any)
	n := len(object)
	for _, inner := range object {
		n += fieldsIn(inner)
	}
	return n
}

// row reads an element of a long list without taking it apart.
func (p *jsonParser) row(s spot, depth int) (row, error) {
	t, from, err := p.token()
	p.count(from)
	r := row{of: p.of, first: uint32(len(p.of.spans)), from: uint32(from + p.shift), line: uint32(p.line)}
	if err == nil && t.Kind() == '{' {
		p.met = p.met[:0]
		if err = p.fields(s, from, depth, len(p.shape)); err == nil {
			r.shape = p.shapeMet()
		}
	} else if err == nil {
		err = p.pass(t, from, s, depth)
	}
	r.to = uint32(p.place())
	return r, err
}

// fields reads the members of an object in a row: it notes their names and where they
// stand. As far as the row is like the last one, which has the object's up to a limit, its
// names are the last one's.
func (p *jsonParser) fields(s spot, begins, depth, limit int) error {
	if depth > deepest {
		return errTooDeep
	}
	begin, alike := len(p.met), limit > 0
	beside := p.beside(s, begins)
	for p.more('}') {
		t, from, err := p.token()
		if err != nil {
			return err
		}
		i, name := len(p.met), ""
		written := p.data[from+1 : p.decoder.InputOffset()-1]
		alike = alike && i < limit && p.shape[i].name == string(written) && bytes.IndexByte(written, '\\') < 0
		if alike {
			name = p.shape[i].name
		} else if name, err = p.name(t, s, from); err != nil {
			return err
		} else if find(p.met[begin:], name) >= 0 && !redact.IsMark(name) {
			return twice(name)
		}
		p.met, p.of.spans = append(p.met, field{name: name}), append(p.of.spans, 0, 0)
		at := len(p.of.spans) - 2
		if t, from, err = p.token(); err != nil {
			return err
		}
		p.of.spans[at] = uint32(from + p.shift)
		in := s.member(name, beside)
		if t.Kind() != '{' {
			err = p.pass(t, from, in, depth+1)
		} else if alike {
			err = p.fields(in, from, depth+1, i+1+p.shape[i].inner)
		} else {
			err = p.fields(in, from, depth+1, 0)
		}
		if err != nil {
			return err
		}
		p.of.spans[at+1] = uint32(p.place())
		p.met[i].inner = len(p.met) - i - 1
		alike = alike && p.met[i].inner == p.shape[i].inner
	}
	_, _, err := p.token()
	return err
}

// shapeMet is the shape of the row that was met, which many share.
func (p *jsonParser) shapeMet() []field {
	if slices.Equal(p.met, p.shape) && p.shape != nil {
		return p.shape
	}
	var names strings.Builder
	for _, f := range p.met {
		fmt.Fprintf(&names, "%s\x00%d\x00", f.name, f.inner)
	}
	if p.shapes[names.String()] == nil {
		p.shapes[names.String()] = append([]field{}, p.met...)
	}
	p.shape = p.shapes[names.String()]
	return p.shape
}

func twice(name string) error { return fmt.Errorf("%q stands twice in one object", name) }

// place is where what comes next will stand in what is kept.
func (p *jsonParser) place() int { return int(p.decoder.InputOffset()) + p.shift }

// passNext goes over the value that comes next.
func (p *jsonParser) passNext(s spot, depth int) error {
	t, from, err := p.token()
	if err != nil {
		return err
	}
	return p.pass(t, from, s, depth)
}

// pass goes over a value that begins with a token, and notes what is not kept of it.
func (p *jsonParser) pass(t jsontext.Token, from int, s spot, depth int) error {
	if depth > deepest {
		return errTooDeep
	}
	text := ""
	switch t.Kind() {
	case '[':
		for p.more(']') {
			if err := p.passNext(s.element(), depth+1); err != nil {
				return err
			}
		}
		_, _, err := p.token()
		return err
	case '{':
		names, beside := map[string]bool{}, p.beside(s, from)
		for p.more('}') {
			t, at, err := p.token()
			if err != nil {
				return err
			}
			name, err := p.name(t, s, at)
			if err != nil {
				return err
			}
			if names[name] && !redact.IsMark(name) {
				return twice(name)
			}
			names[name] = true
			if err := p.passNext(s.member(name, beside), depth+1); err != nil {
				return err
			}
		}
		_, _, err := p.token()
		return err
	case '"':
		if p.isPlain(s, p.data[from:p.decoder.InputOffset()]) {
			return nil
		}
		text = t.String()
	case '0':
		n, err := strconv.ParseFloat(t.String(), 64)
		if err != nil {
			return fmt.Errorf("%s is a number that nothing holds", redact.Quote([]byte(t.String())))
		}
		text = textOf(n)
	default:
		return nil
	}
	_, err := p.keep(s, text, from)
	return err
}

// isPlain reports whether a text, as it is written, is kept whatever it says: it is read where
// it stands, and has no mark that a secret has.
func (p *jsonParser) isPlain(s spot, written []byte) bool {
	return (p.words == nil || s.in != nil && s.in.free) && !s.secret() && !redact.Suspicious(written) && bytes.IndexByte(written, '\\') < 0
}

// more reports whether something comes before the end of an array or object; what is
// wrong is found by reading it.
func (p *jsonParser) more(end jsontext.Kind) bool { return p.decoder.PeekKind() != end }

func (p *jsonParser) object(n *node, s spot, from, depth int) (any, *node, error) {
	all := map[string]any{}
	n.named = map[string]*node{}
	beside := p.beside(s, from)
	for p.more('}') {
		t, at, err := p.token()
		if err != nil {
			return nil, nil, err
		}
		key, err := p.name(t, s, at)
		if err != nil {
			return nil, nil, err
		}
		if _, had := all[key]; had && !redact.IsMark(key) {
			return nil, nil, twice(key)
		}
		v, lines, err := p.value(s.member(key, beside), depth+1)
		if err != nil && err != errEnough {
			return nil, nil, err
		}
		if all[key], n.named[key] = v, lines; err != nil {
			return all, n, err
		}
	}
	_, _, err := p.token()
	return all, n, err
}

// text is a text, of which short ones that are the same share one.
func (p *jsonParser) text(t jsontext.Token) any {
	const short = 40
	text := t.String()
	if len(text) > short {
		return text
	}
	known, ok := p.texts[text]
	if !ok {
		known = text
		if len(p.texts) < mostNames {
			p.texts[text] = known
		}
	}
	return known
}

// name is what is kept of a member's name, of which all that are the same share one text. s
// is where its object stands.
func (p *jsonParser) name(t jsontext.Token, s spot, from int) (string, error) {
	text := t.String()
	if !p.again {
		if kept := p.words.named(s, text); kept != text {
			return kept, p.cut(kept, from)
		}
	}
	if known, ok := p.names[text]; ok {
		return known, nil
	}
	if len(p.names) < mostNames {
		p.names[text] = text
	}
	return text, nil
}

// cutOut returns a text without what is not kept, line for line the same.
func cutOut(text []byte, cuts []cut) []byte {
	var b bytes.Buffer
	from := 0
	for _, c := range cuts {
		b.Write(text[from:c.from])
		b.WriteString(c.mark)
		from = c.to
	}
	b.Write(text[from:])
	return b.Bytes()
}
