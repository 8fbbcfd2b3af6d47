package collect

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"sternledger/internal/contract"
	"sternledger/internal/custody"
	"sternledger/internal/intake"
	"sternledger/internal/intake/template"
	"sternledger/internal/redact"
)

// candidate is one file to look at, or, with parts, an export made of several.
type candidate struct {
	path    string // as the auditor would name it, with slashes on every system: a member stands behind its archive's path
	origin  string // what the auditor named, where the path is not that
	named   bool   // by the auditor, not found in a folder or archive
	size    int64
	written time.Time
	open    func() (io.ReadCloser, error)
	beside  func(relative string) []byte
	inside  string // where it stands as part of an export, if not at its path
	link    string // for a link: where it points
	linked  string // for a link within an archive: the path it stands for
	format  *intake.Format
	// Of an export made of several files:
	tree  *intake.TreeFormat
	root  string
	calls string // its name
	part  string // this file's place in it
	parts []candidate
}

// look finds the files that the sources name, and what each is. What live
// sources answered was found before.
func look(e *custody.Engagement, sources []string, answered []candidate) (found []candidate, passed []PassedOver,
	archives []contract.Archive, err error) {
	trees, err := treeFormats(e)
	if err != nil {
		return nil, nil, nil, err
	}
	found = answered
	own, _ := filepath.Abs(e.Dir)
	for _, source := range sources {
		info, err := os.Stat(source)
		if err != nil {
			return nil, nil, nil, fmt.Errorf("gather %s: %w; check the name and that you may read it", source, custody.Cause(err))
		}
		if !info.IsDir() {
			found = append(found, onDisk(source, info, true))
			continue
		}
		before := len(found)
		err = filepath.WalkDir(source, func(file string, d fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			if abs, _ := filepath.Abs(file); d.IsDir() && abs != own && filepath.Dir(abs) == own && d.Name() == custody.EvidenceDir {
				return filepath.SkipDir // the engagement's own evidence
			}
			if d.IsDir() {
				return nil
			}
			info, err := d.Info()
			if err != nil {
				return err
			}
			found = append(found, onDisk(file, info, false))
			return nil
		})
		if err != nil {
			return nil, nil, nil, fmt.Errorf("gather %s: %w; check that you may read all of it", source, custody.Cause(err))
		}
		if len(found) == before {
			return nil, nil, nil, fmt.Errorf("gather %s: the folder holds no files; expected exports, see docs/sources.md", source)
		}
	}
	if found, archives, err = unpacked(found); err != nil {
		return nil, nil, nil, err
	}
	found, passed, err = trees.recognised(found)
	found, passed = newestBackups(found, passed)
	if err == nil && len(found) == 0 {
		instead := ""
		if len(passed) > 0 && passed[0].Instead != "" {
			instead = fmt.Sprintf("; %s is %s; ask for %s", passed[0].Path, passed[0].LooksLike, passed[0].Instead)
		}
		err = fmt.Errorf("gather %s: nothing known among %d files%s; see docs/sources.md", strings.Join(sources, " "), len(passed), instead)
	}
	return found, passed, archives, err
}

// newestBackups passes over the files of a policy's backup where a later one of that policy is
// among them, too: they are of other times, and not of one policy.
func newestBackups(found []candidate, passed []PassedOver) ([]candidate, []PassedOver) {
	type part struct{ policy, made string }
	parts, newest := map[int]part{}, map[string]string{}
	for i := range found {
		if c := &found[i]; c.format != nil && c.beside != nil {
			if policy, made, ok := template.BackupOf(c.path, c.beside); ok {
				parts[i], newest[policy] = part{policy, made}, max(newest[policy], made)
			}
		}
	}
	var left []candidate
	for i := range found {
		p, is := parts[i]
		if !is || p.made == newest[p.policy] {
			left = append(left, found[i])
			continue
		}
		passed = append(passed, PassedOver{Path: found[i].path, Why: fmt.Sprintf("a backup of %s, and there is one of %s", p.made, newest[p.policy]),
			LooksLike: "an older backup of a policy", Instead: "nothing: the newer one counts"})
	}
	return left, passed
}

