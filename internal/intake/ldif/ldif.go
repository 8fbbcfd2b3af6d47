// Package ldif reads a directory's export in LDIF (RFC 2849) with the
// attributes of the Active Directory schema (MS-ADTS): the domain's head,
// fine-grained policies, groups, accounts, units and policy containers.
package ldif

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
	"sternledger/internal/intake/descriptor"
	"sternledger/internal/redact"
)

// Format is the directory export.
var Format = intake.Format{Name: "directory export (LDIF)", Detect: detect, Read: read}

var opening = regexp.MustCompile(`(?i)^(?:\s|#[^\n]*\n(?: [^\n]*\n)*)*(?:version:\s*\d|dn:)`)

func detect(_ string, head []byte) bool {
	return opening.Match(intake.Opening(head))
}

// classes are the object classes that say what to do with a record.
type class uint32

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
	cUnknown  // nothing tells what it is
	cPolicies // the container of fine-grained policies

	// Of an LDAP directory that is no Windows domain:
	cPerson         // may sign in
	cNames          // a group
	cSite           // to which policies may be linked
	cPwdPolicy      // a policy of the password-policy object class
	cDatabase       // a database of a server's configuration
	cOverlay        // its password-policy overlay
	cServer         // a 389 Directory Server\'s configuration
	cBackend        // a database of it
	cLocalPolicy    // a local policy of it
	cRealmPolicy    // a policy of a realm of Kerberos
	cClassOfService // that gives one to the members of a group
)

// ofDomain are the classes that only a Windows domain's entries have.
const ofDomain = cHead | cPolicy | cGroup | cAccount | cComputer | cManaged | cContainer | cOther | cUnknown | cPolicies

var classes = map[string]class{
	"domaindns": cHead, "site": cSite, "msds-passwordsettings": cPolicy, "msds-passwordsettingscontainer": cPolicies, "group": cGroup,
	"user": cAccount, "computer": cComputer,
	"msds-managedserviceaccount": cManaged, "msds-groupmanagedserviceaccount": cManaged, "msds-delegatedmanagedserviceaccount": cManaged,
	"organizationalunit": cUnit, "grouppolicycontainer": cContainer,
	"foreignsecurityprincipal": cOther, "contact": cOther,
	"top": 0, "organizationalPerson": 0, // on every account: known to say nothing
	"person": cPerson, "inetorgperson": cPerson, "inetOrgPerson": cPerson, "posixaccount": cPerson, "account": cPerson,
	"simplesecurityobject": cPerson,
	"groupofnames":         cNames, "groupofuniquenames": cNames, "posixgroup": cNames, "pwdpolicy": cPwdPolicy,
	"olcdatabaseconfig": cDatabase, "olcmdbconfig": cDatabase, "olchdbconfig": cDatabase, "olcbdbconfig": cDatabase,
	"olcldifconfig":    cDatabase,
	"olcppolicyconfig": cOverlay,
	"nsslapdconfig":    cServer, "nsbackendinstance": cBackend, "passwordpolicy": cLocalPolicy,
	"krbpwdpolicy": cRealmPolicy, "costemplate": cClassOfService, "krbprincipal": cPerson, "krbprincipalaux": cPerson,
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
	ucServerTrust  = 0x2000
	ucMachines     = 0x1000 | ucServerTrust
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
	*record            // the one that is read
	class     class    // by its object classes
	twice     int      // line of a DN that is not the first line; 0: none
	where     [256]row // the first value of each attribute
	opened    uint32   // records so far
	cut       *scanner
	into      *estate.Builder
	domains   map[string]string // parent DN as written to domain
	samba     estate.Cite       // the root entry's word for the server, if it says samba
	naming    string            // and the domain it speaks for
	got       int               // records that held something known
	otherPage bool              // that names are in a code page that is not known was told
	rec       estate.Record     // reused
	server    serverConfig
	config    directoryServerConfig
	noNumber  [aServer]bool // attributes of objects of which a value was none
	lacking   int           // records of which nothing tells what they are
	lacks     estate.Cite
	applied   [][]byte // reused
	holders   [][]byte // reused
	lines     []uint32 // reused
	speller   estate.Speller
	said      []said // object classes of the records so far, by their place: mostly they are the same
}

