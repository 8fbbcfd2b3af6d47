package cli_test

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// pieces are what a page never breaks: places in files, fingerprints, names.
var pieces = regexp.MustCompile(`[a-z0-9-]+\.(ldif|inf|csv):[0-9]+|\[[0-9a-f]{12}\]|[a-z0-9-]+\.marrowick\.example`)

// The first screen of the demo and of many machines is one, at every width, and
// nothing in it is broken that must not be.
func TestOneScreen(t *testing.T) {
	beside(t)
	dir := harbour(t)
	audit := filepath.Join(dir, "audit")
	many := begin(t)
	trees := filepath.Join(t.TempDir(), "trees")
	if out, err := exec.Command("go", "run", "sternledger/bench/machines", "-machines", "300", "-deviating", "30",
		trees).CombinedOutput(); err != nil {
		t.Skipf("no go here: %s", out)
	}
	write(t, filepath.Join(many, "engagement.yaml"), "title: Many\nauditor: Q\nbaselines: [cis-debian-12]\n")
	must(t, many, "gather", trees, "--quiet")
	must(t, many, "weigh")
	whole := strings.Join(pieces.FindAllString(must(t, audit, "weigh", "--findings"), -1), " ")
	for _, width := range []string{"80", "100", "120"} {
		t.Run(width, func(t *testing.T) {
			page := func(dir string, args ...string) string {
				out, errs, status := runWith(t, "COLUMNS="+width, dir, args...)
				if status != 0 {
					t.Fatalf("%v: %s", args, errs)
				}
				return out
			}
			for _, c := range []struct {
				dir  string
				args []string
				most int
			}{{audit, []string{"weigh"}, 58}, {many, []string{"weigh"}, 62}, {many, []string{"scopes"}, 60},
				{many, []string{"weigh", "--matter", "M1"}, 34},
				{audit, []string{"trace", "w.lowe"}, 52}} {
				if width == "80" {
					c.most += 14
				}
				if n := strings.Count(page(c.dir, c.args...), "\n"); n > c.most {
					t.Errorf("%v takes %d lines, at most %d", c.args, n, c.most)
				}
			}
			findings := page(audit, "weigh", "--findings")
			for _, piece := range strings.Fields(whole) {
				if !strings.Contains(findings, piece) {
					t.Fatalf("%s is broken", piece)
				}
			}
		})
	}
	largest, deviates := 0, false
	for _, c := range document(t, many, "weigh")["cohorts"].([]any) {
		largest = max(largest, len(at(c, "places").([]any)))
		deviates = deviates || fmt.Sprint(at(c, "differs")) == "[minimum length 8 characters]"
	}
	if largest < 270 || !deviates {
		t.Errorf("%d are alike, and what deviates is told: %v", largest, deviates)
	}
}

// Every finding is in one matter; each matter is as grave as its gravest, and they
// come in their order. Cohorts hold every place that was weighed, once.
func TestMattersAndCohorts(t *testing.T) {
	beside(t)
	dir := harbour(t)
	audit := filepath.Join(dir, "audit")
	doc := document(t, audit, "weigh")
	severity := map[string]any{}
	for _, f := range doc["findings"].([]any) {
		severity[at(f, "fingerprint").(string)] = at(f, "severity")
	}
	rank := map[any]int{"minor": 0, "serious": 1, "grave": 2}
	seen, last := map[string]bool{}, 2
	for i, m := range doc["matters"].([]any) {
		gravest := 0
		for _, f := range at(m, "findings").([]any) {
			if seen[f.(string)] || severity[f.(string)] == nil {
				t.Errorf("%v of %v is in two matters, or is none", f, at(m, "matter"))
			}
			seen[f.(string)] = true
			gravest = max(gravest, rank[severity[f.(string)]])
		}
		if at(m, "matter") != fmt.Sprintf("M%d", i+1) || rank[at(m, "severity")] != gravest || gravest > last {
			t.Errorf("%v: %v, gravest %d after %d", at(m, "matter"), at(m, "severity"), gravest, last)
		}
		last = gravest
		if at(m, "title") == at(m, "check") {
			t.Errorf("%v has no title", at(m, "check"))
		}
	}
	if len(seen) != len(severity) {
		t.Errorf("%d of %d findings are in a matter", len(seen), len(severity))
	}
	var places []string
	for _, c := range doc["cohorts"].([]any) {
		for _, p := range at(c, "places").([]any) {
			places = append(places, p.(string))
		}
	}
	scoped := map[string]bool{}
	for _, s := range document(t, audit, "scopes")["scopes"].([]any) {
		scoped[at(s, "authority").(string)] = true
	}
	slices.Sort(places)
	if len(slices.Compact(slices.Clone(places))) != len(places) || len(places) != len(scoped) {
		t.Errorf("cohorts hold %v", places)
	}
	rows, err := csv.NewReader(strings.NewReader(must(t, audit, "weigh", "--all", "--format", "csv"))).ReadAll()
	if err != nil || len(rows) != len(doc["matters"].([]any))+1 {
		t.Errorf("%d rows of matters: %v", len(rows), err)
	}
	if rows, err = csv.NewReader(strings.NewReader(must(t, audit, "weigh", "--matrix", "--format", "csv"))).ReadAll(); err != nil ||
		len(rows) < 20 || len(rows[0]) < 20 || !slices.Contains(rows[0], "marrowick.example / Pilots") {
		t.Errorf("the matrix: %v %v", rows[0], err)
	}
}

