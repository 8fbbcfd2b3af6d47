package page

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"sternledger/internal/assess"
	"sternledger/internal/contract"
	"sternledger/internal/core/amend"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/exposure"
)

const (
	mostAmended   = 14 // on the first screen
	mostDecisions = 3
	mostWhole     = 3 // amendments that are shown whole where so few are picked
)

// Amendments draws the plan, or the part of it that was picked.
func Amendments(s *Sheet, x *assess.Amending, all bool) error {
	s.Title("Amendments", fmt.Sprintf("of weighing %d", x.Number))
	s.Text(AmendTotals(x))
	if len(x.Picked) == 0 {
		return s.Err()
	}
	hit(s, x)
	heldBack(s, x, all)
	staircase(s, x)
	s.Blank()
	if len(x.Picked) <= mostWhole && !x.Whole {
		for _, a := range x.Picked {
			amendment(s, x, a)
		}
	} else {
		shown := x.Picked
		if !all {
			shown = shown[:min(len(shown), mostAmended)]
		}
		amendTable(s, shown)
		if more := len(x.Picked) - len(shown); more > 0 {
			s.Text(fmt.Sprintf("%s more: sternledger amend --all", Grouped(more)))
		}
	}
	if !x.Plan.Exact {
		s.Text("There are too many places to weigh each amendment alone: what each settles is counted by its setting. All together were weighed.")
	}
	appears(s, x)
	if x.Whole || all {
		decisions(s, x.Plan, all)
	}
	s.Blank()
	s.Text("One whole: amend --pick " + x.Picked[0].Name + ". The fewest that end what is grave: amend --least. Change files, with undo: " +
		"amend --to DIR.")
	return s.Err()
}

// AmendTotals says what the amendments come to.
func AmendTotals(x *assess.Amending) string {
	p := x.Plan
	left, made, held := len(p.Left()), 0, 0
	for _, a := range x.Picked {
		if len(a.Kept()) > 0 {
			made++
		}
		if len(a.Back()) > 0 {
			held++
		}
	}
	verb := "settle"
	if made == 1 {
		verb = "settles"
	}
	text := fmt.Sprintf("%s %s %s of %s", Quantity(made, "amendment"), verb, Grouped(x.Settled), Quantity(p.Findings, "finding"))
	if held > 0 {
		text += fmt.Sprintf("; %s held back", are(held))
	}
	if !x.Whole {
		return fmt.Sprintf("%s; %s left.", text, Quantity(x.Graves, "grave finding"))
	}
	if n := len(p.Held); n > 0 {
		text += fmt.Sprintf(" (%s)", Quantity(n, "finding"))
	}
	text = fmt.Sprintf("%s; %s %s a decision, %s more evidence.", text, Grouped(left), needs(left), Grouped(len(p.Evidence)))
	if n := len(p.Out); n > 0 {
		names := make([]string, 0, mostOut)
		for _, o := range p.Out[:min(n, mostOut)] {
			names = append(names, o.Name)
		}
		more := ""
		if n > mostOut {
			more = ", …"
		}
		text += fmt.Sprintf(" Of %s planned of the record %s left out, since they settle nothing once they are weighed anew, or make another verdict worse: %s%s.",
			Grouped(len(p.Amendments)+n), are(n), strings.Join(names, ", "), more)
	}
	return text
}

// mostOut is how many amendments that are left out a page names.
const mostOut = 8

func are(n int) string {
	if n == 1 {
		return "1 is"
	}
	return Grouped(n) + " are"
}

func needs(n int) string {
	if n == 1 {
		return "needs"
	}
	return "need"
}

// mostStairs is how many steps of the staircase a page shows.
const mostStairs = 6

