package probe

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
)

// Family is one way in which people choose passwords, with examples of it.
type Family struct {
	Name      string
	Weak      bool // else it is there for contrast
	Passwords []string
}

// Seeds are what patterns are made from.
type Seeds struct {
	Year  int
	Words []string // of the organisation and its places
	Own   []string // names of the account's owner
}

// generators of the families, in the order in which pages show them. A further
// family is one more value.
var generators = []struct {
	name string
	weak bool
	make func(s *Seeds) []string
}{
	{"season and year", true, func(s *Seeds) []string {
		return dated(s, "Spring", "Summer", "Autumn", "Winter")
	}},
	{"month and year", true, func(s *Seeds) []string {
		return dated(s, "January", "March", "May", "July", "October", "November")
	}},
	{"place and number", true, func(s *Seeds) []string {
		var all []string
		for _, w := range s.Words {
			all = append(all, w+"1", title(w)+"1", title(w)+"12", title(w)+"123", title(w)+"123!", fmt.Sprint(title(w), s.Year),
				fmt.Sprint(title(w), s.Year, "!"))
		}
		return all
	}},
	{"keyboard walk", true, func(*Seeds) []string {
		return []string{"qwertyuiop", "qwerty123", "Qwerty123!", "asdfghjkl", "Asdf1234!", "1qaz2wsx", "1qaz@WSX", "!QAZ2wsx",
			"zaq12wsx", "1q2w3e4r5t", "Q1w2e3r4!", "123456789012"}
	}},
	{"counted up", true, func(s *Seeds) []string {
		var all []string
		for _, w := range append([]string{"password", "welcome", "changeme"}, s.Words...) {
			for _, n := range []int{1, 7, 12} {
				all = append(all, fmt.Sprint(title(w), n), fmt.Sprintf("%s%02d!", title(w), n))
			}
		}
		return all
	}},
	{"doubled word", true, func(s *Seeds) []string {
		var all []string
		for _, w := range append([]string{"pass", "welcome", "summer"}, s.Words...) {
			all = append(all, w+w, title(w)+title(w), title(w)+title(w)+"1", title(w)+"-"+title(w)+"1")
		}
		return all
	}},
	{"letters swapped", true, func(s *Seeds) []string {
		all := []string{"P@ssw0rd", "P@ssw0rd1", "P@ssw0rd1!", "P4ssw0rd!"}
		for _, w := range s.Words {
			swapped := swap.Replace(title(w))
			all = append(all, swapped+"1", swapped+"1!", fmt.Sprint(swapped, s.Year, "!"))
		}
		return all
	}},
	{"own name", true, func(s *Seeds) []string { return dated(s, s.Own...) }},
	{"long phrase", false, func(*Seeds) []string { return phrases(12) }},
}

var swap = strings.NewReplacer("a", "@", "e", "3", "i", "1", "o", "0", "s", "$")

// Patterns makes examples of what people choose under pressure, and long
// phrases for contrast. The same seeds make the same patterns.
func Patterns(s Seeds) []Family {
	var all []Family
	for _, g := range generators {
		f := Family{Name: g.name, Weak: g.weak}
		for _, p := range g.make(&s) {
			if !slices.Contains(f.Passwords, p) {
				f.Passwords = append(f.Passwords, p)
			}
		}
		if len(f.Passwords) > 0 {
			all = append(all, f)
		}
	}
	return all
}

// dated puts this year and the last behind words.
func dated(s *Seeds, words ...string) []string {
	var all []string
	for _, w := range words {
		for _, y := range []int{s.Year, s.Year - 1} {
			all = append(all, fmt.Sprint(title(w), y), fmt.Sprint(title(w), y, "!"))
		}
		all = append(all, fmt.Sprintf("%s%02d!", strings.ToLower(w), s.Year%100))
	}
	return all
}

func title(w string) string {
	r := []rune(strings.ToLower(w))
	if len(r) > 0 {
		r[0] = unicode.ToUpper(r[0])
	}
	return string(r)
}

// plain are the words that phrases are made of.
var plain = strings.Fields(`anvil basket candle dragon ember ferry garden hammer island jacket kettle lantern meadow needle
	orchard pepper quarry ribbon saddle timber umbrella velvet walnut yellow copper thunder pillow violin marble harvest pebble cotton`)

// phrases makes so many of four to six words each.
func phrases(n int) []string {
	var all []string
	for i := range n {
		var words []string
		for k := range 4 + i%3 {
			words = append(words, plain[(i*7+k*11)%len(plain)])
		}
		text := strings.Join(words, []string{" ", "-", ""}[i%3])
		if i%4 == 3 {
			text = title(text) + "."
		}
		all = append(all, text)
	}
	return all
}
