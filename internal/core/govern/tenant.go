package govern

import (
	"fmt"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
)

// Elsewhere is the account of another authority that an account is a copy of.
type Elsewhere struct {
	Authority int // its place in the estate
	Row       int
}

// byPriority answers for an account of a tenant: what governs it in the domain
// that it is synchronised from; else the first of the prioritised policies
// that matches it; else the tenant's own settings.
func (r *Resolution) byPriority(row int) Governing {
	o := r.Authority.Objects
	flags := o.FlagsOf(row)
	switch {
	case flags&estate.Synced != 0:
		return r.bySource(row)
	case flags&estate.NoHome != 0:
		return other("who checks the account's password is not in the evidence")
	case flags&estate.Guest != 0:
		return other("the account is a guest: its home governs its password, and is not in the evidence")
	case flags&estate.Federated != 0:
		return other("another place checks the account's password, and is not in the evidence")
	}
	if r.Authority.PoliciesCut != nil {
		return other("the list of policies goes on in a further page, which is not in the evidence")
	}
	within := r.within(row)
	for i := range r.candidates {
		c := &r.candidates[i]
		via, matches, doubt := r.matches(c.policy, row, within)
		switch {
		case doubt != "":
			g := other(doubt)
			g.Doubt.Policy = c.policy
			return g
		case !matches:
		case c.doubt.Kind != NoDoubt:
			g := r.undecidedFor(c.doubt, via)
			g.Doubt.Policy = c.policy
			return g
		case via == estate.NotFound && len(c.policy.Targets) > 0:
			return Governing{Policy: c.policy, Rule: Direct, Via: via}
		case via == estate.NotFound:
			return Governing{Policy: c.policy, Rule: OfTenant, Via: via}
		default:
			return Governing{Policy: c.policy, Rule: Group, Via: via}
		}
	}
	return Governing{Rule: OfTenant, Via: estate.NotFound}
}

// matches reports whether a prioritised policy's conditions hold for an
// account, and through which group. A policy without conditions holds for
// everybody. doubt says why that cannot be told. within are the groups that hold
// the account.
func (r *Resolution) matches(p *estate.Policy, row int, within []int) (via int, matches bool, doubt string) {
	synced := r.Authority.Objects.FlagsOf(row)&estate.Synced != 0
	if p.Of == estate.FromOther || p.Of == estate.Native && synced || p.Of == estate.FromDomain && !synced {
		return estate.NotFound, false, ""
	}
	via, matches = estate.NotFound, len(p.Targets) == 0 && !p.TargetsPart
	if !matches {
		via, matches, doubt = r.holds(p, p.Targets, row, within)
		if !matches && p.TargetsPart {
			doubt = p.Name + ": whom it applies to is not in the evidence"
		}
	}
	if !matches && doubt == "" {
		return estate.NotFound, false, ""
	}
	_, out, open := r.holds(p, p.Except, row, within)
	switch {
	case out:
		return estate.NotFound, false, ""
	case doubt != "":
		return estate.NotFound, false, doubt
	case open != "":
		return via, false, open
	case p.Open != "":
		return via, false, p.Name + " depends on " + p.Open + ", which is not modelled"
	}
	return via, true, ""
}

// holds reports whether a list of accounts and groups holds an account, through
// which group, and why that cannot be told.
func (r *Resolution) holds(p *estate.Policy, list []estate.Target, row int, within []int) (via int, in bool, doubt string) {
	o := r.Authority.Objects
	for _, t := range list {
		switch {
		case t.Object == row:
			return estate.NotFound, true, ""
		case t.Object == estate.NotFound:
			doubt = p.Name + " applies to a group that is not in the evidence"
			continue
		}
		if slices.Contains(within, t.Object) {
			return t.Object, true, ""
		}
		if o.ClassOf(t.Object) == estate.Group && o.FlagsOf(t.Object)&estate.MembersPart != 0 {
			doubt = p.Name + " applies to " + o.Name.At(t.Object) + ", whose members are not all in the evidence"
		}
	}
	return estate.NotFound, false, doubt
}

// within returns the groups that hold an account, those that hold its groups
// included.
func (r *Resolution) within(row int) []int {
	var found []int
	for i := -1; i < len(found); i++ {
		at := row
		if i >= 0 {
			at = found[i]
		}
		for group := range r.Authority.Objects.GroupsOf(at) {
			if !slices.Contains(found, group) {
				found = append(found, group)
			}
		}
	}
	return found
}

// bySource answers for a synchronised account: the domain governs it.
func (r *Resolution) bySource(row int) Governing {
	from, ok := r.sources[row]
	if !ok {
		return other(r.unjoined[row])
	}
	other := r.survey.Resolutions[from.Authority]
	g := other.Of(from.Row)
	g.At = other.Authority
	switch flags := r.Authority.Objects.FlagsOf(row); {
	case flags&estate.NoHome != 0:
	case flags&estate.Federated != 0:
		g.Way = estate.Federation
	default:
		g.Way = r.Authority.Sync
	}
	return g
}

