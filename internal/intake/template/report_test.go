package template_test

import (
	"bytes"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"strings"
	"testing"

	"golang.org/x/text/encoding/unicode"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
	"sternledger/internal/intake/template"
)

// written is a setting of an invented policy: in a template, and in a report.
type written struct{ section, name, inf, element, value string }

func randomSettings(rnd *rand.Rand) []written {
	number := func(section, name string, values ...int) written {
		n := values[rnd.IntN(len(values))]
		return written{section, name, fmt.Sprint(n), "SettingNumber", fmt.Sprint(n)}
	}
	toggle := func(section, name string) written {
		on := rnd.IntN(2)
		return written{section, name, fmt.Sprint(on), "SettingBoolean", fmt.Sprint(on == 1)}
	}
	all := []written{number("System Access", "MinimumPasswordLength", 0, 7, 14), number("System Access", "PasswordHistorySize", 0, 24),
		number("System Access", "MaximumPasswordAge", -1, 42, 90), number("System Access", "MinimumPasswordAge", 0, 1),
		toggle("System Access", "PasswordComplexity"), toggle("System Access", "ClearTextPassword"),
		number("System Access", "LockoutBadCount", 0, 5), number("System Access", "LockoutDuration", -1, 30),
		number("System Access", "ResetLockoutCount", 15, 30), number("Kerberos Policy", "MaxTicketAge", 0, 10),
		toggle("Kerberos Policy", "TicketValidateClient"),
		number("Registry Values", `MACHINE\System\CurrentControlSet\Control\Lsa\NoLMHash`, 0, 1),
		number("Registry Values", `MACHINE\System\CurrentControlSet\Control\SAM\RelaxMinimumPasswordLengthLimits`, 0, 1)}
	rnd.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	return all[:rnd.IntN(len(all)+1)]
}

// inf is the policy's template; report its saved report.
func inf(all []written) string {
	var b strings.Builder
	b.WriteString("[Unicode]\r\nUnicode=yes\r\n")
	for _, section := range []string{"System Access", "Kerberos Policy", "Registry Values"} {
		b.WriteString("[" + section + "]\r\n")
		for _, w := range all {
			if w.section == section {
				value := w.inf
				if section == "Registry Values" {
					value = "4," + value
				}
				b.WriteString(w.name + " = " + value + "\r\n")
			}
		}
	}
	return b.String()
}

const policyID = "{31B2F340-016D-11D2-945F-00C04FB984F9}"

func report(all []written, prefix, language, links string) string {
	var b strings.Builder
	b.WriteString("<?xml version=\"1.0\" encoding=\"utf-16\"?>\r\n<GPO xmlns:xsd=\"http://www.w3.org/2001/XMLSchema\" " +
		"xmlns=\"http://www.microsoft.com/GroupPolicy/Settings\">\r\n  <Identifier>\r\n" +
		"    <Identifier xmlns=\"http://www.microsoft.com/GroupPolicy/Types\">" + policyID + "</Identifier>\r\n" +
		"    <Domain xmlns=\"http://www.microsoft.com/GroupPolicy/Types\">quay.example</Domain>\r\n  </Identifier>\r\n" +
		"  <Name>Quay Rules</Name>\r\n  <SecurityDescriptor>\r\n    <SDDL xmlns=\"http://www.microsoft.com/GroupPolicy/Types/Security\">" +
		"O:DAG:DAD:PAI(A;CI;LCRPLORC;;;AU)(OA;CI;CR;edacfd8f-ffb3-11d1-b41d-00a0c968f939;;AU)</SDDL>\r\n  </SecurityDescriptor>\r\n" +
		"  <Computer>\r\n    <VersionDirectory>9</VersionDirectory>\r\n    <Enabled>true</Enabled>\r\n    <ExtensionData>\r\n" +
		"      <Extension xmlns:" + prefix + "=\"http://www.microsoft.com/GroupPolicy/Settings/Security\" xsi:type=\"" + prefix +
		":SecuritySettings\" " +
		"xmlns:xsi=\"http://www.w3.org/2001/XMLSchema-instance\">\r\n")
	settingsOf(&b, all, prefix, language, "")
	b.WriteString("      </Extension>\r\n      <Name>" + language + "</Name>\r\n    </ExtensionData>\r\n    <ExtensionData><Extension>" +
		"<Properties cpassword=\"VPe/o9YRyz2cksnYRbNeQj35w9KxQ5ttbvtRaAVqxaE\" userName=\"helper\" newName=\"his dog is called " +
		"Rex\"/></Extension></ExtensionData>\r\n" +
		"  </Computer>\r\n  <User>\r\n    <Enabled>false</Enabled>\r\n  </User>\r\n" + links + "</GPO>\r\n")
	return b.String()
}

