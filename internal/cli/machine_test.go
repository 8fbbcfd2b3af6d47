package cli_test

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
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
	script := os.Getenv("UNIX_LAB")
	if script == "" {
		script, _ = filepath.Abs("../../../shared/lab/unix-lab")
	}
	if _, err := os.Stat(script); err != nil {
		t.Skip("skipped: no unix-lab script; name it in UNIX_LAB") // it is not part of this repository
	}
	if os.Getuid() != 0 {
		labtest.Lacking(t, "a machine is built as root only")
	}
	m := &realMachine{t, script, filepath.Join(os.Getenv("UNIX_MACHINES"), suite)}
	if os.Getenv("UNIX_MACHINES") == "" {
		m.dir = filepath.Join(filepath.Dir(program), "machines", suite) // once for all tests
		os.MkdirAll(filepath.Dir(m.dir), 0o755)
	}
	if _, err := os.Stat(filepath.Join(m.dir, "etc/debian_version")); err != nil {
		for _, args := range [][]string{{"install"}, {"build", m.dir, suite}} {
			if out, err := exec.Command(script, args...).CombinedOutput(); err != nil {
				t.Skipf("skipped: no %s machine can be built here: %s", suite, out)
			}
		}
	}
	return m
}

func (m *realMachine) lab(verb string, args ...string) string {
	m.t.Helper()
	out, err := exec.Command(m.script, append([]string{verb, m.dir}, args...)...).CombinedOutput()
	if err != nil {
		m.t.Fatalf("unix-lab %s %v: %v %s", verb, args, err, out)
	}
	return strings.TrimSpace(string(out))
}

