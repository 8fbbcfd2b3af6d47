package shell_test

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode/utf16"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
	"sternledger/internal/intake/ldif"
	"sternledger/internal/intake/shell"
)

// taken reads exports into one estate and returns the copies that are kept.
func taken(t testing.TB, b *estate.Builder, format *intake.Format, texts ...string) (kept []string) {
	t.Helper()
	for i, text := range texts {
		kept = append(kept, takenAs(t, b, format, fmt.Sprintf("%d.txt", i), text))
	}
	return kept
}

func takenAs(t testing.TB, b *estate.Builder, format *intake.Format, name, text string) (kept string) {
	t.Helper()
	if !format.Detect(name, []byte(text)[:min(len(text), intake.HeadSize)]) {
		t.Fatalf("not recognised:\n%s", text)
	}
	b.StartFile(name)
	var copy bytes.Buffer
	src := &intake.Source{Path: name, In: strings.NewReader(text), Keep: &copy, Differs: func() {},
		Beside: func(string) []byte { return nil }}
	if err := format.Read(src, b); err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	return copy.String()
}

// governed says of each account by what it is governed, with the settings.
func governed(b *estate.Builder) map[string]string {
	survey := govern.NewSurvey(&estate.Estate{Authorities: b.Finish()}, func(*estate.Authority) estate.Dialect { return estate.Windows }, nil)
	all := map[string]string{}
	for i, a := range survey.Estate.Authorities {
		for row := range a.Objects.Len() {
			if a.Objects.ClassOf(row) != estate.Account {
				continue
			}
			scope, _ := survey.ScopeOf(i, row)
			text := scope.PolicyName()
			if scope.Why != "" {
				text = "unknown"
			} else {
				for _, id := range []setting.ID{"min-length", "history", "max-age", "min-age", "complexity", "reversible", "lockout-threshold",
					"lockout-duration", "lockout-window"} {
					text += fmt.Sprintf(" %s=%s", id, setting.Get(id).Text(scope.Settings[id].Value))
				}
				text += fmt.Sprint(" ", a.Objects.FlagsOf(row)&(estate.Disabled|estate.NeverExpires|estate.NoneRequired))
			}
			all[a.Objects.Name.At(row)] = text
		}
	}
	return all
}

// policy and user are an invented domain's.
type (
	policy struct {
		name                                   string
		length, history, threshold, precedence int
		maxAge, minAge, duration, window       int // seconds; 0: the special
		complex, reversible                    bool
		targets                                []string
	}
	user struct {
		name                   string
		off, forever, optional bool
		groups                 []string
	}
	world struct {
		head     policy
		policies []policy
		users    []user
		groups   []string
	}
)

const base = "DC=quay,DC=example"

func dnOf(name string) string { return "CN=" + name + ",OU=Staff," + base }

func randomWorld(rnd *rand.Rand) world {
	some := func(name string) policy {
		return policy{name: name, length: rnd.IntN(20), history: rnd.IntN(25), threshold: rnd.IntN(6), precedence: 1 + rnd.IntN(99),
			maxAge: 86400 * rnd.IntN(90),
			minAge: 86400 * rnd.IntN(3), duration: 60 * rnd.IntN(60), window: 60 * (1 + rnd.IntN(60)), complex: rnd.IntN(2) == 0,
			reversible: rnd.IntN(9) == 0}
	}
	w := world{head: some("head")}
	w.groups = []string{"primary"}
	for i := range 3 + rnd.IntN(3) {
		w.groups = append(w.groups, fmt.Sprintf("g%d", i))
	}
	for i := range 5 + rnd.IntN(10) {
		u := user{name: fmt.Sprintf("u%d", i), off: rnd.IntN(5) == 0, forever: rnd.IntN(5) == 0, optional: rnd.IntN(9) == 0}
		for _, g := range w.groups[1:] {
			if rnd.IntN(3) == 0 {
				u.groups = append(u.groups, g)
			}
		}
		w.users = append(w.users, u)
	}
	for i := range 1 + rnd.IntN(4) {
		p := some(fmt.Sprintf("p%d", i))
		p.precedence = 1 + i*10
		for range 1 + rnd.IntN(2) {
			if rnd.IntN(2) == 0 {
				p.targets = append(p.targets, w.groups[rnd.IntN(len(w.groups))])
			} else {
				p.targets = append(p.targets, w.users[rnd.IntN(len(w.users))].name)
			}
		}
		slices.Sort(p.targets)
		p.targets = slices.Compact(p.targets)
		w.policies = append(w.policies, p)
	}
	return w
}

