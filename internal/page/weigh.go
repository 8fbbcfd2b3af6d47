package page

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
	"sternledger/internal/custody"

	"sternledger/internal/core/check"

	"github.com/charmbracelet/x/ansi"
)

// Weighing draws a weighing: the counts, then scope by scope what does not
// hold, with reason, evidence and remedy, and what holds.
func Weighing(s *Sheet, title string, w *custody.Weighing, how WeighView) error {
	var against []string
	for _, b := range w.Baselines {
		against = append(against, b.String())
	}
	age := ""
	if s.Age != "" { // it needs no line of its own here
		age, s.Age = "; "+s.Age, ""
	}
	if w.Trial {
		s.Title(title, "a trial, "+w.At.Format("2006-01-02 15:04 UTC"))
	} else {
		s.Title(title, fmt.Sprintf("weighing %d, %s", w.Number, w.At.Format("2006-01-02 15:04 UTC")))
	}
	s.Text("against " + strings.Join(against, ", ") + age)
	switch {
	case w.Trial:
		s.Text("Trial run; --record keeps it.")
	case w.Before:
		s.Text("No change since this record; not recorded again.")
	case len(w.Reasons) > 0:
		s.Text("Recorded: " + strings.Join(w.Reasons, "; ") + ".")
	}
	if head, lines := Unweighed(w.Whole().Unweighed, PlacesOf(w)); head != "" {
		s.Text(head + ".")
		for _, line := range lines {
			s.Text("  " + line)
		}
	}
	if text := Ended(w.OutOfService); text != "" {
		s.Text(text)
	}
	switch how.Show {
	case ShowMatrix:
		s.Blank()
		matrix(s, w)
	case ShowBySetting:
		s.Blank()
		bySetting(s, w)
	case ShowFindings:
		s.Blank()
		counts(s, w)
		byScope(s, w)
	case ShowMatters:
		Matters(s, w)
	case ShowPlaces:
		s.Blank()
		Places(s, w)
	default:
		screen(s, w)
		lapsed(s, w)
		return s.Err()
	}
	aside(s, w, how.Verbose)
	return s.Err()
}

// placesOf counts the places of a weighing, those without a scope included.
func PlacesOf(w *custody.Weighing) int {
	seen := map[estate.Place]bool{}
	for _, s := range w.Whole().Scopes {
		seen[s.Authority.Place()] = true
	}
	for _, u := range w.Whole().Unweighed {
		seen[u.Authority.Place()] = true
	}
	return len(seen)
}

// Show is what is drawn of a weighing.
type Show int

// The ways of showing it.
const (
	ShowScreen    Show = iota // the gravest, and the places, on one screen
	ShowMatters               // all matters
	ShowPlaces                // all places
	ShowFindings              // every finding, by scope
	ShowBySetting             // every finding, by setting
	ShowMatrix                // a word for each setting and policy
)

// WeighView says how a weighing is laid out.
type WeighView struct {
	Show    Show
	Verbose bool // the demands that do not apply, too
}

func byScope(s *Sheet, w *custody.Weighing) {
	for _, about := range Subjects(w) {
		if len(about.Findings) == 0 && about.Held == "" {
			continue
		}
		s.Blank()
		s.Title(about.Title, about.Note)
		drawn := map[*Told]bool{}
		for i, f := range about.Findings {
			if drawn[f] {
				continue
			}
			together := gapsLike(about.Findings, i)
			if len(together) > 1 && len(about.Scopes) == 1 && together[0] == f {
				gaps(s, together)
				for _, g := range together {
					drawn[g] = true
				}
			} else {
				finding(s, f, len(about.Scopes) > 1)
			}
			s.Entry("", "", "")
		}
		if about.Held != "" {
			s.Entry("holds", "", about.Held)
		}
	}
}

// bySetting draws the findings setting by setting, then check by check.
func bySetting(s *Sheet, w *custody.Weighing) {
	groups, titles := map[string][]*check.Finding{}, []string{}
	add := func(title string, f *check.Finding) {
		if groups[title] == nil {
			titles = append(titles, title)
		}
		groups[title] = append(groups[title], f)
	}
	for _, row := range setting.Table() {
		for i := range w.Findings {
			if f := &w.Findings[i]; f.Check == "" && f.Settings[0] == row.ID {
				add(string(row.ID), f)
			}
		}
	}
	for i := range w.Findings {
		if f := &w.Findings[i]; f.Check != "" {
			add(f.Check, f)
		}
	}
	for n, title := range titles {
		if n > 0 {
			s.Blank()
		}
		s.Title(title, Quantity(len(groups[title]), "finding"))
		for _, like := range tiersTogether(groups[title]) {
			f := like[0]
			head, prints := f.ScopeName(), []string{f.Fingerprint}
			if f.Scope != nil && len(like) > 1 {
				tiers := []string{f.Scope.Kind()}
				for _, g := range like[1:] {
					tiers, prints = append(tiers, g.Scope.Kind()), append(prints, g.Fingerprint)
				}
				head = f.Scope.Title() + " / " + strings.Join(tiers, ", ")
			}
			if f.Check == "" {
				head += ": " + f.Observed + "; required: " + f.Required()
			}
			lines := []string{f.Reason}
			if who := Whom(f); who != "" {
				lines = append(lines, who)
			}
			lines = append(lines, WaivedLines(f)...)
			s.Entry(string(f.Severity), string(f.Kind), head, append(lines, "remedy: "+f.Remedy+"  ["+strings.Join(prints, " ")+"]")...)
		}
	}
}

