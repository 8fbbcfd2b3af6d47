// Package ledger keeps an engagement's record in one SQLite file: entries that
// are only ever added and are chained by hashes, and the facts that the
// readers found, written in the same transaction as the entry that tells of
// them.
package ledger

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"

	_ "modernc.org/sqlite" // the driver

	"sternledger/internal/core/estate"
)

// FileName is the ledger's name in an engagement folder.
const FileName = "ledger.db"

// version is written into the file; a ledger of a higher one is not touched.
const version = 1

// application marks the file as ours in SQLite's header ("StLg").
const application = 0x53744c67

// Errors that callers tell apart.
var (
	ErrNewer     = errors.New("the ledger was written by a newer program")
	ErrNotLedger = errors.New("not a ledger")
)

const schema = `
CREATE TABLE entries (
  seq INTEGER PRIMARY KEY, at TEXT NOT NULL, actor TEXT NOT NULL, kind TEXT NOT NULL,
  body TEXT NOT NULL, previous TEXT NOT NULL, hash TEXT NOT NULL UNIQUE) STRICT;
CREATE TRIGGER entries_stay BEFORE UPDATE ON entries BEGIN SELECT RAISE(ABORT, 'entries are never changed'); END;
CREATE TRIGGER entries_last BEFORE DELETE ON entries BEGIN SELECT RAISE(ABORT, 'entries are never removed'); END;
CREATE TABLE evidence (
  name TEXT PRIMARY KEY, entry INTEGER NOT NULL REFERENCES entries, path TEXT NOT NULL, format TEXT NOT NULL,
  size INTEGER NOT NULL, written TEXT NOT NULL, sha256 TEXT NOT NULL, stored_sha256 TEXT NOT NULL, struck INTEGER NOT NULL,
  tree TEXT NOT NULL, part TEXT NOT NULL) STRICT;
CREATE INDEX evidence_sha256 ON evidence (sha256);
CREATE TABLE problems (
  entry INTEGER NOT NULL REFERENCES entries, file TEXT NOT NULL, line INTEGER NOT NULL,
  place TEXT NOT NULL, raw TEXT NOT NULL, text TEXT NOT NULL) STRICT;
CREATE TABLE holdings (
  id INTEGER PRIMARY KEY, entry INTEGER NOT NULL REFERENCES entries, subject TEXT NOT NULL, body TEXT NOT NULL) STRICT;
CREATE INDEX holdings_subject ON holdings (subject, id);
CREATE TABLE chunks (
  holding INTEGER NOT NULL REFERENCES holdings, name TEXT NOT NULL, chunk INTEGER NOT NULL, data BLOB NOT NULL) STRICT;
CREATE UNIQUE INDEX chunks_place ON chunks (holding, name, chunk);
CREATE TABLE weighings (
  number INTEGER PRIMARY KEY, entry INTEGER NOT NULL REFERENCES entries, body TEXT NOT NULL) STRICT;
`

// Ledger is an open ledger.
type Ledger struct{ db *sql.DB }

// Create makes an empty ledger in a folder that has none.
func Create(dir string) error {
	path := filepath.Join(dir, FileName)
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	f.Close()
	l, err := connect(path)
	if err != nil {
		return err
	}
	defer l.Close()
	_, err = l.db.Exec(fmt.Sprintf("PRAGMA page_size = 16384; PRAGMA application_id = %d; BEGIN; %s PRAGMA user_version = %d; COMMIT;", application, schema, version))
	return err
}

// Open opens a folder's ledger.
func Open(dir string) (*Ledger, error) {
	path := filepath.Join(dir, FileName)
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s: no ledger here; start an engagement with \"sternledger begin %s\"", path, dir)
	}
	l, err := connect(path)
	if err != nil {
		return nil, err
	}
	var app, has int
	err = l.db.QueryRow("SELECT a.application_id, u.user_version FROM pragma_application_id a, pragma_user_version u").Scan(&app, &has)
	switch {
	case err != nil:
		err = fmt.Errorf("%s: %w: %v; restore the file from a copy", path, ErrNotLedger, err)
	case app != application || has == 0:
		err = fmt.Errorf("%s: %w; expected the %s of an engagement folder", path, ErrNotLedger, FileName)
	case has > version:
		err = fmt.Errorf("%s: %w: it is of version %d, this program knows up to %d; use the newer program", path, ErrNewer, has, version)
	}
	if err != nil {
		l.Close()
		return nil, err
	}
	return l, nil
}

