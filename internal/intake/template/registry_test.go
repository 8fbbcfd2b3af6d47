package template_test

import (
	"bytes"
	"encoding/binary"
	"io"
	"strings"
	"testing"

	"golang.org/x/text/encoding/unicode"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
	"sternledger/internal/intake/template"
)

const (
	lsa    = `System\CurrentControlSet\Control\Lsa`
	laps   = `Software\Microsoft\Windows\CurrentVersion\Policies\LAPS`
	admpwd = `Software\Policies\Microsoft Services\AdmPwd`
)

func utf16Of(text string) string {
	out, _ := unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM).NewEncoder().String(text)
	return out
}

// pol writes a policy's registry file (MS-GPREG 2.2.1).
func pol(entries ...any) string {
	var b bytes.Buffer
	b.WriteString("PReg\x01\x00\x00\x00")
	for i := 0; i < len(entries); i += 3 {
		var data []byte
		kind := uint32(1)
		if n, ok := entries[i+2].(int); ok {
			kind, data = 4, binary.LittleEndian.AppendUint32(nil, uint32(n))
		} else {
			data = []byte(utf16Of(entries[i+2].(string) + "\x00"))
		}
		b.WriteString(utf16Of("[" + entries[i].(string) + "\x00;" + entries[i+1].(string) + "\x00;"))
		_ = binary.Write(&b, binary.LittleEndian, kind)
		b.WriteString(utf16Of(";"))
		_ = binary.Write(&b, binary.LittleEndian, uint32(len(data)))
		b.WriteString(utf16Of(";") + string(data) + utf16Of("]"))
	}
	return b.String()
}

// A policy's registry file and its template are one; what is not read is not kept.
func TestRegistryPol(t *testing.T) {
	const place = "quay.example/Policies/" + policyID + "/"
	text := pol(`Software\Harbour\Mail`, "Password", "Tide-Lamp-7", lsa, "NoLMHash", 1, laps, "BackupDirectory", 2, laps, "PasswordLength", 20,
		laps, "PasswordAgeDays", 30, laps, "PasswordComplexity", 4)
	inf := inf([]written{{"System Access", "MinimumPasswordLength", "14", "", ""}})
	for _, first := range []string{"pol", "inf"} {
		b := estate.NewBuilder()
		var kept string
		for _, what := range map[string][]string{"pol": {"pol", "inf"}, "inf": {"inf", "pol"}}[first] {
			if what == "pol" {
				kept = gathered(t, b, &template.RegistryPol, place+"Machine/Registry.pol", text)
			} else {
				gathered(t, b, &template.Format, place+"Machine/Microsoft/Windows NT/SecEdit/GptTmpl.inf", inf)
			}
		}
		got := b.Templates[0]
		if len(b.Templates) != 1 || !got.Registry || got.Part || len(b.Problems) != 0 || len(got.Policy.Settings) != 6 ||
			got.Policy.Settings["managed-admin"].Value != setting.Word("directory") ||
			got.Policy.Settings["managed-admin-age"].Value != setting.Number(30*86400) ||
			got.Policy.Settings["lm-hash-stored"].Value != setting.Off || got.Policy.Settings["lm-hash-stored"].Cite.Line != 2 {
			t.Errorf("%s first: %+v %v", first, got, b.Problems)
		}
		if strings.Contains(kept, utf16Of("Tide-Lamp")) || !strings.Contains(kept, utf16Of("[struck out]")) {
			t.Errorf("kept %q", kept)
		}
		b = estate.NewBuilder()
		gathered(t, b, &template.RegistryPol, place+"Machine/Registry.pol", kept)
		if again := b.Templates[0].Policy.Settings; len(again) != 5 || again["managed-admin-classes"].Value != setting.Number(4) ||
			again["managed-admin-length"].Value != setting.Number(20) {
			t.Errorf("the copy says %v", again)
		}
	}
	b := estate.NewBuilder()
	gathered(t, b, &template.RegistryPol, place+"Machine/Registry.pol", pol(admpwd, "AdmPwdEnabled", 1, admpwd, "PasswordAgeDays", 9999,
		laps, "BackupDirectory", "x"))
	s := b.Templates[0].Policy.Settings
	if s["managed-admin"].Problem == "" || s["managed-admin-age"].Problem == "" {
		t.Errorf("%+v", s)
	}
	if template.RegistryPol.Detect("quay.example/Policies/"+policyID+"/User/Registry.pol", []byte(text)) {
		t.Error("the user's half is taken for the machine's")
	}
	for wrong, say := range map[string]string{text[:len(text)-9]: ":6: ", text[:9]: `:1: no "["`, text: "outside of the policy's folder"} {
		file := place + "Machine/Registry.pol"
		if wrong == text {
			file = "Registry.pol"
		}
		err := template.RegistryPol.Read(&intake.Source{Path: file, In: strings.NewReader(wrong), Keep: io.Discard, Differs: func() {},
			Beside: func(string) []byte { return nil }}, estate.NewBuilder())
		if err == nil || !strings.Contains(err.Error(), say) {
			t.Errorf("%v, want %s", err, say)
		}
	}
}

