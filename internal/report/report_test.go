package report

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"sternledger/internal/assess"
	"sternledger/internal/collect"
	"sternledger/internal/core/check"
	"sternledger/internal/custody"
	"sternledger/internal/demotest"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/xuri/excelize/v2"
)

// reported weighs the sample twice, with a waiver in between, and reports it.
func reported(t *testing.T) *assess.Report {
	t.Helper()
	e, _ := demotest.Gathered(t)
	e.Config.Baselines = nil
	if _, err := assess.Weigh(e, custody.WeighOptions{Against: []string{"cis-windows-server", "nist-800-63b"}, Record: true}); err != nil {
		t.Fatal(err)
	}
	if _, err := e.Waive(custody.WaiveOptions{Setting: "max-age", Scope: "marrowick.example / Ticket Kiosks", Until: "2027-06-30",
		Reason: "Replaced <in> spring"}); err != nil {
		t.Fatal(err)
	}
	if _, err := assess.Weigh(e, custody.WeighOptions{Against: []string{"cis-windows-server", "nist-800-63b"}, Record: true}); err != nil {
		t.Fatal(err)
	}
	r, err := assess.ReportOf(e, 0, "")
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// written is a report in the form of an ending.
func written(t *testing.T, r *assess.Report, ending string) []byte {
	t.Helper()
	var out bytes.Buffer
	if err := FormatFor("x"+ending).Write(&out, r); err != nil {
		t.Fatalf("%s: %v", ending, err)
	}
	return out.Bytes()
}

// Each form holds every finding, and comes out the same again.
func TestReportForms(t *testing.T) {
	r := reported(t)
	for _, f := range ReportFormats {
		text := string(written(t, r, f.Ending))
		if f.Ending == ".xlsx" {
			continue // the file is packed; see TestWorkbook
		}
		if again := string(written(t, r, f.Ending)); again != text {
			t.Errorf("%s is not the same again", f.Ending)
		}
		for i := range r.Weighing.Findings {
			if x := &r.Weighing.Findings[i]; !strings.Contains(text, x.Fingerprint) && f.Ending != ".md" && f.Ending != "issues.csv" && f.Ending != "board.html" {
				t.Errorf("%s lacks the finding %s %s", f.Ending, x.ScopeName(), x.Headline())
				break
			}
		}
		if f.Ending != ".csv" && !strings.Contains(text, r.Seal) {
			t.Errorf("%s lacks the seal", f.Ending)
		}
	}
	rows, err := csv.NewReader(bytes.NewReader(written(t, r, ".csv"))).ReadAll()
	if err != nil || len(rows) != len(r.Weighing.Findings)+1 {
		t.Errorf("%d rows of CSV for %d findings: %v", len(rows), len(r.Weighing.Findings), err)
	}
	if FormatFor("report.pdf") != nil || FormatFor("A.OSCAL.JSON").Title != "OSCAL assessment results" {
		t.Error("the form does not go by the ending")
	}
}

func TestReportSARIF(t *testing.T) {
	r := reported(t)
	schema, err := os.ReadFile("testdata/sarif-schema-2.1.0.json")
	if err != nil {
		t.Fatal(err)
	}
	data := written(t, r, ".sarif")
	validate(t, schema, data)
	var doc struct {
		Runs []struct {
			Results []struct {
				Suppressions []any
				Locations    []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine int }
					}
				}
			}
		}
	}
	if err := json.Unmarshal(data, &doc); err != nil {
		t.Fatal(err)
	}
	suppressed, located := 0, 0
	for _, x := range doc.Runs[0].Results {
		suppressed += len(x.Suppressions)
		for _, l := range x.Locations {
			if strings.HasPrefix(l.PhysicalLocation.ArtifactLocation.URI, "evidence/") && l.PhysicalLocation.Region.StartLine > 0 {
				located++
			}
		}
	}
	if suppressed != 1 || located < 100 {
		t.Errorf("%d suppressed, %d locations", suppressed, located)
	}
}

