package cli_test

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
)

// Sections of the baselines are told by what the verdicts of the record come to; a waiver makes one
// accepted, and a baseline that was not weighed against is refused by name.
func TestRequirements(t *testing.T) {
	beside(t)
	dir := begin(t)
	must(t, dir, "gather", write(t, filepath.Join(t.TempDir(), "x.ldif"), smallHead+smallUser))
	if _, said, code := run(t, dir, "requirements"); code == 0 || !strings.Contains(said, "weigh") {
		t.Errorf("without a record: %d %s", code, said)
	}
	must(t, dir, "weigh")
	of := func(section string) string {
		d := document(t, dir, "requirements")
		for _, r := range at(d, "baselines", 0, "requirements").([]any) {
			if at(r, "section") == section {
				return fmt.Sprint(at(r, "state"), " ", at(r, "met"), at(r, "failed"), at(r, "unknown"), at(r, "accepted"), at(r, "matters"))
			}
		}
		return "none"
	}
	before := of("1.1.4")
	if !strings.HasPrefix(before, "not met 0 1 0 0 [M") {
		t.Errorf("minimum length: %s", before)
	}
	must(t, dir, "waive", "--matter", strings.Trim(before[strings.Index(before, "[M"):], "[]"), "--until", "2027-03-01", "--reason", "Until the new directory")
	must(t, dir, "weigh")
	if got := of("1.1.4"); got != "accepted 0 0 0 1 []" {
		t.Errorf("minimum length, accepted: %s", got)
	}
	if out := must(t, dir, "requirements", "--weighing", "1", "cis-windows-server"); !strings.Contains(out, "of weighing 1") {
		t.Errorf("of the first: %s", out)
	}
	if _, said, code := run(t, dir, "requirements", "cis-windows-sever"); code != 2 || !strings.Contains(said, `the nearest is "cis-windows-server"`) {
		t.Errorf("a name that is none: %d %s", code, said)
	}
	rows := strings.Split(strings.TrimSpace(must(t, dir, "requirements", "--format", "csv")), "\n")
	if len(rows) < 12 || !strings.HasPrefix(rows[1], "cis-windows-server,2026.1,1.1.1,history,all,") {
		t.Errorf("rows: %v", rows[:2])
	}
	page := filepath.Join(t.TempDir(), "r.html")
	must(t, dir, "report", "--to", page)
	if text := readFile(t, page); !strings.Contains(text, "CIS, Windows server, section by section") {
		t.Error("the report has no requirements")
	}
}
