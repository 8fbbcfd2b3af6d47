// Package report writes a record in the forms that are handed over: the page, the
// workbook, CSV, Markdown, JSON, SARIF and OSCAL. A new form is one more value in
// ReportFormats.
package report

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"sternledger/internal/assess"
	"sternledger/internal/core/check"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/record"
	"sternledger/internal/custody"
	"sternledger/internal/page"
)

// ReportFormat is one form of the report. A further one is one more value.
type ReportFormat struct {
	Ending string // of the file's name
	Title  string
	Write  func(w io.Writer, r *assess.Report) error
}

// ReportFormats are all forms, asked in this order: a longer ending goes before
// one that it ends in.
var ReportFormats = []ReportFormat{
	{"board.html", "one A4 page for those who decide", reportBoard},
	{".html", "one page for people, to read and to print", reportHTML},
	{".xlsx", "the auditor's working paper", reportWorkbook},
	{"issues.csv", "a row for each matter, for a tracker of issues", reportIssues},
	{".csv", "a row for each finding", func(w io.Writer, r *assess.Report) error { return FindingRows(r.Weighing).CSV(w) }},
	{".md", "the findings in Markdown", reportMarkdown},
	{".sarif", "SARIF 2.1.0, for tools that take findings", reportSARIF},
	{".sarif.json", "the same", reportSARIF},
	{".oscal.json", "OSCAL assessment results", reportOSCAL},
	{".json", "everything, as docs/formats.md has it", func(w io.Writer, r *assess.Report) error { return page.JSON(w, r.Document()) }},
}

// FormatFor returns the form that a file's name asks for; nil for none.
func FormatFor(name string) *ReportFormat {
	for i := range ReportFormats {
		if strings.HasSuffix(strings.ToLower(name), ReportFormats[i].Ending) {
			return &ReportFormats[i]
		}
	}
	return nil
}

// FindingRows gives one row for each finding.
func FindingRows(w *custody.Weighing) *page.Rows {
	r := &page.Rows{Head: []string{"fingerprint", "verdict", "severity", "scope", "finding", "settings", "accounts", "examples",
		"observed", "demanded", "reason", "remedy", "evidence", "baselines", "beneath", "waived_until", "waiver_reason", "matter",
		"matter_title", "matter_fingerprint", "worth"}}
	of := map[*check.Finding]*record.Matter{}
	for _, m := range w.Matters() {
		for _, f := range m.Findings {
			of[f] = m
		}
	}
	for i := range w.Findings {
		f := &w.Findings[i]
		var cites, sources, settings []string
		for _, c := range f.Evidence {
			cites = append(cites, c.String())
		}
		for _, b := range f.Baselines {
			sources = append(sources, b.String())
		}
		for _, id := range f.Settings {
			settings = append(settings, string(id))
		}
		accounts, until, why := "", "", ""
		if f.Accounts != nil {
			accounts = fmt.Sprint(*f.Accounts)
		}
		if f.Waiver != nil {
			until, why = f.Waiver.Until, f.Waiver.Reason
		}
		r.Rows = append(r.Rows, []string{f.Fingerprint, string(f.Kind), string(f.Severity), f.ScopeName(), f.Head(),
			strings.Join(settings, " "), accounts, strings.Join(f.Examples, " "),
			f.Observed, f.Required(), f.Reason, f.Remedy, strings.Join(cites, " "), strings.Join(sources, "; "), string(f.Beneath), until, why,
			of[f].Name, of[f].Title,
			of[f].Fingerprint, page.WorthCell(f.Worth)})
	}
	return r
}

// summary says in plain words what a report comes to.
func summary(r *assess.Report) []string {
	w := r.Weighing
	if len(w.Scopes) == 0 {
		return []string{"There are no account scopes: the evidence holds templates only, which say what should be configured and not " +
			"what governs anybody. Gather the domain or the machines that they act on."}
	}
	accounts, enabled, authorities := 0, 0, page.PlacesOf(r.Weighing)
	for _, s := range w.Scopes {
		accounts += s.Accounts
		enabled += s.Enabled
	}
	counts, grave := map[check.Kind]int{}, 0
	for i := range w.Findings {
		f := &w.Findings[i]
		counts[f.Kind]++
		if f.Severity == "grave" && f.Kind != check.Waived {
			grave++
		}
	}
	held := 0
	for _, v := range w.Verdicts {
		if v.Kind == check.Holds {
			held++
		}
	}
	var against []string
	for _, b := range w.Baselines {
		against = append(against, b.String())
	}
	missed, places := page.Unweighed(w.Unweighed, authorities)
	scopes := len(w.Scopes)
	for _, s := range w.Scopes {
		if slices.ContainsFunc(w.Unweighed, func(u check.Unweighed) bool { return u.Authority == s.Authority }) {
			scopes--
			accounts -= s.Accounts
			enabled -= s.Enabled
		}
	}
	age := w.Age()
	if age != "" {
		age = ", on " + age
	}
	text := []string{
		fmt.Sprintf("%s in %s, with %s, %s of them known to be enabled, were held against %s%s.", page.Quantity(scopes, "account scope"),
			page.Quantity(authorities-len(w.Unweighed), "place"), page.Quantity(accounts, "account"), page.Grouped(enabled),
			strings.Join(against, ", "), age),
		fmt.Sprintf("Of %s, %s hold. There are %s: %s weak, %s conflicting, %s missing, %s waived; %s of those not waived are grave.",
			page.Quantity(len(w.Verdicts), "verdict"), page.Grouped(held), page.Quantity(len(w.Findings), "finding"),
			page.Grouped(counts[check.Weak]), page.Grouped(counts[check.Conflicting]), page.Grouped(counts[check.Missing]),
			page.Grouped(counts[check.Waived]), page.Grouped(grave)),
	}
	if missed != "" {
		text = slices.Insert(text, 1, missed+" ("+strings.Join(places, "; ")+").")
	}
	if ended := page.Ended(w.OutOfService); ended != "" {
		text = slices.Insert(text, 1, ended)
	}
	if r.Behind != "" {
		text = slices.Insert(text, 0, r.Behind)
	}
	if open, most := unbounded(r); open > 0 {
		text = append(text, fmt.Sprintf("In %s nothing locks: guesses are bounded only by how fast a server answers (%s).",
			page.Quantity(open, "policy"), most))
	}
	return text
}

