// Package govern works out which policy governs which account, exactly as the
// authority itself does. For a directory domain that is MS-ADTS 3.1.1.4.5.36
// (msDS-ResultantPSO), in the dialect of the server.
package govern

import (
	"bytes"
	"cmp"
	"fmt"
	"iter"
	"maps"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
)

// Rule says by which rule a policy governs an account.
type Rule string

// The rules.
const (
	Direct   Rule = "direct"  // the fine-grained policy names the account
	Group    Rule = "group"   // it names a group that holds the account
	Default  Rule = "default" // none applies: the domain's own settings
	Local    Rule = "machine" // the machine's own settings
	Pointer  Rule = "pointer" // the account itself points at a policy
	OfTenant Rule = "tenant"  // the tenant's own settings, or a policy of it for everybody
	Unknown  Rule = "unknown" // the evidence does not decide
)

// Governing is the answer for one account.
type Governing struct {
	Policy *estate.Policy // nil for the default, and when unknown
	Rule   Rule
	Via    int    // row of the group that carries the policy, else estate.NotFound
	Why    string // for Unknown: what the evidence lacks
	Doubt  Doubt  // the same, typed

	// Answered: what the policies and groups leave open, the directory itself
	// answers (msDS-ResultantPSO).
	Answered bool
	// Refuted: its answer cannot be right by what is in the evidence; which of the two
	// is out of date is not known.
	Refuted bool

	// At is the authority that governs the account where that is another one
	// than the account's own: the domain that it is synchronised from.
	At *estate.Authority
	// Way is how the password is checked where the account signs in to its tenant;
	// empty: not known.
	Way estate.Way
}

// undecidedFor is the answer where the evidence does not decide.
func (r *Resolution) undecidedFor(d Doubt, via int) Governing {
	return Governing{Rule: Unknown, Via: via, Why: d.why(r.Authority), Doubt: d}
}

// other is an undecided answer outside directory domains.
func other(text string) Governing {
	return Governing{Rule: Unknown, Via: estate.NotFound, Why: text, Doubt: Doubt{Kind: OtherDoubt, Row: estate.NotFound, Text: text}}
}

// claim is what is known of a row before the account's own turn: no policy,
// the policy at a rank, or "undecided" among those of a class.
type claim uint32

const (
	noClaim   claim = 0
	undecided claim = 1 << 31
)

// candidate is one policy in the running. Candidates of one class cannot be
// put in order, because the evidence lacks what would decide.
type candidate struct {
	policy *estate.Policy // nil: a policy that the evidence lacks
	ref    int            // its row in the authority's Policies, when policy is nil; or estate.NotFound
	class  int
	doubt  Doubt // why the class cannot be decided, if it cannot
	// loose: whom it names is not known, beyond the targets that are.
	loose bool
}

