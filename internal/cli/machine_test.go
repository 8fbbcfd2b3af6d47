package cli_test

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"sternledger/internal/labtest"
)

// realMachine is a Debian of its own in a folder, with its own modules.
type realMachine struct {
	t           *testing.T
	script, dir string
}

// newRealMachine builds one, or takes the one in UNIX_MACHINES, a folder of
// machines by their suites.
func newRealMachine(t *testing.T, suite string) *realMachine {
	t.Helper()
	labtest.Wanted(t)
	script := labtest.Script(t, "unix")
	if os.Getuid() != 0 {
		labtest.Lacking(t, "a machine is built as root only")
	}
	m := &realMachine{t, script, filepath.Join(os.Getenv("UNIX_MACHINES"), suite)}
	if os.Getenv("UNIX_MACHINES") == "" {
		m.dir = filepath.Join(filepath.Dir(program), "machines", suite) // once for all tests
		os.MkdirAll(filepath.Dir(m.dir), 0o755)
	}
	if _, err := os.Stat(filepath.Join(m.dir, "etc/debian_version")); err != nil {
		for _, args := range [][]string{{"install"}, {"build", m.dir, suite, "libpam-passwdqc", "sudo", "faketime"}} {
			if out, err := exec.Command(script, args...).CombinedOutput(); err != nil {
				labtest.Lacking(t, "no %s machine can be built here: %s", suite, out)
			}
		}
	}
	return m
}

func (m *realMachine) lab(verb string, args ...string) string {
	m.t.Helper()
	out, err := exec.Command(m.script, append([]string{verb, m.dir}, args...)...).CombinedOutput()
	if err != nil {
		m.t.Fatalf("labs/unix %s %v: %v %s", verb, args, err, out)
	}
	return strings.TrimSpace(string(out))
}

// changes reports whether a user's own change of password is taken. Whatever
// module asks for the new password, and however often, is told it.
func (m *realMachine) changes(name, old, password string) (taken bool, said string) {
	m.t.Helper()
	ids, err := exec.Command("chroot", m.dir, "sh", "-c", "echo $(id -u "+name+"):$(id -g "+name+")").Output()
	if err != nil {
		m.t.Fatal(err)
	}
	cmd := exec.Command("timeout", "20", "chroot", "--userspec="+strings.TrimSpace(string(ids)), m.dir, "env", "LC_ALL=C", "USER="+
		name, "LOGNAME="+name, "passwd")
	cmd.Stdin = strings.NewReader(old + strings.Repeat("\n"+password, 6) + "\n")
	out, _ := cmd.CombinedOutput()
	// What passwd says is not always so: a module that is required and fails does
	// not keep the next from storing the password, and passwd then calls it
	// unchanged; a sufficient one before it keeps a good one from being stored.
	return m.lab("try", "plain", name, password) == "let in", strings.Join(strings.Fields(string(out)), " ")
}

// etc writes a file of the machine's etc; without lines it is taken away.
func (m *realMachine) etc(name, text string) {
	m.t.Helper()
	if text == "" {
		os.Remove(filepath.Join(m.dir, "etc", name))
		return
	}
	write(m.t, filepath.Join(m.dir, "etc", name), text)
}

// checkers are the modules that check quality on this machine.
func (m *realMachine) checkers() []string {
	all := append(slices.Repeat([]string{"pam_pwquality"}, 14), "pam_passwdqc", "pam_passwdqc")
	for _, name := range []string{"pam_passwdqc", "pam_cracklib"} {
		if found, _ := filepath.Glob(filepath.Join(m.dir, "lib/*/security", name+".so")); len(found) > 0 {
			all = append(all, name)
		}
	}
	return all
}

