package cli_test

import (
	"bytes"
	"database/sql"
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
)

// checksIn weighs an engagement and returns the checks that found something,
// with their verdicts.
func checksIn(t *testing.T, dir string, args ...string) map[string]map[string]any {
	t.Helper()
	found := map[string]map[string]any{}
	for _, f := range document(t, dir, append([]string{"weigh"}, args...)...)["findings"].([]any) {
		if name, ok := at(f, "check").(string); ok && found[name] == nil {
			found[name] = f.(map[string]any)
		}
	}
	return found
}

// Every check fires on the sample engagement at least once.
func TestDemoFiresEveryCheck(t *testing.T) {
	beside(t)
	dir := harbour(t)
	audit := filepath.Join(dir, "audit")
	found := checksIn(t, audit, "--all-accounts")
	names := map[string]bool{}
	for _, c := range document(t, audit, "checks")["checks"].([]any) {
		name := at(c, "name").(string)
		if found[name] == nil || names[name] || at(c, "verdict") != found[name]["verdict"] {
			t.Errorf("%s: told of twice, or it does not fire on the sample, or with another verdict", name)
		}
		names[name] = true
	}
	for name, want := range map[string]struct {
		verdict  string
		accounts any
		names    string // all accounts
		reason   string
	}{
		"authority-missing":       {"missing", nil, "", "gate4"},
		"none-required":           {"weak", 1.0, "b.scour", "the password may be empty"},
		"reversible-account":      {"weak", 1.0, "k.sluice", "the password can be read back"},
		"no-preauthentication":    {"weak", 1.0, "l.weir", "guessed at offline"},
		"privileged-service-name": {"weak", 1.0, "svc-backup", "guess the password on it"},
		"factor-never-asked":      {"conflicting", 3.0, "bookings@marrowickharbour.cloud.example f.moor@marrowickharbour.cloud.example old.buoy@marrowickharbour.cloud.example", "none is asked for it"},
		"never-expires":           {"conflicting", 1.0, "n.farrow", "where others must change it after 60 days"},
		"root-never-locks":        {"conflicting", 1.0, "Administrator", "10 failed attempts lock an account"},
		"weekend-of-guesses":      {"conflicting", 3.0, "adm-old adm-quay svc-backup", "3348 guesses for each account"},
		"ssh-unseen":              {"missing", nil, "", "whether it asks PAM at all (UsePAM) is not known"},
		"name-means-nothing":      {"missing", nil, "", "Ticket Kiosk, a group of the tier kiosk, fits nothing"},
		"window-over-duration":    {"conflicting", 2.0, "a.ledge v.prow", "failures count for 30 minutes"},
		"changed-too-often":       {"conflicting", 0.0, "", "8 times a year: users just add one to the old one"},
		"audit-length-idle":       {"conflicting", nil, "", "below 12 characters are to be logged, and those below 15 are refused"},
		"complexity-too-short":    {"conflicting", 3.0, "", "of 4 characters"},
		"audit-only":              {"conflicting", 1.0, "breakglass@marrowickharbour.cloud.example", "banned words in the domain: audit only"},
		"length-cap-low":          {"weak", 1.0, "curator@museum.example", "no more than 40 characters"},
		"module-not-called": {"conflicting", nil, "",
			"pwquality.conf sets dcredit, maxrepeat, minlen, ucredit, and no stack calls pam_pwquality"},
		"module-not-obeyed":    {"conflicting", nil, "", "pam_pwhistory is called, and its refusal is not obeyed"},
		"doors-differ":         {"conflicting", nil, "", "barrier, sshd: never locks; login: stronger"},
		"new-accounts-only":    {"conflicting", 2.0, "maint root", "login.defs gives new accounts maximum age: 90 days, minimum age: 1 day"},
		"old-hash":             {"conflicting", 1.0, "maint", "hashed with sha512; stored in a weaker way: maint (md5)"},
		"password-dated-ahead": {"conflicting", 1.0, "keeper", "dated in the future: keeper (2052-09-17)"},
		"password-unused":      {"weak", 1.0, "m.silt", "in the 45 days before 2026-11-02"},
		"empty-password":       {"weak", 1.0, "lamp", "1 account with an empty password"},
		"shadow-unseen":        {"missing", 1.0, "relief", "without a line of shadow"},
		"pointer-broken": {"missing", 1.0, "s.ward",
			"cn=wardens,ou=policies,dc=pilotsclub,dc=example is not in the evidence, and 1 account points at it"},
		"default-unknown": {"missing", 2.0, "b.book n.brass", "2 accounts: the account points at no policy"},
		"policy-unused":   {"conflicting", 0.0, "", "Old Ferry Desk governs no account"},
		"synchronised-unseen": {"missing", 1.0, "i.spar@marrowick.example",
			"synchronised from slipway.example, which is not in the evidence"},
		"federated-unseen":          {"missing", 1.0, "t.reef@pilots.marrowick.example", "whose passwords another place checks"},
		"synchronised-never-expire": {"conflicting", 1.0, "d.holm@marrowick.example", "after 90 days; in the cloud it works on"},
		"cloud-lock-looser": {"conflicting", 1.0, "d.holm@marrowick.example",
			"20 failed attempts in the cloud, 10 failed attempts in the domain"},
		"weaker-door":             {"conflicting", 1.0, "m.silt", "history 5 passwords against 24 passwords"},
		"evidence-not-understood": {"missing", nil, "", "1 line of pilot-desk.inf not understood"},
		"evidence-old":            {"missing", nil, "", "days old, and the engagement allows 90 days"},
		"directory-disagrees": {"conflicting", 1.0, "b.scour",
			"the directory answers the domain's default; its policies and groups come to Pilots"},
		"privileged-pulled-out": {"conflicting", 1.0, "w.lowe",
			"Control Room reaches these privileged accounts, but Executives governs them"},
		"privileged-on-default": {"conflicting", 3.0, "adm-old adm-quay svc-backup", "3 privileged accounts"},
		"privileged-weaker": {"conflicting", 3.0, "adm-old adm-quay svc-backup",
			"weaker than Pilots, which governs 4 standard accounts"},
		"policies-unproven":     {"missing", 2.0, "Administrator o.lantern", "no fine-grained policy is in the evidence"},
		"precedence-shared":     {"conflicting", 1.0, "e.skerry", "both have precedence 20 and meet in 1 account"},
		"precedence-undecided":  {"missing", 0.0, "", "Winter Crews"},
		"policy-without-target": {"conflicting", 0.0, "", "Old Locks names no account and no group"},
		"target-empty":          {"conflicting", 0.0, "", "Winter Crews names only groups in which there is no account"},
		"target-ignored":        {"conflicting", 0.0, "", "Dredging Notices (a global distribution group)"},
		"target-unknown":        {"missing", nil, "", "CN=Visiting Master,OU=Visitors,DC=marrowick,DC=example, which is not in the evidence"},
		"member-elsewhere":      {"missing", nil, "", "1 member of Administrators: of the domain S-1-5-21-1350117261-2033104917-1183005702"},
		"member-unknown":        {"missing", nil, "", "1 member of Pilots, which carries Pilots, is not in the evidence"},
		"account-incomplete":    {"missing", 1.0, "r.keel", "1 account exported without userAccountControl"},
		"members-incomplete":    {"missing", nil, "", "of the members of Riggers only those that changed"},
		"policy-hidden":         {"missing", 4.0, "Administrator r.keel s.hull t.strake", "Riggers is not in the evidence"},
		"override-weaker":       {"conflicting", 1.0, "l.bail", "24 passwords, where the domain's default has 30 passwords"},
		"template-against-head": {"conflicting", 12.0, "", "12 characters is configured by Default Domain Policy, 8 characters is enforced"},
		"templates-disagree":    {"conflicting", 12.0, "", "by link order 2 before 3"},
		"template-on-unit":      {"conflicting", 0.0, "", "the local accounts of 1 machine (dredge1), and no domain account"},
		"dialect-assumed": {"missing", 1.0, "t.oar",
			"on Samba all security groups but the built-in ones; the first is reached through Oars"},
		"group-type-unknown": {"missing", 1.0, "s.helm", "through Coxswains, whose type is not in the evidence"},
		"members-unexported": {"missing", 1.0, "r.stern",
			"who is in Bailers, which carries Bailers, is not all in the evidence; what governs 1 account"},
		"targets-unexported":   {"missing", 0.0, "", "whom Regatta names was not exported, or not all of it"},
		"membership-disagrees": {"conflicting", 2.0, "l.bail t.oar", "member lists that t.oar is in Bailers, memberOf does not"},
		"value-unusual":        {"conflicting", nil, "", "30 passwords (pwdHistoryLength: 30), outside what group policy can set"},
		"window-at-once":       {"conflicting", 0.0, "", "the threshold of 5 is never met, and nothing locks"},
		"evidence-poorer":      {"missing", 0.0, "", "fine-grained policies: 1 in outer-light.ldif, 0 now; gone: Lamp Keepers"},
		"template-filtered": {"conflicting", 0.0, "",
			"Quay Trial is linked at the root and sets account settings, but the controllers may not read or apply it"},
		"option-not-taken":              {"conflicting", nil, "", "reads no pwhistory.conf"},
		"rule-not-understood":           {"missing", nil, "", "conditions.authenticationFlows.transferMethods, which is not understood"},
		"list-cut":                      {"missing", nil, "", "the list of users goes on"},
		"home-unseen":                   {"missing", nil, "", "whether sign-ins of some units or groups go to another place is not known"},
		"field-unseen":                  {"missing", nil, "", "without isDelegatedAdmin"},
		"accounts-elsewhere":            {"missing", nil, "", "sss"},
		"module-not-modelled":           {"missing", nil, "", "barrier calls pam_badge"},
		"template-open":                 {"missing", nil, "", "Default Domain Policy at fairway: linked; filters not in evidence"},
		"local-administrator-unmanaged": {"weak", nil, "", "2 machines (dredge1, weigh1) a managed password"},
		"local-administrator-open": {"missing", nil, "",
			"the local administrator of 1 machine (tender1) a managed password is not in the evidence"},
		"displayed-is-not-governing": {"conflicting", 2.0, "b.boje j.mueller",
			"the resultant report of tender1 displays minimum length 12 characters"},
		"not-weighed":              {"missing", nil, "", "no chosen baseline covers"},
		"template-unlinked":        {"conflicting", 0.0, "", "Old Quay Settings"},
		"template-unseen":          {"missing", nil, "", "1 machine (dredge1); what they enforce was not seen"},
		"machine-against-template": {"conflicting", nil, "", "on weigh1: 12 characters is configured"},
		"history-run-through":      {"conflicting", 3.0, "adm-old adm-quay svc-backup", "after 0 days: history 24"},
		"age-order":                {"conflicting", nil, "", "30 days is not below"},
		"lockout-dormant":          {"conflicting", 1.0, "w.lowe", "no number of failed attempts"},
		"length-capped":            {"conflicting", nil, "", "Windows enforces 14"},
		"length-cap-unseen":        {"missing", nil, "", "minimum length of 16"},
	} {
		f := found[name]
		delete(found, name)
		if f == nil {
			t.Errorf("%s does not fire", name)
			continue
		}
		var names []string
		if all, ok := f["all_accounts"].([]any); ok {
			for _, a := range all {
				names = append(names, a.(string))
			}
		}
		if f["verdict"] != want.verdict || f["accounts"] != want.accounts || !strings.Contains(f["reason"].(string), want.reason) ||
			want.names != "" && strings.Join(names, " ") != want.names {
			t.Errorf("%s: %v %v %v\n  %v", name, f["verdict"], f["accounts"], names, f["reason"])
		}
		if name != "authority-missing" && name != "name-means-nothing" && len(f["evidence"].([]any)) == 0 {
			t.Errorf("%s shows no evidence", name)
		}
	}
	for name := range found {
		t.Errorf("%s fires and is not in this table", name)
	}
}

