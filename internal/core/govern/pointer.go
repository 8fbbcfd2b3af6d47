package govern

import (
	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

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
	r.indexLocal()
}

// indexLocal finds the local policy of the nearest entry for each parent, and those of
// accounts themselves.
func (r *Resolution) indexLocal() {
	a := r.Authority
	roots := map[string]*estate.Policy{}
	r.own = map[int]*estate.Policy{}
	for i := range a.Overrides {
		p := &a.Overrides[i]
		roots[estate.NormalDN(p.Root)] = p
		for _, t := range p.Targets {
			r.own[t.Object] = p
		}
	}
	r.nearest = make([]*estate.Policy, len(a.Parents))
	for i, parent := range a.Parents {
		for rest := parent; rest != "" && r.nearest[i] == nil; _, rest = estate.SplitDN(rest) {
			r.nearest[i] = roots[estate.NormalDN(rest)]
		}
	}
}

// local answers for an account of a directory server with local policies: its own
// policy, else that of the nearest subtree, else the server's.
func (r *Resolution) local(row int) Governing {
	a := r.Authority
	head := Governing{Rule: Default, Via: estate.NotFound}
	if a.LocalPolicies != nil && !a.LocalPolicies.On {
		if a.Head == nil {
			return other("the server heeds no local policies, and its own settings (cn=config) are not in the evidence")
		}
		return head
	}
	pointer := a.Objects.Applied.At(row)
	g := Governing{Rule: Direct, Policy: r.own[row], Via: estate.NotFound}
	if g.Policy == nil {
		g.Rule, g.Policy = Pointer, r.nearest[a.Objects.Parent.At(row)]
	}
	if pointer > 0 && r.own[row] == nil {
		switch named := r.named2policy[pointer-1]; {
		case named == nil:
			hidden := &a.Policies[pointer-1]
			g := other("the account points at a policy that is not in the evidence: " + hidden.DN +
				" (objectClass=ldapsubentry has to be asked for)")
			g.Doubt.Kind, g.Doubt.Hidden = PolicyHidden, hidden
			return g
		case g.Policy == nil:
			g.Policy = named
		}
	}
	switch {
	case g.Policy == nil && a.Head == nil:
		return other("no local policy governs the account, and the server's own settings (cn=config) are not in the evidence")
	case g.Policy == nil && len(a.Overrides) == 0 && a.Objects.FlagsOf(row)&estate.AppliedShown == 0:
		return other("whether there are local policies was not exported (objectClass=ldapsubentry, or pwdPolicySubentry of the accounts)")
	case g.Policy == nil:
		return head
	case a.LocalPolicies == nil:
		return other("whether the server heeds local policies (nsslapd-pwpolicy-local of cn=config) is not in the evidence")
	}
	return g
}

// byPointer answers for an account of a machine or LDAP directory: the policy
// that the account itself points at, else the authority's own.
func (r *Resolution) byPointer(row int) Governing {
	g := Governing{Rule: Default, Via: estate.NotFound}
	if r.Authority.Kind == estate.Machine {
		g.Rule = Local
	}
	switch r.Authority.Platform {
	case setting.DirectoryServer:
		return r.local(row)
	case setting.KerberosRealm:
		return r.ofRealm(row)
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
