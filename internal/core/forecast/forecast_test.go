package forecast

import (
	"fmt"
	"math"
	"math/big"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/setting"
)

// policy reads settings as people write them: "min-length 8; history 24".
func policy(t testing.TB, text string) Policy {
	t.Helper()
	values := map[setting.ID]setting.Value{}
	for _, part := range strings.Split(text, ";") {
		id, value, ok := strings.Cut(strings.TrimSpace(part), " ")
		if !ok {
			continue
		}
		v, err := setting.Get(setting.ID(id)).Parse(value)
		if err != nil {
			t.Fatal(err)
		}
		values[setting.ID(id)] = v
	}
	return func(id setting.ID) setting.Value { return values[id] }
}

func show(n *int64) string {
	if n == nil {
		return "-"
	}
	return fmt.Sprint(*n)
}

// By hand: batches at the beginning and then every window or duration.
func TestGuesses(t *testing.T) {
	for _, c := range []struct{ settings, want string }{
		// 5 tries, quarter of an hour: 4 in each of 4, 56, 248, 8640 quarters; a year has 35040.
		{"lockout-threshold 5; lockout-window 15m; lockout-duration 15m; max-age 365d",
			"16/20/4 224/280/56 992/1240/248 34560/43200/8640 140160/175200/35040"},
		{"lockout-threshold 10; lockout-window 10m; lockout-duration 30m; max-age 42d",
			"54/20/2 756/280/28 3348/1240/124 116640/43200/4320 54432/20160/2016"},
		{"lockout-threshold 3; lockout-window 30m; lockout-duration until-admin; max-age never", "4/3/1 56/3/1 248/3/1 8640/3/1 -/3/1"},
		{"lockout-threshold 3; lockout-window never; lockout-duration until-admin; max-age never", "2/3/1 2/3/1 2/3/1 2/3/1 2/3/1"},
		// The failures outlive the lock: after the first, one guess for each lock.
		{"lockout-threshold 5; lockout-window 60m; lockout-duration 10m", "4/10/6 56/88/84 248/376/372 8640/12964/12960"},
		{"lockout-threshold 1; lockout-window 60m; lockout-duration 60m", "0/1/1 0/14/14 0/62/62 0/2160/2160"},
		{"lockout-threshold never", "-/-/-@36000 -/-/-@504000 -/-/-@2232000 -/-/-@77760000"},
		{"lockout-threshold never; max-age never", "-/-/-@36000 -/-/-@504000 -/-/-@2232000 -/-/-@77760000 -/-/-"},
		{"", "-/-/- -/-/- -/-/- -/-/-"},
		{"lockout-threshold 5", "-/-/- -/-/- -/-/- -/-/-"},
		{"lockout-threshold 10; lockout-duration 60 seconds", "-/-/- -/-/- -/-/- -/-/-"}, // a domain's window must be known
	} {
		f := Of(setting.WindowsDomain, policy(t, c.settings), Usual)
		var got []string
		for _, g := range f.Guesses {
			text := show(g.UnderLock) + "/" + show(g.IntoLock) + "/" + show(g.Locks)
			if g.AtRate != nil {
				text += "@" + show(g.AtRate)
			}
			got = append(got, text)
		}
		if text := strings.Join(got, " "); text != c.want {
			t.Errorf("%s:\n%s, want\n%s", c.settings, text, c.want)
		}
	}
}

// door is a lockout as its system counts, failure by failure; see Counting.
type door struct {
	Lockout
	failures     []int64 // when
	until, locks int64   // the end of the last lock, and how many
	shut, open   bool
}

