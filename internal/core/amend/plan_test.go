package amend

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/weigh"
)

// small is a domain whose head has the settings, written "id value; …", with accounts
// whose passwords were set so many days before day 400, and a baseline of demands.
func small(t *testing.T, head, demands string, change func(b *estate.Builder, d *estate.Authority, e *estate.Estate)) *world {
	t.Helper()
	parsed := func(text, file string) estate.Settings {
		all := estate.Settings{}
		for i, one := range strings.Split(text, ";") {
			id, value, ok := strings.Cut(strings.TrimSpace(one), " ")
			if !ok {
				continue
			}
			v, err := setting.Get(setting.ID(id)).Parse(value)
			if err != nil {
				t.Fatal(err)
			}
			all[setting.ID(id)] = estate.Fact{Value: v, Cite: estate.Cite{File: file, Line: i + 1, Where: id, Raw: value}}
		}
		return all
	}
	b := estate.NewBuilder()
	b.StartFile("x.ldif")
	at := estate.InDomain("x.example")
	d := b.At(at)
	d.PoliciesLie, d.SID = true, "S-1-5-21-1-2-3"
	d.Head = &estate.Policy{Name: "default", Origin: "DC=x,DC=example", Standing: estate.Enforced, Platform: setting.WindowsDomain,
		Settings: parsed(head, "x.ldif"),
		Cite:     estate.Cite{File: "x.ldif", Line: 1}}
	for i, age := range []int{1, 80, 88, 200, 399} {
		flags := estate.HoldersShown | estate.AppliedShown
		if i == 3 {
			flags |= estate.ServiceName
		}
		b.Object(at, &estate.Record{Class: estate.Account, DN: fmt.Appendf(nil, "CN=u%d,DC=x,DC=example", i), Name: fmt.Appendf(nil, "u%d", i),
			Line: 10 + i, RID: uint32(1100 + i),
			Primary: 513, Flags: flags, PwdSet: uint32((400 - age) * aDay)})
	}
	e := &estate.Estate{}
	if change != nil {
		change(b, d, e)
	}
	e.Authorities = b.Finish()
	var all []*baseline.Baseline
	for i, one := range strings.Split(demands, "---\n") {
		x, err := baseline.Parse("t.yaml", []byte(fmt.Sprintf("id: t%d\ntitle: T\nversion: 1\nfor: {platforms: [windows-domain]}\ndemands:\n%s",
			i, one)))
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, x)
	}
	return &world{Estate: e, choice: weigh.Choice{Baselines: func(*estate.Authority, string) []*baseline.Baseline { return all },
		Expect: check.Expectation{Age: func(string) int64 { return 0 }}}}
}

func told(p *Plan) string {
	var all []string
	for _, a := range p.Amendments {
		var first []string
		for _, f := range a.First {
			first = append(first, f.Name)
		}
		all = append(all, strings.TrimSpace(fmt.Sprintf("%s %s of %s: %s to %s %s", a.Name, a.Title(), a.Spots[0].Policy(), a.Was(),
			a.Becomes(), strings.Join(first, " "))))
	}
	for _, d := range p.Decisions {
		all = append(all, "decide: "+d.Title)
	}
	return strings.Join(all, "\n")
}

const (
	lengthOf = "- {setting: min-length, at-least: %d, severity: grave, why: w.}\n"
	// eitherWay is a demand that can be met in two ways.
	eitherWay = "- {any-of: [[{setting: min-length, at-least: 12}], [{setting: min-length, at-least: 8}, {setting: history, at-least: " +
		"24}]], severity: grave, why: w.}\n"
	ageOf = "- {setting: max-age, at-most: 90 days, specials: {never: fails}, severity: serious, why: w.}\n"
)

