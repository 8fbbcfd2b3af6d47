package baseline

import (
	"fmt"
	"strings"
	"testing"
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
		cloud   bool
		want    string
	}{
		{plain, nil, false, "12"},
		{single + both, nil, false, "15 | 8"},
		{single + both, map[Word]bool{SecondFactorAsked: true}, false, "8"},
		{single + both, map[Word]bool{SecondFactorAsked: false}, false, "15"},
		{plain + people, nil, false, "12 | 12 | 12 31536000 | 12"},
		{plain + people, map[Word]bool{InteractiveAccess: true}, false, "12 31536000 | 12"},
		{plain + people, map[Word]bool{InteractiveAccess: true, SecondFactorAsked: true}, false, "12"},
		{plain + people, map[Word]bool{InteractiveAccess: false}, false, "12 | 12"},
		{plain + outside, map[Word]bool{RemoteAccess: true}, false, "12 5"},
		{plain + outside, nil, false, "12 | 12 5"},
		{plain + cloud, nil, false, "12"},
		{plain + cloud, nil, true, "12 7"},
	} {
		b := text(c.demands)
		var cases []string
		for _, s := range b.Situations(func(w Word) (bool, bool) { holds, known := c.says[w]; return holds, known }, c.cloud) {
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
