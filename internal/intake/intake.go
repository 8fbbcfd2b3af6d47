// Package intake names what all readers of evidence have in common: a format
// is a value that recognises an export and reads it into facts.
package intake

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"strings"
	letters "unicode"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"sternledger/internal/core/estate"
)

// HeadSize is how many characters of a file a detector is shown, in bytes where it is no
// text; MostHead is how many bytes they may take.
const (
	HeadSize = 4096
	MostHead = 2 * HeadSize
)

// Head is the beginning of a file that a detector is shown: HeadSize characters, whatever they
// are written in.
func Head(raw []byte) []byte {
	if bytes.HasPrefix(raw, []byte{0xff, 0xfe}) || bytes.HasPrefix(raw, []byte{0xfe, 0xff}) || wide(raw) != nil {
		return raw[:min(len(raw), MostHead)]
	}
	return raw[:min(len(raw), HeadSize)]
}

// Format is one kind of export. A new one is a package that defines a Format,
// and a line in the table of formats.
type Format struct {
	Name string // as gather prints it: "directory export (LDIF)"

	// Detect reports whether a file of that path that begins like this is of
	// this format.
	Detect func(path string, head []byte) bool

	// Names proposes the stored copy's name; nil takes the file's own.
	Names func(path string) string

	// Speaks says of whom a file of that path speaks, where the path tells it and
	// not the content: the same bytes under two names are then two exports. nil:
	// the content tells.
	Speaks func(path string) string

	// Read reads the export into the builder and writes the copy that is kept:
	// line for line the same, with everything struck out that nobody reads. A format
	// that is read whole takes Whole.Read, and tells a Text what it read; one that
	// streams writes its copy by redact's rules.
	//
	// It is called once for a file, in one goroutine, after the builder's StartFile; it
	// reads src.In to its end, and does not close it. An error means that nothing of the
	// file may be taken: what the builder got of it by then is thrown away with the whole
	// gather. What can be read but not understood is no error: it goes to the builder's
	// Damaged, Unreadable or NotUnderstood. Messages quote by redact.Quote.
	Read func(src *Source, into *estate.Builder) error
}

// Source is one file that is being read.
type Source struct {
	Path string // as the auditor gave it
	In   io.Reader
	Keep io.Writer // the stored copy
	// Differs is called before the copy begins to differ from the source.
	Differs func()
	// Beside returns a small file that lies at that relative path from the
	// source, such as a backup's description; nil data if there is none.
	Beside func(relative string) []byte
	// KeepAll keeps what no rule needs, too, but for secrets.
	KeepAll bool
	// Struck counts the secrets that were struck out, NotKept the lines of which
	// the value is not kept, since no rule needs it.
	Struck, NotKept int
}

// TreeFormat is one kind of export that is made of several files, which only
// together say what holds. A new one is a package that defines a TreeFormat,
// and a line in the table of formats.
type TreeFormat struct {
	Name string // as gather prints it

	// Part says whether a file of that path (with slashes) that begins like
	// this is part of such an export, at which path the export begins, and the
	// file's place below it.
	Part func(path string, head []byte) (root, name string, ok bool)

	// Claims, if not nil, decides on a file that Part says may be one. read gives it
	// the file's first so many bytes; 0: all of it.
	Claims func(path string, read func(most int) ([]byte, error)) bool

	// Whole says that an export is always complete: a newer one of the same
	// name takes the place of the older one. Otherwise the older one's files
	// that the newer one lacks still count.
	Whole bool

	// Bare, if not nil, returns those folders, of files of these paths, that are
	// the inside of an export: an archive that was made within etc. Below names
	// what their files then stand under.
	Bare  func(paths []string) []string
	Below string

	// Further, if not nil, names files of the same export that its parts name.
	// They are taken too, where they are there.
	Further func(t *Tree) []string

	// Call, if not nil, says what an export calls itself, by parts that it finds;
	// empty: the folder or archive it came in names it.
	Call func(find func(part string) []byte) string

	// Rest are the folders beside the parts that need no word each: the rest of a
	// machine.
	Rest []string

	// Read reads all parts into the builder, and tells each part what is kept of it
	// (Part.Keep): of a part of which it tells nothing, nothing is. Parts of an earlier
	// gather come as they were kept. It is called once for an export, in one goroutine; it
	// calls the builder's StartFile for each part before it cites from it. Errors are as
	// for Format.Read.
	Read func(t *Tree, into *estate.Builder) error
}