// tiersTogether puts findings together that differ by the tier alone.
func tiersTogether(all []*check.Finding) [][]*check.Finding {
	var groups [][]*check.Finding
	for _, f := range all {
		if n := len(groups); n > 0 {
			g := groups[n-1][0]
			if f.Scope != nil && g.Scope != nil && f.Scope.Policy == g.Scope.Policy && f.Scope.Authority == g.Scope.Authority &&
				f.Scope.Rule == g.Scope.Rule &&
				f.Kind == g.Kind && f.Severity == g.Severity && f.Reason == g.Reason && f.Remedy == g.Remedy {
				groups[n-1] = append(groups[n-1], f)
				continue
			}
		}
		groups = append(groups, []*check.Finding{f})
	}
	return groups
}

// matrix draws, for each cohort, a word for each setting and policy: the worst
// verdict.
func matrix(s *Sheet, w *custody.Weighing) {
	columns, worst := matrixOf(w)
	drawn := 0
	for len(columns) > 0 {
		// As many side by side as there is room for, of one kind of place.
		n := 1
		room := s.width - labelWidth - matrixWidth(columns[0])
		for n < len(columns) && columns[n].scope.Authority.Kind == columns[0].scope.Authority.Kind && matrixWidth(columns[n]) <= room {
			room -= matrixWidth(columns[n])
			n++
		}
		shown := columns[:n]
		columns = columns[n:]
		if drawn++; drawn > 1 {
			s.Blank()
		}
		heads := []Column{{Head: ""}}
		for _, c := range shown {
			heads = append(heads, Column{Head: strings.Join(wrap(Clean(c.name), headWidth), "\n"), Inked: true})
		}
		var rows [][]string
		for _, row := range setting.Table() {
			cells, any := []string{string(row.ID)}, false
			for _, c := range shown {
				kind, ok := worst[verdictOn{c.scope.Under(), row.ID}]
				if any = any || ok; !ok {
					kind = "-"
				}
				cells = append(cells, string(kind))
			}
			if any {
				rows = append(rows, cells)
			}
		}
		s.Table(heads, rows)
	}
}

// matrixWidth is the room that a column takes.
func matrixWidth(c matrixColumn) int {
	widest := len(check.Conflicting)
	for _, l := range wrap(Clean(c.name), headWidth) {
		widest = max(widest, ansi.StringWidth(l))
	}
	return widest + 2
}

// aside lists what was not weighed, and why.
func aside(s *Sheet, w *custody.Weighing, verbose bool) {
	decided := map[string][]string{}
	for _, a := range w.SetAside {
		key := fmt.Sprintf("%s: %s is followed (%s); set aside: %s", a.Decision.Setting, a.Decision.Follow, a.Decision.Why, a.Named)
		decided[key] = append(decided[key], a.Scope.Name())
	}
	lapsed(s, w)
	if len(decided) == 0 && (!verbose || len(w.Idle) == 0) {
		return
	}
	s.Blank()
	s.Title("Not weighed", "")
	for _, key := range slices.Sorted(maps.Keys(decided)) {
		s.Note("decided", key+", on "+strings.Join(decided[key], ", "))
	}
	if !verbose {
		return
	}
	idle := map[string][]string{}
	for _, i := range w.Idle {
		idle[i.Named.String()] = append(idle[i.Named.String()], i.Scope.Name())
	}
	for _, key := range slices.Sorted(maps.Keys(idle)) {
		s.Note("no setting", fmt.Sprintf("%s (%s): %s", key, "the platform has no such setting", strings.Join(idle[key], ", ")))
	}
}

// lapsed tells of waivers that do not hold any more.
func lapsed(s *Sheet, w *custody.Weighing) {
	drawn := 0
	for i := range w.Waivers {
		if x := &w.Waivers[i]; x.State == check.Ended || x.State == check.Outgrown || x.State == check.Needless || x.State == check.Lapsed {
			if drawn++; drawn == 1 {
				s.Blank()
				s.Title("Waivers not in force", "")
			}
			waiver(s, x)
		}
	}
}

