package ldif

import (
	"bytes"
	"encoding/base64"
	"errors"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"golang.org/x/text/encoding/unicode"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
)

// readText reads an export from a string, and returns the copy that is kept.
func readText(text string) (b *estate.Builder, kept string, err error) {
	b = estate.NewBuilder()
	b.StartFile("x.ldif")
	var keep bytes.Buffer
	err = read(&intake.Source{Path: "x.ldif", In: strings.NewReader(text), Keep: &keep, Differs: func() {}}, b)
	return b, keep.String(), err
}

const head = "dn: DC=x,DC=example\nobjectClass: domainDNS\nobjectSid: S-1-5-21-1-2-3\nminPwdLength: 10\nmaxPwdAge: " +
	"-25920000000000\nminPwdAge: 0\nlockoutThreshold: 3\nlockoutDuration: -9223372036854775808\nlockOutObservationWindow: " +
	"-18000000000\npwdHistoryLength: 24\npwdProperties: 17\nforceLogoff: -9223372036854775808\n"

func TestHead(t *testing.T) {
	b, _, err := readText("version: 1\n\n" + head)
	if err != nil {
		t.Fatal(err)
	}
	a := b.Finish()[0]
	for id, want := range map[setting.ID]struct {
		v    setting.Value
		line int
	}{
		"min-length": {setting.Number(10), 6}, "max-age": {setting.Number(30 * 86400), 7}, "min-age": {setting.Of(setting.AtOnce), 8},
		"lockout-threshold": {setting.Number(3), 9}, "lockout-duration": {setting.Of(setting.UntilAdmin), 10},
		"lockout-window": {setting.Number(1800), 11}, "history": {setting.Number(24), 12},
		"complexity": {setting.On, 13}, "reversible": {setting.On, 13}, "lockout-administrator": {setting.Off, 13},
		"logoff-at-hours-end": {setting.Off, 14},
	} {
		if f := a.Head.Settings[id]; f.Value != want.v || f.Cite.Line != want.line || f.Cite.File != "x.ldif" {
			t.Errorf("%s: %+v, want %+v", id, f, want)
		}
	}
	if a.Name != "x.example" || a.SID != "S-1-5-21-1-2-3" || a.Dialect != "" {
		t.Errorf("%s %s %s", a.Name, a.SID, a.Dialect)
	}
}

func wide(text string) string {
	out, _ := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(text)
	return out
}

// Whatever form the same facts come in, they are the same facts.
// unneeded are lines of which the copy keeps only that they were there.
var unneeded = regexp.MustCompile(`(?m)^(#|description:|name:|cn:|sn:|ou:|whenChanged:|distinguishedName:|instanceType:|` +
	`uSN\w+:|objectCategory:|[a-zA-Z]+Timestamp:) ?[^\r\n]*((?:\r?\n [^\r\n]*)*)`)

// withMarks is what is kept of a text.
func withMarks(text string) string {
	return unneeded.ReplaceAllStringFunc(text, func(line string) string {
		m := unneeded.FindStringSubmatch(line)
		return m[1] + " [not kept]" + regexp.MustCompile(`\n [^\r\n]*`).ReplaceAllString(m[2], "\n ")
	})
}

