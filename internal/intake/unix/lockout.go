package unix

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

var lockoutSettings = []setting.ID{setting.LockoutThreshold, setting.LockoutDuration, setting.LockoutWindow, setting.LockoutAdministrator,
	setting.SuccessClears, setting.FailureDelay}

// noDoor are services that nobody signs in by: they are for root, change
// something, or only stand for other services.
var noDoor = []string{"passwd", "chpasswd", "newusers", "chfn", "chsh", "cron", "crond", "atd", "runuser", "runuser-l", "other",
	"samba", "smtp",
	"useradd", "userdel", "usermod", "groupadd", "groupdel", "groupmod", "chage", "vipw", "systemd-user", "systemd-run0",
	"sssd-shadowutils", "lightdm-greeter", "sddm-greeter", "gdm-launch-environment", "gdm-autologin", "lightdm-autologin", "sddm-autologin",
	"xserver", "vmtoolsd", "config-util", "setup", "reboot", "halt", "poweroff", "rhn_register", "subscription-manager",
	"system-config-users", "authconfig", "liveinst", "neat", "pluto", "ppp", "cups", "httpd"}

// lockers unlock the session of somebody who is signed in already: they are no way in for whose
// password has ended.
var lockers = []string{"vlock", "screen", "xscreensaver", "kscreensaver", "kde", "swaylock", "i3lock", "gnome-screensaver", "mate-screensaver",
	"cinnamon-screensaver", "light-locker", "polkit-1", "sudo", "sudo-i", "doas"}

// shared are files that services include. They stand for services only where
// no service was copied.
var shared = []string{"system-auth", "password-auth", "common-auth", "fingerprint-auth", "smartcard-auth", "postlogin",
	"system-login", "system-local-login", "system-remote-login"}

// door is one service by which a user signs in, and how it locks.
type door struct {
	service string
	lock    estate.Settings // of ordinary users; nil: it lets in none of them
	members estate.Settings // of the members of admins
	root    estate.Settings // of root; nil: it does not let root in
	admins  string          // a group whose members follow root's rules; empty: none
	empty   bool            // an empty password lets in
	checks  estate.Cite     // the call that checks the password
	ages    bool            // an account whose password has ended is not let in
	stale   estate.Cite     // where it is let in all the same
	unread  string          // why its stacks cannot be followed; empty: they can
}

// locking is how a stack locks those whom it is played for.
type locking struct {
	users, root estate.Settings
	admins      string
	empty       bool
	checks      estate.Cite
}

// lockout finds how failed sign-ins lock, door by door.
func (r *reader) lockout() {
	if !r.hasStacks() {
		return
	}
	var services, common []string
	for _, name := range r.pam.names {
		switch {
		case slices.Contains(noDoor, name):
		case slices.Contains(shared, name), strings.HasPrefix(name, "common-"):
			common = append(common, name)
		default:
			services = append(services, name)
		}
	}
	if r.doors = r.open(services); len(r.doors) == 0 {
		r.doors = r.open(common)
	}
	ordinary := r.weakest(func(d *door) estate.Settings { return d.lock })
	root := r.weakest(func(d *door) estate.Settings { return d.root })
	if ordinary != nil {
		take(r.rules, ordinary.lock)
		r.compareDoors(ordinary)
	}
	if root != nil {
		take(r.root, root.root)
	}
	r.emptyAccepted()
	if ordinary == nil {
		return
	}
	r.compareAgeing()
	if reads, told := r.has(lockFile); told && !reads {
		if file, _ := r.files(&faillock, lockConf); len(file) > 0 {
			names := sortedNames(file)
			r.remark(estate.NotTaken, "faillock.conf", "this machine's pam_faillock reads no faillock.conf: that came with Linux-PAM 1.4",
				"Set "+strings.Join(names, ", ")+" in the stack, behind each pam_faillock.so.", lockoutSettings, file[names[0]].cite)
		}
		return
	}
	file, _ := r.lockFile(lockConf)
	if never := ordinary.lock[setting.LockoutThreshold]; len(file) > 0 && never.Value.Is(setting.Never) && !r.locksAnywhere() {
		names := sortedNames(file)
		if n, ok := file["deny"]; ok && n.value == "0" || never.Cite.File == file[names[0]].cite.File {
			return // the file itself says so
		}
		r.remark(estate.NotCalled, "pam_faillock",
			fmt.Sprintf("faillock.conf sets %s, and no stack calls pam_faillock so that it locks: the file enforces nothing",
				strings.Join(names, ", ")),
			"Call pam_faillock with preauth before, and with authfail after, the module that checks the password, or remove the file.",
			lockoutSettings,
			file[names[0]].cite, never.Cite)
	}
}

