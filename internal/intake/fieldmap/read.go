package fieldmap

import (
	"fmt"
	"iter"
	"math"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/theory/jsonpath"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
)

// Format returns the format of tenants' exports that the maps describe.
func Format(all []*Map) *intake.TreeFormat {
	return &intake.TreeFormat{
		Name: "tenant export (JSON, CSV, by field map)",
		Part: func(file string, head []byte) (root, name string, ok bool) {
			text := intake.Opening(head)
			may := looksLikeJSON(text) || slices.ContainsFunc(all, func(m *Map) bool { return m.mayBeCSV(text) })
			root = path.Dir(file)
			return root, path.Base(file), may
		},
		Claims: func(file string, data []byte) bool {
			d, err := parse(&intake.Part{Path: file, Name: path.Base(file), Data: data})
			if err != nil {
				return strings.EqualFold(path.Ext(file), ".json") // what is cut is claimed, so that it is told
			}
			return len(claims(all, d)) > 0
		},
		Read: func(t *intake.Tree, into *estate.Builder) error { return read(all, t, into) },
	}
}

// mayBeCSV reports whether a first line has the columns of one of the exports.
func (m *Map) mayBeCSV(text []byte) bool {
	line, _, _ := strings.Cut(string(text), "\n")
	return slices.ContainsFunc(m.Exports, func(x Export) bool {
		for _, column := range x.CSV {
			if !strings.Contains(line, column.Value) {
				return false
			}
		}
		return len(x.CSV) > 0
	})
}

// claim is one map's word that a document is one of its exports.
type claim struct {
	m *Map
	x *Export
}

func claims(all []*Map, d *document) []claim {
	var found []claim
	for _, m := range all {
		for i := range m.Exports {
			if x := &m.Exports[i]; x.recognises(d) {
				found = append(found, claim{m, x})
			}
		}
	}
	return found
}

func (x *Export) recognises(d *document) bool {
	if x.File.Value != "" {
		if ok, _ := path.Match(x.File.Value, path.Base(d.part.Name)); !ok {
			return false
		}
	}
	if d.csv != nil {
		for _, column := range x.CSV {
			if !slices.Contains(d.csv, column.Value) {
				return false
			}
		}
		return len(x.CSV) > 0
	}
	if empty, ok := d.value.([]any); ok && len(empty) == 0 && x.File.Value != "" {
		return true // a list of nothing, known by its file's name
	}
	for _, p := range x.JSON {
		if len(p.path.Select(d.value)) == 0 {
			return false
		}
	}
	return len(x.JSON) > 0
}

// reader reads the exports of one tenant by one map.
type reader struct {
	m       *Map
	tree    *intake.Tree
	into    *estate.Builder
	exports map[string][]*document
	at      estate.Place
	tenant  *estate.Authority
	settled map[string]bool // groups that hold everybody
}

func read(all []*Map, t *intake.Tree, into *estate.Builder) error {
	byMap := map[*Map]*reader{}
	var order []*reader
	for _, p := range t.Parts {
		d, err := parse(p)
		if err != nil {
			return err
		}
		found := claims(all, d)
		if len(found) != 1 {
			var names []string
			for _, c := range found {
				names = append(names, c.m.ID.Value+" "+c.x.ID.Value)
			}
			return &intake.Error{Path: p.Path, Seen: "an export that several field maps recognise: " + strings.Join(names, ", "), Expected: "one", Next: "make their conditions (exports: json, csv, file) tell them apart"}
		}
		r := byMap[found[0].m]
		if r == nil {
			r = &reader{m: found[0].m, tree: t, into: into, exports: map[string][]*document{}, settled: map[string]bool{}}
			byMap[r.m], order = r, append(order, r)
		}
		r.exports[found[0].x.ID.Value] = append(r.exports[found[0].x.ID.Value], d)
	}
	for _, r := range order {
		if err := r.read(); err != nil {
			return err
		}
	}
	return nil
}

func (r *reader) read() error {
	r.at = estate.Place{Name: r.name(), Kind: estate.Tenant}
	var first *document
	for _, x := range r.m.Exports {
		for _, d := range r.exports[x.ID.Value] {
			r.into.StartFile(d.part.Stored)
			if first == nil {
				first = d
				if known := r.into.Knows(r.at); known != nil {
					return &intake.Error{Path: d.part.Path, Seen: "a second export of the tenant " + r.at.Name, Expected: "one folder for each tenant in one gather", Next: "put all its exports into one folder"}
				}
			}
			r.tenant = r.into.At(r.at)
		}
	}
	r.tenant.Platform = setting.Platform(r.m.Platform.Value)
	r.settings(first)
	r.groups()
	for i := range r.m.Accounts {
		r.accounts(&r.m.Accounts[i])
	}
	r.policies()
	return nil
}

