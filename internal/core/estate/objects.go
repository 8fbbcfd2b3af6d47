package estate

import (
	"fmt"
	"iter"
	"strings"
)

// Class says what an object of a directory is.
type Class uint8

// The classes. Only accounts are counted and governed.
const (
	Other    Class = iota // anything else that a policy or group may name
	Account               // a person's or a service's account
	Group                 //
	Computer              // its password is the directory's own affair
	Managed               // a managed service account: the same
)

// Flag is a property of an account that bears on its password or lockout.
type Flag uint32

// The flags, from userAccountControl and its neighbours.
const (
	Disabled       Flag = 1 << iota
	NoneRequired        // a password is not required
	Reversible          // stored so that it can be read back
	NeverExpires        // the password never expires
	SmartCard           // a smart card is required; the password is moot
	NoPreauth           // no Kerberos pre-authentication
	AdminCount          // was or is in a protected administrative group
	ServiceName         // has a service principal name
	LockedNow           // was locked when the export was made
	NeverOverride       // a kind of account that no fine-grained policy governs
	BuiltinDomain       // its SID is of the built-in domain, S-1-5-32
	NoControl           // the evidence lacks userAccountControl: enabled or not, and most flags, are not known
	NoPrimary           // the evidence lacks primaryGroupID
	EmptyPassword       // has an empty password
	Synced              // synchronised from a domain
	Federated           // signs in at another place than the tenant
	Administrator       // holds an administrative role, as the evidence says
	SecondFactor        // has a second factor
	NoSecondFactor      // has none
	MustChange          // has to change its password at the next sign-in
	Guest               // of a tenant: its home governs it
	FactorRequired      // a second factor is asked for at every sign-in
	FactorOptional      // none is asked for

	// Of a directory domain, how far the evidence goes:
	Unseen       // named by the evidence, and not in it: what it is, is not known
	Unclassified // exported without what would tell what it is
	HoldersShown // the groups that hold it were exported with it: none is missing
	AppliedShown // the policies that name it were exported with it: none is missing
	MembersPart  // of a group: members may be missing from its list
	LooseMembers // of a group: members that are not in the evidence
	CutShort     // its record may have been cut

	NoHome // of a tenant: the evidence lacks whether another place governs it

	FactorAtTimes // a second factor is asked for where the service sees a reason, and not at every sign-in
)

var flagNames = []struct {
	flag Flag
	name string
}{
	{NoneRequired, "password-not-required"},
	{Reversible, "reversible"},
	{NeverExpires, "never-expires"},
	{SmartCard, "smart-card"},
	{NoPreauth, "no-preauthentication"},
	{LockedNow, "locked"},
	{ServiceName, "service-name"},
	{AdminCount, "admin-count"},
	{EmptyPassword, "empty-password"},
	{MustChange, "must-change"},
	{Guest, "guest"},
	{FactorRequired, "factor-required"},
	{FactorOptional, "factor-not-required"},
	{FactorAtTimes, "factor-at-times"},
	{Synced, "synchronised"},
	{Federated, "federated"},
	{Administrator, "administrator"},
	{SecondFactor, "second-factor"},
	{NoSecondFactor, "no-second-factor"},
	{NoControl, "flags-not-in-evidence"},
	{NoPrimary, "primary-group-not-in-evidence"},
	{NoHome, "home-not-in-evidence"},
}

// Trait is what is particular about how an account of a machine signs in.
type Trait uint8

// The traits.
const (
	NoPassword Trait = 1 << iota // no password lets it in; a key may
	NoSession                    // its shell lets nobody work
	NoDay                        // its line lacks the day of the last change: the password counts as older than any
	SameDay                      // its password ends on the last day that it may be old, not on the day after
	Ageless                      // it lacks that day, and its password never grows old
	OddShell                     // its shell is none that is known to let somebody work, or not to
	NoLine                       // shadow has no line of it, or one that the system does not take: it signs in nowhere
)

// Names returns the names of the flags that pages show, in a fixed order.
// Disabled is not among them: it has a column of its own.
func (f Flag) Names() []string {
	var names []string
	for _, n := range flagNames {
		if f&n.flag != 0 {
			names = append(names, n.name)
		}
	}
	return names
}

