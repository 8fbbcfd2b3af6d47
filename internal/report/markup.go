package report

import (
	_ "embed"
	"fmt"
	"io"
	"strings"

	"sternledger/internal/contract"
	"sternledger/internal/core/amend"
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/record"
	"sternledger/internal/core/weigh"
	"sternledger/internal/custody"
	"sternledger/internal/ledger"
	"sternledger/internal/page"

	g "maragu.dev/gomponents"
	h "maragu.dev/gomponents/html"
)

// The page is built from elements in Go: a template that looks up methods by their
// names would keep every method of every linked type in the program.

//go:embed report.css
var reportStyle string

//go:embed report.js
var reportScript string

// policyOfContent lets the page load nothing.
const policyOfContent = "default-src 'none'; style-src 'unsafe-inline'; script-src 'unsafe-inline'; img-src data:"

// markup writes the page.
func (v *htmlReport) markup(w io.Writer) error {
	data, err := v.Data.JSON()
	if err != nil {
		return err
	}
	title := fmt.Sprintf("%s: weighing %d", v.Title, v.Weighing.Number)
	return g.Group{h.Doctype(h.HTML(h.Lang("en"),
		h.Head(
			h.Meta(h.Charset("utf-8")),
			h.Meta(h.Name("viewport"), h.Content("width=device-width, initial-scale=1")),
			h.Meta(g.Attr("http-equiv", "Content-Security-Policy"), h.Content(policyOfContent)),
			h.TitleEl(text(title)),
			h.StyleEl(g.Raw(reportStyle), g.Raw(v.sheets())),
		),
		h.Body(
			h.A(h.Class("skip"), h.Href("#matters"), g.Text("To the matters")),
			v.heading(),
			h.Main(v.glance(), v.mattersPart(), v.placesPart(), v.requirementsPart(), v.waiversPart(), v.driftPart(), v.gapsPart(), v.forecastPart(),
				v.methodPart(), v.evidencePart(), v.sealPart()),
			h.Footer(text(fmt.Sprintf("%s, weighing %d. Confidential: it tells where accounts can be attacked.", v.Title, v.Weighing.Number))),
			h.Script(h.Type("application/json"), h.ID("data"), g.Raw(data)),
			h.Script(g.Raw(reportScript)),
		),
	)), g.Text("\n")}.Render(w)
}

// sheets is the style of printed sheets, with what stands in their margins.
func (v *htmlReport) sheets() string {
	const font = ";font:8pt Georgia,serif;color:#5f5a50}"
	return "@page{size:A4;margin:16mm 13mm 15mm" +
		";@top-left{content:" + styleText(page.Clean(v.Title)) + font +
		fmt.Sprintf(`@top-right{content:"Weighing %d"`, v.Weighing.Number) + font +
		`@bottom-left{content:"Confidential"` + font +
		`@bottom-right{content:"Page " counter(page) " of " counter(pages)` + font + "}\n"
}

// styleText is text as a string of CSS: what could end the string or the style
// around it is written by its number.
func styleText(text string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range text {
		if strings.ContainsRune(`"'\<>&/`, r) || r < ' ' {
			fmt.Fprintf(&b, `\%x `, r)
			continue
		}
		b.WriteRune(r)
	}
	return b.String() + `"`
}

// text is a text of the evidence or the program's: nothing in it is obeyed.
func text(s string) g.Node { return g.Text(page.Clean(s)) }

// words are texts one behind the other.
func words(all ...string) g.Node { return text(strings.Join(all, "")) }

func paragraph(children ...g.Node) g.Node { return h.P(children...) }

// aside is a paragraph that stands back, faint a few words that do.
func aside(children ...g.Node) g.Node { return h.P(h.Class("faint"), g.Group(children)) }
func faint(children ...g.Node) g.Node { return h.Span(h.Class("faint"), g.Group(children)) }

// said is a paragraph of a text, where there is one.
func said(s string) g.Node { return when(s != "", func() g.Node { return h.P(text(s)) }) }

// when builds a node only where it is wanted.
func when(wanted bool, node func() g.Node) g.Node { return g.Iff(wanted, node) }

// series puts commas between nodes.
func series[T any](all []T, node func(T) g.Node) g.Node {
	var nodes g.Group
	for i, x := range all {
		if i > 0 {
			nodes = append(nodes, g.Text(", "))
		}
		nodes = append(nodes, node(x))
	}
	return nodes
}

