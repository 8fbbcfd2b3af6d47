package ledger

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"time"
)

// ErrHostile is wrapped by errors about a ledger that holds, or brings along,
// what this program never makes.
var ErrHostile = errors.New("this program did not make the ledger so; ask for the engagement again, from whom you know")

// journalMagic ends a journal that names a further one.
var journalMagic = []byte{0xd9, 0xd5, 0x05, 0xf9, 0x20, 0xa1, 0x63, 0xd7}

// harmless looks at the files of a ledger before SQLite does: it follows links,
// takes over a log that lies beside the file, and removes files that a journal
// names.
func harmless(path string) error {
	head := make([]byte, 100)
	if n, err := readPlain(path, head, 0); err != nil {
		return err
	} else if head = head[:n]; len(head) == 100 && bytes.HasPrefix(head, []byte("SQLite format 3\x00")) && (head[18] != 1 || head[19] != 1) {
		return fmt.Errorf("%s: it is kept in two files (WAL): %w", path, ErrHostile)
	}
	journal := path + "-journal"
	err := harmlessJournal(journal)
	for begun := time.Now(); err != nil && !errors.Is(err, ErrHostile) && time.Since(begun) < passing; {
		time.Sleep(5 * time.Millisecond)
		err = harmlessJournal(journal)
	}
	return err
}

// passing is how long a journal may be out of reach while another program that
// is done with the ledger takes it away: Windows opens no file that is being removed.
const passing = 2 * time.Second

// harmlessJournal looks at the log of a change. There may be none, or none any
// more: whoever makes a change takes its log away.
func harmlessJournal(journal string) error {
	info, err := os.Lstat(journal)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	tail := make([]byte, 16)
	n, err := readPlain(journal, tail, max(0, info.Size()-16))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return err
	case n == 16 && bytes.Equal(tail[8:], journalMagic) && binary.BigEndian.Uint32(tail) > 0:
		return fmt.Errorf("%s: it names a further journal: %w", journal, ErrHostile)
	}
	return nil
}

// readPlain fills a buffer from a place in a plain file, as far as it goes.
func readPlain(path string, into []byte, at int64) (int, error) {
	info, err := os.Lstat(path)
	if err == nil && !info.Mode().IsRegular() {
		err = fmt.Errorf("%s: no plain file: %w", path, ErrHostile)
	}
	if err != nil {
		return 0, err
	}
	f, err := os.Open(path)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	n, err := f.ReadAt(into, at)
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return n, err
}

// object is one table, index, trigger or view of a schema.
type object struct{ kind, name, text string }

// ours are the objects of a version's schema, as SQLite keeps them.
func ours(version int) map[string]object {
	all := map[string]object{}
	whole := schema
	if version >= 3 {
		whole += schema3
	}
	for text := range strings.SplitSeq(whole, ";\n") {
		if text = spaced(text); text == "" {
			continue
		}
		words := strings.Fields(strings.Replace(text, "UNIQUE ", "", 1))
		o := object{strings.ToLower(words[1]), words[2], text}
		all[o.name] = o
	}
	return all
}

func spaced(text string) string { return strings.Join(strings.Fields(text), " ") }

// checkSchema compares the schema, object by object, with ours: a trigger would
// act on what is written, a view could give answers without end.
func (l *Ledger) checkSchema(version int) error {
	found, err := rows(l.db, func(o *object) []any { return []any{&o.kind, &o.name, &o.text} },
		"SELECT type, name, coalesce(sql, '') FROM sqlite_schema")
	if err != nil {
		return fmt.Errorf("%w: %v; restore the file from a copy", ErrNotLedger, err)
	}
	want := ours(version)
	for _, o := range found {
		switch {
		case o.kind == "index" && o.text == "" && strings.HasPrefix(o.name, "sqlite_autoindex_"):
			continue // a key's own
		case want[o.name].kind != o.kind || want[o.name].text != spaced(o.text):
			return fmt.Errorf("it holds a %s %q: %w", o.kind, o.name, ErrHostile)
		}
		delete(want, o.name)
	}
	for _, o := range want {
		return fmt.Errorf("it holds no %s %q: %w", o.kind, o.name, ErrHostile)
	}
	return nil
}
