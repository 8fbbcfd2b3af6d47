package ldif

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"sternledger/internal/core/estate"
	"sternledger/internal/intake"
	"sternledger/internal/redact"
)

// maxLine bounds one physical line. Real exports stay below a few hundred
// kilobytes (a picture on one line); more is not a directory export.
const maxLine = 16 << 20

// usualBuffer is the size to which the buffer grows for a large file; a small
// one needs less, a long line more.
const usualBuffer = 1 << 20

// mostText bounds the values of one entry: its group would have ten million members.
const mostText = 1 << 30

// value is one attribute value of the record being read. There are many: it is small.
type value struct {
	attr     attr
	coded    bool   // base64
	piece    uint32 // of a ranged attribute: see pieceOf
	from, to uint32 // in the record's text
	line     uint32
}

// span is a ranged attribute's piece; whole is the zero one.
type span struct {
	ranged      bool
	first, last int // last -1: to the end
}

// record is one entry of an export: its values that somebody wants. It is written on one
// processor and read on another, which costs more than the work: what can be found out
// of it is the reader's.
type record struct {
	path   string
	text   []byte            // the values, one after the other
	values []value           // where they stand there
	pieces []span            // of ranged attributes
	spelt  []estate.Spelling // of the members; zero: not found yet
	count  int               // attributes seen, wanted or not
	first  int               // line of the first attribute
	atEnd  bool              // it was ended by the end of the file, not by a blank line
	ascii  bool              // all of its text, once it is surveyed
}

// scanner cuts an LDIF stream into records, and writes the copy that is kept as it
// goes along.
type scanner struct {
	*record // that is being cut
	src     *intake.Source
	in      io.Reader
	keep    io.Writer // the copy
	out     []byte    // and what goes to it next, where it differs
	buf     []byte
	pos     int // next byte to look at
	start   int // of the line that was looked at last
	end     int
	kept    int // bytes of buf already written to the copy
	line    int
	open    state // what a continuation line continues

	coded     int  // base64 characters of the last value seen, wanted or not
	codedLine int  // its line; 0: the last value was plain
	noNewline bool // the file's last line had no end
	cutLine   int  // the last line, where it had no end and was left out; else 0

	rows   *rows            // of an export in CSV; nil: LDIF
	names  map[string]*name // that were seen
	last   *name
	marked int // values that are wanted, and were not kept
	wait   waiting

	speller estate.Speller
}

// name is an attribute's, as it stands before its colon.
type name struct {
	text   string
	attr   attr
	kind   attrKind
	secret bool   // by its name
	odd    bool   // it does not look like a name: it may be what is secret
	mark   []byte // what stands in the copy behind the name, where no rule reads it
	piece  span
	next   *name // the one that came behind it last: mostly it comes again
}

// waiting is a value that is kept if all of its lines together hold no secret. None of it
// goes to the copy before it ends.
type waiting struct {
	on     bool
	wanted bool  // it is the record's last value, and its first line was judged; else no rule reads it
	name   *name // nil: a comment
	coded  bool
	from   int    // in the buffer, what stands behind the name
	value  int    // the value
	end    int    // of its first line
	more   []byte // the whole value, where it has further lines, and no rule reads it
	long   bool   // it is too long to be judged
}

// mostJudged is how long a value may be of which it is judged whether it is kept.
const mostJudged = 1 << 20

type state uint8

const (
	nothing state = iota // no line yet that could go on
	skipped              // a value that an earlier version did not keep
	wanted
	dropped // what is not kept
	judged  // what is kept if it holds no secret
)

func newScanner(src *intake.Source) *scanner {
	// Directories can write their exports in UTF-16; the copy is then in UTF-8,
	// line for line the same.
	in, differs := intake.Narrowed(bufio.NewReaderSize(src.In, intake.MostHead))
	s := &scanner{record: &record{path: src.Path}, src: src, in: in, keep: src.Keep,
		buf:   make([]byte, 16<<10),
		names: map[string]*name{}, last: &name{}}
	if differs {
		src.Differs()
	}
	return s
}

