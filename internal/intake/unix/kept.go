package unix

import (
	"path"
	"regexp"
	"slices"
	"strings"

	"sternledger/internal/intake"
	"sternledger/internal/redact"
)

// keeping says what is kept of one kind of file, line by line.
type keeping struct {
	is   func(name string) bool
	line func(k *keeper, text string) string
}

// keepings are the kinds of files, the first that fits counting. What a part
// loses here is read by nobody: the reader sees the copy that is kept.
var keepings = []keeping{
	{named("etc/passwd"), (*keeper).passwd},
	{named("etc/shadow"), (*keeper).shadow},
	{named("etc/group"), (*keeper).group},
	{isStack, (*keeper).stack},
	{func(n string) bool { return strings.HasPrefix(n, "etc/sudoers") }, (*keeper).sudoers},
	{named("etc/hostname", "etc/shells", "etc/debian_version", "etc/redhat-release", "etc/nsswitch.conf"), (*keeper).plain},
	{func(n string) bool { return assignedNames(n) != nil }, (*keeper).assignment},
	{func(string) bool { return true }, (*keeper).plain},
}

func named(names ...string) func(string) bool {
	return func(name string) bool { return slices.Contains(names, name) }
}

func isStack(name string) bool {
	return name == "etc/pam.conf" || strings.HasPrefix(name, "etc/authselect/") || slices.ContainsFunc(serviceFolders,
		func(f string) bool { return strings.HasPrefix(name, f) })
}

// keeper makes the copy of a part that is kept.
type keeper struct {
	part    *intake.Part
	all     bool // keep what no rule needs
	names   []string
	struck  int
	notKept int

	// Of the line before, if it goes on behind a backslash:
	goesOn   bool
	call     *called // the module that it calls
	assigned string  // the name to whose value it ends with "="
	command  bool    // it ends in a command with its arguments
}

// keepParts replaces the parts' contents by what is kept of them.
func keepParts(t *intake.Tree) {
	for _, p := range t.Parts {
		i := slices.IndexFunc(keepings, func(k keeping) bool { return k.is(p.Name) })
		k := &keeper{part: p, all: t.KeepAll, names: assignedNames(p.Name)}
		rows := strings.Split(string(p.Data), "\n")
		for n, row := range rows {
			text, cr := strings.CutSuffix(row, "\r")
			if rows[n] = keepings[i].line(k, text); cr {
				rows[n] += "\r"
			}
		}
		if k.struck+k.notKept > 0 {
			p.Kept = []byte(strings.Join(rows, "\n"))
			p.Data, p.Struck, p.NotKept = p.Kept, k.struck, k.notKept
		}
	}
}

// drop is the mark for something that no rule needs.
func (k *keeper) drop(name, value string) string {
	kept, struck := redact.Keep(name, value, false, k.all)
	switch {
	case struck:
		k.struck++
	case kept != value:
		k.notKept++
	}
	return kept
}

// text strikes secrets out of something that is kept.
func (k *keeper) text(value string) string {
	kept, struck := redact.Text(value)
	if struck {
		k.struck++
	}
	return kept
}

// secretly is the mark for a line that is none of its file's.
func (k *keeper) secretly(text string) string {
	if strings.TrimSpace(text) == "" || redact.IsMark(text) {
		return text
	}
	k.struck++
	return redact.Struck
}

// comment is what is kept of one.
func (k *keeper) comment(text string) string {
	at := strings.IndexByte(text, '#') + 1
	if strings.TrimSpace(text[at:]) == "" {
		return text
	}
	return text[:at] + " " + k.drop("", strings.TrimSpace(text[at:]))
}

func (k *keeper) hash(field string) string {
	kept, _ := struckHash(field)
	if kept != field {
		k.struck++
	}
	return kept
}

