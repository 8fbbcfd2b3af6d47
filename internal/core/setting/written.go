package setting

import "strconv"

// A written form turns a value back into what a place writes: its unit, and
// its number for a special. It is what the readers undo.
type written func(v Value) string

// plainNumber writes a number as it is, and specials as told.
func plainNumber(specials map[Special]string) written { return scaled(1, specials) }

// scaled writes seconds in a unit.
func scaled(unit int64, specials map[Special]string) written {
	return func(v Value) string {
		if sp, ok := v.Special(); ok {
			return specials[sp]
		}
		n, ok := v.Number()
		if !ok || n%unit != 0 {
			return ""
		}
		return strconv.FormatInt(n/unit, 10)
	}
}

// ticks writes an interval as directories do: a negative count of 100 ns.
func ticks(specials map[Special]string) written {
	return func(v Value) string {
		if sp, ok := v.Special(); ok {
			return specials[sp]
		}
		n, ok := v.Number()
		if !ok {
			return ""
		}
		return strconv.FormatInt(-n*10_000_000, 10)
	}
}

func words(on, off string) written {
	return func(v Value) string {
		switch v {
		case On:
			return on
		case Off:
			return off
		}
		return ""
	}
}

// atLeast writes the least number of a class as pwquality does: negative.
func atLeast(v Value) string {
	n, ok := v.Number()
	if !ok || n <= 0 {
		return ""
	}
	return strconv.FormatInt(-n, 10)
}

func choice(v Value) string { w, _ := v.Word(); return w }

var (
	minimum     = map[Special]string{Never: "-9223372036854775808", AtOnce: "0", UntilAdmin: "-9223372036854775808"}
	zero        = map[Special]string{Never: "0", AtOnce: "0", UntilAdmin: "0", Unlimited: "0"}
	minusOne    = map[Special]string{Never: "-1", AtOnce: "0", UntilAdmin: "-1"}
	inShadow    = map[Special]string{Never: "99999", AtOnce: "0"}
	inInactive  = map[Special]string{Never: "-1"}
	numeric     = plainNumber(zero)
	oneZero     = words("1", "0")
	trueFalse   = words("TRUE", "FALSE")
	registry    = words("4,1", "4,0")
	registryOff = words("4,0", "4,1") // the value says the opposite of the setting
)

