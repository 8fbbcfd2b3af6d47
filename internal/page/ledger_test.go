package page

import (
	"bytes"
	"strings"
	"testing"

	"sternledger/internal/assess"
	"sternledger/internal/custody"
	"sternledger/internal/demotest"

	"github.com/charmbracelet/x/ansi"
)

// The pages about the ledger fit their sheet, and say what they must.
func TestLedgerPages(t *testing.T) {
	e, _ := demotest.Gathered(t)
	if _, err := assess.Weigh(e, custody.WeighOptions{Against: []string{"cis-windows-server"}, Record: true}); err != nil {
		t.Fatal(err)
	}
	w, err := e.Waive(custody.WaiveOptions{Setting: "max-age", Scope: "*Kiosks*", Until: "2027-06-30",
		Reason: "Kiosks are replaced in spring, as the harbour master decided in his letter of October"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := assess.Weigh(e, custody.WeighOptions{Against: []string{"cis-windows-server", "pci-dss-4"}, Record: true}); err != nil {
		t.Fatal(err)
	}
	now, err := e.Recall(2)
	if err != nil {
		t.Fatal(err)
	}
	all, err := e.Waivers()
	if err != nil {
		t.Fatal(err)
	}
	entries, err := e.Entries(custody.EntryFilter{})
	if err != nil {
		t.Fatal(err)
	}
	v, err := e.Verify()
	if err != nil {
		t.Fatal(err)
	}
	bad := *v
	bad.Failures = []custody.Failure{{Entry: 2, Text: "evidence/marrowick.ldif: its SHA-256 is " + strings.Repeat("a", 64)}}
	d, err := assess.Drift(e, 1, 2)
	if err != nil {
		t.Fatal(err)
	}
	none, err := assess.Drift(e, 2, 2)
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		draw  func(*Sheet) error
		words []string
	}{
		"waived": {func(s *Sheet) error { return Waived(s, w) },
			[]string{"1 finding waived", "waived│ marrowick.example / Ticket Kiosks: Maximum age", "until 2027-06-30"}},
		"weighed": {func(s *Sheet) error { return Weighing(s, "T", now, WeighView{Show: ShowFindings}) },
			[]string{"minor│ Maximum age", "waived until 2027-06-30 by R. Quill, entry 4"}},
		"by setting": {func(s *Sheet) error { return Weighing(s, "T", now, WeighView{Show: ShowBySetting}) },
			[]string{"waived until 2027-06-30 by R. Quill, entry 4"}},
		"waivers":       {func(s *Sheet) error { return Waivers(s, all) }, []string{"in force│", "accepted as weak, never expires"}},
		"no waivers":    {func(s *Sheet) error { return Waivers(s, nil) }, []string{"Nothing was waived."}},
		"entries":       {func(s *Sheet) error { return Entries(s, entries, false) }, []string{"gather", "weighing 2", "Kiosks are replaced"}},
		"whole entries": {func(s *Sheet) error { return Entries(s, entries, true) }, []string{"before 0000000000", `"result_sha256": "`}},
		"verified": {func(s *Sheet) error { return Verified(s, v) },
			[]string{"Verified: nothing was altered", "2 weighings, each the record that was written", "seal│ 5-"}},
		"not verified": {func(s *Sheet) error { return Verified(s, &bad) }, []string{"Verification failed: something was altered",
			"altered│ entry 2"}},
		"drift": {func(s *Sheet) error { return Drift(s, d, &assess.AmendStatuses{}, true) },
			[]string{"What changed from weighing 1 to weighing 2",
				"1 waived", "new│ pci-dss-4", "no match│", "cannot be compared"}},
		"no drift": {func(s *Sheet) error { return Drift(s, none, &assess.AmendStatuses{}, false) }, []string{"Nothing changed"}},
	} {
		for _, width := range []int{60, 80, 120} {
			var out bytes.Buffer
			if err := c.draw(NewSheet(&out, width)); err != nil {
				t.Fatal(err)
			}
			text := ansi.Strip(out.String())
			for _, word := range c.words {
				if width == 120 && !strings.Contains(text, word) {
					t.Errorf("%s does not say %q:\n%s", name, word, text[:min(len(text), 900)])
				}
			}
			for i, line := range strings.Split(text, "\n") {
				if n := ansi.StringWidth(line); overflows(line, width) {
					t.Errorf("%s at %d: line %d is %d wide: %q", name, width, i+1, n, line)
				}
			}
		}
	}
}
