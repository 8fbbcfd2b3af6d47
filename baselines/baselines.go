// Package baselines carries the shipped baselines.
package baselines

import (
	"embed"
	"io/fs"
)

// Files holds one YAML file for each baseline, named after its id.
//
//go:embed *.yaml
var Files embed.FS

// Shipped reports whether a baseline of that id comes with the program.
func Shipped(id string) bool {
	_, err := fs.Stat(Files, id+".yaml")
	return err == nil
}
