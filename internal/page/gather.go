package page

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"sternledger/internal/collect"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
	"sternledger/internal/custody"
	"sternledger/internal/intake/live"
)

// Gathered draws what a gather took, and what it did not.
func Gathered(s *Sheet, g *collect.Gathered, verbose bool) error {
	head := "nothing new"
	if g.Entry > 0 {
		head = fmt.Sprintf("entry %d", g.Entry)
	}
	s.Title("Gathered", head)
	if len(g.Files) <= mostShown || verbose {
		takenFiles(s, g, verbose)
	} else {
		takenFormats(s, g)
	}
	for _, l := range g.Live {
		if l.Map != "" {
			text := fmt.Sprintf("%s read live by the field map %s: %s; the server's certificate %s was %s", l.URL, l.Map,
				Quantity(l.Entries, "reply"), Clip(l.Certificate, 16), l.Trust)
			for _, i := range l.Interfaces {
				text += fmt.Sprintf(", that of %s %s", i.Host, i.Trust)
			}
			if len(l.Refused) > 0 {
				text += "; not allowed or not there: " + strings.Join(l.Refused, ", ")
			}
			s.Text(text)
			continue
		}
		directory(s, l)
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
	switch {
	case g.NotKept > 0 && g.KeptAll:
		s.Text(Quantity(g.NotKept, "value") + " left out of the stored copies: not text, or too long to be searched for secrets.")
	case g.NotKept > 0:
		s.Text(Quantity(g.NotKept, "value") + " that no rule needs left out of the stored copies (--keep-all keeps them).")
	}
	s.Blank()
	places(s, g, verbose)
	fitting(s, g)
	if _, lines := Unweighed(g.Unweighed, len(g.Authorities)); len(lines) > 0 {
		s.Text("Not covered by a chosen baseline (choose with \"sternledger baseline choose\"): " + strings.Join(lines, "; ") + ".")
	}
	for _, at := range g.Replaced {
		s.Text(at.String() + " is another machine than the one on record under this name, by its SID or machine-id: nothing is taken over from that one.")
	}
	for _, x := range g.OtherNames[:min(len(g.OtherNames), mostIdle)] {
		s.Text(fmt.Sprintf("%s is %s by its SID or machine-id. If it was renamed: sternledger set-aside --place %q --reason \"Renamed to %s\". If "+
			"one is a copy of the other, leave both.", x.Now, x.Known, x.Known.String(), x.Now.Name))
	}
	idle(s, g.Idle)
	less(s, g)
	notTaken(s, g, verbose)
	return s.Err()
}

// directory tells how a directory was read live, by which server, and what of its
// policy store.
func directory(s *Sheet, l *live.Collected) {
	text := fmt.Sprintf("%s read live as %s", l.URL, orAnonymous(l.Bind))
	if l.Way != "" && l.Bind != "" {
		text += " (" + l.Way + ")"
	}
	text += fmt.Sprintf(": %s under %s; ", Quantity(l.Entries, "entry"), strings.Join(l.Bases, ", "))
	switch {
	case l.Certificate == "":
		text += fmt.Sprintf("the server proved itself by Kerberos, and all was %s", l.Protection)
	default:
		text += fmt.Sprintf("the server's certificate %s was %s", Clip(l.Certificate, 16), l.Trust)
	}
	s.Text(text)
	if at := l.Server; at != nil {
		s.Text(aboutServer(at))
	}
	if st := l.Store; st != nil {
		if st.Policies > 0 {
			s.Text(fmt.Sprintf("Policy store %s: %s, %s read, signed.", st.Address, Quantity(st.Policies, "policy"), Quantity(st.Files, "file")))
		} else {
			s.Text(fmt.Sprintf("Policy store %s: nothing was read.", st.Address))
		}
		if len(st.Refused) > 0 {
			s.Text("Not read of it, and missing: " + shortList(st.Refused) + ".")
		}
		if len(st.Unlike) > 0 {
			s.Text("At another version in the store than in the directory, so that one of them is not up to date on this server: " +
				shortList(st.Unlike) + ".")
		}
	}
	if len(l.Domains) > 0 {
		var names []string
		for _, d := range l.Domains {
			names = append(names, d.Name)
		}
		s.Text("Domains of the forest: " + strings.Join(names, ", ") + ".")
	}
	if len(l.Elsewhere) > 0 {
		s.Text("Not read, and missing: " + shortList(l.Elsewhere) + ". Gather it from there, if it holds accounts.")
	}
	for _, why := range l.Refused {
		s.Text("Not read, and missing: " + why)
	}
}

// aboutServer says which server answered, and whether its word is the first.
func aboutServer(at *live.Server) string {
	text := fmt.Sprintf("Answered by %s", at.Host)
	switch {
	case at.PDC == "":
		text += "; which server holds the password policy first was not told"
	case at.First():
		text += ", which holds the domain's password policy first (PDC emulator)"
	default:
		text += fmt.Sprintf("; %s holds the password policy first (PDC emulator)", at.PDC)
		if at.Note != "" {
			text += ", and " + at.Note
		}
	}
	if at.Clock < -5 || at.Clock > 5 {
		text += fmt.Sprintf("; its clock is %s of this machine's", live.Ahead(time.Duration(at.Clock)*time.Second))
	}
	if at.Synchronized != nil && !*at.Synchronized {
		text += "; it says that it is not synchronised"
	}
	failing := 0
	for _, from := range at.Sources {
		if from.Failures > 0 {
			failing++
		}
	}
	if failing > 0 {
		text += fmt.Sprintf("; replication from %d of %d servers fails", failing, len(at.Sources))
	}
	return text + "."
}

// shortList is a list of which a page has room for the beginning.
func shortList(all []string) string {
	const most = 5
	if len(all) <= most {
		return strings.Join(all, "; ")
	}
	return fmt.Sprintf("%s; and %d more", strings.Join(all[:most], "; "), len(all)-most)
}

// takenFiles draws a row for each file, or export that is made of several.
func takenFiles(s *Sheet, g *collect.Gathered, verbose bool) {
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
			rows = append(rows, []string{folder + "/", f.Format, Grouped(int(size)), Quantity(n, "file"), state(&f)})
			continue
		}
		text := state(&f)
		if f.Known {
			text += " (" + Clip(f.Given, 40) + ")"
		}
		rows = append(rows, []string{f.Name, f.Format, Grouped(int(f.Size)), f.SHA256[:16], text})
	}
	s.Table([]Column{{Head: "evidence"}, {Head: "format"}, {Head: "bytes", Right: true}, {Head: "SHA-256, or files"}, {Head: ""}}, rows)
}

