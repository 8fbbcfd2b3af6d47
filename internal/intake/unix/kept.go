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
// loses here is read by nobody: the reader sees the copy that is kept. Of a kind
// that is not here nothing is kept, unless a call of a module names the file.
var keepings = []keeping{
	{named("etc/passwd"), (*keeper).passwd},
	{named("etc/shadow"), (*keeper).shadow},
	{named("etc/group"), (*keeper).group},
	{isStack, (*keeper).stack},
	{func(n string) bool { return strings.HasPrefix(n, "etc/sudoers") }, (*keeper).sudoers},
	{func(n string) bool { return assignedIn(n) != nil }, (*keeper).assignment},
	{named("etc/passwdqc.conf"), (*keeper).options},
	{func(n string) bool { return strings.Contains(n, "etc/ssh/sshd_config") }, (*keeper).ssh},
	{func(n string) bool { return lineForm(n) != nil }, (*keeper).formed},
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
	name    string // the part's, where the vendor's own counts as the one in etc
	all     bool   // keep what no rule needs
	names   map[string]*regexp.Regexp
	struck  int
	notKept int

	// Of the line before, if it goes on behind a backslash:
	call     *called
	assigned string // the name to whose value it ends with "="
	command  bool   // it ends in a command with its arguments
	more     bool   // a rule of sudoers does
}

