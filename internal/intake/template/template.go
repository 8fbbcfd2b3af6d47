// Package template reads security templates in INF (MS-GPSB): one machine's
// own export, a template of a policy store, or one of a policy backup.
package template

import (
	"bufio"
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
)

// Format is the security template.
var Format = intake.Format{Name: "security template (INF)", Detect: detect, Names: storedName, Speaks: speaks, Read: read}

// maxSize bounds a template; real ones are a few kilobytes.
const maxSize = 16 << 20

var section = regexp.MustCompile(`(?im)^\s*\[(Unicode|System Access|Kerberos Policy|Registry Values|Event Audit|Privilege Rights|Version)\]`)

func detect(file string, head []byte) bool {
	if intoStore.MatchString(slashes(file)) {
		return true
	}
	text := intake.Opening(head)
	return section.Match(text) && !bytes.ContainsRune(text, 0)
}

// intoStore matches a template's place in a policy store or a policy backup.
var intoStore = regexp.MustCompile(`(?i)(?:^|/)(?:([^/]+)/)?(?:Policies/)?(\{[0-9a-f]{8}-[0-9a-f-]{27}\})/(?:DomainSysvol/GPO/)?Machine/Microsoft/Windows NT/SecEdit/[^/]+\.inf$`)

func slashes(file string) string { return strings.ReplaceAll(file, `\`, "/") }

// storedName gives templates of a store, which all have one name, their own.
func storedName(file string) string {
	if m := intoStore.FindStringSubmatch(slashes(file)); m != nil {
		return "template-" + strings.ToUpper(m[2][1:9]) + ".inf"
	}
	return path.Base(slashes(file))
}

// key is one key of a template: which setting it is and how to read it.
type key struct {
	section, name string
	id            setting.ID
	read          func(text string) (setting.Value, error)
}

const registry = `machine\system\currentcontrolset\control\`

var keys = []key{
	{"system access", "MinimumPasswordLength", "min-length", count(1)},
	{"system access", "PasswordHistorySize", "history", count(1)},
	{"system access", "MaximumPasswordAge", "max-age", special(setting.Never, days, "-1", "0")},
	{"system access", "MinimumPasswordAge", "min-age", special(setting.AtOnce, days, "0")},
	{"system access", "PasswordComplexity", "complexity", toggle},
	{"system access", "ClearTextPassword", "reversible", toggle},
	{"system access", "LockoutBadCount", "lockout-threshold", special(setting.Never, 1, "0")},
	{"system access", "LockoutDuration", "lockout-duration", special(setting.UntilAdmin, minutes, "-1", "0")},
	{"system access", "ResetLockoutCount", "lockout-window", special(setting.AtOnce, minutes, "0")},
	{"system access", "AllowAdministratorLockout", "lockout-administrator", toggle},
	{"system access", "ForceLogoffWhenHourExpire", "logoff-at-hours-end", toggle},
	{"kerberos policy", "MaxTicketAge", "ticket-lifetime", special(setting.Never, hours, "0")},
	{"kerberos policy", "MaxRenewAge", "ticket-renewal", special(setting.Never, days, "0")},
	{"kerberos policy", "MaxServiceAge", "service-ticket-lifetime", special(setting.Never, minutes, "0")},
	{"kerberos policy", "MaxClockSkew", "clock-skew", count(minutes)},
	{"kerberos policy", "TicketValidateClient", "ticket-checks-logon", toggle},
	{"registry values", registry + `Lsa\NoLMHash`, "lm-hash-stored", not(toggle)},
	{"registry values", registry + `Lsa\LimitBlankPasswordUse`, "blank-password-console-only", toggle},
	{"registry values", `MACHINE\System\CurrentControlSet\Control\SAM\RelaxMinimumPasswordLengthLimits`, "length-limit-relaxed", toggle},
	{"registry values", `MACHINE\System\CurrentControlSet\Control\SAM\MinimumPasswordLengthAudit`, "min-length-audit", count(1)},
}

const (
	minutes = 60
	hours   = 60 * minutes
	days    = 24 * hours
)

func count(unit int64) func(string) (setting.Value, error) {
	return func(text string) (setting.Value, error) {
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil || n > 1<<40 {
			return setting.Value{}, fmt.Errorf("%q is not a whole number", text)
		}
		return setting.Number(n * unit), nil
	}
}

func special(sp setting.Special, unit int64, magic ...string) func(string) (setting.Value, error) {
	return func(text string) (setting.Value, error) {
		if slices.Contains(magic, text) {
			return setting.Of(sp), nil
		}
		return count(unit)(text)
	}
}

func toggle(text string) (setting.Value, error) {
	switch text {
	case "0":
		return setting.Off, nil
	case "1":
		return setting.On, nil
	}
	return setting.Value{}, fmt.Errorf("%q is neither 0 nor 1", text)
}

func not(read func(string) (setting.Value, error)) func(string) (setting.Value, error) {
	return func(text string) (setting.Value, error) {
		v, err := read(text)
		if err != nil {
			return v, err
		}
		return setting.Switch(v == setting.Off), nil
	}
}

func read(src *intake.Source, into *estate.Builder) error {
	raw, err := io.ReadAll(io.LimitReader(src.In, maxSize+1))
	if err != nil {
		return err
	}
	if len(raw) > maxSize {
		return &intake.Error{Path: src.Path, Seen: "more than 16 MiB", Expected: "a security template", Next: "check which file this is"}
	}
	text, err := intake.Decode(raw)
	if err != nil {
		return &intake.Error{Path: src.Path, Seen: err.Error(), Expected: "a whole security template", Next: "copy it again and compare the sizes"}
	}
	t := &reader{src: src, into: into, platform: setting.WindowsMachine, facts: estate.Settings{}, seen: map[string]bool{}}
	stored := intoStore.FindStringSubmatch(slashes(src.Path))
	if stored != nil {
		t.platform = setting.WindowsTemplate
	}
	if err := t.lines(text); err != nil {
		return err
	}
	if err := t.keep(raw); err != nil {
		return err
	}
	if stored != nil {
		return t.template(stored)
	}
	return t.machine()
}

// reader holds one template while it is read.
type reader struct {
	src      *intake.Source
	into     *estate.Builder
	platform setting.Platform
	facts    estate.Settings
	seen     map[string]bool // sections
	access   int             // line of [System Access]
	kept     bytes.Buffer    // the text with secrets struck out
}

// secretKey matches names of keys whose values are secrets, such as the
// password of an automatic log-on.
var secretKey = regexp.MustCompile(`(?i)\\[^\\]*(password|passwd|secret)[^\\]*$`)

// secretEnd matches such names among the account settings.
var secretEnd = regexp.MustCompile(`(?i)(password|passwd|secret)$`)

var number = regexp.MustCompile(`^-?[0-9]+$`)

func (t *reader) lines(text []byte) error {
	scanner := bufio.NewScanner(bytes.NewReader(text))
	scanner.Buffer(nil, maxSize)
	in := ""
	for n := 1; scanner.Scan(); n++ {
		full := scanner.Text()
		line := strings.TrimSpace(full)
		name, value, assigned := strings.Cut(line, "=")
		name, value = strings.TrimSpace(name), strings.TrimSpace(value)
		switch {
		case line == "" || strings.HasPrefix(line, ";"):
		case strings.HasPrefix(line, "["):
			end := strings.IndexByte(line, ']')
			if end < 0 {
				return &intake.Error{Path: t.src.Path, Line: n, Seen: intake.Excerpt([]byte(line)), Expected: "a section name in brackets", Next: "the template is cut or was edited"}
			}
			in = strings.ToLower(line[1:end])
			t.seen[in] = true
			if in == "system access" {
				t.access = n
			}
		case !assigned && (in == "system access" || in == "kerberos policy"):
			return &intake.Error{Path: t.src.Path, Line: n, Seen: intake.Excerpt([]byte(line)), Expected: "KEY = VALUE", Next: "the template is cut or was edited"}
		default:
			if kept := t.struck(in, name, value); kept != value {
				value, full = kept, name+"="+kept
				t.src.Struck++
			}
			t.assign(n, in, name, value)
		}
		t.kept.WriteString(full + "\r\n")
	}
	return scanner.Err()
}

// struck returns a value without what is secret in it: a text under a name
// that says so, unless the name is one of the settings.
func (t *reader) struck(section, name, value string) string {
	if t.known(section, name) != nil || value == "" {
		return value
	}
	if section == "registry values" && secretKey.MatchString(name) {
		kind, _, _ := strings.Cut(value, ",")
		return kind + "," + intake.Struck
	}
	if section == "system access" && secretEnd.MatchString(name) && !number.MatchString(value) {
		return intake.Struck
	}
	return value
}

func (t *reader) known(section, name string) *key {
	i := slices.IndexFunc(keys, func(k key) bool { return k.section == section && strings.EqualFold(k.name, name) })
	if i < 0 {
		return nil
	}
	return &keys[i]
}

// assign takes one KEY = VALUE. A registry value is written TYPE,VALUE; type
// 4 is a number.
func (t *reader) assign(line int, section, name, value string) {
	k := t.known(section, name)
	if k == nil {
		if section == "system access" && !slices.Contains(others, name) {
			t.into.NotUnderstood(t.into.Cite(line, name, value), "a key of [System Access] that this program does not know")
		}
		return
	}
	c := t.into.Cite(line, name, value)
	if section == "registry values" {
		kind, number, ok := strings.Cut(value, ",")
		if !ok || kind != "4" && kind != "3" {
			t.into.Unreadable(t.facts, k.id, c, fmt.Sprintf("%q is not a registry number (4,VALUE)", value))
			return
		}
		value = strings.TrimSpace(number)
		c.Where = name[strings.LastIndexByte(name, '\\')+1:]
	}
	v, err := k.read(value)
	if err != nil {
		t.into.Unreadable(t.facts, k.id, c, err.Error())
		return
	}
	t.into.Set(t.facts, t.platform, k.id, v, c)
}

// others are keys of [System Access] that say nothing about passwords.
var others = []string{"RequireLogonToChangePassword", "NewAdministratorName", "NewGuestName", "LSAAnonymousNameLookup",
	"EnableAdminAccount", "EnableGuestAccount"}

// keep writes the stored copy: the bytes as received, unless a secret had to
// be struck out; then the text in UTF-8.
func (t *reader) keep(raw []byte) error {
	if t.src.Struck > 0 {
		t.src.Differs()
		raw = t.kept.Bytes()
	}
	_, err := t.src.Keep.Write(raw)
	return err
}

// template adds what a policy store or policy backup holds.
func (t *reader) template(place []string) error {
	id, domain := strings.ToUpper(place[2]), ""
	if strings.Contains(place[1], ".") {
		domain = strings.ToLower(place[1])
	}
	name := id
	for _, description := range descriptions {
		if !strings.Contains(strings.ToLower(place[0]), "/domainsysvol/") {
			break
		}
		if b := describe(t.src.Beside(description)); b.id != "" {
			id, name, domain = b.id, b.name, b.domain
			break
		}
	}
	t.into.Templates = append(t.into.Templates, estate.Template{GUID: id, Domain: domain, Policy: estate.Policy{
		Name: name, Origin: slashes(t.src.Path), Standing: estate.Configured, Platform: t.platform,
		Settings: t.facts, Cite: t.into.Cite(max(t.access, 1), "", "")}})
	return nil
}

// descriptions lie at the top of a policy backup, seen from its template.
var descriptions = []string{"../../../../../../bkupInfo.xml", "../../../../../../Backup.xml"}

// backup is what a policy backup's description says of the policy: its own
// GUID (the folder has another), its name and its domain.
type backup struct{ id, name, domain string }

func describe(doc []byte) (b backup) {
	text, err := intake.Decode(doc)
	if err != nil {
		return b
	}
	d := xml.NewDecoder(bytes.NewReader(text))
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	element := ""
	for {
		token, err := d.Token()
		if err != nil {
			return b
		}
		switch token := token.(type) {
		case xml.StartElement:
			element = token.Name.Local
		case xml.EndElement:
			element = ""
		case xml.CharData:
			value := strings.TrimSpace(string(token))
			switch element {
			case "GPOGuid", "ID":
				if b.id == "" {
					b.id = strings.ToUpper(value)
				}
			case "GPODisplayName", "DisplayName":
				if b.name == "" {
					b.name = value
				}
			case "GPODomain", "Domain":
				if b.domain == "" {
					b.domain = strings.ToLower(value)
				}
			}
		}
	}
}

// machineOf is the machine that a file is named after.
func machineOf(file string) string {
	base := path.Base(slashes(file))
	return strings.ToLower(strings.TrimSuffix(base, path.Ext(base)))
}

// speaks says whose template or export a file is: the policy's that its path
// names, else the machine's.
func speaks(file string) string {
	if stored := intoStore.FindStringSubmatch(slashes(file)); stored != nil {
		return strings.ToUpper(stored[1] + "/" + stored[2])
	}
	return machineOf(file)
}

// machine adds one machine's own export. It does not hold the machine's name;
// the file's name is taken for it.
func (t *reader) machine() error {
	if t.access == 0 {
		return &intake.Error{Path: t.src.Path, Seen: "no section [System Access]", Expected: "a machine's export with its account settings",
			Next: "export again with the area of the security policy included; see docs/sources.md"}
	}
	base := path.Base(slashes(t.src.Path))
	name := machineOf(t.src.Path)
	m := t.into.At(estate.Place{Name: name, Kind: estate.Machine})
	if m.Head != nil {
		return &intake.Error{Path: t.src.Path, Seen: fmt.Sprintf("a second export of the machine %s", name),
			Expected: "one export for each machine in one gather", Next: "a machine is named by its file: rename one of the two"}
	}
	m.Head = &estate.Policy{Name: "local", Origin: base, Standing: estate.Enforced, Platform: t.platform,
		Settings: t.facts, Cite: t.into.Cite(t.access, "[System Access]", "")}
	return nil
}
