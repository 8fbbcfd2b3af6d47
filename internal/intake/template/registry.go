package template

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"io"
	"path"
	"regexp"
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
		Read:   readPol}
	RegistryFile = intake.Format{Name: "registry export (.reg)", Detect: detectReg, Speaks: machineOf, Read: readReg}
)

var polMark = []byte("PReg\x01\x00\x00\x00")

// userHalf is what nothing is read of: account settings are the machine's.
var userHalf = regexp.MustCompile(`(?i)(?:^|/)User/(?:Registry\.pol|Preferences/.*)$`)

func detectPol(file string, head []byte) bool {
	return bytes.HasPrefix(head, polMark) && !userHalf.MatchString(slashes(file))
}

func speaksPol(file string) string { return cmp.Or(registryFile.speaks(file), file) }

// polEntry is one value of a registry file.
type polEntry struct {
	key, name string
	kind      uint32
	data      []byte
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
	rest []byte
	err  error
}

func (p *polReader) mark(c byte) {
	if p.err == nil && (len(p.rest) < 2 || p.rest[0] != c || p.rest[1] != 0) {
		p.err = fmt.Errorf("no %q where one must stand", string(c))
	}
	if p.err == nil {
		p.rest = p.rest[2:]
	}
}

// text reads up to a character of zero.
func (p *polReader) text() string {
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
	p.mark('[')
	e.key = p.text()
	p.mark(';')
	e.name = p.text()
	p.mark(';')
	e.kind = binary.LittleEndian.Uint32(p.bytes(4))
	p.mark(';')
	size := binary.LittleEndian.Uint32(p.bytes(4))
	p.mark(';')
	if p.err == nil && uint64(size) > uint64(len(p.rest)) {
		p.err = fmt.Errorf("a value that goes on behind the end of the file")
	}
	e.data = p.bytes(int(size))
	p.mark(']')
	return e
}

func (e *polEntry) write(out *bytes.Buffer) {
	out.Write(wide("[" + e.key + "\x00;" + e.name + "\x00;"))
	_ = binary.Write(out, binary.LittleEndian, e.kind)
	out.Write(wide(";"))
	_ = binary.Write(out, binary.LittleEndian, uint32(len(e.data)))
	out.Write(wide(";"))
	out.Write(e.data)
	out.Write(wide("]"))
}

const (
	regText   = 1 // REG_SZ
	regNumber = 4 // REG_DWORD
)

// readPol reads the values that are settings; of the others it keeps the name.
func readPol(src *intake.Source, into *estate.Builder) error {
	raw, err := io.ReadAll(io.LimitReader(src.In, maxSize+1))
	if err != nil {
		return err
	}
	wrong := func(entry int, seen string) error {
		return &intake.Error{Path: src.Path, Line: entry, Seen: seen, Expected: "a policy's registry file (MS-GPREG)",
			Next: "copy the policy's folder again; the number is the value's, counted from 1"}
	}
	switch {
	case len(raw) > maxSize:
		return wrong(0, "more than 16 MiB")
	case !bytes.HasPrefix(raw, polMark):
		return wrong(0, "no signature PReg of version 1")
	}
	if registryFile.at(src.Path) == nil {
		return &intake.Error{Path: src.Path, Seen: "a policy's registry file outside of the policy's folder",
			Expected: "{GUID}/Machine/Registry.pol",
			Next:     "gather the folder Policies of SYSVOL, or the policy backup: the folder tells which policy it is"}
	}
	t := &reader{src: src, into: into, platform: setting.WindowsTemplate, facts: estate.Settings{}, seen: map[string]bool{}}
	kept := bytes.NewBuffer(bytes.Clone(polMark))
	p := &polReader{rest: raw[len(polMark):]}
	for n := 1; len(p.rest) > 0; n++ {
		e := p.entry()
		if p.err != nil {
			return wrong(n, p.err.Error())
		}
		name := `machine\` + e.key + `\` + e.name
		k := t.known("registry values", name)
		switch {
		case k == nil && len(e.data) > 0 && !(e.kind == regText && redact.IsMark(narrow(e.data))):
			text := narrow(e.data)
			mark, struck := redact.Keep(e.name, text+" ", false, src.KeepAll && e.kind == regText)
			if struck {
				src.Struck++
			} else if mark != text+" " {
				src.NotKept++
			}
			if mark != text+" " {
				e.kind, e.data = regText, wide(mark+"\x00")
			}
		case k != nil && e.kind == regNumber && len(e.data) == 4:
			t.assign(n, "registry values", k.name, "4,"+strconv.FormatUint(uint64(binary.LittleEndian.Uint32(e.data)), 10))
		case k != nil:
			into.Unreadable(t.facts, k.id, into.Cite(n, k.cited(), ""), "not a number of four bytes")
			e.kind, e.data = regText, wide(redact.Struck+"\x00")
			src.Struck++
		}
		e.write(kept)
	}
	if src.Struck+src.NotKept > 0 {
		src.Differs()
		raw = kept.Bytes()
	}
	if _, err := src.Keep.Write(raw); err != nil {
		return err
	}
	id, policy, domain := registryFile.policy(src)
	into.Template(estate.Template{GUID: id, Domain: domain, Registry: true, Part: true, Policy: estate.Policy{Name: policy,
		Origin:   slashes(src.Path),
		Standing: estate.Configured, Platform: setting.WindowsTemplate, Settings: t.facts, Cite: into.Cite(1, "", "")}})
	return nil
}

var regHead = regexp.MustCompile(`(?i)^\s*(?:Windows Registry Editor Version 5\.00|REGEDIT4)\s`)

func detectReg(_ string, head []byte) bool { return regHead.Match(intake.Opening(head)) }

var (
	regKey   = regexp.MustCompile(`(?i)^\[HKEY_LOCAL_MACHINE\\(.*)\]$`)
	regValue = regexp.MustCompile(`^"((?:[^"\\]|\\.)*)"=(.*)$`)
	regWord  = regexp.MustCompile(`^dword:([0-9a-fA-F]{8})$`)
)

