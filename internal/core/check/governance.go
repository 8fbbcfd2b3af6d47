package check

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/exposure"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// known is what the checks of one authority share, made when asked for.
type known struct {
	byDefault []int
	doubted   []doubted
	resolved  bool
}

// doubted are the accounts whose policy the evidence does not decide for one reason.
type doubted struct {
	govern.Doubt
	rows []int
}

const mostExamples = 5

// nobody says that no account is concerned.
var nobody = []int{}

// resolve finds the accounts that the authority's own settings govern, and
// those that are not decided.
func (p *Pass) resolve() *known {
	if k := p.known; !k.resolved {
		k.resolved, k.byDefault = true, []int{}
		places := map[govern.Doubt]int{}
		p.accounts(func(row int) bool {
			switch g := p.Resolution.Of(row); g.Rule {
			case govern.Default:
				k.byDefault = append(k.byDefault, row)
			case govern.Unknown:
				at, met := places[g.Doubt]
				if !met {
					at = len(k.doubted)
					places[g.Doubt] = at
					k.doubted = append(k.doubted, doubted{Doubt: g.Doubt})
				}
				k.doubted[at].rows = append(k.doubted[at].rows, row)
			}
			return false
		})
	}
	return p.known
}

// onDefault returns the accounts that the domain's own settings govern.
func (p *Pass) onDefault() []int { return p.resolve().byDefault }

// doubtful returns the accounts that are not decided for a reason that fits.
func (p *Pass) doubtful(fits func(d govern.Doubt) bool) []int {
	rows := []int{}
	if !slices.ContainsFunc(p.scopes(), func(s *govern.Scope) bool { return s.Rule == govern.Unknown }) {
		return rows // and a million accounts need not be asked
	}
	for _, d := range p.resolve().doubted {
		if fits(d.Doubt) {
			rows = append(rows, d.rows...)
		}
	}
	slices.Sort(rows)
	return rows
}

// gravest raises a severity to grave where a privileged account is concerned.
func (p *Pass) gravest(rows []int, otherwise baseline.Severity) baseline.Severity {
	if slices.ContainsFunc(rows, func(row int) bool { tier, _ := p.TierOf(p.index, row); return tier == govern.Privileged }) {
		return baseline.Grave
	}
	return otherwise
}

// nameOf names an object.
func (p *Pass) nameOf(row int) string {
	return cmp.Or(p.Authority.Objects.Name.At(row), estate.NameOf(p.Authority.Objects.RDN.At(row)), p.Authority.DN(row))
}

// scopes returns the authority's scopes.
func (p *Pass) scopes() []*govern.Scope {
	var all []*govern.Scope
	for _, s := range p.Scopes {
		if s.Authority == p.Authority {
			all = append(all, s)
		}
	}
	return all
}

// accounts returns the accounts for which keep holds.
func (p *Pass) accounts(keep func(row int) bool) []int {
	o := p.Authority.Objects
	var rows []int
	for row := range o.Len() {
		if o.ClassOf(row) == estate.Account && keep(row) {
			rows = append(rows, row)
		}
	}
	return rows
}

func (p *Pass) policies() []*estate.Policy {
	var all []*estate.Policy
	for i := range p.Authority.Overrides {
		all = append(all, &p.Authority.Overrides[i])
	}
	return all
}

func cites(targets []estate.Target, p *estate.Policy) []estate.Cite {
	all := []estate.Cite{p.Cite}
	for _, t := range targets {
		all = append(all, t.Cite)
	}
	return all
}

