package estate

import (
	"cmp"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"
)

// This file joins what a directory domain's evidence says of membership: groups
// list their members, members list their groups, and either may have been
// exported in part or not at all. A membership counts where either side tells
// it. That a side does not tell it is evidence only where that side was
// exported: told says where it was.

// telling says of an object how many gathers ago each of its lists was last
// exported. What earlier gathers say of a list does not count any more.
type telling struct {
	members int // its list of members, if it is a group
	holders int // its list of the groups that hold it
	applied int // its list of the policies that name it
}

// never says that no file told a list.
const never = int(^uint(0) >> 1)

// mostDisputes is how many disagreements are kept one by one.
const mostDisputes = 200

func (d *draft) finishDomain(b *Builder) {
	d.dialect()
	d.placeFirsts()
	tells := d.tellings()
	d.dropOlderTargets()
	d.placeTargets(b)
	d.mentionLost(b)
	d.addUnseen(b)
	d.placeTargets(b)
	tells = d.placeLists(tells)
	d.addPointers(tells)
	d.noteRanges(tells)
	d.joinSides(tells)
	d.addLost(b)
	for i := range d.Overrides {
		p := &d.Overrides[i]
		if len(p.Targets) == 0 && !d.shownIn(p.Cite.File).targets {
			p.TargetsPart = true
		}
	}
}

// dialect sets the dialect on which everything in the evidence agrees.
func (d *draft) dialect() {
	for _, s := range d.servers {
		if s.dialect != d.servers[0].dialect {
			return
		}
	}
	if len(d.servers) > 0 {
		d.Dialect, d.DialectCite = d.servers[0].dialect, d.servers[0].cite
	}
}

func (d *draft) shownIn(file string) shown {
	if i := slices.Index(d.Files, file); i >= 0 {
		return d.shown[i]
	}
	return shown{}
}

// tellings says of each row which of its lists were exported, and when.
func (d *draft) tellings() []telling {
	all := make([]telling, d.Objects.Len())
	for row := range all {
		all[row] = telling{never, never, never}
	}
	note := func(row, file int) {
		s, class, t := &d.shown[file], d.Objects.ClassOf(row), &all[row]
		if class == Other {
			return
		}
		if s.members && class == Group {
			t.members = min(t.members, d.gathered[file])
		}
		if s.holders[class] {
			t.holders = min(t.holders, d.gathered[file])
		}
		if s.applied {
			t.applied = min(t.applied, d.gathered[file])
		}
	}
	for row := range all {
		note(row, int(d.Objects.File.At(row)))
	}
	for _, p := range d.pieces {
		note(int(p.row), int(p.file))
	}
	// Pieces of a list that do not make a whole are joined to older ones.
	for group, pieces := range d.ranges {
		for when := all[group].members; when != never; when = d.earlier(when) {
			if _, whole := covered(d.since(pieces, when)); whole || d.earlier(when) == never {
				all[group].members = when
				break
			}
		}
	}
	return all
}

// earlier returns the gather before one, of those that gave files; never if
// there is none.
func (d *draft) earlier(when int) int {
	next := never
	for _, g := range d.gathered {
		if g > when {
			next = min(next, g)
		}
	}
	return next
}

// since returns the pieces of so many gathers ago, and newer ones.
func (d *draft) since(pieces []span, when int) []span {
	return slices.DeleteFunc(slices.Clone(pieces), func(s span) bool { return d.gathered[s.file] > when })
}

// dropOlderTargets forgets the targets that earlier evidence gave to a policy
// which newer evidence tells in full.
func (d *draft) dropOlderTargets() {
	for i := range d.Overrides {
		p := &d.Overrides[i]
		when := never
		of := func(file string) int {
			if i := slices.Index(d.Files, file); i >= 0 {
				return d.gathered[i]
			}
			return 0
		}
		if d.shownIn(p.Cite.File).targets {
			when = of(p.Cite.File)
		}
		for _, t := range p.Targets {
			when = min(when, of(t.Cite.File))
		}
		p.Targets = slices.DeleteFunc(p.Targets, func(t Target) bool { return of(t.Cite.File) > when })
	}
}

