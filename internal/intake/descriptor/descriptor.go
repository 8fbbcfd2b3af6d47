// Package descriptor reads security descriptors and SIDs, as directories and reports
// hand them out.
package descriptor

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
)

// This file reads of a security descriptor what decides whom a policy applies
// to: who may read the policy's container and has the right to apply it
// (MS-GPOL 3.2.5.1.6). Directories hand it out in its binary form (MS-DTYP
// 2.4.6); some programs write it as text (SDDL, MS-DTYP 2.5.1).

// Rights of a directory object (MS-ADTS 5.1.3.2).
const (
	rightRead    = 0x10  // read properties
	rightExtra   = 0x100 // an extended right
	genericAll   = 0x10000000
	genericRead  = 0x80000000
	aceAllow     = 0
	aceDeny      = 1
	aceAllowObj  = 5
	aceDenyObj   = 6
	inheritOnly  = 0x8
	hasObject    = 1
	hasInherited = 2
)

// applyPolicy is the extended right "apply group policy".
const applyPolicy = "edacfd8f-ffb3-11d1-b41d-00a0c968f939"

// Access returns the entries of a descriptor that bear on reading and
// applying, in their order.
func Access(raw []byte) ([]estate.ACE, error) {
	if bytes.HasPrefix(raw, []byte("O:")) || bytes.HasPrefix(raw, []byte("D:")) || bytes.HasPrefix(raw, []byte("G:")) {
		return sddl(string(raw))
	}
	if len(raw) < 20 || raw[0] != 1 {
		return nil, fmt.Errorf("%d bytes that are no self-relative descriptor", len(raw))
	}
	at := binary.LittleEndian.Uint32(raw[16:])
	if binary.LittleEndian.Uint16(raw[2:])&4 == 0 || at == 0 {
		return noList, nil
	}
	if int64(at)+8 > int64(len(raw)) {
		return nil, fmt.Errorf("its access list begins outside of it")
	}
	count, rest := int(binary.LittleEndian.Uint16(raw[at+4:])), raw[at+8:]
	var all []estate.ACE
	for range count {
		if len(rest) < 8 {
			return nil, fmt.Errorf("its access list is cut")
		}
		size := int(binary.LittleEndian.Uint16(rest[2:]))
		if size < 8 || size > len(rest) {
			return nil, fmt.Errorf("its access list is cut")
		}
		ace, concerns, err := binaryACE(rest[:size])
		if err != nil {
			return nil, err
		}
		if concerns {
			all = append(all, ace)
		}
		rest = rest[size:]
	}
	return all, nil
}

func binaryACE(raw []byte) (ace estate.ACE, concerns bool, err error) {
	kind, flags, mask := raw[0], raw[1], binary.LittleEndian.Uint32(raw[4:])
	sid, object := raw[8:], ""
	switch kind {
	case aceAllow, aceDeny:
	case aceAllowObj, aceDenyObj:
		if len(sid) < 4 {
			return ace, false, fmt.Errorf("its access list is cut")
		}
		has := binary.LittleEndian.Uint32(sid)
		sid = sid[4:]
		for _, bit := range []uint32{hasObject, hasInherited} {
			if has&bit == 0 {
				continue
			}
			if len(sid) < 16 {
				return ace, false, fmt.Errorf("its access list is cut")
			}
			if bit == hasObject {
				guid, _ := estate.ParseGUID(sid[:16])
				object = guid.String()
			}
			sid = sid[16:]
		}
	default:
		return ace, false, nil // audits, and conditions, which policies do not have
	}
	if flags&inheritOnly != 0 {
		return ace, false, nil // for what lies below
	}
	if len(sid) > 1 && len(sid) >= 8+4*int(sid[1]) {
		sid = sid[:8+4*int(sid[1])]
	}
	text, err := SID(sid)
	if err != nil {
		return ace, false, err
	}
	ace, concerns = aceOf(text, kind == aceDeny || kind == aceDenyObj, mask, object)
	return ace, concerns, nil
}

// aceOf keeps of an entry what bears on reading and applying.
func aceOf(sid string, deny bool, mask uint32, object string) (estate.ACE, bool) {
	ace := estate.ACE{SID: sid, Deny: deny}
	ace.Read = object == "" && mask&(rightRead|genericRead|genericAll) != 0
	ace.Apply = (object == "" || object == applyPolicy) && mask&(rightExtra|genericAll) != 0
	return ace, ace.Read || ace.Apply
}

