package collect

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// What administrators hand over and is not read is called what it is, with the one thing to
// ask for; a text that nobody knows gets the three nearest at most.
func TestFormsThatAreNotRead(t *testing.T) {
	e := engagementIn(t)
	for name, c := range map[string]struct{ text, what, instead string }{
		"Get-ADDomain":        {"\nChildDomains : {}\nDistinguishedName : DC=x,DC=example\nDomainMode : Windows2016Domain\nPDCEmulator : dc1\n", "the domain's own properties", "Get-ADDefaultDomainPasswordPolicy"},
		"Get-ADDomain, JSON":  {"{\n \"DomainMode\": 7,\n \"PDCEmulator\": \"dc1\"\n}", "the domain's own properties", "LDIF"},
		"Get-ADDomain, CSV":   {"\"DistinguishedName\",\"DomainMode\",\"PDCEmulator\"\n\"DC=x,DC=example\",\"7\",\"dc1\"\n", "the domain's own properties", "LDIF"},
		"Get-GPO":             {"\nDisplayName : Quays\nGpoStatus : AllSettingsEnabled\nComputerVersion : AD Version: 3, SysVol Version: 3\n", "a group policy's properties", "Backup-GPO"},
		"Get-GPInheritance":   {"\nName : x\nGpoInheritanceBlocked : No\nGpoLinks : {Quays}\n", "what is linked where", "units as LDIF"},
		"gpresult /r":         {"\n\nMicrosoft (R) Windows (R) Operating System Group Policy Result tool v2.0\n(C) Microsoft Corporation.\n", "a summary of resulting policies", "gpresult /x"},
		"gpresult, German":    {"\nMicrosoft (R) Windows (R) Betriebssystem Gruppenrichtlinienergebnis-Tool v2.0\n(c) Microsoft\n", "a summary of resulting policies", "gpresult /x"},
		"gpresult, French":    {"\nMicrosoft (R) Windows (R) Outil de résultat de stratégie de groupe v2.0\n", "a summary of resulting policies", "gpresult /x"},
		"repadmin":            {"Repadmin: running command /showattr against full DC dc1\n\nDN: DC=x,DC=example\n    1> minPwdLength: 7\n", "repadmin", "LDIF"},
		"dsquery user":        {"\"CN=Ada,DC=x,DC=example\"\n\"CN=Bo,DC=x,DC=example\"\n", "names alone (dsquery)", "LDIF"},
		"dsquery -attr *":     {"objectClass: top\nobjectClass: domain\nobjectClass: domainDNS\ndistinguishedName: DC=x,DC=example\nminPwdLength: 7\n", "dsquery", "LDIF"},
		"net user /domain":    {"The request will be processed at a domain controller for domain x.example.\n\nUser name                    ada\nFull Name                    Ada\nComment                      \nUser's comment               \nCountry/region code          000\nAccount active               Yes\nAccount expires              Never\n\n", "net user, of one account", "LDIF"},
		"net user, German":    {"Benutzername                 ada\nVollständiger Name           Ada\nBeschreibung                 \nBenutzerbeschreibung         \nLänder-/Regionscode          000\nKonto aktiv                  Ja\nKonto abgelaufen             Nie\n\n", "net user, of one account", "Get-LocalUser"},
		"net group":           {"Group name     Domain Admins\nComment        Designated\n\nMembers\n\n-----------------------------------------------------\nada    bo\n", "members of a group", "Get-ADGroupMember"},
		"a table by hand":     {"badge,length,locks\nharbour,6,3\n", "a table", "gather --sheet-template"},
		"JSON of nobody":      {"{\"a\": {\"b\": 1}}", "JSON", "field map"},
		"XML of nobody":       {"<a><b/></a>", "XML", "group-policy report"},
		"a text":              {"dear auditor\nas you asked\n", "a text", "LDIF"},
		"names and values":    {"Length of words: 8\nTries: 3\n", "names and values", "shell objects"},
		"sections":            {"[Quay]\nlength=8\n", "sections and keys", "security template"},
		"bytes":               {"\x00\x01\x02\x03quay", "begins with the bytes 00 01 02 03", ""},
		"a script's own JSON": {"[\n {\"length\": 8}]", "JSON", "shell objects"},
	} {
		file := filed(t, t.TempDir(), "given.txt", c.text)
		_, _, _, err := look(e, []string{file}, nil)
		if err == nil || !strings.Contains(err.Error(), c.what) || !strings.Contains(err.Error(), c.instead) {
			t.Errorf("%s: %v, want %q and %q", name, err, c.what, c.instead)
			continue
		}
		_, nearest, _ := strings.Cut(err.Error(), "the nearest: ")
		if n := strings.Count(nearest, ";"); n > 3 {
			t.Errorf("%s: more than three: %s", name, nearest)
		}
	}
}

// Of two backups of one policy the newer counts, by its own time.
func TestBackupsOfOnePolicy(t *testing.T) {
	dir := t.TempDir()
	backup := func(id, policy, made, length string) {
		at := filepath.Join(dir, "in", id)
		filed(t, at, "bkupInfo.xml", `<BackupInst><GPOGuid><![CDATA[`+policy+`]]></GPOGuid><GPODomain><![CDATA[x.example]]></GPODomain><BackupTime><![CDATA[`+
			made+`]]></BackupTime><ID><![CDATA[`+id+`]]></ID><GPODisplayName><![CDATA[Quays]]></GPODisplayName></BackupInst>`)
		filed(t, at, "DomainSysvol/GPO/Machine/microsoft/windows nt/SecEdit/GptTmpl.inf", "[Unicode]\r\nUnicode=yes\r\n[System Access]\r\n"+
			"MinimumPasswordLength = "+length+"\r\n[Version]\r\nsignature=\"$CHICAGO$\"\r\nRevision=1\r\n")
	}
	const one, two = "{31B2F340-016D-11D2-945F-00C04FB984F9}", "{6AC1786C-016F-11D2-945F-00C04FB984F9}"
	backup("{AAAAAAAA-0000-0000-0000-000000000001}", one, "2026-03-01T09:00:00", "8")
	backup("{AAAAAAAA-0000-0000-0000-000000000002}", one, "2026-10-01T09:00:00", "14")
	backup("{AAAAAAAA-0000-0000-0000-000000000003}", one, "2025-10-01T09:00:00", "6")
	backup("{AAAAAAAA-0000-0000-0000-000000000004}", two, "2025-10-01T09:00:00", "5")
	e := engagementIn(t)
	got, err := Gather(e, []string{filepath.Join(dir, "in")}, GatherOptions{})
	if err != nil {
		t.Fatal(err)
	}
	lengths := map[string]int64{}
	for _, x := range got.Templates {
		lengths[x.GUID], _ = x.Policy.Settings["min-length"].Value.Number()
	}
	if len(lengths) != 2 || lengths[one] != 14 || lengths[two] != 5 {
		t.Errorf("%v", lengths)
	}
	older := 0
	for _, p := range got.Passed {
		if strings.Contains(p.Why, "and there is one of 2026-10-01T09:00:00") {
			older++
		}
	}
	if older != 2 {
		t.Errorf("passed over: %+v", got.Passed)
	}
	if left, err := os.ReadDir(filepath.Join(e.Dir, "evidence")); err != nil || len(left) != 2 {
		t.Errorf("%v %v", left, err)
	}
}
