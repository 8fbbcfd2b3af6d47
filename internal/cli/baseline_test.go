package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

func TestBaselineCommands(t *testing.T) {
	beside(t)
	dir := begin(t)
	list := document(t, dir, "baseline", "list")["baselines"].([]any)
	if len(list) != 16 {
		t.Errorf("%d baselines", len(list))
	}
	for _, b := range list {
		id := at(b, "id").(string)
		show := document(t, dir, "baseline", "show", id)
		if len(show["demands"].([]any)) != int(at(b, "demands").(float64)) {
			t.Errorf("%s: %v demands listed, %d shown", id, at(b, "demands"), len(show["demands"].([]any)))
		}
		// What is printed as a file is that baseline again.
		file := write(t, filepath.Join(t.TempDir(), id+".yaml"), must(t, dir, "baseline", "show", id, "--format", "yaml"))
		if out := must(t, dir, "baseline", "lint", file); !strings.Contains(out, fmt.Sprintf("%s 2026.1, %v demands", id, at(b, "demands"))) {
			t.Errorf("%s as a file: %s", id, out)
		}
	}
	doc := document(t, dir, "baseline", "reconcile", "cis-windows-server", "nist-800-63b", "pci-dss-4")
	bands := map[string]string{}
	for _, s := range doc["settings"].([]any) {
		bands[fmt.Sprint(at(s, "setting"), " ", at(s, "case"))] += fmt.Sprint(at(s, "band"), at(s, "exclude"))
	}
	for key, want := range map[string]string{
		"min-length password alone; people; windows-domain, windows-machine":       "at least 15 characters[]",
		"min-length with a second factor; people; windows-domain, windows-machine": "at least 14 characters[]",
		"complexity services; windows-domain, windows-machine":                     "on[]",
		"complexity people; windows-domain, windows-machine":                       "no value[[cis-windows-server nist-800-63b] [nist-800-63b pci-dss-4]]",
		"lockout-threshold people; windows-domain, windows-machine":                "at most 5 failed attempts[]",
		"lockout-duration windows-domain, windows-machine":                         "at least 30 minutes or locks until an administrator unlocks[]",
	} {
		if bands[key] != want {
			t.Errorf("%s: %q, want %q, of %v", key, bands[key], want, bands)
		}
	}
}

// An organisation's own baseline, by the book: begun, filled in as
// docs/baselines.md says, checked, chosen, weighed.
func TestOwnBaseline(t *testing.T) {
	beside(t)
	dir := begin(t)
	must(t, dir, "gather", write(t, filepath.Join(t.TempDir(), "x.ldif"), smallHead+smallUser))
	must(t, dir, "baseline", "new", "harbour", "--from", "cis-windows-server", "--title", "Ours")
	file := filepath.Join(dir, "baselines", "harbour.yaml")
	if out := must(t, dir, "baseline", "lint", file); !strings.Contains(out, "harbour 1, 11 demands") {
		t.Errorf("as begun: %s", out)
	}
	text, err := os.ReadFile("../../docs/baselines.md")
	if err != nil {
		t.Fatal(err)
	}
	example := regexp.MustCompile("(?s)```yaml\n(id: harbour\n.*?)```").FindSubmatch(text)
	if example == nil {
		t.Fatal("docs/baselines.md has no baseline called harbour")
	}
	write(t, file, string(example[1]))
	must(t, dir, "baseline", "lint", "baselines/harbour.yaml")
	doc := document(t, dir, "weigh", "--against", "harbour,nist-800-63b")
	var minLength, maxAge any
	for _, f := range doc["findings"].([]any) {
		if at(f, "settings", 0) == "min-length" && at(f, "check") == nil {
			minLength = f
		}
	}
	if at(minLength, "satisfies") != "at least 16 characters" ||
		at(minLength, "demanded") != "at least 15 characters (nist-800-63b 3.1.1.2); at least 16 characters (harbour 3.2)" || len(at(minLength, "baselines").([]any)) != 2 ||
		at(minLength, "remedy") != "Set the minimum length to 16 characters or more: Account Policies, Password Policy, "+
			"\"Minimum password length\" (minPwdLength of domain default, x.example)." {
		t.Errorf("one finding for both: %v", minLength)
	}
	for _, v := range doc["verdicts"].([]any) {
		if at(v, "setting") == "max-age" && at(v, "baseline") == "harbour" {
			maxAge = v
		}
	}
	if maxAge != nil {
		t.Errorf("max-age was dropped, and is weighed: %v", maxAge)
	}
	config := filepath.Join(dir, "engagement.yaml")
	before, _ := os.ReadFile(config)
	write(t, config, string(before)+"tiers: {privileged: {baselines: [cis-nothing]}}\n")
	if _, errs, status := run(t, dir, "weigh"); status != 1 || !strings.Contains(errs, "unknown baseline \"cis-nothing\"") {
		t.Errorf("%d %s", status, errs)
	}
	write(t, config, string(before)+"tiers: {privileged: {accounts: [ada], baselines: [pci-dss-4]}}\n")
	tiers := document(t, dir, "weigh")
	seen := map[string]bool{}
	for _, v := range tiers["verdicts"].([]any) {
		seen[fmt.Sprint(at(v, "scope"), at(v, "baseline"))] = true
	}
	if len(seen) == 0 || seen["x.example / domain default / privilegedcis-windows-server"] {
		t.Errorf("a tier's own baselines: %v", seen)
	}
}