// A matter is accepted whole, or in some places; its name is of one record.
func TestWaiveMatter(t *testing.T) {
	beside(t)
	dir := harbour(t)
	audit := filepath.Join(dir, "audit")
	var matter any
	for _, m := range document(t, audit, "weigh")["matters"].([]any) {
		if len(at(m, "places").([]any)) > 1 && slices.Contains(at(m, "places").([]any), any("gate3")) {
			matter = m
			break
		}
	}
	name, print := at(matter, "matter").(string), at(matter, "fingerprint").(string)
	waive := func(args ...string) []string {
		return append([]string{"waive", "--until", inAYear(), "--reason", "Rebuilt"}, args...)
	}
	for _, wrong := range [][]string{{"--matter", "M9999"}, {"--matter", name, "--place", "gate7"}, {"--place", "gate3"},
		{"--matter", name, "abc"}} {
		if _, _, status := run(t, audit, waive(wrong...)...); status == 0 {
			t.Errorf("%v was accepted", wrong)
		}
	}
	accepted := document(t, audit, waive("--matter", name, "--place", "GATE3")...)["waivers"].([]any)
	for _, w := range accepted {
		if !strings.HasPrefix(at(w, "scope").(string), "gate3") {
			t.Errorf("it covers %v", at(w, "scope"))
		}
	}
	// The next weighing is another record: its names are not those that were seen.
	if _, errs, status := run(t, audit, "weigh", "--matter", name); status != 1 || !strings.Contains(errs, "of an earlier record") {
		t.Errorf("%d %s", status, errs)
	}
	for _, f := range document(t, audit, "weigh", "--place", "gate3", "--only", "waived")["findings"].([]any) {
		if !strings.HasPrefix(at(f, "scope").(string), "gate3") {
			t.Errorf("waived: %v", at(f, "scope"))
		}
	}
	if len(accepted) == 0 || len(document(t, audit, "weigh", "--only", "waived")["findings"].([]any)) != len(accepted) {
		t.Error("what is waived is not what was accepted")
	}
	must(t, audit, "gather", "--quiet", write(t, filepath.Join(t.TempDir(), "y.ldif"),
		strings.ReplaceAll(smallHead+smallUser, "DC=x,", "DC=y,")))
	if _, errs, status := run(t, audit, waive("--matter", name)...); status != 1 || !strings.Contains(errs, "names belong to one record") {
		t.Errorf("%d %s", status, errs)
	}
	must(t, audit, waive("--matter", print)...) // a fingerprint is the same in every record
}

// An engagement is found from below, and by the variable; an option goes before it.
func TestEngagementIsFound(t *testing.T) {
	dir := begin(t)
	must(t, dir, "gather", write(t, filepath.Join(t.TempDir(), "x.ldif"), smallHead+smallUser))
	below := filepath.Join(dir, "evidence", "deep")
	if err := os.Mkdir(below, 0o700); err != nil {
		t.Fatal(err)
	}
	if out := must(t, below, "scopes"); !strings.Contains(out, "x.example") {
		t.Errorf("from below: %s", out)
	}
	elsewhere := t.TempDir()
	if _, errs, status := run(t, elsewhere, "scopes"); status != 1 || !strings.Contains(errs, "no engagement here") {
		t.Errorf("%d %s", status, errs)
	}
	t.Setenv("STERNLEDGER_ENGAGEMENT", dir)
	must(t, elsewhere, "scopes")
	if _, _, status := run(t, elsewhere, "-C", ".", "scopes"); status != 1 {
		t.Error("the variable goes before the option")
	}
}

