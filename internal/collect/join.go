package collect

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/custody"
	"sternledger/internal/folder"
	"sternledger/internal/intake"
	"sternledger/internal/ledger"
	"sternledger/internal/redact"
)

// join finishes the facts. Where the new files hold only a part of a domain
// that is on record, the files on record are read again behind the new ones,
// so that the facts are always those of all current evidence together.
func (g *gathering) join() error {
	before, err := g.remember()
	if err != nil {
		return err
	}
	found := g.builder.Finish()
	if g.large { // the room of what was joined is what the facts are written in
		runtime.GC()
	}
	older, err := g.complements(found)
	if err != nil {
		return err
	}
	if len(older) > 0 {
		if found, err = g.again(found, older, before); err != nil {
			return err
		}
	}
	for _, a := range found {
		if was := before[a.Place()]; was != nil && len(a.Typed) == 0 {
			a.Lost = estate.Less(was, a)
			for _, l := range a.Lost {
				g.result.Lost = append(g.result.Lost, PlaceLoss{a.Place(), l})
			}
		}
		if err := g.keepDefault(a); err != nil {
			return err
		}
	}
	if err := g.wholePolicies(); err != nil {
		return err
	}
	g.result.Authorities, g.result.Templates = found, g.builder.Templates
	g.result.Problems = g.builder.Problems
	for _, a := range found {
		g.result.Problems = append(g.result.Problems, a.Problems...)
	}
	slices.SortStableFunc(g.result.Problems, func(x, y estate.Problem) int { return strings.Compare(x.Cite.File, y.Cite.File) })
	var damaged []estate.Problem
	for _, p := range g.result.Problems {
		if p.Damaged {
			damaged = append(damaged, p)
		}
	}
	if len(damaged) > 0 && !g.opt.WithGaps {
		return g.refuse(damaged)
	}
	return nil
}

// remember tells the builder what is on record of the places that the new files
// speak of, unless the auditor said that what they lack is gone.
func (g *gathering) remember() (map[estate.Place]*estate.Authority, error) {
	before := map[estate.Place]*estate.Authority{}
	if g.opt.LessIsRight != "" {
		return before, nil
	}
	for _, at := range g.builder.Places() {
		body, err := g.record.Latest(custody.SubjectOf(at), g.aside)
		if err != nil || body == "" {
			if err != nil {
				return nil, err
			}
			continue
		}
		was := &estate.Authority{}
		if err := json.Unmarshal([]byte(body), was); err != nil {
			return nil, fmt.Errorf("%s in the ledger: %w", custody.SubjectOf(at), err)
		}
		if another(was, g.builder.At(at)) {
			g.result.Replaced = append(g.result.Replaced, at)
			continue
		}
		before[at] = was
		g.builder.Remember(was)
	}
	return before, nil
}

// another reports whether two exports of one name are of two machines.
func another(was, is *estate.Authority) bool {
	return is.Kind == estate.Machine && was.Identity() != "" && is.Identity() != "" && was.Identity() != is.Identity()
}

// keepDefault keeps what an earlier gather of a server's configuration said of
// an LDAP directory's default policy, where the new evidence says nothing.
func (g *gathering) keepDefault(a *estate.Authority) error {
	if a.Kind != estate.LDAP || a.DefaultPolicy != "" || a.Head != nil {
		return nil
	}
	body, err := g.record.Latest(custody.SubjectOf(a.Place()), g.aside)
	if err != nil || body == "" {
		return err
	}
	var before estate.Authority
	if err := json.Unmarshal([]byte(body), &before); err != nil {
		return err
	}
	at := before.DefaultPolicyCite
	if a.DefaultPolicy, a.DefaultPolicyCite = before.DefaultPolicy, at; before.DefaultPolicy == "" && before.Head != nil {
		a.Head, at = before.Head, before.Head.Cite
	}
	if at.File != "" && !slices.Contains(a.Files, at.File) {
		a.Files = append(a.Files, at.File)
	}
	return nil
}

// refuse words the error for values that no platform could hold.
func (g *gathering) refuse(damaged []estate.Problem) error {
	const most = 5
	var b strings.Builder
	b.WriteString("damaged evidence, nothing was taken:")
	for _, p := range damaged[:min(len(damaged), most)] {
		file := p.Cite.File
		if i := slices.IndexFunc(g.files, func(s staged) bool { return s.Name == file }); i >= 0 {
			file = g.files[i].Path
		}
		fmt.Fprintf(&b, "\n  %s:%d: ", file, p.Cite.Line)
		if p.Cite.Where != "" {
			fmt.Fprintf(&b, "%s: %s: ", p.Cite.Where, redact.Quote([]byte(p.Cite.Raw)))
		}
		b.WriteString(p.Text)
	}
	if more := len(damaged) - most; more > 0 {
		fmt.Fprintf(&b, "\n  and %d more", more)
	}
	if slices.ContainsFunc(damaged, func(p estate.Problem) bool { return p.Contradicts }) {
		b.WriteString("\nif these are exports of different days, gather them one after the other, the older first")
	}
	b.WriteString("\nexport again; or take the rest with --with-gaps, and these settings are reported as missing")
	return errors.New(b.String())
}

