package engagement

import (
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"strings"
	"time"

	"sternledger/internal/core/drift"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/forecast"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/weigh"
	"sternledger/internal/ledger"
)

// Report is everything that a report tells of one recorded weighing. Nothing
// in it depends on when it is made.
type Report struct {
	Title, Auditor string
	Weighing       *Weighing
	Survey         *govern.Survey
	Forecasts      *Forecasts
	Course         []CoursePoint
	Drift          *drift.Report // against the weighing before; nil: it is the first
	Evidence       []ledger.Evidence
	Problems       []estate.Problem
	Decisions      []weigh.Decision
	Seal           string // of the weighing's entry
	Entry          int64
	Behind         string // what was recorded since the weighing and is not in it; empty: nothing
}

// CoursePoint counts the findings of one weighing.
type CoursePoint struct {
	Weighing int64              `json:"weighing"`
	At       string             `json:"at"`
	Findings map[weigh.Kind]int `json:"findings"`
}

// Report makes a recorded weighing again and gathers what a report tells of
// it; number 0 is the newest.
func (e *Engagement) Report(number int64) (*Report, error) {
	var err error
	if number == 0 {
		if number, err = e.Newest(0); err != nil {
			return nil, err
		}
	}
	past, w, err := e.Recall(number)
	if err != nil {
		return nil, err
	}
	r := &Report{Title: past.Config.Title, Auditor: past.Config.Auditor, Weighing: w, Survey: w.survey}
	if r.Forecasts, err = past.Forecast(ForecastOptions{Assumptions: forecast.Usual}); errors.Is(err, errNoScopes) {
		r.Forecasts = &Forecasts{Assumptions: forecast.Usual}
	} else if err != nil {
		return nil, err
	}
	if r.Evidence, err = past.Ledger.Evidence(); err != nil {
		return nil, err
	}
	if r.Problems, err = past.Ledger.Problems(); err != nil {
		return nil, err
	}
	row, err := e.Ledger.Weighing(number)
	if err != nil {
		return nil, err
	}
	entry, err := e.Ledger.Entry(row.Entry)
	if err != nil {
		return nil, err
	}
	r.Seal, r.Entry = SealOf(&entry), entry.Seq
	if r.Behind, err = e.behind(entry.Seq); err != nil {
		return nil, err
	}
	for _, d := range w.SetAside {
		if len(r.Decisions) == 0 || r.Decisions[len(r.Decisions)-1] != *d.Decision {
			r.Decisions = append(r.Decisions, *d.Decision)
		}
	}
	earlier, err := e.course(r, number)
	if err != nil || earlier == 0 {
		return r, err
	}
	before, err := e.state(earlier)
	if err != nil {
		return nil, err
	}
	now, err := past.stateOf(w)
	if err != nil {
		return nil, err
	}
	r.Drift = drift.Between(*before, *now)
	return r, nil
}

// behind says what was recorded after an entry that a weighing would see.
func (e *Engagement) behind(entry int64) (string, error) {
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
		{gatherKind, "1 gather", "%d gathers"}, {waiveKind, "1 waiver", "%d waivers"}, {withdrawKind, "1 withdrawal of a waiver", "%d withdrawals of waivers"},
	} {
		switch n := counts[k.kind]; {
		case n == 1:
			since = append(since, k.one)
		case n > 1:
			since = append(since, fmt.Sprintf(k.many, n))
		}
	}
	if len(since) == 0 || counts[weighKind] > 0 {
		return "", nil
	}
	return "Recorded after this weighing, and not in it: " + strings.Join(since, ", ") + ". Weigh again (sternledger weigh) before you report.", nil
}

// course counts the findings of all weighings up to one, and returns the
// number of the one before it; 0: none.
func (e *Engagement) course(r *Report, number int64) (before int64, err error) {
	all, err := e.Ledger.Weighings()
	if err != nil {
		return 0, err
	}
	for _, row := range all {
		if row.Number > number {
			break
		}
		if row, err = e.Ledger.Weighing(row.Number); err != nil {
			return 0, err
		}
		var doc struct {
			At       string `json:"at"`
			Findings []struct {
				Verdict weigh.Kind `json:"verdict"`
			} `json:"findings"`
		}
		if err := json.Unmarshal([]byte(row.Body), &doc); err != nil {
			return 0, err
		}
		p := CoursePoint{row.Number, doc.At, map[weigh.Kind]int{}}
		for _, f := range doc.Findings {
			p.Findings[f.Verdict]++
		}
		r.Course = append(r.Course, p)
		if row.Number < number {
			before = row.Number
		}
	}
	return before, nil
}

// Accounts yields every account with what governs it.
func (r *Report) Accounts() iter.Seq[*AccountRow] { return Accounts(r.Survey, AccountFilter{}) }

// ReportDocument is a report as JSON.
type ReportDocument struct {
	Schema   string             `json:"schema"`
	Title    string             `json:"title"`
	Auditor  string             `json:"auditor"`
	Seal     string             `json:"seal"`
	Entry    int64              `json:"entry"` // of the weighing
	Weighing WeighDocument      `json:"weighing"`
	Scopes   ScopesDocument     `json:"scopes"`
	Forecast ForecastDocument   `json:"forecast"`
	Course   []CoursePoint      `json:"course"`
	Drift    *DriftDocument     `json:"drift"` // against the weighing before; null: it is the first
	Evidence []EvidenceDocument `json:"evidence"`
	Problems []ProblemDocument  `json:"problems"`
}

// EvidenceDocument is one file of evidence.
type EvidenceDocument struct {
	Entry int64 `json:"entry"`
	ledger.Evidence
}

// Document describes the report.
func (r *Report) Document() ReportDocument {
	d := ReportDocument{Schema: "sternledger/report/1", Title: r.Title, Auditor: r.Auditor, Seal: r.Seal, Entry: r.Entry, Weighing: r.Weighing.Document(), Scopes: NewScopesDocument(r.Survey.Scopes),
		Forecast: r.Forecasts.Document(), Course: r.Course, Evidence: []EvidenceDocument{}, Problems: []ProblemDocument{}}
	if r.Drift != nil {
		doc := NewDriftDocument(r.Drift)
		d.Drift = &doc
	}
	for _, x := range r.Evidence {
		d.Evidence = append(d.Evidence, EvidenceDocument{x.Entry, x})
	}
	for _, p := range r.Problems {
		d.Problems = append(d.Problems, ProblemDocument{CiteDocument(p.Cite), p.Text})
	}
	return d
}

// Day is when the weighing was made.
func (r *Report) Day() string { return r.Weighing.At.Format(time.DateOnly) }
