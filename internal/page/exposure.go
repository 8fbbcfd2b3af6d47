package page

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/assess"
	"sternledger/internal/contract"
	"sternledger/internal/core/exposure"
	"sternledger/internal/custody"
)

// Falls writes a number of accounts, or of weighted ones: three digits at most.
func Falls(m exposure.Millionths) string {
	n := m.Float()
	switch {
	case n >= 99.5 || n <= -99.5:
		return Grouped(int(n + 0.5))
	case n >= 9.95 || n <= -9.95:
		return strconv.FormatFloat(n, 'f', 0, 64)
	case n >= 0.95 || n <= -0.95:
		return strconv.FormatFloat(n, 'f', 1, 64)
	case n >= 0.0095 || n <= -0.0095:
		return strconv.FormatFloat(n, 'f', 2, 64)
	case n == 0:
		return "0"
	case n < 0.00005 && n > -0.00005:
		return "<0.0001"
	}
	return strconv.FormatFloat(n, 'f', 4, 64)
}

// FallsRange writes a number of accounts at documented defaults, and from what to what it is.
func FallsRange(r exposure.Range) string {
	least, most := Falls(r.Least), Falls(r.Most)
	if least == most {
		return least
	}
	return Falls(r.Default) + " (" + least + " to " + most + ")"
}

// Exposed says how exposed the estate is, now and when everything is mended; empty where
// the record does not tell.
func Exposed(w *custody.Weighing) string {
	r := w.Whole()
	now, then := exposure.Sum(r.Population)
	if now.Accounts == 0 {
		return ""
	}
	assumptions := "stated assumptions"
	if len(r.Assumed) > 0 {
		assumptions = "the engagement's assumptions"
	}
	text := fmt.Sprintf("To compare, not to foretell: under %s (forecast --assumptions) %s of %s that a password opens would fall within a year", assumptions, FallsRange(now.Falls), Quantity(now.Accounts, "account"))
	if now.Privileged > 0 {
		text += fmt.Sprintf(", %s of %s privileged", FallsRange(now.Admins), Grouped(now.Privileged))
	}
	both := func(t *exposure.Total) string {
		if now.Privileged == 0 {
			return Falls(t.Falls.Default)
		}
		return Falls(t.Falls.Default) + " and " + Falls(t.Admins.Default)
	}
	if n := len(w.First); n > 0 {
		many := "amendment"
		if n > 1 {
			many = Quantity(n, "amendment")
		}
		text += "; after the first " + many + ", " + both(&w.First[n-1].After) + "; with every finding mended, " + both(&then)
	} else {
		text += "; with every finding mended, " + both(&then)
	}
	return text + "."
}

// WorthText says what mending something is worth; empty where no model says so.
func WorthText(w *exposure.Worth) string {
	switch {
	case w == nil:
		return ""
	case w.Sum < 0:
		return "raises exposure by " + Falls(-w.Sum)
	case w.Most > 0:
		return "worth " + Falls(w.Sum) + " (up to " + Falls(w.Most) + ")"
	}
	return "worth " + Falls(w.Sum)
}

// bar draws a share of a whole in eighths of a cell.
func bar(part, whole exposure.Millionths, cells int) string {
	if part <= 0 || whole <= 0 {
		return ""
	}
	eighths := max(1, int(float64(part)/float64(whole)*float64(cells*8)+0.5))
	text := strings.Repeat("█", eighths/8)
	if rest := eighths % 8; rest > 0 {
		text += string([]rune("▏▎▍▌▋▊▉")[rest-1])
	}
	return text
}

// Percent writes a chance in a hundred.
func Percent(p float64) string {
	switch n := p * 100; {
	case n == 0:
		return "-"
	case n >= 9.95:
		return strconv.FormatFloat(n, 'f', 0, 64)
	case n >= 0.095:
		return strconv.FormatFloat(n, 'f', 1, 64)
	}
	return "<0.1"
}

func percents(r exposure.Range) string {
	least, most := Percent(r.Least.Float()), Percent(r.Most.Float())
	if least == most {
		return least
	}
	if least == "-" {
		least = "0"
	}
	return least + "–" + most // in one piece: a cell is broken at spaces
}

