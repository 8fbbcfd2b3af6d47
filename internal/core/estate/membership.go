package estate

import (
	"cmp"
	"fmt"
	"maps"
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
				d.named.put(mention{hashDN([]byte(t.DN), &b.scratch), t.DN, max(slices.Index(d.Files, t.Cite.File), 0), uint32(t.Cite.Line)})
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
			d.Problems = append(d.Problems, Problem{Cite: c,
				Text: fmt.Sprintf("the members of %s from number %d on were not exported", NameOf(d.DN(int(group))), want)})
		}
	}
}

func (d *draft) mark(row int, f Flag)   { d.Objects.Flags.set(row, d.Objects.Flags.At(row)|uint32(f)) }
func (d *draft) unmark(row int, f Flag) { d.Objects.Flags.set(row, d.Objects.Flags.At(row)&^uint32(f)) }

// joinSides makes each row's list of groups out of both sides, and compares
// them.
func (d *draft) joinSides(tells []telling) {
	o := d.Objects
	var holderEnds, byHolder []uint32
	var wait sync.WaitGroup
	wait.Go(func() {
		holderEnds, byHolder = d.placedByRow(&d.ups, func(file int, x edge) bool {
			return d.gathered[file] > tells[x.row].holders
		})
	})
	memberEnds, byMember, loose := d.placed(&d.edges, func(file int, x edge) bool {
		return d.gathered[file] > tells[x.row].members
	})
	wait.Wait()
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
	ends, holds := make([]uint32, o.Len()), make([]uint32, 0, max(len(byMember), len(byHolder)))
	var part []uint32
	from := func(ends []uint32, row int) uint32 {
		if row == 0 {
			return 0
		}
		return ends[row-1]
	}
	for row := range ends {
		members, holders := byMember[from(memberEnds, row):memberEnds[row]], byHolder[from(holderEnds, row):holderEnds[row]]
		part = append(append(part[:0], members...), holders...)
		slices.Sort(part)
		part = slices.Compact(part)
		holds = append(holds, part...)
		ends[row] = uint32(len(holds))
		d.compare(row, part, members, holders)
	}
	for _, group := range d.wanting {
		d.mark(int(group), MembersPart)
	}
	d.setHolds(ends, holds)
	d.edges, d.ups, d.mentioned, d.wanting = edges{}, edges{}, nil, nil
}

// placedByRow sorts the edges of members' lists by the row that says them.
func (d *draft) placedByRow(e *edges, drop func(file int, x edge) bool) (ends, list []uint32) {
	ends = make([]uint32, d.Objects.Len())
	e.all(func(_, _, file int, x edge) {
		if !drop(file, x) {
			ends[x.row]++
		}
	})
	total := uint32(0)
	for i := range ends {
		total += ends[i]
		ends[i] = total - ends[i]
	}
	list = make([]uint32, total)
	e.all(func(_, _, file int, x edge) {
		if !drop(file, x) {
			list[ends[x.row]] = d.mentioned[x.other]
			ends[x.row]++
		}
	})
	return ends, list
}

// compare notes the memberships of a row that one side tells and the other,
// which was exported, does not. The silence of a side that was found wanting
// counts for nothing from then on.
func (d *draft) compare(row int, all, members, holders []uint32) {
	o := d.Objects
	if c := o.ClassOf(row); c != Account && c != Group {
		return
	}
	shows := o.FlagsOf(row)&HoldersShown != 0
	for _, group := range all {
		byGroup, byMember := slices.Contains(members, group), slices.Contains(holders, group)
		switch f := o.FlagsOf(int(group)); {
		case byGroup && !byMember && shows && (o.Primary.At(row) == 0 || o.RID.At(int(group)) != o.Primary.At(row)):
			d.unmark(row, HoldersShown)
			d.dispute(Dispute{Group: int(group), Member: row, Silent: OfMember, Cite: d.CiteOf(row)})
		case byMember && !byGroup && f&(Unseen|MembersPart|Unclassified) == 0:
			d.wanting = append(d.wanting, group)
			d.dispute(Dispute{Group: int(group), Member: row, Silent: OfGroup, Cite: d.CiteOf(int(group))})
		}
	}
}

func (d *draft) dispute(x Dispute) {
	if d.DisputeCount++; d.DisputeCount <= mostDisputes {
		d.Disputes = append(d.Disputes, x)
	}
}
