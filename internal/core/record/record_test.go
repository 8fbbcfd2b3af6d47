package record_test

import (
	"bytes"
	"compress/flate"
	"encoding/base64"
	"errors"
	"fmt"
	"reflect"
	"strings"
	"testing"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/forecast"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/weigh"
)

// small is a record of two scopes of one place, with a waiver, a demand that was
// set aside, and a place that nothing covers.
func small() *record.Record {
	head := &estate.Policy{Name: "domain default", Origin: "DC=x", Standing: estate.Enforced, Platform: setting.WindowsDomain,
		Settings: estate.Settings{"min-length": {Value: setting.Number(9)}}}
	a := &estate.Authority{Name: "x.example", Kind: estate.Domain, Platform: setting.WindowsDomain, Head: head, Listed: true,
		Accounts: 3, Twin: true, Objects: &estate.Objects{}}
	twin := &estate.Authority{Name: "x.example", Kind: estate.Tenant, Twin: true, Objects: &estate.Objects{}}
	settings := map[setting.ID]govern.Effective{"min-length": {Fact: head.Settings["min-length"], From: "DC=x"},
		"mfa": {Missing: govern.NotCollected}, "max-age": {Fact: estate.Fact{Value: setting.Of(setting.Never)}}}
	one := &govern.Scope{Authority: a, Policy: head, Rule: govern.Default, Tier: govern.Standard, Split: true, Accounts: 2,
		Enabled: 1, Settings: settings}
	two := &govern.Scope{Authority: a, Policy: head, Rule: govern.Default, Tier: govern.Privileged, Split: true, Accounts: 1,
		Settings: settings, Elsewhere: twin, Home: settings}
	b := &baseline.Baseline{ID: "own", Title: "Own", Version: "1",
		Demands: []baseline.Demand{{Condition: baseline.Condition{Setting: "min-length", Kind: baseline.AtLeast,
			Values: []setting.Value{setting.Number(14)}},
			Ref: "1.1", Severity: "serious"}}}
	d := &b.Demands[0]
	n := 2
	r := &record.Record{Program: record.Program{Version: "9.9.9", Commit: strings.Repeat("c", 40)}, Number: 7, Made: "2026-11-23T09:00:00Z",
		Title: "T", Auditor: "R. Quill", Places: []*estate.Authority{a, twin}, Baselines: []*baseline.Baseline{b},
		Result: &weigh.Result{Scopes: []*govern.Scope{one, two},
			Waivers: []check.Waiver{{Entry: 3, Fingerprint: "f1", State: check.InForce, Reason: "until the new till"}},
			Verdicts: []weigh.Verdict{{Scope: one, Baseline: b, Demand: d, Kind: check.Waived, Beneath: check.Weak, Severity: "serious",
				Observed: "9 characters"}, {Scope: two, Baseline: b, Demand: d, Kind: check.Weak, Severity: "grave", Observed: "9 characters"}},
			Idle: []weigh.Idle{{Scope: one, Named: baseline.Named{Baseline: b, Demand: d}}},
			SetAside: []weigh.Aside{{Scope: two, Named: baseline.Named{Baseline: b, Demand: d},
				Decision: &weigh.Decision{Setting: "min-length", Follow: "own", Why: "decided"}}},
			Unweighed: []check.Unweighed{{Authority: twin, Fitting: []string{"own"}}}},
		Forecasts: []record.Forecast{{Scope: one,
			Figures: record.Figures{Forecast: forecast.Of(setting.WindowsDomain, func(setting.ID) setting.Value { return setting.Value{} },
				forecast.Usual), Weak: record.Share{Tried: 5, Accepted: 2}}}},
		Files: map[string]string{"x.ldif": "abc"}}
	r.Findings = []check.Finding{{Fingerprint: "f1", Alias: "old", Kind: check.Waived, Beneath: check.Weak, Waiver: &r.Waivers[0],
		Severity: "serious", Scope: one, Authority: a, Accounts: &n, Settings: []setting.ID{"min-length"}, Observed: "9 characters",
		Evidence: []estate.Cite{{File: "x.ldif", Line: 4}}, Baselines: []check.Source{{ID: "own", Ref: "1.1"}}},
		{Fingerprint: "f2", Kind: check.Missing, Check: "not-weighed", Authority: twin, Rows: []int{1, 2}}}
	roll := record.NewRoll(a.Place())
	roll.Add(1, record.Standing{Scope: one, Rule: govern.Default, Origin: "-", Via: "-"})
	roll.Add(2, record.Standing{Scope: two, Rule: govern.Group, Origin: "DC=x", Via: "Crew"})
	roll.Add(5, record.Standing{Scope: one, Rule: govern.Default, Origin: "-", Via: "-"})
	r.Rolls = []*record.Roll{roll}
	return r
}

