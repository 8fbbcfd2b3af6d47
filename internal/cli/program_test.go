package cli_test

import (
	"bytes"
	"crypto/sha256"
	"debug/buildinfo"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"sternledger/schemas"
)

var program string

func TestMain(m *testing.M) {
	// Where no compiler is, such as under wine, it was built before.
	if program = os.Getenv("STERNLEDGER_PROGRAM"); program != "" {
		status := m.Run()
		if made != "" {
			os.RemoveAll(filepath.Dir(made))
		}
		os.Exit(status)
	}
	dir, err := os.MkdirTemp("", "sternledger-test-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "sternledger")
	build := exec.Command("go", "build", "-o", program, "sternledger/cmd/sternledger")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "%s%v\n", out, err)
		os.Exit(1)
	}
	status := m.Run()
	os.RemoveAll(dir)
	if made != "" {
		os.RemoveAll(filepath.Dir(made))
	}
	os.Exit(status)
}

// beside lets a test run beside others. With the labs it does not: some of their tests
// look at the clock.
func beside(t *testing.T) {
	t.Helper()
	if os.Getenv("STERNLEDGER_LABS") == "" {
		t.Parallel()
	}
}

// demonstrated is the demo, which the program makes once.
var demonstrated = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "sternledger-harbour-")
	if err != nil {
		return "", err
	}
	made = filepath.Join(dir, "harbour")
	out, err := exec.Command(program, "demo", made, "--quiet").CombinedOutput()
	if err != nil {
		err = fmt.Errorf("%w: %s", err, out)
	}
	return made, err
})

// made is where it lies; empty: nobody asked for it.
var made string

