package cli_test

import (
	"encoding/csv"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// directory is a real directory in a folder of its own (see the lab's README).
type directory struct {
	t      *testing.T
	script string
	dir    string
}

// newDirectory builds a real directory, or skips the test where there is none.
func newDirectory(t *testing.T) *directory {
	t.Helper()
	script := os.Getenv("DIRECTORY_LAB")
	if script == "" {
		script, _ = filepath.Abs("../../../shared/lab/directory-lab")
	}
	if _, err := os.Stat(script); err != nil {
		t.Skip("skipped: no directory-lab script; name it in DIRECTORY_LAB")
	}
	for _, tool := range []string{"samba-tool", "ldbsearch"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("skipped: no %s; \"directory-lab install\" installs it", tool)
		}
	}
	d := &directory{t, script, filepath.Join(t.TempDir(), "d")}
	d.lab("build", d.dir)
	return d
}

func (d *directory) lab(args ...string) string {
	d.t.Helper()
	var errs strings.Builder
	cmd := exec.Command(d.script, args...)
	cmd.Stderr = &errs
	out, err := cmd.Output()
	if err != nil {
		d.t.Fatalf("directory-lab %v: %v\n%s%s", args, err, out, errs.String())
	}
	return string(out)
}

// export writes every object of the directory to a file.
func (d *directory) export() string {
	return write(d.t, filepath.Join(d.t.TempDir(), "marrowick.ldif"), d.lab("export", d.dir))
}

// The values of a real directory's changed default, each with the line that
// shows it.
func TestRealDirectoryDefault(t *testing.T) {
	d := newDirectory(t)
	change := write(t, filepath.Join(t.TempDir(), "change.ldif"), `dn: DC=marrowick,DC=example
changetype: modify
replace: minPwdLength
minPwdLength: 10
-
replace: maxPwdAge
maxPwdAge: -25920000000000
-
replace: minPwdAge
minPwdAge: 0
-
replace: lockoutThreshold
lockoutThreshold: 3
-
replace: lockoutDuration
lockoutDuration: -9223372036854775808
`)
	d.lab("modify", d.dir, change)
	dir := begin(t)
	must(t, dir, "gather", d.export())
	settings := at(document(t, dir, "scopes"), "scopes", 0, "settings")
	for id, want := range map[string]struct {
		value, special any
		raw            string
	}{
		"min-length":            {10.0, nil, "10"},
		"max-age":               {30.0 * 86400, nil, "-25920000000000"},
		"min-age":               {nil, "at-once", "0"},
		"lockout-threshold":     {3.0, nil, "3"},
		"lockout-duration":      {nil, "until-admin", "-9223372036854775808"},
		"lockout-window":        {1800.0, nil, "-18000000000"},
		"history":               {24.0, nil, "24"},
		"complexity":            {true, nil, "1"},
		"reversible":            {false, nil, "1"},
		"lockout-administrator": {false, nil, "1"},
	} {
		got := at(settings, id)
		if at(got, "value") != want.value || at(got, "special") != want.special || at(got, "raw") != want.raw {
			t.Errorf("%s: %v, want %+v", id, got, want)
		}
		if at(got, "evidence") == nil {
			t.Errorf("%s: no evidence", id)
		} else {
			checkEvidence(t, dir, id, got.(map[string]any))
		}
	}
}

// population makes up groups of all types in each other, accounts, and
// fine-grained policies on both, with ties: the same for the same seed.
func population(seed uint64) (records string, primary map[string]string) {
	const accounts, groups, policies = 160, 60, 18
	rnd := rand.New(rand.NewPCG(seed, seed))
	const base = "DC=marrowick,DC=example"
	var b strings.Builder
	fmt.Fprintf(&b, "dn: OU=Quays,%s\nobjectClass: organizationalUnit\n\n", base)
	account := func(i int) string { return fmt.Sprintf("CN=Crew %d,OU=Quays,%s", i, base) }
	group := func(i int) string { return fmt.Sprintf("CN=Gang %d,OU=Quays,%s", i, base) }
	primary = map[string]string{}
	controls := []int{512, 512, 512, 514, 66048, 544, 640}
	for i := range accounts {
		fmt.Fprintf(&b, "dn: %s\nobjectClass: user\nsAMAccountName: crew%d\nuserAccountControl: %d\n\n", account(i), i, controls[rnd.IntN(len(controls))])
	}
	types := []int{-2147483646, -2147483646, -2147483646, -2147483644, -2147483640, 2}
	members := make([]map[string]bool, groups)
	for i := range groups {
		members[i] = map[string]bool{}
		if i%10 != 0 { // every tenth stays empty of accounts
			for range 1 + rnd.IntN(6) {
				members[i][account(rnd.IntN(accounts))] = true
			}
		}
		for range rnd.IntN(3) {
			if other := rnd.IntN(groups); other != i { // circles included
				members[i][group(other)] = true
			}
		}
	}
	for i := range groups {
		fmt.Fprintf(&b, "dn: %s\nobjectClass: group\nsAMAccountName: gang%d\ngroupType: %d\n\n", group(i), i, types[rnd.IntN(len(types))])
	}
	for i := range policies {
		fmt.Fprintf(&b, `dn: CN=Policy %d,CN=Password Settings Container,CN=System,%s
objectClass: msDS-PasswordSettings
msDS-PasswordSettingsPrecedence: %d
msDS-MinimumPasswordLength: %d
msDS-PasswordComplexityEnabled: TRUE
msDS-PasswordReversibleEncryptionEnabled: FALSE
msDS-PasswordHistoryLength: 24
msDS-MaximumPasswordAge: -36288000000000
msDS-MinimumPasswordAge: -864000000000
msDS-LockoutThreshold: 5
msDS-LockoutDuration: -9000000000
msDS-LockoutObservationWindow: -9000000000
`, i, base, 1+rnd.IntN(7), 8+i)
		targets := map[string]bool{}
		for range rnd.IntN(4) {
			targets[group(rnd.IntN(groups))] = true
		}
		if rnd.IntN(4) == 0 {
			targets[account(rnd.IntN(accounts))] = true
		}
		for _, t := range slices.Sorted(maps.Keys(targets)) {
			fmt.Fprintf(&b, "msDS-PSOAppliesTo: %s\n", t)
		}
		b.WriteString("\n")
	}
	records = b.String()
	var change strings.Builder
	for i, m := range members {
		if len(m) == 0 {
			continue
		}
		fmt.Fprintf(&change, "dn: %s\nchangetype: modify\nadd: member\n", group(i))
		for _, dn := range slices.Sorted(maps.Keys(m)) {
			fmt.Fprintf(&change, "member: %s\n", dn)
			if rnd.IntN(25) == 0 && strings.HasPrefix(dn, "CN=Crew") {
				primary[dn] = group(i)
			}
		}
		change.WriteString("\n")
	}
	return records + "\x00" + change.String(), primary
}

