package assess

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"sternledger/internal/contract"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/strictyaml"
	"sternledger/internal/custody"
)

// Match is one account that a name could mean.
type Match struct{ Authority, Account, DN, Evidence string }

// SeveralError says that a name means several accounts.
type SeveralError struct {
	Name    string
	Matches []Match
}

func (e *SeveralError) Error() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%d accounts are called %q; name one by its DN or SID, or its place with --authority:", len(e.Matches), e.Name)
	for _, m := range e.Matches[:min(len(e.Matches), 20)] {
		fmt.Fprintf(&b, "\n  %s  (%s of %s, %s)", m.DN, m.Account, m.Authority, m.Evidence)
	}
	if more := len(e.Matches) - 20; more > 0 {
		fmt.Fprintf(&b, "\n  and %d more", more)
	}
	return b.String()
}

// Trace finds an account by name, principal name, DN or SID and tells what
// governs it and why.
//
// Where a person has accounts in several authorities, the domain's is traced,
// and the others are its doors; in names one authority to look in.
func Trace(e *custody.Engagement, name, in string) (*contract.TraceDocument, error) {
	s, p, err := account(e, name, in, "pwd-set")
	if err != nil {
		return nil, err
	}
	return trace(e, s, p.authority, p.row), nil
}

// account finds the account that a name means, in one authority or in all, and
// loads what tells of a single one, and more columns.
func account(e *custody.Engagement, name, in string, more ...string) (*govern.Survey, place, error) {
	if s, p, err := around(e, name, in); s != nil || err != nil {
		return s, p, err
	}
	s, err := e.Surveyed(govern.Prepare, append([]string{"principal", "display", "line", "file", "control", "control-at"}, more...)...)
	if err != nil {
		return nil, place{}, err
	}
	p, err := locate(s, name, in)
	return s, p, err
}

// around does so without reading all accounts of large domains; no survey: it cannot. The
// account's own name is sought, too: by it its doors are found.
func around(e *custody.Engagement, name, in string) (*govern.Survey, place, error) {
	if strings.Contains(name, "=") && !strings.HasPrefix(name, "S-1-") { // a DN
		return nil, place{}, nil
	}
	names := []string{name}
	for {
		s, err := e.Around(names)
		if s == nil || err != nil {
			return nil, place{}, err
		}
		p, err := locate(s, name, in)
		if err != nil {
			return nil, p, err
		}
		own := s.Estate.Authorities[p.authority].Objects.Name.At(p.row)
		if slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, own) }) {
			return s, p, nil
		}
		names = append(names, own)
	}
}

// locate finds the account that a name means, in one authority or in all.
func locate(s *govern.Survey, name, in string) (place, error) {
	var matches []Match
	var found []place
	var known []string
	for i, a := range s.Estate.Authorities {
		known = append(known, a.Label())
		if in != "" && !a.Place().Means(in) {
			continue
		}
		for _, row := range find(a, name) {
			found = append(found, place{i, row})
			matches = append(matches, Match{a.Label(), a.Objects.Name.At(row), a.DN(row), a.CiteOf(row).String()})
		}
	}
	if in != "" && !slices.ContainsFunc(known, func(k string) bool { return strings.EqualFold(k, in) }) && len(matches) == 0 &&
		!slices.ContainsFunc(s.Estate.Authorities, func(a *estate.Authority) bool { return a.Place().Means(in) }) {
		return place{}, fmt.Errorf("no authority %q in the evidence; %s", in, strictyaml.Hint(in, known))
	}
	if len(found) == 0 {
		return place{}, fmt.Errorf("no account %q in the evidence; give its name, principal name, DN or SID, or look for it with "+
			"\"sternledger accounts '*%s*'\"", name, name)
	}
	p, ok := mainOf(s, found)
	if !ok {
		return place{}, &SeveralError{name, matches}
	}
	return p, nil
}

