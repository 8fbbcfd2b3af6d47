package cli_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	ldapclient "github.com/go-ldap/ldap/v3"

	"sternledger/internal/labtest"
)

// serversLab is the program that runs further real servers.
func serversLab(t *testing.T, needs ...string) string {
	t.Helper()
	labtest.Wanted(t)
	lab := labtest.Script(t, "servers")
	for _, tool := range needs {
		if _, err := exec.LookPath(tool); err != nil {
			labtest.Lacking(t, "no %s; labs/servers install brings it", tool)
		}
	}
	return lab
}

const harbourBase = "dc=pilots,dc=example"

// dirsrv is a real 389 Directory Server.
type dirsrv struct {
	t        *testing.T
	admin    *ldapclient.Conn
	password string
}

func startDirsrv(t *testing.T) *dirsrv {
	lab, home := serversLab(t, "dscreate", "ns-slapd"), t.TempDir()
	t.Cleanup(func() {
		_ = exec.Command(lab, "389", "stop", home).Run()
		waitEnded(t, "/run/dirsrv/slapd-quay.pid")
	})
	if out, err := exec.Command(lab, "389", "start", home).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	password, err := os.ReadFile(filepath.Join(home, "password"))
	if err != nil {
		t.Fatal(err)
	}
	d := &dirsrv{t: t, password: strings.TrimSpace(string(password))}
	d.admin = d.dial("cn=Directory Manager", d.password)
	return d
}

func (d *dirsrv) dial(dn, password string) *ldapclient.Conn {
	d.t.Helper()
	c, err := ldapclient.DialURL("ldap://127.0.0.1:3389")
	if err == nil {
		err = c.Bind(dn, password)
	}
	if err != nil {
		d.t.Fatal(err)
	}
	d.t.Cleanup(func() { c.Close() })
	return c
}

func (d *dirsrv) add(dn string, attributes map[string][]string) {
	d.t.Helper()
	r := ldapclient.NewAddRequest(dn, nil)
	for name, values := range attributes {
		r.Attribute(name, values)
	}
	if err := d.admin.Add(r); err != nil {
		d.t.Fatalf("add %s: %v", dn, err)
	}
}

func (d *dirsrv) set(dn string, attributes map[string]string) {
	d.t.Helper()
	r := ldapclient.NewModifyRequest(dn, nil)
	for name, value := range attributes {
		r.Replace(name, []string{value})
	}
	if err := d.admin.Modify(r); err != nil {
		d.t.Fatalf("modify %s: %v", dn, err)
	}
}

// signsIn reports whether a password lets the account in.
func (d *dirsrv) signsIn(dn, password string) bool {
	c, err := ldapclient.DialURL("ldap://127.0.0.1:3389")
	if err != nil {
		d.t.Fatal(err)
	}
	defer c.Close()
	return c.Bind(dn, password) == nil
}

// takes reports whether the server takes a new password from the account's user; the
// old one is set again by the manager.
func (d *dirsrv) takes(dn, next string) bool {
	const old = "Lantern-Room-0-West"
	d.set(dn, map[string]string{"userPassword": old})
	c, err := ldapclient.DialURL("ldap://127.0.0.1:3389")
	if err != nil {
		d.t.Fatal(err)
	}
	defer c.Close()
	if err := c.Bind(dn, old); err != nil {
		d.t.Fatalf("%s: %v", dn, err)
	}
	r := ldapclient.NewModifyRequest(dn, nil)
	r.Replace("userPassword", []string{next})
	return c.Modify(r) == nil
}

// export writes entries as LDIF.
func (d *dirsrv) export(base string, scope int, filter string) string {
	d.t.Helper()
	found, err := d.admin.Search(ldapclient.NewSearchRequest(base, scope, 0, 0, 0, false, filter, []string{"*", "+"}, nil))
	if err != nil {
		d.t.Fatal(err)
	}
	var b strings.Builder
	for _, e := range found.Entries {
		b.WriteString("dn: " + e.DN + "\n")
		for _, a := range e.Attributes {
			for _, v := range a.Values {
				if strings.ContainsAny(v, "\n\r") {
					continue
				}
				b.WriteString(a.Name + ": " + v + "\n")
			}
		}
		b.WriteString("\n")
	}
	return b.String()
}

