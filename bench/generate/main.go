// Command generate writes a realistic directory export to standard output:
// the same for the same seed, of any size.
package main

import (
	"bufio"
	"encoding/base64"
	"encoding/binary"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
)

const base = "DC=marrowick,DC=example"

var (
	first = []string{"Ada", "Bo", "Cyril", "Dag", "Edda", "Finn", "Greta", "Harriet", "Ivo", "Jonas", "Karl", "Lorna", "Mina",
		"Nils", "Osbert", "Petra", "Rolf", "Signe", "Vera", "Winifred", "Åse", "Jürgen"}
	last = []string{"Berth", "Cable", "Dock", "Eddy", "Fathom", "Gale", "Holm", "Inlet", "Jetty", "Keel", "Lowe", "Marsh", "Ness",
		"Oar", "Pike", "Quill", "Reef", "Skerry", "Tarn", "Weir"}
	units = []string{"Pilots", "Dredging", "Locks", "Kiosks", "Control Room", "Office", "Services", "Workshops", "Moorings", "Customs"}
)

func main() {
	accounts := flag.Int("accounts", 1_000_000, "accounts")
	groups := flag.Int("groups", 20_000, "groups")
	memberships := flag.Int("memberships", 4, "memberships of each account")
	policies := flag.Int("policies", 40, "fine-grained policies")
	bare := flag.Bool("bare", false, "only the attributes that are read, as a search that names them returns them")
	secrets := flag.Bool("secrets", false, "plant a secret in every hundredth account, as no real export holds them")
	seed := flag.Uint64("seed", 1, "seed")
	flag.Parse()

	g := &generator{Writer: bufio.NewWriterSize(os.Stdout, 1<<20), rnd: rand.New(rand.NewPCG(*seed, 42)), accounts: *accounts,
		bare: *bare, secrets: *secrets}
	g.head()
	for i := range *policies {
		g.policy(i, *groups)
	}
	members, holders := make([][]int, *groups), make([][]int, *accounts)
	for a := range *accounts {
		for range *memberships {
			k := g.rnd.IntN(*groups)
			if slices.Contains(holders[a], k) {
				continue
			}
			members[k] = append(members[k], a)
			holders[a] = append(holders[a], k)
		}
	}
	for i := range *groups {
		g.group(i, members[i])
	}
	for a := range *accounts {
		g.account(a, holders[a])
	}
	if err := g.Flush(); err != nil {
		fmt.Fprintln(os.Stderr, "generate:", err)
		os.Exit(1)
	}
}

type generator struct {
	*bufio.Writer
	rnd      *rand.Rand
	accounts int
	bare     bool
	secrets  bool
}

// line writes one attribute, in base64 where RFC 2849 asks for it, and folded
// at 76 columns, as directories do.
func (g *generator) line(attribute, value string) {
	text := attribute + ": " + value
	for _, c := range []byte(value) {
		if c >= 0x80 {
			text = attribute + ":: " + base64.StdEncoding.EncodeToString([]byte(value))
			break
		}
	}
	for len(text) > 77 {
		g.WriteString(text[:77] + "\n ")
		text = text[77:]
	}
	g.WriteString(text + "\n")
}

func (g *generator) guid(attribute string) {
	var raw [16]byte
	binary.LittleEndian.PutUint64(raw[:], g.rnd.Uint64())
	binary.LittleEndian.PutUint64(raw[8:], g.rnd.Uint64())
	g.line(attribute+":", base64.StdEncoding.EncodeToString(raw[:]))
}

func (g *generator) head() {
	g.WriteString("version: 1\n\n")
	g.line("dn", base)
	for _, a := range [][2]string{{"objectClass", "domainDNS"}, {"objectSid", "S-1-5-21-1111111111-2222222222-333333333"},
		{"minPwdLength", "8"},
		{"maxPwdAge", "-77760000000000"}, {"minPwdAge", "-864000000000"}, {"pwdHistoryLength", "24"}, {"pwdProperties", "1"},
		{"lockoutThreshold", "10"},
		{"lockoutDuration", "-9000000000"}, {"lockOutObservationWindow", "-9000000000"}, {"forceLogoff", "-9223372036854775808"}} {
		g.line(a[0], a[1])
	}
	g.rest("msDS-Behavior-Version", "7")
	g.WriteString("\n")
}

func groupDN(i int) string { return fmt.Sprintf("CN=Harbour Group %d,OU=Groups,%s", i, base) }