func (k *keeper) passwd(text string) string {
	f := strings.Split(text, ":")
	switch {
	case text == "" || text[0] == '+' && len(f) < 7 && !strings.ContainsAny(text, "$ "):
		return text
	case text[0] == '#':
		return k.comment(text)
	case len(f) != 7 || f[0] == "" || strings.ContainsAny(f[0], " \t$"):
		return k.oddFields(f, 7)
	}
	f[1], f[4] = k.hash(f[1]), k.text(f[4])
	return strings.Join(f, ":")
}

// oddFields keeps of a line that is not as it should be its first field, where
// that can be a name, and the number of the others.
func (k *keeper) oddFields(f []string, want int) string {
	if len(f) < 2 || !accountName.MatchString(f[0]) {
		return k.secretly(strings.Join(f, ":"))
	}
	for i := 1; i < len(f); i++ {
		f[i] = k.oddField(f[i])
	}
	return strings.Join(f, ":")
}

func (k *keeper) oddField(text string) string {
	if text == "" || text == "x" || text == "*" || text == "!" || digits.MatchString(text) {
		return text
	}
	return k.secretly(text)
}

var (
	accountName = regexp.MustCompile(`^[a-z_][a-z0-9_-]{0,31}\$?$`)
	digits      = regexp.MustCompile(`^-?[0-9]{1,6}$`)
)

func (k *keeper) shadow(text string) string {
	f := strings.Split(text, ":")
	if text == "" || text[0] == '+' && len(f) == 1 {
		return text
	}
	if len(f) < 2 || strings.ContainsAny(f[0], " \t") {
		return k.secretly(text)
	}
	f[1] = k.hash(f[1])
	for i := 2; i < len(f); i++ {
		f[i] = k.oddField(f[i])
	}
	return strings.Join(f, ":")
}

func (k *keeper) group(text string) string {
	f := strings.Split(text, ":")
	switch {
	case text == "" || text[0] == '+' && len(f) < 4:
		return text
	case text[0] == '#':
		return k.comment(text)
	case len(f) != 4 || f[0] == "" || strings.ContainsAny(f[0], "\t$"):
		return k.oddFields(f, 4)
	}
	f[1] = k.hash(f[1])
	return strings.Join(f, ":")
}

// argument is one word behind a module, brackets and all.
var argument = regexp.MustCompile(`\[[^\]]*\]|\S+`)

// everyones are arguments that many modules take, and that give nothing away.
var everyones = []string{"debug", "audit", "silent", "quiet", "no_warn", "use_first_pass", "try_first_pass", "use_authtok",
	"use_mapped_pass", "expose_authtok", "expose_account", "force", "nullok",
	"nullok_secure", "likeauth", "seteuid", "noupdate", "nopen", "onerr", "close", "open", "multiple", "revoke", "force_first_pass",
	"quiet_success", "quiet_fail", "type", "stdout", "log", "preauth",
	"authfail", "authsucc", "missingok", "optional", "required", "ignore_unknown_user", "ignore_authinfo_unavail",
	"ignore_local_user", "domains", "service", "user", "uid", "gid", "eq", "ne", "ge", "le", "in", "noaudit"}

var (
	// inStack begins a line of a stack.
	inStack = regexp.MustCompile(`^\s*(@include\s|(\S+\s+)?-?(?i:auth|account|password|session)(\s|$))`)
	// endsInName ends one whose value stands in the next line.
	endsInName = regexp.MustCompile(`([^\s\[=]+)=\s*$`)
	firstWord  = regexp.MustCompile(`[^\s\]\\#]+`)
)

