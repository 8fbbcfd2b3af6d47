package estate

import "slices"

// index finds rows by a hash of their names. It does what a map would, and is
// asked millions of times, each time far from where it was asked before: keys
// and rows lie side by side, so that one look into memory answers. The hashes
// are seeded, so nobody can choose names that collide.
type index struct {
	slots []slot // a power of two, at most half of them used
	used  int
}

type slot struct {
	key uint64
	row uint32 // 1 + the row; 0: the slot is free
}

// get returns the row of a key.
func (x *index) get(key uint64) (row uint32, ok bool) {
	if len(x.slots) == 0 {
		return row, false
	}
	mask := uint64(len(x.slots) - 1)
	for i := key & mask; ; i = (i + 1) & mask {
		switch s := &x.slots[i]; {
		case s.row == 0:
			return row, false
		case s.key == key:
			return s.row - 1, true
		}
	}
}

// put adds a key that is not there yet.
func (x *index) put(key uint64, row uint32) {
	if 2*x.used >= len(x.slots) {
		old := x.slots
		x.slots = make([]slot, max(64, 2*len(old)))
		for _, s := range slices.DeleteFunc(old, func(s slot) bool { return s.row == 0 }) {
			x.place(s)
		}
	}
	x.used++
	x.place(slot{key, row + 1})
}

func (x *index) place(s slot) {
	mask := uint64(len(x.slots) - 1)
	i := s.key & mask
	for x.slots[i].row != 0 {
		i = (i + 1) & mask
	}
	x.slots[i] = s
}
