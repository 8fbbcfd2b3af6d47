package custody

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"sternledger/baselines"
	"sternledger/internal/contract"
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/folder"
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
// ones, and files by their path. Paths that stand in the engagement are of its
// folder; only those that the auditor names lead anywhere.
type Library struct {
	folder *folder.Folder    // nil: no engagement
	named  []string          // by the auditor
	texts  map[string]string // of a recorded weighing, by id; then there are no others
}

// OpenLibrary opens the library of the engagement in a folder, or, where there
// is none, that of the program alone.
func OpenLibrary(dir string) Library {
	f, err := folder.Open(dir)
	if err != nil || !f.Has(ConfigName) {
		return Library{}
	}
	return Library{folder: f}
}

// Naming is the library to somebody who names baselines, perhaps by files.
func (l Library) Naming(names ...string) Library {
	l.named = names
	return l
}

// own returns the files of the engagement's own baselines by their ids.
func (l Library) own() (map[string]string, error) {
	found := map[string]string{}
	if l.folder == nil {
		return found, nil
	}
	files, err := l.folder.List(BaselinesDir, ".yaml")
	if err != nil {
		return nil, err
	}
	for _, name := range files {
		file := l.folder.Path(name)
		data, err := l.folder.ReadFile(name, mostConfig)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", file, Cause(err))
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
	b, _, err := l.Read(id)
	return b, err
}

// Read returns a baseline with the texts that it is made of, its own and those
// of the ones it extends, by the names under which they were asked for.
func (l Library) Read(id string) (b *baseline.Baseline, texts map[string]string, err error) {
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
		b, err := baseline.Parse(path, data)
		if err == nil && !baselines.Shipped(id) {
			b.State()
		}
		return b, err
	})
	return b, texts, err
}

// errNoBaseline says that there is none of that name.
var errNoBaseline = errors.New("unknown baseline")

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
		return l.file(file)
	}
	data, err = baselines.Files.ReadFile(id + ".yaml")
	if errors.Is(err, fs.ErrNotExist) {
		ids, _ := l.IDs()
		err = fmt.Errorf("%w %q; %s", errNoBaseline, id, strictyaml.Hint(id, ids))
	}
	return id + ".yaml", data, err
}

// file reads a baseline by its path: any that the auditor names, else one in
// the engagement's folder, by its path there.
func (l Library) file(file string) (string, []byte, error) {
	read := func() ([]byte, error) { return readAtMost(file, mostConfig) }
	if !slices.Contains(l.named, file) && l.folder != nil {
		inside := file
		if at, err := filepath.Rel(l.folder.Dir(), file); err == nil && filepath.IsLocal(at) {
			inside = at
		}
		name, err := folder.Parse(filepath.ToSlash(inside))
		if err != nil {
			return file, nil, fmt.Errorf("%w; a baseline that the engagement names lies in its folder, best in %s", err, BaselinesDir)
		}
		read = func() ([]byte, error) { return l.folder.ReadFile(name, mostConfig) }
	}
	data, err := read()
	if err != nil {
		err = fmt.Errorf("%s: %w; check the name and that you may read it", file, Cause(err))
	}
	return file, data, err
}

// readAtMost reads a file that the auditor named.
func readAtMost(file string, most int64) ([]byte, error) {
	in, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	data, err := io.ReadAll(io.LimitReader(in, most+1))
	if err == nil && int64(len(data)) > most {
		err = fmt.Errorf("more than %d MiB", most>>20)
	}
	return data, err
}

// Baselines is the engagement's library.
func (e *Engagement) Baselines() Library {
	if e.Then != nil {
		return Library{texts: e.Then.baselines}
	}
	return Library{folder: e.Folder}
}

