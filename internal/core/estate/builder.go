package estate

import (
	"cmp"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

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
	scratch   []byte
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
	edges     [][]edge
	edgeFiles []fileMark
	ranges    map[uint32][]span
}

// edge says that the group at row group names the DN with that hash.
type edge struct {
	member uint64
	group  uint32
	line   uint32
}

// fileMark says from which edge on the edges come from which file.
type fileMark struct{ edge, file int }

// span is one piece of a ranged attribute; last -1 means "to the end".
type span struct{ first, last int }

// Record is one object as a reader found it in one place. Empty fields mean
// that this piece of evidence does not say.
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
	Applied, Resultant       []byte // DNs of policies
	Source                   []byte // where a synchronised account comes from; see Objects.Source
	Line                     int
}

// NewBuilder returns an empty Builder.
func NewBuilder() *Builder { return &Builder{byPlace: map[Place]*draft{}} }

// StartFile says from which stored file the facts that follow come.
func (b *Builder) StartFile(name string) { b.file, b.older = name, false }

// StartOlder says that the facts that follow come from a file of an earlier
// gather. What newer files said stands; older ones only fill the rest.
func (b *Builder) StartOlder(name string) { b.file, b.older = name, true }

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

// InDomain is the directory domain of that DNS name.
func InDomain(name string) Place { return Place{name, Domain} }

// platforms are what an authority of a kind runs on, unless its reader says
// otherwise.
var platforms = map[Kind]setting.Platform{Domain: setting.WindowsDomain, Machine: setting.WindowsMachine, LDAP: setting.LDAPDirectory, Tenant: setting.CloudDirectory}

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
			policyRow: map[uint64]int{}, unitRow: map[uint64]int{},
		}
		b.byPlace[at] = d
	}
	if len(d.Files) == 0 || d.Files[d.fileRow] != b.file {
		if d.fileRow = slices.Index(d.Files, b.file); d.fileRow < 0 {
			d.fileRow, d.Files = len(d.Files), append(d.Files, b.file)
		}
		d.edgeFiles = append(d.edgeFiles, fileMark{d.edgeCount(), d.fileRow})
	}
	b.last = d
	return d
}

func (d *draft) edgeCount() int {
	if len(d.edges) == 0 {
		return 0
	}
	return (len(d.edges)-1)*chunkRows + len(d.edges[len(d.edges)-1])
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
// authority's own settings, a new one for its first piece. It is good until
// the next call.
func (b *Builder) Override(at Place, dn []byte, line int) *Policy {
	d := b.authority(at)
	key := hashDN(dn, &b.scratch)
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
	key := hashDN(dn, &b.scratch)
	row, ok := d.unitRow[key]
	if !ok {
		row = len(d.Units)
		d.unitRow[key] = row
		d.Units = append(d.Units, Unit{DN: string(dn), Cite: b.Cite(line, "dn", string(dn))})
	}
	return &d.Units[row]
}

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
		b.Unreadable(into, id, c, fmt.Sprintf("%s here, %s at %s: the evidence contradicts itself", s.Text(v), s.Text(old.Value), old.Cite))
		return
	}
	into[id] = Fact{Value: v, Cite: c}
}

// Unreadable puts a fact without value into settings.
func (b *Builder) Unreadable(into Settings, id setting.ID, c Cite, why string) {
	if _, ok := into[id]; ok && b.older {
		return
	}
	into[id] = Fact{Cite: c, Problem: why}
	b.Damaged(c, "%s", why)
}

// PointsAt says that some object points at that policy.
func (b *Builder) PointsAt(at Place, policy []byte, line int) {
	b.reference(b.authority(at), policy, line)
}

