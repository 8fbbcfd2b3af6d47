// Package template reads security templates in INF (MS-GPSB): one machine's
// own export, a template of a policy store, or one of a policy backup.
package template

import (
	"bytes"
	"cmp"
	"encoding/xml"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
	"sternledger/internal/redact"
)

// Format is the security template.
var Format = intake.Format{Name: "security template (INF)", Detect: detect, Names: templateFile.stored, Speaks: speaks,
	Read: (&intake.Whole{Most: maxSize, Expected: "a whole security template", Next: "copy it again and compare the sizes", Take: take}).Read}

// maxSize bounds a template; real ones are a few kilobytes.
const maxSize = 16 << 20

var section = regexp.MustCompile(`(?im)^\s*\[(Unicode|System Access|Kerberos Policy|Registry Values|Event Audit|Privilege ` +
	`Rights|Version)\]`)

func detect(file string, head []byte) bool {
	if templateFile.at(file) != nil {
		return true
	}
	text := intake.Opening(head)
	return section.Match(text) && !bytes.ContainsRune(text, 0)
}

// key is one key of a template: which setting it is, how it is read, and how it
// is written (MS-GPSB).
type key struct {
	section, name string
	id            setting.ID
	read          func(text string) (setting.Value, error)
	write         setting.Form
}

// cited is the name under which evidence cites the key.
func (k *key) cited() string { return k.name[strings.LastIndexByte(k.name, '\\')+1:] }

// Forms are the written forms of the keys, by the name under which evidence cites
// them.
func Forms() map[string]setting.Form {
	all := map[string]setting.Form{}
	for i := range keys {
		all[keys[i].cited()] = keys[i].write
	}
	return all
}

