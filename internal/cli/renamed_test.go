package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A policy or machine that got another name is the same: what was accepted stays accepted,
// what was proposed is looked for under the new name, and the comparison says it.
func TestRenamed(t *testing.T) {
	beside(t)
	dir, in := begin(t), t.TempDir()
	config, err := os.ReadFile(filepath.Join(dir, "engagement.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(dir, "engagement.yaml"), strings.Replace(string(config), "baselines: [cis-windows-server]",
		"baselines: [cis-windows-server, cis-debian-12]", 1))
	domain := func(policy, length string) string {
		return smallHead + "\ndn: CN=Password Settings Container,CN=System,DC=x,DC=example\nobjectClass: msDS-PasswordSettingsContainer\n\n" +
			"dn: CN=" + policy + ",CN=Password Settings Container,CN=System,DC=x,DC=example\nobjectClass: msDS-PasswordSettings\nname: " + policy +
			"\nobjectGUID: bb5ced36-1260-49e4-b4d3-f3388a6e7ba4\nmsDS-PasswordSettingsPrecedence: 1\nmsDS-MinimumPasswordLength: " + length +
			"\nmsDS-LockoutThreshold: 0\nmsDS-PSOAppliesTo: CN=a,DC=x,DC=example\n\n" +
			"dn: CN=a,DC=x,DC=example\nobjectClass: user\nsAMAccountName: a\nobjectSid: S-1-5-21-1-2-3-1100\nuserAccountControl: 512\n" +
			"primaryGroupID: 513\n"
	}
	machine := func(name, id string) string {
		root := filepath.Join(in, name, name)
		write(t, root+"/etc/passwd", "root:x:0:0::/root:/bin/sh\nann:x:1000:1000::/home/ann:/bin/sh\n")
		write(t, root+"/etc/login.defs", "PASS_MAX_DAYS 99999\n")
		write(t, root+"/etc/machine-id", id+"\n")
		return root
	}
	const id, other = "0123456789abcdef0123456789abcdef", "aaaa456789abcdef0123456789abcdef"
	must(t, dir, "gather", write(t, filepath.Join(in, "1/x.ldif"), domain("Crew", "8")), machine("gate1", id), machine("gate2", other))
	must(t, dir, "weigh")
	must(t, dir, "amend", "--to", filepath.Join(t.TempDir(), "files"))
	must(t, dir, "waive", "--setting", "min-length", "--scope", "x.example / Crew", "--until", inAYear(), "--reason", "Old horns")
	must(t, dir, "waive", "--setting", "max-age", "--scope", "gate1*", "--until", inAYear(), "--reason", "No console")
	must(t, dir, "weigh")

	must(t, dir, "gather", write(t, filepath.Join(in, "2/x.ldif"), strings.ReplaceAll(domain("Deck hands", "8"),
		"msDS-LockoutThreshold: 0", "msDS-LockoutThreshold: 5")))
	if out := must(t, dir, "gather", machine("gate9", id)); !strings.Contains(strings.Join(strings.Fields(out), " "),
		`gate9 (machine) is gate1 (machine) by its SID or machine-id. If it was renamed: sternledger set-aside --place "gate1 (machine)"`) {
		t.Errorf("%s", out)
	}
	must(t, dir, "set-aside", "--place", "gate1 (machine)", "--reason", "Renamed to gate9")
	must(t, dir, "weigh")
	states := map[string]int{}
	for _, w := range document(t, dir, "waive", "--list")["waivers"].([]any) {
		states[at(w, "state").(string)]++
	}
	if states["in force"] != len(document(t, dir, "waive", "--list")["waivers"].([]any)) || len(states) != 1 {
		t.Errorf("waivers: %v\n%s", states, must(t, dir, "waive", "--list"))
	}
	drift := document(t, dir, "drift")
	var said []string
	for _, r := range drift["renamed"].([]any) {
		said = append(said, at(r, "what").(string)+": "+at(r, "before").(string)+" → "+at(r, "after").(string))
	}
	if got := strings.Join(said, "; "); got != "machine: gate1 → gate9; policy of x.example: Crew → Deck hands" {
		t.Errorf("renamed: %s", got)
	}
	for _, f := range drift["findings"].([]any) {
		if way := at(f, "way"); way == "not weighed now" || way == "not weighed before" || way == "new" {
			t.Errorf("%v: %v %v", way, at(f, "what"), at(f, "headline"))
		}
	}
	took, unseen := 0, 0
	for _, a := range document(t, dir, "amend", "--status")["amendments"].([]any) {
		for _, p := range at(a, "places").([]any) {
			switch {
			case at(p, "state") == "unseen":
				unseen++
				t.Errorf("%v at %v is unseen", at(a, "title"), p)
			case at(p, "state") == "took" && strings.Contains(at(a, "title").(string), "Lockout threshold"):
				took++
			}
		}
	}
	if took != 1 {
		t.Errorf("%d took\n%s", took, must(t, dir, "amend", "--status"))
	}
	sound(t, dir)
}

// Another machine under a known name takes nothing over from the one before.
func TestReplacedMachine(t *testing.T) {
	beside(t)
	dir, in := begin(t), t.TempDir()
	root := filepath.Join(in, "1", "gate1")
	write(t, root+"/etc/machine-id", "0123456789abcdef0123456789abcdef\n")
	write(t, root+"/etc/passwd", "root:x:0:0::/root:/bin/sh\nann:x:1000:1000::/home/ann:/bin/sh\n")
	write(t, root+"/etc/login.defs", "PASS_MAX_DAYS 99\n")
	must(t, dir, "gather", root)
	next := filepath.Join(in, "2", "gate1")
	write(t, next+"/etc/login.defs", "PASS_MAX_DAYS 30\n")
	write(t, next+"/etc/machine-id", "ffff456789abcdef0123456789abcdef\n")
	if out := must(t, dir, "gather", next); !strings.Contains(out, "another machine than the one on record") {
		t.Errorf("%s", out)
	}
	if out := must(t, dir, "accounts"); strings.Contains(out, "ann") {
		t.Errorf("accounts of the machine before:\n%s", out)
	}
	if text, _ := os.ReadFile(filepath.Join(dir, "ledger.db")); strings.Contains(string(text), "456789abcdef") {
		t.Error("a machine-id is kept")
	}
	same := filepath.Join(in, "3", "gate1")
	write(t, same+"/etc/login.defs", "PASS_MAX_DAYS 60\n")
	must(t, dir, "gather", same, "--less-is-right", "x")
	sound(t, dir)
}
