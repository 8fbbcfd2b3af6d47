package live

import (
	"bufio"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
)

// forest answers for one server of a domain in a forest of three.
type forest struct {
	inPieces
	ahead time.Duration
	asked []*ldap.SearchRequest
}

func (d *forest) Search(r *ldap.SearchRequest) (*ldap.SearchResult, error) {
	d.asked = append(d.asked, r)
	one := func(dn string, attributes map[string][]string) (*ldap.SearchResult, error) {
		return &ldap.SearchResult{Entries: []*ldap.Entry{entry(dn, attributes)}}, nil
	}
	switch {
	case r.BaseDN == "":
		return one("", map[string][]string{"defaultNamingContext": {base}, "configurationNamingContext": {"CN=Configuration," + base},
			"dnsHostName": {"Quay2.x.example"}, "currentTime": {time.Now().Add(d.ahead).UTC().Format("20060102150405") + ".0Z"},
			"isSynchronized": {"FALSE"}, "highestCommittedUSN": {"4711"}})
	case slices.Equal(r.Attributes, headAttributes):
		return one(base, map[string][]string{
			"fSMORoleOwner": {"CN=NTDS Settings,CN=QUAY1,CN=Servers,CN=Default-First-Site-Name,CN=Sites,CN=Configuration," + base},
			"msDS-NCReplInboundNeighbors": {"<DS_REPL_NEIGHBOR><pszSourceDsaDN>CN=NTDS Settings,CN=QUAY1</pszSourceDsaDN>" +
				"<ftimeLastSyncSuccess>2026-11-20T08:00:00Z</ftimeLastSyncSuccess><cNumConsecutiveSyncFailures>3</cNumConsecutiveSyncFailures>" +
				"</DS_REPL_NEIGHBOR>\x00", "no XML"}})
	case strings.HasPrefix(r.BaseDN, "CN=QUAY1,CN=Servers"):
		return one(r.BaseDN, map[string][]string{"dNSHostName": {"quay1.x.example"}})
	case strings.HasPrefix(r.BaseDN, "CN=Partitions,CN=Configuration"):
		result := &ldap.SearchResult{}
		for name, flags := range map[string]string{"x.example": "3", "yard.x.example": "3", "DomainDnsZones.x.example": "5", "Enterprise": "1",
			"-evil/..": "3", "club.example": "3"} {
			result.Entries = append(result.Entries, entry("CN="+name, map[string][]string{"dnsRoot": {name}, "systemFlags": {flags},
				"nCName": {"DC=" + strings.ReplaceAll(name, ".", ",DC=")}}))
		}
		return result, nil
	}
	return d.inPieces.Search(r)
}

// Which server answered, its clock, who holds the policy first, what replication
// shows, and the forest's domains.
func TestAboutServer(t *testing.T) {
	for _, ahead := range []time.Duration{0, 10 * time.Minute, -3 * time.Hour} {
		server := &forest{inPieces: inPieces{accounts: 1}, ahead: ahead}
		c := &collector{conn: server, out: bufio.NewWriter(io.Discard), trusting: trusting{got: &Collected{}, opt: Options{Forest: true}}}
		if err := c.collect(""); err != nil {
			t.Fatal(err)
		}
		at := c.got.Server
		if at.Host != "quay2.x.example" || at.Domain != "x.example" || at.PDC != "quay1.x.example" || at.First() ||
			*at.Synchronized || at.USN != 4711 {
			t.Errorf("%+v", at)
		}
		if off := time.Duration(at.Clock)*time.Second - ahead; off.Abs() > 2*time.Second {
			t.Errorf("its clock is %d s ahead, not %s", at.Clock, ahead)
		}
		if says := c.clocks(); (says != "") != (ahead != 0) {
			t.Errorf("%s ahead: %q", ahead, says)
		}
		if len(at.Sources) != 1 || at.Sources[0].Failures != 3 || at.Sources[0].Last != "2026-11-20T08:00:00Z" {
			t.Errorf("replication: %+v", at.Sources)
		}
		var names []string
		for _, d := range c.got.Domains {
			names = append(names, d.Name)
		}
		slices.Sort(names)
		if strings.Join(names, " ") != "club.example x.example yard.x.example" {
			t.Errorf("domains: %v", names)
		}
	}
}

// Everything that is asked for is in the list that an administrator is shown.
func TestOnlyWhatIsListed(t *testing.T) {
	server := &forest{inPieces: inPieces{accounts: 9}}
	c := &collector{conn: server, out: bufio.NewWriter(io.Discard),
		trusting: trusting{got: &Collected{}, opt: Options{Forest: true, Attributes: []string{"objectClass", "member"}}}}
	if err := c.collect(""); err != nil {
		t.Fatal(err)
	}
	listed := map[string]bool{}
	for _, q := range Searches([]string{"objectClass", "member"}) {
		for _, a := range q.Attributes {
			listed[a] = true
		}
	}
	for _, r := range server.asked {
		for _, a := range r.Attributes {
			if name, _, _ := strings.Cut(a, ";"); !listed[name] {
				t.Errorf("%s of %q is asked for and not listed", a, r.BaseDN)
			}
		}
	}
}
