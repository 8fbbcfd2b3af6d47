// Package collect takes evidence into an engagement: it finds out what files,
// folders, archives and live sources are, has them read as a stream, and stores
// copies of what is kept. Gather is all or nothing.
package collect

import (
	"fmt"
	"io"
	"runtime/debug"
	"slices"
	"strings"

	"sternledger/internal/contract"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/custody"
	"sternledger/internal/folder"
	"sternledger/internal/intake"
	"sternledger/internal/intake/fieldmap"
	"sternledger/internal/intake/ldif"
	"sternledger/internal/intake/live"
	"sternledger/internal/intake/netaccounts"
	"sternledger/internal/intake/policylist"
	"sternledger/internal/intake/printed"
	"sternledger/internal/intake/sheet"
	"sternledger/internal/intake/shell"
	"sternledger/internal/intake/template"
	"sternledger/internal/intake/unix"
	"sternledger/internal/ledger"
)

// formats are all formats of single files that gather knows, asked in this
// order.
var formats = []*intake.Format{&ldif.Format, &ldif.CSV, &ldif.ServerConf, &template.Format, &template.Report, &template.RegistryPol,
	&template.RegistryFile, &template.Preferences, &template.Version,
	&sheet.Format, &shell.Format, &shell.LocalUsers, &netaccounts.Format, &policylist.Format, &printed.Format, &printed.Pdbedit, &printed.Kadmin}

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
	NotKept     int              // values that no rule needs, left out of the stored copies
	KeptAll     bool             // it was asked for: what was left out is no text
	Idle        []check.IdleName // names in engagement.yaml that fit nothing on record now
	OtherNames  []OtherName
	Replaced    []estate.Place    // another machine had the name before, by its SID or machine-id
	Unweighed   []check.Unweighed // places, on record now, that no chosen baseline covers
	Fitting     []custody.Fitting // the shipped baselines that fit, by platform
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
	Given    string // the path given now, of a known one
	Known    bool   // it was taken before, as Evidence says, and is still current
	Restored bool   // its stored copy was gone, and is there again
}

// PassedOver is one file that was not taken, and why.
type PassedOver struct {
	Path, Why string
	LooksLike string // what it seems to be; empty: nothing known
	Instead   string // what to gather instead; empty: nothing to say
}

// Gather takes exports into evidence: all of them, or nothing. It goes in stages: what the
// sources are (look.go), what the files say (read.go, tree.go), how that joins what is on
// record (join.go, policy.go), and what the ledger is told (write.go).
func Gather(e *custody.Engagement, sources []string, opt GatherOptions) (*Gathered, error) {
	if err := e.Config.Chosen(); err != nil {
		return nil, err
	}
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
	g, err := starting(e, tx, opt)
	if err != nil {
		return nil, err
	}
	g.result.Passed, g.result.Live, g.result.Archives = passed, collected, archives
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
	if err := g.read(candidates); err != nil {
		return nil, err
	}
	if len(g.files) == 0 && len(g.builder.Templates) == 0 {
		return g.result, nil // everything was known: nothing changes
	}
	if err := g.join(); err != nil {
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
	now, err := e.Named()
	if err != nil {
		return nil, err
	}
	g.result.Idle = e.Config.Idle(now)
	g.result.OtherNames = otherNames(g.result.Authorities, now.Authorities)
	return g.result, g.result.chosen(e)
}

// onRecord is what reading and joining ask the ledger for.
type onRecord interface {
	Latest(subject string, aside ledger.Aside) (string, error)
	FilesOf(subject string, aside ledger.Aside) ([]string, error)
	CurrentBelow(subject string, aside ledger.Aside) ([]ledger.Holding, error)
}

// starting knows what is on record, and has read nothing.
func starting(e *custody.Engagement, record *ledger.Tx, opt GatherOptions) (*gathering, error) {
	g := &gathering{Engagement: e, record: record, opt: opt, builder: estate.NewBuilder(), result: &Gathered{KeptAll: opt.KeepAll},
		brought: map[string]bool{}, sizes: map[int64]bool{}, bySum: map[said][]ledger.Evidence{}, trees: map[string][]ledger.Evidence{}}
	var err error
	if g.aside, err = custody.AsideIn(record); err != nil {
		return nil, err
	}
	if g.destroyed, err = custody.DestroyedBefore(record); err != nil {
		return nil, err
	}
	if g.known, err = record.Evidence(); err != nil {
		return nil, err
	}
	if g.discarded, err = custody.DiscardedIn(record); err != nil {
		return nil, err
	}
	if err := g.missing(); err != nil {
		return nil, err
	}
	if g.current, err = record.CurrentFiles(g.aside); err != nil {
		return nil, err
	}
	for _, e := range g.known {
		switch {
		case e.Tree != "":
			g.trees[e.Tree] = append(g.trees[e.Tree], e)
		case g.current[e.Name]:
			g.index(e)
		}
	}
	return g, nil
}

// chosen finds the places that no baseline covers which the engagement chooses for
// them, and which of the shipped ones fit.
func (g *Gathered) chosen(e *custody.Engagement) (err error) {
	g.Fitting, g.Unweighed, err = e.Fitting(g.Authorities)
	return err
}

// OtherName is a place that was taken now and one on record that are the same by their SID
// or machine-id: it was renamed, or one of two is a copy.
type OtherName struct{ Now, Known estate.Place }

func otherNames(taken, now []*estate.Authority) (all []OtherName) {
	by := map[string][]estate.Place{}
	for _, a := range now {
		if id := a.Identity(); id != "" {
			by[string(a.Kind)+id] = append(by[string(a.Kind)+id], a.Place())
		}
	}
	for _, a := range taken {
		for _, at := range by[string(a.Kind)+a.Identity()] {
			if at != a.Place() && !slices.ContainsFunc(taken, func(x *estate.Authority) bool { return x.Place() == at }) {
				all = append(all, OtherName{a.Place(), at})
			}
		}
	}
	return all
}

// gathering is one gather under way.
type gathering struct {
	destroyed int64                // stored copies of entries before this one were destroyed
	copies    map[string]copyState // of stored copies that were deleted
	discarded []string             // names of stored copies that were removed for good
	*custody.Engagement
	record    onRecord
	opt       GatherOptions
	builder   *estate.Builder
	result    *Gathered
	staging   folder.Name
	templates []string                     // the names under which the ledger holds those of the result
	known     []ledger.Evidence            // before this gather
	aside     ledger.Aside                 // what does not count
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
