package cli_test

import (
	"bytes"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode"

	"sternledger/internal/labtest"
)

// against chooses the baselines of an engagement.
func against(t *testing.T, dir, baselines string) {
	t.Helper()
	config := filepath.Join(dir, "engagement.yaml")
	text, err := os.ReadFile(config)
	if err != nil {
		t.Fatal(err)
	}
	write(t, config, strings.Replace(string(text), "baselines: [cis-windows-server]", "baselines: ["+baselines+"]", 1))
}

// openFindings are the findings of a new weighing that are not waived, by fingerprint.
func openFindings(t *testing.T, dir string) map[string]string {
	t.Helper()
	all := map[string]string{}
	for _, f := range document(t, dir, "weigh")["findings"].([]any) {
		if at(f, "verdict") != "waived" {
			all[at(f, "fingerprint").(string)] = fmt.Sprint(at(f, "scope"), ": ", at(f, "check"), at(f, "settings"), ": ", at(f, "reason"), " ",
				at(f, "accounts"))
		}
	}
	return all
}

// amendTo writes change files, and returns what the findings are to be with them.
func amendTo(t *testing.T, dir, to string, before map[string]string, args ...string) (doc map[string]any, want map[string]string) {
	t.Helper()
	doc = document(t, dir, append([]string{"amend", "--to", to}, args...)...)
	want = map[string]string{}
	for print, text := range before {
		want[print] = text
	}
	for _, print := range doc["ends"].([]any) {
		delete(want, print.(string))
	}
	for _, f := range doc["appear"].([]any) {
		want[at(f, "fingerprint").(string)] = fmt.Sprint(at(f, "scope"), ": ", at(f, "check"), at(f, "settings"), ": ", at(f, "reason"))
	}
	return doc, want
}

// sameFindings compares what was said with what came.
func sameFindings(t *testing.T, what string, want, got map[string]string) {
	t.Helper()
	for print, text := range got {
		if want[print] == "" {
			t.Errorf("%s: there is, and was not said: %s", what, text)
		}
	}
	for print, text := range want {
		if got[print] == "" {
			t.Errorf("%s: was said to stay, and is gone: %s", what, text)
		}
	}
}

// unsettle gives a directory's head and policies random values, weak and strong.
func unsettle(rnd *rand.Rand) string {
	var b strings.Builder
	const base = "DC=marrowick,DC=example"
	put := func(name, value string) { fmt.Fprintf(&b, "replace: %s\n%s: %s\n-\n", name, name, value) }
	days := func(n int) string { return fmt.Sprint(-864_000_000_000 * n) }
	minutes := func(n int) string { return fmt.Sprint(-600_000_000 * n) }
	b.WriteString("dn: " + base + "\nchangetype: modify\n")
	put("minPwdLength", fmt.Sprint(rnd.IntN(15)))
	put("pwdHistoryLength", fmt.Sprint(rnd.IntN(25)))
	put("maxPwdAge", one(rnd, "0", days(30+rnd.IntN(400))))
	put("minPwdAge", one(rnd, "0", days(rnd.IntN(3))))
	put("lockoutThreshold", fmt.Sprint(rnd.IntN(20)))
	put("lockoutDuration", minutes(1+rnd.IntN(60)))
	put("lockOutObservationWindow", minutes(1))
	put("pwdProperties", one(rnd, "0", "1", "17", "16"))
	b.WriteString("\n")
	for i := range 24 {
		fmt.Fprintf(&b, "dn: CN=Policy %d,CN=Password Settings Container,CN=System,%s\nchangetype: modify\n", i, base)
		put("msDS-MinimumPasswordLength", fmt.Sprint(rnd.IntN(20)))
		put("msDS-PasswordHistoryLength", fmt.Sprint(rnd.IntN(25)))
		put("msDS-PasswordComplexityEnabled", one(rnd, "TRUE", "FALSE"))
		put("msDS-PasswordReversibleEncryptionEnabled", one(rnd, "FALSE", "FALSE", "TRUE"))
		put("msDS-MaximumPasswordAge", one(rnd, "-9223372036854775808", days(30+rnd.IntN(400))))
		put("msDS-MinimumPasswordAge", one(rnd, "0", days(rnd.IntN(3))))
		put("msDS-LockoutThreshold", fmt.Sprint(rnd.IntN(20)))
		put("msDS-LockoutDuration", minutes(10+rnd.IntN(60)))
		put("msDS-LockoutObservationWindow", minutes(1+rnd.IntN(10)))
		b.WriteString("\n")
	}
	return b.String()
}

