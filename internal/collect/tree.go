package collect

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"path/filepath"
	"runtime"
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

// mostPart bounds one file of an export that is made of several: it is read
// whole.
const mostPart = 256 << 20

// takeTree reads an export that is made of several files, unless it is known.
// The copies are stored in a folder of its own.
func (g *gathering) takeTree(c candidate) error {
	t := &intake.Tree{Name: c.calls, Path: c.root, KeepAll: g.opt.KeepAll}
	read := map[string][]byte{}
	for _, p := range c.parts {
		if t.Find(p.part) != nil {
			return fmt.Errorf("gather %s: it is named twice as %s; gather it once", p.path, p.part)
		}
		data, err := p.whole()
		if err != nil {
			return err
		}
		read[p.part] = data
		t.Parts = append(t.Parts, &intake.Part{Name: p.part, Path: p.path, Data: data})
	}
	if total := sizes(read); total > muchText {
		debug.SetGCPercent(40) // beside so much text, little room is left for what is not needed any more
		defer runtime.GC()     // and its room is what the facts are written in
	}
	// A place that is not known yet is read while its files are hashed.
	sums, hashed := map[string]string{}, make(chan struct{})
	go func() {
		defer close(hashed)
		for part, data := range read {
			sums[part] = custody.HexSum(data)
		}
	}()
	defer func() { <-hashed }()
	if len(g.trees[t.Name]) > 0 {
		newest := ""
		for _, p := range c.parts {
			newest = max(newest, p.written.UTC().Format(time.RFC3339))
		}
		<-hashed
		if err := g.restoreTree(t, c.tree, sums); err != nil {
			return err
		}
		if before := g.knownTree(t.Name, sums, newest); before != nil {
			for _, e := range before {
				g.result.Files = append(g.result.Files, Taken{Evidence: e, Given: c.root, Known: true, Restored: g.copies[e.Name] == restored})
			}
			return nil
		}
	}
	fresh := len(t.Parts)
	if !c.tree.Whole {
		if err := g.addOlder(t, c.tree); err != nil {
			return err
		}
	}
	g.nameParts(t, fresh)
	if err := c.tree.Read(t, g.builder); err != nil {
		return fmt.Errorf("gather %w", err)
	}
	<-hashed
	written := map[string]candidate{}
	for _, p := range c.parts {
		written[p.part] = p
	}
	for _, p := range t.Parts {
		from, isNew := written[p.Name]
		if !isNew {
			continue
		}
		kept, struck, notKept := p.Copy()
		sum := sums[p.Name]
		if struck+notKept > 0 {
			sum = custody.HexSum(kept)
		}
		s := staged{candidate: from, Evidence: ledger.Evidence{Name: p.Stored, Path: from.origin, Format: c.tree.Name,
			Size:    int64(len(read[p.Name])),
			Written: from.written.UTC().Format(time.RFC3339), SHA256: sums[p.Name], StoredSHA256: sum, Struck: struck,
			Tree: t.Name, Part: p.Name}}
		if err := g.stage(p.Stored, kept); err != nil {
			return err
		}
		g.result.NotKept += notKept
		g.files = append(g.files, s)
		g.trees[t.Name] = append(g.trees[t.Name], s.Evidence)
		g.result.Files = append(g.result.Files, Taken{Evidence: s.Evidence})
	}
	return nil
}

// muchText is so much that the memory of reading it shows.
const muchText = 16 << 20

func sizes(read map[string][]byte) (total int) {
	for _, data := range read {
		total += len(data)
	}
	return total
}

// named gives every export that is made of several files its name: what it calls
// itself, unless two call themselves the same.
func named(all []candidate) error {
	claimed := map[string]int{}
	for i := range all {
		c := &all[i]
		if c.tree == nil || c.tree.Call == nil {
			continue
		}
		var failed error
		c.calls = strings.ToLower(c.tree.Call(func(part string) []byte {
			i := slices.IndexFunc(c.parts, func(p candidate) bool { return p.part == part })
			if i < 0 {
				return nil
			}
			data, err := c.parts[i].whole()
			failed = errors.Join(failed, err)
			return data
		}))
		if failed != nil {
			return failed
		}
		claimed[c.tree.Name+"\x00"+c.calls]++
	}
	for i := range all {
		if c := &all[i]; c.tree != nil && (c.calls == "" || claimed[c.tree.Name+"\x00"+c.calls] > 1) {
			c.calls = treeName(c.root)
		}
	}
	return nil
}

// namesNothing are folders and archives whose names say nothing of the machine.
var namesNothing = []string{"etc", "root", "rootfs", "fs", "filesystem", "host", "files", "."}

// treeName is what an export is called after the folder or archive it begins at.
func treeName(root string) string {
	for at := root; ; at = path.Dir(at) {
		name := path.Base(at)
		if abs, err := filepath.Abs(at); err == nil && (name == "." || name == "..") {
			name = filepath.Base(abs)
		}
		for _, ext := range []string{".gz", ".tgz", ".bz2", ".tbz2", ".xz", ".txz", ".zst", ".tar", ".zip"} {
			name = strings.TrimSuffix(name, ext)
		}
		if name = strings.ToLower(name); !slices.Contains(namesNothing, name) || path.Dir(at) == at || path.Dir(at) == "." {
			return name
		}
	}
}

