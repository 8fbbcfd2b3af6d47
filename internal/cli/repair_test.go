package cli_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"sternledger/internal/labtest"
)

// sailor is an account of a machine whose repair is tried.
type sailor struct {
	name, shell string
	may         bool // become root, by sudoers or by its group
}

var crew = []sailor{{"root", "/bin/bash", true}, {"anne", "/bin/bash", true}, {"ben", "/bin/sh", true}, {"carl", "/bin/bash", false},
	{"dora", "/usr/sbin/nologin", false}, {"svc-tide", "/bin/sh", false}}

const crewPassword = "Quay-Side-77x"

// crewed gives a machine the crew, with lines of shadow at random, and returns what
// takes all of it back.
func (m *realMachine) crewed(rnd *rand.Rand) {
	m.t.Helper()
	for _, c := range crew[1:] {
		out, err := exec.Command("chroot", m.dir, "sh", "-c", "id "+c.name+" >/dev/null 2>&1 || useradd -m "+c.name+"; usermod -s "+c.shell+" "+c.name).CombinedOutput()
		if err != nil {
			m.t.Fatalf("%v %s", err, out)
		}
	}
	sudoers := "Defaults !lecture\nroot ALL=(ALL:ALL) ALL\n%sudo ALL=(ALL:ALL) ALL\nben ALL=(ALL) ALL\ndora ALL=(ALL) ALL\n"
	m.etc("sudoers", sudoers)
	os.Chmod(filepath.Join(m.dir, "etc/sudoers"), 0o440)
	if out, err := exec.Command("chroot", m.dir, "usermod", "-aG", "sudo", "anne").CombinedOutput(); err != nil {
		m.t.Fatalf("%v %s", err, out)
	}
	hash, err := exec.Command("openssl", "passwd", "-6", crewPassword).Output()
	if err != nil {
		m.t.Fatal(err)
	}
	today := time.Now().Unix() / 86400
	day := func(back ...int64) string { return strconv.FormatInt(today-one(rnd, back...), 10) }
	shadow, _ := os.ReadFile(filepath.Join(m.dir, "etc/shadow"))
	var lines []string
	for line := range strings.Lines(string(shadow)) {
		name, _, _ := strings.Cut(line, ":")
		if !slices.ContainsFunc(crew, func(c sailor) bool { return c.name == name }) {
			lines = append(lines, strings.TrimSuffix(line, "\n"))
		}
	}
	for _, c := range crew {
		secret := one(rnd, strings.TrimSpace(string(hash)), strings.TrimSpace(string(hash)), strings.TrimSpace(string(hash)), "!", "*", "")
		if secret == "" && c.name == "root" {
			secret = "*"
		}
		fields := []string{c.name, secret, one(rnd, day(0, 1, 20, 100), day(280, 300, 335, 345), day(364, 365, 366), day(380, 400, 409, 410, 411),
			day(800, 3000), "", "0"),
			one(rnd, "0", "0", "1", ""), one(rnd, "99999", "99999", "365", "90", "", "400", "-1"), one(rnd, "7", "14", ""),
			one(rnd, "", "", "10", "30", "45", "90"), one(rnd, "", "", "", "", strconv.FormatInt(today+20, 10), strconv.FormatInt(today-3, 10)), ""}
		if rnd.IntN(12) > 0 && fields[4] == "-1" { // such a line is refused whole: now and then
			fields[4] = "99999"
		}
		lines = append(lines, strings.Join(fields, ":"))
	}
	m.etc("shadow", strings.Join(lines, "\n")+"\n")
}

