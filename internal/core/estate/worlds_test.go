package estate

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"testing"

	"sternledger/internal/core/setting"
	"sternledger/internal/worldtest"
)

// TestWorlds plays testdata/worlds.txt: small worlds, line by line as a reader hands them
// to the Builder, each followed by what comes of it (the lines that begin with ">").
//
//	file NAME | older NAME GATHERS      where what follows stands
//	in NAME KIND                        of which place; x.example domain unless said
//	account|group|computer|managed|other DN [KEY=VALUE|FLAG]…
//	member GROUP DN… | list GROUPNAME DN… | range GROUP FIRST LAST
//	policy DN [SETTING=VALUE|TARGET]… | head SETTING=VALUE… | template GUID …
//	remember                            a later gather begins, which may hold less
//	random SEED                         lines of which it is made (see randomly), and then what comes of them
//
// A name without "=" is short for CN=NAME,DC=x,DC=example, in answers too.
func TestWorlds(t *testing.T) {
	worldtest.Play(t, "worlds.txt", played)
}

const base = ",DC=x,DC=example"

func long(name string) string {
	if strings.Contains(name, "=") || name == "" {
		return name
	}
	return "CN=" + name + base
}

func short(dn string) string {
	if name, ok := strings.CutSuffix(strings.TrimPrefix(dn, "CN="), base); ok {
		return name
	}
	return dn
}

func played(t *testing.T, lines []string) []string {
	b, at := NewBuilder(), InDomain("x.example")
	var before []*Authority
	value := func(id setting.ID, text string) setting.Value {
		v, err := setting.Get(id).Parse(strings.ReplaceAll(text, "_", " "))
		if err != nil {
			n, numeric := strconv.ParseInt(text, 10, 64)
			if numeric != nil {
				t.Fatal(err)
			}
			v = setting.Number(n)
		}
		return v
	}
	if seed, ok := strings.CutPrefix(lines[0], "random "); ok {
		n, _ := strconv.ParseUint(seed, 10, 64)
		lines = randomly(n)
	}
	for i, line := range lines {
		words := strings.Fields(line)
		n := i + 1
		args := words[1:]
		number := func(k int) int {
			v, err := strconv.Atoi(args[k])
			if err != nil {
				t.Fatal(err)
			}
			return v
		}
		row := func(name string) uint32 {
			row, ok := b.authority(at).row.get(b.speller.hash([]byte(long(name))))
			if !ok {
				t.Fatalf("%s: no %s", line, name)
			}
			return row
		}
		facts := func(into Settings, p setting.Platform) (other []string) {
			for _, w := range args {
				if id, text, ok := strings.Cut(w, ":"); ok && strings.ToLower(id) == id {
					b.Set(into, p, setting.ID(id), value(setting.ID(id), text), b.Cite(n, id, text))
				} else {
					other = append(other, w)
				}
			}
			return other
		}
		switch words[0] {
		case "file":
			b.StartFile(args[0])
		case "older":
			b.StartOlder(args[0], number(1))
		case "in":
			at = Place{args[0], Kind(args[1])}
			b.At(at)
			if len(args) > 2 {
				b.At(at).Platform = setting.Platform(args[2])
			}
		case "account", "group", "computer", "managed", "other":
			b.Object(at, described(t, words, n))
		case "member":
			for _, dn := range args[1:] {
				b.Member(at, row(args[0]), []byte(long(dn)), n)
			}
		case "list":
			for _, dn := range args[1:] {
				b.MemberOf(at, strings.ReplaceAll(args[0], "_", " "), []byte(long(dn)), n)
			}
		case "range":
			b.MemberRange(at, row(args[0]), number(1), number(2))
		case "shows":
			map[string]func(Place){"members": b.ShowsMembers, "targets": b.ShowsTargets, "pointers": b.ShowsPointers}[args[0]](at)
		case "policy":
			dn := long(args[0])
			args = args[1:]
			p := b.Override(at, []byte(dn), n)
			for _, target := range facts(p.Settings, p.Platform) {
				b.Target(at, p, Target{DN: long(target), Cite: b.Cite(n, "applies to", target)})
			}
		case "inherits":
			p := b.Override(at, []byte(long(args[0])), n)
			for _, id := range args[1:] {
				p.Inherits = append(p.Inherits, setting.ID(id))
			}
		case "local":
			b.At(at).LocalPolicies = &LocalPolicies{On: true, Inherit: args[0] == "inherit"}
		case "head":
			a := b.At(at)
			if a.Head == nil {
				a.Head = &Policy{Name: "own", Standing: Enforced, Platform: a.Platform, Settings: Settings{}, Cite: b.Cite(n, "", "")}
			}
			facts(a.Head.Settings, a.Head.Platform)
		case "remark":
			b.Remark(b.At(at).Head.Settings, setting.ID(args[0]), strings.Join(args[1:], " "))
		case "unreadable":
			b.Unreadable(b.At(at).Head.Settings, setting.ID(args[0]), b.Cite(n, args[0], ""), "not a number")
		case "default":
			b.authority(at).DefaultPolicy = long(args[0])
		case "server":
			b.Server(at, Dialect(args[0]), b.Cite(n, "", args[0]))
		case "unit":
			u := b.Unit(at, []byte(args[0]), n)
			for _, guid := range args[1:] {
				u.Links = append(u.Links, Link{GUID: guid})
			}
		case "container":
			b.Container(at, contained(args))
		case "displayed":
			d := Display{Machine: args[0], Settings: Settings{}, Cite: b.Cite(n, "", "")}
			facts(d.Settings, setting.WindowsMachine)
			b.Displayed(at, d)
		case "template":
			tpl := Template{GUID: args[0], Policy: Policy{Name: args[0], Platform: setting.WindowsMachine, Settings: Settings{},
				Cite: b.Cite(n, "", "")}}
			for _, w := range facts(tpl.Policy.Settings, tpl.Policy.Platform) {
				switch key, v, _ := strings.Cut(w, "="); key {
				case "name":
					tpl.Policy.Name = v
				case "domain":
					tpl.Domain = v
				case "registry":
					tpl.Registry = true
				case "part":
					tpl.Part, tpl.Registry = true, true
				case "broken":
					tpl.Policy.Settings[setting.ID(v)] = Fact{Problem: "not a number", Cite: b.Cite(n, v, "")}
				}
			}
			b.Template(tpl)
		case "remember":
			then := b.Finish()
			for _, a := range then {
				for _, was := range before {
					if was.Place() == a.Place() {
						a.Lost = Less(was, a)
					}
				}
			}
			before = then
			b = NewBuilder()
			for _, a := range before {
				b.At(a.Place())
				b.Remember(a)
			}
		default:
			t.Fatalf("%q", line)
		}
	}
	var said []string
	now := b.Finish()
	for _, a := range now {
		said = append(said, told(a)...)
		for _, was := range before {
			if was.Place() != a.Place() {
				continue
			}
			for _, l := range Less(was, a) {
				said = append(said, fmt.Sprintf("less: %s, %d before, %d now %v", l.What, l.Before, l.Now, l.Names))
			}
		}
	}
	for _, x := range b.Templates {
		said = append(said, fmt.Sprintf("template %s %q of %q, registry %v, part %v: %s", x.GUID, x.Policy.Name, x.Domain, x.Registry, x.Part,
			settled(x.Policy.Settings)))
	}
	for _, p := range b.Problems {
		said = append(said, fmt.Sprintf("problem %s: %s; damaged %v, contradicts %v", p.Cite, p.Text, p.Damaged, p.Contradicts))
	}
	return said
}

