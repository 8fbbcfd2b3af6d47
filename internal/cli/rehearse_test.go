// Samba gives its own certificate a negative serial number every other time.
//
//go:debug x509negativeserial=1
package cli_test

import (
	"crypto/tls"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"

	"sternledger/internal/core/forecast"
	"sternledger/internal/core/rehearse"
	"sternledger/internal/labtest"
)

// rehearsal is one account's timeline, played on the real thing: tries stand
// on even seconds and the lockouts have odd times, so that nothing happens at
// the very end of a window or lock.
type rehearsal struct {
	name    string
	lockout forecast.Lockout
	tries   []rehearse.SignIn
}

// rehearsals makes some, for accounts r0, r1 and so on.
func rehearsals(seed uint64, n int, lockouts ...forecast.Lockout) []rehearsal {
	rnd := rand.New(rand.NewPCG(seed, 1))
	var all []rehearsal
	for i := range n {
		r := rehearsal{name: fmt.Sprintf("r%d", i), lockout: lockouts[i%len(lockouts)]}
		for at := int64(0); at <= 22; at += 2 {
			for range 1 + rnd.IntN(2) {
				r.tries = append(r.tries, rehearse.SignIn{Seconds: at, With: rehearse.Password(min(1, max(0, 1-rnd.IntN(3))))})
			}
		}
		all = append(all, r)
	}
	return all
}

// playReal signs in as the timelines say, all accounts side by side, and
// compares who is let in with the rehearsal. Where the machine is busy with other
// things, answers come too late to be compared: it is played again.
func playReal(t *testing.T, all []rehearsal, by forecast.Counting, signIn func(name string, right bool) bool) {
	t.Helper()
	const enough, longest = 60, 10 * time.Second // of tries; of the locks and windows
	compared := 0
	for range 4 {
		for _, r := range all { // what is done once is done, and no failure is left
			signIn(r.name, true)
		}
		if compared = playOnce(t, all, by, signIn); compared >= enough || t.Failed() {
			return
		}
		time.Sleep(longest)
	}
	t.Errorf("the machine is too slow: only %d tries compared", compared)
}

func playOnce(t *testing.T, all []rehearsal, by forecast.Counting, signIn func(name string, right bool) bool) int {
	t.Helper()
	// Servers note the time of a failure in whole seconds, so tries stand a
	// little behind the second.
	start := time.Now().Truncate(time.Second).Add(1200 * time.Millisecond)
	var wait sync.WaitGroup
	var compared, late atomic.Int64
	for _, r := range all {
		r.lockout.Counting = by
		wait.Go(func() {
			var expect []bool
			for _, e := range rehearse.Play(r.lockout, r.tries) {
				switch e.Kind {
				case rehearse.Failure, rehearse.Refused:
					expect = append(expect, false)
				case rehearse.Success:
					expect = append(expect, true)
				}
			}
			for i, try := range r.tries {
				time.Sleep(time.Until(start.Add(time.Duration(try.Seconds) * time.Second)))
				got := signIn(r.name, try.With == rehearse.Right)
				if time.Since(start)-time.Duration(try.Seconds)*time.Second > 800*time.Millisecond {
					late.Add(1) // in another second than rehearsed: nothing after it can be compared
					return
				}
				if compared.Add(1); got != expect[i] {
					t.Errorf("%s %+v: try %d (%+v) let in %v, rehearsed %v\n%+v", r.name, r.lockout, i, try, got, expect[i], r.tries)
					return
				}
			}
		})
	}
	wait.Wait()
	t.Logf("%d timelines played, %d tries compared, %d timelines left by a late answer", len(all), compared.Load(), late.Load())
	return int(compared.Load())
}

var shortLocks = []forecast.Lockout{
	{Known: true, Threshold: 2, Window: 5, Duration: 5}, {Known: true, Threshold: 3, Window: 3, Duration: 7},
	{Known: true, Threshold: 3, Window: 9, Duration: 3}, {Known: true, Threshold: 4, Window: 7, Duration: 9},
}