func validate(t *testing.T, schema, data []byte) {
	t.Helper()
	parsed, err := jsonschema.UnmarshalJSON(bytes.NewReader(schema))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("s.json", parsed); err != nil {
		t.Fatal(err)
	}
	instance, err := jsonschema.UnmarshalJSON(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	if err := c.MustCompile("s.json").Validate(instance); err != nil {
		t.Errorf("%v", err)
	}
}

// oscal is what NIST's reference of assessment results 1.1.2 says of the parts
// that are written: what must be there, and the patterns of its data types.
const oscal = `{
  "$schema": "https://json-schema.org/draft/2020-12/schema", "type": "object", "required": ["assessment-results"], "additionalProperties": false,
  "properties": {"assessment-results": {"type": "object", "required": ["uuid", "metadata", "import-ap", "results"], "additionalProperties": false, "properties": {
    "uuid": {"$ref": "#/$defs/uuid"},
    "metadata": {"type": "object", "required": ["title", "last-modified", "version", "oscal-version"], "properties": {"last-modified": {"$ref": "#/$defs/time"}, "version": {"$ref": "#/$defs/string"}, "oscal-version": {"$ref": "#/$defs/string"},
      "parties": {"type": "array", "minItems": 1, "items": {"type": "object", "required": ["uuid", "type"], "properties": {"uuid": {"$ref": "#/$defs/uuid"}, "type": {"enum": ["person", "organization"]}}}}}},
    "import-ap": {"type": "object", "required": ["href"]},
    "back-matter": {"type": "object"},
    "results": {"type": "array", "minItems": 1, "items": {"type": "object", "required": ["uuid", "title", "description", "start", "reviewed-controls"], "additionalProperties": false, "properties": {
      "uuid": {"$ref": "#/$defs/uuid"}, "title": {"type": "string"}, "description": {"type": "string"}, "start": {"$ref": "#/$defs/time"}, "end": {"$ref": "#/$defs/time"}, "props": {"$ref": "#/$defs/props"},
      "reviewed-controls": {"type": "object", "required": ["control-selections"], "properties": {"control-selections": {"type": "array", "minItems": 1}}},
      "observations": {"type": "array", "minItems": 1, "items": {"type": "object", "required": ["uuid", "description", "methods", "collected"], "additionalProperties": false, "properties": {
        "uuid": {"$ref": "#/$defs/uuid"}, "title": {"type": "string"}, "description": {"type": "string"}, "methods": {"type": "array", "minItems": 1, "items": {"enum": ["EXAMINE", "INTERVIEW", "TEST", "UNKNOWN"]}}, "collected": {"$ref": "#/$defs/time"},
        "props": {"$ref": "#/$defs/props"}, "relevant-evidence": {"type": "array", "minItems": 1, "items": {"type": "object", "required": ["description"], "properties": {"href": {"type": "string", "format": "uri-reference"}}}}}}},
      "findings": {"type": "array", "minItems": 1, "items": {"type": "object", "required": ["uuid", "title", "description", "target"], "additionalProperties": false, "properties": {
        "uuid": {"$ref": "#/$defs/uuid"}, "title": {"type": "string"}, "description": {"type": "string"}, "remarks": {"type": "string"}, "props": {"$ref": "#/$defs/props"},
        "related-observations": {"type": "array", "minItems": 1, "items": {"type": "object", "required": ["observation-uuid"], "properties": {"observation-uuid": {"$ref": "#/$defs/uuid"}}}},
        "target": {"type": "object", "required": ["type", "target-id", "status"], "properties": {"type": {"enum": ["statement-id", "objective-id"]}, "target-id": {"$ref": "#/$defs/token"},
          "status": {"type": "object", "required": ["state"], "properties": {"state": {"enum": ["satisfied", "not-satisfied"]}, "reason": {"$ref": "#/$defs/token"}}}}}}}}}}}}}},
  "$defs": {
    "uuid": {"type": "string", "pattern": "^[0-9A-Fa-f]{8}-[0-9A-Fa-f]{4}-[45][0-9A-Fa-f]{3}-[89ABab][0-9A-Fa-f]{3}-[0-9A-Fa-f]{12}$"},
    "time": {"type": "string", "pattern": "^[0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9]{2}:[0-9]{2}:[0-9]{2}(\\.[0-9]+)?(Z|[+-][0-9]{2}:[0-9]{2})$"},
    "string": {"type": "string", "pattern": "^\\S(.*\\S)?$"}, "token": {"type": "string", "pattern": "^(\\p{L}|_)(\\p{L}|\\p{N}|[.\\-_])*$"},
    "props": {"type": "array", "minItems": 1, "items": {"type": "object", "required": ["name", "value"], "properties": {"name": {"$ref": "#/$defs/token"}, "ns": {"type": "string"}, "value": {"$ref": "#/$defs/string"}}}}}
}`

func TestReportOSCAL(t *testing.T) {
	validate(t, []byte(oscal), written(t, reported(t), ".oscal.json"))
}

// The page fetches nothing, leads nowhere that is not there, and tells its
// pictures in words.
func TestReportHTML(t *testing.T) {
	text := string(written(t, reported(t), ".html"))
	text = regexp.MustCompile(`<meta http-equiv="Content-Security-Policy"[^>]*>`).ReplaceAllString(text, "")
	for _, m := range regexp.MustCompile(`(?:src|href|xlink:href|@import|url\()\s*=?\s*["'(]?([^"'\s)>]+)`).FindAllStringSubmatch(text, -1) {
		if !strings.HasPrefix(m[1], "#") {
			t.Errorf("the page fetches or leads to %q", m[1])
		}
	}
	ids := map[string]int{}
	for _, m := range regexp.MustCompile(`\sid="([^"]+)"`).FindAllStringSubmatch(text, -1) {
		if ids[m[1]]++; ids[m[1]] > 1 {
			t.Errorf("the id %s stands twice", m[1])
		}
	}
	for _, m := range regexp.MustCompile(`(?:href="#|aria-labelledby=")([^" ]+)`).FindAllStringSubmatch(text, -1) {
		if ids[m[1]] == 0 {
			t.Errorf("a link leads to %s, which is not there", m[1])
		}
	}
	for _, want := range []string{`lang="en"`, "<svg", "<desc ", "Replaced &lt;in&gt; spring", "What changed since weighing 1",
		"Gaps in the evidence", "no bound", "@media print"} {
		if !strings.Contains(text, want) {
			t.Errorf("the page lacks %q", want)
		}
	}
	if strings.Count(text, "<svg") != strings.Count(text, `role="img"`) || strings.Contains(text, "%!") || strings.Contains(text, "ZgotmplZ") {
		t.Error("a picture without words, or a template that failed")
	}
}

// An import that goes by the key finds each matter once, with all that somebody needs who has
// the issue alone.
func TestIssues(t *testing.T) {
	r := reported(t)
	rows, err := csv.NewReader(bytes.NewReader(written(t, r, "harbour-issues.csv"))).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	open := 0
	for _, m := range r.Weighing.Matters() {
		if m.Kind != check.Waived {
			open++
		}
	}
	if len(rows) != open+1 || open == 0 {
		t.Fatalf("%d rows of %d matters", len(rows), open)
	}
	for _, row := range rows[1:] {
		key, title, body, labels := row[0], row[1], row[2], row[3]
		if seen[key] || len(key) != 12 {
			t.Errorf("the key %q of %s", key, title)
		}
		seen[key] = true
		for _, want := range []string{"**What to do:** ", "Where: ", "Evidence:\n- ", key} {
			if !strings.Contains(body, want) {
				t.Errorf("%s: no %q in\n%s", title, want, body)
			}
		}
		if !strings.HasPrefix(labels, row[6]+","+row[7]) {
			t.Errorf("%s: labels %s", title, labels)
		}
	}
}

func TestWorkbook(t *testing.T) {
	r := reported(t)
	f, err := excelize.OpenReader(bytes.NewReader(written(t, r, ".xlsx")))
	if err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(f.GetSheetList(), " "); got != "Summary To do Matters Values Findings Requirements Scopes Verdicts Accounts Evidence" {
		t.Errorf("sheets: %s", got)
	}
	rows, err := f.GetRows("Findings")
	if err != nil || len(rows) != len(r.Weighing.Findings)+1 {
		t.Fatalf("%d rows for %d findings: %v", len(rows), len(r.Weighing.Findings), err)
	}
	kinds := map[excelize.CellType]int{}
	for row := 2; row < 40; row++ {
		cell, _ := excelize.CoordinatesToCellName(7, row)
		kind, err := f.GetCellType("Findings", cell)
		if err != nil {
			t.Fatal(err)
		}
		kinds[kind]++
	}
	if kinds[excelize.CellTypeInlineString]+kinds[excelize.CellTypeSharedString] > 0 || kinds[excelize.CellTypeUnset]+
		kinds[excelize.CellTypeNumber] == 0 {
		t.Errorf("numbers of accounts are of the types %v", kinds)
	}
	if panes, err := f.GetPanes("Verdicts"); err != nil || !panes.Freeze || panes.YSplit != 1 {
		t.Errorf("heads are not frozen: %+v %v", panes, err)
	}
}

// Names from evidence are shown, and nothing of them is obeyed.
// Where there is nobody whom settings could govern, every form says so, and
// none falls over.
func TestReportOfTemplatesOnly(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "audit")
	now := func() time.Time { return time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC) }
	if err := custody.Begin(t.Context(), dir, "T", "R. Quill", now); err != nil {
		t.Fatal(err)
	}
	e, err := custody.Open(t.Context(), dir, now, assess.Judge)
	if err != nil {
		t.Fatal(err)
	}
	defer e.Close()
	if _, err := collect.Gather(e, []string{"../../demo/exports/sysvol"}, collect.GatherOptions{}); err != nil {
		t.Fatal(err)
	}
	if _, err := assess.Weigh(e, custody.WeighOptions{Against: []string{"cis-windows-server"}, Record: true}); err != nil {
		t.Fatal(err)
	}
	r, err := assess.ReportOf(e, 0, "")
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range ReportFormats {
		if text := string(written(t, r, f.Ending)); (f.Ending == ".html" || f.Ending == ".md") && !strings.Contains(text, "no account scopes") {
			t.Errorf("%s does not say that there are no scopes", f.Ending)
		}
	}
	schema, err := os.ReadFile("testdata/sarif-schema-2.1.0.json")
	if err != nil {
		t.Fatal(err)
	}
	validate(t, schema, written(t, r, ".sarif"))
	validate(t, []byte(oscal), written(t, r, ".oscal.json"))
	if _, err := assess.Probe(e, assess.ProbeOptions{Patterns: true}); err == nil || !strings.Contains(err.Error(), "templates only") {
		t.Errorf("%v", err)
	}
}
