package page

import (
	"fmt"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
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
	for _, about := range subjects(w) {
		s.Blank()
		s.Title(about.title, about.note)
		drawn := map[*told]bool{}
		for i, f := range about.findings {
			if drawn[f] {
				continue
			}
			together := gapsLike(about.findings, i)
			if len(together) > 1 && len(about.scopes) == 1 && together[0] == f {
				gaps(s, together)
				for _, g := range together {
					drawn[g] = true
				}
			} else {
				finding(s, f, len(about.scopes) > 1)
			}
			s.Entry("", "", "")
		}
		if len(about.scopes) > 0 && !weighedAt(w, about.scopes[0]) {
			s.Note("not weighed", fmt.Sprintf("no chosen baseline speaks of the platform %q", about.scopes[0].Authority.Platform))
		}
		if held := holding(w, about.scopes); held != "" {
			s.Entry("holds", "", held)
		}
	}
	return s.Err()
}

// weighedAt reports whether any demand was weighed on a scope.
func weighedAt(w *engagement.Weighing, scope *govern.Scope) bool {
	return slices.ContainsFunc(w.Verdicts, func(v weigh.Verdict) bool { return v.Scope == scope })
}

// subject is what one part of the page is about: an authority as a whole, or
// all scopes under one policy. Tiers under one policy share its settings, so
// their findings are told once.
type subject struct {
	title, note string
	scopes      []*govern.Scope
	findings    []*told
}

// told is a finding with the scopes that have it.
type told struct {
	*weigh.Finding
	tiers []string
}

func subjects(w *engagement.Weighing) []*subject {
	var all []*subject
	at := map[string]*subject{}
	under := func(key, title, note string) *subject {
		if at[key] == nil {
			at[key] = &subject{title: title, note: note}
			all = append(all, at[key])
		}
		return at[key]
	}
	for i := range w.Findings {
		if f := &w.Findings[i]; f.Scope == nil {
			about := under(f.Authority.Name, f.Authority.Name, "the authority as a whole")
			about.findings = append(about.findings, &told{Finding: f})
		}
	}
	for _, scope := range w.Scopes {
		name := scope.Authority.Name + " / " + scope.PolicyName()
		about := under(name, name, "")
		about.scopes = append(about.scopes, scope)
		for i := range w.Findings {
			f := &w.Findings[i]
			if f.Scope != scope {
				continue
			}
			same := slices.IndexFunc(about.findings, func(t *told) bool {
				return t.Check == f.Check && t.About == f.About && t.Kind == f.Kind && slices.Equal(t.Settings, f.Settings)
			})
			if same < 0 {
				about.findings = append(about.findings, &told{Finding: f})
				same = len(about.findings) - 1
			}
			t := about.findings[same]
			t.tiers = append(t.tiers, fmt.Sprintf("%s %s [%s]", f.Severity, scope.Tier, f.Fingerprint))
			if f.Severity.Rank() > t.Severity.Rank() {
				t.Finding = f
			}
		}
	}
	for _, about := range all {
		if len(about.scopes) > 0 {
			about.note = aboutScopes(about.scopes)
		}
		slices.SortStableFunc(about.findings, func(x, y *told) int { return y.Severity.Rank() - x.Severity.Rank() })
	}
	return all
}

// aboutScopes says how many accounts of which tiers live under a policy.
func aboutScopes(scopes []*govern.Scope) string {
	if !scopes[0].Listed() {
		return "accounts not listed"
	}
	var parts []string
	for _, scope := range scopes {
		parts = append(parts, fmt.Sprintf("%s %s", Grouped(scope.Accounts), scope.Tier))
	}
	noun := " accounts"
	if len(scopes) == 1 && scopes[0].Accounts == 1 {
		noun = " account"
	}
	return strings.Join(parts, ", ") + noun
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
			cell := "-" // no baseline speaks of its platform
			if len(found) > 0 {
				cell = fmt.Sprint(found[k])
			}
			row = append(row, cell)
		}
		rows = append(rows, row)
	}
	s.Table(columns, rows)
}

// finding draws one finding beside the margin. split says that several tiers
// are under the policy; then each has its severity and fingerprint.
func finding(s *Sheet, f *told, split bool) {
	head := f.Headline()
	if f.Demanded != "" {
		var refs []string
		for _, b := range f.Baselines {
			refs = append(refs, b.ID+" "+b.Ref)
		}
		head += "; demanded: " + f.Demanded + " (" + strings.Join(refs, "; ") + ")"
	}
	lines := []string{f.Reason}
	if len(f.Evidence) > 0 {
		var cites []string
		for _, c := range f.Evidence {
			cites = append(cites, citeText(c))
		}
		lines = append(lines, "evidence: "+strings.Join(cites, "; "))
	}
	if who := whom(f.Finding); who != "" {
		lines = append(lines, who)
	}
	lines = append(lines, "remedy: "+f.Remedy)
	if split {
		lines = append(lines, strings.Join(f.tiers, ", "))
	} else {
		lines[len(lines)-1] += "  [" + f.Fingerprint + "]"
	}
	s.Entry(string(f.Kind), string(f.Severity), head, lines...)
}

// citeText writes a place in the evidence with what stands there.
func citeText(c estate.Cite) string {
	text := c.String()
	if c.Raw != "" && c.Where != "dn" {
		text += " " + c.Where + ": " + clip(c.Raw, 48)
	} else if c.Raw != "" {
		text += " " + clip(c.Raw, 48)
	}
	if c.Note != "" {
		text += ", " + c.Note
	}
	return text
}

// gaps draws in one entry the demands that are missing for one and the same
// reason.
func gaps(s *Sheet, all []*told) {
	first := all[0]
	var titles, prints []string
	for _, f := range all {
		titles = append(titles, f.Headline())
		prints = append(prints, f.Fingerprint)
	}
	s.Entry(string(first.Kind), string(first.Severity), strings.Join(titles, ", "), first.Reason, "remedy: "+first.Remedy, "["+strings.Join(prints, " ")+"]")
}

// gapsLike returns the findings from i on that are missing for the reason of
// the first: those that gaps draws together.
func gapsLike(findings []*told, i int) []*told {
	var all []*told
	for _, f := range findings[i:] {
		if f.Kind == weigh.Missing && f.Check == "" && f.Reason == findings[i].Reason && len(f.Evidence) == 0 {
			all = append(all, f)
		}
	}
	return all
}

func clip(text string, most int) string {
	if letters := []rune(text); len(letters) > most {
		return string(letters[:most]) + "…"
	}
	return text
}

// whom names the accounts where the finding does not concern the whole scope.
func whom(f *weigh.Finding) string {
	if f.Accounts == nil || *f.Accounts == 0 || f.Scope != nil && *f.Accounts == f.Scope.Accounts {
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

// holding lists in one paragraph what holds under a policy.
func holding(w *engagement.Weighing, scopes []*govern.Scope) string {
	var held []string
	for i := range w.Verdicts {
		v := &w.Verdicts[i]
		if len(scopes) == 0 || v.Scope != scopes[0] || v.Kind != weigh.Holds {
			continue
		}
		text := strings.ToLower(setting.Get(v.Demand.Setting).Title) + ": " + v.Observed
		if len(w.Baselines) > 1 {
			text += " (" + v.Baseline.ID + ")"
		}
		held = append(held, text)
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
