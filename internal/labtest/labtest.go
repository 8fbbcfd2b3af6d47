// Package labtest is for tests that hold the program against real systems: a
// real directory, a real LDAP server, the real modules of a Unix machine. They
// run where STERNLEDGER_LABS is set, as .ci/run sets it, and then nothing may be
// lacking.
package labtest

import (
	"os"
	"path/filepath"
	"runtime"
	"testing"
)

// Wanted skips the test unless real systems are asked for.
func Wanted(t testing.TB) {
	t.Helper()
	if os.Getenv("STERNLEDGER_LABS") == "" {
		t.Skip("skipped: set STERNLEDGER_LABS to run the tests against real systems; .ci/run installs them")
	}
}

// Lacking says that something is lacking which the test needs. Where real
// systems are asked for, that is a failure.
func Lacking(t testing.TB, format string, args ...any) {
	t.Helper()
	if os.Getenv("STERNLEDGER_LABS") != "" {
		t.Fatalf("STERNLEDGER_LABS is set, and something is lacking: "+format, args...)
	}
	t.Skipf("skipped: "+format, args...)
}

// Script is one of the project's scripts that run real systems (see labs/README.md):
// directory, servers, unix, windows.
func Script(t testing.TB, lab string) string {
	t.Helper()
	_, file, _, _ := runtime.Caller(0)
	script := filepath.Join(filepath.Dir(file), "../../labs", lab)
	if _, err := os.Stat(script); err != nil {
		t.Fatal(err)
	}
	return script
}
