package engagement

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/core/weigh"
	"sternledger/internal/intake"
)

// Weighing is one recorded comparison of all scopes with their baselines.
type Weighing struct {
	Number    int64
	At        time.Time
	Baselines []*baseline.Baseline
	*weigh.Result
	survey *govern.Survey
}

// WeighOptions are the choices of one weighing.
type WeighOptions struct {
	Against []string // baseline ids, instead of the engagement's choice
}

// Weigh compares all scopes with the chosen baselines and records the outcome.
func (e *Engagement) Weigh(opt WeighOptions) (*Weighing, error) {
	survey, err := e.surveyed(govern.NewSurvey, "line", "file", "loose-group", "loose-file", "loose-line")
	if err != nil {
		return nil, err
	}
	scopes := survey.Scopes
	w := &Weighing{survey: survey, At: e.Now().UTC().Truncate(time.Second)}
	chosen := map[string]*baseline.Baseline{}
	use := func(id string) (*baseline.Baseline, error) {
		if chosen[id] == nil {
			b, err := ShippedBaseline(id)
			if err != nil {
				return nil, err
			}
			chosen[id] = b
			w.Baselines = append(w.Baselines, b)
		}
		return chosen[id], nil
	}
	byAuthority := map[*estate.Authority][]*baseline.Baseline{}
	for _, s := range scopes {
		if _, done := byAuthority[s.Authority]; done {
			continue
		}
		ids := e.baselinesFor(s.Authority.Name, opt)
		if len(ids) == 0 {
			return nil, fmt.Errorf("%s: no baseline is chosen for %s; name one under \"baselines:\", or use --against", ConfigName, s.Authority.Name)
		}
		for _, id := range ids {
			b, err := use(id)
			if err != nil {
				return nil, err
			}
			byAuthority[s.Authority] = append(byAuthority[s.Authority], b)
		}
	}
	expect, err := e.expectation(w.At)
	if err != nil {
		return nil, err
	}
	w.Result = weigh.Run(survey, func(a *estate.Authority) []*baseline.Baseline { return byAuthority[a] }, expect)
	return w, e.recordWeighing(w)
}

// expectation is what engagement.yaml expects, with the ages of the evidence
// at the time of the weighing. A file is as old as its last change before it
// was gathered.
func (e *Engagement) expectation(at time.Time) (weigh.Expectation, error) {
	x := weigh.Expectation{Authorities: e.Config.Expect.Authorities, MaxAge: int64(e.Config.Expect.MaxAge().Seconds())}
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
	machines, err := e.machines()
	if err != nil {
		return x, err
	}
	x.Authorities = append(slices.Clone(x.Authorities), machines...)
	x.Problems, err = e.Ledger.Problems()
	return x, err
}

func (e *Engagement) baselinesFor(authority string, opt WeighOptions) []string {
	if len(opt.Against) > 0 {
		return opt.Against
	}
	if own := e.Config.forAuthority(authority).Baselines; len(own) > 0 {
		return values(own)
	}
	return values(e.Config.Baselines)
}

func values(texts []strictyaml.Text) []string {
	var all []string
	for _, t := range texts {
		all = append(all, t.Value)
	}
	return all
}

// recordWeighing gives the weighing its number and keeps the whole of it.
func (e *Engagement) recordWeighing(w *Weighing) error {
	tx, err := e.Ledger.Change()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if w.Number, err = tx.NextWeighing(); err != nil {
		return err
	}
	doc := w.Document()
	body, err := json.Marshal(doc)
	if err != nil {
		return err
	}
	totals := map[weigh.Kind]int{}
	for _, v := range w.Verdicts {
		totals[v.Kind]++
	}
	_, err = tx.Append(w.At, e.actor(), "weigh", map[string]any{
		"weighing": w.Number, "baselines": doc.Baselines, "scopes": len(w.Scopes), "verdicts": totals,
		"findings": len(w.Findings), "result_sha256": sum(body),
	})
	if err != nil {
		return err
	}
	if err := tx.AddWeighing(w.Number, body); err != nil {
		return err
	}
	return tx.Commit()
}

// machines reads the list of machines that are expected: the column "machine"
// of a CSV file, or its only column.
func (e *Engagement) machines() ([]string, error) {
	name := e.Config.Expect.MachinesFrom.Value
	if name == "" {
		return nil, nil
	}
	file := name
	if !filepath.IsAbs(file) {
		file = filepath.Join(e.Dir, name)
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, e.Config.Expect.MachinesFrom.Errorf(filepath.Join(e.Dir, ConfigName), "machines-from: %s: %v; the path is seen from the engagement folder", name, cause(err))
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