// onDisk is a file as a folder shows it.
func onDisk(file string, info fs.FileInfo, named bool) candidate {
	c := candidate{path: filepath.ToSlash(file), named: named, size: info.Size(), written: info.ModTime(), beside: besides(file)}
	switch {
	case info.Mode().IsRegular():
		c.open = func() (io.ReadCloser, error) { return os.Open(file) }
	case info.Mode()&fs.ModeSymlink != 0:
		to, _ := os.Readlink(file)
		c.link = filepath.ToSlash(to)
	}
	return c
}

// besides reads small files that lie near a source; never through a link.
func besides(source string) func(string) []byte {
	return func(relative string) []byte {
		file := filepath.Join(filepath.Dir(source), filepath.FromSlash(relative))
		info, err := os.Lstat(file)
		if err != nil || !info.Mode().IsRegular() || info.Size() > 1<<20 {
			return nil
		}
		data, _ := os.ReadFile(file)
		return data
	}
}

// trees are the formats of exports that are made of several files.
type trees []*intake.TreeFormat

// head returns a file's first bytes.
func (c *candidate) head() ([]byte, error) {
	f, err := c.open()
	if err != nil {
		return nil, fmt.Errorf("gather %s: %w; check that you may read it", c.path, custody.Cause(err))
	}
	defer f.Close()
	head := make([]byte, intake.MostHead)
	n, err := io.ReadFull(f, head)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("gather %s: %w", c.path, custody.Cause(err))
	}
	return intake.Head(head[:n]), nil
}

// recognised gives each file its format, and puts the files of an export that
// is made of several together.
func (t trees) recognised(found []candidate) (known []candidate, passed []PassedOver, err error) {
	places := map[string]int{} // by format and root: its place in known
	t.place(found)
	others := map[string][]candidate{}
	roots := t.wholeRoots(found)
	var links []candidate
	for _, c := range found {
		if root := t.wholeRoot(&c); roots[root] {
			if c.link != "" {
				links = append(links, c)
				continue
			}
			if _, _, ok := t.partOf(&c, nil); !ok || c.open == nil {
				others[root] = append(others[root], c)
				continue
			}
		}
		why, err := t.recognise(&c)
		switch {
		case err != nil:
			return nil, nil, err
		case why != "" && c.named:
			return nil, nil, fmt.Errorf("gather %s: %s; see docs/sources.md for what is read, and how to make it", c.path, why)
		case why != "":
			if root := t.restOf(roots, &c); root != "" {
				others[root] = append(others[root], c)
			} else {
				passed = append(passed, passedOver(&c, why))
			}
		case c.tree == nil:
			known = append(known, c)
		default:
			key := c.tree.Name + "\x00" + c.root
			at, ok := places[key]
			if !ok {
				at = len(known)
				places[key] = at
				known = append(known, candidate{path: c.root, tree: c.tree, root: c.root})
			}
			known[at].parts = append(known[at].parts, c)
		}
	}
	for root, rest := range others {
		if others[root], err = further(known, root, rest); err != nil {
			return nil, nil, err
		}
	}
	trees := newTargets(known)
	for _, c := range links {
		if why := t.followed(trees, &c); why != "" {
			passed = append(passed, PassedOver{Path: c.path, Why: why, LooksLike: "a link", Instead: "the file that it points at"})
		}
	}
	for root, rest := range others {
		// Not a line for each: a machine has thousands.
		if n := len(rest); n > 0 {
			passed = append(passed, PassedOver{Path: root, Why: fmt.Sprintf("%d further files, which hold no password setting", n),
				LooksLike: "the rest of a machine's tree"})
		}
	}
	for i := range known {
		slices.SortFunc(known[i].parts, func(x, y candidate) int { return cmp.Compare(x.part, y.part) })
	}
	if err := named(known); err != nil {
		return nil, nil, err
	}
	slices.SortStableFunc(passed, func(x, y PassedOver) int { return cmp.Compare(x.Path, y.Path) })
	return known, passed, nil
}

