package ldif

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/core/setting"
	"sternledger/internal/redact"
)

// reading says which attribute holds which setting, how its text is turned into a
// value (MS-ADTS, MS-SAMR), and how a value is written there. One attribute may
// hold several.
type reading struct {
	name  string
	holds []hold
}

type hold struct {
	id    setting.ID
	read  func(text string) (setting.Value, error)
	write setting.Form
	part  string // of the attribute, where it holds several settings
	mask  int64  // the bit of it, then
}

// readings covers the domain's head and the fine-grained policy.
var readings = []reading{
	{"minPwdLength", []hold{{id: setting.MinLength, read: number, write: setting.Plain}}},
	{"pwdHistoryLength", []hold{{id: setting.History, read: number, write: setting.Plain}}},
	{"maxPwdAge", []hold{{id: setting.MaxAge, read: interval(setting.Never), write: ticks}}},
	{"minPwdAge", []hold{{id: setting.MinAge, read: interval(setting.AtOnce), write: ticks}}},
	{"lockoutThreshold", []hold{{id: setting.LockoutThreshold, read: numberOr(setting.Never), write: setting.Plain}}},
	{"lockoutDuration", []hold{{id: setting.LockoutDuration, read: interval(setting.UntilAdmin), write: ticks}}},
	{"lockOutObservationWindow", []hold{{id: setting.LockoutWindow, read: window, write: ticks}}},
	{"forceLogoff", []hold{{id: setting.LogoffAtHoursEnd, read: logoff, write: setting.Words("0", noInterval)}}},
	{"pwdProperties", []hold{bitOf(setting.Complexity, 1), bitOf(setting.Reversible, 16),
		bitOf(setting.LockoutAdministrator, 8)}},

	{"msDS-MinimumPasswordLength", []hold{{id: setting.MinLength, read: number, write: setting.Plain}}},
	{"msDS-PasswordHistoryLength", []hold{{id: setting.History, read: number, write: setting.Plain}}},
	{"msDS-MaximumPasswordAge", []hold{{id: setting.MaxAge, read: interval(setting.Never), write: ticks}}},
	{"msDS-MinimumPasswordAge", []hold{{id: setting.MinAge, read: interval(setting.AtOnce), write: ticks}}},
	{"msDS-LockoutThreshold", []hold{{id: setting.LockoutThreshold, read: numberOr(setting.Never), write: setting.Plain}}},
	{"msDS-LockoutDuration", []hold{{id: setting.LockoutDuration, read: interval(setting.UntilAdmin), write: ticks}}},
	{"msDS-LockoutObservationWindow", []hold{{id: setting.LockoutWindow, read: window, write: ticks}}},
	{"msDS-PasswordComplexityEnabled", []hold{{id: setting.Complexity, read: boolean, write: setting.Words("TRUE", "FALSE")}}},
	{"msDS-PasswordReversibleEncryptionEnabled", []hold{{id: setting.Reversible, read: boolean, write: setting.Words("TRUE", "FALSE")}}},
}

// Held is what an attribute says of one setting, or why it says none.
type Held struct {
	Setting setting.ID
	Value   setting.Value
	Err     error
}

// Attribute reads what an attribute of a domain's head or of a fine-grained policy holds, as
// tools print it under its own name; nothing where no setting stands in it.
func Attribute(name, text string) (all []Held) {
	for _, r := range readings {
		if !strings.EqualFold(r.name, name) {
			continue
		}
		for _, h := range r.holds {
			v, err := h.read(text)
			all = append(all, Held{h.id, v, err})
		}
	}
	return all
}

// SettingAttributes are the names of those that hold settings.
func SettingAttributes() (all []string) {
	for _, r := range readings {
		all = append(all, r.name)
	}
	return all
}

// bitOf is a setting in one bit of an attribute. The others belong to other
// settings, so that no value can be written for it alone.
func bitOf(id setting.ID, mask int64) hold {
	name := fmt.Sprintf("bit %d", mask)
	return hold{id, bit(mask), func(setting.Value) string { return "" }, " (" + name + ")", mask}
}

// Forms are the written forms of the attributes that hold settings, by the name
// under which evidence cites them.
func Forms() map[string]setting.Form {
	all := map[string]setting.Form{}
	for _, r := range readings {
		for _, h := range r.holds {
			all[r.name+h.part] = h.write
		}
	}
	for _, a := range policyAttributes {
		all[named[a.attr][0]] = setting.Plain
	}
	return all
}

// AskedAs is the attribute that asks a directory of the password-policy draft for
// a setting: another can switch it off, and is cited then.
func AskedAs(id setting.ID) string {
	if id != setting.MinLength && id != setting.MaxLength && id != setting.LockoutThreshold {
		return ""
	}
	i := slices.IndexFunc(policyAttributes, func(a policyAttribute) bool { return a.id == id })
	return named[policyAttributes[i].attr][0]
}

const (
	ticksPerSecond = 10_000_000
	noInterval     = "-9223372036854775808" // -2^63
)

// ticks writes an interval: a negative count of 100 ns.
func ticks(v setting.Value) string {
	if sp, ok := v.Special(); ok {
		return map[setting.Special]string{setting.Never: noInterval, setting.AtOnce: "0", setting.UntilAdmin: noInterval}[sp]
	}
	n, ok := v.Number()
	if !ok {
		return ""
	}
	return strconv.FormatInt(-n*ticksPerSecond, 10)
}

func number(text string) (setting.Value, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return setting.Value{}, fmt.Errorf("%s is not a whole number", redact.Quote([]byte(text)))
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
			return setting.Value{}, fmt.Errorf("%s is not a whole number of 100-nanosecond ticks", redact.Quote([]byte(text)))
		case n == 0:
			return setting.Of(none), nil
		case n > 0:
			return setting.Value{}, fmt.Errorf("%s is positive; an interval is a negative count of 100-nanosecond ticks", text)
		}
		return setting.Number(-n / ticksPerSecond), nil
	}
}

// window reads an observation window. Unlike the other intervals it knows a
// difference between 0 and -2^63: of a window of 0, or of less than a second, every
// failure is outside, so that the count starts again at each (tried on a real directory).
func window(text string) (setting.Value, error) {
	if n, err := strconv.ParseInt(text, 10, 64); err == nil && n <= 0 && n > -ticksPerSecond {
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
	return setting.Value{}, fmt.Errorf("%s is neither TRUE nor FALSE", redact.Quote([]byte(text)))
}

func bit(mask int64) func(string) (setting.Value, error) {
	return func(text string) (setting.Value, error) {
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil || n < 0 {
			return setting.Value{}, fmt.Errorf("%s is not a set of bits", redact.Quote([]byte(text)))
		}
		return setting.Switch(n&mask != 0), nil
	}
}

// logoff reads forceLogoff: -2^63 never, else so long after the hours' end.
func logoff(text string) (setting.Value, error) {
	if _, err := strconv.ParseInt(text, 10, 64); err != nil {
		return setting.Value{}, fmt.Errorf("%s is not a number of 100-nanosecond ticks", redact.Quote([]byte(text)))
	}
	return setting.Switch(text != noInterval), nil
}
