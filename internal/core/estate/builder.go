package estate

import (
	"bytes"
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"sternledger/internal/core/setting"
)

// Builder collects what readers find and, when all is read, joins it: members
// to groups, targets to objects. Records of one object may come in pieces and
// in any order.
type Builder struct {
	Problems  []Problem // that belong to no authority
	Templates []Template
	byPlace   map[Place]*draft
	last      *draft // asked for last: mostly it is asked for again
	file      string
	older     bool // the file is of an earlier gather: it only fills what is not known
	gathers   int  // how many gathers ago it was taken
	speller   Speller
	parts     []string // files that hold a part of a template
}

// draft is an authority under construction.
type draft struct {
	Authority
	fileRow   int
	parentRow map[string]uint32
	row       index             // DN hash to row
	refRow    map[uint64]uint32 // DN hash to row in Policies
	policyRow map[uint64]int    // DN hash to row in Overrides
	unitRow   map[uint64]int    // DN hash to row in Units
	edges     edges             // from groups' lists of members
	ups       edges             // from members' lists of groups, with the group's number in named as the other
	ranges    map[uint32][]span
	firsts    []first // names of which Finish finds out whether they are members
	applied   []pointer
	pieces    []piece // of objects that stand in several files
	shown     []shown // by row in Files
	gathered  []int   // by row in Files: how many gathers ago
	named     mentions
	mentioned []uint32 // the row of each of them, once all is read
	// abroad says of members' parents whether what lies below is another domain's.
	abroad  map[uint64]abroad
	servers []server
	before  *Authority            // what is on record of it
	byName  map[namedGroup][]edge // lists of members of groups that they only name
}

// edge is one line that tells of a membership: the object at row says it of the
// other, which is the hash of a DN.
type edge struct {
	other uint64
	row   uint32
	line  uint32
}

// edges are in the order in which they were read.
type edges struct {
	chunks [][]edge
	files  []fileMark
	n      int
}

func (e *edges) add(x edge) {
	if e.n%chunkRows == 0 {
		e.chunks = append(e.chunks, make([]edge, 0, min(e.n, chunkRows)))
	}
	last := &e.chunks[len(e.chunks)-1]
	*last = append(*last, x)
	e.n++
}

// startFile says that the edges that follow come from that file.
func (e *edges) startFile(row int) { e.files = append(e.files, fileMark{e.n, row}) }

// all goes through the edges of some chunks with the file of each.
func (e *edges) all(from, to int, do func(chunk, i, file int, x edge)) {
	marks, seen := e.files, from*chunkRows
	for c := from; c < to; c++ {
		for i, x := range e.chunks[c] {
			for len(marks) > 1 && marks[1].edge <= seen {
				marks = marks[1:]
			}
			seen++
			do(c, i, marks[0].file, x)
		}
	}
}

// pointer says that the object at row says that a policy applies to it.
type pointer struct{ policy, row, file, line uint32 }

// piece says that a further part of an object stands in that file.
type piece struct{ row, file uint32 }

// shown says which attributes a file shows at least once: where one object has
// it, the others in the file were exported with it, too. Groups and accounts
// may have been searched for with other lists of attributes, one of them with
// memberOf.
type shown struct {
	members, targets, applied bool
	holders                   [Managed + 1]bool // by class
}

// server is a word of the evidence on what serves a domain.
type server struct {
	dialect Dialect
	cite    Cite
}

// mention is an object that the evidence names: where, and as what.
type mention struct {
	key  uint64 // the DN's hash
	dn   string
	file int
	line uint32
}

// mentions are one of each DN.
type mentions struct {
	row index
	all []mention
}

// add keeps a mention of a DN that was not mentioned before, and returns the number of
// the one that is kept.
func (m *mentions) add(key uint64, dn []byte, file int, line uint32) uint32 {
	row, known := m.row.get(key)
	if !known {
		row = uint32(len(m.all))
		m.row.put(key, row)
		m.all = append(m.all, mention{key, string(dn), file, line})
	}
	return row
}

// put keeps a mention in place of an earlier one.
func (m *mentions) put(x mention) { m.all[m.add(x.key, nil, 0, 0)] = x }

// fileMark says from which edge on the edges come from which file.
type fileMark struct{ edge, file int }

// span is one piece of a ranged attribute; last -1 means "to the end".
type span struct{ first, last, file int }

