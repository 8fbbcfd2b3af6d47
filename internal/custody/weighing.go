package custody

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"sternledger/internal/contract"
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/core/weigh"
)

// Recorded reports whether the weighing was recorded by the command that made it.
func (w *Weighing) Recorded() bool { return w.Past == nil && !w.Trial }

// Weighing is one comparison of all scopes with their baselines: just made, or
// read back from its record.
type Weighing struct {
	*record.Record
	At time.Time
	// Before is set where nothing was recorded, since nothing differs from that
	// record, which is this one; Reasons say what differs where something does.
	Before  bool
	Trial   bool // against other baselines, to look at; not recorded
	Reasons []string

	whole    *weigh.Result     // where only a part is shown
	Survey   *govern.Survey    // of one just made
	Past     *Engagement       // of one read back: the engagement as it was
	told     *WeighEntry       // of one that was read back
	Texts    map[string]string // of the baselines, by the names under which they were asked for
	Machines []string          // expected, from a list
}

// WeighOptions are the choices of one weighing.
type WeighOptions struct {
	Against []string // baseline ids, instead of the engagement's choice: a trial, unless
	Record  bool     // it is to be recorded
	// Exposure are assumptions, as NAME=VALUE, instead of the engagement's: always a trial.
	Exposure []string
}

// WeighFilter picks what is shown of a weighing; what is recorded is whole.
type WeighFilter struct {
	Only        []string // verdicts
	MinSeverity string
	Scope       string // name, or pattern
	Place       string // the same
	Setting     string
}

// Check reports a filter that cannot match anything because a word is wrong.
func (f *WeighFilter) Check(w *Weighing) error {
	if _, err := path.Match(f.Scope, ""); err != nil {
		return fmt.Errorf("--scope %q: %w", f.Scope, err)
	}
	if _, ok := setting.Lookup(setting.ID(f.Setting)); f.Setting != "" && !ok {
		return fmt.Errorf("--setting %q: there is none; %s; \"sternledger settings\" lists them", f.Setting,
			strictyaml.Hint(f.Setting, setting.IDs()))
	}
	var names []string
	for _, s := range w.Scopes {
		names = append(names, s.Name())
	}
	var places []string
	for _, a := range w.Record.Places {
		places = append(places, a.Label())
	}
	if _, err := path.Match(f.Place, ""); err != nil {
		return fmt.Errorf("--place %q: %w", f.Place, err)
	}
	if f.Place != "" && !slices.ContainsFunc(places, f.inPlace) {
		return fmt.Errorf("--place %q: there is none; %s", f.Place, strictyaml.Hint(f.Place, places))
	}
	if f.Scope != "" && !slices.ContainsFunc(names, f.InScope) {
		return fmt.Errorf("--scope %q: there is none; %s", f.Scope, strictyaml.Hint(f.Scope, names))
	}
	return nil
}

// InScope reports whether a scope's name is picked. A pattern's * goes over
// slashes, since names hold them.
func (f *WeighFilter) InScope(name string) bool { return Fits(f.Scope, name) }

func (f *WeighFilter) inPlace(name string) bool { return Fits(f.Place, name) }

// Fits reports whether a pattern fits a name; the empty one fits all. Letter case
// does not count.
func Fits(pattern, name string) bool {
	if pattern == "" || strings.EqualFold(pattern, name) {
		return true
	}
	flat := strings.NewReplacer("/", "\x00")
	ok, _ := path.Match(flat.Replace(strings.ToLower(pattern)), flat.Replace(strings.ToLower(name)))
	return ok
}

func (f *WeighFilter) picks(kind check.Kind, severity baseline.Severity, settings []setting.ID) bool {
	return (len(f.Only) == 0 || slices.Contains(f.Only, string(kind))) &&
		(f.MinSeverity == "" || severity.Rank() >= baseline.Severity(f.MinSeverity).Rank()) &&
		(f.Setting == "" || slices.Contains(settings, setting.ID(f.Setting)))
}

// Whole returns the whole result where only a part of it is shown.
func (w *Weighing) Whole() *weigh.Result {
	if w.whole != nil {
		return w.whole
	}
	return w.Result
}

// Matters are those of the whole weighing, so that each keeps its name; of a part,
// those that have a finding in it.
func (w *Weighing) Matters() []*record.Matter {
	whole := *w.Record
	whole.Result = w.Whole()
	all := whole.Matters()
	if w.whole == nil {
		return all
	}
	shown := map[string]bool{}
	for i := range w.Findings {
		shown[w.Findings[i].Fingerprint] = true
	}
	return slices.DeleteFunc(all, func(m *record.Matter) bool {
		return !slices.ContainsFunc(m.Findings, func(f *check.Finding) bool { return shown[f.Fingerprint] })
	})
}

