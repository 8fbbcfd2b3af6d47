// Package drift says what changed between two weighings: evidence, baselines,
// scopes, who is governed by what, settings, findings, waivers; and what of it
// cannot be compared.
package drift

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/record"
	"sternledger/internal/core/setting"
)

// State is one recorded weighing, with the objects of its places.
type State struct {
	*record.Record
	At        string
	Decisions map[string]string // which baseline is followed, by setting
	Texts     map[string]string // SHA-256 of the baselines' texts, by their ids
}

// Way says how something changed.
type Way string

// The ways.
const (
	New       Way = "new"
	Gone      Way = "gone"
	Worse     Way = "worse"
	Better    Way = "better"
	Differs   Way = "differs" // neither way is better, or it cannot be told
	Accepted  Way = "waived"
	WaiverEnd Way = "waiver ended"
	// Not comparable, because what was weighed with what changed:
	NotBefore Way = "not weighed before"
	NotNow    Way = "not weighed now"
)

// Change is one thing that changed.
type Change struct {
	Way    Way
	What   string // name of the file, baseline, scope or account
	Before string
	After  string
	Why    string
}

// Setting is a setting of a policy that changed.
type Setting struct {
	Change
	Setting setting.ID
	Cite    estate.Cite // of the value now
}

// Finding is a finding that changed.
type Finding struct {
	Change
	Fingerprint string
	Severity    baseline.Severity
	Headline    string
}

// Move is an account that another policy or tier governs now.
type Move struct {
	Authority, Account string
	From, To           string // scopes
	Enabled            bool
}

// Report is everything that changed.
type Report struct {
	Before, After State
	Renamed       []Change
	Evidence      []Change
	Baselines     []Change
	Decisions     []Change
	Scopes        []Change
	Moves         []Move
	Accounts      []Change // new and gone
	Settings      []Setting
	Findings      []Finding
	Waivers       []Change
}

// Nothing reports whether nothing changed.
func (r *Report) Nothing() bool {
	return len(r.Renamed)+len(r.Evidence)+len(r.Baselines)+len(r.Decisions)+len(r.Scopes)+len(r.Moves)+len(r.Accounts)+len(r.Settings)+len(r.Findings)+len(r.Waivers) == 0
}

// Between compares two weighings.
func Between(before, after State) *Report {
	r := &Report{Before: before, After: after}
	r.renamed()
	r.Evidence = compared(before.Files, after.Files, "another content under the same name")
	versions := func(s *State) map[string]string {
		all := map[string]string{}
		for _, b := range s.Baselines {
			all[b.ID] = b.Version
		}
		return all
	}
	r.Baselines = compared(versions(&before), versions(&after), "another version: its demands can differ")
	for _, id := range slices.Sorted(maps.Keys(after.Texts)) {
		was, there := before.Texts[id]
		if there && was != after.Texts[id] && !slices.ContainsFunc(r.Baselines, func(c Change) bool { return c.What == id }) {
			r.Baselines = append(r.Baselines, Change{Way: Differs, What: id, Before: was, After: after.Texts[id],
				Why: "another text under the same version: its demands can differ"})
		}
	}
	r.Decisions = compared(before.Decisions, after.Decisions, "another one is followed: what it demands counts now")
	r.scopes()
	r.accounts()
	r.settings()
	r.findings()
	r.waivers()
	return r
}

