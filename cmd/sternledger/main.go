// Command sternledger audits password and lockout settings.
package main

import (
	"os"

	"sternledger/internal/cli"
)

func main() {
	os.Exit(cli.Run(os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}
