// Command compare reads an export with the common Go LDIF package, as the
// yardstick for our own reader. It is a module of its own, so that the program
// does not depend on the package.
package main

import (
	"fmt"
	"os"
	"time"

	"github.com/go-ldap/ldif"
)

func main() {
	started := time.Now()
	f, err := os.Open(os.Args[1])
	if err == nil {
		var l ldif.LDIF
		if err = ldif.Unmarshal(f, &l); err == nil {
			fmt.Printf("%.2f %d\n", time.Since(started).Seconds(), len(l.Entries))
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "compare:", err)
		os.Exit(1)
	}
}
