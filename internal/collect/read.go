package collect

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"sternledger/internal/core/estate"
	"sternledger/internal/custody"
	"sternledger/internal/folder"
	"sternledger/internal/intake"
	"sternledger/internal/ledger"
)

// read reads what was found, each of it into the builder and into its copy. One strange
// system's export among others is passed over by name.
func (g *gathering) read(found []candidate) error {
	var foreign error // of the last one passed over
	for _, c := range found {
		if err := context.Cause(g.Context); err != nil {
			return err
		}
		c.origin = cmp.Or(c.origin, c.path)
		take := g.take
		if c.tree != nil {
			for k := range c.parts {
				c.parts[k].origin = cmp.Or(c.parts[k].origin, c.parts[k].path)
			}
			take = g.takeTree
		}
		err := take(c)
		if strange := (*intake.Error)(nil); errors.As(err, &strange) && strange.Foreign && len(found) > 1 {
			g.result.Passed = append(g.result.Passed, PassedOver{Path: c.root, Why: strange.Seen, LooksLike: strange.Seen, Instead: strange.Next})
			foreign = err
			continue
		}
		if err != nil {
			return err
		}
	}
	if foreign != nil && len(g.result.Files) == 0 {
		return foreign
	}
	return g.policiesWithLess()
}

// take reads one file, unless it is known.
func (g *gathering) take(c candidate) error {
	if err := g.restoreFile(c); err != nil {
		return err
	}
	if before, err := g.seen(c); err != nil || before != nil {
		if before != nil {
			g.result.Files = append(g.result.Files, Taken{Evidence: *before, Given: c.origin, Known: true,
				Restored: g.copies[before.Name] == restored})
			g.brought[before.Name] = !c.named
		}
		return err
	}
	if c.size > muchText {
		g.large = true
		debug.SetGCPercent(60) // the facts of a million accounts are many, and live on
	}
	s := staged{candidate: c, Evidence: ledger.Evidence{Name: g.nameFor(c), Path: c.origin, Format: c.format.Name,
		Written: c.written.UTC().Format(time.RFC3339)}}
	notKept, err := g.copy(&s, g.builder, g.opt.KeepAll)
	if err != nil {
		return err
	}
	g.result.NotKept += notKept
	g.files = append(g.files, s)
	g.brought[s.Name] = !c.named
	g.index(s.Evidence)
	g.result.Files = append(g.result.Files, Taken{Evidence: s.Evidence})
	return nil
}

// copy reads a file into the builder and into its copy in the staging folder, and says how
// many values were left out.
func (g *gathering) copy(s *staged, into *estate.Builder, keepAll bool) (notKept int, err error) {
	f, err := s.open()
	if err != nil {
		return 0, fmt.Errorf("gather %s: %w", s.path, custody.Cause(err))
	}
	defer f.Close()
	keep, err := g.Folder.Create(folder.Join(g.staging, folder.Name(s.Name)))
	if err != nil {
		return 0, err
	}
	into.StartFile(s.Name)
	var told func(int64)
	if g.opt.Progress != nil {
		told = func(done int64) { g.opt.Progress(s.path, done, s.size) }
	}
	in, out := hashingReader(g.Context, f, told), storedCopy(keep)
	src := &intake.Source{Path: s.path, In: in, Keep: out, Differs: func() { out.differs.Store(true) }, Beside: s.beside,
		KeepAll: keepAll}
	err = s.format.Read(src, into)
	in.Close()
	if closed := out.Close(); err == nil {
		err = closed
	}
	if err != nil {
		keep.Close()
		return 0, fmt.Errorf("gather %w", err)
	}
	if in.n != out.n {
		out.differs.Store(true)
		if err := out.catchUp(); err != nil {
			keep.Close()
			return 0, err
		}
	}
	g.sync(keep)
	s.Size, s.SHA256, s.StoredSHA256, s.Struck = in.n, in.sum(), out.sumLike(&in.hashing), src.Struck
	return src.NotKept, nil
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
	sum, err := sumOf(c)
	if err != nil {
		return nil, err
	}
	written := c.written.UTC().Format(time.RFC3339)
	for _, e := range g.bySum[said{sum, c.format.Name, speakerOf(c.format, c.origin)}] {
		if g.copies[e.Name] != gone && (e.Entry == 0 || written <= e.Written) {
			return &e, nil
		}
	}
	return nil, nil
}

func sumOf(c candidate) (string, error) {
	f, err := c.open()
	if err != nil {
		return "", fmt.Errorf("gather %s: %w", c.path, custody.Cause(err))
	}
	defer f.Close()
	sum, err := custody.SumOf(f)
	if err != nil {
		return "", fmt.Errorf("gather %s: %w", c.path, custody.Cause(err))
	}
	return sum, nil
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
		for _, name := range g.discarded {
			top, _, _ := strings.Cut(name, "/")
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
