package govern

import (
	"fmt"
	"slices"
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
				l := estate.Link{GUID: guid(word[:1]), Enforced: strings.Contains(word, "!"), Disabled: strings.Contains(word, "-")}
				if strings.Contains(word, "@") { // another domain's policy of that GUID
					l.Domain = "far.example"
				}
				u.Links = append(u.Links, l)
			}
		case "template":
			n := 0
			fmt.Sscan(f[2], &n)
			a.Containers = append(a.Containers, estate.Container{GUID: guid(f[1]), Name: f[1], MachineOff: len(f) > 3,
				Filtered: true, Whole: true, Access: []estate.ACE{{SID: "S-1-5-11", Read: true, Apply: true}}})
			e.Templates = append(e.Templates, estate.Template{GUID: guid(f[1]), Policy: estate.Policy{Name: f[1],
				Settings: estate.Settings{"min-length": {Value: setting.Number(int64(n))}, "length-limit-relaxed": {Value: setting.On},
					"clock-skew": {Value: setting.Number(int64(n * 60))}}}})
		case "filter": // LETTER unseen, wmi, or those who may read and apply it; ! denied
			c := &a.Containers[slices.IndexFunc(a.Containers, func(c estate.Container) bool { return c.Name == f[1] })]
			switch f[2] {
			case "unseen":
				c.Filtered = false
			case "wmi":
				c.WMIFilter = "[x.example;{};0]"
			default:
				c.Access = nil
				for _, sid := range f[2:] {
					c.Access = append(c.Access, estate.ACE{SID: strings.TrimPrefix(sid, "!"), Deny: sid[0] == '!', Read: true, Apply: true})
				}
			}
		case "version": // LETTER of the directory, of the store; - where nothing says
			for i, half := range []**int{&a.Containers[len(a.Containers)-1].Half, &e.Templates[len(e.Templates)-1].Half} {
				if n := 0; f[2+i] != "-" {
					fmt.Sscan(f[2+i], &n)
					*half = &n
				}
			}
		case "extensions": // none, or registry: those that the last policy's container lists
			c := &a.Containers[len(a.Containers)-1]
			c.NoSecurity, c.NoRegistry = true, f[2] == "none"
		case "site": // an enforced link of one, to the last policy
			a.SiteLinks = append(a.SiteLinks, estate.Link{GUID: a.Containers[len(a.Containers)-1].GUID, Enforced: true})
		case "other": // kind
			a.Containers[len(a.Containers)-1].Unapplied = true
		case "controller":
			b.Object(estate.InDomain("x.example"), &estate.Record{Class: estate.Computer, DN: []byte("CN=" + f[1] + "," + place(f[2])),
				Name: []byte(f[1] + "$"), Control: serverTrust})
		case "machine":
			b.Object(estate.InDomain("x.example"), &estate.Record{Class: estate.Computer, DN: []byte("CN=" + f[1] + "," + place(f[2])),
				Name: []byte(f[1] + "$")})
		}
	}
	return NewTemplates(e, b.Finish()[0], estate.Windows)
}

