package record

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/exposure"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Row is the same thing wrong, in one place or in many: one setting with one observed
// value, or one check with one reason. It has one way out.
type Row struct {
	Fingerprint string // the same from one record to the next
	Kind        check.Kind
	Severity    baseline.Severity // the gravest of its findings
	Check       string            // empty where a demand found it
	Settings    []setting.ID
	Title       string // for people
	Observed    string
	Demanded    string // what satisfies all baselines that failed, in all places
	Asks        Asks
	Reason      string // of the gravest finding
	Remedy      string
	Findings    []*check.Finding // the gravest first
	Places      []*estate.Authority
	Scopes      []*govern.Scope
	Accounts    *int // that can sign in, each counted once; nil: no evidence lists them
	Privileged  int  // of these
	Disabled    int  // beside these
	Examples    []string
	Worth       *exposure.Worth // over its distinct accounts; nil: no model says so
}

// Required is what is demanded, as the documents state it.
func (m *Row) Required() string { return check.Required(m.Demanded, m.Sources()) }

// Value names a row of a matter: what is observed, else the reason; of what restates the
// matter's setting, what that is.
func (m *Matter) Value(r *Row) string {
	if r.Check != m.Check || m.Check == "" && m.Kind == check.Missing {
		return r.Title
	}
	return cmp.Or(r.Observed, r.Reason)
}

// Matter is what people think of as one thing that is wrong: a setting, whatever its
// values, or a check, whatever its reasons. Rows are its values or reasons, the worst
// first; what is said of the matter itself is said of all of them.
type Matter struct {
	Row
	Name string // M1, M2, …: its place in the order of this record, and of no other
	Rows []*Row
}

// Matters puts the findings together. Every finding is in exactly one matter, and in one
// row of it. What needs no guess comes first, then by severity and by what mending it is
// worth; what is waived comes last.
func (r *Record) Matters() []*Matter {
	joins := r.joins()
	by, rows := map[string]*Matter{}, map[string]*Row{}
	var all []*Matter
	for i := range r.Findings {
		f := &r.Findings[i]
		about := matterOf(f, joins)
		m := by[about]
		if m == nil {
			m = &Matter{Row: Row{Fingerprint: govern.Fingerprint("matter of rows", about), Kind: f.Kind, Check: f.Check}}
			if joins[joint(f)] && f.Restating() != "" {
				m.Check = ""
			}
			by[about], all = m, append(all, m)
		}
		m.Findings = append(m.Findings, f)
		key := rowKey(f)
		at := about + "\x00" + key
		if rows[at] == nil {
			rows[at] = &Row{Fingerprint: govern.Fingerprint("matter", key), Kind: f.Kind, Check: f.Check}
			m.Rows = append(m.Rows, rows[at])
		}
		rows[at].Findings = append(rows[at].Findings, f)
	}
	together := r.demandsTogether()
	for _, m := range all {
		if len(m.Rows) == 1 {
			r.fill(&m.Row, together)
			row := m.Row
			row.Fingerprint = m.Rows[0].Fingerprint
			m.Rows[0] = &row
			continue
		}
		for _, row := range m.Rows {
			r.fill(row, together)
		}
		slices.SortStableFunc(m.Rows, func(x, y *Row) int { return x.order(y) })
		m.Kind = m.own()[0].Kind
		r.fill(&m.Row, together)
	}
	slices.SortStableFunc(all, func(x, y *Matter) int { return x.order(&y.Row) })
	all = front(all)
	for i, m := range all {
		if m.Name = r.names[m.Fingerprint]; m.Name == "" {
			m.Name = fmt.Sprintf("M%d", i+1)
		}
	}
	return all
}

// joint is the setting whose matter a finding may be told under, with what is waived apart.
type jointKey struct {
	setting setting.ID
	kind    check.Kind
}

func joint(f *check.Finding) jointKey {
	kind := check.Weak
	if f.Kind == check.Waived {
		kind = check.Waived
	}
	return jointKey{f.Restating(), kind}
}

