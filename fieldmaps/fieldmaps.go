// Package fieldmaps carries the shipped field maps of cloud tenants.
package fieldmaps

import "embed"

// Files holds one YAML file for each product, named after its id.
//
//go:embed *.yaml
var Files embed.FS
