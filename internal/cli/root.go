// Package cli is the command line: flags in, one use case called, rows out.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"sternledger/internal/assess"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/custody"
	"sternledger/internal/page"
	"sternledger/internal/terminal"
)

// Exit statuses.
const (
	exitFailed     = 1
	exitUsage      = 2
	exitFailOn     = 3 // weigh --fail-on met a finding
	exitPassedOver = 4 // gather --strict passed a file over

	exitInterrupted = 130 // Ctrl-C
	exitTerminated  = 143 // told to end in another way
)

// statusError is an error with an exit status of its own.
type statusError struct {
	status int
	err    error
}

func (e *statusError) Error() string { return e.err.Error() }
func (e *statusError) Unwrap() error { return e.err }

func usage(format string, args ...any) error {
	return &statusError{exitUsage, fmt.Errorf(format, args...)}
}

// Run runs the program and returns its exit status.
func Run(args []string, in io.Reader, out, errs io.Writer) int {
	ctx, done := untilStopped(errs)
	defer done()
	root := New()
	root.SetArgs(args)
	root.SetIn(in)
	none := &noOutput{}
	if f, ok := out.(*os.File); ok && closed(f) {
		out = none
	}
	root.SetOut(out)
	root.SetErr(errs)
	err := root.ExecuteContext(ctx)
	if err == nil && none.asked { // as help, which does not look
		err = errNoOutput
	}
	if err == nil {
		return 0
	}
	if why := stoppedBy(ctx); why != nil {
		fmt.Fprintln(errs, "sternledger: "+why.Error())
		return why.status()
	}
	fmt.Fprintln(errs, "sternledger: "+cleanLines(err.Error()))
	var status *statusError
	if errors.As(err, &status) {
		if status.status == exitUsage {
			fmt.Fprintln(errs, "try \"sternledger --help\", or --help behind the command")
		}
		return status.status
	}
	return exitFailed
}

// noOutput is standard output where it was closed.
type noOutput struct{ asked bool }

var errNoOutput = errors.New("standard output is closed: nobody could read what was asked for; redirect it to a file, or say --to where a " +
	"command has it")

func (n *noOutput) Write([]byte) (int, error) {
	n.asked = true
	return 0, errNoOutput
}

// What of an address nobody else must see: a name and password in it, and what stands
// behind ? or #.
var (
	namedInAddress = regexp.MustCompile(`(\b\w+://)[^\s/@"]*@`)
	behindAddress  = regexp.MustCompile(`(\b\w+://[^\s?#"]*[?#])[^\s"]*`)
)

// cleanLines makes an error safe to print: it may quote a hostile file, or an address with
// a secret.
func cleanLines(text string) string {
	text = namedInAddress.ReplaceAllString(behindAddress.ReplaceAllString(text, "$1…"), "$1…@")
	lines := strings.Split(text, "\n")
	for i := range lines {
		lines[i] = page.Clean(lines[i])
	}
	return strings.Join(lines, "\n")
}

// shared are the flags that every command has.
type shared struct {
	dir      string
	format   string
	quiet    bool
	verbose  bool
	noColour bool
	noPager  bool
	age      *string // of the evidence that what is drawn rests on; nil before an engagement is open
}

// New returns the root command with all others below it.
func New() *cobra.Command {
	s, version := &shared{}, false
	root := &cobra.Command{
		Use:   "sternledger",
		Short: "Which password and lockout settings govern each account, and where they fall short",
		Long: `Stern Ledger audits password and lockout settings. It reads what each place
exports, works out which settings really govern each account, compares them
with baselines, and says what is weak, conflicting or missing for each account
scope, with the line of evidence behind every verdict.

It works on files, needs no network, and never writes to what it audits.`,
		Example: `  sternledger demo                              see the whole job on sample data
  sternledger begin harbour-2026                start an engagement folder
  sternledger -C harbour-2026 gather exports/   take exports into evidence
  sternledger -C harbour-2026 scopes            what governs whom
  sternledger -C harbour-2026 trace w.lowe      why a policy governs an account
  sternledger -C harbour-2026 weigh             compare with the baselines
  sternledger -C harbour-2026 report --to harbour.html   write the report`,
		SilenceUsage:  true,
		SilenceErrors: true,
		Args:          cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case version:
				_, err := fmt.Fprintln(cmd.OutOrStdout(), versionText())
				return err
			case len(args) == 0:
				return cmd.Help()
			}
			return unknownCommand(cmd, args[0])
		},
		SuggestionsMinimumDistance: 2,
	}
	flags := root.PersistentFlags()
	flags.StringVarP(&s.dir, "engagement", "C", "", "the engagement folder (else the variable "+engagementVariable+
		", else this folder or one above it)")
	flags.BoolVar(&s.quiet, "quiet", false, "print results only, no progress")
	flags.BoolVar(&s.verbose, "verbose", false, "print lists in full")
	flags.BoolVar(&s.noColour, "no-colour", false, "print without colours (also: the variable NO_COLOR)")
	flags.BoolVar(&s.noPager, "no-pager", false, "print long pages at once, not through the variable PAGER")
	// Not by cobra: it prints by a template, docs/architecture.md.
	root.Flags().BoolVarP(&version, "version", "v", false, "print the program's version")
	root.SetFlagErrorFunc(flagError)
	// In the order of the work.
	for _, g := range []struct {
		title    string
		commands []*cobra.Command
	}{
		{"Collect:", []*cobra.Command{newBegin(s), newAsk(s), newGather(s), newSetAside(s), newFieldMap(s)}},
		{"See who is governed by what:", []*cobra.Command{newScopes(s), newAccounts(s), newTrace(s)}},
		{"Weigh, and give the figures:", []*cobra.Command{newWeigh(s), newForecast(s), newProbe(s), newRehearse(s), newBaseline(s)}},
		{"Repair, report, accept, come back:", []*cobra.Command{newAmend(s), newRequirements(s), newReport(s), newWaive(s), newDrift(s)}},
		{"The ledger:", []*cobra.Command{newEntries(s), newVerify(s), newSeal(s), newPack(s), newRetire(s)}},
		{"Learn and look up:", []*cobra.Command{newDemo(s), newChecks(s), newSettings(s), newSchema(), newStandIn(s), newVersion()}},
	} {
		root.AddGroup(&cobra.Group{ID: g.title, Title: g.title})
		for _, cmd := range g.commands {
			cmd.GroupID = g.title
			root.AddCommand(cmd)
		}
	}
	root.SetHelpCommandGroupID("Learn and look up:")
	root.SetCompletionCommandGroupID("Learn and look up:")
	wrapArgs(root)
	s.complete(root)
	return root
}