// emptyAccepted says whether some door takes an empty password.
func (r *reader) emptyAccepted() {
	unread := -1
	for i := range r.doors {
		switch d := &r.doors[i]; {
		case d.empty:
			r.set(setting.EmptyAccepted, setting.On, d.checks, r.rules, r.root)
			return
		case d.unread != "":
			unread = i
		}
	}
	switch n := len(r.doors) - 1; {
	case unread >= 0:
		d := &r.doors[unread]
		f := estate.Fact{Cite: d.checks, Problem: d.unread, Remedy: "Gather all files that " + d.service + " includes."}
		r.rules[setting.EmptyAccepted], r.root[setting.EmptyAccepted] = f, f
	case n >= 0:
		r.set(setting.EmptyAccepted, setting.Off, r.doors[n].checks, r.rules, r.root)
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
// of picks; nil where no door has them.
func (r *reader) weakest(of func(*door) estate.Settings) (best *door) {
	for i := range r.doors {
		if d := &r.doors[i]; of(d) != nil && (best == nil || weaker(of(d), of(best))) {
			best = d
		}
	}
	return best
}

// lockOf returns how failed sign-ins lock an account that is in a group whose
// members some door holds to root's rules, and the group; nil for others.
func (r *reader) lockOf(who *person) (estate.Settings, string) {
	group := ""
	for i := range r.doors {
		if g := r.doors[i].admins; g != "" && who.uid != 0 && r.inGroup(who.name, int64(who.gid), g) {
			group = g
		}
	}
	if group == "" {
		return nil, ""
	}
	own := func(d *door) estate.Settings {
		if d.admins != "" && r.inGroup(who.name, int64(who.gid), d.admins) {
			return d.members
		}
		return d.lock
	}
	if d := r.weakest(own); d != nil {
		return own(d), group
	}
	return nil, ""
}

func (r *reader) locksAnywhere() bool {
	return slices.ContainsFunc(r.doors, func(d door) bool { return d.lock != nil && !d.lock[setting.LockoutThreshold].Value.Is(setting.Never) })
}

// weaker reports whether a door lets more guesses through than another.
func weaker(x, y estate.Settings) bool {
	if x[setting.LockoutThreshold].Problem != "" || y[setting.LockoutThreshold].Problem != "" {
		return y[setting.LockoutThreshold].Problem == "" // what is not known counts as the weakest
	}
	for _, id := range []setting.ID{setting.LockoutThreshold, setting.LockoutDuration, setting.LockoutWindow} {
		order, ok := setting.Get(id).Compare(x[id].Value, y[id].Value)
		if ok && order != 0 {
			return order < 0
		}
	}
	return false
}

// compareDoors remarks on doors that lock otherwise than the weakest, those that
// only who is signed in already can try apart.
func (r *reader) compareDoors(w *door) {
	var alike, other []string
	var at estate.Cite
	for _, within := range []bool{false, true} {
		for i := range r.doors {
			d := &r.doors[i]
			name := d.service
			if within {
				name += " (from within)"
			}
			switch {
			case d.lock == nil, slices.Contains(fromWithin, d.service) != within:
			case weaker(w.lock, d.lock):
				other, at = append(other, name), d.lock[setting.LockoutThreshold].Cite
			default:
				alike = append(alike, name)
			}
		}
	}
	if len(other) == 0 {
		return
	}
	threshold := setting.Get(setting.LockoutThreshold)
	r.remark(estate.DoorsDiffer, "", fmt.Sprintf("%s: %s; %s: stronger. Whoever guesses takes the weaker door", strings.Join(alike, ", "),
		threshold.Text(w.lock[setting.LockoutThreshold].Value), strings.Join(other, ", ")),
		"Let all services include the same stack for signing in.", lockoutSettings, w.lock[setting.LockoutThreshold].Cite, at)
}

// compareAgeing remarks on doors that let in whose password has ended, and
// makes that the machine's ageing: the weakest door counts.
func (r *reader) compareAgeing() {
	var names []string
	for i := range r.doors {
		switch d := &r.doors[i]; {
		case d.ages, slices.Contains(lockers, d.service):
		case d.unread != "":
			r.ageUnread = &estate.Fact{Cite: d.stale, Problem: d.unread,
				Remedy: "Gather all files that " + d.service + " includes."}
		default:
			names = append(names, d.service)
			r.ageless = &d.stale
		}
	}
	if len(names) > 0 {
		r.remark(estate.NotObeyed, "ageing",
			fmt.Sprintf("%s: nothing proves that an account whose password has ended is refused; the account stack does not ask "+
				"pam_unix, or its answer does not count", strings.Join(names, ", ")),
			"Call pam_unix in the account stack so that its refusal counts; gather all of pam.d.", []setting.ID{setting.MaxAge, setting.InactiveDisable},
			*r.ageless)
	}
}

// open reads those services that check a local password, and let in who has it.
func (r *reader) open(services []string) []door {
	var all []door
	for _, service := range services {
		d := r.opened(service)
		if service == "sshd" {
			d = r.openSSH(d)
		}
		if d != nil {
			all = append(all, *d)
		}
	}
	return all
}

// opened reads one service: how it locks users, the members of the
// administrators' group, and root.
func (r *reader) opened(service string) *door {
	stack, err := r.pam.stack(service, "auth")
	if err != nil {
		at := cite(r.pam.find(service), 1, service+" auth", "")
		r.into.NotUnderstood(at, "the stack cannot be followed: %v", err)
		return r.untold(service, at, service+" cannot be followed: "+err.Error())
	}
	if !slices.ContainsFunc(stack, func(c call) bool { return slices.Contains(storing, c.module) }) {
		return nil // it checks no local password
	}
	d := &door{service: service}
	users, root := r.ordinary(), r.superuser()
	if r.admits(service, users) {
		l, why := r.locked(service, stack, users, func(l *locking) estate.Settings { return l.users })
		switch {
		case why != "":
			return r.untold(service, stack[0].cite, why)
		case l != nil:
			d.lock, d.members, d.admins, d.empty, d.checks = l.users, l.root, l.admins, l.empty, l.checks
		}
	}
	if r.admits(service, root) {
		if l, _ := r.locked(service, stack, root, func(l *locking) estate.Settings { return l.root }); l != nil {
			d.root, d.empty = l.root, d.empty || l.empty
			if d.lock == nil || l.empty {
				d.checks = l.checks
			}
		}
	}
	if d.lock == nil && d.root == nil {
		return nil
	}
	d.ages, d.stale, d.unread = r.ages(service)
	return d
}

// locked finds how a stack locks an audience that signs in by a password; nil: it
// lets none of them in by it. Where modules are called whose answers are not
// known, every answer is played, and the weakest outcome counts; why says that
// they are too many.
func (r *reader) locked(service string, stack []call, to audience, of func(*locking) estate.Settings) (weakest *locking, why string) {
	ways, doubtful := r.worlds(stack, to)
	if ways == nil {
		return nil, fmt.Sprintf("what %s answer is not known, and too many of them are called to play all", strings.Join(doubtful, ", "))
	}
	differ, shut := false, false
	for _, w := range ways {
		called, let := play(stack, w.answer(map[string]string{"pam_unix": refused, "pam_tcb": refused}))
		checks := slices.IndexFunc(called, func(i int) bool { return slices.Contains(storing, stack[i].module) })
		_, right := play(stack, w.answer(nil))
		var l *locking
		switch {
		case let && right:
			l = r.openDoor(service, stack, called, len(doubtful) > 0)
		case checks < 0 || let || !right:
			shut = true
			continue // nobody is let in by the password
		default:
			l = r.locks(service, w, stack, called, called[checks])
		}
		switch {
		case weakest == nil:
			weakest = l
		case weaker(of(l), of(weakest)) || weaker(of(weakest), of(l)):
			differ = true
			if weaker(of(l), of(weakest)) {
				weakest = l
			}
		}
	}
	if weakest != nil && len(doubtful) > 0 && (differ || shut) {
		first := slices.IndexFunc(stack, func(c call) bool { return slices.Contains(doubtful, c.module) })
		r.remark(estate.NotModelled, service+" "+strings.Join(doubtful, ", "),
			fmt.Sprintf("%s calls %s: what it answers is not known, and who is let in, or how it locks, depends on it. The weakest outcome counts",
				service, strings.Join(doubtful, ", ")),
			"Try it on the machine: fail to sign in as often as should lock, then sign in with the right password.", lockoutSettings,
			stack[first].cite)
	}
	return weakest, ""
}

// openDoor is a service that calls a module for passwords and lets everybody in,
// or perhaps everybody, whatever that one says.
func (r *reader) openDoor(service string, stack []call, called []int, perhaps bool) *locking {
	at := stack[called[len(called)-1]].cite
	if !perhaps {
		r.remark(estate.NotObeyed, service+" password", fmt.Sprintf("%s lets anyone in: a wrong password works as well as the right one",
			service),
			"Make the answer of the module that checks the password count.", lockoutSettings, at)
	}
	at.Note = "lets in with any password"
	l := neverLocks(at)
	l.empty = true
	return l
}

// neverLocks locks nobody.
func neverLocks(at estate.Cite) *locking {
	l := &locking{users: estate.Settings{}, root: estate.Settings{}, checks: at}
	for _, s := range []estate.Settings{l.users, l.root} {
		s[setting.LockoutThreshold] = estate.Fact{Value: setting.Of(setting.Never), Cite: at}
		s[setting.LockoutAdministrator] = estate.Fact{Value: setting.Off, Cite: at}
	}
	return l
}

// admits reports whether a service's stack for accounts lets an audience in
// that has done nothing wrong. What cannot be told counts as letting in.
func (r *reader) admits(service string, to audience) bool {
	stack, err := r.accountStack(service)
	if err != nil || len(stack) == 0 {
		return true // whether the service asks it at all is up to the service
	}
	ways, _ := r.worlds(stack, to)
	return ways == nil || slices.ContainsFunc(ways, func(w world) bool {
		_, let := play(stack, w.answer(nil))
		return let
	})
}

// accountStack is what a service asks about an account.
func (r *reader) accountStack(service string) ([]call, error) {
	if strings.HasPrefix(service, "common-") {
		service = "common-account"
	}
	if r.pam.find(service) == nil {
		return nil, nil
	}
	return r.pam.stack(service, "account")
}

// untold is a door of which it is not known how it locks.
func (r *reader) untold(service string, at estate.Cite, why string) *door {
	d := &door{service: service, lock: estate.Settings{}, members: estate.Settings{}, root: estate.Settings{}, checks: at, unread: why}
	d.ages, d.stale, _ = r.ages(service)
	for _, id := range lockoutSettings {
		for _, s := range []estate.Settings{d.lock, d.members, d.root} {
			s[id] = estate.Fact{Cite: at, Problem: why, Remedy: "Gather all files that " + service +
				" includes; or try it on the machine: fail to sign in as often as should lock, then sign in."}
		}
	}
	return d
}

// ages reports whether a service refuses an account whose password has ended,
// and where its stack for accounts lets it in.
func (r *reader) ages(service string) (ages bool, at estate.Cite, unread string) {
	stack, err := r.accountStack(service)
	if err != nil {
		at := cite(r.pam.find(service), 1, service+" account", "")
		r.into.NotUnderstood(at, "the stack cannot be followed: %v; so nothing proves that it refuses a password that has ended", err)
		return false, at, service + " cannot be followed: " + err.Error()
	}
	if len(stack) == 0 {
		return true, estate.Cite{}, "" // nobody is let in without one
	}
	ways, _ := r.worlds(stack, r.ordinary())
	if ways == nil {
		return false, stack[0].cite, "" // too many modules whose answers are not known
	}
	for _, w := range ways {
		for _, ended := range []string{expired, renewal} {
			called, let := play(stack, w.answer(map[string]string{"pam_unix": ended, "pam_tcb": ended}))
			if let {
				at := stack[0].cite
				if len(called) > 0 {
					at = stack[called[len(called)-1]].cite
				}
				return false, at, ""
			}
		}
	}
	return true, estate.Cite{}, ""
}

// locks works out how one service locks.
func (r *reader) locks(service string, w world, stack []call, called []int, checks int) *locking {
	d := neverLocks(stack[checks].cite)
	r.delay(stack, called, d)
	for i := range stack { // of several that check, a later one may take what the first does not
		c := &stack[i]
		d.empty = d.empty || slices.Contains(storing, c.module) && (c.has("nullok") || c.has("nullok_secure") || c.has("nullresetok"))
	}
	for _, l := range []struct {
		module string
		counts func(*call) bool // this call counts a failure
		stops  func(*call) bool // this call stops who is locked
		read   func(*reader, *locking, *call)
	}{
		{"pam_faillock", func(c *call) bool { return c.has("authfail") }, func(c *call) bool { return c.has("preauth") || c.has("authsucc") },
			(*reader).faillock},
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
				next := &locking{users: maps.Clone(d.users), root: maps.Clone(d.root), empty: d.empty, checks: d.checks}
				l.read(r, next, stop)
				if stop == stopping[0] {
					d = next
					continue
				}
				if weaker(d.users, next.users) {
					d.users = next.users
				}
				if weaker(d.root, next.root) {
					d.root = next.root
				}
			}
			counter := &locking{users: estate.Settings{}, root: estate.Settings{}}
			l.read(r, counter, &stack[called[counting]])
			r.countsTooFew(service, d, counter, &stack[called[counting]])
			if l.module == "pam_faillock" {
				r.countsApart(service, d, counter, stopping, &stack[called[counting]])
			}
			r.clears(service, w, stack, l.module, d)
			return d
		case present >= 0:
			why := "no failure is counted: the call that counts is not reached"
			if counting >= 0 {
				why = "failures are counted, but a locked account still gets in: nothing checks the lock before the password"
			}
			r.remark(estate.NotObeyed, service, fmt.Sprintf("%s calls %s so that it does not lock: %s", service, l.module, why),
				"Call pam_faillock with preauth before, and with authfail after, the module that checks the password.", lockoutSettings,
				stack[present].cite, stack[checks].cite)
		}
	}
	return d
}