// What the registry editor exports is the machine's, and joined with its other exports.
func TestRegistryFile(t *testing.T) {
	text := "Windows Registry Editor Version " +
		"5.00\r\n\r\n[HKEY_LOCAL_MACHINE\\SYSTEM\\CurrentControlSet\\Control\\Lsa]\r\n\"NoLMHash\"=dword:00000000\r\n" +
		"\"LimitBlankPasswordUse\"=dword:00000001\r\n\"Secret\"=\"Tide-Lamp-7\"\r\n\"Packages\"=hex(7):6d,00,\\\r\n  " +
		"73,00\r\n\r\n[HKEY_CURRENT_USER\\Lsa]\r\n\"NoLMHash\"=dword:00000001\r\n"
	for _, form := range []string{text, "\xff\xfe" + utf16Of(text)} {
		b := estate.NewBuilder()
		kept := gathered(t, b, &template.RegistryFile, "in/Weigh1.reg", form)
		gathered(t, b, &template.Format, "in/weigh1.inf", "[System Access]\r\nMinimumPasswordLength = 9\r\n")
		a := b.Finish()[0]
		if got := values(a.Head.Settings); a.Name != "weigh1" || len(got) != 3 || got["lm-hash-stored"] != "on" ||
			got["blank-password-console-only"] != "on" || len(b.Problems) != 0 {
			t.Errorf("%s %v %v", a.Name, got, b.Problems)
		}
		if strings.Contains(kept, "Tide") || strings.Contains(kept, "6d,00") || strings.Count(kept, "\n") != strings.Count(text, "\n") {
			t.Errorf("kept %q", kept)
		}
	}
}

func FuzzRegistry(f *testing.F) {
	f.Add([]byte(pol(lsa, "NoLMHash", 1, `Software\X`, "y", "z")))
	f.Add([]byte(preferences(prefers("U", lsa, "NoLMHash", "00000000"), `<Collection disabled="1">`+prefers("D", lsa, "NoLMHash",
		"")+`</Collection>`)))
	f.Add([]byte("REGEDIT4\n[HKEY_LOCAL_MACHINE\\SYSTEM\\CurrentControlSet\\Control\\Lsa]\n\"NoLMHash\"=dword:00000001\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		for path, format := range map[string]*intake.Format{"q.example/" + policyID + "/Machine/Registry.pol": &template.RegistryPol,
			"m.reg": &template.RegistryFile, "q.example/" + policyID + "/Machine/Preferences/Registry/Registry.xml": &template.Preferences} {
			b := estate.NewBuilder()
			b.StartFile("x")
			var kept bytes.Buffer
			src := &intake.Source{Path: path, In: bytes.NewReader(data), Keep: &kept, Differs: func() {}, Beside: func(string) []byte { return nil }}
			if format.Read(src, b) != nil {
				continue
			}
			again := estate.NewBuilder()
			again.StartFile("x")
			if err := format.Read(&intake.Source{Path: path, In: &kept, Keep: io.Discard, Differs: func() {}, Beside: src.Beside},
				again); err != nil {
				t.Errorf("the copy is not read: %v", err)
			}
		}
	})
}
