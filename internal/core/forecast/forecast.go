// Package forecast says in numbers what settings allow an attacker and ask of
// a user: guesses under and into a lock, the way back to an old password, the
// space that the rules leave, forced changes, what it takes to lock everybody
// out. Every figure follows from the settings and from assumptions that are
// stated beside it.
package forecast

import (
	"math"
	"math/big"

	"sternledger/internal/core/setting"
)

// Assumptions are what the settings do not say.
type Assumptions struct {
	OnlineRate   float64 // guesses a second where nothing locks
	OfflineRate  float64 // guesses a second on a stolen hash
	LocksPerYear float64 // how often a user locks the account, in a year
	WorkingDays  float64 // in a year
	SignIns      float64 // of the account's owner, on a working day
}

// Usual are the assumptions unless told otherwise: a patient guesser over the
// network; hardware of a few thousand euros on a fast hash; a user who locks
// the account twice a year, and signs in in the morning and after lunch.
var Usual = Assumptions{OnlineRate: 10, OfflineRate: 1e11, LocksPerYear: 2, WorkingDays: 220, SignIns: 2}

// Policy is the settings that a forecast reads. A value that is not set is not
// known.
type Policy func(id setting.ID) setting.Value

// With returns the policy with some values changed.
func (p Policy) With(changes map[setting.ID]setting.Value) Policy {
	return func(id setting.ID) setting.Value {
		if v, ok := changes[id]; ok {
			return v
		}
		return p(id)
	}
}

// Horizon is a time over which guesses are counted.
type Horizon struct {
	Name    string
	Seconds int64
}

// Life is the horizon of a password's whole life, as long as the maximum age.
const Life = "life"

// Horizons over which guesses are counted, in seconds. A night is from closing
// to opening time, a weekend from Friday evening to Monday morning.
var Horizons = []Horizon{{"hour", 3600}, {"night", 14 * 3600}, {"weekend", 62 * 3600}, {"90 days", 90 * day}}

const (
	day  = 24 * 3600
	year = 365 * day
)

// Guesses are those for one account over one horizon.
type Guesses struct {
	Horizon string
	Seconds *int64 // nil: without end
	// UnderLock: at a pace that never locks; IntoLock: on into every lock, and
	// how many locks that leaves behind. nil: the settings set no bound, or are
	// not known.
	UnderLock, IntoLock, Locks *int64
	// Helped is UnderLock where the account's owner signs in as often as is
	// assumed: each time the count is cleared.
	Helped *int64
	// Most is what an attacker gets: the greatest of them.
	Most *int64
	// AtRate is what the stated rate allows, where nothing locks.
	AtRate *int64
}

// Lockout is what governs failed attempts.
type Lockout struct {
	Known     bool
	Never     bool  // nothing locks
	Threshold int64 // failed attempts that lock
	Window    int64 // seconds after which failures are forgotten
	NoWindow  bool  // only a success clears the count
	AtOnce    bool  // every failure starts the count again: none but the first can lock
	SparesOld bool  // a password of two changes ago is not counted
	Duration  int64 // seconds
	ByAdmin   bool  // until an administrator unlocks
	Counting  Counting
	KeepsOn   bool // a success clears nothing
}