// usualDelay is how long pam_unix and pam_faillock ask a failure to wait, in
// microseconds, unless they are told nodelay.
const usualDelay = 2_000_000

// delay finds how long a failed attempt waits: the longest that any module asks for.
func (r *reader) delay(stack []call, called []int, d *locking) {
	longest, at := int64(0), stack[0].cite
	for _, i := range called {
		c := &stack[i]
		asked, from := int64(0), c.cite
		switch c.module {
		case "pam_unix", "pam_faillock":
			if !c.has("nodelay") {
				asked = usualDelay
			}
		case "pam_faildelay":
			text := c.value("delay")
			if given, ok := r.loginDefs()["FAIL_DELAY"]; text == "" && ok {
				text, from = given.value+"000000", given.cite
			}
			asked, _ = strconv.ParseInt(text, 10, 64)
		}
		if asked > longest {
			longest, at = asked, from
		}
	}
	v := setting.Number(longest / 1_000_000)
	if longest < 1_000_000 {
		v = setting.Of(setting.AtOnce)
	}
	for _, s := range []estate.Settings{d.users, d.root} {
		s[setting.FailureDelay] = estate.Fact{Value: v, Cite: at}
	}
}

// clears finds whether a success clears the count: in the stack for accounts, or
// by a call with authsucc.
func (r *reader) clears(service string, w world, stack []call, module string, d *locking) {
	right, _ := play(stack, w.answer(nil))
	v, at := setting.Off, stack[0].cite
	at.Note = "nothing clears the count of failures: no call of " + module + " for accounts, none with authsucc"
	if i := slices.IndexFunc(right, func(i int) bool { return stack[i].module == module && stack[i].has("authsucc") }); i >= 0 {
		v, at = setting.On, stack[right[i]].cite
	}
	account, err := r.accountStack(service)
	if err != nil {
		at.Note = "the stack for accounts cannot be followed"
		for _, s := range []estate.Settings{d.users, d.root} {
			s[setting.SuccessClears] = estate.Fact{Cite: at, Problem: at.Note, Remedy: "Gather all of pam.d."}
		}
		return
	}
	ways, doubtful := r.worlds(account, w.to)
	if ways == nil && v == setting.Off {
		for _, s := range []estate.Settings{d.users, d.root} {
			s[setting.SuccessClears] = estate.Fact{Cite: at, Problem: "what " + strings.Join(doubtful, ", ") + " answer is not known",
				Remedy: "Try it on the machine."}
		}
		return
	}
	for _, in := range ways {
		called, _ := play(account, in.answer(nil))
		if i := slices.IndexFunc(called, func(i int) bool { return account[i].module == module }); i >= 0 {
			v, at = setting.On, account[called[i]].cite
		}
	}
	for _, s := range []estate.Settings{d.users, d.root} {
		s[setting.SuccessClears] = estate.Fact{Value: v, Cite: at}
	}
}

