package report

import (
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"time"

	"sternledger/internal/assess"
	"sternledger/internal/contract"
	"sternledger/internal/core/amend"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/exposure"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
	"sternledger/internal/custody"
	"sternledger/internal/page"

	"github.com/xuri/excelize/v2"
)

// mostSheetRows is how many rows a sheet of a workbook holds; more go onto
// another sheet.
const mostSheetRows = 1_048_576

// book writes a workbook sheet by sheet.
type book struct {
	f                             *excelize.File
	head, text, day, wrap, number int
	err                           error
}

// paper is one sheet being written.
type paper struct {
	b      *book
	w      *excelize.StreamWriter
	name   string
	part   int
	widths []float64
	heads  []string
	row    int
}

// reportWorkbook writes the auditor's working paper.
func reportWorkbook(w io.Writer, r *assess.Report) error {
	b := &book{f: excelize.NewFile()}
	defer b.f.Close()
	style := func(s *excelize.Style) int {
		id, err := b.f.NewStyle(s)
		b.keep(err)
		return id
	}
	// Texts keep off the numbers at their left.
	left := excelize.Alignment{Vertical: "top", Horizontal: "left", Indent: 1}
	wrapped := left
	wrapped.WrapText = true
	b.head = style(&excelize.Style{Font: &excelize.Font{Bold: true}, Border: []excelize.Border{{Type: "bottom", Color: "5f5f5f", Style: 1}},
		Alignment: &excelize.Alignment{Vertical: "bottom", Horizontal: "left", Indent: 1, WrapText: true}})
	b.number = style(&excelize.Style{Alignment: &excelize.Alignment{Vertical: "top"}})
	b.text, b.wrap = style(&excelize.Style{Alignment: &left}), style(&excelize.Style{Alignment: &wrapped})
	format := "yyyy-mm-dd hh:mm"
	b.day = style(&excelize.Style{CustomNumFmt: &format, Alignment: &left})

	matters := r.Weighing.Matters()
	b.summary(r)
	if r.Plan != nil && len(r.Plan.Amendments) > 0 {
		b.amendments(r)
	} else {
		b.todo(matters)
	}
	b.matters(matters)
	b.findings(r, matters)
	b.requirements(r)
	b.scopes(r)
	b.verdicts(r)
	b.accounts(r)
	b.evidence(r)
	b.keep(b.f.DeleteSheet("Sheet1"))
	b.keep(b.f.SetDocProps(&excelize.DocProperties{Title: page.Clean(r.Title), Creator: page.Clean(r.Auditor),
		Created: r.Weighing.At.Format(time.RFC3339), Modified: r.Weighing.At.Format(time.RFC3339)}))
	if b.err != nil {
		return b.err
	}
	return b.f.Write(w)
}

func (b *book) keep(err error) {
	if b.err == nil {
		b.err = err
	}
}

// sheet begins one: its heads, and the widths of its columns in characters.
func (b *book) sheet(name string, heads []string, widths ...float64) *paper {
	p := &paper{b: b, name: name, heads: heads, widths: widths}
	p.open()
	return p
}

func (p *paper) open() {
	name := p.name
	if p.part++; p.part > 1 {
		name = fmt.Sprintf("%s %d", p.name, p.part)
	}
	_, err := p.b.f.NewSheet(name)
	p.b.keep(err)
	// A stream writes what its sheet is like first, so that is said before it.
	landscape, a4, wide, high, fit := "landscape", 9, 1, 0, len(p.heads) < 20
	p.b.keep(p.b.f.SetPageLayout(name, &excelize.PageLayoutOptions{Orientation: &landscape, Size: &a4, FitToWidth: &wide, FitToHeight: &high}))
	p.b.keep(p.b.f.SetSheetProps(name, &excelize.SheetPropsOptions{FitToPage: &fit}))
	p.w, err = p.b.f.NewStreamWriter(name)
	p.b.keep(err)
	if p.b.err != nil {
		return
	}
	for i, width := range p.widths {
		p.b.keep(p.w.SetColWidth(i+1, i+1, width))
	}
	p.b.keep(p.w.SetPanes(&excelize.Panes{Freeze: true, XSplit: 1, YSplit: 1, TopLeftCell: "B2", ActivePane: "bottomRight"}))
	p.row = 0
	cells, lines := make([]any, len(p.heads)), 1
	for i, h := range p.heads {
		cells[i] = excelize.Cell{StyleID: p.b.head, Value: page.Clean(h)}
		lines = max(lines, linesOf(h, p.widths[i]))
	}
	p.put(cells, float64(lines)*lineHeight+2)
}