// section is a part of the page that the contents lead to.
func section(id, title string, children ...g.Node) g.Node {
	return h.Section(h.ID(id), h.Aria("labelledby", "h-"+id), h.H2(h.ID("h-"+id), text(title)), g.Group(children))
}

// entry has a word in the margin, and beside it what there is to say.
func entry(margin g.Node, body ...g.Node) g.Node {
	return h.Div(h.Class("entry"), h.Div(h.Class("m"), margin), h.Div(h.Class("b"), g.Group(body)))
}

// marked is a word of the margin in the colour of its class.
func marked(class, word string) g.Node { return h.B(h.Class(class), text(word)) }

// column is a table's column: its head, and whether it holds numbers.
type column struct {
	head   string
	number bool
}

// table has a row for each of all.
func table[T any](columns []column, all []T, row func(T) []g.Node) g.Node {
	return h.Table(
		h.THead(h.Tr(g.Map(columns, func(c column) g.Node {
			return h.Th(h.Scope("col"), g.If(c.number, h.Class("n")), g.Text(c.head))
		}))),
		h.TBody(g.Map(all, func(x T) g.Node { return h.Tr(g.Group(row(x))) })),
	)
}

// wide lets a table scroll by itself, by keys too.
func wide(label string, table g.Node) g.Node {
	return h.Div(h.Class("wide"), h.TabIndex("0"), h.Role("region"), h.Aria("label", label), table)
}

// chart is a picture with its caption, where there is one.
func chart(caption, picture string) g.Node {
	return when(picture != "", func() g.Node { return h.Figure(h.FigCaption(text(caption)), g.Raw(picture)) })
}

func linkTo(m *htmlMatter) g.Node {
	return h.A(h.Href("#"+m.ID), h.Title(page.Clean(m.Title)), text(m.Name))
}

func findings(n int) string { return page.Quantity(n, "finding") }

func (v *htmlReport) heading() g.Node {
	to := func(id, title string) g.Node { return g.Group{h.Li(h.A(h.Href("#"+id), text(title))), g.Text("\n")} }
	return h.Header(
		h.H1(text(v.Title)),
		aside(words("Password and lockout settings. Weighing ", fmt.Sprint(v.Weighing.Number), " of ",
			v.Weighing.At.Format("2 January 2006, 15:04 UTC"), ", by ", v.Auditor, ".")),
		h.Nav(h.Aria("label", "Contents"), h.Ol(
			to("glance", "At a glance"), to("matters", "Matters"), to("places", "Places and settings"), to("requirements", "Requirements"),
			to("waivers", "Waivers"),
			when(v.compared(), func() g.Node { return to("drift", "What changed") }),
			to("gaps", "Gaps"), to("forecast", "Forecast"), to("method", "Method"), to("evidence", "Evidence"), to("seal", "Seal"),
		)),
	)
}

func (v *htmlReport) glance() g.Node {
	return section("glance", "At a glance",
		h.P(h.Class("lead"), text(v.Sentence)),
		g.Map(v.Looked, said),
		when(v.Changed() != "", func() g.Node {
			return paragraph(words(v.Changed(), " "), h.A(h.Href("#drift"), g.Text("What changed")))
		}),
		chart("Accounts that would fall within a year, after one amendment and the next", v.Stairs),
		said(page.Exposed(v.Weighing)),
		when(len(v.Gravest()) > 0, func() g.Node { return h.H3(g.Text("What comes first")) }),
		g.Map(v.Gravest(), func(m *htmlMatter) g.Node {
			return entry(g.Group{marked(string(m.Severity), string(m.Severity)), h.Span(h.Class(string(m.Kind)), text(string(m.Kind)))},
				h.H4(h.A(h.Href("#"+m.ID), text(m.Title))), paragraph(words(m.Where, ". ", sentenceOf(m.Reason)), worthOf(&m.Row)))
		}),
		chart("Accounts by the worst verdict on their settings", v.Worst),
		said(v.Status()),
		v.nextSteps(),
		when(len(v.Matters) > len(v.ToDo), func() g.Node {
			return aside(text(fmt.Sprintf("All %d matters follow, in this order.", len(v.Matters))))
		}),
	)
}

