package live

import (
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"sternledger/internal/core/estate"
	"sternledger/internal/intake"
)

// search is one of the searches that are made. Secrets are never asked for.
type search struct {
	scope      int
	filter     string
	attributes []string // nil: those that the options name
	rights     bool     // ask for access lists: without saying which part, servers give none to most
	windows    bool     // only of a Windows domain's server, or one of its make
}

var searches = []search{
	{ldap.ScopeBaseObject, "(objectClass=*)", nil, false, false},
	{ldap.ScopeWholeSubtree, anyOf("msDS-PasswordSettings", "msDS-PasswordSettingsContainer", "group", "user",
		"inetOrgPerson", "organizationalUnit", "contact", "foreignSecurityPrincipal", "pwdPolicy", "person",
		"posixAccount", "account", "simpleSecurityObject", "groupOfNames", "groupOfUniqueNames"),
		nil, false, false},
	{ldap.ScopeWholeSubtree, "(objectClass=groupPolicyContainer)", []string{"objectClass", versionAttribute, "displayName", "flags",
		"gPCFileSysPath", "gPCFunctionalityVersion", "gPCMachineExtensionNames", "gPCWQLFilter", "nTSecurityDescriptor"}, true, true},
}

// anyOf is the filter of entries of any of some classes.
func anyOf(classes ...string) string {
	return "(|(objectClass=" + strings.Join(classes, ")(objectClass=") + "))"
}

// versionAttribute is compared with the store's besides.
const versionAttribute = "versionNumber"

// serverConfiguration is asked for as well: where it may be read, it names the
// default policy of an OpenLDAP server.
const serverConfiguration = "cn=config"

var configuration = search{ldap.ScopeWholeSubtree, "(|(objectClass=olcDatabaseConfig)(objectClass=olcPPolicyConfig))",
	[]string{"objectClass", "olcSuffix", "olcPPolicyDefault"}, false, false}

// Of a Windows domain, a few single entries are asked for besides: which server
// holds its password policy first, and how far that has come round.
var (
	rootAttributes = []string{"vendorName", "defaultNamingContext", "namingContexts", "configurationNamingContext", "dnsHostName",
		"currentTime", "isSynchronized", "highestCommittedUSN"}
	headAttributes   = []string{"fSMORoleOwner", "msDS-NCReplInboundNeighbors"}
	serverAttributes = []string{"dNSHostName"}
	// partitions lists the forest's domains (MS-ADTS 6.1.1.2.1.1).
	partitions = search{ldap.ScopeSingleLevel, "(objectClass=crossRef)", []string{"nCName", "dnsRoot", "systemFlags"}, false, true}
)

// ask makes one search. What is not the server's answer is a broken
// connection.
func (c *collector) ask(request *ldap.SearchRequest) (*ldap.SearchResult, error) {
	found, err := c.conn.Search(request)
	var answer *ldap.Error
	if err != nil && (!errors.As(err, &answer) || answer.ResultCode == ldap.ErrorNetwork) {
		err = fmt.Errorf("%w: %v", errEnded, err)
	}
	return found, err
}

// collect asks for the server's root entry, and then for each base.
func (c *collector) collect(base string) error {
	if err := c.readRoot(); err != nil {
		return err
	}
	if c.root.entry != nil {
		if err := c.entry(c.root.entry); err != nil {
			return err
		}
	}
	c.windows = c.root.context != ""
	whole := base == "" || strings.EqualFold(base, c.root.context)
	if base == "" {
		base = c.root.context
	}
	if base == "" && len(c.root.contexts) > 0 {
		base = c.root.contexts[0]
	}
	if base == "" {
		return errors.New("the server does not say what it holds; name the base in the address: ldaps://HOST/DC=…")
	}
	c.got.Bases = append(c.got.Bases, base)
	for _, s := range searches {
		if s.windows && !c.windows {
			continue
		}
		if err := c.pages(base, s); err != nil {
			return err
		}
	}
	if c.windows {
		c.got.whole = whole
		return c.aboutServer()
	}
	// Most may not read it; that shows in the weighing, as a default that is
	// not known.
	if err := c.pages(serverConfiguration, configuration); err != nil && errors.Is(err, errEnded) {
		return err
	}
	return nil
}

// accessList asks for the access list of a security descriptor alone, which
// whoever may read the object may read (MS-ADTS 3.1.1.3.4.1.11).
const accessList = 4

