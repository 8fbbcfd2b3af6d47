package assess

import (
	"archive/zip"
	"bytes"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"sternledger/internal/custody"
	"sternledger/internal/folder"
	"sternledger/internal/ledger"

	"filippo.io/age"
)

// bagOf makes a bag whose manifests hold, of files by their names below data/.
func bagOf(t testing.TB, files map[string]string, beside ...string) []byte {
	t.Helper()
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	put := func(name, text string) {
		m, err := w.Create(name)
		if err == nil {
			_, err = io.WriteString(m, text)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	var manifest strings.Builder
	for name, text := range files {
		put("x/data/"+name, text)
		fmt.Fprintf(&manifest, "%s  %s\n", custody.HexSum([]byte(text)), custody.BagName("data/"+name))
	}
	put("x/"+custody.BagTxt, custody.BagDeclaration)
	put("x/"+custody.BagManifest, manifest.String())
	put("x/"+custody.BagTags, fmt.Sprintf("%s  %s\n", custody.HexSum([]byte(manifest.String())), custody.BagManifest))
	for _, name := range beside {
		put(name, "x")
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// rewritten is a bag with another text in one of its own files; empty: without it.
func rewritten(t *testing.T, bag []byte, name, text string) []byte {
	t.Helper()
	z, err := zip.NewReader(bytes.NewReader(bag), int64(len(bag)))
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, f := range z.File {
		if f.Name != "x/"+name {
			err = errors.Join(err, w.Copy(f))
		} else if text != "" {
			m, bad := w.Create(f.Name)
			if err = errors.Join(err, bad); err == nil {
				_, err = io.WriteString(m, text)
			}
		}
	}
	if err = errors.Join(err, w.Close()); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// contents reads an engagement's files.
func contents(t *testing.T, e *custody.Engagement) map[string]string {
	t.Helper()
	all := map[string]string{}
	names, err := e.Payload()
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range names {
		data, err := e.Folder.ReadFile(n, 1<<30)
		if err != nil {
			t.Fatal(err)
		}
		all[string(n)] = string(data)
	}
	return all
}

// ledgerWith makes a ledger of a gather that tells of one file, as its maker
// wants it: the chain holds.
func ledgerWith(t *testing.T, name, text string) string {
	t.Helper()
	dir := t.TempDir()
	if err := ledger.Create(dir); err != nil {
		t.Fatal(err)
	}
	l, err := ledger.Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	tx, err := l.Change()
	if err != nil {
		t.Fatal(err)
	}
	told := ledger.Evidence{Name: name, Path: "x", Format: "directory export (LDIF)", Size: int64(len(text)),
		SHA256: custody.HexSum([]byte(text)), StoredSHA256: custody.HexSum([]byte(text))}
	if _, err := tx.Append(time.Now, "x", custody.GatherKind, map[string]any{"files": []any{told}}); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(tx.AddEvidence(told), tx.Commit(), l.Close()); err != nil {
		t.Fatal(err)
	}
	data, err := os.ReadFile(filepath.Join(dir, ledger.FileName))
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

// altered runs SQL on a ledger.
func altered(t *testing.T, was string, statements ...string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "l.db")
	swap(t, file, was)
	db, err := sql.Open("sqlite", file)
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range statements {
		if _, err := db.Exec(s); err != nil {
			t.Fatal(err)
		}
	}
	db.Close()
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

// A packed engagement comes out the same; of one that was altered, or made to do
// harm, nothing comes out, and nothing is written but what was asked for.
func TestPackAndUnpack(t *testing.T) {
	t.Parallel()
	c := &clock{time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}
	e := weighed(t, c)
	dir := t.TempDir()
	file := filepath.Join(dir, "x.zip")
	p, err := e.Pack(file, custody.PackOptions{})
	if err != nil || p.Files != 3 {
		t.Fatalf("%+v %v", p, err)
	}
	if _, err := e.Pack(file, custody.PackOptions{}); err == nil {
		t.Error("a file was overwritten")
	}
	to := filepath.Join(dir, "copy")
	if v, err := custody.Unpack(t.Context(), file, to, custody.UnpackOptions{Judge: Judge}, c.now); err != nil || v.Weighings != 1 {
		t.Fatalf("%+v %v", v, err)
	}
	if _, err := custody.Unpack(t.Context(), file, to, custody.UnpackOptions{Judge: Judge}, c.now); err == nil {
		t.Error("a folder was overwritten")
	}
	good := contents(t, e)
	with := func(changes map[string]string, beside ...string) []byte {
		files := map[string]string{}
		for name, text := range good {
			files[name] = text
		}
		for name, text := range changes {
			if files[name] = text; text == "" {
				delete(files, name)
			}
		}
		return bagOf(t, files, beside...)
	}
	const export = "dn: DC=x,DC=example\nobjectClass: domainDNS\n"
	db := good[ledger.FileName]
	for name, x := range map[string]struct {
		bag []byte
		say string
	}{
		"as it is":                  {with(nil), ""},
		"a file that fits nothing":  {with(map[string]string{"evidence/x.ldif": "dn: x"}), "its SHA-256 is"},
		"altered manifest":          {rewritten(t, with(nil), custody.BagManifest, "x"), "manifest-sha256.txt was altered"},
		"a member missing":          {with(map[string]string{"evidence/x.ldif": ""}), "in the ledger, and not in the bag"},
		"no ledger":                 {with(map[string]string{"ledger.db": ""}), "no ledger here"},
		"no configuration":          {with(map[string]string{"engagement.yaml": ""}), "no engagement here"},
		"outside the manifest":      {with(nil, "x/data/evidence/more.ldif"), "not in its manifest"},
		"no declaration":            {rewritten(t, with(nil), custody.BagTxt, ""), "it is no bag"},
		"a tag file of its own":     {with(nil, "x/run-me.sh"), "not in its manifest"},
		"a path upwards":            {with(nil, "../../evil"), "lead out of the folder"},
		"an absolute path":          {with(nil, "/etc/evil"), "lead out of the folder"},
		"a Windows path":            {with(nil, `x\..\evil`), "lead out of the folder"},
		"a drive":                   {with(nil, "x/C:/evil"), "lead out of the folder"},
		"a device":                  {with(nil, "x/data/evidence/aux.txt"), "lead out of the folder"},
		"a name twice":              {with(nil, "x/bagit.txt"), "twice"},
		"a name twice but for case": {with(nil, "x/data/EVIDENCE/x.ldif"), "twice"},
		"a bomb":                    {with(map[string]string{"evidence/x.ldif": strings.Repeat("\x00", 300<<20)}), "more than 200 times"},
		"no archive at all":         {[]byte("title: x"), "expected an engagement"},
		"beside the folder":         {with(nil, "y/bagit.txt"), "beside the bag's folder"},
		// The manifest vouches for these; the ledger does not.
		"a hidden file":             {with(map[string]string{".envrc": "evil"}), "is not taken"},
		"a hook":                    {with(map[string]string{".git/hooks/post-checkout": "evil"}), "is not taken"},
		"a further file":            {with(map[string]string{"Makefile": "evil"}), "not recorded in the ledger"},
		"further evidence":          {with(map[string]string{"evidence/more.ldif": export}), "not recorded in the ledger"},
		"a further folder":          {with(map[string]string{"scripts/run.sh": "evil"}), "does not belong to an engagement"},
		"a program among baselines": {with(map[string]string{"baselines/run.sh": "evil"}), "does not belong to an engagement"},
		"a second ledger's log":     {with(map[string]string{"ledger.db-wal": "evil"}), "handed over as one file"},
		"a journal":                 {with(map[string]string{"ledger.db-journal": "evil"}), "handed over as one file"},
		// The chain of these ledgers holds.
		"evidence that leads upwards": {with(map[string]string{"ledger.db": ledgerWith(t, "../../.bash_profile", "evil"),
			"evidence/x.ldif": ""}), "is no name in an engagement's folder"},
		"evidence at the root": {with(map[string]string{"ledger.db": ledgerWith(t, "/tmp/evil", "evil"), "evidence/x.ldif": ""}),
			"is no name in an engagement's folder"},
		"evidence on a drive": {with(map[string]string{"ledger.db": ledgerWith(t, `C:\evil`, "evil"), "evidence/x.ldif": ""}),
			"is no name in an engagement's folder"},
		"a list of machines elsewhere": {with(map[string]string{"engagement.yaml": good["engagement.yaml"] +
			"\nexpect: {machines-from: /etc/shadow}\n"}), "machines-from"},
		"a list of machines upwards": {with(map[string]string{"engagement.yaml": good["engagement.yaml"] +
			"\nexpect: {machines-from: ../../secret}\n"}), "machines-from"},
		"a baseline elsewhere": {with(map[string]string{"engagement.yaml": "title: x\nauditor: x\nbaselines: [/etc/b.yaml]\n"}),
			"lies in its folder"},
		"a trigger": {with(map[string]string{"ledger.db": altered(t, db,
			"CREATE TRIGGER evil AFTER INSERT ON texts BEGIN DELETE FROM problems; END")}), `holds a trigger "evil"`},
		"a view": {with(map[string]string{"ledger.db": altered(t, db,
			"CREATE VIEW evil AS WITH RECURSIVE r(x) AS (SELECT 1 UNION ALL SELECT x+1 FROM r) SELECT x FROM r")}), `holds a view "evil"`},
		"a view in a table's place": {with(map[string]string{"ledger.db": altered(t, db, "DROP TABLE problems",
			"CREATE VIEW problems AS WITH RECURSIVE r(x) AS (SELECT 1 UNION ALL SELECT x+1 FROM r) SELECT x AS entry, '' AS file, 1 AS "+
				"line, '' AS place, '' AS raw, '' AS text FROM r")}), `holds a view "problems"`},
		"a further table": {with(map[string]string{"ledger.db": altered(t, db, "CREATE TABLE evil (x)")}), `holds a table "evil"`},
		"a column that counts": {with(map[string]string{"ledger.db": altered(t, db,
			"ALTER TABLE texts ADD COLUMN y TEXT GENERATED ALWAYS AS (upper(text))")}), `holds a table "texts"`},
		"no guard":        {with(map[string]string{"ledger.db": altered(t, db, "DROP TRIGGER entries_stay")}), `no trigger "entries_stay"`},
		"a ledger in two": {with(map[string]string{"ledger.db": altered(t, db, "PRAGMA journal_mode=WAL")}), "kept in two files"},
		"no database":     {with(map[string]string{"ledger.db": "evil"}), "not a ledger"},
		"altered facts":   {with(map[string]string{"ledger.db": altered(t, db, "UPDATE holdings SET body = body || ' '")}), "were altered"},
	} {
		t.Run(name, func(t *testing.T) {
			where := t.TempDir()
			packed := filepath.Join(t.TempDir(), "bad.zip")
			swap(t, packed, string(x.bag))
			_, err := custody.Unpack(t.Context(), packed, filepath.Join(where, "in", "out"), custody.UnpackOptions{Judge: Judge}, c.now)
			if !errors.Is(err, fs.ErrNotExist) {
				t.Fatalf("in a folder that is not there: %v", err)
			}
			_, err = custody.Unpack(t.Context(), packed, filepath.Join(where, "out"), custody.UnpackOptions{Judge: Judge}, c.now)
			if x.say == "" {
				if err != nil {
					t.Fatal(err)
				}
				return
			}
			if err == nil || !strings.Contains(err.Error(), x.say) {
				t.Errorf("%v, want %s", err, x.say)
			}
			if left, _ := os.ReadDir(where); len(left) > 0 {
				t.Errorf("%v is left", left)
			}
		})
	}
}

// A folder from elsewhere, opened where it lies, is trusted no more.
func TestFolderFromElsewhere(t *testing.T) {
	c := &clock{time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}
	for name, x := range map[string]struct {
		harm func(t *testing.T, dir string)
		say  string
	}{
		"a trigger": {func(t *testing.T, dir string) {
			file := filepath.Join(dir, ledger.FileName)
			data, _ := os.ReadFile(file)
			swap(t, file, altered(t, string(data), "CREATE TRIGGER evil AFTER INSERT ON texts BEGIN DELETE FROM problems; END"))
		}, `holds a trigger "evil"`},
		"a ledger elsewhere": {func(t *testing.T, dir string) {
			file := filepath.Join(dir, ledger.FileName)
			moved := filepath.Join(t.TempDir(), "l")
			if err := errors.Join(os.Rename(file, moved), os.Symlink(moved, file)); err != nil {
				t.Fatal(err)
			}
		}, "no plain file"},
		"a journal that names another": {func(t *testing.T, dir string) {
			victim := filepath.Join(t.TempDir(), "victim")
			swap(t, victim, "mine")
			journal := "\xd9\xd5\x05\xf9\x20\xa1\x63\xd7" + strings.Repeat("\x00", 504) + victim
			journal += fmt.Sprintf("\x00\x00\x00%c\x00\x00\x00\x00\xd9\xd5\x05\xf9\x20\xa1\x63\xd7", len(victim))
			swap(t, filepath.Join(dir, ledger.FileName+"-journal"), journal)
		}, "names a further journal"},
		"a configuration elsewhere": {func(t *testing.T, dir string) {
			file := filepath.Join(dir, custody.ConfigName)
			if err := errors.Join(os.Remove(file), os.Symlink("/etc/passwd", file)); err != nil {
				t.Fatal(err)
			}
		}, "no plain file"},
		"baselines elsewhere": {func(t *testing.T, dir string) {
			if err := os.Symlink("/etc", filepath.Join(dir, custody.BaselinesDir)); err != nil {
				t.Fatal(err)
			}
		}, "escapes"},
		"aliases without end": {func(t *testing.T, dir string) {
			text := "title: x\nauditor: x\nwords:\n  - &a [x,x,x,x,x,x,x,x,x]\n"
			for c := 'b'; c < 'k'; c++ {
				text += fmt.Sprintf("  - &%c [*%c,*%c,*%c,*%c,*%c,*%c,*%c,*%c,*%c]\n", c, c-1, c-1, c-1, c-1, c-1, c-1, c-1, c-1, c-1)
			}
			swap(t, filepath.Join(dir, custody.ConfigName), text)
		}, "aliases"},
		"a nest without end": {func(t *testing.T, dir string) {
			swap(t, filepath.Join(dir, custody.ConfigName), "title: x\nauditor: x\nwords: "+strings.Repeat("[", 50_000)+
				strings.Repeat("]", 50_000)+"\n")
		}, "nested"},
	} {
		t.Run(name, func(t *testing.T) {
			e := weighed(t, c)
			if err := e.Close(); err != nil {
				t.Fatal(err)
			}
			if runtime.GOOS == "windows" && strings.HasSuffix(name, "elsewhere") {
				t.Skip("ordinary users make no links here")
			}
			x.harm(t, e.Dir)
			again, err := custody.Open(t.Context(), e.Dir, c.now, Judge)
			if err == nil {
				_, err = again.FieldMaps()
				_, listed := again.Baselines().IDs()
				err = errors.Join(err, listed, again.Close())
			}
			if err == nil || !strings.Contains(err.Error(), x.say) {
				t.Errorf("%v, want %s", err, x.say)
			}
		})
	}
	// What waits to be put in its place goes nowhere but into the folder.
	e := weighed(t, c)
	e.Close()
	swap(t, filepath.Join(e.Dir, ledger.FileName), ledgerWith(t, "../../evil", "evil"))
	if err := os.Mkdir(filepath.Join(e.Dir, custody.EvidenceDir, custody.StagingPrefix+"x"), 0o700); err != nil {
		t.Fatal(err)
	}
	swap(t, filepath.Join(filepath.Dir(e.Dir), "evil-x"), "")
	swap(t, filepath.Join(e.Dir, "evil"), "evil")
	again, err := custody.Open(t.Context(), e.Dir, c.now, Judge)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	v, err := again.Verify()
	if err != nil || len(v.Failures) == 0 || !strings.Contains(v.Failures[0].Text, "is no name in an engagement's folder") {
		t.Errorf("%+v %v", v, err)
	}
	if _, err := os.Stat(filepath.Join(filepath.Dir(e.Dir), "evil")); err == nil {
		t.Error("a file was moved out of the folder")
	}
}

// What is packed for somebody is opened by nobody else.
func TestPackEncrypted(t *testing.T) {
	c := &clock{time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}
	e := weighed(t, c)
	mine, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	other, _ := age.GenerateX25519Identity()
	word, _ := age.NewScryptRecipient("Cape-Light-3")
	word.SetWorkFactor(10)
	for name, to := range map[string]age.Recipient{"key": mine.Recipient(), "word": word} {
		file := filepath.Join(t.TempDir(), "x.zip.age")
		if p, err := e.Pack(file, custody.PackOptions{Recipients: []age.Recipient{to}}); err != nil || !p.Encrypted {
			t.Fatalf("%+v %v", p, err)
		}
		data, _ := os.ReadFile(file)
		if bytes.Contains(data, []byte("bagit")) || bytes.Contains(data, []byte("PK\x03\x04")) {
			t.Error("it can be read")
		}
		open := func(key age.Identity) error {
			_, err := custody.Unpack(t.Context(), file, filepath.Join(t.TempDir(), "out"),
				custody.UnpackOptions{Judge: Judge, Identities: func(passphrase bool) ([]age.Identity, error) {
					if passphrase != (name == "word") {
						t.Errorf("%s: with a passphrase: %v", name, passphrase)
					}
					return []age.Identity{key}, nil
				}}, c.now)
			return err
		}
		right, _ := age.NewScryptIdentity("Cape-Light-3")
		wrong, _ := age.NewScryptIdentity("Cape-Light-4")
		keys := map[string][2]age.Identity{"key": {mine, other}, "word": {right, wrong}}[name]
		if err := open(keys[0]); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		if err := open(keys[1]); err == nil || !strings.Contains(err.Error(), "cannot be decrypted") {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// Whatever a bag holds, nothing is written outside of the folder, and what comes
// out was in the manifest.
func FuzzUnpack(f *testing.F) {
	bag := func(names ...string) []byte {
		files := map[string]string{}
		for _, n := range names {
			files[n] = n
		}
		return bagOf(f, files)
	}
	for _, seed := range [][]byte{bag(), bag("ledger.db", "evidence/a/b.ldif"), bag("../up"), bag("/etc/x", "a%0Ab"), []byte("PK")} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
		if err != nil {
			return
		}
		b, err := custody.ReadBag(z)
		if err != nil {
			return
		}
		dir := t.TempDir()
		if err := os.Mkdir(filepath.Join(dir, "in"), 0o700); err != nil {
			t.Fatal(err)
		}
		inner, err := folder.Open(filepath.Join(dir, "in"))
		if err != nil {
			t.Fatal(err)
		}
		defer inner.Close()
		_ = b.Unpack(t.Context(), inner, func(folder.Name) bool { return true })
		left, _ := os.ReadDir(dir)
		if len(left) != 1 || left[0].Name() != "in" {
			t.Fatalf("written outside: %v", left)
		}
	})
}
