package govern

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// Templates joins a domain's units and policy containers with the templates in
// the evidence (MS-GPOL 3.2.5.1): which are linked where, in what order, and
// what comes of it.
type Templates struct {
	domain     *estate.Authority
	units      map[string]*estate.Unit // by the one spelling of their DN
	containers map[string]*estate.Container
	templates  map[string]*estate.Template // by GUID
	others     *estate.Estate              // for policies of other domains that are linked here
	samba      bool                        // what serves the domain is known to be no Windows
	machines   []Machine                   // the controllers, found when asked for
	byRID      map[uint32]int32            // found when asked for
}

// Linked is one link of a template to a place.
type Linked struct {
	Unit      *estate.Unit
	Link      estate.Link
	Order     int               // link order at its place, from 1; 1 wins
	Container *estate.Container // nil: the policy container is not in the evidence
	Template  *estate.Template  // nil: the template is not in the evidence
	Idle      string            // why it does nothing; empty when it works, or may
	Open      string            // why it is not known whether it works; empty when it is
}

// KeptOut reports whether the policy's security filter keeps it from those whom
// the link would reach.
func (l *Linked) KeptOut() bool { return l.Idle == keptOut }

// Name names the linked policy as well as the evidence can.
func (l *Linked) Name() string { return nameOf(l.Link.GUID, l.Container, l.Template) }

func nameOf(guid string, c *estate.Container, t *estate.Template) string {
	switch {
	case c != nil && c.Name != "":
		return c.Name
	case t != nil:
		return t.Policy.Name
	}
	return guid
}

// NewTemplates joins what belongs to a domain.
func NewTemplates(e *estate.Estate, domain *estate.Authority, dialect estate.Dialect) *Templates {
	t := &Templates{domain: domain, units: map[string]*estate.Unit{}, containers: map[string]*estate.Container{},
		templates: map[string]*estate.Template{}, others: e, samba: dialect == estate.Samba}
	for i := range domain.Units {
		t.units[estate.NormalDN(domain.Units[i].DN)] = &domain.Units[i]
	}
	for i := range domain.Containers {
		t.containers[domain.Containers[i].GUID] = &domain.Containers[i]
	}
	for i := range e.Templates {
		// The default policies have the same GUID in every domain: then the
		// domain must match too, where the evidence names it.
		if got := &e.Templates[i]; got.Domain == "" || got.Domain == domain.Name {
			t.templates[got.GUID] = got
		}
	}
	return t
}

// NameOf names a template as the directory does, else as its evidence does.
func (t *Templates) NameOf(template *estate.Template) string {
	return nameOf(template.GUID, t.containers[template.GUID], template)
}

// linksOf returns a unit's links, the winning one first, as they act on
// machines.
func (t *Templates) linksOf(u *estate.Unit, machines []Machine) []Linked {
	var all []Linked
	for i := len(u.Links) - 1; i >= 0; i-- {
		l := Linked{Unit: u, Link: u.Links[i], Order: len(u.Links) - i}
		l.Container, l.Template = t.policyOf(l.Link)
		switch {
		case l.Link.Disabled:
			l.Idle = "the link is disabled"
		case l.Container != nil && l.Container.MachineOff:
			l.Idle = "the policy's computer half is switched off"
		case l.Container != nil && l.Container.Unapplied:
			l.Idle = "it is of a functionality version that clients pass by"
		case l.Container != nil && l.Container.NeverChanged(),
			(l.Container == nil || l.Container.Half == nil) && l.Template != nil && l.Template.NeverChanged():
			l.Idle = "the version of its computer half is 0: clients pass it by"
		case l.Container != nil && l.Container.NoSecurity && l.Container.NoRegistry && !l.Container.Preferences:
			l.Idle = "it has no security settings"
		case l.Template == nil && !l.templateHidden() && !l.RegistryHidden():
			l.Idle = "it has no security settings"
		default:
			switch grade, why := t.applies(l.Container, machines); {
			case grade == no:
				l.Idle = why
			case l.Link.Domain != "" && l.Container == nil:
				l.Open = "it is a policy of " + l.Link.Domain + ", which is not in the evidence"
			case l.Template == nil && l.templateHidden():
				l.Open = templateUnseen
			case l.Template == nil:
				l.Open = registryUnseen
			case grade == maybe:
				l.Open = why
			case l.Template.NeverChanged():
				l.Open = "its GPT.INI has version 0 for its computer half, and the directory does not: clients may pass it by"
			case u.AnyOrder:
				l.Open = orderUnseen
			}
		}
		all = append(all, l)
	}
	return all
}