// harbour is a copy of the demo for one test: its exports, and the engagement in audit.
func harbour(t testing.TB) string {
	t.Helper()
	from, err := demonstrated()
	if err != nil {
		t.Fatal(err)
	}
	to := filepath.Join(t.TempDir(), "harbour")
	err = filepath.WalkDir(from, func(file string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		inner, _ := filepath.Rel(from, file)
		copied := filepath.Join(to, inner)
		info, err := d.Info()
		if err != nil {
			return err
		}
		if d.IsDir() {
			return os.MkdirAll(copied, 0o700)
		}
		data, err := os.ReadFile(file)
		if err == nil {
			err = os.WriteFile(copied, data, info.Mode())
		}
		if err == nil { // gather looks at how old files are
			err = os.Chtimes(copied, info.ModTime(), info.ModTime())
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return to
}

// run runs the built program in dir.
func run(t testing.TB, dir string, args ...string) (out, errs string, status int) {
	t.Helper()
	return runWith(t, "", dir, args...)
}

// runWith does so with a further variable of the environment, "NAME=value".
func runWith(t testing.TB, variable, dir string, args ...string) (out, errs string, status int) {
	t.Helper()
	var stdout, stderr bytes.Buffer
	cmd := start(t, func() *exec.Cmd {
		cmd := exec.Command(program, args...)
		cmd.Dir, cmd.Stdout, cmd.Stderr = dir, &stdout, &stderr
		if variable != "" {
			cmd.Env = append(os.Environ(), variable)
		}
		return cmd
	})
	var exit *exec.ExitError
	if err := cmd.Wait(); errors.As(err, &exit) {
		status = exit.ExitCode()
	} else if err != nil {
		t.Fatal(err)
	}
	return stdout.String(), notThere.Replace(stderr.String()), status
}

// start starts a program. Wine now and then says "Internal error" instead of
// starting one, which is nothing that the program does: there it is tried again.
func start(t testing.TB, command func() *exec.Cmd) *exec.Cmd {
	t.Helper()
	for try := 1; ; try++ {
		cmd := command()
		err := cmd.Start()
		if err == nil {
			return cmd
		}
		if runtime.GOOS != "windows" || try == 5 {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(try) * time.Second)
	}
}

// notThere puts into one form what systems say of a file that is not there.
var notThere = strings.NewReplacer("File not found.", "no such file or directory", "Path not found.", "no such file or directory",
	"The system cannot find the file specified.", "no such file or directory", "The system cannot find the path specified.",
	"no such file or directory")

// posix skips a test that needs the tools, or the names of files, of such systems.
func posix(t *testing.T) {
	t.Helper()
	if runtime.GOOS == "windows" {
		t.Skip("Windows has none of these")
	}
}

// must runs the program and expects it to succeed.
func must(t testing.TB, dir string, args ...string) string {
	t.Helper()
	out, errs, status := run(t, dir, args...)
	if status != 0 {
		t.Fatalf("sternledger %s: status %d\n%s", strings.Join(args, " "), status, errs)
	}
	return out
}

// begin starts an engagement in a new folder.
func begin(t testing.TB) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "audit")
	must(t, ".", "begin", dir, "--title", "T", "--auditor", "R. Quill")
	return dir
}

func write(t testing.TB, file, text string) string {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return file
}

// document runs a command with --format json, holds the output against its
// schema, and decodes it.
func document(t testing.TB, dir string, args ...string) map[string]any {
	t.Helper()
	out := must(t, dir, append(args, "--format", "json")...)
	name := args[0]
	switch {
	case name == "trace" && slices.Contains(args, "--policy"):
		name = "trace-policy"
	case name == "amend" && slices.Contains(args, "--status"):
		name = "amend-status"
	case name == "baseline":
		name += "-" + args[1]
	}
	schema, err := schemas.Files.ReadFile(name + ".json")
	if err != nil {
		t.Fatal(err)
	}
	parsed, err := jsonschema.UnmarshalJSON(bytes.NewReader(schema))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("s.json", parsed); err != nil {
		t.Fatal(err)
	}
	instance, err := jsonschema.UnmarshalJSON(strings.NewReader(out))
	if err != nil {
		t.Fatal(err)
	}
	if err := c.MustCompile("s.json").Validate(instance); err != nil {
		t.Errorf("%s: %v", args[0], err)
	}
	var doc map[string]any
	if err := json.Unmarshal([]byte(out), &doc); err != nil {
		t.Fatal(err)
	}
	return doc
}

// at walks into a decoded document: names for objects, numbers for arrays.
func at(doc any, path ...any) any {
	for _, step := range path {
		switch step := step.(type) {
		case string:
			m, _ := doc.(map[string]any)
			doc = m[step]
		case int:
			a, _ := doc.([]any)
			if step >= len(a) {
				return nil
			}
			doc = a[step]
		}
	}
	return doc
}

const smallHead = "dn: DC=x,DC=example\nobjectClass: domainDNS\nobjectSid: S-1-5-21-1-2-3\nminPwdLength: 10\nmaxPwdAge: " +
	"-25920000000000\nminPwdAge: 0\nlockoutThreshold: 3\nlockoutDuration: -9223372036854775808\nlockOutObservationWindow: " +
	"-18000000000\npwdHistoryLength: 24\npwdProperties: 1\n" +
	"\ndn: CN=Password Settings Container,CN=System,DC=x,DC=example\nobjectClass: msDS-PasswordSettingsContainer\n"

const smallUser = "\ndn: CN=Ada,DC=x,DC=example\nobjectClass: user\nsAMAccountName: ada\nuserAccountControl: " +
	"512\nprimaryGroupID: 513\nunicodePwd:: U2VjcmV0UGxhbnRlZA==\n"

func TestDemoDoesTheWholeJob(t *testing.T) {
	beside(t)
	dir := filepath.Join(t.TempDir(), "harbour")
	out := must(t, ".", "demo", dir)
	for _, want := range []string{"$ sternledger begin", "$ sternledger -C", "gather", "trace", "weigh", "Try next:",
		"governed by│ Executives", "An account has an empty password"} {
		if !strings.Contains(out, want) {
			t.Errorf("the demo does not show %q", want)
		}
	}
	if n := strings.Count(out, "\n"); n > 180 {
		t.Errorf("the demo takes %d lines", n)
	}
	audit := filepath.Join(dir, "audit")
	doc := document(t, audit, "scopes")
	for _, scope := range doc["scopes"].([]any) {
		for id, s := range at(scope, "settings").(map[string]any) {
			checkEvidence(t, audit, id, s.(map[string]any))
		}
	}
	weighing := document(t, audit, "weigh")
	if at(weighing, "weighing") != 1.0 || at(weighing, "recorded") != false {
		t.Errorf("looking once more: weighing %v, recorded %v", at(weighing, "weighing"), at(weighing, "recorded"))
	}
	first, second := must(t, audit, "scopes", "--format", "json"), must(t, audit, "scopes", "--format", "json")
	if first != second {
		t.Error("two runs on the same evidence differ")
	}
	if _, errs, status := run(t, ".", "demo", dir); status != 1 || !strings.Contains(errs, "not empty") {
		t.Errorf("a folder with something in it: %d %s", status, errs)
	}
}

// checkEvidence opens the cited file at the cited line and looks for the value.
func checkEvidence(t *testing.T, audit, id string, s map[string]any) {
	t.Helper()
	cite, _ := s["evidence"].(string)
	if cite == "" {
		return
	}
	name, line, _ := strings.Cut(cite, ":")
	data, err := os.ReadFile(filepath.Join(audit, "evidence", name))
	if err != nil {
		t.Fatal(err)
	}
	if len(data) > 1 && data[0] == 0xff {
		data = bytes.ReplaceAll(data, []byte{0}, nil)
	}
	n := 0
	fmt.Sscan(line, &n)
	lines := strings.Split(string(data), "\n")
	if raw, _ := s["raw"].(string); n < 1 || n > len(lines) || !strings.Contains(lines[n-1], raw) {
		t.Errorf("%s: %s does not show %q", id, cite, s["raw"])
	}
}

func TestGatherIsOneChange(t *testing.T) {
	beside(t)
	dir := begin(t)
	src := t.TempDir()
	good := write(t, filepath.Join(src, "good.ldif"), smallHead+smallUser)
	png := "\x89PNG\r\n\x1a\n\x00\x00"
	before := folder(t, dir)
	for _, c := range []struct {
		name, file, text string
		say              []string
	}{
		{"empty file", "empty.ldif", "", []string{"empty.ldif", "the file is empty", "expected"}},
		{"a picture", "quay.png", png, []string{"quay.png", "a picture: not supported", "gather --sheet-template"}},
		{"cut in base64", "cut.ldif", smallHead + "\ndn: CN=a,DC=x,DC=example\njpegPhoto:: QUJDRA",
			[]string{"cut.ldif:17", "middle of a base64 value"}},
		{"INF without account settings", "rights.inf", "[Unicode]\nUnicode=yes\n[Privilege Rights]\nSeX = *S-1-5-32\n",
			[]string{"rights.inf", "no section [System Access]"}},
		{"head without settings", "head.ldif", "dn: DC=y,DC=example\nobjectClass: domainDNS\nobjectSid: S-1-5-21-1-2-3\n",
			[]string{"head.ldif:1", "none of the password and lockout attributes"}},
		{"threshold out of range", "minus.ldif", strings.Replace(smallHead, "lockoutThreshold: 3", "lockoutThreshold: -3", 1),
			[]string{"minus.ldif:7", `"-3"`, "0 failed attempts to 65535 failed attempts", "--with-gaps"}},
		{"length out of range", "long.inf", "[System Access]\nMinimumPasswordLength = 900\n",
			[]string{"long.inf:2", `"900"`, "0 characters to 128 characters"}},
	} {
		bad := write(t, filepath.Join(src, "bad", c.file), c.text)
		out, errs, status := run(t, dir, "gather", good, bad)
		if status != 1 || out != "" {
			t.Errorf("%s: status %d, output %q", c.name, status, out)
		}
		for _, say := range c.say {
			if !strings.Contains(errs, say) {
				t.Errorf("%s: %q does not say %q", c.name, errs, say)
			}
		}
		if after := folder(t, dir); after != before {
			t.Errorf("%s: something was left behind:\n%s\nbefore:\n%s", c.name, after, before)
		}
		os.Remove(bad)
	}
	for name, args := range map[string][]string{
		"no such file": {"gather", filepath.Join(src, "absent")}, "empty folder": {"gather", t.TempDir()},
		"nothing known": {"gather", filepath.Dir(write(t, filepath.Join(t.TempDir(), "a.png"), png))},
	} {
		if _, errs, status := run(t, dir, args...); status != 1 || len(errs) < 40 {
			t.Errorf("%s: %d %q", name, status, errs)
		}
	}
	if _, _, status := run(t, dir, "gather"); status != 2 {
		t.Errorf("no source: status %d", status)
	}
}

// folder describes an engagement folder: names, and the ledger's entries.
func folder(t *testing.T, dir string) string {
	t.Helper()
	var names []string
	filepath.WalkDir(dir, func(p string, _ os.DirEntry, _ error) error {
		info, err := os.Lstat(p)
		if err == nil {
			names = append(names, fmt.Sprintf("%s %d", p, info.Size()))
		}
		return nil
	})
	return strings.Join(names, "\n")
}

func TestGatherAgainNewerAndPartial(t *testing.T) {
	beside(t)
	dir, src := begin(t), t.TempDir()
	first := write(t, filepath.Join(src, "x.ldif"), smallHead+smallUser)
	must(t, dir, "gather", first)
	before := folder(t, dir)
	if out := must(t, dir, "gather", first); !strings.Contains(out, "known since entry 2") || folder(t, dir) != before {
		t.Errorf("the same file again must change nothing:\n%s", out)
	}
	copied := write(t, filepath.Join(src, "copy of x.ldif"), smallHead+smallUser)
	if info, err := os.Stat(first); err == nil { // of the same day, to the second
		os.Chtimes(copied, info.ModTime(), info.ModTime())
	}
	if must(t, dir, "gather", copied); folder(t, dir) != before {
		t.Error("the same content under another name must change nothing")
	}
	value := func(id string) any { return at(document(t, dir, "scopes"), "scopes", 0, "settings", id, "value") }
	newer := write(t, filepath.Join(src, "later", "x.ldif"), strings.Replace(smallHead, "minPwdLength: 10", "minPwdLength: 12", 1)+smallUser)
	must(t, dir, "gather", newer)
	if value("min-length") != 12.0 {
		t.Errorf("a newer export must take the place of the older: %v", value("min-length"))
	}
	if cite := at(document(t, dir, "scopes"), "scopes", 0, "settings", "min-length", "evidence"); cite != "x-2.ldif:4" {
		t.Errorf("cited at %v", cite)
	}
	part := write(t, filepath.Join(src, "part.ldif"),
		"dn: CN=Bo,DC=x,DC=example\nobjectClass: user\nsAMAccountName: bo\nuserAccountControl: 512\n")
	must(t, dir, "gather", part)
	doc := document(t, dir, "scopes")
	if at(doc, "scopes", 0, "accounts") != 2.0 || value("min-length") != 12.0 {
		t.Errorf("a part must be joined to what is on record: %v accounts, %v", at(doc, "scopes", 0, "accounts"), value("min-length"))
	}
	headOnly := write(t, filepath.Join(src, "head.ldif"), strings.Replace(smallHead, "minPwdLength: 10", "minPwdLength: 14", 1))
	must(t, dir, "gather", headOnly)
	if doc := document(t, dir, "scopes"); at(doc, "scopes", 0, "accounts") != 2.0 || value("min-length") != 14.0 {
		t.Errorf("a newer head alone must keep the accounts: %v, %v", at(doc, "scopes", 0, "accounts"), value("min-length"))
	}
	stored, _ := os.ReadFile(filepath.Join(dir, "evidence", "x.ldif"))
	if !bytes.Contains(stored, []byte("unicodePwd: [struck out]")) {
		t.Errorf("the stored copy: %s", stored)
	}
	filepath.WalkDir(dir, func(p string, d os.DirEntry, _ error) error {
		if data, err := os.ReadFile(p); err == nil && (bytes.Contains(data, []byte("U2VjcmV0UGxhbnRlZA")) ||
			bytes.Contains(data, []byte("SecretPlanted"))) {
			t.Errorf("the planted secret is in %s", p)
		}
		return nil
	})
}

// What gather says of itself is a document too.
func TestGatherDocument(t *testing.T) {
	beside(t)
	dir, src := begin(t), t.TempDir()
	file := write(t, filepath.Join(src, "x.ldif"), smallHead+smallUser)
	write(t, filepath.Join(src, "notes.txt"), "read me")
	doc := document(t, dir, "gather", src)
	sum := sha256.Sum256([]byte(smallHead + smallUser))
	if at(doc, "entry") != 2.0 || at(doc, "files", 0, "sha256") != hex.EncodeToString(sum[:]) || at(doc, "files", 0, "struck") != 1.0 ||
		at(doc, "authorities", 0, "accounts") != 1.0 || at(doc, "authorities", 0, "settings") != 10.0 ||
		!strings.HasSuffix(at(doc, "passed", 0, "path").(string), "notes.txt") {
		t.Errorf("%v", doc)
	}
	if again := document(t, dir, "gather", file); at(again, "entry") != 0.0 || at(again, "files", 0, "state") != "known" {
		t.Errorf("%v", again)
	}
}

func TestWithGaps(t *testing.T) {
	beside(t)
	dir := begin(t)
	bad := write(t, filepath.Join(t.TempDir(), "x.ldif"), strings.Replace(smallHead, "lockoutThreshold: 3", "lockoutThreshold: -3", 1)+
		smallUser)
	if out := must(t, dir, "gather", bad, "--with-gaps"); !strings.Contains(out, "Not understood") {
		t.Errorf("%s", out)
	}
	doc := document(t, dir, "weigh")
	for _, f := range doc["findings"].([]any) {
		if at(f, "settings", 0) == "lockout-threshold" && at(f, "check") == nil {
			if at(f, "verdict") != "missing" || !strings.Contains(at(f, "reason").(string), "-3 failed attempts") {
				t.Errorf("%v", f)
			}
			return
		}
	}
	t.Error("the unreadable threshold is not reported")
}

// What was taken knowingly with gaps does not stand in the way of what is
// added to it later, and pieces fill each other's gaps.
func TestPiecesFillGaps(t *testing.T) {
	beside(t)
	dir, src := begin(t), t.TempDir()
	bare := "\ndn: CN=Ada,DC=x,DC=example\nobjectClass: user\nsAMAccountName: ada\n"
	must(t, dir, "gather", "--with-gaps", write(t, filepath.Join(src, "a.ldif"), strings.Replace(smallHead, "lockoutThreshold: 3",
		"lockoutThreshold: -3", 1)+bare))
	trace := func() string { return must(t, dir, "trace", "ada") }
	if out := trace(); !strings.Contains(out, "userAccountControl is not in the evidence") ||
		!strings.Contains(out, "primary group is not in the evidence") {
		t.Errorf("%s", out)
	}
	out := must(t, dir, "gather", write(t, filepath.Join(src, "b.ldif"), bare+"userAccountControl: 514\nprimaryGroupID: 513\n"))
	if strings.Contains(out, "Not understood") {
		t.Errorf("an old problem is told again:\n%s", out)
	}
	if out := trace(); strings.Contains(out, "not in the evidence:") || !strings.Contains(out, "disabled") {
		t.Errorf("%s", out)
	}
}

func TestFailOnAndUsage(t *testing.T) {
	beside(t)
	dir := begin(t)
	if _, errs, status := run(t, dir, "weigh"); status != 1 || !strings.Contains(errs, "gather") {
		t.Errorf("nothing gathered: %d %s", status, errs)
	}
	must(t, dir, "gather", write(t, filepath.Join(t.TempDir(), "x.ldif"), smallHead+smallUser))
	for _, c := range []struct {
		args   []string
		status int
		say    string
	}{
		{[]string{"weigh", "--fail-on", "weak"}, 3, "weak"},
		{[]string{"weigh", "--fail-on", "missing,conflicting"}, 3, "1 missing, 2 conflicting"},
		{[]string{"weigh", "--fail-on", "holds"}, 2, "expected weak"},
		{[]string{"weigh", "--against", "cis-windows-serve"}, 1, `the nearest is "cis-windows-server"`},
		{[]string{"scopes", "--format", "xml"}, 2, "expected text"},
		{[]string{"scopes", "extra"}, 2, `"extra" is one too many; expected options only`},
		{[]string{"scoops"}, 2, `the nearest is "scopes"`},
		{[]string{"--nonsense"}, 2, "nonsense"},
		{[]string{"-C", filepath.Join(dir, "absent"), "scopes"}, 1, "no engagement here"},
		{[]string{"begin", dir}, 1, "already"},
		{[]string{"schema", "nothing"}, 2, "invalid argument"},
	} {
		if _, errs, status := run(t, dir, c.args...); status != c.status || !strings.Contains(errs, c.say) {
			t.Errorf("%v: status %d %q, want %d %q", c.args, status, errs, c.status, c.say)
		}
	}
	for _, format := range []string{"csv", "markdown"} {
		if out := must(t, dir, "weigh", "--format", format); !strings.Contains(out, "min-length") {
			t.Errorf("%s: %s", format, out)
		}
	}
	document(t, dir, "settings")
	for _, args := range [][]string{{"version"}, {"completion", "bash"}, {"--help"}, {"weigh", "--help"}, {"schema", "weigh"}} {
		if out := must(t, dir, args...); len(out) < 15 {
			t.Errorf("%v prints %q", args, out)
		}
	}
}

func TestBrokenEngagement(t *testing.T) {
	beside(t)
	for _, c := range []struct{ text, say string }{
		{"title: x\nbaselnes: [a]\n", `engagement.yaml:2:1: unknown key "baselnes"; the nearest is "baselines"`},
		{"title: [x\n", "engagement.yaml:1:"},
		{"baselines: [cis-windows-srver]\n", `engagement.yaml:1:13: unknown baseline "cis-windows-srver"`},
		{"authorities:\n  x:\n    dialect: unix\n", "engagement.yaml:3:14: unknown dialect"},
		{"tiers:\n  kiosk: {accounts: [a], grups: [b]}\n", `engagement.yaml:2:26: unknown key "grups"`},
		{"expect: {newer-than: 90}\n", "engagement.yaml:1:22: newer-than"},
	} {
		dir := begin(t)
		must(t, dir, "gather", write(t, filepath.Join(t.TempDir(), "head.ldif"), smallHead))
		write(t, filepath.Join(dir, "engagement.yaml"), c.text)
		if _, errs, status := run(t, dir, "weigh"); status != 1 || !strings.Contains(errs, c.say) {
			t.Errorf("%q: %d %s\nwant %s", c.text, status, errs, c.say)
		}
	}
}

// What a stopped gather left is finished or removed by the next command.
func TestLeftoversAreSettled(t *testing.T) {
	beside(t)
	dir := begin(t)
	must(t, dir, "gather", write(t, filepath.Join(t.TempDir(), "x.ldif"), smallHead+smallUser))
	staging := filepath.Join(dir, "evidence", ".incoming-7")
	write(t, filepath.Join(staging, "never-accepted.ldif"), "x")
	if err := os.Rename(filepath.Join(dir, "evidence", "x.ldif"), filepath.Join(staging, "x.ldif")); err != nil {
		t.Fatal(err)
	}
	must(t, dir, "scopes")
	found, _ := filepath.Glob(filepath.Join(dir, "evidence", "*"))
	hidden, _ := filepath.Glob(filepath.Join(dir, "evidence", ".*"))
	if len(found) != 1 || filepath.Base(found[0]) != "x.ldif" || len(hidden) != 0 {
		t.Errorf("%v %v", found, hidden)
	}
}

// The licences of all that is linked in are printed, with those of Go itself.
func TestLicences(t *testing.T) {
	beside(t)
	out := must(t, ".", "version", "--licences")
	info, err := buildinfo.ReadFile(program)
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range append(info.Deps, &debug.Module{Path: "std"}) {
		if !strings.Contains(out, "== "+m.Path+" "+m.Version) {
			t.Errorf("no licence of %s %s: make them again (CONTRIBUTING.md)", m.Path, m.Version)
		}
	}
	if len(info.Deps) < 20 {
		t.Errorf("only %d modules are linked in", len(info.Deps))
	}
}

// A release's file stays small enough to be mailed.
func TestReleaseIsSmall(t *testing.T) {
	beside(t)
	if testing.Short() || os.Getenv("STERNLEDGER_PROGRAM") != "" {
		t.Skip("builds the program once more, with a compiler")
	}
	to := filepath.Join(t.TempDir(), "sternledger")
	build := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w", "-o", to, "sternledger/cmd/sternledger")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	info, err := os.Stat(to)
	if err != nil {
		t.Fatal(err)
	}
	const most = 32 << 20
	if info.Size() > most || info.Size() < most/8 {
		t.Errorf("the file has %d bytes", info.Size())
	}
}

// inAYear is the last day that a waiver of today may have.
func inAYear() string { return time.Now().UTC().AddDate(1, 0, 0).Format(time.DateOnly) }
