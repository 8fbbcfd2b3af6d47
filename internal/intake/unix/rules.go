package unix

import (
	"cmp"
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
	checking = []string{"pam_pwquality", "pam_cracklib", "pam_passwdqc"}
)

// Settings that come from the stack for a change of password.
var passwordSettings = []setting.ID{setting.MinLength, setting.ClassesRequired, setting.RequireLower, setting.RequireUpper, setting.RequireDigit, setting.RequireSymbol,
	setting.NameCheck, setting.DictionaryCheck, setting.Blocklist, setting.BlocklistSize, setting.MaxRepeat, setting.MaxSequence, setting.MinChanged, setting.History,
	setting.HashMethod, setting.HashRounds}

// ofQuality reports whether a setting is one that a module which checks quality
// decides.
func ofQuality(id setting.ID) bool {
	return id != setting.History && id != setting.HashMethod && id != setting.HashRounds
}

// changing are the services by which users change their password, and what
// stands for them where only the shared files were copied.
var changing = []string{"passwd", "common-password", "system-auth", "password-auth", "other"}

func (r *reader) hasStacks() bool { return len(r.pam.names) > 0 }

// notGathered is why a default is not taken for granted.
const (
	notGathered    = "etc/security was not gathered, and the module's file may say otherwise"
	gatherSecurity = "Copy etc/security too, and gather the machine again."
)

// hasSecurity reports whether the modules' files were gathered: where the folder
// is there, a file that is not in it is none.
func (r *reader) hasSecurity() bool {
	return slices.ContainsFunc(r.tree.Parts, func(p *intake.Part) bool {
		return strings.HasPrefix(p.Name, "etc/security/") || strings.HasPrefix(p.Name, "usr/etc/security/")
	})
}

// passwordRules finds what is asked of a new password: by passwd, and by every other service
// that has one changed, such as one that lets somebody in whose password has ended. What the
// weakest of them asks is what holds.
func (r *reader) passwordRules() {
	if !r.hasStacks() {
		return // not collected: no file of a module proves that it is called
	}
	var first string
	for _, service := range changing {
		p := r.pam.find(service)
		if p == nil {
			continue
		}
		stack, err := r.pam.stack(service, "password")
		if err != nil {
			r.unreadable(cite(p, 1, service+" password", ""), "the stack cannot be followed: "+err.Error(), passwordSettings...)
			return
		}
		if first = service; r.ofChange(stack) != stores {
			return
		}
		break
	}
	if first == "" {
		return
	}
	r.furtherChanges(first)
}

// changes is what a stack for a change of password comes to.
type changes int

const (
	stores  changes = iota // a local password, under the rules that were set
	none                   // nobody's local password
	notTold                // too many modules are not known
)

// ofChange sets what a stack asks of a new password.
func (r *reader) ofChange(stack []call) changes {
	ways, doubtful := r.worlds(stack, r.ordinary())
	if ways == nil {
		r.unreadable(stack[0].cite, fmt.Sprintf("what %s answer is not known, and too many of them are called to play all",
			strings.Join(doubtful, ", ")), passwordSettings...)
		return notTold
	}
	store, storeAt := -1, 0
	for _, w := range ways {
		called, _ := play(stack, w.answer(nil))
		if store = slices.IndexFunc(called, func(i int) bool { return slices.Contains(storing, stack[i].module) }); store >= 0 {
			storeAt = called[store]
			break
		}
	}
	if store < 0 {
		if len(stack) > 0 {
			r.unreadable(stack[0].cite, "no module of this stack stores a local password, so what is required of one is not known",
				passwordSettings...)
		}
		return none
	}
	if !slices.ContainsFunc(ways, func(w world) bool { _, ok, stored := w.change(stack, storeAt, nil); return ok && stored }) {
		r.unreadable(stack[storeAt].cite,
			"nobody can change a password by this stack: a module that is told use_authtok finds none, or one refuses everybody",
			passwordSettings...)
		return none
	}
	r.storage(&stack[storeAt])
	r.quality(stack, storeAt)
	r.history(stack, storeAt)
	if len(doubtful) > 0 {
		r.doubtfulPassword(stack, storeAt, doubtful)
	}
	return stores
}

