package cli_test

import (
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"sternledger/internal/ledger"
)

// manyAccounts writes an export that takes a moment to read.
func manyAccounts(domain string, n int) string {
	var b strings.Builder
	b.WriteString(strings.ReplaceAll(smallHead, "DC=x", "DC="+domain))
	for i := range n {
		fmt.Fprintf(&b, "\ndn: CN=Crew %d,OU=Quays,DC=%s,DC=example\nobjectClass: user\nsAMAccountName: crew%d\nuserAccountControl: "+
			"512\nprimaryGroupID: 513\nunicodePwd:: U2VjcmV0UGxhbnRlZA==\n", i, domain, i)
	}
	return b.String()
}

// sound proves that an engagement is whole: the chain holds, every file of
// evidence is there as recorded, and nothing else is.
func sound(t *testing.T, dir string) (entries int) {
	t.Helper()
	l, err := ledger.Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if err := l.CheckChain(); err != nil {
		t.Fatal(err)
	}
	all, err := l.Entries()
	if err != nil {
		t.Fatal(err)
	}
	evidence, err := l.Evidence()
	if err != nil {
		t.Fatal(err)
	}
	recorded := map[string]string{}
	for _, e := range evidence {
		recorded[e.Name] = e.StoredSHA256
	}
	filepath.WalkDir(filepath.Join(dir, "evidence"), func(file string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		name, _ := filepath.Rel(filepath.Join(dir, "evidence"), file)
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatalf("left behind: %v", err)
		}
		sum := sha256.Sum256(data)
		if recorded[filepath.ToSlash(name)] != hex.EncodeToString(sum[:]) {
			t.Errorf("%s is not what the ledger says", name)
		}
		delete(recorded, filepath.ToSlash(name))
		return nil
	})
	for name := range recorded {
		t.Errorf("%s is in the ledger and not in evidence/", name)
	}
	current, err := l.Current(ledger.Aside{})
	if err != nil {
		t.Fatal(err)
	}
	if len(evidence) == 0 != (len(current) == 0) {
		t.Errorf("%d files of evidence, facts about %d subjects", len(evidence), len(current))
	}
	return len(all)
}

// Killed at any moment, a gather, a weighing or a report is there whole or not
// at all, and the ledger always verifies.
func TestKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	src := t.TempDir()
	rnd := rand.New(rand.NewPCG(3, 4))
	killed, done := 0, 0
	often := 8 // STERNLEDGER_KILLS tries others; each is 25 commands
	if n, err := strconv.Atoi(os.Getenv("STERNLEDGER_KILLS")); err == nil {
		often = n
	}
	for range often {
		dir := begin(t)
		must(t, dir, "gather", write(t, filepath.Join(src, "first.ldif"), manyAccounts("d0", 1500)))
		must(t, dir, "weigh")
		page := filepath.Join(dir, "report.html")
		for i := range 25 {
			name := fmt.Sprintf("d%d", i%3)
			args := []string{"gather", write(t, filepath.Join(src, name+".ldif"), manyAccounts(name, 2500+i))}
			fresh := filepath.Join(filepath.Dir(dir), fmt.Sprintf("%s-%d", filepath.Base(dir), i))
			switch i % 8 {
			case 1:
				args = []string{"amend", "--to", fresh}
			case 2:
				args = []string{"weigh"}
			case 3:
				args = []string{"waive", "--setting", "max-age", "--scope", "*", "--until", inAYear(), "--reason", "x"}
			case 4:
				args = []string{"report", "--replace", "--to", page}
			case 5:
				args = []string{"pack", fresh + ".zip"}
			case 6:
				args = []string{"begin", fresh}
			case 7:
				args = []string{"set-aside", "first.ldif", "--reason", "x"}
			}
			cmd := start(t, func() *exec.Cmd {
				cmd := exec.Command(program, args...)
				cmd.Dir = dir
				return cmd
			})
			time.Sleep(time.Duration(rnd.IntN(90)) * time.Millisecond)
			cmd.Process.Kill()
			if cmd.Wait() == nil {
				done++
			} else {
				killed++
			}
			if data, err := os.ReadFile(page); err == nil && !strings.HasSuffix(string(data), "</html>\n") {
				t.Errorf("half a report of %d bytes", len(data))
			}
			switch args[0] { // whole, or not there
			case "amend":
				if _, err := os.Stat(fresh); err == nil {
					if _, err := os.Stat(filepath.Join(fresh, "CHANGE.md")); err != nil {
						t.Errorf("half of the change files: %v", err)
					}
				}
			case "pack":
				if _, err := os.Stat(fresh + ".zip"); err == nil {
					must(t, dir, "begin", fresh+"-again", "--from", fresh+".zip")
				}
			case "begin":
				if _, err := os.Stat(fresh); err == nil {
					must(t, fresh, "verify")
				}
			}
			run(t, dir, "scopes", "--format", "csv") // settles what was left
			sound(t, dir)
			if i%5 == 3 {
				must(t, dir, "verify")
			}
		}
	}
	if killed < 60 {
		t.Errorf("%d killed, %d done: the test kills too late", killed, done)
	}
	t.Logf("%d killed, %d done", killed, done)
}

