package probe

import (
	"slices"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// banned is the place's own list: of a Unix module, or of a tenant.
func banned(q *question) Outcome {
	switch {
	case q.is(setting.Blocklist, "audit"):
		return yes("banned words are only logged")
	case !q.is(setting.Blocklist, "on"):
		return Outcome{}
	case q.Asks == nil:
		return unknown("the list of banned words is not in the evidence")
	}
	if slices.Contains(unix, q.Platform) {
		o := q.each(func(m *estate.Asks) Outcome {
			if len(m.Words) == 0 {
				return Outcome{}
			}
			return judged(holdsWords(q.m.text, m.Words), "words of the machine's list must not be in it")
		})
		if o.Verdict == "" {
			return unknown("the list of banned words is not in the evidence")
		}
		return o
	}
	o := scored(q.m.text, q.Asks.Words)
	o.Cite = q.Asks.Cite
	return o
}

// directoryBanned is a tenant's list where it reaches into the domain.
func directoryBanned(q *question) Outcome {
	if q.Cloud == nil {
		return Outcome{}
	}
	o := yes("banned words of %s are only logged in the domain", q.Cloud.Tenant)
	if q.Cloud.Mode == setting.On {
		o = scored(q.m.text, q.Cloud.Words)
		// The tenant's word reaches only as far as its agents on the controllers.
		if o.Verdict == Accepted {
			o.Why += "; the tenant's agents ask the platform's own list as well, which is not in the evidence"
		}
		o = unknown("%s, where an agent of the tenant runs on the controllers; whether one does is not in the evidence", o.Why)
	}
	o.Cite = q.Cloud.Cite
	return o
}

// enough points, and a password is taken. Each banned word in it is one point,
// and so is each character besides.
const enough = 5

// shortestWord is the least length of a banned word.
const shortestWord = 4

// substitutions are taken back before words are looked for.
var substitutions = strings.NewReplacer("0", "o", "1", "l", "$", "s", "@", "a")

func normal(text string) string { return substitutions.Replace(strings.ToLower(text)) }

// scored scores a password as directory tenants do. Whether a word with one
// letter wrong inside a longer password counts as that word, the platform's
// description leaves open: where that decides, it cannot be told.
func scored(password string, words []string) Outcome {
	text := []rune(normal(password))
	var list [][]rune
	for _, w := range words {
		if r := []rune(normal(w)); len(r) >= shortestWord {
			list = append(list, r)
		}
	}
	strict := points(text, list, func(part, word []rune) bool { return string(part) == string(word) })
	loose := points(text, list, func(part, word []rune) bool { return len(part) == len(word) && near(part, word) })
	whole := false
	for _, w := range list {
		whole = whole || near(text, w)
	}
	switch {
	case whole:
		return no("it is a banned word, but for one letter at the most")
	case strict < enough:
		return no("%d points after banned words are taken together, %d are needed", strict, enough)
	case loose < enough:
		return unknown("%d points, or %d if banned words with a letter wrong are found inside; %d are needed", strict, loose, enough)
	}
	return yes("%d points after banned words are taken together, %d are needed", strict, enough)
}

// points is the least number of points that a password can be cut into.
func points(text []rune, words [][]rune, same func(part, word []rune) bool) int {
	least := make([]int, len(text)+1)
	for end := 1; end <= len(text); end++ {
		least[end] = least[end-1] + 1
		for _, w := range words {
			if n := len(w); n <= end && least[end-n]+1 < least[end] && same(text[end-n:end], w) {
				least[end] = least[end-n] + 1
			}
		}
	}
	return least[len(text)]
}

// near reports whether one change, insertion or removal of a letter at the
// most makes one of the other.
func near(a, b []rune) bool {
	if len(a) > len(b) {
		a, b = b, a
	}
	if len(b)-len(a) > 1 {
		return false
	}
	i := 0
	for i < len(a) && a[i] == b[i] {
		i++
	}
	if len(a) == len(b) {
		return i == len(a) || string(a[i+1:]) == string(b[i+1:])
	}
	return string(a[i:]) == string(b[i+1:])
}

// CloudFor makes of a tenant's settings what a domain is held to; nil where the
// tenant does not reach into the domain.
func CloudFor(tenant string, mode setting.Value, asks *estate.Asks, at estate.Cite) *Cloud {
	if !mode.IsSet() || mode == setting.Word("off") {
		return nil
	}
	c := &Cloud{Tenant: tenant, Mode: mode, Cite: at}
	if asks != nil {
		c.Words = asks.Words
	}
	return c
}
