package page

import (
	"fmt"

	"sternledger/internal/assess"
	"sternledger/internal/core/rehearse"
	"sternledger/internal/core/setting"
)

// mostRows is how many rows of events are drawn unless asked for all.
const mostRows = 24

// Rehearsal draws what came of playing sign-ins: the outcome first.
func Rehearsal(s *Sheet, r *assess.Rehearsal, all bool) error {
	d := r.Document()
	aside := d.Scope
	if r.Who == d.Scope {
		aside = ""
	}
	s.Title("Rehearsed: "+r.Who, aside)
	sum := d.Summary
	text := fmt.Sprintf("%s, %s, %s refused because locked", Quantity(sum.Failures, "failure"), Quantity(sum.Locks, "lock"),
		Grouped(sum.Refused))
	if sum.Successes > 0 {
		text += ", " + Grouped(sum.Successes) + " let in"
	}
	first := "it does not lock"
	if sum.FirstLock != nil {
		first = "locked for the first time after " + setting.Span(*sum.FirstLock)
	}
	seen := "an observer sees failures that never reach the threshold, and no lock"
	if r.Lockout.Never {
		seen = "an observer sees failures, and no lock: nothing locks here"
	}
	if sum.Locks > 0 {
		seen = fmt.Sprintf("an observer sees %s", Quantity(sum.Locks, "lock"))
	}
	s.Entry("outcome", "", text, first, seen)
	for _, id := range []setting.ID{setting.LockoutThreshold, setting.LockoutWindow, setting.LockoutDuration} {
		if x := d.Settings[string(id)]; x != nil {
			s.Note("", fmt.Sprintf("%s: %s (%s, %s)", id, x.Text, x.From, x.Evidence))
		}
	}
	s.Note("counting", d.Counting)
	for _, n := range r.Asides {
		s.Note("old", n)
	}
	for _, n := range d.Notes {
		s.Note("disagrees", n)
	}
	s.Blank()
	s.Title("What happens", Quantity(len(r.Events), "event"))
	var rows [][]string
	rest := r.Events
	for len(rest) > 0 && (all || len(rows) < mostRows) {
		e, same := rest[0], 1
		for same < len(rest) && rest[same].Seconds == e.Seconds && rest[same].Kind == e.Kind {
			same++
		}
		text := kindText[e.Kind]
		if same > 1 {
			text = Grouped(same) + " × " + text
		}
		rows = append(rows, []string{clock(e.Seconds), text, Grouped(int(rest[same-1].Count))})
		rest = rest[same:]
	}
	s.Table([]Column{{Head: "after", Right: true}, {Head: "event"}, {Head: "failures counted", Right: true}}, rows)
	if len(rest) > 0 {
		s.Text("and " + Grouped(len(rest)) + " more events; --verbose shows all")
	}
	return s.Err()
}

var kindText = map[rehearse.Kind]string{
	rehearse.Failure: "wrong password", rehearse.Success: "let in", rehearse.Refused: "refused: locked",
	rehearse.Uncounted: "old password: refused, not counted", rehearse.Locked: "LOCKED", rehearse.Opened: "opens again",
	rehearse.Restarts: "failures forgotten",
}

// clock writes a time from the beginning as days, hours, minutes, seconds.
func clock(seconds int64) string {
	text := fmt.Sprintf("%02d:%02d:%02d", seconds/3600%24, seconds/60%60, seconds%60)
	if days := seconds / 86400; days > 0 {
		text = Quantity(int(days), "day") + " " + text
	}
	return text
}

// RehearsalRows gives one row for each event.
func RehearsalRows(r *assess.Rehearsal) *Rows {
	rows := &Rows{Head: []string{"seconds", "event", "count"}}
	for _, e := range r.Events {
		rows.Rows = append(rows.Rows, []string{fmt.Sprint(e.Seconds), string(e.Kind), fmt.Sprint(e.Count)})
	}
	return rows
}
