package cli_test

import (
	"crypto/tls"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"unicode/utf16"

	ber "github.com/go-asn1-ber/asn1-ber"

	"sternledger/internal/labtest"
)

const (
	pilot         = "pilot1@marrowick.example"
	pilotPassword = "Lantern-Zq9!x"
)

// onSite is a real directory that is being served, with its policy store, and
// what two people need to sign in to it.
type onSite struct {
	*directory
	password, pilots string // files
	pin              string
	store            string // the folder of the policies
}

// newOnSite fills and serves a directory. adjust changes its configuration.
func newOnSite(t *testing.T, adjust func(conf string) string) *onSite {
	t.Helper()
	d := newDirectory(t)
	for _, tool := range []string{"kinit", "ldapsearch"} {
		if _, err := exec.LookPath(tool); err != nil {
			labtest.Lacking(t, "no %s; Debian's packages krb5-user and ldap-utils have it", tool)
		}
	}
	s := &onSite{directory: d, password: filepath.Join(d.dir, "password"),
		pilots: write(t, filepath.Join(t.TempDir(), "pilot"), pilotPassword+"\n"),
		store:  filepath.Join(d.dir, "dc/state/sysvol/marrowick.example/Policies")}
	conf := filepath.Join(d.dir, "dc/etc/smb.conf")
	if out, err := exec.Command("samba-tool", "user", "create", "pilot1", pilotPassword, "-s", conf).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	s.policies()
	if adjust != nil {
		text, err := os.ReadFile(conf)
		if err != nil {
			t.Fatal(err)
		}
		write(t, conf, adjust(string(text)))
	}
	s.serve()
	s.certificate()
	return s
}

// certificate finds what the server proves itself with.
func (s *onSite) certificate() {
	s.t.Helper()
	dir := begin(s.t)
	_, errs, _ := run(s.t, dir, "gather", "ldaps://127.0.0.1", "--bind", administrator, "--password-file", s.password)
	found := fingerprint.FindStringSubmatch(errs)
	if found == nil {
		s.t.Fatalf("no certificate: %s", errs)
	}
	s.pin = found[1]
}

// Policies of the test's directory, and what lies in the store of each.
var storePolicies = []struct {
	guid, name, link string // where it is linked besides
	files            map[string]string
}{
	{"{31B2F340-016D-11D2-945F-00C04FB984F9}", "", "", map[string]string{
		"MACHINE/Microsoft/Windows NT/SecEdit/GptTmpl.inf": inf("MinimumPasswordLength = 9", "LockoutBadCount = 7")}},
	{"{5A0E1C52-0B77-4A51-9D5C-1D8A4B5C0001}", "Berth rules", "DC=marrowick,DC=example", map[string]string{
		"GPT.INI": "[General]\r\nVersion=3\r\n",
		"Machine/Microsoft/Windows NT/SecEdit/GptTmpl.inf": inUTF16(inf("MinimumPasswordLength = 12", "PasswordComplexity = 0",
			"ClearTextPassword = 1")),
		"Machine/Preferences/Registry/Registry.xml": `<?xml version="1.0"?><RegistrySettings><Registry name="NoLMHash"><Properties action="U" ` +
			`hive="HKEY_LOCAL_MACHINE" key="SYSTEM\CurrentControlSet\Control\Lsa" name="NoLMHash" type="REG_DWORD" value="00000000"/>` +
			`</Registry></RegistrySettings>`}},
	{"{5A0E1C52-0B77-4A51-9D5C-1D8A4B5C0002}", "Quay machines", "OU=Quays,DC=marrowick,DC=example", map[string]string{
		"GPT.INI": "[General]\r\nVersion=7\r\n",
		"Machine/Microsoft/Windows NT/SecEdit/GptTmpl.inf": inf("LockoutBadCount = 0"),
		"Machine/Registry.pol":                             pol(`Software\Microsoft\Windows\CurrentVersion\Policies\LAPS`, "PasswordLength", 10),
		"User/Registry.pol":                                pol(`Software\Marrowick`, "Horn", 1), "Machine/Scripts/tide.cmd": "echo tide"}},
	{"{5A0E1C52-0B77-4A51-9D5C-1D8A4B5C0003}", "Control room", "OU=Quays,DC=marrowick,DC=example", map[string]string{
		"Machine/Microsoft/Windows NT/SecEdit/GptTmpl.inf": inf("MinimumPasswordLength = 20")}},
}

