package govern

import (
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
	{estate.NeverExpires, "max-age", setting.Of(setting.Never)},
	{estate.NoneRequired, "min-length", setting.Number(0)},
	{estate.Reversible, "reversible", setting.On},
}

// WithFlags returns the settings as the account's own flags change them. What
// a flag supplied is From that flag and cites it.
func WithFlags(settings map[setting.ID]Effective, a *estate.Authority, row int) map[setting.ID]Effective {
	changed := map[setting.ID]Effective{}
	for id, e := range settings {
		changed[id] = e
	}
	for _, f := range flagEffects {
		if a.Objects.FlagsOf(row)&f.flag != 0 {
			changed[f.id] = Effective{Fact: estate.Fact{Value: f.value, Cite: a.ControlCite(row)}, From: "flag " + f.flag.Names()[0]}
		}
	}
	return changed
}
