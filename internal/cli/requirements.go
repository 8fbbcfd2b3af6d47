package cli

import (
	"slices"

	"github.com/spf13/cobra"

	"sternledger/internal/contract"
	"sternledger/internal/core/record"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/custody"
	"sternledger/internal/page"
)

func newRequirements(s *shared) *cobra.Command {
	var number int64
	cmd := &cobra.Command{
		Use:   "requirements [BASELINE…]",
		Short: "Which sections of the baselines are met, partly or not, and by which matters",
		Long: `Tells of every section of the baselines that were weighed against whether it is
met, accepted (where it is not, somebody waived it), partly met (in some scopes),
not met, not known (evidence is missing, and nothing that is known fails it), or
not assessed (no place in evidence has it, or a decision set it aside). It counts the
verdicts of a record, and judges nothing by itself. With names, these baselines
alone.`,
		Example: `  sternledger requirements
  sternledger requirements cis-windows-server
  sternledger requirements --format csv`,
		Args: words(0, unbounded, "baselines, or none"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return s.inEngagement(cmd, func(e *custody.Engagement) error {
				at := number
				if at == 0 {
					newest, err := e.Newest(0)
					if err != nil {
						return err
					}
					at = newest
				}
				w, err := e.Recall(at)
				if err != nil {
					return err
				}
				all := w.Record.Requirements()
				var ids []string
				for _, b := range w.Record.Baselines {
					ids = append(ids, b.ID)
				}
				for _, id := range args {
					if !slices.Contains(ids, id) {
						return usage("weighing %d is against no baseline %q; %s", at, id, strictyaml.Hint(id, ids))
					}
				}
				if len(args) > 0 {
					all = slices.DeleteFunc(all, func(r *record.Requirement) bool { return !slices.Contains(args, r.Baseline.ID) })
				}
				d := contract.NewRequirementsDocument(w.Record, all)
				return s.print(cmd, output{
					text:     func(sheet *page.Sheet) error { return page.Requirements(sheet, d) },
					rows:     func() *page.Rows { return page.RequirementRows(d) },
					document: func() any { return d },
				})
			})
		},
	}
	cmd.Flags().Int64Var(&number, "weighing", 0, "of the weighing of this number, instead of the newest")
	s.addFormat(cmd)
	return cmd
}