// add writes a row. Texts are texts, whatever they begin with: a cell of a
// stream holds a formula only where it is given as one.
func (p *paper) add(values ...any) {
	if p.b.err != nil {
		return
	}
	if p.row == mostSheetRows {
		p.close()
		p.open()
	}
	cells := make([]any, len(values))
	lines := 1
	for i, v := range values {
		style := p.b.number
		switch x := v.(type) {
		case string:
			text := page.Clip(page.Clean(x), 32_000) // what a cell holds
			v, style = text, p.b.text
			if n := linesOf(text, p.widths[i]); n > 1 {
				style, lines = p.b.wrap, max(lines, n)
			}
		case time.Time:
			style = p.b.day
		case *int:
			if v = nil; x != nil {
				v = *x
			}
		}
		cells[i] = excelize.Cell{StyleID: style, Value: v}
	}
	p.put(cells, min(float64(lines)*lineHeight, mostHeight))
}

// Heights in points: programs do not all find out by themselves how high a row
// of wrapped text is.
const (
	lineHeight = 13.5
	mostHeight = 405 // 409 is what a row can have
)

// linesOf is how many lines a text takes in a column of so many characters.
func linesOf(text string, width float64) int {
	return int(math.Ceil(float64(len([]rune(text))) * 1.1 / width))
}

func (p *paper) put(cells []any, height float64) {
	p.row++
	at, err := excelize.CoordinatesToCellName(1, p.row)
	p.b.keep(err)
	if p.b.err == nil {
		p.b.keep(p.w.SetRow(at, cells, excelize.RowOpts{Height: height}))
	}
}

// close ends a sheet: its heads filter.
func (p *paper) close() {
	if p.b.err != nil {
		return
	}
	name := p.name
	if p.part > 1 {
		name = fmt.Sprintf("%s %d", p.name, p.part)
	}
	last, err := excelize.CoordinatesToCellName(len(p.heads), max(p.row, 2))
	p.b.keep(err)
	if p.b.err == nil {
		p.b.keep(p.b.f.AutoFilter(name, "A1:"+last, nil))
		p.b.keep(p.w.Flush())
	}
}

func (b *book) summary(r *assess.Report) {
	p := b.sheet("Summary", []string{"What", "Value"}, 30, 110)
	defer p.close()
	p.add("Engagement", r.Title)
	p.add("Auditor", r.Auditor)
	p.add("Weighing", fmt.Sprint(r.Weighing.Number))
	p.add("Weighed at (UTC)", r.Weighing.At)
	for _, x := range r.Weighing.Baselines {
		p.add("Baseline", x.ID+" "+x.Version+": "+x.Title)
	}
	for _, text := range append(summary(r), page.Exposed(r.Weighing)) {
		if text != "" {
			p.add("Outcome", text)
		}
	}
	for i := range r.Applies {
		p.add("Said by the auditor", r.Applies[i].Text())
	}
	if len(r.Weighing.Assumed) > 0 {
		p.add("Assumptions changed", page.AssumedText(r.Weighing.Assumed))
	}
	for _, d := range r.Decisions {
		p.add("Decision", fmt.Sprintf("%s: %s is followed. %s", d.Setting, d.Follow, d.Why))
	}
	p.add("Ledger entry", fmt.Sprint(r.Entry))
	p.add("Seal", r.Seal)
}

