package fieldmap

import (
	"reflect"
	"regexp"
	"slices"
	"strings"

	"github.com/theory/jsonpath/spec"

	"sternledger/internal/core/strictyaml"
	"sternledger/internal/redact"
)

// words is what maps read of a document, as a tree of names: whatever stands elsewhere is
// not kept. Lists are passed through: what a map reads of an element it reads of all.
// Names are in lower case, since a vendor's shell writes them in others.
type words struct {
	names map[string]*words
	all   bool // a path goes through all members of the object, whatever their names

	// What is read of a text or number that stands here: all of it (free); or only a word,
	// a number, or one of those texts that a map asks for; or as much as free, but where a
	// field beside it has a certain value, as in rows of a name and a value.
	free, word bool
	texts      map[string]bool
	beside     map[string]map[string]bool

	rows     bool            // of some member what is read depends on a field beside it
	anywhere map[string]bool // of the root: names that a path looks for at any depth
	known    map[string]*words
}

// wordsOf collects what the maps read.
func wordsOf(all []*Map) *words {
	root := &words{}
	for _, m := range all {
		c := &collector{root: root}
		c.take(reflect.ValueOf(m), nil)
		for i := range m.Accounts { // what is filterAsks of accounts elsewhere in the map
			each := c.through(nil, m.Accounts[i].Each)
			if m.Units != nil {
				c.path(each, m.Units.In, free)
			}
			for k := range m.Apart {
				c.take(reflect.ValueOf(m.Apart[k].Only), each)
			}
		}
	}
	return root
}

// next is what is read below a member of a name; nil: nothing. listed says that the object
// is an element of a list.
func (w *words) next(name string, listed bool) *words {
	if w == nil {
		return nil
	}
	to, ok := w.known[name]
	if !ok {
		to = w.names[strings.ToLower(name)]
		if w.known == nil {
			w.known = map[string]*words{}
		}
		if len(w.known) < mostNames {
			w.known[strings.Clone(name)] = to
		}
	}
	if to == nil && w.all && !listed {
		return w
	}
	return to
}

// takes reports whether a text that stands there is read, given what the fields beside it
// say.
func (w *words) takes(text string, beside func(name string) string) bool {
	switch {
	case w == nil:
		return false
	case w.free, w.word && (redact.Plain([]byte(text)) || measured.MatchString(text)), w.texts[text]:
		return true
	}
	for name, is := range w.beside {
		if beside != nil && is[beside(name)] {
			return true
		}
	}
	return false
}

// measured is a number with its unit.
var measured = regexp.MustCompile(`^[0-9]{1,12}(?:\.[0-9]+)?[a-z]{1,8}$`)

func (w *words) child(name string) *words {
	name = strings.ToLower(name)
	if w.names == nil {
		w.names = map[string]*words{}
	}
	if w.names[name] == nil {
		w.names[name] = &words{}
	}
	return w.names[name]
}

// collector goes through a map.
type collector struct {
	root *words
	all  bool // the path that is followed goes through an object's members: it says .*
}

// use says what is read of what a path leads to.
type use func(w *words)

func free(w *words) { w.free = true }

// there is the use of a field of which only whether it is there is read.
func there(*words) {}

// word is the use of a field that is read as a word or a number, or as one of those texts.
func word(texts ...string) use {
	return func(w *words) {
		w.word = true
		for _, text := range texts {
			if w.texts == nil {
				w.texts = map[string]bool{}
			}
			w.texts[text] = true
		}
	}
}

// where is the use of a field that is read where another one beside it is one of those.
func where(name string, is []string) use {
	name = strings.ToLower(name)
	return func(w *words) {
		if w.beside == nil {
			w.beside = map[string]map[string]bool{}
		}
		if w.beside[name] == nil {
			w.beside[name] = map[string]bool{}
		}
		for _, text := range is {
			w.beside[name][text] = true
		}
	}
}

// from are places of the tree at which paths begin; nil: the document's own.
type from []*words

