package weigh

import (
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Writing says how places write values, so that a remedy can name what has to be
// typed. The formats know; see their Forms and AskedAs.
type Writing struct {
	Forms map[string]setting.Form // by the name under which evidence cites a value
	Units map[string]setting.Form // by the unit in which a field map says that a number is given
	Asked map[setting.Platform]func(id setting.ID) (name, module string)
	// Editor is where the policy editor of Windows has a setting that is cited under a name.
	Editor func(id setting.ID, name string) string
}

// Written is a value as the place writes it from which an effective one comes;
// empty where that is not known.
func (w *Writing) Written(e govern.Effective, v setting.Value) string {
	if w == nil {
		return ""
	}
	if form, ok := w.Forms[e.Cite.Where]; ok {
		return form(v)
	}
	if form, ok := w.Units[e.Unit]; ok {
		return form(v)
	}
	return ""
}

// named is a value as it is written under a name.
func (w *Writing) named(name string, v setting.Value) string {
	if form, ok := w.Forms[name]; ok {
		return form(v)
	}
	return ""
}

// askedAs is the name under which a platform is asked for a setting, and whose
// option that is; empty where it is the one that evidence cites.
func (w *Writing) askedAs(p setting.Platform, id setting.ID) (name, module string) {
	if w == nil || w.Asked[p] == nil {
		return "", ""
	}
	return w.Asked[p](id)
}

// Asks is the name under which a platform is asked for a setting, and whose option
// that is; empty where it is the one that evidence cites.
func (w *Writing) Asks(p setting.Platform, id setting.ID) (name, module string) {
	return w.askedAs(p, id)
}

// editor is where the policy editor has a setting of a scope; empty where it has
// none. Fine-grained policies are not set there.
func (w *Writing) editor(s *govern.Scope, id setting.ID) string {
	if w == nil || w.Editor == nil || s.Policy == nil || s.Policy.Standing == estate.Override ||
		s.Platform() != setting.WindowsDomain && s.Platform() != setting.WindowsMachine {
		return ""
	}
	return w.Editor(id, s.Settings[id].Cite.Where)
}