// policyOf returns the container and the template of a link, which may be another domain's.
func (t *Templates) policyOf(l estate.Link) (*estate.Container, *estate.Template) {
	if l.Domain == "" {
		return t.containers[l.GUID], t.templates[l.GUID]
	}
	var container *estate.Container
	var template *estate.Template
	for _, a := range t.others.Authorities {
		if i := slices.IndexFunc(a.Containers, func(c estate.Container) bool { return c.GUID == l.GUID }); a.Kind == estate.Domain &&
			a.Name == l.Domain && i >= 0 {
			container = &a.Containers[i]
		}
	}
	for i := range t.others.Templates {
		if x := &t.others.Templates[i]; x.GUID == l.GUID && x.Domain == l.Domain {
			template = x
		}
	}
	return container, template
}

// passedBy reports whether clients do not apply what sets a setting of a link's policy: its list
// of extensions does not name what would.
func (l *Linked) passedBy(id setting.ID) bool {
	switch c := l.Container; {
	case c == nil || l.Prefers(id):
		return false
	case slices.Contains(l.Template.InRegistry, id):
		return c.NoRegistry
	default:
		return c.NoSecurity
	}
}

// orderUnseen: a policy's report names its own links, and no others.
const orderUnseen = "which policies are linked there, and in what order, was not exported"

// Root returns the links at the domain's root, the winning one first: enforced
// links, then the others, each in their link order.
func (t *Templates) Root() []Linked {
	u := t.units[estate.NormalDN(rootDN(t.domain))]
	if u == nil {
		return nil
	}
	links := t.linksOf(u, t.controllersOf())
	slices.SortStableFunc(links, func(x, y Linked) int { return rankEnforced(x) - rankEnforced(y) })
	return links
}

func rankEnforced(l Linked) int {
	if l.Link.Enforced {
		return 0
	}
	return 1
}

func rootDN(a *estate.Authority) string {
	if a.Head != nil {
		return a.Head.Origin
	}
	return "DC=" + strings.ReplaceAll(a.Name, ".", ",DC=")
}

// At returns the links that work, or may, on machines in a place, the winning
// one first: enforced links from the root down, then the others from the place
// up, as far as no unit blocks inheritance.
func (t *Templates) At(place string, machines []Machine) []Linked {
	var enforced, normal []Linked
	blocked := false
	for rest := place; rest != ""; _, rest = estate.SplitDN(rest) {
		u := t.units[estate.NormalDN(rest)]
		if u == nil {
			continue
		}
		var here []Linked
		for _, l := range t.linksOf(u, machines) {
			switch {
			case l.Idle != "":
			case l.Link.Enforced:
				here = append(here, l)
			case !blocked:
				normal = append(normal, l)
			}
		}
		enforced = append(here, enforced...)
		blocked = blocked || u.Blocked
	}
	return append(enforced, normal...)
}

// ConfiguredValue is what the templates at a place configure for a setting.
type ConfiguredValue struct {
	estate.Fact
	id     setting.ID
	By     Linked
	Open   string            // why it is not certain; empty: it is
	Beaten []ConfiguredValue // other templates there that configure it
}

// Prefers reports whether a link's policy sets something by its preferences.
func (l *Linked) Prefers(id setting.ID) bool {
	return l.Template != nil && slices.Contains(l.Template.Preferred, id)
}

