// Package schemas carries the JSON Schemas of the program's JSON output.
package schemas

import (
	"embed"
	"io/fs"
	"strings"
)

// Files holds one schema for each command, named after it.
//
//go:embed *.json
var Files embed.FS

// Names returns the commands that have a schema.
func Names() []string {
	names, _ := fs.Glob(Files, "*.json")
	for i := range names {
		names[i] = strings.TrimSuffix(names[i], ".json")
	}
	return names
}
