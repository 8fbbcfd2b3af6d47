package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
	"sternledger/internal/custody"
	"sternledger/internal/page"
)

// mostCompletions is how many accounts are offered.
const mostCompletions = 200

// values are those that an option or argument can have, given what is typed so far.
type values func(s *shared, typed string) []string

// byFlag gives the values of options, by name.
var byFlag = map[string]values{
	"scope":        recorded(scopeNames),
	"place":        recorded(placeNames),
	"authority":    recorded(placeNames),
	"policy":       recorded(policyNames),
	"matter":       recorded(matterNames),
	"account":      accountNames,
	"tier":         recorded(tierNames),
	"against":      baselineNames,
	"setting":      func(*shared, string) []string { return settingNames() },
	"only":         fixed(check.Kinds...),
	"fail-on":      fixed(check.Kinds[1:4]...),
	"min-severity": fixed(baseline.Grave, baseline.Serious, baseline.Minor),
	"by":           fixed("scope", "setting"),
}

// byArgument gives the values of commands' arguments.
var byArgument = map[string]values{
	"trace":     accountNames,
	"set-aside": evidenceNames,
	"show":      baselineNames,
	"reconcile": baselineNames,
}

func fixed[T ~string](all ...T) values {
	var words []string
	for _, x := range all {
		words = append(words, string(x))
	}
	return func(*shared, string) []string { return words }
}

// complete gives every option and argument its values, in all shells.
func (s *shared) complete(cmd *cobra.Command) {
	cmd.LocalFlags().VisitAll(func(f *pflag.Flag) {
		if of, ok := byFlag[f.Name]; ok {
			_ = cmd.RegisterFlagCompletionFunc(f.Name, s.completer(of))
		}
	})
	if of, ok := byArgument[cmd.Name()]; ok && cmd.ValidArgsFunction == nil {
		cmd.ValidArgsFunction = s.completer(of)
	}
	for _, sub := range cmd.Commands() {
		s.complete(sub)
	}
}

// completer offers what begins with what is typed. In lists separated by commas, the
// last counts.
func (s *shared) completer(of values) cobra.CompletionFunc {
	return func(_ *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
		before, last := "", typed
		if i := strings.LastIndexByte(typed, ','); i >= 0 {
			before, last = typed[:i+1], typed[i+1:]
		}
		var all []string
		for _, v := range of(s, last) {
			if !strings.HasPrefix(strings.ToLower(v), strings.ToLower(last)) {
				continue
			}
			// A shell prints it: names from evidence are cleaned as on every page.
			name, about, described := strings.Cut(before+v, "\t")
			if name = page.Clean(name); described {
				name += "\t" + page.Clean(about)
			}
			if !slices.Contains(all, name) {
				all = append(all, name)
			}
		}
		return all, cobra.ShellCompDirectiveNoFileComp
	}
}

// recorded takes values from the newest record; none where there is none.
func recorded(of func(*custody.Weighing) []string) values {
	return func(s *shared, _ string) (all []string) {
		s.quietly(func(e *custody.Engagement) {
			if w, err := e.RecallLast(); err == nil && w != nil {
				all = of(w)
			}
		})
		return all
	}
}

func scopeNames(w *custody.Weighing) (all []string) {
	for _, scope := range w.Scopes {
		all = append(all, scope.Name())
	}
	return all
}

func placeNames(w *custody.Weighing) (all []string) {
	for _, a := range w.Places {
		all = append(all, a.Label())
	}
	return all
}

func policyNames(w *custody.Weighing) (all []string) {
	for _, scope := range w.Scopes {
		all = append(all, scope.PolicyName())
	}
	return all
}

func tierNames(w *custody.Weighing) []string {
	all := []string{govern.Standard, govern.Privileged, govern.Service}
	for _, scope := range w.Scopes {
		all = append(all, scope.Tier)
	}
	return all
}

// matterNames offers their names with what they are about, which shells show.
func matterNames(w *custody.Weighing) (all []string) {
	for _, m := range w.Matters() {
		all = append(all, m.Name+"\t"+m.Title)
	}
	return all
}

func settingNames() (all []string) {
	for _, row := range setting.Table() {
		all = append(all, string(row.ID))
	}
	return all
}

func baselineNames(s *shared, _ string) []string {
	if ids, err := custody.OpenLibrary(s.engagement()).IDs(); err == nil {
		return ids
	}
	return custody.ShippedBaselines()
}

// accountNames offers the accounts that begin so.
func accountNames(s *shared, typed string) (all []string) {
	s.quietly(func(e *custody.Engagement) {
		world, err := e.Estate("class", "name")
		if err != nil {
			return
		}
		for _, a := range world.Authorities {
			for row := range a.Objects.Len() {
				name := a.Objects.Name.At(row)
				if a.Objects.ClassOf(row) == estate.Account && strings.HasPrefix(strings.ToLower(name), strings.ToLower(typed)) {
					if all = append(all, name); len(all) == mostCompletions {
						return
					}
				}
			}
		}
	})
	return all
}

// evidenceNames offers stored copies, and the folders of exports that are made of
// several.
func evidenceNames(s *shared, _ string) (all []string) {
	s.quietly(func(e *custody.Engagement) {
		files, err := e.Ledger.Evidence()
		if err != nil {
			return
		}
		for _, f := range files {
			name, _, inside := strings.Cut(f.Name, "/")
			if inside {
				name += "/"
			}
			if !slices.Contains(all, name) {
				all = append(all, name)
			}
		}
	})
	return all
}

// quietly does something with the engagement if there is one; completion has
// nobody to complain to.
func (s *shared) quietly(do func(*custody.Engagement)) {
	cmd := &cobra.Command{}
	_ = s.inEngagement(cmd, func(e *custody.Engagement) error {
		do(e)
		return nil
	})
}