// staircase says how many accounts would fall, now and after the first amendments.
func staircase(s *Sheet, x *assess.Amending) {
	if x.Exposed == nil || len(x.Steps) == 0 {
		return
	}
	now, then := &x.Exposed[0], &x.Exposed[1]
	s.Blank()
	s.Title("Exposure", "accounts that would fall within a year, under stated assumptions")
	cells := func(name, what string, t *exposure.Total) []string {
		row := []string{name, what, Falls(t.Falls.Default)}
		if now.Privileged > 0 {
			row = append(row, Falls(t.Admins.Default))
		}
		return append(row, bar(t.Falls.Default, now.Falls.Default, 20))
	}
	rows := [][]string{cells("now", "", now)}
	shown := x.Steps[:min(len(x.Steps), mostStairs)]
	for i := range shown {
		step := &shown[i]
		rows = append(rows, cells(step.Name, step.Title()+" to "+step.Becomes()+": "+AmendWhere(step.Amendment), &step.After))
	}
	if len(x.Picked) > len(shown) {
		rows = append(rows, cells("all", Quantity(len(x.Picked), "amendment"), then))
	}
	columns := []Column{{Head: ""}, {Head: "after"}, {Head: "of " + Grouped(now.Accounts), Right: true}}
	if now.Privileged > 0 {
		columns = append(columns, Column{Head: "of " + Grouped(now.Privileged) + "\nprivileged", Right: true})
	}
	s.Table(append(columns, Column{}), rows)
	if x.Reached > 0 {
		s.Text(fmt.Sprintf("Somebody gets in as a privileged account with a chance of %s in 100 a year on average.", Percent(x.Reached)))
	}
}

func amendTable(s *Sheet, all []*amend.Amendment) {
	var rows [][]string
	for _, a := range all {
		rows = append(rows, []string{a.Name, a.Title(), a.Was(), a.Becomes(), AmendWhere(a) + heldMark(a), Grouped(len(a.Settles)), Grouped(a.Accounts),
			Falls(a.Worth)})
	}
	s.Table([]Column{{Head: ""}, {Head: "change"}, {Head: "now"}, {Head: "then"}, {Head: "where"}, {Head: "settles", Right: true, Drop: 2},
		{Head: "accounts", Right: true, Drop: 1}, {Head: "worth", Right: true}}, rows)
}

// AmendWhere names what is changed, and where.
func AmendWhere(a *amend.Amendment) string {
	first := &a.Spots[0]
	if len(a.Spots) == 1 {
		if first.Policy() == first.At.Name {
			return first.At.Name
		}
		return first.Policy() + ", " + first.At.Name
	}
	noun := nouns[first.At.Kind]
	return Quantity(len(a.Spots), cmp.Or(noun, "place")) + ", " + first.At.Name + " and others"
}

// changeOf names a change at one place.
func changeOf(a *amend.Amendment, at *amend.Spot) string {
	where := " of " + at.Policy() + ", " + at.At.Name
	if at.Holder == amend.Flags {
		where = ", " + at.At.Name
	}
	return a.Title() + where + ": " + a.Was() + " to " + a.Becomes()
}

// heldMark says that an amendment is held back, at all or at some of its places.
func heldMark(a *amend.Amendment) string {
	switch {
	case len(a.Back()) == 0:
		return ""
	case len(a.Kept()) == 0:
		return " (held back)"
	}
	return fmt.Sprintf(" (held back at %d)", len(a.Back()))
}

// AmendHeld says why an amendment is held back, and what to do first; empty: it is not.
func AmendHeld(a *amend.Amendment, at time.Time) string {
	if len(a.Back()) == 0 {
		return ""
	}
	h := &a.Back()[0].Held[0]
	return "Held back: otherwise " + h.Text(contract.DayOf(at)) + ". " + h.Instead()
}

// amendment draws one whole.
func amendment(s *Sheet, x *assess.Amending, a *amend.Amendment) {
	t := x.Touched[a]
	lines := []string{AmendWhere(a)}
	if a.Spots[0].Where != "" {
		lines[0] += " (" + a.Spots[0].Where + ")"
	}
	if c := a.Spots[0].Cite; c.File != "" && c.Line > 0 {
		lines = append(lines, "it stands at "+c.String()+": "+strings.TrimSpace(c.Where+" "+c.Raw))
	}
	for _, f := range a.First {
		lines = append(lines, "first "+f.Name+": "+f.Title()+" of "+AmendWhere(f)+" to "+f.Becomes())
	}
	lines = append(lines, a.Notes...)
	text := fmt.Sprintf("reaches %s", Quantity(a.Accounts, "account"))
	if a.Privileged > 0 {
		text += fmt.Sprintf(" (%s privileged)", Grouped(a.Privileged))
	}
	lines = append(lines, text+". "+t.What+".")
	if len(t.Services) > 0 {
		lines = append(lines, "accounts of services among them, which stop working: "+strings.Join(t.Services, ", "))
	}
	for _, spot := range a.Back() {
		for i := range spot.Held {
			lines = append(lines, "held back at "+spot.At.Name+": otherwise "+spot.Held[i].Text(contract.DayOf(x.Weighing.At))+". "+spot.Held[i].Instead())
		}
	}
	lines = append(lines, settled(a)...)
	for i := range a.Brings {
		lines = append(lines, "brings: "+a.Brings[i].ScopeName()+": "+a.Brings[i].Reason)
	}
	s.Entry(a.Name, string(a.Severity), a.Title()+": "+a.Was()+" to "+a.Becomes(), lines...)
}

