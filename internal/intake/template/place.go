package template

import (
	"regexp"
	"strings"

	"sternledger/internal/intake"
)

// within matches a file's place in a policy of a policy store, or of a policy backup:
// the folder above the policy's, its GUID, and the rest.
func within(machine string) *regexp.Regexp {
	return regexp.MustCompile(`(?i)(?:^|/)(?:([^/]+)/)?(?:Policies/)?(\{[0-9a-f]{8}-[0-9a-f-]{27}\})/` +
		`((?:DomainSysvol/GPO/)?Machine/` + machine + `)$`)
}

// policyFile is a kind of file that policies have.
type policyFile struct {
	place        *regexp.Regexp
	prefix, kind string // of the name of its stored copy
}

var (
	templateFile   = policyFile{within(`Microsoft/Windows NT/SecEdit/[^/]+\.inf`), "template-", ".inf"}
	registryFile   = policyFile{within(`Registry\.pol`), "registry-", ".pol"}
	preferenceFile = policyFile{within(`Preferences/Registry/Registry\.xml`), "preferences-", ".xml"}
)

func slashes(name string) string { return strings.ReplaceAll(name, `\`, "/") }

func (f *policyFile) at(name string) []string { return f.place.FindStringSubmatch(slashes(name)) }

// stored gives the files of a store, which all have one name, their own.
func (f *policyFile) stored(name string) string {
	if m := f.at(name); m != nil {
		return f.prefix + strings.ToUpper(m[2][1:9]) + f.kind
	}
	return intake.FileName(name)
}

// speaks names the policy whose file one is; empty where it is no policy's.
func (f *policyFile) speaks(name string) string {
	if m := f.at(name); m != nil {
		return strings.ToUpper(m[1] + "/" + m[2])
	}
	return ""
}

// OfPolicy reports whether a file is, by its place, one of those in a policy's folder: of
// a policy store or a policy backup.
func OfPolicy(file string) bool {
	return templateFile.at(file) != nil || registryFile.at(file) != nil || preferenceFile.at(file) != nil
}

// BackupOf says of which policy's backup a file is part, and when that was made, as the
// backup's own description has it (2026-11-02T09:00:00); ok: it is part of one.
func BackupOf(file string, beside func(string) []byte) (policy, made string, ok bool) {
	for _, f := range []policyFile{templateFile, registryFile, preferenceFile, versionFile} {
		m := f.at(file)
		if m == nil || !strings.HasPrefix(strings.ToLower(m[3]), "domainsysvol/") {
			continue
		}
		up := strings.Repeat("../", strings.Count(m[3], "/"))
		if b := describe(beside(up + "bkupInfo.xml")); b.id != "" && b.made != "" {
			return b.domain + "/" + b.id, b.made, true
		}
	}
	return "", "", false
}

// policy says which policy a file is part of: by its folders, or by the description that
// lies at the top of a policy backup.
func (f *policyFile) policy(text *intake.Text) (id, name, domain string) {
	m := f.at(text.Path)
	id = strings.ToUpper(m[2])
	if name = id; strings.Contains(m[1], ".") {
		domain = strings.ToLower(m[1])
	}
	if strings.HasPrefix(strings.ToLower(m[3]), "domainsysvol/") {
		up := strings.Repeat("../", strings.Count(m[3], "/"))
		for _, description := range []string{"bkupInfo.xml", "Backup.xml"} {
			if b := describe(text.Beside(up + description)); b.id != "" {
				return b.id, b.name, b.domain
			}
		}
	}
	return id, name, domain
}
