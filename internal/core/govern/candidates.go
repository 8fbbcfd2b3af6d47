package govern

import (
	"slices"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// Candidate is one policy that could govern an account, and how it reaches it.
type Candidate struct {
	Policy  *estate.Policy
	Direct  bool
	Chain   []int // rows of groups: from the one that the policy names down to the one that holds the account
	Left    int   // groups in the middle of a long chain that are not in it
	Open    bool  // whether it reaches the account at all, the evidence does not decide
	Outcome Outcome
	Why     string // of the outcome
}

// Outcome is what became of a candidate.
type Outcome string

// The outcomes.
const (
	Won       Outcome = "won"
	Lost      Outcome = "lost"
	Undecided Outcome = "not decided"
)

// outcome is Won for the policy that governs, Undecided where none is known to.
func outcome(p *estate.Policy, g Governing) Outcome {
	switch {
	case g.Rule == Unknown:
		return Undecided
	case p == g.Policy:
		return Won
	}
	return Lost
}

// reach returns the groups that one policy reaches, certainly or not. Unlike the
// answers, this is not needed to know who wins; that of all policies is kept nowhere,
// since each may reach all groups.
func (r *Resolution) reach(i int) (rows []int) {
	inside, seen := r.inside(), map[int]bool{}
	queue := slices.Clone(r.targets(i))
	for ; len(queue) > 0; queue = queue[1:] {
		if row := queue[0]; !seen[row] && r.carries(row) != no {
			seen[row], rows = true, append(rows, row)
			queue = append(queue, inside[row]...)
		}
	}
	return rows
}

// ways are the groups from which an account is reached: from each the next one on the
// surest way down, and of those the shortest; estate.NotFound from one that holds it.
type ways map[int]hop

type hop struct {
	below int
	grade grade
	depth int // how many groups the way has
	end   int // the group from which the last few of them begin
}

// waysTo works out the ways to an account that some groups hold.
func (r *Resolution) waysTo(holders []int) ways {
	found := ways{}
	type step struct {
		row int
		hop
	}
	var queue []step
	for _, group := range holders {
		queue = append(queue, step{group, hop{estate.NotFound, r.carries(group), 1, group}})
	}
	for _, want := range []grade{sure, maybe} {
		var later []step
		for ; len(queue) > 0; queue = queue[1:] {
			s := queue[0]
			if s.grade < want {
				later = append(later, s)
				continue
			}
			if _, seen := found[s.row]; seen {
				continue
			}
			found[s.row] = s.hop
			for holder := range r.groupsOf(s.row) {
				next := hop{s.row, min(s.grade, r.carries(holder)), s.depth + 1, holder}
				if next.depth > chainEnds {
					next.end = s.end
				}
				queue = append(queue, step{holder, next})
			}
		}
		queue = later
	}
	return found
}

// best is the target of a policy from which the way to the account is the surest, and of
// those the shortest.
func (w ways) best(targets []int) (target int, at hop, ok bool) {
	for _, t := range targets {
		if x, there := w[t]; there && (!ok || x.grade > at.grade || x.grade == at.grade && x.depth < at.depth) {
			target, at, ok = t, x, true
		}
	}
	return target, at, ok
}

// chainEnds is how many groups at each end of a chain are told; nobody reads thousands.
const chainEnds = 20

// chain are the groups from a target down to the one that holds the account; left counts
// those in the middle of a long one that are not told.
func (w ways) chain(target int) (rows []int, left int) {
	at := w[target]
	follow := func(group int, most int) {
		for ; group != estate.NotFound && most > 0; group, most = w[group].below, most-1 {
			rows = append(rows, group)
		}
	}
	if at.depth <= 2*chainEnds {
		follow(target, at.depth)
		return rows, 0
	}
	follow(target, chainEnds)
	follow(at.end, chainEnds)
	return rows, at.depth - 2*chainEnds
}

// aboveGroup visits a group and all groups that hold it, at any depth, from which it is
// reached with a certainty.
func (r *Resolution) aboveGroup(group int, want grade, visit func(row int)) {
	seen := map[int]bool{group: true}
	for queue := []int{group}; len(queue) > 0; queue = queue[1:] {
		row := queue[0]
		if r.carries(row) < want {
			continue
		}
		visit(row)
		for holder := range r.groupsOf(row) {
			if !seen[holder] {
				seen[holder] = true
				queue = append(queue, holder)
			}
		}
	}
}

// mostThrough is how many places of candidates are remembered by groups.
const mostThrough = 1 << 22

// through returns the places of the candidates that reach a group with a certainty, in
// order.
func (r *Resolution) through(group int, want grade) []int {
	key := via{group, want}
	if known, ok := r.throughGroups[key]; ok {
		return known
	}
	if r.throughGroups == nil || r.throughCount > mostThrough {
		r.throughGroups, r.throughCount = map[via][]int{}, 0
	}
	var all []int
	r.aboveGroup(group, want, func(row int) { all = append(all, r.naming(row)...) })
	slices.Sort(all)
	all = slices.Compact(all)
	r.throughGroups[key] = all
	r.throughCount += len(all) + 1
	return all
}

// naming returns the places of the candidates that name a row among their targets.
func (r *Resolution) naming(row int) []int {
	if r.byTarget == nil {
		r.byTarget = map[int][]int{}
		for i := range r.candidates {
			for _, target := range r.targets(i) {
				r.byTarget[target] = append(r.byTarget[target], i)
			}
		}
	}
	return r.byTarget[row]
}

// via is a group with how sure it is reached.
type via struct {
	group int
	grade grade
}

// fillGroups finds of each group whether it, or a group inside it, holds an account, and whether
// the evidence tells of all of them what they hold: all at once, from below.
func (r *Resolution) fillGroups() {
	if r.filled != nil {
		return
	}
	o := r.Authority.Objects
	var full, open []int
	for row := range o.Len() {
		grade := r.carries(row)
		if grade == no {
			continue
		}
		if grade != sure || r.listless(row) {
			open = append(open, row)
		}
		if slices.ContainsFunc(r.accountsIn(row), func(x uint32) bool { return r.governable(int(x)) }) {
			full = append(full, row)
		}
	}
	spread := func(from []int) map[int]bool {
		seen := map[int]bool{}
		for queue := from; len(queue) > 0; queue = queue[1:] {
			row := queue[0]
			if seen[row] || r.carries(row) == no {
				continue
			}
			seen[row] = true
			for holder := range r.groupsOf(row) {
				queue = append(queue, holder)
			}
		}
		return seen
	}
	r.filled, r.unsure = spread(full), spread(open)
}

// governable reports whether a row is an account that a fine-grained policy can govern.
func (r *Resolution) governable(row int) bool {
	o := r.Authority.Objects
	return o.ClassOf(row) == estate.Account && o.FlagsOf(row)&estate.NeverOverride == 0
}

// holders returns the counting groups that hold an account, the primary group
// included.
func (r *Resolution) holders(row int) []int {
	var all []int
	for group := range r.groupsOf(row) {
		all = append(all, group)
	}
	if group, ok := primaryOf(r.Authority, r.byRID, row); ok {
		all = append(all, group)
	}
	return all
}

// Candidates returns every policy in the evidence that reaches an account, the
// best first, and why it won or lost.
func (r *Resolution) Candidates(row int) []Candidate {
	if r.Authority.Objects.FlagsOf(row)&estate.NeverOverride != 0 {
		return nil
	}
	g := r.Of(row)
	if r.Authority.Kind != estate.Domain {
		return r.others(row, g)
	}
	var direct, through []Candidate
	ways := r.waysTo(r.holders(row))
	for i, c := range r.candidates {
		if c.policy == nil {
			continue
		}
		if slices.Contains(r.targets(i), row) {
			direct = append(direct, Candidate{Policy: c.policy, Direct: true, Outcome: outcome(c.policy, g)})
			continue
		}
		if target, at, ok := ways.best(r.targets(i)); ok {
			x := Candidate{Policy: c.policy, Open: at.grade != sure, Outcome: outcome(c.policy, g)}
			x.Chain, x.Left = ways.chain(target)
			through = append(through, x)
		}
	}
	all := append(direct, through...)
	for i := range all {
		all[i].Why = r.why(&all[i], g, all)
	}
	return all
}

// Surely returns the policies that reach an account for certain, in no order, as
// Candidates does with the ways and reasons: for questions about many accounts.
func (r *Resolution) Surely(row int) []*estate.Policy {
	var all []*estate.Policy
	if r.Authority.Kind != estate.Domain {
		for _, c := range r.Candidates(row) {
			if !c.Open {
				all = append(all, c.Policy)
			}
		}
		return all
	}
	if r.Authority.Objects.FlagsOf(row)&estate.NeverOverride != 0 {
		return nil
	}
	found := slices.Clone(r.naming(row))
	for _, group := range r.holders(row) {
		found = append(found, r.through(group, sure)...)
	}
	slices.Sort(found)
	for _, i := range slices.Compact(found) {
		if p := r.candidates[i].policy; p != nil {
			all = append(all, p)
		}
	}
	return all
}

// others returns the candidates where no fine-grained policies are: the one that the
// account points at, the ones that classes of service or entries above it bring, or
// those of a tenant whose conditions hold.
func (r *Resolution) others(row int, g Governing) []Candidate {
	if from, ok := r.sources[row]; ok {
		return r.survey.Resolutions[from.Authority].Candidates(from.Row)
	}
	switch {
	case r.Authority.Kind == estate.Tenant:
		return r.ofTenant(row, g)
	case r.Authority.Platform == setting.KerberosRealm && g.Rule != Pointer:
		return r.ofClasses(row, g)
	case g.Policy == nil:
		return nil
	}
	why := "the account points at it"
	switch {
	case r.Authority.Kind == estate.Machine:
		why = "the account's own lines ask for it"
	case r.Authority.Platform == setting.DirectoryServer && g.Policy == r.own[row]:
		why = "the account's own entry has it"
	case r.Authority.Platform == setting.DirectoryServer && g.Policy == r.nearest[r.Authority.Objects.Parent.At(row)]:
		why = "of the entries above the account that have one, " + g.Policy.Root + " is the nearest"
	}
	return []Candidate{{Policy: g.Policy, Direct: true, Outcome: Won, Why: why}}
}

// ofClasses are the policies that classes of service give to the groups of a realm's
// account.
func (r *Resolution) ofClasses(row int, g Governing) []Candidate {
	var all []Candidate
	for _, p := range r.classes {
		c := Candidate{Policy: p, Outcome: outcome(p, g), Why: "a class of service of a lower priority comes first"}
		for _, t := range p.Targets {
			if in := r.member(row, t.Object); in != no && (c.Chain == nil || c.Open && in == sure) {
				c.Chain, c.Open = []int{t.Object}, in == maybe
			}
		}
		switch {
		case c.Chain == nil:
			continue
		case c.Outcome == Undecided:
			c.Why = g.Why
		case c.Outcome == Won:
			c.Why = "its class of service has the lowest priority of those that reach the account"
		}
		if c.Chain[0] == estate.NotFound {
			c.Chain = nil
		}
		all = append(all, c)
	}
	return all
}

// ofTenant are the policies of a tenant that match an account, or may, the best first.
func (r *Resolution) ofTenant(row int, g Governing) []Candidate {
	var all []Candidate
	within := r.within(row)
	for i := range r.candidates {
		p := r.candidates[i].policy
		via, matches, doubt := r.matches(p, row, within)
		if !matches && doubt == "" {
			continue
		}
		c := Candidate{Policy: p, Direct: via == estate.NotFound, Open: !matches, Outcome: outcome(p, g), Why: "a policy before it matches"}
		if via != estate.NotFound {
			c.Chain = []int{via}
		}
		switch c.Outcome {
		case Undecided:
			c.Why = g.Why
		case Won:
			c.Why = "the first that matches"
		}
		all = append(all, c)
	}
	return all
}

// why words the reason for which a candidate won or lost.
func (r *Resolution) why(c *Candidate, g Governing, all []Candidate) string {
	won := func(x Candidate) bool { return x.Outcome == Won }
	i := slices.IndexFunc(all, won)
	switch {
	case g.Rule == Unknown:
		return g.Why
	case g.Answered && c.Outcome == Won:
		return "the directory itself says so (msDS-ResultantPSO); the groups in the evidence do not decide it"
	case i < 0:
		return ""
	case g.Answered && samePrecedence(c.Policy, all[i].Policy):
		return "same precedence as " + all[i].Policy.Name + ", which the directory itself names"
	}
	w := &all[i]
	switch {
	case c.Outcome == Won && len(all) == 1:
		return "the only policy that reaches the account"
	case c.Outcome == Won && c.Direct && !slices.ContainsFunc(all, func(x Candidate) bool { return x.Direct && !won(x) }):
		return "names the account itself: overrides any that comes through a group"
	case c.Outcome == Won && slices.ContainsFunc(all, func(x Candidate) bool {
		return !won(x) && x.Direct == c.Direct &&
			samePrecedence(x.Policy, c.Policy)
	}):
		return "lowest precedence, and of those with the same the smallest GUID"
	case c.Outcome == Won:
		return "lowest precedence"
	case w.Direct && !c.Direct:
		return "comes through a group; " + w.Policy.Name + " names the account itself"
	case samePrecedence(c.Policy, w.Policy):
		return "same precedence as " + w.Policy.Name + ", whose GUID is smaller"
	}
	return "higher precedence number than " + w.Policy.Name
}

func samePrecedence(x, y *estate.Policy) bool {
	return x.Precedence != nil && y.Precedence != nil && *x.Precedence == *y.Precedence
}

// Without returns what would govern an account if the winner went away, worked out as
// the rest is: from a place that does not have it.
func (r *Resolution) Without(row int) (next *estate.Policy, decided bool) {
	if from, ok := r.sources[row]; ok {
		return r.survey.Resolutions[from.Authority].Without(from.Row)
	}
	g := r.Of(row)
	if g.Rule == Unknown {
		return nil, false
	}
	if g.Policy == nil || g.Rule == Pointer || r.Authority.Kind == estate.Machine {
		return r.Authority.Head, true
	}
	poorer := *r.Authority
	poorer.PoliciesLie = true // where one was exported, all were
	poorer.Overrides = slices.DeleteFunc(slices.Clone(poorer.Overrides), func(p estate.Policy) bool { return p.Origin == g.Policy.Origin })
	then := Resolve(&poorer, r.Dialect)
	if poorer.Kind == estate.Domain {
		g = then.resolve(row) // the directory's own answer is of now
	} else {
		g = then.Of(row)
	}
	if g.Policy == nil {
		return r.Authority.Head, g.Rule != Unknown
	}
	return g.Policy, true
}

// Reaches returns the accounts that a policy reaches, or may for all that the
// evidence tells of its groups, whether it governs them or not, in the order of
// their rows. It takes time for those it reaches, not for all there are.
func (r *Resolution) Reaches(p *estate.Policy) []int {
	if r.Authority.Kind != estate.Domain {
		return r.reachedBy(p)
	}
	i := slices.IndexFunc(r.candidates, func(c candidate) bool { return c.policy == p })
	if i < 0 {
		return nil
	}
	o := r.Authority.Objects
	var rows []int
	take := func(row int) {
		if o.ClassOf(row) == estate.Account && o.FlagsOf(row)&estate.NeverOverride == 0 {
			rows = append(rows, row)
		}
	}
	for _, target := range r.targets(i) {
		take(target)
	}
	for _, group := range r.reach(i) {
		for _, row := range r.accountsIn(group) {
			take(int(row))
		}
	}
	slices.Sort(rows)
	return slices.Compact(rows)
}

// reachedBy is Reaches for the places without fine-grained policies.
func (r *Resolution) reachedBy(p *estate.Policy) []int {
	var rows []int
	for row := range r.Authority.Objects.Len() {
		if r.Authority.Objects.ClassOf(row) != estate.Account {
			continue
		}
		if r.Authority.Kind == estate.Tenant {
			if _, matches, doubt := r.matches(p, row, r.within(row)); (matches || doubt != "") &&
				r.Authority.Objects.FlagsOf(row)&(estate.Synced|estate.Federated|estate.Guest) == 0 {
				rows = append(rows, row)
			}
			continue
		}
		g := r.Of(row)
		governs := func(c Candidate) bool { return c.Policy == p }
		if g.Policy != nil && (g.Policy == p || g.Policy == r.uncounted[p]) || slices.ContainsFunc(r.ofClasses(row, g), governs) {
			rows = append(rows, row)
		}
	}
	return rows
}

// accountsIn returns the accounts directly in a group, those of which it is
// the primary group included.
func (r *Resolution) accountsIn(group int) []uint32 {
	if r.memberEnds == nil {
		r.listMembers()
	}
	from := uint32(0)
	if group > 0 {
		from = r.memberEnds[group-1]
	}
	return r.members[from:r.memberEnds[group]]
}

// listMembers turns each account's list of groups round: count, add up, place.
func (r *Resolution) listMembers() {
	o := r.Authority.Objects
	n := o.Len()
	ends := make([]uint32, n+1)
	each := func(do func(group, row int)) {
		for row := range n {
			if o.ClassOf(row) != estate.Account {
				continue
			}
			for group := range r.groupsOf(row) {
				do(group, row)
			}
			if group, ok := primaryOf(r.Authority, r.byRID, row); ok {
				do(group, row)
			}
		}
	}
	each(func(group, _ int) { ends[group+1]++ })
	for i := range n {
		ends[i+1] += ends[i]
	}
	r.members = make([]uint32, ends[n])
	each(func(group, row int) {
		r.members[ends[group]] = uint32(row)
		ends[group]++
	})
	r.memberEnds = ends[:n]
}

// Carried returns the policies that a group carries to its members, the best
// first.
func (r *Resolution) Carried(group int) []*estate.Policy {
	var all []*estate.Policy
	for _, i := range r.through(group, maybe) {
		if p := r.candidates[i].policy; p != nil {
			all = append(all, p)
		}
	}
	return all
}

// ReachKnown reports whether the evidence tells everybody whom a policy
// reaches: whom it names, and who is in the groups that it comes through.
func (r *Resolution) ReachKnown(p *estate.Policy) bool {
	i := slices.IndexFunc(r.candidates, func(c candidate) bool { return c.policy == p })
	if i < 0 || r.candidates[i].loose {
		return false
	}
	r.fillGroups()
	return !slices.ContainsFunc(r.targets(i), func(target int) bool { return r.unsure[target] })
}

// ReachesNobody reports whether a policy comes to no account, as far as the evidence
// tells who is in the groups that it comes through.
func (r *Resolution) ReachesNobody(p *estate.Policy) bool {
	if r.Authority.Kind != estate.Domain {
		return len(r.Reaches(p)) == 0
	}
	i := slices.IndexFunc(r.candidates, func(c candidate) bool { return c.policy == p })
	if i < 0 {
		return true
	}
	r.fillGroups()
	return !slices.ContainsFunc(r.targets(i), func(target int) bool { return r.governable(target) || r.filled[target] })
}

// Target is what the evidence tells of one name in a policy's list.
type Target string

// What a target can be.
const (
	Works     Target = ""
	NotHeld   Target = "not in the evidence"
	OpenType  Target = "a group of which it is not known whether it carries a policy"
	NoAccount Target = "a kind of account that no fine-grained policy governs"
	Idle      Target = "something that carries no policy"
)

// Ignored says why a policy's target does nothing, or why that is not known,
// and in words what it is.
func (r *Resolution) Ignored(t estate.Target) (kind Target, words string) {
	o := r.Authority.Objects
	if !r.Authority.Holds(t.Object) {
		return NotHeld, string(NotHeld)
	}
	if r.Authority.Kind != estate.Domain {
		return Works, ""
	}
	if o.FlagsOf(t.Object)&estate.Unclassified != 0 {
		return OpenType, "an object exported without what tells its kind"
	}
	switch o.ClassOf(t.Object) {
	case estate.Account:
		if o.FlagsOf(t.Object)&estate.NeverOverride != 0 {
			return NoAccount, string(NoAccount)
		}
		return Works, ""
	case estate.Group:
		words = "a " + estate.GroupType(o.GroupType.At(t.Object)).String()
		switch r.carries(t.Object) {
		case sure:
			return Works, ""
		case maybe:
			return OpenType, words
		}
		return Idle, words
	case estate.Computer:
		return Idle, "a computer"
	case estate.Managed:
		return Idle, "a managed service account"
	}
	if strings.HasPrefix(strings.ToLower(t.DN), "ou=") {
		return Idle, "an organisational unit"
	}
	return Idle, "neither an account nor a group"
}