// templateHidden reports whether a link's policy may have a security template that is not in
// the evidence.
func (l *Linked) templateHidden() bool {
	return (l.Template == nil || l.Template.Part) && (l.Container == nil || !l.Container.NoSecurity)
}

// preferencesHidden says so of preferences for the registry: of a policy of which nothing
// is known, and of one that has some by what the directory says.
func (l *Linked) preferencesHidden() bool {
	if l.Template == nil && (l.Container == nil || !l.Container.Whole) {
		return true
	}
	return l.Container != nil && l.Container.Preferences && (l.Template == nil || !l.Template.Preferences)
}

// RegistryHidden reports whether a link's policy may set what it likes in the registry, by its
// registry file or by preferences, and that is not in the evidence.
func (l *Linked) RegistryHidden() bool {
	return l.preferencesHidden() || (l.Template == nil || !l.Template.Registry) && (l.Container == nil || !l.Container.NoRegistry)
}

// Configured returns what links configure, setting by setting; the first link
// that configures a setting wins, but for preferences, which go before all else.
func Configured(links []Linked) map[setting.ID]*ConfiguredValue {
	all := map[setting.ID]*ConfiguredValue{}
	unseen := ""    // a policy that comes first, and may configure anything
	registry := ""  // one that may configure anything in the registry
	preferred := "" // one that may do so by preferences, wherever it comes
	for _, l := range links {
		if l.Idle != "" {
			continue
		}
		var settings estate.Settings
		if l.Template != nil {
			settings = l.Template.Policy.Settings
		}
		for id, fact := range settings {
			if l.passedBy(id) {
				continue
			}
			v := ConfiguredValue{Fact: fact, id: id, By: l, Open: cmp.Or(unseen, openOf(l))}
			switch {
			case l.Prefers(id):
				v.Open = cmp.Or(openOf(l), preferred)
			case inRegistry(id):
				v.Open = cmp.Or(v.Open, registry)
			}
			first := all[id]
			if first == nil {
				all[id] = &v
				continue
			}
			if l.Prefers(id) && !first.By.Prefers(id) { // applied after those of all policies
				v.Beaten = append(first.Beaten, *first)
				v.Beaten[len(v.Beaten)-1].Beaten = nil
				all[id] = &v
				continue
			}
			first.Beaten = append(first.Beaten, v)
			if first.Open != "" && v.Open == "" && first.Value == v.Value && first.Problem == "" && !first.differs() {
				first.Open = "" // whichever works, the value is the same
			}
		}
		if l.templateHidden() {
			unseen = cmp.Or(unseen, l.Name()+" comes first: "+templateUnseen)
		}
		if l.RegistryHidden() {
			registry = cmp.Or(registry, l.Name()+" comes first: "+registryUnseen)
		}
		if l.preferencesHidden() {
			preferred = cmp.Or(preferred, l.Name()+": its preferences for the registry were not exported")
		}
	}
	for id, v := range all {
		if !v.By.Prefers(id) && inRegistry(id) {
			v.Open = cmp.Or(v.Open, preferred)
		}
	}
	return all
}

// inRegistry reports whether preferences can set it: a value of the machines' registry.
func inRegistry(id setting.ID) bool {
	return !HeadShows(id) && setting.Get(id).Exists(setting.WindowsMachine)
}

func openOf(l Linked) string {
	if l.Open == "" {
		return ""
	}
	return l.Name() + ": " + l.Open
}

// ConfiguredOn returns what templates configure on a computer. Where not everything that is
// linked above it is in the evidence, unseen names what is lacking: then what is configured
// is open, and more may be.
func (t *Templates) ConfiguredOn(row int) (all map[setting.ID]*ConfiguredValue, unseen string) {
	return t.configured(t.domain.Parents[t.domain.Objects.Parent.At(row)], []Machine{t.Machine(row)})
}

