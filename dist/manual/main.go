// Command manual writes the manual's pages (section 1), one for each command, from
// the commands' own help. A release has them beside the programs, which need no
// package for it.
//
//	go run ./dist/manual DIR
package main

import (
	"log"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"sternledger/internal/cli"
	"sternledger/internal/custody"
)

func main() {
	log.SetFlags(0)
	if len(os.Args) != 2 {
		log.Fatal("name one folder: it is made if it is not there")
	}
	if err := write(os.Args[1]); err != nil {
		log.Fatal(err)
	}
}

// released is the date on the pages, so that they come out the same whenever they
// are written.
var released = time.Date(2026, time.November, 23, 0, 0, 0, 0, time.UTC)

func write(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	root := cli.New()
	root.DisableAutoGenTag = true
	layOut(root)
	return doc.GenManTree(root, &doc.GenManHeader{Title: "STERNLEDGER", Section: "1", Date: &released,
		Source: "Stern Ledger " + custody.Version, Manual: "Stern Ledger"}, dir)
}

// layOut keeps the tables of the help as they are: what is indented there is set
// apart, so that the pages do not fill it into paragraphs.
func layOut(cmd *cobra.Command) {
	var out []string
	inTable := false
	for _, line := range strings.Split(cmd.Long, "\n") {
		indented := strings.HasPrefix(line, "  ")
		if indented != inTable && line != "" {
			out = append(out, "")
			inTable = indented
		}
		if indented {
			line = "    " + line
		}
		out = append(out, line)
	}
	cmd.Long = strings.Join(out, "\n")
	for _, sub := range cmd.Commands() {
		layOut(sub)
	}
}