// FlagNamed returns the flag of that name.
func FlagNamed(name string) (f Flag, ok bool) {
	for _, n := range flagNames {
		if n.name == name {
			return n.flag, true
		}
	}
	return f, false
}

// FlagsNamed returns the names of all flags that pages show.
func FlagsNamed() []string { return (^Flag(0)).Names() }

// Types of groups, as in groupType.
const (
	groupBuiltin   = 0x1
	groupGlobal    = 0x2
	groupLocal     = 0x4
	groupUniversal = 0x8
	groupSecurity  = 0x80000000
)

// SecurityGroup is the type of a group of a place that has only one.
const SecurityGroup = groupSecurity | groupGlobal

// GroupType is the attribute groupType (MS-ADTS 2.2.12). The zero GroupType is
// "not in the evidence": no group has it.
type GroupType uint32

// Security reports whether the group can carry rights at all.
func (t GroupType) Security() bool { return t&groupSecurity != 0 }

// Global reports whether it is a global group.
func (t GroupType) Global() bool { return t&groupGlobal != 0 }

// Builtin reports whether the system itself made it, in the domain's built-in
// container.
func (t GroupType) Builtin() bool { return t&groupBuiltin != 0 }

// String names the type as administrators do.
func (t GroupType) String() string {
	scope := "group of unknown scope"
	switch {
	case t&groupGlobal != 0:
		scope = "global"
	case t&groupUniversal != 0:
		scope = "universal"
	case t.Builtin():
		scope = "built-in local"
	case t&groupLocal != 0:
		scope = "domain-local"
	}
	if t == 0 {
		return "group whose type is not in the evidence"
	}
	if t.Security() {
		return scope + " security group"
	}
	return scope + " distribution group"
}

// Objects is one authority's accounts, groups, computers and whatever else its
// policies may name: a row each, a column for each property, so that a million
// fit in memory and a question reads only the columns it needs.
type Objects struct {
	Class     Numbers[uint8]
	Flags     Numbers[uint32] // of Flag
	RID       Numbers[uint32] // last part of the SID
	Primary   Numbers[uint32] // RID of the primary group
	GroupType Numbers[uint32] // of GroupType
	Parent    Numbers[uint32] // row in the authority's Parents
	File      Numbers[uint32] // row in the authority's Files
	Line      Numbers[uint32] // where the record begins
	Control   Numbers[uint32] // userAccountControl
	ControlAt Numbers[uint8]  // how many lines below the record's first it stands; 0 not known
	PwdSet    Numbers[uint32] // Unix seconds; 0 never or not known
	LastLogon Numbers[uint32] // Unix seconds; 0 never or not known
	// Few rows of few places have these; a column ends with the last row that has one.
	Ends      Numbers[uint32] // Unix seconds from which the account lets nobody in; 0 it has no end, or none is known
	Failures  Numbers[uint32] // failed sign-ins that count now; 0 none or not known
	MaxDays   Numbers[uint32] // 1 + days that its own line lets a password grow old; 0 it says none
	IdleDays  Numbers[uint32] // 1 + idle days after that, of the same line; 0 it says none
	Traits    Numbers[uint8]  // of Trait
	Applied   Numbers[uint32] // 1 + row in Policies that the object says applies directly; 0 none
	Resultant Numbers[uint32] // 1 + row in Policies that the directory itself says governs; 0 none
	RDN       Texts           // first part of the DN
	Name      Texts           // sAMAccountName
	Principal Texts           // userPrincipalName
	Display   Texts           // displayName
	// Source says where a synchronised account of a tenant comes from: domain,
	// account name and SID, as far as the evidence has them, parted by tabs. No
	// other kind of authority fills it.
	Source Texts

	// Groups that hold a row: its part of Holds begins where the part of the
	// row before ends.
	HoldEnds Numbers[uint32]
	Holds    Numbers[uint32] // rows of groups
	// Members that the evidence names but does not hold.
	LooseGroup Numbers[uint32]
	LooseFile  Numbers[uint32]
	LooseLine  Numbers[uint32]
}