// states are what the real modules say of the crew so many days from now: let in, a new
// password asked for, or refused. The days are moved by shadow's own fields.
func (m *realMachine) states(days int64) map[string]string {
	m.t.Helper()
	file := filepath.Join(m.dir, "etc/shadow")
	now, err := os.ReadFile(file)
	if err != nil {
		m.t.Fatal(err)
	}
	defer func() { os.WriteFile(file, now, 0o640) }()
	var moved []string
	secrets := map[string]string{}
	for line := range strings.Lines(string(now)) {
		f := strings.Split(strings.TrimSuffix(line, "\n"), ":")
		for _, n := range []int{2, 7} {
			if d, err := strconv.ParseInt(f[min(n, len(f)-1)], 10, 64); err == nil && d > 0 && len(f) == 9 {
				f[n] = strconv.FormatInt(max(d-days, 1), 10)
			}
		}
		secrets[f[0]] = f[1]
		moved = append(moved, strings.Join(f, ":"))
	}
	m.etc("shadow", strings.Join(moved, "\n")+"\n")
	all := map[string]string{}
	for _, c := range crew {
		all[c.name] = m.stateOf(c.name, secrets[c.name])
	}
	return all
}

// stateOf asks the machine's own stacks about one account.
func (m *realMachine) stateOf(name, secret string, with ...string) string {
	if strings.HasPrefix(secret, "!") || strings.HasPrefix(secret, "*") {
		return "refused" // by password
	}
	password := crewPassword
	if secret == "" {
		password = ""
	}
	tester := func(operation string) string {
		args := append(append([]string{m.dir}, with...), "pamtester", "common", name, operation)
		cmd := exec.Command("chroot", args...)
		cmd.Stdin = strings.NewReader(password + "\n")
		out, _ := cmd.CombinedOutput()
		return string(out)
	}
	if said := tester("authenticate"); !strings.Contains(said, "successfully authenticated") {
		return "refused"
	}
	switch said := tester("acct_mgmt"); {
	case strings.Contains(said, "management done"):
		return "let in"
	case strings.Contains(said, "new one required"):
		return "asked"
	case strings.Contains(said, "expired"):
		return "refused"
	default:
		m.t.Fatalf("%s: %s", name, said)
		return ""
	}
}

// becomesRoot tries it for real: root by su with its own password, others by sudo.
func (m *realMachine) becomesRoot(name string) bool {
	cmd := exec.Command("timeout", "20", "chroot", m.dir, "sh", "-c", "su "+name+" -s /bin/sh -c 'sudo -k -S -p \"\" id -u'")
	cmd.Stdin = strings.NewReader(crewPassword + "\n")
	if name == "root" {
		cmd = exec.Command("timeout", "20", "chroot", "--userspec=65534:65534", m.dir, "su", "root", "-c", "id -u")
		cmd.Stdin = strings.NewReader(crewPassword + "\n")
	}
	out, _ := cmd.CombinedOutput()
	return slices.Contains(strings.Fields(string(out)), "0")
}

// What change files do to who can sign in is as said for every account, on the day
// itself and 7, 30 and 90 days on; nobody's way in is the last one; and what undoes them
// brings back shadow to the byte.
func TestRepairLocksNobodyOut(t *testing.T) {
	for n, suite := range []string{"bullseye", "bookworm", "trixie"} {
		t.Run(suite, func(t *testing.T) {
			m := newRealMachine(t, suite)
			keep := t.TempDir()
			if out, err := exec.Command("cp", "-a", filepath.Join(m.dir, "etc"), keep).CombinedOutput(); err != nil {
				t.Fatalf("%v %s", err, out)
			}
			defer func() {
				if out, err := exec.Command("sh", "-c", `rm -rf "$1/etc" && cp -a "$2/etc" "$1/"`, "sh", m.dir, keep).CombinedOutput(); err != nil {
					t.Errorf("%v %s", err, out)
				}
			}()
			// The stock stacks, without the pause after a wrong password.
			m.etc("pam.d/common", "@include common-auth\n@include common-account\n")
			rnd, held, compared, said := rand.New(rand.NewPCG(seed(32), uint64(n))), 0, 0, map[string]int{}
			for round := range rounds(1) {
				m.crewed(rnd)
				if text, err := os.ReadFile(filepath.Join(keep, "etc/pam.d/common-auth")); err != nil {
					t.Fatal(err)
				} else {
					m.etc("pam.d/common-auth", strings.Replace(string(text), "nullok", one(rnd, "nullok nodelay", "nodelay"), 1))
				}
				a, b := m.repaired(rnd, fmt.Sprintf("%s, round %d", suite, round), said)
				held, compared = held+a, compared+b
			}
			t.Logf("%d accounts and days compared, %d changes held back, %v", compared, held, said)
		})
	}
}

