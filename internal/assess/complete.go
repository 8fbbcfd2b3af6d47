package assess

import (
	"errors"
	"fmt"
	"maps"
	"slices"

	"sternledger/internal/core/amend"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/forecast"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/record"
	"sternledger/internal/custody"
)

// complete adds to a weighing just made what its record keeps besides.
func complete(e *custody.Engagement, w *custody.Weighing) error {
	f, err := forecasts(e, w.Survey, ForecastOptions{Assumptions: forecast.Usual})
	if errors.Is(err, errNoScopes) { // templates only
		f = &Forecasts{}
	} else if err != nil {
		return err
	}
	for i := range f.Scopes {
		s := &f.Scopes[i]
		w.Forecasts = append(w.Forecasts, record.Forecast{Scope: s.Scope, Accounts: s.Accounts, Figures: s.Now})
	}
	for i, a := range w.Places {
		roll := record.NewRoll(a.Place())
		for row := range a.Objects.Len() {
			if a.Objects.ClassOf(row) == estate.Account {
				roll.Add(row, standing(w.Survey, i, row))
			}
		}
		w.Rolls = append(w.Rolls, roll)
	}
	w.Setters, w.Unseen = w.Survey.Setters()
	w.SettersKnown = true
	return nil
}

// mostFirst is how many amendments a record names that come first.
const mostFirst = 6

// first notes which amendments take most off how exposed the estate is, of those that
// nothing holds back.
func first(e *custody.Engagement, w *custody.Weighing) {
	plan := amend.New(w.Record, Writing, e.Config.OwnerOf)
	amend.NewPopulation(w.Survey).Hold(plan.Amendments, w.At.Unix())
	for _, step := range amend.Staircase(w.Record, plan.Amendments, mostFirst) {
		w.First = append(w.First, record.First{Amendment: step.Name, After: step.After})
	}
}

// standing is how an account stands.
func standing(s *govern.Survey, authority, row int) record.Standing {
	scope, g := s.ScopeOf(authority, row)
	out := record.Standing{Scope: scope, Rule: g.Rule, Origin: "-", Via: "-"}
	if g.Policy != nil {
		out.Origin = g.Policy.Origin
	}
	if g.Via != estate.NotFound {
		there := s.Estate.Authorities[authority]
		if g.At != nil {
			there = g.At
		}
		out.Via = groupName(there, g.Via)
	}
	return out
}

// reasons says what differs between a record and what was weighed now; nothing,
// where it would only say the same again.
func reasons(e *custody.Engagement, before, now *custody.Weighing, opt custody.WeighOptions) ([]string, error) {
	told, err := before.Told(e)
	if err != nil {
		return nil, err
	}
	var all []string
	add := func(differs bool, text string) {
		if differs {
			all = append(all, text)
		}
	}
	add(!maps.Equal(before.Files, now.Files), "evidence changed")
	add(told.Inputs.Config != custody.HexSum([]byte(e.Config.Text)), custody.ConfigName+" changed")
	add(!slices.Equal(told.Inputs.Against, opt.Against), "other baselines are chosen")
	texts := map[string]string{}
	for name, text := range now.Texts {
		texts[name] = custody.HexSum([]byte(text))
	}
	add(slices.Equal(told.Inputs.Against, opt.Against) && !maps.Equal(told.Inputs.Baselines, texts), "the text of a baseline changed")
	add(!slices.Equal(told.Inputs.Machines, now.Machines), "the list of machines changed")
	add(!slices.EqualFunc(before.Waivers, now.Waivers, func(x, y check.Waiver) bool {
		return x.Entry == y.Entry && x.Fingerprint == y.Fingerprint && x.State == y.State
	}), "a waiver was added, withdrawn, or ended")
	changed := record.Differences(before.Record, now.Record)
	if len(changed) > 0 && len(all) == 0 {
		why := "with the day"
		if before.Program != now.Program {
			why = "since the program reads something otherwise than " + before.Program.String()
		}
		all = append(all, fmt.Sprintf("%d verdicts and findings changed %s", len(changed), why))
	}
	return all, nil
}
