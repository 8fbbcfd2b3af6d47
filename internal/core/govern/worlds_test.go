package govern

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/landtest"
	"sternledger/internal/core/setting"
	"sternledger/internal/worldtest"
)

// TestWorlds plays testdata/worlds.txt: lands of several places (in the language of land)
// and domains (in that of world), each with who is governed by what there, what lost to
// it, and why. A line "played as DIALECT" says by which server; one "tier NAME WORD=VALUE…"
// adds a tier.
func TestWorlds(t *testing.T) {
	worldtest.Play(t, "worlds.txt", func(t *testing.T, lines []string) []string {
		var dialect estate.Dialect
		var tiers []TierRule
		var rest []string
		for _, line := range lines {
			if d, ok := strings.CutPrefix(line, "played as "); ok {
				dialect = estate.Dialect(d)
			} else if words, ok := strings.CutPrefix(line, "tier "); ok {
				tiers = append(tiers, ruled(strings.Fields(words)))
			} else {
				rest = append(rest, line)
			}
		}
		text := strings.Join(rest, "\n")
		var e *estate.Estate
		switch first, _, _ := strings.Cut(text, " "); first {
		case "domain", "machine", "ldap", "tenant", "random", "machines", "realm", "forest":
			e = landtest.Land(t, text)
		default:
			e = &estate.Estate{Authorities: []*estate.Authority{world(t, text)}}
		}
		return governed(t, NewSurvey(e, func(*estate.Authority) estate.Dialect { return dialect }, tiers))
	})
}

func ruled(words []string) TierRule {
	rule := TierRule{Name: words[0]}
	for _, w := range words[1:] {
		kind, value, _ := strings.Cut(w, ":")
		value = strings.ReplaceAll(value, "_", " ")
		switch kind {
		case "groups":
			rule.Groups = append(rule.Groups, value)
		case "accounts":
			rule.Accounts = append(rule.Accounts, value)
		case "units":
			rule.Units = append(rule.Units, value)
		case "sids":
			rule.SIDs = append(rule.SIDs, value)
		}
	}
	return rule
}

// governed says all that the survey knows of accounts, policies and scopes.
func governed(t *testing.T, s *Survey) (said []string) {
	t.Helper()
	for i, a := range s.Estate.Authorities {
		r := s.Resolutions[i]
		nameAt := func(row int) string {
			if row == estate.NotFound {
				return "-"
			}
			return strings.TrimSuffix(strings.TrimPrefix(a.DN(row), "CN="), ",DC=x,DC=example")
		}
		for row := range a.Objects.Len() {
			if a.Objects.ClassOf(row) != estate.Account {
				continue
			}
			scope, g := s.ScopeOf(i, row)
			tier, by := s.TierOf(i, row)
			line := fmt.Sprintf("%s: %s, %s", nameAt(row), scope.PolicyName(), g.Rule)
			if g.At == nil && g.Via != estate.NotFound {
				line += " by " + nameAt(g.Via)
			}
			if tier != Standard {
				line += fmt.Sprintf("; %s, %v", tier, by)
			}
			if g.Why != "" {
				line += fmt.Sprintf("; %s (doubt %d)", g.Why, g.Doubt.Kind)
			}
			if g.Answered {
				line += "; answered"
			}
			if g.At != nil {
				line += "; at " + g.At.Label() + " " + string(g.Way)
			}
			said = append(said, line)
			own, flags := WithFlags(scope.Settings, a, row), ""
			for _, id := range slices.Sorted(maps.Keys(own)) {
				if e, was := own[id], scope.Settings[id]; e.Value != was.Value || e.From != was.From || e.Missing != was.Missing {
					flags += fmt.Sprintf(" %s %s (%s) %s%s %s;", id, setting.Get(id).Text(e.Value), e.From, e.Missing, e.Problem, e.Cite)
				}
			}
			if flags != "" {
				said = append(said, "  by its own flags:"+flags)
			}
			var closed []*estate.Policy
			for _, c := range r.Candidates(row) {
				if !c.Open {
					closed = append(closed, c.Policy)
				}
				chain := ""
				for _, group := range c.Chain {
					chain += " " + nameAt(group)
				}
				said = append(said, fmt.Sprintf("  %s %s: %s (direct %v, open %v,%s)", c.Policy.Name, c.Outcome, c.Why, c.Direct, c.Open, chain))
			}
			if surely := r.Surely(row); policyNames(surely) != policyNames(closed) {
				said = append(said, "  but surely "+policyNames(surely))
			}
			if next, decided := r.Without(row); g.Rule == Direct || g.Rule == Group {
				name := "own"
				if next != nil {
					name = next.Name
				}
				said = append(said, fmt.Sprintf("  without: %s, decided %v", name, decided))
			}
		}
		for k := range a.Overrides {
			p := &a.Overrides[k]
			var names []string
			for _, row := range r.Reaches(p) {
				names = append(names, nameAt(row))
			}
			for _, x := range p.Targets {
				if _, why := r.Ignored(x); why != "" {
					names = append(names, "("+why+")")
				}
			}
			line := fmt.Sprintf("%s reaches: %s", p.Name, strings.Join(names, ", "))
			if !r.ReachKnown(p) {
				line += ", and perhaps more"
			}
			said = append(said, line)
		}
	}
	for i, a := range s.Estate.Authorities {
		for row := range a.Objects.Len() {
			if names := policyNames(s.Resolutions[i].Carried(row)); a.Kind == estate.Domain && names != "" {
				said = append(said, a.DN(row)+" carries "+names)
			}
		}
		if a.Unsynced {
			said = append(said, a.Label()+" takes nobody from a domain")
		}
	}
	said = append(said, templated(s)...)
	for i, a := range s.Estate.Authorities {
		for k, of := range s.Estate.Authorities {
			if s.Resolutions[i].DrawsOn(k) {
				said = append(said, a.Label()+" draws on "+of.Label())
			}
		}
		if own := s.OwnSettings(i); len(own) > 0 && a.Kind != estate.Machine {
			line := a.Label() + " itself:"
			for _, id := range slices.Sorted(maps.Keys(own)) {
				if e := own[id]; e.Missing == Present || e.Problem != "" || e.Open != "" {
					line += fmt.Sprintf(" %s %s %s%s;", id, setting.Get(id).Text(e.Value), e.Problem, e.Open)
				}
			}
			said = append(said, line)
		}
	}
	for _, x := range s.Scopes {
		line := fmt.Sprintf("scope %s: %s, %d accounts (listed %v), %d enabled, examples %v, on %s, counted by %s, under %v;", x.Name(), x.Rule,
			x.Accounts, x.Listed(), x.Enabled, x.Examples, x.Platform(), x.Counter(), x.Under())
		for _, id := range slices.Sorted(maps.Keys(x.Settings)) {
			e := x.Settings[id]
			if e.Missing != Present && x.Now(id).IsSet() || e.Missing == Present && x.Now(id) != e.Value {
				t.Errorf("%s of %s is now %s", id, x.Name(), setting.Get(id).Text(x.Now(id)))
			}
			if e.Missing == Present {
				line += fmt.Sprintf(" %s %s from %s;", id, setting.Get(id).Text(e.Value), e.From)
				if id == "mfa" || id == "mfa-capable" { // of the accounts, by one of them
					line += " " + e.Cite.String() + ";"
				}
			} else if e.Open != "" || e.Configured {
				line += fmt.Sprintf(" %s %s, configured %v, open %s;", id, e.Missing, e.Configured, e.Open)
			} else if e.Problem != "" {
				line += fmt.Sprintf(" %s %s: %s;", id, e.Missing, e.Problem)
			}
		}
		said = append(said, line)
	}
	return said
}