// gathered copies what docs/sources.md says to copy, and takes it.
func (m *realMachine) gathered() (audit string) {
	m.t.Helper()
	to := filepath.Join(m.t.TempDir(), "quayside", "etc")
	for _, name := range []string{"pam.d", "security", "login.defs", "passwd", "group", "shadow", "debian_version", "passwdqc.conf"} {
		os.MkdirAll(to, 0o755)
		if _, err := os.Stat(filepath.Join(m.dir, "etc", name)); err != nil {
			continue // not every machine has each
		}
		if out, err := exec.Command("cp", "-a", filepath.Join(m.dir, "etc", name), to).CombinedOutput(); err != nil {
			m.t.Fatalf("%v %s", err, out)
		}
	}
	audit = begin(m.t)
	must(m.t, audit, "gather", filepath.Dir(to))
	return audit
}

// rounds is how many configurations a test tries on each machine.
func rounds(usual int) int {
	if n, err := strconv.Atoi(os.Getenv("STERNLEDGER_ROUNDS")); err == nil {
		return n
	}
	return usual
}

// seed is where the random configurations begin: STERNLEDGER_SEED tries others.
func seed(usual uint64) uint64 {
	if n, err := strconv.ParseUint(os.Getenv("STERNLEDGER_SEED"), 10, 64); err == nil {
		return n
	}
	return usual
}

func one[T any](rnd *rand.Rand, of ...T) T { return of[rnd.IntN(len(of))] }

// told counts what was compared with a machine. A better answer is an error at
// once; most must be exact.
type compared struct{ all, exact, weaker, open int }

func (c *compared) add(more compared) {
	c.all, c.exact, c.weaker, c.open = c.all+more.all, c.exact+more.exact, c.weaker+more.weaker, c.open+more.open
}

func (c *compared) check(t *testing.T) {
	t.Logf("%d compared: %d exact, %d weaker, %d cannot tell", c.all, c.exact, c.weaker, c.open)
	// One odd stack of a few weighs much.
	const many = 200
	if c.all >= many && c.exact*10 < c.all*9 || c.exact*4 < c.all*3 {
		t.Errorf("only %d of %d are exact", c.exact, c.all)
	}
}

// The real passwd of real machines takes and refuses what the program says,
// whatever stands in the files.
func TestRealMachinePasswords(t *testing.T) {
	for n, suite := range []string{"bullseye", "bookworm", "trixie"} {
		t.Run(suite, func(t *testing.T) {
			m, rnd, total := newRealMachine(t, suite), rand.New(rand.NewPCG(seed(131), uint64(n))), &compared{}
			m.etc("pam.d/plain", "auth required pam_unix.so nodelay\naccount required pam_permit.so\n")
			count := rounds(10)
			if suite == "bullseye" {
				count = (count + 2) / 3 // its passwd waits after each refusal
			}
			for range count {
				conf, dropIn := qualityLines(rnd), ""
				if rnd.IntN(4) == 0 {
					dropIn = qualityLines(rnd)
				}
				os.MkdirAll(filepath.Join(m.dir, "etc/security/pwquality.conf.d"), 0o755)
				m.etc("security/pwquality.conf", conf)
				m.etc("security/pwquality.conf.d/10.conf", dropIn)
				stack := passwordStack(rnd, m.checkers())
				m.etc("pam.d/common-password", stack)
				m.etc("security/pwhistory.conf", one(rnd, "", "", "remember = 4\n", "remember=0\n"))
				m.etc("passwdqc.conf", "# of this machine\nmin=9,8,8,7,6\nmatch=0\n")
				who := one(rnd, "ada", "bertie")
				m.lab("user", who, rightPassword)
				full := one(rnd, "", "Maud Bergh", "Maud Bergh,,,", "Ida Lindqvist,Room 7,,")
				if out, err := exec.Command("chroot", m.dir, "usermod", "-c", full, who).CombinedOutput(); err != nil {
					t.Fatalf("%v %s", err, out)
				}
				audit := m.gathered()
				var passwords []string
				for range 5 {
					passwords = append(passwords, plainGuess(rnd, 4+rnd.IntN(16), who, "bergh", "Maud", "lindqvist", "dqvis", "tide", "bert"))
				}
				verdicts, by := probed(t, audit, who, passwords)
				round, let := compared{}, false
				for i, password := range passwords {
					m.lab("user", who, rightPassword)
					taken, said := m.changes(who, rightPassword, password)
					round.all, let = round.all+1, let || taken
					switch {
					case verdicts[i] == "cannot tell":
						round.open++
						t.Logf("cannot tell: %q by %v; %s:\n%s--\n%s--\n%s", password, by[i], said, conf, dropIn, stack)
					case (verdicts[i] == "accepted") == taken:
						round.exact++
					case taken:
						t.Errorf("better than the machine: %q is said to be refused by %v, and taken:\n%s--\n%s--\n%s", password, by[i], conf, dropIn, stack)
					default:
						round.weaker++
						t.Logf("weaker than the machine: %q is said to be accepted; %s:\n%s--\n%s--\n%s", password, said, conf, dropIn, stack)
					}
				}
				if let || round.open < round.all { // else nobody can change a password, and it is said
					total.add(round)
				}
			}
			total.check(t)
		})
	}
}