// ldif is the world as a directory exports it.
func (w *world) ldif() string {
	var b strings.Builder
	ticks := func(seconds int, none string) string {
		if seconds == 0 {
			return none
		}
		return fmt.Sprintf("-%d0000000", seconds)
	}
	const never = "-9223372036854775808"
	h := w.head
	bits := 0
	if h.complex {
		bits = 1
	}
	if h.reversible {
		bits |= 16
	}
	fmt.Fprintf(&b, "dn: %s\nobjectClass: domainDNS\nobjectSid: S-1-5-21-1-2-3\nminPwdLength: %d\npwdHistoryLength: "+
		"%d\nlockoutThreshold: %d\nmaxPwdAge: %s\nminPwdAge: %s\nlockoutDuration: %s\nlockOutObservationWindow: %s\npwdProperties: %d\n\n",
		base, h.length, h.history, h.threshold, ticks(h.maxAge, never), ticks(h.minAge, "0"), ticks(h.duration, never),
		ticks(h.window, "0"), bits)
	b.WriteString("dn: CN=Password Settings Container,CN=System," + base + "\nobjectClass: msDS-PasswordSettingsContainer\n\n")
	for _, p := range w.policies {
		fmt.Fprintf(&b, "dn: CN=%s,CN=Password Settings Container,CN=System,%s\nobjectClass: "+
			"msDS-PasswordSettings\nmsDS-PasswordSettingsPrecedence: %d\nmsDS-MinimumPasswordLength: %d\nmsDS-PasswordHistoryLength: "+
			"%d\nmsDS-LockoutThreshold: %d\nmsDS-MaximumPasswordAge: %s\nmsDS-MinimumPasswordAge: %s\nmsDS-LockoutDuration: "+
			"%s\nmsDS-LockoutObservationWindow: %s\nmsDS-PasswordComplexityEnabled: %s\nmsDS-PasswordReversibleEncryptionEnabled: %s\n",
			p.name, base, p.precedence, p.length, p.history, p.threshold, ticks(p.maxAge, never), ticks(p.minAge, "0"), ticks(p.duration, never),
			ticks(p.window, "0"), strings.ToUpper(fmt.Sprint(p.complex)), strings.ToUpper(fmt.Sprint(p.reversible)))
		for _, target := range p.targets {
			b.WriteString("msDS-PSOAppliesTo: " + dnOf(target) + "\n")
		}
		b.WriteString("\n")
	}
	for _, g := range w.groups {
		fmt.Fprintf(&b, "dn: %s\nobjectClass: group\nsAMAccountName: %s\ngroupType: -2147483646\nobjectSid: %s\n",
			dnOf(g), g, sidOf(g))
		for _, u := range w.users {
			if slices.Contains(u.groups, g) {
				b.WriteString("member: " + dnOf(u.name) + "\n")
			}
		}
		b.WriteString("\n")
	}
	for _, u := range w.users {
		control := 512
		if u.off {
			control |= 2
		}
		if u.forever {
			control |= 0x10000
		}
		if u.optional {
			control |= 0x20
		}
		fmt.Fprintf(&b, "dn: %s\nobjectClass: user\nsAMAccountName: %s\nuserAccountControl: %d\nprimaryGroupID: 513\nobjectSid: "+
			"S-1-5-21-1-2-3-1%s\n\n", dnOf(u.name), u.name,
			control, u.name[1:])
	}
	return b.String()
}

// sidOf is a group's SID; that of the primary one is the well-known one.
func sidOf(group string) string {
	if group == "primary" {
		return "S-1-5-21-1-2-3-513"
	}
	return "S-1-5-21-1-2-3-2" + group[1:]
}

