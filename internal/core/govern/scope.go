package govern

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// Effective is what a setting comes to in a scope: the fact that governs, and
// the policy it comes from; or why there is none.
type Effective struct {
	estate.Fact
	From       string `json:"from,omitempty"`
	Configured bool   `json:"configured,omitempty"` // a template says so; the authority itself does not show it
	Missing    Reason `json:"missing,omitempty"`
	Open       string `json:"open,omitempty"` // for Unproven: what is lacking
}

// Reason tells the four ways apart in which a value can be missing.
type Reason string

// The reasons.
const (
	Present      Reason = ""
	NotCollected Reason = "not collected: the evidence does not hold it"
	NotSet       Reason = "not set"
	Unreadable   Reason = "in the evidence, but not readable"
	NoSuch       Reason = "the platform has no such setting"
	Unproven     Reason = "a template configures it, and whether that template applies is not in the evidence"
)

// Scope is the accounts of one authority that live under the same effective
// settings.
type Scope struct {
	Authority *estate.Authority        `json:"-"`
	Policy    *estate.Policy           `json:"-"` // nil: the authority's own settings are not in the evidence, or the evidence does not decide
	Rule      Rule                     `json:"rule"`
	Why       string                   `json:"why,omitempty"` // for an undecided scope: what the evidence lacks
	Tier      string                   `json:"tier"`
	Spared    Spared                   `json:"spared,omitempty"` // of an account that the lockout does not reach, or may not
	Root      bool                     `json:"root,omitempty"`   // root of a Unix machine is in it
	Split     bool                     `json:"split,omitempty"`  // other tiers live under the same policy
	Accounts  int                      `json:"accounts"`
	Enabled   int                      `json:"enabled"`
	Examples  []int                    `json:"examples,omitempty"` // rows of the first few accounts
	Settings  map[setting.ID]Effective `json:"settings"`
	// Elsewhere is the domain that governs the accounts of a tenant's scope
	// that are synchronised from it; else nil.
	Elsewhere *estate.Authority `json:"-"`
	// Way is how the passwords of such accounts are checked at the tenant's door,
	// and Home the settings at the domain's own.
	Way  estate.Way               `json:"way,omitempty"`
	Home map[setting.ID]Effective `json:"home,omitempty"`
}

// Spared says that a lockout passes an account by: the built-in administrator's, where its
// domain or machine does not let it be locked, whatever policy is its own.
type Spared string

// What is known of it.
const (
	NotSpared   Spared = ""
	NeverLocked Spared = "never locked"
	MaybeSpared Spared = "perhaps never locked" // what would say so is not in the evidence
)

// Kind is the scope's tier, with whether a lockout reaches its accounts.
func (s *Scope) Kind() string {
	if s.Spared == NotSpared {
		return s.Tier
	}
	return s.Tier + " (" + string(s.Spared) + ")"
}

// sparedAt says whether the lockout that a policy sets passes the account at a row by.
func sparedAt(a *estate.Authority, p *estate.Policy, row int) Spared {
	windows := a.Kind == estate.Domain || a.Platform == setting.WindowsMachine
	if !windows || a.Objects.RID.At(row) != builtinAdministrator || a.Objects.FlagsOf(row)&estate.BuiltinDomain != 0 || p == nil || a.Head == nil {
		return NotSpared
	}
	switch f, known := a.Head.Settings[setting.LockoutAdministrator]; {
	case !known || f.Problem != "":
		return MaybeSpared
	case f.Value == setting.Off:
		return NeverLocked
	}
	return NotSpared
}

// asSamba takes back what a Samba server does not enforce: it lets no password end that may
// grow a day old or less (tried).
func (s *Scope) asSamba() {
	const day = 24 * 60 * 60
	e := s.Settings[setting.MaxAge]
	if n, ok := e.Value.Number(); ok && e.Missing == Present && n <= day {
		e.Value, e.Cite.Note = setting.Of(setting.Never), "of a day or less, which Samba takes for never"
		s.Settings[setting.MaxAge] = e
	}
}