// name is what the tenant is called: by its exports, else by their folder.
func (r *reader) name() string {
	if r.m.Name != nil {
		for _, v := range r.pick(r.m.Name) {
			return strings.ToLower(v)
		}
	}
	return r.tree.Name
}

// pick returns the texts of a pick.
func (r *reader) pick(p *Pick) []string {
	var all []string
	for _, d := range r.exports[p.Export.Value] {
		for _, e := range d.tops() {
			for _, f := range ask(e.value, e.lines, p.At.path) {
				text := textOf(f.value)
				if p.match != nil {
					m := p.match.FindStringSubmatch(text)
					if m == nil {
						continue
					}
					text = m[1]
				}
				if text != "" {
					all = append(all, text)
				}
			}
		}
	}
	return all
}

// tops are what a path at a document's top is asked of: the document, or each
// row of a CSV.
func (d *document) tops() []element {
	rows, ok := d.value.([]any)
	if d.csv == nil || !ok {
		return []element{{d.value, d.lines}}
	}
	var all []element
	for i, row := range rows {
		all = append(all, element{row, d.lines.items[i]})
	}
	return all
}

// textOf writes a scalar as the export would.
func textOf(v any) string {
	switch v := v.(type) {
	case string:
		return v
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	case bool:
		return strconv.FormatBool(v)
	}
	return ""
}

// first returns the text of the first value that a path leads to.
func first(e element, p Path) (string, bool) {
	if p.path == nil {
		return "", false
	}
	for _, v := range p.path.Select(e.value) {
		if v != nil {
			return textOf(v), true
		}
	}
	return "", false
}

// lineOf returns the line on which the first of the paths' values stands.
func lineOf(e element, paths ...Path) int {
	for _, p := range paths {
		if p.path == nil {
			continue
		}
		for _, f := range ask(e.value, e.lines, p.path) {
			return f.line
		}
	}
	return e.lines.line
}

// settings makes the tenant's own policy.
func (r *reader) settings(from *document) {
	if len(r.m.Settings)+len(r.m.Fixed) == 0 {
		return
	}
	facts := estate.Settings{}
	var at *document
	for i := range r.m.Settings {
		reading := &r.m.Settings[i]
		for _, d := range r.exports[reading.Export.Value] {
			if at == nil {
				at = d
			}
			for _, e := range d.tops() {
				r.setting(facts, reading, e, d)
			}
		}
	}
	if at == nil {
		return // settings were not exported, and what the platform fixes is not all
	}
	for i := range r.m.Fixed {
		f := &r.m.Fixed[i]
		if _, ok := facts[f.row.ID]; !ok {
			facts[f.row.ID] = estate.Fact{Value: f.value, Cite: estate.Cite{File: at.part.Stored, Line: 1, Where: "fixed by the platform", Note: f.Source}}
		}
	}
	r.tenant.Head = &estate.Policy{Name: "tenant", Origin: r.m.ID.Value + " " + r.at.Name, Standing: estate.Enforced, Platform: r.tenant.Platform, Settings: facts,
		Cite: estate.Cite{File: at.part.Stored, Line: 1, Where: r.m.ID.Value}}
	r.banned()
}

// banned reads the organisation's own list of banned words, and counts them.
func (r *reader) banned() {
	if r.m.Banned == nil {
		return
	}
	head, at := r.tenant.Head, r.m.Banned.At
	for _, d := range r.exports[r.m.Banned.Export.Value] {
		for _, e := range d.tops() {
			for _, f := range ask(e.value, e.lines, at.path) {
				if head.Asks == nil {
					head.Asks = &estate.Asks{Cite: estate.Cite{File: d.part.Stored, Line: f.line, Where: at.name(f.path)}}
				}
				for _, word := range strings.FieldsFunc(textOf(f.value), func(c rune) bool { return c == '\t' || c == '\n' || c == '\r' }) {
					head.Asks.Words = append(head.Asks.Words, strings.TrimSpace(word))
				}
			}
		}
	}
	if head.Asks != nil {
		r.into.Set(head.Settings, r.tenant.Platform, "blocklist-size", setting.Number(int64(len(head.Asks.Words))), head.Asks.Cite)
	}
}