// changers are services of which it is known that they have a password changed: they call
// pam_chauthtok, for whoever asks, or where a password has ended. notChangers are known not to.
var (
	changers = strings.Fields("passwd chpasswd login remote sshd su su-l sudo sudo-i gdm gdm-password gdm3 lightdm sddm kdm xdm lxdm slim wdm " +
		"greetd ly cockpit cockpit-ws webmin xrdp-sesman")
	notChangers = strings.Fields("polkit-1 vlock screen xscreensaver gnome-screensaver i3lock swaylock kscreenlocker kde kcheckpass config-util cups " +
		"ppp vmtoolsd dovecot imap pop3 smtp smtp.postfix squid proftpd vsftpd xserver setup subscription-manager sssd-shadowutils mate-screensaver " +
		"cinnamon-screensaver light-locker gdm-launch-environment gdm-autologin lightdm-autologin lightdm-greeter sddm-greeter sddm-autologin " +
		"gdm-fingerprint gdm-smartcard gdm-pin reboot halt poweroff liveinst rhn_register system-config-users authconfig neat httpd")
)

// byService is what one service asks of a new password.
type byService struct {
	service     string
	sure        bool // it is known that it has passwords changed
	rules, root estate.Settings
	asks        struct{ rules, root *estate.Asks }
}

// furtherChanges plays the other services that have a password changed, and keeps of each
// setting the weakest.
func (r *reader) furtherChanges(first string) {
	at := func() byService { return byService{first, true, r.rules, r.root, r.asks} }
	own := at()
	seen := map[string]bool{r.signature(first): true}
	if s := r.sshd(); s != nil && !s.pam {
		seen[r.signature("sshd")] = true // it runs passwd for that
	}
	var others []byService
	for _, service := range r.pam.names {
		if service == first || slices.Contains(notChangers, service) || slices.Contains(shared, service) || strings.HasPrefix(service, "common-") ||
			service == "other" || slices.Contains(noDoor, service) && !slices.Contains(changers, service) {
			continue
		}
		key := r.signature(service)
		if key == "" || seen[key] { // it changes none, or as another does
			continue
		}
		seen[key] = true
		stack, err := r.pam.stack(service, "password")
		if err != nil || len(stack) == 0 {
			continue // Linux-PAM refuses the service
		}
		problems, remarks := len(r.into.Problems), len(r.here.Remarks)
		r.rules, r.root, r.asks = estate.Settings{}, estate.Settings{}, struct{ rules, root *estate.Asks }{}
		kind := r.ofChange(stack)
		if kind != none {
			x := at()
			x.service, x.sure = service, slices.Contains(changers, service)
			others = append(others, x)
		} else { // it is no door: what was said of it is beside the point
			r.into.Problems, r.here.Remarks = r.into.Problems[:problems], r.here.Remarks[:remarks]
		}
	}
	r.rules, r.root, r.asks = own.rules, own.root, own.asks
	for _, x := range others {
		if x.rules[setting.MinLength].Problem == "" && weakerFact(setting.MinLength, x.rules, r.rules) && x.sure {
			r.asks = x.asks
		}
		var less []string
		var asks []setting.ID
		for _, id := range passwordSettings {
			if row := setting.Get(id); x.sure && weakerFact(id, x.rules, r.rules) {
				asks = append(asks, id)
				less = append(less, fmt.Sprintf("%s %s instead of %s", strings.ToLower(row.Title), row.Text(x.rules[id].Value), row.Text(r.rules[id].Value)))
			}
			weakestOf(id, r.rules, x.rules, x)
			weakestOf(id, r.root, x.root, x)
		}
		if len(less) > 0 {
			r.remark(estate.DoorsDiffer, "changes by "+x.service, fmt.Sprintf("%s has passwords changed too, and asks less than %s: %s. Whoever wants a weak "+
				"password takes that way", x.service, first, strings.Join(less, ", ")), "Give "+x.service+" the same password stack as "+first+".", asks,
				x.rules[asks[0]].Cite)
		}
	}
}

