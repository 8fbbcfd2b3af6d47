package benchmark

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/setting"
)

// The tests write documents after the open specifications, and judge what was made of
// them by a plain reading: each test is asked about what stands on a system.

// asks is a comparison of one thing on a system.
type asks struct {
	thing  string // "min_passwd_len", "login.defs PASS_MAX_DAYS", …
	op     string
	values []string
	how    string // of several values
	none   bool   // no item may be so
	states []asks // further comparisons in the same state
	any    bool   // one of them is enough
	form   int    // how it is written in the document
}

// tree is criteria.
type tree struct {
	op     string
	negate bool
	below  []*tree
	leaf   *asks
	extend bool // by a definition of its own
	what   int  // a condition of the system, from 1 on, and no leaf
}

// isSo is where a system keeps whether a condition is so.
func isSo(what int) setting.ID { return setting.ID(fmt.Sprint("condition ", what)) }

// system is what stands on one: settings, and how each is written.
type system map[setting.ID]setting.Value

// things are what can be asked, with the setting, and what stands there for a value.
var things = map[string]struct {
	id    setting.ID
	write func(setting.Value) string
}{
	"max_passwd_age":                      {"max-age", seconds("4294967295")},
	"min_passwd_age":                      {"min-age", seconds("0")},
	"min_passwd_len":                      {"min-length", seconds("")},
	"password_hist_len":                   {"history", seconds("")},
	"lockout_duration":                    {"lockout-duration", seconds("0")},
	"lockout_threshold":                   {"lockout-threshold", seconds("0")},
	"lockout_observation_window":          {"lockout-window", seconds("0")},
	"password_complexity":                 {"complexity", truths("1", "0")},
	"reversible_encryption":               {"reversible", truths("1", "0")},
	"registry NoLMHash":                   {"lm-hash-stored", truths("0", "1")},
	"registry PasswordAgeDays":            {"managed-admin-age", days("")},
	"registry MinimumPasswordLengthAudit": {"min-length-audit", seconds("")},
	"login.defs PASS_MAX_DAYS":            {"max-age", days("99999")},
	"login.defs PASS_MIN_DAYS":            {"min-age", days("0")},
	"login.defs PASS_WARN_AGE":            {"expiry-warning", days("")},
	"useradd INACTIVE":                    {"inactive-disable", days("-1")},
	"pwquality.conf minlen":               {"min-length", seconds("")},
	"pwquality.conf maxrepeat":            {"max-repeat", seconds("0")},
	"pwquality.conf dcredit": {"require-digit", func(v setting.Value) string {
		n, _ := v.Number()
		return strconv.FormatInt(-n,
			10)
	}},
	"faillock.conf deny":          {"lockout-threshold", seconds("0")},
	"faillock.conf unlock_time":   {"lockout-duration", seconds("0")},
	"faillock.conf fail_interval": {"lockout-window", seconds("0")},
	"system-auth deny":            {"lockout-threshold", seconds("0")},
	"system-auth unlock_time":     {"lockout-duration", seconds("0")},
	"system-auth remember":        {"history", seconds("")},
	"shadow chg_req":              {"max-age", days("99999")},
	"shadow chg_allow":            {"min-age", days("0")},
}

func seconds(special string) func(setting.Value) string {
	return func(v setting.Value) string {
		if n, ok := v.Number(); ok {
			return strconv.FormatInt(n, 10)
		}
		return special
	}
}

func days(special string) func(setting.Value) string {
	return func(v setting.Value) string {
		if n, ok := v.Number(); ok {
			return strconv.FormatInt(n/86400, 10)
		}
		return special
	}
}

func truths(on, off string) func(setting.Value) string {
	return func(v setting.Value) string { return map[bool]string{true: on, false: off}[v == setting.On] }
}

// says reads a comparison plainly.
func (a *asks) says(on system) bool {
	thing := things[a.thing]
	have := thing.write(on[thing.id])
	n := 0
	for _, want := range a.values {
		if plainly1(have, a.op, want) {
			n++
		}
	}
	is := n == len(a.values)
	switch a.how {
	case "at least one":
		is = n > 0
	case "none satisfy":
		is = n == 0
	case "only one":
		is = n == 1
	}
	for i := range a.states {
		if a.any {
			is = is || a.states[i].says(on)
		} else {
			is = is && a.states[i].says(on)
		}
	}
	return is != a.none
}

func plainly1(have, op, want string) bool {
	x, _ := strconv.ParseInt(have, 10, 64)
	y, _ := strconv.ParseInt(want, 10, 64)
	return map[string]bool{"equals": x == y, "not equal": x != y, "greater than": x > y, "greater than or equal": x >= y, "less than": x < y,
		"less than or equal": x <= y}[op]
}

func (t *tree) says(on system) bool {
	if t.what > 0 {
		return (on[isSo(t.what)] == setting.On) != t.negate
	}
	if t.leaf != nil {
		return t.leaf.says(on) != t.negate
	}
	n := 0
	for _, b := range t.below {
		if b.says(on) {
			n++
		}
	}
	is := map[string]bool{"AND": n == len(t.below), "OR": n > 0, "ONE": n == 1, "XOR": n%2 == 1}[t.op]
	return is != t.negate
}

// writer writes documents.
type writer struct {
	rnd                                               *rand.Rand
	definitions, tests, objects, states, vars, values strings.Builder
	exports                                           strings.Builder
	n                                                 int
	old                                               bool // XCCDF 1.1.4
	conditions                                        map[int]string
}

func (w *writer) id(kind string) string {
	w.n++
	return fmt.Sprintf("oval:example.harbour:%s:%d", kind, w.n)
}

const operations = "equals|not equal|greater than|greater than or equal|less than|less than or equal"

// expected writes what a value is compared with: as it is, or by a variable.
func (w *writer) expected(name string, a *asks, datatype string) string {
	op := fmt.Sprintf(` operation="%s"`, a.op)
	if a.op == "equals" && w.rnd.IntN(2) == 0 {
		op = ""
	}
	if datatype != "" {
		op += fmt.Sprintf(` datatype="%s"`, datatype)
	}
	if len(a.values) == 1 && a.form%4 == 0 {
		return fmt.Sprintf("<%s%s>%s</%s>", name, op, a.values[0], name)
	}
	v := w.id("var")
	switch {
	case a.form%4 == 1 || len(a.values) > 1:
		fmt.Fprintf(&w.vars, `<constant_variable id="%s" version="1" datatype="int" comment="c">`, v)
		for _, x := range a.values {
			fmt.Fprintf(&w.vars, "<value>%s</value>", x)
		}
		w.vars.WriteString("</constant_variable>")
	case a.form%4 == 2:
		value := fmt.Sprintf("xccdf_example.harbour_value_v%d", w.n)
		fmt.Fprintf(&w.vars, `<external_variable id="%s" version="1" datatype="int" comment="c"/>`, v)
		fmt.Fprintf(&w.values, `<Value id="%s" type="number"><title>t</title><value>77777</value><value selector="strict">%s</value></Value>`,
			value, a.values[0])
		fmt.Fprintf(&w.exports, `<check-export value-id="%s" export-name="%s"/>`, value, v)
	default: // half of it, twice, and one more
		n, _ := strconv.ParseInt(a.values[0], 10, 64)
		c := w.id("var")
		fmt.Fprintf(&w.vars, `<constant_variable id="%s" version="1" datatype="int" comment="c"><value>%d</value></constant_variable>`, c, n-1)
		fmt.Fprintf(&w.vars, `<local_variable id="%s" version="1" datatype="int" comment="c"><arithmetic `+
			`arithmetic_operation="add"><variable_component var_ref="%s"/><literal_component>1</literal_component></arithmetic>`+
			`</local_variable>`, v, c)
	}
	how := ""
	if a.how != "" {
		how = fmt.Sprintf(` var_check="%s"`, a.how)
	}
	return fmt.Sprintf(`<%s%s var_ref="%s"%s/>`, name, op, v, how)
}