// repaired proposes changes of a crewed machine, makes those that are picked, and holds
// what comes of them against what was said.
func (m *realMachine) repaired(rnd *rand.Rand, label string, said map[string]int) (held, compared int) {
	t := m.t
	t.Helper()
	to := filepath.Join(t.TempDir(), "gate7", "etc")
	os.MkdirAll(to, 0o755)
	for _, name := range []string{"pam.d", "security", "login.defs", "passwd", "group", "shadow", "sudoers", "debian_version", "default", "os-release"} {
		if out, err := exec.Command("cp", "-aL", filepath.Join(m.dir, "etc", name), to).CombinedOutput(); err != nil && name != "os-release" {
			t.Fatalf("%v %s", err, out)
		}
	}
	dir := begin(t)
	must(t, dir, "gather", filepath.Dir(to))
	against(t, dir, "cis-debian-12")
	must(t, dir, "weigh")
	plan := document(t, dir, "amend")
	first := map[string][]string{}
	var names []string
	for _, a := range plan["amendments"].([]any) {
		name := at(a, "name").(string)
		names = append(names, name)
		for _, f := range at(a, "first").([]any) {
			first[name] = append(first[name], f.(string))
		}
	}
	if len(names) == 0 {
		return
	}
	args := []string{"--to", filepath.Join(t.TempDir(), "change")}
	chosen := names
	if rnd.IntN(3) == 0 {
		var picked []string
		var pick func(name string)
		pick = func(name string) {
			if !slices.Contains(picked, name) {
				picked = append(picked, name)
				for _, f := range first[name] {
					pick(f)
				}
			}
		}
		for _, name := range names {
			if rnd.IntN(2) == 0 {
				pick(name)
			}
		}
		if len(picked) > 0 {
			chosen = picked
			args = append(args, "--pick", strings.Join(picked, ","))
		}
	}
	doc := document(t, dir, append([]string{"amend"}, args...)...)
	if left := byHandOf(doc); len(left) > 0 { // what files do is judged alone
		for again := true; again; {
			again = false
			for _, name := range names {
				if !slices.Contains(left, name) && slices.ContainsFunc(first[name], func(f string) bool { return slices.Contains(left, f) }) {
					left, again = append(left, name), true
				}
			}
		}
		args[1] = filepath.Join(t.TempDir(), "files")
		if !slices.ContainsFunc(chosen, func(name string) bool { return !slices.Contains(left, name) }) {
			return
		}
		doc = document(t, dir, append([]string{"amend", "--except", strings.Join(left, ",")}, args...)...)
	}
	type fate struct {
		outcome string
		day     int64
	}
	fates := map[string]fate{}
	for _, f := range at(doc, "played", "accounts").([]any) {
		fates[at(f, "account").(string)] = fate{at(f, "outcome").(string), int64(at(f, "day").(float64))}
	}
	for _, a := range doc["amendments"].([]any) {
		for _, s := range at(a, "spots").([]any) {
			if h, _ := s.(map[string]any)["held_back"].([]any); len(h) > 0 {
				held++
				said[at(h[0], "damage").(string)]++
			}
		}
	}
	days := []int64{0, 7, 30, 90}
	look := func() (all []map[string]string) {
		for _, d := range days {
			all = append(all, m.states(d))
		}
		return all
	}
	shadow := filepath.Join(m.dir, "etc/shadow")
	text, _ := os.ReadFile(shadow)
	before := look()
	patches, _ := filepath.Glob(filepath.Join(args[1], "*", "etc.patch"))
	for _, p := range patches {
		if out, err := exec.Command("patch", "-s", "-p1", "-d", m.dir, "-i", p).CombinedOutput(); err != nil {
			t.Fatalf("%s: patch: %v %s", label, err, out)
		}
	}
	m.runs(args[1], "ageing.sh")
	after := look()
	rank := map[string]int{"let in": 0, "asked": 1, "refused": 2}
	for i, d := range days {
		ways, left := []string{}, []string{}
		for _, c := range crew {
			was, is, f := before[i][c.name], after[i][c.name], fates[c.name]
			compared++
			want := was
			switch {
			case f.outcome == "cannot-sign-in" && d >= f.day:
				want = "refused"
			case f.outcome == "cannot-sign-in" && is == "asked" && was == "let in":
				want = "asked" // on the way there
			case f.outcome == "must-act" && d >= f.day && was == "let in":
				want = "asked"
			case f.outcome == "not-known":
				continue
			}
			if is != want && !(rank[is] < rank[was]) {
				t.Errorf("%s: %s on day %d: %s, was %s, said to be %q from day %d\n%s", label, c.name, d, is, was, f.outcome, f.day, text)
			}
			if c.may {
				if was != "refused" {
					ways = append(ways, c.name)
				}
				if is != "refused" {
					left = append(left, c.name)
				}
				if c.name == "root" && was != "refused" && is == "refused" {
					t.Errorf("%s: root is shut out on day %d\n%s", label, d, text)
				}
			}
			if c.name == "svc-tide" && rank[is] > rank[was] {
				t.Errorf("%s: a service stops on day %d: %s, was %s\n%s", label, d, is, was, text)
			}
		}
		if len(ways) > 0 && len(left) == 0 {
			t.Errorf("%s: nobody becomes root any more on day %d; %v did\n%s", label, d, ways, text)
		}
		if d == 0 { // and really so
			for _, c := range crew {
				if c.may && after[i][c.name] == "let in" {
					if f := strings.Split(lineOf(shadow, c.name), ":"); f[1] != "" && !m.becomesRoot(c.name) {
						t.Errorf("%s: %s is let in, and does not become root", label, c.name)
					}
				}
			}
		}
	}
	for _, p := range patches {
		if out, err := exec.Command("patch", "-R", "-s", "-p1", "-d", m.dir, "-i", p).CombinedOutput(); err != nil {
			t.Fatalf("%s: patch -R: %v %s", label, err, out)
		}
	}
	m.runs(args[1], "undo-ageing.sh")
	if is, _ := os.ReadFile(shadow); string(is) != string(text) {
		t.Errorf("%s: undone, shadow is not what it was: %s", label, firstDifference(string(is), string(text)))
	}
	return held, compared
}