// signature tells stacks for a change of password apart by the lines that they are made of;
// empty: it has none, or cannot be followed.
func (r *reader) signature(service string) string {
	if r.pam.find(service) == nil {
		return ""
	}
	stack, err := r.pam.stack(service, "password")
	if err != nil {
		return ""
	}
	var b strings.Builder
	for _, c := range stack {
		fmt.Fprintf(&b, "%s:%d %v %d\n", c.cite.File, c.cite.Line, c.opens, c.level)
	}
	return b.String()
}

// weakerFact reports whether a setting is weaker in one than in the other, both being known.
func weakerFact(id setting.ID, x, than estate.Settings) bool {
	a, hasA := x[id]
	b, hasB := than[id]
	if !hasA || !hasB || a.Problem != "" || b.Problem != "" {
		return false
	}
	order, ok := setting.Get(id).Compare(a.Value, b.Value)
	return ok && order < 0
}

// weakestOf takes over what another service asks where that is less, or is not known to be as
// much.
func weakestOf(id setting.ID, into, other estate.Settings, by byService) {
	x, has := other[id]
	was, had := into[id]
	if !had || was.Problem != "" {
		return
	}
	note := "by " + by.service + ", which has passwords changed too, and asks less"
	switch {
	case !has || x.Problem != "":
		if x.Problem == "" {
			x = estate.Fact{Cite: other[setting.MinLength].Cite, Problem: by.service + " has passwords changed too, and what it asks of this is not known"}
		}
		into[id] = x
	case !weakerFact(id, other, into):
	case by.sure:
		x.Cite.Note = note
		into[id] = x
	default:
		into[id] = estate.Fact{Cite: x.Cite, Problem: "the service " + by.service + " asks less of a new password, if it has one changed at all: " +
			"whether it does is not known", Remedy: "Give " + by.service + " the same stack as passwd, or find out whether it changes passwords."}
	}
}

// doubtfulPassword says what modules that are not modelled leave open of a new
// password. They can only ask for more than the others do, if those are
// obeyed whatever they answer; what nobody else asks for is not known.
func (r *reader) doubtfulPassword(stack []call, store int, doubtful []string) {
	names := strings.Join(doubtful, ", ")
	first := slices.IndexFunc(stack, func(c call) bool { return slices.Contains(doubtful, c.module) })
	at := stack[first].cite
	if len(r.counting(stack, checking, store)) == 0 {
		for _, id := range passwordSettings {
			if !ofQuality(id) {
				continue
			}
			for _, s := range []estate.Settings{r.rules, r.root} {
				s[id] = estate.Fact{Cite: at, Problem: "what " + names + " refuses is not known",
					Remedy: "Try it on the machine, or let pam_pwquality check first."}
			}
		}
	}
	r.remark(estate.NotModelled, "password "+names,
		fmt.Sprintf("the stack for a change of password calls %s: what it refuses, and whether the modules after it are asked, "+
			"cannot be told. Whatever its answers are was played, and what is said here holds in each case", names),
		"Try it on the machine; or ask the module's author what it refuses.", passwordSettings, at)
}

// obeyed reports whether the refusal of a module in a stack keeps a password
// from being stored, whatever those answer of which that is not known.
func (r *reader) obeyed(stack []call, check, store int) bool {
	ways, _ := r.worlds(stack, r.ordinary())
	for _, w := range ways {
		if _, _, stored := w.change(stack, store, nil); stored && !w.obeyed(stack, check, store) {
			return false
		}
	}
	return len(ways) > 0
}

// asking are the modules that ask for a new password where none was asked for
// yet. With use_authtok they fail instead.
var asking = append([]string{"pam_pwhistory"}, append(storing, checking...)...)

// change plays a change of password, in which one module refuses it (nil:
// none does): who is called, whether the stack succeeds, and whether the
// password is stored.
func (w world) change(stack []call, store int, refuses *call) (called []int, ok, stored bool) {
	asked := false
	called, ok = play(stack, func(c *call) string {
		code := w.answer(nil)(c)
		switch {
		case code == ignored && slices.Contains(asking, c.module):
			// It keeps no passwords, and does not look for one.
		case c == refuses:
			// With the password refused there is none; but pam_passwdqc leaves there
			// what a module before it asked for (tried).
			asked = asked && c.module == "pam_passwdqc"
			return badToken
		case slices.Contains(asking, c.module) && !asked && c.has("use_authtok"):
			return badToken
		case slices.Contains(asking, c.module):
			asked = true
		case w.codes[c] == success: // of a module that is not known: it may ask, too
			asked = true
		}
		stored = stored || c == &stack[store] && code == success
		return code
	})
	return called, ok, stored
}

