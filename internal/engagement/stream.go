package engagement

import (
	"crypto/sha256"
	"encoding/hex"
	"hash"
	"io"
)

// blockSize is how much is handed on at a time.
const blockSize = 1 << 20

// hashing is one end of a pipe whose other end runs beside the reader and
// hashes what passes, so that hashing and reading share two processors.
type hashing struct {
	hash hash.Hash
	n    int64
	end  io.Closer
	done chan error
}

// sum returns the SHA-256 of all that passed; only after Close.
func (h *hashing) sum() string { return hex.EncodeToString(h.hash.Sum(nil)) }

type readEnd struct {
	*io.PipeReader
	hashing
}

// hashingReader reads ahead from in and hashes it. told, if not nil, hears how
// many bytes were read.
func hashingReader(in io.Reader, told func(int64)) *readEnd {
	r, w := io.Pipe()
	e := &readEnd{PipeReader: r, hashing: hashing{hash: sha256.New(), done: make(chan error, 1)}}
	go func() {
		block := make([]byte, blockSize)
		for {
			n, err := in.Read(block)
			if n > 0 {
				e.hash.Write(block[:n])
				e.n += int64(n)
				if told != nil {
					told(e.n)
				}
				if _, stopped := w.Write(block[:n]); stopped != nil {
					err = stopped
				}
			}
			if err != nil {
				w.CloseWithError(err)
				e.done <- err
				return
			}
		}
	}()
	return e
}

// Close ends the reading and waits until the other end has stopped.
func (e *readEnd) Close() error {
	e.PipeReader.Close()
	<-e.done
	return nil
}

type writeEnd struct {
	*io.PipeWriter
	hashing
}

// hashingWriter hashes what is written and writes it behind to out.
func hashingWriter(out io.Writer) *writeEnd {
	r, w := io.Pipe()
	e := &writeEnd{PipeWriter: w, hashing: hashing{hash: sha256.New(), done: make(chan error, 1)}}
	go func() {
		_, err := io.CopyBuffer(onlyWriter{io.MultiWriter(out, e.hash)}, onlyReader{r}, make([]byte, blockSize))
		r.CloseWithError(err)
		e.done <- err
	}()
	return e
}

// onlyReader and onlyWriter hide shortcuts that would bypass the buffer.
type (
	onlyReader struct{ io.Reader }
	onlyWriter struct{ io.Writer }
)

// Close waits until everything is written.
func (e *writeEnd) Close() error {
	e.PipeWriter.Close()
	return <-e.done
}