// joins are the settings that have a matter of their own: what only restates one of them is
// a row of it.
func (r *Record) joins() map[jointKey]bool {
	all := map[jointKey]bool{}
	for i := range r.Findings {
		f := &r.Findings[i]
		if f.Check == "" && !f.Undecided() && f.Found() == check.Weak {
			all[jointKey{f.Settings[0], f.Kind}] = true
		}
	}
	return all
}

// matterOf is what findings of one matter share.
func matterOf(f *check.Finding, joins map[jointKey]bool) string {
	about := []string{string(f.Kind), string(f.Beneath)}
	switch id := f.Restating(); {
	case f.Check == "" && f.Undecided():
		about = append(about, "undecided")
	case len(f.Open) > 0:
		about = append(about, "open", string(f.Settings[0]))
	case f.Check == "":
		about = append(about, "setting", string(f.Settings[0]))
	case id != "" && f.Kind == check.Waived && joins[joint(f)]:
		about = []string{string(check.Waived), string(check.Weak), "setting", string(id)}
	case id != "" && joins[joint(f)]:
		about = []string{string(check.Weak), "", "setting", string(id)}
	default:
		about = append(about, "check", f.Check)
	}
	return strings.Join(about, "\x00")
}

// own are the findings that the matter is named after: not those that only restate it.
func (m *Row) own() []*check.Finding {
	all := slices.DeleteFunc(slices.Clone(m.Findings), func(f *check.Finding) bool { return f.Check != m.Check })
	if len(all) == 0 {
		return m.Findings
	}
	return all
}

// order is that of pages.
func (m *Row) order(other *Row) int {
	waived := func(x *Row) int {
		if x.Kind == check.Waived {
			return 1
		}
		return 0
	}
	accounts := func(x *Row) int {
		if x.Accounts == nil {
			return 0
		}
		return *x.Accounts
	}
	class := func(x *Row) exposure.Class {
		if x.Worth == nil {
			return exposure.ToGuess
		}
		return x.Worth.Class
	}
	worth := func(x *Row) exposure.Millionths {
		if x.Worth == nil {
			return -1 // what has no figure comes behind
		}
		return x.Worth.Sum
	}
	return cmp.Or(waived(m)-waived(other), int(class(other)-class(m)), other.Severity.Rank()-m.Severity.Rank(), m.late()-other.late(),
		cmp.Compare(worth(other), worth(m)), other.Privileged-m.Privileged,
		accounts(other)-accounts(m), len(other.Places)-len(m.Places), other.Kind.Rank()-m.Kind.Rank(),
		strings.Compare(m.Title, other.Title), strings.Compare(m.Fingerprint, other.Fingerprint))
}

// What is on the first page.
const (
	firstPage   = 10
	mostMissing = 3 // of it
)

// late are settings that are never on the first page while others can be: what they are
// worth is little, and they matter to the figures of others only.
var late = []setting.ID{setting.MinAge, setting.MaxAge, setting.History, setting.LockoutDuration, setting.LockoutWindow}

// late is 1 of what comes behind others that are as grave.
func (m *Row) late() int {
	if m.Check == "" && len(m.Settings) == 1 && slices.Contains(late, m.Settings[0]) {
		return 1
	}
	return 0
}

// front moves up to the first page what belongs there.
func front(all []*Matter) []*Matter {
	var first, rest []*Matter
	missing := 0
	for _, m := range all {
		open := m.Kind != check.Waived && m.late() == 0
		if m.Kind == check.Missing && !(m.Findings[0].Undecided() && m.Privileged > 0) {
			open = open && missing < mostMissing
		}
		if !open || len(first) == firstPage {
			rest = append(rest, m)
			continue
		}
		if m.Kind == check.Missing {
			missing++
		}
		first = append(first, m)
	}
	if len(first) < firstPage {
		return all // there is nothing to move before what is late
	}
	return append(first, rest...)
}

