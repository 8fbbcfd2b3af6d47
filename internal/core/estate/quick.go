package estate

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"iter"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Quick is what it takes to answer for single accounts of a large authority without
// reading all of them: everything that is no account, and where accounts are found. It
// is made of the objects, and stored beside them.
type Quick struct {
	Others Objects         // all that is no account
	Rows   Numbers[uint32] // where these stand in the whole
	names  keys            // by account name, up to an "@"
	full   keys            // by principal name
	rids   keys            // by the last part of the SID
}

// QuickFrom is from how many rows on an authority gets one.
const QuickFrom = 50_000

// keys are rows by a number, sorted.
type keys struct{ key, row Numbers[uint32] }

// quickly is what its columns' names begin with.
const quickly = "quick/"

// Whole returns the columns that are read as a whole: all but the keys.
func (q *Quick) Whole() iter.Seq2[string, Column] {
	return func(yield func(string, Column) bool) {
		for name, c := range q.Columns() {
			if strings.Count(name, "/") == 1 && !yield(name, c) {
				return
			}
		}
	}
}

// Columns returns all columns under the names by which they are stored.
func (q *Quick) Columns() iter.Seq2[string, Column] {
	return func(yield func(string, Column) bool) {
		for name, c := range q.Others.Columns() {
			if !yield(quickly+name, c) {
				return
			}
		}
		_ = yield(quickly+"rows", &q.Rows) &&
			yield(quickly+"name/key", &q.names.key) && yield(quickly+"name/row", &q.names.row) &&
			yield(quickly+"full/key", &q.full.key) && yield(quickly+"full/row", &q.full.row) &&
			yield(quickly+"rid/key", &q.rids.key) && yield(quickly+"rid/row", &q.rids.row)
	}
}

// quickKey is a number for all spellings of a name (FNV-1a, 32 bits, of its folded
// UTF-8). It is stored: it stays as it is.
func quickKey(name string) uint32 {
	const basis, prime = 2166136261, 16777619
	h := uint32(basis)
	for i := 0; i < len(name); {
		c := name[i]
		if c < utf8.RuneSelf {
			if 'A' <= c && c <= 'Z' {
				c |= 0x20
			}
			h, i = (h^uint32(c))*prime, i+1
			continue
		}
		r, size := utf8.DecodeRuneInString(name[i:])
		var folded [utf8.UTFMax]byte
		for _, c := range folded[:utf8.EncodeRune(folded[:], unicode.ToLower(unicode.ToUpper(r)))] {
			h = (h ^ uint32(c)) * prime
		}
		i += size
	}
	return h
}

// quickName is the part of an account's name by which doors are found.
func quickName(name string) string {
	before, _, _ := strings.Cut(name, "@")
	return before
}

// NewQuick makes one of an authority's objects.
func NewQuick(o *Objects) *Quick {
	q := &Quick{}
	at := make([]uint32, o.Len()) // 1 + the row among the others
	for row := range o.Len() {
		if o.ClassOf(row) != Account || o.FlagsOf(row)&(Unseen|Unclassified) != 0 {
			at[row] = 1
		}
	}
	for i := range o.Holds.Len() { // whatever holds something is needed, too
		at[o.Holds.At(i)] = 1
	}
	for row, needed := range at {
		if needed != 0 {
			q.Rows.Append(uint32(row))
			at[row] = uint32(q.Rows.Len())
		}
	}
	for i := range q.Rows.Len() {
		row := int(q.Rows.At(i))
		q.Others.copyRow(o, row)
		for group := range o.GroupsOf(row) {
			q.Others.Holds.Append(at[group] - 1)
		}
		q.Others.HoldEnds.Append(uint32(q.Others.Holds.Len()))
	}
	for i := range o.LooseGroup.Len() {
		q.Others.LooseGroup.Append(at[o.LooseGroup.At(i)] - 1)
		q.Others.LooseFile.Append(o.LooseFile.At(i))
		q.Others.LooseLine.Append(o.LooseLine.At(i))
	}
	q.names.fill(o, func(row int) (uint32, bool) { name := o.Name.At(row); return quickKey(quickName(name)), name != "" })
	q.full.fill(o, func(row int) (uint32, bool) { name := o.Principal.At(row); return quickKey(name), name != "" })
	q.rids.fill(o, func(row int) (uint32, bool) { return o.RID.At(row), o.RID.At(row) != 0 })
	return q
}

// fill sorts the accounts by a key.
func (k *keys) fill(o *Objects, key func(row int) (uint32, bool)) {
	all := make([]uint64, 0, o.Len())
	for row := range o.Len() {
		if o.ClassOf(row) != Account {
			continue
		}
		if n, ok := key(row); ok {
			all = append(all, uint64(n)<<32|uint64(row))
		}
	}
	for _, x := range byHighHalf(all) {
		k.key.Append(uint32(x >> 32))
		k.row.Append(uint32(x))
	}
}