// unweighed says which places no chosen baseline covers, a line for each
// platform; nothing where all are covered.
func Unweighed(all []check.Unweighed, places int) (head string, lines []string) {
	if len(all) == 0 {
		return "", nil
	}
	type like struct {
		names   []string
		fitting string
	}
	type kind struct {
		platform setting.Platform
		system   string // where what fits depends on it
	}
	by, order := map[kind]*like{}, []kind{}
	for _, u := range all {
		p := kind{u.Authority.Platform, u.Authority.System.String()}
		if by[p] == nil {
			by[p] = &like{fitting: strings.Join(u.Fitting, ", ")}
			order = append(order, p)
		}
		by[p].names = append(by[p].names, u.Authority.Label())
	}
	const most = 8
	for _, p := range order {
		names := by[p].names
		text := strings.Join(names[:min(len(names), most)], ", ")
		if more := len(names) - most; more > 0 {
			text += fmt.Sprintf(" and %s more", Grouped(more))
		}
		fits := "covered by " + by[p].fitting
		if by[p].fitting == "" {
			fits = "no shipped baseline covers it"
		}
		lines = append(lines, fmt.Sprintf("%s: %s; %s", cmp.Or(p.system, string(p.platform)), text, fits))
	}
	return fmt.Sprintf("%s of %s not assessed: no selected baseline applies", Grouped(len(all)), Quantity(places, "place")), lines
}

// subject is what one part of the page is about: an authority as a whole, or
// all scopes under one policy. Tiers under one policy share its settings, so
// their findings are told once.
type subject struct {
	Title, Note string
	Id          govern.PolicyID
	Scopes      []*govern.Scope
	Findings    []*Told
	Held        string // what holds under it, in one paragraph
}

// told is a finding with the scopes that have it.
type Told struct {
	*check.Finding
	Each  []*check.Finding // all that are told as one: of the tiers under one policy
	Tiers []string
	Also  []string // fingerprints of the others
}

func Subjects(w *custody.Weighing) []*subject {
	var all []*subject
	at := map[govern.PolicyID]*subject{}
	under := func(key govern.PolicyID, title, note string) *subject {
		if at[key] == nil {
			at[key] = &subject{Id: key, Title: title, Note: note}
			all = append(all, at[key])
		}
		return at[key]
	}
	for i := range w.Findings {
		if f := &w.Findings[i]; f.Scope == nil {
			about := under(govern.PolicyID{At: f.Authority.Place()}, f.Authority.Label(), "the authority as a whole")
			about.Findings = append(about.Findings, &Told{Finding: f, Each: []*check.Finding{f}})
		}
	}
	of, held := map[*govern.Scope][]*check.Finding{}, holding(w)
	for i := range w.Findings {
		of[w.Findings[i].Scope] = append(of[w.Findings[i].Scope], &w.Findings[i])
	}
	for _, scope := range w.Scopes {
		about := under(scope.Under(), scope.Title(), "")
		if about.Scopes = append(about.Scopes, scope); len(about.Scopes) == 1 {
			about.Held = strings.Join(held[scope], "; ")
		}
		for _, f := range of[scope] {
			same := slices.IndexFunc(about.Findings, func(t *Told) bool {
				return t.Check == f.Check && t.About == f.About && t.Kind == f.Kind && slices.Equal(t.Settings, f.Settings)
			})
			if same < 0 {
				about.Findings = append(about.Findings, &Told{Finding: f})
				same = len(about.Findings) - 1
			}
			t := about.Findings[same]
			t.Each = append(t.Each, f)
			t.Tiers = append(t.Tiers, fmt.Sprintf("%s %s [%s]", f.Severity, scope.Kind(), f.Fingerprint))
			if t.Finding != f {
				t.Also = append(t.Also, f.Fingerprint)
			}
			if f.Severity.Rank() > t.Severity.Rank() {
				t.Also[len(t.Also)-1], t.Finding = t.Fingerprint, f
			}
		}
	}
	for _, about := range all {
		if len(about.Scopes) > 0 {
			about.Note = AboutScopes(about.Scopes)
		}
		slices.SortStableFunc(about.Findings, func(x, y *Told) int { return y.Severity.Rank() - x.Severity.Rank() })
	}
	return all
}

// AboutScopes says how many accounts of which tiers live under a policy.
func AboutScopes(scopes []*govern.Scope) string {
	if !scopes[0].Listed() {
		return "accounts not listed"
	}
	var parts []string
	for _, scope := range scopes {
		parts = append(parts, fmt.Sprintf("%s %s", Grouped(scope.Accounts), scope.Kind()))
	}
	noun := " accounts"
	if len(scopes) == 1 && scopes[0].Accounts == 1 {
		noun = " account"
	}
	return strings.Join(parts, ", ") + noun
}