func span(seconds int) string {
	text := fmt.Sprintf("%02d:%02d:%02d", seconds/3600%24, seconds/60%60, seconds%60)
	if days := seconds / 86400; days > 0 {
		text = fmt.Sprintf("%d.%s", days, text)
	}
	return text
}

// pair is a property as the shell prints it.
type pair struct {
	name string
	of   any
}

// csvde is an export in LDIF as the same directory's export in CSV.
func csvde(text string) string {
	var b bytes.Buffer
	columns := map[string]int{"dn": 0}
	header := []string{"DN"}
	var rows [][][]string
	for _, entry := range strings.Split(strings.TrimSpace(text), "\n\n") {
		row := [][]string{}
		for _, line := range strings.Split(strings.ReplaceAll(entry, "\n ", ""), "\n") {
			name, value, ok := strings.Cut(line, ":")
			if !ok || line[0] == '#' {
				continue
			}
			if coded, ok := strings.CutPrefix(value, ":"); ok {
				data, _ := base64.StdEncoding.DecodeString(strings.TrimSpace(coded))
				value = fmt.Sprintf("X'%x'", data)
			}
			at, known := columns[strings.ToLower(name)]
			if !known {
				at = len(header)
				columns[strings.ToLower(name)], header = at, append(header, name)
			}
			for len(row) <= at {
				row = append(row, nil)
			}
			row[at] = append(row[at], strings.TrimSpace(value))
		}
		if len(row) > 0 && len(row[0]) > 0 {
			rows = append(rows, row)
		}
	}
	out := csv.NewWriter(&b)
	_ = out.Write(header)
	for _, row := range rows {
		cells := make([]string, len(header))
		for i, values := range row {
			cells[i] = strings.Join(values, ";")
		}
		_ = out.Write(cells)
	}
	out.Flush()
	return b.String()
}

// What a directory exports is the same in both its shapes, to the account.
func TestBothShapes(t *testing.T) {
	demo, err := os.ReadFile("../../../demo/exports/marrowick.ldif")
	if err != nil {
		t.Fatal(err)
	}
	texts := []string{string(demo)}
	for seed := range uint64(50) {
		w := randomWorld(rand.New(rand.NewPCG(seed, 9)))
		texts = append(texts, w.ldif())
	}
	for i, text := range texts {
		b, c := estate.NewBuilder(), estate.NewBuilder()
		taken(t, b, &ldif.Format, text)
		taken(t, c, &ldif.CSV, csvde(text))
		want, got := governed(b), governed(c)
		if len(want) == 0 || !maps.Equal(want, got) {
			t.Errorf("world %d: %v, want %v", i, got, want)
		}
	}
}

func (p *policy) pairs(dn string) []pair {
	title := func(b bool) string { return map[bool]string{true: "True", false: "False"}[b] }
	all := []pair{{"ComplexityEnabled", title(p.complex)}, {"DistinguishedName", dn}, {"LockoutDuration", span(p.duration)},
		{"LockoutObservationWindow", span(p.window)}, {"LockoutThreshold", fmt.Sprint(p.threshold)}, {"MaxPasswordAge", span(p.maxAge)},
		{"MinPasswordAge", span(p.minAge)}, {"MinPasswordLength", fmt.Sprint(p.length)}, {"PasswordHistoryCount", fmt.Sprint(p.history)},
		{"ReversibleEncryptionEnabled", title(p.reversible)}}
	if len(p.targets) > 0 {
		var dns []string
		for _, t := range p.targets {
			dns = append(dns, dnOf(t))
		}
		all = append(all, pair{"AppliesTo", dns}, pair{"Name", p.name}, pair{"Precedence", fmt.Sprint(p.precedence)})
	}
	return all
}

func (u *user) pairs() []pair {
	title := func(b bool) string { return map[bool]string{true: "True", false: "False"}[b] }
	groups := []string{}
	for _, g := range u.groups {
		groups = append(groups, dnOf(g))
	}
	return []pair{{"DistinguishedName", dnOf(u.name)}, {"Enabled", title(!u.off)}, {"GivenName", "Some Body"}, {"MemberOf", groups},
		{"PasswordNeverExpires", title(u.forever)}, {"PasswordNotRequired", title(u.optional)}, {"PrimaryGroupID", "513"},
		{"SamAccountName", u.name},
		{"SID", "S-1-5-21-1-2-3-1" + u.name[1:]}}
}

