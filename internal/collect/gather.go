// Package collect takes evidence into an engagement: it finds out what files,
// folders, archives and live sources are, has them read as a stream, and stores
// copies of what is kept. Gather is all or nothing.
package collect

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"sternledger/internal/contract"
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
	"sternledger/internal/custody"
	"sternledger/internal/folder"
	"sternledger/internal/intake"
	"sternledger/internal/intake/fieldmap"
	"sternledger/internal/intake/ldif"
	"sternledger/internal/intake/live"
	"sternledger/internal/intake/netaccounts"
	"sternledger/internal/intake/printed"
	"sternledger/internal/intake/sheet"
	"sternledger/internal/intake/shell"
	"sternledger/internal/intake/template"
	"sternledger/internal/intake/unix"
	"sternledger/internal/ledger"
	"sternledger/internal/redact"
)

// formats are all formats of single files that gather knows, asked in this
// order.
var formats = []*intake.Format{&ldif.Format, &ldif.CSV, &ldif.ServerConf, &template.Format, &template.Report, &template.RegistryPol,
	&template.RegistryFile, &template.Preferences,
	&sheet.Format, &shell.Format, &shell.LocalUsers, &netaccounts.Format, &printed.Format, &printed.Pdbedit, &printed.Kadmin}

// treeFormats are those of exports that are made of several files. Which
// tenants' exports are known depends on the field maps, shipped and own.
func treeFormats(e *custody.Engagement) (trees, error) {
	maps, err := e.FieldMaps()
	return trees{&unix.Format, fieldmap.Format(maps)}, err
}

// SheetTemplate writes an empty sheet with every setting and its meaning.
func SheetTemplate(w io.Writer) error { return sheet.Template(w) }

// GatherOptions are the choices of one gather.
type GatherOptions struct {
	// WithGaps takes evidence that holds values no platform could hold; what
	// they stood for is then missing. Without it such evidence is refused.
	WithGaps bool
	// LessIsRight, if not empty, says why new evidence that holds less than what
	// is on record is right: what it lacks is gone then, not unknown.
	LessIsRight string
	// KeepAll keeps in the stored copies what no rule needs, too, but for secrets.
	KeepAll bool
	// Live says how live sources are read; its URL is each source's.
	Live LiveOptions
	// Tickets, if not nil, sign in to directories by Kerberos.
	Tickets *Tickets
	// DirectoryOnly leaves the policy stores of domains that are read live.
	DirectoryOnly bool
	// Map is the id of the field map by which tenants are asked.
	Map string
	// Hosts are addresses of a tenant's further interfaces, by the ids of its
	// field map, where they are not the map's.
	Hosts map[string]string
	// Credentials are how tenants are signed in to.
	Credentials Credentials
	// Password is asked once for the name that Live binds as, when a live
	// source needs it.
	Password func(name string) (string, error)
	// Progress, if not nil, is told how far the reading is. total is -1 where
	// it is not known; then done counts entries.
	Progress func(path string, done, total int64)
}

// Gathered says what a gather took.
type Gathered struct {
	Entry       int64
	Files       []Taken
	Passed      []PassedOver
	Authorities []*estate.Authority
	Templates   []estate.Template
	Problems    []estate.Problem
	Live        []*live.Collected
	Archives    []contract.Archive
	Lost        []PlaceLoss
	NotKept     int               // values that no rule needs, left out of the stored copies
	KeptAll     bool              // it was asked for: what was left out is no text
	Unweighed   []check.Unweighed // places, on record now, that no chosen baseline covers
	Fitting     []Fitting         // the shipped baselines that fit, by platform
}

// Fitting are the shipped baselines that fit the places of a platform.
type Fitting struct {
	Platform  setting.Platform
	Places    int
	Chosen    []string
	NotChosen []string
}

// PlaceLoss is what new evidence of a place holds less of than what was on
// record.
type PlaceLoss struct {
	Place estate.Place
	estate.Loss
}

// Taken is one file that was taken, or was in the ledger already.
type Taken struct {
	ledger.Evidence
	Given string // the path given now, of a known one
	Known bool   // it was taken before, as Evidence says, and is still current
}

// PassedOver is one file that was not taken, and why.
type PassedOver struct {
	Path, Why string
	LooksLike string // what it seems to be; empty: nothing known
	Instead   string // what to gather instead; empty: nothing to say
}

