// Package netaccounts reads what "net accounts" prints of a Windows machine: eight
// lines in a fixed order, in the machine's language. Nothing depends on the words:
// where no number stands, the place of the line says what is meant.
package netaccounts

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/korean"
	"golang.org/x/text/encoding/simplifiedchinese"
	"golang.org/x/text/encoding/traditionalchinese"
)

// Format is the output of net accounts.
var Format = intake.Format{Name: "net accounts (text)", Detect: detect, Read: whole.Read, Speaks: intake.MachineOf}

const (
	minute = 60
	day    = 24 * 60 * minute
)

// line is one of the eight: what it sets, the unit of its number, and what a word
// in the number's place means.
type line struct {
	id   setting.ID
	unit int64
	word setting.Value // not set: no word may stand there
	zero setting.Value // what 0 means; not set: the number
}

// lines are they, in their order.
var lines = []line{
	{id: setting.LogoffAtHoursEnd},
	{id: setting.MinAge, unit: day, zero: setting.Of(setting.AtOnce)},
	{id: setting.MaxAge, unit: day, word: setting.Of(setting.Never)},
	{id: setting.MinLength, unit: 1, word: setting.Number(0)},
	{id: setting.History, unit: 1, word: setting.Number(0)},
	{id: setting.LockoutThreshold, unit: 1, word: setting.Of(setting.Never), zero: setting.Of(setting.Never)},
	{id: setting.LockoutDuration, unit: minute, word: setting.Of(setting.UntilAdmin), zero: setting.Of(setting.UntilAdmin)},
	{id: setting.LockoutWindow, unit: minute, zero: setting.Of(setting.AtOnce)},
}

// entry is a text with a value behind it, at its right end.
var entry = regexp.MustCompile(`^\s*(\S.*?[:?]|\S.*?\S):?\s{2,}(\S+(?: \S+)?)\s*$`)

// found are the eight lines of a text, with the line of the first; the ninth is the
// machine's role.
func found(text []byte) (values []string, numbers []int, raws []string) {
	n := 0
	for raw := range bytes.Lines(text) {
		n++
		m := entry.FindSubmatch(bytes.TrimRight(raw, "\r\n"))
		if m == nil {
			if len(values) > 0 && len(values) < len(lines) {
				values, numbers, raws = nil, nil, nil // a gap within them
			}
			continue
		}
		if len(values) == len(lines) && !fits(values) { // lines of something else stood above
			values, numbers, raws = values[1:], numbers[1:], raws[1:]
		}
		if len(values) < len(lines)+1 {
			values, numbers, raws = append(values, string(m[2])), append(numbers, n), append(raws, string(bytes.TrimSpace(raw)))
		}
	}
	return values, numbers, raws
}

// word is what stands in a number's place: never, none, unlimited, in any language, and in
// any code page: whatever it was decoded as, it has no digits and no signs of ASCII.
var word = regexp.MustCompile(`^[A-Za-z\x{80}-\x{10FFFF}]{1,40}(?: [A-Za-z\x{80}-\x{10FFFF}]{1,40})?$`)

// fits reports whether eight values stand where numbers and words can stand.
func fits(values []string) bool {
	for i, l := range lines {
		_, err := strconv.ParseUint(values[i], 10, 32)
		if err != nil && (l.unit > 0 && !l.word.IsSet() || !word.MatchString(values[i])) {
			return false
		}
	}
	return true
}

func detect(_ string, head []byte) bool {
	text := intake.Opening(head)
	values, numbers, _ := found(text)
	if len(values) < len(lines) || !fits(values[:len(lines)]) {
		return false
	}
	if roleOf(values) == aController && domainOf(text, numbers[0]) == "" {
		return false // of which domain is not told
	}
	n := 0
	for _, v := range values[1:len(lines)] {
		if _, err := strconv.Atoi(v); err == nil {
			n++
		}
	}
	return n >= 4
}

// role is what the ninth line says of the machine.
type role int

const (
	notTold     role = iota
	aMember          // a workstation or a server: the values are its own
	aController      // the values are its domain's
	notKnown         // a word that is not known
)

// roles are the words for them, in the languages that are known.
var roles = func() map[string]role {
	all := map[string]role{}
	for r, words := range map[role]string{
		aMember: "WORKSTATION,SERVER,ARBEITSSTATION,STATION DE,STATION DE TRAVAIL,SERVEUR,ESTACIÓN DE,ESTACIÓN DE TRABAJO,SERVIDOR," +
			"ESTAÇÃO DE,ESTAÇÃO DE TRABALHO,WERKSTATION,ARBETSSTATION,ARBEJDSSTATION,ARBEIDSSTASJON,TYÖASEMA,PALVELIN,STACJA ROBOCZA,SERWER," +
			"PRACOVNÍ STANICE,MUNKAÁLLOMÁS,KISZOLGÁLÓ,РАБОЧАЯ СТАНЦИЯ,СЕРВЕР,ワークステーション,サーバー,工作站,服务器,伺服器,워크스테이션,서버," +
			"İŞ İSTASYONU,SUNUCU,ΣΤΑΘΜΌΣ ΕΡΓΑΣΊΑΣ,ΔΙΑΚΟΜΙΣΤΉΣ,STAȚIE DE LUCRU,РОБОЧА СТАНЦІЯ",
		aController: "PRIMARY,BACKUP,PRIMÄR,SICHERUNG,PRIMAIRE,SECOURS,SAUVEGARDE,PRINCIPAL,RESERVA,PRIMARIO,PRIMÁRIO,SECUNDARIO,PRIMAIR,RESERVE," +
			"ОСНОВНОЙ,РЕЗЕРВНЫЙ,プライマリ,バックアップ",
	} {
		for _, w := range strings.Split(words, ",") {
			all[strings.ToUpper(w)] = r
			// In the console's own code page, which is told from no other: as it is read then.
			for _, page := range consoles {
				if raw, err := page.NewEncoder().String(w); err == nil && raw != w {
					mistaken(all, raw, r)
				}
			}
		}
	}
	mistaken(all, "\x98\x9e \x98STASYONU", aMember) // Turkish, in code page 857
	return all
}()