func (g *generator) policy(i, groups int) {
	g.line("dn", fmt.Sprintf("CN=Policy %d,CN=Password Settings Container,CN=System,%s", i, base))
	g.line("objectClass", "msDS-PasswordSettings")
	g.guid("objectGUID")
	for _, a := range [][2]string{{"msDS-MinimumPasswordLength", fmt.Sprint(8 + i%10)}, {"msDS-PasswordHistoryLength", "24"},
		{"msDS-PasswordComplexityEnabled", "TRUE"},
		{"msDS-PasswordReversibleEncryptionEnabled", "FALSE"}, {"msDS-MaximumPasswordAge", "-77760000000000"},
		{"msDS-MinimumPasswordAge", "-864000000000"},
		{"msDS-LockoutThreshold", "5"}, {"msDS-LockoutDuration", "-9000000000"}, {"msDS-LockoutObservationWindow", "-9000000000"},
		{"msDS-PasswordSettingsPrecedence", fmt.Sprint(10 + i/2)}, {"msDS-PSOAppliesTo", groupDN(g.rnd.IntN(groups))}} {
		g.line(a[0], a[1])
	}
	g.WriteString("\n")
}

func (g *generator) accountDN(i int) string {
	r := uint64(i) * 0x9E3779B97F4A7C15
	return fmt.Sprintf("CN=%s %s %d,OU=%s,%s", first[(r>>8)%22], last[(r>>16)%20], i, units[(r>>24)%10], base)
}

func (g *generator) group(i int, members []int) {
	g.line("dn", groupDN(i))
	g.line("objectClass", "top")
	g.line("objectClass", "group")
	g.line("sAMAccountName", fmt.Sprintf("harbour-group-%d", i))
	g.guid("objectGUID")
	g.line("objectSid", fmt.Sprintf("S-1-5-21-1111111111-2222222222-333333333-%d", 2_000_000+i))
	g.line("groupType", "-2147483646")
	g.rest("whenCreated", "20190412081500.0Z")
	for _, m := range members {
		g.line("member", g.accountDN(m))
	}
	if i > 0 && i%3 == 0 {
		g.line("member", groupDN(g.rnd.IntN(i)))
	}
	g.WriteString("\n")
}

// rest writes an attribute that nothing is read from.
func (g *generator) rest(attribute, value string) {
	if !g.bare {
		g.line(attribute, value)
	}
}

func (g *generator) account(i int, holders []int) {
	dn := g.accountDN(i)
	g.line("dn", dn)
	for _, class := range []string{"top", "person", "organizationalPerson", "user"} {
		g.line("objectClass", class)
	}
	name := fmt.Sprintf("user%07d", i)
	g.rest("cn", dn[3:len(dn)-len(base)-1])
	g.rest("distinguishedName", dn)
	g.rest("instanceType", "4")
	g.rest("whenCreated", "20200602093011.0Z")
	g.rest("whenChanged", "20261101060203.0Z")
	g.line("displayName", dn[3:min(len(dn), 20)])
	g.rest("uSNCreated", fmt.Sprint(12000+i))
	g.rest("uSNChanged", fmt.Sprint(9912000+i))
	g.guid("objectGUID")
	control := 512
	switch i % 50 {
	case 7:
		control = 514
	case 11:
		control = 66048
	}
	g.line("userAccountControl", fmt.Sprint(control))
	for _, k := range holders {
		g.line("memberOf", groupDN(k))
	}
	g.rest("badPwdCount", "0")
	g.rest("codePage", "0")
	g.rest("countryCode", "0")
	g.line("pwdLastSet", fmt.Sprint(133_000_000_000_000_000+int64(i)*10_000_000_00))
	g.line("primaryGroupID", "513")
	g.line("objectSid", fmt.Sprintf("S-1-5-21-1111111111-2222222222-333333333-%d", 3_000_000+i))
	g.rest("accountExpires", "9223372036854775807")
	g.rest("logonCount", fmt.Sprint(i%977))
	g.line("sAMAccountName", name)
	g.line("sAMAccountType", "805306368")
	g.line("userPrincipalName", name+"@marrowick.example")
	g.rest("objectCategory", "CN=Person,CN=Schema,CN=Configuration,"+base)
	g.line("lastLogonTimestamp", fmt.Sprint(133_400_000_000_000_000+int64(i)*10_000_000))
	if g.secrets && i%100 == 3 {
		g.line("unicodePwd:", base64.StdEncoding.EncodeToString(fmt.Appendf(nil, "planted secret %d", i)))
	}
	g.WriteString("\n")
}
