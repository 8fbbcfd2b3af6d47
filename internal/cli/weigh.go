package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"sternledger/internal/assess"
	"sternledger/internal/contract"
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/custody"
	"sternledger/internal/page"
)

func newWeigh(s *shared) *cobra.Command {
	var failOn, against, exposure []string
	var all bool
	var filter custody.WeighFilter
	var by, matter string
	var recordIt, matters, places, findings, matrix bool
	cmd := &cobra.Command{
		Use:   "weigh",
		Short: "Compare with the baselines: verdicts and findings",
		Long: `Compares what governs each account scope with the chosen baselines, and looks
for settings that defeat each other. Each demand of a baseline gets a verdict:

  holds        the effective value meets the demand
  weak         it is known and falls short
  conflicting  it meets the demand on paper, but something defeats it, or two
               pieces of evidence disagree
  missing      not set, not collected, not readable, no such setting there, or
               nobody tells whether the demand holds there (applies: in engagement.yaml)

Several baselines are weighed at once (engagement.yaml, or --against): a finding
names all that it fails, and its remedy satisfies all, or says that none can.

One screen is printed: how exposed the accounts are, the matters that come first,
and the places. A matter is one setting or one check, with a row for each value or
reason, in one place or in many. Open doors come first, then severity, then how far
the exposure falls (forecast --routes); nothing of it foretells. --all lists all matters, --matter shows one
whole, --findings every finding with its evidence. Names such as M7 belong to the
record that they were read from; a fingerprint stays.

What is found is recorded in the ledger, whole, where it differs from the last
record: the evidence, the engagement, a baseline, a waiver, the day, or the program
changed. Looking once more records nothing, and the options that pick and group
change only what is shown. --against is a trial against other baselines, and is
recorded with --record only. With --fail-on the exit status is 3 when there is a
finding of that kind, for use in scripts.`,
		Example: `  sternledger weigh
  sternledger weigh --matter M1
  sternledger weigh --all --format csv > matters.csv
  sternledger weigh --against cis-windows-server --format json
  sternledger weigh --matrix
  sternledger weigh --against cis-windows-server,nist-800-63b --by setting --min-severity serious
  sternledger weigh --scope "marrowick.example*" --only weak
  sternledger weigh --fail-on weak,conflicting`,
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			for _, kind := range failOn {
				if !slices.Contains(check.Kinds[1:4], check.Kind(kind)) {
					return usage("--fail-on %q: expected weak, conflicting or missing", kind)
				}
			}
			for _, kind := range filter.Only {
				if !slices.Contains(check.Kinds, check.Kind(kind)) {
					return usage("--only %q: expected holds, weak, conflicting, missing or waived", kind)
				}
			}
			if filter.MinSeverity != "" && baseline.Severity(filter.MinSeverity).Rank() < 0 {
				return usage("--min-severity %q: expected minor, serious or grave", filter.MinSeverity)
			}
			if by != "" && by != "scope" && by != "setting" {
				return usage("--by %q: expected scope or setting", by)
			}
			view := page.WeighView{Verbose: s.verbose}
			for _, way := range []struct {
				asked bool
				show  page.Show
			}{{matters, page.ShowMatters}, {places, page.ShowPlaces}, {findings || by == "scope", page.ShowFindings},
				{by == "setting", page.ShowBySetting}, {matrix, page.ShowMatrix}} {
				if way.asked {
					if view.Show != page.ShowScreen || matter != "" {
						return usage("--all, --places, --findings, --by, --matrix and --matter show different things: choose one")
					}
					view.Show = way.show
				}
			}
			if all && s.format != "json" {
				return usage("--all-accounts goes with --format json")
			}
			if len(exposure) > 0 && recordIt {
				return usage("--exposure is a trial; to record, write the assumptions under \"exposure:\" in %s", custody.ConfigName)
			}
			return s.inEngagement(cmd, func(e *custody.Engagement) error {
				w, err := assess.Weigh(e, custody.WeighOptions{Against: against, Record: recordIt, Exposure: exposure})
				if err != nil {
					return err
				}
				if err := filter.Check(w); err != nil {
					return err
				}
				w = w.Shown(filter)
				if matter != "" {
					m, err := w.Matter(matter)
					if err != nil {
						return err
					}
					return s.print(cmd, output{
						text:     func(sheet *page.Sheet) error { page.Matter(sheet, m); return sheet.Err() },
						rows:     func() *page.Rows { return page.VerdictRows(w.Of(m)) },
						document: func() any { return assess.Document(w.Of(m)) },
					})
				}
				var named contract.WeighDocument
				if all {
					if named, err = assess.WithAllAccounts(w); err != nil {
						return err
					}
				}
				err = s.print(cmd, output{
					text: func(sheet *page.Sheet) error { return page.Weighing(sheet, e.Config.Title, w, view) },
					rows: func() *page.Rows {
						switch view.Show {
						case page.ShowMatters:
							return page.MatterRows(w)
						case page.ShowMatrix:
							return page.MatrixRows(w)
						}
						return page.VerdictRows(w)
					},
					document: func() any {
						if all {
							return named
						}
						return assess.Document(w)
					},
				})
				if err != nil {
					return err
				}
				return failed(w, failOn)
			})
		},
	}
	cmd.Flags().StringSliceVar(&failOn, "fail-on", nil, "exit with status 3 on findings of this kind: weak, conflicting, missing")
	cmd.Flags().StringArrayVar(&exposure, "exposure", nil, "NAME=VALUE: a trial under another assumption (forecast --assumptions lists them)")
	cmd.Flags().StringSliceVar(&against, "against", nil, "baselines, instead of the engagement's choice")
	cmd.Flags().BoolVar(&recordIt, "record", false, "record it, though it is against other baselines")
	cmd.Flags().StringSliceVar(&filter.Only, "only", nil, "show these verdicts only: holds, weak, conflicting, missing, waived")
	cmd.Flags().StringVar(&filter.MinSeverity, "min-severity", "", "show this severity and worse: minor, serious, grave")
	cmd.Flags().StringVar(&filter.Scope, "scope", "", "show this scope, or those that fit a pattern (*, ?)")
	cmd.Flags().StringVar(&filter.Setting, "setting", "", "show this setting only")
	cmd.Flags().StringVar(&filter.Place, "place", "", "show this place, or those that fit a pattern (*, ?)")
	cmd.Flags().StringVar(&matter, "matter", "", "show one matter whole, by its name (M7) or fingerprint")
	cmd.Flags().BoolVar(&matters, "all", false, "show all matters")
	cmd.Flags().BoolVar(&places, "places", false, "show all places, those that are alike together")
	cmd.Flags().BoolVar(&findings, "findings", false, "show every finding, with its evidence")
	cmd.Flags().StringVar(&by, "by", "", "show every finding, by scope or by setting")
	cmd.Flags().BoolVar(&matrix, "matrix", false, "show a word for each setting and policy")
	cmd.Flags().BoolVar(&all, "all-accounts", false, "with --format json: name every account of every finding")
	s.addFormat(cmd)
	return cmd
}

// failed returns the error that makes the exit status 3.
func failed(w *custody.Weighing, failOn []string) error {
	var met []string
	for _, kind := range failOn {
		n := 0
		for _, f := range w.Findings {
			if string(f.Kind) == kind {
				n++
			}
		}
		if n > 0 {
			met = append(met, fmt.Sprintf("%d %s", n, kind))
		}
	}
	if len(met) == 0 {
		return nil
	}
	return &statusError{exitFailOn, fmt.Errorf("--fail-on: findings: %s", strings.Join(met, ", "))}
}
