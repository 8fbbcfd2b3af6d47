// Package printed reads what the tools of Samba and of MIT Kerberos print of
// policies and principals: lines of a name and a value, in English in every
// language. What was typed between them, prompts and messages, does not matter.
package printed

import (
	"bytes"
	"fmt"
	"io"
	"path"
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
	Format  = intake.Format{Name: "settings of a domain (samba-tool)", Detect: sambaTool.detect, Read: sambaTool.read}
	Pdbedit = intake.Format{Name: "account policies (pdbedit)", Detect: pdbedit.detect, Read: pdbedit.read, Speaks: machineOf}
	Kadmin  = intake.Format{Name: "realm (kadmin)", Detect: kadmin.detect, Read: kadmin.read}
)

const maxSize = 64 << 20

// tool is one that prints such lines.
type tool struct {
	recognise *regexp.Regexp
	expected  string
	known     func(name string) bool // whether a line of that name is kept
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
	src   *intake.Source
	into  *estate.Builder
	lines []line
}

func (t *tool) read(src *intake.Source, into *estate.Builder) error {
	raw, err := io.ReadAll(io.LimitReader(src.In, maxSize+1))
	if err != nil {
		return err
	}
	text, err := intake.Decode(raw)
	if err == nil && len(raw) > maxSize {
		err = fmt.Errorf("more than 64 MiB")
	}
	if err != nil {
		return &intake.Error{Path: src.Path, Seen: err.Error(), Expected: t.expected, Next: "save it again"}
	}
	r := &reader{src: src, into: into}
	var kept bytes.Buffer
	number := 0
	for full := range bytes.Lines(text) {
		number++
		bare := strings.TrimRight(string(full), "\r\n")
		l := line{number: number, text: strings.TrimSpace(bare)}
		l.name, l.value = parted(l.text)
		r.lines = append(r.lines, l)
		kept.WriteString(r.keep(bare, l, t.known(l.name)))
		kept.WriteString(string(full[len(bare):]))
	}
	if err := t.take(r); err != nil {
		return err
	}
	return src.Store(raw, text, kept.Bytes())
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

// keep says what is kept of a line.
func (r *reader) keep(bare string, l line, known bool) string {
	if l.text == "" || known && l.value == "" {
		return bare
	}
	kept, struck := redact.Keep(l.name, l.text, known, r.src.KeepAll)
	switch {
	case struck:
		r.src.Struck++
	case kept != l.text:
		r.src.NotKept++
	default:
		return bare
	}
	return kept
}

func (r *reader) wrong(line int, seen, expected, next string) error {
	return &intake.Error{Path: r.src.Path, Line: line, Seen: seen, Expected: expected, Next: next}
}

// row says how a line holds a setting.
type row struct {
	name string
	id   setting.ID
	unit int64 // of its number
	zero setting.Value
	most setting.Value // what the greatest number means
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
				return 0, fmt.Errorf("%q is no time that can be", text)
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

// machineOf is the machine's name, which the text does not hold: the file's.
func machineOf(file string) string {
	name := path.Base(strings.ReplaceAll(file, `\`, "/"))
	name = strings.TrimSuffix(name, path.Ext(name))
	for _, suffix := range []string{"-pdbedit", "_pdbedit", ".pdbedit", "-policies", "-policy"} {
		name = strings.TrimSuffix(name, suffix)
	}
	return strings.ToLower(name)
}