// spare takes back what the policy says of a lock.
func (s *Scope) spare() {
	if s.Spared == NotSpared || s.Settings[setting.LockoutThreshold].Missing != Present || s.Settings[setting.LockoutThreshold].Value.Is(setting.Never) {
		return // nobody is locked; but the scope is one of its own all the same, or it would be another tomorrow
	}
	told := s.Authority.Head.Settings[setting.LockoutAdministrator]
	e := Effective{Fact: estate.Fact{Value: setting.Of(setting.Never), Cite: told.Cite, Remedy: "Let the lockout reach the built-in " +
		"administrator, by \"Allow Administrator account lockout\"; keep another way in for the case that it is locked."}, From: s.Authority.Head.Name}
	e.Cite.Note = "the built-in administrator is never locked"
	if s.Spared == MaybeSpared {
		e = Effective{Missing: Unreadable, Fact: estate.Fact{Cite: told.Cite,
			Problem: "whether the built-in administrator can be locked at all is not in the evidence (pwdProperties, or a security export)",
			Remedy:  "Export the domain's head with all its attributes, or the machine's settings by secedit, and gather it with the rest."}}
		if told.Cite.File == "" {
			e.Cite = s.Settings[setting.LockoutThreshold].Cite
		}
	}
	s.Settings[setting.LockoutThreshold] = e
	for _, id := range []setting.ID{setting.LockoutDuration, setting.LockoutWindow} {
		switch {
		case s.Settings[id].Missing == NoSuch:
		case s.Spared == NeverLocked:
			s.Settings[id] = Effective{Missing: NotSet}
		default:
			s.Settings[id] = Effective{Missing: Unreadable, Fact: e.Fact}
		}
	}
}

// Platform is the one whose rules its accounts follow.
func (s *Scope) Platform() setting.Platform {
	if s.Elsewhere != nil {
		return s.Elsewhere.Platform
	}
	return s.Authority.Platform
}

// Counter is the platform that counts failed attempts: whoever checks the password
// where its accounts sign in.
func (s *Scope) Counter() setting.Platform {
	if s.Way == estate.PasswordHash {
		return s.Authority.Platform
	}
	return s.Platform()
}

// PolicyID is the identity of what governs scopes: a policy of a place, or what
// stands for it where the evidence does not hold or decide it.
type PolicyID struct {
	At     estate.Place
	Origin string       // of the policy; empty where none is known
	Name   string       // of it, or what is said instead
	From   estate.Place // of the domain that governs the accounts; zero: the place itself
}

// ScopeID is the identity of a scope.
type ScopeID struct {
	PolicyID
	Tier   string
	Spared Spared
}

// Under is the identity of what governs the scope, which scopes that tiers
// split share.
func (s *Scope) Under() PolicyID {
	id := PolicyID{At: s.Authority.Place(), Name: s.PolicyName()}
	if s.Policy != nil {
		id.Origin = s.Policy.Origin
	}
	if s.Elsewhere != nil {
		id.From = s.Elsewhere.Place()
	}
	return id
}

// Compare orders identities by place and name.
func (id PolicyID) Compare(other PolicyID) int {
	return cmp.Or(strings.Compare(id.At.Name, other.At.Name), strings.Compare(string(id.At.Kind), string(other.At.Kind)),
		strings.Compare(id.Name, other.Name), strings.Compare(id.Origin, other.Origin), strings.Compare(id.From.Name, other.From.Name))
}

// ID is the scope's identity.
func (s *Scope) ID() ScopeID { return ScopeID{s.Under(), s.Tier, s.Spared} }

// String is a short fingerprint of the identity, for documents.
func (id ScopeID) String() string {
	parts := []string{string(id.At.Kind), id.At.Name, id.Origin, id.Name, string(id.From.Kind), id.From.Name, id.Tier}
	if id.Spared != NotSpared {
		parts = append(parts, string(id.Spared))
	}
	return Fingerprint(parts...)
}

// Fingerprint is a short name of several texts, which no other texts share.
func Fingerprint(parts ...string) string {
	h := sha256.New()
	for _, p := range parts {
		fmt.Fprintf(h, "%d:%s", len(p), p) // so that nothing moves from one part to the next
	}
	return hex.EncodeToString(h.Sum(nil)[:6])
}

// Title is how people write the policy of a scope: "authority / policy".
func (s *Scope) Title() string { return s.Authority.Label() + " / " + s.PolicyName() }

