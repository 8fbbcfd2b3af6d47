package fieldmap

import (
	"fmt"

	"sternledger/internal/intake"
)

// idPath leads to what lists of cloud services call their elements by.
var idPath = func() (p Path) {
	if err := p.parse("id"); err != nil {
		panic(err)
	}
	return p
}()

// twice finds two exports of one list in a folder, such as one of today beside one of spring:
// read together they would be one of neither day. Pages of a list have little in common.
func (r *reader) twice() error {
	type list struct {
		export   string
		each, id Path
	}
	var lists []list
	for _, a := range r.m.Accounts {
		if !a.Joins && a.ID.path != nil {
			lists = append(lists, list{a.Export.Value, a.Each, a.ID})
		}
	}
	for _, f := range r.m.Factors {
		if f.Each.path != nil {
			lists = append(lists, list{f.Export.Value, f.Each, idPath})
		}
	}
	if d := r.m.Domains; d != nil {
		lists = append(lists, list{d.Export.Value, d.Each, d.Name})
	}
	for _, l := range lists {
		docs := r.exports[l.export]
		if len(docs) < 2 {
			continue
		}
		first := map[string]*document{}
		for _, d := range docs {
			n, again := 0, map[*document]int{}
			for e := range d.each(l.each.path) {
				n++
				switch id, ok := firstOf(e, l.id); {
				case !ok:
				case first[id] == nil:
					first[id] = d
				case first[id] != d:
					again[first[id]]++
				}
			}
			for other, same := range again {
				if 2*same >= n {
					return &intake.Error{Path: d.part.Path, Seen: fmt.Sprintf("a second export of the list that %s is of: they have %d of %d in common",
						other.part.Path, same, n), Expected: "one export of each list, of however many pages", Next: "leave out the older one of the two"}
				}
			}
		}
	}
	return nil
}

func firstOf(e element, p Path) (string, bool) {
	text, ok := first(e, p)
	return text, ok && text != ""
}
