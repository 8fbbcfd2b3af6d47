package govern

import (
	"fmt"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// linkedWorld builds a domain with units and templates from short lines.
//
//	unit PLACE [blocked] LINK…     LINK: letter of a template, ! enforced, - disabled; in the order written
//	template LETTER LENGTH [off]   its minimum length; off: its computer half is switched off
//	machine NAME PLACE
func linkedWorld(t *testing.T, lines string) *Templates {
	t.Helper()
	b := estate.NewBuilder()
	b.StartFile("x.ldif")
	const root = "DC=x,DC=example"
	place := func(name string) string {
		if name == "root" {
			return root
		}
		var parts []string
		for unit := range strings.SplitSeq(name, "/") {
			parts = append([]string{"OU=" + unit}, parts...)
		}
		return strings.Join(parts, ",") + "," + root
	}
	guid := func(letter string) string { return fmt.Sprintf("{%s}", letter) }
	a := b.At(estate.InDomain("x.example"))
	a.Head = &estate.Policy{Origin: root, Settings: estate.Settings{}}
	e := &estate.Estate{}
	for line := range strings.Lines(lines) {
		f := strings.Fields(line)
		switch f[0] {
		case "unit":
			u := b.Unit(estate.InDomain("x.example"), []byte(place(f[1])), 1)
			u.Root = f[1] == "root"
			for _, word := range f[2:] {
				if word == "blocked" {
					u.Blocked = true
					continue
				}
				u.Links = append(u.Links, estate.Link{GUID: guid(word[:1]), Enforced: strings.HasSuffix(word, "!"), Disabled: strings.HasSuffix(word, "-")})
			}
		case "template":
			n := 0
			fmt.Sscan(f[2], &n)
			a.Containers = append(a.Containers, estate.Container{GUID: guid(f[1]), Name: f[1], MachineOff: len(f) > 3})
			e.Templates = append(e.Templates, estate.Template{GUID: guid(f[1]), Policy: estate.Policy{Name: f[1],
				Settings: estate.Settings{"min-length": {Value: setting.Number(int64(n))}, "length-limit-relaxed": {Value: setting.On}, "clock-skew": {Value: setting.Number(int64(n * 60))}}}})
		case "machine":
			b.Object(estate.InDomain("x.example"), &estate.Record{Class: estate.Computer, DN: []byte("CN=" + f[1] + "," + place(f[2])), Name: []byte(f[1] + "$")})
		}
	}
	return NewTemplates(e, b.Finish()[0])
}

func namesOf(links []Linked) string {
	var names []string
	for _, l := range links {
		name := l.Name()
		if l.Idle != "" {
			name += "(" + l.Idle + ")"
		}
		names = append(names, name)
	}
	return strings.Join(names, " ")
}

const fourTemplates = "template A 8\ntemplate B 9\ntemplate C 10 off\ntemplate D 11\n"

func TestRootLinks(t *testing.T) {
	for _, c := range []struct{ unit, links, wins string }{
		{"unit root A B", "B A", "B"},
		{"unit root A! B", "A B", "A"},
		{"unit root A! B D!", "D A B", "D"},
		{"unit root A B-", "B(the link is disabled) A", "A"},
		{"unit root A C", "C(the policy's computer half is switched off) A", "A"},
		{"unit root A Z", "{Z}(its template is not in the evidence) A", "A"},
		{"unit root", "", ""},
	} {
		x := linkedWorld(t, fourTemplates+c.unit)
		if got := namesOf(x.Root()); got != c.links {
			t.Errorf("%s: %s, want %s", c.unit, got, c.links)
		}
		configured := Configured(x.Root())["min-length"]
		if configured == nil != (c.wins == "") || configured != nil && configured.By.Name() != c.wins {
			t.Errorf("%s: %+v wins, want %s", c.unit, configured, c.wins)
		}
	}
	if beaten := Configured(linkedWorld(t, fourTemplates+"unit root A B D").Root())["min-length"].Beaten; len(beaten) != 2 || beaten[0].By.Name() != "B" {
		t.Errorf("the beaten: %+v", beaten)
	}
}

func TestLinksAtAPlace(t *testing.T) {
	for _, c := range []struct{ units, at, want string }{
		{"unit root A\nunit Quay B", "Quay", "B A"},
		{"unit root A\nunit Quay B\nunit Quay/Shed D", "Quay/Shed", "D B A"},
		{"unit root A\nunit Quay blocked B", "Quay", "B"},
		{"unit root A!\nunit Quay blocked B", "Quay", "A B"},
		{"unit root A\nunit Quay B!\nunit Quay/Shed D!", "Quay/Shed", "B D A"},
		{"unit root A!\nunit Quay B!\nunit Quay/Shed blocked D", "Quay/Shed", "A B D"},
		{"unit root A\nunit Quay B-", "Quay", "A"},
		{"unit root A", "Elsewhere", "A"},
	} {
		x := linkedWorld(t, fourTemplates+c.units)
		if got := namesOf(x.At("OU=" + strings.Join(reversed(strings.Split(c.at, "/")), ",OU=") + ",DC=x,DC=example")); got != c.want {
			t.Errorf("%q at %s: %s, want %s", c.units, c.at, got, c.want)
		}
	}
}

func reversed(parts []string) []string {
	var out []string
	for _, p := range parts {
		out = append([]string{p}, out...)
	}
	return out
}

func TestMachinesAndUnlinked(t *testing.T) {
	x := linkedWorld(t, fourTemplates+"unit Quay A\nunit Quay/Shed blocked\nmachine ONE Quay\nmachine TWO Quay/Crane\nmachine THREE Quay/Shed\nmachine FOUR Office")
	l := x.Links(x.Places()[0])[0]
	var got []string
	for _, row := range x.Machines(l) {
		got = append(got, x.domain.Objects.Name.At(row))
	}
	if strings.Join(got, " ") != "ONE$ TWO$" {
		t.Errorf("A reaches %v", got)
	}
	var unlinked []string
	for _, template := range x.Unlinked() {
		unlinked = append(unlinked, x.NameOf(template))
	}
	if strings.Join(unlinked, " ") != "B C D" {
		t.Errorf("unlinked: %v", unlinked)
	}
}

// What the head has no attribute for comes from templates: Kerberos from the
// root, registry values from what reaches the controllers.
func TestDomainWide(t *testing.T) {
	wide := linkedWorld(t, fourTemplates+"unit root A\nunit Domain B").domainWide()
	if got := wide["clock-skew"]; got == nil || got.By.Name() != "A" {
		t.Errorf("clock-skew: %+v", got)
	}
	x := linkedWorld(t, fourTemplates+"unit root A")
	x.units[estate.NormalDN("OU=Domain Controllers,DC=x,DC=example")] = &estate.Unit{DN: "OU=Domain Controllers,DC=x,DC=example", Links: []estate.Link{{GUID: "{B}"}}}
	if wide := x.domainWide(); wide["length-limit-relaxed"].By.Name() != "B" || wide["clock-skew"].By.Name() != "A" {
		t.Errorf("%+v", wide)
	}
}
