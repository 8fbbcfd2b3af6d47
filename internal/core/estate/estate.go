// Package estate is what the evidence says: which authorities there are, the
// policies found in each, its accounts and groups, and the gaps in all that.
// It draws no conclusion; who is governed by what is the next floor's work.
package estate

import (
	"cmp"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"sternledger/internal/core/setting"
)

// Cite is the place in the evidence that says something: a line of a stored
// file, the attribute or key there, and its text as written.
type Cite struct {
	File  string `json:"file"`
	Line  int    `json:"line"`
	Where string `json:"where,omitempty"`
	Raw   string `json:"raw,omitempty"`
	Note  string `json:"note,omitempty"` // who read it off and when, where a person did
}

// String writes "file:line", or nothing for the zero Cite.
func (c Cite) String() string {
	if c.File == "" {
		return ""
	}
	return fmt.Sprintf("%s:%d", c.File, c.Line)
}

// Fact is one setting's value with its evidence. A fact with a Problem stands
// in the evidence but could not be read: its Value is not set.
type Fact struct {
	Value   setting.Value `json:"value"`
	Cite    Cite          `json:"cite"`
	Problem string        `json:"problem,omitempty"`
	Remark  string        `json:"remark,omitempty"` // what is unusual about the value, which was taken all the same
	Unit    string        `json:"unit,omitempty"`   // of the number as exported, where its name does not tell it
	// Remedy is what to do about it where setting the value is not enough, or where
	// exporting it again does not help.
	Remedy string `json:"remedy,omitempty"`
}

// Settings are the facts of one policy.
type Settings map[setting.ID]Fact

// Standing says what weight a policy has.
type Standing string

// The standings.
const (
	Enforced   Standing = "enforced"   // what the authority applies
	Configured Standing = "configured" // what a template says should be applied
	Override   Standing = "override"   // a fine-grained policy
)

// Policy is a named set of settings found in the evidence.
type Policy struct {
	Name string `json:"name"`
	// VariantOf names the policy of which this is what comes of it for some accounts;
	// it is written where that one is.
	VariantOf  string           `json:"variant_of,omitempty"`
	Origin     string           `json:"origin"` // the DN or path as the evidence writes it
	Standing   Standing         `json:"standing"`
	Platform   setting.Platform `json:"platform"`
	GUID       GUID             `json:"guid"`
	Precedence *int64           `json:"precedence,omitempty"` // nil: missing or unreadable
	Targets    []Target         `json:"targets,omitempty"`
	// TargetsPart: whom it names was not exported, or not all of it.
	TargetsPart bool `json:"targets_part,omitempty"`
	// Except are whom a tenant's policy leaves out, though a target holds them.
	Except []Target `json:"except,omitempty"`
	// Of are the accounts that a tenant's policy can reach at all: those of its own,
	// or those that come from a domain; empty: all.
	Of Origin `json:"of,omitempty"`
	// Open is a condition of the policy that is not modelled: whether it applies to
	// those whom it could reach is then not known.
	Open string `json:"open,omitempty"`
	// Apart: it is of accounts that the place's own settings do not reach, and fixed by the
	// platform.
	Apart bool `json:"apart,omitempty"`
	// Root is the entry that a directory server's local policy governs, with all below
	// it: of several the one of the nearest entry governs.
	Root string `json:"root,omitempty"`
	// Inherits are settings that the policy leaves to the server's own where that lets
	// local policies inherit.
	Inherits []setting.ID `json:"inherits,omitempty"`
	Settings Settings     `json:"settings"`
	Asks     *Asks        `json:"asks,omitempty"`
	Covers   *int         `json:"covers,omitempty"` // accounts, where somebody counted them
	Cite     Cite         `json:"cite"`
}

