// Package baselines carries the shipped baselines.
package baselines

import "embed"

// Files holds one YAML file for each baseline, named after its id.
//
//go:embed *.yaml
var Files embed.FS