// Record is one object as a reader found it in one place. Empty fields mean
// that this piece of evidence does not say: a reader leaves out what it did not see, and
// says by the flags NoControl, NoPrimary and CutShort what it should have seen.
//
// Times are Unix seconds, 0 not known; MaxDays and IdleDays are days. DN, and the DNs in
// Applied, Resultant and Holders, are as the evidence spells them: the builder compares
// them without regard to case and spacing. The builder copies what it keeps, so that a
// reader may use one Record and its slices again.
type Record struct {
	Class                    Class
	DN                       []byte
	Name, Principal, Display []byte
	Flags                    Flag
	RID, Primary             uint32
	GroupType                uint32
	Control                  uint32
	ControlAt                uint8
	PwdSet, LastLogon        uint32
	Ends, Failures           uint32 // see Objects
	MaxDays, IdleDays        uint32
	Traits                   Trait
	Applied                  [][]byte // DNs of the policies that the object says apply to it
	Resultant                []byte   // DN of the policy that the directory itself says governs it
	Holders                  [][]byte // DNs of the groups that the object says hold it
	HolderLines              []uint32 // the line of each
	Source                   []byte   // where a synchronised account comes from; see Objects.Source
	Line                     int
}

// NewBuilder returns an empty Builder.
func NewBuilder() *Builder { return &Builder{byPlace: map[Place]*draft{}} }

// StartFile says from which stored file the facts that follow come.
func (b *Builder) StartFile(name string) { b.file, b.older, b.gathers = name, false, 0 }

// StartOlder says that the facts that follow come from a file of an earlier
// gather: so many gathers ago, 1 or more. What newer files said stands; older
// ones only fill the rest. They must come in order, the newest first.
func (b *Builder) StartOlder(name string, gathers int) {
	b.file, b.older, b.gathers = name, true, gathers
}

// Cite returns a Cite in the file being read.
func (b *Builder) Cite(line int, where, raw string) Cite {
	return Cite{File: b.file, Line: line, Where: where, Raw: raw}
}

// Place says which authority is meant. Two of one name are two where their
// kinds differ.
type Place struct {
	Name string
	Kind Kind
}

// String names the place so that no other is meant: "name (kind)".
func (at Place) String() string { return at.Name + " (" + string(at.Kind) + ")" }

// Means reports whether a name that people write means the place: its name, or
// its name with the kind.
func (at Place) Means(name string) bool {
	return strings.EqualFold(name, at.Name) || strings.EqualFold(name, at.String())
}

// Compare orders places by name.
func (at Place) Compare(other Place) int {
	return cmp.Or(strings.Compare(at.Name, other.Name), strings.Compare(string(at.Kind), string(other.Kind)))
}

// InDomain is the directory domain of that DNS name.
func InDomain(name string) Place { return Place{name, Domain} }

// platforms are what an authority of a kind runs on, unless its reader says
// otherwise.
var platforms = map[Kind]setting.Platform{Domain: setting.WindowsDomain, Machine: setting.WindowsMachine, LDAP: setting.LDAPDirectory,
	Tenant: setting.CloudDirectory}

// authority returns the draft of an authority.
func (b *Builder) authority(at Place) *draft {
	if b.last != nil && b.last.Name == at.Name && b.last.Kind == at.Kind && b.last.Files[b.last.fileRow] == b.file {
		return b.last
	}
	d := b.byPlace[at]
	if d == nil {
		d = &draft{
			Authority: Authority{Name: at.Name, Kind: at.Kind, Platform: platforms[at.Kind], Objects: &Objects{}},
			parentRow: map[string]uint32{}, refRow: map[uint64]uint32{}, ranges: map[uint32][]span{},
			policyRow: map[uint64]int{}, unitRow: map[uint64]int{}, abroad: map[uint64]abroad{},
		}
		b.byPlace[at] = d
	}
	if len(d.Files) == 0 || d.Files[d.fileRow] != b.file {
		if d.fileRow = slices.Index(d.Files, b.file); d.fileRow < 0 {
			d.fileRow, d.Files, d.shown = len(d.Files), append(d.Files, b.file), append(d.shown, shown{})
			d.gathered = append(d.gathered, b.gathers)
		}
		d.edges.startFile(d.fileRow)
		d.ups.startFile(d.fileRow)
	}
	b.last = d
	return d
}

// At says that an authority is there.
func (b *Builder) At(at Place) *Authority { return &b.authority(at).Authority }

// Knows returns an authority that was spoken of before, or nil.
func (b *Builder) Knows(at Place) *Authority {
	if d := b.byPlace[at]; d != nil {
		return &d.Authority
	}
	return nil
}