// addUnseen adds a row for each thing that a policy or a member names and no
// file holds.
func (d *draft) addUnseen(b *Builder) {
	for i := range d.Overrides {
		for _, t := range d.Overrides[i].Targets {
			if t.Object == NotFound {
				d.named.put(mention{b.speller.hash([]byte(t.DN)), t.DN, max(slices.Index(d.Files, t.Cite.File), 0), uint32(t.Cite.Line)})
			}
		}
	}
	at, before := Place{d.Name, d.Kind}, d.fileRow
	named := d.named.all
	byDN := make([]int, len(named))
	for i := range byDN {
		byDN[i] = i
	}
	slices.SortFunc(byDN, func(x, y int) int { return cmp.Compare(named[x].dn, named[y].dn) })
	d.mentioned = make([]uint32, len(named))
	for _, i := range byDN {
		m := &named[i]
		row, found := d.row.get(m.key)
		if !found {
			d.fileRow, row = m.file, uint32(d.Objects.Len())
			d.row.put(m.key, row)
			b.append(at, d, &Record{Class: Other, DN: []byte(m.dn), Flags: Unseen, Name: []byte(NameOf(m.dn)), Line: int(m.line)})
		}
		d.mentioned[i] = row
	}
	d.fileRow, d.named = before, mentions{}
}

// placeLists finds the groups of lists of members that name them. A list of a name
// that is not exactly one group's is told, and counts for nothing.
func (d *draft) placeLists(tells []telling) []telling {
	if len(d.byName) == 0 {
		return tells
	}
	for len(tells) < d.Objects.Len() { // what others name, and no file holds
		tells = append(tells, telling{never, never, never})
	}
	rows := map[string][]int{}
	for list := range d.byName {
		rows[list.name] = nil
	}
	for row := range d.Objects.Len() {
		if c := d.Objects.ClassOf(row); c != Group && (c != Other || d.Objects.FlagsOf(row)&Unseen == 0) {
			continue
		}
		for _, name := range slices.Compact([]string{strings.ToLower(d.Objects.Name.At(row)), strings.ToLower(NameOf(d.DN(row))),
			strings.ToLower(d.DN(row))}) {
			if known, asked := rows[name]; asked && !slices.Contains(known, row) {
				rows[name] = append(known, row)
			}
		}
	}
	for _, list := range slices.SortedFunc(maps.Keys(d.byName), func(x, y namedGroup) int {
		return cmp.Or(cmp.Compare(x.file, y.file), cmp.Compare(x.name, y.name))
	}) {
		members := d.byName[list]
		if n := len(rows[list.name]); n != 1 {
			d.Problems = append(d.Problems, Problem{Cite: Cite{File: d.Files[list.file], Line: int(members[0].line)},
				Text: fmt.Sprintf("%d members of %q, which is the name of %d groups in the evidence: name the file after the group, or "+
					"gather the groups, too", len(members), list.name, n)})
			continue
		}
		row := rows[list.name][0]
		tells[row].members = min(tells[row].members, d.gathered[list.file])
		d.edges.startFile(list.file)
		for _, x := range members {
			x.row = uint32(row)
			d.edges.add(x)
		}
	}
	d.byName = nil
	return tells
}

// addPointers adds what objects say of the policies that name them: to the
// policy's targets, or, of one that is not in the evidence, to the reference.
func (d *draft) addPointers(tells []telling) {
	byOrigin := map[string]*Policy{}
	for i := range d.Overrides {
		byOrigin[NormalDN(d.Overrides[i].Origin)] = &d.Overrides[i]
	}
	for _, x := range d.applied {
		ref, row := &d.Policies[x.policy], int(x.row)
		switch p := byOrigin[NormalDN(ref.DN)]; {
		case d.gathered[x.file] > tells[row].applied:
		case p == nil:
			if !slices.Contains(ref.Rows, row) {
				ref.Rows = append(ref.Rows, row)
			}
		case !slices.ContainsFunc(p.Targets, func(t Target) bool { return t.Object == row }):
			c := d.CiteOf(row)
			c.File, c.Line, c.Where, c.Raw = d.Files[x.file], int(x.line), "msDS-PSOApplied", ref.DN
			p.Targets = append(p.Targets, Target{DN: d.DN(row), Object: row, Cite: c})
		}
	}
	d.applied = nil
}

