package baseline

import (
	"slices"

	"sternledger/internal/core/setting"
)

// Unasked is a setting on which nothing is required, and why.
type Unasked struct {
	Setting setting.ID
	Why     string
}

// Golden makes demands of what is set somewhere: at least as strong as that. Where
// neither way is stronger, what is set is the most that is good. It says of each value
// that asks nothing why.
func Golden(values map[setting.ID]setting.Value) (demands []Demand, unasked []Unasked) {
	for _, s := range setting.Table() {
		v := values[s.ID]
		if !v.IsSet() || s.Of != nil { // what sums up others is told by them
			continue
		}
		c := Condition{Setting: s.ID, Specials: map[setting.Special]bool{}, Values: []setting.Value{v}}
		why := ""
		switch sp, special := v.Special(); {
		case special:
			c.Kind, why = Exactly, weakest(s, sp)
		case s.Choices != nil:
			if i := slices.Index(s.Choices, word(v)); s.Stronger == setting.Lower {
				c.Kind, c.Values = OneOf, words(s.Choices[:i+1])
			} else if c.Kind = AtLeast; s.Stronger == 0 {
				c.Kind = Exactly
			} else if i == 0 {
				why = "it is the weakest that can be set"
			}
			if len(c.Values) == len(s.Choices) {
				why = "it is the weakest that can be set"
			}
			if i := slices.Index(s.Choices, word(v)); s.Stronger == setting.Higher && i == len(s.Choices)-1 || len(c.Values) == 1 &&
				c.Kind == OneOf {
				c.Kind = Exactly
			}
		case s.Stronger == setting.Higher:
			if c.Kind = AtLeast; v == setting.Number(0) {
				why = "it is the weakest that can be set"
			}
		case s.Stronger == setting.Lower, hasUndecided(s):
			c.Kind = AtMost
		default:
			c.Kind = Exactly
		}
		if why != "" {
			unasked = append(unasked, Unasked{s.ID, why})
			continue
		}
		for _, k := range s.Specials {
			c.Specials[k.Special] = k.Rank == setting.Strongest || v == setting.Of(k.Special)
		}
		demands = append(demands, Demand{Condition: c})
	}
	return demands, unasked
}

func weakest(s *setting.Setting, sp setting.Special) string {
	if slices.ContainsFunc(s.Specials, func(k setting.Known) bool { return k.Special == sp && k.Rank == setting.Weakest }) {
		return "it is the weakest that can be set"
	}
	return ""
}

func hasUndecided(s *setting.Setting) bool {
	return slices.ContainsFunc(s.Specials, func(k setting.Known) bool { return k.Rank == setting.Undecided })
}

func word(v setting.Value) string { w, _ := v.Word(); return w }

func words(all []string) (out []setting.Value) {
	for _, w := range all {
		out = append(out, setting.Word(w))
	}
	return out
}
