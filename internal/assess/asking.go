package assess

import (
	"cmp"
	"errors"
	"slices"
	"strings"

	"sternledger/internal/contract"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/weigh"
	"sternledger/internal/custody"
)

// exportsOf are the kinds of export that tell of places, by platform.
var exportsOf = map[setting.Platform][]string{
	setting.WindowsDomain: {"domain"}, setting.WindowsMachine: {"machine"}, setting.UnixMachine: {"unix"},
	setting.LDAPDirectory: {"ldap"}, setting.DirectoryServer: {"ldap"}, setting.CloudDirectory: {"tenant"}, setting.CloudInfra: {"tenant"},
	setting.WorkplaceSuite: {"tenant"}, setting.IdentityProvider: {"tenant"},
}

// oursToSettle are checks of which more evidence settles nothing: the auditor has to.
var oursToSettle = []string{"not-weighed", "name-means-nothing"}

// Asking judges the evidence as it is now, records nothing, and tells by owner what lacks: what the
// findings of kind missing wait for.
func Asking(e *custody.Engagement, owner string) (*contract.AskDocument, error) {
	w, err := weighing(e, custody.WeighOptions{})
	if errors.Is(err, custody.ErrNoEvidence) {
		w, err = nothingYet(e)
	}
	if err != nil {
		return nil, err
	}
	lacks := map[estate.Place]*contract.AskPlaceDocument{}
	var order []estate.Place
	of := func(a *estate.Authority) *contract.AskPlaceDocument {
		at := a.Place()
		if lacks[at] == nil {
			lacks[at] = &contract.AskPlaceDocument{Place: a.Label(), Platform: a.Platform, Exports: exports(a), State: contract.Incomplete,
				Lacks: []contract.AskDocumentRow{}}
			for _, file := range a.Files {
				lacks[at].Came = max(lacks[at].Came, w.Written[file])
			}
			order = append(order, at)
		}
		return lacks[at]
	}
	for i := range w.Findings {
		f := &w.Findings[i]
		if f.Kind != check.Missing || slices.Contains(oursToSettle, f.Check) || len(f.Open) > 0 {
			continue
		}
		if f.Check == "" && notSet(f) {
			continue // the evidence holds that nothing is set: no export tells more
		}
		x := of(f.Authority)
		switch f.Check {
		case "authority-missing":
			x.State = contract.Awaited
		case "evidence-old":
			x.State = contract.Outdated
		}
		do := f.Remedy
		if f.Check == "" { // what to set afterwards is not for who exports
			do = "Export what holds it, and send it."
			if f.Scope != nil && len(f.Settings) > 0 {
				do = cmp.Or(f.Scope.Settings[f.Settings[0]].Remedy, do)
			}
		}
		at := slices.IndexFunc(x.Lacks, func(r contract.AskDocumentRow) bool { return r.What == f.Reason && r.Do == do })
		if at < 0 {
			at, x.Lacks = len(x.Lacks), append(x.Lacks, contract.AskDocumentRow{What: f.Reason, Do: do, Settings: []setting.ID{},
				Fingerprints: []string{}})
		}
		row := &x.Lacks[at]
		if f.Fingerprint != "" {
			row.Fingerprints = append(row.Fingerprints, f.Fingerprint)
		}
		for _, id := range f.Settings {
			if !slices.Contains(row.Settings, id) {
				row.Settings = append(row.Settings, id)
			}
		}
	}
	d := &contract.AskDocument{Schema: "sternledger/ask/1", Owners: []contract.AskOwnerDocument{}}
	answer := func(name string) *contract.AskOwnerDocument {
		i := slices.IndexFunc(d.Owners, func(o contract.AskOwnerDocument) bool { return strings.EqualFold(o.Owner, name) })
		if i < 0 {
			i, d.Owners = len(d.Owners), append(d.Owners, contract.AskOwnerDocument{Owner: name, Places: []contract.AskPlaceDocument{}})
		}
		return &d.Owners[i]
	}
	wanted := func(name string) bool { return owner == "" || strings.EqualFold(name, owner) }
	for _, at := range order {
		if name := e.Config.OwnerOf(at); wanted(name) {
			slices.SortStableFunc(lacks[at].Lacks, func(x, y contract.AskDocumentRow) int {
				return cmp.Compare(len(y.Fingerprints), len(x.Fingerprints))
			})
			o := answer(name)
			o.Places = append(o.Places, *lacks[at])
		}
	}
	for _, a := range w.Record.Places {
		name := e.Config.OwnerOf(a.Place())
		switch uncovered := slices.ContainsFunc(w.Unweighed, func(u check.Unweighed) bool { return u.Authority == a }); {
		case lacks[a.Place()] != nil || !wanted(name):
		case uncovered: // nothing is demanded there: what lacks is not known
			answer(name).Unassessed++
		default:
			answer(name).Complete++
		}
	}
	slices.SortStableFunc(d.Owners, func(x, y contract.AskOwnerDocument) int {
		return strings.Compare(cmp.Or(strings.ToLower(x.Owner), "\uffff"), cmp.Or(strings.ToLower(y.Owner), "\uffff")) // nobody's last
	})
	for i := range d.Owners {
		slices.SortStableFunc(d.Owners[i].Places, func(x, y contract.AskPlaceDocument) int {
			return cmp.Or(cmp.Compare(rank[x.State], rank[y.State]), cmp.Compare(x.Place, y.Place))
		})
	}
	return d, nil
}

// nothingYet is what is waited for where nothing was gathered: all that is expected.
func nothingYet(e *custody.Engagement) (*custody.Weighing, error) {
	expected, err := machines(e)
	if err != nil {
		return nil, err
	}
	w := &custody.Weighing{Record: &record.Record{Result: &weigh.Result{}}}
	await := func(at estate.Place) {
		w.Findings = append(w.Findings, check.Finding{Kind: check.Missing, Check: "authority-missing", Authority: &estate.Authority{Name: at.Name, Kind: at.Kind},
			Reason: "the engagement expects evidence of " + at.Name + ", and nothing was gathered yet", Remedy: "Collect its export and gather it."})
	}
	for _, name := range e.Config.Expect.Authorities {
		await(estate.Place{Name: name})
	}
	for _, name := range expected {
		await(estate.Place{Name: name, Kind: estate.Machine})
	}
	return w, nil
}

// notSet reports whether all that a finding is about is known not to be set.
func notSet(f *check.Finding) bool {
	return f.Scope != nil && len(f.Settings) > 0 && !slices.ContainsFunc(f.Settings, func(id setting.ID) bool {
		return f.Scope.Settings[id].Missing != govern.NotSet
	})
}

var rank = map[contract.AskState]int{contract.Awaited: 0, contract.Outdated: 1, contract.Incomplete: 2}

// exports are the kinds of export to ask for; of a place of which nothing came all that may tell of it.
func exports(a *estate.Authority) []string {
	switch all, known := exportsOf[a.Platform]; {
	case known:
		return all
	case a.Kind == estate.Machine:
		return []string{"machine", "unix"}
	case a.Platform == "":
		return []string{"domain", "machine", "unix", "ldap", "tenant"}
	}
	return []string{}
}