// A record comes back as it was, with what points at one thing still pointing at
// one.
func TestEncodeDecode(t *testing.T) {
	data, err := small().Encode()
	if err != nil {
		t.Fatal(err)
	}
	r, err := record.Decode(data)
	if err != nil {
		t.Fatal(err)
	}
	again, err := r.Encode()
	if err != nil || !bytes.Equal(again, data) {
		t.Errorf("written again:\n%s, want\n%s", again, data)
	}
	one, two := r.Scopes[0], r.Scopes[1]
	if one.Authority != r.Places[0] || two.Authority != one.Authority || two.Elsewhere != r.Places[1] || one.Policy != two.Policy ||
		!one.Authority.Twin {
		t.Error("scopes do not share their place and policy")
	}
	if v := r.Verdicts[0]; v.Scope != one || v.Baseline != r.Baselines[0] || v.Demand.Text() != "at least 14 characters" ||
		v.Kind != check.Waived || v.Beneath != check.Weak {
		t.Errorf("a verdict: %+v", v)
	}
	if f := r.Findings[0]; f.Waiver != &r.Waivers[0] || f.Scope != one || *f.Accounts != 2 || f.Alias != "old" || f.ScopeName() != one.Name() {
		t.Errorf("a finding: %+v", f)
	}
	if f := r.Findings[1]; f.Scope != nil || f.Waiver != nil || f.Authority != r.Places[1] || len(f.Rows) != 2 {
		t.Errorf("a check's finding: %+v", f)
	}
	if e := one.Settings["max-age"]; !e.Value.Is(setting.Never) || one.Settings["mfa"].Missing != govern.NotCollected ||
		one.Settings["min-length"].From != "DC=x" {
		t.Errorf("settings: %+v", one.Settings)
	}
	if two.Home["min-length"].Value != setting.Number(9) || one.Home != nil {
		t.Errorf("home: %+v", two.Home)
	}
	roll := r.Roll(estate.Place{Name: "x.example", Kind: estate.Domain})
	if roll.Of(0) != nil || roll.Of(1).Scope != one || roll.Of(2).Via != "Crew" || roll.Of(2).Scope != two || roll.Of(3) != nil ||
		roll.Of(5).Scope != one || roll.Of(6) != nil {
		t.Errorf("the roll: %+v", roll)
	}
	if len(roll.Standings) != 2 || r.Roll(estate.Place{Name: "y"}) != nil {
		t.Errorf("standings: %+v", roll.Standings)
	}
	if r.SetAside[0].Decision.Why != "decided" || r.SetAside[0].Scope != two || r.Idle[0].Demand != r.Verdicts[0].Demand ||
		r.Unweighed[0].Authority != r.Places[1] {
		t.Errorf("set aside %+v, idle %+v, not weighed %+v", r.SetAside, r.Idle, r.Unweighed)
	}
	if r.Number != 7 || r.Made != "2026-11-23T09:00:00Z" || r.Title != "T" || r.Auditor != "R. Quill" || r.Files["x.ldif"] != "abc" ||
		r.Forecasts[0].Weak.Accepted != 2 || r.Forecasts[0].Scope != one {
		t.Errorf("%+v", r)
	}
	if got := r.Program.String(); got != "9.9.9 (cccccccccccc)" || (record.Program{Version: "1"}).String() != "1" {
		t.Errorf("the program: %s", got)
	}
}

