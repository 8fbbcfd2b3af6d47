package govern

import (
	"cmp"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// Setter is the template that sets a setting of a place, and sets it again after a
// change that was made behind it.
type Setter struct {
	Place   estate.Place  `json:"place"`
	Setting setting.ID    `json:"setting"`
	GUID    string        `json:"guid"`
	Name    string        `json:"name"`
	Domain  estate.Place  `json:"domain"` // of the template
	Origin  string        `json:"origin"` // of the template, as the evidence writes it
	Value   setting.Value `json:"value"`
	Cite    estate.Cite   `json:"cite"`
	Open    string        `json:"open,omitempty"` // why it is not certain that it does
}

// Setters are the templates that set the settings of domains' heads and of
// machines, as far as the evidence holds them. unseen names, by place, a template
// that acts there, and is not in the evidence.
func (s *Survey) Setters() (all []Setter, unseen map[estate.Place]string) {
	unseen = map[estate.Place]string{}
	add := func(at estate.Place, domain *estate.Authority, links []Linked, configured map[setting.ID]*ConfiguredValue,
		only func(setting.ID) bool) {
		for i := range links {
			if l := &links[i]; l.Idle == "" && l.templateHidden() && unseen[at] == "" {
				unseen[at] = l.Name()
			}
		}
		for _, row := range setting.Table() {
			v := configured[row.ID]
			if v == nil || v.Problem != "" || !only(row.ID) {
				continue
			}
			all = append(all, Setter{at, row.ID, v.By.Link.GUID, v.By.Name(), domain.Place(), v.By.Template.Policy.Origin, v.Value, v.Cite, v.Open})
		}
	}
	machines := map[string]*estate.Authority{}
	for i, a := range s.Estate.Authorities {
		switch a.Kind {
		case estate.Domain:
			t := s.Templates[i]
			root := t.Root()
			add(a.Place(), a, root, Configured(root), HeadShows)
			wide := t.domainWide()
			for _, row := range setting.Table() {
				if v := wide[row.ID]; v != nil && v.Problem == "" && !HeadShows(row.ID) {
					all = append(all, Setter{a.Place(), row.ID, v.By.Link.GUID, v.By.Name(), a.Place(), v.By.Template.Policy.Origin, v.Value, v.Cite,
						v.Open})
				}
			}
		case estate.Machine:
			if a.Platform == setting.WindowsMachine {
				machines[a.Name] = a
			}
		}
	}
	if len(machines) == 0 {
		return all, unseen
	}
	reached := map[string]int{} // domains that have a computer of that name
	for i, a := range s.Estate.Authorities {
		for row := range a.Objects.Len() {
			if a.Objects.ClassOf(row) != estate.Computer {
				continue
			}
			name := MachineName(a, row)
			if m := machines[name]; m != nil {
				reached[name]++
				t := s.Templates[i]
				links := t.At(a.Parents[a.Objects.Parent.At(row)], []Machine{t.Machine(row)})
				configured, hidden := t.ConfiguredOn(row)
				add(m.Place(), a, links, configured, func(setting.ID) bool { return true })
				if hidden != "" && unseen[m.Place()] == "" {
					unseen[m.Place()] = hidden
				}
			}
		}
	}
	for i := range all {
		if x := &all[i]; x.Place.Kind == estate.Machine && reached[x.Place.Name] > 1 {
			x.Open = "two domains have a computer of that name"
		}
	}
	slices.SortStableFunc(all, func(x, y Setter) int {
		return cmp.Or(x.Place.Compare(y.Place), setting.Order(x.Setting, y.Setting))
	})
	return all, unseen
}

// MachineName is the name under which a computer's own export is gathered.
func MachineName(a *estate.Authority, row int) string {
	return strings.ToLower(strings.TrimSuffix(a.Objects.Name.At(row), "$"))
}
