package baseline

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"sternledger/internal/core/setting"
)

const cyber = `- any-of:
    - [{setting: min-length, at-least: 12 characters}]
    - [{setting: min-length, at-least: 8 characters}, {setting: banned-list, exactly: on}]
    - [{setting: min-length, at-least: 8 characters}, {setting: mfa, exactly: all}]
  severity: grave
  why: w.
`

func ownOf(t *testing.T, demands string) *Baseline {
	t.Helper()
	b, err := Parse("own.yaml", []byte("id: own\ntitle: T\nversion: 1\nfor: {platforms: [windows-domain, unix-machine, "+
		"cloud-directory]}\ndemands:\n"+demands))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func TestWaysAreReadAndWritten(t *testing.T) {
	b := ownOf(t, cyber)
	d := &b.Demands[0]
	const want = "at least 12 characters, or at least 8 characters with list of banned passwords on, or at least 8 characters with second " +
		"factor all"
	if d.Text() != want || d.Setting != "min-length" || d.Kind != AnyOf {
		t.Errorf("%q, about %s, %s", d.Text(), d.Setting, d.Kind)
	}
	text, err := b.YAML()
	if err != nil {
		t.Fatal(err)
	}
	again, err := Parse("own.yaml", text)
	if err != nil {
		t.Fatalf("%v in\n%s", err, text)
	}
	if !reflect.DeepEqual(again.Demands[0].Ways, d.Ways) || again.Demands[0].Text() != want {
		t.Errorf("reads back as %q:\n%s", again.Demands[0].Text(), text)
	}
}

func TestMistakesInWays(t *testing.T) {
	for name, c := range map[string]struct{ demands, want string }{
		"one way":   {"- {any-of: [[{setting: history, at-least: 4}]], severity: minor, why: w.}", ":6:24: any-of with fewer than two ways"},
		"none":      {"- {any-of: [], severity: minor, why: w.}", "any-of with fewer than two ways"},
		"empty way": {"- {any-of: [[{setting: history, at-least: 4}], []], severity: minor, why: w.}", "way 2 of any-of asks nothing"},
		"beside setting": {"- {setting: history, any-of: [[{setting: history, at-least: 4}], [{setting: complexity, exactly: on}]], severity: " +
			"minor, why: w.}", "any-of and setting beside each other"},
		"beside value": {"- {at-least: 4, any-of: [[{setting: history, at-least: 4}], [{setting: complexity, exactly: on}]], severity: " +
			"minor, why: w.}", "any-of and a value beside each other"},
		"twice": {"- {any-of: [[{setting: history, at-least: 4}, {setting: history, at-most: 9}], [{setting: complexity, exactly: " +
			"on}]], severity: minor, why: w.}", "a second condition on history in one way"},
		"implied": {"- {any-of: [[{setting: history, at-least: 4}], [{setting: history, at-least: 9}]], severity: minor, why: w.}",
			"way 2 of any-of asks all that way 1 does"},
		"implied before": {"- {any-of: [[{setting: history, at-least: 9}, {setting: complexity, exactly: on}], [{setting: history, at-least: " +
			"4}]], severity: minor, why: w.}", "way 1 of any-of asks all that way 2 does"},
		"special unsaid": {"- {any-of: [[{setting: max-age, at-most: 9 days}], [{setting: complexity, exactly: on}]], severity: minor, why: " +
			"w.}", "must say whether \"never\" holds or fails"},
		"unknown setting": {"- {any-of: [[{setting: min-lenght, at-least: 9}], [{setting: complexity, exactly: on}]], severity: minor, why: " +
			"w.}", "unknown setting \"min-lenght\"; the nearest is \"min-length\""},
		"unknown key": {"- {any-of: [[{setting: history, at-lest: 9}], [{setting: complexity, exactly: on}]], severity: minor, why: w.}",
			"unknown key \"at-lest\"; the nearest is \"at-least\""},
		"nowhere": {"- {any-of: [[{setting: ticket-lifetime, at-most: 9 hours, specials: {never: fails}}], [{setting: clock-skew, " +
			"at-most: 5 minutes}]], platforms: [unix-machine], severity: minor, why: w.}",
			"none of its platforms ([unix-machine]) has the settings of any of its ways"},
		"no severity": {"- {any-of: [[{setting: history, at-least: 4}], [{setting: complexity, exactly: on}]], why: w.}",
			":6:24: severity \"\""},
		"twice in a file": {cyber + cyber, "a second demand on min-length for the same platform and tier; the first is on line 7"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := Parse("own.yaml", []byte("id: own\ntitle: T\nversion: 1\nfor: {platforms: [windows-domain, unix-machine, "+
				"cloud-directory]}\ndemands:\n"+c.demands))
			if err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%v, want %s", err, c.want)
			}
		})
	}
}

