package govern

import (
	"maps"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
)

// This file joins the domains of an estate where groups of one hold objects of
// another: accounts and groups of the same forest, which they name by DN, and
// those of trusted domains, for which an object named after the SID stands. A row
// of one domain then stands for a row of another.

// there is an object of one of an estate's authorities.
type there struct{ authority, row int }

// Absent are objects of a domain that is not in the evidence, or not all of it,
// which the groups of one that is hold.
type Absent struct {
	Domain string // its name, or its SID
	Part   bool   // it is in the evidence, and these objects of it are not
	Rows   []int  // that stand for them
}

// forest is what the domains of an estate have to do with each other.
type forest struct {
	estate *estate.Estate
	same   []map[int]there // by authority: what rows stand for
	absent [][]Absent      // by authority
	inside []map[int][]int // by authority: what its groups hold of groups and of what stands for others; made when asked for
}

// joinForest finds what stands for what; nil where nothing does.
func joinForest(e *estate.Estate) *forest {
	f := &forest{estate: e, same: make([]map[int]there, len(e.Authorities)), absent: make([][]Absent, len(e.Authorities)),
		inside: make([]map[int][]int, len(e.Authorities))}
	byName, bySID := map[string]int{}, map[string]int{}
	for i, a := range e.Authorities {
		if a.Kind == estate.Domain {
			byName[a.Name], bySID[a.SID] = i, i
		}
	}
	// sought are the rows that stand for an object of another domain, by its DN or
	// by the last part of its SID.
	type standing struct{ at []there }
	byDN, byRID := make([]map[string]*standing, len(e.Authorities)), make([]map[uint32]*standing, len(e.Authorities))
	any := false
	for i, a := range e.Authorities {
		if a.Kind != estate.Domain {
			continue
		}
		absent := map[string]*Absent{}
		lacks := func(domain string, row int) {
			if absent[domain] == nil {
				absent[domain] = &Absent{Domain: domain}
			}
			absent[domain].Rows = append(absent[domain].Rows, row)
		}
		for row := range a.Objects.Len() {
			domain, sid := f.elsewhere(a, row)
			if domain == "" && sid == "" {
				continue
			}
			any = true
			if domain != "" {
				to, known := byName[domain]
				if !known {
					lacks(domain, row)
					continue
				}
				if byDN[to] == nil {
					byDN[to] = map[string]*standing{}
				}
				dn := estate.NormalDN(a.DN(row))
				if byDN[to][dn] == nil {
					byDN[to][dn] = &standing{}
				}
				byDN[to][dn].at = append(byDN[to][dn].at, there{i, row})
				continue
			}
			of, rid, ok := splitSID(sid)
			to, known := bySID[of]
			if !ok || !known || to == i {
				lacks(of, row)
				continue
			}
			if byRID[to] == nil {
				byRID[to] = map[uint32]*standing{}
			}
			if byRID[to][rid] == nil {
				byRID[to][rid] = &standing{}
			}
			byRID[to][rid].at = append(byRID[to][rid].at, there{i, row})
		}
		for _, domain := range slices.Sorted(maps.Keys(absent)) {
			f.absent[i] = append(f.absent[i], *absent[domain])
		}
	}
	if !any {
		return nil
	}
	stands := func(s *standing, for_ there) {
		for _, at := range s.at {
			if f.same[at.authority] == nil {
				f.same[at.authority] = map[int]there{}
			}
			f.same[at.authority][at.row] = for_
		}
		s.at = nil
	}
	for to, a := range e.Authorities {
		if byDN[to] == nil && byRID[to] == nil {
			continue
		}
		var firsts map[string]bool
		if byDN[to] != nil {
			firsts = map[string]bool{}
		}
		for dn := range byDN[to] {
			first, _ := estate.SplitDN(dn)
			firsts[first] = true
		}
		for row := range a.Objects.Len() {
			flags := a.Objects.FlagsOf(row)
			if flags&estate.Unseen != 0 {
				continue
			}
			if s := byRID[to][a.Objects.RID.At(row)]; s != nil && a.Objects.RID.At(row) != 0 && flags&estate.BuiltinDomain == 0 {
				stands(s, there{to, row})
			}
			if firsts != nil && firsts[estate.NormalDN(a.Objects.RDN.At(row))] {
				if s := byDN[to][estate.NormalDN(a.DN(row))]; s != nil {
					stands(s, there{to, row})
				}
			}
		}
		left := map[int][]int{} // by the domain that names them
		for _, s := range byDN[to] {
			for _, at := range s.at {
				left[at.authority] = append(left[at.authority], at.row)
			}
		}
		for _, s := range byRID[to] {
			for _, at := range s.at {
				left[at.authority] = append(left[at.authority], at.row)
			}
		}
		for i, rows := range left {
			slices.Sort(rows)
			f.absent[i] = append(f.absent[i], Absent{a.Name, true, rows})
		}
	}
	for i := range f.absent {
		slices.SortFunc(f.absent[i], func(x, y Absent) int { return strings.Compare(x.Domain, y.Domain) })
	}
	return f
}

// elsewhere says of which domain the object is for which a row stands: by the
// domain's name, or by the object's SID; neither where it is the domain's own.
func (f *forest) elsewhere(a *estate.Authority, row int) (domain, sid string) {
	o := a.Objects
	if o.ClassOf(row) != estate.Other {
		return "", ""
	}
	if name := estate.NameOf(o.RDN.At(row)); strings.HasPrefix(name, "S-1-5-21-") &&
		strings.HasPrefix(strings.ToLower(a.Parents[o.Parent.At(row)]), estate.ForeignPrincipals) {
		return "", name
	}
	if o.FlagsOf(row)&estate.Unseen == 0 {
		return "", ""
	}
	if domain = estate.DomainOf(a.Parents[o.Parent.At(row)]); domain == a.Name {
		return "", ""
	}
	return domain, ""
}