// A list of machines says what must be there; what is, is matched by name.
func TestExpectedMachines(t *testing.T) {
	beside(t)
	for name, c := range map[string]struct{ list, want, say string }{
		"a column":       {"site;machine\nquay;Desk1\nquay;desk2\n;\n", "desk2", ""},
		"a plain list":   {"desk1\nDESK3\n", "desk3", ""},
		"no such column": {"site,host\nquay,desk1\n", "", "expected one called \"machine\""},
		"no such file":   {"", "", "engagement.yaml:2:"},
	} {
		dir := begin(t)
		write(t, filepath.Join(dir, "engagement.yaml"), "baselines: [cis-windows-server]\nexpect: {machines-from: machines.csv}\n")
		if c.list != "" {
			write(t, filepath.Join(dir, "machines.csv"), c.list)
		}
		must(t, dir, "gather", write(t, filepath.Join(t.TempDir(), "desk1.inf"), "[System Access]\nMinimumPasswordLength = 12\nUnheardOf = 1\n"))
		if c.say != "" {
			if _, errs, status := run(t, dir, "weigh"); status != 1 || !strings.Contains(errs, c.say) {
				t.Errorf("%s: %d %s", name, status, errs)
			}
			continue
		}
		found := checksIn(t, dir)
		if f := found["authority-missing"]; f == nil || f["scope"] != c.want {
			t.Errorf("%s: %v", name, f)
		}
		if f := found["evidence-not-understood"]; f == nil || at(f, "evidence", 0, "line") != 3.0 ||
			!strings.Contains(f["reason"].(string), "1 line of desk1.inf not understood") {
			t.Errorf("%s: %v", name, f)
		}
	}
}