// nextSteps are the amendments, or the matters where none is planned.
func (v *htmlReport) nextSteps() g.Node {
	changes := v.Changes()
	switch {
	case len(changes) > 0:
		return g.Group{h.H3(g.Text("What to change, in this order")),
			h.Ol(h.Class("todo"), g.Map(changes, func(a *amend.Amendment) g.Node {
				return h.Li(h.B(text(a.Name)), words(" ", a.Title(), ": ", a.Was(), " to ", a.Becomes(), ", ", page.AmendWhere(a), " "),
					words(page.AmendHeld(a, v.Weighing.At), " "), faint(words(page.Quantity(a.Accounts, "account"), "; settles ", findings(len(a.Settles)), " by itself.")))
			})),
			aside(text(v.ChangesMore()))}
	case len(v.ToDo) > 0:
		return g.Group{h.H3(g.Text("What to do, in this order")),
			h.Ol(h.Class("todo"), g.Map(v.ToDo, func(m *htmlMatter) g.Node {
				return h.Li(words(m.Remedy, " "), faint(words(m.Where, "; settles ", findings(len(m.Findings)), " ("),
					h.A(h.Href("#"+m.ID), text(m.Name)), g.Text(").")))
			}))}
	}
	return nil
}

func (v *htmlReport) mattersPart() g.Node {
	return section("matters", "Matters",
		aside(text(fmt.Sprintf("A matter is one setting or one check that is wrong, in one place or in many. %s, each in one of %s.",
			findings(len(v.Weighing.Findings)), page.Quantity(len(v.Matters), "matter")))),
		v.filter(),
		g.Map(v.Matters, matterEntry),
		when(len(v.Matters) == 0, func() g.Node { return said("No findings.") }),
	)
}

// filter is what the script narrows the matters by.
func (v *htmlReport) filter() g.Node {
	choice := func(name string, options ...g.Node) g.Node {
		return h.Label(g.Text(name), h.Select(h.Name(name), h.Option(h.Value(""), g.Text("all")), g.Group(options)))
	}
	option := func(word string) g.Node { return h.Option(text(word)) }
	return h.Form(h.Class("filter"), h.Role("search"), h.Aria("label", "Search and filter"),
		h.Label(h.Class("search"), g.Text("search"),
			h.Input(h.Type("search"), h.Name("q"), h.Placeholder("place, setting, words"), h.AutoComplete("off"))),
		choice("place", g.Map(v.Cohorts, func(c *htmlCohort) g.Node { return h.Option(h.Value(c.ID), text(c.Title)) })),
		choice("verdict", g.Map(v.Kinds, func(k check.Kind) g.Node { return option(string(k)) })),
		choice("severity", g.Map([]baseline.Severity{baseline.Grave, baseline.Serious, baseline.Minor},
			func(s baseline.Severity) g.Node { return option(string(s)) })),
		choice("baseline", g.Map(v.Baselines, option)),
		h.Button(h.Type("reset"), g.Text("Show all")), h.Button(h.Type("button"), h.ID("printall"), g.Text("Print everything")),
		g.El("output", h.Aria("live", "polite")),
	)
}

func matterEntry(m *htmlMatter) g.Node {
	return h.Article(h.Class("entry matter "+string(m.Severity)), h.ID(m.ID),
		h.Div(h.Class("m"), marked(string(m.Severity), string(m.Severity)), h.Span(h.Class(string(m.Kind)), text(string(m.Kind))), h.Span(text(m.Name))),
		h.Div(h.Class("b"),
			h.H3(text(m.Title)),
			paragraph(text(m.Where),
				when(len(m.Examples) > 0, func() g.Node {
					return h.Span(h.Class("faint who"), g.Text(" ("), series(m.Examples, text), g.Text(")"))
				}),
				h.Span(h.Class("why"), g.Text("."), when(!m.Reasons, func() g.Node { return words(" ", sentenceOf(m.Reason)) })), worthOf(&m.Row)),
			when(m.Demanded != "", func() g.Node {
				return h.P(h.Class("faint demand"), words("required: ", m.Stated))
			}),
			h.P(h.Class("out"), faint(g.Text("Fix:")), words(" ", m.Remedy)),
			when(len(m.Rows) > 1, func() g.Node { return rowsOf(m) }),
			h.Details(h.Summary(words(findings(len(m.Findings)), ", with evidence")),
				when(m.Doc != "", func() g.Node { return aside(words(string(m.Check), ": ", m.Doc)) }),
				g.Map(m.Groups, func(x page.Group) g.Node { return groupOf(m, x) }),
				when(m.More > 0, func() g.Node {
					return h.Div(h.Class("more"), h.Data("matter", m.ID),
						aside(words(page.Grouped(m.More), " more: sternledger weigh --matter ", m.Name, ", or the working paper.")))
				}))))
}

