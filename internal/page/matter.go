package page

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/exposure"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
	"sternledger/internal/custody"
)

const (
	mostGravest = 10
	mostLike    = 12 // of a table on a first screen, and of findings beside it
	mostNames   = 2  // of places where several are alike
)

// screen draws a weighing on one screen: what is gravest, then place by place.
func screen(s *Sheet, w *custody.Weighing) {
	matters := w.Matters()
	if len(matters) > 0 {
		s.Text(totals(w, matters))
		if text := Exposed(w); text != "" {
			s.Text(text)
		}
		s.Blank()
		shown := matters[:min(len(matters), mostGravest)]
		s.Title("What comes first", "█ what mending it takes off; an administrator counts for "+weightOf(w, exposure.WeightPrivileged))
		for _, m := range shown {
			brief(s, m, most(shown))
		}
		if more := len(matters) - mostGravest; more > 0 {
			s.Text(fmt.Sprintf("%s more: sternledger weigh --all", Grouped(more)))
		}
	} else {
		s.Text("No findings.")
	}
	s.Blank()
	cohortTable(s, w)
	if len(matters) > 0 {
		s.Blank()
		s.Text("One matter whole: weigh --matter " + matters[0].Name + ". Every finding: weigh --findings. To hand over: report.")
	}
}

// totals counts findings and matters, by severity and verdict.
func totals(w *custody.Weighing, matters []*record.Matter) string {
	bySeverity, byKind := map[baseline.Severity]int{}, map[check.Kind]int{}
	for i := range w.Findings {
		f := &w.Findings[i]
		if byKind[f.Kind]++; f.Kind != check.Waived {
			bySeverity[f.Severity]++
		}
	}
	var severities, kinds []string
	for _, severity := range []baseline.Severity{baseline.Grave, baseline.Serious, baseline.Minor} {
		severities = append(severities, Grouped(bySeverity[severity])+" "+string(severity))
	}
	for _, k := range check.Kinds[1:] {
		if byKind[k] > 0 {
			kinds = append(kinds, Grouped(byKind[k])+" "+string(k))
		}
	}
	return fmt.Sprintf("%s in %s: %s; %s.", Quantity(len(w.Findings), "finding"), Quantity(len(matters), "matter"),
		strings.Join(severities, ", "), strings.Join(kinds, ", "))
}

// brief draws a matter in few lines: what is wrong, where, whom it reaches, and
// the way out.
func brief(s *Sheet, m *record.Matter, whole exposure.Millionths) {
	text := reach(&m.Row) + ". " + bracketed.ReplaceAllString(WayOut(&m.Row), "")
	switch {
	case m.Worth == nil:
	case m.Worth.Sum > 0:
		text = bar(m.Worth.Sum, whole, 8) + " " + Falls(m.Worth.Sum) + ", " + text
	default:
		text = WorthText(m.Worth) + ", " + text
	}
	s.Entry(string(m.Severity), string(m.Kind), m.Name+"  "+m.Title, text)
}

// bracketed is what a matter drawn in few lines has no room for.
var bracketed = regexp.MustCompile(` \([^()]*\)`)

// most is what the matter is worth that is worth most.
func most(all []*record.Matter) (most exposure.Millionths) {
	for _, m := range all {
		if m.Worth != nil {
			most = max(most, m.Worth.Sum)
		}
	}
	return most
}

// weightOf is for how many accounts one of a kind counts.
func weightOf(w *custody.Weighing, id exposure.ID) string {
	a, err := exposure.With(w.Whole().Assumed)
	if err != nil {
		a = exposure.Usual()
	}
	return strconv.FormatFloat(a[id], 'g', -1, 64)
}

