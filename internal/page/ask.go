package page

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"sternledger/internal/contract"
)

// Asking draws, owner by owner, what lacks and how it is exported.
func Asking(s *Sheet, d *contract.AskDocument) error {
	for i := range d.Owners {
		o := &d.Owners[i]
		if i > 0 {
			s.Blank()
		}
		s.Title(OwnerText(o.Owner), askedOf(o))
		for k := range o.Places {
			p := &o.Places[k]
			first, lines := askedPlace(p)
			s.Entry(string(p.State), "", first, lines...)
		}
		if kinds := askedExports(o); len(kinds) > 0 {
			s.Text("How it is exported, to mail: gather --ask " + strings.Join(kinds, ", --ask ") + ".")
		}
	}
	if len(d.Owners) == 0 {
		s.Text("Nothing is expected, and nothing was gathered: what to ask for is not known. Name places in engagement.yaml (expect:), or gather first.")
	}
	return s.Err()
}

// OwnerText names an owner.
func OwnerText(name string) string { return cmp.Or(name, "Places without an owner") }

func askedOf(o *contract.AskOwnerDocument) string {
	text := Quantity(len(o.Places), "place") + " to ask about, " + Grouped(o.Complete) + " complete"
	if o.Unassessed > 0 {
		text += ", " + Grouped(o.Unassessed) + " under no baseline"
	}
	return text
}

// mostAsked is how many things that lack are told of a place, and how many settings of each.
const (
	mostAsked         = 8
	mostAskedSettings = 6
)

func askedPlace(p *contract.AskPlaceDocument) (first string, lines []string) {
	first = p.Place
	if p.Platform != "" {
		first += ", " + string(p.Platform)
	}
	if p.Came != "" {
		first += ", newest evidence of " + p.Came
	}
	for i := range p.Lacks {
		if i == mostAsked {
			lines = append(lines, fmt.Sprintf("and %d more things: --format csv", len(p.Lacks)-i))
			break
		}
		x := &p.Lacks[i]
		text := x.What
		if len(x.Settings) > 0 {
			var titles []string
			for _, id := range x.Settings[:min(len(x.Settings), mostAskedSettings)] {
				titles = append(titles, string(id))
			}
			if more := len(x.Settings) - mostAskedSettings; more > 0 {
				titles = append(titles, fmt.Sprintf("%d more", more))
			}
			text += " (" + strings.Join(titles, ", ") + ")"
		}
		lines = append(lines, text+". "+x.Do)
	}
	return first, lines
}

func askedExports(o *contract.AskOwnerDocument) (kinds []string) {
	for i := range o.Places {
		for _, kind := range o.Places[i].Exports {
			if !slices.Contains(kinds, kind) {
				kinds = append(kinds, kind)
			}
		}
	}
	return kinds
}

// AskLetter is the list for one owner as text to mail, without the pages on how to export.
func AskLetter(title, auditor string, o *contract.AskOwnerDocument) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s\n\nFor: %s\nFrom: %s\n\nWhat we ask for, place by place. What came already need not be sent again.\n", Clean(title), Clean(OwnerText(o.Owner)), Clean(auditor))
	for i := range o.Places {
		p := &o.Places[i]
		first, lines := askedPlace(p)
		fmt.Fprintf(&b, "\n%d. %s: %s\n", i+1, p.State, Clean(first))
		for _, line := range lines {
			fmt.Fprintf(&b, "   - %s\n", Clean(line))
		}
	}
	return b.String()
}

// AskRows gives a row for each thing that lacks.
func AskRows(d *contract.AskDocument) *Rows {
	r := &Rows{Head: []string{"owner", "place", "platform", "state", "came", "exports", "what", "do", "settings", "fingerprints"}}
	for i := range d.Owners {
		for k := range d.Owners[i].Places {
			p := &d.Owners[i].Places[k]
			for n := range p.Lacks {
				x := &p.Lacks[n]
				var ids []string
				for _, id := range x.Settings {
					ids = append(ids, string(id))
				}
				r.Rows = append(r.Rows, []string{d.Owners[i].Owner, p.Place, string(p.Platform), string(p.State), p.Came, strings.Join(p.Exports, " "), x.What, x.Do,
					strings.Join(ids, " "), strings.Join(x.Fingerprints, " ")})
			}
		}
	}
	return r
}
