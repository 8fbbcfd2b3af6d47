package cli_test

import (
	"strings"
	"testing"

	"github.com/spf13/cobra"

	"sternledger/internal/cli"
	"sternledger/schemas"
)

// A command is whole: it has an example, and, where it prints JSON, a schema for
// that.
func TestCommandsAreWhole(t *testing.T) {
	seen := 0
	var walk func(cmd *cobra.Command)
	walk = func(cmd *cobra.Command) {
		for _, sub := range cmd.Commands() {
			walk(sub)
		}
		if !cmd.Runnable() || cmd.Name() == "help" || cmd.Name() == "completion" || cmd.HasSubCommands() {
			return
		}
		name := strings.ReplaceAll(strings.TrimPrefix(cmd.CommandPath(), "sternledger "), " ", "-")
		if cmd.Example == "" {
			t.Errorf("%s: no example in its help", name)
		}
		if cmd.Flags().Lookup("format") == nil {
			return
		}
		seen++
		if _, err := schemas.Files.ReadFile(name + ".json"); err != nil {
			t.Errorf("%s: --format json has no schema: %v", name, err)
		}
	}
	walk(cli.New())
	if seen < 10 {
		t.Errorf("only %d commands print JSON", seen)
	}
}