// Matters draws all of them; minor ones in a line each.
func Matters(s *Sheet, w *custody.Weighing) {
	matters := w.Matters()
	s.Text(totals(w, matters))
	if text := Exposed(w); text != "" {
		s.Text(text)
	}
	s.Blank()
	for _, m := range matters {
		if m.Severity == baseline.Minor || m.Kind == check.Waived {
			s.Entry(string(m.Severity), "", m.Name+"  "+m.Title+" ("+Where(&m.Row)+"; "+string(m.Kind)+")")
		} else {
			brief(s, m, most(matters))
		}
	}
}

// WayOut is the beginning of a matter's remedy.
func WayOut(m *record.Row) string {
	if len(m.Findings[0].Open) > 0 {
		return "Say it under applies: in engagement.yaml."
	}
	if m.Check == "" && m.Asks == record.NoneAtPlace {
		return "Decide which of them to follow."
	}
	if m.Check == "" && len(m.Settings) == 1 && m.Found() == check.Weak {
		switch {
		case m.Asks == record.ByPlace:
			return "The places need different values."
		case m.Demanded == "on" || m.Demanded == "off":
			if row := setting.Get(m.Settings[0]); row.TurnOff != "" && m.Demanded == "off" {
				return row.TurnOff + "."
			}
			return "Switch it " + m.Demanded + "."
		}
		return "Set it to " + record.Plainly(m.Demanded) + "."
	}
	for _, end := range []string{". ", "; ", ": "} {
		if i := strings.Index(m.Remedy, end); i >= 0 {
			return m.Remedy[:i] + "."
		}
	}
	return m.Remedy
}

// Where says in how many places a matter is, and how many accounts it reaches.
func Where(m *record.Row) string {
	text := reach(m)
	if m.Disabled > 0 {
		text += fmt.Sprintf(", %s disabled", Grouped(m.Disabled))
	}
	return text
}

// reach says at which places a matter is, and how many accounts it reaches.
func reach(m *record.Row) string {
	text := PlacesNamed(m.Places)
	if m.Accounts == nil {
		return text
	}
	text += ", " + Quantity(*m.Accounts, "account")
	if m.Privileged > 0 {
		text += fmt.Sprintf(" (%s privileged)", Grouped(m.Privileged))
	}
	return text
}

// nouns are what places of a kind are called.
var nouns = map[estate.Kind]string{estate.Domain: "domain", estate.Machine: "machine", estate.LDAP: "directory", estate.Tenant: "tenant"}

// PlacesNamed names one place or two, and counts more: by their kind, where they
// are of one.
func PlacesNamed(all []*estate.Authority) string {
	if len(all) <= 2 {
		var names []string
		for _, a := range all {
			names = append(names, a.Label())
		}
		return strings.Join(names, ", ")
	}
	noun := nouns[all[0].Kind]
	if noun == "" || slices.ContainsFunc(all, func(a *estate.Authority) bool { return a.Kind != all[0].Kind }) {
		noun = "place"
	}
	return Quantity(len(all), noun)
}

// CohortNamed names a cohort: its place, or how many are alike. What deviates is
// named with what differs.
func CohortNamed(c *record.Cohort) string {
	var text string
	if len(c.Places) == 1 {
		text = c.Place().Label()
	} else {
		text = fmt.Sprintf("%s alike (%s)", Quantity(len(c.Places), nouns[c.Place().Kind]), firstPlaces(c.Places))
	}
	if len(c.Differs) > 0 {
		const most = 2
		text += ": " + strings.Join(c.Differs[:min(len(c.Differs), most)], "; ")
		if more := len(c.Differs) - most; more > 0 {
			text += fmt.Sprintf("; %d more", more)
		}
	}
	return text
}

// policyRow is what a table has to say of a policy.
type policyRow struct {
	scope *govern.Scope
	cells []string
}