// noteRanges marks the groups of whose members a piece was not exported.
func (d *draft) noteRanges(tells []telling) {
	for _, group := range slices.Sorted(maps.Keys(d.ranges)) {
		pieces := d.since(d.ranges[group], tells[group].members)
		if len(pieces) == 0 {
			continue
		}
		if want, whole := covered(pieces); !whole {
			d.mark(int(group), MembersPart)
			c := d.CiteOf(int(group))
			c.Where = "member"
			text := fmt.Sprintf("the members of %s from number %d on were not exported", NameOf(d.DN(int(group))), want)
			if want == 0 && pieces[0].first == 1 {
				text = fmt.Sprintf("of the members of %s only those that changed since an earlier search were exported, or one", NameOf(d.DN(int(group))))
			}
			d.Problems = append(d.Problems, Problem{Cite: c, Text: text})
		}
	}
}

func (d *draft) mark(row int, f Flag)   { d.Objects.Flags.set(row, d.Objects.Flags.At(row)|uint32(f)) }
func (d *draft) unmark(row int, f Flag) { d.Objects.Flags.set(row, d.Objects.Flags.At(row)&^uint32(f)) }

// inShares parts n things among the processors, no share smaller than least, and
// returns how many shares there were. Each runs on its own.
func inShares(n, least int, do func(share, from, to int)) int {
	shares := max(1, min(runtime.GOMAXPROCS(0), n/least))
	var wait sync.WaitGroup
	for i := range shares {
		wait.Go(func() { do(i, i*n/shares, (i+1)*n/shares) })
	}
	wait.Wait()
	return shares
}

// joinMembers turns the edges, which stand by group, into each member's list of groups.
func (d *draft) joinMembers() {
	ends, holds, loose := d.placed(&d.edges, sorting{rows: d.members, held: edge.sayer})
	for _, x := range loose {
		d.loosen(x)
	}
	d.setHolds(ends, holds, 0)
}

// loosen notes a membership of what is not in the evidence.
func (d *draft) loosen(x looseEdge) {
	o := d.Objects
	o.LooseGroup.Append(x.row)
	o.LooseFile.Append(uint32(x.file))
	o.LooseLine.Append(x.line)
}

// setHolds appends rows' lists, and where they end, after so many that were there.
func (d *draft) setHolds(ends, holds []uint32, before int) {
	for _, end := range ends {
		d.Objects.HoldEnds.Append(uint32(before) + end)
	}
	for _, group := range holds {
		d.Objects.Holds.Append(group)
	}
}

// looseEdge is an edge to something that is not in the evidence.
type looseEdge struct {
	edge
	file int
}

// What placed is told of an edge that stands in no row's list.
const (
	notFound = ^uint32(0) - iota // what it is about is not in the evidence
	leftOut                      // it does not count
)

// members finds the rows of the members that groups' lists name. Each look waits for
// memory, and nothing else is done meanwhile, so that many wait at once.
func (d *draft) members(edges []edge, rows []uint32) {
	for i := range edges {
		row, ok := d.row.get(edges[i].other)
		if !ok {
			row = notFound
		}
		rows[i] = row
	}
}

// sayers are the rows that say the memberships.
func sayers(edges []edge, rows []uint32) {
	for i := range edges {
		rows[i] = edges[i].row
	}
}

// sayer is the row that says a membership.
func (x edge) sayer() uint32 { return x.row }

// sorting is how edges are sorted by the row that each is about.
type sorting struct {
	rows   func(edges []edge, rows []uint32) // finds those rows
	counts func(file int, x edge) bool       // nil: each does
	held   func(edge) uint32                 // what the row's list gets
}

// shelfRows is how many rows are sorted at once: what that takes stays near the processor.
const shelfRows = 1 << 14