// Object adds a record, or joins it to an earlier one of the same DN, and
// returns its row.
func (b *Builder) Object(at Place, r *Record) uint32 {
	d := b.authority(at)
	o := d.Objects
	key := hashDN(r.DN, &b.scratch)
	if row, ok := d.row.get(key); ok {
		b.join(at, d, int(row), r)
		return row
	}
	row := uint32(o.Len())
	d.row.put(key, row)
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
	o.Applied.Append(b.reference(d, r.Applied, r.Line))
	o.Resultant.Append(b.reference(d, r.Resultant, r.Line))
	o.RDN.Append(first)
	o.Name.Append(r.Name)
	o.Principal.Append(r.Principal)
	o.Display.Append(r.Display)
	if at.Kind == Tenant { // no other kind has synchronised accounts, and a million empty texts cost time
		o.Source.Append(r.Source)
	}
	return row
}

// join adds what a further piece says of an object to what is known.
func (b *Builder) join(at Place, d *draft, row int, r *Record) {
	o := d.Objects
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
	lacks := Flag(o.Flags.At(row)) & r.Flags & (NoControl | NoPrimary) // what neither piece says
	if !b.older || o.FlagsOf(row)&NoControl != 0 {
		o.Flags.set(row, o.Flags.At(row)|uint32(r.Flags))
	}
	o.Flags.set(row, o.Flags.At(row)&^uint32(NoControl|NoPrimary)|uint32(lacks))
	number(&o.RID, r.RID)
	number(&o.Primary, r.Primary)
	number(&o.GroupType, r.GroupType)
	number(&o.Control, r.Control)
	number(&o.PwdSet, r.PwdSet)
	number(&o.LastLogon, r.LastLogon)
	number(&o.Applied, b.reference(d, r.Applied, r.Line))
	number(&o.Resultant, b.reference(d, r.Resultant, r.Line))
	text(&o.Name, r.Name)
	text(&o.Principal, r.Principal)
	text(&o.Display, r.Display)
	if at.Kind == Tenant {
		text(&o.Source, r.Source)
	}
}

// reference returns 1 + the row of the policy that an object points at.
func (b *Builder) reference(d *draft, dn []byte, line int) uint32 {
	if len(dn) == 0 {
		return 0
	}
	key := hashDN(dn, &b.scratch)
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
	d := b.authority(at)
	if n := len(d.edges); n == 0 || len(d.edges[n-1]) == chunkRows {
		d.edges = append(d.edges, make([]edge, 0, min(n*chunkRows, chunkRows)))
	}
	last := &d.edges[len(d.edges)-1]
	*last = append(*last, edge{hashDN(dn, &b.scratch), group, uint32(line)})
}

// MemberRange says that the group's members were exported in pieces and that
// this piece holds number first to last; last is -1 for the final piece.
func (b *Builder) MemberRange(at Place, group uint32, first, last int) {
	d := b.byPlace[at]
	d.ranges[group] = append(d.ranges[group], span{first, last})
}

// Finish joins everything and returns the authorities, sorted by name.
func (b *Builder) Finish() []*Authority {
	var all []*Authority
	for at, d := range b.byPlace {
		d.finish(b)
		if at.Kind == Domain && d.bare() && b.byPlace[Place{at.Name, LDAP}] != nil {
			continue // the units of an LDAP directory, which look like those of a domain
		}
		all = append(all, &d.Authority)
	}
	slices.SortFunc(all, func(x, y *Authority) int {
		return cmp.Or(strings.Compare(x.Name, y.Name), strings.Compare(string(x.Kind), string(y.Kind)))
	})
	return all
}

// bare reports whether nothing is known of an authority but units and other
// objects that govern nothing.
func (d *draft) bare() bool {
	linked := slices.ContainsFunc(d.Units, func(u Unit) bool { return len(u.Links) > 0 })
	return d.Head == nil && d.Accounts+d.Groups+d.Computers+len(d.Overrides)+len(d.Containers) == 0 && !linked
}

