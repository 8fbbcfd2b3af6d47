package page

import (
	"strings"

	"sternledger/internal/core/check"
	"sternledger/internal/core/setting"
)

// SettingRows gives the table of settings.
func SettingRows() *Rows {
	r := &Rows{Head: []string{"setting", "takes", "on", "meaning"}}
	for _, row := range setting.Table() {
		var on []string
		for _, p := range row.On {
			on = append(on, string(p))
		}
		r.Rows = append(r.Rows, []string{string(row.ID), row.Expects(), strings.Join(on, ", "), row.Meaning})
	}
	return r
}

// Settings draws the table of settings.
func Settings(s *Sheet) error {
	s.Title("Settings", "")
	for _, row := range setting.Table() {
		lines := []string{row.Meaning, "takes " + row.Expects()}
		if v, ok := row.Defaults[setting.WindowsDomain]; ok {
			lines = append(lines, "a new Windows domain: "+row.Text(v))
		}
		s.Entry(string(row.Kind), "", string(row.ID), lines...)
	}
	return s.Err()
}

// CheckRows gives the checks as rows.
func CheckRows() *Rows {
	r := &Rows{Head: []string{"check", "looks-at", "verdict", "severity", "settings", "doc", "title"}}
	for _, c := range check.All {
		var ids []string
		for _, id := range c.Reads {
			ids = append(ids, string(id))
		}
		r.Rows = append(r.Rows, []string{c.Name, string(c.Looks), string(c.Kind), string(c.Severity), strings.Join(ids, " "), c.Doc, c.Title})
	}
	return r
}

// Checks draws the checks by what they look at.
func Checks(s *Sheet) error {
	var looks check.Looks
	for _, c := range check.All {
		if c.Looks != looks {
			if looks != "" {
				s.Blank()
			}
			looks = c.Looks
			s.Title("Checks on "+string(looks), "")
		}
		s.Entry(string(c.Severity), string(c.Kind), c.Title+" ("+c.Name+")", c.Doc)
	}
	return s.Err()
}
