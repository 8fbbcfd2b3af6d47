package cli

import (
	"github.com/spf13/cobra"

	"sternledger/internal/assess"
	"sternledger/internal/custody"
	"sternledger/internal/page"
)

func newTrace(s *shared) *cobra.Command {
	var policy, authority string
	cmd := &cobra.Command{
		Use:   "trace ACCOUNT",
		Short: "Why a policy governs an account: every candidate, who won, by which rule",
		Long: `Tells which policy governs an account and why: the answer first, then every
policy that reaches the account with the chain of groups through which it does,
and the settings side by side: what governs (the account's own flags included),
what the domain's default says, what the templates at the domain's root
configure, each with its line of evidence.

ACCOUNT is a name, a principal name, a DN or a SID. Where a person has accounts
in several places, the domain's is traced, and the person's other accounts are
listed, with the settings in which they are weaker: the cloud account that is
synchronised from it, and accounts of the same name on machines. --policy turns the question
round: whom a policy reaches, whom it loses to which other policy, and which of
its targets do nothing.`,
		Example: `  sternledger trace w.lowe
  sternledger trace w.lowe@marrowick.example --format json
  sternledger trace n.farrow --authority gate1
  sternledger trace --policy "Control Room"`,
		Args: func(cmd *cobra.Command, args []string) error {
			if policy != "" {
				return none(cmd, args)
			}
			return words(1, 1, "one account, or --policy NAME")(cmd, args)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			return s.inEngagement(cmd, func(e *custody.Engagement) error {
				if policy != "" {
					d, err := assess.TracePolicy(e, policy)
					if err != nil {
						return err
					}
					return s.print(cmd, output{
						text:     func(sheet *page.Sheet) error { return page.TracePolicy(sheet, d) },
						rows:     func() *page.Rows { return page.PolicyTraceRows(d) },
						document: func() any { return d },
					})
				}
				d, err := assess.Trace(e, args[0], authority)
				if err != nil {
					return err
				}
				return s.print(cmd, output{
					text:     func(sheet *page.Sheet) error { return page.Trace(sheet, d, s.verbose) },
					rows:     func() *page.Rows { return page.TraceRows(d) },
					document: func() any { return d },
				})
			})
		},
	}
	cmd.Flags().StringVar(&policy, "policy", "", "trace this fine-grained policy instead of an account")
	cmd.Flags().StringVar(&authority, "authority", "", "look for the account in this authority only")
	s.addFormat(cmd)
	return cmd
}