const policyHead = "\ndn: CN=%s,CN=Password Settings Container,CN=System,DC=x,DC=example\nobjectClass: " +
	"msDS-PasswordSettings\nmsDS-MinimumPasswordLength: 20\n"

func policyRecord(name, more string) string { return fmt.Sprintf(policyHead, name) + more }

// Evidence that is odd, partial or hostile gets a right answer or a clear one.
func TestOddEvidence(t *testing.T) {
	beside(t)
	const guid = "objectGUID: bb5ced36-1260-49e4-b4d3-f3388a6e7ba4\n"
	const other = "objectGUID: cc5ced36-1260-49e4-b4d3-f3388a6e7ba4\n"
	group := func(name, members string) string {
		return "\ndn: CN=" + name + ",DC=x,DC=example\nobjectClass: group\nsAMAccountName: " + name + "\ngroupType: -2147483646\n" + members
	}
	for _, c := range []struct {
		name, records string
		rule, policy  string // of ada
		check         string
	}{
		{"groups that contain each other", group("G", "member: CN=H,DC=x,DC=example\n") +
			group("H", "member: CN=G,DC=x,DC=example\nmember: CN=Ada,DC=x,DC=example\n") +
			policyRecord("P", guid+"msDS-PasswordSettingsPrecedence: 1\nmsDS-PSOAppliesTo: CN=G,DC=x,DC=example\n"), "group", "P", ""},
		{"precedence missing", policyRecord("P", guid+"msDS-PSOAppliesTo: CN=Ada,DC=x,DC=example\n"), "unknown", "not known",
			"precedence-undecided"},
		{"GUID missing in a tie", policyRecord("P", "msDS-PasswordSettingsPrecedence: 1\nmsDS-PSOAppliesTo: CN=Ada,DC=x,DC=example\n") +
			policyRecord("Q", other+"msDS-PasswordSettingsPrecedence: 1\nmsDS-PSOAppliesTo: CN=Ada,DC=x,DC=example\n"), "unknown",
			"not known", "precedence-shared"},
		{"a target not in the evidence",
			policyRecord("P", guid+"msDS-PasswordSettingsPrecedence: 1\nmsDS-PSOAppliesTo: CN=Gone,DC=x,DC=example\n"), "unknown",
			"not known", "target-unknown"},
		{"a member not in the evidence", group("G", "member: CN=Gone,DC=x,DC=example\nmember: CN=Ada,DC=x,DC=example\n") +
			policyRecord("P", guid+"msDS-PasswordSettingsPrecedence: 1\nmsDS-PSOAppliesTo: CN=G,DC=x,DC=example\n"), "group", "P", "member-unknown"},
		{"only the directory's answer points at it",
			"\ndn: CN=Ada,DC=x,DC=example\nobjectClass: user\nmsDS-ResultantPSO: CN=Secret,CN=Password Settings " +
				"Container,CN=System,DC=x,DC=example\n", "unknown", "not known", "policy-hidden"},
		{"an export without the flags", "\ndn: CN=Bo,DC=x,DC=example\nobjectClass: user\nsAMAccountName: bo\nprimaryGroupID: 513\n",
			"default", "domain default", "account-incomplete"},
		{"the directory's answer differs",
			"\ndn: CN=Ada,DC=x,DC=example\nobjectClass: user\nmsDS-ResultantPSO: CN=P,CN=Password Settings Container,CN=System,DC=x,DC=example\n" +
				policyRecord("P", guid+"msDS-PasswordSettingsPrecedence: 1\nmsDS-PSOAppliesTo: CN=Bo,DC=x,DC=example\n") +
				"\ndn: CN=Bo,DC=x,DC=example\nobjectClass: user\nsAMAccountName: bo\nuserAccountControl: 512\nprimaryGroupID: 513\n\n",
			"default", "domain default", "directory-disagrees"},
		{"two policies of one name", policyRecord("P", guid+"msDS-PasswordSettingsPrecedence: 1\nmsDS-PSOAppliesTo: CN=Ada,DC=x,DC=example\n") +
			strings.Replace(policyRecord("P", other+"msDS-PasswordSettingsPrecedence: 2\n"), "CN=System", "CN=Elsewhere", 1) + "\n",
			"direct", "CN=P,CN=Password Settings Container,CN=System,DC=x,DC=example", "policy-without-target"},
	} {
		dir := begin(t)
		must(t, dir, "gather", write(t, filepath.Join(t.TempDir(), "x.ldif"), smallHead+smallUser+c.records))
		doc := document(t, dir, "trace", "ada")
		if at(doc, "governing", "rule") != c.rule || at(doc, "governing", "policy") != c.policy {
			t.Errorf("%s: %v", c.name, at(doc, "governing"))
		}
		if found := checksIn(t, dir); c.check != "" && found[c.check] == nil {
			t.Errorf("%s: %s does not fire", c.name, c.check)
		}
	}
	dir := begin(t)
	other10 := strings.Replace(smallHead, "minPwdLength: 10", "minPwdLength: 11", 1)
	two := []string{"gather", write(t, filepath.Join(t.TempDir(), "x.ldif"), smallHead+smallUser),
		write(t, filepath.Join(t.TempDir(), "y.ldif"), other10)}
	if _, errs, status := run(t, dir, two...); status != 1 || !strings.Contains(errs, "contradicts itself") ||
		!strings.Contains(errs, "one after the other") {
		t.Errorf("two exports of different days at once: %d %s", status, errs)
	}
	negative := write(t, filepath.Join(t.TempDir(), "x.ldif"), smallHead+smallUser+
		policyRecord("P", guid+"msDS-PasswordSettingsPrecedence: -4\n"))
	if _, errs, status := run(t, dir, "gather", negative); status != 1 || !strings.Contains(errs, "a precedence of -4") {
		t.Errorf("negative precedence: %d %s", status, errs)
	}
}

