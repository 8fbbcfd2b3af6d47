package collect

import (
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/custody"
	"sternledger/internal/folder"
	"sternledger/internal/ledger"
)

// there reports whether the stored copies of known evidence lie where the ledger says, after
// those that were deleted were made again (again, of all values or without those that no rule
// needs). A copy that does not come out as it was is none: what was gathered is then
// evidence of its own.
func (g *gathering) there(known []ledger.Evidence, again func(keepAll bool) error) (there bool, restored int, err error) {
	var gone []ledger.Evidence
	for _, x := range known {
		at, err := custody.Stored(x.Name)
		if err != nil {
			return false, 0, err
		}
		if x.Entry >= max(g.destroyed, 1) && !g.Folder.Has(at) {
			gone = append(gone, x)
		}
	}
	if len(gone) == 0 {
		return true, 0, nil
	}
	for _, all := range []bool{g.opt.KeepAll, !g.opt.KeepAll} {
		if err := again(all); err != nil {
			return false, 0, err
		}
		if err := g.synced(); err != nil {
			return false, 0, err
		}
		same := true
		for _, x := range gone {
			sum, err := g.sumOf(folder.Join(g.staging, folder.Name(x.Name)))
			if err != nil {
				return false, 0, err
			}
			same = same && strings.EqualFold(sum, x.StoredSHA256)
		}
		if same {
			if err := g.PutInPlace(g.staging, gone); err != nil {
				return false, 0, err
			}
		}
		for _, x := range known {
			top, _, _ := strings.Cut(x.Name, "/")
			if err := g.Folder.RemoveAll(folder.Join(g.staging, folder.Name(top))); err != nil {
				return false, 0, err
			}
		}
		if same {
			return true, len(gone), nil
		}
	}
	return false, 0, nil
}

func (g *gathering) sumOf(name folder.Name) (string, error) {
	f, err := g.Folder.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	return custody.SumOf(f)
}

// copyAgain makes the stored copy of a file that is known, in the staging folder.
func (g *gathering) copyAgain(c candidate, name string, keepAll bool) error {
	s := staged{candidate: c, Evidence: ledger.Evidence{Name: name}}
	_, err := g.copy(&s, estate.NewBuilder(), keepAll)
	return err
}