// Resolution answers for every account of one authority. Its size is a few
// numbers for each row.
//
// In a directory domain it keeps two answers apart: which policies reach a
// group for certain, and which may reach it, for all that the evidence holds.
// An account is decided where whatever may reach it could not win over what
// does.
type Resolution struct {
	Authority  *estate.Authority
	Dialect    estate.Dialect
	Assumed    bool             // nothing tells the dialect: both are played
	candidates []candidate      // best first
	direct     map[int]claim    // rows that policies name themselves
	claims     []claim          // by row, for groups: what reaches it for certain
	carrier    []uint32         // by row, for groups: 1 + the group that the policy names
	may        []uint32         // by row, for groups: 1 + the best candidate that may reach it
	mayFor     []uint32         // by row, for groups: the row on which that hangs
	open       []bool           // by row, for groups: what else holds it may not be in the evidence
	escaped    int              // 1 + the best candidate that may reach whatever is in no known group; 0: none
	escapedAt  int              // the row at which it got away
	anywhere   int              // 1 + the best candidate that reaches or may reach any group
	unnamed    int              // the same, of groups whose SID is not in the evidence
	astray     int              // 1 + the best candidate of which it is not known whom it names
	byRID      map[uint32]int32 // groups by the last part of their SID
	nearest    []*estate.Policy // by parent: the local policy of the nearest entry
	own        map[int]*estate.Policy
	classes    []*estate.Policy                  // of a realm: those that classes of service give, best first
	uncounted  map[*estate.Policy]*estate.Policy // of a realm: for accounts of which no failure is counted
	groupsIn   map[int][]int                     // made when asked for
	byTarget   map[int][]int                     // places of candidates, by target; made when asked for
	// What through remembers, and what fillGroups found.
	throughGroups  map[via][]int
	throughCount   int
	filled, unsure map[int]bool
	named          [][]int  // rows that each candidate names, made when asked for
	members        []uint32 // accounts by group, made when asked for
	memberEnds     []uint32 // where each group's part of members ends

	among        *estate.Estate
	foreign      map[int]there // rows that stand for objects of other domains in the evidence
	beyond       map[int][]int // by such a row of a group: what of this domain it holds
	above        map[int][]int // by what they hold: such rows
	abroad       map[int]bool  // rows that stand for objects of other domains that the evidence lacks
	astrayAbroad int           // 1 + the best candidate that comes to such a row
	astrayAt     int           // that row

	named2policy []*estate.Policy  // by row of the authority's Policies
	survey       *Survey           // for accounts that another authority governs
	sources      map[int]Elsewhere // the accounts that synchronised ones come from
	unjoined     map[int]string    // why there is none in the evidence
}

// Resolve prepares the answers for an authority. An empty dialect says that
// nothing in the evidence tells it. Time and memory are linear in its objects
// and memberships, however many policies there are: candidates are taken best
// first, and a group that a better one has reached is never entered again.
func Resolve(a *estate.Authority, dialect estate.Dialect) *Resolution {
	return resolve(a, dialect, nil, 0)
}

// resolve does so for an authority among those of a forest.
func resolve(a *estate.Authority, dialect estate.Dialect, f *forest, authority int) *Resolution {
	r := &Resolution{Authority: a, Dialect: dialect, Assumed: dialect == "" && a.Kind == estate.Domain, direct: map[int]claim{}}
	switch a.Kind {
	case estate.Machine, estate.LDAP:
		r.indexPolicies()
		r.indexRealm()
		return r
	case estate.Tenant:
		r.rank()
		return r
	}
	r.rank()
	if len(r.candidates) == 0 {
		return r
	}
	n := a.Objects.Len()
	r.claims, r.carrier = make([]claim, n), make([]uint32, n)
	r.may, r.mayFor = make([]uint32, n), make([]uint32, n)
	r.byRID = groupsByRID(a)
	if f != nil && len(f.same[authority]) > 0 {
		r.among = f.estate
		r.foreign, r.beyond = f.ways(authority, r.carrying)
		r.above = map[int][]int{}
		for _, group := range slices.Sorted(maps.Keys(r.beyond)) {
			for _, row := range r.beyond[group] {
				r.above[row] = append(r.above[row], group)
			}
		}
	}
	if f != nil {
		r.abroad = f.abroad(authority)
	}
	r.closeGroups()
	r.spread()
	return r
}

// groupsByRID are a domain's own groups by the last part of their SID. A group
// whose SID is not in the evidence is not among them.
func groupsByRID(a *estate.Authority) map[uint32]int32 {
	found := map[uint32]int32{}
	if a.Kind != estate.Domain { // nothing else has such numbers
		return found
	}
	o := a.Objects
	for row := range o.Len() {
		if rid := o.RID.At(row); rid != 0 && o.ClassOf(row) == estate.Group && o.FlagsOf(row)&estate.BuiltinDomain == 0 {
			found[rid] = int32(row)
		}
	}
	return found
}

// primaryOf returns an account's primary group, if the evidence holds it.
func primaryOf(a *estate.Authority, byRID map[uint32]int32, row int) (group int, ok bool) {
	found, ok := byRID[a.Objects.Primary.At(row)]
	return int(found), ok
}

// grade says whether something is so.
type grade uint8

