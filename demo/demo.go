// Package demo carries the sample engagement: the Marrowick Harbour Authority,
// which does not exist. make.sh tells how its exports were made with a real
// directory.
package demo

import (
	"embed"
	"time"
)

// Files holds engagement.yaml, the folder exports, and in later what came in the
// days after.
//
//go:embed engagement.yaml all:exports all:later
var Files embed.FS

// Written says when exports were made whose age matters; the others are new.
var Written = map[string]time.Time{
	"exports/yard.ldif": time.Date(2026, 3, 2, 9, 30, 0, 0, time.UTC),
}
