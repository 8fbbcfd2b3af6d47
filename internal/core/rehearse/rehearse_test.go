package rehearse

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/forecast"
	"sternledger/internal/core/setting"
)

func TestPlay(t *testing.T) {
	short := map[Kind]string{Failure: "f", Success: "s", Refused: "r", Locked: "LOCK", Opened: "OPEN", Restarts: "zero", Uncounted: "OLD"}
	normal := forecast.Lockout{Known: true, Threshold: 3, Window: 60, Duration: 120}
	for _, c := range []struct {
		name     string
		l        forecast.Lockout
		by       forecast.Counting
		timeline string
		want     string
	}{
		{"three lock", normal, forecast.Quiet, "0 wrong|10s wrong|20s wrong|30s right|140s right",
			"0f1 10f2 20f3 20LOCK3 30r3 80zero0 140OPEN0 140s0"},
		{"a quiet time forgets all", normal, forecast.Quiet, "0 wrong|50s wrong|110s wrong|120s wrong", "0f1 50f2 110zero0 110f1 120f2"},
		{"sliding forgets one by one", normal, forecast.Sliding, "0 wrong|50s wrong|70s wrong|100s wrong", "0f1 50f2 70f2 100f3 100LOCK3"},
		{"quiet would have locked later", normal, forecast.Quiet, "0 wrong|50s wrong|70s wrong", "0f1 50f2 70f3 70LOCK3"},
		{"a success clears", normal, forecast.Quiet, "0 wrong|1s wrong|2s right|3s wrong|4s wrong", "0f1 1f2 2s0 3f1 4f2"},
		{"the failures outlive the lock", forecast.Lockout{Known: true, Threshold: 2, Window: 100, Duration: 10}, forecast.Quiet,
			"0 wrong|0 wrong|10s wrong|15s right|20s right", "0f1 0f2 0LOCK2 10OPEN2 10f3 10LOCK3 15r3 20OPEN3 20s0"},
		{"until an administrator", forecast.Lockout{Known: true, Threshold: 1, Window: 10, ByAdmin: true}, forecast.Quiet,
			"0 wrong|5h right", "0f1 0LOCK1 10zero0 18000r0"},
		{"only a success forgets", forecast.Lockout{Known: true, Threshold: 2, NoWindow: true, Duration: 60}, forecast.Quiet,
			"0 wrong|10d wrong|11d wrong", "0f1 864000f2 864000LOCK2 864060OPEN2 950400f3 950400LOCK3"},
		{"the module forgets all when a lock ends", forecast.Lockout{Known: true, Threshold: 2, Window: 100, Duration: 10},
			forecast.Sliding, "0 wrong|0 wrong|12s wrong|13s wrong|14s right", "0f1 0f2 0LOCK2 11OPEN0 12f1 13f2 13LOCK2 14r2"},
		{"the first after a lock is spared", forecast.Lockout{Known: true, Threshold: 2, Window: 100, Duration: 10}, forecast.Spared,
			"0 wrong|0 wrong|12s wrong|13s wrong|14s right", "0f1 0f2 0LOCK2 10OPEN2 12f3 13f4 13LOCK4 14r4"},
		{"a success clears nothing",
			forecast.LockoutOf("unix-machine", policy("lockout-threshold 2 lockout-window 60 lockout-duration 5 success-clears off")),
			forecast.Sliding, "0 wrong|1s right|9s wrong|14s right|15s right", "0f1 1s1 9f2 9LOCK2 14r2 15OPEN0 15s0"},
		{"nothing locks", forecast.Lockout{Known: true, Never: true}, forecast.Quiet, "0 wrong|1s wrong|2s wrong", "0f1 1f2 2f3"},
		{"a window of 0 locks nothing",
			forecast.LockoutOf("windows-domain", policy("lockout-threshold 2 lockout-window at-once lockout-duration 60")), forecast.Quiet,
			"0 wrong|0 wrong|0 wrong|1s right", "0f1 0f1 0f1 1s0"},
		{"but where the first failure locks",
			forecast.LockoutOf("windows-domain", policy("lockout-threshold 1 lockout-window at-once lockout-duration 60")), forecast.Quiet,
			"0 wrong|1s wrong|60s wrong", "0f1 0LOCK1 1r1 60OPEN1 60f1 60LOCK1"},
		{"an old password is not counted",
			forecast.LockoutOf("windows-domain", policy("lockout-threshold 2 lockout-window 60 lockout-duration 60 history 3")),
			forecast.Quiet, "0 old|0 wrong|0 old|0 wrong|1s old", "0OLD0 0f1 0OLD1 0f2 0LOCK2 1r2"},
		{"but where no history is kept",
			forecast.LockoutOf("windows-domain", policy("lockout-threshold 2 lockout-window 60 lockout-duration 60 history 2")),
			forecast.Quiet, "0 old|0 old", "0f1 0f2 0LOCK2"},
		{"or elsewhere", forecast.LockoutOf("unix-machine", policy("lockout-threshold 2 lockout-window 60 lockout-duration 60 history 24")),
			forecast.Sliding, "0 old|0 old", "0f1 0f2 0LOCK2"},
	} {
		tries, err := Timeline("t", strings.ReplaceAll(c.timeline, "|", "\n"))
		if err != nil {
			t.Fatal(err)
		}
		c.l.Counting = c.by
		var got []string
		for _, e := range Play(c.l, tries) {
			got = append(got, fmt.Sprintf("%d%s%d", e.Seconds, short[e.Kind], e.Count))
		}
		if text := strings.Join(got, " "); text != c.want {
			t.Errorf("%s:\n%s, want\n%s", c.name, text, c.want)
		}
	}
}

