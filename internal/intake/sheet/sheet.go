// Package sheet reads what somebody read off a screen and typed in, for places
// that have no export: a CSV file, or the same as YAML. docs/sheets.md
// describes both.
package sheet

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/intake"
	"sternledger/internal/redact"
)

// Format is the sheet.
var Format = intake.Format{Name: "sheet of settings (CSV, YAML)", Detect: detect,
	Read: (&intake.Whole{Most: 4 << 20, Expected: "a sheet that somebody typed", Next: "check which file this is, or save it again", Take: take}).Read}

// Columns of the CSV form. The last two are for people and are passed over.
const (
	cAuthority = "authority"
	cKind      = "kind"
	cPlatform  = "platform"
	cPolicy    = "policy"
	cSetting   = "setting"
	cValue     = "value"
	cAccounts  = "accounts"
	cReadBy    = "read-by"
	cReadOn    = "read-on"
	cExpects   = "expects"
	cMeaning   = "meaning"
)

var columns = []string{cAuthority, cKind, cPlatform, cPolicy, cSetting, cValue, cAccounts, cReadBy, cReadOn, cExpects, cMeaning}

var needed = []string{cAuthority, cSetting, cValue, cReadBy, cReadOn}

func detect(file string, head []byte) bool {
	text := intake.Opening(head)
	if yamlForm.Match(text) {
		return true
	}
	line, _, _ := bytes.Cut(bytes.TrimPrefix(text, separatorLine(text)), []byte("\n"))
	low := strings.ToLower(string(line))
	return strings.Contains(low, cAuthority) && strings.Contains(low, cSetting) && strings.Contains(low, cValue) && separator(line) != 0
}

var yamlForm = regexp.MustCompile(`(?m)\A(?:\s*(?:#[^\n]*)?\n)*sheet:\s*$`)

// separatorLine is the first line "sep=;" that some workbook programs write.
func separatorLine(text []byte) []byte {
	line, _, ok := bytes.Cut(text, []byte("\n"))
	if ok && bytes.HasPrefix(bytes.ToLower(line), []byte("sep=")) {
		return text[:len(line)+1]
	}
	return nil
}

// separator finds what stands between the cells of a header line.
func separator(line []byte) rune {
	best, most := rune(0), 0
	for _, r := range ";,\t" {
		if n := bytes.Count(line, []byte(string(r))); n > most {
			best, most = r, n
		}
	}
	return best
}

// row is one line of a sheet, in either form.
type row struct {
	authority, kind, platform, policy, setting, value, accounts, readBy, readOn strictyaml.Text
}

func take(text *intake.Text, into *estate.Builder) error {
	rows, err := rowsOf(text)
	if err != nil {
		return err
	}
	r := &reader{text: text, into: into, seen: map[string]int{}}
	for i := range rows {
		if err := r.row(&rows[i]); err != nil {
			return err
		}
	}
	if r.taken == 0 {
		return text.Wrong(0, "a sheet without a single value", "a value in at least one row", "fill in what was read off, and gather again")
	}
	return nil
}

func rowsOf(text *intake.Text) ([]row, error) {
	if yamlForm.Match(text.Bytes) {
		return fromYAML(text)
	}
	return fromCSV(text)
}

// cells are those of a row, by their columns, with where they stand.
type cells struct {
	text  *intake.Text
	shift int // of the text that the places are in
	spans map[string][2]int
	of    map[string]strictyaml.Text
}

// keep tells which cells are read: of a row that was not filled in its setting alone.
// What the sheet itself says of a setting is ours.
func (c *cells) keep() {
	s, known := setting.Lookup(setting.ID(strings.ToLower(c.of[cSetting].Value)))
	for name, at := range c.spans {
		value := c.of[name].Value
		read := c.of[cValue].Value != ""
		switch name {
		case cSetting:
			read = known
		case cExpects:
			read = known && value == s.Expects()
		case cMeaning:
			read = known && value == s.Meaning
		case "":
			read = false
		}
		breaks := bytes.Count(c.text.Bytes[c.shift+at[0]:c.shift+at[1]], []byte("\n"))
		written := func(mark string) string { return intake.Cell(mark, breaks) }
		if read {
			c.text.ReadAs(c.shift+at[0], c.shift+at[1], value, written)
		} else if value != "" {
			c.text.Rest(c.shift+at[0], c.shift+at[1], "", value, written)
		}
	}
}