// Gather takes exports into evidence: all of them, or nothing.
func Gather(e *custody.Engagement, sources []string, opt GatherOptions) (*Gathered, error) {
	for _, source := range sources {
		if strings.Contains(source, "://") {
			if err := live.Plain(source); err != nil {
				return nil, fmt.Errorf("gather: %w", err)
			}
		}
	}
	collected, answered, files, err := collect(e, sources, opt)
	if err != nil {
		return nil, err
	}
	candidates, passed, archives, err := look(e, files, answered)
	if err != nil {
		return nil, err
	}
	tx, err := e.Ledger.Change() // from here on no other program gathers
	if err != nil {
		return nil, fmt.Errorf("the ledger is in use by another program; try again when it is done: %w", err)
	}
	defer tx.Rollback()
	g := &gathering{Engagement: e, tx: tx, opt: opt, builder: estate.NewBuilder(), result: &Gathered{Passed: passed, Live: collected,
		Archives: archives, KeptAll: opt.KeepAll}}
	for i := range candidates {
		c := &candidates[i]
		c.origin = cmp.Or(c.origin, c.path)
		for k := range c.parts {
			c.parts[k].origin = cmp.Or(c.parts[k].origin, c.parts[k].path)
		}
	}
	var accepted func()
	if g.staging, accepted, err = e.MakeStaging(); err != nil {
		return nil, err
	}
	defer accepted()
	defer func() {
		_ = g.synced() // what is open still cannot be removed on Windows
		_ = e.Folder.RemoveAll(g.staging)
	}()
	usual := debug.SetGCPercent(100)
	debug.SetGCPercent(usual)
	defer debug.SetGCPercent(usual) // large files and trees change it
	if g.aside, err = custody.AsideIn(tx); err != nil {
		return nil, err
	}
	if g.known, err = tx.Evidence(); err != nil {
		return nil, err
	}
	if g.current, err = tx.CurrentFiles(g.aside); err != nil {
		return nil, err
	}
	g.brought = map[string]bool{}
	g.sizes, g.bySum = map[int64]bool{}, map[said][]ledger.Evidence{}
	g.trees = map[string][]ledger.Evidence{}
	for _, e := range g.known {
		switch {
		case e.Tree != "":
			g.trees[e.Tree] = append(g.trees[e.Tree], e)
		case g.current[e.Name]:
			g.index(e)
		}
	}
	var foreign error // of the last export of a system that is not read
	for _, c := range candidates {
		if err := context.Cause(e.Context); err != nil {
			return nil, err
		}
		take := g.take
		if c.tree != nil {
			take = g.takeTree
		}
		err := take(c)
		if strange := (*intake.Error)(nil); errors.As(err, &strange) && strange.Foreign && len(candidates) > 1 {
			g.result.Passed = append(g.result.Passed, PassedOver{Path: c.root, Why: strange.Seen, LooksLike: strange.Seen, Instead: strange.Next})
			foreign = err
			continue
		}
		if err != nil {
			return nil, err
		}
	}
	if foreign != nil && len(g.result.Files) == 0 {
		return nil, foreign
	}
	if err := g.policiesWithLess(tx); err != nil {
		return nil, err
	}
	if len(g.files) == 0 && len(g.builder.Templates) == 0 {
		return g.result, nil // everything was known: nothing changes
	}
	if err := g.join(tx); err != nil {
		return nil, err
	}
	if err := g.write(tx); err != nil {
		return nil, err
	}
	if err := g.synced(); err != nil {
		return nil, err
	}
	accepted()
	if err := tx.Commit(); err != nil {
		return nil, err
	}
	if err := e.PutInPlace(g.staging, g.evidence()); err != nil {
		return nil, err
	}
	return g.result, g.result.chosen(e)
}

