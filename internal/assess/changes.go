package assess

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"sternledger/internal/contract"
	"sternledger/internal/core/amend"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
	"sternledger/internal/custody"
	"sternledger/internal/folder"
	"sternledger/internal/intake"
	"sternledger/internal/intake/fieldmap"
	"sternledger/internal/intake/ldif"
	"sternledger/internal/intake/template"
	"sternledger/internal/intake/unix"
	"sternledger/internal/ledger"
	"sternledger/internal/terminal"
)

// Changes are the change files of what was picked.
type Changes struct {
	Files map[string][]byte // by name, with slashes
	of    map[spotOf]*how
}

type spotOf struct {
	a    *amend.Amendment
	spot int
}

// how says by which files a spot is changed, or why in words only.
type how struct {
	files, undo []string
	byHand      string
	held        bool // it is held back, and nothing is written
}

// writer makes the change files, place by place.
type writer struct {
	e       *custody.Engagement
	x       *Amending
	out     *Changes
	comment []string
	maps    []*fieldmap.Map
	known   map[string]ledger.Evidence
	named   map[estate.Place]string
	playing func(estate.Place) *amend.Played // what is picked, at a place
}

// item is one spot of an amendment.
type item struct {
	spotOf
	*amend.Spot
}

func (i item) amendment() *amend.Amendment { return i.spotOf.a }

// Changes makes the change files. What is written is read again by the format's own
// reader: what does not come to what was meant is not written, and told.
func (x *Amending) Changes(e *custody.Engagement) (*Changes, error) {
	w, err := x.writer(e)
	if err != nil {
		return nil, err
	}
	by := map[estate.Place][]item{}
	var places []estate.Place
	for _, a := range x.Picked {
		for i := range a.Spots {
			s := &a.Spots[i]
			w.out.of[spotOf{a, i}] = &how{}
			if len(s.Held) > 0 {
				w.out.of[spotOf{a, i}].held = true
				continue
			}
			if by[s.At] == nil {
				places = append(places, s.At)
			}
			by[s.At] = append(by[s.At], item{spotOf{a, i}, s})
		}
	}
	slices.SortFunc(places, estate.Place.Compare)
	for _, at := range places {
		if err := w.place(at, by[at]); err != nil {
			return nil, fmt.Errorf("%s: %w", at.Name, err)
		}
	}
	for _, h := range w.out.of {
		if len(h.files) == 0 && h.byHand == "" && !h.held {
			h.byHand = "no form of change is known for this place"
		}
	}
	return w.out, nil
}

func (x *Amending) writer(e *custody.Engagement) (*writer, error) {
	w := &writer{e: e, x: x, out: &Changes{Files: map[string][]byte{}, of: map[spotOf]*how{}}, known: map[string]ledger.Evidence{},
		named: map[estate.Place]string{},
		comment: []string{fmt.Sprintf("Proposed from weighing %d of %q; nothing was applied.", x.Number, terminal.Clean(x.Weighing.Title)),
			"Seal of that weighing: " + x.Seal}}
	evidence, err := e.Ledger.Evidence()
	if err != nil {
		return nil, err
	}
	for _, f := range evidence {
		w.known[f.Name] = f
	}
	if w.maps, err = e.FieldMaps(); err != nil {
		return nil, err
	}
	return w, nil
}

// folderOf is the folder of a place's change files. Two places never share one.
func (w *writer) folderOf(at estate.Place) string {
	if name := w.named[at]; name != "" {
		return name
	}
	base := folder.Safe(at.Name)
	name := base
	for n := 2; slices.Contains(slices.Collect(maps.Values(w.named)), name); n++ {
		name = fmt.Sprintf("%s-%d", base, n)
	}
	w.named[at] = name
	return name
}

// put adds a file, and says of items that it is how they are changed.
func (w *writer) put(name, undo string, all []item) {
	for _, i := range all {
		h := w.out.of[i.spotOf]
		if !slices.Contains(h.files, name) {
			h.files = append(h.files, name)
		}
		if undo != "" && !slices.Contains(h.undo, undo) {
			h.undo = append(h.undo, undo)
		}
	}
}

// marks say, above what makes a change, which amendments it is of.
func (w *writer) marks(all []item) (lines []string) {
	for _, i := range all {
		a := i.amendment()
		if w.out.of[i.spotOf].byHand != "" {
			continue
		}
		lines = append(lines, terminal.Clean(fmt.Sprintf("%s %s: %s to %s (%s)", a.Name, a.Title(), a.Was(), a.Becomes(), i.Policy())))
	}
	return lines
}

