package ldif

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/intake"
)

// conf reads a configuration, and says of each directory what it applies by default.
func confSays(text string) (said, kept string, err error) {
	b := estate.NewBuilder()
	b.StartFile("slapd.conf")
	var copy bytes.Buffer
	src := &intake.Source{Path: "slapd.conf", In: strings.NewReader(text), Keep: &copy, Differs: func() {}}
	if err := ServerConf.Read(src, b); err != nil {
		return "", "", err
	}
	var all []string
	for _, a := range b.Finish() {
		one := a.Name + ": " + a.DefaultPolicy
		if a.Head != nil {
			one = a.Name + ": " + a.Head.Name
		}
		all = append(all, fmt.Sprint(one, " ", a.DefaultPolicyCite.Line))
	}
	return strings.Join(all, "; "), copy.String(), nil
}

func TestServerConf(t *testing.T) {
	for name, c := range map[string]struct{ text, want string }{
		"a default": {"database mdb\nsuffix \"dc=x,dc=example\"\noverlay ppolicy\nppolicy_default \"cn=the " +
			"default,dc=x,dc=example\"\n", "x.example: cn=the default,dc=x,dc=example 4"},
		"none": {"database mdb\nsuffix dc=x,dc=example\noverlay ppolicy\n", "x.example: no default policy 0"},
		"no overlay": {"include /etc/ldap/schema/core.schema\ndatabase mdb\nsuffix dc=x,dc=example\n",
			"x.example: no password policy 0"},
		"in a further file":          {"database mdb\nsuffix dc=x,dc=example\ninclude /etc/ldap/more.conf\n", ""},
		"the rest in a further file": {"database mdb\nsuffix dc=x,dc=example\noverlay ppolicy\ninclude /etc/ldap/more.conf\n", ""},
		"of all databases": {"overlay ppolicy\nppolicy_default cn=d,dc=x,dc=example\ndatabase mdb\nsuffix dc=x,dc=example\ndatabase " +
			"mdb\nsuffix dc=y,dc=example\noverlay ppolicy\n" +
			"ppolicy_default cn=e,dc=y,dc=example\n", "x.example: cn=d,dc=x,dc=example 2; y.example: cn=e,dc=y,dc=example 8"},
		"lines that go on": {"database mdb\nsuffix\n  dc=x,dc=example\noverlay\n\tppolicy\nppolicy_default\n   \"cn=d,dc=x,dc=example\"\n",
			"x.example: cn=d,dc=x,dc=example 6"},
		"of another overlay": {"database mdb\nsuffix dc=x,dc=example\noverlay ppolicy\noverlay memberof\nppolicy_default cn=d\n",
			"x.example: no default policy 0"},
		"commented out": {"database mdb\nsuffix dc=x,dc=example\n#overlay ppolicy\n", "x.example: no password policy 0"},
		"a database without it": {"database config\nrootdn cn=root\ndatabase mdb\nsuffix dc=x,dc=example\noverlay ppolicy\nppolicy_default " +
			"cn=d,dc=x,dc=example\n", "x.example: cn=d,dc=x,dc=example 6"},
	} {
		got, _, err := confSays(c.text)
		if err != nil || got != c.want {
			t.Errorf("%s: %q %v, want %q", name, got, err, c.want)
		}
	}
	_, kept, err := confSays("database mdb\nsuffix dc=x,dc=example\nrootpw Sea-Lantern-77\nsyncrepl rid=1\n  credentials=Sea-Lantern-78\n# " +
		"Sea-Lantern-79\n")
	if err != nil || strings.Contains(kept, "Sea-Lantern") || strings.Count(kept, "\n") != 6 {
		t.Errorf("%v, kept %q", err, kept)
	}
	// With --keep-all a secret shows itself by the name before it, in the line before, too.
	var all bytes.Buffer
	src := &intake.Source{Path: "slapd.conf", Keep: &all, Differs: func() {}, KeepAll: true, In: strings.NewReader("database mdb\n" +
		"suffix dc=x,dc=example\nrootpw\n  Sea-Lantern-77\nsyncrepl rid=1 credentials=\n  Sea-Lantern-78\n  type=\n  " +
		"refreshOnly\nrootpw x=\n Sea-Lantern-79\n")}
	b := estate.NewBuilder()
	b.StartFile("slapd.conf")
	if err := ServerConf.Read(src, b); err != nil || strings.Contains(all.String(), "Sea-Lantern") ||
		!strings.Contains(all.String(), "\n  refreshOnly\n") {
		t.Errorf("%v, kept %q", err, all.String())
	}
}

func FuzzServerConf(f *testing.F) {
	f.Add("database mdb\nsuffix \"dc=x,dc=example\"\noverlay ppolicy\nppolicy_default cn=d\n")
	f.Add("database mdb\n suffix \\\"\nsuffix =\n\"")
	f.Fuzz(func(t *testing.T, text string) {
		src := &intake.Source{Path: "slapd.conf", In: strings.NewReader(text), Keep: io.Discard, Differs: func() {}}
		b := estate.NewBuilder()
		b.StartFile("slapd.conf")
		if ServerConf.Read(src, b) == nil {
			b.Finish()
		}
	})
}
