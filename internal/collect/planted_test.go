package collect

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"golang.org/x/text/encoding/unicode"

	"sternledger/fieldmaps"
	"sternledger/internal/core/estate"
	"sternledger/internal/intake"
	"sternledger/internal/intake/fieldmap"
	"sternledger/internal/intake/unix"
)

// planted are secrets that do not show themselves: they have to go because nothing
// reads what stands there.
var planted = []string{"Tide!Lamp9-Quay", "TideLamp9Quay"}

// spoilt are lines, or pieces of one, with SECRET where a grammar allows something that no
// rule knows, by how files look.
var spoilt = map[string][]string{
	"ldif": {"unheardOf: SECRET", "x-SECRET: 1", "description: SECRET", "# SECRET", "pwdReset: SECRET", "pwdLastSet: SECRET", "lockoutTime:: BASE64",
		"unheardOf:: BASE64", "adminCount: 1\n SECRET", "objectSid:: BASE64", "entryUUID: SECRET,x", "displayName: Ann, password: SECRET"},
	"inf": {"; SECRET", "Unheard = SECRET", "SECRET = 1", "[SECRET]\nX = SECRET\n[System Access]", "MACHINE\\Software\\SECRET=4,1",
		"[Registry Values]\nMACHINE\\Software\\SECRET=1,SECRET\n[System Access]", "MinimumPasswordLength = SECRET"},
	"reg": {"; SECRET", `"Unheard"="SECRET"`, `"SECRET"=dword:00000001`, "[HKEY_LOCAL_MACHINE\\SOFTWARE\\SECRET]", `"NoLMHash"="SECRET"`,
		"hex:SECRET", "SECRET"},
	"xml":      {"<!-- SECRET -->", "<?x SECRET?>", "<Unheard>SECRET</Unheard>", `<Unheard a="SECRET"/>`, `<Unheard name="SECRET" key="SECRET"/>`},
	"list":     {"Unheard : SECRET", "MinPasswordLength : SECRET", "LockedOut : SECRET"},
	"printed":  {"Unheard: SECRET", "SECRET", "Note: SECRET", "Minimum password length: SECRET", "Attributes: SECRET"},
	"net":      {"SECRET", "Unheard of:   SECRET"},
	"conf":     {"rootpw SECRET", "unheard SECRET", "# SECRET", "SECRET x", "suffix \"dc=a,dc=example\" SECRET", " SECRET", "overlay SECRET"},
	"sheet":    {"# SECRET"},
	"policies": {"SECRET", "Unheard of\tSECRET", "Minimum password length\tSECRET", "SECRET\t14 characters", "Password\t14 SECRET"},
	"unix": {"# SECRET", "SECRET", "Unheard SECRET", "UNHEARD=SECRET", "unheard = SECRET", "minlen = SECRET", "PASS_MAX_DAYS SECRET", "deny=5 # SECRET",
		"auth required pam_unix.so SECRET", "auth optional pam_ldap.so bindpw=SECRET x=SECRET", "auth optional other.so SECRET", "auth [default=SECRET] x.so",
		"auth required pam_unix.so unheard=SECRET remember=SECRET", "SECRET required pam_unix.so", "auth optional [SECRET]", "cy:SECRET", "cy:x:SECRET",
		"cy:x:1:1:SECRET", "+SECRET", "cy:x:1002:SECRET:::/bin/sh", "cy:x:1002:1002::/home/cy:/bin/sh SECRET", "passwd: files SECRET", "/bin/sh SECRET",
		"ada ALL=(ALL) /bin/x SECRET", "Defaults x=SECRET", "auth required \\\n pam_x.so \\\n SECRET"},
}

