package ldif

import (
	"bytes"
	"math"
	"strings"
	"time"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// This file reads what an LDAP directory with the password-policy object class
// holds (draft-behera-ldap-password-policy), and the part of an OpenLDAP
// server's configuration that names the default policy (slapo-ppolicy(5)).

// ofLDAP reports whether the record is one of an LDAP directory that is no
// Windows domain.
func (r *reader) ofLDAP() bool {
	if r.class&ofDomain != 0 || r.find(aName) != nil || r.find(aControl) != nil || r.find(aSID) != nil {
		return false
	}
	return r.class&(cPerson|cNames|cPwdPolicy) != 0
}

// directoryOf names the directory by its suffix: as a domain where that is
// written with DC, else by the suffix itself.
func directoryOf(dn string) estate.Place {
	name := estate.DomainOf(dn)
	if name == "" {
		// The last parts that name an organisation, a place or a country.
		rest := dn
		for rest != "" {
			first, _ := estate.SplitDN(rest)
			kind, _, _ := strings.Cut(strings.ToLower(first), "=")
			if kind == "o" || kind == "c" || kind == "l" || kind == "st" {
				break
			}
			_, rest = estate.SplitDN(rest)
		}
		if rest == "" {
			rest = dn
		}
		name = estate.NormalDN(rest)
	}
	return estate.Place{Name: name, Kind: estate.LDAP}
}

// ldap takes one entry of an LDAP directory.
func (r *reader) ldap(dn []byte) error {
	r.got++
	at := directoryOf(string(dn))
	if r.class&cPwdPolicy != 0 {
		return r.pwdPolicy(at, dn)
	}
	rec := &r.rec
	*rec = estate.Record{DN: dn, Line: r.first, Class: estate.Account}
	if r.class&cPerson == 0 {
		rec.Class, rec.GroupType = estate.Group, estate.SecurityGroup
	}
	rec.Name = []byte(estate.NameOf(string(dn)))
	found := false
	for i := range r.values {
		v := &r.values[i]
		switch v.attr {
		case aUID, aDisplay, aSubentry, aPwdLocked, aPwdChanged, aNoSignIn, aHolders, aKrbPolicy, aKrbFlags, aKrbPrincipal, aKrbChanged,
			aFailures, aFailureTimes:
		default:
			continue
		}
		raw, err := r.textOf(v)
		if err != nil {
			return err
		}
		switch v.attr {
		case aUID:
			if !found { // an entry may have several: the first counts
				rec.Name, found = raw, true
			}
		case aDisplay:
			rec.Display = raw
		case aFailures:
			if n, ok := atoi(raw); ok && n > 0 {
				rec.Failures = uint32(min(n, math.MaxUint32))
			}
		case aFailureTimes:
			rec.Failures++
		case aSubentry:
			rec.Applied = [][]byte{raw}
		case aPwdLocked:
			rec.Flags |= estate.LockedNow
			if bytes.HasPrefix(raw, []byte("000001010000")) {
				rec.Flags |= estate.Disabled // locked for good, by an administrator
			}
		case aHolders:
			rec.Holders, rec.HolderLines = append(rec.Holders, raw), append(rec.HolderLines, v.line)
		case aKrbPolicy:
			rec.Applied = [][]byte{raw}
		case aKrbFlags:
			const requiresPreauth = 128 // kdb.h
			if flags, ok := atoi(raw); ok && flags&requiresPreauth == 0 {
				rec.Flags |= estate.NoPreauth
			}
		case aKrbPrincipal:
			if name, _, ok := bytes.Cut(raw, []byte("@")); ok && !found && len(rec.Name) == 0 {
				rec.Name = name
			}
		case aNoSignIn:
			if strings.EqualFold(string(raw), "true") {
				rec.Flags |= estate.Disabled
			}
		case aPwdChanged, aKrbChanged:
			if t, err := time.Parse("20060102150405Z", string(raw)); err == nil {
				rec.PwdSet = uint32(t.Unix())
			}
		}
	}
	if r.find(aOperational) != nil || r.find(aPwdChanged) != nil {
		r.into.ShowsPointers(at) // pwdPolicySubentry is one of these
	}
	row := r.into.Object(at, rec)
	if rec.Class == estate.Group {
		return r.members(at, row)
	}
	return nil
}

// policyAttribute is one of a pwdPolicy entry that holds a number.
type policyAttribute struct {
	attr attr
	id   setting.ID
	zero setting.Value // what 0 and absence mean
}

// policyAttributes are they. What is not there asks for nothing: the draft says so
// of each.
var policyAttributes = []policyAttribute{
	{aPwdMinLength, setting.MinLength, setting.Number(0)},
	{aPwdMaxLength, setting.MaxLength, setting.Of(setting.Unlimited)},
	{aPwdMaxAge, setting.MaxAge, setting.Of(setting.Never)},
	{aPwdMinAge, setting.MinAge, setting.Of(setting.AtOnce)},
	{aPwdInHistory, setting.History, setting.Number(0)},
	{aPwdExpireWarning, setting.ExpiryWarning, setting.Number(0)},
	{aPwdMaxFailure, setting.LockoutThreshold, setting.Of(setting.Never)},
	{aPwdLockoutDuration, setting.LockoutDuration, setting.Of(setting.UntilAdmin)},
	{aPwdFailureInterval, setting.LockoutWindow, setting.Of(setting.Never)},
}

// pwdPolicy takes one policy.
func (r *reader) pwdPolicy(at estate.Place, dn []byte) error {
	p := r.into.Override(at, dn, r.first)
	whole := r.find(aPwdAttribute) != nil // every policy must have it: without it the export is of chosen attributes
	for _, a := range policyAttributes {
		v := r.find(a.attr)
		if v == nil {
			if whole {
				c := r.into.Cite(r.first, named[a.attr][0], "")
				c.Note = "not there: it asks for nothing"
				r.into.Set(p.Settings, p.Platform, a.id, a.zero, c)
			}
			continue
		}
		raw, err := r.textOf(v)
		if err != nil {
			return err
		}
		n, ok := atoi(raw)
		if !ok || n < 0 {
			r.into.Unreadable(p.Settings, a.id, r.cite(v, raw), named[a.attr][0]+" is not a whole number")
			continue
		}
		value := setting.Number(n)
		if n == 0 {
			value = a.zero
		}
		r.into.Set(p.Settings, p.Platform, a.id, value, r.cite(v, raw))
	}
	r.onPaper(p, whole)
	return nil
}

// onPaper takes back what another attribute of the policy switches off: without
// a check of quality no length is asked for, and without pwdLockout nothing
// locks.
func (r *reader) onPaper(p *estate.Policy, whole bool) {
	quality, lockout := r.find(aPwdCheckQuality), r.find(aPwdLockout)
	off := func(v *value, name, word string) (estate.Cite, bool) {
		if v == nil {
			c := r.into.Cite(r.first, name, "")
			c.Note = "not there: off"
			return c, whole
		}
		raw, err := r.textOf(v)
		return r.cite(v, raw), err == nil && strings.EqualFold(string(raw), word)
	}
	if c, is := off(quality, "pwdCheckQuality", "0"); is {
		for _, id := range []setting.ID{setting.MinLength, setting.MaxLength} {
			if f := p.Settings[id]; f.Cite.Raw != "" {
				c.Note = f.Cite.Where + ": " + f.Cite.Raw + " is not checked"
			}
		}
		p.Settings[setting.MinLength] = estate.Fact{Value: setting.Number(0), Cite: c}
		p.Settings[setting.MaxLength] = estate.Fact{Value: setting.Of(setting.Unlimited), Cite: c}
	} else if !r.saysSo(quality, number) {
		delete(p.Settings, setting.MinLength) // whether it is asked for is not in the evidence
	}
	if v := r.find(aPwdCheckModule); v != nil {
		// Its name, or, with newer servers, whether the server's own is used.
		if raw, err := r.textOf(v); err == nil && len(raw) > 0 && !strings.EqualFold(string(raw), "FALSE") {
			p.Asks = &estate.Asks{Module: string(raw), Cite: r.cite(v, raw)}
		}
	}
	if c, is := off(lockout, "pwdLockout", "FALSE"); is {
		if f := p.Settings[setting.LockoutThreshold]; f.Cite.Raw != "" {
			c.Note = "pwdMaxFailure: " + f.Cite.Raw + " locks nothing"
		}
		p.Settings[setting.LockoutThreshold] = estate.Fact{Value: setting.Of(setting.Never), Cite: c}
	} else if !r.saysSo(lockout, boolean) {
		delete(p.Settings, setting.LockoutThreshold)
	}
}

// saysSo reports whether an attribute is there, with a value that can be read.
func (r *reader) saysSo(v *value, read func(string) (setting.Value, error)) bool {
	if v == nil {
		return false
	}
	raw, err := r.textOf(v)
	if err == nil {
		_, err = read(string(raw))
	}
	return err == nil
}

// serverConfig is what an OpenLDAP server's configuration says of its
// databases, by their DN in one spelling.
type serverConfig struct {
	suffix  map[string]string
	at      map[string]estate.Cite
	overlay map[string]estate.Cite
	policy  map[string]string
}

// configuration takes an entry of a server's configuration.
func (r *reader) configuration(dn []byte) error {
	r.got++
	s := &r.server
	if s.suffix == nil {
		*s = serverConfig{map[string]string{}, map[string]estate.Cite{}, map[string]estate.Cite{}, map[string]string{}}
	}
	if r.class&cOverlay != 0 {
		_, parent := estate.SplitDN(string(dn))
		key := estate.NormalDN(parent)
		s.overlay[key] = r.into.Cite(r.first, "dn", string(dn))
		if v := r.find(aDefault); v != nil {
			raw, err := r.textOf(v)
			if err != nil {
				return err
			}
			s.policy[key], s.overlay[key] = string(raw), r.cite(v, raw)
		}
		return nil
	}
	if v := r.find(aSuffix); v != nil {
		raw, err := r.textOf(v)
		if err != nil {
			return err
		}
		key := estate.NormalDN(string(dn))
		s.suffix[key], s.at[key] = string(raw), r.cite(v, raw)
	}
	return nil
}

// serverDefaults says of each directory in the configuration which policy its
// server applies by default: a named one, or none at all.
func (r *reader) serverDefaults() {
	for key, suffix := range r.server.suffix {
		a := r.into.At(directoryOf(suffix))
		overlay, has := r.server.overlay[key]
		if dn := r.server.policy[key]; dn != "" {
			a.DefaultPolicy, a.DefaultPolicyCite = dn, overlay
			continue
		}
		if a.Head != nil {
			continue
		}
		name, at := "no password policy", r.server.at[key]
		at.Note = "no password-policy overlay on this database"
		if has {
			name, at = "no default policy", overlay
			at.Note = "the overlay names no default policy"
		}
		a.Head = &estate.Policy{Name: name, Origin: suffix, Standing: estate.Enforced, Platform: setting.LDAPDirectory,
			Settings: estate.Settings{}, Cite: at}
		for _, p := range policyAttributes {
			a.Head.Settings[p.id] = estate.Fact{Value: p.zero, Cite: at}
		}
	}
}
