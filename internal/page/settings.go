package page

import (
	"strings"

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
		s.Entry(string(row.Kind), "", string(row.ID), row.Meaning, "takes "+row.Expects())
	}
	return s.Err()
}
