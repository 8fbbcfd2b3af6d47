package shell

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"

	"sternledger/internal/intake"
	"sternledger/internal/redact"
)

// head is the line of a CSV's names, behind the line that tells the type.
func head(text []byte) (skip, line []byte) {
	blank := len(text) - len(bytes.TrimLeft(text, "\r\n")) // as wmic begins
	text, whole := text[blank:], text
	line, _, _ = bytes.Cut(text, []byte("\n"))
	skip = whole[:blank]
	if bytes.HasPrefix(line, []byte("#TYPE")) || bytes.HasPrefix(line, []byte("sep=")) {
		skip = whole[:min(blank+len(line)+1, len(whole))]
		line, _, _ = bytes.Cut(whole[len(skip):], []byte("\n"))
	}
	return skip, bytes.TrimRight(line, "\r")
}

func isCSV(k *kind, text []byte) bool {
	_, line := head(text)
	c := csv.NewReader(bytes.NewReader(line))
	c.Comma = intake.Separator(line)
	cells, err := c.Read()
	return err == nil && len(cells) >= 3 && tells(k.telling, among(cells))
}

// plainSkip is the line that tells a type, or a separator, and nothing else.
var plainSkip = regexp.MustCompile(`^[\r\n]*(?:(?:#TYPE [\w.]+|sep=.)\r?\n)?$`)

// readCSV reads a row for each object, as a stream.
func readCSV(r *reader, in io.Reader) error {
	decoded := intake.Decoder(in)
	defer func() {
		if decoded.OtherPage {
			r.into.NotUnderstood(r.into.Cite(1, "", ""), intake.OtherPage)
		}
	}()
	text := bufio.NewReaderSize(decoded, 1<<16)
	opening, err := text.Peek(intake.HeadSize)
	if err != nil && err != io.EOF {
		return err
	}
	skip, line := head(opening)
	r.src.Differs() // rows are written anew
	if _, err := text.Discard(len(skip)); err != nil {
		return err
	}
	if plainSkip.Match(skip) {
		if _, err := r.src.Keep.Write(skip); err != nil {
			return err
		}
	} else if _, err := fmt.Fprintf(r.src.Keep, "#TYPE %s\n", redact.NotKept); err != nil {
		return err
	}
	c := csv.NewReader(text)
	c.Comma, c.ReuseRecord = intake.Separator(line), true
	above := bytes.Count(skip, []byte("\n"))
	read, err := c.Read()
	if err != nil {
		return r.row(above, err)
	}
	o, rules := r.columns(read)
	out := csv.NewWriter(r.src.Keep)
	out.Comma = c.Comma
	shown := make([]string, len(read))
	for i, name := range read {
		if shown[i] = name; !redact.PlainName(strings.TrimSpace(name)) && !rules[i].known {
			shown[i] = redact.NotKept
			r.src.NotKept++
		}
	}
	if err := out.Write(shown); err != nil {
		return err
	}
	for {
		cells, err := c.Read()
		if err == io.EOF {
			break
		}
		if err != nil {
			return r.row(above, err)
		}
		at, _ := c.FieldPos(0)
		o.line = above + at
		for i, cell := range cells {
			shown[i] = r.cell(&o.props[i], &rules[i], cell, o.line)
		}
		if err := out.Write(shown); err != nil {
			return err
		}
		if err := r.one(o); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// row says what is wrong with a row.
func (r *reader) row(above int, err error) error {
	at := 0
	var where *csv.ParseError
	if errors.As(err, &where) {
		at, err = above+where.Line, where.Err
	}
	return r.wrong(at, err.Error(), "as many cells as there are names", "export it again as CSV; a file that was opened and saved in "+
		"between may have changed")
}

// rule is what holds for all cells of a column.
type rule struct {
	known, secret, list bool
	can                 holds
}

// columns makes the object into which every row is read.
func (r *reader) columns(names []string) (*object, []rule) {
	o := &object{index: map[string]int{}}
	var rules []rule
	for i, name := range names {
		name = strings.TrimSpace(name)
		lower := strings.ToLower(name)
		o.props = append(o.props, property{name: strings.Clone(name)})
		if _, twice := o.index[lower]; !twice {
			o.index[lower] = i
		}
		can, known := r.kind.known[lower]
		rules = append(rules, rule{known: known, can: can, secret: redact.Name(name), list: collections[lower]})
	}
	return o, rules
}

// cell reads one, and returns what is kept of it.
func (r *reader) cell(p *property, is *rule, cell string, line int) string {
	*p = property{name: p.name, line: line}
	if cell == "" {
		return ""
	}
	known := is.known && (is.can == nil || r.kind.reads(strings.ToLower(p.name), strings.TrimSpace(cell)))
	if !known && !is.secret && !r.src.KeepAll && !redact.Look(cell) && !redact.IsMark(cell) {
		r.src.NotKept++
		p.text = redact.NotKept
		return redact.NotKept + breaks(cell)
	}
	kept, struck := redact.Keep(p.name, cell, known, r.src.KeepAll)
	if kept == cell {
		p.set(cell, is.list)
		return cell
	}
	if struck {
		r.src.Struck++
	} else {
		r.src.NotKept++
	}
	p.text = kept
	return kept + breaks(cell)
}

// breaks are the line breaks of a value: the copy stays line for line the same.
func breaks(cell string) string { return strings.Repeat("\n", strings.Count(cell, "\n")) }
