// Package demotest opens the demo's exports as an engagement, for tests of what
// draws one, and holds what packages make of it against texts that people read.
package demotest

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"sternledger/internal/assess"
	"sternledger/internal/collect"
	"sternledger/internal/custody"
)

// root is the folder of the sources, from the test's own package.
func root(t testing.TB) string {
	t.Helper()
	for dir := ".."; len(dir) < 40; dir = filepath.Join(dir, "..") {
		if _, err := os.Stat(filepath.Join(dir, "go.mod")); err == nil {
			return dir
		}
	}
	t.Fatal("no go.mod above the test's package")
	return ""
}

// at is the time at which the engagement's commands run.
func at() time.Time { return time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC) }

// Gathered is an engagement with the demo's exports in evidence.
func Gathered(t testing.TB) (*custody.Engagement, *collect.Gathered) {
	t.Helper()
	const title = "Marrowick Harbour Authority, with a title so long that it does not fit beside the number"
	e := begun(t, title, nil)
	return e, gathered(t, e, "demo/exports")
}

// Demo is the engagement of the demo: its exports, its tiers and baselines.
func Demo(t testing.TB) *custody.Engagement {
	t.Helper()
	config, err := os.ReadFile(filepath.Join(root(t), "demo/engagement.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	e := begun(t, "Marrowick", config)
	gathered(t, e, "demo/exports")
	return e
}

// Later gathers what came in later: a folder of demo/later.
func Later(t testing.TB, e *custody.Engagement, when string) {
	t.Helper()
	gathered(t, e, "demo/later/"+when)
}

func begun(t testing.TB, title string, config []byte) *custody.Engagement {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "audit")
	if err := custody.Begin(t.Context(), dir, title, "R. Quill", at); err != nil {
		t.Fatal(err)
	}
	if config != nil {
		if err := os.WriteFile(filepath.Join(dir, custody.ConfigName), config, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	e, err := custody.Open(t.Context(), dir, at, assess.Judge)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { e.Close() })
	return e
}

func gathered(t testing.TB, e *custody.Engagement, exports string) *collect.Gathered {
	t.Helper()
	g, err := collect.Gather(e, []string{filepath.Join(root(t), exports)}, collect.GatherOptions{})
	if err != nil {
		t.Fatal(err)
	}
	return g
}

// Same holds lines against testdata/NAME of the test's package. Where the program is
// meant to say otherwise from now on, STERNLEDGER_UPDATE=1 writes the file anew: read
// what has changed before you commit it.
func Same(t testing.TB, name string, lines []string) {
	t.Helper()
	file := filepath.Join("testdata", name)
	if os.Getenv("STERNLEDGER_UPDATE") != "" {
		if err := os.MkdirAll("testdata", 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(strings.Join(lines, "\n")+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatalf("%v; STERNLEDGER_UPDATE=1 makes it", err)
	}
	want := strings.Split(strings.TrimSuffix(string(data), "\n"), "\n")
	const most = 8
	told := 0
	for i := 0; i < max(len(lines), len(want)) && told < most; i++ {
		is, was := line(lines, i), line(want, i)
		if is != was {
			told++
			t.Errorf("%s:%d:\n%s\nwant\n%s", file, i+1, is, was)
		}
	}
}

func line(all []string, i int) string {
	if i < len(all) {
		return all[i]
	}
	return "(nothing)"
}
