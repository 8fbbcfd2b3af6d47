package engagement

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"sternledger/internal/ledger"
)

// inputs are what a recorded weighing was made of besides the evidence.
type inputs struct {
	baselines map[string]string // texts, by the names under which they were asked for
	machines  []string
}

// ErrNotTheSame says that a recorded weighing does not come out the same
// again.
var ErrNotTheSame = errors.New("does not come out the same again")

// Newest is the number of the newest recorded weighing, less so many.
func (e *Engagement) Newest(back int) (int64, error) {
	all, err := e.Ledger.Weighings()
	if err != nil {
		return 0, err
	}
	if len(all) <= back {
		return 0, fmt.Errorf("%s recorded so far; weigh first, with \"sternledger weigh\"", map[int]string{0: "no weighing is", 1: "only one weighing is"}[len(all)])
	}
	return all[len(all)-1-back].Number, nil
}

// recallNewest makes the newest recorded weighing again.
func (e *Engagement) recallNewest() (*Weighing, error) {
	number, err := e.Newest(0)
	if err != nil {
		return nil, err
	}
	_, w, err := e.Recall(number)
	return w, err
}

// Recall makes a recorded weighing again, from the evidence and the inputs of
// its time, and proves that the outcome is the one on record. It returns the
// engagement as it was, too.
func (e *Engagement) Recall(number int64) (*Engagement, *Weighing, error) {
	about := func(err error) error { return fmt.Errorf("weighing %d: %w", number, err) }
	row, err := e.Ledger.Weighing(number)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil, fmt.Errorf("there is no weighing %d; \"sternledger entries --kind weigh\" lists them", number)
	}
	if err != nil {
		return nil, nil, about(err)
	}
	entry, err := e.Ledger.Entry(row.Entry)
	if err != nil {
		return nil, nil, about(err)
	}
	past, x, err := e.pastAt(&entry)
	if err != nil {
		return nil, nil, about(err)
	}
	if got := hexSum([]byte(row.Body)); got != x.Result || x.Weighing != number {
		return nil, nil, about(fmt.Errorf("its record has the SHA-256 %s, entry %d says %s: it was altered", got, entry.Seq, x.Result))
	}
	w, err := past.weighing(WeighOptions{Against: x.Inputs.Against})
	if err != nil {
		return nil, nil, about(err)
	}
	w.Number = number
	body, err := json.Marshal(w.Document())
	if err != nil {
		return nil, nil, about(err)
	}
	if hexSum(body) != x.Result {
		why := "the facts or the record were altered"
		if x.Inputs.Program != Version {
			why = fmt.Sprintf("it was made with program %s, this is %s", x.Inputs.Program, Version)
		}
		return nil, nil, about(fmt.Errorf("%w: %s", ErrNotTheSame, why))
	}
	return past, w, nil
}

// pastAt is the engagement as it was when a weighing was made.
func (e *Engagement) pastAt(entry *ledger.Entry) (*Engagement, *weighEntry, error) {
	var x weighEntry
	if err := json.Unmarshal([]byte(entry.Body), &x); err != nil {
		return nil, nil, fmt.Errorf("entry %d: %w", entry.Seq, err)
	}
	at, err := time.Parse(time.RFC3339, entry.At)
	if err != nil {
		return nil, nil, fmt.Errorf("entry %d: %w", entry.Seq, err)
	}
	text := func(key string) (string, error) {
		t, err := e.Ledger.Text(key)
		if err == nil && hexSum([]byte(t)) != key {
			err = fmt.Errorf("the text kept under %s was altered", key)
		}
		return t, err
	}
	config, err := text(x.Inputs.Config)
	if err != nil {
		return nil, nil, err
	}
	past := &Engagement{Dir: e.Dir, Ledger: e.Ledger.Before(x.Inputs.Seen + 1), Now: func() time.Time { return at }, then: &inputs{map[string]string{}, x.Inputs.Machines}}
	if past.Config, err = parseConfig(filepath.Join(e.Dir, ConfigName), []byte(config)); err != nil {
		return nil, nil, err
	}
	for id, key := range x.Inputs.Baselines {
		if past.then.baselines[id], err = text(key); err != nil {
			return nil, nil, err
		}
	}
	return past, &x, nil
}