// qualityLines makes a pwquality.conf as people write it.
func qualityLines(rnd *rand.Rand) string {
	var b strings.Builder
	if rnd.IntN(12) == 0 {
		b.WriteString("\ufeff")
	}
	b.WriteString("dictcheck = 0\n")
	for range 1 + rnd.IntN(5) {
		name := one(rnd, "minlen", "minlen", "minclass", "dcredit", "ucredit", "ocredit", "lcredit", "maxrepeat", "maxsequence",
			"maxclassrepeat", "usercheck", "gecoscheck", "usersubstr", "difok", "badwords")
		value := strconv.Itoa(rnd.IntN(18))
		switch {
		case strings.HasSuffix(name, "credit"):
			value = strconv.Itoa(rnd.IntN(5) - 2)
		case name == "badwords":
			value = "tide lantern"
		case name != "minlen":
			value = strconv.Itoa(rnd.IntN(5))
		}
		switch rnd.IntN(16) {
		case 0:
			name += "n"
		case 1:
			value += one(rnd, "x", " 3", ".5")
		case 2:
			name = strings.ToUpper(name)
		case 3:
			name = "# " + name
		}
		fmt.Fprintf(&b, "%s%s%s\n", name, one(rnd, " = ", "=", " ", "\t", " == "), value)
	}
	return b.String()
}

// passwordStack makes a stack that stores passwords, with checks or without.
func passwordStack(rnd *rand.Rand, modules []string) string {
	var b strings.Builder
	if rnd.IntN(6) == 0 {
		b.WriteString("password " + one(rnd, "optional pam_harbour.so", "required pam_permit.so",
			"[success=ignore default=die] pam_succeed_if.so uid >= 1000", "required pam_env.so", "optional pam_debug.so",
			"sufficient pam_harbour.so") + "\n")
	}
	for range one(rnd, 0, 1, 1, 1, 1, 2) {
		control := one(rnd, "requisite", "requisite", "requisite", "requisite", "requisite", "required", "required", "optional",
			"sufficient", "[success=1 default=ignore]")
		switch module := one(rnd, modules...); module {
		case "pam_passwdqc":
			fmt.Fprintf(&b, "password %s pam_passwdqc.so retry=1 random=0 %s\n", control,
				one(rnd, "match=0", "match=0 min=disabled,12,10,9,8", "match=0 min=8,8,8,8,8 max=8", "match=0 similar=permit passphrase=0",
					"config=/etc/passwdqc.conf",
					"min=8,9,7,6,5", "match=0 enforce=none", "match=0 enforce=users", "match=0 min=11,10,9,8,7 max=14", "",
					"match=0 min=disabled,disabled,12,8,6 passphrase=2"))
		case "pam_cracklib":
			fmt.Fprintf(&b, "password %s pam_cracklib.so retry=1 dictpath=/var/cache/cracklib/cracklib_dict %s\n", control,
				one(rnd, "", "minlen=12", "reject_username", "gecoscheck", "minlen=8 dcredit=-1 ucredit=0", "difok=1"))
		default:
			fmt.Fprintf(&b, "password %s pam_pwquality.so retry=1 %s%s\n", control, one(rnd, "dictcheck=0 ", "dictcheck=0 ",
				"dictcheck=0 ", "dictcheck=0 ", "dictcheck=0 ", ""), one(rnd, "", "", "minlen=12", "minlen=9x", "MINCLASS=3", "minlenn=20",
				"enforcing=0", "local_users_only", "enforce_for_root", "difok=3", "usercheck=0", "dictpath=/nowhere/words", "authtok_type=Quay"))
		}
	}
	checked := b.Len() > 0
	if checked && rnd.IntN(4) == 0 {
		b.WriteString("password " + one(rnd, "required", "requisite") + " pam_pwhistory.so use_authtok " +
			one(rnd, "remember=3", "", "remember=x") + "\n")
	}
	use := "use_authtok "
	if !checked || rnd.IntN(6) == 0 {
		use = ""
	}
	fmt.Fprintf(&b, "password %s pam_unix.so %syescrypt %s\npassword requisite pam_deny.so\npassword required pam_permit.so\n",
		"[success=1 default=ignore]",
		use, one(rnd, "", "", "obscure", "minlen=10", "minlen=11x", "minlen=x", "obscure minlen=9", "remember=4", "minlen=5",
			"nullok obscure", "sha512 rounds=8000"))
	return b.String()
}