// splitSID parts a SID into its domain's and its last part.
func splitSID(sid string) (domain string, rid uint32, ok bool) {
	i := strings.LastIndexByte(sid, '-')
	n, ok := wholeNumber(sid[i+1:])
	return sid[:max(i, 0)], n, ok
}

// held is what a group of an authority holds of groups, and of what stands for
// other domains' objects.
func (f *forest) held(authority int) map[int][]int {
	if f.inside[authority] == nil {
		a := f.estate.Authorities[authority]
		all := map[int][]int{}
		for row := range a.Objects.Len() {
			if _, stands := f.same[authority][row]; stands || mayNest(a.Objects, row) {
				for holder := range a.Objects.GroupsOf(row) {
					all[holder] = append(all[holder], row)
				}
			}
		}
		f.inside[authority] = all
	}
	return f.inside[authority]
}

// mayNest reports whether a row is a group whose members are in what holds it. A
// group whose type was not exported may well be one of security.
func mayNest(o *estate.Objects, row int) bool {
	kind := estate.GroupType(o.GroupType.At(row))
	unseen := o.FlagsOf(row)&(estate.Unseen|estate.Unclassified) != 0
	return unseen || o.ClassOf(row) == estate.Group && (kind == 0 || kind.Security())
}

// spread takes tiers from one domain's groups to other domains' objects in them.
func (f *forest) spread(tierings []*Tiering) {
	for i := range tierings[0].rules {
		var queue []there
		abroad := map[there]bool{} // groups whose reason names another domain already
		for at := range f.same {
			if len(f.same[at]) > 0 {
				for _, row := range slices.Sorted(maps.Keys(tierings[at].groups[i])) {
					queue = append(queue, there{at, row})
				}
			}
		}
		for ; len(queue) > 0; queue = queue[1:] {
			from := queue[0]
			t := tierings[from.authority]
			why := t.groups[i][from.row]
			for _, row := range f.held(from.authority)[from.row] {
				to, stands := f.same[from.authority][row]
				if !stands {
					if t.groups[i][row] == "" {
						next := there{from.authority, row}
						t.groups[i][row], abroad[next] = why, abroad[from]
						queue = append(queue, next)
					}
					continue
				}
				other, of := tierings[to.authority], why
				if !abroad[from] {
					of += " of the domain " + t.a.Name
				}
				switch {
				case other.a.Objects.ClassOf(to.row) == estate.Account && other.elsewhere[i][to.row] == "":
					other.elsewhere[i][to.row] = of
				case other.a.Objects.ClassOf(to.row) == estate.Group && other.groups[i][to.row] == "" && mayNest(other.a.Objects, to.row):
					other.groups[i][to.row], abroad[to] = of, true
					queue = append(queue, to)
				}
			}
		}
	}
	for at, all := range f.absent {
		for _, absent := range all {
			if tierings[at].beyond == "" && tierings[at].Administers(absent.Rows) {
				tierings[at].beyond = absent.Domain
			}
		}
	}
}

// abroad are the rows of a domain that stand for objects of others which the
// evidence lacks, and which may hold what is of this domain: those of its forest.
func (f *forest) abroad(authority int) map[int]bool {
	all := map[int]bool{}
	for _, absent := range f.absent[authority] {
		for _, row := range absent.Rows {
			if f.estate.Authorities[authority].Objects.FlagsOf(row)&estate.Unseen != 0 {
				all[row] = true
			}
		}
	}
	return all
}

// Administers reports whether one of the rows is in an administrative group.
func (t *Tiering) Administers(rows []int) bool {
	for i := range t.rules {
		if t.rules[i].Name == Privileged {
			return slices.ContainsFunc(rows, func(row int) bool {
				for group := range t.a.Objects.GroupsOf(row) {
					if t.groups[i][group] != "" {
						return true
					}
				}
				return false
			})
		}
	}
	return false
}

// ways says how other domains' groups take a domain's policies on: what rows of
// it stand for them, and what of the domain such a group holds, at any depth,
// through groups that carry policies in a dialect.
func (f *forest) ways(authority int, carries func(estate.GroupType) grade) (foreign map[int]there, beyond map[int][]int) {
	foreign, beyond = f.same[authority], map[int][]int{}
	for _, row := range slices.Sorted(maps.Keys(foreign)) {
		seen := map[there]bool{}
		for queue := []there{foreign[row]}; len(queue) > 0; queue = queue[1:] {
			at := queue[0]
			o := f.estate.Authorities[at.authority].Objects
			if seen[at] || o.ClassOf(at.row) != estate.Group || carries(estate.GroupType(o.GroupType.At(at.row))) == no {
				continue
			}
			seen[at] = true
			for _, member := range f.held(at.authority)[at.row] {
				to, stands := f.same[at.authority][member]
				switch {
				case !stands:
					queue = append(queue, there{at.authority, member})
				case to.authority == authority:
					beyond[row] = append(beyond[row], to.row)
				default:
					queue = append(queue, to)
				}
			}
		}
		slices.Sort(beyond[row])
		beyond[row] = slices.Compact(beyond[row])
	}
	return foreign, beyond
}
