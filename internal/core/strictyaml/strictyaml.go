// Package strictyaml reads YAML that people write by hand: every key must be
// known, and every error says line, column and what would be right.
package strictyaml

import (
	"bytes"
	"errors"
	"fmt"
	"math"
	"reflect"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/token"
)

// Error is one mistake in a YAML file.
type Error struct {
	Path         string
	Line, Column int
	Text         string
}

// Error writes "PATH:LINE:COLUMN: text".
func (e *Error) Error() string {
	return fmt.Sprintf("%s:%d:%d: %s", e.Path, e.Line, e.Column, e.Text)
}

// Text is a scalar that remembers where it stands, for errors found later.
type Text struct {
	Value        string
	Line, Column int
}

// UnmarshalYAML reads a scalar of any type as its text.
func (t *Text) UnmarshalYAML(node ast.Node) error {
	token := node.GetToken()
	t.Value, t.Line, t.Column = token.Value, token.Position.Line, token.Position.Column
	scalar, ok := node.(ast.ScalarNode)
	if !ok {
		return ErrorAt(node, "a single value is expected here")
	}
	if block, ok := node.(*ast.LiteralNode); ok {
		scalar = block.Value
	}
	if s, ok := scalar.GetValue().(string); ok {
		t.Value = s
	}
	return nil
}

// ErrorAt returns an error at a node's place, for readers of nodes; Unmarshal adds the path.
func ErrorAt(node ast.Node, text string) error {
	at := node.GetToken().Position
	return &Error{"", max(at.Line, 1), max(at.Column, 1), text}
}

// Errorf returns an error at the text's place.
func (t Text) Errorf(path, format string, args ...any) error {
	return &Error{path, max(t.Line, 1), max(t.Column, 1), fmt.Sprintf(format, args...)}
}

// atStart returns an error about a file as a whole.
func atStart(path, text string) *Error { return &Error{path, 1, 1, text} }

// Bounds of a file. People who write by hand stay far below them; beyond, a few
// bytes could cost gigabytes or minutes.
const (
	mostBytes = 1 << 20
	mostLine  = 4096 // bytes: what stands in a row costs its square
	mostDepth = 64
)

// bounded refuses what would cost too much to read.
func bounded(path string, data []byte) error {
	if len(data) > mostBytes {
		return atStart(path, fmt.Sprintf("more than %d MiB; expected a file that somebody wrote by hand", mostBytes>>20))
	}
	// A nest is counted by its brackets, and by what can stand in a row on a line;
	// brackets in texts count too, which only matters to a text of dozens.
	depth, line, onLine, begun := 0, 1, 0, 0
	for i, c := range data {
		if i-begun > mostLine {
			return &Error{path, line, 1, fmt.Sprintf("a line of more than %d bytes; break it", mostLine)}
		}
		switch c {
		case '\n':
			line, onLine, begun = line+1, 0, i+1
		case '[', '{':
			depth++
		case ']', '}':
			depth = max(depth-1, 0)
		case '-', '?':
			onLine++
		case ' ':
		default:
			onLine = -1 << 30 // no mark any more
		}
		if depth > mostDepth || onLine > 1000 {
			return &Error{path, line, 1, fmt.Sprintf("nested more than %d deep; expected a file that somebody wrote by hand", mostDepth)}
		}
	}
	for _, t := range lexer.Tokenize(string(data)) {
		if t.Type == token.AliasType || t.Type == token.AnchorType {
			return &Error{path, t.Position.Line, t.Position.Column,
				"anchors and aliases (& and *) are not taken; write the value where it belongs, or put the text in quotes"}
		}
	}
	return nil
}

// indentedByTab finds the first line that begins with a tab, behind spaces or not, and has more;
// 0: there is none. Inside a text of several lines a tab does no harm, and nobody puts one there.
func indentedByTab(data []byte) (line, column int) {
	for text := range bytes.Lines(data) {
		line++
		body := bytes.TrimLeft(text, " ")
		if len(body) > 0 && body[0] == '\t' && len(bytes.TrimSpace(body)) > 0 && bytes.TrimSpace(body)[0] != '#' {
			return line, len(text) - len(body) + 1
		}
	}
	return 0, 0
}

