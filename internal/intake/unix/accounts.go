package unix

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
	"sternledger/internal/redact"
)

const day = 24 * 60 * 60

// forever is from how many days on chage(1) says "never".
const forever = 10000

// loginDefs reads login.defs: a name and a value to a line.
func (r *reader) loginDefs() options {
	all := options{}
	p := r.file("etc/login.defs")
	if p == nil {
		return all
	}
	for i, text := range strings.Split(string(p.Data), "\n") {
		text = strings.TrimSpace(text)
		if f := strings.Fields(text); len(f) >= 2 && f[0][0] != '#' {
			all[f[0]] = option{strings.Trim(f[1], `"`), cite(p, i+1, f[0], text)}
		}
	}
	return all
}

// age is one field of shadow.
type age struct {
	id      setting.ID
	field   int // of shadow, from 0
	given   string
	file    string // other than login.defs
	value   func(days int64) setting.Value
	written map[setting.Special]string
}

// cited is the name under which evidence cites an account's own field.
func (a *age) cited() string { return "shadow field " + strconv.Itoa(a.field+1) }

// ageing are the settings that stand in an account's own line of shadow, and
// what gives them to new accounts.
var ageing = []age{
	{setting.MaxAge, 4, "PASS_MAX_DAYS", "", func(n int64) setting.Value {
		if n < 0 || n >= forever {
			return setting.Of(setting.Never)
		}
		return setting.Number(n * day)
	}, map[setting.Special]string{setting.Never: "99999", setting.AtOnce: "0"}},
	{setting.MinAge, 3, "PASS_MIN_DAYS", "", func(n int64) setting.Value {
		if n <= 0 {
			return setting.Of(setting.AtOnce)
		}
		return setting.Number(n * day)
	}, map[setting.Special]string{setting.Never: "99999", setting.AtOnce: "0"}},
	{setting.ExpiryWarning, 5, "PASS_WARN_AGE", "", func(n int64) setting.Value { return setting.Number(max(n, 0) * day) }, nil},
	{setting.InactiveDisable, 6, "INACTIVE", "etc/default/useradd", func(n int64) setting.Value {
		if n < 0 || n >= forever {
			return setting.Of(setting.Never)
		}
		return setting.Number(n * day)
	}, map[setting.Special]string{setting.Never: "-1"}},
}

// defaults makes the machine's own policy: what holds for everybody, and the
// ageing that a new account is given.
func (r *reader) defaults() {
	defs := r.loginDefs()
	useradd := r.assignments("etc/default/useradd")
	r.here.Head = &estate.Policy{Name: "machine", Origin: r.tree.Name + "/etc", Standing: estate.Enforced, Platform: setting.UnixMachine,
		Settings: r.rules, Asks: r.asks.rules,
		Cite: estate.Cite{File: r.tree.Parts[0].Stored, Line: 1, Where: "etc"}}
	for _, a := range ageing {
		file, of := "etc/login.defs", defs
		if a.file != "" {
			file, of = a.file, useradd
		}
		given, ok := of[a.given]
		if !ok {
			given, ok = of[strings.ToLower(a.given)]
		}
		if p := r.tree.Find(file); !ok && p != nil {
			at := cite(p, 1, a.given, "")
			at.Note = "not set: the default"
			r.set(a.id, a.value(-1), at, r.rules)
		}
		if !ok {
			continue
		}
		n, err := strconv.ParseInt(given.value, 10, 32)
		if err != nil {
			r.unreadable(given.cite, a.given+" is not a whole number of days", a.id)
			continue
		}
		r.set(a.id, a.value(n), given.cite, r.rules)
	}
	for _, a := range ageing {
		if _, given := r.rules[a.id]; given && r.unenforced(a) {
			r.rules[a.id] = r.neverEnds(a)
		}
	}
	if idle, ok := r.rules[setting.InactiveDisable]; ok && idle.Problem == "" && r.rules[setting.MaxAge].Value.Is(setting.Never) &&
		!idle.Value.Is(setting.Never) {
		at := r.rules[setting.MaxAge].Cite
		at.Note = "a password that never ends leaves nobody inactive"
		r.rules[setting.InactiveDisable] = estate.Fact{Value: setting.Of(setting.Never), Cite: at}
	}
}

