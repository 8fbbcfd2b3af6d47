package estate

import (
	"fmt"
	"slices"
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
			crew = row
		} else if i%1000 == 1 && i > 7 {
			b.Member(at, crew, r.DN, 3)
		}
	}
	for _, twin := range []string{"PERSON5", "ſmith", "person7@elsewhere"} {
		b.Object(at, &Record{Class: Account, DN: []byte("CN=twin of " + twin + ",DC=x,DC=example"), Name: []byte(twin), Line: 1})
	}
	whole := b.Finish()[0]
	q := NewQuick(whole.Objects)
	s := storedOf(whole.Objects, q)
	for _, c := range []struct {
		seek Seek
		want []string // names, in the order of their rows
	}{
		{Seek{Names: []string{"person0"}}, []string{"Person0"}}, {Seek{Names: []string{"PERSON65535"}}, []string{"Person65535"}},
		{Seek{Names: []string{"person65536", "nobody"}}, []string{"Person65536"}}, {Seek{Names: []string{"person131072"}}, []string{"Person131072"}},
		{Seek{Names: []string{fmt.Sprintf("person%d", rows-1)}}, []string{fmt.Sprintf("Person%d", rows-1)}},
		{Seek{Names: []string{"P40001@X.example"}}, []string{"Person40001"}}, {Seek{RIDs: []uint32{1000 + 65536}}, []string{"Person65536"}},
		{Seek{Names: []string{"person5"}}, []string{"Person5", "PERSON5"}}, {Seek{Names: []string{"SMITH"}}, []string{"ſmith"}},
		{Seek{Names: []string{"person7"}}, []string{"person7@elsewhere"}}, // Person7 is a group here
		{Seek{Names: []string{"nobody"}, RIDs: []uint32{1}}, nil},
	} {
		part := *whole
		again := &Quick{}
		for name, column := range again.Whole() {
			for _, chunk := range s[name] {
				if err := column.Load(chunk); err != nil {
					t.Fatal(err)
				}
			}
		}
		if err := part.TakeAround(again, s, c.seek); err != nil {
			t.Fatal(err)
		}
		var names []string
		o := part.Objects
		for row := range o.Len() - 1 {
			if o.ClassOf(row) != Account {
				continue
			}
			name := o.Name.At(row)
			names = append(names, name)
			was := rowNamed(whole, name)
			if part.DN(row) != whole.DN(was) || part.CiteOf(row) != whole.CiteOf(was) || part.ControlCite(row) != whole.ControlCite(was) ||
				o.Display.At(row) != whole.Objects.Display.At(was) || o.PwdSet.At(row) != whole.Objects.PwdSet.At(was) ||
				o.LastLogon.At(row) != whole.Objects.LastLogon.At(was) || o.FlagsOf(row) != whole.Objects.FlagsOf(was) ||
				!slices.Equal(groupNames(&part, row), groupNames(whole, was)) {
				t.Errorf("%v: %s is not as in the whole: %v, want %v", c.seek, name, groupNames(&part, row), groupNames(whole, was))
			}
		}
		if !slices.Equal(names, c.want) {
			t.Errorf("%v: %q, want %q", c.seek, names, c.want)
		}
		if left := o.Len() - 1; o.Name.At(left) != "" || o.FlagsOf(left)&NeverOverride == 0 || len(groupNames(&part, left)) > 0 {
			t.Errorf("the one for all others: %q", o.Name.At(left))
		}
	}
	broken := stored{}
	for name, chunks := range s {
		broken[name] = chunks
	}
	broken["rid"] = [][]byte{{1, 2, 3}}
	part := *whole
	if err := part.TakeAround(q, broken, Seek{Names: []string{"person0"}}); err == nil {
		t.Error("a column that ends too early was read")
	}
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