func TestFormsOfOneExport(t *testing.T) {
	plain := head + "\ndn: CN=G,DC=x,DC=example\nobjectClass: group\ngroupType: -2147483646\nmember: CN=Ämilie " +
		"Long-Name,OU=Office,DC=x,DC=example\nobjectSid: S-1-5-21-1-2-3-1101\n\n" +
		"dn: CN=Ämilie Long-Name,OU=Office,DC=x,DC=example\nobjectClass: user\nsAMAccountName: a.long\nuserAccountControl: " +
		"66048\nprimaryGroupID: 513\nservicePrincipalName: a/b\ndescription: the last line\n"
	for name, text := range map[string]string{
		"as it is":         plain,
		"CRLF":             strings.ReplaceAll(plain, "\n", "\r\n"),
		"no final newline": strings.TrimSuffix(plain, "\n"),
		"byte-order mark":  "\xef\xbb\xbf" + plain,
		"folded":           strings.ReplaceAll(plain, "Long-Name", "Long\n -Name"),
		"comments": "# made by hand\n#  and\n  folded\n" + strings.ReplaceAll(plain, "objectClass: user",
			"objectClass: user\n# here too"),
		"base64": strings.ReplaceAll(plain, "member: CN=Ämilie Long-Name,OU=Office,DC=x,DC=example",
			"member:: Q049w4RtaWxpZSBMb25nLU5hbWUsT1U9T2ZmaWNlLERDPXgsREM9ZXhhbXBsZQ=="),
		"other case":        strings.ReplaceAll(strings.ReplaceAll(plain, "member:", "MEMBER:"), "member: CN=Ämilie", "member: cn=ämilie"),
		"escaped":           strings.ReplaceAll(plain, "member: CN=Ämilie", `member: CN=\C3\84milie`),
		"ranged":            strings.ReplaceAll(plain, "member:", "member;range=0-*:"),
		"binary SID":        strings.ReplaceAll(plain, "objectSid: S-1-5-21-1-2-3-1101", "objectSid:: AQUAAAAAAAUVAAAAAQAAAAIAAAADAAAATQQAAA=="),
		"referral":          plain + "\nref: ldap:///CN=Configuration,DC=x,DC=example\n",
		"search result":     plain + "\n# search result\nsearch: 2\nresult: 0 Success\n",
		"written as change": strings.ReplaceAll(plain, "objectClass: user", "changetype: add\nobjectClass: user"),
		"DNS partition":     plain + "\ndn: DC=DomainDnsZones,DC=x,DC=example\nobjectClass: domainDNS\n",
		"UTF-16":            wide(plain),
		"in two records":    plain + "\ndn: CN=ämilie long-name,OU=Office,DC=x,DC=example\nobjectClass: user\ndisplayName: Ä\n",
	} {
		b, kept, err := readText(text)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		all := b.Finish()
		if len(all) != 1 {
			t.Errorf("%s: %d authorities", name, len(all))
			continue
		}
		a, o := all[0], all[0].Objects
		if want := withMarks(text); kept != want && name != "UTF-16" {
			t.Errorf("%s: the copy is %q, want %q", name, kept, want)
		}
		if a.Accounts != 1 || a.Groups != 1 || !slices.Equal(slices.Collect(o.GroupsOf(1)), []int{0}) || o.RID.At(0) != 1101 ||
			o.FlagsOf(1)&^estate.CutShort != estate.NeverExpires|estate.ServiceName || o.Primary.At(1) != 513 || o.Name.At(1) != "a.long" {
			t.Errorf("%s: %d accounts, %d groups, groups %v, rid %d, flags %b", name, a.Accounts, a.Groups, slices.Collect(o.GroupsOf(1)),
				o.RID.At(0), o.FlagsOf(1))
		}
		if len(a.Problems) != 0 || len(b.Problems) != 0 && name != "no final newline" {
			t.Errorf("%s: problems %+v %+v", name, a.Problems, b.Problems)
		}
	}
}

func TestClassesAndFlags(t *testing.T) {
	for _, c := range []struct {
		attributes string
		class      estate.Class
		flags      estate.Flag
	}{
		{"objectClass: user\nuserAccountControl: 514", estate.Account, estate.Disabled},
		{"objectClass: inetOrgPerson\nuserAccountControl: 544", estate.Account, estate.NoneRequired},
		{"userAccountControl: 640", estate.Account, estate.Reversible},
		{"objectClass: user\nuserAccountControl: 4456960", estate.Account, estate.SmartCard | estate.NoPreauth},
		{"objectClass: user\nobjectClass: computer\nuserAccountControl: 4096", estate.Computer, estate.NeverOverride},
		{"objectClass: user\nuserAccountControl: 2080", estate.Account, estate.NoneRequired | estate.NeverOverride},
		{"objectClass: user\nuserAccountControl: 514\nobjectSid: S-1-5-21-1-2-3-502", estate.Account, estate.Disabled | estate.NeverOverride},
		{"objectClass: user\nobjectClass: computer\nobjectClass: msDS-GroupManagedServiceAccount\nuserAccountControl: 4096",
			estate.Managed, estate.NeverOverride},
		{"objectClass: user\nuserAccountControl: 512\nadminCount: 1\nlockoutTime: 133500000000000000", estate.Account,
			estate.AdminCount | estate.LockedNow},
		{"objectClass: group\nobjectSid: S-1-5-32-544", estate.Group, estate.BuiltinDomain},
		{"objectClass: contact", estate.Other, 0},
	} {
		b, _, err := readText("dn: CN=x,DC=x,DC=example\n" + c.attributes + "\n\n")
		if err != nil {
			t.Fatal(err)
		}
		o := b.Finish()[0].Objects
		if o.ClassOf(0) != c.class || o.FlagsOf(0)&^(estate.NoPrimary|estate.MembersPart) != c.flags {
			t.Errorf("%q: class %d flags %b, want %d %b", c.attributes, o.ClassOf(0), o.FlagsOf(0), c.class, c.flags)
		}
	}
}