// rowKey is what findings of one row share.
func rowKey(f *check.Finding) string {
	parts := []string{string(f.Kind), string(f.Beneath), f.Check}
	switch {
	case f.Check == "" && f.Undecided():
		// One reason, which leaves every setting open.
		parts = append(parts, "undecided", withoutNames(f.Reason, f))
	case f.Check == "" && f.Found() == check.Missing:
		parts = append(parts, string(f.Settings[0]), string(missing(f)), withoutNames(f.Reason, f))
	case f.Check == "":
		parts = append(parts, string(f.Settings[0]), f.Observed)
	default:
		switch c := check.Named(f.Check); {
		case c != nil && c.Each && f.Settings != nil:
			parts = append(parts, string(f.Settings[0]))
		case c != nil && c.Looks == check.AtSettings:
			parts = append(parts, f.Observed)
		}
		parts = append(parts, withoutNames(f.Remedy, f))
	}
	return strings.Join(parts, "\x00")
}

// missing is why the value is that a demand is about.
func missing(f *check.Finding) govern.Reason {
	return f.Scope.Settings[f.Settings[0]].Missing
}

var digits = regexp.MustCompile(`[0-9]+`)

// withoutNames is a text with the finding's own names and numbers taken out, so that
// only what it says is left.
func withoutNames(text string, f *check.Finding) string {
	names := append([]string{f.About, f.Authority.Label(), f.Authority.Name}, f.Examples...)
	if f.Scope != nil {
		names = append(names, f.Scope.PolicyName(), f.Scope.Name())
	}
	slices.SortStableFunc(names, func(x, y string) int { return len(y) - len(x) })
	for _, n := range names {
		text = WithoutName(text, n)
	}
	return digits.ReplaceAllString(text, "#")
}

// WithoutName takes a name out where it stands as a word: an account called "it" leaves
// every "with" as it is.
func WithoutName(text, name string) string {
	if name == "" {
		return text
	}
	inWord := func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }
	var out strings.Builder
	for rest := text; ; {
		i := strings.Index(rest, name)
		if i < 0 {
			return out.String() + rest
		}
		before, _ := utf8.DecodeLastRuneInString(text[:len(text)-len(rest)+i])
		after, _ := utf8.DecodeRuneInString(rest[i+len(name):])
		out.WriteString(rest[:i])
		if inWord(before) || inWord(after) {
			_, size := utf8.DecodeRuneInString(name)
			out.WriteString(rest[i : i+size])
			rest = rest[i+size:]
			continue
		}
		out.WriteString("…")
		rest = rest[i+len(name):]
	}
}

// failing are the demands of a scope on a setting that do not hold.
type failing struct {
	scope   *govern.Scope
	setting setting.ID
}

// demandsTogether are all demands on what has a finding.
func (r *Record) demandsTogether() map[failing][]baseline.Named {
	all := map[failing][]baseline.Named{}
	for i := range r.Verdicts {
		v := &r.Verdicts[i]
		key := failing{v.Scope, v.Demand.Setting}
		all[key] = append(all[key], baseline.Named{Baseline: v.Baseline, Demand: v.Demand})
	}
	return all
}

// fill works out what is told of a matter.
func (r *Record) fill(m *Row, together map[failing][]baseline.Named) {
	slices.SortStableFunc(m.Findings, func(x, y *check.Finding) int {
		return cmp.Or(cmp.Compare(worthOf(y), worthOf(x)), y.Severity.Rank()-x.Severity.Rank())
	})
	first := m.own()[0]
	m.Severity, m.Observed, m.Demanded, m.Reason, m.Remedy = first.Severity, first.Observed, first.Demanded, first.Reason, first.Remedy
	m.Settings, m.Places, m.Scopes, m.Worth = nil, nil, nil, worthTogether(m.Findings)
	places, scopes, ids := map[*estate.Authority]bool{}, map[*govern.Scope]bool{}, map[setting.ID]bool{}
	for _, f := range m.Findings {
		if !places[f.Authority] {
			places[f.Authority] = true
			m.Places = append(m.Places, f.Authority)
		}
		if f.Scope != nil && !scopes[f.Scope] {
			scopes[f.Scope] = true
			m.Scopes = append(m.Scopes, f.Scope)
		}
		if f.Severity.Rank() > m.Severity.Rank() {
			m.Severity = f.Severity
		}
		if f.Check != first.Check {
			continue // it only restates the setting
		}
		for _, id := range f.Settings {
			if !ids[id] {
				ids[id] = true
				m.Settings = append(m.Settings, id)
			}
		}
		if f.Observed != m.Observed {
			m.Observed = "" // each has its own
		}
	}
	slices.SortFunc(m.Settings, setting.Order)
	r.count(m, scopes)
	if m.Check == "" {
		m.demand(together)
	}
	m.Title = m.title()
}

