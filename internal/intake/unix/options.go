package unix

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/redact"
)

// option is one "name = value" of a module's file or one argument of a call,
// as the module takes it: the value of a number is a number.
type option struct {
	value string
	cite  estate.Cite
}

// options are a module's, the last one standing.
type options map[string]option

// slip is something that a module does not take.
type slip struct {
	cite estate.Cite
	why  string
	ends bool // the module reads no further, in this file and those after it
}

// grammar is how a module reads its file and its arguments; its options are rows of the table.
// All of it was tried with the real modules of Debian 11, 12 and 13.
type grammar struct {
	module string
	fold   bool // names in any case
	strict bool // in the file: what is not understood ends the reading
	zero   bool // in a call, what is no number is taken for 0
	as     int  // the version of its library that is read; 0: any
}

var (
	pwquality = grammar{module: "pam_pwquality", fold: true, strict: true}
	cracklib  = grammar{module: "pam_cracklib"} // the older module, which has no file
	faillock  = grammar{module: "pam_faillock"}
	pwhistory = grammar{module: "pam_pwhistory", fold: true, zero: true}
)

// pwquality is the grammar of this machine's version.
func (r *reader) pwquality() *grammar {
	g := pwquality
	g.as = r.taken(libpwquality)
	return &g
}

// longestLock is the longest time that pam_faillock takes, in seconds.
const longestLock = 604800

// take reads one option. Its value is the number as the module reads it.
func (g *grammar) take(name, value string, strict bool) (key, taken, why string) {
	key = name
	if g.fold {
		key = strings.ToLower(name)
	}
	row := optionOf(g.module, key)
	if row != nil && g.as > 0 && row.since > g.as {
		return "", "", fmt.Sprintf("%s of this version has no option %s", g.module, key)
	}
	switch {
	case row == nil:
		var names []string
		for _, o := range Options(g.module) {
			names = append(names, o.Name)
		}
		return "", "", fmt.Sprintf("%s has no option %s (%s)", g.module, redact.Quote([]byte(name)),
			strictyaml.Hint(strings.ToLower(name), names))
	case row.takes != aCount:
		return key, value, ""
	}
	for _, words := range row.Also {
		if slices.Contains(words, value) {
			return key, "0", ""
		}
	}
	digits := value
	if !strict {
		digits = leading(value)
	}
	n, err := strconv.ParseInt(digits, 10, 32)
	if err != nil || row.most > 0 && (n < 0 || n > row.most) {
		return "", "", fmt.Sprintf("%s does not take %s for %s", g.module, redact.Quote([]byte(value)), key)
	}
	if row.wraps {
		n &= 1<<16 - 1
	}
	return key, strconv.FormatInt(n, 10), ""
}

// leading returns the whole number that a text begins with.
func leading(text string) string {
	end := 0
	for end < len(text) && (text[end] >= '0' && text[end] <= '9' || end == 0 && (text[0] == '-' || text[0] == '+')) {
		end++
	}
	return text[:end]
}

// files reads files of "name = value" lines, in order. The equals sign may be
// left out.
func (r *reader) files(g *grammar, names ...string) (options, []slip) {
	all, slips := options{}, []slip(nil)
	for _, name := range names {
		p := r.file(name)
		if p == nil {
			continue
		}
		for i, text := range strings.Split(string(p.Data), "\n") {
			text, _, _ = strings.Cut(text, "#")
			if text = strings.TrimSpace(text); text == "" {
				continue
			}
			name, value := text, ""
			if end := strings.IndexAny(text, " \t="); end >= 0 {
				name, value = text[:end], strings.TrimSpace(text[end:])
				value = strings.TrimSpace(strings.TrimPrefix(value, "="))
			}
			at := cite(p, i+1, name, text)
			key, taken, why := g.take(name, value, g.strict)
			if row := optionOf(g.module, key); row != nil && g.as > 0 && row.filed > g.as {
				why = fmt.Sprintf("%s of this version takes %s in its calls only", g.module, key)
			}
			if why != "" {
				slips = append(slips, slip{at, why, g.strict})
				if g.strict {
					return all, slips
				}
				continue
			}
			all[key] = option{taken, at}
		}
	}
	return all, slips
}

// with lays a call's arguments over the options of the module's file. What
// the call does not say right is passed over.
func (o options) with(g *grammar, c *call, also ...string) (options, []slip) {
	all, slips := options{}, []slip(nil)
	for name, v := range o {
		all[name] = v
	}
	for _, arg := range c.args {
		name, value, _ := strings.Cut(arg, "=")
		if slices.Contains(also, strings.ToLower(name)) {
			continue
		}
		at := c.cite
		at.Where = name
		key, taken, why := g.take(name, value, g.strict)
		if why != "" {
			slips = append(slips, slip{cite: at, why: why})
			if row := optionOf(g.module, strings.ToLower(name)); g.zero && row != nil && row.takes == aCount {
				all[row.Name] = option{"0", at}
			}
			continue
		}
		all[key] = option{taken, at}
	}
	return all, slips
}

// callOnly are arguments that modules take in their calls only, and that change
// nothing that is asked.
var callOnly = []string{"debug", "use_authtok", "try_first_pass", "use_first_pass", "authtok_type", "type", "difignore"}

// slipped remarks on what a module does not take.
func (r *reader) slipped(g *grammar, slips []slip, settings []setting.ID) {
	if len(slips) == 0 {
		return
	}
	text, cites := "", []estate.Cite(nil)
	for i, s := range slips {
		if i > 0 {
			text += "; "
		}
		text += s.why
		if s.ends {
			text += fmt.Sprintf(". It reads no further: whatever stands after line %d of %s, and in files that it reads later, does not count",
				s.cite.Line, path.Base(s.cite.File))
		}
		cites = append(cites, s.cite)
	}
	r.remark(estate.NotTaken, g.module, text, "Correct the line, or remove it.", settings, cites...)
}

// bare reads the options of a module that does not go by a grammar: whatever a
// call says.
func bare(c *call) options {
	all := options{}
	for _, arg := range c.args {
		name, value, _ := strings.Cut(arg, "=")
		at := c.cite
		at.Where = name
		all[name] = option{value, at}
	}
	return all
}

// assignments reads a file of NAME=VALUE lines.
func (r *reader) assignments(name string) options {
	all := options{}
	p := r.file(name)
	if p == nil {
		return all
	}
	for i, text := range strings.Split(string(p.Data), "\n") {
		name, value, ok := strings.Cut(strings.TrimSpace(text), "=")
		if ok && !strings.HasPrefix(name, "#") {
			all[name] = option{value, cite(p, i+1, name, strings.TrimSpace(text))}
		}
	}
	return all
}