func TestPoliciesUnitsAndContainers(t *testing.T) {
	b, _, err := readText(strings.Replace(head, "minPwdLength", "gPLink: [LDAP://CN={31b2f340-016d-11d2-945f-00c04fb984f9},CN=Policies,CN=System,DC=x,DC=example;2][LDAP://cn={7A0C1D52-3E64-4B0B-9C55-0D1F2A3B4C5D},cn=p;1]\noEMInformation: Provisioned by SAMBA 4.17\nminPwdLength", 1) + `
dn: CN=P,CN=Password Settings Container,CN=System,DC=x,DC=example
objectClass: msDS-PasswordSettings
objectGUID:: AAECAwQFBgcICQoLDA0ODw==
msDS-PasswordSettingsPrecedence: 10
msDS-MinimumPasswordLength: 200
msDS-PasswordComplexityEnabled: FALSE
msDS-LockoutThreshold: 0
msDS-PSOAppliesTo: CN=G,DC=x,DC=example
msDS-PSOAppliesTo: OU=U,DC=x,DC=example

dn: CN=Password Settings Container,CN=System,DC=x,DC=example
objectClass: msDS-PasswordSettingsContainer

dn: OU=U,DC=x,DC=example
objectClass: organizationalUnit
gPOptions: 1

dn: CN={31B2F340-016D-11D2-945F-00C04FB984F9},CN=Policies,CN=System,DC=x,DC=example
objectClass: groupPolicyContainer
displayName: Default
flags: 2
gPCFunctionalityVersion: 1
versionNumber: 65536

dn: CN=Ada,OU=U,DC=x,DC=example
objectClass: user
msDS-ResultantPSO: CN=Gone,CN=Password Settings Container,CN=System,DC=x,DC=example
`)
	if err != nil {
		t.Fatal(err)
	}
	a := b.Finish()[0]
	p := a.Overrides[0]
	if p.Name != "P" || *p.Precedence != 10 || p.GUID[0] != 0 || p.GUID[15] != 15 || p.Settings["min-length"].Value != setting.Number(200) ||
		p.Settings["complexity"].Value != setting.Off || !p.Settings["lockout-threshold"].Value.Is(setting.Never) {
		t.Errorf("policy: %+v", p)
	}
	if len(p.Targets) != 2 || a.Holds(p.Targets[0].Object) || a.DN(p.Targets[0].Object) != "CN=G,DC=x,DC=example" ||
		!a.Holds(p.Targets[1].Object) || a.DN(p.Targets[1].Object) != "OU=U,DC=x,DC=example" {
		t.Errorf("targets: %+v", p.Targets)
	}
	if a.Dialect != estate.Samba || a.DialectCite.Where != "oEMInformation" {
		t.Errorf("dialect %s from %+v", a.Dialect, a.DialectCite)
	}
	root, unit := a.Units[0], a.Units[1]
	if !root.Root || len(root.Links) != 2 || !root.Links[0].Enforced || !root.Links[1].Disabled ||
		root.Links[0].GUID != "{31B2F340-016D-11D2-945F-00C04FB984F9}" || !unit.Blocked {
		t.Errorf("units: %+v", a.Units)
	}
	if c := a.Containers[0]; c.Name != "Default" || !c.MachineOff || !c.Unapplied || !c.NeverChanged() || !c.Whole {
		t.Errorf("container: %+v", c)
	}
	if len(a.Policies) != 1 || a.Policies[0].Known || !a.AnswerGiven || !a.PoliciesLie {
		t.Errorf("a policy that only an account points at: %+v", a.Policies)
	}
}

// An account that may not read the container of policies is shown its name; that
// is no proof that there are no policies.
func TestContainerOfPolicies(t *testing.T) {
	const dn = "\ndn: CN=Password Settings Container,CN=System,DC=x,DC=example\n"
	for more, lie := range map[string]bool{"": false, "changetype: add\n": false, "cn: Password Settings Container\n": true,
		"changetype: add\nname: x\n": true, "objectClass: top\nobjectClass: msDS-PasswordSettingsContainer\n": true} {
		b, kept, err := readText(head + dn + more)
		if err != nil {
			t.Fatal(err)
		}
		again, _, err := readText(kept)
		if err != nil {
			t.Fatal(err)
		}
		if is, still := b.Finish()[0].PoliciesLie, again.Finish()[0].PoliciesLie; is != lie || still != lie {
			t.Errorf("%q: %v, and of the stored copy %v, want %v", more, is, still, lie)
		}
	}
}

// So it is with a unit: a name alone tells nothing of what is linked there.
func TestUnitByNameAlone(t *testing.T) {
	for more, units := range map[string]int{"": 1, "changetype: add\n": 1, "ou: Quays\n": 2} {
		b, _, err := readText(head + "\ndn: OU=Quays,DC=x,DC=example\n" + more)
		if err != nil {
			t.Fatal(err)
		}
		if got := len(b.Finish()[0].Units); got != units {
			t.Errorf("%q: %d units, want %d", more, got, units)
		}
	}
}

