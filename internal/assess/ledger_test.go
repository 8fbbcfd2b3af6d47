package assess

import (
	"bytes"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"sternledger/internal/collect"
	"sternledger/internal/core/check"
	"sternledger/internal/core/drift"
	"sternledger/internal/custody"
	"sternledger/internal/ledger"
)

// clock is a time that tests set.
type clock struct{ at time.Time }

func (c *clock) now() time.Time { return c.at }

const domain = "dn: DC=x,DC=example\nobjectClass: domainDNS\nobjectSid: S-1-5-21-1-2-3\nminPwdLength: 10\nmaxPwdAge: " +
	"-25920000000000\nminPwdAge: 0\nlockoutThreshold: 3\nlockoutDuration: -18000000000\nlockOutObservationWindow: " +
	"-18000000000\npwdHistoryLength: 24\npwdProperties: 1\n" +
	"\ndn: CN=Password Settings Container,CN=System,DC=x,DC=example\nobjectClass: msDS-PasswordSettingsContainer\n" +
	"\ndn: CN=Ada,DC=x,DC=example\nobjectClass: user\nsAMAccountName: ada\nuserAccountControl: 512\nprimaryGroupID: 513\n" +
	"\ndn: CN=Bo,DC=x,DC=example\nobjectClass: user\nsAMAccountName: bo\nuserAccountControl: 66048\nprimaryGroupID: 513\n"

// weighed begins an engagement with one domain and weighs it.
func weighed(t *testing.T, c *clock) *custody.Engagement {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "audit")
	if err := custody.Begin(t.Context(), dir, "T", "R. Quill", c.now); err != nil {
		t.Fatal(err)
	}
	e, err := custody.Open(t.Context(), dir, c.now, Judge)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { e.Close() })
	take(e, t, domain)
	again(e, t)
	return e
}

func take(e *custody.Engagement, t *testing.T, text string) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "x.ldif")
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := collect.Gather(e, []string{file}, collect.GatherOptions{}); err != nil {
		t.Fatal(err)
	}
}

func again(e *custody.Engagement, t *testing.T) *custody.Weighing {
	t.Helper()
	w, err := Weigh(e, custody.WeighOptions{Against: []string{"cis-windows-server"}, Record: true})
	if err != nil {
		t.Fatal(err)
	}
	return w
}

func holds(e *custody.Engagement, t *testing.T) *custody.Verified {
	t.Helper()
	v, err := e.Verify()
	if err != nil || len(v.Failures) > 0 {
		t.Fatalf("%v %+v", err, v)
	}
	return v
}

