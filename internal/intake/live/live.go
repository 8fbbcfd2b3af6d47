// Package live reads a directory server by LDAP and writes what it holds as
// LDIF, which is then read like any export, so that an offline and a live
// audit are one path. It only searches.
package live

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"sternledger/internal/intake/kerberos"
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
	// Identity, if not nil, signs in by Kerberos, and Bind and Password are not used.
	Identity kerberos.Identity
	// Servers are other addresses of hosts and domains, which are in lower case;
	// Stores those of domains' policy stores.
	Servers, Stores map[string]Address
	// Forest asks for the list of the forest's domains.
	Forest bool
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
	Trust       string   `json:"trust"`       // verified, pinned, or not verified; empty where there was none
	// Of a directory:
	Way        string         `json:"way,omitempty"`        // how one signed in
	As         string         `json:"as,omitempty"`         // as whom, by the server's own word
	Protection Protection     `json:"protection,omitempty"` // of what went over the wire
	Server     *Server        `json:"server,omitempty"`     // of a Windows domain
	Store      *Store         `json:"store,omitempty"`      // the domain's policy store
	Domains    []Domain       `json:"domains,omitempty"`    // of its forest, as the directory lists them
	Elsewhere  []string       `json:"elsewhere,omitempty"`  // parts of it on other servers, which were not asked
	answered   string         // the host at which the directory answered
	whole      bool           // the domain was read from its head on
	versions   map[string]int // of its policies, by name in capitals
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

// Plain says what is wrong with an address in which something stands that others must not
// see: it would be shown by the system's list of programs, and kept in the ledger. The
// address is never repeated. An address that cannot be read at all is for others to refuse.
func Plain(source string) error {
	const instead = "; give a name with --bind, a password by prompt, file or variable, and a token by a variable (docs/sources.md)"
	u, err := url.Parse(source)
	switch {
	case err != nil:
	case u.User != nil:
		return errors.New("a name or password in the address is refused, since others can see it" + instead)
	case u.RawQuery != "" || u.ForceQuery || u.Fragment != "":
		return errors.New("what stands behind ? or # in the address is refused: a token or a password may stand there, and others can see it" + instead)
	}
	return nil
}

// Collect reads the server and writes LDIF, until ctx ends. An error means that
// what was written is not whole.
func Collect(ctx context.Context, opt Options, out io.Writer) (*Collected, error) {
	u, err := url.Parse(opt.URL)
	if err != nil || u.Hostname() == "" {
		// It is not repeated here: a password may stand in it.
		return nil, errors.New("an address that cannot be read; expected ldaps://HOST[:PORT][/BASE]")
	}
	if err := Plain(opt.URL); err != nil {
		return nil, err
	}
	got := &Collected{URL: opt.URL, Bind: opt.Bind, Bases: []string{}, versions: map[string]int{}}
	c := &collector{trusting: trusting{opt: opt, got: got}, out: bufio.NewWriter(out)}
	ctx, done := context.WithTimeoutCause(ctx, mostTime, errTooLong)
	defer done()
	if err := c.connect(ctx, u); err != nil {
		return nil, c.explain(err)
	}
	c.prefer(ctx, u)
	conn := c.conn
	defer conn.Close()
	defer context.AfterFunc(ctx, func() { conn.Close() })()
	if err := c.collect(strings.TrimPrefix(u.Path, "/")); err != nil {
		if why := context.Cause(ctx); why != nil {
			err = fmt.Errorf("%w: %w", errEnded, why)
		}
		return nil, c.explain(err)
	}
	return c.got, c.out.Flush()
}

// Address is where a server answers.
type Address struct{ Host, Port string } // Port: empty for the usual one

// ParseAddress reads HOST or HOST:PORT.
func ParseAddress(text string) (Address, error) {
	if host, port, err := net.SplitHostPort(text); err == nil && host != "" && port != "" {
		return Address{host, port}, nil
	}
	if host := strings.Trim(text, "[]"); host != "" && (!strings.ContainsAny(host, ":/ ") || net.ParseIP(host) != nil) {
		return Address{Host: host}, nil
	}
	return Address{}, fmt.Errorf("%q is no address; expected HOST or HOST:PORT", text)
}

func (a Address) on(port string) string { return net.JoinHostPort(a.Host, cmp.Or(a.Port, port)) }

// reach is the address at which a host is asked.
func (o *Options) reach(host, port string) string {
	at, ok := o.Servers[strings.ToLower(host)]
	if !ok {
		at = Address{Host: host}
	}
	return at.on(port)
}

// directory is all that is needed of a connection once it is open.
type directory interface {
	Search(*ldap.SearchRequest) (*ldap.SearchResult, error)
	Close() error
}

// explain words an error so that it says what to do next.
func (c *collector) explain(err error) error {
	var answer *ldap.Error
	var refused *kerberos.Refused
	where := fmt.Sprintf("%s: ", c.opt.URL)
	after := fmt.Sprintf(" after %d entries; nothing was taken", c.got.Entries)
	switch {
	case c.distrust != nil:
		return c.untrusted()
	case errors.Is(err, errUnsound):
		return fmt.Errorf("%s%w%s; have its maker look at it, or gather an export instead", where, err, after)
	case errors.As(err, &refused):
		return fmt.Errorf("%s%w%s", where, err, c.clocks())
	case c.conn == nil && ldap.IsErrorWithCode(err, ldap.ErrorNetwork):
		return fmt.Errorf("%sno connection: %v; check the address, and that the port is open", where, err)
	case errors.Is(err, errEnded):
		return fmt.Errorf("%s%w%s; try again", where, err, after)
	case !errors.As(err, &answer):
		return fmt.Errorf("%s%w", where, err)
	}
	switch answer.ResultCode {
	case ldap.LDAPResultInvalidCredentials:
		if c.opt.Identity != nil {
			return fmt.Errorf("%sthe server refuses the ticket of %s%s (%v)", where, c.opt.Identity.Name(), c.clocks(), err)
		}
		return fmt.Errorf("%sthe server refuses the name %q or its password; a directory takes a DN or name@domain (%v)", where, c.opt.Bind, err)
	case ldap.LDAPResultStrongAuthRequired, ldap.LDAPResultConfidentialityRequired:
		if c.opt.Identity != nil && c.got.Protection == TLS {
			return fmt.Errorf("%sthe server takes no Kerberos over TLS: use ldap:// with --kerberos, which is sealed (%v)", where, err)
		}
		return fmt.Errorf("%sthe server wants a protected connection: use ldaps://, or sign in with --kerberos (%v)", where, err)
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