// A module that checks passwords further is known by its name only.
func TestCheckModule(t *testing.T) {
	for attribute, want := range map[string]string{"pwdCheckModule: check.so": "check.so", "pwdUseCheckModule: TRUE": "TRUE",
		"pwdUseCheckModule: FALSE": "", "pwdCheckQuality: 2": ""} {
		b, _, err := readText("dn: cn=p,ou=policies,dc=club,dc=example\nobjectClass: pwdPolicy\npwdAttribute: userPassword\npwdMinLength: 9\n" +
			attribute + "\n")
		if err != nil {
			t.Fatal(err)
		}
		p := b.Finish()[0].Overrides[0]
		switch {
		case want == "" && p.Asks != nil:
			t.Errorf("%s: %+v", attribute, p.Asks)
		case want != "" && (p.Asks == nil || p.Asks.Module != want || p.Asks.Cite.Line != 5):
			t.Errorf("%s: %+v", attribute, p.Asks)
		}
	}
}

func TestSecretsAreStruckOut(t *testing.T) {
	for _, name := range append(slices.Clone(secrets), "USERPASSWORD", "unicodepwd;binary") {
		text := "dn: CN=Ada,DC=x,DC=example\nobjectClass: user\n" + name + ":: U2VjcmV0UGFz\n c3dvcmQ=\nsAMAccountName: ada\r\n" +
			name + ": SecretPassword\n"
		b, kept, err := readText(text)
		if err != nil {
			t.Fatal(err)
		}
		for _, piece := range []string{"U2VjcmV0", "c3dvcmQ", "SecretPassword"} {
			if strings.Contains(kept, piece) {
				t.Errorf("%s: %q is in the copy: %q", name, piece, kept)
			}
		}
		if strings.Count(kept, "\n") != strings.Count(text, "\n") {
			t.Errorf("%s: the copy has other lines: %q", name, kept)
		}
		if a := b.Finish()[0]; a.Objects.Name.At(0) != "ada" {
			t.Errorf("%s: what follows a secret is lost", name)
		}
		if _, _, err := readText(kept); err != nil {
			t.Errorf("%s: the copy cannot be read again: %v", name, err)
		}
	}
}

func TestDamagedExports(t *testing.T) {
	for _, c := range []struct {
		text string
		line int
		say  string
	}{
		{head + "\ndn: CN=a,DC=x,DC=example\njpegPhoto:: QUJDRA", 15, "middle of a base64 value"},
		{head + "\ndn:: !!!!\nobjectClass: user\n", 14, "cannot be decoded"},
		{head + "\ndn: CN=a,DC=x,DC=example\nsAMAcc", 15, "attribute: value"},
		{" continued\n", 1, "before it"},
		{head + "\nsAMAccountName: ada\n", 14, "outside any entry"},
		{"dn: CN=a,DC=x,DC=example\ndescription:< file:///etc/passwd\n", 2, "URL"},
		{"dn: CN=a,DC=x,DC=example\nchangetype: modify\nreplace: minPwdLength\nminPwdLength: 1\n", 2, "change record"},
		{"dn: CN=a,DC=x,DC=example\nobjectClass: printQueue\n", 0, "without a domain's head"},
		{"version: 1\n", 0, "without a domain's head"},
		{head + "dn: CN=a,DC=x,DC=example\nobjectClass: user\n", 13, "a second \"dn:\""},
		{"objectClass: user\ndn: CN=a,DC=x,DC=example\n", 2, "a second \"dn:\""},
	} {
		_, _, err := readText(c.text)
		var e *intake.Error
		if !errors.As(err, &e) || !errors.Is(err, intake.ErrDamaged) || e.Line != c.line || !strings.Contains(err.Error(), c.say) {
			t.Errorf("%q: %v; want line %d, %q", c.text, err, c.line, c.say)
		}
	}
	long := "dn: CN=a,DC=x,DC=example\ndescription: " + strings.Repeat("x", maxLine+1)
	if _, _, err := readText(long); err == nil || !strings.Contains(err.Error(), "16 MiB") {
		t.Errorf("an endless line: %v", err)
	}
}

// Cut at any byte, an export gives an error or facts, and never a panic.
func TestCutAnywhere(t *testing.T) {
	data, err := os.ReadFile("../../../demo/exports/yard.ldif")
	if err != nil {
		t.Fatal(err)
	}
	_, whole, err := readText(string(data))
	if err != nil {
		t.Fatal(err)
	}
	refused := 0
	for n := range data {
		b, kept, err := readText(string(data[:n]))
		if err != nil {
			refused++
			continue
		}
		if strings.Count(kept, "\n") != bytes.Count(data[:n], []byte("\n")) ||
			!strings.HasPrefix(whole, strings.TrimSuffix(kept[:strings.LastIndexByte("\n"+kept, '\n')], "\n")) {
			t.Fatalf("cut at %d: the copy is not what was read: %q", n, kept)
		}
		b.Finish()
	}
	if refused < 300 {
		t.Errorf("only %d cuts were noticed", refused)
	}
}

