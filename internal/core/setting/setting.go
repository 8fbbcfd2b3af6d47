// Package setting is the table of everything that can be set about passwords
// and lockout, and the values such a setting can hold.
package setting

import (
	"cmp"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strconv"
	"strings"
)

// ID names a setting, such as "min-length".
type ID string

// Platform names a kind of place that enforces settings.
type Platform string

// Kind says what a setting's number means.
type Kind string

// The kinds.
const (
	Count    Kind = "count"
	Length   Kind = "length"   // characters
	Duration Kind = "duration" // held in seconds
	Toggle   Kind = "switch"
	Choice   Kind = "choice" // the choices are ordered from weak to strong
)

// Direction says which way a setting gets stronger. The zero Direction says
// that neither way does.
type Direction int

// Higher: a greater number, or a later choice, is stronger. Lower: the reverse.
const (
	Higher Direction = 1
	Lower  Direction = -1
)

// Rank places a special among the numbers of its setting.
type Rank int

// Undecided: only a baseline can say.
const (
	Undecided Rank = 0
	Weakest   Rank = -1
	Strongest Rank = 1
)

// Known is one special that a setting may hold, where it stands among the
// setting's numbers, and how it is printed for people.
type Known struct {
	Special Special
	Rank    Rank
	Phrase  string
	// Fails: no demand is met by it unless it says so, and none has to say so.
	Fails bool
}

// Range is what a platform itself allows, both ends included, in the
// setting's own unit.
type Range struct{ Low, High int64 }

// Setting is one row of the table.
type Setting struct {
	ID       ID
	Title    string
	Kind     Kind
	Noun     string // what a count counts, in the plural
	OldNoun  string // in files that people wrote for earlier versions
	TurnOff  string // how one says that it is to be switched off, where that has words of its own
	Specials []Known
	Choices  []string
	Stronger Direction
	On       []Platform // the platforms that have this setting
	Limits   map[Platform]Range
	Defaults map[Platform]Value // of a new installation
	Felt     Felt
	// Of are the settings of which this one is the strongest; no place is asked for
	// it by itself.
	Of      []ID
	Meaning string
}

// Felt says when whoever is governed by a setting meets a change of it.
type Felt uint8

const (
	AtSignIn     Felt = iota // or nobody can say: it has to be played
	AtNextChange             // it asks something of new passwords only
	Later                    // from the next failed attempt, lock or change on
)

// ErrValue is wrapped by every error about a value.
var ErrValue = errors.New("not a value of this setting")

// Table goes through all settings in the order in which pages show them. They are the
// program's own: nobody changes them.
func Table() iter.Seq2[int, *Setting] {
	return func(yield func(int, *Setting) bool) {
		for i := range table {
			if !yield(i, &table[i]) {
				return
			}
		}
	}
}

// IDs are the names of all settings, in that order.
func IDs() []string {
	var all []string
	for _, s := range Table() {
		all = append(all, string(s.ID))
	}
	return all
}

var byID = func() map[ID]*Setting {
	m := make(map[ID]*Setting, len(table))
	for i := range table {
		m[table[i].ID] = &table[i]
	}
	return m
}()

// Lookup returns the setting called id.
func Lookup(id ID) (*Setting, bool) {
	s, ok := byID[id]
	return s, ok
}

// Get returns the setting called id, which the program itself must know.
func Get(id ID) *Setting {
	s, ok := byID[id]
	if !ok {
		panic("setting: no row for " + string(id))
	}
	return s
}

// Order compares two ids by their place in the table.
func Order(a, b ID) int { return cmp.Compare(place(a), place(b)) }

func place(id ID) int {
	if i, ok := places[id]; ok {
		return i
	}
	return -1
}

var places = func() map[ID]int {
	m := make(map[ID]int, len(table))
	for i := range table {
		m[table[i].ID] = i
	}
	return m
}()

// spanUnit is a unit of time.
type spanUnit struct {
	seconds int64
	one     string
	short   []string
}