// What is changed, where, to what, and what has to come first.
func TestPlan(t *testing.T) {
	template := func(settings estate.Settings) func(*estate.Builder, *estate.Authority, *estate.Estate) {
		return func(b *estate.Builder, d *estate.Authority, e *estate.Estate) {
			u := b.Unit(d.Place(), []byte("DC=x,DC=example"), 5)
			u.Root, u.Links = true, []estate.Link{{GUID: "{1}"}}
			d.Containers = append(d.Containers, estate.Container{GUID: "{1}", Name: "Root Policy", Filtered: true, Whole: true,
				Access: []estate.ACE{{SID: "S-1-5-11", Read: true, Apply: true}}})
			e.Templates = append(e.Templates, estate.Template{GUID: "{1}", Domain: "x.example", Policy: estate.Policy{Name: "Root Policy",
				Origin:   "sysvol",
				Standing: estate.Configured, Platform: setting.WindowsTemplate, Settings: settings}})
		}
	}
	of := func(id setting.ID, v setting.Value) estate.Settings {
		return estate.Settings{id: {Value: v, Cite: estate.Cite{File: "t.inf", Line: 3, Where: "Key"}}}
	}
	shared := func(free bool) func(*estate.Builder, *estate.Authority, *estate.Estate) {
		return func(b *estate.Builder, d *estate.Authority, _ *estate.Estate) {
			for i, n := range []int64{5, 5, 6} {
				if i == 2 && free {
					break
				}
				p := b.Override(d.Place(), fmt.Appendf(nil, "CN=p%d,CN=Password Settings Container,CN=System,DC=x,DC=example", i), 30+i)
				p.Name, p.Precedence, p.GUID = fmt.Sprintf("p%d", i), &n, estate.GUID{byte(9 - i)}
				b.Target(d.Place(), p, estate.Target{DN: "CN=u1,DC=x,DC=example", Cite: estate.Cite{File: "x.ldif", Line: 30 + i}})
			}
		}
	}
	for name, c := range map[string]struct {
		head, demands string
		change        func(*estate.Builder, *estate.Authority, *estate.Estate)
		want          string
	}{
		"a head": {"min-length 8", fmt.Sprintf(lengthOf, 14), nil,
			"A1 Minimum length of default: 8 characters to 14 characters"},
		"nothing to do": {"min-length 14", fmt.Sprintf(lengthOf, 14), nil, ""},
		"the template that sets it": {"min-length 8", fmt.Sprintf(lengthOf, 14), template(of("min-length", setting.Number(8))),
			"A1 Minimum length of template Root Policy: 8 characters to 14 characters"},
		"one that has it already": {"min-length 8", fmt.Sprintf(lengthOf, 14), template(of("min-length", setting.Number(14))),
			"decide: A template at the root configures what the domain does not enforce\ndecide: Minimum length: template Root Policy has 14 " +
				"characters, and what holds is 8 characters"},
		"beyond the plain limit": {"min-length 8", fmt.Sprintf(lengthOf, 16), template(of("min-length", setting.Number(8))),
			"A1 Relaxed length limit of template Root Policy: not set to on\nA2 Minimum length of template Root Policy: 8 characters to 16 " +
				"characters A1"},
		"a window over its duration": {"min-length 14; lockout-threshold 5; lockout-window 5 minutes; lockout-duration 5 minutes",
			"- {setting: lockout-window, at-least: 15 minutes, specials: {never: holds, at-once: fails}, severity: grave, why: w.}\n", nil,
			"A1 Lockout duration of default: 5 minutes to 15 minutes\nA2 Lockout window of default: 5 minutes to 15 minutes A1"},
		"what excludes each other": {"max-age 200 days", ageOf + "---\n- {setting: max-age, exactly: never, severity: grave, why: w.}\n", nil,
			"decide: Maximum age: no value satisfies all chosen baselines"},
		// Where another baseline keeps the setting that the ways are about as it is, another way is gone.
		"the way that asks least": {"min-length 8; history 4; complexity on", eitherWay, nil,
			"A1 Minimum length of default: 8 characters to 12 characters"},
		"the only way left": {"min-length 8; history 4; complexity on", eitherWay +
			"---\n- {setting: min-length, at-most: 10, severity: grave, why: w.}\n", nil,
			"A1 Password history of default: 4 passwords to 24 passwords"},
		"a way of two steps": {"min-length 6; history 4; complexity on", eitherWay +
			"---\n- {setting: min-length, at-most: 10, severity: grave, why: w.}\n", nil,
			"A1 Password history of default: 4 passwords to 24 passwords\nA2 Minimum length of default: 6 characters to 8 characters A1"},
		"no way left": {"min-length 8; history 4; complexity on", eitherWay + "---\n- {setting: min-length, at-most: 6, severity: grave, why: " +
			"w.}\n", nil,
			"decide: Minimum length: no value satisfies all chosen baselines"},
		"three that exclude each other": {"history 1", "- {setting: history, one-of: [4, 8], severity: minor, why: w.}\n---\n- {setting: " +
			"history, one-of: [8, 12], severity: minor, why: w.}\n---\n- {setting: history, one-of: [4, 12], severity: minor, why: w.}\n", nil,
			"decide: Password history: no value satisfies all chosen baselines"},
		"a precedence of its own": {"min-length 14", fmt.Sprintf(lengthOf, 14), shared(true), "A1 Precedence of p0: 5 to 6"},
		"none free before the next": {"min-length 14", fmt.Sprintf(lengthOf, 14), shared(false),
			"decide: Two policies share a precedence, and no number is free between them and the next"},
	} {
		w := small(t, c.head, c.demands, c.change)
		s, before := w.weighed(w.Estate)
		r := &record.Record{Places: w.Authorities, Result: before, SettersKnown: true}
		r.Setters, r.Unseen = s.Setters()
		p := New(r, nil, func(at estate.Place) string { return "owner of " + at.Name })
		_, after := w.weighed(Apply(w.Estate, p.Amendments))
		ended, appeared := Compare(before, after)
		p.Seen(before, ended, appeared)
		got := told(p)
		// Of what is decided for other reasons only the case's own is compared.
		lines := strings.Split(got, "\n")
		for _, want := range strings.Split(c.want, "\n") {
			if want != "" && !slices.ContainsFunc(lines, func(l string) bool {
				return l == want || strings.HasPrefix(want, "decide: ") && strings.HasPrefix(l, want)
			}) {
				t.Errorf("%s: lacks %q:\n%s", name, want, got)
			}
		}
		if n := strings.Count("\n"+c.want, "\nA"); n != len(p.Amendments) {
			t.Errorf("%s: %d amendments, want %d:\n%s", name, len(p.Amendments), n, got)
		}
		for _, a := range p.Amendments {
			if a.Spots[0].Owner != "owner of x.example" || a.Fingerprint == "" || p.Named(strings.ToLower(a.Name)) != a ||
				p.Named(a.Fingerprint) != a {
				t.Errorf("%s: %+v", name, a)
			}
		}
		if p.Findings != len(ended)+len(p.Left())+len(p.Evidence) {
			t.Errorf("%s: %d findings, %d end, %d are left, %d need evidence", name, p.Findings, len(ended), len(p.Left()), len(p.Evidence))
		}
		if p.Keep("owner of y"); len(p.Amendments) > 0 {
			t.Errorf("%s: another owner has %d", name, len(p.Amendments))
		}
	}
}