// plainGuess makes a password that a terminal takes, now and then around a word.
func plainGuess(rnd *rand.Rand, length int, words ...string) string {
	sets := []string{"bdfhjkmqrtvwxz", "BDFHJKMQRTVWXZ", "2739584061", "!?%+=:;_ "}
	rnd.Shuffle(len(sets), func(i, j int) { sets[i], sets[j] = sets[j], sets[i] })
	sets = sets[:1+rnd.IntN(4)]
	var b strings.Builder
	b.WriteByte("kmqrKM27!?"[rnd.IntN(10)])
	if rnd.IntN(4) == 0 {
		b.WriteString(one(rnd, words...))
	}
	for b.Len() < length {
		set := one(rnd, sets...)
		b.WriteByte(set[rnd.IntN(len(set))])
	}
	return strings.TrimSpace(b.String())
}

// Failed sign-ins lock as the program says on real machines, for a user and for
// root, and a password that has ended lets nobody in, or does.
func TestRealMachineDoors(t *testing.T) {
	for n, suite := range []string{"bookworm", "trixie", "bullseye"} {
		t.Run(suite, func(t *testing.T) {
			m, rnd, total := newRealMachine(t, suite), rand.New(rand.NewPCG(seed(132), uint64(n))), &compared{}
			count := rounds(10)
			if suite == "bullseye" {
				count = (count + 4) / 5 // its modules wait two seconds after each failure
			}
			for range count {
				d := &realDoor{m: m, conf: faillockLines(rnd), access: accessLines(rnd), stack: doorStack(rnd), aged: rnd.IntN(5) == 0}
				total.add(d.compare(t))
			}
			total.check(t)
		})
	}
}

// realDoor is a service of a machine.
type realDoor struct {
	m                   *realMachine
	conf, access, stack string
	aged                bool // ada's password has ended
}

const rightPassword = "Old.Quay-7719"

