package page

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"

	"sternledger/internal/contract"
	"sternledger/internal/core/record"
	"sternledger/internal/custody"
	"sternledger/internal/ledger"

	"github.com/charmbracelet/x/ansi"
)

// Entries draws entries of the ledger as a page; whole with their bodies.
func Entries(s *Sheet, all []ledger.Entry, whole bool) error {
	s.Title("The ledger", Quantity(len(all), "entry"))
	var rows [][]string
	for i := range all {
		e := &all[i]
		if whole {
			s.Entry(fmt.Sprint(e.Seq), e.Kind, e.At+"  "+e.Actor, custody.About(e), "hash "+e.Hash, "before "+e.Previous)
			var body bytes.Buffer
			if json.Indent(&body, []byte(e.Body), "", "  ") == nil {
				for line := range strings.SplitSeq(body.String(), "\n") {
					s.line("  " + ansi.Truncate(Clean(line), s.width-2, "…"))
				}
			}
			s.Blank()
			continue
		}
		rows = append(rows, []string{fmt.Sprint(e.Seq), strings.Replace(strings.TrimSuffix(e.At, "Z"), "T", " ", 1), e.Actor, e.Kind,
			custody.About(e), e.Hash[:min(len(e.Hash), 12)]})
	}
	if !whole {
		s.Table([]Column{{Head: "entry", Right: true}, {Head: "at (UTC)"}, {Head: "by"}, {Head: "kind"}, {Head: "about"}, {Head: "hash"}}, rows)
		s.Blank()
		s.Text("--verbose shows the entries whole. \"sternledger verify\" proves that none was altered.")
	}
	return s.Err()
}

// EntryRows gives one row for each entry.
func EntryRows(all []ledger.Entry) *Rows {
	r := &Rows{Head: []string{"entry", "at", "by", "kind", "about", "hash"}}
	for i := range all {
		e := &all[i]
		r.Rows = append(r.Rows, []string{fmt.Sprint(e.Seq), e.At, e.Actor, e.Kind, custody.About(e), e.Hash})
	}
	return r
}

// judged says what came of weighing again.
func judged(s *Sheet, d contract.VerifyDocument) {
	same := 0
	for _, j := range d.Weighings {
		if j.Outcome == record.Same {
			same++
		}
	}
	if same == len(d.Weighings) {
		s.Note("weighings", fmt.Sprintf("%s, each the record that was written; weighed again, to the same verdicts",
			Quantity(len(d.Weighings), "weighing")))
		return
	}
	s.Note("weighings", fmt.Sprintf("%s, each the record that was written; %d weighed again to the same verdicts",
		Quantity(len(d.Weighings), "weighing"), same))
	for _, j := range d.Weighings {
		switch j.Outcome {
		case record.OtherVersion:
			lines := []string{fmt.Sprintf("intact; judged by program %s, and this one, %s, judges %s otherwise:", j.MadeBy,
				custody.ThisProgram(), Quantity(len(j.Differs), "verdict"))}
			const most = 5
			for _, x := range j.Differs[:min(len(j.Differs), most)] {
				lines = append(lines, x.What+": recorded "+x.Before+"; today "+x.After)
			}
			if more := len(j.Differs) - most; more > 0 {
				lines = append(lines, fmt.Sprintf("and %d more (--format json)", more))
			}
			s.beside("", "", plain, fmt.Sprintf("weighing %d: ", j.Weighing)+lines[0], lines[1:])
		case record.NotPossible:
			s.Note("", fmt.Sprintf("weighing %d: intact; it cannot be weighed again: %s", j.Weighing, j.Why))
		}
	}
}

// Verified draws what came of proving the ledger.
func Verified(s *Sheet, v *custody.Verified) error {
	d := v.Document()
	outcome := "Verified: nothing was altered"
	if !d.Holds {
		outcome = "Verification failed: something was altered"
	}
	s.Title(outcome, Quantity(d.Entries, "entry"))
	for _, f := range d.Failures {
		head := "the database as a whole"
		if f.Entry > 0 {
			head = fmt.Sprintf("entry %d", f.Entry)
		}
		s.beside("altered", "", heavy, head, []string{f.Text})
	}
	if d.Holds {
		s.Note("chain", fmt.Sprintf("%s, each following the one before", Quantity(d.Entries, "entry")))
		s.Note("evidence", fmt.Sprintf("%s, each with its SHA-256, and the facts read from them", Quantity(d.Files, "file")))
		judged(s, d)
		s.Note("seal", d.Seal)
	}
	if d.Compared != "" && d.Holds {
		s.Note("compared", fmt.Sprintf("with the seal %s; %s since", d.Compared, Quantity(d.Since, "entry")))
	}
	if d.Signer != "" && d.Holds {
		s.Note("signed", "by "+d.Signer)
	}
	for _, n := range d.Notes {
		s.Note("note", n)
	}
	if d.Holds && d.Compared == "" {
		s.Blank()
		s.Text("That nothing was removed from the end, only a seal proves that was written down elsewhere: \"sternledger seal\" " +
			"prints it, \"verify --seal\" compares it.")
	}
	return s.Err()
}

// VerifiedRows gives one row for each failure.
func VerifiedRows(v *custody.Verified) *Rows {
	r := &Rows{Head: []string{"entry", "failure"}}
	for _, f := range v.Failures {
		r.Rows = append(r.Rows, []string{fmt.Sprint(f.Entry), f.Text})
	}
	return r
}