// Columns returns all columns under the names by which they are stored.
func (o *Objects) Columns() iter.Seq2[string, Column] {
	return func(yield func(string, Column) bool) {
		_ = yield("class", &o.Class) && yield("flags", &o.Flags) && yield("rid", &o.RID) &&
			yield("primary", &o.Primary) && yield("group-type", &o.GroupType) &&
			yield("parent", &o.Parent) && yield("file", &o.File) && yield("line", &o.Line) &&
			yield("control", &o.Control) && yield("control-at", &o.ControlAt) &&
			yield("pwd-set", &o.PwdSet) && yield("last-logon", &o.LastLogon) &&
			yield("ends", &o.Ends) && yield("failures", &o.Failures) && yield("max-days", &o.MaxDays) &&
			yield("idle-days", &o.IdleDays) && yield("traits", &o.Traits) &&
			yield("applied", &o.Applied) && yield("resultant", &o.Resultant) &&
			yield("rdn", &o.RDN) && yield("name", &o.Name) &&
			yield("principal", &o.Principal) && yield("display", &o.Display) && yield("source", &o.Source) &&
			yield("hold-ends", &o.HoldEnds) && yield("holds", &o.Holds) &&
			yield("loose-group", &o.LooseGroup) && yield("loose-file", &o.LooseFile) && yield("loose-line", &o.LooseLine)
	}
}

// Since2 reports whether a column is one that ledgers have since digests of form 2.
func Since2(name string) bool { return fewHave[strings.TrimPrefix(name, quickly)] }

// Lengths returns the number of rows of each column that has as many as there are
// objects, or none.
func (o *Objects) Lengths() iter.Seq2[string, int] {
	return func(yield func(string, int) bool) {
		for name, c := range o.Columns() {
			if ofMembers[name] || fewHave[name] {
				continue
			}
			if c, ok := c.(interface{ Len() int }); ok && !yield(name, c.Len()) {
				return
			}
		}
	}
}

// Len returns the number of rows.
func (o *Objects) Len() int { return o.Class.Len() }

// ClassOf returns the class of a row.
func (o *Objects) ClassOf(row int) Class { return Class(o.Class.At(row)) }

// FlagsOf returns the flags of a row.
func (o *Objects) FlagsOf(row int) Flag { return Flag(o.Flags.At(row)) }

// GroupsOf returns the rows of the groups that name this row as a member. The
// primary group is not among them.
func (o *Objects) GroupsOf(row int) iter.Seq[int] {
	return func(yield func(int) bool) {
		from := 0
		if row > 0 {
			from = int(o.HoldEnds.At(row - 1))
		}
		for i := from; i < int(o.HoldEnds.At(row)); i++ {
			if !yield(int(o.Holds.At(i))) {
				return
			}
		}
	}
}

// TraitsOf returns the traits of a row.
func (o *Objects) TraitsOf(row int) Trait { return Trait(o.Traits.At(row)) }

// Without returns the objects with a flag taken off some rows, and its bit off their
// userAccountControl. All other columns are shared.
func (o *Objects) Without(f Flag, bit uint32, rows []int) *Objects {
	out := *o
	out.Flags, out.Control = o.Flags.clone(), o.Control.clone()
	for _, row := range rows {
		out.Flags.set(row, out.Flags.At(row)&^uint32(f))
		if row < out.Control.Len() {
			out.Control.set(row, out.Control.At(row)&^bit)
		}
	}
	return &out
}

// DN returns the row's DN as the evidence writes it.
func (a *Authority) DN(row int) string {
	rdn, parent := a.Objects.RDN.At(row), a.Parents[a.Objects.Parent.At(row)]
	if parent == "" {
		return rdn
	}
	return rdn + "," + parent
}

// ControlCite returns the line of the row's userAccountControl.
func (a *Authority) ControlCite(row int) Cite {
	c := a.CiteOf(row)
	c.Line += int(a.Objects.ControlAt.At(row))
	c.Where, c.Raw = "userAccountControl", fmt.Sprint(a.Objects.Control.At(row))
	return c
}

// CiteOf returns the line at which the row's record begins.
func (a *Authority) CiteOf(row int) Cite {
	return Cite{File: a.Files[a.Objects.File.At(row)], Line: int(a.Objects.Line.At(row)), Where: "dn", Raw: a.DN(row)}
}
