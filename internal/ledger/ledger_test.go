package ledger

import (
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"sternledger/internal/core/estate"
)

func noon() time.Time { return time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC) }

func newLedger(t *testing.T) (*Ledger, string) {
	t.Helper()
	dir := t.TempDir()
	if err := Create(dir); err != nil {
		t.Fatal(err)
	}
	l, err := Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	return l, dir
}

func add(t *testing.T, l *Ledger, body any) {
	t.Helper()
	tx, err := l.Change()
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback()
	if _, err := tx.Append(noon, "R. Quill", "test", body); err != nil {
		t.Fatal(err)
	}
	if err := tx.Commit(); err != nil {
		t.Fatal(err)
	}
}

func TestChain(t *testing.T) {
	l, _ := newLedger(t)
	for i := range 3 {
		add(t, l, map[string]any{"z": i, "a": "<x>"})
	}
	if err := l.CheckChain(); err != nil {
		t.Fatal(err)
	}
	entries, _ := l.Entries()
	if entries[1].Body != `{"a":"\u003cx\u003e","z":1}` || entries[1].Previous != entries[0].Hash {
		t.Errorf("%+v", entries[1])
	}
	for _, forbidden := range []string{"UPDATE entries SET body = '{}' WHERE seq = 2", "DELETE FROM entries WHERE seq = 3"} {
		if _, err := l.db.Exec(forbidden); err == nil || !strings.Contains(err.Error(), "entries are never") {
			t.Errorf("%s: %v", forbidden, err)
		}
	}
}

// Whoever gets around the triggers is found out, whichever field it was.
func TestTamperingIsFound(t *testing.T) {
	for _, change := range []string{
		`UPDATE entries SET body = body || ' ' WHERE seq = 2`, `UPDATE entries SET at = '2020-01-01T00:00:00Z' WHERE seq = 2`,
		`UPDATE entries SET actor = 'someone' WHERE seq = 2`, `UPDATE entries SET kind = 'other' WHERE seq = 2`,
		`UPDATE entries SET hash = upper(hash) WHERE seq = 2`, `DELETE FROM entries WHERE seq = 2`,
	} {
		l, _ := newLedger(t)
		for i := range 3 {
			add(t, l, i)
		}
		if _, err := l.db.Exec("DROP TRIGGER entries_stay; DROP TRIGGER entries_last; " + change); err != nil {
			t.Fatal(err)
		}
		if err := l.CheckChain(); !errors.Is(err, ErrChain) {
			t.Errorf("%s: %v", change, err)
		}
	}
}

func TestNothingOfAFailedChangeStays(t *testing.T) {
	l, _ := newLedger(t)
	tx, _ := l.Change()
	if _, err := tx.Append(noon, "a", "gather", nil); err != nil {
		t.Fatal(err)
	}
	if err := tx.AddEvidence(Evidence{Name: "x.ldif", SHA256: "1"}); err != nil {
		t.Fatal(err)
	}
	if err := tx.AddEvidence(Evidence{Name: "x.ldif", SHA256: "2"}); err == nil {
		t.Error("two files of one name were taken")
	}
	tx.Rollback()
	entries, _ := l.Entries()
	evidence, _ := l.Evidence()
	if len(entries)+len(evidence) != 0 {
		t.Errorf("%v %v stayed", entries, evidence)
	}
}

func TestHoldingsComeBack(t *testing.T) {
	l, _ := newLedger(t)
	for _, name := range []string{"old", "new"} {
		b := estate.NewBuilder()
		b.StartFile(name + ".ldif")
		b.Object(estate.InDomain("x.example"), &estate.Record{Class: estate.Account, DN: []byte("CN=" + name + ",DC=x"),
			Name: []byte(name), RID: 7, Line: 3})
		a := b.Finish()[0]
		tx, _ := l.Change()
		if _, err := tx.Append(noon, "a", "gather", nil); err != nil {
			t.Fatal(err)
		}
		if _, err := tx.AddHolding("authority:x.example", a, a.Objects); err != nil {
			t.Fatal(err)
		}
		if err := tx.Commit(); err != nil {
			t.Fatal(err)
		}
	}
	current, err := l.Current(Aside{})
	if err != nil || len(current) != 1 || !strings.Contains(current[0].Body, "new.ldif") {
		t.Fatalf("%v %+v", err, current)
	}
	var all, some estate.Objects
	if err := errors.Join(l.Load(map[int64]*estate.Objects{current[0].ID: &all}), l.Load(map[int64]*estate.Objects{current[0].ID: &some},
		"class", "rid")); err != nil {
		t.Fatal(err)
	}
	if all.Name.At(0) != "new" || all.RID.At(0) != 7 || some.RID.At(0) != 7 || some.Name.At(0) != "" {
		t.Errorf("%q %d; only some: %d %q", all.Name.At(0), all.RID.At(0), some.RID.At(0), some.Name.At(0))
	}
}

func TestOpenRefuses(t *testing.T) {
	broken := t.TempDir()
	if err := os.WriteFile(filepath.Join(broken, FileName), []byte(strings.Repeat("not a database ", 100)), 0o600); err != nil {
		t.Fatal(err)
	}
	other := t.TempDir()
	db, _ := sql.Open("sqlite", filepath.Join(other, FileName))
	if _, err := db.Exec("CREATE TABLE t (x)"); err != nil {
		t.Fatal(err)
	}
	db.Close()
	l, newer := newLedger(t)
	if _, err := l.db.Exec("PRAGMA user_version = 7"); err != nil {
		t.Fatal(err)
	}
	for dir, want := range map[string]error{broken: ErrNotLedger, other: ErrNotLedger, newer: ErrNewer} {
		if _, err := Open(t.Context(), dir); !errors.Is(err, want) {
			t.Errorf("%v, want %v", err, want)
		}
	}
	if _, err := Open(t.Context(), t.TempDir()); err == nil || !strings.Contains(err.Error(), "begin") {
		t.Errorf("no ledger: %v", err)
	}
	if err := Create(newer); err == nil {
		t.Error("a ledger was written over")
	}
}

// A journal is looked at before SQLite takes it over, and it may be gone at any
// moment: whoever has made a change takes it away.
func TestJournalBesideIt(t *testing.T) {
	_, dir := newLedger(t)
	path := filepath.Join(dir, FileName)
	journal := path + "-journal"
	further := append(make([]byte, 24), 0, 0, 0, 9, 0, 0, 0, 0)
	for name, make := range map[string]func() error{
		"a folder":          func() error { return os.Mkdir(journal, 0o700) },
		"a further journal": func() error { return os.WriteFile(journal, append(further, journalMagic...), 0o600) },
	} {
		if err := errors.Join(os.RemoveAll(journal), make()); err != nil {
			t.Fatal(err)
		}
		if _, err := Open(t.Context(), dir); !errors.Is(err, ErrHostile) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := os.RemoveAll(journal); err != nil {
		t.Fatal(err)
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		for range 2000 {
			if os.WriteFile(journal, make([]byte, 600), 0o600) == nil {
				os.Remove(journal)
			}
		}
	}()
	for {
		if err := harmless(path); err != nil {
			t.Error(err)
			<-done
			return
		}
		select {
		case <-done:
			return
		default:
		}
	}
}