// try is a failed attempt; false: the door is locked.
func (d *door) try(now int64) bool {
	if d.locks > 0 && (d.ByAdmin || now < d.until) {
		return false
	}
	if d.shut { // a lock has ended
		d.shut, d.open = false, d.Counting == Spared
		if d.Counting == Sliding || d.Counting == Afresh {
			d.failures = nil
		}
	}
	if !d.NoWindow && len(d.failures) > 0 {
		first, last := d.failures[0], d.failures[len(d.failures)-1]
		switch {
		case d.Counting == Quiet && now-last >= d.Window, d.Counting == Stretch && now-first >= d.Window:
			d.failures = nil
		case d.Counting == Sliding || d.Counting == Spared:
			d.failures = slices.DeleteFunc(d.failures, func(at int64) bool { return now-at >= d.Window })
		}
	}
	d.failures = append(d.failures, now)
	if d.open {
		d.open = false
	} else if int64(len(d.failures)) >= d.Threshold {
		d.until, d.locks, d.shut = now+d.Shut(), d.locks+1, true
	}
	return true
}

// A guesser who is played second by second gets as many through as is said, however
// the system counts.
func TestGuessesPlayed(t *testing.T) {
	rnd := rand.New(rand.NewPCG(7, 8))
	for range 3000 {
		l := Lockout{Known: true, Threshold: 1 + rnd.Int64N(6), Window: 1 + rnd.Int64N(40), Duration: 1 + rnd.Int64N(40),
			Counting: Counting(rnd.IntN(int(Stretch) + 1)), ByAdmin: rnd.IntN(8) == 0}
		l.NoWindow = l.Counting == Afresh || l.Counting == Lengthens || rnd.IntN(8) == 0
		seconds := 1 + rnd.Int64N(300)
		careful, under := door{Lockout: l}, int64(0)
		for now := range seconds {
			for {
				before := careful
				before.failures = slices.Clone(careful.failures)
				if !careful.try(now) || careful.locks > 0 {
					careful = before // this one is left out
					break
				}
				under++
			}
		}
		if under != l.Under(seconds) {
			t.Fatalf("%+v in %d s: %d under the lock, played %d", l, seconds, l.Under(seconds), under)
		}
		bold, into := door{Lockout: l}, int64(0)
		for now := range seconds {
			for bold.try(now) {
				into++
			}
		}
		if guesses, locks := l.Into(seconds); guesses != into || locks != bold.locks {
			t.Fatalf("%+v in %d s: %d into %d locks, played %d into %d", l, seconds, guesses, locks, into, bold.locks)
		}
	}
}

// A platform that has no window is given none.
func TestGuessesWithoutWindow(t *testing.T) {
	for _, c := range []struct {
		on             setting.Platform
		settings, want string
	}{
		{setting.CloudDirectory, "lockout-threshold 10; lockout-duration 60 seconds", "9/69/60 9/849/840 9/3729/3720 9/129609/129600"},
		{setting.IdentityProvider, "lockout-threshold 10; lockout-duration 60 seconds", "9/600/60 9/8400/840 9/37200/3720 9/1296000/129600"},
		{setting.IdentityProvider, "lockout-threshold 5; lockout-duration until-admin", "4/5/1 4/5/1 4/5/1 4/5/1"},
	} {
		var got []string
		for _, g := range Of(c.on, policy(t, c.settings), Usual).Guesses {
			got = append(got, show(g.UnderLock)+"/"+show(g.IntoLock)+"/"+show(g.Locks))
		}
		if text := strings.Join(got, " "); text != c.want {
			t.Errorf("%s: %s: %s, want %s", c.on, c.settings, text, c.want)
		}
	}
}

