package unix

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/intake"
	"sternledger/internal/redact"
)

// call is one line of a stack: a module that Linux-PAM calls, and what it
// makes of the answer (pam.conf(5)).
type call struct {
	service string            // that is asked, whatever file the line stands in
	kind    string            // "auth", "account" or "password"
	control map[string]string // return code to action; "default" for the rest
	module  string            // without directory and ".so"
	args    []string
	level   int  // 1 and more within a substack
	opens   bool // it is no module, but the line that opens a substack
	cite    estate.Cite
}

// has reports whether the module got an argument.
func (c *call) has(arg string) bool {
	for _, a := range c.args {
		if a == arg {
			return true
		}
	}
	return false
}

// Actions for the control words, as pam.conf(5) spells them out.
var controls = map[string]map[string]string{
	"required":   {"success": "ok", "new_authtok_reqd": "ok", "ignore": "ignore", "default": "bad"},
	"requisite":  {"success": "ok", "new_authtok_reqd": "ok", "ignore": "ignore", "default": "die"},
	"sufficient": {"success": "done", "new_authtok_reqd": "done", "default": "ignore"},
	"optional":   {"success": "ok", "new_authtok_reqd": "ok", "default": "ignore"},
}

// deepestStack is how many files may include one another.
const deepestStack = 32

// stacks are the services of a tree, by name: files of pam.d and its like, or
// the lines of pam.conf where there is no such folder.
type stacks struct {
	tree   *intake.Tree
	names  []string // sorted
	files  map[string]*intake.Part
	parsed map[string][]line     // each file once, by service
	played map[[2]string]*loaded // by service and kind
}

// loaded is a stack that was followed before.
type loaded struct {
	calls []call
	err   error
}

// mostCalls is how many modules a stack may call: files that include one another twice
// over would come to millions.
const mostCalls = 1000

// serviceFolders are the folders in which Linux-PAM looks for a service, in order.
var serviceFolders = []string{pamFolder, "usr/lib/pam.d/", "usr/etc/pam.d/", "usr/share/pam.d/"}

func newStacks(t *intake.Tree) stacks {
	s := stacks{tree: t, files: map[string]*intake.Part{}, parsed: map[string][]line{}, played: map[[2]string]*loaded{}}
	for _, folder := range serviceFolders {
		for _, p := range t.Parts {
			if name, ok := strings.CutPrefix(p.Name, folder); ok && s.files[name] == nil {
				s.files[name] = p
			}
		}
	}
	if p := t.Find("etc/pam.conf"); p != nil && len(s.files) == 0 {
		s.split(p)
	}
	s.names = slices.Sorted(maps.Keys(s.files))
	return s
}

// split makes of each service in pam.conf a file of its own, whose lines keep
// their numbers.
func (s *stacks) split(p *intake.Part) {
	rows := map[string][]string{}
	for _, l := range logical(p.Data) {
		service, rest, _ := strings.Cut(strings.Join(strings.Fields(l.text), " "), " ")
		service = strings.ToLower(service)
		for len(rows[service]) < l.at-1 {
			rows[service] = append(rows[service], "")
		}
		rows[service] = append(rows[service], rest)
	}
	for service, lines := range rows {
		s.files[service] = &intake.Part{Name: p.Name, Path: p.Path, Stored: p.Stored, Data: []byte(strings.Join(lines, "\n"))}
	}
}

// find returns the file of a service, or nil.
func (s *stacks) find(service string) *intake.Part { return s.files[service] }

// serviceOf is the stack that an include names: a file of the folders in which Linux-PAM looks,
// or, as a path, that file and no other.
func serviceOf(word string) string {
	if !strings.HasPrefix(word, "/") {
		return word
	}
	name := strings.TrimPrefix(path.Clean(word), "/")
	for _, folder := range serviceFolders {
		if service, ok := strings.CutPrefix(name, folder); ok && !strings.Contains(service, "/") {
			return service
		}
	}
	return "/" + name
}