// A waiver is in force until its day, or until what is observed gets worse.
func TestWaiverLife(t *testing.T) {
	c := &clock{time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}
	e := weighed(t, c)
	for _, bad := range []struct {
		opt custody.WaiveOptions
		say string
	}{
		{custody.WaiveOptions{Setting: "min-length", Scope: "*", Until: "2026-12-31"}, "without a reason"},
		{custody.WaiveOptions{Setting: "min-length", Scope: "*", Reason: "x"}, "without an end"},
		{custody.WaiveOptions{Setting: "min-length", Scope: "*", Reason: "x", Until: "31.12.2026"}, "expected a day such as 2027-05-23"},
		{custody.WaiveOptions{Setting: "min-length", Scope: "*", Reason: "x", Until: "2026-11-22"}, "is past"},
		{custody.WaiveOptions{Setting: "reversible", Scope: "*", Reason: "x", Until: "2026-12-31"}, "no finding on reversible"},
		{custody.WaiveOptions{Fingerprints: []string{"0"}, Reason: "x", Until: "2026-12-31"}, "no finding \"0\""},
	} {
		if _, err := e.Waive(bad.opt); err == nil || !strings.Contains(err.Error(), bad.say) {
			t.Errorf("%+v: %v", bad.opt, err)
		}
	}
	if _, err := e.Waive(custody.WaiveOptions{Setting: "min-length", Scope: "*", Until: "2026-12-31",
		Reason: "until the new till"}); err != nil {
		t.Fatal(err)
	}
	state := func() string {
		w := again(e, t)
		for i := range w.Findings {
			if f := &w.Findings[i]; f.Check == "" && f.Settings[0] == "min-length" {
				return fmt.Sprintf("%s %s %s", f.Kind, f.Beneath, w.Waivers[len(w.Waivers)-1].State)
			}
		}
		return "none " + string(w.Waivers[len(w.Waivers)-1].State)
	}
	expect := func(what, want string) {
		t.Helper()
		if got := state(); got != want {
			t.Errorf("%s: %q, want %q", what, got, want)
		}
	}
	expect("waived", "waived weak in force")
	c.at = time.Date(2026, 12, 31, 23, 59, 0, 0, time.UTC)
	expect("on its last day", "waived weak in force")
	take(e, t, strings.Replace(domain, "minPwdLength: 10", "minPwdLength: 12", 1))
	expect("better, and still short", "waived weak in force")
	take(e, t, strings.Replace(domain, "minPwdLength: 10", "minPwdLength: 9", 1))
	expect("worse than accepted", "weak  outgrown")
	take(e, t, strings.Replace(domain, "minPwdLength: 10", "minPwdLength: 14", 1))
	expect("mended", "none not needed")
	take(e, t, strings.Replace(domain, "minPwdLength: 10", "minPwdLength: 10\nflags: 0", 1))
	expect("as accepted, and back", "weak  lapsed")
	c.at = time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)
	expect("the day after", "weak  ended")
	if _, err := e.Waive(custody.WaiveOptions{Setting: "min-length", Scope: "*", Until: "2027-06-30", Reason: "longer"}); err != nil {
		t.Fatal(err)
	}
	expect("again", "waived weak in force")
	all, err := e.Waivers()
	if err != nil || len(all) != 2 || all[0].State != check.Ended || all[1].State != check.InForce {
		t.Errorf("%+v %v", all, err)
	}
	if _, err := e.Withdraw(fmt.Sprint(all[1].Entry), ""); err == nil {
		t.Error("withdrawn without a reason")
	}
	if _, err := e.Withdraw("99", "x"); err == nil {
		t.Error("withdrawn what is not there")
	}
	if _, err := e.Withdraw(fmt.Sprint(all[1].Entry), "the till is here"); err != nil {
		t.Fatal(err)
	}
	expect("withdrawn", "weak  withdrawn")
	// A check's finding is outgrown by more accounts.
	w := again(e, t)
	i := slices.IndexFunc(w.Findings, func(f check.Finding) bool { return f.Check == "never-expires" })
	if _, err := e.Waive(custody.WaiveOptions{Fingerprints: []string{w.Findings[i].Fingerprint}, Until: "2027-06-30",
		Reason: "a service"}); err != nil {
		t.Fatal(err)
	}
	kind := func() check.Kind {
		w := again(e, t)
		return w.Findings[slices.IndexFunc(w.Findings, func(f check.Finding) bool { return f.Check == "never-expires" })].Kind
	}
	if kind() != check.Waived {
		t.Error("a check's finding is not waived")
	}
	take(e, t, strings.Replace(domain, "userAccountControl: 512", "userAccountControl: 66048", 1))
	if kind() == check.Waived {
		t.Error("waived for one account, and now it is two")
	}
	holds(e, t)
}