func (w world) obeyed(stack []call, check, store int) bool {
	called, ok, stored := w.change(stack, store, &stack[check])
	return !ok && !stored && slices.Contains(called, check)
}

// counting returns the calls of some modules whose refusal counts.
func (r *reader) counting(stack []call, modules []string, store int) (all []int) {
	for i := range stack {
		if slices.Contains(modules, stack[i].module) && r.obeyed(stack, i, store) {
			all = append(all, i)
		}
	}
	return all
}

// hashArguments are pam_unix's own words for methods.
var hashArguments = map[string]string{"md5": "md5", "bigcrypt": "des", "sha256": "sha256", "sha512": "sha512", "blowfish": "bcrypt",
	"bcrypt": "bcrypt", "yescrypt": "yescrypt", "gost_yescrypt": "yescrypt"}

// hashMethods are login.defs' words.
var hashMethods = map[string]string{"DES": "des", "MD5": "md5", "SHA256": "sha256", "SHA512": "sha512", "BCRYPT": "bcrypt",
	"YESCRYPT": "yescrypt"}

// debianLength is the least length of Debian's pam_unix where it is told none.
const debianLength = 6

// storage reads what the storing module itself asks: a length, former
// passwords, a hash method.
func (r *reader) storage(c *call) {
	o := bare(c)
	length, at := r.ownLength(c)
	// The module holds root to neither.
	spared := c.cite
	spared.Note = "asked of everybody but root"
	r.set(setting.MinLength, setting.Number(0), spared, r.root)
	r.set(setting.History, setting.Number(0), spared, r.root)
	r.set(setting.MinLength, setting.Number(length), at, r.rules)
	r.set(setting.History, setting.Number(0), c.cite, r.rules)
	if given, ok := o["remember"]; ok {
		n, _ := r.unixNumber(given.value)
		r.rules[setting.History] = estate.Fact{Value: setting.Number(max(n, 0)), Cite: given.cite}
	}
	r.rounds(c, o)
	if name, ok := hashTold(c); ok {
		r.set(setting.HashMethod, setting.Word(hashArguments[name]), o[name].cite, r.rules, r.root)
		return
	}
	if given, ok := r.loginDefs()["ENCRYPT_METHOD"]; ok {
		if method, known := hashMethods[strings.ToUpper(given.value)]; known {
			r.set(setting.HashMethod, setting.Word(method), given.cite, r.rules, r.root)
		} else {
			r.unreadable(given.cite, "an unknown method", setting.HashMethod)
		}
	}
}

// rounds reads how costly new hashes are: what the module is told, and failing
// that login.defs. What pam_unix reads there was tried: the most rounds of SHA, not
// the least, where the method stands there too; the cost of yescrypt from Linux-PAM
// 1.7 on.
func (r *reader) rounds(c *call, o options) {
	defs := r.loginDefs()
	given, ok := o["rounds"]
	sha := strings.HasPrefix(strings.ToUpper(defs["ENCRYPT_METHOD"].value), "SHA")
	method, told := hashTold(c)
	yescrypt := method == "yescrypt"
	switch before, known := r.beforeWholeNumbers(); {
	case ok:
	case sha && !yescrypt:
		given, ok = defs["SHA_CRYPT_MAX_ROUNDS"]
	case known && !before && (yescrypt || !told && strings.EqualFold(defs["ENCRYPT_METHOD"].value, "YESCRYPT")):
		given, ok = defs["YESCRYPT_COST_FACTOR"]
	}
	if !ok {
		return
	}
	if n, _ := r.unixNumber(given.value); n > 0 {
		r.set(setting.HashRounds, setting.Number(n), given.cite, r.rules, r.root)
	}
}

