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
// asked of, and the line of each.
type document struct {
	part  *intake.Part
	value any
	lines *node
	csv   []string // the header, where it is a CSV
	text  []byte   // as read, where it is no JSON
	bare  bool     // a list without the envelope that would tell whether it goes on
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
	words   vocabulary // the names that are read; nil: all
	keepAll bool       // all that is no secret is kept
	glance  bool       // up to where a long list is long enough to tell what the export is
	rows    bool       // of long lists the beginning is taken apart, and what follows is left as rows
	again   bool       // it is what was kept before
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
		if len(p.cuts) > 0 {
			part.Kept, part.Struck, part.NotKept = cutOut(raw, p.cuts), p.struck, len(p.cuts)-p.struck
			p.of.text = part.Kept
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
func (d *document) fromCSV(raw []byte, read vocabulary, all bool) error {
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
	head = slices.Clone(head)
	for i := range head {
		head[i] = strings.TrimSpace(head[i])
	}
	d.csv = head
	shape := make([]field, len(head))
	for i, name := range head {
		if !slices.Contains(head[i+1:], name) { // of two columns of one name the last counts
			shape[i].name = name
		}
	}
	rows, of := []row{}, &source{cells: true}
	keep := &csvKeeper{raw: raw, read: read, all: all}
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
		for i := range cells {
			name := ""
			if i < len(head) {
				name = head[i]
			}
			kept := keep.cell(c, i, len(cells), name, cells[i])
			if i < len(head) {
				start := len(of.text)
				of.text = append(of.text, kept...)
				of.spans = append(of.spans, uint32(start), uint32(len(of.text)))
			}
		}
		rows = append(rows, r)
	}
	d.value, d.lines = &long{rest: rows}, &node{line: 1}
	if len(keep.cuts) > 0 {
		d.part.Kept, d.part.Struck, d.part.NotKept = cutOut(raw, keep.cuts), keep.struck, len(keep.cuts)-keep.struck
	}
	return nil
}

// csvKeeper notes what is not kept of the cells of a CSV.
type csvKeeper struct {
	raw    []byte
	read   vocabulary
	all    bool
	starts []int // of the lines, as far as they were looked at
	cuts   []cut
	struck int
}

// cell returns what is kept of a record's cell.
func (k *csvKeeper) cell(c *csv.Reader, i, of int, name, value string) string {
	kept, struck := k.read.keep("", name, value, k.all)
	if kept == value {
		return value
	}
	if struck {
		k.struck++
	}
	from := k.offset(c.FieldPos(i))
	to := int(c.InputOffset())
	if i+1 < of {
		to = k.offset(c.FieldPos(i+1)) - 1
	} else {
		to = from + len(bytes.TrimRight(k.raw[from:to], "\r\n"))
	}
	// A cell may go over lines; those that follow keep their numbers.
	mark := `"` + strings.ReplaceAll(kept, `"`, `""`) + strings.Repeat("\n", bytes.Count(k.raw[from:to], []byte("\n"))) + `"`
	k.cuts = append(k.cuts, cut{from, to, mark})
	return kept
}

// offset is where a line's column stands in the text.
func (k *csvKeeper) offset(line, column int) int {
	if len(k.starts) == 0 {
		k.starts = []int{0}
	}
	for len(k.starts) < line {
		from := k.starts[len(k.starts)-1]
		k.starts = append(k.starts, from+bytes.IndexByte(k.raw[from:], '\n')+1)
	}
	return k.starts[line-1] + column - 1
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
	shift   int                // by how much what is kept is longer than what was read, up to here
	plain   map[[2]string]bool // names under which what does not look like a secret is kept
	of      *source            // for rows
	shapes  map[string][]field
	shape   []field // of the last row
	met     []field // of this one, as far as it was read
}

func newParser(data []byte, how reading) *jsonParser {
	return &jsonParser{reading: how, data: data, line: 1, names: map[string]string{}, texts: map[string]any{},
		plain: map[[2]string]bool{}, of: &source{}, shapes: map[string][]field{},
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
	value, lines, err := p.value("", "", 0)
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

// value reads one value. above is the name over the one under which it stands.
func (p *jsonParser) value(above, key string, depth int) (any, *node, error) {
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
		return p.array(n, above, key, depth)
	case '{':
		return p.object(n, key, depth)
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
		text = fmt.Sprint(value)
	}
	kept, err := p.keep(above, key, text, from)
	if err != nil || kept == text {
		return value, n, err
	}
	return kept, n, nil
}

// errEnough ends a glance.
var errEnough = errors.New("enough was read")

var errTooDeep = fmt.Errorf("values more than %d deep in one another", deepest)

// keep notes what is kept of the text or number that was read last.
func (p *jsonParser) keep(above, key, text string, from int) (string, error) {
	if p.again {
		return text, nil
	}
	kept, struck := p.words.keep(above, key, text, p.keepAll)
	if kept == text {
		return text, nil
	}
	if struck {
		p.struck++
	}
	mark, err := json.Marshal(kept)
	to := int(p.decoder.InputOffset())
	p.cuts = append(p.cuts, cut{from, to, string(mark)})
	p.shift += len(mark) - (to - from)
	return kept, err
}

func (p *jsonParser) array(n *node, above, key string, depth int) (any, *node, error) {
	all, begins := []any{}, p.place()
	var rest []row
	for p.more(']') {
		switch {
		case len(all) < enoughItems || depth > 1 || !p.glance && !p.rows:
			v, lines, err := p.value(above, key, depth+1)
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
			r, err := p.row(above, key, depth+1)
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
func (p *jsonParser) row(above, key string, depth int) (row, error) {
	t, from, err := p.token()
	p.count(from)
	r := row{of: p.of, first: uint32(len(p.of.spans)), from: uint32(from + p.shift), line: uint32(p.line)}
	if err == nil && t.Kind() == '{' {
		p.met = p.met[:0]
		if err = p.fields(key, depth, len(p.shape)); err == nil {
			r.shape = p.shapeMet()
		}
	} else if err == nil {
		err = p.pass(t, from, above, key, depth)
	}
	r.to = uint32(p.place())
	return r, err
}

// fields reads the members of an object in a row: it notes their names and where they
// stand. As far as the row is like the last one, which has the object's up to a limit, its
// names are the last one's.
func (p *jsonParser) fields(key string, depth, limit int) error {
	if depth > deepest {
		return errTooDeep
	}
	begin, alike := len(p.met), limit > 0
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
		} else if name = p.name(t); find(p.met[begin:], name) >= 0 {
			return twice(name)
		}
		p.met, p.of.spans = append(p.met, field{name: name}), append(p.of.spans, 0, 0)
		at := len(p.of.spans) - 2
		if t, from, err = p.token(); err != nil {
			return err
		}
		p.of.spans[at] = uint32(from + p.shift)
		if t.Kind() != '{' {
			err = p.pass(t, from, key, name, depth+1)
		} else if alike {
			err = p.fields(name, depth+1, i+1+p.shape[i].inner)
		} else {
			err = p.fields(name, depth+1, 0)
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
func (p *jsonParser) passNext(above, key string, depth int) error {
	t, from, err := p.token()
	if err != nil {
		return err
	}
	return p.pass(t, from, above, key, depth)
}

// pass goes over a value that begins with a token, and notes what is not kept of it.
func (p *jsonParser) pass(t jsontext.Token, from int, above, key string, depth int) error {
	if depth > deepest {
		return errTooDeep
	}
	text := ""
	switch t.Kind() {
	case '[':
		for p.more(']') {
			if err := p.passNext(above, key, depth+1); err != nil {
				return err
			}
		}
		_, _, err := p.token()
		return err
	case '{':
		names := map[string]bool{}
		for p.more('}') {
			t, _, err := p.token()
			if err != nil {
				return err
			}
			name := p.name(t)
			if names[name] {
				return twice(name)
			}
			names[name] = true
			if err := p.passNext(key, name, depth+1); err != nil {
				return err
			}
		}
		_, _, err := p.token()
		return err
	case '"':
		if p.isPlain(above, key, p.data[from:p.decoder.InputOffset()]) {
			return nil
		}
		text = t.String()
	case '0':
		n, err := strconv.ParseFloat(t.String(), 64)
		if err != nil {
			return fmt.Errorf("%s is a number that nothing holds", redact.Quote([]byte(t.String())))
		}
		text = fmt.Sprint(n)
	default:
		return nil
	}
	_, err := p.keep(above, key, text, from)
	return err
}

// isPlain reports whether a text, as it is written, is kept whatever it says: its name is
// read, and it has no mark that a secret has.
func (p *jsonParser) isPlain(above, key string, written []byte) bool {
	plain, known := p.plain[[2]string{above, key}]
	if !known {
		plain = p.words.reads(above, key)
		p.plain[[2]string{above, key}] = plain
	}
	return plain && !redact.Suspicious(written) && bytes.IndexByte(written, '\\') < 0
}

// more reports whether something comes before the end of an array or object; what is
// wrong is found by reading it.
func (p *jsonParser) more(end jsontext.Kind) bool { return p.decoder.PeekKind() != end }

func (p *jsonParser) object(n *node, under string, depth int) (any, *node, error) {
	all := map[string]any{}
	n.named = map[string]*node{}
	for p.more('}') {
		t, _, err := p.token()
		if err != nil {
			return nil, nil, err
		}
		key := p.name(t)
		if _, had := all[key]; had {
			return nil, nil, twice(key)
		}
		v, lines, err := p.value(under, key, depth+1)
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

// name is a member's name, of which all that are the same share one text.
func (p *jsonParser) name(t jsontext.Token) string {
	text := t.String()
	if known, ok := p.names[text]; ok {
		return known
	}
	if len(p.names) < mostNames {
		p.names[text] = text
	}
	return text
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