func (w *writer) byHand(i item, why string) { w.out.of[i.spotOf].byHand = why }

// stored reads a stored copy.
func (w *writer) stored(name string) ([]byte, error) {
	n, err := custody.Stored(name)
	if err != nil {
		return nil, err
	}
	const most = 1 << 30
	data, err := w.e.Folder.ReadFile(n, most)
	if errors.Is(err, fs.ErrNotExist) {
		err = fmt.Errorf("the stored copy %s, of which change files are made, is gone (%w); retire destroys them: gather the export again",
			name, fs.ErrNotExist)
	}
	return data, err
}

// place writes the files of one place.
func (w *writer) place(at estate.Place, all []item) error {
	of := func(holders ...amend.Holder) (some []item) {
		for _, i := range all {
			if slices.Contains(holders, i.Holder) {
				some = append(some, i)
			}
		}
		return some
	}
	return errors.Join(w.directory(at, of(amend.Head, amend.FineGrained, amend.LDAPPolicy, amend.Server, amend.Realm, amend.Flags)),
		w.templates(at, of(amend.Template)), w.local(at, of(amend.Local)), w.unix(at, of(amend.Unix)), w.tenant(at, of(amend.Field)))
}

// kinds of a directory's entries.
var kinds = map[amend.Holder]ldif.Kind{amend.Head: ldif.DomainHead, amend.FineGrained: ldif.FineGrained, amend.LDAPPolicy: ldif.PwdPolicy,
	amend.Server: ldif.ServerPolicy, amend.Realm: ldif.RealmPolicy}

// directory writes change records.
func (w *writer) directory(at estate.Place, all []item) error {
	if len(all) == 0 {
		return nil
	}
	files := map[string][]string{} // DNs, by the export that holds them
	for _, i := range all {
		if i.Holder != amend.Flags {
			files[i.Cite.File] = append(files[i.Cite.File], i.Origin)
		}
	}
	now := map[string]map[string]string{}
	for file, dns := range files {
		if w.known[file].Format != ldif.Format.Name {
			continue
		}
		data, err := w.stored(file)
		if err != nil {
			return err
		}
		found, err := ldif.EntriesOf(bytes.NewReader(data), dns)
		if err != nil {
			return err
		}
		maps.Copy(now, found)
	}
	entries := w.entries(all, now)
	for again := true; again && len(entries) > 0; {
		again = false
		for file := range files {
			if w.known[file].Format != ldif.Format.Name {
				continue
			}
			wrong, err := w.readAgain(at, file, entries, all)
			if err != nil {
				return err
			}
			if len(wrong) > 0 {
				all = slices.DeleteFunc(all, func(i item) bool {
					return slices.ContainsFunc(wrong, func(x item) bool { return x.spotOf == i.spotOf })
				})
				entries, again = w.entries(all, now), true
			}
		}
	}
	if len(entries) == 0 {
		return nil
	}
	change, undo := ldif.Changes(entries, append([]string{w.playedAt(at)}, w.comment...))
	name := w.folderOf(at) + "/change.ldif"
	back := w.folderOf(at) + "/undo.ldif"
	w.out.Files[name], w.out.Files[back] = change, undo
	w.put(name, back, slices.DeleteFunc(slices.Clone(all), func(i item) bool { return w.out.of[i.spotOf].byHand != "" }))
	return nil
}

// entries are the entries that are modified, in the order of the plan.
func (w *writer) entries(all []item, now map[string]map[string]string) (entries []ldif.Entry) {
	type edited struct {
		dn    string
		kind  ldif.Kind
		edits []ldif.Edit
		items []item
	}
	var order []*edited
	flagged := map[string]int{} // entries of accounts, by DN
	for _, i := range all {
		a := i.amendment()
		if i.Holder == amend.Flags {
			entries = w.withoutFlag(entries, flagged, i)
			continue
		}
		if !strings.Contains(i.Origin, "=") {
			w.byHand(i, "the policy's DN is not in the evidence")
			continue
		}
		k := slices.IndexFunc(order, func(x *edited) bool { return x.dn == i.Origin })
		if k < 0 {
			order, k = append(order, &edited{dn: i.Origin, kind: kinds[i.Holder]}), len(order)
		}
		order[k].edits = append(order[k].edits, ldif.Edit{Setting: a.Setting, Precedence: a.Precedence, To: a.To})
		order[k].items = append(order[k].items, i)
	}
	var first []ldif.Entry
	for _, x := range order {
		attributes, whole := now[estate.NormalDN(x.dn)], true
		if attributes == nil { // another form told of it: what the attributes hold is what the plan changes from
			attributes = map[string]string{}
			for _, i := range x.items {
				if a := i.amendment(); !a.NotSet {
					e, _ := ldif.Modify(x.kind, x.dn, []ldif.Edit{{Setting: a.Setting, Precedence: a.Precedence, To: a.From}}, map[string]string{}, true)
					for _, m := range e.Modifications {
						attributes[strings.ToLower(m.Attribute)] = m.New
					}
				}
			}
			whole = false
		}
		e, left := ldif.Modify(x.kind, x.dn, x.edits, maps.Clone(attributes), whole)
		for _, l := range left {
			for _, i := range x.items {
				if i.amendment().Setting == l.Setting {
					w.byHand(i, "the attribute holds other settings too, and the evidence does not have all of it")
				}
			}
		}
		if len(e.Modifications) > 0 {
			e.Comment = w.marks(x.items)
			first = append(first, e)
		}
	}
	return append(first, entries...)
}

