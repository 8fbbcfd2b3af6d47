package baseline

import "slices"

// Factor says in which case a demand holds: the password being the only
// factor, or used with a second one.
type Factor string

// The factors. The zero Factor is both.
const (
	Only   Factor = "only"
	Second Factor = "second"
)

// Who says for whom a demand holds. The zero Who is everybody.
type Who string

// Whom a demand is about: every tier but that of services, or that one.
const (
	People   Who = "people"
	Services Who = "services"
)

// serviceTier is the tier of accounts that programs sign in with.
const serviceTier = "service"

func (w Who) has(tier string) bool { return w == "" || (w == Services) == (tier == serviceTier) }

// Access says in which case a demand holds: people at a keyboard, sign-ins from outside, a
// service of a cloud. The zero Access is all of them.
type Access string

// The accesses.
const (
	Interactive Access = "interactive"
	Remote      Access = "remote"
	Cloud       Access = "cloud"
)

// accesses are all of them, in their order.
var accesses = []Access{Interactive, Remote, Cloud}

// accessWords say where a demand on an access holds.
var accessWords = map[Access]string{Interactive: "where people sign in interactively", Remote: "where people sign in from outside",
	Cloud: "in cloud services"}

// Situation is one of the cases that demands tell apart.
type Situation struct {
	Factor                     Factor
	Interactive, Remote, Cloud bool
}

func (s *Situation) has(a Access) *bool {
	switch a {
	case Interactive:
		return &s.Interactive
	case Remote:
		return &s.Remote
	}
	return &s.Cloud
}

// In reports whether the demand holds in a situation.
func (d *Demand) In(s Situation) bool {
	return (d.Factor == "" || d.Factor == s.Factor) && (d.Access == "" || *s.has(d.Access))
}

// Word is what somebody says of places that evidence does not tell.
type Word string

// The words.
const (
	SecondFactorAsked Word = "second-factor" // at every sign-in
	InteractiveAccess Word = Word(Interactive)
	RemoteAccess      Word = Word(Remote)
	CloudService      Word = Word(Cloud)
)

// Words are all of them.
var Words = []Word{SecondFactorAsked, InteractiveAccess, RemoteAccess, CloudService}

// Situations are all cases that can be, where known says what is known of each word. Of what
// no demand depends on none is made.
func (b *Baseline) Situations(known func(Word) (holds, known bool)) []Situation {
	all := []Situation{{Factor: Only}}
	both := func(w Word, set func(*Situation, bool)) {
		holds, known := known(w)
		n := len(all)
		for i := range n {
			other := all[i]
			set(&all[i], holds)
			if !known {
				set(&other, !holds)
				all = append(all, other)
			}
		}
	}
	if slices.ContainsFunc(b.Demands, func(d Demand) bool { return d.Factor != "" }) {
		both(SecondFactorAsked, func(s *Situation, yes bool) {
			if s.Factor = Only; yes {
				s.Factor = Second
			}
		})
	}
	for _, a := range accesses {
		if slices.ContainsFunc(b.Demands, func(d Demand) bool { return d.Access == a }) {
			both(Word(a), func(s *Situation, yes bool) { *s.has(a) = yes })
		}
	}
	return all
}

// Depends are the words that decide whether the demand holds.
func (d *Demand) Depends() (all []Word) {
	if d.Factor != "" {
		all = append(all, SecondFactorAsked)
	}
	if d.Access != "" {
		all = append(all, Word(d.Access))
	}
	return all
}
