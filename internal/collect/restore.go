package collect

import (
	"fmt"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/custody"
	"sternledger/internal/folder"
	"sternledger/internal/intake"
	"sternledger/internal/ledger"
)

// copyState is what has become of a stored copy that the ledger tells of.
type copyState int

const (
	gone     copyState = iota + 1 // deleted, and not restored
	restored                      // deleted, and made again of the same export
)

// missing finds the stored copies that were deleted; what was destroyed on purpose is no
// loss.
func (g *gathering) missing() error {
	g.copies = map[string]copyState{}
	for _, x := range g.known {
		at, err := custody.Stored(x.Name)
		if err != nil {
			return err
		}
		if x.Entry >= g.destroyed && !g.Folder.Has(at) {
			g.copies[x.Name] = gone
		}
	}
	return nil
}

// restoreFile makes the copies of a file again that were deleted.
func (g *gathering) restoreFile(c candidate) error {
	var of []ledger.Evidence
	for _, x := range g.known {
		if g.copies[x.Name] == gone && x.Tree == "" && x.Size == c.size && x.Format == c.format.Name {
			of = append(of, x)
		}
	}
	if len(of) == 0 {
		return nil
	}
	sum, err := sumOf(c)
	if err != nil {
		return err
	}
	for _, x := range of {
		if x.SHA256 != sum || speakerOf(c.format, x.Path) != speakerOf(c.format, c.origin) {
			continue
		}
		if err := g.restore([]ledger.Evidence{x}, func(keepAll bool) error {
			s := staged{candidate: c, Evidence: ledger.Evidence{Name: x.Name}}
			_, err := g.copy(&s, estate.NewBuilder(), keepAll)
			return err
		}); err != nil {
			return err
		}
	}
	return nil
}

// restoreTree does the same of an export that is made of several files.
func (g *gathering) restoreTree(t *intake.Tree, format *intake.TreeFormat, sums map[string]string) error {
	byEntry := map[int64][]ledger.Evidence{}
	for _, x := range g.trees[t.Name] {
		byEntry[x.Entry] = append(byEntry[x.Entry], x)
	}
	for _, files := range byEntry {
		if !slices.ContainsFunc(files, func(x ledger.Evidence) bool { return g.copies[x.Name] == gone }) ||
			slices.ContainsFunc(files, func(x ledger.Evidence) bool { return sums[x.Part] != x.SHA256 }) {
			continue
		}
		if err := g.restore(files, func(keepAll bool) error {
			again := &intake.Tree{Name: t.Name, Path: t.Path, KeepAll: keepAll}
			for _, x := range files {
				p := t.Find(x.Part)
				again.Parts = append(again.Parts, &intake.Part{Name: p.Name, Path: p.Path, Stored: x.Name, Data: p.Data})
			}
			slices.SortFunc(again.Parts, func(x, y *intake.Part) int { return strings.Compare(x.Name, y.Name) })
			if err := format.Read(again, estate.NewBuilder()); err != nil {
				return fmt.Errorf("gather %w", err)
			}
			for _, p := range again.Parts {
				kept, _, _ := p.Copy()
				if err := g.stage(p.Stored, kept); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return err
		}
	}
	return nil
}

// restore puts those of the copies in their places that are gone, where they come out as
// they were: read again with or without the values that no rule needs. Where they do not,
// this program keeps something else of the export than the one that took it, and what is
// gathered is evidence of its own.
func (g *gathering) restore(of []ledger.Evidence, again func(keepAll bool) error) error {
	lost := slices.DeleteFunc(slices.Clone(of), func(x ledger.Evidence) bool { return g.copies[x.Name] != gone })
	for _, all := range []bool{g.opt.KeepAll, !g.opt.KeepAll} {
		if err := again(all); err != nil {
			return err
		}
		if err := g.synced(); err != nil {
			return err
		}
		same := true
		for _, x := range lost {
			sum, err := g.sumOf(folder.Join(g.staging, folder.Name(x.Name)))
			if err != nil {
				return err
			}
			same = same && strings.EqualFold(sum, x.StoredSHA256)
		}
		if same {
			if err := g.PutInPlace(g.staging, lost); err != nil {
				return err
			}
			for _, x := range lost {
				g.copies[x.Name] = restored
			}
		}
		for _, x := range of {
			top, _, _ := strings.Cut(x.Name, "/")
			if err := g.Folder.RemoveAll(folder.Join(g.staging, folder.Name(top))); err != nil {
				return err
			}
		}
		if same {
			return nil
		}
	}
	return nil
}

func (g *gathering) sumOf(name folder.Name) (string, error) {
	f, err := g.Folder.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	return custody.SumOf(f)
}