func TestTraceFindsAccounts(t *testing.T) {
	beside(t)
	dir, src := begin(t), t.TempDir()
	odd := "\ndn: CN=Quill\\, \\\"R.\\\" \\<b\\>,DC=x,DC=example\nobjectClass: user\nsAMAccountName: =cmd|'x'\nuserPrincipalName: " +
		"quill@x.example\ndisplayName:: w4RtaWxpZSAbWzMxbQ==\nobjectSid: S-1-5-21-1-2-3-1105\nuserAccountControl: 66080\n"
	second := strings.ReplaceAll(smallHead, "DC=x", "DC=y") + strings.ReplaceAll(smallUser, "DC=x", "DC=y")
	must(t, dir, "gather", write(t, filepath.Join(src, "x.ldif"), smallHead+smallUser+odd), write(t, filepath.Join(src, "y.ldif"), second))
	for _, name := range []string{"=cmd|'x'", "=CMD|'X'", "Quill@X.example", "S-1-5-21-1-2-3-1105",
		`cn=quill\2c \22R.\22 \<b\3e , dc=x,dc=example`} {
		out, errs, status := run(t, dir, "trace", name)
		if status != 0 || !strings.Contains(out, "quill@x.example") {
			t.Errorf("%s: %d %s", name, status, errs)
		}
		if strings.Contains(out, "\x1b") {
			t.Errorf("%s: an escape sequence of the evidence reached the terminal", name)
		}
	}
	doc := document(t, dir, "trace", "quill@x.example")
	for id, want := range map[string]any{"max-age": "flag never-expires", "min-length": "flag password-not-required",
		"history": "domain default"} {
		if got := at(doc, "settings", id, "from"); got != want {
			t.Errorf("%s comes from %v, want %v", id, got, want)
		}
	}
	checkEvidence(t, dir, "max-age", at(doc, "settings", "max-age").(map[string]any))
	if _, errs, status := run(t, dir, "trace", "ada"); status != 1 || !strings.Contains(errs, "2 accounts are called") ||
		!strings.Contains(errs, "CN=Ada,DC=y,DC=example") {
		t.Errorf("an account in two domains: %d %s", status, errs)
	}
	if _, errs, status := run(t, dir, "trace", "nobody"); status != 1 || !strings.Contains(errs, "no account") {
		t.Errorf("%d %s", status, errs)
	}
	if _, _, status := run(t, dir, "trace"); status != 2 {
		t.Errorf("no account named: %d", status)
	}
	rows, err := csv.NewReader(strings.NewReader(must(t, dir, "accounts", "--format", "csv"))).ReadAll()
	if err != nil || rows[1][1] != "'=cmd|'x'" || rows[1][6] != "-" {
		t.Errorf("a cell that looks like a formula must be text, a lone - stays: %v %v", rows, err)
	}
}

