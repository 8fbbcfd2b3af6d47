package live

import (
	"context"
	"encoding/xml"
	"fmt"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"sternledger/internal/core/estate"
)

// Server says which server of a Windows domain answered, and in what state.
type Server struct {
	Host   string `json:"host"`
	Domain string `json:"domain"`
	// PDC is the server that holds the domain's password policy first (the PDC
	// emulator); empty where the directory does not tell.
	PDC string `json:"pdc"`
	// Clock is how many seconds the server's clock is ahead of this machine's.
	Clock        int64    `json:"clock_seconds"`
	Synchronized *bool    `json:"synchronized,omitempty"` // by its own word
	USN          int64    `json:"highest_usn,omitempty"`  // of its last change
	Sources      []Source `json:"replication,omitempty"`  // as far as the account may see
	Note         string   `json:"note,omitempty"`         // why it is another server than the PDC emulator
}

// First reports whether the server is the one that holds the policy first, as
// far as the directory tells.
func (s *Server) First() bool { return s.PDC == "" || strings.EqualFold(s.PDC, s.Host) }

// Source is a server from which it gets changes.
type Source struct {
	From     string `json:"from"` // its DN
	Last     string `json:"last"` // when that last went well, RFC 3339
	Failures int    `json:"failures"`
}

// Domain is one of a forest.
type Domain struct {
	Name    string `json:"name"`
	Context string `json:"context"` // its DN
}

// rootEntry is what a server says of itself (RFC 4512, section 5.1).
type rootEntry struct {
	entry         *ldap.Entry // what of it is evidence
	host, context string
	contexts      []string
	configuration string
	clock         time.Duration // the server's, ahead of ours
	told          bool          // whether it told the time
	synchronized  *bool
	usn           int64
}

func (r *rootEntry) domain() string { return estate.DomainOf(r.context) }

// readRoot asks for the server's root entry.
func (c *collector) readRoot() error {
	asked := time.Now()
	found, err := c.ask(ldap.NewSearchRequest("", ldap.ScopeBaseObject, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=*)",
		rootAttributes, nil))
	if err != nil {
		return err
	}
	c.root = rootEntry{}
	for _, e := range found.Entries {
		r := &c.root
		r.context, r.contexts = e.GetAttributeValue("defaultNamingContext"), e.GetAttributeValues("namingContexts")
		r.configuration, r.host = e.GetAttributeValue("configurationNamingContext"), strings.ToLower(e.GetAttributeValue("dnsHostName"))
		if text := e.GetAttributeValue("currentTime"); len(text) >= 14 {
			if theirs, err := time.Parse("20060102150405", text[:14]); err == nil {
				ours := asked.Add(time.Since(asked) / 2)
				// It tells whole seconds: half of one has passed on average.
				r.clock, r.told = theirs.Add(time.Second/2).Sub(ours).Round(time.Second), true
			}
		}
		if text := e.GetAttributeValue("isSynchronized"); text != "" {
			is := strings.EqualFold(text, "TRUE")
			r.synchronized = &is
		}
		r.usn, _ = strconv.ParseInt(e.GetAttributeValue("highestCommittedUSN"), 10, 64)
		r.entry = &ldap.Entry{DN: e.DN}
		for _, a := range e.Attributes {
			switch a.Name {
			case "vendorName", "defaultNamingContext", "namingContexts":
				r.entry.Attributes = append(r.entry.Attributes, a)
			}
		}
	}
	return nil
}

// mostClock is how far apart clocks may be for Kerberos (RFC 4120, section
// 8.2), unless the domain says otherwise.
const mostClock = 5 * time.Minute

// clocks says that clocks are apart, where that may be why a sign-in failed.
func (c *collector) clocks() string {
	if !c.root.told || c.root.clock.Abs() <= mostClock {
		return ""
	}
	return fmt.Sprintf("; its clock is %s of this machine's, and Kerberos allows %s", Ahead(c.root.clock), mostClock)
}

// Ahead words how far a clock is ahead.
func Ahead(d time.Duration) string {
	if d < 0 {
		return (-d).String() + " behind that"
	}
	return d.String() + " ahead"
}