// shelved is a chunk of edges sorted by shelves: those of shelf i end at ends[i].
type shelved struct {
	edges []placing
	ends  []int
	loose []looseEdge // those that are about nothing in the evidence
}

// placing puts what a row's list gets into it.
type placing struct{ row, held uint32 }

// placed sorts edges: the part of each row in the list ends at its place in ends, and has
// the row's edges in their order. The edges are used up. Each chunk is sorted by shelves,
// then each shelf by its rows: what is written lies close together.
func (d *draft) placed(e *edges, by sorting) (ends, list []uint32, loose []looseEdge) {
	if e.n == 0 {
		return make([]uint32, d.Objects.Len()), nil, nil
	}
	chunks := make([]shelved, len(e.chunks))
	shelves := (d.Objects.Len() + shelfRows - 1) / shelfRows
	inShares(len(chunks), 1, func(_, from, to int) {
		rows := make([]uint32, chunkRows)
		for c := from; c < to; c++ {
			chunks[c] = e.shelve(c, shelves, by, rows)
			e.chunks[c] = nil
		}
	})
	begins := make([]int, shelves+1) // of each shelf in the list
	for _, c := range chunks {
		for shelf, end := range c.ends {
			begins[shelf+1] += end // of all shelves up to it
		}
		loose = append(loose, c.loose...)
	}
	ends, list = make([]uint32, d.Objects.Len()), make([]uint32, begins[shelves])
	inShares(shelves, 1, func(_, from, to int) {
		for shelf := from; shelf < to; shelf++ {
			sortShelf(chunks, shelf, begins[shelf], ends[shelf*shelfRows:min((shelf+1)*shelfRows, len(ends))], list)
		}
	})
	return ends, list, loose
}

// shelve sorts a chunk by shelves. rows is reused.
func (e *edges) shelve(chunk, shelves int, by sorting, rows []uint32) shelved {
	edges := e.chunks[chunk]
	by.rows(edges, rows)
	s := shelved{ends: make([]int, shelves)}
	e.all(chunk, chunk+1, func(_, i, file int, x edge) {
		switch row := rows[i]; {
		case by.counts != nil && !by.counts(file, x):
			rows[i] = leftOut
		case row == notFound:
			s.loose = append(s.loose, looseEdge{x, file})
		default:
			s.ends[row/shelfRows]++
		}
	})
	next, total := make([]int, shelves), 0
	for shelf, n := range s.ends {
		next[shelf] = total
		total += n
		s.ends[shelf] = total
	}
	s.edges = make([]placing, total)
	for i, x := range edges {
		if row := rows[i]; row < leftOut {
			n := &next[row/shelfRows]
			s.edges[*n] = placing{row, by.held(x)}
			*n++
		}
	}
	return s
}

// of returns the part of a shelf.
func (s *shelved) of(shelf int) []placing {
	if shelf == 0 {
		return s.edges[:s.ends[0]]
	}
	return s.edges[s.ends[shelf-1]:s.ends[shelf]]
}

// sortShelf sorts a shelf by its rows, from a place in the list on: it counts, adds up and
// places. ends are those of the shelf's rows.
func sortShelf(chunks []shelved, shelf, at int, ends, list []uint32) {
	for i := range chunks {
		for _, x := range chunks[i].of(shelf) {
			ends[x.row%shelfRows]++
		}
	}
	next := uint32(at)
	for i, n := range ends {
		ends[i] = next // where the row's part begins, for now
		next += n
	}
	for i := range chunks {
		for _, x := range chunks[i].of(shelf) {
			end := &ends[x.row%shelfRows]
			list[*end] = x.held
			*end++
		}
	}
}

