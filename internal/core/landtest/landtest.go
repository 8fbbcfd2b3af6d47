// Package landtest builds estates for tests of the core from short lines, so that cases
// read like the rules.
package landtest

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// Against takes the baselines out of lines, and returns the lines that remain.
//
//	baseline ID PLATFORM…               the demands that follow are its own
//	demand {setting: …}                 as in its file
func Against(t testing.TB, lines []string) (chosen []*baseline.Baseline, rest []string) {
	t.Helper()
	var texts []string
	for _, line := range spread(lines, true) {
		if words, ok := strings.CutPrefix(line, "baseline "); ok {
			id, platforms, _ := strings.Cut(words, " ")
			texts = append(texts, fmt.Sprintf("id: %s\ntitle: T\nversion: 1\nfor: {platforms: [%s]}\ndemands:\n", id,
				strings.ReplaceAll(platforms, " ", ", ")))
		} else if demand, ok := strings.CutPrefix(line, "demand "); ok {
			texts[len(texts)-1] += "  - " + demand + "\n"
		} else {
			rest = append(rest, line)
		}
	}
	for _, text := range texts {
		b, err := baseline.Parse("t.yaml", []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		chosen = append(chosen, b)
	}
	return chosen, rest
}

// Land builds several authorities from short lines.
//
//	KIND NAME [SID] [sync=WAY|as=PLATFORM]       the ones that follow are its own
//	head SETTING=VALUE…
//	policy NAME PRECEDENCE SETTING=VALUE,… [TARGET|root=ENTRY|except=NAME|of=ORIGIN|open=WHY|guid=N|part]…   precedence "-": none
//	account NAME [FLAG…] [name=NAME] [->POLICY|->head] [from=DOMAIN\NAME\SID] [rid=N] [upn=NAME] [flags-at=N] [in=GROUP]
//	group NAME[!] [type=N] [rid=N] [in=GROUP] MEMBER…  "!": members may be missing
//	default POLICY | local on|off|inherit | cut | server DIALECT
//	computer NAME [disabled] [rid=N] [primary=N] [in=GROUP] | managed NAME | unit DN [root] [blocked] [GUID[:disabled|:enforced]]…
//	container GUID [name=N] [filtered] [wmi=W] [whole] [no-security] [no-registry] [machine-off] [preferences] [allow=SID] [deny=SID]
//	template GUID [name=N] [registry] [part] [domain=D] [prefers=SETTING]… SETTING=VALUE…
//	file NAME                                    what follows comes from another file, which shows of no object what holds it
//	remark KIND [ACCOUNT…] | lost WHAT BEFORE NOW [NAME…] | display MACHINE SETTING=VALUE…
func Land(t testing.TB, lines string) *estate.Estate {
	t.Helper()
	b := estate.NewBuilder()
	b.StartFile("x")
	var at estate.Place
	var domains []estate.Place
	cite := func(i int) estate.Cite { return b.Cite(i+1, "", "") }
	// dn is a name as a DN; where a name has no "=", it stands right below nothing.
	var dn func(name string) []byte
	const container = ",CN=Password Settings Container,CN=System,"
	pso := func(name string) []byte { // where a domain keeps them
		if at.Kind != estate.Domain || strings.Contains(name, "=") {
			return dn(name)
		}
		return []byte("CN=" + name + container + root(at))
	}
	dn = func(name string) []byte {
		name = strings.Replace(name, "Domain_Controllers", "Domain Controllers", 1)
		if strings.Contains(name, "=") {
			return []byte(name)
		}
		return []byte("CN=" + name)
	}
	target := func(name string, i int) estate.Target {
		return estate.Target{DN: string(dn(name)), Cite: b.Cite(i+1, "applies to", name)}
	}
	facts := func(words []string, i int) estate.Settings {
		all := estate.Settings{}
		for _, w := range words {
			id, text, _ := strings.Cut(w, "=")
			if _, known := setting.Lookup(setting.ID(id)); !known {
				continue
			}
			if text == "?" {
				all[setting.ID(id)] = estate.Fact{Problem: "cannot be read", Cite: b.Cite(i+1, id, text)}
				continue
			}
			text, remark, _ := strings.Cut(text, "~")
			v, err := setting.Get(setting.ID(id)).Parse(strings.ReplaceAll(text, "_", " "))
			if err != nil {
				t.Fatal(err)
			}
			all[setting.ID(id)] = estate.Fact{Value: v, Remark: remark, Cite: b.Cite(i+1, id, text)}
		}
		return all
	}
	for i, line := range spread(strings.Split(strings.TrimSpace(lines), "\n"), false) {
		f := strings.Fields(line)
		switch f[0] {
		case "domain", "machine", "ldap", "tenant":
			at = estate.Place{Name: f[1], Kind: estate.Kind(f[0])}
			if way, ok := strings.CutPrefix(f[len(f)-1], "sync="); ok {
				b.At(at).Sync, f = estate.Way(way), f[:2]
			}
			if platform, ok := strings.CutPrefix(f[len(f)-1], "as="); ok {
				b.At(at).Platform, f = setting.Platform(platform), f[:2]
			}
			if a := b.At(at); len(f) > 2 {
				a.SID, a.PoliciesLie = f[2], true
				b.ShowsMembers(at)
				b.ShowsTargets(at)
				domains = append(domains, at)
			}
		case "head":
			a := b.At(at)
			a.Head = &estate.Policy{Name: "own", Origin: root(at), Standing: estate.Enforced, Platform: a.Platform,
				Settings: facts(f[1:], i), Cite: cite(i)}
		case "policy":
			p := b.Override(at, pso(f[1]), i+1)
			p.Name, p.Settings = f[1], facts(strings.Split(f[3], ","), i)
			if n, err := strconv.ParseInt(f[2], 10, 64); err == nil {
				p.Precedence = &n
			}
			for _, w := range f[4:] {
				switch key, value, _ := strings.Cut(w, "="); key {
				case "root":
					p.Root = value
				case "except":
					p.Except = append(p.Except, target(value, i))
				case "of":
					p.Of = estate.Origin(value)
				case "open":
					p.Open = value
				case "guid":
					p.GUID[0] = value[0]
				case "part":
					p.TargetsPart = true
				default:
					p.Targets = append(p.Targets, target(w, i))
				}
			}
		case "default":
			b.At(at).DefaultPolicy = string(dn(f[1]))
		case "local":
			b.At(at).LocalPolicies = &estate.LocalPolicies{On: f[1] != "off", Inherit: f[1] == "inherit"}
		case "cut":
			b.At(at).Cut = true
		case "file":
			b.StartFile(f[1])
		case "account":
			r := &estate.Record{Class: estate.Account, DN: dn(f[1]), Name: []byte(f[1]), Line: i + 1, Primary: 513}
			for _, w := range f[2:] {
				key, value, _ := strings.Cut(w, "=")
				flag, isFlag := estate.FlagNamed(w)
				switch {
				case isFlag:
					r.Flags |= flag
				case w == "->head":
					r.Applied = [][]byte{[]byte(root(at))}
				case strings.HasPrefix(w, "->"):
					r.Applied = [][]byte{pso(w[2:])}
				case key == "name": // another than its DN's
					r.Name = []byte(value)
				case key == "from":
					r.Source = []byte(strings.ReplaceAll(value, `\`, "\t"))
				case key == "rid":
					n, _ := strconv.ParseUint(value, 10, 32)
					r.RID = uint32(n)
				case key == "in":
					r.Holders, r.HolderLines = append(r.Holders, dn(value)), append(r.HolderLines, uint32(i+1))
				case key == "primary":
					n, _ := strconv.ParseUint(value, 10, 32)
					r.Primary = uint32(n)
				case key == "answer":
					r.Resultant, b.At(at).AnswerGiven = pso(value), true
				case key == "set":
					n, _ := strconv.ParseUint(value, 10, 32)
					r.PwdSet = uint32(n)
				case key == "seen":
					n, _ := strconv.ParseUint(value, 10, 32)
					r.LastLogon = uint32(n)
				case w == "disabled":
					r.Flags |= estate.Disabled
				case w == "never-override":
					r.Flags |= estate.NeverOverride
				case key == "upn":
					r.Principal = []byte(value)
				case key == "flags-at": // so many lines further on
					n, _ := strconv.ParseUint(value, 10, 32)
					r.Control, r.ControlAt = 512, uint8(n)
				default:
					t.Fatal(line)
				}
			}
			b.Object(at, r)
		case "group":
			rec := &estate.Record{Class: estate.Group, DN: dn(f[1]), Name: []byte(f[1]), GroupType: estate.SecurityGroup,
				RID: uint32(100 + i), Line: i + 1}
			if strings.HasSuffix(f[1], "!") { // members may be missing
				rec.Flags = estate.MembersPart
			}
			if len(f) > 2 && strings.HasPrefix(f[2], "type=") {
				n, _ := strconv.ParseUint(f[2][5:], 0, 32)
				if rec.GroupType, f = uint32(n), append(f[:2:2], f[3:]...); estate.GroupType(n).Builtin() {
					rec.Flags |= estate.BuiltinDomain
				}
			}
			if len(f) > 2 && strings.HasPrefix(f[2], "rid=") {
				n, _ := strconv.ParseUint(f[2][4:], 10, 32)
				rec.RID, f = uint32(n), append(f[:2:2], f[3:]...)
			}
			var members []string
			for _, w := range f[2:] {
				if holder, is := strings.CutPrefix(w, "in="); is {
					rec.Holders, rec.HolderLines = append(rec.Holders, dn(holder)), append(rec.HolderLines, uint32(i+1))
				} else {
					members = append(members, w)
				}
			}
			row := b.Object(at, rec)
			for _, m := range members {
				b.Member(at, row, dn(m), i+1)
			}
		case "computer", "managed":
			class := map[string]estate.Class{"computer": estate.Computer, "managed": estate.Managed}[f[0]]
			rec := &estate.Record{Class: class, DN: dn(f[1]), Name: []byte(estate.NameOf(string(dn(f[1]))) + "$"), Line: i + 1, Primary: 515}
			if slices.Contains(f[2:], "disabled") {
				rec.Flags = estate.Disabled
			}
			if slices.Contains(f[2:], "controller") {
				rec.Control, rec.Primary = 0x2000, 516
			}
			for _, w := range f[2:] {
				key, value, _ := strings.Cut(w, "=")
				n, _ := strconv.ParseUint(value, 10, 32)
				switch key {
				case "rid":
					rec.RID = uint32(n)
				case "primary":
					rec.Primary = uint32(n)
				case "in":
					rec.Holders, rec.HolderLines = append(rec.Holders, dn(value)), append(rec.HolderLines, uint32(i+1))
				}
			}
			b.Object(at, rec)
		case "server":
			b.Server(at, estate.Dialect(f[1]), cite(i))
		case "unit":
			u := b.Unit(at, dn(f[1]), i+1)
			for _, w := range f[2:] {
				guid, how, _ := strings.Cut(w, ":")
				switch {
				case w == "root":
					u.Root = true
				case w == "blocked":
					u.Blocked = true
				default:
					u.Links = append(u.Links, estate.Link{GUID: guid, Disabled: how == "disabled", Enforced: how == "enforced"})
				}
			}
		case "container":
			b.Container(at, contained(f, cite(i)))
		case "template":
			tpl := estate.Template{GUID: f[1], Domain: at.Name, Policy: estate.Policy{Name: f[1], Platform: setting.WindowsTemplate,
				Standing: estate.Configured, Settings: facts(f[2:], i), Cite: cite(i)}}
			for _, w := range f[2:] {
				switch key, value, _ := strings.Cut(w, "="); key {
				case "name":
					tpl.Policy.Name = value
				case "registry":
					tpl.Registry = true
				case "part": // its security template was not exported
					tpl.Part = true
				case "prefers": // by its preferences
					tpl.Preferences, tpl.Preferred = true, append(tpl.Preferred, setting.ID(value))
				case "domain":
					tpl.Domain = value
				}
			}
			b.Template(tpl)
		case "remark":
			b.At(at).Remarks = append(b.At(at).Remarks, estate.Remark{Kind: estate.RemarkKind(f[1]), Text: "text", Remedy: "remedy",
				Accounts: f[2:], Cites: []estate.Cite{cite(i)}})
		case "lost":
			was, _ := strconv.Atoi(f[2])
			is, _ := strconv.Atoi(f[3])
			b.At(at).Lost = append(b.At(at).Lost, estate.Loss{What: estate.Lost(strings.ReplaceAll(f[1], "_", " ")), Before: was, Now: is,
				Names: f[4:], Files: []string{"old"}})
		case "display":
			b.Displayed(at, estate.Display{Machine: f[1], Settings: facts(f[2:], i), Cite: cite(i)})
		default:
			t.Fatalf("line %d: %s", i+1, line)
		}
	}
	for _, at := range domains { // the export is whole
		for _, rid := range []uint32{512, 513} {
			b.Object(at, &estate.Record{Class: estate.Group, DN: fmt.Appendf(nil, "CN=%d", rid), GroupType: estate.SecurityGroup, RID: rid})
		}
	}
	authorities := b.Finish()
	return &estate.Estate{Authorities: authorities, Templates: b.Templates}
}

// root is where the place's own settings stand.
func root(at estate.Place) string {
	if at.Kind == estate.Domain {
		return "DC=" + strings.ReplaceAll(at.Name, ".", ",DC=")
	}
	return "own of " + at.Name
}

// contained is the policy container that a line describes.
func contained(f []string, at estate.Cite) estate.Container {
	c := estate.Container{GUID: f[1], Cite: at}
	for _, w := range f[2:] {
		switch key, value, _ := strings.Cut(w, "="); key {
		case "name":
			c.Name = value
		case "wmi":
			c.WMIFilter = value
		case "filtered":
			c.Filtered = true
		case "whole":
			c.Whole = true
		case "no-security":
			c.NoSecurity = true
		case "no-registry":
			c.NoRegistry = true
		case "machine-off":
			c.MachineOff = true
		case "preferences":
			c.Preferences = true
		case "allow", "deny":
			c.Filtered = true
			c.Access = append(c.Access, estate.ACE{SID: value, Deny: key == "deny", Read: true, Apply: true})
		}
	}
	return c
}
