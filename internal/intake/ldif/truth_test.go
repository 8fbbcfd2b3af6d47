package ldif

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
)

// domainOfOne is a domain with one account; %s are further attributes of its head, of the
// account, and further entries.
const domainOfOne = `dn: DC=q,DC=example
objectClass: domainDNS
objectSid: S-1-5-21-1-2-3
minPwdLength: 8
maxPwdAge: -36288000000000
lockoutThreshold: 5
lockoutDuration: -18000000000
pwdProperties: 1
%s
dn: CN=Password Settings Container,CN=System,DC=q,DC=example
objectClass: msDS-PasswordSettingsContainer

dn: CN=Domain Admins,CN=Users,DC=q,DC=example
objectClass: group
sAMAccountName: Domain Admins
objectSid: S-1-5-21-1-2-3-512
groupType: -2147483646
member:
memberOf:

dn: CN=ada,CN=Users,DC=q,DC=example
objectClass: user
sAMAccountName: ada
primaryGroupID: 513
%s
%s`

const (
	plainAda   = "objectSid: S-1-5-21-1-2-3-1001\nuserAccountControl: 512\n"
	adaWindow  = "lockOutObservationWindow: -18000000000\n"
	policyHead = "objectClass: msDS-PasswordSettings\nmsDS-PasswordSettingsPrecedence: 1\nmsDS-MinimumPasswordLength: 20\n" +
		"msDS-LockoutThreshold: 3\nmsDS-PSOAppliesTo: CN=ada,CN=Users,DC=q,DC=example\nobjectGUID:: AAAAAAAAAAAAAAAAAAAAAQ==\n"
	inContainer = "dn: CN=Strict,CN=Password Settings Container,CN=System,DC=q,DC=example\n" + policyHead
)

// What governs an account is what a directory does, and not what its entries look like. Each
// case was tried on a real directory, or has its document beside it.
func TestWhatDirectoriesDo(t *testing.T) {
	for name, c := range map[string]struct {
		head, account, more string
		samba               bool
		want                map[setting.ID]string // "-" stands for missing
	}{
		"as it stands":                         {adaWindow, plainAda, "", false, map[setting.ID]string{"min-length": "8 characters", "lockout-threshold": "5 failed attempts"}},
		"the built-in administrator is spared": {adaWindow, "objectSid: S-1-5-21-1-2-3-500\nuserAccountControl: 512\n", "", false, map[setting.ID]string{"lockout-threshold": "never locks"}},
		"under a policy of its own, too":       {adaWindow, "objectSid: S-1-5-21-1-2-3-500\nuserAccountControl: 512\n", inContainer, false, map[setting.ID]string{"min-length": "20 characters", "lockout-threshold": "never locks"}},
		"whether it is is not known": {adaWindow, "objectSid: S-1-5-21-1-2-3-500\nuserAccountControl: 512\n", "\x00", false,
			map[setting.ID]string{"lockout-threshold": "-", "min-length": "8 characters"}},
		"a policy":                              {adaWindow + "msDS-Behavior-Version: 3\n", plainAda, inContainer, false, map[setting.ID]string{"min-length": "20 characters", "lockout-threshold": "3 failed attempts"}},
		"a policy below the level of 2008":      {adaWindow + "msDS-Behavior-Version: 2\n", plainAda, inContainer, false, map[setting.ID]string{"min-length": "8 characters"}},
		"a policy outside its container":        {adaWindow, plainAda, "dn: CN=Strict,CN=Users,DC=q,DC=example\n" + policyHead, false, map[setting.ID]string{"min-length": "8 characters"}},
		"its class in base64":                   {adaWindow, plainAda, strings.Replace(inContainer, "objectClass: msDS-PasswordSettings", "objectClass:: bXNEUy1QYXNzd29yZFNldHRpbmdz", 1), false, map[setting.ID]string{"min-length": "20 characters"}},
		"a window of one tick":                  {"lockOutObservationWindow: -1\n", plainAda, "", false, map[setting.ID]string{"lockout-window": "every failure starts the count again"}},
		"an age of a day, Samba":                {adaWindow + "oEMInformation: Samba\nmaxPwdAge: -864000000000\n", plainAda, "", true, map[setting.ID]string{"max-age": "never expires"}},
		"a card is asked for":                   {adaWindow, "objectSid: S-1-5-21-1-2-3-1001\nuserAccountControl: 262656\n", "", false, map[setting.ID]string{"max-age": "never expires"}},
		"neither TRUE nor FALSE is no evidence": {adaWindow, plainAda, strings.Replace(inContainer, "msDS-MinimumPasswordLength: 20", "msDS-MinimumPasswordLength: x", 1), false, map[setting.ID]string{"min-length": "-"}},
	} {
		head := c.head
		text := fmt.Sprintf(domainOfOne, head, c.account, strings.Trim(c.more, "\x00"))
		if c.more == "\x00" {
			text = strings.Replace(text, "pwdProperties: 1\n", "", 1)
		}
		if strings.Contains(head, "maxPwdAge") {
			text = strings.Replace(text, "maxPwdAge: -36288000000000\n", "", 1)
		}
		b := estate.NewBuilder()
		b.StartFile("x.ldif")
		if err := Format.Read(&intake.Source{Path: "x.ldif", In: strings.NewReader(text), Keep: io.Discard, Differs: func() {}}, b); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		a := b.Finish()[0]
		s := govern.NewSurvey(&estate.Estate{Authorities: []*estate.Authority{a}}, func(*estate.Authority) estate.Dialect {
			return map[bool]estate.Dialect{true: estate.Samba, false: estate.Windows}[c.samba]
		}, nil)
		for row := range a.Objects.Len() {
			if a.Objects.Name.At(row) != "ada" {
				continue
			}
			scope, _ := s.ScopeOf(0, row)
			held := govern.WithFlags(scope.Settings, a, row)
			for id, want := range c.want {
				got := "-"
				if e := held[id]; e.Missing == govern.Present {
					got = setting.Get(id).Text(e.Value)
				}
				if got != want {
					t.Errorf("%s: %s is %s, want %s", name, id, got, want)
				}
			}
		}
	}
}

