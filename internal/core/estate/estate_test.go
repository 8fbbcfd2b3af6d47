package estate

import (
	"fmt"
	random "math/rand/v2"
	"slices"
	"testing"

	"sternledger/internal/core/setting"
)

func TestSpellingsOfOneDN(t *testing.T) {
	var s Speller
	for _, same := range [][]string{
		{"CN=Ada,OU=Office,DC=a,DC=example", "cn=ada,ou=OFFICE,dc=A,dc=example", "CN=Ada, OU=Office , DC = a,DC=example",
			`CN=\41da,OU=Office,DC=a,DC=example`},
		{`CN=Quill\, R.,DC=a`, `cn=quill\2c r.,dc=A`, `CN=Quill\2C R.,DC=a`, `CN="Quill, R.",DC=a`},
		{"CN=Ämilie,DC=a", "cn=äMILIE,dc=a", `CN=\C3\84milie,DC=a`},
		{"CN=Domain  Users,DC=a", "cn=domain  users,dc=a"},
		{"CN=a;DC=b", "CN=a,DC=b"},
	} {
		for _, dn := range same[1:] {
			if NormalDN(dn) != NormalDN(same[0]) || s.Spell([]byte(dn)) != s.Spell([]byte(same[0])) {
				t.Errorf("%q and %q differ: %q, %q", dn, same[0], NormalDN(dn), NormalDN(same[0]))
			}
		}
	}
	for _, pair := range [][2]string{{"CN=a,DC=b", "CN=ab"}, {`CN=a\,DC=b`, "CN=a,DC=b"}, {"CN=Domain Users,DC=a", "CN=DomainUsers,DC=a"}} {
		if NormalDN(pair[0]) == NormalDN(pair[1]) {
			t.Errorf("%q and %q are not the same", pair[0], pair[1])
		}
	}
}

func TestPartsOfADN(t *testing.T) {
	for _, c := range []struct{ dn, domain, name string }{
		{"CN=Ada,OU=Office,DC=Marrowick,DC=example", "marrowick.example", "Ada"},
		{`CN=Quill\, R.,DC=marrowick,DC=example`, "marrowick.example", "Quill, R."},
		{`CN=\C3\84milie,DC=a`, "a", "Ämilie"},
		{"DC=quay,DC=marrowick.example,CN=MicrosoftDNS,DC=DomainDnsZones,DC=marrowick,DC=example", "domaindnszones.marrowick.example", "quay"},
		{"CN=x,O=club", "", "x"},
		{`CN=Quay \41,DC=a`, "a", "Quay A"},
	} {
		if got := DomainOf(c.dn); got != c.domain {
			t.Errorf("domain of %q: %q, want %q", c.dn, got, c.domain)
		}
		if got := NameOf(c.dn); got != c.name {
			t.Errorf("name of %q: %q, want %q", c.dn, got, c.name)
		}
	}
}

func TestGUID(t *testing.T) {
	const text = "bb5ced36-1260-49e4-b4d3-f3388a6e7ba4"
	g, err := ParseGUID([]byte(text))
	if err != nil || g.String() != text || g[0] != 0x36 || g[15] != 0xa4 {
		t.Errorf("%x %v, want it stored with the first three groups reversed", g, err)
	}
	braced, _ := ParseGUID([]byte("{" + text + "}"))
	raw, _ := ParseGUID(g[:])
	if braced != g || raw != g {
		t.Error("braces and raw bytes must give the same GUID")
	}
	if none := (GUID{}); none.String() != "" {
		t.Errorf("no GUID is written %q", none)
	}
	for _, bad := range []string{"", "bb5c", "zz5ced36-1260-49e4-b4d3-f3388a6e7ba4"} {
		if _, err := ParseGUID([]byte(bad)); err == nil {
			t.Errorf("%q passed for a GUID", bad)
		}
	}
}

