package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// everybody is a security descriptor by which everybody reads and applies a policy (MS-DTYP 2.4.6).
const everybody = "AQAEgAAAAAAAAAAAAAAAABQAAAAEAEQAAgAAAAAAFACUAAIAAQEAAAAAAAULAAAABQAoAAABAAABAAAAj/2s7bP/0RG0HQCgyWj5OQEBAAAAAAAFCwAAAA=="

// A policy is made of several files. One that is gathered anew takes the place of the
// older one of its form, and the others stay; one that is set aside takes what it said
// along; preferences go before the rest.
func TestPolicyOfSeveralFiles(t *testing.T) {
	const guid = "{5A0E1C52-0B77-4A51-9D5C-1D8A4B5C0001}"
	dir, src := begin(t), t.TempDir()
	in := func(name, text string) {
		write(t, filepath.Join(src, "x.example", "Policies", guid, "Machine", filepath.FromSlash(name)), text)
	}
	const template, registry = "Microsoft/Windows NT/SecEdit/GptTmpl.inf", "Registry.pol"
	in(template, inf("MinimumPasswordLength = 9"))
	in(registry, pol(`Software\Microsoft\Windows\CurrentVersion\Policies\LAPS`, "BackupDirectory", 1))
	must(t, dir, "gather", write(t, filepath.Join(src, "x.ldif"), strings.Replace(smallHead, "minPwdLength:",
		"gPLink: [LDAP://CN="+guid+",CN=Policies,CN=System,DC=x,DC=example;0]\nminPwdLength:", 1)+smallUser+
		"\ndn: CN=PC1,CN=Computers,DC=x,DC=example\nobjectClass: top\nobjectClass: computer\nsAMAccountName: PC1$\n"+
		"primaryGroupID: 515\nuserAccountControl: 4096\n\ndn: CN="+guid+",CN=Policies,CN=System,DC=x,DC=example\nobjectClass: "+
		"groupPolicyContainer\n"+
		"displayName: Berth rules\ngPCFileSysPath: x\n"+
		"gPCMachineExtensionNames: [{35378EAC-683F-11D2-A89A-00C04FBBCFA2}{0F6B957D-509E-11D1-A7CC-0000F87571E3}]\n"+
		"nTSecurityDescriptor:: "+everybody+"\n\n"), src)
	managed := func() string { // what is found of local administrators' passwords
		t.Helper()
		must(t, dir, "weigh")
		found := ""
		for line := range strings.SplitSeq(must(t, dir, "weigh", "--findings", "--format", "csv"), "\n") {
			if _, name, is := strings.Cut(line, "local-administrator-"); is {
				name, _, _ = strings.Cut(name, ",")
				found += name
			}
		}
		return found
	}
	held := func(step, want string) {
		t.Helper()
		if got := managed(); got != want {
			t.Errorf("%s: %q, want %q", step, got, want)
		}
	}
	held("a registry file that has them managed", "")
	if out := must(t, dir, "gather", src); !strings.Contains(out, "nothing new") {
		t.Errorf("the same again is new:\n%s", out)
	}
	in(template, inf("MinimumPasswordLength = 10"))
	if out := must(t, dir, "gather", src); strings.Count(out, "taken\n") != 1 && strings.Count(out, "; taken") != 1 {
		t.Errorf("one file has changed:\n%s", out)
	}
	held("another template", "")
	must(t, dir, "set-aside", "registry-5A0E1C52.pol", "--reason", "another policy's")
	held("the registry file set aside", "open")
	must(t, dir, "set-aside", "registry-5A0E1C52.pol", "--take-back", "--reason", "it was right")
	held("taken back", "")
	in("Preferences/Registry/Registry.xml", `<RegistrySettings><Registry><Properties action="U" hive="HKEY_LOCAL_MACHINE" `+
		`key="Software\Microsoft\Windows\CurrentVersion\Policies\LAPS" name="BackupDirectory" type="REG_DWORD" value="00000000"/></Registry>`+
		`</RegistrySettings>`)
	must(t, dir, "gather", src)
	held("preferences that switch them off", "unmanaged")
	in(registry, pol(`Software\Microsoft\Windows\CurrentVersion\Policies\LAPS`, "BackupDirectory", 2))
	must(t, dir, "gather", src)
	held("another registry file", "unmanaged")
	gone := func(name string, change int) {
		if err := os.Remove(filepath.Join(src, "x.example", "Policies", guid, "Machine", filepath.FromSlash(name))); err != nil {
			t.Fatal(err)
		}
		in(template, inf(fmt.Sprintf("MinimumPasswordLength = %d", change)))
	}
	gone("Preferences/Registry/Registry.xml", 11)
	must(t, dir, "gather", filepath.Join(src, "x.example", "Policies", guid, "Machine", filepath.FromSlash(template)))
	held("the template alone", "unmanaged")
	in(template, inf("MinimumPasswordLength = 12"))
	must(t, dir, "gather", src)
	held("the folder, without the preferences", "")
	gone(registry, 13)
	told := strings.Join(strings.Fields(must(t, dir, "gather", src)), " ")
	if !strings.Contains(told, "policy "+guid+", files: 1 now, 2 before; not there any more: registry-5A0E1C52-2.pol") {
		t.Errorf("the registry file's loss is not told:\n%s", told)
	}
	held("the folder, without the registry file", "open")
	in(registry, pol(`Software\Microsoft\Windows\CurrentVersion\Policies\LAPS`, "BackupDirectory", 1))
	must(t, dir, "gather", src)
	held("the registry file again", "")
	gone(registry, 13)
	if out := must(t, dir, "gather", src); !strings.Contains(out, "Less than before") {
		t.Errorf("nothing is new, but that a file is gone:\n%s", out)
	}
	held("nothing new, and the registry file gone", "open")
	if out := must(t, dir, "gather", src); !strings.Contains(out, "nothing new") {
		t.Errorf("the same again is new:\n%s", out)
	}
	must(t, dir, "gather", src, "--less-is-right", "taken out of the policy")
	held("rightly gone", "unmanaged")
	in(registry, pol(`Software\Microsoft\Windows\CurrentVersion\Policies\LAPS`, "BackupDirectory", 1))
	must(t, dir, "gather", src)
	held("back again", "")
	elsewhere := t.TempDir()
	write(t, filepath.Join(elsewhere, "today", guid, "Machine", filepath.FromSlash(template)), inf("MinimumPasswordLength = 14"))
	must(t, dir, "gather", elsewhere)
	held("the policy's folder from elsewhere, without the registry file", "open")
	must(t, dir, "verify")
}