// state says whether a file was taken now.
func state(f *collect.Taken) string {
	switch {
	case !f.Known:
		return "taken"
	case f.Entry == 0:
		return "twice in this gather"
	case f.Restored:
		return fmt.Sprintf("known since entry %d, its copy restored", f.Entry)
	}
	return fmt.Sprintf("known since entry %d", f.Entry)
}

// takenFormats draws a row for each format: many files are not read one by one.
func takenFormats(s *Sheet, g *collect.Gathered) {
	type count struct {
		exports, files, known int
		size                  int64
	}
	by, order := map[string]*count{}, []string{}
	for i, f := range g.Files {
		c := by[f.Format]
		if c == nil {
			c = &count{}
			by[f.Format], order = c, append(order, f.Format)
		}
		if c.files++; f.Tree == "" || i == 0 || !sameTree(&g.Files[i-1], &f) {
			c.exports++
		}
		if f.Known {
			c.known++
		}
		c.size += f.Size
	}
	var rows [][]string
	for _, format := range order {
		c := by[format]
		rows = append(rows, []string{format, Grouped(c.exports), Grouped(c.files), Grouped(int(c.size)), Grouped(c.files - c.known)})
	}
	s.Table([]Column{{Head: "format"}, {Head: "exports", Right: true}, {Head: "files", Right: true}, {Head: "bytes", Right: true},
		{Head: "taken now", Right: true}}, rows)
	s.Text("Each file with its SHA-256: gather --verbose, or later in the ledger: entries.")
}