// chosen finds the places that no baseline covers which the engagement chooses for
// them, and which of the shipped ones fit.
func (g *Gathered) chosen(e *custody.Engagement) error {
	fitting, err := custody.Covering()
	if err != nil {
		return err
	}
	read := map[string]*baseline.Baseline{}
	by := map[setting.Platform]int{}
	for _, a := range g.Authorities {
		ids, under := map[string]bool{}, map[string]bool{}
		covered := false
		for _, tier := range []string{govern.Standard, govern.Privileged, govern.Service} {
			for _, id := range e.BaselinesFor(a.Place(), tier, custody.WeighOptions{}) {
				if read[id] == nil {
					if read[id], err = e.Baselines().Get(id); err != nil {
						return err
					}
				}
				ids[id], under[read[id].Extends] = true, true
				covered = covered || custody.Covers(read[id], a.Platform, tier)
			}
		}
		if !covered {
			g.Unweighed = append(g.Unweighed, check.Unweighed{Authority: a, Fitting: fitting(a)})
		}
		n, ok := by[a.Platform]
		if !ok {
			n = len(g.Fitting)
			by[a.Platform], g.Fitting = n, append(g.Fitting, Fitting{Platform: a.Platform})
		}
		f := &g.Fitting[n]
		f.Places++
		for _, id := range fitting(a) {
			switch {
			case !ids[id] && under[id]: // chosen with what extends it
			case ids[id] && !slices.Contains(f.Chosen, id):
				f.Chosen = append(f.Chosen, id)
				f.NotChosen = slices.DeleteFunc(f.NotChosen, func(x string) bool { return x == id })
			case !ids[id] && !slices.Contains(f.Chosen, id) && !slices.Contains(f.NotChosen, id):
				f.NotChosen = append(f.NotChosen, id)
			}
		}
	}
	return nil
}

// gathering is one gather under way.
type gathering struct {
	*custody.Engagement
	tx        *ledger.Tx
	opt       GatherOptions
	builder   *estate.Builder
	result    *Gathered
	staging   folder.Name
	templates []string                     // the names under which the ledger holds those of the result
	known     []ledger.Evidence            // before this gather
	aside     []string                     // evidence that is set aside
	current   map[string]bool              // names of those from which current facts come
	brought   map[string]bool              // by this gather, known or not: whether it was found in a folder
	sizes     map[int64]bool               // of the files that are current, and of this gather's
	bySum     map[said][]ledger.Evidence   // the same files
	trees     map[string][]ledger.Evidence // of exports made of several files, by name: on record, and of this gather
	taken     map[string]bool              // names of stored copies, in lower case
	files     []staged
	syncing   []chan error
	failed    error // of a copy on its way to the disk
	large     bool  // a file among them whose facts take much memory
}

// staged is a file that was read and whose copy waits in the staging folder.
type staged struct {
	ledger.Evidence
	candidate
}

// evidence is what the ledger is told of the files.
func (g *gathering) evidence() []ledger.Evidence {
	all := make([]ledger.Evidence, 0, len(g.files))
	for i := range g.files {
		all = append(all, g.files[i].Evidence)
	}
	return all
}

// take reads one file, unless it is known.
func (g *gathering) take(c candidate) error {
	if before, err := g.seen(c); err != nil || before != nil {
		if before != nil {
			g.result.Files = append(g.result.Files, Taken{Evidence: *before, Given: c.origin, Known: true})
			g.brought[before.Name] = !c.named
		}
		return err
	}
	f, err := c.open()
	if err != nil {
		return fmt.Errorf("gather %s: %w", c.path, custody.Cause(err))
	}
	defer f.Close()
	s := staged{candidate: c, Evidence: ledger.Evidence{Name: g.nameFor(c), Path: c.origin, Format: c.format.Name,
		Written: c.written.UTC().Format(time.RFC3339)}}
	keep, err := g.Folder.Create(folder.Join(g.staging, folder.Name(s.Name)))
	if err != nil {
		return err
	}
	if c.size > muchText {
		g.large = true
		debug.SetGCPercent(60) // the facts of a million accounts are many, and live on
	}
	g.builder.StartFile(s.Name)
	var told func(int64)
	if g.opt.Progress != nil {
		told = func(done int64) { g.opt.Progress(c.path, done, c.size) }
	}
	in, out := hashingReader(g.Context, f, told), storedCopy(keep)
	src := &intake.Source{Path: c.path, In: in, Keep: out, Differs: func() { out.differs.Store(true) }, Beside: c.beside,
		KeepAll: g.opt.KeepAll}
	err = c.format.Read(src, g.builder)
	in.Close()
	if closed := out.Close(); err == nil {
		err = closed
	}
	if err != nil {
		keep.Close()
		return fmt.Errorf("gather %w", err)
	}
	if in.n != out.n {
		out.differs.Store(true)
		if err := out.catchUp(); err != nil {
			keep.Close()
			return err
		}
	}
	g.sync(keep)
	s.Size, s.SHA256, s.StoredSHA256, s.Struck = in.n, in.sum(), out.sumLike(&in.hashing), src.Struck
	g.result.NotKept += src.NotKept
	g.files = append(g.files, s)
	g.brought[s.Name] = !c.named
	g.index(s.Evidence)
	g.result.Files = append(g.result.Files, Taken{Evidence: s.Evidence})
	return nil
}

