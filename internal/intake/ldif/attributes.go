package ldif

import (
	"bytes"
	"strconv"
	"strings"
)

// attr is an attribute that some record is read for.
type attr uint8

const (
	aDN attr = iota
	aObjectClass
	aChangeType
	aName
	aPrincipal
	aDisplay
	aControl
	aPrimary
	aSID
	aGUID
	aPwdSet
	aLockoutTime
	aAdminCount
	aServiceName
	aLastLogon
	aResultant
	aApplied
	aKrbNumber
	aGroupType
	aMember
	aPrecedence
	aAppliesTo
	aLink
	aLinkOptions
	aFlags
	aOEM
	aVendor
	aNaming
	aResult
	aMeta    // ldapsearch's own closing lines, and version
	aSetting // the first of the settings' attributes; see readings
)

// named gives each attribute's name as directories write it.
var named = map[attr][]string{
	aDN: {"dn"}, aObjectClass: {"objectClass"}, aChangeType: {"changetype"},
	aName: {"sAMAccountName"}, aPrincipal: {"userPrincipalName"}, aDisplay: {"displayName"},
	aControl: {"userAccountControl"}, aPrimary: {"primaryGroupID"}, aSID: {"objectSid"}, aGUID: {"objectGUID"},
	aPwdSet: {"pwdLastSet"}, aLockoutTime: {"lockoutTime"}, aAdminCount: {"adminCount"},
	aServiceName: {"servicePrincipalName"}, aLastLogon: {"lastLogonTimestamp"},
	aResultant: {"msDS-ResultantPSO"}, aApplied: {"msDS-PSOApplied"}, aKrbNumber: {"msDS-SecondaryKrbTgtNumber"},
	aGroupType: {"groupType"}, aMember: {"member"},
	aPrecedence: {"msDS-PasswordSettingsPrecedence"}, aAppliesTo: {"msDS-PSOAppliesTo"},
	aLink: {"gPLink"}, aLinkOptions: {"gPOptions"}, aFlags: {"flags"},
	aOEM: {"oEMInformation"}, aVendor: {"vendorName"}, aNaming: {"defaultNamingContext"},
	aResult: {"result"},
	aMeta:   {"version", "search", "ref", "control", "pagedresults", "matchedDN", "text"},
}

// secrets are struck out of the stored copy wherever they occur.
var secrets = []string{
	"userPassword", "unicodePwd", "unixUserPassword", "clearTextPassword", "dBCSPwd", "ntPwdHistory", "lmPwdHistory",
	"supplementalCredentials", "sambaNTPassword", "sambaLMPassword", "sambaPasswordHistory", "krbPrincipalKey",
	"msDS-ManagedPassword", "ms-Mcs-AdmPwd", "msLAPS-Password", "msLAPS-EncryptedPassword", "msLAPS-EncryptedPasswordHistory",
	"msLAPS-EncryptedDSRMPassword", "msLAPS-EncryptedDSRMPasswordHistory",
	"trustAuthIncoming", "trustAuthOutgoing", "initialAuthIncoming", "initialAuthOutgoing", "currentValue", "priorValue",
	"pekList", "msFVE-RecoveryPassword", "msFVE-KeyPackage", "pwdHistory", "olcRootPW", "userPKCS12", "msDS-ExecuteScriptPassword",
}

type attrKind uint8

const (
	isUnknown attrKind = iota
	isKnown
	isSecret
)

type entry struct {
	attr attr
	kind attrKind
}

// directory maps lower-case names; shapes is a cheap first question, since
// most lines of an export are attributes that nobody wants: for each length
// the set of first letters that occur.
var directory, shapes = func() (map[string]entry, [64]uint32) {
	m, sh := map[string]entry{}, [64]uint32{}
	add := func(name string, e entry) {
		low := strings.ToLower(name)
		m[low] = e
		sh[len(low)] |= 1 << (low[0] & 31)
	}
	for a, names := range named {
		for _, n := range names {
			add(n, entry{a, isKnown})
		}
	}
	for i, r := range readings {
		add(r.name, entry{aSetting + attr(i), isKnown})
	}
	for _, n := range secrets {
		add(n, entry{0, isSecret})
	}
	return m, sh
}()

// lookup finds an attribute by the name in a line, whatever its case and with
// or without options (";range=0-1499", ";binary").
func lookup(name []byte) (attr, attrKind, span) {
	var options []byte
	if i := bytes.IndexByte(name, ';'); i >= 0 {
		name, options = name[:i], name[i+1:]
	}
	if len(name) == 0 || len(name) >= len(shapes) || shapes[len(name)]&(1<<(name[0]&31)) == 0 {
		return 0, isUnknown, span{}
	}
	var low [len(shapes)]byte
	for i, c := range name {
		if 'A' <= c && c <= 'Z' {
			c |= 0x20
		}
		low[i] = c
	}
	e := directory[string(low[:len(name)])]
	return e.attr, e.kind, rangeOf(options)
}

// rangeOf reads the option "range=FIRST-LAST" (MS-ADTS 3.1.1.3.1.3.3).
func rangeOf(options []byte) span {
	for option := range bytes.SplitSeq(options, []byte(";")) {
		text := strings.ToLower(string(option))
		bounds, ok := strings.CutPrefix(text, "range=")
		if !ok {
			continue
		}
		low, high, _ := strings.Cut(bounds, "-")
		first, err := strconv.Atoi(low)
		if err != nil {
			continue
		}
		last, err := strconv.Atoi(high)
		if err != nil {
			last = -1
		}
		return span{ranged: true, first: first, last: last}
	}
	return span{}
}
