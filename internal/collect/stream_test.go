package collect

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
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
		for _, from := range []int{-1, 0, size / 2, size} { // where the copy begins to differ
			changed := bytes.Clone(data)
			if from >= 0 {
				for i := from; i < size; i++ {
					changed[i] ^= 1
				}
			}
			file, err := os.Create(filepath.Join(t.TempDir(), "copy"))
			if err != nil {
				t.Fatal(err)
			}
			heard := int64(0)
			in, to := hashingReader(t.Context(), bytes.NewReader(data), func(n int64) { heard = n }), storedCopy(file)
			piece := make([]byte, 1+rnd.IntN(2*blockSize))
			for at := 0; ; {
				n, err := in.Read(piece[:1+rnd.IntN(len(piece))])
				if from >= 0 && at+n >= from {
					to.differs.Store(true)
				}
				if _, failed := to.Write(changed[at : at+n]); failed != nil {
					t.Fatal(failed)
				}
				if at += n; err == io.EOF {
					break
				} else if err != nil {
					t.Fatal(err)
				}
			}
			in.Close()
			if err := to.Close(); err != nil {
				t.Fatal(err)
			}
			file.Close()
			stored, _ := os.ReadFile(file.Name())
			sum := sha256.Sum256(changed)
			if !bytes.Equal(stored, changed) || in.sum() != hex.EncodeToString(want[:]) || to.sumLike(&in.hashing) != hex.EncodeToString(sum[:]) ||
				heard != int64(size) {
				t.Errorf("%d bytes, differing from %d: stored %d, heard %d", size, from, len(stored), heard)
			}
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

// A side that fails or gives up never leaves the other hanging.
func TestFailuresArePassedOn(t *testing.T) {
	in := hashingReader(t.Context(), &failing{after: 9}, nil)
	if _, err := io.Copy(io.Discard, in); !errors.Is(err, errDisk) {
		t.Errorf("reading: %v", err)
	}
	in.Close()
	early := hashingReader(t.Context(), &failing{after: 1 << 30}, nil)
	if _, err := early.Read(make([]byte, 10)); err != nil {
		t.Error(err)
	}
	early.Close()
	closed, err := os.Create(filepath.Join(t.TempDir(), "copy"))
	if err != nil {
		t.Fatal(err)
	}
	closed.Close() // every write fails
	out := storedCopy(closed)
	for range 50 {
		if _, err = out.Write(make([]byte, blockSize)); err != nil {
			break
		}
	}
	if ended := out.Close(); err == nil || !errors.Is(ended, os.ErrClosed) {
		t.Errorf("writing: %v, closing: %v", err, ended)
	}
}