// samples are what formats of single files read; the shipped demo has the others.
var samples = map[string]struct{ form, text string }{
	"weigh4-secpol.txt": {"policies", "Policy\tSecurity Setting\nEnforce password history\t24 passwords remembered\nMaximum password age\t365 days\n" +
		"Minimum password age\t1 days\nSomething else\tEnabled\n"},
	"slapd.conf":      {"conf", "database mdb\nsuffix \"dc=yard,dc=example\"\noverlay ppolicy\nppolicy_default \"cn=d,dc=yard,dc=example\"\n"},
	"lsa.reg":         {"reg", "Windows Registry Editor Version 5.00\r\n\r\n[HKEY_LOCAL_MACHINE\\SYSTEM\\CurrentControlSet\\Control\\Lsa]\r\n\"NoLMHash\"=dword:00000001\r\n"},
	"realm.txt":       {"printed", "Authenticating as principal ada/admin@TIDE.EXAMPLE with password.\nPolicy: crew\nMaximum password life: 90 days 00:00:00\nMinimum password length: 9\nPrincipal: ada@TIDE.EXAMPLE\nExpiration date: [never]\nAttributes: REQUIRES_PRE_AUTH\nPolicy: crew\n"},
	"old-pdbedit.txt": {"printed", "account policy \"min password length\" value is: 5\naccount policy \"password history\" value is: 0\n"},
	"samba.txt":       {"printed", "Password information for domain 'DC=quay,DC=example'\n\nPassword complexity: on\nMinimum password length: 7\n"},
	"quay.example/Policies/{31B2F340-016D-11D2-945F-00C04FB984F9}/GPT.INI": {"inf", "[General]\nVersion=3\n"},
	"desk_users.json":      {"json", `[{"Name": "ada", "Enabled": true, "PasswordRequired": true, "PasswordExpires": null, "UserMayChangePassword": true, "SID": "S-1-5-21-1-2-3-1001"}]`},
	"export.csv":           {"csv", "DN,objectClass,sAMAccountName,userAccountControl,unheard\n\"CN=a,DC=quay,DC=example\",top;person;user,a,512,x\n"},
	"marrowick.sheet.yaml": {"sheet", "sheet:\n  - authority: Gate\n    read-by: Q\n    read-on: 2026-11-20\n    settings:\n      min-length: 8 characters\n"},
	"quay.example/Policies/{31B2F340-016D-11D2-945F-00C04FB984F9}/Machine/Preferences/Registry/Registry.xml": {"xml",
		"<?xml version=\"1.0\"?>\n<RegistrySettings clsid=\"{A3CCFC41-DFDB-43a5-8D26-0FE8B954DA51}\">\n</RegistrySettings>\n"},
}

// planting makes copies of a sample with a secret somewhere.
func planting(rnd *rand.Rand, form, text, secret string, most int) (all []string) {
	fill := strings.NewReplacer("SECRET", secret, "BASE64", base64.StdEncoding.EncodeToString([]byte(secret)))
	switch form {
	case "json":
		for range most {
			var at []int
			for i, c := range text {
				if c == '{' {
					at = append(at, i+1)
				}
			}
			if len(at) == 0 {
				return nil // a list of nothing
			}
			i := at[rnd.IntN(len(at))]
			member := fill.Replace([]string{`"unheardOf":"SECRET"`, `"unheardOf":{"x":["SECRET",{"y":"SECRET"}]}`, `"SECRET":1`, `"value":"SECRET"`,
				`"name":"SmtpHost","Value":"SECRET"`, `"credentials":[{"value":"SECRET"}]`, `"x":"SECRET"`, `"userAttributes":[{"Name":"custom:x","Value":"SECRET"}]`}[rnd.IntN(8)])
			if rest := strings.TrimSpace(text[i:]); !strings.HasPrefix(rest, "}") {
				member += ","
			}
			all = append(all, text[:i]+member+text[i:])
		}
		return all
	case "csv":
		rows := strings.SplitAfter(strings.TrimRight(text, "\n"), "\n")
		for _, head := range []string{"unheardOf", secret} {
			var b strings.Builder
			for i, row := range rows {
				sep := string(intake.Separator([]byte(rows[0])))
				bare := strings.TrimRight(row, "\r\n")
				b.WriteString(bare + sep + map[bool]string{true: `"` + head + `"`, false: secret}[i == 0] + row[len(bare):])
			}
			all = append(all, b.String()+"\n")
		}
		return all
	}
	lines := strings.SplitAfter(text, "\n")
	for range most {
		i := 1 + rnd.IntN(len(lines))
		piece := fill.Replace(spoilt[form][rnd.IntN(len(spoilt[form]))])
		all = append(all, strings.Join(lines[:i], "")+piece+"\n"+strings.Join(lines[i:], ""))
	}
	return all
}

// leaks reports in what spelling a text holds a secret.
func leaks(text []byte, secret string) string {
	wide, _ := unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM).NewEncoder().Bytes([]byte(secret))
	for how, form := range map[string][]byte{"as it is": []byte(secret), "in UTF-16": wide, "in base64": []byte(base64.StdEncoding.EncodeToString([]byte(secret)))} {
		if bytes.Contains(bytes.ToLower(text), bytes.ToLower(form)) {
			return how
		}
	}
	return ""
}

