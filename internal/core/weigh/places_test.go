package weigh

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/coretest"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
)

// Demands are judged where the settings are: those of a domain in the domain,
// even for accounts that a tenant has a copy of.
func TestDemandsOnSynchronisedAccounts(t *testing.T) {
	b := estate.NewBuilder()
	coretest.Settle(b, "quay.example", estate.Domain, map[setting.ID]setting.Value{"min-length": setting.Number(8)},
		map[string]estate.Flag{"ada": 0}).PoliciesLie = true
	coretest.Settle(b, "t", estate.Tenant, map[setting.ID]setting.Value{"min-length": setting.Number(8), "blocklist": setting.Off,
		"expiry-for-synced": setting.Off}, map[string]estate.Flag{"ada": estate.Synced, "bo": 0})
	survey := govern.NewSurvey(&estate.Estate{Authorities: b.Finish()}, func(*estate.Authority) estate.Dialect { return estate.Windows }, nil)
	demands, err := baseline.Parse("t.yaml", []byte("id: t\ntitle: T\nversion: 1\nfor: {platforms: [cloud-directory]}\ndemands:\n"+
		"- {setting: min-length, at-least: 14, severity: grave, why: w.}\n- {setting: blocklist, exactly: \"on\", severity: grave, "+
		"why: w.}\n- {setting: expiry-for-synced, exactly: \"on\", severity: grave, why: w.}\n"))
	if err != nil {
		t.Fatal(err)
	}
	r := Run(survey, Choice{Baselines: against(demands), Expect: check.Expectation{Age: func(string) int64 { return 0 }}})
	var got []string
	for _, v := range r.Verdicts {
		got = append(got, fmt.Sprintf("%s %s %s", v.Scope.Name(), v.Demand.Setting, v.Kind))
	}
	want := []string{"t / own min-length weak", "t / own blocklist weak", "t / own expiry-for-synced weak",
		"t / own of quay.example expiry-for-synced weak"}
	if !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
}

// A waiver that an earlier version recorded, which did not know kinds of places,
// still covers its finding; where it could mean two, it covers neither.
func TestWaiversOnOldFingerprints(t *testing.T) {
	for kinds, want := range map[string]string{"machine": "in force waived", "machine ldap": "ambiguous missing missing"} {
		b := estate.NewBuilder()
		for kind := range strings.FieldsSeq(kinds) {
			coretest.Settle(b, "quay", estate.Kind(kind), map[setting.ID]setting.Value{"min-length": setting.Number(14)},
				map[string]estate.Flag{"ada": 0})
		}
		survey := govern.NewSurvey(&estate.Estate{Authorities: b.Finish()}, func(*estate.Authority) estate.Dialect { return "" }, nil)
		r := Run(survey, Choice{Baselines: against(), Expect: check.Expectation{Age: func(string) int64 { return 0 }}})
		r.Findings = slices.DeleteFunc(r.Findings, func(f check.Finding) bool { return f.Check != "not-weighed" })
		old := r.Findings[0]
		r.Waive([]check.Waiver{{Fingerprint: old.Alias, Check: old.Check, Kind: check.Missing, Severity: old.Severity, Until: "2027-06-30"}})
		got := string(r.Waivers[0].State)
		for _, f := range r.Findings {
			got += " " + string(f.Kind)
		}
		if got != want || old.Alias == old.Fingerprint {
			t.Errorf("%s: %s, want %s", kinds, got, want)
		}
	}
}
