// Package ldif reads a directory's export in LDIF (RFC 2849) with the
// attributes of the Active Directory schema (MS-ADTS): the domain's head,
// fine-grained policies, groups, accounts, units and policy containers.
package ldif

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
)

// Format is the directory export.
var Format = intake.Format{Name: "directory export (LDIF)", Detect: detect, Read: read}

var opening = regexp.MustCompile(`(?i)^(?:\s|#[^\n]*\n(?: [^\n]*\n)*)*(?:version:\s*\d|dn:)`)

func detect(_ string, head []byte) bool {
	return opening.Match(intake.Opening(head))
}

// classes are the object classes that say what to do with a record.
type class uint16

const (
	cHead class = 1 << iota
	cPolicy
	cGroup
	cAccount
	cComputer
	cManaged
	cUnit
	cContainer
	cOther    // may be named as a member or a target
	cPolicies // the container of fine-grained policies

	// Of an LDAP directory that is no Windows domain:
	cPerson    // may sign in
	cNames     // a group
	cPwdPolicy // a policy of the password-policy object class
	cDatabase  // a database of a server's configuration
	cOverlay   // its password-policy overlay
)

// ofDomain are the classes that only a Windows domain's entries have.
const ofDomain = cHead | cPolicy | cGroup | cAccount | cComputer | cManaged | cContainer | cOther | cPolicies

var classes = map[string]class{
	"domaindns": cHead, "msds-passwordsettings": cPolicy, "msds-passwordsettingscontainer": cPolicies, "group": cGroup,
	"user": cAccount, "computer": cComputer,
	"msds-managedserviceaccount": cManaged, "msds-groupmanagedserviceaccount": cManaged, "msds-delegatedmanagedserviceaccount": cManaged,
	"organizationalunit": cUnit, "grouppolicycontainer": cContainer,
	"foreignsecurityprincipal": cOther, "contact": cOther,
	"top": 0, "organizationalPerson": 0, // on every account: known to say nothing
	"person": cPerson, "inetorgperson": cPerson, "inetOrgPerson": cPerson, "posixaccount": cPerson, "account": cPerson, "simplesecurityobject": cPerson,
	"groupofnames": cNames, "groupofuniquenames": cNames, "posixgroup": cNames, "pwdpolicy": cPwdPolicy,
	"olcdatabaseconfig": cDatabase, "olcmdbconfig": cDatabase, "olchdbconfig": cDatabase, "olcbdbconfig": cDatabase, "olcldifconfig": cDatabase,
	"olcppolicyconfig": cOverlay,
}

// classOf finds a class by its name, whatever its case; as directories write
// the most common ones, without making a new text.
func classOf(name []byte) class {
	if c, ok := classes[string(name)]; ok {
		return c
	}
	return classes[strings.ToLower(string(name))]
}

// Bits of userAccountControl (MS-ADTS 2.2.16).
const (
	ucDisabled     = 0x2
	ucNoneRequired = 0x20
	ucReversible   = 0x80
	ucNormal       = 0x200
	ucTrusts       = 0x800 | 0x1000 | 0x2000
	ucMachines     = 0x1000 | 0x2000
	ucNeverExpires = 0x10000
	ucSmartCard    = 0x40000
	ucNoPreauth    = 0x400000
)

var controlFlags = []struct {
	bit  int64
	flag estate.Flag
}{
	{ucDisabled, estate.Disabled}, {ucNoneRequired, estate.NoneRequired}, {ucReversible, estate.Reversible},
	{ucNeverExpires, estate.NeverExpires}, {ucSmartCard, estate.SmartCard}, {ucNoPreauth, estate.NoPreauth},
}

// reader turns records into facts.
type reader struct {
	*scanner
	into    *estate.Builder
	domains map[string]string // parent DN as written to domain
	samba   estate.Cite       // the root entry's word for the server, if it says samba
	naming  string            // and the domain it speaks for
	got     int               // records that held something known
	rec     estate.Record     // reused
	class   class
	server  serverConfig
}

