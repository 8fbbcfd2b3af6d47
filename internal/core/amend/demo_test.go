package amend_test

import (
	"fmt"
	"strings"
	"testing"

	"sternledger/internal/assess"
	"sternledger/internal/custody"
	"sternledger/internal/demotest"
)

// What is planned for the demo: each amendment with its places, what it settles and
// brings, whom it hits; what is to be decided; what needs evidence.
func TestPlanForTheDemo(t *testing.T) {
	e := demotest.Demo(t)
	if _, err := assess.Weigh(e, custody.WeighOptions{}); err != nil {
		t.Fatal(err)
	}
	x, err := assess.Amend(e, assess.AmendOptions{})
	if err != nil {
		t.Fatal(err)
	}
	lines := []string{fmt.Sprintf("%d findings, %d settled, %d graves left, exact %v, worse %v", x.Plan.Findings, x.Settled, x.Graves,
		x.Plan.Exact, x.Worse)}
	for _, a := range x.Plan.Amendments {
		var first, settles, brings, scopes []string
		for _, f := range a.First {
			first = append(first, f.Name)
		}
		for _, f := range a.Settles {
			settles = append(settles, f.Fingerprint)
		}
		for i := range a.Brings {
			brings = append(brings, a.Brings[i].Fingerprint)
		}
		for _, s := range a.Scopes {
			scopes = append(scopes, s.Name())
		}
		lines = append(lines, fmt.Sprintf("%s %s %s, %s: %s to %s, first %v, severity %s", a.Name, a.Fingerprint, a.Title(), a.Holder(),
			a.Was(), a.Becomes(), first, a.Severity),
			fmt.Sprintf("  settles %v, brings %v", settles, brings), "  scopes: "+strings.Join(scopes, "; "),
			fmt.Sprintf("  accounts %d, privileged %d, next %d, services %v, %s, notes %v", a.Accounts, a.Privileged,
				x.Touched[a].Next, x.Touched[a].Services, x.Touched[a].What, a.Notes))
		for _, s := range a.Spots {
			lines = append(lines, fmt.Sprintf("  at %s, %s %s, %s %s, rows %v, via %s", s.Policy(), s.Holder, s.Where, s.Cite, s.Unit, s.Rows,
				s.Via))
		}
	}
	for _, d := range x.Plan.Decisions {
		lines = append(lines, fmt.Sprintf("decide, %s, %d findings: %s | %s", d.Severity, len(d.Findings), d.Title, d.Choices))
	}
	for _, f := range x.Plan.Evidence {
		lines = append(lines, "evidence: "+f.Fingerprint+" "+f.Head()+" "+f.ScopeName())
	}
	demotest.Same(t, "demo.txt", lines)
}