// Override returns the policy of that DN or name that goes before the
// authority's own settings, a new one for its first piece: with its name from the DN, the
// platform of the authority's kind, no settings, and no targets. What governs whom follows
// from Precedence, Target and the objects' own Applied, in whatever order they come.
//
// The pointer is good until the next call of Override or Finish: the policies may move.
func (b *Builder) Override(at Place, dn []byte, line int) *Policy {
	d := b.authority(at)
	key := b.speller.hash(dn)
	row, ok := d.policyRow[key]
	if !ok {
		row = len(d.Overrides)
		d.policyRow[key] = row
		platform := d.Platform
		if d.Kind == Domain {
			platform = setting.WindowsFineGrained
		}
		d.Overrides = append(d.Overrides, Policy{Name: NameOf(string(dn)), Origin: string(dn), Standing: Override,
			Platform: platform, Settings: Settings{}, Cite: b.Cite(line, "dn", string(dn))})
	}
	return &d.Overrides[row]
}

// Unit returns the unit of that DN, a new one for its first piece. It is good
// until the next call.
func (b *Builder) Unit(at Place, dn []byte, line int) *Unit {
	d := b.authority(at)
	key := b.speller.hash(dn)
	row, ok := d.unitRow[key]
	if !ok {
		row = len(d.Units)
		d.unitRow[key] = row
		d.Units = append(d.Units, Unit{DN: string(dn), Cite: b.Cite(line, "dn", string(dn))})
	}
	return &d.Units[row]
}

// Container adds a policy container. Of several records of one, the first
// counts, and later ones fill in what it lacks.
func (b *Builder) Container(at Place, c Container) {
	d := b.authority(at)
	i := slices.IndexFunc(d.Containers, func(x Container) bool { return x.GUID == c.GUID })
	if i < 0 {
		d.Containers = append(d.Containers, c)
		return
	}
	x := &d.Containers[i]
	x.Name, x.WMIFilter = cmp.Or(x.Name, c.Name), cmp.Or(x.WMIFilter, c.WMIFilter)
	x.Whole, x.NoSecurity, x.MachineOff = x.Whole || c.Whole, x.NoSecurity || c.NoSecurity, x.MachineOff || c.MachineOff
	x.NoRegistry, x.Preferences = x.NoRegistry || c.NoRegistry, x.Preferences || c.Preferences
	if x.Unapplied = x.Unapplied || c.Unapplied; x.Half == nil {
		x.Half = c.Half
	}
	if !x.Filtered && c.Filtered {
		x.Filtered, x.Access = true, c.Access
	}
}

// Displayed adds what a machine shows. Of two reports of one machine the newer one
// counts.
func (b *Builder) Displayed(at Place, shown Display) {
	d := b.authority(at)
	i := slices.IndexFunc(d.Authority.Displayed, func(x Display) bool { return x.Machine == shown.Machine })
	switch {
	case i < 0:
		d.Authority.Displayed = append(d.Authority.Displayed, shown)
	case !b.older:
		d.Authority.Displayed[i] = shown
	}
}

// Template adds a template. Two of one policy, such as the one in its backup and the
// one in its report, are one; where they differ the evidence contradicts itself.
func (b *Builder) Template(t Template) {
	i := slices.IndexFunc(b.Templates, t.Same)
	if t.Files = []string{t.Policy.Cite.File}; t.Part {
		b.parts = append(b.parts, t.Policy.Cite.File)
	}
	if i < 0 {
		b.Templates = append(b.Templates, t)
		return
	}
	was := &b.Templates[i]
	was.Domain = cmp.Or(was.Domain, t.Domain)
	if was.Half == nil {
		was.Half = t.Half
	}
	if !slices.Contains(was.Files, t.Policy.Cite.File) {
		was.Files = append(was.Files, t.Policy.Cite.File)
	}
	for _, id := range t.InRegistry {
		if !slices.Contains(was.InRegistry, id) {
			was.InRegistry = append(was.InRegistry, id)
		}
	}
	was.Registry, was.Part, was.Preferences = was.Registry || t.Registry, was.Part && t.Part, was.Preferences || t.Preferences
	if was.Policy.Name == was.GUID {
		was.Policy.Name = t.Policy.Name
	}
	for id, f := range t.Policy.Settings {
		old, ok := was.Policy.Settings[id]
		if prefers := slices.Contains(t.Preferred, id); ok && prefers != slices.Contains(was.Preferred, id) {
			if prefers { // it is applied after the other
				was.Policy.Settings[id] = f
			}
			continue
		}
		if ok && t.Part && old.Problem == "" && old.Value == f.Value {
			continue // cited where people can read it
		}
		if f.Problem == "" {
			b.Set(was.Policy.Settings, t.Policy.Platform, id, f.Value, f.Cite)
		} else if _, ok := was.Policy.Settings[id]; !ok {
			was.Policy.Settings[id] = f
		}
	}
	for id, f := range was.Policy.Settings {
		if _, ok := t.Policy.Settings[id]; !ok && f.Problem == "" && !t.Part && !b.older && !slices.Contains(b.parts, f.Cite.File) &&
			!slices.Contains(was.Preferred, id) {
			s := setting.Get(id)
			why := fmt.Sprintf("%s here, and not set in %s: the evidence contradicts itself", s.Text(f.Value), t.Policy.Cite.File)
			was.Policy.Settings[id] = Fact{Cite: f.Cite, Problem: why}
			b.note(Problem{Cite: f.Cite, Text: why, Damaged: true, Contradicts: true})
		}
	}
	for _, id := range t.Preferred {
		if !slices.Contains(was.Preferred, id) {
			was.Preferred = append(was.Preferred, id)
		}
	}
}

