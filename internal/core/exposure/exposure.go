// Package exposure estimates the chance that somebody gets in as an account within a
// year, as its settings, its flags and its tier allow. It compares, it does not
// foretell: every figure rests on the assumptions in Table.
package exposure

import (
	"math"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/forecast"
	"sternledger/internal/core/setting"
)

// Millionths is a chance, or a sum of chances, in whole millionths: floating point
// differs between processors, and records are compared.
type Millionths int64

// One is certainty, of one account.
const One Millionths = 1_000_000

// Float is the chance as a number; a sum of chances is a number of accounts.
func (m Millionths) Float() float64 { return float64(m) / float64(One) }

// Route is a way in.
type Route int

// The routes. Each is a chance of its own; they are taken together as if they were
// independent.
const (
	Open      Route = iota // nothing has to be guessed: the password is empty
	Guessed                // at the sign-in, against the lockout
	Cracked                // from a stolen store
	Read                   // from a store that holds passwords which can be read back
	Requested              // anybody may ask for something to guess at offline
	Known                  // from elsewhere: reused, phished, or resembling an old one
	routes
)

// RouteNames are what pages call the routes, and RouteKeys what documents do.
var (
	RouteNames = [routes]string{"empty", "guessed", "cracked", "read back", "asked for", "known"}
	RouteKeys  = [routes]string{"empty", "guessed", "cracked", "read_back", "asked_for", "known"}
)

// Chances are those of each route, of one account in a year.
type Chances [routes]float64

// Together is the chance by any of the routes.
func (c *Chances) Together() Millionths { return c.without(-1) }

// without is the chance by any route but one.
func (c *Chances) without(left Route) Millionths {
	none := 1.0
	for i, p := range c {
		if Route(i) != left {
			none *= 1 - p
		}
	}
	return Millionths(math.Round((1 - none) * float64(One)))
}

// Guesses is the share of passwords that people choose which the first so many guesses
// find.
func (a *Assumptions) Guesses(n float64) float64 {
	switch {
	case n < 1:
		return 0
	case n <= 1e6:
		return min(a[headFactor]*math.Pow(n, a[headPower]), a[bodyFactor]*math.Pow(n, a[bodyPower]))
	}
	return min(a[tailStart]+a[tailSlope]*math.Log10(n/1e6), a[mostGuessed])
}

// read are the settings that the model reads, with the values that make it least and
// most: what is not known is played with both.
var read = [...]struct {
	id           setting.ID
	strict, weak setting.Value
}{
	{setting.MinLength, setting.Number(127), setting.Number(0)},
	{setting.Complexity, setting.On, setting.Off},
	{setting.ClassesRequired, setting.Number(4), setting.Number(0)},
	{setting.RequireLower, setting.Number(1), setting.Number(0)},
	{setting.RequireUpper, setting.Number(1), setting.Number(0)},
	{setting.RequireDigit, setting.Number(1), setting.Number(0)},
	{setting.RequireSymbol, setting.Number(1), setting.Number(0)},
	{setting.DictionaryCheck, setting.On, setting.Off},
	{setting.Blocklist, setting.On, setting.Off},
	{setting.BannedList, setting.On, setting.Off},
	{setting.History, setting.Number(65535), setting.Number(0)},
	{setting.MinAge, setting.Number(998 * day), setting.Of(setting.AtOnce)},
	{setting.MaxAge, setting.Number(day), setting.Of(setting.Never)},
	{setting.Reversible, setting.Off, setting.On},
	{setting.LMHashStored, setting.Off, setting.On},
	{setting.HashMethod, setting.Word("yescrypt"), setting.Word("des")},
	{setting.HashRounds, setting.Number(11), setting.Number(0)},
	{setting.BlankPasswordConsoleOnly, setting.On, setting.Off},
	{setting.LockoutThreshold, setting.Number(1), setting.Of(setting.Never)},
	{setting.LockoutDuration, setting.Of(setting.UntilAdmin), setting.Number(1)},
	{setting.LockoutWindow, setting.Of(setting.Never), setting.Number(1)},
	{setting.SuccessClears, setting.Off, setting.On},
	{setting.LockoutAdministrator, setting.On, setting.Off},
	{setting.EmptyAccepted, setting.Off, setting.On},
	{setting.SecondFactor, setting.Word("all"), setting.Word("none")},
	{setting.ManagedAdmin, setting.Word("directory"), setting.Word("off")},
}

// Reads reports whether the model reads a setting.
func Reads(id setting.ID) bool { _, ok := column[id]; return ok }

// column is where each setting stands in values.
var column = func() map[setting.ID]int {
	at := map[setting.ID]int{}
	for i, r := range read {
		at[r.id] = i
	}
	return at
}()

// values are what holds for an account of the settings that are read; the zero Value
// where a place has no such setting, or nothing is set. Each has a number too, the same
// for equal values, by which accounts are compared quickly.
type values struct {
	v  [len(read)]setting.Value
	id [len(read)]uint16
}

