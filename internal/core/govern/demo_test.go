package govern_test

import (
	"fmt"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
	"sternledger/internal/demotest"
)

// Who governs what in the demo: every scope with its settings, every account with what
// won and what lost, every template with what it sets.
func TestGovernanceOfTheDemo(t *testing.T) {
	s, err := demotest.Demo(t).Survey()
	if err != nil {
		t.Fatal(err)
	}
	var lines []string
	for _, x := range s.Scopes {
		lines = append(lines, fmt.Sprintf("%s: %s, tier %s, %d accounts, %d enabled, examples %v, split %v, way %s, why %s", x.Name(), x.Rule,
			x.Tier, x.Accounts, x.Enabled, x.Examples, x.Split, x.Way, x.Why))
		for _, row := range setting.Table() {
			e := x.Settings[row.ID]
			if e.Missing == govern.NoSuch {
				continue
			}
			text := fmt.Sprintf("  %s: %s from %s %s", row.ID, row.Text(e.Value), e.From, e.Cite)
			if e.Missing != govern.Present {
				text = fmt.Sprintf("  %s %q %s", row.ID, e.Missing, e.Problem)
			}
			if e.Configured || e.Open != "" || e.Remedy != "" || !x.Here(row.ID) {
				text += fmt.Sprintf("; configured %v, open %q, remedy %q, here %v", e.Configured, e.Open, e.Remedy, x.Here(row.ID))
			}
			lines = append(lines, text)
		}
	}
	for i, a := range s.Estate.Authorities {
		r := s.Resolutions[i]
		for row := range a.Objects.Len() {
			if a.Objects.ClassOf(row) != estate.Account || r == nil {
				continue
			}
			tier, by := s.TierOf(i, row)
			scope, governing := s.ScopeOf(i, row)
			lines = append(lines, fmt.Sprintf("%s / %s: tier %s by %v, scope %s, %+v", a.Label(), a.Objects.Name.At(row), tier, by, nameOf(scope),
				told(governing)))
		}
	}
	setters, unseen := s.Setters()
	for _, x := range setters {
		lines = append(lines, fmt.Sprintf("set by a template: %+v", x))
	}
	for at, name := range unseen {
		lines = append(lines, fmt.Sprintf("unseen at %s: %s", at, name))
	}
	demotest.Same(t, "demo.txt", lines)
}

func nameOf(s *govern.Scope) string {
	if s == nil {
		return "none"
	}
	return s.Name()
}

func told(g govern.Governing) string {
	name, at := "no policy", ""
	if g.Policy != nil {
		name = g.Policy.Name
	}
	if g.At != nil {
		at = g.At.Label()
	}
	return fmt.Sprintf("%s, %s, via %d, %s, answered %v, at %s %s", name, g.Rule, g.Via, g.Why, g.Answered, at, g.Way)
}
