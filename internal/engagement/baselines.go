package engagement

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"sternledger/baselines"
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/strictyaml"
)

// BaselinesDir is the folder of an engagement's own baselines.
const BaselinesDir = "baselines"

// ShippedBaselines returns the ids of the baselines in the program.
func ShippedBaselines() []string {
	files, _ := fs.Glob(baselines.Files, "*.yaml")
	for i := range files {
		files[i] = strings.TrimSuffix(files[i], ".yaml")
	}
	slices.Sort(files)
	return files
}

// Library finds baselines: those of an engagement's folder, then the shipped
// ones, and files by their path.
type Library struct {
	Dir   string            // empty: no engagement
	texts map[string]string // of a recorded weighing, by id; then there are no others
}

// own returns the files of the engagement's own baselines by their ids.
func (l Library) own() (map[string]string, error) {
	found := map[string]string{}
	if l.Dir == "" {
		return found, nil
	}
	files, err := filepath.Glob(filepath.Join(l.Dir, BaselinesDir, "*.yaml"))
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		b, err := baseline.Parse(file, data)
		if err != nil {
			return nil, err
		}
		if before, twice := found[b.ID]; twice {
			return nil, fmt.Errorf("%s and %s are both called %q; give each an id of its own", before, file, b.ID)
		}
		found[b.ID] = file
	}
	return found, nil
}