// fromCSV reads the CSV form, whichever of the separators it has.
func fromCSV(text *intake.Text) ([]row, error) {
	skip := separatorLine(text.Bytes)
	text.Read(0, len(skip))
	body := text.Bytes[len(skip):]
	above := bytes.Count(skip, []byte("\n"))
	line, _, _ := bytes.Cut(body, []byte("\n"))
	c := csv.NewReader(bytes.NewReader(body))
	c.Comma, c.FieldsPerRecord = separator(line), -1
	c.TrimLeadingSpace = c.Comma != '\t' // or empty cells would be lost
	places := intake.Cells{Text: body, Reader: c}
	head, err := c.Read()
	if err != nil {
		return nil, csvError(text.Path, above, err)
	}
	at := map[string]int{}
	for i, name := range head {
		from, to := places.Span(i, len(head))
		text.Read(len(skip)+from, len(skip)+to)
		head[i] = strings.ToLower(strings.TrimSpace(name))
		if head[i] == "" {
			continue
		}
		if !slices.Contains(columns, head[i]) {
			return nil, text.Wrong(above+1, "an unknown column "+redact.Quote([]byte(head[i])), "a known one: "+strictyaml.Hint(head[i], columns), "")
		}
		at[head[i]] = i
	}
	for _, name := range needed {
		if _, ok := at[name]; !ok {
			return nil, text.Wrong(above+1, fmt.Sprintf("no column %q", name), strings.Join(needed, ", "),
				"start from \"sternledger gather --sheet-template\"")
		}
	}
	var all []row
	for {
		fields, err := c.Read()
		if err == io.EOF {
			return all, nil
		}
		if err != nil {
			return nil, csvError(text.Path, above, err)
		}
		begins, _ := c.FieldPos(0)
		r := cells{text: text, shift: len(skip), spans: map[string][2]int{}, of: map[string]strictyaml.Text{}}
		for name := range at {
			r.of[name] = strictyaml.Text{Line: begins + above}
		}
		for i, field := range fields {
			name := ""
			if i < len(head) && at[head[i]] == i {
				name = head[i]
			}
			from, to := places.Span(i, len(fields))
			n, _ := c.FieldPos(i)
			value := strictyaml.Text{Value: strings.TrimSpace(strings.ReplaceAll(field, "\u00a0", " ")), Line: n + above}
			if name == "" { // a column without a name: of no such cell anything is read
				text.Rest(len(skip)+from, len(skip)+to, "", value.Value, func(mark string) string { return intake.Cell(mark, strings.Count(field, "\n")) })
				continue
			}
			r.spans[name], r.of[name] = [2]int{from, to}, value
		}
		r.keep()
		all = append(all, row{r.of[cAuthority], r.of[cKind], r.of[cPlatform], r.of[cPolicy], r.of[cSetting], r.of[cValue],
			r.of[cAccounts], r.of[cReadBy], r.of[cReadOn]})
	}
}

func csvError(path string, above int, err error) error {
	var bad *csv.ParseError
	if errors.As(err, &bad) {
		return &intake.Error{Path: path, Line: bad.Line + above, Seen: bad.Err.Error(), Expected: "CSV (RFC 4180)",
			Next: "save the sheet again as CSV"}
	}
	return &intake.Error{Path: path, Seen: err.Error(), Expected: "CSV (RFC 4180)"}
}

// sheetYAML is the YAML form: what is the same for several settings is said
// once.
type sheetYAML struct {
	Sheet []struct {
		Authority strictyaml.Text            `yaml:"authority"`
		Kind      strictyaml.Text            `yaml:"kind"`
		Platform  strictyaml.Text            `yaml:"platform"`
		Policy    strictyaml.Text            `yaml:"policy"`
		Accounts  strictyaml.Text            `yaml:"accounts"`
		ReadBy    strictyaml.Text            `yaml:"read-by"`
		ReadOn    strictyaml.Text            `yaml:"read-on"`
		Settings  map[string]strictyaml.Text `yaml:"settings"`
	} `yaml:"sheet"`
}