// Routes draws by which way somebody gets in as an account of each scope.
func Routes(s *Sheet, f *assess.Forecasts) error {
	s.Title("Exposure, in 100 a year", Quantity(len(f.Scopes), "account scope"))
	columns := []Column{{Head: "scope"}, {Head: "accounts", Right: true, Drop: 1}, {Head: "each", Right: true}}
	for _, name := range exposure.RouteNames {
		columns = append(columns, Column{Head: name, Right: true})
	}
	scopes := slices.Clone(f.Scopes)
	slices.SortStableFunc(scopes, func(x, y assess.ScopeForecast) int { return int(worst(&y) - worst(&x)) })
	rows := make([][]string, 0, len(scopes))
	for i := range scopes {
		x := &scopes[i]
		if x.Exposed == nil {
			continue
		}
		accounts := "not listed"
		if x.Exposed.Accounts > 0 {
			accounts = Grouped(x.Exposed.Accounts)
		}
		row := []string{x.Scope.Name(), accounts, percents(x.Exposed.Each)}
		if then := x.ThenExposed; then != nil && percents(then.Each) != row[2] {
			row[2] += " → " + percents(then.Each)
		}
		for _, p := range x.Exposed.Routes {
			row = append(row, Percent(p))
		}
		rows = append(rows, row)
	}
	s.Table(columns, rows)
	s.Blank()
	s.Text("The chance that somebody gets in as one account of the scope within a year, under stated assumptions (--assumptions): " +
		"from what it is at least to what it is at most, where the evidence is silent. By which way, at documented defaults: the " +
		"password is empty; guessed at sign-in, past the lockout; cracked from a stolen store; read back from a store that allows it; " +
		"cracked from a ticket that anybody may ask for; known from elsewhere, such as reused or phished. It compares settings; it does not " +
		"foretell. Scopes whose accounts no password opens are left out.")
	return s.Err()
}

// worst orders scopes by what one of their accounts is exposed to.
func worst(x *assess.ScopeForecast) exposure.Millionths {
	if x.Exposed == nil {
		return -1
	}
	return x.Exposed.Each.Default
}

// RouteRows gives one row for each scope.
func RouteRows(f *assess.Forecasts) *Rows {
	r := &Rows{Head: []string{"scope", "case", "accounts", "least", "default", "most"}}
	for _, key := range exposure.RouteKeys {
		r.Head = append(r.Head, key)
	}
	for i := range f.Scopes {
		x := &f.Scopes[i]
		for _, c := range []struct {
			name    string
			exposed *assess.Exposed
		}{{"now", x.Exposed}, {"changed", x.ThenExposed}} {
			if c.exposed == nil {
				continue
			}
			row := []string{x.Scope.Name(), c.name, fmt.Sprint(c.exposed.Accounts)}
			for _, m := range []exposure.Millionths{c.exposed.Each.Least, c.exposed.Each.Default, c.exposed.Each.Most} {
				row = append(row, strconv.FormatFloat(m.Float(), 'f', 6, 64))
			}
			for _, p := range c.exposed.Routes {
				row = append(row, strconv.FormatFloat(p, 'f', 6, 64))
			}
			r.Rows = append(r.Rows, row)
		}
	}
	return r
}

// Assumptions draws what chances and worths rest on.
func Assumptions(s *Sheet, a *exposure.Assumptions) error {
	s.Title("Assumptions of exposure", Quantity(len(exposure.Table), "assumption"))
	for i, x := range exposure.Table {
		value := strconv.FormatFloat(a[i], 'g', -1, 64)
		if a[i] != x.Value {
			value += " (usually " + strconv.FormatFloat(x.Value, 'g', -1, 64) + ")"
		}
		s.Entry(string(x.Sure), "", x.Name+": "+value+" ("+x.Unit+")", x.Meaning, "source: "+x.Source)
	}
	s.Blank()
	s.Text("To set one: \"exposure:\" in engagement.yaml, such as exposure: {door: 0.2}; for a trial, --exposure door=0.2. How they are put " +
		"together: docs/forecasts.md.")
	return s.Err()
}

// AssumptionRows gives one row for each.
func AssumptionRows(a *exposure.Assumptions) *Rows {
	r := &Rows{Head: []string{"name", "value", "usual", "least", "most", "unit", "meaning", "source", "sure"}}
	num := func(n float64) string { return strconv.FormatFloat(n, 'g', -1, 64) }
	for i, x := range exposure.Table {
		r.Rows = append(r.Rows, []string{x.Name, num(a[i]), num(x.Value), num(x.Least), num(x.Most), x.Unit, x.Meaning, x.Source, string(x.Sure)})
	}
	return r
}

// exposedDrift says how exposed the estate was and is; empty where one record does not tell.
func exposedDrift(d *contract.DriftDocument) string {
	was, is := d.Exposure.Before, d.Exposure.After
	if was == nil || is == nil || was.Accounts+is.Accounts == 0 {
		return ""
	}
	if !maps.Equal(was.Changed, is.Changed) {
		return "Exposure does not compare: the engagement's assumptions changed in between."
	}
	of := func(x *contract.ExposureDocument) string {
		now := x.Now.Total()
		text := FallsRange(now.Falls) + " of " + Quantity(x.Accounts, "account")
		if x.Privileged > 0 {
			text += " (" + FallsRange(now.Admins) + " of " + Grouped(x.Privileged) + " privileged)"
		}
		return text
	}
	if of(was) == of(is) {
		return "Exposure: as before, " + of(is) + " would fall within a year, under stated assumptions."
	}
	return "Exposure: " + of(was) + " would have fallen within a year, now " + of(is) + ", under stated assumptions."
}

// AssumedText names the assumptions that are not the usual ones, with their values.
func AssumedText(changed map[string]float64) string {
	var all []string
	for _, name := range slices.Sorted(maps.Keys(changed)) {
		all = append(all, name+" "+strconv.FormatFloat(changed[name], 'g', -1, 64))
	}
	return strings.Join(all, ", ")
}