// IDs returns the ids of all baselines.
func (l Library) IDs() ([]string, error) {
	own, err := l.own()
	ids := ShippedBaselines()
	for id := range own {
		if !slices.Contains(ids, id) {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	return ids, err
}

// Source says where a baseline comes from: the program, or a file.
func (l Library) Source(id string) string {
	if own, _ := l.own(); own[id] != "" {
		return own[id]
	}
	return "shipped"
}

// Get returns a baseline, whole: by id, or by the path of its file.
func (l Library) Get(id string) (*baseline.Baseline, error) {
	b, _, err := l.read(id)
	return b, err
}

// read returns a baseline with the texts that it is made of, its own and those
// of the ones it extends, by the names under which they were asked for.
func (l Library) read(id string) (b *baseline.Baseline, texts map[string]string, err error) {
	own, err := l.own()
	if err != nil {
		return nil, nil, err
	}
	texts = map[string]string{}
	b, err = baseline.Resolve(id, func(id string) (*baseline.Baseline, error) {
		path, data, err := l.load(id, own)
		if err != nil {
			return nil, err
		}
		texts[id] = string(data)
		return baseline.Parse(path, data)
	})
	return b, texts, err
}

// load returns the text of one baseline.
func (l Library) load(id string, own map[string]string) (path string, data []byte, err error) {
	if l.texts != nil {
		text, ok := l.texts[id]
		if !ok {
			return "", nil, fmt.Errorf("the ledger does not keep the baseline %q", id)
		}
		return id, []byte(text), nil
	}
	file := own[id]
	if strings.HasSuffix(id, ".yaml") || strings.HasSuffix(id, ".yml") {
		file = id
	}
	if file != "" {
		if data, err = os.ReadFile(file); err != nil {
			err = fmt.Errorf("%s: %w; check the name and that you may read it", file, cause(err))
		}
		return file, data, err
	}
	data, err = baselines.Files.ReadFile(id + ".yaml")
	if errors.Is(err, fs.ErrNotExist) {
		ids, _ := l.IDs()
		err = fmt.Errorf("unknown baseline %q; the nearest known one is %q", id, strictyaml.Nearest(id, ids))
	}
	return id + ".yaml", data, err
}

// Baselines is the engagement's library.
func (e *Engagement) Baselines() Library {
	if e.then != nil {
		return Library{texts: e.then.baselines}
	}
	return Library{Dir: e.Dir}
}

// NewBaseline writes an organisation's own baseline into the engagement, which
// changes nothing yet of the one it extends.
func (e *Engagement) NewBaseline(id, from, title string) (file string, err error) {
	under, err := e.Baselines().Get(from)
	if err != nil {
		return "", err
	}
	if id != plainName(id) || strings.Contains(id, ".") {
		return "", fmt.Errorf("%q: an id is made of letters, digits, - and _", id)
	}
	if ids, err := e.Baselines().IDs(); err != nil {
		return "", err
	} else if slices.Contains(ids, id) {
		return "", fmt.Errorf("there is a baseline %q already; choose another id", id)
	}
	if title == "" {
		title = "Our own figures, after " + under.Title
	}
	file = filepath.Join(e.Dir, BaselinesDir, id+".yaml")
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return "", err
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return "", err
	}
	_, err = f.WriteString(baseline.Starter(id, title, under))
	return file, errors.Join(err, f.Close())
}

// BaselineRow is one baseline in a list.
type BaselineRow struct {
	ID        string             `json:"id"`
	Title     string             `json:"title"`
	Version   string             `json:"version"`
	Source    string             `json:"source"` // "shipped", or the file
	Extends   string             `json:"extends"`
	Platforms []setting.Platform `json:"platforms"`
	Demands   int                `json:"demands"`
}

// BaselineListDocument is the output of baseline list.
type BaselineListDocument struct {
	Schema    string        `json:"schema"`
	Baselines []BaselineRow `json:"baselines"`
}

// List returns all baselines.
func (l Library) List() (*BaselineListDocument, error) {
	ids, err := l.IDs()
	if err != nil {
		return nil, err
	}
	d := &BaselineListDocument{Schema: "sternledger/baseline-list/1", Baselines: []BaselineRow{}}
	for _, id := range ids {
		b, err := l.Get(id)
		if err != nil {
			return nil, err
		}
		d.Baselines = append(d.Baselines, BaselineRow{b.ID, b.Title, b.Version, l.Source(id), b.Extends, b.Platforms, len(b.Demands)})
	}
	return d, nil
}

// DemandDocument is one demand of a baseline.
type DemandDocument struct {
	Setting   setting.ID         `json:"setting"`
	Demanded  string             `json:"demanded"`
	Kind      baseline.Kind      `json:"kind"`
	Values    []any              `json:"values"` // numbers, booleans or words; durations in seconds; specials by name
	Specials  map[string]string  `json:"specials"`
	Ref       string             `json:"ref"`
	Severity  baseline.Severity  `json:"severity"`
	Why       string             `json:"why"`
	Platforms []setting.Platform `json:"platforms"`
	Tiers     []string           `json:"tiers"`
	Factor    string             `json:"factor"`
	From      string             `json:"from"` // the baseline that is extended, where the demand is its
	Was       string             `json:"was"`  // what it takes the place of
}

// BaselineShowDocument is the output of baseline show.
type BaselineShowDocument struct {
	Schema    string             `json:"schema"`
	ID        string             `json:"id"`
	Title     string             `json:"title"`
	Version   string             `json:"version"`
	Publisher string             `json:"publisher"`
	Published string             `json:"published"`
	Edition   string             `json:"edition"`
	Sources   []string           `json:"sources"`
	Note      string             `json:"note"`
	Extends   string             `json:"extends"`
	Platforms []setting.Platform `json:"platforms"`
	Tiers     []string           `json:"tiers"`
	Demands   []DemandDocument   `json:"demands"`
	Dropped   []DroppedDocument  `json:"dropped"`
}

// DroppedDocument is a setting on which an own baseline demands nothing.
type DroppedDocument struct {
	Setting setting.ID `json:"setting"`
	Why     string     `json:"why"`
}

// NewBaselineShowDocument describes a baseline.
func NewBaselineShowDocument(b *baseline.Baseline) BaselineShowDocument {
	d := BaselineShowDocument{Schema: "sternledger/baseline-show/1", ID: b.ID, Title: b.Title, Version: b.Version, Publisher: b.Publisher, Published: b.Published, Edition: b.Edition,
		Sources: append([]string{}, b.Sources...), Note: b.Note, Extends: b.Extends, Platforms: b.Platforms, Tiers: append([]string{}, b.Tiers...), Demands: []DemandDocument{}, Dropped: []DroppedDocument{}}
	for i := range b.Demands {
		x := &b.Demands[i]
		one := DemandDocument{Setting: x.Setting, Demanded: x.Text(), Kind: x.Kind, Values: []any{}, Specials: map[string]string{}, Ref: x.Ref, Severity: x.Severity, Why: x.Why,
			Platforms: append([]setting.Platform{}, x.Platforms...), Tiers: append([]string{}, x.Tiers...), Factor: string(x.Factor), From: x.From, Was: x.Was}
		for _, v := range x.Values {
			value, special := valueDocument(x.Setting, v)
			if special != "" {
				value = special
			}
			one.Values = append(one.Values, value)
		}
		for sp, holds := range x.Specials {
			one.Specials[string(sp)] = map[bool]string{true: "holds", false: "fails"}[holds]
		}
		d.Demands = append(d.Demands, one)
	}
	for _, x := range b.Dropped {
		d.Dropped = append(d.Dropped, DroppedDocument(x))
	}
	return d
}

// ReconcileDocument is the output of baseline reconcile.
type ReconcileDocument struct {
	Schema    string                `json:"schema"`
	Baselines []BaselineDocument    `json:"baselines"`
	Settings  []ReconciledDocument  `json:"settings"`
	rows      []baseline.Reconciled // for pages
}

// Rows are the settings as the core has them.
func (d *ReconcileDocument) Rows() []baseline.Reconciled { return d.rows }

// ReconciledDocument is one setting under several baselines.
type ReconciledDocument struct {
	Setting setting.ID         `json:"setting"`
	Case    string             `json:"case"`    // where it holds, if cases differ
	Band    string             `json:"band"`    // the values that satisfy all; "no value" if none does
	Agrees  bool               `json:"agrees"`  // some value satisfies all
	Demands []ReconciledDemand `json:"demands"` // of each baseline that demands something
	Exclude [][2]string        `json:"exclude"` // baselines whose demands exclude each other
}

// ReconciledDemand is what one baseline demands.
type ReconciledDemand struct {
	Baseline string `json:"baseline"`
	Ref      string `json:"ref"`
	Demanded string `json:"demanded"`
	Why      string `json:"why"`
}

// Reconcile lays baselines together.
func (l Library) Reconcile(ids []string) (*ReconcileDocument, error) {
	d := &ReconcileDocument{Schema: "sternledger/baseline-reconcile/1", Baselines: []BaselineDocument{}, Settings: []ReconciledDocument{}}
	var all []*baseline.Baseline
	for _, id := range ids {
		b, err := l.Get(id)
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(all, func(a *baseline.Baseline) bool { return a.ID == b.ID }) {
			return nil, fmt.Errorf("%s is named twice", b.ID)
		}
		all = append(all, b)
		d.Baselines = append(d.Baselines, BaselineDocument{b.ID, b.Version})
	}
	d.rows = baseline.Reconcile(all)
	for _, r := range d.rows {
		one := ReconciledDocument{Setting: r.Setting, Case: r.Case, Band: r.Band.Text(), Agrees: !r.Band.Empty(), Demands: []ReconciledDemand{}, Exclude: [][2]string{}}
		for _, n := range r.Demands {
			one.Demands = append(one.Demands, ReconciledDemand{n.Baseline.ID, n.Demand.Ref, n.Demand.Text(), n.Demand.Why})
		}
		for _, x := range r.Exclude {
			one.Exclude = append(one.Exclude, [2]string{x[0].Baseline.ID, x[1].Baseline.ID})
		}
		d.Settings = append(d.Settings, one)
	}
	return d, nil
}
