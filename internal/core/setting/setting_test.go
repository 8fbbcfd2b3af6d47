package setting

import (
	"errors"
	"testing"
)

// samples returns values of every form that a setting can take.
func samples(s *Setting) []Value {
	var all []Value
	for _, c := range s.Choices {
		all = append(all, Word(c))
	}
	for _, k := range s.Specials {
		all = append(all, Of(k.Special))
	}
	if len(s.Choices) == 0 {
		for _, n := range []int64{0, 1, 2, 14, 59, 60, 61, 90, 3600, 5400, 86400, 42 * 86400, 999 * 86400} {
			all = append(all, Number(n))
		}
	}
	return append(all, Value{})
}

func TestParseIsTheInverseOfText(t *testing.T) {
	for _, s := range Table() {
		for _, v := range samples(s) {
			text := s.Text(v)
			back, err := s.Parse(text)
			if err != nil || back != v {
				t.Errorf("%s: %+v prints %q, which reads back as %+v (%v)", s.ID, v, text, back, err)
			}
			stored, _ := v.MarshalText()
			var again Value
			if err := again.UnmarshalText(stored); err != nil || again != v {
				t.Errorf("%s: %+v is stored as %q, which reads back as %+v (%v)", s.ID, v, stored, again, err)
			}
		}
	}
}

func TestText(t *testing.T) {
	for _, c := range []struct {
		id   ID
		v    Value
		want string
	}{
		{"max-age", Number(42 * 86400), "42 days"},
		{"max-age", Of(Never), "never expires"},
		{"lockout-duration", Number(60), "1 minute"},
		{"lockout-duration", Number(90), "90 seconds"},
		{"lockout-duration", Of(UntilAdmin), "locks until an administrator unlocks"},
		{"lockout-threshold", Of(Never), "never locks"},
		{"min-length", Number(14), "14 characters"},
		{"lockout-threshold", Number(1), "1 failed attempt"},
		{"classes-required", Number(1), "1 class"},
		{"min-age", Of(AtOnce), "0 days"},
		{"reversible", Off, "off"},
		{"history", Value{}, "not set"},
	} {
		if got := Get(c.id).Text(c.v); got != c.want {
			t.Errorf("%s: %q, want %q", c.id, got, c.want)
		}
	}
}

func TestParseRefuses(t *testing.T) {
	for _, c := range []struct {
		id   ID
		text string
	}{
		{"max-age", "42"}, {"max-age", "42 fortnights"}, {"max-age", "until-admin"}, {"max-age", ""},
		{"min-length", "14 days"}, {"min-length", "many"}, {"min-length", "never"},
		{"complexity", "1"}, {"complexity", "maybe"}, {"history", "99999999999999999999"}, {"history", "9999999999999999"},
	} {
		if v, err := Get(c.id).Parse(c.text); !errors.Is(err, ErrValue) {
			t.Errorf("%s %q: %+v, %v; want ErrValue", c.id, c.text, v, err)
		}
	}
}

func TestAllows(t *testing.T) {
	for _, c := range []struct {
		id ID
		p  Platform
		n  int64
		ok bool
	}{
		// What a server holds is in force, whatever group policy could set.
		{"history", WindowsDomain, 30, true}, {"history", WindowsTemplate, 24, true}, {"history", WindowsTemplate, 25, false},
		{"history", WindowsFineGrained, 1024, true}, {"history", WindowsFineGrained, 70000, false},
		{"min-length", WindowsDomain, 255, true}, {"min-length", WindowsTemplate, 129, false}, {"min-length", WindowsFineGrained, 255, true},
		{"min-length", WindowsFineGrained, 256, false},
		{"lockout-threshold", WindowsDomain, -3, false}, {"lockout-threshold", WindowsDomain, 1000, true},
		{"lockout-threshold", WindowsDomain, 65536, false},
		{"max-age", WindowsDomain, 2000 * 86400, true},
		{"max-age", WindowsTemplate, 999 * 86400, true}, {"max-age", WindowsTemplate, 1000 * 86400, false},
		{"lockout-window", WindowsMachine, 99999 * 60, true}, {"lockout-window", WindowsMachine, 100000 * 60, false},
		{"require-digit", CloudDirectory, -1, false},
	} {
		if err := Get(c.id).Allows(c.p, Number(c.n)); (err == nil) != c.ok {
			t.Errorf("%s on %s, %d: %v", c.id, c.p, c.n, err)
		}
	}
	for n, want := range map[int64]bool{24: false, 25: true} {
		if can, beyond := Get("history").BeyondPolicy(WindowsDomain, Number(n)); beyond != want || beyond &&
			can != "0 passwords to 24 passwords" {
			t.Errorf("history %d beyond group policy: %v (%s)", n, beyond, can)
		}
	}
}

func TestCompare(t *testing.T) {
	for _, c := range []struct {
		id    ID
		a, b  Value
		order int
		ok    bool
	}{
		{"min-length", Number(14), Number(8), 1, true},
		{"lockout-threshold", Number(5), Number(10), 1, true},
		{"lockout-threshold", Of(Never), Number(999), -1, true},
		{"lockout-duration", Of(UntilAdmin), Number(99999), 1, true},
		{"min-age", Of(AtOnce), Number(60), -1, true},
		{"max-age", Number(60), Number(90), 0, false},
		{"max-age", Of(Never), Of(Never), 0, true},
		{"reversible", On, Off, -1, true},
		{"complexity", On, Off, 1, true},
		{"blocklist", Word("audit"), On, -1, true},
		{"length-limit-relaxed", On, Off, 0, false},
		{"min-length", Value{}, Number(1), 0, false},
	} {
		order, ok := Get(c.id).Compare(c.a, c.b)
		if order != c.order || ok != c.ok {
			t.Errorf("%s: %v against %v: %d %v, want %d %v", c.id, c.a, c.b, order, ok, c.order, c.ok)
		}
		if back, _ := Get(c.id).Compare(c.b, c.a); back != -c.order {
			t.Errorf("%s: %v against %v: %d, want %d", c.id, c.b, c.a, back, -c.order)
		}
	}
}

func TestTableIsWhole(t *testing.T) {
	seen := map[ID]bool{}
	for _, s := range Table() {
		if seen[s.ID] || s.Title == "" || s.Meaning == "" || s.Kind == "" {
			t.Errorf("%s: twice, or without title, kind or meaning", s.ID)
		}
		seen[s.ID] = true
		if (s.Kind == Count || s.Kind == Length) && s.Noun == "" || (s.Kind == Toggle || s.Kind == Choice) != (len(s.Choices) > 0) {
			t.Errorf("%s: noun and choices do not fit the kind", s.ID)
		}
		for p, v := range s.Defaults {
			if err := s.Allows(p, v); err != nil || !s.Exists(p) {
				t.Errorf("%s: default of %s: %v", s.ID, p, err)
			}
		}
	}
	// The design's table has 39; four more are of Unix machines, one of tenants,
	// two are the strongest of others, and three are of managed administrators.
	if len(seen) != 50 {
		t.Errorf("%d settings", len(seen))
	}
}

// A value is one thing only, and says which.
func TestValues(t *testing.T) {
	if Switch(true) != On || Switch(false) != Off {
		t.Error("switches")
	}
	if _, is := On.Word(); !is {
		t.Error("a switch is a word")
	}
	if _, is := Number(1).Word(); is || Number(1).Is(Never) || !Of(Never).Is(Never) {
		t.Error("a number is neither a word nor a special")
	}
	seen := 0
	for range Table() {
		if seen++; seen == 2 {
			break
		}
	}
	if seen != 2 {
		t.Errorf("%d", seen)
	}
}
