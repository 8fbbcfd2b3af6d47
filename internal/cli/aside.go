package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"sternledger/internal/custody"
	"sternledger/internal/page"
)

func newSetAside(s *shared) *cobra.Command {
	var reason string
	var places []string
	var back, list, destroy bool
	cmd := &cobra.Command{
		Use:   "set-aside EVIDENCE…",
		Short: "Take evidence out of use that was gathered by mistake, or a place out of service",
		Long: `Takes evidence out of use: what was known of its places before it counts again,
and places of which nothing else is known are gone. EVIDENCE is the name of a
stored copy as citations have it, or the folder of an export that is made of
several files. Nothing is removed; the ledger records who did it and why, and
--take-back undoes it. Weigh again to see the difference.

--place is for what was right and is no more, such as a machine that was scrapped:
what is on record about the place counts no more, weigh and report say why, and
newer evidence of it brings it back.

--destroy removes it for good, such as another client's export: the stored copies,
the facts made of it, and the weighings that rested on them. It cannot be undone.
That it was there, its name, size and SHA-256, and why it went, stays in the
ledger, and verify goes on proving the rest. Reports written, copies packed and
change files made before are not touched.`,
		Example: `  sternledger set-aside outer-light-2.ldif --reason "Made on the test system"
  sternledger set-aside --place gate3 --reason "Scrapped on 3 May, ticket 4711"
  sternledger set-aside --list
  sternledger set-aside outer-light-2.ldif --take-back --reason "It was the right one"`,
		Args: func(cmd *cobra.Command, args []string) error {
			if list || len(places) > 0 {
				return none(cmd, args)
			}
			return words(1, unbounded, "a file of the evidence or more; --list names those that are set aside")(cmd, args)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			return s.inEngagement(cmd, func(e *custody.Engagement) error {
				out := cmd.OutOrStdout()
				if list {
					aside, err := e.Aside()
					if err != nil {
						return err
					}
					for _, name := range aside.Files {
						fmt.Fprintln(out, page.Clean(name))
					}
					facts, err := e.Estate()
					if err != nil {
						return err
					}
					ended, err := e.OutOfService(facts)
					for _, o := range ended {
						fmt.Fprintln(out, page.Clean(page.EndedText(o)))
					}
					return err
				}
				if len(places) > 0 {
					done, err := e.EndService(places, reason, back)
					if err != nil {
						return err
					}
					return s.draw(out, func(sheet *page.Sheet) error { return page.SetAside(sheet, done) })
				}
				if destroy && back {
					return usage("--destroy and --take-back are opposites: choose one")
				}
				if destroy {
					done, err := e.Discard(args, reason)
					if err != nil {
						return err
					}
					return s.draw(out, func(sheet *page.Sheet) error { return page.Discarded(sheet, done) })
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
	cmd.Flags().StringArrayVar(&places, "place", nil, "take this `PLACE` out of service; may be given again")
	cmd.Flags().BoolVar(&back, "take-back", false, "take it into use again")
	cmd.Flags().BoolVar(&destroy, "destroy", false, "remove it for good, with the facts and weighings that rest on it")
	cmd.Flags().BoolVar(&list, "list", false, "name what is set aside")
	return cmd
}