// described is the object that a line describes.
func described(t *testing.T, words []string, line int) *Record {
	t.Helper()
	classes := map[string]Class{"account": Account, "group": Group, "computer": Computer, "managed": Managed, "other": Other}
	r := &Record{Class: classes[words[0]], DN: []byte(long(words[1])), Line: line}
	hidden := map[string]Flag{"cut-short": CutShort, "unclassified": Unclassified, "disabled": Disabled}
	for _, w := range words[2:] {
		key, v, ok := strings.Cut(w, "=")
		if flag, named := FlagNamed(w); named {
			r.Flags |= flag
			continue
		} else if f := hidden[w]; f != 0 {
			r.Flags |= f
			continue
		} else if !ok {
			t.Fatalf("%v: %s", words, w)
		}
		n, _ := strconv.ParseUint(v, 0, 32)
		switch key {
		case "name":
			r.Name = []byte(strings.ReplaceAll(v, "_", " "))
		case "principal":
			r.Principal = []byte(v)
		case "display":
			r.Display = []byte(v)
		case "source":
			r.Source = []byte(v)
		case "rid":
			r.RID = uint32(n)
		case "primary":
			r.Primary = uint32(n)
		case "type":
			r.GroupType = uint32(n)
		case "control":
			r.Control, r.ControlAt = uint32(n), 3
		case "set":
			r.PwdSet = uint32(n)
		case "seen":
			r.LastLogon = uint32(n)
		case "resultant":
			r.Resultant = []byte(long(v))
		case "applied":
			for dn := range strings.SplitSeq(v, ";") {
				r.Applied = append(r.Applied, []byte(long(dn)))
			}
		case "in":
			for k, dn := range strings.Split(v, ";") {
				r.Holders, r.HolderLines = append(r.Holders, []byte(long(dn))), append(r.HolderLines, uint32(line*10+k))
			}
		default:
			t.Fatalf("%v: %s", words, key)
		}
	}
	return r
}

func contained(args []string) Container {
	c := Container{GUID: args[0]}
	for _, w := range args[1:] {
		switch key, v, _ := strings.Cut(w, "="); key {
		case "name":
			c.Name = v
		case "wmi":
			c.WMIFilter = v
		case "whole":
			c.Whole = true
		case "no-security":
			c.NoSecurity = true
		case "no-registry":
			c.NoRegistry = true
		case "machine-off":
			c.MachineOff = true
		case "filtered":
			c.Filtered = true
		}
	}
	return c
}