// compare tries the door, and the program's answers on it.
func (d *realDoor) compare(t *testing.T) (all compared) {
	m := d.m
	m.etc("security/faillock.conf", d.conf)
	m.etc("security/access.conf", d.access)
	m.etc("pam.d/gate", d.stack)
	m.etc("pam.d/shared", "auth requisite pam_deny.so\naccount required pam_unix.so\n")
	m.etc("ftpusers", "bob\nada\n")
	for _, who := range []string{"ada", "root"} {
		m.lab("user", who, rightPassword)
	}
	if d.aged {
		if out, err := exec.Command("chroot", m.dir, "chage", "-d", "2020-01-01", "-M", "30", "ada").CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
	} else {
		exec.Command("chroot", m.dir, "chage", "-d", "2026-11-01", "-M", "90", "ada").Run()
	}
	what := d.stack + "--\n" + d.conf + "--\n" + d.access
	audit := m.gatheredDoor()
	for _, who := range []string{"ada", "root"} {
		scope := document(t, audit, "trace", who)
		said := func(id string) string {
			return fmt.Sprint(cmp.Or(at(scope, "settings", id, "value"), at(scope, "settings", id, "special")))
		}
		opens := func(wrong int) bool {
			m.lab("forget")
			for range wrong {
				m.lab("try", "gate", who, "wrong")
			}
			return m.lab("try", "gate", who, rightPassword) == "let in"
		}
		first := opens(0)
		if who == "ada" && d.aged {
			// Let in all the same: nothing ages. Refused: it may be for any reason.
			if age := said("max-age"); first && age != "never" {
				t.Errorf("better than the machine: ada's password is said to end after %s, and it has ended and lets in:\n%s", age, what)
			} else if first {
				all.add(compared{all: 1, exact: 1})
			}
			continue
		}
		threshold := said("lockout-threshold")
		limit, err := strconv.Atoi(threshold)
		switch all.all++; {
		case !first: // nobody gets in by this door: whatever is said of it is not better
			all.all--
		case threshold == "<nil>":
			all.open++
			t.Logf("cannot tell of %s: %v\n%s", who, at(scope, "settings", "lockout-threshold"), what)
		case err == nil && opens(limit):
			t.Errorf("better than the machine: said to lock %s at %d, and lets in:\n%s", who, limit, what)
		case err == nil && limit > 1 && !opens(limit-1), err != nil && !opens(6):
			all.weaker++
			t.Logf("weaker than the machine: said to lock %s at %s:\n%s", who, threshold, what)
		default:
			all.exact++
		}
	}
	return all
}

// gatheredDoor takes the tree as if gate were its only service.
func (m *realMachine) gatheredDoor() string {
	m.t.Helper()
	to := filepath.Join(m.t.TempDir(), "quayside", "etc")
	for _, name := range []string{"pam.d/gate", "pam.d/shared", "security/faillock.conf", "security/access.conf",
		"security/time.conf", "ftpusers", "shells", "login.defs", "passwd", "group", "shadow", "debian_version"} {
		data, err := os.ReadFile(filepath.Join(m.dir, "etc", name))
		if err != nil {
			m.t.Fatal(err)
		}
		write(m.t, filepath.Join(to, name), string(data))
	}
	audit := begin(m.t)
	must(m.t, audit, "gather", filepath.Dir(to))
	return audit
}

// faillockLines makes a faillock.conf as people write it.
func faillockLines(rnd *rand.Rand) string {
	var b strings.Builder
	b.WriteString(one(rnd, "", "", "", "\ufeff"))
	for range 1 + rnd.IntN(3) {
		line := one(rnd, "deny = %d", "deny %d", "deny=%dx", "DENY = %d", "denny = %d", "deny == %d", "# deny = %d", "deny = x%d",
			"deny = 0%d") + "\n"
		fmt.Fprintf(&b, line, 1+rnd.IntN(4))
	}
	b.WriteString(one(rnd, "", "", "admin_group = ada\n", "admin_group = root\n", "fail_interval = 0\n", "even_deny_root\nadmin_group = ada\n",
		"even_deny_root\n", "unlock_time = 0\n",
		"unlock_time = never\n", "root_unlock_time = 60\n", "even_deny_root\nroot_unlock_time = 60\n", "dir = /run/faillock\n",
		"local_users_only\n", "silent\naudit\n"))
	return b.String()
}

func accessLines(rnd *rand.Rand) string {
	return one(rnd, "# none\n", "# none\n", "-:ALL:ALL\n", "+:ada:ALL\n-:ALL:ALL\n", "+:(ada):ALL\n-:ALL EXCEPT root:ALL\n",
		"-:bob:ALL\n", "-:ada:10.0.0.0/8\n")
}

