package ldif

import (
	"bytes"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/redact"
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
	aAccountEnds
	aFailures     // how many failed sign-ins count now
	aFailureTimes // of an LDAP directory: the time of each
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
	aHolders
	aDeleted
	aRecycled
	aAccountType
	aOS
	aSecurity
	aWMI
	aExtensions
	aPolicyPath
	aVersion // of a policy container
	aKind    // of a policy container: which clients can apply it
	aLevel
	aOperational // operational attributes that tell nothing but that such were exported
	// Of the password-policy object class, and of an LDAP server's entries:
	aUID
	aNumber
	aSubentry
	aPwdChanged
	aPwdLocked
	aPwdReset
	aPwdAttribute
	aPwdMinLength
	aPwdMaxLength
	aPwdMaxAge
	aPwdMinAge
	aPwdInHistory
	aPwdCheckQuality
	aPwdCheckModule
	aPwdMaxFailure
	aPwdLockout
	aPwdLockoutDuration
	aPwdFailureInterval
	aPwdExpireWarning
	aSuffix
	aDefault
	aNamingContext // of a 389 Directory Server's configuration
	aServerSuffix
	aLocalPolicy
	aInheritGlobal
	aNoSignIn  // nsAccountLock
	aKrbPolicy // of a realm's accounts, and of classes of service
	aKrbFlags
	aCosPriority
	aKrbMinLength
	aKrbClasses
	aKrbHistory
	aKrbMaxLife
	aKrbMinLife
	aKrbMaxFailure
	aKrbInterval
	aKrbDuration
	aKrbPrincipal
	aKrbChanged
	aResult
	aMeta   // ldapsearch's own closing lines, and version
	aServer // the first of a directory server's policy attributes; see serverAttributes
)

// aSetting is the first of the settings' attributes; see readings.
const aSetting = aServer + attr(serverCount)

// named gives each attribute's name as directories write it.
var named = map[attr][]string{
	aDN: {"dn"}, aObjectClass: {"objectClass"}, aChangeType: {"changetype"},
	aName: {"sAMAccountName"}, aPrincipal: {"userPrincipalName"}, aDisplay: {"displayName"},
	aControl: {"userAccountControl"}, aPrimary: {"primaryGroupID"}, aSID: {"objectSid"}, aGUID: {"objectGUID"},
	aPwdSet: {"pwdLastSet"}, aLockoutTime: {"lockoutTime"}, aAccountEnds: {"accountExpires"},
	aFailures: {"badPwdCount", "krbLoginFailedCount", "passwordRetryCount"}, aFailureTimes: {"pwdFailureTime"}, aAdminCount: {"adminCount"},
	aServiceName: {"servicePrincipalName"}, aLastLogon: {"lastLogonTimestamp"},
	aResultant: {"msDS-ResultantPSO"}, aApplied: {"msDS-PSOApplied"}, aKrbNumber: {"msDS-SecondaryKrbTgtNumber"},
	aGroupType: {"groupType"}, aMember: {"member", "uniqueMember"},
	aPrecedence: {"msDS-PasswordSettingsPrecedence"}, aAppliesTo: {"msDS-PSOAppliesTo"},
	aLink: {"gPLink"}, aLinkOptions: {"gPOptions"}, aFlags: {"flags"},
	aOEM: {"oEMInformation"}, aVendor: {"vendorName"}, aNaming: {"defaultNamingContext"},
	aHolders: {"memberOf"}, aDeleted: {"isDeleted"}, aRecycled: {"isRecycled"}, aAccountType: {"sAMAccountType"}, aOS: {"operatingSystem"},
	aSecurity: {"nTSecurityDescriptor"}, aWMI: {"gPCWQLFilter"}, aExtensions: {"gPCMachineExtensionNames"},
	aPolicyPath: {"gPCFileSysPath"},
	aVersion:    {"versionNumber"}, aKind: {"gPCFunctionalityVersion"}, aLevel: {"msDS-Behavior-Version"},
	aOperational: {"entryUUID", "structuralObjectClass", "createTimestamp", "modifyTimestamp", "entryDN", "subschemaSubentry", "nsUniqueId"},
	aUID:         {"uid"}, aNumber: {"uidNumber"}, aSubentry: {"pwdPolicySubentry"}, aPwdChanged: {"pwdChangedTime"},
	aPwdLocked: {"pwdAccountLockedTime"}, aPwdReset: {"pwdReset"},
	aPwdAttribute: {"pwdAttribute"}, aPwdMinLength: {"pwdMinLength"}, aPwdMaxLength: {"pwdMaxLength"}, aPwdMaxAge: {"pwdMaxAge"},
	aPwdMinAge:    {"pwdMinAge"},
	aPwdInHistory: {"pwdInHistory"}, aPwdCheckQuality: {"pwdCheckQuality"}, aPwdCheckModule: {"pwdCheckModule", "pwdUseCheckModule"},
	aPwdMaxFailure: {"pwdMaxFailure"}, aPwdLockout: {"pwdLockout"},
	aPwdLockoutDuration: {"pwdLockoutDuration"}, aPwdFailureInterval: {"pwdFailureCountInterval"}, aPwdExpireWarning: {"pwdExpireWarning"},
	aSuffix: {"olcSuffix"}, aDefault: {"olcPPolicyDefault"},
	aNamingContext: {"nsslapd-defaultnamingcontext"}, aServerSuffix: {"nsslapd-suffix"}, aLocalPolicy: {"nsslapd-pwpolicy-local"},
	aInheritGlobal: {"nsslapd-pwpolicy-inherit-global"}, aNoSignIn: {"nsAccountLock"},
	aKrbPolicy: {"krbPwdPolicyReference"}, aKrbFlags: {"krbTicketFlags"}, aCosPriority: {"cosPriority"}, aKrbMinLength: {"krbPwdMinLength"},
	aKrbClasses: {"krbPwdMinDiffChars"}, aKrbHistory: {"krbPwdHistoryLength"}, aKrbMaxLife: {"krbMaxPwdLife"}, aKrbMinLife: {"krbMinPwdLife"},
	aKrbMaxFailure: {"krbPwdMaxFailure"}, aKrbInterval: {"krbPwdFailureCountInterval"}, aKrbDuration: {"krbPwdLockoutDuration"},
	aKrbPrincipal: {"krbPrincipalName"}, aKrbChanged: {"krbLastPwdChange"},
	aResult: {"result"},
	aMeta:   {"version", "search", "ref", "control", "pagedresults", "matchedDN", "text"},
}

