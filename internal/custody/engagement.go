// Package custody keeps an engagement: its folder, its settings, its ledger, and
// the records in it. It begins, opens, proves, seals, packs, receives and retires
// one, and takes and ends waivers. It judges nothing: whoever opens an engagement
// brings the Judge.
package custody

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/folder"
	"sternledger/internal/ledger"
)

// EvidenceDir is the folder of the stored copies in an engagement folder.
const EvidenceDir = "evidence"

// Engagement is one open engagement folder.
type Engagement struct {
	Dir    string
	Config *Config
	Ledger *ledger.Ledger
	Now    func() time.Time

	Context context.Context // of the program's run
	judge   Judge
	Folder  *folder.Folder
	// How often accounts were resolved and scopes weighed: what only reads records
	// does neither.
	Surveys, Weighed *atomic.Int64
	Age              *string // says of which days the evidence is that was surveyed
	Then             *inputs // of a recorded weighing, in a state of the engagement that is past
}

// Judge weighs an engagement as this program does, and records nothing; whole
// adds what a record keeps besides verdicts. It is given to whoever opens an
// engagement, because a record is proven here and judged a floor above.
type Judge func(e *Engagement, opt WeighOptions, whole bool) (*Weighing, error)

// beginPrefix begins the names of folders in which an engagement is made before it is put
// in its place.
const beginPrefix = ".beginning-"

// Begin makes an engagement folder, which must not hold one yet. It is made aside and put
// in its place whole; of a begin that was stopped nothing is left, or what the next one
// finishes.
func Begin(ctx context.Context, dir, title, auditor string, now func() time.Time) error {
	config := fmt.Sprintf(starter, quoted(title), quoted(auditor))
	if err := clearBegun(dir); err != nil {
		return err
	}
	for _, name := range []string{ConfigName, ledger.FileName, EvidenceDir} {
		if _, err := os.Lstat(filepath.Join(dir, name)); err == nil {
			return fmt.Errorf("%s: %s is there already; an engagement is never started over: choose another folder", dir, name)
		}
	}
	found, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s: %w; name a folder that you may write to", dir, Cause(err))
	}
	shared := len(found) > 0 // with other files, among which it is put
	in := filepath.Dir(filepath.Clean(dir))
	if shared {
		in = dir
		if err := folder.MakePrivate(dir); err != nil {
			return err
		}
	} else if err := os.MkdirAll(in, 0o700); err != nil {
		return fmt.Errorf("%s: %w; name a folder that you may write to", dir, Cause(err))
	}
	draft, err := folder.NewDraft(in, beginPrefix)
	if err != nil {
		return fmt.Errorf("%s: %w; name a folder that you may write to", dir, Cause(err))
	}
	defer draft.Remove()
	made := draft.Path("engagement")
	if err := begun(ctx, made, config, title, auditor, now); err != nil {
		return fmt.Errorf("%s: %w; nothing was begun", dir, Cause(err))
	}
	if shared {
		return putAmong(made, dir)
	}
	// An empty folder is taken away: what is renamed takes no place of another.
	if err := os.Remove(dir); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s: %w", dir, Cause(err))
	}
	if err := os.Rename(made, dir); err != nil {
		return fmt.Errorf("%s: %w", dir, Cause(err))
	}
	return folder.SyncDir(in)
}

// begun makes an engagement in a folder of its own.
func begun(ctx context.Context, dir, config, title, auditor string, now func() time.Time) error {
	if err := folder.MakePrivate(dir); err != nil {
		return err
	}
	if err := lay(dir, config); err != nil {
		return err
	}
	if err := ledger.Create(dir); err != nil {
		return err
	}
	e, err := Open(ctx, dir, now, nil)
	if err != nil {
		return err
	}
	defer e.Close()
	return e.record(beginKind, map[string]string{"title": title, "auditor": auditor})
}