// mostSyncing is how many files may be on their way to the disk at once.
const mostSyncing = 16

// sync sends a copy to the disk while the work goes on.
func (g *gathering) sync(copy *os.File) {
	if len(g.syncing) == mostSyncing {
		g.failed = errors.Join(g.failed, <-g.syncing[0])
		g.syncing = g.syncing[1:]
	}
	done := make(chan error, 1)
	go func() { done <- errors.Join(copy.Sync(), copy.Close()) }()
	g.syncing = append(g.syncing, done)
}

// synced waits until every copy is on the disk.
func (g *gathering) synced() error {
	for _, done := range g.syncing {
		g.failed = errors.Join(g.failed, <-done)
	}
	g.syncing = nil
	return g.failed
}

// index lets seen find a file.
func (g *gathering) index(e ledger.Evidence) {
	g.sizes[e.Size] = true
	i := slices.IndexFunc(formats, func(f *intake.Format) bool { return f.Name == e.Format })
	if i < 0 {
		return
	}
	key := said{e.SHA256, e.Format, speakerOf(formats[i], e.Path)}
	g.bySum[key] = append(g.bySum[key], e)
}

// said is what a file says, and of which place, as far as its path tells.
type said struct{ sum, format, speaker string }

func speakerOf(f *intake.Format, path string) string {
	if f.Speaks == nil {
		return ""
	}
	return f.Speaks(path)
}

// seen returns the evidence that says the same as a file, if any: of the same
// place, with the same content, still current, and of no earlier day. Anything
// else is a statement of its own, though its bytes may be known. A file is read
// twice only when its size makes that likely.
func (g *gathering) seen(c candidate) (*ledger.Evidence, error) {
	if !g.sizes[c.size] || g.opt.LessIsRight != "" {
		return nil, nil
	}
	f, err := c.open()
	if err != nil {
		return nil, fmt.Errorf("gather %s: %w", c.path, custody.Cause(err))
	}
	defer f.Close()
	sum, err := custody.SumOf(f)
	if err != nil {
		return nil, fmt.Errorf("gather %s: %w", c.path, custody.Cause(err))
	}
	written := c.written.UTC().Format(time.RFC3339)
	for _, e := range g.bySum[said{sum, c.format.Name, speakerOf(c.format, c.origin)}] {
		if e.Entry == 0 || written <= e.Written {
			return &e, nil
		}
	}
	return nil, nil
}

// nameFor gives the stored copy a name that is plain on every system and not
// taken.
func (g *gathering) nameFor(c candidate) string {
	name := path.Base(c.path)
	if c.format.Names != nil {
		name = c.format.Names(c.path)
	}
	return g.free(folder.Safe(name))
}

// free returns the name, with a number where some evidence, or a folder of it,
// has it, and takes it.
func (g *gathering) free(name string) string {
	if g.taken == nil {
		g.taken = map[string]bool{}
		for i := range g.known {
			top, _, _ := strings.Cut(g.known[i].Name, "/")
			g.taken[strings.ToLower(top)] = true
		}
	}
	name = numbered(name, g.taken)
	g.taken[strings.ToLower(name)] = true
	return name
}

func numbered(name string, taken map[string]bool) string {
	ext := path.Ext(name)
	for n := 1; ; n++ {
		free := name
		if n > 1 {
			free = fmt.Sprintf("%s-%d%s", strings.TrimSuffix(name, ext), n, ext)
		}
		if !taken[strings.ToLower(free)] {
			return free
		}
	}
}