func TestAccountsFilters(t *testing.T) {
	beside(t)
	dir := harbour(t)
	audit := filepath.Join(dir, "audit")
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"kiosk*"}, "kiosk01 kiosk02"},
		{[]string{"--policy", "executives"}, "c.regent w.lowe"},
		{[]string{"--tier", "privileged", "--rule", "default"}, "Administrator adm-old adm-quay svc-backup"},
		{[]string{"--rule", "direct"}, "h.thorne <root_account>"},
		{[]string{"--rule", "unknown"},
			"r.stern s.helm t.oar Administrator o.lantern Administrator r.keel s.hull t.strake b.book n.brass s.ward " +
				"i.spar@marrowick.example t.reef@pilots.marrowick.example"},
		{[]string{"--flag", "reversible"}, "k.sluice t.strake"},
		{[]string{"--flag", "disabled", "adm-*"}, "adm-old"},
		{[]string{"--scope", "marrowick.example / Pilots"}, "b.scour e.skerry j.tarn p.marsh"},
	} {
		doc := document(t, audit, append([]string{"accounts"}, c.args...)...)
		var names []string
		for _, a := range doc["accounts"].([]any) {
			names = append(names, at(a, "account").(string))
		}
		if strings.Join(names, " ") != c.want {
			t.Errorf("%v: %v, want %s", c.args, names, c.want)
		}
	}
	for _, wrong := range [][]string{{"--tier", "priviledged"}, {"--flag", "never"}, {"--rule", "x"}, {"--policy", "x"},
		{"--scope", "x"}, {"["}} {
		if _, errs, status := run(t, audit, append([]string{"accounts"}, wrong...)...); status != 2 || !strings.Contains(errs, "nearest is") &&
			!strings.Contains(errs, "known are") &&
			wrong[0] != "[" {
			t.Errorf("%v: %d %s", wrong, status, errs)
		}
	}
	policy := document(t, audit, "trace", "--policy", "Control Room")
	if policy["reaches"] != 4.0 || policy["governs"] != 2.0 || at(policy, "loses_to", 0, "policy") != "Executives" ||
		at(policy, "loses_to", 1, "policy") != "Harbour Master" {
		t.Errorf("%v", policy)
	}
	trace := document(t, audit, "trace", "w.lowe")
	via, _ := at(trace, "candidates", 1, "via").([]any)
	if !slices.Equal(via, []any{"Control Room", "Watch Officers"}) || at(trace, "candidates", 1, "won") != false ||
		at(trace, "account", "tier_rule") != "member of Control Room" {
		t.Errorf("%v", trace["candidates"])
	}
	if out := must(t, audit, "trace", "w.lowe"); !strings.Contains(out, "If Executives went away, Control Room would govern.") {
		t.Errorf("%s", out)
	}
	if _, errs, status := run(t, audit, "trace", "--policy", "Controll Room"); status != 1 ||
		!strings.Contains(errs, `nearest is "Control Room"`) {
		t.Errorf("%d %s", status, errs)
	}
}

