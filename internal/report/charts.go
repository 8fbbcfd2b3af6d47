package report

import (
	"fmt"
	"html"
	"math"
	"slices"
	"strings"

	"sternledger/internal/assess"
	"sternledger/internal/contract"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/page"
)

// Measures of the charts, in the units of their pictures.
const (
	chartWidth  = 760
	chartLabels = 290 // width of the names at the left
	chartRow    = 20
	mostBars    = 24
)

// svg draws one picture. It has its title and what it shows as text, for who
// does not see it.
type svg struct {
	b strings.Builder
}

func (s *svg) begin(height int, id, title, desc string) {
	fmt.Fprintf(&s.b, `<svg viewBox="0 0 %d %d" role="img" aria-labelledby="%s-t %s-d" xmlns="http://www.w3.org/2000/svg">`+
		`<title id="%s-t">%s</title><desc id="%s-d">%s</desc>`,
		chartWidth, height, id, id, id, html.EscapeString(page.Clean(title)), id, html.EscapeString(page.Clean(desc)))
}

func (s *svg) text(x, y float64, class, text string) {
	fmt.Fprintf(&s.b, `<text x="%.1f" y="%.1f" class="%s">%s</text>`, x, y, class, html.EscapeString(page.Clean(text)))
}

func (s *svg) rect(x, y, w, h float64, class, title string) {
	fmt.Fprintf(&s.b, `<rect x="%.1f" y="%.1f" width="%.1f" height="%.1f" class="%s"><title>%s</title></rect>`, x, y, max(w, 0), h,
		class, html.EscapeString(page.Clean(title)))
}

func (s *svg) line(x1, y1, x2, y2 float64, class string) {
	fmt.Fprintf(&s.b, `<line x1="%.1f" y1="%.1f" x2="%.1f" y2="%.1f" class="%s"/>`, x1, y1, x2, y2, class)
}

func (s *svg) end() string {
	s.b.WriteString("</svg>")
	return s.b.String()
}

// rest says how many bars there was no room for.
func (s *svg) rest(y, more int, of string) {
	if more > 0 {
		s.text(chartLabels-8, float64(y+15), "name", fmt.Sprintf("and %s %s", page.Quantity(more, "policy"), of))
	}
}

// label shortens a policy's name so that it fits at the left: first the
// authority's part of it.
func label(authority, policy string) string {
	const most = 44
	if name := authority + " / " + policy; len([]rune(name)) <= most {
		return name
	}
	policy = page.Clip(policy, 26)
	return page.Clip(authority, max(most-4-len([]rune(policy)), 8)) + " / " + policy
}

func labelOf(s *govern.Scope) string { return label(s.Authority.Label(), s.PolicyName()) }

// guessesChart draws, for each policy, the guesses for one account over a
// weekend below the lock, on a scale of powers of ten.
func guessesChart(r *assess.Report) string {
	type bar struct {
		name, label string
		n           float64
		unbound     bool
	}
	var bars []bar
	seen := map[govern.PolicyID]bool{}
	for i := range r.Forecasts.Scopes {
		x := &r.Forecasts.Scopes[i]
		id, name, short := x.Scope.Under(), x.Scope.Title(), labelOf(x.Scope)
		if seen[id] {
			continue
		}
		seen[id] = true
		for _, g := range x.Now.Guesses {
			switch {
			case g.Horizon != "weekend":
			case g.UnderLock != nil:
				bars = append(bars, bar{name: name, label: short, n: float64(*g.UnderLock), unbound: false})
			case g.AtRate != nil:
				bars = append(bars, bar{name: name, label: short, n: float64(*g.AtRate), unbound: true})
			}
		}
	}
	if len(bars) == 0 {
		return ""
	}
	slices.SortStableFunc(bars, func(x, y bar) int {
		switch {
		case x.n > y.n:
			return -1
		case x.n < y.n:
			return 1
		}
		return 0
	})
	more := max(len(bars)-mostBars, 0)
	bars = bars[:len(bars)-more]
	most := 10.0
	for _, b := range bars {
		most = max(most, b.n)
	}
	decades := math.Ceil(math.Log10(most))
	room := float64(chartWidth - chartLabels - 110)
	at := func(n float64) float64 { return room * math.Log10(max(n, 1)) / decades }
	var s svg
	var told []string
	for _, b := range bars {
		told = append(told, fmt.Sprintf("%s: %s", b.name, guessText(b.n, b.unbound)))
	}
	top := 18
	s.begin(top+len(bars)*chartRow+8+min(more, 1)*chartRow, "guesses", "Guesses for one account over a weekend, below the lock",
		strings.Join(told, "; "))
	for d := 0.0; d <= decades; d++ {
		x := chartLabels + at(math.Pow(10, d))
		s.line(x, float64(top)-4, x, float64(top+len(bars)*chartRow), "grid")
		if decades <= 5 || int(d)%2 == 0 { // long numbers would run into each other
			s.text(x, 10, "tick", page.ShortNumber(math.Pow(10, d)))
		}
	}
	for i, b := range bars {
		y := float64(top + i*chartRow)
		s.text(chartLabels-8, y+13, "name", b.label)
		class := "bar"
		if b.unbound {
			class = "open"
		}
		s.rect(chartLabels, y+3, max(at(b.n), 1.5), chartRow-7, class, told[i])
		s.text(chartLabels+at(b.n)+5, y+13, "value", guessText(b.n, b.unbound))
	}
	s.rest(top+len(bars)*chartRow, more, "with fewer guesses")
	return s.end()
}

