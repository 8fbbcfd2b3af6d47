// Command parts says what the program is made of, from what is linked into built
// files: the list of parts of a release (CycloneDX), and the licences that the
// program prints.
//
//	go run ./dist/parts -sbom FILE PROGRAM…
//	go run ./dist/parts -licences licences/all.txt.gz PROGRAM…
package main

import (
	"bytes"
	"compress/gzip"
	"debug/buildinfo"
	"errors"
	"flag"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"github.com/CycloneDX/cyclonedx-go"
)

func main() {
	log.SetFlags(0)
	sbom := flag.String("sbom", "", "write the list of parts to this file")
	licences := flag.String("licences", "", "write the licences, compressed, to this file")
	flag.Parse()
	parts, err := linked(flag.Args())
	if err == nil && *sbom != "" {
		err = writeParts(*sbom, parts)
	}
	if err == nil && *licences != "" {
		err = writeLicences(*licences, parts)
	}
	if err != nil {
		log.Fatal(err)
	}
}

// part is one module that is linked in.
type part struct{ path, version, sum string }

// linked returns the modules of which programs are made, each once. The first is
// Go's own library.
func linked(programs []string) ([]part, error) {
	if len(programs) == 0 {
		return nil, errors.New("name at least one built program")
	}
	var all []part
	golang := ""
	for _, file := range programs {
		info, err := buildinfo.ReadFile(file)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
		golang = info.GoVersion
		for _, m := range info.Deps {
			if m.Replace != nil {
				if strings.HasPrefix(m.Replace.Path, "./") { // a folder of this repository: ours
					continue
				}
				m = m.Replace
			}
			if p := (part{m.Path, m.Version, m.Sum}); !slices.Contains(all, p) {
				all = append(all, p)
			}
		}
	}
	slices.SortFunc(all, func(x, y part) int { return strings.Compare(x.path, y.path) })
	return append([]part{{"std", golang, ""}}, all...), nil
}

func writeParts(file string, parts []part) error {
	bom := cyclonedx.NewBOM()
	bom.Metadata = &cyclonedx.Metadata{Component: &cyclonedx.Component{BOMRef: "sternledger", Type: cyclonedx.ComponentTypeApplication,
		Name:     "sternledger",
		Licenses: &cyclonedx.Licenses{{License: &cyclonedx.License{ID: "Apache-2.0"}}}}}
	var components []cyclonedx.Component
	var refs []string
	for _, p := range parts {
		ref := "pkg:golang/" + p.path + "@" + p.version
		c := cyclonedx.Component{BOMRef: ref, Type: cyclonedx.ComponentTypeLibrary, Name: p.path, Version: p.version, PackageURL: ref}
		if p.sum != "" { // of Go's module checksums, not of one file
			c.Properties = &[]cyclonedx.Property{{Name: "go:sum", Value: p.sum}}
		}
		components, refs = append(components, c), append(refs, ref)
	}
	bom.Components = &components
	bom.Dependencies = &[]cyclonedx.Dependency{{Ref: "sternledger", Dependencies: &refs}}
	var out bytes.Buffer
	if err := cyclonedx.NewBOMEncoder(&out, cyclonedx.BOMFileFormatJSON).SetPretty(true).Encode(bom); err != nil {
		return err
	}
	return os.WriteFile(file, out.Bytes(), 0o644)
}

// licenceNames are how modules call the file.
var licenceNames = []string{"LICENSE", "LICENSE.txt", "LICENSE.md", "LICENCE", "COPYING", "License", "LICENSE-MIT", "LICENSE-GO",
	"LICENSE-SQLITE.md", "LICENSE-MMAP-GO", "NOTICE"}

func writeLicences(file string, parts []part) error {
	var text bytes.Buffer
	for _, p := range parts {
		dir, err := folderOf(p)
		if err != nil {
			return err
		}
		found := false
		for _, name := range licenceNames {
			data, err := os.ReadFile(filepath.Join(dir, name))
			if err != nil {
				continue
			}
			found = true
			fmt.Fprintf(&text, "== %s %s: %s\n\n%s\n\n", p.path, p.version, name,
				bytes.TrimSpace(bytes.ReplaceAll(data, []byte("\r\n"), []byte("\n"))))
		}
		if !found {
			return fmt.Errorf("%s %s: no licence in %s", p.path, p.version, dir)
		}
	}
	var packed bytes.Buffer
	z, err := gzip.NewWriterLevel(&packed, gzip.BestCompression)
	if err != nil {
		return err
	}
	if _, err := z.Write(text.Bytes()); err != nil {
		return err
	}
	return errors.Join(z.Close(), os.WriteFile(file, packed.Bytes(), 0o644))
}

// folderOf is where a module's files lie.
func folderOf(p part) (string, error) {
	if p.path == "std" {
		out, err := exec.Command("go", "env", "GOROOT").Output()
		return strings.TrimSpace(string(out)), err
	}
	out, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", p.path+"@"+p.version).Output()
	if err != nil {
		return "", fmt.Errorf("%s: %w", p.path, err)
	}
	return strings.TrimSpace(string(out)), nil
}