// governanceChecks look at directory domains.
var governanceChecks = []Check{
	{
		Name: "policy-without-target", Title: "A fine-grained policy governs nobody",
		Kind: Conflicting, Severity: baseline.Minor,
		Doc: "A fine-grained policy does nothing: it names nobody, lies outside the container of such policies, or the domain's functional " +
			"level is too low for any.",
		Run: func(p *Pass) {
			for _, policy := range p.policies() {
				if why := govern.Powerless(p.Authority, policy); why != "" {
					evidence := []estate.Cite{policy.Cite}
					if p.Authority.LevelCite.File != "" {
						evidence = append(evidence, p.Authority.LevelCite)
					}
					p.report(Finding{Severity: baseline.Serious, Reason: policy.Name + " governs nobody: " + why,
						Remedy: "Make the policy anew in CN=Password Settings Container,CN=System, in a domain at the functional level of 2008 or " +
							"above; or remove it.", Evidence: evidence}, policy.Name, nobody)
					continue
				}
				if len(policy.Targets) == 0 && !policy.TargetsPart {
					p.report(Finding{Reason: policy.Name + " names no account and no group: it governs nobody",
						Remedy:   "Give it the groups that it was meant for (msDS-PSOAppliesTo), or remove it.",
						Evidence: []estate.Cite{policy.Cite}}, policy.Name, nobody)
				}
			}
		},
	},
	{
		Name: "target-ignored", Title: "A fine-grained policy names what the directory ignores",
		Kind: Conflicting, Severity: baseline.Serious,
		Doc: "A fine-grained policy names something that the directory does not look at: a unit, a computer, a distribution group, " +
			"and on Windows a universal or domain-local group.",
		Run: func(p *Pass) {
			for _, policy := range p.policies() {
				var ignored []estate.Target
				var words []string
				for _, t := range policy.Targets {
					if kind, what := p.Resolution.Ignored(t); kind == govern.Idle || kind == govern.NoAccount {
						ignored = append(ignored, t)
						words = append(words, estate.NameOf(t.DN)+" ("+what+")")
					}
				}
				if len(ignored) == 0 {
					continue
				}
				f := Finding{Evidence: cites(ignored, policy), Remedy: "Name a global security group that holds the accounts instead."}
				by := fmt.Sprintf("the %s dialect ignores", p.Resolution.Dialect)
				if p.Resolution.Assumed {
					by = "every dialect ignores"
				}
				f.Reason = fmt.Sprintf("%s names %s, which %s", policy.Name, strings.Join(words, ", "), by)
				if len(ignored) == len(policy.Targets) && !policy.TargetsPart {
					f.Reason += "; it has no other target, so it governs nobody"
				} else {
					f.Severity = baseline.Minor
				}
				p.report(f, policy.Name, nobody)
			}
		},
	},
	{
		Name: "target-empty", Title: "A fine-grained policy names only empty groups",
		Kind: Conflicting, Severity: baseline.Minor,
		Doc: "A fine-grained policy names only groups that hold no account.",
		Run: func(p *Pass) {
			for _, policy := range p.policies() {
				works := slices.ContainsFunc(policy.Targets,
					func(t estate.Target) bool { kind, _ := p.Resolution.Ignored(t); return kind == govern.Works })
				if works && p.Resolution.ReachKnown(policy) && p.Resolution.ReachesNobody(policy) {
					p.report(Finding{Reason: policy.Name + " names only groups in which there is no account: it governs nobody",
						Remedy:   "Put the accounts into the group, or remove the policy.",
						Evidence: cites(policy.Targets, policy)}, policy.Name, nobody)
				}
			}
		},
	},
	{
		Name: "target-unknown", Title: "A fine-grained policy names something that was not exported",
		Kind: Missing, Severity: baseline.Serious,
		Doc: "A fine-grained policy names something that is not in the evidence: whom it reaches is not known.",
		Run: func(p *Pass) {
			for _, policy := range p.policies() {
				for _, t := range policy.Targets {
					if !p.Authority.Holds(t.Object) {
						rows := p.doubtful(func(d govern.Doubt) bool { return d.Row == t.Object && d.Kind == govern.MembersUnknown })
						p.report(Finding{Reason: fmt.Sprintf("%s names %s, which is not in the evidence%s", policy.Name, t.DN, mayReach(rows)),
							Remedy:   "Export the groups and accounts of the whole domain, and gather again.",
							Severity: p.gravest(rows, baseline.Serious), Evidence: []estate.Cite{t.Cite}}, policy.Name+" "+t.DN, concerned(rows))
					}
				}
			}
		},
	},
	{
		Name: "member-unknown", Title: "A group with a policy has members that were not exported",
		Kind: Missing, Severity: baseline.Serious,
		Doc: "A group that carries a policy has members that are not in the evidence.",
		Run: func(p *Pass) {
			o, byGroup := p.Authority.Objects, map[int][]estate.Cite{}
			for i := range o.LooseGroup.Len() {
				group := int(o.LooseGroup.At(i))
				byGroup[group] = append(byGroup[group], estate.Cite{File: p.Authority.Files[o.LooseFile.At(i)], Line: int(o.LooseLine.At(i)),
					Where: "member"})
			}
			for _, group := range sortedKeys(byGroup) {
				if carried := p.Resolution.Carried(group); len(carried) > 0 {
					lines := byGroup[group]
					rows := p.doubtful(func(d govern.Doubt) bool { return d.Row == group && d.Kind == govern.MembersUnknown })
					p.report(Finding{Reason: fmt.Sprintf("%s of %s, which carries %s, %s not in the evidence%s", number(len(lines), "member"),
						p.nameOf(group), carried[0].Name, isAre(len(lines)), mayReach(rows)),
						Remedy: "Export the accounts and groups of the whole domain, and of the domains that the members belong to; with " +
							"memberOf, one export is enough.",
						Severity: p.gravest(rows, baseline.Serious), Evidence: lines[:min(len(lines), mostExamples)]}, p.nameOf(group), concerned(rows))
				}
			}
		},
	},
	{
		Name: "account-incomplete", Title: "Accounts were exported without an attribute that matters",
		Kind: Missing, Severity: baseline.Serious,
		Doc: "Accounts were exported without an attribute that what governs them depends on.",
		Run: func(p *Pass) {
			for _, gap := range []struct {
				flag            estate.Flag
				attribute, what string
			}{
				{estate.NoControl, "userAccountControl", "whether they are enabled, and the flags that switch settings off, are not known"},
				{estate.NoPrimary, "primaryGroupID", "through which policies that group would reach them, is not known"},
			} {
				rows := p.accounts(func(row int) bool { return p.Authority.Objects.FlagsOf(row)&gap.flag != 0 })
				if len(rows) > 0 {
					p.report(Finding{Reason: fmt.Sprintf("%s exported without %s: %s", number(len(rows), "account"), gap.attribute, gap.what),
						Remedy: "Export " + gap.attribute + " of all accounts, and gather again.", Evidence: []estate.Cite{p.Authority.CiteOf(rows[0])}},
						gap.attribute, rows)
				}
			}
		},
	},
	{
		Name: "members-incomplete", Title: "Part of a large group is missing from the export",
		Kind: Missing, Severity: baseline.Serious,
		Doc: "A large group was exported in pieces, and a piece is missing: who else is in it is not known.",
		Run: func(p *Pass) {
			for _, gap := range p.Authority.Problems {
				rows := p.doubtful(func(d govern.Doubt) bool {
					return d.Kind == govern.MembersUnknown && d.Row != estate.NotFound && p.Authority.DN(d.Row) == gap.Cite.Raw
				})
				p.report(Finding{Reason: gap.Text + mayReach(rows), Severity: p.gravest(rows, baseline.Serious),
					Remedy: "Export all pieces of the group's member attribute (member;range=…), and gather again.", Evidence: []estate.Cite{gap.Cite}},
					gap.Cite.Raw, concerned(rows))
			}
		},
	},
	{
		Name: "members-unexported", Title: "Who is in a group with a policy was not exported",
		Kind: Missing, Severity: baseline.Serious,
		Doc: "A group that carries a policy was exported without its members, or with a list that its members contradict: who else " +
			"is in it is not known.",
		Run: func(p *Pass) {
			o, told := p.Authority.Objects, map[string]bool{}
			for _, gap := range p.Authority.Problems {
				told[gap.Cite.Raw] = true
			}
			for row := range o.Len() {
				if o.FlagsOf(row)&(estate.MembersPart|estate.Unseen) != estate.MembersPart || told[p.Authority.DN(row)] {
					continue
				}
				carried := p.Resolution.Carried(row)
				if len(carried) == 0 {
					continue
				}
				if rows := p.doubtful(func(d govern.Doubt) bool { return d.Row == row && d.Kind == govern.MembersUnknown }); len(rows) > 0 {
					p.report(Finding{Reason: fmt.Sprintf("who is in %s, which carries %s, is not all in the evidence%s", p.nameOf(row),
						carried[0].Name, mayReach(rows)),
						Severity: p.gravest(rows, baseline.Serious),
						Remedy:   "Export groups with their attribute member, or accounts with memberOf, and gather again.",
						Evidence: []estate.Cite{p.Authority.CiteOf(row)}}, p.Authority.DN(row), rows)
				}
			}
		},
	},
	{
		Name: "member-elsewhere", Title: "Groups hold members of a domain that is not in the evidence",
		Kind: Missing, Severity: baseline.Serious,
		Doc: "Groups name objects of another domain, of the same forest or of one that is trusted, which is not in the evidence: who they " +
			"are, and who holds what these groups give, is not known.",
		Run: func(p *Pass) {
			for _, absent := range p.Absent(p.index) {
				groups, members := map[string]bool{}, 0
				var lines []estate.Cite
				for _, row := range absent.Rows {
					held := false
					for group := range p.Authority.Objects.GroupsOf(row) {
						groups[p.nameOf(group)], held = true, true
					}
					if !held {
						continue // a policy names it, which is told elsewhere
					}
					if members++; len(lines) < mostExamples {
						lines = append(lines, p.Authority.CiteOf(row))
					}
				}
				if members == 0 {
					continue
				}
				rows := p.doubtful(func(d govern.Doubt) bool {
					return d.Kind == govern.MembersUnknown && slices.Contains(absent.Rows, d.Row)
				})
				names, more := sortedKeys(groups), ""
				if n := len(names) - 3; n > 0 {
					names, more = names[:3], fmt.Sprintf(" and %d more", n)
				}
				reason := fmt.Sprintf("%s of %s%s: of the domain %s, which is not in the evidence", number(members, "member"),
					strings.Join(names, ", "), more, absent.Domain)
				remedy := "Gather the directory of that domain, too; gather --forest reads all of a forest."
				if absent.Part {
					reason = strings.TrimSuffix(reason, "which is not in the evidence") + "whose evidence does not hold them"
					remedy = "Export that domain again, whole."
				}
				severity := baseline.Minor
				if p.Tiering.Administers(absent.Rows) {
					severity = baseline.Serious
					reason += "; among them are members of administrative groups, so that not all who are privileged are known"
				}
				if len(rows) > 0 {
					severity = p.gravest(rows, severity)
				}
				p.report(Finding{Reason: reason + mayReach(rows), Severity: severity, Remedy: remedy, Evidence: lines}, absent.Domain, concerned(rows))
			}
		},
	},
	{
		Name: "membership-disagrees", Title: "Groups and members disagree about a membership",
		Kind: Conflicting, Severity: baseline.Minor,
		Doc: "A group and its member disagree: member and memberOf were both exported, and only one lists the membership.",
		Run: func(p *Pass) {
			a := p.Authority
			if a.DisputeCount == 0 {
				return
			}
			var rows []int
			var lines []estate.Cite
			for _, d := range a.Disputes {
				if a.Objects.ClassOf(d.Member) == estate.Account {
					rows = append(rows, d.Member)
				}
				if len(lines) < mostExamples {
					lines = append(lines, d.Cite)
				}
			}
			slices.Sort(rows)
			d := a.Disputes[0]
			teller, silent := estate.OfGroup, d.Silent
			if silent == estate.OfGroup {
				teller = estate.OfMember
			}
			p.report(Finding{Reason: fmt.Sprintf("%s listed on one side only; the first: %s lists that %s is in %s, %s does not. Both "+
				"count, and what else the other side omits is not known",
				number(a.DisputeCount, "membership"), teller, p.nameOf(d.Member), p.nameOf(d.Group), silent),
				Remedy: "Export groups and accounts in one go, and gather again.", Evidence: lines}, "", slices.Compact(rows))
		},
	},
	{
		Name: "group-type-unknown", Title: "The type of a group with a policy was not exported",
		Kind: Missing, Severity: baseline.Serious,
		Doc: "Whether a group carries a policy depends on its type, and the type was not exported.",
		Run: func(p *Pass) {
			p.doubtsOn(govern.TypeUnknown, "whose type is not in the evidence", "Export groups with groupType, and gather again.")
		},
	},
	{
		Name: "dialect-assumed", Title: "Windows or Samba: the evidence does not say, and it matters here",
		Kind: Missing, Severity: baseline.Serious,
		Doc: "The evidence does not show whether Windows or Samba serves the domain, and for some accounts that decides which policy governs.",
		Run: func(p *Pass) {
			rows := p.doubtful(func(d govern.Doubt) bool { return d.Kind == govern.DialectAssumed })
			if len(rows) > 0 {
				first := p.resolve().doubted[slices.IndexFunc(p.resolve().doubted, func(d doubted) bool { return d.Kind == govern.DialectAssumed })]
				p.report(Finding{Reason: fmt.Sprintf("%s: on Windows only global security groups carry a policy, on Samba all security "+
					"groups but the built-in ones; the first is reached through %s", number(len(rows), "account"), p.nameOf(first.Row)),
					Severity: p.gravest(rows, baseline.Serious), Remedy: "Say in engagement.yaml which it is (authorities: " + p.Authority.Name +
						": dialect: windows or samba), or export the entries of the domain's controllers with operatingSystem.",
					Evidence: []estate.Cite{p.Authority.CiteOf(first.Row)}}, "", rows)
			}
		},
	},
	{
		Name: "targets-unexported", Title: "Whom a fine-grained policy names was not exported",
		Kind: Missing, Severity: baseline.Serious,
		Doc: "A fine-grained policy was exported without its targets.",
		Run: func(p *Pass) {
			for _, policy := range p.policies() {
				if policy.TargetsPart {
					rows := p.doubtful(func(d govern.Doubt) bool { return d.Kind == govern.TargetsUnknown && d.Policy == policy })
					p.report(Finding{Reason: "whom " + policy.Name + " names was not exported, or not all of it" + mayReach(rows),
						Remedy:   "Export msDS-PSOAppliesTo of the policy, and gather again.",
						Severity: p.gravest(rows, baseline.Serious), Evidence: []estate.Cite{policy.Cite}}, policy.Name, rows)
				}
			}
		},
	},
	{
		Name: "evidence-poorer", Title: "The newest evidence holds less than the one before",
		Kind: Missing, Severity: baseline.Serious, On: onEveryPlace,
		Doc: "The newest evidence of a place holds less than the evidence whose place it took.",
		Run: func(p *Pass) {
			for _, loss := range p.Authority.Lost {
				rows := p.doubtful(func(d govern.Doubt) bool { return d.Kind == govern.PolicyLost && loss.What == estate.LostPolicies })
				reason := fmt.Sprintf("%s: %d in %s, %d now", loss.What, loss.Before, strings.Join(loss.Files, ", "), loss.Now)
				if len(loss.Names) > 0 {
					reason += "; gone: " + strings.Join(loss.Names, ", ")
				}
				var lines []estate.Cite
				for _, file := range p.Authority.Files[:min(len(p.Authority.Files), mostExamples)] {
					lines = append(lines, estate.Cite{File: file, Line: 1})
				}
				if loss.What != estate.LostPolicies {
					rows = nil
				}
				p.report(Finding{Reason: reason + mayReach(rows), Severity: p.gravest(rows, baseline.Serious), Evidence: lines,
					Remedy: "Export again with the same rights and attributes as before. If the newer evidence is right, gather it with " +
						"--less-is-right REASON."}, string(loss.What), rows)
			}
		},
	},
	{
		Name: "value-unusual", Title: "A value that the place's own tools do not set is in force",
		Kind: Conflicting, Severity: baseline.Minor, Each: true, On: onEveryPlace,
		Doc: "A place holds a value that its own tools cannot set: somebody bypassed them. It is in force anyway.",
		Run: func(p *Pass) {
			policies := p.policies()
			if p.Authority.Head != nil {
				policies = append([]*estate.Policy{p.Authority.Head}, policies...)
			}
			for _, policy := range policies {
				for _, id := range SortedSettings(policy.Settings) {
					if f := policy.Settings[id]; f.Remark != "" {
						row := setting.Get(id)
						p.report(Finding{Settings: []setting.ID{id}, Observed: row.Text(f.Value), Reason: fmt.Sprintf("%s of %s: %s (%s: %s), %s",
							strings.ToLower(row.Title), policy.Name, row.Text(f.Value), f.Cite.Where, f.Cite.Raw, f.Remark),
							Remedy: "Set it anew with the policy editor, so that it is what somebody decided.", Evidence: []estate.Cite{f.Cite}},
							policy.Origin+" "+string(id), nil)
					}
				}
			}
		},
	},
	{
		Name: "policy-hidden", Title: "Accounts point at a policy that was not exported",
		Kind: Missing, Severity: baseline.Grave,
		Doc: "Accounts or groups point at a fine-grained policy that is not in the evidence: the exporting account may not read such policies.",
		Run: func(p *Pass) {
			p.hidden(func(ref *estate.Reference, cite estate.Cite, rows []int) {
				p.report(Finding{Reason: fmt.Sprintf("%s is not in the evidence, and %s at it: what governs its accounts is "+
					"not known, and it is not the default", estate.NameOf(ref.DN), pointing(ref.Count, "entry", "entries")),
					Remedy: "Export again with an account that may read the Password Settings Container.", Evidence: []estate.Cite{cite}}, ref.DN, rows)
			})
		},
	},
	{
		Name: "policies-unproven", Title: "Whether there are fine-grained policies was not exported",
		Kind: Missing, Severity: baseline.Serious,
		Doc: "The export holds no fine-grained policy, and nothing that proves that there is none: an account without the right to " +
			"read them exports none.",
		Run: func(p *Pass) {
			a := p.Authority
			if !a.Cut && (len(a.Overrides) > 0 || a.PoliciesLie || a.Head == nil && !a.Listed) {
				return
			}
			rows := p.doubtful(func(d govern.Doubt) bool { return d.Kind == govern.PoliciesUnproven })
			var lines []estate.Cite
			switch {
			case a.Head != nil:
				lines = []estate.Cite{a.Head.Cite}
			case len(rows) > 0:
				lines = []estate.Cite{a.CiteOf(rows[0])}
			}
			reason := "no fine-grained policy is in the evidence, and neither is the container in which they lie: there may be none, or " +
				"the exporter may not read them. What governs these accounts is not known"
			if a.Cut {
				reason = "a file of its evidence ends in the middle of a line: which policies and groups came after it is not known"
			}
			p.report(Finding{Reason: reason,
				Severity: p.gravest(rows, baseline.Serious),
				Remedy:   "Export again with an account that may read the Password Settings Container, and include the container itself.",
				Evidence: lines}, "", rows)
		},
	},
	{
		Name: "precedence-undecided", Title: "Which of several policies wins was not exported",
		Kind: Missing, Severity: baseline.Serious,
		Doc: "The precedence or GUID of a fine-grained policy is not in the evidence, so which policy wins is not known.",
		Run: func(p *Pass) {
			for _, policy := range p.policies() {
				if policy.Precedence != nil {
					continue
				}
				rows := p.doubtful(func(d govern.Doubt) bool { return d.Kind == govern.OrderUnknown && d.Policy == policy })
				p.report(Finding{Reason: "the precedence of " + policy.Name + " is not in the evidence: where it wins is not known",
					Remedy:   "Export msDS-PasswordSettingsPrecedence of the policy.",
					Evidence: []estate.Cite{policy.Cite}}, policy.Name, rows)
			}
		},
	},
	{
		Name: "precedence-shared", Title: "Two policies share a precedence",
		Kind: Conflicting, Severity: baseline.Minor,
		Doc: "Two fine-grained policies have one precedence: where both reach an account, the smaller GUID decides, which nobody chose.",
		Run: sharedPrecedence,
	},
	{
		Name: "override-weaker", Title: "A fine-grained policy is weaker than the default",
		Kind: Conflicting, Severity: baseline.Serious, Each: true,
		Restates: true,
		Doc:      "A fine-grained policy is weaker than the domain's default in a setting.",
		Run: func(p *Pass) {
			own := p.scopes()[0]
			for _, s := range p.scopes() {
				if s.Policy == nil || s.Policy.Standing != estate.Override {
					continue
				}
				for _, id := range weakerIn(s, own) {
					row := setting.Get(id)
					p.report(Finding{Scope: s, Settings: []setting.ID{id}, Observed: row.Text(s.Settings[id].Value), Demanded: "",
						Reason: fmt.Sprintf("%s: %s, where the domain's default has %s", strings.ToLower(row.Title), row.Text(s.Settings[id].Value),
							row.Text(own.Settings[id].Value)),
						Remedy:   fmt.Sprintf("Bring %s of %s up to the default, or record why it is weaker.", s.Settings[id].Cite.Where, s.Policy.Name),
						Evidence: []estate.Cite{s.Settings[id].Cite, own.Settings[id].Cite}}, string(id), nil)
				}
			}
		},
	},
	{
		Name: "privileged-on-default", Title: "Privileged accounts are governed by the default",
		Kind: Conflicting, Severity: baseline.Serious,
		Doc: "Privileged accounts are governed by the domain's default, like everybody else.",
		Run: func(p *Pass) {
			for _, s := range p.scopes() {
				if s.Tier == govern.Privileged && s.Rule == govern.Default && s.Accounts > 0 && s.Policy != nil {
					p.report(Finding{Scope: s, Reason: number(s.Accounts, "privileged account") + " under the same settings as everybody else",
						Remedy:   "Give a stricter fine-grained policy to a global security group that holds them.",
						Evidence: []estate.Cite{s.Policy.Cite}}, "", nil)
				}
			}
		},
	},
	{
		Name: "privileged-weaker", Title: "Privileged accounts have weaker settings than standard ones",
		Kind: Conflicting, Severity: baseline.Serious,
		Doc: "Privileged accounts live under weaker settings than some standard accounts.",
		Run: func(p *Pass) {
			for _, s := range p.scopes() {
				if s.Tier != govern.Privileged || s.Accounts == 0 {
					continue
				}
				var worst *govern.Scope // the one that it falls short of most
				var ids []setting.ID
				var also []string
				for _, other := range p.scopes() {
					short := weakerIn(s, other)
					if other.Tier != govern.Standard || other.Accounts == 0 || other.Policy == s.Policy || len(short) == 0 || len(weakerIn(other, s)) > 0 {
						continue
					}
					also = append(also, other.PolicyName())
					if len(short) > len(ids) {
						worst, ids = other, short
					}
				}
				if worst == nil {
					continue
				}
				reason := fmt.Sprintf("weaker than %s, which governs %s, and stronger in nothing: %s", worst.PolicyName(),
					number(worst.Accounts, "standard account"), compared(s, worst, ids))
				if also = slices.DeleteFunc(also, func(name string) bool { return name == worst.PolicyName() }); len(also) > 0 {
					reason += "; weaker than " + strings.Join(also, ", ") + " as well"
				}
				p.report(Finding{Scope: s, Settings: ids, Observed: observed(s, ids), Reason: reason,
					Mend:   &exposure.Change{Set: valuesOf(worst, ids)},
					Remedy: "Give privileged accounts a policy that is at least as strict.", Evidence: evidenceOf(s, ids)}, "", nil)
			}
		},
	},
	{
		Name: "privileged-pulled-out", Title: "A privileged account is pulled out of a stricter policy",
		Kind: Conflicting, Severity: baseline.Grave,
		Doc: "A privileged account is taken out of a stricter policy by a better precedence elsewhere.",
		Run: pulledOut,
	},
	{
		Name: "directory-disagrees", Title: "The directory applies another policy than its entries suggest",
		Kind: Conflicting, Severity: baseline.Grave,
		Doc: "The directory's own answer on what governs an account (msDS-ResultantPSO) differs from what its policies and groups come to.",
		Run: func(p *Pass) {
			a := p.Authority
			if !a.AnswerGiven {
				return
			}
			differ := p.accounts(func(row int) bool {
				g := p.Resolution.Of(row)
				return g.Refuted || g.Rule != govern.Unknown && p.answer(a.Objects.Resultant.At(row)) != originOf(g.Policy)
			})
			if len(differ) > 0 {
				row := differ[0]
				reason := fmt.Sprintf("for %s the directory answers %s; its policies and groups come to %s", a.Objects.Name.At(row), p.told(row),
					policyName(p.Resolution.Of(row).Policy))
				if g := p.Resolution.Of(row); g.Refuted {
					reason = fmt.Sprintf("for %s: %s", a.Objects.Name.At(row), g.Why)
				}
				p.report(Finding{Reason: reason,
					Remedy:   "Find out which of the two is out of date: gather a fresh export, and check the dialect.",
					Evidence: []estate.Cite{a.CiteOf(row)}}, "", differ)
			}
		},
	},
	{
		Name: "template-against-head", Title: "A template at the root configures what the domain does not enforce",
		Kind: Conflicting, Severity: baseline.Serious, Each: true,
		Restates: true,
		Doc:      "A template at the domain's root configures another value than the domain enforces.",
		Run: func(p *Pass) {
			if p.Authority.Head == nil {
				return
			}
			configured := govern.Configured(p.Templates.Root())
			for _, id := range SortedSettings(configured) {
				c, own := configured[id], p.Authority.Head.Settings[id]
				if c.Problem != "" || own.Problem != "" || !own.Value.IsSet() || own.Value == c.Value {
					continue
				}
				row := setting.Get(id)
				p.report(Finding{Settings: []setting.ID{id}, Observed: row.Text(own.Value),
					Reason: fmt.Sprintf("%s: %s is configured by %s, %s is enforced%s", strings.ToLower(row.Title), row.Text(c.Value),
						c.By.Name(), row.Text(own.Value), openly(c.Open)),
					Remedy:   "Find out why the template does not reach the domain's head, or who changed the head behind it.",
					Evidence: []estate.Cite{c.Cite, own.Cite}}, string(id), p.onDefault())
			}
		},
	},
	{
		Name: "displayed-is-not-governing", Title: "A machine displays other settings than those that govern",
		Kind: Conflicting, Severity: baseline.Minor,
		Doc: "The resultant report of a machine, which people take for what governs, shows other settings than those that do.",
		Run: func(p *Pass) {
			for _, s := range p.scopes() {
				if s.Accounts == 0 || s.Policy == nil || s.Why != "" {
					continue
				}
				shown, ids := mostMisleading(p.Authority.Displayed, s)
				if shown == nil {
					continue
				}
				var texts []string
				for _, id := range ids {
					row := setting.Get(id)
					texts = append(texts, fmt.Sprintf("%s %s (by %s), where what governs is %s", strings.ToLower(row.Title),
						row.Text(shown.Settings[id].Value),
						cmp.Or(shown.By[id], "no policy that it names"), row.Text(s.Settings[id].Value)))
				}
				p.report(Finding{Scope: s, Settings: ids, Observed: observed(s, ids),
					Reason: fmt.Sprintf("the resultant report of %s displays %s", shown.Machine, strings.Join(texts, "; ")),
					Remedy: "Tell whoever answers for these accounts what governs them: resultant reports know neither fine-grained policies nor the " +
						"domain's head.",
					Evidence: append(evidenceOf(s, ids[:1]), shown.Settings[ids[0]].Cite)}, "", nil)
			}
		},
	},
	{
		Name: "templates-disagree", Title: "Templates at the root configure a setting differently",
		Kind: Conflicting, Severity: baseline.Minor, Each: true,
		Doc: "Two templates at the domain's root configure a setting differently; the link order decides.",
		Run: func(p *Pass) {
			configured := govern.Configured(p.Templates.Root())
			for _, id := range SortedSettings(configured) {
				c := configured[id]
				for _, lost := range c.Beaten {
					if lost.Value == c.Value {
						continue
					}
					row := setting.Get(id)
					p.report(Finding{Settings: []setting.ID{id}, Observed: row.Text(c.Value),
						Reason: fmt.Sprintf("%s: %s by %s wins over %s by %s, by %s%s", strings.ToLower(row.Title), row.Text(c.Value), c.By.Name(),
							row.Text(lost.Value), lost.By.Name(), by(id, c.By, lost.By), openly(c.Open)),
						Remedy: "Configure the setting in one template only.", Evidence: []estate.Cite{c.Cite, lost.Cite}}, string(id)+" "+
						lost.By.Link.GUID, p.onDefault())
				}
			}
		},
	},
	{
		Name: "template-on-unit", Title: "A template on a unit does nothing to domain accounts",
		Kind: Conflicting, Severity: baseline.Serious,
		Doc: "A template linked to a unit sets account settings: they reach only the local accounts of the machines there, never a " +
			"domain account.",
		Run: func(p *Pass) {
			for _, u := range p.Templates.Places() {
				for _, l := range p.Templates.Links(u) {
					if u.Root || l.Idle != "" || l.Template == nil || len(govern.AccountSettings(l.Template)) == 0 {
						continue
					}
					machines := p.Templates.Machines(l)
					p.report(Finding{Settings: govern.AccountSettings(l.Template),
						Reason: fmt.Sprintf("%s, linked to %s, sets account settings: they reach the local accounts of %s, and no domain account%s",
							l.Name(), estate.NameOf(u.DN), machineList(p.Authority, machines), openly(l.Open)),
						Remedy:   "If domain accounts are meant, use a fine-grained policy on a global security group that holds them.",
						Evidence: []estate.Cite{u.Cite, l.Template.Policy.Cite}}, u.DN+" "+l.Link.GUID, nobody)
				}
			}
		},
	},
	{
		Name: "template-filtered", Title: "A template is kept from the domain's controllers",
		Kind: Conflicting, Severity: baseline.Serious,
		Doc: "A template with account settings is linked at the domain's root, and its security filter keeps it from the domain's " +
			"controllers: it does nothing to domain accounts.",
		Run: func(p *Pass) {
			for _, l := range p.Templates.Root() {
				if l.Template == nil || !l.KeptOut() || len(govern.AccountSettings(l.Template)) == 0 {
					continue
				}
				p.report(Finding{Settings: govern.AccountSettings(l.Template), Reason: l.Name() +
					" is linked at the root and sets account settings, but the controllers may not read or apply it: it does nothing to domain accounts",
					Remedy:   "Let the domain's controllers (Authenticated Users) read and apply the policy, or take the settings out of it.",
					Evidence: []estate.Cite{l.Container.Cite, l.Template.Policy.Cite}}, l.Link.GUID, nobody)
			}
		},
	},
	{
		Name: "template-open", Title: "Whether a linked template applies was not exported",
		Kind: Missing, Severity: baseline.Minor,
		Doc: "Whether a linked policy applies, or what it sets, is not in the evidence: its security filter, its template or its " +
			"registry file was not exported, or a WMI filter decides.",
		Run: func(p *Pass) {
			by := map[string][]string{}
			lines := map[string][]estate.Cite{}
			for _, u := range p.Templates.Places() {
				for _, l := range p.Templates.Links(u) {
					if l.Open != "" {
						by[l.Open] = append(by[l.Open], l.Name()+" at "+estate.NameOf(u.DN))
						lines[l.Open] = append(lines[l.Open], u.Cite)
					}
				}
			}
			for _, why := range sortedKeys(by) {
				p.report(Finding{Reason: strings.Join(by[why], ", ") + ": " + why + ". No verdict rests on what it configures",
					Evidence: lines[why][:min(len(lines[why]), mostExamples)],
					Remedy: "Export the policy containers (CN=Policies,CN=System) with all attributes and nTSecurityDescriptor, and copy the " +
						"whole policy store."}, why, nil)
			}
		},
	},
	{
		Name: "template-unlinked", Title: "A template is linked nowhere",
		Kind: Conflicting, Severity: baseline.Minor,
		Doc: "A template with account settings is linked nowhere.",
		Run: func(p *Pass) {
			for _, t := range p.Templates.Unlinked() {
				if ids := govern.AccountSettings(t); len(ids) > 0 {
					p.report(Finding{Settings: ids, Reason: p.Templates.NameOf(t) + " sets account settings and is linked nowhere: it does nothing",
						Remedy: "Link it where it is meant to work, or remove it.", Evidence: []estate.Cite{t.Policy.Cite}}, t.GUID, nobody)
				}
			}
		},
	},
	{
		Name: "template-unseen", Title: "Machines that a template reaches have given no evidence",
		Kind: Missing, Severity: baseline.Minor,
		Doc: "Machines get account settings from a template, and their own export is not in the evidence: configured, not seen.",
		Run: func(p *Pass) {
			machines := machinesOf(p)
			unseen := map[string][]int{}
			name := map[string]govern.Linked{}
			for _, u := range p.Templates.Places() {
				for _, l := range p.Templates.Links(u) {
					if u.Root || l.Idle != "" || l.Template == nil || len(govern.AccountSettings(l.Template)) == 0 {
						continue
					}
					for _, row := range p.Templates.Machines(l) {
						if machines[govern.MachineName(p.Authority, row)] == nil {
							unseen[u.DN+l.Link.GUID] = append(unseen[u.DN+l.Link.GUID], row)
							name[u.DN+l.Link.GUID] = l
						}
					}
				}
			}
			for _, key := range sortedKeys(unseen) {
				l := name[key]
				p.report(Finding{Settings: govern.AccountSettings(l.Template),
					Reason: fmt.Sprintf("%s configures the local accounts of %s; what they enforce was not seen%s", l.Name(),
						machineList(p.Authority, unseen[key]), openly(l.Open)),
					Remedy: "Collect the machines' own exports.", Evidence: []estate.Cite{l.Template.Policy.Cite}}, key, nil)
			}
		},
	},
	{
		Name: "local-administrator-unmanaged", Title: "Machines whose local administrator has no managed password",
		Kind: Weak, Severity: baseline.Serious,
		Doc: "No policy that reaches a machine gives its local administrator a managed password: one password found on one machine often opens " +
			"many.",
		Run: func(p *Pass) {
			none, open := managed(p)
			if len(none.rows) == 0 {
				return
			}
			text := fmt.Sprintf("no policy gives the local administrator of %s a managed password", machineList(p.Authority, none.rows))
			if len(open.rows) > 0 {
				text += fmt.Sprintf("; of %s it is not known", number(len(open.rows), "more machine"))
			}
			admins := exposure.Unlisted(estate.Machine, setting.WindowsMachine, govern.Privileged, true, len(none.rows))
			p.report(Finding{Settings: []setting.ID{setting.ManagedAdmin}, Observed: "not set", Reason: text,
				Mend:   &exposure.Change{Set: map[setting.ID]setting.Value{setting.ManagedAdmin: setting.Word("directory")}},
				Scopes: []*govern.Scope{admins.Scope}, Unlisted: []exposure.Cohort{admins},
				Remedy: "Have the system manage these passwords (a policy with BackupDirectory under Policies\\LAPS), or say what else keeps them " +
					"apart.",
				Evidence: []estate.Cite{none.cite}}, "", nil)
		},
	},
	{
		Name: "local-administrator-open", Title: "Whether machines' local administrators have managed passwords is not known",
		Kind: Missing, Severity: baseline.Minor,
		Doc: "A policy may give the local administrator of machines a managed password, and whether it does is not in the " +
			"evidence: the policy, its links or its filters were not all exported.",
		Run: func(p *Pass) {
			if none, open := managed(p); len(none.rows) == 0 && len(open.rows) > 0 {
				p.report(Finding{Settings: []setting.ID{setting.ManagedAdmin}, Reason: "whether a policy gives the local administrator of " +
					machineList(p.Authority, open.rows) + " a managed password is not in the evidence",
					Remedy: "Export the policies with their Registry.pol and their preferences, all units with their links, and the policies' " +
						"access lists.",
					Evidence: []estate.Cite{open.cite}}, "", nil)
			}
		},
	},
	{
		Name: "machine-against-template", Title: "A machine enforces another value than its template",
		Kind: Conflicting, Severity: baseline.Serious, Each: true,
		Restates: true,
		Doc:      "A machine enforces another value than the templates that reach it configure.",
		Run: func(p *Pass) {
			o := p.Authority.Objects
			machines := machinesOf(p)
			for row := range o.Len() {
				if len(machines) == 0 || o.ClassOf(row) != estate.Computer {
					continue
				}
				m := machines[govern.MachineName(p.Authority, row)]
				if m == nil || m.Head == nil {
					continue
				}
				own := m.Head
				configured, _ := p.Templates.ConfiguredOn(row)
				for _, id := range SortedSettings(configured) {
					c, fact := configured[id], own.Settings[id]
					if c.Open != "" || c.Problem != "" || fact.Problem != "" || !fact.Value.IsSet() || fact.Value == c.Value ||
						!setting.Get(id).Exists(setting.WindowsMachine) {
						continue
					}
					s := setting.Get(id)
					p.report(Finding{Settings: []setting.ID{id}, Observed: s.Text(fact.Value),
						Reason: fmt.Sprintf("%s on %s: %s is configured by %s, %s is enforced", strings.ToLower(s.Title), govern.MachineName(p.Authority,
							row),
							s.Text(c.Value), c.By.Name(), s.Text(fact.Value)),
						Remedy:   "Find out why the template does not take on the machine, and collect its export again.",
						Evidence: []estate.Cite{c.Cite, fact.Cite}},
						govern.MachineName(p.Authority, row)+" "+string(id), nil)
				}
			}
		},
	},
}

