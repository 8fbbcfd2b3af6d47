package page

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"

	"github.com/charmbracelet/x/ansi"
)

// Scopes draws the account scopes: what governs each, how many accounts, and the
// settings side by side. Places that are alike are drawn once, and those that
// deviate from many are named with what differs; verbose draws all of them, and
// the settings that are the same everywhere.
func Scopes(s *Sheet, survey *govern.Survey, named []check.IdleName, verbose bool) error {
	if len(survey.Scopes) == 0 {
		s.Text("No account scopes: the evidence holds templates only. Gather the domain or the machines that they act on.")
	}
	cohorts := record.Alike(survey.Scopes, nil)
	for i, group := range sheetsOf(cohorts) {
		if i > 0 {
			s.Blank()
		}
		a := group[0].Place()
		dialect := survey.Resolutions[slices.Index(survey.Estate.Authorities, a)].Dialect
		scopesSheet(s, group, dialect, verbose)
		deviants(s, cohorts, group[0], verbose)
		if verbose {
			displays(s, a)
		}
	}
	if len(named) > 0 {
		s.Blank()
		idle(s, named)
	}
	return s.Err()
}

// displays draws what machines' resultant reports show, which people take for what
// governs.
func displays(s *Sheet, a *estate.Authority) {
	for i := range a.Displayed {
		shown := &a.Displayed[i]
		var rows [][]string
		for _, row := range setting.Table() {
			if f, ok := shown.Settings[row.ID]; ok && f.Problem == "" {
				rows = append(rows, []string{string(row.ID), Short(row, f.Value), shown.By[row.ID], f.Cite.String()})
			}
		}
		s.Blank()
		s.Text("Displayed by " + shown.Machine + " (resultant report), which knows no fine-grained policy:")
		s.Table([]Column{{Head: "setting"}, {Head: "displayed", Right: true}, {Head: "by"}, {Head: "evidence"}}, rows)
	}
}

// sheetsOf puts cohorts on sheets: few Unix machines on one, since they are to be
// compared; every other on its own. What deviates from many has none.
func sheetsOf(cohorts []*record.Cohort) [][]*record.Cohort {
	var groups [][]*record.Cohort
	machines := -1
	for _, c := range cohorts {
		if c.Usual != nil {
			continue
		}
		a := c.Place()
		switch joins := a.Platform == setting.UnixMachine && len(a.Typed) == 0; {
		case joins && machines >= 0 && len(groups[machines]) < mostLike:
			groups[machines] = append(groups[machines], c)
			continue
		case joins:
			machines = len(groups)
		}
		groups = append(groups, []*record.Cohort{c})
	}
	return groups
}

// scopesSheet draws the policies of cohorts side by side.
func scopesSheet(s *Sheet, group []*record.Cohort, dialect estate.Dialect, verbose bool) {
	var columns []*PolicyColumn
	var scopes []*govern.Scope
	for _, c := range group {
		own := ByPolicy(summed(c), len(group) > 1)
		for _, col := range own {
			col.places = len(c.Places)
		}
		columns, scopes = append(columns, own...), append(scopes, c.Scopes...)
	}
	a := group[0].Place()
	switch {
	case len(group) > 1:
		s.Title(Quantity(placesIn(group), "Unix machine"), "")
	case len(group[0].Places) > 1:
		s.Title(CohortNamed(group[0]), string(a.Platform))
	default:
		s.Title(a.Label(), aboutAuthority(a, dialect))
	}
	var same []string
	for start := 0; start < len(columns); {
		if start > 0 {
			s.Blank()
		}
		end, room := start+1, s.width-labelWidth-columns[start].width()
		for ; end < len(columns) && columns[end].width() <= room; end++ {
			room -= columns[end].width()
		}
		same = append(same, sideBySide(s, columns[start:end], columns, tiersOf(scopes), verbose)...)
		start = end
	}
	if len(same) > 0 {
		slices.Sort(same)
		s.Text("The same in all: " + strings.Join(slices.Compact(same), ", ") + ".")
	}
	if gone := absent(scopes); gone != "" && len(a.Typed) == 0 {
		s.Text("Not in the evidence: " + gone + ".")
	}
}

// summed are the scopes of a cohort, with the accounts of all its places.
func summed(c *record.Cohort) []*govern.Scope {
	all := make([]*govern.Scope, len(c.Scopes))
	for i, scope := range c.Scopes {
		sum := *scope
		sum.Accounts, sum.Enabled = c.Numbers[i].Accounts, c.Numbers[i].Enabled
		all[i] = &sum
	}
	return all
}

func placesIn(group []*record.Cohort) int {
	n := 0
	for _, c := range group {
		n += len(c.Places)
	}
	return n
}

