package collect

import (
	"bytes"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"golang.org/x/text/encoding/unicode"

	"sternledger/internal/core/estate"
	"sternledger/internal/intake"
)

// noMatter says of each place of a format where something that no rule reads changes nothing, why
// that is so. What stands at no place of the table has to change what is read.
var noMatter = map[string]map[string]string{
	"inf": {
		"Unicode":         "how the text is written (MS-GPSB 2.2)",
		"Version":         "of the file (MS-GPSB 2.2)",
		"Registry Values": "each value is a setting by itself (MS-GPSB 2.2.5)",
	},
	"list": {"a row": "each is an attribute of the object by itself (MS-ADTS 3.1.1.1)"},
	"xml": {
		"GPO":                                  "whom a policy reaches is said by its links, its filter and its halves, which are read",
		"GPO/Identifier":                       "the identity is the GUID and the domain",
		"GPO/Computer":                         "of its half: the versions and whether it is on, which are read",
		"GPO/LinksTo":                          "a link is its place, its state and its enforcement (MS-GPOL 2.2.2)",
		"GPO/Computer/ExtensionData":           "an extension that is not known sets what is none of ours",
		"GPO/Computer/ExtensionData/Extension": "each element is a setting by itself",
		"GPO/Computer/ExtensionData/Extension/Account": "a setting is its name and its number; what else stands there heads a column",
		"Rsop":                                                     "a half of the result that is not known is not the computer's",
		"Rsop/ComputerResults":                                     "about the computer, and not about what reached it",
		"Rsop/ComputerResults/GPO":                                 "what was applied is told by the settings themselves",
		"Rsop/ComputerResults/GPO/Path":                            "the identity is the GUID and the domain",
		"Rsop/ComputerResults/ExtensionData":                       "an extension that is not known sets what is none of ours",
		"Rsop/ComputerResults/ExtensionData/Extension":             "each element is a setting by itself",
		"Rsop/ComputerResults/ExtensionData/Extension/Account":     "a setting is its name, its number and whose it is, by precedence",
		"Rsop/ComputerResults/ExtensionData/Extension/Account/GPO": "the identity is the GUID and the domain",
	},
}

// lineNumbers are those of citations, which move with what stands before.
var lineNumbers = regexp.MustCompile(`(?i)"?line"?:\d+`)

// Something that no rule knows, at every place that the grammar allows, makes open what is
// decided there, or stands at a place where it does not matter, with the reason.
func TestUnknownParts(t *testing.T) {
	seen := map[string]map[string]bool{}
	facts := func(name, text string) string {
		f := formatOf(name, []byte(text))
		if f == nil {
			return ""
		}
		said := told(func(b *estate.Builder) ([]byte, error) {
			var kept bytes.Buffer
			return nil, f.Read(&intake.Source{Path: name, In: strings.NewReader(text), Keep: &kept, Differs: func() {},
				Beside: func(string) []byte { return nil }}, b)
		})
		return lineNumbers.ReplaceAllString(string(said), "")
	}
	err := filepath.WalkDir("../../demo/exports", func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		if bytes.HasPrefix(data, []byte{0xff, 0xfe}) {
			if data, err = unicode.UTF16(unicode.LittleEndian, unicode.ExpectBOM).NewDecoder().Bytes(data); err != nil {
				return err
			}
		}
		text := strings.ReplaceAll(string(data), "\r\n", "\n")
		name := filepath.Base(file)
		if formatOf(name, []byte(text)) == nil {
			return nil // a part of a tree
		}
		form := formOf(name, text)
		for _, x := range unknownParts(form, text) {
			if facts(name, text) != facts(name, x.text) {
				continue
			}
			if seen[form] == nil {
				seen[form] = map[string]bool{}
			}
			if seen[form][x.place] = true; noMatter[form][x.place] == "" {
				t.Errorf("%s (%s): what is not known changes nothing at %q", name, form, x.place)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for form, places := range noMatter {
		for _, place := range slices.Sorted(maps.Keys(places)) {
			if !seen[form][place] {
				t.Errorf("%s: nothing stands at %q", form, place)
			}
		}
	}
}

// unknownPart is a text with something added that no rule knows.
type unknownPart struct{ place, text string }

var (
	sectionLine = regexp.MustCompile(`^\[(.+)\]\s*$`)
	opened      = regexp.MustCompile(`<(/?)([A-Za-z_][\w.:-]*)[^<>]*?(/?)>`)
	listLine    = regexp.MustCompile(`^(\w[\w ]*\w)\s+: `)
)

func unknownParts(form, text string) (all []unknownPart) {
	switch form {
	case "inf":
		lines := strings.SplitAfter(text, "\n")
		for i, line := range lines {
			if m := sectionLine.FindStringSubmatch(strings.TrimRight(line, "\n")); m != nil {
				all = append(all, unknownPart{m[1], strings.Join(lines[:i+1], "") + "TideLevel = 7\n" + strings.Join(lines[i+1:], "")})
			}
		}
	case "xml":
		var path []string
		for _, m := range opened.FindAllStringSubmatchIndex(text, -1) {
			name := text[m[4]:m[5]]
			if _, local, ok := strings.Cut(name, ":"); ok {
				name = local
			}
			switch {
			case m[2] < m[3]:
				path = path[:len(path)-1]
			case m[6] == m[7]:
				path = append(path, name)
				if strings.HasPrefix(strings.TrimSpace(text[m[1]:]), "<") { // not beside a text
					all = append(all, unknownPart{strings.Join(path, "/"), text[:m[1]] + "<TideLevel>7</TideLevel>" + text[m[1]:]})
				}
			}
		}
	case "list":
		lines := strings.SplitAfter(text, "\n")
		for i, line := range lines {
			if m := listLine.FindStringSubmatch(line); m != nil {
				width := strings.Index(line, ": ")
				all = append(all, unknownPart{"a row", strings.Join(lines[:i+1], "") + "TideLevel" + strings.Repeat(" ", max(1, width-len("TideLevel"))) + ": 7\n" +
					strings.Join(lines[i+1:], "")})
			}
		}
	}
	return all
}