// places says what the evidence holds, place by place, or counted where they are
// many.
func places(s *Sheet, g *collect.Gathered, verbose bool) {
	if len(g.Authorities) > mostShown && !verbose {
		counts, accounts := map[estate.Kind]int{}, 0
		for _, a := range g.Authorities {
			counts[a.Kind]++
			accounts += a.Accounts
		}
		var parts []string
		for _, kind := range []estate.Kind{estate.Domain, estate.Machine, estate.LDAP, estate.Tenant} {
			if counts[kind] > 0 {
				parts = append(parts, Quantity(counts[kind], nouns[kind]))
			}
		}
		text := strings.Join(parts, ", ") + ", " + Quantity(accounts, "account")
		if len(g.Templates) > 0 {
			text += "; " + Quantity(len(g.Templates), "group policy template")
		}
		s.Text(text + ". Each of them: gather --verbose, or scopes.")
		return
	}
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
}

// fitting names the shipped baselines that fit places and are not chosen for them.
func fitting(s *Sheet, g *collect.Gathered) {
	by := map[string][]string{}
	for _, f := range g.Fitting {
		if len(f.Chosen) == 0 {
			continue // told as not covered
		}
		for _, id := range f.NotChosen {
			by[id] = append(by[id], string(f.Platform))
		}
	}
	var all []string
	for _, id := range slices.Sorted(maps.Keys(by)) {
		if all = append(all, id); len(by[id]) == 1 {
			all[len(all)-1] += " (" + by[id][0] + ")"
		}
	}
	if len(all) > 0 {
		s.Text("Shipped baselines that fit here and are not chosen: " + strings.Join(all, ", ") + ".")
	}
}

// mostIdle is how many names are drawn that fit nothing.
const mostIdle = 5

// idle tells the names of the engagement that fit nothing in the evidence.
func idle(s *Sheet, all []check.IdleName) {
	var names []string
	for _, x := range all[:min(len(all), mostIdle)] {
		text := x.Name + " (" + x.As
		if x.Nearest != "" {
			text += "; the nearest there is " + x.Nearest
		}
		names = append(names, text+")")
	}
	if n := len(all) - mostIdle; n > 0 {
		names = append(names, fmt.Sprintf("and %d more, which weigh names", n))
	}
	if len(names) > 0 {
		s.Text("Named in engagement.yaml, and not in the evidence: " + strings.Join(names, ", ") + ".")
	}
}

// less tells what the new evidence holds less of than the old.
func less(s *Sheet, g *collect.Gathered) {
	if len(g.Lost) > 0 {
		s.Blank()
		s.Title("Less than before", Quantity(len(g.Lost), "loss"))
		for _, l := range g.Lost {
			text := fmt.Sprintf("%s %s, %s: %s now, %s before", l.Place.Kind, l.Place.Name, l.What, Grouped(l.Now), Grouped(l.Before))
			if len(l.Names) > 0 {
				text += "; not there any more: " + strings.Join(l.Names, ", ")
			}
			s.Text(text)
		}
		s.Text("This is not taken for proof that they are gone: what depends on it is not known until a whole export is gathered. If " +
			"less is right, gather this again with --less-is-right REASON.")
	}
}

func sameTree(x, y *collect.Taken) bool {
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
	text := fmt.Sprintf("%s %s: %s enforced, %s, %s", a.Kind, a.Name, Quantity(len(settings), "setting"), Quantity(policies, "policy"),
		accounts)
	if a.DefaultPolicy != "" {
		text += ", by default " + estate.NameOf(a.DefaultPolicy)
	}
	return text
}

// mostShown is how many lines of a list are shown unless asked for all.
const mostShown = 10

