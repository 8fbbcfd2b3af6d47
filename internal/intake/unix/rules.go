package unix

import (
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
)

// Modules that store a new local password, and those that check it.
var (
	storing  = []string{"pam_unix", "pam_tcb"}
	checking = []string{"pam_pwquality", "pam_cracklib"}
)

// elsewhere are modules that know accounts of other places only.
var elsewhere = []string{"pam_sss", "pam_ldap", "pam_winbind", "pam_krb5", "pam_fprintd", "pam_systemd_home"}

// answers returns what each module of a stack returns to an ordinary local
// user; told says otherwise for some.
func answers(told map[string]string) func(*call) string {
	return func(c *call) string {
		if code, ok := told[c.module]; ok {
			return code
		}
		switch {
		case c.module == "pam_deny", c.module == "pam_rootok", c.module == "pam_usertype" && slices.Contains(c.args, "issystem"):
			return refused
		case slices.Contains(elsewhere, c.module):
			return unknown
		case c.module == "pam_succeed_if":
			return succeedIf(c.args)
		case c.module == "pam_faillock" && c.has("authfail"):
			return ignored
		}
		return success
	}
}

// succeedIf answers the conditions on the user's number; others are taken to
// hold.
func succeedIf(args []string) string {
	const ordinary = 1000
	for i := 0; i+2 < len(args); i++ {
		n, err := strconv.Atoi(args[i+2])
		if args[i] != "uid" || err != nil {
			continue
		}
		holds := map[string]bool{"<": ordinary < n, "<=": ordinary <= n, ">": ordinary > n, ">=": ordinary >= n, "eq": ordinary == n, "ne": ordinary != n,
			"lt": ordinary < n, "le": ordinary <= n, "gt": ordinary > n, "ge": ordinary >= n, "=": ordinary == n, "!=": ordinary != n}
		if is, known := holds[args[i+1]]; known && !is {
			return refused
		}
	}
	return success
}

// Settings that come from the stack for a change of password.
var passwordSettings = []setting.ID{"min-length", "classes-required", "require-lower", "require-upper", "require-digit", "require-symbol",
	"name-check", "dictionary-check", "blocklist", "blocklist-size", "max-repeat", "max-sequence", "min-changed", "history", "hash-method"}

// changing are the services by which users change their password, and what
// stands for them where only the shared files were copied.
var changing = []string{"passwd", "common-password", "system-auth", "password-auth", "other"}

func (r *reader) hasStacks() bool {
	return slices.ContainsFunc(r.tree.Parts, func(p *intake.Part) bool { return strings.HasPrefix(p.Name, pamFolder) })
}

// passwordRules finds what is asked of a new password.
func (r *reader) passwordRules() {
	if !r.hasStacks() {
		return // not collected: no file of a module proves that it is called
	}
	var stack []call
	for _, service := range changing {
		p := r.tree.Find(pamFolder + service)
		if p == nil {
			continue
		}
		var err error
		if stack, err = r.pam.load(service, "password", 0, 0); err != nil {
			r.unreadable(cite(p, 1, service+" password", ""), "the stack cannot be followed: "+err.Error(), passwordSettings...)
			return
		}
		break
	}
	called, _ := play(stack, answers(nil))
	store := slices.IndexFunc(called, func(i int) bool { return slices.Contains(storing, stack[i].module) })
	if store < 0 {
		if len(stack) > 0 {
			r.unreadable(stack[0].cite, "no module of this stack stores a local password, so what is asked of one cannot be told", passwordSettings...)
		}
		return
	}
	storeAt := called[store]
	r.storage(&stack[storeAt])
	r.quality(stack, storeAt)
	r.history(stack, storeAt)
}

// obeyed reports whether the refusal of a module in a stack keeps a password
// from being stored.
func obeyed(stack []call, check, store int) bool {
	called, ok := play(stack, func(c *call) string {
		if c == &stack[check] {
			return badToken
		}
		return answers(nil)(c)
	})
	if ok || !slices.Contains(called, check) {
		return false
	}
	i, j := slices.Index(called, check), slices.Index(called, store)
	// use_authtok: with the password refused there is none to store.
	return j < 0 || i < j && stack[store].has("use_authtok")
}

// find returns the first call of one of the modules whose refusal counts, and
// failing that the first that is there at all.
func find(stack []call, modules []string, store int) (at int, counts bool) {
	at = -1
	for i := range stack {
		if slices.Contains(modules, stack[i].module) {
			if obeyed(stack, i, store) {
				return i, true
			}
			if at < 0 {
				at = i
			}
		}
	}
	return at, false
}

