package amend

import (
	"cmp"
	"fmt"
	"slices"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
)

// Hold holds back, of amendments that are to be made together, the spots of which harm
// comes: what would leave a place without an administrator who can sign in, shut out
// root, let a stranger lock every administrator for good, or stop a service. What is
// not held back can be made together. The amendments are taken in their order, so that
// of two which do harm only together the later one is held back.
func (p *Population) Hold(all []*Amendment, at int64) {
	for _, a := range all {
		for i := range a.Spots {
			a.Spots[i].Held = nil
		}
	}
	by := map[estate.Place][]*Amendment{} // taken so far, that bear on sign-ins there
	for _, a := range all {
		if !a.Bears() {
			continue
		}
		places := a.places()
		for at := range places {
			by[at] = append(by[at], a)
		}
		p.hold(a, places, by, at)
	}
	// What does not hold without a change that is held back waits with it.
	for again := true; again; {
		again = false
		for _, a := range all {
			again = a.wait() || again
		}
	}
}

// hold holds back the spots of one amendment that do harm together with those before
// it.
func (p *Population) hold(a *Amendment, places map[estate.Place]bool, by map[estate.Place][]*Amendment, at int64) {
	near, met := []*Amendment{}, map[*Amendment]bool{}
	for place := range places {
		for _, b := range by[place] {
			if !met[b] {
				near, met[b] = append(near, b), true
			}
		}
	}
	for range a.Spots { // each round holds one back at least
		var c changed
		c.by(near, false)
		x, done := p.playAt(&c, places, at), true
		for i := range a.Spots {
			s := &a.Spots[i]
			if len(s.Held) > 0 {
				continue
			}
			for _, h := range x.Harms {
				if a.touches(s, h.Place) && a.does(&h) {
					s.Held, done = append(s.Held, h), false
				}
			}
		}
		if done {
			return
		}
	}
}

// places are those that an amendment changes or reaches.
func (a *Amendment) places() map[estate.Place]bool {
	all := map[estate.Place]bool{}
	for i := range a.Spots {
		all[a.Spots[i].At] = true
	}
	for _, s := range a.Scopes {
		all[s.Authority.Place()] = true
	}
	return all
}

// touches reports whether a spot bears on a place.
func (a *Amendment) touches(s *Spot, at estate.Place) bool {
	if s.At == at || s.Via == at {
		return true
	}
	return len(a.Spots) == 1 && slices.ContainsFunc(a.Scopes, func(i *govern.Scope) bool { return i.Authority.Place() == at })
}

// does reports whether a harm comes of what an amendment changes: a change of the
// lockout lets no password grow old.
func (a *Amendment) does(h *Harm) bool {
	ofLocks, changes := h.Damage == AllLockable || h.Damage == MayLockAll, slices.Contains(locks, a.Setting)
	if ofLocks || changes {
		return ofLocks && changes
	}
	if len(h.Fates) == 0 {
		return true
	}
	return slices.ContainsFunc(h.Fates, func(f Fate) bool { return slices.Contains(causes[a.about()], f.Cause) })
}

// about is what an amendment changes, a flag by the setting that it stands against.
func (a *Amendment) about() string {
	if a.Flag == estate.NeverExpires {
		return "max-age"
	}
	return string(a.Setting)
}

// causes are what each setting can be the cause of.
var causes = map[string][]Cause{"max-age": {Aged, Idle}, "inactive-disable": {Idle}, "empty-accepted": {EmptyRefused}, "mfa": {FactorAsked}}

// wait holds back the spots whose amendment needs one that is held back at the same
// place, and reports whether there was one.
func (a *Amendment) wait() (held bool) {
	for i := range a.Spots {
		s := &a.Spots[i]
		if len(s.Held) > 0 {
			continue
		}
		for _, f := range a.First {
			for k := range f.Spots {
				if before := &f.Spots[k]; len(before.Held) > 0 && (before.At == s.At || before.Via == s.Via) {
					s.Held, held = before.Held, true
				}
			}
		}
	}
	return held
}

