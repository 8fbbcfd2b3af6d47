package assess

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"sternledger/internal/collect"
	"sternledger/internal/custody"
)

// A clock that goes back, or far ahead, is told by verify, and breaks nothing.
func TestClockThatGoesBack(t *testing.T) {
	dir, from := filepath.Join(t.TempDir(), "audit"), t.TempDir()
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	clock := func() time.Time { return now }
	if err := custody.Begin(t.Context(), dir, "Clock", "R. Quill", clock); err != nil {
		t.Fatal(err)
	}
	e, err := custody.Open(t.Context(), dir, clock, Judge)
	if err != nil {
		t.Fatal(err)
	}
	defer e.Close()
	for i, at := range []time.Time{now, now.AddDate(-3, 0, 0), time.Unix(1, 0).UTC(), now.AddDate(160, 0, 0), now} {
		now = at
		file := filepath.Join(from, fmt.Sprintf("x%d.ldif", i))
		text := fmt.Sprintf("dn: DC=x,DC=example\nobjectClass: domainDNS\nobjectSid: S-1-5-21-1-2-3\nminPwdLength: %d\nmaxPwdAge: 0\nlockoutThreshold: 0\n"+
			"oEMInformation: Samba\n\ndn: CN=ada,DC=x,DC=example\nobjectClass: user\nsAMAccountName: ada\nuserAccountControl: 512\n"+
			"pwdLastSet: 133000000000000000\nobjectSid: S-1-5-21-1-2-3-1104\n", 7+i)
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := collect.Gather(e, []string{file}, collect.GatherOptions{}); err != nil {
			t.Fatalf("%v: %v", at, err)
		}
		if _, err := Weigh(e, custody.WeighOptions{}); err != nil {
			t.Fatalf("%v: %v", at, err)
		}
		x, err := Amend(e, AmendOptions{})
		if err != nil || x.Played == nil {
			t.Fatalf("%v: %v", at, err)
		}
	}
	v, err := e.Verify()
	if err != nil || len(v.Failures) > 0 {
		t.Fatalf("%v %v", err, v.Failures)
	}
	if got := strings.Count(strings.Join(v.Notes, "\n"), "a clock was set back"); got != 3 {
		t.Errorf("%d notes of a clock that was set back, want 3: %q", got, v.Notes)
	}
}