func fromYAML(text *intake.Text) ([]row, error) {
	var doc sheetYAML
	if err := strictyaml.Unmarshal(text.Path, text.Bytes, &doc); err != nil {
		return nil, err
	}
	// Every key must be known, and every value is read: what is left are comments.
	comments := strictyaml.Comments(text.Bytes)
	for l := range text.Lines() {
		if comment, ok := comments[l.Number]; ok {
			l.Text, _ = strings.CutSuffix(l.Text, comment)
		}
		text.Took(l)
	}
	var all []row
	for _, part := range doc.Sheet {
		var rows []row
		for id, value := range part.Settings {
			name := strictyaml.Text{Value: id, Line: value.Line}
			rows = append(rows, row{part.Authority, part.Kind, part.Platform, part.Policy, name, value, part.Accounts, part.ReadBy, part.ReadOn})
		}
		slices.SortFunc(rows, func(x, y row) int { return x.value.Line - y.value.Line })
		all = append(all, rows...)
	}
	return all, nil
}

type reader struct {
	text  *intake.Text
	into  *estate.Builder
	seen  map[string]int // authority, policy and setting to the line of the first value
	taken int
}

func (r *reader) wrong(at strictyaml.Text, seen, expected, next string) error {
	return &intake.Error{Path: r.text.Path, Line: at.Line, Seen: seen, Expected: expected, Next: next}
}

// row takes one value. A row without one was not filled in.
func (r *reader) row(w *row) error {
	if w.value.Value == "" {
		return nil
	}
	s, ok := setting.Lookup(setting.ID(strings.ToLower(w.setting.Value)))
	if !ok {
		return r.wrong(w.setting, fmt.Sprintf("an unknown setting %q", w.setting.Value), "a known one: "+
			strictyaml.Hint(w.setting.Value, setting.IDs()), "\"sternledger settings\" lists them")
	}
	if w.authority.Value == "" {
		return r.wrong(w.authority, "a value without an authority", "the name of the place it was read off", "")
	}
	if w.readBy.Value == "" {
		return r.wrong(w.readBy, fmt.Sprintf("%s of %s: nobody who read it off (%s)", s.ID, w.authority.Value, cReadBy), "a name",
			"what nobody stands for is no evidence")
	}
	on, err := day(w.readOn.Value)
	if err != nil {
		return r.wrong(w.readOn, fmt.Sprintf("%s %q", cReadOn, w.readOn.Value), err.Error(), "")
	}
	v, err := Value(s, w.value.Value)
	if err != nil {
		return r.wrong(w.value, err.Error(), "", "write the number with its unit")
	}
	policy, err := r.policy(w)
	if err != nil {
		return err
	}
	key := strings.Join([]string{w.authority.Value, policy.Name, string(s.ID)}, "\x00")
	if before := r.seen[key]; before > 0 {
		return r.wrong(w.value, fmt.Sprintf("a second value for %s of %s", s.ID, w.authority.Value),
			fmt.Sprintf("one; the first is on line %d", before), "")
	}
	r.seen[key] = w.value.Line
	c := r.into.Cite(w.value.Line, string(s.ID), w.value.Value)
	c.Note = fmt.Sprintf("read off by %s on %s", w.readBy.Value, on.Format(time.DateOnly))
	r.into.Set(policy.Settings, policy.Platform, s.ID, v, c)
	r.taken++
	return nil
}

// platforms are those that a sheet can name, and the kind of authority that
// each is.
var platforms = map[setting.Platform]estate.Kind{
	setting.WindowsMachine: estate.Machine, setting.WindowsDomain: estate.Domain, setting.UnixMachine: estate.Machine,
	setting.LDAPDirectory:  estate.LDAP,
	setting.CloudDirectory: estate.Tenant, setting.CloudInfra: estate.Tenant, setting.WorkplaceSuite: estate.Tenant,
	setting.IdentityProvider: estate.Tenant,
	setting.Other:            estate.Machine,
}

