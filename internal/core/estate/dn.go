package estate

import (
	"bytes"
	"hash/maphash"
	"strings"
	"unicode/utf8"
)

var dnSeed = maphash.MakeSeed()

// hashDN returns one number for all spellings of a DN (RFC 4514): case,
// escaping and blanks around its separators do not count. It is stable for
// one run of the program only. scratch is reused.
func hashDN(dn []byte, scratch *[]byte) uint64 {
	buf := (*scratch)[:0]
	for i, c := range dn {
		if c == '\\' || c == '"' || c == ';' || c >= utf8.RuneSelf || c == ' ' && atSeparator(dn, i) {
			buf = normalDN(dn, buf[:0])
			break
		}
		if 'A' <= c && c <= 'Z' {
			c |= 0x20
		}
		buf = append(buf, c)
	}
	*scratch = buf
	return maphash.Bytes(dnSeed, buf)
}

// atSeparator reports whether the blank at i stands beside a separator or at an
// end, where it means nothing.
func atSeparator(dn []byte, i int) bool {
	separates := func(c byte) bool { return c == ',' || c == '=' || c == '+' || c == ' ' }
	return i == 0 || i == len(dn)-1 || separates(dn[i-1]) || separates(dn[i+1])
}

// NormalDN returns the one spelling to which all spellings of a DN come down.
// It is for comparing, not for showing.
func NormalDN(dn string) string { return string(normalDN([]byte(dn), nil)) }

// normalDN appends the one spelling: lower case, no blanks around separators,
// every escaped character written as a backslash and the character itself.
func normalDN(dn, out []byte) []byte {
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
	if bytes.IndexByte(dn, '\\') >= 0 {
		return append(out[:0], bytes.ToLower(out)...)
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