// prefer goes on with the server that holds the domain's password policy first,
// where the address names the domain and another server answered. Where that
// cannot be reached, the one that answered is read.
func (c *collector) prefer(ctx context.Context, u *url.URL) {
	if err := c.readRoot(); err != nil || c.root.context == "" || !strings.EqualFold(u.Hostname(), c.root.domain()) {
		return
	}
	head, _ := c.headFacts()
	if head.pdc == "" || strings.EqualFold(head.pdc, c.root.host) {
		return
	}
	before, root, got := c.conn, c.root, *c.got
	to := *u
	to.Host = head.pdc
	if port := u.Port(); port != "" {
		to.Host += ":" + port
	}
	c.first = "" // its certificate is the one that counts
	if err := c.connect(ctx, &to); err != nil {
		c.conn, c.root, c.distrust = before, root, nil
		*c.got = got
		c.note = fmt.Sprintf("the PDC emulator could not be read: %v", err)
		return
	}
	before.Close()
}

// headFacts is what the domain's head tells of its servers.
type headFacts struct {
	pdc     string
	sources []Source
}

func (c *collector) headFacts() (headFacts, error) {
	var facts headFacts
	found, err := c.ask(ldap.NewSearchRequest(c.root.context, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=*)",
		headAttributes, nil))
	if err != nil {
		return facts, err
	}
	for _, e := range found.Entries {
		for _, text := range e.GetAttributeValues("msDS-NCReplInboundNeighbors") {
			var n struct { // MS-ADTS 3.1.1.4.5.22
				From     string `xml:"pszSourceDsaDN"`
				Last     string `xml:"ftimeLastSyncSuccess"`
				Failures int    `xml:"cNumConsecutiveSyncFailures"`
			}
			if xml.Unmarshal([]byte(strings.TrimRight(text, "\x00")), &n) == nil && n.From != "" {
				facts.sources = append(facts.sources, Source{n.From, n.Last, n.Failures})
			}
		}
		// The owner is the server's settings, which lie below the server.
		if _, server := estate.SplitDN(e.GetAttributeValue("fSMORoleOwner")); server != "" {
			servers, err := c.ask(ldap.NewSearchRequest(server, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=*)",
				serverAttributes, nil))
			if err == nil && len(servers.Entries) == 1 {
				facts.pdc = strings.ToLower(servers.Entries[0].GetAttributeValue("dNSHostName"))
			}
		}
	}
	return facts, nil
}

// aboutServer notes which server answered, and the forest's domains where they
// are asked for. What the account may not see is left out.
func (c *collector) aboutServer() error {
	head, err := c.headFacts()
	if err != nil {
		return err
	}
	c.got.Server = &Server{Host: c.root.host, Domain: c.root.domain(), PDC: head.pdc, Clock: int64(c.root.clock / time.Second),
		Synchronized: c.root.synchronized, USN: c.root.usn, Sources: head.sources, Note: c.note}
	if !c.opt.Forest {
		return nil
	}
	found, err := c.ask(ldap.NewSearchRequest("CN=Partitions,"+c.root.configuration, partitions.scope, ldap.NeverDerefAliases, 0, 0, false,
		partitions.filter, partitions.attributes, nil))
	if err != nil {
		return fmt.Errorf("the list of the forest's domains: %w", err)
	}
	const domain = 3 // FLAG_CR_NTDS_NC and FLAG_CR_NTDS_DOMAIN
	for _, e := range found.Entries {
		flags, _ := strconv.Atoi(e.GetAttributeValue("systemFlags"))
		name := strings.ToLower(e.GetAttributeValue("dnsRoot"))
		if flags&domain == domain && named.MatchString(name) {
			c.got.Domains = append(c.got.Domains, Domain{name, e.GetAttributeValue("nCName")})
		}
	}
	return nil
}

// named is what may stand in an address as a host's name.
var named = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]*[a-z0-9])?(\.[a-z0-9]([a-z0-9-]*[a-z0-9])?)*$`)