// settled names the findings that end, by what they are about.
func settled(a *amend.Amendment) []string {
	var lines []string
	for _, f := range a.Settles {
		lines = append(lines, "settles: "+f.ScopeName()+": "+f.Title())
	}
	if more := len(lines) - mostLike; more > 0 {
		lines = append(lines[:mostLike], fmt.Sprintf("and %s more findings", Grouped(more)))
	}
	return lines
}

// mostNamed is how many accounts are named of those that cannot sign in.
const mostNamed = 6

// hit says what comes of everybody with the amendments that are picked.
func hit(s *Sheet, x *assess.Amending) {
	s.Text("If nobody acts: " + lowered(x.Played.Text()) + ".")
	n := 0
	for _, f := range x.Played.Fates {
		if f.Outcome != amend.ShutOut {
			break
		}
		if n++; n <= mostNamed {
			s.Entry("", "", f.Name+", "+f.Place.Name+": "+fateText(x, &f))
		}
	}
	s.Text(fmt.Sprintf("Forced changes of passwords in a year: %s today, %s after; calls to unlock an account: %s today, %s after.",
		Grouped(int(x.Before.Changes+0.5)), Grouped(int(x.After.Changes+0.5)), Grouped(int(x.Before.Calls+0.5)), Grouped(int(x.After.Calls+0.5))))
}

func fateText(x *assess.Amending, f *amend.Fate) string {
	return "cannot sign in any more " + fromDay(x, f.Day)
}

// lowered is a sentence within another.
func lowered(text string) string { return strings.ToLower(text[:1]) + text[1:] }

// heldBack tells of what is not to be made yet, and why.
func heldBack(s *Sheet, x *assess.Amending, all bool) {
	var held []*amend.Amendment
	for _, a := range x.Picked {
		if len(a.Back()) > 0 {
			held = append(held, a)
		}
	}
	if len(held) == 0 {
		return
	}
	s.Blank()
	s.Title("Held back", fmt.Sprintf("%s: in no file, and not counted above", Quantity(len(held), "amendment")))
	for i, a := range held {
		if i >= mostNamed && !all {
			s.Text(fmt.Sprintf("%s more: sternledger amend --all", Grouped(len(held)-mostNamed)))
			return
		}
		back := a.Back()
		first := &back[0].Held[0]
		lines := []string{"otherwise " + first.Text(contract.DayOf(x.Weighing.At)) + "."}
		if more := len(back) - 1; more > 0 {
			lines[0] += fmt.Sprintf(" So it is at %s more.", Quantity(more, "place"))
		}
		s.Entry(a.Name, "", changeOf(a, back[0]), append(lines, first.Instead())...)
	}
}

// appears tells of what the amendments bring.
func appears(s *Sheet, x *assess.Amending) {
	if len(x.Brings) > 0 {
		s.Blank()
		s.Title("What appears with them", "")
		for i := range x.Brings[:min(len(x.Brings), mostDecisions)] {
			f := &x.Brings[i]
			s.Entry(string(f.Severity), string(f.Kind), f.ScopeName()+": "+f.Title(), f.Reason)
		}
		if more := len(x.Brings) - mostDecisions; more > 0 {
			s.Text(fmt.Sprintf("and %s more", Grouped(more)))
		}
	}
	for _, text := range x.Worse {
		s.Note("worse", text)
	}
}