// byHighHalf sorts numbers by their high halves, and leaves the order of those that share
// one; all is used up. It sorts by a few bits at a time, the lowest first: a third of the
// time that comparing takes for a million.
func byHighHalf(all []uint64) []uint64 {
	const bits = 11
	spare := make([]uint64, len(all))
	for shift := 32; shift < 64; shift += bits {
		var next [1 << bits]int
		for _, x := range all {
			next[x>>shift%(1<<bits)]++
		}
		total := 0
		for i, n := range next {
			next[i] = total
			total += n
		}
		for _, x := range all {
			to := &next[x>>shift%(1<<bits)]
			spare[*to] = x
			*to++
		}
		all, spare = spare, all
	}
	return all
}

// copyRow appends a row of others, but for what holds it.
func (o *Objects) copyRow(from *Objects, row int) {
	mine := map[string]Column{}
	for name, c := range o.Columns() {
		mine[name] = c
	}
	for name, c := range from.Columns() {
		switch c := c.(type) {
		case *Numbers[uint8]:
			mine[name].(*Numbers[uint8]).Append(c.At(row))
		case *Numbers[uint32]:
			if !ofMembers[name] {
				mine[name].(*Numbers[uint32]).Append(c.At(row))
			}
		case *Texts:
			if c.Len() > 0 {
				mine[name].(*Texts).Append([]byte(c.At(row)))
			}
		}
	}
}

// ofMembers are the columns that do not have a value for each row.
var ofMembers = map[string]bool{"hold-ends": true, "holds": true, "loose-group": true, "loose-file": true, "loose-line": true}

// Parts reads parts of the columns of one authority as they are stored.
type Parts interface {
	// Sizes are the bytes of a column's chunks.
	Sizes(column string) ([]int, error)
	// Part is the bytes of a chunk from one place up to another.
	Part(column string, chunk, from, to int) ([]byte, error)
}

// Seek says which accounts are wanted: those of a name, of a principal name, of a RID.
type Seek struct {
	Names []string
	RIDs  []uint32
}

// TakeAround gives an authority, whose rows are those of the whole, objects with the
// others and those accounts that are sought; one account more stands for all that are
// left out. q has what is read as a whole.
func (a *Authority) TakeAround(q *Quick, p Parts, want Seek) error {
	o, at, err := q.around(p, want)
	if err != nil {
		return err
	}
	a.Objects = o
	for _, policies := range [][]Policy{a.Overrides, a.Typed} {
		for i := range policies {
			for _, list := range [][]Target{policies[i].Targets, policies[i].Except} {
				for k := range list {
					list[k].Object = at(list[k].Object)
				}
			}
		}
	}
	for i := range a.Policies {
		for k, row := range a.Policies[i].Rows {
			a.Policies[i].Rows[k] = at(row)
		}
	}
	for i := range a.Disputes {
		a.Disputes[i].Group, a.Disputes[i].Member = at(a.Disputes[i].Group), at(a.Disputes[i].Member)
	}
	return nil
}

// around returns those objects, and, for rows of the whole, where each stands in them.
func (q *Quick) around(p Parts, want Seek) (o *Objects, at func(row int) int, err error) {
	var rows []uint32
	look := func(column string, key uint32) {
		if err == nil {
			var found []uint32
			found, err = rowsOf(p, quickly+column, key)
			rows = append(rows, found...)
		}
	}
	for _, name := range want.Names {
		look("name", quickKey(quickName(name)))
		look("full", quickKey(name))
	}
	for _, rid := range want.RIDs {
		look("rid", rid)
	}
	if err != nil {
		return nil, nil, err
	}
	slices.Sort(rows)
	rows = slices.Compact(rows)
	where := map[int]int{}
	for i := range q.Rows.Len() {
		where[int(q.Rows.At(i))] = i
	}
	rows = slices.DeleteFunc(rows, func(row uint32) bool { _, there := where[int(row)]; return there })
	o = &q.Others
	for _, row := range rows {
		where[int(row)] = o.Len()
		if err := o.takeRow(p, int(row), where); err != nil {
			return nil, nil, err
		}
	}
	left := o.Len()
	o.Class.Append(uint8(Account))
	for name, c := range o.Columns() {
		switch c := c.(type) {
		case *Numbers[uint8]:
			if name != "class" {
				c.Append(0)
			}
		case *Numbers[uint32]:
			if !ofMembers[name] {
				c.Append(0)
			}
		case *Texts:
			if c.Len() > 0 {
				c.Append(nil)
			}
		}
	}
	o.Flags.set(left, uint32(NeverOverride|HoldersShown|AppliedShown))
	o.HoldEnds.Append(uint32(o.Holds.Len()))
	return o, func(row int) int {
		if row == NotFound {
			return NotFound
		}
		if i, there := where[row]; there {
			return i
		}
		return left
	}, nil
}