// What changed is told, and what cannot be compared.
func TestDriftTells(t *testing.T) {
	c := &clock{time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}
	e := weighed(t, c)
	if _, _, err := LastTwo(e); err == nil || !strings.Contains(err.Error(), "only one weighing is recorded") {
		t.Errorf("one weighing: %v", err)
	}
	if w := again(e, t); !w.Before || w.Number != 1 {
		t.Errorf("looking again made a record: %+v", w)
	}
	r, err := Drift(e, 1, 1)
	if err != nil || !r.Nothing() {
		t.Errorf("nothing changed: %+v %v", r, err)
	}
	policy := "\ndn: CN=Strict,CN=Password Settings Container,CN=System,DC=x,DC=example\nobjectClass: msDS-PasswordSettings\ncn: " +
		"Strict\nmsDS-PasswordSettingsPrecedence: 1\nmsDS-MinimumPasswordLength: 16\nmsDS-PasswordComplexityEnabled: " +
		"TRUE\nmsDS-PasswordHistoryLength: 24\nmsDS-MaximumPasswordAge: -25920000000000\nmsDS-MinimumPasswordAge: " +
		"-864000000000\nmsDS-LockoutThreshold: 5\nmsDS-LockoutDuration: -18000000000\nmsDS-LockoutObservationWindow: " +
		"-18000000000\nmsDS-PasswordReversibleEncryptionEnabled: FALSE\nmsDS-PSOAppliesTo: CN=Ada,DC=x,DC=example\n"
	changed := strings.NewReplacer("minPwdLength: 10", "minPwdLength: 12", "lockoutThreshold: 3", "lockoutThreshold: 9",
		"sAMAccountName: bo", "sAMAccountName: cy").Replace(domain)
	take(e, t, changed+policy)
	again(e, t)
	if r, err = Drift(e, 1, 2); err != nil {
		t.Fatal(err)
	}
	if len(r.Moves) != 1 || r.Moves[0].Account != "ada" || !strings.HasSuffix(r.Moves[0].To, "/ Strict") {
		t.Errorf("moves: %+v", r.Moves)
	}
	if len(r.Accounts) != 2 || r.Accounts[0].Way != drift.New || r.Accounts[0].What != "cy" || r.Accounts[1].What != "bo" {
		t.Errorf("accounts: %+v", r.Accounts)
	}
	ways := map[string]drift.Way{}
	for _, s := range r.Settings {
		ways[string(s.Setting)] = s.Way
	}
	if ways["min-length"] != drift.Better || ways["lockout-threshold"] != drift.Worse {
		t.Errorf("settings: %v", ways)
	}
	found := map[string]drift.Way{}
	for _, f := range r.Findings {
		if strings.HasSuffix(f.What, "domain default / standard") || strings.HasSuffix(f.What, "domain default") {
			found[f.Headline] = f.Way
		}
	}
	if found["Minimum length"] != drift.Better || found["Lockout threshold"] != drift.New {
		t.Errorf("findings: %v", found)
	}
	if _, err := Weigh(e, custody.WeighOptions{Against: []string{"nist-800-63b"}, Record: true}); err != nil {
		t.Fatal(err)
	}
	if r, err = Drift(e, 2, 3); err != nil {
		t.Fatal(err)
	}
	for _, f := range r.Findings {
		if f.Headline == "Lockout window" && f.Way != drift.NotNow || f.Way == drift.New && f.Headline != "Minimum length" {
			t.Errorf("another baseline: %+v", f)
		}
	}
	back, err := Drift(e, 2, 1)
	if err != nil || len(back.Moves) != 1 || !strings.HasSuffix(back.Moves[0].From, "/ Strict") {
		t.Errorf("backwards: %+v %v", back, err)
	}
	if _, err := Drift(e, 1, 99); err == nil || !strings.Contains(err.Error(), "no weighing 99") {
		t.Errorf("%v", err)
	}
}

