package setting

import "slices"

const (
	second = int64(1)
	minute = 60 * second
	hour   = 60 * minute
	day    = 24 * hour
)

// The settings, by the names under which people and files have them; the table tells what each is.
const (
	MinLength                ID = "min-length"
	MaxLength                ID = "max-length"
	MinLengthAudit           ID = "min-length-audit"
	LengthLimitRelaxed       ID = "length-limit-relaxed"
	Complexity               ID = "complexity"
	ClassesRequired          ID = "classes-required"
	RequireLower             ID = "require-lower"
	RequireUpper             ID = "require-upper"
	RequireDigit             ID = "require-digit"
	RequireSymbol            ID = "require-symbol"
	RequireLetter            ID = "require-letter"
	NameCheck                ID = "name-check"
	DictionaryCheck          ID = "dictionary-check"
	Blocklist                ID = "blocklist"
	BlocklistSize            ID = "blocklist-size"
	BannedList               ID = "banned-list"
	MaxRepeat                ID = "max-repeat"
	MaxSequence              ID = "max-sequence"
	MinChanged               ID = "min-changed"
	History                  ID = "history"
	MaxAge                   ID = "max-age"
	MinAge                   ID = "min-age"
	ExpiryWarning            ID = "expiry-warning"
	InactiveDisable          ID = "inactive-disable"
	Reversible               ID = "reversible"
	HashMethod               ID = "hash-method"
	HashRounds               ID = "hash-rounds"
	LMHashStored             ID = "lm-hash-stored"
	BlankPasswordConsoleOnly ID = "blank-password-console-only"
	LockoutThreshold         ID = "lockout-threshold"
	LockoutDuration          ID = "lockout-duration"
	LockoutWindow            ID = "lockout-window"
	SuccessClears            ID = "success-clears"
	FailureDelay             ID = "failure-delay"
	LockoutAdministrator     ID = "lockout-administrator"
	LogoffAtHoursEnd         ID = "logoff-at-hours-end"
	DirectoryBlocklistMode   ID = "directory-blocklist-mode"
	ExpiryForSynced          ID = "expiry-for-synced"
	TicketLifetime           ID = "ticket-lifetime"
	TicketRenewal            ID = "ticket-renewal"
	ServiceTicketLifetime    ID = "service-ticket-lifetime"
	ClockSkew                ID = "clock-skew"
	TicketChecksLogon        ID = "ticket-checks-logon"
	ManagedAdmin             ID = "managed-admin"
	ManagedAdminLength       ID = "managed-admin-length"
	ManagedAdminClasses      ID = "managed-admin-classes"
	ManagedAdminAge          ID = "managed-admin-age"
	SecondFactorRegistered   ID = "mfa-capable"
	EmptyAccepted            ID = "empty-accepted"
	SecondFactor             ID = "mfa"
)

// Platforms whose own limits and defaults the table knows.
const (
	WindowsDomain      Platform = "windows-domain"       // what a domain's head enforces
	WindowsFineGrained Platform = "windows-fine-grained" // a fine-grained policy of a domain
	WindowsMachine     Platform = "windows-machine"      // one machine's local accounts
	WindowsTemplate    Platform = "windows-template"     // a group-policy template
	UnixMachine        Platform = "unix-machine"         // one Unix machine's own accounts
	LDAPDirectory      Platform = "ldap-directory"       // a directory with the password-policy object class
	DirectoryServer    Platform = "389-directory-server" // a 389 Directory Server, with policies of its own kind
	KerberosRealm      Platform = "kerberos-realm"       // the accounts of a realm of MIT Kerberos, or of FreeIPA
	CloudDirectory     Platform = "cloud-directory"      // the directory tenant of a cloud
	CloudInfra         Platform = "cloud-infrastructure" // the accounts of an infrastructure cloud
	WorkplaceSuite     Platform = "workplace-suite"      // a suite of office programs
	IdentityProvider   Platform = "identity-provider"    // a service that signs people in to other services
	Other              Platform = "other"                // a place that the program knows only by what somebody read off
)

// Places are the platforms that an authority can run on.
var Places = []Platform{WindowsDomain, WindowsMachine, UnixMachine, LDAPDirectory, DirectoryServer, KerberosRealm,
	CloudDirectory, CloudInfra, WorkplaceSuite, IdentityProvider}

// groupPolicy is a limit that holds wherever group policy sets the value. The
// directory itself takes more: any number that its attribute can hold.
func groupPolicy(low, high int64) map[Platform]Range {
	r := Range{low, high}
	return map[Platform]Range{WindowsMachine: r, WindowsTemplate: r}
}