// Older reports whether the file being read is of an earlier gather: then what
// it says of a thing that newer files tell of does not count.
func (b *Builder) Older() bool { return b.older }

// Damaged notes a value that no platform could hold.
func (b *Builder) Damaged(c Cite, format string, args ...any) {
	b.note(Problem{Cite: c, Text: fmt.Sprintf(format, args...), Damaged: true})
}

// NotUnderstood notes something that was passed over.
func (b *Builder) NotUnderstood(c Cite, format string, args ...any) {
	b.note(Problem{Cite: c, Text: fmt.Sprintf(format, args...)})
}

// note keeps a problem. Those of older files are on record already.
func (b *Builder) note(p Problem) {
	if !b.older {
		b.Problems = append(b.Problems, p)
	}
}

// Set puts a fact into settings after asking the platform's own limits. A
// value outside them is noted as damaged and kept as a problem, without value.
func (b *Builder) Set(into Settings, p setting.Platform, id setting.ID, v setting.Value, c Cite) {
	if err := setting.Get(id).Allows(p, v); err != nil {
		b.Unreadable(into, id, c, err.Error())
		return
	}
	old, ok := into[id]
	if ok && b.older {
		return
	}
	if ok && old.Problem == "" && old.Value != v {
		s := setting.Get(id)
		why := fmt.Sprintf("%s here, %s at %s: the evidence contradicts itself", s.Text(v), s.Text(old.Value), old.Cite)
		into[id] = Fact{Cite: c, Problem: why}
		b.note(Problem{Cite: c, Text: why, Damaged: true, Contradicts: true})
		return
	}
	f := Fact{Value: v, Cite: c}
	if r, outside := setting.Get(id).BeyondPolicy(p, v); outside {
		f.Remark = fmt.Sprintf("outside what group policy can set (%s), and in force all the same", r)
	}
	into[id] = f
}

// Remark says what is unusual about a value that was taken.
func (b *Builder) Remark(into Settings, id setting.ID, text string) {
	f, ok := into[id]
	if !ok || f.Cite.File != b.file || f.Problem != "" {
		return
	}
	if f.Remark != "" {
		text = f.Remark + "; " + text
	}
	f.Remark = text
	into[id] = f
}

// Server says what a domain is served by, as far as the evidence tells. Where
// it tells two things, nothing is known.
func (b *Builder) Server(at Place, dialect Dialect, c Cite) {
	d := b.authority(at)
	d.servers = append(d.servers, server{dialect, c})
}

// Unreadable puts a fact without value into settings.
func (b *Builder) Unreadable(into Settings, id setting.ID, c Cite, why string) {
	if _, ok := into[id]; ok && b.older {
		return
	}
	into[id] = Fact{Cite: c, Problem: why}
	b.Damaged(c, "%s", why)
}

// Object adds a record, or joins it to an earlier one of the same DN, and
// returns its row.
func (b *Builder) Object(at Place, r *Record) uint32 {
	d := b.authority(at)
	o := d.Objects
	key := b.speller.hash(r.DN)
	if row, ok := d.row.get(key); ok {
		b.join(at, d, int(row), r)
		return row
	}
	row := uint32(o.Len())
	d.row.put(key, row)
	b.append(at, d, r)
	b.tell(d, row, r)
	return row
}

