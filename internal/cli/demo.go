package cli

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"sternledger/demo"
	"sternledger/internal/custody"
)

func newDemo(s *shared) *cobra.Command {
	return &cobra.Command{
		Use:   "demo [DIR]",
		Short: "Write the sample engagement and run the whole job on it",
		Long: `Writes the sample exports of the Marrowick Harbour Authority, which does not
exist, into DIR or a new temporary folder, and does the whole job on them, step
by step, each step shown as the command that you would type.`,
		Example: `  sternledger demo
  sternledger demo harbour`,
		Args: words(0, 1, "one folder"),
		RunE: func(cmd *cobra.Command, args []string) error {
			dir := ""
			if len(args) == 1 {
				dir = args[0]
				if found, err := os.ReadDir(dir); err == nil && len(found) > 0 {
					return fmt.Errorf("demo %s: the folder is not empty; choose a new one, so that nothing of yours is overwritten", dir)
				}
			} else {
				made, err := os.MkdirTemp("", "sternledger-demo-")
				if err != nil {
					return err
				}
				dir = made
			}
			return s.demo(cmd, dir)
		},
	}
}

// demo writes the sample into dir and plays the auditor.
func (s *shared) demo(cmd *cobra.Command, dir string) error {
	out := cmd.OutOrStdout()
	exports, audit := filepath.Join(dir, "exports"), filepath.Join(dir, "audit")
	later := filepath.Join(dir, "later")
	for from, to := range map[string]string{"exports": exports, "later": later} {
		if err := copyOut(from, to); err != nil {
			return err
		}
	}
	fmt.Fprintf(out, "The exports of the Marrowick Harbour Authority lie in %s.\n", exports)
	steps := []struct {
		say  string
		args []string
	}{
		{"An engagement is one folder.", []string{"begin", audit, "--title", "Marrowick Harbour Authority, autumn review", "--auditor",
			"R. Quill"}},
		{"All exports are taken into evidence.", []string{"-C", audit, "gather", exports}},
		{"", []string{"-C", audit, "gather", filepath.Join(later, "wednesday"), "--quiet"}},
		{"On Wednesday a machine was mended; what came on Friday says that it fell back, and that somebody with fewer rights made an export.",
			[]string{"-C", audit, "gather", filepath.Join(later, "friday"), "--quiet"}},
		{"Who governs Winifred Lowe, a watch officer?", []string{"-C", audit, "trace", "w.lowe"}},
		{"And where does the authority fall short, and what comes first?", []string{"-C", audit, "weigh"}},
		{"The report, for people and as a working paper.", []string{"-C", audit, "report", "--to", filepath.Join(dir, "report.html"),
			"--to", filepath.Join(dir, "working-paper.xlsx")}},
	}
	for i, step := range steps {
		if step.say != "" {
			fmt.Fprintf(out, "\n%s\n", step.say)
		}
		if slices.Contains(step.args, "--quiet") {
			fmt.Fprintf(out, "\n  $ sternledger %s\n", shellWords(step.args))
		} else {
			fmt.Fprintf(out, "\n  $ sternledger %s\n\n", shellWords(step.args))
		}
		again := New()
		again.SetArgs(append(step.args, s.passedOn()...))
		again.SetIn(cmd.InOrStdin())
		again.SetOut(out)
		again.SetErr(cmd.ErrOrStderr())
		if err := again.ExecuteContext(cmd.Context()); err != nil {
			return err
		}
		if i == 0 {
			data, err := demo.Files.ReadFile(custody.ConfigName)
			if err != nil {
				return err
			}
			if err := os.WriteFile(filepath.Join(audit, custody.ConfigName), data, 0o600); err != nil {
				return err
			}
			fmt.Fprintf(out, "(The sample's own %s, with its tiers, was put in place.)\n", custody.ConfigName)
		}
	}
	fmt.Fprintf(out, `
The exports lie in %s, the report beside them, the engagement in %s:
%s says what it is about, evidence/ holds the stored copies that
every verdict cites by line, ledger.db records each step.

Try next:
  cd %s
  sternledger scopes; sternledger weigh --matter M1; sternledger verify
  sternledger forecast; sternledger probe --patterns
  sternledger waive --matter M1 --place gate3 --until 2027-06-30 --reason "Rebuilt in spring"
`, exports, audit, custody.ConfigName, shellWords([]string{audit}))
	return nil
}

// passedOn are the flags of demo that its steps get too.
func (s *shared) passedOn() []string {
	var flags []string
	if s.noColour {
		flags = append(flags, "--no-colour")
	}
	if s.verbose {
		flags = append(flags, "--verbose")
	}
	return flags
}

// shellWords writes arguments as one would type them.
func shellWords(args []string) string {
	words := make([]string, len(args))
	for i, a := range args {
		words[i] = a
		if runtime.GOOS == "windows" { // a backslash is a path's
			if strings.ContainsAny(a, " '&;()<>|*?,") {
				words[i] = `"` + a + `"`
			}
			continue
		}
		if strings.ContainsAny(a, " '\"\\$&;()<>|*?") {
			words[i] = "'" + strings.ReplaceAll(a, "'", `'\''`) + "'"
		}
	}
	return strings.Join(words, " ")
}

// copyOut writes a folder of the sample to disk, as old as it is meant to be.
func copyOut(root, to string) error {
	return fs.WalkDir(demo.Files, root, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		target := filepath.Join(to, filepath.FromSlash(strings.TrimPrefix(name, root)))
		if d.IsDir() {
			return os.MkdirAll(target, 0o755)
		}
		data, err := demo.Files.ReadFile(name)
		if err != nil {
			return err
		}
		if err := os.WriteFile(target, data, 0o644); err != nil {
			return err
		}
		if written, ok := demo.Written[name]; ok {
			return os.Chtimes(target, written, written)
		}
		return nil
	})
}
