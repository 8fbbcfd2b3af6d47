package unix

import (
	"fmt"
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
	lock    estate.Settings // of ordinary users; of root
	root    estate.Settings
}

// lockout finds how failed sign-ins lock, door by door.
func (r *reader) lockout() {
	if !r.hasStacks() {
		return
	}
	var services, common []string
	for _, p := range r.tree.Parts {
		name, ok := strings.CutPrefix(p.Name, pamFolder)
		switch {
		case !ok, slices.Contains(noDoor, name):
		case slices.Contains(shared, name), strings.HasPrefix(name, "common-"):
			common = append(common, name)
		default:
			services = append(services, name)
		}
	}
	doors := r.doors(services)
	if len(doors) == 0 {
		doors = r.doors(common)
	}
	if len(doors) == 0 {
		return // no stack takes a password: not collected
	}
	weakest := 0
	for i := range doors {
		if weaker(&doors[i], &doors[weakest]) {
			weakest = i
		}
	}
	for _, id := range lockoutSettings {
		if f, ok := doors[weakest].lock[id]; ok {
			r.rules[id] = f
		}
		if f, ok := doors[weakest].root[id]; ok {
			r.root[id] = f
		}
	}
	r.compareDoors(doors, weakest)
	if file := r.fileOptions("etc/security/faillock.conf"); len(file) > 0 && doors[weakest].lock["lockout-threshold"].Value.Is(setting.Never) && !r.locksAnywhere(doors) {
		names := sortedNames(file)
		r.remark(estate.NotCalled, "pam_faillock", fmt.Sprintf("faillock.conf sets %s, and no stack calls pam_faillock so that it locks: the file enforces nothing", strings.Join(names, ", ")),
			"Call pam_faillock with preauth before, and with authfail after, the module that checks the password, or remove the file.", lockoutSettings,
			file[names[0]].cite, doors[weakest].lock["lockout-threshold"].Cite)
	}
}

func (r *reader) locksAnywhere(doors []door) bool {
	return slices.ContainsFunc(doors, func(d door) bool { return !d.lock["lockout-threshold"].Value.Is(setting.Never) })
}

// weaker reports whether a door lets more guesses through than another.
func weaker(x, y *door) bool {
	for _, id := range []setting.ID{"lockout-threshold", "lockout-duration", "lockout-window"} {
		order, ok := setting.Get(id).Compare(x.lock[id].Value, y.lock[id].Value)
		if ok && order != 0 {
			return order < 0
		}
	}
	return false
}

// compareDoors remarks on doors that lock otherwise than the weakest.
func (r *reader) compareDoors(doors []door, weakest int) {
	var alike, other []string
	var at estate.Cite
	w := &doors[weakest]
	for i := range doors {
		if d := &doors[i]; weaker(w, d) {
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

// doors reads those services that check a local password.
func (r *reader) doors(services []string) []door {
	var all []door
	for _, service := range services {
		stack, err := r.pam.load(service, "auth", 0, 0)
		if err != nil {
			r.into.NotUnderstood(cite(r.tree.Find(pamFolder+service), 1, service+" auth", ""), "the stack cannot be followed: %v", err)
			continue
		}
		wrong := answers(map[string]string{"pam_unix": refused, "pam_tcb": refused})
		called, let := play(stack, wrong)
		checks := slices.IndexFunc(called, func(i int) bool { return slices.Contains(storing, stack[i].module) })
		if checks < 0 || let {
			continue
		}
		all = append(all, r.door(service, stack, called, called[checks]))
	}
	return all
}

// door works out how one service locks.
func (r *reader) door(service string, stack []call, called []int, checks int) door {
	d := door{service: service, lock: estate.Settings{}, root: estate.Settings{}}
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
		// Locked, with the right password: does anything stop it?
		_, let := play(stack, func(c *call) string {
			if c.module == l.module && l.stops(c) {
				return refused
			}
			return answers(nil)(c)
		})
		present := slices.IndexFunc(stack, func(c call) bool { return c.module == l.module })
		switch {
		case counting >= 0 && !let:
			l.read(r, &d, &stack[called[counting]])
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
	o := r.fileOptions(file).withArguments(c)
	l := &lock{o: o, call: c}
	l.read(d, "deny", "fail_interval", "unlock_time", faillockDeny, faillockInterval, setting.Number(faillockUnlock))
}

// tally reads the older module, which never forgets a failure by itself and
// unlocks only if it is told a time.
func (r *reader) tally(d *door, c *call) {
	l := &lock{o: options{}.withArguments(c), call: c, implied: true}
	l.read(d, "deny", "", "unlock_time", 0, 0, setting.Of(setting.UntilAdmin))
}

// lock reads the options of a module that locks.
type lock struct {
	o    options
	call *call
	// implied: root_unlock_time alone makes root lockable. The manual says so of
	// pam_faillock too, and the module (tried: 1.5.2) does not do it.
	implied bool
}

func (l *lock) read(d *door, deny, window, unlock string, denyDefault, windowDefault int64, unlockDefault setting.Value) {
	set := func(into estate.Settings, id setting.ID, v setting.Value, c estate.Cite, problem string) {
		into[id] = estate.Fact{Value: v, Cite: c, Problem: problem}
	}
	get := func(name string, otherwise setting.Value, zero setting.Special) (setting.Value, estate.Cite, string) {
		given, ok := l.o[name]
		if !ok {
			at := l.call.cite
			at.Where, at.Note = name, "not set: the module's default"
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
			set(s, "lockout-window", v, at, wrong)
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