// putAmong moves an engagement among other files, the ledger last: without it there is
// none.
func putAmong(made, dir string) error {
	for _, name := range []string{EvidenceDir, ConfigName, ledger.FileName} {
		from, to := filepath.Join(made, name), filepath.Join(dir, name)
		if name != ConfigName {
			if err := os.Rename(from, to); err != nil {
				return err
			}
			continue
		}
		// A copy: by it the next begin knows that this is what was begun.
		text, err := os.ReadFile(from)
		if err != nil {
			return err
		}
		f, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return err
		}
		_, err = f.Write(text)
		if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
			return err
		}
	}
	return folder.SyncDir(dir)
}

// clearBegun takes away what a begin among other files left that was stopped before the
// ledger was in its place.
func clearBegun(dir string) error {
	if _, err := os.Lstat(filepath.Join(dir, ledger.FileName)); err == nil {
		return nil
	}
	for _, left := range folder.Left(dir, beginPrefix) {
		begun, err := os.ReadFile(filepath.Join(left, "engagement", ConfigName))
		if err != nil {
			continue
		}
		if there, err := os.ReadFile(filepath.Join(dir, ConfigName)); err == nil && bytes.HasPrefix(begun, there) {
			if err := os.Remove(filepath.Join(dir, ConfigName)); err != nil {
				return err
			}
		}
		if err := os.Remove(filepath.Join(dir, EvidenceDir)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err // it is not empty
		}
	}
	return nil
}

// lay puts into a new folder what an engagement begins with.
func lay(dir, config string) error {
	f, err := folder.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := f.Mkdir(EvidenceDir); err != nil {
		return err
	}
	out, err := f.Create(ConfigName)
	if err != nil {
		return err
	}
	_, err = out.WriteString(config)
	return errors.Join(err, out.Close())
}

func quoted(text string) string {
	q, _ := json.Marshal(text) // a JSON string is a YAML string too
	return string(q)
}

// Open opens an engagement folder and finishes what a stopped program left. ctx
// ends what is under way: all of it is undone then.
func Open(ctx context.Context, dir string, now func() time.Time, judge Judge) (*Engagement, error) {
	e, err := open(ctx, dir, now, judge, ledger.Open)
	if err != nil {
		return nil, err
	}
	if err := e.settle(); err != nil {
		e.Close()
		return nil, err
	}
	return e, nil
}

