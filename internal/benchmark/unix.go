package benchmark

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"sternledger/internal/core/setting"
	"sternledger/internal/intake/unix"
)

const day = 24 * 60 * 60

// option is what a file of a Unix machine can say of a setting.
type option struct {
	name   string
	module string // that takes it; empty: the file has no module
	written
	flag bool // it is there, or not
}

// named is the option of a setting, written as the machine's reader knows it.
func named(name, module string, id setting.ID, unit int64) option {
	return option{name: name, module: module, written: written{id: id, unit: unit, form: unix.Forms()[name]}}
}

// flagged is an option that is there where the setting has one value.
func flagged(name, module string, id setting.ID, there setting.Value) option {
	return option{name: name, module: module, flag: true, written: written{id: id, unit: 1, form: func(v setting.Value) string {
		if _, isWord := v.Word(); !isWord {
			return ""
		}
		if v == there {
			return "there"
		}
		return "absent"
	}}}
}

// of are the options of a module that settings are.
func of(module string) (all []option) {
	for _, o := range unix.Options(module) {
		switch {
		case o.Setting == "":
		case o.There.IsSet():
			all = append(all, flagged(o.Name, module, o.Setting, o.There))
		case o.Form != nil:
			w := written{id: o.Setting, unit: 1, form: o.Form, also: o.Also}
			if o.Tested != nil {
				w.form = o.Tested
			}
			all = append(all, option{name: o.Name, module: module, written: w})
		}
	}
	return all
}

var (
	quality  = of("pam_pwquality")
	faillock = of("pam_faillock")
	history  = of("pam_pwhistory")
	hashing  = []option{named("remember", "pam_unix", setting.History, 1), method(), flagged("nullok", "pam_unix", setting.EmptyAccepted, setting.On)}
	delays   = []option{{name: "delay", module: "pam_faildelay", written: written{id: setting.FailureDelay, unit: 1,
		form: func(v setting.Value) string {
			if n, ok := v.Number(); ok {
				return decimal(n * 1_000_000)
			}
			return setting.Plain(v)
		}}}}
	stacks = slices.Concat(quality, faillock, history, hashing, delays, of("pam_cracklib"), of("pam_tally2"))
)

// method is how pam_unix is told to hash.
func method() option {
	return option{module: "pam_unix", written: written{id: setting.HashMethod, unit: 1, form: func(v setting.Value) string {
		word, _ := v.Word()
		return map[string]string{"des": "bigcrypt", "bcrypt": "blowfish"}[word] + map[bool]string{true: word}[word != "des" && word != "bcrypt"]
	}}}
}

// file is one of which lines are settings.
type file struct {
	path    string // in a folder, that ends in a slash
	options []option
	lines   []string // how a line is written: %n the name, %v the value
}

var assigned = []string{"%n = %v", "%n=%v", "%n= %v", "%n =%v", "%n %v"}

var files = []file{
	{"/etc/login.defs", []option{named("PASS_MAX_DAYS", "", setting.MaxAge, day), named("PASS_MIN_DAYS", "", setting.MinAge, day),
		named("PASS_WARN_AGE", "", setting.ExpiryWarning, day), named("ENCRYPT_METHOD", "", setting.HashMethod, 1)}, []string{"%n\t%v", "%n %v",
		"%n   %v"}},
	{"/etc/default/useradd", []option{named("INACTIVE", "", setting.InactiveDisable, day)}, []string{"%n=%v"}},
	{"/etc/security/pwquality.conf", quality, assigned}, {"/etc/security/pwquality.conf.d/50-settings.conf", quality, assigned},
	{"/etc/security/faillock.conf", faillock, assigned}, {"/etc/security/pwhistory.conf", history, assigned},
}

// services are those of which the stacks are looked for.
var services = []string{"system-auth", "password-auth", "common-auth", "common-password", "common-account", "login", "sshd", "passwd",
	"su", "other"}

