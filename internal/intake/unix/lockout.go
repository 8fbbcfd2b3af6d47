package unix

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

var lockoutSettings = []setting.ID{"lockout-threshold", "lockout-duration", "lockout-window", "lockout-administrator"}

// noDoor are services that nobody signs in by: they are for root, change
// something, or only stand for other services.
var noDoor = []string{"passwd", "chpasswd", "newusers", "chfn", "chsh", "cron", "crond", "atd", "runuser", "runuser-l", "other", "samba", "smtp",
	"useradd", "userdel", "usermod", "groupadd", "groupdel", "groupmod", "chage", "vipw", "systemd-user", "systemd-run0"}

// shared are files that services include. They stand for services only where
// no service was copied.
var shared = []string{"system-auth", "password-auth", "common-auth", "fingerprint-auth", "smartcard-auth", "postlogin", "system-login", "system-local-login", "system-remote-login"}

// door is one service by which a user signs in, and how it locks.
type door struct {
	service string
	lock    estate.Settings // of ordinary users
	root    estate.Settings // of root, and of the members of admins
	admins  string          // a group whose members follow root's rules; empty: none
	ages    bool            // an account whose password has ended is not let in
	stale   estate.Cite     // where it is let in all the same
}

// lockout finds how failed sign-ins lock, door by door.
func (r *reader) lockout() {
	if !r.hasStacks() {
		return
	}
	var services, common []string
	for _, p := range r.tree.Parts {
		name, ok := r.pam.service(p)
		switch {
		case !ok, slices.Contains(noDoor, name):
		case slices.Contains(shared, name), strings.HasPrefix(name, "common-"):
			common = append(common, name)
		default:
			services = append(services, name)
		}
	}
	if r.doors = r.open(services); len(r.doors) == 0 {
		r.doors = r.open(common)
	}
	if len(r.doors) == 0 {
		return // no stack takes a password: not collected
	}
	ordinary := r.weakest(func(d *door) estate.Settings { return d.lock })
	take(r.rules, ordinary.lock)
	take(r.root, r.weakest(func(d *door) estate.Settings { return d.root }).root)
	r.compareDoors(ordinary)
	r.compareAgeing()
	file, _ := r.files(&faillock, "etc/security/faillock.conf")
	if never := ordinary.lock["lockout-threshold"]; len(file) > 0 && never.Value.Is(setting.Never) && !r.locksAnywhere() {
		names := sortedNames(file)
		if n, ok := file["deny"]; ok && n.value == "0" || never.Cite.File == file[names[0]].cite.File {
			return // the file itself says so
		}
		r.remark(estate.NotCalled, "pam_faillock", fmt.Sprintf("faillock.conf sets %s, and no stack calls pam_faillock so that it locks: the file enforces nothing", strings.Join(names, ", ")),
			"Call pam_faillock with preauth before, and with authfail after, the module that checks the password, or remove the file.", lockoutSettings,
			file[names[0]].cite, never.Cite)
	}
}

// take copies what a door says of locking.
func take(into, from estate.Settings) {
	for _, id := range lockoutSettings {
		if f, ok := from[id]; ok {
			into[id] = f
		} else {
			delete(into, id)
		}
	}
}

// weakest returns the door that lets most guesses through, by the settings that
// of picks.
func (r *reader) weakest(of func(*door) estate.Settings) *door {
	best := &r.doors[0]
	for i := range r.doors {
		if weaker(of(&r.doors[i]), of(best)) {
			best = &r.doors[i]
		}
	}
	return best
}

// lockOf returns how failed sign-ins lock an account that is in a group whose
// members some door holds to root's rules, and the group; nil for others.
func (r *reader) lockOf(who *person) (estate.Settings, string) {
	group := ""
	for i := range r.doors {
		if g := r.doors[i].admins; g != "" && who.uid != 0 && r.inGroup(who, g) {
			group = g
		}
	}
	if group == "" {
		return nil, ""
	}
	own := func(d *door) estate.Settings {
		if d.admins != "" && r.inGroup(who, d.admins) {
			return d.root
		}
		return d.lock
	}
	return own(r.weakest(own)), group
}