// join finishes the facts. Where the new files hold only a part of a domain
// that is on record, the files on record are read again behind the new ones,
// so that the facts are always those of all current evidence together.
func (g *gathering) join(tx *ledger.Tx) error {
	before, err := g.remember(tx)
	if err != nil {
		return err
	}
	found := g.builder.Finish()
	if g.large { // the room of what was joined is what the facts are written in
		runtime.GC()
	}
	older, err := g.complements(tx, found)
	if err != nil {
		return err
	}
	if len(older) > 0 {
		if found, err = g.again(found, older, before); err != nil {
			return err
		}
	}
	for _, a := range found {
		if was := before[a.Place()]; was != nil && len(a.Typed) == 0 {
			a.Lost = estate.Less(was, a)
			for _, l := range a.Lost {
				g.result.Lost = append(g.result.Lost, PlaceLoss{a.Place(), l})
			}
		}
		if err := g.keepDefault(tx, a); err != nil {
			return err
		}
	}
	if err := g.wholePolicies(tx); err != nil {
		return err
	}
	g.result.Authorities, g.result.Templates = found, g.builder.Templates
	g.result.Problems = g.builder.Problems
	for _, a := range found {
		g.result.Problems = append(g.result.Problems, a.Problems...)
	}
	slices.SortStableFunc(g.result.Problems, func(x, y estate.Problem) int { return strings.Compare(x.Cite.File, y.Cite.File) })
	var damaged []estate.Problem
	for _, p := range g.result.Problems {
		if p.Damaged {
			damaged = append(damaged, p)
		}
	}
	if len(damaged) > 0 && !g.opt.WithGaps {
		return g.refuse(damaged)
	}
	return nil
}

// remember tells the builder what is on record of the places that the new files
// speak of, unless the auditor said that what they lack is gone.
func (g *gathering) remember(tx *ledger.Tx) (map[estate.Place]*estate.Authority, error) {
	before := map[estate.Place]*estate.Authority{}
	if g.opt.LessIsRight != "" {
		return before, nil
	}
	for _, at := range g.builder.Places() {
		body, err := tx.Latest(custody.SubjectOf(at), g.aside)
		if err != nil || body == "" {
			if err != nil {
				return nil, err
			}
			continue
		}
		was := &estate.Authority{}
		if err := json.Unmarshal([]byte(body), was); err != nil {
			return nil, fmt.Errorf("%s in the ledger: %w", custody.SubjectOf(at), err)
		}
		before[at] = was
		g.builder.Remember(was)
	}
	return before, nil
}

// keepDefault keeps what an earlier gather of a server's configuration said of
// an LDAP directory's default policy, where the new evidence says nothing.
func (g *gathering) keepDefault(tx *ledger.Tx, a *estate.Authority) error {
	if a.Kind != estate.LDAP || a.DefaultPolicy != "" || a.Head != nil {
		return nil
	}
	body, err := tx.Latest(custody.SubjectOf(a.Place()), g.aside)
	if err != nil || body == "" {
		return err
	}
	var before estate.Authority
	if err := json.Unmarshal([]byte(body), &before); err != nil {
		return err
	}
	at := before.DefaultPolicyCite
	if a.DefaultPolicy, a.DefaultPolicyCite = before.DefaultPolicy, at; before.DefaultPolicy == "" && before.Head != nil {
		a.Head, at = before.Head, before.Head.Cite
	}
	if at.File != "" && !slices.Contains(a.Files, at.File) {
		a.Files = append(a.Files, at.File)
	}
	return nil
}

// refuse words the error for values that no platform could hold.
func (g *gathering) refuse(damaged []estate.Problem) error {
	const most = 5
	var b strings.Builder
	b.WriteString("damaged evidence, nothing was taken:")
	for _, p := range damaged[:min(len(damaged), most)] {
		file := p.Cite.File
		if i := slices.IndexFunc(g.files, func(s staged) bool { return s.Name == file }); i >= 0 {
			file = g.files[i].Path
		}
		fmt.Fprintf(&b, "\n  %s:%d: ", file, p.Cite.Line)
		if p.Cite.Where != "" {
			fmt.Fprintf(&b, "%s: %s: ", p.Cite.Where, redact.Quote([]byte(p.Cite.Raw)))
		}
		b.WriteString(p.Text)
	}
	if more := len(damaged) - most; more > 0 {
		fmt.Fprintf(&b, "\n  and %d more", more)
	}
	if slices.ContainsFunc(damaged, func(p estate.Problem) bool { return p.Contradicts }) {
		b.WriteString("\nif these are exports of different days, gather them one after the other, the older first")
	}
	b.WriteString("\nexport again; or take the rest with --with-gaps, and these settings are reported as missing")
	return errors.New(b.String())
}