// sentenceOf ends a reason with a full stop.
func sentenceOf(text string) string {
	if text == "" || strings.ContainsAny(text[len(text)-1:], ".!?") {
		return text
	}
	return text + "."
}

// worthOf says what mending something is worth, where a model says so.
func worthOf(r *record.Row) g.Node {
	worth := page.WorthText(r.Worth)
	return when(worth != "", func() g.Node { return h.Span(h.Class("faint"), words(" ", strings.ToUpper(worth[:1])+worth[1:], ".")) })
}

// rowsOf has a row for each value, or each reason, of a matter.
func rowsOf(m *htmlMatter) g.Node {
	columns := []column{{head: "severity"}, {head: "what"}, {head: "required"}, {head: "places", number: true}, {head: "accounts", number: true},
		{head: "worth", number: true}}
	rows := m.Rows[:min(len(m.Rows), mostGroups)]
	return h.Div(h.Class("rows"), wide("the values of "+m.Name, table(columns, rows, func(r *record.Row) []g.Node {
		cells := page.RowCells(r, m.Matter)
		return []g.Node{h.Td(text(cells[0])), h.Td(text(cells[1])), h.Td(text(cells[2])), h.Td(h.Class("n"), text(cells[3])),
			h.Td(h.Class("n"), text(cells[4])), h.Td(h.Class("n"), text(cells[5]))}
	})), when(len(m.Rows) > len(rows), func() g.Node {
		return aside(words(page.Grouped(len(m.Rows)-len(rows)), " more in the working paper."))
	}))
}

func groupOf(m *htmlMatter, x page.Group) g.Node {
	return h.Div(h.Class("group"),
		paragraph(h.B(text(x.Head)), g.Text(" "), faint(text(string(x.Severity)))),
		when(m.Reasons, func() g.Node { return said(x.Reason) }),
		g.Map(x.Lines, func(line string) g.Node { return h.P(h.Class("raw"), text(line)) }))
}

func (v *htmlReport) placesPart() g.Node {
	return section("places", "Places and settings",
		aside(g.Text("Places that are alike in every setting and verdict are told once. Open one for its policies, settings and evidence.")),
		g.Map(v.Cohorts, func(c *htmlCohort) g.Node {
			note := c.Note
			if len(c.Matters) > 0 {
				note += "; " + page.Quantity(len(c.Matters), "matter")
			}
			return h.Details(h.Class("cohort"), h.ID(c.ID), h.Summary(words(c.Title, " "), faint(text(note))),
				when(len(c.Names) > 0, func() g.Node { return aside(series(c.Names, text)) }),
				when(len(c.Matters) > 0, func() g.Node { return paragraph(g.Text("Matters here: "), series(c.Matters, linkTo)) }),
				g.Map(c.Policies, policyPart))
		}))
}

func policyPart(p htmlPolicy) g.Node {
	columns := []column{{head: "setting"}, {head: "effective value"}, {head: "as written"}, {head: "evidence"}, {head: "from"}}
	return g.Group{
		h.H4(words(p.Title, " "), faint(text(p.Note))),
		when(p.Governs != "", func() g.Node { return h.P(h.Class("raw"), text(p.Governs)) }),
		table(columns, p.Settings, func(s htmlSetting) []g.Node {
			return []g.Node{h.Td(text(s.Title)), h.Td(g.If(s.Missing, h.Class("faint")), text(s.Value)), h.Td(h.Class("raw"), text(s.Raw)),
				h.Td(h.Class("raw"), text(s.Evidence)), h.Td(text(s.From))}
		}),
	}
}