// NewBaseline writes an organisation's own baseline into the engagement: text makes
// its file.
func (e *Engagement) NewBaseline(id string, text func() (string, error)) (file string, err error) {
	if id != folder.Safe(id) || strings.Contains(id, ".") {
		return "", fmt.Errorf("%q: an id is made of letters, digits, - and _", id)
	}
	if ids, err := e.Baselines().IDs(); err != nil {
		return "", err
	} else if slices.Contains(ids, id) {
		return "", fmt.Errorf("there is a baseline %q already; choose another id", id)
	}
	written, err := text()
	if err != nil {
		return "", err
	}
	name := folder.Join(BaselinesDir, folder.Name(id+".yaml"))
	f, err := e.Folder.Create(name)
	if err != nil {
		return "", err
	}
	_, err = f.WriteString(written)
	return e.Folder.Path(name), errors.Join(err, f.Close())
}

// List returns all baselines.
func (l Library) List() (*contract.BaselineListDocument, error) {
	ids, err := l.IDs()
	if err != nil {
		return nil, err
	}
	d := &contract.BaselineListDocument{Schema: "sternledger/baseline-list/1", Baselines: []contract.BaselineRow{}}
	for _, id := range ids {
		b, err := l.Get(id)
		if err != nil {
			return nil, err
		}
		d.Baselines = append(d.Baselines, contract.BaselineRow{ID: b.ID, Title: b.Title, Version: b.Version, Source: l.Source(id),
			Extends: b.Extends, Platforms: b.Platforms, Demands: len(b.Demands)})
	}
	return d, nil
}

// Rows are the settings as the core has them.
func Rows(d *contract.ReconcileDocument) []baseline.Reconciled { return d.Rows }

// Reconcile lays baselines together.
func (l Library) Reconcile(ids []string) (*contract.ReconcileDocument, error) {
	d := &contract.ReconcileDocument{Schema: "sternledger/baseline-reconcile/1", Baselines: []contract.BaselineDocument{},
		Settings: []contract.ReconciledDocument{}}
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
		d.Baselines = append(d.Baselines, contract.BaselineDocument{ID: b.ID, Version: b.Version})
	}
	d.Rows = baseline.Reconcile(all)
	for _, r := range d.Rows {
		one := contract.ReconciledDocument{Setting: r.Setting, Case: r.Case, Band: r.Text(), Agrees: len(r.Ways) > 0,
			Demands: []contract.ReconciledDemand{}, Exclude: [][2]string{}}
		for _, n := range r.Demands {
			one.Demands = append(one.Demands, contract.ReconciledDemand{Baseline: n.Baseline.ID, Ref: n.Demand.Ref, Demanded: n.Demand.Text(),
				Why: n.Demand.Why})
		}
		for _, x := range r.Exclude {
			one.Exclude = append(one.Exclude, [2]string{x[0].Baseline.ID, x[1].Baseline.ID})
		}
		d.Settings = append(d.Settings, one)
	}
	return d, nil
}

// Covering returns, for each place, the shipped baselines that demand something which
// its platform has and are about what runs there. What a fitting one extends is left
// out: it is the same for other systems.
func Covering() (func(a *estate.Authority) []string, error) {
	var all []*baseline.Baseline
	for _, id := range ShippedBaselines() {
		b, err := Library{}.Get(id)
		if err != nil {
			return nil, err
		}
		all = append(all, b)
	}
	return func(a *estate.Authority) []string {
		var ids, under []string
		for _, b := range all {
			if b.Fits(a.System) && Covers(b, a.Platform, govern.Standard) {
				ids = append(ids, b.ID)
				if len(b.Systems) > 0 {
					under = append(under, b.Extends)
				}
			}
		}
		return slices.DeleteFunc(ids, func(id string) bool { return slices.Contains(under, id) })
	}, nil
}

// Covers reports whether a baseline demands anything that a platform has.
func Covers(b *baseline.Baseline, p setting.Platform, tier string) bool {
	return slices.ContainsFunc(b.For(p, tier, baseline.Situation{Factor: baseline.Only, Interactive: true, Remote: true, Cloud: true}), func(d *baseline.Demand) bool {
		return setting.Get(d.Setting).Exists(p) || slices.Contains(d.Platforms, p)
	})
}
