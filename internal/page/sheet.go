// Package page draws: what commands print for people and for other programs.
// It knows how things look and nothing of how they are found out.
package page

import (
	"bufio"
	"fmt"
	"io"
	"strings"
	"unicode"

	"charm.land/lipgloss/v2"
	"charm.land/lipgloss/v2/table"
	"github.com/charmbracelet/x/ansi"
)

// Widths between which a sheet stays readable.
const (
	narrowest = 60
	widest    = 120
)

// margin is the width of the column at the left that carries the verdict.
const margin = 13

// Sheet is a page of the ledger on a terminal: ruled lines, and a margin
// column with the verdict as a word. The first error of the writer is kept.
type Sheet struct {
	w     *bufio.Writer
	width int
	err   error
}

// NewSheet returns a sheet of that width, within what is readable.
func NewSheet(w io.Writer, width int) *Sheet {
	return &Sheet{w: bufio.NewWriterSize(w, 64<<10), width: min(max(width, narrowest), widest)}
}

// Err ends the sheet and returns the first error of writing.
func (s *Sheet) Err() error {
	if err := s.w.Flush(); s.err == nil {
		s.err = err
	}
	return s.err
}

// The inks. They go with words, never in their place. Each stands in the
// palette of 256 colours too, so that no two become one there.
var (
	plain = lipgloss.NewStyle()
	faded = lipgloss.NewStyle().Foreground(lipgloss.Color("#5f5f5f"))
	heavy = lipgloss.NewStyle().Bold(true)
	rust  = lipgloss.NewStyle().Foreground(lipgloss.Color("#870000")).Bold(true)
	ochre = lipgloss.NewStyle().Foreground(lipgloss.Color("#875f00")).Bold(true)
	slate = lipgloss.NewStyle().Foreground(lipgloss.Color("#005f5f")).Bold(true)
)

// inks are the words that have an ink of their own.
var inks = map[string]lipgloss.Style{"weak": rust, "conflicting": ochre, "missing": slate}

func ink(word string) lipgloss.Style {
	if style, ok := inks[word]; ok {
		return style
	}
	return plain
}

func (s *Sheet) line(text string) {
	if s.err == nil {
		_, s.err = fmt.Fprintln(s.w, strings.TrimRight(text, " "))
	}
}

// Blank leaves a line free.
func (s *Sheet) Blank() { s.line("") }

// Rule draws a thin line across the sheet.
func (s *Sheet) Rule() { s.line(faded.Render(strings.Repeat("─", s.width))) }

// Title writes a heading with something at its right end, and a rule below.
func (s *Sheet) Title(left, right string) {
	if right = Clean(right); right != "" {
		right = faded.Render(right)
	}
	s.spread(heavy.Render(Clean(left)), right)
	s.Rule()
}

// spread puts one text at the left and one at the right end of a line, or
// below each other where they do not fit.
func (s *Sheet) spread(left, right string) {
	gap := s.width - ansi.StringWidth(left) - ansi.StringWidth(right)
	if gap < 2 {
		for _, l := range wrap(left, s.width) {
			s.line(l)
		}
		if right != "" {
			s.line(right)
		}
		return
	}
	if right != "" {
		left += strings.Repeat(" ", gap) + right
	}
	s.line(left)
}

// Text writes a paragraph across the sheet.
func (s *Sheet) Text(text string) {
	for _, l := range wrap(Clean(text), s.width) {
		s.line(l)
	}
}

// Entry writes a word into the margin and paragraphs beside it. A second word
// stands below the first.
func (s *Sheet) Entry(word, below string, first string, rest ...string) {
	s.beside(word, below, heavy, first, rest)
}

// Note writes a word into the margin and a paragraph beside it.
func (s *Sheet) Note(word, text string) { s.beside(word, "", plain, text, nil) }

