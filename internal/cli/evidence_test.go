package cli_test

import (
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

const machineExport = "[System Access]\nMinimumPasswordLength = %d\nMaximumPasswordAge = 90\nLockoutBadCount = " +
	"5\nResetLockoutCount = 15\nLockoutDuration = 15\n"

// value is a setting of a place, as scopes tells it.
func value(t *testing.T, dir, authority, id string) any {
	t.Helper()
	for _, s := range document(t, dir, "scopes")["scopes"].([]any) {
		if at(s, "authority") == authority {
			return at(s, "settings", id, "value")
		}
	}
	return nil
}

// Machines of one image export the same bytes: each is a machine of its own.
func TestTwins(t *testing.T) {
	beside(t)
	const machines = 60
	dir, src := begin(t), t.TempDir()
	var list strings.Builder
	list.WriteString("machine\n")
	for i := range machines {
		fmt.Fprintf(&list, "ws%03d\n", i)
		write(t, filepath.Join(src, fmt.Sprintf("ws%03d.inf", i)), fmt.Sprintf(machineExport, 8))
	}
	write(t, filepath.Join(dir, "machines.csv"), list.String())
	write(t, filepath.Join(dir, "engagement.yaml"), "baselines: [cis-windows-server]\nexpect: {machines-from: machines.csv}\n")
	// The default policies have the same GUID in every domain, and often the same bytes.
	for _, domain := range []string{"x.example", "y.example"} {
		write(t, filepath.Join(src, domain, "Policies/{31B2F340-016D-11D2-945F-00C04FB984F9}/Machine/Microsoft/Windows NT/SecEdit/GptTmpl.inf"),
			fmt.Sprintf(machineExport, 8))
	}
	doc := document(t, dir, "gather", src)
	if n := len(doc["authorities"].([]any)); n != machines || len(doc["templates"].([]any)) != 2 || len(doc["passed_over"].([]any)) != 0 {
		t.Errorf("%d machines, %v, passed over %v", n, doc["templates"], doc["passed_over"])
	}
	if f := checksIn(t, dir)["authority-missing"]; f != nil {
		t.Errorf("told as missing: %v", f)
	}
	domains := map[any]bool{}
	for _, e := range document(t, dir, "entries", "--kind", "gather")["entries"].([]any) {
		for _, s := range at(e, "body", "subjects").([]any) {
			domains[s] = strings.HasPrefix(s.(string), "template:")
		}
	}
	if n := len(slices.DeleteFunc(slices.Collect(func(yield func(any) bool) {
		for s, is := range domains {
			if is && !yield(s) {
				return
			}
		}
	}), func(any) bool { return false })); n != 2 {
		t.Errorf("templates on record: %v", domains)
	}
	// The same again says nothing new, each by its own name.
	again := document(t, dir, "gather", src)
	if n := len(again["passed_over"].([]any)); again["entry"] != 0.0 || n != machines+2 ||
		at(again, "passed_over", 0, "path") == at(again, "passed_over", 1, "path") {
		t.Errorf("again: entry %v, %d passed over", again["entry"], n)
	}
	if _, errs, status := run(t, dir, "gather", src, "--strict"); status != 4 || !strings.Contains(errs, "62 files passed over") {
		t.Errorf("--strict: %d %s", status, errs)
	}
	// Twice in one gather, under the names of two machines and of one.
	two := t.TempDir()
	write(t, filepath.Join(two, "a/till.inf"), fmt.Sprintf(machineExport, 8))
	write(t, filepath.Join(two, "b/till.inf"), fmt.Sprintf(machineExport, 8))
	if doc := document(t, dir, "gather", two); len(doc["authorities"].([]any)) != 1 || len(doc["passed_over"].([]any)) != 1 ||
		!strings.Contains(at(doc, "passed_over", 0, "why").(string), "taken by this gather") {
		t.Errorf("one machine twice: %v %v", doc["authorities"], doc["passed_over"])
	}
}

// Settings that went A, B and back to A are A again, in every form.
func TestRelapse(t *testing.T) {
	beside(t)
	ldif := func(n int) string {
		return strings.Replace(smallHead+smallUser, "minPwdLength: 10", fmt.Sprintf("minPwdLength: %d", n), 1)
	}
	inf := func(n int) string { return fmt.Sprintf(machineExport, n) }
	unix := func(n int) string { return fmt.Sprintf("minlen = %d\n", n) }
	for name, c := range map[string]struct {
		file, place, id string
		text            func(int) string
		beside          map[string]string
	}{
		"LDIF": {"x.ldif", "x.example", "min-length", ldif, nil},
		"INF":  {"till.inf", "till", "min-length", inf, nil},
		"Unix": {"gate/etc/security/pwquality.conf", "gate", "min-length", unix, map[string]string{
			"gate/etc/passwd": "ada:x:1000:1000::/:/bin/sh\n", "gate/etc/shadow": "ada:$y$x:20000:0:90:7:::\n",
			"gate/etc/login.defs": "PASS_MAX_DAYS 90\n", "gate/etc/debian_version": "12.5\n",
			"gate/etc/pam.d/common-password": "password requisite pam_pwquality.so\npassword sufficient pam_unix.so use_authtok\n",
			"gate/etc/pam.d/passwd":          "@include common-password\n"}},
	} {
		dir := begin(t)
		for i, n := range []int{9, 12, 9} {
			src := t.TempDir()
			for file, text := range c.beside {
				write(t, filepath.Join(src, file), text)
			}
			write(t, filepath.Join(src, c.file), c.text(n))
			must(t, dir, "gather", src)
			if got := value(t, dir, c.place, c.id); got != float64(n) {
				t.Errorf("%s, gather %d: %v, want %d", name, i+1, got, n)
			}
		}
		if n := len(document(t, dir, "entries", "--kind", "gather")["entries"].([]any)); n != 3 {
			t.Errorf("%s: %d gathers on record", name, n)
		}
		must(t, dir, "verify")
	}
}

// An unchanged export of today is fresh evidence; one of yesterday is not.
func TestUnchangedExportIsFresh(t *testing.T) {
	beside(t)
	dir, src := begin(t), t.TempDir()
	write(t, filepath.Join(dir, "engagement.yaml"), "baselines: [cis-windows-server]\nexpect: {newer-than: 30d}\n")
	file := write(t, filepath.Join(src, "till.inf"), fmt.Sprintf(machineExport, 14))
	on := func(days int) {
		when := time.Now().AddDate(0, 0, -days)
		if err := os.Chtimes(file, when, when); err != nil {
			t.Fatal(err)
		}
	}
	on(60)
	must(t, dir, "gather", file)
	if checksIn(t, dir)["evidence-old"] == nil {
		t.Error("evidence of 60 days ago passes for new")
	}
	on(70)
	if doc := document(t, dir, "gather", file); doc["entry"] != 0.0 {
		t.Errorf("an older copy of what is known was taken: %v", doc["files"])
	}
	on(1)
	if doc := document(t, dir, "gather", file); doc["entry"] == 0.0 || at(doc, "files", 0, "state") != "taken" {
		t.Errorf("an unchanged export of yesterday: %v", doc["files"])
	}
	if f := checksIn(t, dir)["evidence-old"]; f != nil {
		t.Errorf("fresh evidence does not count: %v", f["reason"])
	}
}

// gangHead begins a group with all that tells what it is; withPrimary gives an
// account its primary group.
const gangHead = "\ndn: CN=G,DC=x,DC=example\nobjectClass: group\nsAMAccountName: G\nobjectSid: " +
	"S-1-5-21-1-2-3-1200\ngroupType: -2147483646\n"

func withPrimary(user string) string { return user + "primaryGroupID: 513\n" }

// A poorer export is told, is not taken for proof, and stays told until a whole
// one comes or somebody says that it is right.
func TestLessThanBefore(t *testing.T) {
	beside(t)
	const group = gangHead + "member: CN=Ada,DC=x,DC=example\n"
	policy := policyRecord("P",
		"objectGUID: bb5ced36-1260-49e4-b4d3-f3388a6e7ba4\nmsDS-PasswordSettingsPrecedence: 1\nmsDS-PSOAppliesTo: CN=G,DC=x,DC=example\n")
	ada := withPrimary(smallUser)
	bo := strings.ReplaceAll(strings.ReplaceAll(ada, "Ada", "Bo"), "ada", "bo")
	whole := smallHead + ada + bo + group + policy + "\n"
	poorer := smallHead + ada + bo + group + "\n"
	rules := func(dir string) string {
		var all []string
		for _, row := range accountRows(t, dir) {
			all = append(all, row[1]+" "+row[7])
		}
		return strings.Join(all, ", ")
	}
	dir := begin(t)
	gather := func(text string, args ...string) (map[string]any, string) {
		doc := document(t, dir, append([]string{"gather", write(t, filepath.Join(t.TempDir(), "x.ldif"), text)}, args...)...)
		return doc, rules(dir)
	}
	if _, got := gather(whole); got != "ada group, bo default" {
		t.Fatalf("whole: %s", got)
	}
	doc, got := gather(poorer)
	if at(doc, "lost", 0, "what") != "fine-grained policies" || at(doc, "lost", 0, "before") != 1.0 || at(doc, "lost", 0, "names", 0) != "P" ||
		got != "ada unknown, bo default" {
		t.Errorf("poorer: %v; %s", doc["lost"], got)
	}
	if f := checksIn(t, dir)["evidence-poorer"]; f == nil || f["accounts"] != 1.0 {
		t.Errorf("no finding: %v", f)
	}
	// And once more: it is still not believed.
	doc, got = gather(poorer + "# again\n")
	if len(doc["lost"].([]any)) != 1 || got != "ada unknown, bo default" {
		t.Errorf("poorer again: %v; %s", doc["lost"], got)
	}
	if _, got = gather(whole + "# whole again\n"); got != "ada group, bo default" || checksIn(t, dir)["evidence-poorer"] != nil {
		t.Errorf("whole again: %s", got)
	}
	// Half the accounts are told; what is there stays decided.
	doc, got = gather(smallHead + ada + group + policy + "\n")
	if at(doc, "lost", 0, "what") != "accounts" || got != "ada group" {
		t.Errorf("half the accounts: %v; %s", doc["lost"], got)
	}
	gather(poorer)
	doc, got = gather(poorer, "--less-is-right", "Removed on Monday")
	if len(doc["lost"].([]any)) != 0 || doc["entry"] == 0.0 || got != "ada default, bo default" || checksIn(t, dir)["evidence-poorer"] != nil {
		t.Errorf("less is right: %v; %s", doc["lost"], got)
	}
	if e := document(t, dir, "entries", "--kind", "gather")["entries"].([]any); at(e[len(e)-1], "body",
		"less_is_right") != "Removed on Monday" {
		t.Errorf("not on record: %v", e[len(e)-1])
	}
	// Where the export shows what names its objects, a policy's absence is proof.
	shows := "\ndn: CN=H,DC=x,DC=example\nobjectClass: group\nsAMAccountName: H\nobjectSid: S-1-5-21-1-2-3-1201\ngroupType: " +
		"-2147483646\nmsDS-PSOApplied: CN=Q,CN=Password Settings Container,CN=System,DC=x,DC=example\n" +
		policyRecord("Q", "objectGUID: cc5ced36-1260-49e4-b4d3-f3388a6e7ba4\nmsDS-PasswordSettingsPrecedence: 2\nmsDS-PSOAppliesTo: "+
			"CN=H,DC=x,DC=example\n") + "\n"
	gather(whole + shows)
	if doc, got = gather(poorer + shows); len(doc["lost"].([]any)) != 0 || got != "ada default, bo default" {
		t.Errorf("proven gone: %v; %s", doc["lost"], got)
	}
}

// A newer export of a part takes the place of what it tells in full: who left a
// group is out of it, and a policy has its new targets and precedence.
func TestNewerPart(t *testing.T) {
	beside(t)
	ada := withPrimary(smallUser)
	head := smallHead + ada + strings.ReplaceAll(strings.ReplaceAll(ada, "Ada", "Bo"), "ada", "bo")
	group := func(members ...string) string {
		text := gangHead
		for _, m := range members {
			text += "member: CN=" + m + ",DC=x,DC=example\n"
		}
		return text
	}
	policy := func(name, digit, precedence, target string) string {
		return policyRecord(name,
			fmt.Sprintf("objectGUID: %s5ced36-1260-49e4-b4d3-f3388a6e7ba4\nmsDS-PasswordSettingsPrecedence: %s\nmsDS-PSOAppliesTo: "+
				"CN=%s,DC=x,DC=example\n", digit, precedence, target))
	}
	dir, src := begin(t), t.TempDir()
	answer := func() (all string) {
		for _, row := range accountRows(t, dir) {
			all += row[1] + "=" + row[5] + " "
		}
		return all
	}
	must(t, dir, "gather", write(t, filepath.Join(src, "1.ldif"), head+group("Ada", "Bo")+policy("P", "aa", "1", "G")+
		policy("Q", "bb", "2", "Bo")+policy("R", "cc", "3", "Bo")+"\n"))
	if got := answer(); got != "ada=P bo=Q " {
		t.Fatal(got)
	}
	must(t, dir, "gather", write(t, filepath.Join(src, "2.ldif"), group("Bo")+"\n"))
	if got := answer(); got != "ada=domain default bo=Q " {
		t.Errorf("Ada left the group: %s", got)
	}
	must(t, dir, "gather", write(t, filepath.Join(src, "3.ldif"), policy("Q", "bb", "9", "Bo")+"\n"))
	if got := answer(); got != "ada=domain default bo=R " {
		t.Errorf("a new precedence: %s", got)
	}
	must(t, dir, "gather", write(t, filepath.Join(src, "4.ldif"), policy("R", "cc", "3", "Ada")+"\n"))
	if got := answer(); got != "ada=R bo=Q " {
		t.Errorf("a new target: %s", got)
	}
}

// Values that a server holds and group policy could not have set are taken, and
// told; deleted objects and managed accounts are counted apart.
func TestWhatRealDomainsHold(t *testing.T) {
	beside(t)
	head := strings.NewReplacer("minPwdLength: 10", "minPwdLength: 255", "pwdHistoryLength: 24", "pwdHistoryLength: 30",
		"maxPwdAge: -25920000000000", "maxPwdAge: -37108517437440",
		"lockOutObservationWindow: -18000000000", "lockOutObservationWindow: 0").Replace(smallHead)
	extended := "\ndn: <GUID=0a0ca4f4-2f2b-4c1a-a6a9-1f1b8a8e0d11>;<SID=S-1-5-21-1-2-3-1200>;CN=G,DC=x,DC=example\nobjectClass: " +
		"group\nsAMAccountName: G\ngroupType: -2147483646\nmember: <GUID=1a0ca4f4-2f2b-4c1a-a6a9-1f1b8a8e0d11>;CN=Ada,DC=x,DC=example\n" +
		policyRecord("P", "objectGUID: bb5ced36-1260-49e4-b4d3-f3388a6e7ba4\nmsDS-PasswordSettingsPrecedence: 1\nmsDS-PSOAppliesTo: "+
			"<GUID=0a0ca4f4-2f2b-4c1a-a6a9-1f1b8a8e0d11>;CN=G,DC=x,DC=example\n")
	gone := "\ndn:: " + "Q049T2xkXDBBREVMOjUsQ049RGVsZXRlZCBPYmplY3RzLERDPXgsREM9ZXhhbXBsZQ==" +
		"\nobjectClass: user\nsAMAccountName: old\nuserAccountControl: 512\nisDeleted: TRUE\n" +
		strings.Replace(policyRecord("Gone", "isDeleted: TRUE\nmsDS-PasswordSettingsPrecedence: 1\nmsDS-PSOAppliesTo: CN=Ada,DC=x,DC=example\n"),
			"CN=Gone", `CN=Gone\0ADEL:1`, 1) +
		"\ndn: CN=tide,DC=x,DC=example\nobjectClass: user\nobjectClass: computer\nobjectClass: " +
		"msDS-GroupManagedServiceAccount\nsAMAccountName: tide$\nuserAccountControl: 4096\n\n"
	dir := begin(t)
	doc := document(t, dir, "gather", write(t, filepath.Join(t.TempDir(), "x.ldif"), head+smallUser+extended+gone))
	if a := at(doc, "authorities", 0); at(a, "accounts") != 1.0 || at(a, "managed") != 1.0 || at(a, "deleted") != 2.0 {
		t.Errorf("counted: %v", a)
	}
	if got := accountRows(t, dir); len(got) != 1 || got[0][5] != "P" {
		t.Errorf("accounts: %v", got)
	}
	settings := at(document(t, dir, "scopes"), "scopes", 0, "settings")
	for id, want := range map[string]any{"min-length": 255.0, "history": 30.0, "max-age": 3710851.0} {
		if at(settings, id, "value") != want || at(settings, id, "remark") == nil || at(settings, id, "raw") == nil {
			t.Errorf("%s: %v", id, at(settings, id))
		}
	}
	if at(settings, "lockout-window", "special") != "at-once" {
		t.Errorf("a window of 0: %v", at(settings, "lockout-window"))
	}
	for _, v := range document(t, dir, "weigh")["verdicts"].([]any) {
		if strings.HasSuffix(at(v, "scope").(string), "domain default") && at(v, "setting") == "lockout-threshold" &&
			at(v, "verdict") == "holds" {
			t.Errorf("nothing ever locks, and the threshold holds: %v", v)
		}
	}
	f := document(t, dir, "forecast", "--scope", "x.example / domain default")
	if at(f, "scopes", 0, "guesses", 0, "under_lock") != nil {
		t.Errorf("a bound where nothing locks: %v", at(f, "scopes", 0, "guesses", 0))
	}
}

// A file that was cut in a record tells nothing by its last line, and makes no
// authority of half a name.
func TestCutExports(t *testing.T) {
	t.Parallel()
	whole := smallHead + withPrimary(smallUser) + gangHead + "member: CN=Ada,DC=x,DC=example\n" +
		policyRecord("P", "objectGUID: bb5ced36-1260-49e4-b4d3-f3388a6e7ba4\nmsDS-PasswordSettingsPrecedence: 12\nmsDS-PSOAppliesTo: "+
			"CN=G,DC=x,DC=example\nmsDS-LockoutDuration: -18000000000\n") + "\n"
	half, rest := strings.Index(whole, "dn: CN=P,"), len(whole)
	for n := half - 40; n < rest; n += 7 {
		dir := begin(t)
		_, errs, status := run(t, dir, "gather", write(t, filepath.Join(t.TempDir(), "x.ldif"), whole[:n]))
		if status != 0 {
			if !strings.Contains(errs, "x.ldif:") {
				t.Errorf("cut at %d: %s", n, errs)
			}
			continue
		}
		for _, row := range accountRows(t, dir) {
			if row[0] != "x.example" {
				t.Errorf("cut at %d: the authority %s was made up", n, row[0])
			}
			if row[5] == "domain default" && whole[n-1] != '\n' {
				t.Errorf("cut at %d: %s under the default", n, row[1])
			}
		}
		for _, s := range document(t, dir, "scopes")["scopes"].([]any) {
			if v := at(s, "settings", "lockout-duration", "value"); at(s, "policy") == "P" && v != nil && v != 1800.0 {
				t.Errorf("cut at %d: half a value was taken: %v", n, v)
			}
		}
	}
	// Without anything that tells what entries are, they are refused by what is
	// lacking.
	_, errs, status := run(t, begin(t), "gather", write(t, filepath.Join(t.TempDir(), "x.ldif"),
		"dn: CN=Ada,DC=x,DC=example\nsAMAccountName: ada\n\n"))
	if status != 1 || !strings.Contains(errs, "x.ldif:1: 1 entries without objectClass") {
		t.Errorf("without objectClass: %d %s", status, errs)
	}
}

// A domain and a tenant of one name are two, in scopes, findings, waivers and
// choices; and a group of the tenant that a tier names captures its members
// only, though no tenant knows RIDs.
func TestOneNameTwoPlaces(t *testing.T) {
	beside(t)
	src, dir := t.TempDir(), begin(t)
	office, err := filepath.Glob("../../demo/exports/office/*")
	if err != nil || len(office) == 0 {
		t.Fatal(err)
	}
	for _, file := range office {
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		write(t, filepath.Join(src, "office", filepath.Base(file)), strings.ReplaceAll(string(data), "marrowickharbour.cloud.example",
			"marrowick.example"))
	}
	domain, err := os.ReadFile("../../demo/exports/marrowick.ldif")
	if err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(src, "marrowick.ldif"), string(domain))
	write(t, filepath.Join(dir, "engagement.yaml"), `baselines: [cis-windows-server]
authorities: {"marrowick.example (tenant)": {baselines: [cis-microsoft-365, nist-800-63b]}, marrowick.example: {baselines: [nist-800-63b]}}
tiers: {duty: {groups: ["Office*", "Duty*", "*"]}}
expect: {authorities: ["marrowick.example (tenant)", "marrowick.example (machine)"]}
`)
	must(t, dir, "gather", src)
	names, ids := map[any]bool{}, map[any]bool{}
	for _, s := range document(t, dir, "scopes")["scopes"].([]any) {
		if names[at(s, "scope")] || ids[at(s, "id")] {
			t.Errorf("two scopes are one: %v", at(s, "scope"))
		}
		names[at(s, "scope")], ids[at(s, "id")] = true, true
	}
	standard := 0
	for _, row := range accountRows(t, dir) {
		if row[10] == "tenant" && row[3] == "standard" {
			standard++
		}
	}
	if standard == 0 {
		t.Error("a tier that names the tenant's groups captures everybody in it")
	}
	weighing := document(t, dir, "weigh")
	prints := map[any]string{}
	var pair []string // fingerprints of one setting's findings in both places
	for _, f := range weighing["findings"].([]any) {
		scope := at(f, "scope").(string)
		if before, twice := prints[at(f, "fingerprint")]; twice {
			t.Errorf("one fingerprint for %s and %s", before, scope)
		}
		prints[at(f, "fingerprint")] = scope
		if at(f, "check") == nil && at(f, "settings", 0) == "min-length" && (strings.Contains(scope, "(domain) / domain default") ||
			strings.Contains(scope, "(tenant) / tenant")) {
			pair = append(pair, at(f, "fingerprint").(string))
		}
		if at(f, "check") == "authority-missing" && !strings.Contains(at(f, "reason").(string), "(machine)") {
			t.Errorf("%v", at(f, "reason"))
		}
	}
	if len(pair) < 2 {
		t.Fatalf("findings on one setting: %v", pair)
	}
	for _, v := range weighing["verdicts"].([]any) {
		if at(v, "baseline") == "cis-microsoft-365" && strings.Contains(at(v, "scope").(string), "(domain) /") {
			t.Errorf("the tenant's baselines reach the domain: %v", v)
		}
	}
	must(t, dir, "waive", pair[0], "--until", time.Now().AddDate(1, 0, 0).Format(time.DateOnly), "--reason", "Accepted")
	for _, f := range document(t, dir, "weigh")["findings"].([]any) {
		if waived := at(f, "verdict") == "waived"; waived != (at(f, "fingerprint") == pair[0]) {
			t.Errorf("waived %s; %v is %v", pair[0], at(f, "scope"), at(f, "verdict"))
		}
	}
	must(t, dir, "verify")
	report := filepath.Join(t.TempDir(), "r.html")
	must(t, dir, "report", "--to", report)
	page, _ := os.ReadFile(report)
	for _, want := range []string{"marrowick.example (domain) / domain default", "marrowick.example (tenant) / tenant"} {
		if !strings.Contains(string(page), want) {
			t.Errorf("the report does not tell %s", want)
		}
	}
}

