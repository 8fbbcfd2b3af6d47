// Package printed reads what the tools of Samba and of MIT Kerberos print of
// policies and principals: lines of a name and a value, in English in every
// language. What was typed between them, prompts and messages, does not matter.
package printed

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
	"sternledger/internal/redact"
)

// The formats: a domain as samba-tool shows it, the policies of an old-style Samba
// server, and a realm as kadmin shows it.
var (
	Format  = intake.Format{Name: "settings of a domain (samba-tool)", Detect: sambaTool.detect, Read: sambaTool.whole().Read}
	Pdbedit = intake.Format{Name: "account policies (pdbedit)", Detect: pdbedit.detect, Read: pdbedit.whole().Read, Speaks: intake.MachineOf}
	Kadmin  = intake.Format{Name: "realm (kadmin)", Detect: kadmin.detect, Read: kadmin.whole().Read}
)

// tool is one that prints such lines.
type tool struct {
	recognise *regexp.Regexp
	expected  string
	rows      []row                        // its settings
	known     func(name, text string) bool // whether a line that is no setting is one of its own
	take      func(r *reader) error
}

func (t *tool) detect(_ string, head []byte) bool { return t.recognise.Match(intake.Opening(head)) }

// line is one of a name and a value.
type line struct {
	number            int
	name, value, text string
}

// reader is a text that is being read.
type reader struct {
	*intake.Text
	into  *estate.Builder
	lines []line
}

func (t *tool) whole() *intake.Whole {
	return &intake.Whole{Most: 64 << 20, Expected: t.expected, Next: "save it again", Take: func(text *intake.Text, into *estate.Builder) error {
		r := &reader{Text: text, into: into}
		for l := range text.Lines() {
			l = l.Trimmed()
			r.lines = append(r.lines, t.line(text, l))
		}
		return t.take(r)
	}}
}

// line takes what is known of a line; of the rest a mark stands there.
func (t *tool) line(text *intake.Text, l intake.Line) line {
	name, value := parted(l.Text)
	switch x := named(t.rows, name); {
	case x == nil && t.known(name, l.Text), x != nil && (value == "" || x.holds(value)):
		l.Text = text.Took(l)
	case x != nil: // the setting is there, and its value is none
		at := l.To() - len(value)
		text.Read(l.From, at)
		l.Text = l.Text[:len(l.Text)-len(value)] + text.Rest(at, l.To(), "", value, nil)
	default:
		l.Text = text.Left(l, name)
	}
	name, value = parted(l.Text)
	return line{l.Number, name, value, l.Text}
}

// parted parts a line at the colon behind its name, or at pdbedit's words.
func parted(text string) (name, value string) {
	if rest, ok := strings.CutPrefix(text, `account policy "`); ok {
		name, value, _ = strings.Cut(rest, `" value is: `)
		return name, strings.TrimSpace(value)
	}
	name, value, _ = strings.Cut(text, ":")
	return strings.TrimSpace(name), strings.TrimSpace(value)
}

// row says how a line holds a setting.
type row struct {
	name string
	id   setting.ID
	unit int64 // of its number
	zero setting.Value
	most setting.Value // what the greatest number means
}

// holds reports whether a value is one that the row can have.
func (x *row) holds(value string) bool {
	_, err := numberOf(value)
	return err == nil || value == "on" || value == "off"
}

func named(rows []row, name string) *row {
	for i := range rows {
		if rows[i].name == name {
			return &rows[i]
		}
	}
	return nil
}

const unlimited = 1<<32 - 1

// set takes a line into settings.
func (r *reader) set(into estate.Settings, p setting.Platform, x *row, l line) {
	c := r.into.Cite(l.number, x.name, l.value)
	var v setting.Value
	switch n, err := numberOf(l.value); {
	case l.value == "on" || l.value == "off":
		v = setting.Switch(l.value == "on")
	case err != nil:
		r.into.Unreadable(into, x.id, c, err.Error())
		return
	case n == 0 && x.zero.IsSet():
		v = x.zero
	case n == unlimited && x.most.IsSet():
		v = x.most
	default:
		v = setting.Number(n * x.unit)
	}
	r.into.Set(into, p, x.id, v, c)
}

// lasting is a time as kadmin writes it.
var lasting = regexp.MustCompile(`^(\d+) days? (\d\d):(\d\d):(\d\d)$`)

func numberOf(text string) (int64, error) {
	if m := lasting.FindStringSubmatch(text); m != nil {
		seconds := int64(0)
		for i, unit := range []int64{86400, 3600, 60, 1} {
			n, err := strconv.ParseInt(m[i+1], 10, 32)
			if err != nil {
				return 0, fmt.Errorf("%s is no time that can be", redact.Quote([]byte(text)))
			}
			seconds += n * unit
		}
		return seconds, nil
	}
	n, err := strconv.ParseInt(text, 10, 40)
	if err != nil || n < 0 {
		return 0, fmt.Errorf("%s is not a whole number", redact.Quote([]byte(text)))
	}
	return n, nil
}
