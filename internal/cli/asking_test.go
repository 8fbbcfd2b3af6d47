package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// What is asked for is what lacks: by owner, in two rounds, with letters that hold the pages of the
// exports. Nothing is recorded.
func TestAskByOwner(t *testing.T) {
	beside(t)
	dir := begin(t)
	file := filepath.Join(dir, "engagement.yaml")
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	write(t, file, string(text)+"authorities:\n  x.example: {owner: Directory team}\n  gate1: {owner: Lock keepers}\n"+
		"expect:\n  authorities: [x.example, gate1]\n")
	of := func() string {
		var all []string
		for _, o := range document(t, dir, "ask")["owners"].([]any) {
			for _, p := range at(o, "places").([]any) {
				all = append(all, fmt.Sprint(at(o, "owner"), ": ", at(p, "place"), " ", at(p, "state")))
			}
		}
		return strings.Join(all, "; ")
	}
	if got := of(); got != "Directory team: x.example awaited; Lock keepers: gate1 awaited" {
		t.Errorf("before anything came: %s", got)
	}
	must(t, dir, "gather", write(t, filepath.Join(t.TempDir(), "x.ldif"), smallHead+smallUser))
	if got := of(); got != "Directory team: x.example incomplete; Lock keepers: gate1 awaited" {
		t.Errorf("after the first round: %s", got)
	}
	d := document(t, dir, "ask", "--for", "directory team")
	if n := len(d["owners"].([]any)); n != 1 {
		t.Errorf("%d owners for one", n)
	}
	// What lacks is what the findings of kind missing wait for.
	known := map[string]bool{}
	for _, f := range document(t, dir, "weigh")["findings"].([]any) {
		known[fmt.Sprint(at(f, "fingerprint"))] = at(f, "verdict") == "missing"
	}
	lacks := at(d, "owners", 0, "places", 0, "lacks").([]any)
	for _, x := range lacks {
		for _, print := range at(x, "fingerprints").([]any) {
			if !known[fmt.Sprint(print)] {
				t.Errorf("%v waits for %v, which is no finding of kind missing", print, at(x, "what"))
			}
		}
	}
	if len(lacks) == 0 {
		t.Error("nothing lacks of a domain of one account")
	}
	letters := filepath.Join(t.TempDir(), "letters")
	must(t, dir, "ask", "--to", letters)
	gate := readFile(t, filepath.Join(letters, "lock-keepers.txt"))
	if !strings.Contains(gate, "1. awaited: gate1") || !strings.Contains(gate, "login.defs") || strings.Contains(gate, "x.example") {
		t.Errorf("the letter to the lock keepers:\n%s", gate)
	}
	if _, said, code := run(t, dir, "ask", "--to", letters); code == 0 || !strings.Contains(said, "exists already") {
		t.Errorf("a second time: %d %s", code, said)
	}
	if _, said, code := run(t, dir, "ask", "--for", "Nobody"); code != 2 || !strings.Contains(said, "no place") {
		t.Errorf("somebody who owns nothing: %d %s", code, said)
	}
}