// decisions draws what a person has to decide.
func decisions(s *Sheet, p *amend.Plan, all bool) {
	if len(p.Decisions) == 0 {
		return
	}
	s.Blank()
	s.Title("Needs a decision", "")
	shown := p.Decisions
	if !all {
		shown = shown[:min(len(shown), mostDecisions)]
	}
	for _, d := range shown {
		var places []*estate.Authority
		for _, f := range d.Findings {
			if !slices.Contains(places, f.Authority) {
				places = append(places, f.Authority)
			}
		}
		s.Entry(string(d.Severity), "", d.Title, PlacesNamed(places)+", "+Quantity(len(d.Findings), "finding")+". "+d.Choices)
	}
	if more := len(p.Decisions) - len(shown); more > 0 {
		s.Text(fmt.Sprintf("%s more: sternledger amend --all", Grouped(more)))
	}
}

// AmendRows gives one row for each spot of each amendment.
func AmendRows(x *assess.Amending) *Rows {
	r := &Rows{Head: []string{"amendment", "fingerprint", "setting", "place", "policy", "where", "from", "to", "first", "severity",
		"settles", "accounts",
		"privileged", "owner", "touches", "evidence"}}
	for _, a := range x.Picked {
		var first []string
		for _, f := range a.First {
			first = append(first, f.Name)
		}
		for _, spot := range a.Spots {
			id := string(a.Setting)
			switch {
			case a.Flag != 0:
				id = a.Flag.Names()[0]
			case a.Precedence:
				id = "precedence"
			}
			r.Rows = append(r.Rows, []string{a.Name, a.Fingerprint, id, spot.At.String(), spot.Policy(), spot.Where, a.Was(), a.Becomes(),
				strings.Join(first, " "), string(a.Severity), fmt.Sprint(len(a.Settles)), fmt.Sprint(a.Accounts), fmt.Sprint(a.Privileged), spot.Owner,
				x.Touched[a].What, spot.Cite.String()})
		}
	}
	return r
}

// AmendWritten says which change files were written.
func AmendWritten(s *Sheet, x *assess.Amending, doc *contract.AmendDocument, dir string) error {
	files, hand := 0, 0
	for i := range doc.Amendments {
		for k := range doc.Amendments[i].Spots {
			switch spot := &doc.Amendments[i].Spots[k]; {
			case len(spot.Held) > 0:
			case spot.ByHand != "":
				hand++
			default:
				files++
			}
		}
	}
	s.Title("Change files written", fmt.Sprintf("of weighing %d", x.Number))
	s.Text(AmendTotals(x))
	s.Text(fmt.Sprintf("%s: %s by files, with what undoes them; %s in words, in CHANGE.md. Nothing was applied.", dir,
		Quantity(files, "change"), Grouped(hand)))
	s.Blank()
	var names []string
	for i := range doc.Amendments {
		for _, spot := range doc.Amendments[i].Spots {
			for _, f := range spot.Files {
				if !slices.Contains(names, f) {
					names = append(names, f)
				}
			}
		}
	}
	slices.Sort(names)
	for _, name := range names {
		n := 0
		for i := range doc.Amendments {
			for _, spot := range doc.Amendments[i].Spots {
				if slices.Contains(spot.Files, name) {
					n++
				}
			}
		}
		s.Entry(Quantity(n, "change"), "", name)
	}
	heldBack(s, x, false)
	s.Blank()
	s.Text("Read CHANGE.md first. After the next gather and weigh: amend --status.")
	return s.Err()
}

// stateWords are the states, for people.
var stateWords = map[assess.AmendState]string{assess.Took: "took", assess.NotYet: "not yet", assess.Otherwise: "otherwise",
	assess.Undone: "undone again",
	assess.Unseen: "not seen"}

// StatusWhere names what was to be changed, and where.
func StatusWhere(a *assess.AmendStatus) string {
	if len(a.Places) > 1 {
		return Quantity(len(a.Places), "place")
	}
	first := &a.Places[0]
	if first.Spot.Policy() == first.At.Name {
		return first.At.Name
	}
	return first.Spot.Policy() + ", " + first.At.Name
}

// StateOf says in a few words what came of an amendment.
func StateOf(a *assess.AmendStatus) (word, text string) {
	if len(a.Places) == 1 {
		p := &a.Places[0]
		return stateWords[p.State], "now " + p.Now
	}
	if n := a.Count(assess.Took); n < len(a.Places) {
		var rest []string
		for _, state := range []assess.AmendState{assess.NotYet, assess.Otherwise, assess.Undone, assess.Unseen} {
			if k := a.Count(state); k > 0 {
				rest = append(rest, fmt.Sprintf("%d %s", k, stateWords[state]))
			}
		}
		return fmt.Sprintf("%d of %d", n, len(a.Places)), "took in " + fmt.Sprintf("%d of %d places; ", n, len(a.Places)) +
			strings.Join(rest, ", ")
	}
	return "took", "in all " + Quantity(len(a.Places), "place")
}