// forms are the written forms, by the name under which evidence cites a value:
// attributes (MS-ADTS, draft-behera-ldap-password-policy), keys of security
// templates (MS-GPSB), options of Linux-PAM's modules, login.defs, shadow.
var forms = map[string]written{
	"minPwdLength": numeric, "pwdHistoryLength": numeric, "maxPwdAge": ticks(minimum), "minPwdAge": ticks(minimum), "lockoutThreshold": numeric,
	"lockoutDuration": ticks(minimum), "lockOutObservationWindow": ticks(minimum), "forceLogoff": words("0", "-9223372036854775808"),
	"pwdProperties (bit 1)": words("a value with bit 1", "a value without bit 1"), "pwdProperties (bit 8)": words("a value with bit 8", "a value without bit 8"),
	"pwdProperties (bit 16)": words("a value with bit 16", "a value without bit 16"),

	"msDS-MinimumPasswordLength": numeric, "msDS-PasswordHistoryLength": numeric, "msDS-MaximumPasswordAge": ticks(minimum), "msDS-MinimumPasswordAge": ticks(minimum),
	"msDS-LockoutThreshold": numeric, "msDS-LockoutDuration": ticks(minimum), "msDS-LockoutObservationWindow": ticks(minimum),
	"msDS-PasswordComplexityEnabled": trueFalse, "msDS-PasswordReversibleEncryptionEnabled": trueFalse,

	"MinimumPasswordAge": scaled(day, minusOne), "MaximumPasswordAge": scaled(day, minusOne), "MinimumPasswordLength": numeric, "PasswordComplexity": oneZero, "PasswordHistorySize": numeric,
	"ClearTextPassword": oneZero, "LockoutBadCount": numeric, "ResetLockoutCount": scaled(minute, minusOne), "LockoutDuration": scaled(minute, minusOne), "AllowAdministratorLockout": oneZero,
	"ForceLogoffWhenHourExpire": oneZero, "MaxTicketAge": scaled(hour, zero), "MaxRenewAge": scaled(day, zero), "MaxServiceAge": scaled(minute, zero), "MaxClockSkew": scaled(minute, zero),
	"TicketValidateClient": oneZero, "NoLMHash": registryOff, "LimitBlankPasswordUse": registry, "RelaxMinimumPasswordLengthLimits": registry,

	"pwdMinLength": numeric, "pwdMaxLength": numeric, "pwdMaxAge": numeric, "pwdMinAge": numeric, "pwdInHistory": numeric, "pwdMaxFailure": numeric, "pwdLockoutDuration": numeric,
	"pwdFailureCountInterval": numeric, "pwdExpireWarning": numeric,

	"minlen": numeric, "minclass": numeric, "difok": numeric, "maxrepeat": numeric, "maxsequence": numeric, "dcredit": atLeast, "ucredit": atLeast, "lcredit": atLeast, "ocredit": atLeast,
	"dictcheck": oneZero, "usercheck": oneZero, "remember": numeric, "deny": numeric, "unlock_time": numeric, "root_unlock_time": numeric, "fail_interval": numeric,
	"PASS_MAX_DAYS": scaled(day, inShadow), "PASS_MIN_DAYS": scaled(day, inShadow), "PASS_WARN_AGE": scaled(day, nil), "INACTIVE": scaled(day, inInactive), "ENCRYPT_METHOD": choice,
	"shadow field 4": scaled(day, inShadow), "shadow field 5": scaled(day, inShadow), "shadow field 6": scaled(day, nil), "shadow field 7": scaled(day, map[Special]string{Never: "nothing"}),
}

// namedUnits are those in which field maps say that a number is given.
var namedUnits = map[string]int64{"seconds": second, "minutes": minute, "hours": hour, "days": day}

// Written returns a value as the place writes it that evidence cites by that
// name, or in a unit; empty where neither is known.
func Written(where, unit string, v Value) string {
	if form, ok := forms[where]; ok {
		return form(v)
	}
	if seconds, ok := namedUnits[unit]; ok {
		return scaled(seconds, nil)(v)
	}
	return ""
}

// asking is the name under which a platform is asked for a setting, and whose
// option that is, where the name alone does not tell.
type asking struct{ name, module string }

// asked are they, by platform. Evidence can cite another line that decides a
// setting: a stack that calls no module, or an attribute that switches the check
// off.
var asked = map[Platform]map[ID]asking{
	UnixMachine: {"min-length": {"minlen", quality}, "classes-required": {"minclass", quality}, "require-lower": {"lcredit", quality}, "require-upper": {"ucredit", quality},
		"require-digit": {"dcredit", quality}, "require-symbol": {"ocredit", quality}, "name-check": {"usercheck", quality}, "dictionary-check": {"dictcheck", quality},
		"blocklist": {"badwords", quality}, "max-repeat": {"maxrepeat", quality}, "max-sequence": {"maxsequence", quality}, "min-changed": {"difok", quality}, "history": {"remember", history},
		"lockout-threshold": {"deny", counting}, "lockout-duration": {"unlock_time", counting}, "lockout-window": {"fail_interval", counting}, "lockout-administrator": {"even_deny_root", counting}},
	LDAPDirectory: {"min-length": {"pwdMinLength", ""}, "max-length": {"pwdMaxLength", ""}, "lockout-threshold": {"pwdMaxFailure", ""}},
}

// Modules of Linux-PAM.
const (
	quality  = "pam_pwquality"
	history  = "pam_pwhistory"
	counting = "pam_faillock"
)

// AskedAs returns the name under which a platform is asked for a setting, and the
// module whose option it is; empty where the name is the one that evidence cites.
func AskedAs(p Platform, id ID) (name, module string) {
	a := asked[p][id]
	return a.name, a.module
}
