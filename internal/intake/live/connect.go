package live

import (
	"bufio"
	"cmp"
	"context"
	"crypto"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"
)

type collector struct {
	trusting
	conn    directory
	out     *bufio.Writer
	windows bool      // it is a Windows domain's, or one of its make
	root    rootEntry // of the server that was reached last
	note    string    // why it is another server than one would prefer
}

// trusting checks a server's certificate and notes what came of it.
type trusting struct {
	opt      Options
	got      *Collected
	first    string    // the host that was asked first
	distrust error     // why a server's certificate is not trusted
	doubted  Interface // whose it is
	leaf     *x509.Certificate
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
			c.leaf = state.PeerCertificates[0]
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

// connect opens the connection, secures it, and signs in.
func (c *collector) connect(ctx context.Context, u *url.URL) error {
	config, plain := c.config(u.Hostname()), strings.EqualFold(u.Scheme, "ldap")
	port := cmp.Or(u.Port(), map[bool]string{true: ldap.DefaultLdapPort, false: ldap.DefaultLdapsPort}[plain])
	wire, err := dial(ctx, c.opt.reach(u.Hostname(), port), silence)
	if err != nil {
		return ldap.NewError(ldap.ErrorNetwork, err)
	}
	c.got.answered, _, _ = net.SplitHostPort(wire.RemoteAddr().String())
	if !plain {
		secured := tls.Client(wire, config)
		if err := secured.HandshakeContext(ctx); err != nil {
			wire.Close()
			return ldap.NewError(ldap.ErrorNetwork, err)
		}
		wire = secured
	}
	layers := newLayered(wire)
	conn := ldap.NewConn(layers, !plain)
	conn.Start()
	conn.SetTimeout(silence)
	c.conn, c.got.Protection = sized{conn, ctx}, TLS
	if err := c.signIn(conn, layers, u, config, plain); err != nil {
		conn.Close()
		return err
	}
	if who, err := conn.WhoAmI(nil); err == nil { // RFC 4532
		c.got.As = strings.TrimPrefix(strings.TrimPrefix(who.AuthzID, "u:"), "dn:")
	}
	return nil
}

// signIn says who is asking. A password goes over TLS alone; a ticket brings a
// protection of its own.
func (c *collector) signIn(conn *ldap.Conn, layers *layered, u *url.URL, config *tls.Config, plain bool) (err error) {
	by := c.opt.Identity
	if plain && by == nil {
		if err := conn.StartTLS(config); err != nil {
			return fmt.Errorf("StartTLS: %w", err)
		}
	}
	switch {
	case by != nil:
		c.got.Bind, c.got.Way = by.Name(), "Kerberos, "+string(by.Means())
		// A domain's name or an address is no name of a server: the server tells it.
		if err := c.readRoot(); err != nil {
			return err
		}
		var binding []byte
		if !plain {
			binding = channel(c.leaf)
		}
		context, err := by.Context("ldap/"+c.serviceHost(u.Hostname()), binding)
		if err != nil {
			return err
		}
		sasl := &saslClient{Context: context, secure: !plain}
		if err := conn.GSSAPIBind(sasl, "", ""); err != nil {
			return err
		}
		if sasl.chosen == nil {
			return nil
		}
		layers.begin(sasl.chosen)
		if c.got.Protection = Signed; sasl.chosen.seal {
			c.got.Protection = Sealed
		}
		return nil
	case c.opt.Bind == "":
		c.got.Way = "anonymous"
		return conn.UnauthenticatedBind("")
	case c.opt.Password == "":
		return errors.New("an empty password is refused: servers take it for an anonymous sign-in")
	}
	c.got.Way = "password"
	return conn.Bind(c.opt.Bind, c.opt.Password)
}

// serviceHost is the host in whose name a ticket is asked for: that of the
// address where it is one, else what the server calls itself. Whoever answers
// in another's place has no key for the name.
func (c *collector) serviceHost(host string) string {
	if net.ParseIP(host) == nil && strings.Contains(host, ".") && !strings.EqualFold(host, c.root.domain()) || c.root.host == "" {
		return host
	}
	return c.root.host
}

// channel is the name of a channel by its server's certificate (RFC 5929,
// section 4).
func channel(leaf *x509.Certificate) []byte {
	hash := crypto.SHA256
	switch leaf.SignatureAlgorithm {
	case x509.SHA384WithRSA, x509.SHA384WithRSAPSS, x509.ECDSAWithSHA384:
		hash = crypto.SHA384
	case x509.SHA512WithRSA, x509.SHA512WithRSAPSS, x509.ECDSAWithSHA512:
		hash = crypto.SHA512
	}
	h := hash.New()
	h.Write(leaf.Raw)
	return h.Sum([]byte("tls-server-end-point:"))
}

// dial opens a connection on which nothing takes longer than a while: the
// packages set no limit to what goes on before the first answer.
func dial(ctx context.Context, address string, silence time.Duration) (net.Conn, error) {
	wire, err := (&net.Dialer{Timeout: dialTimeout}).DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, err
	}
	return patient{wire, silence}, nil
}

// mostReferrals bounds how many parts of a directory on other servers are told of.
const mostReferrals = 100

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
		if e == nil { // what lies on another server is never asked for there
			if to := answers.Referral(); to != "" && len(all.Referrals) < mostReferrals {
				all.Referrals = append(all.Referrals, to)
			}
			continue
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
type patient struct {
	net.Conn
	silence time.Duration
}

func (p patient) Read(b []byte) (int, error) {
	if err := p.SetReadDeadline(time.Now().Add(p.silence)); err != nil {
		return 0, err
	}
	return p.Conn.Read(b)
}

func (p patient) Write(b []byte) (int, error) {
	if err := p.SetWriteDeadline(time.Now().Add(p.silence)); err != nil {
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