func (t *Templates) configured(place string, machines []Machine) (all map[setting.ID]*ConfiguredValue, unseen string) {
	all = Configured(t.At(place, machines))
	for _, v := range all {
		v.Open = cmp.Or(v.Open, t.bySites())
	}
	if unseen = t.unseenAbove(place); unseen == "" {
		return all, ""
	}
	for id, v := range all {
		// What the root enforces goes before all that is linked below, but for preferences.
		if v.Open == "" && !(v.By.Link.Enforced && v.By.Unit.Root && (v.By.Prefers(id) || !inRegistry(id))) {
			v.Open = unseen + " was not exported"
		}
	}
	return all, unseen
}

// unseenAbove names the nearest unit above a place, or the root, whose links are not all
// in the evidence; empty if there is none. Only units and the root have links.
func (t *Templates) unseenAbove(place string) string {
	root := estate.NormalDN(rootDN(t.domain))
	for rest := place; rest != ""; _, rest = estate.SplitDN(rest) {
		dn := estate.NormalDN(rest)
		if dn == root || strings.HasPrefix(dn, "ou=") {
			if u := t.units[dn]; u == nil || u.AnyOrder {
				return "what is linked at " + rest
			}
		}
		if dn == root {
			return ""
		}
	}
	return "what is linked at " + rootDN(t.domain) // where it lies is not known
}

// differs reports whether any template that configures the setting, too, gives
// it another value.
func (v *ConfiguredValue) differs() bool {
	return slices.ContainsFunc(v.Beaten, func(b ConfiguredValue) bool { return b.Value != v.Value })
}

// AccountSettings returns the settings of a template that would hold for the
// domain's accounts if it were linked at the root.
func AccountSettings(t *estate.Template) []setting.ID {
	var ids []setting.ID
	for _, row := range setting.Table() {
		if _, ok := t.Policy.Settings[row.ID]; ok && HeadShows(row.ID) {
			ids = append(ids, row.ID)
		}
	}
	return ids
}

// Machines returns the rows of the computers that a link reaches: those under
// its place, unless a unit between blocks it.
func (t *Templates) Machines(l Linked) []int {
	o := t.domain.Objects
	reached := map[uint32]bool{} // by parent
	for p, parent := range t.domain.Parents {
		for _, got := range t.At(parent, anyMachine) {
			if got.Unit == l.Unit && got.Link.GUID == l.Link.GUID {
				reached[uint32(p)] = true
			}
		}
	}
	var rows []int
	for row := range o.Len() {
		if o.ClassOf(row) != estate.Computer || !reached[o.Parent.At(row)] {
			continue
		}
		if grade, _ := t.applies(l.Container, []Machine{t.Machine(row)}); grade != no {
			rows = append(rows, row)
		}
	}
	return rows
}

// Machine is the computer at a row.
func (t *Templates) Machine(row int) Machine {
	return Machine{row, isController(t.domain, row)}
}

// Controller reports whether the machine is a controller of the domain.
func (m Machine) Controller() bool { return m.controller }

// anyMachine is a member of the domain of which no more is known.
var anyMachine = []Machine{{row: estate.NotFound}}

// Unlinked returns the templates of the domain that are linked nowhere in it.
func (t *Templates) Unlinked() []*estate.Template {
	linked := map[string]bool{}
	for i := range t.domain.Units {
		for _, l := range t.domain.Units[i].Links {
			linked[l.GUID] = true
		}
	}
	var all []*estate.Template
	for guid, template := range t.templates {
		if !linked[guid] && (template.Domain == t.domain.Name || t.containers[guid] != nil) {
			all = append(all, template)
		}
	}
	slices.SortFunc(all, func(x, y *estate.Template) int { return strings.Compare(x.GUID, y.GUID) })
	return all
}

