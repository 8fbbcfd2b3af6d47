package printed

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
	"sternledger/internal/redact"
)

const (
	minute = 60
	day    = 24 * 60 * minute
)

// sambaRows are the lines of samba-tool domain passwordsettings show, and of pso show.
var sambaRows = []row{
	{name: "Password complexity", id: setting.Complexity},
	{name: "Store plaintext passwords", id: setting.Reversible},
	{name: "Password history length", id: setting.History, unit: 1},
	{name: "Minimum password length", id: setting.MinLength, unit: 1},
	{name: "Minimum password age (days)", id: setting.MinAge, unit: day, zero: setting.Of(setting.AtOnce)},
	{name: "Maximum password age (days)", id: setting.MaxAge, unit: day, zero: setting.Of(setting.Never)},
	{name: "Account lockout duration (mins)", id: setting.LockoutDuration, unit: minute, zero: setting.Of(setting.UntilAdmin)},
	{name: "Account lockout threshold (attempts)", id: setting.LockoutThreshold, unit: 1, zero: setting.Of(setting.Never)},
	{name: "Reset account lockout after (mins)", id: setting.LockoutWindow, unit: minute, zero: setting.Of(setting.AtOnce)},
}

const precedenceLine = "Precedence (lowest is best)"

var sambaTool = tool{
	recognise: regexp.MustCompile(`(?m)^Password information for (domain|PSO) '`),
	expected:  "what samba-tool domain passwordsettings show prints",
	rows:      sambaRows,
	known:     func(_, text string) bool { return sambaLine.MatchString(text) },
	take:      takeSamba,
}

var headline = regexp.MustCompile(`^Password information for (domain|PSO) '(.*)'$`)

// sambaLine are the lines that are no settings: whose they are, and whom they concern.
var sambaLine = regexp.MustCompile(`^(?:Password information for (?:domain|PSO) '[^']*'|Precedence \(lowest is best\): *\d+|` +
	`PSO applies directly to \d+ groups?/users?:|Note: PSO does not apply to any users or groups\.?|CN=[^=]+(?:,\w+=[^=]+)+)$`)

// takeSamba takes the domain's settings and its fine-grained policies. A policy does
// not name its domain: the text has to.
func takeSamba(r *reader) error {
	var domain string
	for _, l := range r.lines {
		if m := headline.FindStringSubmatch(l.text); m != nil && m[1] == "domain" {
			domain = m[2]
		} else if i := strings.Index(l.text, ",DC="); domain == "" && strings.HasPrefix(l.text, "CN=") && i > 0 {
			domain = l.text[i+1:]
		}
	}
	if estate.DomainOf(domain) == "" {
		return r.Wrong(0, "policies of a domain that is not named", "Password information for domain 'DC=…'",
			"save the output of samba-tool domain passwordsettings show in the same file")
	}
	at := estate.InDomain(estate.DomainOf(domain))
	var settings estate.Settings
	var p *estate.Policy
	platform := setting.WindowsDomain
	targets := 0
	for _, l := range r.lines {
		if m := headline.FindStringSubmatch(l.text); m != nil {
			c := r.into.Cite(l.number, "", l.text)
			r.into.Server(at, estate.Samba, c)
			if m[1] == "domain" {
				a := r.into.At(at)
				if a.Head == nil {
					a.Head = &estate.Policy{Name: "domain default", Origin: domain, Standing: estate.Enforced, Platform: setting.WindowsDomain,
						Settings: estate.Settings{}, Cite: c}
				}
				settings, p, platform = a.Head.Settings, nil, setting.WindowsDomain
				continue
			}
			dn := fmt.Sprintf("CN=%s,CN=Password Settings Container,CN=System,%s", m[2], domain)
			p = r.into.Override(at, []byte(dn), l.number)
			p.TargetsPart = true // until it is told whom it names
			settings, platform, targets = p.Settings, p.Platform, 0
			continue
		}
		x := named(sambaRows, l.name)
		switch {
		case settings == nil:
		case x != nil && l.value != "":
			r.set(settings, platform, x, l)
		case p == nil:
		case l.name == precedenceLine:
			n, err := strconv.ParseInt(l.value, 10, 64)
			if err != nil || n < 1 {
				r.into.Damaged(r.into.Cite(l.number, l.name, l.value), "a precedence of %s; a fine-grained policy has 1 or more",
					redact.Quote([]byte(l.value)))
			} else if p.Precedence == nil {
				p.Precedence = &n
			}
		case strings.HasPrefix(l.text, "Note: PSO does not apply"):
			p.TargetsPart = false
			r.into.ShowsTargets(at)
		case strings.HasPrefix(l.name, "PSO applies directly to "):
			targets, _ = strconv.Atoi(strings.Fields(l.name)[4])
		case strings.HasPrefix(l.text, "CN="):
			r.into.Target(at, p, estate.Target{DN: l.text, Cite: r.into.Cite(l.number, "PSO applies", l.text)})
			if targets--; targets == 0 {
				p.TargetsPart = false
			}
		}
	}
	return nil
}

// pdbeditRows are the lines of pdbedit -P. Ages are in seconds, locks in minutes.
var pdbeditRows = []row{
	{name: "min password length", id: setting.MinLength, unit: 1},
	{name: "password history", id: setting.History, unit: 1},
	{name: "maximum password age", id: setting.MaxAge, unit: 1, zero: setting.Of(setting.Never), most: setting.Of(setting.Never)},
	{name: "minimum password age", id: setting.MinAge, unit: 1, zero: setting.Of(setting.AtOnce)},
	{name: "bad lockout attempt", id: setting.LockoutThreshold, unit: 1, zero: setting.Of(setting.Never)},
	{name: "lockout duration", id: setting.LockoutDuration, unit: minute, zero: setting.Of(setting.UntilAdmin),
		most: setting.Of(setting.UntilAdmin)},
	{name: "reset count minutes", id: setting.LockoutWindow, unit: minute, zero: setting.Of(setting.AtOnce)},
	{name: "disconnect time", id: setting.LogoffAtHoursEnd, unit: 1, zero: setting.On, most: setting.Off},
}

var pdbedit = tool{
	recognise: regexp.MustCompile(`(?m)^account policy "[a-z ]+" value is: `),
	expected:  "what pdbedit -P prints",
	rows:      pdbeditRows,
	known:     func(string, string) bool { return false },
	take: func(r *reader) error {
		name := intake.MachineOf(r.Path)
		var head *estate.Policy
		for _, l := range r.lines {
			x := named(pdbeditRows, l.name)
			if x == nil || l.value == "" {
				continue
			}
			a := r.into.At(estate.Place{Name: name, Kind: estate.Machine})
			if a.Head == nil {
				a.Platform = setting.WindowsMachine
				a.Head = &estate.Policy{Name: "local", Origin: intake.FileName(r.Path), Standing: estate.Enforced,
					Platform: setting.WindowsMachine,
					Settings: estate.Settings{}, Cite: r.into.Cite(l.number, "", l.text)}
			}
			head = a.Head
			r.set(head.Settings, setting.WindowsMachine, x, l)
		}
		if head == nil {
			return r.Wrong(0, "no policy with its value", `account policy "…" value is: …`, "save the output of pdbedit -P for each policy")
		}
		return nil
	},
}
