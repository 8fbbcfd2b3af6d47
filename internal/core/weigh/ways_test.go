package weigh

import (
	"fmt"
	"strings"
	"testing"

	"sternledger/internal/core/check"
	"sternledger/internal/core/coretest"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

const either = `- any-of:
    - [{setting: min-length, at-least: 12 characters}]
    - [{setting: min-length, at-least: 8 characters}, {setting: dictionary-check, exactly: on}]
    - [{setting: min-length, at-least: 8 characters}, {setting: history, at-least: 24}]
  severity: serious
  why: w.
`

// A demand holds where one way does, is weak only where none can, and else missing.
func TestVerdictsByWays(t *testing.T) {
	for settings, want := range map[string]check.Kind{
		"min-length 12": check.Holds, "min-length 8; dictionary-check on": check.Holds,
		"min-length 8; dictionary-check on; history ?":     check.Holds,
		"min-length 8; dictionary-check audit; history 23": check.Weak, "min-length 7": check.Weak,
		"min-length 7; dictionary-check ?; history ?": check.Weak,
		"min-length 8; dictionary-check off":          check.Missing, "min-length 8; dictionary-check ?; history 4": check.Missing,
		"":                                  check.Missing,
		"min-length ?; dictionary-check on": check.Missing, "dictionary-check off; history 4": check.Missing,
		// The history is there on paper only: it can be run through at once.
		"min-length 8; dictionary-check off; history 24; min-age at-once": check.Conflicting,
		"min-length 8; dictionary-check on; history 24; min-age at-once":  check.Holds,
		"min-length 8; dictionary-check ?; history 24; min-age at-once":   check.Missing,
	} {
		t.Run(settings, func(t *testing.T) {
			r := weighed(t, coretest.ScopeWith(t, setting.UnixMachine, estate.Enforced, settings), either)
			if len(r.Verdicts) != 1 || r.Verdicts[0].Kind != want {
				t.Fatalf("%+v, want %s", r.Verdicts, want)
			}
		})
	}
}

func TestWaysAreTold(t *testing.T) {
	for _, c := range []struct{ settings, observed, reason, remedy string }{
		{"min-length 8; dictionary-check off; history 4", "8 characters, dictionary check off, password history 4 passwords",
			"no way is met: at least 12 characters (4 characters short); at least 8 characters with dictionary check on (dictionary check: off); " +
				"at least 8 characters with password history at least 24 passwords (password history: 20 passwords short). w.",
			"Set the minimum length to 12 characters or more: minlen of local, x. Another of the ways demanded will do as well."},
		{"min-length 6; dictionary-check on; history 4", "6 characters, dictionary check on, password history 4 passwords",
			"no way is met: at least 12 characters (6 characters short); at least 8 characters with dictionary check on (2 characters short); at " +
				"least",
			"Set the minimum length to 8 characters or more: minlen of local, x. Another"},
		{"min-length 8; dictionary-check off", "8 characters, dictionary check off",
			"whether one way is met is not known: at least 12 characters (4 characters short); at least 8 characters with dictionary check on " +
				"(dictionary check: off); at least 8 characters with password history at least 24 passwords (password history: not collected: the " +
				"evidence does not hold it)",
			"Collect what tells the password history, or: Set the minimum length to 12"},
		{"min-length 8; history 4", "8 characters, password history 4 passwords",
			"whether one way is met is not known: at least 12 characters (4 characters short); at least 8 characters with dictionary check on " +
				"(dictionary check: not collected: the evidence does not hold it); at least 8 characters with password history at least 24 passwords " +
				"(password history: 20 passwords short)", "Collect what tells the dictionary check, or: Set the minimum length to 12"},
		{"min-length ?; dictionary-check ?; history 4", "-, password history 4 passwords", "whether one way is met is not known: at least 12",
			"Collect what tells the dictionary check, or: Correct the value where it is set, export again, and gather. Another"},
		{"min-length 7; dictionary-check ?; history ?", "7 characters", "no way is met: at least 12 characters (5 characters short)",
			"Set the minimum length to 12 characters or more: minlen of local, x. Another"},
	} {
		scope := coretest.ScopeWith(t, setting.UnixMachine, estate.Enforced, c.settings)
		for id, e := range scope.Settings {
			e.Cite.Where = map[setting.ID]string{"min-length": "minlen", "dictionary-check": "dictcheck"}[id]
			scope.Settings[id] = e
		}
		r := weighed(t, scope, either)
		if len(r.Findings) == 0 {
			t.Fatal(c.settings)
		}
		f := r.Findings[0]
		if f.Observed != c.observed || !strings.HasPrefix(f.Reason, c.reason) || !strings.HasPrefix(f.Remedy, c.remedy) {
			t.Errorf("%s:\n%s\n%s\n%s", c.settings, f.Observed, f.Reason, f.Remedy)
		}
		if fmt.Sprint(f.Settings) != "[min-length]" || !strings.HasPrefix(f.Demanded, "at least 12 characters or at least 8 characters with") {
			t.Errorf("%v %s", f.Settings, f.Demanded)
		}
	}
}

// Ways that a platform cannot go are closed, not unknown.
func TestClosedWays(t *testing.T) {
	for settings, want := range map[string]check.Kind{"min-length 8": check.Weak, "min-length 12": check.Holds,
		"min-length ?": check.Missing} {
		r := weighed(t, coretest.ScopeWith(t, setting.WindowsMachine, estate.Enforced, settings),
			strings.Replace(either, "history, at-least: 24", "max-repeat, at-most: 3, specials: {unlimited: fails}", 1))
		if len(r.Verdicts) != 1 || r.Verdicts[0].Kind != want {
			t.Errorf("%s: %+v, want %s", settings, r.Verdicts, want)
		}
	}
	nowhere := "- {any-of: [[{setting: max-repeat, at-most: 3, specials: {unlimited: fails}}], [{setting: dictionary-check, exactly: on}]], " +
		"severity: minor, why: w.%s}\n"
	idle := weighed(t, coretest.ScopeWith(t, setting.WindowsMachine, estate.Enforced, "min-length 8"), fmt.Sprintf(nowhere, ""))
	if len(idle.Idle) != 1 || len(idle.Verdicts) != 0 {
		t.Errorf("%+v", idle)
	}
	named := weighed(t, coretest.ScopeWith(t, setting.WindowsMachine, estate.Enforced, "min-length 8"),
		fmt.Sprintf(nowhere, ", platforms: [windows-machine, unix-machine]"))
	if len(named.Verdicts) != 1 || named.Verdicts[0].Kind != check.Missing {
		t.Errorf("%+v", named)
	}
}