func read(src *intake.Source, into *estate.Builder) error {
	r := &reader{scanner: newScanner(src), into: into, domains: map[string]string{}}
	for {
		err := r.next()
		if err == io.EOF {
			break
		}
		if err == nil {
			err = r.record()
		}
		if err != nil {
			return err
		}
	}
	if r.got == 0 {
		return &intake.Error{Path: src.Path, Seen: "an LDIF file without a domain's head, policy, group, account, unit or policy container",
			Expected: "a directory export", Next: "see docs/sources.md for how to make one"}
	}
	if r.samba.File != "" && r.naming != "" {
		a := into.At(estate.InDomain(estate.DomainOf(r.naming)))
		a.Dialect, a.DialectCite = estate.Samba, r.samba
	}
	r.serverDefaults()
	if r.noNewline {
		into.NotUnderstood(into.Cite(r.line, "", ""), "the file's last line has no end; if the export was cut there, its last record is not whole")
	}
	return nil
}

// text0 returns an attribute's first value, or nothing.
func (r *reader) text0(a attr) ([]byte, error) {
	if v := r.find(a); v != nil {
		return r.textOf(v)
	}
	return nil, nil
}

// integer returns an attribute's first value as a number. One that is none is
// noted and counts as absent.
func (r *reader) integer(a attr) (n int64, ok bool, err error) {
	v := r.find(a)
	if v == nil {
		return 0, false, nil
	}
	raw, err := r.textOf(v)
	if err != nil {
		return 0, false, err
	}
	n, bad := strconv.ParseInt(string(raw), 10, 64)
	if bad != nil {
		r.into.Damaged(r.cite(v, raw), "%s is not a whole number", named[a][0])
		return 0, false, nil
	}
	return n, true, nil
}

func (r *reader) cite(v *value, raw []byte) estate.Cite {
	name := ""
	if v.attr >= aSetting {
		name = readings[v.attr-aSetting].name
	} else {
		name = named[v.attr][0]
	}
	return r.into.Cite(v.line, name, string(raw))
}

func (r *reader) record() error {
	dn := r.find(aDN)
	if dn == nil {
		return r.outside()
	}
	if change := r.find(aChangeType); change != nil {
		if kind, _ := r.textOf(change); string(kind) != "add" {
			return r.errorAt(change.line, "a change record ("+intake.Excerpt(kind)+")", "an export of entries", "export the entries themselves, not changes to them")
		}
	}
	name, err := r.textOf(dn)
	if err != nil {
		return err
	}
	if len(name) == 0 {
		return r.root()
	}
	r.class = 0
	for i := range r.values {
		v := &r.values[i]
		if v.attr == aDN && i > 0 {
			return r.errorAt(v.line, "a second \"dn:\" in one entry", "a blank line between entries", "the export was edited or joined by hand: put the blank line back")
		}
		if v.attr == aObjectClass {
			r.class |= classOf(r.text[v.from:v.to])
		}
	}
	if r.class == 0 && r.find(aControl) != nil {
		r.class = cAccount // an export of chosen attributes, without objectClass
	}
	if r.class == 0 {
		if v := r.find(aName); v != nil {
			r.into.NotUnderstood(r.into.Cite(r.first, "dn", string(name)), "an entry with a sAMAccountName but no objectClass or userAccountControl")
		}
		return nil
	}
	if r.class&(cDatabase|cOverlay) != 0 {
		return r.configuration(name)
	}
	if r.ofLDAP() {
		return r.ldap(name)
	}
	domain := r.domainOf(name)
	if domain == "" {
		r.into.NotUnderstood(r.into.Cite(r.first, "dn", string(name)), "the entry's name has no domain (DC=…) part")
		return nil
	}
	r.got++
	at := estate.InDomain(domain)
	switch {
	case r.class&cHead != 0:
		return r.head(at, name)
	case r.class&cPolicy != 0:
		return r.policy(at, name)
	case r.class&cContainer != 0:
		return r.container(at)
	case r.class&cPolicies != 0:
		r.into.At(at).PoliciesLie = true
		return nil
	}
	if r.class&cUnit != 0 {
		if err := r.unit(at, name, false); err != nil {
			return err
		}
	}
	return r.object(at, name)
}

// outside takes a block without dn: the version line, referrals, and the
// closing lines that search programs write.
func (r *reader) outside() error {
	for i := range r.values {
		v := &r.values[i]
		if v.attr == aResult {
			if raw, _ := r.textOf(v); !bytes.HasPrefix(raw, []byte("0")) {
				r.into.Damaged(r.cite(v, raw), "the search that made this export ended with result %s: entries are missing", raw)
			}
		} else if v.attr != aMeta {
			return r.errorAt(v.line, "an attribute outside any entry: "+intake.Excerpt(r.text[v.from:v.to]), "a line \"dn: …\" first", "the export is cut or was edited")
		}
	}
	if len(r.values) == 0 {
		return r.errorAt(r.first, "attributes outside any entry", "a line \"dn: …\" first", "the export is cut or was edited")
	}
	return nil
}