// settingsOf are the lines of an export that amendments change, entry by entry.
func settingsOf(export string) string {
	var kept []string
	dn := ""
	for _, line := range strings.Split(strings.ReplaceAll(export, "\n ", ""), "\n") {
		name, _, _ := strings.Cut(line, ":")
		switch strings.ToLower(name) {
		case "minpwdlength", "pwdhistorylength", "maxpwdage", "minpwdage", "lockoutthreshold", "lockoutduration", "lockoutobservationwindow",
			"pwdproperties",
			"useraccountcontrol":
			kept = append(kept, dn+" "+line)
		case "dn":
			dn = line
		default:
			if strings.HasPrefix(line, "msDS-") && (strings.Contains(name, "Password") || strings.Contains(name, "Lockout")) {
				kept = append(kept, dn+" "+line)
			}
		}
	}
	slices.Sort(kept) // a server gives attributes in any order
	return strings.Join(kept, "\n")
}

// Of random populations in a real directory: the findings that are left, and those
// that appear, are what was said, to the last; what undoes the change brings back
// every setting.
func TestAmendRealDirectory(t *testing.T) {
	beside(t)
	labtest.Wanted(t)
	d := newDirectory(t)
	settled, written := 0, 0
	for n := range uint64(rounds(2)) {
		t.Run(fmt.Sprint("population ", n), func(t *testing.T) {
			one, _, _ := d.populated(t, 100+n)
			one.lab("modify", one.dir, write(t, filepath.Join(t.TempDir(), "unsettle.ldif"), unsettle(rand.New(rand.NewPCG(19, n)))))
			before := one.lab("export", one.dir)
			dir := begin(t)
			against(t, dir, []string{"cis-windows-server", "cis-windows-server, nist-800-63b", "pci-dss-4", "nist-800-63b"}[n%4])
			must(t, dir, "gather", write(t, filepath.Join(t.TempDir(), "marrowick.ldif"), before))
			was := openFindings(t, dir)
			to := filepath.Join(t.TempDir(), "change")
			doc, want := amendTo(t, dir, to, was)
			for _, a := range doc["amendments"].([]any) {
				for _, s := range at(a, "spots").([]any) {
					if s.(map[string]any)["by_hand"] != nil {
						t.Errorf("%v is left to do by hand: %v", at(a, "name"), at(s, "by_hand"))
					}
					written++
				}
			}
			for _, worse := range doc["worse"].([]any) {
				t.Errorf("worse: %v", worse)
			}
			one.lab("modify", one.dir, filepath.Join(to, "marrowick.example", "change.ldif"))
			must(t, dir, "gather", write(t, filepath.Join(t.TempDir(), "marrowick.ldif"), one.lab("export", one.dir)))
			sameFindings(t, "applied", want, openFindings(t, dir))
			settled += len(was) - len(want)
			for _, a := range document(t, dir, "amend", "--status")["amendments"].([]any) {
				if at(a, "took") != at(a, "of") {
					t.Errorf("%v did not take: %v", at(a, "name"), at(a, "places"))
				}
			}
			one.lab("modify", one.dir, filepath.Join(to, "marrowick.example", "undo.ldif"))
			if is, was := settingsOf(one.lab("export", one.dir)), settingsOf(before); is != was {
				t.Errorf("undone, the directory has other settings than before: %s", firstDifference(is, was))
			}
			must(t, dir, "gather", write(t, filepath.Join(t.TempDir(), "marrowick.ldif"), one.lab("export", one.dir)))
			sameFindings(t, "undone", was, openFindings(t, dir))
			for _, a := range document(t, dir, "amend", "--status")["amendments"].([]any) {
				if at(a.(map[string]any)["places"].([]any)[0], "state") != "undone" {
					t.Errorf("%v is undone, and said to be %v", at(a, "name"), at(a, "places"))
				}
			}
		})
	}
	t.Logf("%d changes written, %d findings settled", written, settled)
}

