// Package netaccounts reads what "net accounts" prints of a Windows machine: eight
// lines in a fixed order, in the machine's language. Nothing depends on the words:
// where no number stands, the place of the line says what is meant.
package netaccounts

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
)

// Format is the output of net accounts.
var Format = intake.Format{Name: "net accounts (text)", Detect: detect, Read: whole.Read, Speaks: intake.MachineOf}

const (
	minute = 60
	day    = 24 * 60 * minute
)

// line is one of the eight: what it sets, the unit of its number, and what a word
// in the number's place means.
type line struct {
	id   setting.ID
	unit int64
	word setting.Value // not set: no word may stand there
	zero setting.Value // what 0 means; not set: the number
}

// lines are they, in their order.
var lines = []line{
	{id: "logoff-at-hours-end"},
	{id: "min-age", unit: day, zero: setting.Of(setting.AtOnce)},
	{id: "max-age", unit: day, word: setting.Of(setting.Never)},
	{id: "min-length", unit: 1, word: setting.Number(0)},
	{id: "history", unit: 1, word: setting.Number(0)},
	{id: "lockout-threshold", unit: 1, word: setting.Of(setting.Never), zero: setting.Of(setting.Never)},
	{id: "lockout-duration", unit: minute, word: setting.Of(setting.UntilAdmin), zero: setting.Of(setting.UntilAdmin)},
	{id: "lockout-window", unit: minute, zero: setting.Of(setting.AtOnce)},
}

// entry is a text with a value behind it, at its right end.
var entry = regexp.MustCompile(`^\s*(\S.*?[:?]|\S.*?\S):?\s{2,}(\S+(?: \S+)?)\s*$`)

// found are the eight lines of a text, with the line of the first; the ninth is the
// machine's role.
func found(text []byte) (values []string, numbers []int, raws []string) {
	n := 0
	for raw := range bytes.Lines(text) {
		n++
		m := entry.FindSubmatch(bytes.TrimRight(raw, "\r\n"))
		if m == nil {
			if len(values) > 0 && len(values) < len(lines) {
				values, numbers, raws = nil, nil, nil // a gap within them
			}
			continue
		}
		if len(values) == len(lines) && !fits(values) { // lines of something else stood above
			values, numbers, raws = values[1:], numbers[1:], raws[1:]
		}
		if len(values) < len(lines)+1 {
			values, numbers, raws = append(values, string(m[2])), append(numbers, n), append(raws, string(bytes.TrimSpace(raw)))
		}
	}
	return values, numbers, raws
}

// word is what stands in a number's place: never, none, unlimited, in any language.
var word = regexp.MustCompile(`^[\p{L}\p{M}]{1,20}(?: [\p{L}\p{M}]{1,20})?$`)

// fits reports whether eight values stand where numbers and words can stand.
func fits(values []string) bool {
	for i, l := range lines {
		_, err := strconv.ParseUint(values[i], 10, 32)
		if err != nil && (l.unit > 0 && !l.word.IsSet() || !word.MatchString(values[i])) {
			return false
		}
	}
	return true
}

func detect(_ string, head []byte) bool {
	values, _, _ := found(intake.Opening(head))
	if len(values) < len(lines) || !fits(values[:len(lines)]) || ofDomain(values) {
		return false
	}
	n := 0
	for _, v := range values[1:len(lines)] {
		if _, err := strconv.Atoi(v); err == nil {
			n++
		}
	}
	return n >= 4
}

// ofDomain reports whether the values are a domain's: those of a machine whose role
// is that of a controller. The text does not name the domain.
func ofDomain(values []string) bool {
	if len(values) <= len(lines) {
		return false
	}
	role := strings.ToUpper(values[len(lines)])
	return role == "PRIMARY" || role == "BACKUP"
}

// OfDomain reports whether a text is what net accounts prints of a domain.
func OfDomain(head []byte) bool {
	values, _, _ := found(intake.Opening(head))
	return len(values) > len(lines) && fits(values[:len(lines)]) && ofDomain(values)
}

var whole = intake.Whole{Most: 1 << 20, Expected: "what net accounts prints", Next: "save it again", Take: take}

func take(t *intake.Text, into *estate.Builder) error {
	values, numbers, raws := found(t.Bytes)
	if len(values) < len(lines) || !fits(values[:len(lines)]) {
		return t.Wrong(0, fmt.Sprintf("%d of the eight lines of net accounts", len(values)), "all of them, in their order",
			"save its whole output again")
	}
	for l := range t.Lines() {
		if i := slices.Index(numbers, l.Number); i >= 0 && (i < len(lines) || word.MatchString(values[i])) {
			t.Took(l)
		}
	}
	name := intake.MachineOf(t.Path)
	a := into.At(estate.Place{Name: name, Kind: estate.Machine})
	if a.Head == nil {
		a.Head = &estate.Policy{Name: "local", Origin: intake.FileName(t.Path), Standing: estate.Enforced,
			Platform: setting.WindowsMachine,
			Settings: estate.Settings{}, Cite: into.Cite(numbers[0], "", raws[0])}
	}
	a.Platform = setting.WindowsMachine
	for i, l := range lines {
		c := into.Cite(numbers[i], string(l.id), raws[i])
		n, err := strconv.ParseInt(values[i], 10, 64)
		switch {
		case l.unit == 0:
			into.Set(a.Head.Settings, setting.WindowsMachine, l.id, setting.Switch(err == nil), c)
		case err != nil:
			into.Set(a.Head.Settings, setting.WindowsMachine, l.id, l.word, c)
		case n == 0 && l.zero.IsSet():
			into.Set(a.Head.Settings, setting.WindowsMachine, l.id, l.zero, c)
		default:
			into.Set(a.Head.Settings, setting.WindowsMachine, l.id, setting.Number(n*l.unit), c)
		}
	}
	return nil
}
