package ldif

import (
	"io"
	"os"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/intake"
)

// BenchmarkRead reads the export that BENCH_LDIF names (see bench/run), else
// the demo's.
func BenchmarkRead(b *testing.B) {
	file := os.Getenv("BENCH_LDIF")
	if file == "" {
		file = "../../../demo/exports/marrowick.ldif"
	}
	info, err := os.Stat(file)
	if err != nil {
		b.Fatal(err)
	}
	b.SetBytes(info.Size())
	for b.Loop() {
		f, err := os.Open(file)
		if err != nil {
			b.Fatal(err)
		}
		into := estate.NewBuilder()
		into.StartFile("x.ldif")
		if err := read(&intake.Source{Path: file, In: f, Keep: io.Discard, Differs: func() {}}, into); err != nil {
			b.Fatal(err)
		}
		into.Finish()
		f.Close()
	}
}
