package page

import (
	_ "embed" // the page's template
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"

	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/weigh"
	"sternledger/internal/engagement"
)

//go:embed report.html
var reportTemplate string

// htmlReport is the report as its page shows it.
type htmlReport struct {
	*engagement.Report
	Summary   []string
	Worst     []*weigh.Finding
	Matrices  []htmlMatrix
	Policies  []htmlPolicy
	Guesses   template.HTML
	Verdicts  template.HTML
	Course    template.HTML
	Drift     []htmlChange
	Nothing   bool
	Gaps      []htmlGap
	Forecasts [][]string
	Kinds     []weigh.Kind
	Baselines []string
	Program   string
}

// htmlMatrix is the policies of some places against the settings weighed there.
type htmlMatrix struct {
	Title    string
	Settings []setting.Setting
	Rows     []htmlMatrixRow
}

type htmlMatrixRow struct {
	Name, ID string
	Cells    []htmlCell
}

// htmlCell is the worst verdict on a setting; Finding is what it links to.
type htmlCell struct {
	Kind    weigh.Kind
	Finding string
}

// htmlPolicy is one part of the page: an authority as a whole, or a policy.
type htmlPolicy struct {
	about                    govern.PolicyID
	ID, Title, Note, Governs string
	Settings                 []htmlSetting
	Findings                 []*htmlFinding
	Held                     string
}

type htmlSetting struct {
	Title, ID, Value, Raw, Evidence, From string
	Missing                               bool
}

type htmlFinding struct {
	*told
	Split   bool
	Sources string
	Who     string
	Cites   []string
	Each    string   // what the filter picks by, as JSON; see eachOf
	Prints  []string // severity, tier and fingerprint of each tier
	Also    []string // fingerprints of the other tiers
}

type htmlChange struct {
	Part  string
	Lines [][2]string // a word, and what it says
	More  int
}

type htmlGap struct{ Where, What string }

// N is how many findings are told as one: those of tiers under one policy.
// eachOf lists, for the page's filter, what it picks by: of every finding that
// is told here, not of the gravest alone.
func eachOf(f *told) string {
	type one struct {
		Verdict   weigh.Kind `json:"verdict"`
		Severity  string     `json:"severity"`
		Baselines []string   `json:"baselines"`
	}
	var all []one
	for _, x := range f.each {
		o := one{x.Kind, string(x.Severity), []string{}}
		for _, b := range x.Baselines {
			o.Baselines = append(o.Baselines, b.ID)
		}
		all = append(all, o)
	}
	text, _ := json.Marshal(all)
	return string(text)
}

// mostDrift is how much the page lists of each part of a drift.
const mostDrift = 40

func reportHTML(w io.Writer, r *engagement.Report) error {
	t, err := template.New("report").Funcs(template.FuncMap{
		"clean": Clean, "word": func(k weigh.Kind) string { return shortKinds[k] }, "grouped": Grouped, "number": short, "title": func(id setting.ID) string { return setting.Get(id).Title },
		"about": func(w weigh.Waiver) string { return about(&w) }, "accepted": func(w weigh.Waiver) string { return accepted(&w) }, "day": func(at string) string { return at[:min(len(at), 10)] },
	}).Parse(reportTemplate)
	if err != nil {
		return err
	}
	v := &htmlReport{Report: r, Summary: summary(r), Worst: worst(r.Weighing, 8), Kinds: weigh.Kinds[1:], Program: engagement.Version}
	for _, b := range r.Weighing.Baselines {
		v.Baselines = append(v.Baselines, b.ID)
	}
	slices.Sort(v.Baselines)
	ids := v.policies()
	v.matrices(ids)
	v.charts()
	v.drift()
	v.gaps()
	v.forecasts()
	return t.Execute(w, v)
}

var shortKinds = map[weigh.Kind]string{weigh.Holds: "holds", weigh.Weak: "weak", weigh.Conflicting: "confl.", weigh.Missing: "miss.", weigh.Waived: "waived", "": "–"}

// policies makes the parts, and returns their ids.
func (v *htmlReport) policies() map[govern.PolicyID]string {
	ids := map[govern.PolicyID]string{}
	w := v.Weighing
	for n, about := range subjects(w) {
		p := htmlPolicy{about: about.id, ID: fmt.Sprintf("p%d", n+1), Title: about.title, Note: about.note, Held: about.held}
		ids[about.id] = p.ID
		if len(about.scopes) > 0 {
			s := about.scopes[0]
			p.Governs = governsText(s)
			for _, row := range setting.Table() {
				e := s.Settings[row.ID]
				if e.Missing == govern.NoSuch {
					continue
				}
				x := htmlSetting{Title: row.Title, ID: string(row.ID), Value: row.Text(e.Value), Raw: clip(e.Cite.Raw, 60), Evidence: e.Cite.String(), From: e.From, Missing: e.Missing != govern.Present}
				if x.Missing {
					x.Value = string(e.Missing)
				}
				p.Settings = append(p.Settings, x)
			}
		}
		for _, f := range about.findings {
			x := &htmlFinding{told: f, Split: len(about.scopes) > 1, Sources: strings.Join(sourceTexts(f.Finding), "; "), Who: whom(f.Finding), Prints: f.tiers, Also: f.also}
			for _, c := range f.Evidence {
				x.Cites = append(x.Cites, citeText(c))
			}
			x.Each = eachOf(f)
			p.Findings = append(p.Findings, x)
		}
		v.Policies = append(v.Policies, p)
	}
	return ids
}