// place finds the files that stand in a folder or archive as if they stood below
// "etc".
func (t trees) place(found []candidate) {
	var paths []string
	for i := range found {
		paths = append(paths, found[i].path)
	}
	for _, f := range t {
		if f.Bare == nil {
			continue
		}
		for _, folder := range f.Bare(paths) {
			for i := range found {
				if rest, ok := strings.CutPrefix(paths[i], folder+"/"); ok {
					found[i].inside = path.Join(folder, f.Below, rest)
				}
			}
		}
	}
}

// at is where a file stands as part of an export, with slashes.
func (c *candidate) at() string { return cmp.Or(c.inside, c.path) }

// restOf returns the root of a machine of whose rest a file is.
func (t trees) restOf(roots map[string]bool, c *candidate) string {
	for folder := c.at(); folder != "." && folder != "/"; folder = path.Dir(folder) {
		if above := path.Dir(folder); roots[above] && slices.ContainsFunc(t, func(f *intake.TreeFormat) bool {
			return slices.ContainsFunc(f.Rest, func(name string) bool { ok, _ := path.Match(name, path.Base(folder)); return ok })
		}) {
			return above
		}
	}
	return ""
}

// further moves those files of a root into its tree that the tree's own parts
// name, and returns the others.
func further(known []candidate, root string, rest []candidate) ([]candidate, error) {
	for i := range known {
		k := &known[i]
		if k.root != root || k.tree == nil || k.tree.Further == nil {
			continue
		}
		t := &intake.Tree{}
		for _, c := range k.parts {
			data, err := c.whole()
			if err != nil {
				return nil, err
			}
			t.Parts = append(t.Parts, &intake.Part{Name: c.part, Path: c.path, Data: data})
		}
		for _, name := range k.tree.Further(t) {
			at := slices.IndexFunc(rest, func(c candidate) bool { return c.open != nil && c.at() == path.Join(root, name) })
			if at >= 0 {
				c := rest[at]
				c.tree, c.root, c.part = k.tree, root, name
				k.parts = append(k.parts, c)
				rest = slices.Delete(rest, at, at+1)
			}
		}
	}
	return rest, nil
}

// wholeRoot returns the root of the machine's tree in which a file would lie;
// empty if it lies in none.
func (t trees) wholeRoot(c *candidate) string {
	for _, f := range t {
		if f.Whole {
			if root, _, _ := f.Part(c.at(), nil); root != "" {
				return root
			}
		}
	}
	return ""
}

// wholeRoots are the roots at which a machine's tree really begins: where at
// least one file of it lies.
func (t trees) wholeRoots(found []candidate) map[string]bool {
	roots := map[string]bool{}
	for i := range found {
		for _, f := range t {
			if f.Whole && found[i].open != nil {
				if root, _, ok := f.Part(found[i].at(), nil); ok {
					roots[root] = true
				}
			}
		}
	}
	return roots
}

// targets are the files of trees that links may point at, by root.
type targets struct {
	known  []candidate
	byRoot map[string]int
	at     []map[string]int // by tree: its parts by where they stand
	paths  []map[string]int // and by the paths they were given
}

func newTargets(known []candidate) *targets {
	t := &targets{known, map[string]int{}, make([]map[string]int, len(known)), make([]map[string]int, len(known))}
	for i := range known {
		if known[i].tree == nil {
			continue
		}
		if _, twice := t.byRoot[known[i].root]; !twice {
			t.byRoot[known[i].root] = i
		}
		t.at[i], t.paths[i] = map[string]int{}, map[string]int{}
		for k := range known[i].parts {
			t.add(i, k)
		}
	}
	return t
}

// add notes where a part stands; of two at one place the first counts.
func (t *targets) add(i, k int) {
	first := func(by map[string]int, name string) {
		if _, twice := by[name]; !twice {
			by[name] = k
		}
	}
	p := &t.known[i].parts[k]
	first(t.at[i], p.at())
	first(t.paths[i], p.path)
}