// What is picked and grouped is shown; what is recorded is whole.
func TestWeighViews(t *testing.T) {
	beside(t)
	dir := harbour(t)
	audit := filepath.Join(dir, "audit")
	whole := document(t, audit, "weigh")
	for args, keep := range map[string]func(f any) bool{
		"--only weak":          func(f any) bool { return at(f, "verdict") == "weak" },
		"--min-severity grave": func(f any) bool { return at(f, "severity") == "grave" },
		"--scope gate2*":       func(f any) bool { return strings.HasPrefix(at(f, "scope").(string), "gate2 ") },
		"--setting history":    func(f any) bool { return strings.Contains(fmt.Sprint(at(f, "settings")), "history") },
		"--only weak --scope gate*": func(f any) bool {
			return at(f, "verdict") == "weak" && strings.HasPrefix(at(f, "scope").(string), "gate") && strings.Contains(at(f, "scope").(string), "/")
		},
	} {
		want := 0
		for _, f := range whole["findings"].([]any) {
			if keep(f) {
				want++
			}
		}
		got := document(t, audit, append([]string{"weigh"}, strings.Fields(args)...)...)["findings"].([]any)
		for _, f := range got {
			if !keep(f) {
				t.Errorf("%s shows %v", args, f)
			}
		}
		if len(got) != want || want == 0 {
			t.Errorf("%s: %d findings, want %d", args, len(got), want)
		}
	}
	for args, say := range map[string]string{
		"--only good": "expected holds", "--min-severity bad": "expected minor", "--by tier": "expected scope or setting",
		"--setting nothing": "there is none", "--scope gate9": "known are boathouse", "--place gat3": `the nearest is "gate3"`,
		"--matter M0": "expected M1 to M",
	} {
		if _, errs, status := run(t, audit, append([]string{"weigh"}, strings.Fields(args)...)...); status == 0 || !strings.Contains(errs, say) {
			t.Errorf("%s: %d %s", args, status, errs)
		}
	}
	if out := must(t, audit, "weigh", "--matrix"); !strings.Contains(out, "conflicting") ||
		!regexp.MustCompile(`(?m)^min-length +weak`).MatchString(out) {
		t.Errorf("matrix: %s", out)
	}
	if out := must(t, audit, "weigh", "--by", "setting", "--verbose"); !strings.Contains(out, "no setting│") ||
		!regexp.MustCompile(`(?m)^min-length +\d+ findings`).MatchString(out) {
		t.Error("by setting: not grouped, or what does not apply is not told")
	}
}