// aside are lines that a stack may hold beside those that count.
var aside = []string{"optional pam_env.so", "required pam_env.so", "required pam_nologin.so", "requisite pam_nologin.so successok",
	"required pam_permit.so", "optional pam_permit.so", "sufficient pam_permit.so",
	"optional pam_deny.so", "required pam_warn.so", "required pam_faildelay.so delay=1", "required pam_localuser.so",
	"required pam_access.so", "sufficient pam_access.so", "[success=1 default=ignore] pam_access.so",
	"required pam_succeed_if.so uid >= 1000", "[success=1 default=ignore] pam_succeed_if.so uid < 1000",
	"sufficient pam_succeed_if.so user ingroup ada", "requisite pam_succeed_if.so user != root quiet",
	"required pam_listfile.so item=user sense=deny file=/etc/ftpusers onerr=succeed",
	"required pam_listfile.so item=user sense=allow file=/etc/ftpusers onerr=fail",
	"[success=1 default=ignore] pam_listfile.so item=user sense=allow file=/etc/ftpusers onerr=fail",
	"required pam_shells.so", "required pam_group.so", "optional pam_mail.so", "required pam_limits.so", "sufficient pam_harbour.so",
	"optional pam_harbour.so", "-required pam_harbour.so", "required pam_usertype.so isregular",
	"[default=ignore] pam_succeed_if.so service = gate", "requisite pam_succeed_if.so shell notin /bin/false:/usr/sbin/nologin",
	"required pam_debug.so", "optional pam_echo.so", "[success=ok ignore=ignore default=bad] pam_rootok.so", "substack shared",
	"include shared",
	"[success=2 default=ignore] pam_succeed_if.so user in root:bob", "sufficient pam_rootok.so", "required pam_securetty.so",
	"[default=reset] pam_permit.so", "[success=reset default=die] pam_localuser.so", "required pam_time.so"}

// doorStack makes a service that takes a password, and may lock.
func doorStack(rnd *rand.Rand) string {
	pre := one(rnd, "required", "required", "requisite", "optional", "[default=ignore]", "[success=ok default=die]",
		"[success=ok default=bad]", "sufficient")
	var lines []string
	add := func(text string) { lines = append(lines, strings.Split(text, "\n")...) }
	if rnd.IntN(8) > 0 {
		add(pre + " pam_faillock.so preauth nodelay " + one(rnd, "", "", "deny=2", "deny=3x", "even_deny_root"))
	}
	switch rnd.IntN(4) {
	case 0:
		add("[success=1 default=ignore] pam_unix.so nodelay\n[default=die] pam_faillock.so authfail nodelay\nrequired pam_permit.so")
	case 1:
		add("sufficient pam_unix.so nodelay\n" + one(rnd, "required", "[default=die]") +
			" pam_faillock.so authfail nodelay\nrequired pam_deny.so")
	case 2:
		add("[success=2 default=" + one(rnd, "ignore", "1", "bad") +
			"] pam_unix.so nodelay\n[default=die] pam_faillock.so authfail nodelay\nrequisite pam_deny.so\nrequired pam_permit.so")
	default:
		add("[success=1 default=bad] pam_unix.so nodelay\n[default=die] pam_faillock.so authfail nodelay\nsufficient pam_faillock.so " +
			"authsucc nodelay\nrequired pam_deny.so")
	}
	for range rnd.IntN(3) {
		lines = slices.Insert(lines, rnd.IntN(len(lines)+1), one(rnd, aside...))
	}
	account := []string{one(rnd, "required", "required", "requisite", "sufficient", "[success=1 new_authtok_reqd=done default=ignore]",
		"optional") + " pam_unix.so"}
	if strings.Contains(account[0], "success=1") {
		account = append(account, "requisite pam_deny.so", "required pam_permit.so")
	}
	for range rnd.IntN(3) {
		account = slices.Insert(account, rnd.IntN(len(account)+1),
			one(rnd, append([]string{"required pam_faillock.so", "required pam_faillock.so"}, aside...)...))
	}
	var b strings.Builder
	for _, l := range lines {
		fmt.Fprintf(&b, "auth %s\n", l)
	}
	for _, l := range account {
		fmt.Fprintf(&b, "account %s\n", l)
	}
	return strings.ReplaceAll(strings.ReplaceAll(b.String(), "auth -", "-auth "), "account -", "-account ")
}
