package page

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Scopes draws the account scopes, authority by authority: what governs each,
// how many accounts, and the settings side by side.
func Scopes(s *Sheet, survey *govern.Survey) error {
	if len(survey.Scopes) == 0 {
		s.Text("No account scopes: the evidence holds templates only. Gather the domain or the machines that they act on.")
	}
	byAuthority := map[*estate.Authority][]*govern.Scope{}
	for _, scope := range survey.Scopes {
		byAuthority[scope.Authority] = append(byAuthority[scope.Authority], scope)
	}
	for i, group := range grouped(survey.Estate.Authorities) {
		if i > 0 {
			s.Blank()
		}
		var columns []*column
		var scopes []*govern.Scope
		for _, a := range group {
			columns = append(columns, byPolicy(byAuthority[a], len(group) > 1)...)
			scopes = append(scopes, byAuthority[a]...)
		}
		a := group[0]
		if len(group) > 1 {
			s.Title(Quantity(len(group), "Unix machine"), Quantity(accountsIn(group), "account"))
		} else {
			s.Title(a.Label(), aboutAuthority(a, survey.Resolutions[slices.Index(survey.Estate.Authorities, a)].Dialect))
		}
		for start := 0; start < len(columns); {
			if start > 0 {
				s.Blank()
			}
			end, room := start+1, s.width-labelWidth-columns[start].width()
			for ; end < len(columns) && columns[end].width() <= room; end++ {
				room -= columns[end].width()
			}
			sideBySide(s, columns[start:end], tiersOf(scopes))
			start = end
		}
		if gone := absent(scopes); gone != "" && len(a.Typed) == 0 {
			s.Text("Not in the evidence: " + gone + ".")
		}
	}
	return s.Err()
}

// grouped puts Unix machines on one sheet: they come in dozens, and are to be
// compared. Every other authority has a sheet of its own.
func grouped(all []*estate.Authority) [][]*estate.Authority {
	var groups [][]*estate.Authority
	machines := -1
	for _, a := range all {
		switch joins := a.Platform == setting.UnixMachine && len(a.Typed) == 0; {
		case joins && machines >= 0:
			groups[machines] = append(groups[machines], a)
			continue
		case joins:
			machines = len(groups)
		}
		groups = append(groups, []*estate.Authority{a})
	}
	return groups
}

func accountsIn(group []*estate.Authority) int {
	n := 0
	for _, a := range group {
		n += a.Accounts
	}
	return n
}

// column is all scopes under one policy. Tiers under a policy share its
// settings, so they share a column and have their numbers of accounts apart.
type column struct {
	*govern.Scope
	head              string
	first             *govern.Scope // of the authority, to compare with
	accounts, enabled int
	byTier            map[string]int
}

// byPolicy makes the columns of one authority, whose name stands in their
// heads where it does not stand above them.
func byPolicy(scopes []*govern.Scope, named bool) []*column {
	var all []*column
	for _, scope := range scopes {
		if n := len(all); n == 0 || all[n-1].Policy != scope.Policy || all[n-1].Rule != scope.Rule || all[n-1].Elsewhere != scope.Elsewhere {
			c := &column{Scope: scope, first: scope, head: scope.PolicyName(), byTier: map[string]int{}}
			if n > 0 {
				c.first = all[0].Scope
			}
			if scope.Elsewhere != nil && scope.Policy != nil {
				c.head = scope.Policy.Name + ", of " + scope.Elsewhere.Name
			}
			if named {
				c.head = scope.Authority.Label() + ": " + c.head
			}
			all = append(all, c)
		}
		c := all[len(all)-1]
		c.mergeFactor(scope)
		c.accounts += scope.Accounts
		c.enabled += scope.Enabled
		c.byTier[scope.Tier] = scope.Accounts
	}
	return all
}

// mergeFactor keeps the one setting in which tiers under a policy can differ:
// who has a second factor.
func (c *column) mergeFactor(scope *govern.Scope) {
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
func (c *column) headLines() []string { return wrap(Clean(c.head), headWidth) }

// width is how much room a column takes.
func (c *column) width() int {
	widest := len(Grouped(c.accounts))
	for _, l := range c.headLines() {
		widest = max(widest, ansi.StringWidth(l))
	}
	for _, row := range setting.Table() {
		widest = max(widest, len(cell(&row, c.Scope, c.first)))
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

// sideBySide draws one table: a row for each setting, a column for each policy.
func sideBySide(s *Sheet, shown []*column, tiers []string) {
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
	if slices.ContainsFunc(shown, func(c *column) bool { return c.Listed() }) {
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
			cells = append(cells, cell(&row, c.Scope, c.first))
			e := c.Settings[row.ID]
			any = any || e.Missing != govern.NoSuch && (e.Missing != govern.NotCollected || c.Policy == nil && row.Exists(setting.WindowsFineGrained))
		}
		if any {
			rows = append(rows, cells)
		}
	}
	s.Table(heads, rows)
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
			r.Rows = append(r.Rows, []string{scope.Name(), scope.Tier, accountsOf(scope, scope.Accounts), string(row.ID), text, e.Cite.Raw, e.Cite.String(), e.From})
		}
	}
	return r
}
