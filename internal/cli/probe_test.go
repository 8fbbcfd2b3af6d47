package cli_test

import (
	"bytes"
	"crypto/tls"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/go-ldap/ldap/v3"

	"sternledger/internal/labtest"
)

// probed asks the program about passwords for an account, and returns for each
// the verdict and the rules that refuse.
func probed(t *testing.T, audit, account string, passwords []string) (verdicts []string, by [][]string) {
	t.Helper()
	doc := document(t, audit, "probe", "--account", account, "--from", write(t, filepath.Join(t.TempDir(), "passwords"),
		strings.Join(passwords, "\n")+"\n"))
	for _, r := range doc["results"].([]any) {
		verdicts = append(verdicts, at(r, "verdict").(string))
		var rules []string
		for _, o := range at(r, "rules").([]any) {
			if at(o, "verdict") == "refused" {
				rules = append(rules, at(o, "rule").(string))
			}
		}
		by = append(by, rules)
	}
	if len(verdicts) != len(passwords) {
		t.Fatalf("%d answers on %d passwords", len(verdicts), len(passwords))
	}
	return verdicts, by
}

// pairs counts what was compared.
type pairs struct {
	t                          *testing.T
	all, accepted, open, wrong int
}

// compare holds one answer against what the real thing did and, where it says
// why, against its reason.
func (p *pairs) compare(who, password, verdict string, by []string, taken bool, reason string) {
	p.all++
	switch {
	case verdict == "cannot tell":
		p.open++
	case (verdict == "accepted") != taken:
		p.wrong++
		p.t.Errorf("%s %q: probe says %s %v, the server took it: %v (%s)", who, password, verdict, by, taken, reason)
	case taken:
		p.accepted++
	case reason != "" && !slices.Contains(by, reason):
		p.wrong++
		p.t.Errorf("%s %q: probe says %v, the server refused it for its %s", who, password, by, reason)
	}
}

func (p *pairs) told(least int) {
	p.t.Logf("%d pairs: %d accepted, %d refused, %d cannot tell; %d disagree", p.all, p.accepted, p.all-p.accepted-p.open, p.open, p.wrong)
	if p.accepted < least || p.all-p.accepted-p.open < least {
		p.t.Errorf("too few of one kind to prove anything: %d accepted of %d", p.accepted, p.all)
	}
}

// guess makes a random password of about that length from random classes.
func guess(rnd *rand.Rand, about int, extra ...string) string {
	sets := []string{"bdfhjkmqrtvwxz", "BDFHJKMQRTVWXZ", "2739584061", "!?%+=:;#_", " ", "éßøñ", "ÄÖÉ", "港水", "⚓🚢", "e\u0301"}
	var chosen []string
	for i, s := range sets {
		if i < 4 && rnd.IntN(5) < 3 || i >= 4 && rnd.IntN(9) == 0 {
			chosen = append(chosen, s)
		}
	}
	if len(chosen) == 0 {
		chosen = sets[:1]
	}
	var text []rune
	for n := max(about-3+rnd.IntN(7), 0); len(text) < n; {
		pool := []rune(chosen[rnd.IntN(len(chosen))])
		text = append(text, pool[rnd.IntN(len(pool))])
	}
	if len(extra) > 0 && rnd.IntN(3) == 0 {
		at := rnd.IntN(len(text) + 1)
		return string(text[:at]) + extra[rnd.IntN(len(extra))] + string(text[at:])
	}
	return string(text)
}

