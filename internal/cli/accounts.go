package cli

import (
	"github.com/spf13/cobra"

	"sternledger/internal/assess"
	"sternledger/internal/custody"
	"sternledger/internal/page"
)

func newAccounts(s *shared) *cobra.Command {
	var f assess.AccountFilter
	cmd := &cobra.Command{
		Use:   "accounts [PATTERN]",
		Short: "The accounts, each with its governing policy and how it came by it",
		Long: `Lists accounts with the policy that governs each, and by which rule: "direct"
(the policy names the account), "group" (it names a group that holds the
account; "via" is that group), "default" (none applies) or "unknown" (the
evidence does not decide). PATTERN picks names; * and ? stand for any letters.`,
		Example: `  sternledger accounts
  sternledger accounts 'adm-*'
  sternledger accounts --tier privileged --rule default
  sternledger accounts --flag never-expires --format csv > never.csv`,
		Args: words(0, 1, "one pattern of names, such as 'adm-*'"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				f.Name = args[0]
			}
			return s.inEngagement(cmd, func(e *custody.Engagement) error {
				survey, err := e.Survey()
				if err != nil {
					return err
				}
				if err := f.Check(survey); err != nil {
					return &statusError{exitUsage, err}
				}
				rows, w := assess.Accounts(survey, f), cmd.OutOrStdout()
				switch s.format {
				case "json":
					return page.AccountsJSON(w, rows)
				case "csv":
					return page.AccountsCSV(plainly(w), rows)
				case "markdown":
					return page.AccountRows(rows).Markdown(w)
				}
				return s.draw(w, func(sheet *page.Sheet) error { return page.Accounts(sheet, rows) })
			})
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&f.Scope, "scope", "", "only of this scope, as scopes writes it")
	flags.StringVar(&f.Tier, "tier", "", "only of this tier")
	flags.StringVar(&f.Policy, "policy", "", "only governed by this policy")
	flags.StringVar(&f.Flag, "flag", "", "only with this flag, such as never-expires, password-not-required or disabled")
	flags.StringVar(&f.Rule, "rule", "", "only by this rule: direct, group, default, unknown")
	s.addFormat(cmd)
	return cmd
}
