package unix

import (
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/intake"
)

// sudoers says who may act as root by sudo (sudoers(5)): who may run every
// command as root. A list of single commands makes nobody privileged here.
type sudoers struct {
	r       *reader
	aliases map[string][]string // of all four kinds: their names differ by use alone
	grants  []grant
	// asksOther: the password of root, or of whom a command is run as, is asked
	// for, and not one's own.
	asksOther bool
}

// grant lets users run everything as root.
type grant struct {
	users []string
	cite  estate.Cite
}

const deepestSudoers = 16

// readSudoers reads the file and those that it includes; nil: not gathered.
func (r *reader) readSudoers() *sudoers {
	p := r.file("etc/sudoers")
	if p == nil {
		return nil
	}
	s := &sudoers{r: r, aliases: map[string][]string{}}
	s.file(p, 0)
	return s
}

func (s *sudoers) file(p *intake.Part, depth int) {
	if depth > deepestSudoers {
		return
	}
	held, from := "", 0
	for i, text := range strings.Split(strings.ReplaceAll(string(p.Data), "\r\n", "\n"), "\n") {
		if from == 0 {
			from = i + 1
		}
		if cut, ok := strings.CutSuffix(text, `\`); ok {
			held += cut + " "
			continue
		}
		s.line(p, from, strings.TrimSpace(held+text), depth)
		held, from = "", 0
	}
}

// includes are the words that read further files.
var includes = regexp.MustCompile(`^[@#](include|includedir)\s+"?([^"]+?)"?$`)

// comment is "#" and what follows it, unless it is the number of a user.
var comment = regexp.MustCompile(`(^|\s)#(\D.*)?$`)

func (s *sudoers) line(p *intake.Part, at int, text string, depth int) {
	if m := includes.FindStringSubmatch(text); m != nil {
		s.include(p, at, m[1] == "includedir", m[2], depth)
		return
	}
	text = strings.TrimSpace(comment.ReplaceAllString(text, ""))
	first, rest, _ := strings.Cut(text, " ")
	switch {
	case text == "":
	case strings.HasPrefix(first, "Defaults"):
		for _, word := range strings.FieldsFunc(rest, func(c rune) bool { return c == ',' || c == ' ' || c == '\t' }) {
			s.asksOther = s.asksOther || first == "Defaults" && slices.Contains([]string{"targetpw", "rootpw", "runaspw"}, word)
		}
	case strings.HasSuffix(first, "_Alias"):
		for _, one := range strings.Split(rest, ":") {
			if name, list, ok := strings.Cut(one, "="); ok {
				s.aliases[strings.TrimSpace(name)] = split(list)
			}
		}
	default:
		who, what, ok := strings.Cut(text, "=")
		if !ok {
			s.r.into.NotUnderstood(cite(p, at, "sudoers", text), "a line that is not one of sudoers'")
			return
		}
		users, _ := cutLast(who)
		if s.everything(what) {
			s.grants = append(s.grants, grant{split(users), cite(p, at, "sudoers", text)})
		}
	}
}

// cutLast parts the users of a line from the host behind them.
func cutLast(text string) (users, host string) {
	text = strings.TrimSpace(text)
	at := strings.LastIndexAny(text, " \t")
	for at > 0 && strings.HasSuffix(strings.TrimSpace(text[:at]), ",") { // a list of hosts
		at = strings.LastIndexAny(strings.TrimSpace(text[:at]), " \t")
	}
	if at < 0 {
		return text, ""
	}
	return text[:at], strings.TrimSpace(text[at:])
}

// split parts a list at its commas.
func split(list string) (all []string) {
	for _, one := range strings.Split(list, ",") {
		if one = strings.Trim(strings.TrimSpace(one), `"`); one != "" {
			all = append(all, one)
		}
	}
	return all
}

// sudoersPath is where a file that sudoers names stands in the tree.
func sudoersPath(name string) string {
	if !strings.HasPrefix(name, "/") {
		name = path.Join("/etc", name)
	}
	return strings.TrimPrefix(path.Clean(name), "/")
}

// include reads a file, or the files of a folder that sudo reads: those without
// a dot in their names.
func (s *sudoers) include(p *intake.Part, at int, folder bool, name string, depth int) {
	name = sudoersPath(name)
	if !folder {
		if next := s.r.tree.Find(name); next != nil {
			s.file(next, depth+1)
		} else {
			s.r.into.NotUnderstood(cite(p, at, "sudoers", name), "the file that it includes is not in the tree")
		}
		return
	}
	for _, next := range s.r.tree.Parts { // sorted
		if path.Dir(next.Name) == strings.TrimSuffix(name, "/") && !strings.ContainsAny(path.Base(next.Name), ".~") {
			s.file(next, depth+1)
		}
	}
}

// tag stands before a command: "NOPASSWD:".
var tag = regexp.MustCompile(`^([A-Z_]+:\s*)+`)

// runAs is the list of whom commands are run as.
var runAs = regexp.MustCompile(`\([^)]*\)`)

// everything reports whether a list of commands holds ALL, as root.
func (s *sudoers) everything(what string) bool {
	root, all := true, false
	what = runAs.ReplaceAllStringFunc(what, func(list string) string { return strings.ReplaceAll(list, ",", " ") })
	for _, command := range split(what) {
		if as, rest, ok := strings.Cut(strings.TrimPrefix(command, "("), ")"); ok && strings.HasPrefix(command, "(") {
			users, _, _ := strings.Cut(as, ":")
			root, command = s.in(strings.Fields(users), func(word string) bool { return word == "root" || word == "#0" }), strings.TrimSpace(rest)
		}
		command = strings.TrimSpace(tag.ReplaceAllString(command, ""))
		denied := strings.HasPrefix(command, "!")
		if s.in([]string{strings.TrimPrefix(command, "!")}, func(string) bool { return false }) {
			all = root && !denied
		}
	}
	return all
}

// in reports whether a list holds ALL or a word that is meant, by itself or by
// an alias; the last word that says so counts.
func (s *sudoers) in(list []string, meant func(word string) bool) bool {
	return s.within(list, meant, 0)
}

func (s *sudoers) within(list []string, meant func(word string) bool, depth int) (in bool) {
	for _, word := range list {
		plain := strings.TrimLeft(word, "!")
		alias, known := s.aliases[plain]
		if plain == "ALL" || meant(plain) || known && depth < deepestSudoers && s.within(alias, meant, depth+1) {
			in = (len(word)-len(plain))%2 == 0
		}
	}
	return in
}

// of returns where an account is let run everything as root, and whether it is.
func (s *sudoers) of(who *person) (estate.Cite, bool) {
	if s == nil {
		return estate.Cite{}, false
	}
	for _, g := range s.grants {
		if s.asksOther && slices.Contains(g.users, "ALL") {
			continue // with root's password everybody may
		}
		if s.in(g.users, func(word string) bool { return s.r.isUser(who, word) }) {
			return g.cite, true
		}
	}
	return estate.Cite{}, false
}

// isUser reports whether a word of a list of users means an account.
func (r *reader) isUser(who *person, word string) bool {
	if group, ok := strings.CutPrefix(word, "%"); ok {
		return r.inGroup(who.name, int64(who.gid), strings.TrimPrefix(group, ":")) || group == "#"+strconv.FormatUint(uint64(who.gid), 10)
	}
	return word == who.name || word == "#"+strconv.FormatUint(uint64(who.uid), 10)
}
