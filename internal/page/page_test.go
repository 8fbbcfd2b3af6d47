package page

import (
	"bytes"
	"cmp"
	"strings"
	"testing"

	"sternledger/internal/assess"
	"sternledger/internal/collect"
	"sternledger/internal/core/forecast"
	"sternledger/internal/custody"
	"sternledger/internal/demotest"

	"github.com/charmbracelet/x/ansi"
)

// pages draws every page of the sample at a width.
func pages(t *testing.T, e *custody.Engagement, g *collect.Gathered, width int) map[string]string {
	t.Helper()
	survey, err := e.Survey()
	if err != nil {
		t.Fatal(err)
	}
	weighing, err := assess.Weigh(e, custody.WeighOptions{})
	if err != nil {
		t.Fatal(err)
	}
	trace, err := assess.Trace(e, "w.lowe", "")
	if err != nil {
		t.Fatal(err)
	}
	policy, err := assess.TracePolicy(e, "Dredging")
	if err != nil {
		t.Fatal(err)
	}
	drawn := map[string]string{}
	for name, draw := range map[string]func(*Sheet) error{
		"gathered": func(s *Sheet) error { return Gathered(s, g, true) },
		"scopes":   func(s *Sheet) error { return Scopes(s, survey, nil, false) },
		"weighing": func(s *Sheet) error { return Weighing(s, e.Config.Title, weighing, WeighView{}) },
		"matters":  func(s *Sheet) error { return Weighing(s, e.Config.Title, weighing, WeighView{Show: ShowMatters}) },
		"places":   func(s *Sheet) error { return Weighing(s, e.Config.Title, weighing, WeighView{Show: ShowPlaces}) },
		"findings": func(s *Sheet) error { return Weighing(s, e.Config.Title, weighing, WeighView{Show: ShowFindings}) },
		"matter": func(s *Sheet) error {
			Matter(s, weighing.Matters()[2])
			return s.Err()
		},
		"by setting": func(s *Sheet) error {
			return Weighing(s, e.Config.Title, weighing, WeighView{Show: ShowBySetting, Verbose: true})
		},
		"matrix": func(s *Sheet) error { return Weighing(s, e.Config.Title, weighing, WeighView{Show: ShowMatrix}) },
		"forecast": func(s *Sheet) error {
			f, err := assess.Forecast(e, assess.ForecastOptions{If: []string{"min-age=1d", "lockout-threshold=3"}, Assumptions: forecast.Usual})
			if err != nil {
				return err
			}
			return Forecast(s, f, true)
		},
		"rehearsed": func(s *Sheet) error {
			r, err := assess.Rehearse(e, assess.RehearseOptions{Account: "n.farrow", Tries: 5, Every: "20m", For: "2h"})
			if err != nil {
				return err
			}
			return Rehearsal(s, r, false)
		},
		"probed": func(s *Sheet) error {
			p, err := assess.Probe(e, assess.ProbeOptions{Account: "n.farrow", Passwords: []string{"winter", "", "Cafe\u0301-Lantern-Stern-22"}})
			if err != nil {
				return err
			}
			return Probe(s, p, false)
		},
		"patterns": func(s *Sheet) error {
			p, err := assess.Probe(e, assess.ProbeOptions{Patterns: true})
			if err != nil {
				return err
			}
			return Probe(s, p, false)
		},
		"patterns of one": func(s *Sheet) error {
			p, err := assess.Probe(e, assess.ProbeOptions{Patterns: true, Scope: "marrowick.example / Pilots"})
			if err != nil {
				return err
			}
			return Probe(s, p, true)
		},
		"baselines": func(s *Sheet) error {
			list, err := e.Baselines().List()
			if err != nil {
				return err
			}
			return Baselines(s, list)
		},
		"baseline": func(s *Sheet) error {
			b, err := e.Baselines().Get("nist-800-63b")
			if err != nil {
				return err
			}
			return Baseline(s, b, "shipped")
		},
		"reconciled": func(s *Sheet) error {
			d, err := e.Baselines().Reconcile([]string{"nist-800-63b", "pci-dss-4", "stig-windows-server-2022"})
			if err != nil {
				return err
			}
			return Reconciled(s, d)
		},
		"trace":        func(s *Sheet) error { return Trace(s, trace, false) },
		"trace policy": func(s *Sheet) error { return TracePolicy(s, policy) },
		"settings":     Settings,
		"checks":       Checks,
	} {
		var out bytes.Buffer
		if err := draw(NewSheet(&out, width)); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		drawn[name] = ansi.Strip(out.String())
	}
	return drawn
}

// overflows reports whether a line is wider than its sheet. A single word may be: a
// name stays whole, however narrow the sheet.
func overflows(line string, width int) bool {
	_, body, _ := strings.Cut(line, "│")
	words := strings.Fields(cmp.Or(body, line))
	return ansi.StringWidth(line) > width && (len(words) > 1 || strings.Contains(line, "─"))
}