// byHandOf are the amendments that no file makes.
func byHandOf(doc map[string]any) (names []string) {
	for _, a := range doc["amendments"].([]any) {
		for _, s := range at(a, "spots").([]any) {
			if s.(map[string]any)["by_hand"] != nil && !slices.Contains(names, at(a, "name").(string)) {
				names = append(names, at(a, "name").(string))
			}
		}
	}
	return names
}

// lineOf is the first line of an account in shadow.
func lineOf(file, name string) string {
	text, _ := os.ReadFile(file)
	for line := range strings.Lines(string(text)) {
		if strings.HasPrefix(line, name+":") {
			return line
		}
	}
	return "::"
}

// pilots are the accounts of a directory whose repair is tried: days since the password
// was set (-1: it has to be changed), userAccountControl, and the rest of the record.
var pilots = []struct {
	name    string
	days    int64
	control int
	rest    string
}{
	{"fresh", 10, 512, ""}, {"older", 300, 512, ""}, {"old", 340, 512, ""}, {"nearly", 359, 512, ""}, {"past", 700, 512, ""}, {"must", -1, 512, ""},
	{"ever", 900, 512 | 0x10000, ""}, {"evermust", -1, 512 | 0x10000, ""}, {"off", 900, 514, ""},
	{"svc-tide", 900, 512 | 0x10000, "servicePrincipalName: tide/quay1\n"},
}