// said is an object class as an export writes it.
type said struct {
	text  string
	class class
}

// row is where a value stands in a record, if it is the one that is read.
type row struct{ opened, at uint32 }

func read(src *intake.Source, into *estate.Builder) error {
	s := newScanner(src)
	r := &reader{record: s.record, cut: s, into: into, domains: map[string]string{}}
	return r.all()
}

// all takes every record.
func (r *reader) all() error {
	src, into := r.cut.src, r.into
	if err := r.cut.each(func(next *record) error {
		r.open(next)
		return r.take()
	}); err != nil {
		return err
	}
	if r.got == 0 && r.lacking > 0 {
		return &intake.Error{Path: src.Path, Line: r.lacks.Line,
			Seen:     fmt.Sprintf("%d entries without objectClass, or anything else that shows what they are", r.lacking),
			Expected: "a directory export with objectClass", Next: "export again with all attributes, or at least those that docs/sources.md lists"}
	}
	if r.got == 0 {
		return &intake.Error{Path: src.Path, Seen: "an export without a domain's head, policy, group, account, unit or policy container",
			Expected: "a directory export", Next: "see docs/sources.md for how to make one"}
	}
	if r.cut.marked > 0 {
		into.NotUnderstood(into.Cite(1, "", ""),
			"%d values that this version reads were not kept by the one that gathered them: gather the export again", r.cut.marked)
	}
	if r.samba.File != "" && r.naming != "" {
		into.Server(estate.InDomain(estate.DomainOf(r.naming)), estate.Samba, r.samba)
	}
	r.serverDefaults()
	r.serverSettings()
	if r.cut.cutLine > 0 {
		for _, domain := range r.domains {
			if at := estate.InDomain(domain); into.Knows(at) != nil {
				into.At(at).Cut = true
			}
		}
		into.NotUnderstood(into.Cite(r.cut.cutLine, "", ""),
			"the file's last line has no end, so it was left out: the export may be cut there, and its last record may lack more")
	}
	if r.lacking > 0 {
		into.NotUnderstood(r.lacks, "%d entries, this one first, were exported without objectClass or anything else that shows what they are",
			r.lacking)
	}
	return nil
}

// open turns to another record.
func (r *reader) open(next *record) {
	r.record, r.class, r.twice = next, 0, 0
	r.opened++
	classes := 0
	for i := range r.values {
		v := &r.values[i]
		if w := &r.where[v.attr]; w.opened != r.opened {
			*w = row{r.opened, uint32(i)}
		}
		switch {
		case v.attr == aObjectClass:
			text := r.raw(v)
			if v.coded { // the same, however it is written (RFC 2849)
				text, _ = r.bytesOf(v)
			}
			r.class |= r.classAt(classes, text)
			classes++
		case v.attr == aDN && i > 0 && r.twice == 0:
			r.twice = int(v.line)
		}
	}
}

// classAt finds a record's class number n.
func (r *reader) classAt(n int, text []byte) class {
	if n == len(r.said) {
		r.said = append(r.said, said{})
	}
	if x := &r.said[n]; x.text != string(text) {
		*x = said{string(text), classOf(text)}
	}
	return r.said[n].class
}

// find returns the record's first value of an attribute, or nil.
func (r *reader) find(a attr) *value {
	if w := r.where[a]; w.opened == r.opened {
		return &r.values[w.at]
	}
	return nil
}

// textOf returns a value as UTF-8 text.
func (r *reader) textOf(v *value) ([]byte, error) {
	if r.ascii && !v.coded {
		return r.raw(v), nil
	}
	raw, err := r.bytesOf(v)
	if err != nil || utf8.Valid(raw) {
		return raw, err
	}
	if !r.otherPage && intake.InOtherPage(raw) {
		r.otherPage = true
		r.into.NotUnderstood(r.cite(v, nil), intake.OtherPage)
	}
	return charmap.Windows1252.NewDecoder().Bytes(raw)
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
	} else if v.attr >= aServer {
		name = serverAttributes[v.attr-aServer]
	} else {
		name = named[v.attr][0]
	}
	return r.into.Cite(int(v.line), name, string(raw))
}

