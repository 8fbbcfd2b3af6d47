package template

import (
	"fmt"
	"slices"
	"strings"

	"golang.org/x/text/encoding/unicode"

	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
	"sternledger/internal/redact"
)

// Edit is a setting of a template that is to have another value.
type Edit struct {
	Setting setting.ID
	Where   string // the key under which evidence cites it; empty: nothing sets it yet
	To      setting.Value
}

// Amended are the sections of a template in which something changes, as they are and
// as they are to be, to be imported in the policy editor or with secedit.
type Amended struct {
	Now, Then []byte // UTF-16LE, with the mark that Windows writes
	Diff      []string
	Left      []Edit // for which there is no key
}

// sectionNames are the names as Windows writes them.
var sectionNames = map[string]string{"system access": "System Access", "kerberos policy": "Kerberos Policy",
	"registry values": "Registry Values"}

// Amend makes the minimal template of a stored one: the sections in which a setting
// changes, with all their keys that were kept. stored may be nil: then it has those
// keys alone. comment stands at the head.
func Amend(stored []byte, edits []Edit, comment []string) (*Amended, error) {
	text, err := intake.Decode(stored)
	if err != nil {
		return nil, err
	}
	type keyed struct{ name, value string }
	sections, order := map[string][]keyed{}, []string{}
	in := ""
	for _, line := range strings.Split(string(text), "\n") {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "[") && strings.Contains(line, "]") {
			in = strings.ToLower(line[1:strings.IndexByte(line, ']')])
			continue
		}
		name, value, ok := strings.Cut(line, "=")
		if name, value = strings.TrimSpace(name), strings.TrimSpace(value); ok && !strings.HasPrefix(line, ";") && !redact.IsMark(value) {
			sections[in] = append(sections[in], keyed{name, value})
		}
	}
	a := &Amended{}
	then := map[string][]keyed{}
	for _, x := range edits {
		k := keyFor(x)
		written := ""
		if k != nil {
			written = k.write(x.To)
		}
		if written == "" {
			a.Left = append(a.Left, x)
			continue
		}
		if then[k.section] == nil {
			then[k.section] = slices.Clone(sections[k.section])
			order = append(order, k.section)
		}
		all := then[k.section]
		if i := slices.IndexFunc(all, func(y keyed) bool { return strings.EqualFold(y.name, k.name) }); i >= 0 {
			a.Diff = append(a.Diff, fmt.Sprintf("-%s = %s", all[i].name, all[i].value), fmt.Sprintf("+%s = %s", all[i].name, written))
			all[i].value = written
			continue
		}
		a.Diff = append(a.Diff, fmt.Sprintf("+%s = %s", k.name, written))
		then[k.section] = append(all, keyed{k.name, written})
	}
	write := func(of map[string][]keyed) ([]byte, error) {
		var b strings.Builder
		for _, c := range comment {
			b.WriteString("; " + strings.Join(strings.Fields(c), " ") + "\r\n")
		}
		b.WriteString("[Unicode]\r\nUnicode=yes\r\n[Version]\r\nsignature=\"$CHICAGO$\"\r\nRevision=1\r\n")
		for _, section := range order {
			b.WriteString("[" + sectionNames[section] + "]\r\n")
			for _, k := range of[section] {
				separator := " = "
				if section == "registry values" {
					separator = "="
				}
				b.WriteString(k.name + separator + k.value + "\r\n")
			}
		}
		return asWindows(b.String())
	}
	if a.Now, err = write(sections); err != nil {
		return nil, err
	}
	a.Then, err = write(then)
	return a, err
}

// keyFor is the key that holds the setting: the one that evidence cites, else the
// first.
func keyFor(x Edit) *key {
	var found *key
	for i := range keys {
		switch k := &keys[i]; {
		case k.id != x.Setting:
		case k.cited() == x.Where:
			return k
		case found == nil:
			found = k
		}
	}
	return found
}

// asWindows is a text in UTF-16LE with its mark.
func asWindows(text string) ([]byte, error) {
	return unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().Bytes([]byte(text))
}
