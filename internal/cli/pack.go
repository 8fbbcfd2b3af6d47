package cli

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"strings"

	"filippo.io/age"
	"filippo.io/age/agessh"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"sternledger/internal/custody"
	"sternledger/internal/page"
)

// packVariable holds the passphrase of a packed engagement, for scripts.
const packVariable = "STERNLEDGER_PACK_PASSPHRASE"

func newPack(s *shared) *cobra.Command {
	var recipients []string
	var recipientFiles []string
	var passphrase bool
	cmd := &cobra.Command{
		Use:   "pack FILE.zip",
		Short: "The engagement as one file to hand over",
		Long: `Verifies the engagement and writes it as one file: a bag as RFC 8493 (BagIt) has
it, in a zip archive, with the SHA-256 of every file: engagement.yaml, the ledger,
the evidence, own baselines and field maps. "sternledger begin DIR --from FILE"
proves and unpacks it.

Evidence is confidential. --recipient encrypts the file for the holder of a key,
--passphrase for whoever knows it, both in the format of age, version 1, whose own
command opens it too. A recipient is "age1…", or a public key of OpenSSH.`,
		Example: `  sternledger pack harbour-2026.zip`,
		Args:    words(1, 1, "one file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			to, err := readRecipients(recipients, recipientFiles)
			if err != nil {
				return err
			}
			if passphrase {
				if len(to) > 0 {
					return usage("--passphrase and --recipient exclude each other (the format has it so)")
				}
				word, err := askPassphrase(cmd, true)
				if err != nil {
					return err
				}
				locked, err := age.NewScryptRecipient(word)
				if err != nil {
					return err
				}
				to = append(to, locked)
			}
			return s.inEngagement(cmd, func(e *custody.Engagement) error {
				p, err := e.Pack(args[0], custody.PackOptions{Recipients: to})
				if err != nil {
					return err
				}
				if !s.quiet {
					how := "Not encrypted: do that before it travels (--recipient, --passphrase)."
					if p.Encrypted {
						how = "Encrypted (age, version 1)."
					}
					fmt.Fprintf(cmd.OutOrStdout(), "Packed in %s: %s, %s bytes. %s\nThe seal is %s\n", p.File, page.Quantity(p.Files, "file"),
						page.Grouped(int(p.Size)), how, p.Seal)
				}
				return nil
			})
		},
	}
	cmd.Flags().StringArrayVar(&recipients, "recipient", nil, "encrypt for this public key; may be given again")
	cmd.Flags().StringArrayVar(&recipientFiles, "recipients-file", nil, "encrypt for the public keys in this file, one a line")
	cmd.Flags().BoolVar(&passphrase, "passphrase", false, "encrypt with a passphrase, from a prompt or "+packVariable)
	return cmd
}

// readRecipients reads public keys, of the command line and of files.
func readRecipients(keys, files []string) ([]age.Recipient, error) {
	var all []age.Recipient
	add := func(where, key string) error {
		var r age.Recipient
		var err error
		if strings.HasPrefix(key, "ssh-") {
			r, err = agessh.ParseRecipient(key)
		} else {
			var found []age.Recipient
			if found, err = age.ParseRecipients(strings.NewReader(key)); err == nil {
				r = found[0]
			}
		}
		if err != nil {
			return fmt.Errorf("%s: no public key that can be encrypted for; expected age1…, ssh-ed25519 … or ssh-rsa …", where)
		}
		all = append(all, r)
		return nil
	}
	for _, key := range keys {
		if err := add("--recipient "+key, key); err != nil {
			return nil, err
		}
	}
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			return nil, fmt.Errorf("--recipients-file: %w", err)
		}
		n := 0
		for line := range strings.Lines(string(data)) {
			n++
			if line = strings.TrimSpace(line); line == "" || strings.HasPrefix(line, "#") {
				continue
			}
			if err := add(fmt.Sprintf("--recipients-file %s:%d", file, n), line); err != nil {
				return nil, err
			}
		}
	}
	return all, nil
}

// opening is how an encrypted engagement is opened.
type opening struct{ identityFiles []string }

func (o *opening) addFlags(cmd *cobra.Command) {
	cmd.Flags().StringArrayVar(&o.identityFiles, "identity", nil, "open it with the private key in this `FILE`: of age, or of OpenSSH")
}

// identities reads the keys, or asks for the passphrase.
func (o *opening) identities(cmd *cobra.Command) func(passphrase bool) ([]age.Identity, error) {
	return func(passphrase bool) ([]age.Identity, error) {
		if passphrase {
			word, err := askPassphrase(cmd, false)
			if err != nil {
				return nil, err
			}
			key, err := age.NewScryptIdentity(word)
			return []age.Identity{key}, err
		}
		if len(o.identityFiles) == 0 {
			return nil, errors.New("it is encrypted for a key; name the private one with --identity FILE")
		}
		var all []age.Identity
		for _, file := range o.identityFiles {
			data, err := os.ReadFile(file)
			if err != nil {
				return nil, fmt.Errorf("--identity: %w", err)
			}
			if bytes.Contains(data, []byte("PRIVATE KEY-----")) {
				key, err := agessh.ParseIdentity(data)
				if err != nil {
					return nil, fmt.Errorf("--identity %s: expected a key of OpenSSH without a passphrase", file)
				}
				all = append(all, key)
				continue
			}
			keys, err := age.ParseIdentities(bytes.NewReader(data))
			if err != nil {
				return nil, fmt.Errorf("--identity %s: expected lines that begin with AGE-SECRET-KEY-", file)
			}
			all = append(all, keys...)
		}
		return all, nil
	}
}

// askPassphrase takes a packed engagement's passphrase from the variable, else
// from the terminal; a new one twice.
func askPassphrase(cmd *cobra.Command, fresh bool) (string, error) {
	if word, ok := os.LookupEnv(packVariable); ok {
		if word == "" {
			return "", fmt.Errorf("%s is empty", packVariable)
		}
		return word, nil
	}
	in, ok := cmd.InOrStdin().(*os.File)
	if !ok || !term.IsTerminal(int(in.Fd())) {
		return "", fmt.Errorf("no passphrase: set %s, or run on a terminal", packVariable)
	}
	ask := func(prompt string) (string, error) {
		fmt.Fprint(cmd.ErrOrStderr(), prompt)
		word, err := term.ReadPassword(int(in.Fd()))
		fmt.Fprintln(cmd.ErrOrStderr())
		return string(word), err
	}
	word, err := ask("Passphrase of the packed engagement: ")
	if err != nil || !fresh {
		return word, err
	}
	again, err := ask("The same again: ")
	if err == nil && (again != word || word == "") {
		err = errors.New("the two are not the same, or empty; nothing was packed")
	}
	return word, err
}