const (
	no grade = iota
	maybe
	sure
)

// objects are the objects among which a row stands: another domain's, and its row
// there, for one that stands for it.
func (r *Resolution) objects(row int) (*estate.Objects, int) {
	if to, ok := r.foreign[row]; ok {
		return r.among.Authorities[to.authority].Objects, to.row
	}
	return r.Authority.Objects, row
}

// groupsOf are the groups that hold a row, those of other domains among them.
func (r *Resolution) groupsOf(row int) iter.Seq[int] {
	return func(yield func(int) bool) {
		for group := range r.Authority.Objects.GroupsOf(row) {
			if !yield(group) {
				return
			}
		}
		for _, group := range r.above[row] {
			if !yield(group) {
				return
			}
		}
	}
}

// carries says whether the object at row is a group that carries a policy to
// its members.
func (r *Resolution) carries(row int) grade {
	if r.abroad[row] && !r.Assumed && r.Dialect == estate.Windows {
		return no // only a global group carries, and holds nothing of another domain than its own
	}
	o, row := r.objects(row)
	if o.FlagsOf(row)&(estate.Unseen|estate.Unclassified) != 0 {
		return maybe
	}
	if o.ClassOf(row) != estate.Group {
		return no
	}
	return r.carrying(estate.GroupType(o.GroupType.At(row)))
}

// carrying says so of a type of group.
func (r *Resolution) carrying(kind estate.GroupType) grade {
	switch {
	case kind == 0:
		return maybe
	case !r.Assumed && Carries(r.Dialect, kind), r.Assumed && Carries(estate.Windows, kind):
		return sure
	case r.Assumed && Carries(estate.Samba, kind):
		return maybe
	}
	return no
}

// Carries reports whether a group of that type can carry a fine-grained policy
// to its members: in the windows dialect only a global security group, in the
// samba dialect any security group but the built-in ones.
func Carries(d estate.Dialect, t estate.GroupType) bool {
	return t.Security() && (d == estate.Samba && !t.Builtin() || t.Global())
}

// listless reports whether a group may hold what its list in the evidence does
// not name.
func (r *Resolution) listless(row int) bool {
	o, row := r.objects(row)
	return o.FlagsOf(row)&(estate.Unseen|estate.Unclassified|estate.MembersPart|estate.LooseMembers) != 0
}

// closeGroups finds the groups that something may hold which is not in the
// evidence: those exported without the groups that hold them, and whatever is
// inside of such a group.
func (r *Resolution) closeGroups() {
	o := r.Authority.Objects
	r.open = make([]bool, o.Len())
	var queue []int
	for row := range o.Len() {
		if r.carries(row) != no && (o.FlagsOf(row)&estate.HoldersShown == 0) {
			r.open[row] = true
			queue = append(queue, row)
		}
	}
	for ; len(queue) > 0; queue = queue[1:] {
		for _, member := range r.inside()[queue[0]] {
			if !r.open[member] {
				r.open[member] = true
				queue = append(queue, member)
			}
		}
	}
}

// Powerless says why a fine-grained policy governs nobody, whomever it names; empty: it may
// (MS-ADTS 3.1.1.4.5.36; both were tried on a real directory).
func Powerless(a *estate.Authority, p *estate.Policy) string {
	const since2008 = 3
	if a.Kind != estate.Domain {
		return ""
	}
	if a.Level != nil && *a.Level < since2008 {
		return "the domain's functional level is below that of 2008, where there are no fine-grained policies"
	}
	if domain := estate.DomainOf(p.Origin); domain == "" || !strings.Contains(p.Origin, "=") {
		return ""
	}
	_, parent := estate.SplitDN(p.Origin)
	if !strings.HasPrefix(estate.NormalDN(parent), "cn=password settings container,cn=system,") {
		return "it does not lie in the container of fine-grained policies"
	}
	return ""
}

