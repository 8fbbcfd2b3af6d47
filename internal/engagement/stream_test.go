package engagement

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"math/rand/v2"
	"testing"
)

// Whatever passes comes out as it went in, hashed on the way.
func TestWhatPassesStaysTheSame(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	for _, size := range []int{0, 1, blockSize - 1, blockSize, 3*blockSize + 17, 12 * blockSize} {
		data := make([]byte, size)
		for i := range data {
			data[i] = byte(rnd.Uint32())
		}
		want := sha256.Sum256(data)
		var out bytes.Buffer
		heard := int64(0)
		in, to := hashingReader(bytes.NewReader(data), func(n int64) { heard = n }), hashingWriter(&out)
		piece := make([]byte, 1+rnd.IntN(2*blockSize))
		for {
			n, err := in.Read(piece[:1+rnd.IntN(len(piece))])
			if _, failed := to.Write(piece[:n]); failed != nil {
				t.Fatal(failed)
			}
			if err == io.EOF {
				break
			} else if err != nil {
				t.Fatal(err)
			}
		}
		in.Close()
		if err := to.Close(); err != nil {
			t.Fatal(err)
		}
		if !bytes.Equal(out.Bytes(), data) || in.sum() != hex.EncodeToString(want[:]) || to.sum() != in.sum() || heard != int64(size) {
			t.Errorf("%d bytes: came out %d, heard %d", size, out.Len(), heard)
		}
	}
}

type failing struct{ after int }

var errDisk = errors.New("disk full")

func (f *failing) Read(p []byte) (int, error) {
	if f.after--; f.after < 0 {
		return 0, errDisk
	}
	return len(p), nil
}

func (f *failing) Write(p []byte) (int, error) { return f.Read(p) }

// A side that fails or gives up never leaves the other hanging.
func TestFailuresArePassedOn(t *testing.T) {
	in := hashingReader(&failing{after: 9}, nil)
	if _, err := io.Copy(io.Discard, in); !errors.Is(err, errDisk) {
		t.Errorf("reading: %v", err)
	}
	in.Close()
	early := hashingReader(&failing{after: 1 << 30}, nil)
	if _, err := early.Read(make([]byte, 10)); err != nil {
		t.Error(err)
	}
	early.Close()
	out := hashingWriter(&failing{after: 2})
	var err error
	for range 50 {
		if _, err = out.Write(make([]byte, blockSize)); err != nil {
			break
		}
	}
	if closed := out.Close(); err == nil || !errors.Is(closed, errDisk) {
		t.Errorf("writing: %v, closing: %v", err, closed)
	}
}
