package page

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"sternledger/internal/contract"
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/custody"
)

// Baselines draws the list of baselines.
func Baselines(s *Sheet, d *contract.BaselineListDocument) error {
	s.Title("Baselines", Quantity(len(d.Baselines), "baseline"))
	for _, b := range d.Baselines {
		lines := []string{b.ID + " " + b.Version + ", " + Quantity(b.Demands, "demand") + ": " + platformsText(b.Platforms)}
		if b.Extends != "" {
			lines = append(lines, "extends "+b.Extends)
		}
		word := "shipped"
		if b.Source != word {
			word = "own"
			lines = append(lines, b.Source)
		}
		s.Entry(word, "", b.Title, lines...)
	}
	return s.Err()
}

// Choosing draws what is chosen, and what fits the places in evidence.
func Choosing(s *Sheet, d *contract.ChoosingDocument) error {
	s.Title("Baselines that are chosen", Quantity(len(d.Chosen), "baseline"))
	s.Note("chosen", cmp.Or(strings.Join(d.Chosen, ", "), "none"))
	if !slices.Equal(d.Chosen, d.Before) {
		s.Note("before", cmp.Or(strings.Join(d.Before, ", "), "none"))
	}
	if len(d.Platforms) == 0 {
		s.Text("Nothing was gathered yet: what fits is not known.")
		return s.Err()
	}
	s.Blank()
	for _, p := range d.Platforms {
		word, lines := "open", []string{}
		if len(p.Chosen) > 0 {
			word, lines = "covered", append(lines, "by "+strings.Join(p.Chosen, ", "))
		}
		if len(p.Fitting) > 0 {
			lines = append(lines, "fits, and is not chosen: "+strings.Join(p.Fitting, ", "))
		}
		s.Entry(word, "", string(p.Platform)+", "+Quantity(p.Places, "place"), lines...)
	}
	return s.Err()
}

// ChoosingRows gives one row for each kind of place.
func ChoosingRows(d *contract.ChoosingDocument) *Rows {
	r := &Rows{Head: []string{"platform", "places", "chosen", "fitting"}}
	for _, p := range d.Platforms {
		r.Rows = append(r.Rows, []string{string(p.Platform), fmt.Sprint(p.Places), strings.Join(p.Chosen, " "), strings.Join(p.Fitting, " ")})
	}
	return r
}

// BaselineListRows gives one row for each baseline.
func BaselineListRows(d *contract.BaselineListDocument) *Rows {
	r := &Rows{Head: []string{"baseline", "title", "version", "source", "extends", "platforms", "demands"}}
	for _, b := range d.Baselines {
		r.Rows = append(r.Rows, []string{b.ID, b.Title, b.Version, b.Source, b.Extends, platformsText(b.Platforms), fmt.Sprint(b.Demands)})
	}
	return r
}

func platformsText(all []setting.Platform) string {
	var words []string
	for _, p := range all {
		words = append(words, string(p))
	}
	return strings.Join(words, ", ")
}

func systemsText(all []estate.System) string {
	var words []string
	for _, s := range all {
		words = append(words, s.String())
	}
	return strings.Join(words, ", ")
}

// Baseline draws one baseline.
func Baseline(s *Sheet, b *baseline.Baseline, source string) error {
	s.Title(b.Title, b.String())
	for _, l := range []struct{ word, text string }{
		{"follows", strings.TrimSuffix(b.Edition+"; "+b.Publisher, "; ")}, {"sources", strings.Join(b.Sources, "; ")},
		{"for", platformsText(b.Platforms)}, {"systems", systemsText(b.Systems)}, {"tiers", strings.Join(b.Tiers, ", ")}, {"who", string(b.Who)},
		{"extends", b.Extends}, {"note", b.Note}, {"file", source},
	} {
		if strings.Trim(l.text, "; ") != "" {
			s.Note(l.word, strings.TrimPrefix(l.text, "; "))
		}
	}
	if b.Publisher != "" {
		s.Note("", "The document rules wherever this file and the document differ.")
	}
	s.Blank()
	s.Title("Demands", Quantity(len(b.Demands), "demand"))
	for i := range b.Demands {
		d := &b.Demands[i]
		head := string(d.Setting) + ": " + d.Text()
		if d.Ref != "" {
			head += " (" + d.Ref + ")"
		}
		var lines []string
		if where := d.Where(); where != "" {
			lines = append(lines, where)
		}
		lines = append(lines, d.Why)
		switch {
		case d.Was != "":
			lines = append(lines, "takes the place of "+d.Was)
		case d.From != "":
			lines = append(lines, "from "+d.From)
		}
		s.Entry(string(d.Severity), "", head, lines...)
	}
	for _, x := range b.Dropped {
		s.Entry("dropped", "", string(x.Setting)+": nothing is required", x.Why)
	}
	return s.Err()
}