// calls are how stacks call modules, with their arguments at %o.
var calls = map[string][]string{
	"pam_pwquality": {"password requisite pam_pwquality.so try_first_pass local_users_only retry=3 authtok_type= %o",
		"password    requisite    pam_pwquality.so retry=3 %o",
		"password required pam_pwquality.so retry=3 %o", "password requisite pam_pwquality.so %o"},
	"pam_cracklib": {"password requisite pam_cracklib.so retry=3 %o", "password    required    pam_cracklib.so %o"},
	"pam_tally2": {"auth required pam_tally2.so onerr=fail audit silent %o", "auth    required    pam_tally2.so %o",
		"auth required pam_tally2.so %o onerr=fail"},
	"pam_faillock": {"auth required pam_faillock.so preauth silent audit %o\nauth [default=die] pam_faillock.so authfail audit %o",
		"auth    required    pam_faillock.so preauth silent %o\nauth    required    pam_faillock.so authfail %o",
		"auth required pam_faillock.so preauth %o\nauth sufficient pam_faillock.so authsucc %o"},
	"pam_pwhistory": {"password requisite pam_pwhistory.so %o use_authtok", "password    required    pam_pwhistory.so use_authtok %o",
		"password requisite pam_pwhistory.so %o enforce_for_root try_first_pass use_authtok"},
	"pam_unix": {"password sufficient pam_unix.so shadow try_first_pass use_authtok %o",
		"password [success=1 default=ignore] pam_unix.so obscure use_authtok try_first_pass %o",
		"password    sufficient    pam_unix.so %o shadow", "auth sufficient pam_unix.so %o try_first_pass",
		"auth [success=1 default=ignore] pam_unix.so %o",
		"auth    required    pam_unix.so %o"},
	"pam_faildelay": {"auth required pam_faildelay.so %o", "auth    optional    pam_faildelay.so %o"},
}

// decidedBy are the settings that say whether a module is called and obeyed.
var decidedBy = func() map[string][]setting.ID {
	all := map[string][]setting.ID{}
	for _, o := range stacks {
		all[o.module] = append(all[o.module], o.id)
	}
	return all
}()

// place is an option, and the ways in which it can be written.
type place struct {
	option *option
	with   []string // texts of a file, %v where the value stands
	absent []string // of an option that is there or not: without it
}

// text is a file in which the option has a value, written in one of the ways.
func (p *place) text(way int, value string) string {
	if p.option.flag {
		if value == "absent" {
			return p.absent[way]
		}
		return p.with[way]
	}
	return strings.ReplaceAll(p.with[way], "%v", value)
}

// place is where an option stands in the file.
func (f *file) place(o *option) place {
	p := place{option: o}
	if o.flag {
		p.with, p.absent = []string{"# by hand\n" + o.name + "\n"}, []string{"# by hand\n"}
		return p
	}
	for _, line := range f.lines {
		p.with = append(p.with, "# by hand\n"+strings.ReplaceAll(line, "%n", o.name)+"\n")
	}
	return p
}

// inStack is an option of a call.
func inStack(o *option) place {
	p := place{option: o}
	argument := o.name + "=%v"
	if o.name == "" {
		argument = "%v"
	} else if o.flag {
		argument = o.name
	}
	write := func(call, argument string) string {
		text := ""
		for line := range strings.Lines(strings.ReplaceAll(call, "%o", argument)) {
			text += strings.TrimRight(line, " \n") + "\n"
		}
		return "#%PAM-1.0\n" + text
	}
	for _, call := range calls[o.module] {
		p.with, p.absent = append(p.with, write(call, argument)), append(p.absent, write(call, ""))
	}
	return p
}

// placesIn are the options of the files of a path, and whether it is that of stacks.
func placesIn(paths func(string) bool) (all []place, isStack bool) {
	for i := range files {
		if f := &files[i]; paths(f.path) {
			for k := range f.options {
				all = append(all, f.place(&f.options[k]))
			}
		}
	}
	if isStack = slices.ContainsFunc(stackFiles(), paths); isStack {
		for k := range stacks {
			all = append(all, inStack(&stacks[k]))
		}
	}
	return all, isStack
}

func stackFiles() (all []string) {
	for _, s := range services {
		all = append(all, "/etc/pam.d/"+s, "/usr/lib/pam.d/"+s, "/etc/authselect/"+s)
	}
	return all
}

