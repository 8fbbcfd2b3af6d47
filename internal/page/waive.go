package page

import (
	"fmt"

	"sternledger/internal/core/check"
	"sternledger/internal/core/setting"
	"sternledger/internal/custody"
)

// Waived draws what a waive or a withdrawal recorded.
func Waived(s *Sheet, w *custody.Waived) error {
	title := Quantity(len(w.Waivers), "finding") + " waived"
	if w.Withdrew {
		title = Quantity(len(w.Waivers), "waiver") + " withdrawn"
	}
	s.Title(title, fmt.Sprintf("entry %d", w.Entry))
	for i := range w.Waivers[:min(len(w.Waivers), mostLike)] {
		waiver(s, &w.Waivers[i])
	}
	if more := len(w.Waivers) - mostLike; more > 0 {
		s.Text(fmt.Sprintf("and %s more: sternledger waive --list", Grouped(more)))
	}
	s.Text("Weigh again to see it in the verdicts.")
	return s.Err()
}

// Waivers draws all waivers with their states.
func Waivers(s *Sheet, all []check.Waiver) error {
	s.Title("Waivers", Quantity(len(all), "waiver"))
	if len(all) == 0 {
		s.Text("Nothing was waived.")
	}
	for i := range all {
		waiver(s, &all[i])
	}
	return s.Err()
}

func waiver(s *Sheet, w *check.Waiver) {
	head := w.Scope + ": " + AboutWaiver(w)
	lines := []string{fmt.Sprintf("accepted as %s, until %s: %s", Accepted(w), w.Until, w.Reason),
		fmt.Sprintf("by %s, %s, entry %d  [%s]", w.By, w.At[:min(len(w.At), 10)], w.Entry, w.Fingerprint)}
	state := string(w.State)
	if w.State == "" {
		state = string(check.Waived)
		if w.Withdrawn {
			state = string(check.Withdrawn)
		}
	}
	if w.Why != "" {
		lines = append(lines, state+": "+w.Why)
	}
	s.Entry(state, "", head, lines...)
}

// about says in a few words what a waiver is on.
func AboutWaiver(w *check.Waiver) string {
	if w.Check != "" {
		return w.Check
	}
	return setting.Get(w.Setting).Title
}

func Accepted(w *check.Waiver) string {
	text := string(w.Kind)
	if w.Kind == check.Weak && w.Check == "" {
		text += ", " + w.Observed
	}
	if w.Accounts != nil {
		text += ", for " + Quantity(*w.Accounts, "account")
	}
	return text
}

// WaiverRows gives one row for each waiver.
func WaiverRows(all []check.Waiver) *Rows {
	r := &Rows{Head: []string{"entry", "at", "by", "fingerprint", "scope", "check", "setting", "verdict", "observed", "until",
		"reason", "state", "why"}}
	for _, w := range all {
		r.Rows = append(r.Rows, []string{fmt.Sprint(w.Entry), w.At, w.By, w.Fingerprint, w.Scope, w.Check, string(w.Setting),
			string(w.Kind), w.Observed, w.Until, w.Reason, string(w.State), w.Why})
	}
	return r
}
