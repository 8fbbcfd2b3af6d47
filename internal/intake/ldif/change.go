package ldif

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
)

// This file writes change records (RFC 2849): what an administrator applies with the
// ordinary client, and what undoes it.

// Kind is what the attributes of an entry are those of.
type Kind int

// The kinds.
const (
	DomainHead   Kind = iota // of a Windows domain
	FineGrained              // of such a domain
	PwdPolicy                // the password-policy object class
	ServerPolicy             // of 389 Directory Server
	RealmPolicy              // of Kerberos
)

// Edit is a setting of an entry that is to have another value.
type Edit struct {
	Setting    setting.ID
	Precedence bool // of a fine-grained policy, instead of a setting
	To         setting.Value
}

// Modification is one attribute that gets another value.
type Modification struct {
	Attribute string
	New       string
	Old       string
	Absent    bool // the attribute is not there now
	Unread    bool // what is there now is not in the evidence, so that nothing undoes it
}

// Entry is one entry with what is to be modified.
type Entry struct {
	DN            string
	Modifications []Modification
	Comment       []string // above the record, in both directions
}

// Modify says which attributes give an entry of a kind the settings. now are the
// attributes as the evidence has them, by their names in lower case; whole says that
// those are all. left are the edits for which there is no attribute, or whose
// attribute holds what the evidence lacks.
func Modify(kind Kind, dn string, edits []Edit, now map[string]string, whole bool) (e Entry, left []Edit) {
	e.DN = dn
	put := func(name, text string) {
		old, there := now[strings.ToLower(name)]
		if there && old == text {
			return
		}
		if i := slices.IndexFunc(e.Modifications, func(m Modification) bool { return m.Attribute == name }); i >= 0 {
			e.Modifications[i].New = text
			return
		}
		e.Modifications = append(e.Modifications, Modification{name, text, old, !there && whole, !there && !whole})
	}
	for _, x := range edits {
		written := false
		switch kind {
		case DomainHead, FineGrained:
			written = windows(kind, x, now, put)
		case PwdPolicy:
			written = draft(x, put)
		case ServerPolicy:
			written = directoryServer389(x, put)
		case RealmPolicy:
			if i := slices.IndexFunc(realmAttributes, func(a policyAttribute) bool { return a.id == x.Setting }); i >= 0 {
				if text := setting.Plain(x.To); text != "" {
					put(named[realmAttributes[i].attr][0], text)
					written = true
				}
			}
		}
		if !written {
			left = append(left, x)
		}
	}
	return e, left
}

// windows writes a setting of a domain's head or of a fine-grained policy.
func windows(kind Kind, x Edit, now map[string]string, put func(name, text string)) bool {
	if x.Precedence {
		put(named[aPrecedence][0], setting.Plain(x.To))
		return kind == FineGrained
	}
	for _, r := range readings {
		if strings.HasPrefix(r.name, "msDS-") != (kind == FineGrained) {
			continue
		}
		for _, h := range r.holds {
			if h.id != x.Setting {
				continue
			}
			if h.mask == 0 {
				text := h.write(x.To)
				put(r.name, text)
				return text != ""
			}
			// The other bits belong to other settings: without them nothing can be written.
			raw, err := strconv.ParseInt(now[strings.ToLower(r.name)], 10, 64)
			if err != nil {
				return false
			}
			if x.To == setting.On {
				raw |= h.mask
			} else {
				raw &^= h.mask
			}
			put(r.name, strconv.FormatInt(raw, 10))
			now[strings.ToLower(r.name)] = strconv.FormatInt(raw, 10)
			return true
		}
	}
	return false
}

// draft writes a setting of the password-policy object class, with what switches it on.
func draft(x Edit, put func(name, text string)) bool {
	i := slices.IndexFunc(policyAttributes, func(a policyAttribute) bool { return a.id == x.Setting })
	text := setting.Plain(x.To)
	if i < 0 || text == "" {
		return false
	}
	switch x.Setting {
	case setting.MinLength, setting.MaxLength:
		put("pwdCheckQuality", "2")
	case setting.LockoutThreshold:
		put("pwdLockout", map[bool]string{true: "FALSE", false: "TRUE"}[x.To.Is(setting.Never)])
	}
	put(named[policyAttributes[i].attr][0], text)
	return true
}

// directoryServer389 writes a setting of a 389 Directory Server, with what switches
// it on.
func directoryServer389(x Edit, put func(name, text string)) bool {
	if x.Setting == setting.NameCheck {
		put(serverAttributes[sCheckSyntax], map[bool]string{true: "on", false: "off"}[x.To == setting.On])
		return true
	}
	i := slices.IndexFunc(serverOf, func(s serverSetting) bool { return s.id == x.Setting })
	if i < 0 {
		return false
	}
	s := &serverOf[i]
	special, isSpecial := x.To.Special()
	switch {
	case s.toggle != always && x.To == s.off && !(s.zero.IsSet() && x.To == s.zero):
		put(serverAttributes[s.toggle], "off")
		return true
	case x.Setting == setting.LockoutDuration && special == setting.UntilAdmin:
		put(serverAttributes[sUnlock], "off")
		return true
	case s.toggle != always:
		put(serverAttributes[s.toggle], "on")
	}
	text := ""
	switch word, isWord := x.To.Word(); {
	case isWord:
		text = word
	case isSpecial && s.zero.IsSet() && x.To == s.zero:
		text = "0"
	default:
		text = setting.Plain(x.To)
	}
	if text == "" || isSpecial && text == "0" && !s.zero.IsSet() {
		return false
	}
	if x.Setting == setting.LockoutDuration {
		put(serverAttributes[sUnlock], "on")
	}
	put(serverAttributes[s.attr], text)
	return true
}

