package page

import (
	"fmt"
	"strings"

	"sternledger/internal/contract"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
)

// Requirements draws how far the baselines are met, section by section.
func Requirements(s *Sheet, d *contract.RequirementsDocument) error {
	s.Title("Requirements", fmt.Sprintf("of weighing %d", d.Weighing))
	for i := range d.Baselines {
		b := &d.Baselines[i]
		if i > 0 {
			s.Blank()
		}
		s.Text(b.Title + " (" + b.ID + " " + b.Version + "): " + StatesText(b.States) + ".")
		rows := [][]string{}
		for k := range b.Requirements {
			r := &b.Requirements[k]
			rows = append(rows, []string{SectionText(r), string(r.State), Grouped(r.Met), Grouped(r.Failed), Grouped(r.Unknown), Grouped(r.Accepted),
				Grouped(r.Accounts), mattersText(r.Matters), fewSettings(r.Settings)})
		}
		s.Table([]Column{{Head: "section"}, {Head: "state"}, {Head: "holds", Right: true}, {Head: "fails", Right: true}, {Head: "missing", Right: true},
			{Head: "waived", Right: true, Drop: 2}, {Head: "accounts", Right: true, Drop: 3}, {Head: "matters"}, {Head: "settings", Drop: 1}}, rows)
	}
	if len(d.Baselines) == 0 {
		s.Text("No baseline was weighed against.")
		return s.Err()
	}
	s.Blank()
	s.Text("Counted are verdicts, one for each demand and scope, and enabled accounts in scopes that fail. Each kind of place by itself: --format csv.")
	return s.Err()
}

// StatesText counts sections by state, those that there are.
func StatesText(states map[record.State]int) string {
	var all []string
	sections := 0
	for _, state := range record.States {
		if n := states[state]; n > 0 {
			sections += n
			all = append(all, Grouped(n)+" "+string(state))
		}
	}
	return "of " + Quantity(sections, "section") + " " + strings.Join(all, ", ")
}

// SectionText names a section.
func SectionText(r *contract.RequirementDocument) string {
	if r.Section == "" {
		return "without one"
	}
	return r.Section
}

// mostOfSettings is how many settings of a section are named on a terminal.
const mostOfSettings = 3

func fewSettings(ids []setting.ID) string {
	text := SettingsText(ids[:min(len(ids), mostOfSettings)])
	if more := len(ids) - mostOfSettings; more > 0 {
		text += fmt.Sprintf(" +%d", more)
	}
	return text
}

// SettingsText names settings by their titles.
func SettingsText(ids []setting.ID) string {
	var all []string
	for _, id := range ids {
		all = append(all, strings.ToLower(setting.Get(id).Title))
	}
	return strings.Join(all, ", ")
}

// mostOfSection is how many matters of a section are named.
const mostOfSection = 4

func mattersText(all []string) string {
	text := strings.Join(all[:min(len(all), mostOfSection)], " ")
	if more := len(all) - mostOfSection; more > 0 {
		text += fmt.Sprintf(" +%d", more)
	}
	return text
}

// RequirementRows gives a row for each section and kind of place, and one for all of them.
func RequirementRows(d *contract.RequirementsDocument) *Rows {
	r := &Rows{Head: []string{"baseline", "version", "section", "settings", "platform", "state", "holds", "fails", "missing", "waived", "accounts", "matters"}}
	for i := range d.Baselines {
		b := &d.Baselines[i]
		for k := range b.Requirements {
			x := &b.Requirements[k]
			var ids []string
			for _, id := range x.Settings {
				ids = append(ids, string(id))
			}
			add := func(platform string, t *contract.TallyDocument) {
				r.Rows = append(r.Rows, []string{b.ID, b.Version, x.Section, strings.Join(ids, " "), platform, string(t.State), fmt.Sprint(t.Met),
					fmt.Sprint(t.Failed), fmt.Sprint(t.Unknown), fmt.Sprint(t.Accepted), fmt.Sprint(t.Accounts), strings.Join(x.Matters, " ")})
			}
			add("all", &x.TallyDocument)
			for p := range x.By {
				add(string(x.By[p].Platform), &x.By[p].TallyDocument)
			}
		}
	}
	return r
}
