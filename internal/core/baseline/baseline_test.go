package baseline

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"sternledger/internal/core/setting"
)

func shipped(t *testing.T, id string) *Baseline {
	t.Helper()
	data, err := os.ReadFile(filepath.Join("../../../baselines", id+".yaml"))
	if err != nil {
		t.Fatal(err)
	}
	b, err := Parse(id+".yaml", data)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// The figures of the shipped baselines, from both sides of each boundary.
func TestShippedFigures(t *testing.T) {
	for id, demands := range map[string][]struct {
		id           setting.ID
		ref          string
		holds, fails []string
	}{
		"cis-windows-server": {
			{"history", "1.1.1", []string{"24", "1024"}, []string{"23", "0"}},
			{"max-age", "1.1.2", []string{"365 days", "1 day"}, []string{"366 days", "never"}},
			{"min-age", "1.1.3", []string{"1 day", "2 days"}, []string{"23 hours", "at-once"}},
			{"min-length", "1.1.4", []string{"14", "128"}, []string{"13", "0"}},
			{"complexity", "1.1.5", []string{"on"}, []string{"off"}},
			{"length-limit-relaxed", "1.1.6", []string{"on"}, []string{"off"}},
			{"reversible", "1.1.7", []string{"off"}, []string{"on"}},
			{"lockout-duration", "1.2.1", []string{"15 minutes", "until-admin"}, []string{"14 minutes"}},
			{"lockout-threshold", "1.2.2", []string{"5", "1"}, []string{"6", "never"}},
			{"lockout-administrator", "1.2.3", []string{"on"}, []string{"off"}},
			{"lockout-window", "1.2.4", []string{"15 minutes", "never"}, []string{"899 seconds"}},
		},
	} {
		b := shipped(t, id)
		if b.ID != id || len(b.Demands) != len(demands) {
			t.Errorf("%s: %d demands, want %d", b.ID, len(b.Demands), len(demands))
		}
		for i, want := range demands {
			d := &b.Demands[i]
			if d.Setting != want.id || d.Ref != want.ref {
				t.Errorf("%s: demand %d is %s %s, want %s %s", id, i, d.Setting, d.Ref, want.id, want.ref)
				continue
			}
			for holds, texts := range map[bool][]string{true: want.holds, false: want.fails} {
				for _, text := range texts {
					if v, err := setting.Get(d.Setting).Parse(text); err != nil || d.Met(v) != holds {
						t.Errorf("%s %s: %s met: %v, want %v (%v)", id, d.Setting, text, d.Met(v), holds, err)
					}
				}
			}
		}
	}
}

const opening = "id: own\ntitle: Own\nversion: 1\nfor:\n  platforms: [windows-domain]\ndemands:\n"

func TestDemandForms(t *testing.T) {
	b, err := Parse("own.yaml", []byte(opening+`  - {setting: min-length, between: [8, 20 characters], severity: minor, why: x}
  - {setting: blocklist, at-least: audit, severity: minor, why: x}
  - {setting: max-age, exactly: never, severity: minor, why: x}
  - {setting: lockout-threshold, one-of: [3, 5, never], severity: minor, why: x}
`))
	if err != nil {
		t.Fatal(err)
	}
	for i, c := range []struct{ text, holds, fails string }{
		{"8 characters to 20 characters", "8 20", "7 21"},
		{"at least audit", "audit on", "off"},
		{"never expires", "never", "30d"},
		{"3 failed tries or 5 failed tries or never locks", "3 5 never", "4"},
	} {
		d := &b.Demands[i]
		if d.Text() != c.text {
			t.Errorf("%q, want %q", d.Text(), c.text)
		}
		for text := range strings.FieldsSeq(c.holds + " " + c.fails) {
			v, err := setting.Get(d.Setting).Parse(text)
			if err != nil {
				t.Fatal(err)
			}
			if d.Met(v) != strings.Contains(" "+c.holds+" ", " "+text+" ") {
				t.Errorf("%s: %s met: %v", d.Setting, text, d.Met(v))
			}
		}
	}
}

func TestParseErrors(t *testing.T) {
	for _, c := range []struct{ text, at, say string }{
		{"id: x\ntitel: y\n", "b.yaml:2:1", `nearest known key is "title"`},
		{"id: [x\n", "b.yaml:1", ""},
		{opening + "  - {setting: min-lenght, at-least: 8, severity: minor, why: x}\n", "b.yaml:7:", `nearest known one is "min-length"`},
		{opening + "  - {setting: max-age, at-most: 60, severity: minor, why: x}\n", "b.yaml:7:", "a time with its unit"},
		{opening + "  - {setting: max-age, at-most: 60 days, severity: minor, why: x}\n", "b.yaml:7:", `"never" holds or fails`},
		{opening + "  - {setting: max-age, at-most: never, severity: minor, why: x}\n", "b.yaml:7:", "under specials"},
		{opening + "  - {setting: history, at-least: 5, specials: {never: holds}, severity: minor, why: x}\n", "b.yaml:7:", `no special "never"`},
		{opening + "  - {setting: history, at-least: 5, at-most: 6, severity: minor, why: x}\n", "b.yaml:7:", "both"},
		{opening + "  - {setting: history, between: [5], severity: minor, why: x}\n", "b.yaml:7:", "two values"},
		{opening + "  - {setting: history, severity: minor, why: x}\n", "b.yaml:7:", "says nothing"},
		{opening + "  - {setting: history, at-least: 5, severity: awful, why: x}\n", "b.yaml:7:", "severity"},
		{opening + "  - {setting: history, at-least: 5, severity: minor}\n", "b.yaml:7:", "no reason"},
		{opening + "  - {setting: history, at-least: 5, severity: minor, why: x}\n  - {setting: history, at-least: 6, severity: minor, why: x}\n", "b.yaml:8:", "the first is on line 7"},
		{strings.Replace(opening, "windows-domain", "windows-dmain", 1) + "  - {setting: history, at-least: 5, severity: minor, why: x}\n", "b.yaml:5:", "unknown platform"},
		{"title: x\n", "b.yaml:1:1", "needs id, title and version"},
	} {
		_, err := Parse("b.yaml", []byte(c.text))
		if err == nil || !strings.HasPrefix(err.Error(), c.at) || !strings.Contains(err.Error(), c.say) {
			t.Errorf("%q:\n  %v\n  want %s … %s", c.text, err, c.at, c.say)
		}
	}
}
