package cli

import (
	"fmt"
	"os/user"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"sternledger/internal/assess"
	"sternledger/internal/custody"
	"sternledger/internal/page"
)

func newBegin(s *shared) *cobra.Command {
	var title, auditor, from string
	var open opening
	cmd := &cobra.Command{
		Use:   "begin DIR",
		Short: "Start an engagement folder",
		Long: `Makes the folder of one audit: engagement.yaml, which says what the audit is
about and can be edited, an empty ledger, and a folder for the evidence. A
folder that already holds an engagement is refused.

--from makes it of an engagement that "sternledger pack" wrote. The bag and the
ledger are verified on the way in; of what does not hold nothing is left. One that
is encrypted is opened with --identity or with its passphrase.`,
		Example: `  sternledger begin harbour-2026
  sternledger begin harbour-2027 --title "Marrowick, autumn review" --auditor "R. Quill"
  sternledger begin harbour-copy --from harbour.zip`,
		Args: words(1, 1, "one folder"),
		RunE: func(cmd *cobra.Command, args []string) error {
			dir := args[0]
			if from != "" {
				if title != "" || auditor != "" {
					return usage("--from takes the engagement as it is, with its title and auditor")
				}
				v, err := custody.Unpack(cmd.Context(), from, dir, custody.UnpackOptions{Identities: open.identities(cmd), Judge: assess.Judge},
					time.Now)
				if err != nil {
					return err
				}
				if !s.quiet {
					fmt.Fprintf(cmd.OutOrStdout(), "Engagement unpacked in %s and verified: %s, %s, %s.\nIts seal is %s\n", page.Clean(dir),
						page.Quantity(v.Entries, "entry"),
						page.Quantity(v.Files, "file"), page.Quantity(v.Weighings, "weighing"), custody.SealOf(&v.Last))
				}
				return nil
			}
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
			if err := custody.Begin(cmd.Context(), dir, title, auditor, time.Now); err != nil {
				return err
			}
			if !s.quiet {
				fmt.Fprintf(cmd.OutOrStdout(), "Engagement started in %s.\nSay what it is about in %s, then: sternledger -C %s gather FILE…\n",
					dir, filepath.Join(dir, custody.ConfigName), dir)
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&title, "title", "", "what the audit is called (default: the folder's name)")
	cmd.Flags().StringVar(&auditor, "auditor", "", "who audits; stands in every ledger entry (default: the user's name)")
	cmd.Flags().StringVar(&from, "from", "", "make it of this packed engagement")
	open.addFlags(cmd)
	return cmd
}