// What docs/demo.md says by hand of who is governed by what, the program says.
func TestDemoByHand(t *testing.T) {
	beside(t)
	dir := harbour(t)
	rows, err := csv.NewReader(strings.NewReader(must(t, filepath.Join(dir, "audit"), "accounts", "--format", "csv"))).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	// The documents name places in words.
	places := map[string]string{"": "marrowick.example", "the yard": "yard.marrowick.example",
		"the lighthouse": "outer-light.marrowick.example", "the boathouse": "boathouse.marrowick.example", "`gate1`": "gate1",
		"`gate2`": "gate2", "the pilots' club": "pilotsclub.example",
		"the office's tenant": "marrowickharbour.cloud.example", "`helm`": "helm"}
	text, err := os.ReadFile("../../docs/demo.md")
	if err != nil {
		t.Fatal(err)
	}
	_, table, _ := strings.Cut(string(text), "## Who is governed by what")
	table, byHand, _ := strings.Cut(table, "## The verdicts by hand")
	checked, place := 0, ""
	for _, line := range strings.Split(table, "\n") {
		cells := strings.Split(line, "|")
		if len(cells) != 5 || strings.Contains(line, "---") || strings.Contains(line, "| account |") || strings.Contains(line, "all others") {
			continue
		}
		who, of, _ := strings.Cut(strings.TrimSpace(cells[1]), " of ")
		if of != "it" {
			place = places[of]
		}
		rule, _, _ := strings.Cut(strings.TrimSpace(cells[3]), ";")
		for _, name := range strings.Split(strings.TrimSuffix(who, " and others"), ", ") {
			found := false
			for _, r := range rows {
				own, _, _ := strings.Cut(r[1], "@")
				if r[0] != place || own != name {
					continue
				}
				found = true
				checked++
				if r[5] != strings.TrimSpace(cells[2]) || r[7] != rule {
					t.Errorf("%s of %s: %s by %s, the document says %s by %s", name, place, r[5], r[7], strings.TrimSpace(cells[2]), rule)
				}
			}
			if !found {
				t.Errorf("no account %s of %s", name, place)
			}
		}
	}
	if checked < 35 {
		t.Errorf("only %d accounts were compared", checked)
	}
	verdicts := map[string]string{}
	for _, v := range document(t, filepath.Join(dir, "audit"), "weigh")["verdicts"].([]any) {
		policy := strings.Split(at(v, "scope").(string), " / ")
		verdicts[policy[0]+"/"+policy[1]+"/"+at(v, "setting").(string)] = at(v, "verdict").(string)
	}
	var policies []string
	checked = 0
	for _, line := range strings.Split(byHand, "\n") {
		cells := strings.Split(strings.Trim(line, "| "), " | ")
		switch {
		case len(cells) != 7 || strings.Contains(line, "---"):
		case cells[0] == "setting":
			policies = cells[1:]
		default:
			for i, want := range cells[1:] {
				checked++
				if got := verdicts["marrowick.example/"+policies[i]+"/"+cells[0]]; got != want {
					t.Errorf("%s of %s: %s, the document says %s", cells[0], policies[i], got, want)
				}
			}
		}
	}
	if checked != 60 {
		t.Errorf("%d verdicts were compared", checked)
	}
}