// What fits a Unix machine depends on what its os-release says.
func TestBaselinesFitTheSystem(t *testing.T) {
	beside(t)
	dir, src := begin(t), t.TempDir()
	want := map[string]string{"debian 12": "cis-debian-12", "debian 13": "cis-linux", "ubuntu 24.04": "cis-ubuntu",
		"rocky 9.4": "cis-red-hat", "sles 15.6": "cis-suse", "": "cis-linux"}
	for system := range want {
		at := filepath.Join(src, "m-"+strings.ReplaceAll(system, " ", "-"), "etc")
		write(t, filepath.Join(at, "passwd"), "ada:x:1000:1000::/:/bin/sh\n")
		write(t, filepath.Join(at, "shadow"), "ada:$y$x:20000:0:90:7:::\n")
		write(t, filepath.Join(at, "login.defs"), "PASS_MAX_DAYS 90\n")
		if kind, version, ok := strings.Cut(system, " "); ok {
			write(t, filepath.Join(at, "os-release"), fmt.Sprintf("ID=%s\nVERSION_ID=%q\n", kind, version))
		}
	}
	seen := 0
	for _, u := range document(t, dir, "gather", src)["unweighed"].([]any) {
		seen++
		if system := strings.Replace(strings.TrimPrefix(at(u, "place").(string), "m-"), "-", " ", 1); at(u, "fitting", 0) != want[system] {
			t.Errorf("%q: %v, want %s", system, at(u, "fitting"), want[system])
		}
	}
	if seen != len(want) {
		t.Errorf("%d places", seen)
	}
}