func TestDamagedValues(t *testing.T) {
	for _, c := range []struct{ attribute, say string }{
		{"lockoutThreshold: -3", "outside what the platform allows"},
		{"minPwdLength: 70000", "outside what the platform allows"},
		{"minPwdLength: ten", "not a whole number"},
		{"lockoutDuration: 1800", "positive"},
		{"pwdProperties: -1", "not a set of bits"},
		{"msDS-PasswordComplexityEnabled: yes", "neither TRUE nor FALSE"},
	} {
		b, _, err := readText("dn: DC=x,DC=example\nobjectClass: domainDNS\npwdHistoryLength: 24\n" + c.attribute + "\n")
		if err != nil {
			t.Fatal(err)
		}
		if len(b.Problems) == 0 || !b.Problems[0].Damaged || b.Problems[0].Cite.Line != 4 || !strings.Contains(b.Problems[0].Text, c.say) {
			t.Errorf("%s: %+v; want %q", c.attribute, b.Problems, c.say)
		}
	}
	b, _, _ := readText("dn: CN=G,DC=x,DC=example\nobjectClass: group\nmember;range=0-1: CN=a,DC=x,DC=example\n\nresult: 4 Size " +
		"limit exceeded\n")
	if b.Finish(); len(b.Problems) != 1 || !strings.Contains(b.Problems[0].Text, "result 4") {
		t.Errorf("a search that ended early: %+v", b.Problems)
	}
	b, _, _ = readText("dn: DC=x,DC=example\nobjectClass: domainDNS\nobjectSid: S-1-5-21-1-2-3\n")
	if b.Finish(); len(b.Problems) != 1 || !b.Problems[0].Damaged {
		t.Errorf("a head without settings: %+v", b.Problems)
	}
}

func TestDetect(t *testing.T) {
	for text, want := range map[string]bool{
		"dn: DC=x": true, "\xef\xbb\xbfversion: 1\n": true, "# a\n#b\n\ndn:: QQ==": true, "# extended LDIF\n#\n  more\nversion: 1": true,
		"\xff\xfed\x00n\x00:\x00": true, "\x89PNG\r\n\x1a\n": false, "[Unicode]\nUnicode=yes": false, "name,dn: x": false, "": false,
	} {
		if detect("x", []byte(text)) != want {
			t.Errorf("%q: want %v", text, want)
		}
	}
}

// FuzzRead: whatever comes, the reader ends with facts or with an error, the
// copy keeps the lines, and no secret passes.
func FuzzRead(f *testing.F) {
	f.Add(head + "\ndn: CN=a,DC=x,DC=example\nobjectClass: user\nunicodePwd:: c2VjcmV0\n x\n")
	f.Add("version: 1\n\ndn:: REM9eA==\nobjectClass: group\nmember;range=0-1499: CN=a,DC=x\n")
	f.Add("dn: DC=x\nobjectClass: domainDNS\ngPLink: [LDAP://{;0]\nlockoutDuration: -1\r\n\r\nref: ldap:///x")
	if demo, err := os.ReadFile("../../../demo/exports/marrowick.ldif"); err == nil {
		f.Add(string(demo[:min(len(demo), 8000)]))
	}
	f.Fuzz(func(t *testing.T, text string) {
		b, kept, err := readText(text)
		if err != nil {
			return
		}
		if strings.Count(kept, "\n") != strings.Count(text, "\n") {
			t.Errorf("the copy has other lines")
		}
		for again, n := text, 0; n < 2; n++ { // with --keep-all; and what that kept, once more
			var keep bytes.Buffer
			src := &intake.Source{Path: "x.ldif", In: strings.NewReader(again), Keep: &keep, Differs: func() {}, KeepAll: true}
			into := estate.NewBuilder()
			into.StartFile("x.ldif")
			if err := read(src, into); err != nil && n == 1 {
				break // of what is left of a few lines nothing may be understood
			} else if err != nil || strings.Count(keep.String(), "\n") != strings.Count(text, "\n") {
				t.Fatalf("with all kept: %v\n%q", err, keep.String())
			}
			if n == 1 && keep.String() != again {
				t.Errorf("what was kept is kept otherwise:\n%q\n%q", again, keep.String())
			}
			again = keep.String()
		}
		for _, a := range b.Finish() {
			for row := range a.Objects.Len() {
				a.DN(row)
			}
		}
	})
}

