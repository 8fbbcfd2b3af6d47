package page

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"sternledger/internal/assess"
	"sternledger/internal/contract"
	"sternledger/internal/core/amend"
	"sternledger/internal/core/estate"
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
	s.Blank()
	if len(x.Picked) <= mostWhole && !x.Whole {
		for _, a := range x.Picked {
			amendment(s, a, x.Touched[a])
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
	hit(s, x)
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
	left := len(p.Left())
	text := fmt.Sprintf("%s settle %s of %s", Quantity(len(x.Picked), "amendment"), Grouped(x.Settled), Quantity(p.Findings, "finding"))
	if len(x.Picked) == 1 {
		text = fmt.Sprintf("1 amendment settles %s of %s", Grouped(x.Settled), Quantity(p.Findings, "finding"))
	}
	if !x.Whole {
		return fmt.Sprintf("%s; %s left.", text, Quantity(x.Graves, "grave finding"))
	}
	return fmt.Sprintf("%s; %s %s a decision, %s more evidence.", text, Grouped(left), needs(left), Grouped(len(p.Evidence)))
}

func needs(n int) string {
	if n == 1 {
		return "needs"
	}
	return "need"
}

func amendTable(s *Sheet, all []*amend.Amendment) {
	var rows [][]string
	for _, a := range all {
		rows = append(rows, []string{a.Name, a.Title(), a.Was(), a.Becomes(), AmendWhere(a), Grouped(len(a.Settles)), Grouped(a.Accounts)})
	}
	s.Table([]Column{{Head: ""}, {Head: "change"}, {Head: "now"}, {Head: "then"}, {Head: "where"}, {Head: "settles", Right: true},
		{Head: "accounts", Right: true}}, rows)
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

// amendment draws one whole.
func amendment(s *Sheet, a *amend.Amendment, t *amend.Touched) {
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
		lines = append(lines, "service accounts among them, which stop working: "+strings.Join(t.Services, ", "))
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

// hit says whom the amendments that are picked hit soon.
func hit(s *Sheet, x *assess.Amending) {
	soon, next := 0, 0
	var services []string
	for _, a := range x.Picked {
		t := x.Touched[a]
		if n := t.Now + t.Week + t.Month; n > 0 {
			soon = max(soon, n)
		}
		next = max(next, t.Next)
		for _, name := range t.Services {
			if !slices.Contains(services, name) {
				services = append(services, name)
			}
		}
	}
	s.Blank()
	if soon > 0 || len(services) > 0 {
		s.Title("Whom it hits within 30 days", "")
		for _, a := range x.Picked {
			if t := x.Touched[a]; t.Now+t.Week+t.Month+t.Disabled > 0 {
				lines := []string{}
				if len(t.Services) > 0 {
					lines = append(lines, "service accounts, which stop working: "+strings.Join(t.Services, ", "))
				}
				s.Entry(a.Name, "", AmendWhere(a)+": "+t.What, lines...)
			}
		}
	} else {
		s.Text("Nobody has to change a password within 30 days, and no account is switched off, as far as the evidence has dates.")
	}
	s.Text(fmt.Sprintf("In a year: %s forced changes of passwords, now %s; %s calls to have an account unlocked, now %s.",
		Grouped(int(x.After.Changes+0.5)), Grouped(int(x.Before.Changes+0.5)), Grouped(int(x.After.Calls+0.5)), Grouped(int(x.Before.Calls+0.5))))
}

// appears tells of what the amendments bring.
func appears(s *Sheet, x *assess.Amending) {
	if len(x.Brings) > 0 {
		s.Blank()
		s.Title("What appears with them", "")
		for i := range x.Brings[:min(len(x.Brings), mostDecisions)] {
			f := &x.Brings[i]
			s.Entry(string(f.Kind), string(f.Severity), f.ScopeName()+": "+f.Title(), f.Reason)
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
			if doc.Amendments[i].Spots[k].ByHand != "" {
				hand++
			} else {
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
	cell := func(text string) string { return changeText.Replace(Clean(text)) }
	p("# Proposed changes: %s\n\n", cell(x.Weighing.Title))
	p("Made from weighing %d of %s by %s; seal %s. %s Nothing was applied.\n\n", doc.Weighing, x.Weighing.At.Format("2006-01-02"),
		cell(x.Weighing.Auditor), doc.Seal,
		AmendTotals(x))
	p("In a year: %.0f forced changes of passwords (now %.0f), %.0f calls to have an account unlocked (now %.0f).\n\n", doc.Changes[1],
		doc.Changes[0], doc.Calls[1],
		doc.Calls[0])
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
	var places []string
	for i := range doc.Amendments {
		for _, s := range doc.Amendments[i].Spots {
			if !slices.Contains(places, s.Place) {
				places = append(places, s.Place)
			}
		}
	}
	slices.Sort(places)
	for _, place := range places {
		p("## %s\n\n", cell(place))
		for i := range doc.Amendments {
			a := &doc.Amendments[i]
			for _, s := range a.Spots {
				if s.Place != place {
					continue
				}
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
				p("- Why: %s\n", cell(why(x, i)))
				p("- Whom it reaches: %s. %s.\n", Quantity(a.Accounts, "account"), cell(a.Touches.What))
				if len(a.Touches.Services) > 0 {
					p("- Service accounts that stop working: %s\n", cell(strings.Join(a.Touches.Services, ", ")))
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
				case len(s.Files) > 0:
					p("- Apply: %s. Undo: %s.\n", cell(strings.Join(s.Files, ", ")), cell(strings.Join(s.Undo, ", ")))
				default:
					p("- By hand, since %s. %s\n", cell(s.ByHand), cell(byWords(x, i)))
				}
				p("\n")
			}
		}
	}
	return b.String()
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

// why is the gravest reason for an amendment.
func why(x *assess.Amending, i int) string {
	a := x.Picked[i]
	if len(a.Settles) == 0 {
		for _, b := range x.Picked {
			if slices.Contains(b.First, a) {
				return b.Name + " needs it"
			}
		}
		return "see the plan"
	}
	best := a.Settles[0]
	for _, f := range a.Settles {
		if f.Severity.Rank() > best.Severity.Rank() {
			best = f
		}
	}
	return fmt.Sprintf("%s (%s; settles %s)", best.Reason, best.Severity, Quantity(len(a.Settles), "finding"))
}

// byWords is what to do, where no file does it.
func byWords(x *assess.Amending, i int) string {
	for _, f := range x.Picked[i].Settles {
		if slices.Contains(f.Settings, x.Picked[i].Setting) {
			return f.Remedy
		}
	}
	return "Set it to " + x.Picked[i].Becomes() + "."
}