// Every form of the report says which places were not weighed, and what would
// cover them; gather says it before; and a report older than a waiver says so.
func TestNotWeighedIsSaid(t *testing.T) {
	beside(t)
	dir, src := begin(t), t.TempDir() // with the engagement.yaml that begin writes
	write(t, filepath.Join(src, "gate/etc/passwd"), "ada:x:1000:1000::/:/bin/sh\n")
	write(t, filepath.Join(src, "gate/etc/shadow"), "ada:$y$x:20000:0:90:7:::\n")
	write(t, filepath.Join(src, "gate/etc/login.defs"), "PASS_MAX_DAYS 90\n")
	write(t, filepath.Join(src, "till.inf"), fmt.Sprintf(machineExport, 8))
	doc := document(t, dir, "gather", src)
	if at(doc, "unweighed", 0, "place") != "gate" || len(doc["unweighed"].([]any)) != 1 ||
		at(doc, "unweighed", 0, "fitting", 0) != "cis-linux" {
		t.Errorf("gather: %v", doc["unweighed"])
	}
	weighing := document(t, dir, "weigh")
	if at(weighing, "unweighed", 0, "place") != "gate" || at(weighing, "unweighed", 0, "platform") != "unix-machine" {
		t.Errorf("weigh: %v", weighing["unweighed"])
	}
	if out := must(t, dir, "weigh"); !strings.Contains(out, "1 of 2 places not assessed: no selected baseline applies.") ||
		!strings.Contains(out, "gate; covered by cis-linux") {
		t.Errorf("the page:\n%s", out)
	}
	to := t.TempDir()
	for _, ending := range []string{"html", "csv", "md", "json", "sarif", "oscal.json"} {
		file := filepath.Join(to, "r."+ending)
		must(t, dir, "report", "--to", file)
		data, _ := os.ReadFile(file)
		if text := string(data); !strings.Contains(text, "no chosen baseline covers gate") || !strings.Contains(text, "cis-linux") {
			t.Errorf("the report in %s does not say that gate was not weighed", ending)
		}
		if strings.Contains(string(data), "2 places, with") {
			t.Errorf("the report in %s says that both places were weighed", ending)
		}
	}
	must(t, dir, "waive", "--setting", "min-length", "--scope", "till*", "--until", time.Now().AddDate(1, 0, 0).Format(time.DateOnly),
		"--reason", "Soon gone")
	file := filepath.Join(to, "later.html")
	must(t, dir, "report", "--to", file)
	if data, _ := os.ReadFile(file); strings.Contains(string(data), "Nothing was waived") ||
		!strings.Contains(string(data), "not in it: 1 waiver. Weigh again") {
		t.Error("a report that is older than a waiver does not say so")
	}
}

