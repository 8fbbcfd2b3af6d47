package cli_test

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"sternledger/internal/labtest"
)

// club is the pilots' club's address book: a real LDAP server with the
// password-policy overlay.
type club struct {
	t       *testing.T
	home    string
	address string
}

const clubPolicies = `dn: cn=default,ou=policies,dc=club,dc=example
objectClass: pwdPolicy
objectClass: organizationalRole
cn: default
pwdAttribute: userPassword
pwdCheckQuality: 2
pwdMinLength: 10
pwdInHistory: 3
pwdMaxAge: 7776000
pwdLockout: TRUE
pwdMaxFailure: 4
pwdLockoutDuration: 900
pwdFailureCountInterval: 600

dn: cn=on paper,ou=policies,dc=club,dc=example
objectClass: pwdPolicy
objectClass: organizationalRole
cn: on paper
pwdAttribute: userPassword
pwdMinLength: 14
pwdMaxFailure: 2
pwdLockout: FALSE
pwdMinAge: 3600

dn: cn=masters,ou=policies,dc=club,dc=example
objectClass: pwdPolicy
objectClass: organizationalRole
cn: masters
pwdAttribute: userPassword
pwdCheckQuality: 1
pwdMinLength: 13
pwdLockout: TRUE
pwdMaxFailure: 2

dn: cn=unused,ou=policies,dc=club,dc=example
objectClass: pwdPolicy
objectClass: organizationalRole
cn: unused
pwdAttribute: userPassword

`

// newClub starts the server with some policies and, for each name, an account
// that points at the policy named behind the colon.
func newClub(t *testing.T, overlay, policies string, people ...string) *club {
	t.Helper()
	for _, tool := range []string{"/usr/sbin/slapd", "/usr/sbin/slapadd", "/usr/sbin/slaptest", "/usr/lib/ldap/ppolicy.so"} {
		if _, err := os.Stat(tool); err != nil {
			labtest.Lacking(t, "no %s; Debian's package slapd has it", tool)
		}
	}
	c := &club{t: t, home: t.TempDir(), address: fmt.Sprintf("ldap://127.0.0.1:%d", freePort(t))}
	certificate := selfSigned(t, c.home)
	os.MkdirAll(filepath.Join(c.home, "db"), 0o700)
	os.MkdirAll(filepath.Join(c.home, "config"), 0o700)
	conf := write(t, filepath.Join(c.home, "slapd.conf"), fmt.Sprintf(`include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
modulepath /usr/lib/ldap
moduleload back_mdb
moduleload ppolicy
TLSCertificateFile %s
TLSCertificateKeyFile %s
pidfile %s/pid
database config
rootdn cn=root,dc=club,dc=example
database mdb
suffix dc=club,dc=example
rootdn cn=root,dc=club,dc=example
rootpw Beacon-Root-1
directory %s/db
access to attrs=userPassword by self write by anonymous auth
access to * by users read
%s`, certificate, filepath.Join(c.home, "key.pem"), c.home, c.home, overlay))
	var data strings.Builder
	data.WriteString("dn: dc=club,dc=example\nobjectClass: dcObject\nobjectClass: organization\ndc: club\no: Pilots' Club\n\n" +
		"dn: ou=policies,dc=club,dc=example\nobjectClass: organizationalUnit\nou: policies\n\ndn: " +
		"ou=people,dc=club,dc=example\nobjectClass: organizationalUnit\nou: people\n\n" + policies)
	for _, p := range people {
		name, policy, _ := strings.Cut(p, ":")
		fmt.Fprintf(&data, "dn: uid=%s,ou=people,dc=club,dc=example\nobjectClass: inetOrgPerson\nuid: %s\ncn: %s\nsn: %s\nuserPassword: %s\n",
			name, name, name, name, firstPassword)
		if policy != "" {
			fmt.Fprintf(&data, "pwdPolicySubentry: cn=%s,ou=policies,dc=club,dc=example\n", policy)
		}
		data.WriteString("\n")
	}
	data.WriteString("dn: cn=committee,ou=people,dc=club,dc=example\nobjectClass: groupOfNames\ncn: committee\nmember: uid=" +
		strings.Split(people[0], ":")[0] + ",ou=people,dc=club,dc=example\n\n")
	c.tool("/usr/sbin/slapadd", "-f", conf, "-n", "1", "-l", write(t, filepath.Join(c.home, "data.ldif"), data.String()))
	// it says no to an empty database, and writes all the same
	exec.Command("/usr/sbin/slaptest", "-f", conf, "-F", filepath.Join(c.home, "config")).Run()
	server := exec.Command("/usr/sbin/slapd", "-h", c.address, "-F", filepath.Join(c.home, "config"), "-d", "0")
	if err := server.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { server.Process.Kill(); server.Wait() })
	waitFor(t, strings.TrimPrefix(c.address, "ldap://"))
	return c
}

const firstPassword = "Lantern-Room-0-West"

func (c *club) tool(name string, args ...string) string {
	c.t.Helper()
	out, err := exec.Command(name, args...).CombinedOutput()
	if err != nil {
		c.t.Fatalf("%s %v: %v\n%s", name, args, err, out)
	}
	return string(out)
}

