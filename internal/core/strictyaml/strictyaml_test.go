package strictyaml

import (
	"strings"
	"testing"
)

func TestErrorsSayWhere(t *testing.T) {
	type inner struct {
		Colour Text   `yaml:"colour"`
		Sizes  []Text `yaml:"sizes"`
	}
	type outer struct {
		Title string           `yaml:"title"`
		Inner map[string]inner `yaml:"inner"`
	}
	for _, c := range []struct{ text, want string }{
		{"title: x\ninner:\n  a: {colour: red, sizes: [1, 2.50]}\n", ""},
		{"titel: x\n", `f.yaml:1:1: unknown key "titel"; the nearest is "title"`},
		{"title: x\ninner:\n  a:\n    color: red\n", `f.yaml:4:5: unknown key "color"; the nearest is "colour"`},
		{"title: [a, b\n", "f.yaml:1:"},
		{"title: x\ntitle: y\n", "f.yaml:2:1:"},
		{"title: {a: b}\n", "f.yaml:1:"},
		{"title: [a]\n", "f.yaml:1:8: a list (- a, or [a, b]) stands where a single value is expected"},
		{"title: {a: b}\n", "f.yaml:1:8: a mapping (key: value) stands where a single value is expected"},
		{"inner: [a]\n", "f.yaml:1:8: a list (- a, or [a, b]) stands where a mapping (key: value) is expected"},
		{"inner: 3\n", "f.yaml:1:8: a single value stands where a mapping (key: value) is expected"},
		{"inner:\n  a: {sizes: 3}\n", "f.yaml:2:14: a single value stands where a list (- a, or [a, b]) is expected"},
		{"inner:\n  a: {sizes: {b: c}}\n", "f.yaml:2:1"},
		{"inner:\n  a: {colour: {b: c}}\n", "f.yaml:2:15: a single value is expected here"},
		{"inner:\n  a: {colour: [b]}\n", "f.yaml:2:15: a single value is expected here"},
		{"title: x\ninner:\n  a:\n    sizes:\n      !\n000:\n      0: 00\n", "f.yaml:"},
	} {
		var v outer
		err := Unmarshal("f.yaml", []byte(c.text), &v)
		if c.want == "" {
			if a := v.Inner["a"]; err != nil || a.Colour.Value != "red" || a.Colour.Line != 3 || a.Sizes[1].Value != "2.50" {
				t.Errorf("%v %+v", err, v)
			}
			if at := v.Inner["a"].Sizes[1].Errorf("f.yaml", "too %s", "big"); at.Error() != "f.yaml:3:31: too big" {
				t.Errorf("%v", at)
			}
			continue
		}
		if err == nil || !strings.HasPrefix(err.Error(), c.want) {
			t.Errorf("%q: %v, want %s", c.text, err, c.want)
		}
	}
}

func TestNearest(t *testing.T) {
	known := []string{"min-length", "max-length", "history", "lockout-threshold"}
	for word, want := range map[string]string{
		"min-lenght": "min-length", "MAXLENGTH": "max-length", "histroy": "history", "threshold": "lockout-threshold", "min-length": "min-length",
	} {
		if got := Nearest(word, known); got != want {
			t.Errorf("%s: %s, want %s", word, got, want)
		}
	}
	if Nearest("x", nil) != "" {
		t.Error("nothing is nearest where nothing is known")
	}
}

// Whatever a file holds, it is read or refused, and soon.
func FuzzUnmarshal(f *testing.F) {
	for _, seed := range []string{"a: 1", "a: [[[[[[[[[[1]]]]]]]]]]", "- - - - - a", "a: &x 1\nb: *x", "? ? ? a", "a: !!binary x",
		"{a: {a: {a: }}}", "a: |\n  x\n   y", "\ufeffa: 1", "a: \"\\u0000\"", strings.Repeat("[", 500), strings.Repeat("- ", 3000)} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		var into struct {
			A []Text            `yaml:"a"`
			B map[string]string `yaml:"b"`
		}
		if err := Unmarshal("f.yaml", []byte(text), &into); err == nil {
			return
		} else if !strings.HasPrefix(err.Error(), "f.yaml:") {
			t.Fatalf("an error that does not say where: %v", err)
		}
	})
}

