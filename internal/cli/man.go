package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"sternledger/internal/custody"
)

// released is the date on the manual's pages, so that they come out the same
// whenever they are written.
var released = time.Date(2026, time.November, 23, 0, 0, 0, 0, time.UTC)

func newMan() *cobra.Command {
	return &cobra.Command{
		Use:   "man DIR",
		Short: "Write the manual's pages, one for each command",
		Long: `Writes manual pages (section 1) from the commands' own help into a folder, which is
made if it is not there. "man ./DIR/sternledger.1" shows one.`,
		Example: `  sternledger man man1`,
		Args:    words(1, 1, "one folder"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return err
			}
			root := cmd.Root()
			root.DisableAutoGenTag = true
			layOut(root)
			head := &doc.GenManHeader{Title: "STERNLEDGER", Section: "1", Date: &released, Source: "Stern Ledger " + custody.Version,
				Manual: "Stern Ledger"}
			if err := doc.GenManTree(root, head, args[0]); err != nil {
				return err
			}
			pages, err := filepath.Glob(filepath.Join(args[0], "*.1"))
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%d pages in %s\n", len(pages), args[0])
			return err
		},
	}
}

// layOut keeps the tables of the help as they are: what is indented there is set
// apart, so that the manual's pages do not fill it into paragraphs.
func layOut(cmd *cobra.Command) {
	var out []string
	inTable := false
	for _, line := range strings.Split(cmd.Long, "\n") {
		indented := strings.HasPrefix(line, "  ")
		if indented != inTable && line != "" {
			out = append(out, "")
			inTable = indented
		}
		if indented {
			line = "    " + line
		}
		out = append(out, line)
	}
	cmd.Long = strings.Join(out, "\n")
	for _, sub := range cmd.Commands() {
		layOut(sub)
	}
}
