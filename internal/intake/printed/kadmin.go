package printed

import (
	"regexp"
	"strings"
	"time"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// kadminRows are the lines of getpol. A count of failures of 0 never locks; an interval
// of 0 lets only a success clear the count; a duration of 0 lasts until an administrator
// ends it (tried).
var kadminRows = []row{
	{name: "Maximum password life", id: setting.MaxAge, unit: 1, zero: setting.Of(setting.Never)},
	{name: "Minimum password life", id: setting.MinAge, unit: 1, zero: setting.Of(setting.AtOnce)},
	{name: "Minimum password length", id: setting.MinLength, unit: 1},
	{name: "Minimum number of password character classes", id: setting.ClassesRequired, unit: 1},
	{name: "Number of old keys kept", id: setting.History, unit: 1},
	{name: "Maximum password failures before lockout", id: setting.LockoutThreshold, unit: 1, zero: setting.Of(setting.Never)},
	{name: "Password failure count reset interval", id: setting.LockoutWindow, unit: 1, zero: setting.Of(setting.Never)},
	{name: "Password lockout duration", id: setting.LockoutDuration, unit: 1, zero: setting.Of(setting.UntilAdmin)},
}

// kadminLine are the lines that are no settings, as far as they are read: which principal
// and policy it is, the days, and the words of its attributes.
var kadminLine = regexp.MustCompile(`^(?:Principal: \S+@\S+|Policy: \S.*|Attributes:(?: [A-Z_]+)*|Authenticating as principal \S+ with (?:password|existing credentials|(?:default )?keytab\b.*)\.?|` +
	`(?:Last password change|Expiration date): (?:\[never\]|\w{3} \w{3} [ \d]\d \d\d:\d\d:\d\d \w+ \d{4}))$`)

var kadmin = tool{
	recognise: regexp.MustCompile(`(?m)^Policy: \S.*\r?\nMaximum password life:|^Principal: \S+@\S+\r?\nExpiration date:`),
	expected:  "what kadmin's getpol and getprinc print",
	rows:      kadminRows,
	known:     func(_, text string) bool { return kadminLine.MatchString(text) },
	take:      takeKadmin,
}

// realmOf is the realm that a text speaks of: its principals name it, or the line with
// which the tool begins.
var inRealm = regexp.MustCompile(`@([A-Za-z0-9.-]+\.[A-Za-z0-9-]+)\b`)

// nobodys is the policy of principals that have none.
const nobodys = "[none]"

func takeKadmin(r *reader) error {
	realm := ""
	for _, l := range r.lines {
		if l.name != "Principal" && !strings.HasPrefix(l.name, "Authenticating as principal") {
			continue
		}
		if m := inRealm.FindStringSubmatch(l.text); m != nil && realm == "" {
			realm = m[1]
		}
	}
	if realm == "" {
		return r.Wrong(0, "policies of a realm that is not named", "a principal with its realm",
			"save the line \"Authenticating as principal …\", or the output of getprinc, in the same file")
	}
	at := estate.Place{Name: strings.ToLower(realm), Kind: estate.LDAP}
	r.into.At(at).Platform = setting.KerberosRealm
	for i := 0; i < len(r.lines); i++ {
		switch l := r.lines[i]; {
		case l.name == "Policy" && i+1 < len(r.lines) && r.lines[i+1].name == kadminRows[0].name:
			i = r.policy(at, i)
		case l.name == "Principal" && strings.Contains(l.value, "@"):
			i = r.principal(at, i)
		}
	}
	return nil
}

// policyDN stands for the DN that a policy has where a directory keeps it.
func policyDN(name string) string {
	return "cn=" + strings.NewReplacer(`\`, `\\`, ",", `\,`, "=", `\=`, "+", `\+`).Replace(name) + ",cn=policies"
}

// policy takes the lines of getpol from i on, and returns the last one.
func (r *reader) policy(at estate.Place, i int) int {
	l := r.lines[i]
	p := r.into.Override(at, []byte(policyDN(l.value)), l.number)
	p.Name, p.Platform = l.value, setting.KerberosRealm
	for i+1 < len(r.lines) {
		x := named(kadminRows, r.lines[i+1].name)
		if x == nil {
			break
		}
		i++
		r.set(p.Settings, p.Platform, x, r.lines[i])
	}
	return i
}

// principal takes the lines of getprinc from i on, and returns the last one.
func (r *reader) principal(at estate.Place, i int) int {
	l := r.lines[i]
	name, _, _ := strings.Cut(l.value, "@")
	rec := &estate.Record{Class: estate.Account, DN: []byte("krbPrincipalName=" + strings.NewReplacer(`\`, `\\`, ",", `\,`, "=", `\=`, "+",
		`\+`).Replace(name) + ",cn=principals"),
		Name: []byte(name), Principal: []byte(l.value), Line: l.number}
	// Services and the realm itself have random keys, not passwords.
	if base, instance, ok := strings.Cut(name, "/"); ok && (base == "kadmin" || instance != "admin" && instance != "root") {
		rec.Class = estate.Managed
	}
	policy, attributes := "", "\x00"
	for i+1 < len(r.lines) && r.lines[i+1].name != "Principal" {
		i++
		switch l := r.lines[i]; l.name {
		case "Attributes":
			attributes = l.value
		case "Last password change":
			if t, err := time.Parse("Mon Jan _2 15:04:05 MST 2006", l.value); err == nil && t.Unix() > 0 {
				rec.PwdSet = uint32(t.Unix())
			}
		case "Policy":
			policy = strings.TrimSuffix(l.value, " [does not exist]")
		}
		if r.lines[i].name == "Policy" {
			break // the last line of a principal
		}
	}
	switch {
	case attributes == "\x00":
		rec.Flags |= estate.NoControl // whether it is enabled, and counted, was not printed
	default:
		if strings.Contains(attributes, "DISALLOW_ALL_TIX") {
			rec.Flags |= estate.Disabled
		}
		if !strings.Contains(attributes, "REQUIRES_PRE_AUTH") {
			rec.Flags |= estate.NoPreauth
		}
	}
	switch policy {
	case "":
		r.into.NotUnderstood(r.into.Cite(l.number, "Principal", l.value), "the principal's policy was not printed")
		rec.Applied = [][]byte{[]byte(policyDN("not printed"))}
	case nobodys:
		r.free(at, r.lines[i])
	default:
		rec.Applied = [][]byte{[]byte(policyDN(policy))}
	}
	r.into.Object(at, rec)
	return i
}

// free is what holds for principals without a policy: nothing is asked of them.
func (r *reader) free(at estate.Place, l line) {
	a := r.into.At(at)
	if a.Head != nil {
		return
	}
	c := r.into.Cite(l.number, "Policy", l.value)
	c.Note = "no policy: nothing is asked for"
	a.Head = &estate.Policy{Name: "no policy", Origin: "cn=policies", Standing: estate.Enforced, Platform: setting.KerberosRealm,
		Settings: estate.Settings{}, Cite: c}
	for _, x := range kadminRows {
		v := x.zero
		if !v.IsSet() {
			v = setting.Number(0)
		}
		a.Head.Settings[x.id] = estate.Fact{Value: v, Cite: c}
	}
}
