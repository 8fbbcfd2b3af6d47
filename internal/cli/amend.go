package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"sternledger/internal/assess"
	"sternledger/internal/contract"
	"sternledger/internal/custody"
	"sternledger/internal/page"
)

func newAmend(s *shared) *cobra.Command {
	var opt assess.AmendOptions
	var all, status bool
	var to string
	cmd := &cobra.Command{
		Use:   "amend",
		Short: "What to change, whom it touches, and the change files",
		Long: `Plans the changes that end the findings of the newest weighing: at the place that
really sets each value (a template before the domain it sets, a policy once for all
whom it governs), to the value that satisfies every chosen baseline for all of
them, with what has to come first. The estate is weighed anew as it would be, so
that what is settled, and what appears, is what the next weighing will find.

They are in the order of what they are worth: how far the exposure falls for each
place that is touched (forecast --routes), those before them made. The first steps
are shown with how many accounts would still fall; --until gives the fewest that
bring the privileged accounts below a chance.

Each amendment says whom it hits: who has to change a password at once, within 7
and 30 days, which service accounts stop working, and what counts at the next
change of password only. Names such as A3 belong to the weighing that they were
made from; a fingerprint stays.

--to writes, for each place, what its administrator can apply and undo with the means
they have: LDIF, security templates to import, diffs of etc and calls of chage,
requests to a tenant's interface; CHANGE.md says what, why, whom, in which order, and
how to undo it. What is written is read again first. After the next gather and weigh,
--status tells what took, what did not, and what was undone again. Nothing is ever
applied by this program.`,
		Example: `  sternledger amend
  sternledger amend --least
  sternledger amend --until 0.05
  sternledger amend --pick A1,A4 --to change-1
  sternledger amend --status
  sternledger amend --for "Lock keepers" --format csv > changes.csv`,
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			picks := len(opt.Pick)+len(opt.Except) > 0 || opt.Scope != "" || opt.For != "" || opt.Least || opt.Until != 0
			if opt.Until < 0 || opt.Until >= 1 {
				return usage("--until %v: expected a chance between 0 and 1, such as 0.05", opt.Until)
			}
			if opt.Until > 0 && opt.Least {
				return usage("--until and --least each pick the fewest for an end of their own: choose one")
			}
			if status && (picks || to != "") {
				return usage("--status stands alone: it tells of all change files that were written")
			}
			return s.inEngagement(cmd, func(e *custody.Engagement) error {
				if status {
					x, err := assess.AmendStatusNow(e)
					if err != nil {
						return err
					}
					return s.print(cmd, output{
						text:     func(sheet *page.Sheet) error { return page.AmendStatuses(sheet, x, all) },
						rows:     func() *page.Rows { return page.AmendStatusRows(x) },
						document: func() any { return x.Document() },
					})
				}
				x, err := assess.Amend(e, opt)
				if err != nil {
					return err
				}
				if to != "" {
					if len(x.Picked) == 0 {
						return fmt.Errorf("--to %s: there is nothing to write: no amendment is picked", to)
					}
					doc, err := assess.WriteChanges(e, x, to, func(d *contract.AmendDocument) string { return page.ChangeWords(x, d) })
					if err != nil {
						return err
					}
					return s.print(cmd, output{
						text:     func(sheet *page.Sheet) error { return page.AmendWritten(sheet, x, doc, to) },
						rows:     func() *page.Rows { return page.AmendRows(x) },
						document: func() any { return doc },
					})
				}
				return s.print(cmd, output{
					text:     func(sheet *page.Sheet) error { return page.Amendments(sheet, x, all) },
					rows:     func() *page.Rows { return page.AmendRows(x) },
					document: func() any { return x.Document() },
				})
			})
		},
	}
	cmd.Flags().StringSliceVar(&opt.Pick, "pick", nil, "these amendments only, by name (A3) or fingerprint")
	cmd.Flags().StringSliceVar(&opt.Except, "except", nil, "all but these")
	cmd.Flags().StringVar(&opt.Scope, "scope", "", "those that reach this scope, or one that fits the pattern (*, ?)")
	cmd.Flags().StringVar(&opt.For, "for", "", "those that this owner answers for")
	cmd.Flags().BoolVar(&opt.Least, "least", false, "the fewest that end what is grave")
	cmd.Flags().Float64Var(&opt.Until, "until", 0, "the fewest after which somebody gets in as a privileged account with no more than this chance a year")
	cmd.Flags().StringVar(&to, "to", "", "write change files into this new folder, with what undoes them, and record that")
	cmd.Flags().BoolVar(&status, "status", false, "what came of the change files, by the records since")
	cmd.Flags().BoolVar(&all, "all", false, "list all of them, and all that needs a decision")
	s.addFormat(cmd)
	return cmd
}