// Asks is what a place asks of a new password in terms of its own, beyond the
// settings that places share.
type Asks struct {
	// Module checks new passwords: pam_pwquality, pam_cracklib, or a further one
	// of which the evidence says no more than its name.
	Module string `json:"module,omitempty"`
	// Length is what a Unix module asks for before credits; Credits what each
	// lower-case and upper-case letter, digit and other character brings, at the
	// most. A negative credit is a demand, and stands among the settings.
	Length  int64    `json:"length,omitempty"`
	Credits [4]int64 `json:"credits"`
	// ClassRun is the longest run of characters of one class; 0: any.
	ClassRun int64 `json:"class_run,omitempty"`
	Named    bool  `json:"named,omitempty"`     // refuses the account's name
	Personal bool  `json:"personal,omitempty"`  // refuses words of the person's name
	NamePart int64 `json:"name_part,omitempty"` // refuses parts of the account's name this long; 0: none
	// Graded asks for a length that depends on the kinds of characters.
	Graded *Graded `json:"graded,omitempty"`
	// Most is the greatest length that is taken; 0: any.
	Most int64 `json:"most,omitempty"`
	// Old compares with the old password otherwise than by counting characters.
	Old bool `json:"old,omitempty"`
	// Words are those that the place's own list bans.
	Words []string `json:"words,omitempty"`
	Cite  Cite     `json:"cite"`
	// Further are other modules that are asked too, and obeyed.
	Further []Asks `json:"further,omitempty"`
}

// Origin says where accounts of a tenant come from.
type Origin string

// The origins.
const (
	Native     Origin = "native"      // made in the tenant
	FromDomain Origin = "from-domain" // synchronised from one
	FromOther  Origin = "elsewhere"   // of a place that is neither: it governs no account whose home is known
)

// Way is how the password of a synchronised account is checked where the account
// signs in to the tenant.
type Way string

// The ways. Federated accounts are told by a flag of their own, whatever the
// tenant's others do.
const (
	PasswordHash Way = "password-hash" // by the tenant, against a copy of the hash
	PassThrough  Way = "pass-through"  // by the domain, each time
	Federation   Way = "federation"    // by the domain's own service; the tenant asks nothing
)

// Graded is a least length by how many classes of characters a password is made
// of. A capital at the start and a digit at the end do not count, and as many
// different characters must occur as in a random password.
type Graded struct {
	Least [4]int64 `json:"least"` // of one class, two, three, four; Barred: not taken at all
	// A phrase of so many words may be as short as that.
	Phrase int64 `json:"phrase,omitempty"`
	Words  int64 `json:"words,omitempty"`
}

// Barred is the least length of what is not taken at all.
const Barred = 1 << 31

// Target is one name in a fine-grained policy's list of whom it applies to.
type Target struct {
	DN     string `json:"dn"`
	Object int    `json:"object"` // row in the authority's objects, or NotFound
	Cite   Cite   `json:"cite"`
}

// NotFound is the row of something the evidence names but does not hold. In a
// directory domain such things have rows too, marked Unseen.
const NotFound = -1

// Holds reports whether the evidence holds what a row stands for.
func (a *Authority) Holds(row int) bool {
	return row != NotFound && a.Objects.FlagsOf(row)&Unseen == 0
}

// Kind is the kind of an authority.
type Kind string

// The kinds.
const (
	Domain  Kind = "domain"
	Machine Kind = "machine"
	LDAP    Kind = "ldap" // a directory with the password-policy object class
	Tenant  Kind = "tenant"
)

// Dialect is the way a directory server picks the groups that carry a
// fine-grained policy.
type Dialect string

// The dialects.
const (
	Windows Dialect = "windows" // global security groups
	Samba   Dialect = "samba"   // any security group
)

// System is what runs on a machine: "ubuntu" and "24.04". The zero System is not known.
type System struct {
	Kind    string `json:"kind"`
	Version string `json:"version,omitempty"`
}

// String writes both.
func (s System) String() string { return strings.TrimSpace(s.Kind + " " + s.Version) }

