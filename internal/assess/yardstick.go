package assess

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"sternledger/internal/benchmark"
	"sternledger/internal/collect"
	"sternledger/internal/contract"
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/custody"
)

// NewBaselineOptions say of what a baseline is made.
type NewBaselineOptions struct {
	ID, Title string
	From      string // a baseline to extend, or a file or folder
	Place     string // in evidence
	Profile   string // of a document
}

// NewBaseline writes a baseline into the engagement: one that extends another, or one
// made of a published benchmark, of what a template holds, or of a place in evidence.
func NewBaseline(e *custody.Engagement, opt NewBaselineOptions) (*contract.BaselineNewDocument, error) {
	d := &contract.BaselineNewDocument{Schema: "sternledger/baseline-new/1", ID: opt.ID, From: opt.From, Rules: []contract.RuleDocument{},
		Profiles: []string{}, Unasked: []contract.DroppedDocument{}}
	file, err := e.NewBaseline(opt.ID, func() (string, error) {
		var b *baseline.Baseline
		var err error
		source, part := sourceOf(opt.From)
		switch {
		case opt.Place != "":
			d.From = opt.Place
			b, err = ofPlace(e, d, opt.Place)
		case source == "":
			if opt.Profile != "" {
				return "", fmt.Errorf("--profile %q: only checklists have profiles, and --from %q names no file", opt.Profile, opt.From)
			}
			return extending(e, d, opt)
		default:
			b, err = ofSource(e, d, source, part, opt)
		}
		if err != nil {
			return "", err
		}
		b.ID, b.Version = opt.ID, "1"
		if opt.Title != "" {
			b.Title = opt.Title
		}
		d.Title, d.Demands = b.Title, len(b.Demands)
		return written(d, b)
	})
	d.File = file
	return d, err
}

