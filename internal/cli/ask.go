package cli

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"sternledger/docs"
	"sternledger/internal/collect"
)

func askKinds() []string {
	var kinds []string
	for _, a := range docs.Asks() {
		kinds = append(kinds, a.Kind)
	}
	return kinds
}

// askFor prints the page that asks an administrator for an export: as text to mail,
// or in Markdown. account, if not empty, is who is going to ask.
func (s *shared) askFor(cmd *cobra.Command, kind, account string) error {
	all := docs.Asks()
	i := slices.IndexFunc(all, func(a docs.Ask) bool { return a.Kind == kind })
	if i < 0 {
		return usage("--ask %q is no kind of export; expected %s", kind, strings.Join(askKinds(), ", "))
	}
	page := all[i].Page
	if kind == "live" {
		page += "\n" + collect.AskedLive()
		if account != "" {
			page = strings.Replace(page, "- Account: an ordinary", "- Account: "+account+", an ordinary", 1)
		}
	}
	if s.format != "markdown" {
		page = plain(page)
	}
	_, err := fmt.Fprint(cmd.OutOrStdout(), page)
	return err
}

var marks = regexp.MustCompile("`|\\*\\*")

// plain is a page without the marks of Markdown: commands are indented, and everything
// else is broken to fit a mail.
func plain(page string) string {
	var b strings.Builder
	command := false
	for line := range strings.Lines(page) {
		line = strings.TrimRight(line, "\n")
		switch {
		case strings.HasPrefix(line, "```"):
			command = !command
		case command:
			b.WriteString("    " + line + "\n")
		case strings.HasPrefix(line, "### "):
			_, title, _ := strings.Cut(line, ": ")
			title = strings.ToUpper(title[:1]) + title[1:]
			b.WriteString(title + "\n" + strings.Repeat("-", len(title)) + "\n")
		default:
			hang := ""
			if strings.HasPrefix(line, "- ") {
				hang = "  "
			}
			b.WriteString(broken(marks.ReplaceAllString(line, ""), hang) + "\n")
		}
	}
	return b.String()
}

// broken breaks a line at spaces.
func broken(line, hang string) string {
	const width = 76
	var b strings.Builder
	at := 0
	for i, word := range strings.Fields(line) {
		switch {
		case i == 0:
		case at+1+len(word) > width:
			b.WriteString("\n" + hang)
			at = len(hang)
		default:
			b.WriteString(" ")
			at++
		}
		b.WriteString(word)
		at += len(word)
	}
	return b.String()
}
