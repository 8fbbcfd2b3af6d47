package estate

import (
	"cmp"
	"errors"
	"fmt"
	"hash/fnv"
	random "math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// stored are columns in memory, as a ledger keeps them.
type stored map[string][][]byte

func storedOf(o *Objects, q *Quick) stored {
	s := stored{}
	keep := func(name string, c Column) bool {
		for i := range c.Chunks() {
			s[name] = append(s[name], c.Chunk(i))
		}
		return true
	}
	o.Columns()(keep)
	q.Columns()(keep)
	return s
}

func (s stored) Sizes(column string) (all []int, err error) {
	for _, chunk := range s[column] {
		all = append(all, len(chunk))
	}
	return all, nil
}

func (s stored) Part(column string, chunk, from, to int) ([]byte, error) {
	if chunk >= len(s[column]) {
		return nil, nil
	}
	all := s[column][chunk]
	return all[min(from, len(all)):min(to, len(all))], nil
}

// Rows of several chunks are found by each of their names, and are as they are in the
// whole.
func TestTakeAround(t *testing.T) {
	b := NewBuilder()
	b.StartFile("x.ldif")
	at := InDomain("x.example")
	const rows = 2*chunkRows + 99
	var crew uint32
	for i := range rows {
		r := &Record{Class: Account, DN: fmt.Appendf(nil, "CN=P%d,OU=u%d,DC=x,DC=example", i, i%3), Name: fmt.Appendf(nil, "Person%d", i),
			Principal: fmt.Appendf(nil, "p%d@x.example", i), Display: fmt.Appendf(nil, "Person %d", i), RID: uint32(1000 + i), Primary: 513,
			Control: uint32(i), ControlAt: 3, PwdSet: uint32(i * 7), LastLogon: uint32(i * 11), Line: 10 * i}
		if i%40_000 == 7 {
			r.Class, r.Name = Group, fmt.Appendf(nil, "Group%d", i)
		}
		row := b.Object(at, r)
		if i%40_000 == 7 {
			if i > 7 {
				b.Member(at, row, fmt.Appendf(nil, "CN=P7,OU=u1,DC=x,DC=example"), 6) // a group in a group
			}
			crew = row
		} else if i%1000 < 3 && i > 7 {
			b.Member(at, crew, r.DN, 3)
		}
	}
	for _, twin := range []string{"PERSON5", "ſmith", "person7@elsewhere"} {
		b.Object(at, &Record{Class: Account, DN: []byte("CN=twin of " + twin + ",DC=x,DC=example"), Name: []byte(twin), Line: 1})
	}
	p := b.Override(at, []byte("CN=Strict,DC=x,DC=example"), 4)
	b.Object(at, &Record{Class: Account, DN: []byte("CN=Ghost,DC=x,DC=example"), Name: []byte("Ghost"), Flags: Unseen | Unclassified})
	for _, i := range []int{7, 5, 9, 40_001, -1} { // a group, one account that is sought, and others that are not
		b.Target(at, p, Target{DN: fmt.Sprintf("CN=P%d,OU=u%d,DC=x,DC=example", i, (i+3)%3), Cite: b.Cite(5, "applies to", "")})
	}
	b.Member(at, crew, []byte("CN=nobody,DC=x,DC=example"), 8)
	b.Object(at, &Record{Class: Account, DN: []byte("CN=Last,DC=x,DC=example"), Name: []byte("Last"), RID: 1 << 30, Line: 7})
	whole := b.Finish()[0]
	whole.Disputes = []Dispute{{Group: 7, Member: 5}}
	whole.Overrides[0].Except = []Target{{Object: NotFound}, {Object: 9}}
	q := NewQuick(whole.Objects)
	s := storedOf(whole.Objects, q)
	takenElsewhere(t, whole, s)
	var edges []string // the names with the first key and with the last
	for _, last := range []int{-1, 1} {
		name := "person0"
		for i := range rows {
			if n := fmt.Sprintf("person%d", i); i%40_000 != 7 && cmp.Compare(quickKey(n), quickKey(name)) == last {
				name = n
			}
		}
		edges = append(edges, name)
	}
	for _, c := range []struct {
		seek Seek
		want []string // names, in the order of their rows
	}{
		{Seek{Names: []string{"person0"}}, []string{"Person0"}}, {Seek{Names: []string{"PERSON65535"}}, []string{"Person65535"}},
		{Seek{Names: []string{"person65536", "nobody"}}, []string{"Person65536"}},
		{Seek{Names: []string{"person131072"}}, []string{"Person131072"}},
		{Seek{Names: []string{fmt.Sprintf("person%d", rows-1)}}, []string{fmt.Sprintf("Person%d", rows-1)}},
		{Seek{Names: []string{"P40001@X.example"}}, []string{"Person40001"}}, {Seek{RIDs: []uint32{1000 + 65536}}, []string{"Person65536"}},
		{Seek{Names: []string{"person5"}}, []string{"Person5", "PERSON5"}}, {Seek{Names: []string{"SMITH"}}, []string{"ſmith"}},
		{Seek{Names: []string{"person7"}}, []string{"person7@elsewhere"}}, // Person7 is a group here
		{Seek{Names: []string{"nobody"}, RIDs: []uint32{1}}, nil}, {Seek{RIDs: []uint32{1 << 30}}, []string{"Last"}},
		{Seek{Names: []string{"person2001", "person2002"}}, []string{"Person2001", "Person2002"}},
		{Seek{Names: []string{"last"}}, []string{"Last"}},
		{Seek{Names: []string{"person65999"}}, []string{"Person65999"}}, {Seek{Names: []string{"person66000"}}, []string{"Person66000"}},
		{Seek{Names: edges[:1]}, []string{strings.ToUpper(edges[0][:1]) + edges[0][1:]}},
		{Seek{Names: edges[1:]}, []string{strings.ToUpper(edges[1][:1]) + edges[1][1:]}},
	} {
		part := *whole
		again := load(t, s)
		if err := part.TakeAround(again, s, c.seek); err != nil {
			t.Fatal(err)
		}
		var names []string
		o := part.Objects
		for row := again.Rows.Len(); row < o.Len()-1; row++ {
			name := o.Name.At(row)
			names = append(names, name)
			if got, want := wholeRow(&part, row), wholeRow(whole, rowNamed(whole, name)); got != want {
				t.Errorf("%v: %s is not as in the whole: %s, want %s", c.seek, name, got, want)
			}
		}
		for i := range again.Rows.Len() {
			if got, want := wholeRow(&part, i), wholeRow(whole, int(again.Rows.At(i))); got != want {
				t.Errorf("%v: row %d of the others is not as in the whole: %s, want %s", c.seek, i, got, want)
			}
		}
		for i := range o.LooseGroup.Len() {
			if got, want := o.Name.At(int(o.LooseGroup.At(i))), whole.Objects.Name.At(int(whole.Objects.LooseGroup.At(i))); got != want {
				t.Errorf("somebody who is not there is in %s, want %s", got, want)
			}
		}
		if !slices.Equal(names, c.want) {
			t.Errorf("%v: %q, want %q", c.seek, names, c.want)
		}
		for name, column := range o.Columns() {
			if n := lengthOf(column); !ofMembers[name] && name != "hold-ends" && n != o.Len() && n != 0 && !(fewHave[name] && n < o.Len()) {
				t.Errorf("%v: the column %s has %d rows, want %d", c.seek, name, n, o.Len())
			}
		}
		if got, want := wholeRow(&part, o.Len()-1), "[] class=1 flags="; !strings.HasPrefix(got, want) ||
			o.FlagsOf(o.Len()-1)&NeverOverride == 0 {
			t.Errorf("the one for all others: %s", got)
		}
	}
	t.Run("a store that fails", func(t *testing.T) { failing(t, whole, s) })
}

func load(t *testing.T, s stored) *Quick {
	t.Helper()
	q := &Quick{}
	for name, column := range q.Whole() {
		for _, chunk := range s[name] {
			if err := column.Load(chunk); err != nil {
				t.Fatal(err)
			}
		}
	}
	return q
}

// Rows that are named elsewhere are named as they stand now.
func takenElsewhere(t *testing.T, whole *Authority, s stored) {
	part, again := *whole, load(t, s)
	part.Overrides = slices.Clone(whole.Overrides)
	part.Overrides[0].Targets = slices.Clone(whole.Overrides[0].Targets)
	part.Overrides[0].Except = slices.Clone(whole.Overrides[0].Except)
	part.Disputes = slices.Clone(whole.Disputes)
	part.Policies = nil
	if err := part.TakeAround(again, s, Seek{Names: []string{"person5"}}); err != nil {
		t.Fatal(err)
	}
	named := func(row int) string {
		switch row {
		case NotFound:
			return "none"
		case part.Objects.Len() - 1:
			return "another"
		}
		return part.Objects.Name.At(row)
	}
	var got []string
	for _, list := range [][]Target{part.Overrides[0].Targets, part.Overrides[0].Except} {
		for _, target := range list {
			got = append(got, named(target.Object))
		}
	}
	got = append(got, named(part.Disputes[0].Group), named(part.Disputes[0].Member))
	// The last target is in no record: it has a place of its own, which is kept, too.
	if want := []string{"Group7", "Person5", "another", "another", "P-1", "none", "another", "Group7", "Person5"}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
}

// faulty are columns of which one call goes wrong: it fails, or gives too little.
type faulty struct {
	stored
	left  *int
	short bool
}

var errLost = errors.New("lost")

func (f faulty) due() bool {
	*f.left--
	return *f.left == 0
}

func (f faulty) Sizes(column string) ([]int, error) {
	if f.due() && !f.short {
		return nil, errLost
	}
	return f.stored.Sizes(column)
}

func (f faulty) Part(column string, chunk, from, to int) ([]byte, error) {
	data, err := f.stored.Part(column, chunk, from, to)
	if !f.due() {
		return data, err
	}
	if f.short {
		return data[:max(0, len(data)-1)], err
	}
	return nil, errLost
}

// Whichever call fails, it is told, and nothing is taken.
func failing(t *testing.T, whole *Authority, s stored) {
	seek := Seek{Names: []string{"person40001"}, RIDs: []uint32{1005}}
	good := *whole
	if err := good.TakeAround(load(t, s), s, seek); err != nil {
		t.Fatal(err)
	}
	want := everything(&good)
	for _, short := range []bool{false, true} {
		calls := 0
		for left := 1; ; left++ {
			part, n := *whole, left
			err := part.TakeAround(load(t, s), faulty{s, &n, short}, seek)
			if n > 0 {
				break // it took fewer calls
			}
			calls++
			switch {
			case err == nil && !short:
				t.Errorf("call %d fails, and nobody is told", left)
			case err != nil && part.Objects != whole.Objects:
				t.Errorf("call %d: something was taken", left)
			case err != nil && !short && !errors.Is(err, errLost):
				t.Errorf("call %d: %v", left, err)
			case err == nil && short && everything(&part) != want:
				t.Errorf("call %d gives too little, and nobody is told: %s", left, everything(&part))
			}
		}
		if calls < 40 {
			t.Errorf("%d calls", calls)
		}
	}
}

func lengthOf(c Column) int {
	switch c := c.(type) {
	case *Numbers[uint8]:
		return c.Len()
	case *Numbers[uint32]:
		return c.Len()
	case *Texts:
		return c.Len()
	}
	return -1
}

// Keys are stored: they stay as they are.
func TestQuickKeys(t *testing.T) {
	for _, name := range []string{"", "a", "foobar", "z", "[", "@", "{", "`", "0", "é"} {
		h := fnv.New32a()
		h.Write([]byte(name))
		if got, upper := quickKey(name), quickKey(strings.ToUpper(name)); got != h.Sum32() || upper != got {
			t.Errorf("%q: %#x, want %#x; in upper case %#x", name, got, h.Sum32(), upper)
		}
	}
	if quickKey("ſ") != quickKey("S") || quickKey("K") != quickKey("k") { // a long s, a sign for kelvin
		t.Error("letters that fold to one have two keys")
	}
}

// everything is all rows.
func everything(a *Authority) string {
	var all strings.Builder
	for row := range a.Objects.Len() {
		all.WriteString(wholeRow(a, row) + "\n")
	}
	return all.String()
}

// wholeRow is all that stands in a row.
func wholeRow(a *Authority, row int) string {
	said := fmt.Sprintf("%q", groupNames(a, row))
	for name, c := range a.Objects.Columns() {
		switch c := c.(type) {
		case *Numbers[uint8]:
			said += fmt.Sprintf(" %s=%d", name, c.At(row))
		case *Numbers[uint32]:
			if !ofMembers[name] {
				said += fmt.Sprintf(" %s=%d", name, c.At(row))
			}
		case *Texts:
			said += fmt.Sprintf(" %s=%s", name, c.At(row))
		}
	}
	return said
}

func rowNamed(a *Authority, name string) int {
	for row := range a.Objects.Len() {
		if a.Objects.Name.At(row) == name {
			return row
		}
	}
	return -1
}

func groupNames(a *Authority, row int) (all []string) {
	for group := range a.Objects.GroupsOf(row) {
		all = append(all, a.Objects.Name.At(group))
	}
	return all
}

func TestByHighHalf(t *testing.T) {
	rnd := random.New(random.NewPCG(3, 3))
	for _, n := range []int{0, 1, 2, 3000} {
		all := make([]uint64, n)
		for i := range all {
			all[i] = uint64(rnd.Uint32()>>rnd.IntN(33))<<32 | uint64(i)
		}
		want := slices.Sorted(slices.Values(all))
		if got := byHighHalf(all); !slices.Equal(got, want) {
			t.Errorf("%d numbers are not in order", n)
		}
	}
}