// What would cost gigabytes or minutes is refused before it is read.
func TestBounds(t *testing.T) {
	for name, c := range map[string]struct{ text, say string }{
		"a nest":           {"a: " + strings.Repeat("[", 65), "f.yaml:1:1: nested more than 64 deep"},
		"a nest of lines":  {"b: 1\na: " + strings.Repeat("{x: ", 70), "f.yaml:2:1: nested"},
		"lists in a row":   {strings.Repeat("- ", 1001), "f.yaml:1:1: nested more than 64 deep"},
		"an anchor":        {"a: &x 1\n", "f.yaml:1:4: anchors and aliases"},
		"an alias":         {"b:\n  a: *x\n", "anchors and aliases"},
		"lists further on": {"b: 1\n" + strings.Repeat("-", 700) + "\n" + strings.Repeat("- ", 1001), "f.yaml:3:1: nested more than 64 deep"},
		"closed too often": {"a: ]]]\nb: " + strings.Repeat("[", 65), "f.yaml:2:1: nested more than 64 deep"},
		"a long line":      {"b: 1\n" + strings.Repeat("a: ", 1400), "f.yaml:2:1: a line of more than 4096 bytes"},
		"a large file":     {strings.Repeat("# x\n", 300_000), "f.yaml:1:1: more than 1 MiB"},
	} {
		var into map[string]any
		if err := Unmarshal("f.yaml", []byte(c.text), &into); err == nil || !strings.HasPrefix(err.Error(), "f.yaml:") ||
			!strings.Contains(err.Error(), c.say) {
			t.Errorf("%s: %v, want %q", name, err, c.say)
		}
	}
	var into struct {
		A Text `yaml:"a"`
	}
	for _, good := range []string{"a: " + strings.Repeat("x", 4000), "# " + strings.Repeat("-", 900) + "\na: 1", "a: \"a & b * c\"",
		"a: 'x [ y {'"} {
		if err := Unmarshal("f.yaml", []byte(good), &into); err != nil {
			t.Errorf("%.30q: %v", good, err)
		}
	}
}

func TestHint(t *testing.T) {
	few := []string{"min-length", "max-length", "history"}
	many := []string{"a1", "b2", "c3", "d4", "e5", "f6", "g7", "h8", "i9"}
	for _, c := range []struct {
		word  string
		known []string
		want  string
	}{
		{"min-lenght", few, `the nearest is "min-length"`}, {"HISTORY", few, `the nearest is "history"`},
		{"hist", few, `the nearest is "history"`}, {"his", few, "known are min-length, max-length, history"},
		{"histxxx", few, "known are min-length, max-length, history"}, {"histoxx", few, `the nearest is "history"`},
		{"ab", []string{"ac"}, `the nearest is "ac"`}, {"ab", []string{"cd"}, "known are cd"},
		{"abcd", []string{"abxy"}, "known are abxy"}, {"abcde", []string{"abcxy"}, `the nearest is "abcxy"`},
		{"x", nil, "there are none"}, {"zzz", many, "known are a1, b2, c3, d4, e5, f6, g7, h8 and 1 more"},
		{"zzz", many[:8], "known are a1, b2, c3, d4, e5, f6, g7, h8"},
		{"gold", []string{"told", "marigold-ring"}, `the nearest is "told"`}, {"gol", []string{"old", "marigold"}, "known are old, marigold"},
		{"tion", []string{"toon", "authentication"}, `the nearest is "toon"`}, {"ation", []string{"nations", "authentications"},
			`the nearest is "nations"`},
		{"q", []string{strings.Repeat("x", 98)}, "known are " + strings.Repeat("x", 98)},
		{"min", []string{"x-min-x", "men"}, `the nearest is "men"`}, {"mini", []string{"mind", "mini-length-x"}, `the nearest is "mind"`},
		{"mini", []string{"mint", "a-mini-xy"}, `the nearest is "mint"`}, {"abcd", []string{"abce", "abcf"}, `the nearest is "abce"`},
		{"abcd", []string{"xxabcdxxxx", "abxx"}, `the nearest is "xxabcdxxxx"`},
		{"abcd", []string{"abxx", "xxxxabcdxxxx"}, "known are abxx, xxxxabcdxxxx"},
		{"length", []string{"tenth", "min-length"}, `the nearest is "min-length"`},
	} {
		if got := Hint(c.word, c.known); got != c.want {
			t.Errorf("%s of %v: %s, want %s", c.word, c.known, got, c.want)
		}
	}
}

