package page

import (
	"fmt"
	"strings"

	"sternledger/internal/assess"
	"sternledger/internal/contract"
	"sternledger/internal/core/drift"
)

// mostMoves is how many accounts are drawn unless asked for all.
const mostMoves = 20

// Drift draws what changed between two weighings.
func Drift(s *Sheet, r *drift.Report, amended *assess.AmendStatuses, all bool) error {
	d := contract.NewDriftDocument(r)
	s.Title(fmt.Sprintf("What changed from weighing %d to weighing %d", d.Before.Weighing, d.After.Weighing), d.Before.At[:10]+
		" to "+d.After.At[:10])
	if d.Nothing {
		s.Text("Nothing changed: the same evidence, governance, settings and findings.")
		return s.Err()
	}
	counts := map[drift.Way]int{}
	for _, f := range d.Findings {
		counts[f.Way]++
	}
	s.Text(fmt.Sprintf("Findings: %d new, %d worse, %d better, %d gone, %d waived, %d with their waiver ended. %s moved.",
		counts[drift.New], counts[drift.Worse], counts[drift.Better], counts[drift.Gone],
		counts[drift.Accepted], counts[drift.WaiverEnd], Quantity(len(d.Moves), "account")))
	if n := counts[drift.NotBefore] + counts[drift.NotNow]; n > 0 {
		s.Text(fmt.Sprintf("%s cannot be compared, because what was weighed with what changed.", Quantity(n, "finding")))
	}
	if text := exposedDrift(&d); text != "" {
		s.Text(text)
	}
	if len(amended.All) > 0 {
		s.Text("Of the change files: " + AmendStatusTotals(amended) + " sternledger amend --status shows each.")
	}
	part := func(title string, n int, draw func(i int)) {
		if n == 0 {
			return
		}
		s.Blank()
		s.Title(title, Grouped(n))
		for i := range n {
			if i == mostMoves && !all {
				s.Text("and " + Grouped(n-i) + " more; --verbose shows all")
				return
			}
			draw(i)
		}
	}
	changes := func(title string, list []contract.ChangeDocument) {
		part(title, len(list), func(i int) { change(s, &list[i]) })
	}
	// What is demanded comes first: without it, what follows reads as if somebody had worked.
	changes("Baselines", d.Baselines)
	changes("Decisions", d.Decisions)
	changes("Renamed", d.Renamed)
	changes("Evidence", d.Evidence)
	changes("Policies and their accounts", d.Scopes)
	part("Accounts that moved", len(d.Moves), func(i int) {
		m := d.Moves[i]
		s.Note("moved", fmt.Sprintf("%s of %s: from %s to %s", m.Account, m.Authority, m.From, m.To))
	})
	changes("Accounts that came and went", d.Accounts)
	part("Settings", len(d.Settings), func(i int) {
		x := d.Settings[i]
		s.Note(string(x.Way), fmt.Sprintf("%s, %s: %s → %s  (%s)", x.What, x.Setting, x.Before, x.After, x.Evidence))
	})
	part("Findings", len(d.Findings), func(i int) {
		f := d.Findings[i]
		word, why := string(f.Way), f.Why
		if f.Way == drift.NotBefore || f.Way == drift.NotNow {
			word, why = "no match", word+": "+why
		}
		if f.Way == drift.WaiverEnd {
			word = "unwaived"
		}
		text := f.After
		switch {
		case f.Before != "" && f.After != "" && f.Before != f.After:
			text = f.Before + " → " + f.After
		case f.After == "":
			text = "was " + f.Before
		}
		var rest []string
		if why != "" {
			rest = append(rest, why)
		}
		s.beside(word, string(f.Severity), plain, fmt.Sprintf("%s: %s: %s  [%s]", f.What, f.Headline, text, f.Fingerprint), rest)
	})
	changes("Waivers", d.Waivers)
	return s.Err()
}

func change(s *Sheet, c *contract.ChangeDocument) { s.Note(string(c.Way), ChangeText(c)) }

// changeText writes what changed, from what to what and why.
func ChangeText(c *contract.ChangeDocument) string {
	text := c.What
	short := func(v string) string { // a SHA-256 is told by its beginning
		if len(v) == 64 && !strings.Contains(v, " ") {
			return v[:12]
		}
		return v
	}
	switch {
	case c.Before != "" && c.After != "":
		text += ": " + short(c.Before) + " → " + short(c.After)
	case c.Before+c.After != "":
		text += ": " + short(c.Before+c.After)
	}
	if c.Why != "" {
		text += " (" + c.Why + ")"
	}
	return text
}

// DriftRows gives one row for each thing that changed.
func DriftRows(r *drift.Report) *Rows {
	d := contract.NewDriftDocument(r)
	rows := &Rows{Head: []string{"part", "way", "what", "about", "before", "after", "why"}}
	add := func(part, about string, c contract.ChangeDocument) {
		rows.Rows = append(rows.Rows, []string{part, string(c.Way), c.What, about, c.Before, c.After, c.Why})
	}
	for _, list := range []struct {
		part string
		all  []contract.ChangeDocument
	}{{"baseline", d.Baselines}, {"decision", d.Decisions}, {"renamed", d.Renamed}, {"evidence", d.Evidence}, {"scope", d.Scopes}, {"account", d.Accounts}, {"waiver", d.Waivers}} {
		for _, c := range list.all {
			add(list.part, "", c)
		}
	}
	for _, m := range d.Moves {
		add("move", m.Authority, contract.ChangeDocument{Way: "moved", What: m.Account, Before: m.From, After: m.To})
	}
	for _, x := range d.Settings {
		add("setting", string(x.Setting), x.ChangeDocument)
	}
	for _, f := range d.Findings {
		add("finding", f.Headline+" ["+f.Fingerprint+"]", f.ChangeDocument)
	}
	return rows
}