func (r *record) errorAt(line int, seen, expected, next string) error {
	return &intake.Error{Path: r.path, Line: line, Seen: seen, Expected: expected, Next: next}
}

// clear makes the record ready for another entry.
func (r *record) clear() {
	r.text, r.values, r.pieces, r.spelt, r.count, r.atEnd = r.text[:0], r.values[:0], r.pieces[:0], r.spelt[:0], 0, false
}

// add notes a value.
func (r *record) add(a attr, raw []byte, coded bool, piece span, line int) {
	if piece.ranged && (len(r.pieces) == 0 || r.pieces[len(r.pieces)-1] != piece) {
		r.pieces = append(r.pieces, piece)
	}
	v := value{attr: a, coded: coded, from: uint32(len(r.text)), line: uint32(line)}
	if piece.ranged {
		v.piece = uint32(len(r.pieces))
	}
	r.text = append(r.text, raw...)
	v.to = uint32(len(r.text))
	r.values = append(r.values, v)
}

// survey finds out what takes time and needs no more than the record: cutting takes less
// of it than reading. Of a group's members it is the spellings, but for names that need
// more than a look.
func (r *record) survey(speller *estate.Speller) {
	r.ascii = ascii(r.text)
	for i := range r.values {
		v := &r.values[i]
		if v.attr != aMember {
			continue
		}
		spelling := estate.Spelling{}
		if raw := r.raw(v); r.ascii && !v.coded && !bytes.HasPrefix(raw, extended) {
			spelling = speller.Spell(raw)
		}
		r.spelt = append(r.spelt, spelling)
	}
}

