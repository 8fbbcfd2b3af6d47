package unix

import (
	"strconv"

	"sternledger/internal/core/setting"
)

// Option is an option of one of Linux-PAM's modules: one row says how the module takes it,
// which setting it is, and how that is written. Readers, what is kept of evidence, remedies,
// changes of files and tests of published documents all go by these rows.
type Option struct {
	Module, Name string
	// Setting is the one that the option decides; empty where none is, and then NoSetting says
	// why to whoever asks for it.
	Setting   setting.ID
	NoSetting string
	// Form writes a value as a file of the module or a call has it; nil where the option is
	// there, or not, and There is the value where it is.
	Form  setting.Form
	There setting.Value
	// Tested is Form as tests of published documents look for it, where they look for more.
	Tested setting.Form
	// Also are further words for special values that the module takes.
	Also map[setting.Special][]string

	// since is the version of the module's library that first had it, filed the one from which
	// on its file can hold it; 0: all that are read.
	since, filed int

	takes   taking
	most    int64  // of a number, 0: no bound; one above it is not taken
	wraps   bool   // a number of 16 bits without a sign
	also    string // another module that has it, too
	byNone  int64  // what the module takes where it is not told
	byOlder int64  // and what pam_cracklib does
	limit   bool   // it is a most, and 0 or less is no limit
}

// taking is what an option takes.
type taking uint8

const (
	aCount taking = iota
	aFlag
	aFile
	someWords
	aGroup
)

// tally2 is the module before pam_faillock.
const tally2 = "pam_tally2"

const (
	rootByItself = "root is weighed by itself"
	noSuch       = "no setting is that"
)