// rank puts the candidates in order: lowest precedence first, then the
// smallest GUID in its stored byte order.
func (r *Resolution) rank() {
	a := r.Authority
	var hidden, unranked []candidate
	var ranked []candidate
	for i := range a.Policies {
		if ref := &a.Policies[i]; !ref.Known {
			kind := PolicyHidden
			if ref.Lost {
				kind = PolicyLost
			}
			// Whom it names is only known as far as those say it themselves.
			hidden = append(hidden, candidate{ref: i, loose: !ref.Lost && a.Kind == estate.Domain,
				doubt: Doubt{Kind: kind, Hidden: ref, Row: estate.NotFound}})
		}
	}
	if a.Kind == estate.Domain && (len(a.Overrides) == 0 && !a.PoliciesLie || a.Cut) {
		hidden = append(hidden, candidate{ref: estate.NotFound, loose: true, doubt: Doubt{Kind: PoliciesUnproven, Row: estate.NotFound}})
	}
	for i := range a.Overrides {
		p := &a.Overrides[i]
		if Powerless(a, p) != "" {
			continue
		}
		c := candidate{policy: p, ref: estate.NotFound, loose: p.TargetsPart}
		if a.Kind == estate.Domain { // facts of earlier versions have no row for what is not in the evidence
			c.loose = c.loose || slices.ContainsFunc(p.Targets, func(t estate.Target) bool { return t.Object == estate.NotFound })
		}
		if p.Precedence == nil {
			c.doubt = Doubt{Kind: OrderUnknown, Policy: p, Row: estate.NotFound, Text: "the precedence of " + p.Name + " is not in the evidence"}
			unranked = append(unranked, c)
		} else {
			ranked = append(ranked, c)
		}
	}
	slices.SortStableFunc(ranked, func(x, y candidate) int {
		return cmp.Or(cmp.Compare(*x.policy.Precedence, *y.policy.Precedence), bytes.Compare(x.policy.GUID[:], y.policy.GUID[:]))
	})
	// Whatever cannot be ranked may be the best: it makes the first class.
	r.candidates = slices.Concat(hidden, unranked)
	class := 1
	for i := range ranked {
		c := &ranked[i]
		if i > 0 {
			before := &ranked[i-1]
			tied := *before.policy.Precedence == *c.policy.Precedence
			undecidable := tied && (before.doubt.Kind != NoDoubt || before.policy.GUID == c.policy.GUID || before.policy.GUID == (estate.GUID{}))
			if undecidable {
				c.doubt = Doubt{Kind: OrderUnknown, Policy: c.policy, Row: estate.NotFound,
					Text: "policies with the same precedence apply and a GUID that would decide between them is missing or not unique"}
				if before.doubt.Kind == NoDoubt {
					before.doubt = c.doubt
				}
			} else {
				class++
			}
		}
		c.class = class
	}
	r.candidates = append(r.candidates, ranked...)
	for i := range r.candidates {
		if r.candidates[i].loose {
			r.astray = i + 1
			break
		}
	}
}

// join returns the better of two claims, or undecided where they cannot be put
// in order.
func (r *Resolution) join(x, y claim) claim {
	switch {
	case x == y || y == noClaim:
		return x
	case x == noClaim:
		return y
	}
	cx, cy := r.classOf(x), r.classOf(y)
	switch {
	case cx < cy:
		return x
	case cy < cx:
		return y
	}
	return undecided | claim(min(x&^undecided, y&^undecided))
}

func (r *Resolution) classOf(c claim) int { return r.candidates[c&^undecided-1].class }

// inside returns, for each group, what is directly inside it and carries on, or
// may.
func (r *Resolution) inside() map[int][]int {
	if r.groupsIn == nil {
		r.groupsIn = map[int][]int{}
		for row := range r.Authority.Objects.Len() {
			if r.carries(row) != no {
				for holder := range r.groupsOf(row) {
					r.groupsIn[holder] = append(r.groupsIn[holder], row)
				}
			}
		}
	}
	return r.groupsIn
}

// step is a group to which a candidate comes on its way, how sure that is, and
// on what it hangs.
type step struct {
	row   int
	grade grade
	on    int
}