func (r *reader) take() error {
	dn := r.find(aDN)
	if dn == nil {
		return r.outside()
	}
	if change := r.find(aChangeType); change != nil {
		if kind, _ := r.textOf(change); string(kind) != "add" {
			return r.errorAt(int(change.line), "a change record ("+redact.Quote(kind)+")", "an export of entries",
				"export the entries themselves, not changes to them")
		}
	}
	name, err := r.dnOf(dn)
	if err != nil {
		return err
	}
	if len(name) == 0 {
		return r.root()
	}
	if r.twice > 0 {
		return r.errorAt(r.twice, "a second \"dn:\" in one entry", "a blank line between entries",
			"the export was edited or joined by hand: put the blank line back")
	}
	if r.find(aObjectClass) == nil {
		r.class = r.guess(name)
	}
	if r.class == 0 {
		return nil
	}
	if r.class&(cDatabase|cOverlay) != 0 {
		return r.configuration(name)
	}
	if r.class&(cServer|cBackend|cLocalPolicy) != 0 {
		return r.directoryServer(name)
	}
	if r.class&(cRealmPolicy|cClassOfService) != 0 {
		return r.realm(name)
	}
	if r.ofLDAP() {
		return r.ldap(name)
	}
	domain := r.domainOf(name)
	if domain == "" {
		r.into.NotUnderstood(r.into.Cite(r.first, "dn", string(name)), "the entry's name has no domain (DC=…) part")
		return nil
	}
	if r.class&cUnknown == 0 {
		r.got++
	}
	at := estate.InDomain(domain)
	if r.class&cSite != 0 {
		return r.site(at)
	}
	switch {
	case r.isTrue(aDeleted), r.isTrue(aRecycled), deletedName(name):
		r.into.At(at).Deleted++
		return nil
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

// deletedName reports whether a DN is that of a deleted object: its name is mangled with its
// GUID (MS-ADTS 3.1.1.5.5).
func deletedName(dn []byte) bool {
	first, _ := estate.SplitDN(dn)
	low := bytes.ToLower(first)
	return bytes.Contains(low, []byte(`\0adel:`)) || bytes.Contains(low, []byte("\ndel:"))
}

// guess finds out what a record is that was exported without objectClass; 0
// where nothing tells.
func (r *reader) guess(dn []byte) class {
	has := func(all ...attr) bool {
		return slices.ContainsFunc(all, func(a attr) bool { return r.find(a) != nil })
	}
	first, _ := estate.SplitDN(dn)
	under := strings.ToLower(string(dn))
	name, _ := r.text0(aName)
	kind, _, _ := r.integer(aAccountType)
	switch {
	case strings.HasPrefix(under, "cn=password settings container,cn=system,"):
		if r.nameAlone() {
			return 0
		}
		return cPolicies
	case has(aPrecedence, aAppliesTo), r.anySetting() && strings.Contains(under, ",cn=password settings container,cn=system,"):
		return cPolicy
	case guidForm.MatchString(estate.NameOf(string(first))) && strings.Contains(under, ",cn=policies,cn=system,"):
		return cContainer
	case strings.HasPrefix(under, "dc=") && (r.anySetting() || has(aOEM)):
		return cHead
	case strings.HasPrefix(under, "ou="):
		if r.nameAlone() {
			return 0 // nor of what is linked there
		}
		return cUnit
	case kind == 0x30000001, has(aControl) && strings.HasSuffix(string(name), "$"), has(aPrimary) && strings.HasSuffix(string(name), "$"):
		return cAccount | cComputer
	case kind>>28 == 3, has(aControl, aPrimary):
		return cAccount
	case kind>>28 == 1, kind>>28 == 2, has(aGroupType, aMember):
		return cGroup
	case has(aPwdAttribute, aPwdMinLength, aPwdMaxFailure, aPwdMaxAge, aPwdInHistory):
		return cPwdPolicy
	case has(aUID) && !has(aName, aSID):
		return cPerson
	case has(aName, aSID, aHolders):
		if r.lacking++; r.lacking == 1 {
			r.lacks = r.into.Cite(r.first, "dn", string(dn))
		}
		return cUnknown
	}
	return 0
}

// nameAlone reports whether an entry holds nothing but its name: whoever may read
// nothing of it is shown that all the same. It proves nothing of what lies in it.
func (r *reader) nameAlone() bool {
	names := 1
	if r.find(aChangeType) != nil {
		names++
	}
	return r.count <= names
}

// isTrue reports whether an attribute is TRUE.
func (r *reader) isTrue(a attr) bool {
	v := r.find(a)
	return v != nil && strings.EqualFold(string(r.raw(v)), "TRUE")
}

// extended begins a DN in its extended form.
var extended = []byte("<")

// dnOf returns a value that is a DN, without what the extended form writes
// before it (MS-ADTS 3.1.1.3.4.1.5): <GUID=…>;<SID=…>;CN=….
func (r *reader) dnOf(v *value) ([]byte, error) {
	raw, err := r.textOf(v)
	if err != nil {
		return nil, err
	}
	for bytes.HasPrefix(raw, extended) {
		_, rest, more := bytes.Cut(raw, []byte(">;"))
		if !more {
			break
		}
		raw = rest
	}
	return raw, nil
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
			return r.errorAt(int(v.line), "an attribute outside any entry", "a line \"dn: …\" first", "the export is cut or was edited")
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
				if setting.Get(h.id).Kind == setting.Duration && splitSecond(string(raw)) {
					r.into.Remark(facts, h.id, "not a whole number of seconds: rounded down")
				}
			}
		}
	}
	return nil
}

