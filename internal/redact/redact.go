// Package redact decides what of evidence is kept. Whatever no rule needs is not
// kept, and what is a secret by its name or by its looks is struck out, in all
// formats alike: data that is not there cannot leak.
//
// A format says which names it reads. Under these a value is kept as it is, but
// for what gives itself away (Look); under others only with KeepAll, and then
// only what has neither the name nor the looks of a secret. Lines stay, so that
// citations hold for the stored copy.
package redact

import (
	"fmt"
	"regexp"
	"strings"
)

// Marks in a stored copy.
const (
	Struck  = "[struck out]" // a secret stood here
	NotKept = "[not kept]"   // something stood here that no rule needs
)

// IsMark reports whether a value is one of the marks: what it was is not known,
// and never to be taken for absent. A value that only holds one may be anything.
func IsMark(value string) bool { return value == Struck || value == NotKept }

// HasMark reports whether a line holds one of the marks.
func HasMark(line string) bool {
	return strings.Contains(line, Struck) || strings.Contains(line, NotKept)
}

// words are parts of names under which secrets stand.
var words = []string{"password", "passwd", "passphrase", "passcode", "secret", "token", "credential", "privatekey", "apikey",
	"accesskey", "sharedkey", "signingkey", "encryptionkey",
	"masterkey", "recoverykey", "sessionkey", "principalkey", "keymaterial", "keytab", "bindpw", "rootpw", "authtok", "pkcs12",
	"cookie", "unicodepwd", "dbcspwd", "clearpwd", "userpwd", "pwdhistory",
	"nthash", "lmhash", "hash", "salt", "otp", "supplementalcred", "trustauth", "admpwd", "psk", "wpapass", "answer", "challenge", "auth"}

// ends are words that mean a secret at the end of a name, or as all of it.
var ends = []string{"pwd", "pw", "pass", "pin", "key", "seed", "code"}

// harmless are names that have a word of a secret in them, stand in ordinary exports, and
// hold a code of a country, a date, a count or a yes and no. To call them secrets would
// tell of a million where there is none.
var harmless = func() map[string]bool {
	all := map[string]bool{}
	for _, name := range strings.Fields(`countryCode postalCode areaCode zipCode languageCode
		badPasswordTime badPwdCount lastBadPasswordAttempt
		passwordLastSet passwordLastChanged lastPasswordChange lastPasswordChangeDateTime passwordExpired passwordNeverExpires passwordNotRequired
		cannotChangePassword passwordExpirationDate msDS-UserPasswordExpiryTimeComputed msDS-UserPasswordExpired msDS-UserDontExpirePassword
		allowReversiblePasswordEncryption changePasswordAtNextLogon changePasswordAtNextLogin mustChangePassword passwordChanged`) {
		all[separators.Replace(strings.ToLower(name))] = true
	}
	return all
}()

var separators = strings.NewReplacer("-", "", "_", "", ".", "", " ", "", "/", "", ";", "")

// Name reports whether what stands under a name may be a secret. Names that a
// format reads are never asked for: "passwordPolicies" has the word in it, too.
func Name(name string) bool {
	if name != "" && name[0] <= '9' && oid.MatchString(name) {
		return true // it says nothing of itself
	}
	low := separators.Replace(strings.ToLower(name))
	if harmless[low] {
		return false
	}
	for _, w := range words {
		if strings.Contains(low, w) {
			return true
		}
	}
	for _, w := range ends {
		if strings.HasSuffix(low, w) {
			return true
		}
	}
	return false
}

var oid = regexp.MustCompile(`^\d+(\.\d+)+(;.*)?$`)

// sure are looks that nothing but a secret has.
var sure = regexp.MustCompile(`-----BEGIN|` + // PEM
	`\$(?:1|2[abxy]?|5|6|7|y|gy|md5|sha1|apr1|P|H|argon2\w*|pbkdf2[\w-]*|scrypt|bcrypt-sha256)\$[^\s"']{4}|` + // crypt(5)
	// RFC 2307, RFC 3112
	`\{(?i:ssha\d*|sha\d*|smd5|md5|crypt|pbkdf2[\w-]*|argon2\w*|bcrypt|cleartext|clear|plain|aes|des|rc4|3des|ntlm|lm|x-[\w-]+|base64)\}\S|` +
	`\beyJ[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]{8,}|` + // RFC 7519
	`\bAGE-SECRET-KEY-|\bAKIA[0-9A-Z]{16}\b|\bASIA[0-9A-Z]{16}\b|` +
	`\b[A-Za-z][A-Za-z0-9+.-]*://[^/\s:@"']+:[^/\s@"']+@`) // a password in an address

// Look reports whether a value is a secret whatever its name.
func Look(value string) bool { return Suspicious(value) && sure.MatchString(value) }

// Suspicious reports whether a value is worth a closer look: it has a mark that
// every secret has which shows itself, and every mark that this package makes.
func Suspicious[T string | []byte](value T) bool {
	begins := func(at int, word string) bool {
		return len(value)-at >= len(word) && string(value[at:at+len(word)]) == word
	}
	for i := range len(value) {
		switch value[i] {
		case '$', '{', '[':
			return true
		case '-':
			if begins(i, "-----") {
				return true
			}
		case 'e':
			if begins(i, "eyJ") {
				return true
			}
		case 'A':
			if begins(i, "AKIA") || begins(i, "ASIA") || begins(i, "AGE-") {
				return true
			}
		case '/':
			if begins(i, "//") {
				return true
			}
		}
	}
	return false
}

