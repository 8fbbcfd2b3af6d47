package amend

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/weigh"
)

// line is an account's line of shadow, as it is written: -1 is an empty field.
type line struct{ changed, max, idle, ends int64 }

// plainly says what pam_unix answers on a day, read off its manual and what it did on
// Debian 12 (newer false) and 13: 0 lets in, 1 asks for a new password, 2 refuses.
func (l line) plainly(today int64, newer bool) int {
	if l.ends >= 0 && today >= l.ends {
		return 2
	}
	if l.changed == 0 {
		return 1
	}
	if l.changed > today || newer && l.changed < 0 || l.max < 0 {
		return 0
	}
	age := today - l.changed
	old := func(limit int64) bool { return age > limit || newer && age == limit }
	switch {
	case l.idle >= 0 && old(l.max+l.idle):
		return 2
	case old(l.max):
		return 1
	}
	return 0
}

const today = 20_000

// unixWorld is a machine whose accounts have those lines, and two amendments of their
// ageing, as the reader of Unix machines would hand them over.
func unixWorld(lines []line, newer bool, traits func(i int) (estate.Trait, estate.Flag)) *estate.Authority {
	b := estate.NewBuilder()
	b.StartFile("gate/etc/shadow")
	at := estate.Place{Name: "gate", Kind: estate.Machine}
	m := b.At(at)
	m.Platform = setting.UnixMachine
	m.Listed = true
	cite := estate.Cite{File: "gate/etc/shadow", Line: 1, Where: "shadow field 5"}
	m.Head = &estate.Policy{Name: "machine", Origin: "gate/etc", Standing: estate.Enforced, Platform: setting.UnixMachine,
		Settings: estate.Settings{"max-age": {Value: setting.Of(setting.Never), Cite: cite},
			"inactive-disable": {Value: setting.Of(setting.Never), Cite: cite}}, Cite: cite}
	for i, l := range lines {
		rec := &estate.Record{Class: estate.Account, DN: fmt.Appendf(nil, "u%d", i), Name: fmt.Appendf(nil, "u%d", i), Line: i + 1, RID: uint32(1000 + i),
			MaxDays: uint32(l.max + 1), IdleDays: uint32(l.idle + 1)}
		switch {
		case l.changed > 0:
			rec.PwdSet = uint32(l.changed * aDay)
		case l.changed == 0:
			rec.Flags |= estate.MustChange
		case newer:
			rec.Traits |= estate.Ageless
		default:
			rec.Traits |= estate.NoDay
		}
		if l.ends >= 0 {
			rec.Ends = uint32(max(l.ends*aDay, 1))
		}
		if newer {
			rec.Traits |= estate.SameDay
		}
		t, f := traits(i)
		rec.Traits, rec.Flags = rec.Traits|t, rec.Flags|f
		if rec.Flags&estate.Administrator != 0 && i == 0 {
			rec.RID, rec.Name, rec.DN = 0, []byte("root"), []byte("root")
		}
		b.Object(at, rec)
	}
	return b.Finish()[0]
}

var ageing = []struct {
	id  setting.ID
	to  int64
	own func(l *line) *int64
}{
	{"max-age", 365, func(l *line) *int64 { return &l.max }},
	{"inactive-disable", 45, func(l *line) *int64 { return &l.idle }},
}

// ageingPlan is both amendments of such a machine.
func ageingPlan(w *world) (*Population, []*Amendment) {
	s, _ := w.weighed(w.Estate)
	var all []*Amendment
	for _, x := range ageing {
		at := w.Authorities[0].Place()
		all = append(all, &Amendment{Setting: x.id, To: setting.Number(x.to * aDay), Scopes: s.Scopes, Spots: []Spot{{Via: at,
			PolicyID: PolicyID{At: at, Holder: Unix, Origin: "gate/etc", Name: "machine"}, Cite: estate.Cite{File: "gate/etc/shadow", Line: 1}}}})
	}
	return NewPopulation(s), all
}