// A real domain takes and refuses passwords as is said, changed by the user.
func TestRealProbeDomain(t *testing.T) {
	labtest.Wanted(t)
	d := newDirectory(t)
	rnd := rand.New(rand.NewPCG(21, 1))
	const people, each = 20, 20
	base := "DC=marrowick,DC=example"
	var add strings.Builder
	lengths := map[string]int{}
	for i := range people {
		name := fmt.Sprintf("mferrier%d", i)
		lengths[name] = rnd.IntN(15)
		fmt.Fprintf(&add, "dn: CN=%s,CN=Users,%s\nobjectClass: user\nsAMAccountName: %s\ndisplayName: Maud Ferrier\nuserAccountControl: %d\n\n",
			name, base, name, 512+32*(i%5/4))
		fmt.Fprintf(&add, "dn: CN=p%d,CN=Password Settings Container,CN=System,%s\nobjectClass: "+
			"msDS-PasswordSettings\nmsDS-PasswordSettingsPrecedence: %d\nmsDS-MinimumPasswordLength: %d\nmsDS-PasswordComplexityEnabled: %s\n"+
			"msDS-PasswordHistoryLength: 0\nmsDS-MaximumPasswordAge: -9223372036854775808\nmsDS-MinimumPasswordAge: "+
			"0\nmsDS-LockoutThreshold: 0\nmsDS-LockoutDuration: 0\nmsDS-LockoutObservationWindow: "+
			"0\nmsDS-PasswordReversibleEncryptionEnabled: FALSE\nmsDS-PSOAppliesTo: CN=%s,CN=Users,%s\n\n",
			i, base, i+1, lengths[name], map[bool]string{true: "TRUE", false: "FALSE"}[i%3 > 0], name, base)
	}
	d.lab("add", d.dir, write(t, filepath.Join(t.TempDir(), "add.ldif"), add.String()))
	for name := range lengths {
		if out, err := exec.Command("samba-tool", "user", "setpassword", name, "--newpassword=Quay-Light-7x-and-more", "-s",
			filepath.Join(d.dir, "dc/etc/smb.conf")).CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
	audit := begin(t)
	must(t, audit, "gather", d.export())
	d.serve()
	p := &pairs{t: t}
	quoted := func(text string) string {
		var b bytes.Buffer
		for _, u := range utf16.Encode([]rune(`"` + text + `"`)) {
			b.Write([]byte{byte(u), byte(u >> 8)})
		}
		return b.String()
	}
	for i := range people {
		name := fmt.Sprintf("mferrier%d", i)
		var passwords []string
		for range each {
			passwords = append(passwords, guess(rnd, lengths[name], name, "Ferrier", "maud"))
		}
		if i == 0 {
			for _, length := range []int{127, 128, 256, 257, 300} {
				passwords = append(passwords, strings.Repeat("aB1!", 75)[:length])
			}
		}
		verdicts, by := probed(t, audit, name, passwords)
		current := "Quay-Light-7x-and-more"
		for k, text := range passwords {
			conn, err := ldap.DialURL("ldaps://127.0.0.1", ldap.DialWithTLSConfig(&tls.Config{InsecureSkipVerify: true}))
			if err != nil {
				t.Fatal(err)
			}
			if err := conn.Bind(name+"@marrowick.example", current); err != nil {
				t.Fatalf("%s with %q: %v", name, current, err)
			}
			m := ldap.NewModifyRequest("CN="+name+",CN=Users,"+base, nil)
			m.Delete("unicodePwd", []string{quoted(current)})
			m.Add("unicodePwd", []string{quoted(text)})
			err = conn.Modify(m)
			conn.Close()
			reason := ""
			if err != nil {
				switch said := err.Error(); {
				case strings.Contains(said, "too short"):
					reason = "min-length"
				case strings.Contains(said, "complexity"):
					reason = "complexity"
				default:
					t.Errorf("%s %q: %v", name, text, err)
				}
			} else {
				current = text
			}
			p.compare(name, text, verdicts[k], by[k], err == nil, reason)
		}
	}
	p.told(100)
}

// The Unix module does, with random options, and so does its library's own
// judge of passwords.
func TestRealProbeUnix(t *testing.T) {
	labtest.Wanted(t)
	if _, err := exec.LookPath("pwscore"); err != nil {
		labtest.Lacking(t, "no pwscore; Debian's package libpwquality-tools has it")
	}
	if _, err := os.Stat("/var/cache/cracklib/cracklib_dict.pwd"); err != nil {
		labtest.Lacking(t, "no dictionary for pwscore; Debian's package cracklib-runtime makes it")
	}
	if err := exec.Command("unshare", "-m", "true").Run(); err != nil {
		t.Skipf("skipped: no mount namespace to put a configuration into: %v", err)
	}
	rnd := rand.New(rand.NewPCG(22, 1))
	p := &pairs{t: t}
	reasons := []struct{ said, rule string }{
		{"is a palindrome", "palindrome"}, {"lowercase", "require-lower"}, {"uppercase", "require-upper"}, {"digits", "require-digit"},
		{"digit", "require-digit"}, {"non-alphanumeric", "require-symbol"},
		{"character classes", "classes-required"}, {"same characters consecutively", "max-repeat"},
		{"of the same class consecutively", "class-run"}, {"monotonic sequence", "max-sequence"},
		{"contains the user name", "name-check"}, {"real name", "personal-check"}, {"forbidden words", "blocklist"},
		{"shorter than", "min-length"}, {"too short", "min-length"}, {"No password supplied", "empty"},
		{"empty password", "empty"},
	}
	const configurations, each = 40, 30
	for n := range configurations {
		dir := t.TempDir()
		var conf strings.Builder
		asked := rnd.IntN(15)
		fmt.Fprintf(&conf, "dictcheck = 0\nminlen = %d\nminclass = %d\nmaxrepeat = %d\nmaxsequence = %d\nmaxclassrepeat = "+
			"%d\nusercheck = %d\ngecoscheck = %d\nusersubstr = %d\n", asked, rnd.IntN(4),
			[]int{0, 0, 2, 3}[rnd.IntN(4)], []int{0, 0, 3, 4}[rnd.IntN(4)], []int{0, 0, 0, 4, 6}[rnd.IntN(5)], rnd.IntN(2), rnd.IntN(2),
			[]int{0, 0, 4, 5}[rnd.IntN(4)])
		for _, c := range []string{"lcredit", "ucredit", "dcredit", "ocredit"} {
			fmt.Fprintf(&conf, "%s = %d\n", c, []int{0, 0, 0, 1, 3, -1, -2}[rnd.IntN(7)])
		}
		if rnd.IntN(2) == 0 {
			conf.WriteString("badwords = tide lantern fog\n")
		}
		name := []string{"mferrier", "mo", "ada"}[n%3]
		system, err := os.ReadFile("/etc/os-release") // the modules are this machine's
		if err != nil {
			t.Fatal(err)
		}
		write(t, filepath.Join(dir, "gate/etc/os-release"), string(system))
		write(t, filepath.Join(dir, "gate/etc/security/pwquality.conf"), conf.String())
		write(t, filepath.Join(dir, "gate/etc/pam.d/passwd"),
			"password requisite pam_pwquality.so retry=1\npassword required pam_unix.so use_authtok\n")
		passwd := write(t, filepath.Join(dir, "gate/etc/passwd"), "root:x:0:0::/root:/bin/sh\n"+name+":x:1001:1001:Maud Ferrier:/:/bin/sh\n")
		write(t, filepath.Join(dir, "gate/etc/shadow"), "root:*:20000:0:99999:7:::\n"+name+":*:20000:0:99999:7:::\n")
		audit := begin(t)
		must(t, audit, "gather", filepath.Join(dir, "gate"))
		var passwords []string
		for range each {
			text := guess(rnd, asked, name, "reirrefm", "Ferrier", "REIRREF", "duam", "ferri", "lantern", "FOG", "gof", "tide", "1234",
				"dcba", "aaaa", "/0123")
			if rnd.IntN(12) == 0 {
				r := []byte(text)
				slices.Reverse(r)
				if text += string(r); !strings.ContainsFunc(text, func(c rune) bool { return c > 126 }) {
					passwords = append(passwords, text)
					continue
				}
			}
			passwords = append(passwords, strings.ToValidUTF8(text, ""))
		}
		verdicts, by := probed(t, audit, name, passwords)
		cmd := exec.Command("unshare", "-m", "sh", "-c",
			`mount --bind "$1" /etc/security/pwquality.conf && mount --bind "$2" /etc/passwd && while IFS= read -r p; do printf `+
				`'%s\n' "$p" | pwscore "$3" 2>&1 | tr '\n' ' '; echo; done`,
			"sh", filepath.Join(dir, "gate/etc/security/pwquality.conf"), passwd, name)
		cmd.Stdin = strings.NewReader(strings.Join(passwords, "\n") + "\n")
		out, err := cmd.Output()
		if err != nil {
			t.Fatal(err)
		}
		for k, said := range strings.Split(strings.TrimSuffix(string(out), "\n"), "\n") {
			taken := !strings.Contains(said, "Password quality check failed") && !strings.Contains(said, "rror")
			reason := ""
			for _, r := range reasons {
				if !taken && reason == "" && strings.Contains(said, r.said) {
					reason = r.rule
				}
			}
			if !taken && reason == "" {
				t.Errorf("an unknown answer: %q", said)
			}
			p.compare(name+"\n"+conf.String(), passwords[k], verdicts[k], by[k], taken, reason)
		}
	}
	p.told(200)
}

// And the overlay of an LDAP server.
func TestRealProbeLDAP(t *testing.T) {
	labtest.Wanted(t)
	rnd := rand.New(rand.NewPCG(23, 1))
	const people, each = 8, 15
	var names []string
	policies := ""
	for i := range people {
		names = append(names, fmt.Sprintf("p%d:ask%d", i, i))
		policies += fmt.Sprintf("dn: cn=ask%d,ou=policies,dc=club,dc=example\nobjectClass: pwdPolicy\nobjectClass: "+
			"organizationalRole\ncn: ask%d\npwdAttribute: userPassword\npwdCheckQuality: %d\npwdMinLength: %d\n", i, i, (i+2)%3, 6+rnd.IntN(6))
		policies += "\n"
	}
	c := newClub(t, "overlay ppolicy\n", policies, names...)
	audit := begin(t)
	must(t, audit, "gather", write(t, filepath.Join(c.home, "club.ldif"),
		c.tool("/usr/sbin/slapcat", "-F", filepath.Join(c.home, "config"), "-b", "dc=club,dc=example")),
		write(t, filepath.Join(c.home, "server.ldif"), c.tool("/usr/sbin/slapcat", "-F", filepath.Join(c.home, "config"), "-b", "cn=config")))
	p := &pairs{t: t}
	for i := range people {
		name, current := fmt.Sprintf("p%d", i), firstPassword
		var passwords []string
		for range each {
			text := guess(rnd, 8)
			for text == "" {
				text = guess(rnd, 8) // the tool that changes passwords makes one of its own for an empty one
			}
			passwords = append(passwords, text)
		}
		verdicts, by := probed(t, audit, name, passwords)
		for k, text := range passwords {
			taken := c.change(name, current, text)
			if taken {
				current = text
			}
			p.compare(name, text, verdicts[k], by[k], taken, "")
		}
	}
	p.told(20)
}

// The command: what is told and what is not, and what is wrong with the input.
func TestProbe(t *testing.T) {
	beside(t)
	dir := harbour(t)
	audit := filepath.Join(dir, "audit")
	typed := func(in string, args ...string) (out string, status int) {
		cmd := exec.Command(program, append([]string{"probe"}, args...)...)
		cmd.Dir, cmd.Stdin = audit, strings.NewReader(in)
		all, err := cmd.CombinedOutput()
		var exit *exec.ExitError
		if errors.As(err, &exit) {
			status = exit.ExitCode()
		}
		return string(all), status
	}
	const secret = "Tr0ub-Planted-Probe-99"
	for _, args := range [][]string{{"--account", "w.lowe"}, {"--verbose"}, {"--format", "json"}, {"--format", "csv"}, {"--scope", "gate1*"}} {
		if out, status := typed(secret+"\nx\n", args...); status != 0 || strings.Contains(out, secret) || len(out) < 100 {
			t.Errorf("%v: %d %s", args, status, out)
		}
	}
	filepath.WalkDir(dir, func(path string, _ os.DirEntry, _ error) error {
		if data, err := os.ReadFile(path); err == nil && bytes.Contains(data, []byte(secret)) {
			t.Errorf("the password is in %s", path)
		}
		return nil
	})
	for _, c := range []struct{ in, account, want string }{
		{"winter\n", "o.pike", "refused min-length"},
		{"Marrowick2026!\n", "w.lowe", "accepted "},
		{"M@rr0wick!\n", "bookings@marrowickharbour.cloud.example", "refused blocklist"},
		{"B00kings-Desk-Lamp\n", "bookings@marrowickharbour.cloud.example", "refused account-name"},
		{"H@rb0ur-of-Ropes-77\n", "bookings@marrowickharbour.cloud.example", "cannot tell "},
		{"\n", "o.pike", "refused min-length"},
		{strings.Repeat("aB1!", 2500) + "\n", "o.pike", "accepted "}, // Samba takes it
		{strings.Repeat("aB1!", 2500) + "\n", "gateop", "refused platform-length"},
		{"Cafe\u0301-Lantern-22\n", "o.pike", "accepted "},
	} {
		verdicts, by := probed(t, audit, c.account, []string{strings.TrimSuffix(c.in, "\n")})
		if got := verdicts[0] + " " + strings.Join(by[0][:min(len(by[0]), 1)], " "); got != c.want {
			t.Errorf("%.20q for %s: %s %v, want %s", c.in, c.account, verdicts[0], by[0], c.want)
		}
	}
	doc := document(t, audit, "probe", "--patterns")
	long, weak := 0.0, 0.0
	for _, s := range doc["patterns"].([]any) {
		if at(s, "scope") == "marrowick.example / Executives / standard" && at(s, "weak") == true {
			weak += at(s, "accepted").(float64)
		}
		if at(s, "scope") == "marrowick.example / Pilots" && at(s, "pattern") == "season and year" {
			long = at(s, "refused").(float64)
		}
	}
	if weak != 156 || long != 20 {
		t.Errorf("the executives may use %v of the weak patterns, the pilots are refused %v seasons", weak, long)
	}
	// As docs/demo.md says, and forecast counts.
	taken := map[string]float64{}
	for _, s := range document(t, audit, "forecast")["scopes"].([]any) {
		taken[at(s, "scope").(string)] = at(s, "weak_patterns", "accepted").(float64)
	}
	if taken["marrowick.example / domain default / standard"] != 119 || taken["marrowick.example / Pilots"] != 9 ||
		taken["marrowick.example / Control Room"] != 6 {
		t.Errorf("forecast: %v", taken)
	}
	for _, c := range []struct {
		in   string
		args []string
		say  string
	}{
		{"", nil, "no password in it"}, {"a\nb\x00c\n", nil, "standard input:2: a NUL"}, {"a\n\xff\xfe\n", nil, "standard input:2: not UTF-8"},
		{strings.Repeat("a", 2<<20), nil, "more than 1 MiB"},
		{"a\n", []string{"Secret-Argument"}, "never an argument"}, {"a\n", []string{"--from", "absent"}, "absent: "},
		{"a\n", []string{"--scope", "nowhere"}, "known are"},
		{"a\n", []string{"--scope", "x", "--account", "y"}, "name one"}, {"a\n", []string{"--account", "nobody"}, "no account"},
		{"a\n", []string{"--patterns", "--from", "x"}, "name one"},
	} {
		if out, status := typed(c.in, c.args...); status == 0 || !strings.Contains(out, c.say) || strings.Contains(out, "Secret-Argument") {
			t.Errorf("%.20q %v: %d %s", c.in, c.args, status, out)
		}
	}
}
