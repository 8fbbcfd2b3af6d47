package collect

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"sternledger/internal/core/estate"
	"sternledger/internal/custody"
	"sternledger/internal/intake"
	"sternledger/internal/intake/template"
	"sternledger/internal/ledger"
)

// earlier returns what is on record of a template, and under which name: by its GUID, and
// by its domain too where another domain has a policy of that GUID, as every domain has
// its default ones. before are those of this gather that come before it.
func (g *gathering) earlier(t *estate.Template, before []estate.Template) (was estate.Template, subject string, err error) {
	subject = custody.TemplateSubject + t.GUID
	other := func(domain string) bool { return domain != "" && t.Domain != "" && domain != t.Domain }
	for i := range before {
		if g.templates[i] == subject && other(before[i].Domain) {
			subject += "@" + t.Domain
			return was, subject, g.recorded(subject, &was)
		}
	}
	if err := g.recorded(subject, &was); err != nil || !other(was.Domain) {
		return was, subject, err
	}
	was, subject = estate.Template{}, subject+"@"+t.Domain
	return was, subject, g.recorded(subject, &was)
}

// recorded reads what is on record of a template.
func (g *gathering) recorded(subject string, into *estate.Template) error {
	body, err := g.record.Latest(subject, g.aside)
	if err != nil || body == "" {
		return err
	}
	if err := json.Unmarshal([]byte(body), into); err != nil {
		return fmt.Errorf("%s in the ledger: %w", subject, err)
	}
	return nil
}

// policiesWithLess adds the policies of which nothing is new but that a file of theirs
// is gone: their folder was brought again, and it is in there no more.
func (g *gathering) policiesWithLess() error {
	files := g.everyFile()
	if !slices.ContainsFunc(slices.Collect(maps.Keys(g.brought)), func(name string) bool { return g.inFolder(files[name]) }) {
		return nil
	}
	holdings, err := g.record.CurrentBelow(custody.TemplateSubject, g.aside)
	if err != nil {
		return err
	}
	for _, h := range holdings {
		var was estate.Template
		if err := json.Unmarshal([]byte(h.Body), &was); err != nil {
			return fmt.Errorf("%s in the ledger: %w", h.Subject, err)
		}
		gone := func(name string) bool { return g.goneFrom(files[name]) }
		if !slices.ContainsFunc(was.Files, func(name string) bool { return g.inFolder(files[name]) }) ||
			!slices.ContainsFunc(was.Files, gone) || slices.ContainsFunc(g.builder.Templates, was.Same) {
			continue
		}
		for n, name := range was.Files {
			if e, known := files[name]; known && !gone(name) {
				if err := g.addStored(&was, e, n+1, false); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// inFolder reports whether a file was brought in a policy's folder.
func (g *gathering) inFolder(e ledger.Evidence) bool {
	return g.brought[e.Name] && template.OfPolicy(e.Path)
}

// goneFrom reports whether a file lay in a policy's folder, and was not brought. Of which
// store or backup it was does not matter: where the folder was brought from another one,
// nothing tells that the file is still part of the policy.
func (g *gathering) goneFrom(e ledger.Evidence) bool {
	_, there := g.brought[e.Name]
	return !there && template.OfPolicy(e.Path)
}

// wholePolicies adds to the policies of which files were read what their other files on
// record say: one that was not brought anew is as it was, unless the policy's folder was
// brought, and it is in there no more.
func (g *gathering) wholePolicies() error {
	all, files := g.builder.Templates, g.everyFile()
	for i := range all {
		t := &all[i]
		was, subject, err := g.earlier(t, all[:i])
		if err != nil {
			return err
		}
		g.templates = append(g.templates, subject)
		if was.Files == nil && was.GUID != "" { // an earlier version's, which told them by its facts alone
			was.Files, t.Registry = []string{was.Policy.Cite.File}, t.Registry || was.Registry
			for _, f := range was.Policy.Settings {
				if !slices.Contains(was.Files, f.Cite.File) {
					was.Files = append(was.Files, f.Cite.File)
				}
			}
		}
		read, inFolder := map[string]bool{}, false // formats
		for _, name := range t.Files {
			read[files[name].Format] = true
			inFolder = inFolder || g.inFolder(files[name])
		}
		whole := !t.Part
		for n, name := range was.Files {
			e, known := files[name]
			if !known || read[e.Format] {
				continue
			}
			if inFolder && g.goneFrom(e) {
				t.Gone = append(t.Gone, name)
			} else if err := g.addStored(t, e, n+1, whole); err != nil {
				return err
			}
		}
		g.less(t, &was, files)
	}
	return nil
}

// less tells which files of a policy are gone, or takes the auditor's word that they
// should be.
func (g *gathering) less(t, was *estate.Template, files map[string]ledger.Evidence) {
	if len(t.Gone) > 0 && g.opt.LessIsRight == "" {
		g.result.Lost = append(g.result.Lost, PlaceLoss{estate.Place{Name: t.Policy.Name, Kind: "policy"},
			estate.Loss{What: estate.LostFiles, Before: len(was.Files), Now: len(was.Files) - len(t.Gone), Names: slices.Clone(t.Gone)}})
	}
	told := map[string]bool{} // formats
	for _, name := range t.Files {
		told[files[name].Format] = true
	}
	for _, name := range was.Gone {
		if !told[files[name].Format] {
			t.Gone = append(t.Gone, name)
		}
	}
	if g.opt.LessIsRight == "" {
		return
	}
	for _, name := range t.Gone { // it sets nothing any more
		switch files[name].Format {
		case template.Format.Name:
			t.Part = false
		case template.RegistryPol.Name:
			t.Registry = true
		case template.Preferences.Name:
			t.Preferences = true
		}
	}
	t.Gone = nil
}

// addStored adds what a file on record says of a policy. whole: its template was brought
// anew, so that what another form of it says is past.
func (g *gathering) addStored(t *estate.Template, e ledger.Evidence, gathers int, whole bool) error {
	format := slices.IndexFunc(formats, func(f *intake.Format) bool { return f.Name == e.Format })
	if format < 0 {
		return fmt.Errorf("%s: evidence of a format this program does not know: %s", e.Name, e.Format)
	}
	stored, err := custody.Stored(e.Name)
	if err != nil {
		return err
	}
	alone := estate.NewBuilder()
	alone.StartFile(e.Name)
	if err := g.reread(alone, stored, e.Path, formats[format]); err != nil {
		return err
	}
	for _, x := range alone.Templates {
		if len(alone.Templates) == 1 { // the description of a policy backup, which names the policy, is not stored
			if x.Policy.Name == x.GUID {
				x.Policy.Name = t.GUID
			}
			x.GUID, x.Domain = t.GUID, t.Domain
		}
		if t.Same(x) && (x.Part || !whole) {
			g.builder.StartOlder(e.Name, gathers)
			g.builder.Template(x)
		}
	}
	return nil
}