// hashArguments are pam_unix's own words for methods.
var hashArguments = map[string]string{"md5": "md5", "bigcrypt": "des", "sha256": "sha256", "sha512": "sha512", "blowfish": "bcrypt",
	"bcrypt": "bcrypt", "yescrypt": "yescrypt", "gost_yescrypt": "yescrypt"}

// hashMethods are login.defs' words.
var hashMethods = map[string]string{"DES": "des", "MD5": "md5", "SHA256": "sha256", "SHA512": "sha512", "BCRYPT": "bcrypt", "YESCRYPT": "yescrypt"}

// debianLength is the least length of Debian's pam_unix where it is told none.
const debianLength = 6

// storage reads what the storing module itself asks: a length, former
// passwords, a hash method.
func (r *reader) storage(c *call) {
	o := options{}.withArguments(c)
	length, at := int64(0), c.cite
	if c.has("obscure") || r.tree.Find("etc/debian_version") != nil {
		length = debianLength
	}
	if given, ok := o["minlen"]; ok {
		if n, err := strconv.ParseInt(given.value, 10, 32); err == nil {
			length, at = n, given.cite
		}
	}
	// The module holds root to neither.
	spared := c.cite
	spared.Note = "asked of everybody but root"
	r.set("min-length", setting.Number(0), spared, r.root)
	r.set("history", setting.Number(0), spared, r.root)
	r.set("min-length", setting.Number(length), at, r.rules)
	r.set("history", setting.Number(0), c.cite, r.rules)
	if given, ok := o["remember"]; ok {
		if n, err := strconv.ParseInt(given.value, 10, 32); err == nil {
			r.rules["history"] = estate.Fact{Value: setting.Number(n), Cite: given.cite}
		}
	}
	for name, method := range hashArguments {
		if given, ok := o[name]; ok {
			r.set("hash-method", setting.Word(method), given.cite, r.rules, r.root)
			return
		}
	}
	if given, ok := r.loginDefs()["ENCRYPT_METHOD"]; ok {
		if method, known := hashMethods[strings.ToUpper(given.value)]; known {
			r.set("hash-method", setting.Word(method), given.cite, r.rules, r.root)
		} else {
			r.unreadable(given.cite, "an unknown method", "hash-method")
		}
	}
}

// Defaults of the two modules that check quality, as their manuals give them.
var qualityDefaults = map[string]map[string]int64{
	"pam_pwquality": {"minlen": 8, "difok": 1, "dictcheck": 1, "usercheck": 1, "enforcing": 1},
	"pam_cracklib":  {"minlen": 9, "difok": 5, "dcredit": 1, "ucredit": 1, "lcredit": 1, "ocredit": 1, "dictcheck": 1, "usercheck": 1, "enforcing": 1},
}

// shortest is the least length that either module takes for minlen, and the
// least that the dictionary check lets through.
const shortest = 6

// quality reads what pam_pwquality or pam_cracklib asks of a new password.
func (r *reader) quality(stack []call, store int) {
	files := []string{}
	for _, p := range r.tree.Parts {
		if strings.HasPrefix(p.Name, "etc/security/pwquality.conf.d/") && strings.HasSuffix(p.Name, ".conf") {
			files = append(files, p.Name)
		}
	}
	sort.Strings(files)
	// The drop-ins are read first, so the file itself has the last word.
	file := r.fileOptions(append(files, "etc/security/pwquality.conf")...)
	at, counts := find(stack, checking, store)
	if !counts {
		r.noQuality(stack, at, store, file)
		return
	}
	c := &stack[at]
	o := options{}.withArguments(c)
	if c.module == "pam_pwquality" {
		o = file.withArguments(c)
	}
	q := &quality{r: r, o: o, c: c, defaults: qualityDefaults[c.module]}
	for name, v := range o {
		if slices.Contains(counted, name) {
			if _, err := strconv.ParseInt(v.value, 10, 32); err != nil {
				r.unreadable(v.cite, fmt.Sprintf("%s wants a whole number; the module refuses every change of password", name), passwordSettings...)
				return
			}
		}
	}
	into := []estate.Settings{r.rules}
	if _, ok := o["enforce_for_root"]; ok {
		into = append(into, r.root)
	} else {
		q.spared(r.root)
	}
	if n, enforcing := q.number("enforcing"); n == 0 {
		q.spared(r.rules)
		q.spared(r.root)
		r.remark(estate.NotObeyed, c.module, fmt.Sprintf("%s only warns: enforcing is 0, so it refuses nothing", c.module), "Set enforcing = 1.", passwordSettings, enforcing)
		return
	}
	q.rules(into)
	r.asks.rules = q.asks()
	if len(into) > 1 {
		r.asks.root = r.asks.rules
	}
}