// stack keeps of a call the control and the module as they are. Arguments of
// modules that are modelled are kept, but for secrets; of others only those that
// many modules take. A call may go on in further lines.
func (k *keeper) stack(text string) string {
	further, call, from, before := k.goesOn, k.call, 0, ""
	if redact.Name(k.assigned) {
		if at := firstWord.FindStringIndex(text); at != nil {
			k.struck++
			before, text = text[:at[0]]+redact.Struck, text[at[1]:]
		}
	}
	k.goesOn, k.call, k.assigned = false, nil, ""
	body, behind := text, ""
	if at := strings.IndexByte(text, '#'); at >= 0 {
		body, behind = text[:at], k.comment(text[at:]) // which ends the call
	} else if at := len(strings.TrimRight(text, " \t")) - 1; at >= 0 && text[at] == '\\' {
		body, behind, k.goesOn = text[:at], text[at:], true
		if m := endsInName.FindStringSubmatch(body); m != nil {
			k.assigned = m[1]
		}
	}
	if call == nil {
		if call = moduleIn(body); call != nil {
			from = call.end
		}
	}
	switch {
	case call == nil && strings.TrimSpace(body) == "":
		return before + body + behind
	case call == nil && !further && !inStack.MatchString(body):
		return before + k.drop("", body) + behind
	case call == nil:
		return before + k.text(body) + behind
	}
	if k.goesOn {
		k.call = call
	}
	if call.modelled {
		return before + body[:from] + k.text(body[from:]) + behind
	}
	return before + body[:from] + argument.ReplaceAllStringFunc(body[from:], k.foreignArgument) + behind
}

// foreignArgument keeps one argument of a module that is not modelled.
func (k *keeper) foreignArgument(arg string) string {
	inner := strings.TrimSuffix(strings.TrimPrefix(arg, "["), "]")
	name, value, assigned := strings.Cut(inner, "=")
	switch {
	case slices.Contains(everyones, name) && (!assigned || !redact.Name(name) && value == strings.ToLower(value) &&
		!redact.Look(value) && len(value) <= 32):
		return arg
	case !assigned:
		return k.drop("argument", arg)
	case strings.HasPrefix(arg, "["):
		return "[" + name + "=" + k.drop(name, value) + "]"
	}
	return name + "=" + k.drop(name, value)
}

// called is a module's place in a line of a stack.
type called struct {
	end      int // of its name
	modelled bool
}

var moduleWord = regexp.MustCompile(`(?:^|\s)(\S*?)(pam_[A-Za-z0-9_-]+)(?:\.so)?(\s|$|\\)`)

// moduleIn finds the module that a line calls; nil where none is called.
func moduleIn(body string) *called {
	m := moduleWord.FindStringSubmatchIndex(body)
	if m == nil {
		return nil
	}
	name := body[m[4]:m[5]]
	_, fixed := plainAnswers[name]
	_, asked := answers[name]
	return &called{end: m[6], modelled: fixed && !slices.Contains(talkative, name) || asked}
}

// talkative are modules that the program knows, and that sign in elsewhere or
// run something, with what they are told.
var talkative = []string{"pam_ldap", "pam_sss", "pam_winbind", "pam_krb5", "pam_env", "pam_exec", "pam_mkhomedir",
	"pam_namespace", "pam_tty_audit"}

// commandArguments are what stands behind a command in sudoers, further those that the
// next line begins with.
var (
	commandArguments = regexp.MustCompile(`(/[^\s,:=]+)[ \t]+((?:[^,:\\#]|\\.)+)`)
	furtherArguments = regexp.MustCompile(`^(?:[^,:\\#]|\\.)+`)
	endsInCommand    = regexp.MustCompile(`/[^,]*\\\s*$`)
)

