package cli

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"

	"github.com/spf13/cobra"

	"sternledger/internal/assess"
	"sternledger/internal/contract"
	"sternledger/internal/custody"
	"sternledger/internal/page"
)

func newBaseline(s *shared) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "baseline",
		Short: "The baselines: list, show, check, make one of your own, lay several together",
		Long: `Baselines say what settings should be: lists of demands, each with its reason
and its place in a public document. Those that are shipped follow published
benchmarks; an organisation's own lie in the engagement's folder baselines/, and
may extend a shipped one. docs/baselines.md describes the format.`,
		Example: `  sternledger baseline list
  sternledger baseline reconcile cis-windows-server nist-800-63b`,
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(newBaselineChoose(s), newBaselineList(s), newBaselineShow(s), newBaselineLint(s), newBaselineNew(s), newBaselineDiff(s), newBaselineReconcile(s))
	return cmd
}

// library is that of the engagement here, or the shipped baselines alone, to
// somebody who names some.
func (s *shared) library(names ...string) custody.Library {
	return custody.OpenLibrary(s.engagement()).Naming(names...)
}

func newBaselineList(s *shared) *cobra.Command {
	cmd := &cobra.Command{
		Use:     "list",
		Short:   "All baselines: shipped, and the engagement's own",
		Example: `  sternledger baseline list --format csv`,
		Args:    none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			d, err := s.library().List()
			if err != nil {
				return err
			}
			return s.print(cmd, output{
				text:     func(sheet *page.Sheet) error { return page.Baselines(sheet, d) },
				rows:     func() *page.Rows { return page.BaselineListRows(d) },
				document: func() any { return d },
			})
		},
	}
	s.addFormat(cmd)
	return cmd
}

func newBaselineChoose(s *shared) *cobra.Command {
	var instead bool
	cmd := &cobra.Command{
		Use:   "choose [BASELINE…]",
		Short: "Choose the baselines to weigh against; without a name, see what fits",
		Long: `Adds baselines to those that every place without a choice of its own is weighed
against ("baselines:" in engagement.yaml, where everything else stays as it is).
Without a name it changes nothing, and shows which of the shipped ones fit the
places that were gathered.

Choices for single places, or for a tier, stand in engagement.yaml, under
"authorities:" and "tiers:".`,
		Example: `  sternledger baseline choose
  sternledger baseline choose cis-windows-server pci-dss-4
  sternledger baseline choose --instead cis-windows-server cis-debian-12 cis-microsoft-365 cis-aws`,
		Args: func(cmd *cobra.Command, args []string) error {
			if instead && len(args) == 0 {
				return errors.New("--instead wants the baselines to choose; \"sternledger baseline list\" lists them")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			return s.inEngagement(cmd, func(e *custody.Engagement) error {
				before := e.Config.Named()
				if len(args) > 0 {
					var ids []string
					if !instead {
						ids = slices.Clone(before)
					}
					for _, id := range args {
						if !slices.Contains(ids, id) {
							ids = append(ids, id)
						}
					}
					if !slices.Equal(ids, before) {
						if err := e.Choose(ids); err != nil {
							return err
						}
					}
				}
				d, err := e.Choosing(before)
				if err != nil {
					return err
				}
				return s.print(cmd, output{
					text:     func(sheet *page.Sheet) error { return page.Choosing(sheet, d) },
					rows:     func() *page.Rows { return page.ChoosingRows(d) },
					document: func() any { return d },
				})
			})
		},
	}
	cmd.Flags().BoolVar(&instead, "instead", false, "in place of those that are chosen")
	s.addFormat(cmd)
	return cmd
}

func newBaselineShow(s *shared) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "show BASELINE",
		Short: "One baseline, whole: every demand with its reason and its place",
		Long: `Shows a baseline, by its id or the path of its file, with all that it takes from
the one it extends. --format yaml prints it as a file of its own.`,
		Example: `  sternledger baseline show cis-windows-server
  sternledger baseline show nist-800-63b --format json
  sternledger baseline show pci-dss-4 --format yaml`,
		Args: words(1, 1, "one baseline; \"sternledger baseline list\" lists them"),
		RunE: func(cmd *cobra.Command, args []string) error {
			l := s.library(args...)
			b, err := l.Get(args[0])
			if err != nil {
				return err
			}
			if s.format == "yaml" {
				text, err := b.YAML()
				if err != nil {
					return err
				}
				_, err = plainly(cmd.OutOrStdout()).Write(text)
				return err
			}
			return s.print(cmd, output{
				text:     func(sheet *page.Sheet) error { return page.Baseline(sheet, b, l.Source(b.ID)) },
				rows:     func() *page.Rows { return page.BaselineRows(b) },
				document: func() any { return contract.NewBaselineShowDocument(b) },
			})
		},
	}
	s.addFormat(cmd, "yaml")
	return cmd
}