// demand says what satisfies all that failed, and names a way out that is right in
// every place.
func (m *Row) demand(together map[failing][]baseline.Named) {
	own := m.own()
	same := func(text func(f *check.Finding) string) bool {
		return !slices.ContainsFunc(own, func(f *check.Finding) bool { return text(f) != text(own[0]) })
	}
	if len(m.Settings) == 1 && slices.ContainsFunc(own, func(f *check.Finding) bool {
		demands := together[failing{f.Scope, m.Settings[0]}]
		band, _ := baseline.Together(m.Settings[0], baseline.Take(m.Settings[0], demands, f.Scope.Now).Demands)
		return band.Empty()
	}) {
		m.Asks = NoneAtPlace
	}
	if same(func(f *check.Finding) string { return f.Demanded }) && same(func(f *check.Finding) string { return f.Remedy }) {
		return
	}
	if len(m.Settings) > 1 {
		m.Demanded = ""
		return
	}
	row := setting.Get(m.Settings[0])
	var demands []baseline.Named
	ways := false
	for _, f := range own {
		all := together[failing{f.Scope, row.ID}]
		ways = ways || slices.ContainsFunc(all, func(n baseline.Named) bool { return n.Demand.Ways != nil })
		demands = append(demands, baseline.Take(row.ID, all, f.Scope.Now).Demands...)
	}
	band, _ := baseline.Together(row.ID, demands)
	if band.Empty() {
		m.Demanded, m.Asks = several, max(m.Asks, ByPlace)
		m.Remedy = "The places need different values: each finding names its own."
		if m.Asks == NoneAtPlace {
			m.Remedy = "No value satisfies all chosen baselines everywhere: decide which to follow, and record it under decisions in " +
				"engagement.yaml."
		}
		return
	}
	if !ways || !same(func(f *check.Finding) string { return f.Demanded }) {
		m.Demanded = band.Text()
	}
	if ways && m.Found() == check.Weak {
		m.Remedy = fmt.Sprintf("Set the %s to %s, or go another of the ways that are allowed.", strings.ToLower(row.Title), band.Text())
		return
	}
	if m.Found() == check.Weak {
		m.Remedy = fmt.Sprintf("Set the %s to %s.", strings.ToLower(row.Title), m.Demanded)
		if m.Demanded == "on" || m.Demanded == "off" {
			m.Remedy = row.Switched(m.Demanded) + "."
		}
	}
}

// Found is the verdict, of what is waived the one beneath.
func (m *Row) Found() check.Kind { return m.own()[0].Found() }

