package page

import (
	"encoding/csv"
	"encoding/json"
	"io"
	"strconv"
	"strings"

	"sternledger/internal/terminal"
)

// JSON writes a document.
func JSON(w io.Writer, document any) error {
	e := json.NewEncoder(terminal.EscapedJSON(w))
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(document)
}

// Rows is output as plain rows: what CSV and Markdown carry.
type Rows struct {
	Head []string
	Rows [][]string
}

// CSV writes the rows as RFC 4180 has it. A cell that a spreadsheet would take
// for a formula is preceded by an apostrophe, which makes it text there.
func (r *Rows) CSV(w io.Writer) error {
	out := csv.NewWriter(w)
	if err := out.Write(r.Head); err != nil {
		return err
	}
	for _, row := range r.Rows {
		if err := out.Write(TextCells(row)); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// TextCells returns the row with every cell that looks like a formula made
// text. A lone sign and a plain number are not formulas.
func TextCells(row []string) []string {
	safe := make([]string, len(row))
	for i, cell := range row {
		safe[i] = cell
		if len(cell) > 1 && strings.ContainsRune("=+-@\t\r", rune(cell[0])) {
			if _, err := strconv.ParseFloat(cell, 64); err != nil {
				safe[i] = "'" + cell
			}
		}
	}
	return safe
}

var markdownCell = strings.NewReplacer("|", `\|`, "\n", " ", "<", "&lt;", "`", "\\`")

// Markdown writes the rows as a table.
func (r *Rows) Markdown(w io.Writer) error {
	var b strings.Builder
	line := func(cells []string) {
		for _, c := range cells {
			b.WriteString("| " + markdownCell.Replace(Clean(c)) + " ")
		}
		b.WriteString("|\n")
	}
	line(r.Head)
	b.WriteString(strings.Repeat("| --- ", len(r.Head)) + "|\n")
	for _, row := range r.Rows {
		line(row)
	}
	_, err := io.WriteString(w, b.String())
	return err
}