// A real domain locks and opens as is rehearsed.
func TestRealRehearsalDomain(t *testing.T) {
	labtest.Wanted(t)
	t.Parallel()
	d := newDirectory(t)
	all := rehearsals(11, 12, shortLocks...)
	var add strings.Builder
	base := "DC=marrowick,DC=example"
	for _, r := range all {
		fmt.Fprintf(&add, "dn: CN=%s,CN=Users,%s\nobjectClass: user\nsAMAccountName: %s\nuserAccountControl: 512\n\n", r.name, base, r.name)
	}
	for i, r := range all {
		fmt.Fprintf(&add, "dn: CN=p%d,CN=Password Settings Container,CN=System,%s\nobjectClass: "+
			"msDS-PasswordSettings\nmsDS-PasswordSettingsPrecedence: %d\nmsDS-MinimumPasswordLength: 7\nmsDS-PasswordComplexityEnabled: FALSE\n"+
			"msDS-PasswordHistoryLength: 0\nmsDS-MaximumPasswordAge: -9223372036854775808\nmsDS-MinimumPasswordAge: "+
			"0\nmsDS-LockoutThreshold: %d\nmsDS-LockoutDuration: %d\nmsDS-LockoutObservationWindow: "+
			"%d\nmsDS-PasswordReversibleEncryptionEnabled: FALSE\nmsDS-PSOAppliesTo: CN=%s,CN=Users,%s\n\n",
			i, base, i+1, r.lockout.Threshold, -r.lockout.Duration*10_000_000, -r.lockout.Window*10_000_000, r.name, base)
	}
	d.lab("add", d.dir, write(t, filepath.Join(t.TempDir(), "add.ldif"), add.String()))
	for _, r := range all {
		if out, err := exec.Command("samba-tool", "user", "setpassword", r.name, "--newpassword=Quay-Light-7x", "-s",
			filepath.Join(d.dir, "dc/etc/smb.conf")).CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
	d.serve()
	playReal(t, all, forecast.Quiet, func(name string, right bool) bool {
		password := map[bool]string{true: "Quay-Light-7x", false: "wrong"}[right]
		conn, err := ldap.DialURL("ldaps://127.0.0.1", ldap.DialWithTLSConfig(&tls.Config{InsecureSkipVerify: true}))
		if err != nil {
			t.Error(err)
			return false
		}
		defer conn.Close()
		return conn.Bind(name+"@marrowick.example", password) == nil
	})
}

// An LDAP server with the policy overlay does, too.
func TestRealRehearsalLDAP(t *testing.T) {
	labtest.Wanted(t)
	t.Parallel()
	all := rehearsals(12, 12, shortLocks...)
	var people []string
	policies := ""
	for i, r := range all {
		people = append(people, fmt.Sprintf("%s:lock%d", r.name, i))
		policies += fmt.Sprintf("dn: cn=lock%d,ou=policies,dc=club,dc=example\nobjectClass: pwdPolicy\nobjectClass: "+
			"organizationalRole\ncn: lock%d\npwdAttribute: userPassword\npwdLockout: TRUE\npwdMaxFailure: %d\npwdLockoutDuration: "+
			"%d\npwdFailureCountInterval: %d\n\n",
			i, i, r.lockout.Threshold, r.lockout.Duration, r.lockout.Window)
	}
	c := newClub(t, "overlay ppolicy\n", policies, people...)
	playReal(t, all, forecast.Spared, func(name string, right bool) bool {
		return c.signsIn(name, map[bool]string{true: firstPassword, false: "wrong"}[right])
	})
}

// And so does the module of a Unix machine; only the module that checks the
// password is replaced by one that answers as told.
func TestRealRehearsalUnix(t *testing.T) {
	labtest.Wanted(t)
	t.Parallel()
	tester, err := exec.LookPath("pamtester")
	if err != nil || os.Getuid() != 0 {
		labtest.Lacking(t, "no pamtester, or not root; Debian's package pamtester has it")
	}
	all := rehearsals(13, 12, shortLocks...)
	for _, r := range all {
		records := t.TempDir()
		options := fmt.Sprintf("silent nodelay dir=%s deny=%d unlock_time=%d fail_interval=%d", records, r.lockout.Threshold,
			r.lockout.Duration, r.lockout.Window)
		for answer, service := range map[string]string{"success": "sternledger-right-" + r.name, "auth_err": "sternledger-wrong-" + r.name} {
			stack := "auth required pam_faillock.so preauth " + options + "\nauth [success=1 default=ignore] pam_debug.so auth=" + answer +
				"\nauth [default=die] pam_faillock.so authfail " + options +
				"\nauth sufficient pam_faillock.so authsucc " + options + "\n"
			if err := os.WriteFile("/etc/pam.d/"+service, []byte(stack), 0o644); err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { os.Remove("/etc/pam.d/" + service) })
		}
	}
	playReal(t, all, forecast.Sliding, func(name string, right bool) bool {
		service := map[bool]string{true: "sternledger-right-", false: "sternledger-wrong-"}[right] + name
		out, _ := exec.Command(tester, service, "daemon", "authenticate").CombinedOutput()
		return strings.Contains(string(out), "successfully authenticated")
	})
}