// Matter returns the matter of that name or fingerprint. A name belongs to one
// record, so that one that was just made has no name that anybody has seen.
func (w *Weighing) Matter(name string) (*record.Matter, error) {
	all := w.Matters()
	m := record.MatterNamed(all, name)
	switch {
	case m == nil && len(all) == 0:
		return nil, fmt.Errorf("--matter %q: there is none, since there is no finding", name)
	case m == nil:
		return nil, fmt.Errorf("--matter %q: expected %s to %s, or a fingerprint; \"sternledger weigh --all\" lists them", name, all[0].Name,
			all[len(all)-1].Name)
	case w.Recorded() && !w.Before && strings.EqualFold(m.Name, name) && len(w.Reasons) > 0:
		return nil, fmt.Errorf("--matter %s: that name is of an earlier record; this one, weighing %d, differs (%s), and its names do too: "+
			"look it up with \"sternledger weigh\"", name, w.Number, strings.Join(w.Reasons, "; "))
	}
	return m, nil
}

// Of is the part of the weighing that a matter is about.
func (w *Weighing) Of(m *record.Matter) *Weighing {
	in := map[string]bool{}
	for _, f := range m.Findings {
		in[f.Fingerprint] = true
	}
	part := w.Shown(WeighFilter{})
	part.Findings = slices.DeleteFunc(part.Findings, func(f check.Finding) bool { return !in[f.Fingerprint] })
	part.Scopes = slices.DeleteFunc(part.Scopes, func(s *govern.Scope) bool { return !slices.Contains(m.Scopes, s) })
	part.Verdicts = slices.DeleteFunc(part.Verdicts, func(v weigh.Verdict) bool {
		return !slices.Contains(m.Scopes, v.Scope) || !slices.Contains(m.Settings, v.Demand.Setting)
	})
	return part
}

// Cohorts are those of the whole weighing; of a part, those with a scope in it.
func (w *Weighing) Cohorts() []*record.Cohort {
	whole := *w.Record
	whole.Result = w.Whole()
	return slices.DeleteFunc(whole.Cohorts(), func(c *record.Cohort) bool {
		return !slices.ContainsFunc(w.Scopes, func(s *govern.Scope) bool { return slices.Contains(c.Places, s.Authority) })
	})
}

// Shown returns the part of the weighing that the filter picks.
func (w *Weighing) Shown(f WeighFilter) *Weighing {
	view, shown, part := *w, *w.Record, *w.Result
	shown.Result = &part
	view.Record, view.whole = &shown, w.Whole()
	part.Scopes = slices.DeleteFunc(slices.Clone(w.Scopes), func(s *govern.Scope) bool {
		return !f.InScope(s.Name()) || !f.inPlace(s.Authority.Label())
	})
	part.Verdicts = slices.DeleteFunc(slices.Clone(w.Verdicts), func(v weigh.Verdict) bool {
		return !f.InScope(v.Scope.Name()) || !f.inPlace(v.Scope.Authority.Label()) || !f.picks(v.Kind, v.Severity, []setting.ID{v.Demand.Setting})
	})
	part.Findings = slices.DeleteFunc(slices.Clone(w.Findings), func(x check.Finding) bool {
		return f.Scope != "" && (x.Scope == nil || !f.InScope(x.Scope.Name())) || !f.inPlace(x.Authority.Label()) ||
			!f.picks(x.Kind, x.Severity, x.Settings)
	})
	return &view
}

// WeighEntry is the ledger's entry of a weighing: what was weighed with what,
// so that it can be done again, and what came of it.
type WeighEntry struct {
	Format    int                         `json:"format"` // of its record; 0: of versions before records
	Weighing  int64                       `json:"weighing"`
	Reasons   []string                    `json:"reasons"` // for recording it: what differs from the one before
	Kinds     map[check.Kind]int          `json:"kinds"`   // of the findings
	Baselines []contract.BaselineDocument `json:"baselines"`
	Scopes    int                         `json:"scopes"`
	Verdicts  map[check.Kind]int          `json:"verdicts"`
	Findings  int                         `json:"findings"`
	Exposure  *contract.FallsDocument     `json:"exposure,omitempty"`
	Result    string                      `json:"result_sha256"`
	Mended    []Mended                    `json:"mended,omitempty"`
	Inputs    struct {
		Program   string            `json:"program"`
		AsOf      string            `json:"as_of"` // the day and time by which it was weighed; empty: the entry's
		Seen      int64             `json:"last_entry_seen"`
		Config    string            `json:"config_sha256"`
		Against   []string          `json:"against"`
		Baselines map[string]string `json:"baselines_sha256"`
		Machines  []string          `json:"machines"`
	} `json:"inputs"`
}