// The directory's own answer for every account of three random populations.
func TestRealDirectoryPrecedence(t *testing.T) {
	d := newDirectory(t)
	for seed := range uint64(3) {
		t.Run(fmt.Sprint("population ", seed), func(t *testing.T) {
			one := &directory{t, d.script, filepath.Join(t.TempDir(), "d")}
			if out, err := exec.Command("cp", "-a", d.dir, one.dir).CombinedOutput(); err != nil {
				t.Fatalf("%v %s", err, out)
			}
			text, primary := population(seed)
			records, change, _ := strings.Cut(text, "\x00")
			one.lab("add", one.dir, write(t, filepath.Join(t.TempDir(), "add.ldif"), records))
			one.lab("modify", one.dir, write(t, filepath.Join(t.TempDir(), "members.ldif"), change))
			if moves := primaryGroups(one.lab("export", one.dir), primary); moves != "" {
				one.lab("modify", one.dir, write(t, filepath.Join(t.TempDir(), "primary.ldif"), moves))
			}
			answers := map[string]string{}
			for line := range strings.Lines(one.lab("resultant", one.dir)) {
				name, dn, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
				answers[name] = dn
			}
			dir := begin(t)
			must(t, dir, "gather", one.export())
			rows, err := csv.NewReader(strings.NewReader(must(t, dir, "accounts", "--format", "csv"))).ReadAll()
			if err != nil || strings.Join(rows[0], ",") != "authority,account,enabled,tier,scope,policy,origin,rule,via,flags" {
				t.Fatalf("%v %v", err, rows[0])
			}
			rules := map[string]int{}
			for _, row := range rows[1:] {
				if answers[row[1]] != row[6] {
					t.Errorf("%s: we say %s (%s via %s), the directory says %s", row[1], row[6], row[7], row[8], answers[row[1]])
				}
				rules[row[7]]++
			}
			if len(rows)-1 != len(answers) || rules["direct"] == 0 || rules["group"] < 20 || rules["default"] < 5 || len(primary) == 0 {
				t.Errorf("%d accounts, %d answers, rules %v, %d primary groups: the population tests too little", len(rows)-1, len(answers), rules, len(primary))
			}
			// The other dialect must not pass for the right one.
			config, _ := os.ReadFile(filepath.Join(dir, "engagement.yaml"))
			write(t, filepath.Join(dir, "engagement.yaml"), string(config)+"\nauthorities: {marrowick.example: {dialect: windows}}\n")
			other, _ := csv.NewReader(strings.NewReader(must(t, dir, "accounts", "--format", "csv"))).ReadAll()
			differ := 0
			for i := range other {
				if other[i][6] != rows[i][6] {
					differ++
				}
			}
			if differ < 10 {
				t.Errorf("only %d accounts differ in the windows dialect", differ)
			}
			t.Logf("%d accounts, rules %v, %d with another primary group, %d differ in the windows dialect", len(answers), rules, len(primary), differ)
		})
	}
}

// primaryGroups writes the change that gives accounts their primary groups,
// whose SIDs only the directory knows.
func primaryGroups(export string, primary map[string]string) string {
	export = strings.ReplaceAll(export, "\n ", "")
	rids := map[string]string{}
	security := map[string]bool{}
	for record := range strings.SplitSeq(export, "\n\n") {
		dn, sid := "", ""
		for line := range strings.Lines(record) {
			line = strings.TrimSuffix(line, "\n")
			if v, ok := strings.CutPrefix(line, "dn: "); ok {
				dn = v
			} else if v, ok := strings.CutPrefix(line, "objectSid: "); ok {
				sid = v
			} else if v, ok := strings.CutPrefix(line, "groupType: "); ok {
				security[dn] = v == "-2147483646" || v == "-2147483640"
			}
		}
		rids[dn] = sid[strings.LastIndexByte(sid, '-')+1:]
	}
	var b strings.Builder
	for _, account := range slices.Sorted(maps.Keys(primary)) {
		if group := primary[account]; security[group] {
			fmt.Fprintf(&b, "dn: %s\nchangetype: modify\nreplace: primaryGroupID\nprimaryGroupID: %s\n\n", account, rids[group])
		}
	}
	return b.String()
}