func guessText(n float64, unbound bool) string {
	if unbound {
		return "no bound"
	}
	return page.Grouped(int(n))
}

// worstChart draws, for each kind of place, its accounts by the worst verdict on
// the settings under which they live.
func worstChart(r *assess.Report) string {
	worst := map[*govern.Scope]check.Kind{}
	for i := range r.Weighing.Verdicts {
		v := &r.Weighing.Verdicts[i]
		if old, ok := worst[v.Scope]; !ok || v.Kind.Rank() > old.Rank() {
			worst[v.Scope] = v.Kind
		}
	}
	type bar struct {
		name   string
		counts map[check.Kind]int
		total  int
	}
	names := map[estate.Kind]string{estate.Domain: "in domains", estate.Machine: "on machines", estate.LDAP: "in LDAP directories",
		estate.Tenant: "in tenants"}
	var bars []*bar
	most := 0
	for _, kind := range []estate.Kind{estate.Domain, estate.Machine, estate.LDAP, estate.Tenant} {
		b := &bar{name: names[kind], counts: map[check.Kind]int{}}
		for _, s := range r.Weighing.Scopes {
			if s.Authority.Kind == kind && s.Listed() {
				b.counts[worst[s]] += s.Accounts // "": not weighed
				b.total += s.Accounts
			}
		}
		if b.total > 0 {
			bars, most = append(bars, b), max(most, b.total)
		}
	}
	if len(bars) == 0 {
		return ""
	}
	kinds := []check.Kind{check.Weak, check.Conflicting, check.Missing, check.Waived, check.Holds, ""}
	word := func(k check.Kind) string {
		if k == "" {
			return "not weighed"
		}
		return string(k)
	}
	var told []string
	for _, b := range bars {
		var parts []string
		for _, k := range kinds {
			if b.counts[k] > 0 {
				parts = append(parts, page.Grouped(b.counts[k])+" "+word(k))
			}
		}
		told = append(told, b.name+": "+strings.Join(parts, ", "))
	}
	const labels, row = 150, 26
	room := float64(chartWidth - labels - 60)
	var s svg
	top := 28
	s.begin(top+len(bars)*row+4, "worst", "Accounts by the worst verdict on their settings", strings.Join(told, ". "))
	s.patterns()
	x := float64(labels)
	for _, k := range kinds {
		s.rect(x, 4, 14, 10, "v-"+strings.ReplaceAll(word(k), " ", "-"), word(k))
		s.text(x+18, 13, "tick left", word(k))
		x += 34 + 6.2*float64(len(word(k)))
	}
	for i, b := range bars {
		y := float64(top + i*row)
		s.text(labels-8, y+16, "name", b.name)
		x := float64(labels)
		for _, k := range kinds {
			n := b.counts[k]
			if n == 0 {
				continue
			}
			width := max(room*float64(n)/float64(most), 2)
			class := strings.ReplaceAll(word(k), " ", "-")
			s.rect(x, y+3, width-1, row-8, "v-"+class, fmt.Sprintf("%s: %d %s", b.name, n, word(k)))
			if width > 24 {
				s.text(x+width/2, y+16, "in in-"+class, page.Grouped(n))
			}
			x += width
		}
		s.text(x+6, y+16, "value", page.Grouped(b.total))
	}
	return s.end()
}