// Changes writes change records of entries, and those that undo them, in the opposite
// order. Lines of comment stand before the first.
func Changes(entries []Entry, comment []string) (change, undo []byte) {
	head := func(b *bytes.Buffer, what string) {
		for _, c := range append([]string{what}, comment...) {
			b.WriteString("# " + oneLine(c) + "\n")
		}
		// Without a version, which Samba's own client does not take.
	}
	var do, back bytes.Buffer
	head(&do, "Changes, to be applied with an LDAP client (ldapmodify -f).")
	head(&back, "Undoes the changes of change.ldif.")
	for _, e := range entries {
		writeRecord(&do, e, e.Modifications, func(m Modification) (string, bool) { return m.New, true })
	}
	for i := range entries {
		e := entries[len(entries)-1-i]
		for _, m := range e.Modifications {
			if m.Unread {
				back.WriteString("\n# " + oneLine(fmt.Sprintf("%s of %s: what it was is not in the evidence", m.Attribute, e.DN)) + "\n")
			}
		}
		writeRecord(&back, e, slices.DeleteFunc(slices.Clone(e.Modifications), func(m Modification) bool { return m.Unread }),
			func(m Modification) (string, bool) { return m.Old, !m.Absent })
	}
	return do.Bytes(), back.Bytes()
}

func oneLine(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, text)
}

// writeRecord writes one record. A value that is none takes the attribute away, and is no
// error where there is none (RFC 4511, 4.6: replace).
func writeRecord(b *bytes.Buffer, e Entry, all []Modification, value func(Modification) (string, bool)) {
	if len(all) == 0 {
		return
	}
	b.WriteString("\n")
	for _, c := range e.Comment {
		b.WriteString("# " + oneLine(c) + "\n")
	}
	intake.WriteLine(b, "dn", e.DN)
	b.WriteString("changetype: modify\n")
	for _, m := range all {
		b.WriteString("replace: " + m.Attribute + "\n")
		if text, ok := value(m); ok {
			intake.WriteLine(b, m.Attribute, text)
		}
		b.WriteString("-\n")
	}
}

// EntriesOf are the attributes of entries as a stored export has them: by DN in its one spelling, then by
// the attribute's name in lower case; the first value of each.
func EntriesOf(in io.Reader, dns []string) (map[string]map[string]string, error) {
	want := map[string]bool{}
	for _, dn := range dns {
		want[estate.NormalDN(dn)] = true
	}
	found := map[string]map[string]string{}
	err := eachRecord(in, func(lines []string) {
		dn, ok := dnOf(lines)
		if key := estate.NormalDN(dn); ok && want[key] {
			if found[key] == nil {
				found[key] = map[string]string{}
			}
			for _, l := range lines {
				if name, text, ok := attributeOf(l); ok {
					if _, had := found[key][name]; !had {
						found[key][name] = text
					}
				}
			}
		}
	})
	return found, err
}

// Apply writes an export with the modifications made: what the directory would export
// after the changes. It is read again to see that they come to what was meant.
func Apply(in io.Reader, out io.Writer, entries []Entry) error {
	by := map[string]*Entry{}
	for i := range entries {
		by[estate.NormalDN(entries[i].DN)] = &entries[i]
	}
	w := bufio.NewWriter(out)
	err := eachRecord(in, func(lines []string) {
		dn, ok := dnOf(lines)
		e := by[estate.NormalDN(dn)]
		if !ok || e == nil {
			for _, l := range lines {
				w.WriteString(l + "\n")
			}
			w.WriteString("\n")
			return
		}
		done := map[string]bool{}
		for _, l := range lines {
			name, _, _ := attributeOf(l)
			i := slices.IndexFunc(e.Modifications, func(m Modification) bool { return strings.EqualFold(m.Attribute, name) })
			switch {
			case i < 0:
				w.WriteString(l + "\n")
			case !done[name]:
				done[name] = true
				intake.WriteLine(w, e.Modifications[i].Attribute, e.Modifications[i].New)
			}
		}
		for _, m := range e.Modifications {
			if !done[strings.ToLower(m.Attribute)] {
				intake.WriteLine(w, m.Attribute, m.New)
			}
		}
		w.WriteString("\n")
	})
	if err != nil {
		return err
	}
	return w.Flush()
}

// eachRecord visits the records of an export, their lines unfolded.
func eachRecord(in io.Reader, visit func(lines []string)) error {
	r := bufio.NewReaderSize(in, 1<<16)
	var lines []string
	for {
		text, err := r.ReadString('\n')
		if err != nil && err != io.EOF {
			return err
		}
		end := err == io.EOF
		text = strings.TrimRight(text, "\r\n")
		switch {
		case strings.HasPrefix(text, " ") && len(lines) > 0:
			lines[len(lines)-1] += text[1:]
		case text == "":
			if len(lines) > 0 {
				visit(lines)
			}
			lines = nil
		default:
			lines = append(lines, text)
		}
		if end {
			if len(lines) > 0 {
				visit(lines)
			}
			return nil
		}
	}
}

func dnOf(lines []string) (string, bool) {
	for _, l := range lines {
		if name, text, ok := attributeOf(l); ok && name == "dn" {
			return text, true
		}
	}
	return "", false
}

// attributeOf parts a line into the attribute's name in lower case, without options,
// and its value.
func attributeOf(l string) (name, value string, ok bool) {
	name, value, ok = strings.Cut(l, ":")
	if !ok || strings.HasPrefix(l, "#") {
		return "", "", false
	}
	name, _, _ = strings.Cut(strings.ToLower(name), ";")
	if encoded, is := strings.CutPrefix(value, ":"); is {
		raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(encoded))
		return name, string(raw), err == nil
	}
	return name, strings.TrimLeft(value, " "), true
}
