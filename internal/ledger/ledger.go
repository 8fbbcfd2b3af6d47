// Package ledger keeps an engagement's record in one SQLite file: entries that
// are only ever added and are chained by hashes, and the facts that the
// readers found, written in the same transaction as the entry that tells of
// them.
package ledger

import (
	"bytes"
	"compress/flate"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"math"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"sternledger/internal/core/estate"
)

// FileName is the ledger's name in an engagement folder.
const FileName = "ledger.db"

// version is written into the file; a ledger of a higher one is not touched. One of
// version 2 is read as it is, and becomes one of version 3 when a record is added.
const (
	oldest  = 2
	version = 3
)

// application marks the file as ours in SQLite's header ("StLg").
const application = 0x53744c67

// Errors that callers tell apart.
var (
	ErrNewer     = errors.New("the ledger was written by a newer program")
	ErrOlder     = errors.New("the ledger was written before the first release")
	ErrNotLedger = errors.New("not a ledger")
	ErrReadOnly  = errors.New("the engagement cannot be written to; give yourself the right to write in its folder, or copy it to where you have it")
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
  id INTEGER PRIMARY KEY, entry INTEGER NOT NULL REFERENCES entries DEFERRABLE INITIALLY DEFERRED, subject TEXT NOT NULL, body TEXT NOT NULL) STRICT;
CREATE INDEX holdings_subject ON holdings (subject, id);
CREATE TABLE chunks (
  holding INTEGER NOT NULL REFERENCES holdings, name TEXT NOT NULL, chunk INTEGER NOT NULL, data BLOB NOT NULL) STRICT;
CREATE UNIQUE INDEX chunks_place ON chunks (holding, name, chunk);
CREATE TABLE weighings (
  number INTEGER PRIMARY KEY, entry INTEGER NOT NULL REFERENCES entries, body TEXT NOT NULL) STRICT;
CREATE TABLE texts (sha256 TEXT PRIMARY KEY, text TEXT NOT NULL) STRICT;
`

// schema3 is what version 3 adds: weighings kept as records, deflated.
const schema3 = `
CREATE TABLE records (
  number INTEGER PRIMARY KEY, entry INTEGER NOT NULL REFERENCES entries, data BLOB NOT NULL) STRICT;
