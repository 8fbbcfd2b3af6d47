package estate

import (
	"fmt"
	"testing"

	"sternledger/internal/core/setting"
)

// Less is told from a tenth less on; of what was lost before, from where it was whole.
func TestLess(t *testing.T) {
	units := func(n int) (all []Unit) {
		for range n {
			all = append(all, Unit{Links: []Link{{GUID: "{A}"}}})
		}
		return append(all, Unit{})
	}
	head := func(threshold setting.Value, more ...setting.ID) *Policy {
		p := &Policy{Settings: Settings{"lockout-threshold": {Value: threshold}}}
		for _, id := range more {
			p.Settings[id] = Fact{Value: setting.Number(1)}
		}
		return p
	}
	never := setting.Of(setting.Never)
	for name, c := range map[string]struct {
		before, now Authority
		want        string
	}{
		"the same":       {Authority{Accounts: 10}, Authority{Accounts: 10}, ""},
		"more":           {Authority{Accounts: 10}, Authority{Accounts: 11}, ""},
		"nine of ten":    {Authority{Accounts: 10, Groups: 100}, Authority{Accounts: 9, Groups: 90}, ""},
		"less than that": {Authority{Accounts: 100}, Authority{Accounts: 89}, "accounts 100 89 []"},
		"groups":         {Authority{Groups: 11}, Authority{Groups: 9}, "groups 11 9 []"},
		"all computers":  {Authority{Computers: 1}, Authority{}, "computers 1 0 []"},
		"links":          {Authority{Units: units(2)}, Authority{Units: units(1)}, "places with links to templates 2 1 []"},
		"counted from all": {Authority{Accounts: 80, Lost: []Loss{{What: LostAccounts, Before: 100}}}, Authority{Accounts: 80},
			"accounts 100 80 []"},
		"another was lost": {Authority{Accounts: 80, Lost: []Loss{{What: LostGroups, Before: 100}}}, Authority{Accounts: 80}, "groups 100 0 []"},
		"less was lost": {Authority{Accounts: 80, Lost: []Loss{{What: LostAccounts, Before: 5}}}, Authority{Accounts: 70},
			"accounts 80 70 []"},
		"settings": {Authority{Head: head(setting.Number(5), "lockout-window", "lockout-duration")}, Authority{Head: head(setting.Number(5))},
			"settings 3 1 []"},
		"nothing locks now": {Authority{Head: head(setting.Number(5), "lockout-window", "lockout-duration")}, Authority{Head: head(never)}, ""},
		"no head now":       {Authority{Head: head(never)}, Authority{}, "settings 1 0 []"},
		"a policy elsewhere": {Authority{Kind: LDAP, Overrides: make([]Policy, 3)}, Authority{Kind: LDAP, Overrides: make([]Policy, 1)},
			"fine-grained policies 3 1 []"},
		"policies elsewhere": {Authority{Kind: LDAP, Overrides: make([]Policy, 3)}, Authority{Kind: LDAP, Overrides: make([]Policy, 4)}, ""},
		"a policy of a domain": {Authority{Kind: Domain, Overrides: make([]Policy, 30)}, Authority{Kind: Domain, Overrides: make([]Policy, 29),
			Policies: []Reference{{DN: "CN=P", Lost: true}, {DN: "CN=Q"}}}, "fine-grained policies 30 29 [P]"},
		"a policy that is rightly gone": {Authority{Kind: Domain, Overrides: make([]Policy, 3)}, Authority{Kind: Domain}, ""},
	} {
		got := ""
		for _, l := range Less(&c.before, &c.now) {
			got += fmt.Sprintf("%s %d %d %v", l.What, l.Before, l.Now, l.Names)
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}