func sharedPrecedence(p *Pass) {
	policies := p.policies()
	reached := map[*estate.Policy][]int{} // by policies that share theirs, the rows in order
	reaches := func(policy *estate.Policy) []int {
		rows, ok := reached[policy]
		if !ok {
			rows = p.Resolution.Reaches(policy)
			reached[policy] = rows
		}
		return rows
	}
	for i, x := range policies {
		for _, y := range policies[i+1:] {
			if x.Precedence == nil || y.Precedence == nil || *x.Precedence != *y.Precedence {
				continue
			}
			first, second := x, y
			if slices.Compare(y.GUID[:], x.GUID[:]) < 0 {
				first, second = y, x
			}
			var both []int
			rest := reaches(second)
			for _, row := range reaches(first) {
				for len(rest) > 0 && rest[0] < row {
					rest = rest[1:]
				}
				if len(rest) > 0 && rest[0] == row {
					both = append(both, row)
				}
			}
			f := Finding{Evidence: []estate.Cite{first.Cite, second.Cite}, Remedy: "Give every fine-grained policy a precedence of its own."}
			winner := first.Name + " wins, by its GUID alone"
			if x.GUID == (estate.GUID{}) || y.GUID == (estate.GUID{}) || x.GUID == y.GUID {
				winner = "which one wins is not known, since a GUID is missing or the same"
			}
			if len(both) > 0 {
				f.Severity = baseline.Serious
				f.Reason = fmt.Sprintf("%s and %s both have precedence %d and meet in %s: %s", first.Name, second.Name, *x.Precedence,
					number(len(both), "account"), winner)
			} else {
				f.Reason = fmt.Sprintf("%s and %s both have precedence %d; no account is reached by both yet. Where one is, %s", first.Name,
					second.Name, *x.Precedence, winner)
			}
			p.report(f, first.Name+" and "+second.Name, both)
		}
	}
}

