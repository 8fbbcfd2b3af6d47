package assess

import (
	"slices"
	"time"

	"sternledger/internal/contract"
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/custody"
)

// Document describes the weighing.
func Document(w *custody.Weighing) contract.WeighDocument {
	d := contract.WeighDocument{Schema: "sternledger/weigh/2", Weighing: w.Number, At: w.At.Format(time.RFC3339),
		Baselines: []contract.BaselineDocument{}, Scopes: []contract.ScopeCountDocument{}, Verdicts: []contract.VerdictDocument{},
		Findings: []contract.FindingDocument{}, SetAside: []contract.AsideDocument{}, Idle: []contract.IdleDocument{}}
	for _, a := range w.SetAside {
		d.SetAside = append(d.SetAside, contract.AsideDocument{IdleDocument: contract.NewIdleDocument(a.Scope, a.Named),
			Follow: a.Decision.Follow, Why: a.Decision.Why})
	}
	for _, i := range w.Idle {
		d.Idle = append(d.Idle, contract.NewIdleDocument(i.Scope, i.Named))
	}
	for _, b := range w.Baselines {
		d.Baselines = append(d.Baselines, contract.BaselineDocument{ID: b.ID, Version: b.Version})
	}
	d.Unweighed = contract.NewUnweighedDocuments(w.Unweighed)
	found, cohort := w.Whole().Counts(), map[*estate.Authority]string{}
	cohorts := w.Cohorts()
	for _, c := range cohorts {
		for _, a := range c.Places {
			cohort[a] = c.ID
		}
	}
	d.Cohorts, d.Matters = contract.NewCohortDocuments(cohorts), []contract.MatterDocument{}
	for _, m := range w.Matters() {
		d.Matters = append(d.Matters, contract.NewMatterDocument(m))
	}
	for _, s := range w.Scopes {
		counts := map[string]int{}
		for _, k := range check.Kinds {
			counts[string(k)] = found[s][k]
		}
		c := contract.ScopeCountDocument{Scope: s.Name(), ID: s.ID().String(), Kind: s.Authority.Kind, Cohort: cohort[s.Authority],
			Tier: s.Tier, Counts: counts}
		if s.Listed() {
			c.Accounts = &s.Accounts
		}
		d.Scopes = append(d.Scopes, c)
	}
	for _, v := range w.Verdicts {
		d.Verdicts = append(d.Verdicts, contract.VerdictDocument{Scope: v.Scope.Name(), Setting: v.Demand.Setting, Baseline: v.Baseline.ID,
			Ref: v.Demand.Ref, Verdict: v.Kind, Beneath: v.Beneath,
			Severity: v.Severity, Observed: v.Observed, Demanded: v.Demand.Text()})
	}
	for i := range w.Findings {
		d.Findings = append(d.Findings, contract.NewFindingDocument(&w.Findings[i]))
	}
	d.Exposure = contract.NewExposureDocument(w.Whole().Population, w.Whole().Assumed)
	d.Waivers = contract.NewWaiverDocuments(w.Waivers)
	d.Recorded, d.Trial, d.Reasons, d.MadeBy = w.Recorded(), w.Trial, append([]string{}, w.Reasons...), w.Program.String()
	d.Totals = map[baseline.Severity]int{"grave": 0, "serious": 0, "minor": 0}
	for i := range w.Findings {
		if f := &w.Findings[i]; f.Kind != check.Waived {
			d.Totals[f.Severity]++
		}
	}
	return d
}

// WithAllAccounts describes the weighing with every account of every finding.
func WithAllAccounts(w *custody.Weighing) (contract.WeighDocument, error) {
	d := Document(w)
	if err := w.Objects("class", "name"); err != nil {
		return d, err
	}
	inScope := map[*govern.Scope][]string{}
	for i, a := range w.Places {
		roll := w.Roll(a.Place())
		for _, row := range byName(a) {
			var scope *govern.Scope
			if w.Survey != nil {
				scope, _ = w.Survey.ScopeOf(i, row)
			} else if s := roll.Of(row); s != nil {
				scope = s.Scope
			}
			inScope[scope] = append(inScope[scope], a.Objects.Name.At(row))
		}
	}
	for i := range w.Findings {
		f := &w.Findings[i]
		if d.Findings[i].AllAccounts = inScope[f.Scope]; f.Scope == nil {
			for _, row := range f.Rows {
				d.Findings[i].AllAccounts = append(d.Findings[i].AllAccounts, f.Authority.Objects.Name.At(row))
			}
			slices.Sort(d.Findings[i].AllAccounts)
		}
	}
	return d, nil
}
