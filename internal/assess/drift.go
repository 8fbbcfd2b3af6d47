package assess

import (
	"fmt"
	"time"

	"sternledger/internal/core/drift"
	"sternledger/internal/custody"
)

// Drift says what changed between two recorded weighings.
func Drift(e *custody.Engagement, before, after int64) (*drift.Report, error) {
	a, err := stateAt(e, before)
	if err != nil {
		return nil, err
	}
	b, err := stateAt(e, after)
	if err != nil {
		return nil, err
	}
	return drift.Between(*a, *b), nil
}

// state reads a recorded weighing for a comparison.
func stateAt(e *custody.Engagement, number int64) (*drift.State, error) {
	w, err := e.Recall(number)
	if err != nil {
		return nil, err
	}
	return state(e, w)
}

func state(e *custody.Engagement, w *custody.Weighing) (*drift.State, error) {
	// Names, and DNs where a name is missing or there twice.
	if err := w.Objects("class", "flags", "name", "rdn", "parent"); err != nil {
		return nil, err
	}
	decided := map[string]string{}
	if w.Past != nil {
		for _, d := range w.Past.Config.Decisions {
			decided[d.Setting.Value] = d.Follow.Value
		}
	}
	told, err := w.Told(e)
	if err != nil {
		return nil, err
	}
	return &drift.State{Record: w.Record, At: w.At.Format(time.RFC3339), Decisions: decided, Texts: told.Inputs.Baselines}, nil
}

// LastTwo are the numbers of the newest weighing and of the one before.
func LastTwo(e *custody.Engagement) (before, after int64, err error) {
	if before, err = e.Newest(1); err != nil {
		return 0, 0, fmt.Errorf("drift compares two weighings: %w", err)
	}
	after, err = e.Newest(0)
	return before, after, err
}