// unenforced reports whether some door does not enforce a field of shadow.
func (r *reader) unenforced(a age) bool {
	return (r.ageless != nil || r.ageUnread != nil) && (a.id == setting.MaxAge || a.id == setting.InactiveDisable)
}

// neverEnds is what such a field comes to.
func (r *reader) neverEnds(a age) estate.Fact {
	if r.ageless == nil {
		return *r.ageUnread
	}
	at := *r.ageless
	at.Note = "whatever shadow says: this stack lets in accounts whose password has expired"
	return estate.Fact{Value: a.value(-1), Cite: at}
}

// unixGroup is one line of etc/group.
type unixGroup struct {
	gid     int64
	members []string
}

// unixGroups reads etc/group by name; of two lines the first counts.
func (r *reader) unixGroups() map[string]unixGroup {
	if r.byGroup != nil {
		return r.byGroup
	}
	r.byGroup = map[string]unixGroup{}
	p := r.tree.Find("etc/group")
	if p == nil {
		return r.byGroup
	}
	for _, text := range strings.Split(string(p.Data), "\n") {
		f := strings.Split(strings.TrimSuffix(text, "\r"), ":")
		if len(f) != 4 {
			continue
		}
		gid, err := strconv.ParseInt(f[2], 10, 64)
		if _, twice := r.byGroup[f[0]]; err == nil && !twice {
			r.byGroup[f[0]] = unixGroup{gid, strings.Split(f[3], ",")}
		}
	}
	return r.byGroup
}

// inGroup reports whether an account is in a group, by etc/group.
func (r *reader) inGroup(name string, gid int64, group string) bool {
	g, ok := r.unixGroups()[group]
	return ok && (g.gid == gid || name != "" && slices.Contains(g.members, name))
}

// person is one line of passwd with its line of shadow.
type person struct {
	name     string
	uid, gid uint32
	gecos    string
	shell    string
	part     *intake.Part // where the account's password stands
	line     int
	raw      string
	secret   string // the password field, struck out
	method   string // of the hash; empty: none
	aged     []string
	changed  int64 // days since 1970; -1 not known
	refused  bool  // the system takes no line of shadow such as this account's
}

// letsEmptyIn reports whether some door takes an empty password, or none is
// known.
func (r *reader) letsEmptyIn() bool {
	return len(r.doors) == 0 || slices.ContainsFunc(r.doors, func(d door) bool { return d.empty })
}

// mayEnter reports whether an account may have a password that lets it in.
func (who *person) mayEnter() bool {
	return !strings.HasPrefix(who.secret, "!") && !strings.HasPrefix(who.secret, "*")
}

// leastUID is the first number of ordinary accounts.
func (r *reader) leastUID() int64 {
	const usual = 1000
	if given, ok := r.loginDefs()["UID_MIN"]; ok {
		if n, err := strconv.ParseInt(given.value, 10, 32); err == nil {
			return n
		}
	}
	return usual
}

// accounts adds those of passwd, and the groups.
func (r *reader) accounts() {
	if r.tree.Find("etc/passwd") == nil {
		return
	}
	r.sudo = r.readSudoers()
	for i := range r.people {
		r.person(&r.people[i])
	}
	r.groups()
	r.newAccounts(r.people)
	r.oldHashes(r.people)
	r.datedAhead(r.people)
}

