package exposure

import (
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/forecast"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/rehearse"
	"sternledger/internal/core/setting"
)

// scope is one of a platform with settings as people write them; what is not named is
// not in the evidence.
func scope(t testing.TB, p setting.Platform, settings string) *govern.Scope {
	t.Helper()
	s := &govern.Scope{Authority: &estate.Authority{Name: "x", Platform: p}, Tier: govern.Standard, Settings: map[setting.ID]govern.Effective{}}
	for _, r := range read {
		s.Settings[r.id] = govern.Effective{Missing: govern.NotCollected}
		if !setting.Get(r.id).Exists(p) {
			s.Settings[r.id] = govern.Effective{Missing: govern.NoSuch}
		}
	}
	for part := range strings.SplitSeq(settings, ";") {
		id, text, ok := strings.Cut(strings.TrimSpace(part), " ")
		if !ok {
			continue
		}
		v, err := setting.Get(setting.ID(id)).Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		s.Settings[setting.ID(id)] = govern.Effective{Fact: estate.Fact{Value: v}}
	}
	return s
}

const domain = "min-length 8; complexity on; history 24; min-age 1d; max-age 365d; reversible off; lm-hash-stored off; blank-password-console-only on; " +
	"lockout-threshold 10; lockout-duration 15m; lockout-window 15m; lockout-administrator on"

// By hand, from the table and the formulas of docs/forecasts.md.
func TestChancesByHand(t *testing.T) {
	w := 1 / (1 + math.Exp2((8-9)/1.5)) * 0.75
	f := func(g float64) float64 {
		if g > 1e6 {
			return min(0.98, 0.495+0.06*math.Log10(g/1e6))
		}
		return min(0.009*math.Pow(g, 0.36), 0.0374*math.Pow(g, 0.187))
	}
	door := 248 * 10.0                // a batch of ten in each quarter of an hour of 62 hours
	cracked := w * f(1e11*86400)      // one day
	cracked += (1 - cracked) * 0.25   // 95^8 is less than what a day tries
	yearOld := 0.02*0.5 + 0.4*0.02*.5 // half a year of two, and successors of the rest: 0.01 + 0.4 × 0.03
	yearOld = 0.01 + 0.4*0.03
	for _, c := range []struct {
		name, settings string
		on             setting.Platform
		flags          estate.Flag
		want           Chances
	}{
		{"a domain", domain, setting.WindowsDomain, 0, Chances{Guessed: 0.1 * w * f(door), Cracked: 0.02 * cracked, Known: 0.2 * yearOld}},
		{"read back", domain, setting.WindowsDomain, estate.Reversible, Chances{Guessed: 0.1 * w * f(door), Cracked: 0.02 * cracked, Read: 0.1,
			Known: 0.2 * yearOld}},
		{"a service", domain, setting.WindowsDomain, estate.ServiceName | estate.NeverExpires, Chances{Guessed: 0.1 * w * f(door), Cracked: 0.02 * cracked,
			Requested: 0.2 * cracked, Known: 0.2 * 0.04}},
		{"disabled", domain, setting.WindowsDomain, estate.Disabled, Chances{}},
		{"an empty password", "empty-accepted on; min-length 14; hash-method yescrypt; max-age never; min-age at-once; history 0; lockout-threshold 1; " +
			"lockout-duration until-admin; lockout-window never", setting.UnixMachine, estate.EmptyPassword,
			Chances{Open: 1, Guessed: 0.1 * 0.009 / (1 + math.Exp2(5/1.5)), Cracked: 0.02 * f(1e4*86400) / (1 + math.Exp2(5/1.5)), Known: 0.2 * 0.07}},
		{"a tenant with a second factor", "min-length 8; mfa all; max-age never; lockout-threshold 10; lockout-duration 60 seconds",
			setting.CloudDirectory, 0, Chances{Guessed: 0.5 * f(10+3719) / (1 + math.Exp2(-1/1.5)) * 0.02, Known: 0.07 * 0.02,
				Cracked: 0.002 * f(1e6*86400) / (1 + math.Exp2(-1/1.5))}},
	} {
		s := scope(t, c.on, c.settings)
		m := NewModel(Usual(), nil)
		got := m.Of(&Cohort{Scope: s, Flags: c.flags, Count: 1}, nil, Default)
		for route, p := range c.want {
			if math.Abs(got[route]-p) > 1e-3*max(p, 1e-4) && !(c.on != setting.WindowsDomain && math.Abs(got[route]-p) < 2e-3) {
				t.Errorf("%s: %s %.6f, want %.6f", c.name, RouteNames[route], got[route], p)
			}
		}
	}
}

