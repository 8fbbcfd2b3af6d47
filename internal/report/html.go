package report

import (
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"sternledger/internal/assess"
	"sternledger/internal/contract"
	"sternledger/internal/core/amend"
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
	"sternledger/internal/custody"
	"sternledger/internal/page"
)

// How much of each thing the page has without its script; the rest comes from the
// data that it carries, once, as JSON.
const (
	mostGravest = 5
	mostToDo    = 10
	mostGroups  = 12 // of findings within a matter
	mostDrift   = 40 // of each part of a drift
	mostGaps    = 60
)

// htmlReport is the report as its page shows it.
type htmlReport struct {
	*assess.Report
	Sentence  string // for a manager
	Looked    []string
	Matters   []*htmlMatter
	ToDo      []*htmlMatter
	Cohorts   []*htmlCohort
	Stairs    string
	Worst     string
	Guesses   string
	Course    string
	Trend     string
	Drift     []htmlChange
	Nothing   bool
	Gaps      []htmlGap
	MoreGaps  int
	Forecasts [][]string
	Kinds     []check.Kind
	Baselines []string
	Program   string
	Data      htmlData
}

// htmlMatter is a matter with its findings, those that differ by the place alone
// as one.
type htmlMatter struct {
	*record.Matter
	ID, Where, WayOut, Doc string
	Stated                 string // what each document demands
	Reasons                bool   // each group has its own
	Groups                 []page.Group
	More                   int // groups that only the data has
}

// htmlCohort is places that are alike, with their policies.
type htmlCohort struct {
	ID, Title, Note string
	Names           []string
	Policies        []htmlPolicy
	Matters         []*htmlMatter
}

type htmlPolicy struct {
	Title, Note, Governs string
	Settings             []htmlSetting
}

type htmlSetting struct {
	Title, Value, Raw, Evidence, From string
	Missing                           bool
}

type htmlChange struct {
	Part  string
	Lines []htmlLine
	More  int
}

type htmlLine struct{ Word, Text string }

type htmlGap struct{ Where, What string }

// htmlData is every finding in short, for the filter and for what the page has no
// room for. Numbers point into the lists.
type htmlData struct {
	Places    []string `json:"places"` // scopes, or places as a whole
	Texts     []string `json:"texts"`  // reasons and ways out
	Baselines []string `json:"baselines"`
	// Of each finding: matter, cohort, place, verdict, severity, accounts (-1: not
	// listed), reason, way out, baselines.
	Findings [][]any `json:"findings"`
	Prints   string  `json:"prints"` // fingerprints, one behind the other
}

func reportHTML(w io.Writer, r *assess.Report) error {
	v := &htmlReport{Report: r, Looked: summary(r), Kinds: check.Kinds[1:], Program: custody.Version}
	v.Sentence = sentence(r)
	for _, b := range r.Weighing.Baselines {
		v.Baselines = append(v.Baselines, b.ID)
	}
	slices.Sort(v.Baselines)
	v.matters()
	v.cohorts()
	v.Worst, v.Guesses, v.Course = worstChart(r), guessesChart(r), courseChart(r.Course)
	v.Stairs = fallsChart("stairs", "Accounts that would fall within a year, after one amendment and the next", stairs(r), true)
	v.Trend = fallsChart("trend", "Accounts that would fall within a year, over the weighings", trend(r.Course), false)
	v.drift()
	v.gaps()
	v.forecasts()
	return v.markup(w)
}

// matters makes the matters, and what is to be done.
func (v *htmlReport) matters() {
	for _, m := range v.Weighing.Matters() {
		x := &htmlMatter{Matter: m, ID: strings.ToLower(m.Name), Where: page.Where(&m.Row), WayOut: page.WayOut(&m.Row),
			Stated: m.Required()}
		if c := check.Named(m.Check); c != nil {
			x.Doc = c.Doc
		}
		groups := page.Groups(&m.Row)
		x.Reasons = slices.ContainsFunc(m.Findings, func(f *check.Finding) bool { return f.Reason != m.Reason })
		x.Groups, x.More = groups[:min(len(groups), mostGroups)], max(len(groups)-mostGroups, 0)
		v.Matters = append(v.Matters, x)
		if m.Kind != check.Waived && len(v.ToDo) < mostToDo {
			v.ToDo = append(v.ToDo, x)
		}
	}
}

// Changes are the first few amendments.
func (v *htmlReport) Changes() []*amend.Amendment {
	if v.Plan == nil {
		return nil
	}
	return v.Plan.Amendments[:min(len(v.Plan.Amendments), mostToDo)]
}

// ChangesMore says how many more there are, and where.
func (v *htmlReport) ChangesMore() string {
	text := "sternledger amend weighs each of them anew, leaves out what then settles nothing or makes another verdict worse, says whom each hits, and writes the change files."
	if more := len(v.Plan.Amendments) - mostToDo; more > 0 {
		text = page.Quantity(more, "more amendment") + " in the working paper. " + text
	}
	return text
}