// complements returns the evidence on record that the new files add to: that
// of domains of which they hold no head, or no accounts.
func (g *gathering) complements(tx *ledger.Tx, found []*estate.Authority) ([]ledger.Evidence, error) {
	var older []ledger.Evidence
	for _, a := range found {
		whole := a.Kind != estate.Domain || a.Head != nil && a.Listed
		if a.Kind == estate.LDAP {
			// The settings of a directory server itself stand in an export of their own.
			whole = a.Listed && len(a.Overrides) > 0 && (a.Platform != setting.DirectoryServer || a.Head != nil)
		}
		if a.Kind == estate.Machine && a.Platform == setting.WindowsMachine {
			whole = a.Head != nil && a.Listed // its settings and its accounts come in files of their own
		}
		if whole || len(a.Typed) > 0 {
			continue
		}
		files, err := tx.FilesOf(custody.SubjectOf(a.Place()), g.aside)
		if err != nil {
			return nil, err
		}
		for _, name := range files {
			i := slices.IndexFunc(g.known, func(e ledger.Evidence) bool { return e.Name == name })
			if i >= 0 && a.Kind == estate.Machine && g.brings(a, g.known[i].Format) {
				continue // a newer file of the same form takes its place
			}
			if i >= 0 && !slices.ContainsFunc(older, func(e ledger.Evidence) bool { return e.Name == name }) {
				older = append(older, g.known[i])
			}
		}
	}
	slices.SortFunc(older, func(x, y ledger.Evidence) int { return int(y.Entry - x.Entry) })
	return older, nil
}

// brings reports whether a new file of that format speaks of a place.
func (g *gathering) brings(a *estate.Authority, format string) bool {
	return slices.ContainsFunc(g.files, func(s staged) bool { return s.Evidence.Format == format && slices.Contains(a.Files, s.Name) })
}

// again reads the new files and the older ones they add to into one estate,
// and returns the authorities that the new files speak of.
func (g *gathering) again(found []*estate.Authority, older []ledger.Evidence,
	before map[estate.Place]*estate.Authority) ([]*estate.Authority, error) {
	templates := g.builder.Templates
	g.builder = estate.NewBuilder()
	for _, s := range g.files {
		g.builder.StartFile(s.Name)
		if err := g.reread(g.builder, folder.Join(g.staging, folder.Name(s.Name)), s.candidate.path, s.format); err != nil {
			return nil, err
		}
	}
	gathers, last := 0, int64(0)
	for _, e := range older { // the newest first
		if e.Entry != last {
			gathers, last = gathers+1, e.Entry
		}
		g.builder.StartOlder(e.Name, gathers)
		i := slices.IndexFunc(formats, func(f *intake.Format) bool { return f.Name == e.Format })
		if i < 0 {
			return nil, fmt.Errorf("%s: evidence of a format this program does not know: %s", e.Name, e.Format)
		}
		stored, err := custody.Stored(e.Name)
		if err != nil {
			return nil, err
		}
		if err := g.reread(g.builder, stored, e.Path, formats[i]); err != nil {
			return nil, err
		}
	}
	g.builder.Templates = templates
	spoken := map[estate.Place]bool{}
	for _, a := range found {
		spoken[a.Place()] = true
	}
	for _, was := range before {
		g.builder.Remember(was)
	}
	return slices.DeleteFunc(g.builder.Finish(), func(a *estate.Authority) bool { return !spoken[a.Place()] }), nil
}

func (g *gathering) reread(into *estate.Builder, stored folder.Name, given string, format *intake.Format) error {
	f, err := g.Folder.Open(stored)
	if err != nil {
		return fmt.Errorf("the export adds to evidence that is not there any more (%w): gather the place's whole export", err)
	}
	defer f.Close()
	src := &intake.Source{Path: given, In: f, Keep: io.Discard, Differs: func() {}, Beside: func(string) []byte { return nil }}
	if err := format.Read(src, into); err != nil {
		return fmt.Errorf("read again %w", err)
	}
	return nil
}

