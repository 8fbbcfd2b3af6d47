package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"sternledger/internal/engagement"
	"sternledger/internal/page"
)

func newPack(s *shared) *cobra.Command {
	return &cobra.Command{
		Use:   "pack FILE.zip",
		Short: "The engagement as one file to hand over",
		Long: `Verifies the engagement and writes it as one file: a bag as RFC 8493 (BagIt) has
it, in a zip archive, with the SHA-256 of every file: engagement.yaml, the ledger,
the evidence, own baselines and field maps. "sternledger begin DIR --from FILE.zip"
proves and unpacks it. Evidence is confidential: encrypt the file before it
travels.`,
		Example: `  sternledger pack harbour-2026.zip`,
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return s.inEngagement(func(e *engagement.Engagement) error {
				p, err := e.Pack(args[0])
				if err != nil {
					return err
				}
				if !s.quiet {
					fmt.Fprintf(cmd.OutOrStdout(), "Packed in %s: %s, %s bytes.\nThe seal is %s\n", p.File, page.Quantity(p.Files, "file"), page.Grouped(int(p.Size)), p.Seal)
				}
				return nil
			})
		},
	}
}
