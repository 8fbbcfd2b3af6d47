package benchmark

import (
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"
)

// The idioms of publishers: how documents say what they mean, one by one.
func TestIdioms(t *testing.T) {
	line := func(id, file, pattern, existence, state string) (tests, objects string) {
		of := ""
		if state != "" {
			of = `<state state_ref="` + state + `"/>`
		}
		if existence != "" {
			existence = ` check_existence="` + existence + `"`
		}
		return fmt.Sprintf(`<textfilecontent54_test id="t%s" check="all"%s><object object_ref="o%s"/>%s</textfilecontent54_test>`, id, existence, id, of),
			fmt.Sprintf(`<textfilecontent54_object id="o%s"><filepath>%s</filepath><pattern operation="pattern match">%s</pattern>`+
				`<instance datatype="int" operation="greater than or equal">1</instance></textfilecontent54_object>`, id, file, pattern)
	}
	least := func(id, op string, n int) string {
		return fmt.Sprintf(`<textfilecontent54_state id="%s"><subexpression datatype="int" operation="%s">%d</subexpression>`+
			`</textfilecontent54_state>`, id, op, n)
	}
	const deny = `^\s*auth\s.*pam_(?:faillock|tally2)\.so\s.*\bdeny=(\d+)\b`
	for name, c := range map[string]struct{ criteria, rest, want string }{
		"in the file, or in the stack": func() (c struct{ criteria, rest, want string }) {
			t1, o1 := line("1", "/etc/security/faillock.conf", `^\s*deny\s*=\s*(\d+)`, "", "s5")
			t2, o2 := line("2", "/etc/pam.d/system-auth", deny, "", "s5")
			t3, o3 := line("3", "/etc/pam.d/system-auth", deny, "none_exist", "")
			c.criteria = `<criteria operator="OR"><criteria><criterion test_ref="t1"/><criterion test_ref="t3"/></criteria><criterion test_ref="t2"/></criteria>`
			c.rest = t1 + t2 + t3 + "¦" + o1 + o2 + o3 + "¦" + least("s5", "less than or equal", 5)
			c.want = "lockout-threshold at most 5 failed attempts, or never locks"
			return c
		}(),
		"in the file, and not in the stack": func() (c struct{ criteria, rest, want string }) {
			t1, o1 := line("1", "/etc/security/faillock.conf", `^\s*deny\s*=\s*(\d+)`, "", "s5")
			t3, o3 := line("3", "/etc/pam.d/system-auth", deny, "none_exist", "")
			c.criteria = `<criteria><criterion test_ref="t1"/><criterion test_ref="t3"/></criteria>`
			c.rest, c.want = t1+t3+"¦"+o1+o3+"¦"+least("s5", "less than or equal", 5), "lockout-threshold at most 5 failed attempts, or never locks"
			return c
		}(),
		"the older module for lockout": func() (c struct{ criteria, rest, want string }) {
			t1, o1 := line("1", "/etc/pam.d/common-auth", `^\s*auth\h++required\h++pam_tally2\.so\h.*\bunlock_time=(\d++)`, "", "s900")
			c.criteria, c.rest = `<criteria><criterion test_ref="t1"/></criteria>`, t1+"¦"+o1+"¦"+least("s900", "greater than or equal", 900)
			c.want = "lockout-duration at least 15 minutes"
			return c
		}(),
		"the older module for quality": func() (c struct{ criteria, rest, want string }) {
			t1, o1 := line("1", "/etc/pam.d/common-password", `^[[:blank:]]*password[[:blank:]](?!#).*pam_cracklib\.so.*\bminlen=(\d+)`, "", "s14")
			c.criteria, c.rest = `<criteria><criterion test_ref="t1"/></criteria>`, t1+"¦"+o1+"¦"+least("s14", "greater than or equal", 14)
			c.want = "min-length at least 14 characters"
			return c
		}(),
		"a variable of an object": func() (c struct{ criteria, rest, want string }) {
			_, o1 := line("1", "/etc/login.defs", `^\s*PASS_MAX_DAYS\s+(\d+)\s*$`, "", "")
			c.criteria = `<criteria><criterion test_ref="t1"/></criteria>`
			c.rest = `<variable_test id="t1" check="all"><object object_ref="ov"/><state state_ref="sv"/></variable_test>¦` + o1 +
				`<variable_object id="ov"><var_ref>v1</var_ref></variable_object>¦<variable_state id="sv"><value datatype="int" ` +
				`operation="less than or equal">365</value></variable_state>¦<local_variable id="v1" datatype="int"><object_component ` +
				`object_ref="o1" item_field="subexpression"/></local_variable>`
			c.want = "max-age at most 365 days"
			return c
		}(),
		"a figure of the document's own": func() (c struct{ criteria, rest, want string }) {
			t1, o1 := line("1", "/etc/login.defs", `^\s*PASS_MAX_DAYS\s+(\d+)\s*$`, "", "s365")
			c.criteria = `<criteria><criterion test_ref="t1"/><criterion test_ref="t2"/></criteria>`
			c.rest = t1 + `<variable_test id="t2" check="all"><object object_ref="ov"/><state state_ref="sv"/></variable_test>¦` + o1 +
				`<variable_object id="ov"><var_ref>v1</var_ref></variable_object>¦` + least("s365", "less than or equal", 365) +
				`<variable_state id="sv"><value datatype="int" operation="greater than">0</value></variable_state>¦<constant_variable id="v1" ` +
				`datatype="int"><value>365</value></constant_variable>`
			c.want = "max-age at most 365 days"
			return c
		}(),
		"accounts with a password": {`<criteria><criterion test_ref="t1"/></criteria>`, `<shadow_test id="t1" check="all"><object object_ref="o1"/>` +
			`<state state_ref="s1"/></shadow_test>¦<shadow_object id="o1"><username operation="pattern match">.*</username>` +
			`<filter action="exclude">f1</filter></shadow_object>¦<shadow_state id="s1"><chg_allow datatype="int" operation="greater than or equal">` +
			`1</chg_allow></shadow_state><shadow_state id="f1"><password operation="pattern match">^[!*]</password></shadow_state>`,
			"min-age at least 1 day"},
		"accounts whose hash is of a kind": {`<criteria><criterion test_ref="t1"/></criteria>`, `<shadow_test id="t1" check="all"><object ` +
			`object_ref="o1"/><state state_ref="s1"/></shadow_test>¦<shadow_object id="o1"><username operation="pattern match">.*</username>` +
			`<filter action="include">f1</filter></shadow_object>¦<shadow_state id="s1"><chg_allow datatype="int" operation="greater than or equal">` +
			`1</chg_allow></shadow_state><shadow_state id="f1"><password operation="pattern match">^\$6\$</password></shadow_state>`,
			"its filter leaves out accounts that have a password"},
		"a key that ends in a backslash": {`<criteria><criterion test_ref="t1"/></criteria>`, `<registry_test id="t1" check="all"><object ` +
			`object_ref="o1"/><state state_ref="s1"/></registry_test>¦<registry_object id="o1"><hive>HKEY_LOCAL_MACHINE</hive><key>` +
			`System\CurrentControlSet\Control\Lsa\</key><name>NoLMHash</name></registry_object>¦<registry_state id="s1"><value datatype="int">1` +
			`</value></registry_state>`, "lm-hash-stored off"},
	} {
		parts := append(strings.Split(c.rest, "¦"), "")
		doc := `<oval_definitions xmlns="http://oval.mitre.org/XMLSchema/oval-definitions-5"><generator/><definitions><definition ` +
			`class="compliance" id="d">` + c.criteria + `</definition></definitions><tests>` + parts[0] + `</tests><objects>` + parts[1] +
			`</objects><states>` + parts[2] + `</states><variables>` + parts[3] + `</variables></oval_definitions>`
		got, err := Read(Source{File: "q.xml", Data: []byte("\xef\xbb\xbf" + doc)}, Options{})
		if err != nil {
			t.Errorf("%s: %v\n%s", name, err, doc)
			continue
		}
		said := strings.Join(got.demanded(), "; ")
		if said = strings.TrimSuffix(said, " (d, serious)"); said == "" {
			said = got.Rules[0].Why
		}
		if said != c.want {
			t.Errorf("%s: %q, want %q", name, said, c.want)
		}
	}
}

