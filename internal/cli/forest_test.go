package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// domainExport is a small domain's export: DN, SID and further records.
func domainExport(dn, sid string, records ...string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "dn: %s\nobjectClass: domainDNS\nobjectSid: %s\nminPwdLength: 9\n"+
		"oEMInformation: Provisioned by SAMBA 4.17\n\n", dn, sid)
	fmt.Fprintf(&b, "dn: CN=Password Settings Container,CN=System,%s\nobjectClass: msDS-PasswordSettingsContainer\n\n", dn)
	for rid, name := range map[int]string{512: "Domain Admins", 513: "Domain Users"} {
		fmt.Fprintf(&b, "dn: CN=%s,CN=Users,%s\nobjectClass: group\nsAMAccountName: %s\ngroupType: -2147483646\n"+
			"objectSid: %s-%d\nmember: CN=nobody,%s\n\n",
			name, dn, name, sid, rid, dn)
	}
	fmt.Fprintf(&b, "dn: CN=nobody,%s\nobjectClass: user\nsAMAccountName: nobody\nuserAccountControl: 514\nprimaryGroupID: 513\n"+
		"objectSid: %s-1000\n\n", dn, sid)
	for i, r := range records {
		b.WriteString(strings.NewReplacer("DOMAIN", dn, "SID", sid, "RID", fmt.Sprint(2000+i)).Replace(r) + "\n")
	}
	return b.String()
}

// Groups of the root make accounts of another domain privileged, carry its
// policies on, and are named by trace; where the root is not in the evidence,
// that is said.
func TestForest(t *testing.T) {
	const root, yard = "DC=x,DC=example", "DC=yard,DC=x,DC=example"
	src := t.TempDir()
	atRoot := write(t, filepath.Join(src, "root.ldif"), domainExport(root, "S-1-5-21-1-1-1",
		"dn: CN=Enterprise Admins,CN=Users,DOMAIN\nobjectClass: group\nsAMAccountName: Enterprise Admins\n"+
			"groupType: -2147483640\nobjectSid: SID-519\n"+
			"member: CN=Ada,CN=Users,"+yard+"\n",
		"dn: CN=Harbour,CN=Users,DOMAIN\nobjectClass: group\nsAMAccountName: Harbour\ngroupType: -2147483640\nobjectSid: SID-RID\n"+
			"member: CN=Bo,CN=Users,"+yard+"\n"))
	atYard := write(t, filepath.Join(src, "yard.ldif"), domainExport(yard, "S-1-5-21-2-2-2",
		"dn: CN=Ada,CN=Users,DOMAIN\nobjectClass: user\nsAMAccountName: ada\nuserAccountControl: 512\n"+
			"primaryGroupID: 513\nobjectSid: SID-RID\nmemberOf: \n",
		"dn: CN=Bo,CN=Users,DOMAIN\nobjectClass: user\nsAMAccountName: bo\nuserAccountControl: 512\nprimaryGroupID: 513\nobjectSid: SID-RID\n",
		"dn: CN=Keepers,CN=Users,DOMAIN\nobjectClass: group\nsAMAccountName: Keepers\ngroupType: -2147483644\nobjectSid: SID-RID\n"+
			"member: CN=Harbour,CN=Users,"+root+"\n",
		"dn: CN=Administrators,CN=Builtin,DOMAIN\nobjectClass: group\nsAMAccountName: Administrators\n"+
			"groupType: -2147483643\nobjectSid: S-1-5-32-544\n"+
			"member: CN=Enterprise Admins,CN=Users,"+root+"\n",
		"dn: CN=Long,CN=Password Settings Container,CN=System,DOMAIN\nobjectClass: msDS-PasswordSettings\nmsDS-PasswordSettingsPrecedence: 1\n"+
			"msDS-MinimumPasswordLength: 20\nmsDS-PSOAppliesTo: CN=Keepers,CN=Users,DOMAIN\n"))
	row := func(dir, name string) string {
		for line := range strings.Lines(must(t, dir, "accounts", "--format", "csv")) {
			if strings.HasPrefix(line, "yard.x.example,"+name+",") {
				return line
			}
		}
		t.Fatalf("no account %s", name)
		return ""
	}
	for _, order := range [][]string{{atRoot, atYard}, {atYard, atRoot}} {
		dir := begin(t)
		must(t, dir, "gather", order[0])
		must(t, dir, "gather", order[1])
		doc := document(t, dir, "trace", "ada")
		if at(doc, "account", "tier") != "privileged" ||
			at(doc, "account", "tier_rule") != "member of Enterprise Admins of the domain x.example" {
			t.Errorf("ada: %v", doc["account"])
		}
		doc = document(t, dir, "trace", "bo")
		if at(doc, "governing", "policy") != "Long" || fmt.Sprint(at(doc, "candidates", 0, "via")) != "[Keepers Harbour of x.example]" ||
			at(doc, "account", "tier") != "standard" {
			t.Errorf("bo: %v %v", doc["governing"], doc["candidates"])
		}
		if found := checksIn(t, dir); found["member-elsewhere"] != nil {
			t.Errorf("both are there: %v", found["member-elsewhere"])
		}
		if windows := row(dir, "bo"); !strings.Contains(windows, "Long") {
			t.Errorf("%s", windows)
		}
	}
	alone := begin(t)
	must(t, alone, "gather", atYard)
	if doc := document(t, alone, "trace", "bo"); at(doc, "governing", "rule") != "unknown" ||
		!strings.Contains(fmt.Sprint(doc["notes"]), "x.example, which is not in the evidence") {
		t.Errorf("bo without the root: %v %v", doc["governing"], doc["notes"])
	}
	found := checksIn(t, alone)["member-elsewhere"]
	reason := fmt.Sprint(at(found, "reason"))
	if at(found, "severity") != "serious" || !strings.Contains(reason, "what governs ") ||
		!strings.Contains(reason, "2 members of Administrators, Keepers: of the domain x.example, which is not in the evidence; among them are "+
			"members of administrative groups") {
		t.Errorf("%v", found)
	}
	// The windows dialect lets no such group carry a policy.
	config := filepath.Join(alone, "engagement.yaml")
	write(t, config, readFile(t, config)+"\nauthorities: {yard.x.example: {dialect: windows}}\n")
	if got := row(alone, "bo"); !strings.Contains(got, "domain default,-,default") {
		t.Errorf("windows: %s", got)
	}
	other := begin(t)
	must(t, other, "gather", atRoot)
	if found := checksIn(t, other)["member-elsewhere"]; found == nil || !strings.Contains(fmt.Sprint(found["reason"]), "yard.x.example") {
		t.Errorf("the root alone: %v", found)
	}
	part := begin(t)
	less := strings.SplitN(readFile(t, atYard), "dn: CN=Ada,", 2)
	_, behind, _ := strings.Cut(less[1], "\n\n")
	must(t, part, "gather", atRoot, write(t, filepath.Join(src, "less.ldif"), less[0]+behind))
	if found := checksIn(t, part)["member-elsewhere"]; found == nil ||
		!strings.Contains(fmt.Sprint(found["reason"]), "whose evidence does not hold them") {
		t.Errorf("without ada: %v", found)
	}
}

func readFile(t *testing.T, name string) string {
	t.Helper()
	text, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}
