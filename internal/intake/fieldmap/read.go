package fieldmap

import (
	"cmp"
	"fmt"
	"iter"
	"maps"
	"math"
	"path"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/intake"
	"sternledger/internal/redact"
)

// Format returns the format of tenants' exports that the maps describe.
func Format(all []*Map) *intake.TreeFormat {
	return &intake.TreeFormat{
		Name: "tenant export (JSON, CSV, by field map)",
		Part: func(file string, head []byte) (root, name string, ok bool) {
			text := intake.Opening(head)
			may := looksLikeJSON(text) || slices.ContainsFunc(all, func(m *Map) bool {
				return m.mayBeCSV(text) || m.mayBeShell(text) ||
					m.mayBeText(text)
			})
			root = path.Dir(file)
			return root, path.Base(file), may
		},
		Claims: func(file string, read func(most int) ([]byte, error)) bool {
			known := func(data []byte, how reading) (bool, error) {
				d, err := parseAs(&intake.Part{Path: file, Name: path.Base(file), Data: data}, how)
				return err == nil && len(claims(all, d)) > 0, err
			}
			begin, err := read(glanced)
			if err != nil {
				return false
			}
			if ok, err := known(begin, reading{glance: true}); ok && err == nil {
				return true
			}
			data, err := read(0)
			if err != nil {
				return false
			}
			ok, err := known(data, reading{rows: true})
			return ok || err != nil && strings.EqualFold(path.Ext(file), ".json") // what is cut is claimed, so that it is told
		},
		Read: func(t *intake.Tree, into *estate.Builder) error { return read(all, t, into) },
	}
}

// glanced is how much of a file is read to tell what it is; if that does not tell, all is.
const glanced = 1 << 20

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

// mayBeText reports whether a text says that nothing is set.
func (m *Map) mayBeText(text []byte) bool {
	return slices.ContainsFunc(m.Exports, func(x Export) bool { return x.text != nil && x.text.Match(text) })
}

// claim is one map's word that a document is one of its exports.
type claim struct {
	m *Map
	x *Export
	d *document // as the map reads it
}

func claims(all []*Map, d *document) []claim {
	var found []claim
	plainly := func(of *document, among func(m *Map, x *Export) bool) {
		for _, m := range all {
			for i := range m.Exports {
				if x := &m.Exports[i]; among(m, x) && x.recognises(of) {
					found = append(found, claim{m, x, d})
				}
			}
		}
	}
	every := func(*Map, *Export) bool { return true }
	if b := d.beginning(); b != nil {
		plainly(b, every)
		// Its further exports may be found behind the beginning only.
		begun := slices.Clone(found)
		plainly(d, func(m *Map, x *Export) bool {
			return slices.ContainsFunc(begun, func(c claim) bool { return c.m == m }) &&
				!slices.ContainsFunc(begun, func(c claim) bool { return c.x == x })
		})
	}
	if len(found) == 0 {
		plainly(d, every)
	}
	if said := slices.DeleteFunc(slices.Clone(found), func(c claim) bool { return !c.x.says(d) }); len(said) == 1 {
		return said // an empty list says what it is of; others go by its file's name
	}
	if len(found) > 0 || d.value == nil {
		return found
	}
	if b := d.beginning(); b != nil {
		found = shellClaims(all, b, d)
	}
	if len(found) == 0 {
		found = shellClaims(all, d, d)
	}
	return found
}

// shellClaims are the maps' words on a document as a shell writes it, by a beginning of it.
func shellClaims(all []*Map, begin, d *document) (found []claim) {
	names := map[string]bool{}
	namesIn(d.value, func(low string) bool {
		return slices.ContainsFunc(all, func(m *Map) bool { return m.spelled[low] != "" })
	}, names)
	for _, m := range all {
		if !m.mayBe(names, d.empty()) {
			continue
		}
		spelled := m.spelled
		begun, whole := begin.asShell(spelled), (*document)(nil)
		for i := range m.Exports {
			x := &m.Exports[i]
			k := slices.IndexFunc(begun.shells(x), x.recognises)
			if k < 0 {
				continue
			}
			if whole == nil {
				whole = d.asShell(spelled)
			}
			found = append(found, claim{m, x, whole.shells(x)[k]})
		}
	}
	return found
}

// says reports whether an empty list is known by a field beside it.
func (x *Export) says(d *document) bool {
	if x.Empty == nil || d.csv != nil || !d.empty() || x.Empty.At.path == nil {
		return false
	}
	text, ok := first(element{d.value, d.lines}, x.Empty.At)
	return ok && strings.Contains(strings.ToLower(text), strings.ToLower(x.Empty.Contains.Value))
}

