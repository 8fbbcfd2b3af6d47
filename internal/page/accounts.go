package page

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"iter"
	"strings"

	"sternledger/internal/assess"

	"sternledger/internal/terminal"

	"github.com/charmbracelet/x/ansi"
)

// shown are the columns of the accounts on a sheet, and how wide they may be.
var shown = []struct {
	head string
	most int
	cell func(*assess.AccountRow) string
}{
	{"account", 28, func(r *assess.AccountRow) string { return r.Account }},
	{"", 8, func(r *assess.AccountRow) string {
		if r.Enabled {
			return ""
		}
		return "disabled"
	}},
	{"tier", 12, func(r *assess.AccountRow) string { return r.Tier }},
	{"policy", 24, func(r *assess.AccountRow) string { return r.Policy }},
	{"rule", 8, func(r *assess.AccountRow) string { return r.Rule }},
	{"via", 24, func(r *assess.AccountRow) string { return r.Via }},
	{"flags", 60, func(r *assess.AccountRow) string { return strings.Join(r.Flags, " + ") }},
}

// Accounts draws the accounts line by line, so that a million pass through: it
// goes over them once to measure and once to print.
func Accounts(s *Sheet, rows iter.Seq[*assess.AccountRow]) error {
	widths, count := make([]int, len(shown)), 0
	for i, c := range shown {
		widths[i] = len(c.head)
	}
	for r := range rows {
		count++
		for i, c := range shown {
			if widths[i] < c.most {
				widths[i] = min(max(widths[i], width(c.cell(r))), c.most)
			}
		}
	}
	var b []byte
	line := func(cell func(i int) string) {
		b = b[:0]
		for i, wide := range widths {
			if wide == 0 {
				continue
			}
			text := cell(i)
			if used := width(text); used <= wide && plainText(text) {
				b = append(b, text...)
				b = append(b, blanks[:wide-used+2]...)
				continue
			}
			text = ansi.Truncate(Clean(text), wide, "…")
			b = append(b, text...)
			b = append(b, blanks[:wide-ansi.StringWidth(text)+2]...)
		}
		s.line(string(b))
	}
	line(func(i int) string { return shown[i].head })
	s.Rule()
	authority := ""
	for r := range rows {
		if r.Label != authority {
			authority = r.Label
			s.line(faded.Render(Clean(authority)))
		}
		line(func(i int) string { return shown[i].cell(r) })
	}
	s.Rule()
	s.line(Quantity(count, "account"))
	return s.Err()
}

const blanks = "                                                                "

// plainText reports whether text needs no care: printable ASCII.
func plainText(text string) bool {
	for i := range len(text) {
		if text[i] < ' ' || text[i] > '~' {
			return false
		}
	}
	return true
}

// width is how many columns text takes when it is printed clean.
func width(text string) int {
	if plainText(text) {
		return len(text)
	}
	return ansi.StringWidth(Clean(text))
}

// AccountsCSV writes the accounts as RFC 4180 has it, row by row.
func AccountsCSV(w io.Writer, rows iter.Seq[*assess.AccountRow]) error {
	out := csv.NewWriter(w)
	if err := out.Write(assess.AccountHead); err != nil {
		return err
	}
	for r := range rows {
		if err := out.Write(TextCells(r.Cells())); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// AccountsJSON writes the document of accounts, row by row.
func AccountsJSON(w io.Writer, rows iter.Seq[*assess.AccountRow]) error {
	w = terminal.EscapedJSON(w)
	b := bufio.NewWriter(w)
	fmt.Fprint(b, `{"schema": "sternledger/accounts/1", "accounts": [`)
	separator := "\n  "
	for r := range rows {
		if r.Flags == nil {
			r.Flags = []string{}
		}
		data, err := json.Marshal(r)
		if err != nil {
			return err
		}
		fmt.Fprintf(b, "%s%s", separator, data)
		separator = ",\n  "
	}
	fmt.Fprintln(b, "\n]}")
	return b.Flush()
}

// AccountRows gives the accounts as rows.
func AccountRows(rows iter.Seq[*assess.AccountRow]) *Rows {
	r := &Rows{Head: assess.AccountHead}
	for row := range rows {
		r.Rows = append(r.Rows, row.Cells())
	}
	return r
}
