package intake

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"iter"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/redact"
)

// Whole says how an export is read that is read whole, and what to say of one that
// cannot be. Its Take is the format's own; everything else is done here.
type Whole struct {
	Most     int64  // its size at most, in bytes
	Expected string // "a whole report"
	Next     string // "save it again as XML"
	Binary   bool   // it is no text: Take gets the bytes as they are

	// Take reads the text into the builder, and tells what of it was read. What it does
	// not tell is not kept.
	Take func(t *Text, into *estate.Builder) error
}

// Read reads an export and writes the copy that is kept of it.
func (w *Whole) Read(src *Source, into *estate.Builder) error {
	raw, err := io.ReadAll(io.LimitReader(src.In, w.Most+1))
	if err != nil {
		return err
	}
	text := raw
	switch {
	case int64(len(raw)) > w.Most:
		err = fmt.Errorf("more than %d MiB", w.Most>>20)
	case !w.Binary:
		text, err = Decode(raw)
	}
	if err != nil {
		return &Error{Path: src.Path, Seen: err.Error(), Expected: w.Expected, Next: w.Next}
	}
	t := &Text{Path: src.Path, Bytes: text, Beside: src.Beside, keepAll: src.KeepAll}
	if err := w.Take(t, into); err != nil {
		return err
	}
	if !w.Binary && InOtherPage(raw) {
		into.NotUnderstood(into.Cite(1, "", ""), OtherPage)
	}
	kept := t.Kept()
	src.Struck, src.NotKept = src.Struck+t.Struck, src.NotKept+t.NotKept
	if t.Struck+t.NotKept == 0 { // the bytes as received
		_, err = src.Keep.Write(raw)
		return err
	}
	src.Differs()
	_, err = src.Keep.Write(kept)
	return err
}

// Text is a text that is read whole, and what its reader tells of it: the spans that it
// read. Kept makes the stored copy of that, in which nothing else is left: a reader that
// forgets to tell of something loses it, and gives nothing away.
//
// Spans must not overlap; they may be told in any order. The zero value of all but Bytes
// is ready.
type Text struct {
	Path   string // as the auditor gave it
	Bytes  []byte // in UTF-8
	Beside func(relative string) []byte

	// Struck counts the secrets that were struck out, NotKept what was left out since
	// no rule needs it. Both are complete when Kept has returned.
	Struck, NotKept int

	keepAll bool
	spans   []span
}

// span is a piece of a text, and what stands for it in the copy.
type span struct {
	from, to int
	mark     []byte // nil: it stays
}

// Read says that what stands between two places was read, or that it only gives the text
// its form. It returns what is kept: the piece, or a mark where it shows itself to be a
// secret, which is then all that the reader may take.
func (t *Text) Read(from, to int) string {
	return t.judge(from, to, "", string(t.Bytes[from:to]), true, nil)
}

// ReadAs is Read of a piece that is written in another way than it is meant, such as
// with escapes; written, if not nil, writes a mark in that way.
func (t *Text) ReadAs(from, to int, value string, written func(mark string) string) string {
	return t.judge(from, to, "", value, true, written)
}

// Rest says under which name something stands that no rule reads. It returns what is
// kept of it, which is all of it only where everything harmless is wanted.
func (t *Text) Rest(from, to int, name, value string, written func(mark string) string) string {
	return t.judge(from, to, name, value, false, written)
}

// Drop leaves out what stands between two places, of which no text can be shown; secret
// says that it counts as one.
func (t *Text) Drop(from, to int, secret bool, written func(mark string) string) {
	mark := redact.NotKept
	if secret {
		mark = redact.Struck
	}
	t.drop(span{from, to, []byte(written(mark))}, secret)
}

// Name says that a name stands there that no rule knows, and returns what is kept of it.
func (t *Text) Name(from, to int, name string, written func(mark string) string) string {
	if redact.PlainName(name) {
		return t.judge(from, to, "", name, true, written)
	}
	return t.judge(from, to, "", name, false, written)
}