// A weighing comes out the same again after its baselines and engagement.yaml
// were changed or removed: the ledger keeps what they said.
func TestRecallAfterChanges(t *testing.T) {
	c := &clock{time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}
	e := weighed(t, c)
	file, err := e.NewBaseline("ours", func() (string, error) { return "replaced below", nil })
	if err != nil {
		t.Fatal(err)
	}
	own := "id: ours\ntitle: Ours\nversion: 1\nextends: nist-800-63b\ndemands:\n  - {setting: min-length, at-least: 16 " +
		"characters, tiers: [privileged], severity: grave, why: W.}\ndrop:\n  - {setting: max-age, why: W.}\n"
	swap(t, file, own)
	away := filepath.Join(t.TempDir(), "away.yaml")
	swap(t, away, strings.NewReplacer("id: ours", "id: away", "16 characters", "18 characters").Replace(own))
	config := filepath.Join(e.Dir, custody.ConfigName)
	swap(t, config, "title: Before\nauditor: R. Quill\ntiers:\n  privileged: {accounts: [ada]}\nexpect: {machines-from: m.csv}\n")
	swap(t, filepath.Join(e.Dir, "m.csv"), "gate1\n")
	before, err := custody.Open(t.Context(), e.Dir, c.now, Judge)
	if err != nil {
		t.Fatal(err)
	}
	defer before.Close()
	w, err := Weigh(before, custody.WeighOptions{Against: []string{"ours", away}, Record: true})
	if err != nil {
		t.Fatal(err)
	}
	os.Remove(file)
	os.Remove(away)
	os.Remove(filepath.Join(e.Dir, "m.csv"))
	swap(t, config, "title: After\nauditor: S. Nib\nbaselines: [cis-windows-server]\n")
	after, err := custody.Open(t.Context(), e.Dir, c.now, Judge)
	if err != nil {
		t.Fatal(err)
	}
	defer after.Close()
	holds(after, t)
	again, err := after.Recall(w.Number)
	if err != nil || len(again.Findings) != len(w.Findings) || len(again.Baselines) != 2 {
		t.Errorf("%v", err)
	}
	r, err := ReportOf(after, 0, "")
	if err != nil || r.Title != "Before" || r.Auditor != "R. Quill" {
		t.Errorf("%v %+v", err, r)
	}
}

// dump writes everything that the ledger's tables hold.
func dump(file string) (string, error) {
	db, err := sql.Open("sqlite", "file:"+file+"?mode=ro")
	if err != nil {
		return "", err
	}
	defer db.Close()
	var b strings.Builder
	for _, table := range []string{"entries", "evidence", "problems", "holdings", "chunks", "weighings", "records", "texts"} {
		found, err := db.Query("SELECT * FROM " + table + " ORDER BY rowid")
		if err != nil {
			return "", err
		}
		columns, _ := found.Columns()
		for found.Next() {
			values := make([]any, len(columns))
			for i := range values {
				values[i] = new(any)
			}
			if err := found.Scan(values...); err != nil {
				found.Close()
				return "", err
			}
			for _, v := range values {
				fmt.Fprintf(&b, "%v\t", *v.(*any))
			}
			b.WriteByte('\n')
		}
		if err := found.Err(); err != nil {
			return "", err
		}
		found.Close()
	}
	return b.String(), nil
}

// Any byte of the ledger that is altered is noticed, unless no table holds it.
func TestVerifyNoticesAnyByte(t *testing.T) {
	t.Parallel()
	c := &clock{time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}
	e := weighed(t, c)
	if _, err := e.Waive(custody.WaiveOptions{Setting: "min-length", Scope: "*", Until: "2026-12-31", Reason: "x"}); err != nil {
		t.Fatal(err)
	}
	again(e, t)
	holds(e, t)
	file := filepath.Join(e.Dir, ledger.FileName)
	e.Close()
	good, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	before, err := dump(file)
	if err != nil {
		t.Fatal(err)
	}
	rnd := rand.New(rand.NewPCG(7, 1))
	noticed, unused := 0, 0
	rounds := 200
	if n, err := strconv.Atoi(os.Getenv("STERNLEDGER_ROUNDS")); err == nil {
		rounds = n
	}
	for range rounds {
		bad := bytes.Clone(good)
		at := rnd.IntN(len(bad))
		for rnd.IntN(8) > 0 && bad[at] == 0 { // much of a small ledger's pages is empty
			at = rnd.IntN(len(bad))
		}
		bad[at] ^= byte(1 + rnd.IntN(255))
		if err := os.WriteFile(file, bad, 0o600); err != nil {
			t.Fatal(err)
		}
		holds := false
		if x, err := custody.Open(t.Context(), e.Dir, c.now, Judge); err == nil {
			v, err := x.Verify()
			holds = err == nil && len(v.Failures) == 0
			x.Close()
		}
		if !holds {
			noticed++
			continue
		}
		if after, err := dump(file); err != nil || after != before {
			t.Errorf("byte %d of %d was altered, and verify holds (%v)", at, len(good), err)
		}
		unused++
	}
	t.Logf("%d altered bytes noticed, %d that no table holds", noticed, unused)
	if noticed < rounds/4 {
		t.Errorf("only %d were noticed", noticed)
	}
}

