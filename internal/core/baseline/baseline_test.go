package baseline

import (
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

func shipped(t *testing.T, id string) *Baseline {
	t.Helper()
	b, err := Resolve(id, func(id string) (*Baseline, error) {
		data, err := os.ReadFile(filepath.Join("../../../baselines", id+".yaml"))
		if err != nil {
			return nil, err
		}
		return Parse(id+".yaml", data)
	})
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// Of the distributions that have the same document, the figures are those of cis-linux,
// and the numbers those of Debian's.
func TestEditionsForSystems(t *testing.T) {
	debian := shipped(t, "cis-debian-12")
	for id, numbered := range map[string]bool{"cis-ubuntu": true, "cis-red-hat": true, "cis-suse": false} {
		b := shipped(t, id)
		if len(b.Demands) != len(debian.Demands) || len(b.Systems) == 0 {
			t.Fatalf("%s: %d demands for %v", id, len(b.Demands), b.Systems)
		}
		for i := range b.Demands {
			d, e := &b.Demands[i], &debian.Demands[i]
			if d.Setting != e.Setting || d.Text() != e.Text() || (d.Ref == e.Ref) != numbered || (d.Ref == "") == numbered {
				t.Errorf("%s: %s %s %q, Debian's %s %s", id, d.Setting, d.Text(), d.Ref, e.Text(), e.Ref)
			}
		}
	}
	for id, systems := range map[string]map[string]bool{
		"cis-debian-12": {"debian 12": true, "debian 12.5": true, "debian 13": false, "debian 1": false, "debian": false, "": false,
			"ubuntu 12": false},
		"cis-ubuntu": {"ubuntu 24.04": true, "ubuntu 22.04": true, "ubuntu 24.10": false, "ubuntu 2": false},
		"cis-red-hat": {"rhel 9.4": true, "rocky 8": true, "almalinux 9.3": true, "ol 8.10": true, "rhel 7.9": false, "rhel 90": false,
			"fedora 39": false},
		"cis-suse":           {"sles 15.5": true, "opensuse-leap 15.6": true, "sles 12.5": false},
		"cis-windows-server": {"": true, "debian 12": true}, // about no system: its platforms say enough
	} {
		b := shipped(t, id)
		for system, want := range systems {
			kind, version, _ := strings.Cut(system, " ")
			if b.Fits(estate.System{Kind: kind, Version: version}) != want {
				t.Errorf("%s fits %q: not %v", id, system, want)
			}
		}
	}
}

// Cyber Essentials: each side of each boundary, whichever way.
func TestCyberEssentials(t *testing.T) {
	b := shipped(t, "cyber-essentials")
	on := func(id setting.ID, text string) setting.Value {
		v, err := setting.Get(id).Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	for _, c := range []struct {
		length, list, factor string
		want                 bool
	}{{"12", "off", "none", true}, {"11", "off", "none", false}, {"8", "on", "none", true}, {"7", "on", "all", false},
		{"8", "audit", "none", false},
		{"8", "off", "all", true}, {"8", "off", "some", false}, {"11", "audit", "some", false}} {
		values := map[setting.ID]setting.Value{"min-length": on("min-length", c.length), "banned-list": on("banned-list", c.list),
			"mfa": on("mfa", c.factor)}
		if meets(&b.Demands[0], values) != c.want {
			t.Errorf("%+v", c)
		}
	}
	for text, want := range map[string]bool{"unlimited": true, "256 characters": false} {
		if b.Demands[1].Met(on("max-length", text)) != want {
			t.Errorf("max-length %s", text)
		}
	}
	for text, want := range map[string]bool{"all": true, "some": false, "none": false} {
		if b.Demands[2].Met(on("mfa", text)) != want {
			t.Errorf("mfa %s", text)
		}
	}
	for text, want := range map[string]bool{"10": true, "11": false, "never": false} {
		if b.Demands[3].Met(on("lockout-threshold", text)) != want {
			t.Errorf("lockout-threshold %s", text)
		}
	}
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
		"stig-windows-server-2022": {
			{"history", "WN22-AC-000040", []string{"24"}, []string{"23"}}, {"max-age", "WN22-AC-000050", []string{"60 days"},
				[]string{"61 days", "never"}},
			{"min-age", "WN22-AC-000060", []string{"1 day"}, []string{"23 hours", "at-once"}},
			{"min-length", "WN22-AC-000070", []string{"14"}, []string{"13"}},
			{"complexity", "WN22-AC-000080", []string{"on"}, []string{"off"}}, {"reversible", "WN22-AC-000090", []string{"off"}, []string{"on"}},
			{"lockout-duration", "WN22-AC-000010", []string{"15 minutes", "until-admin"}, []string{"14 minutes"}},
			{"lockout-threshold", "WN22-AC-000020", []string{"3"}, []string{"4", "never"}},
			{"lockout-window", "WN22-AC-000030", []string{"15 minutes", "never"}, []string{"14 minutes"}},
			{"ticket-checks-logon", "WN22-DC-000020", []string{"on"}, []string{"off"}},
			{"service-ticket-lifetime", "WN22-DC-000030", []string{"600 minutes"}, []string{"601 minutes", "never"}},
			{"ticket-lifetime", "WN22-DC-000040", []string{"10 hours"}, []string{"11 hours", "never"}},
			{"ticket-renewal", "WN22-DC-000050", []string{"7 days"}, []string{"8 days", "never"}},
			{"clock-skew", "WN22-DC-000060", []string{"5 minutes"}, []string{"6 minutes"}},
			{"lm-hash-stored", "WN22-SO-000300", []string{"off"}, []string{"on"}}, {"blank-password-console-only", "WN22-SO-000020",
				[]string{"on"}, []string{"off"}},
		},
		"pci-dss-4": {
			{"min-length", "8.3.6", []string{"12"}, []string{"11"}}, {"complexity", "8.3.6", []string{"on"}, []string{"off"}},
			{"require-digit", "8.3.6", []string{"1"}, []string{"0"}},
			{"require-letter", "8.3.6", []string{"1"}, []string{"0"}}, {"history", "8.3.7", []string{"4"}, []string{"3"}},
			{"max-age", "8.3.9", []string{"90 days"}, []string{"91 days", "never"}},
			{"lockout-threshold", "8.3.4", []string{"10"}, []string{"11", "never"}},
			{"lockout-duration", "8.3.4", []string{"30 minutes", "until-admin"}, []string{"29 minutes"}},
		},
		"nist-800-63b": {
			{"min-length", "3.1.1.2", []string{"15"}, []string{"14"}}, {"min-length", "3.1.1.2", []string{"8"}, []string{"7"}},
			{"max-length", "3.1.1.2", []string{"64", "unlimited"}, []string{"63"}},
			{"complexity", "3.1.1.2", []string{"off"}, []string{"on"}}, {"classes-required", "3.1.1.2", []string{"0", "1"}, []string{"2"}},
			{"require-lower", "3.1.1.2", []string{"0"}, []string{"1"}},
			{"require-upper", "3.1.1.2", []string{"0"}, []string{"1"}}, {"require-digit", "3.1.1.2", []string{"0"}, []string{"1"}},
			{"require-symbol", "3.1.1.2", []string{"0"}, []string{"1"}}, {"max-age", "3.1.1.2", []string{"never"}, []string{"1 day", "3650 days"}},
			{"reversible", "3.1.1.2", []string{"off"}, []string{"on"}},
			{"lockout-threshold", "3.2.2", []string{"100"}, []string{"101", "never"}}, {"banned-list", "3.1.1.2", []string{"on"},
				[]string{"audit", "off"}},
		},
		"microsoft-windows": {
			{"history", "", []string{"24"}, []string{"23"}}, {"min-length", "", []string{"14"}, []string{"13"}},
			{"complexity", "", []string{"on"}, []string{"off"}}, {"reversible", "", []string{"off"}, []string{"on"}},
			{"lockout-threshold", "", []string{"10"}, []string{"11", "never"}},
			{"lockout-duration", "", []string{"10 minutes", "until-admin"}, []string{"9 minutes"}},
			{"lockout-window", "", []string{"10 minutes", "never"}, []string{"9 minutes"}}, {"lockout-administrator", "", []string{"on"},
				[]string{"off"}},
		},
		"cis-debian-12": {
			{"lockout-threshold", "5.3.3.1.1", []string{"5"}, []string{"6", "never"}},
			{"lockout-duration", "5.3.3.1.2", []string{"900 seconds", "until-admin"}, []string{"899 seconds"}},
			{"lockout-administrator", "5.3.3.1.3", []string{"on"}, []string{"off"}}, {"min-changed", "5.3.3.2.1", []string{"2"}, []string{"1"}},
			{"min-length", "5.3.3.2.2", []string{"14"}, []string{"13"}},
			{"max-repeat", "5.3.3.2.4", []string{"3", "1"}, []string{"4", "unlimited"}}, {"max-sequence", "5.3.3.2.5", []string{"3"},
				[]string{"4", "unlimited"}}, {"dictionary-check", "5.3.3.2.6", []string{"on"}, []string{"audit", "off"}},
			{"history", "5.3.3.3.1", []string{"24"}, []string{"23"}}, {"max-age", "5.4.1.1", []string{"365 days"}, []string{"366 days", "never"}},
			{"min-age", "5.4.1.2", []string{"1 day"}, []string{"at-once"}},
			{"expiry-warning", "5.4.1.3", []string{"7 days"}, []string{"6 days"}},
			{"hash-method", "5.4.1.4", []string{"sha512", "yescrypt"}, []string{"sha256", "bcrypt", "md5"}},
			{"inactive-disable", "5.4.1.5", []string{"45 days"}, []string{"46 days", "never"}},
			{"empty-accepted", "5.3.3.4.1", []string{"off"}, []string{"on"}},
		},
		"cis-linux": {
			{"lockout-threshold", "", []string{"5"}, []string{"6", "never"}},
			{"lockout-duration", "", []string{"900 seconds", "until-admin"}, []string{"899 seconds"}},
			{"lockout-administrator", "", []string{"on"}, []string{"off"}}, {"min-changed", "", []string{"2"}, []string{"1"}},
			{"min-length", "", []string{"14"}, []string{"13"}},
			{"max-repeat", "", []string{"3", "1"}, []string{"4", "unlimited"}}, {"max-sequence", "", []string{"3"},
				[]string{"4", "unlimited"}}, {"dictionary-check", "", []string{"on"}, []string{"audit", "off"}},
			{"history", "", []string{"24"}, []string{"23"}}, {"max-age", "", []string{"365 days"}, []string{"366 days", "never"}},
			{"min-age", "", []string{"1 day"}, []string{"at-once"}},
			{"expiry-warning", "", []string{"7 days"}, []string{"6 days"}},
			{"hash-method", "", []string{"sha512", "yescrypt"}, []string{"sha256", "bcrypt", "md5"}},
			{"inactive-disable", "", []string{"45 days"}, []string{"46 days", "never"}},
			{"empty-accepted", "", []string{"off"}, []string{"on"}},
		},
		"cis-windows-options": {
			{"lm-hash-stored", "", []string{"off"}, []string{"on"}}, {"blank-password-console-only", "", []string{"on"}, []string{"off"}},
			{"logoff-at-hours-end", "", []string{"on"}, []string{"off"}},
			{"expiry-warning", "", []string{"5 days", "14 days"}, []string{"4 days", "15 days"}},
			{"managed-admin-length", "", []string{"15"}, []string{"14"}}, {"managed-admin-classes", "", []string{"4"}, []string{"3"}},
			{"managed-admin-age", "", []string{"30 days"}, []string{"31 days"}},
		},
		"nerc-cip-007": {
			{"min-length", "R5.5.1", []string{"8"}, []string{"7"}}, {"complexity", "R5.5.2", []string{"on"}, []string{"off"}},
			{"classes-required", "R5.5.2", []string{"3", "4"}, []string{"2"}},
			{"max-age", "R5.6", []string{"456 days"}, []string{"457 days", "never"}},
			{"lockout-threshold", "R5.7", []string{"1", "999"}, []string{"never"}},
		},
		"cis-aws": {{"min-length", "1.8", []string{"14"}, []string{"13"}}, {"history", "1.9", []string{"24"}, []string{"23"}},
			{"mfa", "1.10, for root 1.5", []string{"all"}, []string{"some", "none"}}},
		"cis-microsoft-365": {
			{"max-age", "1.3.1", []string{"never"}, []string{"90 days"}}, {"blocklist", "5.2.3.2", []string{"on"}, []string{"off", "audit"}},
			{"directory-blocklist-mode", "5.2.3.3", []string{"on"}, []string{"audit"}},
			{"mfa-capable", "5.2.3.4", []string{"all"}, []string{"some", "none"}},
			{"lockout-threshold", "", []string{"10"}, []string{"11", "never"}}, {"lockout-duration", "", []string{"60 seconds"},
				[]string{"59 seconds"}},
		},
	} {
		b := shipped(t, id)
		if b.Publisher == "" || b.Edition == "" || b.Published == "" || len(b.Sources) == 0 {
			t.Errorf("%s does not say what it follows", id)
		}
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

const opening = "id: own\ntitle: Own\nversion: 1\nfor:\n  platforms: [windows-domain, cloud-directory]\ndemands:\n"

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
		{"3 failed attempts or 5 failed attempts or never locks", "3 5 never", "4"},
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
		{"id: x\ntitel: y\n", "b.yaml:2:1", `nearest is "title"`},
		{"id: [x\n", "b.yaml:1", ""},
		{opening + "  - {setting: min-lenght, at-least: 8, severity: minor, why: x}\n", "b.yaml:7:", `nearest is "min-length"`},
		{opening + "  - {setting: max-age, at-most: 60, severity: minor, why: x}\n", "b.yaml:7:", "a time with its unit"},
		{opening + "  - {setting: max-age, at-most: 60 days, severity: minor, why: x}\n", "b.yaml:7:", `"never" holds or fails`},
		{opening + "  - {setting: max-age, at-most: never, severity: minor, why: x}\n", "b.yaml:7:", "under specials"},
		{opening + "  - {setting: history, at-least: 5, specials: {never: holds}, severity: minor, why: x}\n", "b.yaml:7:", `no special "never"`},
		{opening + "  - {setting: history, at-least: 5, at-most: 6, severity: minor, why: x}\n", "b.yaml:7:", "both"},
		{opening + "  - {setting: history, between: [5], severity: minor, why: x}\n", "b.yaml:7:", "two values"},
		{opening + "  - {setting: history, severity: minor, why: x}\n", "b.yaml:7:", "says nothing"},
		{opening + "  - {setting: history, at-least: 5, severity: awful, why: x}\n", "b.yaml:7:", "severity"},
		{opening + "  - {setting: history, at-least: 5, severity: minor}\n", "b.yaml:7:", "no reason"},
		{opening + "  - {setting: history, at-least: 5, severity: minor, why: x}\n  - {setting: history, at-least: 6, severity: minor, why: x}\n",
			"b.yaml:8:", "the first is on line 7"},
		{strings.Replace(opening, "windows-domain", "windows-dmain", 1) + "  - {setting: history, at-least: 5, severity: minor, why: x}\n",
			"b.yaml:5:", "unknown platform"},
		{"title: x\n", "b.yaml:1:1", "needs id, title and version"},
	} {
		_, err := Parse("b.yaml", []byte(c.text))
		if err == nil || !strings.HasPrefix(err.Error(), c.at) || !strings.Contains(err.Error(), c.say) {
			t.Errorf("%q:\n  %v\n  want %s … %s", c.text, err, c.at, c.say)
		}
	}
}

// library resolves baselines given as "ID: more lines".
func library(files map[string]string) func(string) (*Baseline, error) {
	return func(id string) (*Baseline, error) {
		text, ok := files[id]
		if !ok {
			return nil, fmt.Errorf("unknown baseline %q", id)
		}
		return Parse(id+".yaml", []byte("id: "+id+"\ntitle: T\nversion: 1\n"+text))
	}
}

func TestExtends(t *testing.T) {
	const base = "for: {platforms: [windows-domain, unix-machine]}\ndemands:\n- {setting: min-length, at-least: 14, ref: '1', " +
		"severity: grave, why: w}\n- {setting: history, at-least: 24, severity: minor, why: w}\n" +
		"- {setting: max-age, at-most: 365 days, specials: {never: fails}, severity: minor, why: w}\n"
	files := map[string]string{
		"base": base,
		"own": "extends: base\ndemands:\n- {setting: min-length, at-least: 16, severity: grave, why: ours}\n- {setting: history, " +
			"at-least: 10, tiers: [kiosk], severity: minor, why: kiosks}\n" +
			"drop:\n- {setting: max-age, why: given up}\n",
		"strict": "extends: own\nfor: {platforms: [windows-domain]}\ndemands:\n- {setting: min-length, at-least: 20, tiers: " +
			"[privileged], severity: grave, why: admins}\n",
		"round": "extends: circle\n", "circle": "extends: round\n", "lost": "extends: nowhere\n",
		"idle": "extends: base\ndrop: [{setting: complexity, why: x}]\n",
		"odd":  "extends: base\nfor: {platforms: [ldap-directory]}\ndemands:\n- {setting: name-check, exactly: on, severity: minor, why: w}\n",
	}
	told := func(b *Baseline, p setting.Platform, tier string) string {
		var all []string
		for _, d := range b.For(p, tier, Situation{Factor: Only}) {
			text := string(d.Setting) + " " + d.Text()
			if d.From != "" {
				text += " from " + d.From
			}
			if d.Was != "" {
				text += " was " + d.Was
			}
			all = append(all, text)
		}
		return strings.Join(all, "; ")
	}
	for _, c := range []struct {
		id, tier string
		platform setting.Platform
		want     string
	}{
		{"base", "standard", setting.WindowsDomain, "min-length at least 14 characters; history at least 24 passwords; max-age at most 365 days"},
		{"own", "standard", setting.UnixMachine,
			"min-length at least 16 characters was at least 14 characters of base; history at least 24 passwords from base"},
		{"own", "kiosk", setting.UnixMachine,
			"min-length at least 16 characters was at least 14 characters of base; history at least 10 passwords was at least 24 passwords of base"},
		{"strict", "privileged", setting.WindowsDomain,
			"min-length at least 20 characters was at least 16 characters of own; history at least 24 passwords from base"},
		{"strict", "standard", setting.WindowsDomain,
			"min-length at least 16 characters from own was at least 14 characters of base; history at least 24 passwords from base"},
		{"strict", "standard", setting.UnixMachine, ""},
	} {
		b, err := Resolve(c.id, library(files))
		if err != nil {
			t.Fatal(err)
		}
		if got := told(b, c.platform, c.tier); got != c.want {
			t.Errorf("%s for %s on %s:\n%s, want\n%s", c.id, c.tier, c.platform, got, c.want)
		}
		again, err := b.YAML()
		if err != nil {
			t.Fatal(err)
		}
		back, err := Parse(c.id+".yaml", again)
		if err != nil {
			t.Errorf("%s does not read back: %v\n%s", c.id, err, again)
			continue
		}
		demands := func(b *Baseline) (all []string) {
			for _, d := range b.For(c.platform, c.tier, Situation{Factor: Only}) {
				all = append(all, string(d.Setting)+" "+d.Text())
			}
			return all
		}
		if got, want := demands(back), demands(b); !slices.Equal(got, want) {
			t.Errorf("%s reads back as %v, was %v", c.id, got, want)
		}
	}
	for id, want := range map[string]string{"round": "a circle: round extends circle extends round",
		"lost": `lost.yaml:4:10: extends "nowhere": unknown baseline`, "idle": "base demands nothing on complexity",
		"odd": "none of its platforms"} {
		if _, err := Resolve(id, library(files)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", id, err, want)
		}
	}
}

func TestBands(t *testing.T) {
	for _, c := range []struct{ id, demands, band, nearest string }{
		{"min-length", "at-least: 14|at-least: 15", "at least 15 characters", "8=15 20=20"},
		{"min-length", "at-least: 8|between: [6, 64]", "8 characters to 64 characters", "4=8 99=64"},
		{"lockout-threshold", "at-most: 5, specials: {never: fails}|at-most: 10, specials: {never: fails}", "at most 5 failed attempts",
			"10=5 never=5"},
		{"max-age", "exactly: never|at-most: 90 days, specials: {never: fails}", "no value", ""},
		{"max-age", "at-most: 90 days, specials: {never: holds}|exactly: never", "never expires", "90d=never"},
		{"lockout-duration", "at-least: 15 minutes, specials: {until-admin: holds}|at-least: 30 minutes, specials: {until-admin: holds}",
			"at least 30 minutes or locks until an administrator unlocks", "10m=30m"},
		{"history", "one-of: [4, 8, 24]|at-least: 5", "8 passwords or 24 passwords", "4=8 30=24"},
		{"history", "one-of: [4]|one-of: [5]", "no value", ""},
		{"history", "exactly: 7|at-most: 9", "7 passwords", "0=7"},
		{"blocklist", "at-least: audit|one-of: [off, audit]", "audit", "on=audit"},
		{"complexity", "exactly: on|exactly: off", "no value", ""},
	} {
		var named []Named
		for _, text := range strings.Split(c.demands, "|") {
			b, err := Parse("x", []byte("id: x\ntitle: T\nversion: 1\nfor: {platforms: [windows-domain, cloud-directory]}\ndemands:\n- {setting: "+
				c.id+", "+text+", severity: minor, why: w}\n"))
			if err != nil {
				t.Fatal(err)
			}
			named = append(named, Named{b, &b.Demands[0]})
		}
		band, exclude := Together(setting.ID(c.id), named)
		if band.Text() != c.band || band.Empty() != (len(exclude) == 1) {
			t.Errorf("%s %s: %q %v, want %q", c.id, c.demands, band.Text(), exclude, c.band)
		}
		for pair := range strings.FieldsSeq(c.nearest) {
			from, to, _ := strings.Cut(pair, "=")
			s := setting.Get(setting.ID(c.id))
			have, _ := s.Parse(from)
			want, _ := s.Parse(to)
			if got := band.Nearest(have); got != want {
				t.Errorf("%s %s: nearest to %s is %s, want %s", c.id, c.demands, from, s.Text(got), to)
			}
		}
	}
}

func places(p ...setting.Platform) []setting.Platform { return p }

// Where demands hold, whether they meet, and whether one holds wherever another does.
func TestWhereDemandsHold(t *testing.T) {
	win, unix := setting.WindowsDomain, setting.UnixMachine
	any, onWin, onBoth := &Demand{Condition: Condition{Setting: "history"}}, &Demand{Condition: Condition{Setting: "history"},
		Platforms: places(win)},
		&Demand{Condition: Condition{Setting: "history"}, Platforms: places(win, unix)}
	onUnix, forService := &Demand{Condition: Condition{Setting: "history"}, Platforms: places(unix)},
		&Demand{Condition: Condition{Setting: "history"}, Tiers: []string{"service"}}
	forBoth, forStandard := &Demand{Condition: Condition{Setting: "history"}, Tiers: []string{"service", "standard"}},
		&Demand{Condition: Condition{Setting: "history"}, Tiers: []string{"standard"}}
	only, second := &Demand{Condition: Condition{Setting: "history"}, Factor: Only}, &Demand{Condition: Condition{Setting: "history"},
		Factor: Second}
	for name, c := range map[string]struct {
		d, e           *Demand
		meet, contains bool
	}{
		"everywhere":               {any, any, true, true},
		"everywhere and one":       {any, onWin, true, true},
		"one and everywhere":       {onWin, any, true, false},
		"one and itself":           {onWin, onWin, true, true},
		"one and another":          {onWin, onUnix, false, false},
		"two and one":              {onBoth, onWin, true, true},
		"one and two":              {onWin, onBoth, true, false},
		"a tier and everywhere":    {forService, any, true, false},
		"a tier and itself":        {forService, forService, true, true},
		"two tiers and one":        {forBoth, forService, true, true},
		"one tier and two":         {forService, forBoth, true, false},
		"a tier and another":       {forService, forStandard, false, false},
		"a factor and both":        {only, any, true, false},
		"both and a factor":        {any, second, true, true},
		"one factor and the other": {only, second, false, false},
		"another setting":          {any, &Demand{Condition: Condition{Setting: "max-age"}}, false, true},
	} {
		t.Run(name, func(t *testing.T) {
			if got := c.d.overlaps(c.e); got != c.meet {
				t.Errorf("they meet: %v", got)
			}
			if got := c.d.contains(c.e); got != c.contains {
				t.Errorf("it contains the other: %v", got)
			}
		})
	}
	for _, c := range []struct {
		d    *Demand
		p    setting.Platform
		tier string
		f    Factor
		want bool
	}{{any, win, "standard", Only, true}, {onWin, win, "x", Only, true}, {onWin, unix, "x", Only, false},
		{forService, win, "service", Second, true}, {forService, win, "standard", Second, false}, {only, win, "x", Only, true},
		{only, win, "x", Second, false}} {
		if got := c.d.applies(c.p, c.tier, Situation{Factor: c.f}); got != c.want {
			t.Errorf("%+v on %s for %s with %s: %v", c.d, c.p, c.tier, c.f, got)
		}
	}
	for want, d := range map[string]*Demand{"": any, "on unix-machine": onUnix, "for service, standard": forBoth,
		"where the password is the only factor": only, "with a second factor": second,
		"on unix-machine for service with a second factor": {Platforms: places(unix), Tiers: []string{"service"}, Factor: Second}} {
		if got := d.Where(); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

// What is written is read back as it was, with all that a demand can say, and
// nothing that it does not.
func TestYAMLComesBack(t *testing.T) {
	const text = `id: own
title: Own
version: "1"
publisher: The harbour
published: "2026"
edition: first
for: {platforms: [windows-domain]}
demands:
  - {setting: min-length, at-least: 14 characters, severity: serious, why: Length.}
  - {setting: max-age, between: [30 days, 90 days], specials: {never: fails}, ref: "1.2", severity: minor, why: Age., tiers: [service], factor: only}
  - {setting: history, exactly: 24 passwords, severity: grave, why: Old ones., platforms: [windows-domain]}
`
	b, err := Parse("own.yaml", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	written, err := b.YAML()
	if err != nil {
		t.Fatal(err)
	}
	again, err := Parse("own.yaml", written)
	if err != nil {
		t.Fatalf("%v\n%s", err, written)
	}
	for i := range b.Demands {
		x, y := b.Demands[i], again.Demands[i]
		x.at = y.at
		if !reflect.DeepEqual(x, y) {
			t.Errorf("%+v, want %+v", y, x)
		}
	}
	for _, word := range []string{"specials", "ref:", "tiers", "factor"} {
		if n := strings.Count(string(written), word); n != 1 {
			t.Errorf("%q stands %d times: %s", word, n, written)
		}
	}
	if n := strings.Count(string(written), "platforms"); n != 2 {
		t.Errorf("platforms stand %d times", n)
	}
}

// Bands share what is in both, to the last value.
func TestBandsMeet(t *testing.T) {
	n := func(i int64) *int64 { return &i }
	for name, c := range map[string]struct {
		b, c      Band
		numbers   bool
		low, high *int64
		only      []int64
	}{
		"apart":             {Band{Numbers: true, High: n(9)}, Band{Numbers: true, Low: n(10)}, false, n(10), n(9), nil},
		"in one value":      {Band{Numbers: true, High: n(9)}, Band{Numbers: true, Low: n(9)}, true, n(9), n(9), nil},
		"the higher low":    {Band{Numbers: true, Low: n(3)}, Band{Numbers: true, Low: n(5)}, true, n(5), nil, nil},
		"the lower high":    {Band{Numbers: true, High: n(3)}, Band{Numbers: true, High: n(5)}, true, nil, n(3), nil},
		"no numbers":        {Band{Numbers: true}, Band{}, false, nil, nil, nil},
		"a list and a low":  {Band{Numbers: true, Only: []int64{3, 5, 9}}, Band{Numbers: true, Low: n(5)}, true, nil, nil, []int64{5, 9}},
		"a list and a high": {Band{Numbers: true, Only: []int64{3, 5, 9}}, Band{Numbers: true, High: n(5)}, true, nil, nil, []int64{3, 5}},
		"two lists":         {Band{Numbers: true, Only: []int64{3, 5}}, Band{Numbers: true, Only: []int64{5, 9}}, true, nil, nil, []int64{5}},
	} {
		t.Run(name, func(t *testing.T) {
			got := c.b.Intersect(c.c)
			if got.Numbers != c.numbers && got.Only == nil || !reflect.DeepEqual(got.Low, c.low) || !reflect.DeepEqual(got.High, c.high) ||
				!slices.Equal(got.Only, c.only) {
				t.Errorf("%+v", got)
			}
		})
	}
}
