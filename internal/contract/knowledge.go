package contract

import (
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/setting"
)

// SettingsDocument is the output of settings.
type SettingsDocument struct {
	Schema   string               `json:"schema"`
	Settings []SettingRowDocument `json:"settings"`
}

// SettingRowDocument is one row of the table of settings.
type SettingRowDocument struct {
	ID       setting.ID         `json:"id"`
	Title    string             `json:"title"`
	Kind     setting.Kind       `json:"kind"`
	Specials []string           `json:"specials"`
	Choices  []string           `json:"choices"`
	On       []setting.Platform `json:"on"`
	Defaults map[string]string  `json:"defaults"` // of a new installation, by platform
	Limits   map[string]string  `json:"limits"`   // of the platform itself
	Meaning  string             `json:"meaning"`
}

// NewSettingsDocument describes the table of settings.
func NewSettingsDocument() SettingsDocument {
	d := SettingsDocument{Schema: "sternledger/settings/1"}
	for _, s := range setting.Table() {
		row := SettingRowDocument{ID: s.ID, Title: s.Title, Kind: s.Kind, Specials: []string{}, Choices: []string{},
			On: []setting.Platform{}, Meaning: s.Meaning}
		for _, k := range s.Specials {
			row.Specials = append(row.Specials, string(k.Special))
		}
		row.Choices = append(row.Choices, s.Choices...)
		row.On = append(row.On, s.On...)
		row.Defaults, row.Limits = map[string]string{}, map[string]string{}
		for p, v := range s.Defaults {
			row.Defaults[string(p)] = s.Text(v)
		}
		for p, r := range s.Limits {
			row.Limits[string(p)] = s.Text(setting.Number(r.Low)) + " to " + s.Text(setting.Number(r.High))
		}
		d.Settings = append(d.Settings, row)
	}
	return d
}

// ChecksDocument is the output of checks.
type ChecksDocument struct {
	Schema string          `json:"schema"`
	Checks []CheckDocument `json:"checks"`
}

// CheckDocument is one check.
type CheckDocument struct {
	Name     string            `json:"name"`
	Looks    string            `json:"looks"` // at completeness, governance, or settings
	Verdict  check.Kind        `json:"verdict"`
	Severity baseline.Severity `json:"severity"`
	Settings []setting.ID      `json:"settings"`
	Doc      string            `json:"doc"`
	Title    string            `json:"title"`
}

// NewChecksDocument describes the checks.
func NewChecksDocument() ChecksDocument {
	d := ChecksDocument{Schema: "sternledger/checks/1"}
	for _, c := range check.All {
		d.Checks = append(d.Checks, CheckDocument{c.Name, string(c.Looks), c.Kind, c.Severity, append([]setting.ID{}, c.Reads...),
			c.Doc, c.Title})
	}
	return d
}
