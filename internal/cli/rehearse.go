package cli

import (
	"github.com/spf13/cobra"

	"sternledger/internal/assess"
	"sternledger/internal/custody"
	"sternledger/internal/page"
)

func newRehearse(s *shared) *cobra.Command {
	var opt assess.RehearseOptions
	cmd := &cobra.Command{
		Use:   "rehearse",
		Short: "Play failed sign-ins against a lockout: when it counts, locks, opens",
		Long: `Plays sign-ins against the lockout of a scope or an account, as its platform
counts: when the count starts again, when the account locks, when it opens, what
an observer sees. Nothing is signed in to anywhere.

A series is so many wrong attempts at once, every so often, for so long. A timeline
file has a line for each sign-in, "TIME wrong", "TIME right" or "TIME old" (the
account's password of two changes ago), TIME with its unit
from the beginning ("90s", "10 minutes", "1h"), in order.`,
		Example: `  sternledger rehearse --scope "marrowick.example / Pilots" --tries 4 --every 15m --for 62h
  sternledger rehearse --account w.lowe --tries 100 --every 1h --for 1d
  printf '0 wrong\n10s wrong\n20s wrong\n20m right\n' > t.txt; sternledger rehearse --account gateop --authority gate1 --timeline t.txt`,
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if (opt.Scope == "") == (opt.Account == "") {
				return usage("name one: --scope, or --account")
			}
			return s.inEngagement(cmd, func(e *custody.Engagement) error {
				r, err := assess.Rehearse(e, opt)
				if err != nil {
					return err
				}
				return s.print(cmd, output{
					text:     func(sheet *page.Sheet) error { return page.Rehearsal(sheet, r, s.verbose) },
					rows:     func() *page.Rows { return page.RehearsalRows(r) },
					document: func() any { return r.Document() },
				})
			})
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&opt.Scope, "scope", "", "play against this scope's lockout")
	flags.StringVar(&opt.Account, "account", "", "play against this account's lockout: a name, principal name, DN or SID")
	flags.StringVar(&opt.Authority, "authority", "", "look for the account in this authority only")
	flags.Int64Var(&opt.Tries, "tries", 5, "wrong attempts at once")
	flags.StringVar(&opt.Every, "every", "10m", "again after this time")
	flags.StringVar(&opt.For, "for", "62h", "for this time")
	flags.StringVar(&opt.Timeline, "timeline", "", "play the sign-ins of this file instead")
	s.addFormat(cmd)
	return cmd
}
