package template

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/text/encoding/unicode"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
	"sternledger/internal/redact"
)

// RegistryPol is the registry file of a policy (MS-GPREG); RegistryFile is what the
// registry editor exports of a machine.
var (
	RegistryPol = intake.Format{Name: "policy's registry file (Registry.pol)", Detect: detectPol, Names: registryFile.stored,
		Speaks: speaksPol,
		Read: (&intake.Whole{Most: maxSize, Binary: true, Expected: "a policy's registry file (MS-GPREG)",
			Next: "copy the policy's folder again", Take: takePol}).Read}
	RegistryFile = intake.Format{Name: "registry export (.reg)", Detect: detectReg, Speaks: intake.MachineOf,
		Read: (&intake.Whole{Most: maxReport, Expected: "an export of Lsa, SAM and Netlogon", Next: "export it again", Take: takeReg}).Read}
)

var polMark = []byte("PReg\x01\x00\x00\x00")

// userHalf is what nothing is read of: account settings are the machine's.
var userHalf = regexp.MustCompile(`(?i)(?:^|/)User/(?:Registry\.pol|Preferences/.*)$`)

func detectPol(file string, head []byte) bool {
	return bytes.HasPrefix(head, polMark) && !userHalf.MatchString(slashes(file))
}

func speaksPol(file string) string { return cmp.Or(registryFile.speaks(file), file) }

// polEntry is one value of a registry file, and where its key, its name, and what it
// holds (type, size and data) stand.
type polEntry struct {
	key, name                                      string
	kind                                           uint32
	data                                           []byte
	keyFrom, keyTo, nameFrom, nameTo, holdsAt, end int
}

// wide is text in UTF-16, without a mark.
func wide(text string) []byte {
	out, _ := unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM).NewEncoder().Bytes([]byte(text))
	return out
}

func narrow(raw []byte) string {
	out, _ := unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM).NewDecoder().Bytes(raw)
	return strings.TrimRight(string(out), "\x00")
}

// polReader takes a file apart: [key;value;type;size;data], all in UTF-16.
type polReader struct {
	text *intake.Text
	rest []byte
	err  error
}

// at is where the reader stands.
func (p *polReader) at() int { return len(p.text.Bytes) - len(p.rest) }

func (p *polReader) mark(c byte) {
	if p.err == nil && (len(p.rest) < 2 || p.rest[0] != c || p.rest[1] != 0) {
		p.err = fmt.Errorf("no %q where one must stand", string(c))
	}
	if p.err == nil {
		p.rest = p.rest[2:]
	}
}

// text reads up to a character of zero.
func (p *polReader) word() string {
	for i := 0; p.err == nil && i+1 < len(p.rest); i += 2 {
		if p.rest[i] == 0 && p.rest[i+1] == 0 {
			text := narrow(p.rest[:i])
			p.rest = p.rest[i+2:]
			return text
		}
	}
	if p.err == nil {
		p.err = fmt.Errorf("a name without an end")
	}
	return ""
}

func (p *polReader) bytes(n int) []byte {
	if p.err == nil && (n < 0 || n > len(p.rest)) {
		p.err = fmt.Errorf("a value that goes on behind the end of the file")
	}
	if p.err != nil {
		return make([]byte, 4)
	}
	data := p.rest[:n]
	p.rest = p.rest[n:]
	return data
}

func (p *polReader) entry() polEntry {
	var e polEntry
	begin := p.at()
	p.mark('[')
	e.keyFrom = p.at()
	e.key = p.word()
	e.keyTo = p.at()
	p.mark(';')
	e.nameFrom = p.at()
	e.name = p.word()
	e.nameTo = p.at()
	p.mark(';')
	if e.holdsAt = p.at(); p.err == nil {
		p.text.Read(begin, e.keyFrom)
		p.text.Read(e.keyTo, e.nameFrom)
		p.text.Read(e.nameTo, e.holdsAt)
	}
	e.kind = binary.LittleEndian.Uint32(p.bytes(4))
	p.mark(';')
	size := binary.LittleEndian.Uint32(p.bytes(4))
	p.mark(';')
	if p.err == nil && uint64(size) > uint64(len(p.rest)) {
		p.err = fmt.Errorf("a value that goes on behind the end of the file")
	}
	e.data = p.bytes(int(size))
	if e.end = p.at(); p.err == nil {
		p.mark(']')
		p.text.Read(e.end, p.at())
	}
	return e
}