// Whom a change hits is counted from the dates of day 400.
func TestTouch(t *testing.T) {
	w := small(t, "max-age 365 days; min-length 8; lockout-threshold never", fmt.Sprintf(lengthOf, 12)+ageOf+
		"- {setting: lockout-threshold, at-most: 5 failed attempts, specials: {never: fails}, severity: grave, why: w.}\n",
		func(b *estate.Builder, d *estate.Authority, _ *estate.Estate) {
			b.Object(d.Place(), &estate.Record{Class: estate.Account, DN: []byte("CN=off,DC=x,DC=example"), Name: []byte("off"), Line: 40,
				RID: 1200, Primary: 513,
				Flags: estate.Disabled | estate.HoldersShown | estate.AppliedShown, PwdSet: 1})
			b.Object(d.Place(), &estate.Record{Class: estate.Account, DN: []byte("CN=card,DC=x,DC=example"), Name: []byte("card"), Line: 41,
				RID: 1201, Primary: 513,
				Flags: estate.SmartCard | estate.HoldersShown | estate.AppliedShown, PwdSet: 1})
			b.Object(d.Place(), &estate.Record{Class: estate.Account, DN: []byte("CN=ever,DC=x,DC=example"), Name: []byte("ever"), Line: 42,
				RID: 1202, Primary: 513,
				Flags: estate.NeverExpires | estate.HoldersShown | estate.AppliedShown, PwdSet: uint32(100 * aDay)})
			b.Object(d.Place(), &estate.Record{Class: estate.Account, DN: []byte("CN=new,DC=x,DC=example"), Name: []byte("new"), Line: 43,
				RID: 1203, Primary: 513,
				Flags: estate.HoldersShown | estate.AppliedShown})
		})
	p, _, s := w.planned(t)
	got := map[string]string{}
	for _, a := range p.Amendments {
		x := NewPopulation(s).Touch(a, 400*aDay)
		got[a.Title()] = fmt.Sprint(x.Must.AtOnce, x.Must.Week, x.Must.Month, x.Next, x.Unknown, x.Services, " ", x.What)
	}
	for title, want := range map[string]string{
		// Of ages 1, 80, 88, 200 and 399 days: 200 is over, 88 has two days left, 80 ten; 399 had expired before.
		"Maximum age": "1 1 1 0 1 [u3] 4 accounts must change the password: 1 at the next sign-in, 1 within 7 days, 1 within 30 days, 1 within 90 days; " +
			"of 1 account it is not known: the evidence lacks when the password was set, or the flags",
		"Minimum length": "0 0 0 8 0 [] Nobody at once; 8 accounts at the next change of password",
		"Lockout threshold": "0 0 0 0 0 [] Nobody at once, as far as the evidence tells: the lock counts from the next failed attempt; " +
			"whoever reaches a sign-in can stop what runs as u3, for some time, by 5 failed attempts",
	} {
		if got[title] != want {
			t.Errorf("%s: %q, want %q", title, got[title], want)
		}
	}
	if x := got["Password never expires (flag)"]; !strings.HasPrefix(x, "0 0 0 0 0 [] 1 account must change the password within 90 days") {
		t.Errorf("the flag: %s", x) // under 365 days, 300 days old: within 65 days
	}
	if Mask(estate.NeverExpires) != 0x10000 || Mask(estate.Synced) != 0 {
		t.Error("the bits of flags")
	}
}

