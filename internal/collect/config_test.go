package collect

import (
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"sternledger/internal/core/estate"
	"sternledger/internal/custody"
	"sternledger/internal/folder"
	"sternledger/internal/ledger"
)

func configIn(dir string) (*custody.Config, error) {
	f, err := folder.Open(dir)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return custody.ReadConfig(f)
}

func config(t *testing.T, text string) *custody.Config {
	t.Helper()
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, custody.ConfigName), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	c, err := configIn(dir)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func TestChoicesForAuthorities(t *testing.T) {
	c := config(t, `baselines: [cis-windows-server]
authorities:
  "*.example": {dialect: samba}
  quay.example: {dialect: windows}
  "gate?": {baselines: [cis-windows-server]}
tiers:
  first: {accounts: [a]}
  privileged: {groups: [b]}
  last: {units: [c], sids: [d]}
expect: {newer-than: 2 days}
`)
	for name, want := range map[string]estate.Dialect{"quay.example": estate.Windows, "other.example": estate.Samba, "plain": ""} {
		if got := c.Dialect(&estate.Authority{Name: name}); got != want {
			t.Errorf("%s: %s, want %s", name, got, want)
		}
	}
	if got := c.Dialect(&estate.Authority{Name: "plain", Dialect: estate.Samba}); got != estate.Samba {
		t.Errorf("what the evidence says holds where nothing is said: %s", got)
	}
	var tiers []string
	for _, rule := range c.TierRules() {
		tiers = append(tiers, rule.Name)
	}
	if !slices.Equal(tiers, []string{"first", "privileged", "last"}) {
		t.Errorf("tiers must keep their order: %v", tiers)
	}
	if c.Expect.MaxAge() != 48*time.Hour {
		t.Errorf("newer-than is %v", c.Expect.MaxAge())
	}
	e := &custody.Engagement{Config: c}
	for name, against := range map[string][]string{"gate1": nil, "x": nil, "y": {"own"}} {
		got := e.BaselinesFor(estate.Place{Name: name}, "standard", custody.WeighOptions{Against: against, Record: true})
		if want := append(slices.Clone(against), "cis-windows-server")[0]; len(got) != 1 || got[0] != want {
			t.Errorf("%s: %v", name, got)
		}
	}
}

// What begin writes is read back, and every shipped baseline parses.
func TestStarterIsWhole(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "audit")
	title := "Quay: \"east\"\n# not a comment"
	if err := custody.Begin(t.Context(), dir, title, "R. Quill", time.Now); err != nil {
		t.Fatal(err)
	}
	c, err := configIn(dir)
	if err != nil || c.Title != title || c.Auditor != "R. Quill" {
		t.Errorf("%v %+v", err, c)
	}
	if err := custody.Begin(t.Context(), dir, "again", "x", time.Now); err == nil {
		t.Error("an engagement was started over")
	}
	for _, id := range custody.ShippedBaselines() {
		if b, err := (custody.Library{}).Get(id); err != nil || b.ID != id {
			t.Errorf("%s: %v", id, err)
		}
	}
}

func TestNamesOfStoredCopies(t *testing.T) {
	for path, want := range map[string]string{
		"/a/x.ldif": "x-3.ldif", "/a/X.LDIF": "X-3.LDIF", "/a/new export (1).ldif": "new-export--1-.ldif", "/a/...": "export",
		"/a/Ä.ldif":              "ldif",
		`C:\exports\..\..\x.inf`: "C--exports-..-..-x.inf",
	} {
		g := &gathering{known: []ledger.Evidence{{Name: "x.ldif"}, {Name: "X-2.ldif"}}}
		if got := g.nameFor(candidate{path: path, format: formats[0]}); got != want {
			t.Errorf("%s: %s, want %s", path, got, want)
		}
	}
}
