package collect

import (
	"bytes"
	"path"
	"regexp"
	"slices"
	"strings"

	"sternledger/internal/intake"
	"sternledger/internal/intake/ldif"
	"sternledger/internal/intake/netaccounts"
	"sternledger/internal/intake/sheet"
	"sternledger/internal/intake/shell"
	"sternledger/internal/intake/template"
)

// refusal is something that administrators hand over, that is recognised and not
// read: what it is, and what to ask for in its place.
type refusal struct {
	what    string
	instead string
	is      func(file string, head, text []byte) bool
}

// refusals are asked in this order; a new one is one more row.
var refusals = []refusal{
	{"a directory database", "an export of it: ldifde -f domain.ldif on the controller, or LDIF by ldapsearch", begins("\xef\xcd\xab\x89", 4)},
	{"a database of Samba", "its export as LDIF: ldbsearch -H sam.ldb > domain.ldif", begins("TDB file", 0)},
	{"a registry hive", "the machine's settings: secedit /export /cfg MACHINE.inf", begins("regf", 0)},
	{"an archive of 7-Zip", "the same files as .zip or .tar.gz", begins("7z\xbc\xaf\x27\x1c", 0)},
	{"an archive of RAR", "the same files as .zip or .tar.gz", begins("Rar!", 0)},
	{"an event log", "the settings, not the events: secedit /export /cfg MACHINE.inf", begins("ElfFile", 0)},
	{"a SQLite database", "an export of it as text", begins("SQLite format 3", 0)},
	{"a PDF", "the export itself; what was only seen on a screen goes into a sheet (gather --sheet-template)", begins("%PDF", 0)},
	{"a picture", "the export itself; what was only seen on a screen goes into a sheet (gather --sheet-template)",
		anyOf(begins("\x89PNG", 0), begins("\xff\xd8\xff", 0), begins("GIF8", 0))},
	{"a benchmark document (XCCDF, OVAL)", "nothing: it is no evidence. The shipped baselines: sternledger baseline list",
		anyOf(holds("checklists.nist.gov/xccdf"), holds("oval.mitre.org/XMLSchema"))},
	{"a page (HTML)", "the same report saved as XML or text; of settings, an export that docs/sources.md names",
		anyOf(opens("<!doctype html"), opens("<html"))},
	{"what is linked where (Get-GPInheritance)", storeToo, lists("GpoInheritanceBlocked", "GpoLinks")},
	{"a group policy's properties (Get-GPO)", storeToo, lists("GpoStatus", "ComputerVersion")},
	{"the domain's own properties (Get-ADDomain)", "its settings: Get-ADDefaultDomainPasswordPolicy | Format-List *, or the domain's head as LDIF",
		anyOf(lists("DomainMode", "PDCEmulator"), lists("ForestMode", "SchemaMaster"))},
	{"a summary of resulting policies (gpresult /r)", "the same as XML: gpresult /x result.xml; what governs is told by the directory itself",
		matches(`(?m)\A\s*(?:\(c\)[^\n]*\n)?\s*Microsoft \(R\) Windows \(R\)[^\n]*v2\.0\r?\n`)},
	{"attributes as repadmin shows them", asLDIF, matches(`(?m)^\s*\d+> [A-Za-z-]+: `)},
	{"names alone (dsquery)", asLDIF, matches(`(?im)\A\s*"(?:CN|OU|DC)=[^"\n]*"\s*\r?\n`)},
	{"a directory as dsquery prints it, with attributes", asLDIF, matches(`(?im)\A\s*(?:objectClass: [A-Za-z-]+\s*\r?\n){2,}`)},
	{"net accounts of a domain, which does not name it", "Get-ADDefaultDomainPasswordPolicy | Format-List *, or the domain's head as LDIF",
		func(_ string, head, _ []byte) bool { return netaccounts.OfDomain(head) }},
	{"a directory as dsquery prints it", "the directory as CSV or LDIF: csvde -f domain.csv, or ldifde -f domain.ldif",
		matches(`(?im)\A\s*(DN|distinguishedName) {2,}\S|\A(DN|distinguishedName): CN=`)},
	{"objects of the directory's shell without DistinguishedName",
		"the same with all properties: … -Properties * | Select-Object * | Export-Csv",
		matches(`(?im)^(LockoutObservationWindow|PasswordHistoryCount) *:|"?SamAccountName"?[,;].*"?(Enabled|PasswordNeverExpires)"?`)},
	{"a table of the directory's shell, without DistinguishedName", "list text or CSV: … | Format-List *, or … | Export-Csv",
		matches(`(?im)^.*(SamAccountName|MinPasswordLength|LockoutThreshold) .*\r?\n[- ]*---`)},
	{"a table of local accounts (Get-LocalUser)", "all properties: Get-LocalUser | Select-Object * | Export-Csv accounts.csv",
		matches(`(?m)^\s*Name +Enabled +Description *\r?\n\s*---`)},
	{"a table of accounts (wmic)", "the same as CSV: wmic useraccount get /format:csv > accounts.csv, or Get-LocalUser | Select-Object * | Export-Csv",
		matches(`(?m)^\s*AccountType +Caption +.*PasswordRequired`)},
	{"registry policies of a machine, written out as text", "what the machine enforces: secedit /export /cfg MACHINE.inf; of a domain's policies, their folders in SYSVOL",
		matches(`(?m)^; PARSING (?:Computer|User) POLICY|^Computer\r?\n(?i:software|system)\\[^\n]*\r?\n[^\n]*\r?\n(?:DWORD|SZ|MULTISZ|DELETE)`)},
	{"members of a group (net group, net localgroup)", "of a domain, the directory as LDIF, or members-of-GROUP.csv by Get-ADGroupMember; of a " +
		"machine, the accounts with Get-LocalUser | Export-Csv, and tiers in engagement.yaml say who is privileged",
		matches(`(?m)\A\s*\S[^\n]*?\s{2,}\S[^\n]*\n(?:[^\n]*\n){1,5}-{40,}\r?\n\S`)},
	{"net user, of one account", "the accounts with Get-LocalUser | Export-Csv, or the directory as LDIF",
		matches(`(?m)\A(?:[^\n]*[a-z0-9-]\.[a-z0-9-][^\n]*\.?\s*\n\s*\n)?\s*\S.*?\s{4,}\S+\r?\n(?:.*\r?\n){0,2}(?:.*\s{4,}.*\r?\n){6,}`)},
	{"ageing of one account (chage -l)", tree, matches(`(?m)\A[^\n:]+\t+: [^\n]+\n(?:[^\n:]+\t+: [^\n]+\n){3,}`)},
	{"account states (passwd -S)", tree, matches(`(?m)\A\S+ (P|L|NP|PS|LK) \d{2,4}[-/]\d{2}[-/]\d{2,4} -?\d+ -?\d+ -?\d+ -?\d+`)},
	{"counted failures (faillock)", tree, matches(`(?m)\A\S+:\r?\nWhen\s+Type\s+Source`)},
	{"what sshd says of its configuration (sshd -T)", tree, matches(`(?mi)^usepam (?:yes|no)\s*$`)},
	{"lines of a machine's files (grep, head)", tree, matches(`(?m)^(?:==> )?/?etc/[\w./-]+(?::(?:\d+:)?| <==)[^\n]*\n(?:[^\n]*\n)*?(?:==> )?/?etc/[\w./-]+(?::| <==)`)},
	{"the profile of authselect", tree, matches(`(?m)\A\s*Profile ID: \S+\s*\n(?:Enabled features:|No optional)`)},
	{"facts of a machine (JSON)", tree, matches(`"(?:\w+_)?distribution(?:_version|_release)?"\s*:\s*"`)},
	{"a stack of PAM, alone", tree, matches(`(?m)^-?(?:auth|account|password|session)\s+(?:\[[^\]\n]*\]|\w+)\s+(?:pam_\w+\.so|[\w-]+)`)},
	{"the hashes of accounts (shadow), alone", tree, matches(`(?m)\A(?:[a-z_][a-z0-9_-]*:[^:\n]{0,200}:\d*:-?\d*:-?\d*:-?\d*:-?\d*:-?\d*:\d*\r?\n)+`)},
	{"a file of a Unix machine, alone", tree, func(file string, _, _ []byte) bool { return slices.Contains(aloneOfUnix, file) }},
	{"accounts alone (getent passwd)", tree, matches(`(?m)\A[a-z_][a-z0-9_-]*:[x*!]?:\d+:\d+:[^:\n]*:[^:\n]*:`)},
}