// keepParts replaces the parts' contents by what is kept of them.
func keepParts(t *intake.Tree) {
	told, included := further(t), byPath(t)
	for _, p := range t.Parts {
		line := (*keeper).nothing
		if slices.Contains(told, p.Name) {
			line = (*keeper).list
		}
		if slices.Contains(included, p.Name) {
			line = (*keeper).stack
		}
		name := p.Name
		if vendors, ok := strings.CutPrefix(name, "usr/"); ok && strings.HasPrefix(vendors, "etc/") && !isStack(name) {
			name = vendors
		}
		if i := slices.IndexFunc(keepings, func(k keeping) bool { return k.is(name) }); i >= 0 {
			line = keepings[i].line
		}
		k := &keeper{part: p, name: name, all: t.KeepAll, names: assignedIn(name)}
		rows := strings.Split(string(p.Data), "\n")
		for n, row := range rows {
			text, cr := strings.CutSuffix(row, "\r")
			if rows[n] = line(k, text); cr {
				rows[n] += "\r"
			}
		}
		kept := p.Data
		if k.struck+k.notKept > 0 {
			kept = []byte(strings.Join(rows, "\n"))
		}
		p.Keep(kept, k.struck, k.notKept)
		p.Data = kept
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

// nothing keeps a line of a file of which only that it is there is read.
func (k *keeper) nothing(text string) string {
	if strings.TrimSpace(text) == "" {
		return text
	}
	if at := strings.IndexByte(text, '#'); at >= 0 && strings.TrimSpace(text[:at]) == "" {
		return k.comment(text)
	}
	return k.drop("", text)
}

func (k *keeper) hash(field string) string {
	kept, _ := struckHash(field)
	if kept != field {
		k.struck++
	}
	return kept
}

var (
	// otherAccounts brings in accounts from elsewhere, in compat's way (nsswitch.conf(5)).
	otherAccounts = regexp.MustCompile(`^[+-](?:@?[a-z_][a-z0-9_.-]{0,31})?:*$`)
	accountName   = regexp.MustCompile(`^[a-z_][a-z0-9_-]{0,31}\$?$`)
	anyName       = regexp.MustCompile(`^[A-Za-z0-9_][\w.@\\+ -]{0,255}\$?$`)
	digits        = regexp.MustCompile(`^-?[0-9]{1,10}$`)
	plainPath     = regexp.MustCompile(`^(?:/[\w.@+~ -]*)*/?$`)
	nameList      = regexp.MustCompile(`^(?:[\w.@\\+$ -]+(?:,[\w.@\\+$ -]*)*)?$`)
)

func (k *keeper) passwd(text string) string {
	f := strings.Split(text, ":")
	switch {
	case text == "" || otherAccounts.MatchString(text):
		return text
	case text[0] == '#':
		return k.comment(text)
	case len(f) != 7 || !anyName.MatchString(f[0]):
		return k.oddFields(f)
	}
	f[1], f[2], f[3], f[4] = k.hash(f[1]), k.oddField(f[2]), k.oddField(f[3]), k.text(f[4])
	for i := 5; i < 7; i++ {
		if f[i] != "" && !aPath.MatchString(f[i]) {
			f[i] = k.drop("", f[i])
		}
	}
	return strings.Join(f, ":")
}

// oddFields keeps of a line that is not as it should be its first field, where
// that can be a name, and the number of the others.
func (k *keeper) oddFields(f []string) string {
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

func (k *keeper) shadow(text string) string {
	f := strings.Split(text, ":")
	if text == "" || otherAccounts.MatchString(text) {
		return text
	}
	if len(f) < 2 || !anyName.MatchString(f[0]) {
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
	case text == "" || otherAccounts.MatchString(text):
		return text
	case text[0] == '#':
		return k.comment(text)
	case len(f) != 4 || !anyName.MatchString(f[0]):
		return k.oddFields(f)
	}
	f[1], f[2] = k.hash(f[1]), k.oddField(f[2])
	if !nameList.MatchString(f[3]) {
		f[3] = k.secretly(f[3])
	}
	return strings.Join(f, ":")
}

// argument is one word of a stack, brackets and all.
var argument = regexp.MustCompile(`\[[^\]]*\]|\S+`)

// place is what comes next in a line of a stack.
type place int

const (
	atService place = iota // of pam.conf alone
	atType
	atControl
	atModule
	atIncluded // the name of another stack
	atArguments
	atRest // of a line that is none: nothing is read of it
)

// called is a line of a stack, as far as it was gone through.
type called struct {
	next   place
	module string
	after  string // the argument before
}

// arguments are those that modules take as they stand there, and with "=" and a value of
// that form. Others are no secret's either, perhaps: but what no rule understands is not
// kept.
var arguments = func() map[string]*regexp.Regexp {
	all := map[string]*regexp.Regexp{}
	add := func(value *regexp.Regexp, names ...string) {
		for _, n := range names {
			if all[n] == nil {
				all[n] = value
			}
		}
	}
	for _, o := range table {
		add(o.takes.shape(), o.Name)
	}
	for name := range hashArguments {
		add(aNumber, name)
	}
	add(aWord, passwdqcWords...)
	add(aNumber, "remember", "rounds", "minlen", "delay", "max", "passphrase", "match", "retry", "random", "uid", "gid", "fail_interval", "deny",
		"unlock_time", "lock_time", "revoke", "minimum_uid", "magic_root")
	add(regexp.MustCompile(`^(?:\d{1,6}|disabled)(?:,(?:\d{1,6}|disabled))*$`), "min")
	add(aPath, "conf", "config", "conffile", "accessfile", "file", "dir", "wordlist", "denylist", "filter")
	add(regexp.MustCompile(`^[a-z_]{1,24}$`), "similar", "enforce", "item", "sense", "onerr", "auth", "cred", "acct", "prechauthtok",
		"chauthtok", "open_session", "close_session")
	add(regexp.MustCompile(`^[A-Za-z_]{0,24}$`), "type", "authtok_type") // a word of the prompt
	add(anyName, "group", "apply", "domains", "service")
	add(regexp.MustCompile(`^[:;,|\t ]$`), "fieldsep", "listsep")
	add(nil, strings.Fields(`debug audit silent quiet no_warn use_first_pass try_first_pass use_authtok use_mapped_pass expose_authtok
		expose_account force nullok nullok_secure nullresetok likeauth seteuid noupdate nopen noenv close open multiple revoke
		force_first_pass quiet_success quiet_fail stdout log preauth authfail authsucc missingok optional required
		ignore_unknown_user ignore_authinfo_unavail ignore_local_user noaudit use_uid successok obscure shadow nis broken_shadow
		not_set_pass nodelay try_authtok root_only trust noreset per_user reset serialize deny_root onaccess
		forward_pass allow_missing_name prompt_always nodefgroup`)...)
	return all
}()

var (
	aNumber  = regexp.MustCompile(`^(?:[-+]?\d{1,18}[A-Za-z]{0,2}|never)$`)
	aPath    = regexp.MustCompile(`^/[\w./@+-]{0,200}$`)
	wordList = regexp.MustCompile(`^[\w .-]{1,500}$`)
	aWord    = regexp.MustCompile(`^[a-z]{1,16}$`)

	ofService    = regexp.MustCompile(`^\s*\S+\s+-?(?i:auth|account|password|session)\s`)
	typeWord     = regexp.MustCompile(`^-?(?i:auth|account|password|session)$`)
	controlWord  = regexp.MustCompile(`^(?i:required|requisite|sufficient|optional|include|substack|binding)$`)
	controlTable = regexp.MustCompile(`^\[\s*(?:[a-z_]+=(?:[a-z]+|\d+)\s*)*\]$`)
	moduleName   = regexp.MustCompile(`^[\w./+$-]{1,200}$`)
	// endsInName ends a line whose value stands in the next line.
	endsInName = regexp.MustCompile(`([^\s\[=]+)=\s*$`)
)

// stack keeps of a line of a stack its form, the module, and those arguments that are
// understood. A call may go on in further lines.
func (k *keeper) stack(text string) string {
	call := k.call
	k.call = nil
	body, behind, goesOn := text, "", false
	if at := strings.IndexByte(text, '#'); at >= 0 {
		body, behind = text[:at], k.comment(text[at:]) // which ends the call
	} else if at := len(strings.TrimRight(text, " \t")) - 1; at >= 0 && text[at] == '\\' {
		body, behind, goesOn = text[:at], text[at:], true
	}
	if call == nil {
		call = &called{next: atType}
		if k.part.Name == "etc/pam.conf" {
			if call.next = atRest; ofService.MatchString(body) {
				call.next = atService
			}
		}
		k.assigned = ""
	}
	assigned := k.assigned
	k.assigned = ""
	body = argument.ReplaceAllStringFunc(body, func(word string) string {
		if redact.Name(assigned) {
			name := assigned
			assigned = ""
			return k.drop(name, word)
		}
		return k.word(call, word)
	})
	if goesOn {
		if k.call = call; endsInName.MatchString(body) {
			k.assigned = endsInName.FindStringSubmatch(body)[1]
		}
	}
	return body + behind
}

// word keeps one word of a stack's line.
func (k *keeper) word(c *called, word string) string {
	kept := false
	switch c.next {
	case atService:
		kept, c.next = moduleName.MatchString(word), atType
	case atType:
		switch {
		case strings.EqualFold(word, "@include"):
			kept, c.next = true, atIncluded
		case typeWord.MatchString(word):
			kept, c.next = true, atControl
		default:
			c.next = atRest
		}
	case atControl:
		kept = controlWord.MatchString(word) || controlTable.MatchString(word)
		if c.next = atModule; strings.EqualFold(word, "include") || strings.EqualFold(word, "substack") {
			c.next = atIncluded
		}
	case atIncluded:
		kept, c.next = moduleName.MatchString(word), atRest
	case atModule:
		kept, c.next = moduleName.MatchString(word), atArguments
		c.module = strings.TrimSuffix(path.Base(word), ".so")
	case atArguments:
		kept = c.takes(word)
		c.after = word
	}
	if kept && !redact.Look(word) {
		return word
	}
	if before, value, ok := strings.Cut(word, "="); ok && !strings.HasPrefix(word, "[") {
		form, known := arguments[strings.ToLower(before)]
		return k.valued(before, "=", value, known, form)
	}
	return k.drop("argument", word)
}

// takes reports whether an argument is one that is understood.
func (c *called) takes(word string) bool {
	if c.module == "pam_succeed_if" {
		return c.condition(word)
	}
	inner := word
	if strings.HasPrefix(word, "[") && strings.HasSuffix(word, "]") {
		inner = word[1 : len(word)-1]
	}
	name, value, assigned := strings.Cut(inner, "=")
	form, known := arguments[strings.ToLower(name)]
	if !assigned || !known {
		return known
	}
	return form != nil && form.MatchString(value)
}

// What conditions of pam_succeed_if(8) are made of.
var (
	conditionFields = strings.Fields("user uid gid shell home ruser rhost tty service")
	conditionWords  = strings.Fields("= != eq ne lt le gt ge =~ !~ in notin ingroup notingroup innetgr notinnetgr < <= > >= ==")
	conditionValue  = regexp.MustCompile(`^[\w.:@/*?+-]{1,200}$`)
)

func (c *called) condition(word string) bool {
	switch {
	case slices.Contains(conditionWords, c.after):
		return conditionValue.MatchString(word)
	case slices.Contains(quiet, word), slices.Contains(conditionWords, word):
		return true
	}
	return slices.Contains(conditionFields, word)
}

// commandArguments are what stands behind a command in sudoers, further those that the
// next line begins with.
var (
	commandArguments = regexp.MustCompile(`(/[^\s,:=]+)[ \t]+((?:[^,:\\#]|\\.)+)`)
	furtherArguments = regexp.MustCompile(`^(?:[^,:\\#]|\\.)+`)
	endsInCommand    = regexp.MustCompile(`/[^,]*\\\s*$`)
	defaultsLine     = regexp.MustCompile(`^\s*Defaults\S*`)
	defaultsWord     = regexp.MustCompile(`[^\s,]+`)
)

// askedFor are the words of Defaults that are read: whose password is asked for.
var askedFor = []string{"targetpw", "rootpw", "runaspw"}

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
	if m := defaultsLine.FindStringIndex(body); m != nil || k.assigned == "Defaults" {
		from := 0
		if m != nil {
			from = m[1]
		}
		if k.assigned = ""; strings.HasSuffix(strings.TrimSpace(body), `\`) {
			k.assigned = "Defaults"
		}
		return body[:from] + defaultsWord.ReplaceAllStringFunc(body[from:], func(word string) string {
			if slices.Contains(askedFor, strings.TrimLeft(word, "!")) || word == `\` {
				return word
			}
			return k.drop("", word)
		}) + behind
	}
	body = commandArguments.ReplaceAllStringFunc(body, func(call string) string {
		m := commandArguments.FindStringSubmatch(call)
		return m[1] + " " + k.drop("arguments", strings.TrimSpace(m[2]))
	})
	form := sudoersForm
	if k.more {
		form = sudoersMore
	}
	if k.more = strings.HasSuffix(strings.TrimSpace(text), `\`) && form.MatchString(body); redact.Look(body) || strings.TrimSpace(body) != "" &&
		!form.MatchString(body) { // the words of tags have "PASSWD" in them
		return k.secretly(body) + behind
	}
	return body + behind
}

// What lines of sudoers are made of (sudoers(5)): an include; an alias; a rule, of users,
// hosts and commands; and what one goes on with behind a backslash.
var (
	sudoersForm = regexp.MustCompile(`^\s*(?:[@#]include\w*\s+\S+|(?:User|Runas|Host|Cmnd)_Alias\s+` + aliasForm + `(?:\s*:\s*` + aliasForm + `)*|` +
		sudoUsers + `\s+` + sudoUsers + `\s*=\s*` + sudoCommands + `(?:\s*:\s*` + sudoUsers + `\s*=\s*` + sudoCommands + `)*)[\s,]*\\?\s*$`)
	sudoersMore = regexp.MustCompile(`^\s*,?\s*(?:` + sudoCommands + `|` + sudoUsers + `)[\s,]*\\?\s*$`)
)

const (
	sudoUser     = `!*\s*(?:[%+#:]*[\w.@/\\-]+|"[\w.@\\ -]*")`
	sudoUsers    = `(?:` + sudoUser + `(?:\s*,\s*` + sudoUser + `)*)`
	sudoCommand  = `(?:\([^()=!"]*\)\s*)?(?:[A-Z_]+\s*:\s*)*!*\s*(?:/[^\s,=:]*|[A-Z][A-Z0-9_]*|sudoedit|sha\d+:\S+)?(?:\s*\[(?:not kept|struck out)\])?\s*`
	sudoCommands = `(?:` + sudoCommand + `(?:,\s*` + sudoCommand + `)*)`
	aliasForm    = `[A-Z][A-Z0-9_]*\s*=\s*(?:` + sudoUsers + `|` + sudoCommands + `)`
)

// lineForm is what each line of a file looks like of which lines are read; nil: another.
func lineForm(part string) *regexp.Regexp {
	if strings.HasPrefix(part, "etc/security/access.d/") {
		part = "etc/security/access.conf"
	}
	return lineForms[part]
}

var lineForms = map[string]*regexp.Regexp{
	"etc/hostname":             regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,252}$`),
	"etc/shells":               regexp.MustCompile(`^/[\w./+-]{1,200}$`),
	"etc/debian_version":       regexp.MustCompile(`^(?:\d{1,3}(?:\.\d{1,3})*|[a-z]{3,16}(?:/sid)?)$`),
	"etc/redhat-release":       regexp.MustCompile(`^(?:Red Hat|CentOS|Rocky|AlmaLinux|Oracle|Fedora|Scientific)(?: [A-Za-z]+){0,4} release \d+(?:\.\d+)*(?: \([A-Za-z ]{1,40}\))?$`),
	"etc/nsswitch.conf":        regexp.MustCompile(`^[a-z_]{1,24}:(?:\s+(?:[a-z_]{1,24}|\[(?:\s*!?[A-Za-z]+=[a-z]+)+\s*\]))*$`),
	"etc/security/access.conf": regexp.MustCompile(`^[+-]\s*:\s*[\w.@()+$\\, -]+\s*:\s*[\w.@:/()*, -]+$`),
	"etc/security/time.conf":   regexp.MustCompile(`^[\w*!&|. -]+;[\w*!&|. -]+;[\w*!&|.$ -]+;[\w!&| -]+$`),
	"packages":                 regexp.MustCompile(`^(?:ii\s+)?[a-z0-9][\w.+:~-]*(?:\s+[\w.+:~-]+)?$`),
	"var/lib/dpkg/status":      regexp.MustCompile(`^(?:Package: [a-z0-9][a-z0-9.+-]*|Status: [a-z ]+|Version: [\w.+:~-]+)$`),
	"installed-debs":           regexp.MustCompile(`^(?:ii\s+)?[a-z0-9][\w.+:~-]*\s+[\w.+:~-]+`),
	"installed-rpms":           regexp.MustCompile(`^[a-zA-Z0-9][\w.+:~-]*`),
}

// formed keeps a line that looks as those of its file do, as far as it does.
func (k *keeper) formed(text string) string {
	body, behind := text, ""
	if at := strings.IndexByte(text, '#'); at >= 0 {
		body, behind = text[:at], k.comment(text[at:])
	}
	trimmed := strings.TrimSpace(body)
	form := lineForm(k.name)
	if k.part.Name == "etc/hostname" && k.assigned != "" { // the first name counts
		return k.drop("", body) + behind
	}
	if k.part.Name == "etc/hostname" {
		k.assigned = trimmed
	}
	switch found := form.FindString(trimmed); {
	case trimmed == "" || found == trimmed:
		return body + behind
	case found != "":
		at := strings.Index(body, found) + len(found)
		return body[:at] + " " + k.drop("", strings.TrimSpace(body[at:])) + behind
	}
	return k.drop("", body) + behind
}

// ssh keeps of sshd's configuration the words that say whether it asks PAM, and for passwords.
func (k *keeper) ssh(text string) string {
	if trimmed := strings.TrimSpace(text); trimmed == "" || trimmed[0] == '#' {
		return k.nothing(text)
	}
	m := nameAndValue.FindStringSubmatch(text)
	if m == nil {
		return k.drop("", text)
	}
	form := sshForms[strings.ToLower(m[2])]
	return m[1] + k.valued(m[2], m[3], m[4], form != nil, form)
}

var sshForms = func() map[string]*regexp.Regexp {
	all := map[string]*regexp.Regexp{"include": regexp.MustCompile(`^"?[\w./*?+-]+"?(?: [\w./*?+-]+)*$`), "match": regexp.MustCompile(`^(?i:all)$`)}
	for _, word := range sshWords {
		all[word] = regexp.MustCompile(`^"?(?i:yes|no)"?$`)
	}
	return all
}()

// list keeps a line of a file that a call of a module names: the accounts in it.
func (k *keeper) list(text string) string {
	if at := strings.IndexByte(text, '#'); at >= 0 && strings.TrimSpace(text[:at]) == "" {
		return k.comment(text)
	}
	trimmed := strings.TrimSpace(text)
	switch name, _, assigned := strings.Cut(trimmed, "="); {
	case trimmed == "" || anyName.MatchString(trimmed) || strings.HasPrefix(trimmed, "/") && plainPath.MatchString(trimmed):
		return k.text(text)
	case assigned || arguments[strings.ToLower(strings.Fields(name)[0])] != nil:
		return k.options(text)
	case lineForms["etc/security/access.conf"].MatchString(trimmed), lineForms["etc/security/time.conf"].MatchString(trimmed):
		return text
	}
	return k.drop("", text)
}

// options keeps a line of options such as a call has them.
func (k *keeper) options(text string) string {
	body, behind := text, ""
	if at := strings.IndexByte(text, '#'); at >= 0 {
		body, behind = text[:at], k.comment(text[at:])
	}
	m := nameAndValue.FindStringSubmatch(body)
	switch word := strings.TrimSpace(body); {
	case word == "":
		return text
	case m == nil:
		if _, known := arguments[strings.ToLower(word)]; known {
			return body + behind
		}
		return k.drop("argument", body) + behind
	}
	form, known := arguments[strings.ToLower(m[2])]
	return m[1] + k.valued(m[2], m[3], m[4], known, form) + behind
}

// valued keeps a name and what stands behind it.
func (k *keeper) valued(name, between, value string, known bool, form *regexp.Regexp) string {
	trimmed := strings.TrimRight(value, " \t")
	switch {
	case trimmed == "" && (known || redact.PlainName(name)), known && form != nil && form.MatchString(trimmed):
		return name + between + value
	case known && form == aNumber && leading(trimmed) != "": // what the module takes of it, perhaps
		return name + between + leading(trimmed) + k.drop(name, trimmed[len(leading(trimmed)):])
	case known || redact.PlainName(name):
		return name + between + k.drop(name, trimmed)
	}
	return k.drop("", name+between+value)
}

// What stands behind the names of files of settings.
var (
	yesNo      = regexp.MustCompile(`^(?i:yes|no)$`)
	quotedWord = regexp.MustCompile(`^["']?[A-Za-z0-9][\w .:/()+-]{0,80}["']?$`)
)

// assignedIn are the names that are read in a file of "NAME VALUE" or "NAME = VALUE"
// lines, with what their values look like; nil for other files.
func assignedIn(part string) map[string]*regexp.Regexp {
	switch {
	case path.Base(part) == "os-release":
		part = "os-release"
	case strings.HasPrefix(part, "etc/security/pwquality.conf"):
		part = "etc/security/pwquality.conf"
	}
	return assignedNames[part]
}

var assignedNames = func() map[string]map[string]*regexp.Regexp {
	of := func(forms map[*regexp.Regexp]string) map[string]*regexp.Regexp {
		all := map[string]*regexp.Regexp{}
		for form, names := range forms {
			for _, name := range strings.Fields(names) {
				all[strings.ToLower(name)] = form
			}
		}
		return all
	}
	by := func(g grammar) map[string]*regexp.Regexp {
		all := map[string]*regexp.Regexp{}
		for _, o := range Options(g.module) {
			all[o.Name] = o.takes.shape()
		}
		return all
	}
	return map[string]map[string]*regexp.Regexp{
		"etc/login.defs": of(map[*regexp.Regexp]string{aNumber: `PASS_MAX_DAYS PASS_MIN_DAYS PASS_WARN_AGE PASS_MIN_LEN PASS_MAX_LEN
			SHA_CRYPT_MIN_ROUNDS SHA_CRYPT_MAX_ROUNDS YESCRYPT_COST_FACTOR BCRYPT_MIN_ROUNDS BCRYPT_MAX_ROUNDS UID_MIN UID_MAX
			SYS_UID_MIN SYS_UID_MAX GID_MIN GID_MAX FAIL_DELAY LOGIN_RETRIES LOGIN_TIMEOUT PASS_CHANGE_TRIES`,
			yesNo: "MD5_CRYPT_ENAB OBSCURE_CHECKS_ENAB PASS_ALWAYS_WARN", regexp.MustCompile(`^[A-Z0-9]{2,16}$`): "ENCRYPT_METHOD"}),
		"etc/default/useradd": of(map[*regexp.Regexp]string{aNumber: "INACTIVE", aPath: "SHELL HOME",
			regexp.MustCompile(`^(?:\d{4}-\d\d-\d\d|-?\d{1,6})$`): "EXPIRE", anyName: "GROUP"}),
		"os-release":                  of(map[*regexp.Regexp]string{quotedWord: "ID ID_LIKE VERSION_ID VERSION_CODENAME NAME PRETTY_NAME VERSION"}),
		"etc/security/pwquality.conf": by(pwquality),
		"etc/security/faillock.conf":  by(faillock),
		"etc/security/pwhistory.conf": by(pwhistory),
	}
}()

// shape is what a value looks like; nil: there is none.
func (t taking) shape() *regexp.Regexp {
	return [...]*regexp.Regexp{aCount: aNumber, aFlag: nil, aFile: aPath, someWords: wordList, aGroup: anyName}[t]
}

var nameAndValue = regexp.MustCompile(`^(\s*)([A-Za-z_][A-Za-z0-9_.-]*)(\s*=\s*|\s+)(.*)$`)

func (k *keeper) assignment(text string) string {
	body, behind := text, ""
	if at := strings.IndexByte(text, '#'); at >= 0 {
		body, behind = text[:at], k.comment(text[at:])
	}
	m := nameAndValue.FindStringSubmatch(body)
	if m == nil {
		word := strings.TrimSpace(body)
		if _, known := k.names[strings.ToLower(word)]; word == "" || known {
			return body + behind
		}
		return k.secretly(body) + behind
	}
	form, known := k.names[strings.ToLower(m[2])]
	return m[1] + k.valued(m[2], m[3], m[4], known, form) + behind
}
