package govern

import (
	"cmp"
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
	From       string
	Configured bool // a template says so; the authority itself does not show it
	Missing    Reason
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
)

// Scope is the accounts of one authority that live under the same effective
// settings.
type Scope struct {
	Authority *estate.Authority
	Policy    *estate.Policy // nil: the authority's own settings are not in the evidence, or the evidence does not decide
	Rule      Rule
	Why       string // for an undecided scope: what the evidence lacks
	Tier      string
	Split     bool // other tiers live under the same policy
	Accounts  int
	Enabled   int
	Examples  []int // rows of the first few accounts
	Settings  map[setting.ID]Effective
}

// Name is how the scope is written: "authority / policy", and behind it the
// tier where tiers split it.
func (s *Scope) Name() string {
	name := s.Authority.Name + " / " + s.PolicyName()
	if s.Split {
		name += " / " + s.Tier
	}
	return name
}

// PolicyName names the governing policy, or says that it is not known.
func (s *Scope) PolicyName() string {
	switch {
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
	of          []map[scopeKey]*Scope
}

// Prepare makes a survey without its scopes: enough to ask about single
// accounts. dialect says which dialect holds for an authority.
func Prepare(e *estate.Estate, dialect func(*estate.Authority) estate.Dialect, tiers []TierRule) *Survey {
	s := &Survey{Estate: e}
	for _, a := range e.Authorities {
		s.Resolutions = append(s.Resolutions, Resolve(a, dialect(a)))
		s.Tierings = append(s.Tierings, NewTiering(a, tiers))
		s.Templates = append(s.Templates, NewTemplates(e, a))
	}
	return s
}

// NewSurvey resolves all accounts.
func NewSurvey(e *estate.Estate, dialect func(*estate.Authority) estate.Dialect, tiers []TierRule) *Survey {
	s := Prepare(e, dialect, tiers)
	for i := range e.Authorities {
		scopes, byKey := scopesOf(s.Resolutions[i], s.Tierings[i])
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
	tier, _ := s.Tierings[authority].Of(row)
	return s.of[authority][keyOf(s.Resolutions[authority], g, tier)], g
}

type scopeKey struct {
	policy *estate.Policy
	rule   Rule
	tier   string
}

// keyOf says which accounts share a scope: those of one policy and tier,
// however the policy came to them.
func keyOf(r *Resolution, g Governing, tier string) scopeKey {
	switch g.Rule {
	case Direct, Group:
		return scopeKey{g.Policy, Group, tier}
	case Unknown:
		return scopeKey{nil, Unknown, tier}
	}
	return scopeKey{r.Authority.Head, g.Rule, tier}
}

func scopesOf(r *Resolution, t *Tiering) ([]*Scope, map[scopeKey]*Scope) {
	a := r.Authority
	scopes := map[scopeKey]*Scope{}
	tiersUnder := map[*estate.Policy]int{}
	add := func(k scopeKey, why string) *Scope {
		s := &Scope{Authority: a, Policy: k.policy, Rule: k.rule, Why: why, Tier: k.tier}
		s.Settings = effective(a, s)
		scopes[k] = s
		tiersUnder[k.policy]++
		return s
	}
	for row := range a.Objects.Len() {
		if a.Objects.ClassOf(row) != estate.Account {
			continue
		}
		g := r.Of(row)
		tier, _ := t.Of(row)
		k := keyOf(r, g, tier)
		s := scopes[k]
		if s == nil {
			s = add(k, g.Why)
		}
		if s.Why != g.Why {
			s.Why = severalReasons
		}
		s.Accounts++
		if a.Objects.FlagsOf(row)&estate.Disabled == 0 {
			s.Enabled++
		}
		if len(s.Examples) < mostExamples {
			s.Examples = append(s.Examples, row)
		}
	}
	own := scopeKey{a.Head, Default, Standard}
	if a.Kind != estate.Domain {
		own.rule = Local
	}
	for i := range a.Typed {
		s := add(scopeKey{&a.Typed[i], Local, Standard}, "")
		if n := a.Typed[i].Covers; n != nil {
			s.Accounts = *n
		}
	}
	if tiersUnder[a.Head] == 0 && (a.Head != nil || len(a.Typed) == 0) {
		add(own, "") // it governs nobody, and is there all the same
	}
	var all []*Scope
	for _, s := range scopes {
		s.Split = tiersUnder[s.Policy] > 1
		all = append(all, s)
	}
	slices.SortFunc(all, func(x, y *Scope) int {
		return cmp.Or(orderOf(x)-orderOf(y), strings.Compare(x.sortKey(), y.sortKey()), strings.Compare(x.Tier, y.Tier))
	})
	return all, scopes
}

// severalReasons stands for an undecided scope whose accounts lack different
// things.
const severalReasons = "the evidence does not decide, for more than one reason; trace tells it for each account"

// ScopeUnder returns the scope that a policy of an authority would make,
// whether it governs anybody or not.
func (s *Survey) ScopeUnder(authority int, p *estate.Policy) *Scope {
	a := s.Estate.Authorities[authority]
	scope := &Scope{Authority: a, Policy: p, Rule: Group, Tier: Standard}
	scope.Settings = effective(a, scope)
	s.fillConfigured(authority, []*Scope{scope})
	return scope
}

// orderOf puts the authority's own scope first and the undecided one last.
func orderOf(s *Scope) int {
	switch s.Rule {
	case Default, Local:
		return 0
	case Unknown:
		return 2
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
	return all
}

func effectiveFrom(p *estate.Policy, id setting.ID) Effective {
	fact, ok := p.Settings[id]
	e := Effective{Fact: fact, From: p.Name}
	switch {
	case ok && fact.Problem != "":
		e.Missing = Unreadable
	case ok:
	case lockDetail(id) && p.Settings["lockout-threshold"].Value.Is(setting.Never):
		// Where nothing locks, Windows does not write these two at all.
		e.Missing = NotSet
	default:
		e.Missing = NotCollected
	}
	if e.Missing != Present && !ok {
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
				scope.Settings[id] = Effective{Fact: v.Fact, From: v.By.Name(), Configured: true}
			}
		}
	}
}

// HeadShows reports whether a domain's head has an attribute for the setting.
func HeadShows(id setting.ID) bool {
	return setting.Get(id).Exists(setting.WindowsFineGrained) || id == "lockout-administrator" || id == "logoff-at-hours-end"
}

// lockDetail reports whether the setting says how a lock goes once there is
// one.
func lockDetail(id setting.ID) bool { return id == "lockout-duration" || id == "lockout-window" }

// Dormant reports whether a setting has no effect because nothing locks.
func Dormant(settings map[setting.ID]Effective, id setting.ID) bool {
	return lockDetail(id) && settings["lockout-threshold"].Value.Is(setting.Never)
}
