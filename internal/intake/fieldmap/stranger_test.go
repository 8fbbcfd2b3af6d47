package fieldmap

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
)

// What maps of products can say that none of those shipped needs: each map with an export, and the
// settings of each account.
func TestFurtherWaysToSay(t *testing.T) {
	const (
		begin = "id: x\ntitle: X\nfollows: the manual\nplatform: other\n"
		users = `{"people": [{"login": "ada", "set": 1767225600, "own": {"least": 20}, "unit": "/a"}, {"login": "bo", "set": 1767225600000, "own": {}, "unit": "/a/b"}, {"login": "cy", "set": "2026-01-01T00:00:00Z", "unit": "/"}]}`
		who   = "accounts:\n  - {export: people, each: '$.people[*]', name: login, password-set: set}\n"
		rules = `{"rules": [{"name": "a", "what": "least", "value": 8, "for": []}, {"name": "a", "what": "keeps", "value": 5, "for": []}, {"name": "b", "what": "least", "value": 12, "for": ["g"]}, {"name": "c", "what": "keeps", "value": 3, "for": ["h"]}]}`
		heads = "exports:\n  - {id: people, json: ['$.people']}\n  - {id: rules, json: ['$.rules']}\n  - {id: crews, json: ['$.crews']}\n"
		crews = `{"crews": [{"id": "g", "name": "g", "in": [], "held": ["ada"]}, {"id": "h", "name": "h", "in": ["g"], "held": ["bo"]}, {"id": "far", "name": "far", "in": []}]}`
		rows  = "policies:\n  export: rules\n  each: '$.rules[*]'\n  name: name\n  rows: true\n  groups: '$.for[*]'\n  settings:\n" +
			"    - {setting: min-length, at: value, only: [{at: what, is: [least]}]}\n    - {setting: history, at: value, only: [{at: what, is: [keeps]}]}\n"
		groups = "groups: {export: crews, each: '$.crews[*]', id: id, name: name, parents: '$.in[*]', members: '$.held[*]'}\n"
	)
	for name, c := range map[string]struct {
		yaml  string
		files []string
		want  string // by account: length, history, lockout duration
	}{
		"units of time": {begin + "exports:\n  - {id: people, json: ['$.people']}\n  - {id: rules, json: ['$.wait']}\nsettings:\n" +
			"  - {setting: lockout-duration, export: rules, at: wait, unit: milliseconds}\n  - {setting: max-age, export: rules, at: ages, unit: weeks}\n" + who,
			[]string{"people.json", users, "rules.json", `{"wait": 900000, "ages": 4}`}, "ada - - 900; bo - - 900; cy - - 900"},
		"half a second": {begin + "exports:\n  - {id: people, json: ['$.people']}\n  - {id: rules, json: ['$.wait']}\nsettings:\n" +
			"  - {setting: lockout-duration, export: rules, at: wait, unit: milliseconds}\n" + who,
			[]string{"people.json", users, "rules.json", `{"wait": 900500}`}, "ada - - ?; bo - - ?; cy - - ?"},
		"settings of their own": {begin + "exports:\n  - {id: people, json: ['$.people']}\n  - {id: rules, json: ['$.least']}\nsettings:\n" +
			"  - {setting: min-length, export: rules, at: least}\naccounts:\n  - {export: people, each: '$.people[*]', name: login, settings: [{setting: min-length, at: $.own.least}]}\n",
			[]string{"people.json", users, "rules.json", `{"least": 9}`}, "ada 20 - -; bo 9 - -; cy 9 - -"},
		// h is in g: bo is under b and c, too, and ada under b.
		"the strictest of rows, groups by their parents": {begin + heads + rows + "  strictest: true\n" + groups + who,
			[]string{"people.json", users, "rules.json", rules, "crews.json", crews}, "ada 12 5 -; bo 12 5 -; cy 8 5 -"},
		// What a row does not set has its default only where no row sets it; and rows of one policy that are for others leave it open.
		"defaults of rows": {begin + heads + strings.ReplaceAll(rows, "is: [keeps]}]}", "is: [keeps]}], default: {value: '2', source: the manual}}") + "  strictest: true\n" + groups + who,
			[]string{"people.json", users, "rules.json", `{"rules": [{"name": "a", "what": "least", "value": 8, "for": []}, {"name": "a", "what": "keeps", "value": 5, "for": []}]}`,
				"crews.json", crews}, "ada 8 5 -; bo 8 5 -; cy 8 5 -"},
		"rows for others": {begin + heads + rows + "  strictest: true\n" + groups + who,
			[]string{"people.json", users, "rules.json", `{"rules": [{"name": "a", "what": "least", "value": 8, "for": ["g"]}, {"name": "a", "what": "keeps", "value": 5, "for": ["h"]}]}`,
				"crews.json", crews}, "ada - - -; bo - - -; cy - - -"},
		"of their own, not asked for": {begin + "exports:\n  - {id: people, json: ['$.people']}\n  - {id: rules, json: ['$.least']}\nsettings:\n" +
			"  - {setting: min-length, export: rules, at: least}\naccounts:\n  - {export: people, each: '$.people[*]', name: login, settings: [{setting: min-length, at: $.own.least, shown: true}]}\n",
			[]string{"people.json", users, "rules.json", `{"least": 9}`}, "ada 20 - -; bo ? - -; cy ? - -"},
		"as the unit above says": {begin + "exports:\n  - {id: people, json: ['$.people']}\n  - {id: rules, json: ['$.of']}\n  - {id: places, json: ['$.places']}\n" +
			"units: {export: places, each: '$.places[*]', id: id, path: path, in: unit, policies: {export: rules, each: '$.of[*]', unit: unit, settings: [{setting: min-length, at: least, inherit: [AS_ABOVE]}]}}\n" + who,
			[]string{"people.json", users, "rules.json", `{"of": [{"unit": "1", "least": 8}, {"unit": "2", "least": 14}, {"unit": "3", "least": "AS_ABOVE"}]}`,
				"places.json", `{"places": [{"id": "1", "path": "/"}, {"id": "2", "path": "/a"}, {"id": "3", "path": "/a/b"}]}`}, "ada 14 - -; bo 14 - -; cy 8 - -"},
	} {
		m, err := Parse("m.yaml", []byte(c.yaml))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		b := estate.NewBuilder()
		if err := read([]*Map{m}, tree(c.files...), b); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		e := &estate.Estate{Authorities: b.Finish()}
		s := govern.NewSurvey(e, func(*estate.Authority) estate.Dialect { return "" }, nil)
		said := map[string]string{}
		for row := range e.Authorities[0].Objects.Len() {
			o := e.Authorities[0].Objects
			if o.ClassOf(row) != estate.Account {
				continue
			}
			scope, _ := s.ScopeOf(0, row)
			text := o.Name.At(row)
			for _, id := range []string{"min-length", "history", "lockout-duration"} {
				word := "-"
				for set, x := range scope.Settings {
					switch {
					case string(set) != id:
					case x.Missing == govern.Present:
						v, _ := x.Value.MarshalText()
						word = string(v)
					case x.Missing != govern.NotCollected:
						word = "?"
					}
				}
				text += " " + word
			}
			said[o.Name.At(row)] = text
			if name == "units of time" && o.PwdSet.At(row) != 1767225600 {
				t.Errorf("%s: the password of %s was set at %d", name, o.Name.At(row), o.PwdSet.At(row))
			}
		}
		var all []string
		for _, who := range slices.Sorted(maps.Keys(said)) {
			all = append(all, said[who])
		}
		if got := strings.Join(all, "; "); got != c.want {
			t.Errorf("%s: %s, want %s", name, got, c.want)
		}
	}
}

// All mistakes of a map are told at once.
func TestAllMistakesOfAMap(t *testing.T) {
	_, err := Parse("m.yaml", []byte("id: x\ntitle: X\nplatform: other\nexports: [{id: e, json: [$.a]}]\nsettings: [{setting: lenght, export: e, at: a}, {setting: history, export: f, at: a}]\n"+
		"fixed: [{setting: history, value: 5}]\naccounts: [{export: e, each: $.b, flags: [{flag: tall, at: c}]}]\n"))
	for _, want := range []string{"lenght", `unknown export "f"`, "needs its source", "name or id", `"tall"`} {
		if !strings.Contains(fmt.Sprint(err), want) {
			t.Errorf("%v, want %s", err, want)
		}
	}
}