func connect(path string) (*Ledger, error) {
	// A rollback journal keeps the ledger in one file; whoever finds it in use
	// waits, and a writer takes its place in the queue when it begins.
	dsn := (&url.URL{Scheme: "file", OmitHost: true, Path: path}).String() +
		"?_pragma=busy_timeout(30000)&_pragma=foreign_keys(1)&_pragma=synchronous(FULL)&_pragma=cache_size(-16384)&_txlock=immediate"
	db, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	return &Ledger{db}, nil
}

// Close closes the ledger.
func (l *Ledger) Close() error { return l.db.Close() }

// Evidence is one file that was taken.
type Evidence struct {
	Name         string `json:"name"` // of the stored copy
	Path         string `json:"path"` // as it was given
	Format       string `json:"format"`
	Size         int64  `json:"size"`
	Written      string `json:"written"` // when the file was last changed before it was gathered; RFC 3339, UTC
	SHA256       string `json:"sha256"`
	StoredSHA256 string `json:"stored_sha256"`
	Struck       int    `json:"struck"` // secrets struck out of the copy
	Entry        int64  `json:"-"`
	// For a file of an export that is made of several: what the export is
	// called, and the file's place in it.
	Tree string `json:"tree,omitempty"`
	Part string `json:"part,omitempty"`
}

// Evidence returns all evidence, in the order taken.
func (l *Ledger) Evidence() ([]Evidence, error) { return evidence(l.db) }

// Evidence returns all evidence as the change sees it.
func (t *Tx) Evidence() ([]Evidence, error) { return evidence(t.tx) }

func evidence(from querier) ([]Evidence, error) {
	return rows(from, func(e *Evidence) []any {
		return []any{&e.Name, &e.Path, &e.Format, &e.Size, &e.Written, &e.SHA256, &e.StoredSHA256, &e.Struck, &e.Entry, &e.Tree, &e.Part}
	}, "SELECT name, path, format, size, written, sha256, stored_sha256, struck, entry, tree, part FROM evidence ORDER BY entry, name")
}

// Holding is the facts about one subject: an authority or a template.
type Holding struct {
	ID      int64
	Entry   int64
	Subject string
	Body    string // JSON
}

// Current returns, for every subject, the facts found last.
func (l *Ledger) Current() ([]Holding, error) {
	return rows(l.db, func(h *Holding) []any { return []any{&h.ID, &h.Entry, &h.Subject, &h.Body} },
		"SELECT id, entry, subject, body FROM holdings WHERE id IN (SELECT max(id) FROM holdings GROUP BY subject) ORDER BY subject")
}

// Problems returns what the current evidence said and was not understood.
func (l *Ledger) Problems() ([]estate.Problem, error) {
	return rows(l.db, func(p *estate.Problem) []any {
		return []any{&p.Cite.File, &p.Cite.Line, &p.Cite.Where, &p.Cite.Raw, &p.Text}
	}, "SELECT file, line, place, raw, text FROM problems ORDER BY entry, file, line")
}

// FilesOf returns the evidence from which the subject's current facts come.
func (t *Tx) FilesOf(subject string) ([]string, error) {
	bodies, err := rows(t.tx, func(s *string) []any { return []any{s} },
		"SELECT f.value FROM holdings h, json_each(h.body, '$.files') f WHERE h.id = (SELECT max(id) FROM holdings WHERE subject = ?)", subject)
	return bodies, err
}

// Latest returns the facts found last about a subject; empty if there are none.
func (t *Tx) Latest(subject string) (body string, err error) {
	err = t.tx.QueryRow("SELECT body FROM holdings WHERE subject = ? ORDER BY id DESC LIMIT 1", subject).Scan(&body)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return body, err
}

// querier is a database or a change of it.
type querier interface {
	Query(query string, args ...any) (*sql.Rows, error)
}

// rows runs a query and fills one T for each row.
func rows[T any](db querier, fields func(*T) []any, query string, args ...any) ([]T, error) {
	found, err := db.Query(query, args...)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	var all []T
	for found.Next() {
		var one T
		if err := found.Scan(fields(&one)...); err != nil {
			return nil, err
		}
		all = append(all, one)
	}
	return all, found.Err()
}