// requirementsPart says how far each baseline is met, and, folded, each of its sections.
func (v *htmlReport) requirementsPart() g.Node {
	d := contract.NewRequirementsDocument(v.Weighing.Record, v.Weighing.Record.Requirements())
	if len(d.Baselines) == 0 {
		return nil
	}
	columns := []column{{head: "baseline"}}
	for _, state := range record.States {
		columns = append(columns, column{string(state), true})
	}
	sections := []column{{head: "section"}, {head: "state"}, {"holds", true}, {"fails", true}, {"missing", true}, {"waived", true},
		{"accounts", true}, {head: "matters"}, {head: "settings"}}
	return section("requirements", "Requirements",
		said("How many sections of each baseline are met: counted from the verdicts above, one for each demand and account scope. "+
			"Partly met: in some scopes, and in others not. Accepted: where it is not met, the risk was accepted. Not known: evidence is missing."),
		wide("Requirements", table(columns, d.Baselines, func(b contract.BaselineRequirementDocument) []g.Node {
			cells := []g.Node{h.Td(text(b.Title))}
			for _, state := range record.States {
				cells = append(cells, h.Td(h.Class("n"), text(page.Grouped(b.States[state]))))
			}
			return cells
		})),
		g.Map(d.Baselines, func(b contract.BaselineRequirementDocument) g.Node {
			return h.Details(h.Summary(text(b.Title+", section by section")),
				wide(b.Title, table(sections, b.Requirements, func(r contract.RequirementDocument) []g.Node {
					cells := []g.Node{h.Td(text(page.SectionText(&r))), h.Td(text(string(r.State)))}
					for _, n := range []int{r.Met, r.Failed, r.Unknown, r.Accepted, r.Accounts} {
						cells = append(cells, h.Td(h.Class("n"), text(page.Grouped(n))))
					}
					return append(cells, h.Td(series(r.Matters, func(name string) g.Node { return h.A(h.Href("#"+strings.ToLower(name)), text(name)) })), h.Td(text(page.SettingsText(r.Settings))))
				})))
		}))
}

func (v *htmlReport) waiversPart() g.Node {
	none := "Nothing was waived."
	if v.Behind != "" {
		none = "No waiver is in this weighing. " + v.Behind
	}
	return section("waivers", "Waivers",
		g.Map(v.Weighing.Waivers, func(w check.Waiver) g.Node {
			more := ""
			if w.Why != "" {
				more = "; " + w.Why
			}
			return entry(marked("waived", string(w.State)),
				h.H4(words(w.Scope, ": ", page.AboutWaiver(&w))),
				paragraph(words("accepted as ", page.Accepted(&w), ", until ", w.Until, ": ", w.Reason)),
				aside(words("by ", w.By, ", ", day(w.At), fmt.Sprintf(", entry %d [%s]", w.Entry, w.Fingerprint), more)))
		}),
		when(len(v.Weighing.Waivers) == 0, func() g.Node { return said(none) }))
}

func (v *htmlReport) driftPart() g.Node {
	return when(v.compared(), func() g.Node {
		return section("drift", fmt.Sprintf("What changed since weighing %d", v.Report.Drift.Before.Number),
			when(v.Nothing, func() g.Node { return said("Nothing changed: the same evidence, governance, settings and findings.") }),
			g.Map(v.Drift, func(c htmlChange) g.Node {
				return g.Group{h.H3(text(c.Part)),
					g.Map(c.Lines, func(line htmlLine) g.Node { return entry(text(line.Word), said(line.Text)) }),
					when(c.More > 0, func() g.Node {
						return aside(words("and ", page.Grouped(c.More), ` more; "sternledger drift --verbose" shows all`))
					})}
			}))
	})
}

func (v *htmlReport) gapsPart() g.Node {
	lacking := v.Lacking()
	return section("gaps", "Gaps in the evidence",
		when(len(lacking) > 0, func() g.Node {
			return paragraph(g.Text("The evidence lacks what these matters name: "), series(lacking, linkTo),
				g.Text(". No default was taken in its place."))
		}),
		when(len(v.Gaps) > 0, func() g.Node {
			return table([]column{{head: "line"}, {head: "not understood"}}, v.Gaps, func(x htmlGap) []g.Node {
				return []g.Node{h.Td(h.Class("raw"), text(x.Where)), h.Td(text(x.What))}
			})
		}),
		when(v.MoreGaps > 0, func() g.Node {
			return aside(words("and ", page.Grouped(v.MoreGaps), " more; the working paper lists all"))
		}),
		when(len(lacking)+len(v.Gaps) == 0, func() g.Node { return said("None.") }))
}

