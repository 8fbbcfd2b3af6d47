package assess

import (
	"encoding/json"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"sternledger/internal/contract"
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
	"sternledger/internal/custody"
)

// kept opens a small engagement of an earlier version, from testdata.
func kept(t *testing.T, name string) *custody.Engagement {
	t.Helper()
	c := &clock{time.Date(2027, 1, 4, 9, 0, 0, 0, time.UTC)}
	dir := filepath.Join(t.TempDir(), "audit")
	if _, err := custody.Unpack(t.Context(), filepath.Join("testdata", "engagements", name), dir, custody.UnpackOptions{Judge: Judge},
		c.now); err != nil {
		t.Fatal(err)
	}
	e, err := custody.Open(t.Context(), dir, c.now, Judge)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { e.Close() })
	return e
}

// Engagements of all versions are read: each format that was ever written.
func TestEarlierVersions(t *testing.T) {
	files, err := os.ReadDir("testdata/engagements")
	if err != nil {
		t.Fatal(err)
	}
	seen := 0
	for _, f := range files {
		if filepath.Ext(f.Name()) != ".zip" {
			continue
		}
		seen++
		t.Run(f.Name(), func(t *testing.T) {
			e := kept(t, f.Name())
			v := holds(e, t)
			if len(v.Judged) != 3 {
				t.Fatalf("%+v", v.Judged)
			}
			for _, j := range v.Judged {
				if j.Outcome == record.NotPossible || j.Program.Version == "" {
					t.Errorf("weighing %d: %+v", j.Weighing, j)
				}
			}
			r, err := ReportOf(e, 0, "")
			if err != nil || len(r.Weighing.Findings) == 0 || len(r.Course) != 3 || r.Title != "Marrowick, a small one" {
				t.Fatalf("%+v %v", r, err)
			}
			row, err := e.Ledger.Weighing(3)
			if err != nil {
				t.Fatal(err)
			}
			if row.Record == nil { // what it says is what was recorded, however this program judges
				var was, is contract.WeighDocument
				data, _ := json.Marshal(Document(r.Weighing))
				if err := json.Unmarshal([]byte(row.Document), &was); err != nil {
					t.Fatal(err)
				}
				if err := json.Unmarshal(data, &is); err != nil {
					t.Fatal(err)
				}
				for i := range was.Findings { // then what satisfies all, without who demands it
					f := &was.Findings[i]
					f.Satisfies, f.Demanded = f.Demanded, check.Required(f.Demanded, sources(f))
				}
				if !reflect.DeepEqual(was.Findings, is.Findings) {
					t.Errorf("findings:\n%+v, want\n%+v", is.Findings, was.Findings)
				}
				for i := range was.Verdicts {
					v := &was.Verdicts[i]
					v.Demanded = setting.Get(v.Setting).Renamed(v.Demanded)
				}
				if !reflect.DeepEqual(was.Verdicts, is.Verdicts) {
					t.Errorf("verdicts:\n%+v, want\n%+v", is.Verdicts, was.Verdicts)
				}
			}
			d, err := Drift(e, 1, 3)
			if err != nil || d.Nothing() {
				t.Errorf("%+v %v", d, err)
			}
			accounts := 0
			for range r.Accounts() {
				accounts++
			}
			if accounts < 7 {
				t.Errorf("%d accounts", accounts)
			}
			if _, err := e.Waive(custody.WaiveOptions{Setting: "history", Scope: "*", Until: "2027-12-31", Reason: "x"}); err != nil {
				t.Error(err)
			}
			w, err := Weigh(e, custody.WeighOptions{})
			if err != nil || w.Before || !strings.Contains(strings.Join(w.Reasons, ";"), "waiver") {
				t.Fatalf("%+v %v", w, err)
			}
			holds(e, t)
			if again, err := Weigh(e, custody.WeighOptions{}); err != nil || !again.Before || again.Number != w.Number {
				t.Errorf("once more: %+v %v", again, err)
			}
		})
	}
	if seen < 2 {
		t.Errorf("%d engagements", seen)
	}
}