const everyone = "S-1-1-0"

// noList is what it means that there is no access list: everybody may do everything.
var noList = []estate.ACE{{SID: everyone, Read: true, Apply: true}}

var (
	sddlACL = regexp.MustCompile(`D:[A-Z]*((?:\([^)]*\))*)`)
	sddlACE = regexp.MustCompile(`\(([^)]*)\)`)
)

// sddlRights are the rights that concern us, of those that SDDL writes with
// two letters.
var sddlRights = map[string]uint32{"RP": rightRead, "CR": rightExtra, "GA": genericAll, "GR": genericRead}

// sddlNames are the accounts that SDDL writes with two letters: a whole SID,
// or the last part of one of the domain's own.
var sddlNames = map[string]string{
	"WD": everyone, "AU": "S-1-5-11", "ED": "S-1-5-9", "SY": "S-1-5-18", "CO": "S-1-3-0", "PS": "S-1-5-10", "BA": "S-1-5-32-544",
	"BU": "S-1-5-32-545",
	"AO": "S-1-5-32-548", "SO": "S-1-5-32-549", "PO": "S-1-5-32-550", "BO": "S-1-5-32-551", "RU": "S-1-5-32-554", "IU": "S-1-5-4",
	"NU": "S-1-5-2", "AN": "S-1-5-7",
	"DA": "-512", "DU": "-513", "DG": "-514", "DC": "-515", "DD": "-516", "CA": "-517", "SA": "-518", "EA": "-519", "PA": "-520",
	"RO": "-498", "CN": "-522", "AP": "-525", "KA": "-526", "EK": "-527", "RS": "-553", "LA": "-500", "LG": "-501",
}

func sddl(text string) ([]estate.ACE, error) {
	list := sddlACL.FindStringSubmatch(text)
	if list == nil {
		return nil, fmt.Errorf("no access list (D:) in it")
	}
	if strings.Contains(text, "D:NO_ACCESS_CONTROL") {
		return noList, nil
	}
	var all []estate.ACE
	for _, m := range sddlACE.FindAllStringSubmatch(list[1], -1) {
		part := strings.Split(m[1], ";")
		if len(part) < 6 {
			return nil, fmt.Errorf("an entry of its access list has %d parts, not 6", len(part))
		}
		kind, flags, object, sid := part[0], part[1], strings.ToLower(part[3]), part[5]
		if kind != "A" && kind != "D" && kind != "OA" && kind != "OD" || strings.Contains(flags, "IO") {
			continue
		}
		if name, ok := sddlNames[sid]; ok {
			sid = name
		} else if !strings.HasPrefix(sid, "S-1-") {
			return nil, fmt.Errorf("an entry of its access list names %q", sid)
		}
		var mask uint32
		if n, err := strconv.ParseUint(part[2], 0, 32); err == nil {
			mask = uint32(n)
		} else {
			for i := 0; i+1 < len(part[2]); i += 2 {
				mask |= sddlRights[part[2][i:i+2]]
			}
		}
		if ace, concerns := aceOf(sid, strings.HasSuffix(kind, "D"), mask, object); concerns {
			all = append(all, ace)
		}
	}
	return all, nil
}

// SID reads a SID's text form or its binary one (MS-DTYP 2.4.2).
func SID(raw []byte) (string, error) {
	if bytes.HasPrefix(raw, []byte("S-1-")) {
		return string(raw), nil
	}
	if len(raw) < 8 || raw[0] != 1 || len(raw) != 8+4*int(raw[1]) {
		return "", fmt.Errorf("an objectSid of %d bytes is not a SID", len(raw))
	}
	var authority [8]byte
	copy(authority[2:], raw[2:8])
	var b strings.Builder
	fmt.Fprintf(&b, "S-1-%d", binary.BigEndian.Uint64(authority[:]))
	for part := raw[8:]; len(part) > 0; part = part[4:] {
		fmt.Fprintf(&b, "-%d", binary.LittleEndian.Uint32(part))
	}
	return b.String(), nil
}
