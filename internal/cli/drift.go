package cli

import (
	"strconv"

	"github.com/spf13/cobra"

	"sternledger/internal/assess"
	"sternledger/internal/contract"
	"sternledger/internal/custody"
	"sternledger/internal/page"
)

func newDrift(s *shared) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "drift [BEFORE [AFTER]]",
		Short: "What changed between two weighings",
		Long: `Compares two recorded weighings, the last two unless others are named by their
numbers: the evidence, the baselines, the policies and how many accounts they
govern, who moved from which policy to which, settings, findings that are new,
gone, worse or better, and waivers that came or ended. "Nothing changed" is an
answer. What cannot be compared, because a scope or a baseline is in one of the two
only, is said.`,
		Example: `  sternledger drift
  sternledger drift 1 3 --format json`,
		Args: words(0, 2, "the numbers of two weighings at the most"),
		RunE: func(cmd *cobra.Command, args []string) error {
			var numbers []int64
			for _, a := range args {
				n, err := strconv.ParseInt(a, 10, 64)
				if err != nil || n < 1 {
					return usage("%q: expected the number of a weighing; \"sternledger entries --kind weigh\" lists them", a)
				}
				numbers = append(numbers, n)
			}
			return s.inEngagement(cmd, func(e *custody.Engagement) error {
				var before, after int64
				var err error
				switch len(numbers) {
				case 0:
					before, after, err = assess.LastTwo(e)
				case 1:
					before = numbers[0]
					after, err = e.Newest(0)
				default:
					before, after = numbers[0], numbers[1]
				}
				if err != nil {
					return err
				}
				r, err := assess.Drift(e, before, after)
				if err != nil {
					return err
				}
				amended, err := assess.StatusOf(e, after)
				if err != nil {
					return err
				}
				return s.print(cmd, output{
					text: func(sheet *page.Sheet) error { return page.Drift(sheet, r, amended, s.verbose) },
					rows: func() *page.Rows { return page.DriftRows(r) },
					document: func() any {
						d := contract.NewDriftDocument(r)
						d.Amended = amended.Document().Amendments
						return d
					},
				})
			})
		},
	}
	s.addFormat(cmd)
	return cmd
}