// withoutFlag modifies the userAccountControl of accounts.
func (w *writer) withoutFlag(entries []ldif.Entry, flagged map[string]int, i item) []ldif.Entry {
	at := w.x.place(i.At)
	a := i.amendment()
	if at == nil {
		return entries
	}
	for _, row := range i.Rows {
		control := at.Objects.Control.At(row)
		if control&amend.Mask(a.Flag) == 0 {
			w.byHand(i, "userAccountControl of "+at.Objects.Name.At(row)+" is not in the evidence")
			continue
		}
		dn := at.DN(row)
		k, ok := flagged[dn]
		if !ok {
			entries = append(entries, ldif.Entry{DN: dn, Modifications: []ldif.Modification{{Attribute: "userAccountControl",
				Old: fmt.Sprint(control),
				New: fmt.Sprint(control)}}})
			k = len(entries) - 1
			flagged[dn] = k
		}
		if mark := w.marks([]item{i}); len(mark) > 0 && !slices.Contains(entries[k].Comment, mark[0]) {
			entries[k].Comment = append(entries[k].Comment, mark...)
		}
		m := &entries[k].Modifications[0]
		var before uint32
		_, _ = fmt.Sscan(m.New, &before)
		m.New = fmt.Sprint(before &^ amend.Mask(a.Flag))
	}
	return entries
}

// readAgain reads an export with the entries modified, and returns what does not come
// to what was meant.
func (w *writer) readAgain(at estate.Place, file string, entries []ldif.Entry, all []item) (wrong []item, err error) {
	data, err := w.stored(file)
	if err != nil {
		return nil, err
	}
	var then bytes.Buffer
	if err := ldif.Apply(bytes.NewReader(data), &then, entries); err != nil {
		return nil, err
	}
	read, err := readOne(&ldif.Format, file, then.Bytes())
	if err != nil {
		return nil, fmt.Errorf("%s, amended, cannot be read again: %w", file, err)
	}
	for _, i := range all {
		if i.Holder == amend.Flags || i.Cite.File != file || w.out.of[i.spotOf].byHand != "" {
			continue
		}
		if why := holdsIn(read, at, i); why != "" {
			w.byHand(i, why)
			wrong = append(wrong, i)
		}
	}
	return wrong, nil
}

func readOne(format *intake.Format, file string, data []byte) (*estate.Estate, error) {
	b := estate.NewBuilder()
	b.StartFile(file)
	src := &intake.Source{Path: file, In: bytes.NewReader(data), Keep: io.Discard, Differs: func() {},
		Beside: func(string) []byte { return nil }}
	if err := format.Read(src, b); err != nil {
		return nil, err
	}
	return &estate.Estate{Authorities: b.Finish(), Templates: b.Templates}, nil
}

// holdsIn says why what was read does not have a spot's value; empty: it has.
func holdsIn(read *estate.Estate, at estate.Place, i item) string {
	a := i.amendment()
	seen := setting.Value{}
	found := false
	look := func(p *estate.Policy) bool {
		if p == nil || p.Origin != i.Origin || p.Name != i.Name {
			return false
		}
		if found = true; a.Precedence {
			if p.Precedence != nil {
				seen = setting.Number(*p.Precedence)
			}
			return seen == a.To
		}
		f := p.Settings[a.Setting]
		seen = f.Value
		return f.Problem == "" && f.Value == a.To
	}
	for _, x := range read.Authorities {
		if x.Place() != at {
			continue
		}
		if look(x.Head) {
			return ""
		}
		for k := range x.Overrides {
			if look(&x.Overrides[k]) {
				return ""
			}
		}
	}
	switch {
	case !found:
		return "the export, amended, is not read as having it"
	case !seen.IsSet():
		return "written so, it would not be read as " + a.Becomes()
	}
	return "written so, it would be read as " + a.Text(seen)
}