// LockoutOf reads the lockout of a policy of a platform. It is known if the threshold is,
// and, where something locks, duration and window, if the platform has one.
func LockoutOf(platform setting.Platform, p Policy) Lockout {
	threshold := p(setting.LockoutThreshold)
	if threshold.Is(setting.Never) {
		return Lockout{Known: true, Never: true, Counting: countings[platform]}
	}
	l := Lockout{Counting: countings[platform], KeepsOn: p(setting.SuccessClears) == setting.Off, SparesOld: sparesOld(platform, p)}
	var okT, okW, okD bool
	l.Threshold, okT = threshold.Number()
	window, duration := p(setting.LockoutWindow), p(setting.LockoutDuration)
	l.Window, okW = window.Number()
	l.NoWindow = window.Is(setting.Never)
	if l.AtOnce = window.Is(setting.AtOnce); l.AtOnce {
		if okT && l.Threshold > 1 {
			l.Known, l.Never = true, true
			return l
		}
		okW = true
	}
	l.Duration, okD = duration.Number()
	l.ByAdmin = duration.Is(setting.UntilAdmin)
	if !window.IsSet() && !setting.Get(setting.LockoutWindow).Exists(platform) {
		l.NoWindow = true // no time is documented after which failures are forgotten
	}
	l.Known = okT && l.Threshold > 0 && (okW || l.NoWindow) && (okD || l.ByAdmin)
	return l
}

// sparesOld reports whether a try with a password of two changes ago is counted
// as no failure. A domain looks at the last two of its history (MS-SAMR
// 3.1.1.8.10; tried on Samba 4.17 with histories of 0 to 3 and 24).
func sparesOld(platform setting.Platform, p Policy) bool {
	n, ok := p(setting.History).Number()
	return ok && n >= 3 && (platform == setting.WindowsDomain || platform == setting.WindowsFineGrained)
}

// rounds is how often something happens in a time, at its beginning and then
// every so many seconds.
func rounds(seconds, every int64) int64 {
	if every <= 0 {
		return math.MaxInt32
	}
	return (seconds + every - 1) / every
}

// Under returns the guesses of who stays below the threshold and waits until
// the failures are forgotten: it never locks.
func (l Lockout) Under(seconds int64) int64 {
	if l.NoWindow {
		return l.Threshold - 1
	}
	return (l.Threshold - 1) * rounds(seconds, l.Window)
}

// Forecast is all figures of one policy.
type Forecast struct {
	Guesses []Guesses
	Lockout Lockout
	// WayBack is the time after which a user can be back on the old password,
	// in seconds; nil: not known.
	WayBack *int64
	// Space is how many passwords of the least length the rules let in; nil: not
	// known. Bits is its logarithm, Exhaust the seconds to try them all on a
	// stolen hash.
	Space   *big.Int
	Bits    *float64
	Exhaust *float64
	Length  int64 // the least; what has to be typed
	// Changes are forced ones, for a user in a year; nil: not known.
	Changes *float64
}

// Of forecasts for a policy of a platform.
func Of(platform setting.Platform, p Policy, a Assumptions) Forecast {
	f := Forecast{Lockout: LockoutOf(platform, p)}
	for _, h := range Horizons {
		seconds := h.Seconds
		f.Guesses = append(f.Guesses, f.guesses(h.Name, &seconds, a))
	}
	age := p(setting.MaxAge)
	if n, ok := age.Number(); ok && n > 0 {
		f.Guesses = append(f.Guesses, f.guesses(Life, &n, a))
		changes := float64(year) / float64(n)
		f.Changes = &changes
	} else if age.Is(setting.Never) {
		f.Guesses = append(f.Guesses, f.guesses(Life, nil, a))
		none := 0.0
		f.Changes = &none
	}
	f.WayBack = wayBack(p)
	if n, ok := p(setting.MinLength).Number(); ok {
		f.Length = n
		f.Space = Space(n, RulesOf(p))
		bits, exhaust := log2(f.Space), ratio(f.Space, a.OfflineRate)
		f.Bits, f.Exhaust = &bits, &exhaust
	}
	return f
}