// together makes one row of those that say the same of policies of one name at
// places of one kind.
func together(rows []policyRow) [][]string {
	at := map[string]int{}
	var groups [][]policyRow
	for _, r := range rows {
		key := strings.Join(append([]string{string(r.scope.Authority.Kind), string(r.scope.Authority.Platform), r.scope.PolicyName()},
			r.cells...), "\x00")
		i, ok := at[key]
		if !ok {
			i = len(groups)
			at[key], groups = i, append(groups, nil)
		}
		groups[i] = append(groups[i], r)
	}
	var all [][]string
	for _, g := range groups {
		name := g[0].scope.Title()
		if len(g) > 1 {
			var places []*estate.Authority
			for _, r := range g {
				places = append(places, r.scope.Authority)
			}
			name = fmt.Sprintf("%s (%s) / %s", Quantity(len(g), nouns[places[0].Kind]), firstPlaces(places), g[0].scope.PolicyName())
		}
		all = append(all, append([]string{name}, g[0].cells...))
	}
	return all
}

// firstPlaces names the first few.
func firstPlaces(all []*estate.Authority) string {
	var names []string
	for _, a := range all[:min(len(all), mostNames)] {
		names = append(names, a.Label())
	}
	if len(all) > mostNames {
		names = append(names, "…")
	}
	return strings.Join(names, ", ")
}

// Standings are the cohorts with what was found in each, the gravest first.
func Standings(w *custody.Weighing) []Standing {
	var all []Standing
	of := map[*estate.Authority]int{}
	for i, c := range w.Cohorts() {
		all = append(all, Standing{Cohort: c, Found: map[baseline.Severity]int{}})
		for _, a := range c.Places {
			of[a] = i
		}
	}
	for i := range w.Findings {
		f := &w.Findings[i]
		if at, ok := of[f.Authority]; ok && f.Kind != check.Waived {
			all[at].Found[f.Severity]++
		}
	}
	slices.SortStableFunc(all, func(x, y Standing) int {
		for _, severity := range []baseline.Severity{baseline.Grave, baseline.Serious, baseline.Minor} {
			if d := y.Found[severity] - x.Found[severity]; d != 0 {
				return d
			}
		}
		return 0
	})
	return all
}

// Standing is a cohort with the findings in it.
type Standing struct {
	*record.Cohort
	Found map[baseline.Severity]int
}

// cohortTable draws a row for each cohort: verdicts and grave findings.
func cohortTable(s *Sheet, w *custody.Weighing) {
	standings := Standings(w)
	columns := []Column{{Head: "place"}, {Head: "accounts", Right: true}, {Head: "grave", Right: true}}
	kinds := slices.DeleteFunc(slices.Clone(check.Kinds), func(k check.Kind) bool {
		return k == check.Waived && !slices.ContainsFunc(standings, func(c Standing) bool { return c.Counts[k] > 0 })
	})
	for _, k := range kinds {
		c := Column{Head: string(k), Right: true}
		if k == check.Holds {
			c.Drop = 1 // where there is no room, what is wrong is kept
		}
		columns = append(columns, c)
	}
	const most = 6
	var rows [][]string
	for _, c := range standings[:min(len(standings), most)] {
		row := []string{CohortNamed(c.Cohort), "not listed", Grouped(c.Found[baseline.Grave])}
		if c.Accounts != nil {
			row[1] = Grouped(*c.Accounts)
		}
		for _, k := range kinds {
			cell := "-" // no baseline covers it
			if len(c.Counts) > 0 {
				cell = Grouped(c.Counts[k])
			}
			row = append(row, cell)
		}
		rows = append(rows, row)
	}
	s.Table(columns, rows)
	if more := len(standings) - most; more > 0 {
		s.Text(fmt.Sprintf("%s more: sternledger weigh --places", Grouped(more)))
	}
}

// Places draws a row for each cohort, all of them, and names the places.
func Places(s *Sheet, w *custody.Weighing) {
	for _, c := range Standings(w) {
		var counts []string
		for _, k := range check.Kinds {
			if c.Counts[k] > 0 {
				counts = append(counts, Grouped(c.Counts[k])+" "+string(k))
			}
		}
		if len(counts) == 0 {
			counts = []string{"no chosen baseline covers it"}
		}
		accounts := "accounts not listed"
		if c.Accounts != nil {
			accounts = Quantity(*c.Accounts, "account")
		}
		lines := []string{accounts + "; " + strings.Join(counts, ", ")}
		if len(c.Places) > 1 {
			var names []string
			for _, a := range c.Places {
				names = append(names, a.Label())
			}
			lines = append(lines, strings.Join(names, ", "))
		}
		s.Entry(Grouped(c.Found[baseline.Grave])+" grave", "", CohortNamed(c.Cohort), lines...)
	}
}

