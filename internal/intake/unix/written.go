package unix

import (
	"strings"

	"sternledger/internal/core/setting"
)

// Forms are the written forms of options of Linux-PAM's modules, of login.defs and
// of shadow, by the name under which evidence cites them.
func Forms() map[string]setting.Form {
	all := map[string]setting.Form{"ENCRYPT_METHOD": func(v setting.Value) string { return strings.ToUpper(setting.Chosen(v)) }}
	for _, o := range table {
		if all[o.Name] = o.Form; o.Form == nil {
			all[o.Name] = setting.Plain
		}
	}
	for _, a := range ageing {
		all[a.given] = setting.Scaled(day, a.written)
		all[a.cited()] = setting.Scaled(day, a.written)
		if a.id == setting.InactiveDisable {
			all[a.cited()] = setting.Scaled(day, map[setting.Special]string{setting.Never: "nothing"})
		}
	}
	return all
}
