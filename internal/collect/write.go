package collect

import (
	"maps"
	"slices"

	"sternledger/internal/custody"
	"sternledger/internal/ledger"
)

// evidence is what the ledger is told of the files.
func (g *gathering) evidence() []ledger.Evidence {
	all := make([]ledger.Evidence, 0, len(g.files))
	for i := range g.files {
		all = append(all, g.files[i].Evidence)
	}
	return all
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