// whole reads one part.
func (c *candidate) whole() ([]byte, error) { return c.upTo(0) }

// upTo reads so many bytes; 0: all.
func (c *candidate) upTo(most int) ([]byte, error) {
	if most == 0 {
		most = mostPart + 1
	}
	f, err := c.open()
	if err != nil {
		return nil, fmt.Errorf("gather %s: %w; check that you may read it", c.path, custody.Cause(err))
	}
	defer f.Close()
	var all bytes.Buffer
	all.Grow(int(min(max(c.size, 0), int64(most))) + bytes.MinRead) // it is read without being moved about
	if _, err := all.ReadFrom(io.LimitReader(f, int64(most))); err != nil {
		return nil, fmt.Errorf("gather %s: %w", c.path, custody.Cause(err))
	}
	data := all.Bytes()
	if len(data) > mostPart {
		return nil, fmt.Errorf("gather %s: more than %d MiB; expected a file of settings; check which file this is", c.path, mostPart>>20)
	}
	return data, nil
}

// knownTree returns the evidence of an export of that name with exactly these
// files, if one was taken that is still current and no older.
func (g *gathering) knownTree(name string, sums map[string]string, newest string) []ledger.Evidence {
	if g.opt.LessIsRight != "" {
		return nil
	}
	byEntry := map[int64][]ledger.Evidence{}
	for _, e := range g.trees[name] {
		byEntry[e.Entry] = append(byEntry[e.Entry], e)
	}
	var last int64
	for entry := range byEntry {
		last = max(last, entry)
	}
	for entry, files := range byEntry {
		same, written, current := len(files) == len(sums), "", entry == 0
		for _, f := range files {
			same = same && sums[f.Part] == f.SHA256 && g.copies[f.Name] != gone
			written, current = max(written, f.Written), current || g.current[f.Name]
		}
		// What a later gather brought of the same export took its place.
		if same && current && (entry == 0 || entry == last && newest <= written) {
			return files
		}
	}
	return nil
}

// addOlder adds stored parts of the same authority that the new ones lack,
// where the new ones hold no settings or no accounts.
func (g *gathering) addOlder(t *intake.Tree, format *intake.TreeFormat) error {
	if !slices.ContainsFunc(g.known, func(e ledger.Evidence) bool { return e.Part != "" && t.Find(e.Part) == nil }) {
		return nil // there is nothing to add
	}
	alone := *t
	alone.Parts = nil
	for _, p := range t.Parts {
		alone.Parts = append(alone.Parts, &intake.Part{Name: p.Name, Path: p.Path, Stored: p.Name, Data: p.Data})
	}
	b := estate.NewBuilder()
	if err := format.Read(&alone, b); err != nil {
		return fmt.Errorf("gather %w", err)
	}
	for _, a := range b.Finish() {
		if a.Head != nil && a.Listed {
			continue
		}
		body, err := g.record.Latest(custody.SubjectOf(a.Place()), g.aside)
		if err != nil || body == "" {
			if err != nil {
				return err
			}
			continue
		}
		var was estate.Authority
		if err := json.Unmarshal([]byte(body), &was); err != nil {
			return fmt.Errorf("%s in the ledger: %w", custody.SubjectOf(a.Place()), err)
		}
		if another(&was, a) {
			continue
		}
		files, err := g.record.FilesOf(custody.SubjectOf(a.Place()), g.aside)
		if err != nil {
			return err
		}
		for _, e := range g.known {
			if e.Part == "" || !slices.Contains(files, e.Name) || t.Find(e.Part) != nil {
				continue
			}
			stored, err := custody.Stored(e.Name)
			if err != nil {
				return err
			}
			data, err := g.Folder.ReadFile(stored, mostPart)
			if err != nil {
				return err
			}
			t.Parts = append(t.Parts, &intake.Part{Name: e.Part, Path: e.Path, Stored: e.Name, Data: data})
		}
	}
	return nil
}

// nameParts gives the new parts their stored names, in a folder that no other
// evidence has.
func (g *gathering) nameParts(t *intake.Tree, fresh int) {
	top := g.free(folder.Safe(t.Name))
	taken := map[string]bool{}
	for _, p := range t.Parts[:fresh] {
		var plain []string
		for step := range strings.SplitSeq(p.Name, "/") {
			plain = append(plain, folder.Safe(step))
		}
		p.Stored = numbered(top+"/"+strings.Join(plain, "/"), taken)
		taken[strings.ToLower(p.Stored)] = true
	}
	slices.SortFunc(t.Parts, func(x, y *intake.Part) int { return strings.Compare(x.Name, y.Name) })
}

// stage writes a stored copy into the staging folder.
func (g *gathering) stage(name string, data []byte) error {
	keep, err := g.Folder.Create(folder.Join(g.staging, folder.Name(name)))
	if err != nil {
		return err
	}
	if _, err := io.Copy(keep, bytes.NewReader(data)); err != nil {
		keep.Close()
		return err
	}
	g.sync(keep)
	return nil
}
