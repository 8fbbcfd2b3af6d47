package probe

import (
	"slices"
	"strings"
	"unicode/utf8"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// caps are lengths beyond which a platform itself takes no password.
var caps = map[setting.Platform]int64{
	setting.WindowsDomain: 256, setting.WindowsMachine: 256, setting.UnixMachine: 511, setting.CloudInfra: 128, setting.IdentityProvider: 72,
}

// required are the least numbers of each class, in the order in which classes
// are counted.
var required = []setting.ID{setting.RequireLower, setting.RequireUpper, setting.RequireDigit, setting.RequireSymbol}

// rules are asked in this order. A further rule is one more value.
var rules = slices.Concat([]rule{
	{name: "characters", on: slices.Concat(cloud, infra, suite), judge: func(q *question) Outcome {
		k := q.m.kinds
		return judged(q.m.highBytes+k[control] > 0, "only letters, digits, symbols and spaces of ASCII are taken")
	}},
	{name: "min-length", reads: []setting.ID{setting.MinLength}, judge: leastLength},
	{name: "max-length", reads: []setting.ID{setting.MaxLength}, judge: func(q *question) Outcome {
		most, capped := q.Settings[setting.MaxLength].Value.Number()
		if !capped {
			return Outcome{}
		}
		n, text := q.length()
		return judged(n > most, "%s, at most %d are taken", text, most)
	}},
	{name: "platform-length", judge: func(q *question) Outcome {
		most := caps[q.Platform]
		if most == 0 || q.Dialect == estate.Samba { // which takes any length
			return Outcome{}
		}
		n, text := q.length()
		if n <= most {
			return Outcome{}
		}
		return no("%s, the platform takes at most %d", text, most)
	}},
	{name: "complexity", reads: []setting.ID{setting.Complexity}, judge: func(q *question) Outcome {
		if !q.is(setting.Complexity, "on") {
			return Outcome{}
		}
		const asked = 3
		have := q.categories()
		return judged(have < asked, "%d of five categories of characters, %d are asked for", have, asked)
	}},
	{name: "account-name", on: slices.Concat(windows, cloud), judge: accountName},
	{name: "classes-required", reads: []setting.ID{setting.ClassesRequired}, judge: func(q *question) Outcome {
		most, of := int64(4), "four"
		fifth, has := q.fifth()
		if has {
			most, of = 5, "five"
		}
		asked, have := min(q.number(setting.ClassesRequired), most), min(fifth, 1)
		if asked <= 0 {
			return Outcome{}
		}
		for _, n := range q.ofClass() {
			have += min(n, 1)
		}
		return judged(have < asked, "%d of %s classes of characters, %d are asked for", have, of, asked)
	}},
}, classRules(), []rule{
	{name: "empty", on: slices.Concat(unix, ldap, server, realm, cloud, infra, suite, idp), judge: func(q *question) Outcome {
		switch {
		case q.m.bytes > 0:
			return Outcome{}
		case slices.Contains(ldap, q.Platform) || slices.Contains(server, q.Platform):
			return unknown("a server may store an empty password; nobody signs in with it, for without one a sign-in is anonymous")
		}
		return no("an empty password is not taken")
	}},
	{name: "graded-length", on: unix, judge: gradedLength},
	{name: "palindrome", on: unix, judge: func(q *question) Outcome {
		for _, m := range q.modules() {
			if m.Graded != nil || m.Module == storing || q.m.bytes == 0 {
				continue
			}
			text := asciiLower(q.m.text)
			o := judged(text == reversed(text), "it must not read the same backwards")
			o.Cite = m.Cite
			return o
		}
		return Outcome{}
	}},
	{name: "max-repeat", reads: []setting.ID{setting.MaxRepeat}, judge: func(q *question) Outcome {
		return q.run(setting.MaxRepeat, longestRun(q.m.text, func(a, b byte) bool { return a == b }), "of one character")
	}},
	{name: "max-sequence", reads: []setting.ID{setting.MaxSequence}, judge: func(q *question) Outcome {
		up := longestRun(q.m.text, func(a, b byte) bool { return b == a+1 })
		down := longestRun(q.m.text, func(a, b byte) bool { return b == a-1 })
		return q.run(setting.MaxSequence, max(up, down), "up or down in sequence")
	}},
	{name: "class-run", on: unix, judge: func(q *question) Outcome {
		n := longestRun(q.m.text, func(a, b byte) bool { return byteClass(a) == byteClass(b) })
		return q.each(func(m *estate.Asks) Outcome {
			if m.ClassRun <= 0 {
				return Outcome{}
			}
			return judged(n > m.ClassRun, "a run of %d characters of one class, at most %d are taken", n, m.ClassRun)
		})
	}},
	{name: "name-check", reads: []setting.ID{setting.NameCheck}, judge: nameCheck},
	{name: "personal-check", on: unix, judge: personalCheck},
	{name: "blocklist", reads: []setting.ID{setting.Blocklist}, judge: banned},
	{name: "directory-blocklist", on: windows, judge: directoryBanned},
	{name: "dictionary-check", reads: []setting.ID{setting.DictionaryCheck}, judge: func(q *question) Outcome {
		if !q.is(setting.DictionaryCheck, "on") {
			return Outcome{}
		}
		return unknown("the platform has a list of common passwords of its own")
	}},
	{name: "further-module", judge: func(q *question) Outcome {
		if q.Asks == nil || q.Asks.Module == "" || strings.HasPrefix(q.Asks.Module, "pam_") {
			return Outcome{}
		}
		o := unknown("a module checks passwords further, by rules that are not in the evidence")
		o.Cite = q.Asks.Cite
		return o
	}},
	{name: "history", reads: []setting.ID{setting.History}, judge: func(q *question) Outcome {
		n := q.number(setting.History)
		if n == 0 {
			return Outcome{}
		}
		return aside("refused if it is one of the account's last %d; the evidence cannot tell", n)
	}},
	{name: "old-password", on: unix, judge: func(q *question) Outcome {
		return q.each(func(m *estate.Asks) Outcome {
			if !m.Old {
				return Outcome{}
			}
			return aside("refused if it is like the account's old password; the evidence cannot tell")
		})
	}},
	{name: "min-changed", reads: []setting.ID{setting.MinChanged}, judge: func(q *question) Outcome {
		n := q.number(setting.MinChanged)
		if n == 0 {
			return Outcome{}
		}
		return aside("refused if fewer than %d characters differ from the account's old password; the evidence cannot tell", n)
	}},
})

// classRules ask for so many characters of a class.
func classRules() []rule {
	var all []rule
	for i, id := range required {
		all = append(all, rule{name: string(id), reads: []setting.ID{id}, judge: func(q *question) Outcome {
			asked, have := q.number(id), q.ofClass()[i]
			if asked <= 0 {
				return Outcome{}
			}
			return judged(have < asked, "%d, at least %d are asked for", have, asked)
		}})
	}
	return all
}

// storing is the Unix module that stores passwords; it asks for less than those
// that check quality.
const storing = "pam_unix"

// modules are the Unix modules that are asked about a new password.
func (q *question) modules() (all []*estate.Asks) {
	if q.Asks == nil || !strings.HasPrefix(q.Asks.Module, "pam_") {
		return nil
	}
	all = append(all, q.Asks)
	for i := range q.Asks.Further {
		all = append(all, &q.Asks.Further[i])
	}
	return all
}

// each asks every module, until one refuses.
func (q *question) each(judge func(m *estate.Asks) Outcome) (last Outcome) {
	for _, m := range q.modules() {
		o := judge(m)
		if o.Verdict == "" {
			continue
		}
		o.Cite = m.Cite
		if last = o; o.Verdict == Refused {
			break
		}
	}
	return last
}

// leastLength: a Unix module lets characters of a class count twice, up to the
// class's credit.
func leastLength(q *question) Outcome {
	n, text := q.length()
	o := q.each(func(m *estate.Asks) Outcome {
		if m.Length == 0 {
			return Outcome{}
		}
		credit := int64(0)
		for i, have := range q.ofClass() {
			credit += min(have, m.Credits[i])
		}
		if credit > 0 {
			return judged(n+credit < m.Length, "%s and %d of credit, %s asks for %d", text, credit, m.Module, m.Length)
		}
		return judged(n < m.Length, "%s, %s asks for %d", text, m.Module, m.Length)
	})
	if asked := q.number(setting.MinLength); o.Verdict == "" || n < asked {
		return judged(n < asked, "%s, %d are asked for", text, asked)
	}
	return o
}

// gradedLength: the fewer classes of characters, the more characters.
func gradedLength(q *question) Outcome {
	return q.each(func(m *estate.Asks) Outcome {
		if m.Graded == nil {
			return Outcome{}
		}
		n, text := q.length()
		if m.Most > 0 && n > m.Most && m.Most != truncating {
			return no("%s, %s takes at most %d", text, m.Module, m.Most)
		}
		if simple(q.m.text, m) {
			return no("%s, too few for %s with the kinds of characters that they are", text, m.Module)
		}
		return yes("%s, enough for %s with the kinds of characters that they are", text, m.Module)
	})
}

// truncating is the greatest length at which pam_passwdqc looks at the
// characters in front, instead of refusing.
const truncating = 8

// simple reports whether a password is too short for the kinds of characters in
// it.
func simple(text string, m *estate.Asks) bool {
	g := m.Graded
	if m.Most == truncating {
		text = text[:min(len(text), truncating)]
	}
	if text == "" {
		return true
	}
	var have [4]int // lower, upper, digits, others
	foreign, words, different := 0, 0, map[byte]bool{}
	before := byte(' ')
	for i := range len(text) {
		c := text[i]
		different[c] = true
		begins := before < utf8.RuneSelf && isLetter(c) && !isLetter(before)
		if c < utf8.RuneSelf {
			have[byteClass(c)]++
		} else {
			foreign++
			begins = strings.IndexByte(" \t\n\v\f\r", before) >= 0
		}
		if begins {
			words++
		}
		before = c
	}
	if c := text[0]; c >= 'A' && c <= 'Z' {
		have[upper]--
	}
	if c := text[len(text)-1]; c >= '0' && c <= '9' {
		have[digit]--
	}
	classes := 0
	for _, n := range have {
		if n > 0 {
			classes++
		}
	}
	if foreign > 0 && classes <= 1 && (classes == 0 || have[digit] > 0 || words >= 2) {
		classes++
	}
	enough := func(least int64, alphabet int64) bool {
		return int64(len(text)) >= least && int64(len(different)) >= expectedDifferent(alphabet, least)-1
	}
	// What is not good enough with all its classes may be with fewer.
	for ; classes > 0; classes-- {
		if enough(g.Least[classes-1], alphabets[classes-1]) || classes == 2 && g.Words > 0 && int64(words) >= g.Words &&
			enough(g.Phrase, inPhrases) {
			return false
		}
	}
	return true
}

// alphabets are how many characters pam_passwdqc reckons with, by the number of
// classes; inPhrases with how many in a phrase.
var alphabets = [4]int64{10, 36, 62, 95}

const inPhrases = 27

// expectedDifferent is how many different characters so many random ones of an
// alphabet hold, in the module's own arithmetic.
func expectedDifferent(alphabet, length int64) int64 {
	const bits = 15
	x := (alphabet - 1) << bits / alphabet
	y := x
	for ; length > 1; length-- {
		y = y * x >> bits
	}
	return alphabet * (1<<bits - y) >> bits
}

func isLetter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }

