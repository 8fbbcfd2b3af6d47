package cli

import (
	"github.com/spf13/cobra"

	"sternledger/internal/contract"
	"sternledger/internal/custody"
	"sternledger/internal/page"
)

func newScopes(s *shared) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "scopes",
		Short: "Account scopes: what governs each, how many accounts, the settings side by side",
		Long: `Shows the account scopes: the accounts of one authority that live under the
same effective settings. For a domain the first column is the domain's default;
what differs from it in the other columns is marked stronger, weaker or differs.

"missing" means that the evidence does not hold a value; it never means that a
default applies.`,
		Example: `  sternledger scopes
  sternledger scopes --format json
  sternledger scopes --format csv > scopes.csv`,
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return s.inEngagement(cmd, func(e *custody.Engagement) error {
				survey, err := e.Survey()
				if err != nil {
					return err
				}
				return s.print(cmd, output{
					text: func(sheet *page.Sheet) error {
						return page.Scopes(sheet, survey, e.Config.Idle(survey.Estate), s.verbose)
					},
					rows:     func() *page.Rows { return page.ScopeRows(survey) },
					document: func() any { return contract.NewScopesDocument(survey.Scopes) },
				})
			})
		},
	}
	s.addFormat(cmd)
	return cmd
}
