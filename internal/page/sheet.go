// Package page draws: what commands print for people and for other programs.
// It knows how things look and nothing of how they are found out.
package page

import (
	"bufio"
	"fmt"
	"io"
	"slices"
	"strings"

	"charm.land/lipgloss/v2"
	"charm.land/lipgloss/v2/table"
	"github.com/charmbracelet/x/ansi"

	"sternledger/internal/terminal"
)

// Widths between which a sheet stays readable.
const (
	narrowest = 20
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
	// Age says of which days the evidence is that the page rests on; it goes below the
	// first title.
	Age string
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

// The inks are the terminal's own colours, so that they are readable on white and
// on black. They go with words, never in their place.
var (
	plain = lipgloss.NewStyle()
	faded = lipgloss.NewStyle().Foreground(lipgloss.BrightBlack)
	heavy = lipgloss.NewStyle().Bold(true)
)

// inks are the words that have an ink of their own.
var inks = map[string]lipgloss.Style{
	"weak":        heavy.Foreground(lipgloss.Red),
	"conflicting": heavy.Foreground(lipgloss.Magenta),
	"missing":     heavy,
	"grave":       heavy.Foreground(lipgloss.Red),
	"serious":     heavy,
}

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
	if s.Age != "" {
		s.line(faded.Render(s.Age))
		s.Age = ""
	}
}

