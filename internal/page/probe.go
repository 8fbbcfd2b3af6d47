package page

import (
	"fmt"
	"slices"
	"strings"

	"sternledger/internal/assess"
	"sternledger/internal/core/probe"
	"sternledger/internal/core/record"
)

// Probe draws what places make of passwords: for patterns a matrix of
// families and policies, for passwords the verdicts with the rules that refuse.
func Probe(s *Sheet, p *assess.Probed, detail bool) error {
	switch {
	case len(p.Families) == 0:
		probePasswords(s, p)
	case len(p.Merged()) == 1:
		probeFamilies(s, p, detail)
	default:
		probeMatrix(s, p)
	}
	return s.Err()
}

// takenText tells how many of a family are taken; those of which it cannot be
// told stand behind a question mark.
func takenText(s record.Share) string {
	switch {
	case s.CannotTell == 0:
		return fmt.Sprint(s.Accepted)
	case s.Accepted == 0:
		return fmt.Sprintf("%d?", s.CannotTell)
	}
	return fmt.Sprintf("%d, %d?", s.Accepted, s.CannotTell)
}

func placeName(at *assess.ProbedPlace) string {
	return at.Scope.Title()
}

// probeMatrix draws how many of each family each policy takes.
func probeMatrix(s *Sheet, p *assess.Probed) {
	places := p.Merged()
	s.Title("Common passwords that each policy accepts", Quantity(len(places), "policy"))
	columns := []Column{{Head: "policy"}}
	total := []string{"tried"}
	for _, f := range p.Families {
		columns = append(columns, Column{Head: strings.ReplaceAll(f.Name, " ", "\n"), Right: true})
		total = append(total, fmt.Sprint(len(f.Passwords)))
	}
	var each []policyRow
	for _, at := range places {
		row := policyRow{scope: at.Scope}
		for _, share := range p.Shares(at) {
			row.cells = append(row.cells, takenText(share))
		}
		each = append(each, row)
	}
	s.Table(columns, append([][]string{total}, together(each)...))
	s.Blank()
	s.Text("How many of each pattern would be accepted. A number with a question mark: nothing that can be known refuses them, " +
		"but the platform has a list of words of its own, or a setting is missing. All but long phrases are what guessers try first. " +
		"Each password is taken to be new to its account, and to hold no name of its owner.")
	if p.Words == 0 {
		s.Text("No words of the organisation were given; put them under \"words:\" in engagement.yaml.")
	}
	s.Text("--scope or --account shows which rule refuses them.")
}

// refusals counts the rules that refuse the results from one to another, the
// most frequent first.
func refusals(results []probe.Result) string {
	counts := map[string]int{}
	var names []string
	for i := range results {
		for _, o := range results[i].Rules {
			if o.Verdict == probe.Refused {
				if counts[o.Rule] == 0 {
					names = append(names, o.Rule)
				}
				counts[o.Rule]++
			}
		}
	}
	slices.SortStableFunc(names, func(a, b string) int { return counts[b] - counts[a] })
	for i, n := range names {
		names[i] = fmt.Sprintf("%s %d", n, counts[n])
	}
	return strings.Join(names, ", ")
}

// probeFamilies draws, for one policy, each family with the rules that refuse
// and examples of what is taken.
func probeFamilies(s *Sheet, p *assess.Probed, detail bool) {
	at := p.Merged()[0]
	name := at.Scope.Name()
	if p.Account != "" {
		name = p.Account + ", under " + placeName(at)
	}
	s.Title("What people choose, and whether it is taken", name)
	n := 0
	weak := record.Share{}
	for i, share := range p.Shares(at) {
		f := p.Families[i]
		results := at.Results[n : n+len(f.Passwords)]
		var taken, other []string
		for k, r := range results {
			if r.Verdict != probe.Refused {
				taken = append(taken, f.Passwords[k])
			} else {
				other = append(other, f.Passwords[k])
			}
		}
		n += len(f.Passwords)
		below := ""
		if share.CannotTell > 0 {
			below = fmt.Sprintf("%d cannot tell", share.CannotTell)
		}
		var lines []string
		if refused := refusals(results); refused != "" {
			lines = append(lines, "refused by "+refused)
		}
		for _, list := range []struct {
			word  string
			texts []string
		}{{"not refused", taken}, {"refused", other}} {
			shown := list.texts
			if !detail && len(shown) > mostPatterns {
				shown = shown[:mostPatterns]
			}
			if len(shown) > 0 && (detail || list.word == "not refused") {
				lines = append(lines, list.word+": "+strings.Join(shown, "  "))
			}
		}
		if f.Weak {
			weak.Tried += share.Tried
			weak.Accepted += share.Accepted
			weak.CannotTell += share.CannotTell
		}
		s.Entry(fmt.Sprintf("%d of %d", share.Accepted, share.Tried), below, f.Name, append(lines, "")...)
	}
	s.Text(fmt.Sprintf("Of %d weak patterns %d would be accepted, of %d it cannot be told.", weak.Tried, weak.Accepted, weak.CannotTell))
	s.Text("In the margin: how many are accepted. Each password is taken to be new to its account. --verbose lists all of them.")
}

