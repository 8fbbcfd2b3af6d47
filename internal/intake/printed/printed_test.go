package printed_test

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
	"sternledger/internal/intake/printed"
)

// The texts are what the tools of Samba 4.17 and of MIT Kerberos 1.20 printed.
const (
	domainText = "Password information for domain 'DC=quay,DC=example'\n\nPassword complexity: on\nStore plaintext passwords: off\n" +
		"Password history length: 24\nMinimum password length: 7\nMinimum password age (days): 1\nMaximum password age (days): 42\n" +
		"Account lockout duration (mins): 30\nAccount lockout threshold (attempts): 0\nReset account lockout after (mins): 30\n"
	policyText = "Password information for PSO 'Pilots P'\n\nPrecedence (lowest is best): 10\nPassword complexity: on\n" +
		"Store plaintext passwords: off\nPassword history length: 24\nMinimum password length: 14\nMinimum password age (days): 1\n" +
		"Maximum password age (days): 0\nAccount lockout duration (mins): 0\nAccount lockout threshold (attempts): 3\n" +
		"Reset account lockout after (mins): 30\n\n"
	appliesText = "PSO applies directly to 2 groups/users:\n  CN=Administrator,CN=Users,DC=quay,DC=example\n  CN=Domain " +
		"Admins,CN=Users,DC=quay,DC=example\n"
	crewText = "Policy: crew\nMaximum password life: 90 days 00:00:00\nMinimum password life: 1 day 00:00:00\nMinimum password length: " +
		"8\n" +
		"Minimum number of password character classes: 3\nNumber of old keys kept: 3\nMaximum password failures before lockout: 3\n" +
		"Password failure count reset interval: 0 days 00:10:00\nPassword lockout duration: 0 days 00:00:00\n"
	adaText = "Principal: ada@QUAY.EXAMPLE\nExpiration date: [never]\nLast password change: Thu Nov 26 11:33:35 UTC 2026\n" +
		"Password expiration date: [never]\nMaximum ticket life: 0 days 10:00:00\nNumber of keys: 1\nKey: vno 1, aes256-cts-hmac-sha1-96\n" +
		"MKey: vno 1\nAttributes: %s\nPolicy: %s\n"
)

func read(t testing.TB, format *intake.Format, path, text string) (*estate.Builder, string, error) {
	t.Helper()
	if !format.Detect(path, []byte(text)) {
		t.Fatalf("not recognised:\n%s", text)
	}
	b := estate.NewBuilder()
	b.StartFile(path)
	var kept bytes.Buffer
	err := format.Read(&intake.Source{Path: path, In: strings.NewReader(text), Keep: &kept, Differs: func() {}}, b)
	return b, kept.String(), err
}

func texts(s estate.Settings) string {
	var all []string
	for _, row := range setting.Table() {
		if f, ok := s[row.ID]; ok {
			all = append(all, fmt.Sprintf("%s %s%s", row.ID, row.Text(f.Value), f.Problem))
		}
	}
	return strings.Join(all, "; ")
}

func TestSambaTool(t *testing.T) {
	b, _, err := read(t, &printed.Format, "x.txt", domainText+policyText+appliesText)
	if err != nil {
		t.Fatal(err)
	}
	a := b.Finish()[0]
	if got, want := texts(a.Head.Settings), "min-length 7 characters; complexity on; history 24 passwords; max-age 42 days; min-age 1 day; "+
		"reversible off; "+
		"lockout-threshold never locks; lockout-duration 30 minutes; lockout-window 30 minutes"; got != want {
		t.Errorf("%s, want\n%s", got, want)
	}
	p := a.Overrides[0]
	if got, want := texts(p.Settings), "min-length 14 characters; complexity on; history 24 passwords; max-age never expires; min-age 1 "+
		"day; reversible off; "+
		"lockout-threshold 3 failed attempts; lockout-duration locks until an administrator unlocks; lockout-window 30 minutes"; got != want {
		t.Errorf("%s, want\n%s", got, want)
	}
	if a.Dialect != estate.Samba || *p.Precedence != 10 || len(p.Targets) != 2 || p.TargetsPart || a.Name != "quay.example" {
		t.Errorf("%+v %+v", a.Dialect, p)
	}
	// Whom a policy names may not be told.
	for tail, part := range map[string]bool{"": true, "Note: PSO does not apply to any users or groups.\n": false,
		strings.Split(appliesText, "  CN=Domain")[0]: true, "PSO applies to user via group membership.\n": true} {
		b, _, _ := read(t, &printed.Format, "x.txt", domainText+policyText+tail)
		if got := b.Finish()[0].Overrides[0].TargetsPart; got != part {
			t.Errorf("%q: %v", tail, got)
		}
	}
	if _, _, err := read(t, &printed.Format, "x.txt", policyText); err == nil || !strings.Contains(err.Error(), "domain that is not named") {
		t.Error(err)
	}
}