// asks is what the module asks for that no setting holds.
func (q *quality) asks() *estate.Asks {
	a := &estate.Asks{Module: q.c.module, Length: max(q.count("minlen"), shortest), ClassRun: q.count("maxclassrepeat"), Personal: q.count("gecoscheck") != 0,
		NamePart: q.count("usersubstr"), Words: strings.Fields(q.o["badwords"].value), Cite: q.c.cite}
	for i, class := range classes {
		a.Credits[i] = max(q.count(class.credit), 0)
	}
	return a
}

// noQuality is what holds where no check of quality counts.
func (r *reader) noQuality(stack []call, at, store int, file options) {
	q := &quality{r: r, c: &stack[store]}
	q.spared(r.rules)
	q.spared(r.root)
	if at >= 0 {
		c := &stack[at]
		r.remark(estate.NotObeyed, c.module, fmt.Sprintf("%s is called, and its refusal is not obeyed: the stack stores the password all the same", c.module),
			"Call it as requisite before the module that stores the password, and give that one use_authtok.", passwordSettings, c.cite, stack[store].cite)
		return
	}
	if names := sortedNames(file); len(names) > 0 {
		r.remark(estate.NotCalled, "pam_pwquality", fmt.Sprintf("pwquality.conf sets %s, and no stack calls pam_pwquality: the file enforces nothing", strings.Join(names, ", ")),
			"Call pam_pwquality as requisite before the module that stores the password, or remove the file.", passwordSettings, file[names[0]].cite, stack[store].cite)
	}
}

func sortedNames(o options) []string {
	var names []string
	for name := range o {
		names = append(names, name)
	}
	sort.Strings(names)
	return names
}

// counted are the options that hold a whole number.
var counted = []string{"minlen", "difok", "dcredit", "ucredit", "lcredit", "ocredit", "minclass", "maxrepeat", "maxsequence", "maxclassrepeat",
	"gecoscheck", "dictcheck", "usercheck", "usersubstr", "enforcing"}

// quality is one call that checks quality, with its options.
type quality struct {
	r        *reader
	c        *call
	o        options
	defaults map[string]int64
}

// number returns an option's number and where it stands; the module's default
// stands where the module is called.
func (q *quality) number(name string) (int64, estate.Cite) {
	if v, ok := q.o[name]; ok {
		n, _ := strconv.ParseInt(v.value, 10, 32)
		return n, v.cite
	}
	at := q.c.cite
	at.Where, at.Note = name, "not set: the module's default"
	return q.defaults[name], at
}

// spared sets what holds where nothing is checked.
func (q *quality) spared(into estate.Settings) {
	for id, v := range map[setting.ID]setting.Value{
		"classes-required": setting.Number(0), "require-lower": setting.Number(0), "require-upper": setting.Number(0), "require-digit": setting.Number(0),
		"require-symbol": setting.Number(0), "name-check": setting.Off, "dictionary-check": setting.Word("off"), "max-repeat": setting.Of(setting.Unlimited),
		"max-sequence": setting.Of(setting.Unlimited), "min-changed": setting.Number(0), "blocklist": setting.Off, "blocklist-size": setting.Number(0),
	} {
		into[id] = estate.Fact{Value: v, Cite: q.c.cite}
	}
}

// classes are the four kinds of characters that pwquality tells apart.
var classes = []struct {
	credit string
	id     setting.ID
}{{"lcredit", "require-lower"}, {"ucredit", "require-upper"}, {"dcredit", "require-digit"}, {"ocredit", "require-symbol"}}

// longest bounds the lengths that are tried.
const longest = 128

// leastLength returns the length of the shortest password that is long enough.
// A class with a positive credit lets each of its characters count twice, up
// to so many; one with a negative credit must have so many.
func leastLength(asked int64, credits [4]int64, minclass int64) int {
	for n := 1; n < longest; n++ {
		for l := 0; l <= n; l++ {
			for u := 0; l+u <= n; u++ {
				for d := 0; l+u+d <= n; d++ {
					size, kinds, ok := int64(n), int64(0), true
					for i, have := range [4]int{l, u, d, n - l - u - d} {
						if have > 0 {
							kinds++
						}
						if credits[i] < 0 {
							ok = ok && int64(have) >= -credits[i]
						} else {
							size += min(int64(have), credits[i])
						}
					}
					if ok && size >= asked && kinds >= min(minclass, 4) {
						return n
					}
				}
			}
		}
		if int64(n) >= asked && credits == [4]int64{} {
			return n
		}
	}
	return longest
}