// spread puts one text at the left and one at the right end of a line, or
// below each other where they do not fit.
func (s *Sheet) spread(left, right string) {
	gap := s.width - ansi.StringWidth(left) - ansi.StringWidth(right)
	if gap < 2 {
		for _, l := range wrap(left, s.width) {
			s.line(l)
		}
		for _, l := range wrap(right, s.width) {
			if right != "" {
				s.line(l)
			}
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
	if s.width < margin+narrowBody {
		s.below(word, below, style, first, rest)
		return
	}
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

// narrowBody is the room beside the margin without which there is no margin.
const narrowBody = 30

// below draws an entry without a margin: its words stand above it.
func (s *Sheet) below(word, second string, style lipgloss.Style, first string, rest []string) {
	if head := strings.TrimSpace(word + " " + second); head != "" {
		s.line(ink(word).Render(head))
	}
	for i, text := range append([]string{first}, rest...) {
		for _, l := range wrap(Clean(text), s.width) {
			if i == 0 {
				l = style.Render(l)
			}
			s.line(l)
		}
	}
}

// wrap breaks a text between words. A word that is longer than the line stays
// whole, so that it can be copied; only what no name is as long as is broken.
func wrap(text string, width int) []string {
	var lines []string
	for l := range strings.SplitSeq(ansi.Wordwrap(keepHyphens(text), width, ""), "\n") {
		if ansi.StringWidth(l) > max(width, longestWord) {
			l = ansi.Hardwrap(l, max(width, longestWord), false)
		}
		lines = append(lines, strings.Split(restoreHyphens(l), "\n")...)
	}
	return lines
}

// longestWord is how long a word may be that is not broken.
const longestWord = 200

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
	Drop  int  // where there is no room columns are left out, that with the least number first; 0: never
}

// ruleMark stands for the rule below a table's head. Text from evidence never
// holds it: Clean lets no such character through.
const ruleMark = "\ufffc"

// Table writes rows under a ruled head. Cells are broken between words only: names,
// places in files and commands stay whole. Where that does not fit, the rows become
// entries.
func (s *Sheet) Table(columns []Column, rows [][]string) {
	if left := s.table(columns, rows); left != "" {
		s.Text("No room at this width for: " + left + ".")
	}
}

// without leaves out the column that goes first; false: none may.
func without(columns []Column, rows [][]string) (left string, fewer []Column, narrower [][]string, ok bool) {
	at := -1
	for i, c := range columns {
		if c.Drop > 0 && (at < 0 || c.Drop < columns[at].Drop) {
			at = i
		}
	}
	if at < 0 {
		return "", nil, nil, false
	}
	for _, row := range rows {
		narrower = append(narrower, slices.Delete(slices.Clone(row), at, at+1))
	}
	return strings.ReplaceAll(columns[at].Head, "\n", " "), slices.Delete(slices.Clone(columns), at, at+1), narrower, true
}

// table draws a table, and returns the heads of what it left out.
func (s *Sheet) table(columns []Column, rows [][]string) (left string) {
	heads := make([][]string, 0, 1)
	above := 1
	for _, c := range columns {
		above = max(above, 1+strings.Count(c.Head, "\n"))
	}
	for i := range above { // the package cuts heads to one line, so they are rows above the rule
		row := make([]string, len(columns))
		for j, c := range columns {
			lines := strings.Split(c.Head, "\n")
			if at := i - (above - len(lines)); at >= 0 {
				row[j] = lines[at]
			}
		}
		heads = append(heads, row)
	}
	clean := make([][]string, len(rows))
	for i, row := range rows {
		clean[i] = make([]string, len(columns))
		for j, cell := range row {
			clean[i][j] = Clean(cell)
		}
	}
	widths, ok := s.fit(columns, heads, clean)
	if !ok {
		if head, fewer, narrower, may := without(columns, rows); may {
			if more := s.table(fewer, narrower); more != "" {
				head += ", " + more
			}
			return head
		}
		s.entries(columns, clean)
		return ""
	}
	for i := range clean {
		for j, w := range widths {
			clean[i][j] = wordwrap(clean[i][j], w)
		}
	}
	// Where cells are wrapped, only this row tells where the rule goes.
	all := append(append(heads, append([]string{ruleMark}, make([]string, len(columns)-1)...)), clean...)
	drawn := table.New().Rows(all...).
		Border(lipgloss.Border{Top: "─", Bottom: "─", Middle: "─", MiddleTop: "─", MiddleBottom: "─"}).
		BorderTop(false).BorderBottom(false).BorderLeft(false).BorderRight(false).BorderColumn(false).
		BorderStyle(faded).
		StyleFunc(func(row, col int) lipgloss.Style {
			style := plain
			switch {
			case row < above:
				style = faded
			case columns[col].Inked:
				style = ink(all[row][col])
			}
			if columns[col].Right {
				style = style.Align(lipgloss.Right)
			}
			if col > 0 {
				style = style.PaddingLeft(gutter)
			}
			return style
		}).String()
	for l := range strings.SplitSeq(strings.TrimRight(drawn, "\n"), "\n") {
		if strings.Contains(l, ruleMark) {
			l = faded.Render(strings.Repeat("─", lipgloss.Width(drawn)))
		}
		s.line(l)
	}
	return ""
}

// gutter is the room between columns.
const gutter = 2

// fit finds how wide each column may be, and whether all fit without breaking a
// word.
func (s *Sheet) fit(columns []Column, heads, rows [][]string) (widths []int, ok bool) {
	least := make([]int, len(columns))
	widths = make([]int, len(columns))
	for i, row := range append(slices.Clone(heads), rows...) {
		for j, cell := range row {
			widths[j] = max(widths[j], ansi.StringWidth(cell))
			if i < len(heads) {
				least[j] = max(least[j], ansi.StringWidth(cell))
				continue
			}
			for word := range strings.FieldsSeq(cell) {
				least[j] = max(least[j], ansi.StringWidth(word))
			}
		}
	}
	over := -s.width
	for j, w := range widths {
		if over += w; j > 0 {
			over += gutter
		}
	}
	for over > 0 {
		// The widest that can be narrower gives way.
		widest := -1
		for j := range widths {
			if widths[j] > least[j] && (widest < 0 || widths[j] > widths[widest]) {
				widest = j
			}
		}
		if widest < 0 {
			return widths, false
		}
		widths[widest]--
		over--
	}
	return widths, true
}

// wordwrap breaks a text between words.
func wordwrap(text string, width int) string {
	return restoreHyphens(ansi.Wordwrap(keepHyphens(text), max(width, 1), ""))
}

// entries draws the rows of a table one below the other.
func (s *Sheet) entries(columns []Column, rows [][]string) {
	for _, row := range rows {
		var cells []string
		for j, cell := range row[1:] {
			if head := strings.TrimSpace(strings.ReplaceAll(columns[j+1].Head, "\n", " ")); cell != "" && head != "" {
				cells = append(cells, head+": "+cell)
			} else if cell != "" {
				cells = append(cells, cell)
			}
		}
		s.Entry("", "", row[0], strings.Join(cells, "; "))
	}
}

// Clean makes text from evidence safe to print; see terminal.Clean.
func Clean(text string) string { return terminal.Clean(text) }
