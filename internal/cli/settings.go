package cli

import (
	"github.com/spf13/cobra"

	"sternledger/internal/contract"
	"sternledger/internal/page"
)

func newSettings(s *shared) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "settings",
		Short: "The settings that the program knows, and what each means",
		Example: `  sternledger settings
  sternledger settings --format markdown`,
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return s.print(cmd, output{
				text:     page.Settings,
				rows:     page.SettingRows,
				document: func() any { return contract.NewSettingsDocument() },
			})
		},
	}
	s.addFormat(cmd)
	return cmd
}