// What an attacker gets is the greater pace; an owner who signs in gives more;
// nobody is faster than the stated rate.
func TestMostAndHelped(t *testing.T) {
	a := Usual
	for _, c := range []struct {
		settings string
		signIns  float64
		want     string // of an hour, a weekend, 90 days: most/helped
	}{
		{"lockout-threshold 5; lockout-window 15m; lockout-duration 15m", 0, "20/16 1240/992 43200/34560"},
		// 54 working days in 90, and one sign-in in an hour of eight.
		{"lockout-threshold 5; lockout-window 15m; lockout-duration 15m", 8, "20/20 1240/992 43200/36288"},
		{"lockout-threshold 5; lockout-window never; lockout-duration until-admin", 2, "5/4 5/4 436/436"},
		{"lockout-threshold 5; lockout-window never; lockout-duration until-admin; success-clears off", 2, "5/4 5/4 5/4"},
		{"lockout-threshold 500; lockout-window 1 second; lockout-duration 1 second", 0, "36000/36000 2232000/2232000 77760000/77760000"},
	} {
		a.SignIns = c.signIns
		f := Of(setting.WindowsDomain, policy(t, c.settings), a)
		var got []string
		for _, i := range []int{0, 2, 3} {
			got = append(got, show(f.Guesses[i].Most)+"/"+show(f.Guesses[i].Helped))
		}
		if text := strings.Join(got, " "); text != c.want {
			t.Errorf("%s, %v sign-ins: %s, want %s", c.settings, c.signIns, text, c.want)
		}
	}
	for settings, want := range map[string]string{"lockout-threshold 5; lockout-window 15m; lockout-duration 15m": "40",
		"lockout-threshold 1; lockout-window 15m; lockout-duration 15m": "-", "lockout-threshold never": "40"} {
		f := Of(setting.WindowsDomain, policy(t, settings), a)
		if got := show(f.For(40, a).AtOnce); got != want {
			t.Errorf("%s: one guess on all: %s, want %s", settings, got, want)
		}
	}
}

func TestWayBackAndChanges(t *testing.T) {
	for settings, want := range map[string]string{
		"history 24; min-age 1d; max-age 365d": "2073600 1", "history 24; min-age at-once; max-age 73d": "0 5", "history 0; min-age 1d": "0 ?",
		"history 0": "0 ?", "history 24": "- ?",
		"min-age 1d; max-age never": "- 0", "history 24; min-age 2d; max-age 30d": "4147200 12.17",
	} {
		f := Of(setting.WindowsDomain, policy(t, settings), Usual)
		changes := "?"
		if f.Changes != nil {
			changes = strings.TrimSuffix(strings.TrimRight(fmt.Sprintf("%.2f", *f.Changes), "0"), ".")
		}
		if got := show(f.WayBack) + " " + changes; got != want {
			t.Errorf("%s: %s, want %s", settings, got, want)
		}
	}
}

// Counting one by one, over short passwords and small alphabets, comes to the
// same as the formula.
func TestSpace(t *testing.T) {
	saved := Sizes
	defer func() { Sizes = saved }()
	rnd := rand.New(rand.NewPCG(9, 10))
	for range 60 {
		for i := range Sizes {
			Sizes[i] = 1 + rnd.Int64N(3)
		}
		length := rnd.IntN(6)
		r := Rules{Classes: rnd.Int64N(5)}
		for i := range r.Least {
			r.Least[i] = rnd.Int64N(3)
		}
		var alphabet []int
		for class, size := range Sizes {
			for range size {
				alphabet = append(alphabet, class)
			}
		}
		want, word := int64(0), make([]int, length)
		for {
			var have [4]int64
			classes := int64(0)
			for _, c := range word {
				have[alphabet[c]]++
			}
			ok := true
			for i := range have {
				ok = ok && have[i] >= r.Least[i]
				if have[i] > 0 {
					classes++
				}
			}
			if ok && classes >= r.Classes {
				want++
			}
			i := 0
			for ; i < length; i++ {
				if word[i]++; word[i] < len(alphabet) {
					break
				}
				word[i] = 0
			}
			if i == length {
				break
			}
		}
		if got := Space(int64(length), r); got.Cmp(big.NewInt(want)) != 0 {
			t.Fatalf("%d characters of %v under %+v: %s, counted %d", length, Sizes, r, got, want)
		}
	}
}