var units = []spanUnit{
	{day, "day", []string{"d"}},
	{hour, "hour", []string{"h"}},
	{minute, "minute", []string{"m", "min"}},
	{second, "second", []string{"s", "sec"}},
}

// Exists reports whether the platform has this setting at all. Of a platform
// that the table does not know, nothing can be ruled out.
func (s *Setting) Exists(p Platform) bool { return p == Other || slices.Contains(s.On, p) }

// Text prints v for people: "42 days", "never expires", "14 characters", "on".
// Parse is its inverse.
func (s *Setting) Text(v Value) string {
	if !v.IsSet() {
		return "not set"
	}
	if sp, ok := v.Special(); ok {
		for _, k := range s.Specials {
			if k.Special == sp {
				return k.Phrase
			}
		}
		return string(sp)
	}
	n, ok := v.Number()
	if !ok {
		return v.word
	}
	if s.Kind == Duration {
		return Span(n)
	}
	return quantity(n, s.Noun)
}

// Span prints seconds in the largest unit that loses nothing; where that makes
// a long number of small units, in several units.
func Span(seconds int64) string {
	const long = 1000
	for _, u := range units {
		if seconds%u.seconds == 0 && (seconds != 0 || u.seconds == second) {
			if n := seconds / u.seconds; u.seconds == day || n < long && n > -long {
				return quantity(n, u.one+"s")
			}
			break
		}
	}
	var parts []string
	for _, u := range units {
		if n := seconds / u.seconds; n != 0 {
			parts = append(parts, quantity(n, u.one+"s"))
			seconds -= n * u.seconds
		}
	}
	return strings.Join(parts, " ")
}

// parseSpan reads what Span writes: numbers with their units.
func parseSpan(text string) (seconds int64, ok bool) {
	for rest := text; rest != ""; {
		rest = strings.TrimLeft(rest, " ")
		digits := len(rest) - len(strings.TrimLeft(rest, "-0123456789"))
		n, err := strconv.ParseInt(rest[:digits], 10, 64)
		if err != nil || n > 1<<40 || n < -1<<40 {
			return 0, false
		}
		rest = strings.TrimLeft(rest[digits:], " ")
		end := strings.IndexAny(rest, " -0123456789")
		if end < 0 {
			end = len(rest)
		}
		i := slices.IndexFunc(units, func(u spanUnit) bool {
			return rest[:end] == u.one || rest[:end] == u.one+"s" || slices.Contains(u.short, rest[:end])
		})
		if i < 0 {
			return 0, false
		}
		seconds, rest = seconds+n*units[i].seconds, strings.TrimLeft(rest[end:], " ")
	}
	return seconds, text != ""
}

func quantity(n int64, plural string) string {
	if n == 1 || n == -1 {
		plural = singular(plural)
	}
	return strings.TrimSpace(strconv.FormatInt(n, 10) + " " + plural)
}

func singular(plural string) string {
	switch {
	case strings.HasSuffix(plural, "ies"):
		return strings.TrimSuffix(plural, "ies") + "y"
	case strings.HasSuffix(plural, "sses"):
		return strings.TrimSuffix(plural, "es")
	}
	return strings.TrimSuffix(plural, "s")
}

// Parse reads a value as people and baselines write it: a number with its
// unit ("15 minutes", "15m"), a word, or a special by its name or phrase. A
// duration without a unit is refused.
func (s *Setting) Parse(text string) (Value, error) {
	word := strings.ToLower(strings.TrimSpace(text))
	if word == "not set" {
		return Value{}, nil
	}
	for _, k := range s.Specials {
		if word == string(k.Special) || word == k.Phrase {
			return Of(k.Special), nil
		}
	}
	if len(s.Choices) > 0 {
		if slices.Contains(s.Choices, word) {
			return Word(word), nil
		}
		return Value{}, s.refuse(text)
	}
	if s.Kind == Duration {
		n, ok := parseSpan(word)
		if !ok {
			return Value{}, s.refuse(text)
		}
		return Number(n), nil
	}
	digits := strings.TrimLeft(word, "-0123456789")
	n, err := strconv.ParseInt(word[:len(word)-len(digits)], 10, 64)
	if err != nil || n > 1<<40 || n < -1<<40 {
		return Value{}, s.refuse(text)
	}
	if unit := strings.TrimSpace(digits); unit != "" && !slices.Contains([]string{s.Noun, singular(s.Noun), s.OldNoun, singular(s.OldNoun)}, unit) {
		return Value{}, s.refuse(text)
	}
	return Number(n), nil
}

