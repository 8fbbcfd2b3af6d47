package unix

import (
	"strconv"
	"strings"

	"sternledger/internal/core/setting"
)

// Forms are the written forms of options of Linux-PAM's modules, of login.defs and
// of shadow, by the name under which evidence cites them.
func Forms() map[string]setting.Form {
	all := map[string]setting.Form{"ENCRYPT_METHOD": func(v setting.Value) string { return strings.ToUpper(setting.Chosen(v)) }}
	for name := range asked {
		all[name] = setting.Plain
	}
	for _, name := range []string{"dictcheck", "usercheck"} {
		all[name] = setting.OneZero
	}
	for _, name := range []string{"dcredit", "ucredit", "lcredit", "ocredit"} {
		all[name] = atLeast
	}
	for _, a := range ageing {
		all[a.given] = setting.Scaled(day, a.written)
		all[a.cited()] = setting.Scaled(day, a.written)
		if a.id == "inactive-disable" {
			all[a.cited()] = setting.Scaled(day, map[setting.Special]string{setting.Never: "nothing"})
		}
	}
	return all
}

// atLeast writes the least number of a class as pwquality does: negative.
func atLeast(v setting.Value) string {
	n, ok := v.Number()
	if !ok || n <= 0 {
		return ""
	}
	return strconv.FormatInt(-n, 10)
}

// asked are the options that a setting is asked for with, and whose they are. Evidence
// can cite another line that decides a setting: a stack that calls no module, say.
var asked = map[string]struct {
	id     setting.ID
	module string
}{
	"minlen": {"min-length", "pam_pwquality"}, "minclass": {"classes-required", "pam_pwquality"},
	"lcredit": {"require-lower", "pam_pwquality"}, "ucredit": {"require-upper", "pam_pwquality"},
	"dcredit": {"require-digit", "pam_pwquality"}, "ocredit": {"require-symbol", "pam_pwquality"},
	"usercheck": {"name-check", "pam_pwquality"}, "dictcheck": {"dictionary-check", "pam_pwquality"},
	"badwords": {"blocklist", "pam_pwquality"}, "difok": {"min-changed", "pam_pwquality"},
	"maxrepeat": {"max-repeat", "pam_pwquality"}, "maxsequence": {"max-sequence", "pam_pwquality"},
	"remember": {"history", "pam_pwhistory"}, "deny": {"lockout-threshold", "pam_faillock"},
	"unlock_time": {"lockout-duration", "pam_faillock"}, "fail_interval": {"lockout-window", "pam_faillock"},
	"even_deny_root": {"lockout-administrator", "pam_faillock"}, "root_unlock_time": {},
}

// AskedAs returns the option that asks a machine for a setting, and its module;
// empty where the name is the one that evidence cites.
func AskedAs(id setting.ID) (name, module string) {
	for name, o := range asked {
		if o.id == id {
			return name, o.module
		}
	}
	return "", ""
}