// find returns the accounts of an authority that a name means: an account name
// first, whatever it looks like, then a SID, a DN or a principal name.
func find(a *estate.Authority, name string) []int {
	o := a.Objects
	rows := accountsWhere(o, func(row int) bool { return strings.EqualFold(o.Name.At(row), name) })
	switch {
	case len(rows) > 0:
		return rows
	case strings.HasPrefix(name, "S-1-"):
		last, ok := strings.CutPrefix(name, a.SID+"-")
		rid, err := strconv.ParseUint(last, 10, 32)
		if !ok || err != nil || a.SID == "" {
			return nil
		}
		return accountsWhere(o, func(row int) bool { return o.RID.At(row) == uint32(rid) && o.FlagsOf(row)&estate.BuiltinDomain == 0 })
	case strings.Contains(name, "="):
		dn := estate.NormalDN(name)
		parents := map[uint32]bool{} // those that the account can stand under
		for p, parent := range a.Parents {
			parents[uint32(p)] = strings.HasSuffix(dn, estate.NormalDN(parent))
		}
		return accountsWhere(o, func(row int) bool { return parents[o.Parent.At(row)] && estate.NormalDN(a.DN(row)) == dn })
	case strings.Contains(name, "@"):
		return accountsWhere(o, func(row int) bool { return strings.EqualFold(o.Principal.At(row), name) })
	}
	return nil
}

func accountsWhere(o *estate.Objects, means func(row int) bool) []int {
	var rows []int
	for row := range o.Len() {
		if o.ClassOf(row) == estate.Account && means(row) {
			rows = append(rows, row)
		}
	}
	return rows
}

// displayed is a person's name, without what else stands in a Unix machine's
// field for it.
func displayed(a *estate.Authority, row int) string {
	name := a.Objects.Display.At(row)
	if a.Platform == setting.UnixMachine {
		name, _, _ = strings.Cut(name, ",")
	}
	return name
}

// doorsOf says who checks the password of a synchronised account at the tenant's
// door, and so whose lockout and expiry count there.
var doorsOf = map[estate.Way]string{
	estate.PasswordHash: "The tenant checks a copy of the hash by itself: at its door its own lockout counts, and its own expiry.",
	estate.PassThrough:  "The tenant passes each try on to the domain, whose lockout and expiry count; its own lockout stands before it.",
	estate.Federation:   "It signs in at the domain's own service; the tenant's lockout and expiry never run.",
	"":                  "Who checks its password at the tenant's door is not in the evidence, and neither is what depends on it.",
}

func trace(e *custody.Engagement, s *govern.Survey, authority, row int) *contract.TraceDocument {
	a, r := s.Estate.Authorities[authority], s.Resolutions[authority]
	o := a.Objects
	scope, g, settings := effectiveFor(s, place{authority, row})
	there := a // who governs it
	if g.At != nil {
		there = g.At
	}
	tier, why := s.TierOf(authority, row)
	flags := o.FlagsOf(row)
	d := &contract.TraceDocument{Schema: "sternledger/trace/1", Candidates: []contract.CandidateDocument{}, Notes: []string{},
		Doors: []contract.DoorDocument{}}
	d.Account = contract.TracedAccount{Authority: a.Name, Kind: string(a.Kind), Account: o.Name.At(row), Principal: o.Principal.At(row),
		Display: displayed(a, row), DN: a.DN(row),
		Enabled: flags&estate.Disabled == 0, Tier: tier, TierRule: why, Flags: append([]string{}, flags.Names()...),
		Evidence: a.CiteOf(row).String()}
	if rid := o.RID.At(row); rid != 0 && a.SID != "" {
		d.Account.SID = fmt.Sprintf("%s-%d", a.SID, rid)
	}
	if set := o.PwdSet.At(row); set != 0 {
		d.Account.PwdSet = time.Unix(int64(set), 0).UTC().Format(time.RFC3339)
	}
	d.Governing = contract.GoverningDocument{Policy: scope.PolicyName(), Origin: "-", Rule: string(g.Rule), Via: "-",
		Dialect: string(r.Dialect), Assumed: r.Assumed, Answered: g.Answered, From: a.DialectCite.String()}
	if e.Config.ForAuthority(a.Place()).Dialect.Value != "" {
		d.Governing.From = custody.ConfigName
	}
	if g.Policy != nil {
		d.Governing.Origin = g.Policy.Origin
	}
	if g.Via != estate.NotFound {
		d.Governing.Via = groupName(there, g.Via)
	}
	for _, c := range r.Candidates(row) {
		cd := contract.CandidateDocument{Policy: c.Policy.Name, Origin: c.Policy.Origin, Precedence: c.Policy.Precedence,
			Via: []string{}, ViaLeft: c.Left, Won: c.Outcome == govern.Won, Outcome: c.Outcome, Why: c.Why, Evidence: c.Policy.Cite.String()}
		for _, group := range c.Chain {
			cd.Via = append(cd.Via, groupName(there, group))
		}
		d.Candidates = append(d.Candidates, cd)
	}
	d.Settings = contract.NewSettingDocuments(settings)
	d.Default = contract.NewSettingDocuments(s.ScopeUnder(authority, a.Head).Settings)
	configured := map[setting.ID]govern.Effective{}
	for id, c := range govern.Configured(s.Templates[authority].Root()) {
		from := c.By.Name()
		if c.Open != "" {
			from += " (not certain: " + c.Open + ")"
		}
		configured[id] = govern.Effective{Fact: c.Fact, From: from, Configured: true}
	}
	d.Configured = contract.NewSettingDocuments(configured)
	d.Displayed = contract.NewSettingDocuments(onDisplay(a.Displayed))
	notes(d, s, authority, row, g)
	addDoors(d, s, place{authority, row})
	return d
}