// randomPolicy are attributes of a policy, some of them left out.
func randomPolicy(rnd *rand.Rand) map[string]string {
	all := map[string]string{}
	toggle := func(name string) {
		if n := rnd.IntN(4); n > 0 {
			all[name] = map[bool]string{true: "on", false: "off"}[n > 1]
		}
	}
	number := func(name string, low, high int) {
		if rnd.IntN(3) > 0 {
			all[name] = fmt.Sprint(low + rnd.IntN(high-low+1))
		}
	}
	toggle("passwordCheckSyntax")
	number("passwordMinLength", 2, 14)
	number("passwordMinCategories", 1, 4)
	number("passwordMinDigits", 0, 3)
	number("passwordMinUppers", 0, 3)
	toggle("passwordLockout")
	number("passwordMaxFailure", 2, 5)
	return all
}

// A real server with random policies of its own, of subtrees and of accounts: whom
// which governs, what length and classes it asks for, and when it locks, to the account.
func TestRealDirectoryServer(t *testing.T) {
	d := startDirsrv(t)
	rnd := rand.New(rand.NewPCG(seedOf(t), 7))
	d.set(harbourBase, map[string]string{"aci": `(targetattr="userPassword")(version 3.0; acl "self"; allow (write) userdn="ldap:///self";)`})
	units := []string{}
	for i := range 12 {
		parent := harbourBase
		if i > 2 {
			parent = units[rnd.IntN(len(units))]
		}
		dn := fmt.Sprintf("ou=u%d,%s", i, parent)
		d.add(dn, map[string][]string{"objectClass": {"organizationalUnit"}})
		units = append(units, dn)
	}
	var people []string
	for i := range 150 {
		dn := fmt.Sprintf("uid=p%03d,%s", i, units[rnd.IntN(len(units))])
		d.add(dn, map[string][]string{"objectClass": {"inetOrgPerson"}, "cn": {"x"}, "sn": {"x"}, "userPassword": {"Lantern-Room-0-West"}})
		people = append(people, dn)
	}
	place := func(kind, dn string) {
		_, parent, _ := strings.Cut(dn, ",")
		if kind == "subtree" {
			parent = dn
		}
		container := "cn=nsPwPolicyContainer," + parent
		if _, err := d.admin.Search(ldapclient.NewSearchRequest(container, 0, 0, 0, 0, false, "(objectClass=*)", nil, nil)); err != nil {
			d.add(container, map[string][]string{"objectClass": {"top", "nsContainer"}})
		}
		cn := "cn=nsPwPolicyEntry_" + kind + "," + dn
		policy := "cn=" + strings.NewReplacer("=", `\3D`, ",", `\2C`).Replace(cn) + "," + container
		attributes := map[string][]string{"objectClass": {"top", "ldapsubentry", "passwordpolicy"}, "cn": {cn}}
		for name, value := range randomPolicy(rnd) {
			attributes[name] = []string{value}
		}
		d.add(policy, attributes)
		if kind == "user" {
			d.set(dn, map[string]string{"pwdpolicysubentry": policy})
			return
		}
		template := "cn=" + strings.NewReplacer("=", `\3D`, ",", `\2C`).Replace("cn=nsPwTemplateEntry,"+dn) + "," + container
		d.add(template, map[string][]string{"objectClass": {"top", "extensibleObject", "costemplate", "ldapsubentry"}, "cosPriority": {"1"},
			"cn": {"cn=nsPwTemplateEntry," + dn}, "pwdpolicysubentry": {policy}})
		d.add("cn=nsPwPolicy_CoS,"+dn, map[string][]string{"objectClass": {"top", "ldapsubentry", "cosSuperDefinition", "cosPointerDefinition"},
			"costemplatedn": {template}, "cosAttribute": {"pwdpolicysubentry default operational-default"}})
	}
	for _, dn := range units {
		if rnd.IntN(3) == 0 {
			place("subtree", dn)
		}
	}
	for _, dn := range people {
		if rnd.IntN(6) == 0 {
			place("user", dn)
		}
	}
	compared := 0
	for round := range 3 {
		config := randomPolicy(rnd)
		config["nsslapd-pwpolicy-local"] = []string{"on", "off", "on"}[round]
		config["nsslapd-pwpolicy-inherit-global"] = []string{"off", "on", "on"}[round]
		config["passwordResetFailureCount"] = "600"
		d.set("cn=config", config)
		dir := begin(t)
		write(t, filepath.Join(dir, "config.ldif"), d.export("cn=config", 0, "(objectClass=*)"))
		write(t, filepath.Join(dir, "data.ldif"), d.export(harbourBase, 2, "(|(objectClass=*)(objectClass=ldapsubentry))"))
		must(t, dir, "gather", filepath.Join(dir, "config.ldif"), filepath.Join(dir, "data.ldif"), "--quiet")
		scopes := map[string]any{}
		for _, s := range document(t, dir, "scopes")["scopes"].([]any) {
			scopes[at(s, "policy").(string)] = at(s, "settings")
		}
		for i, dn := range people {
			if i%3 != round {
				continue // another third in each round
			}
			name := strings.TrimPrefix(strings.Split(dn, ",")[0], "uid=")
			trace := document(t, dir, "trace", name)
			if at(trace, "governing", "rule") == "unknown" {
				t.Errorf("%s: not decided, %v", dn, trace["notes"])
				continue
			}
			settings := at(trace, "settings")
			number := func(id string) int {
				if n, ok := at(settings, id, "value").(float64); ok {
					return int(n)
				}
				return 0
			}
			length, classes := number("min-length"), number("classes-required")
			compared++
			for _, try := range passwordsFor(length, classes, number("require-digit"), number("require-upper")) {
				if got := d.takes(dn, try.text); got != try.taken {
					t.Errorf("round %d, %s under %v: %q (%s) taken: %v", round, dn, at(trace, "governing", "policy"), try.text, try.why, got)
				}
			}
			d.set(dn, map[string]string{"userPassword": "Lantern-Room-0-West"})
			tries := number("lockout-threshold")
			never := at(settings, "lockout-threshold", "special") == "never"
			if never {
				tries = 7
			}
			for range tries - 1 {
				d.signsIn(dn, "wrong")
			}
			if !d.signsIn(dn, "Lantern-Room-0-West") {
				t.Errorf("round %d, %s: locked after %d failures", round, dn, tries-1)
			}
			for range tries {
				d.signsIn(dn, "wrong")
			}
			if open := d.signsIn(dn, "Lantern-Room-0-West"); open != never {
				t.Errorf("round %d, %s under %v: open %v after %d failures", round, dn, at(trace, "governing", "policy"), open, tries)
			}
		}
	}
	if compared != 150 {
		t.Errorf("%d accounts were compared", compared)
	}
}