// inStore is a template's place in a policy store, where each section may stand alone.
const inStore = "amended.example/{00000000-0000-0000-0000-000000000000}/Machine/Microsoft/Windows NT/SecEdit/GptTmpl.inf"

// templates writes templates to import.
func (w *writer) templates(at estate.Place, all []item) error {
	var order []string
	by := map[string][]item{}
	for _, i := range all {
		key := i.GUID + i.Origin
		if by[key] == nil {
			order = append(order, key)
		}
		by[key] = append(by[key], i)
	}
	for _, key := range order {
		if err := w.template(at, folder.Safe(by[key][0].Name), by[key]); err != nil {
			return err
		}
	}
	return nil
}

// local writes templates for machines that no template reaches.
func (w *writer) local(at estate.Place, all []item) error {
	if len(all) == 0 {
		return nil
	}
	return w.template(at, "local", all)
}

func (w *writer) template(at estate.Place, name string, all []item) error {
	var stored []byte
	for _, i := range all {
		if w.known[i.Cite.File].Format == template.Format.Name {
			data, err := w.stored(i.Cite.File)
			if err != nil {
				return err
			}
			stored = data
		}
	}
	all = slices.DeleteFunc(slices.Clone(all), func(i item) bool {
		preferred := strings.HasPrefix(i.Where, template.Preferred)
		if preferred {
			w.byHand(i, "the policy's preferences set it, and go before its template: change it there (Preferences, Windows Settings, Registry)")
		}
		return preferred
	})
	if len(all) == 0 {
		return nil
	}
	var edits, before []template.Edit
	for _, i := range all {
		a := i.amendment()
		edits = append(edits, template.Edit{Setting: a.Setting, Where: i.Where, To: a.To})
		if !a.NotSet {
			before = append(before, template.Edit{Setting: a.Setting, Where: i.Where, To: a.From})
		}
	}
	if stored == nil {
		known, err := template.Amend(nil, before, nil)
		if err != nil {
			return err
		}
		stored = known.Then
	}
	made, err := template.Amend(stored, edits, slices.Concat([]string{w.playedAt(at)}, w.comment, w.marks(all)))
	if err != nil {
		return err
	}
	read, err := readOne(&template.Format, inStore, made.Then)
	if err != nil || len(read.Templates) != 1 {
		return fmt.Errorf("%s, amended, cannot be read again: %w", name, err)
	}
	var written []item
	for _, i := range all {
		a := i.amendment()
		switch f := read.Templates[0].Policy.Settings[a.Setting]; {
		case slices.ContainsFunc(made.Left, func(x template.Edit) bool { return x.Setting == a.Setting }):
			w.byHand(i, "a security template has no key for it")
		case f.Problem != "" || f.Value != a.To:
			w.byHand(i, "a security template does not hold "+a.Becomes())
		default:
			written = append(written, i)
		}
	}
	if len(written) == 0 {
		return nil
	}
	if len(written) < len(all) && len(made.Left) < len(all)-len(written) {
		return w.template(at, name, written) // without what it does not hold
	}
	base := w.folderOf(at) + "/" + name
	w.out.Files[base+".inf"], w.out.Files[base+".undo.inf"] = made.Then, made.Now
	w.out.Files[base+".diff"] = []byte("--- " + name + ".undo.inf\n+++ " + name + ".inf\n" + strings.Join(made.Diff, "\n") + "\n")
	w.put(base+".inf", base+".undo.inf", written)
	return nil
}

// onDisk is what files of a machine become.
type onDisk struct {
	parts   map[string][]byte // the machine's files, by their place below its root
	changes []unix.Change
	lines   []item // that the changes come to
	aged    []unix.Aged
	ageing  []item // that the ages come to
}