// deviants names the places that deviate from a cohort, with what differs.
func deviants(s *Sheet, all []*record.Cohort, usual *record.Cohort, verbose bool) {
	drawn := 0
	for _, c := range all {
		if c.Usual != usual {
			continue
		}
		if drawn++; drawn == 1 {
			s.Blank()
			s.Title("Otherwise than these", "")
		}
		if drawn > mostLike && !verbose {
			continue
		}
		name := c.Place().Label()
		if len(c.Places) > 1 {
			name = fmt.Sprintf("%s alike (%s)", Quantity(len(c.Places), nouns[c.Place().Kind]), firstPlaces(c.Places))
		}
		s.Entry("", "", name, strings.Join(c.Differs, "; "))
	}
	if drawn > mostLike && !verbose {
		s.Text(fmt.Sprintf("%s more that deviate: sternledger scopes --verbose", Grouped(drawn-mostLike)))
	}
}

// PolicyColumn is all scopes under one policy. Tiers under a policy share its
// settings, so they share a column and have their numbers of accounts apart.
type PolicyColumn struct {
	*govern.Scope
	Head              string
	first             *govern.Scope // of the authority, to compare with
	accounts, enabled int
	byTier            map[string]int
	places            int // that have it
}

// ByPolicy makes the columns of one authority, whose name stands in their
// heads where it does not stand above them.
func ByPolicy(scopes []*govern.Scope, named bool) []*PolicyColumn {
	var all []*PolicyColumn
	for _, scope := range scopes {
		if n := len(all); n == 0 || all[n-1].Policy != scope.Policy || all[n-1].Rule != scope.Rule || all[n-1].Elsewhere != scope.Elsewhere {
			c := &PolicyColumn{Scope: scope, first: scope, Head: scope.PolicyName(), byTier: map[string]int{}}
			if n > 0 {
				c.first = all[0].Scope
			}
			if scope.Elsewhere != nil && scope.Policy != nil {
				c.Head = scope.Policy.Name + ", of " + scope.Elsewhere.Name
			}
			if named {
				c.Head = scope.Authority.Label() + ": " + c.Head
			}
			all = append(all, c)
		}
		c := all[len(all)-1]
		c.mergeFactor(scope)
		c.accounts += scope.Accounts
		c.enabled += scope.Enabled
		c.byTier[scope.Tier] += scope.Accounts
	}
	return all
}

// mergeFactor keeps the one setting in which tiers under a policy can differ:
// who has a second factor.
func (c *PolicyColumn) mergeFactor(scope *govern.Scope) {
	const id = "mfa"
	mine, theirs := c.Settings[id], scope.Settings[id]
	if mine.Missing != govern.Present || theirs.Missing != govern.Present || mine.Value == theirs.Value {
		return
	}
	merged := *c.Scope
	merged.Settings = maps.Clone(c.Settings)
	mine.Value = setting.Word("some")
	merged.Settings[id] = mine
	c.Scope = &merged
}

// tiersOf returns the tiers that hold accounts, in order.
func tiersOf(scopes []*govern.Scope) []string {
	var tiers []string
	for _, scope := range scopes {
		if scope.Accounts > 0 && !slices.Contains(tiers, scope.Tier) {
			tiers = append(tiers, scope.Tier)
		}
	}
	slices.Sort(tiers)
	return tiers
}

// labelWidth is that of the longest setting's name; headWidth that at which a
// column's head is wrapped.
const (
	labelWidth = 24
	headWidth  = 18
)

// headLines are the lines of a column's head.
func (c *PolicyColumn) headLines() []string { return wrap(Clean(c.Head), headWidth) }

// width is how much room a column takes.
func (c *PolicyColumn) width() int {
	widest := len(Grouped(c.accounts))
	for _, l := range c.headLines() {
		widest = max(widest, ansi.StringWidth(l))
	}
	for _, row := range setting.Table() {
		widest = max(widest, len(cell(row, c.Scope, c.first)))
	}
	return widest + 2
}

func aboutAuthority(a *estate.Authority, dialect estate.Dialect) string {
	if len(a.Typed) > 0 {
		return string(a.Kind) + "; read off by hand"
	}
	if a.Kind == estate.Domain {
		server := string(dialect) + " dialect"
		if dialect == "" {
			server = "dialect not in the evidence"
		}
		return fmt.Sprintf("%s, %s; %s", a.Kind, server, Quantity(a.Accounts, "account"))
	}
	if a.Listed {
		return fmt.Sprintf("%s; %s", a.Kind, Quantity(a.Accounts, "account"))
	}
	return string(a.Kind) + "; accounts not listed"
}

// Quantity writes a number with its noun.
func Quantity(n int, noun string) string {
	switch stem, ends := strings.CutSuffix(noun, "y"); {
	case n == 1:
	case ends:
		noun = stem + "ies"
	case strings.HasSuffix(noun, "s"):
		noun += "es"
	default:
		noun += "s"
	}
	return Grouped(n) + " " + noun
}

// Grouped writes a number with commas between thousands.
func Grouped(n int) string {
	digits := fmt.Sprint(n)
	for i := len(digits) - 3; i > 0; i -= 3 {
		digits = digits[:i] + "," + digits[i:]
	}
	return digits
}