// told is all that a reader says of a text: its copy, its facts, its problems, its error.
func told(read func(*estate.Builder) ([]byte, error)) []byte {
	b := estate.NewBuilder()
	b.StartFile("x")
	kept, err := read(b)
	var out bytes.Buffer
	out.Write(kept)
	fmt.Fprintln(&out, err)
	if err == nil {
		authorities := b.Finish()
		for _, a := range authorities {
			facts, _ := json.Marshal(a)
			out.Write(facts)
			fmt.Fprintf(&out, "%+v %+v %+v", a.Head, a.Overrides, a.Remarks)
			for row := range a.Objects.Len() {
				fmt.Fprintln(&out, a.Objects.Name.At(row), a.Objects.Display.At(row))
			}
		}
		fmt.Fprintf(&out, "%+v %+v", b.Problems, b.Templates)
	}
	return out.Bytes()
}

func formOf(name, text string) string {
	switch f := formatOf(name, []byte(text)); {
	case strings.HasSuffix(name, ".json"):
		return "json"
	case f == nil || strings.HasSuffix(name, ".csv"):
		return "csv"
	case strings.HasPrefix(f.Name, "directory export (LDIF)"):
		return "ldif"
	case strings.HasPrefix(f.Name, "security template"):
		return "inf"
	case strings.Contains(f.Name, "net accounts"):
		return "net"
	case strings.HasPrefix(strings.TrimSpace(strings.TrimPrefix(text, "\ufeff")), "<"):
		return "xml"
	}
	return "list"
}

func formatOf(name string, text []byte) *intake.Format {
	i := slices.IndexFunc(formats, func(f *intake.Format) bool { return f.Detect(name, text[:min(len(text), intake.HeadSize)]) })
	if i < 0 {
		return nil
	}
	return formats[i]
}

// places is at how many places of each text each secret is planted; STERNLEDGER_PLANTED says
// how many more times.
func places(t *testing.T, usual int) int {
	more := os.Getenv("STERNLEDGER_PLANTED")
	if more == "" {
		return usual
	}
	n, err := strconv.Atoi(more)
	if err != nil || n < 1 {
		t.Fatalf("STERNLEDGER_PLANTED=%s; expected a number from 1 on", more)
	}
	return usual * n
}