// holding is a text as a value that holds it.
func holding(text string) string {
	data := wide(text + "\x00")
	var out bytes.Buffer
	_ = binary.Write(&out, binary.LittleEndian, uint32(regText))
	out.Write(wide(";"))
	_ = binary.Write(&out, binary.LittleEndian, uint32(len(data)))
	out.Write(wide(";"))
	out.Write(data)
	return out.String()
}

// named is a text as a key or a name.
func named(text string) string { return string(wide(text + "\x00")) }

const (
	regText   = 1 // REG_SZ
	regNumber = 4 // REG_DWORD
)

// takePol reads the values that are settings.
func takePol(text *intake.Text, into *estate.Builder) error {
	wrong := func(entry int, seen string) error {
		return text.Wrong(entry, seen, "a policy's registry file (MS-GPREG)",
			"copy the policy's folder again; the number is the value's, counted from 1")
	}
	if !bytes.HasPrefix(text.Bytes, polMark) {
		return wrong(0, "no signature PReg of version 1")
	}
	if registryFile.at(text.Path) == nil {
		return text.Wrong(0, "a policy's registry file outside of the policy's folder", "{GUID}/Machine/Registry.pol",
			"gather the folder Policies of SYSVOL, or the policy backup: the folder tells which policy it is")
	}
	t := &reader{text: text, into: into, platform: setting.WindowsTemplate, facts: estate.Settings{}, seen: map[string]bool{}}
	text.Read(0, len(polMark))
	p := &polReader{text: text, rest: text.Bytes[len(polMark):]}
	for n := 1; len(p.rest) > 0; n++ {
		e := p.entry()
		if p.err != nil {
			return wrong(n, p.err.Error())
		}
		k := t.known("registry values", `machine\`+e.key+`\`+e.name)
		if k == nil {
			t.foreign(&e)
			continue
		}
		text.Read(e.keyFrom, e.keyTo)
		text.Read(e.nameFrom, e.nameTo)
		if e.kind == regNumber && len(e.data) == 4 {
			text.Read(e.holdsAt, e.end)
			t.assign(n, "registry values", k.name, "4,"+strconv.FormatUint(uint64(binary.LittleEndian.Uint32(e.data)), 10))
			continue
		}
		text.Drop(e.holdsAt, e.end, true, holding)
		into.Unreadable(t.facts, k.id, into.Cite(n, k.cited(), ""), "not a number of four bytes")
	}
	id, policy, domain := registryFile.policy(text)
	into.Template(estate.Template{GUID: id, Domain: domain, Registry: true, InRegistry: slices.Sorted(maps.Keys(t.facts)), Part: true, Policy: estate.Policy{Name: policy,
		Origin:   slashes(text.Path),
		Standing: estate.Configured, Platform: setting.WindowsTemplate, Settings: t.facts, Cite: into.Cite(1, "", "")}})
	return nil
}

// foreign takes a value that no rule reads. Its key and its name are whatever a program
// stores under: they may be what is secret.
func (t *reader) foreign(e *polEntry) {
	t.text.Rest(e.keyFrom, e.keyTo, "", e.key, named)
	t.text.Rest(e.nameFrom, e.nameTo, "", e.name, named)
	switch shown := narrow(e.data); {
	case len(e.data) == 0, e.kind == regText && redact.IsMark(shown):
		t.text.Read(e.holdsAt, e.end)
	case e.kind == regText:
		t.text.Rest(e.holdsAt, e.end, e.name, shown, holding)
	default:
		t.text.Drop(e.holdsAt, e.end, redact.Name(e.name), holding)
	}
}

var regHead = regexp.MustCompile(`(?i)^\s*(?:Windows Registry Editor Version 5\.00|REGEDIT4)\s`)

func detectReg(_ string, head []byte) bool { return regHead.Match(intake.Opening(head)) }

var (
	regKey   = regexp.MustCompile(`(?i)^\[HKEY_LOCAL_MACHINE\\(.*)\]$`)
	regValue = regexp.MustCompile(`^"((?:[^"\\]|\\.)*)"=(.*)$`)
	regWord  = regexp.MustCompile(`^dword:([0-9a-fA-F]{8})$`)
)