const (
	asLDIF   = "the directory as LDIF: ldifde -f domain.ldif, or ldapsearch -LLL"
	storeToo = "the policies' own files: Backup-GPO -All, or a copy of the policy store; and the domain's head and units as LDIF, which say what is linked"
)

// aloneOfUnix are files that say something as parts of a machine only.
var aloneOfUnix = []string{"pwquality.conf", "faillock.conf", "pwhistory.conf", "passwdqc.conf", "login.defs", "sshd_config", "nsswitch.conf",
	"sudoers", "useradd", "access.conf", "pam.conf", "group", "os-release"}

const tree = "the machine's etc as a tree, or in an archive: the script in docs/sources.md makes it, without any hash"

// lists finds list text, JSON or CSV with all of these properties.
func lists(names ...string) func(string, []byte, []byte) bool {
	return func(_ string, _, text []byte) bool {
		for _, name := range names {
			if !regexp.MustCompile(`(?m)(?:^|[",;])` + name + `\s*(?:["]?\s*[:,;]|["\r]?$)`).Match(text) {
				return false
			}
		}
		return true
	}
}

func begins(mark string, at int) func(string, []byte, []byte) bool {
	return func(_ string, head, _ []byte) bool {
		return len(head) >= at && bytes.HasPrefix(head[at:], []byte(mark))
	}
}