func settingsOf(b *strings.Builder, all []written, prefix, language, source string) {
	for _, w := range all {
		element, name := "Account", "Name"
		if w.section == "Registry Values" {
			element, name = "SecurityOptions", "KeyName"
		}
		fmt.Fprintf(b, "        <%[1]s:%[2]s>\r\n%[7]s          <%[1]s:%[3]s>%[4]s</%[1]s:%[3]s>\r\n          "+
			"<%[1]s:%[5]s>%[6]s</%[1]s:%[5]s>\r\n"+
			"          <%[1]s:Type>%[8]s</%[1]s:Type>\r\n          <%[1]s:Display><%[1]s:Name>%[8]s</%[1]s:Name></%[1]s:Display>\r\n        "+
			"</%[1]s:%[2]s>\r\n",
			prefix, element, name, w.name, w.element, w.value, source, language)
	}
}

func gathered(t *testing.T, b *estate.Builder, format *intake.Format, path, text string) (kept string) {
	t.Helper()
	if !format.Detect(path, []byte(text)[:min(len(text), intake.HeadSize)]) {
		t.Fatalf("%s is not recognised", path)
	}
	b.StartFile(path)
	var keep bytes.Buffer
	if err := format.Read(&intake.Source{Path: path, In: strings.NewReader(text), Keep: &keep, Differs: func() {},
		Beside: func(string) []byte { return nil }}, b); err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	return keep.String()
}

func values(all estate.Settings) map[setting.ID]string {
	texts := map[setting.ID]string{}
	for id, f := range all {
		texts[id] = setting.Get(id).Text(f.Value) + f.Problem
	}
	return texts
}

const link = "  <LinksTo>\r\n    <SOMName>%s</SOMName>\r\n    <SOMPath>%[1]s</SOMPath>\r\n    <Enabled>true</Enabled>\r\n    " +
	"<NoOverride>false</NoOverride>\r\n  </LinksTo>\r\n"

// A policy's report says what its template says, whatever the language and the
// prefixes; together they are one template.
func TestReportsAgreeWithTemplates(t *testing.T) {
	const store = "Policies/" + policyID + "/Machine/Microsoft/Windows NT/SecEdit/GptTmpl.inf"
	for seed := range uint64(200) {
		rnd := rand.New(rand.NewPCG(seed, 3))
		all := randomSettings(rnd)
		b := estate.NewBuilder()
		gathered(t, b, &template.Format, store, inf(all))
		want := values(b.Templates[0].Policy.Settings)
		text := report(all, []string{"q1", "q7", "n0"}[rnd.IntN(3)], []string{"Security", "Sicherheit", "Sécurité"}[rnd.IntN(3)],
			fmt.Sprintf(link, []string{"quay.example", "quay.example/Staff/North, South"}[rnd.IntN(2)]))
		if rnd.IntN(2) == 0 {
			text, _ = unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(text)
		}
		b = estate.NewBuilder()
		kept := gathered(t, b, &template.Report, "r.xml", text)
		if len(b.Templates) != 1 || !maps.Equal(values(b.Templates[0].Policy.Settings), want) || b.Templates[0].GUID != policyID ||
			b.Templates[0].Domain != "quay.example" || b.Templates[0].Policy.Name != "Quay Rules" {
			t.Fatalf("world %d: %v, want %v", seed, values(b.Templates[0].Policy.Settings), want)
		}
		if strings.Contains(kept, "VPe/") || strings.Contains(kept, "Rex") || !strings.Contains(kept, "Quay Rules") {
			t.Fatalf("world %d: kept %s", seed, kept)
		}
		gathered(t, b, &template.Format, store, inf(all))
		if len(b.Templates) != 1 || !maps.Equal(values(b.Templates[0].Policy.Settings), want) {
			t.Fatalf("world %d: together %v, want %v", seed, values(b.Templates[0].Policy.Settings), want)
		}
		a := b.Finish()[0]
		c := a.Containers[0]
		if !c.Filtered || c.MachineOff || len(c.Access) == 0 || len(a.Units) != 1 || !a.Units[0].AnyOrder ||
			a.Units[0].Links[0].GUID != policyID {
			t.Fatalf("world %d: %+v %+v", seed, c, a.Units)
		}
		if dn := a.Units[0].DN; dn != "DC=quay,DC=example" && dn != `OU=North\, South,OU=Staff,DC=quay,DC=example` {
			t.Fatalf("world %d: linked at %s", seed, dn)
		}
	}
}

// Where a report and a template differ, neither is believed.
func TestReportAgainstTemplate(t *testing.T) {
	const store = "Policies/" + policyID + "/Machine/Microsoft/Windows NT/SecEdit/GptTmpl.inf"
	length := func(n string) []written {
		return []written{{"System Access", "MinimumPasswordLength", n, "SettingNumber", n}}
	}
	for _, other := range [][]written{length("8"), nil} {
		b := estate.NewBuilder()
		gathered(t, b, &template.Format, store, inf(length("14")))
		gathered(t, b, &template.Report, "r.xml", report(other, "q1", "Security", ""))
		if f := b.Templates[0].Policy.Settings["min-length"]; !strings.Contains(f.Problem, "contradicts itself") {
			t.Errorf("%v: %+v", other, f)
		}
	}
}

