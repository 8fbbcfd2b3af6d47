package estate

import (
	"slices"

	"sternledger/internal/core/setting"
)

// This file tells where new evidence of a place holds less than the evidence
// whose place it takes. Less can be true: a policy was removed, people left. It
// can as well come of an export by an account with fewer rights, or with fewer
// attributes. So it is told, stays told in later evidence until the place is
// whole again or somebody says that it is right, and is never taken for proof.

// Remember gives the builder what is on record of a place, so that policies
// which new evidence lacks are not taken to be gone.
func (b *Builder) Remember(before *Authority) {
	if d := b.byPlace[Place{before.Name, before.Kind}]; d != nil {
		d.before = before
	}
}

// Places returns the authorities spoken of so far.
func (b *Builder) Places() []Place {
	var all []Place
	for at := range b.byPlace {
		all = append(all, at)
	}
	return all
}

// mentionLost gives the targets of remembered policies rows, as addUnseen does
// for those of the policies in the evidence.
func (d *draft) mentionLost(b *Builder) {
	for _, l := range d.lostPolicies() {
		for _, dn := range l.Targets {
			d.named.add(b.speller.hash([]byte(dn)), []byte(dn), 0, 0)
		}
	}
}

// lostPolicies are the remembered policies that this evidence does not hold,
// with the names of their targets.
func (d *draft) lostPolicies() []Reference {
	if d.before == nil {
		return nil
	}
	held, known := map[string]bool{}, map[GUID]bool{}
	for i := range d.Overrides {
		held[NormalDN(d.Overrides[i].Origin)], known[d.Overrides[i].GUID] = true, true
	}
	var lost []Reference
	for i := range d.before.Overrides {
		p := &d.before.Overrides[i]
		if held[NormalDN(p.Origin)] || p.GUID != (GUID{}) && known[p.GUID] { // the same, under another name
			continue
		}
		l := Reference{DN: p.Origin, Lost: true, Cite: p.Cite}
		for _, t := range p.Targets {
			l.Targets = append(l.Targets, t.DN)
		}
		lost = append(lost, l)
	}
	for _, ref := range d.before.Policies { // lost before, and still; or held before that, and hidden since
		if (ref.Lost || len(ref.Targets) > 0) && !held[NormalDN(ref.DN)] {
			ref.Lost, ref.Rows, ref.Count = true, nil, 0
			lost = append(lost, ref)
		}
	}
	return lost
}

// addLost adds the remembered policies that may still be there: all but those
// of which every target, exported with what names it, says that they are gone.
func (d *draft) addLost(b *Builder) {
	for _, l := range d.lostPolicies() {
		gone := len(l.Targets) > 0
		for _, dn := range l.Targets {
			row, ok := d.row.get(b.speller.hash([]byte(dn)))
			if !ok {
				continue
			}
			l.Rows = append(l.Rows, int(row))
			gone = gone && d.Objects.FlagsOf(int(row))&(AppliedShown|Unseen) == AppliedShown
		}
		if i := slices.IndexFunc(d.Policies, func(r Reference) bool { return NormalDN(r.DN) == NormalDN(l.DN) }); i >= 0 {
			d.Policies[i].Known, d.Policies[i].Targets = false, l.Targets // something still points at it: it is hidden
			continue
		}
		if !gone {
			d.Policies = append(d.Policies, l)
		}
	}
}

// Less compares a place with what was on record of it.
func Less(before, now *Authority) []Loss {
	var all []Loss
	add := func(what Lost, was, is int, names []string) {
		for _, l := range before.Lost { // what was lost before counts from where it was whole
			if l.What == what {
				was = max(was, l.Before)
			}
		}
		if 10*is < 9*was || len(names) > 0 {
			const most = 10
			all = append(all, Loss{What: what, Before: was, Now: is, Names: names[:min(len(names), most)], Files: before.Files})
		}
	}
	policies, lost := len(now.Overrides), 0
	var names []string
	for _, ref := range now.Policies {
		if ref.Lost {
			lost, names = lost+1, append(names, NameOf(ref.DN))
		}
	}
	if now.Kind != Domain { // nothing is remembered there
		lost = max(0, len(before.Overrides)-policies)
	}
	if lost > 0 {
		add(LostPolicies, policies+lost, policies, names)
	}
	add(LostAccounts, before.Accounts, now.Accounts, nil)
	add(LostGroups, before.Groups, now.Groups, nil)
	add(LostComputers, before.Computers, now.Computers, nil)
	add(LostMemberships, before.Memberships, now.Memberships, nil)
	add(LostFlags, before.Flagged, now.Flagged, nil)
	add(LostContainers, len(before.Containers), len(now.Containers), nil)
	add(LostLinks, before.linked(), now.linked(), nil)
	was, is := before.settled(now), now.settled(now)
	add(LostSettings, was, is, nil)
	return all
}

// linked counts the places with links to templates.
func (a *Authority) linked() int {
	n := 0
	for i := range a.Units {
		if len(a.Units[i].Links) > 0 {
			n++
		}
	}
	return n
}

// settled counts the settings of the head that can be read. Where nothing locks
// now, how a lock goes is rightly not among them.
func (a *Authority) settled(now *Authority) int {
	if a.Head == nil {
		return 0
	}
	never := now.Head != nil && now.Head.Settings[setting.LockoutThreshold].Value.Is(setting.Never)
	n := 0
	for id, f := range a.Head.Settings {
		if f.Problem == "" && !(never && (id == setting.LockoutDuration || id == setting.LockoutWindow)) {
			n++
		}
	}
	return n
}