// root takes the server's root entry, which names the server's maker.
func (r *reader) root() error {
	if v := r.find(aVendor); v != nil {
		if raw, err := r.textOf(v); err != nil {
			return err
		} else if strings.Contains(strings.ToLower(string(raw)), "samba") {
			r.samba = r.cite(v, raw)
		}
	}
	naming, err := r.text0(aNaming)
	r.naming = string(naming)
	return err
}

// domainOf remembers the domain of each parent: there are few.
func (r *reader) domainOf(dn []byte) string {
	_, parent := estate.SplitDN(dn)
	domain, ok := r.domains[string(parent)]
	if !ok {
		if domain = estate.DomainOf(string(parent)); r.class&cHead == 0 {
			r.domains[string(parent)] = domain
		}
	}
	if r.class&cHead != 0 {
		return estate.DomainOf(string(dn))
	}
	return domain
}

// settingsInto reads all setting attributes of the record.
func (r *reader) settingsInto(facts estate.Settings, p setting.Platform) error {
	for i := range r.values {
		v := &r.values[i]
		if v.attr < aSetting {
			continue
		}
		raw, err := r.textOf(v)
		if err != nil {
			return err
		}
		c := r.cite(v, raw)
		for _, h := range readings[v.attr-aSetting].holds {
			c.Where = readings[v.attr-aSetting].name + h.part
			if got, err := h.read(string(raw)); err != nil {
				r.into.Unreadable(facts, h.id, c, err.Error())
			} else {
				r.into.Set(facts, p, h.id, got, c)
			}
		}
	}
	return nil
}

func (r *reader) head(at estate.Place, dn []byte) error {
	if r.find(aSID) == nil && !r.anySetting() && (strings.HasPrefix(at.Name, "domaindnszones.") || strings.HasPrefix(at.Name, "forestdnszones.")) {
		return nil // the DNS partitions have the same class and no accounts
	}
	a := r.into.At(at)
	if a.Head == nil {
		a.Head = &estate.Policy{Name: "domain default", Origin: string(dn), Standing: estate.Enforced, Platform: setting.WindowsDomain,
			Settings: estate.Settings{}, Cite: r.into.Cite(r.first, "dn", string(dn))}
	}
	if err := r.settingsInto(a.Head.Settings, setting.WindowsDomain); err != nil {
		return err
	}
	if v := r.find(aSID); v != nil {
		raw, err := r.bytesOf(v)
		if err != nil {
			return err
		}
		sid, err := parseSID(raw)
		if err != nil {
			r.into.Damaged(r.cite(v, nil), "%v", err)
		}
		a.SID = sid
	}
	if a.Dialect == "" {
		a.Dialect, a.DialectCite = estate.Windows, a.Head.Cite
	}
	if v := r.find(aOEM); v != nil {
		raw, err := r.textOf(v)
		if err != nil {
			return err
		}
		if strings.Contains(strings.ToLower(string(raw)), "samba") {
			a.Dialect, a.DialectCite = estate.Samba, r.cite(v, raw)
		}
	}
	return r.unit(at, dn, true)
}

func (r *reader) anySetting() bool {
	for i := range r.values {
		if r.values[i].attr >= aSetting {
			return true
		}
	}
	return false
}

func (r *reader) policy(at estate.Place, dn []byte) error {
	p := r.into.Override(at, dn, r.first)
	if err := r.settingsInto(p.Settings, p.Platform); err != nil {
		return err
	}
	for i := range r.values {
		v := &r.values[i]
		if v.attr != aGUID && v.attr != aPrecedence && v.attr != aAppliesTo {
			continue
		}
		raw, err := r.bytesOf(v)
		if err != nil {
			return err
		}
		switch v.attr {
		case aGUID:
			if p.GUID, err = estate.ParseGUID(raw); err != nil {
				r.into.Damaged(r.cite(v, raw), "%v", err)
			}
		case aPrecedence:
			if n, ok := atoi(raw); !ok || n < 1 {
				r.into.Damaged(r.cite(v, raw), "a precedence of %s; a fine-grained policy has 1 or more", raw)
			} else {
				p.Precedence = &n
			}
		case aAppliesTo:
			p.Targets = append(p.Targets, estate.Target{DN: string(raw), Cite: r.cite(v, raw)})
		}
	}
	return nil
}