// changes reports whether a user's own change of password is taken. Whatever
// module asks for the new password, and however often, is told it.
func (m *realMachine) changes(name, old, password string) (taken bool, said string) {
	m.t.Helper()
	cmd := exec.Command("timeout", "20", "chroot", "--userspec=1000:1000", m.dir, "env", "LC_ALL=C", "USER="+name, "LOGNAME="+name, "passwd")
	cmd.Stdin = strings.NewReader(old + strings.Repeat("\n"+password, 6) + "\n")
	out, err := cmd.CombinedOutput()
	return err == nil, strings.Join(strings.Fields(string(out)), " ")
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

// gathered copies what docs/sources.md says to copy, and takes it.
func (m *realMachine) gathered() (audit string) {
	m.t.Helper()
	to := filepath.Join(m.t.TempDir(), "quayside", "etc")
	for _, name := range []string{"pam.d", "security", "login.defs", "passwd", "group", "shadow", "debian_version"} {
		os.MkdirAll(to, 0o755)
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

func one[T any](rnd *rand.Rand, of ...T) T { return of[rnd.IntN(len(of))] }

// told counts what was compared with a machine. A better answer is an error at
// once; most must be exact.
type compared struct{ all, exact, weaker, open int }

func (c *compared) add(more compared) {
	c.all, c.exact, c.weaker, c.open = c.all+more.all, c.exact+more.exact, c.weaker+more.weaker, c.open+more.open
}

func (c *compared) check(t *testing.T) {
	t.Logf("%d compared: %d exact, %d weaker, %d cannot tell", c.all, c.exact, c.weaker, c.open)
	if c.exact*10 < c.all*9 {
		t.Errorf("only %d of %d are exact", c.exact, c.all)
	}
}

// The real passwd of real machines takes and refuses what the program says,
// whatever stands in the files.
func TestRealMachinePasswords(t *testing.T) {
	for n, suite := range []string{"bullseye", "bookworm", "trixie"} {
		t.Run(suite, func(t *testing.T) {
			m, rnd, total := newRealMachine(t, suite), rand.New(rand.NewPCG(131, uint64(n))), &compared{}
			for range rounds(10) {
				conf, dropIn := qualityLines(rnd), ""
				if rnd.IntN(4) == 0 {
					dropIn = qualityLines(rnd)
				}
				os.MkdirAll(filepath.Join(m.dir, "etc/security/pwquality.conf.d"), 0o755)
				m.etc("security/pwquality.conf", conf)
				m.etc("security/pwquality.conf.d/10.conf", dropIn)
				stack := passwordStack(rnd)
				m.etc("pam.d/common-password", stack)
				m.lab("user", "ada", "Old.Quay-7719")
				audit := m.gathered()
				var passwords []string
				for range 5 {
					passwords = append(passwords, plainGuess(rnd, 4+rnd.IntN(16)))
				}
				verdicts, by := probed(t, audit, "ada", passwords)
				round, let := compared{}, false
				for i, password := range passwords {
					m.lab("user", "ada", "Old.Quay-7719")
					taken, said := m.changes("ada", "Old.Quay-7719", password)
					round.all, let = round.all+1, let || taken
					switch {
					case verdicts[i] == "cannot tell":
						round.open++
						t.Logf("cannot tell: %q; %s:\n%s--\n%s--\n%s", password, said, conf, dropIn, stack)
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
		name := one(rnd, "minlen", "minlen", "minclass", "dcredit", "ucredit", "ocredit", "lcredit", "maxrepeat", "maxsequence", "maxclassrepeat", "usercheck", "gecoscheck", "usersubstr", "difok", "badwords")
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

// passwordStack makes a stack that stores passwords, with a check or without.
func passwordStack(rnd *rand.Rand) string {
	var b strings.Builder
	if rnd.IntN(5) > 0 {
		fmt.Fprintf(&b, "password %s pam_pwquality.so retry=1 %s\n", one(rnd, "requisite", "requisite", "requisite", "required", "optional", "sufficient", "[success=1 default=ignore]"),
			one(rnd, "", "", "minlen=12", "minlen=9x", "MINCLASS=3", "minlenn=20", "enforcing=0"))
	}
	if b.Len() > 0 && rnd.IntN(4) == 0 {
		b.WriteString("password required pam_pwhistory.so use_authtok remember=3\n")
	}
	use := "use_authtok "
	if b.Len() == 0 || rnd.IntN(6) == 0 {
		use = ""
	}
	fmt.Fprintf(&b, "password [success=1 default=ignore] pam_unix.so %s%syescrypt %s\npassword requisite pam_deny.so\npassword required pam_permit.so\n",
		use, one(rnd, "", "obscure "), one(rnd, "", "", "minlen=10", "minlen=11x", "minlen=x"))
	return b.String()
}

// plainGuess makes a password that a terminal takes.
func plainGuess(rnd *rand.Rand, length int) string {
	sets := []string{"bdfhjkmqrtvwxz", "BDFHJKMQRTVWXZ", "2739584061", "!?%+=:;_"}
	rnd.Shuffle(len(sets), func(i, j int) { sets[i], sets[j] = sets[j], sets[i] })
	sets = sets[:1+rnd.IntN(4)]
	var b strings.Builder
	for b.Len() < length {
		set := one(rnd, sets...)
		b.WriteByte(set[rnd.IntN(len(set))])
	}
	return b.String()
}

// Failed sign-ins lock as the program says on real machines, and a password
// that has ended lets nobody in, or does.
func TestRealMachineDoors(t *testing.T) {
	for n, suite := range []string{"bookworm", "trixie"} { // bullseye's modules wait two seconds after each failure
		t.Run(suite, func(t *testing.T) {
			m, rnd, total := newRealMachine(t, suite), rand.New(rand.NewPCG(132, uint64(n))), &compared{}
			m.lab("user", "ada", "Old.Quay-7719")
			m.etc("pam.d/gate", "auth required pam_permit.so\n")
			for range rounds(10) {
				conf, stack := faillockLines(rnd), doorStack(rnd)
				m.etc("security/faillock.conf", conf)
				m.etc("pam.d/gate", stack)
				audit := m.gatheredDoor()
				scope := document(t, audit, "trace", "ada")
				threshold := fmt.Sprint(cmp.Or(at(scope, "settings", "lockout-threshold", "value"), at(scope, "settings", "lockout-threshold", "special")))
				counts := func(wrong int) bool {
					m.lab("forget")
					for range wrong {
						m.lab("try", "gate", "ada", "wrong")
					}
					return m.lab("try", "gate", "ada", "Old.Quay-7719") == "let in"
				}
				said, what := "", stack+"--\n"+conf
				limit, err := strconv.Atoi(threshold)
				switch {
				case !counts(0):
					continue // nobody gets in by this door
				case threshold == "<nil>":
					total.all++
					total.open++
					t.Logf("cannot tell: %v\n%s", at(scope, "settings", "lockout-threshold"), what)
					continue
				case err == nil && counts(limit):
					t.Errorf("better than the machine: said to lock at %d, and lets in:\n%s", limit, what)
				case err == nil && limit > 1 && !counts(limit-1), err != nil && !counts(6):
					said = "weaker"
					t.Logf("weaker than the machine: said to lock at %s:\n%s", threshold, what)
				}
				if total.all++; said == "" {
					total.exact++
				} else {
					total.weaker++
				}
			}
			total.check(t)
		})
	}
}

// gatheredDoor takes the tree as if gate were its only service.
func (m *realMachine) gatheredDoor() string {
	m.t.Helper()
	to := filepath.Join(m.t.TempDir(), "quayside", "etc")
	for _, name := range []string{"pam.d/gate", "security/faillock.conf", "login.defs", "passwd", "group", "shadow", "debian_version"} {
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
		line := one(rnd, "deny = %d", "deny %d", "deny=%dx", "DENY = %d", "denny = %d", "deny == %d", "# deny = %d", "deny = x%d", "deny = 0%d") + "\n"
		fmt.Fprintf(&b, line, 1+rnd.IntN(4))
	}
	b.WriteString(one(rnd, "", "", "admin_group = ada\n", "admin_group = root\n", "fail_interval = 0\n", "even_deny_root\nadmin_group = ada\n", "unlock_time = 0\n"))
	return b.String()
}

// doorStack makes a service that takes a password, and may lock.
func doorStack(rnd *rand.Rand) string {
	pre := one(rnd, "required", "required", "requisite", "optional", "[default=ignore]")
	unknown := one(rnd, "", "", "", "", "", "", "", "", "", "auth sufficient pam_harbour.so\n", "auth optional pam_harbour.so\n", "auth [success=1 default=ignore] pam_listfile.so item=user sense=allow file=/etc/nobody onerr=fail\n")
	text := unknown + "auth " + pre + " pam_faillock.so preauth nodelay " + one(rnd, "", "", "deny=2", "deny=3x") + "\n"
	switch rnd.IntN(3) {
	case 0:
		text += "auth [success=1 default=ignore] pam_unix.so nodelay\nauth [default=die] pam_faillock.so authfail nodelay\nauth required pam_permit.so\n"
	case 1:
		text += "auth sufficient pam_unix.so nodelay\nauth " + one(rnd, "required", "[default=die]") + " pam_faillock.so authfail nodelay\nauth required pam_deny.so\n"
	default:
		text += "auth [success=2 default=" + one(rnd, "ignore", "1", "bad") + "] pam_unix.so nodelay\nauth [default=die] pam_faillock.so authfail nodelay\nauth requisite pam_deny.so\nauth required pam_permit.so\n"
	}
	return text + "account required pam_unix.so\n"
}