// sideBySide draws one table: a row for each setting, a column for each policy. It
// returns the settings that it left out, since they are the same in all columns.
func sideBySide(s *Sheet, shown, all []*PolicyColumn, tiers []string, verbose bool) (same []string) {
	heads := []Column{{Head: ""}}
	accounts, enabled := []string{"accounts"}, []string{"enabled"}
	for _, c := range shown {
		heads = append(heads, Column{Head: strings.Join(c.headLines(), "\n"), Right: true})
		accounts = append(accounts, accountsOf(c.Scope, c.accounts))
		if c.Authority.Listed {
			enabled = append(enabled, Grouped(c.enabled))
		} else {
			enabled = append(enabled, "not known")
		}
	}
	rows := [][]string{accounts}
	if slices.ContainsFunc(shown, func(c *PolicyColumn) bool { return c.places > 1 }) {
		places := []string{"places"}
		for _, c := range shown {
			places = append(places, Grouped(c.places))
		}
		rows = append([][]string{places}, rows...)
	}
	if slices.ContainsFunc(shown, func(c *PolicyColumn) bool { return c.Listed() }) {
		rows = append(rows, enabled)
	}
	for _, tier := range tiers {
		row := []string{"  " + tier}
		for _, c := range shown {
			row = append(row, Grouped(c.byTier[tier]))
		}
		rows = append(rows, row)
	}
	for _, row := range setting.Table() {
		if a := shown[0].Authority; !row.Exists(a.Platform) && !row.Exists(setting.WindowsFineGrained) {
			continue // of a domain that governs synchronised accounts: nothing about passwords
		}
		cells, any := []string{string(row.ID)}, false
		for _, c := range shown {
			cells = append(cells, cell(row, c.Scope, c.first))
			e := c.Settings[row.ID]
			any = any || e.Missing != govern.NoSuch && (e.Missing != govern.NotCollected || c.Policy == nil &&
				row.Exists(setting.WindowsFineGrained))
		}
		switch {
		case any && !verbose && len(all) > 1 && alike(row, all):
			same = append(same, string(row.ID)+" "+cells[1])
		case any:
			rows = append(rows, cells)
		}
	}
	s.Table(heads, rows)
	return same
}

// alike reports whether a setting is shown the same in all columns.
func alike(row *setting.Setting, all []*PolicyColumn) bool {
	first := cell(row, all[0].Scope, all[0].first)
	return !slices.ContainsFunc(all, func(c *PolicyColumn) bool { return cell(row, c.Scope, c.first) != first })
}

func accountsOf(scope *govern.Scope, n int) string {
	if !scope.Listed() {
		return "not listed"
	}
	return Grouped(n)
}

// cell shows a scope's value, and how it differs from the authority's default.
func cell(row *setting.Setting, scope, first *govern.Scope) string {
	e := scope.Settings[row.ID]
	switch e.Missing {
	case govern.NoSuch:
		return "-"
	case govern.NotSet:
		return "not set"
	case govern.NotCollected:
		return "missing"
	case govern.Unreadable:
		return "unreadable"
	}
	text := Short(row, e.Value)
	if govern.Dormant(scope.Settings, row.ID) {
		return text + ", dormant"
	}
	base := first.Settings[row.ID]
	if scope == first || first.Policy != first.Authority.Head || base.Missing != govern.Present || base.Value == e.Value {
		return text
	}
	order, ok := row.Compare(e.Value, base.Value)
	switch {
	case !ok:
		return text + ", differs"
	case order > 0:
		return text + ", stronger"
	}
	return text + ", weaker"
}

// Short prints a value in few letters, for a cell whose row names the setting.
func Short(s *setting.Setting, v setting.Value) string {
	if sp, ok := v.Special(); ok {
		return strings.ReplaceAll(string(sp), "-", " ")
	}
	if n, ok := v.Number(); ok && s.Kind != setting.Duration {
		return Grouped(int(n))
	}
	return s.Text(v)
}

// absent lists the settings that the platform has and no scope's evidence.
func absent(scopes []*govern.Scope) string {
	var ids []string
	for _, row := range setting.Table() {
		gone := true
		for _, scope := range scopes {
			gone = gone && scope.Settings[row.ID].Missing == govern.NotCollected
		}
		if gone {
			ids = append(ids, string(row.ID))
		}
	}
	return strings.Join(ids, ", ")
}

// ScopeRows gives one row for each scope and setting.
func ScopeRows(survey *govern.Survey) *Rows {
	r := &Rows{Head: []string{"scope", "tier", "accounts", "setting", "value", "raw", "evidence", "from"}}
	for _, scope := range survey.Scopes {
		for _, row := range setting.Table() {
			e := scope.Settings[row.ID]
			if e.Missing == govern.NoSuch {
				continue
			}
			text := row.Text(e.Value)
			if e.Missing != govern.Present {
				text = string(e.Missing)
			}
			r.Rows = append(r.Rows, []string{scope.Name(), scope.Tier, accountsOf(scope, scope.Accounts), string(row.ID), text, e.Cite.Raw,
				e.Cite.String(), e.From})
		}
	}
	return r
}