func worldOf(a *estate.Authority) *world {
	return &world{Estate: &estate.Estate{Authorities: []*estate.Authority{a}}, choice: weigh.Choice{
		Baselines: func(*estate.Authority, string) []*baseline.Baseline { return nil }, Expect: check.Expectation{Age: func(string) int64 { return 0 }}}}
}

// Every account comes out on every day as the module's own rules say, before and
// after; what is not stricter in its line already is changed, and nothing else.
func TestPlayIsWhatTheModuleAnswers(t *testing.T) {
	days := []int64{-1, 0, today - 900, today - 500, today - 412, today - 411, today - 410, today - 366, today - 365, today - 364, today - 300, today - 1,
		today, today + 5}
	var lines []line
	for _, changed := range days {
		for _, max := range []int64{-1, 0, 30, 365, 366, 99999} {
			for _, idle := range []int64{-1, 0, 10, 45, 60} {
				for _, ends := range []int64{-1, 0, today, today + 40} {
					lines = append(lines, line{changed, max, idle, ends})
				}
			}
		}
	}
	for _, newer := range []bool{false, true} {
		p, all := ageingPlan(worldOf(unixWorld(lines, newer, func(int) (estate.Trait, estate.Flag) { return 0, 0 })))
		for _, picked := range [][]*Amendment{all[:1], all[1:], all} {
			fates := map[string]Fate{}
			x := p.Play(picked, today*aDay)
			for _, f := range x.Fates {
				fates[f.Name] = f
			}
			musts := 0
			for i, before := range lines {
				now := before
				for k, a := range ageing {
					if own := a.own(&now); slices.Contains(picked, all[k]) && (*own < 0 || *own > a.to) {
						*own = a.to
					}
				}
				want := Fate{Name: fmt.Sprintf("u%d", i)}
				for d := 0; d <= Horizon; d++ {
					was, is := before.plainly(today+int64(d), newer), now.plainly(today+int64(d), newer)
					if outcome := map[int]Outcome{1: MustAct, 2: ShutOut}[is]; is > was && outcome > want.Outcome {
						want.Outcome, want.Day = outcome, d
					}
				}
				got, told := fates[want.Name]
				if want.Outcome == MustAct {
					if musts++; !told { // people who only have to change passwords are named up to a number
						continue
					}
				}
				if got.Outcome != want.Outcome || got.Day != want.Day {
					t.Fatalf("newer %v, %d changes, %+v: outcome %d from day %d, want %d from day %d", newer, len(picked), before, got.Outcome, got.Day,
						want.Outcome, want.Day)
				}
			}
			if musts != x.Must.All() || x.Shut.All() == 0 && len(picked) == 2 {
				t.Errorf("newer %v, %d changes: %d must act, want %d; %d shut out", newer, len(picked), x.Must.All(), musts, x.Shut.All())
			}
		}
	}
}