// machine works out what files of a machine become. What no change of a line comes to
// is noted as left to do by hand.
func (w *writer) machine(at estate.Place, all []item) (*onDisk, error) {
	parts, storedAs, err := w.treeParts(at)
	if err != nil {
		return nil, err
	}
	d := &onDisk{parts: parts}
	var edits []unix.Edit
	for _, i := range all {
		a := i.amendment()
		if amend.Ageing(i.Cite) {
			if w.age(d, at, i) {
				d.ageing = append(d.ageing, i)
				// And accounts that are made later.
				// No stricter line is loosened.
				line, now := unix.LineOf(parts, a.Setting)
				if order, known := setting.Get(a.Setting).Compare(now, a.To); line != nil && (!now.IsSet() || known && order < 0) {
					edits, d.lines = append(edits, unix.Edit{Setting: a.Setting, Part: line.Part, Line: line.Line, Where: line.Where, To: a.To}),
						append(d.lines, i)
				}
			}
			continue
		}
		edits = append(edits, unix.Edit{Setting: a.Setting, Part: storedAs[i.Cite.File], Line: i.Cite.Line, Where: i.Where, To: a.To})
		d.lines = append(d.lines, i)
	}
	for {
		var left []unix.Edit
		d.changes, left = unix.Edited(parts, edits)
		var wrong []int
		hand := func(k int, why string) {
			if !amend.Ageing(d.lines[k].Cite) {
				w.byHand(d.lines[k], why)
			}
			wrong = append(wrong, k)
		}
		for k := range d.lines {
			if slices.Contains(left, edits[k]) {
				hand(k, "what decides it is that a module is not called, or not obeyed: no change of one line mends that")
			}
		}
		if len(wrong) == 0 && len(d.changes) > 0 {
			read, err := w.machineAgain(at, parts, unix.Apply(parts, d.changes))
			if err != nil {
				return nil, err
			}
			for k, i := range d.lines {
				if amend.Ageing(i.Cite) {
					continue
				}
				if why := onMachine(read, at, i); why != "" {
					hand(k, why)
				}
			}
		}
		if len(wrong) == 0 {
			return d, nil
		}
		slices.Reverse(wrong)
		for _, k := range wrong {
			edits, d.lines = slices.Delete(edits, k, k+1), slices.Delete(d.lines, k, k+1)
		}
	}
}

// unix writes a diff of a machine's files, and calls of chage.
func (w *writer) unix(at estate.Place, all []item) error {
	if len(all) == 0 {
		return nil
	}
	d, err := w.machine(at, all)
	if err != nil {
		return err
	}
	if len(d.changes) > 0 {
		name := w.folderOf(at) + "/etc.patch"
		w.out.Files[name] = append([]byte(commented(slices.Concat([]string{"In the machine's root: patch -p1 < etc.patch; to undo: patch -R -p1 < " +
			"etc.patch"}, w.comment, w.marks(d.lines)))),
			unix.Diff(d.parts, d.changes)...)
		w.put(name, name+" (patch -R)", d.lines)
	}
	if len(d.aged) == 0 {
		return nil
	}
	comment := slices.Concat([]string{"Run as root on " + terminal.Clean(at.Name) + ".", w.playedAt(at)}, w.comment, w.marks(d.ageing))
	name, back := w.folderOf(at)+"/ageing.sh", w.folderOf(at)+"/undo-ageing.sh"
	w.out.Files[name] = unix.Script(d.aged, comment, false)
	w.out.Files[back] = unix.Script(d.aged, append([]string{"Undoes ageing.sh."}, comment...), true)
	w.put(name, back, d.ageing)
	return nil
}

// playedAt says what comes of the accounts of a place, the worst first.
func (w *writer) playedAt(at estate.Place) string {
	if w.playing == nil {
		w.playing = w.x.people.PlayAt(w.x.Picked, w.x.Weighing.At.Unix())
	}
	text := w.playing(at).Text()
	return "If nobody acts: " + terminal.Clean(strings.ToLower(text[:1])+text[1:]) + "."
}

// reread puts, into an estate with amendments, machines of Unix as their own reader
// reads them amended: what a line of theirs brings with it, no table tells. Of more
// than a few hundred machines it is taken from the plan.
func (x *Amending) reread(e *custody.Engagement, all *estate.Estate, list []*amend.Amendment) error {
	const mostMachines = 300
	by := map[estate.Place][]item{}
	for _, a := range list {
		for i := range a.Spots {
			if s := &a.Spots[i]; s.Holder == amend.Unix && len(s.Held) == 0 {
				by[s.At] = append(by[s.At], item{spotOf{a, i}, s})
			}
		}
	}
	if len(by) == 0 || len(by) > mostMachines {
		return nil
	}
	w, err := x.writer(e)
	if err != nil {
		return err
	}
	for _, was := range all.Authorities {
		items := by[was.Place()]
		if len(items) == 0 {
			continue
		}
		for _, i := range items {
			w.out.of[i.spotOf] = &how{}
		}
		d, err := w.machine(was.Place(), items)
		if errors.Is(err, fs.ErrNotExist) {
			continue // of evidence that was destroyed the facts stay
		} else if err != nil {
			return err
		}
		changed := unix.Apply(d.parts, d.changes)
		if len(d.aged) > 0 {
			changed["etc/shadow"] = unix.Aging(d.parts["etc/shadow"], d.aged)
		}
		if len(changed) == 0 {
			continue
		}
		read, err := w.machineAgain(was.Place(), d.parts, changed)
		if err != nil {
			return err
		}
		takeIn(was, read)
		for _, i := range items {
			if w.out.of[i.spotOf].byHand != "" {
				amend.Set(was, i.amendment())
			}
		}
	}
	return nil
}

