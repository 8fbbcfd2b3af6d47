package page

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"sternledger/internal/assess"
	"sternledger/internal/core/forecast"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
)

// Forecast draws what the settings allow an attacker and ask of a user: a
// table of scopes, and, for one scope or when asked, every figure in words.
func Forecast(s *Sheet, f *assess.Forecasts, detail bool) error {
	right := Quantity(len(f.Scopes), "account scope")
	if len(f.Changes) > 0 {
		right = "if " + changesText(f.Changes)
	}
	s.Title("Forecast", right)
	columns := []Column{{Head: "scope"}, {Head: "guesses in\na weekend", Right: true}, {Head: "without\na lock", Right: true},
		{Head: "into locks\n(locks)", Right: true}, {Head: "way\nback", Right: true},
		{Head: "bits", Right: true}, {Head: "weak\ntaken", Right: true}, {Head: "changes\na year", Right: true}}
	var each []policyRow
	for i, x := range f.Scopes {
		if i > 0 && f.Scopes[i-1].Scope.Under() == x.Scope.Under() {
			continue // tiers under a policy share its figures
		}
		now := TableCells(&x.Now)
		if x.Then != nil {
			for i, then := range TableCells(x.Then) {
				if now[i] != then {
					now[i] += " → " + then
				}
			}
		}
		each = append(each, policyRow{x.Scope, now})
	}
	rows := together(each)
	if len(f.Scopes) == 1 {
		rows[0][0] = f.Scopes[0].Scope.Name()
	}
	if len(f.Changes) > 0 { // two figures in a cell take its room
		const without = 2
		columns = slices.Delete(columns, without, without+1)
		for i := range rows {
			rows[i] = slices.Delete(rows[i], without, without+1)
		}
	}
	s.Table(columns, rows)
	s.Blank()
	s.Text(fmt.Sprintf("Guesses are for each account, from Friday evening to Monday morning (62 hours): the greater of what stays "+
		"below the threshold, waiting until failures are forgotten, and of what goes on into each lock. Way back: when a user can be "+
		"on the old password again. Bits: of the passwords of the least length, were they chosen at random. Weak: how many of the %d "+
		"weak patterns of \"probe --patterns\" the rules take, since people do not choose at random; with a question mark where a "+
		"list of words that is not known matters.", f.Scopes[0].Now.Weak.Tried))
	a := f.Assumptions
	s.Text(fmt.Sprintf("Assumed: %s guesses a second where nothing locks; %s on a stolen hash; a user who locks the account %s "+
		"times a year; %s working days; %s sign-ins of the owner on each, and none at night and on a weekend; 95 kinds of characters.",
		ShortNumber(a.OnlineRate), ShortNumber(a.OfflineRate), ShortNumber(a.LocksPerYear), ShortNumber(a.WorkingDays), ShortNumber(a.SignIns)))
	if detail || len(f.Scopes) == 1 {
		for i := range f.Scopes {
			s.Blank()
			scopeForecast(s, &f.Scopes[i])
		}
	}
	return s.Err()
}

func changesText(changes map[setting.ID]setting.Value) string {
	var words []string
	for id, v := range changes {
		words = append(words, string(id)+" "+setting.Get(id).Text(v))
	}
	slices.Sort(words)
	return strings.Join(words, ", ")
}

const notKnown = "not known"

func TableCells(f *record.Figures) []string {
	most, under, into := notKnown, notKnown, notKnown
	for _, g := range f.Guesses {
		if g.Horizon != "weekend" {
			continue
		}
		switch {
		case g.AtRate != nil:
			most, under, into = Grouped(int(*g.AtRate)), "-", "-"
		case g.UnderLock != nil:
			most, under, into = Grouped(int(*g.Most)), Grouped(int(*g.UnderLock)), fmt.Sprintf("%s (%s)", Grouped(int(*g.IntoLock)),
				Grouped(int(*g.Locks)))
		}
	}
	cells := []string{most, under, into, wayBack(f), bits(f), takenText(f.Weak), changes(f)}
	for i, c := range cells {
		if c == notKnown {
			cells[i] = "unknown"
		}
	}
	return cells
}

