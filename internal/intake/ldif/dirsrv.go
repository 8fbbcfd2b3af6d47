package ldif

import (
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// This file reads a 389 Directory Server: the settings in cn=config, and the local
// policies of entries and subtrees, which have the same attributes (its schema,
// 02common.ldif). Which switches what off was tried on a real server.

// serverAttributes are those of a policy.
var serverAttributes = [...]string{
	sCheckSyntax: "passwordCheckSyntax", sMinLength: "passwordMinLength", sMinCategories: "passwordMinCategories",
	sMinDigits: "passwordMinDigits",
	sMinAlphas: "passwordMinAlphas", sMinUppers: "passwordMinUppers", sMinLowers: "passwordMinLowers", sMinSpecials: "passwordMinSpecials",
	sMaxRepeats: "passwordMaxRepeats", sMaxSequence: "passwordMaxSequence", sDictCheck: "passwordDictCheck", sHistory: "passwordHistory",
	sInHistory: "passwordInHistory", sExp: "passwordExp", sMaxAge: "passwordMaxAge", sMinAge: "passwordMinAge", sWarning: "passwordWarning",
	sLockout: "passwordLockout", sMaxFailure: "passwordMaxFailure", sResetFailureCount: "passwordResetFailureCount",
	sLockoutDuration: "passwordLockoutDuration", sUnlock: "passwordUnlock",
}

const (
	sCheckSyntax = iota
	sMinLength
	sMinCategories
	sMinDigits
	sMinAlphas
	sMinUppers
	sMinLowers
	sMinSpecials
	sMaxRepeats
	sMaxSequence
	sDictCheck
	sHistory
	sInHistory
	sExp
	sMaxAge
	sMinAge
	sWarning
	sLockout
	sMaxFailure
	sResetFailureCount
	sLockoutDuration
	sUnlock
	serverCount
)

// serverSetting is how a policy holds a setting.
type serverSetting struct {
	attr   int
	id     setting.ID
	absent setting.Value // what the server takes where the attribute is not there
	zero   setting.Value // what 0 means; not set: the number
	// toggle is the attribute that switches it on; off what holds without it.
	toggle int
	off    setting.Value
}

const always = -1 // no attribute switches it

var (
	none     = setting.Number(0)
	serverOf = []serverSetting{
		{attr: sMinLength, id: setting.MinLength, absent: setting.Number(8), toggle: sCheckSyntax, off: none},
		{attr: sMinCategories, id: setting.ClassesRequired, absent: setting.Number(3), toggle: sCheckSyntax, off: none},
		{attr: sMinLowers, id: setting.RequireLower, absent: none, toggle: sCheckSyntax, off: none},
		{attr: sMinUppers, id: setting.RequireUpper, absent: none, toggle: sCheckSyntax, off: none},
		{attr: sMinDigits, id: setting.RequireDigit, absent: none, toggle: sCheckSyntax, off: none},
		{attr: sMinSpecials, id: setting.RequireSymbol, absent: none, toggle: sCheckSyntax, off: none},
		{attr: sMinAlphas, id: setting.RequireLetter, absent: none, toggle: sCheckSyntax, off: none},
		{attr: sMaxRepeats, id: setting.MaxRepeat, absent: setting.Of(setting.Unlimited), zero: setting.Of(setting.Unlimited), toggle: sCheckSyntax,
			off: setting.Of(setting.Unlimited)},
		{attr: sMaxSequence, id: setting.MaxSequence, absent: setting.Of(setting.Unlimited), zero: setting.Of(setting.Unlimited),
			toggle: sCheckSyntax, off: setting.Of(setting.Unlimited)},
		{attr: sDictCheck, id: setting.DictionaryCheck, absent: setting.Word("off"), toggle: sCheckSyntax, off: setting.Word("off")},
		{attr: sInHistory, id: setting.History, absent: setting.Number(6), toggle: sHistory, off: none},
		{attr: sMaxAge, id: setting.MaxAge, absent: setting.Number(8640000), zero: setting.Of(setting.Never), toggle: sExp,
			off: setting.Of(setting.Never)},
		{attr: sWarning, id: setting.ExpiryWarning, absent: setting.Number(86400), toggle: sExp, off: none},
		{attr: sMinAge, id: setting.MinAge, absent: setting.Of(setting.AtOnce), zero: setting.Of(setting.AtOnce), toggle: always},
		{attr: sMaxFailure, id: setting.LockoutThreshold, absent: setting.Number(3), toggle: sLockout, off: setting.Of(setting.Never)},
		{attr: sLockoutDuration, id: setting.LockoutDuration, absent: setting.Number(3600), toggle: always},
		{attr: sResetFailureCount, id: setting.LockoutWindow, absent: setting.Number(600), toggle: always},
	}
)

// directoryServerConfig is what a server's configuration says, until the file's end:
// for which suffixes it says it.
type directoryServerConfig struct {
	policy   *estate.Policy
	local    *estate.LocalPolicies
	suffixes []string
}

// directoryServer takes an entry of a server's configuration, or a local policy.
func (r *reader) directoryServer(dn []byte) error {
	r.got++
	switch {
	case r.class&cServer != 0:
		return r.serverConfig(dn)
	case r.class&cBackend != 0:
		suffix, err := r.text0(aServerSuffix)
		r.suffix(string(suffix))
		return err
	}
	at := directoryOf(string(dn))
	r.into.At(at).Platform = setting.DirectoryServer
	p := r.into.Override(at, dn, r.first)
	p.Platform = setting.DirectoryServer
	kind, root, ok := strings.Cut(estate.NameOf(string(dn)), ",")
	switch {
	case ok && strings.EqualFold(kind, "cn=nsPwPolicyEntry_user"):
		p.Name = "of " + estate.NameOf(root)
		r.into.Target(at, p, estate.Target{DN: root, Cite: r.into.Cite(r.first, "dn", string(dn))})
	case ok && strings.EqualFold(kind, "cn=nsPwPolicyEntry_subtree"):
		p.Name, p.Root = "subtree "+estate.NameOf(root), root
	}
	return r.serverPolicy(p)
}

func (r *reader) suffix(dn string) {
	if dn != "" && directoryOf(dn).Name != "" && !strings.EqualFold(dn, "cn=changelog") && !strings.EqualFold(dn, "o=netscaperoot") &&
		!slices.ContainsFunc(r.config.suffixes, func(x string) bool { return estate.NormalDN(x) == estate.NormalDN(dn) }) {
		r.config.suffixes = append(r.config.suffixes, dn)
	}
}

// serverConfig takes cn=config.
func (r *reader) serverConfig(dn []byte) error {
	p := &estate.Policy{Name: "the server's own", Origin: string(dn), Standing: estate.Enforced, Platform: setting.DirectoryServer,
		Settings: estate.Settings{}, Cite: r.into.Cite(r.first, "dn", string(dn))}
	if err := r.serverPolicy(p); err != nil {
		return err
	}
	r.config.policy = p
	context, err := r.text0(aNamingContext)
	if err != nil {
		return err
	}
	r.suffix(string(context))
	if v := r.find(aLocalPolicy); v != nil {
		on, _, err := r.switched(v)
		if err != nil {
			return err
		}
		raw, _ := r.textOf(v)
		r.config.local = &estate.LocalPolicies{On: on, Cite: r.cite(v, raw)}
		if v := r.find(aInheritGlobal); v != nil {
			if r.config.local.Inherit, _, err = r.switched(v); err != nil {
				return err
			}
		}
	}
	return nil
}

// switched reads a switch; told is false where the attribute holds something else.
func (r *reader) switched(v *value) (on, told bool, err error) {
	raw, err := r.textOf(v)
	text := strings.ToLower(string(raw))
	return text == "on", err == nil && (text == "on" || text == "off"), err
}

// serverPolicy takes a policy's settings, and what one attribute switches off of what
// others say.
func (r *reader) serverPolicy(p *estate.Policy) error {
	// An export of all attributes holds more than those that are read: only then is one
	// that is not there absent.
	whole := r.count > len(r.values) && !r.atEnd
	for _, s := range serverOf {
		if s.toggle != always {
			v := r.find(aServer + attr(s.toggle))
			switch {
			case v == nil && !whole:
				continue // whether it counts was not exported
			case v == nil:
				c := r.into.Cite(r.first, serverAttributes[s.toggle], "")
				c.Note = "not there: off"
				r.into.Set(p.Settings, p.Platform, s.id, s.off, c)
				r.inherits(p, &s)
				continue
			}
			on, told, err := r.switched(v)
			if err != nil {
				return err
			}
			raw, _ := r.textOf(v)
			if !told {
				r.into.Unreadable(p.Settings, s.id, r.cite(v, raw), serverAttributes[s.toggle]+" is neither on nor off")
				continue
			}
			if !on {
				c := r.cite(v, raw)
				if held := r.find(aServer + attr(s.attr)); held != nil {
					if text, _ := r.textOf(held); len(text) > 0 {
						c.Note = serverAttributes[s.attr] + ": " + string(text) + " does not count"
					}
				}
				r.into.Set(p.Settings, p.Platform, s.id, s.off, c)
				r.inherits(p, &s)
				continue
			}
		}
		if err := r.serverValue(p, &s, whole); err != nil {
			return err
		}
	}
	return r.untilUnlocked(p, whole)
}

// inherits notes that a local policy checks no syntax, in so many words or by saying
// nothing: where local policies inherit, the server's own check is made then (tried).
func (r *reader) inherits(p *estate.Policy, s *serverSetting) {
	if s.toggle == sCheckSyntax && p.Standing == estate.Override && !slices.Contains(p.Inherits, s.id) {
		p.Inherits = append(p.Inherits, s.id)
	}
}

// serverValue takes the value of a setting that counts.
func (r *reader) serverValue(p *estate.Policy, s *serverSetting, whole bool) error {
	v := r.find(aServer + attr(s.attr))
	if v == nil {
		if whole {
			c := r.into.Cite(r.first, serverAttributes[s.attr], "")
			c.Note = "not there: the server's default"
			r.into.Set(p.Settings, p.Platform, s.id, s.absent, c)
		}
		return nil
	}
	raw, err := r.textOf(v)
	if err != nil {
		return err
	}
	c := r.cite(v, raw)
	if s.attr == sDictCheck {
		on, told, _ := r.switched(v)
		if !told {
			r.into.Unreadable(p.Settings, s.id, c, "neither on nor off")
		} else {
			r.into.Set(p.Settings, p.Platform, s.id, setting.Word(map[bool]string{true: "on", false: "off"}[on]), c)
		}
		return nil
	}
	n, err := strconv.ParseInt(string(raw), 10, 64)
	switch {
	case err != nil || n < 0:
		r.into.Unreadable(p.Settings, s.id, c, serverAttributes[s.attr]+" is not a whole number")
	case n == 0 && s.zero.IsSet():
		r.into.Set(p.Settings, p.Platform, s.id, s.zero, c)
	default:
		r.into.Set(p.Settings, p.Platform, s.id, setting.Number(n), c)
	}
	return nil
}

// untilUnlocked reads passwordUnlock: off says that a lock ends by an administrator
// alone. And a check of syntax compares with the entry's own words, always.
func (r *reader) untilUnlocked(p *estate.Policy, whole bool) error {
	if v := r.find(aServer + attr(sUnlock)); v != nil {
		on, told, err := r.switched(v)
		if err != nil {
			return err
		}
		raw, _ := r.textOf(v)
		if !told {
			r.into.Unreadable(p.Settings, setting.LockoutDuration, r.cite(v, raw), "passwordUnlock is neither on nor off")
		} else if !on {
			p.Settings[setting.LockoutDuration] = estate.Fact{Value: setting.Of(setting.UntilAdmin), Cite: r.cite(v, raw)}
		}
	} else if !whole {
		delete(p.Settings, setting.LockoutDuration)
	}
	v := r.find(aServer + attr(sCheckSyntax))
	if v == nil && !whole {
		return nil
	}
	names, c := setting.Off, r.into.Cite(r.first, serverAttributes[sCheckSyntax], "")
	if v != nil {
		raw, err := r.textOf(v)
		if err != nil {
			return err
		}
		if on, told, _ := r.switched(v); !told {
			return nil
		} else if on {
			names = setting.On
		}
		c = r.cite(v, raw)
	}
	if names == setting.Off {
		r.inherits(p, &serverSetting{id: setting.NameCheck, toggle: sCheckSyntax})
	}
	r.into.Set(p.Settings, p.Platform, setting.NameCheck, names, c)
	return nil
}

// serverSettings gives the configuration's settings to the directories for which the
// server answers.
func (r *reader) serverSettings() {
	if r.config.policy == nil {
		return
	}
	if len(r.config.suffixes) == 0 {
		r.into.NotUnderstood(r.config.policy.Cite, "the configuration of a server that names no suffix: export nsslapd-defaultnamingcontext, too")
	}
	for _, suffix := range r.config.suffixes {
		a := r.into.At(directoryOf(suffix))
		if a.Platform == setting.KerberosRealm {
			continue // its accounts are governed by the realm's policies
		}
		a.Platform = setting.DirectoryServer
		if a.Head == nil {
			a.Head = r.config.policy
		}
		if a.LocalPolicies == nil {
			a.LocalPolicies = r.config.local
		}
	}
}