// Authority is a place that holds accounts and enforces settings on them.
type Authority struct {
	Name        string           `json:"name"`
	Kind        Kind             `json:"kind"`
	Platform    setting.Platform `json:"platform"`
	SID         string           `json:"sid,omitempty"`
	MachineID   string           `json:"machine_id,omitempty"` // of a Unix machine: a digest of it, which is confidential itself
	System      System           `json:"system,omitzero"`      // of a Unix machine, as its os-release tells
	Dialect     Dialect          `json:"dialect,omitempty"`    // empty: nothing in the evidence tells the server
	DialectCite Cite             `json:"dialect_cite"`
	// Level is the domain's functional level (msDS-Behavior-Version, MS-ADTS 6.1.4.3); nil:
	// not in the evidence.
	Level     *int `json:"level,omitempty"`
	LevelCite Cite `json:"level_cite,omitzero"`
	// SiteLinks are enforced links of sites: they go before all links of the domain on the
	// machines of that site, and which those are no directory says.
	SiteLinks []Link   `json:"site_links,omitempty"`
	Head      *Policy  `json:"head,omitempty"` // for everyone without another; nil: not in the evidence
	Overrides []Policy `json:"overrides,omitempty"`
	Typed     []Policy `json:"typed,omitempty"` // read off by somebody, where there is no export
	// DefaultPolicy names the policy of an LDAP directory that its server
	// applies to accounts that point at none.
	DefaultPolicy     string `json:"default_policy,omitempty"`
	DefaultPolicyCite Cite   `json:"default_policy_cite"`
	// LocalPolicies says whether a directory server heeds local policies; nil: not known.
	LocalPolicies *LocalPolicies `json:"local_policies,omitempty"`
	Units         []Unit         `json:"units,omitempty"`
	Containers    []Container    `json:"containers,omitempty"`
	Policies      []Reference    `json:"policies,omitempty"` // fine-grained policies that accounts and groups point at
	Files         []string       `json:"files,omitempty"`    // evidence, in the order read
	Parents       []string       `json:"parents,omitempty"`  // DNs under which objects stand
	Problems      []Problem      `json:"problems,omitempty"`
	Sync          Way            `json:"sync,omitempty"`         // of a tenant; empty: not known
	PoliciesCut   *Cite          `json:"policies_cut,omitempty"` // where a tenant's list of policies goes on, and is not in the evidence
	Remarks       []Remark       `json:"remarks,omitempty"`
	AnswerGiven   bool           `json:"answer_given,omitempty"` // the evidence holds the directory's own answer on precedence
	// a file of its evidence ends in the middle of a line: what else it held is not known
	Cut          bool `json:"cut,omitempty"`
	PoliciesLie  bool `json:"policies_lie,omitempty"` // the container in which fine-grained policies lie was exported
	Listed       bool `json:"listed,omitempty"`       // the evidence names accounts
	Accounts     int  `json:"accounts"`
	Groups       int  `json:"groups"`
	Computers    int  `json:"computers"`
	Managed      int  `json:"managed,omitempty"` // managed service accounts: their passwords are the directory's affair
	Deleted      int  `json:"deleted,omitempty"` // deleted objects, left out
	Unclassified int  `json:"unclassified,omitempty"`
	Memberships  int  `json:"memberships,omitempty"`
	Flagged      int  `json:"flagged,omitempty"` // accounts of which the flags are known
	// Disputes are memberships that one side tells and the other, which was
	// exported too, does not; the first few of DisputeCount.
	Disputes     []Dispute `json:"disputes,omitempty"`
	DisputeCount int       `json:"dispute_count,omitempty"`
	// Displayed is what machines show as the policy that won.
	Displayed []Display `json:"displayed,omitempty"`
	// Lost is what earlier evidence held and this does not.
	Lost []Loss `json:"lost,omitempty"`

	Objects *Objects `json:"-"`
	// Twin says that another authority of the estate has the same name, so that
	// people need the kind to tell them apart.
	Twin     bool `json:"-"`
	Unsynced bool `json:"-"` // a tenant none of whose accounts comes from a domain
}

// Label is how people name the authority: by its kind too where the name alone
// means two.
func (a *Authority) Label() string {
	if a.Twin {
		return a.Place().String()
	}
	return a.Name
}

// Place is the authority's identity.
func (a *Authority) Place() Place { return Place{a.Name, a.Kind} }