func (t *Text) judge(from, to int, name, value string, read bool, written func(string) string) string {
	if from >= to {
		return value
	}
	kept, struck := redact.Keep(name, value, read, t.keepAll)
	if kept == value {
		t.spans = append(t.spans, span{from: from, to: to})
		return value
	}
	mark := kept
	if written != nil {
		mark = written(kept)
	}
	t.drop(span{from, to, append([]byte{}, mark...)}, struck)
	return kept
}

func (t *Text) drop(s span, struck bool) {
	if struck {
		t.Struck++
	} else {
		t.NotKept++
	}
	t.spans = append(t.spans, s)
}

// Kept makes the stored copy: what was read, and marks for the rest. Lines stay, so that
// citations can be looked up in it.
func (t *Text) Kept() []byte {
	slices.SortStableFunc(t.spans, func(x, y span) int { return cmp.Compare(x.from, y.from) })
	told := t.spans
	var out bytes.Buffer
	out.Grow(len(t.Bytes))
	at := 0
	for _, s := range told {
		t.gap(&out, at, s.from)
		switch piece := t.Bytes[max(at, s.from):max(at, s.to)]; {
		case s.mark == nil:
			out.Write(piece)
		default:
			out.Write(s.mark)
			out.Write(bytes.Repeat([]byte("\n"), max(0, bytes.Count(piece, []byte("\n"))-bytes.Count(s.mark, []byte("\n")))))
		}
		at = max(at, s.to)
	}
	t.gap(&out, at, len(t.Bytes))
	return out.Bytes()
}

// form are the bytes that only give a text its form: they tell nothing.
const form = " \t\r\n\"'{}[]()<>,;:=|/\\*-+#"

// gap writes what stands for a piece that nobody told of.
func (t *Text) gap(out *bytes.Buffer, from, to int) {
	if from >= to {
		return
	}
	for line := range bytes.Lines(t.Bytes[from:to]) {
		left := len(line) - len(bytes.TrimLeft(line, form))
		right := len(bytes.TrimRight(line, form))
		if left >= right { // form alone
			out.Write(line)
			continue
		}
		kept, struck := redact.Keep("", string(line[left:right]), false, t.keepAll)
		out.Write(line[:left])
		out.WriteString(kept)
		out.Write(line[right:])
		if struck {
			t.Struck++
		} else if kept != string(line[left:right]) {
			t.NotKept++
		}
	}
}

// Line is one line of a text, without what ends it, and where it stands there.
type Line struct {
	Number int // from 1
	Text   string
	From   int
}

// To is where the line ends.
func (l Line) To() int { return l.From + len(l.Text) }

// Trimmed is the line without the space around it.
func (l Line) Trimmed() Line {
	left := strings.TrimLeft(l.Text, " \t")
	return Line{l.Number, strings.TrimRight(left, " \t"), l.From + len(l.Text) - len(left)}
}

// Cut parts the line at the first separator, both pieces trimmed.
func (l Line) Cut(separator string) (before, after Line, found bool) {
	i := strings.Index(l.Text, separator)
	if i < 0 {
		return l.Trimmed(), Line{l.Number, "", l.To()}, false
	}
	rest := i + len(separator)
	return Line{l.Number, l.Text[:i], l.From}.Trimmed(), Line{l.Number, l.Text[rest:], l.From + rest}.Trimmed(), true
}

// Lines goes through the lines of a text.
func (t *Text) Lines() iter.Seq[Line] {
	return func(yield func(Line) bool) {
		at, number := 0, 0
		for full := range bytes.Lines(t.Bytes) {
			number++
			if !yield(Line{number, string(bytes.TrimRight(full, "\r\n")), at}) {
				return
			}
			at += len(full)
		}
	}
}

// Took is Read of a line.
func (t *Text) Took(l Line) string { return t.Read(l.From, l.To()) }

// Left is Rest of a line, under a name.
func (t *Text) Left(l Line, name string) string { return t.Rest(l.From, l.To(), name, l.Text, nil) }

// Wrong says what is wrong with a line of it; 0: with the whole.
func (t *Text) Wrong(line int, seen, expected, next string) error {
	return &Error{Path: t.Path, Line: line, Seen: seen, Expected: expected, Next: next}
}