// firstDifference is the first line in which two texts differ.
func firstDifference(is, was string) string {
	x, y := strings.Split(is, "\n"), strings.Split(was, "\n")
	for i := range min(len(x), len(y)) {
		if x[i] != y[i] {
			return fmt.Sprintf("%q, was %q", x[i], y[i])
		}
	}
	return fmt.Sprintf("%d lines, were %d", len(x), len(y))
}

// A real server with the password-policy overlay takes the change records; what it
// takes and refuses then is what the amended settings say.
func TestAmendRealPasswordPolicy(t *testing.T) {
	beside(t)
	labtest.Wanted(t)
	c := newClub(t, "overlay ppolicy\nppolicy_default cn=default,ou=policies,dc=club,dc=example\n", clubPolicies, "skerry", "holm:on paper",
		"tarn:masters")
	dir := begin(t)
	against(t, dir, "pci-dss-4")
	gather := func() {
		t.Helper()
		for _, base := range []string{"dc=club,dc=example", "cn=config"} {
			must(t, dir, "gather", write(t, filepath.Join(t.TempDir(), strings.ReplaceAll(base, "=", "")+".ldif"), c.tool("/usr/sbin/slapcat", "-F",
				filepath.Join(c.home, "config"), "-b", base)))
		}
	}
	modify := func(file string) {
		t.Helper()
		c.tool("ldapmodify", "-H", c.address, "-x", "-D", "cn=root,dc=club,dc=example", "-w", "Beacon-Root-1", "-f", file)
	}
	gather()
	was := openFindings(t, dir)
	if !c.change("holm", firstPassword, "short") {
		t.Error("before: the server refuses a short password, where its policy is on paper only")
	}
	to := filepath.Join(t.TempDir(), "change")
	_, want := amendTo(t, dir, to, was)
	modify(filepath.Join(to, "club.example", "change.ldif"))
	gather()
	sameFindings(t, "applied", want, openFindings(t, dir))
	for _, who := range []string{"skerry", "holm", "tarn"} {
		doc := document(t, dir, "trace", who)
		setting := func(id string) int {
			n, _ := at(doc, "settings", id, "value").(float64)
			return int(n)
		}
		least, tries := setting("min-length"), setting("lockout-threshold")
		if least < 12 || tries == 0 {
			t.Errorf("%s: amended, the least length is %d and %d tries lock", who, least, tries)
		}
		if setting("min-age") == 0 { // else nobody changes it today
			if c.change(who, firstPassword, strings.Repeat("y", least-1)) {
				t.Errorf("%s: %d characters are taken, where %d are the least", who, least-1, least)
			}
			if !c.change(who, firstPassword, strings.Repeat("z", least)) {
				t.Errorf("%s: %d characters are refused", who, least)
			}
		}
		for range tries {
			c.signsIn(who, "wrong")
		}
		if c.signsIn(who, firstPassword) || c.signsIn(who, strings.Repeat("z", least)) {
			t.Errorf("%s: not locked after %d tries", who, tries)
		}
	}
	modify(filepath.Join(to, "club.example", "undo.ldif"))
	gather()
	sameFindings(t, "undone", was, openFindings(t, dir))
}