// from is the step from a group to one inside it.
func (r *Resolution) from(s step, row int) step {
	next := step{row, s.grade, s.on}
	if own := r.carries(row); own < next.grade {
		next.grade, next.on = own, row
	}
	return next
}

// spread gives every group what reaches it for certain, and what may.
func (r *Resolution) spread() {
	o := r.Authority.Objects
	for i := range r.candidates {
		reached := map[int]grade{} // by this candidate
		for _, target := range r.targets(i) {
			if o.ClassOf(target) == estate.Account {
				r.direct[target] = r.join(r.direct[target], r.claimOn(i))
			} else {
				r.walk(i, target, r.from(step{target, sure, target}, target), reached)
			}
		}
		if i+1 == r.astray { // the best of its kind stands for all: any of them may name anything
			for row := range o.Len() {
				if r.carries(row) != no && o.FlagsOf(row)&estate.AppliedShown == 0 {
					r.walk(i, row, step{row, maybe, row}, reached)
				}
			}
			if r.partial() {
				r.escapes(i, estate.NotFound)
			}
		}
	}
	for row := range o.Len() {
		for _, i := range []int{int(r.may[row]), int(r.claims[row] &^ undecided)} {
			if i == 0 {
				continue
			}
			r.anywhere = better(r.anywhere, i)
			if o.RID.At(row) == 0 {
				r.unnamed = better(r.unnamed, i)
			}
		}
	}
}

// partial reports whether groups are missing from the evidence, as far as it
// tells: the domain's head was not exported, or something names what is not
// there.
func (r *Resolution) partial() bool {
	o := r.Authority.Objects
	if r.Authority.Head == nil || r.Authority.Cut {
		return true
	}
	for row := range o.Len() {
		if _, known := r.foreign[row]; !known && o.FlagsOf(row)&(estate.Unseen|estate.LooseMembers) != 0 {
			return true
		}
	}
	return false
}

// better returns the better of two candidates, each 1 + its place; 0 is none.
func better(x, y int) int {
	if x == 0 || y != 0 && y < x {
		return y
	}
	return x
}

// claimOn is a candidate's claim on what it reaches for certain.
func (r *Resolution) claimOn(i int) claim {
	mine := claim(i + 1)
	if r.candidates[i].class == 0 {
		mine |= undecided
	}
	return mine
}

// walk takes a candidate from a target down through the groups.
func (r *Resolution) walk(i, target int, first step, reached map[int]grade) {
	for queue := []step{first}; len(queue) > 0; queue = queue[1:] {
		s := queue[0]
		before := r.claims[s.row]
		if reached[s.row] >= s.grade || before != noClaim && r.classOf(before) < r.candidates[i].class {
			continue
		}
		if s.grade == maybe {
			if r.may[s.row] != 0 && int(r.may[s.row]) != i+1 {
				continue // a better one may, and whatever follows from it is open already
			}
			if r.may[s.row] == 0 {
				r.may[s.row], r.mayFor[s.row] = uint32(i)+1, uint32(s.on)
			}
		} else {
			r.claims[s.row] = r.join(before, r.claimOn(i))
			if before == noClaim {
				r.carrier[s.row] = uint32(target) + 1
			}
		}
		reached[s.row] = s.grade
		if r.abroad[s.row] && better(r.astrayAbroad, i+1) != r.astrayAbroad {
			r.astrayAbroad, r.astrayAt = i+1, s.row
		}
		if r.listless(s.row) {
			r.escapes(i, s.row)
		}
		for _, member := range r.inside()[s.row] {
			queue = append(queue, r.from(s, member))
		}
	}
}

// escapes notes that a candidate may reach what is in no group of the evidence.
func (r *Resolution) escapes(i, at int) {
	if r.escaped == 0 || i+1 < r.escaped {
		r.escaped, r.escapedAt = i+1, at
	}
}

// targets returns the rows that a candidate names, in the order of their DNs.
func (r *Resolution) targets(i int) []int {
	if r.named == nil {
		r.named = make([][]int, len(r.candidates))
		for i := range r.candidates {
			r.named[i] = r.namedBy(&r.candidates[i])
		}
	}
	return r.named[i]
}

