package unix

import (
	"bytes"
	"cmp"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/core/setting"
	"sternledger/internal/redact"
)

// Edit is a setting of a machine that is to have another value, at the line that
// decides it now.
type Edit struct {
	Setting setting.ID
	Part    string // the file below the machine's root: etc/security/faillock.conf
	Line    int
	Where   string
	To      setting.Value
}

// Change is what is done to one line of a file, which is exact to the byte elsewhere.
type Change struct {
	Part     string
	Line     int    // from 1
	Old, New string // New may have further lines behind the file's last
}

// Edited says how lines become those that give the settings; left are the edits that
// no change of a line gives: a module that nothing calls, say.
func Edited(parts map[string][]byte, edits []Edit) (changes []Change, left []Edit) {
	for _, x := range edits {
		lines := bytes.Split(parts[x.Part], []byte("\n"))
		if c, ok := added(parts, changes, x); ok {
			changes = append(slices.DeleteFunc(changes, func(b Change) bool { return b.Part == c.Part && b.Line == c.Line }), c)
			continue
		}
		if x.Line < 1 || x.Line > len(lines) {
			left = append(left, x)
			continue
		}
		i := slices.IndexFunc(changes, func(c Change) bool { return c.Part == x.Part && c.Line == x.Line })
		old := string(lines[x.Line-1])
		if i >= 0 {
			old = changes[i].New // another change of the same line
		}
		old, behind, more := strings.Cut(old, "\n") // what was added behind the last line stays there
		now, ok := editLine(x, old)
		if more {
			now += "\n" + behind
		}
		switch {
		case !ok || redact.HasMark(old):
			left = append(left, x)
		case i >= 0:
			changes[i].New = now
		default:
			changes = append(changes, Change{x.Part, x.Line, old, now})
		}
	}
	// A line that has the value already is not touched.
	return slices.DeleteFunc(changes, func(c Change) bool { return c.Old == c.New }), left
}

// files are where modules look for settings that no call of theirs has.
var files = map[string]string{"pam_pwquality": "etc/security/pwquality.conf", "pam_faillock": "etc/security/faillock.conf",
	"pam_pwhistory": "etc/security/pwhistory.conf"}

// newAccounts are the files that give accounts their ageing as they are made, and what
// stands between a name and its value there.
var newAccounts = map[string]string{"etc/login.defs": "\t", "etc/default/useradd": "="}

// added puts a setting that no line has behind the last line of its module's file, which
// is in the evidence. That the module looks there, and that it counts, is seen when the
// machine is read again.
func added(parts map[string][]byte, changes []Change, x Edit) (Change, bool) {
	name, module := AskedAs(x.Setting)
	file, between := files[module], " = "
	if _, ages := shadowFields[x.Setting]; ages && x.Line == 0 && newAccounts[x.Part] != "" { // what accounts that are made later get
		name, module, file, between = x.Where, "", x.Part, newAccounts[x.Part]
	}
	data, known := parts[file]
	if file == "" || !known || !bytes.HasSuffix(data, []byte("\n")) || callsModule(lineAt(parts, x), module) {
		return Change{}, false
	}
	for line := range strings.Lines(string(data)) {
		code, _, _ := strings.Cut(line, "#")
		if word := strings.FieldsFunc(code, func(r rune) bool { return r == '=' || r == ' ' || r == '\t' || r == '\n' }); len(word) > 0 && word[0] == name {
			return Change{}, false // it is there, and that line is to be changed
		}
	}
	text := name
	if x.Setting != setting.LockoutAdministrator {
		value := aged(x.Setting, x.To)
		if module != "" {
			if form := Forms()[name]; form != nil {
				value = form(x.To)
			} else {
				value = ""
			}
		}
		if value == "" {
			return Change{}, false
		}
		text += between + value
	}
	n := bytes.Count(data, []byte("\n"))
	last := strings.Split(string(data), "\n")[n-1]
	c := Change{Part: file, Line: n, Old: last, New: last}
	if i := slices.IndexFunc(changes, func(b Change) bool { return b.Part == file && b.Line == n }); i >= 0 {
		c = changes[i]
	}
	for line := range strings.Lines(strings.TrimPrefix(c.New, c.Old)) {
		if line = strings.TrimSpace(line); line == text {
			return c, true // another amendment puts it there
		} else if rest, same := strings.CutPrefix(line, name); same && strings.HasPrefix(strings.TrimSpace(rest), strings.TrimSpace(between)) {
			return Change{}, false // with another value
		}
	}
	if redact.HasMark(c.Old) || x.Setting == setting.LockoutAdministrator && x.To != setting.On {
		return Change{}, false
	}
	c.New += "\n" + text
	return c, true
}