// pages makes one search, page by page, and writes as it goes.
func (c *collector) pages(base string, s search) error {
	if s.attributes == nil {
		s.attributes = c.opt.Attributes
	}
	paging := ldap.NewControlPaging(pageSize)
	controls := []ldap.Control{paging}
	if s.scope == ldap.ScopeBaseObject {
		controls = nil
	}
	if s.rights {
		flags := ldap.NewControlMicrosoftSDFlags()
		flags.ControlValue = accessList
		controls = append(controls, flags)
	}
	seen, empty := map[string]bool{}, 0
	for {
		found, err := c.ask(ldap.NewSearchRequest(base, s.scope, ldap.NeverDerefAliases, 0, 0, false, s.filter, s.attributes, controls))
		if err != nil {
			return err
		}
		for _, e := range found.Entries {
			if err := c.entry(e); err != nil {
				return err
			}
			c.got.Entries++
			if err := c.furtherPieces(e); err != nil {
				return err
			}
		}
		for _, to := range found.Referrals {
			c.elsewhere(to)
		}
		if c.opt.Told != nil {
			c.opt.Told(c.got.Entries)
		}
		next, _ := ldap.FindControl(found.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
		if next == nil || len(next.Cookie) == 0 {
			return nil
		}
		if empty++; len(found.Entries) > 0 {
			empty = 0
		}
		if seen[string(next.Cookie)] || empty > mostEmpty {
			return fmt.Errorf("%w: its pages go round in a circle", errUnsound)
		}
		seen[string(next.Cookie)] = true
		paging.SetCookie(next.Cookie)
	}
}

// elsewhere notes a part of the directory that lies on another server. The partitions that
// every domain refers to hold no accounts, or are asked for by themselves.
func (c *collector) elsewhere(address string) {
	u, err := url.Parse(address)
	base := ""
	if err == nil {
		base = strings.TrimPrefix(u.Path, "/")
		address = u.Scheme + "://" + u.Host + u.Path // what stands behind may be anything
	}
	low := strings.ToLower(base)
	for _, own := range []string{"dc=domaindnszones,", "dc=forestdnszones,", "cn=configuration,", "cn=schema,"} {
		if strings.HasPrefix(low, own) {
			return
		}
	}
	text := "what lies at " + address + ", on another server"
	if len(c.got.Elsewhere) < mostReferrals && !slices.Contains(c.got.Elsewhere, text) {
		c.got.Elsewhere = append(c.got.Elsewhere, text)
	}
}

var ranged = regexp.MustCompile(`(?i)^(.+);range=(\d+)-(\d+)$`)

// furtherPieces asks for what is left of an attribute that came in part
// (MS-ADTS 3.1.1.3.1.3.3), and writes each piece as a record of its own.
func (c *collector) furtherPieces(e *ldap.Entry) error {
	for _, a := range e.Attributes {
		part := ranged.FindStringSubmatch(a.Name)
		for part != nil {
			last, err := strconv.Atoi(part[3])
			if err != nil {
				return fmt.Errorf("%w: the range %q", errUnsound, a.Name)
			}
			if part, err = c.nextPiece(e.DN, part[1], last+1); err != nil {
				return err
			}
		}
	}
	return nil
}

// nextPiece asks for an attribute's values from one on. It returns the range
// that came, if there is more behind it; that it got on was checked.
func (c *collector) nextPiece(dn, attribute string, from int) (more []string, err error) {
	want := fmt.Sprintf("%s;range=%d-*", attribute, from)
	found, err := c.ask(ldap.NewSearchRequest(dn, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=*)",
		[]string{"objectClass", want}, nil))
	if err != nil {
		return nil, err
	}
	for _, piece := range found.Entries {
		if err := c.entry(piece); err != nil {
			return nil, err
		}
		for _, b := range piece.Attributes {
			if m := ranged.FindStringSubmatch(b.Name); m != nil {
				more = m
			}
		}
	}
	if more != nil {
		first, bad := strconv.Atoi(more[2])
		last, worse := strconv.Atoi(more[3])
		if bad != nil || worse != nil || first != from || last < first || !strings.EqualFold(more[1], attribute) {
			return nil, fmt.Errorf("%w: asked for %q, it gave %q", errUnsound, want, more[0])
		}
	}
	return more, nil
}

// described is an attribute's description (RFC 4512, section 2.5), with the
// ranges of Windows.
var described = regexp.MustCompile(`^([A-Za-z][A-Za-z0-9-]*|[0-9]+(\.[0-9]+)+)(;[A-Za-z0-9=*-]+)*$`)

// entry writes one record (RFC 2849). A failed write shows when the writer is
// flushed. A name that is none could bring in records that nobody sent.
func (c *collector) entry(e *ldap.Entry) error {
	intake.WriteLine(c.out, "dn", e.DN)
	for _, a := range e.Attributes {
		if strings.EqualFold(a.Name, versionAttribute) {
			if n, err := strconv.Atoi(e.GetAttributeValue(a.Name)); err == nil && c.got.versions != nil {
				first, _ := estate.SplitDN(e.DN)
				c.got.versions[strings.ToUpper(estate.NameOf(first))] = n
			}
		}
		if !described.MatchString(a.Name) {
			return fmt.Errorf("%w: an attribute called %q", errUnsound, a.Name)
		}
		for _, v := range a.ByteValues {
			intake.WriteLine(c.out, a.Name, string(v))
		}
	}
	c.out.WriteString("\n")
	return nil
}

// Search is one of the searches of a live collection, for the administrator who
// has to allow it.
type Search struct {
	Of, Filter string
	Attributes []string
}

// Searches are all of them. attributes are those that Options names.
func Searches(attributes []string) []Search {
	all := []Search{{"the server's root entry", "", rootAttributes}}
	for _, s := range searches {
		of := "the domain, or the base that the address names"
		if s.scope != ldap.ScopeBaseObject {
			of += ", and all below it"
		}
		all = append(all, Search{of, s.filter, orAll(s.attributes, attributes)})
	}
	return append(all, Search{"the domain's head", "", headAttributes}, Search{"the server that holds the policy first", "", serverAttributes},
		Search{"CN=Partitions of the configuration, with --forest", partitions.filter, partitions.attributes},
		Search{serverConfiguration + " of a server that is no Windows domain's, and all below it", configuration.filter,
			configuration.attributes})
}

func orAll(some, all []string) []string {
	if some == nil {
		return all
	}
	return some
}

// StoreFiles are the files of each policy that are asked for, with slashes.
func StoreFiles() []string { return slices.Clone(storeFiles) }