func (s *Sheet) beside(word, below string, style lipgloss.Style, first string, rest []string) {
	// Wrapped first and inked line by line: the margin must not catch the ink.
	body := wrap(Clean(first), s.width-margin-2)
	for i := range body {
		body[i] = style.Render(body[i])
	}
	for _, p := range rest {
		body = append(body, wrap(Clean(p), s.width-margin-2)...)
	}
	for i, l := range body {
		m := strings.Repeat(" ", margin)
		switch {
		case i == 0:
			m = fmt.Sprintf("%*s", margin, "") // aligned right against the rule
			m = m[:margin-len(word)] + ink(word).Render(word)
		case i == 1 && below != "":
			m = m[:margin-len(below)] + faded.Render(below)
		}
		s.line(m + faded.Render("│") + " " + l)
	}
	if len(body) == 1 && below != "" {
		s.line(strings.Repeat(" ", margin-len(below)) + faded.Render(below) + faded.Render("│"))
	}
}

func wrap(text string, width int) []string {
	return strings.Split(restoreHyphens(ansi.Wrap(keepHyphens(text), width, " ")), "\n")
}

// unbroken is the hyphen at which wrapping does not part a name such as
// min-length.
const unbroken = "\u2011"

func keepHyphens(text string) string    { return strings.ReplaceAll(text, "-", unbroken) }
func restoreHyphens(text string) string { return strings.ReplaceAll(text, unbroken, "-") }

// Column is one column of a table.
type Column struct {
	Head  string
	Right bool // numbers are aligned right
	Inked bool // holds verdicts
}

// ruleMark stands for the rule below a table's head. Text from evidence never
// holds it: Clean lets no such character through.
const ruleMark = "\ufffc"

// Table writes rows under a ruled head.
func (s *Sheet) Table(columns []Column, rows [][]string) {
	// The package cuts heads to one line, so long ones are drawn as rows above
	// the rule.
	above := 1
	for _, c := range columns {
		above = max(above, 1+strings.Count(c.Head, "\n"))
	}
	clean := make([][]string, above, above+len(rows))
	for i := range clean {
		clean[i] = make([]string, len(columns))
		for j, c := range columns {
			lines := strings.Split(keepHyphens(c.Head), "\n")
			if at := i - (above - len(lines)); at >= 0 {
				clean[i][j] = lines[at]
			}
		}
	}
	// Where cells are wrapped, only this row tells where the rule goes.
	clean = append(clean, append([]string{ruleMark}, make([]string, len(columns)-1)...))
	for _, row := range rows {
		cells := make([]string, len(row))
		for j, cell := range row {
			cells[j] = keepHyphens(Clean(cell))
		}
		clean = append(clean, cells)
	}
	t := table.New().Rows(clean...).
		Border(lipgloss.Border{Top: "─", Bottom: "─", Middle: "─", MiddleTop: "─", MiddleBottom: "─"}).
		BorderTop(false).BorderBottom(false).BorderLeft(false).BorderRight(false).BorderColumn(false).
		BorderStyle(faded).
		StyleFunc(func(row, col int) lipgloss.Style {
			style := plain
			switch {
			case row < above:
				style = faded
			case columns[col].Inked:
				style = ink(clean[row][col])
			}
			if columns[col].Right {
				style = style.Align(lipgloss.Right)
			}
			if col > 0 {
				style = style.PaddingLeft(2)
			}
			return style
		})
	drawn := t.String()
	if lipgloss.Width(drawn) > s.width {
		drawn = t.Width(s.width).String()
	}
	for l := range strings.SplitSeq(restoreHyphens(strings.TrimRight(drawn, "\n")), "\n") {
		if strings.Contains(l, ruleMark) {
			l = faded.Render(strings.Repeat("─", lipgloss.Width(drawn)))
		}
		s.line(l)
	}
}

// Clean makes text from evidence safe to print: what a terminal might obey, or
// what turns the direction of writing, is shown instead of sent.
func Clean(text string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || r == '\t':
			return ' '
		case unicode.IsControl(r), unicode.Is(unicode.Cf, r), r == '\u2028', r == '\u2029', r == '\ufffc':
			return '\ufffd'
		}
		return r
	}, text)
}