func lineAt(parts map[string][]byte, x Edit) string {
	if lines := strings.Split(string(parts[x.Part]), "\n"); x.Line >= 1 && x.Line <= len(lines) {
		return lines[x.Line-1]
	}
	return "" // nothing sets it
}

// editLine writes a setting into the line that decides it.
func editLine(x Edit, line string) (string, bool) {
	text := strings.TrimRight(line, "\r")
	ending := line[len(text):]
	if x.Setting == setting.EmptyAccepted {
		if x.To != setting.Off || !callsModule(text, "pam_unix") {
			return "", false
		}
		cut := strings.TrimRight(nullok.ReplaceAllString(text, "$2"), " \t")
		return cut + ending, cut != text
	}
	name, module := x.Where, ""
	if option, of := AskedAs(x.Setting); option != "" {
		name, module = option, of
	}
	value := ""
	if form := Forms()[name]; form != nil {
		value = form(x.To)
	} else if _, ages := shadowFields[x.Setting]; ages {
		value = aged(x.Setting, x.To)
	}
	if x.Setting == setting.LockoutAdministrator {
		if x.To != setting.On || !callsModule(text, "pam_faillock") {
			return "", false
		}
		if flagged(text, name) {
			return "", false
		}
		return text + " " + name + ending, true
	}
	if value == "" {
		return "", false
	}
	switch base := path.Base(x.Part); {
	case base == "useradd":
		m := regexp.MustCompile(`^(\s*` + regexp.QuoteMeta(name) + `=)(-?\d+)(.*)$`).FindStringSubmatch(text)
		if m == nil {
			return "", false
		}
		return m[1] + value + m[3] + ending, true
	case base == "login.defs":
		m := regexp.MustCompile(`^(\s*` + regexp.QuoteMeta(name) + `\s+)(\S+)(.*)$`).FindStringSubmatch(text)
		if m == nil {
			return "", false
		}
		return m[1] + value + m[3] + ending, true
	case strings.HasSuffix(base, ".conf"):
		m := regexp.MustCompile(`^(\s*` + regexp.QuoteMeta(name) + `\s*=\s*)(-?\w+)(.*)$`).FindStringSubmatch(text)
		if m == nil {
			return "", false
		}
		return m[1] + value + m[3] + ending, true
	case path.Base(path.Dir(x.Part)) == "pam.d" && callsModule(text, module):
		option := regexp.MustCompile(`(\s` + regexp.QuoteMeta(name) + `=)(\S+)`)
		if option.MatchString(text) {
			return option.ReplaceAllString(text, "${1}"+value) + ending, true
		}
		return strings.TrimRight(text, " \t") + " " + name + "=" + value + ending, true
	}
	return "", false
}

var nullok = regexp.MustCompile(`(\s+)nullok(?:_secure)?(\s|$)`)