// Name is how people write the scope: "authority / policy", and behind it the
// tier where tiers split it.
func (s *Scope) Name() string {
	name := s.Title()
	if s.Split {
		name += " / " + s.Tier
	}
	if s.Spared != NotSpared {
		name += " (" + string(s.Spared) + ")"
	}
	return name
}

// Now is the value of a setting that holds; the zero Value where none is known to.
func (s *Scope) Now(id setting.ID) setting.Value {
	if e := s.Settings[id]; e.Missing == Present {
		return e.Value
	}
	return setting.Value{}
}

// PolicyName names the governing policy, or says that it is not known.
func (s *Scope) PolicyName() string {
	switch {
	case s.Elsewhere != nil && s.Policy != nil:
		return s.Policy.Name + " of " + s.Elsewhere.Label()
	case s.Elsewhere != nil:
		return "not known, of " + s.Elsewhere.Label()
	case s.Policy != nil:
		return s.Policy.Name
	case s.Rule == Unknown:
		return "not known"
	}
	return "settings not in the evidence"
}

// Listed reports whether the evidence names or counts the scope's accounts.
func (s *Scope) Listed() bool {
	return s.Authority.Listed || s.Policy != nil && s.Policy.Covers != nil
}

// mostExamples is how many accounts a scope or finding names.
const mostExamples = 5

// Survey is every account scope of an estate, with what it takes to ask on.
type Survey struct {
	Estate      *estate.Estate
	Scopes      []*Scope
	Resolutions []*Resolution // in the order of the estate's authorities
	Tierings    []*Tiering
	Templates   []*Templates
	forest      *forest // nil: no domain has to do with another
	of          []map[scopeKey]*Scope
}

// Prepare makes a survey without its scopes: enough to ask about single
// accounts. dialect says which dialect holds for an authority.
func Prepare(e *estate.Estate, dialect func(*estate.Authority) estate.Dialect, tiers []TierRule) *Survey {
	s := &Survey{Estate: e}
	named := map[string]int{}
	for _, a := range e.Authorities {
		named[strings.ToLower(a.Name)]++
	}
	for _, a := range e.Authorities {
		a.Twin = named[strings.ToLower(a.Name)] > 1
		a.Unsynced = a.Kind == estate.Tenant && a.Listed && !synchronises(a)
	}
	s.forest = joinForest(e)
	for i, a := range e.Authorities {
		s.Resolutions = append(s.Resolutions, resolve(a, dialect(a), s.forest, i))
		s.Tierings = append(s.Tierings, NewTiering(a, tiers))
		s.Templates = append(s.Templates, NewTemplates(e, a, s.Resolutions[i].Dialect))
	}
	if s.forest != nil {
		s.forest.spread(s.Tierings)
	}
	s.joinSources()
	return s
}

// Absent are the objects of other domains that a domain's groups hold and the
// evidence does not.
func (s *Survey) Absent(authority int) []Absent {
	if s.forest == nil {
		return nil
	}
	return s.forest.absent[authority]
}

// synchronises reports whether accounts of a tenant come from a domain, or may:
// a list of them was cut.
func synchronises(a *estate.Authority) bool {
	for row := range a.Objects.Len() {
		if a.Objects.FlagsOf(row)&estate.Synced != 0 {
			return true
		}
	}
	return slices.ContainsFunc(a.Remarks, func(m estate.Remark) bool { return m.Kind == estate.ListCut })
}

// NewSurvey resolves all accounts.
func NewSurvey(e *estate.Estate, dialect func(*estate.Authority) estate.Dialect, tiers []TierRule) *Survey {
	s := Prepare(e, dialect, tiers)
	for i := range e.Authorities {
		scopes, byKey := s.scopesOf(i)
		s.fillConfigured(i, scopes)
		s.Scopes = append(s.Scopes, scopes...)
		s.of = append(s.of, byKey)
	}
	return s
}

// ScopeOf returns the scope in which the account at that row of that authority
// stands, and what governs it.
func (s *Survey) ScopeOf(authority, row int) (*Scope, Governing) {
	g := s.Resolutions[authority].Of(row)
	tier, _ := s.TierOf(authority, row)
	return s.of[authority][keyOf(s.Resolutions[authority], g, tier, row)], g
}