// countsApart mends a door whose counting call has other options than the one that stops. Each
// has its own (tried): in another folder its count is never seen; failures that it forgets sooner
// do not add up; and while it still holds the account for locked, and the other does not, it
// counts no more.
func (r *reader) countsApart(service string, d, counter *locking, stopping []*call, counting *call) {
	file, _ := r.lockFile(lockConf)
	dir := func(c *call) string { return cmp.Or(c.value("dir"), file["dir"].value, "/var/run/faillock") }
	never := func(s estate.Settings, why string) {
		at := counting.cite
		at.Note = why
		s[setting.LockoutThreshold] = estate.Fact{Value: setting.Of(setting.Never), Cite: at,
			Remedy: "Give both calls of pam_faillock in " + service + " the same options, best in faillock.conf alone."}
	}
	for _, s := range []struct{ stops, counts estate.Settings }{{d.users, counter.users}, {d.root, counter.root}} {
		if _, locks := s.stops[setting.LockoutThreshold].Value.Number(); !locks {
			continue
		}
		window, counted := s.stops[setting.LockoutWindow], s.counts[setting.LockoutWindow]
		held, ends := s.counts[setting.LockoutDuration], s.stops[setting.LockoutDuration]
		order, comparable := setting.Get(setting.LockoutDuration).Compare(held.Value, ends.Value)
		switch {
		case slices.ContainsFunc(stopping, func(c *call) bool { return dir(c) != dir(counting) }):
			never(s.stops, "failures are counted in "+dir(counting)+", and the lock is looked for in another folder: nothing locks")
		case comparable && order > 0:
			never(s.stops, "the call that counts holds an account for locked longer than the one that stops: in between failures are not counted")
		case window.Problem == "" && counted.Problem == "" && window.Value != counted.Value:
			if x, ok := counted.Value.Number(); ok {
				if y, known := window.Value.Number(); !known || x < y {
					counted.Cite.Note = "the call that counts forgets failures sooner than the one that stops"
					s.stops[setting.LockoutWindow] = counted
				}
			}
		}
	}
}