// random settings of a platform; some of them are not known.
func random(t testing.TB, rnd *rand.Rand, p setting.Platform, unknown float64) *govern.Scope {
	s := scope(t, p, "")
	for i := range read {
		id := read[i].id
		if s.Settings[id].Missing == govern.NoSuch || rnd.Float64() < unknown {
			continue
		}
		s.Settings[id] = govern.Effective{Fact: estate.Fact{Value: one(rnd, i)}}
	}
	return s
}

// ladders are values of settings, each stricter than the one before.
var ladders = map[setting.ID][]setting.Value{
	setting.MinLength: numbers(0, 4, 6, 7, 8, 9, 10, 12, 14, 15, 20), setting.ClassesRequired: numbers(0, 1, 2, 3, 4),
	setting.RequireLower: numbers(0, 1), setting.RequireUpper: numbers(0, 1), setting.RequireDigit: numbers(0, 1), setting.RequireSymbol: numbers(0, 1),
	setting.History: numbers(0, 1, 5, 7, 8, 24), setting.HashRounds: numbers(1000, 5000, 100000),
	setting.MinAge:           append([]setting.Value{setting.Of(setting.AtOnce)}, numbers(60, day, week, 30*day)...),
	setting.MaxAge:           append([]setting.Value{setting.Of(setting.Never)}, numbers(3*year, year, 90*day, 30*day)...),
	setting.LockoutThreshold: append([]setting.Value{setting.Of(setting.Never)}, numbers(100, 50, 10, 6, 5, 3, 2, 1)...),
	setting.LockoutDuration:  append(numbers(60, 600, 900, 3600, day), setting.Of(setting.UntilAdmin)),
	setting.LockoutWindow:    append(numbers(60, 600, 900, 3600, day), setting.Of(setting.Never)),
	setting.HashMethod:       {setting.Word("des"), setting.Word("md5"), setting.Word("sha512"), setting.Word("yescrypt")},
	setting.SecondFactor:     {setting.Word("none"), setting.Word("some"), setting.Word("all")},
	setting.ManagedAdmin:     {setting.Word("off"), setting.Word("cloud")},
}

func numbers(all ...int64) (values []setting.Value) {
	for _, n := range all {
		values = append(values, setting.Number(n))
	}
	return values
}

func ladder(i int) []setting.Value {
	if l := ladders[read[i].id]; l != nil {
		return l
	}
	return []setting.Value{read[i].weak, read[i].strict}
}

func one(rnd *rand.Rand, i int) setting.Value {
	l := ladder(i)
	return l[rnd.IntN(len(l))]
}

var platforms = []setting.Platform{setting.WindowsDomain, setting.WindowsMachine, setting.UnixMachine, setting.LDAPDirectory, setting.DirectoryServer,
	setting.CloudDirectory, setting.IdentityProvider, setting.KerberosRealm}

var flagSets = []estate.Flag{0, estate.NoneRequired, estate.Reversible, estate.NoPreauth, estate.ServiceName, estate.NeverExpires, estate.EmptyPassword,
	estate.FactorRequired, estate.FactorOptional}

// A stricter setting never raises exposure, by any route, whatever else holds.
func TestStricterNeverRaises(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 4))
	m := NewModel(Usual(), nil)
	for range 20_000 {
		s := random(t, rnd, platforms[rnd.IntN(len(platforms))], 0)
		c := &Cohort{Scope: s, Flags: flagSets[rnd.IntN(len(flagSets))], Root: rnd.IntN(4) == 0 && s.Authority.Platform == setting.UnixMachine, Count: 1}
		i := rnd.IntN(len(read))
		id, l := read[i].id, ladder(i)
		at := rnd.IntN(len(l) - 1)
		if s.Settings[id].Missing != govern.Present || id == setting.HashRounds || id == setting.HashMethod {
			continue // a cost is of one method
		}
		before := m.Of(c, Changes{s: {Set: map[setting.ID]setting.Value{id: l[at]}}}, Default)
		after := m.Of(c, Changes{s: {Set: map[setting.ID]setting.Value{id: l[at+1]}}}, Default)
		for route := range before {
			if after[route] > before[route]+1e-12 {
				t.Fatalf("%s, %s from %s to %s raises %s from %v to %v: %v", s.Authority.Platform, id, setting.Get(id).Text(l[at]), setting.Get(id).Text(l[at+1]),
					RouteNames[route], before[route], after[route], s.Settings)
			}
		}
	}
}