// test writes a test, and returns its id.
func (w *writer) test(a *asks) string {
	test, object, state := w.id("tst"), w.id("obj"), w.id("ste")
	check := map[bool]string{true: "none satisfy", false: "all"}[a.none]
	kind, of := strings.Cut, a.thing
	where, name, inFile := kind(of, " ")
	joiner := ""
	if a.any {
		joiner = ` operator="OR"`
	}
	entities := func(entity func(x *asks) string) string {
		text := entity(a)
		for i := range a.states {
			text += entity(&a.states[i])
		}
		return text
	}
	datatype := func(thing string) string {
		if strings.Contains(thing, "complexity") || strings.Contains(thing, "reversible") {
			return "boolean"
		}
		return "int"
	}
	switch {
	case !inFile:
		family := "passwordpolicy"
		if strings.HasPrefix(a.thing, "lockout") {
			family = "lockoutpolicy"
		}
		const win = ` xmlns="http://oval.mitre.org/XMLSchema/oval-definitions-5#windows"`
		fmt.Fprintf(&w.tests, `<%s_test%s id="%s" version="1" check="%s" check_existence="at_least_one_exists" comment="c">`+
			`<object object_ref="%s"/><state state_ref="%s"/></%s_test>`, family, win, test, check, object, state, family)
		fmt.Fprintf(&w.objects, `<%s_object%s id="%s" version="1"/>`, family, win, object)
		fmt.Fprintf(&w.states, `<%s_state%s id="%s" version="1"%s>%s</%s_state>`, family, win, state, joiner,
			entities(func(x *asks) string { return w.expected(x.thing, x, datatype(x.thing)) }), family)
	case where == "registry":
		const win = ` xmlns="http://oval.mitre.org/XMLSchema/oval-definitions-5#windows"`
		key := map[string]string{"NoLMHash": `SYSTEM\CurrentControlSet\Control\Lsa`,
			"PasswordAgeDays":            `SOFTWARE\Microsoft\Windows\CurrentVersion\Policies\LAPS`,
			"MinimumPasswordLengthAudit": `System\CurrentControlSet\Control\SAM`}[name]
		fmt.Fprintf(&w.tests, `<registry_test%s id="%s" version="1" check="%s" comment="c"><object object_ref="%s"/><state `+
			`state_ref="%s"/></registry_test>`, win, test, check, object, state)
		fmt.Fprintf(&w.objects, `<registry_object%s id="%s" version="1"><hive>HKEY_LOCAL_MACHINE</hive><key>%s</key><name>`+
			`%s</name></registry_object>`, win, object, key, name)
		fmt.Fprintf(&w.states, `<registry_state%s id="%s" version="1"><type>reg_dword</type>%s</registry_state>`, win, state,
			w.expected("value", a, "int"))
	case where == "shadow":
		const nix = ` xmlns="http://oval.mitre.org/XMLSchema/oval-definitions-5#unix"`
		fmt.Fprintf(&w.tests, `<shadow_test%s id="%s" version="1" check="%s" comment="c"><object object_ref="%s"/><state `+
			`state_ref="%s"/></shadow_test>`, nix, test, check, object, state)
		fmt.Fprintf(&w.objects, `<shadow_object%s id="%s" version="1"><username operation="pattern match">.*</username></shadow_object>`, nix,
			object)
		fmt.Fprintf(&w.states, `<shadow_state%s id="%s" version="1">%s</shadow_state>`, nix, state, w.expected(name, a, "int"))
	default:
		const any = ` xmlns="http://oval.mitre.org/XMLSchema/oval-definitions-5#independent"`
		fmt.Fprintf(&w.tests, `<textfilecontent54_test%s id="%s" version="1" check="%s" check_existence="at_least_one_exists" `+
			`comment="c"><object object_ref="%s"/><state state_ref="%s"/></textfilecontent54_test>`, any, test, check, object, state)
		folder := map[string]string{"login.defs": "/etc", "useradd": "/etc/default", "system-auth": "/etc/pam.d"}[where]
		if folder == "" {
			folder = "/etc/security"
		}
		at := fmt.Sprintf("<path>%s</path><filename>%s</filename>", folder, where)
		if w.rnd.IntN(2) == 0 {
			at = fmt.Sprintf(`<filepath operation="pattern match">^%s/%s$</filepath>`, folder, strings.ReplaceAll(where, ".", `\.`))
		}
		pattern := map[string]string{"login.defs": `^[\s]*` + name + `[\s]+(-?\d+)\s*$`, "useradd": `^\s*` + name + `\s*=\s*(-?\d+)\s*$`,
			"system-auth": `^\s*(?:auth|password)\s+\S.*\spam_\w+\.so\s.*\b` + name + `=(\d+)\b.*$`}[where]
		if pattern == "" {
			pattern = []string{`^\s*` + name + `\s*=\s*(-?\d+)\s*(?:#.*)?$`, `^[ \t]*` + name + `[ \t=]+(-?[0-9]+)`}[w.rnd.IntN(2)]
		}
		fmt.Fprintf(&w.objects, `<textfilecontent54_object%s id="%s" version="1">%s<pattern operation="pattern match">%s</pattern>`+
			`<instance datatype="int" operation="greater than or equal">1</instance></textfilecontent54_object>`, any, object, at, pattern)
		fmt.Fprintf(&w.states, `<textfilecontent54_state%s id="%s" version="1">%s</textfilecontent54_state>`, any, state,
			w.expected("subexpression", a, "int"))
	}
	return test
}

// condition writes what asks whether the system is something: as documents do, each in
// another way.
func (w *writer) condition(what int) string {
	if w.conditions[what] != "" {
		return w.conditions[what]
	}
	if w.conditions == nil {
		w.conditions = map[int]string{}
	}
	test, object, state := w.id("tst"), w.id("obj"), w.id("ste")
	kind := []string{"family", "uname", "dpkginfo", "rpminfo", "registry"}[w.rnd.IntN(5)]
	entities, asked := "", "<x>y</x>"
	if kind == "registry" {
		entities = `<hive>HKEY_LOCAL_MACHINE</hive><key>SOFTWARE\Microsoft\Windows NT\CurrentVersion</key><name>ProductName</name>`
		asked = `<value operation="pattern match">Server 20</value>`
	}
	fmt.Fprintf(&w.tests, `<%s_test id="%s" version="1" check="all" comment="c"><object object_ref="%s"/><state state_ref="%s"/></%s_test>`,
		kind, test, object, state, kind)
	fmt.Fprintf(&w.objects, `<%s_object id="%s" version="1">%s</%s_object>`, kind, object, entities, kind)
	fmt.Fprintf(&w.states, `<%s_state id="%s" version="1">%s</%s_state>`, kind, state, asked, kind)
	w.conditions[what] = `<criterion%s test_ref="` + test + `" comment="c"/>`
	if w.rnd.IntN(2) == 0 {
		id := w.id("def")
		fmt.Fprintf(&w.definitions, `<definition class="inventory" id="%s" version="1"><metadata><title>t</title></metadata><criteria>`+
			`<criterion test_ref="%s" comment="c"/></criteria></definition>`, id, test)
		w.conditions[what] = `<extend_definition%s definition_ref="` + id + `" comment="c"/>`
	}
	return w.conditions[what]
}

