package probe

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// measure is what can be counted of a password.
type measure struct {
	text  string
	bytes int
	units int // of UTF-16
	chars int // code points
	marks int // combining ones among them
	kinds [kinds]int
	// Bytes outside ASCII, which the Unix module takes for symbols.
	highBytes int
	// Those outside ASCII that Samba takes for lower case, upper case, and
	// anything else: it asks whether a character has another case.
	paired [3]int
}

// Kinds of characters.
const (
	lower      = iota // a to z
	upper             // A to Z
	digit             // 0 to 9
	symbol            // the rest of printable ASCII but the space
	space             // the space
	control           // of ASCII: tab and the like
	wideLower         // lower case outside ASCII
	wideUpper         // upper case outside ASCII
	wideLetter        // a letter that has no case
	wideOther         // anything else
	kinds
)

func kindOf(c rune) int {
	switch {
	case c >= 'a' && c <= 'z':
		return lower
	case c >= 'A' && c <= 'Z':
		return upper
	case c >= '0' && c <= '9':
		return digit
	case c < ' ' || c == 0x7f:
		return control
	case c == ' ':
		return space
	case c < utf8.RuneSelf:
		return symbol
	case unicode.IsLower(c):
		return wideLower
	case unicode.IsUpper(c) || unicode.IsTitle(c):
		return wideUpper
	case unicode.IsLetter(c):
		return wideLetter
	}
	return wideOther
}

func measured(text string) measure {
	m := measure{text: text, bytes: len(text), chars: utf8.RuneCountInString(text)}
	for _, c := range text {
		m.units++
		if c > 0xffff {
			m.units++
		}
		if unicode.Is(unicode.Mn, c) || unicode.Is(unicode.Me, c) {
			m.marks++
		}
		m.kinds[kindOf(c)]++
		if c >= 0x80 {
			m.highBytes += utf8.RuneLen(c)
			switch {
			case unicode.ToLower(c) != c:
				m.paired[1]++
			case unicode.ToUpper(c) != c:
				m.paired[0]++
			default:
				m.paired[2]++
			}
		}
	}
	return m
}

// Summary tells of a password what may be shown: never the password.
type Summary struct {
	Length  int      // characters
	Bytes   int      // of UTF-8
	Classes []string // those that occur
	Marks   int      // combining characters: places count them as characters of their own
}

// Summarise measures a password.
func Summarise(password string) Summary {
	m := measured(password)
	s := Summary{Length: m.chars, Bytes: m.bytes, Marks: m.marks}
	for _, c := range []struct {
		name string
		n    int
	}{
		{"lower", m.kinds[lower] + m.kinds[wideLower]}, {"upper", m.kinds[upper] + m.kinds[wideUpper]}, {"digit", m.kinds[digit]},
		{"symbol", m.kinds[symbol] + m.kinds[space]}, {"other letter", m.kinds[wideLetter]}, {"other", m.kinds[wideOther] + m.kinds[control]},
	} {
		if c.n > 0 {
			s.Classes = append(s.Classes, c.name)
		}
	}
	return s
}

// Platforms by what they count.
var (
	windows = []setting.Platform{setting.WindowsDomain, setting.WindowsMachine}
	unix    = []setting.Platform{setting.UnixMachine}
	ldap    = []setting.Platform{setting.LDAPDirectory}
	server  = []setting.Platform{setting.DirectoryServer}
	realm   = []setting.Platform{setting.KerberosRealm}
	cloud   = []setting.Platform{setting.CloudDirectory}
	infra   = []setting.Platform{setting.CloudInfra}
	suite   = []setting.Platform{setting.WorkplaceSuite}
	idp     = []setting.Platform{setting.IdentityProvider}
)

// length is that of the password as a platform counts it: Windows in units of
// UTF-16, Unix and LDAP servers in bytes, others in characters.
func (q *question) length() (n int64, text string) {
	switch {
	case slices.Contains(windows, q.Platform):
		n = int64(q.m.units)
	case slices.Contains(unix, q.Platform) || slices.Contains(ldap, q.Platform) || slices.Contains(realm, q.Platform):
		if n = int64(q.m.bytes); q.m.bytes != q.m.chars {
			return n, fmt.Sprintf("%d bytes", n)
		}
	default:
		n = int64(q.m.chars)
	}
	return n, setting.Get(setting.MinLength).Text(setting.Number(n))
}

// ofClass counts lower case, upper case, digits and symbols as platforms
// other than Windows do.
func (q *question) ofClass() [4]int64 {
	k := q.m.kinds
	symbols := k[symbol] + k[space] + k[control] + q.m.highBytes
	n, _ := q.fifth()
	symbols -= int(n)
	if slices.Contains(infra, q.Platform) {
		symbols = countAny(q.m.text, infraSymbols)
	}
	return [4]int64{int64(k[lower]), int64(k[upper]), int64(k[digit]), int64(symbols)}
}

// fifth counts a class of its own that some servers have besides the four: characters
// outside ASCII in a directory server; in a realm everything that is neither letter,
// digit nor punctuation (both tried).
func (q *question) fifth() (n int64, has bool) {
	k := q.m.kinds
	switch {
	case slices.Contains(server, q.Platform):
		return int64(q.m.highBytes), true
	case slices.Contains(realm, q.Platform):
		return int64(k[space] + k[control] + q.m.highBytes), true
	}
	return 0, false
}

// infraSymbols are those that an infrastructure cloud takes for its demand.
const infraSymbols = "!@#$%^&*()_+-=[]{}|'"

func countAny(text, set string) int {
	n := 0
	for _, c := range text {
		if strings.ContainsRune(set, c) {
			n++
		}
	}
	return n
}

// windowsSymbols are those that complexity names; a space is not among them.
const windowsSymbols = "~!@#$%^&*_-+=`|\\(){}[]:;\"'<>,.?/"

// categories counts those of the five that occur, as Windows complexity has
// them: lower case, upper case, digits, its symbols, and letters without case.
// Samba takes everything else outside ASCII for the fifth.
func (q *question) categories() int {
	k := q.m.kinds
	wide := [3]int{k[wideLower], k[wideUpper], k[wideLetter]}
	if q.Dialect == estate.Samba {
		wide = q.m.paired
	}
	n := 0
	for _, have := range []int{k[lower] + wide[0], k[upper] + wide[1], k[digit], countAny(q.m.text, windowsSymbols), wide[2]} {
		if have > 0 {
			n++
		}
	}
	return n
}