// sourceOf tells a file or folder from a baseline's id, and takes off what names a part
// of it.
func sourceOf(from string) (source, part string) {
	if _, err := os.Stat(from); err == nil {
		return from, ""
	}
	if i := strings.LastIndexByte(from, '#'); i > 0 {
		if _, err := os.Stat(from[:i]); err == nil {
			return from[:i], from[i+1:]
		}
	}
	if strings.ContainsAny(from, `/\`) || slices.Contains([]string{".xml", ".inf", ".xlsx", ".csv", ".zip", ".reg", ".pol"},
		strings.ToLower(filepath.Ext(from))) {
		return from, "" // meant as a file: reading it tells what is wrong
	}
	return "", ""
}

func extending(e *custody.Engagement, d *contract.BaselineNewDocument, opt NewBaselineOptions) (string, error) {
	under, err := e.Baselines().Get(opt.From)
	if err != nil {
		return "", err
	}
	d.Kind, d.Demands, d.Title = "baseline", len(under.Demands), opt.Title
	if d.Title == "" {
		d.Title = "Our own figures, after " + under.Title
	}
	return baseline.Starter(opt.ID, d.Title, under), nil
}

// ofSource makes one of a document, or of what an export holds.
func ofSource(e *custody.Engagement, d *contract.BaselineNewDocument, source, part string, opt NewBaselineOptions) (*baseline.Baseline,
	error) {
	info, err := os.Stat(source)
	if err != nil {
		return nil, fmt.Errorf("--from %s: %w; check the name and that you may read it", source, custody.Cause(err))
	}
	if ext := strings.ToLower(filepath.Ext(source)); ext == ".xlsx" || ext == ".csv" || ext == ".xls" {
		return nil, fmt.Errorf("--from %s: the workbook or CSV form of a checklist is not read; publishers give out XCCDF and OVAL (XML) "+
			"beside it", source)
	}
	if !info.IsDir() {
		data, is, err := document(source, info)
		if err != nil {
			return nil, err
		}
		if is {
			return ofDocument(d, source, part, data, opt)
		}
	}
	if opt.Profile != "" {
		return nil, fmt.Errorf("--profile %q: only checklists have profiles, and %s is none", opt.Profile, source)
	}
	held, err := collect.SettingsIn(e, source, part)
	if err != nil {
		return nil, fmt.Errorf("--from %w", err)
	}
	d.Kind, d.Document = "settings", held.Name
	b := &baseline.Baseline{Title: "As " + held.Name + " has it", Sources: []string{filepath.Base(source)},
		Note: "Made of the settings in " + filepath.Base(source) + " by \"baseline new\": at least as strong as they are."}
	platforms := []setting.Platform{held.Platform}
	if held.Platform == setting.WindowsTemplate || held.Platform == setting.WindowsMachine || held.Platform == setting.WindowsDomain {
		platforms = []setting.Platform{setting.WindowsDomain, setting.WindowsMachine}
	}
	ofValues(d, b, held.Settings, platforms)
	return b, nil
}

// document reads a file, if it is that of a benchmark.
func document(source string, info os.FileInfo) (data []byte, is bool, err error) {
	f, err := os.Open(source)
	if err != nil {
		return nil, false, fmt.Errorf("--from %s: %w; check that you may read it", source, custody.Cause(err))
	}
	head := make([]byte, 64<<10)
	n, _ := f.Read(head)
	f.Close()
	if !benchmark.IsDocument(head[:n]) {
		return nil, false, nil
	}
	if info.Size() > benchmark.MostBytes {
		return nil, true, fmt.Errorf("--from %s: %d MiB, and documents of at most %d MiB are read; the publisher's document for one system is "+
			"smaller", source,
			info.Size()>>20, benchmark.MostBytes>>20)
	}
	data, err = os.ReadFile(source)
	return data, true, err
}

// ofDocument makes one of a published benchmark.
func ofDocument(d *contract.BaselineNewDocument, source, part string, data []byte, opt NewBaselineOptions) (*baseline.Baseline, error) {
	got, err := benchmark.Read(benchmark.Source{File: source, Data: data, Beside: func(name string) ([]byte, error) {
		file := filepath.Join(filepath.Dir(source), name)
		if info, err := os.Lstat(file); err != nil || !info.Mode().IsRegular() || info.Size() > benchmark.MostBytes {
			return nil, os.ErrNotExist
		}
		return os.ReadFile(file)
	}}, benchmark.Options{Part: part, Profile: opt.Profile})
	if err != nil {
		return nil, err
	}
	d.Kind, d.Document, d.Version, d.Profile, d.All = got.Kind, got.Document, got.Version, got.Profile, got.All
	d.Profiles = append(d.Profiles, got.Profiles...)
	d.Selected, d.Understood, d.NotUnderstood, d.Elsewhere = len(got.Rules), got.Count(benchmark.Understood),
		got.Count(benchmark.NotUnderstood),
		got.Count(benchmark.Elsewhere)
	for _, r := range got.Rules {
		if r.Outcome == benchmark.Elsewhere {
			continue
		}
		one := contract.RuleDocument{ID: r.ID, Ref: r.Ref, Outcome: string(r.Outcome), Why: r.Why, Remarks: append([]string{}, r.Remarks...),
			Settings: []setting.ID{}}
		if r.Outcome == benchmark.Understood {
			one.Settings = append(one.Settings, r.Settings...)
		}
		d.Rules = append(d.Rules, one)
	}
	if len(got.Demands) == 0 {
		return nil, noDemands(d, source)
	}
	name := strings.TrimSpace(got.Document + " " + got.Version)
	title := "After " + strings.TrimSpace(benchmark.Short(got.Document)+" "+got.Version)
	if got.Profile != "" {
		title += ", " + benchmark.Short(got.Profile)
	}
	b := &baseline.Baseline{Title: title, Edition: strings.TrimSpace(got.Kind + " " + name), Sources: []string{filepath.Base(source)},
		Platforms: got.Platforms(), Demands: got.Demands,
		Note: fmt.Sprintf("Made of %s by \"baseline new\", SHA-256 %s. Figures, identifiers and severities are the document's; its sentences "+
			"are not copied. Of %d rules %d were selected: "+
			"%d understood; %d about passwords or lockout and not understood, at the end of this file; %d about other things.",
			filepath.Base(source), custody.HexSum(data), got.All, len(got.Rules), d.Understood, d.NotUnderstood, d.Elsewhere)}
	if got.Profile != "" {
		b.Note += " Profile: " + got.Profile + "."
	}
	return b, nil
}

func noDemands(d *contract.BaselineNewDocument, source string) error {
	text := fmt.Sprintf("%s: of %d rules that are selected none became a demand", source, d.Selected)
	for i, r := range d.Rules {
		if i == 10 {
			text += fmt.Sprintf("\n  and %d more", len(d.Rules)-i)
			break
		}
		text += fmt.Sprintf("\n  %s: %s", r.ID, r.Why)
	}
	if d.Profile == "" && len(d.Profiles) > 0 {
		text += "\nchoose a profile, with --profile: " + strings.Join(d.Profiles, ", ")
	}
	return fmt.Errorf("%s", text)
}

// ofPlace makes one of what holds for the standard accounts of a place.
func ofPlace(e *custody.Engagement, d *contract.BaselineNewDocument, name string) (*baseline.Baseline, error) {
	survey, err := e.Survey()
	if err != nil {
		return nil, err
	}
	var best *govern.Scope
	var names []string
	for _, s := range survey.Scopes {
		if !slices.Contains(names, s.Authority.Label()) {
			names = append(names, s.Authority.Label())
		}
		if s.Authority.Label() != name && s.Authority.Name != name || s.Elsewhere != nil || s.Policy == nil {
			continue
		}
		if best != nil && best.Authority != s.Authority {
			return nil, fmt.Errorf("--from-place %q: two places are called so, %s and %s; write which", name, best.Authority.Label(),
				s.Authority.Label())
		}
		if best == nil || rankOf(s) > rankOf(best) {
			best = s
		}
	}
	if best == nil {
		return nil, fmt.Errorf("--from-place %q: no place in evidence is called so, or nothing tells what holds there; %s", name,
			strictyaml.Hint(name, names))
	}
	values := estate.Settings{}
	for id, x := range best.Settings {
		switch x.Missing {
		case govern.Present:
			values[id] = x.Fact
		case govern.Unreadable, govern.Unproven: // what stands there is not demanded, and that is said
			x.Fact.Problem = cmp.Or(x.Fact.Problem, x.Open, string(x.Missing))
			values[id] = x.Fact
		}
	}
	d.Kind, d.Document = "place", best.Name()
	b := &baseline.Baseline{Title: "As " + best.Authority.Label() + " has it", Sources: []string{best.Name()},
		Note: "Made of what holds for " + best.Name() + " by \"baseline new\": at least as strong as that."}
	ofValues(d, b, values, []setting.Platform{best.Authority.Platform})
	if len(b.Demands) == 0 {
		return nil, fmt.Errorf("--from-place %q: nothing is known of its settings that could be demanded", name)
	}
	return b, nil
}

// rankOf prefers the scope of ordinary people: by tier, then by how many live there.
func rankOf(s *govern.Scope) int {
	rank := s.Accounts
	if s.Tier == govern.Standard {
		rank += 1 << 40
	}
	return rank
}

// ofValues makes demands of settings. Those that exist on some of the platforms only
// are demanded there.
func ofValues(d *contract.BaselineNewDocument, b *baseline.Baseline, settings estate.Settings, platforms []setting.Platform) {
	values := map[setting.ID]setting.Value{}
	for id, f := range settings {
		if f.Problem == "" {
			values[id] = f.Value
		}
	}
	demands, unasked := baseline.Golden(values)
	for _, row := range setting.Table() {
		if f := settings[row.ID]; f.Problem != "" {
			unasked = append(unasked, baseline.Unasked{Setting: row.ID, Why: "what it is there is not known: " + f.Problem})
		}
	}
	b.Platforms = platforms
	for _, x := range demands {
		s := setting.Get(x.Setting)
		var on []setting.Platform
		for _, p := range platforms {
			if s.Exists(p) {
				on = append(on, p)
			}
		}
		if len(on) == 0 {
			unasked = append(unasked, baseline.Unasked{Setting: x.Setting, Why: "only templates have it"})
			continue
		}
		if len(on) < len(platforms) {
			x.Platforms = on
		}
		f := settings[x.Setting]
		x.Severity, x.Why = baseline.Serious, "Where this was taken from: "+s.Text(f.Value)+"."
		if f.Cite.Where != "" {
			x.Ref = f.Cite.Where
		}
		b.Demands = append(b.Demands, x)
	}
	for _, u := range unasked {
		d.Unasked = append(d.Unasked, contract.DroppedDocument{Setting: u.Setting, Why: u.Why})
	}
}

// written is the baseline's file. It is read again, so that nothing is written that
// could not be.
func written(d *contract.BaselineNewDocument, b *baseline.Baseline) (string, error) {
	for i := range b.Demands {
		if slices.Equal(b.Demands[i].Platforms, b.Platforms) {
			b.Demands[i].Platforms = nil
		}
	}
	text, err := b.YAML()
	if err != nil {
		return "", err
	}
	var out strings.Builder
	fmt.Fprintf(&out, "# Check it with \"sternledger baseline lint\"; %s under \"baselines:\" in engagement.yaml\n# chooses it. Severities "+
		"and reasons are yours to change.\n", b.ID)
	out.Write(text)
	comment := func(head string, lines []string) {
		if len(lines) == 0 {
			return
		}
		fmt.Fprintf(&out, "\n# %s\n", head)
		for _, l := range lines {
			fmt.Fprintf(&out, "#   %s\n", strings.Join(strings.Fields(l), " "))
		}
	}
	var left, asks []string
	for _, r := range d.Rules {
		if r.Outcome == string(benchmark.NotUnderstood) {
			left = append(left, r.ID+": "+r.Why)
		}
	}
	for _, u := range d.Unasked {
		asks = append(asks, string(u.Setting)+": "+u.Why)
	}
	comment("Rules about passwords or lockout that are not understood:", left)
	comment("Settings on which nothing is required:", asks)
	if _, err := baseline.Parse(b.ID+".yaml", []byte(out.String())); err != nil {
		return "", fmt.Errorf("what was made of it cannot be written as a baseline: %w", err)
	}
	return out.String(), nil
}