// AmendStatuses draws what came of the change files: first what should be looked at.
func AmendStatuses(s *Sheet, x *assess.AmendStatuses, all bool) error {
	s.Title("What came of the amendments", fmt.Sprintf("by weighing %d", x.Weighing))
	if len(x.All) == 0 {
		s.Text("No change files were written before it. Write some with: sternledger amend --to DIR.")
		return s.Err()
	}
	s.Text(AmendStatusTotals(x))
	if x.Behind != "" {
		s.Text(x.Behind)
	}
	s.Blank()
	order := func(a *assess.AmendStatus) int {
		switch took := a.Count(assess.Took); {
		case a.Count(assess.Undone) > 0:
			return 0
		case a.Count(assess.Otherwise) > 0:
			return 1
		case took > 0 && took < len(a.Places):
			return 2
		case took > 0:
			return 3
		}
		return 4
	}
	sorted := slices.Clone(x.All)
	slices.SortStableFunc(sorted, func(a, b *assess.AmendStatus) int { return order(a) - order(b) })
	waiting := 0
	for _, a := range sorted {
		word, text := StateOf(a)
		head := a.Name + "  " + a.Title + " of " + StatusWhere(a) + ": " + a.Was + " to " + a.Becomes
		switch order(a) {
		case 3:
			s.Entry(word, "", head)
		case 4:
			if waiting++; waiting <= mostDecisions || all {
				s.Entry(word, "", head)
			}
		default:
			s.Entry(word, "", head, text)
		}
	}
	if more := waiting - mostDecisions; more > 0 && !all {
		s.Text(fmt.Sprintf("and %s more not yet: amend --status --all", Grouped(more)))
	}
	return s.Err()
}

// AmendStatusTotals counts the amendments by what came of them.
func AmendStatusTotals(x *assess.AmendStatuses) string {
	took, part := 0, 0
	for _, a := range x.All {
		switch n := a.Count(assess.Took); {
		case n == len(a.Places):
			took++
		case n > 0:
			part++
		}
	}
	text := fmt.Sprintf("%d of %s took", took, Quantity(len(x.All), "amendment"))
	if part > 0 {
		text += fmt.Sprintf(", %d in part", part)
	}
	return text + "."
}

// AmendStatusRows gives one row for each place of each amendment.
func AmendStatusRows(x *assess.AmendStatuses) *Rows {
	r := &Rows{Head: []string{"amendment", "fingerprint", "entry", "change", "place", "policy", "from", "to", "state", "now"}}
	for _, a := range x.All {
		for _, p := range a.Places {
			r.Rows = append(r.Rows, []string{a.Name, a.Fingerprint, fmt.Sprint(a.Entry), a.Title, p.At.String(), p.Spot.Policy(), a.Was, a.Becomes,
				string(p.State), p.Now})
		}
	}
	return r
}

// changeText keeps a name from being anything but text in Markdown: no link, picture,
// tag, or cell of a table.
var changeText = strings.NewReplacer("|", `\|`, "\n", " ", "<", "&lt;", "`", "\\`", "[", `\[`, "*", `\*`, "_", `\_`, "#", `\#`, "\\", `\\`)