func unknownCommand(cmd *cobra.Command, name string) error {
	near := ""
	if found := cmd.SuggestionsFor(name); len(found) > 0 {
		near = fmt.Sprintf("; the nearest is %q", found[0])
	}
	return usage("unknown command %q%s", name, near)
}

// flagError names the nearest option where one is near.
func flagError(cmd *cobra.Command, err error) error {
	var unknown *pflag.NotExistError
	if !errors.As(err, &unknown) || len(unknown.GetSpecifiedName()) < 2 {
		return usage("%s: %w", cmd.CommandPath(), err)
	}
	if args := cmd.Flags().Args(); cmd.Parent() == nil && len(args) > 0 {
		return unknownCommand(cmd, args[0]) // whose options are not known either
	}
	var known []string
	cmd.Flags().VisitAll(func(f *pflag.Flag) { known = append(known, "--"+f.Name) })
	return usage("%s: there is no option --%s; %s", cmd.CommandPath(), unknown.GetSpecifiedName(),
		strictyaml.Hint("--"+unknown.GetSpecifiedName(), known))
}

// unbounded is how many words a command takes that takes as many as there are.
const unbounded = -1

// words says how many words a command takes beside its options, and what they are.
func words(least, most int, what string) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		switch {
		case len(args) < least:
			return fmt.Errorf("expected %s", what)
		case most != unbounded && len(args) > most:
			return fmt.Errorf("%q is one too many; expected %s", args[most], what)
		}
		return nil
	}
}

// none is for commands that take options only.
var none = words(0, 0, "options only")

// wrapArgs makes every complaint about arguments a usage error.
func wrapArgs(cmd *cobra.Command) {
	if check := cmd.Args; check != nil {
		cmd.Args = func(cmd *cobra.Command, args []string) error {
			if err := check(cmd, args); err != nil {
				return usage("%s: %w", cmd.CommandPath(), err)
			}
			return nil
		}
	}
	for _, sub := range cmd.Commands() {
		wrapArgs(sub)
	}
}

// formats are the forms in which a command can print rows.
var formats = []string{"text", "json", "csv", "markdown"}

// addFormat gives a command that prints rows its --format; more are forms that
// only this command has.
func (s *shared) addFormat(cmd *cobra.Command, more ...string) {
	formats := slices.Concat(formats, more)
	cmd.Flags().StringVar(&s.format, "format", "text", strings.Join(formats, ", "))
	_ = cmd.RegisterFlagCompletionFunc("format", cobra.FixedCompletions(formats, cobra.ShellCompDirectiveNoFileComp))
	run := cmd.RunE
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if !slices.Contains(formats, s.format) {
			return usage("--format %q: expected %s", s.format, strings.Join(formats, ", "))
		}
		return run(cmd, args)
	}
}

// output is one result in all its forms; only the one asked for is made.
type output struct {
	text     func(*page.Sheet) error
	rows     func() *page.Rows
	document func() any
}

// print writes a result in the form asked for.
func (s *shared) print(cmd *cobra.Command, o output) error {
	w := cmd.OutOrStdout()
	switch s.format {
	case "json":
		return page.JSON(w, o.document())
	case "csv":
		return o.rows().CSV(plainly(w))
	case "markdown":
		return o.rows().Markdown(w)
	}
	return s.draw(w, o.text)
}

// plainly is where output goes that is not drawn: on a terminal, what it might
// obey is shown instead.
func plainly(w io.Writer) io.Writer {
	if f, ok := w.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		return terminal.Shown(w)
	}
	return w
}

// contextOf is the run's; completion has none.
func contextOf(cmd *cobra.Command) context.Context {
	if ctx := cmd.Context(); ctx != nil {
		return ctx
	}
	return context.Background()
}

// inEngagement runs a use case on the engagement that the flags name.
func (s *shared) inEngagement(cmd *cobra.Command, do func(*custody.Engagement) error) error {
	e, err := custody.Open(contextOf(cmd), s.engagement(), time.Now, assess.Judge)
	if err != nil {
		return err
	}
	defer e.Close()
	s.age = e.Age
	return do(e)
}