func (d *draft) finish(b *Builder) {
	d.joinMembers()
	for i := range d.Overrides {
		p := &d.Overrides[i]
		if row, ok := d.refRow[hashDN([]byte(p.Origin), &b.scratch)]; ok {
			d.Policies[row].Known = true
		}
		for j := range p.Targets {
			t := &p.Targets[j]
			t.Object = NotFound
			if row, ok := d.row.get(hashDN([]byte(t.DN), &b.scratch)); ok {
				t.Object = int(row)
			}
		}
	}
	for row := range d.Objects.Len() {
		switch d.Objects.ClassOf(row) {
		case Account:
			d.Accounts++
		case Group:
			d.Groups++
		case Computer:
			d.Computers++
		}
	}
	d.Listed = d.Accounts > 0
	d.tellApart()
	if h := d.Head; h != nil && d.Kind == Domain && len(h.Settings) == 0 {
		b.Damaged(h.Cite, "the domain's head holds none of the password and lockout attributes; export it with all its attributes")
	}
	for _, group := range slices.Sorted(maps.Keys(d.ranges)) {
		if want, whole := covered(d.ranges[group]); !whole {
			c := d.CiteOf(int(group))
			c.Where = "member"
			d.Problems = append(d.Problems, Problem{Cite: c,
				Text: fmt.Sprintf("the members of %s from number %d on were not exported", NameOf(d.DN(int(group))), want)})
		}
	}
	slices.SortStableFunc(d.Overrides, func(x, y Policy) int { return strings.Compare(x.Origin, y.Origin) })
	slices.SortStableFunc(d.Units, func(x, y Unit) int { return strings.Compare(NormalDN(x.DN), NormalDN(y.DN)) })
	slices.SortStableFunc(d.Containers, func(x, y Container) int { return strings.Compare(x.GUID, y.GUID) })
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
			return 0, true
		}
		next = max(next, p.last+1)
	}
	return next, false
}

// joinMembers turns the edges, which stand by group, into each member's list
// of groups: look up, count, add up, place. Linear in the edges.
func (d *draft) joinMembers() {
	o := d.Objects
	rows := d.memberRows()
	ends := make([]uint32, o.Len())
	marks, seen := d.edgeFiles, 0
	for i, chunk := range d.edges {
		for k, e := range chunk {
			for len(marks) > 1 && marks[1].edge <= seen {
				marks = marks[1:]
			}
			seen++
			if row := rows[i][k]; row == looseMember {
				o.LooseGroup.Append(e.group)
				o.LooseFile.Append(uint32(marks[0].file))
				o.LooseLine.Append(e.line)
			} else {
				ends[row]++
			}
		}
	}
	total := uint32(0)
	for i := range ends {
		total += ends[i]
		ends[i] = total - ends[i] // where the row's part begins, for now
	}
	holds := make([]uint32, total)
	for i, chunk := range d.edges {
		for k, e := range chunk {
			if row := rows[i][k]; row != looseMember {
				holds[ends[row]] = e.group
				ends[row]++
			}
		}
		d.edges[i], rows[i] = nil, nil
	}
	for _, end := range ends {
		o.HoldEnds.Append(end)
	}
	for _, group := range holds {
		o.Holds.Append(group)
	}
}

// looseMember stands for a member that is not in the evidence.
const looseMember = ^uint32(0)

// memberRows looks the edges' members up, chunk by chunk, on all processors:
// each look-up waits for memory, so they gain by waiting side by side.
func (d *draft) memberRows() [][]uint32 {
	rows := make([][]uint32, len(d.edges))
	var next atomic.Int64
	var wait sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			for i := int(next.Add(1)) - 1; i < len(d.edges); i = int(next.Add(1)) - 1 {
				rows[i] = make([]uint32, len(d.edges[i]))
				for k, e := range d.edges[i] {
					row, ok := d.row.get(e.member)
					if !ok {
						row = looseMember
					}
					rows[i][k] = row
				}
			}
		})
	}
	wait.Wait()
	return rows
}