// A ledger that is not ours, newer, or damaged is left as it is.
func TestForeignLedger(t *testing.T) {
	beside(t)
	for name, c := range map[string]struct{ change, say string }{
		"newer":     {"PRAGMA user_version = 9", "was written by a newer program"},
		"not ours":  {"PRAGMA application_id = 7", "not a ledger"},
		"no ledger": {"", "not a ledger"},
	} {
		dir := begin(t)
		file := filepath.Join(dir, ledger.FileName)
		if c.change == "" {
			write(t, file, strings.Repeat("tide table ", 500))
		} else {
			db, err := sql.Open("sqlite", file)
			if err != nil {
				t.Fatal(err)
			}
			if _, err := db.Exec(c.change); err != nil {
				t.Fatal(err)
			}
			db.Close()
		}
		before, _ := os.ReadFile(file)
		for _, args := range [][]string{{"scopes"}, {"gather", write(t, filepath.Join(t.TempDir(), "x.ldif"), smallHead)}, {"weigh"}} {
			if _, errs, status := run(t, dir, args...); status != 1 || !strings.Contains(errs, c.say) {
				t.Errorf("%s, %s: %d %s", name, args[0], status, errs)
			}
		}
		if after, _ := os.ReadFile(file); string(after) != string(before) {
			t.Errorf("%s: the file was changed", name)
		}
	}
}

// The password of a live source comes from a file, the variable or a terminal,
// and where there is none that is said.
func TestPasswordOfALiveSource(t *testing.T) {
	dir := begin(t)
	const nobody = "ldaps://127.0.0.1:9"
	if _, errs, status := run(t, dir, "gather", nobody, "--bind", "me"); status != 1 || !strings.Contains(errs, "STERNLEDGER_PASSWORD") {
		t.Errorf("no password: %d %s", status, errs)
	}
	if _, errs, status := run(t, dir, "gather", nobody, "--bind", "me", "--password-file", filepath.Join(dir, "absent")); status != 1 ||
		!strings.Contains(errs, "--password-file") {
		t.Errorf("no such file: %d %s", status, errs)
	}
	t.Setenv("STERNLEDGER_PASSWORD", "Lantern-1")
	if _, errs, status := run(t, dir, "gather", nobody, "--bind", "me"); status != 1 || !strings.Contains(errs, "no connection") {
		t.Errorf("by the variable: %d %s", status, errs)
	}
}

// Two programs on one ledger wait for each other.
func TestTwoAtOnce(t *testing.T) {
	beside(t)
	dir, src := begin(t), t.TempDir()
	must(t, dir, "gather", write(t, filepath.Join(src, "x.ldif"), smallHead+smallUser))
	must(t, dir, "weigh")
	var wait sync.WaitGroup
	for i := range 16 {
		wait.Go(func() {
			args := []string{"gather", write(t, filepath.Join(src, fmt.Sprintf("d%d.ldif", i)), manyAccounts(fmt.Sprintf("d%d", i), 1500))}
			switch i % 4 {
			case 1:
				args = []string{"weigh", "--format", "csv"}
			case 2:
				args = []string{"waive", "--setting", "min-length", "--scope", "x.example*", "--until", inAYear(), "--reason", fmt.Sprint(i)}
			case 3:
				args = []string{"verify"}
			}
			if out, err := runIn(dir, args...); err != nil {
				t.Errorf("%v: %v\n%s", args, err, out)
			}
		})
	}
	wait.Wait()
	if n := sound(t, dir); n < 3+8 || n > 3+12 { // a weighing that says nothing new is not recorded
		t.Errorf("%d entries, want 11 to 15", n)
	}
	// What was added while a weighing was made is no part of it.
	must(t, dir, "verify")
}

func runIn(dir string, args ...string) (string, error) {
	for try := 0; ; try++ {
		cmd := exec.Command(program, args...)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		if err == nil || cmd.ProcessState != nil || runtime.GOOS != "windows" || try == 5 { // see start
			return string(out), err
		}
	}
}

// A disk that is full leaves the engagement as it was.
func TestFullDisk(t *testing.T) {
	beside(t)
	posix(t)
	dir, src := begin(t), t.TempDir()
	must(t, dir, "gather", write(t, filepath.Join(src, "x.ldif"), smallHead+smallUser))
	before := sound(t, dir)
	big := write(t, filepath.Join(src, "big.ldif"), manyAccounts("big", 20000))
	for _, blocks := range []string{"300", "900"} { // of 1024 bytes: the copy fails, or the ledger does
		cmd := exec.Command("bash", "-c", "trap '' XFSZ; ulimit -f "+blocks+"; exec \"$0\" gather \"$1\"", program, big)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		if err == nil || !strings.HasPrefix(string(out), "sternledger: ") || strings.Contains(string(out), "goroutine") {
			t.Errorf("%s blocks: %v\n%s", blocks, err, out)
		}
		if after := sound(t, dir); after != before {
			t.Errorf("%s blocks: %d entries, before %d", blocks, after, before)
		}
	}
	must(t, dir, "gather", big)
	sound(t, dir)
}

