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
		{"titel: x\n", `f.yaml:1:1: unknown key "titel"; the nearest known key is "title"`},
		{"title: x\ninner:\n  a:\n    color: red\n", `f.yaml:4:5: unknown key "color"; the nearest known key is "colour"`},
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