// Matter draws one matter whole: places, accounts, evidence, reason, way out, and
// how it is accepted.
func Matter(s *Sheet, m *record.Matter) {
	s.Title(m.Name+"  "+m.Title, string(m.Severity)+", "+string(m.Kind))
	s.Entry("where", "", Where(&m.Row))
	if worth := WorthText(m.Worth); worth != "" {
		s.Note("worth", strings.TrimPrefix(worth, "worth ")+", to one account at most "+Falls(m.Worth.Each)+" a year")
	}
	if len(m.Examples) > 0 {
		text := strings.Join(m.Examples, ", ")
		if m.Accounts != nil && *m.Accounts > len(m.Examples) {
			text += ", …"
		}
		s.Note("accounts", text)
	}
	if m.Observed != "" {
		s.Note("observed", m.Observed)
	}
	if m.Demanded != "" {
		s.Note("required", m.Required())
	}
	if c := check.Named(m.Check); c != nil {
		s.Note("check", m.Check+": "+c.Doc)
	}
	same := !slices.ContainsFunc(m.Findings, func(f *check.Finding) bool { return f.Reason != m.Reason })
	if same {
		s.Note("reason", m.Reason)
	}
	s.Note("fix", m.Remedy)
	s.Blank()
	if len(m.Rows) > 1 {
		matterRows(s, m)
		s.Blank()
	}
	groups := Groups(&m.Row)
	for _, g := range groups[:min(len(groups), mostLike)] {
		lines := g.Lines
		if !same {
			lines = append([]string{g.Reason}, lines...)
		}
		s.Entry(string(g.Severity), "", g.Head, lines...)
	}
	if more := len(groups) - mostLike; more > 0 {
		s.Text(fmt.Sprintf("%s more: sternledger weigh --findings", Grouped(more)))
	}
	s.Blank()
	if m.Kind != check.Waived {
		s.Text("To accept it: sternledger waive --matter " + m.Name + " --until DAY --reason REASON (for a part, --place PATTERN or --value " +
			"VALUE). Scripts use its fingerprint, " + m.Fingerprint + ".")
	}
}

// matterRows draws a row for each value or reason of a matter.
func matterRows(s *Sheet, m *record.Matter) {
	columns := []Column{{Head: "severity"}, {Head: "what"}, {Head: "required", Drop: 2}, {Head: "places", Right: true, Drop: 1},
		{Head: "accounts", Right: true}, {Head: "worth", Right: true}, {Head: "fingerprint", Drop: 3}}
	var rows [][]string
	for _, r := range m.Rows[:min(len(m.Rows), mostLike)] {
		rows = append(rows, RowCells(r, m))
	}
	s.Table(columns, rows)
	if more := len(m.Rows) - mostLike; more > 0 {
		s.Text(fmt.Sprintf("%s more: sternledger weigh --format json", Grouped(more)))
	}
}

// RowCells says of a row of a matter how grave it is, what it is, what is demanded, in how
// many places, for how many accounts, what it is worth, and its fingerprint.
func RowCells(r *record.Row, m *record.Matter) []string {
	accounts, worth := "-", "no figure"
	if r.Accounts != nil {
		accounts = Grouped(*r.Accounts)
	}
	if r.Worth != nil {
		worth = Falls(r.Worth.Sum)
	}
	return []string{string(r.Severity), m.Value(r), cmp.Or(r.Asked(), record.Plainly(r.Demanded)), Grouped(len(r.Places)), accounts, worth, r.Fingerprint}
}