// pulledOut finds privileged accounts that a stricter policy reaches and a
// weaker one governs.
func pulledOut(p *Pass) {
	settings := map[*estate.Policy]*govern.Scope{}
	for _, policy := range p.policies() {
		settings[policy] = p.ScopeUnder(p.index, policy)
	}
	type pair struct{ won, lost *estate.Policy }
	weaker := map[pair]bool{}
	rows := map[pair][]int{}
	for _, row := range p.accounts(func(row int) bool { tier, _ := p.Tiering.Of(row); return tier == govern.Privileged }) {
		won := p.Resolution.Of(row).Policy
		if won == nil {
			continue
		}
		for _, lost := range p.Resolution.Surely(row) {
			both := pair{won, lost}
			is, known := weaker[both]
			if !known {
				is = len(weakerIn(settings[won], settings[lost])) > 0 && len(weakerIn(settings[lost], settings[won])) == 0
				weaker[both] = is
			}
			if is {
				rows[both] = append(rows[both], row)
			}
		}
	}
	var pairs []pair
	for k := range rows {
		pairs = append(pairs, k)
	}
	slices.SortFunc(pairs, func(x, y pair) int {
		return cmp.Or(strings.Compare(x.won.Origin, y.won.Origin), strings.Compare(x.lost.Origin, y.lost.Origin))
	})
	for _, k := range pairs {
		ids := weakerIn(settings[k.won], settings[k.lost])
		p.report(Finding{Settings: ids, Observed: observed(settings[k.won], ids),
			Reason: fmt.Sprintf("%s reaches these privileged accounts, but %s governs them and is weaker: %s", k.lost.Name, k.won.Name,
				compared(settings[k.won], settings[k.lost], ids)),
			Mend:     &exposure.Change{Set: valuesOf(settings[k.lost], ids)},
			Remedy:   fmt.Sprintf("Take the accounts out of the groups of %s, or give %s the better precedence.", k.won.Name, k.lost.Name),
			Evidence: []estate.Cite{k.won.Cite, k.lost.Cite}}, k.won.Name+" over "+k.lost.Name, rows[k])
	}
}