// path adds a path to the tree, and returns where it leads to.
func (c *collector) path(at from, p Path, how use) from {
	if p.path == nil {
		return at
	}
	if at == nil {
		at = from{c.root}
	}
	text := p.text.Value
	if !strings.HasPrefix(text, "$") {
		return c.follow(at, []step{{name: spec.Name(text)}}, how)
	}
	c.all = strings.Contains(text, ".*")
	ends := c.follow(at, p.path.steps, how)
	if len(at) == 1 && at[0] == c.root {
		// The envelope may be gone, or another one be there, where a shell wrote the reply.
		steps := p.path.steps
		switch {
		case len(steps) > 1 && steps[0].name != "" && steps[1].name == "":
			ends = append(ends, c.follow(at, steps[1:], how)...)
		case len(steps) > 0 && steps[0].name == "":
			ends = append(ends, c.follow(from{c.root.child("value")}, steps, how)...)
		}
	}
	return ends
}

// through is path for one to elements of which more is filterAsks.
func (c *collector) through(at from, p Path) from { return c.path(at, p, there) }

func (c *collector) follow(at from, steps []step, how use) from {
	for i, s := range steps {
		switch {
		case s.name != "":
			at = at.to(string(s.name))
		case s.all:
			for _, w := range at {
				w.all = w.all || c.all
			}
		case s.other != nil && s.other.IsDescendant():
			if c.root.anywhere == nil {
				c.root.anywhere = map[string]bool{}
			}
			for _, m := range stepName.FindAllStringSubmatch(s.other.String(), -1) {
				c.root.anywhere[strings.ToLower(m[1]+m[2]+m[3])] = true
			}
		case s.other != nil:
			beside := c.filter(at, s.other)
			if beside != nil && i == len(steps)-2 && steps[i+1].name != "" {
				for _, w := range at {
					w.rows = true
				}
				how = where(beside[0], beside[1:])
			}
			var named from
			for _, by := range s.other.Selectors() {
				if name, ok := by.(spec.Name); ok {
					named = append(named, at.to(string(name))...)
				}
			}
			if named != nil {
				at = named
			}
		}
	}
	for _, w := range at {
		how(w)
	}
	return at
}

func (f from) to(name string) (all from) {
	for _, w := range f {
		all = append(all, w.child(name))
	}
	return all
}

// filterAsks is what a filter asks of an element: a field, and what it is compared with.
var (
	filterAsks = regexp.MustCompile(`@((?:\.[A-Za-z_]\w*|\[(?:"[^"]*"|'[^']*'|\d+|\*)\])*)(?:\s*[=!]=\s*(?:"((?:[^"\\]|\\.)*)"|'((?:[^'\\]|\\.)*)'))?`)
	fieldName  = regexp.MustCompile(`\.([A-Za-z_]\w*)|\["([^"]*)"\]|\['([^']*)'\]`)
	oneField   = regexp.MustCompile(`^\[?\??\(?\s*@(?:\.[A-Za-z_]\w*|\[(?:"[^"]*"|'[^']*')\])\s*==\s*(?:"(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*')\s*\)?\]?$`)
	calls      = regexp.MustCompile(`[a-z_]\(`)
)

// filter adds what a filter asks of elements. Where that is nothing but that one field has
// a certain text, it returns the field's name and the text.
func (c *collector) filter(at from, s *spec.Segment) (beside []string) {
	text := s.String()
	all := filterAsks.FindAllStringSubmatch(text, -1)
	for _, m := range all {
		to := at
		var name string
		for _, n := range fieldName.FindAllStringSubmatch(m[1], -1) {
			name = n[1] + n[2] + n[3]
			to = to.to(name)
		}
		literal := m[2] + m[3]
		for _, w := range to {
			if calls.MatchString(text) {
				free(w) // a function looks at the text
			} else if word()(w); literal != "" {
				word(literal)(w)
			}
		}
		if len(all) == 1 && oneField.MatchString(text) {
			beside = []string{name, literal}
		}
	}
	return beside
}