// Setters are told of the places that a template reaches, and of no other.
func TestSetters(t *testing.T) {
	w := small(t, "min-length 8", fmt.Sprintf(lengthOf, 14), func(b *estate.Builder, d *estate.Authority, _ *estate.Estate) {
		u := b.Unit(d.Place(), []byte("DC=x,DC=example"), 5)
		u.Root, u.Links = true, []estate.Link{{GUID: "{7}"}}
		d.Containers = append(d.Containers, estate.Container{GUID: "{7}", Name: "Hidden", Filtered: true, Whole: true,
			Access: []estate.ACE{{SID: "S-1-5-11", Read: true, Apply: true}}})
	})
	s, before := w.weighed(w.Estate)
	setters, unseen := s.Setters()
	if len(setters) != 0 || unseen[estate.InDomain("x.example")] != "Hidden" {
		t.Errorf("%v %v", setters, unseen)
	}
	p := New(&record.Record{Places: w.Authorities, Result: before, Setters: setters, Unseen: unseen}, nil, nil)
	if len(p.Amendments) != 1 || len(p.Amendments[0].Notes) != 1 || !strings.HasPrefix(p.Amendments[0].Notes[0],
		"Hidden was not exported: if it sets this, change it there.") {
		t.Errorf("%s %v", told(p), p.Amendments[0].Notes)
	}
	var _ []govern.Setter = setters
}