// inDirectory adds what the attributes of a domain's head and of a fine-grained
// policy can hold (MS-SAMR 2.2.3, MS-ADTS 2.2).
func inDirectory(m map[Platform]Range, head, fineGrained int64) map[Platform]Range {
	m[WindowsDomain], m[WindowsFineGrained] = Range{0, head}, Range{0, fineGrained}
	return m
}

// mostSeconds is the longest interval that 64 bits of ticks can hold.
const mostSeconds = 922337203685

// Which platforms have a setting: everywhere that Windows keeps account
// settings; only domain-wide or machine-wide; only in a domain.
var (
	windows       = []Platform{WindowsDomain, WindowsFineGrained, WindowsMachine, WindowsTemplate}
	windowsWide   = []Platform{WindowsDomain, WindowsMachine, WindowsTemplate}
	windowsDomain = []Platform{WindowsDomain, WindowsTemplate}
	machines      = []Platform{WindowsMachine, WindowsTemplate}
	cloud         = []Platform{CloudDirectory}
	unix          = []Platform{UnixMachine}
	ldap          = []Platform{LDAPDirectory}
	server        = []Platform{DirectoryServer}
	realm         = []Platform{KerberosRealm}
	infra         = []Platform{CloudInfra}
	suite         = []Platform{WorkplaceSuite}
	provider      = []Platform{IdentityProvider}
	tenants       = slices.Concat(cloud, infra, suite, provider)
)

// also joins lists of platforms.
func also(lists ...[]Platform) []Platform { return slices.Concat(lists...) }

var onOff = []string{"off", "on"}
var offAuditOn = []string{"off", "audit", "on"}