// joinSides makes each row's list of groups out of both sides, and compares
// them.
func (d *draft) joinSides(tells []telling) {
	o := d.Objects
	holderEnds, byHolder, _ := d.placed(&d.ups, sorting{rows: sayers,
		counts: func(file int, x edge) bool { return d.gathered[file] <= tells[x.row].holders },
		held:   func(x edge) uint32 { return d.mentioned[x.other] }})
	memberEnds, byMember, loose := d.placed(&d.edges, sorting{rows: d.members,
		counts: func(file int, x edge) bool { return d.gathered[file] <= tells[x.row].members },
		held:   edge.sayer})
	for _, x := range loose {
		d.loosen(x)
		d.mark(int(x.row), LooseMembers)
	}
	for row, t := range tells {
		switch f := o.FlagsOf(row); {
		case f&CutShort != 0:
			if o.ClassOf(row) == Group {
				d.mark(row, MembersPart)
			}
		default:
			if t.holders != never {
				d.mark(row, HoldersShown)
			}
			if t.applied != never {
				d.mark(row, AppliedShown)
			}
			if t.members == never && o.ClassOf(row) == Group {
				d.mark(row, MembersPart)
			}
		}
	}
	part := func(list, ends []uint32, from, to int) []uint32 {
		begin := uint32(0)
		if from > 0 {
			begin = ends[from-1]
		}
		return list[begin:ends[to-1]]
	}
	ends := make([]uint32, o.Len())
	all := make([]sides, runtime.GOMAXPROCS(0))
	shares := inShares(o.Len(), chunkRows, func(share, from, to int) {
		if from == to {
			return
		}
		s := sides{draft: d, ends: ends[from:to]}
		s.holds = make([]uint32, 0, max(len(part(byMember, memberEnds, from, to)), len(part(byHolder, holderEnds, from, to))))
		var both []uint32
		for row := from; row < to; row++ {
			members, holders := part(byMember, memberEnds, row, row+1), part(byHolder, holderEnds, row, row+1)
			both = append(append(both[:0], members...), holders...)
			slices.Sort(both)
			both = slices.Compact(both)
			s.holds = append(s.holds, both...)
			ends[row] = uint32(len(s.holds))
			s.compare(row, both, members, holders)
		}
		all[share] = s
	})
	before := 0
	for _, s := range all[:shares] {
		d.setHolds(s.ends, s.holds, before)
		before += len(s.holds)
		for _, row := range s.unshown {
			d.unmark(row, HoldersShown)
		}
		for _, group := range s.wanting {
			d.mark(int(group), MembersPart)
		}
		d.Disputes = append(d.Disputes, s.disputes[:min(len(s.disputes), mostDisputes-len(d.Disputes))]...)
		d.DisputeCount += s.disputed
	}
	d.edges, d.ups, d.mentioned = edges{}, edges{}, nil
}

// sides are the lists of a share of the rows, and what comparing them found. It is laid
// over the draft when all shares are done.
type sides struct {
	*draft
	ends, holds []uint32
	unshown     []int    // rows whose own list lacks a group that says it holds them
	wanting     []uint32 // groups whose list of members lacks one that says it is there
	disputes    []Dispute
	disputed    int
}

// compare notes the memberships of a row that one side tells and the other,
// which was exported, does not. The silence of a side that was found wanting
// counts for nothing from then on.
func (s *sides) compare(row int, all, members, holders []uint32) {
	o := s.Objects
	if c := o.ClassOf(row); c != Account && c != Group {
		return
	}
	shows := o.FlagsOf(row)&HoldersShown != 0
	for _, group := range all {
		byGroup, byMember := slices.Contains(members, group), slices.Contains(holders, group)
		switch f := o.FlagsOf(int(group)); {
		case byGroup && !byMember && shows && (o.Primary.At(row) == 0 || o.RID.At(int(group)) != o.Primary.At(row)):
			s.unshown = append(s.unshown, row)
			s.dispute(Dispute{Group: int(group), Member: row, Silent: OfMember, Cite: s.CiteOf(row)})
		case byMember && !byGroup && f&(Unseen|MembersPart|Unclassified) == 0:
			s.wanting = append(s.wanting, group)
			s.dispute(Dispute{Group: int(group), Member: row, Silent: OfGroup, Cite: s.CiteOf(int(group))})
		}
	}
}

func (s *sides) dispute(x Dispute) {
	if s.disputed++; s.disputed <= mostDisputes {
		s.disputes = append(s.disputes, x)
	}
}
