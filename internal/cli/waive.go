package cli

import (
	"github.com/spf13/cobra"

	"sternledger/internal/contract"
	"sternledger/internal/custody"
	"sternledger/internal/page"
)

func newWaive(s *shared) *cobra.Command {
	var opt custody.WaiveOptions
	var list bool
	var withdraw string
	cmd := &cobra.Command{
		Use:   "waive [FINGERPRINT…]",
		Short: "Record an accepted exception, with its reason and its end",
		Long: `Records in the ledger that findings of the newest weighing are accepted until a
day, by whom and why. The next weighing shows their verdicts as waived, with the
one beneath. A waiver ends by itself after its day, or when what is observed gets
worse than what was accepted: a weaker value, another verdict, or, for what a
check found, more accounts or a greater severity.

--matter waives one matter as "weigh" lists them, everywhere or in the places of
--place, with all its values or the one of --value; what it covers is printed. Findings can also be named by their
fingerprints, or those of a setting in a scope by --setting and --scope. A name
such as M7 belongs to the record that it was read from; scripts use fingerprints.
Without a reason or an end a waiver is refused.`,
		Example: `  sternledger waive --matter M7 --until 2027-06-30 --reason "Replaced in spring; decided by the harbour master"
  sternledger waive --matter M3 --value "12 characters" --until 2027-06-30 --reason "Longer with the new sign-in, in June"
  sternledger waive --setting max-age --scope "marrowick.example / Ticket Kiosks" --until 2027-06-30 --reason "Replaced in spring"
  sternledger waive --list
  sternledger waive --withdraw 8fb5acdc8946 --reason "The kiosks are gone"`,
		RunE: func(cmd *cobra.Command, args []string) error {
			opt.Fingerprints = args
			switch picks := len(args) > 0 || opt.Setting != "" || opt.Scope != "" || opt.Matter != ""; {
			case list && (picks || withdraw != ""):
				return usage("--list stands alone: it lists all waivers")
			case withdraw != "" && picks:
				return usage("--withdraw takes one fingerprint, and nothing else picks what is taken back; \"sternledger waive --list\" shows it")
			case !list && withdraw == "" && !picks:
				return usage("name a matter with --matter, findings by their fingerprints, or both --setting and --scope")
			case opt.Matter != "" && (len(args) > 0 || opt.Setting != "" || opt.Scope != ""):
				return usage("--matter stands alone, with --place and --value for a part of it")
			case (opt.Place != "" || opt.Value != "") && opt.Matter == "":
				return usage("--place and --value go with --matter")
			case len(args) > 0 && (opt.Setting != "" || opt.Scope != ""), len(args) == 0 && (opt.Setting == "") != (opt.Scope == ""):
				return usage("name findings by their fingerprints, or by both --setting and --scope")
			}
			return s.inEngagement(cmd, func(e *custody.Engagement) error {
				if list {
					all, err := e.Waivers()
					if err != nil {
						return err
					}
					return s.print(cmd, output{
						text:     func(sheet *page.Sheet) error { return page.Waivers(sheet, all) },
						rows:     func() *page.Rows { return page.WaiverRows(all) },
						document: func() any { return contract.NewWaiversDocument(0, all) },
					})
				}
				var w *custody.Waived
				var err error
				if withdraw != "" {
					w, err = e.Withdraw(withdraw, opt.Reason)
				} else {
					w, err = e.Waive(opt)
				}
				if err != nil {
					return err
				}
				return s.print(cmd, output{
					text:     func(sheet *page.Sheet) error { return page.Waived(sheet, w) },
					rows:     func() *page.Rows { return page.WaiverRows(w.Waivers) },
					document: func() any { return contract.NewWaiversDocument(w.Entry, w.Waivers) },
				})
			})
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&opt.Matter, "matter", "", "waive this matter, by its name (M7) or fingerprint")
	flags.StringVar(&opt.Place, "place", "", "with --matter: only in this place, or those that fit a pattern (*, ?)")
	flags.StringVar(&opt.Value, "value", "", "with --matter: only the row with this value, as \"12 characters\", or this fingerprint")
	flags.StringVar(&opt.Setting, "setting", "", "waive the findings on this setting")
	flags.StringVar(&opt.Scope, "scope", "", "in this scope, or those that fit a pattern (*, ?)")
	flags.StringVar(&opt.Until, "until", "", "the last day, as 2027-06-30")
	flags.StringVar(&opt.Reason, "reason", "", "why it is accepted, or withdrawn")
	flags.BoolVar(&list, "list", false, "show all waivers and whether they are in force")
	flags.StringVar(&withdraw, "withdraw", "", "end the waivers of this entry, or on this fingerprint")
	s.addFormat(cmd)
	return cmd
}