// hashTold returns the argument that names a method, and whether there is one: of
// several the last counts.
func hashTold(c *call) (string, bool) {
	for _, arg := range slices.Backward(c.args) {
		name, _, _ := strings.Cut(arg, "=")
		if hashArguments[name] != "" {
			return name, true
		}
	}
	return "", false
}

// ownRules is what the storing module asks of users beside a history; nil:
// nothing.
func (r *reader) ownRules(c *call) *estate.Asks {
	length, at := r.ownLength(c)
	if length == 0 {
		return nil
	}
	return &estate.Asks{Module: c.module, Length: length, Cite: at}
}

// ownLength is the least length that the storing module asks of users. That is
// all it asks: with obscure it should look at kinds of characters and at the old
// password too, by its manual, and on Debian 11, 12 and 13 it does not (tried).
func (r *reader) ownLength(c *call) (length int64, at estate.Cite) {
	length, at = 0, c.cite
	if c.has("obscure") || r.tree.Find("etc/debian_version") != nil {
		length = debianLength
	}
	if given, ok := bare(c)["minlen"]; ok {
		n, why := r.unixNumber(given.value)
		if length, at = n, given.cite; why != "" {
			r.slipped(&grammar{module: "pam_unix"}, []slip{{cite: at, why: why}}, []setting.ID{setting.MinLength})
		}
	}
	return length, at
}

// shortest is the least length that either module takes for minlen, and the
// least that the dictionary check lets through.
const shortest = 6

// demand is what one call of a module asks of a new password, and of whom.
type demand struct {
	settings estate.Settings
	asks     estate.Asks
	ofRoot   bool
}

// quality reads what the modules that check quality ask of a new password. Of
// several that are obeyed, each is.
func (r *reader) quality(stack []call, store int) {
	files := []string{}
	later, _ := r.has(noCredits)
	for _, p := range r.tree.Parts {
		if later && strings.HasPrefix(p.Name, "etc/security/pwquality.conf.d/") && strings.HasSuffix(p.Name, ".conf") {
			files = append(files, p.Name)
		}
	}
	sort.Strings(files)
	// The drop-ins are read first, so the file itself has the last word.
	file, slips := r.files(r.pwquality(), append(files, "etc/security/pwquality.conf")...)
	spared(&stack[store], r.rules, r.root)
	counting := r.counting(stack, checking, store)
	if len(counting) == 0 {
		at := slices.IndexFunc(stack, func(c call) bool { return slices.Contains(checking, c.module) })
		r.noQuality(stack, at, store, file)
	}
	for _, i := range counting {
		var d *demand
		switch c := &stack[i]; c.module {
		case "pam_passwdqc":
			d = r.byPasswdqc(c)
		default:
			d = r.byQuality(c, file, slips)
		}
		if d == nil {
			continue
		}
		stricter(r.rules, d.settings)
		r.asks.rules = also(r.asks.rules, d.asks)
		if d.ofRoot {
			stricter(r.root, d.settings)
			r.asks.root = also(r.asks.root, d.asks)
			continue
		}
		for id := range d.settings { // root is spared it
			if f, ok := r.root[id]; ok && f.Remedy == "" && f.Value != d.settings[id].Value {
				mend(r.root, id, "Set "+forRoot[stack[i].module]+" for "+stack[i].module+", so that root is held to it, too.")
			}
		}
	}
	if own := r.ownRules(&stack[store]); own != nil {
		r.asks.rules = also(r.asks.rules, *own)
	}
}

// forRoot are the options that hold root to what a module asks.
var forRoot = map[string]string{"pam_pwquality": "enforce_for_root", "pam_cracklib": "enforce_for_root",
	"pam_pwhistory": "enforce_for_root", "pam_passwdqc": "enforce=everyone"}

// also adds what a further module asks.
func also(to *estate.Asks, more estate.Asks) *estate.Asks {
	if to == nil {
		return &more
	}
	to.Further = append(to.Further, more)
	return to
}