func notTaken(s *Sheet, g *collect.Gathered, verbose bool) {
	most := mostShown
	if verbose {
		most = len(g.Problems) + len(g.Passed)
	}
	if many := len(g.Files) > mostShown && !verbose; many && len(g.Problems) > 0 {
		s.Text(Quantity(len(g.Problems), "line") + " not understood, each a finding; gather --verbose lists them.")
	} else if len(g.Problems) > 0 {
		s.Blank()
		s.Title("Not understood", Quantity(len(g.Problems), "line"))
		for _, p := range g.Problems[:min(most, len(g.Problems))] {
			text := p.Cite.String() + ": " + p.Text
			if p.Cite.Raw != "" {
				text += " (" + p.Cite.Where + ": " + Clip(p.Cite.Raw, 60) + ")"
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
func GatheredRows(g *collect.Gathered) *Rows {
	r := &Rows{Head: []string{"evidence", "path", "format", "bytes", "sha256", "stored_sha256", "struck", "state"}}
	for _, f := range g.Document().Files {
		r.Rows = append(r.Rows, []string{f.Name, f.Path, f.Format, fmt.Sprint(f.Size), f.SHA256, f.StoredSHA256, fmt.Sprint(f.Struck), f.State})
	}
	for _, l := range g.Lost {
		r.Rows = append(r.Rows, []string{"-", l.Place.Name, "-", "-", "-", "-", "-", fmt.Sprintf("less than before: %s: %d now, %d before",
			l.What, l.Now, l.Before)})
	}
	for _, p := range g.Passed {
		r.Rows = append(r.Rows, []string{"-", p.Path, "-", "-", "-", "-", "-", "not taken: " + p.Why})
	}
	return r
}

// SetAside draws what was taken out of use, or into it again, and which places
// have other facts for it.
func SetAside(s *Sheet, x *custody.SetAside) error {
	title := Quantity(len(x.Names), "file") + map[bool]string{false: " set aside", true: " in use again"}[x.TakenBack]
	if len(x.Places) > 0 {
		title = Quantity(len(x.Places), "place") + map[bool]string{false: " out of service", true: " in service again"}[x.TakenBack]
	}
	s.Title(title, fmt.Sprintf("entry %d", x.Entry))
	filesAndPlaces(s, x.Names, x.Before, x.After)
	s.Text("Weigh again to see it in the verdicts.")
	return s.Err()
}

// EndedText says of a place out of service why it is.
func EndedText(o record.OutOfService) string {
	return fmt.Sprintf("%s (out of service, entry %d: %s)", o.Place, o.Entry, o.Reason)
}

// Ended names the places out of service; empty where there are none.
func Ended(all []record.OutOfService) string {
	var names []string
	for _, o := range all[:min(len(all), mostShown)] {
		names = append(names, fmt.Sprintf("%s (entry %d: %s)", o.Place.Name, o.Entry, o.Reason))
	}
	if more := len(all) - mostShown; more > 0 {
		names = append(names, fmt.Sprintf("and %d more", more))
	}
	if len(names) == 0 {
		return ""
	}
	return "Out of service, and not weighed: " + strings.Join(names, "; ") + "."
}

// Discarded draws what was removed for good.
func Discarded(s *Sheet, x *custody.Discarded) error {
	s.Title(Quantity(len(x.Names), "file")+" removed for good", fmt.Sprintf("entry %d", x.Entry))
	filesAndPlaces(s, x.Names, x.Before, x.After)
	if len(x.Weighings) > 0 {
		var all []string
		for _, n := range x.Weighings {
			all = append(all, fmt.Sprint(n))
		}
		s.Text("Removed with it, because they rested on it: weighing " + strings.Join(all, ", ") + ".")
	}
	if len(x.Again) > 0 {
		s.Text("Facts were made of it together with other evidence, which is to be gathered again: " + strings.Join(x.Again, ", ") + ".")
	}
	s.Text("Weigh again. Reports, packed copies and change files made before hold it still.")
	return s.Err()
}

// filesAndPlaces draws what files are meant, and what is known of places without them.
func filesAndPlaces(s *Sheet, names, before, after []string) {
	for _, name := range names[:min(len(names), mostShown)] {
		s.Note("file", name)
	}
	if more := len(names) - mostShown; more > 0 {
		s.Text(fmt.Sprintf("and %s more", Grouped(more)))
	}
	for _, was := range before {
		if !slices.Contains(after, was) {
			s.Note("before", was)
		}
	}
	for _, is := range after {
		if !slices.Contains(before, is) {
			s.Note("now", is)
		}
	}
}