// Columns longer than a chunk come back from storage as they were.
func TestColumnsComeBack(t *testing.T) {
	var numbers, numbers2 Numbers[uint32]
	var bytes, bytes2 Numbers[uint8]
	var texts, texts2 Texts
	const rows = chunkRows + 17
	for i := range rows {
		numbers.Append(uint32(i * 7))
		bytes.Append(uint8(i))
		texts.Append(fmt.Appendf(nil, "account-%d", i))
	}
	texts.set(3, "renamed later")
	for _, pair := range [][2]Column{{&numbers, &numbers2}, {&bytes, &bytes2}, {&texts, &texts2}} {
		for i := range pair[0].Chunks() {
			if err := pair[1].Load(pair[0].Chunk(i)); err != nil {
				t.Fatal(err)
			}
		}
	}
	for i := range rows {
		if numbers.At(i) != numbers2.At(i) || bytes.At(i) != bytes2.At(i) || texts.At(i) != texts2.At(i) {
			t.Fatalf("row %d: %d %d, %d %d, %q %q", i, numbers.At(i), numbers2.At(i), bytes.At(i), bytes2.At(i), texts.At(i), texts2.At(i))
		}
	}
	if texts2.At(3) != "renamed later" || texts2.Len() != rows {
		t.Errorf("row 3 is %q of %d rows", texts2.At(3), texts2.Len())
	}
	for _, bad := range [][]byte{{}, {1}, {9, 0, 0, 0, 1}, {1, 0, 0, 0, 200, 0, 0, 0, 'x'}} {
		var c Texts
		if c.Load(bad) == nil {
			t.Errorf("a damaged chunk %v was taken", bad)
		}
	}
	var cut Numbers[uint32]
	if cut.Load([]byte{1, 2, 3, 4, 5}) == nil || cut.Load(make([]byte, 4*chunkRows+4)) == nil || cut.Load(make([]byte, 8)) != nil ||
		cut.Load(make([]byte, 4)) == nil {
		t.Error("a chunk that is cut, too long, or comes behind the last was taken, or a good one refused")
	}
}

// What comes back to a file, or says less of an object than is known, changes nothing.
func TestBuilderKeepsWhatItKnows(t *testing.T) {
	b := NewBuilder()
	at := InDomain("x.example")
	in := func(file, dn string, class Class) int {
		b.StartFile(file)
		return int(b.Object(at, &Record{Class: class, DN: []byte(dn), Line: 1}))
	}
	ada := in("a.ldif", "CN=Ada,DC=x,DC=example", Account)
	g, h := in("b.ldif", "CN=G,DC=x,DC=example", Group), in("b.ldif", "CN=H,DC=x,DC=example", Group)
	in("a.ldif", "CN=Ada,DC=x,DC=example", Other)
	for _, group := range []int{g, h} {
		b.Member(at, uint32(group), []byte("CN=Ada,DC=x,DC=example"), 2)
	}
	if b.Knows(at) != b.At(at) || b.Knows(InDomain("y.example")) != nil {
		t.Error("x.example was spoken of, and y.example was not")
	}
	b.Remember(&Authority{Name: "y.example", Kind: Domain}) // of which nothing was gathered
	a := b.Finish()[0]
	if a.Objects.ClassOf(ada) != Account || !slices.Equal(a.Files, []string{"a.ldif", "b.ldif"}) {
		t.Errorf("ada is a %v, of the files %q", a.Objects.ClassOf(ada), a.Files)
	}
	for group := range a.Objects.GroupsOf(ada) {
		if group != g && group != h {
			t.Errorf("ada is in %d", group)
		}
		break // and the second is not asked for
	}
}