// followed puts a symbolic link's target into its tree under the link's name.
// Only links that stay inside the tree are followed.
func (t trees) followed(among *targets, c *candidate) string {
	root, name, ok := t.partOf(c, nil)
	if !ok {
		return "" // nothing that would be read
	}
	to := c.link
	switch {
	case c.linked != "":
		to = c.linked
	case strings.HasPrefix(to, "/"):
		to = path.Join(root, to)
	default:
		to = path.Join(path.Dir(c.at()), to)
	}
	if i, ok := among.byRoot[root]; ok {
		k, there := among.at[i][to]
		if !there && c.linked != "" {
			k, there = among.paths[i][to]
		}
		if there {
			p := among.known[i].parts[k]
			p.path, p.inside, p.part = c.path, c.inside, name
			among.known[i].parts = append(among.known[i].parts, p)
			among.add(i, len(among.known[i].parts)-1)
			return ""
		}
	}
	return "a link to " + redact.Quote([]byte(c.link)) + ", which is not in the tree; links out of it are not followed"
}

// partOf asks the tree formats whether a file is theirs.
func (t trees) partOf(c *candidate, head []byte) (root, name string, ok bool) {
	for _, f := range t {
		if f.Claims != nil && head == nil {
			continue
		}
		root, name, ok = f.Part(c.at(), head)
		if ok && f.Claims != nil {
			ok = f.Claims(c.path, c.upTo)
		}
		if ok {
			c.tree, c.root, c.part = f, root, name
			return root, name, true
		}
	}
	return "", "", false
}

// passedOver says of a file that was not recognised what it looks like.
func passedOver(c *candidate, why string) PassedOver {
	p := PassedOver{Path: c.path, Why: why}
	if c.open == nil {
		p.LooksLike, p.Instead = "a link", "the file that it points at"
		return p
	}
	head, err := c.head()
	known := refused(c.path, head)
	switch {
	case err != nil:
	case len(head) == 0:
		p.LooksLike, p.Instead = "an empty file", "the export again"
	case known != nil:
		p.LooksLike, p.Instead = known.what, known.instead
	case bytes.HasPrefix(head, zipMark):
		p.LooksLike, p.Instead = "a document of an office program", "one sheet, saved as CSV"
	case !isText(head):
		p.LooksLike = "a binary file"
	default:
		s := shaped(intake.Opening(head))
		p.LooksLike, p.Instead = s.what, "one of the nearest: "+strings.Join(s.nearest, "; ")
	}
	return p
}

var zipMark = []byte("PK\x03\x04")

// recognise finds the file's format, or says why there is none.
func (t trees) recognise(c *candidate) (why string, err error) {
	if c.open == nil {
		return "not a regular file; links are not followed", nil
	}
	head, err := c.head()
	if err != nil {
		return "", err
	}
	if _, _, ok := t.partOf(c, head); ok {
		return "", nil
	}
	if len(head) == 0 {
		return "the file is empty; expected an export; make it again", nil
	}
	for _, format := range formats {
		if format.Detect(c.path, head) {
			c.format = format
			return "", nil
		}
	}
	if bytes.HasPrefix(head, zipMark) {
		return "a document of an office program; save a sheet as CSV", nil
	}
	if known := refused(c.path, head); known != nil {
		return known.what + ": not supported; ask for " + known.instead, nil
	}
	return unknown(head), nil
}

// isText reports whether what a file begins with is text.
func isText(head []byte) bool {
	text := intake.Opening(head)
	return bytes.IndexByte(text, 0) < 0 && utf8.Valid(text)
}

// unknown says of a file that is not known how it is laid out, and what of that kind is read: no
// word of it, for it may hold anything.
func unknown(head []byte) string {
	if !isText(head) {
		return fmt.Sprintf("not a known format (it begins with the bytes % x)", head[:min(len(head), 4)])
	}
	s := shaped(intake.Opening(head))
	return "not a known format (" + s.what + "); the nearest: " + strings.Join(s.nearest, "; ")
}

// inMemory is a file that was unpacked.
func inMemory(name string, data []byte, written time.Time) candidate {
	return candidate{path: name, size: int64(len(data)), written: written,
		open:   func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil },
		beside: func(string) []byte { return nil }}
}
