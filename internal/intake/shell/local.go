package shell

import (
	"regexp"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
)

// local are the accounts of a machine. The export does not hold the machine's name:
// the file's is taken.
var local = &kind{
	telling: [][]string{{"name", "passwordrequired", "passwordexpires"}, {"name", "passwordrequired", "usermaychangepassword"},
		{"name", "passwordrequired", "localaccount"}}, // of Win32_UserAccount, such as by wmic
	partly: [][]string{{"name", "passwordrequired", "enabled"}},
	known: map[string]holds{"name": nil, "enabled": isTruth, "passwordrequired": isTruth, "passwordexpires": func(text string) bool { return isDate(text) || isTruth(text) },
		"disabled": isTruth, "localaccount": isTruth, "domain": machineName.MatchString, "node": machineName.MatchString, "lockout": isTruth, "passwordchangeable": isTruth,
		"usermaychangepassword": isTruth, "sid": isSID, "passwordlastset": isDate, "fullname": nil, "principalsource": isWord,
		"objectclass": isWord},
	take: (*reader).localUser,
}

// machineName is what a Windows machine can be called.
var machineName = regexp.MustCompile(`^[\p{L}\p{N}_-]{1,63}$`)

func (r *reader) localUser(o *object) error {
	name := o.get("name").text
	if name == "" {
		return r.wrong(o.line, "an account without Name", "a name for each account", "export it again with Select-Object *")
	}
	at := estate.Place{Name: intake.MachineOf(r.path), Kind: estate.Machine}
	if own, told := truth(o.get("localaccount").text); told && own != setting.On {
		return nil // a domain's, which the machine lists beside its own
	}
	if machine := o.get("domain").text; machine != "" && o.has("localaccount") {
		at.Name = strings.ToLower(machine) // of its own accounts
	}
	rec := &estate.Record{Class: estate.Account, DN: []byte(name), Name: []byte(name), Display: []byte(o.get("fullname").text), Line: o.line}
	if sid := o.get("sid").text; strings.Contains(sid, "-") {
		if n, err := strconv.ParseUint(sid[strings.LastIndexByte(sid, '-')+1:], 10, 32); err == nil {
			rec.RID = uint32(n)
			if of := sid[:strings.LastIndexByte(sid, '-')]; strings.HasPrefix(of, "S-1-5-21-") && o.get("principalsource").text != "ActiveDirectory" {
				r.into.At(at).SID = of
			}
		}
	}
	enabled, told := truth(o.get("enabled").text)
	if off, known := truth(o.get("disabled").text); !told && known {
		enabled, told = setting.On, true
		if off == setting.On {
			enabled = setting.Off
		}
	}
	required, asked := truth(o.get("passwordrequired").text)
	switch {
	case !told || !asked:
		rec.Flags |= estate.NoControl
	default:
		if enabled != setting.On {
			rec.Flags |= estate.Disabled
		}
		if required != setting.On {
			rec.Flags |= estate.NoneRequired
		}
	}
	if expires, known := truth(o.get("passwordexpires").text); known && expires != setting.On {
		rec.Flags |= estate.NeverExpires
	}
	if p := o.get("passwordlastset"); p.text != "" {
		rec.PwdSet, _ = dateOf(p.text)
		// Of a password that was set, no day on which it expires is that it never does.
		if expires := o.get("passwordexpires"); o.has("passwordexpires") && expires.text == "" {
			rec.Flags |= estate.NeverExpires
		}
	}
	r.into.Object(at, rec)
	return nil
}
