package assess

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"sternledger/internal/contract"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/probe"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/custody"
)

// ProbeOptions say which passwords are tried where.
type ProbeOptions struct {
	Scope     string   // name, or pattern; empty: all
	Account   string   // instead of scopes
	Authority string   // in which the account is looked for
	Passwords []string // in the order of the input
	Patterns  bool     // instead of passwords: what people choose under pressure
}

// Probed is what came of trying passwords. It holds no password, but those of
// patterns, which are nobody's.
type Probed struct {
	Account  string // empty: by scopes
	Places   []ProbedPlace
	Tried    []probe.Summary
	Families []probe.Family // of patterns; empty otherwise
	Words    int            // of the engagement, from which patterns are made
}

// ProbedPlace is one scope with what it makes of each password.
type ProbedPlace struct {
	Scope   *govern.Scope
	Results []probe.Result
}

// mostPasswords and longestPassword bound the input.
const (
	mostPasswords   = 10_000
	longestPassword = 1 << 20
)

// ReadPasswords reads passwords, one on each line; an empty line is an empty
// password. Errors name the line and never the password.
func ReadPasswords(name string, in io.Reader) ([]string, error) {
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, longestPassword)
	lines.Split(bufio.ScanLines)
	var all []string
	for lines.Scan() {
		text := lines.Text()
		fail := func(seen, expected string) error {
			return fmt.Errorf("%s:%d: %s; expected %s", name, len(all)+1, seen, expected)
		}
		if len(all) == 0 {
			text = strings.TrimPrefix(text, "\ufeff")
		}
		switch {
		case !utf8.ValidString(text):
			return nil, fail("not UTF-8", "a password on each line in UTF-8: save the file as such")
		case strings.Contains(text, "\x00"):
			return nil, fail("a NUL character, which ends a password on most platforms", "text: a file in UTF-16 must be saved as UTF-8")
		case len(all) == mostPasswords:
			return nil, fail(fmt.Sprintf("more than %d passwords", mostPasswords), "fewer at once")
		}
		all = append(all, text)
	}
	if err := lines.Err(); errors.Is(err, bufio.ErrTooLong) {
		return nil, fmt.Errorf("%s:%d: a line of more than 1 MiB; expected a password on each line", name, len(all)+1)
	} else if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if len(all) == 0 {
		return nil, fmt.Errorf("%s: no password in it; expected one on each line", name)
	}
	return all, nil
}

// Probe says whether passwords would be accepted, and which rule refuses them.
func Probe(e *custody.Engagement, opt ProbeOptions) (*Probed, error) {
	p := &Probed{Words: len(e.Config.Words)}
	var s *govern.Survey
	var who probe.Person
	var scopes []*govern.Scope
	var err error
	if opt.Account != "" {
		var at place
		if s, at, err = account(e, opt.Account, opt.Authority); err != nil {
			return nil, err
		}
		scope, _, settings := effectiveFor(s, at)
		scope.Settings = settings
		scopes, who = []*govern.Scope{scope}, personOf(s, at)
		p.Account = s.Estate.Authorities[at.authority].Objects.Name.At(at.row)
	} else {
		if s, err = e.Survey(); err != nil {
			return nil, err
		}
		if scopes, err = pickScopes(s, opt.Scope); err != nil {
			return nil, err
		}
	}
	passwords := opt.Passwords
	if opt.Patterns {
		if p.Families, err = patterns(e, who); err != nil {
			return nil, err
		}
		passwords = nil
		for _, f := range p.Families {
			passwords = append(passwords, f.Passwords...)
		}
	}
	for _, text := range passwords {
		p.Tried = append(p.Tried, probe.Summarise(text))
	}
	for _, scope := range scopes {
		at := placeOf(s, scope)
		tried := ProbedPlace{Scope: scope}
		for _, text := range passwords {
			tried.Results = append(tried.Results, probe.Judge(at, who, text))
		}
		p.Places = append(p.Places, tried)
	}
	return p, nil
}

// errNoScopes says that there is nobody whom settings could govern.
var errNoScopes = errors.New("no account scopes: the evidence holds templates only; gather the domain or the machines that they act on")

// pickScopes returns the scopes that a name or pattern means.
func pickScopes(s *govern.Survey, pattern string) ([]*govern.Scope, error) {
	if len(s.Scopes) == 0 {
		return nil, errNoScopes
	}
	filter := custody.WeighFilter{Scope: pattern}
	var picked []*govern.Scope
	var names []string
	for _, scope := range s.Scopes {
		names = append(names, scope.Name())
		if filter.InScope(scope.Name()) {
			picked = append(picked, scope)
		}
	}
	if len(picked) == 0 {
		return nil, fmt.Errorf("--scope %q: there is none; %s", pattern, strictyaml.Hint(pattern, names))
	}
	return picked, nil
}

