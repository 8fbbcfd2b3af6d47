// Package intake names what all readers of evidence have in common: a format
// is a value that recognises an export and reads it into facts.
package intake

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"unicode/utf8"

	"sternledger/internal/core/estate"
)

// HeadSize is how many bytes of a file a detector is shown.
const HeadSize = 4096

// Struck stands in the stored copy where a secret stood.
const Struck = "[struck out]"

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
	// line for line the same, with every secret struck out.
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
	// Struck counts the secrets that were struck out.
	Struck int
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

	// Claims, if not nil, decides on a file that Part says may be one: it is
	// shown all of it.
	Claims func(path string, data []byte) bool

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

	// Read reads all parts into the builder, and strikes secrets out of their
	// stored copies.
	Read func(t *Tree, into *estate.Builder) error
}

// Tree is one export that is made of several files.
type Tree struct {
	Name  string // of the folder or archive it came in
	Path  string
	Parts []*Part // sorted by name
}

// Part is one file of a Tree.
type Part struct {
	Name   string // its place in the tree, with slashes
	Path   string // as the auditor would name it
	Stored string // the name under which it is stored
	Data   []byte
	Kept   []byte // the stored copy; nil: as read
	Struck int    // secrets struck out of the copy
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

// Excerpt shortens text from a file so that it can stand in a message, with
// everything that a terminal might obey made visible.
func Excerpt(text []byte) string {
	const most = 60
	cut := len(text) > most
	if cut {
		text = text[:most]
	}
	quoted := fmt.Sprintf("%q", text)
	if cut {
		quoted += "…"
	}
	return quoted
}

// Decode returns text in UTF-8, whatever of the three encodings it comes in:
// UTF-8, UTF-16 with a byte-order mark, or the Western Windows code page.
func Decode(raw []byte) ([]byte, error) {
	switch {
	case bytes.HasPrefix(raw, []byte{0xff, 0xfe}), bytes.HasPrefix(raw, []byte{0xfe, 0xff}):
		if len(raw)%2 != 0 {
			return nil, fmt.Errorf("text in UTF-16 of an odd number of bytes: the file is cut")
		}
		return unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder().Bytes(raw)
	case utf8.Valid(raw):
		return bytes.TrimPrefix(raw, []byte("\xef\xbb\xbf")), nil
	}
	return charmap.Windows1252.NewDecoder().Bytes(raw)
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