func (r *reader) locksAnywhere() bool {
	return slices.ContainsFunc(r.doors, func(d door) bool { return !d.lock["lockout-threshold"].Value.Is(setting.Never) })
}

// weaker reports whether a door lets more guesses through than another.
func weaker(x, y estate.Settings) bool {
	if x["lockout-threshold"].Problem != "" || y["lockout-threshold"].Problem != "" {
		return y["lockout-threshold"].Problem == "" // what is not known counts as the weakest
	}
	for _, id := range []setting.ID{"lockout-threshold", "lockout-duration", "lockout-window"} {
		order, ok := setting.Get(id).Compare(x[id].Value, y[id].Value)
		if ok && order != 0 {
			return order < 0
		}
	}
	return false
}

// compareDoors remarks on doors that lock otherwise than the weakest.
func (r *reader) compareDoors(w *door) {
	var alike, other []string
	var at estate.Cite
	for i := range r.doors {
		if d := &r.doors[i]; weaker(w.lock, d.lock) {
			other, at = append(other, d.service), d.lock["lockout-threshold"].Cite
		} else {
			alike = append(alike, d.service)
		}
	}
	if len(other) == 0 {
		return
	}
	threshold := setting.Get("lockout-threshold")
	r.remark(estate.DoorsDiffer, "", fmt.Sprintf("%s: %s; %s: stronger. Whoever guesses takes the weaker door", strings.Join(alike, ", "),
		threshold.Text(w.lock["lockout-threshold"].Value), strings.Join(other, ", ")),
		"Let all services include the same stack for signing in.", lockoutSettings, w.lock["lockout-threshold"].Cite, at)
}

// compareAgeing remarks on doors that let in whose password has ended, and
// makes that the machine's ageing: the weakest door counts.
func (r *reader) compareAgeing() {
	var names []string
	for i := range r.doors {
		if d := &r.doors[i]; !d.ages {
			names = append(names, d.service)
			r.ageless = &d.stale
		}
	}
	if len(names) > 0 {
		r.remark(estate.NotObeyed, "ageing", fmt.Sprintf("%s: nothing proves that an account whose password has ended is refused; the account stack does not ask pam_unix, its answer does not count, or the stack cannot be followed", strings.Join(names, ", ")),
			"Call pam_unix in the account stack so that its refusal counts; gather all of pam.d.", []setting.ID{"max-age", "inactive-disable"}, *r.ageless)
	}
}

// open reads those services that check a local password, and let in who has it.
func (r *reader) open(services []string) []door {
	var all []door
	for _, service := range services {
		if d := r.opened(service); d != nil {
			all = append(all, *d)
		}
	}
	return all
}