// table is everything the program knows about every setting, in the order in
// which pages show them. Reading, printing, weighing, docs and schemas are
// driven from it; a new setting is one more row.
var table = []Setting{
	{
		ID: MinLength, Title: "Minimum length", Felt: AtNextChange, Kind: Length, On: also(windows, unix, ldap, server, realm, tenants), Stronger: Higher,
		Noun:     "characters",
		Limits:   inDirectory(groupPolicy(0, 128), 65535, 255),
		Defaults: map[Platform]Value{WindowsDomain: Number(7), WindowsMachine: Number(0), CloudDirectory: Number(8)},
		Meaning:  "Least number of characters of a new password; 0 allows an empty one.",
	},
	{
		ID: MaxLength, Title: "Maximum length", Felt: AtNextChange, Kind: Length, On: also(cloud, ldap, suite), Stronger: Higher, Noun: "characters",
		Specials: []Known{{Special: Unlimited, Rank: Strongest, Phrase: "no upper limit"}},
		Meaning:  "Greatest number of characters that is accepted; a low cap shuts out long phrases.",
	},
	{
		ID: MinLengthAudit, Title: "Audited minimum length", Felt: Later, Kind: Length, On: windowsWide, Noun: "characters",
		Limits:  groupPolicy(0, 128),
		Meaning: "Shorter passwords are only logged, not refused.",
	},
	{
		ID: LengthLimitRelaxed, Title: "Relaxed length limit", Felt: Later, Kind: Toggle, On: windowsWide, Choices: onOff,
		Meaning: "Without it a Windows domain cannot ask for more than 14 characters.",
	},
	{
		ID: Complexity, Title: "Complexity", Felt: AtNextChange, Kind: Toggle, On: windows, Choices: onOff, Stronger: Higher,
		Defaults: map[Platform]Value{WindowsDomain: On, WindowsMachine: Off},
		Meaning:  "Three of the character categories, and no account name inside.",
	},
	{
		ID: ClassesRequired, Title: "Character classes", Felt: AtNextChange, Kind: Count, On: also(unix, server, realm, cloud, infra), Stronger: Higher,
		Noun:     "classes",
		Defaults: map[Platform]Value{CloudDirectory: Number(3)},
		Meaning:  "How many of lower case, upper case, digits, symbols and other letters must occur.",
	},
	{ID: RequireLower, Title: "Lower-case letters", Felt: AtNextChange, Kind: Count, On: also(unix, server, infra, provider), Stronger: Higher,
		Noun:    "characters",
		Meaning: "Least number of lower-case letters."},
	{ID: RequireUpper, Title: "Upper-case letters", Felt: AtNextChange, Kind: Count, On: also(unix, server, infra, provider), Stronger: Higher,
		Noun:    "characters",
		Meaning: "Least number of upper-case letters."},
	{ID: RequireDigit, Title: "Digits", Felt: AtNextChange, Kind: Count, On: also(unix, server, infra, provider), Stronger: Higher, Noun: "characters",
		Meaning: "Least number of digits."},
	{ID: RequireSymbol, Title: "Symbols", Felt: AtNextChange, Kind: Count, On: also(unix, server, infra, provider), Stronger: Higher, Noun: "characters",
		Meaning: "Least number of characters that are neither letters nor digits."},
	{ID: RequireLetter, Title: "Letters", Felt: AtNextChange, Kind: Count, On: also(unix, server, infra, provider), Stronger: Higher, Noun: "characters",
		Of:      []ID{RequireLower, RequireUpper},
		Meaning: "Least number of letters, of lower or upper case; the greater of the two demands."},
	{ID: NameCheck, Title: "Name check", Felt: AtNextChange, Kind: Toggle, On: also(unix, server, provider), Choices: onOff, Stronger: Higher,
		Meaning: "Refuses a password that holds the account's or the person's name."},
	{ID: DictionaryCheck, Title: "Dictionary check", Felt: AtNextChange, Kind: Choice, On: also(unix, server, cloud, suite, provider), Choices: offAuditOn,
		Stronger: Higher,
		Meaning:  "Refuses common passwords; audit only logs them."},
	{ID: Blocklist, Title: "Banned words", Felt: AtNextChange, Kind: Choice, On: also(cloud, unix), Choices: offAuditOn, Stronger: Higher,
		Meaning: "Refuses the organisation's own banned words; audit only logs them."},
	{ID: BlocklistSize, Title: "Banned words listed", Felt: AtNextChange, Kind: Count, On: also(cloud, unix), Stronger: Higher, Noun: "words",
		Meaning: "How many words the organisation's own list holds."},
	{ID: BannedList, Title: "List of banned passwords", Felt: AtNextChange, Kind: Choice, On: also(cloud, unix, suite, provider), Choices: offAuditOn,
		Stronger: Higher, Of: []ID{Blocklist, DictionaryCheck},
		Meaning: "Refuses what is on a list of banned passwords, the platform's own or the organisation's."},
	{ID: MaxRepeat, Title: "Longest repeat", Felt: AtNextChange, Kind: Count, On: also(unix, server), Stronger: Lower, Noun: "characters",
		Specials: []Known{{Special: Unlimited, Rank: Weakest, Phrase: "any repeat"}},
		Meaning:  "Longest run of one and the same character."},
	{ID: MaxSequence, Title: "Longest sequence", Felt: AtNextChange, Kind: Count, On: also(unix, server), Stronger: Lower, Noun: "characters",
		Specials: []Known{{Special: Unlimited, Rank: Weakest, Phrase: "any sequence"}},
		Meaning:  "Longest run such as 1234 or abcd."},
	{ID: MinChanged, Title: "Changed characters", Felt: AtNextChange, Kind: Count, On: unix, Stronger: Higher, Noun: "characters",
		Meaning: "How many characters must differ from the old password."},
	{
		ID: History, Title: "Password history", Felt: AtNextChange, Kind: Count, On: also(windows, unix, ldap, server, realm, infra, suite, provider),
		Stronger: Higher,
		Noun:     "passwords",
		Limits:   inDirectory(groupPolicy(0, 24), 65535, 65535),
		Defaults: map[Platform]Value{WindowsDomain: Number(24), WindowsMachine: Number(0)},
		Meaning:  "How many former passwords are refused.",
	},
	{
		ID: MaxAge, Title: "Maximum age", Kind: Duration, On: also(windows, unix, ldap, server, realm, tenants),
		Specials: []Known{{Special: Never, Rank: Undecided, Phrase: "never expires"}},
		Limits:   inDirectory(groupPolicy(0, 999*day), mostSeconds, mostSeconds),
		Defaults: map[Platform]Value{WindowsDomain: Number(42 * day), WindowsMachine: Number(42 * day)},
		Meaning:  "After this time a password must be changed; whether sooner is better depends on the baseline.",
	},
	{
		ID: MinAge, Title: "Minimum age", Felt: Later, Kind: Duration, On: also(windows, unix, ldap, server, realm, provider), Stronger: Higher,
		Specials: []Known{{Special: AtOnce, Rank: Weakest, Phrase: "0 days"}},
		Limits:   inDirectory(groupPolicy(0, 998*day), mostSeconds, mostSeconds),
		Defaults: map[Platform]Value{WindowsDomain: Number(1 * day)},
		Meaning:  "For this time a new password cannot be changed again, so that the history cannot be run through.",
	},
	{ID: ExpiryWarning, Title: "Expiry warning", Felt: Later, Kind: Duration, On: also(machines, unix, ldap, server, provider),
		Meaning: "How long before expiry the user is warned."},
	{ID: InactiveDisable, Title: "Disabled after expiry", Kind: Duration, On: unix, Stronger: Lower,
		Specials: []Known{{Special: Never, Rank: Weakest, Phrase: "never disabled"}},
		Meaning:  "How long after expiry the account is disabled."},
	{
		ID: Reversible, Title: "Reversible storage", Felt: AtNextChange, Kind: Toggle, On: windows, Choices: onOff, Stronger: Lower,
		Defaults: map[Platform]Value{WindowsDomain: Off, WindowsMachine: Off},
		Meaning:  "Passwords are stored so that they can be read back.",
	},
	{ID: HashMethod, Title: "Hash method", Felt: Later, Kind: Choice, On: unix, Stronger: Higher,
		Choices:  []string{"des", "md5", "sha256", "sha512", "bcrypt", "yescrypt"},
		Defaults: map[Platform]Value{UnixMachine: Word("sha512")},
		Meaning:  "How a local Unix password is hashed; the choices are ordered from weak to strong."},
	{ID: HashRounds, Title: "Hash cost", Felt: AtNextChange, Kind: Count, On: unix, Stronger: Higher, Noun: "rounds",
		Meaning: "How often a local Unix password is hashed anew (SHA-256 and SHA-512), or its cost factor (bcrypt, yescrypt)."},
	{ID: LMHashStored, Title: "LM hash stored", Felt: AtNextChange, Kind: Toggle, On: windowsWide, Choices: onOff, Stronger: Lower,
		Defaults: map[Platform]Value{WindowsDomain: Off, WindowsMachine: Off},
		Meaning:  "The old LAN Manager hash is kept beside the new one."},
	{ID: BlankPasswordConsoleOnly, Title: "Blank passwords at the console only", Kind: Toggle, On: windowsWide, Choices: onOff,
		Stronger: Higher,
		Defaults: map[Platform]Value{WindowsDomain: On, WindowsMachine: On},
		Meaning:  "An account with an empty password cannot be used over the network."},
	{
		ID: LockoutThreshold, Title: "Lockout threshold", Kind: Count, On: also(windows, unix, ldap, server, realm, cloud, provider),
		Stronger: Lower, Noun: "failed attempts", OldNoun: "failed tries",
		Specials: []Known{{Special: Never, Rank: Weakest, Phrase: "never locks"}},
		Limits:   inDirectory(groupPolicy(0, 999), 65535, 65535),
		Defaults: map[Platform]Value{WindowsDomain: Of(Never), WindowsMachine: Number(10), CloudDirectory: Number(10)},
		Meaning:  "Failed attempts before the account locks.",
	},
	{
		ID: LockoutDuration, Title: "Lockout duration", Felt: Later, Kind: Duration, On: also(windows, unix, ldap, server, realm, cloud, provider),
		Stronger: Higher,
		Specials: []Known{{Special: UntilAdmin, Rank: Strongest, Phrase: "locks until an administrator unlocks"}},
		Limits:   inDirectory(groupPolicy(0, 99999*minute), mostSeconds, mostSeconds),
		Defaults: map[Platform]Value{WindowsMachine: Number(10 * minute), CloudDirectory: Number(60)},
		Meaning:  "How long a locked account stays locked.",
	},
	{
		ID: LockoutWindow, Title: "Lockout window", Felt: Later, Kind: Duration, On: also(windows, unix, ldap, server, realm), Stronger: Higher,
		Specials: []Known{{Special: Never, Rank: Strongest, Phrase: "only a success clears the count"},
			{Special: AtOnce, Rank: Weakest, Phrase: "every failure starts the count again", Fails: true}},
		Limits:   inDirectory(groupPolicy(0, 99999*minute), mostSeconds, mostSeconds),
		Defaults: map[Platform]Value{WindowsMachine: Number(10 * minute)},
		Meaning: "Quiet time after which the count of failed attempts starts again; where every failure starts it again, nothing locks " +
			"unless the first failure does.",
	},
	{ID: SuccessClears, Title: "Success clears the count", Felt: Later, Kind: Toggle, On: unix, Choices: onOff,
		Meaning: "A sign-in with the right password clears the count of failed attempts; otherwise scattered mistakes add up, and only " +
			"time takes them away."},
	{ID: FailureDelay, Title: "Delay after a failure", Felt: Later, Kind: Duration, On: unix, Stronger: Higher,
		Specials: []Known{{Special: AtOnce, Rank: Weakest, Phrase: "none"}},
		Meaning:  "How long a failed attempt has to wait for its answer; tries at the same time do not wait for one another."},
	{ID: LockoutAdministrator, Title: "Administrator can be locked", Felt: Later, Kind: Toggle, On: also(windowsWide, unix), Choices: onOff,
		Stronger: Higher,
		Meaning:  "The lockout reaches the built-in administrator, or root, too."},
	{ID: LogoffAtHoursEnd, Title: "Log-off at the end of hours", Kind: Toggle, On: windowsWide, Choices: onOff, Stronger: Higher,
		Meaning: "Sessions are ended when the account's permitted hours end."},
	{ID: DirectoryBlocklistMode, Title: "Banned words in the domain", Felt: AtNextChange, Kind: Choice, On: cloud, Choices: offAuditOn, Stronger: Higher,
		Meaning: "The cloud's banned words are enforced in the on-premises domain too; audit only logs them."},
	{ID: ExpiryForSynced, Title: "Expiry for synchronised accounts", Kind: Toggle, On: cloud, Choices: onOff,
		Meaning: "Synchronised accounts obey the tenant's expiry."},
	{ID: TicketLifetime, Title: "Ticket lifetime", Kind: Duration, On: windowsDomain, Stronger: Lower,
		Specials: []Known{{Special: Never, Rank: Weakest, Phrase: "never ends"}},
		Limits:   groupPolicy(0, 99999*hour), Meaning: "How long a Kerberos user ticket is good for."},
	{ID: TicketRenewal, Title: "Ticket renewal", Kind: Duration, On: windowsDomain, Stronger: Lower,
		Specials: []Known{{Special: Never, Rank: Weakest, Phrase: "never ends"}},
		Limits:   groupPolicy(0, 99999*day), Meaning: "How long a Kerberos user ticket can be renewed."},
	{ID: ServiceTicketLifetime, Title: "Service ticket lifetime", Kind: Duration, On: windowsDomain, Stronger: Lower,
		Specials: []Known{{Special: Never, Rank: Weakest, Phrase: "never ends"}},
		Limits:   groupPolicy(0, 99999*minute), Meaning: "How long a Kerberos service ticket is good for."},
	{ID: ClockSkew, Title: "Clock skew", Kind: Duration, On: windowsDomain, Stronger: Lower,
		Limits: groupPolicy(0, 99999*minute), Meaning: "How far clocks may differ before Kerberos refuses."},
	{ID: TicketChecksLogon, Title: "Tickets check log-on rights", Kind: Toggle, On: windowsDomain, Choices: onOff, Stronger: Higher,
		Meaning: "Every request for a service ticket is checked against the account's rights."},
	{ID: ManagedAdmin, Title: "Managed local administrator", Kind: Choice, On: machines, Choices: []string{"off", "cloud", "directory"},
		Stronger: Higher,
		Meaning:  "The password of a machine's local administrator is set anew by itself, and kept in the directory or in the cloud."},
	{ID: ManagedAdminLength, Title: "Length of managed passwords", Kind: Length, On: machines, Stronger: Higher, Noun: "characters",
		Limits: map[Platform]Range{WindowsTemplate: {8, 64}}, Meaning: "How many characters a managed password of a local administrator has."},
	{ID: ManagedAdminClasses, Title: "Classes in managed passwords", Kind: Count, On: machines, Stronger: Higher, Noun: "classes",
		Limits: map[Platform]Range{WindowsTemplate: {1, 4}}, Meaning: "How many of lower case, upper case, digits and symbols occur in a " +
			"managed password of a local administrator."},
	{ID: ManagedAdminAge, Title: "Age of managed passwords", Kind: Duration, On: machines, Stronger: Lower,
		Limits: map[Platform]Range{WindowsTemplate: {day, 365 * day}}, Meaning: "After this time a managed password of a local administrator " +
			"is set anew."},
	{ID: SecondFactorRegistered, Title: "Second factor registered", Kind: Choice, On: tenants, Choices: []string{"none", "some", "all"},
		Stronger: Higher,
		Meaning:  "Which of the scope's accounts have registered a second factor; whether they are asked for it is another setting."},
	{ID: EmptyAccepted, Title: "Empty password accepted", TurnOff: "Disallow empty passwords", Kind: Toggle, On: unix, Choices: onOff, Stronger: Lower,
		Meaning: "A service lets an account in whose password is empty."},
	{ID: SecondFactor, Title: "Second factor", Kind: Choice, On: tenants, Choices: []string{"none", "some", "all"}, Stronger: Higher,
		Meaning: "Which of the scope's accounts are asked for a second factor at every sign-in."},
}