// run judges a longest run against the setting that bounds it.
func (q *question) run(id setting.ID, n int64, of string) Outcome {
	most, bounded := q.Settings[id].Value.Number()
	if !bounded || most <= 0 {
		return Outcome{}
	}
	return judged(n > most, "a run of %d %s, at most %d are taken", n, of, most)
}

// longestRun is the length of the longest run of bytes each of which goes with
// the one before.
func longestRun(text string, goes func(a, b byte) bool) int64 {
	var longest, n int64
	for i := range len(text) {
		if n++; i > 0 && !goes(text[i-1], text[i]) {
			n = 1
		}
		longest = max(longest, n)
	}
	return longest
}

func byteClass(b byte) int {
	return min(kindOf(rune(b)), symbol)
}

// asciiLower lowers ASCII letters alone, as the Unix module does.
func asciiLower(text string) string {
	return strings.Map(func(c rune) rune {
		if c >= 'A' && c <= 'Z' {
			return c + 'a' - 'A'
		}
		return c
	}, text)
}

func reversed(text string) string {
	b := []byte(text)
	slices.Reverse(b)
	return string(b)
}

// dependsOnName is what can be said where nobody in particular is asked about.
const dependsOnName = "refused for an account whose name is in it; ask about one with --account"

// parts of a display name, as Windows parts it.
func parts(display string) []string {
	return strings.FieldsFunc(display, func(c rune) bool { return strings.ContainsRune(",.-_ #\t", c) })
}