// requirements has a row for each section of each baseline and kind of place, and one for all.
func (b *book) requirements(r *assess.Report) {
	p := b.sheet("Requirements", []string{"Baseline", "Version", "Section", "Settings", "Kind of place", "State", "Holds", "Fails", "Missing", "Waived",
		"Accounts", "Matters"}, 22, 10, 20, 44, 20, 14, 8, 8, 10, 9, 10, 24)
	defer p.close()
	d := contract.NewRequirementsDocument(r.Weighing.Record, r.Weighing.Record.Requirements())
	for i := range d.Baselines {
		b := &d.Baselines[i]
		for k := range b.Requirements {
			x := &b.Requirements[k]
			add := func(where string, t *contract.TallyDocument) {
				p.add(b.ID, b.Version, page.SectionText(x), page.SettingsText(x.Settings), where, string(t.State), &t.Met, &t.Failed, &t.Unknown, &t.Accepted,
					&t.Accounts, strings.Join(x.Matters, " "))
			}
			add("all", &x.TallyDocument)
			for n := range x.By {
				add(string(x.By[n].Platform), &x.By[n].TallyDocument)
			}
		}
	}
}

func (b *book) verdicts(r *assess.Report) {
	p := b.sheet("Verdicts", []string{"Scope", "Tier", "Accounts", "Setting", "Baseline", "Section", "Verdict", "Beneath",
		"Severity", "Observed", "Demanded", "Reason", "Evidence"}, 44, 11, 10, 22, 20, 16, 12, 12, 10, 22, 30, 60, 30)
	defer p.close()
	for i := range r.Weighing.Verdicts {
		v := &r.Weighing.Verdicts[i]
		var cites []string
		for _, c := range v.Evidence {
			cites = append(cites, c.String())
		}
		p.add(v.Scope.Name(), v.Scope.Tier, listed(v.Scope), string(v.Demand.Setting), v.Baseline.ID, v.Demand.Ref, string(v.Kind),
			string(v.Beneath), string(v.Severity), v.Observed, v.Demand.Text(), v.Reason, strings.Join(cites, "; "))
	}
}

// listed is a scope's number of accounts; nil where they are not listed.
func listed(s *govern.Scope) *int {
	if !s.Listed() {
		return nil
	}
	return &s.Accounts
}

func (b *book) findings(r *assess.Report, matters []*record.Matter) {
	of := map[*check.Finding]string{}
	for _, m := range matters {
		for _, f := range m.Findings {
			of[f] = m.Name
		}
	}
	p := b.sheet("Findings", []string{"Fingerprint", "Matter", "Verdict", "Severity", "Scope", "Finding", "Accounts", "Examples", "Observed",
		"Demanded", "Worth", "Reason", "Remedy", "Evidence", "Sections", "Waived until", "Waiver"},
		14, 9, 12, 10, 44, 26, 10, 24, 22, 30, 10, 60, 50, 36, 28, 14, 30)
	defer p.close()
	for i := range r.Weighing.Findings {
		f := &r.Weighing.Findings[i]
		var cites []string
		for _, c := range f.Evidence {
			cites = append(cites, page.CiteText(c))
		}
		until, why := any(nil), ""
		if f.Waiver != nil {
			until, why = f.Waiver.Until, f.Waiver.Reason
			if day, err := time.Parse(time.DateOnly, f.Waiver.Until); err == nil {
				until = day
			}
		}
		p.add(f.Fingerprint, of[f], string(f.Kind), string(f.Severity), f.ScopeName(), f.Head(), f.Accounts, strings.Join(f.Examples, ", "),
			f.Observed, f.Required(), figureOf(f.Worth), f.Reason, f.Remedy, strings.Join(cites, "; "), strings.Join(sourceTexts(f), "; "), until, why)
	}
}

func (b *book) accounts(r *assess.Report) {
	p := b.sheet("Accounts", []string{"Authority", "Account", "Enabled", "Tier", "Scope", "Policy", "Origin", "Rule", "Via", "Flags"},
		30, 26, 10, 12, 46, 24, 50, 12, 24, 40)
	defer func() { p.close() }()
	for a := range r.Accounts() {
		p.add(a.Label, a.Account, a.Enabled, a.Tier, a.Scope, a.Policy, a.Origin, a.Rule, a.Via, strings.Join(a.Flags, ", "))
	}
}

