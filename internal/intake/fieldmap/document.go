package fieldmap

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"

	"github.com/theory/jsonpath"
	"github.com/theory/jsonpath/spec"

	"sternledger/internal/intake"
)

// document is one export, whatever its form: values that a JSONPath can be
// asked of, and the line of each.
type document struct {
	part  *intake.Part
	value any
	lines *node
	csv   []string // the header, where it is a CSV
	text  []byte   // as read, where it is no JSON
}

// node remembers on which line a value stands, and those inside it.
type node struct {
	line  int
	named map[string]*node
	items []*node
}

// mostItems is how many elements of an array have the lines of what is inside
// them remembered: settings stand in short arrays, accounts in long ones.
const mostItems = 2000

// found is one value that a path led to.
type found struct {
	value any
	line  int
	path  string
}

// parse reads an export; nil data if it is neither JSON nor CSV.
func parse(part *intake.Part) (*document, error) {
	raw, err := intake.Decode(part.Data)
	if err != nil {
		return nil, err
	}
	d := &document{part: part}
	if looksLikeJSON(raw) {
		p := &jsonParser{data: raw, line: 1}
		p.decoder = json.NewDecoder(bytes.NewReader(raw))
		d.value, d.lines, err = p.document()
		if err != nil {
			return nil, &intake.Error{Path: part.Path, Line: p.line, Seen: err.Error(), Expected: "JSON (RFC 8259)", Next: "the export is cut or was edited: export it again"}
		}
		if len(p.secrets) > 0 {
			part.Kept, part.Struck = p.struck(), len(p.secrets)
		}
		return d, nil
	}
	d.text = raw
	return d, d.fromCSV(raw)
}

// empty reports whether the document is a list of nothing.
func (d *document) empty() bool {
	switch v := d.value.(type) {
	case []any:
		return len(v) == 0
	case map[string]any:
		lists := 0
		for _, member := range v {
			if list, ok := member.([]any); ok {
				if len(list) > 0 {
					return false
				}
				lists++
			}
		}
		return lists > 0
	}
	return false
}

// jsonForm is how an object or a list of objects begins; a template in INF
// begins with a bracket too.
var jsonForm = regexp.MustCompile(`^\s*(?:\{\s*["}]|\[\s*[\[{\]])`)

func looksLikeJSON(text []byte) bool { return jsonForm.Match(text) }

// fromCSV turns each row into an object of its columns.
func (d *document) fromCSV(raw []byte) error {
	c := csv.NewReader(bytes.NewReader(raw))
	c.FieldsPerRecord = -1
	head, err := c.Read()
	if err != nil {
		return &intake.Error{Path: d.part.Path, Line: 1, Seen: err.Error(), Expected: "CSV (RFC 4180)"}
	}
	for i := range head {
		head[i] = strings.TrimSpace(head[i])
		if secretKey("", head[i]) {
			return &intake.Error{Path: d.part.Path, Line: 1, Seen: fmt.Sprintf("a column %q", head[i]), Expected: "an export without secrets", Next: "leave the column out and export again"}
		}
	}
	d.csv = head
	rows, lines := []any{}, &node{line: 1}
	for {
		cells, err := c.Read()
		if err == io.EOF {
			break
		}
		var bad *csv.ParseError
		if errors.As(err, &bad) {
			return &intake.Error{Path: d.part.Path, Line: bad.Line, Seen: bad.Err.Error(), Expected: "CSV (RFC 4180)", Next: "the export is cut or was edited: export it again"}
		} else if err != nil {
			return err
		}
		row := map[string]any{}
		for i, cell := range cells {
			if i < len(head) {
				row[head[i]] = cell
			}
		}
		line, _ := c.FieldPos(0)
		rows, lines.items = append(rows, row), append(lines.items, &node{line: line})
	}
	d.value, d.lines = rows, lines
	return nil
}

// ask returns what a path leads to from a value, with lines.
func ask(value any, lines *node, p *jsonpath.Path) []found {
	var all []found
	for _, located := range p.SelectLocated(value) {
		at := lines
		for _, step := range located.Path {
			next := at.step(step)
			if next == nil {
				break
			}
			at = next
		}
		all = append(all, found{located.Node, at.line, located.Path.String()})
	}
	return all
}

func (n *node) step(s spec.NormalSelector) *node {
	switch s := s.(type) {
	case spec.Name:
		return n.named[string(s)]
	case spec.Index:
		if int(s) < len(n.items) {
			return n.items[s]
		}
	}
	return nil
}

// element is one of the values that a path to a list leads to.
type element struct {
	value any
	lines *node
}

