package template

import (
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
)

// An amended template has the sections in which something changes, with all that was
// there, and reads as it was with the change.
func TestAmendedTemplate(t *testing.T) {
	const stored = "[Unicode]\r\nUnicode=yes\r\n[System Access]\r\nMinimumPasswordLength = 8\r\nPasswordComplexity = " +
		"1\r\nNewAdministratorName = [not kept]\r\n" +
		"[Kerberos Policy]\r\nMaxTicketAge = 10\r\n[Registry Values]\r\nMACHINE\\System\\CurrentControlSet\\Control\\Lsa\\NoLMHash=4,0\r\n"
	a, err := Amend([]byte(stored), []Edit{{"min-length", "MinimumPasswordLength", setting.Number(14)}, {"history", "", setting.Number(24)},
		{"lm-hash-stored", "NoLMHash", setting.Off}, {"mfa", "", setting.Word("all")}}, []string{"of\n[System Access]"})
	if err != nil {
		t.Fatal(err)
	}
	then, err := intake.Decode(a.Then)
	if err != nil || string(a.Then[:2]) != "\xff\xfe" {
		t.Fatal(err)
	}
	for _, want := range []string{"[System Access]\r\nMinimumPasswordLength = 14\r\nPasswordComplexity = 1\r\nPasswordHistorySize = 24\r\n",
		"[Registry Values]\r\nMACHINE\\System\\CurrentControlSet\\Control\\Lsa\\NoLMHash=4,1\r\n", "[Version]\r\nsignature=\"$CHICAGO$\"\r\n",
		"; of [System Access]\r\n"} {
		if !strings.Contains(string(then), want) {
			t.Errorf("lacks %q:\n%s", want, then)
		}
	}
	if strings.Contains(string(then), "Kerberos") || strings.Contains(string(then), "not kept") {
		t.Errorf("holds what does not change, or what was not kept:\n%s", then)
	}
	if len(a.Left) != 1 || a.Left[0].Setting != "mfa" || !slices.Contains(a.Diff, "-MinimumPasswordLength = 8") ||
		!slices.Contains(a.Diff, "+PasswordHistorySize = 24") {
		t.Errorf("left %v, diff %q", a.Left, a.Diff)
	}
	if now, _ := intake.Decode(a.Now); !strings.Contains(string(now), "MinimumPasswordLength = 8") || strings.Contains(string(now),
		"History") {
		t.Errorf("what undoes it:\n%s", now)
	}
}

// Whatever a stored template holds, what is written of it reads as what was meant.
func FuzzAmend(f *testing.F) {
	f.Add("[System Access]\r\nMinimumPasswordLength = 8\r\n", "x", int64(14))
	f.Add("[system access]\nminimumpasswordlength=8\nMinimumPasswordLength = 9\n;[System Access]\n",
		"a\r\n[System Access]\r\nLockoutBadCount = 0", int64(0))
	f.Add("\xff\xfe[\x00", "", int64(7))
	f.Fuzz(func(t *testing.T, stored, comment string, n int64) {
		if n < 0 || n > 128 {
			return
		}
		a, err := Amend([]byte(stored), []Edit{{"min-length", "MinimumPasswordLength", setting.Number(n)}}, []string{comment})
		if err != nil {
			return
		}
		b := estate.NewBuilder()
		b.StartFile("x")
		text, err := intake.Decode(a.Then)
		if err != nil {
			t.Fatal(err)
		}
		r := &reader{text: &intake.Text{Path: "x", Bytes: text}, into: b, platform: setting.WindowsMachine, facts: estate.Settings{}, seen: map[string]bool{}}
		if err := r.lines(); err != nil {
			return // what was there cannot be read either
		}
		if got := r.facts["min-length"]; got.Problem == "" && got.Value != setting.Number(n) {
			t.Fatalf("%v, want %d:\n%s", got, n, text)
		}
	})
}