// stricter takes of two demands the stricter, setting by setting.
func stricter(into, from estate.Settings) {
	for id, f := range from {
		before, ok := into[id]
		order, comparable := setting.Get(id).Compare(f.Value, before.Value)
		if !ok || f.Problem != "" || before.Problem == "" && comparable && order > 0 {
			into[id] = f
		}
	}
}

// byPasswdqc reads a call of pam_passwdqc.
func (r *reader) byPasswdqc(c *call) *demand {
	d := &demand{settings: estate.Settings{}}
	q, err := r.readPasswdqc(c)
	if err != nil { // one that it gives up over was seen before: the file is not there
		for _, id := range passwordSettings {
			if ofQuality(id) {
				d.settings[id] = estate.Fact{Cite: c.cite, Problem: err.Error(), Remedy: "Gather the file that it names with config=."}
			}
		}
		d.asks = estate.Asks{Module: c.module, Cite: c.cite}
		return d
	}
	if !q.forUsers {
		r.remark(estate.NotObeyed, c.module, c.module+" only warns: enforce is none, so it refuses nothing", "Set enforce=everyone.",
			passwordSettings, q.at["enforce"])
		return nil
	}
	q.rules(r, c, []estate.Settings{d.settings})
	d.asks, d.ofRoot = q.asks(c), q.forAll
	return d
}

// byQuality reads a call of pam_pwquality or pam_cracklib.
func (r *reader) byQuality(c *call, file options, slips []slip) *demand {
	d := &demand{settings: estate.Settings{}}
	var o options
	if g := r.pwquality(); c.module == g.module {
		var more []slip
		o, more = file.with(g, c, callOnly...)
		r.slipped(g, append(slips, more...), passwordSettings)
	} else {
		o, slips = options{}.with(&cracklib, c, callOnly...)
		r.slipped(&cracklib, slips, passwordSettings)
		for given, means := range map[string]string{"reject_username": "usercheck", "gecoscheck": "gecoscheck"} {
			if v, ok := o[given]; ok {
				o[means] = option{"1", v.cite}
			}
		}
	}
	q := &quality{r: r, o: o, c: c}
	if n, enforcing := q.number("enforcing"); n == 0 {
		r.remark(estate.NotObeyed, c.module, fmt.Sprintf("%s only warns: enforcing is 0, so it refuses nothing", c.module),
			"Set enforcing = 1.", passwordSettings, enforcing)
		return nil
	}
	_, d.ofRoot = o["enforce_for_root"]
	q.rules([]estate.Settings{d.settings})
	d.asks = q.asks()
	if c.module == pwquality.module && !r.hasSecurity() {
		for _, id := range passwordSettings {
			if ofQuality(id) {
				d.settings[id] = estate.Fact{Cite: c.cite, Problem: notGathered, Remedy: gatherSecurity}
			}
		}
	}
	return d
}

// asks is what the module asks for that no setting holds.
func (q *quality) asks() estate.Asks {
	a := estate.Asks{Module: q.c.module, Length: max(q.count("minlen"), shortest), ClassRun: q.classRun(), Named: q.count("usercheck") != 0,
		Personal: q.count("gecoscheck") != 0,
		NamePart: q.count("usersubstr"), Words: strings.Fields(q.o["badwords"].value), Cite: q.c.cite}
	for i, name := range credits {
		a.Credits[i] = max(q.count(name), 0)
	}
	return a
}

// classRun is the longest run of one class; one of 1 the module does not
// enforce.
func (q *quality) classRun() int64 {
	if n := q.count("maxclassrepeat"); n > 1 {
		return n
	}
	return 0
}