// onDisplay lays the machines' resultant reports over each other: each setting as the
// first machine that displays it does, with how many display it otherwise.
func onDisplay(all []estate.Display) map[setting.ID]govern.Effective {
	shown := map[setting.ID]govern.Effective{}
	others := map[setting.ID]int{}
	for i := range all {
		for id, f := range all[i].Settings {
			was, ok := shown[id]
			switch {
			case f.Problem != "":
			case !ok:
				shown[id] = govern.Effective{Fact: f, From: "displayed by " + all[i].Machine}
			case was.Value != f.Value:
				others[id]++
			}
		}
	}
	for id, n := range others {
		f := shown[id]
		f.From += fmt.Sprintf("; %d others display it otherwise", n)
		shown[id] = f
	}
	return shown
}

// notes says what else an auditor would want to know of the account.
func notes(d *contract.TraceDocument, s *govern.Survey, authority, row int, g govern.Governing) {
	a, r := s.Estate.Authorities[authority], s.Resolutions[authority]
	flags := a.Objects.FlagsOf(row)
	note := func(format string, args ...any) { d.Notes = append(d.Notes, fmt.Sprintf(format, args...)) }
	if g.Rule == govern.Unknown {
		note("Not decided: %s.", g.Why)
	} else if g.Policy != nil {
		if next, decided := r.Without(row); !decided {
			note("If %s went away, the evidence does not decide what would govern.", g.Policy.Name)
		} else if next != nil && a.Kind == estate.Domain {
			note("If %s went away, %s would govern.", g.Policy.Name, next.Name)
		}
	}
	if g.At != nil {
		note("It is synchronised from %s, which decides what is asked of a new password; the tenant's own settings stand beside. %s",
			g.At.Name, doorsOf[g.Way])
	}
	if r.Assumed {
		note("The evidence does not show whether Windows or Samba serves the domain: both were played, and what differs between " +
			"them is not decided.")
	}
	for _, absent := range s.Absent(authority) {
		if absent.Part {
			note("Groups here name objects of the domain %s that its evidence does not hold: what these hold in turn is not known.", absent.Domain)
		} else {
			note("Groups here name objects of the domain %s, which is not in the evidence: whether its groups hold the account is not known.",
				absent.Domain)
		}
	}
	if flags&estate.EmptyPassword != 0 {
		note("Its password is empty.")
	}
	for _, m := range a.Remarks { // by which way the weakest of its rules comes
		if m.Kind == estate.DoorsDiffer {
			note("%s.", m.Text)
		}
	}
	if a.Kind == estate.Tenant && flags&(estate.FactorRequired|estate.FactorOptional|estate.FactorAtTimes) == 0 {
		for _, m := range a.Remarks {
			if m.Kind == estate.RuleOpen || m.Kind == estate.RuleLimited {
				note("Not known of a second factor: %s.", m.Text)
			}
		}
	}
	if flags&estate.NeverOverride != 0 {
		note("It is a kind of account that no fine-grained policy governs.")
	}
	if flags&estate.NoControl != 0 && a.Kind == estate.Machine {
		note("Its line of shadow is not in the evidence: locked or not, and how it ages, is not known.")
	} else if flags&estate.NoControl != 0 {
		note("Its userAccountControl is not in the evidence: whether it is enabled, and the flags that switch settings off, are not known.")
	}
	if flags&estate.NoPrimary != 0 {
		note("Its primary group is not in the evidence: which policies come through it, is not known.")
	}
	if flags&estate.SmartCard != 0 {
		note("A smart card is required: the password is a random one that nobody types.")
	}
	if flags&estate.NoneRequired != 0 {
		note("Its flag says that no password is required: an empty one can be set, whatever the minimum length.")
	}
	if flags&estate.LockedNow != 0 {
		note("It was locked when the export was made, or had been locked since its last sign-in.")
	}
	if a.AnswerGiven && g.Rule != govern.Unknown {
		told := "the domain's default"
		if n := a.Objects.Resultant.At(row); n > 0 {
			told = a.Policies[n-1].DN
		}
		same := g.Policy == nil && told == "the domain's default" || g.Policy != nil && estate.NormalDN(told) == estate.NormalDN(g.Policy.Origin)
		if same {
			note("The directory's own answer in the evidence is the same: %s.", told)
		} else {
			note("The directory's own answer in the evidence differs: %s.", told)
		}
	}
}

