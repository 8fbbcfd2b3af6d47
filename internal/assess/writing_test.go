package assess

import (
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Written is the inverse of what readers do: the place's own unit and number.
func TestWritten(t *testing.T) {
	for _, c := range []struct {
		where, unit string
		id          setting.ID
		value, want string
	}{
		{"maxPwdAge", "", "max-age", "42 days", "-36288000000000"}, {"maxPwdAge", "", "max-age", "never", "-9223372036854775808"},
		{"minPwdAge", "", "min-age", "at-once", "0"},
		{"lockoutDuration", "", "lockout-duration", "15 minutes", "-9000000000"}, {"lockoutDuration", "", "lockout-duration",
			"until-admin", "-9223372036854775808"},
		{"msDS-PasswordComplexityEnabled", "", "complexity", "on", "TRUE"}, {"pwdProperties (bit 1)", "", "complexity", "off",
			""},
		{"LockoutDuration", "", "lockout-duration", "15 minutes", "15"}, {"LockoutDuration", "", "lockout-duration", "until-admin", "-1"},
		{"LockoutDuration", "", "lockout-duration", "90 seconds", ""},
		{"MaximumPasswordAge", "", "max-age", "never", "-1"}, {"MaxTicketAge", "", "ticket-lifetime", "10 hours", "10"},
		{"NoLMHash", "", "lm-hash-stored", "off", "4,1"},
		{"ClearTextPassword", "", "reversible", "off", "0"}, {"pwdMaxAge", "", "max-age", "1 day", "86400"},
		{"pwdLockoutDuration", "", "lockout-duration", "until-admin", "0"},
		{"unlock_time", "", "lockout-duration", "15 minutes", "900"}, {"deny", "", "lockout-threshold", "never", "0"},
		{"dcredit", "", "require-digit", "2", "-2"}, {"dcredit", "", "require-digit", "0", ""},
		{"dictcheck", "", "dictionary-check", "on", "1"}, {"maxrepeat", "", "max-repeat", "unlimited", "0"},
		{"PASS_MAX_DAYS", "", "max-age", "never", "99999"}, {"INACTIVE", "", "inactive-disable", "30 days", "30"},
		{"shadow field 5", "", "max-age", "365 days", "365"}, {"ENCRYPT_METHOD", "", "hash-method", "yescrypt", "YESCRYPT"},
		{"LockoutDurationInSeconds", "seconds", "lockout-duration", "60 seconds", "60"}, {"maxAgeDays", "days", "max-age", "90 days", "90"},
		{"maxAgeDays", "days", "max-age", "never", ""}, {"unheard of", "", "history", "24", ""},
	} {
		v, err := setting.Get(c.id).Parse(c.value)
		if err != nil {
			t.Fatal(err)
		}
		if got := Writing.Written(govern.Effective{Fact: estate.Fact{Unit: c.unit, Cite: estate.Cite{Where: c.where}}}, v); got != c.want {
			t.Errorf("%s of %s %s: %q, want %q", c.where, c.id, c.value, got, c.want)
		}
	}
}