// On real machines the ordinary patch and the script come to what was said, and the
// real passwd then takes and refuses what the amended settings say.
func TestAmendRealMachine(t *testing.T) {
	beside(t)
	for n, suite := range []string{"bullseye", "bookworm", "trixie"} {
		t.Run(suite, func(t *testing.T) {
			m, rnd, total := newRealMachine(t, suite), rand.New(rand.NewPCG(seed(19), uint64(n))), &compared{}
			m.etc("pam.d/plain", "auth required pam_unix.so nodelay\naccount required pam_permit.so\n")
			os.RemoveAll(filepath.Join(m.dir, "etc/security/pwquality.conf.d"))
			defer m.keep("security/pwquality.conf", "pam.d/common-password", "login.defs", "shadow")() // for the other tests
			written, hand := 0, 0
			for range rounds(3) {
				m.etc("security/pwquality.conf", qualityLines(rnd))
				m.etc("pam.d/common-password", passwordStack(rnd, []string{"pam_pwquality"}))
				m.etc("security/pwhistory.conf", "")
				who := one(rnd, "ada", "bertie")
				m.lab("user", who, rightPassword)
				dir := m.gathered()
				against(t, dir, "cis-debian-12")
				was := openFindings(t, dir)
				to := filepath.Join(t.TempDir(), "change")
				if rows := must(t, dir, "amend", "--format", "csv"); strings.Count(rows, "\n") < 2 {
					continue // nobody can change a password there, and it is said
				}
				doc, _ := amendTo(t, dir, to, was)
				byHand := ""
				for _, a := range doc["amendments"].([]any) {
					for _, s := range at(a, "spots").([]any) {
						if why := s.(map[string]any)["by_hand"]; why != nil {
							byHand += "," + at(a, "name").(string)
							hand++
						} else {
							written++
						}
					}
				}
				if byHand != "" { // what files do is judged alone
					to = filepath.Join(t.TempDir(), "files")
					if len(strings.Split(byHand, ",")) > len(doc["amendments"].([]any)) {
						continue
					}
					doc, _ = amendTo(t, dir, to, was, "--except", byHand[1:])
				}
				want := byAccount(doc, document(t, dir, "weigh", "--all-accounts"))
				before := m.settingFiles()
				patch, _ := filepath.Glob(filepath.Join(to, "*", "etc.patch"))
				for _, p := range patch {
					for _, args := range [][]string{{"--dry-run"}, {}} {
						if out, err := exec.Command("patch", append(args, "-s", "-p1", "-d", m.dir, "-i", p)...).CombinedOutput(); err != nil {
							text, _ := os.ReadFile(p)
							t.Fatalf("patch: %v %s\n%s", err, out, text)
						}
					}
				}
				m.runs(to, "ageing.sh")
				again := m.gathered()
				against(t, again, "cis-debian-12")
				sameFindings(t, "applied", want, byAccount(nil, document(t, again, "weigh", "--all-accounts")))
				var passwords []string
				for range 3 {
					passwords = append(passwords, plainGuess(rnd, 8+rnd.IntN(10), who))
				}
				verdicts, by := probed(t, again, who, passwords)
				for i, password := range passwords {
					m.lab("user", who, rightPassword)
					if out, err := exec.Command("chroot", m.dir, "chage", "-d", time.Now().AddDate(0, 0, -30).Format(time.DateOnly),
						who).CombinedOutput(); err != nil {
						t.Fatalf("%v %s", err, out)
					}
					taken, said := m.changes(who, rightPassword, password)
					total.all++
					switch {
					case verdicts[i] == "cannot tell":
						total.open++
					case (verdicts[i] == "accepted") == taken:
						total.exact++
					case taken:
						t.Errorf("amended, better than the machine: %q is said to be refused by %v, and taken", password, by[i])
					default:
						total.weaker++
						t.Logf("amended, weaker than the machine: %q is said to be accepted; %s", password, said)
					}
				}
				for _, p := range patch {
					if out, err := exec.Command("patch", "-R", "-s", "-p1", "-d", m.dir, "-i", p).CombinedOutput(); err != nil {
						t.Fatalf("patch -R: %v %s", err, out)
					}
				}
				m.lab("user", who, rightPassword)
				m.runs(to, "undo-ageing.sh")
				if is := m.settingFiles(); is != before {
					t.Errorf("undone, the machine has other files than before: %s", firstDifference(is, before))
				}
			}
			t.Logf("%d changes by files, %d by hand; %+v", written, hand, *total)
		})
	}
}

