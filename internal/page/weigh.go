package page

import (
	"fmt"
	"strings"

	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/weigh"
	"sternledger/internal/engagement"
)

// Weighing draws a weighing: the counts, then scope by scope what does not
// hold, with reason, evidence and remedy, and what holds.
func Weighing(s *Sheet, title string, w *engagement.Weighing) error {
	var against []string
	for _, b := range w.Baselines {
		against = append(against, b.String())
	}
	s.Title(title, fmt.Sprintf("weighing %d, %s", w.Number, w.At.Format("2006-01-02 15:04 UTC")))
	s.Text("against " + strings.Join(against, ", "))
	s.Blank()
	counts(s, w)
	for _, f := range w.Findings {
		if f.Scope == nil {
			s.Blank()
			finding(s, &f)
		}
	}
	for _, scope := range w.Scopes {
		s.Blank()
		s.Title(scope.Name(), aboutScope(scope))
		for i := range w.Findings {
			if f := &w.Findings[i]; f.Scope == scope {
				finding(s, f)
				s.Entry("", "", "")
			}
		}
		if held := holding(w, scope); held != "" {
			s.Entry("holds", "", held)
		}
	}
	return s.Err()
}

func aboutScope(scope *govern.Scope) string {
	if !scope.Listed() {
		return "accounts not listed"
	}
	return fmt.Sprintf("%s, %s enabled; %s", Quantity(scope.Accounts, "account"), Grouped(scope.Enabled), scope.Tier)
}

func counts(s *Sheet, w *engagement.Weighing) {
	columns := []Column{{Head: "scope"}, {Head: "accounts", Right: true}}
	for _, k := range weigh.Kinds {
		columns = append(columns, Column{Head: string(k), Right: true})
	}
	var rows [][]string
	for _, scope := range w.Scopes {
		row := []string{scope.Name(), accountsOf(scope, scope.Accounts)}
		found := w.Counts(scope)
		for _, k := range weigh.Kinds {
			row = append(row, fmt.Sprint(found[k]))
		}
		rows = append(rows, row)
	}
	s.Table(columns, rows)
}

// finding draws one finding beside the margin.
func finding(s *Sheet, f *weigh.Finding) {
	head, lines := f.Headline(), []string{f.Reason}
	if f.Demanded != "" {
		var refs []string
		for _, b := range f.Baselines {
			refs = append(refs, b.ID+" "+b.Ref)
		}
		lines = append([]string{"demanded: " + f.Demanded + " (" + strings.Join(refs, "; ") + ")"}, lines...)
	}
	for _, c := range f.Evidence {
		line := "evidence: " + c.String()
		if c.Raw != "" && c.Where != "dn" {
			line += "  " + c.Where + ": " + clip(c.Raw, 60)
		} else if c.Raw != "" {
			line += "  " + clip(c.Raw, 70)
		}
		lines = append(lines, line)
	}
	if who := whom(f); who != "" {
		lines = append(lines, who)
	}
	lines = append(lines, "remedy: "+f.Remedy+"  ["+f.Fingerprint+"]")
	s.Entry(string(f.Kind), string(f.Severity), head, lines...)
}

func clip(text string, most int) string {
	if letters := []rune(text); len(letters) > most {
		return string(letters[:most]) + "…"
	}
	return text
}

// whom names the accounts where the finding does not concern the whole scope.
func whom(f *weigh.Finding) string {
	if f.Accounts == nil || f.Scope != nil && *f.Accounts == f.Scope.Accounts {
		return ""
	}
	text := "accounts: " + Grouped(*f.Accounts)
	if len(f.Examples) > 0 {
		text += " (" + strings.Join(f.Examples, ", ")
		if *f.Accounts > len(f.Examples) {
			text += ", …"
		}
		text += ")"
	}
	return text
}

// holding lists in one paragraph what holds in a scope.
func holding(w *engagement.Weighing, scope *govern.Scope) string {
	var held []string
	for i := range w.Verdicts {
		if v := &w.Verdicts[i]; v.Scope == scope && v.Kind == weigh.Holds {
			text := strings.ToLower(setting.Get(v.Demand.Setting).Title) + ": " + v.Observed
			if len(w.Baselines) > 1 {
				text += " (" + v.Baseline.ID + ")"
			}
			held = append(held, text)
		}
	}
	return strings.Join(held, "; ")
}

// VerdictRows gives one row for each verdict.
func VerdictRows(w *engagement.Weighing) *Rows {
	r := &Rows{Head: []string{"scope", "setting", "baseline", "ref", "verdict", "severity", "observed", "demanded", "reason", "evidence"}}
	for _, v := range w.Verdicts {
		var cites []string
		for _, c := range v.Evidence {
			cites = append(cites, c.String())
		}
		r.Rows = append(r.Rows, []string{v.Scope.Name(), string(v.Demand.Setting), v.Baseline.ID, v.Demand.Ref, string(v.Kind),
			string(v.Severity), v.Observed, v.Demand.Text(), v.Reason, strings.Join(cites, " ")})
	}
	for _, f := range w.Findings {
		if f.Check == "" {
			continue
		}
		var cites []string
		for _, c := range f.Evidence {
			cites = append(cites, c.String())
		}
		r.Rows = append(r.Rows, []string{f.ScopeName(), f.Check, "-", "-", string(f.Kind), string(f.Severity), f.Observed, "-", f.Reason, strings.Join(cites, " ")})
	}
	return r
}
