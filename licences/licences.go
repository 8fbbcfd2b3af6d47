// Package licences holds the licences of all that is linked into the program.
// They are made from the built files (see CONTRIBUTING.md); a test tells when they
// have to be made again.
package licences

import (
	"bytes"
	"compress/gzip"
	_ "embed"
	"io"
)

//go:embed all.txt.gz
var packed []byte

// Text returns the licences, each under a line "== MODULE VERSION: FILE".
func Text() (string, error) {
	z, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return "", err
	}
	text, err := io.ReadAll(z)
	return string(text), err
}