// setting reads one setting from a value.
func (r *reader) setting(facts estate.Settings, reading *Reading, e element, d *document) {
	cite := func(f found, at Path) estate.Cite {
		return estate.Cite{File: d.part.Stored, Line: f.line, Where: at.name(f.path), Raw: textOf(f.value)}
	}
	for i := range reading.When {
		w := &reading.When[i]
		for _, f := range ask(e.value, e.lines, w.At.path) {
			if strings.EqualFold(textOf(f.value), w.Is.Value) {
				r.into.Set(facts, r.tenant.Platform, reading.row.ID, w.value, cite(f, w.At))
				return
			}
		}
	}
	some := false
	for _, f := range ask(e.value, e.lines, reading.At.path) {
		if f.value == nil {
			continue
		}
		some = true
		v, err := reading.value(f.value)
		if err != nil {
			r.into.Unreadable(facts, reading.row.ID, cite(f, reading.At), err.Error())
			continue
		}
		if before, ok := facts[reading.row.ID]; ok && reading.Least && before.Problem == "" {
			// Several of one kind, such as domains: the weakest is what holds.
			if order, known := reading.row.Compare(v, before.Value); before.Value == v || known && order >= 0 || !known && before.Value.Is(setting.Never) {
				continue
			}
			delete(facts, reading.row.ID)
		}
		r.into.Set(facts, r.tenant.Platform, reading.row.ID, v, cite(f, reading.At))
		if fact := facts[reading.row.ID]; fact.Problem == "" && reading.Unit.Value != "" {
			fact.Unit = reading.Unit.Value
			facts[reading.row.ID] = fact
		}
	}
	if !some && reading.Absent != nil {
		c := estate.Cite{File: d.part.Stored, Line: e.lines.line, Where: reading.At.name(reading.At.text.Value), Note: "not there"}
		if _, ok := facts[reading.row.ID]; !ok {
			r.into.Set(facts, r.tenant.Platform, reading.row.ID, reading.absent, c)
		}
	}
}

var (
	lastName = regexp.MustCompile(`([A-Za-z0-9_-]+)'?\]?$`)
	filtered = regexp.MustCompile(`== '([^']+)'\]\.value$`)
)

// name is what administrators call the field at a path: its last part, or the
// name by which it is picked from a list of names and values.
func (p Path) name(path string) string {
	if m := filtered.FindStringSubmatch(p.text.Value); m != nil {
		return m[1]
	}
	if m := lastName.FindStringSubmatch(path); m != nil {
		return m[1]
	}
	return path
}

// value turns an exported value into ours.
func (r *Reading) value(raw any) (setting.Value, error) {
	text := textOf(raw)
	if v, ok := r.values[strings.ToLower(text)]; ok {
		return v, nil
	}
	s := r.row
	switch s.Kind {
	case setting.Toggle:
		if on, ok := raw.(bool); ok {
			return setting.Switch(on), nil
		}
		if on, err := strconv.ParseBool(strings.ToLower(text)); err == nil {
			return setting.Switch(on), nil
		}
	case setting.Choice:
	case setting.Duration:
		if r.Unit.Value == "with its unit" {
			return s.Parse(text)
		}
		if n, err := strconv.ParseFloat(text, 64); err == nil && n == math.Trunc(n) && math.Abs(n) < 1<<40 {
			return setting.Number(int64(n) * units[r.Unit.Value]), nil
		}
	default:
		if list, ok := raw.([]any); ok {
			return setting.Number(int64(len(list))), nil
		}
		if n, err := strconv.ParseInt(text, 10, 64); err == nil {
			return setting.Number(n), nil
		}
	}
	return setting.Value{}, fmt.Errorf("%q is not what the field map expects of %s: a word it lists, or %s", text, s.ID, s.Expects())
}

// holds reports whether a condition holds of a value.
func (c *Condition) holds(e element) bool {
	for _, v := range c.At.path.Select(e.value) {
		text := textOf(v)
		is := func(w string) bool { return strings.EqualFold(w, text) }
		any := func(words []string) bool { return slices.ContainsFunc(words, is) }
		switch {
		case v == nil:
		case c.Contains.Value != "":
			if strings.Contains(strings.ToLower(text), strings.ToLower(c.Contains.Value)) {
				return true
			}
		case len(c.Not) > 0:
			if !any(valuesOf(c.Not)) {
				return true
			}
		default:
			if any(valuesOf(c.Is)) {
				return true
			}
		}
	}
	return false
}

func allHold(conditions []Condition, e element) bool {
	return !slices.ContainsFunc(conditions, func(c Condition) bool { return !c.holds(e) })
}

// each walks over the elements of an export that meet the conditions.
func (r *reader) each(export string, at *jsonpath.Path, only []Condition) iter.Seq2[*document, element] {
	return func(yield func(*document, element) bool) {
		for _, d := range r.exports[export] {
			r.into.StartFile(d.part.Stored)
			for _, e := range d.each(at) {
				if allHold(only, e) && !yield(d, e) {
					return
				}
			}
		}
	}
}