// countsTooFew mends a door whose counting call has a lower limit than the one
// that stops: from its own limit on it counts no further, so the other's is
// never reached.
func (r *reader) countsTooFew(service string, d, counter *locking, c *call) {
	for _, s := range []struct{ stops, counts estate.Settings }{{d.users, counter.users}, {d.root, counter.root}} {
		limit, locks := s.stops[setting.LockoutThreshold].Value.Number()
		most, ends := s.counts[setting.LockoutThreshold].Value.Number()
		if !locks || !ends || most >= limit {
			continue
		}
		at := s.counts[setting.LockoutThreshold].Cite
		at.Note = fmt.Sprintf("counts up to %d, and %d are needed", most, limit)
		r.remark(estate.NotObeyed, service,
			fmt.Sprintf("%s counts up to %d failed attempts and locks at %d: the call that counts has a lower limit than the one that "+
				"stops, so nothing locks", service, most, limit),
			"Give all calls of the module the same options; best in its file.", lockoutSettings, c.cite, s.stops[setting.LockoutThreshold].Cite)
		s.stops[setting.LockoutThreshold] = estate.Fact{Value: setting.Of(setting.Never), Cite: at}
	}
}

func any(*call) bool { return true }

// Defaults of pam_faillock (faillock.conf(5)), in tries and seconds.
const (
	faillockDeny     = 3
	faillockInterval = 900
	faillockUnlock   = 600
)