// Whatever it is that is not known, the chance lies in the range.
func TestRangeHoldsEveryCompletion(t *testing.T) {
	rnd := rand.New(rand.NewPCG(5, 6))
	m := NewModel(Usual(), nil)
	wide := 0
	for range 4000 {
		s := random(t, rnd, platforms[rnd.IntN(len(platforms))], 0.3)
		c := &Cohort{Scope: s, Flags: flagSets[rnd.IntN(len(flagSets))], Count: 1}
		r := m.Range(c, nil)
		if r.Least > r.Default || r.Default > r.Most {
			t.Fatalf("%+v is no range: %v", r, s.Settings)
		}
		if r.Least < r.Most {
			wide++
		}
		set := map[setting.ID]setting.Value{}
		for i := range read {
			if s.Settings[read[i].id].Missing == govern.NotCollected {
				set[read[i].id] = one(rnd, i)
			}
		}
		delete(set, setting.HashRounds)
		if set[setting.SecondFactor] == setting.Word("some") || c.Flags&factors != 0 { // a change would answer for every account
			delete(set, setting.SecondFactor)
		}
		chances := m.Of(c, Changes{s: {Set: set}}, Default)
		if p := chances.Together(); p < r.Least || p > r.Most {
			t.Fatalf("%s: %v is not in %+v: %v with %v", s.Authority.Platform, p, r, s.Settings, set)
		}
	}
	if wide < 1000 {
		t.Errorf("%d of 4000 ranges are wide", wide)
	}
}

// An attacker who draws how good a password is from the curve, and plays the weekend as the
// servers count, gets in as often as is said.
func TestSimulated(t *testing.T) {
	policies := 100 // a twentieth; all with the switch
	if os.Getenv("STERNLEDGER_ROUNDS") != "" {
		policies = 2000
	}
	rnd := rand.New(rand.NewPCG(17, 18))
	a, beyond := Usual(), 0
	for range policies {
		p := platforms[rnd.IntN(len(platforms))]
		threshold, window, duration := 2+rnd.Int64N(20), 60*(1+rnd.Int64N(60)), 60*(1+rnd.Int64N(60))
		if duration < window {
			duration, window = window, duration // the figure for a lock that is shorter is a bound
		}
		l := forecast.LockoutOf(p, func(id setting.ID) setting.Value {
			switch id {
			case setting.LockoutThreshold:
				return setting.Number(threshold)
			case setting.LockoutDuration:
				return setting.Number(duration)
			case setting.LockoutWindow:
				if setting.Get(id).Exists(p) {
					return setting.Number(window)
				}
			}
			return setting.Value{}
		})
		s := scope(t, p, "min-length 8")
		for id, v := range map[setting.ID]setting.Value{setting.LockoutThreshold: setting.Number(threshold), setting.LockoutDuration: setting.Number(duration),
			setting.LockoutWindow: setting.Number(window)} {
			if s.Settings[id].Missing != govern.NoSuch {
				s.Settings[id] = govern.Effective{Fact: estate.Fact{Value: v}}
			}
		}
		played := max(into(l), under(l))
		w := 1 / (1 + math.Exp2(-1/1.5))
		const trials = 20_000
		hits := 0
		for range trials {
			// The rank of a password is such that the first n guesses find F(n) of them; what the
			// rules take away is not on the list.
			if u := rnd.Float64(); u < w*a.Guesses(float64(played)) {
				hits++
			}
		}
		m := NewModel(a, nil)
		got := m.Of(&Cohort{Scope: s, Count: 1}, nil, Most)[Guessed]
		attacked := a[DoorInside]
		if tenant(p) {
			attacked = a[Door]
		}
		share := float64(hits) / trials
		sigma := math.Sqrt(share*(1-share)/trials) + 1e-5
		if off := math.Abs(got/attacked-share) / sigma; off > 5 {
			t.Errorf("%s, %d in %d s for %d s: %.5f said, %.5f played with %d guesses (%s)", p, threshold, window, duration, got/attacked, share, played,
				l.Counting)
		} else if off > 3 {
			beyond++
		}
	}
	if beyond*100 > policies+100 {
		t.Errorf("%d of %d policies lie beyond three standard errors", beyond, policies)
	}
	t.Logf("%d policies, %d beyond three standard errors", policies, beyond)
}

// into and under are how many guesses get through in a weekend, played sign-in by sign-in.
func into(l forecast.Lockout) int {
	var tries []rehearse.SignIn
	for at := int64(0); at < weekend; at += 30 {
		for range l.Threshold + 1 {
			tries = append(tries, rehearse.SignIn{Seconds: at})
		}
	}
	return failures(rehearse.Play(l, tries))
}

func under(l forecast.Lockout) int {
	if l.NoWindow {
		return int(l.Threshold - 1)
	}
	var tries []rehearse.SignIn
	for at := int64(0); at < weekend; at += l.Window {
		for range l.Threshold - 1 {
			tries = append(tries, rehearse.SignIn{Seconds: at})
		}
	}
	return failures(rehearse.Play(l, tries))
}