// A record that points where nothing is, or is of a format to come, is refused.
func TestDamagedRecords(t *testing.T) {
	data, err := small().Encode()
	if err != nil {
		t.Fatal(err)
	}
	good := string(data)
	for name, c := range map[string]struct{ was, is, say string }{
		"newer":             {`"format":3`, `"format":4`, "newer program"},
		"without a format":  {`"format":3`, `"format":0`, "which format"},
		"a scope too many":  {`"listed":2`, `"listed":3`, "more scopes"},
		"fewer than none":   {`"listed":2`, `"listed":-1`, "more scopes"},
		"a scope elsewhere": {`{"scope":1,"baseline":0`, `{"scope":2,"baseline":0`, "points at number 2 of 2"},
		"a scope below":     {`{"scope":1,"baseline":0`, `{"scope":-2,"baseline":0`, "points at number -2"},
		"a place elsewhere": {`"place":0,"policy":0`, `"place":9,"policy":0`, "points at number 9"},
		"no place":          {`"place":0,"policy":0`, `"place":-1,"policy":0`, "a scope of no place"},
		"a waiver":          {`"waiver":0`, `"waiver":5`, "points at number 5"},
		"a roll":            {`"rows":"`, `"rows":"AAAA`, "the roll of x.example (domain)"},
		"a roll cut short":  {rowsIn(good), base64.StdEncoding.EncodeToString(deflated(t, 0x80)), "the roll of x.example (domain) is damaged"},
		"a roll too high":   {rowsIn(good), base64.StdEncoding.EncodeToString(deflated(t, 1, 3)), "the roll of x.example (domain) is damaged"},
		"a roll of nothing": {`"scope":0,"rule":`, `"scope":-1,"rule":`, "has a standing in no scope"},
		"no JSON":           {`{"format"`, `"format"`, "invalid character"},
	} {
		bad := strings.Replace(good, c.was, c.is, 1)
		if bad == good {
			t.Errorf("%s: nothing was altered", name)
		}
		if _, err := record.Decode([]byte(bad)); err == nil || !strings.Contains(err.Error(), c.say) {
			t.Errorf("%s: %v, want %q", name, err, c.say)
		}
	}
	for was, is := range map[string]string{`"format":3`: `"format":1`, `"listed":2`: `"listed":0`,
		rowsIn(good): base64.StdEncoding.EncodeToString(
			deflated(t, 1, 2))} {
		if _, err := record.Decode([]byte(strings.Replace(good, was, is, 1))); err != nil {
			t.Errorf("%s: %v", is, err)
		}
	}
	r := small()
	r.Findings[0].Waiver = &check.Waiver{}
	if _, err := r.Encode(); err == nil {
		t.Error("a waiver that the record does not have was left out")
	}
}

// rowsIn is what a record keeps of its roll.
func rowsIn(good string) string {
	_, rest, _ := strings.Cut(good, `"rows":"`)
	rows, _, _ := strings.Cut(rest, `"`)
	return rows
}