// mostPatterns is how many examples of a family are shown.
const mostPatterns = 4

// probePasswords draws the verdicts password by password.
func probePasswords(s *Sheet, p *assess.Probed) {
	places := p.Merged()
	right := Quantity(len(p.Tried), "password") + " in " + Quantity(len(places), "policy")
	if p.Account != "" {
		right = Quantity(len(p.Tried), "password") + " for " + p.Account
	}
	s.Title("Would it be accepted", right)
	for i, t := range p.Tried {
		text := fmt.Sprintf("password %d: %s of %s", i+1, Quantity(t.Length, "character"), strings.Join(t.Classes, ", "))
		if t.Length == 0 {
			text = fmt.Sprintf("password %d: empty", i+1)
		}
		if t.Bytes != t.Length {
			text += fmt.Sprintf("; %d bytes", t.Bytes)
		}
		s.Text(text)
		if t.Marks > 0 {
			s.Text(fmt.Sprintf("It holds %s, which platforms count as characters of their own; typed on another keyboard it may come "+
				"out as another password.", Quantity(t.Marks, "combining character")))
		}
		for _, at := range places {
			r := &at.Results[i]
			var lines []string
			for _, o := range r.Rules {
				if o.Verdict == probe.Accepted || o.Aside && len(places) > 1 {
					continue
				}
				line := o.Rule + ": " + o.Why
				if at := o.Cite.String(); at != "" {
					line += " (" + at + ")"
				}
				lines = append(lines, line)
			}
			s.beside(string(r.Verdict), "", heavy, placeName(at), lines)
		}
		s.Blank()
	}
	if len(places) > 1 {
		s.Text("Each password is taken to be new to its account, and to hold no name of its owner; --account looks at an account's names.")
	} else if p.Account != "" {
		s.Text("The password is taken to be new to the account.")
	}
}

// ProbeRows gives one row for each scope, password and rule that does not
// accept; for patterns one for each scope and family.
func ProbeRows(p *assess.Probed) *Rows {
	d := p.Document()
	if len(p.Families) > 0 {
		rows := &Rows{Head: []string{"scope", "pattern", "weak", "tried", "accepted", "refused", "cannot_tell"}}
		for _, x := range d.Patterns {
			rows.Rows = append(rows.Rows, []string{x.Scope, x.Pattern, fmt.Sprint(x.Weak), fmt.Sprint(x.Tried), fmt.Sprint(x.Accepted),
				fmt.Sprint(x.Refused), fmt.Sprint(x.CannotTell)})
		}
		return rows
	}
	rows := &Rows{Head: []string{"password", "scope", "account", "verdict", "refused_by", "cannot_tell"}}
	for _, r := range d.Results {
		var by, open []string
		for _, o := range r.Rules {
			switch {
			case o.Verdict == probe.Refused:
				by = append(by, o.Rule)
			case o.Verdict == probe.CannotTell && !o.Aside:
				open = append(open, o.Rule)
			}
		}
		rows.Rows = append(rows.Rows, []string{fmt.Sprint(r.Password), r.Scope, r.Account, string(r.Verdict), strings.Join(by, " "),
			strings.Join(open, " ")})
	}
	return rows
}