// Sources are the baselines and sections that a matter fails.
func Sources(m *record.Row) []string {
	var all []string
	for _, f := range m.Findings {
		for _, b := range f.Baselines {
			if text := strings.TrimSpace(b.ID + " " + b.Ref); !slices.Contains(all, text) {
				all = append(all, text)
			}
		}
	}
	slices.Sort(all)
	return all
}

// likeFindings puts the findings of a matter together that differ by the place
// alone.
func likeFindings(m *record.Row) [][]*check.Finding {
	var order []string
	by := map[string][]*check.Finding{}
	for _, f := range m.Findings {
		policy, tier := "", ""
		if f.Scope != nil {
			policy, tier = f.Scope.PolicyName(), f.Scope.Kind()
		}
		key := strings.Join([]string{string(f.Severity), policy, tier, alikeText(f.Reason, f), alikeText(f.Remedy, f)}, "\x00")
		if f.Authority.Kind != estate.Machine {
			key += f.ScopeName()
		}
		if by[key] == nil {
			order = append(order, key)
		}
		by[key] = append(by[key], f)
	}
	var all [][]*check.Finding
	for _, key := range order {
		all = append(all, by[key])
	}
	return all
}

// alikeText is a text without the name of its place.
func alikeText(text string, f *check.Finding) string {
	return record.WithoutName(record.WithoutName(text, f.Authority.Label()), f.Authority.Name)
}

// Group is findings of a matter that differ by the place alone.
type Group struct {
	Severity baseline.Severity
	Head     string // where
	Reason   string
	Lines    []string // evidence, waiver, way out where it is its own, fingerprint
}

// Groups puts the findings of a matter together that differ by the place alone.
func Groups(m *record.Row) []Group {
	var all []Group
	for _, like := range likeFindings(m) {
		f := like[0]
		g := Group{Severity: f.Severity, Head: groupHead(like), Reason: f.Reason}
		if len(f.Evidence) > 0 {
			var cites []string
			for _, c := range f.Evidence {
				cites = append(cites, CiteText(c))
			}
			g.Lines = append(g.Lines, "evidence: "+strings.Join(cites, "; "))
		}
		g.Lines = append(g.Lines, WaivedLines(f)...)
		if f.Remedy != m.Remedy {
			g.Lines = append(g.Lines, "fix: "+f.Remedy)
		}
		if len(g.Lines) == 0 {
			g.Head += "  [" + f.Fingerprint + "]"
		} else {
			g.Lines[len(g.Lines)-1] += "  [" + f.Fingerprint + "]"
		}
		all = append(all, g)
	}
	return all
}

// groupHead names the places of findings, and their accounts.
func groupHead(like []*check.Finding) string {
	f := like[0]
	if len(like) == 1 {
		switch who := Whom(f); {
		case who != "":
			return f.ScopeName() + ", " + who
		case f.Accounts != nil:
			return f.ScopeName() + ", " + Quantity(*f.Accounts, "account")
		}
		return f.ScopeName()
	}
	var places []*estate.Authority
	var settings []string
	accounts := 0
	seen, counted := map[*estate.Authority]bool{}, map[*govern.Scope]bool{}
	for _, g := range like {
		if !seen[g.Authority] {
			seen[g.Authority] = true
			places = append(places, g.Authority)
		}
		for _, id := range g.Settings {
			if title := strings.ToLower(setting.Get(id).Title); !slices.Contains(settings, title) {
				settings = append(settings, title)
			}
		}
		if g.Accounts != nil && !(g.Scope != nil && counted[g.Scope]) {
			accounts += *g.Accounts
			counted[g.Scope] = true
		}
	}
	if len(places) == 1 { // one scope, and a finding for each of several settings
		head := f.ScopeName()
		if accounts > 0 {
			head += ", " + Quantity(accounts, "account")
		}
		return head + ": " + strings.Join(settings, ", ")
	}
	head := fmt.Sprintf("%s (%s)", Quantity(len(places), "machine"), firstPlaces(places))
	if f.Scope != nil {
		head += " / " + f.Scope.PolicyName() + " / " + f.Scope.Kind()
	}
	if accounts > 0 {
		head += ", " + Quantity(accounts, "account")
	}
	return head
}