func counts(s *Sheet, w *custody.Weighing) {
	columns := []Column{{Head: "scope"}, {Head: "accounts", Right: true}}
	for _, k := range check.Kinds {
		columns = append(columns, Column{Head: string(k), Right: true})
	}
	var rows [][]string
	found := w.Whole().Counts()
	for _, scope := range w.Scopes {
		row := []string{scope.Name(), accountsOf(scope, scope.Accounts)}
		for _, k := range check.Kinds {
			cell := "-" // no baseline speaks of its platform
			if len(found[scope]) > 0 {
				cell = fmt.Sprint(found[scope][k])
			}
			row = append(row, cell)
		}
		rows = append(rows, row)
	}
	s.Table(columns, rows)
}

// finding draws one finding beside the margin. split says that several tiers
// are under the policy; then each has its severity and fingerprint.
func finding(s *Sheet, f *Told, split bool) {
	head := f.Headline()
	if f.Demanded != "" {
		head += "; required: " + f.Required()
	}
	lines := []string{f.Reason}
	if len(f.Evidence) > 0 {
		var cites []string
		for _, c := range f.Evidence {
			cites = append(cites, CiteText(c))
		}
		lines = append(lines, "evidence: "+strings.Join(cites, "; "))
	}
	if who := Whom(f.Finding); who != "" {
		lines = append(lines, who)
	}
	lines = append(append(lines, WaivedLines(f.Finding)...), "remedy: "+f.Remedy)
	if split {
		lines = append(lines, strings.Join(f.Tiers, ", "))
	} else {
		lines[len(lines)-1] += "  [" + f.Fingerprint + "]"
	}
	s.Entry(string(f.Severity), string(f.Kind), head, lines...)
}

// waivedLines tell of the waiver that is in force on a finding.
func WaivedLines(f *check.Finding) []string {
	w := f.Waiver
	if w == nil {
		return nil
	}
	return []string{fmt.Sprintf("waived until %s by %s, entry %d: %s; beneath: %s", w.Until, w.By, w.Entry, w.Reason, f.Beneath)}
}

// citeText writes a place in the evidence with what stands there.
func CiteText(c estate.Cite) string {
	text := c.String()
	if c.Raw != "" && c.Where != "dn" {
		text += " " + c.Where + ": " + Clip(c.Raw, 48)
	} else if c.Raw != "" {
		text += " " + Clip(c.Raw, 48)
	}
	if c.Note != "" {
		text += ", " + c.Note
	}
	return text
}

// gaps draws in one entry the demands that are missing for one and the same
// reason.
func gaps(s *Sheet, all []*Told) {
	first := all[0]
	var titles, prints []string
	for _, f := range all {
		titles = append(titles, f.Headline())
		prints = append(prints, f.Fingerprint)
	}
	s.Entry(string(first.Severity), string(first.Kind), strings.Join(titles, ", "), first.Reason, "remedy: "+first.Remedy,
		"["+strings.Join(prints, " ")+"]")
}

// gapsLike returns the findings from i on that are missing for the reason of
// the first: those that gaps draws together.
func gapsLike(findings []*Told, i int) []*Told {
	var all []*Told
	for _, f := range findings[i:] {
		if f.Kind == check.Missing && f.Check == "" && f.Reason == findings[i].Reason && len(f.Evidence) == 0 {
			all = append(all, f)
		}
	}
	return all
}

func Clip(text string, most int) string {
	if letters := []rune(text); len(letters) > most {
		return string(letters[:most]) + "…"
	}
	return text
}

// whom names the accounts where the finding does not concern the whole scope.
func Whom(f *check.Finding) string {
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

// holding says for each scope what holds.
func holding(w *custody.Weighing) map[*govern.Scope][]string {
	held := map[*govern.Scope][]string{}
	for i := range w.Verdicts {
		v := &w.Verdicts[i]
		if v.Kind != check.Holds {
			continue
		}
		text := strings.ToLower(setting.Get(v.Demand.Setting).Title) + ": " + v.Observed
		if len(w.Baselines) > 1 {
			text += " (" + v.Baseline.ID + ")"
		}
		held[v.Scope] = append(held[v.Scope], text)
	}
	return held
}

// VerdictRows gives one row for each verdict.
func VerdictRows(w *custody.Weighing) *Rows {
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
		r.Rows = append(r.Rows, []string{f.ScopeName(), f.Check, "-", "-", string(f.Kind), string(f.Severity), f.Observed, "-",
			f.Reason, strings.Join(cites, " ")})
	}
	return r
}