// valuesOf are the values of settings in a scope.
func valuesOf(s *govern.Scope, ids []setting.ID) map[setting.ID]setting.Value {
	all := map[setting.ID]setting.Value{}
	for _, id := range ids {
		all[id] = s.Now(id)
	}
	return all
}

// weakerIn returns the settings in which s is weaker than other, of those that
// a fine-grained policy holds.
func weakerIn(s, other *govern.Scope) []setting.ID {
	var ids []setting.ID
	for _, row := range setting.Table() {
		if !row.Exists(setting.WindowsFineGrained) || govern.Dormant(s.Settings, row.ID) || govern.Dormant(other.Settings, row.ID) {
			continue
		}
		x, y := s.Settings[row.ID], other.Settings[row.ID]
		if x.Missing != govern.Present || y.Missing != govern.Present {
			continue
		}
		if order, ok := row.Compare(x.Value, y.Value); ok && order < 0 {
			ids = append(ids, row.ID)
		}
	}
	return ids
}

func observed(s *govern.Scope, ids []setting.ID) string {
	var words []string
	for _, id := range ids {
		words = append(words, string(id)+" "+setting.Get(id).Text(s.Settings[id].Value))
	}
	return strings.Join(words, ", ")
}

func compared(s, other *govern.Scope, ids []setting.ID) string {
	var words []string
	for _, id := range ids {
		row := setting.Get(id)
		words = append(words, fmt.Sprintf("%s %s against %s", id, row.Text(s.Settings[id].Value), row.Text(other.Settings[id].Value)))
	}
	return strings.Join(words, ", ")
}

