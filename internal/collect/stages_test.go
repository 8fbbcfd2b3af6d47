package collect

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"sternledger/internal/core/estate"
	"sternledger/internal/custody"
	"sternledger/internal/folder"
	"sternledger/internal/intake"
	"sternledger/internal/intake/ldif"
	"sternledger/internal/ledger"
)

// engagementIn is a new engagement, without anything to judge by.
func engagementIn(t *testing.T) *custody.Engagement {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "x")
	now := func() time.Time { return time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC) }
	if err := custody.Begin(t.Context(), dir, "Lock gates", "R. Quill", now); err != nil {
		t.Fatal(err)
	}
	e, err := custody.Open(t.Context(), dir, now, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { e.Close() })
	return e
}

// filed writes a file and returns its path.
func filed(t *testing.T, dir, name, text string) string {
	t.Helper()
	file := filepath.Join(dir, name)
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return file
}

const (
	headEntry = "dn: DC=x,DC=example\nobjectClass: domainDNS\nobjectSid: S-1-5-21-1-2-3\nminPwdLength: 9\n"
	adaEntry  = "\ndn: CN=Ada,DC=x,DC=example\nobjectClass: user\nsAMAccountName: ada\nuserAccountControl: 512\nprimaryGroupID: 513\n"
	fineEntry = "\ndn: CN=P,CN=Password Settings Container,CN=System,DC=x,DC=example\nobjectClass: msDS-PasswordSettings\n" +
		"msDS-PasswordSettingsPrecedence: 1\nmsDS-MinimumPasswordLength: 20\n"
)

// What the sources are: by what they hold, whatever they are called.
func TestLooking(t *testing.T) {
	e, dir := engagementIn(t), t.TempDir()
	filed(t, dir, "in/a.txt", headEntry)
	filed(t, dir, "in/gate/etc/login.defs", "PASS_MAX_DAYS 90\n")
	filed(t, dir, "in/gate/etc/passwd", "root:x:0:0::/root:/bin/sh\n")
	filed(t, dir, "in/readme.txt", "nothing of ours\n")
	if err := os.MkdirAll(filepath.Join(dir, "empty"), 0o700); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		sources []string
		found   string
		passed  int
		err     string
	}{
		"a folder":         {[]string{"in"}, "a.txt directory export (LDIF); gate Unix machine (etc tree) (2)", 1, ""},
		"one file":         {[]string{"in/a.txt"}, "a.txt directory export (LDIF)", 0, ""},
		"a file, named":    {[]string{"in/readme.txt"}, "", 0, "readme.txt: not a known format"},
		"nothing there":    {[]string{"gone"}, "", 0, "check the name"},
		"an empty folder":  {[]string{"empty"}, "", 0, "holds no files"},
		"nothing known":    {[]string{"in/gate/etc"}, "gate Unix machine (etc tree) (2)", 0, ""},
		"both, each twice": {[]string{"in/a.txt", "in/a.txt"}, "a.txt directory export (LDIF); a.txt directory export (LDIF)", 0, ""},
	} {
		var sources, got []string
		for _, s := range c.sources {
			sources = append(sources, filepath.Join(dir, s))
		}
		found, passed, _, err := look(e, sources, nil)
		if c.err != "" {
			if err == nil || !strings.Contains(err.Error(), c.err) {
				t.Errorf("%s: %v, want %q", name, err, c.err)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		for _, f := range found {
			if f.tree != nil {
				got = append(got, fmt.Sprintf("%s %s (%d)", filepath.Base(f.path), f.tree.Name, len(f.parts)))
			} else {
				got = append(got, filepath.Base(f.path)+" "+f.format.Name)
			}
		}
		if strings.Join(got, "; ") != c.found || len(passed) != c.passed {
			t.Errorf("%s: %q and %d passed over, want %q and %d", name, strings.Join(got, "; "), len(passed), c.found, c.passed)
		}
	}
}

// shelf is what is on record, for the joining.
type shelf struct {
	bodies map[string]string
	files  map[string][]string
}

func (s shelf) Latest(subject string, _ ledger.Aside) (string, error) { return s.bodies[subject], nil }
func (s shelf) FilesOf(subject string, _ ledger.Aside) ([]string, error) {
	return s.files[subject], nil
}
func (s shelf) CurrentBelow(string, ledger.Aside) ([]ledger.Holding, error) { return nil, nil }

// started is a gathering that has read nothing, with room for its copies.
func started(t *testing.T, e *custody.Engagement, opt GatherOptions) *gathering {
	t.Helper()
	tx, err := e.Ledger.Change()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { tx.Rollback() })
	g, err := starting(e, tx, opt)
	if err != nil {
		t.Fatal(err)
	}
	var accepted func()
	if g.staging, accepted, err = e.MakeStaging(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { accepted(); _ = g.synced(); _ = e.Folder.RemoveAll(g.staging) })
	return g
}