// unasked are attributes that a search does not ask for: they are LDIF's own, a
// server's configuration or root entry has them, or they are asked for with a search
// of their own.
var unasked = []attr{aDN, aChangeType, aResult, aMeta, aVendor, aNaming, aSuffix, aDefault,
	aNamingContext, aServerSuffix, aLocalPolicy, aInheritGlobal, aSecurity, aWMI, aExtensions,
	aPolicyPath, aVersion, aKind, aLevel, aDeleted, aRecycled}

// Attributes are those that a live source is asked for: all that the reader reads of
// a directory's entries.
func Attributes() []string {
	var all []string
	for a, names := range named {
		if !slices.Contains(unasked, a) {
			all = append(all, names...)
		}
	}
	for _, r := range readings {
		all = append(all, r.name)
	}
	for _, name := range serverAttributes {
		all = append(all, name)
	}
	slices.Sort(all)
	return all
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

// shape is what the values of an attribute look like. One that looks otherwise is no value of
// it: it may be anything, and is struck out.
type shape uint8

const (
	anyText  shape = iota
	freeText       // in which a secret can stand that shows itself
	aWholeNumber
	aTruth
	aTime // generalized time
	aWord
	aDNOrNone
	aSIDOrGUID
	aToken
	aLinkList
	aFilter
	aDescriptor
	aPathOrNumber
	aSearchLine
)

// shapes are those of the attributes that have no number of their own as settings have.
var shapes = func() (all [256]shape) {
	for s, attributes := range map[shape][]attr{
		freeText: {aDisplay, aPrincipal, aServiceName, aOEM, aOS, aVendor},
		aWholeNumber: {aControl, aPrimary, aPwdSet, aLockoutTime, aAccountEnds, aFailures, aAdminCount, aLastLogon, aKrbNumber, aGroupType,
			aPrecedence, aLinkOptions, aFlags, aAccountType, aVersion, aKind, aLevel, aNumber, aPwdMinLength, aPwdMaxLength, aPwdMaxAge, aPwdMinAge, aPwdInHistory,
			aPwdCheckQuality, aPwdMaxFailure, aPwdLockoutDuration, aPwdFailureInterval, aPwdExpireWarning, aKrbFlags, aCosPriority,
			aKrbMinLength, aKrbClasses, aKrbHistory, aKrbMaxLife, aKrbMinLife, aKrbMaxFailure, aKrbInterval, aKrbDuration},
		aTruth:        {aDeleted, aRecycled, aPwdReset, aPwdLockout, aNoSignIn, aLocalPolicy, aInheritGlobal},
		aTime:         {aFailureTimes, aPwdChanged, aPwdLocked, aKrbChanged},
		aWord:         {aObjectClass, aChangeType, aPwdAttribute},
		aDNOrNone:     {aDN, aMember, aHolders, aResultant, aApplied, aAppliesTo, aSubentry, aSuffix, aDefault, aNaming, aNamingContext, aServerSuffix, aKrbPolicy},
		aSIDOrGUID:    {aSID, aGUID},
		aToken:        {aPwdCheckModule, aOperational},
		aLinkList:     {aLink, aExtensions},
		aFilter:       {aWMI},
		aDescriptor:   {aSecurity},
		aPathOrNumber: {aPolicyPath},
		aSearchLine:   {aResult, aMeta},
	} {
		for _, a := range attributes {
			all[a] = s
		}
	}
	return all
}()

var (
	wordForm   = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$`)
	tokenForm  = regexp.MustCompile(`^(?:[A-Za-z0-9_./+-]{1,64}|\d{14}(?:\.\d+)?Z|[^=,]+=[^=]*(?:,[^=,]+=[^=]*)*)$`)
	linksForm  = regexp.MustCompile(`(?i)^(?: |\[(?:LDAP://[^\];]*;\d+|(?:\{[0-9a-f-]{36}\})+)\])*$`)
	filterForm = regexp.MustCompile(`^(?: |\[[A-Za-z0-9.-]+;\{[0-9A-Fa-f-]{36}\};\d\])*$`)
	sidForm    = regexp.MustCompile(`^(?:S(?:-\d+){2,17}|\{?[0-9A-Fa-f]{8}(?:-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}\}?)$`)
	pathForm   = regexp.MustCompile(`^(?:\d+|\\\\[^"'=]+\\[^"'=]+)$`)
	sddlForm   = regexp.MustCompile(`^(?:[OGDS]:[A-Za-z0-9();_-]*)+$`)
	searchForm = regexp.MustCompile(`^(?:\d+(?: [A-Za-z]+)*|ldaps?://\S*/\S*)$`)
)

// fits reports whether a value, as text or as the bytes that base64 stands for, is one that
// the attribute can have.
func (a attr) fits(value []byte) bool {
	if len(value) == 0 {
		return true
	}
	switch shapes[a] {
	case aWholeNumber:
		_, ok := atoi(value)
		return ok || redact.Plain(value) && value[0] <= '9'
	case aTruth:
		return bytes.EqualFold(value, []byte("true")) || bytes.EqualFold(value, []byte("false")) || switchOrNumber(value)
	case aTime:
		return timeForm(value)
	case aWord:
		return wordForm.Match(value)
	case aDNOrNone:
		return bytes.IndexByte(value, '=') > 0
	case aSIDOrGUID:
		return len(value) == guidBytes || value[0] == 1 && len(value) >= 8 && len(value) <= 68 && len(value)%4 == 0 || sidForm.Match(value)
	case aToken:
		return tokenForm.Match(value)
	case aLinkList:
		return linksForm.Match(value)
	case aFilter:
		return filterForm.Match(value)
	case aDescriptor:
		return value[0] == 1 || sddlForm.Match(value)
	case aPathOrNumber:
		return pathForm.Match(value)
	case aSearchLine:
		return searchForm.Match(value)
	}
	return true
}

const guidBytes = 16

// timeForm reports whether a value is a generalized time (RFC 4517 3.3.13).
func timeForm(value []byte) bool {
	for i, c := range value {
		if (c < '0' || c > '9') && (i < 8 || c != '.' && c != 'Z' && c != '+' && c != '-') {
			return false
		}
	}
	return len(value) >= 10 && len(value) <= 32
}

type attrKind uint8

const (
	isUnknown attrKind = iota
	isKnown
	isSecret
)

// entry is one attribute that the reader knows.
type entry struct {
	name string // as directories write it
	attr attr
	kind attrKind
}

// directory finds entries by their names' hash; each slot holds the few
// entries that share it. Most lines of an export are attributes that nobody
// wants, and meet an empty slot.
var directory = func() (slots [slotCount][]entry) {
	add := func(e entry) {
		slot := slotOf([]byte(e.name))
		slots[slot] = append(slots[slot], e)
	}
	for a, names := range named {
		for _, n := range names {
			add(entry{n, a, isKnown})
		}
	}
	for i, r := range readings {
		add(entry{r.name, aSetting + attr(i), isKnown})
	}
	for i, name := range serverAttributes {
		add(entry{name, aServer + attr(i), isKnown})
	}
	for _, n := range secrets {
		add(entry{n, 0, isSecret})
	}
	return slots
}()

const slotCount = 1024

// slotOf hashes a name without regard to case.
func slotOf(name []byte) int {
	n := len(name)
	h := uint(n)*37 + uint(name[0]|0x20)*131 + uint(name[n-1]|0x20)*29 + uint(name[n/2]|0x20)*257 + uint(name[n/4]|0x20)*61
	return int(h % slotCount)
}

// lookup finds an attribute by the name in a line, whatever its case and with
// or without options (";range=0-1499", ";binary").
func lookup(name []byte) (attr, attrKind, span) {
	var piece span
	if i := bytes.IndexByte(name, ';'); i >= 0 {
		piece = rangeOf(name[i+1:])
		name = name[:i]
	}
	if len(name) == 0 {
		return 0, isUnknown, span{}
	}
	for _, e := range directory[slotOf(name)] {
		if len(e.name) == len(name) && (e.name == string(name) || strings.EqualFold(e.name, string(name))) {
			return e.attr, e.kind, piece
		}
	}
	return 0, isUnknown, span{}
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