// readReg reads what the registry editor exports of a machine: the values that are
// settings of the machine.
func readReg(src *intake.Source, into *estate.Builder) error {
	raw, err := io.ReadAll(io.LimitReader(src.In, maxReport+1))
	if err != nil {
		return err
	}
	text, err := intake.Decode(raw)
	if err == nil && len(raw) > maxReport {
		err = fmt.Errorf("more than 512 MiB")
	}
	if err != nil {
		return &intake.Error{Path: src.Path, Seen: err.Error(), Expected: "an export of Lsa, SAM and Netlogon", Next: "export it again"}
	}
	t := &reader{src: src, into: into, platform: setting.WindowsMachine, facts: estate.Settings{}, seen: map[string]bool{}}
	var kept bytes.Buffer
	key, n, first := "", 0, 0
	for full := range bytes.Lines(text) {
		n++
		bare := strings.TrimRight(string(full), "\r\n")
		line, shown := strings.TrimSpace(bare), bare
		switch m := regValue.FindStringSubmatch(line); {
		case line == "" || n == 1:
		case regKey.MatchString(line):
			key = `machine\` + regKey.FindStringSubmatch(line)[1] + `\`
		case line[0] == '[':
			key = ""
		case m == nil: // goes on with a value that is not read, or is a comment
			shown = keep(src, "", line, false)
		default:
			k := t.known("registry values", key+m[1])
			if k == nil || key == "" || !setting.Get(k.id).Exists(t.platform) {
				shown = `"` + m[1] + `"=` + keep(src, m[1], m[2], false)
				break
			}
			w := regWord.FindStringSubmatch(m[2])
			if w == nil {
				into.Unreadable(t.facts, k.id, into.Cite(n, k.cited(), ""), "not a number (dword:…)")
				shown = `"` + m[1] + `"=` + keep(src, m[1], m[2], false)
				break
			}
			number, _ := strconv.ParseUint(w[1], 16, 32)
			t.assign(n, "registry values", k.name, "4,"+strconv.FormatUint(number, 10))
			if f, ok := t.facts[k.id]; ok { // cited as it is written there
				f.Cite.Raw = m[2]
				t.facts[k.id] = f
			}
			if first == 0 {
				first = n
			}
		}
		kept.WriteString(shown)
		kept.Write(full[len(bare):])
	}
	if len(t.facts) == 0 {
		return &intake.Error{Path: src.Path, Seen: "none of the values that are settings of a machine",
			Expected: `Lsa and SAM of HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Control`,
			Next:     "export these keys; or the machine's settings: secedit /export /cfg MACHINE.inf"}
	}
	m := into.At(estate.Place{Name: machineOf(src.Path), Kind: estate.Machine})
	if m.Head == nil {
		m.Head = &estate.Policy{Name: "local", Origin: path.Base(slashes(src.Path)), Standing: estate.Enforced, Platform: t.platform,
			Settings: estate.Settings{}, Cite: into.Cite(max(first, 1), "", "")}
	}
	for id, f := range t.facts {
		if f.Problem == "" {
			into.Set(m.Head.Settings, t.platform, id, f.Value, f.Cite)
		} else if _, ok := m.Head.Settings[id]; !ok {
			m.Head.Settings[id] = f
		}
	}
	return src.Store(raw, text, kept.Bytes())
}
