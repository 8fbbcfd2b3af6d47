package unix

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// passwdqc is what a call of pam_passwdqc asks (passwdqc.conf(5)).
type passwdqc struct {
	least            [5]int64 // of one class, two, a phrase, three, four
	most             int64
	words            int64
	match            int64
	similar          bool // a password like the old one is refused
	forUsers, forAll bool // its refusal counts for users, and for root
	banned           bool // a list of the machine's own is looked at
	at               map[string]estate.Cite
}

// disabled is a kind of password that is not taken.
const disabled = estate.Barred

// readPasswdqc reads a call's arguments and the files they name. A module that
// does not understand one of them gives up and fails.
func (r *reader) readPasswdqc(c *call) (*passwdqc, error) {
	q := &passwdqc{least: [5]int64{disabled, 24, 11, 8, 7}, most: 72, words: 3, match: 4, similar: true, forUsers: true,
		forAll: true, at: map[string]estate.Cite{}}
	for _, arg := range c.args {
		if err := r.passwdqcOption(q, arg, c.cite, 0); err != nil {
			return nil, err
		}
	}
	return q, nil
}

// passwdqcWords are options that change nothing of what is asked.
var passwdqcWords = []string{"ask_oldauthtok", "ask_oldauthtok=update", "check_oldauthtok", "use_first_pass", "use_authtok",
	"noaudit", "disable_firstupper_lastdigit_check", "non-unix"}

func (r *reader) passwdqcOption(q *passwdqc, text string, at estate.Cite, depth int) error {
	name, value, _ := strings.Cut(text, "=")
	at.Where = name
	q.at[name] = at
	number := func(into *int64, least int64) error {
		n, err := strconv.ParseInt(value, 10, 32)
		if err != nil || n < least {
			return fmt.Errorf("pam_passwdqc does not take %q for %s", value, name)
		}
		*into = n
		return nil
	}
	var spare int64
	switch {
	case slices.Contains(passwdqcWords, text):
	case name == "min":
		list := strings.Split(value, ",")
		if len(list) != len(q.least) {
			return fmt.Errorf("pam_passwdqc takes five numbers for min, not %d", len(list))
		}
		for i, word := range list {
			n := int64(disabled)
			if word != "disabled" {
				var err error
				if n, err = strconv.ParseInt(word, 10, 32); err != nil || n < 0 {
					return fmt.Errorf("pam_passwdqc does not take %q for min", word)
				}
			}
			if i > 0 && n > q.least[i-1] {
				return fmt.Errorf("pam_passwdqc takes no number for min that is above the one before it")
			}
			q.least[i] = n
		}
	case name == "max":
		return number(&q.most, 8)
	case name == "passphrase":
		return number(&q.words, 0)
	case name == "match":
		return number(&q.match, 0)
	case name == "retry":
		return number(&spare, 0)
	case name == "random":
		value, _, _ = strings.Cut(value, ",")
		return number(&spare, 0)
	case name == "similar" && (value == "permit" || value == "deny"):
		q.similar = value == "deny"
	case name == "enforce" && slices.Contains([]string{"none", "users", "everyone"}, value):
		q.forUsers, q.forAll = value != "none", value == "everyone"
	case slices.Contains([]string{"wordlist", "denylist", "filter"}, name):
		q.banned = q.banned || value != ""
	case name == "config" && depth < deepestStack:
		return r.passwdqcFile(q, value, depth)
	default:
		return fmt.Errorf("pam_passwdqc has no option %q", text)
	}
	return nil
}

func (r *reader) passwdqcFile(q *passwdqc, name string, depth int) error {
	p := r.tree.Find(strings.TrimPrefix(name, "/"))
	if p == nil {
		return errNotThere
	}
	for i, text := range strings.Split(string(p.Data), "\n") {
		text = strings.TrimSpace(text)
		if text == "" || text[0] == '#' {
			continue
		}
		if err := r.passwdqcOption(q, text, cite(p, i+1, "", text), depth+1); err != nil {
			return err
		}
	}
	return nil
}

// errNotThere: the machine may well have the file.
var errNotThere = fmt.Errorf("its file of settings is not in the evidence")

// rules sets what the module asks.
func (q *passwdqc) rules(r *reader, c *call, into []estate.Settings) {
	at := func(option string) estate.Cite {
		if at, ok := q.at[option]; ok {
			return at
		}
		at := c.cite
		at.Where, at.Note = option, "not set: the module's default"
		return at
	}
	shortest := slices.Min(q.least[:])
	if q.words == 0 {
		shortest = min(q.least[0], q.least[1], q.least[3], q.least[4])
	}
	r.set(setting.MinLength, setting.Number(shortest), at("min"), into...)
	r.set(setting.ClassesRequired, setting.Number(q.classes()), at("min"), into...)
	compares := q.match > 0
	r.set(setting.NameCheck, setting.Switch(compares), at("match"), into...)
	r.set(setting.DictionaryCheck, setting.Word(map[bool]string{true: "on", false: "off"}[compares]), at("match"), into...)
	r.set(setting.Blocklist, setting.Word(map[bool]string{true: "on", false: "off"}[q.banned]), c.cite, into...)
}

// classes is the least number of classes of a password that is taken.
func (q *passwdqc) classes() int64 {
	for i, least := range []int64{q.least[0], min(q.least[1], q.phrase()), q.least[3], q.least[4]} {
		if least < disabled {
			return int64(i + 1)
		}
	}
	return int64(len(credits)) // nothing is taken
}

func (q *passwdqc) phrase() int64 {
	if q.words == 0 {
		return disabled
	}
	return q.least[2]
}

// asks is what the module asks for that no setting holds.
func (q *passwdqc) asks(c *call) estate.Asks {
	return estate.Asks{Module: c.module, Most: q.most, Old: q.similar, Cite: c.cite,
		Graded: &estate.Graded{Least: [4]int64{q.least[0], q.least[1], q.least[3], q.least[4]}, Phrase: q.phrase(), Words: q.words}}
}