func (v *htmlReport) forecastPart() g.Node {
	if len(v.Forecasts) == 0 {
		return section("forecast", "Forecast", said("No account scopes: the evidence holds templates only."))
	}
	columns := []column{{"policy", false}, {"guesses, no lock", true}, {"into locks (locks)", true}, {"back on the old password", true},
		{"bits", true}, {"weak taken", true}, {"changes a year", true}}
	tried := v.Report.Forecasts.Scopes[0].Now.Weak.Tried
	return section("forecast", "Forecast",
		said("What the settings allow an attacker and ask of a user, for each account. Guesses over a weekend: below the threshold, "+
			"waiting until failures are forgotten; and on into each lock."),
		chart("Guesses for one account over a weekend (62 hours), staying below the lock; powers of ten", v.Guesses),
		h.Details(h.Summary(g.Text("The figures, policy by policy")),
			aside(text(fmt.Sprintf("Bits of passwords of the least length, were they chosen at random. Weak: how many of %d patterns that "+
				"people choose under pressure the rules take; with a question mark where a list of words that is not known matters.", tried))),
			wide("Forecast", table(columns, v.Forecasts, func(cells []string) []g.Node {
				var row []g.Node
				for i, cell := range cells {
					row = append(row, h.Td(g.If(i > 0, h.Class("n")), text(cell)))
				}
				return row
			}))),
		chart("Findings over the weighings, by their numbers", v.Course),
		chart("Accounts that would fall within a year, over the weighings", v.Trend))
}

func (v *htmlReport) methodPart() g.Node {
	assumed := v.Report.Forecasts.Assumptions
	return section("method", "Method",
		said("Exports were gathered into evidence, with secrets struck out of the stored copies. For each account the policy that "+
			"really governs it was worked out by the rules of its platform; accounts of one authority under the same settings are a scope. "+
			"Each demand of the baselines got a verdict on each scope, and settings that defeat each other were looked for. "+
			"Where evidence was not read, the verdict is missing, never a default."),
		table([]column{{head: "baseline"}, {head: "version"}, {head: "follows"}}, v.Weighing.Baselines, func(b *baseline.Baseline) []g.Node {
			follows := b.Title
			for _, more := range []string{b.Publisher, b.Edition} {
				if more != "" {
					follows += ", " + more
				}
			}
			return []g.Node{h.Td(text(b.ID)), h.Td(text(b.Version)), h.Td(text(follows + ". The document itself rules."))}
		}),
		g.Map(v.Decisions, func(d weigh.Decision) g.Node {
			return paragraph(words("Decided on ", string(d.Setting), ": ", d.Follow, " is followed. ", d.Why))
		}),
		g.Map(v.Applies, func(a custody.Applies) g.Node {
			return paragraph(words("Said by the auditor, where evidence does not tell: ", a.Text()))
		}),
		when(len(v.Weighing.Assumed) > 0, func() g.Node {
			return paragraph(words("Exposure rests on assumptions that are not the usual ones: ", page.AssumedText(v.Weighing.Assumed), "."))
		}),
		paragraph(words("Assumed in the forecast: ", page.ShortNumber(assumed.OnlineRate), " guesses a second where nothing locks; ",
			page.ShortNumber(assumed.OfflineRate), " on a stolen hash; a user who locks the account ", page.ShortNumber(assumed.LocksPerYear),
			" times a year; ", page.ShortNumber(assumed.WorkingDays), " working days; 95 kinds of characters; nobody signs in meanwhile.")),
		aside(words("Made by sternledger ", v.Program, ". A severity follows from what mending is worth to an account (docs/forecasts.md), unless an organisation's own or an imported baseline states it.")))
}

func (v *htmlReport) evidencePart() g.Node {
	columns := []column{{"file", false}, {"entry", true}, {"last changed", false}, {"SHA-256 as gathered", false}, {"struck out", true}}
	return section("evidence", "Evidence",
		said(page.Quantity(len(v.Evidence), "file")+" in evidence, each known by its SHA-256. A citation such as FILE:LINE is a line of the "+
			"copy in the engagement's folder evidence/."),
		h.Details(h.Summary(g.Text("The files")), wide("Evidence", table(columns, v.Evidence, func(x ledger.Evidence) []g.Node {
			return []g.Node{h.Td(h.Class("raw"), text(x.Name)), h.Td(h.Class("n"), text(fmt.Sprint(x.Entry))), h.Td(text(day(x.Written))),
				h.Td(h.Class("raw"), text(x.SHA256)), h.Td(h.Class("n"), text(fmt.Sprint(x.Struck)))}
		}))))
}

func (v *htmlReport) sealPart() g.Node {
	return section("seal", "Seal",
		said(fmt.Sprintf("The weighing is entry %d of the engagement's ledger. This seal stands for everything in the ledger up to it; "+
			`"sternledger verify --seal" compares it:`, v.Entry)),
		h.P(h.Class("seal"), text(v.Seal)))
}

// compared is whether there is a weighing before to compare with.
func (v *htmlReport) compared() bool { return len(v.Drift) > 0 || v.Nothing }

// day is the day of a time as written.
func day(at string) string { return at[:min(len(at), 10)] }