// paths reads which files an object is about.
func (e *evaluation) paths(o *oval, object *node) (func(string) bool, string, error) {
	if whole := object.first("filepath"); whole.name != "" {
		a, err := e.expected(o, whole)
		return a.accepts, strings.Join(a.values, ", "), err
	}
	folder, err := e.expected(o, object.first("path"))
	if err != nil {
		return nil, "", err
	}
	name, err := e.expected(o, object.first("filename"))
	if err != nil {
		return nil, "", err
	}
	return func(file string) bool {
		dir, base := path.Split(file)
		return (folder.accepts(dir) || folder.accepts(strings.TrimSuffix(dir, "/"))) && name.accepts(base)
	}, strings.Join(folder.values, ", ") + "/" + strings.Join(name.values, ", "), nil
}

// textTest is a test on what stands in a file.
func (e *evaluation) textTest(o *oval, t, object *node, states []*node) (formula, error) {
	paths, shown, err := e.paths(o, object)
	if err != nil {
		return nil, err
	}
	places, isStack := placesIn(paths)
	if len(places) == 0 {
		return nil, fmt.Errorf("it asks for lines of %s, which no setting is read from", shown)
	}
	e.relevant, e.unix = true, true
	m, err := e.matching(o, t, object, states)
	if err != nil {
		return nil, err
	}
	fit, names := m.fitting(places, false)
	if len(names) == 0 { // it may say the same whatever the value
		fit, names = m.fitting(places, true)
		if len(names) > 1 && isStack {
			names = nil // any call of the module
		}
	}
	switch {
	case m.slow():
		return nil, errSlow
	case len(names) == 0 && isStack:
		return e.call(m)
	case len(names) == 0:
		return nil, m.unfit(shown, places[0])
	case len(names) > 1:
		return nil, fmt.Errorf("its pattern fits several settings of %s (%s)", shown, strings.Join(names, ", "))
	}
	way := m.way(fit, true)
	v := fit.option.accepting(func(value string) bool { return m.accepts(fit.text(way, value)) }, m.figures)
	switch {
	case m.slow():
		return nil, errSlow
	case v.empty() && m.absent:
		return nil, errCondition // that it is not written there, whatever it would be
	}
	return leaf(v), nil
}

// fitting are the options on which the test turns, or, where that is enough, which its
// pattern finds: the first, and the names of all settings.
func (m *matching) fitting(places []place, found bool) (fit *place, names []string) {
	var ids []setting.ID
	for i := range places {
		p := &places[i]
		if m.way(p, found) < 0 || slices.Contains(ids, p.option.id) {
			continue
		}
		if fit == nil {
			fit = p
		}
		ids, names = append(ids, p.option.id), append(names, p.option.name)
	}
	return fit, names
}

// call is a test that asks for a module to be called. Whether it is, and is obeyed,
// decides settings.
func (e *evaluation) call(m *matching) (formula, error) {
	for module, forms := range calls {
		for _, form := range forms {
			text := "#%PAM-1.0\n" + strings.ReplaceAll(form, " %o", "") + "\n"
			if m.accepts(text) != m.accepts("#%PAM-1.0\n") {
				if !m.accepts(text) {
					return nil, fmt.Errorf("it asks that %s is not called so", module)
				}
				e.called = append(e.called, module)
				e.remark("that " + module + " is called is asked too; whether it is, and is obeyed, decides the settings")
				return nil, nil
			}
		}
	}
	return nil, fmt.Errorf("it asks for lines of stacks by a pattern that fits no setting's")
}

// noSettings are options that documents ask for and that are no settings, and why.
var noSettings = func() map[string]string {
	all := map[string]string{"PASS_MIN_LEN": "it is not heeded where PAM changes passwords",
		"PASS_MAX_LEN": "it is not heeded where PAM changes passwords", "UMASK": "it is not about passwords",
		"LOGIN_RETRIES": "no setting is that", "FAIL_DELAY": "PAM delays by a module of its own",
		"SHA_CRYPT_MIN_ROUNDS": "PAM reads the most, not the least", "SHA_CRYPT_MAX_ROUNDS": "no demand is made of it"}
	for _, module := range []string{"pam_pwquality", "pam_faillock", "pam_pwhistory"} {
		for _, o := range unix.Options(module) {
			if o.NoSetting != "" {
				all[o.Name] = o.NoSetting
			}
		}
	}
	return all
}()