// Unmarshal reads data, which came from path, into the struct v points at.
func Unmarshal(path string, data []byte, v any) (err error) {
	// The package panics on some files that are not YAML at all (fuzzing found
	// one); whoever sends such a file gets an error like for any other.
	defer func() {
		if recover() != nil {
			err = atStart(path, "this is not YAML that can be read; look for a stray \"!\", \"&\" or \"*\"")
		}
	}()
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf")) // some editors put a byte-order mark there
	if bytes.IndexByte(data, 0) >= 0 {
		return atStart(path, "the file is in UTF-16, or no text at all; save it as UTF-8")
	}
	if line, column := indentedByTab(data); line > 0 {
		return &Error{path, line, column, "a tab at the beginning of a line; YAML is indented by spaces: replace each tab by two"}
	}
	if err := bounded(path, data); err != nil {
		return err
	}
	err = yaml.UnmarshalWithOptions(data, v, yaml.Strict())
	if err == nil {
		return nil
	}
	var own *Error
	if errors.As(err, &own) {
		own.Path = path
		return own
	}
	out := atStart(path, err.Error())
	var at yaml.Error
	if errors.As(err, &at) {
		if token := at.GetToken(); token != nil {
			out.Line, out.Column = token.Position.Line, token.Position.Column
		}
		out.Text = at.GetMessage()
	}
	var other *yaml.TypeError
	if errors.As(err, &other) {
		out.Text = form(other.SrcType) + " stands where " + form(other.DstType) + " is expected"
	}
	var node *yaml.UnexpectedNodeTypeError
	if errors.As(err, &node) {
		out.Text = nodes[node.Actual] + " stands where " + nodes[node.Expected] + " is expected"
	}
	var unknown *yaml.UnknownFieldError
	if errors.As(err, &unknown) {
		known := keys(reflect.TypeOf(v), nil)
		out.Text = fmt.Sprintf("unknown key %q; %s", unknown.Token.Value, Hint(unknown.Token.Value, known))
	}
	return out
}

const list, mapping, single = "a list (- a, or [a, b])", "a mapping (key: value)", "a single value"

// nodes are the kinds of what is written, as people who write it call them.
var nodes = map[ast.NodeType]string{ast.SequenceType: list, ast.MappingType: mapping, ast.MappingValueType: mapping,
	ast.NullType:   "nothing",
	ast.StringType: single, ast.LiteralType: single, ast.IntegerType: single, ast.FloatType: single, ast.BoolType: single}

// form is what a value of a type is written as.
func form(t reflect.Type) string {
	switch t.Kind() {
	case reflect.Pointer:
		return form(t.Elem())
	case reflect.Slice, reflect.Array:
		return list
	case reflect.Map, reflect.Struct:
		return mapping
	case reflect.Bool:
		return "true or false"
	case reflect.Int, reflect.Int64, reflect.Uint64, reflect.Float64:
		return "a number"
	}
	return single
}

// keys collects the keys of a struct and of all structs inside it.
func keys(t reflect.Type, found []string) []string {
	switch t.Kind() {
	case reflect.Pointer, reflect.Slice, reflect.Map:
		return keys(t.Elem(), found)
	case reflect.Struct:
		for i := range t.NumField() {
			name, how, _ := strings.Cut(t.Field(i).Tag.Get("yaml"), ",")
			if how == "inline" {
				found = keys(t.Field(i).Type, found)
			}
			if name != "" && name != "-" && !slices.Contains(found, name) {
				found = keys(t.Field(i).Type, append(found, name))
			}
		}
	}
	return found
}

// Comments returns the comments of a file that Unmarshal took, by their lines.
func Comments(data []byte) map[int]string {
	all := map[int]string{}
	for _, t := range lexer.Tokenize(string(data)) {
		if t.Type == token.CommentType {
			all[t.Position.Line] = strings.TrimRight("#"+t.Value, "\r\n")
		}
	}
	return all
}

// Hint names the known word that is meant where one is near, and else lists them.
func Hint(word string, known []string) string {
	near := Nearest(word, known)
	if low := strings.ToLower(word); near != "" && (distance(low, strings.ToLower(near)) <= (len(word)+1)/3 ||
		len(word) > 3 && strings.Contains(strings.ToLower(near), low)) {
		return fmt.Sprintf("the nearest is %q", near)
	}
	if len(known) == 0 {
		return "there are none"
	}
	const most = 8
	text := "known are " + strings.Join(known[:min(len(known), most)], ", ")
	if len(known) > most {
		text += fmt.Sprintf(" and %d more", len(known)-most)
	}
	return text
}

// Nearest returns the known word with the smallest edit distance. What people
// left out of a longer word counts little.
func Nearest(word string, known []string) string {
	best, least := "", math.MaxInt
	word = strings.ToLower(word)
	for _, k := range known {
		low := strings.ToLower(k)
		d := distance(word, low)
		if len(word) > 3 && strings.Contains(low, word) {
			d /= 4
		}
		if d < least {
			best, least = k, d
		}
	}
	return best
}

// distance is the Levenshtein distance of two short words.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			change := diagonal
			if a[i] != b[j] {
				change++
			}
			diagonal = row[j+1]
			row[j+1] = min(change, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}
