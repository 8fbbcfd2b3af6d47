package custody

import (
	"cmp"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"sternledger/internal/core/record"
	"sternledger/internal/ledger"
)

// inputs are what a recorded weighing was made of besides the evidence.
type inputs struct {
	baselines map[string]string // texts, by the names under which they were asked for
	Machines  []string
}

// ErrAltered says that a record is not the one that the chain tells of.
var ErrAltered = errors.New("it was altered")

// Newest is the number of the newest recorded weighing, less so many.
func (e *Engagement) Newest(back int) (int64, error) {
	all, err := e.Ledger.Weighings()
	if err != nil {
		return 0, err
	}
	if len(all) <= back {
		if len(all) == 1 {
			return 0, errors.New("only one weighing is recorded so far; the next is when \"sternledger weigh\" finds evidence, baselines or " +
				"waivers changed")
		}
		return 0, errors.New("no weighing is recorded so far; weigh first, with \"sternledger weigh\"")
	}
	return all[len(all)-1-back].Number, nil
}

// newest reads the newest record; nil where there is none.
func (e *Engagement) RecallLast() (*Weighing, error) {
	all, err := e.Ledger.Weighings()
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return e.Recall(all[len(all)-1].Number)
}

// recallNewest reads the newest record, which there must be.
func (e *Engagement) recallNewest() (*Weighing, error) {
	number, err := e.Newest(0)
	if err != nil {
		return nil, err
	}
	return e.Recall(number)
}

// Recall reads a recorded weighing and proves that it is the one that the chain
// tells of. Nothing is judged again, except for those of versions before records.
func (e *Engagement) Recall(number int64) (*Weighing, error) {
	r, err := e.Recorded(number)
	if err != nil {
		return nil, err
	}
	w := &Weighing{Past: r.past}
	if r.row.Record == nil {
		w, err = r.fromDocument()
	} else {
		w.Record, err = record.Decode(r.row.Record)
	}
	if err == nil {
		w.told = r.Told
		w.At, err = time.Parse(time.RFC3339, w.Made)
	}
	if err != nil {
		return nil, fmt.Errorf("weighing %d: %w", number, err)
	}
	return w, nil
}

// recordedWeighing is a weighing as the ledger keeps it, proven, with the engagement
// as it was.
type recordedWeighing struct {
	row  ledger.Weighing
	Told *WeighEntry
	past *Engagement
}

func (e *Engagement) Recorded(number int64) (*recordedWeighing, error) {
	about := func(err error) error { return fmt.Errorf("weighing %d: %w", number, err) }
	row, err := e.Ledger.Weighing(number)
	if errors.Is(err, sql.ErrNoRows) {
		if entries, err := e.Ledger.EntriesOf(discardKind); err == nil && discardedBy(entries).weighings[number] {
			return nil, fmt.Errorf("weighing %d was removed with evidence that it rested on; \"sternledger entries --kind %s\" says why", number,
				discardKind)
		}
		return nil, fmt.Errorf("there is no weighing %d; \"sternledger entries --kind weigh\" lists them", number)
	}
	if err != nil {
		return nil, about(err)
	}
	entry, err := e.Ledger.Entry(row.Entry)
	if err != nil {
		return nil, about(err)
	}
	past, x, err := e.pastAt(&entry)
	if err != nil {
		return nil, about(err)
	}
	kept := row.Record
	if kept == nil {
		kept = []byte(row.Document)
	}
	if got := HexSum(kept); got != x.Result || x.Weighing != number {
		return nil, about(fmt.Errorf("its record has the SHA-256 %s, entry %d says %s: %w", got, entry.Seq, x.Result, ErrAltered))
	}
	return &recordedWeighing{row, x, past}, nil
}

// again weighs what was weighed, as this program judges it.
func (r *recordedWeighing) again(whole bool) (*Weighing, error) {
	w, err := r.past.judge(r.past, WeighOptions{Against: r.Told.Inputs.Against}, whole)
	if err == nil {
		w.Number = r.Told.Weighing
	}
	return w, err
}

// pastAt is the engagement as it was when a weighing was made.
func (e *Engagement) pastAt(entry *ledger.Entry) (*Engagement, *WeighEntry, error) {
	var x WeighEntry
	if err := json.Unmarshal([]byte(entry.Body), &x); err != nil {
		return nil, nil, fmt.Errorf("entry %d: %w", entry.Seq, err)
	}
	at, err := time.Parse(time.RFC3339, cmp.Or(x.Inputs.AsOf, entry.At))
	if err != nil {
		return nil, nil, fmt.Errorf("entry %d: %w", entry.Seq, err)
	}
	text := func(key string) (string, error) {
		t, err := e.Ledger.Text(key)
		if err == nil && HexSum([]byte(t)) != key {
			err = fmt.Errorf("the text kept under %s: %w", key, ErrAltered)
		}
		return t, err
	}
	config, err := text(x.Inputs.Config)
	if err != nil {
		return nil, nil, err
	}
	past := &Engagement{Dir: e.Dir, Context: e.Context, judge: e.judge, Folder: e.Folder, Weighed: e.Weighed, Surveys: e.Surveys, Age: new(string),
		Ledger: e.Ledger.Before(x.Inputs.Seen + 1), Now: func() time.Time { return at }, Then: &inputs{map[string]string{}, x.Inputs.Machines}}
	if past.Config, err = parseConfig(e.Folder.Path(ConfigName), []byte(config)); err != nil {
		return nil, nil, err
	}
	for id, key := range x.Inputs.Baselines {
		if past.Then.baselines[id], err = text(key); err != nil {
			return nil, nil, err
		}
	}
	return past, &x, nil
}