// takeIn gives a machine's policies the settings with which their accounts were read
// again. Accounts that age otherwise share a policy of another name then; what is
// compared keeps its own.
func takeIn(was, read *estate.Authority) {
	s := govern.NewSurvey(&estate.Estate{Authorities: []*estate.Authority{read}}, func(*estate.Authority) estate.Dialect { return "" }, nil)
	rows := map[string]int{}
	for row := range read.Objects.Len() {
		if read.Objects.ClassOf(row) != estate.Account {
			continue // a group of that name
		}
		rows[read.Objects.Name.At(row)] = row
	}
	before := govern.Resolve(was, "")
	done := map[*estate.Policy]bool{}
	settle := func(p *estate.Policy, from *estate.Policy) {
		if p != nil && from != nil && !done[p] {
			done[p] = true
			p.Settings, p.Asks = maps.Clone(from.Settings), from.Asks
		}
	}
	for row := range was.Objects.Len() {
		if was.Objects.ClassOf(row) != estate.Account {
			continue
		}
		now, ok := rows[was.Objects.Name.At(row)]
		if !ok {
			continue
		}
		p := before.Of(row).Policy
		if p == nil {
			p = was.Head
		}
		if scope, _ := s.ScopeOf(0, now); scope != nil {
			settle(p, scope.Policy)
		}
	}
	settle(was.Head, read.Head)
	was.Remarks = read.Remarks
}

func commented(lines []string) string {
	var b strings.Builder
	for _, l := range lines {
		b.WriteString("# " + strings.Join(strings.Fields(l), " ") + "\n")
	}
	return b.String()
}

// treeParts are the stored files of a machine or tenant, by their place in the
// export, and that place by the stored name.
func (w *writer) treeParts(at estate.Place) (parts map[string][]byte, storedAs map[string]string, err error) {
	parts, storedAs = map[string][]byte{}, map[string]string{}
	a := w.x.place(at)
	if a == nil {
		return parts, storedAs, nil
	}
	for _, name := range a.Files {
		part := w.known[name].Part
		if part == "" {
			continue
		}
		data, err := w.stored(name)
		if err != nil {
			return nil, nil, err
		}
		parts[part], storedAs[name] = data, part
	}
	return parts, storedAs, nil
}

// machineAgain reads a machine with some files changed.
func (w *writer) machineAgain(at estate.Place, parts, changed map[string][]byte) (*estate.Authority, error) {
	tree := &intake.Tree{Name: at.Name, Path: at.Name}
	for _, name := range slices.Sorted(maps.Keys(parts)) {
		data := parts[name]
		if then, ok := changed[name]; ok {
			data = then
		}
		tree.Parts = append(tree.Parts, &intake.Part{Name: name, Path: at.Name + "/" + name, Stored: at.Name + "/" + name, Data: data})
	}
	b := estate.NewBuilder()
	if err := unix.Format.Read(tree, b); err != nil {
		return nil, fmt.Errorf("amended, it cannot be read again: %w", err)
	}
	for _, a := range b.Finish() {
		if a.Place() == at {
			return a, nil
		}
	}
	return nil, errors.New("amended, it is not read as the same machine")
}

// onMachine says why a machine that was read again does not have a spot's value in the
// policies of the scopes that the amendment reaches; empty: it has.
func onMachine(read *estate.Authority, at estate.Place, i item) string {
	a := i.amendment()
	for _, s := range a.Scopes {
		if s.Authority.Place() != at || s.Policy == nil {
			continue
		}
		all := []*estate.Policy{read.Head}
		for k := range read.Overrides {
			all = append(all, &read.Overrides[k])
		}
		for _, p := range all {
			if p == nil || p.Name != s.Policy.Name {
				continue
			}
			if f := p.Settings[a.Setting]; f.Problem != "" || f.Value != a.To {
				return "a change of that line alone would not come to " + a.Becomes()
			}
		}
	}
	return ""
}