func (k *keeper) sudoers(text string) string {
	body, behind := text, ""
	if m := comment.FindStringIndex(text); m != nil && includes.FindString(strings.TrimSpace(text)) == "" {
		body, behind = text[:m[0]], k.comment(text[m[0]:])
	}
	further := k.command
	k.command = endsInCommand.MatchString(body) || further && strings.HasSuffix(strings.TrimSpace(body), `\`) && !strings.Contains(body, ",")
	if further {
		body = furtherArguments.ReplaceAllStringFunc(body, func(args string) string {
			if strings.TrimSpace(args) == "" {
				return args
			}
			return " " + k.drop("arguments", strings.TrimSpace(args)) + " "
		})
	}
	body = commandArguments.ReplaceAllStringFunc(body, func(call string) string {
		m := commandArguments.FindStringSubmatch(call)
		return m[1] + " " + k.drop("arguments", strings.TrimSpace(m[2]))
	})
	if strings.HasPrefix(strings.TrimSpace(body), "Defaults") {
		return k.text(body) + behind
	}
	if redact.Look(body) { // the words of tags have "PASSWD" in them
		return k.secretly(body) + behind
	}
	return body + behind
}

// plain keeps a line of a list: what it says is what is read.
func (k *keeper) plain(text string) string {
	if at := strings.IndexByte(text, '#'); at >= 0 && strings.TrimSpace(text[:at]) == "" {
		return k.comment(text)
	}
	if path.Ext(k.part.Name) == ".conf" { // a list of names may have the mark in one
		return k.untilComment(text)
	}
	return k.text(text)
}

// untilComment keeps a line but for a comment behind it.
func (k *keeper) untilComment(text string) string {
	if at := strings.IndexByte(text, '#'); at >= 0 {
		return k.text(text[:at]) + k.comment(text[at:])
	}
	return k.text(text)
}

// assignedNames are the names that are read in a file of "NAME VALUE" or
// "NAME = VALUE" lines; nil for other files.
func assignedNames(part string) []string {
	of := func(g grammar) []string { return slices.Concat(g.numbers, g.others) }
	switch {
	case part == "etc/login.defs":
		return []string{"PASS_MAX_DAYS", "PASS_MIN_DAYS", "PASS_WARN_AGE", "PASS_MIN_LEN", "PASS_MAX_LEN", "ENCRYPT_METHOD",
			"MD5_CRYPT_ENAB", "SHA_CRYPT_MIN_ROUNDS", "SHA_CRYPT_MAX_ROUNDS", "YESCRYPT_COST_FACTOR",
			"BCRYPT_MIN_ROUNDS", "BCRYPT_MAX_ROUNDS", "UID_MIN", "UID_MAX", "SYS_UID_MIN", "SYS_UID_MAX", "GID_MIN", "GID_MAX",
			"FAIL_DELAY", "LOGIN_RETRIES", "LOGIN_TIMEOUT", "OBSCURE_CHECKS_ENAB", "PASS_ALWAYS_WARN", "PASS_CHANGE_TRIES"}
	case part == "etc/default/useradd":
		return []string{"INACTIVE", "EXPIRE", "GROUP", "SHELL", "HOME"}
	case path.Base(part) == "os-release":
		return []string{"ID", "ID_LIKE", "VERSION_ID", "VERSION_CODENAME", "NAME", "PRETTY_NAME", "VERSION"}
	case strings.HasPrefix(part, "etc/security/pwquality.conf"):
		return of(pwquality)
	case part == "etc/security/faillock.conf":
		return of(faillock)
	case part == "etc/security/pwhistory.conf":
		return of(pwhistory)
	}
	return nil
}

var nameAndValue = regexp.MustCompile(`^(\s*)([A-Za-z_][A-Za-z0-9_.-]*)(\s*=\s*|\s+)(.*)$`)

func (k *keeper) assignment(text string) string {
	if at := strings.IndexByte(text, '#'); at >= 0 && strings.TrimSpace(text[:at]) == "" {
		return k.comment(text)
	}
	m := nameAndValue.FindStringSubmatch(text)
	if m == nil {
		if word := strings.TrimSpace(text); word == "" ||
			slices.ContainsFunc(k.names, func(n string) bool { return strings.EqualFold(n, word) }) || plainWord.MatchString(word) {
			return text
		}
		return k.secretly(text)
	}
	if slices.ContainsFunc(k.names, func(n string) bool { return strings.EqualFold(n, m[2]) }) {
		return k.untilComment(text)
	}
	return m[1] + m[2] + m[3] + k.drop(m[2], m[4])
}

var plainWord = regexp.MustCompile(`^[a-z_]{1,24}$`)