// readPeople reads passwd and shadow.
func (r *reader) readPeople() {
	shadow := r.shadow()
	p := r.tree.Find("etc/passwd")
	if p == nil {
		if len(shadow) > 0 {
			r.into.NotUnderstood(cite(r.tree.Find("etc/shadow"), 1, "", ""),
				"shadow without passwd: whose accounts these are is not known; copy both")
		}
		return
	}
	least := r.leastUID()
	r.into.StartFile(p.Stored)
	for i, text := range strings.Split(string(p.Data), "\n") {
		f := strings.Split(strings.TrimSuffix(text, "\r"), ":")
		if strings.HasPrefix(text, "+") {
			r.elsewhere = append(r.elsewhere, source{f[0], "passwd", cite(p, i+1, "passwd", f[0])})
		}
		if text == "" || text[0] == '#' || text[0] == '+' || text[0] == '-' {
			continue
		}
		if len(f) < 7 || f[0] == "" {
			r.into.NotUnderstood(cite(p, i+1, "passwd", ""), "a line of %d fields; expected 7", len(f))
			continue
		}
		uid, errU := strconv.ParseUint(f[2], 10, 32)
		gid, errG := strconv.ParseUint(f[3], 10, 32)
		if errU != nil || errG != nil {
			r.into.NotUnderstood(cite(p, i+1, "passwd", f[0]+":…:"+f[2]+":"+f[3]), "a user or group number that is not a number")
			continue
		}
		who := person{name: f[0], uid: uint32(uid), gid: uint32(gid), gecos: f[4], shell: cmp.Or(f[6], "/bin/sh"), part: p, line: i + 1,
			changed: -1}
		if f[1] == "x" {
			if at, ok := shadow[f[0]]; ok {
				who.part, who.line, who.secret, who.method, who.aged, who.changed, who.raw = at.part, at.line, at.secret, at.method, at.aged,
					at.changed, at.raw
				who.refused = at.refused
			} else {
				who.secret = "?"
			}
		} else {
			who.secret, who.method = struckHash(f[1])
		}
		if !who.mayEnter() && uid != 0 && (int64(uid) < least || uid == nobody) {
			continue // nobody ever had a password for it
		}
		r.people = append(r.people, who)
	}
}

const nobody = 65534

// person adds one account, under the policy that its ageing makes.
func (r *reader) person(who *person) {
	rec := &estate.Record{Class: estate.Account, DN: []byte(who.name), Name: []byte(who.name), RID: who.uid, Primary: who.gid, Line: who.line}
	rec.Display = []byte(who.gecos) // all of it: a module looks for its words
	switch {
	case who.secret == "" && r.letsEmptyIn():
		rec.Flags |= estate.EmptyPassword
	case who.secret == "":
		rec.Flags |= estate.Disabled // no module that checks a password takes an empty one
	case who.secret == "?":
		rec.Flags |= estate.NoControl
		if r.tree.Find("etc/shadow") != nil {
			rec.Flags |= estate.Disabled // without a line there, the right password lets nobody in
		}
	case strings.HasPrefix(who.secret, "!"), strings.HasPrefix(who.secret, "*"), who.refused, r.expired(who):
		rec.Flags |= estate.Disabled
	}
	r.ageOf(who, rec)
	if _, may := r.sudo.of(who); may || who.uid == 0 {
		rec.Flags |= estate.Administrator
	}
	r.into.StartFile(who.part.Stored)
	if policy := r.policyOf(who); policy != "" {
		rec.Applied = [][]byte{[]byte(policy)}
	}
	r.into.Object(r.at, rec)
}