// opened reads one service. Where modules are called whose answers are not
// known, every answer is played, and the weakest outcome counts.
func (r *reader) opened(service string) *door {
	stack, err := r.pam.load(service, "auth", 0, 0)
	at := cite(r.pam.find(service), 1, service+" auth", "")
	if err != nil {
		r.into.NotUnderstood(at, "the stack cannot be followed: %v", err)
		return r.untold(service, at, service+" cannot be followed: "+err.Error())
	}
	ways, doubtful := worlds(stack)
	if ways == nil {
		return r.untold(service, at, fmt.Sprintf("what %s answer is not known, and too many of them are called to play all", strings.Join(doubtful, ", ")))
	}
	var weakest *door
	differ, shut := false, false
	for _, w := range ways {
		called, let := play(stack, w.answer(map[string]string{"pam_unix": refused, "pam_tcb": refused}))
		checks := slices.IndexFunc(called, func(i int) bool { return slices.Contains(storing, stack[i].module) })
		_, right := play(stack, w.answer(nil))
		if checks < 0 || let || !right {
			shut = true
			continue // nobody is let in by the password
		}
		d := r.door(service, w, stack, called, called[checks])
		switch {
		case weakest == nil:
			weakest = d
		case weaker(d.lock, weakest.lock) || weaker(weakest.lock, d.lock):
			differ = true
			if weaker(d.lock, weakest.lock) {
				weakest = d
			}
		}
	}
	if weakest == nil {
		return nil
	}
	if len(doubtful) > 0 && (differ || shut) {
		first := slices.IndexFunc(stack, func(c call) bool { return slices.Contains(doubtful, c.module) })
		r.remark(estate.NotModelled, service+" "+strings.Join(doubtful, ", "), fmt.Sprintf("%s calls %s: what it answers is not known, and who is let in, or how it locks, depends on it. The weakest outcome counts", service, strings.Join(doubtful, ", ")),
			"Try it on the machine: fail to sign in as often as should lock, then sign in with the right password.", lockoutSettings, stack[first].cite)
	}
	weakest.ages, weakest.stale = r.ages(service)
	return weakest
}

// untold is a door of which it is not known how it locks.
func (r *reader) untold(service string, at estate.Cite, why string) *door {
	d := &door{service: service, lock: estate.Settings{}, root: estate.Settings{}}
	d.ages, d.stale = r.ages(service)
	for _, id := range lockoutSettings {
		d.lock[id] = estate.Fact{Cite: at, Problem: why}
		d.root[id] = d.lock[id]
	}
	return d
}

// ages reports whether a service refuses an account whose password has ended,
// and where its stack for accounts lets it in.
func (r *reader) ages(service string) (bool, estate.Cite) {
	if strings.HasPrefix(service, "common-") {
		service = "common-account"
	}
	var stack []call
	var err error
	for _, name := range []string{service, "other"} { // what has no stack for accounts has that of "other"
		if r.pam.find(name) == nil {
			continue
		}
		if stack, err = r.pam.load(name, "account", 0, 0); err != nil || len(stack) > 0 {
			break
		}
	}
	if err != nil {
		at := cite(r.pam.find(service), 1, service+" account", "")
		r.into.NotUnderstood(at, "the stack cannot be followed: %v; so nothing proves that it refuses a password that has ended", err)
		return false, at
	}
	if len(stack) == 0 {
		return true, estate.Cite{} // nobody is let in without one
	}
	ways, _ := worlds(stack)
	if ways == nil {
		return false, stack[0].cite // too many modules whose answers are not known
	}
	for _, w := range ways {
		for _, ended := range []string{expired, renewal} {
			called, let := play(stack, w.answer(map[string]string{"pam_unix": ended, "pam_tcb": ended}))
			if let {
				at := stack[0].cite
				if len(called) > 0 {
					at = stack[called[len(called)-1]].cite
				}
				return false, at
			}
		}
	}
	return true, estate.Cite{}
}

