package setting

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"testing"

	"sternledger/internal/worldtest"
)

// TestWorlds plays testdata/worlds.txt: the table as a page would show it, and what
// settings read, write and compare.
//
//	table
//	read SETTING TEXT
//	span SECONDS
//	compare SETTING TEXT | TEXT
//	form NAME VALUE
//	on PLATFORM SETTING VALUE
//	order SETTING SETTING
func TestWorlds(t *testing.T) {
	worldtest.Play(t, "worlds.txt", func(t *testing.T, lines []string) (said []string) {
		for _, line := range lines {
			word, rest, _ := strings.Cut(line, " ")
			say := func(format string, args ...any) { said = append(said, line+": "+fmt.Sprintf(format, args...)) }
			switch word {
			case "table":
				for _, s := range Table() {
					said = append(said, described(s)...)
				}
				continue
			case "span":
				n, _ := strconv.ParseInt(rest, 10, 64)
				say("%s", Span(n))
			case "read":
				id, text, _ := strings.Cut(rest, " ")
				say("%s", read(Get(ID(id)), text))
			case "compare":
				id, values, _ := strings.Cut(rest, " ")
				a, b, _ := strings.Cut(values, " | ")
				x, y := plain(a), plain(b)
				order, ok := Get(ID(id)).Compare(x, y)
				say("%d %v", order, ok)
			case "form":
				name, text, _ := strings.Cut(rest, " ")
				say("%q", forms[name](plain(text)))
			case "on":
				f := strings.Fields(rest)
				v, s := plain(f[2]), Get(ID(f[1]))
				can, beyond := s.BeyondPolicy(Platform(f[0]), v)
				say("%v; beyond policy %v %s", s.Allows(Platform(f[0]), v), beyond, can)
			case "order":
				a, b, _ := strings.Cut(rest, " ")
				say("%d", Order(ID(a), ID(b)))
			default:
				t.Fatal(line)
			}
		}
		return said
	})
}

var forms = map[string]Form{"plain": Plain, "days": Scaled(day, map[Special]string{Never: "-1"}), "words": Words("yes", "no"),
	"one-zero": OneZero, "chosen": Chosen}

func read(s *Setting, text string) string {
	v, err := s.Parse(text)
	if err != nil {
		return err.Error()
	}
	return fmt.Sprintf("%s, %q", v.form.name(), s.Text(v))
}

func (f form) name() string { return []string{"unset", "number", "word", "special"}[f] }

func described(s *Setting) []string {
	way := map[Direction]string{Higher: "higher is stronger", Lower: "lower is stronger", 0: "neither way is stronger"}[s.Stronger]
	said := []string{fmt.Sprintf("%s (%s, %s): %s. %s", s.ID, s.Kind, way, s.Title, s.Meaning)}
	said = append(said, "  takes "+s.Expects())
	for _, k := range s.Specials {
		rank := map[Rank]string{Weakest: "weakest", Strongest: "strongest", Undecided: "only a baseline can say"}[k.Rank]
		if k.Fails {
			rank += ", meets no demand that does not name it"
		}
		said = append(said, fmt.Sprintf("  %s, %q: %s", k.Special, k.Phrase, rank))
	}
	var on []string
	for _, p := range s.On {
		text := string(p)
		if r, ok := s.Limits[p]; ok {
			text += fmt.Sprintf(" [%s to %s]", s.Text(Number(r.Low)), s.Text(Number(r.High)))
		}
		if v, ok := s.Defaults[p]; ok {
			text += fmt.Sprintf(" (new: %s)", s.Text(v))
		}
		on = append(on, text)
	}
	said = append(said, "  on "+strings.Join(on, ", "))
	for _, p := range slices.SortedFunc(maps.Keys(s.Limits), func(a, b Platform) int { return cmp.Compare(a, b) }) {
		if !s.Exists(p) {
			said = append(said, fmt.Sprintf("  has a limit on %s, and does not exist there", p))
		}
	}
	if len(s.Of) > 0 {
		said = append(said, fmt.Sprintf("  the strongest of %v", s.Of))
	}
	return said
}