// age notes how the accounts of a policy that stands in shadow are to age: those with a
// password, whose own line is not stricter as it is.
func (w *writer) age(d *onDisk, at estate.Place, i item) bool {
	a := i.amendment()
	if !unix.Ages(a.Setting, a.To) {
		w.byHand(i, "chage does not set it")
		return false
	}
	var all []unix.Aged
	for k, place := range w.x.Weighing.Survey.Estate.Authorities {
		if place.Place() != at {
			continue
		}
		for row := range place.Objects.Len() {
			scope, _ := w.x.Weighing.Survey.ScopeOf(k, row)
			if scope == nil || scope.Policy == nil || scope.Policy.Origin != i.Origin || scope.Policy.Name != i.Name ||
				!amend.Ages(place.Objects, row, a.Setting, a.To) {
				continue
			}
			one, why := unix.AgedOf(d.parts["etc/shadow"], place.Objects.Name.At(row), a.Setting, a.To)
			if why != "" {
				w.byHand(i, why)
				return false
			}
			all = append(all, one)
		}
	}
	if len(all) == 0 {
		w.byHand(i, "no account under it has a password that grows old")
		return false
	}
	d.aged = append(d.aged, all...)
	return true
}

// tenant writes requests.
func (w *writer) tenant(at estate.Place, all []item) error {
	if len(all) == 0 {
		return nil
	}
	by := map[string][]item{}
	var order []string
	for _, i := range all {
		if by[i.Cite.File] == nil {
			order = append(order, i.Cite.File)
		}
		by[i.Cite.File] = append(by[i.Cite.File], i)
	}
	doc, back := tenantFile{Comment: append([]string{w.playedAt(at)}, w.comment...), Requests: []tenantRequest{}}, tenantFile{Comment: w.comment, Requests: []tenantRequest{}}
	var written []item
	for _, file := range order {
		if w.known[file].Part == "" {
			for _, i := range by[file] {
				w.byHand(i, "it was not exported by the product's interface")
			}
			continue
		}
		data, err := w.stored(file)
		if err != nil {
			return err
		}
		m, made, err := w.requests(file, data, by[file])
		if err != nil {
			return err
		}
		if m == nil {
			continue
		}
		var wrong []item
		read, err := w.tenantAgain(at, file, made.Then)
		if err != nil {
			return err
		}
		for _, i := range by[file] {
			why := holdsIn(read, at, i)
			switch {
			case slices.ContainsFunc(made.Left, func(x fieldmap.Edit) bool { return x.Setting == i.amendment().Setting && x.Line == i.Cite.Line }):
				w.byHand(i, "the product's public reference has no request for it that the field map knows, or the export no field")
			case why != "":
				w.byHand(i, why)
				wrong = append(wrong, i)
			default:
				written = append(written, i)
			}
		}
		if len(wrong) > 0 { // made anew, without what does not come to what was meant
			rest := slices.DeleteFunc(slices.Clone(by[file]), func(i item) bool { return w.out.of[i.spotOf].byHand != "" })
			if m, made, err = w.requests(file, data, rest); err != nil {
				return err
			}
		}
		for k := range made.Do {
			doc.Requests = append(doc.Requests, tenantRequest{m.ID.Value, path.Base(file), made.Do[k]})
			back.Requests = append(back.Requests, tenantRequest{m.ID.Value, path.Base(file), made.Undo[k]})
		}
	}
	if len(doc.Requests) == 0 {
		return nil
	}
	name, undo := w.folderOf(at)+"/change.json", w.folderOf(at)+"/undo.json"
	doc.Comment = append(doc.Comment, w.marks(written)...)
	var err error
	if w.out.Files[name], err = indented(doc); err != nil {
		return err
	}
	if w.out.Files[undo], err = indented(back); err != nil {
		return err
	}
	w.put(name, undo, written)
	return nil
}

// tenantAgain reads a tenant's exports with one of them as it would be.
func (w *writer) tenantAgain(at estate.Place, file string, then any) (*estate.Estate, error) {
	changed, err := indented(then)
	if err != nil {
		return nil, err
	}
	parts, storedAs, err := w.treeParts(at)
	if err != nil {
		return nil, err
	}
	tree := &intake.Tree{Name: at.Name, Path: at.Name}
	for _, name := range slices.Sorted(maps.Keys(parts)) {
		data := parts[name]
		if name == storedAs[file] {
			data = changed
		}
		tree.Parts = append(tree.Parts, &intake.Part{Name: name, Path: at.Name + "/" + name, Stored: at.Name + "/" + name, Data: data})
	}
	b := estate.NewBuilder()
	if err := fieldmap.Format(w.maps).Read(tree, b); err != nil {
		return nil, fmt.Errorf("amended, it cannot be read again: %w", err)
	}
	return &estate.Estate{Authorities: b.Finish()}, nil
}