// printed writes objects in a form of the shell.
func printed(form string, objects [][]pair) string {
	var b strings.Builder
	switch form {
	case "list":
		b.WriteString("\r\n\r\n")
		for _, o := range objects {
			for _, p := range o {
				text := fmt.Sprint(p.of)
				if list, ok := p.of.([]string); ok {
					text = "{" + strings.Join(list, ", ") + "}"
				}
				const room = 52
				for n := 0; n == 0 || n < len(text); n += room {
					if n == 0 {
						fmt.Fprintf(&b, "%-27s : %s\r\n", p.name, text[:min(len(text), room)])
					} else {
						fmt.Fprintf(&b, "%30s%s\r\n", "", text[n:min(len(text), n+room)])
					}
				}
			}
			b.WriteString("\r\n")
		}
	case "json":
		var all []map[string]any
		for _, o := range objects {
			m := map[string]any{}
			for _, p := range o {
				m[p.name] = p.of
			}
			all = append(all, m)
		}
		data, _ := json.MarshalIndent(all, "", "  ")
		b.Write(data)
	case "xml":
		b.WriteString("<Objs Version=\"1.1.0.1\" xmlns=\"http://schemas.microsoft.com/powershell/2004/04\">\r\n")
		for i, o := range objects {
			fmt.Fprintf(&b, "  <Obj RefId=\"%d\">\r\n    <TN RefId=\"0\"><T>Some.Type</T><T>System.Object</T></TN>\r\n    "+
				"<ToString>%s</ToString>\r\n    <Props>\r\n",
				i, o[0].of)
			for _, p := range o {
				text := fmt.Sprint(p.of)
				switch list, many := p.of.([]string); {
				case many:
					fmt.Fprintf(&b, "      <Obj N=\"%s\" RefId=\"%d\"><TN RefId=\"1\"><T>Some.Collection</T></TN><LST>", p.name, 1000+i)
					for _, x := range list {
						b.WriteString("<S>" + x + "</S>")
					}
					b.WriteString("</LST></Obj>\r\n")
				case p.name == "SID":
					fmt.Fprintf(&b, "      <Obj N=\"SID\" RefId=\"%d\"><ToString>%s</ToString><Props><I32 N=\"BinaryLength\">28</I32>"+
						"<S N=\"Value\">%s</S></Props></Obj>\r\n", 2000+i, text, text)
				case strings.HasSuffix(p.name, "Age") || strings.HasPrefix(p.name, "LockoutD") || strings.HasPrefix(p.name, "LockoutO"):
					days, rest, _ := strings.Cut(text, ".")
					if rest == "" {
						days, rest = "0", text
					}
					var h, m, sec int
					fmt.Sscanf(rest, "%d:%d:%d", &h, &m, &sec)
					fmt.Fprintf(&b, "      <TS N=\"%s\">P%sDT%dH%dM%dS</TS>\r\n", p.name, days, h, m, sec)
				case text == "True" || text == "False":
					fmt.Fprintf(&b, "      <B N=\"%s\">%s</B>\r\n", p.name, strings.ToLower(text))
				default:
					fmt.Fprintf(&b, "      <S N=\"%s\">%s</S>\r\n", p.name, text)
				}
			}
			b.WriteString("    </Props>\r\n  </Obj>\r\n")
		}
		b.WriteString("</Objs>\r\n")
	case "table":
		widths, right := make([]int, len(objects[0])), make([]bool, len(objects[0]))
		var cells [][]string
		for _, o := range objects {
			var row []string
			for i, p := range o {
				text := fmt.Sprint(p.of)
				if list, ok := p.of.([]string); ok {
					text = "{" + strings.Join(list, ", ") + "}"
				}
				_, err := strconv.Atoi(text)
				right[i] = err == nil
				widths[i] = max(widths[i], len([]rune(text)), len(p.name))
				row = append(row, text)
			}
			cells = append(cells, row)
		}
		line := func(cells []string) {
			var all []string
			for i, c := range cells {
				space := strings.Repeat(" ", widths[i]-len([]rune(c)))
				if right[i] {
					all = append(all, space+c)
				} else {
					all = append(all, c+space)
				}
			}
			b.WriteString(strings.Join(all, " ") + "\r\n")
		}
		var names, under []string
		for _, p := range objects[0] {
			names, under = append(names, p.name), append(under, strings.Repeat("-", len(p.name)))
		}
		b.WriteString("\r\n")
		line(names)
		line(under)
		for _, row := range cells {
			line(row)
		}
		b.WriteString("\r\n\r\n")
	default: // CSV; collections joined, as people do it
		quote := func(text string) string { return `"` + text + `"` }
		var names []string
		for _, p := range objects[0] {
			names = append(names, quote(p.name))
		}
		b.WriteString(strings.Join(names, form) + "\r\n")
		for _, o := range objects {
			var cells []string
			for _, p := range o {
				text := fmt.Sprint(p.of)
				if list, ok := p.of.([]string); ok {
					text = strings.Join(list, ";")
				}
				cells = append(cells, quote(text))
			}
			b.WriteString(strings.Join(cells, form) + "\r\n")
		}
	}
	return b.String()
}

