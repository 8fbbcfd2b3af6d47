package baseline

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/setting"
)

// Of what is not known every case is played, and of what no demand depends on none.
func TestSituations(t *testing.T) {
	text := func(demands string) *Baseline {
		b, err := Parse("t.yaml", []byte("id: t\ntitle: T\nversion: 1\nfor: {platforms: [identity-provider]}\ndemands:\n"+demands))
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	const plain = "- {setting: min-length, at-least: 12, severity: minor, why: w.}\n"
	const single = "- {setting: min-length, at-least: 15, factor: only, severity: minor, why: w.}\n"
	const both = "- {setting: min-length, at-least: 8, factor: second, severity: minor, why: w.}\n"
	const people = "- {setting: max-age, at-most: 365d, specials: {never: fails}, access: interactive, factor: only, severity: minor, why: w.}\n"
	const outside = "- {setting: history, at-least: 5, access: remote, severity: minor, why: w.}\n"
	const cloud = "- {setting: history, at-least: 7, access: cloud, severity: minor, why: w.}\n"
	for _, c := range []struct {
		demands string
		says    map[Word]bool
		want    string
	}{
		{plain, nil, "12"},
		{single + both, nil, "15 | 8"},
		{single + both, map[Word]bool{SecondFactorAsked: true}, "8"},
		{single + both, map[Word]bool{SecondFactorAsked: false}, "15"},
		{plain + people, nil, "12 | 12 | 12 31536000 | 12"},
		{plain + people, map[Word]bool{InteractiveAccess: true}, "12 31536000 | 12"},
		{plain + people, map[Word]bool{InteractiveAccess: true, SecondFactorAsked: true}, "12"},
		{plain + people, map[Word]bool{InteractiveAccess: false}, "12 | 12"},
		{plain + outside, map[Word]bool{RemoteAccess: true}, "12 5"},
		{plain + outside, nil, "12 | 12 5"},
		{plain + cloud, map[Word]bool{CloudService: false}, "12"},
		{plain + cloud, nil, "12 | 12 7"},
		{plain + cloud, map[Word]bool{CloudService: true}, "12 7"},
	} {
		b := text(c.demands)
		var cases []string
		for _, s := range b.Situations(func(w Word) (bool, bool) { holds, known := c.says[w]; return holds, known }) {
			var asked []string
			for _, d := range b.For("identity-provider", "", s) {
				n, _ := d.Values[0].Number()
				asked = append(asked, fmt.Sprint(n))
			}
			cases = append(cases, strings.Join(asked, " "))
		}
		if got := strings.Join(cases, " | "); got != c.want {
			t.Errorf("%s%v: %s, want %s", c.demands, c.says, got, c.want)
		}
	}
	// People are every tier but that of services.
	b := text("- {setting: history, at-least: 5, who: people, severity: minor, why: w.}\n- {setting: history, at-least: 9, who: services, severity: minor, why: w.}\n")
	for tier, want := range map[string]int64{"standard": 5, "privileged": 5, "kiosk": 5, "service": 9} {
		all := b.For("identity-provider", tier, Situation{Factor: Only})
		if n, _ := all[0].Values[0].Number(); len(all) != 1 || n != want {
			t.Errorf("%s: %d demands, %d", tier, len(all), n)
		}
	}
	b.Who = People
	if b.For("identity-provider", "service", Situation{Factor: Only}) != nil || b.For("identity-provider", "kiosk", Situation{Factor: Only}) == nil {
		t.Error("a baseline about people is about services, or about nobody")
	}
	data, err := b.YAML()
	if err != nil {
		t.Fatal(err)
	}
	if again, err := Parse("t.yaml", data); err != nil || again.Who != People || again.Demands[1].Who != Services {
		t.Errorf("%v\n%s", err, data)
	}
	if _, err := Parse("t.yaml", []byte("id: t\ntitle: T\nversion: 1\nfor: {who: robots, platforms: [identity-provider]}\ndemands:\n"+plain)); err == nil ||
		!strings.Contains(err.Error(), `t.yaml:4:12: who "robots"; expected people or services`) {
		t.Errorf("%v", err)
	}
	if _, err := Parse("t.yaml", []byte("id: t\ntitle: T\nversion: 1\nfor: {platforms: [identity-provider]}\ndemands:\n"+
		"- {setting: history, at-least: 7, access: local, severity: minor, why: w.}\n")); err == nil || !strings.Contains(err.Error(), "t.yaml:6:") ||
		!strings.Contains(err.Error(), "[interactive remote cloud]") {
		t.Errorf("%v", err)
	}
	var cases []string
	for _, r := range Reconcile([]*Baseline{text(plain + cloud)}) {
		cases = append(cases, fmt.Sprintf("%s %s: %s", r.Setting, r.Case, r.Text()))
	}
	if got := strings.Join(cases, "; "); got != "min-length : at least 12 characters; history cloud; identity-provider: at least 7 passwords" {
		t.Errorf("reconciled: %s", got)
	}
}

// Of shipped baselines: for whom and where each figure holds, and for whom and where not.
func TestShippedApplicability(t *testing.T) {
	only, second, cloud := Situation{Factor: Only}, Situation{Factor: Second}, Situation{Factor: Only, Cloud: true}
	for _, c := range []struct {
		id       string
		setting  setting.ID
		platform setting.Platform
		tier     string
		in       Situation
		holds    bool
	}{
		{"nerc-cip-007", "min-length", "windows-domain", "standard", only, true}, {"nerc-cip-007", "min-length", "windows-domain", "standard", second, false},
		{"nerc-cip-007", "max-age", "unix-machine", "privileged", only, true}, {"nerc-cip-007", "max-age", "unix-machine", "service", only, false},
		{"nerc-cip-007", "classes-required", "unix-machine", "service", only, false}, {"nerc-cip-007", "lockout-threshold", "windows-domain", "service", second, true},
		{"pci-dss-4", "max-age", "windows-domain", "standard", only, true}, {"pci-dss-4", "max-age", "windows-domain", "standard", second, false},
		{"pci-dss-4", "max-age", "windows-domain", "service", only, false}, {"pci-dss-4", "min-length", "windows-domain", "service", second, true},
		{"cyber-essentials", "mfa", "cloud-directory", "standard", cloud, true}, {"cyber-essentials", "mfa", "windows-domain", "standard", only, false},
		{"cyber-essentials", "lockout-threshold", "windows-domain", "service", only, true},
		{"nist-800-63b", "min-length", "windows-domain", "standard", second, true}, {"nist-800-63b", "min-length", "windows-domain", "service", only, false},
		{"nist-800-63b", "reversible", "windows-domain", "service", only, false}, {"nist-800-63b", "reversible", "windows-domain", "kiosk", only, true},
	} {
		all := shipped(t, c.id).For(c.platform, c.tier, c.in)
		if got := slices.ContainsFunc(all, func(d *Demand) bool { return d.Setting == c.setting }); got != c.holds {
			t.Errorf("%s, %s on %s for %s, %+v: %v", c.id, c.setting, c.platform, c.tier, c.in, got)
		}
	}
}
