package sheet

import (
	"bytes"
	"encoding/csv"
	"maps"
	"strings"
	"testing"

	"golang.org/x/text/encoding/unicode"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
)

func readText(text string) (*estate.Builder, error) {
	b := estate.NewBuilder()
	b.StartFile("s.csv")
	var keep bytes.Buffer
	err := Format.Read(&intake.Source{Path: "s.csv", In: strings.NewReader(text), Keep: &keep, Differs: func() {}}, b)
	if err == nil && strings.Count(keep.String(), "\n") != bytes.Count(decoded(text), []byte("\n")) {
		panic("the copy has other lines")
	}
	kept = keep.String()
	return b, err
}

// kept is the copy of the sheet that was read last.
var kept string

func decoded(text string) []byte {
	out, _ := intake.Decode([]byte(text))
	return out
}

// Of a sheet its cells are kept, as far as they were filled in: no comment, no spare cell,
// and nothing of a row without a value but its setting.
func TestKept(t *testing.T) {
	for name, c := range map[string][2]string{
		"filled in": {"authority,setting,value,read-by,read-on\nGate,min-length,8 characters,Q,2026-11-20\n", ""},
		"spare cells": {"authority,setting,value,read-by,read-on,,\nGate,min-length,8 characters,Q,2026-11-20,Tide!9,\"a\nb\",\n",
			"authority,setting,value,read-by,read-on,,\nGate,min-length,8 characters,Q,2026-11-20,\"[not kept]\",\"[not kept]\n\",\n"},
		"beside": {"authority,setting,value,read-by,read-on,meaning\nGate,min-length,8 characters,Q,2026-11-20,Tide!9\nGate,history,,Tide!9,,\n",
			"authority,setting,value,read-by,read-on,meaning\nGate,min-length,8 characters,Q,2026-11-20,\"[not kept]\"\n\"[not kept]\",history,,\"[not kept]\",,\n"},
		"YAML": {strings.Replace(asYAML, "4 characters", "4 characters # Tide!9", 1),
			strings.Replace(strings.Replace(asYAML, "typed at the quay", "[not kept]", 1), "4 characters", "4 characters # [not kept]", 1)},
	} {
		if c[1] == "" {
			c[1] = c[0]
		}
		if _, err := readText(c[0]); err != nil || kept != c[1] {
			t.Errorf("%s: %v\n%s", name, err, kept)
		}
	}
}

const plain = `authority,platform,policy,setting,value,accounts,read-by,read-on
Weighbridge,windows-machine,local,min-length,4 characters,3,Ä. Quill,2026-11-20
Weighbridge,windows-machine,local,max-age,never,3,Ä. Quill,2026-11-20
Weighbridge,windows-machine,local,lockout-duration,0.5 hours,3,Ä. Quill,2026-11-20
Weighbridge,windows-machine,local,history,,3,Ä. Quill,2026-11-20
`

const asYAML = `# typed at the quay

sheet:
  - authority: Weighbridge
    platform: windows-machine
    policy: local
    accounts: 3
    read-by: Ä. Quill
    read-on: 2026-11-20
    settings:
      min-length: 4 characters
      max-age: never
      lockout-duration: 30 minutes
`

// However a workbook program saves it, it is the same sheet.
func TestFormsOfOneSheet(t *testing.T) {
	semicolons := strings.ReplaceAll(strings.ReplaceAll(plain, ",", ";"), "0.5 hours", "0,5 hours")
	wide, _ := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(strings.ReplaceAll(semicolons, ";", "\t"))
	for name, form := range map[string]string{
		"commas": plain, "semicolons": semicolons, "tabs in UTF-16": wide, "byte-order mark": "\xef\xbb\xbf" + semicolons,
		"sep line": "sep=;\r\n" + strings.ReplaceAll(semicolons, "\n", "\r\n"), "German dates": strings.ReplaceAll(semicolons,
			"2026-11-20", "20.11.2026"),
		"British dates": strings.ReplaceAll(plain, "2026-11-20", "20/11/2026"), "American dates": strings.ReplaceAll(plain,
			"2026-11-20", "11/20/2026"),
		"quoted": strings.ReplaceAll(plain, "4 characters", `"4 characters"`), "code page": strings.ReplaceAll(semicolons, "Ä", "\xc4"),
		"other case": strings.Replace(strings.ReplaceAll(plain, "min-length", "MIN-LENGTH"), "authority", "Authority", 1),
		"hard blank": strings.ReplaceAll(plain, "4 characters", "4\u00a0characters"), "YAML": asYAML,
	} {
		if !detect("s", []byte(form)) {
			t.Errorf("%s: not recognised", name)
		}
		b, err := readText(form)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		a := b.Finish()[0]
		p := a.Typed[0]
		if a.Name != "weighbridge" || a.Kind != estate.Machine || a.Platform != setting.WindowsMachine || p.Name != "local" ||
			*p.Covers != 3 || len(p.Settings) != 3 {
			t.Errorf("%s: %+v", name, p)
		}
		for id, want := range map[setting.ID]setting.Value{"min-length": setting.Number(4), "max-age": setting.Of(setting.Never),
			"lockout-duration": setting.Number(1800)} {
			f := p.Settings[id]
			if f.Value != want || f.Cite.Raw == "" || !strings.HasSuffix(f.Cite.Note, "read off by Ä. Quill on 2026-11-20") {
				t.Errorf("%s: %s is %+v", name, id, f)
			}
			if line := 2; id == "min-length" && name != "YAML" {
				if strings.HasPrefix(form, "sep=") {
					line = 3
				}
				if f.Cite.Line != line {
					t.Errorf("%s: cited at line %d, want %d", name, f.Cite.Line, line)
				}
			}
		}
	}
}

