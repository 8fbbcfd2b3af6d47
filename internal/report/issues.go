package report

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"sternledger/internal/assess"
	"sternledger/internal/core/check"
	"sternledger/internal/core/record"
	"sternledger/internal/page"
)

// Bounds of what the body of an issue lists; the report has all of it.
const (
	mostIssuePlaces   = 20
	mostIssueRows     = 12
	mostIssueEvidence = 8
)

// reportIssues writes a row for each matter that is not waived, for a tracker of issues. The key is
// the matter's fingerprint, which is the same from one record to the next: an import that goes by
// it updates what is there.
func reportIssues(w io.Writer, r *assess.Report) error {
	rows := &page.Rows{Head: []string{"key", "title", "body", "labels", "owner", "due", "severity", "verdict", "accounts", "worth"}}
	for _, m := range r.Weighing.Matters() {
		if m.Kind == check.Waived {
			continue
		}
		accounts, worth := "", ""
		if m.Accounts != nil {
			accounts = fmt.Sprint(*m.Accounts)
		}
		if m.Worth != nil {
			worth = fmt.Sprint(figureOf(m.Worth))
		}
		rows.Rows = append(rows.Rows, []string{m.Fingerprint, m.Title, issueBody(r, m), strings.Join(issueLabels(m), ","),
			strings.Join(owners(r, m), "; "), "", string(m.Severity), string(m.Kind), accounts, worth})
	}
	return rows.CSV(w)
}

// issueLabels are words to sort by: the severity, the verdict, what is found, and the baselines.
func issueLabels(m *record.Matter) []string {
	labels := []string{string(m.Severity), string(m.Kind)}
	if m.Check != "" {
		labels = append(labels, m.Check)
	}
	for _, id := range m.Settings {
		labels = append(labels, string(id))
	}
	for _, s := range m.Sources() {
		if !slices.Contains(labels, s.ID) {
			labels = append(labels, s.ID)
		}
	}
	return labels
}

// owners are those of a matter's places, as engagement.yaml names them.
func owners(r *assess.Report, m *record.Matter) (all []string) {
	if r.Weighing.Past == nil {
		return nil
	}
	for _, a := range m.Places {
		if owner := r.Weighing.Past.Config.OwnerOf(a.Place()); owner != "" && !slices.Contains(all, owner) {
			all = append(all, owner)
		}
	}
	slices.Sort(all)
	return all
}

// issueBody is what somebody needs who has the issue alone, in Markdown.
func issueBody(r *assess.Report, m *record.Matter) string {
	var b strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	text := func(s string) string { return markdownText.Replace(page.Clean(s)) }
	say("**%s**, %s. %s", m.Severity, m.Kind, text(m.Reason))
	say("")
	say("**What to do:** %s", text(page.WayOut(&m.Row)))
	say("")
	if required := m.Required(); required != "" {
		say("Required: %s", text(required))
		say("")
	}
	names := make([]string, 0, len(m.Places))
	for _, a := range m.Places {
		names = append(names, text(a.Label()))
	}
	more := ""
	if n := len(names) - mostIssuePlaces; n > 0 {
		names, more = names[:mostIssuePlaces], fmt.Sprintf(" and %s more", page.Grouped(n))
	}
	say("Where: %s%s.", strings.Join(names, ", "), more)
	if m.Accounts != nil {
		say("Accounts: %s, of them privileged: %s.", page.Grouped(*m.Accounts), page.Grouped(m.Privileged))
	}
	if len(m.Rows) > 1 {
		say("")
		for i, row := range m.Rows {
			if i == mostIssueRows {
				say("- and %s more", page.Grouped(len(m.Rows)-i))
				break
			}
			say("- %s: %s", text(m.Value(row)), text(page.PlacesNamed(row.Places)))
		}
	}
	say("")
	say("Evidence:")
	shown := 0
	var seen []string
	for _, f := range m.Findings {
		for _, c := range f.Evidence {
			if line := text(page.CiteText(c)); shown < mostIssueEvidence && !slices.Contains(seen, line) {
				say("- %s", line)
				seen, shown = append(seen, line), shown+1
			}
		}
	}
	if shown == 0 {
		say("- none: it is what lacks")
	}
	say("")
	say("Matter %s of weighing %d, seal %s. The fingerprint %s stays from one weighing to the next.", m.Name, r.Weighing.Number, r.Seal, m.Fingerprint)
	return b.String()
}