func open(ctx context.Context, dir string, now func() time.Time, judge Judge,
	how func(ctx context.Context, dir string) (*ledger.Ledger, error)) (*Engagement, error) {
	f, err := folder.Open(dir)
	if errors.Is(err, fs.ErrPermission) {
		return nil, fmt.Errorf("%s: %w; give yourself the right to read the engagement, or copy it to where you have it", dir, Cause(err))
	}
	if err != nil {
		return nil, fmt.Errorf("%s: no engagement here (%w); start one with \"sternledger begin DIR\", or name its folder with --engagement DIR",
			dir, Cause(err))
	}
	e := &Engagement{Dir: dir, Now: now, Context: ctx, judge: judge, Folder: f, Surveys: new(atomic.Int64), Weighed: new(atomic.Int64),
		Age: new(string)}
	if e.Config, err = ReadConfig(f); err == nil {
		e.Ledger, err = how(ctx, dir)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return e, nil
}

// Close closes the engagement.
func (e *Engagement) Close() error { return errors.Join(e.Ledger.Close(), e.Folder.Close()) }

// Actor is who an entry is by.
func (e *Engagement) Actor() string { return e.Config.Auditor }

// Kinds of entries.
const (
	beginKind    = "begin"
	GatherKind   = "gather"
	WeighKind    = "weigh"
	WaiveKind    = "waive"
	WithdrawKind = "withdraw"
	AsideKind    = "set-aside"
)

// record appends one entry in a change of its own.
func (e *Engagement) record(kind string, body any) error {
	tx, err := e.Ledger.Change()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if _, err := tx.Append(e.Now, e.Actor(), kind, body); err != nil {
		return err
	}
	return tx.Commit()
}

// Subjects of holdings in the ledger.
const (
	authoritySubject = "authority:"
	TemplateSubject  = "template:"
)

// SubjectOf names an authority in the ledger.
func SubjectOf(at estate.Place) string {
	return authoritySubject + string(at.Kind) + ":" + at.Name
}

// Estate loads what the current evidence says, with the named columns of the
// objects; without names, all columns.
func (e *Engagement) Estate(columns ...string) (*estate.Estate, error) {
	all, ids, err := e.bare()
	if err != nil {
		return nil, err
	}
	if len(columns) > 0 && slices.ContainsFunc(all.Authorities, func(a *estate.Authority) bool { return a.Kind == estate.Tenant }) {
		columns = append(slices.Clone(columns), "source", "principal", "file", "line") // by which synchronised accounts are joined
	}
	objects := map[int64]*estate.Objects{}
	for i, a := range all.Authorities {
		objects[ids[i]] = a.Objects
	}
	return all, e.Ledger.Load(objects, columns...)
}

// bare is what the current evidence says, without the objects: they come by the numbers
// of the authorities in the ledger.
func (e *Engagement) bare() (*estate.Estate, []int64, error) {
	aside, err := e.Aside()
	if err != nil {
		return nil, nil, err
	}
	holdings, err := e.Ledger.Current(aside)
	if err != nil {
		return nil, nil, err
	}
	all := &estate.Estate{}
	var ids []int64
	for _, h := range holdings {
		var into any
		if strings.HasPrefix(h.Subject, TemplateSubject) {
			all.Templates = append(all.Templates, estate.Template{})
			into = &all.Templates[len(all.Templates)-1]
		} else {
			a := &estate.Authority{Objects: &estate.Objects{}}
			all.Authorities, ids, into = append(all.Authorities, a), append(ids, h.ID), a
		}
		if err := json.Unmarshal([]byte(h.Body), into); err != nil {
			return nil, nil, fmt.Errorf("%s in the ledger: %w", h.Subject, err)
		}
		if a, ok := into.(*estate.Authority); ok {
			if err := e.useDefault(a); err != nil {
				return nil, nil, err
			}
		}
	}
	return all, ids, nil
}

// useDefault gives an LDAP directory the default policy that the engagement
// names, else the one that the evidence does.
func (e *Engagement) useDefault(a *estate.Authority) error {
	said := e.Config.ForAuthority(a.Place()).DefaultPolicy
	switch {
	case a.Kind != estate.LDAP:
	case said.Value != "":
		a.DefaultPolicy = said.Value
		if !a.UseDefault(said.Value) {
			return said.Errorf(filepath.Join(e.Dir, ConfigName), "default-policy %q of %s is not in the evidence; gather its entry",
				said.Value, a.Name)
		}
	case a.DefaultPolicy != "":
		a.UseDefault(a.DefaultPolicy)
	}
	return nil
}

// ErrNoEvidence says that nothing was gathered yet.
var ErrNoEvidence = errors.New("nothing was gathered yet; take exports with \"sternledger gather FILE…\"")

// governing is what precedence and tiers need of the objects; principal and
// display names, and dates, are for single accounts.
var governing = []string{"class", "flags", "rid", "primary", "group-type", "applied", "resultant", "hold-ends", "holds", "rdn",
	"name", "parent"}

// Surveyed loads what precedence needs, and more columns, and surveys it.
func (e *Engagement) Surveyed(how func(*estate.Estate, func(*estate.Authority) estate.Dialect, []govern.TierRule) *govern.Survey,
	more ...string) (*govern.Survey, error) {
	all, err := e.Estate(append(slices.Clone(governing), more...)...)
	if err != nil {
		return nil, err
	}
	if len(all.Authorities) == 0 && len(all.Templates) == 0 {
		return nil, fmt.Errorf("%s: %w", e.Dir, ErrNoEvidence)
	}
	if err := e.rests(all); err != nil {
		return nil, err
	}
	return how(all, e.Config.Dialect, e.Config.TierRules()), nil
}

// rests notes on what a survey rests.
func (e *Engagement) rests(facts *estate.Estate) (err error) {
	e.Surveys.Add(1)
	*e.Age, err = e.age(facts)
	return err
}

// Survey resolves every account of the current evidence.
func (e *Engagement) Survey() (*govern.Survey, error) { return e.Surveyed(govern.NewSurvey) }
