package cli

import (
	"github.com/spf13/cobra"

	"sternledger/internal/contract"
	"sternledger/internal/page"
)

func newChecks(s *shared) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "checks",
		Short: "The checks that weigh runs besides the baselines, and what each looks for",
		Long: `Lists the checks that weigh runs besides comparing with the baselines: on the
completeness of the evidence, on the governance (policies, groups, templates),
and between settings that defeat each other.`,
		Example: `  sternledger checks
  sternledger checks --format csv`,
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return s.print(cmd, output{
				text:     page.Checks,
				rows:     page.CheckRows,
				document: func() any { return contract.NewChecksDocument() },
			})
		},
	}
	s.addFormat(cmd)
	return cmd
}