// line is one logical line of a stack file.
type line struct {
	text string
	at   int
}

// logical joins lines that end in a backslash and drops comments.
func logical(data []byte) []line {
	var all []line
	var held string
	from := 0
	for i, text := range strings.Split(string(data), "\n") { // a carriage return is part of the word before it
		text, _, _ = strings.Cut(text, "#")
		if from == 0 {
			from = i + 1
		}
		if cut, ok := strings.CutSuffix(strings.TrimRight(text, " \t"), `\`); ok {
			held += cut + " "
			continue
		}
		if text = strings.Trim(held+text, " \t"); text != "" {
			all = append(all, line{text, from})
		}
		held, from = "", 0
	}
	if held = strings.Trim(held, " \t"); held != "" {
		all = append(all, line{held, from})
	}
	return all
}

// words splits a line; what stands in brackets is one word.
func words(text string) []string {
	var all []string
	for text = strings.Trim(text, " \t"); text != ""; text = strings.Trim(text, " \t") {
		if text[0] == '[' {
			if end := strings.IndexByte(text, ']'); end > 0 {
				all = append(all, text[1:end])
				text = text[end+1:]
				continue
			}
		}
		end := strings.IndexAny(text, " \t")
		if end < 0 {
			end = len(text)
		}
		for _, mark := range []string{redact.Struck, redact.NotKept} { // a value that is not kept is one word
			if at := strings.Index(text, "="+mark); at >= 0 && at < end {
				end = at + len("="+mark)
			}
		}
		all = append(all, text[:end])
		text = text[end:]
	}
	return all
}

// stack returns the calls of one kind that a service makes. One that makes none
// has those of the service "other".
func (s *stacks) stack(service, kind string) ([]call, error) {
	at := [2]string{service, kind}
	known := s.played[at]
	if known == nil {
		known = &loaded{}
		known.calls, known.err = s.follow(service, kind)
		s.played[at] = known
	}
	return slices.Clone(known.calls), known.err
}

func (s *stacks) follow(service, kind string) ([]call, error) {
	var all []call
	var err error
	for _, name := range []string{service, "other"} {
		if s.find(name) == nil && name != service {
			break
		}
		if all, err = s.own(name, kind); err != nil || len(all) > 0 {
			break
		}
	}
	for i := range all {
		all[i].service, all[i].kind = service, kind
	}
	return all, err
}

// own returns the calls of one kind that a service makes itself.
func (s *stacks) own(service, kind string) ([]call, error) {
	room := mostCalls
	return s.load(service, kind, 0, 0, &room)
}

// load returns the calls of one kind ("auth", "account", "password") that a
// service makes, with everything included. A file that is not there is an
// error: Linux-PAM then refuses the service.
func (s *stacks) load(service, kind string, level, depth int, room *int) ([]call, error) {
	part := s.find(service)
	if part == nil && strings.HasPrefix(service, "/") {
		part = s.tree.Find(service[1:])
	}
	if part == nil {
		if slices.ContainsFunc(s.tree.Parts, func(p *intake.Part) bool { return strings.HasPrefix(p.Name, "etc/authselect/") }) {
			return nil, fmt.Errorf("%s%s is not in the tree: such systems have a link there, which the copy lost; copy pam.d with cp -RL or tar -h",
				pamFolder, service)
		}
		return nil, fmt.Errorf("%s%s is not in the tree", pamFolder, service)
	}
	if depth > deepestStack {
		return nil, fmt.Errorf("%s includes itself", part.Name)
	}
	lines, known := s.parsed[service]
	if !known {
		lines = logical(part.Data)
		s.parsed[service] = lines
	}
	var all []call
	for _, l := range lines {
		if *room--; *room < 0 {
			return nil, fmt.Errorf("%s: with all that it includes, the stack has more than %d lines, which no service has", part.Name, mostCalls)
		}
		w := words(l.text)
		if strings.EqualFold(w[0], "@include") {
			if len(w) < 2 {
				return nil, fmt.Errorf("%s:%d: @include without a file", part.Name, l.at)
			}
			more, err := s.load(serviceOf(w[1]), kind, level, depth+1, room)
			if err != nil {
				return nil, err
			}
			all = append(all, more...)
			continue
		}
		if !strings.EqualFold(strings.TrimPrefix(w[0], "-"), kind) {
			continue
		}
		if len(w) < 3 {
			return nil, fmt.Errorf("%s:%d: %s: expected a type, a control and a module", part.Name, l.at, redact.Quote([]byte(l.text)))
		}
		control := strings.ToLower(w[1])
		if control == "include" || control == "substack" {
			inner := level
			if control == "substack" {
				all = append(all, call{opens: true, level: level})
				inner++
			}
			more, err := s.load(serviceOf(w[2]), kind, inner, depth+1, room)
			if err != nil {
				return nil, err
			}
			all = append(all, more...)
			continue
		}
		c := call{control: controls[control], module: strings.TrimSuffix(path.Base(w[2]), ".so"), args: w[3:], level: level,
			cite: estate.Cite{File: part.Stored, Line: l.at, Where: service + " " + kind, Raw: l.text}}
		if c.control == nil {
			c.control = map[string]string{}
			for _, pair := range strings.Fields(control) {
				code, action, ok := strings.Cut(pair, "=")
				if !ok {
					return nil, fmt.Errorf("%s:%d: unknown control %s", part.Name, l.at, redact.Quote([]byte(w[1])))
				}
				c.control[code] = action
			}
		}
		all = append(all, c)
	}
	return all, nil
}

// action is what a call's control makes of a return code. What it does not
// mention is bad.
func (c *call) action(code string) string {
	if a, ok := c.control[code]; ok {
		return a
	}
	if a, ok := c.control["default"]; ok {
		return a
	}
	return "bad"
}

// Return codes of modules that matter here.
const (
	success    = "success"
	ignored    = "ignore"
	refused    = "auth_err"
	badToken   = "authtok_err"
	unknown    = "user_unknown"
	permDenied = "perm_denied"
	expired    = "acct_expired"     // of an account that has ended
	renewal    = "new_authtok_reqd" // of one whose password has to be changed
)

// play runs a stack as Linux-PAM does: answer says what each module returns;
// called are the places of those that are asked, in order, and ok says whether
// the stack as a whole succeeds.
func play(stack []call, answer func(*call) string) (called []int, ok bool) {
	const undecided, positive, negative = 0, 1, 2
	impression, status := undecided, permDenied
	type state struct {
		impression int
		status     string
	}
	began := map[int]state{0: {impression, status}} // by level: what stood when the substack was opened
	for i := 0; i < len(stack); i++ {
		c := &stack[i]
		if c.opens {
			began[c.level+1] = state{impression, status}
			continue
		}
		called = append(called, i)
		code := answer(c)
		action := c.action(code)
		switch action {
		case "ignore":
		case "ok", "done":
			if impression == undecided || impression == positive && status == success {
				impression, status = positive, code
			}
		case "bad", "die":
			if impression != negative {
				impression, status = negative, code
			}
		case "reset":
			impression, status = began[c.level].impression, began[c.level].status
		default:
			n, err := strconv.Atoi(action)
			if err != nil || n < 1 {
				return called, false // a control that Linux-PAM refuses
			}
			for ; n > 0 && i+1 < len(stack) && stack[i+1].level >= c.level; n-- {
				i++
				for i+1 < len(stack) && stack[i+1].level > c.level {
					i++
				}
			}
			if n > 0 {
				impression, status = negative, permDenied
			}
		}
		if action == "die" || action == "done" && impression == positive {
			if c.level == 0 {
				break
			}
			for i+1 < len(stack) && stack[i+1].level >= c.level {
				i++
			}
		}
	}
	return called, impression == positive && status == success
}
