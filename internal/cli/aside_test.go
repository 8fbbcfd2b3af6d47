package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// Evidence that was gathered by mistake is taken out of use, recorded and
// reversible: what was known before counts again, in every command.
func TestSetAside(t *testing.T) {
	beside(t)
	dir, src := begin(t), t.TempDir()
	right := write(t, filepath.Join(src, "right.ldif"), smallHead+smallUser)
	wrong := write(t, filepath.Join(src, "wrong.ldif"), strings.Replace(smallHead, "minPwdLength: 10", "minPwdLength: 20", 1)+smallUser)
	length := func() any {
		for _, s := range document(t, dir, "scopes")["scopes"].([]any) {
			if at(s, "authority") == "x.example" {
				return at(s, "settings", "min-length", "value")
			}
		}
		return nil
	}
	must(t, dir, "gather", right, "--quiet")
	must(t, dir, "weigh")
	must(t, dir, "gather", wrong, "--quiet")
	other := write(t, filepath.Join(src, "other.ldif"), strings.ReplaceAll(smallHead+smallUser, "DC=x,", "DC=y,"))
	must(t, dir, "gather", other, "--quiet")
	must(t, dir, "weigh")
	if got := length(); got != 20.0 {
		t.Fatalf("%v", got)
	}
	for _, bad := range [][]string{{"wrong.ldif"}, {"wrong.ldif", "--reason", " "}, {"absent.ldif", "--reason", "x"},
		{"wrong.ldif", "--take-back", "--reason", "x"}, {"--reason", "x"}} {
		if _, _, status := run(t, dir, append([]string{"set-aside"}, bad...)...); status == 0 {
			t.Errorf("%v was accepted", bad)
		}
	}
	out := must(t, dir, "set-aside", "wrong.ldif", "--reason", "The test system")
	if !strings.Contains(out, "as of entry 2") || length() != 10.0 {
		t.Errorf("%v after\n%s", length(), out)
	}
	if out := must(t, dir, "weigh"); !strings.Contains(out, "Recorded: evidence changed") {
		t.Errorf("%s", out)
	}
	must(t, dir, "verify")
	if out := must(t, dir, "set-aside", "--list"); strings.TrimSpace(out) != "wrong.ldif" {
		t.Errorf("%q", out)
	}
	// A place of which nothing else is known is gone; the other stays.
	must(t, dir, "set-aside", "evidence/other.ldif", "--reason", "x")
	if out := must(t, dir, "scopes"); strings.Contains(out, "y.example") || !strings.Contains(out, "x.example") {
		t.Errorf("%s", out)
	}
	must(t, dir, "set-aside", "other.ldif", "wrong.ldif", "--take-back", "--reason", "They were right")
	if out := must(t, dir, "scopes"); length() != 20.0 || !strings.Contains(out, "y.example") {
		t.Errorf("%v\n%s", length(), out)
	}
	// What is set aside is not known: gathered again, it counts again.
	must(t, dir, "set-aside", "wrong.ldif", "--reason", "x")
	must(t, dir, "gather", wrong, "--quiet")
	if got := length(); got != 20.0 {
		t.Errorf("gathered again: %v", got)
	}
	must(t, dir, "weigh")
	must(t, dir, "verify")
	if out := must(t, dir, "entries", "--kind", "set-aside"); strings.Count(out, "out of use") != 3 ||
		strings.Count(out, "into use again") != 1 {
		t.Errorf("%s", out)
	}
}

// Another client's export goes with all that was made of it, and what was there before counts
// again; the rest is proven as before, and no number or name is given twice.
func TestDestroyAnotherClientsExport(t *testing.T) {
	beside(t)
	dir, in := begin(t), t.TempDir()
	own := write(t, filepath.Join(in, "quay.ldif"), smallHead)
	must(t, dir, "gather", own)
	must(t, dir, "weigh")
	wharf := strings.ReplaceAll(strings.ReplaceAll(smallHead, "DC=x,DC=example", "DC=wharf,DC=example"), "S-1-5-21-1-2-3", "S-1-5-21-7-8-9") +
		"\ndn: CN=Hedda Groyne,DC=wharf,DC=example\nobjectClass: user\nsAMAccountName: h.groyne\nobjectSid: S-1-5-21-7-8-9-1200\n" +
		"userAccountControl: 512\nlockoutThreshold: once\n"
	other := write(t, filepath.Join(in, "other.ldif"), wharf)
	must(t, dir, "gather", other)
	must(t, dir, "weigh")
	stored := filepath.Join(dir, "evidence", "other.ldif")
	copied, err := os.ReadFile(stored)
	if err != nil {
		t.Fatal(err)
	}
	if _, errs, status := run(t, dir, "set-aside", "other.ldif", "--destroy"); status == 0 || !strings.Contains(errs, "--reason") {
		t.Errorf("without a reason: %s", errs)
	}
	out := must(t, dir, "set-aside", "other.ldif", "--destroy", "--reason", "Another client's")
	for _, want := range []string{"1 file removed for good", "domain wharf.example, as of entry", "rested on it: weighing 2"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is not in\n%s", want, out)
		}
	}
	left := func() {
		t.Helper()
		text, err := os.ReadFile(filepath.Join(dir, "ledger.db"))
		if err != nil || strings.Contains(string(text), "groyne") || strings.Contains(string(text), "S-1-5-21-7-8-9") {
			t.Errorf("something is left of it (%v)", err)
		}
		if _, err := os.Stat(stored); err == nil {
			t.Error("the copy is left")
		}
		must(t, dir, "verify")
	}
	left()
	write(t, stored, string(copied)) // it was stopped in between: the next command goes on
	must(t, dir, "scopes")
	left()
	if out := must(t, dir, "scopes"); strings.Contains(out, "wharf") || !strings.Contains(out, "x.example") {
		t.Errorf("%s", out)
	}
	if _, errs, status := run(t, dir, "drift", "1", "2"); status == 0 || !strings.Contains(errs, "weighing 2 was removed with evidence") {
		t.Errorf("%d %s", status, errs)
	}
	must(t, dir, "gather", write(t, filepath.Join(in, "again/other.ldif"), smallHead+"maxPwdAge: -864000000000\n"))
	if out := must(t, dir, "weigh"); !strings.Contains(out, "weighing 3") {
		t.Errorf("%s", out)
	}
	if _, err := os.Stat(filepath.Join(dir, "evidence", "other-2.ldif")); err != nil {
		t.Error("a name was given twice")
	}
	sound(t, dir)
	bag := filepath.Join(t.TempDir(), "x.zip")
	must(t, dir, "pack", bag)
	to := filepath.Join(t.TempDir(), "theirs")
	must(t, t.TempDir(), "begin", to, "--from", bag)
	must(t, to, "verify")
}