// count returns an option's number alone.
func (q *quality) count(name string) int64 {
	n, _ := q.number(name)
	return n
}

// rules sets what the module asks.
func (q *quality) rules(into []estate.Settings) {
	minlen, lengthAt := q.number("minlen")
	asked := max(minlen, shortest)
	var credits [4]int64
	given := int64(0)
	for i, class := range classes {
		n, at := q.number(class.credit)
		credits[i] = n
		given += max(n, 0)
		q.r.set(class.id, setting.Number(max(-n, 0)), at, into...)
	}
	least := int64(leastLength(asked, credits, q.count("minclass")))
	if given > 0 {
		lengthAt.Note = fmt.Sprintf("%d asked for, less what credits bring", asked)
	}
	dictionary, dictionaryAt := q.number("dictcheck")
	if dictionary != 0 && least < shortest {
		least, lengthAt = shortest, dictionaryAt
	}
	for _, s := range into {
		if before, _ := s["min-length"].Value.Number(); before <= least {
			s["min-length"] = estate.Fact{Value: setting.Number(least), Cite: lengthAt}
		}
	}
	q.r.set("dictionary-check", setting.Word(map[bool]string{true: "on", false: "off"}[dictionary != 0]), dictionaryAt, into...)
	for _, plain := range []struct {
		option string
		id     setting.ID
	}{{"minclass", "classes-required"}, {"difok", "min-changed"}} {
		n, at := q.number(plain.option)
		q.r.set(plain.id, setting.Number(max(n, 0)), at, into...)
	}
	for _, limit := range []struct {
		option string
		id     setting.ID
	}{{"maxrepeat", "max-repeat"}, {"maxsequence", "max-sequence"}} {
		n, at := q.number(limit.option)
		v := setting.Number(n)
		if n <= 0 {
			v = setting.Of(setting.Unlimited)
		}
		q.r.set(limit.id, v, at, into...)
	}
	user, userAt := q.number("usercheck")
	q.r.set("name-check", setting.Switch(user != 0), userAt, into...)
	if words, ok := q.o["badwords"]; ok {
		n := len(strings.Fields(words.value))
		q.r.set("blocklist", setting.Word("on"), words.cite, into...)
		q.r.set("blocklist-size", setting.Number(int64(n)), words.cite, into...)
	} else {
		q.r.set("blocklist", setting.Off, q.c.cite, into...)
		q.r.set("blocklist-size", setting.Number(0), q.c.cite, into...)
	}
}

// rememberedByDefault is how many passwords pam_pwhistory keeps where it is
// told no number.
const rememberedByDefault = 10

// history reads how many former passwords are refused: by pam_pwhistory, or by
// the storing module, whichever refuses more.
func (r *reader) history(stack []call, store int) {
	file := r.fileOptions("etc/security/pwhistory.conf")
	ids := []setting.ID{"history"}
	at, counts := find(stack, []string{"pam_pwhistory"}, store)
	if !counts {
		if at >= 0 {
			r.remark(estate.NotObeyed, "pam_pwhistory", "pam_pwhistory is called, and its refusal is not obeyed: the stack stores the password all the same",
				"Call it as required before the module that stores the password, and give that one use_authtok.", ids, stack[at].cite, stack[store].cite)
		} else if names := sortedNames(file); len(names) > 0 {
			r.remark(estate.NotCalled, "pam_pwhistory", fmt.Sprintf("pwhistory.conf sets %s, and no stack calls pam_pwhistory: the file enforces nothing", strings.Join(names, ", ")),
				"Call pam_pwhistory as required before the module that stores the password, or remove the file.", ids, file[names[0]].cite, stack[store].cite)
		}
		return
	}
	o := file.withArguments(&stack[at])
	n, c := int64(rememberedByDefault), stack[at].cite
	if given, ok := o["remember"]; ok {
		var err error
		if n, err = strconv.ParseInt(given.value, 10, 32); err != nil || n < 0 {
			r.unreadable(given.cite, "remember wants a whole number", ids...)
			return
		}
		c = given.cite
	}
	into := []estate.Settings{r.rules}
	if _, ok := o["enforce_for_root"]; ok {
		into = append(into, r.root)
	}
	for _, s := range into {
		if before, _ := s["history"].Value.Number(); n > before {
			s["history"] = estate.Fact{Value: setting.Number(n), Cite: c}
		}
	}
}