func evidenceOf(s *govern.Scope, ids []setting.ID) []estate.Cite {
	var all []estate.Cite
	for _, id := range ids {
		if c := s.Settings[id].Cite; c.File != "" {
			all = append(all, c)
		}
	}
	return all
}

// answer returns the DN of the policy that the directory itself named.
func (p *Pass) answer(told uint32) string {
	if told == 0 {
		return ""
	}
	return estate.NormalDN(p.Authority.Policies[told-1].DN)
}

func originOf(p *estate.Policy) string {
	if p == nil {
		return ""
	}
	return estate.NormalDN(p.Origin)
}

// told names what the directory itself says of an account.
func (p *Pass) told(row int) string {
	if n := p.Authority.Objects.Resultant.At(row); n > 0 {
		return estate.NameOf(p.Authority.Policies[n-1].DN)
	}
	return policyName(nil)
}

func policyName(p *estate.Policy) string {
	if p == nil {
		return "the domain's default"
	}
	return p.Name
}

func by(id setting.ID, won, lost govern.Linked) string {
	if won.Prefers(id) && !lost.Prefers(id) {
		return "preferences, which are applied after all else"
	}
	if won.Link.Enforced && !lost.Link.Enforced {
		return "an enforced link"
	}
	return fmt.Sprintf("link order %d before %d", won.Order, lost.Order)
}