// Whoever knows SQL is noticed too, and the first entry concerned is named.
func TestVerifyNoticesTampering(t *testing.T) {
	t.Parallel()
	c := &clock{time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}
	const free = "DROP TRIGGER entries_stay; DROP TRIGGER entries_last; "
	for name, x := range map[string]struct {
		sql   string
		do    func(t *testing.T, dir string)
		entry int64
		say   string
	}{
		"an entry's body": {free + "UPDATE entries SET body = replace(body, 'T', 'U') WHERE seq = 1", nil, 1,
			"not the entry that was written"},
		"an entry is removed": {free + "PRAGMA foreign_keys = 0; DELETE FROM entries WHERE seq = 2", nil, 0,
			"names an entry that is not there"},
		"the last is, with its rows": {free + "DELETE FROM records WHERE number = 2; DELETE FROM entries WHERE seq = 5", nil, 5,
			"the ledger ends before it"},
		"an entry's time": {free + "UPDATE entries SET at = '2020-01-01T00:00:00Z' WHERE seq = 3", nil, 3, "not the entry"},
		"a verdict": {"UPDATE records SET data = (SELECT data FROM records WHERE number = 2) WHERE number = 1", nil,
			3, "was altered"},
		"a weighing is removed": {"DELETE FROM records WHERE number = 1", nil, 3, "record of its weighing was removed"},
		"a fact": {"UPDATE holdings SET body = replace(body, '10', '15')", nil, 2,
			"facts about authority:domain:x.example were altered"},
		"the accounts": {"UPDATE chunks SET data = zeroblob(length(data)) WHERE name = 'flags'", nil, 2, "facts about"},
		"facts are put in": {"INSERT INTO holdings (entry, subject, body) SELECT entry, 'authority:domain:y', body FROM holdings",
			nil, 2, "were put in"},
		"a problem is put in": {"INSERT INTO problems VALUES (2, 'x', 1, '', '', 'x')", nil, 2, "not understood was altered"},
		"a record of a file": {"UPDATE evidence SET sha256 = replace(sha256, substr(sha256, 1, 1), 'g')", nil, 2,
			"record of evidence/x.ldif"},
		"a baseline": {"UPDATE texts SET text = replace(text, '14 characters', '4 characters')", nil, 3, "was altered"},
		"an evidence file's content": {"", func(t *testing.T, dir string) { swap(t, filepath.Join(dir, "evidence/x.ldif"), "minPwdLength: 15") },
			2, "evidence/x.ldif: its SHA-256 is"},
		"an evidence file is removed": {"", func(t *testing.T, dir string) { os.Remove(filepath.Join(dir, "evidence/x.ldif")) }, 2,
			"the file is gone"},
	} {
		t.Run(name, func(t *testing.T) {
			e := weighed(t, c)
			take(e, t, strings.Replace(domain, "minPwdLength: 10", "minPwdLength: 9", 1))
			again(e, t)
			seal, err := e.Seal()
			if err != nil {
				t.Fatal(err)
			}
			e.Close()
			if x.sql != "" {
				db, err := sql.Open("sqlite", filepath.Join(e.Dir, ledger.FileName))
				if err != nil {
					t.Fatal(err)
				}
				// A forger puts the guards back: without them it is not opened at all.
				var guards []string
				rows, err := db.Query("SELECT name, sql FROM sqlite_schema WHERE type = 'trigger'")
				for err == nil && rows.Next() {
					var name, text string
					if err = rows.Scan(&name, &text); err == nil {
						guards = append(guards, "DROP TRIGGER IF EXISTS "+name, text)
					}
				}
				for _, text := range append([]string{x.sql}, guards...) {
					if err == nil {
						_, err = db.Exec(text)
					}
				}
				if err != nil {
					t.Fatal(err)
				}
				db.Close()
			}
			if x.do != nil {
				x.do(t, e.Dir)
			}
			again, err := custody.Open(t.Context(), e.Dir, c.now, Judge)
			if err != nil {
				t.Fatal(err)
			}
			defer again.Close()
			v, err := again.Verify()
			if err != nil {
				t.Fatal(err)
			}
			if len(v.Failures) == 0 {
				if err := again.CompareSeal(v, seal); err != nil {
					t.Fatal(err)
				}
			}
			if len(v.Failures) == 0 || v.Failures[0].Entry != x.entry || !strings.Contains(v.Failures[0].Text, x.say) {
				t.Errorf("%+v, want entry %d: %s", v.Failures, x.entry, x.say)
			}
		})
	}
}

