// Package rehearse plays sign-ins against a lockout, as the servers count:
// when the counter starts again, when the account locks, when it opens.
package rehearse

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"sternledger/internal/core/forecast"
	"sternledger/internal/core/setting"
)

// SignIn is one try: when, in seconds from the beginning, and with which
// password.
type SignIn struct {
	Seconds int64
	With    Password
}

// Password says which password is typed.
type Password uint8

// The passwords. Old is the account's own, of two changes ago: a domain refuses
// it and does not count it, since it knows that a device of the owner's may still
// use it. (The one of the last change even signs in for a while.)
const (
	Wrong Password = iota
	Right
	Old
)

// words are the passwords as timelines write them.
var words = map[string]Password{"wrong": Wrong, "right": Right, "old": Old}

// Kind says what happened.
type Kind string

// The events.
const (
	Failure   Kind = "failure"          // a wrong password, counted
	Success   Kind = "success"          // let in
	Refused   Kind = "refused"          // locked: neither let in nor counted
	Uncounted Kind = "not-counted"      // a former password: refused, and not counted
	Locked    Kind = "locked"           // by the failure before
	Opened    Kind = "opened"           // the lock has ended
	Restarts  Kind = "counter-restarts" // failures are forgotten
)

// Event is what happened at a time, and the count of failures after it.
type Event struct {
	Seconds int64
	Kind    Kind
	Count   int64
}

// Play plays sign-ins, which must be in order, against a lockout that is known.
func Play(l forecast.Lockout, tries []SignIn) []Event {
	p := player{l: l}
	for _, t := range tries {
		p.until(t.Seconds)
		p.try(t)
	}
	return p.events
}

type player struct {
	l        forecast.Lockout
	failures []int64 // times of those that count
	locked   bool
	since    int64
	spared   bool // the next try takes off the lock that has ended
	events   []Event
}

func (p *player) tell(at int64, kind Kind) {
	p.events = append(p.events, Event{at, kind, int64(len(p.failures))})
}

// never is later than any time.
const never = int64(math.MaxInt64)

// until lets time pass: a lock ends, failures are forgotten.
func (p *player) until(now int64) {
	for {
		opens, forgets := never, never
		if p.locked && !p.l.ByAdmin {
			opens = p.since + p.l.Shut()
		}
		if n := len(p.failures); n > 0 && !p.l.Never && !p.l.NoWindow && p.l.Window > 0 {
			forgets = p.failures[n-1] + p.l.Window
			if p.l.Counting != forecast.Quiet {
				forgets = p.failures[0] + p.l.Window
			}
		}
		switch {
		case opens <= now && opens <= forgets:
			p.locked, p.spared = false, p.l.Counting == forecast.Spared
			if p.l.Counting == forecast.Sliding || p.l.Counting == forecast.Afresh {
				p.failures = nil
			}
			p.tell(opens, Opened)
		case forgets <= now:
			if p.l.Counting != forecast.Quiet && p.l.Counting != forecast.Stretch {
				p.failures = p.failures[1:]
			} else {
				p.failures = nil
			}
			if len(p.failures) == 0 {
				p.tell(forgets, Restarts)
			}
		default:
			return
		}
	}
}

func (p *player) try(t SignIn) {
	switch {
	case p.locked:
		p.tell(t.Seconds, Refused)
	case t.With == Right:
		if p.spared = false; !p.l.KeepsOn {
			p.failures = nil
		}
		p.tell(t.Seconds, Success)
	case t.With == Old && p.l.SparesOld:
		p.tell(t.Seconds, Uncounted)
	default:
		if p.l.AtOnce { // the failures before are outside of the window already
			p.failures = p.failures[:0]
		}
		p.failures = append(p.failures, t.Seconds)
		p.tell(t.Seconds, Failure)
		if !p.l.Never && !p.spared && int64(len(p.failures)) >= p.l.Threshold {
			p.locked, p.since = true, t.Seconds
			p.tell(t.Seconds, Locked)
		}
		p.spared = false
	}
}

// mostTries bounds a timeline.
const mostTries = 1_000_000

// Series makes so many wrong attempts at once, every so many seconds, for a time.
func Series(tries, every, during int64) ([]SignIn, error) {
	if tries < 1 || every < 1 || during < 1 {
		return nil, fmt.Errorf("a series takes at least 1 try, every second at the most, for a time")
	}
	rounds := (during + every - 1) / every
	if rounds > mostTries/tries {
		return nil, fmt.Errorf("more than %d tries; make the series shorter", mostTries)
	}
	var all []SignIn
	for i := range rounds {
		for range tries {
			all = append(all, SignIn{Seconds: i * every})
		}
	}
	return all, nil
}

// Timeline reads one: a line for each sign-in, "TIME wrong", "TIME right" or
// "TIME old", in order of time; TIME as in settings ("90s", "10 minutes", "1h"). Empty lines
// and comments (#) are passed over. Errors name the line.
func Timeline(name, text string) ([]SignIn, error) {
	var all []SignIn
	for i, line := range strings.Split(text, "\n") {
		line, _, _ = strings.Cut(line, "#")
		f := strings.Fields(line)
		if len(f) == 0 {
			continue
		}
		fail := func(format string, args ...any) error {
			return fmt.Errorf("%s:%d: %s; expected TIME wrong, TIME right, or TIME old, such as \"10m wrong\"", name, i+1,
				fmt.Sprintf(format, args...))
		}
		time, word := strings.Join(f[:len(f)-1], " "), f[len(f)-1]
		if time == "" {
			return nil, fail("%q", word)
		}
		seconds, err := span(time)
		with, known := words[word]
		switch {
		case err != nil:
			return nil, fail("%v", err)
		case !known:
			return nil, fail("%q", word)
		case len(all) > 0 && seconds < all[len(all)-1].Seconds:
			return nil, fail("%q is before the line above", time)
		case len(all) == mostTries:
			return nil, fail("more than %d tries", mostTries)
		}
		all = append(all, SignIn{seconds, with})
	}
	if len(all) == 0 {
		return nil, fmt.Errorf("%s: no sign-in in it", name)
	}
	return all, nil
}

func span(text string) (int64, error) {
	if n, err := strconv.ParseInt(text, 10, 64); err == nil && n == 0 {
		return 0, nil
	}
	v, err := setting.Get(setting.LockoutWindow).Parse(text)
	if err != nil {
		return 0, fmt.Errorf("%q is no time with a unit", text)
	}
	n, ok := v.Number()
	if !ok || n < 0 {
		return 0, fmt.Errorf("%q is no time from the beginning", text)
	}
	return n, nil
}

// Summary counts the events of each kind, and says when the first lock was.
type Summary struct {
	Failures, Successes, Refused, Locks int
	FirstLock                           int64 // -1: none
}

// Summed counts events.
func Summed(events []Event) Summary {
	s := Summary{FirstLock: -1}
	for _, e := range events {
		switch e.Kind {
		case Failure:
			s.Failures++
		case Success:
			s.Successes++
		case Refused:
			s.Refused++
		case Locked:
			if s.Locks++; s.Locks == 1 {
				s.FirstLock = e.Seconds
			}
		}
	}
	return s
}