func (v *values) of(id setting.ID) setting.Value { return v.v[column[id]] }

const (
	day  = 24 * 3600
	year = 365 * day
	week = 7 * day
	// A weekend from Friday evening to Monday morning: long enough that nobody notices.
	weekend = 62 * 3600
	// mostAtDoor is what a service answers at most before somebody notices.
	mostAtDoor = 1e6
)

// inputs is everything that a chance follows from.
type inputs struct {
	v values
	key
}

// key is the same for inputs of equal chances: those of thousands of machines are worked
// out once.
type key struct {
	ids               [len(read)]uint16
	platform, counter setting.Platform
	flags             estate.Flag
	root              bool // rules may not bind it
	local             bool // the administrator that every machine has
	outside           bool // its sign-in is open to the Internet
	// A tenant's sign-in beside the domain's own: the same password opens both.
	beyond           bool
	beyondCounter    setting.Platform
	threshold        setting.Value
	duration, window setting.Value
	factor           setting.Value
	beyondFlags      estate.Flag
}

// slower is what part of the fast rate each way of hashing allows, at its usual cost.
var slower = map[string]float64{"des": 4e-2, "md5": 5e-4, "sha256": 2e-5, "sha512": 1e-5, "bcrypt": 2e-7, "yescrypt": 1e-7}

// usualCost is the cost at which those rates are.
var usualCost = map[string]float64{"sha256": 5000, "sha512": 5000, "bcrypt": 10, "yescrypt": 5}

// crackRate is how many guesses a second a stolen hash allows.
func (a *Assumptions) crackRate(in *inputs) float64 {
	if tenant(in.platform) {
		return a[TenantRate]
	}
	method, ok := in.v.of(setting.HashMethod).Word()
	part, known := slower[method]
	if !ok || !known {
		return a[FastRate]
	}
	rate := a[FastRate] * part
	cost, ok := in.v.of(setting.HashRounds).Number()
	switch {
	case !ok || cost <= 0:
	case method == "sha256" || method == "sha512":
		rate *= usualCost[method] / float64(cost)
	case method == "bcrypt" || method == "yescrypt":
		rate *= math.Exp2(usualCost[method] - float64(cost))
	}
	return rate
}

func tenant(p setting.Platform) bool {
	switch p {
	case setting.CloudDirectory, setting.CloudInfra, setting.WorkplaceSuite, setting.IdentityProvider:
		return true
	}
	return false
}

// left is what part of the guessable passwords the rules leave.
func (a *Assumptions) left(in *inputs) float64 {
	if in.flags&estate.NoneRequired != 0 {
		return 1
	}
	length, _ := in.v.of(setting.MinLength).Number()
	w := 1 / (1 + math.Exp2((float64(length)-a[HalfLength])/a[LengthStep]))
	if in.v.classes() >= 3 {
		w *= a[Classes]
	}
	if in.v.banned() {
		w *= a[Banned]
	}
	w = max(w, a[LeastLeft])
	if in.root {
		w = (w + 1) / 2 // with the rules, and without
	}
	return w
}

// classes is how many classes of characters have to occur.
func (v *values) classes() int64 {
	n, _ := v.of(setting.ClassesRequired).Number()
	if v.of(setting.Complexity) == setting.On {
		n = max(n, 3)
	}
	each := int64(0)
	for _, id := range []setting.ID{setting.RequireLower, setting.RequireUpper, setting.RequireDigit, setting.RequireSymbol} {
		if least, _ := v.of(id).Number(); least > 0 {
			each++
		}
	}
	return max(n, each)
}

func (v *values) banned() bool {
	return v.of(setting.BannedList) == setting.On || v.of(setting.Blocklist) == setting.On || v.of(setting.DictionaryCheck) == setting.On
}

// found is the share of passwords that so many guesses find: of what people choose what
// the rules leave, and of the rest those of just the minimum length, as far as the
// guesses go through all of these.
func (a *Assumptions) found(in *inputs, guesses float64) float64 {
	length := 0.0
	if in.flags&estate.NoneRequired == 0 {
		n, _ := in.v.of(setting.MinLength).Number()
		length = float64(n)
	}
	chosen := a.left(in) * a.Guesses(guesses)
	whole := min(1, guesses/math.Pow(95, max(length, a[Shortest])))
	return chosen + (1-chosen)*a[LeastLength]*whole
}