// BaselineRows gives one row for each demand.
func BaselineRows(b *baseline.Baseline) *Rows {
	r := &Rows{Head: []string{"baseline", "setting", "demanded", "where", "ref", "severity", "why", "from", "was"}}
	for i := range b.Demands {
		d := &b.Demands[i]
		r.Rows = append(r.Rows, []string{b.ID, string(d.Setting), d.Text(), d.Where(), d.Ref, string(d.Severity), d.Why, d.From, d.Was})
	}
	return r
}

// Reconciled draws baselines laid together: what satisfies all, and where none
// can.
func Reconciled(s *Sheet, d *contract.ReconcileDocument) error {
	var names []string
	for _, b := range d.Baselines {
		names = append(names, b.ID)
	}
	split := 0
	for _, r := range custody.Rows(d) {
		if len(r.Ways) == 0 {
			split++
		}
	}
	s.Title("Reconciled: "+strings.Join(names, ", "), Quantity(split, "conflict"))
	for _, r := range custody.Rows(d) {
		word, head := "agree", string(r.Setting)+": "+r.Text()
		if len(r.Ways) == 0 {
			word, head = "exclude", string(r.Setting)+": no value satisfies all"
		} else if len(r.Demands) == 1 {
			word = "one alone"
		}
		var lines []string
		if r.Case != "" {
			lines = append(lines, "case: "+r.Case)
		}
		if len(r.Demands) > 1 || len(r.Ways) == 0 {
			for _, n := range r.Demands {
				line := n.String()
				if len(r.Ways) == 0 {
					line += ". " + n.Demand.Why
				}
				lines = append(lines, line)
			}
		} else {
			lines = append(lines, "only "+r.Demands[0].Baseline.ID+" "+r.Demands[0].Demand.Ref)
		}
		s.Entry(word, "", head, lines...)
	}
	if split > 0 {
		s.Blank()
		s.Text("Where they exclude each other, decide which to follow and record it under decisions in engagement.yaml; weigh " +
			"honours it and shows it.")
	}
	return s.Err()
}

// ReconciledRows gives one row for each setting and baseline.
func ReconciledRows(d *contract.ReconcileDocument) *Rows {
	r := &Rows{Head: []string{"setting", "case", "band", "agrees", "baseline", "ref", "demanded", "why"}}
	for _, x := range d.Settings {
		for _, n := range x.Demands {
			r.Rows = append(r.Rows, []string{string(x.Setting), x.Case, x.Band, fmt.Sprint(x.Agrees), n.Baseline, n.Ref, n.Demanded, n.Why})
		}
	}
	return r
}

