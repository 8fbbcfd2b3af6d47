package probe

import (
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// place makes one from settings as "id=value".
func place(on setting.Platform, asks *estate.Asks, settings ...string) *Place {
	p := &Place{Platform: on, Asks: asks, Settings: map[setting.ID]govern.Effective{}}
	for _, row := range setting.Table() {
		p.Settings[row.ID] = govern.Effective{Missing: govern.NoSuch}
	}
	for _, text := range settings {
		id, value, _ := strings.Cut(text, "=")
		v, err := setting.Get(setting.ID(id)).Parse(value)
		if err != nil {
			panic(err)
		}
		p.Settings[setting.ID(id)] = govern.Effective{Fact: estate.Fact{Value: v}}
	}
	return p
}

// What cannot be tried on a real server here follows the platforms' public
// descriptions.
func TestJudge(t *testing.T) {
	windows := []string{"complexity=on", "min-length=8"}
	maud := Person{"mferrier", "Ferrier-Quay, Maud (Dr.)"}
	words := &estate.Asks{Words: []string{"contoso", "blank", "abcdef"}}
	tenant := []string{"blocklist=on", "min-length=8", "classes-required=3", "dictionary-check=off"}
	for _, c := range []struct {
		at       *Place
		who      Person
		password string
		want     string // verdict and the rules that refuse, or cannot tell
	}{
		{place(setting.WindowsDomain, nil, windows...), maud, "Lantern-7", "accepted"},
		{place(setting.WindowsDomain, nil, windows...), maud, "xMFerrier-7", "refused account-name"},
		{place(setting.WindowsDomain, nil, windows...), maud, "my-QUAY-77", "refused account-name"},
		{place(setting.WindowsDomain, nil, windows...), Person{"mo", "A B"}, "moABmoAB1", "accepted"},
		{place(setting.WindowsDomain, nil, "complexity=off", "min-length=8"), maud, "mferrier", "accepted"},
		{place(setting.WindowsDomain, nil, windows...), Person{}, "Lantern-7", "accepted aside:account-name"},
		{place(setting.WindowsDomain, nil, windows...), maud, "lantern 7", "refused complexity"},    // a space is in no category
		{place(setting.WindowsDomain, nil, windows...), maud, "lantern⚓7", "refused complexity"},    // nor is a picture
		{place(setting.WindowsDomain, nil, windows...), maud, "lantern港7", "accepted"},              // a letter without case is
		{place(setting.WindowsDomain, nil, windows...), maud, "La7🚢🚢", "refused min-length"},        // two units each
		{place(setting.WindowsDomain, nil, windows...), maud, "La7🚢🚢x", "accepted"},                 //
		{place(setting.WindowsDomain, nil, windows...), maud, "", "refused min-length complexity"},  //
		{place(setting.WindowsDomain, nil, "complexity=off", "min-length=0"), maud, "", "accepted"}, //
		{place(setting.WindowsDomain, nil, "min-length=8", "history=24"), maud, "lanterns", "accepted aside:history"},
		{place(setting.UnixMachine, nil, "min-length=8"), maud, "éééé", "accepted"}, // bytes
		{place(setting.UnixMachine, nil, "min-length=0"), maud, "", "refused empty"},
		{place(setting.LDAPDirectory, &estate.Asks{Module: "check.so"}, "min-length=8"), maud, "lanterns", "cannot tell further-module"},
		{place(setting.CloudDirectory, words, tenant...), Person{}, "C0ntos0Blank12", "refused aside:account-name blocklist"},
		{place(setting.CloudDirectory, words, tenant...), Person{}, "ContoS0Bl@nkf9!", "accepted aside:account-name"},
		{place(setting.CloudDirectory, words, tenant...), Person{}, "abcdeg", "refused min-length aside:account-name classes-required blocklist"},
		{place(setting.CloudDirectory, words, tenant...), maud, "C0ntosa-A7", "cannot tell blocklist"}, // one letter wrong, inside
		{place(setting.CloudDirectory, words, tenant...), maud, "F3rr1er-f€e", "refused characters"},
		{place(setting.CloudDirectory, words, tenant...), maud, "M@ud-and-77", "refused account-name"},
		{place(setting.CloudDirectory, nil, tenant...), maud, "Lantern-and-77", "cannot tell blocklist"},
		{place(setting.CloudDirectory, nil, "blocklist=audit", "min-length=8", "dictionary-check=on"), maud, "Lantern-and-77",
			"cannot tell dictionary-check"},
		{place(setting.CloudInfra, nil, "require-symbol=1"), maud, "Lantern~77", "refused require-symbol"}, // not among its symbols
		{place(setting.CloudInfra, nil, "require-symbol=1"), maud, "Lantern-77", "accepted"},
		{place(setting.CloudInfra, nil, "min-length=8"), maud, strings.Repeat("a", 129), "refused platform-length"},
		{place(setting.IdentityProvider, nil, "name-check=on"), Person{"maud.ferrier@x.example", ""}, "Ferrier-77", "cannot tell name-check"},
		{place(setting.IdentityProvider, nil, "name-check=on"), Person{"maud.ferrier@x.example", ""}, "7maud.ferrier7", "refused name-check"},
		{place(setting.WorkplaceSuite, nil, "max-length=12"), maud, "lanterns-burn", "refused max-length"},
	} {
		r := Judge(c.at, c.who, c.password)
		got := string(r.Verdict)
		for _, o := range r.Rules {
			switch {
			case o.Aside:
				got += " aside:" + o.Rule
			case o.Verdict == r.Verdict && o.Verdict != Accepted:
				got += " " + o.Rule
			}
		}
		if got != c.want {
			t.Errorf("%s %q: %s, want %s", c.at.Platform, c.password, got, c.want)
		}
	}
	lacking := place(setting.WindowsDomain, nil, "complexity=off")
	lacking.Settings["min-length"] = govern.Effective{Missing: govern.NotCollected}
	if r := Judge(lacking, maud, "x"); r.Verdict != CannotTell ||
		r.Rules[0].Why != "min-length: not collected: the evidence does not hold it" {
		t.Errorf("a length that was not collected: %+v", r)
	}
	reached := place(setting.WindowsDomain, nil, "min-length=4")
	for mode, want := range map[string]Verdict{"off": Accepted, "audit": Accepted, "on": CannotTell} {
		reached.Cloud = CloudFor("office", setting.Word(mode), words, estate.Cite{})
		if r := Judge(reached, maud, "Contoso1"); r.Verdict != want {
			t.Errorf("banned words of a tenant, %s: %s", mode, r.Verdict)
		}
	}
}

// As the real modules took and refused on Debian 11, 12 and 13.
func TestUnixModules(t *testing.T) {
	qc := func(least [4]int64, phrase, words, most int64) *estate.Asks {
		return &estate.Asks{Module: "pam_passwdqc", Most: most, Graded: &estate.Graded{Least: least, Phrase: phrase, Words: words}}
	}
	usual := qc([4]int64{estate.Barred, 24, 8, 7}, 11, 3, 72)
	named := func(module string, part int64) *estate.Asks {
		return &estate.Asks{Module: module, Named: true, NamePart: part, Personal: true}
	}
	both := &estate.Asks{Module: "pam_pwquality", Length: 12, Credits: [4]int64{0, 0, 4, 0},
		Further: []estate.Asks{{Module: "pam_unix", Length: 10}}}
	for _, c := range []struct {
		asks     *estate.Asks
		who      Person
		password string
		want     Verdict
	}{
		{usual, Person{}, "xkvpqzmr", Refused}, {usual, Person{}, "xkvpq7zm!r", Accepted}, {usual, Person{}, "Xkvpqzmr7", Refused},
		{usual, Person{}, "xk7vpqz", Refused},
		{usual, Person{}, "xk7vpq!Z", Accepted}, {usual, Person{}, "aaaaaaaaaaaaaaaaaaaaaaaaaa7a", Refused},
		{usual, Person{}, "tide and lantern burn", Accepted},
		{usual, Person{}, strings.Repeat("xk7!Zq", 13), Refused},
		{qc([4]int64{8, 8, 8, 8}, 8, 3, 8), Person{}, "xk7vpqzmmm9!", Accepted}, {qc([4]int64{9, 9, 9, 9}, 9, 3, 8), Person{},
			"xk7vpqzmmm9!", Refused},
		{qc([4]int64{8, 8, 8, 8}, 8, 3, 40), Person{}, "", Refused},
		{named("pam_pwquality", 0), Person{Account: "ada"}, "xkqadaxkq7", Accepted}, {named("pam_cracklib", 0), Person{Account: "ada"},
			"xkqadaxkq7", Refused},
		{named("pam_pwquality", 0), Person{Account: "maud"}, "xkqduamxkq", Refused},
		{named("pam_pwquality", 1), Person{Account: "maud"}, "xkqmauxkq", Accepted},
		{named("pam_pwquality", 3), Person{Account: "berti"}, "xkqertxkqz", Accepted},
		{named("pam_pwquality", 4), Person{Account: "berti"}, "xkqbertxkqz", Refused},
		{named("pam_pwquality", 9), Person{Account: "berti"}, "xkqbertxkqz", Accepted},
		{named("pam_pwquality", 9), Person{Account: "berti"}, "xkqbertixkqz", Refused},
		{named("pam_pwquality", 0), Person{"x", "Maud Bergh,,,"}, "7Bergh7x7", Accepted},
		{named("pam_pwquality", 0), Person{"x", "Maud Bergh,,,"}, "7duaM7x7", Refused},
		{both, Person{}, "x7x8x9x6", Refused}, {both, Person{}, "x7x8x9x6x5", Accepted}, // enough by credits, and pam_unix asks for ten
	} {
		if got := Judge(place(setting.UnixMachine, c.asks, "min-length=0", "name-check=on"), c.who, c.password); got.Verdict != c.want {
			t.Errorf("%s %+v %q: %s, want %s: %+v", c.asks.Module, c.who, c.password, got.Verdict, c.want, got.Rules)
		}
	}
}

func TestSummaryAndPatterns(t *testing.T) {
	s := Summarise("Cafe\u0301 港1")
	if s.Length != 8 || s.Bytes != 11 || s.Marks != 1 ||
		!slices.Equal(s.Classes, []string{"lower", "upper", "digit", "symbol", "other letter", "other"}) {
		t.Errorf("%+v", s)
	}
	families := Patterns(Seeds{Year: 2026, Words: []string{"quay"}, Own: []string{"Maud"}})
	has := func(family, password string) bool {
		return slices.ContainsFunc(families, func(f Family) bool { return f.Name == family && slices.Contains(f.Passwords, password) })
	}
	for family, password := range map[string]string{"season and year": "Winter2025!", "place and number": "Quay123!",
		"own name": "maud26!", "doubled word": "quayquay", "letters swapped": "Qu@y1!", "counted up": "Welcome07!"} {
		if !has(family, password) {
			t.Errorf("%s lacks %s", family, password)
		}
	}
	last := families[len(families)-1]
	if last.Weak || slices.ContainsFunc(last.Passwords, func(p string) bool { return len(p) < 20 }) {
		t.Errorf("for contrast: %+v", last)
	}
	if bare := Patterns(Seeds{Year: 2026}); len(bare) != len(families)-2 {
		t.Errorf("without words and names there are %d families", len(bare))
	}
}

func TestWith(t *testing.T) {
	asks := &estate.Asks{Module: "pam_pwquality", Length: 9, Credits: [4]int64{1, 1, 1, 1},
		Further: []estate.Asks{{Module: "pam_unix", Length: 6}}}
	p := place(setting.UnixMachine, asks, "min-length=9", "history=4")
	if same := p.With(map[setting.ID]setting.Value{"history": setting.Number(5)}); same.Asks != asks {
		t.Errorf("a history that is changed changes what modules ask for: %+v", same.Asks)
	}
	if longer := p.With(map[setting.ID]setting.Value{"min-length": setting.Number(12)}); longer.Asks.Length != 0 ||
		longer.Asks.Credits != [4]int64{} || longer.Asks.Further[0].Length != 0 || asks.Length != 9 || asks.Further[0].Length != 6 {
		t.Errorf("a length that is changed: %+v, before %+v", longer.Asks, asks)
	}
	bare := place(setting.WindowsDomain, nil, "min-length=9", "complexity=on")
	if r := Judge(bare.With(map[setting.ID]setting.Value{"min-length": {}}), Person{}, "Lantern-lamps"); r.Verdict != CannotTell {
		t.Errorf("without a length: %s", r.Verdict)
	}
	if other := bare.With(map[setting.ID]setting.Value{"require-lower": setting.Number(1)}); other.Settings["require-lower"].Missing != govern.NoSuch {
		t.Error("a setting that the platform does not have was made up")
	}
}
