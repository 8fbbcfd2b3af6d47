package template

import (
	"cmp"
	"errors"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
	"sternledger/internal/intake/markup"
)

// Preferences are what a policy's preferences set in the registry (MS-GPPREF 2.2.1.12).
// They are applied after security templates and registry files, of whatever policy.
var Preferences = intake.Format{Name: "policy's preferences for the registry (Registry.xml)", Detect: detectPreferences,
	Names:  preferenceFile.stored,
	Speaks: func(file string) string { return cmp.Or(preferenceFile.speaks(file), file) },
	Read: (&intake.Whole{Most: maxSize, Expected: "a policy's preferences for the registry, whole", Next: "copy the policy's folder again",
		Take: takePreferences}).Read}

// Preferred stands before the name under which evidence cites a value that preferences
// set: a security template cannot change it.
const Preferred = `Preferences\`

func detectPreferences(file string, head []byte) bool {
	return preferenceRoot.Match(intake.Opening(head)) && !userHalf.MatchString(slashes(file))
}

var preferenceRoot = regexp.MustCompile(`^\s*(?:<\?xml[^>]*>\s*)?(?:<!--[^>]*-->\s*)*<RegistrySettings[\s>/]`)

// preferred gathers the items of a document: of a file of its own, or of a report.
type preferred struct {
	open  *bounds // the innermost
	items []item

	// Of the element that was opened last: whether its attributes are read, the value of
	// the registry that it is about, and whether that is a setting.
	reads bool
	about string
	known bool
	ours  bool // its key has values that are settings
}

// bounds are those of an item or of a collection of items.
type bounds struct {
	in       *bounds
	off      bool // switched off
	filtered bool // item-level targeting picks the machines
	user     bool // applied as the user who signs in
}

// holds reports whether something is so of bounds, or of those around them.
func (b *bounds) holds(is func(b *bounds) bool) bool { return b != nil && (is(b) || b.in.holds(is)) }

// item is one value that preferences set.
type item struct {
	line        int
	in          *bounds
	action      string
	key, name   string
	kind, value string
}

// bounded are the elements that bound items.
var bounded = []string{"RegistrySettings", "Collection", "Registry"}

func (p *preferred) begin(stack []markup.Element) {
	e := &stack[len(stack)-1]
	path, local := cutFold(e.Of("hive")+`\`+e.Of("key"), `HKEY_LOCAL_MACHINE\`)
	p.about = e.Of("name")
	p.ours = local && ofSettings(`machine\`+path+`\`)
	p.known = local && (&reader{}).known("registry values", `machine\`+path+`\`+p.about) != nil
	p.reads = slices.Contains(bounded, e.Name) || e.Name == "Properties" && under(stack, "Registry")
	switch {
	case slices.Contains(bounded, e.Name):
		p.open = &bounds{in: p.open, off: e.Of("disabled") == "1", user: e.Of("userContext") == "1"}
	case p.open == nil:
	case e.Name == "Properties" && under(stack, "Registry"):
		p.items = append(p.items, item{e.Line, p.open, strings.ToUpper(e.Of("action")),
			e.Of("hive") + `\` + e.Of("key"), e.Of("name"), e.Of("type"), e.Of("value")})
	case under(stack, "Filters"):
		p.open.filtered = true
	}
}

func (p *preferred) end(stack []markup.Element) {
	if p.open != nil && slices.Contains(bounded, stack[len(stack)-1].Name) {
		p.open = p.open.in
	}
}

// itemWords are the attributes that tell an item's bounds, and which value of the registry it
// is, with what each can be.
var itemWords = map[string]*regexp.Regexp{"clsid": regexp.MustCompile(`^\{[0-9A-Fa-f-]{36}\}$`), "disabled": flag, "userContext": flag,
	"action": regexp.MustCompile(`^[A-Za-z]$`), "hive": regexp.MustCompile(`^HKEY_[A-Z_]{1,30}$`), "default": flag,
	"type": regexp.MustCompile(`^REG_[A-Z_]{1,30}$`)}

var flag = regexp.MustCompile(`^[01]$`)

// attribute says under which name one of the element that was opened last is kept, and
// whether it is read. Keys and names of the registry are whatever a program stores under.
func (p *preferred) attribute(name, value string) (as string, read bool) {
	switch is := itemWords[name]; {
	case !p.reads:
		return name, false
	case name == "value":
		return p.about, p.known && hexNumber.MatchString(value)
	case name == "key" || name == "name":
		return "", p.ours && (p.known || name == "key")
	case is != nil:
		return name, is.MatchString(value)
	}
	return name, false
}

var hexNumber = regexp.MustCompile(`^[0-9A-Fa-f]{1,8}$`)

// read takes the items that are settings into a template, in their order: the last one
// that is applied counts. It returns the settings that they decide.
func (p *preferred) read(t *reader) (ids []setting.ID) {
	for _, x := range p.items {
		if x.in.holds(func(b *bounds) bool { return b.off }) {
			continue
		}
		for _, k := range x.keys() {
			delete(t.facts, k.id) // what an item before it says
			c := t.into.Cite(x.line, Preferred+k.cited(), x.value)
			if v, why := x.sets(k); why != "" {
				t.into.Unreadable(t.facts, k.id, c, why)
			} else {
				t.into.Set(t.facts, t.platform, k.id, v, c)
			}
			if !slices.Contains(ids, k.id) {
				ids = append(ids, k.id)
			}
		}
	}
	return ids
}

// keys are those of the settings that an item is about: of one value, or of all below a
// key of the registry.
func (x *item) keys() (all []*key) {
	path, local := cutFold(x.key, `HKEY_LOCAL_MACHINE\`)
	for i := range keys {
		k := &keys[i]
		if !local || k.section != "registry values" {
			continue
		}
		if _, below := cutFold(k.name, `machine\`+path+`\`); below && x.name == "" && x.action != "U" && x.action != "C" ||
			strings.EqualFold(k.name, `machine\`+path+`\`+x.name) {
			all = append(all, k)
		}
	}
	return all
}

// sets is the value that an item gives a setting, or why that is not known.
func (x *item) sets(k *key) (v setting.Value, why string) {
	n, err := strconv.ParseUint(x.value, 16, 32)
	switch {
	case x.in.holds(func(b *bounds) bool { return b.filtered }):
		return v, "preferences set it on those machines alone that their item-level targeting picks"
	case x.in.holds(func(b *bounds) bool { return b.user }):
		return v, "preferences set it as the user who signs in, who may not be allowed to"
	case x.action == "D", x.name == "":
		return v, "preferences remove the value: what the system does without one is not modelled"
	case x.action == "C":
		return v, "preferences set it where no value is there yet, and leave one that is"
	case x.action != "U" && x.action != "R" && x.action != "":
		return v, strconv.Quote(x.action) + " is no action of preferences (C, R, U, D)"
	case x.kind != "REG_DWORD" || err != nil:
		return v, "not a number of four bytes"
	}
	if v, err = k.read(strconv.FormatUint(n, 10)); err != nil {
		why = err.Error()
	}
	return v, why
}

// cutFold is strings.CutPrefix, whatever the case.
func cutFold(text, prefix string) (rest string, ok bool) {
	if len(text) < len(prefix) || !strings.EqualFold(text[:len(prefix)], prefix) {
		return text, false
	}
	return text[len(prefix):], true
}

// takePreferences reads the values that are settings.
func takePreferences(text *intake.Text, into *estate.Builder) error {
	if preferenceFile.at(text.Path) == nil {
		return text.Wrong(0, "preferences outside of the policy's folder", "{GUID}/Machine/Preferences/Registry/Registry.xml",
			"gather the folder Policies of SYSVOL, or the policy backup: the folder tells which policy it is")
	}
	t := &reader{text: text, into: into, platform: setting.WindowsTemplate, facts: estate.Settings{}, seen: map[string]bool{}}
	all := &preferred{}
	err := markup.Walk(text, &markup.Visitor{
		Open: all.begin,
		Close: func(stack []markup.Element, _ string) (string, bool) {
			all.end(stack)
			return "", false
		},
		Attr: all.attribute})
	if broken := (*markup.Error)(nil); errors.As(err, &broken) {
		return text.Wrong(broken.Line, "XML that cannot be read: "+err.Error(), "a policy's preferences for the registry, whole",
			"copy the policy's folder again")
	}
	if err != nil {
		return err
	}
	id, name, domain := preferenceFile.policy(text)
	into.Template(estate.Template{GUID: id, Domain: domain, Part: true, Preferences: true, Preferred: all.read(t),
		Policy: estate.Policy{Name: name, Origin: slashes(text.Path), Standing: estate.Configured, Platform: t.platform, Settings: t.facts,
			Cite: into.Cite(1, "", "")}})
	return nil
}