func (w *writer) criteria(t *tree) string {
	negate := ""
	if t.negate {
		negate = ` negate="true"`
	}
	if t.what > 0 {
		return fmt.Sprintf(w.condition(t.what), negate)
	}
	if t.leaf != nil {
		return fmt.Sprintf(`<criterion%s test_ref="%s" comment="c"/>`, negate, w.test(t.leaf))
	}
	inside := ""
	for _, b := range t.below {
		inside += w.criteria(b)
	}
	if t.extend {
		id := w.id("def")
		fmt.Fprintf(&w.definitions, `<definition class="compliance" id="%s" version="1"><metadata><title>t</title></metadata>`+
			`<criteria operator="%s">%s</criteria></definition>`, id, t.op, inside)
		return fmt.Sprintf(`<extend_definition%s definition_ref="%s" comment="c"/>`, negate, id)
	}
	return fmt.Sprintf(`<criteria%s operator="%s">%s</criteria>`, negate, t.op, inside)
}

// oval is the definitions, with one more that is the whole.
func (w *writer) oval(whole *tree) (text, definition string) {
	inside := w.criteria(whole)
	definition = w.id("def")
	fmt.Fprintf(&w.definitions, `<definition class="compliance" id="%s" version="1"><metadata><title>Harbour &amp; quay</title>`+
		`<description>Nobody reads this.</description></metadata><criteria>%s</criteria></definition>`, definition, inside)
	return `<oval_definitions xmlns="http://oval.mitre.org/XMLSchema/oval-definitions-5" ` +
		`xmlns:oval="http://oval.mitre.org/XMLSchema/oval-common-5"><generator><oval:schema_version>5.11.2</oval:schema_version>` +
		`</generator><definitions>` +
		w.definitions.String() + "</definitions><tests>" + w.tests.String() + "</tests><objects>" + w.objects.String() + "</objects><states>" +
		w.states.String() +
		"</states><variables>" + w.vars.String() + "</variables></oval_definitions>", definition
}

// checklist is a Benchmark of one rule, which a profile selects.
func (w *writer) checklist(definition, href string) string {
	space, selected := "http://checklists.nist.gov/xccdf/1.2", ""
	if w.old {
		space = "http://checklists.nist.gov/xccdf/1.1"
	}
	for _, v := range strings.SplitAfter(w.values.String(), "</Value>") {
		if _, rest, ok := strings.Cut(v, `id="`); ok {
			id, _, _ := strings.Cut(rest, `"`)
			selected += fmt.Sprintf(`<refine-value idref="%s" selector="strict"/>`, id)
		}
	}
	return `<Benchmark xmlns="` + space + `" id="xccdf_example.harbour_benchmark_quay"><status>draft</status><title>` +
		`Quays</title><version>3.1</version>` +
		`<Profile id="xccdf_example.harbour_profile_base"><title>b</title>` + selected + `</Profile>` +
		`<Profile id="xccdf_example.harbour_profile_night" extends="xccdf_example.harbour_profile_base"><title>n</title><select ` +
		`idref="xccdf_example.harbour_group_g" selected="true"/></Profile>` +
		w.values.String() + `<Group id="xccdf_example.harbour_group_g" selected="false"><title>g</title><Rule ` +
		`id="xccdf_example.harbour_rule_r1" severity="high" selected="true"><version>HA-01-0001</version><title>Some passwords</title>` +
		`<description>Never copied.</description><ident system="http://cce.mitre.org">CCE-00001-1</ident><check ` +
		`system="http://oval.mitre.org/XMLSchema/oval-definitions-5">` + w.exports.String() +
		`<check-content-ref href="` + href + `" name="` + definition + `"/></check></Rule></Group></Benchmark>`
}

// stream is both in a data stream.
func (w *writer) stream(checklist, definitions string) string {
	return `<?xml version="1.0" encoding="UTF-8"?><ds:data-stream-collection ` +
		`xmlns:ds="http://scap.nist.gov/schema/scap/source/1.2" xmlns:xlink="http://www.w3.org/1999/xlink" ` +
		`xmlns:cat="urn:oasis:names:tc:entity:xmlns:xml:catalog" id="scap_example.harbour_collection_c" schematron-version="1.2">` +
		`<ds:data-stream id="scap_example.harbour_datastream_d" scap-version="1.2" use-case="CONFIGURATION"><ds:checklists>` +
		`<ds:component-ref id="scap_example.harbour_cref_x" xlink:href="#scap_example.harbour_comp_x"><cat:catalog><cat:uri ` +
		`name="quay-oval.xml" uri="#scap_example.harbour_cref_o"/></cat:catalog></ds:component-ref></ds:checklists>` +
		`<ds:checks><ds:component-ref id="scap_example.harbour_cref_o" xlink:href="#scap_example.harbour_comp_o"/></ds:checks></ds:data-stream>` +
		`<ds:component id="scap_example.harbour_comp_o" timestamp="2026-01-01T00:00:00">` + definitions +
		`</ds:component><ds:component id="scap_example.harbour_comp_x" timestamp="2026-01-01T00:00:00">` + checklist +
		`</ds:component></ds:data-stream-collection>`
}

var windowsThings = []string{"max_passwd_age", "min_passwd_age", "min_passwd_len", "password_hist_len", "lockout_duration",
	"lockout_threshold", "lockout_observation_window",
	"password_complexity", "reversible_encryption", "registry NoLMHash", "registry PasswordAgeDays", "registry MinimumPasswordLengthAudit"}

var unixThings = []string{"login.defs PASS_MAX_DAYS", "login.defs PASS_MIN_DAYS", "login.defs PASS_WARN_AGE", "useradd INACTIVE",
	"pwquality.conf minlen", "pwquality.conf maxrepeat",
	"pwquality.conf dcredit", "faillock.conf deny", "faillock.conf unlock_time", "faillock.conf fail_interval", "system-auth deny",
	"system-auth unlock_time", "system-auth remember",
	"shadow chg_req", "shadow chg_allow"}

// amounts are values that are asked of a thing.
func amounts(thing string) []string {
	switch id := things[thing].id; {
	case id == "complexity" || id == "reversible" || id == "lm-hash-stored":
		return []string{"0", "1"}
	case strings.HasPrefix(string(id), "max-age") && strings.Contains(thing, "_age"):
		return []string{"2592000", "5184000", "31536000", "86400"}
	case thing == "min_passwd_age":
		return []string{"0", "86400", "172800"}
	case id == "lockout-duration" || id == "lockout-window":
		return []string{"900", "0", "1800", "899"}
	case id == "require-digit":
		return []string{"-1", "-2"}
	case strings.Contains(thing, "DAYS") || strings.Contains(thing, "chg") || strings.Contains(thing, "AGE") || id == "inactive-disable" ||
		strings.Contains(thing, "Days"):
		return []string{"1", "7", "45", "60", "365", "30"}
	}
	return []string{"3", "5", "14", "24", "8", "0"}
}

func randomAsks(rnd *rand.Rand, thing string) *asks {
	all, ops := amounts(thing), strings.Split(operations, "|")
	a := &asks{thing: thing, op: ops[rnd.IntN(len(ops))], values: []string{all[rnd.IntN(len(all))]}, form: rnd.IntN(4), none: rnd.IntN(6) == 0}
	if len(all) == 2 && all[0] == "0" {
		a.op, a.form = ops[rnd.IntN(2)], 0
	}
	if rnd.IntN(6) == 0 && a.form == 1 {
		a.values = append(a.values, all[rnd.IntN(len(all))])
		a.how = []string{"all", "at least one", "none satisfy", "only one"}[rnd.IntN(4)]
	}
	return a
}

