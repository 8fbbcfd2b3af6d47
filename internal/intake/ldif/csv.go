package ldif

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/hex"
	"errors"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/intake"
	"sternledger/internal/redact"
)

// CSV is the directory's export in its other shape: a row for each entry, a column
// for each attribute, several values in a cell joined by semicolons, and binary ones
// as X'hexadecimal'.
var CSV = intake.Format{Name: "directory export (CSV)", Detect: detectCSV, Read: readCSV}

var opensWithDN = regexp.MustCompile(`^(?i)"?DN"?[,;\t]`)

func detectCSV(_ string, head []byte) bool {
	line, _, _ := bytes.Cut(intake.Opening(head), []byte("\n"))
	line = bytes.TrimSuffix(line, []byte("\r"))
	if !opensWithDN.Match(line) {
		return false
	}
	c := csv.NewReader(bytes.NewReader(line))
	c.Comma = intake.Separator(line)
	names, err := c.Read()
	if err != nil || !strings.EqualFold(names[0], "DN") {
		return false
	}
	known := 0
	for _, name := range names[1:] {
		if _, kind, _ := lookup([]byte(name)); kind == isKnown {
			known++
		}
	}
	return known >= 2
}

// rows are an export in CSV that is being read.
type rows struct {
	in      *csv.Reader
	out     *csv.Writer
	columns []cell
	next    []string // one ahead: of the last row it matters how the file ends
	at      []int    // its cells' lines
	err     error
	end     *lastByte
	shown   []string
	lossy   map[string]int // DNs that lost letters, with their lines
}

// cell says what holds for a column.
type cell struct {
	name  string
	attr  attr
	kind  attrKind
	piece span
	many  bool // several values may stand in a cell
	dns   bool // which are DNs
}

// lists are the attributes of which a cell may hold several values, and whether
// they are DNs. In others a semicolon is one.
var lists = map[attr]bool{aObjectClass: false, aServiceName: false, aMember: true, aHolders: true, aAppliesTo: true, aApplied: true}

// lastByte remembers the last byte that was read.
type lastByte struct {
	io.Reader
	b byte
}

func (l *lastByte) Read(to []byte) (int, error) {
	n, err := l.Reader.Read(to)
	if n > 0 {
		l.b = to[n-1]
	}
	return n, err
}

func readCSV(src *intake.Source, into *estate.Builder) error {
	decoded := intake.Decoder(src.In)
	defer func() {
		if decoded.OtherPage {
			into.NotUnderstood(into.Cite(1, "", ""), intake.OtherPage)
		}
	}()
	end := &lastByte{Reader: decoded}
	text := bufio.NewReaderSize(end, 1<<16)
	opening, err := text.Peek(intake.HeadSize)
	if err != nil && err != io.EOF {
		return err
	}
	line, _, _ := bytes.Cut(opening, []byte("\n"))
	t := &rows{in: csv.NewReader(text), out: csv.NewWriter(src.Keep), end: end, lossy: map[string]int{}}
	t.in.Comma = intake.Separator(line)
	t.out.Comma = t.in.Comma
	s := &scanner{record: &record{path: src.Path}, src: src, rows: t, names: map[string]*name{}, line: 1}
	src.Differs() // rows are written anew
	names, err := t.in.Read()
	if err != nil {
		return s.wrongRow(err)
	}
	names = slices.Clone(names)
	for i, name := range names {
		c := cell{name: strings.TrimSpace(name)}
		if c.name != "" {
			c.attr, c.kind, c.piece = lookup([]byte(c.name))
		}
		if c.kind == isUnknown && !redact.PlainName(c.name) {
			names[i] = redact.NotKept
			src.NotKept++
		}
		c.dns, c.many = lists[c.attr]
		t.columns = append(t.columns, c)
	}
	if err := t.out.Write(names); err != nil {
		return err
	}
	t.shown = make([]string, len(names))
	t.ahead()
	r := &reader{record: s.record, cut: s, into: into, domains: map[string]string{}}
	if err := r.all(); err != nil {
		return err
	}
	t.out.Flush()
	return t.out.Error()
}