// Names from outside never become paths, links are not followed, and whatever
// a terminal would obey is shown.
func TestHostileNames(t *testing.T) {
	beside(t)
	posix(t)
	dir, src := begin(t), t.TempDir()
	domain := func(i int) string { return strings.ReplaceAll(smallHead, "DC=x", fmt.Sprintf("DC=d%d", i)) }
	names := []string{"..-..-etc-passwd.ldif", "-rf.ldif", ".hidden.ldif", "quay ⚓ \x1b[31m.ldif", "CON.ldif",
		strings.Repeat("long", 50) + ".ldif", "a'b\"c.ldif", "UP.LDIF", "up.ldif"}
	for i, name := range names {
		write(t, filepath.Join(src, "exports", name), domain(i))
	}
	if err := os.Symlink("/etc/passwd", filepath.Join(src, "exports", "link.ldif")); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(src, filepath.Join(src, "exports", "round")); err != nil {
		t.Fatal(err)
	}
	out := must(t, dir, "gather", filepath.Join(src, "exports"))
	if strings.Contains(out, "\x1b") || !strings.Contains(out, "links are not followed") {
		t.Errorf("%q", out)
	}
	sound(t, dir)
	files, _ := os.ReadDir(filepath.Join(dir, "evidence"))
	if len(files) != len(names) {
		t.Errorf("%d files of %d", len(files), len(names))
	}
	for _, f := range files {
		if n := f.Name(); strings.ContainsAny(n, "/\\ '\"\x1b") || strings.HasPrefix(n, ".") || strings.HasPrefix(n, "-") || len(n) > 80 {
			t.Errorf("stored as %q", n)
		}
	}
	user := "\ndn: CN=\x1b]0;x\x07Bo,DC=d0,DC=example\nobjectClass: user\nsAMAccountName: \x1b[2Jbo\xe2\x80\xae\nuserAccountControl: 512\n"
	must(t, dir, "gather", write(t, filepath.Join(src, "user.ldif"), user))
	for _, args := range [][]string{{"accounts"}, {"accounts", "--format", "markdown"}, {"trace", "\x1b[2Jbo\xe2\x80\xae"},
		{"trace", "\x1b[nobody"}, {"__complete", "trace", ""}} {
		out, errs, _ := run(t, dir, args...)
		if strings.ContainsAny(out+errs, "\x1b\x07\u202e") {
			t.Errorf("%v: %q %q", args, out, errs)
		}
	}
}

// One domain's records over several files and several domains in one file come
// to the same facts as each in its own.
func TestFilesInPieces(t *testing.T) {
	beside(t)
	group := "\ndn: CN=G,DC=x,DC=example\nobjectClass: group\nsAMAccountName: G\ngroupType: -2147483646\n"
	first := smallHead + group + "member;range=0-0: CN=Ada,DC=x,DC=example\n"
	second := group + "member;range=1-*: CN=Bo,DC=x,DC=example\n" + smallUser +
		strings.ReplaceAll(strings.ReplaceAll(smallUser, "Ada", "Bo"), "ada", "bo")
	policy := policyRecord("P",
		"objectGUID: bb5ced36-1260-49e4-b4d3-f3388a6e7ba4\nmsDS-PasswordSettingsPrecedence: 1\nmsDS-PSOAppliesTo: CN=G,DC=x,DC=example\n")
	yard := "\n" + strings.ReplaceAll(smallHead+smallUser, "DC=x", "DC=yard,DC=x")
	answers := map[string]string{}
	for name, files := range map[string][]string{
		"one file":        {first + second + policy + yard},
		"three files":     {first, second + yard, policy},
		"policies first":  {policy, yard, second, first},
		"gather by piece": {first, "gather", second + policy, "gather", yard},
	} {
		dir, src := begin(t), t.TempDir()
		args := []string{"gather"}
		for i, text := range files {
			if text == "gather" {
				must(t, dir, args...)
				args = []string{"gather"}
				continue
			}
			args = append(args, write(t, filepath.Join(src, fmt.Sprintf("%d.ldif", i)), text))
		}
		must(t, dir, args...)
		answers[name] = must(t, dir, "accounts", "--format", "csv")
		if found := checksIn(t, dir); found["member-unknown"] != nil {
			t.Errorf("%s: %v", name, found["member-unknown"])
		}
	}
	for name, got := range answers {
		if got != answers["one file"] || strings.Count(got, "group,G") != 2 {
			t.Errorf("%s:\n%s\none file:\n%s", name, got, answers["one file"])
		}
	}
}
