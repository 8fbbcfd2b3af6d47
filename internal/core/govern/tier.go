package govern

import (
	"cmp"
	"path"
	"slices"
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
)

// The tiers that need no entry in the engagement.
const (
	Privileged = "privileged"
	Service    = "service"
	Standard   = "standard"
)

// TierRule says which accounts belong to a tier. Patterns use * and ?.
type TierRule struct {
	Name     string
	Groups   []string // names or DNs, nested membership counts
	Accounts []string // patterns of account names
	Units    []string // DNs, or patterns of the unit's own name; units inside count
	SIDs     []string // of accounts or of groups
}

// administrative are the groups that directories make for administrators, by
// the last part of their SID (MS-ADTS 6.1.1.6), in the domain and in its
// built-in domain.
var administrative = map[uint32]string{
	512: "Domain Admins", 518: "Schema Admins", 519: "Enterprise Admins", 520: "Group Policy Creator Owners",
	526: "Key Admins", 527: "Enterprise Key Admins",
	544: "Administrators", 548: "Account Operators", 549: "Server Operators", 550: "Print Operators", 551: "Backup Operators",
}

// unixAdministrators are the groups whose members Unix machines let act as
// root, as distributions ship them.
var unixAdministrators = []string{"sudo", "wheel", "admin"}

const (
	builtinAdministrator = 500
	domainAdmins         = 512
)

// Tiering sorts one authority's accounts into tiers.
type Tiering struct {
	a     *estate.Authority
	rules []TierRule
	// For each rule: what the row at that place was matched by.
	groups []map[int]string // rows of groups, nested ones included
	units  []map[uint32]string
	direct []map[uint32]string // by the last part of the SID
	byRID  map[uint32]int32
	// elsewhere is by rule what accounts were matched by that groups of other
	// domains hold.
	elsewhere []map[int]string
	everyone  []string // by rule what everybody is matched by: a group of it holds all who sign in
	beyond    string   // a domain that is not in the evidence, and has objects in an administrative group
	lacks     bool     // the domain's administrative groups are not all in the evidence
}

// NewTiering prepares the rules for an authority. The first rule that matches
// wins; privileged is asked first and service last unless the rules name them.
func NewTiering(a *estate.Authority, written []TierRule) *Tiering {
	t := &Tiering{a: a, rules: slices.Clone(written), byRID: groupsByRID(a)}
	named := func(name string) bool {
		return slices.ContainsFunc(t.rules, func(r TierRule) bool { return r.Name == name })
	}
	if !named(Privileged) {
		t.rules = slices.Insert(t.rules, 0, TierRule{Name: Privileged})
	}
	if !named(Service) {
		t.rules = append(t.rules, TierRule{Name: Service})
	}
	t.prepare()
	return t
}

func (t *Tiering) prepare() {
	o := t.a.Objects
	inside := map[int][]int{}
	var groups []int
	var wide []int // what stands for all who sign in
	for row := range o.Len() {
		if class := o.ClassOf(row); t.a.Kind == estate.Domain && class != estate.Account && class != estate.Computer && class != estate.Group &&
			everybody[estate.NameOf(o.RDN.At(row))] != "" {
			wide = append(wide, row)
		}
		if !mayNest(o, row) {
			continue
		}
		groups = append(groups, row)
		for holder := range o.GroupsOf(row) {
			inside[holder] = append(inside[holder], row)
		}
	}
	_, found := t.byRID[domainAdmins]
	t.lacks = !found || t.partly(groups, inside)
	for i := range t.rules {
		rule := &t.rules[i]
		reached := map[int]string{}
		var queue []int
		for _, row := range groups {
			if why := t.named(rule, row); why != "" {
				reached[row] = why
				queue = append(queue, row)
			}
		}
		for ; len(queue) > 0; queue = queue[1:] {
			for _, member := range inside[queue[0]] {
				if _, ok := reached[member]; !ok {
					reached[member] = reached[queue[0]]
					queue = append(queue, member)
				}
			}
		}
		t.groups, t.elsewhere = append(t.groups, reached), append(t.elsewhere, map[int]string{})
		t.everyone = append(t.everyone, t.holdsEverybody(wide, reached))
		units := map[uint32]string{}
		for p, dn := range t.a.Parents {
			if why := inUnit(rule, dn); why != "" {
				units[uint32(p)] = why
			}
		}
		t.units = append(t.units, units)
		direct := map[uint32]string{}
		for _, sid := range rule.SIDs {
			direct[t.ridOf(sid)] = "SID " + sid
		}
		t.direct = append(t.direct, direct)
	}
}

// everybody are the SIDs that hold all who sign in (MS-DTYP 2.4.2.4).
var everybody = map[string]string{"S-1-1-0": "Everyone", "S-1-5-11": "Authenticated Users", "S-1-5-2": "Network", "S-1-5-4": "Interactive",
	"S-1-5-14": "Remote Interactive Logon", "S-1-5-15": "This Organization"}

// holdsEverybody says by which group everybody is reached: one that holds a SID which holds all
// who sign in.
func (t *Tiering) holdsEverybody(wide []int, reached map[int]string) string {
	o := t.a.Objects
	for _, row := range wide {
		who := everybody[estate.NameOf(o.RDN.At(row))]
		if reached[row] != "" {
			return reached[row] + ", which holds " + who
		}
		for holder := range o.GroupsOf(row) {
			if reached[holder] != "" {
				return reached[holder] + ", which holds " + who
			}
		}
	}
	return ""
}