// asks says how the real directory lets in an account: at once, after a new password, or
// not at all.
func (d *directory) asks(name string) string {
	cmd := exec.Command("ldapwhoami", "-x", "-H", "ldaps://127.0.0.1", "-D", name+"@marrowick.example", "-w", crewPassword)
	cmd.Env = append(os.Environ(), "LDAPTLS_REQCERT=never")
	out, err := cmd.CombinedOutput()
	switch {
	case err == nil:
		return "let in"
	case strings.Contains(string(out), "data 532,"), strings.Contains(string(out), "data 773,"):
		return "asked"
	}
	return "refused"
}

// moved gives the directory the days on which passwords were set, as if so many more had
// passed. Only the server's own control writes them.
func (d *directory) moved(days int64) {
	d.t.Helper()
	var b strings.Builder
	for _, p := range pilots {
		set := int64(0)
		if p.days >= 0 {
			const ticks, epoch = 10_000_000, 11_644_473_600
			set = (time.Now().Unix() - (p.days+days)*86400 + epoch) * ticks
		}
		fmt.Fprintf(&b, "dn: CN=%s,CN=Users,DC=marrowick,DC=example\nchangetype: modify\nreplace: pwdLastSet\npwdLastSet: %d\n\n", p.name, set)
	}
	out, err := exec.Command("ldbmodify", "-H", filepath.Join(d.dir, "dc/private/sam.ldb"), "--controls=local_oid:1.3.6.1.4.1.7165.4.3.20:0",
		write(d.t, filepath.Join(d.t.TempDir(), "moved.ldif"), b.String())).CombinedOutput()
	if err != nil {
		d.t.Fatalf("%v %s", err, out)
	}
}

// The same of a real directory: who has to change the password on which day is as said;
// what would stop a service is in no file.
func TestRepairRealDirectory(t *testing.T) {
	beside(t)
	labtest.Wanted(t)
	d := newDirectory(t)
	var add strings.Builder
	for _, p := range pilots {
		fmt.Fprintf(&add, "dn: CN=%s,CN=Users,DC=marrowick,DC=example\nobjectClass: user\nsAMAccountName: %s\nuserAccountControl: 512\n%s\n", p.name, p.name, p.rest)
	}
	d.lab("add", d.dir, write(t, filepath.Join(t.TempDir(), "add.ldif"), add.String()))
	control := "dn: DC=marrowick,DC=example\nchangetype: modify\nreplace: maxPwdAge\nmaxPwdAge: -345600000000000\n\n"
	for _, p := range pilots {
		if out, err := exec.Command("samba-tool", "user", "setpassword", p.name, "--newpassword="+crewPassword, "-s", filepath.Join(d.dir, "dc/etc/smb.conf")).
			CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
		control += fmt.Sprintf("dn: CN=%s,CN=Users,DC=marrowick,DC=example\nchangetype: modify\nreplace: userAccountControl\nuserAccountControl: %d\n\n",
			p.name, p.control)
	}
	d.lab("modify", d.dir, write(t, filepath.Join(t.TempDir(), "control.ldif"), control))
	d.moved(0)
	dir := begin(t)
	against(t, dir, "cis-windows-server")
	must(t, dir, "gather", d.export())
	must(t, dir, "weigh")
	to := filepath.Join(t.TempDir(), "change")
	doc := document(t, dir, "amend", "--to", to)
	held := []string{}
	for _, a := range doc["amendments"].([]any) {
		for _, s := range at(a, "spots").([]any) {
			if h, _ := s.(map[string]any)["held_back"].([]any); len(h) > 0 {
				held = append(held, at(a, "title").(string)+": "+at(h[0], "damage").(string))
			}
		}
	}
	if len(held) != 1 || held[0] != "Password never expires (flag), of services: service-out" {
		t.Errorf("held back: %q", held)
	}
	fates := map[string][2]any{}
	for _, f := range at(doc, "played", "accounts").([]any) {
		fates[at(f, "account").(string)] = [2]any{at(f, "outcome"), at(f, "day")}
	}
	days := []int64{0, 7, 30, 90}
	d.serve()
	look := func() map[string][]string {
		all := map[string][]string{}
		for _, n := range days {
			d.moved(n)
			for _, p := range pilots {
				all[p.name] = append(all[p.name], d.asks(p.name))
			}
		}
		d.moved(0)
		return all
	}
	before := look()
	d.lab("modify", d.dir, filepath.Join(to, "marrowick.example", "change.ldif"))
	after := look()
	changed := 0
	for _, p := range pilots {
		for i, n := range days {
			want := before[p.name][i]
			if f, told := fates[p.name]; told && f[0] == "must-act" && float64(n) >= f[1].(float64) {
				want = "asked"
				changed++
			}
			if after[p.name][i] != want {
				t.Errorf("%s on day %d: %s, was %s, said to be %v", p.name, n, after[p.name][i], before[p.name][i], fates[p.name])
			}
		}
	}
	if changed < 5 {
		t.Errorf("the population tests too little: %d changes, %v", changed, fates)
	}
}

