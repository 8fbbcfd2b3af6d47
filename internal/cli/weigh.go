package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/weigh"
	"sternledger/internal/engagement"
	"sternledger/internal/page"
)

func newWeigh(s *shared) *cobra.Command {
	var failOn, against []string
	var all bool
	var filter engagement.WeighFilter
	var by string
	var view page.WeighView
	cmd := &cobra.Command{
		Use:   "weigh",
		Short: "Compare with the baselines: verdicts and findings",
		Long: `Compares what governs each account scope with the chosen baselines, and looks
for settings that defeat each other. Each demand of a baseline gets a verdict:

  holds        the effective value meets the demand
  weak         it is known and falls short
  conflicting  it meets the demand on paper, but something defeats it, or two
               pieces of evidence disagree
  missing      not set, not collected, not readable, or no such setting there

Several baselines are weighed at once (engagement.yaml, or --against): a finding
names all that it fails, and its remedy satisfies all, or says that none can.
Demands on settings that a platform does not have are listed with --verbose.

The weighing is recorded in the ledger, whole; the options that pick and group
change only what is shown. With --fail-on the exit status is 3 when
there is a finding of that kind, for use in scripts.`,
		Example: `  sternledger weigh
  sternledger weigh --against cis-windows-server --format json
  sternledger weigh --matrix
  sternledger weigh --against cis-windows-server,nist-800-63b --by setting --min-severity serious
  sternledger weigh --scope "marrowick.example*" --only weak
  sternledger weigh --fail-on weak,conflicting`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			for _, kind := range failOn {
				if !slices.Contains(weigh.Kinds[1:4], weigh.Kind(kind)) {
					return usage("--fail-on %q: expected weak, conflicting or missing", kind)
				}
			}
			for _, kind := range filter.Only {
				if !slices.Contains(weigh.Kinds, weigh.Kind(kind)) {
					return usage("--only %q: expected holds, weak, conflicting, missing or waived", kind)
				}
			}
			if filter.MinSeverity != "" && baseline.Severity(filter.MinSeverity).Rank() < 0 {
				return usage("--min-severity %q: expected minor, serious or grave", filter.MinSeverity)
			}
			if by != "scope" && by != "setting" {
				return usage("--by %q: expected scope or setting", by)
			}
			view.BySetting, view.Verbose = by == "setting", s.verbose
			if all && s.format != "json" {
				return usage("--all-accounts goes with --format json")
			}
			return s.inEngagement(func(e *engagement.Engagement) error {
				w, err := e.Weigh(engagement.WeighOptions{Against: against})
				if err != nil {
					return err
				}
				if err := filter.Check(w); err != nil {
					return err
				}
				w = w.Shown(filter)
				err = s.print(cmd, output{
					text: func(sheet *page.Sheet) error { return page.Weighing(sheet, e.Config.Title, w, view) },
					rows: func() *page.Rows { return page.VerdictRows(w) },
					document: func() any {
						if all {
							return w.WithAllAccounts()
						}
						return w.Document()
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
	cmd.Flags().StringSliceVar(&against, "against", nil, "baselines, instead of the engagement's choice")
	cmd.Flags().StringSliceVar(&filter.Only, "only", nil, "show these verdicts only: holds, weak, conflicting, missing, waived")
	cmd.Flags().StringVar(&filter.MinSeverity, "min-severity", "", "show this severity and worse: minor, serious, grave")
	cmd.Flags().StringVar(&filter.Scope, "scope", "", "show this scope, or those that fit a pattern (*, ?)")
	cmd.Flags().StringVar(&filter.Setting, "setting", "", "show this setting only")
	cmd.Flags().StringVar(&by, "by", "scope", "group by scope or by setting")
	cmd.Flags().BoolVar(&view.Matrix, "matrix", false, "show a word for each setting and policy instead of the findings")
	cmd.Flags().BoolVar(&all, "all-accounts", false, "with --format json: name every account of every finding")
	_ = cmd.RegisterFlagCompletionFunc("fail-on", cobra.FixedCompletions([]string{"weak", "conflicting", "missing"}, cobra.ShellCompDirectiveNoFileComp))
	_ = cmd.RegisterFlagCompletionFunc("against", cobra.FixedCompletions(engagement.ShippedBaselines(), cobra.ShellCompDirectiveNoFileComp))
	s.addFormat(cmd)
	return cmd
}

// failed returns the error that makes the exit status 3.
func failed(w *engagement.Weighing, failOn []string) error {
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
