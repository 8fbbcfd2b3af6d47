package descriptor

import (
	"encoding/binary"
	"slices"
	"testing"

	"sternledger/internal/core/estate"
)

// binaryOf is a descriptor with one entry for each of the bodies.
func binaryOf(control uint16, aces ...[]byte) []byte {
	list := []byte{4, 0, 0, 0}
	list = binary.LittleEndian.AppendUint16(list, uint16(len(aces)))
	list = append(list, 0, 0)
	for _, ace := range aces {
		list = append(list, ace...)
	}
	head := make([]byte, 20)
	head[0] = 1
	binary.LittleEndian.PutUint16(head[2:], control)
	binary.LittleEndian.PutUint32(head[16:], 20)
	return append(head, list...)
}

func aceBytes(kind, flags byte, mask uint32, rest ...byte) []byte {
	ace := binary.LittleEndian.AppendUint32([]byte{kind, flags, byte(8 + len(rest)), 0}, mask)
	return append(ace, rest...)
}

var authenticated = []byte{1, 1, 0, 0, 0, 0, 0, 5, 11, 0, 0, 0} // S-1-5-11

func TestAccess(t *testing.T) {
	guid, _ := estate.ParseGUID([]byte("{" + applyPolicy + "}"))
	object := append([]byte{1, 0, 0, 0}, guid[:]...)
	au := func(read, apply, deny bool) estate.ACE {
		return estate.ACE{SID: "S-1-5-11", Read: read, Apply: apply, Deny: deny}
	}
	everybody := []estate.ACE{{SID: everyone, Read: true, Apply: true}}
	for name, c := range map[string]struct {
		raw  []byte
		want []estate.ACE
	}{
		"no list":           {make20(), everybody},
		"a list of nothing": {binaryOf(4), nil},
		"read":              {binaryOf(4, aceBytes(aceAllow, 0, rightRead, authenticated...)), []estate.ACE{au(true, false, false)}},
		"all":               {binaryOf(4, aceBytes(aceAllow, 0, genericAll, authenticated...)), []estate.ACE{au(true, true, false)}},
		"apply, denied": {binaryOf(4, aceBytes(aceDenyObj, 0, rightExtra, append(slices.Clone(object), authenticated...)...)),
			[]estate.ACE{au(false, true, true)}},
		"another right": {binaryOf(4, aceBytes(aceAllowObj, 0, rightExtra,
			append([]byte("\x01\x00\x00\x00a GUID of others"), authenticated...)...)), nil},
		"for what lies below": {binaryOf(4, aceBytes(aceAllow, inheritOnly, genericAll, authenticated...)), nil},
		"an audit, then read": {binaryOf(4, aceBytes(2, 0, genericAll, authenticated...), aceBytes(aceAllow, 0, genericRead, authenticated...)),
			[]estate.ACE{au(true, false, false)}},
		"as text": {[]byte("O:DAG:DAD:PAI(A;CI;LCRPLORC;;;AU)(OD;CI;CR;" + applyPolicy + ";;AU)(A;CIIO;GA;;;CO)"),
			[]estate.ACE{au(true, false, false), au(false, true, true)}},
		"as text, by number":  {[]byte("D:(A;;0x110;;;S-1-5-11)"), []estate.ACE{au(true, true, false)}},
		"as text, no list":    {[]byte("O:DAD:NO_ACCESS_CONTROL"), everybody},
		"as text, empty list": {[]byte("D:P"), nil},
	} {
		got, err := Access(c.raw)
		if err != nil || !slices.Equal(got, c.want) {
			t.Errorf("%s: %+v %v, want %+v", name, got, err, c.want)
		}
	}
	whole := binaryOf(4, aceBytes(aceAllowObj, 0, rightExtra, append(slices.Clone(object), authenticated...)...))
	for cut := range whole {
		if got, err := Access(whole[:cut]); err == nil {
			t.Errorf("cut at %d of %d: %+v", cut, len(whole), got)
		}
	}
	for _, text := range []string{"O:DAG:DA", "D:(A;;GA;;;Quay)", "D:(A;;GA)", "x"} {
		if got, err := Access([]byte(text)); err == nil {
			t.Errorf("%q: %+v", text, got)
		}
	}
}

// make20 is the head of a descriptor alone.
func make20() []byte { return append([]byte{1}, make([]byte, 19)...) }

func TestSID(t *testing.T) {
	for _, c := range []struct{ raw, want string }{
		{"S-1-5-21-1-2-3", "S-1-5-21-1-2-3"}, {string(authenticated), "S-1-5-11"}, {"\x01\x00\x00\x00\x00\x00\x00\x01", "S-1-1"},
		{"\x01\x02\x00\x00\x00\x00\x00\x05\x20\x00\x00\x00\x20\x02\x00\x00", "S-1-5-32-544"},
		{"\x02\x01\x00\x00\x00\x00\x00\x05\x0b\x00\x00\x00", ""}, {"\x01\x02\x00\x00\x00\x00\x00\x05\x0b\x00\x00\x00", ""}, {"", ""},
	} {
		if got, err := SID([]byte(c.raw)); got != c.want || (err == nil) != (c.want != "") {
			t.Errorf("%q: %q %v, want %q", c.raw, got, err, c.want)
		}
	}
}

func FuzzAccess(f *testing.F) {
	f.Add(binaryOf(4, aceBytes(aceAllow, 0, genericAll, authenticated...)))
	f.Add([]byte("O:DAG:DAD:PAI(A;CI;LCRPLORC;;;AU)"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		all, err := Access(raw)
		for _, ace := range all {
			if err != nil || !ace.Read && !ace.Apply || ace.SID == "" {
				t.Errorf("%+v %v", all, err)
			}
		}
	})
}
