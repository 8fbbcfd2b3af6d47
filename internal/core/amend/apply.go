package amend

import (
	"maps"
	"slices"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// Apply returns what the estate would be with amendments of it, but for spots that are held back. The one that it is
// given stays as it is.
func Apply(e *estate.Estate, all []*Amendment) *estate.Estate {
	x := applied{&estate.Estate{Authorities: slices.Clone(e.Authorities), Templates: slices.Clone(e.Templates)},
		map[estate.Place]*estate.Authority{}}
	for _, a := range all {
		for i := range a.Spots {
			if len(a.Spots[i].Held) == 0 {
				x.apply(a, &a.Spots[i])
			}
		}
	}
	return x.Estate
}

type applied struct {
	*estate.Estate
	own map[estate.Place]*estate.Authority // copies, which may be changed
}

// place returns a copy of an authority that may be changed.
func (x *applied) place(at estate.Place) *estate.Authority {
	if a := x.own[at]; a != nil {
		return a
	}
	i := slices.IndexFunc(x.Authorities, func(a *estate.Authority) bool { return a.Place() == at })
	a := *x.Authorities[i]
	if a.Head != nil {
		head := *a.Head
		head.Settings = maps.Clone(head.Settings)
		a.Head = &head
	}
	copied := func(all []estate.Policy) []estate.Policy {
		all = slices.Clone(all)
		for k := range all {
			all[k].Settings = maps.Clone(all[k].Settings)
		}
		return all
	}
	a.Overrides, a.Typed = copied(a.Overrides), copied(a.Typed)
	x.Authorities[i], x.own[at] = &a, &a
	return &a
}

func (x *applied) apply(a *Amendment, s *Spot) {
	switch {
	case a.Flag != 0:
		at := x.place(s.At)
		at.Objects = at.Objects.Without(a.Flag, Mask(a.Flag), s.Rows)
	case s.Holder == Template:
		for i := range x.Templates {
			t := &x.Templates[i]
			if t.GUID != s.GUID || t.Policy.Origin != s.Origin {
				continue
			}
			t.Policy.Settings = maps.Clone(t.Policy.Settings)
			set(&t.Policy, a.Setting, a.To, s)
		}
		// What a template sets, the places that it reaches have with the next refresh.
		for _, via := range a.via(s) {
			if head := x.place(via).Head; head != nil && (a.NotSet || holds(head, a.Setting)) {
				set(head, a.Setting, a.To, s)
			}
		}
	case s.Holder == Unix && !Ageing(s.Cite): // its policies share the line
		for _, p := range policies(x.place(s.At)) {
			if a.NotSet && !holds(p, a.Setting) || holds(p, a.Setting) && p.Settings[a.Setting].Cite == s.Cite {
				set(p, a.Setting, a.To, s)
			}
		}
	default:
		for _, p := range policies(x.place(s.At)) {
			switch {
			case p.Origin != s.Origin || p.Name != s.Name:
			case a.Precedence:
				n, _ := a.To.Number()
				p.Precedence = &n
			default:
				set(p, a.Setting, a.To, s)
			}
		}
	}
}

// policies are those of a place, its head first.
func policies(at *estate.Authority) (all []*estate.Policy) {
	if at.Head != nil {
		all = append(all, at.Head)
	}
	for _, more := range [][]estate.Policy{at.Overrides, at.Typed} {
		for k := range more {
			all = append(all, &more[k])
		}
	}
	return all
}

func holds(p *estate.Policy, id setting.ID) bool {
	_, ok := p.Settings[id]
	return ok
}

// Set gives the policies of a place that an amendment reaches what it changes to.
func Set(at *estate.Authority, a *Amendment) {
	for _, s := range a.Scopes {
		if s.Authority.Place() != at.Place() || s.Policy == nil {
			continue
		}
		for _, p := range policies(at) {
			if p.Name == s.Policy.Name {
				set(p, a.Setting, a.To, &a.Spots[0])
			}
		}
	}
}

// via are the places in which a template's setting holds.
func (a *Amendment) via(s *Spot) (all []estate.Place) {
	all = []estate.Place{s.Via}
	for _, scope := range a.Scopes {
		if at := scope.Authority.Place(); !slices.Contains(all, at) {
			all = append(all, at)
		}
	}
	return all
}

func set(p *estate.Policy, id setting.ID, v setting.Value, s *Spot) {
	f := p.Settings[id]
	f.Value, f.Problem, f.Remark = v, "", ""
	if f.Cite.File == "" {
		f.Cite = s.Cite
		f.Cite.Where = s.Where
	}
	if p.Settings == nil {
		p.Settings = estate.Settings{}
	}
	p.Settings[id] = f
}