// policy reads settings: numbers of seconds or of tries, and specials.
func policy(text string) forecast.Policy {
	f := strings.Fields(text)
	return func(id setting.ID) setting.Value {
		i := slices.Index(f, string(id))
		if i < 0 {
			return setting.Value{}
		}
		var v setting.Value
		_ = v.UnmarshalText([]byte(f[i+1]))
		return v
	}
}

// What the forecast says of a pace, the rehearsal shows, however it is counted.
func TestPlayAgainstForecast(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 4))
	for range 600 {
		l := forecast.Lockout{Known: true, Threshold: 1 + rnd.Int64N(6), Window: 1 + rnd.Int64N(40), Duration: 1 + rnd.Int64N(40),
			NoWindow: rnd.IntN(8) == 0, Counting: forecast.Counting(rnd.IntN(3))}
		if rnd.IntN(3) == 0 { // without a window
			l.NoWindow, l.Counting = true, forecast.Afresh+forecast.Counting(rnd.IntN(2))
		}
		seconds := 1 + rnd.Int64N(400)
		var into []SignIn
		for now := int64(0); now < seconds; now += l.Shut() {
			for range l.Threshold + 2 {
				into = append(into, SignIn{Seconds: now})
			}
		}
		guesses, locks := l.Into(seconds)
		if s := Summed(Play(l, into)); int64(s.Failures) != guesses || int64(s.Locks) != locks {
			t.Fatalf("%+v in %d s: %d failures, %d locks; the forecast says %d into %d", l, seconds, s.Failures, s.Locks, guesses, locks)
		}
		if l.Threshold > 1 && !l.NoWindow {
			under, _ := Series(l.Threshold-1, l.Window, seconds)
			if s := Summed(Play(l, under)); s.Locks != 0 || int64(s.Failures) != l.Under(seconds) {
				t.Fatalf("%+v in %d s: %+v, the forecast says %d", l, seconds, s, l.Under(seconds))
			}
		}
	}
}

