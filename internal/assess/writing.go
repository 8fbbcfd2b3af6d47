package assess

import (
	"maps"

	"sternledger/internal/core/setting"
	"sternledger/internal/core/weigh"
	"sternledger/internal/intake/fieldmap"
	"sternledger/internal/intake/ldif"
	"sternledger/internal/intake/template"
	"sternledger/internal/intake/unix"
)

// Writing is how the places write values whose formats the program reads.
var Writing = writing()

func writing() *weigh.Writing {
	w := &weigh.Writing{Forms: ldif.Forms(), Units: fieldmap.Forms(), Asked: map[setting.Platform]func(setting.ID) (name, module string){
		setting.UnixMachine:   unix.AskedAs,
		setting.LDAPDirectory: func(id setting.ID) (name, module string) { return ldif.AskedAs(id), "" },
	}}
	w.Editor = template.Editor
	maps.Copy(w.Forms, template.Forms())
	maps.Copy(w.Forms, unix.Forms())
	return w
}
