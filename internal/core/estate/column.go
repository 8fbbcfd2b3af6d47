package estate

import (
	"encoding/binary"
	"fmt"
	"slices"
	"unsafe"
)

// chunkRows is how many rows of a column stand in one chunk: few enough that
// growing costs no copying, many enough that a chunk is one efficient write.
const chunkRows = 1 << 16

// Column is a column of a table that can be stored chunk by chunk and read
// back. The stored form is little-endian and the same on every machine.
type Column interface {
	Chunks() int
	Chunk(i int) []byte
	Load(chunk []byte) error // appends a chunk that Chunk wrote
}

// Numbers is a column of numbers.
type Numbers[T uint8 | uint32] struct {
	chunks [][]T
	n      int
}

// Len returns the number of rows.
func (c *Numbers[T]) Len() int { return c.n }

// At returns row i; 0 where the column was not loaded.
func (c *Numbers[T]) At(i int) T {
	if i >= c.n {
		return 0
	}
	return c.chunks[i/chunkRows][i%chunkRows]
}

// Append adds a row.
func (c *Numbers[T]) Append(v T) {
	if c.n%chunkRows == 0 {
		// The first chunk grows as it fills, since most authorities are small.
		c.chunks = append(c.chunks, make([]T, 0, min(c.n, chunkRows)))
	}
	last := &c.chunks[len(c.chunks)-1]
	*last = append(*last, v)
	c.n++
}

func (c *Numbers[T]) set(i int, v T) { c.chunks[i/chunkRows][i%chunkRows] = v }

// put sets row i of a column that few rows have a number in: it ends with the last
// of them.
func (c *Numbers[T]) put(i int, v T) {
	if v == 0 && i >= c.n {
		return
	}
	for c.n <= i {
		c.Append(0)
	}
	c.set(i, v)
}

func (c *Numbers[T]) clone() Numbers[T] {
	out := Numbers[T]{n: c.n}
	for _, chunk := range c.chunks {
		out.chunks = append(out.chunks, slices.Clone(chunk))
	}
	return out
}

// Chunks returns the number of chunks.
func (c *Numbers[T]) Chunks() int { return len(c.chunks) }

// Chunk returns chunk i as it is stored.
func (c *Numbers[T]) Chunk(i int) []byte {
	size := int(unsafe.Sizeof(T(0)))
	out := make([]byte, 0, len(c.chunks[i])*size)
	for _, v := range c.chunks[i] {
		if size == 1 {
			out = append(out, byte(v))
		} else {
			out = binary.LittleEndian.AppendUint32(out, uint32(v))
		}
	}
	return out
}

// Load appends a stored chunk.
func (c *Numbers[T]) Load(chunk []byte) error {
	size := int(unsafe.Sizeof(T(0)))
	if len(chunk)%size != 0 || c.n%chunkRows != 0 || len(chunk) > chunkRows*size {
		return fmt.Errorf("a column of numbers has a chunk of %d bytes", len(chunk))
	}
	rows := make([]T, len(chunk)/size)
	for i := range rows {
		if size == 1 {
			rows[i] = T(chunk[i])
		} else {
			rows[i] = T(binary.LittleEndian.Uint32(chunk[i*4:]))
		}
	}
	c.chunks, c.n = append(c.chunks, rows), c.n+len(rows)
	return nil
}

// Texts is a column of short texts.
type Texts struct {
	ends   Numbers[uint32] // where each row's text ends within its chunk
	chunks [][]byte
	late   map[int]string // rows filled after later rows were added
}

// Len returns the number of rows.
func (c *Texts) Len() int { return c.ends.n }

// At returns row i without copying; empty where the column was not loaded.
func (c *Texts) At(i int) string {
	if i >= c.ends.n {
		return ""
	}
	if s, ok := c.late[i]; ok {
		return s
	}
	k, row := i/chunkRows, i%chunkRows
	from := uint32(0)
	if row > 0 {
		from = c.ends.chunks[k][row-1]
	}
	to := c.ends.chunks[k][row]
	if from == to {
		return ""
	}
	// Text is only ever appended to a chunk, so these bytes never change.
	return unsafe.String(&c.chunks[k][from], to-from)
}

// Append adds a row.
func (c *Texts) Append(text []byte) {
	if c.ends.n%chunkRows == 0 {
		var next []byte
		if n := len(c.chunks); n > 0 { // the next chunk is about as long as the one before
			next = make([]byte, 0, len(c.chunks[n-1])*33/32)
		}
		c.chunks = append(c.chunks, next)
	}
	k := len(c.chunks) - 1
	c.chunks[k] = append(c.chunks[k], text...)
	c.ends.Append(uint32(len(c.chunks[k])))
}

func (c *Texts) set(i int, text string) {
	if c.late == nil {
		c.late = map[int]string{}
	}
	c.late[i] = text
}

// Chunks returns the number of chunks.
func (c *Texts) Chunks() int { return len(c.chunks) }

// Chunk returns chunk k as it is stored: the number of rows, where each ends,
// the text.
func (c *Texts) Chunk(k int) []byte {
	rows := len(c.ends.chunks[k])
	out := make([]byte, 0, 4+4*rows+len(c.chunks[k]))
	out = binary.LittleEndian.AppendUint32(out, uint32(rows))
	if len(c.late) == 0 {
		out = append(out, c.ends.Chunk(k)...)
		return append(out, c.chunks[k]...)
	}
	end := 0
	for row := range rows {
		end += len(c.At(k*chunkRows + row))
		out = binary.LittleEndian.AppendUint32(out, uint32(end))
	}
	for row := range rows {
		out = append(out, c.At(k*chunkRows+row)...)
	}
	return out
}

// Load appends a stored chunk and keeps it.
func (c *Texts) Load(chunk []byte) error {
	if len(chunk) < 4 {
		return fmt.Errorf("a column of texts has a chunk of %d bytes", len(chunk))
	}
	rows := int(binary.LittleEndian.Uint32(chunk))
	if rows > chunkRows || len(chunk) < 4+4*rows {
		return fmt.Errorf("a column of texts has a chunk of %d rows in %d bytes", rows, len(chunk))
	}
	if err := c.ends.Load(chunk[4 : 4+4*rows]); err != nil {
		return err
	}
	text := chunk[4+4*rows:]
	var last uint32
	for _, end := range c.ends.chunks[len(c.ends.chunks)-1] {
		if end < last || int(end) > len(text) {
			return fmt.Errorf("a column of texts ends at %d of %d bytes", end, len(text))
		}
		last = end
	}
	c.chunks = append(c.chunks, text)
	return nil
}
