package cli

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"sternledger/internal/assess"
	"sternledger/internal/custody"
	"sternledger/internal/page"
)

func newProbe(s *shared) *cobra.Command {
	var opt assess.ProbeOptions
	var from string
	cmd := &cobra.Command{
		Use:   "probe",
		Short: "Would these passwords be accepted, and which rule refuses them",
		Long: `Says of each account scope, or of one account, whether a new password would be
accepted there, and which rule refuses it: the least length as the platform
counts it, classes of characters, names, repeats, banned words. What settings
cannot tell, such as a platform's own word list, is "cannot tell".

Passwords are typed unseen, or come from standard input or a file, one on each
line; never from an argument. They are not stored, logged or printed: the output
names them by their number in the input. Nothing is signed in to anywhere.

--patterns tries what people choose under pressure instead: seasons, months,
places and numbers, keyboard walks, made from the "words" of engagement.yaml and
the year of the newest evidence; and long phrases for contrast.`,
		Example: `  sternledger probe --patterns
  sternledger probe --patterns --scope "marrowick.example / Pilots"
  printf 'Tide-Table-4711\nwinter\n' | sternledger probe --account w.lowe`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 0 {
				return usage("a password is never an argument: others would see it; type it unseen, or give --from FILE")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, _ []string) error {
			switch {
			case opt.Scope != "" && opt.Account != "":
				return usage("name one: --scope, or --account")
			case opt.Patterns && from != "":
				return usage("name one: --patterns, or --from")
			}
			return s.inEngagement(cmd, func(e *custody.Engagement) error {
				if !opt.Patterns {
					var err error
					if opt.Passwords, err = passwords(cmd, from); err != nil {
						return err
					}
				}
				p, err := assess.Probe(e, opt)
				if err != nil {
					return err
				}
				return s.print(cmd, output{
					text:     func(sheet *page.Sheet) error { return page.Probe(sheet, p, s.verbose) },
					rows:     func() *page.Rows { return page.ProbeRows(p) },
					document: func() any { return p.Document() },
				})
			})
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&opt.Scope, "scope", "", "in this scope, or those that fit a pattern (*, ?)")
	flags.StringVar(&opt.Account, "account", "", "for this account: a name, principal name, DN or SID")
	flags.StringVar(&opt.Authority, "authority", "", "look for the account in this authority only")
	flags.StringVar(&from, "from", "", "read passwords from this file, one on each line; - for standard input")
	flags.BoolVar(&opt.Patterns, "patterns", false, "try what people choose under pressure, instead of passwords")
	s.addFormat(cmd)
	return cmd
}

// passwords reads them from a file or standard input, or asks for them.
func passwords(cmd *cobra.Command, from string) ([]string, error) {
	if from != "" && from != "-" {
		f, err := os.Open(from)
		if err != nil {
			return nil, fmt.Errorf("--from: %w", err)
		}
		defer f.Close()
		return assess.ReadPasswords(filepath.Base(from), f)
	}
	in, ok := cmd.InOrStdin().(*os.File)
	if !ok || !term.IsTerminal(int(in.Fd())) {
		return assess.ReadPasswords("standard input", cmd.InOrStdin())
	}
	fmt.Fprint(cmd.ErrOrStderr(), "Password to try (not shown): ")
	typed, err := term.ReadPassword(int(in.Fd()))
	fmt.Fprintln(cmd.ErrOrStderr())
	return []string{string(typed)}, err
}
