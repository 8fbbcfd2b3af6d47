package fieldmap

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"math"
	"regexp"
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

// mostItems is how many elements of an array have the lines of what is inside
// them remembered: settings stand in short arrays, accounts in long ones.
const mostItems = 2000

// found is one value that a path led to.
type found struct {
	value any
	line  int
	path  string
}

// enoughItems is how many elements of a list are looked at first, to tell what it is of.
const enoughItems = 200

// parse reads an export to look at it; nil data if it is neither JSON nor CSV.
func parse(part *intake.Part) (*document, error) { return parseToKeep(part, nil, false) }

// glance reads of long lists the beginning only, to tell what an export is.
func glance(part *intake.Part) (*document, error) { return parseMost(part, nil, false, enoughItems) }

// beginning is the document with the beginnings of its long lists; nil where it has none.
func (d *document) beginning() *document {
	long := false
	short := func(v any) any {
		if list, ok := v.([]any); ok && len(list) > enoughItems {
			long = true
			return list[:enoughItems]
		}
		return v
	}
	b := *d
	if b.value = short(d.value); !long {
		if members, ok := d.value.(map[string]any); ok {
			few := make(map[string]any, len(members))
			for name, v := range members {
				few[name] = short(v)
			}
			b.value = few
		}
	}
	if !long {
		return nil
	}
	return &b
}

// parseToKeep reads an export, and makes the copy that is kept of it: what stands
// under the names that are read, or, with all, all that is no secret.
func parseToKeep(part *intake.Part, read vocabulary, all bool) (*document, error) {
	return parseMost(part, read, all, math.MaxInt)
}