// A place that went out of service is not weighed, and everything says why; newer evidence
// brings it back.
func TestPlaceOutOfService(t *testing.T) {
	beside(t)
	root := harbour(t)
	dir := filepath.Join(root, "audit")
	must(t, dir, "weigh")
	must(t, dir, "set-aside", "--place", "gate3", "--reason", "Scrapped on 3 May")
	const why = "gate3 (entry 6: Scrapped on 3 May)"
	if out := must(t, dir, "weigh"); !strings.Contains(out, "Out of service, and not weighed: "+why) {
		t.Errorf("%s", out)
	}
	if out := must(t, dir, "drift", "--verbose"); !strings.Contains(out, "gate3 is out of service (entry 6: Scrapped on 3 May)") ||
		strings.Contains(out, "gate3 is in one of the weighings only") {
		t.Errorf("%s", out)
	}
	if out := must(t, dir, "set-aside", "--list"); !strings.Contains(out, "gate3 (machine) (out of service") {
		t.Errorf("%s", out)
	}
	if out := must(t, dir, "entries", "--kind", "set-aside"); !strings.Contains(out, "1 place taken out of service") {
		t.Errorf("%s", out)
	}
	to := filepath.Join(t.TempDir(), "r.html")
	must(t, dir, "report", "--to", to)
	if text, _ := os.ReadFile(to); !strings.Contains(string(text), "not weighed: gate3") {
		t.Error("the report does not say it")
	}
	for _, word := range []string{"gate3", "gate33", "wharf.example"} {
		if _, errs, status := run(t, dir, "set-aside", "--place", word, "--reason", "x"); status == 0 || !strings.Contains(errs, "no such place") {
			t.Errorf("%s: %s", word, errs)
		}
	}
	must(t, dir, "gather", filepath.Join(root, "exports/gates/gate3"))
	if out := must(t, dir, "weigh"); strings.Contains(out, "Out of service") {
		t.Errorf("newer evidence does not bring it back:\n%s", out)
	}
	sound(t, dir)
}

// Entries of every kind are as their schema has them.
func TestEntriesOfEveryKind(t *testing.T) {
	beside(t)
	dir, src := begin(t), t.TempDir()
	must(t, dir, "gather", write(t, filepath.Join(src, "one.ldif"), smallHead+smallUser), "--quiet")
	must(t, dir, "gather", write(t, filepath.Join(src, "two.ldif"), strings.ReplaceAll(smallHead+smallUser, "DC=x,", "DC=y,")), "--quiet")
	must(t, dir, "gather", write(t, filepath.Join(src, "three.ldif"), strings.ReplaceAll(smallHead+smallUser, "DC=x,", "DC=z,")), "--quiet")
	must(t, dir, "weigh")
	print := at(document(t, dir, "weigh"), "findings", 0, "fingerprint").(string)
	must(t, dir, "waive", print, "--until", time.Now().AddDate(0, 6, 0).Format(time.DateOnly), "--reason", "Replaced in spring")
	must(t, dir, "waive", "--withdraw", print, "--reason", "Not replaced")
	must(t, dir, "weigh")
	must(t, dir, "amend", "--to", filepath.Join(src, "change"))
	must(t, dir, "set-aside", "two.ldif", "--reason", "The test system")
	must(t, dir, "set-aside", "three.ldif", "--destroy", "--reason", "Another client's")
	must(t, dir, "weigh")
	must(t, dir, "retire", "--destroy", "--reason", "The contract ended")
	seen := map[string]bool{}
	for _, e := range document(t, dir, "entries")["entries"].([]any) {
		seen[at(e, "kind").(string)] = true
	}
	for _, kind := range []string{"begin", "gather", "weigh", "waive", "withdraw", "amend", "set-aside", "discard", "retire"} {
		if !seen[kind] {
			t.Errorf("no entry of the kind %s: %v", kind, seen)
		}
	}
}
