package estate

import (
	"bytes"
	"encoding/binary"
	"hash/maphash"
	"math/bits"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Random for each run, so that nobody can prepare DNs that collide.
var seedA, seedB = rand(), rand()

func rand() uint64 { return maphash.Bytes(maphash.MakeSeed(), nil) | 1 }

// Spelling is what all spellings of a DN share, and no two DNs. It is good for one run
// of the program only. The zero value is no DN's.
type Spelling struct {
	dn     uint64
	parent uint64 // the same of what stands behind the DN's first part
}

// Speller finds the Spelling of DNs (RFC 4514): case, escaping and blanks around their
// separators do not count. The zero value is ready.
//
// Directories write nearly all DNs plainly; those are lowered and hashed eight bytes
// at a time. The others are first brought to their one spelling. DNs have few parents,
// so that what was found of a parent is remembered.
type Speller struct {
	scratch []byte
	parents [256]parent
}

// parent is the end of a DN that was hashed, as it was spelt.
type parent struct {
	text  []byte
	hash  uint64
	plain bool
}

// Spell returns a DN's Spelling.
func (s *Speller) Spell(dn []byte) Spelling {
	first, rest := dn, dn[len(dn):]
	if i := bytes.IndexByte(dn, ','); i >= 0 {
		first, rest = dn[:i], dn[i+1:]
	}
	name, plain := hashPlain(first)
	if !plain {
		return s.slowly(dn)
	}
	p := s.parent(rest)
	if !p.plain {
		return s.slowly(dn)
	}
	return Spelling{mix(name, p.hash), p.hash}
}

// parent finds what is known of a parent, and learns it.
func (s *Speller) parent(text []byte) *parent {
	at := uint64(len(text))
	if len(text) >= 16 {
		at = mix(binary.LittleEndian.Uint64(text)^at, binary.LittleEndian.Uint64(text[8:]))
	}
	p := &s.parents[at%uint64(len(s.parents))]
	if p.hash == 0 || !bytes.Equal(p.text, text) {
		p.text = append(p.text[:0], text...)
		p.hash, p.plain = hashPlain(text)
	}
	return p
}

// slowly finds the Spelling of a DN by its one spelling, the same that Spell finds.
func (s *Speller) slowly(dn []byte) Spelling {
	s.scratch = normalDN(dn, s.scratch[:0])
	first, rest := SplitDN(s.scratch)
	parent := hashWords(rest)
	return Spelling{mix(hashWords(first), parent), parent}
}

// hash returns one number for all spellings of a DN.
func (s *Speller) hash(dn []byte) uint64 { return s.Spell(dn).dn }

// hashPlain hashes a part of a DN as if it was in its one spelling. plain is false if
// it is written in a way that needs more than a look.
func hashPlain(text []byte) (hash uint64, plain bool) {
	h, odd := seedA, uint64(0)
	i := 0
	for ; i+8 <= len(text); i += 8 {
		w := binary.LittleEndian.Uint64(text[i:])
		odd |= w | like(w, '\\') | like(w, '"') | like(w, ';')
		if like(w, ' ')&highs != 0 && blankBeside(w, text, i) {
			return h, false
		}
		h = mix(h, lowerWord(w))
	}
	var last [8]byte
	copy(last[:], text[i:])
	w := binary.LittleEndian.Uint64(last[:])
	odd |= w | like(w, '\\') | like(w, '"') | like(w, ';')
	if odd&highs != 0 || like(w, ' ')&highs != 0 && blankAtSeparator(text, i, len(text)) {
		return h, false
	}
	return mix(mix(h, lowerWord(w)), uint64(len(text))), true
}

// hashWords hashes a part of a DN in its one spelling.
func hashWords(text []byte) uint64 {
	h := seedA
	var last [8]byte
	i := 0
	for ; i+8 <= len(text); i += 8 {
		h = mix(h, binary.LittleEndian.Uint64(text[i:]))
	}
	copy(last[:], text[i:])
	return mix(mix(h, binary.LittleEndian.Uint64(last[:])), uint64(len(text)))
}

func mix(h, w uint64) uint64 {
	high, low := bits.Mul64(h^w, seedB)
	return high ^ low ^ w
}

const ones, highs = 0x0101010101010101, 0x8080808080808080

// like sets a high bit (see highs) if one of the eight bytes of w is c: that of the
// first which is. What else it sets means nothing.
func like(w uint64, c byte) uint64 {
	x := w ^ ones*uint64(c)
	return (x - ones) &^ x
}

// blankBeside is blankAtSeparator for the eight bytes w at i, if they are ASCII.
func blankBeside(w uint64, dn []byte, i int) bool {
	each := func(c byte) uint64 { return ^(w ^ ones*uint64(c) + ones*0x7f) & highs } // all that are c
	blanks, separators := each(' '), each(',')|each('=')|each('+')
	return blanks&(separators<<8|separators>>8) != 0 ||
		blanks&0x80 != 0 && blankAtSeparator(dn, i, i+1) || blanks>>63 != 0 && blankAtSeparator(dn, i+7, i+8)
}

// lowerWord lowers the letters among eight ASCII bytes.
func lowerWord(w uint64) uint64 {
	upper := ((w + ones*(0x80-'A')) ^ (w + ones*(0x7f-'Z'))) & highs
	return w | upper>>2
}

// blankAtSeparator reports whether a blank between from and to stands beside a
// separator or at an end, where it means nothing.
func blankAtSeparator(dn []byte, from, to int) bool {
	separates := func(c byte) bool { return c == ',' || c == '=' || c == '+' }
	for i := from; i < to; i++ {
		if dn[i] == ' ' && (i == 0 || i == len(dn)-1 || separates(dn[i-1]) || separates(dn[i+1])) {
			return true
		}
	}
	return false
}

// NormalDN returns the one spelling to which all spellings of a DN come down.
// It is for comparing, not for showing.
func NormalDN(dn string) string { return string(normalDN([]byte(dn), nil)) }

// normalDN appends the one spelling: lower case, no blanks around separators,
// every escaped character written as a backslash and the character itself.
func normalDN(dn, out []byte) []byte {
	if !bytes.ContainsAny(dn, `\";`) && !blankAtSeparator(dn, 0, len(dn)) {
		return appendLower(out, dn)
	}
	lower := []byte(strings.ToLower(string(dn)))
	blanks, start := 0, true // blanks held back; at the start of a name or value
	quoted := false
	put := func(c byte, escaped bool) {
		for ; blanks > 0; blanks-- {
			out = append(out, ' ')
		}
		if escaped && strings.IndexByte(`,+="\<>;`, c) >= 0 {
			out = append(out, '\\')
		}
		out, start = append(out, c), false
	}
	for i := 0; i < len(lower); i++ {
		c := lower[i]
		switch {
		case c == '\\' && i+2 < len(lower) && isHex(lower[i+1]) && isHex(lower[i+2]):
			put(unhex(lower[i+1])<<4|unhex(lower[i+2]), true)
			i += 2
		case c == '\\' && i+1 < len(lower):
			i++
			put(lower[i], true)
		case c == '"':
			quoted = !quoted
		case quoted:
			put(c, true)
		case c == ' ':
			if !start {
				blanks++
			}
		case c == ',' || c == ';' || c == '+' || c == '=':
			if c == ';' {
				c = ','
			}
			blanks = 0
			out, start = append(out, c), true
		default:
			put(c, false)
		}
	}
	// An escaped byte of a longer character may have been upper case.
	return append(out[:0], bytes.ToLower(out)...)
}

// appendLower appends text in lower case.
func appendLower(out, text []byte) []byte {
	for i := 0; i < len(text); {
		if c := text[i]; c < utf8.RuneSelf {
			if 'A' <= c && c <= 'Z' {
				c |= 0x20
			}
			out, i = append(out, c), i+1
			continue
		}
		r, size := utf8.DecodeRune(text[i:])
		out, i = utf8.AppendRune(out, unicode.ToLower(r)), i+size
	}
	return out
}

func isHex(c byte) bool { return '0' <= c && c <= '9' || 'a' <= c && c <= 'f' }

func unhex(c byte) byte {
	if c >= 'a' {
		return c - 'a' + 10
	}
	return c - '0'
}

// SplitDN cuts a DN into its first part and the rest. rest is empty when
// there is no more.
func SplitDN[T ~string | ~[]byte](dn T) (first, rest T) {
	if b, ok := any(dn).([]byte); ok { // mostly nothing is escaped
		if i := bytes.IndexByte(b, ','); i >= 0 && bytes.IndexByte(b[:i], '\\') < 0 && bytes.IndexByte(b[:i], '"') < 0 {
			return dn[:i], dn[i+1:]
		}
	}
	quoted := false
	for i := 0; i < len(dn); i++ {
		switch dn[i] {
		case '\\':
			i++
		case '"':
			quoted = !quoted
		case ',':
			if !quoted {
				return dn[:i], dn[i+1:]
			}
		}
	}
	return dn, dn[len(dn):]
}

// DomainOf returns the DNS name that the DN's closing DC parts spell, in
// lower case; empty if there is none.
func DomainOf(dn string) string {
	var labels []string
	for rest := NormalDN(dn); rest != ""; {
		var part string
		part, rest = SplitDN(rest)
		if label, ok := strings.CutPrefix(part, "dc="); ok {
			labels = append(labels, label)
		} else {
			labels = labels[:0]
		}
	}
	return strings.Join(labels, ".")
}

// NameOf returns the value of a DN's first part, without escapes.
func NameOf(dn string) string {
	first, _ := SplitDN(dn)
	_, value, _ := strings.Cut(first, "=")
	var b strings.Builder
	for i := 0; i < len(value); i++ {
		if c := value[i]; c == '\\' && i+1 < len(value) {
			if h := strings.ToLower(value[i+1:]); len(h) >= 2 && isHex(h[0]) && isHex(h[1]) {
				b.WriteByte(unhex(h[0])<<4 | unhex(h[1]))
				i += 2
				continue
			}
			i++
		}
		b.WriteByte(value[i])
	}
	return strings.Trim(b.String(), `"`)
}