// Stored copies that were deleted are there again after the exports were gathered once more;
// what was destroyed on purpose, or set aside, is not.
func TestDeletedEvidenceIsRestored(t *testing.T) {
	beside(t)
	root := harbour(t)
	dir, exports := begin(t), filepath.Join(root, "exports")
	must(t, dir, "gather", exports)
	state := func() string {
		var names []string
		_ = filepath.WalkDir(filepath.Join(dir, "evidence"), func(file string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				data, _ := os.ReadFile(file)
				names = append(names, fmt.Sprintf("%s %x", file, sha256.Sum256(data)))
			}
			return err
		})
		return strings.Join(names, "\n")
	}
	before := state()
	for _, gone := range []string{"", "marrowick.ldif", "gate1", "gate1/etc/passwd", "cloud-account/credential-report.csv"} {
		lost := filepath.Join(dir, "evidence", filepath.FromSlash(gone))
		if err := os.RemoveAll(lost); err != nil {
			t.Fatal(err)
		}
		if err := os.MkdirAll(filepath.Join(dir, "evidence"), 0o700); err != nil {
			t.Fatal(err)
		}
		if _, _, status := run(t, dir, "verify"); status == 0 {
			t.Errorf("%q is gone, and nobody notices", gone)
		}
		out := must(t, dir, "gather", exports, "--verbose", "--keep-all")
		if !strings.Contains(out, "its copy restored") || !strings.Contains(out, "nothing new") {
			t.Errorf("%q:\n%s", gone, out)
		}
		sound(t, dir)
		if after := state(); after != before {
			t.Errorf("%q: not as it was", gone)
		}
	}
	must(t, dir, "set-aside", "gate1", "--reason", "Of the test yard")
	if out := must(t, dir, "gather", exports); !strings.Contains(out, "machine gate1: ") {
		t.Errorf("what was set aside is still known:\n%s", out)
	}
	must(t, dir, "retire", "--reason", "The contract ended", "--destroy")
	if out := must(t, dir, "gather", exports); strings.Contains(out, "restored") {
		t.Errorf("what was destroyed came back:\n%s", out)
	}
	must(t, dir, "verify")
}