// What reads records judges nothing and resolves no account; verify weighs each
// record once.
func TestLookingJudgesNothing(t *testing.T) {
	c := &clock{time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}
	e := weighed(t, c)
	take(e, t, strings.Replace(domain, "minPwdLength: 10", "minPwdLength: 9", 1))
	again(e, t)
	counted := func(what string, surveys, weighed int64, do func() error) {
		t.Helper()
		e.Surveys.Store(0)
		e.Weighed.Store(0)
		if err := do(); err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		if e.Surveys.Load() != surveys || e.Weighed.Load() != weighed {
			t.Errorf("%s: %d surveys and %d weighings, want %d and %d", what, e.Surveys.Load(), e.Weighed.Load(), surveys, weighed)
		}
	}
	counted("report", 0, 0, func() error { _, err := ReportOf(e, 0, ""); return err })
	counted("drift", 0, 0, func() error { _, err := Drift(e, 1, 2); return err })
	counted("waive", 0, 0, func() error {
		_, err := e.Waive(custody.WaiveOptions{Setting: "min-length", Scope: "*", Until: "2026-12-31", Reason: "until the new till"})
		return err
	})
	counted("waive --list", 0, 0, func() error { _, err := e.Waivers(); return err })
	counted("entries", 0, 0, func() error { _, err := e.Entries(custody.EntryFilter{}); return err })
	counted("verify", 2, 2, func() error { _, err := e.Verify(); return err })
	counted("weigh", 1, 1, func() error { _, err := Weigh(e, custody.WeighOptions{}); return err })
}

// Looking writes nothing; what differs is recorded, with its reason.
func TestWhatIsRecorded(t *testing.T) {
	c := &clock{time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}
	e := weighed(t, c)
	weigh := func(what, reason string, opt custody.WeighOptions) *custody.Weighing {
		t.Helper()
		before, _ := e.Ledger.Last()
		w, err := Weigh(e, opt)
		if err != nil {
			t.Fatal(err)
		}
		after, _ := e.Ledger.Last()
		if (after > before) != (reason != "") || reason != "" && !strings.Contains(strings.Join(w.Reasons, "; "), reason) {
			t.Errorf("%s: entries %d to %d, %q, want %q", what, before, after, w.Reasons, reason)
		}
		return w
	}
	again := custody.WeighOptions{Against: []string{"cis-windows-server"}, Record: true}
	weigh("once more", "", again)
	if w := weigh("a trial", "", custody.WeighOptions{Against: []string{"pci-dss-4"}}); !w.Trial || w.Number != 0 || w.Recorded() {
		t.Errorf("a trial: %+v", w)
	}
	weigh("by the engagement's own choice", "other baselines", custody.WeighOptions{})
	weigh("the same", "", custody.WeighOptions{})
	c.at = c.at.AddDate(0, 0, 1)
	weigh("a day later", "", custody.WeighOptions{})
	if _, err := e.Waive(custody.WaiveOptions{Setting: "min-length", Scope: "*", Until: "2026-12-31",
		Reason: "until the new till"}); err != nil {
		t.Fatal(err)
	}
	weigh("a waiver", "a waiver", custody.WeighOptions{})
	weigh("the same waiver", "", custody.WeighOptions{})
	c.at = c.at.AddDate(0, 2, 0)
	weigh("when it has ended", "ended", custody.WeighOptions{})
	take(e, t, strings.Replace(domain, "minPwdLength: 10", "minPwdLength: 9", 1))
	weigh("new evidence", "evidence changed", custody.WeighOptions{})
	swap(t, filepath.Join(e.Dir, custody.ConfigName),
		"title: T\nauditor: R. Quill\nbaselines: [cis-windows-server]\nexpect: {newer-than: 2000d}\n")
	other, err := custody.Open(t.Context(), e.Dir, c.now, Judge)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	e = other
	weigh("another configuration", "engagement.yaml changed", custody.WeighOptions{})
	c.at = c.at.AddDate(6, 0, 0)
	weigh("when evidence has grown old", "with the day", custody.WeighOptions{})
	weigh("and the next day", "", custody.WeighOptions{})
	holds(e, t)
}