// Machines that are alike get one amendment, with a spot each; a line that several
// policies of a machine share is one spot, and changes them all.
func TestMachines(t *testing.T) {
	b := estate.NewBuilder()
	for _, name := range []string{"a", "b"} {
		b.StartFile(name + "/etc/security/faillock.conf")
		at := estate.Place{Name: name, Kind: estate.Machine}
		m := b.At(at)
		m.Platform = setting.UnixMachine
		deny := estate.Fact{Value: setting.Number(20), Cite: estate.Cite{File: name + "/etc/security/faillock.conf", Line: 3, Where: "deny",
			Raw: "20"}}
		m.Head = &estate.Policy{Name: "machine", Origin: name + "/etc", Standing: estate.Enforced, Platform: setting.UnixMachine,
			Settings: estate.Settings{"lockout-threshold": deny, "max-age": {Value: setting.Number(365 * aDay)}}, Cite: deny.Cite}
		row := func(dn string, line int, set int64) {
			b.Object(at, &estate.Record{Class: estate.Account, DN: []byte(dn), Name: []byte(dn), Line: line,
				Applied: [][]byte{[]byte(name + "/root")}[:1-line%2], PwdSet: uint32(set), MaxDays: uint32(90+275*(line%2)) + 1})
		}
		p := b.Override(at, []byte(name+"/root"), 9)
		p.Name, p.Platform, p.Settings = "root", setting.UnixMachine, estate.Settings{"lockout-threshold": deny,
			"max-age":          {Value: setting.Number(90 * aDay)},
			"inactive-disable": {Value: setting.Of(setting.Never), Cite: estate.Cite{File: name + "/etc/shadow", Line: 1, Where: "shadow field 7"}}}
		row("root", 2, 200*aDay)
		row("ada", 3, 350*aDay)
	}
	demands, err := baseline.Parse("t.yaml", []byte("id: t\ntitle: T\nversion: 1\nfor: {platforms: [unix-machine]}\ndemands:\n"+
		"- {setting: lockout-threshold, at-most: 5 failed attempts, specials: {never: fails}, severity: grave, why: w.}\n"+
		"- {setting: inactive-disable, at-most: 45 days, specials: {never: fails}, severity: minor, why: w.}\n"))
	if err != nil {
		t.Fatal(err)
	}
	w := &world{Estate: &estate.Estate{Authorities: b.Finish()}, choice: weigh.Choice{Baselines: func(*estate.Authority,
		string) []*baseline.Baseline {
		return []*baseline.Baseline{demands}
	}, Expect: check.Expectation{Age: func(string) int64 { return 0 }}}}
	p, before, s := w.planned(t)
	if got := told(p); !strings.HasPrefix(got, "A1 Lockout threshold of a: 20 failed attempts to 5 failed attempts\nA2 Disabled after expiry of "+
		"root: never disabled to 45 days") {
		t.Fatal(got)
	}
	lock, idle := p.Amendments[0], p.Amendments[1]
	if len(lock.Spots) != 2 || len(lock.Scopes) != 4 || lock.Accounts != 4 || lock.Severity != baseline.Minor || len(lock.Settles) != 4 ||
		len(idle.Spots) != 2 ||
		idle.Severity != baseline.Minor {
		t.Errorf("%d spots, %d scopes, %d accounts, %s, settles %d; %d spots, %s", len(lock.Spots), len(lock.Scopes), lock.Accounts,
			lock.Severity, len(lock.Settles),
			len(idle.Spots), idle.Severity)
	}
	then := Apply(w.Estate, p.Amendments)
	for i, a := range then.Authorities {
		if a.Head.Settings["lockout-threshold"].Value != setting.Number(5) ||
			a.Overrides[0].Settings["lockout-threshold"].Value != setting.Number(5) ||
			a.Overrides[0].Settings["inactive-disable"].Value != setting.Number(45*aDay) {
			t.Errorf("%s: %v %v", a.Name, a.Head.Settings, a.Overrides[0].Settings)
		}
		if w.Authorities[i].Head.Settings["lockout-threshold"].Value != setting.Number(20) {
			t.Errorf("%s was changed itself", a.Name)
		}
	}
	_, after := w.weighed(then)
	if ended, appeared := Compare(before, after); len(ended) != 6 || len(appeared) != 0 || len(Worse(before, after)) != 0 {
		t.Errorf("%d end, %v appear, worse %v", len(ended), appeared, Worse(before, after))
	}
	if worse := Worse(after, before); len(worse) != 6 || !strings.Contains(strings.Join(Texts(worse), "\n"),
		"a / machine, Lockout threshold (t): weak, now holds") {
		t.Errorf("backwards: %q", Texts(worse))
	}
	// root's password of day 200 ends after day 290; 45 days later it lets nobody in.
	for day, off := range map[int64]int{335: 0, 336: 2} {
		if x := NewPopulation(s).Touch(idle, day*aDay); x.Shut.AtOnce != off {
			t.Errorf("day %d: %d switched off, want %d", day, x.Shut.AtOnce, off)
		}
	}
	// What makes a verdict worse is a decision, and takes along what needs it.
	lock.Worse, idle.First = []string{"x: weak, now holds"}, []*Amendment{lock}
	if p.Part(); len(p.Amendments) != 0 || !strings.Contains(told(p), "decide: Lockout threshold of a to 5 failed attempts: it would make "+
		"another verdict worse") {
		t.Error(told(p))
	}
}