// TierOf returns an account's tier and the rule that gave it. A synchronised
// account for which the tenant has none stands in the tier that its domain
// account has.
func (s *Survey) TierOf(authority, row int) (tier, why string) {
	tier, why = s.Tierings[authority].Of(row)
	if from, ok := s.Resolutions[authority].sources[row]; ok && tier == Standard {
		if tier, why = s.Tierings[from.Authority].Of(from.Row); tier != Standard {
			why += ", in " + s.Estate.Authorities[from.Authority].Name
		}
	}
	return tier, why
}

type scopeKey struct {
	policy *estate.Policy
	rule   Rule
	tier   string
	at     *estate.Authority
	way    estate.Way
	spared Spared
}

// keyOf says which accounts share a scope: those of one policy and tier,
// however the policy came to them.
func keyOf(r *Resolution, g Governing, tier string, row int) scopeKey {
	k := scopeKey{g.Policy, g.Rule, tier, g.At, g.Way, NotSpared}
	switch {
	case r.Authority.Kind == estate.LDAP && (g.Rule == Direct || g.Rule == Group):
		k.rule = Pointer
	case g.Rule == Direct || g.Rule == Group:
		k.rule = Group
	case g.Rule == Unknown || g.Policy != nil:
	case g.At != nil:
		k.policy = g.At.Head
	default:
		k.policy = r.Authority.Head
	}
	if k.at == nil && k.rule != Unknown {
		k.spared = sparedAt(r.Authority, k.policy, row)
	}
	return k
}

// ownRules are the rules by which an authority's own settings govern.
var ownRules = map[estate.Kind]Rule{estate.Domain: Default, estate.LDAP: Default, estate.Machine: Local, estate.Tenant: OfTenant}

func (s *Survey) scopesOf(authority int) ([]*Scope, map[scopeKey]*Scope) {
	r, a := s.Resolutions[authority], s.Estate.Authorities[authority]
	scopes := map[scopeKey]*Scope{}
	type under struct {
		policy *estate.Policy
		rule   Rule
	}
	tiersUnder := map[under]int{}
	ruleOf := func(rule Rule) Rule { // undecided is a policy of its own
		if rule == Unknown {
			return rule
		}
		return ""
	}
	add := func(k scopeKey, why string) *Scope {
		scope := &Scope{Authority: a, Policy: k.policy, Rule: k.rule, Why: why, Tier: k.tier, Elsewhere: k.at, Way: k.way, Spared: k.spared}
		s.Settle(scope)
		scopes[k] = scope
		tiersUnder[under{k.policy, ruleOf(k.rule)}]++
		return scope
	}
	factors := map[*Scope]*factorCount{}
	flagged := map[*Scope]bool{} // of at least one account the flags are known
	for row := range a.Objects.Len() {
		if a.Objects.ClassOf(row) != estate.Account {
			continue
		}
		g := r.Of(row)
		tier, _ := s.TierOf(authority, row)
		k := keyOf(r, g, tier, row)
		scope := scopes[k]
		if scope == nil {
			scope = add(k, g.Why)
			factors[scope] = &factorCount{}
		}
		if scope.Why != g.Why {
			scope.Why = severalReasons
		}
		scope.Root = scope.Root || a.Platform == setting.UnixMachine && a.Objects.RID.At(row) == 0
		scope.Accounts++
		flagged[scope] = flagged[scope] || a.Objects.FlagsOf(row)&estate.NoControl == 0
		if a.Objects.FlagsOf(row)&estate.Disabled == 0 {
			scope.Enabled++
		}
		if len(scope.Examples) < mostExamples {
			scope.Examples = append(scope.Examples, row)
		}
		if a.Kind == estate.Tenant {
			factors[scope].add(a, row)
		}
	}
	for scope, f := range factors {
		f.into(scope)
	}
	for scope, known := range flagged {
		if !known && a.Kind != estate.Machine {
			scope.Settings[setting.MaxAge] = unlessExempt(scope.Settings[setting.MaxAge])
		}
	}
	own := scopeKey{a.Head, ownRules[a.Kind], Standard, nil, "", NotSpared}
	for i := range a.Typed {
		scope := add(scopeKey{&a.Typed[i], Local, Standard, nil, "", NotSpared}, "")
		if n := a.Typed[i].Covers; n != nil {
			scope.Accounts = *n
		}
	}
	governsNobody := len(a.Typed) == 0 && len(a.Overrides) == 0 || a.Kind == estate.Domain
	if tiersUnder[under{a.Head, ""}] == 0 && (a.Head != nil || governsNobody) && !(a.Kind == estate.Machine && a.Listed) {
		add(own, "") // it governs nobody, and is there all the same
	}
	var all []*Scope
	for _, scope := range scopes {
		scope.Split = tiersUnder[under{scope.Policy, ruleOf(scope.Rule)}] > 1
		all = append(all, scope)
	}
	slices.SortFunc(all, func(x, y *Scope) int {
		return cmp.Or(orderOf(x)-orderOf(y), strings.Compare(x.sortKey(), y.sortKey()), x.Under().Compare(y.Under()),
			strings.Compare(x.Tier, y.Tier), strings.Compare(string(x.Way), string(y.Way)), strings.Compare(string(x.Spared), string(y.Spared)))
	})
	return all, scopes
}