func randomTree(rnd *rand.Rand, family []string, depth int) *tree {
	t := &tree{negate: rnd.IntN(6) == 0}
	if depth == 0 || rnd.IntN(3) == 0 {
		t.leaf = randomAsks(rnd, family[rnd.IntN(len(family))])
		if !strings.Contains(t.leaf.thing, " ") && rnd.IntN(4) == 0 {
			group := "lockout_threshold lockout_duration lockout_observation_window"
			if !strings.HasPrefix(t.leaf.thing, "lockout") {
				group = "min_passwd_len password_hist_len min_passwd_age"
			}
			other := randomAsks(rnd, strings.Fields(group)[rnd.IntN(3)])
			other.none, t.leaf.any = false, rnd.IntN(2) == 0
			t.leaf.states = []asks{*other}
		}
		return t
	}
	t.op = []string{"AND", "OR", "AND", "OR", "ONE", "XOR"}[rnd.IntN(6)]
	t.extend = rnd.IntN(5) == 0
	for range 1 + rnd.IntN(3) {
		t.below = append(t.below, randomTree(rnd, family, depth-1))
	}
	return t
}

// involved are the things that a tree asks for.
func (t *tree) involved(all []string) []string {
	if t.leaf != nil {
		all = append(all, t.leaf.thing)
		for _, s := range t.leaf.states {
			all = append(all, s.thing)
		}
	}
	for _, b := range t.below {
		all = b.involved(all)
	}
	return all
}

// randomSystem has values near those that are asked for.
func randomSystem(rnd *rand.Rand, asked []string) system {
	on := system{}
	for _, thing := range asked {
		s := setting.Get(things[thing].id)
		switch {
		case len(s.Choices) > 0:
			on[s.ID] = setting.Word(s.Choices[rnd.IntN(len(s.Choices))])
		case len(s.Specials) > 0 && rnd.IntN(4) == 0 && things[thing].write(setting.Of(s.Specials[len(s.Specials)-1].Special)) != "" &&
			s.ID != "lockout-window":
			on[s.ID] = setting.Of(s.Specials[0].Special)
		case s.ID == "lockout-window" && rnd.IntN(4) == 0:
			on[s.ID] = setting.Of(setting.AtOnce)
		default:
			all := amounts(thing)
			n, _ := strconv.ParseInt(all[rnd.IntN(len(all))], 10, 64)
			n = max(max(n, -n)+int64(rnd.IntN(3)-1), 1)
			if unit := things[thing].write(setting.Number(86400)); unit == "1" {
				n *= 86400
			}
			on[s.ID] = setting.Number(n)
		}
	}
	return on
}

// met judges a system by demands.
func met(all []baseline.Demand, on system) bool {
	for i := range all {
		one := false
		for _, way := range all[i].AllWays() {
			is := true
			for k := range way {
				is = is && way[k].Met(on[way[k].Setting])
			}
			one = one || is
		}
		if !one {
			return false
		}
	}
	return true
}

// What is made of a rule judges systems as its test does, read plainly.
func TestImportedDemandsJudgeAsTheTestDoes(t *testing.T) {
	understood, systems, trivial := 0, 0, 0
	rounds := uint64(150)
	if n, err := strconv.ParseUint(os.Getenv("STERNLEDGER_ROUNDS"), 10, 64); err == nil {
		rounds = n
	}
	for n := range rounds {
		rnd := rand.New(rand.NewPCG(15, n))
		family := windowsThings
		if n%2 == 1 {
			family = unixThings
		}
		whole := randomTree(rnd, family, 2)
		w := &writer{rnd: rnd, old: n%3 == 0}
		definitions, definition := w.oval(whole)
		src := Source{File: "quay.xml", Data: []byte(w.checklist(definition, "quay-oval.xml")), Beside: func(string) ([]byte,
			error) {
			return []byte(definitions), nil
		}}
		if n%4 == 0 {
			src = Source{File: "quay-ds.xml", Data: []byte(w.stream(w.checklist(definition, "quay-oval.xml"), definitions))}
		}
		got, err := Read(src, Options{Profile: "night"})
		if err != nil {
			t.Fatalf("document %d: %v\n%s", n, err, src.Data)
		}
		if len(got.Rules) != 1 || got.All != 1 {
			t.Fatalf("document %d: %d rules of %d", n, len(got.Rules), got.All)
		}
		r := got.Rules[0]
		asked := whole.involved(nil)
		if r.Outcome != Understood {
			want := map[string]bool{"its test accepts no value": false, errNothing.Error(): true}
			says, ok := want[r.Why]
			if !ok && r.Why != errTooMany.Error() {
				t.Fatalf("document %d: %s\n%s", n, r.Why, definitions)
			}
			for range 30 {
				if on := randomSystem(rnd, asked); ok && whole.says(on) != says {
					t.Fatalf("document %d: %s, and yet it says %v of %v", n, r.Why, !says, on)
				}
			}
			trivial++
			continue
		}
		understood++
		if r.Ref != "HA-01-0001, r1, CCE-00001-1" || r.Severity != baseline.Grave {
			t.Fatalf("%+v", r)
		}
		for range 60 {
			on := randomSystem(rnd, asked)
			systems++
			if is, want := met(got.Demands, on), whole.says(on); is != want {
				var texts []string
				for i := range got.Demands {
					texts = append(texts, string(got.Demands[i].Setting)+" "+got.Demands[i].Text())
				}
				t.Fatalf("document %d: of %v the test says %v, the demands %v:\n%s\n%s", n, on, want, is, strings.Join(texts, "\n"), definitions)
			}
		}
	}
	if rounds >= 100 && understood < int(rounds)*2/3 {
		t.Errorf("%d understood, %d trivial", understood, trivial)
	}
	t.Logf("%d understood, %d accept all or nothing, %d systems", understood, trivial, systems)
}

// withConditions puts conditions of the system among what a tree asks.
func withConditions(rnd *rand.Rand, t *tree) *tree {
	if t.leaf == nil {
		for i := range t.below {
			t.below[i] = withConditions(rnd, t.below[i])
		}
	}
	if rnd.IntN(3) > 0 {
		return t
	}
	what := &tree{what: 1 + rnd.IntN(2), negate: rnd.IntN(4) == 0}
	return &tree{op: []string{"AND", "AND", "OR"}[rnd.IntN(3)], below: []*tree{what, t}, negate: rnd.IntN(8) == 0}
}

