// Package live reads a directory server by LDAP and writes what it holds as
// LDIF, which is then read like any export, so that an offline and a live
// audit are one path. It only searches.
package live

import (
	"bufio"
	"cmp"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"sternledger/internal/intake"
)

// pageSize is how many entries are asked for at a time (RFC 2696); directories
// give no more than 1000.
const pageSize = 500

// Bounds of one collection. A server that is silent, or that talks without
// getting on, is not waited for.
const (
	dialTimeout   = 15 * time.Second
	answerTimeout = 5 * time.Minute
	mostTime      = 12 * time.Hour
	mostEmpty     = 100       // pages in a row without an entry
	mostEntries   = 100_000   // to one request; a page is of 500
	mostAnswer    = 256 << 20 // bytes
)

var errTooLong = fmt.Errorf("it went on for more than %d hours", int(mostTime.Hours()))

// silence is how long a read or write may take; a variable for the tests.
var silence = answerTimeout

// Options say which server is read, as whom, and whom to trust.
type Options struct {
	URL      string // ldaps://HOST[:PORT][/BASE], or ldap:// with StartTLS
	Bind     string // DN or name@domain; empty: anonymous
	Password string
	Issuers  []byte // PEM; nil: those that this system trusts
	// Certificates are the SHA-256s of the only certificates to accept, in hex.
	Certificates []string
	// AnyCertificate accepts every certificate. The ledger records it.
	AnyCertificate bool
	// Attributes are those that entries are asked for: what the reader of LDIF reads.
	Attributes []string
	// Told, if not nil, hears how many entries have come.
	Told func(entries int)
}

// Collected says what was read and how far the server was trusted.
type Collected struct {
	URL         string   `json:"url"` // without anything secret
	Bind        string   `json:"bind"`
	Bases       []string `json:"bases"`
	Entries     int      `json:"entries"`
	Certificate string   `json:"certificate"` // SHA-256
	Trust       string   `json:"trust"`       // verified, pinned, or not verified
	// Of a tenant:
	Map     string   `json:"map,omitempty"`     // the field map
	Refused []string `json:"refused,omitempty"` // what it did not let us read, and may be lacking
	Waits   int      `json:"waits,omitempty"`   // how often it asked for patience
	// Interfaces are the other hosts that answered for it.
	Interfaces []Interface `json:"interfaces,omitempty"`
}

// Interface is another host that answered for a tenant.
type Interface struct {
	Host        string `json:"host"`
	Certificate string `json:"certificate"`
	Trust       string `json:"trust"`
}

// Is reports whether a source is one for this package.
func Is(source string) bool {
	low := strings.ToLower(source)
	return strings.HasPrefix(low, "ldap://") || strings.HasPrefix(low, "ldaps://")
}

// FileName proposes the stored copy's name.
func FileName(source string) string {
	if u, err := url.Parse(source); err == nil && u.Hostname() != "" {
		return strings.ReplaceAll(u.Hostname(), ":", "-") + ".ldif"
	}
	return "directory.ldif"
}

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
	{ldap.ScopeWholeSubtree, "(|(objectClass=msDS-PasswordSettings)(objectClass=msDS-PasswordSettingsContainer)(objectClass=group)(objectClass=user)(objectClass=inetOrgPerson)(objectClass=organizationalUnit)(objectClass=contact)" +
		"(objectClass=foreignSecurityPrincipal)(objectClass=pwdPolicy)(objectClass=person)(objectClass=posixAccount)(objectClass=account)(objectClass=simpleSecurityObject)(objectClass=groupOfNames)(objectClass=groupOfUniqueNames))",
		nil, false, false},
	{ldap.ScopeWholeSubtree, "(objectClass=groupPolicyContainer)", []string{"objectClass", "displayName", "flags", "gPCFileSysPath",
		"gPCFunctionalityVersion",
		"gPCMachineExtensionNames", "gPCWQLFilter", "nTSecurityDescriptor"}, true, true},
}

// serverConfiguration is asked for as well: where it may be read, it names the
// default policy of an OpenLDAP server.
const serverConfiguration = "cn=config"

var configuration = search{ldap.ScopeWholeSubtree, "(|(objectClass=olcDatabaseConfig)(objectClass=olcPPolicyConfig))",
	[]string{"objectClass", "olcSuffix", "olcPPolicyDefault"}, false, false}