// What the files say goes into the builder and into copies, each file once.
func TestReading(t *testing.T) {
	e, dir := engagementIn(t), t.TempDir()
	a := filed(t, dir, "a.ldif", headEntry+"description: the harbour's own\n")
	b := filed(t, dir, "b/a.ldif", headEntry+adaEntry)
	c := filed(t, dir, "c/a.ldif", headEntry+adaEntry)
	g := started(t, e, GatherOptions{})
	found, _, _, err := look(e, []string{a, b, c}, nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := g.read(found); err != nil {
		t.Fatal(err)
	}
	if err := g.synced(); err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, f := range g.result.Files {
		got = append(got, fmt.Sprint(f.Name, " ", f.Known))
	}
	if want := []string{"a.ldif false", "a-2.ldif false", "a-2.ldif true"}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	if len(g.files) != 2 || g.files[0].SHA256 == g.files[0].StoredSHA256 || g.files[1].SHA256 != g.files[1].StoredSHA256 || g.result.NotKept != 1 {
		t.Errorf("copies: %+v, %d not kept", g.evidence(), g.result.NotKept)
	}
	copied, err := e.Folder.ReadFile(folder.Join(g.staging, "a.ldif"), 1<<20)
	if err != nil || strings.Contains(string(copied), "harbour") || !strings.Contains(string(copied), "minPwdLength: 9") {
		t.Errorf("the copy: %q %v", copied, err)
	}
	if all := g.builder.Finish(); len(all) != 1 || all[0].Accounts != 1 {
		t.Errorf("%d authorities", len(all))
	}
}

// A reading that is ended, or meets what is no export, leaves nothing.
func TestReadingEnds(t *testing.T) {
	e, dir := engagementIn(t), t.TempDir()
	file := filed(t, dir, "a.ldif", headEntry)
	found, _, _, err := look(e, []string{file}, nil)
	if err != nil {
		t.Fatal(err)
	}
	g := started(t, e, GatherOptions{})
	ended, end := context.WithCancelCause(t.Context())
	end(fmt.Errorf("enough"))
	e.Context = ended
	if err := g.read(found); err == nil || err.Error() != "enough" {
		t.Errorf("ended: %v", err)
	}
	e.Context = t.Context()
	broken := filed(t, dir, "b.ldif", headEntry+"  \x00\n")
	strange := found[0]
	strange.open, strange.path = onDisk(broken, must(os.Stat(broken)), true).open, broken
	strange.format = &intake.Format{Name: ldif.Format.Name, Read: func(*intake.Source, *estate.Builder) error {
		return &intake.Error{Path: broken, Line: 5, Seen: "no line", Expected: "a line", Next: "look"}
	}}
	if err := g.read([]candidate{strange}); err == nil || !strings.Contains(err.Error(), "b.ldif:5: no line") {
		t.Errorf("broken: %v", err)
	}
	if len(g.files) != 0 {
		t.Errorf("taken all the same: %+v", g.evidence())
	}
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// What new files say joins what is on record: a part is read again with the rest, what lacks
// is lost or gone as the auditor says, and damage is refused.
func TestJoining(t *testing.T) {
	for name, c := range map[string]struct {
		record, now string
		opt         GatherOptions
		accounts    int
		policies    string
		lost        int
		err         string
	}{
		"the first time":         {"", headEntry + adaEntry, GatherOptions{}, 1, "", 0, ""},
		"accounts join the head": {headEntry + fineEntry, adaEntry, GatherOptions{}, 1, "P", 0, ""},
		"a head joins accounts":  {headEntry + adaEntry, headEntry, GatherOptions{}, 1, "", 0, ""},
		"the whole takes its place": {headEntry + adaEntry + strings.ReplaceAll(adaEntry, "da", "nn"), headEntry + adaEntry,
			GatherOptions{}, 1, "", 2, ""},
		"a policy lacks":       {headEntry + adaEntry + fineEntry, headEntry + adaEntry, GatherOptions{}, 1, "P (lost)", 1, ""},
		"and that is right":    {headEntry + adaEntry + fineEntry, headEntry + adaEntry, GatherOptions{LessIsRight: "removed"}, 1, "", 0, ""},
		"damage is refused":    {"", strings.Replace(headEntry, ": 9", ": x", 1) + adaEntry, GatherOptions{}, 0, "", 0, "minPwdLength"},
		"or taken, with a gap": {"", strings.Replace(headEntry, ": 9", ": x", 1) + adaEntry, GatherOptions{WithGaps: true}, 1, "", 0, ""},
	} {
		e, dir := engagementIn(t), t.TempDir()
		if c.record != "" {
			if _, err := Gather(e, []string{filed(t, dir, "then.ldif", c.record)}, GatherOptions{}); err != nil {
				t.Fatalf("%s: %v", name, err)
			}
		}
		found, _, _, err := look(e, []string{filed(t, dir, "now.ldif", c.now)}, nil)
		if err != nil {
			t.Fatal(err)
		}
		g := started(t, e, c.opt)
		if err := g.read(found); err != nil {
			t.Fatal(err)
		}
		err = g.join()
		if c.err != "" {
			if err == nil || !strings.Contains(err.Error(), c.err) || !strings.Contains(err.Error(), "nothing was taken") {
				t.Errorf("%s: %v, want %q", name, err, c.err)
			}
			continue
		}
		if err != nil || len(g.result.Authorities) != 1 {
			t.Errorf("%s: %v, %d authorities", name, err, len(g.result.Authorities))
			continue
		}
		a := g.result.Authorities[0]
		var policies []string
		for _, p := range a.Overrides {
			policies = append(policies, p.Name)
		}
		for _, r := range a.Policies {
			if r.Lost {
				policies = append(policies, estate.NameOf(r.DN)+" (lost)")
			}
		}
		if a.Accounts != c.accounts || strings.Join(policies, " ") != c.policies || len(g.result.Lost) != c.lost {
			t.Errorf("%s: %d accounts, policies %q, lost %+v; want %d, %q, %d", name, a.Accounts, policies, g.result.Lost, c.accounts,
				c.policies, c.lost)
		}
	}
}

// A ledger that cannot be read is no ledger that holds nothing.
func TestJoiningWhatCannotBeRead(t *testing.T) {
	for name, s := range map[string]shelf{
		"facts":           {bodies: map[string]string{custody.SubjectOf(estate.Place{Name: "x.example", Kind: estate.Domain}): "{"}},
		"a file is gone":  {files: map[string][]string{custody.SubjectOf(estate.Place{Name: "x.example", Kind: estate.Domain}): {"then.ldif"}}},
		"nothing to join": {},
	} {
		e, dir := engagementIn(t), t.TempDir()
		found, _, _, err := look(e, []string{filed(t, dir, "now.ldif", adaEntry)}, nil)
		if err != nil {
			t.Fatal(err)
		}
		g := started(t, e, GatherOptions{})
		g.known = append(g.known, ledger.Evidence{Name: "then.ldif", Format: ldif.Format.Name})
		if err := g.read(found); err != nil {
			t.Fatal(err)
		}
		g.record = s
		if err := g.join(); (err == nil) != (name == "nothing to join") {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// The ledger is told all of it, in one entry that has the digests of the facts.
func TestWriting(t *testing.T) {
	e, dir := engagementIn(t), t.TempDir()
	file := filed(t, dir, "now.ldif", headEntry+adaEntry+fineEntry)
	done, err := Gather(e, []string{file}, GatherOptions{LessIsRight: "all of it"})
	if err != nil {
		t.Fatal(err)
	}
	evidence, err := e.Ledger.Evidence()
	if err != nil || len(evidence) != 1 || evidence[0].Name != "now.ldif" || evidence[0].Entry != done.Entry || evidence[0].Path != filepath.ToSlash(file) {
		t.Errorf("evidence: %+v %v", evidence, err)
	}
	current, err := e.Ledger.Current(ledger.Aside{})
	if err != nil || len(current) != 1 || current[0].Entry != done.Entry {
		t.Errorf("facts: %+v %v", current, err)
	}
	entries, err := e.Ledger.Entries()
	if err != nil {
		t.Fatal(err)
	}
	body := string(entries[len(entries)-1].Body)
	for _, want := range []string{`"less_is_right":"all of it"`, `"accounts":1`, `"policies":1`, `"facts_sha256":{"authority`, evidence[0].SHA256} {
		if !strings.Contains(body, want) {
			t.Errorf("the entry lacks %s: %s", want, body)
		}
	}
	if _, err := e.Folder.ReadFile("evidence/now.ldif", 1<<20); err != nil {
		t.Error(err)
	}
	if again, err := Gather(e, []string{file}, GatherOptions{}); err != nil || again.Entry != 0 || !again.Files[0].Known {
		t.Errorf("the same again: %+v %v", again, err)
	}
	if left, err := os.ReadDir(filepath.Join(e.Dir, custody.EvidenceDir)); err != nil || len(left) != 1 {
		t.Errorf("left in evidence: %v %v", left, err)
	}
}