// MatterRows gives one row for each matter.
func MatterRows(w *custody.Weighing) *Rows {
	r := &Rows{Head: []string{"matter", "severity", "verdict", "title", "check", "settings", "places", "accounts", "privileged", "disabled", "worth",
		"observed", "demanded", "remedy", "fingerprint"}}
	for _, m := range w.Matters() {
		var ids, places []string
		for _, id := range m.Settings {
			ids = append(ids, string(id))
		}
		for _, a := range m.Places {
			places = append(places, a.Label())
		}
		accounts := "not listed"
		if m.Accounts != nil {
			accounts = fmt.Sprint(*m.Accounts)
		}
		r.Rows = append(r.Rows, []string{m.Name, string(m.Severity), string(m.Kind), m.Title, m.Check, strings.Join(ids, " "),
			strings.Join(places, "; "), accounts, fmt.Sprint(m.Privileged), fmt.Sprint(m.Disabled), WorthCell(m.Worth), m.Observed, m.Required(), m.Remedy, m.Fingerprint})
	}
	return r
}

// WorthCell is what something is worth, for tables; empty where no model says so.
func WorthCell(w *exposure.Worth) string {
	if w == nil {
		return ""
	}
	return strconv.FormatFloat(w.Sum.Float(), 'f', 6, 64)
}

// MatrixRows gives one row for each setting, with the worst verdict of each policy
// of each cohort.
func MatrixRows(w *custody.Weighing) *Rows {
	columns, worst := matrixOf(w)
	r := &Rows{Head: []string{"setting"}}
	for _, c := range columns {
		r.Head = append(r.Head, c.name)
	}
	for _, row := range setting.Table() {
		cells, any := []string{string(row.ID)}, false
		for _, c := range columns {
			kind, ok := worst[verdictOn{c.scope.Under(), row.ID}]
			if any = any || ok; !ok {
				kind = "-"
			}
			cells = append(cells, string(kind))
		}
		if any {
			r.Rows = append(r.Rows, cells)
		}
	}
	return r
}

// verdictOn is what a cell of the matrix is about.
type verdictOn struct {
	policy  govern.PolicyID
	setting setting.ID
}

// matrixColumn is a policy of a cohort.
type matrixColumn struct {
	scope *govern.Scope
	name  string
}

// matrixOf gives the worst verdict of each policy and setting, and the policies of
// each cohort that have one.
func matrixOf(w *custody.Weighing) ([]matrixColumn, map[verdictOn]check.Kind) {
	worst, any := map[verdictOn]check.Kind{}, map[govern.PolicyID]bool{}
	for i := range w.Verdicts {
		v := &w.Verdicts[i]
		at := verdictOn{v.Scope.Under(), v.Demand.Setting}
		any[at.policy] = true
		if old, ok := worst[at]; !ok || v.Kind.Rank() > old.Rank() {
			worst[at] = v.Kind
		}
	}
	shown := map[*govern.Scope]bool{}
	for _, scope := range w.Scopes {
		shown[scope] = true
	}
	var columns []matrixColumn
	for _, c := range w.Cohorts() {
		seen := map[govern.PolicyID]bool{}
		for _, scope := range c.Scopes {
			id := scope.Under()
			if seen[id] || !any[id] || !shown[scope] {
				continue
			}
			seen[id] = true
			name := scope.Title()
			if len(c.Places) > 1 {
				name = fmt.Sprintf("%s alike (%s) / %s", Quantity(len(c.Places), nouns[c.Place().Kind]), firstPlaces(c.Places), scope.PolicyName())
			}
			columns = append(columns, matrixColumn{scope, name})
		}
	}
	return columns, worst
}