// A rule that asks for the system's edition or kind is understood where it asks for one thing
// on all of those on which it asks for any; and then what is demanded is that.
func TestConditionsOfTheSystem(t *testing.T) {
	rounds := uint64(60)
	if n, err := strconv.ParseUint(os.Getenv("STERNLEDGER_ROUNDS"), 10, 64); err == nil {
		rounds = n
	}
	understood, different := 0, 0
	for n := range rounds {
		rnd := rand.New(rand.NewPCG(34, n))
		whole := withConditions(rnd, randomTree(rnd, map[bool][]string{true: windowsThings, false: unixThings}[n%2 == 0], 2))
		w := &writer{rnd: rnd}
		definitions, definition := w.oval(whole)
		got, err := Read(Source{File: "quay.xml", Data: []byte(w.checklist(definition, "quay-oval.xml")), Beside: func(string) ([]byte, error) {
			return []byte(definitions), nil
		}}, Options{Profile: "night"})
		if err != nil {
			t.Fatalf("document %d: %v", n, err)
		}
		r := got.Rules[0]
		var systems []system
		for range 60 {
			systems = append(systems, randomSystem(rnd, whole.involved(nil)))
		}
		said := map[string]bool{} // what the test says of all of them, by conditions: t and f
		for bits := range 4 {
			text := ""
			for _, on := range systems {
				for what := range 2 {
					on[isSo(what+1)] = setting.Switch(bits>>what&1 == 1)
				}
				text += fmt.Sprint(whole.says(on))[:1]
			}
			if strings.Trim(text, "t") != "" && strings.Trim(text, "f") != "" {
				said[text] = true
			}
		}
		switch {
		case r.Outcome == Understood:
			understood++
			text := ""
			for _, on := range systems {
				text += fmt.Sprint(met(got.Demands, on))[:1]
			}
			if len(said) > 1 || len(said) == 1 && !said[text] {
				t.Fatalf("document %d: %s of the systems, and the test says %v\n%s", n, text, said, definitions)
			}
		case strings.HasPrefix(r.Why, "it asks for different things"):
			different++
		case r.Why == errNothing.Error() || r.Why == "its test accepts no value":
			if len(said) > 0 {
				t.Fatalf("document %d: %s, and the test says %v\n%s", n, r.Why, said, definitions)
			}
		case r.Why != errTooMany.Error():
			t.Fatalf("document %d: %s\n%s", n, r.Why, definitions)
		}
	}
	if rounds >= 60 && (understood < int(rounds)/3 || different < int(rounds)/30) {
		t.Errorf("%d understood, %d of different things", understood, different)
	}
	t.Logf("%d understood, %d of different things", understood, different)
}

// Whether a rule is looked at at all is more than whether it is selected.
func TestWhichRulesCount(t *testing.T) {
	const oval = `<oval_definitions xmlns="http://oval.mitre.org/XMLSchema/oval-definitions-5"><generator/><definitions>` +
		`<definition class="compliance" id="d8"><criteria><criterion test_ref="t8"/></criteria></definition>` +
		`<definition class="compliance" id="d14"><criteria><criterion test_ref="t14"/></criteria></definition></definitions><tests>` +
		`<passwordpolicy_test id="t8" check="all"><object object_ref="o"/><state state_ref="s8"/></passwordpolicy_test>` +
		`<passwordpolicy_test id="t14" check="all"><object object_ref="o"/><state state_ref="s14"/></passwordpolicy_test></tests>` +
		`<objects><passwordpolicy_object id="o"/></objects><states>` +
		`<passwordpolicy_state id="s8"><min_passwd_len datatype="int" operation="greater than or equal">8</min_passwd_len></passwordpolicy_state>` +
		`<passwordpolicy_state id="s14"><min_passwd_len datatype="int" operation="greater than or equal">14</min_passwd_len></passwordpolicy_state>` +
		`</states></oval_definitions>`
	rule := func(id, attributes, inside, definition string) string {
		return `<Rule id="` + id + `" severity="high" ` + attributes + `><title>password</title>` + inside +
			`<check system="http://oval.mitre.org/XMLSchema/oval-definitions-5"><check-content-ref href="o.xml" name="` + definition +
			`"/></check></Rule>`
	}
	other := rule("other", `selected="false"`, "", "d8")
	for name, c := range map[string]struct{ rules, want string }{
		"plain":               {rule("a", "", "", "d14"), "a understood: min-length"},
		"unchecked":           {rule("a", `role="unchecked"`, "", "d14"), "a not-understood: the document leaves it unchecked, for people to judge"},
		"unscored":            {rule("a", `role="unscored"`, "", "d14"), "a understood: min-length !"},
		"full":                {rule("a", `role="full"`, "", "d14"), "a understood: min-length"},
		"by the profile":      {rule("refined", "", "", "d14"), "refined not-understood: the document leaves it unchecked, for people to judge"},
		"abstract":            {rule("a", `abstract="true"`, "", "d14") + rule("b", "", "", "d8"), "b understood: min-length"},
		"requires what lacks": {rule("a", "", `<requires idref="other"/>`, "d14") + other, "a not-understood: it requires other, which is not selected"},
		"one of two":          {rule("a", "", `<requires idref="other b"/>`, "d14") + other + rule("b", "", "", "d8"), "a understood: min-length; b understood: min-length"},
		"conflicts":           {rule("a", "", `<conflicts idref="b"/>`, "d14") + rule("b", "", "", "d8"), "a not-understood: it conflicts with b, which is selected, too; b understood: min-length"},
		"conflicts with none": {rule("a", "", `<conflicts idref="other"/>`, "d14") + other, "a understood: min-length"},
		"a platform":          {rule("a", "", `<platform idref="#package_pam"/>`, "d14"), "a understood: min-length !"},
		"the same of all":     {rule("a", "", `<platform idref="cpe:/o:x:8"/>`, "d14") + rule("b", "", `<platform idref="cpe:/o:x:8"/>`, "d8"), "a understood: min-length; b understood: min-length"},
		"by edition":          {rule("a", "", `<platform idref="cpe:/o:x:8"/>`, "d8") + rule("b", "", `<platform idref="cpe:/o:x:9"/>`, "d14"), "a not-understood: b asks for something else, by what the system is (cpe:/o:x:8 here, cpe:/o:x:9 there), and places are not told apart by that; b not-understood: a asks for something else, by what the system is (cpe:/o:x:9 here, cpe:/o:x:8 there), and places are not told apart by that"},
		"alike by edition":    {rule("a", "", `<platform idref="cpe:/o:x:8"/>`, "d8") + rule("b", "", `<platform idref="cpe:/o:x:9"/>`, "d8"), "a understood: min-length !; b understood: min-length !"},
		"a group's platform":  {`<Group id="g"><platform idref="cpe:/o:x:8"/>` + rule("a", "", "", "d8") + `</Group>` + rule("b", "", `<platform idref="cpe:/o:x:9"/>`, "d14"), "a not-understood: b asks for something else, by what the system is (cpe:/o:x:8 here, cpe:/o:x:9 there), and places are not told apart by that; b not-understood: a asks for something else, by what the system is (cpe:/o:x:9 here, cpe:/o:x:8 there), and places are not told apart by that"},
		"a group that is not": {`<Group id="g" selected="false">` + rule("a", "", "", "d8") + `</Group>` + rule("b", "", `<requires idref="a"/>`, "d14"), "b not-understood: it requires a, which is not selected"},
	} {
		doc := `<Benchmark xmlns="http://checklists.nist.gov/xccdf/1.2" id="q"><version>1</version><Profile id="p"><refine-rule ` +
			`idref="refined" role="unchecked"/></Profile>` + c.rules + `</Benchmark>`
		got, err := Read(Source{File: "q.xml", Data: []byte(doc), Beside: func(string) ([]byte, error) { return []byte(oval), nil }}, Options{Profile: "p"})
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		same(t, name, got.told(), strings.Split(c.want, "; "))
	}
}

func fromFile(t *testing.T, name string, opt Options) *Imported {
	t.Helper()
	data, err := os.ReadFile("testdata/" + name)
	if err != nil {
		t.Fatal(err)
	}
	got, err := Read(Source{File: name, Data: data, Beside: func(name string) ([]byte, error) { return os.ReadFile("testdata/" + name) }}, opt)
	if err != nil {
		t.Fatal(err)
	}
	return got
}