// What looks like a secret, or like a mark, does not make a member or a service
// disappear: silence would be taken for a proof.
func TestLooksTakeNothingAway(t *testing.T) {
	for _, name := range []string{"{SSHA}Crew", "[not kept]", "x [struck out]", "$6$a$bcdef"} {
		text := head + "\ndn: CN=G,DC=x,DC=example\nobjectClass: group\ngroupType: -2147483646\nmember: CN=" + name +
			",DC=x,DC=example\nobjectSid: S-1-5-21-1-2-3-1101\n\n" +
			"dn: CN=" + name + ",DC=x,DC=example\nobjectClass: user\nsAMAccountName: crew\nuserAccountControl: 512\nprimaryGroupID: " +
			"513\nservicePrincipalName: {SSHA}abcdef\ndisplayName: {SSHA}abcdef\n"
		b, kept, err := readText(text)
		if err != nil {
			t.Fatal(err)
		}
		o := b.Finish()[0].Objects
		if !slices.Equal(slices.Collect(o.GroupsOf(1)), []int{0}) || o.FlagsOf(1)&estate.ServiceName == 0 {
			t.Errorf("%s: groups %v, flags %b", name, slices.Collect(o.GroupsOf(1)), o.FlagsOf(1))
		}
		if strings.Contains(kept, "abcdef") || strings.Count(kept, "\n") != strings.Count(text, "\n") {
			t.Errorf("%s: the copy: %s", name, kept)
		}
	}
}

func FuzzCSV(f *testing.F) {
	f.Add([]byte("DN,objectClass,sAMAccountName,member\r\n\"CN=a,DC=x,DC=example\",top;group,a,\"CN=b\\\\;c,DC=x,DC=example;CN=d,DC=x,DC=example\"\r\n"))
	f.Add([]byte("DN;objectSid;userAccountControl\n\"CN=a,DC=x,DC=example\";X'0105';512"))
	f.Fuzz(func(t *testing.T, data []byte) {
		b := estate.NewBuilder()
		b.StartFile("x.csv")
		if readCSV(&intake.Source{Path: "x.csv", In: bytes.NewReader(data), Keep: &bytes.Buffer{}, Differs: func() {}}, b) == nil {
			b.Finish()
		}
	})
}

// A secret shows itself by all lines of its value together, and in base64, also under a
// name that is read: neither the copy nor the facts have any of it.
func TestSecretsOfSeveralLines(t *testing.T) {
	const user = "\ndn: CN=Ada,DC=x,DC=example\nobjectClass: user\nsAMAccountName: ada\nuserAccountControl: 512\nprimaryGroupID: 513\n"
	b64 := base64.StdEncoding.EncodeToString([]byte("{SSHA}0123456789abcdefghij"))
	for in, want := range map[string]string{
		"displayName: Ada\n  of the Quay\n":                   "displayName: Ada\n  of the Quay\n",
		"displayName: {SS\n HA}0123456789\n abcdefghij\n":     "displayName: [struck out]\n \n \n",
		"displayName: {SS\r\n HA}0123456789abcdefghij\r\n":    "displayName: [struck out]\r\n \r\n",
		"displayName: {SS\n HA}0123456789abcdefghij":          "displayName: [struck out]\n ",
		"displayName: {SSHA}012\n 3456789\nmail: x\n":         "displayName: [struck out]\n \nmail: [not kept]\n",
		"displayName:: " + b64 + "\n":                         "displayName: [struck out]\n",
		"displayName:: " + b64[:10] + "\n " + b64[10:] + "\n": "displayName: [struck out]\n \n",
		"displayName:: w4lkaXRo\n":                            "displayName:: w4lkaXRo\n",
		"displayName:: w4lk\n aXRo\n":                         "displayName:: w4lk\n aXRo\n",
		"displayName: " + strings.Repeat("a quay\n ", mostJudged/5) + "end\nmail: x\n": "displayName: [struck out]\n" +
			strings.Repeat(" \n", mostJudged/5) + "mail: [not kept]\n",
		"servicePrincipalName: ldap://me:Fat\n hom1948@host/x\n": "servicePrincipalName: [struck out]\n \n",
		"userPrincipalName: ada@\n x.example\n":                  "userPrincipalName: ada@\n x.example\n",
		"displayName: " + strings.Repeat("a quay\n ", 4_000) + "{SS\n HA}0123456789abcdefghij\n": "displayName: [struck out]\n" +
			strings.Repeat(" \n", 4_001),
	} {
		for _, all := range []bool{false, true} {
			var kept bytes.Buffer
			src := &intake.Source{Path: "x.ldif", In: strings.NewReader(head + user + in), Keep: &kept, Differs: func() {}, KeepAll: all}
			b := estate.NewBuilder()
			b.StartFile("x.ldif")
			if err := read(src, b); err != nil {
				t.Errorf("%.60q: %v", in, err)
				continue
			}
			got := strings.TrimPrefix(kept.String(), head+user)
			if all {
				got = strings.ReplaceAll(got, "mail: x", "mail: [not kept]")
			}
			if got != want {
				t.Errorf("of %.60q is kept\n%.200q, want\n%.200q", in, got, want)
			}
			o := b.Finish()[0].Objects
			if text := o.Display.At(0) + o.Principal.At(0); strings.ContainsAny(text, "{}") {
				t.Errorf("%.60q: the facts have %q", in, text)
			}
		}
	}
	b, kept, err := readText(strings.Replace(head, "minPwdLength: 10", "minPwdLength: 1\n 0Fathom-1948-quay", 1))
	if err != nil || strings.Contains(kept, "Fathom") || !strings.Contains(kept, "minPwdLength: [struck out]\n \n") {
		t.Errorf("a setting: %v\n%s", err, kept)
	}
	for _, x := range append(b.Finish()[0].Problems, b.Problems...) {
		if strings.Contains(x.Text+x.Cite.Raw, "Fathom") {
			t.Errorf("a message tells it: %s", x.Text)
		}
	}
}