// told is all that is known of an authority.
func told(a *Authority) []string {
	o := a.Objects
	said := []string{fmt.Sprintf("%s %q, %d parents: %d accounts (listed %v, %d with flags), %d groups, %d computers, %d "+
		"managed, %d unclassified, %d "+
		"memberships",
		a.Place(), a.Dialect, len(a.Parents), a.Accounts, a.Listed, a.Flagged, a.Groups, a.Computers, a.Managed, a.Unclassified, a.Memberships)}
	if a.Head != nil {
		said = append(said, "head "+settled(a.Head.Settings))
	}
	names := []string{"other", "account", "group", "computer", "managed"}
	hidden := map[Flag]string{Disabled: "disabled", NoControl: "no-control", Unseen: "unseen", Unclassified: "unclassified",
		HoldersShown: "holders-shown", AppliedShown: "applied-shown", MembersPart: "members-part", LooseMembers: "loose-members",
		CutShort: "cut-short"}
	policy := func(ref uint32) string {
		if ref == 0 {
			return ""
		}
		return short(a.Policies[ref-1].DN)
	}
	for row := range o.Len() {
		flags := o.FlagsOf(row)
		all := (flags &^ NoControl).Names()
		for _, f := range slices.Sorted(maps.Keys(hidden)) {
			if flags&f != 0 {
				all = append(all, hidden[f])
			}
		}
		line := fmt.Sprintf("%s %s %v %s", names[o.ClassOf(row)], short(a.DN(row)), all, a.CiteOf(row))
		for _, field := range []struct{ name, value string }{{"name", o.Name.At(row)}, {"principal", o.Principal.At(row)},
			{"display", o.Display.At(row)}, {"source", o.Source.At(row)}, {"rid", fmt.Sprint(o.RID.At(row))},
			{"primary", fmt.Sprint(o.Primary.At(row))}, {"type", GroupType(o.GroupType.At(row)).String()},
			{"control", fmt.Sprint(o.Control.At(row))}, {"set", fmt.Sprint(o.PwdSet.At(row))}, {"seen", fmt.Sprint(o.LastLogon.At(row))},
			{"applied", policy(o.Applied.At(row))}, {"resultant", policy(o.Resultant.At(row))}} {
			if field.value != "" && field.value != "0" && (field.name != "type" || o.ClassOf(row) == Group) {
				line += fmt.Sprintf(" %s=%s", field.name, field.value)
			}
		}
		if o.Control.At(row) != 0 {
			line += " control at " + a.ControlCite(row).String()
		}
		var groups []string
		for g := range o.GroupsOf(row) {
			groups = append(groups, short(a.DN(g)))
		}
		if len(groups) > 0 {
			line += " in " + strings.Join(groups, ", ")
		}
		said = append(said, line)
	}
	for i := range o.LooseLine.Len() {
		said = append(said, fmt.Sprintf("%s holds somebody who is not there, %s:%d", short(a.DN(int(o.LooseGroup.At(i)))),
			a.Files[o.LooseFile.At(i)], o.LooseLine.At(i)))
	}
	for _, p := range a.Overrides {
		line := fmt.Sprintf("policy %s of %s, targets in part %v, %s:", p.Name, p.Platform, p.TargetsPart, p.Cite)
		for _, x := range p.Targets {
			line += fmt.Sprintf(" %s=%d", short(x.DN), x.Object)
		}
		said = append(said, line+" "+settled(p.Settings))
	}
	for _, r := range a.Policies {
		var rows []string
		for _, row := range r.Rows {
			rows = append(rows, short(a.DN(row)))
		}
		said = append(said, fmt.Sprintf("pointed at %s: known %v, lost %v, %d times, %v %s", short(r.DN), r.Known, r.Lost, r.Count, rows, r.Cite))
	}
	for _, d := range a.Disputes {
		said = append(said, fmt.Sprintf("disputed: %s in %s, silent %s, %s", short(a.DN(d.Member)), short(a.DN(d.Group)), d.Silent, d.Cite))
	}
	for _, u := range a.Units {
		said = append(said, fmt.Sprintf("unit %s %v", u.DN, u.Links))
	}
	for _, c := range a.Containers {
		said = append(said, fmt.Sprintf("container %+v", c))
	}
	for _, d := range a.Displayed {
		said = append(said, fmt.Sprintf("%s displays %s", d.Machine, settled(d.Settings)))
	}
	for _, p := range a.Problems {
		said = append(said, fmt.Sprintf("problem %s: %s", p.Cite, p.Text))
	}
	return said
}

func settled(all Settings) string {
	var said []string
	for _, id := range slices.Sorted(maps.Keys(all)) {
		f := all[id]
		text := setting.Get(id).Text(f.Value)
		if f.Problem != "" {
			text = "(" + f.Problem + ")"
		}
		if f.Remark != "" {
			text += " [" + f.Remark + "]"
		}
		if f.Cite.Note != "" {
			text += " {" + f.Cite.Note + "}"
		}
		said = append(said, fmt.Sprintf("%s %s %s", id, text, f.Cite))
	}
	return strings.Join(said, "; ")
}
