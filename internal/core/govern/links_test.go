package govern

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"
)

// randomLinks is a domain of units with links of every kind, in the language of the tables,
// and a plain reading of it (MS-GPOL 3.2.5.1): the domain, then the units from the root down;
// within one the link that is listed last first; what is enforced afterwards, from the place
// up; a unit that blocks keeps out what is not enforced above it. Where a policy may or may
// not be let through, both are read.
type randomLinks struct {
	text  string
	units []string          // "" is the root
	links map[string][]link // in link order: the first wins
	block map[string]bool
	works map[string]grade // of each policy
	value map[string]int64
	at    []string // the units of the domain's controllers
	sites bool     // one enforces a policy on its machines, and where they are is not known
}

type link struct {
	policy             string
	enforced, disabled bool
}

func newRandomLinks(rnd *rand.Rand) *randomLinks {
	r := &randomLinks{links: map[string][]link{}, block: map[string]bool{}, works: map[string]grade{}, value: map[string]int64{}}
	var b strings.Builder
	letters := strings.Split("ABCDEFGHJK", "")[:3+rnd.IntN(7)]
	for _, x := range letters {
		r.value[x], r.works[x] = int64(8+rnd.IntN(3)), sure
		off := ""
		switch rnd.IntN(8) {
		case 0:
			off, r.works[x] = " off", no
		}
		fmt.Fprintf(&b, "template %s %d%s\n", x, r.value[x], off)
		switch rnd.IntN(12) {
		case 9:
			fmt.Fprintf(&b, "extensions %s none\n", x)
			r.works[x] = no
		case 10:
			fmt.Fprintf(&b, "extensions %s registry\n", x)
			r.works[x] = no // what the registry's extension applies is no length
		case 11:
			fmt.Fprintf(&b, "other %s\n", x)
			r.works[x] = no
		case 0:
			fmt.Fprintf(&b, "version %s 0 3\n", x)
			r.works[x] = no
		case 1:
			fmt.Fprintf(&b, "version %s - 0\n", x)
			r.works[x] = no
		case 2:
			fmt.Fprintf(&b, "version %s 2 0\n", x)
			r.works[x] = min(r.works[x], maybe)
		}
	}
	for _, x := range letters {
		switch rnd.IntN(7) {
		case 0:
			fmt.Fprintf(&b, "filter %s unseen\n", x)
			r.works[x] = min(r.works[x], maybe)
		case 1:
			fmt.Fprintf(&b, "filter %s wmi\n", x)
			r.works[x] = min(r.works[x], maybe)
		}
	}
	if r.sites = rnd.IntN(12) == 0; r.sites {
		b.WriteString("site\n")
	}
	letters = append(letters, "Z") // its template is not in the evidence: it may say anything
	r.works["Z"], r.value["Z"] = maybe, 99
	r.units = []string{""}
	for i := range 2 + rnd.IntN(4) {
		above := r.units[rnd.IntN(len(r.units))]
		r.units = append(r.units, strings.TrimPrefix(above+"/U"+strconv.Itoa(i), "/"))
	}
	for _, u := range r.units {
		words := []string{"unit", u}
		if u == "" {
			words[1] = "root"
		} else if rnd.IntN(3) == 0 {
			words, r.block[u] = append(words, "blocked"), true
		}
		order := rnd.Perm(len(letters))
		for _, i := range order[:rnd.IntN(min(4, len(letters)+1))] {
			l := link{letters[i], rnd.IntN(3) == 0, false}
			word := l.policy
			if l.enforced {
				word += "!"
			} else if rnd.IntN(6) == 0 {
				word, l.disabled = word+"-", true
			}
			if rnd.IntN(15) == 0 { // its GUID may be that of one of ours
				word, l.policy = word+"@", "Z"
			}
			words = append(words, word)
			r.links[u] = append([]link{l}, r.links[u]...) // gPLink lists the last to win first
		}
		b.WriteString(strings.Join(words, " ") + "\n")
	}
	for i := range rnd.IntN(4) {
		unit := r.units[1+rnd.IntN(len(r.units)-1)]
		r.at = append(r.at, unit)
		fmt.Fprintf(&b, "controller dc%d %s\n", i, unit)
	}
	r.text = b.String()
	return r
}