// TypeName is what a shell prints of a value that the form does not hold, such as a
// list in a cell: the name of its type.
var TypeName = regexp.MustCompile("^(?:System|Microsoft)\\.[\\w.]+(?:`\\d+)?(?:\\[.*\\])?$")

// Tree is one export that is made of several files.
type Tree struct {
	Name  string // of the folder or archive it came in
	Path  string
	Parts []*Part // sorted by name
	// KeepAll keeps what no rule needs, too, but for secrets.
	KeepAll bool
}

// Part is one file of a Tree.
type Part struct {
	Name   string // its place in the tree, with slashes
	Path   string // as the auditor would name it
	Stored string // the name under which it is stored
	Data   []byte

	kept            []byte // the stored copy
	told            bool
	struck, notKept int
}

// Keep says what is kept of the part, and how many secrets were struck out of it and how
// many values that no rule needs.
func (p *Part) Keep(kept []byte, struck, notKept int) {
	p.kept, p.told, p.struck, p.notKept = kept, true, struck, notKept
}

// Copy is what is kept of it. Of a part of which the reader told nothing, nothing is:
// its lines stay, with marks in them.
func (p *Part) Copy() (kept []byte, struck, notKept int) {
	if !p.told {
		t := Text{Bytes: p.Data}
		kept = t.Kept()
		return kept, t.Struck, t.NotKept
	}
	return p.kept, p.struck, p.notKept
}

// Find returns the part of that name, or nil.
func (t *Tree) Find(name string) *Part {
	for _, p := range t.Parts {
		if p.Name == name {
			return p
		}
	}
	return nil
}

// ErrDamaged is wrapped by every error about evidence that cannot be read.
var ErrDamaged = errors.New("damaged evidence")

// Error says what is wrong with a file, where, and what to do about it.
type Error struct {
	Path     string
	Line     int // 0: the file as a whole
	Seen     string
	Expected string
	Next     string
	// Foreign: it is another system's, known by its name and not read. Beside others it is
	// passed over, and the others are taken.
	Foreign bool
}

// Error writes "PATH:LINE: saw …; expected …; next step …".
func (e *Error) Error() string {
	where := e.Path
	if e.Line > 0 {
		where = fmt.Sprintf("%s:%d", e.Path, e.Line)
	}
	parts := []string{where + ": " + e.Seen}
	if e.Expected != "" {
		parts = append(parts, "expected "+e.Expected)
	}
	if e.Next != "" {
		parts = append(parts, e.Next)
	}
	return strings.Join(parts, "; ")
}

// Unwrap returns ErrDamaged.
func (e *Error) Unwrap() error { return ErrDamaged }

// Decode returns text in UTF-8, whatever it comes in: UTF-8, UTF-16 with a
// byte-order mark or without, or a Western code page of Windows or of its console.
func Decode(raw []byte) ([]byte, error) {
	text, err := decode(raw)
	if err == nil && bytes.IndexByte(text, '\n') < 0 && bytes.IndexByte(text, '\r') >= 0 { // old Macs', and what some tools make of lines
		text = bytes.ReplaceAll(text, []byte("\r"), []byte("\n"))
	}
	return text, err
}

func decode(raw []byte) ([]byte, error) {
	switch {
	case bytes.HasPrefix(raw, []byte{0xff, 0xfe}), bytes.HasPrefix(raw, []byte{0xfe, 0xff}):
		if len(raw)%2 != 0 {
			return nil, fmt.Errorf("text in UTF-16 of an odd number of bytes: the file is cut")
		}
		return unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder().Bytes(raw)
	case wide(raw) != nil: // a shell's redirect, without its mark
		return unicode.UTF16(*wide(raw), unicode.IgnoreBOM).NewDecoder().Bytes(raw[:len(raw)&^1])
	case utf8.Valid(raw):
		return bytes.TrimPrefix(raw, []byte("\xef\xbb\xbf")), nil
	}
	return pageOf(raw).NewDecoder().Bytes(raw)
}