// lockConf is the file of pam_faillock.
const lockConf = "etc/security/faillock.conf"

// lockFile is what a file of pam_faillock sets, where this machine's module reads one.
func (r *reader) lockFile(file string) (options, []slip) {
	if reads, _ := r.has(lockFile); !reads {
		return options{}, nil
	}
	return r.files(&faillock, file)
}

func (r *reader) faillock(d *locking, c *call) {
	file := lockConf
	reads, _ := r.has(lockFile)
	for _, a := range c.args {
		if given, ok := strings.CutPrefix(a, "conf=/"); ok && reads {
			file = given
			if r.tree.Find(file) == nil {
				for _, id := range lockoutSettings {
					d.users[id] = estate.Fact{Cite: c.cite, Problem: "the file /" + given + " is not in the evidence", Remedy: "Gather /" +
						given + " with the rest of etc."}
					d.root[id] = d.users[id]
				}
				return
			}
		}
	}
	given, slips := r.lockFile(file)
	o, more := given.with(&faillock, c, "preauth", "authfail", "authsucc", "conf", "serialize", "debug")
	r.slipped(&faillock, append(slips, more...), lockoutSettings)
	d.admins = o["admin_group"].value
	l := &lock{o: o, call: c, unread: !r.hasSecurity()}
	l.read(d, "deny", "fail_interval", "unlock_time", faillockDeny, faillockInterval, setting.Number(faillockUnlock))
}

