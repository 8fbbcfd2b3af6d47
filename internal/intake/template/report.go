package template

import (
	"bytes"
	"errors"
	"regexp"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
	"sternledger/internal/intake/descriptor"
	"sternledger/internal/intake/markup"
	"sternledger/internal/redact"
)

// Report is the report that the group-policy console saves as XML, of one policy or
// of all, and the resultant report of one machine. Names and units of settings are
// the security template's; only the texts beside them are translated.
var Report = intake.Format{Name: "group-policy report (XML)", Detect: detectReport, Names: storedReport,
	Read: (&intake.Whole{Most: maxReport, Expected: "a whole group-policy report", Next: "save it again, or one for each policy", Take: takeReport}).Read}

// maxReport bounds one: that of all policies of a large domain has some 100 MiB.
const maxReport = 512 << 20

// Name spaces of the reports.
const (
	ofPolicy = "http://www.microsoft.com/GroupPolicy/Settings"
	ofResult = "http://www.microsoft.com/GroupPolicy/Rsop"
)

func detectReport(_ string, head []byte) bool {
	text := intake.Opening(head)
	return bytes.Contains(text, []byte(`"`+ofPolicy+`"`)) || bytes.Contains(text, []byte(`"`+ofResult+`"`))
}

// storedReport gives the reports in policy backups, which all have one name, their
// folder's.
func storedReport(file string) string {
	file = slashes(file)
	parts := strings.Split(file, "/")
	name := parts[len(parts)-1]
	if len(parts) > 1 && guidName(parts[len(parts)-2]) {
		return "report-" + strings.ToUpper(parts[len(parts)-2][1:9]) + ".xml"
	}
	return name
}

func guidName(name string) bool { return len(name) == 38 && name[0] == '{' && name[37] == '}' }

// policyReport is what a report says of one policy, while it is read.
type policyReport struct {
	line      int
	id, name  string
	domain    string
	off       bool   // its computer half is switched off
	access    string // its security descriptor, as text
	wmi       bool
	template  *reader
	preferred preferred
	links     []reportLink
}

// reportLink is a place that a policy is linked to.
type reportLink struct {
	line     int
	path     string
	disabled bool
	enforced bool
}

// settingReport is a setting while it is read.
type settingReport struct {
	line              int
	section, name     string
	value, precedence string
	by                string // the policy that gave it, in a resultant report
}

// reportReader reads one report.
type reportReader struct {
	text   *intake.Text
	into   *estate.Builder
	policy *policyReport
	set    *settingReport
	link   *reportLink
	seen   int

	result *resultReport // a resultant report's
	err    error
}

func takeReport(text *intake.Text, into *estate.Builder) error {
	r := &reportReader{text: text, into: into}
	err := markup.Walk(text, &markup.Visitor{Open: r.open, Close: r.close, Attr: r.attribute})
	if broken := (*markup.Error)(nil); errors.As(err, &broken) {
		return text.Wrong(broken.Line, "XML that cannot be read: "+err.Error(), "a whole report", "save it again as XML")
	}
	switch {
	case err != nil:
		return err
	case r.err != nil:
		return r.err
	case r.seen == 0:
		return text.Wrong(0, "a report that names no policy and no machine", "a report of a policy, or of a machine", "save it again as XML")
	}
	return nil
}

func (r *reportReader) attribute(name, value string) (as string, read bool) {
	if r.policy != nil {
		return r.policy.preferred.attribute(name, value)
	}
	return name, false
}

// under reports whether an element stands in others of those names, the innermost
// last; whatever stands around them does not matter.
func under(stack []markup.Element, names ...string) bool {
	at := len(stack) - 1 - len(names)
	if at < 0 {
		return false
	}
	for i, name := range names {
		if stack[at+i].Name != name {
			return false
		}
	}
	return true
}

// sections are the elements that hold settings.
var sections = map[string]string{"Account": "system access", "SecurityOptions": "registry values"}

func (r *reportReader) open(stack []markup.Element) {
	e := &stack[len(stack)-1]
	if r.policy != nil && slices.ContainsFunc(stack, func(e markup.Element) bool { return e.Name == "Computer" }) {
		r.policy.preferred.begin(stack)
	}
	switch {
	case e.Name == "GPO" && e.Space == ofPolicy && r.result == nil && r.policy == nil:
		r.policy = &policyReport{line: e.Line, template: r.settings(setting.WindowsTemplate)}
	case e.Name == "ComputerResults" && e.Space == ofResult:
		r.result = &resultReport{line: e.Line, names: map[string]string{}, template: r.settings(setting.WindowsTemplate)}
	case e.Name == "LinksTo" && r.policy != nil:
		r.link = &reportLink{line: e.Line}
	case sections[e.Name] != "" && slices.ContainsFunc(stack, func(e markup.Element) bool { return e.Name == "ExtensionData" }):
		r.set = &settingReport{line: e.Line, section: sections[e.Name]}
	}
}

