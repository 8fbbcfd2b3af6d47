// Package demotest opens the demo's exports as an engagement, for tests of what
// draws one.
package demotest

import (
	"path/filepath"
	"testing"
	"time"

	"sternledger/internal/assess"
	"sternledger/internal/collect"
	"sternledger/internal/custody"
)

// Gathered is an engagement with the demo's exports in evidence. The exports are
// looked for from the test's own package, two folders down.
func Gathered(t testing.TB) (*custody.Engagement, *collect.Gathered) {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "audit")
	now := func() time.Time { return time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC) }
	const title = "Marrowick Harbour Authority, with a title so long that it does not fit beside the number"
	if err := custody.Begin(t.Context(), dir, title, "R. Quill", now); err != nil {
		t.Fatal(err)
	}
	e, err := custody.Open(t.Context(), dir, now, assess.Judge)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { e.Close() })
	g, err := collect.Gather(e, []string{"../../demo/exports"}, collect.GatherOptions{})
	if err != nil {
		t.Fatal(err)
	}
	return e, g
}
