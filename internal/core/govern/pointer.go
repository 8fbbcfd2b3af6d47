package govern

import "sternledger/internal/core/estate"

// indexPolicies finds the policy that each reference of the authority names.
func (r *Resolution) indexPolicies() {
	a := r.Authority
	byName := map[string]*estate.Policy{}
	for i := range a.Overrides {
		byName[estate.NormalDN(a.Overrides[i].Origin)] = &a.Overrides[i]
	}
	if a.Head != nil {
		byName[estate.NormalDN(a.Head.Origin)] = a.Head
	}
	r.named2policy = make([]*estate.Policy, len(a.Policies))
	for i, ref := range a.Policies {
		r.named2policy[i] = byName[estate.NormalDN(ref.DN)]
	}
}

// byPointer answers for an account of a machine or LDAP directory: the policy
// that the account itself points at, else the authority's own.
func (r *Resolution) byPointer(row int) Governing {
	g := Governing{Rule: Default, Via: estate.NotFound}
	if r.Authority.Kind == estate.Machine {
		g.Rule = Local
	}
	pointer := r.Authority.Objects.Applied.At(row)
	if pointer == 0 {
		if r.Authority.Kind != estate.LDAP {
			return g
		}
		if r.Authority.Objects.FlagsOf(row)&estate.AppliedShown == 0 {
			return other("whether the account points at a policy was not exported (pwdPolicySubentry, an operational attribute)")
		}
		if r.Authority.Head == nil {
			if named := r.Authority.DefaultPolicy; named != "" {
				return other("the account points at no policy, and the server's default, " + named + ", is not in the evidence")
			}
			return other("the account points at no policy, and which one the server applies by default is not in the evidence")
		}
		return g
	}
	if g.Policy = r.named2policy[pointer-1]; g.Policy == nil {
		hidden := &r.Authority.Policies[pointer-1]
		g := other("the account points at a policy that is not in the evidence: " + hidden.DN)
		g.Doubt.Kind, g.Doubt.Hidden = PolicyHidden, hidden
		return g
	}
	if g.Policy == r.Authority.Head {
		g.Policy = nil
		return g
	}
	if r.Authority.Kind == estate.LDAP {
		g.Rule = Pointer
	}
	return g
}