func deflated(t *testing.T, plain ...byte) []byte {
	t.Helper()
	var b bytes.Buffer
	w, err := flate.NewWriter(&b, flate.BestSpeed)
	if err != nil {
		t.Fatal(err)
	}
	_, err = w.Write(plain)
	if err = errors.Join(err, w.Close()); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// An account that a scope of a matter holds, and a finding names, too, counts once.
func TestMattersCountOnce(t *testing.T) {
	r := small()
	a, twin, one := r.Places[0], r.Places[1], r.Scopes[0]
	r.Findings = []check.Finding{{Fingerprint: "f3", Kind: check.Weak, Check: "long-gone", Scope: one, Authority: a},
		{Fingerprint: "f4", Kind: check.Weak, Check: "long-gone", Authority: a, Rows: []int{1, 2, 5, 9}},
		{Fingerprint: "f5", Kind: check.Weak, Check: "long-gone", Authority: twin, Rows: []int{3}}}
	all := r.Matters()
	if len(all) != 1 || all[0].Title != "long-gone" || all[0].Accounts == nil || *all[0].Accounts != 4 || all[0].Disabled != 1 || all[0].Privileged != 1 {
		t.Errorf("%+v", all[0])
	}
	part := r.Part(func(x *estate.Authority) bool { return x == twin })
	if named := part.Matters(); len(named) != 1 || named[0].Name != all[0].Name {
		t.Errorf("of a part: %+v", named)
	}
	if len(part.Rolls) != 0 || (*record.Roll)(nil).Of(1) != nil {
		t.Error("a place without a roll has one")
	}
}

// What a finding was called before identities were typed is the same finding.
func TestDifferencesOfRenamed(t *testing.T) {
	before, after := small(), small()
	before.Findings[0].Fingerprint, before.Findings[0].Alias = "old", ""
	if d := record.Differences(before, after); len(d) != 0 {
		t.Errorf("%+v", d)
	}
	after.Findings[0].Alias = ""
	if d := record.Differences(before, after); len(d) != 2 || d[0].After != "-" || d[1].Before != "-" {
		t.Errorf("%+v", d)
	}
}

func TestWithoutName(t *testing.T) {
	for _, c := range [][3]string{{"it is with it", "it", "… is with …"}, {"it", "it", "…"}, {"with", "it", "with"}, {"a b", "", "a b"},
		{"Éa a", "a", "Éa …"}} {
		if got := record.WithoutName(c[0], c[1]); got != c[2] {
			t.Errorf("%q without %q: %q, want %q", c[0], c[1], got, c[2])
		}
	}
}

func FuzzDecode(f *testing.F) {
	data, err := small().Encode()
	if err != nil {
		f.Fatal(err)
	}
	f.Add(data)
	f.Add([]byte(`{"format":1}`))
	f.Add([]byte(`{"format":1,"places":[{}],"scopes":[{}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := record.Decode(data)
		if err != nil {
			return
		}
		if _, err := r.Encode(); err != nil {
			t.Skip("a record that this program would not write")
		}
	})
}

// A program that reads a record needs nothing else: what points at a scope points
// at one of its scopes.
func ExampleDecode() {
	data, _ := small().Encode()
	r, err := record.Decode(data)
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, v := range r.Verdicts {
		fmt.Printf("%s: %s, %s; required: %s\n", v.Scope.Name(), v.Kind, v.Observed, v.Demand.Text())
	}
	// Output:
	// x.example (domain) / domain default / standard: waived, 9 characters; required: at least 14 characters
	// x.example (domain) / domain default of x.example (tenant) / privileged: weak, 9 characters; required: at least 14 characters
}

// fill gives every field of a value something, so that what is lost shows.
func fill(v reflect.Value) {
	if v.Type() == reflect.TypeFor[setting.Value]() {
		v.Set(reflect.ValueOf(setting.Number(7)))
		return
	}
	switch v.Kind() {
	case reflect.String:
		v.SetString("x")
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Int, reflect.Int64:
		v.SetInt(3)
	case reflect.Uint8, reflect.Uint32:
		v.SetUint(3)
	case reflect.Float64:
		v.SetFloat(0.5)
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		fill(v.Elem())
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 1, 1))
		fill(v.Index(0))
	case reflect.Map:
		v.Set(reflect.MakeMap(v.Type()))
		key, value := reflect.New(v.Type().Key()).Elem(), reflect.New(v.Type().Elem()).Elem()
		fill(key)
		fill(value)
		v.SetMapIndex(key, value)
	case reflect.Struct:
		for i := range v.NumField() {
			if f := v.Type().Field(i); f.IsExported() && f.Tag.Get("json") != "-" {
				fill(v.Field(i))
			}
		}
	}
}

// Whatever a finding, a verdict or a scope says is kept: a field that is added is kept by its
// tag, and one that points at another thing by a place of its own.
func TestEveryFieldIsKept(t *testing.T) {
	r := small()
	one, two := *r.Scopes[0], *r.Scopes[1]
	fill(reflect.ValueOf(&one).Elem())
	fill(reflect.ValueOf(&r.Findings[0]).Elem())
	fill(reflect.ValueOf(&r.Verdicts[0]).Elem())
	*r.Scopes[0], *r.Scopes[1] = one, two
	data, err := r.Encode()
	if err != nil {
		t.Fatal(err)
	}
	again, err := record.Decode(data)
	if err != nil {
		t.Fatal(err)
	}
	for what, pair := range map[string][2]any{"scope": {*r.Scopes[0], *again.Scopes[0]}, "finding": {r.Findings[0], again.Findings[0]},
		"verdict": {r.Verdicts[0], again.Verdicts[0]}} {
		was, is := reflect.ValueOf(pair[0]), reflect.ValueOf(pair[1])
		for i := range was.NumField() {
			f := was.Type().Field(i)
			if f.Tag.Get("json") != "-" && !reflect.DeepEqual(was.Field(i).Interface(), is.Field(i).Interface()) {
				t.Errorf("%s.%s: %v, kept %v", what, f.Name, was.Field(i), is.Field(i))
			} else if f.Tag.Get("json") == "-" && was.Field(i).IsNil() != is.Field(i).IsNil() {
				t.Errorf("%s.%s is kept nowhere", what, f.Name)
			}
		}
	}
	// A later version's field is passed over.
	later := bytes.Replace(data, []byte(`"findings":[{`), []byte(`"later":{"a":[1]},"findings":[{"later":0.25,`), 1)
	if bytes.Equal(later, data) {
		t.Fatal("no findings")
	}
	if r, err := record.Decode(later); err != nil || len(r.Findings) != len(again.Findings) {
		t.Errorf("with a later version's fields: %v", err)
	}
}