// A record comes back as it was.
func TestRecordComesBack(t *testing.T) {
	c := &clock{time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}
	e := weighed(t, c)
	w, err := e.Recall(1)
	if err != nil {
		t.Fatal(err)
	}
	data, err := w.Encode()
	if err != nil {
		t.Fatal(err)
	}
	row, err := e.Ledger.Weighing(1)
	if err != nil || string(row.Record) != string(data) {
		t.Errorf("written again it is another: %v", err)
	}
	if d := record.Differences(w.Record, w.Record); len(d) > 0 {
		t.Errorf("%+v", d)
	}
	if w.Program.Version != custody.Version || len(w.Forecasts) != len(w.Scopes) || len(w.Rolls) != 1 || len(w.Files) != 1 {
		t.Errorf("%+v", w.Record)
	}
	for what, bad := range map[string]string{
		"newer":        strings.Replace(string(data), `"format":3`, `"format":4`, 1),
		"no format":    strings.Replace(string(data), `"format":3`, `"format":0`, 1),
		"out of range": strings.Replace(string(data), `"scope":0`, `"scope":99`, 1),
		"cut":          string(data[:len(data)/2]),
	} {
		if _, err := record.Decode([]byte(bad)); err == nil {
			t.Errorf("%s: it is taken", what)
		}
	}
}

// A record that another version judged is intact, and what differs today is told.
func TestJudgedOtherwise(t *testing.T) {
	c := &clock{time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}
	e := weighed(t, c)
	// As a version would have written it that knew other severities and sentences.
	w, err := e.Recall(1)
	if err != nil {
		t.Fatal(err)
	}
	w.Program = record.Program{Version: "0.2.9"}
	w.Findings[0].Severity, w.Findings[0].Reason, w.Findings[0].Remedy = baseline.Severity("minor"), "Another sentence.", "Another remedy."
	was := w.Findings[0].Fingerprint
	w.Survey = nil
	w.Number = 2
	body, err := w.Encode()
	if err != nil {
		t.Fatal(err)
	}
	first, err := e.Recorded(1)
	if err != nil {
		t.Fatal(err)
	}
	told := first.Told
	told.Weighing, told.Result, told.Inputs.Program = 2, custody.HexSum(body), "0.2.9"
	tx, err := e.Ledger.Change()
	if err == nil {
		_, err = tx.Append(e.Now, "R. Quill", custody.WeighKind, told)
	}
	if err == nil {
		err = tx.AddRecord(2, body)
	}
	if err != nil {
		t.Fatal(err)
	}
	if err := tx.Commit(); err != nil {
		t.Fatal(err)
	}
	v := holds(e, t)
	j := v.Judged[1]
	if j.Outcome != record.OtherVersion || j.Program.Version != "0.2.9" || len(j.Differs) != 1 || !strings.Contains(j.Differs[0].What, was) ||
		v.Judged[0].Outcome != record.Same {
		t.Errorf("%+v", v.Judged)
	}
	r, err := ReportOf(e, 2, "")
	if err != nil || r.Weighing.Findings[0].Reason != "Another sentence." {
		t.Errorf("the report does not say what was recorded: %v", err)
	}
	now, err := Weigh(e, custody.WeighOptions{Against: []string{"cis-windows-server"}, Record: true})
	if err != nil || now.Before || !strings.Contains(now.Reasons[0], "since the program reads something otherwise than 0.2.9") {
		t.Errorf("%+v %v", now.Reasons, err)
	}
}

func sources(f *contract.FindingDocument) (all []check.Source) {
	for _, b := range f.Baselines {
		all = append(all, check.Source(b))
	}
	return all
}
