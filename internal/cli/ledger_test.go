package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"sternledger/schemas"
)

// The ledger over time, as an auditor goes through it: waive, weigh, see what
// changed, verify, seal, hand over, report.
func TestLedgerOverTime(t *testing.T) {
	t.Parallel()
	dir := harbour(t)
	audit := filepath.Join(dir, "audit")
	waived := document(t, audit, "waive", "--setting", "max-age", "--scope", "marrowick.example / Ticket Kiosks", "--until",
		inAYear(), "--reason", "Kiosks are replaced")
	print := at(waived, "waivers", 0, "fingerprint").(string)
	weighing := document(t, audit, "weigh")
	counts := map[string]float64{}
	for _, s := range weighing["scopes"].([]any) {
		counts[at(s, "scope").(string)] = at(s, "counts", "waived").(float64)
	}
	if counts["marrowick.example / Ticket Kiosks"] != 1 || at(weighing, "waivers", 0, "state") != "in force" {
		t.Errorf("waived: %v %v", counts, weighing["waivers"])
	}
	for _, f := range weighing["findings"].([]any) {
		if at(f, "fingerprint") == print && (at(f, "verdict") != "waived" || at(f, "beneath") != "weak" ||
			at(f, "waiver") != at(waived, "entry")) {
			t.Errorf("%v", f)
		}
	}
	if list := document(t, audit, "waive", "--list"); at(list, "waivers", 0, "state") != "in force" {
		t.Errorf("%v", list)
	}
	drift := document(t, audit, "drift")
	if len(drift["findings"].([]any)) != 1 || at(drift, "findings", 0, "way") != "waived" || at(drift, "waivers", 0, "way") != "new" {
		t.Errorf("%v", drift)
	}
	seal := strings.TrimSpace(must(t, audit, "seal"))
	document(t, audit, "waive", "--withdraw", print, "--reason", "They are gone")
	if entries := document(t, audit, "entries", "--kind", "withdraw"); at(entries, "entries", 0, "by") != "R. Quill" ||
		at(entries, "entries", 0, "about") != "waivers of entry 6: They are gone" {
		t.Errorf("%v", entries)
	}
	verified := document(t, audit, "verify", "--seal", seal)
	if at(verified, "holds") != true || at(verified, "since") != 1.0 || at(verified, "weighings", 1, "outcome") != "same" {
		t.Errorf("%v", verified)
	}
	signedSeal(t, audit, strings.TrimSpace(must(t, audit, "seal")))
	packed := filepath.Join(dir, "harbour.zip")
	must(t, audit, "pack", packed)
	copied := filepath.Join(dir, "copy")
	must(t, dir, "begin", copied, "--from", packed)
	if x, y := must(t, audit, "entries", "--format", "csv"), must(t, copied, "entries", "--format", "csv"); x != y {
		t.Errorf("handed over:\n%s\n%s", x, y)
	}
	// The same weighing makes the same report, at both places.
	for _, at := range []string{audit, copied} {
		must(t, at, "report", "--to", "r.html,r.csv,r.md,r.json,r.sarif,r.oscal.json,r.xlsx")
	}
	for _, name := range []string{"r.html", "r.csv", "r.md", "r.json", "r.sarif", "r.oscal.json"} {
		x, _ := os.ReadFile(filepath.Join(audit, name))
		if y, _ := os.ReadFile(filepath.Join(copied, name)); len(x) < 1000 || string(x) != string(y) {
			t.Errorf("%s differs, or is short (%d bytes)", name, len(x))
		}
	}
	data, _ := os.ReadFile(filepath.Join(audit, "r.json"))
	checkReport(t, data)
	if _, errs, status := run(t, audit, "report", "--to", "r.html"); status != 1 || !strings.Contains(errs, "--replace") {
		t.Errorf("%d %s", status, errs)
	}
	write(t, filepath.Join(audit, "evidence", "marrowick.ldif"), "dn: swapped")
	out, errs, status := run(t, audit, "verify")
	if status != 1 || !strings.Contains(out, "entry 2") || !strings.Contains(errs, "evidence/marrowick.ldif: its SHA-256 is") {
		t.Errorf("a swapped file: %d %s %s", status, out, errs)
	}
	if _, errs, status := run(t, audit, "pack", filepath.Join(dir, "bad.zip")); status != 1 || !strings.Contains(errs, "verification failed") {
		t.Errorf("packed all the same: %d %s", status, errs)
	}
}