// "range=0-0" is the first name of a list in pieces of one, or what a search for changes says
// was taken out.
func TestFirstOfAListOrTakenOut(t *testing.T) {
	const object = "\ndn: CN=%[1]s,DC=x,DC=example\nobjectClass: user\nsAMAccountName: %[1]s\nuserAccountControl: 512\n"
	for pieces, want := range map[string]string{
		"0-0 ada":                 "not whole",
		"0-0 ada, 1-* bo":         "ada bo",
		"0-0 ada, 1-1 bo":         "bo not whole",
		"0-0 ada, 1-1 bo, 2-* cy": "ada bo cy",
		"0-0 ada, 0-0 bo, 1-1 cy": "cy not whole",
		"1-1 ada":                 "ada not whole",
		"0-1 ada, 0-1 bo, 2-* cy": "ada bo cy",
	} {
		text := head + "\ndn: CN=G,DC=x,DC=example\nobjectClass: group\ngroupType: -2147483646\n"
		for _, piece := range strings.Split(pieces, ", ") {
			bounds, name, _ := strings.Cut(piece, " ")
			text += fmt.Sprintf("member;range=%s: CN=%s,DC=x,DC=example\n", bounds, name)
		}
		for _, name := range []string{"ada", "bo", "cy"} {
			text += fmt.Sprintf(object, name)
		}
		b, _, err := readText(text)
		if err != nil {
			t.Fatal(err)
		}
		a := b.Finish()[0]
		var got []string
		for row := range a.Objects.Len() {
			if slices.Contains(slices.Collect(a.Objects.GroupsOf(row)), 0) {
				got = append(got, a.Objects.Name.At(row))
			}
		}
		slices.Sort(got)
		if a.Objects.FlagsOf(0)&estate.MembersPart != 0 {
			got = append(got, "not whole")
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s: %s, want %s", pieces, strings.Join(got, " "), want)
		}
	}
}