func wayBack(f *record.Figures) string {
	switch {
	case f.WayBack == nil:
		return notKnown
	case *f.WayBack == 0:
		return "at once"
	}
	return setting.Span(*f.WayBack)
}

func bits(f *record.Figures) string {
	if f.Bits == nil {
		return notKnown
	}
	return fmt.Sprintf("%.1f", *f.Bits)
}

func changes(f *record.Figures) string {
	if f.Changes == nil {
		return notKnown
	}
	return ShortNumber(math.Round(*f.Changes*10) / 10)
}

// forcedChanges are the changes with their noun.
func forcedChanges(f *record.Figures) string {
	if n := changes(f); n != "1" {
		return n + " forced changes"
	}
	return "1 forced change"
}

// ShortNumber writes a number in few letters.
func ShortNumber(n float64) string {
	for _, u := range []struct {
		size float64
		name string
	}{{1e12, " trillion"}, {1e9, " billion"}, {1e6, " million"}} {
		if n >= u.size {
			return strings.TrimSuffix(fmt.Sprintf("%.1f", n/u.size), ".0") + u.name
		}
	}
	if n == math.Trunc(n) {
		return Grouped(int(n))
	}
	return fmt.Sprintf("%.1f", n)
}

// span writes a long time in its greatest unit.
func span(seconds float64) string {
	if seconds > 1e12*365*86400 {
		return "more than a trillion years"
	}
	for _, u := range []struct {
		size float64
		name string
	}{{365 * 86400, "years"}, {86400, "days"}, {3600, "hours"}, {60, "minutes"}} {
		if seconds >= 2*u.size {
			return ShortNumber(math.Round(seconds/u.size)) + " " + u.name
		}
	}
	if seconds < 1 {
		return "less than a second"
	}
	return ShortNumber(math.Round(seconds)) + " seconds"
}

// scopeForecast draws every figure of a scope in words.
func scopeForecast(s *Sheet, x *assess.ScopeForecast) {
	accounts := "accounts not listed"
	if x.Accounts != nil {
		accounts = Quantity(int(*x.Accounts), "enabled account")
	}
	s.Title(x.Scope.Name(), accounts)
	tell := func(word string, say func(f *record.Figures) string) {
		now := say(&x.Now)
		if x.Then == nil || say(x.Then) == now {
			s.Entry(word, "", now)
			return
		}
		s.Entry(word, "", now, "changed: "+say(x.Then))
	}
	for i := range x.Now.Guesses {
		horizon := x.Now.Guesses[i].Horizon
		tell(map[bool]string{true: "whole life", false: horizon}[horizon == forecast.Life],
			func(f *record.Figures) string { return guesses(f, horizon) })
	}
	tell("against all", func(f *record.Figures) string {
		text := "guesses against all accounts in a weekend: " + notKnown + ", or without bound"
		if f.Spray != nil {
			text = Grouped(int(*f.Spray)) + " guesses against all accounts in a weekend, without a lock"
		}
		if f.AtOnce != nil && *f.AtOnce > 1 {
			text += fmt.Sprintf("; one password tried on all %s accounts at once locks nobody", Grouped(int(*f.AtOnce)))
		}
		return text
	})
	tell("way back", func(f *record.Figures) string {
		switch {
		case f.WayBack == nil:
			return notKnown
		case *f.WayBack == 0:
			return "a user can be back on the old password at once"
		}
		return "a user can be back on the old password after " + setting.Span(*f.WayBack)
	})
	tell("space", func(f *record.Figures) string {
		if f.Bits == nil {
			return notKnown
		}
		return fmt.Sprintf("%.1f bits: %s characters, and on a stolen hash all of them are tried in %s", *f.Bits, Grouped(int(f.Length)),
			span(*f.Exhaust))
	})
	tell("patterns", func(f *record.Figures) string {
		text := fmt.Sprintf("%d of %d weak patterns are accepted", f.Weak.Accepted, f.Weak.Tried)
		if f.Weak.CannotTell > 0 {
			text += fmt.Sprintf(", of %d it cannot be told", f.Weak.CannotTell)
		}
		return text
	})
	tell("burden", func(f *record.Figures) string {
		if f.Changes == nil {
			return "forced changes: " + notKnown
		}
		text := forcedChanges(f) + " a year for each user"
		if f.ChangesPerDay != nil {
			text += fmt.Sprintf(", %.1f on a working day in the scope", *f.ChangesPerDay)
		}
		return text
	})
	tell("help desk", func(f *record.Figures) string {
		if f.CallsPerYear == nil {
			return "calls to unlock: " + notKnown
		}
		return ShortNumber(*f.CallsPerYear) + " calls a year to have accounts unlocked"
	})
	tell("denial", func(f *record.Figures) string {
		switch {
		case !f.Lockout.Known:
			return notKnown
		case f.Lockout.Never:
			return "nobody can be locked out: nothing locks"
		case f.Denial == nil:
			return fmt.Sprintf("%d failed attempts for each account", f.Lockout.Threshold)
		}
		text := Grouped(int(*f.Denial)) + " failed attempts lock every account of the scope"
		if f.DenialEvery != nil {
			return text + ", again after " + setting.Span(*f.DenialEvery)
		}
		return text + ", until an administrator unlocks them"
	})
}

