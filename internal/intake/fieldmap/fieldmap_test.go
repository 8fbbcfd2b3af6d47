package fieldmap

import (
	"bytes"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/theory/jsonpath"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
	"sternledger/internal/redact"
)

// shipped are the maps of the program.
func shipped(t testing.TB) []*Map {
	t.Helper()
	if known != nil {
		return known
	}
	files, err := filepath.Glob("../../../fieldmaps/*.yaml")
	if err != nil || len(files) != 8 {
		t.Fatal(files, err)
	}
	var all []*Map
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		m, err := Parse(file, data)
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, m)
	}
	known = all
	return all
}

var known []*Map // once read

// tree makes a tenant's export of "NAME", text pairs.
func tree(files ...string) *intake.Tree {
	t := &intake.Tree{Name: "folder", Path: "folder"}
	for i := 0; i < len(files); i += 2 {
		t.Parts = append(t.Parts, &intake.Part{Name: files[i], Path: "folder/" + files[i], Stored: "folder/" + files[i],
			Data: []byte(files[i+1])})
	}
	return t
}

func facts(s estate.Settings) string {
	var all []string
	for id, f := range s {
		text, _ := f.Value.MarshalText()
		if f.Problem != "" {
			text = []byte("?")
		}
		all = append(all, string(id)+"="+string(text))
	}
	slices.Sort(all)
	return strings.Join(all, " ")
}

const rules = `{"value": [{"values": [
  {"name": "LockoutThreshold", "value": "%s"},
  {"name": "LockoutDurationInSeconds", "value": "90"},
  {"name": "EnableBannedPasswordCheck", "value": "True"},
  {"name": "EnableBannedPasswordCheckOnPremises", "value": "%s"},
  {"name": "BannedPasswordCheckOnPremisesMode", "value": "%s"}]}]}`

const domains = `{"value": [{"id": "initial.example", "isInitial": true, "authenticationType": "Managed", "passwordValidityPeriodInDays": %s},
 {"id": "second.example", "isInitial": false, "authenticationType": "Managed", "passwordValidityPeriodInDays": 90}]}`

func TestShippedMaps(t *testing.T) {
	policy := func(conditions, settings string) string {
		return `[{"type": "PASSWORD", "status": "ACTIVE", "name": "P", "priority": 7, "conditions": {"people": {"groups": {"include": ` +
			conditions + `}}}, "settings": {"password": {` + settings + `}}}]`
	}
	for name, c := range map[string]struct {
		files []string
		want  string
	}{
		"a directory tenant": {[]string{"a.json", fmt.Sprintf(rules, "10", "True", "Enforce"), "b.json", fmt.Sprintf(domains, "30")},
			"initial.example tenant: blocklist-size=0 blocklist=on classes-required=3 dictionary-check=on directory-blocklist-mode=on " +
				"lockout-duration=90 lockout-threshold=10 max-age=? max-length=256 min-length=8; initial.example domain initial.example " +
				"2147483646 group domain initial.example: blocklist-size=0 blocklist=on classes-required=3 dictionary-check=on " +
				"directory-blocklist-mode=on lockout-duration=90 lockout-threshold=10 max-age=2592000 max-length=256 min-length=8; " +
				"initial.example domain second.example 2147483645 group domain second.example: blocklist-size=0 blocklist=on " +
				"classes-required=3 dictionary-check=on directory-blocklist-mode=on lockout-duration=90 lockout-threshold=10 " +
				"max-age=7776000 max-length=256 min-length=8"},
		"its largest number is never": {[]string{"a.json", fmt.Sprintf(rules, "10", "True", "Audit"), "b.json",
			fmt.Sprintf(domains, "2147483647")},
			"initial.example tenant: blocklist-size=0 blocklist=on classes-required=3 dictionary-check=on " +
				"directory-blocklist-mode=audit lockout-duration=90 lockout-threshold=10 max-age=? max-length=256 min-length=8; " +
				"initial.example domain initial.example 2147483646 group domain initial.example: blocklist-size=0 blocklist=on " +
				"classes-required=3 dictionary-check=on directory-blocklist-mode=audit lockout-duration=90 lockout-threshold=10 " +
				"max-age=never max-length=256 min-length=8; initial.example domain second.example 2147483645 group domain second.example: " +
				"blocklist-size=0 blocklist=on classes-required=3 dictionary-check=on directory-blocklist-mode=audit lockout-duration=90 " +
				"lockout-threshold=10 max-age=7776000 max-length=256 min-length=8"},
		"the domain's list switched off": {[]string{"a.json", fmt.Sprintf(rules, "10", "False", "Enforce")},
			"folder tenant: blocklist-size=0 blocklist=on classes-required=3 dictionary-check=on directory-blocklist-mode=off " +
				"lockout-duration=90 lockout-threshold=10 max-length=256 min-length=8"},
		"what its shell wrote, asked for little": {[]string{"a.csv",
			"#TYPE Cloud.User\r\n\"AccountEnabled\";\"Id\";\"Manager\";\"UserPrincipalName\"\r\n" +
				"\"True\";\"1\";\"Microsoft.Cloud.Models.Person\";\"ada@x.example\"\r\n", "b.csv",
			"Id,AuthenticationType,IsInitial\r\nx.example,Managed,True\r\n"},
			"x.example tenant: classes-required=3 dictionary-check=on max-age=? max-length=256 min-length=8; x.example domain x.example " +
				"2147483646 group domain x.example: classes-required=3 dictionary-check=on max-age=? max-length=256 min-length=8"},
		"a value that is none": {[]string{"a.json", fmt.Sprintf(rules, "ten", "True", "Perhaps")},
			"folder tenant: blocklist-size=0 blocklist=on classes-required=3 dictionary-check=on directory-blocklist-mode=? " +
				"lockout-duration=90 lockout-threshold=? max-length=256 min-length=8"},
		"an infrastructure cloud": {[]string{"p.json",
			`{"PasswordPolicy": {"MinimumPasswordLength": 14, "RequireSymbols": true, "RequireNumbers": false, "ExpirePasswords": ` +
				`true, "MaxPasswordAge": 90}}`,
			"c.csv", "user,arn,password_enabled,mfa_active\n<root_account>,arn:aws:iam::000000000001:root,not_supported,true\n"},
			"000000000001 tenant: classes-required=0 history=0 max-age=7776000 min-length=14 require-digit=0 require-lower=0 " +
				"require-symbol=1 require-upper=0; 000000000001 root 0 arn:aws:iam::000000000001:root: classes-required=3 history=0 " +
				"max-age=never min-length=8"},
		"one that lets nothing expire": {[]string{"p.json",
			`{"PasswordPolicy": {"MinimumPasswordLength": 14, "ExpirePasswords": false, "MaxPasswordAge": 90, "PasswordReusePrevention": 24}}`},
			"folder tenant: classes-required=0 history=24 max-age=never min-length=14 require-digit=0 require-lower=0 require-symbol=0 " +
				"require-upper=0"},
		"a workplace suite": {[]string{"p.json", `{"policies": [{"setting": {"type": "settings/security.password", "value": {"minimumLength": 12, "maximumLength": 100, "allowedStrength": "STRONG", "allowReuse": true, "expirationDuration": "7776000s"}}},
			{"setting": {"type": "settings/security.password", "value": {"minimumLength": 8, "allowedStrength": "WEAK"}}}]}`},
			"folder tenant: dictionary-check=off history=0 max-age=7776000 max-length=100 min-length=8"},
		"an identity provider": {[]string{"p.json",
			policy(`["g1"]`, `"complexity": {"minLength": 12, "minNumber": 1, "excludeUsername": true, "dictionary": {"common": `+
				`{"exclude": true}}}, "age": {"maxAgeDays": 0, "minAgeMinutes": 60, "historyCount": 4}, "lockout": {"maxAttempts": 5, `+
				`"autoUnlockMinutes": 0}`)},
			"folder P 7 group g1: dictionary-check=on history=4 lockout-duration=until-admin lockout-threshold=5 max-age=never " +
				"min-age=3600 min-length=12 name-check=on require-digit=1"},
		"a policy for everybody": {[]string{"p.json", policy(`["g1", "gx"]`, `"complexity": {"minLength": 9}`), "g.json",
			`[{"id": "gx", "type": "BUILT_IN", "objectClass": ["x"], "profile": {"name": "Everyone"}}]`},
			"folder P 7: min-length=9"},
	} {
		b := estate.NewBuilder()
		if err := read(shipped(t), tree(c.files...), b); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		a := b.Finish()[0]
		var got []string
		if a.Head != nil {
			got = append(got, a.Name+" "+a.Head.Name+": "+facts(a.Head.Settings))
			for id, f := range a.Head.Settings {
				if f.Cite.Line == 0 || !strings.HasPrefix(f.Cite.File, "folder/") || f.Cite.Where == "" {
					t.Errorf("%s: %s has no place: %+v", name, id, f.Cite)
				}
			}
		}
		for _, p := range a.Overrides {
			text := fmt.Sprintf("%s %s %d", a.Name, p.Name, *p.Precedence)
			for _, target := range p.Targets {
				text += " " + target.DN
			}
			got = append(got, text+": "+facts(p.Settings))
		}
		if text := strings.Join(got, "; "); text != c.want {
			t.Errorf("%s:\n%s, want\n%s", name, text, c.want)
		}
	}
}