// Collect reads the server and writes LDIF, until ctx ends. An error means that
// what was written is not whole.
func Collect(ctx context.Context, opt Options, out io.Writer) (*Collected, error) {
	u, err := url.Parse(opt.URL)
	if err != nil || u.Hostname() == "" {
		// It is not repeated here: a password may stand in it.
		return nil, errors.New("an address that cannot be read; expected ldaps://HOST[:PORT][/BASE]")
	}
	if u.User != nil {
		return nil, fmt.Errorf("a name or password in the address is refused, since others can see it; give the name with --bind and " +
			"the password by prompt, file or variable")
	}
	c := &collector{trusting: trusting{opt: opt, got: &Collected{URL: opt.URL, Bind: opt.Bind, Bases: []string{}}}, out: bufio.NewWriter(out)}
	ctx, done := context.WithTimeoutCause(ctx, mostTime, errTooLong)
	defer done()
	if err := c.connect(ctx, u); err != nil {
		return nil, c.explain(err)
	}
	defer c.conn.Close()
	defer context.AfterFunc(ctx, func() { c.conn.Close() })()
	if err := c.collect(strings.TrimPrefix(u.Path, "/")); err != nil {
		if why := context.Cause(ctx); why != nil {
			err = fmt.Errorf("%w: %w", errEnded, why)
		}
		return nil, c.explain(err)
	}
	return c.got, c.out.Flush()
}

// directory is all that is needed of a connection once it is open.
type directory interface {
	Search(*ldap.SearchRequest) (*ldap.SearchResult, error)
	Close() error
}

type collector struct {
	trusting
	conn    directory
	out     *bufio.Writer
	windows bool // it is a Windows domain's, or one of its make
}

// trusting checks a server's certificate and notes what came of it.
type trusting struct {
	opt      Options
	got      *Collected
	first    string    // the host that was asked first
	distrust error     // why a server's certificate is not trusted
	doubted  Interface // whose it is
}

// config makes connections that are checked as the options say.
func (c *trusting) config(host string) *tls.Config {
	return &tls.Config{
		ServerName: host,
		MinVersion: tls.VersionTLS12,
		// The check below takes the place of the usual one, and is as strict
		// unless the options say otherwise.
		InsecureSkipVerify: true,
		VerifyConnection: func(state tls.ConnectionState) error {
			at, err := c.trust(state, host)
			if c.distrust = err; c.first == "" || c.first == host {
				c.first, c.got.Certificate, c.got.Trust = host, at.Certificate, at.Trust
			} else if !slices.ContainsFunc(c.got.Interfaces, func(i Interface) bool { return i.Host == host }) {
				c.got.Interfaces = append(c.got.Interfaces, at)
			}
			if err != nil {
				c.doubted = at
			}
			return err
		},
	}
}

// untrusted says what to do about a certificate that is not trusted.
func (c *trusting) untrusted() error {
	return fmt.Errorf("%s: the certificate of %s is not trusted: %v; its SHA-256 is %s: compare it with the administrator's and "+
		"pass it with --certificate, or give its issuer with --ca FILE",
		c.opt.URL, c.doubted.Host, c.distrust, c.doubted.Certificate)
}

// connect opens the connection, secures it, and says who is asking.
func (c *collector) connect(ctx context.Context, u *url.URL) error {
	config, plain := c.config(u.Hostname()), strings.EqualFold(u.Scheme, "ldap")
	port := cmp.Or(u.Port(), map[bool]string{true: ldap.DefaultLdapPort, false: ldap.DefaultLdapsPort}[plain])
	wire, err := (&net.Dialer{Timeout: dialTimeout}).DialContext(ctx, "tcp", net.JoinHostPort(u.Hostname(), port))
	if err != nil {
		return ldap.NewError(ldap.ErrorNetwork, err)
	}
	// The package sets no limit to what goes on before the first answer.
	wire = patient{wire}
	if !plain {
		secured := tls.Client(wire, config)
		if err := secured.HandshakeContext(ctx); err != nil {
			wire.Close()
			return ldap.NewError(ldap.ErrorNetwork, err)
		}
		wire = secured
	}
	conn := ldap.NewConn(wire, !plain)
	conn.Start()
	conn.SetTimeout(silence)
	c.conn = sized{conn, ctx}
	if plain {
		if err := conn.StartTLS(config); err != nil {
			conn.Close()
			return fmt.Errorf("StartTLS: %w", err)
		}
	}
	if c.opt.Bind == "" {
		err = conn.UnauthenticatedBind("")
	} else if c.opt.Password == "" {
		err = errors.New("an empty password is refused: servers take it for an anonymous sign-in")
	} else {
		err = conn.Bind(c.opt.Bind, c.opt.Password)
	}
	if err != nil {
		conn.Close()
	}
	return err
}

// sized is a directory whose answers to one request have a bound: the package
// holds them all in memory.
type sized struct {
	*ldap.Conn
	ctx context.Context
}