func (r *reader) head(at estate.Place, dn []byte) error {
	if r.find(aSID) == nil && !r.anySetting() && (strings.HasPrefix(at.Name, "domaindnszones.") ||
		strings.HasPrefix(at.Name, "forestdnszones.")) {
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
		sid, err := descriptor.SID(raw)
		switch {
		case err != nil:
			r.into.Damaged(r.cite(v, nil), "%v", err)
		case a.SID != "" && a.SID != sid && !r.into.Older():
			return r.errorAt(int(v.line), "a second domain of the name "+at.Name+", with another SID", "one domain of a name in one engagement",
				"gather the other one into an engagement of its own")
		case a.SID == "":
			a.SID = sid
		}
	}
	if level, ok, err := r.integer(aLevel); err != nil {
		return err
	} else if ok && a.Level == nil {
		n, v := int(level), r.find(aLevel)
		a.Level, a.LevelCite = &n, r.cite(v, r.raw(v))
	}
	if v := r.find(aOEM); v != nil {
		raw, err := r.textOf(v)
		if err != nil {
			return err
		}
		if strings.Contains(strings.ToLower(string(raw)), "samba") {
			r.into.Server(at, estate.Samba, r.cite(v, raw))
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
	part := r.atEnd // its last lines may be missing
	// What stands under "range=0-0" alone may have been taken out since an earlier search.
	goesOn := slices.ContainsFunc(r.pieces, func(s span) bool { return s.first > 1 || s.first == 1 && s.last != 1 })
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
			guid, err := estate.ParseGUID(raw)
			if err != nil {
				r.into.Damaged(r.cite(v, raw), "%v", err)
			} else if p.GUID == (estate.GUID{}) {
				p.GUID = guid
			}
		case aPrecedence:
			if n, ok := atoi(raw); !ok || n < 1 {
				r.into.Damaged(r.cite(v, raw), "a precedence of %s; a fine-grained policy has 1 or more", raw)
			} else if p.Precedence == nil {
				p.Precedence = &n
			}
		case aAppliesTo:
			if raw, err = r.dnOf(v); err != nil {
				return err
			}
			piece := r.pieceOf(v)
			part = piece.ranged && piece.last >= 0 // a further piece must follow
			if len(raw) > 0 && (piece != firstAlone || goesOn) {
				r.into.Target(at, p, estate.Target{DN: string(raw), Cite: r.cite(v, raw)})
			}
		}
	}
	p.TargetsPart = p.TargetsPart || part
	return nil
}

var linkForm = regexp.MustCompile(`(?i)\[LDAP://[^\];]*?(\{[0-9a-f-]{36}\})([^\];]*);(\d+)\]`)