// amendments is the list that is worked through: what to change, in its order, with
// columns for the auditor to fill.
func (b *book) amendments(r *assess.Report) {
	p := b.sheet("To do", []string{"Amendment", "Severity", "What to change", "Now", "Then", "Where", "Accounts", "Privileged",
		"Worth", "Findings settled",
		"First", "Owner", "Due", "State", "Remark"}, 13, 10, 34, 24, 22, 48, 10, 12, 10, 10, 10, 18, 12, 14, 30)
	defer p.close()
	states := map[string]string{}
	for _, a := range r.Amended.All {
		states[a.Fingerprint], _ = page.StateOf(a)
	}
	for _, a := range r.Plan.Amendments {
		var first []string
		for _, f := range a.First {
			first = append(first, f.Name)
		}
		p.add(a.Name, string(a.Severity), a.Title(), a.Was(), a.Becomes(), page.AmendWhere(a), a.Accounts, a.Privileged, a.Worth.Float(), len(a.Settles),
			strings.Join(first, " "),
			a.Spots[0].Owner, nil, states[a.Fingerprint], page.AmendHeld(a, r.Weighing.At))
	}
	for _, a := range r.Amended.All { // those that took are no more in the plan
		if word, text := page.StateOf(a); !slices.ContainsFunc(r.Plan.Amendments,
			func(x *amend.Amendment) bool { return x.Fingerprint == a.Fingerprint }) {
			p.add(a.Name+" of entry "+fmt.Sprint(a.Entry), "", a.Title, a.Was, a.Becomes, page.StatusWhere(a), nil, nil, nil, nil, nil, nil, nil, word,
				text)
		}
	}
}

// todo is the list that is worked through: what to do, in its order, with columns
// for the auditor to fill.
func (b *book) todo(matters []*record.Matter) {
	p := b.sheet("To do", []string{"Matter", "Severity", "What is wrong", "What to do", "Where", "Accounts", "Privileged", "Worth", "Findings settled",
		"Owner", "Due", "State", "Remark"}, 9, 10, 46, 60, 34, 10, 10, 10, 10, 18, 12, 12, 30)
	defer p.close()
	for _, m := range matters {
		if m.Kind != check.Waived {
			p.add(m.Name, string(m.Severity), m.Title, m.Remedy, page.PlacesNamed(m.Places), accountsOf(&m.Row), m.Privileged, figureOf(m.Worth), len(m.Findings), nil, nil,
				nil, nil)
		}
	}
}

// figureOf is what mending something is worth, in accounts a year by the weight of their tiers.
func figureOf(w *exposure.Worth) any {
	if w == nil {
		return "no figure"
	}
	return w.Sum.Float()
}

// accountsOf is how many accounts a matter reaches.
func accountsOf(m *record.Row) any {
	if m.Accounts == nil {
		return "not listed"
	}
	return *m.Accounts
}

func (b *book) matters(matters []*record.Matter) {
	p := b.sheet("Matters", []string{"Matter", "Fingerprint", "Verdict", "Severity", "Title", "Check", "Settings", "Observed", "Demanded",
		"Sections", "Reason", "Fix", "Accounts", "Worth", "Places", "Places by name"}, 9, 15, 12, 10, 46, 24, 30, 22, 30, 40, 60, 60, 10, 10, 8, 60)
	defer func() { p.close() }()
	for _, m := range matters {
		var ids, places []string
		for _, id := range m.Settings {
			ids = append(ids, string(id))
		}
		for _, a := range m.Places {
			places = append(places, a.Label())
		}
		p.add(m.Name, m.Fingerprint, string(m.Kind), string(m.Severity), m.Title, m.Check, strings.Join(ids, ", "), m.Observed, m.Required(),
			strings.Join(page.Sources(&m.Row), "; "), m.Reason, m.Remedy, accountsOf(&m.Row), figureOf(m.Worth), len(m.Places), strings.Join(places, ", "))
	}
	p.close()
	p = b.sheet("Values", []string{"Matter", "Fingerprint", "Verdict", "Severity", "What", "Demanded", "Worth", "Accounts", "Privileged", "Fix",
		"Places", "Places by name"}, 9, 15, 12, 10, 46, 46, 10, 10, 10, 60, 8, 60)
	for _, m := range matters {
		for _, r := range m.Rows {
			var places []string
			for _, a := range r.Places {
				places = append(places, a.Label())
			}
			p.add(m.Name, r.Fingerprint, string(r.Kind), string(r.Severity), page.RowCells(r, m)[1], r.Required(), figureOf(r.Worth), accountsOf(r),
				r.Privileged, r.Remedy, len(r.Places), strings.Join(places, ", "))
		}
	}
}