var (
	pathType      = reflect.TypeFor[Path]()
	conditionType = reflect.TypeFor[Condition]()
	neutralType   = reflect.TypeFor[Neutral]()
	readingType   = reflect.TypeFor[Reading]()
	exportType    = reflect.TypeFor[Export]()
	changeType    = reflect.TypeFor[Change]()
	completeType  = reflect.TypeFor[Complete]()
	stepName      = regexp.MustCompile(`(?:\.|\[\s*)(?:'([^']+)'|"([^"]+)"|([A-Za-z_][A-Za-z0-9_-]*))`)
)

// take adds what a part of a map reads. at is where its paths begin.
func (c *collector) take(v reflect.Value, at from) {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			c.take(v.Elem(), at)
		}
	case reflect.Slice:
		for i := range v.Len() {
			c.take(v.Index(i), at)
		}
	case reflect.Map:
		for _, key := range v.MapKeys() {
			c.take(v.MapIndex(key), at)
		}
	case reflect.Struct:
		c.object(v, at)
	}
}

func (c *collector) object(v reflect.Value, at from) {
	switch v.Type() {
	case pathType:
		if v.CanInterface() {
			c.path(at, v.Interface().(Path), free)
		}
		return
	case conditionType:
		c.condition(at, v.Addr().Interface().(*Condition))
		return
	case neutralType:
		n := v.Addr().Interface().(*Neutral)
		switch {
		case n.Match != nil:
			c.path(at, n.At, free)
		case len(n.Is) > 0:
			c.path(at, n.At, word(textsOf(n.Is)...))
		}
		return
	case readingType:
		c.reading(at, v.Addr().Interface().(*Reading))
		return
	case changeType:
		c.change(v.Addr().Interface().(*Change))
		return
	case completeType:
		return // it asks what is there, and not what it says
	case exportType:
		x := v.Addr().Interface().(*Export)
		for _, p := range x.JSON {
			c.path(nil, p, there)
		}
		c.take(reflect.ValueOf(x.Empty), nil)
		return
	}
	if export := v.FieldByName("Export"); export.IsValid() && export.Interface().(strictyaml.Text).Value != "" {
		at = nil
	}
	if each := v.FieldByName("Each"); each.IsValid() && each.Type() == pathType {
		at = c.through(at, each.Interface().(Path))
	}
	for i := range v.NumField() {
		if f := v.Type().Field(i); f.IsExported() && f.Name != "Each" || f.IsExported() && f.Type != pathType {
			c.take(v.Field(i), at)
		}
	}
}

func textsOf(all []strictyaml.Text) (texts []string) {
	for _, t := range all {
		texts = append(texts, t.Value)
	}
	return texts
}

func (c *collector) condition(at from, x *Condition) {
	if x.Absent != nil {
		c.through(at, x.At)
		return
	}
	if x.Contains.Value != "" || x.Lacks.Value != "" {
		c.path(at, x.At, free)
		return
	}
	c.path(at, x.At, word(append(textsOf(x.Is), textsOf(x.Not)...)...))
}

func (c *collector) reading(at from, r *Reading) {
	if r.Export.Value != "" {
		at = nil
	}
	how := use(free)
	if r.Match.Value == "" {
		texts := []string{}
		for w := range r.Words {
			texts = append(texts, w)
		}
		texts = append(texts, textsOf(r.Inherit)...)
		how = word(texts...)
	}
	for i := range r.Only {
		x := &r.Only[i]
		c.condition(at, x)
		if len(x.Is) > 0 && len(r.Only) == 1 && !strings.HasPrefix(x.At.text.Value, "$") && !strings.HasPrefix(r.At.text.Value, "$") {
			how = where(x.At.text.Value, textsOf(x.Is))
			for _, w := range c.place(at) {
				w.rows = true
			}
		}
	}
	c.path(at, r.At, how)
	for i := range r.When {
		c.path(at, r.When[i].At, word(r.When[i].Is.Value))
		if unless := r.When[i].Unless; unless != nil {
			c.condition(at, unless)
		}
	}
}