func TestSpaceOfPolicies(t *testing.T) {
	for settings, want := range map[string]float64{
		"min-length 8": 8 * math.Log2(95), "min-length 0": 0, "min-length 14; complexity off": 14 * math.Log2(95),
		// Inclusion and exclusion by hand: at least three of the four classes.
		"min-length 3; complexity on": math.Log2(6 * (26*26*10 + 26*26*33 + 2*26*10*33)),
		"min-length 2; complexity on": 0, "min-length 1; require-digit 1": math.Log2(10),
		"min-length 128; classes-required 1": 128 * math.Log2(95),
	} {
		f := Of(setting.WindowsDomain, policy(t, settings), Usual)
		if math.Abs(*f.Bits-want) > 1e-6 {
			t.Errorf("%s: %.6f bits, want %.6f", settings, *f.Bits, want)
		}
	}
	f := Of(setting.WindowsDomain, policy(t, "min-length 7; complexity off"), Usual)
	if *f.Exhaust < 690 || *f.Exhaust > 700 { // 95^7 = 6.98e13 at 1e11 a second
		t.Errorf("%v seconds", *f.Exhaust)
	}
}

func TestForAccounts(t *testing.T) {
	p := policy(t, "lockout-threshold 5; lockout-window 15m; lockout-duration 15m; max-age 73d")
	f := Of(setting.WindowsDomain, p, Usual)
	s := f.For(220, Usual)
	if *s.Spray != 992*220 || *s.Denial != 1100 || *s.DenialEvery != 900 || *s.CallsPerYear != 0 || *s.ChangesPerDay != 5 {
		t.Errorf("%s %s %s %v %v", show(s.Spray), show(s.Denial), show(s.DenialEvery), *s.CallsPerYear, *s.ChangesPerDay)
	}
	until, _ := setting.Get("lockout-duration").Parse("until-admin")
	f = Of(setting.WindowsDomain, p.With(map[setting.ID]setting.Value{"lockout-duration": until}), Usual)
	if s := f.For(10, Usual); *s.CallsPerYear != 20 || s.DenialEvery != nil || *f.Guesses[2].IntoLock != 5 {
		t.Errorf("until an administrator: %v calls, %s into the lock", *s.CallsPerYear, show(f.Guesses[2].IntoLock))
	}
	f = Of(setting.WindowsDomain, policy(t, "lockout-threshold never"), Usual)
	if s := f.For(10, Usual); s.Denial != nil || s.Spray != nil || *s.CallsPerYear != 0 {
		t.Errorf("where nothing locks: %+v", s)
	}
}

// A domain looks at the last two of its history; nothing else does.
func TestSparesOld(t *testing.T) {
	for _, c := range []struct {
		on      setting.Platform
		history string
		spares  bool
	}{
		{setting.WindowsDomain, "history 3", true}, {setting.WindowsDomain, "history 2", false}, {setting.WindowsDomain, "", false},
		{setting.WindowsFineGrained, "history 24", true}, {setting.WindowsMachine, "history 24", false}, {setting.LDAPDirectory, "history 24",
			false},
	} {
		text := "lockout-threshold 5; lockout-window 15m; lockout-duration 15m; " + c.history
		if got := LockoutOf(c.on, policy(t, text)).SparesOld; got != c.spares {
			t.Errorf("%s, %s: %v", c.on, c.history, got)
		}
	}
}

// A slow guesser is bounded by the rate: guesses and locks alike.
func TestNobodyIsFaster(t *testing.T) {
	for _, c := range []struct {
		rate float64
		want string // of an hour: under/into/locks/helped/most
	}{{10, "3600/3600/720/3600/3600"}, {0.5, "1800/1800/360/1800/1800"}, {0.001, "3/3/1/3/3"}, {0, "0/0/1/0/0"}} {
		a := Usual
		a.OnlineRate = c.rate
		g := Of(setting.UnixMachine, policy(t, "lockout-threshold 5; lockout-window 4s; lockout-duration 4s"), a).Guesses[0]
		if got := fmt.Sprintf("%s/%s/%s/%s/%s", show(g.UnderLock), show(g.IntoLock), show(g.Locks), show(g.Helped), show(g.Most)); got != c.want {
			t.Errorf("%v a second: %s, want %s", c.rate, got, c.want)
		}
	}
}