func TestBuilderJoinsPieces(t *testing.T) {
	b := NewBuilder()
	b.StartFile("a.ldif")
	group := b.Object(InDomain("x.example"), &Record{Class: Group, DN: []byte("CN=G,DC=x,DC=example"), Line: 1})
	b.Member(InDomain("x.example"), group, []byte("cn=ada,dc=x,dc=example"), 2)
	b.Member(InDomain("x.example"), group, []byte("CN=Nobody,DC=x,DC=example"), 3)
	b.MemberRange(InDomain("x.example"), group, 0, 1)
	b.StartFile("b.ldif")
	ada := b.Object(InDomain("x.example"), &Record{Class: Account, DN: []byte("CN=Ada,DC=x,DC=example"), Name: []byte("ada"), Line: 9})
	again := b.Object(InDomain("x.example"), &Record{Class: Account, DN: []byte("CN=ADA,DC=x,DC=example"), Display: []byte("Ada L."),
		Flags: Disabled, Line: 20})
	a := b.Finish()[0]
	if ada != again || a.Objects.Len() != 2 || a.Accounts != 1 || a.Groups != 1 {
		t.Fatalf("rows %d %d of %d; %d accounts, %d groups", ada, again, a.Objects.Len(), a.Accounts, a.Groups)
	}
	if o := a.Objects; o.Name.At(1) != "ada" || o.Display.At(1) != "Ada L." || o.FlagsOf(1) != Disabled {
		t.Errorf("pieces were not joined: %q %q %v", o.Name.At(1), o.Display.At(1), o.FlagsOf(1))
	}
	if got := slices.Collect(a.Objects.GroupsOf(1)); !slices.Equal(got, []int{0}) {
		t.Errorf("groups of ada: %v", got)
	}
	if a.Objects.LooseLine.Len() != 1 || a.Objects.LooseLine.At(0) != 3 {
		t.Errorf("the member that is not in the evidence was lost")
	}
	if len(a.Problems) != 1 || a.Problems[0].Cite.String() != "a.ldif:1" {
		t.Errorf("an open range is a problem at the group: %+v", a.Problems)
	}
	if a.CiteOf(1).String() != "b.ldif:9" {
		t.Errorf("ada is cited at %s", a.CiteOf(1))
	}
}

func TestSetKeepsOrRefuses(t *testing.T) {
	b := NewBuilder()
	b.StartFile("new.ldif")
	facts := Settings{}
	b.Set(facts, setting.WindowsDomain, "history", setting.Number(24), b.Cite(1, "h", "24"))
	b.Set(facts, setting.WindowsDomain, "min-length", setting.Number(70000), b.Cite(2, "l", "70000"))
	b.StartOlder("old.ldif", 1)
	b.Set(facts, setting.WindowsDomain, "history", setting.Number(5), b.Cite(7, "h", "5"))
	b.Set(facts, setting.WindowsDomain, "max-age", setting.Of(setting.Never), b.Cite(8, "m", "0"))
	if facts["history"].Value != setting.Number(24) || !facts["max-age"].Value.Is(setting.Never) {
		t.Errorf("older evidence must fill and never replace: %+v", facts)
	}
	if f := facts["min-length"]; f.Problem == "" || f.Value.IsSet() || len(b.Problems) != 1 || !b.Problems[0].Damaged {
		t.Errorf("a value out of range must be a problem: %+v %+v", f, b.Problems)
	}
	b.StartFile("second.ldif")
	b.Set(facts, setting.WindowsDomain, "history", setting.Number(3), b.Cite(1, "h", "3"))
	if facts["history"].Problem == "" {
		t.Error("two current files that disagree must be a problem")
	}
}

// The index answers as a map would, keys that share their places included.
func TestIndexIsAMap(t *testing.T) {
	var x index
	want := map[uint64]uint32{}
	for i := range uint64(5000) {
		key := i * i % 997 << 40 // many share their lowest bits
		if row, ok := x.get(key); ok != (want[key] != 0) || ok && row != want[key]-1 {
			t.Fatalf("key %d: %d %v, want %d", key, row, ok, want[key])
		} else if !ok {
			x.put(key, uint32(i))
			want[key] = uint32(i) + 1
		}
	}
	if x.used != len(want) || len(want) < 400 {
		t.Errorf("%d used of %d", x.used, len(want))
	}
}