// A resultant report shows what is displayed, and by which policy.
func TestResultantReport(t *testing.T) {
	source := "          <GPO xmlns=\"http://www.microsoft.com/GroupPolicy/Settings\"><Identifier " +
		"xmlns=\"http://www.microsoft.com/GroupPolicy/Types\">" +
		policyID + "</Identifier><Domain xmlns=\"http://www.microsoft.com/GroupPolicy/Types\">quay.example</Domain></GPO>\r\n" +
		"          <Precedence xmlns=\"http://www.microsoft.com/GroupPolicy/Settings\">%d</Precedence>\r\n"
	var b strings.Builder
	b.WriteString("<?xml version=\"1.0\" encoding=\"utf-16\"?>\r\n<Rsop xmlns=\"http://www.microsoft.com/GroupPolicy/Rsop\">\r\n" +
		"  <ReadTime>2026-03-04T09:10:11Z</ReadTime>\r\n  <ComputerResults>\r\n    <Version>2228228</Version>\r\n    " +
		"<Name>QUAY\\WEIGH1$</Name>\r\n" +
		"    <Domain>quay.example</Domain>\r\n    <GPO>\r\n      <Name>Quay Rules</Name>\r\n      <Path><Identifier " +
		"xmlns=\"http://www.microsoft.com/GroupPolicy/Types\">" +
		policyID + "</Identifier></Path>\r\n      <Enabled>true</Enabled>\r\n    </GPO>\r\n    <ExtensionData>\r\n" +
		"      <Extension xmlns:q1=\"http://www.microsoft.com/GroupPolicy/Settings/Security\">\r\n")
	settingsOf(&b, []written{{"System Access", "MinimumPasswordLength", "", "SettingNumber", "8"}}, "q1", "Passwort", fmt.Sprintf(source, 1))
	settingsOf(&b, []written{{"System Access", "MinimumPasswordLength", "", "SettingNumber", "12"}}, "q1", "Passwort", fmt.Sprintf(source, 2))
	b.WriteString("      </Extension>\r\n    </ExtensionData>\r\n  </ComputerResults>\r\n  " +
		"<UserResults><Name>QUAY\\somebody</Name></UserResults>\r\n</Rsop>\r\n")
	into := estate.NewBuilder()
	kept := gathered(t, into, &template.Report, "weigh1.xml", b.String())
	a := into.Finish()[0]
	if a.Name != "quay.example" || len(a.Displayed) != 1 || len(into.Templates)+len(into.Problems) != 0 {
		t.Fatalf("%+v", a)
	}
	shown := a.Displayed[0]
	if shown.Machine != "weigh1" || shown.Settings["min-length"].Value != setting.Number(8) || shown.By["min-length"] != "Quay Rules" {
		t.Errorf("%+v", shown)
	}
	if strings.Contains(kept, "somebody") {
		t.Errorf("kept %s", kept)
	}
}

func TestWrongReports(t *testing.T) {
	whole := report([]written{{"System Access", "MinimumPasswordLength", "14", "SettingNumber", "14"}}, "q1", "Security",
		fmt.Sprintf(link, "quay.example"))
	for text, say := range map[string]string{
		whole[:len(whole)-40]: "XML that cannot be read",
		"<GPO xmlns=\"http://www.microsoft.com/GroupPolicy/Settings\" xmlns:x=\"http://www.microsoft.com/GroupPolicy/Settings\"/>": "",
		"<Rsop xmlns=\"http://www.microsoft.com/GroupPolicy/Rsop\"></Rsop>": "names no " +
			"policy and no machine",
	} {
		b := estate.NewBuilder()
		b.StartFile("r.xml")
		err := template.Report.Read(&intake.Source{Path: "r.xml", In: strings.NewReader(text), Keep: io.Discard, Differs: func() {}}, b)
		if say == "" && (err != nil || len(b.Problems) != 1) || say != "" && (err == nil || !strings.Contains(err.Error(), say)) {
			t.Errorf("%.60q: %v, want %s", text, err, say)
		}
	}
}

func FuzzReport(f *testing.F) {
	rnd := rand.New(rand.NewPCG(1, 1))
	f.Add([]byte(report(randomSettings(rnd), "q1", "Security", fmt.Sprintf(link, `quay.example/A\/B`))))
	f.Add([]byte("<Rsop xmlns=\"http://www.microsoft.com/GroupPolicy/Rsop\"><ComputerResults><Name>A\\B$</Name><Domain>q.example</Domain></ComputerResults></Rsop>"))
	f.Fuzz(func(t *testing.T, data []byte) {
		b := estate.NewBuilder()
		b.StartFile("r.xml")
		var kept bytes.Buffer
		src := &intake.Source{Path: "r.xml", In: bytes.NewReader(data), Keep: &kept, Differs: func() {}}
		if template.Report.Read(src, b) != nil {
			return
		}
		b.Finish()
		if text, err := intake.Decode(data); err == nil && bytes.Count(kept.Bytes(), []byte("\n")) < bytes.Count(text, []byte("\n")) &&
			src.Struck+src.NotKept > 0 {
			t.Error("lines were lost")
		}
	})
}