type attempt struct {
	text, why string
	taken     bool
}

// passwordsFor are passwords at the edges of what settings ask for. Those of one class
// more or fewer are as long as needed.
func passwordsFor(length, classes, digits, uppers int) []attempt {
	if length == 0 && classes == 0 {
		return []attempt{{"z", "nothing is asked for", true}}
	}
	make := func(n int, kinds string) string {
		var b strings.Builder
		for i := range n {
			b.WriteByte(map[byte]string{'l': "kwzvq", 'u': "KWZVQ", 'd': "74926", 's': "!?+*%"}[kinds[i%len(kinds)]][i%5])
		}
		return b.String()
	}
	order := "udls"
	all := max(length, classes, digits+uppers)
	whole := make(4*max(digits, uppers, 1)+all, order)
	list := []attempt{{whole, "enough of everything", true}}
	if length > 1 {
		short := make(length-1, order)
		list = append(list, attempt{short, "a character short", false})
	}
	if classes > 1 {
		kinds := "udls"[:classes-1]
		if digits == 0 && uppers == 0 {
			kinds = "lsdu"[:classes-1]
		}
		list = append(list, attempt{make(24, kinds), "a class short", false})
	}
	if digits > 0 {
		text := slices.Repeat([]string{"Kwz!"}, 6)
		list = append(list, attempt{strings.Join(text, "") + make(digits-1, "d"), "a digit short", false})
	}
	return list
}