// Places returns all units with links, the root first.
func (t *Templates) Places() []*estate.Unit {
	var all []*estate.Unit
	for _, root := range []bool{true, false} {
		for i := range t.domain.Units {
			if u := &t.domain.Units[i]; u.Root == root && len(u.Links) > 0 {
				all = append(all, u)
			}
		}
	}
	return all
}

// Links returns a unit's links, the winning one first.
func (t *Templates) Links(u *estate.Unit) []Linked {
	if u.Root {
		return t.linksOf(u, t.controllersOf())
	}
	return t.linksOf(u, anyMachine)
}

// controllers is the unit in which a domain keeps its controllers.
const controllers = "OU=Domain Controllers,"

// domainWide returns what templates configure of settings that the head has no
// attribute for: the directory says nothing of them, so they are configured,
// not seen. Kerberos settings come from the root, registry values from what
// reaches the controllers, each by its own chain of links.
func (t *Templates) domainWide() map[setting.ID]*ConfiguredValue {
	all := t.onControllers()
	root := Configured(t.Root())
	for _, row := range setting.Table() {
		if !row.Exists(setting.WindowsMachine) {
			delete(all, row.ID)
			if v := root[row.ID]; v != nil {
				all[row.ID] = v
			}
		}
	}
	for _, v := range all {
		v.Open = cmp.Or(v.Open, t.refuted(v, root), t.elsewhere(), t.bySites())
	}
	return all
}

// onControllers returns what templates configure on all controllers. Where they lie in
// different places, and templates give them different values, none is certain.
func (t *Templates) onControllers() map[setting.ID]*ConfiguredValue {
	byPlace := map[string][]Machine{}
	for _, m := range t.controllersOf() {
		place := controllers + rootDN(t.domain)
		if m.row != estate.NotFound {
			place = t.domain.Parents[t.domain.Objects.Parent.At(m.row)]
		}
		byPlace[place] = append(byPlace[place], m)
	}
	var all map[setting.ID]*ConfiguredValue
	for _, place := range slices.Sorted(maps.Keys(byPlace)) {
		here, _ := t.configured(place, byPlace[place])
		if all == nil {
			all = here
			continue
		}
		const differ = "the controllers lie in different units, and not all of them get the same value"
		for _, v := range all {
			if other := here[v.id]; other == nil || other.Value != v.Value || other.Problem != v.Problem {
				v.Open = cmp.Or(v.Open, differ)
			} else {
				v.Open = cmp.Or(v.Open, other.Open)
			}
		}
		for id, v := range here {
			if all[id] == nil {
				v.Open = cmp.Or(v.Open, differ)
				all[id] = v
			}
		}
	}
	return all
}

// refuted says that the head contradicts a template: of what the directory shows, something
// that the template sets and wins is otherwise there. Then nothing of it is certain.
func (t *Templates) refuted(v *ConfiguredValue, root map[setting.ID]*ConfiguredValue) string {
	head := t.domain.Head
	if head == nil || v.By.Template == nil {
		return ""
	}
	for _, row := range setting.Table() {
		says := root[row.ID]
		if says == nil || says.By.Template != v.By.Template || says.Problem != "" || says.Open != "" || !HeadShows(row.ID) {
			continue
		}
		if is, ok := head.Settings[row.ID]; ok && is.Problem == "" && is.Value != says.Value {
			return fmt.Sprintf("%s sets the %s to %s, and the directory has %s: it is not applied, or not as it stands", v.By.Name(),
				strings.ToLower(row.Title), row.Text(says.Value), row.Text(is.Value))
		}
	}
	return ""
}

// elsewhere says where a controller that is no Windows takes such settings from.
func (t *Templates) elsewhere() string {
	if t.samba {
		return "a Samba controller takes them from its smb.conf, and takes group policy only where it is told to"
	}
	return ""
}

// bySites says that an enforced link of a site may go before what is linked in the domain.
func (t *Templates) bySites() string {
	if len(t.domain.SiteLinks) > 0 {
		return "a site has an enforced link, which goes before the domain's on the machines of that site"
	}
	return ""
}
