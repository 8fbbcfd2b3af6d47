package cli_test

import (
	"path/filepath"
	"strings"
	"testing"
)

const (
	headJSON = `{"ComplexityEnabled":true,"DistinguishedName":"DC=quay,DC=example","LockoutDuration":{"Ticks":18000000000,` +
		`"TotalSeconds":1800},` +
		`"LockoutObservationWindow":{"Ticks":18000000000,"TotalSeconds":1800},"LockoutThreshold":5,` +
		`"MaxPasswordAge":{"Ticks":36288000000000,"TotalSeconds":3628800},` +
		`"MinPasswordAge":{"Ticks":864000000000,"TotalSeconds":86400},"MinPasswordLength":12,"PasswordHistoryCount":24,` +
		`"ReversibleEncryptionEnabled":false}`
	fineList = "\r\n\r\nAppliesTo                   : {CN=Pilots,OU=Groups,DC=quay,DC=example}\r\nComplexityEnabled           : True\r\n" +
		"DistinguishedName           : CN=Pilots,CN=Password Settings Container,CN=Sys\r\n                              " +
		"tem,DC=quay,DC=example\r\n" +
		"LockoutDuration             : 00:00:00\r\nLockoutObservationWindow    : 00:15:00\r\nLockoutThreshold            : 3\r\n" +
		"MaxPasswordAge              : 90.00:00:00\r\nMinPasswordAge              : 1.00:00:00\r\nMinPasswordLength           : 15\r\n" +
		"Name                        : Pilots\r\nPasswordHistoryCount        : 24\r\nPrecedence                  : " +
		"10\r\nReversibleEncryptionEnabled : False\r\n\r\n"
	groupsCSV = "\"DistinguishedName\";\"SamAccountName\";\"SID\";\"GroupCategory\";\"GroupScope\";\"Members\"\r\n" +
		"\"CN=Pilots,OU=Groups,DC=quay,DC=example\";\"Pilots\";\"S-1-5-21-1-2-3-1200\";\"Security\";\"Global\";\"CN=Ada " +
		"Reed,OU=Staff,DC=quay,DC=example\"\r\n" +
		"\"CN=Domain Users,CN=Users,DC=quay,DC=example\";\"Domain Users\";\"S-1-5-21-1-2-3-513\";\"Security\";\"Global\";\"\"\r\n"
	accountsTable = "\r\nDistinguishedName                       SamAccountName Enabled PasswordNeverExpires PasswordNotRequired " +
		"PrimaryGroupID\r\n" +
		"-----------------                       -------------- ------- -------------------- ------------------- --------------\r\n" +
		"CN=Ada Reed,OU=Staff,DC=quay,DC=example ada               True                False               False            513\r\n" +
		"CN=Bo Finn,OU=Staff,DC=quay,DC=example  bo                True                 True               False            513\r\n\r\n\r\n"
	resultXML = `<Rsop xmlns="http://www.microsoft.com/GroupPolicy/Rsop"><ComputerResults><Name>QUAY\WEIGH1$</Name><Domain>` +
		`quay.example</Domain>` +
		`<ExtensionData><Extension xmlns:q1="http://www.microsoft.com/GroupPolicy/Settings/Security"><q1:Account><q1:Name>` +
		`MinimumPasswordLength</q1:Name>` +
		`<q1:SettingNumber>8</q1:SettingNumber></q1:Account></Extension></ExtensionData></ComputerResults></Rsop>`
)

// What an administrator sends is a mixed bag: it is joined to one domain, what cannot
// be read is named, and what a machine displays stands beside what governs.
func TestMixedBag(t *testing.T) {
	beside(t)
	dir, src := begin(t), t.TempDir()
	for name, text := range map[string]string{"default.json": headJSON, "fine.txt": fineList, "groups.csv": groupsCSV,
		"accounts.txt": accountsTable,
		"weigh1.xml":   resultXML, "chage.txt": "Last password change\t\t\t\t\t: Mar 01, 2026\nPassword expires\t\t\t\t\t: never\nPassword " +
			"inactive\t\t\t\t\t: never\n" +
			"Account expires\t\t\t\t\t\t: never\n", "report.html": "<!DOCTYPE html><html><body>Sicherheit</body></html>",
		"db.7z": "7z\xbc\xaf\x27\x1c0000"} {
		write(t, filepath.Join(src, name), text)
	}
	doc := document(t, dir, "gather", src)
	if n := len(doc["passed_over"].([]any)); n != 3 {
		t.Fatalf("passed over %v", doc["passed_over"])
	}
	for i, want := range []string{"etc as a tree", "as .zip or .tar.gz", "saved as XML"} {
		if got := at(doc, "passed_over", i, "instead").(string); !strings.Contains(got, want) {
			t.Errorf("%v: instead %q, want %s", at(doc, "passed_over", i, "path"), got, want)
		}
	}
	if _, errs, status := run(t, dir, "gather", filepath.Join(src, "chage.txt"), "--strict"); status == 0 ||
		!strings.Contains(errs, "ageing of one account (chage -l)") {
		t.Errorf("%d %s", status, errs)
	}
	group := write(t, filepath.Join(t.TempDir(), "gruppe.txt"), "Aliasname         Administratoren\r\nBeschreibung      Administratoren "+
		"haben uneingeschränkten Zugriff\r\n\r\nMitglieder\r\n\r\n"+
		strings.Repeat("-", 79)+"\r\nAdministrator\r\nQUAY\\Domänen-Admins\r\nDer Befehl wurde erfolgreich ausgeführt.\r\n")
	if _, errs, status := run(t, dir, "gather", group); status == 0 || !strings.Contains(errs, "members of a group (net group, net localgroup)") {
		t.Errorf("%d %s", status, errs)
	}
	ada := document(t, dir, "trace", "ada")
	if at(ada, "governing", "policy") != "Pilots" || at(ada, "settings", "lockout-duration", "special") != "until-admin" ||
		at(ada, "displayed_settings", "min-length", "value") != 8.0 {
		t.Errorf("%v %v %v", ada["governing"], ada["settings"], ada["displayed_settings"])
	}
	if bo := document(t, dir, "trace", "bo"); at(bo, "governing", "rule") != "default" || at(bo, "settings", "min-length", "value") != 12.0 {
		t.Errorf("%v", bo["governing"])
	}
	out := must(t, dir, "weigh", "--findings")
	for _, want := range []string{"displayed-is-not-governing", "displays minimum length 8"} {
		if !strings.Contains(strings.Join(strings.Fields(out), " "), want) {
			t.Errorf("%s is not in\n%s", want, out)
		}
	}
	if out := must(t, dir, "scopes", "--verbose"); !strings.Contains(out, "Displayed by weigh1") {
		t.Errorf("%s", out)
	}
	must(t, dir, "verify")
}