// complements returns the evidence on record that the new files add to: that
// of domains of which they hold no head, or no accounts.
func (g *gathering) complements(found []*estate.Authority) ([]ledger.Evidence, error) {
	var older []ledger.Evidence
	for _, a := range found {
		whole := a.Kind != estate.Domain || a.Head != nil && a.Listed
		if a.Kind == estate.LDAP {
			// The settings of a directory server itself stand in an export of their own.
			whole = a.Listed && len(a.Overrides) > 0 && (a.Platform != setting.DirectoryServer || a.Head != nil)
		}
		if a.Kind == estate.Machine && a.Platform == setting.WindowsMachine {
			whole = a.Head != nil && a.Listed // its settings and its accounts come in files of their own
		}
		if whole || len(a.Typed) > 0 {
			continue
		}
		files, err := g.record.FilesOf(custody.SubjectOf(a.Place()), g.aside)
		if err != nil {
			return nil, err
		}
		for _, name := range files {
			i := slices.IndexFunc(g.known, func(e ledger.Evidence) bool { return e.Name == name })
			if i >= 0 && a.Kind == estate.Machine && g.brings(a, g.known[i].Format) {
				continue // a newer file of the same form takes its place
			}
			if i >= 0 && !slices.ContainsFunc(older, func(e ledger.Evidence) bool { return e.Name == name }) {
				older = append(older, g.known[i])
			}
		}
	}
	slices.SortFunc(older, func(x, y ledger.Evidence) int { return int(y.Entry - x.Entry) })
	return older, nil
}

// brings reports whether a new file of that format speaks of a place.
func (g *gathering) brings(a *estate.Authority, format string) bool {
	return slices.ContainsFunc(g.files, func(s staged) bool { return s.Evidence.Format == format && slices.Contains(a.Files, s.Name) })
}

// again reads the new files and the older ones they add to into one estate,
// and returns the authorities that the new files speak of.
func (g *gathering) again(found []*estate.Authority, older []ledger.Evidence,
	before map[estate.Place]*estate.Authority) ([]*estate.Authority, error) {
	templates := g.builder.Templates
	g.builder = estate.NewBuilder()
	for _, s := range g.files {
		g.builder.StartFile(s.Name)
		if err := g.reread(g.builder, folder.Join(g.staging, folder.Name(s.Name)), s.candidate.path, s.format); err != nil {
			return nil, err
		}
	}
	gathers, last := 0, int64(0)
	for _, e := range older { // the newest first
		if e.Entry != last {
			gathers, last = gathers+1, e.Entry
		}
		g.builder.StartOlder(e.Name, gathers)
		i := slices.IndexFunc(formats, func(f *intake.Format) bool { return f.Name == e.Format })
		if i < 0 {
			return nil, fmt.Errorf("%s: evidence of a format this program does not know: %s", e.Name, e.Format)
		}
		stored, err := custody.Stored(e.Name)
		if err != nil {
			return nil, err
		}
		if err := g.reread(g.builder, stored, e.Path, formats[i]); err != nil {
			return nil, err
		}
	}
	g.builder.Templates = templates
	spoken := map[estate.Place]bool{}
	for _, a := range found {
		spoken[a.Place()] = true
	}
	for _, was := range before {
		g.builder.Remember(was)
	}
	return slices.DeleteFunc(g.builder.Finish(), func(a *estate.Authority) bool { return !spoken[a.Place()] }), nil
}

func (g *gathering) reread(into *estate.Builder, stored folder.Name, given string, format *intake.Format) error {
	f, err := g.Folder.Open(stored)
	if err != nil {
		return fmt.Errorf("the export adds to evidence that is not there any more (%w): gather the place's whole export", err)
	}
	defer f.Close()
	src := &intake.Source{Path: given, In: f, Keep: io.Discard, Differs: func() {}, Beside: func(string) []byte { return nil }}
	if err := format.Read(src, into); err != nil {
		return fmt.Errorf("read again %w", err)
	}
	return nil
}