func (s *Setting) refuse(text string) error {
	return fmt.Errorf("%s %q: %w; expected %s", s.ID, text, ErrValue, s.Expects())
}

// Expects says in words what the setting takes.
func (s *Setting) Expects() string {
	var forms []string
	switch {
	case len(s.Choices) > 0:
		forms = append(forms, s.Choices...)
	case s.Kind == Duration:
		forms = append(forms, `a time with its unit, such as "15 minutes" or "42 days"`)
	default:
		forms = append(forms, "a number of "+s.Noun)
	}
	for _, k := range s.Specials {
		forms = append(forms, string(k.Special))
	}
	return strings.Join(forms, ", or ")
}

// Allows reports whether the platform itself lets v be set. A platform or
// setting without a known limit allows every number that is not negative.
func (s *Setting) Allows(p Platform, v Value) error {
	n, ok := v.Number()
	if !ok {
		return nil
	}
	r, known := s.Limits[p]
	switch {
	case known && (n < r.Low || n > r.High):
		return fmt.Errorf("%s is outside what the platform allows: %s to %s",
			s.Text(v), s.Text(Number(r.Low)), s.Text(Number(r.High)))
	case n < 0:
		return fmt.Errorf("%s is negative", s.Text(v))
	}
	return nil
}

// BeyondPolicy reports whether a domain holds a value that group policy could
// not have set, and says what it can set. Specials are no numbers, and fine.
func (s *Setting) BeyondPolicy(p Platform, v Value) (can string, beyond bool) {
	n, ok := v.Number()
	r, known := s.Limits[WindowsTemplate]
	if !ok || !known || p != WindowsDomain || n >= r.Low && n <= r.High {
		return "", false
	}
	return s.Text(Number(r.Low)) + " to " + s.Text(Number(r.High)), true
}

// Compare says whether a is stronger than b (positive), weaker (negative) or
// as strong (0). ok is false where the table cannot tell: one of them is not
// set, the setting has no stronger way, or a special that only a baseline can
// place is among them.
func (s *Setting) Compare(a, b Value) (order int, ok bool) {
	if a == b {
		return 0, a.IsSet()
	}
	rankA, sideA, okA := s.strength(a)
	rankB, sideB, okB := s.strength(b)
	if !okA || !okB {
		return 0, false
	}
	if sideA != sideB {
		return cmp.Compare(sideA, sideB), true
	}
	return cmp.Compare(rankA, rankB), true
}

// strength places v: by its special's rank first, then by its number.
func (s *Setting) strength(v Value) (rank int64, side Rank, ok bool) {
	switch v.form {
	case formSpecial:
		for _, k := range s.Specials {
			if string(k.Special) == v.word {
				return 0, k.Rank, k.Rank != Undecided
			}
		}
		return 0, 0, false
	case formWord:
		i := slices.Index(s.Choices, v.word)
		return int64(s.Stronger) * int64(i), 0, s.Stronger != 0 && i >= 0
	case formNumber:
		return int64(s.Stronger) * v.n, 0, s.Stronger != 0 && len(s.Choices) == 0
	}
	return 0, 0, false
}

// Switched says in words that the setting is to be on or off.
func (s *Setting) Switched(to string) string {
	if to == "off" && s.TurnOff != "" {
		return s.TurnOff
	}
	return "Switch " + strings.ToLower(s.Title) + " " + to
}

// Renamed is a text of an earlier version with the words of this one.
func (s *Setting) Renamed(text string) string {
	if s.OldNoun == "" {
		return text
	}
	return strings.NewReplacer(s.OldNoun, s.Noun, singular(s.OldNoun), singular(s.Noun)).Replace(text)
}