// UseDefault takes the policy of that DN out of those that accounts point at,
// and makes it the one that governs everybody else. It reports whether the
// evidence holds it.
func (a *Authority) UseDefault(dn string) bool {
	i := slices.IndexFunc(a.Overrides, func(p Policy) bool { return NormalDN(p.Origin) == NormalDN(dn) })
	if i < 0 {
		return a.Head != nil && NormalDN(a.Head.Origin) == NormalDN(dn)
	}
	head := a.Overrides[i]
	head.Standing = Enforced
	a.Overrides, a.Head = slices.Delete(slices.Clone(a.Overrides), i, i+1), &head
	return true
}

// LocalPolicies is what a directory server's configuration says of policies of
// entries and subtrees.
type LocalPolicies struct {
	On      bool `json:"on"`      // they count
	Inherit bool `json:"inherit"` // what they leave open is the server's own
	Cite    Cite `json:"cite"`
}

// Display is what a machine's resultant report shows: the settings of the templates
// that won there. People take it for what governs; it knows neither fine-grained
// policies nor what the directory enforces.
type Display struct {
	Machine  string                `json:"machine"`
	Settings Settings              `json:"settings"`
	By       map[setting.ID]string `json:"by,omitempty"` // the policy that gave each
	Cite     Cite                  `json:"cite"`
}

// Reference is a fine-grained policy that an account or group points at, or
// that earlier evidence held.
type Reference struct {
	DN      string   `json:"dn"`
	Known   bool     `json:"known"`          // the policy itself is in the evidence
	Lost    bool     `json:"lost,omitempty"` // earlier evidence held it
	Count   int      `json:"count"`
	Rows    []int    `json:"rows,omitempty"`    // of the objects that a policy which is not known applies to
	Targets []string `json:"targets,omitempty"` // DNs that a policy named which earlier evidence held
	Cite    Cite     `json:"cite"`
}

// Dispute is a membership on which the two sides disagree.
type Dispute struct {
	Group  int  `json:"group"`  // row
	Member int  `json:"member"` // row
	Silent Side `json:"silent"` // the side that does not tell it
	Cite   Cite `json:"cite"`   // of the silent one's record
}

// Side is one of the two attributes that tell a membership.
type Side string

// The sides.
const (
	OfGroup  Side = "member"   // of the group
	OfMember Side = "memberOf" // of the member
)

// Lost names what a place can have less of.
type Lost string

// What can be lost.
const (
	LostPolicies    Lost = "fine-grained policies"
	LostAccounts    Lost = "accounts"
	LostGroups      Lost = "groups"
	LostComputers   Lost = "computers"
	LostMemberships Lost = "memberships"
	LostFlags       Lost = "accounts with their flags"
	LostSettings    Lost = "settings"
	LostLinks       Lost = "places with links to templates"
	LostContainers  Lost = "policy containers"
	LostFiles       Lost = "files" // of a policy
)

// Loss is something of which new evidence of a place holds less than the
// evidence whose place it took.
type Loss struct {
	What   Lost     `json:"what"`
	Before int      `json:"before"`
	Now    int      `json:"now"`
	Names  []string `json:"names,omitempty"` // of the first few, where they have names
	Files  []string `json:"files"`           // the earlier evidence
}

// Link is one entry of a gPLink: a policy container and its options.
type Link struct {
	GUID     string `json:"guid"` // of the container, upper case with braces
	Disabled bool   `json:"disabled,omitempty"`
	Enforced bool   `json:"enforced,omitempty"`
	// Domain is the one whose policy is linked, where it is another than that of the
	// place; empty: the place's own.
	Domain string `json:"domain,omitempty"`
}

// Unit is a place to which templates can be linked: the domain's root or an
// organisational unit. Links stand in the order written; the last one wins.
type Unit struct {
	DN      string `json:"dn"`
	Root    bool   `json:"root,omitempty"`
	Links   []Link `json:"links,omitempty"`
	Blocked bool   `json:"blocked,omitempty"` // inheritance is blocked
	// AnyOrder: policies' reports tell of the links, each for itself: in what order
	// they act, and which others there are, is not known.
	AnyOrder bool `json:"any_order,omitempty"`
	Cite     Cite `json:"cite"`
}