// Status says what came of the change files that were written.
func (v *htmlReport) Status() string {
	if len(v.Amended.All) == 0 {
		return ""
	}
	return "Of the change files: " + page.AmendStatusTotals(v.Amended)
}

// Gravest are the first few of what is to be done.
func (v *htmlReport) Gravest() []*htmlMatter { return v.ToDo[:min(len(v.ToDo), mostGravest)] }

// cohorts makes the places with their settings, and the data of the findings.
func (v *htmlReport) cohorts() {
	w := v.Weighing
	of := map[*estate.Authority]int{}
	for i, c := range w.Cohorts() {
		x := &htmlCohort{ID: fmt.Sprintf("c%d", i+1), Title: page.CohortNamed(c), Note: string(c.Place().Platform)}
		if c.Accounts != nil {
			x.Note += ", " + page.Quantity(*c.Accounts, "account")
		} else {
			x.Note += ", accounts not listed"
		}
		for _, a := range c.Places {
			of[a] = i
			if len(c.Places) > 1 {
				x.Names = append(x.Names, a.Label())
			}
		}
		x.Policies = policiesOf(c.Scopes)
		v.Cohorts = append(v.Cohorts, x)
	}
	v.Data = htmlData{Places: []string{}, Texts: []string{}, Baselines: v.Baselines, Findings: [][]any{}}
	var prints strings.Builder
	places, texts := &numbered{list: &v.Data.Places}, &numbered{list: &v.Data.Texts}
	for n, m := range v.Matters {
		for _, f := range m.Findings {
			at, known := of[f.Authority]
			if !known {
				at = -1
			} else if c := v.Cohorts[at]; len(c.Matters) == 0 || c.Matters[len(c.Matters)-1] != m {
				c.Matters = append(c.Matters, m)
			}
			accounts := -1
			if f.Accounts != nil {
				accounts = *f.Accounts
			}
			sources := []int{}
			for _, b := range f.Baselines {
				if i := slices.Index(v.Baselines, b.ID); i >= 0 && !slices.Contains(sources, i) {
					sources = append(sources, i)
				}
			}
			v.Data.Findings = append(v.Data.Findings, []any{n, at, places.of(f.ScopeName()), slices.Index(check.Kinds, f.Kind),
				f.Severity.Rank(), accounts, texts.of(f.Reason), texts.of(f.Remedy), sources})
			prints.WriteString(f.Fingerprint)
		}
	}
	v.Data.Prints = prints.String()
}

// numbered gives each text its place in a list.
type numbered struct {
	list *[]string
	at   map[string]int
}

func (n *numbered) of(text string) int {
	text = page.Clean(text)
	if n.at == nil {
		n.at = map[string]int{}
	}
	i, ok := n.at[text]
	if !ok {
		i = len(*n.list)
		n.at[text] = i
		*n.list = append(*n.list, text)
	}
	return i
}

// JSON is the data as the page's script reads it.
func (d htmlData) JSON() (string, error) {
	text, err := json.Marshal(d) // it writes <, > and & as escapes
	return string(text), err
}

// policiesOf are the policies of a place, with their effective settings.
func policiesOf(scopes []*govern.Scope) []htmlPolicy {
	var all []htmlPolicy
	for i := 0; i < len(scopes); {
		n := i + 1
		for n < len(scopes) && scopes[n].Under() == scopes[i].Under() {
			n++
		}
		s := scopes[i]
		p := htmlPolicy{Title: s.PolicyName(), Note: page.AboutScopes(scopes[i:n]), Governs: governsText(s)}
		for _, row := range setting.Table() {
			e := s.Settings[row.ID]
			if e.Missing == govern.NoSuch {
				continue
			}
			x := htmlSetting{Title: row.Title, Value: row.Text(e.Value), Raw: page.Clip(e.Cite.Raw, 60), Evidence: e.Cite.String(), From: e.From,
				Missing: e.Missing != govern.Present}
			if x.Missing {
				x.Value = string(e.Missing)
			}
			p.Settings = append(p.Settings, x)
		}
		all = append(all, p)
		i = n
	}
	return all
}