// What Perl's patterns have besides comes to the same in the words of the engines here.
func TestPatternsOfPerl(t *testing.T) {
	for text, c := range map[string]struct{ fits, not string }{
		`^a\h+b$`:                {"a \tb", "a\nb"},
		`^[\h]*x`:                {"\t x", "\nx"},
		`^a\H$`:                  {"ab", "a\t"},
		`^"[^"]*+"$`:             {`"quay"`, `"quay`},
		`^a++ab`:                 {"", "aaab"}, // nothing is given back
		`^(?:ab)?+ab$`:           {"abab", "ab"},
		`^a{2,3}+a$`:             {"aaaa", "aaa"},
		`^[[:alpha:]_]+$`:        {"ab_", "a1"},
		`^[^[:space:]]+(?=x)`:    {"quayx", " x"},
		`(?<!#)[[:digit:]]{2}`:   {"14", "a1"},
		`^\Qa.b[c]\E$`:           {"a.b[c]", "axb[c]"},
		`^[]x]+$`:                {"]x", "y"},
		`^{x}$`:                  {"{x}", "x"},
		`^\[a\]\+$`:              {"[a]+", "a"},
		`^(a)(?:b)++(c)$`:        {"abbc", "abb"},
		`^[\\h]$`:                {"h", " "},
		`^minlen\s*+=\s*+(\d++)`: {"minlen = 14", "minlen x"},
	} {
		spent := time.Duration(0)
		m, err := pattern(text, &spent)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if c.fits != "" && len(m.all(c.fits)) == 0 || len(m.all(c.not)) > 0 {
			t.Errorf("%s: of %q %d, of %q %d", text, c.fits, len(m.all(c.fits)), c.not, len(m.all(c.not)))
		}
	}
	for _, text := range []string{`a\Kb`, `(?R)`, `\X`, `(?|a|b)`} {
		spent := time.Duration(0)
		if _, err := pattern(text, &spent); err == nil {
			t.Errorf("%s is taken, and is not what the engine knows", text)
		}
	}
}

// FuzzTranslated: what is a pattern for Go, with nothing of Perl's, stays one and finds the same.
func FuzzTranslated(f *testing.F) {
	f.Add(`^\s*deny\s*=\s*(\d+)`, "deny = 5")
	f.Add(`[[:alpha:]a-z\]]{2,}?`, "ab]")
	f.Fuzz(func(t *testing.T, text, on string) {
		before, err := regexp.Compile(text)
		if err != nil || strings.Contains(text, `\h`) || len(text) > 200 {
			return
		}
		after, err := regexp.Compile(translated(text))
		if err != nil {
			t.Fatalf("%q became %q: %v", text, translated(text), err)
		}
		if a, b := fmt.Sprint(before.FindAllString(on, -1)), fmt.Sprint(after.FindAllString(on, -1)); a != b {
			t.Fatalf("%q became %q: of %q %s, before %s", text, translated(text), on, b, a)
		}
	})
}
