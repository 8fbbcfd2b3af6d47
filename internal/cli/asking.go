package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"sternledger/docs"
	"sternledger/internal/assess"
	"sternledger/internal/contract"
	"sternledger/internal/custody"
	"sternledger/internal/page"
)

func newAsk(s *shared) *cobra.Command {
	var owner, to string
	var replace bool
	cmd := &cobra.Command{
		Use:   "ask",
		Short: "What to ask whom for: what never came, what lacks, what is too old",
		Long: `Lists, owner by owner, what the engagement still waits for: places that it expects
and nothing came of, what lacks in what came (what the findings of kind missing
wait for), and what is older than the engagement allows. The evidence is judged as
it is now; nothing is recorded. After the next gather only what lacks then is left.

Owners stand in engagement.yaml (authorities: NAME: {owner: NAME}), and so does what
is expected (expect:). --to DIR writes a letter for each owner, with the pages that
tell how to export.`,
		Example: `  sternledger ask
  sternledger ask --to letters
  sternledger ask --format csv`,
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return s.inEngagement(cmd, func(e *custody.Engagement) error {
				d, err := assess.Asking(e, owner)
				if err != nil {
					return err
				}
				if owner != "" && len(d.Owners) == 0 {
					return usage("--for %q: engagement.yaml gives no place to that owner", owner)
				}
				if to == "" {
					return s.print(cmd, output{
						text:     func(sheet *page.Sheet) error { return page.Asking(sheet, d) },
						rows:     func() *page.Rows { return page.AskRows(d) },
						document: func() any { return d },
					})
				}
				letters := letters(e, d, to)
				if err := os.MkdirAll(to, 0o755); err != nil {
					return fmt.Errorf("ask --to %s: %w", to, custody.Cause(err))
				}
				if err := custody.WriteFiles(letters, replace); err != nil {
					return err
				}
				if !s.quiet {
					fmt.Fprintf(cmd.OutOrStdout(), "%s in %s.\n", page.Quantity(len(letters), "letter"), page.Clean(to))
				}
				return nil
			})
		},
	}
	cmd.Flags().StringVar(&owner, "for", "", "only what this owner is asked for, as engagement.yaml names them")
	cmd.Flags().StringVar(&to, "to", "", "write a letter for each owner into this folder")
	cmd.Flags().BoolVar(&replace, "replace", false, "take the place of files that exist")
	s.addFormat(cmd)
	return cmd
}

// letters are those to the owners of whom something is asked.
func letters(e *custody.Engagement, d *contract.AskDocument, to string) (all []custody.Output) {
	taken := map[string]bool{}
	for i := range d.Owners {
		o := &d.Owners[i]
		if len(o.Places) == 0 {
			continue
		}
		text := page.AskLetter(e.Config.Title, e.Config.Auditor, o)
		for _, a := range docs.Asks() {
			if slices.ContainsFunc(o.Places, func(p contract.AskPlaceDocument) bool { return slices.Contains(p.Exports, a.Kind) }) {
				text += "\n" + plain(a.Page)
			}
		}
		all = append(all, custody.Output{File: filepath.Join(to, letterName(page.OwnerText(o.Owner), taken)),
			Write: func(w io.Writer) error { _, err := io.WriteString(w, text); return err }})
	}
	return all
}

// unsafe is what no file's name should hold on any system.
var unsafe = regexp.MustCompile(`[^\pL\pN]+`)

// letterName is the name of an owner's letter, in a form that every system takes.
func letterName(owner string, taken map[string]bool) string {
	const longest = 60
	name := strings.ToLower(strings.Trim(unsafe.ReplaceAllString(owner, "-"), "-"))
	if runes := []rune(name); len(runes) > longest {
		name = string(runes[:longest])
	}
	if name == "" {
		name = "owner"
	}
	base := name
	for n := 2; taken[name]; n++ {
		name = fmt.Sprintf("%s-%d", base, n)
	}
	taken[name] = true
	return name + ".txt"
}