var linkForm = regexp.MustCompile(`(?i)\[LDAP://[^\];]*?(\{[0-9a-f-]{36}\})[^\];]*;(\d+)\]`)

// unit notes where templates are linked (MS-GPOL 2.2.2).
func (r *reader) unit(at estate.Place, dn []byte, root bool) error {
	u := r.into.Unit(at, dn, r.first)
	u.Root = root
	if v := r.find(aLink); v != nil && len(u.Links) == 0 {
		raw, err := r.textOf(v)
		if err != nil {
			return err
		}
		u.Cite = r.cite(v, raw)
		found := linkForm.FindAllSubmatch(raw, -1)
		for _, m := range found {
			options, _ := strconv.Atoi(string(m[2]))
			u.Links = append(u.Links, estate.Link{GUID: strings.ToUpper(string(m[1])), Disabled: options&1 != 0, Enforced: options&2 != 0})
		}
		if links := bytes.Count(raw, []byte("[")); links != len(found) {
			r.into.NotUnderstood(u.Cite, "%d of %d links of the gPLink are not understood", links-len(found), links)
		}
	}
	n, _, err := r.integer(aLinkOptions)
	if err != nil {
		return err
	}
	u.Blocked = u.Blocked || n&1 != 0
	return nil
}

var guidForm = regexp.MustCompile(`(?i)^\{[0-9a-f-]{36}\}$`)

func (r *reader) container(at estate.Place) error {
	dn, err := r.textOf(r.find(aDN))
	if err != nil {
		return err
	}
	guid := strings.ToUpper(estate.NameOf(string(dn)))
	if !guidForm.MatchString(guid) {
		r.into.NotUnderstood(r.into.Cite(r.first, "dn", string(dn)), "a policy container whose name is not a GUID in braces")
		return nil
	}
	c := estate.Container{GUID: guid, Cite: r.into.Cite(r.first, "dn", string(dn))}
	name, err := r.text0(aDisplay)
	if err != nil {
		return err
	}
	flags, _, err := r.integer(aFlags)
	if err != nil {
		return err
	}
	c.Name, c.MachineOff = string(name), flags&2 != 0
	a := r.into.At(at)
	a.Containers = append(a.Containers, c)
	return nil
}

// object adds an account, group, computer or other thing that can be named.
func (r *reader) object(at estate.Place, dn []byte) error {
	rec := &r.rec
	*rec = estate.Record{DN: dn, Line: r.first}
	var numbers [aSetting]int64
	for i := range r.values {
		v := &r.values[i]
		if v.piece.ranged && v.attr != aMember {
			continue
		}
		switch v.attr {
		case aSID:
			raw, err := r.bytesOf(v)
			if err != nil {
				return err
			}
			rid, builtin, err := relativeID(raw)
			if err != nil {
				r.into.NotUnderstood(r.cite(v, nil), "%v", err)
			}
			rec.RID = rid
			if builtin {
				rec.Flags |= estate.BuiltinDomain
			}
		case aServiceName:
			rec.Flags |= estate.ServiceName
		case aName, aPrincipal, aDisplay, aResultant, aApplied:
			raw, err := r.textOf(v)
			if err != nil {
				return err
			}
			switch v.attr {
			case aName:
				rec.Name = raw
			case aPrincipal:
				rec.Principal = raw
			case aDisplay:
				rec.Display = raw
			case aResultant:
				rec.Resultant = raw
				r.into.At(at).AnswerGiven = true
			case aApplied:
				if rec.Applied != nil {
					r.into.PointsAt(at, rec.Applied, v.line)
				}
				rec.Applied = raw
			}
		case aControl, aPrimary, aPwdSet, aLockoutTime, aAdminCount, aLastLogon, aGroupType, aKrbNumber:
			raw, err := r.bytesOf(v)
			if err != nil {
				return err
			}
			n, ok := atoi(raw)
			if !ok {
				r.into.NotUnderstood(r.cite(v, raw), "%s is not a whole number", named[v.attr][0])
				continue
			}
			numbers[v.attr] = n
			if v.attr == aControl && v.line-r.first < 256 {
				rec.ControlAt = uint8(v.line - r.first)
			}
		}
	}
	control := numbers[aControl]
	for _, f := range controlFlags {
		if control&f.bit != 0 {
			rec.Flags |= f.flag
		}
	}
	if control != 0 && control&ucNormal == 0 || control&ucTrusts != 0 || rec.RID == ridKeyDistribution && rec.Flags&estate.BuiltinDomain == 0 || r.find(aKrbNumber) != nil {
		rec.Flags |= estate.NeverOverride
	}
	if numbers[aAdminCount] > 0 {
		rec.Flags |= estate.AdminCount
	}
	if numbers[aLockoutTime] > 0 {
		rec.Flags |= estate.LockedNow
	}
	rec.Control, rec.Primary = uint32(control), uint32(numbers[aPrimary])
	rec.GroupType = uint32(numbers[aGroupType])
	rec.PwdSet, rec.LastLogon = unixTime(numbers[aPwdSet]), unixTime(numbers[aLastLogon])
	switch {
	case r.class&cManaged != 0:
		rec.Class = estate.Managed
	case r.class&cComputer != 0 || r.class&cAccount != 0 && control&ucMachines != 0:
		rec.Class = estate.Computer
	case r.class&cAccount != 0, r.class&(cPerson|cOther) == cPerson:
		rec.Class = estate.Account
	case r.class&cGroup != 0:
		rec.Class = estate.Group
	}
	if rec.Class == estate.Account {
		if r.find(aControl) == nil {
			rec.Flags |= estate.NoControl
		}
		if rec.Primary == 0 {
			rec.Flags |= estate.NoPrimary
		}
	}
	row := r.into.Object(at, rec)
	if rec.Class == estate.Group {
		return r.members(at, row)
	}
	return nil
}