// byAccount are findings by account, and, with a plan, what they are to be: an account
// that ages otherwise stands in another scope.
func byAccount(plan, weighed map[string]any) map[string]string {
	all := map[string]string{}
	ends := map[string]bool{}
	add := func(f any) {
		accounts, _ := f.(map[string]any)["all_accounts"].([]any)
		if accounts == nil {
			accounts, _ = f.(map[string]any)["examples"].([]any)
		}
		text := fmt.Sprint(at(f, "verdict"), " ", at(f, "check"), at(f, "settings"))
		for _, a := range append(accounts, "")[:max(len(accounts), 1)] {
			all[fmt.Sprint(a, " ", text)] = fmt.Sprint(a, " ", text, ": ", at(f, "reason"))
		}
	}
	if plan != nil {
		for _, print := range plan["ends"].([]any) {
			ends[print.(string)] = true
		}
		for _, f := range plan["appear"].([]any) {
			add(f)
		}
	}
	for _, f := range weighed["findings"].([]any) {
		if !ends[at(f, "fingerprint").(string)] {
			add(f)
		}
	}
	return all
}

// runs runs a script of change files on the machine, where there is one.
func (m *realMachine) runs(to, name string) {
	m.t.Helper()
	found, _ := filepath.Glob(filepath.Join(to, "*", name))
	for _, file := range found {
		text, err := os.ReadFile(file)
		if err != nil {
			m.t.Fatal(err)
		}
		cmd := exec.Command("chroot", m.dir, "sh", "-s")
		cmd.Stdin = strings.NewReader(string(text))
		if out, err := cmd.CombinedOutput(); err != nil {
			m.t.Fatalf("%s: %v %s\n%s", name, err, out, text)
		}
	}
}

// settingFiles are the machine's files that amendments change, with the ageing of its
// accounts.
func (m *realMachine) settingFiles() string {
	var b strings.Builder
	for _, name := range []string{"security/pwquality.conf", "security/faillock.conf", "login.defs", "pam.d/common-password",
		"pam.d/common-auth"} {
		text, _ := os.ReadFile(filepath.Join(m.dir, "etc", name))
		fmt.Fprintf(&b, "%s:\n%s\n", name, text)
	}
	shadow, _ := os.ReadFile(filepath.Join(m.dir, "etc/shadow"))
	for line := range strings.Lines(string(shadow)) {
		if f := strings.Split(strings.TrimSuffix(line, "\n"), ":"); len(f) > 6 {
			inactive := f[6]
			if inactive == "" {
				inactive = "-1"
			}
			fmt.Fprintln(&b, f[0], f[3], f[4], f[5], inactive)
		}
	}
	return b.String()
}

