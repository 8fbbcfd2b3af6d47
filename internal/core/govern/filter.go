package govern

import (
	"strconv"
	"strings"

	"sternledger/internal/core/estate"
)

// This file decides whether a linked policy applies to a machine: whether the
// machine may read and apply it (MS-GPOL 3.2.5.1.6, security filtering), and
// whether a WMI filter stands before it (3.2.5.1.7), whose answer no directory
// holds.

// Machine is whom a linked policy would act on.
type Machine struct {
	row        int  // of the computer; estate.NotFound: one that the evidence does not hold
	controller bool // one of the domain's controllers
}

// controllersOf are the domain's controllers in the evidence; where it holds
// none, one of which no more is known than that it is one.
func (t *Templates) controllersOf() []Machine {
	if t.machines == nil {
		o := t.domain.Objects
		for row := range o.Len() {
			if o.ClassOf(row) == estate.Computer && isController(t.domain, row) {
				t.machines = append(t.machines, Machine{row, true})
			}
		}
		if t.machines == nil {
			t.machines = []Machine{{estate.NotFound, true}}
		}
	}
	return t.machines
}

// serverTrust marks a domain controller's account (userAccountControl), readOnly that of one
// that holds no secrets (MS-ADTS 2.2.16). Its primary group tells it, too.
const (
	serverTrust         = 0x2000
	readOnly            = 0x4000000
	readOnlyControllers = 521
)

// isController reports whether a computer is a controller of its domain: by its role, wherever
// it lies.
func isController(a *estate.Authority, row int) bool {
	primary := a.Objects.Primary.At(row)
	return a.Objects.Control.At(row)&(serverTrust|readOnly) != 0 || primary == domainControllers || primary == readOnlyControllers
}

// Doubts about a linked policy.
const (
	filtersUnseen  = "linked; filters not in evidence"
	wmiDecides     = "linked; its WMI filter decides on the machine"
	groupsDecide   = "linked; whether its security filter lets it through depends on groups that are not all in the evidence"
	templateUnseen = "linked; its template is not in the evidence"
	registryUnseen = "linked; what it sets in the registry is not in the evidence"
	keptOut        = "its security filter keeps it from them"
)

// applies says whether a link's policy acts on all of the machines, and, where
// that is not sure, why.
func (t *Templates) applies(c *estate.Container, machines []Machine) (grade, string) {
	if c == nil || !c.Filtered {
		return maybe, filtersUnseen
	}
	all := sure
	none := true
	for _, m := range machines {
		got := t.mayApply(c, m)
		all, none = min(all, got), none && got == no
	}
	switch {
	case none:
		return no, keptOut
	case all != sure:
		return maybe, groupsDecide
	case c.WMIFilter != "":
		return maybe, wmiDecides
	case !c.Whole:
		return maybe, filtersUnseen
	}
	return sure, ""
}

// mayApply plays a policy's access list for a machine: with those groups of
// which it is not known whether they hold it, in every way.
func (t *Templates) mayApply(c *estate.Container, m Machine) grade {
	grades := make([]grade, len(c.Access))
	for i, ace := range c.Access {
		grades[i] = t.holds(ace.SID, m)
	}
	outcomes := map[bool]bool{}
	for _, how := range []struct{ allow, deny bool }{{false, false}, {true, false}, {false, true}, {true, true}} {
		granted := func(right func(estate.ACE) bool) bool {
			for i, ace := range c.Access {
				counts := grades[i] == sure || grades[i] == maybe && (ace.Deny && how.deny || !ace.Deny && how.allow)
				if counts && right(ace) {
					return !ace.Deny
				}
			}
			return false
		}
		outcomes[granted(func(a estate.ACE) bool { return a.Read }) && granted(func(a estate.ACE) bool { return a.Apply })] = true
	}
	switch {
	case len(outcomes) > 1:
		return maybe
	case outcomes[true]:
		return sure
	}
	return no
}

// Well-known SIDs (MS-DTYP 2.4.2.4) that hold every machine of a domain, or
// every controller; and those that hold no machine.
var (
	everyMachine    = []string{"S-1-1-0", "S-1-5-11"}
	everyController = []string{"S-1-5-9"}
)

// Last parts of the SIDs of a domain's groups that machines are in from the
// first.
const (
	domainComputers   = 515
	domainControllers = 516
)

// holds says whether a SID of an access list stands for a machine.
func (t *Templates) holds(sid string, m Machine) grade {
	for _, s := range everyMachine {
		if s == sid {
			return sure
		}
	}
	for _, s := range everyController {
		if s == sid && m.controller {
			return sure
		}
	}
	a := t.domain
	text, own := strings.CutPrefix(sid, a.SID+"-")
	if short, is := strings.CutPrefix(sid, "-"); is { // as SDDL names a domain's own group
		text, own = short, true
	}
	if !own {
		if strings.HasPrefix(sid, "S-1-5-21-") || sid == "S-1-5-32-554" {
			return maybe // of another domain, or one that may hold everybody
		}
		return no
	}
	n, err := strconv.ParseUint(text, 10, 32)
	rid := uint32(n)
	switch {
	case err != nil:
		return maybe
	case rid == domainControllers && m.controller:
		return sure
	case rid == domainComputers && !m.controller && (m.row == estate.NotFound || a.Objects.Primary.At(m.row) == domainComputers):
		return sure
	}
	if m.row == estate.NotFound {
		return maybe
	}
	if a.Objects.RID.At(m.row) == rid {
		return sure
	}
	return t.inGroup(rid, m.row)
}

// inGroup says whether the group of that RID holds a machine, through any nest.
func (t *Templates) inGroup(rid uint32, machine int) grade {
	o := t.domain.Objects
	if t.byRID == nil {
		t.byRID = groupsByRID(t.domain)
	}
	group, found := t.byRID[rid]
	if primary, ok := primaryOf(t.domain, t.byRID, machine); ok && found && primary == int(group) {
		return sure
	}
	// Upwards from the machine, over what is known.
	seen, open := map[int]bool{}, false
	for queue := []int{machine}; len(queue) > 0; queue = queue[1:] {
		open = open || o.FlagsOf(queue[0])&estate.HoldersShown == 0
		for above := range o.GroupsOf(queue[0]) {
			if found && above == int(group) {
				return sure
			}
			if !seen[above] {
				seen[above] = true
				queue = append(queue, above)
			}
		}
	}
	if !open {
		return no
	}
	if !found {
		for row := range o.Len() { // an account or computer of its own, then
			if o.RID.At(row) == rid && o.ClassOf(row) != estate.Group {
				return no
			}
		}
		return maybe
	}
	// Downwards from the group: is everything inside of it in the evidence?
	inside := map[int]bool{int(group): true}
	for again := true; again; {
		again = false
		for row := range o.Len() {
			if inside[row] || o.ClassOf(row) != estate.Group && o.FlagsOf(row)&(estate.Unseen|estate.Unclassified) == 0 {
				continue
			}
			for above := range o.GroupsOf(row) {
				if inside[above] {
					inside[row], again = true, true
					break
				}
			}
		}
	}
	for row := range inside {
		if o.FlagsOf(row)&(estate.Unseen|estate.Unclassified|estate.MembersPart|estate.LooseMembers) != 0 {
			return maybe
		}
	}
	return no
}