// parseMost reads so many elements of each list.
func parseMost(part *intake.Part, read vocabulary, all bool, most int) (*document, error) {
	raw, err := intake.Decode(part.Data)
	if err != nil {
		return nil, err
	}
	d := &document{part: part}
	if looksLikeJSON(raw) {
		p := &jsonParser{data: raw, line: 1, read: read, all: all, most: most, names: map[string]string{}, texts: map[string]any{}}
		// Two members of one name are told with a name of ours, and what is no UTF-8 is taken
		// as every other reader takes it.
		p.decoder = jsontext.NewDecoder(bytes.NewBuffer(raw), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
		d.value, d.lines, err = p.document()
		if err != nil {
			return nil, &intake.Error{Path: part.Path, Line: p.line, Seen: err.Error(), Expected: "JSON (RFC 8259)",
				Next: "the export is cut or was edited: export it again"}
		}
		if len(p.cuts) > 0 {
			part.Kept, part.Struck, part.NotKept = cutOut(raw, p.cuts), p.struck, len(p.cuts)-p.struck
		}
		return d, nil
	}
	d.text = raw
	if err := d.fromCSV(raw, read, all); err != nil {
		return nil, err
	}
	return d, nil
}

// empty reports whether the document is a list of nothing.
func (d *document) empty() bool {
	switch v := d.value.(type) {
	case []any:
		return len(v) == 0
	case map[string]any:
		lists := 0
		for _, member := range v {
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

// fromCSV turns each row into an object of its columns.
func (d *document) fromCSV(raw []byte, read vocabulary, all bool) error {
	c := csv.NewReader(bytes.NewReader(raw))
	c.FieldsPerRecord = -1
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
	for i := range head {
		head[i] = strings.TrimSpace(head[i])
	}
	d.csv = head
	rows, lines := []any{}, &node{line: 1}
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
		row := map[string]any{}
		for i := range cells {
			name := ""
			if i < len(head) {
				name = head[i]
			}
			cells[i] = keep.cell(c, i, len(cells), name, cells[i])
			if i < len(head) {
				row[name] = cells[i]
			}
		}
		line, _ := c.FieldPos(0)
		rows, lines.items = append(rows, row), append(lines.items, &node{line: line})
	}
	d.value, d.lines = rows, lines
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
	data    []byte
	decoder *jsontext.Decoder
	names   map[string]string // of members, once each
	texts   map[string]any    // short ones that were met, once each
	most    int               // elements of a list that are read
	seen    int               // up to here the lines were counted
	line    int
	read    vocabulary
	all     bool
	struck  int // of the cuts
	cuts    []cut
}

// cut is what is not kept of a text: from, to, quotes included, and what stands
// there instead, as the form writes it.
type cut struct {
	from, to int
	mark     string
}

// deepest bounds how deep values may stand in one another.
const deepest = 200

func (p *jsonParser) document() (any, *node, error) {
	value, lines, err := p.value(nil, "", 0, true)
	if err == nil {
		if _, more := p.decoder.ReadToken(); more != io.EOF {
			return nil, nil, errors.New("something behind the end")
		}
	}
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

// token reads one token, says where it begins, and counts the lines before it.
func (p *jsonParser) token() (jsontext.Token, int, error) {
	from := int(p.decoder.InputOffset())
	t, err := p.decoder.ReadToken()
	if err != nil {
		return t, 0, err
	}
	for from < len(p.data) && bytes.IndexByte([]byte(" \t\r\n:,"), p.data[from]) >= 0 {
		from++
	}
	p.count(from)
	return t, from, nil
}

// count counts the lines up to a place.
func (p *jsonParser) count(to int) {
	if to = min(to, len(p.data)); to > p.seen {
		p.line += bytes.Count(p.data[p.seen:to], []byte("\n"))
		p.seen = to
	}
}

// value reads one value. above and key are the names under which it stands.
func (p *jsonParser) value(above []string, key string, depth int, remember bool) (any, *node, error) {
	t, from, err := p.token()
	if err != nil {
		return nil, nil, err
	}
	if depth > deepest {
		return nil, nil, fmt.Errorf("values more than %d deep in one another", deepest)
	}
	n := &node{line: p.line}
	var value any
	switch t.Kind() {
	case '[':
		return p.array(n, above, key, depth, remember)
	case '{':
		return p.object(n, append(above[:len(above):len(above)], key), depth, remember)
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
	parent := ""
	if len(above) > 0 {
		parent = above[len(above)-1]
	}
	text, isText := value.(string)
	if !isText {
		text = fmt.Sprint(value)
	}
	kept, struck := p.read.keep(parent, key, text, p.all)
	if kept == text {
		return value, n, nil
	}
	if struck {
		p.struck++
	}
	mark, err := json.Marshal(kept)
	if err != nil {
		return nil, nil, err
	}
	p.cuts = append(p.cuts, cut{from, int(p.decoder.InputOffset()), string(mark)})
	return kept, n, nil
}

func (p *jsonParser) array(n *node, above []string, key string, depth int, remember bool) (any, *node, error) {
	all := []any{}
	for p.more(']') {
		if len(all) == p.most {
			if err := p.decoder.SkipValue(); err != nil {
				return nil, nil, err
			}
			continue
		}
		v, lines, err := p.value(above, key, depth+1, remember && len(all) < mostItems)
		if err != nil {
			return nil, nil, err
		}
		all, n.items = append(all, v), append(n.items, lines)
	}
	_, _, err := p.token()
	return all, n, err
}

// more reports whether something comes before the end of an array or object; what is
// wrong is found by reading it.
func (p *jsonParser) more(end jsontext.Kind) bool { return p.decoder.PeekKind() != end }

func (p *jsonParser) object(n *node, above []string, depth int, remember bool) (any, *node, error) {
	all := map[string]any{}
	if remember {
		n.named = map[string]*node{}
	}
	for p.more('}') {
		t, _, err := p.token()
		if err != nil {
			return nil, nil, err
		}
		key := p.name(t)
		if _, twice := all[key]; twice {
			return nil, nil, fmt.Errorf("%q stands twice in one object", key)
		}
		v, lines, err := p.value(above, key, depth+1, remember)
		if err != nil {
			return nil, nil, err
		}
		all[key] = v
		if remember {
			n.named[key] = lines
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
		if len(p.texts) < mostItems {
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
	if len(p.names) < mostItems {
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
