package report

import (
	"fmt"
	"io"
	"strings"

	g "maragu.dev/gomponents"
	h "maragu.dev/gomponents/html"

	"sternledger/internal/assess"
	"sternledger/internal/contract"
	"sternledger/internal/core/amend"
	"sternledger/internal/core/check"
	"sternledger/internal/core/record"
	"sternledger/internal/page"
)

// What fits on one A4 page.
const (
	mostDecisions = 5
	mostStandards = 6
)

// boardStyle puts the page on one sheet.
const boardStyle = `@page{size:A4;margin:12mm 14mm}main{max-width:48rem}h2{margin:1.2rem 0 .3rem}.decide li{margin:.35rem 0}` +
	`@media print{.lead{font-size:12pt}h1{font-size:15pt}h2{font-size:11.5pt;margin:.7rem 0 .2rem}body{font-size:9pt;line-height:1.3}svg{max-height:52mm}figure{margin:.2rem 0}.decide li{margin:.15rem 0}}`

// reportBoard writes one page for those who decide and do not read reports: how it stands, what
// changes would buy, how far standards are met, and five things to decide.
func reportBoard(w io.Writer, r *assess.Report) error {
	requirements := contract.NewRequirementsDocument(r.Weighing.Record, r.Weighing.Record.Requirements())
	standards := requirements.Baselines[:min(len(requirements.Baselines), mostStandards)]
	columns := []column{{head: "standard"}}
	for _, state := range record.States {
		columns = append(columns, column{string(state), true})
	}
	return g.Group{h.Doctype(h.HTML(h.Lang("en"),
		h.Head(
			h.Meta(h.Charset("utf-8")),
			h.Meta(h.Name("viewport"), h.Content("width=device-width, initial-scale=1")),
			h.Meta(g.Attr("http-equiv", "Content-Security-Policy"), h.Content(policyOfContent)),
			h.TitleEl(text(r.Title+": for the board")),
			h.StyleEl(g.Raw(reportStyle), g.Raw(boardStyle)),
		),
		h.Body(h.Main(
			h.H1(text(r.Title)),
			aside(words("Password and lockout settings, ", r.Weighing.At.Format("2 January 2006"), "; ", r.Weighing.Age(), ".")),
			h.P(h.Class("lead"), text(sentence(r))),
			chart("Accounts that would fall within a year, after one amendment and the next", fallsChart("stairs",
				"Accounts that would fall within a year, after one amendment and the next", stairs(r), true)),
			chart("The same, over the weighings", fallsChart("trend", "Accounts that would fall within a year, over the weighings", trend(r.Course), false)),
			aside(text("To compare, not to foretell: under stated assumptions.")),
			decisions(r),
			when(len(standards) > 0, func() g.Node {
				return g.Group{h.H2(g.Text("Standards, by their sections")),
					table(columns, standards, func(b contract.BaselineRequirementDocument) []g.Node {
						cells := []g.Node{h.Td(text(b.Title))}
						for _, state := range record.States {
							cells = append(cells, h.Td(h.Class("n"), text(page.Grouped(b.States[state]))))
						}
						return cells
					}),
					when(len(requirements.Baselines) > len(standards), func() g.Node {
						return aside(text(fmt.Sprintf("%d more in the report.", len(requirements.Baselines)-len(standards))))
					})}
			}),
			aside(words(fmt.Sprintf("Weighing %d, by %s, seal %s. The report has the evidence. Confidential.", r.Weighing.Number, r.Auditor, r.Seal))),
		)),
	)), g.Text("\n")}.Render(w)
}

// decisions are the matters that come first, each with what there is to choose.
func decisions(r *assess.Report) g.Node {
	var all []*record.Matter
	for _, m := range r.Weighing.Matters() {
		if m.Kind != check.Waived && len(all) < mostDecisions {
			all = append(all, m)
		}
	}
	if len(all) == 0 {
		return said("Nothing is to be decided.")
	}
	return g.Group{h.H2(text("To decide")),
		h.Ol(h.Class("decide"), g.Map(all, func(m *record.Matter) g.Node {
			choice := "Accept it until a day, or: " + lowerFirst(page.WayOut(&m.Row))
			if names := settledBy(r, m); len(names) > 0 {
				choice = "Change it (" + strings.Join(names, ", ") + "), or accept it until a day."
			} else if m.Kind == check.Missing {
				choice = page.WayOut(&m.Row)
			}
			return h.Li(h.B(text(m.Title)), words(". ", page.Where(&m.Row), ". "), text(choice))
		}))}
}

// mostNamedChanges is how many amendments are named that settle something of a matter.
const mostNamedChanges = 4

func settledBy(r *assess.Report, m *record.Matter) (names []string) {
	if r.Plan == nil {
		return nil
	}
	of := map[string]bool{}
	for _, f := range m.Findings {
		of[f.Fingerprint] = true
	}
	settles := func(a *amend.Amendment) bool {
		for _, f := range a.Settles {
			if of[f.Fingerprint] {
				return true
			}
		}
		return false
	}
	more := 0
	for _, a := range r.Plan.Amendments {
		switch {
		case !settles(a):
		case len(names) < mostNamedChanges:
			names = append(names, a.Name)
		default:
			more++
		}
	}
	if more > 0 {
		names = append(names, fmt.Sprintf("and %d more", more))
	}
	return names
}

// lowerFirst begins a sentence within another.
func lowerFirst(s string) string {
	if s == "" {
		return s
	}
	return strings.ToLower(s[:1]) + s[1:]
}