// count counts each account once.
func (r *Record) count(m *Row, scopes map[*govern.Scope]bool) {
	total, listed := 0, false
	m.Examples, m.Privileged, m.Disabled = nil, 0, 0
	example := func(name string) {
		if len(m.Examples) < mostExamples && !slices.Contains(m.Examples, name) {
			m.Examples = append(m.Examples, name)
		}
	}
	counted, rows := map[*govern.Scope]bool{}, map[*estate.Authority]map[int]bool{}
	for _, f := range m.Findings {
		for _, name := range f.Examples {
			example(name)
		}
		switch {
		case f.Scope != nil && f.Scope.Listed() && !counted[f.Scope]:
			counted[f.Scope], listed = true, true
			n := f.Scope.Accounts
			if f.Scope.Authority.Listed {
				n = f.Scope.Enabled
			}
			total, m.Disabled = total+n, m.Disabled+f.Scope.Accounts-n
			if f.Scope.Tier == govern.Privileged {
				m.Privileged += n
			}
		case f.Scope == nil && f.Rows != nil:
			listed = true
			if rows[f.Authority] == nil {
				rows[f.Authority] = map[int]bool{}
			}
			for _, row := range f.Rows {
				rows[f.Authority][row] = true
			}
		case f.Scope == nil && f.Accounts != nil: // of a record that does not say which
			listed = true
			total += *f.Accounts
		}
	}
	for place, of := range rows {
		roll := r.Roll(place.Place())
		for row := range of {
			standing := roll.Of(row)
			if standing != nil && scopes[standing.Scope] {
				continue // counted with its scope
			}
			total++
			if standing != nil && standing.Scope.Tier == govern.Privileged {
				m.Privileged++
			}
		}
	}
	if listed {
		m.Accounts = &total
	}
}

const mostExamples = 5

// Asks says whether one value mends a matter that demands found.
type Asks int

// The ways.
const (
	OneValue    Asks = iota
	ByPlace          // its places need different values
	NoneAtPlace      // in a place the baselines exclude each other: somebody has to decide
)

// several stands for what is demanded of a matter whose places need different values.
const several = "not the same everywhere"

// title says what is wrong, as a person would.
func (m *Row) title() string {
	if m.Check != "" {
		title := m.Check
		if c := check.Named(m.Check); c != nil {
			if title = c.Title; c.Each && len(m.Settings) == 1 {
				title += ": " + strings.ToLower(setting.Get(m.Settings[0]).Title)
			}
		}
		return title
	}
	first := m.own()[0]
	if first.Undecided() {
		return "What governs these accounts is not known"
	}
	name := setting.Get(m.Settings[0]).Title
	if len(first.Open) > 0 {
		asked := cmp.Or(m.Asked(), Plainly(m.Demanded))
		if sources := m.Sources(); len(sources) == 1 {
			asked = cmp.Or(sources[0].Asks, asked)
		}
		return fmt.Sprintf("%s: %s; whether %s is required there is not known", name, m.values(), asked)
	}
	if m.Found() == check.Weak && m.Asks == NoneAtPlace {
		return fmt.Sprintf("%s: %s, and the chosen baselines exclude each other", name, m.values())
	}
	if m.Found() == check.Weak {
		return fmt.Sprintf("%s: %s, required: %s", name, m.values(), cmp.Or(m.Asked(), Plainly(m.Demanded)))
	}
	if m.Observed == "" || slices.ContainsFunc(m.own(), func(f *check.Finding) bool { return missing(f) != missing(first) }) {
		return name + " is not known"
	}
	switch missing(first) {
	case govern.NotSet:
		return name + " is not set"
	case govern.Unreadable:
		return name + " cannot be read"
	case govern.NoSuch:
		return name + " cannot be set there"
	case govern.Present:
		return name + ": whether another way is met is not known"
	case govern.Unproven:
		return name + " rests on a template that may not apply"
	}
	return name + " was not collected"
}

// IsName reports whether a word is the name of a matter, not a fingerprint.
func IsName(word string) bool { return matterName.MatchString(word) }

var matterName = regexp.MustCompile(`^[Mm][0-9]+$`)

// Plainly is a demand without the specials that would do as well.
func Plainly(demanded string) string {
	plain, _, _ := strings.Cut(demanded, "; of ") // what a baseline asks in several ways
	plain, _, _ = strings.Cut(plain, " or ")
	return strings.TrimSuffix(plain, ",")
}

// Sources are the requirements of all its findings, each once.
func (m *Row) Sources() (all []check.Source) {
	for _, f := range m.Findings {
		for _, s := range f.Baselines {
			if !slices.Contains(all, s) {
				all = append(all, s)
			}
		}
	}
	return all
}

