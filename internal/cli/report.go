package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"sternledger/internal/assess"
	"sternledger/internal/custody"
	"sternledger/internal/report"
)

func newReport(s *shared) *cobra.Command {
	var to []string
	var number int64
	var replace bool
	var owner string
	var forms strings.Builder
	for _, f := range report.ReportFormats {
		fmt.Fprintf(&forms, "\n  %-12s %s", f.Ending, f.Title)
	}
	cmd := &cobra.Command{
		Use:   "report --to FILE…",
		Short: "Write the report of a recorded weighing",
		Long: `Writes the report of a recorded weighing, the newest unless another is named. The
form goes by the file's ending; several files are written at once, all or none:
` + forms.String() + `

It is made of the record alone, which is proven against the ledger's chain first:
the same record makes the same report, whichever version of the program writes it.

--for writes what one owner is to mend: the places that engagement.yaml gives them
(authorities: NAME: {owner: NAME}), and no other. A reason can name another place
all the same, where two are compared.`,
		Example: `  sternledger report --to marrowick.html
  sternledger report --for "Lock keepers" --to lock-keepers.xlsx
  sternledger report --to working-paper.xlsx,findings.csv,findings.sarif,results.oscal.json`,
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if len(to) == 0 {
				return usage("name at least one file with --to")
			}
			for _, name := range to {
				if report.FormatFor(name) == nil {
					var endings []string
					for _, f := range report.ReportFormats {
						endings = append(endings, f.Ending)
					}
					return usage("--to %s: expected a name that ends in %s", name, strings.Join(endings, ", "))
				}
			}
			return s.inEngagement(cmd, func(e *custody.Engagement) error {
				r, err := assess.ReportOf(e, number, owner)
				if err != nil {
					return err
				}
				var outputs []custody.Output
				for _, name := range to {
					outputs = append(outputs, custody.Output{File: name, Write: func(w io.Writer) error { return report.FormatFor(name).Write(w, r) }})
				}
				if err := custody.WriteFiles(outputs, replace); err != nil {
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
	cmd.Flags().StringVar(&owner, "for", "", "only the places of this owner, as engagement.yaml names them")
	cmd.Flags().BoolVar(&replace, "replace", false, "take the place of files that exist")
	return cmd
}
