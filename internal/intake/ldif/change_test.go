package ldif

import (
	"bytes"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// Whatever an entry is called and holds, a change record says it on lines of its own,
// and is read back as it was meant.
func FuzzChanges(f *testing.F) {
	f.Add("CN=a,DC=x", "8", "14", "of \"x\"")
	f.Add("CN=a\nchangetype: delete,DC=x", " 8", "14\n-\ndelete: member", "\ndn: DC=x")
	f.Add(":<", "\x00", "ö", "\r\n\r\ndn: x")
	f.Add("", "", " ", "")
	f.Fuzz(func(t *testing.T, dn, old, text, comment string) {
		e := []Entry{{dn, []Modification{{"minPwdLength", text, old, false, false}, {"pwdMaxAge", text, "", true, false},
			{"maxPwdAge", text, "", false, true}}, []string{comment}}}
		change, undo := Changes(e, []string{comment})
		read := func(file []byte) (records [][]string) {
			if err := eachRecord(bytes.NewReader(file), func(lines []string) {
				var kept []string
				for _, l := range lines {
					if !strings.HasPrefix(l, "#") {
						kept = append(kept, l)
					}
				}
				if len(kept) > 0 {
					records = append(records, kept)
				}
			}); err != nil {
				t.Fatal(err)
			}
			return records
		}
		for _, x := range []struct {
			file        []byte
			lines       int
			first, want string
		}{{change, 11, text, text}, {undo, 7, old, ""}} {
			records := read(x.file)
			if len(records) != 1 || len(records[0]) != x.lines {
				t.Fatalf("%d records, want one of %d lines:\n%s", len(records), x.lines, x.file)
			}
			if name, got, ok := attributeOf(records[0][0]); !ok || name != "dn" || got != dn && !strings.HasPrefix(dn, got) {
				t.Fatalf("%q is read back as %q", dn, got)
			}
			if _, got, ok := attributeOf(records[0][3]); !ok || got != x.first {
				t.Fatalf("%q is read back as %q", x.first, got)
			}
		}
	})
}

// Settings come to the attributes that hold them, with what switches them on.
func TestModify(t *testing.T) {
	n := setting.Number
	for name, c := range map[string]struct {
		kind  Kind
		edit  Edit
		now   map[string]string
		whole bool
		want  string // attribute=new(old) …; - for an edit that is left
	}{
		"a head's length": {DomainHead, Edit{Setting: "min-length", To: n(14)}, map[string]string{"minpwdlength": "8"}, true,
			"minPwdLength=14(8)"},
		"a bit, and those of others": {DomainHead, Edit{Setting: "complexity", To: setting.On}, map[string]string{"pwdproperties": "16"},
			true, "pwdProperties=17(16)"},
		"a bit taken off": {DomainHead, Edit{Setting: "reversible", To: setting.Off}, map[string]string{"pwdproperties": "17"},
			true, "pwdProperties=1(17)"},
		"a bit of what was not read": {DomainHead, Edit{Setting: "complexity", To: setting.On}, map[string]string{}, false, "-"},
		"never": {FineGrained, Edit{Setting: "max-age", To: setting.Of(setting.Never)},
			map[string]string{"msds-maximumpasswordage": "-1"}, true, "msDS-MaximumPasswordAge=-9223372036854775808(-1)"},
		"a precedence": {FineGrained, Edit{Precedence: true, To: n(7)},
			map[string]string{"msds-passwordsettingsprecedence": "5"}, true, "msDS-PasswordSettingsPrecedence=7(5)"},
		"no precedence of a head": {DomainHead, Edit{Precedence: true, To: n(7)}, nil, true, "-"},
		"a threshold that is off": {PwdPolicy, Edit{Setting: "lockout-threshold", To: n(5)}, map[string]string{"pwdlockout": "FALSE",
			"pwdmaxfailure": "3"}, true, "pwdLockout=TRUE(FALSE) pwdMaxFailure=5(3)"},
		"a length that nobody checks": {PwdPolicy, Edit{Setting: "min-length", To: n(12)}, map[string]string{"pwdminlength": "12"}, true,
			"pwdCheckQuality=2(absent)"},
		"a server's age that is off": {ServerPolicy, Edit{Setting: "max-age", To: n(7776000)}, map[string]string{"passwordexp": "off"}, true,
			"passwordExp=on(off) passwordMaxAge=7776000(absent)"},
		"no lock at all": {ServerPolicy, Edit{Setting: "lockout-threshold", To: setting.Of(setting.Never)},
			map[string]string{"passwordlockout": "on"}, true, "passwordLockout=off(on)"},
		"until an administrator": {ServerPolicy, Edit{Setting: "lockout-duration", To: setting.Of(setting.UntilAdmin)},
			map[string]string{"passwordunlock": "on"}, true, "passwordUnlock=off(on)"},
		"a duration": {ServerPolicy, Edit{Setting: "lockout-duration", To: n(900)},
			map[string]string{"passwordunlock": "off"}, false, "passwordUnlock=on(off) passwordLockoutDuration=900(unread)"},
		"a dictionary": {ServerPolicy, Edit{Setting: "dictionary-check", To: setting.Word("on")}, map[string]string{}, true,
			"passwordCheckSyntax=on(absent) passwordDictCheck=on(absent)"},
		"a realm's history": {RealmPolicy, Edit{Setting: "history", To: n(24)}, map[string]string{}, true,
			"krbPwdHistoryLength=24(absent)"},
		"what a realm has no name for": {RealmPolicy, Edit{Setting: "complexity", To: setting.On}, map[string]string{}, true, "-"},
	} {
		e, left := Modify(c.kind, "CN=x", []Edit{c.edit}, c.now, c.whole)
		var got []string
		for _, m := range e.Modifications {
			old := m.Old
			switch {
			case m.Absent:
				old = "absent"
			case m.Unread:
				old = "unread"
			}
			got = append(got, m.Attribute+"="+m.New+"("+old+")")
		}
		if len(left) > 0 {
			got = []string{"-"}
		}
		if text := strings.Join(got, " "); text != c.want {
			t.Errorf("%s: %s, want %s", name, text, c.want)
		}
	}
}

// What is applied to an export reads as what the directory would export then.
func TestApply(t *testing.T) {
	const export = "dn: DC=x,\n DC=example\nminPwdLength: 8\npwdProperties:: MQ==\n\ndn: CN=y,DC=x,DC=example\nminPwdLength: 3"
	entries := []Entry{{"dc=X,dc=example", []Modification{{"minPwdLength", "14", "8", false, false}, {"maxPwdAge", "0", "", true, false}}, nil}}
	var out bytes.Buffer
	if err := Apply(strings.NewReader(export), &out, entries); err != nil {
		t.Fatal(err)
	}
	found, err := EntriesOf(bytes.NewReader(out.Bytes()), []string{"DC=x,DC=example", "CN=y,DC=x,DC=example"})
	x, y := found[estate.NormalDN("DC=x,DC=example")], found[estate.NormalDN("CN=y,DC=x,DC=example")]
	if err != nil || x["minpwdlength"] != "14" || x["maxpwdage"] != "0" || x["pwdproperties"] != "1" || y["minpwdlength"] != "3" ||
		len(y) != 2 {
		t.Errorf("%v\n%s", err, out.String())
	}
}
