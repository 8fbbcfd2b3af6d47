package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"sternledger/internal/collect"
	"sternledger/internal/custody"
	"sternledger/internal/page"
)

func newGather(s *shared) *cobra.Command {
	var withGaps, sheetTemplate, strict, keepAll, directoryOnly bool
	var lessIsRight, ask string
	var login login
	cmd := &cobra.Command{
		Use:   "gather SOURCE…",
		Short: "Take exports into evidence",
		Long: `Takes exports into evidence: files, or whole folders. The format of each file
is recognised by its content. What is taken is copied under evidence/, line for
line, with secrets struck out and without the values that no rule needs; the facts
found go into the ledger: all of it, or, when anything fails, nothing.

A file that says again what is current, of the same place and no newer, is
passed over. A newer export of the same domain or machine takes the place of the
older one, which stays on record; an export of a part of a domain is joined to
what is on record. One that holds less than what it takes the place of is told,
and never taken for proof that the rest is gone (--less-is-right).

A directory is read live by its address: ldap://HOST with --kerberos (by ticket,
keytab, password, or on Windows your own sign-in; sealed), ldaps://HOST[/BASE] or
ldap:// with StartTLS by name and password. With a Windows domain its policy store is
read, too, from the share sysvol; with --forest the other domains. All of it only
reads, is written as evidence, and is then read like an export and a copied store.
--ask live prints exactly what is asked for. The password comes from a prompt, a
file, or the variable STERNLEDGER_PASSWORD, never from the command line. A cloud
tenant is read live by https://HOST and its field map (--map). A token comes from
STERNLEDGER_TOKEN; or one is got with STERNLEDGER_CLIENT_ID and either
STERNLEDGER_CLIENT_SECRET or STERNLEDGER_CLIENT_KEY, the file of a private key. Each
reply is kept as evidence.

Known formats: a directory's export in LDIF or CSV; what the directory's shell
module prints, as list, table, CSV, JSON or CLIXML; security templates in INF, from
a policy store, a policy backup or a machine's own export (the machine is named
after the file); reports of the group-policy console in XML, and resultant reports
of machines; what net accounts prints; a Unix machine's etc tree (the machine is named after the
folder or archive that holds etc); a tenant's exports in JSON or CSV, in a
folder of their own, by field maps (docs/field-maps.md); and, for what has no
export, a sheet of settings that somebody read off, in CSV or YAML
(docs/sheets.md). Archives (tar, zip) are looked into. What is recognised and not
read is named, with what to ask for instead. --ask prints a page to mail to an
administrator, with the command that makes the export.`,
		Example: `  sternledger gather marrowick.ldif
  sternledger gather exports/ --format json
  sternledger gather gates.tar.gz
  sternledger -C harbour-2026 gather weighbridge.inf --with-gaps
  sternledger gather --ask live --bind auditor@marrowick.example
  sternledger gather --ask domain > mail.txt
  sternledger gather --sheet-template > sheet.csv`,
		Args: func(cmd *cobra.Command, args []string) error {
			if sheetTemplate || ask != "" {
				return none(cmd, args)
			}
			return words(1, unbounded, "exports: files, folders, archives or servers; --ask KIND says how to obtain them")(cmd, args)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if sheetTemplate {
				return collect.SheetTemplate(cmd.OutOrStdout())
			}
			if ask != "" {
				return s.askFor(cmd, ask, login.how.Bind)
			}
			return s.inEngagement(cmd, func(e *custody.Engagement) error {
				how, tickets, err := login.options()
				if err != nil {
					return err
				}
				by, err := login.credentials()
				if err != nil {
					return err
				}
				g, err := collect.Gather(e, args, collect.GatherOptions{WithGaps: withGaps, LessIsRight: lessIsRight, KeepAll: keepAll,
					Live: how, Tickets: tickets, DirectoryOnly: directoryOnly, Password: login.password(cmd),
					Map: login.tenantMap, Hosts: login.hosts, Credentials: by,
					Progress: s.progress(cmd.ErrOrStderr())})
				if err != nil {
					return err
				}
				if s.quiet { // a loss is told all the same
					for _, l := range g.Lost {
						fmt.Fprintf(cmd.ErrOrStderr(), "%s %s, %s: %d now, %d before\n", l.Place.Kind, page.Clean(l.Place.Name), l.What, l.Now, l.Before)
					}
				} else {
					err = s.print(cmd, output{
						text:     func(sheet *page.Sheet) error { return page.Gathered(sheet, g, s.verbose) },
						rows:     func() *page.Rows { return page.GatheredRows(g) },
						document: func() any { return g.Document() },
					})
				}
				if n := len(g.Document().PassedOver); err == nil && strict && n > 0 {
					return &statusError{exitPassedOver, fmt.Errorf("--strict: %s passed over", page.Quantity(n, "file"))}
				}
				return err
			})
		},
	}
	cmd.Flags().BoolVar(&withGaps, "with-gaps", false, "take evidence with values that no platform could hold; they are then missing")
	cmd.Flags().BoolVar(&keepAll, "keep-all", false, "also keep in the stored copies what no rule needs; secrets are still struck out")
	cmd.Flags().BoolVar(&strict, "strict", false, "end with status 4 where a file was passed over")
	cmd.Flags().StringVar(&lessIsRight, "less-is-right", "",
		"take evidence that holds less than what is on record as right, for this `REASON`, which is recorded")
	cmd.Flags().BoolVar(&sheetTemplate, "sheet-template", false, "write an empty sheet with every setting and its meaning, and stop")
	cmd.Flags().StringVar(&ask, "ask", "", "print a page that asks an administrator for one `KIND` of export, and stop: domain, machine, "+
		"unix, ldap, tenant, live")
	_ = cmd.RegisterFlagCompletionFunc("ask", func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return askKinds(), cobra.ShellCompDirectiveNoFileComp
	})
	cmd.Flags().BoolVar(&directoryOnly, "directory-only", false, "leave the policy store of a domain that is read live")
	login.addFlags(cmd)
	s.addFormat(cmd)
	return cmd
}

// progress returns a bar for a terminal that shows itself after a second, or
// nil.
func (s *shared) progress(w io.Writer) func(path string, done, total int64) {
	f, ok := w.(*os.File)
	if s.quiet || !ok || !term.IsTerminal(int(f.Fd())) {
		return nil
	}
	started := time.Now()
	var bar *progressbar.ProgressBar
	current := ""
	return func(path string, done, total int64) {
		if time.Since(started) < time.Second {
			return
		}
		if path != current || bar == nil {
			current = path
			bar = progressbar.NewOptions64(total, progressbar.OptionSetWriter(w), progressbar.OptionShowBytes(total > 0),
				progressbar.OptionSetDescription(page.Clean(filepath.Base(path))), progressbar.OptionSetWidth(30),
				progressbar.OptionThrottle(100*time.Millisecond), progressbar.OptionClearOnFinish())
		}
		_ = bar.Set64(done)
	}
}
