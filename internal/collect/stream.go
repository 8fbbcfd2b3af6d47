package collect

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"hash"
	"io"
	"os"
	"sync"
	"sync/atomic"
)

const (
	blockSize = 1 << 20
	blocks    = 4 // in flight: enough that neither side waits for the other
)

// spare keeps blocks from file to file: thousands of small ones would spend
// their time on clearing fresh memory.
var spare = sync.Pool{New: func() any { return new([blockSize]byte) }}

// queue is a pipe that holds a few blocks, so that reading, hashing and
// writing share the processors. One side writes, or sends blocks, the other reads,
// or takes them.
type queue struct {
	full    chan filled
	free    chan struct{}    // one for each block that may still be filled
	stop    chan struct{}    // closed when the reading side gives up
	err     error            // of the writing side; read after full is closed
	in      filled           // the block being filled
	out     []byte           // what is left of the block being read
	reading *[blockSize]byte // the block that out is of
}

// filled is a block and how much of it was filled.
type filled struct {
	block *[blockSize]byte
	n     int
}

func newQueue() *queue {
	q := &queue{full: make(chan filled, blocks), free: make(chan struct{}, blocks), stop: make(chan struct{})}
	for range blocks {
		q.free <- struct{}{}
	}
	return q
}

var errStopped = errors.New("nobody reads any more")

// room waits for a block that may be filled; nil: nobody reads any more.
func (q *queue) room() *[blockSize]byte {
	select {
	case <-q.free:
		return spare.Get().(*[blockSize]byte)
	case <-q.stop:
		return nil
	}
}

// send hands on what stands in a block.
func (q *queue) send(f filled) {
	q.full <- f // never blocks: there are no more blocks than places
}

// next takes the next block, which must be released, or returns why there is none.
func (q *queue) next() (filled, error) {
	if f, ok := <-q.full; ok {
		return f, nil
	}
	return filled{}, q.err
}

func (q *queue) release(block *[blockSize]byte) {
	spare.Put(block)
	q.free <- struct{}{}
}

// Write copies p into blocks.
func (q *queue) Write(p []byte) (n int, err error) {
	for n < len(p) {
		if q.in.block == nil {
			if q.in.block = q.room(); q.in.block == nil {
				return n, errStopped
			}
		}
		k := copy(q.in.block[q.in.n:], p[n:])
		q.in.n, n = q.in.n+k, n+k
		if q.in.n == blockSize {
			q.send(q.in)
			q.in = filled{}
		}
	}
	return n, nil
}

// finish sends what is left and ends the queue; the reader then gets err.
func (q *queue) finish(err error) {
	if q.in.n > 0 {
		q.send(q.in)
		q.in = filled{}
	}
	q.err = err
	close(q.full)
}

// Read takes from the blocks in order.
func (q *queue) Read(p []byte) (int, error) {
	if len(q.out) == 0 {
		if q.reading != nil {
			q.release(q.reading)
			q.reading = nil
		}
		next, err := q.next()
		if err != nil {
			return 0, err
		}
		q.out, q.reading = next.block[:next.n], next.block
	}
	n := copy(p, q.out)
	q.out = q.out[n:]
	return n, nil
}

// hashing hashes what passes one end of a queue.
type hashing struct {
	*queue
	hash hash.Hash
	n    int64
	done chan error
}

func newHashing() hashing {
	return hashing{queue: newQueue(), hash: sha256.New(), done: make(chan error, 1)}
}

// sum returns the SHA-256 of all that passed; only after Close.
func (h *hashing) sum() string { return hex.EncodeToString(h.hash.Sum(nil)) }

type readEnd struct{ hashing }

// hashingReader reads ahead from in and hashes it, until ctx ends. told, if not
// nil, hears how many bytes were read.
func hashingReader(ctx context.Context, in io.Reader, told func(int64)) *readEnd {
	e := &readEnd{newHashing()}
	go func() {
		err := e.readAhead(ctx, in, told)
		e.finish(err)
		e.done <- err
	}()
	return e
}

// readAhead fills block after block until there is a reason to end.
func (e *readEnd) readAhead(ctx context.Context, in io.Reader, told func(int64)) error {
	for {
		block := e.room()
		if block == nil {
			return errStopped
		}
		n, err := in.Read(block[:])
		if why := context.Cause(ctx); why != nil {
			n, err = 0, why
		}
		e.hash.Write(block[:n])
		e.n += int64(n)
		if told != nil {
			told(e.n)
		}
		if n > 0 {
			e.send(filled{block, n})
		} else {
			e.release(block)
		}
		if err != nil {
			return err
		}
	}
}

// Close ends the reading and waits until the other end has stopped.
func (e *readEnd) Close() {
	close(e.stop)
	<-e.done
}

// copyEnd writes the stored copy. As long as it is the same as what was read,
// it has the same hash, and hashing it again would be for nothing; once a
// reader says that it differs, it is hashed from its beginning.
type copyEnd struct {
	hashing
	file    *os.File
	differs atomic.Bool
	hashed  bool // the hash has everything written so far
}

// storedCopy writes what is written behind to file.
func storedCopy(file *os.File) *copyEnd {
	e := &copyEnd{hashing: newHashing(), file: file}
	go func() {
		for {
			next, err := e.next()
			if err == nil {
				err = e.keep(next.block[:next.n])
				e.release(next.block)
			}
			if err != nil {
				close(e.stop)
				if err == io.EOF {
					err = e.catchUp()
				}
				e.done <- err
				return
			}
		}
	}()
	return e
}

func (e *copyEnd) keep(block []byte) error {
	if err := e.catchUp(); err != nil {
		return err
	}
	n, err := e.file.Write(block)
	e.n += int64(n)
	if e.hashed {
		e.hash.Write(block[:n])
	}
	return err
}

// catchUp hashes what was written before anything differed.
func (e *copyEnd) catchUp() error {
	if e.hashed || !e.differs.Load() {
		return nil
	}
	e.hashed = true
	_, err := io.Copy(e.hash, io.NewSectionReader(e.file, 0, e.n))
	return err
}

// sumLike returns the copy's SHA-256, given that of what was read; only after
// Close.
func (e *copyEnd) sumLike(original *hashing) string {
	if e.hashed {
		return e.sum()
	}
	return original.sum()
}

// Close waits until everything is written.
func (e *copyEnd) Close() error {
	e.finish(io.EOF)
	return <-e.done
}
