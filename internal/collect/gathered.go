package collect

import (
	"fmt"

	"sternledger/internal/contract"
	"sternledger/internal/intake/live"
)

// Document describes the gather.
func (g *Gathered) Document() contract.GatherDocument {
	d := contract.GatherDocument{Schema: "sternledger/gather/1", Entry: g.Entry, Files: []contract.GatheredFileDocument{},
		Authorities: []contract.GatheredSubjectDocument{},
		Templates:   []contract.GatheredSubjectDocument{}, Problems: []contract.ProblemDocument{}, Passed: []contract.PassedDocument{},
		PassedOver: []contract.PassedOverDocument{}, Lost: []contract.LostDocument{}, Unweighed: []contract.UnweighedDocument{},
		Live: append([]*live.Collected{}, g.Live...), Archives: append([]contract.Archive{}, g.Archives...)}
	for _, f := range g.Files {
		state := "taken"
		if f.Known {
			state = "known"
		}
		d.Files = append(d.Files, contract.GatheredFileDocument{Evidence: f.Evidence, State: state})
	}
	for _, a := range g.Authorities {
		s := contract.GatheredSubjectDocument{Name: a.Name, Kind: string(a.Kind), Policies: len(a.Overrides), Groups: a.Groups,
			Computers: a.Computers, Managed: a.Managed, Deleted: a.Deleted}
		if a.Head != nil {
			s.Settings = len(a.Head.Settings)
		}
		if a.Listed {
			s.Accounts = &a.Accounts
		}
		d.Authorities = append(d.Authorities, s)
	}
	for _, t := range g.Templates {
		d.Templates = append(d.Templates, contract.GatheredSubjectDocument{Name: t.Policy.Name, Kind: "template",
			Settings: len(t.Policy.Settings)})
	}
	for _, p := range g.Problems {
		d.Problems = append(d.Problems, contract.ProblemDocument{CiteDocument: contract.CiteDocument(p.Cite), Text: p.Text})
	}
	for _, p := range g.Passed {
		d.Passed = append(d.Passed, contract.PassedDocument{Path: p.Path, Why: p.Why})
		d.PassedOver = append(d.PassedOver, contract.PassedOverDocument(p))
	}
	for _, f := range g.Files {
		if f.Known {
			why := fmt.Sprintf("says the same as %s, taken by entry %d and still current", f.Name, f.Entry)
			if f.Entry == 0 {
				why = "says the same as " + f.Name + ", taken by this gather"
			}
			d.PassedOver = append(d.PassedOver, contract.PassedOverDocument{Path: f.Given, Why: why, LooksLike: f.Format, Instead: ""})
		}
	}
	d.Unweighed = contract.NewUnweighedDocuments(g.Unweighed)
	for _, l := range g.Lost {
		d.Lost = append(d.Lost, contract.LostDocument{Place: l.Place.Name, Kind: l.Place.Kind, What: l.What, Before: l.Before,
			Now: l.Now, Names: append([]string{}, l.Names...)})
	}
	return d
}
