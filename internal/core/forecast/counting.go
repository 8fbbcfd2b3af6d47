package forecast

import "sternledger/internal/core/setting"

// Counting is the way a platform counts failures.
type Counting uint8

// The ways of counting.
const (
	// Quiet: the count starts again after a quiet time since the last failure
	// (MS-SAMR 3.1.1.7.1; domains and Windows machines).
	Quiet Counting = iota
	// Sliding: each failure is forgotten after the window (pam_faillock(8)), and
	// all are when a lock ends: the module strikes them out at the next failure.
	Sliding
	// Spared: each failure is forgotten after the window
	// (draft-behera-ldap-password-policy, pwdFailureCountInterval), but slapd
	// takes the old lock off together with a new one, so that the first failure
	// after a lock has ended never locks.
	Spared
	// Afresh: nothing is forgotten by time; a success clears the count, and the end
	// of a lock does (an identity provider's automatic unlocking).
	Afresh
	// Lengthens: nothing is forgotten by time; after a lock each further failure
	// locks again, for longer each time. How much longer is not public: what is
	// played is a lock of the first length, and figures are upper bounds.
	Lengthens
	// Stretch: the count starts again so long after the first failure that it counts,
	// and goes on when a lock ends (389 Directory Server, tried).
	Stretch
)

func (c Counting) String() string {
	return [...]string{
		Quiet:   "all failures are forgotten after a quiet time since the last",
		Sliding: "each failure is forgotten by itself, all when a lock ends",
		Spared:  "each failure is forgotten by itself, and the first after a lock does not lock",

		Afresh:    "failures are forgotten at a success and when a lock ends, by no time that is documented",
		Stretch:   "all failures are forgotten so long after the first of them, and go on counting when a lock ends",
		Lengthens: "failures are forgotten at a success; each further one locks again, for longer each time (played with the first length)",
	}[c]
}

// countings gives each platform's way. Others count like Windows.
var countings = map[setting.Platform]Counting{setting.UnixMachine: Sliding, setting.LDAPDirectory: Spared, setting.IdentityProvider: Afresh,
	setting.CloudDirectory: Lengthens, setting.DirectoryServer: Stretch}

// Shut is after how many seconds the right password lets in again.
func (l Lockout) Shut() int64 {
	if l.Counting == Sliding {
		return l.Duration + 1 // pam_faillock opens when the time is over (tried)
	}
	return l.Duration
}

// Into returns the guesses of who goes on into every lock and waits for its
// end, and the locks.
func (l Lockout) Into(seconds int64) (guesses, locks int64) {
	if l.ByAdmin {
		return l.Threshold, 1
	}
	locks = rounds(seconds, l.Shut())
	outlive := l.NoWindow || l.Duration < l.Window // failures outlive the lock
	switch {
	case l.Counting == Spared && outlive:
		return l.spared(locks), locks
	case l.Counting == Spared:
		return l.Threshold + (locks-1)*max(l.Threshold, 2), locks
	case l.Counting == Stretch && outlive:
		return l.stretched(locks), locks
	case l.Counting == Quiet && outlive, l.Counting == Lengthens:
		return l.Threshold + locks - 1, locks // the first new one locks again
	}
	return l.Threshold * locks, locks
}

// spared counts the guesses of so many locks whose failures outlive them: after
// each lock two at least, and as many as the forgotten ones leave to do.
func (l Lockout) spared(locks int64) (guesses int64) {
	type burst struct{ at, failures int64 }
	var live []burst
	var counted int64
	for i := range locks {
		now := i * l.Duration
		for !l.NoWindow && len(live) > 0 && live[0].at+l.Window <= now {
			counted -= live[0].failures
			live = live[1:]
		}
		n := l.Threshold - counted
		if i > 0 {
			n = max(n, 2)
		}
		live = append(live, burst{now, n})
		counted += n
		guesses += n
	}
	return guesses
}

// stretched counts the guesses of so many locks whose failures outlive them: one each,
// until the stretch that began with the first failure is over.
func (l Lockout) stretched(locks int64) int64 {
	guesses, began := int64(0), int64(-1)
	for i := range locks {
		now := i * l.Shut()
		if began < 0 || !l.NoWindow && now >= began+l.Window {
			guesses, began = guesses+l.Threshold, now
		} else {
			guesses++
		}
	}
	return guesses
}