// ascii reports whether a text is plain ASCII.
func ascii(text []byte) bool {
	const high = 0x8080808080808080
	for len(text) >= 32 && (binary.LittleEndian.Uint64(text)|binary.LittleEndian.Uint64(text[8:])|binary.LittleEndian.Uint64(text[16:])|
		binary.LittleEndian.Uint64(text[24:]))&high == 0 {
		text = text[32:]
	}
	for _, c := range text {
		if c >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// pieceOf returns the piece of a ranged attribute that a value belongs to.
func (r *record) pieceOf(v *value) span {
	if v.piece == 0 {
		return span{}
	}
	return r.pieces[v.piece-1]
}

// raw returns a value as it stands in the export.
func (r *record) raw(v *value) []byte { return r.text[v.from:v.to] }

// next reads one record. It returns io.EOF after the last one.
func (s *scanner) next() error {
	s.clear()
	s.open = nothing
	if s.rows != nil {
		return s.row()
	}
	for {
		line, err := s.physical()
		if err == io.EOF {
			s.settle(s.pos)
			if err := s.flush(); err != nil {
				return err
			}
			if s.codedLine > 0 && s.coded%4 != 0 {
				return s.errorAt(s.codedLine, "the file ends in the middle of a base64 value", "base64 in groups of four characters",
					"the export is cut: make it again, or copy it again, and compare the sizes")
			}
			if s.noNewline && s.open == wanted {
				s.leaveOut()
			}
			if s.atEnd = true; s.count > 0 {
				return nil
			}
			return io.EOF
		}
		if err != nil {
			return err
		}
		if len(s.text) > mostText {
			return s.errorAt(s.line, "an entry of more than 1 GiB", "a directory's entry", "check that this is the whole, unconverted export")
		}
		if len(line) == 0 || line[0] != ' ' {
			s.settle(s.start)
		}
		if len(line) == 0 {
			s.open = nothing
			if s.count > 0 {
				return nil
			}
			continue
		}
		if err := s.logical(line); err != nil {
			return err
		}
	}
}

// leaveOut takes back the last value, which a line without an end gave: where
// the file was cut, it would be another value than the directory's.
func (s *scanner) leaveOut() {
	last := len(s.values) - 1
	a := s.values[last].attr
	s.cutLine = s.line
	if s.values = s.values[:last]; a == aDN {
		s.count = 0 // nothing else can be known of the record
	}
}

// physical returns the next line without its end. The bytes are good until
// the next call.
func (s *scanner) physical() ([]byte, error) {
	for {
		if i := bytes.IndexByte(s.buf[s.pos:s.end], '\n'); i >= 0 {
			line := s.buf[s.pos : s.pos+i]
			s.start = s.pos
			s.pos += i + 1
			s.line++
			if n := len(line); n > 0 && line[n-1] == '\r' {
				line = line[:n-1]
			}
			if s.line == 1 {
				line = bytes.TrimPrefix(line, []byte("\xef\xbb\xbf"))
			}
			return line, nil
		}
		if s.end-s.pos >= maxLine {
			return nil, s.errorAt(s.line+1, "a line of more than 16 MiB", "an LDIF export", "check that this is the whole, unconverted export")
		}
		if err := s.fill(); err == io.EOF {
			if s.pos == s.end {
				return nil, io.EOF
			}
			line := s.buf[s.pos:s.end]
			s.start, s.pos, s.line, s.noNewline = s.pos, s.end, s.line+1, true
			return line, nil
		} else if err != nil {
			return nil, err
		}
	}
}

// fill makes room and reads more.
func (s *scanner) fill() error {
	if err := s.flush(); err != nil {
		return err
	}
	done := s.done()
	if s.end == len(s.buf) && (done == 0 || len(s.buf) < usualBuffer) {
		s.buf = append(s.buf, make([]byte, len(s.buf))...)
	}
	if done > 0 {
		s.end = copy(s.buf, s.buf[done:s.end])
		s.kept, s.pos = s.kept-done, s.pos-done
		s.wait.from, s.wait.value, s.wait.end = s.wait.from-done, s.wait.value-done, s.wait.end-done
	}
	n, err := io.ReadAtLeast(s.in, s.buf[s.end:], 1)
	s.end += n
	return err
}

// done is up to where the buffer is settled.
func (s *scanner) done() int {
	if s.wait.on {
		return s.wait.from
	}
	return s.pos
}

// flush writes what was looked at to the copy.
func (s *scanner) flush() error {
	if len(s.out) > 0 {
		if _, err := s.keep.Write(s.out); err != nil {
			return err
		}
		s.out = s.out[:0]
	}
	done := s.done()
	if s.kept >= done {
		return nil
	}
	_, err := s.keep.Write(s.buf[s.kept:done])
	s.kept = done
	return err
}

// muchOut is how much of a copy that differs is written at once.
const muchOut = 32 << 10

// strike puts mark into the copy in place of the current line's bytes from start on.
func (s *scanner) strike(line []byte, start int, mark []byte) error {
	lineEnd := s.pos // behind the newline, if there is one
	if !s.noNewline {
		lineEnd--
		if lineEnd > 0 && s.buf[lineEnd-1] == '\r' {
			lineEnd--
		}
	}
	s.src.Differs()
	s.out = append(append(s.out, s.buf[s.kept:lineEnd-len(line)+start]...), mark...)
	s.kept = lineEnd
	if len(s.out) < muchOut {
		return nil
	}
	_, err := s.keep.Write(s.out)
	s.out = s.out[:0]
	return err
}

// logical takes one line that is not empty.
func (s *scanner) logical(line []byte) error {
	switch line[0] {
	case ' ':
		return s.continued(line)
	case '#':
		return s.comment(line)
	}
	n := s.last.next
	if n == nil || !n.begins(line) {
		if n = s.last; !n.begins(line) {
			colon := bytes.IndexByte(line, ':')
			if colon <= 0 {
				return s.errorAt(s.line, fmt.Sprintf("a line of %d bytes without a colon", len(line)), "\"attribute: value\"",
					"the export is cut or is not LDIF (RFC 2849)")
			}
			n = s.nameOf(line[:colon])
		}
		s.last.next = n
	}
	s.last = n
	colon := len(n.text)
	if s.count == 0 {
		s.first = s.line
	}
	s.count++
	start, coded, err := s.valueStart(line, colon+1)
	if err != nil {
		return err
	}
	s.codedLine = 0
	if coded {
		s.coded, s.codedLine = len(line)-start, s.line
	}
	if n.kind != isKnown {
		value := line[start:]
		if n.odd { // the name may be what is secret
			s.open = dropped
			s.src.NotKept++
			return s.strike(line, 0, append([]byte(redact.NotKept), n.mark...))
		}
		if s.src.KeepAll && !n.secret && !redact.IsMark(string(value)) {
			s.await(n, line, colon, start, coded)
			return nil
		}
		s.open = dropped
		mark := s.markOf(n, value, coded)
		if mark == nil {
			return nil
		}
		return s.strike(line, colon, mark)
	}
	a, shown := n.attr, line[start:]
	if !coded && len(shown) > 0 && shown[0] == '[' && redact.IsMark(string(shown)) {
		s.open = skipped // a stored copy, of a version that did not want it
		s.marked++
		return nil
	}
	s.open = wanted
	struck := !coded && judgedAtOnce(a) && secret(a, shown)
	if struck {
		// What it is is not told. That it is there still is: silence would be taken
		// for a proof that it is not.
		s.src.Struck++
		shown, s.open = struckMark, dropped
		if err := s.strike(line, start, shown); err != nil {
			return err
		}
	}
	s.add(a, shown, coded, n.piece, s.line)
	if !struck && mayNotFit(a, shown, coded) {
		s.await(n, line, colon, start, coded) // it may go on
		s.open, s.wait.wanted = wanted, true
	}
	return nil
}

// judgedAtOnce reports whether the first line of a value tells whether it is one of its
// attribute's.
func judgedAtOnce(a attr) bool { return a >= aServer || shapes[a] == freeText || onOneLine[shapes[a]] }

// mayNotFit reports whether a value has to be judged as a whole.
func mayNotFit(a attr, value []byte, coded bool) bool {
	switch s := shapes[a]; {
	case a >= aServer, s == freeText, s == aLinkList, s == aFilter, s == aDescriptor && !coded:
		return true
	case s == anyText:
		return false
	case coded:
		return !plainlyFits(a, value)
	default:
		return !a.fits(value)
	}
}

// plainlyFits reports whether a value in base64 can be told to be one of the attribute's without
// decoding it: of a million accounts nearly all can.
func plainlyFits(a attr, coded []byte) bool {
	const guidCoded, sidCoded = 24, 40
	switch shapes[a] {
	case aSIDOrGUID:
		return len(coded) == guidCoded || len(coded) == sidCoded && coded[0] == 'A' && coded[1] == 'Q'
	case aDescriptor:
		return len(coded) > guidCoded && coded[0] == 'A' && coded[1] == 'Q'
	}
	return false
}

// begins reports whether a line begins with the name and a colon.
func (n *name) begins(line []byte) bool {
	return len(line) > len(n.text) && line[len(n.text)] == ':' && string(line[:len(n.text)]) == n.text && n.text != ""
}

// mostNames bounds how many names are kept in mind: of ranges there can be many.
const mostNames = 10_000

// nameOf finds out what a name is.
func (s *scanner) nameOf(text []byte) *name {
	if n := s.names[string(text)]; n != nil {
		return n
	}
	n := &name{text: string(text)}
	n.attr, n.kind, n.piece = lookup(text)
	n.secret = n.kind == isSecret || n.kind == isUnknown && redact.Name(n.text)
	n.odd = n.kind == isUnknown && !redact.PlainName(n.text)
	n.mark = notKeptValue
	if n.secret {
		n.mark = struckValue
	}
	if len(s.names) < mostNames {
		s.names[n.text] = n
	}
	return n
}

// secret reports whether a value looks like a secret, or is not one that its
// attribute can have.
func secret(a attr, value []byte) bool {
	switch {
	case a >= aSetting && !redact.Plain(value):
		return true
	case a >= aServer && a < aSetting && !switchOrNumber(value):
		return true // an account's entry keeps old passwords under a policy's name
	}
	if shapes[a] != freeText {
		return !a.fits(value)
	}
	if redact.Harmless(value) {
		return false
	}
	_, struck := redact.Text(string(value))
	return struck
}

func switchOrNumber(value []byte) bool {
	if bytes.EqualFold(value, []byte("on")) || bytes.EqualFold(value, []byte("off")) {
		return true
	}
	_, ok := atoi(value)
	return ok
}

// valueStart finds where the value of a line begins, and whether it is base64.
func (s *scanner) valueStart(line []byte, start int) (at int, coded bool, err error) {
	if start < len(line) {
		switch line[start] {
		case ':':
			start, coded = start+1, true
		case '<':
			return 0, false, s.errorAt(s.line, "a value given as a URL", "the value itself",
				"values in other files are never fetched: export again with the values inline")
		}
	}
	for start < len(line) && line[start] == ' ' {
		start++
	}
	return start, coded, nil
}

// continued takes a line that goes on with the one before.
func (s *scanner) continued(line []byte) error {
	switch s.open {
	case nothing:
		return s.errorAt(s.line, "a continued line without a beginning", "an attribute before it", "check that the export is whole")
	case wanted:
		if v := &s.values[len(s.values)-1]; !s.wait.on && !goesOn[shapes[v.attr]] && (!v.coded || shapes[v.attr] == aSIDOrGUID) {
			s.text = append(s.text, redact.Struck...) // a number does not go on
			v.to, s.open = uint32(len(s.text)), dropped
			s.src.Struck++
			return s.strike(line, 1, nil)
		}
		s.text = append(s.text, line[1:]...)
		v := &s.values[len(s.values)-1]
		if v.to = uint32(len(s.text)); !s.wait.on || v.to-v.from <= mostJudged {
			break
		}
		return s.tooLong(line)
	case judged:
		if len(s.wait.more) == 0 {
			s.wait.more = append(s.wait.more, s.buf[s.wait.value:s.wait.end]...)
		}
		if s.wait.more = append(s.wait.more, line[1:]...); len(s.wait.more) <= mostJudged {
			break
		}
		return s.tooLong(line)
	case dropped:
		if err := s.strike(line, 1, nil); err != nil {
			return err
		}
	}
	s.coded += len(line) - 1
	return nil
}

// onOneLine are the shapes whose values no program breaks.
var onOneLine = [256]bool{aWholeNumber: true, aTruth: true, aTime: true, aWord: true}

// goesOn are those of which a further line tells nothing new.
var goesOn = [256]bool{anyText: true, aDNOrNone: true}

// tooLong settles a value that goes on beyond what is judged, with the line that was one
// too many.
func (s *scanner) tooLong(line []byte) error {
	s.wait.long = true
	s.settle(s.start)
	s.open = dropped
	s.coded += len(line) - 1
	return s.strike(line, 1, nil)
}

// What stands in the copy in place of what is not kept.
var (
	struckMark     = []byte(redact.Struck)
	struckValue    = []byte(": " + redact.Struck)
	notKeptValue   = []byte(": " + redact.NotKept)
	notKeptComment = []byte(" " + redact.NotKept)
)

// comment drops a comment: whatever it says, no rule needs it.
func (s *scanner) comment(line []byte) error {
	s.open = dropped
	if !s.src.KeepAll {
		s.src.NotKept++
		return s.strike(line, 1, notKeptComment)
	}
	s.await(nil, line, 1, 1, false)
	return nil
}

// await begins to wait for the end of what is kept if it holds no secret. Behind the
// name from on stands what would give way to a mark; the value begins at value.
func (s *scanner) await(n *name, line []byte, from, value int, coded bool) {
	at := s.start
	if s.line == 1 {
		at += bytes.Index(s.buf[s.start:s.pos], line) // behind a byte-order mark
	}
	s.open = judged
	s.wait = waiting{on: true, name: n, coded: coded, from: at + from, value: at + value, end: at + len(line), more: s.wait.more[:0]}
}

// markOfWanted is what stands in the copy, and in the record, in place of the record's
// last value; nil: it stays.
func (s *scanner) markOfWanted() []byte {
	v := &s.values[len(s.values)-1]
	value := s.raw(v)
	if !v.coded && len(value) == s.wait.end-s.wait.value && judgedAtOnce(v.attr) {
		return nil // one line
	}
	if v.coded && !s.wait.long {
		out := make([]byte, base64.StdEncoding.DecodedLen(len(value)))
		size, err := base64.StdEncoding.Decode(out, value)
		if value = out[:size]; err != nil {
			return nil // the reader says so
		}
	}
	if !s.wait.long && !secret(v.attr, value) {
		return nil
	}
	s.src.Struck++
	s.text = append(s.text[:v.from], struckMark...)
	v.to, v.coded = uint32(len(s.text)), false
	return struckValue
}

// settle judges what waited and ends at a place in the buffer.
func (s *scanner) settle(to int) {
	w := &s.wait
	if !w.on {
		return
	}
	w.on = false
	var mark []byte
	switch value := s.buf[w.value:w.end]; {
	case w.wanted:
		mark = s.markOfWanted()
	case len(w.more) > 0:
		mark = s.markOf(w.name, w.more, w.coded)
	default:
		mark = s.markOf(w.name, value, w.coded)
	}
	if w.long = false; mark == nil {
		return
	}
	s.src.Differs()
	s.out = append(append(s.out, s.buf[s.kept:w.from]...), mark...)
	for rest, further := s.buf[w.end:to], false; len(rest) > 0; further = true {
		line := rest
		if i := bytes.IndexByte(rest, '\n'); i >= 0 {
			line = rest[:i+1]
		}
		if further {
			s.out = append(s.out, ' ')
		}
		s.out = append(s.out, line[len(bytes.TrimRight(line, "\r\n")):]...)
		rest = rest[len(line):]
	}
	s.kept = to
}

// markOf is what stands in the copy behind the name of an attribute that no rule
// reads; nil: the value is kept.
func (s *scanner) markOf(n *name, value []byte, coded bool) []byte {
	switch {
	case len(value) == 0, value[0] == '[' && redact.IsMark(string(value)):
		return nil
	case n != nil && n.secret:
		s.src.Struck++
	case s.src.KeepAll && !s.wait.long:
		return s.judge(n, value, coded)
	default:
		s.src.NotKept++
	}
	if n == nil {
		return notKeptComment
	}
	return n.mark
}

// judge is markOf where all is kept that holds no secret. Of what is no text, that
// cannot be told.
func (s *scanner) judge(n *name, value []byte, coded bool) []byte {
	if coded {
		out := make([]byte, base64.StdEncoding.DecodedLen(len(value)))
		size, err := base64.StdEncoding.Decode(out, value)
		if value = out[:size]; err != nil || !utf8.Valid(value) || bytes.ContainsFunc(value, noText) {
			s.src.NotKept++
			return n.mark
		}
	}
	if redact.Harmless(value) {
		return nil
	}
	kept, struck := redact.Value(string(value))
	switch {
	case !struck:
		return nil
	case coded:
		kept = redact.Struck
	}
	s.src.Struck++
	if n == nil {
		return []byte(" " + strings.TrimPrefix(kept, " "))
	}
	return []byte(": " + kept)
}

// noText reports whether a character stands in no text.
func noText(c rune) bool { return c < ' ' && c != '\t' && c != '\r' && c != '\n' }

// bytesOf returns a value's bytes as the directory holds them.
func (r *record) bytesOf(v *value) ([]byte, error) {
	raw := r.raw(v)
	if !v.coded {
		return raw, nil
	}
	out := make([]byte, base64.StdEncoding.DecodedLen(len(raw)))
	n, err := base64.StdEncoding.Decode(out, raw)
	if err != nil {
		return nil, r.errorAt(int(v.line), "a base64 value that cannot be decoded: "+redact.Quote(raw), "base64 (RFC 4648)",
			"the export is cut or was edited: make it again")
	}
	return out[:n], nil
}
