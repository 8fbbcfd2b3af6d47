package page

import (
	"fmt"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Scopes draws the account scopes, authority by authority: what governs each,
// how many accounts, and the settings side by side.
func Scopes(s *Sheet, survey *govern.Survey) error {
	byAuthority := map[*estate.Authority][]*govern.Scope{}
	for _, scope := range survey.Scopes {
		byAuthority[scope.Authority] = append(byAuthority[scope.Authority], scope)
	}
	for i, a := range survey.Estate.Authorities {
		if i > 0 {
			s.Blank()
		}
		s.Title(a.Name, aboutAuthority(a, survey.Resolutions[i].Dialect))
		scopes := byAuthority[a]
		perTable := max(1, (s.width-labelWidth)/scopeWidth)
		for start := 0; start < len(scopes); start += perTable {
			if start > 0 {
				s.Blank()
			}
			sideBySide(s, scopes[start:min(start+perTable, len(scopes))], scopes[0])
		}
		if gone := absent(scopes); gone != "" {
			s.Text("Not in the evidence: " + gone + ".")
		}
	}
	return s.Err()
}

// Widths of the label column and of a scope's column.
const (
	labelWidth = 20
	scopeWidth = 20
)

func aboutAuthority(a *estate.Authority, dialect estate.Dialect) string {
	if a.Kind == estate.Domain {
		return fmt.Sprintf("%s, %s dialect; %s", a.Kind, dialect, Quantity(a.Accounts, "account"))
	}
	return string(a.Kind) + "; accounts not listed"
}

// Quantity writes a number with its noun.
func Quantity(n int, noun string) string {
	if n != 1 {
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

// sideBySide draws one table: a row for each setting, a column for each scope.
func sideBySide(s *Sheet, scopes []*govern.Scope, first *govern.Scope) {
	columns := []Column{{Head: ""}}
	tier, accounts, enabled := []string{"tier"}, []string{"accounts"}, []string{"enabled"}
	for _, scope := range scopes {
		columns = append(columns, Column{Head: Clean(scope.PolicyName()), Right: true})
		tier = append(tier, scope.Tier)
		accounts = append(accounts, accountsOf(scope, scope.Accounts))
		enabled = append(enabled, accountsOf(scope, scope.Enabled))
	}
	rows := [][]string{tier, accounts}
	if first.Listed() {
		rows = append(rows, enabled)
	}
	for _, row := range setting.Table() {
		cells, any := []string{string(row.ID)}, false
		for _, scope := range scopes {
			cells = append(cells, cell(&row, scope, first))
			e := scope.Settings[row.ID]
			any = any || e.Missing != govern.NoSuch && (e.Missing != govern.NotCollected || scope.Policy == nil && row.Exists(setting.WindowsFineGrained))
		}
		if any {
			rows = append(rows, cells)
		}
	}
	s.Table(columns, rows)
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
	if scope == first || base.Missing != govern.Present || base.Value == e.Value {
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