// linksIn are the links of a gPLink (MS-GPOL 2.2.2); all is how many it has.
func linksIn(raw []byte, domain string) (links []estate.Link, all int) {
	for _, m := range linkForm.FindAllSubmatch(raw, -1) {
		options, _ := strconv.Atoi(string(m[3]))
		l := estate.Link{GUID: strings.ToUpper(string(m[1])), Disabled: options&1 != 0, Enforced: options&2 != 0}
		if at := estate.DomainOf(strings.TrimPrefix(string(m[2]), ",")); at != "" && at != domain {
			l.Domain = at
		}
		links = append(links, l)
	}
	return links, bytes.Count(raw, []byte("["))
}

// site notes what is linked to a site and enforced: that goes before the domain's own links.
// What is not enforced comes after them.
func (r *reader) site(at estate.Place) error {
	v := r.find(aLink)
	if v == nil {
		return nil
	}
	raw, err := r.textOf(v)
	if err != nil {
		return err
	}
	links, all := linksIn(raw, at.Name)
	if all != len(links) {
		r.into.NotUnderstood(r.cite(v, raw), "%d of %d links of the site's gPLink are not understood", all-len(links), all)
	}
	a := r.into.At(at)
	for _, l := range links {
		if l.Enforced && !l.Disabled && !slices.Contains(a.SiteLinks, l) {
			a.SiteLinks = append(a.SiteLinks, l)
		}
	}
	return nil
}

