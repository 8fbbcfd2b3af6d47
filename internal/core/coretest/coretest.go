// Package coretest makes small worlds for tests of the core.
package coretest

import (
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Settle adds one authority with accounts, each a name and flags.
func Settle(b *estate.Builder, name string, kind estate.Kind, settings map[setting.ID]setting.Value,
	accounts map[string]estate.Flag) *estate.Authority {
	b.StartFile(name + ".x")
	at := estate.Place{Name: name, Kind: kind}
	a := b.At(at)
	if settings != nil {
		a.Head = &estate.Policy{Name: "own", Origin: "own", Standing: estate.Enforced, Platform: a.Platform, Settings: estate.Settings{}}
		for id, v := range settings {
			a.Head.Settings[id] = estate.Fact{Value: v, Cite: estate.Cite{File: name + ".x", Line: 1, Where: string(id)}}
		}
	}
	for who, flags := range accounts {
		b.Object(at, &estate.Record{Class: estate.Account, DN: []byte(who), Name: []byte(who), Flags: flags,
			Source: []byte("quay.example\t" + who), Line: 2})
	}
	return a
}

// ScopeWith returns a scope of a machine or domain with these settings, each
// written as people write it; "?" is unreadable.
func ScopeWith(t testing.TB, p setting.Platform, standing estate.Standing, settings string) *govern.Scope {
	t.Helper()
	a := &estate.Authority{Name: "x", Kind: estate.Machine, Platform: p, Objects: &estate.Objects{}}
	a.Head = &estate.Policy{Name: "local", Standing: standing, Platform: p, Settings: estate.Settings{}}
	for i, line := range strings.Split(settings, ";") {
		id, text, ok := strings.Cut(strings.TrimSpace(line), " ")
		if !ok {
			continue
		}
		f := estate.Fact{Cite: estate.Cite{File: "x.inf", Line: i + 1, Where: "Key", Raw: text}}
		if text == "?" {
			f.Problem = "cannot be read"
		} else {
			v, err := setting.Get(setting.ID(id)).Parse(text)
			if err != nil {
				t.Fatal(err)
			}
			f.Value = v
		}
		a.Head.Settings[setting.ID(id)] = f
	}
	survey := govern.NewSurvey(&estate.Estate{Authorities: []*estate.Authority{a}},
		func(*estate.Authority) estate.Dialect { return estate.Windows }, nil)
	return survey.Scopes[0]
}
