package intake

import (
	"bytes"
	"encoding/csv"
	"strings"
)

// Cells finds where the cells of a CSV (RFC 4180) stand in its text, which begins with
// what the reader reads.
type Cells struct {
	Text   []byte
	Reader *csv.Reader
	starts []int // of the lines, as far as they were looked at
}

// Span is where one of the cells of the record that was read last stands, quotes
// included; of is how many it has.
func (k *Cells) Span(i, of int) (from, to int) {
	from = k.offset(k.Reader.FieldPos(i))
	if i+1 < of {
		return from, k.offset(k.Reader.FieldPos(i+1)) - 1
	}
	to = max(from, int(k.Reader.InputOffset()))
	return from, from + len(bytes.TrimRight(k.Text[from:to], "\r\n"))
}

// offset is where a line's column stands in the text.
func (k *Cells) offset(line, column int) int {
	if len(k.starts) == 0 {
		k.starts = []int{0}
	}
	for len(k.starts) < line {
		from := k.starts[len(k.starts)-1]
		k.starts = append(k.starts, from+bytes.IndexByte(k.Text[from:], '\n')+1)
	}
	return k.starts[line-1] + column - 1
}

// Cell writes a text as a cell of a CSV. A cell may go over lines; with as many breaks as
// what it stands for, those that follow keep their numbers.
func Cell(text string, breaks int) string {
	return `"` + strings.ReplaceAll(text, `"`, `""`) + strings.Repeat("\n", breaks) + `"`
}