// The bits are those of userAccountControl (MS-ADTS 2.2.16).
func TestFlagsAreTheDirectorysBits(t *testing.T) {
	for flag, want := range map[estate.Flag]uint32{estate.NoneRequired: 0x20, estate.Reversible: 0x80, estate.NeverExpires: 0x10000,
		estate.NoPreauth: 0x400000, estate.Disabled: 0} {
		if got := Mask(flag); got != want || (flagTitle(flag) == "") != (want == 0) {
			t.Errorf("%s: %#x %q, want %#x", flag.Names(), got, flagTitle(flag), want)
		}
	}
}

// What several need comes once, and before all of them.
func TestWithFirst(t *testing.T) {
	last := &Amendment{Name: "A1"}
	one, two := &Amendment{Name: "A2", First: []*Amendment{last}}, &Amendment{Name: "A3", First: []*Amendment{last}}
	var names []string
	for _, a := range (&Amendment{Name: "A4", First: []*Amendment{one, two}}).WithFirst() {
		names = append(names, a.Name)
	}
	if !slices.Equal(names, []string{"A1", "A2", "A3", "A4"}) {
		t.Errorf("%q", names)
	}
}

// A value is set in the policies that the amendment's scopes have, of that place alone,
// and cited where it will stand; what was cited stays so.
func TestSet(t *testing.T) {
	was := estate.Cite{File: "old", Line: 7, Where: "here"}
	at := &estate.Authority{Name: "x", Kind: estate.Machine, Head: &estate.Policy{Name: "own"},
		Overrides: []estate.Policy{{Name: "p", Settings: estate.Settings{"min-length": {Value: setting.Number(8), Cite: was, Problem: "?",
			Remark: "odd"}}}, {Name: "q"}}}
	elsewhere := &estate.Authority{Name: "y", Kind: estate.Machine}
	Set(at, &Amendment{Setting: "min-length", To: setting.Number(14),
		Spots: []Spot{{Where: "minlen", Cite: estate.Cite{File: "new", Line: 3}}},
		Scopes: []*govern.Scope{{Authority: at, Policy: at.Head}, {Authority: at, Policy: &at.Overrides[0]}, {Authority: at},
			{Authority: elsewhere, Policy: &at.Overrides[1]}}})
	want := estate.Fact{Value: setting.Number(14), Cite: estate.Cite{File: "new", Line: 3, Where: "minlen"}}
	if got := at.Head.Settings["min-length"]; got != want {
		t.Errorf("of the head: %+v", got)
	}
	want.Cite = was
	if got := at.Overrides[0].Settings["min-length"]; got != want || at.Overrides[1].Settings != nil {
		t.Errorf("of policies: %+v, %+v", got, at.Overrides[1].Settings)
	}
}

