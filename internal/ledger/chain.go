package ledger

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"time"
)

// Entry is one line of the ledger.
type Entry struct {
	Seq      int64
	At       string // RFC 3339, UTC
	Actor    string
	Kind     string
	Body     string // canonical JSON
	Previous string // hash of the entry before; of the first: zeros
	Hash     string
}

// origin stands where the first entry names the one before it.
var origin = hex.EncodeToString(make([]byte, sha256.Size))

// ErrChain is wrapped by errors about an entry that does not hold.
var ErrChain = errors.New("the ledger's chain is broken")

// ChainError is an ErrChain that says at which entry.
type ChainError struct{ Entry int64 }

func (e *ChainError) Error() string { return fmt.Sprintf("%v at entry %d", ErrChain, e.Entry) }
func (e *ChainError) Unwrap() error { return ErrChain }

// hashOf computes an entry's hash: SHA-256 over the previous hash and the
// entry's fields as one JSON array; the body goes in as the text it is.
func hashOf(e *Entry) (string, error) {
	fields, err := json.Marshal([]any{e.Previous, e.Seq, e.At, e.Actor, e.Kind, e.Body})
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(fields)
	return hex.EncodeToString(sum[:]), nil
}

// canonical writes v as JSON with sorted keys and nothing to spare.
func canonical(v any) ([]byte, error) {
	raw, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	d := json.NewDecoder(bytes.NewReader(raw))
	d.UseNumber()
	var tree any
	if err := d.Decode(&tree); err != nil {
		return nil, err
	}
	return json.Marshal(tree)
}

// Append adds an entry at the end of the chain. The clock is read here, where no
// other program can write: entries are in the order of their times.
func (t *Tx) Append(now func() time.Time, actor, kind string, body any) (Entry, error) {
	text, err := canonical(body)
	if err != nil {
		return Entry{}, err
	}
	e := Entry{At: now().UTC().Format(time.RFC3339), Actor: actor, Kind: kind, Body: string(text)}
	err = t.tx.QueryRow("SELECT coalesce(max(seq), 0) + 1, coalesce((SELECT hash FROM entries ORDER BY seq DESC LIMIT 1), ?) FROM entries",
		origin).
		Scan(&e.Seq, &e.Previous)
	if err != nil {
		return Entry{}, err
	}
	if e.Hash, err = hashOf(&e); err != nil {
		return Entry{}, err
	}
	_, err = t.tx.Exec("INSERT INTO entries VALUES (?, ?, ?, ?, ?, ?, ?)", e.Seq, e.At, e.Actor, e.Kind, e.Body, e.Previous, e.Hash)
	t.entry = e.Seq
	return e, readOnly(err)
}

// Entry returns one entry.
func (l *Ledger) Entry(seq int64) (e Entry, err error) {
	err = l.db.QueryRow("SELECT seq, at, actor, kind, body, previous, hash FROM entries WHERE seq = ?", seq).Scan(&e.Seq, &e.At,
		&e.Actor, &e.Kind, &e.Body, &e.Previous, &e.Hash)
	return e, err
}

// Entries returns the whole chain.
func (l *Ledger) Entries() ([]Entry, error) {
	return rows(l.db, func(e *Entry) []any { return []any{&e.Seq, &e.At, &e.Actor, &e.Kind, &e.Body, &e.Previous, &e.Hash} },
		"SELECT seq, at, actor, kind, body, previous, hash FROM entries WHERE seq < ? ORDER BY seq", l.before)
}

// EntriesOf returns the entries of one kind.
func (l *Ledger) EntriesOf(kind string) ([]Entry, error) { return entriesOf(l.db, l.before, kind) }

// EntriesOf returns the entries of one kind, as the change sees them.
func (t *Tx) EntriesOf(kind string) ([]Entry, error) { return entriesOf(t.tx, math.MaxInt64, kind) }

func entriesOf(from querier, before int64, kind string) ([]Entry, error) {
	return rows(from, func(e *Entry) []any { return []any{&e.Seq, &e.At, &e.Actor, &e.Kind, &e.Body, &e.Previous, &e.Hash} },
		"SELECT seq, at, actor, kind, body, previous, hash FROM entries WHERE kind = ? AND seq < ? ORDER BY seq", kind, before)
}

// Entries returns the whole chain as the change sees it.
func (t *Tx) Entries() ([]Entry, error) {
	return rows(t.tx, func(e *Entry) []any { return []any{&e.Seq, &e.At, &e.Actor, &e.Kind, &e.Body, &e.Previous, &e.Hash} },
		"SELECT seq, at, actor, kind, body, previous, hash FROM entries ORDER BY seq")
}

// CheckChain proves that no entry was altered, removed or put in between. It
// names the first that does not hold.
func (l *Ledger) CheckChain() error {
	entries, err := l.Entries()
	if err != nil {
		return err
	}
	previous := origin
	for i := range entries {
		e := &entries[i]
		hash, err := hashOf(e)
		if err != nil || e.Seq != int64(i+1) || e.Previous != previous || hash != e.Hash {
			return &ChainError{int64(i + 1)}
		}
		previous = e.Hash
	}
	return nil
}
