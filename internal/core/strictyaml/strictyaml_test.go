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
		"a nest":          {"a: " + strings.Repeat("[", 65), "f.yaml:1:1: nested more than 64 deep"},
		"a nest of lines": {"b: 1\na: " + strings.Repeat("{x: ", 70), "f.yaml:2:1: nested"},
		"lists in a row":  {strings.Repeat("- ", 1001), "nested"},
		"an anchor":       {"a: &x 1\n", "f.yaml:1:4: anchors and aliases"},
		"an alias":        {"b:\n  a: *x\n", "anchors and aliases"},
		"a long line":     {"b: 1\n" + strings.Repeat("a: ", 1400), "f.yaml:2:1: a line of more than 4096 bytes"},
		"a large file":    {strings.Repeat("# x\n", 300_000), "more than 1 MiB"},
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