// takeReg reads what the registry editor exports of a machine: the values that are
// settings of the machine.
func takeReg(text *intake.Text, into *estate.Builder) error {
	t := &reader{text: text, into: into, platform: setting.WindowsMachine, facts: estate.Settings{}, seen: map[string]bool{}}
	key, first := "", 0
	for l := range text.Lines() {
		l = l.Trimmed()
		if l.Number == 1 {
			text.Took(l)
			continue
		}
		if m := regKey.FindStringSubmatch(l.Text); m != nil {
			if key = `machine\` + m[1] + `\`; ofSettings(key) {
				text.Took(l)
			}
			continue
		}
		m := regValue.FindStringSubmatch(l.Text)
		switch {
		case l.Text != "" && l.Text[0] == '[':
			key = ""
		case m != nil && key != "":
			if n := t.registry(l, key, m[1], m[2]); first == 0 {
				first = n
			}
		}
	}
	if len(t.facts) == 0 {
		return text.Wrong(0, "none of the values that are settings of a machine",
			`Lsa and SAM of HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Control`,
			"export these keys; or the machine's settings: secedit /export /cfg MACHINE.inf")
	}
	m := into.At(estate.Place{Name: intake.MachineOf(text.Path), Kind: estate.Machine})
	if m.Head == nil {
		m.Head = &estate.Policy{Name: "local", Origin: intake.FileName(text.Path), Standing: estate.Enforced, Platform: t.platform,
			Settings: estate.Settings{}, Cite: into.Cite(max(first, 1), "", "")}
	}
	for id, f := range t.facts {
		if f.Problem == "" {
			into.Set(m.Head.Settings, t.platform, id, f.Value, f.Cite)
		} else if _, ok := m.Head.Settings[id]; !ok {
			m.Head.Settings[id] = f
		}
	}
	return nil
}

// ofSettings reports whether a key of the registry has values that are settings.
func ofSettings(path string) bool {
	return slices.ContainsFunc(keys, func(k key) bool { return len(k.name) > len(path) && strings.EqualFold(k.name[:len(path)], path) })
}

// registry takes a value of a key, and returns its line where it is a setting; else 0.
func (t *reader) registry(l intake.Line, key, name, value string) int {
	at := l.To() - len(value)
	k := t.known("registry values", key+name)
	if k == nil || !setting.Get(k.id).Exists(t.platform) {
		t.text.Rest(l.From+1, l.From+1+len(name), "", name, nil)
		t.text.Rest(at, l.To(), name, value, nil)
		return 0
	}
	t.text.Read(l.From, at)
	w := regWord.FindStringSubmatch(value)
	if w == nil {
		t.text.Rest(at, l.To(), name, value, nil)
		t.into.Unreadable(t.facts, k.id, t.into.Cite(l.Number, k.cited(), ""), "not a number (dword:…)")
		return 0
	}
	number, _ := strconv.ParseUint(w[1], 16, 32)
	t.text.Read(at, l.To())
	t.assign(l.Number, "registry values", k.name, "4,"+strconv.FormatUint(number, 10))
	if f, ok := t.facts[k.id]; ok { // cited as it is written there
		f.Cite.Raw = value
		t.facts[k.id] = f
	}
	return l.Number
}
