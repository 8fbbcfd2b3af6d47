package engagement

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
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
	whole    *weigh.Result // where only a part is shown
	survey   *govern.Survey
	texts    map[string]string // of the baselines, by the names under which they were asked for
	machines []string          // expected, from a list
}

// covering returns, for each platform, the shipped baselines that demand
// something which it has.
func covering() (func(p setting.Platform) []string, error) {
	var all []*baseline.Baseline
	for _, id := range ShippedBaselines() {
		b, err := Library{}.Get(id)
		if err != nil {
			return nil, err
		}
		all = append(all, b)
	}
	return func(p setting.Platform) []string {
		var ids []string
		for _, b := range all {
			if covers(b, p, govern.Standard) {
				ids = append(ids, b.ID)
			}
		}
		return ids
	}, nil
}

// covers reports whether a baseline demands anything that a platform has.
func covers(b *baseline.Baseline, p setting.Platform, tier string) bool {
	return slices.ContainsFunc(b.For(p, tier, baseline.Only), func(d *baseline.Demand) bool {
		return setting.Get(d.Setting).Exists(p) || slices.Contains(d.Platforms, p)
	})
}

// WeighOptions are the choices of one weighing.
type WeighOptions struct {
	Against []string // baseline ids, instead of the engagement's choice
}

// WeighFilter picks what is shown of a weighing; what is recorded is whole.
type WeighFilter struct {
	Only        []string // verdicts
	MinSeverity string
	Scope       string // name, or pattern
	Setting     string
}

// Check reports a filter that cannot match anything because a word is wrong.
func (f *WeighFilter) Check(w *Weighing) error {
	if _, err := path.Match(f.Scope, ""); err != nil {
		return fmt.Errorf("--scope %q: %w", f.Scope, err)
	}
	if _, ok := setting.Lookup(setting.ID(f.Setting)); f.Setting != "" && !ok {
		return fmt.Errorf("--setting %q: there is none; \"sternledger settings\" lists them", f.Setting)
	}
	var names []string
	for _, s := range w.Scopes {
		names = append(names, s.Name())
	}
	if f.Scope != "" && !slices.ContainsFunc(names, f.inScope) {
		return fmt.Errorf("--scope %q: there is none; the nearest is %q", f.Scope, strictyaml.Nearest(f.Scope, names))
	}
	return nil
}

// inScope reports whether a scope's name is picked. A pattern's * goes over
// slashes, since names hold them.
func (f *WeighFilter) inScope(name string) bool {
	if f.Scope == "" || strings.EqualFold(f.Scope, name) {
		return true
	}
	flat := strings.NewReplacer("/", "\x00")
	ok, _ := path.Match(flat.Replace(strings.ToLower(f.Scope)), flat.Replace(strings.ToLower(name)))
	return ok
}

func (f *WeighFilter) picks(kind weigh.Kind, severity baseline.Severity, settings []setting.ID) bool {
	return (len(f.Only) == 0 || slices.Contains(f.Only, string(kind))) && (f.MinSeverity == "" || severity.Rank() >= baseline.Severity(f.MinSeverity).Rank()) &&
		(f.Setting == "" || slices.Contains(settings, setting.ID(f.Setting)))
}

// Whole returns the whole result where only a part of it is shown.
func (w *Weighing) Whole() *weigh.Result {
	if w.whole != nil {
		return w.whole
	}
	return w.Result
}

// Shown returns the part of the weighing that the filter picks.
func (w *Weighing) Shown(f WeighFilter) *Weighing {
	view, part := *w, *w.Result
	view.Result, view.whole = &part, w.Whole()
	part.Scopes = slices.DeleteFunc(slices.Clone(w.Scopes), func(s *govern.Scope) bool { return !f.inScope(s.Name()) })
	part.Verdicts = slices.DeleteFunc(slices.Clone(w.Verdicts), func(v weigh.Verdict) bool {
		return !f.inScope(v.Scope.Name()) || !f.picks(v.Kind, v.Severity, []setting.ID{v.Demand.Setting})
	})
	part.Findings = slices.DeleteFunc(slices.Clone(w.Findings), func(x weigh.Finding) bool {
		return f.Scope != "" && (x.Scope == nil || !f.inScope(x.Scope.Name())) || !f.picks(x.Kind, x.Severity, x.Settings)
	})
	return &view
}

// Weigh compares all scopes with the chosen baselines and records the outcome.
func (e *Engagement) Weigh(opt WeighOptions) (*Weighing, error) {
	// Another program may add to the ledger meanwhile: what is weighed is the
	// ledger as it is now, and the entry says so.
	seen, err := e.Ledger.Last()
	if err != nil {
		return nil, err
	}
	now := *e
	now.Ledger = e.Ledger.Before(seen + 1)
	w, err := now.weighing(opt)
	if err != nil {
		return nil, err
	}
	return w, e.recordWeighing(w, opt, seen)
}