// Whatever a file holds that no rule reads, wherever its grammar allows it, is found
// nowhere: not in the copy, in no fact, in no message. Every format has a sample.
func TestPlantedInFiles(t *testing.T) {
	rnd := rand.New(rand.NewPCG(33, 1))
	seen := map[string]int{}
	try := func(name, form, text string) {
		f := formatOf(name, []byte(text))
		if f == nil {
			t.Errorf("%s: of no format", name)
			return
		}
		for _, secret := range planted {
			for _, with := range planting(rnd, form, text, secret, places(t, 40)) {
				seen[f.Name]++
				said := told(func(b *estate.Builder) ([]byte, error) {
					var kept bytes.Buffer
					err := f.Read(&intake.Source{Path: name, In: strings.NewReader(with), Keep: &kept, Differs: func() {},
						Beside: func(string) []byte { return nil }}, b)
					return kept.Bytes(), err
				})
				if how := leaks(said, secret); how != "" {
					i := strings.Index(with, secret)
					t.Errorf("%s (%s) keeps %s, %s: …%q…", name, f.Name, secret, how, with[max(0, i-80):min(len(with), max(0, i)+40)])
				}
			}
		}
	}
	root := "../../demo/exports"
	if err := filepath.WalkDir(root, func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		text, err := intake.Decode(data)
		if f := formatOf(filepath.ToSlash(file), data); err != nil || f == nil || bytes.HasPrefix(data, []byte("PReg")) {
			return err
		}
		if len(text) > 60_000 {
			text = text[:bytes.LastIndex(text[:60_000], []byte("\n\n"))+2]
		}
		try(filepath.ToSlash(file), formOf(filepath.ToSlash(file), string(text)), string(text))
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	for name, s := range samples {
		try(name, s.form, s.text)
	}
	pol(t, seen)
	for _, f := range formats {
		if seen[f.Name] == 0 {
			t.Errorf("%s: no sample of it was tried", f.Name)
		}
	}
}

// pol tries a registry file: names, keys and values of each type.
func pol(t *testing.T, seen map[string]int) {
	wide := func(text string) []byte {
		out, _ := unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM).NewEncoder().Bytes([]byte(text))
		return out
	}
	for _, secret := range planted {
		for _, c := range []struct {
			key, name string
			kind      uint32
			data      []byte
		}{{`Software\Quay`, secret, 4, []byte{1, 0, 0, 0}}, {`Software\` + secret, "x", 4, []byte{1, 0, 0, 0}}, {`Software\Quay`, "x", 1, wide(secret + "\x00")},
			{`Software\Quay`, "x", 3, []byte(secret)}, {`System\CurrentControlSet\Control\Lsa`, "NoLMHash", 1, wide(secret + "\x00")}} {
			var b bytes.Buffer
			b.WriteString("PReg\x01\x00\x00\x00")
			b.Write(wide("[" + c.key + "\x00;" + c.name + "\x00;"))
			_ = binary.Write(&b, binary.LittleEndian, c.kind)
			b.Write(wide(";"))
			_ = binary.Write(&b, binary.LittleEndian, uint32(len(c.data)))
			b.Write(wide(";"))
			b.Write(c.data)
			b.Write(wide("]"))
			name := "quay.example/Policies/{31B2F340-016D-11D2-945F-00C04FB984F9}/Machine/Registry.pol"
			f := formatOf(name, b.Bytes())
			seen[f.Name]++
			said := told(func(into *estate.Builder) ([]byte, error) {
				var kept bytes.Buffer
				err := f.Read(&intake.Source{Path: name, In: &b, Keep: &kept, Differs: func() {}, Beside: func(string) []byte { return nil }}, into)
				return kept.Bytes(), err
			})
			if how := leaks(said, secret); how != "" {
				t.Errorf("%s keeps %s, %s", c.key, secret, how)
			}
		}
	}
}

// The same of exports that are made of several files, of machines and of tenants.
func TestPlantedInTrees(t *testing.T) {
	rnd := rand.New(rand.NewPCG(33, 2))
	var maps []*fieldmap.Map
	for name := range fieldMaps(t) {
		m, err := fieldmap.Parse(name, fieldMaps(t)[name])
		if err != nil {
			t.Fatal(err)
		}
		maps = append(maps, m)
	}
	for root, format := range map[string]intake.TreeFormat{"gates/gate1": unix.Format, "gates/gate3": unix.Format, "office": *fieldmap.Format(maps),
		"helm": *fieldmap.Format(maps), "papers": *fieldmap.Format(maps), "tide-realm": *fieldmap.Format(maps), "ferry-pool": *fieldmap.Format(maps),
		"cargo-database": *fieldmap.Format(maps), "cloud-account": *fieldmap.Format(maps), "devices": *fieldmap.Format(maps)} {
		files := map[string]string{}
		dir := filepath.Join("../../demo/exports", root)
		if err := filepath.WalkDir(dir, func(file string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			data, err := os.ReadFile(file)
			name, _ := filepath.Rel(dir, file)
			files[filepath.ToSlash(name)] = string(data)
			return err
		}); err != nil {
			t.Fatal(err)
		}
		if strings.HasPrefix(root, "gates") {
			for name, text := range map[string]string{"etc/sudoers": "root ALL=(ALL:ALL) ALL\n", "etc/security/limits.conf": "* hard core 0\n",
				"etc/hostname": "gate\n", "etc/shells": "/bin/sh\n", "etc/os-release": "ID=debian\n", "etc/security/access.conf": "+ : root : LOCAL\n"} {
				files[name] = text
			}
		}
		for name, text := range files {
			form := strings.TrimPrefix(path.Ext(name), ".")
			if strings.HasPrefix(root, "gates") {
				form = "unix"
			}
			for _, secret := range planted {
				for _, with := range planting(rnd, form, text, secret, places(t, 8)) {
					said := told(func(b *estate.Builder) ([]byte, error) {
						tree := &intake.Tree{Name: "here", Path: root}
						for _, other := range sorted(files) {
							text := files[other]
							if other == name {
								text = with
							}
							tree.Parts = append(tree.Parts, &intake.Part{Name: other, Path: root + "/" + other, Stored: other, Data: []byte(text)})
						}
						err := format.Read(tree, b)
						var out bytes.Buffer
						for _, p := range tree.Parts {
							kept, _, _ := p.Copy()
							if err == nil {
								out.Write(kept)
							}
						}
						return out.Bytes(), err
					})
					if how := leaks(said, secret); how != "" {
						i := strings.Index(with, secret)
						t.Errorf("%s/%s keeps %s, %s: …%q…", root, name, secret, how, with[max(0, i-80):min(len(with), max(0, i)+40)])
					}
				}
			}
		}
	}
}

func fieldMaps(t *testing.T) map[string][]byte {
	all := map[string][]byte{}
	names, err := fs.Glob(fieldmaps.Files, "*.yaml")
	if err != nil || len(names) == 0 {
		t.Fatal(err, names)
	}
	for _, name := range names {
		all[name], _ = fieldmaps.Files.ReadFile(name)
	}
	return all
}

func sorted(files map[string]string) (names []string) {
	for name := range files {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}