func guesses(f *record.Figures, horizon string) string {
	for _, g := range f.Guesses {
		if g.Horizon != horizon {
			continue
		}
		during := ""
		if horizon == forecast.Life && g.Seconds != nil {
			during = " in " + setting.Span(*g.Seconds)
		}
		switch {
		case g.AtRate != nil:
			return Grouped(int(*g.AtRate)) + " guesses" + during + " at the stated rate: nothing locks"
		case f.Lockout.Known && f.Lockout.Never:
			return "guesses without end: nothing locks, and the password never expires"
		case g.UnderLock == nil && g.IntoLock == nil && f.Lockout.Known:
			return "guesses without end: the password never expires"
		case g.UnderLock == nil && g.IntoLock == nil:
			return notKnown
		}
		under := "without end"
		if g.UnderLock != nil {
			under = Grouped(int(*g.UnderLock))
		}
		into := "without end"
		if g.IntoLock != nil {
			into = fmt.Sprintf("%s into %s", Grouped(int(*g.IntoLock)), Quantity(int(*g.Locks), "lock"))
		}
		text := under + " guesses without a lock, or " + into + during
		if g.Most != nil {
			text = fmt.Sprintf("%s guesses%s: the greater of %s without a lock and %s", Grouped(int(*g.Most)), during, under, into)
		}
		if g.Helped != nil && *g.Helped > *g.UnderLock {
			text = fmt.Sprintf("%s guesses%s: %s without a lock while the owner signs in, %s if nobody does, or %s", Grouped(int(*g.Most)),
				during, Grouped(int(*g.Helped)), under, into)
		}
		return text
	}
	return notKnown
}

// ForecastRows gives one row for each scope, and another for the changes.
func ForecastRows(f *assess.Forecasts) *Rows {
	r := &Rows{Head: []string{"scope", "case", "accounts", "horizon", "most", "under_lock", "under_lock_with_sign_ins", "into_lock",
		"locks", "way_back_seconds", "space_bits", "changes_per_year", "weak_tried", "weak_accepted", "weak_cannot_tell"}}
	num := func(n *int64) string {
		if n == nil {
			return ""
		}
		return fmt.Sprint(*n)
	}
	real := func(n *float64) string {
		if n == nil {
			return ""
		}
		return fmt.Sprintf("%.2f", *n)
	}
	for i := range f.Scopes {
		x := &f.Scopes[i]
		for _, c := range []struct {
			name    string
			figures *record.Figures
		}{{"now", &x.Now}, {"changed", x.Then}} {
			if c.figures == nil {
				continue
			}
			for _, g := range c.figures.Guesses {
				r.Rows = append(r.Rows, []string{x.Scope.Name(), c.name, num(x.Accounts), g.Horizon, num(g.Most), num(g.UnderLock),
					num(g.Helped), num(g.IntoLock), num(g.Locks), num(c.figures.WayBack), real(c.figures.Bits), real(c.figures.Changes),
					fmt.Sprint(c.figures.Weak.Tried), fmt.Sprint(c.figures.Weak.Accepted), fmt.Sprint(c.figures.Weak.CannotTell)})
			}
		}
	}
	return r
}