func machineList(a *estate.Authority, rows []int) string {
	if len(rows) == 0 {
		return "no machine"
	}
	var list []string
	for _, row := range rows[:min(len(rows), mostExamples)] {
		list = append(list, govern.MachineName(a, row))
	}
	text := number(len(rows), "machine") + " (" + strings.Join(list, ", ")
	if len(rows) > len(list) {
		text += ", …"
	}
	return text + ")"
}

// openly adds that something is not certain.
func openly(open string) string {
	if open == "" {
		return ""
	}
	return " (not certain: " + open + ")"
}

// mayReach says how many accounts a gap leaves undecided.
func mayReach(rows []int) string {
	if len(rows) == 0 {
		return ""
	}
	return "; what governs " + number(len(rows), "account") + " is not known for it"
}

// concerned leaves the accounts out where none is concerned: then they are not the
// point.
func concerned(rows []int) []int {
	if len(rows) == 0 {
		return nil
	}
	return rows
}

// doubtsOn reports the objects on which it hangs what governs accounts.
func (p *Pass) doubtsOn(kind govern.DoubtKind, what, remedy string) {
	rows := map[int][]int{}
	policy := map[int]string{}
	for _, d := range p.resolve().doubted {
		if d.Kind == kind {
			rows[d.Row] = append(rows[d.Row], d.rows...)
			if d.Policy != nil && policy[d.Row] == "" {
				policy[d.Row] = d.Policy.Name
			}
		}
	}
	for _, row := range sortedKeys(rows) {
		slices.Sort(rows[row])
		p.report(Finding{Reason: fmt.Sprintf("%s may reach accounts through %s, %s", cmp.Or(policy[row], "a policy"), p.nameOf(row), what) +
			mayReach(rows[row]),
			Severity: p.gravest(rows[row], baseline.Serious), Remedy: remedy, Evidence: []estate.Cite{p.Authority.CiteOf(row)}},
			p.Authority.DN(row), rows[row])
	}
}