func TestSplitDN(t *testing.T) {
	for dn, want := range map[string][2]string{
		"CN=a,DC=b,DC=c": {"CN=a", "DC=b,DC=c"}, `CN=a\,b,DC=c`: {`CN=a\,b`, "DC=c"}, `"CN=a,b",DC=c`: {`"CN=a,b"`, "DC=c"},
		",DC=c": {"", "DC=c"}, `CN=a\\,DC=c`: {`CN=a\\`, "DC=c"}, "CN=a": {"CN=a", ""}, "": {"", ""}, `CN=a\`: {`CN=a\`, ""},
	} {
		if first, rest := SplitDN(dn); [2]string{first, rest} != want {
			t.Errorf("%q: %q and %q, want %q", dn, first, rest, want)
		}
	}
}

func TestLabel(t *testing.T) {
	a := &Authority{Name: "x.example", Kind: LDAP}
	if got := a.Label(); got != "x.example" {
		t.Errorf("alone: %q", got)
	}
	a.Twin = true
	if got := a.Label(); got != "x.example (ldap)" {
		t.Errorf("one of two: %q", got)
	}
	for name, means := range map[string]bool{"X.example": true, "x.example (LDAP)": true, "x.example (domain)": false, "x": false} {
		if a.Place().Means(name) != means {
			t.Errorf("%q means it: %v", name, !means)
		}
	}
}

func TestUseDefault(t *testing.T) {
	policies := []Policy{{Name: "a", Origin: "cn=a,o=x", Standing: Override}, {Name: "b", Origin: "cn=b,o=x", Standing: Override},
		{Name: "c", Origin: "cn=c,o=x", Standing: Override}}
	a := &Authority{Overrides: policies}
	if !a.UseDefault("CN=b, O=x") || a.Head.Name != "b" || a.Head.Standing != Enforced || len(a.Overrides) != 2 ||
		a.Overrides[0].Name != "a" || a.Overrides[1].Name != "c" || policies[1].Name != "b" {
		t.Errorf("%+v, %+v, of %+v", a.Head, a.Overrides, policies)
	}
	if !a.UseDefault("cn=a,o=x") || a.Head.Name != "a" || len(a.Overrides) != 1 || !a.UseDefault("cn=a,o=x") ||
		a.UseDefault("cn=gone,o=x") || (&Authority{}).UseDefault("cn=b,o=x") {
		t.Error("what governs already is in the evidence, and what nobody knows is not")
	}
}

func TestColumnsAreAskedInTurn(t *testing.T) {
	var all []string
	for name := range (&Objects{}).Columns() {
		all = append(all, name)
	}
	for n, name := range all {
		var asked string
		for got := range (&Objects{}).Columns() {
			if asked = got; got == name {
				break // the ones behind it are not handed out any more
			}
		}
		if asked != name || slices.Index(all, name) != n {
			t.Errorf("column %d: %s, want %s", n, asked, name)
		}
	}
}

func TestGroupTypes(t *testing.T) {
	for _, c := range []struct {
		t                         GroupType
		security, global, builtin bool
		text                      string
	}{
		{0, false, false, false, "group whose type is not in the evidence"}, {0x80000002, true, true, false, "global security group"},
		{2, false, true, false, "global distribution group"}, {0x80000004, true, false, false, "domain-local security group"},
		{0x80000008, true, false, false, "universal security group"}, {0x80000005, true, false, true, "built-in local security group"},
		{0x80000000, true, false, false, "group of unknown scope security group"},
	} {
		if c.t.Security() != c.security || c.t.Global() != c.global || c.t.Builtin() != c.builtin {
			t.Errorf("%#x: %v %v %v", uint32(c.t), c.t.Security(), c.t.Global(), c.t.Builtin())
		}
		if got := c.t.String(); got != c.text {
			t.Errorf("%#x: %q, want %q", uint32(c.t), got, c.text)
		}
	}
}

// Of many objects the processors join shares side by side: it comes to the same as one
// by one, and only the first few disagreements are kept.
func TestManyMembershipsAreJoined(t *testing.T) {
	const accounts, groups, each = 2*chunkRows + 5_000, 300, 3
	rnd := random.New(random.NewPCG(8, 8))
	b, at := NewBuilder(), InDomain("x.example")
	b.StartFile("x.ldif")
	want, unsaid := map[int][]int{}, 0 // of each account's row its groups; how many one side keeps to itself
	members := make([][]string, groups)
	for row := range accounts {
		name := fmt.Sprintf("CN=u%d,DC=x,DC=example", row)
		r := &Record{Class: Account, DN: []byte(name), RID: uint32(5_000 + row), Primary: 513}
		for range each {
			group, silent := rnd.IntN(groups), rnd.IntN(400) // 0: the account says nothing, 1: the group
			if slices.Contains(want[row], accounts+group) {
				continue
			}
			want[row] = append(want[row], accounts+group)
			if silent < 2 {
				unsaid++
			}
			if silent != 0 {
				r.Holders, r.HolderLines = append(r.Holders, fmt.Appendf(nil, "CN=g%d,DC=x,DC=example", group)), append(r.HolderLines, 1)
			}
			if silent != 1 {
				members[group] = append(members[group], name)
			}
		}
		slices.Sort(want[row])
		b.Object(at, r)
	}
	for i, names := range members {
		row := b.Object(at, &Record{Class: Group, DN: fmt.Appendf(nil, "CN=g%d,DC=x,DC=example", i), RID: uint32(1_000 + i)})
		for _, name := range append(names, fmt.Sprintf("CN=gone%d,DC=x,DC=example", i)) {
			b.Member(at, row, []byte(name), 1)
		}
	}
	a := b.Finish()[0]
	for row := range accounts {
		var got []int
		for group := range a.Objects.GroupsOf(row) {
			got = append(got, group)
		}
		if !slices.Equal(got, want[row]) {
			t.Fatalf("row %d is held by %v, want %v", row, got, want[row])
		}
	}
	if a.DisputeCount != unsaid || unsaid < 2*mostDisputes || len(a.Disputes) != mostDisputes {
		t.Errorf("%d of %d disagreements, want %d of %d", len(a.Disputes), a.DisputeCount, mostDisputes, unsaid)
	}
	for i, x := range a.Disputes[1:] {
		if x.Member < a.Disputes[i].Member {
			t.Fatal("the disagreements are not in the members' order")
		}
	}
	for i := range groups {
		if int(a.Objects.LooseGroup.At(i)) != accounts+i {
			t.Fatalf("loose member %d is of row %d", i, a.Objects.LooseGroup.At(i))
		}
	}
	if n := a.Objects.LooseGroup.Len(); n != groups {
		t.Errorf("%d loose members", n)
	}
	// Where nothing is said of members, each row has a list all the same.
	b.StartFile("y.ldif")
	b.Object(Place{"y.example", LDAP}, &Record{Class: Account, DN: []byte("uid=a,dc=y,dc=example")})
	for _, a := range b.Finish() {
		if a.Kind == LDAP && a.Objects.HoldEnds.Len() != a.Objects.Len() {
			t.Errorf("%d lists of %d rows", a.Objects.HoldEnds.Len(), a.Objects.Len())
		}
	}
}

func TestHolds(t *testing.T) {
	b, at := NewBuilder(), InDomain("x.example")
	b.StartFile("x.ldif")
	b.Object(at, &Record{Class: Group, DN: []byte("CN=G,DC=x,DC=example"), Line: 1})
	b.Target(at, b.Override(at, []byte("CN=P,DC=x,DC=example"), 2), Target{DN: "CN=Nobody,DC=x,DC=example"})
	a := b.Finish()[0]
	if !a.Holds(0) || a.Holds(1) || a.Holds(NotFound) {
		t.Errorf("%v %v %v", a.Holds(0), a.Holds(1), a.Holds(NotFound))
	}
	var g GUID
	if err := g.UnmarshalText(nil); err != nil || g != (GUID{}) {
		t.Errorf("%v %v", g, err)
	}
	if err := g.UnmarshalText([]byte("x")); err == nil {
		t.Error("no GUID was taken for one")
	}
}
