package assess

import (
	"path/filepath"
	"strings"
	"testing"
	"time"

	"sternledger/internal/core/record"
	"sternledger/internal/custody"
)

// Evidence is destroyed and the record kept: what can be proven is, and what no
// longer can is said.
func TestRetire(t *testing.T) {
	c := &clock{time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}
	e := weighed(t, c)
	if _, err := e.Retire(" "); err == nil {
		t.Error("without a reason")
	}
	r, err := e.Retire("the contract ended")
	if err != nil || r.Files != 1 || r.Entry != 4 {
		t.Fatalf("%+v %v", r, err)
	}
	if e.Folder.Has("evidence/x.ldif") {
		t.Error("the evidence is still there")
	}
	v := holds(e, t)
	if len(v.Notes) != 1 || !strings.Contains(v.Notes[0], "1 files of evidence were destroyed, as entry 4 records") ||
		v.Judged[0].Outcome != record.Same {
		t.Errorf("%+v", v)
	}
	if report, err := ReportOf(e, 0, ""); err != nil || len(report.Weighing.Findings) == 0 {
		t.Errorf("%v", err)
	}
	if w := again(e, t); !w.Before {
		t.Errorf("%v", w.Reasons)
	}
	if _, err := e.Retire("once more"); err == nil {
		t.Error("nothing was destroyed twice")
	}
	// New evidence is kept again; the packed engagement has only that.
	take(e, t, strings.Replace(domain, "minPwdLength: 10", "minPwdLength: 9", 1))
	again(e, t)
	file := filepath.Join(t.TempDir(), "x.zip")
	p, err := e.Pack(file, custody.PackOptions{})
	if err != nil || p.Files != 3 {
		t.Fatalf("%+v %v", p, err)
	}
	if v, err := custody.Unpack(t.Context(), file, filepath.Join(t.TempDir(), "out"), custody.UnpackOptions{Judge: Judge},
		c.now); err != nil || v.Weighings != 2 {
		t.Errorf("%+v %v", v, err)
	}
	// A run that was stopped before the files went is finished by the next.
	if _, err := e.Retire("and the rest"); err != nil {
		t.Fatal(err)
	}
	swap(t, filepath.Join(e.Dir, "evidence", "x-2.ldif"), domain)
	again, err := custody.Open(t.Context(), e.Dir, c.now, Judge)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	if again.Folder.Has("evidence/x-2.ldif") {
		t.Error("what was left is still there")
	}
}