// ChangeWords writes CHANGE.md: what, why, whom, in which order, how to apply it, how to
// undo it, how to see that it took.
func ChangeWords(x *assess.Amending, doc *contract.AmendDocument) string {
	var b strings.Builder
	p := func(format string, args ...any) { fmt.Fprintf(&b, format, args...) }
	cell := changeCell
	p("# Proposed changes: %s\n\n", cell(x.Weighing.Title))
	p("Made from weighing %d of %s by %s; seal %s. %s Nothing was applied.\n\n", doc.Weighing, x.Weighing.At.Format("2006-01-02"),
		cell(x.Weighing.Auditor), doc.Seal,
		AmendTotals(x))
	p("**If nobody acts**: %s.\n\n", cell(lowered(doc.Played.What)))
	for i, f := range doc.Played.Accounts {
		if f.Outcome != "cannot-sign-in" || i >= mostShut {
			break
		}
		p("- %s (%s): cannot sign in any more %s\n", cell(f.Account), cell(f.Place), fromDay(x, f.Day))
	}
	held := false
	for i := range doc.Amendments {
		for _, s := range doc.Amendments[i].Spots {
			for _, h := range s.Held {
				if !held {
					p("\n## Held back\n\nIn no file, and not counted above: what would shut out an administrator, root or a service.\n\n")
					held = true
				}
				a := &doc.Amendments[i]
				where := cell(s.Place)
				if a.Flag == "" {
					where += " (" + cell(s.Policy) + ")"
				}
				p("- %s, %s, %s: %s to %s. Otherwise %s. %s\n", a.Name, cell(a.Title), where, cell(a.From), cell(a.To), cell(h.What), cell(h.Instead))
			}
		}
	}
	p("\n")
	p("Forced changes of passwords in a year: %.0f today, %.0f after; calls to unlock an account: %.0f today, %.0f after.\n\n", doc.Changes[0],
		doc.Changes[1], doc.Calls[0],
		doc.Calls[1])
	p("| Accepted by | When | Applied by | When |\n| --- | --- | --- | --- |\n|  |  |  |  |\n\n")
	p("## Order\n\nAs they are numbered: what others need comes first. Apply a part, gather, weigh, and look at `sternledger amend " +
		"--status` before the next.\n\n")
	howTo(p, doc)
	if len(doc.Appear) > 0 {
		p("## What appears with them\n\n")
		for _, f := range doc.Appear {
			p("- %s: %s\n", cell(f.Scope), cell(f.Reason))
		}
		p("\n")
	}
	type spot struct{ amendment, spot int }
	at := map[string][]spot{}
	for i := range doc.Amendments {
		for k := range doc.Amendments[i].Spots {
			place := doc.Amendments[i].Spots[k].Place
			at[place] = append(at[place], spot{i, k})
		}
	}
	reasons := make([]string, len(doc.Amendments))
	for i := range reasons {
		reasons[i] = why(x, i)
	}
	// Places that change alike are told once.
	told, alike := map[string]string{}, map[string][]string{}
	var order []string
	for _, place := range slices.Sorted(maps.Keys(at)) {
		var section strings.Builder
		for _, s := range at[place] {
			changeAt(&section, x, doc, s.amendment, s.spot, reasons[s.amendment])
		}
		key := strings.ReplaceAll(section.String(), cell(place), "\x00")
		if told[key] == "" {
			order, told[key] = append(order, key), section.String()
		}
		alike[key] = append(alike[key], cell(place))
	}
	for _, key := range order {
		places := alike[key]
		if len(places) == 1 {
			p("## %s\n\n%s", places[0], told[key])
			continue
		}
		p("## %s that change alike\n\nTold of %s; the others have the same, each with the files of its own folder: %s.\n\n%s",
			Quantity(len(places), "place"), places[0], strings.Join(places[1:], ", "), told[key])
	}
	return b.String()
}

// changeCell is a text as Markdown shows it.
func changeCell(text string) string { return changeText.Replace(Clean(text)) }

// changeAt tells of an amendment at one place.
func changeAt(b *strings.Builder, x *assess.Amending, doc *contract.AmendDocument, i, k int, reason string) {
	p := func(format string, args ...any) { fmt.Fprintf(b, format, args...) }
	cell := changeCell
	a := &doc.Amendments[i]
	s := &a.Spots[k]
	p("### %s. %s: %s to %s\n\n", a.Name, cell(x.Picked[i].Title()), cell(a.From), cell(a.To))
	where := cell(s.Policy)
	if s.Where != "" {
		where += ", " + cell(s.Where)
	}
	p("- Where: %s", where)
	if s.Origin != "" && s.Origin != s.Policy {
		p(" (%s)", cell(s.Origin))
	}
	p("\n")
	if s.Evidence.File != "" && s.Evidence.Line > 0 {
		p("- Evidence: %s:%d\n", cell(s.Evidence.File), s.Evidence.Line)
	}
	p("- Why: %s\n", cell(reason))
	p("- Whom it reaches: %s. %s.\n", Quantity(a.Accounts, "account"), cell(a.Touches.What))
	if len(a.Touches.Services) > 0 {
		p("- Accounts of services that stop working: %s\n", cell(strings.Join(a.Touches.Services, ", ")))
	}
	for _, h := range s.Held {
		p("- **Held back**: otherwise %s. %s\n", cell(h.What), cell(h.Instead))
	}
	if len(s.Accounts) > 0 {
		p("- Accounts: %s\n", cell(strings.Join(s.Accounts, ", ")))
	}
	for _, n := range a.Notes {
		p("- Note: %s\n", cell(n))
	}
	if len(a.First) > 0 {
		p("- First: %s\n", strings.Join(a.First, ", "))
	}
	switch {
	case len(s.Held) > 0:
	case len(s.Files) > 0:
		p("- Apply: %s. Undo: %s.\n", cell(strings.Join(s.Files, ", ")), cell(strings.Join(s.Undo, ", ")))
	default:
		p("- By hand, since %s. %s\n", cell(s.ByHand), cell(byWords(x, i, s.Place)))
	}
	p("\n")
}