// door works out how one service locks.
func (r *reader) door(service string, w world, stack []call, called []int, checks int) *door {
	d := &door{service: service, lock: estate.Settings{}, root: estate.Settings{}}
	for _, s := range []estate.Settings{d.lock, d.root} {
		s["lockout-threshold"] = estate.Fact{Value: setting.Of(setting.Never), Cite: stack[checks].cite}
		s["lockout-administrator"] = estate.Fact{Value: setting.Off, Cite: stack[checks].cite}
	}
	for _, l := range []struct {
		module string
		counts func(*call) bool // this call counts a failure
		stops  func(*call) bool // this call stops who is locked
		read   func(*reader, *door, *call)
	}{
		{"pam_faillock", func(c *call) bool { return c.has("authfail") }, func(c *call) bool { return c.has("preauth") || c.has("authsucc") }, (*reader).faillock},
		{"pam_tally2", any, any, (*reader).tally},
	} {
		counting := slices.IndexFunc(called, func(i int) bool { return stack[i].module == l.module && l.counts(&stack[i]) })
		// Locked, with the right password: which call stops it?
		var stopping []*call
		for i := range stack {
			stop := &stack[i]
			if stop.module != l.module || !l.stops(stop) {
				continue
			}
			if _, let := play(stack, func(c *call) string {
				if c == stop {
					return refused
				}
				return w.answer(nil)(c)
			}); !let {
				stopping = append(stopping, stop)
			}
		}
		present := slices.IndexFunc(stack, func(c call) bool { return c.module == l.module })
		switch {
		case counting >= 0 && len(stopping) > 0:
			// Each call has options of its own, and that which stops decides; of
			// several the strictest.
			for _, stop := range stopping {
				next := &door{service: service, lock: maps.Clone(d.lock), root: maps.Clone(d.root)}
				if l.read(r, next, stop); stop == stopping[0] || weaker(d.lock, next.lock) {
					d = next
				}
			}
			counter := &door{lock: estate.Settings{}, root: estate.Settings{}}
			l.read(r, counter, &stack[called[counting]])
			r.countsTooFew(d, counter, &stack[called[counting]])
			return d
		case present >= 0:
			why := "no failure is counted: the call that counts is not reached"
			if counting >= 0 {
				why = "failures are counted, and who is locked is let in all the same: nothing is asked before the password"
			}
			r.remark(estate.NotObeyed, service, fmt.Sprintf("%s calls %s so that it does not lock: %s", service, l.module, why),
				"Call pam_faillock with preauth before, and with authfail after, the module that checks the password.", lockoutSettings, stack[present].cite, stack[checks].cite)
		}
	}
	return d
}

// countsTooFew mends a door whose counting call has a lower limit than the one
// that stops: from its own limit on it counts no further, so the other's is
// never reached.
func (r *reader) countsTooFew(d, counter *door, c *call) {
	for _, s := range []struct{ stops, counts estate.Settings }{{d.lock, counter.lock}, {d.root, counter.root}} {
		limit, locks := s.stops["lockout-threshold"].Value.Number()
		most, ends := s.counts["lockout-threshold"].Value.Number()
		if !locks || !ends || most >= limit {
			continue
		}
		at := s.counts["lockout-threshold"].Cite
		at.Note = fmt.Sprintf("counts up to %d, and %d are needed", most, limit)
		r.remark(estate.NotObeyed, d.service, fmt.Sprintf("%s counts up to %d failed tries and locks at %d: the call that counts has a lower limit than the one that stops, so nothing locks", d.service, most, limit),
			"Give all calls of the module the same options; best in its file.", lockoutSettings, c.cite, s.stops["lockout-threshold"].Cite)
		s.stops["lockout-threshold"] = estate.Fact{Value: setting.Of(setting.Never), Cite: at}
	}
}

func any(*call) bool { return true }

// Defaults of pam_faillock (faillock.conf(5)), in tries and seconds.
const (
	faillockDeny     = 3
	faillockInterval = 900
	faillockUnlock   = 600
)

func (r *reader) faillock(d *door, c *call) {
	file := "etc/security/faillock.conf"
	for _, a := range c.args {
		if given, ok := strings.CutPrefix(a, "conf=/"); ok {
			file = given
			if r.tree.Find(file) == nil {
				for _, id := range lockoutSettings {
					d.lock[id] = estate.Fact{Cite: c.cite, Problem: "the file /" + given + " is not in the evidence"}
					d.root[id] = d.lock[id]
				}
				return
			}
		}
	}
	given, slips := r.files(&faillock, file)
	o, more := given.with(&faillock, c, "preauth", "authfail", "authsucc", "conf", "serialize", "debug")
	r.slipped(&faillock, append(slips, more...), lockoutSettings)
	d.admins = o["admin_group"].value
	l := &lock{o: o, call: c, unread: !r.hasSecurity()}
	l.read(d, "deny", "fail_interval", "unlock_time", faillockDeny, faillockInterval, setting.Number(faillockUnlock))
}