func namesOf(links []Linked) string {
	var names []string
	for _, l := range links {
		name := l.Name()
		if l.Idle != "" {
			name += "(" + l.Idle + ")"
		}
		if l.Open != "" {
			name += "[" + l.Open + "]"
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
		{"unit root A Z", "{Z}[linked; its template is not in the evidence] A", "A?"}, // it may say anything
		{"unit root A D\nother", "D(it is of a functionality version that clients pass by) A", "A"},
		{"unit root A D\nversion D 0 3", "D(the version of its computer half is 0: clients pass it by) A", "A"},
		{"unit root A D\nversion D - 0", "D(the version of its computer half is 0: clients pass it by) A", "A"},
		{"unit root A D\nversion D 3 -", "D A", "D"},
		{"unit root A D\nversion D 3 0",
			"D[its GPT.INI has version 0 for its computer half, and the directory does not: clients may pass it by] A", "D?"},
		{"unit root A B\nfilter B unseen", "B[linked; filters not in evidence] A", "B?"},
		{"unit root A B\nfilter B wmi", "B[linked; its WMI filter decides on the machine] A", "B?"},
		{"unit root A B\nfilter B -512",
			"B[linked; whether its security filter lets it through depends on groups that are not all in the evidence] A", "B?"},
		{"unit root A B\nfilter B -516", "B A", "B"},
		{"unit root A B\nfilter B !-516 S-1-5-11", "B(its security filter keeps it from them) A", "A"},
		{"unit root A B\nfilter B S-1-5-21-9-9-9-1111",
			"B[linked; whether its security filter lets it through depends on groups that are not all in the evidence] A", "B?"},
		{"unit root A B\nfilter B S-1-5-32-544", "B(its security filter keeps it from them) A", "A"},
		{"template E 9\nunit root E B\nfilter B unseen", "B[linked; filters not in evidence] E", "B"}, // whichever works, it is 9
		{"template E 9\nunit root A E B\nfilter B unseen\nfilter E unseen",
			"B[linked; filters not in evidence] E[linked; filters not in evidence] A", "B?"},
		{"unit root", "", ""},
	} {
		x := linkedWorld(t, fourTemplates+c.unit)
		if got := namesOf(x.Root()); got != c.links {
			t.Errorf("%s: %s, want %s", c.unit, got, c.links)
		}
		configured := Configured(x.Root())["min-length"]
		wins := ""
		if configured != nil {
			if wins = configured.By.Name(); configured.Open != "" {
				wins += "?"
			}
		}
		if strings.TrimPrefix(wins, "A?") != strings.TrimPrefix(c.wins, "A?") || wins != c.wins {
			t.Errorf("%s: %+v wins, want %s", c.unit, configured, c.wins)
		}
	}
	if beaten := Configured(linkedWorld(t, fourTemplates+"unit root A B D").Root())["min-length"].Beaten; len(beaten) != 2 ||
		beaten[0].By.Name() != "B" {
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
		if got := namesOf(x.At("OU="+strings.Join(reversed(strings.Split(c.at, "/")), ",OU=")+",DC=x,DC=example", anyMachine)); got != c.want {
			t.Errorf("%q at %s: %s, want %s", c.units, c.at, got, c.want)
		}
	}
}

// A filter that names a group is as sure as what is known of the group.
func TestFilterByGroup(t *testing.T) {
	for _, c := range []struct{ name, member, holders, want string }{
		{"a member", "CN=ONE,DC=x,DC=example", "", "2"},
		{"not a member, according to the group's list", "CN=TWO,DC=x,DC=example", "", "0"},
		{"somebody in it is not in the evidence", "CN=GONE,DC=x,DC=example", "", "1"},
		{"but its own groups are", "CN=GONE,DC=x,DC=example", "CN=users,DC=x,DC=example", "0"},
	} {
		b := estate.NewBuilder()
		b.StartFile("x.ldif")
		at := estate.InDomain("x.example")
		b.At(at).SID = "S-1-5-21-1-2-3"
		one := &estate.Record{Class: estate.Computer, DN: []byte("CN=ONE,DC=x,DC=example"), RID: 1001}
		if c.holders != "" {
			one.Holders, one.HolderLines = [][]byte{[]byte(c.holders)}, []uint32{1}
		}
		row := int(b.Object(at, one))
		b.Object(at, &estate.Record{Class: estate.Computer, DN: []byte("CN=TWO,DC=x,DC=example"), RID: 1002})
		users := b.Object(at, &estate.Record{Class: estate.Group, DN: []byte("CN=users,DC=x,DC=example"), RID: 1300,
			Holders: [][]byte{[]byte("CN=all,DC=x,DC=example")}, HolderLines: []uint32{1}})
		if c.holders != "" {
			b.Member(at, users, []byte("CN=ONE,DC=x,DC=example"), 1)
		}
		b.Member(at, b.Object(at, &estate.Record{Class: estate.Group, DN: []byte("CN=all,DC=x,DC=example"), RID: 1301,
			Holders: [][]byte{[]byte("CN=all,DC=x,DC=example")}, HolderLines: []uint32{1}}), []byte("CN=users,DC=x,DC=example"), 1)
		group := b.Object(at, &estate.Record{Class: estate.Group, DN: []byte("CN=g,DC=x,DC=example"), RID: 1200})
		b.Member(at, group, []byte(c.member), 1)
		x := NewTemplates(&estate.Estate{}, b.Finish()[0], estate.Windows)
		if got := fmt.Sprint(x.holds("S-1-5-21-1-2-3-1200", x.Machine(row))); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
		if x.holds("S-1-5-21-1-2-3-1001", x.Machine(row)) != sure || x.holds("S-1-5-21-1-2-3-1002", x.Machine(row)) != no {
			t.Errorf("%s: a machine is itself, and not another", c.name)
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
	x := linkedWorld(t, fourTemplates+
		"unit Quay A\nunit Quay/Shed blocked\nmachine ONE Quay\nmachine TWO Quay/Crane\nmachine THREE Quay/Shed\nmachine FOUR Office")
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
	// What is linked at the controllers' unit comes first, and is not there.
	for id, v := range x.domainWide() {
		if root := !setting.Get(id).Exists(setting.WindowsMachine); (v.Open == "") != root {
			t.Errorf("%s without the controllers' unit: %q", id, v.Open)
		}
	}
	x.units[estate.NormalDN("OU=Domain Controllers,DC=x,DC=example")] = &estate.Unit{DN: "OU=Domain Controllers,DC=x,DC=example",
		Links: []estate.Link{{GUID: "{B}"}}}
	if wide := x.domainWide(); wide["length-limit-relaxed"].By.Name() != "B" || wide["clock-skew"].By.Name() != "A" ||
		wide["length-limit-relaxed"].Open != "" {
		t.Errorf("%+v", wide)
	}
}
