// Package assess holds the use cases that ask: what governs an account, how a
// scope stands against the baselines, what its settings allow. It joins the core
// with an engagement, and draws nothing.
package assess

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"sternledger/internal/contract"
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/weigh"
	"sternledger/internal/custody"
	"sternledger/internal/folder"
	"sternledger/internal/intake"
)

// Weigh compares all scopes with the chosen baselines. It records the outcome where
// it differs from the last record; looking once more records nothing, and neither
// does a trial against other baselines.
func Weigh(e *custody.Engagement, opt custody.WeighOptions) (*custody.Weighing, error) {
	// Another program may add to the ledger meanwhile: what is weighed is the
	// ledger as it is now, and the entry says so.
	seen, err := e.Ledger.Last()
	if err != nil {
		return nil, err
	}
	now := *e
	now.Ledger = e.Ledger.Before(seen + 1)
	w, err := weighing(&now, opt)
	if err != nil {
		return nil, err
	}
	if w.Trial = len(opt.Against) > 0 && !opt.Record || len(opt.Exposure) > 0; w.Trial {
		return w, nil
	}
	before, err := e.RecallLast()
	if err != nil {
		return nil, err
	}
	if before != nil {
		if w.Reasons, err = reasons(&now, before, w, opt); err != nil {
			return nil, err
		}
		if len(w.Reasons) == 0 {
			before.Before = true
			return before, nil
		}
	}
	next, err := now.Ledger.NextWeighing()
	if err != nil {
		return nil, err
	}
	if err := recordWeighing(&now, e, w, opt, seen, next); errors.Is(err, errOvertaken) {
		return Weigh(e, opt) // it may be the same
	} else if err != nil {
		return nil, err
	}
	return w, nil
}

// errOvertaken says that another program recorded a weighing meanwhile.
var errOvertaken = errors.New("another weighing was recorded meanwhile")

// Judging weighs as this program does (see Judge).
func Judge(e *custody.Engagement, opt custody.WeighOptions, whole bool) (*custody.Weighing, error) {
	w, err := weighing(e, opt)
	if err == nil && whole {
		err = complete(e, w)
	}
	return w, err
}

// weighing compares, and records nothing.
func weighing(e *custody.Engagement, opt custody.WeighOptions) (*custody.Weighing, error) {
	if err := e.Config.Chosen(); err != nil && len(opt.Against) == 0 {
		return nil, err
	}
	survey, err := e.Surveyed(govern.NewSurvey, "line", "file", "control", "control-at", "pwd-set", "last-logon", "ends", "failures", "max-days",
		"idle-days", "traits", "loose-group",
		"loose-file", "loose-line")
	if err != nil {
		return nil, err
	}
	e.Weighed.Add(1)
	w := &custody.Weighing{Survey: survey, Texts: map[string]string{}, Record: &record.Record{Program: custody.ThisProgram(),
		Title: e.Config.Title, Auditor: e.Config.Auditor, Places: survey.Estate.Authorities}}
	w.At = e.Now().UTC().Truncate(time.Second)
	w.Made = w.At.Format(time.RFC3339)
	choice, err := choiceOf(e, w, opt)
	if err != nil {
		return nil, err
	}
	evidence, err := e.Current(survey.Estate)
	if err != nil {
		return nil, err
	}
	w.From(evidence)
	if w.OutOfService, err = e.OutOfService(survey.Estate); err != nil {
		return nil, err
	}
	w.Result = weigh.Run(survey, *choice)
	waivers, err := e.WaiversAt(w.At)
	if err != nil {
		return nil, err
	}
	w.Waive(waivers)
	return w, nil
}

// choiceOf is what a weighing is held against: the baselines, which it notes, the
// decisions, and what is expected.
func choiceOf(e *custody.Engagement, w *custody.Weighing, opt custody.WeighOptions) (*weigh.Choice, error) {
	chosen := map[string]*baseline.Baseline{}
	type tierOf struct {
		place estate.Place
		tier  string
	}
	by := map[tierOf][]*baseline.Baseline{}
	choose := func(at estate.Place, tier string) error {
		key := tierOf{at, tier}
		if _, done := by[key]; done {
			return nil
		}
		ids := e.BaselinesFor(at, tier, opt)
		if len(ids) == 0 {
			return fmt.Errorf("%s: no baseline is chosen for %s; name one under \"baselines:\", or use --against", custody.ConfigName, at.Name)
		}
		for _, id := range ids {
			if chosen[id] == nil {
				b, texts, err := e.Baselines().Naming(opt.Against...).Read(id)
				if err != nil {
					return err
				}
				maps.Copy(w.Texts, texts)
				chosen[id], w.Baselines = b, append(w.Baselines, b)
			}
			by[key] = append(by[key], chosen[id])
		}
		return nil
	}
	for _, s := range w.Survey.Scopes {
		if err := choose(s.Authority.Place(), s.Tier); err != nil {
			return nil, err
		}
	}
	expect, err := expectation(e, w.Survey, w.At)
	if err != nil {
		return nil, err
	}
	w.Machines = expect.Machines
	choice := &weigh.Choice{Expect: expect, Writing: Writing,
		Day:       func(unix int64) string { return time.Unix(unix, 0).UTC().Format(time.DateOnly) },
		Baselines: func(a *estate.Authority, tier string) []*baseline.Baseline { return by[tierOf{a.Place(), tier}] }}
	for _, d := range e.Config.Decisions {
		choice.Decisions = append(choice.Decisions, weigh.Decision{Setting: setting.ID(d.Setting.Value), Follow: d.Follow.Value, Why: d.Why})
	}
	choice.At, choice.Says = w.At.Unix(), e.Config.Says
	if choice.Assumptions, err = e.Config.Assumptions(opt.Exposure); err != nil {
		return nil, err
	}
	choice.Fitting, err = custody.Covering()
	return choice, err
}

