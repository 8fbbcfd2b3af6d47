package ldif

import (
	"fmt"
	"strconv"
	"strings"

	"sternledger/internal/core/setting"
)

// reading says which attribute holds which setting, and how its text is
// turned into a value (MS-ADTS, MS-SAMR). One attribute may hold several.
type reading struct {
	name  string
	holds []hold
}

type hold struct {
	id   setting.ID
	read func(text string) (setting.Value, error)
	part string // of the attribute, where it holds several settings
}

// readings covers the domain's head and the fine-grained policy.
var readings = []reading{
	{"minPwdLength", []hold{{id: "min-length", read: number}}},
	{"pwdHistoryLength", []hold{{id: "history", read: number}}},
	{"maxPwdAge", []hold{{id: "max-age", read: interval(setting.Never)}}},
	{"minPwdAge", []hold{{id: "min-age", read: interval(setting.AtOnce)}}},
	{"lockoutThreshold", []hold{{id: "lockout-threshold", read: numberOr(setting.Never)}}},
	{"lockoutDuration", []hold{{id: "lockout-duration", read: interval(setting.UntilAdmin)}}},
	{"lockOutObservationWindow", []hold{{id: "lockout-window", read: window}}},
	{"forceLogoff", []hold{{id: "logoff-at-hours-end", read: logoff}}},
	{"pwdProperties", []hold{{"complexity", bit(1), " (bit 1)"}, {"reversible", bit(16), " (bit 16)"}, {"lockout-administrator", bit(8), " (bit 8)"}}},

	{"msDS-MinimumPasswordLength", []hold{{id: "min-length", read: number}}},
	{"msDS-PasswordHistoryLength", []hold{{id: "history", read: number}}},
	{"msDS-MaximumPasswordAge", []hold{{id: "max-age", read: interval(setting.Never)}}},
	{"msDS-MinimumPasswordAge", []hold{{id: "min-age", read: interval(setting.AtOnce)}}},
	{"msDS-LockoutThreshold", []hold{{id: "lockout-threshold", read: numberOr(setting.Never)}}},
	{"msDS-LockoutDuration", []hold{{id: "lockout-duration", read: interval(setting.UntilAdmin)}}},
	{"msDS-LockoutObservationWindow", []hold{{id: "lockout-window", read: window}}},
	{"msDS-PasswordComplexityEnabled", []hold{{id: "complexity", read: boolean}}},
	{"msDS-PasswordReversibleEncryptionEnabled", []hold{{id: "reversible", read: boolean}}},
}

const (
	ticksPerSecond = 10_000_000
	noInterval     = "-9223372036854775808" // -2^63
)

func number(text string) (setting.Value, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return setting.Value{}, fmt.Errorf("%q is not a whole number", text)
	}
	return setting.Number(n), nil
}

func numberOr(zero setting.Special) func(string) (setting.Value, error) {
	return func(text string) (setting.Value, error) {
		if strings.TrimLeft(text, "0") == "" && text != "" {
			return setting.Of(zero), nil
		}
		return number(text)
	}
}

// interval reads a negative count of 100 ns; 0 and -2^63 are the special.
func interval(none setting.Special) func(string) (setting.Value, error) {
	return func(text string) (setting.Value, error) {
		if text == noInterval {
			return setting.Of(none), nil
		}
		n, err := strconv.ParseInt(text, 10, 64)
		switch {
		case err != nil:
			return setting.Value{}, fmt.Errorf("%q is not a whole number of 100-nanosecond ticks", text)
		case n == 0:
			return setting.Of(none), nil
		case n > 0:
			return setting.Value{}, fmt.Errorf("%s is positive; an interval is a negative count of 100-nanosecond ticks", text)
		}
		return setting.Number(-n / ticksPerSecond), nil
	}
}

// window reads an observation window. Unlike the other intervals it knows a
// difference between 0 and -2^63: of a window of 0 every failure is outside, so
// that the count starts again at each (tried on a real directory).
func window(text string) (setting.Value, error) {
	if n, err := strconv.ParseInt(text, 10, 64); err == nil && n == 0 {
		return setting.Of(setting.AtOnce), nil
	}
	return interval(setting.Never)(text)
}

// splitSecond reports whether an interval is not a whole number of seconds.
// Real domains hold such: programs that write only half of the 64 bits.
func splitSecond(text string) bool {
	n, err := strconv.ParseInt(text, 10, 64)
	return err == nil && text != noInterval && n%ticksPerSecond != 0
}

func boolean(text string) (setting.Value, error) {
	switch strings.ToUpper(text) {
	case "TRUE":
		return setting.On, nil
	case "FALSE":
		return setting.Off, nil
	}
	return setting.Value{}, fmt.Errorf("%q is neither TRUE nor FALSE", text)
}

func bit(mask int64) func(string) (setting.Value, error) {
	return func(text string) (setting.Value, error) {
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil || n < 0 {
			return setting.Value{}, fmt.Errorf("%q is not a set of bits", text)
		}
		return setting.Switch(n&mask != 0), nil
	}
}

// logoff reads forceLogoff: -2^63 never, else so long after the hours' end.
func logoff(text string) (setting.Value, error) {
	if _, err := strconv.ParseInt(text, 10, 64); err != nil {
		return setting.Value{}, fmt.Errorf("%q is not a number of 100-nanosecond ticks", text)
	}
	return setting.Switch(text != noInterval), nil
}