// Forecasts of the sample, by hand, and what a change would come to.
func TestForecast(t *testing.T) {
	beside(t)
	dir := harbour(t)
	audit := filepath.Join(dir, "audit")
	figures := func(args ...string) map[string]any {
		return document(t, audit, append([]string{"forecast"}, args...)...)["scopes"].([]any)[0].(map[string]any)
	}
	for _, c := range []struct{ scope, want string }{
		// 62 hours are 248 quarters of an hour; four of five tries in each.
		{"marrowick.example / Pilots", "992 1240 248 2.0736e+06 1 4 20"},
		{"marrowick.example / Control Room", "248 3 1 2.0736e+06 6.083333333333333 2 6"},
		{"marrowick.example / Executives / standard", "<nil> <nil> <nil> 0 0 1 <nil>"},
		{"gate1 / machine / standard", "992 1240 248 864000 1 2 10"},
	} {
		f := figures("--scope", c.scope)
		got := fmt.Sprintln(at(f, "guesses", 2, "under_lock"), at(f, "guesses", 2, "into_lock"), at(f, "guesses", 2, "locks"),
			at(f, "way_back_seconds"), at(f, "changes_per_year"), at(f, "accounts"), at(f, "tries_to_lock_all"))
		if strings.TrimSpace(got) != c.want {
			t.Errorf("%s: %s, want %s", c.scope, got, c.want)
		}
	}
	f := figures("--scope", "marrowick.example / Pilots", "--if", "lockout-duration=until-admin", "--if", "max-age=never",
		"--locks-per-year", "3")
	if at(f, "changed", "guesses", 2, "into_lock") != 5.0 || at(f, "guesses", 2, "into_lock") != 1240.0 ||
		at(f, "changed", "unlock_calls_per_year") != 12.0 || at(f, "changed", "changes_per_year") != 0.0 {
		t.Errorf("changed: %v", f["changed"])
	}
	for args, say := range map[string]string{
		"--if min-lenght=8": `the nearest is "min-length"`, "--if min-age": "expected SETTING=VALUE",
		"--if max-age=30": "a time with its unit", "--scope gate9": "known are", "--online-rate 0": "above 0",
		"--locks-per-year -1": "0 or more",
	} {
		if _, errs, status := run(t, audit, append([]string{"forecast"}, strings.Fields(args)...)...); status == 0 ||
			!strings.Contains(errs, say) {
			t.Errorf("%s: %d %s", args, status, errs)
		}
	}
	if out := must(t, audit, "forecast", "--format", "csv"); !strings.Contains(out,
		"marrowick.example / Pilots,now,4,weekend,1240,992,992,1240,248,2073600,") {
		t.Errorf("rows: %s", out[:600])
	}
}

// Baselines are chosen by name: what fits is shown, the rest of engagement.yaml stays, and a name
// that is none changes nothing.
func TestChooseBaselines(t *testing.T) {
	beside(t)
	dir := begin(t)
	if out := must(t, dir, "baseline", "choose"); !strings.Contains(out, "Nothing was gathered yet") {
		t.Errorf("before gathering: %s", out)
	}
	must(t, dir, "gather", write(t, filepath.Join(t.TempDir(), "x.ldif"), smallHead+smallUser))
	file := filepath.Join(dir, "engagement.yaml")
	before, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	d := document(t, dir, "baseline", "choose")
	if got := fmt.Sprint(at(d, "chosen"), at(d, "platforms", 0, "platform"), at(d, "platforms", 0, "chosen")); got != "[cis-windows-server]windows-domain[cis-windows-server]" {
		t.Errorf("as begun: %s", got)
	}
	if _, said, code := run(t, dir, "baseline", "choose", "pci-dss-4", "nowhere"); code == 0 || !strings.Contains(said, `unknown baseline "nowhere"`) {
		t.Errorf("an unknown one: %d %s", code, said)
	}
	if now, _ := os.ReadFile(file); string(now) != string(before) {
		t.Error("a refusal changed engagement.yaml")
	}
	d = document(t, dir, "baseline", "choose", "pci-dss-4")
	if got := fmt.Sprint(at(d, "chosen"), at(d, "before")); got != "[cis-windows-server pci-dss-4] [cis-windows-server]" {
		t.Errorf("one more: %s", got)
	}
	must(t, dir, "baseline", "choose", "--instead", "nist-800-63b")
	now, _ := os.ReadFile(file)
	if want := strings.Replace(string(before), "baselines: [cis-windows-server]\n", "baselines: [nist-800-63b]\n", 1); string(now) != want {
		t.Errorf("in place of them:\n%s", now)
	}
	if out := must(t, dir, "weigh"); !strings.Contains(out, "against nist-800-63b") {
		t.Errorf("weighed: %s", out)
	}
}
