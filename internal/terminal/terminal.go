// Package terminal says what must not be sent to a terminal as it is, and keeps it from
// being sent.
package terminal

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Obeys reports whether a terminal might obey a character, or turn the
// direction of writing by it, instead of showing it.
func Obeys(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == '\u2028' || r == '\u2029' || r == '\ufffc'
}

// Clean makes text from evidence safe to print: what a terminal might obey, or
// what turns the direction of writing, is shown instead of sent.
func Clean(text string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || r == '\t':
			return ' '
		case Obeys(r):
			return '\ufffd'
		}
		return r
	}, text)
}

// Shown is a terminal to which plain output goes: what it might obey is shown
// instead of sent. Lines and tabs stay.
func Shown(terminal io.Writer) io.Writer {
	return &replacing{terminal, func(r rune) string { return "\ufffd" }, nil}
}

// EscapedJSON writes JSON in which no such character stands as itself.
func EscapedJSON(w io.Writer) io.Writer {
	return &replacing{w, func(r rune) string {
		if r > 0xffff {
			high, low := 0xd800+(r-0x10000)>>10, 0xdc00+(r-0x10000)&0x3ff
			return fmt.Sprintf(`\u%04x\u%04x`, high, low)
		}
		return fmt.Sprintf(`\u%04x`, r)
	}, nil}
}

// replacing writes something else for each character that a terminal might obey.
// A character may come in two pieces: what begins one waits for the rest, which
// every output has, since it ends with a line.
type replacing struct {
	to      io.Writer
	instead func(r rune) string
	begun   []byte
}

func (w *replacing) Write(p []byte) (int, error) {
	text := p
	if len(w.begun) > 0 {
		text = append(w.begun, p...)
		w.begun = nil
	}
	for n := 1; n < utf8.UTFMax && n <= len(text); n++ {
		if tail := text[len(text)-n:]; utf8.RuneStart(tail[0]) {
			if !utf8.FullRune(tail) {
				w.begun = bytes.Clone(tail)
				text = text[:len(text)-n]
			}
			break
		}
	}
	if bytes.ContainsFunc(text, w.bad) {
		var b bytes.Buffer
		for len(text) > 0 {
			r, n := utf8.DecodeRune(text)
			if w.bad(r) {
				b.WriteString(w.instead(r))
			} else {
				b.Write(text[:n])
			}
			text = text[n:]
		}
		text = b.Bytes()
	}
	if _, err := w.to.Write(text); err != nil {
		return 0, err
	}
	return len(p), nil
}

func (w *replacing) bad(r rune) bool { return r != '\n' && r != '\t' && Obeys(r) }