// drift tells what changed since the weighing before.
func (v *htmlReport) drift() {
	if v.Report.Drift == nil {
		return
	}
	d := contract.NewDriftDocument(v.Report.Drift)
	v.Nothing = d.Nothing
	add := func(part string, n int, line func(i int) (string, string)) {
		if n == 0 {
			return
		}
		c := htmlChange{Part: part, More: max(n-mostDrift, 0)}
		for i := range min(n, mostDrift) {
			word, text := line(i)
			c.Lines = append(c.Lines, htmlLine{word, text})
		}
		v.Drift = append(v.Drift, c)
	}
	changes := func(part string, all []contract.ChangeDocument) {
		add(part, len(all), func(i int) (string, string) { return string(all[i].Way), page.ChangeText(&all[i]) })
	}
	changes("Baselines", d.Baselines)
	changes("Decisions", d.Decisions)
	changes("Renamed", d.Renamed)
	changes("Evidence", d.Evidence)
	changes("Policies and their accounts", d.Scopes)
	add("Accounts that moved", len(d.Moves), func(i int) (string, string) {
		m := d.Moves[i]
		return "moved", fmt.Sprintf("%s of %s: from %s to %s", m.Account, m.Authority, m.From, m.To)
	})
	changes("Accounts that came and went", d.Accounts)
	add("Settings", len(d.Settings), func(i int) (string, string) {
		x := d.Settings[i]
		return string(x.Way), fmt.Sprintf("%s, %s: %s → %s", x.What, x.Setting, x.Before, x.After)
	})
	add("Findings", len(d.Findings), func(i int) (string, string) {
		f := d.Findings[i]
		f.ChangeDocument.What += ": " + f.Headline
		return string(f.Way), page.ChangeText(&f.ChangeDocument)
	})
	changes("Waivers", d.Waivers)
}

// Changed says in a sentence what changed; empty for the first weighing.
func (v *htmlReport) Changed() string {
	switch {
	case v.Report.Drift == nil:
		return ""
	case v.Nothing:
		return fmt.Sprintf("Nothing changed since weighing %d.", v.Report.Drift.Before.Number)
	}
	by := map[string]int{}
	for _, f := range v.Report.Drift.Findings {
		by[string(f.Way)]++
	}
	var parts []string
	for _, way := range []string{"new", "worse", "better", "gone", "waived", "waiver ended"} {
		if by[way] > 0 {
			parts = append(parts, page.Grouped(by[way])+" "+way)
		}
	}
	if len(parts) == 0 {
		parts = []string{"none changed"}
	}
	return fmt.Sprintf("Findings since weighing %d: %s.", v.Report.Drift.Before.Number, strings.Join(parts, ", "))
}

// Lacking are the matters of what the evidence lacks.
func (v *htmlReport) Lacking() []*htmlMatter {
	return slices.DeleteFunc(slices.Clone(v.Matters), func(m *htmlMatter) bool { return m.Kind != check.Missing })
}

// gaps are the lines that were not understood.
func (v *htmlReport) gaps() {
	for _, p := range v.Problems {
		v.Gaps = append(v.Gaps, htmlGap{p.Cite.String(), p.Text})
	}
	v.MoreGaps = max(len(v.Gaps)-mostGaps, 0)
	v.Gaps = v.Gaps[:len(v.Gaps)-v.MoreGaps]
}

// forecasts makes the rows of the table of what the settings allow, one for each
// policy of each cohort.
func (v *htmlReport) forecasts() {
	shown := map[govern.PolicyID]bool{}
	for _, c := range v.Weighing.Cohorts() {
		for _, s := range c.Scopes {
			shown[s.Under()] = true
		}
	}
	for i := range v.Report.Forecasts.Scopes {
		x := &v.Report.Forecasts.Scopes[i]
		if id := x.Scope.Under(); shown[id] {
			delete(shown, id)
			v.Forecasts = append(v.Forecasts, append([]string{x.Scope.Title()}, page.TableCells(&x.Now)...))
		}
	}
}

// sentence says what a manager can repeat.
func sentence(r *assess.Report) string {
	w := r.Weighing
	grave := map[*govern.Scope]bool{}
	for i := range w.Findings {
		if f := &w.Findings[i]; f.Scope != nil && f.Severity == baseline.Grave && f.Kind != check.Waived {
			grave[f.Scope] = true
		}
	}
	accounts, exposed, privileged := 0, 0, 0
	for _, s := range w.Scopes {
		if slices.ContainsFunc(w.Unweighed, func(u check.Unweighed) bool { return u.Authority == s.Authority }) {
			continue
		}
		accounts += s.Accounts
		if grave[s] {
			exposed += s.Accounts
			if s.Tier == govern.Privileged {
				privileged += s.Accounts
			}
		}
	}
	switch {
	case accounts == 0:
		return "The evidence lists no accounts; what is said here is of the settings alone."
	case exposed == 0:
		return fmt.Sprintf("None of %s lives under settings with a grave shortfall.", page.Quantity(accounts, "account"))
	}
	text := fmt.Sprintf("%s of %s live under settings with a grave shortfall", page.Grouped(exposed), page.Quantity(accounts, "account"))
	if privileged > 0 {
		text += fmt.Sprintf(", %s of them privileged", page.Grouped(privileged))
	}
	return text + "."
}