var (
	table = []Option{
		{Module: pwquality.module, Name: "minlen", Setting: setting.MinLength, Form: setting.Plain, also: cracklib.module, byNone: 8, byOlder: 9},
		{Module: pwquality.module, Name: "minclass", Setting: setting.ClassesRequired, Form: setting.Plain, also: cracklib.module},
		{Module: pwquality.module, Name: "lcredit", Setting: setting.RequireLower, Form: atLeast, Tested: creditOrNone, also: cracklib.module, byOlder: 1},
		{Module: pwquality.module, Name: "ucredit", Setting: setting.RequireUpper, Form: atLeast, Tested: creditOrNone, also: cracklib.module, byOlder: 1},
		{Module: pwquality.module, Name: "dcredit", Setting: setting.RequireDigit, Form: atLeast, Tested: creditOrNone, also: cracklib.module, byOlder: 1},
		{Module: pwquality.module, Name: "ocredit", Setting: setting.RequireSymbol, Form: atLeast, Tested: creditOrNone, also: cracklib.module, byOlder: 1},
		{Module: pwquality.module, Name: "usercheck", Setting: setting.NameCheck, Form: setting.OneZero, byNone: 1, since: 1_004_000},
		{Module: pwquality.module, Name: "dictcheck", Setting: setting.DictionaryCheck, Form: setting.OneZero, byNone: 1, byOlder: 1, since: 1_003_000},
		{Module: pwquality.module, Name: "difok", Setting: setting.MinChanged, Form: setting.Plain, also: cracklib.module, byNone: 1, byOlder: 5},
		{Module: pwquality.module, Name: "maxrepeat", Setting: setting.MaxRepeat, Form: setting.Plain, also: cracklib.module, limit: true},
		{Module: pwquality.module, Name: "maxsequence", Setting: setting.MaxSequence, Form: setting.Plain, also: cracklib.module, limit: true},
		{Module: pwquality.module, Name: "badwords", Setting: setting.Blocklist, takes: someWords},
		{Module: pwquality.module, Name: "maxclassrepeat", NoSetting: noSuch, also: cracklib.module},
		{Module: pwquality.module, Name: "gecoscheck", NoSetting: noSuch},
		{Module: pwquality.module, Name: "usersubstr", NoSetting: noSuch, since: 1_004_003},
		{Module: pwquality.module, Name: "enforcing", NoSetting: "whether a module is obeyed decides the settings", byNone: 1, byOlder: 1, since: 1_004_000},
		{Module: pwquality.module, Name: "retry", NoSetting: "it only says how often the module asks again", also: cracklib.module, filed: 1_004_001},
		{Module: pwquality.module, Name: "dictpath", NoSetting: noSuch, takes: aFile, also: cracklib.module},
		{Module: pwquality.module, Name: "enforce_for_root", NoSetting: rootByItself, takes: aFlag, also: cracklib.module, filed: 1_004_001},
		{Module: pwquality.module, Name: "local_users_only", NoSetting: noSuch, takes: aFlag, filed: 1_004_001},
		{Module: cracklib.module, Name: "reject_username", NoSetting: noSuch, takes: aFlag},
		{Module: cracklib.module, Name: "gecoscheck", NoSetting: noSuch, takes: aFlag},

		{Module: faillock.module, Name: "deny", Setting: setting.LockoutThreshold, Form: setting.Plain, wraps: true, also: tally2},
		{Module: faillock.module, Name: "unlock_time", Setting: setting.LockoutDuration, Form: setting.Plain, most: longestLock, Also: neverUnlocks, also: tally2},
		{Module: faillock.module, Name: "fail_interval", Setting: setting.LockoutWindow, Form: setting.Plain, most: longestLock},
		{Module: faillock.module, Name: "even_deny_root", Setting: setting.LockoutAdministrator, There: setting.On, takes: aFlag, also: tally2},
		{Module: faillock.module, Name: "root_unlock_time", NoSetting: rootByItself, most: longestLock, Also: neverUnlocks, also: tally2},
		{Module: faillock.module, Name: "dir", NoSetting: noSuch, takes: aFile},
		{Module: faillock.module, Name: "admin_group", NoSetting: "who is held to root's rules is weighed by itself", takes: aGroup},
		{Module: faillock.module, Name: "audit", NoSetting: noSuch, takes: aFlag},
		{Module: faillock.module, Name: "silent", NoSetting: noSuch, takes: aFlag},
		{Module: faillock.module, Name: "no_log_info", NoSetting: noSuch, takes: aFlag},
		{Module: faillock.module, Name: "local_users_only", NoSetting: noSuch, takes: aFlag},
		{Module: faillock.module, Name: "nodelay", NoSetting: noSuch, takes: aFlag},

		{Module: pwhistory.module, Name: "remember", Setting: setting.History, Form: setting.Plain},
		{Module: pwhistory.module, Name: "retry", NoSetting: "it only says how often the module asks again"},
		{Module: pwhistory.module, Name: "debug", NoSetting: noSuch, takes: aFlag},
		{Module: pwhistory.module, Name: "enforce_for_root", NoSetting: rootByItself, takes: aFlag},
		{Module: pwhistory.module, Name: "file", NoSetting: noSuch, takes: aFile},
	}
	neverUnlocks = map[setting.Special][]string{setting.UntilAdmin: {"never"}}
)

// Options are the options of a module.
func Options(module string) (all []Option) {
	for i := range table {
		if table[i].of(module) {
			all = append(all, table[i])
		}
	}
	return all
}

// of reports whether a module has an option.
func (o *Option) of(module string) bool { return o.Module == module || o.also == module }

// optionOf is a module's option of that name; nil: it has none.
func optionOf(module, name string) *Option {
	for i := range table {
		if table[i].Name == name && table[i].of(module) {
			return &table[i]
		}
	}
	return nil
}

// byDefault is what a module takes where it is not told.
func (o *Option) byDefault(module string) int64 {
	if module == cracklib.module {
		return o.byOlder
	}
	return o.byNone
}

// AskedAs returns the option that asks a machine for a setting, and its module; empty where
// the name is the one that evidence cites. Evidence can cite another line that decides a
// setting: a stack that calls no module, say.
func AskedAs(id setting.ID) (name, module string) {
	for i := range table {
		if id != "" && table[i].Setting == id {
			return table[i].Name, table[i].Module
		}
	}
	return "", ""
}

// atLeast writes the least number of a class as pwquality does: negative.
func atLeast(v setting.Value) string {
	n, ok := v.Number()
	if !ok || n <= 0 {
		return ""
	}
	return strconv.FormatInt(-n, 10)
}

func creditOrNone(v setting.Value) string {
	if v == setting.Number(0) {
		return "0"
	}
	return atLeast(v)
}