// wide is a text in UTF-16, with or without its mark.
func wide(text string, mark bool) string {
	var b bytes.Buffer
	if mark {
		b.WriteString("\xff\xfe")
	}
	_ = binary.Write(&b, binary.LittleEndian, utf16.Encode([]rune(text)))
	return b.String()
}

// Whatever the form, the answer for every account is that of the directory's LDIF,
// or not known where the form cannot hold what decides it; never another one.
func TestFormsAgreeWithLDIF(t *testing.T) {
	compared, open := 0, 0
	for seed := range uint64(150) {
		rnd := rand.New(rand.NewPCG(seed, 5))
		w := randomWorld(rnd)
		b := estate.NewBuilder()
		taken(t, b, &ldif.Format, w.ldif())
		want := governed(b)
		var policies, users, groups [][]pair
		for i := range w.policies {
			policies = append(policies, w.policies[i].pairs("CN="+w.policies[i].name+",CN=Password Settings Container,CN=System,"+base))
		}
		for i := range w.users {
			users = append(users, w.users[i].pairs())
		}
		for _, g := range w.groups {
			members := []string{}
			for _, u := range w.users {
				if slices.Contains(u.groups, g) {
					members = append(members, dnOf(u.name))
				}
			}
			groups = append(groups, []pair{{"DistinguishedName", dnOf(g)}, {"Members", members}, {"Enabled", ""}, {"GroupCategory", "Security"},
				{"GroupScope", "Global"},
				{"MemberOf", []string{}}, {"ObjectClass", "group"}, {"SamAccountName", g}, {"SID", sidOf(g)}})
		}
		for _, form := range []string{"list", "json", ",", ";", "table", "xml", "members"} {
			t.Run(fmt.Sprint(seed, form), func(t *testing.T) {
				b := estate.NewBuilder()
				all, as := [][][]pair{{w.head.pairs(base)}, policies, users, groups}, form
				if form == "members" { // the accounts do not tell their groups; a file for each group does
					as, all[2], all[3] = ",", nil, nil
					for _, g := range groups {
						all[3] = append(all[3], slices.DeleteFunc(slices.Clone(g), func(p pair) bool { return p.name == "Members" }))
					}
					for i := range w.users {
						all[2] = append(all[2], slices.DeleteFunc(w.users[i].pairs(), func(p pair) bool { return p.name == "MemberOf" }))
					}
				}
				var names, texts []string
				add := func(name, text string) {
					switch rnd.IntN(3) {
					case 0:
						text = wide(text, true)
					case 1:
						text = wide(text, false)
					}
					names, texts = append(names, name), append(texts, text)
				}
				for i, objects := range all {
					add(fmt.Sprintf("%d.txt", i), printed(as, objects))
				}
				for _, g := range w.groups {
					var rows [][]pair
					for _, u := range w.users {
						if slices.Contains(u.groups, g) {
							rows = append(rows, []pair{{"distinguishedName", dnOf(u.name)}, {"name", u.name}, {"objectClass", "user"},
								{"SamAccountName", u.name}, {"SID", "S-1-5-21-1-2-3-1" + u.name[1:]}})
						}
					}
					if form == "members" && len(rows) > 0 {
						add("members-of-"+g+".csv", printed(as, rows))
					}
				}
				for i, text := range texts {
					takenAs(t, b, &shell.Format, names[i], text)
				}
				got := governed(b)
				for name, text := range want {
					compared++
					if got[name] == "unknown" {
						open++
					} else if got[name] != text {
						t.Errorf("%s:\n%s, want\n%s", name, got[name], text)
					}
				}
				if len(got) != len(want) {
					t.Errorf("%d accounts, want %d", len(got), len(want))
				}
			})
		}
	}
	t.Logf("%d answers, %d not known", compared, open)
	if compared == 0 || open*50 > compared {
		t.Errorf("%d of %d answers are not known", open, compared)
	}
}

