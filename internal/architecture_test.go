// Package internal_test guards the direction of imports: each floor imports
// only the floors below it, and the core reaches out to nothing.
package internal_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// floors from the bottom up; a package stands on the first whose name begins
// its path.
var floors = []string{"labtest", "worldtest", "folder", "terminal", "redact", "core/setting", "core/strictyaml", "core/estate", "core/baseline",
	"core/landtest",
	"core/govern", "core/coretest", "core/forecast", "core/exposure", "core/check", "core/weigh", "core/record", "core/", "ledger", "intake/markup",
	"intake/descriptor", "intake/kerberos", "intake/ldif", "intake", "benchmark", "standin", "contract",
	"custody", "collect", "assess", "demotest", "page", "report", "cli"}

func floorOf(path string) int {
	for i, floor := range floors {
		if path == floor || strings.HasPrefix(path, strings.TrimSuffix(floor, "/")+"/") {
			return i
		}
	}
	return -1
}

// reachingOut is what the core may not import: files, network, clocks, SQL,
// terminals, processes.
var reachingOut = []string{"os", "io/fs", "io/ioutil", "net", "net/http", "database/sql", "time", "os/exec", "syscall", "log",
	"log/slog", "math/rand", "math/rand/v2", "embed"}

func TestImportsPointDownwards(t *testing.T) {
	seen := 0
	err := filepath.WalkDir(".", func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") {
			return err
		}
		seen++
		own := filepath.ToSlash(filepath.Dir(file))
		floor := floorOf(own)
		if floor < 0 {
			t.Errorf("%s stands on no floor; give it one in this test and in docs/architecture.md", own)
			return nil
		}
		parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, spec := range parsed.Imports {
			path, _ := strconv.Unquote(spec.Path.Value)
			inner, ours := strings.CutPrefix(path, "sternledger/internal/")
			if ours && inner != own && floorOf(inner) >= floor && !strings.HasPrefix(own, inner+"/") && !sameHouse(own, inner) {
				t.Errorf("%s imports %s, which is not below it", file, path)
			}
			if !strings.HasPrefix(own, "core/") {
				continue
			}
			if !ours && strings.HasPrefix(path, "sternledger/") {
				t.Errorf("%s: the core imports %s", file, path)
			}
			for _, out := range reachingOut {
				helper := strings.HasSuffix(own, "test") && strings.HasPrefix(path, "math/rand") // what tests are made with
				if path == out && !helper {
					t.Errorf("%s: the core reaches out to %s", file, path)
				}
			}
		}
		return nil
	})
	if err != nil || seen < 20 {
		t.Fatalf("%v; %d files seen", err, seen)
	}
}

// sameHouse lets a reader import what all readers have in common.
func sameHouse(own, inner string) bool { return strings.HasPrefix(own, "intake/") && inner == "intake" }