func failures(all []rehearse.Event) (n int) {
	for _, e := range all {
		if e.Kind == rehearse.Failure {
			n++
		}
	}
	return n
}

// What mending is worth: two open doors each count, and what raises exposure is below zero.
func TestWorth(t *testing.T) {
	s := scope(t, setting.UnixMachine, "min-length 0; lockout-threshold never; empty-accepted on; max-age never; hash-method md5")
	population := []Cohort{{Scope: s, Flags: estate.EmptyPassword | estate.ServiceName, Count: 2}}
	m := NewModel(Usual(), []*govern.Scope{s})
	mend := func(id setting.ID, v setting.Value) *Mend {
		return &Mend{Scopes: []*govern.Scope{s}, Change: Change{Set: map[setting.ID]setting.Value{id: v}}}
	}
	all := []*Mend{mend(setting.EmptyAccepted, setting.Off), mend(setting.MinLength, setting.Number(14)), mend(setting.TicketLifetime, setting.Number(1)),
		{Scopes: []*govern.Scope{s}, Change: Change{Clear: estate.EmptyPassword}}}
	x := m.Values(population, all)
	door, length, flag := x.Of(all[0], false), x.Of(all[1], false), x.Of(all[3], false)
	if door.Class != OpenNow || flag.Class != OpenNow || length.Class != ToGuess {
		t.Errorf("classes %v, %v and %v", door.Class, flag.Class, length.Class)
	}
	if door.Sum < 1_000_000 || length.Sum < 50_000 {
		t.Errorf("worth %d and %d millionths of two accounts", door.Sum, length.Sum)
	}
	if w := x.Of(all[2], false); w != nil {
		t.Errorf("a setting that no model reads is worth %+v", w)
	}
	longer := mend(setting.MaxAge, setting.Of(setting.Never))
	s.Settings[setting.MaxAge] = govern.Effective{Fact: estate.Fact{Value: setting.Number(90 * day)}}
	m = NewModel(Usual(), nil)
	if w := m.Values(population[:1], []*Mend{longer}).Of(longer, false); w.Sum > 0 {
		t.Errorf("a longer age is worth %d", w.Sum)
	}
	unknown := scope(t, setting.WindowsDomain, "")
	admins := []Cohort{{Scope: unknown, Count: 1}}
	required := &Mend{Scopes: []*govern.Scope{unknown}, Change: Change{Set: map[setting.ID]setting.Value{setting.MinLength: setting.Number(14),
		setting.LockoutThreshold: setting.Number(5), setting.LockoutDuration: setting.Number(900), setting.LockoutWindow: setting.Number(900)}}}
	w, known := m.Values(admins, []*Mend{required}).Of(required, true), m.Values(admins, []*Mend{required}).Of(required, false)
	if ratio := float64(w.Sum) / float64(known.Sum); math.Abs(ratio-0.25) > 0.01 || w.Most <= w.Sum {
		t.Errorf("not known: %+v, known: %+v", w, known)
	}
}

// Assumptions are refused out of range, and where they contradict one another.
func TestAssumptions(t *testing.T) {
	for _, c := range []struct{ name, value, wrong string }{
		{"door", "0.2", ""}, {"door", "0", "door-inside is 0.1 and door is 0"}, {"door", "1.5", "expected a number from 0 to 1"}, {"door", "x", "expected a number"},
		{"door", "NaN", "expected a number"}, {"dooor", "1", `the nearest is "door"`}, {"length-step", "0", "expected a number from 0.1 to 20"},
		{"grave", "0.001", "serious is 0.002 and grave is 0.001"}, {"fast-rate", "1e12", ""},
	} {
		a := Usual()
		err := a.Set(c.name, c.value)
		if err == nil {
			err = a.Check()
		}
		if c.wrong == "" && err != nil || c.wrong != "" && (err == nil || !strings.Contains(err.Error(), c.wrong)) {
			t.Errorf("%s=%s: %v, want %q", c.name, c.value, err, c.wrong)
		}
	}
	seen := map[string]bool{}
	for _, x := range Table {
		if x.Name == "" || seen[x.Name] || x.Source == "" || x.Meaning == "" || x.Unit == "" || x.Value < x.Least || x.Value > x.Most ||
			!slices.Contains([]Sure{Measured, Reasoned, Judged}, x.Sure) {
			t.Errorf("assumption %+v", x)
		}
		seen[x.Name] = true
	}
	if a, err := With(map[string]float64{"door": 0.3}); err != nil || a[Door] != 0.3 || len(a.Changed()) != 1 {
		t.Errorf("%v %v", a, err)
	}
}
