package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"sternledger/internal/engagement"
	"sternledger/internal/page"
)

func newReport(s *shared) *cobra.Command {
	var to []string
	var number int64
	var replace bool
	var forms strings.Builder
	for _, f := range page.ReportFormats {
		fmt.Fprintf(&forms, "\n  %-12s %s", f.Ending, f.Title)
	}
	cmd := &cobra.Command{
		Use:   "report --to FILE…",
		Short: "Write the report of a recorded weighing",
		Long: `Writes the report of a recorded weighing, the newest unless another is named. The
form goes by the file's ending; several files are written at once, all or none:
` + forms.String() + `

The weighing is made again from its evidence and its baselines first, so that the
report cannot tell anything that the ledger does not hold. The same weighing makes
the same report.`,
		Example: `  sternledger report --to marrowick.html
  sternledger report --to working-paper.xlsx,findings.csv,findings.sarif,results.oscal.json`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if len(to) == 0 {
				return usage("name at least one file with --to")
			}
			for _, name := range to {
				if page.FormatFor(name) == nil {
					var endings []string
					for _, f := range page.ReportFormats {
						endings = append(endings, f.Ending)
					}
					return usage("--to %s: expected a name that ends in %s", name, strings.Join(endings, ", "))
				}
			}
			return s.inEngagement(func(e *engagement.Engagement) error {
				r, err := e.Report(number)
				if err != nil {
					return err
				}
				var outputs []engagement.Output
				for _, name := range to {
					outputs = append(outputs, engagement.Output{File: name, Write: func(w io.Writer) error { return page.FormatFor(name).Write(w, r) }})
				}
				if err := engagement.WriteFiles(outputs, replace); err != nil {
					return err
				}
				if !s.quiet {
					fmt.Fprintf(cmd.OutOrStdout(), "Weighing %d, with the seal %s, in %s.\n", r.Weighing.Number, r.Seal, strings.Join(to, ", "))
				}
				return nil
			})
		},
	}
	cmd.Flags().StringSliceVar(&to, "to", nil, "write to this file; again, or with commas, for several")
	cmd.Flags().Int64Var(&number, "weighing", 0, "of the weighing of this number, instead of the newest")
	cmd.Flags().BoolVar(&replace, "replace", false, "take the place of files that exist")
	return cmd
}