// InOtherPage reports whether a text that Decode takes is, by its letters, in a code page that
// it does not know.
func InOtherPage(raw []byte) bool {
	return !utf8.Valid(raw) && !bytes.HasPrefix(raw, []byte{0xff, 0xfe}) && !bytes.HasPrefix(raw, []byte{0xfe, 0xff}) && wide(raw) == nil &&
		ofOtherPage(raw, pageOf(raw))
}

// Decoder decodes a stream of text as Decode does; what is no UTF-8 is told line by
// line.
func Decoder(in io.Reader) *Decoded {
	b := bufio.NewReaderSize(in, 1<<16)
	if inner, differs := Narrowed(b); differs {
		return &Decoded{Reader: inner}
	}
	if opening, _ := b.Peek(3); bytes.HasPrefix(opening, []byte("\xef\xbb\xbf")) {
		_, _ = b.Discard(3)
	}
	d := &Decoded{}
	d.Reader = &lineDecoder{in: b, of: d}
	return d
}

// Narrowed is a stream with its text in bytes and its lines ended by a line feed: of UTF-16, and
// of lines that end in a carriage return alone. differs says that it is not what came.
func Narrowed(b *bufio.Reader) (in io.Reader, differs bool) {
	opening, _ := b.Peek(HeadSize)
	switch {
	case bytes.HasPrefix(opening, []byte{0xff, 0xfe}), bytes.HasPrefix(opening, []byte{0xfe, 0xff}):
		return unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder().Reader(b), true
	case wide(opening) != nil:
		return unicode.UTF16(*wide(opening), unicode.IgnoreBOM).NewDecoder().Reader(b), true
	case bytes.IndexByte(opening, '\r') >= 0 && bytes.IndexByte(opening, '\n') < 0:
		return &feeds{b}, true
	}
	return b, false
}

// feeds makes line feeds of carriage returns.
type feeds struct{ in io.Reader }

func (f *feeds) Read(to []byte) (int, error) {
	n, err := f.in.Read(to)
	for i, c := range to[:n] {
		if c == '\r' {
			to[i] = '\n'
		}
	}
	return n, err
}

// Decoded is text that is decoded as it is read.
type Decoded struct {
	io.Reader
	// OtherPage: what was read so far is, by its letters, in a code page that is none of those
	// it was read as, so that names in it may be wrong.
	OtherPage bool
}

// OtherPage says what is wrong with names of such a text.
const OtherPage = "letters beyond ASCII are in a code page that is neither Windows-1252 nor the Western console's, and names with them were " +
	"read wrong: export again as UTF-8"

// ofOtherPage reports whether the letters of a text that is no UTF-8 are of another code page
// than Windows-1252 and the Western console's: many of them side by side, as in scripts that
// are not Latin, or next to letters what is a sign in both.
func ofOtherPage(raw []byte, page *charmap.Charmap) bool {
	high, run, together, signs := 0, 0, 0, 0
	for i, c := range raw {
		if c < 0x80 {
			run = 0
			continue
		}
		const many = 3
		high++
		switch run++; {
		case run == many:
			together += many
		case run > many:
			together++
		}
		r := page.DecodeByte(c)
		if beside := i > 0 && letter(raw[i-1]) || i+1 < len(raw) && letter(raw[i+1]); beside && !letters.IsLetter(r) && !strings.ContainsRune("\u00a0´°·‘’“”–—…®™", r) {
			signs++
		}
	}
	return together*2 > high || signs > 0
}

// lineDecoder decodes the lines that are no UTF-8.
type lineDecoder struct {
	in   *bufio.Reader
	rest []byte
	page *charmap.Charmap // of the file: the first line that needs one decides
	of   *Decoded
}