// append adds a row.
func (b *Builder) append(at Place, d *draft, r *Record) {
	o := d.Objects
	first, parent := SplitDN(r.DN)
	under, ok := d.parentRow[string(parent)]
	if !ok {
		under = uint32(len(d.Parents))
		d.parentRow[string(parent)] = under
		d.Parents = append(d.Parents, string(parent))
	}
	o.Class.Append(uint8(r.Class))
	o.Flags.Append(uint32(r.Flags))
	o.RID.Append(r.RID)
	o.Primary.Append(r.Primary)
	o.GroupType.Append(r.GroupType)
	o.Parent.Append(under)
	o.File.Append(uint32(d.fileRow))
	o.Line.Append(uint32(r.Line))
	o.Control.Append(r.Control)
	o.ControlAt.Append(r.ControlAt)
	o.PwdSet.Append(r.PwdSet)
	o.LastLogon.Append(r.LastLogon)
	d.few(o.Len()-1, r)
	o.Applied.Append(0)
	o.Resultant.Append(b.reference(d, r.Resultant, r.Line))
	o.RDN.Append(first)
	o.Name.Append(r.Name)
	o.Principal.Append(r.Principal)
	o.Display.Append(r.Display)
	if at.Kind == Tenant { // no other kind has synchronised accounts, and a million empty texts cost time
		o.Source.Append(r.Source)
	}
}

// few notes what few objects have.
func (d *draft) few(row int, r *Record) {
	o := d.Objects
	for _, x := range []struct {
		column *Numbers[uint32]
		value  uint32
	}{{&o.Ends, r.Ends}, {&o.Failures, r.Failures}, {&o.MaxDays, r.MaxDays}, {&o.IdleDays, r.IdleDays}} {
		if x.column.At(row) == 0 {
			x.column.put(row, x.value)
		}
	}
	o.Traits.put(row, o.Traits.At(row)|uint8(r.Traits))
}

// tell notes what an object says of its groups and of the policies that apply
// to it.
func (b *Builder) tell(d *draft, row uint32, r *Record) {
	seen := &d.shown[d.fileRow]
	for _, dn := range r.Applied {
		policy := b.reference(d, dn, r.Line)
		d.applied = append(d.applied, pointer{policy - 1, row, uint32(d.fileRow), uint32(r.Line)})
		if d.Objects.Applied.At(int(row)) == 0 {
			d.Objects.Applied.set(int(row), policy)
		}
		seen.applied = true
	}
	for i, dn := range r.Holders {
		group := d.named.add(b.speller.hash(dn), dn, d.fileRow, r.HolderLines[i])
		d.ups.add(edge{uint64(group), row, r.HolderLines[i]})
		seen.holders[d.Objects.ClassOf(int(row))] = true
	}
}

// ShowsPointers says that the file being read was exported with the attributes
// by which accounts point at policies, whether one does or not.
func (b *Builder) ShowsPointers(at Place) {
	d := b.authority(at)
	d.shown[d.fileRow].applied = true
}

// join adds what a further piece says of an object to what is known.
func (b *Builder) join(at Place, d *draft, row int, r *Record) {
	o := d.Objects
	if at := uint32(d.fileRow); o.File.At(row) != at {
		d.pieces = append(d.pieces, piece{uint32(row), at})
	}
	defer b.tell(d, uint32(row), r)
	number := func(c *Numbers[uint32], v uint32) {
		if c.At(row) == 0 {
			c.set(row, v)
		}
	}
	text := func(c *Texts, v []byte) {
		if c.At(row) == "" && len(v) > 0 {
			c.set(row, string(v))
		}
	}
	if o.ClassOf(row) == Other {
		o.Class.set(row, uint8(r.Class))
	}
	const gaps = NoControl | NoPrimary | Unclassified
	lacks := Flag(o.Flags.At(row)) & r.Flags & gaps // what neither piece says
	if !b.older || o.FlagsOf(row)&NoControl != 0 {
		o.Flags.set(row, o.Flags.At(row)|uint32(r.Flags))
	}
	o.Flags.set(row, o.Flags.At(row)&^uint32(gaps)|uint32(lacks))
	number(&o.RID, r.RID)
	number(&o.Primary, r.Primary)
	number(&o.GroupType, r.GroupType)
	number(&o.Control, r.Control)
	number(&o.PwdSet, r.PwdSet)
	number(&o.LastLogon, r.LastLogon)
	d.few(row, r)
	number(&o.Resultant, b.reference(d, r.Resultant, r.Line))
	text(&o.Name, r.Name)
	text(&o.Principal, r.Principal)
	text(&o.Display, r.Display)
	text(&o.Source, r.Source)
}

// reference returns 1 + the row of the policy that an object points at.
func (b *Builder) reference(d *draft, dn []byte, line int) uint32 {
	if len(dn) == 0 {
		return 0
	}
	key := b.speller.hash(dn)
	row, ok := d.refRow[key]
	if !ok {
		row = uint32(len(d.Policies))
		d.refRow[key] = row
		d.Policies = append(d.Policies, Reference{DN: string(dn), Cite: b.Cite(line, "", "")})
	}
	d.Policies[row].Count++
	return row + 1
}