// A machine's settings and its accounts come in files of their own, in one gather or
// one after the other; newer settings leave the accounts as they were.
func TestMachineInPieces(t *testing.T) {
	beside(t)
	const (
		users = "\"Name\",\"Enabled\",\"PasswordRequired\",\"PasswordExpires\",\"PasswordLastSet\",\"SID\"\r\n\"clerk\",\"True\",\"True\",\"2026-05-04 09:10:11\"," +
			"\"2026-03-04 09:10:11\",\"S-1-5-21-7-8-9-1001\"\r\n"
		inf = "[Unicode]\r\nUnicode=yes\r\n[System Access]\r\nMinimumPasswordLength = %s\r\nPasswordComplexity = 1\r\n"
		reg = "Windows Registry Editor Version " +
			"5.00\r\n\r\n[HKEY_LOCAL_MACHINE\\SYSTEM\\CurrentControlSet\\Control\\Lsa]\r\n\"NoLMHash\"=dword:00000001\r\n"
	)
	pieces := map[string]string{"weigh1-users.csv": users, "weigh1.inf": strings.ReplaceAll(inf, "%s", "9"), "weigh1.reg": reg}
	check := func(dir, when string, length float64) {
		t.Helper()
		trace := document(t, dir, "trace", "clerk")
		if at(trace, "governing", "rule") != "machine" || at(trace, "settings", "min-length", "value") != length ||
			at(trace, "settings", "lm-hash-stored", "value") != false {
			t.Errorf("%s: %v %v", when, trace["governing"], trace["settings"])
		}
	}
	dir, src := begin(t), t.TempDir()
	for name, text := range pieces {
		write(t, filepath.Join(src, name), text)
	}
	must(t, dir, "gather", src, "--quiet")
	check(dir, "at once", 9)
	dir = begin(t)
	for _, name := range []string{"weigh1-users.csv", "weigh1.reg", "weigh1.inf"} {
		must(t, dir, "gather", filepath.Join(src, name), "--quiet")
	}
	check(dir, "one after the other", 9)
	must(t, dir, "gather", write(t, filepath.Join(src, "new", "weigh1.inf"), strings.ReplaceAll(inf, "%s", "12")), "--quiet")
	check(dir, "with newer settings", 12)
	must(t, dir, "verify")
}

// The pages to mail are whole, and fit a mail.
func TestAsk(t *testing.T) {
	beside(t)
	for kind, command := range map[string]string{"domain": "ldifde -f", "machine": "secedit /export", "unix": "tar -C \"$to\"",
		"ldap":   "ldapsearch -H",
		"tenant": "GET /v1.0/domains"} {
		out := must(t, t.TempDir(), "gather", "--ask", kind)
		for _, want := range []string{command, "What it reads:", "Rights:", "What it does not hold:"} {
			if !strings.Contains(out, want) {
				t.Errorf("%s: no %q in\n%s", kind, want, out)
			}
		}
		for line := range strings.Lines(out) {
			if !strings.HasPrefix(line, "    ") && (len(line) > 80 || strings.ContainsAny(line, "`*")) {
				t.Errorf("%s: %s", kind, line)
			}
		}
		if out := must(t, t.TempDir(), "gather", "--ask", kind, "--format", "markdown"); !strings.HasPrefix(out, "### "+kind+": ") {
			t.Errorf("%.80s", out)
		}
	}
	for _, want := range []string{"Account: auditor@quay.example, an ordinary", "Ports", "445", "dsacls", "fSMORoleOwner", "msDS-PSOAppliesTo",
		"GptTmpl.inf", "msDS-PasswordSettingsContainer"} {
		if out := must(t, t.TempDir(), "gather", "--ask", "live", "--bind", "auditor@quay.example"); !strings.Contains(out, want) {
			t.Errorf("live: no %q in\n%s", want, out)
		}
	}
	if _, errs, status := run(t, t.TempDir(), "gather", "--ask", "moon"); status != 2 || !strings.Contains(errs, "expected domain, machine") {
		t.Errorf("%d %s", status, errs)
	}
}
