package fieldmap

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/theory/jsonpath"
)

// A route leads where the package says that it leads.
func TestRoutesAsThePackageFollowsThem(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	names := []string{"a", "b", "c", "d e"}
	var made func(depth int) (any, *node)
	line := 0
	made = func(depth int) (any, *node) {
		line++
		n := &node{line: line}
		switch k := rnd.IntN(7); {
		case depth > 3 || k == 0:
			return []any{nil, "x", 1.5, true}[rnd.IntN(4)], n
		case k < 3:
			list := []any{}
			for range rnd.IntN(4) {
				v, lines := made(depth + 1)
				if list = append(list, v); rnd.IntN(4) > 0 {
					n.items = append(n.items, lines)
				} else {
					n.items = append(n.items, nil)
				}
			}
			return list, n
		}
		members := map[string]any{}
		n.named = map[string]*node{}
		for _, name := range names {
			if rnd.IntN(3) > 0 {
				v, lines := made(depth + 1)
				if members[name] = v; rnd.IntN(4) > 0 {
					n.named[name] = lines
				}
			}
		}
		return members, n
	}
	for _, text := range []string{"$", "$.a", "$.a.b", `$["d e"]`, "$[*]", "$.a[*]", "$.a.b[*]", "$[*].a", "$[0]", "$.a[0]",
		"$.a[-1].b", "$[-2]", "$.a[0,1]", "$..a",
		"$.a[?@.b]", "$[*][*]", "$.a[*].b", "$.*.a", "$[*].a[*].b", `$["a","b"]`, "$.a[1:2]"} {
		path := jsonpath.MustParse(text)
		route := routeOf(path)
		for range 300 {
			value, lines := made(0)
			var got, want []string
			for _, f := range ask(value, lines, route) {
				got = append(got, fmt.Sprint(f.path, " ", f.line, " ", f.value))
			}
			for _, located := range path.SelectLocated(value) {
				want = append(want, fmt.Sprint(located.Path, " ", lines.along(located.Path).line, " ", located.Node))
			}
			if !slices.Equal(slices.Sorted(slices.Values(got)), slices.Sorted(slices.Values(want))) {
				t.Fatalf("%s of %v:\n%q, want\n%q", text, value, got, want)
			}
			if n := len(route.Select(value)); n != len(want) {
				t.Fatalf("%s of %v: %d values, want %d", text, value, n, len(want))
			}
		}
	}
}
