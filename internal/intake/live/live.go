// Package live reads a directory server by LDAP and writes what it holds as
// LDIF, which is then read like any export, so that an offline and a live
// audit are one path. It only searches.
package live

import (
	"bufio"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"
)

// pageSize is how many entries are asked for at a time (RFC 2696); directories
// give no more than 1000.
const pageSize = 500

const (
	dialTimeout   = 15 * time.Second
	answerTimeout = 5 * time.Minute
)

// Options say which server is read, as whom, and whom to trust.
type Options struct {
	URL      string // ldaps://HOST[:PORT][/BASE], or ldap:// with StartTLS
	Bind     string // DN or name@domain; empty: anonymous
	Password string
	Issuers  []byte // PEM; nil: those that this system trusts
	// Certificate is the SHA-256 of the one certificate to accept, in hex.
	Certificate string
	// AnyCertificate accepts every certificate. The ledger records it.
	AnyCertificate bool
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
	attributes []string
	rights     bool // ask for access lists: without saying which part, servers give none to most
	windows    bool // only of a Windows domain's server, or one of its make
}

var searches = []search{
	{ldap.ScopeBaseObject, "(objectClass=*)", []string{"objectClass", "objectSid", "objectGUID", "minPwdLength", "pwdHistoryLength", "maxPwdAge", "minPwdAge",
		"lockoutThreshold", "lockoutDuration", "lockOutObservationWindow", "forceLogoff", "pwdProperties", "gPLink", "gPOptions", "msDS-Behavior-Version", "oEMInformation"}, false, false},
	{ldap.ScopeWholeSubtree, "(|(objectClass=msDS-PasswordSettings)(objectClass=msDS-PasswordSettingsContainer)(objectClass=group)(objectClass=user)(objectClass=inetOrgPerson)(objectClass=organizationalUnit)(objectClass=contact)(objectClass=foreignSecurityPrincipal)(objectClass=pwdPolicy)(objectClass=person)(objectClass=posixAccount)(objectClass=account)(objectClass=simpleSecurityObject)(objectClass=groupOfNames)(objectClass=groupOfUniqueNames))",
		[]string{"objectClass", "objectSid", "objectGUID", "sAMAccountName", "userPrincipalName", "displayName", "userAccountControl", "primaryGroupID",
			"pwdLastSet", "lockoutTime", "badPwdCount", "adminCount", "servicePrincipalName", "lastLogonTimestamp", "msDS-ResultantPSO", "msDS-PSOApplied",
			"msDS-SecondaryKrbTgtNumber", "groupType", "member", "memberOf", "operatingSystem", "entryUUID", "gPLink", "gPOptions", "flags", "description",
			"msDS-PasswordSettingsPrecedence", "msDS-PSOAppliesTo", "msDS-MinimumPasswordLength", "msDS-PasswordHistoryLength", "msDS-MaximumPasswordAge",
			"msDS-MinimumPasswordAge", "msDS-LockoutThreshold", "msDS-LockoutDuration", "msDS-LockoutObservationWindow", "msDS-PasswordComplexityEnabled",
			"msDS-PasswordReversibleEncryptionEnabled", "uid", "uidNumber", "uniqueMember", "pwdPolicySubentry", "pwdChangedTime", "pwdAccountLockedTime",
			"pwdAttribute", "pwdMinLength", "pwdMaxLength", "pwdMaxAge", "pwdMinAge", "pwdInHistory", "pwdCheckQuality", "pwdCheckModule", "pwdUseCheckModule", "pwdMaxFailure", "pwdLockout",
			"pwdLockoutDuration", "pwdFailureCountInterval", "pwdExpireWarning"}, false, false},
	{ldap.ScopeWholeSubtree, "(objectClass=groupPolicyContainer)", []string{"objectClass", "displayName", "flags", "gPCFileSysPath", "gPCFunctionalityVersion",
		"gPCMachineExtensionNames", "gPCWQLFilter", "nTSecurityDescriptor"}, true, true},
}

// serverConfiguration is asked for as well: where it may be read, it names the
// default policy of an OpenLDAP server.
const serverConfiguration = "cn=config"

var configuration = search{ldap.ScopeWholeSubtree, "(|(objectClass=olcDatabaseConfig)(objectClass=olcPPolicyConfig))", []string{"objectClass", "olcSuffix", "olcPPolicyDefault"}, false, false}

// Collect reads the server and writes LDIF. An error means that what was
// written is not whole.
func Collect(opt Options, out io.Writer) (*Collected, error) {
	u, err := url.Parse(opt.URL)
	if err != nil || u.Hostname() == "" {
		// It is not repeated here: a password may stand in it.
		return nil, errors.New("an address that cannot be read; expected ldaps://HOST[:PORT][/BASE]")
	}
	if u.User != nil {
		return nil, fmt.Errorf("a name or password in the address is refused, since others can see it; give the name with --bind and the password by prompt, file or variable")
	}
	c := &collector{trusting: trusting{opt: opt, got: &Collected{URL: opt.URL, Bind: opt.Bind, Bases: []string{}}}, out: bufio.NewWriter(out)}
	if err := c.connect(u); err != nil {
		return nil, c.explain(err)
	}
	defer c.conn.Close()
	if err := c.collect(strings.TrimPrefix(u.Path, "/")); err != nil {
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
	distrust error // why the server's certificate is not trusted
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
			c.distrust = c.trust(state)
			return c.distrust
		},
	}
}