// Days that are moved by shadow's fields are days of the clock: one machine, with the
// clock itself moved for root, who may.
func TestMovedDaysAreDays(t *testing.T) {
	m := newRealMachine(t, "bookworm")
	if _, err := os.Stat(filepath.Join(m.dir, "usr/bin/faketime")); err != nil {
		labtest.Lacking(t, "the machine has no faketime")
	}
	defer m.keep("shadow", "passwd", "group", "sudoers", "pam.d/common-auth")()
	m.etc("pam.d/common", "@include common-auth\n@include common-account\n")
	m.crewed(rand.New(rand.NewPCG(seed(33), 0)))
	shadow := filepath.Join(m.dir, "etc/shadow")
	for _, d := range []int64{7, 30, 90} {
		moved := m.states(d)
		for _, c := range crew {
			secret := strings.Split(lineOf(shadow, c.name), ":")[1]
			if is := m.stateOf(c.name, secret, "faketime", fmt.Sprintf("+%d days", d)); is != moved[c.name] {
				t.Errorf("%s, %d days on: %s by the clock, %s by shadow's fields: %s", c.name, d, is, moved[c.name], lineOf(shadow, c.name))
			}
		}
	}
}

// What the plan supposes of LDAP directories: a password that is older than it may be lets
// nobody in, and one of which the server has no day goes on.
func TestRealLDAPExpiry(t *testing.T) {
	labtest.Wanted(t)
	c := newClub(t, "overlay ppolicy\nppolicy_default cn=default,ou=policies,dc=club,dc=example\n", clubPolicies, "skerry", "holm")
	if !c.change("skerry", firstPassword, "Lantern-Room-1-East") {
		t.Fatal("the server takes no other password")
	}
	c.tool("ldapmodify", "-H", c.address, "-x", "-D", "cn=root,dc=club,dc=example", "-w", "Beacon-Root-1", "-f", write(t, filepath.Join(t.TempDir(), "x.ldif"),
		"dn: cn=default,ou=policies,dc=club,dc=example\nchangetype: modify\nreplace: pwdMaxAge\npwdMaxAge: 1\n"))
	time.Sleep(2500 * time.Millisecond)
	if c.signsIn("skerry", "Lantern-Room-1-East") || !c.signsIn("holm", firstPassword) {
		t.Error("an old password lets somebody in, or one without a day does not")
	}
}