// Of one file a condition and ways hold side by side; an own baseline's demand goes
// before both of the one that it extends.
func TestWaysBesideConditions(t *testing.T) {
	under := ownOf(t, cyber+"- {setting: min-length, at-most: 64, severity: minor, why: w.}\n- {setting: history, at-least: 4, severity: "+
		"minor, why: w.}\n")
	named := func(b *Baseline, tier string) (all []string) {
		for _, d := range b.For(setting.UnixMachine, tier, Situation{Factor: Only}) {
			all = append(all, fmt.Sprintf("%s %s %s", d.Setting, d.Kind, d.From))
		}
		return all
	}
	if got := named(under, "standard"); !reflect.DeepEqual(got, []string{"min-length any-of ", "min-length at-most ", "history at-least "}) {
		t.Errorf("%q", got)
	}
	own, err := Parse("mine.yaml", []byte("id: mine\ntitle: T\nversion: 1\nextends: own\ndemands:\n- {setting: min-length, at-least: 14, "+
		"tiers: [privileged], severity: minor, why: w.}\n"))
	if err != nil {
		t.Fatal(err)
	}
	all, err := own.over(under)
	if err != nil {
		t.Fatal(err)
	}
	if got := named(all, "privileged"); !reflect.DeepEqual(got, []string{"min-length at-least ", "history at-least own"}) {
		t.Errorf("%q", got)
	}
	if got := named(all, "standard"); len(got) != 3 {
		t.Errorf("%q", got)
	}
}

// world is settings with a few values each, and random demands on them.
type world struct{ r *rand.Rand }

var choices = map[setting.ID][]string{"min-length": {"0", "7", "8", "12", "14", "20"}, "history": {"0", "4", "24"},
	"complexity": {"off", "on"},
	"max-age":    {"30 days", "90 days", "365 days", "never"}, "blocklist": {"off", "audit", "on"}}

var involved = []setting.ID{"min-length", "history", "complexity", "max-age", "blocklist"}

func (w world) condition(id setting.ID) string {
	pick := func() string { return choices[id][w.r.IntN(len(choices[id]))] }
	specials := ""
	if id == "max-age" {
		specials = ", specials: {never: " + []string{"holds", "fails"}[w.r.IntN(2)] + "}"
	}
	value := pick()
	for value == "never" {
		value = pick()
	}
	kind := []string{"at-least", "at-most"}[w.r.IntN(2)]
	if w.r.IntN(3) == 0 {
		return fmt.Sprintf("{setting: %s, one-of: [%s, %s]%s}", id, value, pick(), specials)
	}
	return fmt.Sprintf("{setting: %s, %s: %s%s}", id, kind, value, specials)
}

// demand is a random one about a setting, with ways more often than not.
func (w world) demand(id setting.ID) string {
	if w.r.IntN(3) == 0 {
		return "- " + strings.TrimSuffix(w.condition(id), "}") + ", severity: minor, why: w.}\n"
	}
	text := "- any-of:\n"
	for i := range 2 + w.r.IntN(2) {
		conditions := []string{w.condition(id)}
		if i > 0 && w.r.IntN(5) == 0 {
			conditions = nil
		}
		for _, other := range involved[1:] {
			if w.r.IntN(3) == 0 || conditions == nil {
				conditions = append(conditions, w.condition(other))
			}
		}
		text += "    - [" + strings.Join(conditions, ", ") + "]\n"
	}
	return text + "  severity: minor\n  why: w.\n"
}

func (w world) values() map[setting.ID]setting.Value {
	all := map[setting.ID]setting.Value{}
	for id, texts := range choices {
		all[id], _ = setting.Get(id).Parse(texts[w.r.IntN(len(texts))])
	}
	return all
}

func meets(d *Demand, values map[setting.ID]setting.Value) bool {
	for _, way := range d.AllWays() {
		all := true
		for i := range way {
			all = all && way[i].Met(values[way[i].Setting])
		}
		if all {
			return true
		}
	}
	return false
}