// Member says that the group at that row names dn as a member.
func (b *Builder) Member(at Place, group uint32, dn []byte, line int) {
	b.MemberSpelled(at, group, dn, b.speller.Spell(dn), line)
}

// MemberSpelled is Member for a DN whose spelling was found before.
func (b *Builder) MemberSpelled(at Place, group uint32, dn []byte, spelling Spelling, line int) {
	d := b.authority(at)
	d.shown[d.fileRow].members = true
	d.edges.add(edge{spelling.dn, group, uint32(line)})
	if at.Kind == Domain && d.ofAnother(dn, spelling) {
		d.named.add(spelling.dn, dn, d.fileRow, uint32(line))
	}
}

// MemberOrChange is MemberSpelled for the one name of an attribute "range=0-0". It is the first
// of a list that is exported one by one, or what was taken out since an earlier search (MS-ADTS
// 3.1.1.3.4.1.3): Finish knows, by the pieces that follow.
func (b *Builder) MemberOrChange(at Place, group uint32, dn []byte, spelling Spelling, line int) {
	d := b.authority(at)
	d.shown[d.fileRow].members = true
	d.firsts = append(d.firsts, first{edge{spelling.dn, group, uint32(line)}, bytes.Clone(dn), spelling, d.fileRow})
}

// first is the name of a "range=0-0".
type first struct {
	edge
	dn       []byte
	spelling Spelling
	file     int
}

// placeFirsts makes members of the names of which a list goes on. The others are neither
// members nor none: their groups' lists are not whole.
func (d *draft) placeFirsts() {
	type list struct{ group, file uint32 }
	alone := map[list]int{}
	for _, f := range d.firsts {
		alone[list{f.row, uint32(f.file)}]++
	}
	for _, f := range d.firsts {
		in := list{f.row, uint32(f.file)}
		goesOn := slices.ContainsFunc(d.ranges[f.row], func(s span) bool { return s.first > 1 || s.first == 1 && s.last != 1 })
		if goesOn && alone[in] == 1 {
			d.ranges[f.row] = append(d.ranges[f.row], span{0, 0, f.file})
			d.edges.startFile(f.file)
			d.edges.add(f.edge)
			if d.ofAnother(f.dn, f.spelling) {
				d.named.add(f.spelling.dn, f.dn, f.file, f.line)
			}
		} else if alone[in] > 0 {
			d.ranges[f.row] = append(d.ranges[f.row], span{1, 1, f.file})
			alone[in] = -1
		}
	}
	d.firsts = nil
}

// ForeignPrincipals begins the DN of the container in which a domain keeps what stands for
// other domains' objects, in lower case.
const ForeignPrincipals = "cn=foreignsecurityprincipals,"

// mostAbroad bounds how many members' parents are remembered.
const mostAbroad = 100_000

// ofAnother reports whether a DN is of another domain, or stands for what is: a foreign
// security principal is called by its SID. One that stands for everybody or the like is
// none. Members have few parents: what was found of one is remembered.
func (d *draft) ofAnother(dn []byte, spelling Spelling) bool {
	where, known := d.abroad[spelling.parent]
	if !known {
		_, parent := SplitDN(NormalDN(string(dn)))
		domain := DomainOf(parent)
		where = abroad{domain: domain != "" && domain != d.Name, principals: strings.HasPrefix(parent, ForeignPrincipals)}
		if len(d.abroad) < mostAbroad {
			d.abroad[spelling.parent] = where
		}
	}
	return where.domain || where.principals && len(dn) > len(foreignSID) && bytes.EqualFold(dn[:len(foreignSID)], []byte(foreignSID))
}

// abroad is what lies below a parent.
type abroad struct {
	domain     bool // another domain's objects
	principals bool // foreign security principals
}

// foreignSID begins the name of what stands for an object of another domain.
const foreignSID = "CN=S-1-5-21-"

// MemberOf says that the group of that name or DN lists dn as a member, in a file
// that lists all its members.
func (b *Builder) MemberOf(at Place, group string, dn []byte, line int) {
	d := b.authority(at)
	key := namedGroup{strings.ToLower(group), d.fileRow}
	if d.byName == nil {
		d.byName = map[namedGroup][]edge{}
	}
	d.byName[key] = append(d.byName[key], edge{other: b.speller.hash(dn), line: uint32(line)})
}

// namedGroup is a group as a list of its members names it, and the file of that
// list.
type namedGroup struct {
	name string
	file int
}