func TestTimelines(t *testing.T) {
	all, err := Timeline("t", "# Friday\n0 wrong\n\n1.5h wrong")
	if err == nil {
		t.Errorf("a fraction: %v", all)
	}
	all, err = Timeline("t", "# Friday\n0 wrong\n\n10 minutes wrong # again\n\t1h\tright\r\n")
	if err != nil || fmt.Sprint(all) != "[{0 0} {600 0} {3600 1}]" {
		t.Errorf("%v %v", all, err)
	}
	for text, want := range map[string]string{"": "no sign-in", "wrong": `t:1: "wrong"; expected TIME wrong`, "5m maybe": `t:1: "maybe"`,
		"\n5 wrong": "t:2: \"5\" is no time with a unit", "-5m wrong": "from the beginning",
		"5m wrong\n4m wrong": "t:2: \"4m\" is before the line above", "never wrong": "no time from the beginning"} {
		if _, err := Timeline("t", text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
	for _, s := range [][3]int64{{0, 1, 1}, {1, 0, 1}, {1, 1, 0}, {1, 1, 1 << 40}, {-1, 5, 5}} {
		if _, err := Series(s[0], s[1], s[2]); err == nil {
			t.Errorf("%v is taken", s)
		}
	}
	if all, err := Series(2, 60, 150); err != nil || fmt.Sprint(all) != "[{0 0} {0 0} {60 0} {60 0} {120 0} {120 0}]" {
		t.Errorf("%v %v", all, err)
	}
}

func TestSeriesIsBounded(t *testing.T) {
	for _, c := range []struct {
		tries, every, during int64
		want                 int
	}{{1, 1, mostTries, mostTries}, {1, 1, mostTries + 1, 0}, {mostTries, 1, 1, mostTries}, {mostTries + 1, 1, 1, 0},
		{2, 1, mostTries / 2, mostTries},
		{1, 60, 60, 1}, {1, 60, 61, 2}, {3, 1, 2, 6}} {
		all, err := Series(c.tries, c.every, c.during)
		if len(all) != c.want || (err == nil) != (c.want > 0) {
			t.Errorf("%+v: %d tries, %v", c, len(all), err)
		}
	}
}

func TestSummed(t *testing.T) {
	for text, want := range map[string]Summary{
		"0 right|5s old":                         {Successes: 1, Failures: 1, FirstLock: -1},
		"0 wrong|0 wrong|0 wrong|0 right":        {Failures: 2, Refused: 2, Locks: 1, FirstLock: 0},
		"3s wrong|4s wrong|5s right|30s wrong":   {Failures: 3, Refused: 1, Locks: 2, FirstLock: 4},
		"3s wrong|13s wrong|23s wrong|33s old":   {Failures: 4, FirstLock: -1},
		"3s wrong|12s wrong|22s wrong|23s wrong": {Failures: 4, Locks: 2, FirstLock: 12},
	} {
		tries, err := Timeline("t", strings.ReplaceAll(text, "|", "\n"))
		if err != nil {
			t.Fatal(err)
		}
		l := forecast.Lockout{Known: true, Threshold: 2, Window: 10, Duration: 1}
		if strings.HasPrefix(text, "3s wrong|4s") {
			l.Window, l.Duration = 60, 20
		}
		if got := Summed(Play(l, tries)); got != want {
			t.Errorf("%s: %+v, want %+v", text, got, want)
		}
	}
}

// Failures count on from the first of them, when a lock ends too.
func TestPlayStretched(t *testing.T) {
	l := forecast.Lockout{Known: true, Threshold: 2, Window: 30, Duration: 5, Counting: forecast.Stretch}
	tries, _ := Timeline("t", "0 wrong\n1s wrong\n6s wrong\n11s wrong\n30s wrong\n59s wrong\n60s wrong")
	var got []string
	for _, e := range Play(l, tries) {
		got = append(got, fmt.Sprint(e.Seconds, " ", e.Kind, " ", e.Count))
	}
	if text := strings.Join(got, "; "); text != "0 failure 1; 1 failure 2; 1 locked 2; 6 opened 2; 6 failure 3; 6 locked 3; 11 opened 3; 11 "+
		"failure 4; "+
		"11 locked 4; 16 opened 4; 30 counter-restarts 0; 30 failure 1; 59 failure 2; 59 locked 2; 60 counter-restarts 0; 60 refused 0" {
		t.Error(text)
	}
}