func (r *Resolution) namedBy(c *candidate) []int {
	a := r.Authority
	var found []int
	if c.policy != nil {
		for _, t := range c.policy.Targets {
			if t.Object != estate.NotFound {
				found = append(found, t.Object)
			}
		}
	} else if c.ref != estate.NotFound {
		found = slices.Clone(a.Policies[c.ref].Rows)
	}
	slices.SortFunc(found, func(x, y int) int { return strings.Compare(a.DN(x), a.DN(y)) })
	return slices.Compact(found)
}

// Of returns what governs the account at row.
func (r *Resolution) Of(row int) Governing {
	switch r.Authority.Kind {
	case estate.Machine, estate.LDAP:
		return r.byPointer(row)
	case estate.Tenant:
		return r.byPriority(row)
	}
	told := r.Authority.Objects.Resultant.At(row)
	if told > 0 && !r.Authority.Policies[told-1].Known {
		hidden := &r.Authority.Policies[told-1]
		d := Doubt{Kind: PolicyHidden, Hidden: hidden, Row: estate.NotFound}
		return Governing{Rule: Unknown, Via: estate.NotFound, Doubt: d,
			Why: "the directory itself names a fine-grained policy that is not in the evidence: " + hidden.DN}
	}
	g := r.resolve(row)
	if g.Rule == Unknown && told > 0 {
		return r.answered(row, r.Authority.Policies[told-1].DN, g)
	}
	return g
}

// answered takes the directory's own answer where the policies and groups leave
// it open.
func (r *Resolution) answered(row int, origin string, g Governing) Governing {
	for i := range r.candidates {
		p := r.candidates[i].policy
		if p == nil || estate.NormalDN(p.Origin) != estate.NormalDN(origin) {
			continue
		}
		rule := Group
		if slices.Contains(r.targets(i), row) {
			rule = Direct
		}
		const outdated = "the directory itself names %s, and %s: one of them is out of date"
		if before := r.goesBefore(row, i, rule == Direct); before != nil {
			g.Why, g.Refuted = fmt.Sprintf(outdated, p.Name, before.Name+", which reaches the account for certain, goes before it"), true
			return g
		}
		// A primary group that was not exported may be the one that carries it.
		if _, known := primaryOf(r.Authority, r.byRID, row); known && rule == Group && r.ReachKnown(p) &&
			!slices.ContainsFunc(r.holders(row), func(group int) bool { return slices.Contains(r.through(group, maybe), i) }) {
			g.Why, g.Refuted = fmt.Sprintf(outdated, p.Name, "nothing that it is applied to holds the account"), true
			return g
		}
		return Governing{Policy: p, Rule: rule, Via: estate.NotFound, Answered: true}
	}
	return g
}

// goesBefore returns a policy that reaches an account for certain, and would win over
// the candidate at a place; nil if there is none.
func (r *Resolution) goesBefore(row, place int, direct bool) *estate.Policy {
	mine := r.candidates[place].class
	for _, p := range r.Surely(row) {
		i := slices.IndexFunc(r.candidates, func(c candidate) bool { return c.policy == p })
		named, class := slices.Contains(r.targets(i), row), r.candidates[i].class
		if named && !direct || named == direct && class != 0 && mine != 0 && class < mine {
			return p
		}
	}
	return nil
}