// The shells are offered real values.
func TestCompletion(t *testing.T) {
	beside(t)
	dir := harbour(t)
	audit := filepath.Join(dir, "audit")
	for args, want := range map[string]string{
		"weigh --scope marrowick.example|/|P": "", "weigh --place ga": "gate1 gate2 gate3 gate4",
		"weigh --setting lockout-t": "lockout-threshold",
		"weigh --against cis-a":     "cis-aws", "weigh --against cis-aws,nist": "cis-aws,nist-800-63b", "accounts --tier k": "kiosk",
		"accounts --policy Pi": "Pilots", "trace w.": "w.lowe w.lowe@marrowick.example w.gauge", "weigh --min-severity g": "grave",
		"waive --matter M11": "M11 M110 M111 M112",
		"baseline show pci":  "pci-dss-4", "report --to x.html --for ": "", "weigh --only wa": "waived",
	} {
		fields := append([]string{"__complete"}, strings.Split(args, " ")...)
		for i := range fields {
			fields[i] = strings.ReplaceAll(fields[i], "|", " ")
		}
		var got []string
		for line := range strings.Lines(must(t, audit, fields...)) {
			if word, _, _ := strings.Cut(strings.TrimRight(line, "\n"), "\t"); !strings.HasPrefix(word, ":") {
				got = append(got, word)
			}
		}
		if want == "" && strings.Contains(args, "scope") {
			want = "marrowick.example / Pilots"
		}
		if strings.HasPrefix(args, "waive --matter") && len(got) > 4 {
			got = got[:4] // how many there are grows with the demo
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s: %q, want %q", args, got, want)
		}
	}
	for _, shell := range []string{"bash", "zsh", "fish", "powershell"} {
		if out := must(t, audit, "completion", shell); !strings.Contains(out, "__complete") {
			t.Errorf("%s: no completion", shell)
		}
	}
}

// A report for an owner tells of that owner's places alone.
func TestReportForOwner(t *testing.T) {
	beside(t)
	dir := harbour(t)
	audit := filepath.Join(dir, "audit")
	config := filepath.Join(audit, "engagement.yaml")
	text, err := os.ReadFile(config)
	if err != nil {
		t.Fatal(err)
	}
	if _, errs, status := run(t, audit, "report", "--for", "Locks", "--to", "a.json"); status != 1 ||
		!strings.Contains(errs, "names no owner") {
		t.Errorf("%d %s", status, errs)
	}
	write(t, config, strings.Replace(string(text), "authorities:", "authorities:\n  \"gate*\": {owner: Locks}", 1))
	must(t, audit, "report", "--for", "locks", "--to", "a.json,a.html,a.xlsx,a.csv,a.md,a.sarif,a.oscal.json")
	whole := document(t, audit, "weigh")
	names := map[any]any{}
	for _, m := range whole["matters"].([]any) {
		names[at(m, "fingerprint")] = at(m, "matter")
	}
	part := parsed(t, filepath.Join(audit, "a.json"))["weighing"].(map[string]any)
	if len(part["findings"].([]any)) == 0 {
		t.Error("nothing is told")
	}
	for _, f := range part["findings"].([]any) {
		if !strings.HasPrefix(at(f, "scope").(string), "gate") {
			t.Errorf("told of %v", at(f, "scope"))
		}
	}
	for _, m := range part["matters"].([]any) {
		if names[at(m, "fingerprint")] != at(m, "matter") {
			t.Errorf("%v is called %v in the whole", at(m, "matter"), names[at(m, "fingerprint")])
		}
	}
	for _, name := range []string{"a.html", "a.csv", "a.md", "a.sarif"} {
		data, _ := os.ReadFile(filepath.Join(audit, name))
		if strings.Contains(string(data), "Ticket Kiosks") || strings.Contains(string(data), "pilots-club.ldif") {
			t.Errorf("%s tells of places that are another's", name)
		}
	}
	if _, errs, status := run(t, audit, "report", "--for", "Lock", "--to", "b.json"); status != 1 ||
		!strings.Contains(errs, `nearest is "Locks"`) {
		t.Errorf("%d %s", status, errs)
	}
}

// parsed reads a file of JSON.
func parsed(t *testing.T, file string) (doc map[string]any) {
	t.Helper()
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal(data, &doc); err != nil {
		t.Fatal(err)
	}
	return doc
}
