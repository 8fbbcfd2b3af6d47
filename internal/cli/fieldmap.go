package cli

import (
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"sternledger/internal/intake/fieldmap"
	"sternledger/internal/page"
)

func newFieldMap(s *shared) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "fieldmap",
		Short: "Field maps: check one of your own",
		Long: `Field maps say how the exports of one product are read: those that are shipped,
and those in the engagement's folder fieldmaps/. docs/field-maps.md describes the
format.`,
		Example: `  sternledger fieldmap lint fieldmaps/tide-desk.yaml`,
		Args:    none,
		RunE:    func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(&cobra.Command{
		Use:   "lint FILE…",
		Short: "Check field maps: line, column, what is wrong, what to write",
		Long: `Checks field maps: unknown keys, settings that do not exist or that the platform
does not have, paths that are none or can lead to nothing, exports that nothing
reads or that are never asked for.`,
		Example: `  sternledger fieldmap lint fieldmaps/tide-desk.yaml`,
		Args:    words(1, unbounded, "a file or more"),
		RunE: func(cmd *cobra.Command, args []string) error {
			var all error
			for _, file := range args {
				data, err := os.ReadFile(file)
				if err != nil {
					all = errors.Join(all, fmt.Errorf("fieldmap lint: %w; check the name", err))
					continue
				}
				m, err := fieldmap.Parse(file, data)
				if err != nil {
					all = errors.Join(all, err)
					continue
				}
				doubts := m.Lint()
				for _, d := range doubts {
					all = errors.Join(all, fmt.Errorf("%s:%d:%d: %s", file, d.Line, d.Column, d.Text))
				}
				if len(doubts) == 0 && !s.quiet {
					fmt.Fprintf(cmd.OutOrStdout(), "%s: %s, %s, %s\n", page.Clean(file), m.ID.Value, page.Quantity(len(m.Exports), "export"),
						page.Quantity(m.Readings(), "setting"))
				}
			}
			return all
		},
	})
	return cmd
}
