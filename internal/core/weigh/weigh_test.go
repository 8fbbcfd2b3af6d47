package weigh

import (
	"strings"
	"testing"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// scopeWith returns a scope of a machine or domain with these settings, each
// written as people write it; "?" is unreadable.
func scopeWith(t *testing.T, p setting.Platform, standing estate.Standing, settings string) *govern.Scope {
	t.Helper()
	a := &estate.Authority{Name: "x", Kind: estate.Machine, Platform: p, Objects: &estate.Objects{}}
	a.Head = &estate.Policy{Name: "local", Standing: standing, Platform: p, Settings: estate.Settings{}}
	for i, line := range strings.Split(settings, ";") {
		id, text, ok := strings.Cut(strings.TrimSpace(line), " ")
		if !ok {
			continue
		}
		f := estate.Fact{Cite: estate.Cite{File: "x.inf", Line: i + 1, Where: "Key", Raw: text}}
		if text == "?" {
			f.Problem = "cannot be read"
		} else {
			v, err := setting.Get(setting.ID(id)).Parse(text)
			if err != nil {
				t.Fatal(err)
			}
			f.Value = v
		}
		a.Head.Settings[setting.ID(id)] = f
	}
	survey := govern.NewSurvey(&estate.Estate{Authorities: []*estate.Authority{a}}, func(*estate.Authority) estate.Dialect { return estate.Windows }, nil)
	return survey.Scopes[0]
}

func surveyOf(scope *govern.Scope) *govern.Survey {
	return &govern.Survey{Estate: &estate.Estate{}, Scopes: []*govern.Scope{scope}}
}

// against chooses the same baselines for everything.
func against(all ...*baseline.Baseline) func(*estate.Authority, string) []*baseline.Baseline {
	return func(*estate.Authority, string) []*baseline.Baseline { return all }
}

func weighed(t *testing.T, scope *govern.Scope, demands string) *Result {
	t.Helper()
	b, err := baseline.Parse("t.yaml", []byte("id: t\ntitle: T\nversion: 1\nfor: {platforms: [windows-machine, windows-domain, unix-machine]}\ndemands:\n"+demands))
	if err != nil {
		t.Fatal(err)
	}
	return Run(surveyOf(scope), Choice{Baselines: against(b)})
}

// A remedy names what is to be set, also where another line decides the value.
func TestRemedyNamesTheSetting(t *testing.T) {
	const demand = "  - {setting: min-length, at-least: 14, severity: grave, why: w.}\n"
	for where, want := range map[string]string{
		"minlen":        "Set minlen of local to 14 (14 characters or more).",
		"dictcheck":     "Set minlen of pam_pwquality to 14 (14 characters or more), and see that it counts: what holds now comes from dictcheck.",
		"common-auth x": "Set minlen of pam_pwquality to 14 (14 characters or more), and see that it counts: what holds now comes from common-auth x.",
	} {
		scope := scopeWith(t, setting.UnixMachine, estate.Enforced, "min-length 6")
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
		want             Kind
		reason           string
	}{
		{"min-length 14", "{setting: min-length, at-least: 14, severity: grave, why: w.}", Holds, ""},
		{"min-length 8", "{setting: min-length, at-least: 14, severity: grave, why: w.}", Weak, "6 characters short. w."},
		{"lockout-threshold 10", "{setting: lockout-threshold, at-most: 5, specials: {never: fails}, severity: minor, why: w.}", Weak, "5 failed tries too many. w."},
		{"lockout-threshold never", "{setting: lockout-threshold, at-most: 5, specials: {never: fails}, severity: minor, why: w.}", Weak, "w."},
		{"min-length ?", "{setting: min-length, at-least: 14, severity: grave, why: w.}", Missing, "not readable: cannot be read"},
		{"", "{setting: min-length, at-least: 14, severity: grave, why: w.}", Missing, "not collected"},
		{"lockout-threshold never", "{setting: lockout-duration, at-least: 15 minutes, specials: {until-admin: holds}, severity: minor, why: w.}", Missing, "not set"},
		{"", "{setting: max-repeat, platforms: [windows-machine, unix-machine], at-most: 3, specials: {unlimited: fails}, severity: minor, why: w.}", Missing, "no such setting"},
		{"history 24; min-age at-once", "{setting: history, at-least: 24, severity: minor, why: w.}", Conflicting, "back on the old password after 0 days: history 24"},
		{"history 10; min-age at-once", "{setting: history, at-least: 24, severity: minor, why: w.}", Weak, "14 passwords short"},
		{"lockout-threshold never; lockout-duration 30 minutes", "{setting: lockout-duration, at-least: 15 minutes, specials: {until-admin: holds}, severity: minor, why: w.}", Conflicting, "do nothing"},
		{"min-length 15; length-limit-relaxed off", "{setting: min-length, at-least: 14, severity: minor, why: w.}", Conflicting, "Windows holds to 14"},
		{"min-age 42 days; max-age 42 days", "{setting: min-age, at-least: 1 day, specials: {at-once: fails}, severity: minor, why: w.}", Conflicting, "not below"},
	} {
		r := weighed(t, scopeWith(t, setting.WindowsMachine, estate.Enforced, c.settings), "  - "+c.demand+"\n")
		if v := r.Verdicts[0]; v.Kind != c.want || !strings.Contains(v.Reason, c.reason) {
			t.Errorf("%s against %s: %s %q, want %s %q", c.settings, c.demand, v.Kind, v.Reason, c.want, c.reason)
		}
		for _, f := range r.Findings {
			if f.Kind == Weak && f.Check == "" && !strings.HasPrefix(f.Remedy, "Set Key of local to ") {
				t.Errorf("%s: the remedy does not name the place: %s", c.settings, f.Remedy)
			}
			if f.Kind == Holds || f.Reason == "" || f.Remedy == "" || len(f.Fingerprint) != 12 {
				t.Errorf("%s: %+v", c.settings, f)
			}
		}
	}
}

func TestChecks(t *testing.T) {
	for _, c := range []struct{ settings, finds string }{
		{"history 24; min-age 1 day; min-age 1 day; max-age 42 days", ""},
		{"history 24; min-age at-once", "history-run-through"},
		{"history 0; min-age at-once", ""},
		{"history 24", ""},
		{"min-age 2 days; max-age 1 day", "age-order"},
		{"min-age 2 days; max-age never", ""},
		{"lockout-threshold 5; lockout-duration 30 minutes", ""},
		{"lockout-threshold never; lockout-window 30 minutes", "lockout-dormant"},
		{"lockout-threshold never", ""},
		{"min-length 15; length-limit-relaxed on", ""},
		{"min-length 14; length-limit-relaxed off", ""},
		{"min-length 15; length-limit-relaxed off", "length-capped"},
		{"min-length 15", "length-cap-unseen"},
		{"lockout-threshold 5; lockout-duration 15 minutes; lockout-window 30 minutes", "window-over-duration"},
		{"lockout-threshold 5; lockout-duration until-admin; lockout-window 30 minutes", ""},
		{"min-length 12; min-length-audit 12", "audit-length-idle"},
		{"min-length 12; min-length-audit 13", ""},
		{"min-length 12; min-length-audit 0", ""},
		{"blocklist on; dictionary-check audit", "audit-only"},
		{"blocklist on; dictionary-check on", ""},
		{"complexity on; min-length 7", "complexity-too-short"},
		{"complexity on; min-length 8", ""},
		{"complexity off; min-length 3", ""},
		{"complexity on; min-length 8; max-age 59 days", "changed-too-often"},
		{"complexity on; min-length 8; max-age 60 days", ""},
		{"complexity off; max-age 30 days", ""},
		{"lockout-threshold 5; lockout-duration 15 minutes; lockout-window 15 minutes", ""},
		{"lockout-threshold 6; lockout-duration 15 minutes; lockout-window 15 minutes", "weekend-of-guesses"},
		{"lockout-threshold 1; lockout-window 1 minute", ""},
		{"lockout-threshold 99; lockout-window never", ""},
		{"max-length 63", "length-cap-low"},
		{"max-length 64", ""},
		{"max-length unlimited", ""},
		{"lockout-administrator off; lockout-threshold 5", "root-never-locks"},
		{"lockout-administrator on; lockout-threshold 5", ""},
		{"lockout-administrator off; lockout-threshold never", ""},
	} {
		platform := setting.WindowsMachine
		if strings.Contains(c.settings, "dictionary-check") || strings.Contains(c.settings, "max-length") {
			platform = setting.CloudDirectory
		}
		found := runChecks(scopeWith(t, platform, estate.Enforced, c.settings))
		var names []string
		for _, f := range found {
			names = append(names, f.Check)
			if len(f.Evidence) == 0 {
				t.Errorf("%s: %s shows no evidence", c.settings, f.Check)
			}
		}
		if strings.Join(names, " ") != c.finds {
			t.Errorf("%s: %v, want %q", c.settings, names, c.finds)
		}
	}
	for _, f := range runChecks(scopeWith(t, setting.WindowsMachine, estate.Enforced, "complexity on; min-length 6; max-age 42 days; lockout-threshold 10; lockout-duration 10 minutes; lockout-window 10 minutes")) {
		for check, want := range map[string]string{"complexity-too-short": "in 7 seconds", "changed-too-often": "8 times a year", "weekend-of-guesses": "3348 guesses"} {
			if f.Check == check && !strings.Contains(f.Reason, want) {
				t.Errorf("%s: %s, want %q", check, f.Reason, want)
			}
		}
	}
	if found := runChecks(scopeWith(t, setting.WindowsMachine, estate.Override, "min-length 20; length-limit-relaxed off")); len(found) != 0 {
		t.Errorf("a fine-grained policy needs no relaxed limit: %+v", found)
	}
}

// Several baselines on one setting make one finding, and one count, at the
// worst; a privileged scope is one step more severe.
func TestFindingsAreMerged(t *testing.T) {
	scope := scopeWith(t, setting.WindowsMachine, estate.Enforced, "min-length 8")
	scope.Tier = govern.Privileged
	lax, _ := baseline.Parse("a", []byte("id: a\ntitle: A\nversion: 1\nfor: {platforms: [windows-machine]}\ndemands:\n  - {setting: min-length, at-least: 8, severity: minor, ref: '1', why: w}\n"))
	mid, _ := baseline.Parse("b", []byte("id: b\ntitle: B\nversion: 1\nfor: {platforms: [windows-machine]}\ndemands:\n  - {setting: min-length, at-least: 12, severity: minor, ref: '2', why: w}\n"))
	top, _ := baseline.Parse("c", []byte("id: c\ntitle: C\nversion: 1\nfor: {platforms: [windows-machine]}\ndemands:\n  - {setting: min-length, at-least: 14, severity: serious, ref: '3', why: w}\n"))
	other, _ := baseline.Parse("d", []byte("id: d\ntitle: D\nversion: 1\nfor: {platforms: [cloud-directory]}\ndemands:\n  - {setting: min-length, at-least: 99, severity: grave, ref: '4', why: w}\n"))
	r := Run(surveyOf(scope), Choice{Baselines: against(lax, mid, top, other)})
	if len(r.Verdicts) != 3 || len(r.Findings) != 1 || len(r.Findings[0].Baselines) != 2 || r.Findings[0].Severity != baseline.Grave {
		t.Fatalf("%d verdicts, findings %+v", len(r.Verdicts), r.Findings)
	}
	if counts := r.Counts()[scope]; counts[Weak] != 1 || counts[Holds] != 0 {
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
	scope := scopeWith(t, setting.WindowsMachine, estate.Enforced, "max-age 30 days; min-length 14")
	parse := func(id, demands string) *baseline.Baseline {
		b, err := baseline.Parse(id, []byte("id: "+id+"\ntitle: T\nversion: 1\nfor: {platforms: [windows-machine, unix-machine]}\ndemands:\n"+demands))
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	never := parse("never", "- {setting: max-age, exactly: never, severity: minor, why: w}\n- {setting: max-repeat, at-most: 3, specials: {unlimited: fails}, severity: minor, why: w}\n")
	often := parse("often", "- {setting: max-age, at-most: 60 days, specials: {never: fails}, severity: grave, why: w}\n- {setting: name-check, platforms: [windows-machine, unix-machine], exactly: on, severity: minor, why: w}\n")
	for _, c := range []struct {
		decisions []Decision
		verdicts  string
		finding   string
		aside     int
	}{
		{nil, "name-check missing, max-age weak, max-age holds", "No value satisfies all chosen baselines (never: never expires against often: at most 60 days)", 0},
		{[]Decision{{Setting: "max-age", Follow: "often", Why: "x"}}, "name-check missing, max-age holds", "", 1},
		{[]Decision{{Setting: "max-age", Follow: "never", Why: "x"}}, "name-check missing, max-age weak", "Set Key of local to never expires.", 1},
		{[]Decision{{Setting: "max-age", Follow: "neither", Why: "x"}}, "name-check missing, max-age weak, max-age holds", "No value satisfies", 0},
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
		if strings.Join(verdicts, ", ") != c.verdicts || !strings.HasPrefix(remedy, c.finding) || (c.finding == "") != (remedy == "") || len(r.SetAside) != c.aside {
			t.Errorf("%v: %v, %q, %d set aside", c.decisions, verdicts, remedy, len(r.SetAside))
		}
		if len(r.Idle) != 1 || r.Idle[0].Demand.Setting != "max-repeat" {
			t.Errorf("not applicable: %v", r.Idle)
		}
	}
}

// A shorter password will do with a second factor, and only there.
func TestSecondFactor(t *testing.T) {
	b, err := baseline.Parse("f", []byte("id: f\ntitle: T\nversion: 1\nfor: {platforms: [cloud-directory]}\ndemands:\n- {setting: min-length, factor: only, at-least: 15, severity: grave, why: w}\n- {setting: min-length, factor: second, at-least: 8, severity: grave, why: w}\n"))
	if err != nil {
		t.Fatal(err)
	}
	for mfa, want := range map[string]Kind{"mfa all": Holds, "mfa some": Weak, "mfa none": Weak, "": Weak} {
		scope := scopeWith(t, setting.CloudDirectory, estate.Enforced, "min-length 8; "+mfa)
		if r := Run(surveyOf(scope), Choice{Baselines: against(b)}); len(r.Verdicts) != 1 || r.Verdicts[0].Kind != want {
			t.Errorf("%q: %+v", mfa, r.Verdicts)
		}
	}
}
