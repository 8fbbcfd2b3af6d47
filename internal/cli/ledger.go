package cli

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"sternledger/internal/custody"
	"sternledger/internal/page"
)

func newEntries(s *shared) *cobra.Command {
	var f custody.EntryFilter
	cmd := &cobra.Command{
		Use:   "entries",
		Short: "The ledger as a page: what was gathered, weighed, waived, by whom and when",
		Example: `  sternledger entries
  sternledger entries --kind weigh --last 5
  sternledger entries --since 2026-01-01 --format csv`,
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return s.inEngagement(cmd, func(e *custody.Engagement) error {
				all, err := e.Entries(f)
				if err != nil {
					return err
				}
				return s.print(cmd, output{
					text:     func(sheet *page.Sheet) error { return page.Entries(sheet, all, s.verbose) },
					rows:     func() *page.Rows { return page.EntryRows(all) },
					document: func() any { return custody.NewEntriesDocument(all) },
				})
			})
		},
	}
	cmd.Flags().StringVar(&f.Kind, "kind", "", "entries of this kind: begin, gather, weigh, waive, withdraw, set-aside, amend, retire")
	cmd.Flags().StringVar(&f.By, "by", "", "entries by this auditor")
	cmd.Flags().StringVar(&f.Since, "since", "", "entries from this day on")
	cmd.Flags().IntVar(&f.Last, "last", 0, "so many of the newest")
	s.addFormat(cmd)
	return cmd
}

func newVerify(s *shared) *cobra.Command {
	var seal, signature, signer string
	cmd := &cobra.Command{
		Use:   "verify",
		Short: "Prove that nothing was altered: entries, evidence, facts, weighings",
		Long: `Proves the whole engagement: that each entry of the ledger follows the one before;
that every evidence file has its SHA-256; that the facts are those that were read
from it, and the record of each weighing the one that was written. What does not
match is altered: the first such entry is named, and the exit status is 1.

Each weighing is made again, too. Where this version of the program judges otherwise
than the one that made the record, the record is intact: that is no failure, and
what differs today is listed.

That nothing was removed from the end, only a seal proves that was kept elsewhere:
--seal compares one, and --signature with --signer the signature on it.`,
		Example: `  sternledger verify
  sternledger verify --format json`,
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if (signature == "") != (signer == "") || signature != "" && seal == "" {
				return usage("--signature goes with --signer and --seal")
			}
			return s.inEngagement(cmd, func(e *custody.Engagement) error {
				v, err := e.Verify()
				if err != nil {
					return err
				}
				if seal != "" && len(v.Failures) == 0 {
					if err := e.CompareSeal(v, seal); err != nil {
						return usage("%v", err)
					}
				}
				if signature != "" {
					if err := custody.CheckSignature(v, seal, signature, signer); err != nil {
						return err
					}
				}
				err = s.print(cmd, output{
					text:     func(sheet *page.Sheet) error { return page.Verified(sheet, v) },
					rows:     func() *page.Rows { return page.VerifiedRows(v) },
					document: func() any { return v.Document() },
				})
				if err == nil && len(v.Failures) > 0 {
					err = fmt.Errorf("verification failed: %s", firstFailure(v))
				}
				return err
			})
		},
	}
	cmd.Flags().StringVar(&seal, "seal", "", "compare this seal, as \"sternledger seal\" printed it")
	cmd.Flags().StringVar(&signature, "signature", "", "file with the signature on the seal")
	cmd.Flags().StringVar(&signer, "signer", "", "file with the public key (OpenSSH) that must have signed")
	s.addFormat(cmd)
	return cmd
}

func firstFailure(v *custody.Verified) string {
	if f := v.Failures[0]; f.Entry > 0 {
		return fmt.Sprintf("entry %d: %s", f.Entry, f.Text)
	}
	return v.Failures[0].Text
}

func newSeal(s *shared) *cobra.Command {
	var key, to string
	cmd := &cobra.Command{
		Use:   "seal",
		Short: "Print a short fingerprint of the ledger, to sign, mail or write down",
		Long: `Prints the seal: the number of the last entry and 80 bits of its hash, which
stands for everything in the ledger up to it. Kept elsewhere, in a mail, in a
report, on paper, it proves later, with "sternledger verify --seal", that nothing
was altered or removed.

--sign signs it with an Ed25519 key in OpenSSH's format, and writes the signature
as OpenSSH does; "ssh-keygen -Y verify -n sternledger" checks it too.`,
		Example: `  sternledger seal`,
		Args:    none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if (key == "") != (to == "") {
				return usage("--sign goes with --to, the file for the signature")
			}
			return s.inEngagement(cmd, func(e *custody.Engagement) error {
				seal, err := e.Seal()
				if err != nil {
					return err
				}
				if key != "" {
					signature, err := custody.SignSeal(seal, key, func() ([]byte, error) {
						in, ok := cmd.InOrStdin().(*os.File)
						if !ok || !term.IsTerminal(int(in.Fd())) {
							return nil, fmt.Errorf("the key has a passphrase; run on a terminal")
						}
						fmt.Fprint(cmd.ErrOrStderr(), "Passphrase of the key: ")
						word, err := term.ReadPassword(int(in.Fd()))
						fmt.Fprintln(cmd.ErrOrStderr())
						return word, err
					})
					if err != nil {
						return err
					}
					if err := writeNew(to, signature); err != nil {
						return fmt.Errorf("--to: %w", err)
					}
				}
				_, err = fmt.Fprintln(cmd.OutOrStdout(), seal)
				return err
			})
		},
	}
	cmd.Flags().StringVar(&key, "sign", "", "sign with this private key")
	cmd.Flags().StringVar(&to, "to", "", "write the signature to this file, which must not exist")
	return cmd
}

// writeNew writes a file that must not exist yet.
func writeNew(name string, data []byte) error {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	if _, err := f.Write(data); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}
