package assess

import (
	"encoding/json"
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"

	"sternledger/internal/contract"
	"sternledger/internal/core/amend"
	"sternledger/internal/core/check"
	"sternledger/internal/core/drift"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/forecast"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/core/weigh"
	"sternledger/internal/custody"
	"sternledger/internal/ledger"
)

// Report is everything that a report tells of one recorded weighing. Nothing
// in it depends on when it is made.
type Report struct {
	Title, Auditor string
	Weighing       *custody.Weighing
	Forecasts      *Forecasts
	Course         []contract.CoursePoint
	Drift          *drift.Report // against the weighing before; nil: it is the first
	Evidence       []ledger.Evidence
	Problems       []estate.Problem
	Decisions      []weigh.Decision
	Applies        []custody.Applies // what the auditor said of what no evidence tells
	Seal           string            // of the weighing's entry
	Entry          int64
	Owner          string         // whose places alone are told of; empty: all
	Plan           *amend.Plan    // what ends the findings; nil: a record of a version that did not plan
	Amended        *AmendStatuses // what came of the change files that were written before
	Behind         string         // what was recorded since the weighing and is not in it; empty: nothing
}

// ReportOf reads a recorded weighing and gathers what a report tells of
// it; number 0 is the newest. With an owner it tells of that owner's places alone.
func ReportOf(e *custody.Engagement, number int64, owner string) (*Report, error) {
	var err error
	if number == 0 {
		if number, err = e.Newest(0); err != nil {
			return nil, err
		}
	}
	w, err := e.Recall(number)
	if err != nil {
		return nil, err
	}
	past := w.Past
	keep := func(*estate.Authority) bool { return true }
	whole := w.Record
	if owner != "" {
		if keep, err = ownedBy(e, w, owner); err != nil {
			return nil, err
		}
		w.Record = w.Record.Part(keep)
	}
	r := &Report{Owner: owner, Title: past.Config.Title, Auditor: past.Config.Auditor, Weighing: w, Applies: past.Config.Applies,
		Forecasts: &Forecasts{Assumptions: forecast.Usual}}
	for _, f := range w.Forecasts {
		r.Forecasts.Scopes = append(r.Forecasts.Scopes, ScopeForecast{Scope: f.Scope, Accounts: f.Accounts, Now: f.Figures})
	}
	if err := w.Objects(amend.Columns...); err != nil {
		return nil, err
	}
	if whole.SettersKnown {
		r.Plan = amend.New(whole, Writing, past.Config.OwnerOf)
		amend.PopulationOf(whole).Hold(r.Plan.Amendments, w.At.Unix())
		if owner != "" {
			r.Plan.Keep(owner)
		}
	}
	if r.Amended, err = StatusOf(e, number); err != nil {
		return nil, err
	}
	if owner != "" {
		r.Amended.Keep(func(at estate.Place) bool { return strings.EqualFold(past.Config.OwnerOf(at), owner) })
	}
	if r.Evidence, err = past.Ledger.Evidence(); err != nil {
		return nil, err
	}
	if r.Problems, err = past.Ledger.Problems(); err != nil {
		return nil, err
	}
	if owner != "" {
		r.Evidence = slices.DeleteFunc(r.Evidence, func(x ledger.Evidence) bool { return w.Files[x.Name] == "" })
		r.Problems = slices.DeleteFunc(r.Problems, func(p estate.Problem) bool { return w.Files[p.Cite.File] == "" })
	}
	row, err := e.Ledger.Weighing(number)
	if err != nil {
		return nil, err
	}
	entry, err := e.Ledger.Entry(row.Entry)
	if err != nil {
		return nil, err
	}
	r.Seal, r.Entry = custody.SealOf(&entry), entry.Seq
	if r.Behind, err = behind(e, entry.Seq); err != nil {
		return nil, err
	}
	for _, d := range w.SetAside {
		if len(r.Decisions) == 0 || r.Decisions[len(r.Decisions)-1] != *d.Decision {
			r.Decisions = append(r.Decisions, *d.Decision)
		}
	}
	earlier, err := course(e, r, number)
	if err != nil || earlier == 0 {
		return r, err
	}
	before, err := stateAt(e, earlier)
	if err != nil {
		return nil, err
	}
	now, err := state(e, w)
	if err != nil {
		return nil, err
	}
	if owner != "" {
		before.Record = before.Record.Part(keep)
		r.Course = nil // counts of everything
	}
	r.Drift = drift.Between(*before, *now)
	return r, nil
}

// ownedBy returns what says whether a place is an owner's.
func ownedBy(e *custody.Engagement, w *custody.Weighing, owner string) (func(*estate.Authority) bool, error) {
	keep := func(a *estate.Authority) bool { return strings.EqualFold(e.Config.OwnerOf(a.Place()), owner) }
	if !slices.ContainsFunc(w.Places, keep) {
		owners := e.Config.Owners()
		if len(owners) == 0 {
			return nil, fmt.Errorf("--for %q: engagement.yaml names no owner; give places theirs under authorities: NAME: {owner: …}", owner)
		}
		return nil, fmt.Errorf("--for %q: no place of the weighing is theirs; %s", owner, strictyaml.Hint(owner, owners))
	}
	return keep, nil
}