// NewBaseline tells what a new baseline was made of, and what of that was not
// understood.
func NewBaseline(s *Sheet, d *contract.BaselineNewDocument) error {
	s.Title(d.Title, Quantity(d.Demands, "demand"))
	s.Note("file", d.File)
	switch d.Kind {
	case "baseline":
		s.Text("It extends " + d.From + " and changes nothing yet: write your figures into it.")
	case "place", "settings":
		s.Note("taken from", d.Document)
	default:
		s.Note("taken from", strings.TrimSpace(d.Kind+": "+d.Document+" "+d.Version))
		if d.Profile != "" {
			s.Note("profile", d.Profile)
		} else if len(d.Profiles) > 0 {
			s.Note("profile", "none: what the document selects by itself; it has "+strings.Join(d.Profiles, ", "))
		}
		s.Note("rules", fmt.Sprintf("%s of %s selected: %d understood, %d about passwords or lockout and not understood, %d about other things",
			Grouped(d.Selected), Grouped(d.All), d.Understood, d.NotUnderstood, d.Elsewhere))
	}
	rules(s, "Not understood", d.Rules, func(r *contract.RuleDocument) (bool, []string) { return r.Why != "", []string{r.Why} })
	rules(s, "Understood, with a remark", d.Rules, func(r *contract.RuleDocument) (bool, []string) {
		return r.Why == "" &&
			len(r.Remarks) > 0, r.Remarks
	})
	if len(d.Unasked) > 0 {
		s.Blank()
		s.Title("Nothing is required", Quantity(len(d.Unasked), "setting"))
		for _, u := range d.Unasked {
			s.Text(string(u.Setting) + ": " + u.Why)
		}
	}
	s.Blank()
	s.Text("Next: sternledger baseline show " + d.ID + "; sternledger weigh --against " + d.ID)
	return s.Err()
}

// rules lists those that are meant, each with what is said of it.
func rules(s *Sheet, title string, all []contract.RuleDocument, of func(r *contract.RuleDocument) (bool, []string)) {
	n := 0
	for i := range all {
		if is, _ := of(&all[i]); is {
			n++
		}
	}
	if n == 0 {
		return
	}
	s.Blank()
	s.Title(title, Quantity(n, "rule"))
	for i := range all {
		if is, lines := of(&all[i]); is {
			s.Entry("", "", all[i].ID, lines...)
		}
	}
}

// RuleRows gives one row for each rule about passwords or lockout.
func RuleRows(d *contract.BaselineNewDocument) *Rows {
	r := &Rows{Head: []string{"baseline", "rule", "ref", "outcome", "settings", "why", "remarks"}}
	for _, x := range d.Rules {
		var ids []string
		for _, id := range x.Settings {
			ids = append(ids, string(id))
		}
		r.Rows = append(r.Rows, []string{d.ID, x.ID, x.Ref, x.Outcome, strings.Join(ids, " "), x.Why, strings.Join(x.Remarks, "; ")})
	}
	return r
}

// BaselineDiff draws two baselines side by side: what changed, or, if asked, all.
func BaselineDiff(s *Sheet, d *contract.BaselineDiffDocument, whole bool) error {
	name := func(b contract.BaselineDocument) string { return b.ID + " " + b.Version }
	counts := map[baseline.Change]int{}
	for _, r := range d.Demands {
		counts[r.Change]++
	}
	s.Title(name(d.Was)+" and "+name(d.Is), Quantity(len(d.Demands)-counts[baseline.Same], "change"))
	var words []string
	for _, c := range []baseline.Change{baseline.Stricter, baseline.Laxer, baseline.Differs, baseline.Added, baseline.Removed, baseline.Same} {
		if counts[c] > 0 {
			words = append(words, fmt.Sprintf("%d %s", counts[c], c))
		}
	}
	s.Text(strings.Join(words, ", ") + ".")
	s.Blank()
	for _, r := range d.Demands {
		if r.Change == baseline.Same && !whole {
			continue
		}
		var lines []string
		if r.Where != "" {
			lines = append(lines, r.Where)
		}
		if r.Was != "" {
			lines = append(lines, name(d.Was)+": "+withRef(r.Was, r.WasRef))
		}
		if r.Is != "" {
			lines = append(lines, name(d.Is)+": "+withRef(r.Is, r.IsRef))
		}
		s.Entry(string(r.Change), "", string(r.Setting), lines...)
	}
	return s.Err()
}

func withRef(text, ref string) string {
	if ref == "" {
		return text
	}
	return text + " (" + ref + ")"
}

// BaselineDiffRows gives one row for each demand of either.
func BaselineDiffRows(d *contract.BaselineDiffDocument) *Rows {
	r := &Rows{Head: []string{"setting", "where", "change", "was", "was ref", "is", "is ref"}}
	for _, x := range d.Demands {
		r.Rows = append(r.Rows, []string{string(x.Setting), x.Where, string(x.Change), x.Was, x.WasRef, x.Is, x.IsRef})
	}
	return r
}