// mistaken adds a word in another code page as it is read where that is not told.
func mistaken(all map[string]role, raw string, r role) {
	for _, taken := range []*charmap.Charmap{charmap.Windows1252, charmap.CodePage850} {
		if text, err := taken.NewDecoder().String(raw); err == nil {
			all[strings.ToUpper(text)] = r
		}
	}
}

// consoles are the code pages of Windows' consoles and of its files, beside the Western ones.
var consoles = []encoding.Encoding{charmap.CodePage852, charmap.CodePage866, charmap.Windows1250, charmap.Windows1251, charmap.Windows1253,
	charmap.Windows1254, japanese.ShiftJIS, korean.EUCKR, simplifiedchinese.GBK, traditionalchinese.Big5}

func roleOf(values []string) role {
	if len(values) <= len(lines) {
		return notTold
	}
	if r, known := roles[strings.ToUpper(values[len(lines)])]; known {
		return r
	}
	return notKnown
}

// dnsName is a domain's name in the sentence above the values: "The request will be processed at
// a domain controller for domain quay.example."
var dnsName = regexp.MustCompile(`(?i)\b([a-z0-9-]+(?:\.[a-z0-9-]+)*\.[a-z]{2,})\b`)

// domainOf is the domain that a sentence above the first of the values names, in whatever
// language; empty: none.
func domainOf(text []byte, first int) string {
	n := 0
	for raw := range bytes.Lines(text) {
		if n++; n >= first {
			break
		}
		if m := dnsName.FindSubmatch(bytes.TrimSpace(raw)); m != nil && bytes.ContainsRune(bytes.TrimSpace(raw), ' ') {
			return strings.ToLower(string(m[1]))
		}
	}
	return ""
}

// OfDomain reports whether a text is what net accounts prints of a domain that it does not
// name.
func OfDomain(head []byte) bool {
	text := intake.Opening(head)
	values, numbers, _ := found(text)
	return len(values) > len(lines) && fits(values[:len(lines)]) && roleOf(values) == aController && domainOf(text, numbers[0]) == ""
}

var whole = intake.Whole{Most: 1 << 20, Expected: "what net accounts prints", Next: "save it again", Take: take}

func take(t *intake.Text, into *estate.Builder) error {
	values, numbers, raws := found(t.Bytes)
	if len(values) < len(lines) || !fits(values[:len(lines)]) {
		return t.Wrong(0, fmt.Sprintf("%d of the eight lines of net accounts", len(values)), "all of them, in their order",
			"save its whole output again")
	}
	for l := range t.Lines() {
		if i := slices.Index(numbers, l.Number); i >= 0 && (i < len(lines) || word.MatchString(values[i])) {
			t.Took(l)
		}
	}
	domain := domainOf(t.Bytes, numbers[0])
	switch r := roleOf(values); {
	case domain == "" && r == notKnown:
		return t.Wrong(numbers[len(lines)], "a machine's role that is not known", "that of a workstation or server, or of a controller (PRIMARY, BACKUP)",
			"whose rules these are cannot be told: print them again in English, or, of a domain, net accounts /domain with its first line")
	case domain == "" && r == aController:
		return t.Wrong(0, "a domain's rules, without its name", "the first line of net accounts /domain, which names it",
			"save its whole output again, or export the domain itself (gather --ask domain)")
	}
	at, platform, origin, called := estate.Place{Name: intake.MachineOf(t.Path), Kind: estate.Machine}, setting.WindowsMachine,
		intake.FileName(t.Path), "local"
	if domain != "" {
		at, platform, called = estate.InDomain(domain), setting.WindowsDomain, "domain default"
		origin = "DC=" + strings.ReplaceAll(domain, ".", ",DC=")
		for l := range t.Lines() {
			if l.Number < numbers[0] && dnsName.MatchString(strings.TrimSpace(l.Text)) {
				at := strings.LastIndex(strings.ToLower(l.Text), domain)
				t.Read(l.From+at, l.From+at+len(domain))
			}
		}
	}
	a := into.At(at)
	if a.Head == nil {
		a.Head = &estate.Policy{Name: called, Origin: origin, Standing: estate.Enforced, Platform: platform,
			Settings: estate.Settings{}, Cite: into.Cite(numbers[0], "", raws[0])}
	}
	a.Platform = platform
	for i, l := range lines {
		c := into.Cite(numbers[i], string(l.id), raws[i])
		n, err := strconv.ParseInt(values[i], 10, 64)
		switch {
		case l.unit == 0:
			into.Set(a.Head.Settings, platform, l.id, setting.Switch(err == nil), c)
		case err != nil:
			into.Set(a.Head.Settings, platform, l.id, l.word, c)
		case n == 0 && l.zero.IsSet():
			into.Set(a.Head.Settings, platform, l.id, l.zero, c)
		default:
			into.Set(a.Head.Settings, platform, l.id, setting.Number(n*l.unit), c)
		}
	}
	return nil
}