func TestWrongSheets(t *testing.T) {
	row := func(cells string) string {
		return "authority,platform,setting,value,accounts,read-by,read-on\n" + cells + "\n"
	}
	for _, c := range []struct{ text, at, say string }{
		{row("a,,max-age,42,,Q,2026-11-20"), "s.csv:2", "a time with its unit"},
		{row("a,,min-lenght,4,,Q,2026-11-20"), "s.csv:2", `the nearest is "min-length"`},
		{row("a,windows,min-length,4,,Q,2026-11-20"), "s.csv:2",
			"cloud-directory, cloud-infrastructure, identity-provider, ldap-directory, other, unix-machine, windows-domain, " +
				"windows-machine, workplace-suite"},
		{row(",,min-length,4,,Q,2026-11-20"), "s.csv:2", "a value without an authority"},
		{row("a,,min-length,4,,,2026-11-20"), "s.csv:2", "nobody who read it off"},
		{row("a,,min-length,4,,Q,"), "s.csv:2", "the day it was read off"},
		{row("a,,min-length,4,,Q,3/4/2026"), "s.csv:2", "in one way only"},
		{row("a,,min-length,4,many,Q,2026-11-20"), "s.csv:2", "as a whole number"},
		{row("a,,min-length,4,1,Q,2026-11-20\na,,max-age,1 day,2,Q,2026-11-20"), "s.csv:3", "one number for a policy"},
		{row("a,,min-length,4,,Q,2026-11-20\na,,min-length,5,,Q,2026-11-20"), "s.csv:3", "the first is on line 2"},
		{row("a,other,min-length,4,,Q,2026-11-20\na,windows-machine,max-age,1 day,,Q,2026-11-20"), "s.csv:3", "one platform"},
		{row("a,,max-age,\"0,1 seconds\",,Q,2026-11-20"), "s.csv:2", "whole number of seconds"},
		{row("a,,min-length,\"4,,Q,2026-11-20"), "s.csv:", "save the sheet again"},
		{row("a,,min-length,,,Q,2026-11-20"), "s.csv", "without a single value"},
		{"authority,setting,value,read-by\n", "s.csv:1", `no column "read-on"`},
		{"authority,setting,value,read-by,read-on,colour\n", "s.csv:1", `unknown column "colour"`},
		{"sheet:\n  - authority: a\n    reader: Q\n", "s.csv:3:5", `unknown key "reader"`},
	} {
		_, err := readText(c.text)
		if err == nil || !strings.HasPrefix(err.Error(), c.at) || !strings.Contains(err.Error(), c.say) {
			t.Errorf("%q:\n  %v\n  want %s … %s", c.text, err, c.at, c.say)
		}
	}
	if b, err := readText(row("a,windows-machine,history,99,,Q,2026-11-20")); err != nil || len(b.Problems) != 1 || !b.Problems[0].Damaged {
		t.Errorf("a value that the platform cannot hold: %v %+v", err, b.Problems)
	}
}

// The template, filled in for every setting, comes back whole.
func TestTemplateComesBack(t *testing.T) {
	var empty bytes.Buffer
	if err := Template(&empty); err != nil {
		t.Fatal(err)
	}
	if !detect("t.csv", empty.Bytes()) {
		t.Fatal("the template is not recognised")
	}
	rows, err := csv.NewReader(&empty).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	var filled bytes.Buffer
	out := csv.NewWriter(&filled)
	want := map[setting.ID]setting.Value{}
	for i, cells := range rows {
		if i > 0 {
			s := setting.Get(setting.ID(cells[4]))
			v := setting.Number(3600)
			switch {
			case len(s.Choices) > 0:
				v = setting.Word(s.Choices[0])
			case len(s.Specials) > 0:
				v = setting.Of(s.Specials[0].Special)
			}
			want[s.ID] = v
			cells[0], cells[5], cells[7], cells[8] = "turnstile", s.Text(v), "R. Quill", "2026-11-21"
		}
		out.Write(cells)
	}
	out.Flush()
	b, err := readText(filled.String())
	if err != nil {
		t.Fatal(err)
	}
	p := b.Finish()[0].Typed[0]
	for id, v := range want {
		if p.Settings[id].Value != v {
			t.Errorf("%s: %+v, want %+v", id, p.Settings[id], v)
		}
	}
	all := maps.Collect(setting.Table())
	if len(want) != len(all) || p.Covers != nil {
		t.Errorf("%d of %d settings", len(want), len(all))
	}
}

func FuzzRead(f *testing.F) {
	f.Add(plain)
	f.Add(asYAML)
	f.Add("sep=;\nauthority;setting;value;read-by;read-on\na;max-age;0,5 days;Q;1.2.2026\n")
	f.Fuzz(func(_ *testing.T, text string) {
		if !detect("s", []byte(text)) {
			return
		}
		if b, err := readText(text); err == nil {
			b.Finish()
		}
	})
}
