package template_test

import (
	"fmt"
	"io"
	"maps"
	"path"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
	"sternledger/internal/intake/template"
)

// preferences writes a policy's preferences for the registry (MS-GPPREF 2.2.1.12).
func preferences(items ...string) string {
	return "<?xml version=\"1.0\" encoding=\"utf-8\"?>\r\n<RegistrySettings clsid=\"{A3CCFC41-DFDB-43a5-8D26-0FE8B954DA51}\">\r\n" +
		strings.Join(items, "\r\n") + "\r\n</RegistrySettings>\r\n"
}

// prefers is one item; inside stands behind its properties.
func prefers(action, key, name, value string, inside ...string) string {
	return fmt.Sprintf("  <Registry clsid=\"{9CD4B2F4-923D-47f5-A062-E897DD1DAD50}\" name=\"%[3]s\" status=\"%[3]s\" image=\"12\">"+
		"<Properties action=\"%[1]s\" displayDecimal=\"0\" default=\"0\" hive=\"HKEY_LOCAL_MACHINE\" key=\"%[2]s\" name=\"%[3]s\" "+
		"type=\"REG_DWORD\" value=\"%[4]s\"/>%[5]s</Registry>", action, key, name, value, strings.Join(inside, ""))
}

const (
	removed      = "not set" + "preferences remove the value: what the system does without one is not modelled"
	preferenceAt = "quay.example/Policies/" + policyID + "/Machine/Preferences/Registry/Registry.xml"
	targeted     = `<Filters><FilterGroup bool="AND" not="0" name="QUAY\Crew" sid="S-1-5-21-1-2-3-1200"/></Filters>`
)

