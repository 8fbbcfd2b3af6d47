package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"sternledger/internal/custody"
	"sternledger/internal/page"
)

func newSetAside(s *shared) *cobra.Command {
	var reason string
	var back, list bool
	cmd := &cobra.Command{
		Use:   "set-aside EVIDENCE…",
		Short: "Take evidence out of use that was gathered by mistake",
		Long: `Takes evidence out of use: what was known of its places before it counts again,
and places of which nothing else is known are gone. EVIDENCE is the name of a
stored copy as citations have it, or the folder of an export that is made of
several files. Nothing is removed; the ledger records who did it and why, and
--take-back undoes it. Weigh again to see the difference.`,
		Example: `  sternledger set-aside outer-light-2.ldif --reason "Made on the test system"
  sternledger set-aside --list
  sternledger set-aside outer-light-2.ldif --take-back --reason "It was the right one"`,
		Args: func(cmd *cobra.Command, args []string) error {
			if list {
				return none(cmd, args)
			}
			return words(1, unbounded, "a file of the evidence or more; --list names those that are set aside")(cmd, args)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			return s.inEngagement(cmd, func(e *custody.Engagement) error {
				out := cmd.OutOrStdout()
				if list {
					aside, err := e.Aside()
					for _, name := range aside {
						fmt.Fprintln(out, page.Clean(name))
					}
					return err
				}
				done, err := e.SetAside(args, reason, back)
				if err != nil {
					return err
				}
				return s.draw(out, func(sheet *page.Sheet) error { return page.SetAside(sheet, done) })
			})
		},
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why")
	cmd.Flags().BoolVar(&back, "take-back", false, "take it into use again")
	cmd.Flags().BoolVar(&list, "list", false, "name what is set aside")
	return cmd
}