// Container is a group-policy container: the directory's half of a template.
type Container struct {
	GUID       string `json:"guid"` // upper case with braces
	Name       string `json:"name"`
	MachineOff bool   `json:"machine_off,omitempty"`
	// Filtered: the evidence holds its security descriptor, of which Access is
	// the part that decides whom the policy applies to.
	Filtered bool  `json:"filtered,omitempty"`
	Access   []ACE `json:"access,omitempty"`
	// Whole: it was exported with its other attributes, so that what it lacks is
	// not set.
	Whole bool `json:"whole,omitempty"`
	// NoSecurity: its list of extensions, which was exported, has no security
	// settings: it has no template.
	NoSecurity bool `json:"no_security,omitempty"`
	// NoRegistry: the same of registry settings.
	NoRegistry bool `json:"no_registry,omitempty"`
	// Preferences: that list has preferences for the registry.
	Preferences bool `json:"preferences,omitempty"`
	// Unapplied: it is of a kind that clients pass by (gPCFunctionalityVersion, MS-GPOL
	// 3.2.5.1.6).
	Unapplied bool `json:"unapplied,omitempty"`
	// Half is how often its computer half was changed, by its versionNumber: 0, and clients
	// pass it by (MS-GPOL 3.2.5.1.5). Nil: that is not in the evidence.
	Half *int `json:"half,omitempty"`
	// WMIFilter names the filter that machines ask themselves; the result is
	// nothing that a directory could tell.
	WMIFilter string `json:"wmi_filter,omitempty"`
	Cite      Cite   `json:"cite"`
}

// ACE is one entry of a policy container's access list, in its order, as far
// as it bears on reading and applying the policy (MS-DTYP 2.4.4, MS-GPOL
// 3.2.5.1.6).
type ACE struct {
	SID   string `json:"sid"`
	Deny  bool   `json:"deny,omitempty"`
	Read  bool   `json:"read,omitempty"`
	Apply bool   `json:"apply,omitempty"`
}

// Template is one security template with standing "configured".
type Template struct {
	GUID   string `json:"guid,omitempty"` // upper case with braces; empty: not known
	Domain string `json:"domain,omitempty"`
	Policy Policy `json:"policy"`
	// Registry: the policy's registry file is in the evidence, so that what it does not
	// set is not set.
	Registry bool `json:"registry,omitempty"`
	// InRegistry are the settings that its registry file sets; the others its security
	// template does, or its preferences.
	InRegistry []setting.ID `json:"in_registry,omitempty"`
	// Preferences: the same of what its preferences set in the registry. Preferred are the
	// settings that they decide: they are applied after all else, whatever the policy.
	Preferences bool         `json:"preferences,omitempty"`
	Preferred   []setting.ID `json:"preferred,omitempty"`
	// Half is how often the policy's computer half was changed, by its GPT.INI (MS-GPOL
	// 2.2.4); nil: that is not in the evidence.
	Half *int `json:"half,omitempty"`
	// Part: this is the registry file alone, or the preferences, and says nothing of other
	// settings.
	Part  bool     `json:"part,omitempty"`
	Files []string `json:"files,omitempty"` // evidence that it comes from, in the order read
	// Gone are files on record that its folder holds no more. What they set is not known,
	// until the auditor says that less is right.
	Gone []string `json:"gone,omitempty"`
}

// Identity is what stays the same when the place gets another name; empty: nothing in the
// evidence does.
func (a *Authority) Identity() string { return cmp.Or(a.SID, a.MachineID) }

// NeverChanged reports whether its version says that its computer half was never changed.
func (c *Container) NeverChanged() bool { return c.Half != nil && *c.Half == 0 }

// NeverChanged reports whether its GPT.INI says that its computer half was never changed.
func (t *Template) NeverChanged() bool { return t.Half != nil && *t.Half == 0 }

// Same reports whether both tell of one policy: of one GUID and, where both say which,
// of one domain.
func (t *Template) Same(other Template) bool {
	return t.GUID == other.GUID && (t.Domain == other.Domain || t.Domain == "" || other.Domain == "")
}

// RemarkKind says what a remark is about.
type RemarkKind string

