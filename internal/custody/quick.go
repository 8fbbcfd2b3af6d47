package custody

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
)

// Around is the survey of the estate as it is around single accounts: of large domains it
// has everything but the accounts of other names. It is nil where nothing is large, or
// where accounts of one place draw on those of another; then all have to be read.
func (e *Engagement) Around(names []string) (*govern.Survey, error) {
	all, ids, err := e.bare()
	if err != nil {
		return nil, err
	}
	domains := 0
	for _, a := range all.Authorities {
		if a.Kind == estate.Domain {
			domains++
		}
	}
	if domains > 1 || slices.ContainsFunc(all.Authorities, func(a *estate.Authority) bool { return a.Kind == estate.Tenant }) {
		return nil, err
	}
	small := map[int64]*estate.Objects{}
	large := 0
	for i, a := range all.Authorities {
		q := (*estate.Quick)(nil)
		if a.Kind == estate.Domain && a.Accounts >= estate.QuickFrom/2 {
			if q, err = e.Ledger.Quick(ids[i]); err != nil {
				return nil, err
			}
		}
		if q == nil {
			small[ids[i]] = a.Objects
			continue
		}
		large++
		if err := e.takeAround(ids[i], a, q, names); err != nil {
			return nil, err
		}
	}
	if large == 0 {
		return nil, nil
	}
	if err := e.Ledger.Load(small); err != nil {
		return nil, err
	}
	if err := e.rests(all); err != nil {
		return nil, err
	}
	return govern.Prepare(all, e.Config.Dialect, e.Config.TierRules()), nil
}

// takeAround gives a large authority its objects around accounts of those names.
func (e *Engagement) takeAround(holding int64, a *estate.Authority, q *estate.Quick, names []string) (err error) {
	parts, end, err := e.Ledger.Parts(holding)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, end()) }()
	want := estate.Seek{Names: names}
	for _, name := range names {
		if last, ok := strings.CutPrefix(name, a.SID+"-"); ok && a.SID != "" {
			if rid, err := strconv.ParseUint(last, 10, 32); err == nil {
				want.RIDs = append(want.RIDs, uint32(rid))
			}
		}
	}
	if err := a.TakeAround(q, parts, want); err != nil {
		return fmt.Errorf("read %s of the ledger: %w", a.Label(), err)
	}
	return nil
}