// write puts everything into the change.
func (g *gathering) write(tx *ledger.Tx) error {
	body := map[string]any{"with_gaps": g.opt.WithGaps}
	files := []ledger.Evidence{}
	for _, s := range g.files {
		files = append(files, s.Evidence)
	}
	body["files"] = files
	body["live"], body["archives"] = g.result.Live, g.result.Archives
	subjects := map[string]any{}
	for _, a := range g.result.Authorities {
		subjects[custody.SubjectOf(a.Place())] = map[string]int{"accounts": a.Accounts, "groups": a.Groups, "policies": len(a.Overrides)}
	}
	for i := range g.result.Templates {
		subjects[g.templates[i]] = map[string]int{"settings": len(g.result.Templates[i].Policy.Settings)}
	}
	body["subjects"] = slices.Sorted(maps.Keys(subjects))
	body["counts"] = subjects
	body["problems"] = len(g.result.Problems)
	if g.opt.LessIsRight != "" {
		body["less_is_right"] = g.opt.LessIsRight
	}
	if len(g.result.Lost) > 0 {
		body["lost"] = g.result.Lost
	}
	// The facts go first: the entry tells their digests.
	if err := tx.Reserve(); err != nil {
		return err
	}
	digests := map[string]string{}
	var err error
	for _, a := range g.result.Authorities {
		if digests[custody.SubjectOf(a.Place())], err = tx.AddHolding(custody.SubjectOf(a.Place()), a, a.Objects); err != nil {
			return err
		}
	}
	for i, t := range g.result.Templates {
		if digests[g.templates[i]], err = tx.AddHolding(g.templates[i], t, nil); err != nil {
			return err
		}
	}
	body["facts_sha256"], body["facts_form"] = digests, ledger.DigestForm
	if body["problems_sha256"], err = custody.ProblemsDigest(g.result.Problems); err != nil {
		return err
	}
	entry, err := tx.Append(g.Now, g.Actor(), custody.GatherKind, body)
	if err != nil {
		return err
	}
	g.result.Entry = entry.Seq
	for _, s := range g.files {
		if err := tx.AddEvidence(s.Evidence); err != nil {
			return err
		}
	}
	for _, p := range g.result.Problems {
		if err := tx.AddProblem(p); err != nil {
			return err
		}
	}
	return nil
}

// earlier returns what is on record of a template, and under which name: by its GUID, and
// by its domain too where another domain has a policy of that GUID, as every domain has
// its default ones. before are those of this gather that come before it.
func (g *gathering) earlier(tx *ledger.Tx, t *estate.Template, before []estate.Template) (was estate.Template, subject string, err error) {
	subject = custody.TemplateSubject + t.GUID
	other := func(domain string) bool { return domain != "" && t.Domain != "" && domain != t.Domain }
	for i := range before {
		if g.templates[i] == subject && other(before[i].Domain) {
			subject += "@" + t.Domain
			return was, subject, g.recorded(tx, subject, &was)
		}
	}
	if err := g.recorded(tx, subject, &was); err != nil || !other(was.Domain) {
		return was, subject, err
	}
	was, subject = estate.Template{}, subject+"@"+t.Domain
	return was, subject, g.recorded(tx, subject, &was)
}

// recorded reads what is on record of a template.
func (g *gathering) recorded(tx *ledger.Tx, subject string, into *estate.Template) error {
	body, err := tx.Latest(subject, g.aside)
	if err != nil || body == "" {
		return err
	}
	if err := json.Unmarshal([]byte(body), into); err != nil {
		return fmt.Errorf("%s in the ledger: %w", subject, err)
	}
	return nil
}

// everyFile returns the files on record, and those of this gather, by name.
func (g *gathering) everyFile() map[string]ledger.Evidence {
	all := map[string]ledger.Evidence{}
	for _, e := range g.known {
		all[e.Name] = e
	}
	for _, s := range g.files {
		all[s.Name] = s.Evidence
	}
	return all
}