// tenantFile is what is sent to a tenant.
type tenantFile struct {
	Comment  []string        `json:"comment"`
	Requests []tenantRequest `json:"requests"`
}

type tenantRequest struct {
	Map    string `json:"field_map"`
	Export string `json:"export"` // of which the patch is
	fieldmap.Proposal
}

func indented(v any) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(terminal.EscapedJSON(&b)) // names from evidence stand in it, and people print it
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	err := e.Encode(v)
	return b.Bytes(), err
}

// requests asks the field map that reads an export for requests.
func (w *writer) requests(file string, data []byte, all []item) (*fieldmap.Map, *fieldmap.Amended, error) {
	for _, m := range w.maps {
		if m.ExportOf(path.Base(file), data) == "" {
			continue
		}
		var edits []fieldmap.Edit
		for _, i := range all {
			edits = append(edits, fieldmap.Edit{Setting: i.amendment().Setting, Where: i.Where, Line: i.Cite.Line, Raw: i.Cite.Raw,
				To: i.amendment().To})
		}
		made, err := m.Amend(path.Base(file), data, edits)
		return m, made, err
	}
	return nil, nil, nil
}

// WriteChanges writes the change files into a new folder, and records that they were
// written. Nothing is applied. words writes CHANGE.md.
func WriteChanges(e *custody.Engagement, x *Amending, dir string,
	words func(*contract.AmendDocument) string) (*contract.AmendDocument, error) {
	if _, err := os.Lstat(dir); err == nil {
		return nil, fmt.Errorf("--to %s: it is there already; name a folder that is not, so that nothing is overwritten", dir)
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("--to %s: %w", dir, custody.Cause(err))
	}
	c, err := x.Changes(e)
	if err != nil {
		return nil, err
	}
	doc := x.Document()
	c.into(x, &doc)
	if c.Files["plan.json"], err = indented(doc); err != nil {
		return nil, err
	}
	c.Files["CHANGE.md"] = []byte(words(&doc))
	parent := filepath.Dir(filepath.Clean(dir))
	d, err := folder.NewDraft(parent, ".writing-")
	if err != nil {
		return nil, fmt.Errorf("--to %s: %w; name a folder in a place where you may write", dir, custody.Cause(err))
	}
	defer d.Remove()
	out := d.Path("out")
	for _, name := range slices.Sorted(maps.Keys(c.Files)) {
		file := filepath.Join(out, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
			return nil, err
		}
		if err := os.WriteFile(file, c.Files[name], 0o600); err != nil {
			return nil, fmt.Errorf("--to %s: %w", dir, custody.Cause(err))
		}
	}
	sums := map[string]string{}
	for name, data := range c.Files {
		sums[name] = custody.HexSum(data)
	}
	if err := os.Rename(out, dir); err != nil {
		return nil, fmt.Errorf("--to %s: %w", dir, custody.Cause(err))
	}
	if err := e.RecordAmend(custody.AmendEntry{Weighing: x.Number, To: filepath.Base(dir), Files: sums, Amendments: x.entries()}); err != nil {
		return nil, errors.Join(err, os.RemoveAll(dir))
	}
	return &doc, nil
}

// into notes in the document by which files each spot is changed.
func (c *Changes) into(x *Amending, doc *contract.AmendDocument) {
	for i, a := range x.Picked {
		for k := range a.Spots {
			h := c.of[spotOf{a, k}]
			s := &doc.Amendments[i].Spots[k]
			s.Files, s.Undo, s.ByHand = h.files, h.undo, h.byHand
		}
	}
}

// entries are what the ledger keeps of the amendments, so that their status can be
// told from later records.
func (x *Amending) entries() (all []custody.Amended) {
	for _, a := range x.Picked {
		for i := range a.Spots {
			s := &a.Spots[i]
			if len(s.Held) > 0 {
				continue // it was not proposed
			}
			one := custody.Amended{Amendment: a.Name, Fingerprint: a.Fingerprint, Setting: a.Setting, Title: a.Title(), Was: a.Was(),
				Becomes: a.Becomes(), From: a.From,
				To: a.To, NotSet: a.NotSet, Precedence: a.Precedence, Spot: *s}
			if a.Flag != 0 {
				one.Flag = a.Flag.Names()[0]
				if at := x.place(s.At); at != nil {
					for _, row := range s.Rows {
						one.Accounts = append(one.Accounts, at.Objects.Name.At(row))
					}
				}
			}
			all = append(all, one)
		}
	}
	return all
}