// The kinds of remarks.
const (
	NotCalled       RemarkKind = "not-called"        // a module's file is there, and nothing calls the module
	NotObeyed       RemarkKind = "not-obeyed"        // a module is called, and its refusal does not count
	DoorsDiffer     RemarkKind = "doors-differ"      // ways to sign in that lock differently
	NewAccountsOnly RemarkKind = "new-accounts-only" // what new accounts are given differs from what accounts have
	NotTaken        RemarkKind = "not-taken"         // a module does not take what its file or its call says
	NotModelled     RemarkKind = "not-modelled"      // what a module answers cannot be told; the weaker outcome is taken
	Elsewhere       RemarkKind = "elsewhere"         // accounts of another place are taken, too
	ListCut         RemarkKind = "list-cut"          // a list of an export goes on in one that is not in the evidence
	RuleOpen        RemarkKind = "rule-open"         // a rule says what is not understood
	RuleLimited     RemarkKind = "rule-limited"      // a rule asks on conditions only
	HomeUnseen      RemarkKind = "home-unseen"       // whether another place checks passwords is not in the evidence
	FieldUnseen     RemarkKind = "field-unseen"      // a field that bears on what governs accounts was exported of none of them
	SSHUnseen       RemarkKind = "ssh-unseen"        // whether sshd asks PAM is not in the evidence
	OldHash         RemarkKind = "old-hash"          // stored in a weaker way than new passwords are
	DatedAhead      RemarkKind = "dated-ahead"       // a change of a password that lies in the future
)

// Remark is something about how an authority is set up that only its reader
// can see, and that the weighing reports.
type Remark struct {
	Kind     RemarkKind   `json:"kind"`
	About    string       `json:"about,omitempty"` // tells remarks of one kind apart
	Text     string       `json:"text"`
	Remedy   string       `json:"remedy"`
	Settings []setting.ID `json:"settings,omitempty"`
	Accounts []string     `json:"accounts,omitempty"` // by name, where not all are concerned
	Cites    []Cite       `json:"cites"`
}

// Problem is something in the evidence that was not understood.
type Problem struct {
	Cite Cite   `json:"cite"`
	Text string `json:"text"`
	// Damaged: a value no platform could hold, or evidence that contradicts
	// itself. It is refused unless the auditor takes it knowingly.
	Damaged bool `json:"damaged,omitempty"`
	// Contradicts: two pieces of evidence say different things.
	Contradicts bool `json:"contradicts,omitempty"`
}

// Estate is everything the current evidence says.
type Estate struct {
	Authorities []*Authority
	Templates   []Template
}

// GUID is an objectGUID in its stored byte order. The zero GUID is "missing".
type GUID [16]byte

// textOrder gives, for each byte of the text form, its stored place.
var textOrder = [16]int{3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15}

// ParseGUID reads the text form, with or without braces, or 16 raw bytes.
func ParseGUID(text []byte) (GUID, error) {
	var g GUID
	if len(text) == 16 {
		copy(g[:], text)
		return g, nil
	}
	plain := strings.ReplaceAll(strings.Trim(string(text), "{}"), "-", "")
	raw, err := hex.DecodeString(plain)
	if err != nil || len(raw) != 16 {
		return GUID{}, fmt.Errorf("%q is not a GUID", text)
	}
	for i, place := range textOrder {
		g[place] = raw[i]
	}
	return g, nil
}

// String writes the text form; empty for the zero GUID.
func (g GUID) String() string {
	if g == (GUID{}) {
		return ""
	}
	var raw [16]byte
	for i, place := range textOrder {
		raw[i] = g[place]
	}
	return fmt.Sprintf("%x-%x-%x-%x-%x", raw[:4], raw[4:6], raw[6:8], raw[8:10], raw[10:])
}

// MarshalText writes the text form.
func (g GUID) MarshalText() ([]byte, error) { return []byte(g.String()), nil }

// UnmarshalText reads what MarshalText wrote.
func (g *GUID) UnmarshalText(text []byte) (err error) {
	if len(text) == 0 {
		*g = GUID{}
		return nil
	}
	*g, err = ParseGUID(text)
	return err
}
