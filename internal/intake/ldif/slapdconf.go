package ldif

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
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
var ServerConf = intake.Format{Name: "server configuration (slapd.conf)", Detect: detectConf, Read: readConf}

var (
	confDatabase = regexp.MustCompile(`(?im)^database[ \t]+"?\w`)
	confSuffix   = regexp.MustCompile(`(?im)^suffix[ \t]+"?\w+=`)
)

// detectConf looks for a database with a suffix, each at the beginning of a line.
func detectConf(_ string, head []byte) bool {
	text := intake.Opening(head)
	return confDatabase.Match(text) && confSuffix.Match(text)
}

// conf are the directives that are read.
var conf = []string{"database", "suffix", "overlay", "ppolicy_default", "include"}

// maxConf bounds a configuration; real ones are a few kilobytes.
const maxConf = 4 << 20

func readConf(src *intake.Source, into *estate.Builder) error {
	raw, err := io.ReadAll(io.LimitReader(src.In, maxConf+1))
	if err != nil {
		return err
	}
	text, err := intake.Decode(raw)
	if err != nil || len(raw) > maxConf {
		return &intake.Error{Path: src.Path, Seen: "no text of at most 4 MiB", Expected: "a slapd.conf", Next: "copy it again"}
	}
	r := &reader{record: &record{path: src.Path}, into: into, domains: map[string]string{}}
	r.server = serverConfig{map[string]string{}, map[string]estate.Cite{}, map[string]estate.Cite{}, map[string]string{}}
	var kept bytes.Buffer
	c := confReader{reader: r, database: -1}
	scan := bufio.NewScanner(bytes.NewReader(text))
	scan.Buffer(nil, maxConf)
	for n := 1; scan.Scan(); n++ {
		line := strings.TrimRight(scan.Text(), "\r")
		switch goesOn := line != "" && (line[0] == ' ' || line[0] == '\t'); {
		case goesOn && c.directive != "":
			c.words = append(c.words, confWords(line)...)
			kept.WriteString(c.keep(src, line) + "\n")
		case strings.TrimSpace(line) == "" || line[0] == '#':
			kept.WriteString(keepComment(src, line) + "\n")
		default:
			c.end()
			words := confWords(line)
			if len(words) == 0 {
				words = []string{""}
			}
			c.directive, c.words, c.line, c.assigned = strings.ToLower(words[0]), words[1:], n, ""
			kept.WriteString(c.keep(src, line) + "\n")
		}
	}
	if err := scan.Err(); err != nil {
		return err
	}
	c.end()
	if len(r.server.suffix) == 0 {
		return &intake.Error{Path: src.Path, Seen: "no database with a suffix", Expected: "a slapd.conf", Next: "copy the whole file"}
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
	if !bytes.HasSuffix(text, []byte("\n")) {
		kept.Truncate(max(kept.Len()-1, 0))
	}
	return src.Store(raw, text, kept.Bytes())
}

// confReader takes one directive after the other.
type confReader struct {
	*reader
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

// keep is what is kept of a line: of directives that are not read their name alone.
func (c *confReader) keep(src *intake.Source, line string) string {
	if slices.Contains(conf, c.directive) {
		return line
	}
	name, rest, _ := strings.Cut(strings.TrimLeft(line, " \t"), " ")
	if line[0] == ' ' || line[0] == '\t' {
		name, rest = "", line
	}
	under := c.directive
	if redact.Name(c.assigned) {
		under = c.assigned
	}
	value, struck := redact.Keep(under, strings.TrimSpace(rest), false, src.KeepAll)
	c.assigned = ""
	if before, ok := strings.CutSuffix(strings.TrimSpace(line), "="); ok { // the next line says what
		c.assigned = before[strings.LastIndexAny(before, " \t\"")+1:]
	}
	switch {
	case struck:
		src.Struck++
	case value != strings.TrimSpace(rest):
		src.NotKept++
	}
	if name == "" {
		return " " + value
	}
	return strings.TrimSpace(name + " " + value)
}

func keepComment(src *intake.Source, line string) string {
	text := strings.TrimSpace(strings.TrimPrefix(line, "#"))
	value, struck := redact.Keep("comment", text, false, src.KeepAll)
	switch {
	case struck:
		src.Struck++
	case value != text:
		src.NotKept++
	default:
		return line
	}
	return "# " + value
}

// confWords parts a line into its words; one in double quotes may hold spaces, and a
// backslash takes the next character as it is.
func confWords(line string) (words []string) {
	var word strings.Builder
	open, quoted := false, false
	for i := 0; i < len(line); i++ {
		switch b := line[i]; {
		case b == '\\' && i+1 < len(line) && (line[i+1] == '"' || line[i+1] == '\\'):
			i++
			word.WriteByte(line[i])
			open = true
		case b == '"':
			quoted, open = !quoted, true
		case (b == ' ' || b == '\t') && !quoted:
			if open {
				words = append(words, word.String())
			}
			word.Reset()
			open = false
		default:
			word.WriteByte(b)
			open = true
		}
	}
	if open {
		words = append(words, word.String())
	}
	return words
}