// policiesWithLess adds the policies of which nothing is new but that a file of theirs
// is gone: their folder was brought again, and it is in there no more.
func (g *gathering) policiesWithLess(tx *ledger.Tx) error {
	files := g.everyFile()
	if !slices.ContainsFunc(slices.Collect(maps.Keys(g.brought)), func(name string) bool { return g.inFolder(files[name]) }) {
		return nil
	}
	holdings, err := tx.CurrentBelow(custody.TemplateSubject, g.aside)
	if err != nil {
		return err
	}
	for _, h := range holdings {
		var was estate.Template
		if err := json.Unmarshal([]byte(h.Body), &was); err != nil {
			return fmt.Errorf("%s in the ledger: %w", h.Subject, err)
		}
		gone := func(name string) bool { return g.goneFrom(files[name]) }
		if !slices.ContainsFunc(was.Files, func(name string) bool { return g.inFolder(files[name]) }) ||
			!slices.ContainsFunc(was.Files, gone) || slices.ContainsFunc(g.builder.Templates, was.Same) {
			continue
		}
		for n, name := range was.Files {
			if e, known := files[name]; known && !gone(name) {
				if err := g.addStored(&was, e, n+1, false); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// inFolder reports whether a file was brought in a policy's folder.
func (g *gathering) inFolder(e ledger.Evidence) bool {
	return g.brought[e.Name] && template.OfPolicy(e.Path)
}

// goneFrom reports whether a file lay in a policy's folder, and was not brought. Of which
// store or backup it was does not matter: where the folder was brought from another one,
// nothing tells that the file is still part of the policy.
func (g *gathering) goneFrom(e ledger.Evidence) bool {
	_, there := g.brought[e.Name]
	return !there && template.OfPolicy(e.Path)
}

// wholePolicies adds to the policies of which files were read what their other files on
// record say: one that was not brought anew is as it was, unless the policy's folder was
// brought, and it is in there no more.
func (g *gathering) wholePolicies(tx *ledger.Tx) error {
	all, files := g.builder.Templates, g.everyFile()
	for i := range all {
		t := &all[i]
		was, subject, err := g.earlier(tx, t, all[:i])
		if err != nil {
			return err
		}
		g.templates = append(g.templates, subject)
		if was.Files == nil && was.GUID != "" { // an earlier version's, which told them by its facts alone
			was.Files, t.Registry = []string{was.Policy.Cite.File}, t.Registry || was.Registry
			for _, f := range was.Policy.Settings {
				if !slices.Contains(was.Files, f.Cite.File) {
					was.Files = append(was.Files, f.Cite.File)
				}
			}
		}
		read, inFolder := map[string]bool{}, false // formats
		for _, name := range t.Files {
			read[files[name].Format] = true
			inFolder = inFolder || g.inFolder(files[name])
		}
		whole := !t.Part
		for n, name := range was.Files {
			e, known := files[name]
			if !known || read[e.Format] {
				continue
			}
			if inFolder && g.goneFrom(e) {
				t.Gone = append(t.Gone, name)
			} else if err := g.addStored(t, e, n+1, whole); err != nil {
				return err
			}
		}
		g.less(t, &was, files)
	}
	return nil
}

// less tells which files of a policy are gone, or takes the auditor's word that they
// should be.
func (g *gathering) less(t, was *estate.Template, files map[string]ledger.Evidence) {
	if len(t.Gone) > 0 && g.opt.LessIsRight == "" {
		g.result.Lost = append(g.result.Lost, PlaceLoss{estate.Place{Name: t.Policy.Name, Kind: "policy"},
			estate.Loss{What: estate.LostFiles, Before: len(was.Files), Now: len(was.Files) - len(t.Gone), Names: slices.Clone(t.Gone)}})
	}
	told := map[string]bool{} // formats
	for _, name := range t.Files {
		told[files[name].Format] = true
	}
	for _, name := range was.Gone {
		if !told[files[name].Format] {
			t.Gone = append(t.Gone, name)
		}
	}
	if g.opt.LessIsRight == "" {
		return
	}
	for _, name := range t.Gone { // it sets nothing any more
		switch files[name].Format {
		case template.Format.Name:
			t.Part = false
		case template.RegistryPol.Name:
			t.Registry = true
		case template.Preferences.Name:
			t.Preferences = true
		}
	}
	t.Gone = nil
}

// addStored adds what a file on record says of a policy. whole: its template was brought
// anew, so that what another form of it says is past.
func (g *gathering) addStored(t *estate.Template, e ledger.Evidence, gathers int, whole bool) error {
	format := slices.IndexFunc(formats, func(f *intake.Format) bool { return f.Name == e.Format })
	if format < 0 {
		return fmt.Errorf("%s: evidence of a format this program does not know: %s", e.Name, e.Format)
	}
	stored, err := custody.Stored(e.Name)
	if err != nil {
		return err
	}
	alone := estate.NewBuilder()
	alone.StartFile(e.Name)
	if err := g.reread(alone, stored, e.Path, formats[format]); err != nil {
		return err
	}
	for _, x := range alone.Templates {
		if len(alone.Templates) == 1 { // the description of a policy backup, which names the policy, is not stored
			if x.Policy.Name == x.GUID {
				x.Policy.Name = t.GUID
			}
			x.GUID, x.Domain = t.GUID, t.Domain
		}
		if t.Same(x) && (x.Part || !whole) {
			g.builder.StartOlder(e.Name, gathers)
			g.builder.Template(x)
		}
	}
	return nil
}
