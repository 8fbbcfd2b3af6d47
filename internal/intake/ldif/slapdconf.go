package ldif

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/intake"
	"sternledger/internal/redact"
)

// ServerConf is the configuration of an OpenLDAP server in its older shape
// (slapd.conf(5), slapo-ppolicy(5)): it names the policy that the server applies by
// default.
var ServerConf = intake.Format{Name: "server configuration (slapd.conf)", Detect: detectConf,
	Read: (&intake.Whole{Most: 4 << 20, Expected: "a slapd.conf", Next: "copy it again", Take: takeConf}).Read}

var (
	confDatabase = regexp.MustCompile(`(?im)^database[ \t]+"?\w`)
	confSuffix   = regexp.MustCompile(`(?im)^suffix[ \t]+"?\w+=`)
)

// detectConf looks for a database with a suffix, each at the beginning of a line.
func detectConf(_ string, head []byte) bool {
	text := intake.Opening(head)
	return confDatabase.Match(text) && confSuffix.Match(text)
}

// conf are the directives that are read, with what stands behind them.
var conf = map[string]*regexp.Regexp{"database": confName, "overlay": confName, "suffix": confDN, "ppolicy_default": confDN,
	"include": regexp.MustCompile(`^/\S+$`)}

var (
	confName = regexp.MustCompile(`^[A-Za-z_]{1,32}$`)
	confDN   = regexp.MustCompile(`^\w+=[^=]+(?:,\w+=[^=]+)*$`)
)

func takeConf(text *intake.Text, into *estate.Builder) error {
	r := &reader{record: &record{path: text.Path}, into: into, domains: map[string]string{}}
	r.server = serverConfig{map[string]string{}, map[string]estate.Cite{}, map[string]estate.Cite{}, map[string]string{}}
	c := confReader{reader: r, text: text, database: -1}
	for l := range text.Lines() {
		switch goesOn := l.Text != "" && (l.Text[0] == ' ' || l.Text[0] == '\t'); {
		case strings.TrimSpace(l.Text) == "" || l.Text[0] == '#': // nothing is read of a comment
		case goesOn && c.directive != "":
			c.take(confWords(l))
		default:
			c.end()
			words := confWords(l)
			if len(words) == 0 {
				continue
			}
			name := words[0]
			c.directive, c.words, c.line, c.assigned = strings.ToLower(name.Text), nil, l.Number, ""
			text.Name(name.From, name.end, name.Text, nil)
			c.take(words[1:])
		}
	}
	c.end()
	if len(r.server.suffix) == 0 {
		return text.Wrong(0, "no database with a suffix", "a slapd.conf", "copy the whole file")
	}
	if c.elsewhere.File != "" {
		for key := range r.server.suffix { // an overlay, or its default, may stand in another file
			if r.server.policy[key] == "" {
				delete(r.server.suffix, key)
				into.NotUnderstood(c.elsewhere, "the configuration includes a file that was not gathered: whether it sets a password policy is not "+
					"known")
			}
		}
	}
	r.serverDefaults()
	return nil
}

// confReader takes one directive after the other.
type confReader struct {
	*reader
	text      *intake.Text
	directive string
	words     []string
	line      int
	assigned  string // the name whose value the next line holds, if the directive goes on there
	database  int    // counted from 0; -1: before the first, for all of them
	overlay   string
	global    []string // overlays for all databases
	policy    string   // the default for all of them
	policyAt  estate.Cite
	elsewhere estate.Cite
}

// end takes the directive that is complete.
func (c *confReader) end() {
	word := ""
	if len(c.words) > 0 {
		word = c.words[0]
	}
	key := fmt.Sprint(c.database)
	at := c.into.Cite(c.line, c.directive, word)
	switch c.directive {
	case "database":
		c.database, c.overlay = c.database+1, ""
		if key = fmt.Sprint(c.database); slices.Contains(c.global, "ppolicy") {
			c.server.overlay[key], c.server.policy[key] = c.policyAt, c.policy
		}
	case "suffix":
		if _, had := c.server.suffix[key]; !had && c.database >= 0 && strings.Contains(word, "=") {
			c.server.suffix[key], c.server.at[key] = word, at
			c.got++
		}
	case "overlay":
		c.overlay = strings.ToLower(word)
		if c.overlay != "ppolicy" {
			break
		}
		if c.database < 0 {
			c.global, c.policyAt = append(c.global, c.overlay), at
		} else if _, has := c.server.overlay[key]; !has {
			c.server.overlay[key] = at
		}
	case "ppolicy_default":
		if c.overlay != "ppolicy" || !strings.Contains(word, "=") {
			break
		}
		if c.database < 0 {
			c.policy, c.policyAt = word, at
		} else {
			c.server.policy[key], c.server.overlay[key] = word, at
		}
	case "include":
		if !strings.HasSuffix(word, ".schema") && c.elsewhere.File == "" {
			c.elsewhere = at
		}
	}
	c.directive, c.words = "", nil
}

// take takes words of a directive: of one that is read its first word, of the others
// nothing.
func (c *confReader) take(words []confWord) {
	for _, w := range words {
		is, read := conf[c.directive]
		if read && len(c.words) == 0 && is.MatchString(w.Text) {
			c.words = append(c.words, c.text.ReadAs(w.From, w.end, w.Text, nil))
			continue
		}
		under := c.directive
		if redact.Name(c.assigned) {
			under = c.assigned
		}
		c.text.Rest(w.From, w.end, under, w.Text, nil)
		c.assigned = ""
		if before, ok := strings.CutSuffix(w.Text, "="); ok { // the next word says what
			c.assigned = before
		}
		if len(c.words) == 0 {
			c.words = append(c.words, redact.NotKept)
		}
	}
}

// confWord is a word, where it stands, and where it ends.
type confWord struct {
	intake.Line
	end int
}

// confWords parts a line into its words; one in double quotes may hold spaces, and a
// backslash takes the next character as it is.
func confWords(line intake.Line) (words []confWord) {
	var word strings.Builder
	from, quoted := -1, false
	end := func(to int) {
		if from >= 0 {
			words = append(words, confWord{intake.Line{Number: line.Number, Text: word.String(), From: line.From + from}, line.From + to})
		}
		word.Reset()
		from = -1
	}
	for i := 0; i < len(line.Text); i++ {
		b := line.Text[i]
		if (b == ' ' || b == '\t') && !quoted {
			end(i)
			continue
		}
		if from < 0 {
			from = i
		}
		switch {
		case b == '\\' && i+1 < len(line.Text) && (line.Text[i+1] == '"' || line.Text[i+1] == '\\'):
			i++
			word.WriteByte(line.Text[i])
		case b == '"':
			quoted = !quoted
		default:
			word.WriteByte(b)
		}
	}
	end(len(line.Text))
	return words
}