func opens(word string) func(string, []byte, []byte) bool {
	return func(_ string, _, text []byte) bool {
		text = bytes.TrimLeft(text, " \t\r\n")
		return len(text) >= len(word) && strings.EqualFold(string(text[:len(word)]), word)
	}
}

func holds(word string) func(string, []byte, []byte) bool {
	return func(_ string, _, text []byte) bool { return bytes.Contains(text, []byte(word)) }
}

func matches(pattern string) func(string, []byte, []byte) bool {
	form := regexp.MustCompile(pattern)
	return func(_ string, _, text []byte) bool { return form.Match(text) }
}

func anyOf(all ...func(string, []byte, []byte) bool) func(string, []byte, []byte) bool {
	return func(file string, head, text []byte) bool {
		for _, is := range all {
			if is(file, head, text) {
				return true
			}
		}
		return false
	}
}

// refused finds what a file is that is recognised and not read; nil: nothing known.
func refused(file string, head []byte) *refusal {
	text := intake.Opening(head)
	for i := range refusals {
		if refusals[i].is(path.Base(file), head, text) {
			return &refusals[i]
		}
	}
	return nil
}

// shape is how a text that is not known is laid out, and what of that layout is read.
type shape struct {
	what    string
	is      *regexp.Regexp
	nearest []string
}

// shapes are asked in this order; the last one fits everything.
var shapes = []shape{
	{"sections and keys", regexp.MustCompile(`(?m)\A(?:\s*[;#][^\n]*\n)*\s*\[[^\]\n]+\]\s*$`), []string{template.Format.Name, template.RegistryFile.Name,
		"a Unix machine's etc as a tree"}},
	{"JSON", regexp.MustCompile(`\A\s*[\[{]`), []string{shell.Format.Name, "a tenant's export that a field map knows (sternledger fieldmap list)"}},
	{"XML", regexp.MustCompile(`\A\s*<`), []string{template.Report.Name, template.Preferences.Name, shell.Format.Name}},
	{"a table", regexp.MustCompile(`\A[^,;\t\n]*(?:[,;\t][^,;\t\n]*)+\r?\n`), []string{sheet.Format.Name + ", whose columns gather --sheet-template shows",
		ldif.CSV.Name, shell.LocalUsers.Name}},
	{"names and values", regexp.MustCompile(`(?m)\A(?:\s*\n)*\S[^:\n]*\s*:\s`), []string{shell.Format.Name, netaccounts.Format.Name, ldif.Format.Name}},
	{"a text", regexp.MustCompile(``), []string{ldif.Format.Name, template.Format.Name, "a Unix machine's etc as a tree"}},
}

// shaped is the shape of a text.
func shaped(text []byte) *shape {
	i := slices.IndexFunc(shapes, func(s shape) bool { return s.is.Match(text) })
	return &shapes[i]
}
