package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"sternledger/internal/custody"
	"sternledger/internal/page"
)

func newRetire(s *shared) *cobra.Command {
	var reason string
	var destroy bool
	cmd := &cobra.Command{
		Use:   "retire",
		Short: "Destroy the evidence at a contract's end, and keep the record",
		Long: `Destroys the stored copies of all evidence gathered so far, and records that, with
the reason. It cannot be undone, and needs --destroy. The facts and the records of
weighings stay: report, drift, waive and trace go on, and verify goes on proving
the chain, the facts and the records; it says what no longer can be proven, which
is that the facts are what the files said. Copies made elsewhere are not touched.`,
		Example: `  sternledger retire --reason "Contract ended on 30 June; letter of the harbour master" --destroy`,
		Args:    none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if !destroy {
				return usage("retire destroys evidence for good: say so with --destroy; \"sternledger pack\" makes a copy first")
			}
			return s.inEngagement(cmd, func(e *custody.Engagement) error {
				r, err := e.Retire(reason)
				if err == nil && !s.quiet {
					fmt.Fprintf(cmd.OutOrStdout(), "Entry %d: %s of evidence destroyed, %s bytes as they were gathered. Facts and records stay.\n",
						r.Entry, page.Quantity(r.Files, "file"), page.Grouped(int(r.Size)))
				}
				return err
			})
		},
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why, and who decided; stands in the ledger")
	cmd.Flags().BoolVar(&destroy, "destroy", false, "confirm permanent deletion")
	return cmd
}