// With --keep-all a value is kept whole, or gives way as a whole: what it is, is told by
// all of its lines together, and each of its lines stays a line.
func TestKeepAllJudgesWholeValues(t *testing.T) {
	const hash = "$6$quay$0123456789abcdefghijklmnopqrstuv"
	b64 := base64.StdEncoding.EncodeToString
	long := strings.Repeat("a quay, ", 5_000) // over several buffers
	folded := strings.ReplaceAll(long, "quay", "qu\n ay")
	for _, c := range []struct{ in, want string }{
		{"info: a quay\n", "info: a quay\n"},
		{"info: a qu\n ay\ncomment: two\n", "info: a qu\n ay\ncomment: two\n"},
		{"info:\n a quay\n", "info:\n a quay\n"},
		{"info: " + hash + "\n", "info: [struck out]\n"},
		{"info: " + hash[:9] + "\n " + hash[9:20] + "\n " + hash[20:] + "\nx: 1\n", "info: [struck out]\n \n \nx: 1\n"},
		{"info: " + hash[:9] + "\r\n " + hash[9:] + "\r\n", "info: [struck out]\r\n \r\n"},
		{"info: " + hash[:9] + "\n " + hash[9:], "info: [struck out]\n "},
		{"info: token=Bol\n lard7 quay\n", "info: token=[struck out] quay\n \n"},
		{"info:: " + b64([]byte("Schleuse für Boote")) + "\n", "info:: " + b64([]byte("Schleuse für Boote")) + "\n"},
		{"info:: " + b64([]byte("Schleuse für Boote"))[:7] + "\n " + b64([]byte("Schleuse für Boote"))[7:] + "\n",
			"info:: " + b64([]byte("Schleuse für Boote"))[:7] + "\n " + b64([]byte("Schleuse für Boote"))[7:] + "\n"},
		{"info:: " + b64([]byte(hash)) + "\n", "info: [struck out]\n"},
		{"info:: " + b64([]byte(hash))[:8] + "\n " + b64([]byte(hash))[8:] + "\n", "info: [struck out]\n \n"},
		{"info:: " + b64([]byte("one\x00two")) + "\n", "info: [not kept]\n"},
		{"info:: " + b64([]byte("\xff\xfe\xfd")) + "\n", "info: [not kept]\n"},
		{"info:: a?bc\n", "info: [not kept]\n"},
		{"info: [not kept]\n", "info: [not kept]\n"},
		{"unicodePwd:: abcd\n efgh\n", "unicodePwd: [struck out]\n \n"},
		{"# a com\n ment\n", "# a com\n ment\n"},
		{"# password=\n Bollard7\n", "# password=[struck out]\n \n"},
		{"info: " + folded + "\nx: 1\n", "info: " + folded + "\nx: 1\n"},
		{"info: " + folded + hash + "\n", "info: [struck out]\n" + strings.Repeat(" \n", 5_000)},
		{"info: " + strings.Repeat("a quay\n ", mostJudged/5) + "end\nx: 1\n", "info: [not kept]\n" +
			strings.Repeat(" \n", mostJudged/5) + "x: 1\n"},
	} {
		for _, before := range []string{head, "\xef\xbb\xbf# a quay\n" + head} {
			var kept bytes.Buffer
			src := &intake.Source{Path: "x.ldif", In: strings.NewReader(before + c.in), Keep: &kept, Differs: func() {}, KeepAll: true}
			into := estate.NewBuilder()
			into.StartFile("x.ldif")
			if err := read(src, into); err != nil {
				t.Errorf("%.60q: %v", c.in, err)
			} else if got := strings.TrimPrefix(kept.String(), before); got != c.want {
				t.Errorf("of %.60q is kept\n%.200q, want\n%.200q", c.in, got, c.want)
			}
		}
	}
	_, copied, err := readText("\xef\xbb\xbf# password=Bollard7\n" + head)
	if err != nil || copied != "\xef\xbb\xbf# [not kept]\n"+head {
		t.Errorf("kept: %q %v", copied, err)
	}
}