// told is what came of each rule, in short.
func (i *Imported) told() (all []string) {
	for _, r := range i.Rules {
		text := fmt.Sprintf("%s %s: %s", r.ID, r.Outcome, strings.Trim(fmt.Sprint(r.Settings), "[]"))
		if r.Outcome == NotUnderstood {
			text = fmt.Sprintf("%s %s: %s", r.ID, r.Outcome, r.Why)
		}
		if len(r.Remarks) > 0 {
			text += " !"
		}
		all = append(all, text)
	}
	return all
}

func (i *Imported) demanded() (all []string) {
	for k := range i.Demands {
		d := &i.Demands[k]
		all = append(all, fmt.Sprintf("%s %s (%s, %s)", d.Setting, d.Text(), d.Ref, d.Severity))
	}
	return all
}

func same(t *testing.T, what string, got, want []string) {
	t.Helper()
	if !slices.Equal(got, want) {
		t.Errorf("%s:\n%s\nwant\n%s", what, strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

func TestChecklistForWindows(t *testing.T) {
	one := fromFile(t, "harbour-windows-xccdf.xml", Options{Profile: "Level_1"})
	same(t, "level 1", one.demanded(), []string{"min-length at least 14 characters (1.1_length, CCE-90001-7, serious)",
		"blank-password-console-only on (2.1_blank, grave)",
		"lockout-threshold at most 3 failed attempts (1.4.1_threshold, serious)",
		"lockout-duration at least 15 minutes, or locks until an administrator unlocks (1.4_duration, serious)"})
	two := fromFile(t, "harbour-windows-xccdf.xml", Options{Profile: "xccdf_example.marrowick_profile_Level_2"})
	same(t, "level 2", two.told(), []string{"1.1_length understood: min-length !", "1.2_oldest understood: max-age",
		"1.3_youngest understood: min-age",
		`1.5_machine not-understood: it asks for System\CurrentControlSet\Services\Netlogon\Parameters\MaximumPasswordAge of the ` +
			`registry, which no setting is read from`,
		"1.6_interview not-understood: its check is of another kind (http://scap.nist.gov/schema/ocil/2)",
		"1.4_duration understood: lockout-duration",
		"1.4.1_threshold understood: lockout-threshold", "2.1_blank understood: blank-password-console-only !", "9.1_firewall elsewhere: "})
	if two.Demands[0].Text() != "at least 16 characters" || two.Demands[1].Text() != "at most 365 days" ||
		two.Demands[2].Text() != "at least 1 day" {
		t.Errorf("%q", two.demanded())
	}
	if two.All != 9 || two.Count(Understood) != 6 || two.Count(NotUnderstood) != 2 || two.Count(Elsewhere) != 1 ||
		fmt.Sprint(two.Platforms()) != "[windows-domain windows-machine]" {
		t.Errorf("%+v", two)
	}
}

func TestDataStreamForLinux(t *testing.T) {
	got := fromFile(t, "harbour-linux-ds.xml", Options{})
	same(t, "rules", got.told(), []string{"pass_max_days understood: max-age", "pass_warn understood: expiry-warning",
		"deny understood: lockout-threshold !",
		"unlock understood: lockout-duration", "root_locks understood: lockout-administrator", "minlen understood: min-length",
		"dictionary understood: dictionary-check",
		"digits understood: require-digit", "remember understood: history", "hashing understood: hash-method",
		"hashing_pam understood: hash-method",
		"no_empty understood: empty-accepted", "inactive understood: inactive-disable", "perl understood: min-age",
		"min_len_defs not-understood: it asks for PASS_MIN_LEN of /etc/login.defs: it is not heeded where PAM changes passwords",
		"module_only not-understood: it asks that pam_pwquality is called, in words of its own; whether a module is called and obeyed is what " +
			"checks and settings tell",
		"umask elsewhere: "})
	same(t, "demands", got.demanded(), []string{"min-length at least 14 characters (minlen, grave)",
		"require-digit at least 1 character (digits, serious)",
		"dictionary-check on (dictionary, serious)", "history at least 24 passwords (remember, serious)",
		"max-age 1 day to 365 days (pass_max_days, serious)",
		"min-age at least 1 day (perl, minor)", "expiry-warning at least 7 days (pass_warn, minor)",
		"inactive-disable at most 45 days (inactive, minor)",
		"hash-method sha512 or yescrypt (hashing; hashing_pam, grave)", "lockout-threshold at most 5 failed attempts, or never locks (deny, " +
			"serious)",
		"lockout-duration at least 15 minutes, or locks until an administrator unlocks (unlock, serious)",
		"lockout-administrator on (root_locks, serious)",
		"empty-accepted off (no_empty, grave)"})
}

// Definitions without a checklist: each that no other extends is a rule.
func TestDefinitionsAlone(t *testing.T) {
	got := fromFile(t, "harbour-windows-oval.xml", Options{})
	same(t, "rules", got.told(), []string{"1 not-understood: its variable 1 has no value: the checklist binds none to it",
		"2 understood: max-age",
		"3 not-understood: its variable 2 has no value: the checklist binds none to it", "4 understood: lockout-duration",
		"5 understood: lockout-threshold !",
		"6 understood: lockout-threshold", `7 elsewhere: `, "8 understood: blank-password-console-only !", "9 elsewhere: "})
	if got.Kind != "OVAL 5.10" || got.Document != "harbour-windows-oval.xml" {
		t.Errorf("%s %s", got.Kind, got.Document)
	}
}

// small is a document of one definition.
func small(criteria, tests, objects, states, variables string) []byte {
	return []byte(`<oval_definitions xmlns="http://oval.mitre.org/XMLSchema/oval-definitions-5"><definitions><definition ` +
		`class="compliance" id="oval:x:def:1" version="1"><metadata/>` + criteria +
		`</definition></definitions><tests>` + tests + `</tests><objects>` + objects + `</objects><states>` + states + `</states><variables>` +
		variables + `</variables></oval_definitions>`)
}

const (
	lengthTest = `<passwordpolicy_test id="oval:x:tst:1" check="all"><object object_ref="oval:x:obj:1"/><state ` +
		`state_ref="oval:x:ste:1"/></passwordpolicy_test>`
	lengthObject = `<passwordpolicy_object id="oval:x:obj:1"/>`
	lengthState  = `<passwordpolicy_state id="oval:x:ste:1"><min_passwd_len datatype="int" operation="greater than or ` +
		`equal"%s</min_passwd_len></passwordpolicy_state>`
	oneTest = `<criteria><criterion test_ref="oval:x:tst:1"/></criteria>`
)

// What is not understood is told with its reason.
func TestReasons(t *testing.T) {
	state := func(rest string) string { return fmt.Sprintf(lengthState, rest) }
	variable := func(inside string) []byte {
		return small(oneTest, lengthTest, lengthObject, state(` var_ref="oval:x:var:1">`), inside)
	}
	text := func(object, state string) []byte {
		return small(oneTest, `<textfilecontent54_test id="oval:x:tst:1" check="all"><object object_ref="oval:x:obj:1"/><state `+
			`state_ref="oval:x:ste:1"/></textfilecontent54_test>`,
			`<textfilecontent54_object id="oval:x:obj:1">`+object+`</textfilecontent54_object>`,
			`<textfilecontent54_state id="oval:x:ste:1">`+state+`</textfilecontent54_state>`, "")
	}
	const defs = `<filepath>/etc/login.defs</filepath>`
	for name, c := range map[string]struct {
		document []byte
		want     string
	}{
		"no test":     {small(oneTest, "", "", "", ""), "its test oval:x:tst:1 is not in the document"},
		"no state":    {small(oneTest, lengthTest, lengthObject, "", ""), "its state oval:x:ste:1 is not in the document"},
		"no variable": {variable(""), "its variable oval:x:var:1 is not in the document"},
		"circle": {variable(`<local_variable id="oval:x:var:1"><variable_component var_ref="oval:x:var:1"/></local_variable>`),
			"a circle of variables"},
		"function": {variable(`<local_variable id="oval:x:var:1"><time_difference/></local_variable>`),
			"it works a value out by time_difference"},
		"object": {variable(`<local_variable id="oval:x:var:1"><object_component object_ref="oval:x:obj:1"/></local_variable>`),
			"object_component"},
		"overflow": {variable(`<local_variable id="oval:x:var:1"><arithmetic arithmetic_operation="multiply"><literal_component>` +
			`9223372036854775807</literal_component><literal_component>2</literal_component></arithmetic></local_variable>`), "a number too large"},
		"no number": {small(oneTest, lengthTest, lengthObject, state(`>many`), ""), `"many" is compared as a whole number`},
		"float": {small(oneTest, lengthTest, lengthObject,
			`<passwordpolicy_state id="oval:x:ste:1"><min_passwd_len datatype="float">1</min_passwd_len></passwordpolicy_state>`, ""),
			"values of the type float"},
		"operation": {small(oneTest, lengthTest, lengthObject,
			`<passwordpolicy_state id="oval:x:ste:1"><min_passwd_len datatype="int" operation="bitwise and">1</min_passwd_len>`+
				`</passwordpolicy_state>`, ""), `by "bitwise and"`},
		"no criteria":    {small("", "", "", "", ""), "has no criteria"},
		"empty criteria": {small("<criteria/>", "", "", "", ""), "criteria without any"},
		"operator": {small(`<criteria operator="MAYBE"><criterion test_ref="oval:x:tst:1"/></criteria>`, lengthTest, lengthObject,
			state(`>14`), ""), "its operator MAYBE"},
		"check": {small(oneTest, strings.Replace(lengthTest, `check="all"`, `check="some"`, 1), lengthObject, state(`>14`), ""),
			`its check "some"`},
		"existence": {small(oneTest, strings.Replace(lengthTest, `check="all"`, `check="all" check_existence="most"`, 1), lengthObject,
			state(`>14`), ""), "check_existence most"},
		"every value": {small(oneTest, lengthTest, lengthObject, state(`>0`), ""), "accepts every value"},
		"no value": {small(`<criteria negate="true"><criterion test_ref="oval:x:tst:1"/></criteria>`, lengthTest, lengthObject,
			state(`>0`), ""), "accepts no value"},
		"another test": {small(oneTest, `<accesstoken_test id="oval:x:tst:1" check="all"/><passwordpolicy_test `+
			`id="oval:x:tst:2" check="all"/>`, "", "", ""), "it asks by accesstoken_test"},
		"of passwd": {small(oneTest, `<password_test id="oval:x:tst:1" check="all"/>`, "", "", ""), "lines of passwd"},
		"one account": {small(oneTest, `<shadow_test id="oval:x:tst:1" check="all"><object object_ref="oval:x:obj:1"/><state `+
			`state_ref="oval:x:ste:1"/></shadow_test>`, `<shadow_object id="oval:x:obj:1"><username>root</username></shadow_object>`,
			`<shadow_state id="oval:x:ste:1"><chg_req datatype="int">1</chg_req></shadow_state>`, ""), "about the account root only"},
		"field": {small(oneTest, `<shadow_test id="oval:x:tst:1" check="all"><object object_ref="oval:x:obj:1"/><state `+
			`state_ref="oval:x:ste:1"/></shadow_test>`, `<shadow_object id="oval:x:obj:1"><username operation="pattern match">`+
			`.+</username></shadow_object>`, `<shadow_state id="oval:x:ste:1"><password>x</password></shadow_state>`, ""),
			"it asks for the password of accounts"},
		"several settings": {text(`<filepath>/etc/security/pwquality.conf</filepath><pattern operation="pattern match">`+
			`^\s*(?:minlen|minclass)\s*=\s*(\d+)</pattern>`, `<subexpression datatype="int" operation="greater than">4</subexpression>`),
			"fits several settings of /etc/security/pwquality.conf (minlen, minclass)"},
		"any line": {text(defs+`<pattern operation="pattern match">^.*$</pattern>`, `<subexpression>x</subexpression>`),
			"fits several settings"},
		"broken pattern": {text(defs+`<pattern operation="pattern match">(</pattern>`, `<subexpression>x</subexpression>`),
			"its pattern cannot be read"},
		"slow pattern": {text(defs+`<pattern operation="pattern match">^(?!#)(a+)+$</pattern>`, `<subexpression>x</subexpression>`),
			"takes too long"},
		"equal pattern": {text(defs+`<pattern>PASS</pattern>`, `<subexpression>x</subexpression>`), `compared by "equals"`},
		"root's": {text(`<filepath>/etc/security/pwquality.conf</filepath><pattern operation="pattern match">`+
			`^\s*enforce_for_root\s*$</pattern>`, `<text operation="pattern match">.</text>`),
			"enforce_for_root of /etc/security/pwquality.conf: root is weighed by itself"},
		"set": {small(oneTest, lengthTest, `<passwordpolicy_object id="oval:x:obj:1"><set/></passwordpolicy_object>`,
			state(`>14`), ""), "its object is made of others (set)"},
		"too many criteria": {small("<criteria>"+strings.Repeat(`<criterion test_ref="oval:x:tst:1"/>`, 20_001)+"</criteria>", lengthTest,
			lengthObject, state(`>14`), ""), "more than 20000 criteria"},
	} {
		t.Run(name, func(t *testing.T) {
			got, err := Read(Source{File: "x.xml", Data: c.document}, Options{})
			if err != nil {
				t.Fatal(err)
			}
			if r := got.Rules[0]; !strings.Contains(r.Why, c.want) || len(got.Demands) != 0 {
				t.Errorf("%s: %q %v, want %q", r.Outcome, r.Why, got.demanded(), c.want)
			}
		})
	}
}

// Hostile and broken documents end in an error that says where, and soon.
func TestDocumentsThatAreNone(t *testing.T) {
	deep := strings.Repeat("<a>", 300) + strings.Repeat("</a>", 300)
	for name, c := range map[string]struct{ text, want string }{
		"entities": {`<!DOCTYPE b [<!ENTITY a "aaaa"><!ENTITY c "&a;&a;&a;">]>` + "\n" +
			`<Benchmark xmlns="http://checklists.nist.gov/xccdf/1.2">&c;</Benchmark>`, "a document type with declarations"},
		"from elsewhere": {`<!DOCTYPE b SYSTEM "file:///etc/passwd"><Benchmark xmlns="http://checklists.nist.gov/xccdf/1.2"/>`,
			"a document type with declarations"},
		"unknown entity": {`<Benchmark xmlns="http://checklists.nist.gov/xccdf/1.2">` + "\n&xxe;</Benchmark>", "x.xml:2: "},
		"deep":           {`<Benchmark xmlns="http://checklists.nist.gov/xccdf/1.2">` + deep + `</Benchmark>`, "elements in one another"},
		"deep prose": {`<Benchmark xmlns="http://checklists.nist.gov/xccdf/1.2"><description>` + deep + `</description></Benchmark>`,
			"elements in one another"},
		"cut": {`<Benchmark xmlns="http://checklists.nist.gov/xccdf/1.2"><Group>`, "unexpected EOF"},
		"long text": {`<Benchmark xmlns="http://checklists.nist.gov/xccdf/1.2"><title>` + strings.Repeat("x<!-- -->", 70_000) +
			`</title></Benchmark>`, "a text of more than 64 KiB"},
		"two":           {`<Benchmark xmlns="http://checklists.nist.gov/xccdf/1.2"/><Benchmark/>`, "a second document"},
		"another space": {`<Benchmark xmlns="urn:x"/>`, `a Benchmark of "urn:x"`},
		"another root":  {`<report xmlns="http://checklists.nist.gov/xccdf/1.2"/>`, "the element report; expected a checklist"},
		"nothing":       {"", "no element"},
		"encoding":      {`<?xml version="1.0" encoding="x-harbour"?><Benchmark/>`, `the encoding "x-harbour" is not known`},
		"no rules": {`<Benchmark xmlns="http://checklists.nist.gov/xccdf/1.2"><Rule id="r" selected="false"/></Benchmark>`,
			"no rule that is selected, of 1"},
		"two checklists": {`<data-stream-collection xmlns="http://scap.nist.gov/schema/scap/source/1.2"><data-stream id="d">` +
			`<checklists><component-ref id="a" href="#x"/><component-ref id="b" href="#y"/></checklists></data-stream><component ` +
			`id="x"><Benchmark id="one"/></component><component id="y"><Benchmark id="two"/></component></data-stream-collection>`,
			"2 checklists: one, two; expected one; name the one that is meant behind the file: --from FILE#ID"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := Read(Source{File: "x.xml", Data: []byte(c.text)}, Options{})
			if err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%v, want %s", err, c.want)
			}
		})
	}
}

// Definitions in a circle, and definitions that share others a million times.
func TestCircles(t *testing.T) {
	extend := func(id string, to ...string) string {
		text := `<definition class="compliance" id="` + id + `"><criteria>`
		for _, x := range to {
			text += `<extend_definition definition_ref="` + x + `"/>`
		}
		return text + `</criteria></definition>`
	}
	read := func(definitions string) *Imported {
		got, err := Read(Source{File: "x.xml", Data: []byte(`<Benchmark xmlns="http://checklists.nist.gov/xccdf/1.2" id="b"><Rule ` +
			`id="password"><check system="http://oval.mitre.org/XMLSchema/oval-definitions-5"><check-content-ref href="x-oval.xml" ` +
			`name="d0"/></check></Rule></Benchmark>`),
			Beside: func(string) ([]byte, error) {
				return []byte(`<oval_definitions xmlns="http://oval.mitre.org/XMLSchema/oval-definitions-5"><definitions>` + definitions +
					`</definitions><tests>` + strings.ReplaceAll(lengthTest, "oval:x:", "") +
					`</tests><objects><passwordpolicy_object id="obj:1"/></objects><states>` +
					strings.ReplaceAll(fmt.Sprintf(lengthState, `>14`), "oval:x:", "") + `</states></oval_definitions>`), nil
			}}, Options{})
		if err != nil {
			t.Fatal(err)
		}
		return got
	}
	if got := read(extend("d0", "d1") + extend("d1", "d0")); !strings.Contains(got.Rules[0].Why,
		"a circle of definitions: d0 extends d1 extends d0") {
		t.Errorf("%q", got.Rules[0].Why)
	}
	shared := ""
	for i := range 40 {
		shared += extend(fmt.Sprintf("d%d", i), fmt.Sprintf("d%d", i+1), fmt.Sprintf("d%d", i+1))
	}
	shared += `<definition class="compliance" id="d40"><criteria><criterion test_ref="tst:1"/></criteria></definition>`
	if got := read(shared); got.Rules[0].Why != "" || got.Demands[0].Text() != "at least 14 characters" {
		t.Errorf("%+v", got.Rules[0])
	}
}

// Files that a checklist names are looked for beside it, and nowhere else.
func TestNothingIsFetched(t *testing.T) {
	for _, href := range []string{"http://benchmarks.example/oval.xml", "../oval.xml", "/etc/passwd", `..\oval.xml`, `C:oval.xml`, "..", ""} {
		got, err := Read(Source{File: "x.xml", Data: []byte(`<Benchmark xmlns="http://checklists.nist.gov/xccdf/1.2" id="b"><Rule ` +
			`id="password"><check system="http://oval.mitre.org/XMLSchema/oval-definitions-5"><check-content-ref href="` + href +
			`" name="d"/></check></Rule></Benchmark>`),
			Beside: func(name string) ([]byte, error) { t.Errorf("%q was opened", name); return nil, nil }}, Options{})
		if err != nil || !strings.Contains(got.Rules[0].Why, "not in the document, and nothing is fetched") {
			t.Errorf("%s: %v %+v", href, err, got)
		}
	}
}

// Rules that exclude each other: the first is followed, and the other told.
func TestRulesThatExcludeEachOther(t *testing.T) {
	document := string(small(oneTest, lengthTest, lengthObject, fmt.Sprintf(lengthState, `>14`), ""))
	document = strings.Replace(document, "</definitions>",
		`<definition class="compliance" id="oval:x:def:2"><criteria><criterion negate="true" test_ref="oval:x:tst:1"/></criteria>`+
			`</definition></definitions>`, 1)
	got, err := Read(Source{File: "x.xml", Data: []byte(document)}, Options{})
	if err != nil {
		t.Fatal(err)
	}
	same(t, "rules", got.told(), []string{"1 understood: min-length", "2 not-understood: it excludes what 1 demands"})
	same(t, "demands", got.demanded(), []string{"min-length at least 14 characters (1, serious)"})
}

func FuzzDocuments(f *testing.F) {
	f.Add(small(oneTest, lengthTest, lengthObject, fmt.Sprintf(lengthState, ` var_ref="oval:x:var:1">`),
		`<constant_variable id="oval:x:var:1"><value>14</value></constant_variable>`))
	f.Add(small(`<criteria operator="OR"><criterion negate="true" test_ref="oval:x:tst:1"/><criterion test_ref="oval:x:tst:1"/></criteria>`,
		`<textfilecontent54_test id="oval:x:tst:1" check="all"><object object_ref="oval:x:obj:1"/><state `+
			`state_ref="oval:x:ste:1"/></textfilecontent54_test>`,
		`<textfilecontent54_object id="oval:x:obj:1"><filepath>/etc/default/useradd</filepath><pattern operation="pattern match">`+
			`^INACTIVE=(\d+)$</pattern></textfilecontent54_object>`,
		`<textfilecontent54_state id="oval:x:ste:1"><subexpression datatype="int" operation="less than">45</subexpression>`+
			`</textfilecontent54_state>`, ""))
	f.Add([]byte(`<Benchmark xmlns="http://checklists.nist.gov/xccdf/1.2" id="b"><Profile id="p"><select idref="r" ` +
		`selected="true"/></Profile><Value id="v"><value>1</value></Value><Group id="g"><Rule id="r"><title>password</title>` +
		`</Rule></Group></Benchmark>`))
	f.Fuzz(func(t *testing.T, data []byte) {
		got, err := Read(Source{File: "x.xml", Data: data}, Options{})
		if err != nil {
			return
		}
		if n := got.Count(Understood) + got.Count(NotUnderstood) + got.Count(Elsewhere); n != len(got.Rules) || n > got.All {
			t.Errorf("%d rules, %d with an outcome, of %d", len(got.Rules), n, got.All)
		}
		for i := range got.Demands {
			if got.Demands[i].Text() == "" || len(got.Demands[i].Platforms) == 0 {
				t.Errorf("%+v", got.Demands[i])
			}
		}
	})
}