// ageOf takes what an account's own line says of its password's age, and what keeps it
// from ways to sign in.
func (r *reader) ageOf(who *person, rec *estate.Record) {
	if !who.mayEnter() {
		rec.Traits |= estate.NoPassword
	}
	switch shell := path.Base(who.shell); {
	case slices.Contains(idle, shell):
		rec.Traits |= estate.NoSession
	case !slices.Contains(working, shell):
		rec.Traits |= estate.OddShell
	}
	if who.changed > 0 && who.changed < 1<<15 {
		rec.PwdSet = uint32(who.changed * day)
	}
	if who.aged == nil || who.refused {
		rec.Traits |= estate.NoLine
		return
	}
	if who.changed == 0 {
		rec.Flags |= estate.MustChange
	}
	field := func(n int) uint32 { // 1 + the number in it; 0: it is empty
		if days, ok := daysIn(who.aged[n]); ok && who.aged[n] != "" {
			return uint32(min(days, forever*forever)) + 1
		}
		return 0
	}
	rec.MaxDays, rec.IdleDays = field(shadowFields[setting.MaxAge]), field(shadowFields[setting.InactiveDisable])
	if ends := field(shadowFields[accountEnd]); ends > 0 { // 0 is a day of 1970 to the module, and has come
		rec.Ends = uint32(max(min(int64(ends-1), 1<<15)*day, 1))
	}
	newer, told := r.countsFromTheDay()
	if newer || !told { // where it is not known, what ends sooner
		rec.Traits |= estate.SameDay
	}
	switch {
	case who.aged[2] != "":
	case newer && told:
		rec.Traits |= estate.Ageless
	default:
		rec.Traits |= estate.NoDay
	}
}

// working are shells that let who has one work, and idle what ends at once. What others
// do is not known.
var (
	working = []string{"sh", "bash", "dash", "ash", "busybox", "rbash", "zsh", "ksh", "ksh93", "mksh", "fish", "tcsh", "csh"}
	idle    = []string{"nologin", "false", "true", "sync", "shutdown", "halt"}
)

// days is a number of days as the system's library reads it from shadow: blanks and a
// plus may stand before it, nothing may stand behind.
var days = regexp.MustCompile(`^[ \t]*\+?(\d{1,10})$`)

// daysIn reads a field of shadow; an empty one is -1.
func daysIn(field string) (n int64, ok bool) {
	if field == "" {
		return -1, true
	}
	m := days.FindStringSubmatch(field)
	if m == nil {
		return 0, false
	}
	n, err := strconv.ParseInt(m[1], 10, 64)
	return n, err == nil && n <= math.MaxUint32
}

// takes reports whether the system takes a line of shadow: it has nine fields, or the
// five of long ago, and each number is one. It lets nobody in by another line, as
// tried on Debian 11, 12 and 13.
func takes(f []string) bool {
	const whole, old = 9, 5
	if len(f) != whole && len(f) != old {
		return false
	}
	for _, text := range f[2:] {
		if _, ok := daysIn(text); !ok {
			return false
		}
	}
	return true
}

// today is the day of reading, from 1970; a variable for the tests.
var today = func() int64 { return time.Now().Unix() / day }

// expired reports whether an account had ended when the newest password of
// shadow was set: then it had ended when the file was copied, too.
func (r *reader) expired(who *person) bool {
	if len(who.aged) < 8 || who.aged[7] == "" {
		return false
	}
	end, ok := daysIn(who.aged[7])
	return ok && end <= r.newest
}