// settings is what a report's settings are read into, as a template's keys are.
func (r *reportReader) settings(p setting.Platform) *reader {
	return &reader{text: r.text, into: r.into, platform: p, facts: estate.Settings{}, seen: map[string]bool{}}
}

// field is a leaf that is read, and where it goes.
type field struct {
	name, in string         // in: the element around it
	can      *regexp.Regexp // what it can hold; nil: any text
	take     func(r *reportReader, text string)
}

var (
	truth      = regexp.MustCompile(`^(?:true|false)$`)
	aGUID      = regexp.MustCompile(`^\{[0-9A-Fa-f-]{36}\}$`)
	dnsName    = regexp.MustCompile(`^[A-Za-z0-9-]+(?:\.[A-Za-z0-9-]+)+$`)
	sddl       = regexp.MustCompile(`^[OGDS]:[A-Za-z0-9:();_-]*$`)
	keyName    = regexp.MustCompile(`^[A-Za-z]{1,40}$`)
	keyPath    = regexp.MustCompile(`(?i)^MACHINE\\(?:System|Software)\\[A-Za-z \\]+\d?$`)
	tellsOfOne = regexp.MustCompile(`^$`) // whether there is one, and not which
)

var fields = []field{
	{"Identifier", "Identifier", aGUID, func(r *reportReader, text string) { r.identifier(text) }},
	{"Domain", "Identifier", dnsName, func(r *reportReader, text string) {
		if r.policy != nil && r.set == nil {
			r.policy.domain = strings.ToLower(text)
		}
	}},
	{"Name", "GPO", nil, func(r *reportReader, text string) {
		if r.policy != nil {
			r.policy.name = text
		} else if r.result != nil {
			r.result.name = text
		}
	}},
	{"Enabled", "Computer", truth, func(r *reportReader, text string) {
		if r.policy != nil {
			r.policy.off = text == "false"
		}
	}},
	{"SDDL", "SecurityDescriptor", sddl, func(r *reportReader, text string) {
		if r.policy != nil {
			r.policy.access = text
		}
	}},
	{"FilterName", "GPO", tellsOfOne, func(r *reportReader, text string) {
		if r.policy != nil {
			r.policy.wmi = text != ""
		}
	}},
	{"SOMPath", "LinksTo", nil, func(r *reportReader, text string) { r.atLink(func(l *reportLink) { l.path = text }) }},
	{"Enabled", "LinksTo", truth, func(r *reportReader, text string) { r.atLink(func(l *reportLink) { l.disabled = text == "false" }) }},
	{"NoOverride", "LinksTo", truth, func(r *reportReader, text string) { r.atLink(func(l *reportLink) { l.enforced = text == "true" }) }},
	{"Name", "Account", keyName, func(r *reportReader, text string) { r.atSetting(func(s *settingReport) { s.name = text }) }},
	{"KeyName", "SecurityOptions", keyPath, func(r *reportReader, text string) { r.atSetting(func(s *settingReport) { s.name = text }) }},
	{"SystemAccessPolicyName", "SecurityOptions", keyName, func(r *reportReader, text string) {
		r.atSetting(func(s *settingReport) { s.name, s.section = text, "system access" })
	}},
	{"SettingNumber", "", digits, func(r *reportReader, text string) { r.atSetting(func(s *settingReport) { s.value = text }) }},
	{"SettingBoolean", "", truth, func(r *reportReader, text string) {
		r.atSetting(func(s *settingReport) { s.value = map[string]string{"true": "1", "false": "0"}[text] })
	}},
	{"Precedence", "", digits, func(r *reportReader, text string) { r.atSetting(func(s *settingReport) { s.precedence = text }) }},
	{"Name", "ComputerResults", nil, func(r *reportReader, text string) { r.atResult(func(x *resultReport) { x.machine = text }) }},
	{"Domain", "ComputerResults", dnsName, func(r *reportReader, text string) { r.atResult(func(x *resultReport) { x.domain = text }) }},
}

func (r *reportReader) atLink(do func(*reportLink)) {
	if r.link != nil {
		do(r.link)
	}
}

func (r *reportReader) atSetting(do func(*settingReport)) {
	if r.set != nil {
		do(r.set)
	}
}

func (r *reportReader) atResult(do func(*resultReport)) {
	if r.result != nil {
		do(r.result)
	}
}

func (r *reportReader) identifier(text string) {
	id := strings.ToUpper(text)
	switch {
	case r.set != nil:
		r.set.by = id
	case r.policy != nil:
		r.policy.id = id
	case r.result != nil:
		r.result.id = id
	}
}