func (c *collector) place(at from) from {
	if at == nil {
		return from{c.root}
	}
	return at
}

// change adds what the body of a change has to hold.
func (c *collector) change(x *Change) {
	element := c.through(nil, x.Element)
	for _, w := range c.place(element) {
		for _, only := range x.Only {
			word()(w.child(only.Value))
		}
		for _, m := range placeholder.FindAllStringSubmatch(x.Path, -1) {
			free(w.child(m[1]))
		}
	}
}

var placeholder = regexp.MustCompile(`\{([A-Za-z_]\w*)\}`)

// names collects the names in all paths below a value, with their spelling.
func spellings(v reflect.Value, spelled map[string]string) {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			spellings(v.Elem(), spelled)
		}
	case reflect.Slice:
		for i := range v.Len() {
			spellings(v.Index(i), spelled)
		}
	case reflect.Map:
		for _, key := range v.MapKeys() {
			spellings(v.MapIndex(key), spelled)
		}
	case reflect.Struct:
		if v.Type() == pathType {
			spellPath(v.FieldByName("text").FieldByName("Value").String(), spelled)
			return
		}
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() || v.Field(i).Kind() == reflect.Struct {
				spellings(v.Field(i), spelled)
			}
		}
	}
}

func spellPath(text string, spelled map[string]string) {
	names := []string{text}
	if strings.HasPrefix(text, "$") {
		names = nil
		for _, m := range stepName.FindAllStringSubmatch(text, -1) {
			names = append(names, m[1]+m[2]+m[3])
		}
	}
	for _, name := range names {
		if low := strings.ToLower(name); name != "" && spelled[low] == "" {
			spelled[low] = name
		}
	}
}

// alwaysSecret are names under which interfaces give secrets away, though a map
// reads something of the same name elsewhere.
var alwaysSecret = map[string]bool{
	"password": true, "passwd": true, "secret": true, "secrettext": true, "clientsecret": true, "client_secret": true,
	"accesstoken": true, "access_token": true,
	"refreshtoken": true, "refresh_token": true, "idtoken": true, "id_token": true, "token": true, "privatekey": true,
	"private_key": true, "apikey": true, "api_key": true,
	"secretaccesskey": true, "sessiontoken": true, "hash": true, "passwordhash": true, "password_hash": true, "hashedpassword": true,
	"salt": true, "answer": true, "sharedsecret": true,
}

// spot is where a value stands in a document.
type spot struct {
	above, key string
	in         *words
	listed     bool                     // it is an element of a list
	beside     func(name string) string // what the fields beside it say
}

// member is the spot of a member of an object that stands at s.
func (s spot) member(name string, beside func(string) string) spot {
	return spot{s.key, name, s.in.next(name, s.listed), false, beside}
}

// element is the spot of an element of a list that stands at s.
func (s spot) element() spot {
	s.listed = true
	return s
}

// secret reports whether what stands at a spot is one, whatever it says.
func (s spot) secret() bool {
	name := strings.ToLower(s.key)
	return alwaysSecret[name] || name == "value" && slices.Contains([]string{"password", "hash", "credentials"}, strings.ToLower(s.above))
}

// reads reports whether a text at a spot is read; w nil: everything is.
func (w *words) reads(s spot, text string) bool {
	return (w == nil || s.in.takes(text, s.beside) || w.anywhere[strings.ToLower(s.key)]) && !s.secret()
}

// keep says what is kept of a text or number at a spot.
func (w *words) keep(s spot, text string, all bool) (kept string, struck bool) {
	if s.secret() && text != "" && !redact.IsMark(text) {
		return redact.Struck, true
	}
	return redact.Keep(strings.ToLower(s.key), text, w.reads(s, text), all)
}

// named says what is kept of a member's name.
func (w *words) named(at spot, name string) string {
	if w == nil || at.in != nil && at.in.names[strings.ToLower(name)] != nil || redact.PlainName(name) || w.anywhere[strings.ToLower(name)] {
		return name
	}
	return redact.NotKept
}
