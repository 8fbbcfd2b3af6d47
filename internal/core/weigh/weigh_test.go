package weigh

import (
	"fmt"
	"strings"
	"testing"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/coretest"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

func surveyOf(scope *govern.Scope) *govern.Survey {
	return &govern.Survey{Estate: &estate.Estate{}, Scopes: []*govern.Scope{scope}}
}

// against chooses the same baselines for everything.
func against(all ...*baseline.Baseline) func(*estate.Authority, string) []*baseline.Baseline {
	return func(*estate.Authority, string) []*baseline.Baseline { return all }
}

func weighed(t *testing.T, scope *govern.Scope, demands string) *Result {
	t.Helper()
	b, err := baseline.Parse("t.yaml",
		[]byte("id: t\ntitle: T\nversion: 1\nfor: {platforms: [windows-machine, windows-domain, unix-machine]}\ndemands:\n"+demands))
	if err != nil {
		t.Fatal(err)
	}
	return Run(surveyOf(scope), Choice{Baselines: against(b), Writing: plainly})
}

// plainly is how an invented place writes: numbers as they are.
var plainly = &Writing{Forms: map[string]setting.Form{"minlen": setting.Plain, "dictcheck": setting.OneZero},
	Asked: map[setting.Platform]func(setting.ID) (string, string){setting.UnixMachine: func(id setting.ID) (string, string) {
		if id == "min-length" {
			return "minlen", "pam_pwquality"
		}
		return "", ""
	}}}

// A remedy names what is to be set, also where another line decides the value.
func TestRemedyNamesTheSetting(t *testing.T) {
	const demand = "  - {setting: min-length, at-least: 14, severity: grave, why: w.}\n"
	for where, want := range map[string]string{
		"minlen": "Set the minimum length to 14 characters or more: minlen of local, x.",
		"dictcheck": "Set the minimum length to 14 characters or more: minlen of pam_pwquality on x, and see that it counts: what " +
			"holds now comes from dictcheck.",
		"common-auth x": "Set the minimum length to 14 characters or more: minlen of pam_pwquality on x, and see that it counts: what " +
			"holds now comes from common-auth x.",
	} {
		scope := coretest.ScopeWith(t, setting.UnixMachine, estate.Enforced, "min-length 6")
		e := scope.Settings["min-length"]
		e.Cite.Where = where
		scope.Settings["min-length"] = e
		if f := weighed(t, scope, demand).Findings; len(f) != 1 || f[0].Remedy != want {
			t.Errorf("%s: %+v, want %s", where, f, want)
		}
	}
}

func TestVerdicts(t *testing.T) {
	for _, c := range []struct {
		settings, demand string
		want             check.Kind
		reason           string
	}{
		{"min-length 14", "{setting: min-length, at-least: 14, severity: grave, why: w.}", check.Holds, ""},
		{"min-length 8", "{setting: min-length, at-least: 14, severity: grave, why: w.}", check.Weak, "6 characters short. w."},
		{"lockout-threshold 10", "{setting: lockout-threshold, at-most: 5, specials: {never: fails}, severity: minor, why: w.}",
			check.Weak, "5 failed attempts too many. w."},
		{"lockout-threshold never", "{setting: lockout-threshold, at-most: 5, specials: {never: fails}, severity: minor, why: w.}",
			check.Weak, "w."},
		{"min-length ?", "{setting: min-length, at-least: 14, severity: grave, why: w.}", check.Missing, "not readable: cannot be read"},
		{"", "{setting: min-length, at-least: 14, severity: grave, why: w.}", check.Missing, "not collected"},
		{"lockout-threshold never", "{setting: lockout-duration, at-least: 15 minutes, specials: {until-admin: holds}, severity: minor, why: w.}",
			check.Missing, "not set"},
		{"", "{setting: max-repeat, platforms: [windows-machine, unix-machine], at-most: 3, specials: {unlimited: fails}, severity: " +
			"minor, why: w.}", check.Missing, "no such setting"},
		{"history 24; min-age at-once", "{setting: history, at-least: 24, severity: minor, why: w.}", check.Conflicting,
			"back on the old password after 0 days: history 24"},
		{"history 10; min-age at-once", "{setting: history, at-least: 24, severity: minor, why: w.}", check.Weak, "14 passwords short"},
		{"lockout-threshold never; lockout-duration 30 minutes",
			"{setting: lockout-duration, at-least: 15 minutes, specials: {until-admin: holds}, severity: minor, why: w.}",
			check.Conflicting, "do nothing"},
		{"min-length 15; length-limit-relaxed off", "{setting: min-length, at-least: 14, severity: minor, why: w.}", check.Conflicting,
			"Windows enforces 14"},
		{"min-age 42 days; max-age 42 days", "{setting: min-age, at-least: 1 day, specials: {at-once: fails}, severity: minor, why: w.}",
			check.Conflicting, "not below"},
	} {
		r := weighed(t, coretest.ScopeWith(t, setting.WindowsMachine, estate.Enforced, c.settings), "  - "+c.demand+"\n")
		if v := r.Verdicts[0]; v.Kind != c.want || !strings.Contains(v.Reason, c.reason) {
			t.Errorf("%s against %s: %s %q, want %s %q", c.settings, c.demand, v.Kind, v.Reason, c.want, c.reason)
		}
		for _, f := range r.Findings {
			if f.Kind == check.Weak && f.Check == "" && !strings.HasSuffix(f.Remedy, ": Key of local, x.") {
				t.Errorf("%s: the remedy does not name the place: %s", c.settings, f.Remedy)
			}
			if f.Kind == check.Holds || f.Reason == "" || f.Remedy == "" || len(f.Fingerprint) != 12 {
				t.Errorf("%s: %+v", c.settings, f)
			}
		}
	}
}

// Several baselines on one setting make one finding, and one count, at the
// worst; a privileged scope is one step more severe.
func TestFindingsAreMerged(t *testing.T) {
	scope := coretest.ScopeWith(t, setting.WindowsMachine, estate.Enforced, "min-length 8")
	scope.Tier = govern.Privileged
	lax, _ := baseline.Parse("a",
		[]byte("id: a\ntitle: A\nversion: 1\nfor: {platforms: [windows-machine]}\ndemands:\n  - {setting: min-length, at-least: 8, "+
			"severity: minor, ref: '1', why: w}\n"))
	mid, _ := baseline.Parse("b",
		[]byte("id: b\ntitle: B\nversion: 1\nfor: {platforms: [windows-machine]}\ndemands:\n  - {setting: min-length, at-least: 12, "+
			"severity: minor, ref: '2', why: w}\n"))
	top, _ := baseline.Parse("c",
		[]byte("id: c\ntitle: C\nversion: 1\nfor: {platforms: [windows-machine]}\ndemands:\n  - {setting: min-length, at-least: 14, "+
			"severity: serious, ref: '3', why: w}\n"))
	other, _ := baseline.Parse("d",
		[]byte("id: d\ntitle: D\nversion: 1\nfor: {platforms: [cloud-directory]}\ndemands:\n  - {setting: min-length, at-least: 99, "+
			"severity: grave, ref: '4', why: w}\n"))
	r := Run(surveyOf(scope), Choice{Baselines: against(lax, mid, top, other)})
	if len(r.Verdicts) != 3 || len(r.Findings) != 1 || len(r.Findings[0].Baselines) != 2 || r.Findings[0].Severity != baseline.Grave {
		t.Fatalf("%d verdicts, findings %+v", len(r.Verdicts), r.Findings)
	}
	if counts := r.Counts()[scope]; counts[check.Weak] != 1 || counts[check.Holds] != 0 {
		t.Errorf("counts %v", counts)
	}
	again := Run(surveyOf(scope), Choice{Baselines: against(mid)})
	if again.Findings[0].Fingerprint != r.Findings[0].Fingerprint {
		t.Error("a finding must keep its fingerprint when severity and baselines change")
	}
}

// Demands that do not apply, and those that a decision sets aside, are told
// apart from what is missing.
func TestWhatIsNotWeighed(t *testing.T) {
	scope := coretest.ScopeWith(t, setting.WindowsMachine, estate.Enforced, "max-age 30 days; min-length 14")
	parse := func(id, demands string) *baseline.Baseline {
		b, err := baseline.Parse(id, []byte("id: "+id+"\ntitle: T\nversion: 1\nfor: {platforms: [windows-machine, unix-machine]}\ndemands:\n"+
			demands))
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	never := parse("never", "- {setting: max-age, exactly: never, severity: minor, why: w}\n- {setting: max-repeat, at-most: 3, "+
		"specials: {unlimited: fails}, severity: minor, why: w}\n")
	often := parse("often", "- {setting: max-age, at-most: 60 days, specials: {never: fails}, severity: grave, why: w}\n- "+
		"{setting: name-check, platforms: [windows-machine, unix-machine], exactly: on, severity: minor, why: w}\n")
	for _, c := range []struct {
		decisions []Decision
		verdicts  string
		finding   string
		aside     int
	}{
		{nil, "name-check missing, max-age weak, max-age holds",
			"No value satisfies all chosen baselines (never: never expires against often: at most 60 days)", 0},
		{[]Decision{{Setting: "max-age", Follow: "often", Why: "x"}}, "name-check missing, max-age holds", "", 1},
		{[]Decision{{Setting: "max-age", Follow: "never", Why: "x"}}, "name-check missing, max-age weak",
			"Set the maximum age to never expires: Key of local, x.", 1},
		{[]Decision{{Setting: "max-age", Follow: "neither", Why: "x"}}, "name-check missing, max-age weak, max-age holds",
			"No value satisfies", 0},
	} {
		r := Run(surveyOf(scope), Choice{Baselines: against(never, often), Decisions: c.decisions})
		var verdicts []string
		for _, v := range r.Verdicts {
			verdicts = append(verdicts, string(v.Demand.Setting)+" "+string(v.Kind))
		}
		remedy := ""
		for _, f := range r.Findings {
			if f.Settings[0] == "max-age" {
				remedy = f.Remedy
			}
		}
		if strings.Join(verdicts, ", ") != c.verdicts || !strings.HasPrefix(remedy, c.finding) || (c.finding == "") != (remedy == "") ||
			len(r.SetAside) != c.aside {
			t.Errorf("%v: %v, %q, %d set aside", c.decisions, verdicts, remedy, len(r.SetAside))
		}
		if len(r.Idle) != 1 || r.Idle[0].Demand.Setting != "max-repeat" {
			t.Errorf("not applicable: %v", r.Idle)
		}
	}
}

// A shorter password will do with a second factor, and only there.
func TestSecondFactor(t *testing.T) {
	b, err := baseline.Parse("f",
		[]byte("id: f\ntitle: T\nversion: 1\nfor: {platforms: [cloud-directory]}\ndemands:\n- {setting: min-length, factor: only, "+
			"at-least: 15, severity: grave, why: w}\n- {setting: min-length, factor: second, at-least: 8, severity: grave, why: w}\n"))
	if err != nil {
		t.Fatal(err)
	}
	for mfa, want := range map[string]check.Kind{"mfa all": check.Holds, "mfa some": check.Weak, "mfa none": check.Weak} {
		scope := coretest.ScopeWith(t, setting.CloudDirectory, estate.Enforced, "min-length 8; "+mfa)
		if r := Run(surveyOf(scope), Choice{Baselines: against(b)}); len(r.Verdicts) != 1 || r.Verdicts[0].Kind != want {
			t.Errorf("%q: %+v", mfa, r.Verdicts)
		}
	}
}

// A demand of which nobody tells whether it holds at a place is played both ways: what
// meets it holds, what fails it in every case is weak, and else a word of the auditor
// decides.
func TestDemandsThatMayNotHold(t *testing.T) {
	const factors = "  - {setting: min-length, at-least: 15, factor: only, severity: grave, why: w.}\n" +
		"  - {setting: min-length, at-least: 8, factor: second, severity: minor, why: w.}\n"
	const people = "  - {setting: min-length, at-least: 12, access: interactive, severity: minor, why: w.}\n"
	const sure = "  - {setting: min-length, at-least: 10, severity: minor, why: w.}\n"
	for _, c := range []struct {
		settings, demands string
		says              map[baseline.Word]bool
		want, found       string
	}{
		{"min-length 16", factors, nil, "holds holds", ""},
		{"min-length 9", factors, nil, "missing holds", "missing 9 characters, at least 15 characters (t): [second-factor]"},
		{"min-length 6", factors, nil, "weak weak", "weak 6 characters, at least 15 characters (t); at least 8 characters (t): []"},
		{"min-length 9", factors, map[baseline.Word]bool{"second-factor": true}, "holds", ""},
		{"min-length 9", factors, map[baseline.Word]bool{"second-factor": false}, "weak", "weak 9 characters, at least 15 characters (t): []"},
		{"min-length 9;mfa all", factors, map[baseline.Word]bool{"second-factor": false}, "holds", ""},
		{"min-length 9;mfa some", factors, map[baseline.Word]bool{"second-factor": true}, "weak",
			"weak 9 characters, at least 15 characters (t): []"},
		{"min-length 11", people, nil, "missing", "missing 11 characters, at least 12 characters (t): [interactive]"},
		{"min-length 11", people, map[baseline.Word]bool{"interactive": false}, "", ""},
		{"min-length 11", people, map[baseline.Word]bool{"interactive": true}, "weak", "weak 11 characters, at least 12 characters (t): []"},
		{"mfa none", "  - {setting: mfa, exactly: all, access: cloud, severity: minor, why: w.}\n", nil, "missing", "missing none, all (t): [cloud]"},
		{"mfa none", "  - {setting: mfa, exactly: all, access: cloud, severity: minor, why: w.}\n", map[baseline.Word]bool{"cloud": true}, "weak",
			"weak none, all (t): []"},
		{"max-age 1d", people, nil, "missing", "missing -, at least 12 characters (t): []"},
	} {
		scope := coretest.ScopeWith(t, "identity-provider", estate.Enforced, c.settings)
		b := plainBaseline(t, "t", c.demands)
		r := Run(surveyOf(scope), Choice{Baselines: against(b), Writing: plainly, Says: func(at estate.Place, tier string, w baseline.Word) (bool, bool) {
			if at.Name != "x" || tier != scope.Tier {
				t.Errorf("asked of %v, %q", at, tier)
			}
			holds, known := c.says[w]
			return holds, known
		}})
		var kinds, found []string
		for _, v := range r.Verdicts {
			kinds = append(kinds, string(v.Kind))
		}
		for _, f := range r.Findings {
			if f.Check == "" {
				found = append(found, string(f.Kind)+" "+f.Observed+", "+f.Required()+": "+fmt.Sprint(f.Open))
			}
		}
		if strings.Join(kinds, " ") != c.want || strings.Join(found, "; ") != c.found {
			t.Errorf("%s, %s%v: %v %q", c.settings, c.demands, c.says, kinds, found)
		}
	}
	// What may be demanded does not raise what is.
	scope := coretest.ScopeWith(t, "identity-provider", estate.Enforced, "min-length 9")
	one, two := plainBaseline(t, "a", sure), plainBaseline(t, "b", people)
	r := Run(surveyOf(scope), Choice{Baselines: against(one, two), Writing: plainly})
	if len(r.Findings) != 1 || r.Findings[0].Kind != check.Weak || r.Findings[0].Demanded != "at least 10 characters" {
		t.Errorf("%+v", r.Findings)
	}
	// Nor where it excludes what another baseline asks: that is a decision only if it holds.
	one, two = plainBaseline(t, "a", "  - {setting: max-age, exactly: never, severity: minor, why: w.}\n"),
		plainBaseline(t, "b", "  - {setting: max-age, at-most: 90d, specials: {never: fails}, factor: only, severity: minor, why: w.}\n")
	r = Run(surveyOf(coretest.ScopeWith(t, "identity-provider", estate.Enforced, "max-age never")), Choice{Baselines: against(one, two), Writing: plainly})
	if len(r.Findings) != 1 || fmt.Sprint(r.Findings[0].Open) != "[second-factor]" ||
		!strings.HasPrefix(r.Findings[0].Remedy, "Say in engagement.yaml, under \"applies:\", whether that is so there (case: second-factor). If the demand holds: "+
			"No value satisfies all chosen baselines") {
		t.Errorf("%+v", r.Findings)
	}
}

// plainBaseline is one for identity providers.
func plainBaseline(t *testing.T, id, demands string) *baseline.Baseline {
	t.Helper()
	b, err := baseline.Parse(id+".yaml", []byte("id: "+id+"\ntitle: T\nversion: 1\nfor: {platforms: [identity-provider]}\ndemands:\n"+demands))
	if err != nil {
		t.Fatal(err)
	}
	return b
}