// Whatever can be made of a random machine together without what is held back leaves
// it an administrator who can sign in on each day of the horizon, if it had one, leaves
// root as it is, and stops no service.
func TestNobodyIsShutOut(t *testing.T) {
	held := 0
	for n := range max(worlds(), 400) {
		rnd := rand.New(rand.NewPCG(32, n))
		var lines []line
		var kinds []estate.Flag
		var bars []estate.Trait
		pick := func(all ...int64) int64 { return all[rnd.IntN(len(all))] }
		for range 1 + rnd.IntN(5) {
			lines = append(lines, line{pick(-1, 0, today-900, today-412, today-380, today-340, today-20, today-1), pick(-1, 30, 365, 99999),
				pick(-1, 0, 10, 30, 60), pick(-1, -1, -1, today-3, today+40)})
			kinds = append(kinds, []estate.Flag{0, estate.Administrator, estate.ServiceName}[rnd.IntN(3)])
			bars = append(bars, []estate.Trait{0, 0, 0, estate.NoSession}[rnd.IntN(4)])
		}
		newer := rnd.IntN(2) == 0
		p, all := ageingPlan(worldOf(unixWorld(lines, newer, func(i int) (estate.Trait, estate.Flag) { return bars[i], kinds[i] })))
		p.Hold(all, today*aDay)
		after := slices.Clone(lines)
		for k, a := range ageing {
			if len(all[k].Kept()) == 0 {
				held++
				continue
			}
			for i := range after {
				if own := a.own(&after[i]); *own < 0 || *own > a.to {
					*own = a.to
				}
			}
		}
		for d := int64(0); d <= Horizon; d++ {
			was, is, in, now := 0, 0, "", ""
			for i := range lines {
				b, a := lines[i].plainly(today+d, newer), after[i].plainly(today+d, newer)
				if kinds[i] == estate.Administrator && bars[i] == 0 {
					if b < 2 {
						was, in = was+1, in+fmt.Sprint(lines[i])
					}
					if a < 2 {
						is, now = is+1, now+fmt.Sprint(after[i])
					}
					if i == 0 && b < 2 && a == 2 {
						t.Fatalf("world %d, day %d: root is shut out: %+v, %+v", n, d, lines[i], after[i])
					}
				}
				if kinds[i] == estate.ServiceName && a > b {
					t.Fatalf("world %d, day %d: a service stops: %+v, %+v", n, d, lines[i], after[i])
				}
			}
			if was > 0 && is == 0 {
				t.Fatalf("world %d, day %d: nobody can administer it any more: %s, %s", n, d, in, now)
			}
		}
	}
	if held == 0 {
		t.Error("nothing was held back: the worlds test too little")
	}
}

// What is said of a harm, and how it is avoided.
func TestHarms(t *testing.T) {
	lines := []line{{today - 900, 99999, -1, -1}, {today - 20, 99999, -1, -1}}
	p, all := ageingPlan(worldOf(unixWorld(lines, false, func(i int) (estate.Trait, estate.Flag) {
		return 0, []estate.Flag{estate.Administrator, 0}[i]
	})))
	p.Hold(all, today*aDay)
	if len(all[0].Back()) != 0 || len(all[1].Back()) != 1 || len(all[1].Spots[0].Held) != 1 {
		t.Fatalf("%v %v", all[0].Spots[0].Held, all[1].Spots[0].Held)
	}
	h := all[1].Spots[0].Held[0]
	if got := h.Text(nil); got != "no administrator of gate could sign in any more at once: the password would be too old, and the idle days over" ||
		!strings.HasPrefix(h.Instead(), "Have the password of root changed first") {
		t.Errorf("%s %s", got, h.Instead())
	}
	if got := p.Touch(all[1], today*aDay).What; got != "Nobody is affected within 90 days" {
		t.Errorf("idle days alone, without a maximum: %s", got)
	}
	all[1].First = all[:1]
	if got := p.Touch(all[1], today*aDay).What; got != "1 account cannot sign in any more at once (root)" {
		t.Errorf("with the maximum: %s", got)
	}
}