// severalReasons stands for an undecided scope whose accounts lack different
// things.
const severalReasons = "the evidence does not decide, for more than one reason; trace shows it for each account"

// ScopeUnder returns the scope that a policy of an authority would make,
// whether it governs anybody or not.
func (s *Survey) ScopeUnder(authority int, p *estate.Policy) *Scope {
	a := s.Estate.Authorities[authority]
	scope := &Scope{Authority: a, Policy: p, Rule: Group, Tier: Standard}
	s.Settle(scope)
	s.fillConfigured(authority, []*Scope{scope})
	return scope
}

// orderOf puts the authority's own scope first and the undecided one last.
func orderOf(s *Scope) int {
	switch {
	case s.Rule == Unknown:
		return 3
	case s.Elsewhere != nil:
		return 2
	case s.Policy == s.Authority.Head:
		return 0
	}
	return 1
}

func (s *Scope) sortKey() string {
	if s.Policy == nil {
		return ""
	}
	precedence := int64(0)
	if s.Policy.Precedence != nil {
		precedence = *s.Policy.Precedence
	}
	return fmt.Sprintf("%012d %s", precedence, s.Policy.Origin)
}

// Settle fills in a scope's settings.
func (s *Survey) Settle(scope *Scope) {
	scope.Settings = effective(scope.Authority, scope)
	if i := slices.Index(s.Estate.Authorities, scope.Authority); i >= 0 && s.Resolutions[i].Dialect == estate.Samba {
		scope.asSamba()
	}
	scope.spare()
	if scope.Elsewhere == nil {
		return
	}
	// The domain's settings govern. What the tenant asks of a password does not
	// reach one that is set in the domain; a second factor is the tenant's own.
	i := slices.Index(s.Estate.Authorities, scope.Elsewhere)
	there := &Scope{Authority: scope.Elsewhere, Policy: scope.Policy, Rule: scope.Rule, Why: scope.Why}
	there.Settings = effective(scope.Elsewhere, there)
	if s.Resolutions[i].Dialect == estate.Samba {
		there.asSamba()
	}
	s.fillConfigured(i, []*Scope{there})
	own := effective(scope.Authority, &Scope{Authority: scope.Authority, Policy: scope.Authority.Head})
	scope.Home = there.Settings
	for id, e := range there.Settings {
		if TenantsOwn(id) {
			e = own[id]
		}
		scope.Settings[id] = e
	}
	scope.atDoor(own)
}

// counting are the settings of failed attempts, which belong to whoever checks the
// password.
var counting = []setting.ID{setting.LockoutThreshold, setting.LockoutDuration, setting.LockoutWindow}

// atDoor settles, for synchronised accounts, what holds at the tenant's door:
// where the tenant checks a copy of the hash, its lockout counts, and a password
// ends there only if the tenant is told so.
func (s *Scope) atDoor(own map[setting.ID]Effective) {
	switch s.Way {
	case estate.PassThrough, estate.Federation:
		return
	}
	here := map[setting.ID]Effective{setting.MaxAge: own[setting.MaxAge]}
	for _, id := range counting {
		here[id] = own[id]
	}
	switch rule := own[setting.ExpiryForSynced]; {
	case rule.Missing != Present:
		here[setting.MaxAge] = rule
	case rule.Value == setting.Off:
		rule.Value, rule.Cite.Note = setting.Of(setting.Never), "the tenant applies no expiry to synchronised accounts"
		here[setting.MaxAge] = rule
	}
	for id, e := range here {
		if s.Way == "" && (e.Missing != s.Home[id].Missing || e.Value != s.Home[id].Value) {
			e = Effective{Missing: Unreadable, Fact: estate.Fact{Cite: s.Home[id].Cite,
				Problem: "how the passwords of synchronised accounts are checked is not in the evidence, and what holds depends on it",
				Remedy:  "Export the tenant's synchronisation settings and its authentication agents, and gather them with the rest."}}
		}
		s.Settings[id] = e
	}
}

