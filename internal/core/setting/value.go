package setting

import "strconv"

// Special is a value that platforms write as a magic number and that this
// program never compares as one.
type Special string

// The specials. Which setting knows which of them is a column of the table.
const (
	Never      Special = "never"       // max-age: does not expire; lockout-threshold: does not lock
	AtOnce     Special = "at-once"     // min-age: a new password can be changed again at once; lockout-window: a failure is forgotten at once
	UntilAdmin Special = "until-admin" // lockout-duration: only an administrator unlocks
	Unlimited  Special = "unlimited"   // no upper bound
)

var specials = []Special{Never, AtOnce, UntilAdmin, Unlimited}

type form uint8

const (
	formUnset form = iota
	formNumber
	formWord
	formSpecial
)

// Value is what one setting holds: a number (characters, a count, or seconds),
// a word (on, off, or a choice), a special, or nothing. It is small and
// comparable with ==. The zero Value is "not set".
type Value struct {
	form form
	n    int64
	word string
}

// On and Off are the two values of a switch.
var (
	On  = Word("on")
	Off = Word("off")
)

// Number returns a count, a length in characters, or a duration in seconds.
func Number(n int64) Value { return Value{form: formNumber, n: n} }

// Word returns the value of a switch or a choice.
func Word(w string) Value { return Value{form: formWord, word: w} }

// Switch returns On or Off.
func Switch(on bool) Value {
	if on {
		return On
	}
	return Off
}

// Of returns the special as a Value.
func Of(s Special) Value { return Value{form: formSpecial, word: string(s)} }

// IsSet reports whether v holds anything at all.
func (v Value) IsSet() bool { return v.form != formUnset }

// Number returns the number and whether v is one.
func (v Value) Number() (int64, bool) { return v.n, v.form == formNumber }

// Special returns the special and whether v is one.
func (v Value) Special() (Special, bool) { return Special(v.word), v.form == formSpecial }

// Word returns the word of a switch or choice and whether v is one.
func (v Value) Word() (string, bool) { return v.word, v.form == formWord }

// Is reports whether v is the special s.
func (v Value) Is(s Special) bool { return v == Of(s) }

// MarshalText writes the form that needs no table to be read back: digits for
// a number, else the word. Not set is empty. UnmarshalText is its inverse.
func (v Value) MarshalText() ([]byte, error) {
	if v.form == formNumber {
		return strconv.AppendInt(nil, v.n, 10), nil
	}
	return []byte(v.word), nil
}

// UnmarshalText reads what MarshalText wrote.
func (v *Value) UnmarshalText(text []byte) error {
	*v = plain(string(text))
	return nil
}

// plain reads a bare word or number. Every text is one of the four forms.
func plain(text string) Value {
	if text == "" {
		return Value{}
	}
	if n, err := strconv.ParseInt(text, 10, 64); err == nil {
		return Number(n)
	}
	for _, s := range specials {
		if text == string(s) {
			return Of(s)
		}
	}
	return Word(text)
}