// Every attribute that the specification gives to what decides (MS-ADSC) is read, or stands here
// with the reason why it does not matter. One that is in neither list could limit a rule unseen.
func TestEveryAttributeIsKnown(t *testing.T) {
	const notOfUsers = "it is of the user's half of a policy"
	neutral := map[string]string{
		"gPCUserExtensionNames":            notOfUsers,
		"creationTime":                     "when, and not what",
		"modifiedCount":                    "how often, and not what",
		"modifiedCountAtLastProm":          "how often, and not what",
		"serverState":                      "of domains before Active Directory",
		"serverRole":                       "of domains before Active Directory",
		"uASCompat":                        "of LAN Manager; servers take it for off",
		"nextRid":                          "a counter",
		"auditingPolicy":                   "what is logged",
		"pekList":                          "keys; it is struck out",
		"pekKeyChangeInterval":             "how often keys change",
		"lSACreationTime":                  "when, and not what",
		"lSAModifiedCount":                 "how often, and not what",
		"desktopProfile":                   "unused",
		"builtinCreationTime":              "when, and not what",
		"builtinModifiedCount":             "how often, and not what",
		"controlAccessRights":              "unused",
		"defaultLocalPolicyObject":         "unused",
		"domainPolicyObject":               "unused",
		"eFSPolicy":                        "encryption of files",
		"rIDManagerReference":              "where identifiers are given out",
		"treeName":                         "a name",
		"dnsRoot":                          "a name",
		"ms-DS-MachineAccountQuota":        "who may join machines",
		"msDS-LogonTimeSyncInterval":       "how exact the last sign-in is told",
		"msDS-PerUserTrustQuota":           "who may make trusts",
		"msDS-AllUsersTrustQuota":          "who may make trusts",
		"msDS-PerUserTrustTombstonesQuota": "who may make trusts",
		"msDS-TrustForestTrustInfo":        "of trusts, which objects of trusted domains tell",
		"msDS-EnabledFeature":              "features that concern no password",
		"nTMixedDomain":                    "of domains before 2003; the functional level says more",
		"privateKey":                       "a key",
		"replicaSource":                    "replication",
		"pwdProperties":                    "", "minPwdLength": "", "minPwdAge": "", "maxPwdAge": "", "pwdHistoryLength": "", "lockoutThreshold": "", "lockoutDuration": "",
		"lockOutObservationWindow": "", "forceLogoff": "", "oEMInformation": "", "gPLink": "", "gPOptions": "", "msDS-Behavior-Version": "", "objectSid": "",
		"msDS-PasswordHistoryLength": "", "msDS-PasswordSettingsPrecedence": "", "msDS-PasswordReversibleEncryptionEnabled": "",
		"msDS-PasswordComplexityEnabled": "", "msDS-MinimumPasswordLength": "", "msDS-MinimumPasswordAge": "", "msDS-MaximumPasswordAge": "",
		"msDS-LockoutThreshold": "", "msDS-LockoutObservationWindow": "", "msDS-LockoutDuration": "", "msDS-PSOAppliesTo": "",
		"flags": "", "versionNumber": "", "gPCFunctionalityVersion": "", "gPCFileSysPath": "", "gPCMachineExtensionNames": "", "gPCWQLFilter": "",
		"displayName": "", "nTSecurityDescriptor": "", "objectGUID": "", "isDeleted": "", "isRecycled": "",
	}
	read := map[string]bool{}
	for _, names := range named {
		for _, name := range names {
			read[strings.ToLower(name)] = true
		}
	}
	for _, name := range SettingAttributes() {
		read[strings.ToLower(name)] = true
	}
	for name, why := range neutral {
		if read[strings.ToLower(name)] != (why == "") {
			t.Errorf("%s: read %v, and the reason why it does not matter is %q", name, read[strings.ToLower(name)], why)
		}
	}
}

// Whatever ends its lines, and in whatever order its bytes are, with a mark or without.
func TestLineEndsAndOrders(t *testing.T) {
	text := head + "\ndn: CN=Ada,DC=x,DC=example\nobjectClass: user\nsAMAccountName: ada\nuserAccountControl: 512\n"
	wide := func(order unicode.Endianness) string {
		out, err := unicode.UTF16(order, unicode.IgnoreBOM).NewEncoder().String(text)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	for name, raw := range map[string]string{"LF": text, "CRLF": strings.ReplaceAll(text, "\n", "\r\n"), "CR": strings.ReplaceAll(text, "\n", "\r"),
		"UTF-16LE": wide(unicode.LittleEndian), "UTF-16BE": wide(unicode.BigEndian)} {
		b, kept, err := readText(raw)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if a := b.Finish()[0]; a.Accounts != 1 || a.Head == nil || len(a.Head.Settings) == 0 {
			t.Errorf("%s: %d accounts, %+v", name, a.Accounts, a.Head)
		}
		if again, _, err := readText(kept); err != nil || again.Finish()[0].Accounts != 1 {
			t.Errorf("%s: the stored copy: %v", name, err)
		}
	}
}
