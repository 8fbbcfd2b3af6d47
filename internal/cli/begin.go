package cli

import (
	"fmt"
	"os/user"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"sternledger/internal/engagement"
)

func newBegin(s *shared) *cobra.Command {
	var title, auditor string
	cmd := &cobra.Command{
		Use:   "begin DIR",
		Short: "Start an engagement folder",
		Long: `Makes the folder of one audit: engagement.yaml, which says what the audit is
about and can be edited, an empty ledger, and a folder for the evidence. A
folder that already holds an engagement is refused.`,
		Example: `  sternledger begin harbour-2026
  sternledger begin harbour-2026 --title "Marrowick, autumn review" --auditor "R. Quill"`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			dir := args[0]
			if title == "" {
				abs, err := filepath.Abs(dir)
				if err != nil {
					return err
				}
				title = filepath.Base(abs)
			}
			if auditor == "" {
				auditor = "unknown"
				if u, err := user.Current(); err == nil {
					auditor = u.Username
				}
			}
			if err := engagement.Begin(dir, title, auditor, time.Now); err != nil {
				return err
			}
			if !s.quiet {
				fmt.Fprintf(cmd.OutOrStdout(), "Engagement started in %s.\nSay what it is about in %s, then: sternledger -C %s gather FILE…\n",
					dir, filepath.Join(dir, engagement.ConfigName), dir)
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&title, "title", "", "what the audit is called (default: the folder's name)")
	cmd.Flags().StringVar(&auditor, "auditor", "", "who audits; stands in every ledger entry (default: the user's name)")
	return cmd
}