// The command: series and timelines, scopes and accounts, and what is wrong
// with them.
func TestRehearse(t *testing.T) {
	beside(t)
	dir := harbour(t)
	audit := filepath.Join(dir, "audit")
	told := func(args ...string) string {
		d := document(t, audit, append([]string{"rehearse"}, args...)...)
		return fmt.Sprintln(at(d, "summary", "failures"), at(d, "summary", "locks"), at(d, "summary", "refused"),
			at(d, "summary", "first_lock_seconds"), len(d["notes"].([]any)))
	}
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"--scope", "marrowick.example / Pilots", "--tries", "4", "--every", "15m", "--for", "62h"}, "992 0 0 <nil> 0"},
		{[]string{"--scope", "marrowick.example / Pilots", "--tries", "5", "--every", "15m", "--for", "62h"}, "1240 248 0 0 0"},
		{[]string{"--account", "w.lowe", "--tries", "100", "--every", "1h", "--for", "1d"}, "2400 0 0 <nil> 0"},
		{[]string{"--account", "o.pike", "--tries", "1", "--every", "1m", "--for", "1h"}, "3 1 57 120 0"},
		{[]string{"--account", "gateop", "--authority", "gate1", "--tries", "6", "--every", "5m", "--for", "30m"}, "10 2 26 0 0"},
		{[]string{"--account", "a.ledge@marrowick.example", "--tries", "5", "--every", "1h", "--for", "1h"}, "5 1 0 0 0"},
		{[]string{"--scope", "marrowick.example / domain default / standard", "--tries", "1", "--every", "1h", "--for", "2h"}, "2 0 0 <nil> 0"},
	} {
		if got := strings.TrimSpace(told(c.args...)); got != c.want {
			t.Errorf("%v: %s, want %s", c.args, got, c.want)
		}
	}
	// Where evidence disagrees, it is said; where a domain has no template, there
	// is nothing to disagree with.
	for scope, want := range map[string]string{
		"gate3 / machine / standard": "barrier, sshd: never locks; login: stronger",
		"marrowickharbour.cloud.example / domain default of marrowick.example": "at the door of marrowick.example, whose accounts these are",
		"outer-light.marrowick.example / domain default":                       "[]", "marrowick.example / domain default / standard": "[]",
	} {
		if got := fmt.Sprint(document(t, audit, "rehearse", "--scope", scope, "--for", "1h")["notes"]); !strings.Contains(got, want) {
			t.Errorf("%s: %s, want %s", scope, got, want)
		}
	}
	file := filepath.Join(dir,
		"exports/sysvol/marrowick.example/Policies/{31B2F340-016D-11D2-945F-00C04FB984F9}/Machine/Microsoft/Windows NT/SecEdit/GptTmpl.inf")
	template, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	wide := func(text string) string { return strings.Join(strings.Split(text, ""), "\x00") + "\x00" } // UTF-16
	write(t, file, strings.Replace(string(template), wide("LockoutBadCount = 10"), wide("LockoutBadCount = 7"), 1))
	must(t, audit, "gather", filepath.Join(dir, "exports/sysvol"))
	if got := fmt.Sprint(document(t, audit, "rehearse", "--scope", "marrowick.example / domain default / standard", "--for",
		"1h")["notes"]); !strings.Contains(got, "the domain enforces 10 failed attempts") || !strings.Contains(got, "configures 7 failed attempts") {
		t.Errorf("a template of another threshold: %s", got)
	}
	timeline := write(t, filepath.Join(t.TempDir(), "t.txt"), "0 wrong\n1m wrong\n2m wrong\n3m right\n")
	if got := strings.TrimSpace(told("--account", "n.farrow", "--timeline", timeline)); got != "3 1 1 120 0" {
		t.Errorf("timeline: %s", got)
	}
	bad := write(t, filepath.Join(t.TempDir(), "bad.txt"), "5m wrong\n4m wrong\n")
	for _, c := range []struct {
		args []string
		say  string
	}{
		{[]string{}, "--scope, or --account"}, {[]string{"--account", "nobody"}, "no account"}, {[]string{"--scope", "x"}, "known are"},
		{[]string{"--account", "w.lowe", "--timeline", bad}, "bad.txt:2: \"4m\" is before"},
		{[]string{"--account", "w.lowe", "--timeline", "absent"}, "no such file"},
		{[]string{"--account", "w.lowe", "--every", "10"}, "expected a time with its unit"},
		{[]string{"--account", "w.lowe", "--tries", "-1"}, "at least 1 try"},
		{[]string{"--account", "r.keel"}, "is not known: lockout-threshold"},
	} {
		if _, errs, status := run(t, audit, append([]string{"rehearse"}, c.args...)...); status == 0 || !strings.Contains(errs, c.say) {
			t.Errorf("%v: %d %s", c.args, status, errs)
		}
	}
}