func newBaselineLint(s *shared) *cobra.Command {
	return &cobra.Command{
		Use:   "lint FILE…",
		Short: "Check baseline files: line, column, what is wrong, what to write",
		Long: `Checks baseline files, also what comes of those that extend another: unknown
keys and settings with the nearest known name, units that do not fit, specials
that a setting does not have, two demands for the same place, demands that no
platform can meet, circles.`,
		Example: `  sternledger baseline new own --from cis-windows-server
  sternledger baseline lint baselines/own.yaml`,
		Args: words(1, unbounded, "a file or more"),
		RunE: func(cmd *cobra.Command, args []string) error {
			l := s.library(args...)
			var all error
			for _, file := range args {
				if filepath.Ext(file) == "" {
					all = errors.Join(all, fmt.Errorf("%s: expected a file that ends in .yaml", file))
					continue
				}
				b, err := l.Get(file)
				if err != nil {
					all = errors.Join(all, err)
					continue
				}
				if !s.quiet {
					fmt.Fprintf(cmd.OutOrStdout(), "%s: %s, %s\n", page.Clean(file), b, page.Quantity(len(b.Demands), "demand"))
				}
			}
			return all
		},
	}
}

func newBaselineNew(s *shared) *cobra.Command {
	opt := assess.NewBaselineOptions{}
	cmd := &cobra.Command{
		Use:   "new ID",
		Short: "Make a baseline: from another one, a published benchmark, a template, a machine",
		Long: `Writes baselines/ID.yaml into the engagement. --from is one of
  a baseline    the new one extends it and changes nothing yet
  a benchmark   as its publisher gives it out for tools: XCCDF 1.1.4 or 1.2 with its
                definitions in OVAL 5 beside it, OVAL alone, or a data stream
                (FILE#ID where one holds several). Figures, identifiers and severities
                are taken; each rule about passwords or lockout that is not understood
                is listed with its reason
  a template    a security template, a policy backup, a report of the policy console,
                or whatever else gather reads that holds settings: at least as strong
                as they are
--from-place makes one of what holds in a place in evidence, a golden machine say. The
workbook or CSV form of a checklist is not read. docs/baselines.md tells more.`,
		Example: `  sternledger baseline new harbour --from cis-windows-server --title "What our harbour asks for"
  sternledger baseline new published --from harbour-windows-xccdf.xml --profile Level_1
  sternledger baseline new template --from weighbridge.inf
  sternledger baseline new golden --from-place gate1`,
		Args: words(1, 1, "one id for the new baseline"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return s.inEngagement(cmd, func(e *custody.Engagement) error {
				opt.ID = args[0]
				if opt.Place != "" && cmd.Flags().Changed("from") {
					return errors.New("--from and --from-place are two sources; give one")
				}
				d, err := assess.NewBaseline(e, opt)
				if err != nil {
					return err
				}
				return s.print(cmd, output{
					text:     func(sheet *page.Sheet) error { return page.NewBaseline(sheet, d) },
					rows:     func() *page.Rows { return page.RuleRows(d) },
					document: func() any { return d },
				})
			})
		},
	}
	cmd.Flags().StringVar(&opt.From, "from", "cis-windows-server", "baseline, file or folder to make it of")
	cmd.Flags().StringVar(&opt.Place, "from-place", "", "place in evidence to make it of")
	cmd.Flags().StringVar(&opt.Profile, "profile", "", "profile of a checklist, by its id or how that ends")
	cmd.Flags().StringVar(&opt.Title, "title", "", "title of the new one")
	s.addFormat(cmd)
	return cmd
}

func newBaselineDiff(s *shared) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "diff BASELINE BASELINE",
		Short: "Two baselines side by side: what the second asks more, less, or otherwise",
		Long: `Lays two baselines side by side, demand by demand, so that a new edition is seen
before it is used: stricter, laxer, differs (neither asks all that the other does),
added, removed. --verbose shows what is the same, too.`,
		Example: `  sternledger baseline diff cis-windows-server stig-windows-server-2022
  sternledger baseline diff pci-dss-4 cyber-essentials --format csv`,
		Args: words(2, 2, "two baselines, the older first"),
		RunE: func(cmd *cobra.Command, args []string) error {
			l := s.library(args...)
			was, err := l.Get(args[0])
			if err != nil {
				return err
			}
			is, err := l.Get(args[1])
			if err != nil {
				return err
			}
			d := contract.NewBaselineDiffDocument(was, is)
			return s.print(cmd, output{
				text:     func(sheet *page.Sheet) error { return page.BaselineDiff(sheet, d, s.verbose) },
				rows:     func() *page.Rows { return page.BaselineDiffRows(d) },
				document: func() any { return d },
			})
		},
	}
	s.addFormat(cmd)
	return cmd
}

func newBaselineReconcile(s *shared) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "reconcile BASELINE BASELINE…",
		Short: "Lay baselines together: the values that satisfy all, or why none can",
		Long: `Lays the demands of several baselines together, setting by setting: the band of
values that satisfies all of them, or, where there is none, which demands exclude
each other and why. Cases that differ by platform, tier or second factor stand
apart.`,
		Example: `  sternledger baseline reconcile cis-windows-server nist-800-63b pci-dss-4
  sternledger baseline reconcile stig-windows-server-2022 microsoft-windows --format csv`,
		Args: words(2, unbounded, "two baselines or more; \"sternledger baseline list\" lists them"),
		RunE: func(cmd *cobra.Command, args []string) error {
			d, err := s.library(args...).Reconcile(args)
			if err != nil {
				return err
			}
			return s.print(cmd, output{
				text:     func(sheet *page.Sheet) error { return page.Reconciled(sheet, d) },
				rows:     func() *page.Rows { return page.ReconciledRows(d) },
				document: func() any { return d },
			})
		},
	}
	s.addFormat(cmd)
	return cmd
}