// TenantsOwn reports whether a setting of a tenant concerns its synchronised
// accounts as well.
func TenantsOwn(id setting.ID) bool {
	return id == setting.SecondFactor || id == setting.SecondFactorRegistered || id == setting.ExpiryForSynced || id == setting.DirectoryBlocklistMode
}

// Here reports whether a setting of a scope is decided where its accounts sign in:
// for synchronised accounts, what their domain decides is weighed there.
func (s *Scope) Here(id setting.ID) bool {
	if s.Elsewhere == nil || TenantsOwn(id) {
		return true
	}
	checked := s.Way == estate.PasswordHash || s.Way == ""
	return checked && (id == setting.MaxAge || slices.Contains(counting, id))
}

// OwnSettings returns the settings of an authority itself, whoever they govern.
func (s *Survey) OwnSettings(authority int) map[setting.ID]Effective {
	return s.ScopeUnder(authority, s.Estate.Authorities[authority].Head).Settings
}

// factorCount counts who of a scope is asked for a second factor. To have
// registered one is not to be asked for it.
type factorCount struct {
	with, without, unknown int
	atTimes                int
	at                     estate.Cite
	able, unable, unread   int // who has registered one
	seen                   estate.Cite
}

func (f *factorCount) add(a *estate.Authority, row int) {
	flags := a.Objects.FlagsOf(row)
	if flags&estate.Disabled != 0 {
		return
	}
	switch {
	case flags&estate.SecondFactor != 0:
		f.able, f.seen = f.able+1, cmp.Or(f.seen, a.CiteOf(row))
	case flags&estate.NoSecondFactor != 0:
		f.unable, f.seen = f.unable+1, cmp.Or(f.seen, a.CiteOf(row))
	default:
		f.unread++
	}
	switch {
	case flags&estate.FactorRequired != 0:
		f.with++
	case flags&estate.FactorAtTimes != 0:
		if f.atTimes++; f.at.File == "" {
			f.at = a.CiteOf(row)
		}
	case flags&estate.FactorOptional != 0:
		f.without++
		if f.without == 1 {
			f.at = a.CiteOf(row)
		}
	default:
		f.unknown++
	}
	if f.at.File == "" && flags&estate.FactorRequired != 0 {
		f.at = a.CiteOf(row)
	}
}

// into sets what the counts come to, where every account's is known.
func (f *factorCount) into(scope *Scope) {
	for _, c := range []struct {
		id                              setting.ID
		with, without, unknown, atTimes int
		at                              estate.Cite
		are, remedy                     string
	}{{setting.SecondFactor, f.with, f.without, f.unknown, f.atTimes, f.at, "are asked for a second factor", "Ask all of them for a second factor at every sign-in."},
		{setting.SecondFactorRegistered, f.able, f.unable, f.unread, 0, f.seen, "have registered a second factor", "Have all of them register a second factor."}} {
		if scope.Settings[c.id].Missing == NoSuch || c.unknown > 0 || c.with+c.without+c.atTimes == 0 {
			continue
		}
		word := "some"
		switch {
		case c.atTimes > 0:
		case c.with == 0:
			word = "none"
		case c.without == 0:
			word = "all"
		}
		c.at.Note = fmt.Sprintf("%d of %d enabled accounts %s", c.with, c.with+c.without+c.atTimes, c.are)
		if c.atTimes > 0 {
			c.at.Note += fmt.Sprintf(", %d where the service sees a reason", c.atTimes)
		}
		scope.Settings[c.id] = Effective{Fact: estate.Fact{Value: setting.Word(word), Cite: c.at, Remedy: c.remedy}, From: "the accounts"}
	}
}