// seedOf is that which STERNLEDGER_SEED names, else a new one, which is told.
func seedOf(t *testing.T) uint64 {
	seed := rand.Uint64() % 100000
	if text := os.Getenv("STERNLEDGER_SEED"); text != "" {
		fmt.Sscan(text, &seed)
	}
	t.Logf("STERNLEDGER_SEED=%d", seed)
	return seed
}

// A real realm of MIT Kerberos with random policies: what its own tool prints of them
// tells which passwords it takes and when it locks, to the principal.
func TestRealRealm(t *testing.T) {
	lab, home := serversLab(t, "kdb5_util", "kadmin.local", "krb5kdc", "kinit"), t.TempDir()
	call := func(args ...string) string {
		t.Helper()
		out, err := exec.Command(lab, append([]string{"krb5", args[0], home}, args[1:]...)...).CombinedOutput()
		if err != nil && args[0] != "admin" {
			t.Fatalf("%v: %v\n%s", args, err, out)
		}
		return string(out)
	}
	call("build")
	rnd := rand.New(rand.NewPCG(seedOf(t), 11))
	text := "Authenticating as principal root/admin@PILOTS.EXAMPLE with password.\n"
	policies := []string{""}
	for i := range 8 {
		name := fmt.Sprintf("policy%d", i)
		call("admin", fmt.Sprintf("addpol -minlength %d -minclasses %d -history %d -maxfailure %d -lockoutduration %ds -failurecountinterval "+
			"%ds %s",
			1+rnd.IntN(14), 1+rnd.IntN(4), 1+rnd.IntN(3), rnd.IntN(5), rnd.IntN(2)*3600, rnd.IntN(2)*600, name))
		text += call("admin", "getpol "+name)
		policies = append(policies, name)
	}
	const first = "Lantern-Room-0-West"
	people := 150
	for i := range people {
		options := "-clearpolicy"
		if p := policies[rnd.IntN(len(policies))]; p != "" {
			options = "-policy " + p
		}
		if rnd.IntN(3) > 0 {
			options += " +requires_preauth"
		}
		name := fmt.Sprintf("p%03d", i)
		call("admin", fmt.Sprintf("addprinc %s -pw %s %s", options, first, name))
		text += call("admin", "getprinc "+name)
	}
	t.Cleanup(func() { // also where the start fails half-way
		_ = exec.Command(lab, "krb5", "stop", home).Run()
		waitEnded(t, filepath.Join(home, "pid"))
	})
	call("start")
	dir := begin(t)
	must(t, dir, "gather", write(t, filepath.Join(dir, "realm.txt"), text), "--quiet")
	signsIn := func(name, password string) bool { return strings.HasPrefix(call("try", name, password), "let in") }
	for i := range people {
		name := fmt.Sprintf("p%03d", i)
		trace := document(t, dir, "trace", name)
		if at(trace, "governing", "rule") == "unknown" {
			t.Errorf("%s: not decided, %v", name, trace["notes"])
			continue
		}
		settings := at(trace, "settings")
		number := func(id string) int {
			n, _ := at(settings, id, "value").(float64)
			return int(n)
		}
		current := first
		for k, try := range passwordsFor(number("min-length"), number("classes-required"), 0, 0) {
			text := try.text
			if try.taken && len(text) > 1 { // another one each time, for the history
				text += fmt.Sprint(k)
			}
			taken := strings.Contains(call("admin", fmt.Sprintf("cpw -pw %s %s", text, name)), "changed")
			if taken != try.taken {
				t.Errorf("%s under %v: %q (%s) taken: %v", name, at(trace, "governing", "policy"), text, try.why, taken)
			}
			if taken {
				current = text
			}
		}
		tries, never := number("lockout-threshold"), at(settings, "lockout-threshold", "special") == "never"
		if never {
			tries = 6
		}
		for range tries - 1 {
			signsIn(name, "wrong")
		}
		if !signsIn(name, current) {
			t.Errorf("%s: locked after %d failures", name, tries-1)
		}
		for range tries {
			signsIn(name, "wrong")
		}
		if open := signsIn(name, current); open != never {
			t.Errorf("%s under %v: open %v after %d failures", name, at(trace, "governing", "policy"), open, tries)
		}
	}
}