// long are looks of keys and hashes, under names that are not known.
var long = regexp.MustCompile(`\b[0-9A-Fa-f]{24,}\b|[A-Za-z0-9+/_-]{24,}={0,2}|\b(?:[0-9A-Fa-f]{2}[:-]){11,}`)

// assigned is a word with a value, such as an argument.
var assigned = regexp.MustCompile(`([A-Za-z][A-Za-z0-9_.-]*)([ \t]*[=:][ \t]*)("(?:[^"\\]|\\.)*"|'[^']*'|\[[^\]]*\]|[^\s,;"']+)`)

// Unknown returns what is kept, with KeepAll, of a value under a name that no
// rule knows, and whether a secret was struck out of it.
func Unknown(name, value string) (kept string, struck bool) {
	if value == "" {
		return value, false
	}
	if Name(name) {
		return Struck, true
	}
	return Value(value)
}

// Value is Unknown for a value under a name that is no secret's.
func Value(value string) (kept string, struck bool) {
	if Look(value) || holdsRun(value) && long.MatchString(value) {
		return Struck, true
	}
	return Text(value)
}

// Harmless reports whether Value keeps all of a value, as can be told at a glance;
// false: it must be asked.
func Harmless(value []byte) bool {
	return !Suspicious(value) && !holdsRun(value) && !mentions(value)
}

// Text strikes secrets out of a text that is kept for what else it says: those
// that give themselves away, and what is assigned to a name of a secret.
func Text(value string) (kept string, struck bool) {
	kept = value
	if mentions(value) {
		kept, struck = unassigned(value)
	}
	if Look(kept) {
		return Struck, true
	}
	return kept, struck
}

// unassigned strikes out what is assigned to a name of a secret.
func unassigned(value string) (kept string, struck bool) {
	kept = assigned.ReplaceAllStringFunc(value, func(pair string) string {
		m := assigned.FindStringSubmatch(pair)
		if !Name(m[1]) || IsMark(m[3]) {
			return pair
		}
		struck = true
		return m[1] + m[2] + Struck
	})
	return kept, struck
}

// Of a million values, a few hold what the patterns look for. The functions below
// pass over most of the others: they say yes too often, and never no too often.

// inRun are the bytes that long's matches consist of, but for a "=" at the end.
var inRun = func() (all [256]bool) {
	for c := range all {
		all[c] = 'a' <= c|0x20 && c|0x20 <= 'z' || '0' <= c && c <= '9' || strings.IndexByte("+/_:-", byte(c)) >= 0
	}
	return all
}()

// holdsRun reports whether a value is worth a look by long.
func holdsRun[T string | []byte](value T) bool {
	const least = 24 // of what long matches
	run := 0
	for i := range len(value) {
		if !inRun[value[i]] {
			run = 0
		} else if run++; run == least {
			return true
		}
	}
	return false
}

// startsWord has the words that a secret's name may hold, by their first letter.
var startsWord = func() (all [256][]string) {
	for _, w := range append(words, ends...) {
		all[w[0]] = append(all[w[0]], w)
	}
	return all
}()

// mentions reports whether a text assigns something and holds, anywhere, a word that
// a secret's name may hold. It spells the text as Name spells names.
func mentions[T string | []byte](text T) bool {
	assigns := false
	for i := range len(text) {
		if text[i] == '=' || text[i] == ':' {
			assigns = true
			break
		}
	}
	if !assigns {
		return false
	}
	var room [256]byte
	low := room[:0]
	for i := range len(text) {
		switch c := text[i]; {
		case 'A' <= c && c <= 'Z':
			low = append(low, c|0x20)
		case c != '-' && c != '_' && c != '.':
			low = append(low, c)
		}
	}
	for i, c := range low {
		for _, w := range startsWord[c] {
			if len(low)-i >= len(w) && string(low[i:i+len(w)]) == w {
				return true
			}
		}
	}
	return false
}

// Keep returns what is kept of a value under a name, given whether a rule reads
// that name, and whether everything harmless is wanted.
func Keep(name, value string, read, all bool) (kept string, struck bool) {
	switch {
	case value == "" || IsMark(value):
		return value, false
	case read && Look(value):
		return Struck, true
	case read:
		return value, false
	case all:
		return Unknown(name, value)
	case Name(name) || Look(value):
		return Struck, true
	}
	return NotKept, false
}

// plainName is what names of fields, attributes and columns look like: words, with a short
// number at most.
var plainName = regexp.MustCompile(`^[@$]?[A-Za-z][A-Za-z_.;:@/() -]{0,63}[0-9]{0,2}$`)

// PlainName reports whether a name that no rule knows may be kept: in some places what
// looks like a name is somebody's data, and a password as well as anything.
func PlainName(name string) bool {
	return name == "" || IsMark(name) || plainName.MatchString(name) || oid.MatchString(name)
}

// plain is a word or a number: what may be quoted of a line that was not
// understood.
var plain = regexp.MustCompile(`^(?:[A-Za-z_]{1,32}|[-+]?[0-9]{1,20}(?:\.[0-9]+)?)? *$`)

// Plain reports whether a text is a word or a number.
func Plain(text []byte) bool { return plain.Match(text) }

// Quote writes what a message may say of something that was not understood: a
// word or a number as it is, of everything else only how long it is. It may be
// anything.
func Quote(text []byte) string {
	if Plain(text) {
		return fmt.Sprintf("%q", text)
	}
	if IsMark(string(text)) {
		return string(text)
	}
	if n := len([]rune(string(text))); n != 1 {
		return fmt.Sprintf("a text of %d characters", n)
	}
	return fmt.Sprintf("%q", text)
}