// accounts reads the accounts of one export.
func (r *reader) accounts(a *Accounts) {
	elsewhere := map[string]bool{}
	if a.Federated != nil {
		for _, domain := range r.pick(a.Federated) {
			elsewhere[strings.ToLower(domain)] = true
		}
	}
	for d, e := range r.each(a.Export.Value, a.Each.path, a.Only) {
		name, _ := first(e, a.Name)
		id, hasID := first(e, a.ID)
		if !hasID {
			id = name
		}
		if id == "" {
			r.into.NotUnderstood(estate.Cite{File: d.part.Stored, Line: e.lines.line, Where: a.Name.text.Value}, "an account without a name")
			continue
		}
		rec := &estate.Record{Class: estate.Account, DN: []byte(id), Name: []byte(name), Line: lineOf(e, a.ID, a.Name)}
		if a.Joins {
			rec.Class = estate.Other
		}
		principal, _ := first(e, a.Principal)
		display, _ := first(e, a.Display)
		rec.Principal, rec.Display = []byte(principal), []byte(display)
		if changed, ok := first(e, a.Changed); ok {
			if t, err := time.Parse(time.RFC3339, changed); err == nil && t.Unix() > 0 {
				rec.PwdSet = uint32(t.Unix())
			}
		}
		for i := range a.Flags {
			if a.Flags[i].holds(e) {
				rec.Flags |= a.Flags[i].flag
			}
		}
		if _, domain, ok := strings.Cut(strings.ToLower(name), "@"); ok && elsewhere[domain] {
			rec.Flags |= estate.Federated
		}
		if rec.Flags&estate.Synced != 0 {
			domain, _ := first(e, a.Domain)
			account, _ := first(e, a.Account)
			sid, _ := first(e, a.SID)
			rec.Source = []byte(strings.Join([]string{domain, account, sid}, "\t"))
		}
		r.into.Object(r.at, rec)
	}
}

// groupDN keeps groups and accounts of one id apart.
func groupDN(id string) []byte { return []byte("group " + id) }

// groups reads the groups and who is in them.
func (r *reader) groups() {
	g := r.m.Groups
	if g == nil {
		return
	}
	rows := map[string]uint32{}
	for d, e := range r.each(g.Export.Value, g.Each.path, nil) {
		id, _ := first(e, g.ID)
		name, _ := first(e, g.Name)
		if id == "" {
			r.into.NotUnderstood(estate.Cite{File: d.part.Stored, Line: e.lines.line, Where: g.ID.text.Value}, "a group without an id")
			continue
		}
		if len(g.Everybody) > 0 && allHold(g.Everybody, e) {
			r.settled[id] = true
		}
		row := r.into.Object(r.at, &estate.Record{Class: estate.Group, DN: groupDN(id), Name: []byte(name), GroupType: estate.SecurityGroup, Line: lineOf(e, g.ID)})
		rows[id] = row
		if g.Members.path == nil {
			continue
		}
		for _, m := range ask(e.value, e.lines, g.Members.path) {
			r.into.Member(r.at, row, []byte(textOf(m.value)), m.line)
		}
	}
	if g.In == nil {
		return
	}
	for _, d := range r.exports[g.In.Export.Value] {
		r.into.StartFile(d.part.Stored)
		m := g.In.group.FindStringSubmatch(path.Base(d.part.Name))
		if m == nil {
			r.into.NotUnderstood(estate.Cite{File: d.part.Stored, Line: 1}, "the file's name does not say which group's members these are")
			continue
		}
		row, ok := rows[m[1]]
		if !ok {
			row = r.into.Object(r.at, &estate.Record{Class: estate.Group, DN: groupDN(m[1]), Name: []byte(m[1]), GroupType: estate.SecurityGroup, Line: 1})
			rows[m[1]] = row
		}
		for _, e := range d.each(g.In.Each.path) {
			if id, _ := first(e, g.In.ID); id != "" {
				r.into.Member(r.at, row, []byte(id), e.lines.line)
			}
		}
	}
}

// policies reads the prioritised policies.
func (r *reader) policies() {
	p := r.m.Policies
	if p == nil {
		return
	}
	for d, e := range r.each(p.Export.Value, p.Each.path, p.Only) {
		name, _ := first(e, p.Name)
		policy := r.into.Override(r.at, []byte(name), e.lines.line)
		policy.Name, policy.Cite = name, estate.Cite{File: d.part.Stored, Line: e.lines.line, Where: p.Name.text.Value, Raw: name}
		if text, ok := first(e, p.Precedence); ok {
			if n, err := strconv.ParseInt(text, 10, 32); err == nil {
				policy.Precedence = &n
			}
		}
		if p.Groups.path != nil {
			for _, f := range ask(e.value, e.lines, p.Groups.path) {
				id := textOf(f.value)
				if r.settled[id] {
					policy.Targets = nil // whatever else it names: everybody
					break
				}
				policy.Targets = append(policy.Targets, estate.Target{DN: string(groupDN(id)), Cite: estate.Cite{File: d.part.Stored, Line: f.line, Where: f.path, Raw: id}})
			}
		}
		for i := range p.Settings {
			r.setting(policy.Settings, &p.Settings[i], e, d)
		}
	}
}