// matrices makes a table of words for each kind of place.
func (v *htmlReport) matrices(ids map[govern.PolicyID]string) {
	type place struct {
		policy  govern.PolicyID
		setting setting.ID
	}
	worst, finding := map[place]weigh.Kind{}, map[place]string{}
	for i := range v.Weighing.Verdicts {
		x := &v.Weighing.Verdicts[i]
		at := place{x.Scope.Under(), x.Demand.Setting}
		if old, ok := worst[at]; !ok || x.Kind.Rank() > old.Rank() {
			worst[at] = x.Kind
		}
	}
	for _, p := range v.Policies {
		for _, f := range p.Findings {
			for _, id := range f.Settings {
				if at := (place{p.about, id}); finding[at] == "" || f.Check == "" {
					finding[at] = f.Fingerprint
				}
			}
		}
	}
	// Places of one kind share a table: they have the same settings.
	var order []string
	rows, named := map[string][]govern.PolicyID{}, map[govern.PolicyID]string{}
	for _, s := range v.Weighing.Scopes {
		title := familyOf(s.Authority.Platform)
		if rows[title] == nil {
			order = append(order, title)
		}
		if id := s.Under(); named[id] == "" {
			named[id] = s.Title()
			rows[title] = append(rows[title], id)
		}
	}
	for _, title := range order {
		m := htmlMatrix{Title: title}
		for _, row := range setting.Table() {
			if slices.ContainsFunc(rows[title], func(p govern.PolicyID) bool { _, ok := worst[place{p, row.ID}]; return ok }) {
				m.Settings = append(m.Settings, row)
			}
		}
		for _, p := range rows[title] {
			line := htmlMatrixRow{Name: named[p], ID: ids[p]}
			some := false
			for _, row := range m.Settings {
				at := place{p, row.ID}
				cell := htmlCell{Kind: worst[at]}
				some = some || cell.Kind != ""
				if cell.Kind != weigh.Holds && cell.Kind != "" {
					cell.Finding = finding[at]
				}
				line.Cells = append(line.Cells, cell)
			}
			if some {
				m.Rows = append(m.Rows, line)
			}
		}
		if len(m.Rows) > 0 {
			v.Matrices = append(v.Matrices, m)
		}
	}
}

// families put platforms under one heading.
var families = map[setting.Platform]string{setting.WindowsDomain: "Windows domains and machines", setting.WindowsMachine: "Windows domains and machines", setting.UnixMachine: "Unix machines",
	setting.LDAPDirectory: "LDAP directories", setting.Other: "Other places"}

func familyOf(p setting.Platform) string {
	if title, ok := families[p]; ok {
		return title
	}
	return "Tenants"
}

// drift tells what changed since the weighing before.
func (v *htmlReport) drift() {
	if v.Report.Drift == nil {
		return
	}
	d := engagement.NewDriftDocument(v.Report.Drift)
	v.Nothing = d.Nothing
	add := func(part string, n int, line func(i int) (string, string)) {
		if n == 0 {
			return
		}
		c := htmlChange{Part: part, More: max(n-mostDrift, 0)}
		for i := range min(n, mostDrift) {
			word, text := line(i)
			c.Lines = append(c.Lines, [2]string{word, text})
		}
		v.Drift = append(v.Drift, c)
	}
	changes := func(part string, all []engagement.ChangeDocument) {
		add(part, len(all), func(i int) (string, string) { return string(all[i].Way), changeText(&all[i]) })
	}
	changes("Evidence", d.Evidence)
	changes("Baselines", d.Baselines)
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
		return string(f.Way), changeText(&f.ChangeDocument)
	})
	changes("Waivers", d.Waivers)
}

// gaps are what the evidence lacks: findings that are missing, and what was not
// understood.
func (v *htmlReport) gaps() {
	type gap struct{ where, reason string }
	like := map[gap][]string{}
	var order []gap
	for i := range v.Weighing.Findings {
		f := &v.Weighing.Findings[i]
		if f.Kind != weigh.Missing {
			continue
		}
		key := gap{f.ScopeName(), f.Reason}
		if like[key] == nil {
			order = append(order, key)
		}
		like[key] = append(like[key], f.Headline())
	}
	for _, key := range order {
		v.Gaps = append(v.Gaps, htmlGap{key.where, strings.Join(like[key], ", ") + ": " + key.reason})
	}
	for _, p := range v.Problems {
		v.Gaps = append(v.Gaps, htmlGap{p.Cite.String(), p.Text})
	}
}

// forecasts makes the rows of the table of what the settings allow.
func (v *htmlReport) forecasts() {
	seen := map[govern.PolicyID]bool{}
	for i := range v.Report.Forecasts.Scopes {
		x := &v.Report.Forecasts.Scopes[i]
		if id := x.Scope.Under(); !seen[id] {
			seen[id] = true
			v.Forecasts = append(v.Forecasts, append([]string{x.Scope.Title()}, tableCells(&x.Now)...))
		}
	}
}
