// Package govern works out which policy governs which account, exactly as the
// authority itself does. For a directory domain that is MS-ADTS 3.1.1.4.5.36
// (msDS-ResultantPSO), in the dialect of the server.
package govern

import (
	"bytes"
	"cmp"
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

	// For Unknown, which policy is to blame: one that is not in the evidence,
	// or one that cannot be put in order.
	Hidden    *estate.Reference
	Undecided *estate.Policy

	// At is the authority that governs the account where that is another one
	// than the account's own: the domain that it is synchronised from.
	At *estate.Authority
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
	policy *estate.Policy // nil: a policy that accounts point at and the evidence lacks
	ref    int            // its row in the authority's Policies, when policy is nil
	class  int
	why    string // why the class cannot be decided
}

// Resolution answers for every account of one authority. Its size is a few
// numbers for each row.
type Resolution struct {
	Authority  *estate.Authority
	Dialect    estate.Dialect
	candidates []candidate      // best first
	direct     map[int]claim    // rows that policies name themselves
	claims     []claim          // by row, for groups
	carrier    []uint32         // by row, for groups: 1 + the group that the policy names
	byRID      map[uint32]int32 // groups by the last part of their SID
	groupsIn   map[int][]int    // made when asked for
	reached    []reach          // made when asked for
	named      [][]int          // rows that each candidate names, made when asked for
	members    []uint32         // accounts by group, made when asked for
	memberEnds []uint32         // where each group's part of members ends

	named2policy []*estate.Policy  // by row of the authority's Policies
	survey       *Survey           // for accounts that another authority governs
	sources      map[int]Elsewhere // the accounts that synchronised ones come from
	unjoined     map[int]string    // why there is none in the evidence
}

// Resolve prepares the answers for an authority. Time and memory are linear in
// its objects and memberships, however many policies there are: candidates are
// taken best first, and a group that a better one has reached is never entered
// again.
func Resolve(a *estate.Authority, dialect estate.Dialect) *Resolution {
	r := &Resolution{Authority: a, Dialect: dialect, direct: map[int]claim{}}
	switch a.Kind {
	case estate.Machine, estate.LDAP:
		r.indexPolicies()
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
	r.byRID = map[uint32]int32{}
	for row := range n {
		if r.counts(row) && a.Objects.FlagsOf(row)&estate.BuiltinDomain == 0 {
			r.byRID[a.Objects.RID.At(row)] = int32(row)
		}
	}
	r.spread()
	return r
}

// counts reports whether the row is a group that can carry a policy.
func (r *Resolution) counts(row int) bool {
	return r.Authority.Objects.ClassOf(row) == estate.Group && Carries(r.Dialect, estate.GroupType(r.Authority.Objects.GroupType.At(row)))
}

// Carries reports whether a group of that type can carry a fine-grained policy
// to its members: in the windows dialect only a global security group, in the
// samba dialect any security group.
func Carries(d estate.Dialect, t estate.GroupType) bool {
	return t.Security() && (d == estate.Samba || t.Global())
}

// rank puts the candidates in order: lowest precedence first, then the
// smallest GUID in its stored byte order.
func (r *Resolution) rank() {
	a := r.Authority
	var hidden, unranked []candidate
	var ranked []candidate
	for i, ref := range a.Policies {
		if !ref.Known {
			hidden = append(hidden, candidate{ref: i, why: "a fine-grained policy applies that is not in the evidence: " + ref.DN})
		}
	}
	for i := range a.Overrides {
		p := &a.Overrides[i]
		if p.Precedence == nil {
			unranked = append(unranked, candidate{policy: p, why: "the precedence of " + p.Name + " is not in the evidence"})
		} else {
			ranked = append(ranked, candidate{policy: p})
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
			undecidable := tied && (before.why != "" || before.policy.GUID == c.policy.GUID || before.policy.GUID == (estate.GUID{}))
			if undecidable {
				c.why = "policies with the same precedence apply and a GUID that would decide between them is missing or not unique"
				before.why = c.why
			} else {
				class++
			}
		}
		c.class = class
	}
	r.candidates = append(r.candidates, ranked...)
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

// inside returns, for each group, the counting groups directly inside it.
func (r *Resolution) inside() map[int][]int {
	if r.groupsIn == nil {
		r.groupsIn = map[int][]int{}
		for row := range r.Authority.Objects.Len() {
			if r.counts(row) {
				for holder := range r.Authority.Objects.GroupsOf(row) {
					r.groupsIn[holder] = append(r.groupsIn[holder], row)
				}
			}
		}
	}
	return r.groupsIn
}

// spread gives every group that a policy reaches its claim.
func (r *Resolution) spread() {
	o := r.Authority.Objects
	for i := range r.candidates {
		mine := claim(i + 1)
		if r.candidates[i].class == 0 {
			mine |= undecided
		}
		reached := map[int]bool{} // by this candidate
		for _, target := range r.targets(i) {
			if !r.counts(target) {
				if o.ClassOf(target) == estate.Account {
					r.direct[target] = r.join(r.direct[target], mine)
				}
				continue
			}
			for queue := []int{target}; len(queue) > 0; {
				group := queue[0]
				queue = queue[1:]
				before := r.claims[group]
				if reached[group] || before != noClaim && r.classOf(before) < r.candidates[i].class {
					continue
				}
				reached[group] = true
				r.claims[group] = r.join(before, mine)
				if before == noClaim {
					r.carrier[group] = uint32(target) + 1
				}
				queue = append(queue, r.inside()[group]...)
			}
		}
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
	} else {
		for row := range a.Objects.Len() {
			if int(a.Objects.Applied.At(row)) == c.ref+1 {
				found = append(found, row)
			}
		}
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
	c, via := r.claimOf(row)
	if told := r.Authority.Objects.Resultant.At(row); told > 0 && !r.Authority.Policies[told-1].Known {
		hidden := &r.Authority.Policies[told-1]
		return Governing{Rule: Unknown, Via: estate.NotFound, Hidden: hidden,
			Why: "the directory itself names a fine-grained policy that is not in the evidence: " + hidden.DN}
	}
	switch {
	case c == noClaim:
		return Governing{Rule: Default, Via: estate.NotFound}
	case c&undecided != 0:
		blamed := &r.candidates[c&^undecided-1]
		g := Governing{Rule: Unknown, Via: via, Why: blamed.why, Undecided: blamed.policy}
		if blamed.policy == nil {
			g.Hidden = &r.Authority.Policies[blamed.ref]
		}
		return g
	case via == estate.NotFound:
		return Governing{Policy: r.candidates[c-1].policy, Rule: Direct, Via: via}
	}
	return Governing{Policy: r.candidates[c-1].policy, Rule: Group, Via: via}
}

// claimOf returns the account's claim and the group that carries it.
func (r *Resolution) claimOf(row int) (best claim, via int) {
	o := r.Authority.Objects
	if len(r.candidates) == 0 || o.FlagsOf(row)&estate.NeverOverride != 0 {
		return noClaim, estate.NotFound
	}
	if c := r.direct[row]; c != noClaim {
		return c, estate.NotFound
	}
	via = estate.NotFound
	take := func(group int) {
		if joined := r.join(best, r.claims[group]); joined != best {
			best, via = joined, int(r.carrier[group])-1
		}
	}
	for group := range o.GroupsOf(row) {
		if r.claims[group] != noClaim {
			take(group)
		}
	}
	if group, ok := r.byRID[o.Primary.At(row)]; ok {
		take(int(group))
	}
	return best, via
}
