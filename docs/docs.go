// Package docs holds those documents that the program prints itself.
package docs

import (
	_ "embed"
	"strings"
)

//go:embed sources.md
var sources string

// Ask is a page that asks an administrator for one kind of export.
type Ask struct {
	Kind string // domain, machine, unix, ldap, tenant, live
	Page string // in Markdown
}

// Asks are the pages, in the order in which docs/sources.md has them.
func Asks() []Ask {
	_, rest, _ := strings.Cut(sources, "\n## What to ask an administrator for\n")
	rest, _, _ = strings.Cut(rest, "\n## ")
	var all []Ask
	for i, part := range strings.Split(rest, "\n### ") {
		kind, _, ok := strings.Cut(part, ":")
		if i > 0 && ok {
			all = append(all, Ask{kind, "### " + strings.TrimSpace(part) + "\n"})
		}
	}
	// The script that a machine is asked with stands in the part on Unix machines.
	_, script, _ := strings.Cut(sources, "\n```sh\n")
	script, _, _ = strings.Cut(script, "\n```\n")
	for i := range all {
		if all[i].Kind == "unix" {
			all[i].Page += "\n```sh\n" + script + "\n```\n"
		}
	}
	return all
}