// tally reads the older module, which never forgets a failure by itself and
// unlocks only if it is told a time.
func (r *reader) tally(d *locking, c *call) {
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

func (l *lock) read(d *locking, deny, window, unlock string, denyDefault, windowDefault int64, unlockDefault setting.Value) {
	set := func(into estate.Settings, id setting.ID, v setting.Value, c estate.Cite, problem string) {
		f := estate.Fact{Value: v, Cite: c, Problem: problem}
		if problem == notGathered {
			f.Remedy = gatherSecurity
		}
		into[id] = f
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
	for _, s := range []estate.Settings{d.users, d.root} {
		set(s, setting.LockoutThreshold, limit, limitAt, limitWrong)
		set(s, setting.LockoutDuration, duration, durationAt, durationWrong)
		if window == "" {
			set(s, setting.LockoutWindow, setting.Of(setting.Never), l.call.cite, "")
		} else {
			// Of an interval of 0 every failure is outside.
			v, at, wrong := get(window, setting.Number(windowDefault), setting.AtOnce)
			if set(s, setting.LockoutWindow, v, at, wrong); v.Is(setting.AtOnce) {
				at.Note = "every failure is outside of an interval of 0, so nothing locks"
				set(s, setting.LockoutThreshold, setting.Of(setting.Never), at, "")
				mend(s, setting.LockoutThreshold, "Set "+window+" to more than 0, so that failures add up.")
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
		for _, s := range []estate.Settings{d.users, d.root} {
			set(s, setting.LockoutAdministrator, setting.Off, at, "")
		}
		set(d.root, setting.LockoutThreshold, setting.Of(setting.Never), at, "")
		mend(d.root, setting.LockoutThreshold, l.reachRoot(d))
		for _, s := range []estate.Settings{d.users, d.root} {
			mend(s, setting.LockoutAdministrator, l.reachRoot(d))
		}
		delete(d.root, setting.LockoutDuration)
		delete(d.root, setting.LockoutWindow)
		return
	}
	at := even.cite
	if hasTime {
		at = rootTime.cite
		v, c, wrong := get("root_unlock_time", duration, setting.UntilAdmin)
		set(d.root, setting.LockoutDuration, v, c, wrong)
	}
	for _, s := range []estate.Settings{d.users, d.root} {
		set(s, setting.LockoutAdministrator, setting.On, at, "")
	}
}

// reachRoot is what makes the lock reach root, and those who follow its rules.
func (l *lock) reachRoot(d *locking) string {
	text := "Set even_deny_root for " + l.call.module + " (in faillock.conf, or in each of its calls), so that root's failures lock, too"
	if d.admins != "" {
		text += "; or take admin_group = " + d.admins + " away, whose members follow root's rules"
	}
	return text + "."
}

// mend says what to do about a setting where its value alone does not help.
func mend(s estate.Settings, id setting.ID, remedy string) {
	f := s[id]
	f.Remedy = remedy
	s[id] = f
}