// valueAt is the value that comes of it at a place where these policies are let through; 0: none.
func (r *randomLinks) valueAt(place string, through map[string]bool) (value int64) {
	var chain []string // the root first
	steps := strings.Split(place, "/")
	chain = append(chain, "")
	for i := range steps {
		if place != "" {
			chain = append(chain, strings.Join(steps[:i+1], "/"))
		}
	}
	apply := func(enforced bool, from []string) {
		for _, u := range from {
			for i := len(r.links[u]) - 1; i >= 0; i-- { // the first wins: it is applied last
				if l := r.links[u][i]; l.enforced == enforced && !l.disabled && through[l.policy] {
					value = r.value[l.policy]
				}
			}
		}
	}
	start := 0
	for i, u := range chain {
		if r.block[u] {
			start = i
		}
	}
	apply(false, chain[start:])
	var up []string
	for i := len(chain) - 1; i >= 0; i-- {
		up = append(up, chain[i])
	}
	apply(true, up)
	return value
}

// plays are the values under every way in which what is open can go.
func (r *randomLinks) plays(place string) map[int64]bool {
	var open []string
	through := map[string]bool{}
	for x, g := range r.works {
		if through[x] = g == sure; g == maybe {
			open = append(open, x)
		}
	}
	all := map[int64]bool{}
	for n := range 1 << len(open) {
		for i, x := range open {
			through[x] = n>>i&1 == 1
		}
		all[r.valueAt(place, through)] = true
	}
	return all
}

// controllers compares what all controllers get, each by the links of its own place, and counts
// what is certain.
func (r *randomLinks) controllers(t *testing.T, x *Templates) int {
	if len(r.at) == 0 {
		return 0
	}
	want := map[int64]bool{}
	for _, unit := range r.at {
		for value := range r.plays(unit) {
			want[value] = true
		}
	}
	got := x.onControllers()["min-length"]
	switch {
	case r.sites: // nothing is certain, which is said behind this
		return 0
	case got == nil && !want[99] && (len(want) != 1 || !want[0]):
		t.Fatalf("nothing on the controllers, plainly %v\n%s", want, r.text)
	case got == nil || got.Open != "":
		return 0
	}
	if n, _ := got.Value.Number(); len(want) != 1 || !want[n] {
		t.Fatalf("the controllers: %d by %s, plainly %v\n%s", n, got.By.Name(), want, r.text)
	}
	return 1
}

// What templates come to at every place of random domains is what a plain reading gives, or
// open; and open only where the plain readings differ.
func TestRandomLinks(t *testing.T) {
	from, rounds := uint64(0), uint64(100)
	if n, err := strconv.ParseUint(os.Getenv("STERNLEDGER_ROUNDS"), 10, 64); err == nil {
		from, rounds = 1000, n
	}
	places, open, needless, told := 0, 0, 0, 0
	for seed := from; seed < from+rounds; seed++ {
		r := newRandomLinks(rand.New(rand.NewPCG(seed, 36)))
		x := linkedWorld(t, r.text)
		told += r.controllers(t, x)
		for _, u := range r.units {
			place := "DC=x,DC=example"
			if u != "" {
				place = "OU=" + strings.Join(reversed(strings.Split(u, "/")), ",OU=") + "," + place
			}
			want := r.plays(u)
			all, _ := x.configured(place, anyMachine)
			got := all["min-length"]
			places++
			if delete(want, 99); len(want) < len(r.plays(u)) && got != nil && got.Open == "" {
				t.Fatalf("seed %d at %q: %s, and one that is not seen may go before it\n%s", seed, u, got.By.Name(), r.text)
			}
			switch {
			case r.sites && got != nil && got.Open == "":
				t.Fatalf("seed %d at %q: %s, whatever a site enforces\n%s", seed, u, got.By.Name(), r.text)
			case r.sites || len(want) < len(r.plays(u)): // nothing is certain
			case got == nil && (len(want) != 1 || !want[0]):
				t.Fatalf("seed %d at %q: nothing, plainly %v\n%s", seed, u, want, r.text)
			case got == nil:
			case got.Open != "":
				if open++; len(want) == 1 {
					needless++
				}
			default:
				if n, _ := got.Value.Number(); len(want) != 1 || !want[n] {
					t.Fatalf("seed %d at %q: %d by %s, plainly %v\n%s", seed, u, n, got.By.Name(), want, r.text)
				}
			}
		}
	}
	if told < 5 {
		t.Errorf("only %d domains have controllers that all get one value", told)
	}
	if open*20 < places || needless*20 > open {
		t.Errorf("of %d places %d are open, %d of them for nothing", places, open, needless)
	}
	t.Logf("%d places, %d open, %d of them for nothing", places, open, needless)
}