// mostShut is how many accounts that cannot sign in any more are named at the head.
const mostShut = 100

func fromDay(x *assess.Amending, day int) string {
	if day == 0 {
		return "at once"
	}
	return "from " + contract.DayOf(x.Weighing.At)(day) + " on"
}

// howTo tells how each kind of file is applied.
func howTo(p func(string, ...any), doc *contract.AmendDocument) {
	ways := []struct{ ending, text string }{
		{"change.ldif", "`change.ldif`: `ldapmodify -H ldaps://SERVER -D ADMIN -W -f change.ldif`; on a Windows controller `ldifde -i -f " +
			"change.ldif`. `undo.ldif` the same way."},
		{".inf", "`*.inf` of a policy: in the policy's editor, Security Settings, Import Policy (leave what is there). Of a machine " +
			"(`local.inf`): `secedit /configure /db change.sdb /cfg local.inf`. The `.undo.inf` the same way; the `.diff` shows what changes."},
		{"etc.patch", "`etc.patch`: in the machine's root, `patch -p1 --dry-run < etc.patch`, then without `--dry-run`. Keep a session of root " +
			"open, and sign in anew before you close it. Undo: `patch -R -p1 < etc.patch`."},
		{"ageing.sh", "`ageing.sh`: `sh ageing.sh` as root. Undo: `sh undo-ageing.sh`."},
		{"change.json", "`change.json`: each request as the product's public reference has it; where `body` is there it is whole. `patch` is a " +
			"JSON Patch (RFC 6902) of what was exported. `undo.json` the same way."},
	}
	p("## How to apply and undo\n\n")
	for _, way := range ways {
		used := false
		for i := range doc.Amendments {
			for _, s := range doc.Amendments[i].Spots {
				used = used || slices.ContainsFunc(s.Files, func(f string) bool { return strings.HasSuffix(f, way.ending) })
			}
		}
		if used {
			p("- %s\n", way.text)
		}
	}
	p("- How to see that it took: export again, `sternledger gather`, `sternledger weigh`, `sternledger amend --status`.\n\n")
}

// why is the gravest reason for an amendment: of what it changes itself, if a finding
// is about that.
func why(x *assess.Amending, i int) string {
	a := x.Picked[i]
	if len(a.Settles) == 0 {
		for _, b := range x.Picked {
			if slices.Contains(b.First, a) {
				return b.Name + " needs it"
			}
		}
		return "it settles nothing alone; together with the others it does"
	}
	about := func(f *check.Finding) bool {
		return f.Check == "" && slices.Contains(f.Settings, a.Setting) || a.Flag != 0 && f.Check != "" && len(f.Rows) > 0 ||
			a.Precedence && f.Check == "precedence-shared"
	}
	best := a.Settles[0]
	for _, f := range a.Settles {
		if own, than := about(f), about(best); own && !than || own == than && f.Severity.Rank() > best.Severity.Rank() {
			best = f
		}
	}
	return fmt.Sprintf("%s (%s; settles %s)", best.Reason, best.Severity, Quantity(len(a.Settles), "finding"))
}

// byWords is what to do, where no file does it.
func byWords(x *assess.Amending, i int, place string) string {
	for _, f := range x.Picked[i].Settles {
		if slices.Contains(f.Settings, x.Picked[i].Setting) && (f.Authority.Name == place || f.Authority.Label() == place) {
			return f.Remedy
		}
	}
	return "Set it to " + x.Picked[i].Becomes() + "."
}