// templated says which templates act where, and what they set.
func templated(s *Survey) (said []string) {
	for i, a := range s.Estate.Authorities {
		if a.Kind != estate.Domain {
			continue
		}
		t := s.Templates[i]
		tell := func(where string, links []Linked) {
			for _, l := range links {
				said = append(said, fmt.Sprintf("%s: %d. %s by %s, enforced %v, idle %q, open %q, reaches %d", where, l.Order, l.Name(),
					l.Unit.DN, l.Link.Enforced, l.Idle, l.Open, len(t.Machines(l))))
			}
			configured := Configured(links)
			line := where + " has"
			for _, id := range slices.Sorted(maps.Keys(configured)) {
				v := configured[id]
				line += fmt.Sprintf(" %s %s%s by %s %s;", id, setting.Get(id).Text(v.Value), v.Problem, v.By.Name(), v.Open)
				if v.differs() {
					line += " not by all;"
				}
			}
			if len(configured) > 0 {
				said = append(said, line)
			}
		}
		tell(a.Label(), t.Root())
		for row := range a.Objects.Len() {
			if a.Objects.ClassOf(row) == estate.Computer {
				tell(a.Objects.Name.At(row), t.At(a.Parents[a.Objects.Parent.At(row)], []Machine{t.Machine(row)}))
			}
		}
		for _, u := range t.Places() {
			line := fmt.Sprintf("links at %s:", u.DN)
			for _, l := range t.Links(u) {
				line += fmt.Sprintf(" %s %q %q (kept out %v);", l.Name(), l.Idle, l.Open, l.KeptOut())
			}
			said = append(said, line)
		}
		for k := range s.Estate.Templates {
			if ids := AccountSettings(&s.Estate.Templates[k]); len(ids) > 0 {
				said = append(said, fmt.Sprintf("%s would set %v", s.Estate.Templates[k].GUID, ids))
			}
		}
		for _, tpl := range t.Unlinked() {
			said = append(said, "nothing links "+t.NameOf(tpl))
		}
	}
	setters, unseen := s.Setters()
	for _, x := range setters {
		said = append(said, fmt.Sprintf("%s: %s set to %s by %s %s", x.Place, x.Setting, setting.Get(x.Setting).Text(x.Value), x.Name, x.Open))
	}
	for _, at := range slices.SortedFunc(maps.Keys(unseen), estate.Place.Compare) {
		said = append(said, fmt.Sprintf("%s: %s acts, and is not seen", at, unseen[at]))
	}
	return said
}