func isAre(n int) string {
	if n == 1 {
		return "is"
	}
	return "are"
}

func number(n int, noun string) string {
	if n != 1 {
		noun += "s"
	}
	return fmt.Sprintf("%d %s", n, noun)
}

func SortedSettings[V any](m map[setting.ID]V) []setting.ID {
	return slices.SortedFunc(maps.Keys(m), setting.Order)
}

func sortedKeys[K cmp.Ordered, V any](m map[K]V) []K { return slices.Sorted(maps.Keys(m)) }

// mostMisleading returns the machine that displays most settings otherwise than they
// govern a scope, and those settings.
func mostMisleading(all []estate.Display, s *govern.Scope) (worst *estate.Display, ids []setting.ID) {
	for i := range all {
		var differ []setting.ID
		for _, row := range setting.Table() {
			shown, here := all[i].Settings[row.ID], s.Settings[row.ID]
			if shown.Problem == "" && shown.Value.IsSet() && here.Missing == govern.Present && !here.Configured && shown.Value != here.Value {
				differ = append(differ, row.ID)
			}
		}
		if len(differ) > len(ids) {
			worst, ids = &all[i], differ
		}
	}
	return worst, ids
}

// machines are some, with a line about the first.
type machines struct {
	rows []int
	cite estate.Cite
}

// managed tells of the machines whose local administrator no policy gives a managed
// password, and of those of which that is not known.
func managed(p *Pass) (none, open machines) {
	o := p.Authority.Objects
	for row := range o.Len() {
		m := p.Templates.Machine(row)
		if o.ClassOf(row) != estate.Computer || m.Controller() || o.FlagsOf(row)&estate.Disabled != 0 {
			continue
		}
		links := p.Templates.At(p.Authority.Parents[o.Parent.At(row)], []govern.Machine{m})
		configured, unseen := p.Templates.ConfiguredOn(row)
		v, to := configured[setting.ManagedAdmin], &none
		switch {
		case v != nil && v.Open == "" && v.Problem == "" && v.Value != setting.Word("off"):
			continue
		case v != nil && v.Open != "", v != nil && v.Problem != "", v == nil && (unseen != "" || slices.ContainsFunc(links, hidden)):
			to = &open
		}
		if to.rows == nil {
			if to.cite = p.Authority.CiteOf(row); v != nil {
				to.cite = v.Cite
			}
		}
		to.rows = append(to.rows, row)
	}
	return none, open
}

// hidden reports whether a linked policy may set what was not seen of it.
func hidden(l govern.Linked) bool { return l.Idle == "" && l.RegistryHidden() }

// machinesOf are the Windows machines of the evidence by the names that computers of the
// domain may have, but for those of which another domain has a computer, too: whose export
// that is, nothing tells.
func machinesOf(p *Pass) map[string]*estate.Authority {
	all := map[string]*estate.Authority{}
	for _, a := range p.Estate.Authorities {
		if a.Kind == estate.Machine && a.Platform == setting.WindowsMachine {
			all[a.Name] = a
		}
	}
	for _, a := range p.Estate.Authorities {
		if len(all) == 0 || a.Kind != estate.Domain || a == p.Authority {
			continue
		}
		for row := range a.Objects.Len() {
			if a.Objects.ClassOf(row) == estate.Computer {
				delete(all, govern.MachineName(a, row))
			}
		}
	}
	return all
}