// unit notes where templates are linked (MS-GPOL 2.2.2).
func (r *reader) unit(at estate.Place, dn []byte, root bool) error {
	u := r.into.Unit(at, dn, r.first)
	u.Root = root
	if r.into.Older() && !u.AnyOrder && u.Cite.Line > 0 && u.Cite != r.into.Cite(r.first, "dn", string(dn)) {
		return nil // newer evidence tells of it
	}
	if v := r.find(aLink); v != nil && (len(u.Links) == 0 || u.AnyOrder) {
		u.Links, u.AnyOrder = nil, false // what reports told of it counts no more
		raw, err := r.textOf(v)
		if err != nil {
			return err
		}
		u.Cite = r.cite(v, raw)
		found, all := linksIn(raw, at.Name)
		if u.Links = append(u.Links, found...); all != len(found) {
			r.into.NotUnderstood(u.Cite, "%d of %d links of the gPLink are not understood", all-len(found), all)
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
	filter, err := r.text0(aWMI)
	if err != nil {
		return err
	}
	extensions, err := r.text0(aExtensions)
	if err != nil {
		return err
	}
	c.Whole = (r.find(aPolicyPath) != nil || r.find(aKind) != nil) && !r.atEnd
	kind, told, err := r.integer(aKind)
	if err != nil {
		return err
	}
	const applied = 2 // clients pass by any other (MS-GPOL 3.2.5.1.6)
	c.Unapplied = told && kind != applied
	version, versioned, err := r.integer(aVersion)
	if err != nil {
		return err
	}
	if versioned {
		const machineHalf = 0xffff // the user's is above it (MS-GPOL 2.2.4)
		half := int(version & machineHalf)
		c.Half = &half
	}
	c.NoSecurity = (c.Whole || len(extensions) > 0) && !strings.Contains(strings.ToLower(string(extensions)), securityExtension)
	c.NoRegistry = (c.Whole || len(extensions) > 0) && !strings.Contains(strings.ToLower(string(extensions)), registryExtension)
	c.Preferences = strings.Contains(strings.ToLower(string(extensions)), preferencesExtension)
	c.Name, c.MachineOff, c.WMIFilter = string(name), flags&2 != 0, strings.TrimSpace(string(filter))
	if v := r.find(aSecurity); v != nil {
		raw, err := r.bytesOf(v)
		if err != nil {
			return err
		}
		if c.Access, err = descriptor.Access(raw); err != nil {
			r.into.NotUnderstood(r.cite(v, nil), "the security descriptor of %s is not understood: %v", c.Name, err)
		} else {
			c.Filtered = true
		}
	}
	r.into.Container(at, c)
	return nil
}

// preferencesExtension applies preferences for the registry (MS-GPPREF 1.9).
const preferencesExtension = "b087be9d-ed37-454f-af9c-04291e351182"

// registryExtension applies registry files (MS-GPREG 1.9).
const registryExtension = "35378eac-683f-11d2-a89a-00c04fbbcfa2"

// securityExtension applies security templates (MS-GPSB 1.9).
const securityExtension = "827d319e-6eac-11d2-a4ea-00c04f79f83a"

// object adds an account, group, computer or other thing that can be named.
func (r *reader) object(at estate.Place, dn []byte) error {
	rec := &r.rec
	*rec = estate.Record{DN: dn, Line: r.first}
	r.applied, r.holders, r.lines = r.applied[:0], r.holders[:0], r.lines[:0]
	var n numbers
	for i := range r.values {
		v := &r.values[i]
		if v.piece > 0 && v.attr != aMember && v.attr != aHolders {
			continue
		}
		if err := r.attribute(at, v, &n); err != nil {
			return err
		}
	}
	rec.Control, rec.Primary, rec.GroupType = uint32(n[aControl]), uint32(n[aPrimary]), uint32(n[aGroupType])
	rec.PwdSet, rec.LastLogon = unixTime(n[aPwdSet]), unixTime(n[aLastLogon])
	rec.Ends, rec.Failures = unixTime(n[aAccountEnds]), uint32(min(max(n[aFailures], 0), math.MaxUint32))
	rec.Applied, rec.Holders, rec.HolderLines = r.applied, r.holders, r.lines
	r.flags(&n)
	r.classify()
	if rec.Class == estate.Computer && rec.Control&ucServerTrust != 0 {
		if err := r.controller(at); err != nil {
			return err
		}
	}
	row := r.into.Object(at, rec)
	if rec.Class == estate.Group {
		return r.members(at, row)
	}
	return nil
}

// numbers are the values of an object's attributes that are numbers.
type numbers [aServer]int64

// attribute takes one value of an object into its record.
func (r *reader) attribute(at estate.Place, v *value, n *numbers) error {
	rec := &r.rec
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
	case aResultant, aApplied, aHolders:
		raw, err := r.dnOf(v)
		if err != nil || len(raw) == 0 {
			return err
		}
		switch v.attr {
		case aResultant:
			rec.Resultant = raw
			r.into.At(at).AnswerGiven = true
		case aApplied:
			r.applied = append(r.applied, raw)
		default:
			r.holders, r.lines = append(r.holders, raw), append(r.lines, v.line)
		}
	case aName, aPrincipal, aDisplay:
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
		}
	case aControl, aPrimary, aPwdSet, aLockoutTime, aAccountEnds, aFailures, aAdminCount, aLastLogon, aGroupType, aKrbNumber:
		raw, err := r.bytesOf(v)
		if err != nil {
			return err
		}
		number, ok := atoi(raw)
		if !ok {
			if !r.noNumber[v.attr] { // a program that rounds does so in every row
				r.noNumber[v.attr] = true
				r.into.NotUnderstood(r.cite(v, raw), "%s is not a whole number, first here", named[v.attr][0])
			}
			if v.attr == aControl {
				rec.Flags |= estate.NoControl
			}
			return nil
		}
		n[v.attr] = number
		if v.attr == aControl && int(v.line)-r.first < 256 {
			rec.ControlAt = uint8(int(v.line) - r.first)
		}
	}
	return nil
}

// flags are what an object's numbers say of it.
func (r *reader) flags(n *numbers) {
	rec, control := &r.rec, n[aControl]
	for _, f := range controlFlags {
		if control&f.bit != 0 {
			rec.Flags |= f.flag
		}
	}
	ownKeys := rec.RID == ridKeyDistribution && rec.Flags&estate.BuiltinDomain == 0 || r.find(aKrbNumber) != nil
	if control != 0 && control&ucNormal == 0 || control&ucTrusts != 0 || ownKeys {
		rec.Flags |= estate.NeverOverride
	}
	if n[aAdminCount] > 0 {
		rec.Flags |= estate.AdminCount
	}
	if n[aLockoutTime] > 0 {
		rec.Flags |= estate.LockedNow
	}
	if n[aPwdSet] == 0 && r.find(aPwdSet) != nil {
		rec.Flags |= estate.MustChange
	}
	if r.atEnd {
		rec.Flags |= estate.CutShort
	}
}

