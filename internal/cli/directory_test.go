package cli_test

import (
	"encoding/base64"
	"encoding/csv"
	"fmt"
	"maps"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"sternledger/internal/labtest"
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
	script := labtest.Script(t, "directory")
	for _, tool := range []string{"samba-tool", "ldbsearch"} {
		if _, err := exec.LookPath(tool); err != nil {
			labtest.Lacking(t, "no %s; \"labs/directory install\" installs it", tool)
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
		d.t.Fatalf("labs/directory %v: %v\n%s%s", args, err, out, errs.String())
	}
	return string(out)
}

// labPorts are the ports that the lab's directory takes.
var labPorts = []string{"88", "389", "445", "636"}

// serve serves the directory until it is stopped, at the latest by the end of
// the test; env is added to the server's surroundings.
func (d *directory) serve(env ...string) {
	d.t.Helper()
	for _, port := range labPorts {
		l, err := net.Listen("tcp", "127.0.0.1:"+port)
		if err != nil {
			labtest.Lacking(d.t, "the lab's port is in use: %v", err)
		}
		l.Close()
	}
	serve := exec.Command(d.script, "serve", d.dir)
	serve.Env = append(os.Environ(), env...)
	d.t.Cleanup(d.stop)
	if err := serve.Run(); err != nil { // what it says would be waited for as long as it serves
		log, _ := os.ReadFile(filepath.Join(d.dir, "samba.log"))
		d.t.Fatalf("serve: %v\n%s", err, log)
	}
}

// stop ends the directory's server, if it serves, and waits for all that
// belongs to it: a server does not start beside one that is still ending.
func (d *directory) stop() {
	if _, err := os.Stat(filepath.Join(d.dir, "pid")); err != nil {
		return
	}
	pids := []string{filepath.Join(d.dir, "pid"), "/run/samba/samba.pid", "/run/samba/smbd.pid", "/run/samba/winbindd.pid"}
	_ = exec.Command(d.script, "stop", d.dir).Run()
	waitEnded(d.t, pids...)
	if err := os.Remove(filepath.Join(d.dir, "pid")); err != nil {
		d.t.Error(err)
	}
}

// waitEnded waits for the end of the processes that are named in files.
func waitEnded(t *testing.T, files ...string) {
	t.Helper()
	for _, file := range files {
		for try := 0; ; try++ {
			text, err := os.ReadFile(file)
			if err != nil {
				break // a server that ends in order takes its file with it
			}
			state, err := os.ReadFile("/proc/" + strings.TrimSpace(string(text)) + "/stat")
			if err != nil || strings.Contains(string(state), ") Z ") {
				break
			}
			if try == 300 {
				t.Errorf("%s: process %s does not end", file, text)
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
	}
}

// export writes every object of the directory to a file.
func (d *directory) export() string {
	return write(d.t, filepath.Join(d.t.TempDir(), "marrowick.ldif"), d.lab("export", d.dir))
}

// The values of a real directory's changed default, each with the line that
// shows it.
func TestRealDirectoryDefault(t *testing.T) {
	labtest.Wanted(t)
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
	doc := document(t, dir, "scopes")
	scope := 0 // the built-in administrator has one of his own: no lockout reaches him
	for at(doc, "scopes", scope, "tier") != "standard" {
		if scope++; scope > 9 {
			t.Fatal("no scope of the standard tier")
		}
	}
	settings := at(doc, "scopes", scope, "settings")
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

// escapedRDN writes a name as part of a DN (RFC 4514).
func escapedRDN(name string) string {
	var b strings.Builder
	for i, c := range name {
		if strings.ContainsRune(`,+"\<>;=`, c) || c == ' ' && (i == 0 || i == len(name)-1) {
			b.WriteByte('\\')
		}
		b.WriteRune(c)
	}
	return b.String()
}

// dnLine writes a line of LDIF, in base64 where it must be.
func dnLine(name, dn string) string {
	if strings.ContainsFunc(dn, func(c rune) bool { return c > 126 }) {
		return name + ":: " + base64.StdEncoding.EncodeToString([]byte(dn)) + "\n"
	}
	return name + ": " + dn + "\n"
}

// population makes up groups of all types in each other, accounts, and
// fine-grained policies on both, with ties: the same for the same seed.
func population(seed uint64) (records string, primary map[string]string) {
	const accounts, groups, policies, nest = 160, 110, 24, 50
	rnd := rand.New(rand.NewPCG(seed, seed))
	const base = "DC=marrowick,DC=example"
	var b strings.Builder
	fmt.Fprintf(&b, "dn: OU=Quays,%s\nobjectClass: organizationalUnit\n\n", base)
	odd := []string{"", "", "", "", "", ", Jr", ` "Sea"`, " + Co", "; Äö", " #1 ", " <x>", ` \ y`, " =z"}
	names := func(kind string, n int) []string {
		var all []string
		for i := range n {
			all = append(all, fmt.Sprintf("CN=%s,OU=Quays,%s", escapedRDN(fmt.Sprintf("%s %d%s", kind, i, odd[rnd.IntN(len(odd))])), base))
		}
		return all
	}
	accountNames, groupNames := names("Crew", accounts), names("Gang", groups)
	account := func(i int) string { return accountNames[i] }
	group := func(i int) string { return groupNames[i] }
	builtins := []string{"CN=Print Operators,CN=Builtin," + base, "CN=Server Operators,CN=Builtin," + base,
		"CN=Remote Desktop Users,CN=Builtin," + base}
	primary = map[string]string{}
	controls := []int{512, 512, 512, 514, 66048, 544, 640}
	for i := range accounts {
		fmt.Fprintf(&b, "%sobjectClass: user\nsAMAccountName: crew%d\nuserAccountControl: %d\n\n", dnLine("dn", account(i)), i,
			controls[rnd.IntN(len(controls))])
	}
	types := []int{-2147483646, -2147483646, -2147483646, -2147483644, -2147483640, 2}
	members := make([]map[string]bool, groups)
	for i := range groups {
		members[i] = map[string]bool{}
		if i < nest && i%9 != 0 {
			continue // a long nest with few accounts, which would otherwise hold them all
		}
		if i%10 != 0 { // every tenth stays empty of accounts
			for range 1 + rnd.IntN(6) {
				members[i][account(rnd.IntN(accounts))] = true
			}
		}
		for range rnd.IntN(3) {
			if other := nest + rnd.IntN(groups-nest); other != i { // circles included
				members[i][group(other)] = true
			}
		}
	}
	for i := range groups {
		kind := types[rnd.IntN(len(types))]
		if i < nest { // a nest deeper than anybody's own
			kind = types[0]
			members[i][group(i+1)] = true
		}
		fmt.Fprintf(&b, "%sobjectClass: group\nsAMAccountName: gang%d\ngroupType: %d\n\n", dnLine("dn", group(i)), i, kind)
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
			targets[group(nest+rnd.IntN(groups-nest))] = true
		}
		if i%8 == 0 {
			targets[group(rnd.IntN(nest/2))] = true
		}
		if rnd.IntN(4) == 0 {
			targets[account(rnd.IntN(accounts))] = true
		}
		if rnd.IntN(4) == 0 {
			targets[builtins[rnd.IntN(len(builtins))]] = true
		}
		for _, t := range slices.Sorted(maps.Keys(targets)) {
			b.WriteString(dnLine("msDS-PSOAppliesTo", t))
		}
		b.WriteString("\n")
	}
	records = b.String()
	holders := slices.Concat(groupNames, builtins)
	for range builtins {
		m := map[string]bool{group(rnd.IntN(groups)): true}
		for range 4 {
			m[account(rnd.IntN(accounts))] = true
		}
		members = append(members, m)
	}
	var change strings.Builder
	for i, m := range members {
		if len(m) == 0 {
			continue
		}
		change.WriteString(dnLine("dn", holders[i]) + "changetype: modify\nadd: member\n")
		for _, dn := range slices.Sorted(maps.Keys(m)) {
			change.WriteString(dnLine("member", dn))
			if rnd.IntN(25) == 0 && strings.HasPrefix(dn, "CN=Crew") {
				primary[dn] = holders[i]
			}
		}
		change.WriteString("\n")
	}
	return records + "\x00" + change.String(), primary
}

// populated is a copy of the directory with a population, moved and renamed in
// part, and its own answer for every account.
func (d *directory) populated(t *testing.T, seed uint64) (one *directory, answers map[string]string, primaries int) {
	one = &directory{t, d.script, filepath.Join(t.TempDir(), "d")}
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
	sam := filepath.Join(one.dir, "dc/private/sam.ldb")
	for i := range 6 { // moved to another place, and renamed there
		from := regexp.MustCompile(fmt.Sprintf(`(?m)^dn: (CN=(?:Crew|Gang) %d,OU=Quays,.*)$`, int(seed)%7+9*i)).FindStringSubmatch(records)
		if from == nil {
			continue
		}
		to := fmt.Sprintf("CN=Renamed %d,CN=Users,DC=marrowick,DC=example", i)
		if out, err := exec.Command("ldbrename", "-H", sam, from[1], to).CombinedOutput(); err != nil {
			t.Fatalf("%s: %v %s", from[1], err, out)
		}
	}
	answers = map[string]string{}
	for line := range strings.Lines(one.lab("resultant", one.dir)) {
		name, dn, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		answers[name] = dn
	}
	return one, answers, len(primary)
}

// accountRows are the rows of accounts --format csv, without the header.
func accountRows(t *testing.T, dir string) [][]string {
	t.Helper()
	rows, err := csv.NewReader(strings.NewReader(must(t, dir, "accounts", "--format", "csv"))).ReadAll()
	if err != nil || !strings.HasPrefix(strings.Join(rows[0], ","), "authority,account,enabled,tier,scope,policy,origin,rule,via,flags") {
		t.Fatalf("%v %v", err, rows[0])
	}
	return rows[1:]
}

// The directory's own answer for every account of three random populations, or of
// as many others as STERNLEDGER_ROUNDS says:
// from the whole export, and from crippled ones, of which each answer must be
// the directory's own or "unknown", and "unknown" only where a plain reading of
// what is left does not decide it either.
func TestRealDirectoryPrecedence(t *testing.T) {
	labtest.Wanted(t)
	d := newDirectory(t)
	from, rounds := uint64(0), uint64(3)
	if n, err := strconv.ParseUint(os.Getenv("STERNLEDGER_ROUNDS"), 10, 64); err == nil {
		from, rounds = 1000, n
	}
	for seed := from; seed < from+rounds; seed++ {
		t.Run(fmt.Sprint("population ", seed), func(t *testing.T) {
			one, answers, primaries := d.populated(t, seed)
			export := one.lab("export", one.dir)
			dir := begin(t)
			must(t, dir, "gather", write(t, filepath.Join(t.TempDir(), "marrowick.ldif"), export))
			rows := accountRows(t, dir)
			rules := map[string]int{}
			for _, row := range rows {
				if answers[row[1]] != row[6] {
					t.Errorf("%s: we say %s (%s via %s), the directory says %s", row[1], row[6], row[7], row[8], answers[row[1]])
				}
				rules[row[7]]++
			}
			if len(rows) != len(answers) || rules["direct"] == 0 || rules["group"] < 20 || rules["default"] < 5 || rules["unknown"] > 0 ||
				primaries == 0 {
				t.Errorf("%d accounts, %d answers, rules %v, %d primary groups: the population tests too little", len(rows), len(answers),
					rules, primaries)
			}
			// The other dialect must not pass for the right one.
			config, _ := os.ReadFile(filepath.Join(dir, "engagement.yaml"))
			write(t, filepath.Join(dir, "engagement.yaml"), string(config)+"\nauthorities: {marrowick.example: {dialect: windows}}\n")
			differ := 0
			for i, other := range accountRows(t, dir) {
				if other[6] != rows[i][6] {
					differ++
				}
			}
			if differ < 10 {
				t.Errorf("only %d accounts differ in the windows dialect", differ)
			}
			t.Logf("%d accounts, rules %v, %d with another primary group, %d differ in the windows dialect", len(answers), rules, primaries, differ)
			for _, c := range cripples {
				t.Run(c.name, func(t *testing.T) { judge(t, c.of(parseRecords(export), seed), answers) })
			}
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