// callsModule reports whether a line of a stack calls a module, and does not go on in
// the next line.
func callsModule(line, module string) bool {
	code, _, commented := strings.Cut(line, "#")
	return module != "" && !commented && !strings.HasSuffix(strings.TrimRight(line, " \t"), `\`) &&
		slices.ContainsFunc(strings.Fields(code), func(word string) bool { return strings.TrimSuffix(path.Base(word), ".so") == module })
}

func flagged(line, option string) bool { return slices.Contains(strings.Fields(line), option) }

// Apply makes the changes in a machine's files.
func Apply(parts map[string][]byte, changes []Change) map[string][]byte {
	out := map[string][]byte{}
	for _, c := range changes {
		data, ok := out[c.Part]
		if !ok {
			data = parts[c.Part]
		}
		lines := bytes.Split(data, []byte("\n"))
		lines[c.Line-1] = []byte(c.New)
		out[c.Part] = bytes.Join(lines, []byte("\n"))
	}
	return out
}

// context is how many lines around a change a diff shows.
const context = 3

// Diff writes the changes as a unified diff, to be applied with patch -p1 in the
// machine's root. A line of which the value was not kept in the evidence is not shown
// as context: there it could not be found.
func Diff(parts map[string][]byte, changes []Change) []byte {
	var out bytes.Buffer
	var files []string
	for _, c := range changes {
		if !slices.Contains(files, c.Part) {
			files = append(files, c.Part)
		}
	}
	slices.Sort(files)
	for _, file := range files {
		lines := strings.Split(string(parts[file]), "\n")
		last := len(lines) // the text after the last line end is no line
		if lines[last-1] == "" {
			last--
		}
		byLine := map[int]Change{}
		var at []int
		for _, c := range changes {
			if c.Part == file {
				byLine[c.Line] = c
				at = append(at, c.Line)
			}
		}
		slices.Sort(at)
		fmt.Fprintf(&out, "--- a/%s\n+++ b/%s\n", file, file)
		usable := func(n int) bool { return n >= 1 && n <= last && !redact.HasMark(lines[n-1]) }
		told := 0 // up to here
		for len(at) > 0 {
			from, to := at[0], at[0]
			for n := 1; n < len(at); n++ { // changes that are near stand in one part
				between := at[n] - to - 1
				if between > 2*context || slices.ContainsFunc(lines[to:at[n]-1], redact.HasMark) {
					break
				}
				to = at[n]
			}
			lead, tail := 0, 0
			for lead < context && from-lead-1 > told && usable(from-lead-1) {
				lead++
			}
			for tail < context && usable(to+tail+1) && byLine[to+tail+1].Part == "" {
				tail++
			}
			// Less context on one side means to patch that the file begins or ends there.
			if from-lead > 1 {
				tail = min(tail, lead)
			}
			if to+tail < last {
				lead = min(lead, tail)
			}
			from, to = from-lead, to+tail
			told = to
			more := 0 // lines behind the file's last
			for n := from; n <= to; n++ {
				more += strings.Count(byLine[n].New, "\n")
			}
			fmt.Fprintf(&out, "@@ -%s +%s @@\n", span(from, to), span(from, to+more))
			for n := from; n <= to; n++ {
				end := "\n"
				if n == len(lines) { // the file's last line has no end
					end = "\n\\ No newline at end of file\n"
				}
				c, ok := byLine[n]
				rest, behind := strings.CutPrefix(c.New, c.Old+"\n")
				if ok && behind {
					out.WriteString(" " + c.Old + end + "+" + strings.ReplaceAll(rest, "\n", "\n+") + end)
				} else if ok {
					out.WriteString("-" + c.Old + end + "+" + strings.ReplaceAll(c.New, "\n", "\n+") + end)
				} else {
					out.WriteString(" " + lines[n-1] + end)
				}
			}
			for len(at) > 0 && at[0] <= to {
				at = at[1:]
			}
		}
	}
	return out.Bytes()
}

func span(from, to int) string { return strconv.Itoa(from) + "," + strconv.Itoa(to-from+1) }

// Aged is how an account's password is to age: the setting, and what its field of
// shadow says now, as written.
type Aged struct {
	Account string
	Setting setting.ID
	Now     string
	To      setting.Value
}

// kept is a field that chage writes again as it was: empty, or a number without
// anything before it.
var kept = regexp.MustCompile(`^(0|[1-9]\d{0,8})?$`)

// AgedOf says how an account's line of shadow is changed; why says what keeps it from
// being changed so that it can be changed back to the byte.
func AgedOf(shadow []byte, account string, id setting.ID, to setting.Value) (a Aged, why string) {
	a = Aged{Account: account, Setting: id, To: to}
	found := 0
	for line := range strings.SplitSeq(string(shadow), "\n") {
		f := strings.Split(line, ":")
		if f[0] != account {
			continue
		}
		if found++; found > 1 {
			return a, "shadow has two lines for " + account + ": mend that first"
		}
		const whole = 9
		if len(f) != whole || !takes(f) {
			return a, "the system takes the line of " + account + " in shadow as it is not: mend that first"
		}
		for _, field := range f[2:8] {
			if !kept.MatchString(field) {
				return a, "chage would not write the line of " + account + " in shadow again as it is"
			}
		}
		a.Now = f[shadowFields[id]]
	}
	if found == 0 {
		return a, "shadow has no line of " + account
	}
	return a, ""
}

// options of chage(1).
var chageOptions = map[setting.ID]string{setting.MaxAge: "-M", setting.MinAge: "-m", setting.ExpiryWarning: "-W", setting.InactiveDisable: "-I"}

// Script writes calls of chage(1) that give accounts their ageing, or, undone, what
// they had: to chage, -1 is an empty field.
func Script(all []Aged, comment []string, undo bool) []byte {
	var b bytes.Buffer
	b.WriteString("#!/bin/sh\n")
	for _, c := range comment {
		b.WriteString("# " + strings.Join(strings.Fields(c), " ") + "\n")
	}
	b.WriteString("set -eu\n")
	for _, a := range all {
		text := aged(a.Setting, a.To)
		if undo {
			text = cmp.Or(a.Now, "-1")
		}
		fmt.Fprintf(&b, "chage %s %s -- %s\n", chageOptions[a.Setting], text, quoted(a.Account))
	}
	return b.Bytes()
}

// Ages reports whether chage gives accounts a value.
func Ages(id setting.ID, v setting.Value) bool { return chageOptions[id] != "" && aged(id, v) != "" }

// accountEnd is a field of shadow that no setting stands in.
const accountEnd = setting.ID("account-end")

// fields of shadow, from 0. The settings among them chage sets.
var shadowFields = map[setting.ID]int{setting.MinAge: 3, setting.MaxAge: 4, setting.ExpiryWarning: 5, setting.InactiveDisable: 6, accountEnd: 7}

// Aging is a shadow as it is after the script.
func Aging(shadow []byte, all []Aged) []byte {
	lines := strings.Split(string(shadow), "\n")
	for i, line := range lines {
		f := strings.Split(line, ":")
		for _, a := range all {
			if n := shadowFields[a.Setting]; f[0] == a.Account && n < len(f) {
				if f[n] = aged(a.Setting, a.To); f[n] == "-1" {
					f[n] = ""
				}
			}
		}
		lines[i] = strings.Join(f, ":")
	}
	return []byte(strings.Join(lines, "\n"))
}

// LineOf is, with what it says now, the line that gives new accounts their ageing: line 0 where the file is in the
// evidence and has none; nil: it is not there.
func LineOf(parts map[string][]byte, id setting.ID) (line *Edit, now setting.Value) {
	for _, x := range []struct {
		part, name string
		id         setting.ID
	}{{"etc/login.defs", "PASS_MAX_DAYS", setting.MaxAge}, {"etc/login.defs", "PASS_MIN_DAYS", setting.MinAge}, {"etc/login.defs", "PASS_WARN_AGE",
		setting.ExpiryWarning},
		{"etc/default/useradd", "INACTIVE", setting.InactiveDisable}} {
		if x.id != id {
			continue
		}
		for n, line := range strings.Split(string(parts[x.part]), "\n") {
			if words := strings.FieldsFunc(line, func(r rune) bool { return r == '=' || r == ' ' || r == '\t' || r == '\r' }); len(words) > 0 && words[0] == x.name {
				if len(words) > 1 {
					now = daysSaid(words[1])
				}
				return &Edit{Setting: id, Part: x.part, Line: n + 1, Where: x.name}, now
			}
		}
		if len(parts[x.part]) > 0 {
			return &Edit{Setting: id, Part: x.part, Where: x.name}, now
		}
	}
	return nil, now
}

// daysSaid reads a number of days as these files write it.
func daysSaid(word string) setting.Value {
	n, err := strconv.ParseInt(word, 10, 64)
	switch {
	case err != nil:
		return setting.Value{}
	case n < 0 || n >= 99999:
		return setting.Of(setting.Never)
	}
	return setting.Number(n * day)
}

// aged is a number of days as chage takes it.
func aged(id setting.ID, v setting.Value) string {
	if v.Is(setting.Never) {
		return map[setting.ID]string{setting.MaxAge: "99999", setting.InactiveDisable: "-1"}[id]
	}
	return setting.Scaled(day, setting.Zero)(v)
}

// quoted is a word that a shell takes as it is: nothing in it is executed.
func quoted(word string) string { return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'" }
