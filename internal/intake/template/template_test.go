package template

import (
	"bytes"
	"strings"
	"testing"

	"golang.org/x/text/encoding/unicode"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
	"sternledger/internal/redact"
)

func readFile(path, text string, beside map[string]string) (b *estate.Builder, kept string, err error) {
	b = estate.NewBuilder()
	b.StartFile("x.inf")
	var keep bytes.Buffer
	err = Format.Read(&intake.Source{Path: path, In: strings.NewReader(text), Keep: &keep, Differs: func() {},
		Beside: func(name string) []byte { return []byte(beside[name]) }}, b)
	return b, keep.String(), err
}

const export = `[Unicode]
Unicode=yes
[System Access]
MinimumPasswordAge = 0
MaximumPasswordAge = -1
MinimumPasswordLength = 15
LockoutBadCount = 5
ResetLockoutCount = 15
LockoutDuration = -1
ClearTextPassword = 0
NewAdministratorName = "Wägemeister"
[Kerberos Policy]
MaxTicketAge = 10
[Registry Values]
MACHINE\System\CurrentControlSet\Control\Lsa\NoLMHash=4,1
MACHINE\System\CurrentControlSet\Control\SAM\RelaxMinimumPasswordLengthLimits=4,0
`

func utf16(t *testing.T, order unicode.Endianness, text string) string {
	t.Helper()
	out, err := unicode.UTF16(order, unicode.UseBOM).NewEncoder().String(text)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func TestMachineInAllEncodings(t *testing.T) {
	for name, text := range map[string]string{
		"UTF-8": export, "UTF-8 with mark": "\xef\xbb\xbf" + export, "CRLF": strings.ReplaceAll(export, "\n", "\r\n"),
		"UTF-16LE": utf16(t, unicode.LittleEndian, export), "UTF-16BE": utf16(t, unicode.BigEndian, export),
		"code page": strings.ReplaceAll(export, "ä", "\xe4"),
	} {
		b, kept, err := readFile("exports/Weigh1.inf", text, nil)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		a := b.Finish()[0]
		if strings.Count(kept, "\n") != strings.Count(export, "\n") || !strings.Contains(kept, "[not kept]") || a.Name != "weigh1" ||
			a.Kind != estate.Machine || len(b.Problems) != 0 {
			t.Errorf("%s: %s %s, %+v", name, a.Name, a.Kind, b.Problems)
		}
		for id, want := range map[setting.ID]setting.Value{
			"min-age": setting.Of(setting.AtOnce), "max-age": setting.Of(setting.Never), "min-length": setting.Number(15),
			"lockout-threshold": setting.Number(5), "lockout-window": setting.Number(900), "lockout-duration": setting.Of(setting.UntilAdmin),
			"reversible": setting.Off, "ticket-lifetime": setting.Number(36000), "lm-hash-stored": setting.Off, "length-limit-relaxed": setting.Off,
		} {
			if got := a.Head.Settings[id]; got.Value != want {
				t.Errorf("%s: %s is %+v, want %+v", name, id, got, want)
			}
		}
		if c := a.Head.Settings["lockout-threshold"].Cite; c.Line != 7 || c.Where != "LockoutBadCount" || c.Raw != "5" {
			t.Errorf("%s: cited as %+v", name, c)
		}
	}
}

func TestStoreAndBackup(t *testing.T) {
	const inf = "[System Access]\nMinimumPasswordLength = 12\n"
	const xml = `<?xml version="1.0" encoding="utf-16"?><BackupInst><GPOGuid><![CDATA[{7a0c1d52-3e64-4b0b-9c55-0d1f2a3b4c5d}]]>` +
		`</GPOGuid><GPODomain>x.example</GPODomain><ID>{0}</ID><GPODisplayName>Quay &amp; Locks</GPODisplayName></BackupInst>`
	for _, c := range []struct {
		path               string
		beside             map[string]string
		guid, domain, name string
		stored             string
	}{
		{"sysvol/x.example/Policies/{31b2f340-016d-11d2-945f-00c04fb984f9}/MACHINE/Microsoft/Windows NT/SecEdit/gpttmpl.inf", nil,
			"{31B2F340-016D-11D2-945F-00C04FB984F9}", "x.example", "{31B2F340-016D-11D2-945F-00C04FB984F9}", "template-31B2F340.inf"},
		{`store\Policies\{31B2F340-016D-11D2-945F-00C04FB984F9}\Machine\Microsoft\Windows NT\SecEdit\GptTmpl.inf`, nil,
			"{31B2F340-016D-11D2-945F-00C04FB984F9}", "", "{31B2F340-016D-11D2-945F-00C04FB984F9}", "template-31B2F340.inf"},
		{"backup/{11111111-016D-11D2-945F-00C04FB984F9}/DomainSysvol/GPO/Machine/Microsoft/Windows NT/SecEdit/GptTmpl.inf",
			map[string]string{"../../../../../../bkupInfo.xml": xml}, "{7A0C1D52-3E64-4B0B-9C55-0D1F2A3B4C5D}", "x.example",
			"Quay & Locks", "template-11111111.inf"},
	} {
		b, _, err := readFile(c.path, inf, c.beside)
		if err != nil || len(b.Templates) != 1 || len(b.Finish()) != 0 {
			t.Fatalf("%s: %v, %+v", c.path, err, b.Templates)
		}
		got := b.Templates[0]
		if got.GUID != c.guid || got.Domain != c.domain || got.Policy.Name != c.name || got.Policy.Standing != estate.Configured ||
			got.Policy.Settings["min-length"].Value != setting.Number(12) {
			t.Errorf("%s: %+v", c.path, got)
		}
		if !detect(c.path, nil) || templateFile.stored(c.path) != c.stored {
			t.Errorf("%s: stored as %s", c.path, templateFile.stored(c.path))
		}
	}
	if b, _, err := readFile(`Policies/{31B2F340-016D-11D2-945F-00C04FB984F9}/Machine/Microsoft/Windows NT/SecEdit/GptTmpl.inf`,
		"[Privilege Rights]\nSeX = *S-1\n", nil); err != nil || len(b.Templates[0].Policy.Settings) != 0 {
		t.Errorf("a template without account settings configures none: %v", err)
	}
}

func TestDamagedTemplates(t *testing.T) {
	for _, c := range []struct{ text, say string }{
		{"[Unicode]\nUnicode=yes\n", "no section [System Access]"},
		{"[System Access\n", "section name"},
		{"[System Access]\nMinimumPassw", "KEY = VALUE"},
		{"\xff\xfe[", "cut"},
	} {
		if _, _, err := readFile("x.inf", c.text, nil); err == nil || !strings.Contains(err.Error(), c.say) {
			t.Errorf("%q: %v", c.text, err)
		}
	}
	for _, c := range []struct{ line, say string }{
		{"LockoutBadCount = -3", "outside"}, {"MinimumPasswordLength = 900", "outside"}, {"PasswordComplexity = 2", "neither 0 nor 1"},
		{"MaximumPasswordAge = long", "not a whole number"}, {"Unheard = 1", "does not know"},
		{"[Registry Values]\nMACHINE\\System\\CurrentControlSet\\Control\\Lsa\\NoLMHash=1,\"x\"", "registry number"},
	} {
		b, _, err := readFile("x.inf", "[System Access]\n"+c.line+"\n", nil)
		if err != nil || len(b.Problems) != 1 || !strings.Contains(b.Problems[0].Text, c.say) {
			t.Errorf("%s: %v %+v", c.line, err, b.Problems)
		}
	}
}

func TestSecretsInRegistryValues(t *testing.T) {
	text := export + `MACHINE\Software\Microsoft\Windows NT\CurrentVersion\Winlogon\DefaultPassword=1,"TopSecret"` + "\n"
	for _, form := range []string{text, utf16(t, unicode.LittleEndian, text)} {
		_, kept, err := readFile("x.inf", form, nil)
		if err != nil || strings.Contains(kept, "TopSecret") || strings.Contains(kept, "T\x00o\x00p\x00") ||
			!strings.Contains(kept, redact.Struck) {
			t.Errorf("%v: %q", err, kept)
		}
		if strings.Count(kept, "\n") != strings.Count(text, "\n") {
			t.Error("the copy has other lines")
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(export)
	f.Add("\xff\xfe[\x00S\x00")
	f.Add("[Registry Values]\nMACHINE\\x=7,a,b\n[System Access]\nLockoutDuration = -1\n")
	f.Fuzz(func(_ *testing.T, text string) {
		if b, _, err := readFile("x.inf", text, nil); err == nil {
			b.Finish()
		}
	})
}
