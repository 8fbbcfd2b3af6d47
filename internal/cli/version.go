package cli

import (
	"fmt"
	"runtime/debug"

	"github.com/spf13/cobra"

	"sternledger/internal/engagement"
)

func newVersion() *cobra.Command {
	return &cobra.Command{
		Use:     "version",
		Short:   "Print the program's version",
		Example: "  sternledger version",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			built := ""
			if info, ok := debug.ReadBuildInfo(); ok {
				built = " (" + info.GoVersion + ")"
			}
			_, err := fmt.Fprintf(cmd.OutOrStdout(), "sternledger %s%s\n", engagement.Version, built)
			return err
		},
	}
}