func (r *reportReader) close(stack []markup.Element, text string) (name string, read bool) {
	e := &stack[len(stack)-1]
	if r.policy != nil {
		r.policy.preferred.end(stack)
	}
	if e.Leaf {
		text := strings.TrimSpace(text)
		if redact.Look(text) {
			text = redact.Struck
		}
		for i := range fields {
			f := &fields[i]
			if f.name == e.Name && (f.in == "" || under(stack, f.in)) {
				f.take(r, text)
				read = read || f.can == nil || f.can.MatchString(text)
			}
		}
	}
	switch {
	case r.set != nil && sections[e.Name] != "":
		r.endSetting()
	case r.link != nil && e.Name == "LinksTo":
		r.policy.links = append(r.policy.links, *r.link)
		r.link = nil
	case r.policy != nil && e.Name == "GPO" && e.Space == ofPolicy:
		r.endPolicy()
	case r.result != nil && e.Name == "GPO" && e.Space == ofResult && r.set == nil:
		r.result.names[r.result.id] = r.result.name
	case r.result != nil && e.Name == "ComputerResults":
		r.endResult()
	}
	return e.Name, read
}

// endSetting takes a setting into its policy, as a template's line.
func (r *reportReader) endSetting() {
	s := r.set
	r.set = nil
	if s.section == "system access" && (&reader{}).known(s.section, s.name) == nil {
		s.section = "kerberos policy"
	}
	k := (&reader{}).known(s.section, s.name)
	if k == nil {
		return
	}
	value := s.value
	if s.section == "registry values" {
		value = "4," + value
	}
	switch {
	case r.policy != nil:
		r.policy.template.assign(s.line, s.section, s.name, value)
	case r.result != nil && (s.precedence == "" || s.precedence == "1"):
		r.result.template.assign(s.line, s.section, s.name, value)
		r.result.by = append(r.result.by, givenBy{k.id, s.by})
	}
}

func (r *reportReader) endPolicy() {
	p := r.policy
	r.policy = nil
	r.seen++
	c := r.into.Cite(p.line, "", "")
	if p.id == "" || !guidName(p.id) {
		r.into.NotUnderstood(c, "a policy without its GUID")
		return
	}
	if p.name == "" {
		p.name = p.id
	}
	ids := p.preferred.read(p.template)
	r.into.Template(estate.Template{GUID: p.id, Domain: p.domain, Preferences: true, Preferred: ids,
		Policy: estate.Policy{Name: p.name, Origin: slashes(r.text.Path),
			Standing: estate.Configured, Platform: setting.WindowsTemplate, Settings: p.template.facts, Cite: c}})
	if p.domain == "" {
		return
	}
	at := estate.InDomain(p.domain)
	container := estate.Container{GUID: p.id, Name: p.name, MachineOff: p.off, Cite: c}
	if p.wmi {
		container.WMIFilter = "a filter that the report names"
	}
	if p.access != "" {
		if access, err := descriptor.Access([]byte(p.access)); err != nil {
			r.into.NotUnderstood(c, "the security descriptor of %s is not understood: %v", p.name, err)
		} else {
			container.Filtered, container.Whole, container.Access = true, true, access
		}
	}
	r.into.Container(at, container)
	for _, l := range p.links {
		r.linked(at, p.id, &l)
	}
}

// linked notes where a policy is linked. In what order with others a report does not
// tell.
func (r *reportReader) linked(at estate.Place, id string, l *reportLink) {
	dn, root, ok := placeOf(l.path)
	if !ok {
		r.into.NotUnderstood(r.into.Cite(l.line, "SOMPath", ""), "a link to a place that is neither the domain nor a unit in it")
		return
	}
	u := r.into.Unit(at, []byte(dn), l.line)
	if len(u.Links) > 0 && !u.AnyOrder {
		return // the directory itself tells the links, and their order
	}
	u.Root, u.AnyOrder = u.Root || root, true
	if !slices.ContainsFunc(u.Links, func(x estate.Link) bool { return x.GUID == id }) {
		u.Links = append(u.Links, estate.Link{GUID: id, Disabled: l.disabled, Enforced: l.enforced})
	}
}

// placeOf makes a DN of a canonical name such as quay.example/Staff/Office.
func placeOf(path string) (dn string, root, ok bool) {
	var parts []string
	var part strings.Builder
	for i := 0; i < len(path); i++ {
		switch {
		case path[i] == '\\' && i+1 < len(path):
			i++
			part.WriteByte(path[i])
		case path[i] == '/':
			parts = append(parts, part.String())
			part.Reset()
		default:
			part.WriteByte(path[i])
		}
	}
	parts = append(parts, part.String())
	domain := parts[0]
	if domain == "" || strings.ContainsAny(domain, " ,=") {
		return "", false, false
	}
	dn = "DC=" + strings.ReplaceAll(domain, ".", ",DC=")
	for _, name := range parts[1:] {
		if name == "" {
			continue
		}
		dn = "OU=" + escaped.Replace(name) + "," + dn
	}
	return dn, len(parts) == 1 || parts[1] == "", true
}

// escaped are the characters that a DN's value cannot hold (RFC 4514).
var escaped = strings.NewReplacer(`\`, `\\`, ",", `\,`, "+", `\+`, `"`, `\"`, "<", `\<`, ">", `\>`, ";", `\;`, "=", `\=`, "#", `\#`)