// A person's doors: all accounts, how they belong together, which are weaker.
func TestTraceShowsAllDoors(t *testing.T) {
	beside(t)
	dir := harbour(t)
	audit := filepath.Join(dir, "audit")
	for name, want := range map[string]string{
		"n.farrow":                 "marrowick.example: gate1 same name [min-length history lockout-threshold lockout-duration lockout-window]",
		"w.lowe":                   "marrowick.example: marrowickharbour.cloud.example synchronised []",
		"k.sluice":                 "marrowick.example: helm synchronised []",
		"m.silt":                   "marrowick.example: 000000000042 same name [history]",
		"gateop --authority gate2": "gate2: gate1 same name []",
		"a.ledge@marrowick.example --authority marrowickharbour.cloud.example": "marrowickharbour.cloud.example: marrowick.example " +
			"synchronised []",
	} {
		doc := document(t, audit, append([]string{"trace"}, strings.Fields(name)...)...)
		got := fmt.Sprint(at(doc, "account", "authority"), ":")
		for _, d := range doc["doors"].([]any) {
			got += fmt.Sprint(" ", at(d, "authority"), " ", at(d, "joined"), " ", at(d, "weaker"))
		}
		if got != want {
			t.Errorf("%s:\n%s, want\n%s", name, got, want)
		}
	}
	doc := document(t, audit, "trace", "w.lowe")
	if at(doc, "doors", 0, "own_settings", "lockout-threshold", "value") != 20.0 ||
		at(doc, "doors", 0, "settings", "lockout-threshold", "value") != 20.0 || at(doc, "settings", "lockout-threshold", "special") != "never" {
		t.Errorf("the tenant's settings beside the domain's: %v", at(doc, "doors", 0))
	}
	for args, say := range map[string]string{"gateop --authority gate9": `the nearest is "gate`,
		"root --authority marrowick.example": "no account"} {
		if _, errs, status := run(t, audit, append([]string{"trace"}, strings.Fields(args)...)...); status != 1 || !strings.Contains(errs, say) {
			t.Errorf("trace %s: %d %s", args, status, errs)
		}
	}
}