// partly reports whether some who are in the directory's own administrative groups, or in
// groups of theirs, are not in the evidence.
func (t *Tiering) partly(groups []int, inside map[int][]int) bool {
	own, seen := &TierRule{Name: Privileged}, map[int]bool{}
	var queue []int
	for _, row := range groups {
		if t.named(own, row) != "" {
			queue, seen[row] = append(queue, row), true
		}
	}
	for ; len(queue) > 0; queue = queue[1:] {
		if t.a.Objects.FlagsOf(queue[0])&(estate.MembersPart|estate.LooseMembers) != 0 {
			return true
		}
		for _, member := range inside[queue[0]] {
			if !seen[member] {
				queue, seen[member] = append(queue, member), true
			}
		}
	}
	return false
}

// named says by which word of the rule a group is named, if it is.
func (t *Tiering) named(rule *TierRule, row int) string {
	o := t.a.Objects
	rid := o.RID.At(row)
	builtin := o.FlagsOf(row)&estate.BuiltinDomain != 0
	if domain := t.a.Kind == estate.Domain; rule.Name == Privileged && domain && builtin == (rid >= 544) && administrative[rid] != "" {
		return "member of " + administrative[rid]
	} else if rule.Name == Privileged && t.a.Kind == estate.Machine && slices.Contains(unixAdministrators, o.Name.At(row)) {
		return "member of " + o.Name.At(row)
	}
	name, dn := cmp.Or(estate.NameOf(o.RDN.At(row)), o.Name.At(row), o.RDN.At(row), "a group without a name"), ""
	for _, word := range rule.Groups {
		if strings.Contains(word, "=") {
			if dn == "" {
				dn = estate.NormalDN(t.a.DN(row))
			}
			if dn == estate.NormalDN(word) {
				return "member of " + name
			}
		} else if matches(word, name) || matches(word, o.Name.At(row)) {
			return "member of " + name
		}
	}
	for _, sid := range rule.SIDs {
		if rid != 0 && rid == t.ridOf(sid) && !builtin {
			return "member of " + name + " (SID " + sid + ")"
		}
	}
	return ""
}

// ridOf returns the last part of a SID of this domain; 0 for any other.
func (t *Tiering) ridOf(sid string) uint32 {
	last, ok := strings.CutPrefix(sid, t.a.SID+"-")
	if !ok {
		return 0
	}
	rid, _ := wholeNumber(last)
	return rid
}

func wholeNumber(text string) (uint32, bool) {
	n, err := strconv.ParseUint(text, 10, 32)
	return uint32(n), err == nil
}

func matches(pattern, name string) bool {
	ok, _ := path.Match(strings.ToLower(pattern), strings.ToLower(name))
	return ok && name != ""
}

// inUnit says by which word of the rule the place dn lies in a unit.
func inUnit(rule *TierRule, dn string) string {
	for _, word := range rule.Units {
		for rest := dn; rest != ""; {
			at := rest
			var first string
			first, rest = estate.SplitDN(rest)
			if strings.Contains(word, "=") && estate.NormalDN(at) == estate.NormalDN(word) ||
				!strings.Contains(word, "=") && strings.HasPrefix(strings.ToLower(first), "ou=") && matches(word, estate.NameOf(first)) {
				return "in the unit " + estate.NameOf(first)
			}
		}
	}
	return ""
}

// Of returns an account's tier and the rule that gave it.
func (t *Tiering) Of(row int) (tier, why string) {
	for i := range t.rules {
		if why := t.match(i, row); why != "" {
			return t.rules[i].Name, why
		}
	}
	return Standard, "no rule matches"
}

func (t *Tiering) match(i, row int) string {
	o, rule := t.a.Objects, &t.rules[i]
	if len(t.groups[i]) > 0 {
		for group := range o.GroupsOf(row) {
			if why := t.groups[i][group]; why != "" {
				return why
			}
		}
		if group, ok := primaryOf(t.a, t.byRID, row); ok && t.groups[i][group] != "" {
			return t.groups[i][group]
		}
	}
	if why := cmp.Or(t.elsewhere[i][row], t.everyone[i]); why != "" {
		return why
	}
	if rid := o.RID.At(row); rid != 0 && t.direct[i][rid] != "" {
		return t.direct[i][rid]
	}
	if why := t.units[i][o.Parent.At(row)]; why != "" {
		return why
	}
	for _, pattern := range rule.Accounts {
		if matches(pattern, o.Name.At(row)) {
			return "named like " + pattern
		}
	}
	switch {
	case rule.Name == Privileged && (t.a.Kind == estate.Domain || t.a.Platform == setting.WindowsMachine) &&
		o.RID.At(row) == builtinAdministrator:
		return "the built-in administrator"
	case rule.Name == Privileged && t.a.Kind == estate.Domain && o.FlagsOf(row)&estate.AdminCount != 0 &&
		o.FlagsOf(row)&estate.HoldersShown == 0 && t.lacks:
		return "is or was in an administrative group (adminCount), and the groups are not all in the evidence"
	case rule.Name == Privileged && t.beyond != "" && o.FlagsOf(row)&estate.AdminCount != 0:
		return "is or was in an administrative group (adminCount), and groups of the domain " + t.beyond + " are not in the evidence"
	case rule.Name == Privileged && o.FlagsOf(row)&estate.Administrator != 0:
		return "holds an administrative role"
	case rule.Name == Service && o.FlagsOf(row)&estate.ServiceName != 0:
		return "has a service principal name"
	}
	return ""
}