// What reconcile says satisfies all does, and nothing else; what is taken can be
// followed.
func TestWaysTogether(t *testing.T) {
	w := world{rand.New(rand.NewPCG(1, 20))}
	agreed, split, followed := 0, 0, 0
	for range 400 {
		var all []*Baseline
		for len(all) < 2 {
			text := w.demand("min-length")
			if w.r.IntN(2) == 0 {
				text += w.demand("history")
			}
			b, err := Parse("x.yaml", []byte("id: x\ntitle: T\nversion: 1\nfor: {platforms: [cloud-directory, windows-domain, "+
				"windows-machine]}\ndemands:\n"+text))
			if err == nil { // ways that add nothing are refused
				all = append(all, b)
			}
		}
		where := where{setting.WindowsDomain, "", Situation{Factor: Only}}
		demands := demandsAt(all, "min-length", where)
		ways := allWays("min-length", demands, nil)
		if len(ways) == 0 {
			split++
		}
		for range 60 {
			values := w.values()
			all, one := true, false
			for _, n := range demands {
				all = all && meets(n.Demand, values)
			}
			for _, way := range ways {
				met := way.Band.Has(values["min-length"])
				for _, b := range way.Beside {
					met = met && b.Has(values[b.Setting])
				}
				one = one || met
			}
			if all != one {
				t.Fatalf("%v: all met %v, said %v; %v", values, all, one, ways)
			}
			if all {
				agreed++
			}
			taken := Take("min-length", demands, func(id setting.ID) setting.Value { return values[id] })
			if len(ways) > 0 {
				if followed++; !follow(taken, values, demands) {
					t.Fatalf("%v: following %v does not meet %v, and %v would", values, taken, demands, ways)
				}
			}
			if all && !unchanged(taken, values) {
				t.Fatalf("%v: all are met, and yet %v asks for changes", values, taken)
			}
		}
	}
	if agreed == 0 || split == 0 || followed < 10_000 {
		t.Errorf("%d agreed, %d split, %d followed", agreed, split, followed)
	}
}

// follow does what was taken, and reports whether all demands are met then.
func follow(taken Taken, values map[setting.ID]setting.Value, demands []Named) bool {
	then := map[setting.ID]setting.Value{}
	for id, v := range values {
		then[id] = v
	}
	bands := map[setting.ID]Band{}
	for _, n := range append(append([]Named{}, taken.Demands...), taken.Beside...) {
		meet(bands, n.Demand.Band())
	}
	for id, b := range bands {
		if b.Empty() {
			return false
		}
		if !b.Has(then[id]) {
			then[id] = b.Nearest(then[id])
		}
	}
	for _, n := range demands {
		if !meets(n.Demand, then) {
			return false
		}
	}
	return true
}

// What became of demands from one edition to the next.
func TestDiff(t *testing.T) {
	was := ownOf(t, cyber+`- {setting: history, at-least: 4, severity: minor, why: w.}
- {setting: max-age, at-most: 90 days, specials: {never: fails}, severity: minor, why: w.}
- {setting: complexity, exactly: "on", severity: minor, why: w.}
- {setting: lockout-threshold, at-most: 5, specials: {never: fails}, platforms: [windows-domain], severity: minor, why: w.}
- {setting: max-repeat, at-most: 3, specials: {unlimited: fails}, severity: minor, why: w.}
- {setting: max-sequence, between: [3, 5], specials: {unlimited: fails}, severity: minor, why: w.}
`)
	is := ownOf(t, strings.Replace(cyber, "[{setting: min-length, at-least: 12 characters}]",
		"[{setting: min-length, at-least: 10 characters}]", 1)+`- {setting: history, at-least: 24, severity: minor, why: w.}
- {setting: max-age, at-most: 90 days, specials: {never: holds}, severity: minor, why: w.}
- {setting: blocklist, exactly: "on", severity: minor, why: w.}
- {setting: lockout-threshold, at-most: 5, specials: {never: fails}, platforms: [unix-machine], severity: minor, why: w.}
- any-of: [[{setting: max-repeat, at-most: 3, specials: {unlimited: fails}}], [{setting: dictionary-check, exactly: "on"}]]
  severity: minor
  why: w.
- {setting: max-sequence, between: [4, 6], specials: {unlimited: fails}, severity: minor, why: w.}
`)
	var got []string
	for _, r := range Diff(was, is) {
		got = append(got, strings.TrimSpace(fmt.Sprintf("%s %s %s", r.Setting, r.Change, r.Where)))
	}
	want := []string{"min-length laxer", "complexity removed", "blocklist added", "max-repeat laxer", "max-sequence differs",
		"history stricter", "max-age laxer",
		"lockout-threshold added on unix-machine", "lockout-threshold removed on windows-domain"}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("%q\nwant\n%q", got, want)
	}
	for _, r := range Diff(was, was) {
		if r.Change != Same {
			t.Errorf("%+v", r)
		}
	}
	const condition, ways = "- {setting: min-length, at-most: 64, platforms: [windows-domain, unix-machine, cloud-directory], " +
		"severity: minor, why: w.}\n",
		"- any-of: [[{setting: min-length, at-least: 12}], [{setting: min-length, at-least: 8}, {setting: history, at-least: 4}]]\n" +
			"  severity: minor\n  why: w.\n"
	for name, rows := range map[string][]Differing{
		"in another order": Diff(ownOf(t, condition+cyber), ownOf(t, cyber+condition)),
		"of other platforms, all of them": Diff(ownOf(t, condition), ownOf(t, strings.Replace(condition,
			"platforms: [windows-domain, unix-machine, cloud-directory], ", "", 1))),
	} {
		for _, r := range rows {
			if r.Change != Same || r.Where != "" {
				t.Errorf("%s: %s %s %q", name, r.Setting, r.Change, r.Where)
			}
		}
	}
	if rows := Diff(ownOf(t, "- {setting: min-length, at-least: 12, severity: minor, why: w.}\n"), ownOf(t, ways)); len(rows) != 1 ||
		rows[0].Change != Laxer {
		t.Errorf("a condition that became ways: %+v", rows)
	}
}

