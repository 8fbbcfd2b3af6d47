package govern

import (
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// flagEffects are the account flags that change single settings for their
// account, whatever governs it.
var flagEffects = []struct {
	flag  estate.Flag
	id    setting.ID
	value setting.Value
}{
	{estate.NeverExpires, setting.MaxAge, setting.Of(setting.Never)},
	{estate.SmartCard, setting.MaxAge, setting.Of(setting.Never)}, // who needs a card has no password that ends (tried)
	{estate.NoneRequired, setting.MinLength, setting.Number(0)},
	{estate.Reversible, setting.Reversible, setting.On},
}

// WithFlags returns the settings as the account's own flags change them. What
// a flag supplied is From that flag and cites it.
func WithFlags(settings map[setting.ID]Effective, a *estate.Authority, row int) map[setting.ID]Effective {
	changed := map[setting.ID]Effective{}
	for id, e := range settings {
		changed[id] = e
	}
	for _, f := range flagEffects {
		if a.Objects.FlagsOf(row)&f.flag == 0 || changed[f.id].Missing == NoSuch {
			continue
		}
		at := a.ControlCite(row)
		if a.Kind != estate.Domain {
			at = a.CiteOf(row)
		}
		changed[f.id] = Effective{Fact: estate.Fact{Value: f.value, Cite: at}, From: "flag " + f.flag.Names()[0]}
	}
	if a.Objects.FlagsOf(row)&estate.NoControl != 0 && a.Kind != estate.Machine {
		changed[setting.MaxAge] = unlessExempt(changed[setting.MaxAge])
	}
	return ownLines(changed, a, row)
}

// unlessExempt is a maximum age for accounts whose flags were not exported: each may be
// let off it.
func unlessExempt(e Effective) Effective {
	if e.Missing != Present || e.Value.Is(setting.Never) {
		return e
	}
	return Effective{Missing: Unreadable, Fact: estate.Fact{Cite: e.Cite, Problem: "whether the accounts' own flags let their passwords " +
		"never expire was not exported",
		Remedy: "Export the accounts with their flags, and gather again."}}
}

// ownLines cites, for an account of a Unix machine, its own line of shadow
// where its scope cites that of the first account.
func ownLines(settings map[setting.ID]Effective, a *estate.Authority, row int) map[setting.ID]Effective {
	own := a.CiteOf(row)
	for id, e := range settings {
		if a.Kind == estate.Machine && e.Cite.File == own.File && strings.HasPrefix(e.Cite.Where, "shadow field") {
			e.Cite.Line = own.Line
			settings[id] = e
		}
	}
	return settings
}