// ahead reads the row after the one that is taken.
func (t *rows) ahead() {
	if t.next, t.err = t.in.Read(); t.err == nil {
		t.at = t.at[:0]
		for i := range t.next {
			line, _ := t.in.FieldPos(i)
			t.at = append(t.at, line)
		}
	}
}

func (s *scanner) wrongRow(err error) error {
	line := 0
	var where *csv.ParseError
	if errors.As(err, &where) {
		line, err = where.Line, where.Err
	}
	return s.errorAt(line, err.Error(), "as many cells as there are attributes in the first line",
		"the export is cut, or was opened and saved in between: make it again")
}

// row takes the next row that holds anything as a record.
func (s *scanner) row() error {
	for t := s.rows; t.err == nil; {
		if err := s.oneRow(t); err != nil || s.count > 0 {
			return err
		}
	}
	if s.rows.err != io.EOF {
		return s.wrongRow(s.rows.err)
	}
	return io.EOF
}

func (s *scanner) oneRow(t *rows) error {
	cells, lines := t.next, slices.Clone(t.at)
	t.ahead()
	last := -1 // the cell that the file may have been cut in
	if t.err == io.EOF && t.end.b != '\n' {
		last = len(cells) - 1
		s.atEnd, s.cutLine = true, lines[last]
	}
	s.first, s.line = lines[0], lines[len(lines)-1]
	for i, text := range cells {
		t.shown[i] = ""
		if text == "" || i == last {
			continue
		}
		c := &t.columns[i]
		if c.kind != isKnown {
			t.shown[i] = text
			if mark := s.markOf(s.nameOf([]byte(c.name)), []byte(text), false); mark != nil {
				t.shown[i] = strings.TrimPrefix(string(mark), ": ") + strings.Repeat("\n", strings.Count(text, "\n"))
			}
			continue
		}
		if redact.IsMark(text) {
			s.marked++
			t.shown[i] = text
			continue
		}
		t.shown[i] = s.cell(c, text, lines[i])
	}
	for i := range s.values {
		v := &s.values[i]
		if v.attr != aDN || bytes.IndexByte(s.raw(v), '?') < 0 {
			continue
		}
		// What cannot be written in a code page is written as ?, so that two names may
		// have become one.
		dn := string(s.raw(v))
		if before, twice := t.lossy[dn]; twice {
			return s.errorAt(int(v.line), "the DN "+redact.Quote([]byte(dn))+" for the second time, after line "+strconv.Itoa(before)+
				": letters were lost",
				"a DN for each entry", "export again in Unicode (csvde -u), or as LDIF")
		}
		t.lossy[dn] = int(v.line)
	}
	return t.out.Write(t.shown)
}

// cell takes the values of a cell, and returns what is kept of it.
func (s *scanner) cell(c *cell, text string, line int) string {
	all := []string{text}
	if c.many {
		all = partsOf(text, c.dns)
	}
	for i, one := range all {
		raw := []byte(one)
		if inner, ok := strings.CutPrefix(one, "X'"); ok {
			if data, err := hex.DecodeString(strings.TrimSuffix(inner, "'")); err == nil {
				raw = data
			}
		}
		if secret(c.attr, raw) {
			s.src.Struck++
			raw, all[i] = []byte(redact.Struck), redact.Struck
		}
		s.add(c.attr, raw, false, c.piece, line)
		s.count++
	}
	return strings.Join(all, ";")
}

// partsOf parts the values of a cell at its semicolons: not at those that are
// escaped, and of DNs only where another one begins.
func partsOf(text string, dns bool) []string {
	var all []string
	from := 0
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '\\':
			i++
		case text[i] == ';' && (!dns || opensDN(text[i+1:])):
			all = append(all, text[from:i])
			from = i + 1
		}
	}
	return append(all, text[from:])
}

// opensDN reports whether a text begins with an attribute and =, or is a value in
// hexadecimal.
func opensDN(text string) bool {
	if strings.HasPrefix(text, "X'") || strings.HasPrefix(text, "<") {
		return true
	}
	for i := range len(text) { // no further than the name goes on: a cell may be a megabyte of separators
		switch c := text[i]; {
		case c == '=':
			return i > 0
		case c != '-' && c != '.' && (c < '0' || c > '9') && (c|0x20 < 'a' || c|0x20 > 'z'):
			return false
		}
	}
	return false
}
