package govern

import (
	"cmp"
	"maps"
	"slices"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// indexRealm sorts the policies that classes of service give to groups, and makes of
// each policy the one that holds for accounts without pre-authentication: a centre
// counts no failure that it does not see (tried).
func (r *Resolution) indexRealm() {
	a := r.Authority
	if a.Platform != setting.KerberosRealm {
		return
	}
	for i := range a.Overrides {
		r.classes = append(r.classes, &a.Overrides[i])
	}
	slices.SortStableFunc(r.classes, func(x, y *estate.Policy) int { return cmp.Compare(rankOf(x), rankOf(y)) })
	r.uncounted = map[*estate.Policy]*estate.Policy{}
	add := func(p *estate.Policy) {
		twin := *p
		twin.Name, twin.VariantOf, twin.Settings = p.Name+", without pre-authentication", p.Name, maps.Clone(p.Settings)
		c := p.Cite
		c.Note = "without pre-authentication no failure is counted"
		twin.Settings[setting.LockoutThreshold] = estate.Fact{Value: setting.Of(setting.Never), Cite: c,
			Remedy: "Require pre-authentication of these accounts (requires_preauth): without it no failure is counted, whatever the policy says."}
		r.uncounted[p] = &twin
	}
	for i := range a.Overrides {
		add(&a.Overrides[i])
	}
	if a.Head != nil {
		add(a.Head)
	}
}

// rankOf is a class's priority; one that names none comes last.
func rankOf(p *estate.Policy) int64 {
	if p.Precedence == nil {
		return 1<<63 - 1
	}
	return *p.Precedence
}

// ofRealm answers for an account of a realm: the policy that it names, else that of
// the class of service with the lowest priority, else the realm's own.
func (r *Resolution) ofRealm(row int) Governing {
	g := r.byClass(row)
	if g.Rule == Unknown || r.Authority.Objects.FlagsOf(row)&estate.NoPreauth == 0 {
		return g
	}
	p := g.Policy
	if p == nil {
		p = r.Authority.Head
	}
	if g.Rule == Default {
		g.Rule = Pointer
	}
	g.Policy = r.uncounted[p]
	return g
}

// byClass answers without regard to pre-authentication.
func (r *Resolution) byClass(row int) Governing {
	a := r.Authority
	if pointer := a.Objects.Applied.At(row); pointer > 0 {
		hidden := &a.Policies[pointer-1]
		switch p := r.named2policy[pointer-1]; {
		case p == nil:
			g := other("the account names a policy that is not in the evidence: " + hidden.DN)
			g.Doubt.Kind, g.Doubt.Hidden = PolicyHidden, hidden
			return g
		case p == a.Head:
			return Governing{Rule: Default, Via: estate.NotFound}
		default:
			return Governing{Rule: Pointer, Policy: p, Via: estate.NotFound}
		}
	}
	for _, p := range r.classes {
		for _, t := range p.Targets {
			switch r.member(row, t.Object) {
			case sure:
				return Governing{Rule: Group, Policy: p, Via: t.Object}
			case maybe:
				return other("whether " + estate.NameOf(t.DN) + ", to whose members a class of service gives " + p.Name +
					", holds the account was not exported")
			}
		}
	}
	if a.Head == nil {
		return other("the account names no policy, and the realm's own is not in the evidence")
	}
	return Governing{Rule: Default, Via: estate.NotFound}
}

// member reports whether a group holds an account, itself or through others.
func (r *Resolution) member(row, group int) grade {
	o := r.Authority.Objects
	seen := map[int]bool{row: true}
	next := []int{row}
	for len(next) > 0 {
		at := next[0]
		next = next[1:]
		for holder := range o.GroupsOf(at) {
			if holder == group {
				return sure
			}
			if !seen[holder] {
				seen[holder] = true
				next = append(next, holder)
			}
		}
	}
	if o.FlagsOf(row)&estate.HoldersShown != 0 {
		return no // memberOf tells all of them, through others too
	}
	if group != estate.NotFound && o.FlagsOf(group)&estate.Unseen == 0 && o.ClassOf(group) == estate.Group {
		return no
	}
	return maybe
}