// compared compares two maps of names.
func compared(before, after map[string]string, why string) []Change {
	var all []Change
	for _, name := range slices.Sorted(maps.Keys(after)) {
		switch was, ok := before[name]; {
		case !ok:
			all = append(all, Change{Way: New, What: name, After: after[name]})
		case was != after[name]:
			all = append(all, Change{Way: Differs, What: name, Before: was, After: after[name], Why: why})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(before)) {
		if _, ok := after[name]; !ok {
			all = append(all, Change{Way: Gone, What: name, Before: before[name]})
		}
	}
	return all
}

func counted(accounts int) string {
	if accounts == 1 {
		return "1 account"
	}
	return fmt.Sprintf("%d accounts", accounts)
}

// byPolicy puts scopes together by what governs them, so that it is the same
// policy in another weighing even if the tiers under it are split otherwise.
func byPolicy(s *State) (first map[govern.PolicyID]*govern.Scope, accounts map[govern.PolicyID]int) {
	first, accounts = map[govern.PolicyID]*govern.Scope{}, map[govern.PolicyID]int{}
	for _, scope := range s.Scopes {
		k := scope.Under()
		if first[k] == nil {
			first[k] = scope
		}
		accounts[k] += scope.Accounts
	}
	return first, accounts
}

// policyOf is how a scope without its tier is written.
func policyOf(s *govern.Scope) string { return s.Title() }

func (r *Report) scopes() {
	before, had := byPolicy(&r.Before)
	after, has := byPolicy(&r.After)
	number := func(s *govern.Scope, n int) string {
		if !s.Listed() {
			return "accounts not listed"
		}
		return counted(n)
	}
	for _, k := range slices.SortedFunc(maps.Keys(after), govern.PolicyID.Compare) {
		now := after[k]
		was, ok := before[k]
		switch {
		case !ok:
			r.Scopes = append(r.Scopes, Change{Way: New, What: policyOf(now), After: number(now, has[k])})
		case number(was, had[k]) != number(now, has[k]):
			r.Scopes = append(r.Scopes, Change{Way: Differs, What: policyOf(now), Before: number(was, had[k]), After: number(now, has[k])})
		}
	}
	for _, k := range slices.SortedFunc(maps.Keys(before), govern.PolicyID.Compare) {
		if after[k] == nil {
			r.Scopes = append(r.Scopes, Change{Way: Gone, What: policyOf(before[k]), Before: number(before[k], had[k])})
		}
	}
}

// roll is the accounts of one authority in one weighing.
type roll struct {
	*record.Roll
	*estate.Authority
	ids map[*govern.Scope]govern.ScopeID
}

// rolls are those of the places of which the evidence names accounts: elsewhere nobody
// came or went.
func (s *State) rolls() map[estate.Place]*roll {
	told := map[estate.Place]*record.Roll{}
	for _, x := range s.Rolls {
		told[x.Place] = x
	}
	all := map[estate.Place]*roll{}
	for _, a := range s.Places {
		if x := told[a.Place()]; x != nil && a.Listed {
			all[a.Place()] = &roll{x, a, map[*govern.Scope]govern.ScopeID{}}
		}
	}
	return all
}

// nowhere is the scope of an account of which the record does not say how it stands.
var nowhere = &govern.Scope{Authority: &estate.Authority{Name: "not recorded"}, Rule: govern.Unknown}

// scope returns an account's scope and its identity.
func (r *roll) scope(row int) (*govern.Scope, govern.ScopeID) {
	s := nowhere
	if told := r.Of(row); told != nil {
		s = told.Scope
	}
	id, ok := r.ids[s]
	if !ok {
		id = s.ID()
		r.ids[s] = id
	}
	return s, id
}

// byName returns the rows of the accounts by name, or by DN where a name is
// missing or there twice.
func (r *roll) byName() map[string]int {
	all := make(map[string]int, r.Accounts)
	var twice []string
	for row := range r.Objects.Len() {
		if r.Objects.ClassOf(row) != estate.Account {
			continue
		}
		who := r.Objects.Name.At(row)
		if first, there := all[who]; there && who != "" {
			twice = append(twice, who)
			all[r.DN(first)] = first
		} else if who != "" {
			all[who] = row
			continue
		}
		all[r.DN(row)] = row
	}
	for _, who := range twice {
		delete(all, who)
	}
	return all
}

// alike reports whether two rolls name the same in the same order, as those of
// unchanged evidence do. Then a million need not be looked up by name.
func (r *roll) alike(o *roll) bool {
	if r.Objects.Len() != o.Objects.Len() {
		return false
	}
	for row := range r.Objects.Len() {
		if r.Objects.ClassOf(row) != o.Objects.ClassOf(row) || r.Objects.Name.At(row) != o.Objects.Name.At(row) ||
			r.Objects.RDN.At(row) != o.Objects.RDN.At(row) {
			return false
		}
	}
	return true
}

// accounts finds who moved from which policy or tier to which, who is new and
// who is gone.
func (r *Report) accounts() {
	were, are := r.Before.rolls(), r.After.rolls()
	for _, at := range slices.SortedFunc(maps.Keys(are), estate.Place.Compare) {
		before, after := were[at], are[at]
		if before == nil {
			continue
		}
		name := after.Label()
		if before.alike(after) {
			for row := range after.Objects.Len() {
				r.moved(name, "", before, row, after, row)
			}
			continue
		}
		had, has := before.byName(), after.byName()
		for _, who := range slices.Sorted(maps.Keys(has)) {
			if was, ok := had[who]; ok {
				r.moved(name, who, before, was, after, has[who])
				continue
			}
			scope, _ := after.scope(has[who])
			r.Accounts = append(r.Accounts, Change{Way: New, What: who, After: scope.Name(), Why: name})
		}
		for _, who := range slices.Sorted(maps.Keys(had)) {
			if _, ok := has[who]; !ok {
				scope, _ := before.scope(had[who])
				r.Accounts = append(r.Accounts, Change{Way: Gone, What: who, Before: scope.Name(), Why: name})
			}
		}
	}
	slices.SortStableFunc(r.Moves, func(x, y Move) int {
		return cmp.Or(strings.Compare(x.Authority, y.Authority), strings.Compare(x.Account, y.Account))
	})
}

// moved notes an account whose policy or tier is another one.
func (r *Report) moved(authority, who string, before *roll, was int, after *roll, now int) {
	x, old := before.scope(was)
	y, new := after.scope(now)
	if old == new {
		return
	}
	if who == "" {
		if who = after.Objects.Name.At(now); who == "" {
			who = after.DN(now)
		}
	}
	from, to := x.Name(), y.Name()
	if from == to {
		from, to = policyOf(x)+" / "+x.Kind(), policyOf(y)+" / "+y.Kind()
	}
	r.Moves = append(r.Moves, Move{authority, who, from, to, after.Objects.FlagsOf(now)&estate.Disabled == 0})
}

// settings finds what a policy comes to otherwise.
func (r *Report) settings() {
	before, _ := byPolicy(&r.Before)
	after, _ := byPolicy(&r.After)
	for _, k := range slices.SortedFunc(maps.Keys(after), govern.PolicyID.Compare) {
		was, now := before[k], after[k]
		if was == nil || len(was.Settings) == 0 { // of a record that tells of no settings
			continue
		}
		for _, row := range setting.Table() {
			x, y := was.Settings[row.ID], now.Settings[row.ID]
			neither := x.Missing != govern.Present && y.Missing != govern.Present
			if (row.ID == setting.SecondFactor || row.ID == setting.SecondFactorRegistered) && was.Tier != now.Tier || neither || x.Missing == y.Missing && x.Value == y.Value {
				continue
			}
			order, _ := row.Compare(y.Value, x.Value)
			c := Setting{Change{Way: wayOf[order], What: policyOf(now), Before: textOf(row, x), After: textOf(row, y)}, row.ID, y.Cite}
			switch {
			case x.Missing != govern.Present && y.Missing == govern.Present:
				c.Way = New
			case x.Missing == govern.Present && y.Missing != govern.Present:
				c.Way = Gone
			}
			r.Settings = append(r.Settings, c)
		}
	}
}

func textOf(row *setting.Setting, e govern.Effective) string {
	if e.Missing != govern.Present {
		return string(e.Missing)
	}
	return row.Text(e.Value)
}

// findings compares by fingerprint.
func (r *Report) findings() {
	// A record of before identities were typed has other fingerprints, which the
	// findings of now know as their aliases.
	renamed := map[string]string{}
	for i := range r.After.Result.Findings {
		f := &r.After.Result.Findings[i]
		renamed[f.Alias] = f.Fingerprint
	}
	called := func(f *check.Finding) string { return cmp.Or(renamed[f.Fingerprint], f.Fingerprint) }
	of := func(s *State) map[string]*check.Finding {
		all := map[string]*check.Finding{}
		for i := range s.Result.Findings {
			all[called(&s.Result.Findings[i])] = &s.Result.Findings[i]
		}
		return all
	}
	before, after := of(&r.Before), of(&r.After)
	then, now := r.Before.covers(), r.After.covers()
	scopes := func(s *State) map[govern.ScopeID]*govern.Scope {
		all := map[govern.ScopeID]*govern.Scope{}
		for _, scope := range s.Scopes {
			all[scope.ID()] = scope
		}
		return all
	}
	were, is := scopes(&r.Before), scopes(&r.After)
	add := func(f *check.Finding, c Change) {
		c.What = f.ScopeName()
		head := f.Check
		switch c := check.Named(f.Check); {
		case f.Check == "":
			head = setting.Get(f.Settings[0]).Title
		case c != nil:
			head = c.Title
		}
		r.Findings = append(r.Findings, Finding{c, f.Fingerprint, f.Severity, head})
	}
	for i := range r.After.Result.Findings {
		f := &r.After.Result.Findings[i]
		was := before[called(f)]
		if was == nil {
			way, why := New, worsened(f, were)
			if lacks := then.lacks(f); lacks != "" {
				way, why = NotBefore, lacks
			}
			add(f, Change{Way: way, After: state(f), Why: why})
			continue
		}
		if way, why := changed(was, f); way != "" {
			add(f, Change{Way: way, Before: state(was), After: state(f), Why: why})
		}
	}
	for i := range r.Before.Result.Findings {
		f := &r.Before.Result.Findings[i]
		if after[called(f)] != nil {
			continue
		}
		way, why := Gone, mended(f, is)
		if lacks := now.lacks(f); lacks != "" {
			way, why = NotNow, lacks
		}
		add(f, Change{Way: way, Before: state(f), Why: why})
	}
	order := []Way{New, Worse, WaiverEnd, Differs, Better, Gone, Accepted, NotBefore, NotNow}
	slices.SortStableFunc(r.Findings, func(x, y Finding) int {
		return cmp.Or(slices.Index(order, x.Way)-slices.Index(order, y.Way), y.Severity.Rank()-x.Severity.Rank())
	})
}

// mended says of a finding that is gone whether anything was mended, and worsened of a new
// one whether anything got worse: a demand or a decision that is another one does neither.
func mended(f *check.Finding, after map[govern.ScopeID]*govern.Scope) string {
	return moved(f, after, 1, "mended", "nothing was mended: the value is the same, and the requirement changed")
}

func worsened(f *check.Finding, before map[govern.ScopeID]*govern.Scope) string {
	return moved(f, before, -1, "", "the value is the same as before: the requirement changed")
}

// moved tells the settings of a finding that are otherwise in the other weighing: towards is
// 1 where that is the later one.
func moved(f *check.Finding, other map[govern.ScopeID]*govern.Scope, towards int, better, same string) string {
	if f.Scope == nil || len(f.Settings) == 0 {
		return ""
	}
	there := other[f.Scope.ID()]
	if there == nil || len(there.Settings) == 0 || len(f.Scope.Settings) == 0 { // of a record that tells of no settings
		return ""
	}
	var all []string
	word := "changed"
	for _, id := range f.Settings {
		row, was, is := setting.Get(id), f.Scope.Settings[id], there.Settings[id]
		if was.Missing == is.Missing && was.Value == is.Value {
			continue
		}
		order, _ := row.Compare(is.Value, was.Value)
		if order >= 0 && better != "" && is.Missing == govern.Present && was.Missing == govern.Present {
			word = better
		}
		if towards < 0 {
			was, is = is, was
		}
		all = append(all, row.Title+": "+textOf(row, was)+" → "+textOf(row, is))
	}
	switch {
	case len(all) > 0:
		return word + ": " + strings.Join(all, "; ")
	case f.Check != "":
		return "no setting of it changed"
	}
	return same
}

// state writes what a finding comes to.
func state(f *check.Finding) string {
	text := string(f.Kind)
	if f.Kind == check.Waived {
		text += " (" + string(f.Beneath) + ")"
	}
	if f.Check == "" && f.Observed != "-" && f.Observed != "" {
		text += ", " + f.Observed
	}
	if f.Check != "" && f.Accounts != nil {
		text += ", " + counted(*f.Accounts)
	}
	return text
}

// covered is what a weighing looked at.
type covered struct {
	ended     map[estate.Place]string // why it is out of service
	places    map[estate.Place]bool
	scopes    map[govern.ScopeID]bool
	demanded  map[demandedOn]bool
	baselines map[string]bool
}

// demandedOn is a setting that some baseline demands of a scope.
type demandedOn struct {
	setting setting.ID
	scope   govern.ScopeID
}

func (s *State) covers() covered {
	c := covered{map[estate.Place]string{}, map[estate.Place]bool{}, map[govern.ScopeID]bool{}, map[demandedOn]bool{}, map[string]bool{}}
	for _, a := range s.Places {
		c.places[a.Place()] = true
	}
	for _, o := range s.OutOfService {
		c.ended[o.Place] = fmt.Sprintf("out of service (entry %d: %s)", o.Entry, o.Reason)
	}
	ids := map[*govern.Scope]govern.ScopeID{}
	for _, scope := range s.Scopes {
		ids[scope] = scope.ID()
		c.scopes[ids[scope]] = true
	}
	for i := range s.Result.Verdicts {
		v := &s.Result.Verdicts[i]
		c.demanded[demandedOn{v.Demand.Setting, ids[v.Scope]}] = true
	}
	for _, b := range s.Baselines {
		c.baselines[b.ID] = true
	}
	return c
}

// lacks says why a finding of the other weighing could not be in this one; empty: it
// could.
func (c *covered) lacks(f *check.Finding) string {
	switch {
	case c.ended[f.Authority.Place()] != "":
		return f.Authority.Label() + " is " + c.ended[f.Authority.Place()]
	case !c.places[f.Authority.Place()]:
		return f.Authority.Label() + " is in one of the weighings only"
	case f.Scope != nil && !c.scopes[f.Scope.ID()]:
		return "the scope is in one of the weighings only"
	case f.Check != "":
		return ""
	case !c.demanded[demandedOn{f.Settings[0], f.Scope.ID()}]:
		return "no baseline of the other weighing demands it there"
	}
	var alone []string
	for _, b := range f.Baselines {
		if c.baselines[b.ID] {
			return ""
		}
		if !slices.Contains(alone, b.ID) {
			alone = append(alone, b.ID)
		}
	}
	return "found by " + strings.Join(alone, ", ") + ", which one of the weighings is against only"
}

// wayOf is the way that leads to something weaker or worse (-1), better (1), or neither.
var wayOf = map[int]Way{-1: Worse, 0: Differs, 1: Better}

// changed says how a finding that is in both changed; empty: it did not.
func changed(was, now *check.Finding) (Way, string) {
	beneath := func(f *check.Finding) check.Kind {
		if f.Kind == check.Waived {
			return f.Beneath
		}
		return f.Kind
	}
	way := Way("")
	x, y := beneath(was), beneath(now)
	switch {
	case x != y:
		way = wayOf[cmp.Compare(x.Rank(), y.Rank())]
	case now.Check == "" && now.Kind != check.Missing && was.Observed != now.Observed:
		id := now.Settings[0]
		order, _ := setting.Get(id).Compare(now.Scope.Settings[id].Value, was.Scope.Settings[id].Value)
		way = wayOf[order]
	case (was.Stated || now.Stated) && now.Severity != was.Severity: // one that is computed follows what else changed
		way = wayOf[cmp.Compare(was.Severity.Rank(), now.Severity.Rank())]
	case now.Check != "" && now.Accounts != nil && was.Accounts != nil && *now.Accounts != *was.Accounts:
		way = wayOf[cmp.Compare(*was.Accounts, *now.Accounts)]
	}
	switch {
	case was.Kind == check.Waived && now.Kind != check.Waived:
		return WaiverEnd, string(way)
	case was.Kind != check.Waived && now.Kind == check.Waived:
		return Accepted, now.Waiver.Reason
	}
	return way, ""
}

// waivers tells of waivers that came, ended, or were outgrown.
func (r *Report) waivers() {
	of := func(s *State) map[string]*check.Waiver {
		all := map[string]*check.Waiver{}
		for i := range s.Result.Waivers {
			w := &s.Result.Waivers[i]
			all[fmt.Sprintf("%09d %s", w.Entry, w.Fingerprint)] = w
		}
		return all
	}
	before, after := of(&r.Before), of(&r.After)
	for _, k := range slices.Sorted(maps.Keys(after)) {
		now, was := after[k], before[k]
		what := now.Scope + ": " + cmp.Or(now.Check, string(now.Setting))
		switch {
		case was == nil:
			r.Waivers = append(r.Waivers, Change{Way: New, What: what, After: string(now.State), Why: now.Reason})
		case was.State != now.State:
			r.Waivers = append(r.Waivers, Change{Way: Differs, What: what, Before: string(was.State), After: string(now.State), Why: now.Why})
		}
	}
}
