package report

import (
	"fmt"
	"html"
	"strings"

	"sternledger/internal/assess"
	"sternledger/internal/contract"
	"sternledger/internal/core/amend"
	"sternledger/internal/core/exposure"
	"sternledger/internal/page"
)

// mostSteps is how many amendments the staircase has.
const mostSteps = 10

// fall is how many accounts would fall within a year, at one point of a chart.
type fall struct {
	name string // under the chart
	told string // in words
	exposure.Total
}

// stairs are how exposed the estate is, after one amendment and the next, and with all of
// them; none where the record does not say.
func stairs(r *assess.Report) []fall {
	if r.Plan == nil {
		return nil
	}
	steps := amend.Staircase(r.Weighing.Record, r.Plan.Amendments, mostSteps)
	now, then := exposure.Sum(r.Weighing.Population)
	if len(steps) == 0 {
		return nil
	}
	all := []fall{{"now", "now", now}}
	for i := range steps {
		s := &steps[i]
		all = append(all, fall{s.Name, s.Name + ", " + s.Title() + " to " + s.Becomes() + " at " + page.AmendWhere(s.Amendment), s.After})
	}
	return append(all, fall{"all", "with every finding mended", then})
}

// trend is how exposed the estate was, from one weighing to the next. One has no trend, nor
// have those of which any was made by a version that valued nothing.
func trend(course []contract.CoursePoint) []fall {
	var all []fall
	for _, p := range course {
		if p.Exposure != nil {
			all = append(all, fall{fmt.Sprint(p.Weighing), fmt.Sprintf("weighing %d, %s", p.Weighing, p.At[:10]), p.Exposure.Total()})
		}
	}
	if len(all) < 2 {
		return nil
	}
	return all
}

// fallsChart draws how many accounts would fall: a line for all and one for privileged ones,
// each with what it is at least and at most as a band. With steps, a value holds until the
// next point.
func fallsChart(id, title string, all []fall, steps bool) string {
	if len(all) == 0 {
		return ""
	}
	const height, left, right, top, bottom = 250, 44, 130, 14, 26
	tiers := []struct {
		class, name string
		of          func(*fall) exposure.Range
	}{{"all", "all", func(f *fall) exposure.Range { return f.Falls }}, {"admins", "privileged", func(f *fall) exposure.Range { return f.Admins }}}
	most := exposure.Millionths(1)
	privileged := false
	var told []string
	for i := range all {
		f := &all[i]
		most, privileged = max(most, f.Falls.Most), privileged || f.Admins.Most > 0
		text := f.told + ": " + page.FallsRange(f.Falls)
		if f.Admins.Most > 0 {
			text += ", privileged " + page.FallsRange(f.Admins)
		}
		told = append(told, text)
	}
	if !privileged {
		tiers = tiers[:1]
	}
	parts := len(all)
	if !steps {
		parts--
	}
	width := float64(chartWidth-left-right) / float64(max(parts, 1))
	x := func(i int) float64 { return left + float64(i)*width }
	y := func(m exposure.Millionths) float64 {
		return height - bottom - float64(max(m, 0))/float64(most)*(height-top-bottom)
	}
	var s svg
	s.begin(height, id, title, strings.Join(told, "; "))
	step := niceStep(int(most.Float() + 0.999))
	for n := 0; float64(n) <= most.Float(); n += step {
		s.line(left, y(exposure.Millionths(n)*exposure.One), chartWidth-right, y(exposure.Millionths(n)*exposure.One), "grid")
		s.text(left-6, y(exposure.Millionths(n)*exposure.One)+4, "name", fmt.Sprint(n))
	}
	path := func(of func(*fall) exposure.Millionths, back bool) string {
		var b strings.Builder
		for k := range all {
			i := k
			if back {
				i = len(all) - 1 - k
			}
			from, to := x(i), x(i)
			if steps {
				to = x(i + 1)
			}
			if back {
				from, to = to, from
			}
			fmt.Fprintf(&b, "L%.1f %.1f", from, y(of(&all[i])))
			if steps {
				fmt.Fprintf(&b, "L%.1f %.1f", to, y(of(&all[i])))
			}
		}
		return b.String()
	}
	var ends []float64
	for _, t := range tiers {
		upper := path(func(f *fall) exposure.Millionths { return t.of(f).Most }, false)
		lower := path(func(f *fall) exposure.Millionths { return t.of(f).Least }, true)
		middle := path(func(f *fall) exposure.Millionths { return t.of(f).Default }, false)
		fmt.Fprintf(&s.b, `<path d="M%sZ" class="band b-%s"/>`, upper[1:]+lower, t.class)
		fmt.Fprintf(&s.b, `<path d="M%s" class="course f-%s"/>`, middle[1:], t.class)
		ends = append(ends, y(t.of(&all[len(all)-1]).Default))
	}
	if len(ends) == 2 && ends[1]-ends[0] < 13 {
		ends[0] = ends[1] - 13
	}
	for i, t := range tiers {
		s.text(chartWidth-right+8, ends[i]+4, "tick left", t.name+" "+page.Falls(t.of(&all[len(all)-1]).Default))
	}
	every := (len(all) + 11) / 12
	for i := range all {
		middle := x(i)
		if steps {
			middle += width / 2
		}
		if i%every == 0 || i == len(all)-1 {
			s.text(middle, height-8, "tick", all[i].name)
		}
		fmt.Fprintf(&s.b, `<rect x="%.1f" y="%d" width="%.1f" height="%d" class="touch"><title>%s</title></rect>`, middle-width/2, top, width,
			height-top-bottom, html.EscapeString(page.Clean(told[i])))
	}
	return s.end()
}