// What preferences set for certain is the template's; what hangs on a machine, or on what
// it had before, is not known. The copy says the same, and holds nothing that is not read.
func TestPreferences(t *testing.T) {
	off := strings.NewReplacer("<Registry ", `<Registry disabled="1" `)
	for name, c := range map[string]struct {
		text string
		want map[setting.ID]string
	}{
		"updated":  {preferences(prefers("U", lsa, "NoLMHash", "00000000")), map[setting.ID]string{"lm-hash-stored": "on"}},
		"replaced": {preferences(prefers("R", lsa, "NoLMHash", "00000001")), map[setting.ID]string{"lm-hash-stored": "off"}},
		"no action, which updates": {preferences(strings.Replace(prefers("U", laps, "PasswordLength", "00000014"), `action="U" `, "", 1)),
			map[setting.ID]string{"managed-admin-length": "20 characters"}},
		"with an empty list of targets": {preferences(prefers("U", laps, "PasswordLength", "14", "<Filters/>")),
			map[setting.ID]string{"managed-admin-length": "20 characters"}},
		"created": {preferences(prefers("C", lsa, "NoLMHash", "00000001")), map[setting.ID]string{
			"lm-hash-stored": "not set" + "preferences set it where no value is there yet, and leave one that is"}},
		"removed": {preferences(prefers("D", lsa, "NoLMHash", "00000001")), map[setting.ID]string{
			"lm-hash-stored": removed}},
		"no action that there is": {preferences(prefers("X", lsa, "NoLMHash", "00000001")), map[setting.ID]string{
			"lm-hash-stored": "not set" + `"X" is no action of preferences (C, R, U, D)`}},
		"targeted": {preferences(prefers("U", lsa, "NoLMHash", "00000001", targeted)), map[setting.ID]string{
			"lm-hash-stored": "not set" + "preferences set it on those machines alone that their item-level targeting picks"}},
		"in a collection that is targeted": {preferences("<Collection>" + prefers("U", lsa, "NoLMHash", "1") + targeted + "</Collection>"),
			map[setting.ID]string{"lm-hash-stored": "not set" + "preferences set it on those machines alone that their item-level targeting picks"}},
		"as the user": {preferences(strings.Replace(prefers("U", lsa, "NoLMHash", "1"), "<Registry ", `<Registry userContext="1" `, 1)),
			map[setting.ID]string{"lm-hash-stored": "not set" + "preferences set it as the user who signs in, who may not be allowed to"}},
		"a text": {preferences(strings.Replace(prefers("U", lsa, "NoLMHash", "1"), "REG_DWORD", "REG_SZ", 1)),
			map[setting.ID]string{"lm-hash-stored": "not set" + "not a number of four bytes"}},
		"too great": {preferences(prefers("U", lsa, "NoLMHash", "100000001")), map[setting.ID]string{
			"lm-hash-stored": "not set" + "not a number of four bytes"}},
		"neither on nor off": {preferences(prefers("U", lsa, "NoLMHash", "00000010")), map[setting.ID]string{
			"lm-hash-stored": "not set" + `"16" is neither 0 nor 1`}},
		"off":                 {preferences(off.Replace(prefers("U", lsa, "NoLMHash", "1"))), nil},
		"off as a collection": {preferences(`<Collection disabled="1">` + prefers("U", lsa, "NoLMHash", "1") + "</Collection>"), nil},
		"off as a whole": {strings.Replace(preferences(prefers("U", lsa, "NoLMHash", "1")), "<RegistrySettings",
			`<RegistrySettings disabled="1"`, 1), nil},
		"beside one that is off": {preferences(`<Collection disabled="1"></Collection>`, off.Replace(prefers("U", lsa, "NoLMHash", "1")),
			prefers("U", laps, "PasswordLength", "E")), map[setting.ID]string{"managed-admin-length": "14 characters"}},
		"the user's registry": {preferences(strings.Replace(prefers("U", lsa, "NoLMHash", "1"), "LOCAL_MACHINE", "CURRENT_USER", 1)), nil},
		"the later one counts": {preferences(prefers("D", lsa, "NoLMHash", "1"), prefers("U", lsa, "NoLMHash", "0"), prefers("U", lsa,
			"NoLMHash", "1")), map[setting.ID]string{"lm-hash-stored": "off"}},
		"a key removed": {preferences(prefers("U", laps, "PasswordLength", "14"),
			prefers("D", `Software\Microsoft\Windows\CurrentVersion\Policies`,
				"", ""), prefers("U", laps, "PasswordAgeDays", "1E")), map[setting.ID]string{"managed-admin": removed, "managed-admin-length": removed,
			"managed-admin-classes": removed, "managed-admin-age": "30 days"}},
		"a key made": {preferences(prefers("U", laps, "", "")), nil},
		"others":     {preferences(prefers("U", `Software\Harbour`, "Password", "Tide-Lamp-7"), prefers("U", lsa, "Tide-Lamp-7", "1")), nil},
	} {
		b := estate.NewBuilder()
		kept := gathered(t, b, &template.Preferences, preferenceAt, c.text)
		if got := b.Templates[0]; !maps.Equal(values(got.Policy.Settings), c.want) && len(c.want)+len(got.Policy.Settings) > 0 ||
			!got.Preferences || got.Registry || !got.Part || len(got.Preferred) != len(c.want) || got.GUID != policyID ||
			got.Domain != "quay.example" {
			t.Errorf("%s: %+v", name, got)
		}
		for id, f := range b.Templates[0].Policy.Settings {
			if !strings.HasPrefix(f.Cite.Where, template.Preferred) || f.Cite.Line < 3 && !strings.Contains(c.text, "ollection") {
				t.Errorf("%s: %s is cited %v", name, id, f.Cite)
			}
		}
		again := estate.NewBuilder()
		if twice := gathered(t, again, &template.Preferences, preferenceAt, kept); twice != kept ||
			!maps.Equal(values(again.Templates[0].Policy.Settings), values(b.Templates[0].Policy.Settings)) {
			t.Errorf("%s: the copy says %v\n%s", name, values(again.Templates[0].Policy.Settings), kept)
		}
		if strings.Contains(kept, `value="Tide`) || strings.Contains(kept, "Crew") {
			t.Errorf("%s: kept %s", name, kept)
		}
	}
	if template.Preferences.Detect("quay.example/Policies/"+policyID+"/User/Preferences/Registry/Registry.xml", []byte(preferences())) {
		t.Error("the user's half is taken for the machine's")
	}
	for wrong, say := range map[string]string{"<RegistrySettings><Registry>": preferenceAt + ":1: ",
		preferences(): "outside of the policy's folder"} {
		file := preferenceAt
		if wrong == preferences() {
			file = "Registry.xml"
		}
		err := template.Preferences.Read(&intake.Source{Path: file, In: strings.NewReader(wrong), Keep: io.Discard, Differs: func() {},
			Beside: func(string) []byte { return nil }}, estate.NewBuilder())
		if err == nil || !strings.Contains(err.Error(), say) {
			t.Errorf("%v, want %s", err, say)
		}
	}
}

