// Package demo carries the sample engagement: the Marrowick Harbour Authority,
// which does not exist. make.sh tells how its exports were made with a real
// directory.
package demo

import "embed"

// Files holds engagement.yaml and the folder exports.
//
//go:embed engagement.yaml all:exports
var Files embed.FS