func swap(t *testing.T, file, text string) {
	t.Helper()
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
}

// A clock that was set back is noted, and is no failure; a seal holds while
// entries are added behind it.
func TestClockAndSeal(t *testing.T) {
	c := &clock{time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}
	e := weighed(t, c)
	seal, err := e.Seal()
	if err != nil {
		t.Fatal(err)
	}
	c.at = c.at.AddDate(0, -1, 0)
	if _, err := e.Waive(custody.WaiveOptions{Setting: "min-length", Scope: "*", Until: "2026-12-31",
		Reason: "until the new till"}); err != nil {
		t.Fatal(err)
	}
	v := holds(e, t)
	if len(v.Notes) != 1 || !strings.Contains(v.Notes[0], "entry 4 is dated 2026-10-23T09:00:00Z, before entry 3") {
		t.Errorf("%v", v.Notes)
	}
	if err := e.CompareSeal(v, " "+strings.ToLower(seal)+"\n"); err != nil || len(v.Failures) > 0 || v.Since != 1 {
		t.Errorf("%v %+v", err, v)
	}
	if err := e.CompareSeal(v, "3-AAAA-AAAA-AAAA-AAAA"); err != nil || len(v.Failures) != 1 {
		t.Errorf("another seal: %v %+v", err, v.Failures)
	}
	if err := e.CompareSeal(v, "x"); err == nil {
		t.Error("no seal is taken for one")
	}
}

// Files are written all or none.
func TestWriteFiles(t *testing.T) {
	dir := t.TempDir()
	ok := func(w io.Writer) error { _, err := io.WriteString(w, "new"); return err }
	fails := func(io.Writer) error { return errors.New("disk full") }
	there := filepath.Join(dir, "there")
	swap(t, there, "old")
	if err := custody.WriteFiles([]custody.Output{{File: filepath.Join(dir, "a"), Write: ok}, {File: filepath.Join(dir, "b"), Write: fails}},
		true); err == nil {
		t.Error("no error")
	}
	if err := custody.WriteFiles([]custody.Output{{File: filepath.Join(dir, "a"), Write: ok}, {File: there, Write: ok}}, false); err == nil ||
		!strings.Contains(err.Error(), "--replace") {
		t.Errorf("%v", err)
	}
	if names, _ := os.ReadDir(dir); len(names) != 1 {
		t.Errorf("left: %v", names)
	}
	if err := custody.WriteFiles([]custody.Output{{File: there, Write: ok}}, true); err != nil {
		t.Error(err)
	}
	if data, _ := os.ReadFile(there); string(data) != "new" {
		t.Errorf("%q", data)
	}
}

// Passwords are numbered by their lines, and no error tells one.
func FuzzReadPasswords(f *testing.F) {
	for _, seed := range []string{"a\n\nb", "\ufeffx\r\n", "a\x00b", "\xff\xfe", "", "\n"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		all, err := ReadPasswords("f", strings.NewReader(text))
		if err != nil {
			for _, line := range strings.Split(text, "\n") {
				if len(line) > 12 && strings.Contains(err.Error(), line) {
					t.Fatalf("the error tells the input: %v", err)
				}
			}
			return
		}
		lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
		if len(all) != len(lines) {
			t.Fatalf("%d passwords of %d lines", len(all), len(lines))
		}
		for i, p := range all {
			if want := strings.TrimSuffix(lines[i], "\r"); p != want && (i > 0 || p != strings.TrimPrefix(want, "\ufeff")) {
				t.Fatalf("line %d: %q, want %q", i+1, p, want)
			}
		}
	})
}