// each returns the values that a path leads to, to ask further of.
func (d *document) each(p *jsonpath.Path) []element {
	var all []element
	for _, located := range p.SelectLocated(d.value) {
		at := d.lines
		for _, step := range located.Path {
			if next := at.step(step); next != nil {
				at = next
			}
		}
		all = append(all, element{located.Node, at})
	}
	return all
}

// jsonParser reads JSON into values and their lines, and finds the secrets.
type jsonParser struct {
	data    []byte
	decoder *json.Decoder
	seen    int // up to here the lines were counted
	line    int
	secrets [][2]int // from and to of each secret, quotes included
}

// deepest bounds how deep values may stand in one another.
const deepest = 200

func (p *jsonParser) document() (any, *node, error) {
	value, lines, err := p.value(nil, "", 0, true)
	if err == nil {
		if _, more := p.decoder.Token(); more != io.EOF {
			return nil, nil, errors.New("something behind the end")
		}
	}
	if errors.Is(err, io.EOF) {
		err = errors.New("the file ends in the middle")
	}
	return value, lines, err
}

// token reads one token and counts the lines before it.
func (p *jsonParser) token() (json.Token, int, error) {
	from := int(p.decoder.InputOffset())
	t, err := p.decoder.Token()
	if err != nil {
		return nil, 0, err
	}
	for from < len(p.data) && bytes.IndexByte([]byte(" \t\r\n:,"), p.data[from]) >= 0 {
		from++
	}
	p.line += bytes.Count(p.data[p.seen:from], []byte("\n"))
	p.seen = from
	return t, from, nil
}

// value reads one value. above and key are the names under which it stands.
func (p *jsonParser) value(above []string, key string, depth int, remember bool) (any, *node, error) {
	t, from, err := p.token()
	if err != nil {
		return nil, nil, err
	}
	if depth > deepest {
		return nil, nil, fmt.Errorf("values more than %d deep in one another", deepest)
	}
	n := &node{line: p.line}
	switch t := t.(type) {
	case json.Delim:
		if t == '[' {
			return p.array(n, above, key, depth, remember)
		}
		return p.object(n, append(above[:len(above):len(above)], key), depth, remember)
	case string:
		parent := ""
		if len(above) > 0 {
			parent = above[len(above)-1]
		}
		if t != "" && secretKey(parent, key) {
			p.secrets = append(p.secrets, [2]int{from, int(p.decoder.InputOffset())})
			return intake.Struck, n, nil
		}
	}
	return t, n, nil
}

func (p *jsonParser) array(n *node, above []string, key string, depth int, remember bool) (any, *node, error) {
	all := []any{}
	for p.decoder.More() {
		v, lines, err := p.value(above, key, depth+1, remember && len(all) < mostItems)
		if err != nil {
			return nil, nil, err
		}
		all, n.items = append(all, v), append(n.items, lines)
	}
	_, _, err := p.token()
	return all, n, err
}

func (p *jsonParser) object(n *node, above []string, depth int, remember bool) (any, *node, error) {
	all := map[string]any{}
	if remember {
		n.named = map[string]*node{}
	}
	for p.decoder.More() {
		t, _, err := p.token()
		if err != nil {
			return nil, nil, err
		}
		key := t.(string) // the decoder takes nothing else here
		if _, twice := all[key]; twice {
			return nil, nil, fmt.Errorf("%q stands twice in one object", key)
		}
		v, lines, err := p.value(above, key, depth+1, remember)
		if err != nil {
			return nil, nil, err
		}
		all[key] = v
		if remember {
			n.named[key] = lines
		}
	}
	_, _, err := p.token()
	return all, n, err
}

// struck returns the text with every secret replaced, line for line the same.
func (p *jsonParser) struck() []byte {
	var b bytes.Buffer
	from := 0
	for _, s := range p.secrets {
		b.Write(p.data[from:s[0]])
		b.WriteString(`"` + intake.Struck + `"`)
		from = s[1]
	}
	b.Write(p.data[from:])
	return b.Bytes()
}

// secretNames are the names under which interfaces give secrets away.
var secretNames = map[string]bool{
	"password": true, "passwd": true, "secret": true, "secrettext": true, "clientsecret": true, "client_secret": true, "accesstoken": true, "access_token": true,
	"refreshtoken": true, "refresh_token": true, "idtoken": true, "id_token": true, "token": true, "privatekey": true, "private_key": true, "apikey": true, "api_key": true,
	"secretaccesskey": true, "sessiontoken": true, "hash": true, "passwordhash": true, "password_hash": true, "hashedpassword": true, "salt": true, "answer": true, "sharedsecret": true,
}

// secretKey reports whether a text under that name is a secret.
func secretKey(parent, key string) bool {
	key, parent = strings.ToLower(key), strings.ToLower(parent)
	return secretNames[key] || key == "value" && (parent == "password" || parent == "hash")
}
