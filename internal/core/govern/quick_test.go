package govern

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/landtest"
)

// memory keeps columns as a ledger does.
type memory map[string][][]byte

func (m memory) Sizes(column string) (all []int, err error) {
	for _, chunk := range m[column] {
		all = append(all, len(chunk))
	}
	return all, nil
}

func (m memory) Part(column string, chunk, from, to int) ([]byte, error) {
	if chunk >= len(m[column]) {
		return nil, nil
	}
	return m[column][chunk][from:to], nil
}

// around is an authority as it is read around one account.
func around(t *testing.T, a *estate.Authority, name string) *estate.Authority {
	t.Helper()
	m := memory{}
	keep := func(name string, c estate.Column) bool {
		for i := range c.Chunks() {
			m[name] = append(m[name], c.Chunk(i))
		}
		return true
	}
	q := estate.NewQuick(a.Objects)
	a.Objects.Columns()(keep)
	q.Columns()(keep)
	part := *a
	part.Overrides = slices.Clone(a.Overrides)
	for i := range part.Overrides {
		part.Overrides[i].Targets = slices.Clone(part.Overrides[i].Targets)
	}
	part.Policies = slices.Clone(a.Policies)
	for i := range part.Policies {
		part.Policies[i].Rows = slices.Clone(part.Policies[i].Rows)
	}
	if err := part.TakeAround(q, m, estate.Seek{Names: []string{name}}); err != nil {
		t.Fatal(err)
	}
	return &part
}

// saidOf is all that is said of one account.
func saidOf(a *estate.Authority, dialect estate.Dialect, tiers []TierRule, name string) string {
	row := 0
	for a.Objects.ClassOf(row) != estate.Account || a.Objects.Name.At(row) != name {
		row++
	}
	s := Prepare(&estate.Estate{Authorities: []*estate.Authority{a}}, func(*estate.Authority) estate.Dialect { return dialect }, tiers)
	r := s.Resolutions[0]
	g := r.Of(row)
	tier, why := s.TierOf(0, row)
	text := fmt.Sprintf("%s %s %s by %s, %s %s, %v", g.Rule, g.Why, policyOf(g), dnAt(a, g.Via), tier, why, g.Answered)
	for _, c := range r.Candidates(row) {
		text += fmt.Sprintf("; %s %s %s %v %v", c.Policy.Name, c.Outcome, c.Why, c.Direct, c.Open)
		for _, group := range c.Chain {
			text += " " + dnAt(a, group)
		}
	}
	next, decided := r.Without(row)
	return text + fmt.Sprint("; without ", policyOf(Governing{Policy: next}), decided)
}

func policyOf(g Governing) string {
	if g.Policy == nil {
		return "none"
	}
	return g.Policy.Name
}

func dnAt(a *estate.Authority, row int) string {
	if row == estate.NotFound {
		return "-"
	}
	return a.DN(row)
}

// Around one account, everything said of it is as it is with all of them.
func TestAroundOneAccount(t *testing.T) {
	tiers := []TierRule{{Name: "crew", Groups: []string{"g1", "g2", "crew"}}, {Name: "odd", Accounts: []string{"a1*"}}}
	asked := 0
	check := func(world string, a *estate.Authority) {
		for row := range a.Objects.Len() {
			if a.Objects.ClassOf(row) != estate.Account {
				continue
			}
			name := a.Objects.Name.At(row)
			part := around(t, a, name)
			for _, dialect := range []estate.Dialect{estate.Windows, estate.Samba, ""} {
				asked++
				if got, want := saidOf(part, dialect, tiers, name), saidOf(a, dialect, tiers, name); got != want {
					t.Fatalf("%s, %s of %q:\n%s, with all\n%s", world, name, dialect, got, want)
				}
			}
		}
	}
	for seed := range uint64(25) {
		text := randomWorld(rand.New(rand.NewPCG(seed, 8)))
		if seed%5 == 1 {
			text += "without members\n"
		} else if seed%5 == 2 {
			text += "points a3 gone\nanswer a4 p1\n"
		}
		check(text, world(t, text))
	}
	data, err := os.ReadFile("testdata/worlds.txt")
	if err != nil {
		t.Fatal(err)
	}
	for _, text := range strings.Split(string(data), "\n== ")[1:] {
		title, body, _ := strings.Cut(text, "\n")
		var lines []string
		for _, line := range strings.Split(strings.TrimSpace(body), "\n") {
			if !strings.HasPrefix(line, ">") && !strings.HasPrefix(line, "played as ") && !strings.HasPrefix(line, "tier ") {
				lines = append(lines, line)
			}
		}
		switch strings.Fields(lines[0])[0] {
		case "domain", "machine", "ldap", "tenant":
			for _, a := range landtest.Land(t, strings.Join(lines, "\n")).Authorities {
				if a.Kind == estate.Domain {
					check(title, a)
				}
			}
		default:
			check(title, world(t, strings.Join(lines, "\n")))
		}
	}
	if asked < 3000 {
		t.Errorf("only %d answers were compared", asked)
	}
}
