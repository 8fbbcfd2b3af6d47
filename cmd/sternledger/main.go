// Command sternledger audits password and lockout settings.

// Directory servers make their own certificates, and some give them a negative
// serial number, which Go refuses to read otherwise.
//
//go:debug x509negativeserial=1
package main

import (
	"os"

	"sternledger/internal/cli"
)

func main() {
	os.Exit(cli.Run(os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}