func TestPdbedit(t *testing.T) {
	text := ""
	for name, value := range map[string]string{"min password length": "5", "maximum password age": "4294967295",
		"lockout duration":    "4294967295",
		"bad lockout attempt": "4", "reset count minutes": "30", "password history": "0", "minimum password age": "86400",
		"disconnect time": "4294967295"} {
		text += fmt.Sprintf("account policy %q description: something\naccount policy %q value is: %s\n", name, name, value)
	}
	b, kept, err := read(t, &printed.Pdbedit, "in/Store1-pdbedit.txt", text)
	if err != nil {
		t.Fatal(err)
	}
	a := b.Finish()[0]
	if got, want := texts(a.Head.Settings), "min-length 5 characters; history 0 passwords; max-age never expires; min-age 1 day; "+
		"lockout-threshold 4 failed attempts; "+
		"lockout-duration locks until an administrator unlocks; lockout-window 30 minutes; logoff-at-hours-end off"; got != want ||
		a.Name != "store1" {
		t.Errorf("%s: %s, want\n%s", a.Name, got, want)
	}
	if strings.Contains(kept, "something") {
		t.Error(kept)
	}
}

func TestKadmin(t *testing.T) {
	whole := crewText + fmt.Sprintf(adaText, "REQUIRES_PRE_AUTH", "crew") + fmt.Sprintf(strings.Replace(adaText, "ada@", "bo@", 1),
		"DISALLOW_ALL_TIX", "[none]") +
		fmt.Sprintf(strings.Replace(adaText, "ada@", "host/quay1@", 1), "", "crew")
	b, kept, err := read(t, &printed.Kadmin, "x.txt", whole)
	if err != nil {
		t.Fatal(err)
	}
	a := b.Finish()[0]
	if got, want := texts(a.Overrides[0].Settings), "min-length 8 characters; classes-required 3 classes; history 3 passwords; max-age 90 "+
		"days; "+
		"min-age 1 day; lockout-threshold 3 failed attempts; lockout-duration locks until an administrator unlocks; lockout-window 10 "+
		"minutes"; got != want {
		t.Errorf("%s, want\n%s", got, want)
	}
	o := a.Objects
	if a.Name != "quay.example" || a.Accounts != 2 || a.Managed != 1 || o.FlagsOf(0)&^estate.AppliedShown != 0 ||
		o.FlagsOf(1)&^estate.AppliedShown != estate.Disabled|estate.NoPreauth ||
		o.Applied.At(0) == 0 || o.Applied.At(1) != 0 || a.Head.Name != "no policy" || o.PwdSet.At(0) == 0 {
		t.Errorf("%s %d %d %v %v %+v", a.Name, a.Accounts, a.Managed, o.FlagsOf(0), o.FlagsOf(1), a.Head)
	}
	if strings.Contains(kept, "aes256") {
		t.Error(kept)
	}
	if _, _, err := read(t, &printed.Kadmin, "x.txt", crewText); err == nil || !strings.Contains(err.Error(), "realm that is not named") {
		t.Error(err)
	}
	// A principal that was cut has neither a policy nor flags that are known.
	b, _, _ = read(t, &printed.Kadmin, "x.txt", crewText+"Principal: cy@QUAY.EXAMPLE\nExpiration date: [never]\n")
	a = b.Finish()[0]
	if a.Objects.FlagsOf(0)&estate.NoControl == 0 || a.Objects.Applied.At(0) == 0 || len(b.Problems) != 1 {
		t.Errorf("%v %v", a.Objects.FlagsOf(0), b.Problems)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(domainText + policyText + appliesText))
	f.Add([]byte(crewText + fmt.Sprintf(adaText, "", "[none]")))
	f.Add([]byte(`account policy "lockout duration" value is: 30`))
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, format := range []*intake.Format{&printed.Format, &printed.Pdbedit, &printed.Kadmin} {
			b := estate.NewBuilder()
			b.StartFile("x")
			if format.Read(&intake.Source{Path: "x", In: bytes.NewReader(data), Keep: io.Discard, Differs: func() {}}, b) == nil {
				b.Finish()
			}
		}
	})
}
