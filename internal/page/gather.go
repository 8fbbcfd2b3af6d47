package page

import (
	"fmt"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/engagement"
)

// Gathered draws what a gather took, and what it did not.
func Gathered(s *Sheet, g *engagement.Gathered, verbose bool) error {
	head := "nothing new"
	if g.Entry > 0 {
		head = fmt.Sprintf("entry %d", g.Entry)
	}
	s.Title("Gathered", head)
	var rows [][]string
	for i, f := range g.Files {
		if f.Tree != "" && !verbose {
			// One line for an export that is made of several files.
			if i > 0 && sameTree(&g.Files[i-1], &f) {
				continue
			}
			n, size := 0, int64(0)
			for _, other := range g.Files[i:] {
				if sameTree(&other, &f) {
					n, size = n+1, size+other.Size
				}
			}
			folder, _, _ := strings.Cut(f.Name, "/")
			state := "taken"
			if f.Known {
				state = fmt.Sprintf("known since entry %d", f.Entry)
			}
			rows = append(rows, []string{folder + "/", f.Format, Grouped(int(size)), Quantity(n, "file"), state})
			continue
		}
		state := "taken"
		if f.Known {
			state = fmt.Sprintf("known since entry %d", f.Entry)
			if f.Entry == 0 {
				state = "twice in this gather"
			}
			state += " (" + clip(f.Given, 40) + ")"
		}
		rows = append(rows, []string{f.Name, f.Format, Grouped(int(f.Size)), f.SHA256[:16], state})
	}
	s.Table([]Column{{Head: "evidence"}, {Head: "format"}, {Head: "bytes", Right: true}, {Head: "SHA-256, or files"}, {Head: ""}}, rows)
	for _, l := range g.Live {
		if l.Map != "" {
			text := fmt.Sprintf("%s read live by the field map %s: %s; the server's certificate %s was %s", l.URL, l.Map, Quantity(l.Entries, "reply"), clip(l.Certificate, 16), l.Trust)
			if len(l.Refused) > 0 {
				text += "; not allowed or not there: " + strings.Join(l.Refused, ", ")
			}
			s.Text(text)
			continue
		}
		s.Text(fmt.Sprintf("%s read live as %s: %s under %s; the server's certificate %s was %s", l.URL, orAnonymous(l.Bind), Quantity(l.Entries, "entry"), strings.Join(l.Bases, ", "), clip(l.Certificate, 16), l.Trust))
	}
	struck := 0
	for _, f := range g.Files {
		if !f.Known {
			struck += f.Struck
		}
	}
	if struck > 0 {
		s.Text(Quantity(struck, "secret") + " struck out of the stored copies.")
	}
	s.Blank()
	for _, a := range g.Authorities {
		s.Text(authorityLine(a))
	}
	if len(g.Templates) > 0 {
		s.Blank()
	}
	for _, t := range g.Templates {
		name := t.Policy.Name
		for _, a := range g.Authorities {
			for _, c := range a.Containers {
				if c.GUID == t.GUID && c.Name != "" && (t.Domain == "" || t.Domain == a.Name) {
					name = c.Name
				}
			}
		}
		s.Text(fmt.Sprintf("template %s (%s): %s configured", name, t.Policy.Cite.File, Quantity(len(t.Policy.Settings), "setting")))
	}
	if len(g.Lost) > 0 {
		s.Blank()
		s.Title("Less than before", Quantity(len(g.Lost), "loss"))
		for _, l := range g.Lost {
			text := fmt.Sprintf("%s %s: %s %s, %s before", l.Place.Kind, l.Place.Name, Grouped(l.Now), l.What, Grouped(l.Before))
			if len(l.Names) > 0 {
				text += "; not there any more: " + strings.Join(l.Names, ", ")
			}
			s.Text(text)
		}
		s.Text("This is not taken for proof that they are gone: what depends on it is not known until a whole export is gathered. If less is right, gather this again with --less-is-right REASON.")
	}
	if head, lines := unweighed(g.Unweighed, len(g.Authorities)); head != "" {
		s.Blank()
		s.Title("Not covered by a chosen baseline", Quantity(len(g.Unweighed), "place"))
		for _, line := range lines {
			s.Text(line)
		}
		s.Text("Choose baselines under \"baselines:\" in engagement.yaml before you weigh.")
	}
	notTaken(s, g, verbose)
	return s.Err()
}

func sameTree(x, y *engagement.Taken) bool {
	folder, _, _ := strings.Cut(x.Name, "/")
	return x.Tree != "" && x.Tree == y.Tree && strings.HasPrefix(y.Name, folder+"/")
}

func orAnonymous(name string) string {
	if name == "" {
		return "nobody"
	}
	return name
}