// Registry returns the setting that a value of the registry is, and how it is written
// there.
func Registry(path, name string) (setting.ID, setting.Form, bool) {
	for i := range keys {
		if k := &keys[i]; k.section == "registry values" && strings.EqualFold(k.name, `machine\`+path+`\`+name) {
			return k.id, k.write, true
		}
	}
	return "", nil, false
}

// editor names the settings as the policy editor does, under Computer
// Configuration, Windows Settings, Security Settings.
var editor = map[setting.ID]string{
	setting.MinLength:             `Account Policies, Password Policy, "Minimum password length"`,
	setting.History:               `Account Policies, Password Policy, "Enforce password history"`,
	setting.MaxAge:                `Account Policies, Password Policy, "Maximum password age"`,
	setting.MinAge:                `Account Policies, Password Policy, "Minimum password age"`,
	setting.Complexity:            `Account Policies, Password Policy, "Password must meet complexity requirements"`,
	setting.Reversible:            `Account Policies, Password Policy, "Store passwords using reversible encryption"`,
	setting.LengthLimitRelaxed:    `Account Policies, Password Policy, "Relax minimum password length limits"`,
	setting.MinLengthAudit:        `Account Policies, Password Policy, "Minimum password length audit"`,
	setting.LockoutThreshold:      `Account Policies, Account Lockout Policy, "Account lockout threshold"`,
	setting.LockoutDuration:       `Account Policies, Account Lockout Policy, "Account lockout duration"`,
	setting.LockoutWindow:         `Account Policies, Account Lockout Policy, "Reset account lockout counter after"`,
	setting.LockoutAdministrator:  `Account Policies, Account Lockout Policy, "Allow Administrator account lockout"`,
	setting.TicketLifetime:        `Account Policies, Kerberos Policy, "Maximum lifetime for user ticket"`,
	setting.TicketRenewal:         `Account Policies, Kerberos Policy, "Maximum lifetime for user ticket renewal"`,
	setting.ServiceTicketLifetime: `Account Policies, Kerberos Policy, "Maximum lifetime for service ticket"`,
	setting.ClockSkew:             `Account Policies, Kerberos Policy, "Maximum tolerance for computer clock synchronization"`,
	setting.TicketChecksLogon:     `Account Policies, Kerberos Policy, "Enforce user logon restrictions"`,
	setting.LMHashStored: `Local Policies, Security Options, "Network security: Do not store LAN Manager hash value ` +
		`on next password change"`,
	setting.BlankPasswordConsoleOnly: `Local Policies, Security Options, "Accounts: Limit local account use of blank passwords to ` +
		`console logon only"`,
	setting.LogoffAtHoursEnd: `Local Policies, Security Options, "Network security: Force logoff when logon hours expire"`,
}

// Editor is where the policy editor has a setting that is cited under a name; empty where it
// has none.
func Editor(id setting.ID, name string) string {
	if value, is := strings.CutPrefix(name, Preferred); is {
		return `Preferences, Windows Settings, Registry, "` + value + `"`
	}
	return editor[id]
}

// minusOne are the specials of [System Access].
var minusOne = map[setting.Special]string{setting.Never: "-1", setting.AtOnce: "0", setting.UntilAdmin: "-1"}

// registryNumber writes a registry value of type 4.
var registryNumber = registryIn(1)

// registryIn writes one in a unit, given in seconds.
func registryIn(unit int64) setting.Form {
	return func(v setting.Value) string {
		n, ok := v.Number()
		if !ok || n%unit != 0 {
			return ""
		}
		return "4," + strconv.FormatInt(n/unit, 10)
	}
}

const registry = `machine\system\currentcontrolset\control\`

var keys = []key{
	{"system access", "MinimumPasswordLength", setting.MinLength, count(1), setting.Plain},
	{"system access", "PasswordHistorySize", setting.History, count(1), setting.Plain},
	{"system access", "MaximumPasswordAge", setting.MaxAge, special(setting.Never, days, "-1", "0"), setting.Scaled(days, minusOne)},
	{"system access", "MinimumPasswordAge", setting.MinAge, special(setting.AtOnce, days, "0"), setting.Scaled(days, minusOne)},
	{"system access", "PasswordComplexity", setting.Complexity, toggle, setting.OneZero},
	{"system access", "ClearTextPassword", setting.Reversible, toggle, setting.OneZero},
	{"system access", "LockoutBadCount", setting.LockoutThreshold, special(setting.Never, 1, "0"), setting.Plain},
	{"system access", "LockoutDuration", setting.LockoutDuration, special(setting.UntilAdmin, minutes, "-1", "0"),
		setting.Scaled(minutes, minusOne)},
	{"system access", "ResetLockoutCount", setting.LockoutWindow, special(setting.AtOnce, minutes, "0"),
		setting.Scaled(minutes, map[setting.Special]string{setting.AtOnce: "0"})},
	{"system access", "AllowAdministratorLockout", setting.LockoutAdministrator, toggle, setting.OneZero},
	{"system access", "ForceLogoffWhenHourExpire", setting.LogoffAtHoursEnd, toggle, setting.OneZero},
	{"kerberos policy", "MaxTicketAge", setting.TicketLifetime, special(setting.Never, hours, "0"), setting.Scaled(hours, setting.Zero)},
	{"kerberos policy", "MaxRenewAge", setting.TicketRenewal, special(setting.Never, days, "0"), setting.Scaled(days, setting.Zero)},
	{"kerberos policy", "MaxServiceAge", setting.ServiceTicketLifetime, special(setting.Never, minutes, "0"),
		setting.Scaled(minutes, setting.Zero)},
	{"kerberos policy", "MaxClockSkew", setting.ClockSkew, count(minutes), setting.Scaled(minutes, setting.Zero)},
	{"kerberos policy", "TicketValidateClient", setting.TicketChecksLogon, toggle, setting.OneZero},
	{"registry values", registry + `Lsa\NoLMHash`, setting.LMHashStored, not(toggle), setting.Words("4,0", "4,1")},
	{"registry values", registry + `Lsa\LimitBlankPasswordUse`, setting.BlankPasswordConsoleOnly, toggle, setting.Words("4,1", "4,0")},
	{"registry values", `MACHINE\System\CurrentControlSet\Control\SAM\RelaxMinimumPasswordLengthLimits`, setting.LengthLimitRelaxed, toggle,
		setting.Words("4,1", "4,0")},
	{"registry values", `MACHINE\System\CurrentControlSet\Control\SAM\MinimumPasswordLengthAudit`, setting.MinLengthAudit, count(1),
		registryNumber},
	// Managed passwords of local administrators, by the system's own way and by the one before it.
	{"registry values", managed + `BackupDirectory`, setting.ManagedAdmin, words("off", "cloud", "directory"),
		numbered("off", "cloud", "directory")},
	{"registry values", managed + `PasswordLength`, setting.ManagedAdminLength, count(1), registryNumber},
	{"registry values", managed + `PasswordComplexity`, setting.ManagedAdminClasses, classes, registryNumber},
	{"registry values", managed + `PasswordAgeDays`, setting.ManagedAdminAge, count(days), registryIn(days)},
	{"registry values", managedBefore + `AdmPwdEnabled`, setting.ManagedAdmin, words("off", "directory"), numbered("off", "directory")},
	{"registry values", managedBefore + `PasswordLength`, setting.ManagedAdminLength, count(1), registryNumber},
	{"registry values", managedBefore + `PasswordComplexity`, setting.ManagedAdminClasses, classes, registryNumber},
	{"registry values", managedBefore + `PasswordAgeDays`, setting.ManagedAdminAge, count(days), registryIn(days)},
	{"registry values", winlogon + `PasswordExpiryWarning`, setting.ExpiryWarning, count(days), registryIn(days)},
}

const (
	managed       = `machine\software\microsoft\windows\currentversion\policies\laps\`
	winlogon      = `machine\software\microsoft\windows nt\currentversion\winlogon\`
	managedBefore = `machine\software\policies\microsoft services\admpwd\`
)

// numbered writes a word as its number.
func numbered(all ...string) setting.Form {
	return func(v setting.Value) string {
		word, _ := v.Word()
		if i := slices.Index(all, word); i >= 0 {
			return "4," + strconv.Itoa(i)
		}
		return ""
	}
}

// classes reads the number by which managed passwords are asked for character classes.
func classes(text string) (setting.Value, error) {
	switch text {
	case "1", "2", "3", "4":
		return count(1)(text)
	case "5": // all four, without characters that look alike
		return setting.Number(4), nil
	case "6", "7", "8":
		return setting.Value{}, fmt.Errorf("%s asks for a phrase of words, which has no character classes", text)
	}
	return setting.Value{}, fmt.Errorf("%s is not a number from 1 to 8", redact.Quote([]byte(text)))
}

// words reads a number that stands for a word.
func words(all ...string) func(string) (setting.Value, error) {
	return func(text string) (setting.Value, error) {
		n, err := strconv.Atoi(text)
		if err != nil || n < 0 || n >= len(all) {
			return setting.Value{}, fmt.Errorf("%s is not a number from 0 to %d", redact.Quote([]byte(text)), len(all)-1)
		}
		return setting.Word(all[n]), nil
	}
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
			return setting.Value{}, fmt.Errorf("%s is not a whole number", redact.Quote([]byte(text)))
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
	return setting.Value{}, fmt.Errorf("%s is neither 0 nor 1", redact.Quote([]byte(text)))
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

func take(text *intake.Text, into *estate.Builder) error {
	t := &reader{text: text, into: into, platform: setting.WindowsMachine, facts: estate.Settings{}, seen: map[string]bool{}}
	stored := templateFile.at(text.Path) != nil
	if stored {
		t.platform = setting.WindowsTemplate
	}
	if err := t.lines(); err != nil {
		return err
	}
	if stored {
		t.template()
		return nil
	}
	return t.machine()
}

// reader holds one template while it is read.
type reader struct {
	text     *intake.Text
	into     *estate.Builder
	platform setting.Platform
	facts    estate.Settings
	seen     map[string]bool // sections
	access   int             // line of [System Access]
}

// inTemplates are the sections that security templates have (MS-GPSB 2.2).
var inTemplates = strings.Fields("unicode version profile_description system_access kerberos_policy registry_values event_audit " +
	"privilege_rights system_log security_log application_log group_membership service_general_setting registry_keys file_security")

func (t *reader) lines() error {
	in := ""
	for full := range t.text.Lines() {
		l := full.Trimmed()
		before, after, assigned := l.Cut("=")
		switch {
		case l.Text == "":
		case strings.HasPrefix(l.Text, ";"): // nothing is read of a comment
		case strings.HasPrefix(l.Text, "["):
			end := strings.IndexByte(l.Text, ']')
			if end < 0 {
				return t.text.Wrong(l.Number, "a line that begins with a bracket, and has none at its end", "a section name in brackets",
					"the template is cut or was edited")
			}
			in = strings.ToLower(l.Text[1:end])
			t.seen[in] = true
			if slices.Contains(inTemplates, strings.ReplaceAll(in, " ", "_")) {
				t.text.Read(l.From, l.From+end+1)
			}
			if in == "system access" {
				t.access = l.Number
			}
		case !assigned && (in == "system access" || in == "kerberos policy"):
			return t.text.Wrong(l.Number, "a line without =", "KEY = VALUE", "the template is cut or was edited")
		case assigned:
			t.assigned(in, before, after)
		}
	}
	return nil
}

// ofTemplate are what a template says of itself.
var ofTemplate = map[string]*regexp.Regexp{"unicode/unicode": regexp.MustCompile(`^(?i:yes|no)$`),
	"version/signature": regexp.MustCompile(`^"?\$(?i:chicago|windows nt)\$"?$`), "version/revision": regexp.MustCompile(`^\d{1,4}$`)}

// assigned takes one KEY = VALUE.
func (t *reader) assigned(in string, name, value intake.Line) {
	k := t.known(in, name.Text)
	own := ofTemplate[in+"/"+strings.ToLower(name.Text)]
	switch {
	case k != nil && k.holds(value.Text), own != nil && own.MatchString(value.Text):
		t.text.Took(name)
		t.text.Took(value)
	case k != nil || own != nil: // what it holds is no value of it
		t.text.Took(name)
		value.Text = t.text.Left(value, "")
	default:
		value.Text = t.text.Left(value, name.Text)
		name.Text = t.name(in, name)
	}
	t.assign(value.Number, in, name.Text, value.Text)
}

// name keeps a key's name. Those of the registry are whatever a program stores under.
func (t *reader) name(in string, name intake.Line) string {
	if in != "registry values" {
		return t.text.Name(name.From, name.To(), name.Text, nil)
	}
	return t.text.Left(name, "")
}

func (t *reader) known(section, name string) *key {
	i := slices.IndexFunc(keys, func(k key) bool { return k.section == section && strings.EqualFold(k.name, name) })
	if i < 0 {
		return nil
	}
	return &keys[i]
}

// assign takes a value into the settings.
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
		c.Where = k.cited()
	}
	v, err := k.value(value)
	if err != nil {
		t.into.Unreadable(t.facts, k.id, c, err.Error())
		return
	}
	t.into.Set(t.facts, t.platform, k.id, v, c)
}

// value reads what stands behind the key's name. A registry value is written TYPE,VALUE;
// type 4 is a number.
func (k *key) value(text string) (setting.Value, error) {
	if k.section == "registry values" {
		kind, number, ok := strings.Cut(text, ",")
		if !ok || kind != "4" && kind != "3" {
			return setting.Value{}, fmt.Errorf("%s is not a registry number (4,VALUE)", redact.Quote([]byte(text)))
		}
		text = strings.TrimSpace(number)
	}
	return k.read(text)
}

// holds reports whether a text is a value that the key can have.
func (k *key) holds(text string) bool {
	_, err := k.value(text)
	return err == nil || redact.Plain([]byte(text)) && digits.MatchString(text)
}

var digits = regexp.MustCompile(`^-?[0-9]+$`)

// others are keys of [System Access] that say nothing about passwords.
var others = []string{"RequireLogonToChangePassword", "NewAdministratorName", "NewGuestName", "LSAAnonymousNameLookup",
	"EnableAdminAccount", "EnableGuestAccount"}

// template adds what a policy store or policy backup holds.
func (t *reader) template() {
	id, name, domain := templateFile.policy(t.text)
	t.into.Template(estate.Template{GUID: id, Domain: domain, Policy: estate.Policy{
		Name: name, Origin: slashes(t.text.Path), Standing: estate.Configured, Platform: t.platform,
		Settings: t.facts, Cite: t.into.Cite(max(t.access, 1), "", "")}})
}

// backup is what a policy backup's description says of the policy: its own
// GUID (the folder has another), its name and its domain.
type backup struct{ id, name, domain, made string }

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
			case "BackupTime":
				if b.made == "" {
					b.made = value
				}
			case "GPODomain", "Domain":
				if b.domain == "" {
					b.domain = strings.ToLower(value)
				}
			}
		}
	}
}

// speaks says whose template or export a file is: the policy's that its path
// names, else the machine's.
func speaks(file string) string {
	return cmp.Or(templateFile.speaks(file), intake.MachineOf(file))
}

// machine adds one machine's own export. It does not hold the machine's name;
// the file's name is taken for it.
func (t *reader) machine() error {
	if t.access == 0 {
		return t.text.Wrong(0, "no section [System Access]", "a machine's export with its account settings",
			"export again with the area of the security policy included; see docs/sources.md")
	}
	base := intake.FileName(t.text.Path)
	name := intake.MachineOf(t.text.Path)
	m := t.into.At(estate.Place{Name: name, Kind: estate.Machine})
	const section = "[System Access]"
	switch {
	case m.Head == nil:
	case m.Head.Cite.Where == section && !t.into.Older():
		return &intake.Error{Path: t.text.Path, Seen: fmt.Sprintf("a second export of the machine %s", name),
			Expected: "one export for each machine in one gather", Next: "a machine is named by its file: rename one of the two"}
	default: // another form told of it, or newer evidence
		for id, f := range t.facts {
			if f.Problem == "" {
				t.into.Set(m.Head.Settings, t.platform, id, f.Value, f.Cite)
			} else if _, ok := m.Head.Settings[id]; !ok {
				m.Head.Settings[id] = f
			}
		}
		return nil
	}
	m.Head = &estate.Policy{Name: "local", Origin: base, Standing: estate.Enforced, Platform: t.platform,
		Settings: t.facts, Cite: t.into.Cite(t.access, "[System Access]", "")}
	return nil
}
