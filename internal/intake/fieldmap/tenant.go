package fieldmap

import (
	"cmp"
	"fmt"
	"math"
	"path"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/intake"
)

// someone is an account as far as rules of the tenant ask about it.
type someone struct {
	id     string
	domain string // of its sign-in name
	unit   string // path
	placed bool   // the unit was exported
	apart  []int  // of the map's list of accounts under rules of their own
	flags  estate.Flag
	in     *intake.Part
	line   int

	nameless bool // without the id by which groups and rules name it
	guest    answer
	spared   bool // it can sign in at the place itself, whatever is assigned
}

func (s *someone) cite() estate.Cite { return estate.Cite{File: s.in.Stored, Line: s.line} }

// group is a group of a tenant.
type group struct {
	row  uint32
	part bool // members may be missing
}

// groupDN keeps groups and accounts of one id apart.
func groupDN(id string) []byte { return []byte("group " + id) }

// readGroups reads the groups and who is in them.
func (r *reader) readGroups() {
	g := r.m.Groups
	if g == nil {
		return
	}
	files := r.memberFiles()
	type listed struct {
		id string
		e  element
		d  *document
	}
	var all []listed
	for d, e := range r.each(g.Export.Value, g.Each.path, nil) {
		id, _ := first(e, g.ID)
		name, _ := first(e, g.Name)
		if id == "" {
			r.into.NotUnderstood(estate.Cite{File: d.part.Stored, Line: e.lines.line, Where: g.ID.text.Value}, "a group without an id")
			continue
		}
		everybody := len(g.Everybody) > 0 && allHold(g.Everybody, e)
		r.settled[id] = everybody
		part := false
		switch {
		case everybody:
		case g.In != nil:
			part = files[id] == nil || r.cutOff(files[id]) != nil
		case g.Members.path != nil:
			members := g.Members.list(e)
			part = members < 0 || d.bare && members == 0 || g.Limit > 0 && members >= g.Limit
		}
		rec := &estate.Record{Class: estate.Group, DN: groupDN(id), Name: []byte(name), GroupType: estate.SecurityGroup, Line: lineOf(e, g.ID)}
		if part {
			rec.Flags |= estate.MembersPart
		}
		r.groups[id] = &group{r.into.Object(r.at, rec), part}
		all = append(all, listed{id, e, d})
	}
	for _, x := range all {
		if g.Parents.path != nil {
			r.into.StartFile(x.d.part.Stored)
			for _, f := range ask(x.e.value, x.e.lines, g.Parents.path) {
				r.member(textOf(f.value), x.id, f.line)
			}
		}
		if g.Members.path == nil {
			continue
		}
		r.into.StartFile(x.d.part.Stored)
		for _, m := range ask(x.e.value, x.e.lines, g.Members.path) {
			r.member(x.id, textOf(m.value), m.line)
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
		for e := range d.each(g.In.Each.path) {
			if id, _ := first(e, g.In.ID); id != "" {
				r.member(m[1], id, e.lines.line)
			}
		}
	}
}

// list returns how many elements the list has in which a path ends; -1 where
// the list itself is not there.
func (p Path) list(e element) int {
	if at := strings.LastIndex(p.text.Value, "[*]"); at > 0 {
		var list Path
		if err := list.parse(p.text.Value[:at]); err == nil {
			for _, v := range list.path.Select(e.value) {
				if members, ok := v.([]any); ok {
					return len(members)
				}
			}
			return -1
		}
	}
	return len(p.path.Select(e.value))
}

// memberFiles are the exports of single groups' members, by group.
func (r *reader) memberFiles() map[string][]*document {
	files := map[string][]*document{}
	if in := r.m.Groups.In; in != nil {
		for _, d := range r.exports[in.Export.Value] {
			if m := in.group.FindStringSubmatch(path.Base(d.part.Name)); m != nil {
				files[m[1]] = append(files[m[1]], d)
			}
		}
	}
	return files
}

// member says that a group holds an account, or another group.
func (r *reader) member(of, id string, line int) {
	g := r.groups[of]
	if g == nil {
		g = &group{row: r.into.Object(r.at, &estate.Record{Class: estate.Group, DN: groupDN(of), Name: []byte(of),
			GroupType: estate.SecurityGroup, Line: line})}
		r.groups[of] = g
	}
	dn := []byte(id)
	if r.groups[id] != nil {
		dn = groupDN(id)
	}
	r.held[id] = append(r.held[id], of)
	r.into.Member(r.at, g.row, dn, line)
}

// within are the groups that hold an account, those that hold its groups
// included.
func (r *reader) within(id string) map[string]bool {
	found := map[string]bool{}
	queue := slices.Clone(r.held[id])
	for ; len(queue) > 0; queue = queue[1:] {
		if !found[queue[0]] {
			found[queue[0]] = true
			queue = append(queue, r.held[queue[0]]...)
		}
	}
	return found
}

// members are what groups hold, by the groups' ids.
type members map[string][]string

func (r *reader) membersOf() members {
	in := members{}
	for id, groups := range r.held {
		for _, g := range groups {
			in[g] = append(in[g], id)
		}
	}
	return in
}

// below are those whom a group holds, and its groups.
func (m members) below(group string) (all []string) {
	seen := map[string]bool{group: true}
	for queue := m[group]; len(queue) > 0; queue = queue[1:] {
		if id := queue[0]; !seen[id] {
			seen[id] = true
			all = append(all, id)
			queue = append(queue[:len(queue):len(queue)], m[id]...)
		}
	}
	return all
}

// roles marks the holders of roles of administration.
func (r *reader) roles() {
	roles := r.m.Roles
	if roles == nil {
		return
	}
	in := r.membersOf()
	for d, e := range r.each(roles.Export.Value, roles.Each.path, roles.Only) {
		held, whole := r.holders(e, in)
		r.into.StartFile(d.part.Stored)
		for _, h := range held {
			r.into.Object(r.at, &estate.Record{Class: estate.Other, DN: []byte(h.id), Flags: estate.Administrator | estate.NoControl, Line: h.line})
		}
		if id, _ := first(e, roles.ID); !whole {
			r.tenant.Remarks = append(r.tenant.Remarks, estate.Remark{Kind: estate.ListCut, About: roles.Export.Value + " " + id,
				Cites:  []estate.Cite{{File: d.part.Stored, Line: lineOf(e, roles.ID), Where: roles.Export.Value, Raw: id}},
				Text:   "who holds the role " + id + " is not known in full: its list, or that of a group that holds it, may go on, or names what may be a group",
				Remedy: "Export the role's members by themselves, and all groups with theirs."})
		}
	}
}

// holder is an account that holds a role, by itself or through a group.
type holder struct {
	id   string
	line int
}

// holders are those of a role. whole says that they are all.
func (r *reader) holders(e element, in members) (all []holder, whole bool) {
	roles := r.m.Roles
	n := roles.Members.list(e)
	whole = n >= 0 && (roles.Limit == 0 || n < roles.Limit)
	for _, f := range ask(e.value, e.lines, roles.Members.path) {
		id := textOf(f.value)
		if g := r.groups[id]; g != nil {
			whole = whole && !g.part
			for _, below := range in.below(id) {
				if known := r.groups[below]; known != nil {
					whole = whole && !known.part
					continue
				}
				all = append(all, holder{below, f.line})
			}
			continue
		}
		whole = whole && (r.known[id] || r.allGroups()) // else it may be a group
		all = append(all, holder{id, f.line})
	}
	return all, whole
}

// synchronisation finds out how synchronised accounts' passwords are checked.
func (r *reader) synchronisation() {
	for _, w := range r.m.Sync {
		if slices.ContainsFunc(w.Needs, func(x strictyaml.Text) bool {
			return len(r.exports[x.Value]) == 0 || r.cutOff(r.exports[x.Value]) != nil
		}) {
			continue
		}
		for _, d := range r.exports[w.Export.Value] {
			text, ok := first(element{d.value, d.lines}, w.At)
			if !ok || w.Is.Value != "" && !strings.EqualFold(text, w.Is.Value) {
				continue
			}
			if way := estate.Way(w.Way.Value); way != unknownWay {
				r.tenant.Sync = way
			}
			return
		}
	}
}

// lowest is the precedence of what governs only where no policy of the tenant's
// own does.
const lowest = int64(math.MaxInt32)

// derived makes a policy that the exports do not spell out as one: the tenant's
// own settings with others over them, for a group of accounts. No account is in
// two of these groups.
func (r *reader) derived(name string, over estate.Settings, ids []string, at estate.Cite) {
	r.made++
	precedence := lowest - r.made
	row := r.into.Object(r.at, &estate.Record{Class: estate.Group, DN: groupDN(name), Name: []byte(name), GroupType: estate.SecurityGroup,
		Line: at.Line})
	for _, id := range ids {
		r.into.Member(r.at, row, []byte(id), at.Line)
	}
	p := r.into.Override(r.at, []byte(name), at.Line)
	p.Name, p.Cite, p.Precedence = name, at, &precedence
	p.Targets = []estate.Target{{DN: string(groupDN(name)), Cite: at}}
	if head := r.tenant.Head; head != nil {
		p.Asks = head.Asks
		for id, f := range head.Settings {
			p.Settings[id] = f
		}
	}
	for id, f := range over {
		p.Settings[id] = f
	}
}

// domains gives accounts the settings of the domain in their names. Where all
// domains have the same, they are the tenant's.
func (r *reader) domains() {
	m := r.m.Domains
	if m == nil || len(r.exports[m.Export.Value]) == 0 || r.tenant.Head == nil {
		return
	}
	type domain struct {
		name  string
		facts estate.Settings
		at    estate.Cite
	}
	var all []domain
	for d, e := range r.each(m.Export.Value, m.Each.path, nil) {
		name, _ := first(e, m.Name)
		one := domain{strings.ToLower(name), estate.Settings{}, estate.Cite{File: d.part.Stored, Line: lineOf(e, m.Name),
			Where: m.Name.text.Value, Raw: name}}
		for i := range m.Settings {
			r.setting(one.facts, &m.Settings[i], e, d)
			r.silent(one.facts, &m.Settings[i], e, d, one.at)
		}
		all = append(all, one)
	}
	if len(all) == 0 {
		return
	}
	cut := r.cutOff(r.exports[m.Export.Value]) != nil
	same := !cut && !slices.ContainsFunc(all, func(x domain) bool { return !sameValues(x.facts, all[0].facts) })
	if same {
		for id, f := range all[0].facts {
			r.tenant.Head.Settings[id] = f
		}
		return
	}
	for i := range m.Settings { // of no domain in the evidence, nothing is known
		reading := &m.Settings[i]
		r.tenant.Head.Settings[reading.row.ID] = estate.Fact{Cite: all[0].at,
			Problem: "it differs from domain to domain, and the domain of the account's name is not in the evidence",
			Remedy:  "Export all domains, and the accounts with their sign-in names."}
	}
	for _, x := range all {
		var ids []string
		for _, who := range r.people {
			if who.domain == x.name {
				ids = append(ids, who.id)
			}
		}
		r.derived("domain "+x.name, x.facts, ids, x.at)
	}
}

func sameValues(x, y estate.Settings) bool {
	if len(x) != len(y) {
		return false
	}
	for id, f := range x {
		if y[id].Value != f.Value || y[id].Problem != f.Problem {
			return false
		}
	}
	return true
}

// units gives accounts the settings of their units: each setting is that of the
// nearest unit above which has one.
func (r *reader) units() {
	m := r.m.Units
	if m == nil || len(r.exports[m.Of.Export.Value]) == 0 {
		return
	}
	paths := map[string]string{} // by id
	whole := len(r.exports[m.Export.Value]) > 0 && r.cutOff(r.exports[m.Export.Value]) == nil
	for _, e := range r.each(m.Export.Value, m.Each.path, nil) {
		id, _ := first(e, m.ID)
		text, _ := first(e, m.Path)
		paths[unitID(id)] = text
	}
	root := r.tenant.Head
	at := r.exports[m.Of.Export.Value][0]
	own := map[string]estate.Settings{} // by path; "/" is the root
	lost, open := "", ""
	var lostAt estate.Cite
	for _, d := range r.exports[m.Of.Export.Value] {
		if d.lacks != "" {
			open, lostAt = "units that the export leaves out (it lacks "+d.lacks+")", estate.Cite{File: d.part.Stored, Line: 1,
				Where: m.Of.Export.Value}
		}
	}
	alone := !whole && r.oneUnit()
	for _, later := range []bool{true, false} { // what an administrator set goes over what is there from the beginning
		for d, e := range r.each(m.Of.Export.Value, m.Of.Each.path, nil) {
			if (len(m.Of.Later) > 0 && allHold(m.Of.Later, e)) != later {
				continue
			}
			where := "/"
			if id, ok := first(e, m.Of.Unit); ok && id != "" && !alone {
				if where = paths[unitID(id)]; where == "" {
					lost, lostAt = id, estate.Cite{File: d.part.Stored, Line: lineOf(e, m.Of.Unit), Where: m.Of.Unit.text.Value, Raw: id}
					continue
				}
			}
			if text := m.Of.limits(e); text != "" {
				open, lostAt = "whom it does not say in words that are understood ("+text+")", estate.Cite{File: d.part.Stored, Line: lineOf(e, m.Of.Unit), Where: text}
				continue
			}
			if text, ok := first(e, m.Of.Open); ok && text != "" {
				open, lostAt = text, estate.Cite{File: d.part.Stored, Line: lineOf(e, m.Of.Open), Where: m.Of.Open.text.Value, Raw: text}
				continue
			}
			facts := estate.Settings{}
			for i := range m.Of.Settings {
				r.setting(facts, &m.Of.Settings[i], e, d)
			}
			if own[where] == nil {
				own[where] = estate.Settings{}
			}
			for id, f := range facts {
				own[where][id] = f
			}
		}
	}
	if root == nil {
		r.tenant.Head = &estate.Policy{Name: "tenant", Origin: r.m.ID.Value + " " + r.at.Name, Standing: estate.Enforced,
			Platform: r.tenant.Platform, Settings: estate.Settings{},
			Cite: estate.Cite{File: at.part.Stored, Line: 1, Where: r.m.ID.Value}}
		root = r.tenant.Head
	}
	for id, f := range own["/"] {
		root.Settings[id] = f
	}
	for i := range m.Of.Settings {
		r.missing(root.Settings, &m.Of.Settings[i], r.exports[m.Of.Export.Value])
	}
	if len(own) > 1 || lost != "" || open != "" {
		r.inUnits(own, whole, lost, open, lostAt)
	}
}

// together gives each account the settings of all policies that reach it, and of each the
// strictest.
func (r *reader) together(p *Policies) {
	type policy struct {
		name    string
		at      estate.Cite
		all     bool
		of, not crowd
		open    string
		facts   estate.Settings
	}
	var all []*policy
	for _, rows := range r.stated(p) {
		d, e := rows[0].d, rows[0].e
		r.into.StartFile(d.part.Stored)
		name, _ := first(e, p.Name)
		x := &policy{name: name, at: estate.Cite{File: d.part.Stored, Line: lineOf(e, p.Name), Where: p.Name.text.Value, Raw: name},
			of: crowdOf(e, p.Users, p.Groups, Path{}, nil), not: crowdOf(e, p.NoUsers, p.NoGroups, Path{}, nil), open: p.opens(rows),
			facts: estate.Settings{}}
		x.all = len(x.of.users)+len(x.of.groups) == 0 || slices.ContainsFunc(x.of.groups, func(g string) bool { return r.settled[g] })
		r.state(x.facts, p, rows, x.at)
		all = append(all, x)
	}
	of := map[string][]string{} // accounts, by the numbers of their policies
	sets := map[string][]*policy{}
	cut := r.cutOff(r.exports[p.Export.Value]) != nil
	for i := range r.people {
		who := &r.people[i]
		groups := r.within(who.id)
		key, open := "", ""
		var reach []*policy
		for n, x := range all {
			in := yes
			if !x.all {
				in = x.of.holds(r, who, groups, nil, true)
			}
			in = min(in, yes-x.not.holds(r, who, groups, nil, true))
			switch {
			case in == perhaps:
				open = "whom " + x.name + " reaches, which is not in the evidence"
			case in == yes && x.open != "":
				open = x.name + ": " + x.open
			case in == yes:
				key, reach = fmt.Sprint(key, " ", n), append(reach, x)
			}
		}
		switch {
		case open != "" || cut:
			r.undecided(who.id+" under "+p.Export.Value, []string{who.id}, cmp.Or(open, "policies that were not exported"), who.cite())
		case len(reach) > 0:
			of[key], sets[key] = append(of[key], who.id), reach
		}
	}
	for _, key := range sorted(of) {
		var names []string
		merged := estate.Settings{}
		for _, x := range sets[key] {
			names = append(names, x.name)
			for id, f := range x.facts {
				before, ok := merged[id]
				order, known := stricter(setting.Get(id), f.Value, before.Value)
				switch {
				case !ok:
					merged[id] = f
				case before.Problem != "":
				case f.Problem != "" || !known && f.Value != before.Value:
					merged[id] = estate.Fact{Cite: f.Cite, Problem: cmp.Or(f.Problem, "policies set it to values of which none is the strictest")}
				case order > 0:
					merged[id] = f
				}
			}
		}
		r.derived(strings.Join(names, " and "), merged, of[key], sets[key][0].at)
	}
}

// own gives accounts the settings that stand beside them.
func (r *reader) own(a *Accounts) {
	if len(a.Settings) == 0 {
		return
	}
	ids, facts := map[string][]string{}, map[string]estate.Settings{}
	var keys []string
	for d, e := range r.each(a.Export.Value, a.Each.path, a.Only) {
		id, ok := first(e, a.ID)
		if !ok {
			id, _ = first(e, a.Name)
		}
		mine, key := estate.Settings{}, ""
		for i := range a.Settings {
			reading := &a.Settings[i]
			r.setting(mine, reading, e, d)
			r.silent(mine, reading, e, d, estate.Cite{File: d.part.Stored, Line: lineOf(e, a.ID, a.Name), Where: a.Export.Value})
			if f, ok := mine[reading.row.ID]; ok {
				key += fmt.Sprintf("%s %s %s;", reading.row.ID, reading.row.Text(f.Value), f.Problem)
			}
		}
		if id == "" || key == "" {
			continue
		}
		if ids[key] == nil {
			keys, facts[key] = append(keys, key), mine
		}
		ids[key] = append(ids[key], id)
	}
	for n, key := range keys {
		i := slices.IndexFunc(a.Settings, func(reading Reading) bool { _, ok := facts[key][reading.row.ID]; return ok })
		r.derived(fmt.Sprintf("settings of their own %d", n+1), facts[key], ids[key], facts[key][a.Settings[i].row.ID].Cite)
	}
}

// oneUnit reports whether there can be no unit but the root: every account is in
// it, and all policies are for one.
func (r *reader) oneUnit() bool {
	m, ids := r.m.Units, map[string]bool{}
	for _, e := range r.each(m.Of.Export.Value, m.Of.Each.path, nil) {
		if id, ok := first(e, m.Of.Unit); ok {
			ids[unitID(id)] = true
		}
	}
	return len(ids) < 2 && !slices.ContainsFunc(r.people, func(p someone) bool { return !p.placed || p.unit != "/" })
}

// unitID is a unit's id without what some replies put before it.
func unitID(id string) string {
	return strings.TrimPrefix(strings.TrimPrefix(id, "orgUnits/"), "id:")
}

// inUnits makes a policy for each unit in which accounts live under other
// settings than the root's.
func (r *reader) inUnits(own map[string]estate.Settings, whole bool, lost, open string, lostAt estate.Cite) {
	byUnit := map[string][]string{} // accounts by the nearest units that set something
	facts := map[string]estate.Settings{}
	at := map[string]estate.Cite{}
	for _, who := range r.people {
		if !who.placed {
			r.undecided("unit not in the evidence", []string{who.id}, "the unit of the account, which was not exported", who.cite())
			continue
		}
		over, nearest := estate.Settings{}, ""
		for _, unit := range above(who.unit) {
			for id, f := range own[unit] {
				if unit != "/" {
					over[id], nearest = f, unit
					at[unit] = f.Cite
				}
			}
		}
		if nearest != "" {
			byUnit[nearest], facts[nearest] = append(byUnit[nearest], who.id), over
		}
	}
	for _, unit := range sorted(byUnit) {
		r.derived("unit "+unit, facts[unit], byUnit[unit], at[unit])
	}
	var others []string
	for _, who := range r.people {
		if who.placed && who.unit != "/" || open != "" || !whole {
			others = append(others, who.id)
		}
	}
	if lost != "" {
		r.undecided("a policy of a unit that is not in the evidence", others, "which unit "+lost+" is", lostAt)
	}
	if open != "" {
		r.undecided("a policy for "+open, others, "who "+open+" is for", lostAt)
	}
}

// elsewhere leaves open who governs the accounts of domains of which it is not
// known whether they sign in to the tenant at all.
func (r *reader) elsewhere() {
	for i := range r.m.Accounts {
		a := &r.m.Accounts[i]
		if a.Domains == nil {
			continue
		}
		known := r.pick(a.Domains)
		for i := range known {
			known[i] = strings.ToLower(known[i])
		}
		docs := r.exports[a.Domains.Export.Value]
		if len(docs) == 0 || r.cutOff(docs) != nil {
			r.tenant.Sync = ""
		}
		var open []string
		var at estate.Cite
		for _, who := range r.people {
			if who.domain != "" && !slices.Contains(known, who.domain) {
				open, at = append(open, who.id), who.cite()
			}
		}
		if len(open) > 0 {
			r.undecided("domains that are not in the evidence", open, "whether the account's domain signs in elsewhere", at)
		}
	}
}

// mark adds a flag to an account.
func (r *reader) mark(who *someone, flag estate.Flag) {
	r.into.StartFile(who.in.Stored)
	r.into.Object(r.at, &estate.Record{Class: estate.Other, DN: []byte(who.id), Flags: flag | estate.NoControl, Line: who.line})
}

// signOn marks the accounts whose sign-ins go to another place, and those of whom that is not known.
func (r *reader) signOn() {
	s := r.m.SignOn
	if s == nil {
		return
	}
	if len(r.exports[s.Export.Value]) == 0 {
		r.homeUnseen(s.Export.Value, "whether sign-ins of some units or groups go to another place", len(r.people) > 0)
		return
	}
	paths := map[string]string{}
	for _, e := range r.each(r.m.Units.Export.Value, r.m.Units.Each.path, nil) {
		id, _ := first(e, r.m.Units.ID)
		paths[unitID(id)], _ = first(e, r.m.Units.Path)
	}
	assigned := map[string]bool{} // units, by path: whether sign-ins go elsewhere
	open, anywhere := r.cutOff(r.exports[s.Export.Value]) != nil, false
	cut := open
	for _, e := range r.each(s.Export.Value, s.Each.path, nil) {
		away := !s.Own.holds(e)
		anywhere = anywhere || away
		unit, ofUnit := first(e, s.Unit)
		group, ofGroup := first(e, s.Group)
		path, known := paths[unitID(unit)]
		switch {
		case ofGroup && group != "", !ofUnit, !known, beside(e, []Path{s.Unit, s.Group, s.Own.At}, s.Understood) != "":
			open = true // a group goes before units, and who is in it is not in the evidence
		default:
			assigned[path] = away
		}
	}
	if !anywhere && !cut {
		return // for whomever it is, nothing goes elsewhere
	}
	for i := range r.people {
		who := &r.people[i]
		away := false
		for _, unit := range above(who.unit) {
			if of, ok := assigned[unit]; ok {
				away = of
			}
		}
		switch {
		case open, !who.placed, away && who.spared:
			r.mark(who, estate.NoHome)
		case away:
			r.mark(who, estate.Federated)
		}
	}
}

// homeUnseen remarks on an export that would tell who checks passwords. What the tenant sets stands
// for those whom it does check.
func (r *reader) homeUnseen(export, what string, matters bool) {
	if matters {
		r.tenant.Remarks = append(r.tenant.Remarks, estate.Remark{Kind: estate.HomeUnseen, About: export,
			Cites:  []estate.Cite{r.people[0].cite()},
			Text:   what + " is not known: the export " + export + " is not in the evidence",
			Remedy: "Export it too, and gather again."})
	}
}

// rollout leaves open who checks the passwords of federated accounts that the tenant may check
// by itself already.
func (r *reader) rollout() {
	x := r.m.Rollout
	if x == nil {
		return
	}
	if len(r.exports[x.Export.Value]) == 0 {
		r.homeUnseen(x.Export.Value, "whether the tenant checks some federated accounts by itself already",
			slices.ContainsFunc(r.people, func(who someone) bool { return who.flags&estate.Federated != 0 }))
	}
	all := r.cutOff(r.exports[x.Export.Value]) != nil // one that is not there may be for anybody
	of := crowd{users: map[string]bool{}}
	for _, e := range r.each(x.Export.Value, x.Each.path, x.Only) {
		n := x.Members.list(e)
		all = all || n < 0 || x.Limit > 0 && n >= x.Limit || x.All != nil && x.All.holds(e)
		for _, f := range ask(e.value, e.lines, x.Members.path) {
			id := textOf(f.value)
			of.users[id] = true
			of.groups = append(of.groups, id)
		}
	}
	for i := range r.people {
		who := &r.people[i]
		if who.flags&estate.Federated != 0 && (all || r.reached(&of, who)) {
			r.mark(who, estate.NoHome)
		}
	}
}

// reached reports whether a crowd may hold an account. An id of which nothing is known may be a
// group's.
func (r *reader) reached(of *crowd, who *someone) bool {
	if of.users[who.id] {
		return true
	}
	within := r.within(who.id)
	return slices.ContainsFunc(of.groups, func(id string) bool {
		g := r.groups[id]
		return within[id] || g != nil && g.part || g == nil && !r.known[id] && !r.allGroups()
	})
}

// allGroups reports whether all groups were exported: what is none of them is no group.
func (r *reader) allGroups() bool {
	g := r.m.Groups
	return g != nil && len(r.exports[g.Export.Value]) > 0 && r.cutOff(r.exports[g.Export.Value]) == nil
}

// undecided makes a policy of which it is not known whether it applies to some
// accounts.
func (r *reader) undecided(name string, ids []string, why string, at estate.Cite) {
	if len(ids) == 0 {
		return
	}
	row := r.into.Object(r.at, &estate.Record{Class: estate.Group, DN: groupDN(name), Name: []byte(name), GroupType: estate.SecurityGroup,
		Line: at.Line})
	for _, id := range ids {
		r.into.Member(r.at, row, []byte(id), at.Line)
	}
	p := r.into.Override(r.at, []byte(name), at.Line)
	first := int64(1)
	p.Name, p.Cite, p.Precedence, p.Open = name, at, &first, why
	p.Targets = []estate.Target{{DN: string(groupDN(name)), Cite: at}}
}

// above are the paths of a unit and those above it, the root first.
func above(unit string) []string {
	all := []string{"/"}
	for i, c := range unit {
		if c == '/' && i > 0 {
			all = append(all, unit[:i])
		}
	}
	if unit != "/" {
		all = append(all, unit)
	}
	return all
}

func sorted[T any](m map[string]T) []string {
	var all []string
	for k := range m {
		all = append(all, k)
	}
	slices.Sort(all)
	return all
}

// apart gives accounts that the tenant's own settings do not govern rules of
// their own.
func (r *reader) apart() {
	for i := range r.m.Apart {
		a := &r.m.Apart[i]
		var targets []estate.Target
		for _, who := range r.people {
			if slices.Contains(who.apart, i) {
				targets = append(targets, estate.Target{DN: who.id, Cite: who.cite()})
			}
		}
		if len(targets) == 0 {
			continue
		}
		p := r.into.Override(r.at, []byte(a.Name), targets[0].Cite.Line)
		before := int64(0)
		p.Name, p.Cite, p.Precedence, p.Targets, p.Apart = a.Name, targets[0].Cite, &before, targets, true
		for _, f := range a.Settings {
			at := targets[0].Cite
			at.Where, at.Note = "fixed by the platform", f.Source
			p.Settings[f.row.ID] = estate.Fact{Value: f.value, Cite: at, Remedy: byOtherMeans}
		}
	}
}

// Answers to whether a second factor is asked for.
type answer uint8

const (
	no answer = iota
	perhaps
	yes
)

// factors finds who is asked for a second factor at every sign-in. That nobody
// is asked is only known where all exports that could say so are there.
func (r *reader) factors() {
	if len(r.m.Factors) == 0 {
		return
	}
	known, complete := false, true
	for i := range r.m.Factors {
		docs := r.exports[r.m.Factors[i].Export.Value]
		known = known || len(docs) > 0
		complete = complete && len(docs) > 0 && r.cutOff(docs) == nil
	}
	if !known {
		return
	}
	rules, everybody := r.factorRules()
	roles, rolesKnown := r.roleHolders()
	sometimes, always := r.askedAtTimes()
	for _, who := range r.people {
		asked := no
		switch {
		case everybody:
			asked = yes
		case !complete:
			asked = perhaps
		}
		groups := r.within(who.id)
		for i := range rules {
			asked = max(asked, rules[i].asks(r, &who, groups, roles[who.id], rolesKnown))
		}
		if who.nameless && !everybody && len(rules) > 0 {
			asked = perhaps // a rule can name it, or leave it out
		}
		atTimes := false
		switch {
		case !sometimes || asked == yes:
		case slices.ContainsFunc(always, func(role string) bool { return roles[who.id][role] }):
			asked = yes
		case !rolesKnown || who.nameless:
			asked = perhaps // it may hold one of those roles
		default:
			atTimes = asked == no
		}
		flag := map[answer]estate.Flag{no: estate.FactorOptional, yes: estate.FactorRequired}[asked]
		if atTimes {
			flag = estate.FactorAtTimes
		}
		if flag != 0 {
			r.mark(&who, flag)
		}
	}
}

// askedAtTimes says whether everybody is asked where the service sees a reason, and which
// roles' holders at every sign-in.
func (r *reader) askedAtTimes() (sometimes bool, always []string) {
	for i := range r.m.Factors {
		f := &r.m.Factors[i]
		if f.Sometimes == nil {
			continue
		}
		always = append(always, textsOf(f.Always)...)
		for _, d := range r.exports[f.Export.Value] {
			sometimes = sometimes || f.Sometimes.holds(element{d.value, d.lines})
		}
	}
	return sometimes, always
}

// limits returns the first field of a policy that is not understood, or has a value that is not
// neutral; empty: it is understood as a whole.
func (f *Factor) limits(e element) string {
	at := []Path{f.Users, f.Groups, f.Roles, f.NoUsers, f.NoGroups, f.NoRoles}
	for _, c := range append(slices.Clone(f.Only), f.Open...) {
		at = append(at, c.At)
	}
	for _, c := range []*Condition{f.All, f.Guests, f.NoGuests} {
		if c != nil {
			at = append(at, c.At)
		}
	}
	return beside(e, at, f.Understood)
}

// crowd is whom a rule names: accounts, groups, roles.
type crowd struct {
	users         map[string]bool
	groups, roles []string
	guests        bool // all of them
}

// factorRule asks for a second factor.
type factorRule struct {
	all     bool // everybody whom it does not leave out
	of, not crowd
	open    bool // on conditions that are not modelled
}

// factorRules reads the rules that are in force, and whether one is for everybody
// without exception.
func (r *reader) factorRules() (rules []factorRule, everybody bool) {
	for i := range r.m.Factors {
		f := &r.m.Factors[i]
		for _, d := range r.exports[f.Export.Value] {
			if f.Everybody != nil {
				everybody = everybody || f.Everybody.holds(element{d.value, d.lines})
				continue
			}
			if f.Each.path == nil {
				continue
			}
			for e := range d.each(f.Each.path) {
				if allHold(f.Only, e) {
					rules = append(rules, factorRule{f.All != nil && f.All.holds(e), crowdOf(e, f.Users, f.Groups, f.Roles, f.Guests),
						crowdOf(e, f.NoUsers, f.NoGroups, f.NoRoles, f.NoGuests), r.opens(f, d, e) || d.lacks != ""})
				}
			}
		}
	}
	return rules, everybody
}

// opens reports whether a rule asks on conditions, or says what is not understood, and remarks
// on that.
func (r *reader) opens(f *Factor, d *document, e element) bool {
	name, _ := first(e, f.Name)
	at := estate.Cite{File: d.part.Stored, Line: lineOf(e, f.Name), Where: f.Export.Value, Raw: name}
	if said := f.limits(e); said != "" {
		r.tenant.Remarks = append(r.tenant.Remarks, estate.Remark{Kind: estate.RuleOpen, About: name, Cites: []estate.Cite{at},
			Text: fmt.Sprintf("the rule %s on second factors says %s, which is not understood: whether it asks at every sign-in is not known of those "+
				"whom it reaches", name, said),
			Remedy: "Look up what it says there. Where that limits nothing, the field map can say so (understood)."})
		return true
	}
	if i := slices.IndexFunc(f.Open, func(c Condition) bool { return c.holds(e) }); i >= 0 {
		r.tenant.Remarks = append(r.tenant.Remarks, estate.Remark{Kind: estate.RuleLimited, About: name, Cites: []estate.Cite{at},
			Text: fmt.Sprintf("the rule %s on second factors asks on conditions only (%s)", name, f.Open[i].At.text.Value)})
		return true
	}
	return false
}

func crowdOf(e element, users, groups, roles Path, guests *Condition) crowd {
	values := func(p Path) (all []string) {
		if p.path != nil {
			for _, v := range p.path.Select(e.value) {
				all = append(all, textOf(v))
			}
		}
		return all
	}
	c := crowd{users: map[string]bool{}, groups: values(groups), roles: values(roles), guests: guests != nil && guests.holds(e)}
	for _, id := range values(users) {
		c.users[id] = true
	}
	return c
}

// asks says whether a rule asks an account for a second factor.
func (f *factorRule) asks(r *reader, who *someone, groups, roles map[string]bool, rolesKnown bool) answer {
	in := yes
	if !f.all {
		in = f.of.holds(r, who, groups, roles, rolesKnown)
	}
	applies := min(in, yes-f.not.holds(r, who, groups, roles, rolesKnown))
	if applies == yes && f.open {
		return perhaps
	}
	return applies
}

// holds reports whether a crowd holds an account.
func (c *crowd) holds(r *reader, who *someone, groups, roles map[string]bool, rolesKnown bool) answer {
	found := no
	if c.users[who.id] || c.guests && who.guest == yes {
		return yes
	}
	if c.guests {
		found = who.guest
	}
	for _, g := range c.groups {
		switch known := r.groups[g]; {
		case groups[g]:
			return yes
		case known == nil || known.part:
			found = perhaps
		}
	}
	for _, role := range c.roles {
		switch {
		case roles[role]:
			return yes
		case !rolesKnown:
			found = perhaps
		}
	}
	return found
}

// guestOf says whether an account is a guest's; where a field that tells it was not exported,
// it may be.
func guestOf(a *Accounts, flags estate.Flag, e element) answer {
	if flags&estate.Guest != 0 {
		return yes
	}
	for i := range a.Flags {
		if f := &a.Flags[i]; f.flag == estate.Guest && f.At.path != nil && !f.At.path.somewhere(e.value) {
			return perhaps
		}
	}
	return no
}

// roleHolders are the roles of each account, and whether they were exported.
func (r *reader) roleHolders() (map[string]map[string]bool, bool) {
	roles := r.m.Roles
	if roles == nil || len(r.exports[roles.Export.Value]) == 0 {
		return nil, false
	}
	all, in, cut := map[string]map[string]bool{}, r.membersOf(), false
	for _, e := range r.each(roles.Export.Value, roles.Each.path, nil) {
		id, _ := first(e, roles.ID)
		held, whole := r.holders(e, in)
		cut = cut || !whole
		for _, h := range held {
			if all[h.id] == nil {
				all[h.id] = map[string]bool{}
			}
			all[h.id][id] = true
		}
	}
	return all, !cut && r.cutOff(r.exports[roles.Export.Value]) == nil
}