// What a form lost is not taken for none, and what no rule reads is not kept.
func TestWhatFormsLose(t *testing.T) {
	w := world{head: policy{length: 8}, policies: []policy{{name: "p", length: 14, precedence: 1, targets: []string{"g0"}}},
		users: []user{{name: "u0", groups: []string{"g0"}}}, groups: []string{"g0"}}
	p := w.policies[0].pairs("CN=p,CN=Password Settings Container,CN=System," + base)
	for name, lost := range map[string]any{"the name of the type": "Microsoft.ActiveDirectory.Management.ADPropertyValueCollection",
		"a list that was cut": "{" + dnOf("u9") + ", ...}"} {
		changed := slices.Clone(p)
		for i := range changed {
			if changed[i].name == "AppliesTo" {
				changed[i].of = lost
			}
		}
		b := estate.NewBuilder()
		taken(t, b, &shell.Format, printed("list", [][]pair{w.head.pairs(base)}), printed("list", [][]pair{changed}),
			printed("list", [][]pair{w.users[0].pairs()}))
		if got := governed(b)["u0"]; got != "unknown" {
			t.Errorf("%s: %s", name, got)
		}
	}
	// Without the switches it is not known whether an account is enabled.
	b := estate.NewBuilder()
	kept := taken(t, b, &shell.Format, "\"DistinguishedName\",\"SamAccountName\",\"Enabled\",\"Description\",\"AccountPassword\"\r\n\""+
		dnOf("u0")+
		"\",\"u0\",\"True\",\"his dog is called Rex\",\"Quay-Light-7x\"\r\n")
	a := b.Finish()[0]
	if a.Objects.FlagsOf(0)&(estate.NoControl|estate.NoPrimary) != estate.NoControl|estate.NoPrimary {
		t.Errorf("flags %v", a.Objects.FlagsOf(0))
	}
	if strings.Contains(kept[0], "Rex") || strings.Contains(kept[0], "Quay-Light") || !strings.Contains(kept[0], "u0") {
		t.Errorf("kept: %s", kept[0])
	}
	kept = taken(t, estate.NewBuilder(), &shell.Format,
		printed("json", [][]pair{append(w.users[0].pairs(), pair{"Description", "his dog is called Rex"})}))
	if strings.Contains(kept[0], "Rex") {
		t.Errorf("kept: %s", kept[0])
	}
	narrow := "DistinguishedName       SamAccountName PasswordNeverExpires\n-----------------       -------------- --------------------\n"
	for text, say := range map[string]string{
		narrow + "CN=A B,OU=Staff,DC=q... ab                            True\n":           "a DistinguishedName that was cut",
		narrow + "CN=A B,DC=quay          ab                            True\n\nand more": "text behind the table",
		"\"DistinguishedName\",\"SamAccountName\",\"Enabled\"\n\"CN=M?ller," + base + "\",\"a\",\"True\"\n\"CN=M?ller," + base +
			"\",\"b\",\"True\"\n": ":3: the DN \"CN=M?ller,DC=quay,DC=example\", for the second time (line 2): letters were lost",
		"<Objs xmlns=\"http://schemas.microsoft.com/powershell/2004/04\"><Obj><Props><B N=\"Enabled\">true</B><S " +
			"N=\"DistinguishedName\">": "XML that cannot be read",
		"DistinguishedName : " + dnOf("x") + "\nSamAccountName : x\nEnabled : True\n!\n": ":4: a line that is neither",
		"\"DistinguishedName\",\"SamAccountName\",\"Enabled\"\n\"a\",\"b\"\n":            "as many cells as there are names",
		"DistinguishedName : CN=x\nSamAccountName : x\nEnabled : True\n":                 "names no domain",
		"[{\"DistinguishedName\": \"" + dnOf("x") + "\", \"SamAccountName\": \"x\", \"Enabled\": " +
			"true}": "cannot be read",
	} {
		src := &intake.Source{Path: "x", In: strings.NewReader(text), Keep: io.Discard, Differs: func() {}}
		if err := shell.Format.Read(src, estate.NewBuilder()); err == nil || !strings.Contains(err.Error(), say) {
			t.Errorf("%q: %v, want %s", text, err, say)
		}
	}
}