func (d *lineDecoder) Read(to []byte) (int, error) {
	if len(d.rest) == 0 {
		line, err := d.in.ReadSlice('\n')
		if err == bufio.ErrBufferFull { // a character may stand at the cut
			line = bytes.Clone(line)
			var more []byte
			more, err = d.in.ReadBytes('\n')
			line = append(line, more...)
		}
		if len(line) == 0 {
			return 0, err
		}
		if !utf8.Valid(line) {
			if d.page == nil {
				d.page = pageOf(line)
			}
			d.of.OtherPage = d.of.OtherPage || ofOtherPage(line, d.page)
			if line, err = d.page.NewDecoder().Bytes(line); err != nil {
				return 0, err
			}
		}
		d.rest = line // good until the next line is read
	}
	n := copy(to, d.rest)
	d.rest = d.rest[n:]
	return n, nil
}

// pageOf tells the console's code page from that of Windows by the letters that
// stand between letters: the console has them where Windows has punctuation. What
// a redirect of the command prompt writes is in the former.
func pageOf(raw []byte) *charmap.Charmap {
	console, windows := 0, 0
	for i := 1; i < len(raw); i++ {
		switch c := raw[i]; {
		case c < 0x80 || !letter(raw[i-1]):
		case c >= 0xc0 && c != 0xe1:
			windows++
		case bytes.IndexByte(consoleLetters, c) >= 0:
			console++
		}
	}
	if console > windows {
		return charmap.CodePage850
	}
	return charmap.Windows1252
}

// consoleLetters are letters of code pages 437 and 850 that are none in Windows-1252;
// both pages have the same ones there.
var consoleLetters = []byte("\x81\x82\x83\x84\x85\x86\x87\x88\x89\x8b\x8d\x90\x91\x93\x94\x95\x96\x97\xa0\xa1\xa2\xa3\xa4\xe1")

func letter(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'z' }

// FileName is the last part of a path, whichever way its slashes lean.
func FileName(file string) string { return path.Base(strings.ReplaceAll(file, `\`, "/")) }

// whatOf is what people add to a machine's name when they name what a command printed there.
var whatOf = regexp.MustCompile(`(?i)[-_.](?:net-?accounts|(?:get-?)?(?:local-?)?users?|accounts|pdbedit|secedit|secpol|wmic(?:-?user-?accounts?)?|user-?accounts?|polic(?:y|ies))$`)

// MachineOf is the machine that a file is named after, where the content does not tell:
// PC1-net-accounts.txt and PC1_users.json are both pc1's.
func MachineOf(file string) string {
	name := FileName(file)
	name = strings.TrimSuffix(name, path.Ext(name))
	return strings.ToLower(whatOf.ReplaceAllString(name, ""))
}

// Separator finds what parts the cells of a table's line of names.
func Separator(line []byte) rune {
	best, most := ',', 0
	for _, c := range ",;\t|" {
		if n := bytes.Count(line, []byte(string(c))); n > most {
			best, most = c, n
		}
	}
	return best
}

// wideSample is how much of a text tells whether it is in UTF-16 without a mark.
const wideSample = 512

var littleEndian, bigEndian = unicode.LittleEndian, unicode.BigEndian

// wide is the order of the bytes of text in UTF-16 without a mark; nil: it is none. Of spaces,
// digits and ends of lines, which texts of every language have, one byte is 0, always the
// second or always the first.
func wide(raw []byte) *unicode.Endianness {
	const enough = 8
	if len(raw) < enough {
		return nil
	}
	sample := raw[:min(len(raw), wideSample)&^1]
	var zero [2]int
	for i, c := range sample {
		if c == 0 {
			zero[i%2]++
		}
	}
	const (
		oneOf = 20 // characters at least
		clear = 10 // times as many as the others, of characters such as U+3000
	)
	switch few := len(sample) / 2 / oneOf; {
	case zero[1] > max(few, 1) && zero[1] > clear*zero[0]:
		return &littleEndian
	case zero[0] > max(few, 1) && zero[0] > clear*zero[1]:
		return &bigEndian
	}
	return nil
}

// Opening returns a file's first bytes as text. A character that the cut went
// through does not matter.
func Opening(head []byte) []byte {
	text, err := Decode(head)
	if err != nil {
		text, _ = Decode(head[:len(head)-1])
	}
	return text
}
