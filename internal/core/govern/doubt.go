package govern

import (
	"fmt"

	"sternledger/internal/core/estate"
)

// Doubt is what the evidence lacks where it does not decide which policy
// governs an account: typed, so that checks can count by it.
type Doubt struct {
	Kind   DoubtKind
	Policy *estate.Policy    // that may reach the account, if the evidence holds it
	Hidden *estate.Reference // that may reach it, if the evidence does not
	Row    int               // the object on which it hangs, or estate.NotFound
	Text   string            // where Kind is OtherDoubt
}

// DoubtKind says what is lacking.
type DoubtKind int

// The kinds of doubts. Those from PoliciesUnproven on are of directory domains.
const (
	NoDoubt          DoubtKind = iota
	OtherDoubt                 // of another kind of authority, told by Text
	PolicyHidden               // something points at a policy that is not in the evidence
	PoliciesUnproven           // neither policies nor the container in which they lie were exported
	PolicyLost                 // earlier evidence held a policy that this does not
	OrderUnknown               // precedence or GUID of a policy were not exported
	TargetsUnknown             // whom a policy names was not exported
	TypeUnknown                // of a group, whether it carries a policy
	DialectAssumed             // whether a group carries a policy depends on the server
	MembersUnknown             // who is in a group was not exported, or not all of it
	PrimaryUnknown             // the account's primary group was not exported
	AccountUnknown             // whether it is a kind of account that policies govern
)

// why words a doubt about an account of the authority.
func (d *Doubt) why(a *estate.Authority) string {
	policy := ""
	switch {
	case d.Policy != nil:
		policy = d.Policy.Name
	case d.Hidden != nil:
		policy = d.Hidden.DN
	}
	object := ""
	if d.Row != estate.NotFound {
		object = a.Objects.Name.At(d.Row)
		if object == "" {
			object = estate.NameOf(a.Objects.RDN.At(d.Row))
		}
	}
	switch d.Kind {
	case PolicyHidden:
		return "a fine-grained policy applies that is not in the evidence: " + policy
	case PoliciesUnproven:
		if a.Cut {
			return "a file of the evidence ends in the middle of a line, and policies may have come after it"
		}
		return "neither fine-grained policies nor the container in which they lie are in the evidence, so one may apply"
	case PolicyLost:
		return "earlier evidence held a fine-grained policy that this evidence does not, and it may still apply: " + policy
	case OrderUnknown:
		return d.Text
	case TargetsUnknown:
		return "whom " + policy + " names is not in the evidence, so it may apply"
	case TypeUnknown:
		return fmt.Sprintf("%s may reach the account through %s, whose type is not in the evidence", policy, object)
	case DialectAssumed:
		return fmt.Sprintf("%s reaches the account through %s on one kind of server and not on the other, and what serves the domain "+
			"is not in the evidence", policy, object)
	case MembersUnknown:
		if !a.Holds(d.Row) {
			return fmt.Sprintf("%s may reach the account through %s, which is not in the evidence", policy, object)
		}
		return fmt.Sprintf("%s may reach the account through %s, whose members are not all in the evidence", policy, object)
	case PrimaryUnknown:
		return policy + " may reach the account through its primary group, which is not in the evidence"
	case AccountUnknown:
		return "what kind of account it is was not exported, and not every kind is governed by fine-grained policies"
	}
	return d.Text
}