// Letters that are none of ASCII are the same in every page; a file that a workbook
// program saved again says the same, or less.
func TestPagesOfLetters(t *testing.T) {
	text := "\"DistinguishedName\";\"SamAccountName\";\"Enabled\";\"PasswordNeverExpires\";\"PasswordNotRequired\";\"PasswordLastSet\";" +
		"\"PrimaryGroupID\";\"StreetAddress\"\r\n\"CN=Jörg Müßener," + base + "\";\"jörg.müßener\";\"WAHR\";\"FALSCH\";\"FAUX\";" +
		"\"14.03.2026 09:10:11\";\"513\";\"two\nlines\"\r\n\"CN=B," + base + "\";\"b\";\"oui\";\"FALSCH\";\"FAUX\";\"03/04/2026 " +
		"09:10:11\";\"513\";\"\"\r\n"
	for name, page := range map[string]encoding.Encoding{"437": charmap.CodePage437, "850": charmap.CodePage850, "1252": charmap.Windows1252,
		"UTF-8": unicode.UTF8, "UTF-16": unicode.UTF16(unicode.LittleEndian, unicode.UseBOM),
		"UTF-16 without a mark": unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM)} {
		raw, err := page.NewEncoder().String(text)
		if err != nil {
			t.Fatal(err)
		}
		b := estate.NewBuilder()
		kept := taken(t, b, &shell.Format, raw)[0]
		o := b.Finish()[0].Objects
		if got := o.Name.At(0); got != "jörg.müßener" || o.FlagsOf(0) != 0 || o.PwdSet.At(0) != 1773479411 {
			t.Errorf("%s: %q %v %d", name, got, o.FlagsOf(0), o.PwdSet.At(0))
		}
		if o.FlagsOf(1) != estate.NoControl || o.PwdSet.At(1) != 0 || o.Line.At(1) != 4 || len(b.Problems) != 2 {
			t.Errorf("%s: %v %d, line %d, %v", name, o.FlagsOf(1), o.PwdSet.At(1), o.Line.At(1), b.Problems)
		}
		if strings.Count(kept, "\n") != strings.Count(text, "\n") || strings.Contains(kept, "lines") {
			t.Errorf("%s: kept %q", name, kept)
		}
	}
}