func TestDistance(t *testing.T) {
	for pair, want := range map[[2]string]int{
		{"", ""}: 0, {"a", ""}: 1, {"", "abc"}: 3, {"abc", "abc"}: 0, {"abc", "abd"}: 1, {"abc", "ac"}: 1, {"ac", "abc"}: 1,
		{"kitten", "sitting"}: 3, {"flaw", "lawn"}: 2, {"ab", "ba"}: 2, {"abcdef", "azced"}: 3,
	} {
		if got := distance(pair[0], pair[1]); got != want {
			t.Errorf("%q to %q: %d, want %d", pair[0], pair[1], got, want)
		}
	}
}

// The keys of what a struct holds inline are its own.
func TestInlineKeys(t *testing.T) {
	type Shared struct {
		Reason string `yaml:"reason"`
	}
	type item struct {
		Shared `yaml:",inline"`
		Name   string `yaml:"name,omitempty"`
		Never  string `yaml:"-"`
	}
	var into struct {
		Items []*item `yaml:"items"`
	}
	for text, want := range map[string]string{
		"items: [{nam: x}]": `the nearest is "name"`, "items: [{raeson: x}]": `the nearest is "reason"`, "item: 1": `the nearest is "items"`,
		"items: [{xyzzyx: x}]": "known are items, reason, name",
	} {
		if err := Unmarshal("f.yaml", []byte(text), &into); err == nil || !strings.HasSuffix(err.Error(), want) {
			t.Errorf("%s: %v, want %s", text, err, want)
		}
	}
}

// At the bounds themselves a file is still read.
func TestAtTheBounds(t *testing.T) {
	var into map[string]any
	for name, c := range map[string]struct {
		text string
		ok   bool
	}{
		"64 deep": {"a: " + strings.Repeat("[", 64) + strings.Repeat("]", 64), true},
		"65 deep": {"a: " + strings.Repeat("[", 65) + strings.Repeat("]", 65), false},
		"64 twice": {"a: " + strings.Repeat("[", 64) + strings.Repeat("]", 64) + "\nb: ]]]" + "\nc: " + strings.Repeat("[", 64) +
			strings.Repeat("]", 64), false},
		"a line":       {"a: " + strings.Repeat("x", 4096-3), true},
		"a line more":  {"a: " + strings.Repeat("x", 4096-2) + "\n", false},
		"second line":  {"b: 1\na: " + strings.Repeat("x", 4096-3) + "\n", true},
		"1 MiB":        {strings.Repeat("# xxxxx\n", 1<<17-1) + "a: xxxx\n", true},
		"a byte more":  {strings.Repeat("# xxxxx\n", 1<<17-1) + "a: xxxxx\n", false},
		"marks":        {"a: " + strings.Repeat("-", 1100), true},
		"marks, first": {strings.Repeat("-", 1001), false},
		"1000 marks":   {strings.Repeat("-", 1000), false},
		"marks, again": {strings.Repeat("-", 700) + "\n" + strings.Repeat("-", 700), false},
		"marks, apart": {strings.Repeat("- a\n", 1200), false}, // a list where a mapping is expected, and no nest
	} {
		err := Unmarshal("f.yaml", []byte(c.text), &into)
		bounds := err != nil && (strings.Contains(err.Error(), "more than") || strings.Contains(err.Error(), "nested"))
		if (err == nil) != c.ok || strings.Contains(name, "marks") && name != "marks, first" && bounds {
			t.Errorf("%s: %.200v", name, err)
		}
	}
	var folded struct{ A Text }
	if err := Unmarshal("f.yaml", []byte("a: |\n  two\n  lines\n"), &folded); err != nil || folded.A.Value != "two\nlines\n" {
		t.Errorf("%v %q", err, folded.A.Value)
	}
	if err := (Text{}).Errorf("f.yaml", "missing"); err.Error() != "f.yaml:1:1: missing" {
		t.Errorf("what stands nowhere is told of the first line: %v", err)
	}
	if err := Unmarshal("f.yaml", []byte("? [a, b]\n: 1\n"), new(struct{ A Text })); err == nil || !strings.HasPrefix(err.Error(), "f.yaml:") {
		t.Errorf("%v", err)
	}
}