// scopes gives one row for each scope, with its settings side by side.
func (b *book) scopes(r *assess.Report) {
	cohort := map[*estate.Authority]string{}
	for _, c := range r.Weighing.Cohorts() {
		for _, a := range c.Places {
			cohort[a] = c.ID
		}
	}
	heads, widths := []string{"Scope", "Place", "Kind", "Policy", "Tier", "Cohort", "Accounts", "Enabled"}, []float64{46, 30, 10, 26, 12, 15,
		10, 10}
	var rows []*setting.Setting
	var sizes []int64
	for _, row := range setting.Table() {
		if slices.ContainsFunc(r.Weighing.Scopes, func(s *govern.Scope) bool { return s.Settings[row.ID].Missing != govern.NoSuch }) {
			rows = append(rows, row)
			head := row.Title
			unit, size := unitOf(row, r.Weighing.Scopes)
			if unit != "" {
				head += " (" + unit + ")"
			}
			sizes = append(sizes, size)
			heads, widths = append(heads, head), append(widths, 14)
		}
	}
	p := b.sheet("Scopes", heads, widths...)
	defer p.close()
	for _, s := range r.Weighing.Scopes {
		cells := []any{s.Name(), s.Authority.Label(), string(s.Authority.Kind), s.PolicyName(), s.Tier, cohort[s.Authority], listed(s), nil}
		if s.Authority.Listed {
			cells[7] = s.Enabled
		}
		for k, row := range rows {
			e := s.Settings[row.ID]
			n, isNumber := e.Value.Number()
			switch {
			case e.Missing == govern.NoSuch:
				cells = append(cells, nil)
			case e.Missing != govern.Present:
				cells = append(cells, string(e.Missing))
			case isNumber:
				cells = append(cells, n/sizes[k])
			default:
				cells = append(cells, row.Text(e.Value))
			}
		}
		p.add(cells...)
	}
}

// unitOf is the unit in which a setting's numbers stand, and how many of the setting's own
// it is: of times the greatest in which all of them are whole.
func unitOf(row *setting.Setting, scopes []*govern.Scope) (string, int64) {
	if row.Kind != setting.Duration {
		return row.Noun, 1
	}
	for _, unit := range []struct {
		name    string
		seconds int64
	}{{"days", 86400}, {"hours", 3600}, {"minutes", 60}} {
		if !slices.ContainsFunc(scopes, func(s *govern.Scope) bool {
			n, is := s.Settings[row.ID].Value.Number()
			return is && n%unit.seconds != 0
		}) {
			return unit.name, unit.seconds
		}
	}
	return "seconds", 1
}

func (b *book) evidence(r *assess.Report) {
	p := b.sheet("Evidence", []string{"File", "Entry", "From", "Format", "Bytes", "Last changed (UTC)", "SHA-256",
		"SHA-256 of the stored copy", "Secrets struck out"}, 44, 8, 60, 14, 12, 18, 68, 68, 12)
	defer p.close()
	for _, x := range r.Evidence {
		written := any(x.Written)
		if at, err := time.Parse(time.RFC3339, x.Written); err == nil {
			written = at
		}
		p.add(custody.EvidenceDir+"/"+x.Name, x.Entry, x.Path, x.Format, x.Size, written, x.SHA256, x.StoredSHA256, x.Struck)
	}
}