// A machine's accounts, in every form; what was not printed is not known.
func TestLocalUsers(t *testing.T) {
	users := [][]pair{
		{{"Name", "Administrator"}, {"Enabled", "False"}, {"PasswordExpires", ""}, {"PasswordLastSet", "2026-03-04 09:10:11"},
			{"PasswordRequired", "True"},
			{"Description", "his dog is called Rex"}, {"SID", "S-1-5-21-7-8-9-500"}},
		{{"Name", "clerk"}, {"Enabled", "True"}, {"PasswordExpires", "2026-05-04 09:10:11"}, {"PasswordLastSet", "2026-03-04 09:10:11"},
			{"PasswordRequired", "False"}, {"Description", "x"}, {"SID", "S-1-5-21-7-8-9-1001"}}}
	for _, form := range []string{"list", "json", ",", ";", "table", "xml"} {
		text := printed(form, users)
		if shell.Format.Detect("x", []byte(text)) {
			t.Errorf("%s: taken for a directory's", form)
		}
		b := estate.NewBuilder()
		kept := takenAs(t, b, &shell.LocalUsers, "in/Weigh1-users.txt", text)
		a := b.Finish()[0]
		o := a.Objects
		if a.Name != "weigh1" || a.Kind != estate.Machine || a.Accounts != 2 || o.FlagsOf(0) != estate.Disabled|estate.NeverExpires ||
			o.FlagsOf(1) != estate.NoneRequired || o.RID.At(0) != 500 || strings.Contains(kept, "Rex") {
			t.Errorf("%s: %s %d %v %v\n%s", form, a.Name, a.Accounts, o.FlagsOf(0), o.FlagsOf(1), kept)
		}
	}
	b := estate.NewBuilder()
	takenAs(t, b, &shell.LocalUsers, "weigh1.csv", "Name,PasswordRequired,PasswordExpires\nclerk,True,\n")
	if f := b.Finish()[0].Objects.FlagsOf(0); f != estate.NoControl {
		t.Errorf("%v", f)
	}
}

// A list of members whose name is no group's, or that of two, counts for nothing.
func TestListsOfMembers(t *testing.T) {
	row := "\"distinguishedName\",\"name\",\"objectClass\",\"SamAccountName\",\"SID\"\n\"" + dnOf("u0") +
		"\",\"u0\",\"user\",\"u0\",\"S-1-5-21-1-2-3-10\"\n"
	groups := "\"DistinguishedName\",\"GroupCategory\",\"GroupScope\",\"SamAccountName\",\"SID\"\n\"CN=g,OU=A," + base +
		"\",\"Security\",\"Global\",\"g\",\"S-1-5-21-1-2-3-20\"\n\"CN=h,OU=A," + base +
		"\",\"Security\",\"Global\",\"h\",\"S-1-5-21-1-2-3-21\"\n\"CN=g,OU=B," + base +
		"\",\"Security\",\"Global\",\"g2\",\"S-1-5-21-1-2-3-22\"\n"
	for name, want := range map[string]int{"g.csv": 0, "members-of-h.csv": 1, "H members.csv": 1, "what.csv": 0, "g2.csv": 1} {
		b := estate.NewBuilder()
		takenAs(t, b, &shell.Format, "groups.csv", groups)
		takenAs(t, b, &shell.Format, name, row)
		a := b.Finish()[0]
		if a.Memberships != want || len(a.Problems) != 1-want {
			t.Errorf("%s: %d memberships, %v", name, a.Memberships, a.Problems)
		}
	}
}

func FuzzRead(f *testing.F) {
	w := randomWorld(rand.New(rand.NewPCG(1, 1)))
	for _, form := range []string{"list", "json", ";", "table", "xml"} {
		f.Add([]byte(printed(form, [][]pair{w.head.pairs(base)})))
		f.Add([]byte(printed(form, [][]pair{w.users[0].pairs(), w.users[1].pairs()})))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		b := estate.NewBuilder()
		b.StartFile("x")
		var kept bytes.Buffer
		src := &intake.Source{Path: "x", In: bytes.NewReader(data), Keep: &kept, Differs: func() {}}
		if err := shell.Format.Read(src, b); err != nil {
			return
		}
		b.Finish()
		if text, err := intake.Decode(data); err == nil && bytes.Count(kept.Bytes(), []byte("\n")) < bytes.Count(text, []byte("\n"))-1 &&
			src.Struck+src.NotKept > 0 {
			t.Errorf("lines were lost: %d of %d", bytes.Count(kept.Bytes(), []byte("\n")), bytes.Count(text, []byte("\n")))
		}
	})
}