// weighing compares, and records nothing.
func (e *Engagement) weighing(opt WeighOptions) (*Weighing, error) {
	survey, err := e.surveyed(govern.NewSurvey, "line", "file", "control", "control-at", "pwd-set", "loose-group", "loose-file", "loose-line")
	if err != nil {
		return nil, err
	}
	w := &Weighing{survey: survey, texts: map[string]string{}, At: e.Now().UTC().Truncate(time.Second)}
	chosen := map[string]*baseline.Baseline{}
	type tierOf struct {
		authority *estate.Authority
		tier      string
	}
	by := map[tierOf][]*baseline.Baseline{}
	for _, s := range survey.Scopes {
		key := tierOf{s.Authority, s.Tier}
		if _, done := by[key]; done {
			continue
		}
		ids := e.baselinesFor(s.Authority.Place(), s.Tier, opt)
		if len(ids) == 0 {
			return nil, fmt.Errorf("%s: no baseline is chosen for %s; name one under \"baselines:\", or use --against", ConfigName, s.Authority.Name)
		}
		for _, id := range ids {
			if chosen[id] == nil {
				b, texts, err := e.Baselines().read(id)
				if err != nil {
					return nil, err
				}
				maps.Copy(w.texts, texts)
				chosen[id], w.Baselines = b, append(w.Baselines, b)
			}
			by[key] = append(by[key], chosen[id])
		}
	}
	expect, err := e.expectation(w.At)
	if err != nil {
		return nil, err
	}
	w.machines = expect.Machines
	choice := weigh.Choice{Expect: expect, Day: func(unix int64) string { return time.Unix(unix, 0).UTC().Format(time.DateOnly) }, Baselines: func(a *estate.Authority, tier string) []*baseline.Baseline { return by[tierOf{a, tier}] }}
	for _, d := range e.Config.Decisions {
		choice.Decisions = append(choice.Decisions, weigh.Decision{Setting: setting.ID(d.Setting.Value), Follow: d.Follow.Value, Why: d.Why})
	}
	if choice.Fitting, err = covering(); err != nil {
		return nil, err
	}
	w.Result = weigh.Run(survey, choice)
	waivers, err := e.waivers(w.At)
	if err != nil {
		return nil, err
	}
	w.Waive(waivers)
	return w, nil
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
	x.Machines = machines
	x.Problems, err = e.Ledger.Problems()
	return x, err
}

// baselinesFor returns what a scope is weighed against: what the command line
// says, else what the engagement says for its tier, its authority, or all.
func (e *Engagement) baselinesFor(authority estate.Place, tier string, opt WeighOptions) []string {
	if len(opt.Against) > 0 {
		return opt.Against
	}
	for _, t := range e.Config.Tiers {
		if t.Name == tier && len(t.Baselines) > 0 {
			return values(t.Baselines)
		}
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

// Version is the program's; CHANGELOG.md tells what is in it.
const Version = "0.2.0"

// weighEntry is the ledger's entry of a weighing: what was weighed with what,
// so that it can be done again, and what came of it.
type weighEntry struct {
	Weighing  int64              `json:"weighing"`
	Baselines []BaselineDocument `json:"baselines"`
	Scopes    int                `json:"scopes"`
	Verdicts  map[weigh.Kind]int `json:"verdicts"`
	Findings  int                `json:"findings"`
	Result    string             `json:"result_sha256"`
	Inputs    struct {
		Program   string            `json:"program"`
		Seen      int64             `json:"last_entry_seen"`
		Config    string            `json:"config_sha256"`
		Against   []string          `json:"against"`
		Baselines map[string]string `json:"baselines_sha256"`
		Machines  []string          `json:"machines"`
	} `json:"inputs"`
}

// recordWeighing gives the weighing its number and keeps the whole of it.
func (e *Engagement) recordWeighing(w *Weighing, opt WeighOptions, seen int64) error {
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
	entry := weighEntry{Weighing: w.Number, Baselines: doc.Baselines, Scopes: len(w.Scopes), Verdicts: map[weigh.Kind]int{}, Findings: len(w.Findings), Result: hexSum(body)}
	for _, v := range w.Verdicts {
		entry.Verdicts[v.Kind]++
	}
	in := &entry.Inputs
	in.Program, in.Seen, in.Against, in.Machines, in.Baselines = Version, seen, opt.Against, w.machines, map[string]string{}
	texts := map[string]string{}
	keep := func(text string) string {
		key := hexSum([]byte(text))
		texts[key] = text
		return key
	}
	in.Config = keep(e.Config.text)
	for name, text := range w.texts {
		in.Baselines[name] = keep(text)
	}
	if _, err := tx.Append(w.At, e.actor(), weighKind, entry); err != nil {
		return err
	}
	for key, text := range texts {
		if err := tx.AddText(key, text); err != nil {
			return err
		}
	}
	if err := tx.AddWeighing(w.Number, body); err != nil {
		return err
	}
	return tx.Commit()
}

// machines reads the list of machines that are expected: the column "machine"
// of a CSV file, or its only column.
func (e *Engagement) machines() ([]string, error) {
	if e.then != nil {
		return e.then.machines, nil
	}
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