// policyOf returns the origin of the policy that governs an account; empty for
// the machine's own.
func (r *reader) policyOf(who *person) string {
	settings, asks, own := r.rules, r.asks.rules, "machine"
	if who.uid == 0 {
		settings, asks = r.root, r.asks.root
		if r.sameAsRules() {
			settings, asks = r.rules, r.asks.rules
		} else {
			own = "root"
		}
	}
	aged := maps.Clone(settings)
	if lock, group := r.lockOf(who); lock != nil {
		take(aged, lock)
		own = "group " + group
	}
	differs := false
	for _, a := range ageing {
		delete(aged, a.id)
		given, set := r.rules[a.id]
		if set && !who.mayEnter() { // there is no password that could grow old: it is as for those to come
			aged[a.id] = given
			continue
		}
		if who.aged == nil || who.refused {
			continue // not collected: login.defs says nothing of an account that is there
		}
		v, text := a.value(-1), who.aged[a.field]
		at := cite(who.part, who.line, a.cited(), text)
		if n, ok := daysIn(text); ok && text != "" { // each is one, or the line is not taken
			v = a.value(n)
		}
		if newer, told := r.countsFromTheDay(); who.aged[2] == "" && (newer || !told) {
			// An older module takes the password for older than any; where it is not known, the weaker counts.
			v, at = a.value(-1), cite(who.part, who.line, "shadow field 3", "")
			at.Note = "empty: ageing is switched off for the account"
		}
		if aged[a.id] = (estate.Fact{Value: v, Cite: at}); r.unenforced(a) {
			aged[a.id] = r.neverEnds(a)
			v = a.value(-1)
		}
		if a.id == setting.InactiveDisable && aged[setting.MaxAge].Value.Is(setting.Never) && v != a.value(-1) {
			v, at = a.value(-1), aged[setting.MaxAge].Cite // they count from the end of the password
			at.Note = "a password that never ends leaves nobody inactive"
			aged[a.id] = estate.Fact{Value: v, Cite: at}
		}
		differs = differs || who.mayEnter() && given.Value != v && (set || v != a.value(-1))
	}
	told := who.aged != nil && !who.refused || !who.mayEnter()
	if own == "machine" && !differs && told {
		for _, a := range ageing {
			// The accounts' own fields are what counts for them.
			if _, there := aged[a.id]; !there || r.rules[a.id].Cite.File == aged[a.id].Cite.File {
				continue
			}
			r.rules[a.id] = aged[a.id]
		}
		return ""
	}
	name := own
	if differs || !told {
		text := "not in the evidence"
		switch {
		case who.refused:
			text = "line not taken"
		case told:
			text = strings.TrimRight(strings.Join(who.aged[3:7], ":"), ":")
			if who.aged[2] == "" {
				text = "no ageing"
			}
		}
		if own == "machine" {
			name = "shadow " + text
		} else {
			name += ", shadow " + text
		}
	}
	if !r.ageings[name] && len(r.ageings) >= mostAgeings && told {
		name = own + ", further ages in shadow"
	}
	origin := []byte(r.tree.Name + "/etc/shadow#" + name)
	p := r.into.Override(r.at, origin, who.line)
	switch {
	case p.Name != name:
		p.Name, p.Standing, p.Settings, p.Asks = name, estate.Enforced, aged, asks
		if r.ageings[name] = true; len(r.ageings) > mostAgeings {
			r.remark(estate.NotModelled, name, fmt.Sprintf("shadow has more than %d different ages of passwords: the accounts that come after those "+
				"are taken together, under the weakest of theirs", mostAgeings), "Give accounts that are alike the same ages, with chage.",
				[]setting.ID{setting.MaxAge, setting.MinAge, setting.InactiveDisable, setting.ExpiryWarning}, aged[setting.MaxAge].Cite)
		}
	case len(r.ageings) > mostAgeings && name == own+", further ages in shadow":
		for _, a := range ageing {
			if a.weaker(aged[a.id].Value, p.Settings[a.id].Value) {
				p.Settings[a.id] = aged[a.id]
			}
		}
	}
	return string(origin)
}

// mostAgeings is how many different ages of passwords a machine's accounts have a policy
// of their own for. No machine has as many.
const mostAgeings = 1000

// weaker reports whether one value lets a password grow older, or be changed back sooner,
// than another.
func (a *age) weaker(x, y setting.Value) bool {
	days := func(v setting.Value) int64 {
		n, finite := v.Number()
		if !finite && v.Is(setting.Never) {
			return math.MaxInt64
		}
		return n
	}
	if a.id == setting.MaxAge || a.id == setting.InactiveDisable {
		return days(x) > days(y)
	}
	return days(x) < days(y)
}

// sameAsRules reports whether root is spared nothing.
func (r *reader) sameAsRules() bool {
	for id, f := range r.root {
		if r.rules[id].Value != f.Value {
			return false
		}
	}
	for id := range r.rules {
		aged := slices.ContainsFunc(ageing, func(a age) bool { return a.id == id })
		if _, ok := r.root[id]; !ok && !aged {
			return false
		}
	}
	return true
}