// hidden is the policy that only the administrator may read.
const hidden = 3

func inf(lines ...string) string {
	return "[Unicode]\r\nUnicode=yes\r\n[System Access]\r\n" + strings.Join(lines, "\r\n") +
		"\r\n[Version]\r\nsignature=\"$CHICAGO$\"\r\nRevision=1\r\n"
}

func inUTF16(text string) string { return "\xff\xfe" + wideText(text) }

func wideText(text string) string {
	var out []byte
	for _, c := range utf16.Encode([]rune(text)) {
		out = binary.LittleEndian.AppendUint16(out, c)
	}
	return string(out)
}

func pol(key, name string, number uint32) string {
	le := func(n uint32) string { return string(binary.LittleEndian.AppendUint32(nil, n)) }
	return "PReg\x01\x00\x00\x00" + wideText("["+key+"\x00;"+name+"\x00;") + le(4) + wideText(";") + le(4) + wideText(";") + le(number) +
		wideText("]")
}

// policies puts the policies into the directory and the store.
func (s *onSite) policies() {
	t := s.t
	text, _ := population(5)
	records, change, _ := strings.Cut(text, "\x00")
	var b, links strings.Builder
	linked := map[string]string{"DC=marrowick,DC=example": "[LDAP://CN=" + storePolicies[0].guid +
		",CN=Policies,CN=System,DC=marrowick,DC=example;0]"}
	for _, p := range storePolicies {
		dn := "CN=" + p.guid + ",CN=Policies,CN=System,DC=marrowick,DC=example"
		if p.name != "" {
			fmt.Fprintf(&b, "dn: %s\nobjectClass: groupPolicyContainer\ndisplayName: %s\nflags: 0\nversionNumber: 3\n"+
				"gPCFileSysPath: \\\\marrowick.example\\sysvol\\marrowick.example\\Policies\\%s\n"+
				"gPCMachineExtensionNames: [{827D319E-6EAC-11D2-A4EA-00C04F79F83A}{803E14A0-B4FB-11D0-A0D0-00A0C90F574B}]\n\n", dn, p.name, p.guid)
			linked[p.link] += "[LDAP://" + dn + ";0]"
		}
		for name, data := range p.files {
			write(t, filepath.Join(s.store, p.guid, filepath.FromSlash(name)), data)
		}
	}
	for place, link := range linked {
		fmt.Fprintf(&links, "dn: %s\nchangetype: modify\nreplace: gPLink\ngPLink: %s\n\n", place, link)
	}
	s.lab("add", s.dir, write(t, filepath.Join(t.TempDir(), "add.ldif"), records+b.String()))
	s.lab("modify", s.dir, write(t, filepath.Join(t.TempDir(), "members.ldif"), change+links.String()))
	_ = filepath.WalkDir(filepath.Dir(filepath.Dir(s.store)), func(path string, d os.DirEntry, err error) error {
		mode := os.FileMode(0o644)
		if d.IsDir() {
			mode = 0o755
		}
		return os.Chmod(path, mode)
	})
	// The server opens files as the system's user who stands for the account.
	for at := filepath.Dir(filepath.Dir(s.store)); at != os.TempDir() && at != "/"; at = filepath.Dir(at) {
		if err := os.Chmod(at, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chmod(filepath.Join(s.store, storePolicies[hidden].guid), 0o700); err != nil {
		t.Fatal(err)
	}
}

// kerberosHome is a folder with a configuration, a cache and a keytab for
// somebody.
func (s *onSite) kerberosHome(who, passwordFile string) (config, cache, keytab string) {
	t := s.t
	t.Helper()
	dir := t.TempDir()
	config = write(t, filepath.Join(dir, "krb5.conf"), "[libdefaults]\n default_realm = MARROWICK.EXAMPLE\n dns_lookup_kdc = false\n"+
		" forwardable = true\n[realms]\n MARROWICK.EXAMPLE = {\n  kdc = 127.0.0.1:88\n }\n")
	cache, keytab = filepath.Join(dir, "tickets"), filepath.Join(dir, "keys")
	name, _, _ := strings.Cut(who, "@")
	secret, err := os.ReadFile(passwordFile)
	if err != nil {
		t.Fatal(err)
	}
	kinit := exec.Command("kinit", name+"@MARROWICK.EXAMPLE")
	kinit.Env = append(os.Environ(), "KRB5_CONFIG="+config, "KRB5CCNAME=FILE:"+cache)
	kinit.Stdin = strings.NewReader(string(secret) + "\n")
	if out, err := kinit.CombinedOutput(); err != nil {
		t.Fatalf("kinit: %v %s", err, out)
	}
	if out, err := exec.Command("samba-tool", "domain", "exportkeytab", keytab, "--principal="+name+"@MARROWICK.EXAMPLE", "-s",
		filepath.Join(s.dir, "dc/etc/smb.conf")).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	return config, cache, keytab
}

// handedOver is what the same person could export and copy by hand, as
// docs/sources.md tells.
func (s *onSite) handedOver(who, passwordFile string, without int) string {
	t := s.t
	t.Helper()
	dir := t.TempDir()
	secret, _ := os.ReadFile(passwordFile)
	search := exec.Command("ldapsearch", "-H", "ldaps://127.0.0.1", "-D", who, "-w", strings.TrimSpace(string(secret)),
		"-E", "pr=500/noprompt",
		"-E", "!1.2.840.113556.1.4.801=::MAMCAQQ=", "-o", "ldif-wrap=no", "-b", "DC=marrowick,DC=example", "(objectClass=*)", "*",
		"msDS-ResultantPSO", "nTSecurityDescriptor")
	search.Env = append(os.Environ(), "LDAPTLS_REQCERT=never")
	var errs strings.Builder
	search.Stderr = &errs
	out, err := search.Output()
	if err != nil {
		t.Fatalf("ldapsearch: %v %s", err, errs.String())
	}
	write(t, filepath.Join(dir, "marrowick.ldif"), string(out))
	to := filepath.Join(dir, "sysvol", "marrowick.example")
	if err := os.MkdirAll(to, 0o755); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("cp", "-a", s.store, to).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	if without >= 0 {
		os.RemoveAll(filepath.Join(to, "Policies", storePolicies[without].guid))
	}
	return dir
}

// weighedAlike is all that a record says but for names of files, times and
// lines.
func weighedAlike(t *testing.T, dir string) string {
	t.Helper()
	file := filepath.Join(dir, "engagement.yaml")
	config, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	write(t, file, regexp.MustCompile(`(?m)^baselines:.*$`).ReplaceAllString(string(config),
		"baselines: [microsoft-windows, pci-dss-4, cis-windows-options]"))
	var strip func(x any)
	strip = func(x any) {
		switch x := x.(type) {
		case map[string]any:
			for _, k := range []string{"at", "made_by", "file", "line", "weighing", "recorded", "reasons", "files", "examples"} {
				delete(x, k)
			}
			if _, cite := x["evidence"].(string); cite { // FILE:LINE
				delete(x, "evidence")
			}
			for _, v := range x {
				strip(v)
			}
		case []any:
			for _, v := range x {
				strip(v)
			}
		}
	}
	var b strings.Builder
	for _, args := range [][]string{{"weigh"}, {"scopes"}} {
		doc := document(t, dir, args...)
		strip(doc)
		text, err := json.MarshalIndent(doc, "", " ")
		if err != nil {
			t.Fatal(err)
		}
		b.Write(text)
	}
	lines := strings.Split(must(t, dir, "accounts", "--format", "csv"), "\n")
	slices.Sort(lines) // they come in the order of the evidence
	return b.String() + strings.Join(lines, "\n")
}

// differing are the first lines in which two texts differ.
func differing(x, y string) string {
	a, b := strings.Split(x, "\n"), strings.Split(y, "\n")
	for i := range min(len(a), len(b)) {
		if a[i] != b[i] {
			return fmt.Sprintf("line %d:\n%s\nand\n%s", i, strings.Join(a[max(0, i-3):min(len(a), i+3)], "\n"),
				strings.Join(b[max(0, i-3):min(len(b), i+3)], "\n"))
		}
	}
	return fmt.Sprintf("%d and %d lines", len(a), len(b))
}

// One live collection gives the record that the export and the copied store
// give, however one signs in, as administrator and as anybody.
func TestOnSite(t *testing.T) {
	labtest.Wanted(t)
	s := newOnSite(t, nil)
	answers := map[string]string{}
	for line := range strings.Lines(s.lab("resultant", s.dir)) {
		name, dn, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		answers[name] = dn
	}
	for _, who := range []struct {
		name, password string
		without        int
	}{{administrator, s.password, -1}, {pilot, s.pilots, hidden}} {
		offline := begin(t)
		must(t, offline, "gather", s.handedOver(who.name, who.password, who.without))
		want := weighedAlike(t, offline)
		if !strings.Contains(want, "Preferences") {
			t.Error("nothing of what the policies' preferences set")
		}
		for _, row := range accountRows(t, offline) {
			if row[6] != answers[row[1]] && row[7] != "unknown" {
				t.Errorf("%s of %s: we say %s (%s), the directory says %s", row[1], who.name, row[6], row[7], answers[row[1]])
			}
		}
		config, cache, keytab := s.kerberosHome(who.name, who.password)
		account, _, _ := strings.Cut(who.name, "@")
		inRealm := account + "@MARROWICK.EXAMPLE"
		for name, c := range map[string]struct {
			env             []string
			args            []string
			way, protection string
		}{
			"password over TLS": {nil, []string{"ldaps://127.0.0.1", "--certificate", s.pin, "--bind", who.name, "--password-file", who.password},
				"password", "TLS"},
			"password over StartTLS": {nil, []string{"ldap://127.0.0.1", "--certificate", s.pin, "--bind", who.name, "--password-file",
				who.password}, "password", "TLS"},
			"password by Kerberos": {[]string{"KRB5_CONFIG=" + config}, []string{"ldap://127.0.0.1", "--kerberos", "--bind", inRealm,
				"--password-file", who.password}, "Kerberos, password", "sealed"},
			"password by Kerberos, without a configuration": {[]string{"KRB5_CONFIG="}, []string{"ldap://127.0.0.1", "--kerberos", "--bind",
				inRealm, "--password-file", who.password}, "Kerberos, password", "sealed"},
			"ticket": {[]string{"KRB5_CONFIG=" + config, "KRB5CCNAME=FILE:" + cache}, []string{"ldap://127.0.0.1", "--kerberos"},
				"Kerberos, ticket", "sealed"},
			"keytab": {[]string{"KRB5_CONFIG=" + config}, []string{"ldap://127.0.0.1", "--bind", inRealm, "--keytab", keytab},
				"Kerberos, keytab", "sealed"},
		} {
			t.Run(account+", "+name, func(t *testing.T) {
				for _, e := range c.env {
					k, v, _ := strings.Cut(e, "=")
					t.Setenv(k, v)
				}
				dir := begin(t)
				doc := document(t, dir, append([]string{"gather"}, c.args...)...)
				live := at(doc, "live", 0)
				if at(live, "way") != c.way || at(live, "protection") != c.protection || at(live, "server", "host") != "quay1.marrowick.example" ||
					at(live, "server", "pdc") != "quay1.marrowick.example" || at(live, "server", "domain") != "marrowick.example" {
					t.Errorf("%v", live)
				}
				refused := fmt.Sprint(at(live, "store", "refused"))
				denied := storePolicies[hidden].guid + "/Machine/Microsoft/Windows NT/SecEdit/GptTmpl.inf: not allowed"
				if (who.without >= 0) != strings.Contains(refused, denied) {
					t.Errorf("refused: %s", refused)
				}
				if unlike := fmt.Sprint(at(live, "store", "unlike")); unlike != "["+storePolicies[2].guid+"]" {
					t.Errorf("of another version: %s", unlike)
				}
				if got := weighedAlike(t, dir); got != want {
					t.Errorf("live and offline differ: %s", differing(got, want))
				}
				sound(t, dir)
				text, _ := os.ReadFile(filepath.Join(dir, "ledger.db"))
				secret, _ := os.ReadFile(who.password)
				for _, no := range []string{strings.TrimSpace(string(secret)), "krbtgt/"} {
					if strings.Contains(string(text), no) {
						t.Errorf("%q is in the ledger", no)
					}
				}
			})
		}
	}
}

// What goes wrong on site is named with what to do, and nothing is left behind.
func TestOnSiteRefusals(t *testing.T) {
	labtest.Wanted(t)
	s := newOnSite(t, nil)
	config, cache, keytab := s.kerberosHome(pilot, s.pilots)
	other := write(t, filepath.Join(t.TempDir(), "other.conf"), "[libdefaults]\n default_realm = HARBOUR.EXAMPLE\n[realms]\n"+
		" HARBOUR.EXAMPLE = {\n  kdc = 127.0.0.1:88\n }\n")
	wrong := write(t, filepath.Join(t.TempDir(), "wrong"), "Not-The-Password-1\n")
	expired := filepath.Join(t.TempDir(), "expired")
	kinit := exec.Command("kinit", "-l", "1s", "-c", "FILE:"+expired, "pilot1@MARROWICK.EXAMPLE")
	kinit.Env, kinit.Stdin = append(os.Environ(), "KRB5_CONFIG="+config), strings.NewReader(pilotPassword+"\n")
	if out, err := kinit.CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	for name, c := range map[string]struct {
		env  []string
		args []string
		say  string
	}{
		"wrong password": {[]string{"KRB5_CONFIG=" + config}, []string{"ldap://127.0.0.1", "--kerberos", "--bind", "pilot1@MARROWICK.EXAMPLE",
			"--password-file", wrong}, "wrong password or key"},
		"nobody of that name": {[]string{"KRB5_CONFIG=" + config}, []string{"ldap://127.0.0.1", "--kerberos", "--bind",
			"nobody@MARROWICK.EXAMPLE", "--password-file", wrong}, "knows no such name"},
		"wrong realm": {[]string{"KRB5_CONFIG=" + other}, []string{"ldap://127.0.0.1", "--kerberos", "--bind", "pilot1@HARBOUR.EXAMPLE",
			"--password-file", s.pilots}, "HARBOUR.EXAMPLE"},
		"an expired ticket": {[]string{"KRB5_CONFIG=" + config, "KRB5CCNAME=" + expired}, []string{"ldap://127.0.0.1", "--kerberos"},
			"kinit"},
		"no ticket": {[]string{"KRB5_CONFIG=" + config, "KRB5CCNAME=" + expired + "-none"}, []string{"ldap://127.0.0.1", "--kerberos"},
			"kinit"},
		"a keytab of somebody else": {[]string{"KRB5_CONFIG=" + config}, []string{"ldap://127.0.0.1", "--keytab", keytab, "--bind",
			"administrator@MARROWICK.EXAMPLE"}, "the keytab has no key"},
		"a keytab without a name": {[]string{"KRB5_CONFIG=" + config}, []string{"ldap://127.0.0.1", "--keytab", keytab}, "--bind NAME@REALM"},
		"Kerberos over TLS": {[]string{"KRB5_CONFIG=" + config, "KRB5CCNAME=" + cache}, []string{"ldaps://127.0.0.1", "--kerberos",
			"--certificate", s.pin}, "use ldap:// with --kerberos"},
		"another server's name": {[]string{"KRB5_CONFIG=" + config, "KRB5CCNAME=" + cache}, []string{"ldap://quay9.marrowick.example",
			"--kerberos", "--server", "quay9.marrowick.example=127.0.0.1"}, "knows no such server"},
		"dies in the middle": {[]string{"KRB5_CONFIG=" + config, "KRB5CCNAME=" + cache}, []string{
			strings.Replace(dyingProxy(t, "127.0.0.1:389", 60_000), "ldaps", "ldap", 1), "--kerberos"}, "the connection ended"},
		"an address that is none": {nil, []string{"ldap://127.0.0.1", "--server", "x.example=a b"}, "HOST:PORT"},
	} {
		t.Run(name, func(t *testing.T) {
			for _, e := range c.env {
				k, v, _ := strings.Cut(e, "=")
				t.Setenv(k, v)
			}
			dir := begin(t)
			before := folder(t, dir)
			out, errs, status := run(t, dir, append([]string{"gather"}, c.args...)...)
			if status == 0 || out != "" || !strings.Contains(errs, c.say) || strings.Contains(errs, "Password-1") ||
				strings.Contains(errs, pilotPassword) {
				t.Errorf("%d %q", status, errs)
			}
			if after := folder(t, dir); after != before {
				t.Error("something was left behind")
			}
		})
	}
	t.Run("the store dies in the middle", func(t *testing.T) {
		t.Setenv("KRB5_CONFIG", config)
		t.Setenv("KRB5CCNAME", cache)
		for _, after := range []int64{100, 1000, 2500, 4000} {
			proxy := strings.TrimPrefix(dyingProxy(t, "127.0.0.1:445", after), "ldaps://")
			doc := document(t, begin(t), "gather", "ldap://127.0.0.1", "--kerberos", "--policy-store", "marrowick.example="+proxy)
			if refused, _ := at(doc, "live", 0, "store", "refused").([]any); len(refused) == 0 {
				t.Errorf("after %d bytes: nothing is told: %v", after, at(doc, "live", 0, "store"))
			}
		}
		doc := document(t, begin(t), "gather", "ldap://127.0.0.1", "--kerberos", "--policy-store", "marrowick.example=127.0.0.1:9")
		if refused := fmt.Sprint(at(doc, "live", 0, "store", "refused")); !strings.Contains(refused, "port 445 is open") {
			t.Errorf("nobody there: %s", refused)
		}
		if doc := document(t, begin(t), "gather", "ldap://127.0.0.1", "--kerberos", "--directory-only"); at(doc, "live", 0, "store") != nil {
			t.Errorf("--directory-only: %v", at(doc, "live", 0, "store"))
		}
	})
}

// Servers that demand what a domain should demand are read; a clock that is
// wrong is told.
func TestOnSiteDemands(t *testing.T) {
	labtest.Wanted(t)
	const fakeClock = "/usr/lib/x86_64-linux-gnu/faketime/libfaketime.so.1"
	if _, err := os.Stat(fakeClock); err != nil {
		labtest.Lacking(t, "no %s; Debian's package libfaketime has it", fakeClock)
	}
	strict := newOnSite(t, func(conf string) string {
		return strings.Replace(conf, "[global]", "[global]\n\tldap server require strong auth = yes\n\tserver signing = mandatory\n"+
			"\tserver smb encrypt = required\n\tserver min protocol = SMB3_11\n\tntlm auth = disabled\n", 1)
	})
	config, cache, _ := strict.kerberosHome(pilot, strict.pilots)
	t.Setenv("KRB5_CONFIG", config)
	t.Setenv("KRB5CCNAME", cache)
	doc := document(t, begin(t), "gather", "ldap://127.0.0.1", "--kerberos")
	if files, _ := doc["files"].([]any); len(files) < 4 || at(doc, "live", 0, "protection") != "sealed" {
		t.Errorf("%v", doc["live"])
	}
	doc = document(t, begin(t), "gather", "ldaps://127.0.0.1", "--certificate", strict.pin, "--bind", pilot, "--password-file", strict.pilots)
	if refused := fmt.Sprint(at(doc, "live", 0, "store", "refused")); !strings.Contains(refused, "sign in with --kerberos") {
		t.Errorf("NTLM is off, and the store: %s", refused)
	}
	for _, off := range []string{"-10m", "+10m"} {
		strict.stop()
		strict.serve("LD_PRELOAD="+fakeClock, "FAKETIME="+off)
		for name, args := range map[string][]string{"ticket": {"--kerberos"},
			"password": {"--kerberos", "--bind", "pilot1@MARROWICK.EXAMPLE", "--password-file", strict.pilots}} {
			if _, errs, status := run(t, begin(t), append([]string{"gather", "ldap://127.0.0.1"}, args...)...); status == 0 ||
				!strings.Contains(errs, "clock") {
				t.Errorf("%s, %s: %d %s", off, name, status, errs)
			}
		}
	}
}

// Nothing of a collection writes, and nothing but what is documented is asked
// for: the server's own record of every operation on the share, and each request
// to the directory.
func TestOnSiteOnlyReads(t *testing.T) {
	labtest.Wanted(t)
	s := newOnSite(t, func(conf string) string {
		conf = strings.Replace(conf, "[global]", "[global]\n\tlog level = 1\n\tldap server require strong auth = no\n", 1)
		return strings.Replace(conf, "[sysvol]", "[sysvol]\n\tvfs objects = dfs_samba4 acl_xattr full_audit\n\tfull_audit:success = all\n"+
			"\tfull_audit:failure = all\n\tfull_audit:syslog = no\n\tfull_audit:prefix = AUDIT\n", 1)
	})
	before := treeSums(t, s.store)
	// A domain of the forest whose server does not answer.
	yard := write(t, filepath.Join(t.TempDir(), "yard.ldif"), "dn: CN=YARD,CN=Partitions,CN=Configuration,DC=marrowick,DC=example\n"+
		"objectClass: crossRef\nnCName: DC=yard,DC=marrowick,DC=example\ndnsRoot: yard.marrowick.example\nnETBIOSName: YARD\nsystemFlags: 3\n")
	if out, err := exec.Command("ldbadd", "--relax", "-H", filepath.Join(s.dir, "dc/private/sam.ldb"), yard).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	address, certificate, asked := overheard(t)
	doc := document(t, begin(t), "gather", address, "--ca", certificate, "--forest", "--bind", administrator, "--password-file", s.password,
		"--server", "yard.marrowick.example=127.0.0.1:9")
	live := at(doc, "live", 0)
	if names := fmt.Sprint(at(live, "domains")); at(live, "store", "refused") != nil || !strings.Contains(names, "name:marrowick.example") ||
		!strings.Contains(names, "name:yard.marrowick.example") ||
		!strings.Contains(fmt.Sprint(at(live, "refused")), "the domain yard.marrowick.example: ") {
		t.Fatalf("%v", live)
	}
	if after := treeSums(t, s.store); after != before {
		t.Error("the store was changed")
	}
	listed := must(t, ".", "gather", "--ask", "live")
	requests := asked()
	for _, r := range requests {
		switch r.operation {
		case "search":
			for _, a := range r.attributes {
				if name, _, _ := strings.Cut(a, ";"); !regexp.MustCompile(`\b` + regexp.QuoteMeta(name) + `\b`).MatchString(listed) {
					t.Errorf("%s is asked for, and gather --ask live does not list it", a)
				}
			}
		case "bind", "unbind", "extended " + whoAmI:
		default:
			t.Errorf("the directory is asked to do this: %s", r.operation)
		}
	}
	if len(requests) < 8 {
		t.Errorf("only %d requests were overheard", len(requests))
	}
	text, err := os.ReadFile(filepath.Join(s.dir, "log"))
	if err != nil {
		t.Fatal(err)
	}
	opened := 0
	allowed := regexp.MustCompile(`(?i)/sysvol/marrowick\.example/Policies(/\{[0-9a-f-]{36}\}/(GPT\.INI|Machine/Registry\.pol|` +
		`Machine/Microsoft/Windows NT/SecEdit/GptTmpl\.inf|Machine/Preferences/Registry/Registry\.xml))?$`)
	for _, m := range regexp.MustCompile(`AUDIT\|([a-z_]+)\|(.*)`).FindAllStringSubmatch(string(text), -1) {
		operation, rest := m[1], m[2]
		if slices.Contains([]string{"pwrite", "pwrite_send", "unlinkat", "mkdirat", "renameat", "ftruncate", "fallocate", "fset_nt_acl",
			"set_nt_acl", "fsetxattr", "fremovexattr", "fchmod", "fchown", "fntimes", "linkat", "symlinkat", "mknodat"}, operation) {
			t.Errorf("it writes: %s|%s", operation, rest)
		}
		if operation == "create_file" {
			opened++
			field := strings.Split(rest, "|") // what came of it, access, file or folder, how, name
			name := strings.ReplaceAll(field[len(field)-1], `\`, "/")
			if len(field) != 5 || field[1] != "0x80000000" || field[3] != "open" || !allowed.MatchString(name) {
				t.Errorf("opened: %s", rest)
			}
		}
	}
	if opened < 8 {
		t.Errorf("the server noted only %d opened files", opened)
	}
}

// whoAmI is the operation of RFC 4532.
const whoAmI = "1.3.6.1.4.1.4203.1.11.3"

// request is one that a directory was sent.
type request struct {
	operation  string
	attributes []string
}

// overheard passes requests on to the lab's directory and notes them. The
// certificate's file is to be trusted.
func overheard(t *testing.T) (address, certificate string, asked func() []request) {
	t.Helper()
	dir := t.TempDir()
	certificate = selfSigned(t, dir)
	pair, err := tls.LoadX509KeyPair(certificate, filepath.Join(dir, "key.pem"))
	if err != nil {
		t.Fatal(err)
	}
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{pair}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	var mutex sync.Mutex
	var all []request
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", "127.0.0.1:389")
			if err != nil {
				in.Close()
				return
			}
			go func() { io.Copy(in, out); in.Close() }()
			go func() {
				defer out.Close()
				from := io.TeeReader(in, out)
				for {
					packet, err := ber.ReadPacket(from)
					if err != nil || len(packet.Children) < 2 {
						return
					}
					mutex.Lock()
					all = append(all, requestOf(packet.Children[1]))
					mutex.Unlock()
				}
			}()
		}
	}()
	return "ldaps://" + l.Addr().String(), certificate, func() []request {
		mutex.Lock()
		defer mutex.Unlock()
		return slices.Clone(all)
	}
}

// requestOf reads an operation (RFC 4511, section 4).
func requestOf(op *ber.Packet) request {
	names := map[ber.Tag]string{0: "bind", 2: "unbind", 3: "search", 6: "modify", 8: "add", 10: "delete", 12: "rename", 14: "compare",
		16: "abandon", 23: "extended"}
	r := request{operation: names[op.Tag]}
	switch op.Tag {
	case 3:
		for _, a := range op.Children[7].Children {
			r.attributes = append(r.attributes, fmt.Sprint(a.Value))
		}
	case 23:
		r.operation += " " + op.Children[0].Data.String()
	}
	return r
}

// treeSums are the names, sizes and times of a folder's files.
func treeSums(t *testing.T, dir string) string {
	t.Helper()
	out, err := exec.Command("bash", "-c", "cd '"+dir+"' && find . -printf '%p %s %T@ %m\\n' | sort").CombinedOutput()
	if err != nil {
		t.Fatalf("%v %s", err, out)
	}
	return string(out)
}