// ShowsMembers says that groups' members are told in full by the file being
// read, even where no group has any.
func (b *Builder) ShowsMembers(at Place) {
	d := b.authority(at)
	d.shown[d.fileRow].members = true
}

// Target says that the policy names dn. From files of an earlier gather it only
// counts where newer ones do not tell whom the policy names.
func (b *Builder) Target(at Place, p *Policy, t Target) {
	d := b.authority(at)
	d.shown[d.fileRow].targets = true
	p.Targets = append(p.Targets, t)
}

// ShowsTargets says that whom policies name is told by the file being read, even where
// one names nobody.
func (b *Builder) ShowsTargets(at Place) {
	d := b.authority(at)
	d.shown[d.fileRow].targets = true
}

// MemberRange says that the group's members were exported in pieces and that
// this piece holds number first to last; last is -1 for the final piece.
func (b *Builder) MemberRange(at Place, group uint32, first, last int) {
	d := b.authority(at)
	d.shown[d.fileRow].members = true
	d.ranges[group] = append(d.ranges[group], span{first, last, d.fileRow})
}

// Finish joins everything and returns the authorities, sorted by name.
func (b *Builder) Finish() []*Authority {
	var all []*Authority
	for _, d := range b.byPlace {
		d.finish(b)
	}
	own := b.controllers()
	for at, d := range b.byPlace {
		if own[at] {
			continue // what a controller shows is its domain's
		}
		if at.Kind == Domain && d.bare() && b.byPlace[Place{at.Name, LDAP}] != nil {
			continue // the units of an LDAP directory, which look like those of a domain
		}
		all = append(all, &d.Authority)
	}
	slices.SortFunc(all, func(x, y *Authority) int {
		return x.Place().Compare(y.Place())
	})
	return all
}

// The primary groups of controllers, and their accounts' marks (MS-ADTS 2.2.16, 6.1.1.6).
const (
	controllersGroup, readOnlyGroup = 516, 521
	serverTrust, partialSecrets     = 0x2000, 0x4000000
)

// controllers finds the machines that are a domain's controllers: they have no accounts of their
// own, and what they show of rules is the domain's. What the domain's head lacks of it is taken
// there. A name that two domains' computers have tells nothing.
func (b *Builder) controllers() map[Place]bool {
	own := map[Place]bool{}
	named := map[string][]*draft{} // by machines' names: domains, once for each computer of the name
	role := map[string]bool{}
	for at, d := range b.byPlace {
		if at.Kind == Machine && d.Platform == setting.WindowsMachine && d.Head != nil && !d.Listed {
			named[at.Name] = nil
		}
	}
	if len(named) == 0 {
		return nil
	}
	for at, d := range b.byPlace {
		if at.Kind != Domain {
			continue
		}
		for row := range d.Objects.Len() {
			if d.Objects.ClassOf(row) != Computer {
				continue
			}
			name := strings.ToLower(strings.TrimSuffix(d.Objects.Name.At(row), "$"))
			if _, wanted := named[name]; !wanted {
				continue
			}
			named[name] = append(named[name], d)
			primary := d.Objects.Primary.At(row)
			role[name] = d.Objects.Control.At(row)&(serverTrust|partialSecrets) != 0 || primary == controllersGroup || primary == readOnlyGroup
		}
	}
	for _, name := range slices.Sorted(maps.Keys(named)) {
		if len(named[name]) != 1 || !role[name] || named[name][0].Head == nil {
			continue
		}
		at, domain := Place{name, Machine}, named[name][0]
		own[at] = true
		for id, f := range b.byPlace[at].Head.Settings {
			if _, has := domain.Head.Settings[id]; !has && setting.Get(id).Exists(setting.WindowsDomain) && f.Problem == "" {
				f.Cite.Note = "as the controller " + name + " shows it"
				domain.Head.Settings[id] = f
			}
		}
		domain.Files = append(domain.Files, b.byPlace[at].Files...)
	}
	return own
}

// joinHolders turns what members say of their groups into what groups say of their
// members, and marks those that say it.
func (d *draft) joinHolders() {
	var speller Speller
	for row := range d.Objects.Len() {
		if d.shown[d.Objects.File.At(row)].holders[d.Objects.ClassOf(row)] && d.Objects.FlagsOf(row)&Unseen == 0 {
			d.mark(row, HoldersShown)
		}
	}
	d.ups.all(0, len(d.ups.chunks), func(_, _, file int, x edge) {
		d.edges.startFile(file)
		d.edges.add(edge{speller.hash([]byte(d.DN(int(x.row)))), d.mentioned[x.other], x.line})
	})
	d.ups = edges{}
}

