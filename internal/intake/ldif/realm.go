package ldif

import (
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// This file reads a realm of Kerberos that keeps its policies in a directory
// (kerberos.schema of MIT Kerberos), and what FreeIPA adds: a policy for everybody
// else, and classes of service that give one to the members of a group.

// realmAttributes are those of a policy. Absent means 0.
var realmAttributes = []policyAttribute{
	{aKrbMinLength, setting.MinLength, setting.Number(0)},
	{aKrbClasses, setting.ClassesRequired, setting.Number(0)},
	{aKrbHistory, setting.History, setting.Number(0)},
	{aKrbMaxLife, setting.MaxAge, setting.Of(setting.Never)},
	{aKrbMinLife, setting.MinAge, setting.Of(setting.AtOnce)},
	{aKrbMaxFailure, setting.LockoutThreshold, setting.Of(setting.Never)},
	{aKrbInterval, setting.LockoutWindow, setting.Of(setting.Never)},
	{aKrbDuration, setting.LockoutDuration, setting.Of(setting.UntilAdmin)},
}

// realm takes a policy, or a class of service.
func (r *reader) realm(dn []byte) error {
	r.got++
	at := directoryOf(string(dn))
	a := r.into.At(at)
	if r.class&cClassOfService != 0 && r.class&cRealmPolicy == 0 {
		return r.classOfService(at, dn)
	}
	a.Platform = setting.KerberosRealm
	if a.Head != nil && a.Head.Platform == setting.DirectoryServer {
		a.Head, a.LocalPolicies = nil, nil // what the server's own settings say does not govern the realm's accounts
	}
	var p *estate.Policy
	if strings.EqualFold(estate.NameOf(string(dn)), "global_policy") {
		if a.Head == nil {
			a.Head = &estate.Policy{Name: "global_policy", Origin: string(dn), Standing: estate.Enforced, Platform: setting.KerberosRealm,
				Settings: estate.Settings{}, Cite: r.into.Cite(r.first, "dn", string(dn))}
		}
		p = a.Head
	} else {
		p = r.into.Override(at, dn, r.first)
		p.Platform = setting.KerberosRealm
	}
	whole := r.count > len(r.values) && !r.atEnd
	for _, x := range realmAttributes {
		v := r.find(x.attr)
		if v == nil {
			if whole {
				c := r.into.Cite(r.first, named[x.attr][0], "")
				c.Note = "not there: 0"
				r.into.Set(p.Settings, p.Platform, x.id, x.zero, c)
			}
			continue
		}
		raw, err := r.textOf(v)
		if err != nil {
			return err
		}
		n, ok := atoi(raw)
		value := setting.Number(n)
		if n == 0 {
			value = x.zero
		}
		if !ok || n < 0 {
			r.into.Unreadable(p.Settings, x.id, r.cite(v, raw), named[x.attr][0]+" is not a whole number")
		} else {
			r.into.Set(p.Settings, p.Platform, x.id, value, r.cite(v, raw))
		}
	}
	return nil
}

// classOfService takes a template that gives a policy to the members of the group that
// its name holds; of several the lowest priority wins.
func (r *reader) classOfService(at estate.Place, dn []byte) error {
	v := r.find(aKrbPolicy)
	if v == nil {
		return nil // a class of service of something else
	}
	policy, err := r.textOf(v)
	if err != nil {
		return err
	}
	group := strings.Trim(estate.NameOf(string(dn)), `"`) // the name is the group's DN
	priority, told, err := r.integer(aCosPriority)
	if err != nil {
		return err
	}
	c := r.cite(v, policy)
	if !strings.Contains(group, "=") {
		r.into.NotUnderstood(c, "a class of service that gives a policy, and is not named after a group")
		return nil
	}
	p := r.into.Override(at, policy, r.first)
	p.Platform = setting.KerberosRealm
	r.into.Target(at, p, estate.Target{DN: group, Cite: c})
	if told && p.Precedence == nil {
		p.Precedence = &priority
	}
	return nil
}
