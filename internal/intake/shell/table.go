package shell

import (
	"bytes"
	"errors"
	"regexp"
	"strings"
)

// dashes is the line below a table's head: a run for each column.
var dashes = regexp.MustCompile(`^[ ]*-+(?: +-+)*[ ]*$`)

// ruled finds the line of dashes, and returns its number, counted from 0.
func ruled(all [][]byte) int {
	for i, line := range all {
		if i > 0 && dashes.Match(bytes.TrimRight(line, "\r\n")) {
			return i
		}
		if i > 20 {
			break
		}
	}
	return -1
}

func isTable(k *kind, text []byte) bool {
	all := bytes.SplitAfter(text, []byte("\n"))
	at := ruled(all)
	if at < 0 {
		return false
	}
	names := strings.Fields(string(all[at-1]))
	// Which columns there is room for depends on the window, so that fewer must do.
	has := among(names)
	return tells(k.telling, has) || tells(k.partly, has)
}

// readTable reads table text: columns as wide as their widest value, or cut.
func readTable(r *reader) ([]object, error) {
	all := bytes.SplitAfter(r.text.Bytes, []byte("\n"))
	begins := make([]int, len(all)) // where each line stands
	for i := 1; i < len(all); i++ {
		begins[i] = begins[i-1] + len(all[i-1])
	}
	at := ruled(all)
	var rows [][]rune
	for _, line := range all[at-1:] {
		rows = append(rows, []rune(string(bytes.TrimRight(line, "\r\n"))))
	}
	end := len(rows) // behind the last row
	for i := 2; i < len(rows); i++ {
		if len(strings.TrimSpace(string(rows[i]))) == 0 {
			end = i
			break
		}
	}
	if rest := bytes.TrimSpace(bytes.Join(all[at-1+end:], nil)); len(rest) > 0 && !bytes.HasPrefix(rest, []byte("PS ")) {
		return nil, r.wrong(at+end, "text behind the table", "one table in a file", "save each in a file of its own")
	}
	columns, err := columnsOf(rows[1], append(rows[:1:1], rows[2:end]...))
	if err != nil {
		return nil, r.wrong(at, "columns that touch each other", "columns with a space between them",
			"print it with Format-List *, or Export-Csv, which cut nothing")
	}
	var objects []object
	dashed := begins[at]
	r.text.Read(dashed, dashed+len(bytes.TrimRight(all[at], "\r\n")))
	for _, c := range columns {
		from, to := c.in(rows[0], begins[at-1])
		r.text.Name(from, to, strings.TrimSpace(string(slice(rows[0], c.from, c.to))), func(mark string) string { return pad(mark, to-from) })
	}
	for i := 2; i < end; i++ {
		o := object{line: at + i}
		line := rows[i]
		for _, c := range columns {
			name := strings.TrimSpace(string(slice(rows[0], c.from, c.to)))
			value := strings.TrimSpace(string(slice(line, c.from, c.to)))
			p := property{name: name, line: at + i}
			from, to := c.in(line, begins[at-1+i])
			if value != "" {
				value = r.keep(from, to, name, value, func(mark string) string { return pad(mark, c.to-c.from) })
			}
			p.setText(value)
			if _, cut := cutMark(value); cut {
				p.cut = true
			}
			o.add(p)
		}
		switch key := o.get(r.kind.telling[0][0]); {
		case key.cut:
			return nil, r.wrong(o.line, "a "+key.name+" that was cut", "the whole name",
				"the window was too narrow: print it with Format-List *, or Export-Csv, which cut nothing")
		case strings.TrimSpace(key.text) == "":
			return nil, r.wrong(o.line, "a row without "+key.name, "a row for each object",
				"print it with Format-List *, or Export-Csv, which wrap nothing")
		}
		objects = append(objects, o)
	}
	return objects, nil
}

// column is where a column's cells stand, in characters.
type column struct{ from, to int }

// in is where the column's cell of a row stands in the text, where the row begins at a
// place.
func (c column) in(row []rune, begin int) (from, to int) {
	return begin + len(string(row[:min(c.from, len(row))])), begin + len(string(row[:min(c.to, len(row))]))
}

// columnsOf finds where columns end, which their dashes do not tell: numbers stand
// at the right end, texts at the left. Between two runs of dashes there is a place
// that is empty in every row.
func columnsOf(dashes []rune, rows [][]rune) ([]column, error) {
	blank := func(at int) bool {
		for _, row := range rows {
			if at < len(row) && row[at] != ' ' {
				return false
			}
		}
		return true
	}
	columns := []column{{}}
	for i := 1; i < len(dashes); i++ {
		if dashes[i] != '-' || dashes[i-1] == '-' {
			continue
		}
		begin := len(strings.TrimRight(string(dashes[:i]), " "))
		if begin == 0 {
			continue // the first column stands at the right
		}
		// The last empty place: what stands behind it belongs to the right column.
		gap := i - 1
		for gap >= begin && !blank(gap) {
			gap--
		}
		if gap < begin {
			return nil, errors.New("no place between two columns is empty")
		}
		columns[len(columns)-1].to = gap
		columns = append(columns, column{from: gap + 1})
	}
	widest := len(dashes)
	for _, row := range rows {
		widest = max(widest, len(row))
	}
	columns[len(columns)-1].to = widest
	return columns, nil
}

func slice(row []rune, from, to int) []rune {
	return row[min(from, len(row)):min(to, len(row))]
}

// pad fills a cell up with spaces.
func pad(text string, width int) string {
	if n := width - len([]rune(text)); n > 0 {
		text += strings.Repeat(" ", n)
	}
	return text
}