// How far a value has to go.
func TestFarness(t *testing.T) {
	number := func(n int64) setting.Value { return setting.Number(n) }
	low := Condition{Setting: "min-length", Kind: AtLeast, Values: []setting.Value{number(14)}}
	on := Condition{Setting: "complexity", Kind: Exactly, Values: []setting.Value{setting.On}}
	never := Condition{Setting: "max-age", Kind: Exactly, Values: []setting.Value{setting.Of(setting.Never)}}
	none := low.Band().Intersect((&Condition{Setting: "min-length", Kind: AtMost, Values: []setting.Value{number(9)}}).Band())
	for _, c := range []struct {
		band Band
		v    setting.Value
		want int
	}{
		{low.Band(), number(14), 0}, {low.Band(), number(13), 8}, {low.Band(), number(7), 51}, {low.Band(), number(0), 101},
		{low.Band(), setting.Value{}, 1}, {on.Band(), setting.Off, 1}, {on.Band(), setting.On, 0}, {never.Band(), number(86400), 1},
		{none, number(10), 0}, {none, number(20), 0},
	} {
		if got := farness(c.band, c.v); got != c.want {
			t.Errorf("%s from %s: %d, want %d", c.band.Text(), setting.Get(c.band.Setting).Text(c.v), got, c.want)
		}
	}
}

// What is set somewhere meets what is made of it, and what is weaker does not.
func TestGolden(t *testing.T) {
	for id, c := range map[setting.ID]struct{ set, text, weaker string }{
		"min-length": {"14 characters", "at least 14 characters", "13 characters"}, "max-age": {"90 days", "at most 90 days", "never"},
		"lockout-threshold": {"5 failed attempts", "at most 5 failed attempts", "never"}, "lockout-duration": {"until-admin",
			"locks until an administrator unlocks", "99 days"},
		"complexity": {"on", "on", "off"}, "reversible": {"off", "off", "on"}, "expiry-warning": {"7 days", "7 days", "8 days"},
		"blocklist":   {"audit", "at least audit", "off"},
		"hash-method": {"sha512", "at least sha512", "sha256"}, "length-limit-relaxed": {"on", "on", "off"},
		"min-length-audit": {"20", "20 characters", "21"},
	} {
		s := setting.Get(id)
		v, err := s.Parse(c.set)
		if err != nil {
			t.Fatal(err)
		}
		weaker, err := s.Parse(c.weaker)
		if err != nil {
			t.Fatal(err)
		}
		demands, unasked := Golden(map[setting.ID]setting.Value{id: v})
		if len(demands) != 1 || len(unasked) != 0 {
			t.Errorf("%s: %v %v", id, demands, unasked)
			continue
		}
		if d := &demands[0]; !d.Met(v) || d.Met(weaker) || !strings.HasPrefix(d.Text(), c.text) {
			t.Errorf("%s: %s, met %v, by the weaker %v", id, d.Text(), d.Met(v), d.Met(weaker))
		}
	}
	for id, text := range map[setting.ID]string{"lockout-threshold": "never", "min-age": "at-once", "complexity": "off", "reversible": "on",
		"min-length": "0", "hash-method": "des"} {
		v, _ := setting.Get(id).Parse(text)
		if demands, unasked := Golden(map[setting.ID]setting.Value{id: v}); len(demands) != 0 || len(unasked) != 1 {
			t.Errorf("%s: %v %v", id, demands, unasked)
		}
	}
	if demands, _ := Golden(map[setting.ID]setting.Value{"lockout-duration": setting.Number(900),
		"max-length": setting.Number(64)}); len(demands) != 2 ||
		!demands[0].Met(setting.Of(setting.Unlimited)) || !demands[1].Met(setting.Of(setting.UntilAdmin)) {
		t.Errorf("what is stronger than any number is refused: %+v", demands)
	}
	if demands, _ := Golden(map[setting.ID]setting.Value{"banned-list": setting.On}); len(demands) != 0 {
		t.Errorf("what sums up others is demanded by itself: %v", demands)
	}
}

func unchanged(taken Taken, values map[setting.ID]setting.Value) bool {
	for _, n := range append(append([]Named{}, taken.Demands...), taken.Beside...) {
		if !n.Demand.Met(values[n.Demand.Setting]) {
			return false
		}
	}
	return true
}