// Every page fits its sheet, at all widths, and names such as min-length are
// never parted.
func TestPagesFit(t *testing.T) {
	e, g := demotest.Gathered(t)
	for _, width := range []int{20, 40, 60, 80, 100, 120} {
		for name, text := range pages(t, e, g, width) {
			for i, line := range strings.Split(text, "\n") {
				if w := ansi.StringWidth(line); overflows(line, width) {
					t.Errorf("%s at %d: line %d is %d wide: %q", name, width, i+1, w, line)
				}
				if strings.HasSuffix(line, "-") && !strings.HasSuffix(line, " -") && strings.ContainsAny(line, "abcdefghijklmnopqrstuvwxyz") {
					t.Errorf("%s at %d: a name is parted: %q", name, width, line)
				}
				if strings.Contains(line, unbroken) {
					t.Errorf("%s at %d: another hyphen was left in %q", name, width, line)
				}
			}
		}
	}
}

// What a page must say, whatever it looks like.
func TestPagesSay(t *testing.T) {
	e, g := demotest.Gathered(t)
	drawn := pages(t, e, g, 120)
	for name, words := range map[string][]string{
		"gathered": {"marrowick.ldif", "template Default Domain Policy (template-31B2F340.inf): 15 settings configured",
			"machine weigh1: 12 settings enforced, 1 policy, accounts not listed"},
		"scopes": {"domain, samba dialect; 25 accounts", "4, weaker", "never, dormant", "365 days, differs", "not listed",
			"Not in the evidence: min-length-audit"},
		"weighing": {"findings in", "grave│", "M1  ", "more: sternledger weigh --all", "weigh --places"},
		"matters":  {"M1  ", "Privileged accounts are governed by the default", "Two policies share a precedence"},
		"matter":   {"where│", "fix│", "evidence: ", "To accept it: sternledger waive --matter M3"},
		"places":   {"gate1", "tally1, tally2"},
		"findings": {"grave│ Minimum length: 4 characters; required: at least 14 characters (cis-windows-server 1.1.4)",
			"serious│ Minimum length, Relaxed length limit", "minor│ history-run-through", "serious│ policy-hidden", "conflicting│", "holds│",
			"remedy: Set the minimum length to 14 characters or more: Account Policies"},
		"trace": {"governed by│ Executives, through the group Executives", "governs│ Executives, precedence 1",
			"names Control Room, which holds Watch Officers, which holds w.lowe"},
		"trace policy": {"idle target│ OU=Dredging", "does nothing: an organisational unit"},
		"forecast": {"3,720 (372) →", "a user can be back on the old password after 24 days", "nothing locks",
			"Assumed: 10 guesses a second"},
		"rehearsed": {"Rehearsed: n.farrow", "locked for the first time after 0 seconds", "× wrong password", "LOCKED"},
		"probed": {"password 2: empty", "refused│ marrowick.example / Control Room",
			"min-length: 6 characters, 15 are asked for (marrowick.ldif:", "1 combining character"},
		"patterns":        {"marrowick.example / Executives", "No words of the organisation were given", "question mark"},
		"patterns of one": {"refused by min-length", "not refused: WelcomeWelcome1", "weak patterns"},
		"reconciled":      {"exclude│ max-age: no value satisfies all", "agree│ min-length: at least 15 characters"},
		"matrix":          {"Control Room", "conflicting"},
		"settings":        {"lockout-threshold", "takes a number of failed attempts, or never"},
	} {
		for _, word := range words {
			if !strings.Contains(drawn[name], word) {
				t.Errorf("%s does not say %q", name, word)
			}
		}
	}
}

func TestRowsAreSafe(t *testing.T) {
	r := &Rows{Head: []string{"a", "b"}, Rows: [][]string{
		{"=1+1", "-36288000000000"}, {"@SUM(A1)", "-"}, {"+cmd|' /C calc'!A0", "-rf"}, {"\tx", "a|b\n<img src=x> `y`"},
	}}
	var csv, markdown bytes.Buffer
	if err := r.CSV(&csv); err != nil {
		t.Fatal(err)
	}
	for _, line := range []string{"'=1+1,-36288000000000", "'@SUM(A1),-\n", "'+cmd|' /C calc'!A0,'-rf", "'\tx"} {
		if !strings.Contains(csv.String(), line) {
			t.Errorf("%q is not in %q", line, csv.String())
		}
	}
	if err := r.Markdown(&markdown); err != nil {
		t.Fatal(err)
	}
	last := strings.Split(strings.TrimSpace(markdown.String()), "\n")
	if got := last[len(last)-1]; got != "|  x | a\\|b &lt;img src=x> \\`y\\` |" || len(last) != 6 {
		t.Errorf("%q", got)
	}
}

func TestClean(t *testing.T) {
	for text, want := range map[string]string{
		"plain": "plain", "Ämilie": "Ämilie", "a\x1b[31mb": "a\ufffd[31mb", "a\nb\tc": "a b c", "x\u202ey\u2066z": "x\ufffdy\ufffdz",
		"\x00\x07\u009b": "\ufffd\ufffd\ufffd",
	} {
		if got := Clean(text); got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
	for n, want := range map[int]string{0: "0", 999: "999", 1000: "1,000", 1234567: "1,234,567"} {
		if got := Grouped(n); got != want {
			t.Errorf("%d: %s", n, got)
		}
	}
}