// An administrator whose shell nobody knows is one way in that may be the last, too; a
// lock that only an administrator ends must not reach all of them.
func TestWaysIn(t *testing.T) {
	old := line{today - 900, 99999, -1, -1}
	for name, c := range map[string]struct {
		traits [2]estate.Trait
		held   bool
	}{
		"two, one of them by a shell that nobody knows": {[2]estate.Trait{estate.NoSession, estate.OddShell}, true},
		"nobody could work before":                      {[2]estate.Trait{estate.NoSession, estate.NoSession}, false},
	} {
		p, all := ageingPlan(worldOf(unixWorld([]line{{today - 10, 99999, -1, -1}, old, old}, false, func(i int) (estate.Trait, estate.Flag) {
			if i == 0 {
				return 0, 0
			}
			return c.traits[i-1], estate.Administrator
		})))
		if held := slices.ContainsFunc(p.Play(all, today*aDay).Harms, func(h Harm) bool { return h.Damage == NoWayIn }); held != c.held {
			t.Errorf("%s: nobody gets in: %v, want %v", name, held, c.held)
		}
	}
	m := unixWorld([]line{old}, false, func(int) (estate.Trait, estate.Flag) { return 0, estate.Administrator })
	m.Head.Settings["lockout-threshold"] = estate.Fact{Value: setting.Of(setting.Never)}
	m.Head.Settings["lockout-duration"] = estate.Fact{Value: setting.Of(setting.UntilAdmin)}
	w := worldOf(m)
	s, _ := w.weighed(w.Estate)
	lock := &Amendment{Setting: "lockout-threshold", To: setting.Number(5), Scopes: s.Scopes, Spots: []Spot{{Via: m.Place(),
		PolicyID: PolicyID{At: m.Place(), Holder: Unix}}}}
	NewPopulation(s).Hold([]*Amendment{lock}, today*aDay)
	if len(lock.Back()) != 1 || lock.Spots[0].Held[0].Damage != AllLockable {
		t.Errorf("a lock that only an administrator ends, for all of them: %v", lock.Spots[0].Held)
	}
	m.Head.Settings["lockout-duration"] = estate.Fact{Value: setting.Number(900)}
	s, _ = w.weighed(w.Estate)
	lock.Scopes = s.Scopes
	if NewPopulation(s).Hold([]*Amendment{lock}, today*aDay); len(lock.Back()) != 0 {
		t.Errorf("a lock that ends by itself: %v", lock.Spots[0].Held)
	}
	m.Head.Settings["lockout-threshold"] = estate.Fact{Value: setting.Number(10)}
	for name, lacks := range map[string]string{"how it ends is not read": "lockout-duration", "nor is it touched": "max-age"} {
		id := setting.ID(lacks)
		delete(m.Head.Settings, id)
		s, _ = w.weighed(w.Estate)
		lock.Scopes = s.Scopes
		NewPopulation(s).Hold([]*Amendment{lock}, today*aDay)
		if back := len(lock.Back()) == 1 && lock.Spots[0].Held[0].Damage == MayLockAll; back != (lacks == "lockout-duration") {
			t.Errorf("%s: %v", name, lock.Spots[0].Held)
		}
		m.Head.Settings[id] = estate.Fact{Value: setting.Number(900)}
	}
	m.Head.Settings["lockout-threshold"] = estate.Fact{Value: setting.Of(setting.Never)}
	m.Head.Settings["lockout-duration"] = estate.Fact{Value: setting.Of(setting.UntilAdmin)}
	s, _ = w.weighed(w.Estate)
	lock.Scopes, m.Listed, m.Accounts, m.Objects = s.Scopes, false, 0, &estate.Objects{}
	s, _ = w.weighed(w.Estate)
	NewPopulation(s).Hold([]*Amendment{lock}, today*aDay)
	if len(lock.Back()) != 1 || lock.Spots[0].Held[0].Damage != MayLockAll {
		t.Errorf("accounts that are not in the evidence: %v", lock.Spots[0].Held)
	}
}

// Names are hints, and words within words are none.
func TestHints(t *testing.T) {
	for name, hint := range map[string]bool{"svc-tide": true, "tide_svc": true, "SVC1": true, "backup": true, "sql.prod": true, "anne": false, "sylvia": false,
		"batchelor": false, "service.desk": true, "ansvc": false} {
		if hints.MatchString(name) != hint {
			t.Errorf("%s: %v", name, !hint)
		}
	}
	if !hintedUnit("CN=x,OU=Service Accounts,DC=a,DC=example") || hintedUnit("CN=x,OU=Pilots,DC=sql,DC=example") {
		t.Error("units")
	}
}