// shadow reads what is kept of the accounts' password fields, and their ageing.
func (r *reader) shadow() map[string]person {
	p := r.tree.Find("etc/shadow")
	if p == nil {
		return nil
	}
	all := map[string]person{}
	for i, text := range strings.Split(string(p.Data), "\n") {
		text = strings.TrimSuffix(text, "\r")
		f := strings.Split(text, ":")
		if len(f) < 2 {
			if strings.TrimSpace(text) != "" {
				r.into.NotUnderstood(cite(p, i+1, "shadow", ""), "a line that is not one of shadow's")
			}
			continue
		}
		who := person{name: f[0], part: p, line: i + 1, changed: -1}
		who.secret, who.method = struckHash(f[1])
		who.raw = text
		if who.refused = !takes(f); who.refused {
			r.into.NotUnderstood(cite(p, i+1, "shadow", text), "a line that the system does not take (%d fields of 9, numbers of days from 0 on): "+
				"nobody signs in as %s", len(f), f[0])
		}
		if len(f) < 8 {
			f = append(f, "", "", "", "", "", "", "")
		}
		who.aged = f[:8]
		if n, ok := daysIn(f[2]); ok && n >= 0 {
			who.changed = n
			if n <= today() { // else one date to come would end every account that ever ends
				r.newest = max(r.newest, n)
			}
		}
		if first, twice := all[f[0]]; twice {
			r.into.NotUnderstood(cite(p, i+1, "shadow", text), "a second line for an account; the one in line %d counts", first.line)
			continue
		}
		all[f[0]] = who
	}
	return all
}

// hashForm takes a password field apart: locked or not, the method's prefix,
// the rest.
var hashForm = regexp.MustCompile(`^(!*)(\$[0-9a-z]+\$|_)?(.*)$`)

// prefixes of crypt(5).
var prefixes = map[string]string{"$1$": "md5", "$2$": "bcrypt", "$2a$": "bcrypt", "$2b$": "bcrypt", "$2x$": "bcrypt", "$2y$": "bcrypt",
	"$5$": "sha256", "$6$": "sha512", "$y$": "yescrypt", "$gy$": "yescrypt", "$7$": "bcrypt", "_": "des", "": "des"}

// struckHash returns a password field without what is secret in it, and the
// method of its hash.
func struckHash(field string) (kept, method string) {
	m := hashForm.FindStringSubmatch(field)
	if m == nil {
		return redact.Struck, ""
	}
	switch rest := m[3]; {
	case m[2] == "" && (rest == "" || strings.HasPrefix(rest, "*") && len(rest) <= 4 || rest == "x"):
		return field, ""
	case rest == "":
		return field, ""
	}
	return m[1] + m[2] + redact.Struck, prefixes[m[2]]
}

// groups reads who is in which group, for the tiers.
func (r *reader) groups() {
	p := r.tree.Find("etc/group")
	if p == nil {
		return
	}
	r.into.StartFile(p.Stored)
	for i, text := range strings.Split(string(p.Data), "\n") {
		f := strings.Split(strings.TrimSuffix(text, "\r"), ":")
		if len(f) != 4 {
			continue
		}
		gid, err := strconv.ParseUint(f[2], 10, 32)
		if err != nil {
			r.into.NotUnderstood(cite(p, i+1, "group", f[0]), "a group number that is not a number")
			continue
		}
		row := r.into.Object(r.at, &estate.Record{Class: estate.Group, DN: []byte("group " + f[0]), Name: []byte(f[0]),
			RID: uint32(gid), GroupType: estate.SecurityGroup, Line: i + 1})
		for _, m := range strings.Split(f[3], ",") {
			if m = strings.TrimSpace(m); m != "" {
				r.into.Member(r.at, row, []byte(m), i+1)
			}
		}
	}
}