// personOf is who an account belongs to, in the authority that governs its
// password.
func personOf(s *govern.Survey, at place) probe.Person {
	if from, ok := s.Resolutions[at.authority].Source(at.row); ok {
		at = place{from.Authority, from.Row}
	}
	o := s.Estate.Authorities[at.authority].Objects
	return probe.Person{Account: o.Name.At(at.row), Display: o.Display.At(at.row)}
}

// placeOf is where the password of a scope's account is set.
func placeOf(s *govern.Survey, scope *govern.Scope) *probe.Place {
	home := scope.Authority
	if scope.Elsewhere != nil {
		home = scope.Elsewhere
	}
	at := &probe.Place{Platform: scope.Platform(), Settings: scope.Settings}
	if scope.Policy != nil {
		at.Asks = scope.Policy.Asks
	}
	for i, a := range s.Estate.Authorities {
		if a == home && a.Kind == estate.Domain {
			at.Dialect = s.Resolutions[i].Dialect
		}
	}
	// A tenant whose accounts come from this domain may ban its words here, too.
	const mode = setting.ID(setting.DirectoryBlocklistMode)
	for i, tenant := range s.Estate.Authorities {
		if home.Kind == estate.Domain && at.Cloud == nil && tenant.Head != nil &&
			s.Resolutions[i].DrawsOn(slices.Index(s.Estate.Authorities, home)) {
			at.Cloud = probe.CloudFor(tenant.Name, tenant.Head.Settings[mode].Value, tenant.Head.Asks, tenant.Head.Settings[mode].Cite)
		}
	}
	return at
}

// patterns makes examples of what people choose, from the engagement's words
// and the year of its newest evidence.
func patterns(e *custody.Engagement, who probe.Person) ([]probe.Family, error) {
	evidence, err := e.Ledger.Evidence()
	if err != nil {
		return nil, err
	}
	newest := ""
	for _, f := range evidence {
		newest = max(newest, f.Written)
	}
	at, err := time.Parse(time.RFC3339, newest)
	if err != nil {
		return nil, fmt.Errorf("the ledger: when the evidence was written: %w", err)
	}
	seeds := probe.Seeds{Year: at.Year(), Words: e.Config.Words}
	for _, name := range strings.FieldsFunc(who.Display, func(c rune) bool { return c == ' ' || c == ',' || c == '.' }) {
		if utf8.RuneCountInString(name) > 2 {
			seeds.Own = append(seeds.Own, name)
		}
	}
	return probe.Patterns(seeds), nil
}

// count adds one verdict to a share.
func count(s *record.Share, v probe.Verdict) {
	s.Tried++
	switch v {
	case probe.Accepted:
		s.Accepted++
	case probe.Refused:
		s.Refused++
	default:
		s.CannotTell++
	}
}

// Shares counts, for each family of patterns, what a place makes of it.
func (p *Probed) Shares(at *ProbedPlace) []record.Share {
	var all []record.Share
	n := 0
	for _, f := range p.Families {
		var s record.Share
		for range f.Passwords {
			count(&s, at.Results[n].Verdict)
			n++
		}
		all = append(all, s)
	}
	return all
}

// Merged returns the places without those that differ from one before by the
// tier alone: tiers under one policy are asked the same.
func (p *Probed) Merged() []*ProbedPlace {
	var all []*ProbedPlace
	for i := range p.Places {
		at := &p.Places[i]
		if !slices.ContainsFunc(all, func(b *ProbedPlace) bool {
			return b.Scope.Under() == at.Scope.Under()
		}) {
			all = append(all, at)
		}
	}
	return all
}

// Document describes what was probed.
func (p *Probed) Document() contract.ProbeDocument {
	d := contract.ProbeDocument{Schema: "sternledger/probe/1", Passwords: []contract.PasswordDocument{}, Results: []contract.ProbeResult{},
		Patterns: []contract.PatternShare{}}
	for i, t := range p.Tried {
		d.Passwords = append(d.Passwords, contract.PasswordDocument{Password: i + 1, Length: t.Length, Bytes: t.Bytes,
			Classes: append([]string{}, t.Classes...), Marks: t.Marks})
	}
	n := 0
	for _, f := range p.Families {
		for _, text := range f.Passwords {
			d.Passwords[n].Pattern, d.Passwords[n].Text = f.Name, text
			n++
		}
	}
	for i := range p.Places {
		at := &p.Places[i]
		for k, s := range p.Shares(at) {
			d.Patterns = append(d.Patterns, contract.PatternShare{Scope: at.Scope.Name(), Pattern: p.Families[k].Name, Weak: p.Families[k].Weak,
				Share: s})
		}
		for k, r := range at.Results {
			one := contract.ProbeResult{Password: k + 1, Scope: at.Scope.Name(), Account: p.Account, Verdict: r.Verdict,
				Rules: []contract.ProbeRule{}}
			for _, o := range r.Rules {
				one.Rules = append(one.Rules, contract.ProbeRule{Rule: o.Rule, Verdict: o.Verdict, Why: o.Why, Aside: o.Aside,
					Evidence: o.Cite.String()})
			}
			d.Results = append(d.Results, one)
		}
	}
	return d
}