// Load fills the named columns of a holding's objects; without names, all.
func (l *Ledger) Load(holding int64, objects *estate.Objects, names ...string) error {
	for name, column := range objects.Columns() {
		if len(names) > 0 && !slices.Contains(names, name) {
			continue
		}
		if err := l.loadColumn(holding, name, column); err != nil {
			return fmt.Errorf("read column %s of the ledger: %w", name, err)
		}
	}
	return nil
}

func (l *Ledger) loadColumn(holding int64, name string, column estate.Column) error {
	found, err := l.db.Query("SELECT data FROM chunks WHERE holding = ? AND name = ? ORDER BY chunk", holding, name)
	if err != nil {
		return err
	}
	defer found.Close()
	for found.Next() {
		var data []byte
		if err := found.Scan(&data); err != nil {
			return err
		}
		if err := column.Load(data); err != nil {
			return err
		}
	}
	return found.Err()
}

// Tx is one change of the ledger: all of it is kept, or none.
type Tx struct {
	tx    *sql.Tx
	entry int64
}

// Change begins a change.
func (l *Ledger) Change() (*Tx, error) {
	tx, err := l.db.Begin()
	if err != nil {
		return nil, err
	}
	return &Tx{tx: tx}, nil
}

// TryChange begins a change if no other program is at one.
func (l *Ledger) TryChange() (*Tx, error) {
	const wait = "PRAGMA busy_timeout = 30000"
	if _, err := l.db.Exec("PRAGMA busy_timeout = 0"); err != nil {
		return nil, err
	}
	t, err := l.Change()
	if err != nil {
		_, _ = l.db.Exec(wait)
		return nil, err
	}
	_, err = t.tx.Exec(wait)
	return t, err
}

// Commit keeps the change.
func (t *Tx) Commit() error { return t.tx.Commit() }

// Rollback forgets the change; after Commit it does nothing.
func (t *Tx) Rollback() { _ = t.tx.Rollback() }

// AddEvidence records a file under the entry appended before.
func (t *Tx) AddEvidence(e Evidence) error {
	_, err := t.tx.Exec("INSERT INTO evidence VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", e.Name, t.entry, e.Path, e.Format, e.Size, e.Written, e.SHA256, e.StoredSHA256, e.Struck, e.Tree, e.Part)
	return err
}

// AddProblem records what was not understood.
func (t *Tx) AddProblem(p estate.Problem) error {
	_, err := t.tx.Exec("INSERT INTO problems VALUES (?, ?, ?, ?, ?, ?)", t.entry, p.Cite.File, p.Cite.Line, p.Cite.Where, p.Cite.Raw, p.Text)
	return err
}

// AddHolding records the facts about a subject, which from now on are the
// current ones. objects may be nil.
func (t *Tx) AddHolding(subject string, facts any, objects *estate.Objects) error {
	body, err := json.Marshal(facts)
	if err != nil {
		return err
	}
	res, err := t.tx.Exec("INSERT INTO holdings (entry, subject, body) VALUES (?, ?, ?)", t.entry, subject, string(body))
	if err != nil || objects == nil {
		return err
	}
	id, err := res.LastInsertId()
	if err != nil {
		return err
	}
	add, err := t.tx.Prepare("INSERT INTO chunks VALUES (?, ?, ?, ?)")
	if err != nil {
		return err
	}
	defer add.Close()
	for name, column := range objects.Columns() {
		for i := range column.Chunks() {
			if _, err := add.Exec(id, name, i, column.Chunk(i)); err != nil {
				return err
			}
		}
	}
	return nil
}

// AddWeighing records a weighing's whole result.
func (t *Tx) AddWeighing(number int64, body []byte) error {
	_, err := t.tx.Exec("INSERT INTO weighings VALUES (?, ?, ?)", number, t.entry, string(body))
	return err
}

// NextWeighing returns the number that the next weighing gets.
func (t *Tx) NextWeighing() (n int64, err error) {
	err = t.tx.QueryRow("SELECT coalesce(max(number), 0) + 1 FROM weighings").Scan(&n)
	return n, err
}