// Source returns the account that an account of a tenant is synchronised from.
func (r *Resolution) Source(row int) (Elsewhere, bool) {
	from, ok := r.sources[row]
	return from, ok
}

// DrawsOn reports whether accounts of a tenant are synchronised from that
// authority.
func (r *Resolution) DrawsOn(authority int) bool {
	for _, from := range r.sources {
		if from.Authority == authority {
			return true
		}
	}
	return false
}

// Unjoined returns the synchronised accounts whose domain account is not in
// the evidence, in the order of their rows.
func (r *Resolution) Unjoined() []int {
	var rows []int
	for row := range r.unjoined {
		rows = append(rows, row)
	}
	slices.Sort(rows)
	return rows
}

// joinSources finds, for every synchronised account of the tenants, its account in a
// domain.
func (s *Survey) joinSources() {
	var all *origins
	for i, a := range s.Estate.Authorities {
		if a.Kind != estate.Tenant {
			continue
		}
		r := s.Resolutions[i]
		r.survey, r.sources, r.unjoined = s, map[int]Elsewhere{}, map[int]string{}
		for row := range a.Objects.Len() {
			if a.Objects.ClassOf(row) != estate.Account || a.Objects.FlagsOf(row)&estate.Synced == 0 {
				continue
			}
			if all == nil {
				all = originsIn(s.Estate)
			}
			if at, why := all.of(a, row); why != "" {
				r.unjoined[row] = why
			} else {
				r.sources[row] = at
			}
		}
	}
}

// origins are the accounts of domains, by what a tenant says of where an account comes
// from.
type origins struct {
	estate      *estate.Estate
	domains     map[string]int // by name, and by the first part of it
	bySID       map[string]Elsewhere
	byName      map[inDomain]Elsewhere
	byPrincipal map[string]Elsewhere
}

type inDomain struct {
	authority int
	account   string
}

// several stands for domains that share the first part of their names, and for accounts
// of one principal name: which one is meant, it does not tell.
const several = estate.NotFound

func originsIn(e *estate.Estate) *origins {
	x := &origins{e, map[string]int{}, map[string]Elsewhere{}, map[inDomain]Elsewhere{}, map[string]Elsewhere{}}
	for i, a := range e.Authorities {
		if a.Kind != estate.Domain {
			continue
		}
		short, _, _ := strings.Cut(a.Name, ".")
		if _, taken := x.domains[short]; taken {
			x.domains[short] = several
		} else {
			x.domains[short] = i
		}
		o := a.Objects
		for row := range o.Len() {
			if o.ClassOf(row) != estate.Account {
				continue
			}
			at := Elsewhere{i, row}
			x.bySID[objectSID(a, row)] = at
			x.byName[inDomain{i, strings.ToLower(o.Name.At(row))}] = at
			if p := strings.ToLower(o.Principal.At(row)); p != "" {
				if _, taken := x.byPrincipal[p]; taken {
					at.Authority = several
				}
				x.byPrincipal[p] = at
			}
		}
	}
	for i, a := range e.Authorities {
		if a.Kind == estate.Domain { // a name that is whole goes before the first part of another
			x.domains[a.Name] = i
		}
	}
	return x
}

// objectSID is the SID of a domain's object; empty where the evidence does not hold it.
func objectSID(a *estate.Authority, row int) string {
	if rid := a.Objects.RID.At(row); a.SID != "" && rid != 0 {
		return fmt.Sprintf("%s-%d", a.SID, rid)
	}
	return ""
}

// of finds the account from which a tenant's is synchronised: by SID, else by the domain's
// name and the account's, else by principal name. why says why there is none.
func (x *origins) of(a *estate.Authority, row int) (at Elsewhere, why string) {
	domain, rest, _ := strings.Cut(a.Objects.Source.At(row), "\t")
	name, sid, _ := strings.Cut(rest, "\t")
	if at, ok := x.bySID[sid]; ok && sid != "" {
		return at, ""
	}
	domain, name = strings.ToLower(domain), strings.ToLower(name)
	if domain == "" {
		at, ok := x.byPrincipal[strings.ToLower(a.Objects.Principal.At(row))]
		switch {
		case ok && sid == "" && at.Authority == several:
			return at, "the account is synchronised from a domain that the evidence does not name, and several accounts have its principal name"
		case ok && sid == "":
			return at, ""
		}
		return at, "the account is synchronised from a domain that the evidence does not name, and no account of its name is in the " +
			"domains that were gathered"
	}
	from := "the account is synchronised from " + domain
	i, known := x.domains[domain]
	if !known {
		return at, from + ", which is not in the evidence"
	}
	if i == several {
		return at, from + ", and several domains of the evidence are called so"
	}
	at, held := x.byName[inDomain{i, name}]
	if !held {
		return at, from + ", and the export of that domain does not hold it"
	}
	if has := objectSID(x.estate.Authorities[i], at.Row); sid != "" && has != "" && has != sid {
		return at, from + ", and the account of its name there is another one, by its SID"
	}
	return at, ""
}