func authorityLine(a *estate.Authority) string {
	if len(a.Typed) > 0 {
		n := 0
		for _, p := range a.Typed {
			n += len(p.Settings)
		}
		return fmt.Sprintf("%s %s: %s of %s, read off", a.Kind, a.Name, Quantity(n, "setting"), Quantity(len(a.Typed), "policy"))
	}
	if a.Kind != estate.Domain {
		return placeLine(a)
	}
	head := "its head is not in the evidence"
	if a.Head != nil {
		head = Quantity(len(a.Head.Settings), "setting") + " enforced"
	}
	policies := Quantity(len(a.Overrides), "fine-grained policy")
	linked := 0
	for _, u := range a.Units {
		if len(u.Links) > 0 {
			linked++
		}
	}
	apart := ""
	if a.Managed > 0 {
		apart += ", " + Quantity(a.Managed, "managed service account")
	}
	if a.Deleted > 0 {
		apart += ", " + Quantity(a.Deleted, "deleted object") + " left out"
	}
	if a.Unclassified > 0 {
		apart += ", " + Quantity(a.Unclassified, "entry") + " of unknown kind"
	}
	return fmt.Sprintf("%s %s: %s, %s, %s, %s, %s, %s with templates linked, %s%s", a.Kind, a.Name, head, policies,
		Quantity(a.Accounts, "account"), Quantity(a.Groups, "group"), Quantity(a.Computers, "computer"),
		Quantity(linked, "place"), Quantity(len(a.Containers), "policy container"), apart)
}

// placeLine is authorityLine for what is no directory domain.
func placeLine(a *estate.Authority) string {
	settings := map[setting.ID]bool{}
	policies := len(a.Overrides)
	if a.Head != nil {
		policies++
		for id := range a.Head.Settings {
			settings[id] = true
		}
	}
	for _, p := range a.Overrides {
		for id := range p.Settings {
			settings[id] = true
		}
	}
	accounts := "accounts not listed"
	if a.Listed {
		accounts = Quantity(a.Accounts, "account") + ", " + Quantity(a.Groups, "group")
	}
	text := fmt.Sprintf("%s %s: %s enforced, %s, %s", a.Kind, a.Name, Quantity(len(settings), "setting"), Quantity(policies, "policy"), accounts)
	if a.DefaultPolicy != "" {
		text += ", by default " + estate.NameOf(a.DefaultPolicy)
	}
	return text
}

// mostShown is how many lines of a list are shown unless asked for all.
const mostShown = 10

func notTaken(s *Sheet, g *engagement.Gathered, verbose bool) {
	most := mostShown
	if verbose {
		most = len(g.Problems) + len(g.Passed)
	}
	if len(g.Problems) > 0 {
		s.Blank()
		s.Title("Not understood", Quantity(len(g.Problems), "line"))
		for _, p := range g.Problems[:min(most, len(g.Problems))] {
			text := p.Cite.String() + ": " + p.Text
			if p.Cite.Raw != "" {
				text += " (" + p.Cite.Where + ": " + clip(p.Cite.Raw, 60) + ")"
			}
			s.Text(text)
		}
		if more := len(g.Problems) - most; more > 0 {
			s.Text(fmt.Sprintf("and %s more; --verbose shows all", Grouped(more)))
		}
	}
	if len(g.Passed) > 0 {
		s.Blank()
		s.Title("Not taken", Quantity(len(g.Passed), "file"))
		for _, p := range g.Passed[:min(most, len(g.Passed))] {
			s.Text(p.Path + ": " + p.Why)
		}
		if more := len(g.Passed) - most; more > 0 {
			s.Text(fmt.Sprintf("and %s more; --verbose shows all", Grouped(more)))
		}
	}
}

// GatheredRows gives one row for each file, with its whole hash.
func GatheredRows(g *engagement.Gathered) *Rows {
	r := &Rows{Head: []string{"evidence", "path", "format", "bytes", "sha256", "stored_sha256", "struck", "state"}}
	for _, f := range g.Document().Files {
		r.Rows = append(r.Rows, []string{f.Name, f.Path, f.Format, fmt.Sprint(f.Size), f.SHA256, f.StoredSHA256, fmt.Sprint(f.Struck), f.State})
	}
	for _, l := range g.Lost {
		r.Rows = append(r.Rows, []string{"-", l.Place.Name, "-", "-", "-", "-", "-", fmt.Sprintf("less than before: %d %s, %d before", l.Now, l.What, l.Before)})
	}
	for _, p := range g.Passed {
		r.Rows = append(r.Rows, []string{"-", p.Path, "-", "-", "-", "-", "-", "not taken: " + p.Why})
	}
	return r
}
