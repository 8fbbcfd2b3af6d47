package cli

import (
	"fmt"
	"io"
	"runtime/debug"

	"github.com/spf13/cobra"

	"sternledger/internal/custody"
	"sternledger/licences"
)

func newVersion() *cobra.Command {
	var all bool
	cmd := &cobra.Command{
		Use:     "version",
		Short:   "Print the program's version, or the licences of all that is linked in",
		Example: "  sternledger version\n  sternledger version --licences",
		Args:    none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if all {
				text, err := licences.Text()
				if err != nil {
					return err
				}
				_, err = io.WriteString(plainly(cmd.OutOrStdout()), text)
				return err
			}
			_, err := fmt.Fprintln(cmd.OutOrStdout(), versionText())
			return err
		},
	}
	cmd.Flags().BoolVar(&all, "licences", false, "print the licences of what the program is made of")
	return cmd
}

// versionText names the program, with its commit where the build knows it.
func versionText() string {
	text := "sternledger " + custody.ThisProgram().String()
	if info, ok := debug.ReadBuildInfo(); ok {
		text += ", " + info.GoVersion
	}
	return text
}