// change sets a new password as the user does, and reports whether the server
// took it.
func (c *club) change(name, from, to string) bool {
	c.t.Helper()
	out, err := exec.Command("ldappasswd", "-H", c.address, "-x", "-D", "uid="+name+",ou=people,dc=club,dc=example", "-w", from,
		"-a", from, "-s", to).CombinedOutput()
	var exit *exec.ExitError
	if err != nil && (!errors.As(err, &exit) || strings.Contains(string(out), "Invalid credentials")) {
		c.t.Fatalf("%s: %v %s", name, err, out)
	}
	return err == nil
}

// signsIn reports whether the server lets the user in.
func (c *club) signsIn(name, password string) bool {
	return exec.Command("ldapwhoami", "-H", c.address, "-x", "-D", "uid="+name+",ou=people,dc=club,dc=example", "-w", password).Run() == nil
}

// What the program says of policies, the server does: lengths, former
// passwords, minimum age, the number of tries.
func TestRealPasswordPolicy(t *testing.T) {
	labtest.Wanted(t)
	people := []string{"skerry", "holm:on paper", "tarn:masters", "lost:gone"}
	for _, server := range []struct{ name, overlay string }{
		{"a default policy", "overlay ppolicy\nppolicy_default cn=default,ou=policies,dc=club,dc=example\n"},
		{"an overlay without a default", "overlay ppolicy\n"},
	} {
		t.Run(server.name, func(t *testing.T) {
			c := newClub(t, server.overlay, clubPolicies, people...)
			offline := begin(t)
			data := write(t, filepath.Join(c.home, "club.ldif"), c.tool("/usr/sbin/slapcat", "-F", filepath.Join(c.home, "config"), "-b",
				"dc=club,dc=example"))
			config := write(t, filepath.Join(c.home, "server.ldif"), c.tool("/usr/sbin/slapcat", "-F", filepath.Join(c.home, "config"),
				"-b", "cn=config"))
			must(t, offline, "gather", data)
			if got := document(t, offline, "trace", "skerry"); at(got, "governing", "rule") != "unknown" {
				t.Errorf("without the server's configuration: %v", got["governing"])
			}
			must(t, offline, "gather", config)
			// The configuration in its older shape says the same.
			older := begin(t)
			must(t, older, "gather", data)
			must(t, older, "gather", filepath.Join(c.home, "slapd.conf"))
			if found := grep(t, filepath.Join(older, "evidence"), "Beacon-Root-1"); found != "" {
				t.Errorf("the server's password is in %s", found)
			}
			if x, y := must(t, offline, "accounts", "--format", "csv"), must(t, older, "accounts", "--format", "csv"); x != y {
				t.Errorf("cn=config and slapd.conf differ:\n%s\n%s", x, y)
			}
			online := begin(t)
			password := write(t, filepath.Join(c.home, "password"), "Beacon-Root-1")
			must(t, online, "gather", c.address, "--bind", "cn=root,dc=club,dc=example", "--password-file", password, "--ca",
				filepath.Join(c.home, "cert.pem"))
			if x, y := must(t, offline, "accounts", "--format", "csv"), must(t, online, "accounts", "--format", "csv"); x != y {
				t.Errorf("offline and live differ:\n%s\n%s", x, y)
			}
			for _, who := range []string{"skerry", "holm", "tarn"} {
				doc := document(t, online, "trace", who)
				setting := func(id string) int {
					n, isNumber := at(doc, "settings", id, "value").(float64)
					if !isNumber && at(doc, "settings", id, "special") == nil {
						t.Errorf("%s: %s is not told", who, id)
					}
					return int(n)
				}
				least, tries, former := setting("min-length"), setting("lockout-threshold"), setting("history")
				if least > 1 && c.change(who, firstPassword, strings.Repeat("y", least-1)) {
					t.Errorf("%s: %d characters are taken, where %d are the least", who, least-1, least)
				}
				second := strings.Repeat("z", max(least, 1))
				if !c.change(who, firstPassword, second) {
					t.Errorf("%s: %d characters are refused", who, least)
				}
				if back := c.change(who, second, firstPassword); back == (former > 0 || setting("min-age") > 0) {
					t.Errorf("%s: back on the old password: %v, with a history of %d and a minimum age of %d s", who, back, former, setting("min-age"))
				} else if back {
					second = firstPassword
				}
				for range max(tries-1, 6*map[bool]int{true: 1}[tries == 0]) {
					c.signsIn(who, "wrong")
				}
				if !c.signsIn(who, second) {
					t.Errorf("%s: locked before %d tries", who, tries)
				}
				for range tries {
					c.signsIn(who, "wrong")
				}
				if tries > 0 && c.signsIn(who, second) {
					t.Errorf("%s: not locked after %d tries", who, tries)
				}
			}
			if c.change("lost", firstPassword, "x") != true {
				t.Error("a policy that is not there asks for something all the same")
			}
			found := checksIn(t, online)
			if found["pointer-broken"] == nil || found["policy-unused"] == nil {
				t.Errorf("checks: %v", found)
			}
		})
	}
}