// untrusted says what to do about a certificate that is not trusted.
func (c *trusting) untrusted() error {
	return fmt.Errorf("%s: the server's certificate is not trusted: %v; its SHA-256 is %s: compare it with the administrator's and pass it with --certificate, or give its issuer with --ca FILE", c.opt.URL, c.distrust, c.got.Certificate)
}

// connect opens the connection, secures it, and says who is asking.
func (c *collector) connect(u *url.URL) error {
	config := c.config(u.Hostname())
	conn, err := ldap.DialURL(u.Scheme+"://"+u.Host, ldap.DialWithDialer(&net.Dialer{Timeout: dialTimeout}), ldap.DialWithTLSConfig(config))
	if err != nil {
		return err
	}
	conn.SetTimeout(answerTimeout)
	c.conn = conn
	if strings.EqualFold(u.Scheme, "ldap") {
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

// trust checks the server's certificate as the options say.
func (c *trusting) trust(state tls.ConnectionState) error {
	leaf := state.PeerCertificates[0]
	sum := sha256.Sum256(leaf.Raw)
	c.got.Certificate = hex.EncodeToString(sum[:])
	switch {
	case c.opt.Certificate != "":
		if !strings.EqualFold(strings.ReplaceAll(c.opt.Certificate, ":", ""), c.got.Certificate) {
			return errors.New("it is another one than was given with --certificate")
		}
		c.got.Trust = "pinned"
		return nil
	case c.opt.AnyCertificate:
		c.got.Trust = "not verified"
		return nil
	}
	check := x509.VerifyOptions{DNSName: state.ServerName, Intermediates: x509.NewCertPool()}
	for _, cert := range state.PeerCertificates[1:] {
		check.Intermediates.AddCert(cert)
	}
	if c.opt.Issuers != nil {
		if check.Roots = x509.NewCertPool(); !check.Roots.AppendCertsFromPEM(c.opt.Issuers) {
			return errors.New("the file of issuers holds no certificate in PEM")
		}
	}
	if _, err := leaf.Verify(check); err != nil {
		return err
	}
	c.got.Trust = "verified"
	return nil
}

// explain words an error so that it says what to do next.
func (c *collector) explain(err error) error {
	var answer *ldap.Error
	where := fmt.Sprintf("%s: ", c.opt.URL)
	after := fmt.Sprintf(" after %d entries; nothing was taken", c.got.Entries)
	switch {
	case c.distrust != nil:
		return c.untrusted()
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
		return fmt.Errorf("%sthe server's limit stopped the search%s; have the limit raised for %q, or read a smaller base (%v)", where, after, c.opt.Bind, err)
	}
	return fmt.Errorf("%sthe server answers%s: %w", where, after, err)
}

// errEnded says that the connection broke off.
var errEnded = errors.New("the connection ended")

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
		c.entry(e)
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
	for {
		found, err := c.ask(ldap.NewSearchRequest(base, s.scope, ldap.NeverDerefAliases, 0, 0, false, s.filter, s.attributes, controls))
		if err != nil {
			return err
		}
		for _, e := range found.Entries {
			c.entry(e)
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
		paging.SetCookie(next.Cookie)
	}
}

var ranged = regexp.MustCompile(`(?i)^(.+);range=(\d+)-(\d+)$`)

// furtherPieces asks for what is left of an attribute that came in part
// (MS-ADTS 3.1.1.3.1.3.3), and writes each piece as a record of its own.
func (c *collector) furtherPieces(e *ldap.Entry) error {
	for _, a := range e.Attributes {
		for m := ranged.FindStringSubmatch(a.Name); m != nil; {
			last, err := strconv.Atoi(m[3])
			if err != nil {
				return err
			}
			rest := fmt.Sprintf("%s;range=%d-*", m[1], last+1)
			found, err := c.ask(ldap.NewSearchRequest(e.DN, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=*)", []string{"objectClass", rest}, nil))
			if err != nil {
				return err
			}
			m = nil
			for _, piece := range found.Entries {
				c.entry(piece)
				for _, b := range piece.Attributes {
					if again := ranged.FindStringSubmatch(b.Name); again != nil {
						m = again
					}
				}
			}
		}
	}
	return nil
}

// entry writes one record (RFC 2849). A failed write shows when the writer is
// flushed.
func (c *collector) entry(e *ldap.Entry) {
	c.line("dn", []byte(e.DN))
	for _, a := range e.Attributes {
		for _, v := range a.ByteValues {
			c.line(a.Name, v)
		}
	}
	c.out.WriteString("\n")
}

func (c *collector) line(name string, value []byte) {
	if plain(value) {
		fmt.Fprintf(c.out, "%s: %s\n", name, value)
		return
	}
	fmt.Fprintf(c.out, "%s:: %s\n", name, base64.StdEncoding.EncodeToString(value))
}

// plain reports whether a value can be written as it is.
func plain(value []byte) bool {
	for i, b := range value {
		if b == 0 || b == '\n' || b == '\r' || b >= 0x80 || i == 0 && (b == ' ' || b == ':' || b == '<') {
			return false
		}
	}
	return len(value) == 0 || value[len(value)-1] != ' '
}