// The shipped field maps and baselines follow the schemas that the program
// prints for others, and what is wrong does not.
func TestShippedFilesFollowTheirSchema(t *testing.T) {
	beside(t)
	for _, c := range []struct {
		schema, files string
		most          int
		bad           string
	}{
		{"field-map", "../../fieldmaps/*.yaml", 8, "id: x\ntitle: X\nplatform: other\nexports: [{id: e, json: [a]}]\ncolour: red\n"},
		{"baseline", "../../baselines/*.yaml", 16,
			"id: x\ntitle: X\nversion: 1\nfor: {platforms: [windows-domain]}\ndemands: [{setting: history, at-least: 1, at-most: 2, " +
				"severity: minor, why: w}]\n"},
	} {
		compiler := jsonschema.NewCompiler()
		parsed, err := jsonschema.UnmarshalJSON(strings.NewReader(must(t, ".", "schema", c.schema)))
		if err != nil || compiler.AddResource("s.json", parsed) != nil {
			t.Fatal(err)
		}
		schema := compiler.MustCompile("s.json")
		valid := func(data []byte) error {
			asJSON, err := yaml.YAMLToJSON(data)
			if err != nil {
				t.Fatal(err)
			}
			doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(asJSON))
			if err != nil {
				t.Fatal(err)
			}
			return schema.Validate(doc)
		}
		files, _ := filepath.Glob(c.files)
		if len(files) != c.most {
			t.Errorf("%s: %d files", c.files, len(files))
		}
		for _, file := range files {
			data, _ := os.ReadFile(file)
			if err := valid(data); err != nil {
				t.Errorf("%s: %v", file, err)
			}
		}
		if valid([]byte(c.bad)) == nil {
			t.Errorf("%s: anything follows the schema", c.schema)
		}
	}
}

// In a large domain an account is found without reading all of them, by each of its
// names; what is kept for that is proven like everything else.
func TestTraceInALargeDomain(t *testing.T) {
	beside(t)
	dir := begin(t)
	var b strings.Builder
	b.WriteString(smallHead)
	b.WriteString("\ndn: CN=Crew,DC=x,DC=example\nobjectClass: group\nsAMAccountName: Crew\ngroupType: -2147483646\nobjectSid: " +
		"S-1-5-21-1-2-3-1100\n" +
		"member: CN=P51234,DC=x,DC=example\n\ndn: CN=Strict,CN=Password Settings Container,CN=System,DC=x,DC=example\n" +
		"objectClass: msDS-PasswordSettings\nmsDS-PasswordSettingsPrecedence: 1\nmsDS-MinimumPasswordLength: 20\n" +
		"objectGUID: 11111111-2222-3333-4444-555555555555\nmsDS-PSOAppliesTo: CN=Crew,DC=x,DC=example\n")
	for i := range 52_000 {
		fmt.Fprintf(&b, "\ndn: CN=P%d,DC=x,DC=example\nobjectClass: user\nsAMAccountName: person%d\nuserPrincipalName: p%d@x.example\n"+
			"userAccountControl: 512\nprimaryGroupID: 513\nobjectSid: S-1-5-21-1-2-3-%d\n", i, i, i, 2000+i)
	}
	b.WriteString("\ndn: CN=Domain Users,DC=x,DC=example\nobjectClass: group\nsAMAccountName: Domain Users\ngroupType: -2147483646\n" +
		"objectSid: S-1-5-21-1-2-3-513\n")
	must(t, dir, "gather", write(t, filepath.Join(t.TempDir(), "x.ldif"), b.String()))
	for name, policy := range map[string]string{"person51234": "Strict", "PERSON51234": "Strict", "p51234@x.example": "Strict",
		"S-1-5-21-1-2-3-53234": "Strict", "CN=P51234,DC=x,DC=example": "Strict", "person51235": "own settings"} {
		d := document(t, dir, "trace", name)
		if got := at(d, "governing", "policy"); policy == "Strict" && (got != policy || at(d, "candidates", 0, "via", 0) != "Crew") ||
			policy != "Strict" && (got == "Strict" || at(d, "account", "account") != name) {
			t.Errorf("%s: %v %v", name, got, at(d, "account"))
		}
	}
	if _, errs, status := run(t, dir, "trace", "person52000"); status != 1 || !strings.Contains(errs, "no account") {
		t.Errorf("%d %s", status, errs)
	}
	must(t, dir, "verify")
	db, err := sql.Open("sqlite", filepath.Join(dir, "ledger.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("UPDATE chunks SET data = zeroblob(length(data)) WHERE name = 'quick/name/row'"); err != nil {
		t.Fatal(err)
	}
	if _, errs, status := run(t, dir, "verify"); status != 1 || !strings.Contains(errs, "facts") {
		t.Errorf("an index that leads elsewhere: %d %s", status, errs)
	}
}