// classify says what an object is, and what of an account was not exported.
func (r *reader) classify() {
	rec := &r.rec
	noControl := r.find(aControl) == nil
	// A record that ends early may be a computer's just as well, whose names end
	// in $.
	maybeComputer := r.atEnd && noControl && (len(rec.Name) == 0 || bytes.HasSuffix(rec.Name, []byte("$")))
	switch {
	case r.class&cUnknown != 0, r.class&cAccount != 0 && maybeComputer:
		rec.Flags |= estate.Unclassified
	case r.class&cManaged != 0:
		rec.Class = estate.Managed
	case r.class&cComputer != 0 || r.class&cAccount != 0 && rec.Control&ucMachines != 0:
		rec.Class = estate.Computer
	case r.class&cAccount != 0, r.class&(cPerson|cOther) == cPerson:
		rec.Class = estate.Account
		if noControl {
			rec.Flags |= estate.NoControl
		}
		if rec.Primary == 0 {
			rec.Flags |= estate.NoPrimary
		}
	case r.class&cGroup != 0:
		rec.Class = estate.Group
	}
}

// controller takes the word of a domain controller's own entry for what the
// domain is served by.
func (r *reader) controller(at estate.Place) error {
	v := r.find(aOS)
	if v == nil {
		return nil
	}
	raw, err := r.textOf(v)
	if err != nil {
		return err
	}
	switch os := strings.ToLower(string(raw)); {
	case strings.HasPrefix(os, "windows"):
		r.into.Server(at, estate.Windows, r.cite(v, raw))
	case strings.HasPrefix(os, "samba"):
		r.into.Server(at, estate.Samba, r.cite(v, raw))
	}
	return nil
}

// foreign reports whether a DN is that of a foreign security principal: a SID
// of another forest, or a well-known one. It holds no account of this domain.
func foreign(dn []byte) bool {
	return bytes.HasPrefix(dn, []byte("CN=S-1-")) && bytes.Contains(dn, []byte(",CN=ForeignSecurityPrincipals,"))
}

// firstAlone is the piece "range=0-0": see estate.Builder.MemberOrChange.
var firstAlone = span{ranged: true}

func (r *reader) members(at estate.Place, group uint32) error {
	var last span
	spelt := r.spelt
	for i := range r.values {
		v := &r.values[i]
		if v.attr != aMember {
			continue
		}
		spelling := spelt[0]
		spelt = spelt[1:]
		piece := r.pieceOf(v)
		if piece != last && piece != firstAlone {
			r.into.MemberRange(at, group, piece.first, piece.last)
			last = piece
		}
		if v.from == v.to {
			continue
		}
		dn, err := r.dnOf(v)
		if err != nil {
			return err
		}
		if foreign(dn) {
			r.into.Object(at, &estate.Record{DN: dn, Line: int(v.line)})
		}
		if spelling == (estate.Spelling{}) {
			spelling = r.speller.Spell(dn)
		}
		if piece == firstAlone {
			r.into.MemberOrChange(at, group, dn, spelling, int(v.line))
			continue
		}
		r.into.MemberSpelled(at, group, dn, spelling, int(v.line))
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

// relativeID returns a SID's last part, and whether the SID belongs to the
// built-in domain S-1-5-32.
func relativeID(raw []byte) (rid uint32, builtin bool, err error) {
	if bytes.HasPrefix(raw, []byte("S-1-")) {
		n, ok := atoi(raw[bytes.LastIndexByte(raw, '-')+1:])
		if !ok || n >= 1<<32 {
			return 0, false, fmt.Errorf("%s is not a SID", redact.Quote(raw))
		}
		return uint32(n), bytes.HasPrefix(raw, []byte("S-1-5-32-")), nil
	}
	sid, err := descriptor.SID(raw)
	if err != nil || len(raw) < 12 {
		return 0, false, fmt.Errorf("an objectSid of %d bytes is not a SID", len(raw))
	}
	return binary.LittleEndian.Uint32(raw[len(raw)-4:]), strings.HasPrefix(sid, "S-1-5-32-"), nil
}