// The organisation's banned words are kept, for probing, and counted.
func TestBannedWords(t *testing.T) {
	for list, want := range map[string][]string{`"marrowick\tharbour\r\n quay "`: {"marrowick", "harbour", "quay"}, `""`: nil} {
		text := strings.Replace(fmt.Sprintf(rules, "10", "True", "Audit"), `{"name": "LockoutThreshold"`,
			`{"name": "BannedPasswordList", "value": `+list+`}, {"name": "LockoutThreshold"`, 1)
		b := estate.NewBuilder()
		if err := read(shipped(t), tree("a.json", text), b); err != nil {
			t.Fatal(err)
		}
		head := b.Finish()[0].Head
		if head.Asks == nil || !slices.Equal(head.Asks.Words, want) || head.Asks.Cite.Line != 2 ||
			head.Settings["blocklist-size"].Value != setting.Number(int64(len(want))) {
			t.Errorf("%s: %+v %+v", list, head.Asks, head.Settings["blocklist-size"])
		}
	}
}

func TestAccountsAndLines(t *testing.T) {
	users := `{"value": [
  {"id": "1", "userPrincipalName": "ada@x.example", "displayName": "Ada", "accountEnabled": true, "passwordPolicies": "DisablePasswordExpiration, Other", "lastPasswordChangeDateTime": "2026-01-02T03:04:05Z",
   "onPremisesSyncEnabled": true, "onPremisesDomainName": "dom.example", "onPremisesSamAccountName": "ada", "onPremisesSecurityIdentifier": "S-1-5-21-1-2-3-1104",
   "passwordProfile": {"password": "Plain-Secret-1", "forceChangePasswordNextSignIn": false}},
  {"id": "2", "userPrincipalName": "bo@fed.example", "accountEnabled": false, "onPremisesSyncEnabled": null},
  {"userPrincipalName": null, "accountEnabled": false}]}`
	all := tree("users.json", users, "methods.json",
		`{"value": [{"id": "1", "userPrincipalName": "ada@x.example", "isMfaRegistered": true, "isAdmin": true}]}`,
		"domains.json", `{"value": [{"id": "fed.example", "isInitial": false, "authenticationType": "Federated", `+
			`"passwordValidityPeriodInDays": null}, {"id": "x.example", "isInitial": false, "authenticationType": "Managed"}]}`,
		"groups.json", `{"value": [{"id": "g", "displayName": "Keepers", "securityEnabled": true, "members": [{"id": "1"},
   {"id": "9"}]}]}`)
	b := estate.NewBuilder()
	if err := read(shipped(t), all, b); err != nil {
		t.Fatal(err)
	}
	a := b.Finish()[0]
	var got []string
	for row := range a.Objects.Len() {
		if a.Objects.ClassOf(row) != estate.Account {
			continue
		}
		for g := range a.Objects.GroupsOf(row) {
			got = append(got, "in "+a.Objects.Name.At(g))
		}
		flags := a.Objects.FlagsOf(row)
		got = append(got, fmt.Sprint(a.Objects.Name.At(row), " ", a.Objects.Line.At(row), " ", flags&estate.Disabled != 0,
			flags.Names(), strings.ReplaceAll(a.Objects.Source.At(row), "\t", "|")))
	}
	want := []string{"in Keepers",
		"ada@x.example 2 false [never-expires synchronised administrator second-factor]dom.example|ada|S-1-5-21-1-2-3-1104",
		"bo@fed.example 5 true [federated]"}
	if !slices.Equal(got, want) {
		t.Errorf("accounts:\n%q, want\n%q", got, want)
	}
	if a.Objects.LooseGroup.Len() != 1 || a.Objects.LooseLine.At(0) != 2 || a.Objects.PwdSet.At(1) == 0 && a.Objects.PwdSet.At(0) == 0 &&
		a.Objects.PwdSet.At(2) == 0 {
		t.Errorf("a member that is not there: %d at %d", a.Objects.LooseGroup.Len(), a.Objects.LooseLine.At(0))
	}
	if len(b.Problems) != 1 || b.Problems[0].Cite.Line != 6 {
		t.Errorf("an account without a name: %v", b.Problems)
	}
	copied, struck, _ := all.Find("users.json").Copy()
	kept := string(copied)
	if strings.Contains(kept, "Plain-Secret") || !strings.Contains(kept, redact.Struck) ||
		strings.Count(kept, "\n") != strings.Count(users, "\n") || struck != 1 {
		t.Errorf("the stored copy: %s", kept)
	}
}