// rowsOf finds the rows of a key.
func rowsOf(p Parts, column string, key uint32) ([]uint32, error) {
	sizes, err := p.Sizes(column + "/key")
	if err != nil {
		return nil, err
	}
	n := 0
	for _, size := range sizes {
		n += size / 4
	}
	keyAt := func(i int) uint32 {
		if err != nil {
			return 0
		}
		var one []uint32
		one, err = numbersOf(p, column+"/key", i, i+1)
		if err != nil {
			return 0
		}
		return one[0]
	}
	low, high := 0, n
	for low < high && err == nil {
		if mid := (low + high) / 2; cmp.Less(keyAt(mid), key) {
			low = mid + 1
		} else {
			high = mid
		}
	}
	end := low
	for end < n && err == nil && keyAt(end) == key {
		end++
	}
	if err != nil || end == low {
		return nil, err
	}
	return numbersOf(p, column+"/row", low, end)
}

// numbersOf reads numbers of a column.
func numbersOf(p Parts, column string, from, to int) ([]uint32, error) {
	var all []uint32
	for from < to {
		chunk, first := from/chunkRows, from%chunkRows
		last := min(first+to-from, chunkRows)
		data, err := p.Part(column, chunk, 4*first, 4*last)
		if err != nil {
			return nil, err
		}
		if len(data) != 4*(last-first) {
			return nil, fmt.Errorf("the column %s ends before row %d", column, to)
		}
		for ; len(data) > 0; data = data[4:] {
			all = append(all, binary.LittleEndian.Uint32(data))
		}
		from += last - first
	}
	return all, nil
}

// fewHave are columns that end with the last row that has a number there.
var fewHave = map[string]bool{"ends": true, "failures": true, "max-days": true, "idle-days": true, "traits": true}

// take adds a number of the row that is being taken.
func take[T uint8 | uint32](c *Numbers[T], few bool, row int, v T) {
	if few {
		c.put(row, v)
	} else {
		c.Append(v)
	}
}

// widthOf is how many bytes a number of a column is stored in.
func widthOf(c Column) int {
	if _, narrow := c.(*Numbers[uint8]); narrow {
		return 1
	}
	return 4
}

// takeRow appends a row of the whole as it is stored.
func (o *Objects) takeRow(p Parts, row int, where map[int]int) error {
	chunk, at := row/chunkRows, row%chunkRows
	for name, c := range o.Columns() {
		if ofMembers[name] {
			continue
		}
		if fewHave[name] { // the column may end before, or be lacking
			sizes, err := p.Sizes(name)
			if err != nil {
				return err
			}
			if width := widthOf(c); chunk >= len(sizes) || (at+1)*width > sizes[chunk] {
				continue
			}
		}
		switch c := c.(type) {
		case *Numbers[uint8]:
			data, err := p.Part(name, chunk, at, at+1)
			if err != nil || len(data) != 1 {
				return cmp.Or(err, fmt.Errorf("the column %s ends before row %d", name, row))
			}
			take(c, fewHave[name], o.Len()-1, data[0])
		case *Numbers[uint32]:
			one, err := numbersOf(p, name, row, row+1)
			if err != nil {
				return err
			}
			take(c, fewHave[name], o.Len()-1, one[0])
		case *Texts:
			text, there, err := textOf(p, name, chunk, at)
			if err != nil {
				return err
			}
			if there {
				c.Append(text)
			}
		}
	}
	from := uint32(0)
	if row > 0 {
		before, err := numbersOf(p, "hold-ends", row-1, row)
		if err != nil {
			return err
		}
		from = before[0]
	}
	to, err := numbersOf(p, "hold-ends", row, row+1)
	if err != nil {
		return err
	}
	groups, err := numbersOf(p, "holds", int(from), int(to[0]))
	if err != nil {
		return err
	}
	for _, group := range groups {
		o.Holds.Append(uint32(where[int(group)]))
	}
	o.HoldEnds.Append(uint32(o.Holds.Len()))
	return nil
}

// textOf reads a text of a chunk; there is none where the column is empty.
func textOf(p Parts, column string, chunk, at int) (text []byte, there bool, err error) {
	part := func(from, to int) []byte {
		var data []byte
		if err == nil {
			data, err = p.Part(column, chunk, from, to)
		}
		if err == nil && len(data) != to-from {
			err = fmt.Errorf("the column %s ends before row %d of a chunk", column, at)
		}
		return data
	}
	switch sizes, failed := p.Sizes(column); {
	case failed != nil:
		return nil, false, failed
	case len(sizes) == 0:
		return nil, false, nil
	}
	// numbers are those of the head and of the ends, which follow it.
	numbers := func(place, n int) (all [2]int) {
		data := part(4*place, 4*(place+n))
		for i := range n {
			if err == nil {
				all[i] = int(binary.LittleEndian.Uint32(data[4*i:]))
			}
		}
		return all
	}
	rows, from, to := numbers(0, 1)[0], 0, 0
	if at == 0 {
		to = numbers(1, 1)[0]
	} else {
		ends := numbers(at, 2)
		from, to = ends[0], ends[1]
	}
	if err == nil && (at >= rows || to < from) {
		err = fmt.Errorf("the column %s ends before row %d of a chunk", column, at)
	}
	text = part(4+4*rows+from, 4+4*rows+to)
	return text, err == nil, err
}