// expectation is what engagement.yaml expects, with the ages of the evidence
// at the time of the weighing. A file is as old as its last change before it
// was gathered.
func expectation(e *custody.Engagement, survey *govern.Survey, at time.Time) (check.Expectation, error) {
	x := check.Expectation{Authorities: e.Config.Expect.Authorities, MaxAge: int64(e.Config.Expect.MaxAge().Seconds())}
	evidence, err := e.Ledger.Evidence()
	if err != nil {
		return x, err
	}
	ages := map[string]int64{}
	for _, f := range evidence {
		written, err := time.Parse(time.RFC3339, f.Written)
		if err != nil {
			return x, fmt.Errorf("%s in the ledger: %w", f.Name, err)
		}
		ages[f.Name] = int64(at.Sub(written).Seconds())
	}
	x.Age = func(file string) int64 { return ages[file] }
	machines, err := machines(e)
	if err != nil {
		return x, err
	}
	x.Machines = machines
	ended, err := e.OutOfService(survey.Estate)
	if err != nil {
		return x, err
	}
	x.Ended = map[string]bool{}
	for _, o := range ended {
		x.Ended[strings.ToLower(o.Place.Name)] = true
	}
	x.Idle = e.Config.Idle(survey.Estate)
	x.Problems, err = e.Ledger.Problems()
	return x, err
}

// recordWeighing gives the weighing its number and keeps the whole of it. e is the
// engagement that was weighed, to the one to add to.
func recordWeighing(e *custody.Engagement, to *custody.Engagement, w *custody.Weighing, opt custody.WeighOptions, seen, next int64) error {
	if err := complete(e, w); err != nil {
		return err
	}
	first(e, w)
	tx, err := to.Ledger.Change()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if w.Number, err = tx.NextWeighing(); err != nil {
		return err
	}
	if w.Number != next {
		return errOvertaken
	}
	body, err := w.Encode()
	if err != nil {
		return err
	}
	entry := custody.WeighEntry{Format: record.Format, Weighing: w.Number, Reasons: append([]string{}, w.Reasons...),
		Scopes: len(w.Scopes), Verdicts: map[check.Kind]int{}, Kinds: map[check.Kind]int{}, Findings: len(w.Findings),
		Result: custody.HexSum(body)}
	for _, b := range w.Baselines {
		entry.Baselines = append(entry.Baselines, contract.BaselineDocument{ID: b.ID, Version: b.Version})
	}
	for _, v := range w.Verdicts {
		entry.Verdicts[v.Kind]++
	}
	for i := range w.Findings {
		entry.Kinds[w.Findings[i].Kind]++
	}
	if d := contract.NewExposureDocument(w.Population, w.Assumed); d != nil {
		entry.Exposure = &d.Now
	}
	for _, x := range w.Waivers {
		if x.State == check.Needless && x.Mended == 0 {
			entry.Mended = append(entry.Mended, custody.Mended{Entry: x.Entry, Fingerprint: x.Fingerprint})
		}
	}
	in := &entry.Inputs
	in.Program, in.AsOf = w.Program.String(), w.At.Format(time.RFC3339)
	in.Seen, in.Against, in.Machines, in.Baselines = seen, opt.Against, w.Machines, map[string]string{}
	texts := map[string]string{}
	keep := func(text string) string {
		key := custody.HexSum([]byte(text))
		texts[key] = text
		return key
	}
	in.Config = keep(e.Config.Text)
	for name, text := range w.Texts {
		in.Baselines[name] = keep(text)
	}
	if _, err := tx.Append(e.Now, e.Actor(), custody.WeighKind, entry); err != nil {
		return err
	}
	for key, text := range texts {
		if err := tx.AddText(key, text); err != nil {
			return err
		}
	}
	if err := tx.AddRecord(w.Number, body); err != nil {
		return err
	}
	return tx.Commit()
}

// machines reads the list of machines that are expected: the column "machine"
// of a CSV file, or its only column.
func machines(e *custody.Engagement) ([]string, error) {
	if e.Then != nil {
		return e.Then.Machines, nil
	}
	name := e.Config.Expect.MachinesFrom.Value
	if name == "" {
		return nil, nil
	}
	at := func(err error) error {
		return e.Config.Expect.MachinesFrom.Errorf(e.Folder.Path(custody.ConfigName),
			"machines-from: %v; expected the path of a file in the engagement folder, seen from there", err)
	}
	inside, err := folder.Parse(name)
	if err != nil {
		return nil, at(err)
	}
	file := e.Folder.Path(inside)
	data, err := e.Folder.ReadFile(inside, 64<<20)
	if err != nil {
		return nil, at(fmt.Errorf("%s: %w", name, custody.Cause(err)))
	}
	text, err := intake.Decode(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	rows := csv.NewReader(bytes.NewReader(text))
	rows.FieldsPerRecord = -1
	if head, _, _ := bytes.Cut(text, []byte("\n")); bytes.Contains(head, []byte(";")) {
		rows.Comma = ';'
	}
	all, err := rows.ReadAll()
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	column := -1
	var machines []string
	for i, row := range all {
		if i == 0 {
			column = slices.IndexFunc(row, func(cell string) bool { return strings.EqualFold(strings.TrimSpace(cell), "machine") })
			if column < 0 && len(row) > 1 {
				return nil, fmt.Errorf("%s:1: columns %q; expected one called \"machine\"", file, row)
			}
			if column >= 0 {
				continue
			}
			column = 0
		}
		if column < len(row) && strings.TrimSpace(row[column]) != "" {
			machines = append(machines, strings.ToLower(strings.TrimSpace(row[column])))
		}
	}
	return machines, nil
}