// resolve answers from the policies and groups alone.
func (r *Resolution) resolve(row int) Governing {
	o := r.Authority.Objects
	flags := o.FlagsOf(row)
	if len(r.candidates) == 0 || flags&estate.NeverOverride != 0 {
		return Governing{Rule: Default, Via: estate.NotFound}
	}
	won, via, may, doubt := r.claimOf(row)
	switch {
	case may != 0 && (won == noClaim || r.candidates[may-1].class < r.classOf(won) || r.candidates[may-1].class == r.classOf(won) &&
		int(won&^undecided) != may):
		c := &r.candidates[may-1]
		if doubt.Policy, doubt.Hidden = c.policy, c.doubt.Hidden; c.policy == nil {
			doubt.Kind = c.doubt.Kind // it is not in the evidence: nothing goes before that
		}
		return r.undecidedFor(doubt, via)
	case won == noClaim:
		return Governing{Rule: Default, Via: estate.NotFound}
	case won&undecided != 0:
		return r.undecidedFor(r.candidates[won&^undecided-1].doubt, via)
	case flags&estate.NoControl != 0 && strings.HasSuffix(o.Name.At(row), "$"):
		return r.undecidedFor(Doubt{Kind: AccountUnknown, Row: estate.NotFound}, estate.NotFound)
	case via == estate.NotFound:
		return Governing{Policy: r.candidates[won-1].policy, Rule: Direct, Via: via}
	}
	return Governing{Policy: r.candidates[won-1].policy, Rule: Group, Via: via}
}

// claimOf returns what reaches the account for certain and the group that
// carries it; and 1 + the best candidate that may reach it as well, with the
// reason.
func (r *Resolution) claimOf(row int) (won claim, via, may int, why Doubt) {
	o := r.Authority.Objects
	via = estate.NotFound
	doubt := func(i int, kind DoubtKind, on int) {
		if better(may, i) != may {
			may, why = i, Doubt{Kind: kind, Row: on}
		}
	}
	if c := r.direct[row]; c != noClaim {
		if r.astray > 0 && o.FlagsOf(row)&estate.AppliedShown == 0 {
			doubt(r.astray, TargetsUnknown, estate.NotFound)
		}
		return c, via, may, why // nothing that comes through a group goes before it
	}
	take := func(group int) {
		if r.claims[group] != noClaim { // of most groups nothing comes
			carrier := int(r.carrier[group]) - 1
			switch joined := r.join(won, r.claims[group]); {
			case joined != won:
				won, via = joined, carrier
			case carrier != via && r.claims[group] == won && r.Authority.DN(carrier) < r.Authority.DN(via):
				via = carrier // of several ways one is told, whatever the order of the export
			}
		}
		if i := int(r.may[group]); i != 0 {
			on := int(r.mayFor[group])
			doubt(i, r.doubtOn(on), on)
		}
	}
	closed := o.FlagsOf(row)&estate.HoldersShown != 0
	for group := range r.groupsOf(row) {
		take(group)
		closed = closed && !r.open[group]
	}
	switch group, found := primaryOf(r.Authority, r.byRID, row); {
	case found:
		take(group)
		closed = closed && !r.open[group]
	case o.Primary.At(row) == 0:
		doubt(r.anywhere, PrimaryUnknown, estate.NotFound)
		closed = false
	default:
		doubt(r.unnamed, PrimaryUnknown, estate.NotFound)
		doubt(r.astray, PrimaryUnknown, estate.NotFound)
		closed = false
	}
	// Accounts do not say which groups of other domains hold them.
	doubt(r.astrayAbroad, MembersUnknown, r.astrayAt)
	if !closed {
		kind := MembersUnknown
		if r.escapedAt == estate.NotFound {
			kind = TargetsUnknown
		}
		doubt(r.escaped, kind, r.escapedAt)
	}
	if r.astray > 0 && o.FlagsOf(row)&estate.AppliedShown == 0 {
		// It may name the account itself, and would then win over any group.
		may, why = 0, Doubt{}
		doubt(r.astray, TargetsUnknown, estate.NotFound)
		won = noClaim
	}
	return won, via, may, why
}

// doubtOn says what is not known of the object on which a reach hangs.
func (r *Resolution) doubtOn(row int) DoubtKind {
	o, there := r.objects(row)
	_, foreign := r.foreign[row]
	switch {
	case !foreign && !r.Authority.Holds(row):
		return MembersUnknown
	case o.ClassOf(there) != estate.Group || o.GroupType.At(there) == 0:
		return TypeUnknown
	case r.carries(row) == maybe:
		return DialectAssumed
	}
	return TargetsUnknown
}