// behind says what was recorded after an entry that a weighing would see.
func behind(e *custody.Engagement, entry int64) (string, error) {
	entries, err := e.Ledger.Entries()
	if err != nil {
		return "", err
	}
	counts := map[string]int{}
	for _, x := range entries {
		if x.Seq > entry {
			counts[x.Kind]++
		}
	}
	var since []string
	for _, k := range []struct{ kind, one, many string }{
		{custody.GatherKind, "1 gather", "%d gathers"}, {custody.WaiveKind, "1 waiver", "%d waivers"},
		{custody.WithdrawKind, "1 withdrawal of a waiver", "%d withdrawals of waivers"},
		{custody.AsideKind, "1 change of what evidence is in use", "%d changes of what evidence is in use"},
	} {
		switch n := counts[k.kind]; {
		case n == 1:
			since = append(since, k.one)
		case n > 1:
			since = append(since, fmt.Sprintf(k.many, n))
		}
	}
	if len(since) == 0 || counts[custody.WeighKind] > 0 {
		return "", nil
	}
	return "Recorded after this weighing, and not in it: " + strings.Join(since, ", ") +
		". Weigh again (sternledger weigh) before you report.", nil
}

// course counts the findings of all weighings up to one, and returns the
// number of the one before it; 0: none.
func course(e *custody.Engagement, r *Report, number int64) (before int64, err error) {
	all, err := e.Ledger.Weighings()
	if err != nil {
		return 0, err
	}
	for _, row := range all {
		if row.Number > number {
			break
		}
		p, err := coursePoint(e, row)
		if err != nil {
			return 0, err
		}
		r.Course = append(r.Course, *p)
		if row.Number < number {
			before = row.Number
		}
	}
	return before, nil
}

// coursePoint counts the findings of one weighing, as its entry tells; those of
// versions before records as their document does.
func coursePoint(e *custody.Engagement, row ledger.Weighing) (*contract.CoursePoint, error) {
	entry, err := e.Ledger.Entry(row.Entry)
	if err != nil {
		return nil, err
	}
	var told custody.WeighEntry
	if err := json.Unmarshal([]byte(entry.Body), &told); err != nil {
		return nil, fmt.Errorf("entry %d: %w", entry.Seq, err)
	}
	if told.Format > 0 {
		return &contract.CoursePoint{Weighing: row.Number, At: told.Inputs.AsOf, Findings: told.Kinds, Exposure: told.Exposure}, nil
	}
	if row, err = e.Ledger.Weighing(row.Number); err != nil {
		return nil, err
	}
	var doc struct {
		At       string `json:"at"`
		Findings []struct {
			Verdict check.Kind `json:"verdict"`
		} `json:"findings"`
	}
	if err := json.Unmarshal([]byte(row.Document), &doc); err != nil {
		return nil, err
	}
	p := &contract.CoursePoint{Weighing: row.Number, At: doc.At, Findings: map[check.Kind]int{}}
	for _, f := range doc.Findings {
		p.Findings[f.Verdict]++
	}
	return p, nil
}

// Accounts yields every account with what governs it.
func (r *Report) Accounts() iter.Seq[*AccountRow] { return AccountsOf(r.Weighing) }

// Document describes the report.
func (r *Report) Document() contract.ReportDocument {
	d := contract.ReportDocument{Schema: "sternledger/report/1", Title: r.Title, Auditor: r.Auditor, Seal: r.Seal, Entry: r.Entry,
		Weighing: Document(r.Weighing), Scopes: contract.NewScopesDocument(r.Weighing.Scopes),
		Forecast: r.Forecasts.Document(), Course: r.Course, Evidence: []contract.EvidenceDocument{}, Problems: []contract.ProblemDocument{}}
	if r.Drift != nil {
		doc := contract.NewDriftDocument(r.Drift)
		d.Drift = &doc
	}
	d.Amendments = []contract.ReportAmendment{}
	if r.Plan != nil {
		for _, a := range r.Plan.Amendments {
			one := contract.ReportAmendment{Name: a.Name, Fingerprint: a.Fingerprint, Title: a.Title(), From: a.Was(), To: a.Becomes(),
				Severity: a.Severity,
				Settles:  prints(a.Settles), Accounts: a.Accounts, Places: []string{}}
			for i := range a.Spots {
				one.Places = append(one.Places, a.Spots[i].At.Name)
			}
			d.Amendments = append(d.Amendments, one)
		}
	}
	d.Amended = r.Amended.Document().Amendments
	for _, x := range r.Evidence {
		d.Evidence = append(d.Evidence, contract.EvidenceDocument{Entry: x.Entry, Evidence: x})
	}
	for _, p := range r.Problems {
		d.Problems = append(d.Problems, contract.ProblemDocument{CiteDocument: contract.CiteDocument(p.Cite), Text: p.Text})
	}
	return d
}

// Day is when the weighing was made.
func (r *Report) Day() string { return r.Weighing.At.Format(time.DateOnly) }