// holds reports whether text holds one of the words that are at least so long.
func holds(text string, least int, words ...string) bool {
	return slices.ContainsFunc(words, func(w string) bool { return utf8.RuneCountInString(w) >= least && strings.Contains(text, w) })
}

// accountName is the part of Windows complexity that looks at names, and the
// check of names of a directory tenant. Samba has none.
func accountName(q *question) Outcome {
	text, least, words := q.m.text, 3, parts(q.who.Display)
	switch {
	case slices.Contains(cloud, q.Platform):
		// The sign-in name's local part is not among what is looked for.
		text, least = normal(text), 4
		for i := range words {
			words[i] = normal(words[i])
		}
	case q.Dialect == estate.Samba || !q.is(setting.Complexity, "on"):
		return Outcome{}
	default:
		text = strings.ToLower(text)
		words = append(words, q.who.Account)
		for i := range words {
			words[i] = strings.ToLower(words[i])
		}
	}
	if q.who == (Person{}) {
		return aside(dependsOnName)
	}
	o := judged(holds(text, least, words...), "names of the account of %d characters and more must not be in it", least)
	if slices.Contains(windows, q.Platform) {
		o.Cite = q.Settings[setting.Complexity].Cite
	}
	return o
}

// nameCheck: the Unix module looks for the account's name, forwards and
// backwards; an identity provider for the sign-in name and its parts.
func nameCheck(q *question) Outcome {
	if !q.is(setting.NameCheck, "on") {
		return Outcome{}
	}
	if q.who == (Person{}) {
		return aside(dependsOnName)
	}
	text := asciiLower(q.m.text)
	name, _, _ := strings.Cut(asciiLower(q.who.Account), "@")
	if slices.Contains(server, q.Platform) {
		const part = 3 // passwordMinTokenLength, unless it is set otherwise
		if len(name) >= part && strings.Contains(text, name) {
			return no("the account's name is in it")
		}
		return aside("refused if a word of the account's entry is in it (name, surname, mail and others); the evidence cannot tell")
	}
	if !slices.Contains(unix, q.Platform) {
		switch {
		case holds(text, 1, name):
			return no("the account's name is in it")
		case holds(text, 4, strings.FieldsFunc(name, func(c rune) bool { return strings.ContainsRune(",._#@-", c) })...):
			return unknown("a part of the account's name is in it, and what the platform makes of parts is not known")
		}
		return yes("the account's name is not in it")
	}
	return q.each(func(m *estate.Asks) Outcome {
		if !m.Named {
			return Outcome{}
		}
		// Where parts of the name are looked for, the whole of it is not, unless it
		// is no longer than they are.
		looked, least := []string{name, reversed(name)}, nameLength[m.Module]
		if part := min(int(m.NamePart), len(name)); m.NamePart >= wordLength {
			looked = nil
			for i := 0; i+part <= len(name); i++ {
				looked = append(looked, name[i:i+part], reversed(name[i:i+part]))
			}
		}
		bad := holds(text, least, looked...)
		return judged(bad, "the account's name, or the name backwards, must not be in it")
	})
}

// nameLength is the length from which a module looks for the account's name.
var nameLength = map[string]int{"pam_pwquality": wordLength, "pam_cracklib": 1}

// wordLength is the length from which the Unix module looks for a word.
const wordLength = 4

// personalCheck is the Unix module's look at the person's name.
func personalCheck(q *question) Outcome {
	return q.each(func(m *estate.Asks) Outcome {
		switch {
		case !m.Personal:
			return Outcome{}
		case q.who == (Person{}):
			return aside("refused for a person words of whose name are in it; ask about an account with --account")
		}
		return judged(holdsWords(q.m.text, strings.Fields(q.who.Display)), "words of the person's name must not be in it")
	})
}

// holdsWords reports whether text holds one of the words as the Unix module
// looks for them.
func holdsWords(text string, words []string) bool {
	text = asciiLower(text)
	return slices.ContainsFunc(words, func(w string) bool {
		w = asciiLower(w)
		return len(w) >= wordLength && (strings.Contains(text, w) || strings.Contains(text, reversed(w)))
	})
}