`

// Ledger is an open ledger, or an earlier state of one.
type Ledger struct {
	db     *sql.DB
	ctx    context.Context // ends what is under way when the program is told to end
	before int64           // only what was entered before this entry is seen
}

// Before returns the ledger as it was before an entry. Only the ledger itself
// is closed.
func (l *Ledger) Before(entry int64) *Ledger { return &Ledger{l.db, l.ctx, entry} }

// Create makes an empty ledger in a folder that has none.
func Create(dir string) error {
	path := filepath.Join(dir, FileName)
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	f.Close()
	l, err := connect(context.Background(), path, changing)
	if err != nil {
		return err
	}
	defer l.Close()
	_, err = l.db.Exec(fmt.Sprintf("PRAGMA page_size = 16384; PRAGMA application_id = %d; BEGIN; %s PRAGMA user_version = %d; COMMIT;",
		application, schema+schema3, version))
	return err
}

// Open opens a folder's ledger. It may be somebody else's, and made to do harm:
// nothing is asked of it before its schema is known to be ours. ctx ends what is
// under way.
func Open(ctx context.Context, dir string) (*Ledger, error) { return openAs(ctx, dir, changing) }

// OpenToRead opens a folder's ledger so that nothing can change it, and nothing
// that lies beside it is looked at.
func OpenToRead(ctx context.Context, dir string) (*Ledger, error) { return openAs(ctx, dir, reading) }

func openAs(ctx context.Context, dir, how string) (*Ledger, error) {
	path := filepath.Join(dir, FileName)
	if _, err := os.Lstat(path); errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s: no ledger here; start an engagement with \"sternledger begin %s\"", path, dir)
	}
	if err := harmless(path); err != nil {
		return nil, err
	}
	l, err := connect(ctx, path, how)
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
	case has < oldest:
		err = fmt.Errorf("%s: %w; begin a new engagement and gather the same exports", path, ErrOlder)
	case has > version:
		err = fmt.Errorf("%s: %w: it is of version %d, this program knows up to %d; use the newer program", path, ErrNewer, has, version)
	default:
		if err = l.checkSchema(has); err != nil {
			err = fmt.Errorf("%s: %w", path, err)
		}
	}
	if err != nil {
		l.Close()
		return nil, err
	}
	return l, nil
}

// How a ledger is opened. A rollback journal keeps it in one file; whoever finds
// it in use waits, and a writer takes its place in the queue when it begins.
const (
	always = "?_pragma=busy_timeout(30000)&_pragma=foreign_keys(1)&_pragma=trusted_schema(0)&_pragma=cell_size_check(1)" +
		"&_pragma=cache_size(-16384)"
	changing = always + "&_pragma=synchronous(FULL)&_txlock=immediate"
	reading  = always + "&mode=ro&immutable=1"
)

func connect(ctx context.Context, path, how string) (*Ledger, error) {
	name := filepath.ToSlash(path)
	if filepath.VolumeName(path) != "" {
		name = "/" + name // file:///C:/… is what SQLite takes
	}
	db, err := sql.Open("sqlite", (&url.URL{Scheme: "file", OmitHost: true, Path: name}).String()+how)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	return &Ledger{db, ctx, math.MaxInt64}, nil
}

// Last returns the number of the last entry; 0 for none.
func (l *Ledger) Last() (seq int64, err error) {
	err = l.db.QueryRow("SELECT coalesce(max(seq), 0) FROM entries WHERE seq < ?", l.before).Scan(&seq)
	return seq, err
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
func (l *Ledger) Evidence() ([]Evidence, error) { return evidence(l.db, l.before) }

// Evidence returns all evidence as the change sees it.
func (t *Tx) Evidence() ([]Evidence, error) { return evidence(t.tx, math.MaxInt64) }

func evidence(from querier, before int64) ([]Evidence, error) {
	return rows(from, func(e *Evidence) []any {
		return []any{&e.Name, &e.Path, &e.Format, &e.Size, &e.Written, &e.SHA256, &e.StoredSHA256, &e.Struck, &e.Entry, &e.Tree, &e.Part}
	}, "SELECT name, path, format, size, written, sha256, stored_sha256, struck, entry, tree, part FROM evidence WHERE entry < ? "+
		"ORDER BY entry, name", before)
}

// Holding is the facts about one subject: an authority or a template.
type Holding struct {
	ID      int64
	Entry   int64
	Subject string
	Body    string // JSON
}

// Current returns, for every subject, the facts found last.
func (l *Ledger) Current(aside Aside) ([]Holding, error) {
	current, args := newest(aside, "entry < ?", l.before)
	return rows(l.db, func(h *Holding) []any { return []any{&h.ID, &h.Entry, &h.Subject, &h.Body} },
		"SELECT id, entry, subject, body FROM holdings WHERE id IN ("+current+") ORDER BY subject", args...)
}

// Aside is what does not count: facts in which evidence of these names has a part, and those
// about subjects from before an entry.
type Aside struct {
	Files    []string
	Subjects map[string]int64
}

// newest selects the newest holding of each subject, of those that a condition
// picks and that no file set aside has given anything to. The newest is that of the
// newest entry, which the chain proves: no number that nothing proves decides it.
func newest(aside Aside, condition string, args ...any) (string, []any) {
	from := "FROM holdings h WHERE subject <> '' AND " + condition // without what was discarded
	if len(aside.Files) > 0 {
		names, _ := json.Marshal(aside.Files)
		from += " AND NOT EXISTS (SELECT 1 FROM json_each(h.body, '$.files') f " +
			"JOIN json_each(?) a ON f.value = a.value) AND coalesce(json_extract(h.body, '$.policy.cite.file'), '') NOT IN " +
			"(SELECT value FROM json_each(?))"
		args = append(args, string(names), string(names))
	}
	if len(aside.Subjects) > 0 {
		subjects, _ := json.Marshal(aside.Subjects)
		from += " AND NOT EXISTS (SELECT 1 FROM json_each(?) s WHERE s.key = h.subject AND h.entry < s.value)"
		args = append(args, string(subjects))
	}
	return "SELECT id FROM (SELECT id, row_number() OVER (PARTITION BY subject ORDER BY entry DESC) AS place " + from + ") WHERE place = 1", args
}

// CurrentBelow returns, for every subject whose name begins so, the facts found last.
func (t *Tx) CurrentBelow(prefix string, aside Aside) ([]Holding, error) {
	current, args := newest(aside, "substr(subject, 1, ?) = ?", len(prefix), prefix)
	return rows(t.tx, func(h *Holding) []any { return []any{&h.ID, &h.Entry, &h.Subject, &h.Body} },
		"SELECT id, entry, subject, body FROM holdings WHERE id IN ("+current+") ORDER BY subject", args...)
}

// Problems returns what the current evidence said and was not understood.
func (l *Ledger) Problems() ([]estate.Problem, error) {
	return problems(l.db, "SELECT file, line, place, raw, text FROM problems WHERE entry < ? ORDER BY entry, file, line", l.before)
}

func problems(from querier, query string, entry int64) ([]estate.Problem, error) {
	return rows(from, func(p *estate.Problem) []any {
		return []any{&p.Cite.File, &p.Cite.Line, &p.Cite.Where, &p.Cite.Raw, &p.Text}
	}, query, entry)
}

// FilesOf returns the evidence from which the subject's current facts come.
func (t *Tx) FilesOf(subject string, aside Aside) ([]string, error) {
	ids, args := newest(aside, "subject = ?", subject)
	return rows(t.tx, func(s *string) []any { return []any{s} },
		"SELECT f.value FROM holdings h, json_each(h.body, '$.files') f WHERE h.id IN ("+ids+")", args...)
}

// CurrentFiles returns the evidence from which any subject's current facts come.
func (t *Tx) CurrentFiles(aside Aside) (map[string]bool, error) {
	ids, args := newest(aside, "true")
	current := "SELECT body FROM holdings WHERE id IN (" + ids + ")"
	names, err := rows(t.tx, func(s *string) []any { return []any{s} },
		"SELECT f.value FROM ("+current+") h, json_each(h.body, '$.files') f UNION SELECT json_extract(body, '$.policy.cite.file') FROM ("+
			current+") WHERE json_extract(body, '$.policy.cite.file') IS NOT NULL", append(slices.Clone(args), args...)...)
	all := map[string]bool{}
	for _, name := range names {
		all[name] = true
	}
	return all, err
}

// Latest returns the facts found last about a subject; empty if there are none.
func (t *Tx) Latest(subject string, aside Aside) (body string, err error) {
	ids, args := newest(aside, "subject = ?", subject)
	err = t.tx.QueryRow("SELECT body FROM holdings WHERE id IN ("+ids+")", args...).Scan(&body)
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

// Load fills the named columns of holdings' objects, by the holdings' ids; without
// names, all. It is one question, however many holdings there are.
func (l *Ledger) Load(objects map[int64]*estate.Objects, names ...string) error {
	columns := map[int64]map[string]estate.Column{}
	var ids []int64
	for id, o := range objects {
		ids, columns[id] = append(ids, id), maps.Collect(o.Columns())
	}
	slices.Sort(ids)
	if len(names) == 0 {
		for name := range (&estate.Objects{}).Columns() {
			names = append(names, name)
		}
	}
	wanted, err := json.Marshal(ids)
	if err != nil {
		return err
	}
	called, err := json.Marshal(names)
	if err != nil {
		return err
	}
	found, err := l.db.Query(`SELECT c.holding, c.name, c.data FROM json_each(?) h CROSS JOIN chunks c ON c.holding = h.value
		AND c.name IN (SELECT value FROM json_each(?)) ORDER BY c.holding, c.name, c.chunk`, string(wanted), string(called))
	if err != nil {
		return err
	}
	defer found.Close()
	for found.Next() {
		var holding int64
		var name string
		var data []byte
		if err := found.Scan(&holding, &name, &data); err != nil {
			return err
		}
		if column := columns[holding][name]; column == nil {
			continue // of a later version
		} else if err := column.Load(data); err != nil {
			return fmt.Errorf("read column %s of the ledger: %w", name, err)
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
	tx, err := l.db.BeginTx(l.ctx, nil)
	if err != nil {
		return nil, readOnly(err)
	}
	return &Tx{tx: tx}, nil
}

// readOnly words what SQLite says of a file, or of a folder for its journal, that cannot
// be written.
func readOnly(err error) error {
	var from *sqlite.Error
	const kind = 0xff // the rest of the code says more of it
	if errors.As(err, &from) && (from.Code()&kind == sqlite3.SQLITE_READONLY || from.Code()&kind == sqlite3.SQLITE_CANTOPEN) {
		return ErrReadOnly
	}
	return err
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
func (t *Tx) Commit() error { return readOnly(t.tx.Commit()) }

// Rollback forgets the change; after Commit it does nothing.
func (t *Tx) Rollback() { _ = t.tx.Rollback() }

// AddEvidence records a file under the entry appended before.
func (t *Tx) AddEvidence(e Evidence) error {
	_, err := t.tx.Exec("INSERT INTO evidence VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", e.Name, t.entry, e.Path, e.Format, e.Size,
		e.Written, e.SHA256, e.StoredSHA256, e.Struck, e.Tree, e.Part)
	return err
}

// AddProblem records what was not understood.
func (t *Tx) AddProblem(p estate.Problem) error {
	_, err := t.tx.Exec("INSERT INTO problems VALUES (?, ?, ?, ?, ?, ?)", t.entry, p.Cite.File, p.Cite.Line, p.Cite.Where, p.Cite.Raw, p.Text)
	return err
}

// Gone is what a change discarded.
type Gone struct {
	Facts    []Holding                  // without what they said
	Problems map[int64][]estate.Problem // what is left, of the entries that lost any
	Together map[string]bool            // the evidence that the facts were made of
}

// Discard removes evidence, all facts that it has a part in, what was not understood of it,
// and records of weighings. What is removed is overwritten.
func (t *Tx) Discard(names []string, records []int64) (*Gone, error) {
	if _, err := t.tx.Exec("PRAGMA secure_delete = 1"); err != nil {
		return nil, err
	}
	list, err := json.Marshal(names)
	if err != nil {
		return nil, err
	}
	const made = "FROM holdings h WHERE EXISTS (SELECT 1 FROM json_each(h.body, '$.files') f JOIN json_each(?) a ON f.value = a.value) " +
		"OR coalesce(json_extract(h.body, '$.policy.cite.file'), '') IN (SELECT value FROM json_each(?))"
	gone := &Gone{Problems: map[int64][]estate.Problem{}, Together: map[string]bool{}}
	if gone.Facts, err = rows(t.tx, func(h *Holding) []any { return []any{&h.ID, &h.Entry, &h.Subject} },
		"SELECT h.id, h.entry, h.subject "+made+" ORDER BY h.id", string(list), string(list)); err != nil {
		return nil, err
	}
	for _, h := range gone.Facts {
		files, err := rows(t.tx, func(s *string) []any { return []any{s} },
			"SELECT f.value FROM holdings h, json_each(h.body, '$.files') f WHERE h.id = ?", h.ID)
		if err != nil {
			return nil, err
		}
		for _, name := range files {
			gone.Together[name] = true
		}
		// The row stays, empty: no other may get its number.
		for _, change := range []string{"DELETE FROM chunks WHERE holding = ?", "UPDATE holdings SET subject = '', body = '{}' WHERE id = ?"} {
			if _, err := t.tx.Exec(change, h.ID); err != nil {
				return nil, err
			}
		}
	}
	const of = "file IN (SELECT value FROM json_each(?))"
	entries, err := rows(t.tx, func(n *int64) []any { return []any{n} }, "SELECT DISTINCT entry FROM problems WHERE "+of, string(list))
	if err != nil {
		return nil, err
	}
	if _, err := t.tx.Exec("DELETE FROM problems WHERE "+of, string(list)); err != nil {
		return nil, err
	}
	for _, entry := range entries {
		if gone.Problems[entry], err = problems(t.tx, problemsOf, entry); err != nil {
			return nil, err
		}
	}
	if _, err := t.tx.Exec("DELETE FROM evidence WHERE name IN (SELECT value FROM json_each(?))", string(list)); err != nil {
		return nil, err
	}
	tables := []string{"weighings"}
	if hasRecords(t.tx) {
		tables = append(tables, "records")
	}
	for _, table := range tables {
		for _, n := range records {
			if _, err := t.tx.Exec("DELETE FROM "+table+" WHERE number = ?", n); err != nil {
				return nil, err
			}
		}
	}
	return gone, nil
}

// Shrink gives back the room of what was discarded, and leaves nothing of it in the file.
func (l *Ledger) Shrink() error {
	_, err := l.db.Exec("VACUUM")
	return readOnly(err)
}

// Reserve takes the next entry's number for what is added before the entry
// itself, which must be appended in the same change.
func (t *Tx) Reserve() error {
	return t.tx.QueryRow("SELECT coalesce(max(seq), 0) + 1 FROM entries").Scan(&t.entry)
}

// Last returns the number of the last entry.
func (t *Tx) Last() (seq int64, err error) {
	err = t.tx.QueryRow("SELECT coalesce(max(seq), 0) FROM entries").Scan(&seq)
	return seq, err
}

// AddHolding records the facts about a subject, which from now on are the
// current ones, and returns their digest for the entry that tells of them.
// objects may be nil; of many, what answers for single ones is kept beside them.
func (t *Tx) AddHolding(subject string, facts any, objects *estate.Objects) (digest string, err error) {
	body, err := json.Marshal(facts)
	if err != nil {
		return "", err
	}
	res, err := t.tx.Exec("INSERT INTO holdings (entry, subject, body) VALUES (?, ?, ?)", t.entry, subject, string(body))
	if err != nil {
		return "", err
	}
	id, err := res.LastInsertId()
	if err != nil {
		return "", err
	}
	d := newDigest()
	d.add(strconv.AppendInt(nil, id, 10))
	d.add(body)
	if objects != nil {
		add, err := t.tx.Prepare("INSERT INTO chunks VALUES (?, ?, ?, ?)")
		if err != nil {
			return "", err
		}
		defer add.Close()
		var quick estate.Quick
		made := make(chan estate.Quick, 1)
		if objects.Len() >= estate.QuickFrom {
			go func() { made <- *estate.NewQuick(objects) }()
		}
		put := func(name string, column estate.Column) error {
			for i := range column.Chunks() {
				chunk := column.Chunk(i)
				d.chunk(name, i, chunk)
				if _, err := add.Exec(id, name, i, chunk); err != nil {
					return err
				}
			}
			return nil
		}
		for name, column := range objects.Columns() {
			if err := put(name, column); err != nil {
				return "", err
			}
		}
		if objects.Len() >= estate.QuickFrom {
			quick = <-made
			for name, column := range quick.Columns() {
				if err := put(name, column); err != nil {
					return "", err
				}
			}
		}
	}
	return d.sum(), nil
}

// Quick reads what answers for single accounts of a holding; nil where it has none.
func (l *Ledger) Quick(holding int64) (*estate.Quick, error) {
	q := &estate.Quick{}
	columns := map[string]estate.Column{}
	for name, c := range q.Whole() {
		columns[name] = c
	}
	called, err := json.Marshal(slices.Sorted(maps.Keys(columns)))
	if err != nil {
		return nil, err
	}
	found, err := l.db.Query(`SELECT name, data FROM chunks WHERE holding = ? AND name IN (SELECT value FROM json_each(?)) `+
		`ORDER BY name, chunk`,
		holding, string(called))
	if err != nil {
		return nil, err
	}
	defer found.Close()
	for found.Next() {
		var name string
		var data []byte
		if err := found.Scan(&name, &data); err != nil {
			return nil, err
		}
		if err := columns[name].Load(data); err != nil {
			return nil, fmt.Errorf("read column %s of the ledger: %w", name, err)
		}
	}
	if q.Rows.Len() == 0 {
		return nil, found.Err()
	}
	return q, found.Err()
}

// parts are the columns of one holding.
type parts struct {
	l       *Ledger
	holding int64
	sizes   map[string][]int
	part    *sql.Stmt
}

// Parts reads parts of a holding's columns, until Close.
func (l *Ledger) Parts(holding int64) (estate.Parts, func() error, error) {
	part, err := l.db.Prepare("SELECT substr(data, ?, ?) FROM chunks WHERE holding = ? AND name = ? AND chunk = ?")
	if err != nil {
		return nil, nil, err
	}
	return &parts{l, holding, map[string][]int{}, part}, part.Close, nil
}

func (p *parts) Sizes(column string) ([]int, error) {
	if known, ok := p.sizes[column]; ok {
		return known, nil
	}
	all, err := rows(p.l.db, func(n *int) []any { return []any{n} },
		"SELECT length(data) FROM chunks WHERE holding = ? AND name = ? ORDER BY chunk",
		p.holding, column)
	p.sizes[column] = all
	return all, err
}

func (p *parts) Part(column string, chunk, from, to int) (data []byte, err error) {
	err = p.part.QueryRow(from+1, to-from, p.holding, column, chunk).Scan(&data)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return data, err
}

// digest hashes while the database writes.
type digest struct {
	parts chan []byte
	done  chan string
}

func newDigest() *digest {
	d := &digest{make(chan []byte, 8), make(chan string, 1)}
	go func() {
		h := sha256.New()
		for part := range d.parts {
			_ = binary.Write(h, binary.BigEndian, uint64(len(part))) // so that no byte moves from one part to the next
			h.Write(part)
		}
		d.done <- hex.EncodeToString(h.Sum(nil))
	}()
	return d
}

func (d *digest) add(part []byte) { d.parts <- part }

// chunk digests a chunk with its place.
func (d *digest) chunk(name string, number int, data []byte) {
	d.add([]byte(name))
	d.add(strconv.AppendInt(nil, int64(number), 10))
	d.add(data)
}

func (d *digest) sum() string {
	close(d.parts)
	return <-d.done
}

// DigestForm is how the digests of facts are made that this version writes: they cover
// a holding's number, its body, and of each chunk the column and place. Those of form 1,
// of versions before 0.5, covered bodies and data alone; what they leave open Unvouched
// and DigestsOf look for.
const DigestForm = 2

// DigestsOf returns the digests of an entry's facts as they are now, by subject; odd
// says what no digest of that form would show.
func (l *Ledger) DigestsOf(entry int64, form int) (all map[string]string, odd []string, err error) {
	holdings, err := rows(l.db, func(h *Holding) []any { return []any{&h.ID, &h.Subject, &h.Body} },
		"SELECT id, subject, body FROM holdings WHERE entry = ? AND subject <> ''", entry)
	if err != nil {
		return nil, nil, err
	}
	all = map[string]string{}
	for _, h := range holdings {
		if _, twice := all[h.Subject]; twice {
			odd = append(odd, "the ledger has a second row of facts about "+h.Subject)
			continue
		}
		sum, why, err := l.digestOf(&h, form)
		if err != nil {
			return nil, nil, err
		}
		if all[h.Subject] = sum; why != "" {
			odd = append(odd, "the facts about "+h.Subject+": "+why)
		}
	}
	return all, odd, nil
}

// columnsOf are the columns of a form, in the order in which form 1 digests them.
func columnsOf(form int) (names []string) {
	for name := range (&estate.Objects{}).Columns() {
		names = append(names, name)
	}
	for name := range (&estate.Quick{}).Columns() {
		names = append(names, name)
	}
	if form == 1 { // those that its versions had
		names = slices.DeleteFunc(names, func(name string) bool { return estate.Since2(name) })
	}
	return names
}

// digestOf digests one holding; why says what a digest of that form leaves open and is
// not as it is written.
func (l *Ledger) digestOf(h *Holding, form int) (sum, why string, err error) {
	d := newDigest()
	if form > 1 {
		d.add(strconv.AppendInt(nil, h.ID, 10))
	}
	d.add([]byte(h.Body))
	known, total := columnsOf(form), 0
	for _, name := range known {
		found, err := l.db.Query("SELECT chunk, data FROM chunks WHERE holding = ? AND name = ? ORDER BY chunk", h.ID, name)
		if err != nil {
			return "", "", err
		}
		for n := 0; found.Next(); n++ {
			var number int
			var data []byte
			if err := found.Scan(&number, &data); err != nil {
				found.Close()
				return "", "", err
			}
			if total++; number != n {
				why = fmt.Sprintf("chunk %d of the column %s is the number %d", n, name, number)
			}
			if form > 1 {
				d.chunk(name, number, data)
			} else {
				d.add(data)
			}
		}
		if err := errors.Join(found.Err(), found.Close()); err != nil {
			return "", "", err
		}
	}
	var there int
	if err := l.db.QueryRow("SELECT count(*) FROM chunks WHERE holding = ?", h.ID).Scan(&there); err != nil {
		return "", "", err
	}
	if there != total {
		why = "a column was added"
	}
	if form == 1 && why == "" {
		why, err = l.uneven(h.ID)
	}
	return d.sum(), why, err
}

// uneven says where the columns of a holding have not the same number of rows: data was
// moved from one to another. Of digests of form 1 nothing else shows it.
func (l *Ledger) uneven(holding int64) (string, error) {
	var o estate.Objects
	if err := l.Load(map[int64]*estate.Objects{holding: &o}); err != nil {
		return err.Error(), nil
	}
	for name, n := range o.Lengths() {
		if n != 0 && n != o.Len() {
			return fmt.Sprintf("the column %s has %d rows of %d", name, n, o.Len()), nil
		}
	}
	return "", nil
}

// Unvouched names rows for which no entry vouches, or whose numbers are not those that
// the ledger gave them, in any table but that of the entries: facts, what was not
// understood and files belong to gathers, records to weighings, and each text to an
// entry that names it by its SHA-256. gathers and weighings are the kinds of entries.
func (l *Ledger) Unvouched(gather, weigh string) (all []string, err error) {
	for _, ask := range []struct {
		text, query string
		args        []any
	}{
		{"row %s of the facts belongs to no gather", "SELECT h.id FROM holdings h JOIN entries e ON e.seq = h.entry WHERE e.kind <> ? AND e.seq < ?",
			[]any{gather, l.before}},
		{"row %s of the facts was discarded, and holds something", "SELECT id FROM holdings h WHERE subject = '' AND (body <> '{}' OR EXISTS " +
			"(SELECT 1 FROM chunks c WHERE c.holding = h.id))", nil},
		{"row %s of what was not understood belongs to no gather",
			"SELECT p.rowid FROM problems p JOIN entries e ON e.seq = p.entry WHERE e.kind <> ? AND e.seq < ?", []any{gather, l.before}},
		{"the file %s belongs to no gather", "SELECT v.name FROM evidence v JOIN entries e ON e.seq = v.entry WHERE e.kind <> ? AND e.seq < ?",
			[]any{gather, l.before}},
		{"the record of weighing %s belongs to no entry that tells of one",
			"SELECT w.number FROM (" + weighings(l.db) + ") w JOIN entries e ON e.seq = w.entry WHERE e.kind <> ? AND e.seq < ?", []any{weigh, l.before}},
		{"two records belong to entry %s", "SELECT entry FROM (" + weighings(l.db) + ") GROUP BY entry HAVING count(*) > 1", nil},
		{"row %s of the facts is not where it was written", "SELECT id FROM (SELECT id, row_number() OVER (ORDER BY id) AS place, " +
			"entry, lag(entry, 1, 0) OVER (ORDER BY id) AS before FROM holdings) WHERE id <> place OR entry < before", nil},
		{"the text %s is named by no entry", "SELECT t.sha256 FROM texts t WHERE NOT EXISTS (SELECT 1 FROM entries e WHERE instr(e.body, t.sha256) > 0)",
			nil},
	} {
		found, err := rows(l.db, func(s *string) []any { return []any{s} }, ask.query, ask.args...)
		if err != nil {
			return nil, err
		}
		for _, one := range found {
			all = append(all, fmt.Sprintf(ask.text, one))
		}
	}
	texts, err := l.db.Query("SELECT sha256, text FROM texts")
	if err != nil {
		return nil, err
	}
	defer texts.Close()
	for texts.Next() {
		var key, text string
		if err := texts.Scan(&key, &text); err != nil {
			return nil, err
		}
		if sum := sha256.Sum256([]byte(text)); hex.EncodeToString(sum[:]) != key {
			all = append(all, "the text kept under "+key+" is another")
		}
	}
	return all, texts.Err()
}

const problemsOf = "SELECT file, line, place, raw, text FROM problems WHERE entry = ? ORDER BY rowid"

// ProblemsOf returns an entry's problems.
func (l *Ledger) ProblemsOf(entry int64) ([]estate.Problem, error) {
	return problems(l.db, problemsOf, entry)
}

// Check asks the database itself whether it is whole.
func (l *Ledger) Check() error {
	for _, ask := range []string{"SELECT integrity_check FROM pragma_integrity_check WHERE integrity_check <> 'ok'",
		"SELECT 'a row of ' || \"table\" || ' names an entry that is not there' FROM pragma_foreign_key_check"} {
		said, err := rows(l.db, func(s *string) []any { return []any{s} }, ask)
		if err != nil {
			return fmt.Errorf("the database is damaged: %w", err)
		}
		if len(said) > 0 {
			return fmt.Errorf("the database is damaged: %s", said[0])
		}
	}
	return nil
}

// AddRecord keeps a weighing's record. A ledger of an older version becomes one
// that can hold it.
func (t *Tx) AddRecord(number int64, data []byte) error {
	var has int
	if err := t.tx.QueryRow("SELECT user_version FROM pragma_user_version").Scan(&has); err != nil {
		return err
	}
	if has < version {
		if _, err := t.tx.Exec(schema3 + fmt.Sprintf("PRAGMA user_version = %d;", version)); err != nil {
			return fmt.Errorf("the ledger cannot be brought to version %d: %w", version, err)
		}
	}
	var packed bytes.Buffer
	z, err := flate.NewWriter(&packed, flate.DefaultCompression)
	if err != nil {
		return err
	}
	if _, err := z.Write(data); err != nil {
		return err
	}
	if err := z.Close(); err != nil {
		return err
	}
	_, err = t.tx.Exec("INSERT INTO records VALUES (?, ?, ?)", number, t.entry, packed.Bytes())
	return err
}

// NextWeighing returns the number that the next weighing gets: none is given twice, though
// the record of an earlier one may have been discarded.
func (t *Tx) NextWeighing() (n int64, err error) { return nextWeighing(t.tx, math.MaxInt64) }

// NextWeighing is the same.
func (l *Ledger) NextWeighing() (n int64, err error) { return nextWeighing(l.db, l.before) }

func nextWeighing(db oneRow, before int64) (n int64, err error) {
	err = db.QueryRow("SELECT coalesce(max(number), 0) + 1 FROM (SELECT number FROM ("+weighings(db)+") WHERE entry < ? UNION ALL "+
		"SELECT json_extract(body, '$.weighing') FROM entries WHERE kind = 'weigh' AND seq < ?)", before, before).Scan(&n)
	return n, err
}

// oneRow is a database or a change of it, asked for one row.
type oneRow interface {
	QueryRow(query string, args ...any) *sql.Row
}

// weighings selects numbers and entries, of both kinds where the ledger has both.
func weighings(db oneRow) string {
	if hasRecords(db) {
		return "SELECT number, entry FROM weighings UNION ALL SELECT number, entry FROM records"
	}
	return "SELECT number, entry FROM weighings"
}

func hasRecords(db oneRow) bool {
	var has int
	err := db.QueryRow("SELECT count(*) FROM sqlite_schema WHERE type = 'table' AND name = 'records'").Scan(&has)
	return err == nil && has == 1
}

// Weighing is a recorded one. It is kept as a record, or, by versions before 0.3,
// as the document that it was shown as.
type Weighing struct {
	Number   int64
	Entry    int64
	Record   []byte
	Document string // JSON
}

// Weighings returns the numbers and entries of all weighings, in order, without
// what they hold.
func (l *Ledger) Weighings() ([]Weighing, error) {
	return rows(l.db, func(w *Weighing) []any { return []any{&w.Number, &w.Entry} }, "SELECT number, entry FROM ("+weighings(l.db)+
		") WHERE entry < ? ORDER BY number", l.before)
}

// mostRecord bounds a record that is unpacked: one that says that it is larger is
// none.
const mostRecord = 4 << 30

// Weighing returns a recorded one with what it holds.
func (l *Ledger) Weighing(number int64) (Weighing, error) {
	w := Weighing{Number: number}
	err := l.db.QueryRow("SELECT entry, body FROM weighings WHERE number = ?", number).Scan(&w.Entry, &w.Document)
	if !errors.Is(err, sql.ErrNoRows) {
		return w, err
	}
	var packed []byte
	if weighings(l.db) == "SELECT number, entry FROM weighings" {
		return w, err
	}
	if err := l.db.QueryRow("SELECT entry, data FROM records WHERE number = ?", number).Scan(&w.Entry, &packed); err != nil {
		return w, err
	}
	var plain bytes.Buffer // which doubles as it grows
	from := bytes.NewReader(packed)
	_, err = io.Copy(&plain, io.LimitReader(flate.NewReader(from), mostRecord))
	if err == nil && from.Len() > 0 {
		err = fmt.Errorf("%d bytes stand behind it", from.Len())
	}
	w.Record = plain.Bytes()
	return w, err
}

// AddText keeps a text under its SHA-256.
func (t *Tx) AddText(sha256, text string) error {
	_, err := t.tx.Exec("INSERT OR IGNORE INTO texts VALUES (?, ?)", sha256, text)
	return err
}

// Text returns the text of that SHA-256.
func (l *Ledger) Text(sha256 string) (text string, err error) {
	if err = l.db.QueryRow("SELECT text FROM texts WHERE sha256 = ?", sha256).Scan(&text); errors.Is(err, sql.ErrNoRows) {
		err = fmt.Errorf("no text with the SHA-256 %s", sha256)
	}
	return text, err
}
