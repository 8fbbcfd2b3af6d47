package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"sternledger/schemas"
)

func newSchema() *cobra.Command {
	return &cobra.Command{
		Use:       "schema COMMAND",
		Short:     "Print the JSON Schema of a command's --format json",
		Example:   "  sternledger schema scopes\n  sternledger schema weigh > weigh.schema.json",
		Args:      cobra.MatchAll(cobra.ExactArgs(1), cobra.OnlyValidArgs),
		ValidArgs: schemas.Names(),
		RunE: func(cmd *cobra.Command, args []string) error {
			data, err := schemas.Files.ReadFile(args[0] + ".json")
			if err != nil {
				return usage("schema %q: expected %s", args[0], strings.Join(schemas.Names(), ", "))
			}
			_, err = fmt.Fprint(cmd.OutOrStdout(), string(data))
			return err
		},
	}
}