// unbounded counts the policies under which nothing locks, and names some.
func unbounded(r *assess.Report) (n int, names string) {
	var all []string
	seen := map[govern.PolicyID]bool{}
	for i := range r.Forecasts.Scopes {
		x := &r.Forecasts.Scopes[i]
		if id := x.Scope.Under(); x.Now.Lockout.Known && x.Now.Lockout.Never && !seen[id] {
			seen[id] = true
			all = append(all, x.Scope.Title())
		}
	}
	names = strings.Join(all[:min(len(all), 3)], ", ")
	if len(all) > 3 {
		names += ", …"
	}
	return len(all), names
}

// governsText says what governs a scope.
func governsText(s *govern.Scope) string {
	switch {
	case s.Policy == nil && s.Why != "":
		return s.Why
	case s.Policy == nil:
		return "its settings are not in the evidence"
	}
	text := string(s.Policy.Standing)
	if s.Policy.Precedence != nil {
		text += fmt.Sprintf(", precedence %d", *s.Policy.Precedence)
	}
	if s.Elsewhere != nil {
		text += ", in " + s.Elsewhere.Name
	}
	if at := s.Policy.Cite.String(); at != "" {
		text += ": " + s.Policy.Origin + " (" + at + ")"
	}
	return text
}

// reportMarkdown writes the matters in their order, with their findings.
func reportMarkdown(w io.Writer, r *assess.Report) error {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	m := func(text string) string { return markdownText.Replace(page.Clean(text)) }
	line("# %s", m(r.Title))
	line("\nWeighing %d of %s, by %s. Seal %s.\n", r.Weighing.Number, r.Weighing.At.Format("2006-01-02 15:04 UTC"), m(r.Auditor), r.Seal)
	line("%s\n", m(sentence(r)))
	for _, text := range append(summary(r), page.Exposed(r.Weighing)) {
		if text != "" {
			line("%s\n", m(text))
		}
	}
	for _, x := range r.Weighing.Matters() {
		line("## %s %s\n", x.Name, m(x.Title))
		line("**%s**, %s: %s\n", x.Severity, x.Kind, m(page.Where(&x.Row)))
		if worth := page.WorthText(x.Worth); worth != "" {
			line("- %s", worth)
		}
		if x.Demanded != "" {
			line("- required: %s", m(x.Required()))
		}
		line("- reason: %s", m(x.Reason))
		line("- fix: %s", m(x.Remedy))
		for _, row := range x.Rows {
			if cells := page.RowCells(row, x); len(x.Rows) > 1 {
				line("- %s: %s; required: %s; places: %s; accounts: %s; worth: %s", m(cells[0]), m(cells[1]), m(cells[2]), cells[3], cells[4], cells[5])
			}
		}
		for _, f := range x.Findings {
			line("- %s, %s (%s)", f.Severity, m(f.ScopeName()), f.Fingerprint)
			if f.Reason != x.Reason {
				line("  - %s", m(f.Reason))
			}
			for _, text := range page.WaivedLines(f) {
				line("  - %s", m(text))
			}
			var cites []string
			for _, c := range f.Evidence {
				cites = append(cites, m(page.CiteText(c)))
			}
			if len(cites) > 0 {
				line("  - evidence: %s", strings.Join(cites, "; "))
			}
			if f.Remedy != x.Remedy {
				line("  - fix: %s", m(f.Remedy))
			}
		}
		line("")
	}
	_, err := io.WriteString(w, b.String())
	return err
}

var markdownText = strings.NewReplacer("<", "&lt;", "*", `\*`, "_", `\_`, "`", "\\`", "[", `\[`, "|", `\|`, "#", `\#`)