// Kept are the spots of an amendment that are not held back, and Back those that are.
func (a *Amendment) Kept() (all []*Spot) { return a.spots(false) }

// Back are the spots of an amendment that are held back.
func (a *Amendment) Back() (all []*Spot) { return a.spots(true) }

func (a *Amendment) spots(held bool) (all []*Spot) {
	for i := range a.Spots {
		if s := &a.Spots[i]; (len(s.Held) > 0) == held {
			all = append(all, s)
		}
	}
	return all
}

// Text says what would come of a change; on names a day of the plan.
func (h *Harm) Text(on func(day int) string) string {
	from := " at once"
	if h.Day > 0 {
		from = ", from " + on(h.Day) + " on"
	}
	var names []string
	hint := false
	for _, f := range h.Fates {
		names = append(names, f.Name)
		hint = hint || f.Serves == ByName
	}
	where := h.Place.Name
	switch h.Damage {
	case NoWayIn:
		return fmt.Sprintf("no administrator of %s could sign in any more%s%s", where, from, because(h.Fates))
	case RootOut:
		return fmt.Sprintf("root of %s could not sign in any more%s%s", where, from, because(h.Fates))
	case AllLockable:
		return fmt.Sprintf("a stranger could lock every administrator of %s by wrong passwords, and none would be left who unlocks", where)
	case MayLockAll:
		return fmt.Sprintf("whether a stranger could lock every administrator of %s by wrong passwords, with none left who unlocks, "+
			"is not in the evidence", where)
	case ServiceOut:
		text := fmt.Sprintf("what signs in as %s at %s would stop%s%s", named(names), where, from, because(h.Fates))
		if hint {
			text += "; that programs do so is told by names alone, and is a hint"
		}
		return text
	}
	if len(names) == 0 {
		return "the accounts of " + where + " are not in the evidence, and there an old password lets nobody in"
	}
	return fmt.Sprintf("when the passwords of %s at %s were set is not in the evidence: whether they could still sign in is not known", named(names), where)
}

// because says why accounts could not sign in.
func because(all []Fate) string {
	if len(all) == 0 {
		return ""
	}
	return map[Cause]string{Aged: ": the password would be too old", Idle: ": the password would be too old, and the idle days over",
		EmptyRefused: ": the empty password would be refused", FactorAsked: ": there is no second factor"}[all[0].Cause]
}

// Instead says in which order nobody is harmed.
func (h *Harm) Instead() string {
	var names []string
	idle, empty := false, false
	for _, f := range h.Fates {
		names = append(names, f.Name)
		idle, empty = idle || f.Cause == Idle, empty || f.Cause == EmptyRefused
	}
	switch {
	case h.Damage == AllLockable:
		return "Leave one administrator whom failed attempts do not lock, or let the lock end by itself; then make the change."
	case h.Damage == MayLockAll:
		return "Export the accounts with the lockout's threshold and duration, gather and weigh again; or see to it that the lock ends by itself, and then make the change."
	case h.Damage == Unforeseen && len(names) == 0:
		return "Export the accounts with the days on which their passwords were set, gather and weigh again."
	case h.Damage == Unforeseen:
		return "Export the days on which passwords were set, gather and weigh again; or have these passwords changed first."
	case empty:
		return "Give " + named(names) + " a password first, gather and weigh again, then make the change."
	case h.Damage == ServiceOut:
		return "Change the password of " + named(names) + " together with what signs in by it, or use a managed account; then gather and weigh " +
			"again, and make the change."
	case idle:
		return "Have the password of " + cmp.Or(named(names), "an administrator") + " changed first (or, if the owner agrees, the day of its last " +
			"change set with chage -d), gather and weigh again, then make the change."
	}
	return "Have the password of " + cmp.Or(named(names), "an administrator") + " changed first, gather and weigh again, then make the change."
}