// effective works out every setting of a scope. A fine-grained policy supplies
// what fine-grained policies can hold; the rest holds domain-wide and comes
// from the domain's own settings.
func effective(a *estate.Authority, s *Scope) map[setting.ID]Effective {
	all := map[setting.ID]Effective{}
	for _, row := range setting.Table() {
		p := s.Policy
		if p != nil && p.Standing == estate.Override && !row.Exists(p.Platform) && row.Exists(a.Platform) {
			p = a.Head
		}
		switch {
		case !row.Exists(a.Platform):
			all[row.ID] = Effective{Missing: NoSuch}
		case p == nil:
			all[row.ID] = Effective{Missing: NotCollected}
		default:
			all[row.ID] = effectiveFrom(p, row.ID)
		}
	}
	if a.Unsynced { // there is no domain for them to reach
		for _, id := range []setting.ID{setting.DirectoryBlocklistMode, setting.ExpiryForSynced} {
			all[id] = Effective{Missing: NoSuch}
		}
	}
	const reach = setting.ID(setting.DirectoryBlocklistMode)
	if e := all[reach]; a.Kind == estate.Tenant && e.Missing == Present && e.Value == setting.On {
		e.Missing, e.Problem = Unreadable,
			"the tenant enforces its list in the domain only where an agent runs on each controller, and no export shows whether one does"
		e.Remedy = "Look on each controller whether the agent for banned passwords runs, and waive this with what you saw."
		all[reach] = e
	}
	for _, row := range setting.Table() {
		if all[row.ID].Missing == NotCollected && len(row.Of) > 0 {
			all[row.ID] = strongest(all, row)
		}
	}
	return all
}

// strongest is the strongest of the settings that a further one sums up. Where
// one of them is missing, it may be stronger still: the sum is known only if no
// value could be.
func strongest(all map[setting.ID]Effective, row *setting.Setting) Effective {
	best, lacks := Effective{Missing: NotCollected}, Effective{Missing: Present}
	for _, id := range row.Of {
		switch e := all[id]; {
		case e.Missing == NoSuch:
		case e.Missing != Present:
			lacks = e
		default:
			order, ok := setting.Get(id).Compare(e.Value, best.Value)
			if best.Missing != Present || ok && order > 0 {
				best = e
			}
		}
	}
	if lacks.Missing != Present && best.Value != setting.On {
		if n, ok := best.Value.Number(); !ok || n == 0 {
			return lacks
		}
	}
	return best
}

func effectiveFrom(p *estate.Policy, id setting.ID) Effective {
	fact, ok := p.Settings[id]
	e := Effective{Fact: fact, From: p.Name}
	switch {
	case ok && fact.Problem != "":
		e.Missing = Unreadable
	case ok:
	case lockDetail(id) && p.Settings[setting.LockoutThreshold].Value.Is(setting.Never):
		// Where nothing locks, Windows does not write these two at all.
		e.Missing = NotSet
	default:
		e.Missing = NotCollected
	}
	if !ok {
		e.From = ""
	}
	return e
}

// fillConfigured adds what templates configure domain-wide to what the
// directory itself does not show.
func (s *Survey) fillConfigured(authority int, scopes []*Scope) {
	if s.Estate.Authorities[authority].Kind != estate.Domain {
		return
	}
	for id, v := range s.Templates[authority].domainWide() {
		for _, scope := range scopes {
			if scope.Settings[id].Missing == NotCollected && v.Problem == "" && !HeadShows(id) {
				e := Effective{Fact: v.Fact, From: v.By.Name(), Configured: true}
				if v.Open != "" {
					e.Missing, e.Open = Unproven, v.Open
				}
				scope.Settings[id] = e
			}
		}
	}
}

// HeadShows reports whether a domain's head has an attribute for the setting.
func HeadShows(id setting.ID) bool {
	return setting.Get(id).Exists(setting.WindowsFineGrained) || id == setting.LockoutAdministrator || id == setting.LogoffAtHoursEnd
}

// lockDetail reports whether the setting says how a lock goes once there is
// one.
func lockDetail(id setting.ID) bool {
	return id == setting.LockoutDuration || id == setting.LockoutWindow
}

// Dormant reports whether a setting has no effect because nothing locks.
func Dormant(settings map[setting.ID]Effective, id setting.ID) bool {
	return lockDetail(id) && settings[setting.LockoutThreshold].Value.Is(setting.Never)
}