func TestWrongExports(t *testing.T) {
	for name, c := range map[string]struct{ file, text, want string }{
		"cut":           {"rules.json", `{"value": [{"values": [`, "rules.json:1: the file ends in the middle; expected JSON"},
		"cut on line 3": {"rules.json", "{\n\"value\":\n[", "rules.json:3: "},
		"no JSON":       {"rules.json", `{"value": nope}`, "invalid character"},
		"two values":    {"rules.json", `{"a": 1} {"a": 2}`, "something behind the end"},
		"a key twice":   {"rules.json", `{"a": 1, "a": 2}`, `"a" stands twice`},
		"too deep":      {"rules.json", strings.Repeat("[", 300) + strings.Repeat("]", 300), "deep in one another"},
		"cut CSV":       {"c.csv", "user,arn,password_enabled,mfa_active\n\"ada", "c.csv:2: "},
		"odd UTF-16":    {"c.json", "\xff\xfe{\x00}", "odd number of bytes"},
	} {
		err := read(shipped(t), tree(c.file, c.text), estate.NewBuilder())
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
	// What is not wrong in form, and none of ours, is left to other readers.
	f := Format(shipped(t))
	for text, want := range map[string]bool{`{"value": []}`: false, "[Unicode]\nUnicode=yes\n": false, fmt.Sprintf(rules, "1", "2", "3"): true,
		"user,arn,password_enabled,mfa_active\n": true, "a,b\n": false} {
		_, _, may := f.Part("x/some.txt", []byte(text))
		if got := may && f.Claims("x/some.txt", reads(text)); got != want {
			t.Errorf("%q: claimed %v, want %v", text, got, want)
		}
	}
}

func TestWrongMaps(t *testing.T) {
	const good = "id: x\ntitle: X\nplatform: other\nexports: [{id: e, json: [\"$.a\"]}]\n"
	for text, want := range map[string]string{
		"id: x\n": "m.yaml:1:5: a field map needs id, title, platform and exports",
		"id: x\ntitle: X\nplatform: cloudy\nexports: [{id: e, json: [$.a]}]\n":  `m.yaml:3:11: unknown platform "cloudy"`,
		"id: x\ntitle: X\nplatform: other\nexports: [{id: e}]\n":                "neither json nor csv",
		"id: x\ntitle: X\nplatform: other\nexports: [{id: e, json: [$.a[}]}]\n": "m.yaml:4:",
		good + "colour: red\n": `m.yaml:5:1: unknown key "colour"`,
		good + "settings: [{setting: min-lenght, export: e, at: a}]\n": `m.yaml:5:22: unknown setting ` +
			`"min-lenght"; the nearest is "min-length"`,
		good + "settings: [{setting: min-length, export: f, at: a}]\n":                     `unknown export "f"; known are e`,
		good + "settings: [{setting: min-length, export: e}]\n":                            "min-length has no path",
		good + "settings: [{setting: max-age, export: e, at: a}]\n":                        "max-age needs a unit",
		good + "settings: [{setting: max-age, export: e, at: a, unit: fortnights}]\n":      "max-age needs a unit",
		good + "settings: [{setting: complexity, export: e, at: a, words: {x: maybe}}]\n":  `"maybe"`,
		good + "settings: [{setting: min-length, export: e, at: \"$..[\"}]\n":              "no JSONPath",
		good + "settings: [{setting: min-length, export: e, at: \"$..a..a..a\"}]\n":        "looks through everything",
		good + "fixed: [{setting: min-length, value: 8 characters}]\n":                     "needs its source",
		good + "accounts: [{export: e, each: a, name: n, flags: [{flag: bald, at: b}]}]\n": `unknown flag "bald"`,
		good + "accounts: [{export: e, name: n}]\n":                                        "accounts need each",
		good + "name: {export: e, at: a, match: \"(\"}\n":                                  "one group is expected",
		good + "live: {requests: [{export: f, path: /f}]}\n":                               `unknown export "f"`,
	} {
		if _, err := Parse("m.yaml", []byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}

func FuzzExport(f *testing.F) {
	f.Add("x.json", fmt.Sprintf(rules, "10", "True", "Audit"))
	f.Add("members-g.json", `[{"id": "1", "profile": {"login": "a"}}]`)
	f.Add("users.json", `{"value": [{"userPrincipalName": "a", "accountEnabled": true, "password": "x"}]}`)
	f.Add("c.csv", "user,arn,password_enabled,mfa_active\na,b,c,d\n\"")
	f.Add("p.json", `[{"type":"PASSWORD","settings":{"password":{"complexity":{"minLength":-1e99}}},"priority":"x"}]`)
	all := shipped(f)
	f.Fuzz(func(t *testing.T, name, text string) {
		export := tree(name, text)
		b := estate.NewBuilder()
		if read(all, export, b) != nil {
			return
		}
		for _, a := range b.Finish() {
			policies := a.Overrides
			if a.Head != nil {
				policies = append(policies, *a.Head)
			}
			for _, p := range policies {
				for id, fact := range p.Settings {
					if n, ok := fact.Value.Number(); ok && setting.Get(id).Allows(a.Platform, setting.Number(n)) != nil {
						t.Errorf("%s is %d", id, n)
					}
				}
			}
		}
		if kept, _, _ := export.Parts[0].Copy(); strings.Count(string(kept), "\n") > strings.Count(text, "\n") {
			t.Error("the copy has more lines")
		}
	})
}

// What an export does not hold is the documented default only where it is whole.
func TestAbsence(t *testing.T) {
	const users = `{"value": [{"id": "1", "userPrincipalName": "ada@x.example", "accountEnabled": true}]}`
	const report = "user,arn,password_enabled,mfa_active\nada,arn:aws:iam::%s:user/ada,true,true\n"
	for name, c := range map[string]struct {
		files []string
		want  string // of each tenant: name, threshold, age, length
	}{
		"the rules were not gathered": {[]string{"d.json",
			`{"value": [{"id": "x.example", "isInitial": true, "authenticationType": "Managed"}]}`}, "x.example - ? 8"},
		"nothing is set, by its name": {[]string{"groupSettings.json", `{"value": []}`}, "folder 10 - 8"},
		"nothing is set, by its context": {[]string{"a.json", `{"@odata.context": "https://d/$metadata#groupSettings", "value": []}`},
			"folder 10 - 8"},
		"other rules only": {[]string{"a.json",
			`{"value": [{"templateId": "x", "values": [{"name": "AllowGuests", "value": "true"}]}]}`}, "folder 10 - 8"},
		"a page of rules is lacking": {[]string{"a.json",
			`{"@odata.nextLink": "https://d/2", "value": [{"templateId": "x", "values": [{"name": "AllowGuests", "value": "true"}]}]}`},
			"folder ? - 8"},
		"and what is on the first stands": {[]string{"a.json",
			`{"@odata.nextLink": "https://d/2", "value": [{"values": [{"name": "LockoutThreshold", "value": "7"}]}]}`}, "folder 7 - 8"},
		"both pages": {[]string{"a.json",
			`{"@odata.nextLink": "https://d/2", "value": [{"values": [{"name": "AllowGuests", "value": "true"}]}]}`, "b.json",
			`{"value": [{"values": [{"name": "x", "value": "y"}]}]}`}, "folder 10 - 8"},
		"no policy, as the command says": {[]string{"p.txt",
			"\nAn error occurred (NoSuchEntity) when calling the GetAccountPasswordPolicy operation: The Password Policy with domain " +
				"name 000000000007 cannot be found.\n"}, "000000000007 - never 8"},
		"two accounts in one folder": {[]string{"a.csv", fmt.Sprintf(report, "1"), "b.csv", fmt.Sprintf(report, "2")}, "1 - - -; 2 - - -"},
		"and their policies, which name them": {[]string{"a.csv", fmt.Sprintf(report, "1"), "b.csv", fmt.Sprintf(report, "2"), "p.txt",
			"An error occurred (NoSuchEntity) when calling the GetAccountPasswordPolicy operation: The Password Policy with domain name " +
				"2 cannot be found."},
			"1 - - -; 2 - never 8"},
		"users alone": {[]string{"u.json", users}, "folder - - -"},
	} {
		b := estate.NewBuilder()
		if err := read(shipped(t), tree(c.files...), b); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		var got []string
		for _, a := range b.Finish() {
			words := []string{a.Name}
			for _, id := range []setting.ID{"lockout-threshold", "max-age", "min-length"} {
				word := "-"
				if a.Head != nil {
					if f, ok := a.Head.Settings[id]; ok {
						text, _ := f.Value.MarshalText()
						word = string(text)
						if f.Problem != "" {
							word = "?"
						}
					}
				}
				words = append(words, word)
			}
			got = append(got, strings.Join(words, " "))
		}
		if text := strings.Join(got, "; "); text != c.want {
			t.Errorf("%s: %s, want %s", name, text, c.want)
		}
	}
	for name, c := range map[string]struct {
		files []string
		want  string
	}{
		"a policy of nobody's": {[]string{"a.csv", fmt.Sprintf(report, "1"), "b.csv", fmt.Sprintf(report, "2"), "p.json",
			`{"PasswordPolicy": {"MinimumPasswordLength": 14}}`}, "does not say of which tenant it is, beside those of 1 and 2"},
		"one export of two": {[]string{"a.csv", fmt.Sprintf(report, "1") + "bo,arn:aws:iam::2:user/bo,true,true\n"},
			"an export of two tenants, 1 and 2"},
	} {
		if err := read(shipped(t), tree(c.files...), estate.NewBuilder()); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
}

// A group whose members may not all be there is known as such.
func TestMembersInPart(t *testing.T) {
	const groups = `{"value": [{"id": "g", "displayName": "Keepers", "securityEnabled": true%s}]}`
	listed := func(n int) string {
		var all []string
		for i := range n {
			all = append(all, fmt.Sprintf(`{"id": "%d"}`, i))
		}
		return `, "members": [` + strings.Join(all, ",") + "]"
	}
	const provider = `[{"id": "g", "type": "NATIVE", "objectClass": ["x"], "profile": {"name": "G"}}]`
	for name, c := range map[string]struct {
		files []string
		part  bool
	}{
		"no list":        {[]string{"g.json", fmt.Sprintf(groups, "")}, true},
		"an empty list":  {[]string{"g.json", fmt.Sprintf(groups, `, "members": []`)}, false},
		"a list":         {[]string{"g.json", fmt.Sprintf(groups, listed(19))}, false},
		"a full list":    {[]string{"g.json", fmt.Sprintf(groups, listed(20))}, true},
		"no file":        {[]string{"g.json", provider}, true},
		"a file of none": {[]string{"g.json", provider, "members-g.json", "[]"}, false},
		"a file":         {[]string{"g.json", provider, "members-g.json", `[{"id": "1", "profile": {"login": "a"}}]`}, false},
	} {
		b := estate.NewBuilder()
		if err := read(shipped(t), tree(c.files...), b); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		a := b.Finish()[0]
		for row := range a.Objects.Len() {
			if a.Objects.ClassOf(row) == estate.Group && a.Objects.FlagsOf(row)&estate.MembersPart != 0 != c.part {
				t.Errorf("%s: in part %v, want %v", name, !c.part, c.part)
			}
		}
	}
}

// The further maps, on exports made by hand after the public references.
func TestFurtherMaps(t *testing.T) {
	const lines = "Variable_name,Value\nvalidate_password.check_user_name,ON\nvalidate_password.length,12\nvalidate_password.mixed_case_count,1\nvalidate_password.number_count,0\ndefault_password_lifetime,%s\npassword_history,6\n"
	for name, c := range map[string]struct {
		files []string
		want  string
	}{
		"a pool": {[]string{"p.json",
			`{"UserPool": {"Id": "eu_Pool", "MfaConfiguration": "OPTIONAL", "Policies": {"PasswordPolicy": {"MinimumLength": 12, ` +
				`"RequireUppercase": true, "RequireLowercase": false, "RequireNumbers": true, "RequireSymbols": false, ` +
				`"PasswordHistorySize": 5, "TemporaryPasswordValidityDays": 7}}}}`},
			"eu_pool: history=5 max-age=never mfa=some min-length=12 require-digit=1 require-lower=0 require-symbol=0 require-upper=1"},
		"a pool that sets nothing": {[]string{"p.json", `{"UserPool": {"Id": "p", "MfaConfiguration": "ON", "Policies": {}}}`},
			"p: history=0 max-age=never mfa=all min-length=8 require-digit=0 require-lower=0 require-symbol=0 require-upper=0"},
		"a realm whose locks end at first": {[]string{"r.json",
			`{"realm": "q", "bruteForceProtected": true, "permanentLockout": true, "maxTemporaryLockouts": 2, "failureFactor": 5, "waitIncrementSeconds": 60, ` +
				`"maxFailureWaitSeconds": 30, "passwordPolicy": "length and digits(undefined) and passwordHistory"}`},
			"q: dictionary-check=off history=3 lockout-duration=30 lockout-threshold=5 max-age=never min-length=8 name-check=off require-digit=1 " +
				"require-lower=0 require-symbol=0 require-upper=0"},
		"a realm whose first lock does not end": {[]string{"r.json",
			`{"realm": "q", "bruteForceProtected": true, "permanentLockout": true, "maxTemporaryLockouts": 0, "failureFactor": 5, "waitIncrementSeconds": 60, ` +
				`"maxFailureWaitSeconds": 900, "passwordPolicy": "forceExpiredPasswordChange and upperCase(2)"}`},
			"q: dictionary-check=off history=0 lockout-duration=until-admin lockout-threshold=5 max-age=31536000 min-length=0 name-check=off " +
				"require-digit=0 require-lower=0 require-symbol=0 require-upper=2"},
		"a realm": {[]string{"r.json", `{"realm": "Quay", "bruteForceProtected": true, "permanentLockout": false, "failureFactor": 30, "waitIncrementSeconds": 60, "maxFailureWaitSeconds": 900,
			"passwordPolicy": "length(12) and digits(2) and upperCase(1) and notUsername(undefined) and passwordHistory(3) and forceExpiredPasswordChange(365)"}`},
			"quay: dictionary-check=off history=3 lockout-duration=60 lockout-threshold=30 max-age=31536000 min-length=12 name-check=on " +
				"require-digit=2 require-lower=0 require-symbol=0 require-upper=1"},
		"a realm without a policy": {[]string{"r.json",
			`{"realm": "q", "bruteForceProtected": false, "failureFactor": 30, "waitIncrementSeconds": 60}`},
			"q: dictionary-check=off history=0 lockout-duration=60 lockout-threshold=never max-age=never min-length=0 name-check=off " +
				"require-digit=0 require-lower=0 require-symbol=0 require-upper=0"},
		"a realm that locks for good": {[]string{"r.json",
			`{"realm": "q", "bruteForceProtected": true, "permanentLockout": true, "failureFactor": 5, "waitIncrementSeconds": 60, ` +
				`"passwordPolicy": "maxLength(64) and passwordBlacklist(words.txt) and length(8)"}`},
			"q: dictionary-check=on history=0 lockout-duration=until-admin lockout-threshold=5 max-age=never min-length=8 " +
				"name-check=off require-digit=0 require-lower=0 require-symbol=0 require-upper=0"},
		"devices, the strictest": {[]string{"d.json", `{"@odata.context": "https://d/$metadata#deviceManagement/deviceConfigurations", "value": [
			{"passwordRequired": true, "passwordMinimumLength": 6, "passwordExpirationDays": 90, "passwordPreviousPasswordBlockCount": 2, "assignments": [{"id": "a"}]},
			{"passwordRequired": true, "passwordMinimumLength": 10, "passwordExpirationDays": 365, "passwordPreviousPasswordBlockCount": null, "assignments": [{"id": "b"}]},
			{"passwordRequired": true, "passwordMinimumLength": 16, "passwordExpirationDays": 30, "assignments": []}]}`},
			"folder: history=2 max-age=7776000 min-length=10"},
		"a database": {[]string{"variables.csv", fmt.Sprintf(lines, "90")},
			"folder: history=6 max-age=7776000 min-length=12 name-check=on require-digit=0 require-lower=1 require-upper=1"},
		"a database in which nothing expires": {[]string{"variables.csv", fmt.Sprintf(lines, "0")},
			"folder: history=6 max-age=never min-length=12 name-check=on require-digit=0 require-lower=1 require-upper=1"},
		"a database without the component": {[]string{"variables.csv", "Variable_name,Value\ndefault_password_lifetime,0\n"},
			"folder: max-age=never"},
	} {
		b := estate.NewBuilder()
		if err := read(shipped(t), tree(c.files...), b); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		a := b.Finish()[0]
		if got := a.Name + ": " + facts(a.Head.Settings); got != c.want {
			t.Errorf("%s:\n%s, want\n%s", name, got, c.want)
		}
	}
}

// What cannot be meant is told with its line; in the shipped maps there is none.
func TestLint(t *testing.T) {
	for _, m := range shipped(t) {
		if doubts := m.Lint(); len(doubts) > 0 {
			t.Errorf("%s: %v", m.ID.Value, doubts)
		}
	}
	const good = "id: x\ntitle: X\nplatform: other\nexports: [{id: e, csv: [a, b]}]\n"
	for text, want := range map[string]string{
		good: "4:16 nothing is read from the export e",
		good + "accounts: [{export: e, each: \"$.users[*]\", name: a}]\n": "5:30 the rows of " +
			"the CSV e are at $[*]; $.users[*] leads to nothing",
		good + "settings: [{setting: min-length, export: e, at: \"$.a.b\"}]\n": "5:49 a row of the " +
			"CSV e has columns and nothing in them; $.a.b leads to nothing",
		good + "settings: [{setting: min-length, export: e, at: a}]\nlive: {token: {path: /t}, requests: []}\n": "4:16 live, the " +
			"export e is never asked for",
		good + "settings: [{setting: min-length, export: e, at: a, only: [{at: \"$['a']['b']\", is: [c]}]}]\n": "5:64 a row of the " +
			"CSV e has columns and nothing in them; $['a']['b'] leads to nothing",
		good + "settings: [{setting: min-length, export: e, at: a}]\naccounts: [{export: e, each: \"$[*]\", name: b}]\n": "",
	} {
		m, err := Parse("m.yaml", []byte(text))
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		var got []string
		for _, d := range m.Lint() {
			got = append(got, fmt.Sprintf("%d:%d %s", d.Line, d.Column, d.Text))
		}
		if said := strings.Join(got, "; "); said != want {
			t.Errorf("%s: %s, want %s", text, said, want)
		}
	}
	const platform = "id: x\ntitle: X\nplatform: cloud-infrastructure\nexports: [{id: e, json: [$.a]}]\n"
	if _, err := Parse("m.yaml", []byte(platform+"settings: [{setting: lockout-threshold, export: e, at: a}]\n")); err == nil ||
		!strings.Contains(err.Error(), "m.yaml:5:22: the platform cloud-infrastructure has no setting lockout-threshold") {
		t.Errorf("a setting that the platform does not have: %v", err)
	}
}

// A long list is told by its beginning, and what else of the same map is in it is found
// all the same.
func TestExportsBehindTheBeginning(t *testing.T) {
	m, err := Parse("m.yaml", []byte("id: x\ntitle: X\nplatform: cloud-directory\nexports: [{id: users, json: [\"$.users[*].id\"]}, "+
		"{id: admins, json: [\"$.users[*].admin\"]}]\naccounts: [{export: users, each: \"$.users[*]\", name: id}]\n"+
		"settings: [{setting: min-length, export: admins, at: \"$.length\"}]\n"))
	if err != nil {
		t.Fatal(err)
	}
	list := strings.Repeat(`{"id": "a"}, `, enoughItems) + `{"id": "b", "admin": true}`
	text := `{"users": [` + list + `]}`
	for name, how := range map[string]reading{"live and change files": {}, "gather": {rows: true}} {
		d, err := parseAs(&intake.Part{Path: "u.json", Name: "u.json", Data: []byte(text)}, how)
		if err != nil {
			t.Fatal(err)
		}
		whole, _ := takenApart(d.value, d.lines)
		if all := whole.(map[string]any)["users"].([]any); len(all) != enoughItems+1 {
			t.Errorf("%s: %d users read", name, len(all))
		}
		var ids []string
		for _, c := range claims([]*Map{m}, d) {
			ids = append(ids, c.x.ID.Value)
		}
		if !slices.Equal(ids, []string{"users", "admins"}) {
			t.Errorf("%s: taken as %q", name, ids)
		}
	}
	// What tells may stand behind the list, and what is cut is taken, to be told.
	for text, want := range map[string]bool{text: true, text[:len(text)-1]: true, `{"others": [` + list + `], "users": [{"id": "a"}]}`: true,
		`{"others": [` + list + `], "people": []}`: false, `{"others": [` + list + `], "people": [}`: true} {
		if got := Format([]*Map{m}).Claims("u.json", reads(text)); got != want {
			t.Errorf("%.20s…%s: claimed %v", text, text[len(text)-20:], got)
		}
	}
}

// reads gives a text as gather does.
func reads(text string) func(int) ([]byte, error) {
	return func(most int) ([]byte, error) {
		if most == 0 {
			most = len(text)
		}
		return []byte(text[:min(most, len(text))]), nil
	}
}

// A long list that is left as rows holds what it holds taken apart, on the same lines, is
// kept alike and has the same mistakes.
func TestRowsAreWhatTheyAreTakenApart(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 4))
	pick := func(of ...string) string { return of[rnd.IntN(len(of))] }
	space := func() string { return pick("", " ", "\n", "\r\n  ", "\t") }
	var made func(depth int) string
	made = func(depth int) string {
		var b strings.Builder
		switch k := rnd.IntN(9); {
		case depth > 3 || k < 3:
			return pick("null", "true", "false", "0", "-1.5e3", `""`, `"x"`, `"é\u00e9\n\"q\""`, `"\ud83d\ude00"`, `"\ud83d x"`,
				`"a://b:c@d"`, `"[struck out]"`,
				`"\u0024"`, `"$6$abcdefgh$abcdefghijkl"`)
		case k == 3:
			for i := range rnd.IntN(4) {
				b.WriteString(map[bool]string{true: ","}[i > 0] + space() + made(depth+1) + space())
			}
			return "[" + b.String() + "]"
		}
		names := []string{"id", "name", "value", "token", "secretText", "other", "passwordPolicies", "a b", "\u0061"}
		rnd.Shuffle(len(names), func(i, j int) { names[i], names[j] = names[j], names[i] })
		if rnd.IntN(3) > 0 {
			slices.Sort(names) // most rows are alike
		}
		for i, name := range names[:rnd.IntN(len(names)+1)] {
			b.WriteString(map[bool]string{true: ","}[i > 0] + space() + `"` + name + `"` + space() + ":" + space() + made(depth+1) + space())
		}
		return "{" + b.String() + "}"
	}
	known := &words{anywhere: map[string]bool{"id": true, "name": true, "value": true, "passwordpolicies": true, "list": true}}
	for round := range 40 {
		var b strings.Builder
		for i := range enoughItems + 40 {
			b.WriteString(map[bool]string{true: ","}[i > 0] + space() + made(1+round%2) + space())
		}
		text := pick(`{"before": 1, "list": [`+b.String()+`], "other": {"id": "z"}}`, `[`+b.String()+`]`)
		switch round % 10 {
		case 8: // cut somewhere
			text = text[:len(text)/2+rnd.IntN(len(text)/2)]
		case 9:
			text = strings.Replace(text, `"id"`, `"id": 1, "id"`, -1)
		}
		how := reading{words: known, keepAll: round%3 == 0}
		if round%7 == 0 {
			how.words = nil
		}
		whole, rows := &intake.Part{Path: "x.json", Data: []byte(text)}, &intake.Part{Path: "x.json", Data: []byte(text)}
		x, err := parseAs(whole, how)
		how.rows = true
		y, again := parseAs(rows, how)
		if fmt.Sprint(err) != fmt.Sprint(again) {
			t.Fatalf("%v, as rows %v", err, again)
		}
		if err != nil {
			continue
		}
		keptWhole, aStruck, aNot := whole.Copy()
		keptRows, bStruck, bNot := rows.Copy()
		if aStruck != bStruck || aNot != bNot || !bytes.Equal(keptWhole, keptRows) {
			t.Fatalf("kept %d %d %s, as rows %d %d %s", aStruck, aNot, keptWhole, bStruck, bNot, keptRows)
		}
		if round%4 == 1 {
			spelled := map[string]string{"id": "Id", "name": "value", "other": "OTHER"}
			x, y = x.asShell(spelled), y.asShell(spelled)
		}
		for _, path := range []string{"$", "$.list[*]", "$[*].Id", "$.list[*].OTHER.Id", "$.list[*].OTHER[*].Id", "$[*]", "$[*].id",
			"$.list[*].id", "$.list[*].other.id", "$[*].value[*]", "$.list[205].id", "$[-1].id", "$[9999].id", "$[-9999]", "$.list[3]",
			"$.before[0]",
			"$.list[?@.name].id", "$[?@.id == 'x']", "$.list[?@.id == $.before]", "$..id", "$.*.id", "$.list[*].*", "$.list", "$[*]['a b']",
			"$.list[*]['id','name']", "$[?@.other].other.*", "$.list[?@.id]..name"} {
			r := routeOf(jsonpath.MustParse(path))
			got, want := ask(y.value, y.lines, r), ask(x.value, x.lines, r)
			for i := range got {
				got[i].value, _ = takenApart(got[i].value, noLines)
			}
			for _, all := range [][]found{got, want} { // the package takes members in any order
				slices.SortFunc(all, func(x, y found) int { return strings.Compare(x.path, y.path) })
			}
			if !reflect.DeepEqual(got, want) {
				i := slices.IndexFunc(want, func(f found) bool {
					return !slices.ContainsFunc(got, func(g found) bool { return reflect.DeepEqual(f, g) })
				})
				t.Fatalf("round %d, %s: %d values, as rows %d; without %v", round, path, len(want), len(got), want[i])
			}
			if len(r.located(y.value)) != len(want) || r.somewhere(y.value) != (len(want) > 0) {
				t.Fatalf("round %d, %s: another number of values", round, path)
			}
		}
	}
}

// The rows of a table are what they would be taken apart, on their lines, and of a shell's
// table the cells have values.
func TestRowsOfATable(t *testing.T) {
	d, err := parseAs(&intake.Part{Path: "x.csv", Data: []byte("Id,Name,Id,on\n1,\"a\nb\",2,True\n3\n4,,5,System.String[],6\n")}, reading{})
	if err != nil {
		t.Fatal(err)
	}
	said := func(d *document, path string) (all []string) {
		for _, f := range ask(d.value, d.lines, routeOf(jsonpath.MustParse(path))) {
			all = append(all, fmt.Sprintf("%d %s %v", f.line, f.path, f.value))
		}
		return all
	}
	shell := d.asShell(map[string]string{"id": "id"})
	for path, want := range map[string][]string{
		"$[*].Name":       {"2 $[0]['Name'] a\nb", "5 $[2]['Name'] "},
		"$[*].Id":         {"2 $[0]['Id'] 2", "5 $[2]['Id'] 5"},
		"$[*].on":         {"2 $[0]['on'] True", "5 $[2]['on'] System.String[]"},
		"$[2]['on','Id']": {"5 $[2]['on'] System.String[]", "5 $[2]['Id'] 5"},
	} {
		if got := said(d, path); !slices.Equal(got, want) {
			t.Errorf("%s: %q, want %q", path, got, want)
		}
	}
	for path, want := range map[string][]string{
		"$[*].Name": {"2 $[0]['Name'] a\nb", "5 $[2]['Name'] <nil>"}, "$[*].id": {"2 $[0]['id'] 2", "5 $[2]['id'] 5"},
		"$[*].on": {"2 $[0]['on'] true", "5 $[2]['on'] <nil>"}, "$[1]['on','id']": nil,
	} {
		if got := said(shell, path); !slices.Equal(got, want) {
			t.Errorf("of a shell, %s: %q, want %q", path, got, want)
		}
	}
	var on Path
	if err := on.parse("on"); err != nil {
		t.Fatal(err)
	}
	for i, want := range []string{"true", "", ""} {
		if text, _ := first(element{&shell.value.(*long).rest[i], noLines}, on); text != want {
			t.Errorf("row %d: %q, want %q", i, text, want)
		}
	}
}

// What is written wrongly is told where it stands, at whatever depth.
func TestMistakesAreToldWhereTheyStand(t *testing.T) {
	const good = `id: x
title: X
follows: y
platform: identity-provider
name: [{export: a, at: name}]
exports: [{id: a, json: ["$.name"]}]
settings:
  - {setting: min-length, export: a, at: "$.length"}
`
	if _, err := Parse("x.yaml", []byte(good)); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ old, now, want string }{
		{`"$.length"`, `"$.["`, `x.yaml:8:42: "$.[" is no JSONPath`}, {`at: name`, `at: {b: c}`, "x.yaml:5:24: a single value is expected here"},
		{`{export: a, at: name}`, `{exprot: a, at: name}`, `x.yaml:5:9: unknown key "exprot"; the nearest is "export"`},
		{`[{export: a, at: name}]`, `{export: a, at: "$["}`, `x.yaml:5:23: "$[" is no JSONPath`},
		{`[{export: a, at: name}]`, `3`, "x.yaml:5:7: a single value stands where a mapping (key: value) is expected"},
		{`["$.name"]`, `{a: b}`, "x.yaml:6:25: a mapping (key: value) stands where a list"},
		{`title: X`, `title: [X]`, "x.yaml:2:8: a list (- a, or [a, b]) stands where a single value is expected"},
	} {
		_, err := Parse("x.yaml", []byte(strings.Replace(good, c.old, c.now, 1)))
		if err == nil || !strings.HasPrefix(err.Error(), c.want) {
			t.Errorf("%s: %v, want %s", c.now, err, c.want)
		}
	}
}

// A list of which a page is lacking, or may be, is not taken for whole.
func TestPagesThatLack(t *testing.T) {
	user := func(i int) string {
		return fmt.Sprintf(`{"id": "u%d", "status": "ACTIVE", "profile": {"login": "u%d@a.example"}}`, i, i)
	}
	list := func(from, n int) string {
		var all []string
		for i := range n {
			all = append(all, user(from+i))
		}
		return "[" + strings.Join(all, ",") + "]"
	}
	office := func(from, next string) string {
		return fmt.Sprintf(`{"@odata.nextLink": %q, "value": [{"id": %q, "userPrincipalName": "%s@a.example", "accountEnabled": true}]}`, next, from, from)
	}
	for name, c := range map[string]struct {
		files map[string]string
		cut   bool
	}{
		"short of the limit":        {map[string]string{"users.json": list(0, 199)}, false},
		"as long as the limit":      {map[string]string{"users.json": list(0, 200)}, true},
		"a full page, and the rest": {map[string]string{"users.json": list(0, 200), "users.page2.json": list(200, 3)}, false},
		"a page in the middle":      {map[string]string{"users.json": list(0, 200), "users.page3.json": list(400, 3)}, true},
		"links, and all":            {map[string]string{"users1.json": office("a", "x"), "users2.json": office("b", "")}, false},
		"links, and one lacks":      {map[string]string{"users1.json": office("a", "x"), "users3.json": office("b", "")}, true},
	} {
		tree := &intake.Tree{Name: "t", Path: "t"}
		for _, file := range slices.Sorted(maps.Keys(c.files)) {
			tree.Parts = append(tree.Parts, &intake.Part{Name: file, Path: file, Stored: file, Data: []byte(c.files[file])})
		}
		b := estate.NewBuilder()
		if err := read(shipped(t), tree, b); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		cut := slices.ContainsFunc(b.Finish()[0].Remarks, func(m estate.Remark) bool { return m.Kind == estate.ListCut })
		if cut != c.cut {
			t.Errorf("%s: cut %v", name, cut)
		}
	}
}

// Whom a rule asks at every sign-in: only where every word of it is understood, and reaches
// the account by everything in evidence. One thing of a rule for everybody is changed at a time.
func TestRulesUnderstoodWhole(t *testing.T) {
	const whole = `{"id": "p", "displayName": "p", "state": "enabled", "sessionControls": null, "grantControls": {"operator": "OR", "builtInControls": ["mfa"]},
 "conditions": {"clientAppTypes": ["all"], "locations": null, "applications": {"includeApplications": ["All"], "excludeApplications": []},
 "users": {"includeUsers": ["All"], "excludeUsers": [], "includeGroups": [], "excludeGroups": [], "includeRoles": [], "excludeRoles": []}}}`
	const asked, notAsked, open = "factor-required", "factor-not-required", ""
	for name, c := range map[string]struct{ was, is, member, guest string }{
		"as it is":                  {"", "", asked, asked},
		"guests left out":           {`"excludeUsers": []`, `"excludeUsers": ["GuestsOrExternalUsers"]`, asked, notAsked},
		"for guests":                {`"includeUsers": ["All"]`, `"includeUsers": ["GuestsOrExternalUsers"]`, notAsked, asked},
		"for nobody":                {`"includeUsers": ["All"]`, `"includeUsers": ["None"]`, notAsked, notAsked},
		"some guests left out":      {`"excludeUsers": []`, `"excludeUsers": [], "excludeGuestsOrExternalUsers": {"guestOrExternalUserTypes": "internalGuest"}`, open, open},
		"a word that is not known":  {`"excludeUsers": []`, `"excludeUsers": ["Everyone"]`, open, open},
		"somebody else left out":    {`"excludeUsers": []`, `"excludeUsers": ["9c000001-2222-4333-8444-000000000009"]`, asked, asked},
		"a group that is not there": {`"excludeGroups": []`, `"excludeGroups": ["g9"]`, open, open},
		"a role, and no roles":      {`"excludeRoles": []`, `"excludeRoles": ["r"]`, open, open},
		"nothing or that":           {`"operator": "OR", "builtInControls": ["mfa"]`, `"builtInControls": ["mfa", "compliantDevice"]`, open, open},
		"both":                      {`"operator": "OR", "builtInControls": ["mfa"]`, `"operator": "AND", "builtInControls": ["mfa", "compliantDevice"]`, asked, asked},
		"a block":                   {`["mfa"]`, `["block"]`, notAsked, notAsked},
		"terms instead":             {`"operator": "OR"`, `"operator": "OR", "termsOfUse": ["t"]`, open, open},
		"a factor of others":        {`"operator": "OR"`, `"operator": "OR", "customAuthenticationFactors": ["f"]`, open, open},
		"a strength":                {`"builtInControls": ["mfa"]`, `"builtInControls": [], "authenticationStrength": {"id": "s", "requirementsSatisfied": "mfa"}`, asked, asked},
		"a strength of nothing":     {`"builtInControls": ["mfa"]`, `"builtInControls": [], "authenticationStrength": {"id": "s", "requirementsSatisfied": "none"}`, open, open},
		"only reported":             {`"enabled"`, `"enabledForReportingButNotEnforced"`, notAsked, notAsked},
		"browsers alone":            {`["all"]`, `["browser"]`, open, open},
		"how sign-ins go":           {`"locations": null`, `"authenticationFlows": {"transferMethods": "deviceCodeFlow"}`, open, open},
		"a filter of applications":  {`"excludeApplications": []`, `"excludeApplications": [], "applicationFilter": {"mode": "exclude", "rule": "x"}`, open, open},
		"an action":                 {`"includeApplications": ["All"]`, `"includeApplications": [], "includeUserActions": ["urn:user:registersecurityinfo"]`, open, open},
		"a member of later":         {`"locations": null`, `"locations": null, "tides": ["high"]`, open, open},
		"empty ones":                {`"locations": null`, `"locations": {"includeLocations": ["All"], "excludeLocations": []}, "platforms": null, "userRiskLevels": []`, asked, asked},
	} {
		if c.was != "" && strings.Count(whole, c.was) != 1 {
			t.Fatalf("%s: %s is there %d times", name, c.was, strings.Count(whole, c.was))
		}
		all := tree("users.json", `{"value": [{"id": "1", "userPrincipalName": "ada@x.example", "accountEnabled": true, "userType": "Member"},
  {"id": "2", "userPrincipalName": "bo@x.example", "accountEnabled": true, "userType": "Guest"}]}`,
			"domains.json", `{"value": [{"id": "x.example", "isInitial": true, "authenticationType": "Managed", "passwordValidityPeriodInDays": 90}]}`,
			"securityDefaults.json", `{"displayName": "Security Defaults", "isEnabled": false}`,
			"conditionalAccess.json", `{"@odata.context": "https://d/$metadata#identity/conditionalAccess/policies", "value": [`+strings.Replace(whole, c.was, c.is, 1)+`]}`)
		b := estate.NewBuilder()
		if err := read(shipped(t), all, b); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		a := b.Finish()[0]
		if said := strings.Contains(fmt.Sprint(a.Remarks), "conditions.tides"); said != (name == "a member of later") {
			t.Errorf("%s: %v", name, a.Remarks)
		}
		for row := range a.Objects.Len() {
			want := map[string]string{"ada@x.example": c.member, "bo@x.example": c.guest}[a.Objects.Name.At(row)]
			if a.Objects.ClassOf(row) != estate.Account {
				continue
			}
			got := ""
			for _, flag := range a.Objects.FlagsOf(row).Names() {
				if flag == asked || flag == notAsked {
					got = flag
				}
			}
			if got != want {
				t.Errorf("%s: %s is %q, want %q", name, a.Objects.Name.At(row), got, want)
			}
		}
	}
}

// Two exports of one list are not read as one; pages are.
func TestListTwice(t *testing.T) {
	user := func(id, enabled string) string {
		return fmt.Sprintf(`{"id": "%s", "userPrincipalName": "%s@x.example", "accountEnabled": %s, "userType": "Member"}`, id, id, enabled)
	}
	domains := `{"value": [{"id": "x.example", "isInitial": true, "authenticationType": "Managed", "passwordValidityPeriodInDays": 90}]}`
	err := read(shipped(t), tree("domains.json", domains, "users.json", `{"value": [`+user("1", "true")+","+user("2", "true")+`]}`,
		"users-old.json", `{"value": [`+user("1", "false")+","+user("2", "true")+`]}`), estate.NewBuilder())
	if err == nil || !strings.Contains(err.Error(), "a second export of the list that folder/users.json is of") {
		t.Errorf("%v", err)
	}
	if err := read(shipped(t), tree("domains.json", domains, "users-1.json", `{"@odata.nextLink": "https://d/2", "value": [`+user("1", "true")+","+user("2", "true")+`]}`,
		"users-2.json", `{"value": [`+user("3", "true")+","+user("4", "true")+`]}`), estate.NewBuilder()); err != nil {
		t.Errorf("pages: %v", err)
	}
}