// noQuality is what holds where no check of quality counts.
func (r *reader) noQuality(stack []call, at, store int, file options) {
	if at >= 0 {
		c := &stack[at]
		r.remark(estate.NotObeyed, c.module,
			fmt.Sprintf("%s is called, and its refusal is not obeyed: the stack stores the password all the same", c.module),
			"Call it as requisite before the module that stores the password, and give that one use_authtok.", passwordSettings, c.cite,
			stack[store].cite)
		return
	}
	if names := sortedNames(file); len(names) > 0 {
		r.remark(estate.NotCalled, "pam_pwquality",
			fmt.Sprintf("pwquality.conf sets %s, and no stack calls pam_pwquality: the file enforces nothing", strings.Join(names, ", ")),
			"Call pam_pwquality as requisite before the module that stores the password, or remove the file.", passwordSettings,
			file[names[0]].cite, stack[store].cite)
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

// quality is one call that checks quality, with its options.
type quality struct {
	r *reader
	c *call
	o options
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
	row := optionOf(pwquality.module, name)
	if later, _ := q.r.has(noCredits); !later && row.since == 0 {
		return row.byOlder, at
	}
	return row.byDefault(q.c.module), at
}

// spared sets what holds where nothing is checked.
func spared(c *call, into ...estate.Settings) {
	for id, v := range map[setting.ID]setting.Value{
		setting.ClassesRequired: setting.Number(0), setting.RequireLower: setting.Number(0), setting.RequireUpper: setting.Number(0),
		setting.RequireDigit:  setting.Number(0),
		setting.RequireSymbol: setting.Number(0), setting.NameCheck: setting.Off, setting.DictionaryCheck: setting.Word("off"),
		setting.MaxRepeat:   setting.Of(setting.Unlimited),
		setting.MaxSequence: setting.Of(setting.Unlimited), setting.MinChanged: setting.Number(0), setting.Blocklist: setting.Off,
		setting.BlocklistSize: setting.Number(0),
	} {
		for _, s := range into {
			s[id] = estate.Fact{Value: v, Cite: c.cite}
		}
	}
}

// credits are the options for the four kinds of characters that pwquality tells apart.
var credits = [4]string{"lcredit", "ucredit", "dcredit", "ocredit"}

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
	var counted [4]int64
	given := int64(0)
	for i, name := range credits {
		n, at := q.number(name)
		counted[i] = n
		given += max(n, 0)
		q.r.set(optionOf(pwquality.module, name).Setting, setting.Number(max(-n, 0)), at, into...)
	}
	least := int64(leastLength(asked, counted, q.count("minclass")))
	if given > 0 {
		lengthAt.Note = fmt.Sprintf("%d asked for, less what credits bring", asked)
	}
	dictionary, dictionaryAt := q.number("dictcheck")
	if dictionary != 0 && least < shortest {
		least, lengthAt = shortest, dictionaryAt
	}
	q.r.set(setting.MinLength, setting.Number(least), lengthAt, into...)
	q.r.set(setting.DictionaryCheck, setting.Word(map[bool]string{true: "on", false: "off"}[dictionary != 0]), dictionaryAt, into...)
	for _, name := range []string{"minclass", "difok", "maxrepeat", "maxsequence"} {
		row := optionOf(pwquality.module, name)
		n, at := q.number(name)
		v := setting.Number(max(n, 0))
		if row.limit && n <= 0 {
			v = setting.Of(setting.Unlimited)
		}
		q.r.set(row.Setting, v, at, into...)
	}
	user, userAt := q.number("usercheck")
	q.r.set(setting.NameCheck, setting.Switch(user != 0), userAt, into...)
	if user == 0 && q.c.module == cracklib.module {
		for _, s := range into {
			mend(s, setting.NameCheck, "Give pam_cracklib the argument reject_username.")
		}
	}
	if words, ok := q.o["badwords"]; ok {
		n := len(strings.Fields(words.value))
		q.r.set(setting.Blocklist, setting.Word("on"), words.cite, into...)
		q.r.set(setting.BlocklistSize, setting.Number(int64(n)), words.cite, into...)
	} else {
		q.r.set(setting.Blocklist, setting.Off, q.c.cite, into...)
		q.r.set(setting.BlocklistSize, setting.Number(0), q.c.cite, into...)
	}
}

// rememberedByDefault is how many passwords pam_pwhistory keeps where it is
// told no number.
const rememberedByDefault = 10

// history reads how many former passwords are refused: by pam_pwhistory, or by
// the storing module, whichever refuses more.
func (r *reader) history(stack []call, store int) {
	file, slips := r.files(&pwhistory, "etc/security/pwhistory.conf")
	ids := []setting.ID{setting.History}
	keeps := []string{"pam_pwhistory"}
	counting := r.counting(stack, keeps, store)
	if len(counting) == 0 {
		if at := slices.IndexFunc(stack, func(c call) bool { return c.module == keeps[0] }); at >= 0 {
			r.remark(estate.NotObeyed, "pam_pwhistory",
				"pam_pwhistory is called, and its refusal is not obeyed: the stack stores the password all the same",
				"Call it as required before the module that stores the password, and give that one use_authtok.", ids, stack[at].cite,
				stack[store].cite)
		} else if names := sortedNames(file); len(names) > 0 {
			r.remark(estate.NotCalled, "pam_pwhistory",
				fmt.Sprintf("pwhistory.conf sets %s, and no stack calls pam_pwhistory: the file enforces nothing", strings.Join(names, ", ")),
				"Call pam_pwhistory as required before the module that stores the password, or remove the file.", ids, file[names[0]].cite,
				stack[store].cite)
		}
		return
	}
	at := counting[0]
	o := r.historyOptions(file, slips, &stack[at])
	n, c := remembered(o, &stack[at])
	into := []estate.Settings{r.rules}
	if _, ok := o["enforce_for_root"]; ok {
		into = append(into, r.root)
	} else if n > 0 {
		mend(r.root, setting.History, "Set "+forRoot[keeps[0]]+" for "+keeps[0]+", so that root is held to it, too.")
	}
	for _, s := range into {
		if before, _ := s[setting.History].Value.Number(); n > before {
			s[setting.History] = estate.Fact{Value: setting.Number(n), Cite: c}
		}
	}
}

// historyOptions returns what counts for a call of pam_pwhistory. Whether its
// file does depends on the module's version; where that is not known, each
// option counts as the weaker of both.
func (r *reader) historyOptions(file options, slips []slip, c *call) options {
	ids := []setting.ID{setting.History}
	also := append([]string{"conf"}, callOnly...)
	without, more := options{}.with(&pwhistory, c, also...)
	with, _ := file.with(&pwhistory, c, also...)
	reads, told := r.readsHistoryFile()
	if told && reads {
		more = append(slips, more...)
	}
	r.slipped(&pwhistory, more, ids)
	if len(file) == 0 || told && reads {
		return with
	}
	names := sortedNames(file)
	at := cmp.Or(file["remember"], file[names[0]]).cite
	if told {
		r.remark(estate.NotTaken, "pwhistory.conf", "this machine's pam_pwhistory reads no pwhistory.conf: that came with Linux-PAM 1.5.3",
			"Set remember and the rest in the stack, behind pam_pwhistory.so.", ids, at, c.cite)
		return without
	}
	r.remark(estate.NotModelled, "pwhistory.conf",
		"whether this machine's pam_pwhistory reads pwhistory.conf (from Linux-PAM 1.5.3 on) is not known; the weaker case counts",
		"Gather etc/debian_version or etc/os-release too, or set remember in the stack.", ids, at, c.cite)
	if n, _ := remembered(with, c); n < rememberedByDefault {
		if _, ok := without["remember"]; !ok {
			without["remember"] = with["remember"]
		}
	}
	return without
}

// keepsHistory is how many former passwords a call of pam_pwhistory keeps; the
// fewer where its version decides and is not known.
func (r *reader) keepsHistory(c *call) int64 {
	file, _ := r.files(&pwhistory, "etc/security/pwhistory.conf")
	also := append([]string{"conf"}, callOnly...)
	without, _ := options{}.with(&pwhistory, c, also...)
	with, _ := file.with(&pwhistory, c, also...)
	own, _ := remembered(without, c)
	all, _ := remembered(with, c)
	switch reads, told := r.readsHistoryFile(); {
	case !told:
		return min(own, all)
	case reads:
		return all
	}
	return own
}

// remembered is how many former passwords pam_pwhistory keeps, and where it is
// told so.
func remembered(o options, c *call) (int64, estate.Cite) {
	given, ok := o["remember"]
	if !ok {
		return rememberedByDefault, c.cite
	}
	n, _ := strconv.ParseInt(given.value, 10, 32)
	return min(max(n, 0), mostRemembered), given.cite
}

// mostRemembered is how many passwords pam_pwhistory keeps at the most.
const mostRemembered = 400
