package custody

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"sternledger/internal/ledger"
)

// discardKind is the entry that says that evidence was removed for good, with all that
// was made of it.
const discardKind = "discard"

// discardEntry is its body. Numbers of entries are those of the gathers that took it.
type discardEntry struct {
	Reason    string             `json:"reason"`
	Names     []string           `json:"names"` // of stored copies
	Size      int64              `json:"size"`  // as they were gathered
	Facts     map[int64][]string `json:"facts"` // that were made of it, by subject
	Problems  map[int64]string   `json:"problems_sha256"`
	Weighings []int64            `json:"weighings"` // whose records rested on it
}

// Discarded says what was removed.
type Discarded struct {
	Entry     int64
	Names     []string
	Size      int64
	Weighings []int64
	Again     []string // evidence that facts were made of together with it: to be gathered again
	Before    []string // places with facts before
	After     []string // and now
}

// Discard removes evidence for good, such as another client's: the stored copies, the facts
// that were made of it, and the weighings that rested on them. That it was there, its
// name, size and SHA-256, stays in the ledger, and so does why it went.
func (e *Engagement) Discard(names []string, reason string) (*Discarded, error) {
	if strings.TrimSpace(reason) == "" {
		return nil, fmt.Errorf("without a reason this is refused; say why with --reason")
	}
	seen, err := e.Ledger.Last()
	if err != nil {
		return nil, err
	}
	known, err := e.Ledger.Evidence()
	if err != nil {
		return nil, err
	}
	out := &Discarded{}
	if out.Names, err = meantBy(names, known); err != nil {
		return nil, err
	}
	body := discardEntry{Reason: reason, Names: out.Names, Facts: map[int64][]string{}, Problems: map[int64]string{}, Weighings: []int64{}}
	of := map[string]bool{}
	for _, name := range out.Names {
		of[name] = true
	}
	for _, x := range known {
		if of[x.Name] {
			body.Size += x.Size
		}
	}
	out.Size = body.Size
	if body.Weighings, err = e.restingOn(of); err != nil {
		return nil, err
	}
	if out.Before, err = e.subjects(); err != nil {
		return nil, err
	}
	out.Weighings = body.Weighings
	tx, err := e.Ledger.Change()
	if err != nil {
		return nil, fmt.Errorf("the ledger is in use by another program; try again when it is done: %w", err)
	}
	defer tx.Rollback()
	if now, err := tx.Last(); err != nil || now != seen {
		return nil, errors.Join(err, errors.New("another program added to the ledger meanwhile; try again"))
	}
	gone, err := tx.Discard(out.Names, body.Weighings)
	if err != nil {
		return nil, err
	}
	for _, h := range gone.Facts {
		body.Facts[h.Entry] = append(body.Facts[h.Entry], h.Subject)
	}
	for entry, problems := range gone.Problems {
		if body.Problems[entry], err = ProblemsDigest(problems); err != nil {
			return nil, err
		}
	}
	aside, err := AsideIn(tx)
	if err != nil {
		return nil, err
	}
	current, err := tx.CurrentFiles(aside)
	if err != nil {
		return nil, err
	}
	for name := range gone.Together {
		if !of[name] && !current[name] {
			out.Again = append(out.Again, name)
		}
	}
	slices.Sort(out.Again)
	entry, err := tx.Append(e.Now, e.Actor(), discardKind, body)
	if err != nil {
		return nil, err
	}
	out.Entry = entry.Seq
	entries, err := tx.Entries()
	if err != nil {
		return nil, err
	}
	// First it is recorded: a run that is stopped in between is finished by the next
	// (settle).
	if err := tx.Commit(); err != nil {
		return nil, err
	}
	if err := e.Ledger.Shrink(); err != nil {
		return nil, err
	}
	if err := e.destroy(entries); err != nil {
		return nil, err
	}
	out.After, err = e.subjects()
	return out, err
}

// restingOn are the recorded weighings that any of these files has a part in.
func (e *Engagement) restingOn(files map[string]bool) ([]int64, error) {
	all, err := e.Ledger.Weighings()
	if err != nil {
		return nil, err
	}
	rest := []int64{}
	for _, row := range all {
		w, err := e.Recall(row.Number)
		if err != nil {
			return nil, err
		}
		for name := range w.Files {
			if files[name] {
				rest = append(rest, row.Number)
				break
			}
		}
	}
	return rest, nil
}

// discarded is all that entries say was removed for good.
type discarded struct {
	by        map[string]int64          // the entry, by the name of a stored copy
	facts     map[int64]map[string]bool // subjects, by the entry of their gather
	problems  map[int64]string          // digests of what is left, by that entry
	weighings map[int64]bool            // numbers
}

func discardedBy(entries []ledger.Entry) *discarded {
	d := &discarded{map[string]int64{}, map[int64]map[string]bool{}, map[int64]string{}, map[int64]bool{}}
	for _, entry := range entries {
		var x discardEntry
		if entry.Kind != discardKind || json.Unmarshal([]byte(entry.Body), &x) != nil {
			continue
		}
		for _, name := range x.Names {
			d.by[name] = entry.Seq
		}
		for at, subjects := range x.Facts {
			if d.facts[at] == nil {
				d.facts[at] = map[string]bool{}
			}
			for _, s := range subjects {
				d.facts[at][s] = true
			}
		}
		maps.Copy(d.problems, x.Problems)
		for _, n := range x.Weighings {
			d.weighings[n] = true
		}
	}
	return d
}

// DiscardedIn are the names that stored copies had which were removed for good, as a change
// to the ledger sees them: none is given twice.
func DiscardedIn(tx *ledger.Tx) ([]string, error) {
	entries, err := tx.EntriesOf(discardKind)
	return slices.Sorted(maps.Keys(discardedBy(entries).by)), err
}
