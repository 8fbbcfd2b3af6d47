package estate

import (
	random "math/rand/v2"
	"strings"
	"testing"
)

// What is hashed in words of eight bytes is the same as what is hashed spelling by
// spelling, for whatever text.
func TestHashesAreOfOneSpelling(t *testing.T) {
	rnd := random.New(random.NewPCG(5, 5))
	var s Speller
	signs := strings.Split("a b Z A @ [ ` { 0 9 f F g G = , + ; \\ \" é É 港 CN= DC=x \\2c \\20 \\5C \\, ,␣ ␣= ␣+ ␣", " ")
	for range 60_000 {
		var text strings.Builder
		for range rnd.IntN(14) {
			text.WriteString(strings.ReplaceAll(signs[rnd.IntN(len(signs))], "␣", " "))
		}
		dn := []byte(text.String())
		if quick, slow := s.Spell(dn), s.slowly(dn); quick != slow {
			t.Fatalf("%q is hashed to two numbers", dn)
		}
		first, rest := SplitDN(dn)
		if one, other := SplitDN(text.String()); one != string(first) || other != string(rest) {
			t.Fatalf("%q is cut in two ways", dn)
		}
		if plain := !strings.ContainsAny(string(dn), `\";`); plain {
			// Nothing is escaped: lower case, and no blank beside a separator.
			want := strings.ToLower(string(dn))
			for _, sep := range []string{",", "=", "+"} {
				parts := strings.Split(want, sep)
				for i := range parts {
					if i > 0 {
						parts[i] = strings.TrimLeft(parts[i], " ")
					}
					if i < len(parts)-1 {
						parts[i] = strings.TrimRight(parts[i], " ")
					}
				}
				want = strings.Join(parts, sep)
			}
			if got := NormalDN(string(dn)); got != strings.Trim(want, " ") {
				t.Fatalf("%q comes down to %q, want %q", dn, got, want)
			}
		}
	}
}

func TestSpellings(t *testing.T) {
	for _, c := range []struct{ dn, want string }{
		{`CN=Ada,DC=X`, `cn=ada,dc=x`}, {` CN = Ada B , DC = X `, `cn=ada b,dc=x`}, {`CN=a\2CB,DC=x`, `cn=a\,b,dc=x`},
		{`CN=a\,B;DC=x`, `cn=a\,b,dc=x`}, {`CN="a,B ",DC=x`, `cn=a\,b ,dc=x`}, {`CN=a\5cb`, `cn=a\\b`}, {`CN=a\41b`, `cn=aab`},
		{`CN=\20a\20`, `cn= a `}, {`CN=a\2`, `cn=a2`}, {`CN=a\`, `cn=a\`}, {`CN=a\2c`, `cn=a\,`}, {`CN=a\g0`, `cn=ag0`}, {`CN=a\0g`, `cn=a0g`},
		{`CN=\c3\89a`, `cn=éa`}, {`CN=\C3\89A\;`, `cn=éa\;`}, {`CN=É;DC=x`, `cn=é,dc=x`}, {`CN=a\9f`, "cn=a\ufffd"},
	} {
		if got := NormalDN(c.dn); got != c.want {
			t.Errorf("%q comes down to %q, want %q", c.dn, got, c.want)
		}
	}
	for dn, want := range map[string]string{`CN=Ada\, B,DC=x`: "Ada, B", `CN="Ada, B",DC=x`: "Ada, B", `CN=a\2cb`: "a,b", `CN=a\2Cb`: "a,b",
		`CN=a\`: `a\`, `CN=a\2`: "a2", `CN=a\2g`: "a2g", `CN=a\g2`: "ag2", `CN=\c3\a9`: "é", `Ada`: "", ``: "", `CN=a\0`: "a0", `CN=\41\42`: "AB",
		`CN=\5a`: "Z"} {
		if got := NameOf(dn); got != want {
			t.Errorf("the name of %q is %q, want %q", dn, got, want)
		}
	}
}