func (f *Forecast) guesses(name string, seconds *int64, a Assumptions) Guesses {
	g := Guesses{Horizon: name, Seconds: seconds}
	l := f.Lockout
	switch {
	case !l.Known:
	case l.Never && seconds != nil:
		n := int64(a.OnlineRate * float64(*seconds))
		g.AtRate = &n
	case l.Never:
	case seconds != nil:
		// Nobody guesses faster than he can.
		rate := int64(a.OnlineRate * float64(*seconds))
		under := min(l.Under(*seconds), rate)
		into, locks := l.Into(*seconds)
		if into > rate {
			into, locks = rate, max(1, int64(float64(locks)*float64(rate)/float64(into)))
		}
		helped := min(under+l.helped(name, *seconds, a), rate)
		most := max(under, into, helped)
		g.UnderLock, g.IntoLock, g.Locks, g.Helped, g.Most = &under, &into, &locks, &helped, &most
	default:
		// Without end only what an administrator has to end is bounded.
		if l.NoWindow {
			under := l.Threshold - 1
			g.UnderLock = &under
		}
		if l.ByAdmin {
			into, locks := l.Into(0)
			g.IntoLock, g.Locks = &into, &locks
		}
	}
	return g
}

// helped is how many guesses more the owner's own sign-ins give who stays below
// the threshold. By night and on a weekend nobody signs in; an hour is one of
// eight of a working day.
func (l Lockout) helped(horizon string, seconds int64, a Assumptions) int64 {
	if l.KeepsOn {
		return 0
	}
	var signIns float64
	switch horizon {
	case "night", "weekend":
	case "hour":
		signIns = a.SignIns / 8
	default:
		signIns = a.SignIns * math.Floor(a.WorkingDays*float64(seconds)/year)
	}
	return int64(signIns) * (l.Threshold - 1)
}

// wayBack is the history times the minimum age: so long it takes to run
// through the history.
func wayBack(p Policy) *int64 {
	history, ok := p(setting.History).Number()
	if !ok {
		return nil
	}
	n := int64(0)
	if age, isNumber := p(setting.MinAge).Number(); isNumber {
		n = history * age
	} else if !p(setting.MinAge).Is(setting.AtOnce) && history > 0 {
		return nil
	}
	return &n
}

func log2(n *big.Int) float64 {
	if n.Sign() == 0 {
		return 0
	}
	mantissa := new(big.Float)
	exponent := new(big.Float).SetInt(n).MantExp(mantissa)
	m, _ := mantissa.Float64()
	return math.Log2(m) + float64(exponent)
}

func ratio(n *big.Int, rate float64) float64 {
	q, _ := new(big.Float).Quo(new(big.Float).SetInt(n), big.NewFloat(rate)).Float64()
	return min(q, math.MaxFloat64) // a document has no infinity
}

// Scope is what depends on how many accounts live under a policy.
type Scope struct {
	Spray         *int64   // guesses of a weekend, under the lock, against all accounts
	AtOnce        *int64   // guesses of one password tried on all accounts at once; nil: that locks them
	ChangesPerDay *float64 // forced changes on a working day
	CallsPerYear  *float64 // to have accounts unlocked
	Denial        *int64   // failed attempts that lock every account
	DenialEvery   *int64   // seconds after which they must be repeated; nil: once is enough
}

// For returns what follows for so many accounts.
func (f *Forecast) For(accounts int64, a Assumptions) Scope {
	var s Scope
	for _, g := range f.Guesses {
		if g.Horizon == "weekend" && g.UnderLock != nil {
			n := *g.UnderLock * accounts
			s.Spray = &n
		}
	}
	if l := f.Lockout; l.Known && (l.Never || l.Threshold > 1) {
		s.AtOnce = &accounts
	}
	if f.Changes != nil {
		n := *f.Changes * float64(accounts) / a.WorkingDays
		s.ChangesPerDay = &n
	}
	if l := f.Lockout; l.Known && !l.Never {
		n, calls := l.Threshold*accounts, 0.0
		s.Denial = &n
		if l.ByAdmin {
			calls = a.LocksPerYear * float64(accounts)
		} else {
			every := l.Duration
			s.DenialEvery = &every
		}
		s.CallsPerYear = &calls
	} else if l.Known {
		none := 0.0
		s.CallsPerYear = &none
	}
	return s
}