// tally reads the older module, which never forgets a failure by itself and
// unlocks only if it is told a time.
func (r *reader) tally(d *door, c *call) {
	l := &lock{o: bare(c), call: c, implied: true}
	l.read(d, "deny", "", "unlock_time", 0, 0, setting.Of(setting.UntilAdmin))
}

// lock reads the options of a module that locks.
type lock struct {
	o    options
	call *call
	// implied: root_unlock_time alone makes root lockable. The manual says so of
	// pam_faillock too, and the module (tried: 1.5.2) does not do it.
	implied bool
	// unread: the module's file was not gathered, so what the call does not say
	// is not known.
	unread bool
}

func (l *lock) read(d *door, deny, window, unlock string, denyDefault, windowDefault int64, unlockDefault setting.Value) {
	set := func(into estate.Settings, id setting.ID, v setting.Value, c estate.Cite, problem string) {
		into[id] = estate.Fact{Value: v, Cite: c, Problem: problem}
	}
	get := func(name string, otherwise setting.Value, zero setting.Special) (setting.Value, estate.Cite, string) {
		given, ok := l.o[name]
		if !ok {
			at := l.call.cite
			if at.Where = name; l.unread {
				return setting.Value{}, at, notGathered
			}
			at.Note = "not set: the module's default"
			return otherwise, at, ""
		}
		n, err := strconv.ParseInt(given.value, 10, 64)
		switch {
		case given.value == "never" && zero == setting.UntilAdmin, err == nil && n == 0 && zero != "":
			return setting.Of(zero), given.cite, ""
		case err != nil || n < 0 || n > 604800 && name != deny:
			return setting.Value{}, given.cite, name + " is not a number that the module takes"
		}
		return setting.Number(n), given.cite, ""
	}
	threshold := setting.Number(denyDefault)
	if denyDefault == 0 {
		threshold = setting.Of(setting.Never)
	}
	limit, limitAt, limitWrong := get(deny, threshold, setting.Never)
	duration, durationAt, durationWrong := get(unlock, unlockDefault, setting.UntilAdmin)
	for _, s := range []estate.Settings{d.lock, d.root} {
		set(s, "lockout-threshold", limit, limitAt, limitWrong)
		set(s, "lockout-duration", duration, durationAt, durationWrong)
		if window == "" {
			set(s, "lockout-window", setting.Of(setting.Never), l.call.cite, "")
		} else {
			// Of an interval of 0 every failure is outside.
			v, at, wrong := get(window, setting.Number(windowDefault), setting.AtOnce)
			if set(s, "lockout-window", v, at, wrong); v.Is(setting.AtOnce) {
				at.Note = "every failure is outside of an interval of 0, so nothing locks"
				set(s, "lockout-threshold", setting.Of(setting.Never), at, "")
			}
		}
	}
	rootTime, hasTime := l.o["root_unlock_time"]
	even, hasEven := l.o["even_deny_root"]
	if !hasEven && !(hasTime && l.implied) {
		at := l.call.cite
		at.Note = "even_deny_root is not set"
		if hasTime {
			at = rootTime.cite
			at.Note = "without even_deny_root it does nothing, whatever the manual says"
		}
		for _, s := range []estate.Settings{d.lock, d.root} {
			set(s, "lockout-administrator", setting.Off, at, "")
		}
		set(d.root, "lockout-threshold", setting.Of(setting.Never), at, "")
		delete(d.root, "lockout-duration")
		delete(d.root, "lockout-window")
		return
	}
	at := even.cite
	if hasTime {
		at = rootTime.cite
		v, c, wrong := get("root_unlock_time", duration, setting.UntilAdmin)
		set(d.root, "lockout-duration", v, c, wrong)
	}
	for _, s := range []estate.Settings{d.lock, d.root} {
		set(s, "lockout-administrator", setting.On, at, "")
	}
}