const mostExamples = 5

// TracePolicy turns the question round.
func TracePolicy(e *custody.Engagement, name string) (*contract.PolicyTraceDocument, error) {
	s, err := e.Surveyed(govern.Prepare)
	if err != nil {
		return nil, err
	}
	type found struct {
		authority int
		policy    *estate.Policy
	}
	var matches []found
	var known []string
	for i, a := range s.Estate.Authorities {
		for k := range a.Overrides {
			p := &a.Overrides[k]
			known = append(known, p.Name)
			if strings.EqualFold(p.Name, name) || estate.NormalDN(p.Origin) == estate.NormalDN(name) {
				matches = append(matches, found{authority: i, policy: p})
			}
		}
	}
	switch {
	case len(known) == 0:
		return nil, fmt.Errorf("the evidence holds no fine-grained policy; if there are some, the export was made without the right to read them")
	case len(matches) == 0:
		return nil, fmt.Errorf("no fine-grained policy %q in the evidence; %s", name, strictyaml.Hint(name, known))
	case len(matches) > 1:
		var dns []string
		for _, m := range matches {
			dns = append(dns, "\n  "+m.policy.Origin)
		}
		return nil, fmt.Errorf("%d policies are called %q; name one by its DN:%s", len(matches), name, strings.Join(dns, ""))
	}
	return tracePolicy(s, matches[0].authority, matches[0].policy), nil
}

func tracePolicy(s *govern.Survey, authority int, p *estate.Policy) *contract.PolicyTraceDocument {
	a, r := s.Estate.Authorities[authority], s.Resolutions[authority]
	d := &contract.PolicyTraceDocument{Schema: "sternledger/trace-policy/1", Authority: a.Name, Policy: p.Name, Origin: p.Origin,
		Precedence: p.Precedence,
		Evidence:   p.Cite.String(), Examples: []string{}, LosesTo: []contract.LossDocument{}, Targets: []contract.TargetDocument{}}
	losses := map[string]*contract.LossDocument{}
	for _, row := range r.Reaches(p) {
		d.Reaches++
		name := a.Objects.Name.At(row)
		g := r.Of(row)
		if g.Policy == p {
			d.Governs++
			d.Examples = addExample(d.Examples, name)
			continue
		}
		winner := "not decided"
		if g.Policy != nil {
			winner = g.Policy.Name
		}
		l := losses[winner]
		if l == nil {
			l = &contract.LossDocument{Policy: winner, Examples: []string{}}
			losses[winner] = l
		}
		l.Accounts++
		l.Examples = addExample(l.Examples, name)
	}
	for _, l := range losses {
		d.LosesTo = append(d.LosesTo, *l)
	}
	slices.SortFunc(d.LosesTo, func(x, y contract.LossDocument) int { return strings.Compare(x.Policy, y.Policy) })
	for _, t := range p.Targets {
		_, idle := r.Ignored(t)
		d.Targets = append(d.Targets, contract.TargetDocument{DN: t.DN, Idle: idle, Evidence: t.Cite.String()})
	}
	return d
}

func addExample(examples []string, name string) []string {
	if len(examples) < mostExamples {
		return append(examples, name)
	}
	return examples
}