func (r *reader) members(at estate.Place, group uint32) error {
	var last span
	for i := range r.values {
		v := &r.values[i]
		if v.attr != aMember {
			continue
		}
		if v.piece != last {
			r.into.MemberRange(at, group, v.piece.first, v.piece.last)
			last = v.piece
		}
		if v.from == v.to {
			continue
		}
		dn, err := r.bytesOf(v)
		if err != nil {
			return err
		}
		r.into.Member(at, group, dn, v.line)
	}
	return nil
}

const ridKeyDistribution = 502

// atoi reads a decimal number without making a string of it.
func atoi(text []byte) (int64, bool) {
	digits := bytes.TrimPrefix(text, []byte("-"))
	if len(digits) == 0 || len(digits) > 19 {
		return 0, false
	}
	n := int64(0)
	for _, c := range digits {
		if c < '0' || c > '9' {
			return 0, false
		}
		n = n*10 + int64(c-'0')
	}
	if len(digits) != len(text) {
		n = -n
	}
	return n, true
}

// unixTime turns a count of 100 ns since 1601 into Unix seconds; 0 stays 0.
func unixTime(ticks int64) uint32 {
	const epoch = 11644473600
	seconds := ticks/ticksPerSecond - epoch
	if ticks <= 0 || seconds <= 0 || seconds >= 1<<32 {
		return 0
	}
	return uint32(seconds)
}

// parseSID reads a SID's text form or its binary one (MS-DTYP 2.4.2).
func parseSID(raw []byte) (string, error) {
	if bytes.HasPrefix(raw, []byte("S-1-")) {
		return string(raw), nil
	}
	if len(raw) < 8 || raw[0] != 1 || len(raw) != 8+4*int(raw[1]) {
		return "", fmt.Errorf("an objectSid of %d bytes is not a SID", len(raw))
	}
	var authority [8]byte
	copy(authority[2:], raw[2:8])
	var b strings.Builder
	fmt.Fprintf(&b, "S-1-%d", binary.BigEndian.Uint64(authority[:]))
	for part := raw[8:]; len(part) > 0; part = part[4:] {
		fmt.Fprintf(&b, "-%d", binary.LittleEndian.Uint32(part))
	}
	return b.String(), nil
}

// relativeID returns a SID's last part, and whether the SID belongs to the
// built-in domain S-1-5-32.
func relativeID(raw []byte) (rid uint32, builtin bool, err error) {
	if bytes.HasPrefix(raw, []byte("S-1-")) {
		n, ok := atoi(raw[bytes.LastIndexByte(raw, '-')+1:])
		if !ok || n >= 1<<32 {
			return 0, false, fmt.Errorf("%s is not a SID", intake.Excerpt(raw))
		}
		return uint32(n), bytes.HasPrefix(raw, []byte("S-1-5-32-")), nil
	}
	sid, err := parseSID(raw)
	if err != nil || len(raw) < 12 {
		return 0, false, fmt.Errorf("an objectSid of %d bytes is not a SID", len(raw))
	}
	return binary.LittleEndian.Uint32(raw[len(raw)-4:]), strings.HasPrefix(sid, "S-1-5-32-"), nil
}