// policy returns the policy that a row speaks of, a new one for its first row.
func (r *reader) policy(w *row) (*estate.Policy, error) {
	p := setting.Platform(strings.ToLower(w.platform.Value))
	if p == "" {
		p = setting.Other
	}
	kind, ok := platforms[p]
	if !ok {
		var known []string
		for name := range platforms {
			known = append(known, string(name))
		}
		slices.Sort(known)
		return nil, r.wrong(w.platform, fmt.Sprintf("an unknown platform %q", w.platform.Value), strings.Join(known, ", "), "")
	}
	if w.kind.Value != "" {
		kind = estate.Kind(strings.ToLower(w.kind.Value))
		if !slices.Contains([]estate.Kind{estate.Machine, estate.Domain, estate.LDAP, estate.Tenant}, kind) {
			return nil, r.wrong(w.kind, fmt.Sprintf("an unknown kind %q", w.kind.Value), "domain, machine, ldap, tenant", "")
		}
	}
	at := estate.Place{Name: strings.ToLower(w.authority.Value), Kind: kind}
	first := r.into.Knows(at) == nil
	a := r.into.At(at)
	if first {
		a.Platform = p
	}
	if a.Platform != p {
		return nil, r.wrong(w.platform, fmt.Sprintf("%s is %s here and %s before", w.authority.Value, p, a.Platform),
			"one platform for an authority", "")
	}
	name := w.policy.Value
	if name == "" {
		name = "as read off"
	}
	i := slices.IndexFunc(a.Typed, func(have estate.Policy) bool { return have.Name == name })
	if i < 0 {
		i = len(a.Typed)
		a.Typed = append(a.Typed, estate.Policy{Name: name, Origin: name, Standing: estate.Enforced, Platform: p, Settings: estate.Settings{},
			Cite: r.into.Cite(w.setting.Line, cPolicy, w.policy.Value)})
	}
	policy := &a.Typed[i]
	if w.accounts.Value != "" {
		n, err := strconv.Atoi(w.accounts.Value)
		if err != nil || n < 0 {
			return nil, r.wrong(w.accounts, fmt.Sprintf("accounts %q", w.accounts.Value),
				"how many accounts the policy covers, as a whole number", "")
		}
		if policy.Covers != nil && *policy.Covers != n {
			return nil, r.wrong(w.accounts, fmt.Sprintf("%d accounts here and %d before", n, *policy.Covers), "one number for a policy", "")
		}
		policy.Covers = &n
	}
	return policy, nil
}

var quantity = regexp.MustCompile(`^([0-9]+)[.,]([0-9]+)\s*([a-zA-Z]+)$`)

// Value reads a value as people type it: as setting.Parse does, and fractions
// of a time with a point or a comma as well.
func Value(s *setting.Setting, text string) (setting.Value, error) {
	m := quantity.FindStringSubmatch(text)
	if m == nil || s.Kind != setting.Duration {
		return s.Parse(text)
	}
	one, err := s.Parse("1 " + m[3])
	if err != nil {
		return one, err
	}
	unit, _ := one.Number()
	whole, _ := strconv.ParseInt(m[1], 10, 32)
	part, _ := strconv.ParseInt(m[2][:min(len(m[2]), 9)], 10, 64)
	scale := int64(1)
	for range min(len(m[2]), 9) {
		scale *= 10
	}
	if part*unit%scale != 0 {
		return setting.Value{}, fmt.Errorf("%s %q is not a whole number of seconds", s.ID, text)
	}
	return setting.Number(whole*unit + part*unit/scale), nil
}

// day reads a date as workbook programs write it. A date whose day and month
// cannot be told apart is refused.
func day(text string) (time.Time, error) {
	for _, layout := range []string{"2006-01-02", "2006/01/02", "2.1.2006", "2006-01-02 15:04", "2006-01-02 15:04:05", time.RFC3339} {
		if t, err := time.Parse(layout, text); err == nil {
			return t, nil
		}
	}
	british, errB := time.Parse("2/1/2006", text)
	american, errA := time.Parse("1/2/2006", text)
	switch {
	case errB == nil && errA == nil && !british.Equal(american):
		return british, errors.New("a date that can be read in one way only, such as 2026-11-23")
	case errB == nil:
		return british, nil
	case errA == nil:
		return american, nil
	}
	return time.Time{}, errors.New("the day it was read off, such as 2026-11-23")
}

// Template writes an empty sheet with every setting and what it means.
func Template(w io.Writer) error {
	out := csv.NewWriter(w)
	if err := out.Write(columns); err != nil {
		return err
	}
	for _, s := range setting.Table() {
		record := make([]string, len(columns))
		record[slices.Index(columns, cSetting)] = string(s.ID)
		record[slices.Index(columns, cExpects)] = s.Expects()
		record[slices.Index(columns, cMeaning)] = s.Meaning
		if err := out.Write(record); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}