// Preferences go before what the other files of their policy set, in whatever order they
// are read, and a report of the policy says the same.
func TestPreferencesGoBeforeTemplates(t *testing.T) {
	const store = "quay.example/Policies/" + policyID + "/Machine/"
	all := map[string]func(b *estate.Builder){
		"template": func(b *estate.Builder) {
			gathered(t, b, &template.Format, store+"Microsoft/Windows NT/SecEdit/GptTmpl.inf", inf([]written{
				{"System Access", "MinimumPasswordLength", "14", "", ""}, {"Registry Values", `MACHINE\` + lsa + `\NoLMHash`, "1", "", ""}}))
		},
		"registry": func(b *estate.Builder) {
			gathered(t, b, &template.RegistryPol, store+"Registry.pol", pol(laps, "PasswordLength", 8, lsa, "NoLMHash", 1))
		},
		"preferences": func(b *estate.Builder) {
			gathered(t, b, &template.Preferences, preferenceAt, preferences(prefers("U", lsa, "NoLMHash", "0"),
				prefers("U", laps, "PasswordLength", "14")))
		},
		"report": func(b *estate.Builder) {
			text := report([]written{{"System Access", "MinimumPasswordLength", "14", "SettingNumber", "14"}}, "q1", "Security",
				fmt.Sprintf(link, "quay.example"))
			gathered(t, b, &template.Report, "r.xml", strings.Replace(text, "    <ExtensionData><Extension>", "    <ExtensionData><Extension "+
				"xmlns:q2=\"x\"><q2:RegistrySettings>"+strings.NewReplacer("<Reg", "<q2:Reg", "</Reg", "</q2:Reg", "<Prop", "<q2:Prop").Replace(
				prefers("U", lsa, "NoLMHash", "0")+prefers("U", laps, "PasswordLength", "14"))+"</q2:RegistrySettings>"+
				"</Extension></ExtensionData><ExtensionData><Extension>", 1))
		},
	}
	for _, order := range []string{"template registry preferences", "preferences registry template", "registry preferences template",
		"template preferences registry", "report", "report registry", "registry report", "preferences report", "report preferences"} {
		b := estate.NewBuilder()
		for _, what := range strings.Fields(order) {
			all[what](b)
		}
		want := map[setting.ID]string{"lm-hash-stored": "on", "managed-admin-length": "20 characters", "min-length": "14 characters"}
		got := b.Templates[0]
		if len(b.Templates) != 1 || !maps.Equal(values(got.Policy.Settings), want) || len(got.Preferred) != 2 || !got.Preferences ||
			len(b.Problems) != 0 {
			t.Errorf("%s: %v, %d templates, preferred %v, %v", order, values(got.Policy.Settings), len(b.Templates), got.Preferred, b.Problems)
		}
	}
}

// In a policy backup all files are of the policy that its description names.
func TestFilesOfABackup(t *testing.T) {
	const backup = "backup/{11111111-016D-11D2-945F-00C04FB984F9}/"
	const machine = backup + "DomainSysvol/GPO/Machine/"
	b := estate.NewBuilder()
	for file, x := range map[string]struct {
		format *intake.Format
		text   string
	}{
		machine + "Microsoft/Windows NT/SecEdit/GptTmpl.inf": {&template.Format,
			inf([]written{{"System Access", "MinimumPasswordLength", "14", "", ""}})},
		machine + "Registry.pol":                      {&template.RegistryPol, pol(lsa, "NoLMHash", 1)},
		machine + "Preferences/Registry/Registry.xml": {&template.Preferences, preferences(prefers("U", laps, "PasswordLength", "14"))},
	} {
		b.StartFile(file)
		err := x.format.Read(&intake.Source{Path: file, In: strings.NewReader(x.text), Keep: io.Discard, Differs: func() {},
			Beside: func(relative string) []byte {
				if path.Join(path.Dir(file), relative) != backup+"bkupInfo.xml" {
					return nil
				}
				return []byte("<BackupInst><GPOGuid>" + policyID + "</GPOGuid><GPODomain>quay.example</GPODomain><GPODisplayName>Quay " +
					"Rules</GPODisplayName></BackupInst>")
			}}, b)
		if err != nil {
			t.Fatal(err)
		}
	}
	got := b.Templates[0]
	if len(b.Templates) != 1 || got.GUID != policyID || got.Domain != "quay.example" || got.Policy.Name != "Quay Rules" ||
		len(got.Policy.Settings) != 3 || !got.Registry || !got.Preferences || got.Part {
		t.Errorf("%d templates: %+v", len(b.Templates), b.Templates)
	}
}