// atDoor is how many guesses one weekend allows at a sign-in, without the account's
// owner.
func atDoor(counter setting.Platform, threshold, duration, window setting.Value, successClears setting.Value) float64 {
	lock := forecast.LockoutOf(counter, func(id setting.ID) setting.Value {
		switch id {
		case setting.LockoutThreshold:
			return threshold
		case setting.LockoutDuration:
			return duration
		case setting.LockoutWindow:
			return window
		case setting.SuccessClears:
			return successClears
		}
		return setting.Value{}
	})
	if !lock.Known || lock.Never {
		return mostAtDoor
	}
	into, _ := lock.Into(weekend)
	guesses := max(lock.Under(weekend), into)
	if !lock.ByAdmin && !lock.NoWindow && lock.Duration < lock.Window {
		// A lock that is longer than the window gives a whole new set of attempts: one that
		// is shorter is not taken for worse.
		lock.Duration = lock.Window
		into, _ = lock.Into(weekend)
		guesses = max(guesses, into)
	}
	return min(float64(guesses), mostAtDoor)
}

// factor is what a second factor leaves of what is got by a password.
func (a *Assumptions) factor(asked setting.Value, flags estate.Flag) float64 {
	word, _ := asked.Word()
	switch {
	case flags&estate.FactorRequired != 0, word == "all" && flags&(estate.FactorOptional|estate.FactorAtTimes) == 0:
		return a[FactorPassed]
	}
	return 1
}

// chances works out the routes of an account.
func (a *Assumptions) chances(in *inputs) (c Chances) {
	if in.flags&none != 0 {
		return c
	}
	if in.local {
		if word, _ := in.v.of(setting.ManagedAdmin).Word(); word == "directory" || word == "cloud" {
			return c // its password is generated
		}
	}
	factor := a.factor(in.v.of(setting.SecondFactor), in.flags)
	c[Open] = a.open(in) * factor
	attacked, elsewhere := a[DoorInside], a[KnownInside]
	if in.outside {
		attacked, elsewhere = a[Door], 1
	}
	threshold := in.v.of(setting.LockoutThreshold)
	if in.root && in.v.of(setting.LockoutAdministrator) == setting.Off {
		threshold = setting.Of(setting.Never)
	}
	guesses := atDoor(in.counter, threshold, in.v.of(setting.LockoutDuration), in.v.of(setting.LockoutWindow), in.v.of(setting.SuccessClears))
	c[Guessed] = attacked * a.found(in, guesses) * factor
	known := a.known(in)
	c[Known] = known * elsewhere * factor
	if in.beyond {
		there := a.factor(in.factor, in.beyondFlags)
		guesses := atDoor(in.beyondCounter, in.threshold, in.duration, in.window, setting.Value{})
		c[Guessed] = 1 - (1-c[Guessed])*(1-a[Door]*a.found(in, guesses)*there)
		c[Known] = max(c[Known], known*there)
	}
	stolen := a[Stolen]
	if tenant(in.platform) && in.flags&estate.Synced == 0 {
		stolen = a[StolenTenant]
	}
	c[Cracked] = stolen * a.found(in, a.crackRate(in)*day)
	if in.v.of(setting.Reversible) == setting.On || in.flags&estate.Reversible != 0 || in.v.of(setting.LMHashStored) == setting.On {
		c[Read] = a[ReadBack]
	}
	if in.flags&(estate.NoPreauth|estate.ServiceName) != 0 {
		c[Requested] = a[Asked] * a.found(in, a[FastRate]*day)
	}
	return c
}

// open is the chance that nothing has to be guessed.
func (a *Assumptions) open(in *inputs) float64 {
	console := in.platform == setting.WindowsMachine && in.v.of(setting.BlankPasswordConsoleOnly) == setting.On
	length, known := in.v.of(setting.MinLength).Number()
	switch {
	case in.flags&estate.EmptyPassword != 0 && in.platform == setting.UnixMachine && in.v.of(setting.EmptyAccepted) != setting.On:
		return 0
	case in.flags&estate.EmptyPassword != 0 && console:
		return a[EmptyByFlag]
	case in.flags&estate.EmptyPassword != 0:
		return 1
	case in.flags&estate.NoneRequired != 0 && !console:
		return a[EmptyByFlag]
	case in.flags&estate.NoneRequired != 0, in.v.of(setting.EmptyAccepted) == setting.On,
		known && length == 0 && !console && (in.platform == setting.WindowsDomain || in.platform == setting.WindowsMachine):
		return a[EmptyTaken]
	}
	return 0
}

// known is the chance that a password becomes known elsewhere, wherever it can be used.
func (a *Assumptions) known(in *inputs) float64 {
	mean := a[NeverAge]
	if age, ok := in.v.of(setting.MaxAge).Number(); ok && age > 0 && in.flags&estate.NeverExpires == 0 {
		mean = min(mean, float64(age)/2/year)
	}
	always := a[Reused] * a[NeverAge]
	p := a[Reused] * mean
	p += a[Successor] * (always - p)
	history, _ := in.v.of(setting.History).Number()
	minimum, _ := in.v.of(setting.MinAge).Number()
	if minimum == 0 || history <= week/minimum {
		p += a[WayBackOpen]
	}
	return min(p, 1)
}

// none are the flags of accounts that no password of a person's choice opens here:
// a guest's and a federated account's is another place's.
const none = estate.Disabled | estate.SmartCard | estate.Guest | estate.Federated