// What is accepted neither ends nor appears.
func TestCompareLeavesOutWhatIsAccepted(t *testing.T) {
	found := func(all ...check.Finding) *weigh.Result { return &weigh.Result{Findings: all} }
	weak, waived := check.Finding{Fingerprint: "f", Kind: check.Weak}, check.Finding{Fingerprint: "f", Kind: check.Waived}
	for name, c := range map[string]struct {
		before, after   *weigh.Result
		ended, appeared int
	}{"stays": {found(weak), found(weak), 0, 0}, "ends": {found(weak), found(), 1, 0}, "appears": {found(), found(weak), 0, 1},
		"is accepted": {found(weak), found(waived), 1, 0}, "was accepted": {found(waived), found(weak), 0, 1},
		"accepted":       {found(waived), found(), 0, 0},
		"accepted later": {found(), found(waived), 0, 0}} {
		ended, appeared := Compare(c.before, c.after)
		if len(ended) != c.ended || len(appeared) != c.appeared {
			t.Errorf("%s: %d ended, %d appeared", name, len(ended), len(appeared))
		}
	}
}

// A record can say less of a finding than this version's checks do: nothing is planned
// for what it does not say.
func TestFindingsThatSayLess(t *testing.T) {
	w := small(t, "min-length 14; max-age 90 days", fmt.Sprintf(lengthOf, 14)+ageOf,
		func(b *estate.Builder, d *estate.Authority, _ *estate.Estate) {
			b.Object(d.Place(), &estate.Record{Class: estate.Account, DN: []byte("CN=ever,DC=x,DC=example"), Name: []byte("ever"),
				Line: 42, RID: 1202,
				Primary: 513, Flags: estate.NeverExpires | estate.HoldersShown | estate.AppliedShown})
			for i, n := range []int64{5, 5} {
				p := b.Override(d.Place(), fmt.Appendf(nil, "CN=p%d,CN=Password Settings Container,CN=System,DC=x,DC=example", i), 30+i)
				p.Name, p.Precedence, p.GUID = fmt.Sprintf("p%d", i), &n, estate.GUID{byte(9 - i)}
				b.Target(d.Place(), p, estate.Target{DN: "CN=u1,DC=x,DC=example", Cite: estate.Cite{File: "x.ldif", Line: 30 + i}})
			}
		})
	for name, c := range map[string]struct {
		less func(f *check.Finding)
		want []string
	}{
		"all": {func(*check.Finding) {}, []string{"A1 Password never expires (flag) of accounts: set to cleared",
			"A2 Precedence of p0: 5 to 6"}},
		"no evidence": {func(f *check.Finding) { f.Evidence = nil }, []string{"A1 Password never expires (flag) of accounts: set to cleared"}},
		"no accounts": {func(f *check.Finding) { f.Rows = nil }, []string{"A1 Precedence of p0: 5 to 6"}},
		"other lines": {func(f *check.Finding) {
			f.Evidence = []estate.Cite{{File: "elsewhere"}, {File: "elsewhere", Line: 1}}
		}, []string{"A1 Password never expires (flag) of accounts: set to cleared"}},
		"the first of two alone": {func(f *check.Finding) { f.Evidence = slices.Repeat(f.Evidence[:min(1, len(f.Evidence))], 2) },
			[]string{"A1 Password never expires (flag) of accounts: set to cleared", "A2 Precedence of p0: 5 to 6"}},
	} {
		s, r := w.weighed(w.Estate)
		for i := range r.Findings {
			c.less(&r.Findings[i])
		}
		whole := &record.Record{Places: w.Authorities, Result: r, SettersKnown: true}
		whole.Setters, whole.Unseen = s.Setters()
		p := New(whole, nil, nil)
		var got []string
		for _, a := range p.Amendments {
			got = append(got, fmt.Sprintf("%s %s of %s: %s to %s", a.Name, a.Title(), a.Spots[0].Policy(), a.Was(), a.Becomes()))
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}
