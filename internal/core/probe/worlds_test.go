package probe

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
	"sternledger/internal/worldtest"
)

// TestWorlds plays testdata/worlds.txt: places and what their rules make of passwords.
//
//	at PLATFORM [samba] [SETTING=VALUE]…     "?": not collected
//	asks|further MODULE [length=N] [credits=A,B,C,D] [run=N] [most=N] [named] [part=N] [personal] [old]
//	     [graded=A,B,C,D] [phrase=N] [words=N] [list=WORD,…]
//	cloud TENANT on|audit WORD…
//	who ACCOUNT NAME…
//	patterns YEAR WORD… : OWN-NAME…
//	sweep N WORD…                            N passwords made of characters at the edges of classes, and of the words;
//	                                         a letter for what each rule makes of each: A(ccepted), R(efused), ?, or none
//	sum PASSWORD                             what may be shown of it
//	try PASSWORD                             "a×9" is nine times "a", "␣" a space, "␡" DEL
func TestWorlds(t *testing.T) {
	worldtest.Play(t, "worlds.txt", func(t *testing.T, lines []string) (said []string) {
		var at *Place
		var who Person
		for _, line := range lines {
			word, rest, _ := strings.Cut(line, " ")
			f := strings.Fields(rest)
			switch word {
			case "at":
				at = placeOf(f)
			case "asks":
				at.Asks = asksOf(f)
			case "further":
				at.Asks.Further = append(at.Asks.Further, *asksOf(f))
			case "cloud":
				at.Cloud = CloudFor(f[0], setting.Word(f[1]), &estate.Asks{Words: f[2:]}, estate.Cite{})
			case "who":
				if who = (Person{}); len(f) > 0 {
					who = Person{f[0], strings.Join(f[1:], " ")}
				}
			case "patterns":
				year, _ := strconv.Atoi(f[0])
				words, own, _ := strings.Cut(strings.Join(f[1:], " "), ":")
				for _, family := range Patterns(Seeds{year, strings.Fields(words), strings.Fields(own)}) {
					said = append(said, fmt.Sprintf("%s, weak %v: %q", family.Name, family.Weak, family.Passwords))
				}
			case "sweep":
				n, _ := strconv.Atoi(f[0])
				said = append(said, line)
				for _, row := range sweep(at, who, n, f[1:]) {
					said = append(said, "  "+row)
				}
			case "sum":
				sum := Summarise(spelt(rest))
				said = append(said, fmt.Sprintf("%s: %d characters, %d bytes, %d marks, %q", line, sum.Length, sum.Bytes, sum.Marks, sum.Classes))
			case "try":
				r := Judge(at, who, spelt(rest))
				said = append(said, fmt.Sprintf("%s: %s", line, r.Verdict))
				for _, o := range r.Rules {
					aside := ""
					if o.Cite.File != "" {
						aside = " by " + o.Cite.Where
					}
					if o.Aside {
						aside += ", aside"
					}
					said = append(said, fmt.Sprintf("  %s %s%s: %s", o.Rule, o.Verdict, aside, o.Why))
				}
			default:
				t.Fatal(line)
			}
		}
		return said
	})
}

// sweep tells of each rule what it makes of many passwords, and of how many
// reasons it gives.
func sweep(at *Place, who Person, n int, words []string) (rows []string) {
	edges := slices.Concat(strings.Split(spelt(strings.Join(words, "\x00")), "\x00"),
		strings.Split("abyzABYZ0189 ~!/:;@[^_`{|}\t\x7f\u0080\u0081éÉßǅ港́⚓🚢", ""))
	rnd := rand.New(rand.NewPCG(uint64(n), uint64(len(words))))
	letters, reasons := map[string][]byte{}, map[string]map[string]bool{}
	var order []string
	for i := range n {
		var b strings.Builder
		for range rnd.IntN(12) {
			b.WriteString(strings.Repeat(edges[rnd.IntN(len(edges))], 1+rnd.IntN(4)/3*rnd.IntN(4)))
		}
		for _, o := range Judge(at, who, b.String()).Rules {
			if letters[o.Rule] == nil {
				order = append(order, o.Rule)
				letters[o.Rule], reasons[o.Rule] = bytes.Repeat([]byte{'.'}, n), map[string]bool{}
			}
			letters[o.Rule][i] = map[Verdict]byte{Accepted: 'A', Refused: 'R', CannotTell: '?'}[o.Verdict]
			reasons[o.Rule][o.Why] = true
		}
	}
	for _, rule := range order {
		rows = append(rows, fmt.Sprintf("%s %s, %d reasons", rule, letters[rule], len(reasons[rule])))
	}
	return rows
}

func spelt(text string) string {
	text = strings.NewReplacer("␣", " ", "␡", "\x7f").Replace(text)
	if what, times, ok := strings.Cut(text, "×"); ok {
		n, _ := strconv.Atoi(times)
		return strings.Repeat(what, n)
	}
	return text
}

func placeOf(words []string) *Place {
	var settings []string
	p := &Place{}
	var lacking []setting.ID
	for _, w := range words[1:] {
		id, text, ok := strings.Cut(w, "=")
		switch {
		case !ok:
			p.Dialect = estate.Dialect(w)
		case text == "?":
			lacking = append(lacking, setting.ID(id))
		default:
			settings = append(settings, w)
		}
	}
	made := place(setting.Platform(words[0]), nil, settings...)
	made.Dialect = p.Dialect
	for id, e := range made.Settings {
		if e.Cite = (estate.Cite{File: "x", Where: string(id)}); e.Missing == govern.Present {
			made.Settings[id] = e
		}
	}
	for _, id := range lacking {
		made.Settings[id] = govern.Effective{Missing: govern.NotCollected}
	}
	return made
}

func asksOf(words []string) *estate.Asks {
	m := &estate.Asks{Module: words[0], Cite: estate.Cite{File: "x", Where: words[0]}}
	for _, w := range words[1:] {
		key, value, _ := strings.Cut(w, "=")
		n, _ := strconv.ParseInt(value, 10, 64)
		var list [4]int64
		for i, x := range strings.SplitN(value, ",", 4) {
			if list[i], _ = strconv.ParseInt(x, 10, 64); x == "barred" {
				list[i] = estate.Barred
			}
		}
		switch key {
		case "length":
			m.Length = n
		case "credits":
			m.Credits = list
		case "run":
			m.ClassRun = n
		case "most":
			m.Most = n
		case "named":
			m.Named = true
		case "part":
			m.NamePart = n
		case "personal":
			m.Personal = true
		case "old":
			m.Old = true
		case "graded":
			m.Graded = &estate.Graded{Least: list}
		case "phrase":
			m.Graded.Phrase = n
		case "words":
			m.Graded.Words = n
		case "list":
			m.Words = strings.Split(value, ",")
		}
	}
	return m
}