// unfit says why no setting is read from what a pattern finds.
func (m *matching) unfit(shown string, like place) error {
	for name, why := range noSettings {
		for _, line := range like.with {
			for _, value := range []string{"1", "14", "-1", "077", "65536"} {
				if text := strings.ReplaceAll(strings.ReplaceAll(line, like.option.name, name), "%v", value); m.finds(text) && !m.finds("# by hand\n") {
					return fmt.Errorf("it asks for %s of %s: %s", name, shown, why)
				}
			}
		}
		if m.finds("# by hand\n"+name+"\n") && !m.finds("# by hand\n") {
			return fmt.Errorf("it asks for %s of %s: %s", name, shown, why)
		}
	}
	return fmt.Errorf("it asks for lines of %s by a pattern that fits no setting's", shown)
}

// shadowEntities are the fields of shadow that are settings.
var shadowEntities = map[string]string{"chg_allow": "shadow field 4", "chg_req": "shadow field 5", "exp_warn": "shadow field 6",
	"exp_inact": "shadow field 7"}

// ordinary are made-up accounts: a test that is about all is about them.
var ordinary = []string{"ada", "r.quill", "svc-tide", "x9"}

// shadowTest is a test on the accounts' own lines.
func (e *evaluation) shadowTest(o *oval, t, object *node, states []*node) (formula, error) {
	e.unix = true
	who, err := e.expected(o, object.first("username"))
	if err != nil {
		return nil, err
	}
	for _, name := range ordinary {
		if !who.accepts(name) {
			return nil, fmt.Errorf("it is about the account %s only, or not about all", strings.Join(who.values, ", "))
		}
	}
	for _, f := range object.all("filter") {
		if err := e.filtered(o, f); err != nil {
			return nil, err
		}
	}
	there, _, err := exists(t)
	switch {
	case err != nil:
		return nil, err
	case !there:
		return nil, fmt.Errorf("it asks that no account is listed")
	case len(states) == 0:
		return nil, fmt.Errorf("it asks only that accounts are listed")
	}
	return e.byStates(t, states, func(n *node) (formula, error) {
		field, ok := shadowEntities[n.name]
		if !ok {
			return nil, fmt.Errorf("it asks for the %s of accounts, which no setting is", n.name)
		}
		i := slices.IndexFunc(ages, func(w age) bool { return w.field == field })
		a, err := e.expected(o, n)
		if err != nil {
			return nil, err
		}
		return ages[i].leaf(a)
	})
}

// hashes are what stands in shadow for a password.
var hashes = []string{"$6$harbour$l3zLq0Jw6v1Q", "$y$j9T$harbour$l3zLq0Jw6v1Q", "$5$harbour$l3zLq0Jw6v1Q"}

// filtered says why a filter leaves ordinary accounts with a password out; nil: it leaves out
// others, such as locked ones, which no demand is about.
func (e *evaluation) filtered(o *oval, f *node) error {
	state := o.parts[strings.TrimSpace(f.text)]
	if state == nil {
		return fmt.Errorf("its filter's state %s is not in the document", f.text)
	}
	for _, name := range ordinary {
		for _, hash := range hashes {
			fits := true
			for _, n := range state.below {
				have, known := map[string]string{"username": name, "password": hash}[n.name]
				if n.name == "notes" {
					continue
				}
				if !known {
					return fmt.Errorf("its filter goes by the %s of accounts, and that is not read", n.name)
				}
				a, err := e.expected(o, n)
				if err != nil {
					return err
				}
				fits = fits && a.accepts(have)
			}
			if fits != (f.of("action") == "include") {
				return fmt.Errorf("its filter leaves out accounts that have a password")
			}
		}
	}
	return nil
}

// age is a field of shadow.
type age struct {
	field string
	written
}

var ages = []age{
	{"shadow field 4", written{id: setting.MinAge, unit: day, form: unix.Forms()["shadow field 4"]}},
	{"shadow field 5", written{id: setting.MaxAge, unit: day, form: unix.Forms()["shadow field 5"]}},
	{"shadow field 6", written{id: setting.ExpiryWarning, unit: day, form: unix.Forms()["shadow field 6"]}},
	{"shadow field 7", written{id: setting.InactiveDisable, unit: day, form: setting.Scaled(day, map[setting.Special]string{setting.Never: "-1"})}},
}