// patterns are the fills by which verdicts are told apart without colour.
func (s *svg) patterns() {
	s.b.WriteString(`<defs><pattern id="hatch" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">` +
		`<rect width="5" height="5" class="h0"/><rect width="2" height="5" class="h1"/></pattern>` +
		`<pattern id="dots" width="5" height="5" patternUnits="userSpaceOnUse"><rect width="5" height="5" class="d0"/>` +
		`<circle cx="2" cy="2" r="1.1" class="d1"/></pattern>` +
		`<pattern id="lines" width="4" height="4" patternUnits="userSpaceOnUse"><rect width="4" height="4" class="l0"/>` +
		`<rect width="4" height="1" class="l1"/></pattern></defs>`)
}

// courseChart draws the findings of all weighings so far, a line for each
// verdict. One weighing has no course.
func courseChart(course []contract.CoursePoint) string {
	if len(course) < 2 {
		return ""
	}
	const height, left, right, top, bottom = 230, 44, 110, 12, 26
	most := 1
	for _, p := range course {
		for _, k := range check.Kinds[1:] {
			most = max(most, p.Findings[k])
		}
	}
	x := func(i int) float64 {
		return left + float64(i)*(chartWidth-left-right)/float64(len(course)-1)
	}
	y := func(n int) float64 { return height - bottom - float64(n)*(height-top-bottom)/float64(most) }
	var told []string
	for _, p := range course {
		told = append(told, fmt.Sprintf("weighing %d, %s: %d weak, %d conflicting, %d missing, %d waived", p.Weighing, p.At[:10],
			p.Findings[check.Weak], p.Findings[check.Conflicting], p.Findings[check.Missing], p.Findings[check.Waived]))
	}
	var s svg
	s.begin(height, "course", "Findings over the weighings", strings.Join(told, "; "))
	step := niceStep(most)
	for n := 0; n <= most; n += step {
		s.line(left, y(n), chartWidth-right, y(n), "grid")
		s.text(left-6, y(n)+4, "name", fmt.Sprint(n))
	}
	every := (len(course) + 9) / 10
	for i, p := range course {
		if i%every == 0 || i == len(course)-1 {
			s.text(x(i), height-8, "tick", fmt.Sprintf("%d", p.Weighing))
		}
	}
	// The names at the right ends keep off each other.
	type end struct {
		k check.Kind
		y float64
	}
	var ends []end
	for _, k := range check.Kinds[1:] {
		var path strings.Builder
		for i, p := range course {
			fmt.Fprintf(&path, "%s%.1f %.1f", map[bool]string{true: "M", false: "L"}[i == 0], x(i), y(p.Findings[k]))
		}
		fmt.Fprintf(&s.b, `<path d="%s" class="course c-%s"/>`, path.String(), k)
		for i, p := range course {
			if len(course) <= 40 {
				fmt.Fprintf(&s.b, `<circle cx="%.1f" cy="%.1f" r="2.6" class="dot c-%s"><title>%s</title></circle>`, x(i), y(p.Findings[k]),
					k, html.EscapeString(told[i]))
			}
		}
		ends = append(ends, end{k: k, y: y(course[len(course)-1].Findings[k])})
	}
	slices.SortFunc(ends, func(a, b end) int { return int(a.y - b.y) })
	for i := range ends {
		if i > 0 {
			ends[i].y = max(ends[i].y, ends[i-1].y+13)
		}
	}
	for over := ends[len(ends)-1].y - (height - bottom); over > 0; over = 0 {
		for i := range ends {
			ends[i].y -= over
		}
	}
	for _, e := range ends {
		s.text(chartWidth-right+8, e.y+4, "tick left t-"+string(e.k), fmt.Sprintf("%s %d", e.k, course[len(course)-1].Findings[e.k]))
	}
	return s.end()
}

// niceStep parts a scale into some five steps.
func niceStep(most int) int {
	step := 1
	for _, by := range []int{2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000, 10000, 100000, 1000000} {
		if most/step <= 6 {
			break
		}
		step = by
	}
	return step
}