// newAccounts remarks where the accounts that are there age otherwise than
// login.defs gives new ones.
func (r *reader) newAccounts(people []person) {
	defs := r.loginDefs()
	var names, words []string
	var ids []setting.ID
	var at []estate.Cite
	for _, a := range ageing[:3] {
		given, ok := defs[a.given]
		n, err := strconv.ParseInt(given.value, 10, 32)
		if !ok || err != nil {
			continue
		}
		differ := false
		for _, who := range people {
			if who.aged == nil || strings.HasPrefix(who.secret, "!") || strings.HasPrefix(who.secret, "*") {
				continue
			}
			own, ok := daysIn(who.aged[a.field])
			if who.aged[2] == "" {
				own = -1
			} else if !ok {
				continue
			}
			if a.value(own) == a.value(n) {
				continue
			}
			if !differ {
				at = append(at, given.cite, cite(who.part, who.line, a.cited(), who.aged[a.field]))
			}
			differ = true
			if !slices.Contains(names, who.name) {
				names = append(names, who.name)
			}
		}
		if differ {
			row := setting.Get(a.id)
			ids, words = append(ids, a.id), append(words, strings.ToLower(row.Title)+": "+row.Text(a.value(n)))
		}
	}
	if len(names) > 0 {
		r.remark(estate.NewAccountsOnly, "", fmt.Sprintf("login.defs gives new accounts %s; accounts that are there have another in shadow: %s",
			strings.Join(words, ", "),
			strings.Join(names[:min(len(names), 5)], ", ")), "Set the accounts' own fields with chage; login.defs reaches new accounts only.",
			ids, at...)
		r.here.Remarks[len(r.here.Remarks)-1].Accounts = names
	}
}

// oldHashes remarks on passwords that are stored in a weaker way than new ones
// are.
func (r *reader) oldHashes(people []person) {
	f, ok := r.rules[setting.HashMethod]
	if !ok || !f.Value.IsSet() {
		return
	}
	var names []string
	at := []estate.Cite{f.Cite}
	row := setting.Get(setting.HashMethod)
	for _, who := range people {
		if who.method == "" {
			continue
		}
		if order, ok := row.Compare(setting.Word(who.method), f.Value); ok && order < 0 {
			names = append(names, who.name+" ("+who.method+")")
			at = append(at, cite(who.part, who.line, "shadow field 2", who.secret))
		}
	}
	if len(names) == 0 {
		return
	}
	method, _ := f.Value.Word()
	r.remark(estate.OldHash, "", fmt.Sprintf("new passwords are hashed with %s; stored in a weaker way: %s", method,
		strings.Join(names[:min(len(names), 5)], ", ")),
		"Have these passwords changed; only then are they hashed anew.", []setting.ID{setting.HashMethod}, at[:min(len(at), 6)]...)
	for _, n := range names {
		name, _, _ := strings.Cut(n, " ")
		last := &r.here.Remarks[len(r.here.Remarks)-1]
		last.Accounts = append(last.Accounts, name)
	}
}

// datedAhead remarks on passwords whose last change lies after the day of
// reading: they age from a day that has not come.
func (r *reader) datedAhead(people []person) {
	var names, told []string
	var at []estate.Cite
	for _, who := range people {
		if who.changed <= today() || !who.mayEnter() {
			continue
		}
		names = append(names, who.name)
		told = append(told, who.name+" ("+time.Unix(who.changed*day, 0).UTC().Format(time.DateOnly)+")")
		at = append(at, cite(who.part, who.line, "shadow field 3", strconv.FormatInt(who.changed, 10)))
	}
	if len(names) == 0 {
		return
	}
	r.remark(estate.DatedAhead, "", "the last change of a password is dated in the future: "+strings.Join(told[:min(len(told), 5)], ", "),
		"Find out who dated it so and why, and have the password changed now: until then its age counts from a day that has not come.",
		[]setting.ID{setting.MaxAge}, at[:min(len(at), 5)]...)
	r.here.Remarks[len(r.here.Remarks)-1].Accounts = names
}
