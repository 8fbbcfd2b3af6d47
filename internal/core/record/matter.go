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
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Matter is the same thing wrong, in one place or in many: one setting with one
// observed value, or one check with one reason. It has one way out.
type Matter struct {
	Name        string // M1, M2, …: its place in the order of this record, and of no other
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
	Accounts    *int // each counted once; nil: no evidence lists them
	Privileged  int  // of these
	Examples    []string
}

// Matters puts the findings together. Every finding is in exactly one matter. The
// gravest come first, then those that reach most privileged accounts, most
// accounts, most places; what is waived comes last.
func (r *Record) Matters() []*Matter {
	by := map[string]*Matter{}
	var all []*Matter
	for i := range r.Findings {
		f := &r.Findings[i]
		key := matterKey(f)
		if by[key] == nil {
			by[key] = &Matter{Fingerprint: govern.Fingerprint("matter", key), Kind: f.Kind, Check: f.Check}
			all = append(all, by[key])
		}
		by[key].Findings = append(by[key].Findings, f)
	}
	together := r.demandsTogether()
	for _, m := range all {
		r.fill(m, together)
	}
	slices.SortStableFunc(all, func(x, y *Matter) int { return x.order(y) })
	for i, m := range all {
		if m.Name = r.names[m.Fingerprint]; m.Name == "" {
			m.Name = fmt.Sprintf("M%d", i+1)
		}
	}
	return all
}

// order is that of pages.
func (m *Matter) order(other *Matter) int {
	waived := func(x *Matter) int {
		if x.Kind == check.Waived {
			return 1
		}
		return 0
	}
	accounts := func(x *Matter) int {
		if x.Accounts == nil {
			return 0
		}
		return *x.Accounts
	}
	return cmp.Or(waived(m)-waived(other), other.Severity.Rank()-m.Severity.Rank(), other.Privileged-m.Privileged,
		accounts(other)-accounts(m), len(other.Places)-len(m.Places), other.Kind.Rank()-m.Kind.Rank(),
		strings.Compare(m.Title, other.Title), strings.Compare(m.Fingerprint, other.Fingerprint))
}

// matterKey is what findings of one matter share.
func matterKey(f *check.Finding) string {
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
func (r *Record) fill(m *Matter, together map[failing][]baseline.Named) {
	slices.SortStableFunc(m.Findings, func(x, y *check.Finding) int { return y.Severity.Rank() - x.Severity.Rank() })
	first := m.Findings[0]
	m.Severity, m.Observed, m.Demanded, m.Reason, m.Remedy = first.Severity, first.Observed, first.Demanded, first.Reason, first.Remedy
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
func (m *Matter) demand(together map[failing][]baseline.Named) {
	same := func(text func(f *check.Finding) string) bool {
		return !slices.ContainsFunc(m.Findings, func(f *check.Finding) bool { return text(f) != text(m.Findings[0]) })
	}
	if len(m.Settings) == 1 && slices.ContainsFunc(m.Findings, func(f *check.Finding) bool {
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
	for _, f := range m.Findings {
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
		m.Remedy = fmt.Sprintf("Set the %s to %s, or go another of the ways that are demanded.", strings.ToLower(row.Title), band.Text())
		return
	}
	if m.Found() == check.Weak {
		m.Remedy = fmt.Sprintf("Set the %s to %s.", strings.ToLower(row.Title), m.Demanded)
		if m.Demanded == "on" || m.Demanded == "off" {
			m.Remedy = fmt.Sprintf("Switch %s %s.", strings.ToLower(row.Title), m.Demanded)
		}
	}
}

// Found is the verdict, of what is waived the one beneath.
func (m *Matter) Found() check.Kind { return m.Findings[0].Found() }

// count counts each account once.
func (r *Record) count(m *Matter, scopes map[*govern.Scope]bool) {
	total, listed := 0, false
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
			total += f.Scope.Accounts
			if f.Scope.Tier == govern.Privileged {
				m.Privileged += f.Scope.Accounts
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
func (m *Matter) title() string {
	if m.Check != "" {
		title := m.Check
		if c := check.Named(m.Check); c != nil {
			if title = c.Title; c.Each && len(m.Settings) == 1 {
				title += ": " + strings.ToLower(setting.Get(m.Settings[0]).Title)
			}
		}
		return title
	}
	first := m.Findings[0]
	if first.Undecided() {
		return "What governs these accounts is not known"
	}
	name := setting.Get(m.Settings[0]).Title
	if m.Found() == check.Weak && m.Asks == NoneAtPlace {
		return fmt.Sprintf("%s: %s, and the chosen baselines exclude each other", name, m.Observed)
	}
	if m.Found() == check.Weak {
		return fmt.Sprintf("%s: %s, demanded: %s", name, m.Observed, cmp.Or(m.asked(), Plainly(m.Demanded)))
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
	plain, _, _ := strings.Cut(demanded, " or ")
	return plain
}

// Sources are the requirements of all its findings, each once.
func (m *Matter) Sources() (all []check.Source) {
	for _, f := range m.Findings {
		for _, s := range f.Baselines {
			if !slices.Contains(all, s) {
				all = append(all, s)
			}
		}
	}
	return all
}

// asked are the different requirements in few words, where there are several: "at least 12, 14
// or 15 characters"; empty where they cannot be said so, or are one.
func (m *Matter) asked() string {
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

// MatterNamed returns the matter of that name or fingerprint; nil where there is
// none.
func MatterNamed(all []*Matter, name string) *Matter {
	i := slices.IndexFunc(all, func(m *Matter) bool { return strings.EqualFold(m.Name, name) || m.Fingerprint == name })
	if i < 0 {
		return nil
	}
	return all[i]
}