func (s sized) Search(request *ldap.SearchRequest) (*ldap.SearchResult, error) {
	ctx, done := context.WithCancel(s.ctx)
	defer done()
	answers := s.SearchAsync(ctx, request, 64)
	all := &ldap.SearchResult{}
	size := 0
	for answers.Next() {
		e := answers.Entry()
		if e == nil {
			continue // a referral elsewhere
		}
		for _, a := range e.Attributes {
			for _, v := range a.ByteValues {
				size += len(v)
			}
		}
		if all.Entries = append(all.Entries, e); len(all.Entries) > mostEntries || size > mostAnswer {
			return nil, fmt.Errorf("%w: more than %d entries or %d MiB to one request", errUnsound, mostEntries, mostAnswer>>20)
		}
	}
	all.Controls = answers.Controls()
	return all, answers.Err()
}

// patient is a connection on which nothing takes longer than a while.
type patient struct{ net.Conn }

func (p patient) Read(b []byte) (int, error) {
	if err := p.SetReadDeadline(time.Now().Add(silence)); err != nil {
		return 0, err
	}
	return p.Conn.Read(b)
}

func (p patient) Write(b []byte) (int, error) {
	if err := p.SetWriteDeadline(time.Now().Add(silence)); err != nil {
		return 0, err
	}
	return p.Conn.Write(b)
}

// trust checks a server's certificate as the options say. The host is not the
// state's ServerName, which is empty for an IP address: such a certificate would
// be taken whatever it names.
func (c *trusting) trust(state tls.ConnectionState, host string) (Interface, error) {
	leaf := state.PeerCertificates[0]
	sum := sha256.Sum256(leaf.Raw)
	at := Interface{Host: host, Certificate: hex.EncodeToString(sum[:])}
	switch {
	case len(c.opt.Certificates) > 0:
		if !slices.ContainsFunc(c.opt.Certificates, func(pin string) bool {
			return strings.EqualFold(strings.ReplaceAll(pin, ":", ""), at.Certificate)
		}) {
			return at, errors.New("it is another one than was given with --certificate")
		}
		at.Trust = "pinned"
		return at, nil
	case c.opt.AnyCertificate:
		at.Trust = "not verified"
		return at, nil
	}
	check := x509.VerifyOptions{DNSName: host, Intermediates: x509.NewCertPool()}
	for _, cert := range state.PeerCertificates[1:] {
		check.Intermediates.AddCert(cert)
	}
	if c.opt.Issuers != nil {
		if check.Roots = x509.NewCertPool(); !check.Roots.AppendCertsFromPEM(c.opt.Issuers) {
			return at, errors.New("the file of issuers holds no certificate in PEM")
		}
	}
	if _, err := leaf.Verify(check); err != nil {
		return at, err
	}
	at.Trust = "verified"
	return at, nil
}

// explain words an error so that it says what to do next.
func (c *collector) explain(err error) error {
	var answer *ldap.Error
	where := fmt.Sprintf("%s: ", c.opt.URL)
	after := fmt.Sprintf(" after %d entries; nothing was taken", c.got.Entries)
	switch {
	case c.distrust != nil:
		return c.untrusted()
	case errors.Is(err, errUnsound):
		return fmt.Errorf("%s%w%s; have its maker look at it, or gather an export instead", where, err, after)
	case c.conn == nil && ldap.IsErrorWithCode(err, ldap.ErrorNetwork):
		return fmt.Errorf("%sno connection: %v; check the address, and that the port is open", where, err)
	case errors.Is(err, errEnded):
		return fmt.Errorf("%s%w%s; try again", where, err, after)
	case !errors.As(err, &answer):
		return fmt.Errorf("%s%w", where, err)
	}
	switch answer.ResultCode {
	case ldap.LDAPResultInvalidCredentials:
		return fmt.Errorf("%sthe server refuses the name %q or its password; a directory takes a DN or name@domain (%v)", where, c.opt.Bind, err)
	case ldap.LDAPResultSizeLimitExceeded, ldap.LDAPResultTimeLimitExceeded, ldap.LDAPResultAdminLimitExceeded:
		return fmt.Errorf("%sthe server's limit stopped the search%s; have the limit raised for %q, or read a smaller base (%v)", where,
			after, c.opt.Bind, err)
	}
	return fmt.Errorf("%sthe server answers%s: %w", where, after, err)
}

// errEnded says that the connection broke off.
var errEnded = errors.New("the connection ended")

// errUnsound says that a server answers what no server should.
var errUnsound = errors.New("the server answers what it should not")

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
	root, err := c.ask(ldap.NewSearchRequest("", ldap.ScopeBaseObject, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=*)",
		[]string{"vendorName", "defaultNamingContext", "namingContexts"}, nil))
	if err != nil {
		return err
	}
	for _, e := range root.Entries {
		if err := c.entry(e); err != nil {
			return err
		}
		c.windows = e.GetAttributeValue("defaultNamingContext") != ""
		if base == "" {
			base = e.GetAttributeValue("defaultNamingContext")
		}
		if base == "" {
			base = e.GetAttributeValue("namingContexts")
		}
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
		return nil
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