// inherit gives local policies what they leave open: the server's own value, or, where
// it does not let them inherit, what the policy's class says of what is absent.
func (d *draft) inherit() {
	local := d.LocalPolicies
	for i := range d.Overrides {
		p := &d.Overrides[i]
		for _, id := range p.Inherits {
			switch {
			case local == nil: // not known: the setting is missing
				delete(p.Settings, id)
			case local.Inherit && d.Head != nil:
				if f, ok := d.Head.Settings[id]; ok {
					f.Cite.Note = "left open by the local policy, and inherited from the server's"
					p.Settings[id] = f
				} else {
					delete(p.Settings, id)
				}
			case local.Inherit:
				delete(p.Settings, id)
			}
		}
	}
}

// bare reports whether nothing is known of an authority but units and other
// objects that govern nothing.
func (d *draft) bare() bool {
	linked := slices.ContainsFunc(d.Units, func(u Unit) bool { return len(u.Links) > 0 })
	return d.Head == nil && d.Accounts+d.Groups+d.Computers+len(d.Overrides)+len(d.Containers) == 0 && !linked
}

func (d *draft) finish(b *Builder) {
	if d.Kind == Domain {
		d.finishDomain(b)
	} else {
		if d.Kind == LDAP { // elsewhere no account points at a policy by itself
			d.markTold()
		}
		d.placeTargets(b)
		if d.Platform == setting.KerberosRealm {
			d.addUnseen(b)
			d.placeTargets(b)
			d.joinHolders()
		}
		d.joinMembers()
		d.inherit()
	}
	for row := range d.Objects.Len() {
		switch d.Objects.ClassOf(row) {
		case Account:
			d.Accounts++
			if d.Objects.FlagsOf(row)&NoControl == 0 {
				d.Flagged++
			}
		case Group:
			d.Groups++
		case Computer:
			d.Computers++
		case Managed:
			d.Managed++
		default:
			if d.Objects.FlagsOf(row)&Unclassified != 0 {
				d.Unclassified++
			}
		}
	}
	d.Listed = d.Accounts > 0
	d.Memberships = d.Objects.Holds.Len()
	d.tellApart()
	if h := d.Head; h != nil && d.Kind == Domain && len(h.Settings) == 0 {
		b.Damaged(h.Cite, "the domain's head holds none of the password and lockout attributes; export it with all its attributes")
	}
	slices.SortStableFunc(d.Overrides, func(x, y Policy) int { return strings.Compare(x.Origin, y.Origin) })
	slices.SortStableFunc(d.Units, func(x, y Unit) int { return strings.Compare(NormalDN(x.DN), NormalDN(y.DN)) })
	slices.SortStableFunc(d.Containers, func(x, y Container) int { return strings.Compare(x.GUID, y.GUID) })
}

// markTold marks the rows whose files show which policies objects point at.
func (d *draft) markTold() {
	for row := range d.Objects.Len() {
		if d.shown[d.Objects.File.At(row)].applied {
			d.mark(row, AppliedShown)
		}
	}
	for _, p := range d.pieces {
		if d.shown[p.file].applied {
			d.mark(int(p.row), AppliedShown)
		}
	}
}

// placeTargets finds the rows of the policies' targets.
func (d *draft) placeTargets(b *Builder) {
	for i := range d.Overrides {
		p := &d.Overrides[i]
		if row, ok := d.refRow[b.speller.hash([]byte(p.Origin))]; ok {
			d.Policies[row].Known = true
		}
		for _, list := range [][]Target{p.Targets, p.Except} {
			for j := range list {
				list[j].Object = NotFound
				if row, ok := d.row.get(b.speller.hash([]byte(list[j].DN))); ok {
					list[j].Object = int(row)
				}
			}
		}
	}
}

// tellApart gives policies of one name their whole DN as a name.
func (d *draft) tellApart() {
	seen := map[string]int{}
	if d.Head != nil {
		seen[strings.ToLower(d.Head.Name)]++
	}
	for i := range d.Overrides {
		seen[strings.ToLower(d.Overrides[i].Name)]++
	}
	for i := range d.Overrides {
		if p := &d.Overrides[i]; seen[strings.ToLower(p.Name)] > 1 {
			p.Name = p.Origin
		}
	}
}

// covered reports whether the pieces of a ranged attribute make a whole, and
// if not, the first number that is missing.
func covered(pieces []span) (missing int, whole bool) {
	slices.SortFunc(pieces, func(a, b span) int { return a.first - b.first })
	next := 0
	for _, p := range pieces {
		if p.first > next {
			return next, false
		}
		if p.last < 0 {
			return next, true
		}
		next = max(next, p.last+1)
	}
	return next, false
}