func checkReport(t *testing.T, data []byte) {
	t.Helper()
	raw, err := schemas.Files.ReadFile("report.json")
	if err != nil {
		t.Fatal(err)
	}
	var schema, doc any
	if err := json.Unmarshal(raw, &schema); err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal(data, &doc); err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("s.json", schema); err != nil {
		t.Fatal(err)
	}
	if err := c.MustCompile("s.json").Validate(doc); err != nil {
		t.Error(err)
	}
}

// signedSeal signs a seal with a key of OpenSSH's own making; OpenSSH checks
// our signature, and we check OpenSSH's.
func signedSeal(t *testing.T, audit, seal string) {
	t.Helper()
	if _, err := exec.LookPath("ssh-keygen"); err != nil {
		t.Log("skipped: no ssh-keygen; Debian's package openssh-client has it")
		return
	}
	dir := t.TempDir()
	keygen := func(in string, args ...string) {
		t.Helper()
		cmd := exec.Command("ssh-keygen", args...)
		cmd.Stdin = strings.NewReader(in)
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("ssh-keygen %v: %v %s", args, err, out)
		}
	}
	key, other, ours, theirs := filepath.Join(dir, "key"), filepath.Join(dir, "other"), filepath.Join(dir, "ours.sig"),
		filepath.Join(dir, "seal")
	keygen("", "-q", "-t", "ed25519", "-N", "", "-C", "quill", "-f", key)
	keygen("", "-q", "-t", "ed25519", "-N", "", "-f", other)
	keygen("", "-q", "-t", "rsa", "-N", "", "-f", filepath.Join(dir, "rsa"))
	must(t, audit, "seal", "--sign", key, "--to", ours)
	public, _ := os.ReadFile(key + ".pub")
	allowed := write(t, filepath.Join(dir, "allowed"), fmt.Sprintf("quill %s", public))
	keygen(seal+"\n", "-Y", "verify", "-n", "sternledger", "-f", allowed, "-I", "quill", "-s", ours)
	write(t, theirs, seal+"\n")
	keygen("", "-Y", "sign", "-n", "sternledger", "-f", key, theirs)
	for _, signature := range []string{ours, theirs + ".sig"} {
		if doc := document(t, audit, "verify", "--seal", seal, "--signature", signature, "--signer",
			key+".pub"); !strings.HasSuffix(at(doc, "signed_by").(string), " quill") {
			t.Errorf("%v", doc)
		}
	}
	for _, c := range []struct {
		args []string
		say  string
	}{
		{[]string{"verify", "--seal", seal, "--signature", ours, "--signer", other + ".pub"}, "another key"},
		{[]string{"verify", "--seal", "3" + seal[1:], "--signature", ours, "--signer", key + ".pub"}, "verification failed"},
		{[]string{"verify", "--seal", seal, "--signature", allowed, "--signer", key + ".pub"}, "expected a signature"},
		{[]string{"verify", "--seal", seal, "--signature", ours, "--signer", ours}, "expected a public key"},
		{[]string{"seal", "--sign", filepath.Join(dir, "rsa"), "--to", filepath.Join(dir, "x.sig")}, "expected Ed25519"},
		{[]string{"seal", "--sign", key, "--to", ours}, "file exists"},
	} {
		if _, errs, status := run(t, audit, c.args...); status != 1 || !strings.Contains(errs, c.say) {
			t.Errorf("%v: %d %s, want %s", c.args, status, errs, c.say)
		}
	}
}