func (x *Export) recognises(d *document) bool {
	if x.text != nil && d.text != nil && x.text.Match(d.text) {
		return true
	}
	if n := x.Empty; n != nil && d.csv == nil && d.empty() {
		if ok, _ := path.Match(strings.ToLower(n.File.Value), strings.ToLower(path.Base(d.part.Name))); ok && n.File.Value != "" {
			return true
		}
		return x.says(d)
	}
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
		if !p.path.somewhere(d.value) {
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
	called  string          // the tenant's name
	people  []someone
	known   map[string]bool     // ids of accounts
	made    int64               // policies that the exports do not spell out
	groups  map[string]*group   // by id
	held    map[string][]string // by id of an account or a group: the groups that name it
}

func read(all []*Map, t *intake.Tree, into *estate.Builder) error {
	type claimed struct {
		d *document
		x string
	}
	byMap := map[*Map][]claimed{}
	var order []*Map
	words := wordsOf(all)
	for _, p := range t.Parts {
		d, err := parseAs(p, reading{words: words, keepAll: t.KeepAll, rows: true})
		if err != nil {
			return err
		}
		found := claims(all, d)
		if len(found) != 1 {
			var names []string
			for _, c := range found {
				names = append(names, c.m.ID.Value+" "+c.x.ID.Value)
			}
			return &intake.Error{Path: p.Path, Seen: "an export that several field maps recognise: " + strings.Join(names, ", "),
				Expected: "one", Next: "make their conditions (exports: json, csv, file) tell them apart"}
		}
		m := found[0].m
		found[0].d.lacks = found[0].x.lackedBy(found[0].d)
		if byMap[m] == nil {
			order = append(order, m)
		}
		byMap[m] = append(byMap[m], claimed{found[0].d, found[0].x.ID.Value})
	}
	for _, m := range order {
		// Each export names its tenant where it can; what cannot belongs to the one
		// that the others name.
		readers := map[string]*reader{}
		var names []string
		var nameless []claimed
		add := func(name string, c claimed) {
			r := readers[name]
			if r == nil {
				r = &reader{m: m, tree: t, into: into, exports: map[string][]*document{}, settled: map[string]bool{}, groups: map[string]*group{},
					held: map[string][]string{}, known: map[string]bool{}, called: name}
				readers[name], names = r, append(names, name)
			}
			r.exports[c.x] = append(r.exports[c.x], c.d)
		}
		for _, c := range byMap[m] {
			called, err := m.tenantOf(c.x, c.d)
			if err != nil {
				return err
			}
			if called == "" {
				nameless = append(nameless, c)
			} else {
				add(called, c)
			}
		}
		if len(names) > 1 && len(nameless) > 0 {
			return &intake.Error{Path: nameless[0].d.part.Path,
				Seen:     fmt.Sprintf("an export that does not say of which tenant it is, beside those of %s", strings.Join(names, " and ")),
				Expected: "one tenant in a folder, or exports that all name theirs", Next: "put the exports of each tenant into a folder of its own"}
		}
		for _, c := range nameless {
			name := t.Name
			if len(names) > 0 {
				name = names[0]
			}
			add(name, c)
		}
		for _, name := range names {
			if err := readers[name].read(); err != nil {
				return err
			}
		}
	}
	return nil
}

// tenantOf returns the name of its tenant that an export holds; empty if it
// holds none.
func (m *Map) tenantOf(export string, d *document) (string, error) {
	r := &reader{exports: map[string][]*document{export: {d}}}
	name := ""
	for i := range m.Name {
		for _, v := range r.pick(&m.Name[i]) {
			if v = strings.ToLower(v); name != "" && v != name {
				return "", &intake.Error{Path: d.part.Path, Seen: "an export of two tenants, " + name + " and " + v,
					Expected: "one tenant in each export", Next: "export each tenant by itself"}
			}
			name = v
		}
	}
	return name, nil
}

func (r *reader) read() error {
	r.at = estate.Place{Name: r.called, Kind: estate.Tenant}
	var first *document
	for _, x := range r.m.Exports {
		for _, d := range r.exports[x.ID.Value] {
			r.into.StartFile(d.part.Stored)
			if first == nil {
				first = d
				if known := r.into.Knows(r.at); known != nil {
					return &intake.Error{Path: d.part.Path, Seen: "a second export of the tenant " + r.at.Name,
						Expected: "one folder for each tenant in one gather", Next: "put all its exports into one folder"}
				}
			}
			r.tenant = r.into.At(r.at)
		}
	}
	if err := r.twice(); err != nil {
		return err
	}
	r.tenant.Platform = setting.Platform(r.m.Platform.Value)
	r.settings(first)
	r.readGroups()
	for i := range r.m.Accounts {
		r.accounts(&r.m.Accounts[i])
	}
	for i := range r.m.Accounts {
		r.own(&r.m.Accounts[i])
	}
	r.policies()
	r.domains()
	r.units()
	r.apart()
	r.roles()
	r.synchronisation()
	r.elsewhere()
	r.signOn()
	r.rollout()
	r.factors()
	r.cutLists()
	return nil
}

// pick returns the texts of a pick.
func (r *reader) pick(p *Pick) []string {
	var all []string
	for _, d := range r.exports[p.Export.Value] {
		if p.match != nil && d.text != nil {
			if m := p.match.FindSubmatch(d.text); m != nil && p.Whole {
				all = append(all, string(m[1]))
				continue
			}
		}
		if p.At.path == nil {
			continue
		}
		for e := range d.tops() {
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
func (d *document) tops() iter.Seq[element] {
	return func(yield func(element) bool) {
		rows, ok := d.value.(*long)
		if d.csv == nil || !ok {
			yield(element{d.value, d.lines})
			return
		}
		for i := range rows.len() {
			if value, lines := rows.at(i, d.lines); !yield(element{value, lines}) {
				return
			}
		}
	}
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
	if text, null, ok := p.path.scalar(e.value); ok {
		return text, !null
	}
	for v := range p.path.leads(e.value, noLines) {
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
		for _, at := range p.path.leads(e.value, e.lines) {
			return at.line
		}
	}
	return e.lines.line
}

// settings makes the tenant's own policy.
func (r *reader) settings(from *document) {
	if len(r.m.Settings)+len(r.m.Fixed) == 0 && r.m.Domains == nil {
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
			for e := range d.tops() {
				r.setting(facts, reading, e, d)
			}
		}
		r.missing(facts, reading, r.exports[reading.Export.Value])
	}
	if d := r.m.Domains; at == nil && d != nil && len(r.exports[d.Export.Value]) > 0 {
		at = r.exports[d.Export.Value][0]
	}
	if at == nil {
		return // settings were not exported, and what the platform fixes is not all
	}
	for i := range r.m.Fixed {
		f := &r.m.Fixed[i]
		if _, ok := facts[f.row.ID]; !ok {
			facts[f.row.ID] = estate.Fact{Value: f.value, Cite: estate.Cite{File: at.part.Stored, Line: 1, Where: "fixed by the platform",
				Note: f.Source}, Remedy: byOtherMeans}
		}
	}
	r.notWhole(facts)
	r.tenant.Head = &estate.Policy{Name: "tenant", Origin: r.m.ID.Value + " " + r.at.Name, Standing: estate.Enforced,
		Platform: r.tenant.Platform, Settings: facts,
		Cite: estate.Cite{File: at.part.Stored, Line: 1, Where: r.m.ID.Value}}
	r.banned()
}

// byOtherMeans is all that can be done about what a platform fixes.
const byOtherMeans = "The platform fixes it: meet the demand by another measure, and record that."

// missing settles what exports say of a setting by not holding it: the
// documented default where they hold all there is, else nothing.
func (r *reader) missing(facts estate.Settings, reading *Reading, docs []*document) {
	if _, ok := facts[reading.row.ID]; ok || len(docs) == 0 {
		return
	}
	at := estate.Cite{File: docs[0].part.Stored, Line: 1, Where: reading.named(reading.At.name(reading.At.text.Value))}
	if d := r.cutOff(docs); d != nil {
		at.File = d.part.Stored
		facts[reading.row.ID] = estate.Fact{Cite: at, Problem: d.lacking("the export"), Remedy: "Export all pages, and gather them together."}
		return
	}
	for _, d := range docs {
		if reading.Shown && reading.holder != nil && reading.holder.somewhere(d.value) && !reading.At.path.somewhere(d.value) {
			at.File = d.part.Stored
			facts[reading.row.ID] = notAsked(reading, at)
			return
		}
	}
	r.absent(facts, reading, at)
}

// notAsked is what a field comes to that the export was not asked for.
func notAsked(reading *Reading, at estate.Cite) estate.Fact {
	field := reading.At.text.Value
	return estate.Fact{Cite: at, Problem: "the export has no " + field, Remedy: "Export " + field + ", too."}
}

// absent gives a setting its documented default, where something whole does not
// hold it.
func (r *reader) absent(facts estate.Settings, reading *Reading, at estate.Cite) {
	if _, ok := facts[reading.row.ID]; ok || reading.Default == nil {
		return
	}
	if d := reading.Default; d.Or.Value != "" {
		facts[reading.row.ID] = estate.Fact{Cite: at, Problem: fmt.Sprintf("not set, and that is %s or %s: %s", reading.row.Text(d.value),
			reading.row.Text(d.or), d.Source), Remedy: "Set it."}
		return
	}
	at.Note = "not set: " + reading.Default.Source
	r.into.Set(facts, r.tenant.Platform, reading.row.ID, reading.Default.value, at)
}

// silent settles what one of a list's elements says of a setting by not holding it.
// A shell writes the fields that it was asked for: one that is lacking proves nothing.
func (r *reader) silent(facts estate.Settings, reading *Reading, e element, d *document, at estate.Cite) {
	if _, ok := facts[reading.row.ID]; !ok && (d.bare || reading.Shown) && !reading.At.path.somewhere(e.value) {
		facts[reading.row.ID] = notAsked(reading, at)
		return
	}
	r.absent(facts, reading, at)
}

// cutOff returns the document after which one more is lacking: of the pages of a
// list one is the last, and says so.
func (r *reader) cutOff(docs []*document) *document {
	if i := slices.IndexFunc(docs, func(d *document) bool { return d.lacks != "" }); i >= 0 {
		return docs[i]
	}
	if d := r.gap(docs); d != nil {
		return d
	}
	var more *document
	for _, d := range docs {
		if !r.goesOn(d) {
			return nil
		}
		more = d
	}
	return more
}

// pageNumber is the number of a page in its file's name: users.page2.json, users2.json.
var pageNumber = regexp.MustCompile(`(?i)^(.*?)(?:[._ -]*(?:page|part|p))?[._ -]*(\d+)?\.(?:json|csv)$`)

// gap returns a page after which another is lacking, by the files' names, or by how full the last
// one is.
func (r *reader) gap(docs []*document) *document {
	byName := map[string]map[int]*document{} // pages of one name, by their numbers
	for _, d := range docs {
		m := pageNumber.FindStringSubmatch(path.Base(d.part.Name))
		if m == nil {
			continue
		}
		n, err := strconv.Atoi(m[2])
		if err != nil {
			n = 1
		}
		if byName[m[1]] == nil {
			byName[m[1]] = map[int]*document{}
		}
		byName[m[1]][n] = d
	}
	for _, pages := range byName {
		numbers := slices.Sorted(maps.Keys(pages))
		last := numbers[len(numbers)-1]
		// Names such as crew2024.json are no pages.
		const mostGap = 50
		for i, n := range numbers[1:] {
			if before := numbers[i]; n != before+1 && n-before < mostGap &&
				(strings.Contains(pages[n].part.Name, ".page") || r.goesOn(pages[before])) {
				pages[before].gone = fmt.Sprintf("page %d", before+1)
				return pages[before]
			}
		}
		d := pages[last]
		if x := r.m.exportOf(d, r); x != nil && slices.Contains(x.Limits, d.length()) {
			d.gone = "what may come after a full page"
			return d
		}
	}
	return nil
}

// exportOf is the export that a document was recognised as.
func (m *Map) exportOf(d *document, r *reader) *Export {
	for i := range m.Exports {
		if slices.Contains(r.exports[m.Exports[i].ID.Value], d) {
			return &m.Exports[i]
		}
	}
	return nil
}

// length is how many elements the document's list has; -1 where it is none.
func (d *document) length() int {
	switch v := d.value.(type) {
	case []any:
		return len(v)
	case *long:
		return v.len()
	}
	return -1
}

// lackedBy returns the first field that an element of a complete export has, and one
// of the document's has not.
func (x *Export) lackedBy(d *document) string {
	if x.Complete == nil {
		return ""
	}
	for _, element := range x.Complete.Each.path.Select(d.value) {
		for i, has := range x.Complete.has {
			if !holdsParts(element, has) {
				return x.Complete.Has[i].Value
			}
		}
	}
	return ""
}

// holdsParts reports whether an element has a field. Where null stands for what would
// hold it, it has.
func holdsParts(v any, steps []part) bool {
	if len(steps) == 0 {
		return true
	}
	step := steps[0]
	var inner any
	var ok bool
	switch v := v.(type) {
	case map[string]any:
		inner, ok = v[step.name]
	case *row:
		inner, _, ok = v.member(step.name, noLines)
	default:
		return false
	}
	switch {
	case !ok:
		return step.may
	case inner == nil:
		return true
	case !step.list:
		return holdsParts(inner, steps[1:])
	}
	list, ok := inner.([]any)
	return ok && !slices.ContainsFunc(list, func(x any) bool { return !holdsParts(x, steps[1:]) })
}

// lacking says what is wrong with a list of which a part may be lacking.
func (d *document) lacking(what string) string {
	if d.lacks != "" {
		return what + " came without " + d.lacks + ", which the product writes of each element"
	}
	if d.gone != "" {
		return what + " is not whole: " + d.gone + " is not in the evidence"
	}
	if d.bare {
		return what + " came without its envelope, as shells write it, and does not tell whether it goes on in a further page"
	}
	return what + " goes on in a further page, which is not in the evidence"
}

// goesOn reports whether a reply says that there is a further page.
func (r *reader) goesOn(d *document) bool {
	if d.bare { // a shell gives the first hundred, unless it is asked for all
		return true
	}
	e := element{d.value, d.lines}
	if r.m.Live != nil && r.m.Live.Next.path != nil && d.csv == nil {
		if text, ok := first(e, r.m.Live.Next); ok && text != "" {
			return true
		}
	}
	return slices.ContainsFunc(r.m.Cut, func(c Condition) bool { return c.holds(e) })
}

// cutLists tells of lists of which a page is lacking.
func (r *reader) cutLists() {
	for _, x := range r.m.Exports {
		d := r.cutOff(r.exports[x.ID.Value])
		if d == nil {
			continue
		}
		at := estate.Cite{File: d.part.Stored, Line: 1, Where: x.ID.Value}
		r.tenant.Remarks = append(r.tenant.Remarks, estate.Remark{Kind: estate.ListCut, About: x.ID.Value, Cites: []estate.Cite{at},
			Text:   d.lacking("the list of "+x.ID.Value) + ": what it holds is not known",
			Remedy: "Export all pages with all fields, and gather them together."})
		if p := r.m.Policies; p != nil && p.Export.Value == x.ID.Value {
			r.tenant.PoliciesCut = &at
		}
	}
}

// banned reads the organisation's own list of banned words, and counts them.
func (r *reader) banned() {
	if r.m.Banned == nil {
		return
	}
	head, at := r.tenant.Head, r.m.Banned.At
	if docs := r.exports[r.m.Banned.Export.Value]; len(docs) > 0 && r.cutOff(docs) == nil { // none is listed, unless one is
		head.Asks = &estate.Asks{Cite: estate.Cite{File: docs[0].part.Stored, Line: 1, Where: at.name(at.text.Value)}}
	}
	for _, d := range r.exports[r.m.Banned.Export.Value] {
		for e := range d.tops() {
			for _, f := range ask(e.value, e.lines, at.path) {
				if head.Asks == nil || len(head.Asks.Words) == 0 {
					head.Asks = &estate.Asks{Cite: estate.Cite{File: d.part.Stored, Line: f.line, Where: at.name(f.path)}}
				}
				for _, word := range strings.FieldsFunc(textOf(f.value), func(c rune) bool { return c == '\t' || c == '\n' || c == '\r' }) {
					head.Asks.Words = append(head.Asks.Words, strings.TrimSpace(word))
				}
			}
		}
	}
	if head.Asks != nil {
		r.into.Set(head.Settings, r.tenant.Platform, setting.BlocklistSize, setting.Number(int64(len(head.Asks.Words))), head.Asks.Cite)
	}
}

// setting reads one setting from a value.
func (r *reader) setting(facts estate.Settings, reading *Reading, e element, d *document) {
	cite := func(f found, at Path) estate.Cite {
		return estate.Cite{File: d.part.Stored, Line: f.line, Where: reading.named(at.name(f.path)), Raw: textOf(f.value)}
	}
	if !allHold(reading.Only, e) {
		return
	}
	for i := range reading.When {
		w := &reading.When[i]
		if w.Unless != nil && w.Unless.holds(e) {
			continue
		}
		for _, f := range ask(e.value, e.lines, w.At.path) {
			if f.value != nil && w.Is.Value == "" || strings.EqualFold(textOf(f.value), w.Is.Value) {
				r.into.Set(facts, r.tenant.Platform, reading.row.ID, w.value, cite(f, w.At))
				return
			}
		}
	}
	for _, f := range ask(e.value, e.lines, reading.At.path) {
		if f.value == nil {
			continue
		}
		if reading.match != nil {
			m := reading.match.FindStringSubmatch(textOf(f.value))
			if m == nil {
				continue // the text does not speak of it
			}
			f.value = m[len(m)-1]
		}
		if text := textOf(f.value); slices.ContainsFunc(reading.Inherit, func(w strictyaml.Text) bool { return strings.EqualFold(w.Value, text) }) {
			continue // what stands above says it
		}
		v, err := reading.value(f.value)
		if err != nil {
			r.into.Unreadable(facts, reading.row.ID, cite(f, reading.At), err.Error())
			continue
		}
		if before, ok := facts[reading.row.ID]; ok && (reading.Least || reading.Most) && before.Problem == "" {
			// Several of one kind: the weakest is what holds, or the strongest.
			order, known := stricter(reading.row, v, before.Value)
			if before.Value == v || known && (order >= 0) == reading.Least {
				continue
			}
			if known {
				delete(facts, reading.row.ID)
			}
		}
		r.into.Set(facts, r.tenant.Platform, reading.row.ID, v, cite(f, reading.At))
		if fact := facts[reading.row.ID]; fact.Problem == "" && reading.Unit.Value != "" {
			fact.Unit = reading.Unit.Value
			facts[reading.row.ID] = fact
		}
	}
}

// named is what administrators call a setting: the field it stands in, and, of a
// text that holds several, its word there.
func (r *Reading) named(field string) string {
	if r.match == nil {
		return field
	}
	return field + " (" + firstWord.FindString(strings.ReplaceAll(r.Match.Value, `\b`, " ")) + ")"
}

// firstWord is the word that a regular expression looks for.
var firstWord = regexp.MustCompile(`[A-Za-z_]{3,}`)

// stricter compares two values of which the platform takes the weaker or the
// stricter; to a platform that ends passwords, a shorter life is stricter.
func stricter(row *setting.Setting, x, y setting.Value) (int, bool) {
	if order, known := row.Compare(x, y); known {
		return order, true
	}
	a, finite := x.Number()
	b, other := y.Number()
	switch {
	case finite && other:
		return cmp.Compare(b, a), true
	case x.Is(setting.Never) && other:
		return -1, true
	case finite && y.Is(setting.Never):
		return 1, true
	}
	return 0, false
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
			if unit := units[r.Unit.Value]; unit > 0 {
				return setting.Number(int64(n) * unit), nil
			} else if int64(n)%1000 == 0 {
				return setting.Number(int64(n) / 1000), nil // milliseconds, of whole seconds
			}
		}
	default:
		switch list := raw.(type) {
		case []any:
			return setting.Number(int64(len(list))), nil
		case *long:
			return setting.Number(int64(list.len())), nil
		}
		if n, err := strconv.ParseInt(text, 10, 64); err == nil {
			return setting.Number(n), nil
		}
	}
	return setting.Value{}, fmt.Errorf("%s is not what the field map expects of %s: a word it lists, or %s", redact.Quote([]byte(text)), s.ID, s.Expects())
}

// holds reports whether a condition holds of a value.
func (c *Condition) holds(e element) bool {
	if c.Absent != nil {
		return c.At.path.somewhere(e.value) != *c.Absent
	}
	if c.Lacks.Value != "" {
		text, _ := first(e, c.At)
		return !strings.Contains(strings.ToLower(text), strings.ToLower(c.Lacks.Value))
	}
	if text, null, ok := c.At.path.scalar(e.value); ok {
		return !null && c.met(text)
	}
	for v := range c.At.path.leads(e.value, noLines) {
		if v != nil && c.met(textOf(v)) {
			return true
		}
	}
	return false
}

// met reports whether a value meets the condition.
func (c *Condition) met(text string) bool {
	is := func(w strictyaml.Text) bool { return strings.EqualFold(w.Value, text) }
	switch {
	case c.Contains.Value != "":
		return strings.Contains(strings.ToLower(text), strings.ToLower(c.Contains.Value))
	case len(c.Not) > 0:
		return !slices.ContainsFunc(c.Not, is)
	}
	return slices.ContainsFunc(c.Is, is)
}

func allHold(conditions []Condition, e element) bool {
	return !slices.ContainsFunc(conditions, func(c Condition) bool { return !c.holds(e) })
}

// each walks over the elements of an export that meet the conditions.
func (r *reader) each(export string, at *route, only []Condition) iter.Seq2[*document, element] {
	return func(yield func(*document, element) bool) {
		for _, d := range r.exports[export] {
			r.into.StartFile(d.part.Stored)
			for e := range d.each(at) {
				if allHold(only, e) && !yield(d, e) {
					return
				}
			}
		}
	}
}

// moment is the time that stands at a path, in Unix seconds; 0 where none does. A number counts
// seconds since 1970, or milliseconds, which are of more digits.
func moment(e element, at Path) uint32 {
	text, _ := first(e, at)
	if n, err := strconv.ParseInt(text, 10, 64); err == nil && n > 0 {
		if n > math.MaxUint32 {
			n /= 1000
		}
		if n > math.MaxUint32 {
			return 0
		}
		return uint32(n)
	}
	t, err := time.Parse(time.RFC3339, text)
	if err != nil || t.Unix() < 0 || t.Unix() > math.MaxUint32 {
		return 0
	}
	return uint32(t.Unix())
}

// accounts reads the accounts of one export.
func (r *reader) accounts(a *Accounts) {
	elsewhere, strange := map[string]bool{}, map[string][]estate.Cite{}
	if a.Federated != nil {
		for _, domain := range r.pick(a.Federated) {
			elsewhere[strings.ToLower(domain)] = true
		}
	}
	var of *document
	var unknown estate.Flag
	rec := &estate.Record{}
	for d, e := range r.each(a.Export.Value, a.Each.path, a.Only) {
		if d != of {
			n := 0
			of = d
			unknown, n = r.notShown(a, d)
			if !a.Joins {
				r.people = slices.Grow(r.people, n)
			}
		}
		name, _ := first(e, a.Name)
		id, hasID := first(e, a.ID)
		if !hasID {
			id = name
		}
		if id == "" {
			r.into.NotUnderstood(estate.Cite{File: d.part.Stored, Line: e.lines.line, Where: a.Name.text.Value}, "an account without a name")
			continue
		}
		*rec = estate.Record{Class: estate.Account, DN: append(rec.DN[:0], id...), Name: append(rec.Name[:0], name...), Flags: unknown,
			Line: lineOf(e, a.ID, a.Name), Principal: rec.Principal[:0], Display: rec.Display[:0]}
		if a.Joins {
			rec.Class = estate.Other
			rec.Flags |= estate.NoControl // it says nothing of what the list of accounts does
		}
		principal, _ := first(e, a.Principal)
		display, _ := first(e, a.Display)
		rec.Principal, rec.Display = append(rec.Principal, principal...), append(rec.Display, display...)
		rec.PwdSet = moment(e, a.Changed)
		if a.Used != nil && allHold(a.Used.Only, e) {
			if text, ok := first(e, a.Used.At); ok && text != "" {
				rec.LastLogon = max(moment(e, a.Used.At), rec.PwdSet)
			}
		}
		for i := range a.Flags {
			if a.Flags[i].holds(e) && allHold(a.Flags[i].Only, e) {
				rec.Flags |= a.Flags[i].flag
			}
		}
		if h := a.Home; h != nil {
			if text, _ := first(e, h.At); !h.neutral(text) {
				rec.Flags |= estate.NoHome
				strange[text] = append(strange[text], estate.Cite{File: d.part.Stored, Line: lineOf(e, h.At, a.Name), Where: h.At.text.Value, Raw: text})
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
		if a.Joins {
			continue
		}
		who := someone{id: id, nameless: !hasID && a.ID.path != nil, flags: rec.Flags, in: d.part, line: rec.Line}
		who.guest = guestOf(a, rec.Flags, e)
		if _, domain, ok := strings.Cut(strings.ToLower(principal), "@"); ok {
			who.domain = domain
		}
		if r.m.Units != nil {
			who.unit, who.placed = first(e, r.m.Units.In)
		}
		for i := range r.m.Apart {
			if allHold(r.m.Apart[i].Only, e) {
				who.apart = append(who.apart, i)
			}
		}
		if s := r.m.SignOn; s != nil {
			who.spared = slices.ContainsFunc(s.Spared, func(c Condition) bool { return c.holds(e) })
		}
		r.people, r.known[id] = append(r.people, who), true
		if a.Groups.path == nil {
			continue
		}
		for _, f := range ask(e.value, e.lines, a.Groups.path) {
			r.member(textOf(f.value), id, f.line)
		}
	}
	for _, text := range sorted(strange) {
		said := "is not said"
		if text != "" {
			said = "is " + text + ", which is not understood"
		}
		r.tenant.Remarks = append(r.tenant.Remarks, estate.Remark{Kind: estate.HomeUnseen, About: a.Home.At.text.Value + " " + text,
			Cites:  strange[text][:1],
			Text:   fmt.Sprintf("who checks the password is not known where %s %s (accounts: %d)", a.Home.At.text.Value, said, len(strange[text])),
			Remedy: "Find out who checks the passwords of these accounts, and gather that place too."})
	}
}

// gap is what is not known where fields are lacking that set some flags.
type gap struct {
	flags, mark estate.Flag
	what        string
}

// unshown says what is not known where no account has a flag's field, and the flag
// that tells it of each.
var unshown = []gap{
	{estate.Synced | estate.Federated | estate.Guest, estate.NoHome, "whether another place governs them"},
	{estate.Disabled, estate.NoControl, "whether they are enabled"},
	{estate.NeverExpires, estate.NoControl, "whether their passwords expire"},
	{estate.Administrator, estate.NoControl, "which of them administer the tenant"},
	{^estate.Flag(0), estate.NoControl, "what it would tell of them"},
}

// notShown tells of the fields that an export should have of its accounts, and
// has of none, and returns what is not known of them therefore, and how many they are. A
// shell writes every field, and leaves empty those that it was not asked for.
func (r *reader) notShown(a *Accounts, d *document) (unknown estate.Flag, n int) {
	for range d.each(a.Each.path) {
		n++
	}
	look := func(at Path, mark estate.Flag, what string) {
		for e := range d.each(a.Each.path) {
			for v := range at.path.leads(e.value, noLines) {
				if !d.bare || v != nil && v != "" {
					return
				}
			}
		}
		unknown |= mark
		field := at.text.Value
		r.tenant.Remarks = append(r.tenant.Remarks, estate.Remark{Kind: estate.FieldUnseen, About: a.Export.Value + " " + field,
			Cites:  []estate.Cite{{File: d.part.Stored, Line: 1, Where: a.Export.Value}},
			Text:   fmt.Sprintf("%d accounts were exported without %s: %s is not known", n, field, what),
			Remedy: "Export the accounts with " + field + ", and gather again."})
	}
	if a.ID.path != nil {
		look(a.ID, estate.NoHome|estate.NoControl, "which groups and policies name them")
	}
	for i := range a.Flags {
		f := &a.Flags[i]
		gap := slices.IndexFunc(unshown, func(gap gap) bool { return f.flag&gap.flags != 0 })
		if f.Shown {
			look(f.At, unshown[gap].mark, unshown[gap].what)
		}
	}
	return unknown, n
}

// policies reads the prioritised policies.
func (r *reader) policies() {
	p := r.m.Policies
	if p == nil {
		return
	}
	if p.Strictest {
		r.together(p)
		return
	}
	for _, rows := range r.stated(p) {
		d, e := rows[0].d, rows[0].e
		r.into.StartFile(d.part.Stored)
		name, _ := first(e, p.Name)
		policy := r.into.Override(r.at, []byte(name), e.lines.line)
		policy.Name, policy.Cite = name, estate.Cite{File: d.part.Stored, Line: e.lines.line, Where: p.Name.text.Value, Raw: name}
		if text, ok := first(e, p.Precedence); ok {
			if n, err := strconv.ParseInt(text, 10, 32); err == nil {
				policy.Precedence = &n
			}
		}
		if p.Groups.path != nil || p.Users.path != nil {
			policy.Targets = r.named(d, e, p.Users, false)
			for _, group := range r.named(d, e, p.Groups, true) {
				if r.settled[group.Cite.Raw] {
					policy.Targets = nil // whatever else it names: everybody
					break
				}
				policy.Targets = append(policy.Targets, group)
			}
		}
		policy.Except = append(r.named(d, e, p.NoUsers, false), r.named(d, e, p.NoGroups, true)...)
		if text, ok := first(e, p.From); ok {
			switch of := p.Sources[text].Value; of {
			case "any":
			case string(estate.Native), string(estate.FromDomain), string(estate.FromOther):
				policy.Of = estate.Origin(of)
			default:
				policy.Open = "accounts from " + text
			}
		}
		policy.Open = cmp.Or(policy.Open, p.opens(rows))
		if len(p.Last) > 0 && allHold(p.Last, e) {
			last := int64(math.MaxInt32)
			policy.Precedence = &last
		}
		r.state(policy.Settings, p, rows, policy.Cite)
	}
}

// stated is an element that states a policy, or some of it.
type stated struct {
	d *document
	e element
}

// stated are the elements of each policy: one, or all rows of its name.
func (r *reader) stated(p *Policies) (all [][]stated) {
	at := map[string]int{}
	for d, e := range r.each(p.Export.Value, p.Each.path, p.Only) {
		name, _ := first(e, p.Name)
		i, known := at[name]
		if !p.Rows || name == "" || !known {
			at[name], i, all = len(all), len(all), append(all, nil)
		}
		all[i] = append(all[i], stated{d, e})
	}
	return all
}

// opens says what of a policy is not understood: a condition, a field, or that its rows are for
// different accounts.
func (p *Policies) opens(rows []stated) string {
	whom := func(e element) (all [][]any) {
		for _, at := range append(p.paths(), p.Precedence) {
			if at.path != nil {
				all = append(all, at.path.Select(e.value))
			}
		}
		return all
	}
	for _, row := range rows {
		if open := cmp.Or(p.unmodelled(row.e), p.limits(row.e)); open != "" {
			return open
		}
		if !reflect.DeepEqual(whom(row.e), whom(rows[0].e)) {
			return "which of its rows counts: they are not for the same accounts"
		}
	}
	return ""
}

// state reads what the elements of a policy set, and what they settle by not setting it.
func (r *reader) state(facts estate.Settings, p *Policies, rows []stated, at estate.Cite) {
	for i := range p.Settings {
		for _, row := range rows {
			r.setting(facts, &p.Settings[i], row.e, row.d)
		}
		r.silent(facts, &p.Settings[i], rows[0].e, rows[0].d, at)
	}
}

// named are the accounts or groups that a path leads to.
func (r *reader) named(d *document, e element, at Path, groups bool) []estate.Target {
	if at.path == nil {
		return nil
	}
	var all []estate.Target
	for _, f := range ask(e.value, e.lines, at.path) {
		id := textOf(f.value)
		dn := id
		if groups {
			dn = string(groupDN(id))
		}
		all = append(all, estate.Target{DN: dn, Cite: estate.Cite{File: d.part.Stored, Line: f.line, Where: f.path, Raw: id}})
	}
	return all
}

// paths are those that say whom a policy is for.
func (p *Policies) paths() []Path { return []Path{p.Groups, p.Users, p.NoGroups, p.NoUsers, p.From} }

// limits returns the first field of a policy that is not understood; empty: it is understood as
// a whole.
func (p *Policies) limits(e element) string {
	at := append(p.paths(), p.Name, p.Precedence)
	for _, c := range append(p.Last, p.Only...) {
		at = append(at, c.At)
	}
	return beside(e, append(at, pathsOf(p.Settings)...), p.Understood)
}

// limits returns the first field of a unit's policy that is not understood.
func (p *UnitPolicies) limits(e element) string {
	at := append(pathsOf(p.Settings), p.Unit, p.Open)
	for _, c := range p.Later {
		at = append(at, c.At)
	}
	return beside(e, at, p.Understood)
}

// pathsOf are the paths of readings.
func pathsOf(all []Reading) (at []Path) {
	for i := range all {
		at = append(at, all[i].At)
		for _, w := range all[i].When {
			at = append(at, w.At)
			if w.Unless != nil {
				at = append(at, w.Unless.At)
			}
		}
		for _, c := range all[i].Only {
			at = append(at, c.At)
		}
	}
	return at
}

// beside returns the first field of an element that none of the paths leads to and that is not
// understood either, or has a value that is not neutral. A map that lists none understands all.
func beside(e element, at []Path, understood []Neutral) string {
	if len(understood) == 0 {
		return ""
	}
	value, _ := takenApart(e.value, noLines)
	known, limited := knownIn(value, at, understood)
	return cmp.Or(limited, unknownLeaf(value, "$", "", known))
}

// knownIn are the places in a value to which one of the paths leads, or that are understood. limited
// is the first that has a value that is not neutral.
func knownIn(value any, at []Path, understood []Neutral) (known map[string]bool, limited string) {
	known = map[string]bool{}
	for _, p := range at {
		if p.path != nil {
			for _, located := range p.path.located(value) {
				known[located.Path.String()] = true
			}
		}
	}
	for _, n := range understood {
		for _, located := range n.At.path.located(value) {
			text := textOf(located.Node)
			scalar := text != "" || located.Node == nil
			switch {
			case len(n.Is) == 0 && n.Match == nil, scalar && (text == "" || n.neutral(text)):
				known[located.Path.String()] = true
			case limited == "" && scalar:
				limited = n.At.text.Value
			}
		}
	}
	return known, limited
}

// notWhole leaves open what an object sets that says what is not understood.
func (r *reader) notWhole(facts estate.Settings) {
	for i := range r.m.Understood {
		u := &r.m.Understood[i]
		var of []Reading
		for _, reading := range r.m.Settings {
			if reading.Export.Value == u.Export.Value {
				of = append(of, reading)
			}
		}
		for _, d := range r.exports[u.Export.Value] {
			if d.csv != nil || d.text != nil {
				continue
			}
			value, _ := takenApart(d.value, noLines)
			known, limited := knownIn(value, pathsOf(of), u.Fields)
			for _, located := range u.At.path.located(value) {
				said := cmp.Or(limited, unknownLeaf(located.Node, located.Path.String(), u.At.text.Value, known))
				if said == "" {
					continue
				}
				at := estate.Cite{File: d.part.Stored, Line: 1, Where: said}
				for _, reading := range of {
					facts[reading.row.ID] = estate.Fact{Cite: at, Problem: "the policy says " + said + ", which is not understood",
						Remedy: "Look up what it says there. Where that changes nothing, the field map can say so (understood)."}
				}
			}
		}
	}
}

// unmodelled returns a condition of a policy that no path of the map leads to.
func (p *Policies) unmodelled(e element) string {
	if p.Conditions.path == nil {
		return ""
	}
	known := map[string]bool{}
	for _, at := range p.paths() {
		if at.path != nil {
			for _, located := range at.path.located(e.value) {
				known[located.Path.String()] = true
			}
		}
	}
	for _, located := range p.Conditions.path.located(e.value) {
		if name := unknownLeaf(located.Node, located.Path.String(), "", known); name != "" {
			return name
		}
	}
	return ""
}

// unknownLeaf returns the first value, below one, that is not known and says
// something.
func unknownLeaf(v any, at, name string, known map[string]bool) string {
	if known[at] {
		return ""
	}
	switch v := v.(type) {
	case nil:
		return ""
	case map[string]any:
		for _, key := range slices.Sorted(maps.Keys(v)) {
			if found := unknownLeaf(v[key], at+"['"+key+"']", strings.TrimPrefix(name+"."+key, "."), known); found != "" {
				return found
			}
		}
		return ""
	case []any:
		for i, member := range v {
			if found := unknownLeaf(member, fmt.Sprintf("%s[%d]", at, i), name, known); found != "" {
				return found
			}
		}
		return ""
	case string:
		if v == "" {
			return ""
		}
	}
	return name
}