// Asked are the different requirements in few words, where there are several: "at least 12, 14
// or 15 characters"; empty where they cannot be said so, or are one.
func (m *Row) Asked() string {
	var texts [][]string
	seen := map[string]bool{}
	for _, s := range m.Sources() {
		if text := Plainly(s.Asks); text != "" && !seen[text] {
			seen[text] = true
			texts = append(texts, strings.Fields(text))
		}
	}
	if len(texts) < 2 {
		return ""
	}
	at := -1 // the one word in which they differ
	for i, word := range texts[0] {
		for _, words := range texts[1:] {
			if len(words) != len(texts[0]) || words[i] != word && at >= 0 && at != i {
				return ""
			}
			if words[i] != word {
				at = i
			}
		}
	}
	var numbers []int
	for _, words := range texts {
		n, err := strconv.Atoi(words[at])
		if err != nil {
			return ""
		}
		numbers = append(numbers, n)
	}
	slices.Sort(numbers)
	var all []string
	for _, n := range numbers {
		all = append(all, strconv.Itoa(n))
	}
	last := len(all) - 1
	words := slices.Clone(texts[0])
	words[at] = strings.Join(all[:last], ", ") + " or " + all[last]
	return strings.Join(words, " ")
}

// MatterNamed returns the matter of that name or fingerprint; a row's fingerprint gives the
// matter with that row alone. nil where there is none.
func MatterNamed(all []*Matter, name string) *Matter {
	for _, m := range all {
		if strings.EqualFold(m.Name, name) || m.Fingerprint == name {
			return m
		}
		for _, row := range m.Rows {
			if row.Fingerprint == name {
				return &Matter{Row: *row, Name: m.Name, Rows: []*Row{row}}
			}
		}
	}
	return nil
}

// worthOf is what a finding is worth; -1 where no model says so.
func worthOf(f *check.Finding) exposure.Millionths {
	if f.Worth == nil {
		return -1
	}
	return f.Worth.Sum
}

// worthTogether adds up what findings are worth, each scope's accounts once.
func worthTogether(all []*check.Finding) *exposure.Worth {
	type of struct {
		scope *govern.Scope
		place *estate.Authority
		about string
	}
	most := map[of]*exposure.Worth{}
	var order []of
	for _, f := range all {
		if f.Worth == nil {
			continue
		}
		at := of{f.Scope, f.Authority, ""}
		if f.Scope == nil {
			at.about = f.About
		}
		if old := most[at]; old == nil {
			order = append(order, at)
		} else if old.Sum >= f.Worth.Sum {
			continue
		}
		most[at] = f.Worth
	}
	if len(order) == 0 {
		return nil
	}
	sum := &exposure.Worth{}
	for _, at := range order {
		w := most[at]
		sum.Sum, sum.Most = sum.Sum+w.Sum, sum.Most+w.Most
		sum.Each, sum.Admin, sum.Class = max(sum.Each, w.Each), max(sum.Admin, w.Admin), max(sum.Class, w.Class)
	}
	return sum
}

// values are the values that the setting has, from the least to the greatest.
func (m *Row) values() string {
	if m.Observed != "" {
		return m.Observed
	}
	row := setting.Get(m.Settings[0])
	var numbers []int64
	var others []string
	for _, f := range m.own() {
		v := f.Scope.Now(row.ID)
		if n, ok := v.Number(); ok {
			numbers = append(numbers, n)
		} else if text := row.Text(v); v.IsSet() && !slices.Contains(others, text) {
			others = append(others, text)
		}
	}
	slices.Sort(numbers)
	if numbers = slices.Compact(numbers); len(numbers) > 0 {
		low, high := row.Text(setting.Number(numbers[0])), row.Text(setting.Number(numbers[len(numbers)-1]))
		if len(numbers) > 1 {
			low = strings.TrimSuffix(low, " "+row.Noun) + " to " + high
		}
		others = append(others, low)
	}
	if len(others) == 0 {
		return "not the same everywhere"
	}
	if len(others) == 1 {
		return others[0]
	}
	return strings.Join(others[:len(others)-1], ", ") + " or " + others[len(others)-1]
}