// What is asked for wrongly is refused, in words that say what to do.
func TestAmendRefuses(t *testing.T) {
	beside(t)
	audit, there := begin(t), filepath.Join(t.TempDir(), "there")
	os.Mkdir(there, 0o755)
	empty := begin(t)
	domain := "dn: DC=x,DC=example\nobjectClass: domainDNS\nobjectSid: S-1-5-21-1-2-3\nminPwdLength: %d\nlockoutThreshold: " +
		"5\nlockoutDuration: -3000000000\n" +
		"lockOutObservationWindow: -3000000000\n\ndn: CN=Password Settings Container,CN=System,DC=x,DC=example\nobjectClass: " +
		"msDS-PasswordSettingsContainer\n"
	must(t, audit, "gather", write(t, filepath.Join(t.TempDir(), "x.ldif"), fmt.Sprintf(domain, 3)))
	must(t, audit, "weigh")
	needs, needed := "", ""
	for _, a := range document(t, audit, "amend", "--all")["amendments"].([]any) {
		if first := at(a, "first").([]any); len(first) > 0 {
			needs, needed = at(a, "name").(string), first[0].(string)
		}
	}
	for _, c := range []struct {
		dir  string
		args []string
		want string
	}{
		{empty, []string{"amend"}, "weigh first"},
		{audit, []string{"amend", "--pick", "A9999"}, `--pick "A9999": no amendment of weighing 1 is called that`},
		{audit, []string{"amend", "--pick", needs}, needs + " "},
		{audit, []string{"amend", "--except", needed}, "pick " + needed + " too, or leave out both"},
		{audit, []string{"amend", "--scope", "nowhere"}, `--scope "nowhere"`},
		{audit, []string{"amend", "--for", "Nobody"}, "names no owner"},
		{audit, []string{"amend", "--to", there}, "it is there already"},
		{audit, []string{"amend", "--to", filepath.Join(there, "no", "such", "place")}, "no such"},
		{audit, []string{"amend", "--status", "--pick", "A1"}, "--status stands alone"},
	} {
		if _, errs, status := run(t, c.dir, c.args...); status == 0 || !strings.Contains(strings.ToLower(errs), strings.ToLower(c.want)) {
			t.Errorf("%v: %d %s, want %s", c.args, status, errs, c.want)
		}
	}
	if left, _ := filepath.Glob(filepath.Join(there, "*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
	// Of destroyed evidence the plan stays, and no file can be made.
	gone := filepath.Join(t.TempDir(), "gone")
	if err := os.CopyFS(gone, os.DirFS(audit)); err != nil {
		t.Fatal(err)
	}
	must(t, gone, "retire", "--reason", "over", "--destroy")
	must(t, gone, "amend")
	if _, errs, status := run(t, gone, "amend", "--to", filepath.Join(there, "files")); status == 0 ||
		!strings.Contains(errs, "gather the export again") {
		t.Errorf("of destroyed evidence: %d %s", status, errs)
	}
	// Evidence that changed since the record is no ground for amendments.
	must(t, audit, "gather", write(t, filepath.Join(t.TempDir(), "x.ldif"), fmt.Sprintf(domain, 4)))
	if _, errs, status := run(t, audit, "amend"); status == 0 || !strings.Contains(errs, "what is now is not what weighing 1 found") ||
		!strings.Contains(errs, "weigh again") {
		t.Errorf("after a gather: %d %s", status, errs)
	}
}

// The demo's second act: what a part of the change files came to, and what was undone.
func TestAmendSecondAct(t *testing.T) {
	beside(t)
	dir := harbour(t)
	audit := filepath.Join(dir, "audit")
	states := func() map[string]string {
		all := map[string]string{}
		for _, a := range document(t, audit, "amend", "--status")["amendments"].([]any) {
			for _, p := range at(a, "places").([]any) {
				all[fmt.Sprint(at(p, "policy"), ": ", at(a, "title"))] = fmt.Sprint(at(p, "state"), ", ", at(p, "now"))
			}
		}
		return all
	}
	must(t, audit, "amend", "--to", filepath.Join(dir, "change"))
	if got := states()["Executives: Lockout threshold"]; got != "not-yet, never locks" {
		t.Errorf("at once: %s", got)
	}
	for _, act := range []struct {
		later string
		want  map[string]string
	}{
		{"month", map[string]string{"Executives: Lockout threshold": "took, 5 failed attempts",
			"Ticket Kiosks: Minimum length":            "otherwise, 13 characters",
			"Default Domain Policy: Lockout threshold": "not-yet, 10 failed attempts", "gate1: Empty password accepted": "took, off",
			"gate1: Password history": "took, 24 passwords"}},
		{"quarter", map[string]string{"Executives: Lockout threshold": "undone, never locks",
			"Executives: Minimum length": "took, 14 characters"}},
	} {
		must(t, audit, "gather", "--quiet", filepath.Join(dir, "later", act.later))
		must(t, audit, "weigh")
		got := states()
		for what, want := range act.want {
			if got[what] != want {
				t.Errorf("%s: %s is %q, want %q", act.later, what, got[what], want)
			}
		}
	}
	if out := must(t, audit, "drift"); !strings.Contains(out, "Of the change files: ") {
		t.Error("drift says nothing of the change files")
	}
	if out := must(t, audit, "entries", "--kind", "amend"); !strings.Contains(out, "amend") {
		t.Error("the ledger has no entry of the change files")
	}
	must(t, audit, "verify")
}

// A name of the evidence never becomes a line of a change file.
func TestAmendHostileNames(t *testing.T) {
	beside(t)
	dir := begin(t)
	must(t, dir, "gather", write(t, filepath.Join(t.TempDir(), "x.ldif"), "dn: DC=x,DC=example\nobjectClass: domainDNS\nobjectSid: "+
		"S-1-5-21-1-2-3\nminPwdLength: 3\n\n"+
		"dn:: "+base64.StdEncoding.EncodeToString([]byte("CN=a\nchangetype: delete,DC=x,DC=example"))+"\nobjectClass: user\nsAMAccountName: "+
		"a\nuserAccountControl: 544\n"+
		"primaryGroupID: 513\nobjectSid: S-1-5-21-1-2-3-1104\n"))
	must(t, dir, "weigh")
	to := filepath.Join(t.TempDir(), "change")
	must(t, dir, "amend", "--to", to)
	text, err := os.ReadFile(filepath.Join(to, "x.example", "change.ldif"))
	if err != nil || strings.Contains(string(text), "\nchangetype: delete") || !strings.Contains(string(text),
		"replace: userAccountControl\nuserAccountControl: 512") {
		t.Errorf("%v\n%s", err, text)
	}
	hostile := "\x1b]0;x\x07Bo\u202e\u009b2J"
	must(t, dir, "gather", write(t, filepath.Join(t.TempDir(), "y.ldif"), "dn: DC=y,DC=example\nobjectClass: domainDNS\nobjectSid: S-1-5-21-1-2-4\n"+
		"minPwdLength: 3\nmaxPwdAge: 0\n\ndn:: "+base64.StdEncoding.EncodeToString([]byte("CN="+hostile+",DC=y,DC=example"))+"\nobjectClass: user\n"+
		"sAMAccountName:: "+base64.StdEncoding.EncodeToString([]byte(hostile))+"\nuserAccountControl: 544\npwdLastSet: 130000000000000000\n"+
		"primaryGroupID: 513\nobjectSid: S-1-5-21-1-2-4-1104\n"))
	must(t, dir, "weigh")
	to = filepath.Join(t.TempDir(), "again")
	must(t, dir, "amend", "--to", to)
	err = filepath.WalkDir(to, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasSuffix(path, ".inf") {
			return err
		}
		text, err := os.ReadFile(path)
		if i := strings.IndexFunc(string(text), func(r rune) bool {
			return r != '\n' && r != '\r' && r != '\t' && (unicode.IsControl(r) || unicode.Is(unicode.Cf, r))
		}); i >= 0 {
			t.Errorf("%s holds %q", path, text[i:min(len(text), i+20)])
		}
		return err
	})
	if err != nil {
		t.Error(err)
	}
}

// A tenant takes the requests of the change files, and is then as was said; those that
// undo them bring back what was.
func TestAmendTenant(t *testing.T) {
	address, options := standIn(t, "--map", "directory-tenant")
	dir := begin(t)
	against(t, dir, "cis-microsoft-365, pci-dss-4")
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	reply, err := client.PostForm(address+"/oauth2/v2.0/token", url.Values{"grant_type": {"client_credentials"},
		"client_id":     {os.Getenv("STERNLEDGER_CLIENT_ID")},
		"client_secret": {os.Getenv("STERNLEDGER_CLIENT_SECRET")}, "scope": {address + "/.default"}})
	if err != nil {
		t.Fatal(err)
	}
	var token struct {
		Text string `json:"access_token"`
	}
	if err := json.NewDecoder(reply.Body).Decode(&token); err != nil || token.Text == "" {
		t.Fatalf("no token: %v %s", err, reply.Status)
	}
	gather := func() map[string]string {
		t.Helper()
		must(t, dir, append([]string{"gather", "--quiet", address}, options...)...)
		return openFindings(t, dir)
	}
	send := func(file string) {
		t.Helper()
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		var doc struct {
			Requests []struct {
				Method, Path string
				Body         json.RawMessage
			}
		}
		if err := json.Unmarshal(text, &doc); err != nil || len(doc.Requests) == 0 {
			t.Fatalf("%v %s", err, text)
		}
		for _, r := range doc.Requests {
			request, err := http.NewRequest(r.Method, address+r.Path, bytes.NewReader(r.Body))
			if err != nil {
				t.Fatal(err)
			}
			request.Header.Set("Authorization", "Bearer "+token.Text)
			answer, err := client.Do(request)
			if err != nil || answer.StatusCode != http.StatusNoContent {
				t.Fatalf("%s %s: %v %v", r.Method, r.Path, err, answer)
			}
		}
	}
	was := gather()
	to := filepath.Join(t.TempDir(), "change")
	doc, want := amendTo(t, dir, to, was)
	place := ""
	for _, a := range doc["amendments"].([]any) {
		s := at(a, "spots").([]any)[0]
		if why := s.(map[string]any)["by_hand"]; why != nil {
			t.Errorf("%v is left to do by hand: %v", at(a, "title"), why)
		}
		place = at(s, "place").(string)
	}
	if len(was) == len(want) {
		t.Error("nothing is settled")
	}
	send(filepath.Join(to, place, "change.json"))
	sameFindings(t, "applied", want, gather())
	send(filepath.Join(to, place, "undo.json"))
	sameFindings(t, "undone", was, gather())
}

// keep remembers files of the machine's etc, and returns what puts them back.
func (m *realMachine) keep(names ...string) func() {
	was := map[string][]byte{}
	for _, name := range names {
		was[name], _ = os.ReadFile(filepath.Join(m.dir, "etc", name))
	}
	return func() {
		for name, text := range was {
			if err := os.WriteFile(filepath.Join(m.dir, "etc", name), text, 0o640); err != nil {
				m.t.Error(err)
			}
		}
	}
}

// The report, amend and its change files call an amendment by one name; what weighing anew
// leaves out is told with the reason, and not unknown to --pick.
func TestAmendmentsHaveOneName(t *testing.T) {
	beside(t)
	dir := harbour(t)
	audit := filepath.Join(dir, "audit")
	must(t, audit, "report", "--to", filepath.Join(dir, "one.json"))
	var report map[string]any
	if err := json.Unmarshal([]byte(readFile(t, filepath.Join(dir, "one.json"))), &report); err != nil {
		t.Fatal(err)
	}
	doc := document(t, audit, "amend", "--to", filepath.Join(dir, "change"))
	names := func(lists ...any) map[string]string {
		all := map[string]string{}
		for _, list := range lists {
			for _, a := range list.([]any) {
				if old := all[at(a, "name").(string)]; old != "" {
					t.Errorf("%s is two amendments", at(a, "name"))
				}
				all[at(a, "name").(string)] = at(a, "fingerprint").(string)
			}
		}
		return all
	}
	out := doc["left_out"].([]any)
	if is, want := names(doc["amendments"], out), names(report["amendments"]); !maps.Equal(is, want) || len(out) == 0 {
		t.Errorf("amend has %v, report %v", is, want)
	}
	name := at(out[0], "name").(string)
	if _, errs, status := run(t, audit, "amend", "--pick", name); status != 1 || !strings.Contains(errs, name+" was planned, and is left out: it ") {
		t.Errorf("%d %s", status, errs)
	}
	text := readFile(t, filepath.Join(dir, "change", "CHANGE.md"))
	for _, a := range doc["amendments"].([]any) {
		if !strings.Contains(text, at(a, "name").(string)+"") {
			t.Errorf("CHANGE.md has no %s", at(a, "name"))
		}
	}
	// Each change is marked by its name in the file that makes it.
	for _, a := range doc["amendments"].([]any) {
		for _, s := range at(a, "spots").([]any) {
			files, _ := at(s, "files").([]any)
			for _, f := range files {
				if text := strings.ReplaceAll(readFile(t, filepath.Join(dir, "change", filepath.FromSlash(f.(string)))), "\x00", ""); !strings.Contains(text, at(a, "name").(string)+" ") {
					t.Errorf("%s is not marked in %s", at(a, "name"), f)
				}
			}
		}
	}
}
