package fieldmap

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
)

// Who checks an account's password, and what is remarked where that is not known.
func TestWhoChecksThePassword(t *testing.T) {
	const (
		far, open, own = "federated", "home-not-in-evidence", ""
		tenant         = `{"value": [{"id": "x.example", "isInitial": true, "authenticationType": "Managed"}, {"id": "far.example", "isInitial": false, "authenticationType": "Federated"}]}`
		users          = `{"value": [{"id": "1", "userPrincipalName": "ada@far.example", "accountEnabled": true, "userType": "Member", "onPremisesSyncEnabled": null, "passwordPolicies": null},
 {"id": "2", "userPrincipalName": "bo@x.example", "accountEnabled": true, "userType": "Member", "onPremisesSyncEnabled": null, "passwordPolicies": null}]}`
		groups   = `{"@odata.context": "https://d/$metadata#groups(", "value": [{"id": "g", "displayName": "pilots", "securityEnabled": true, "members": [{"id": "1"}]}, {"id": "h", "displayName": "others", "securityEnabled": true, "members": []}]}`
		rollouts = `{"@odata.context": "https://d/$metadata#policies/featureRolloutPolicies", "value": [{"feature": "%s", "isEnabled": %s, "isAppliedToOrganization": %s %s}]}`
		units    = `{"organizationUnits": [{"orgUnitId": "id:1", "orgUnitPath": "/"}, {"orgUnitId": "id:2", "orgUnitPath": "/a"}]}`
		people   = `{"users": [{"id": "1", "primaryEmail": "ada@x.example", "orgUnitPath": "/a", "isAdmin": false}, {"id": "2", "primaryEmail": "bo@x.example", "orgUnitPath": "/", "isAdmin": true}]}`
		policy   = `{"policies": [{"policyQuery": {"orgUnit": "orgUnits/1"}, "setting": {"type": "settings/security.password", "value": {"minimumLength": 9}}}]}`
	)
	rollout := func(feature, enabled, everybody, rest string) []string {
		return []string{"domains.json", tenant, "users.json", users, "groups.json", groups, "rollouts.json", fmt.Sprintf(rollouts, feature, enabled, everybody, rest)}
	}
	suite := func(assigned string) []string {
		return []string{"users.json", people, "units.json", units, "policies.json", policy, "sso.json", `{"inboundSsoAssignments": [` + assigned + `]}`}
	}
	realm := func(user string) []string {
		return []string{"realm.json", `{"realm": "quay", "bruteForceProtected": true, "users": [{"id": "1", "username": "ada", "enabled": true, ` + user +
			`}, {"id": "2", "username": "bo", "enabled": true, "credentials": [{"type": "password"}]}]}`}
	}
	provider := func(kind string) []string {
		return []string{"users.json", `[{"id": "1", "status": "ACTIVE", "profile": {"login": "ada"}, "credentials": {"provider": {` + kind + `}}},
  {"id": "2", "status": "ACTIVE", "profile": {"login": "bo"}, "credentials": {"provider": {"type": "OKTA"}}}]`}
	}
	for name, c := range map[string]struct {
		files   []string
		ada, bo string
		remark  string
	}{
		"federated, rollouts unseen":    {[]string{"domains.json", tenant, "users.json", users}, far, own, "rollouts is not in the evidence"},
		"no rollout":                    {rollout("passwordHashSync", "false", "true", ""), far, own, ""},
		"a rollout for everybody":       {rollout("passwordHashSync", "true", "true", ""), far + " " + open, own, ""},
		"a rollout of a later feature":  {rollout("tideSync", "true", "true", ""), far + " " + open, own, ""},
		"a rollout of names":            {rollout("emailAsAlternateId", "true", "true", ""), far, own, ""},
		"a rollout for her group":       {rollout("passthroughAuthentication", "true", "false", `, "appliesTo": [{"id": "g"}]`), far + " " + open, own, ""},
		"a rollout for another":         {rollout("passthroughAuthentication", "true", "false", `, "appliesTo": [{"id": "h"}]`), far, own, ""},
		"a rollout, for whom is unseen": {rollout("passthroughAuthentication", "true", "false", ""), far + " " + open, own, ""},
		"a rollout that lacks fields": {[]string{"domains.json", tenant, "users.json", users, "groups.json", groups, "rollouts.json",
			`{"value": [{"feature": "passwordHashSync", "isAppliedToOrganization": true}]}`}, far + " " + open, own, ""},
		"sign-on of her unit":            {suite(`{"ssoMode": "SAML_SSO", "targetOrgUnit": "orgUnits/2"}`), far, own, ""},
		"sign-on of all":                 {suite(`{"ssoMode": "SAML_SSO", "targetOrgUnit": "orgUnits/1"}`), far, open, ""},
		"sign-on of all but her unit":    {suite(`{"ssoMode": "OIDC_SSO", "targetOrgUnit": "orgUnits/1"}, {"ssoMode": "SSO_OFF", "targetOrgUnit": "orgUnits/2"}`), own, open, ""},
		"sign-on of a group":             {suite(`{"ssoMode": "SAML_SSO", "targetGroup": "groups/1"}`), open, open, ""},
		"sign-on of a unit that is not":  {suite(`{"ssoMode": "SAML_SSO", "targetOrgUnit": "orgUnits/9"}`), open, open, ""},
		"sign-on unseen":                 {suite("")[:6], own, own, "sign-on is not in the evidence"},
		"a directory behind the realm":   {realm(`"federationLink": "l", "credentials": []`), far, own, ""},
		"and a password of the realm":    {realm(`"federationLink": "l", "credentials": [{"type": "password"}]`), far + " " + open, own, ""},
		"brokered, without a password":   {realm(`"federatedIdentities": [{"identityProvider": "p"}], "credentials": [{"type": "otp"}]`), far, own, ""},
		"brokered, with a password":      {realm(`"federatedIdentities": [{"identityProvider": "p"}], "credentials": [{"type": "password"}]`), own, own, ""},
		"brokered, credentials unseen":   {realm(`"federatedIdentities": [{"identityProvider": "p"}]`), open, own, ""},
		"a directory behind a provider":  {provider(`"type": "LDAP"`), open, own, "LDAP, which is not understood"},
		"a hash that was brought along":  {provider(`"type": "IMPORT"`), own, own, ""},
		"a provider that is not told of": {provider(`"name": "x"`), open, own, "is not said"},
	} {
		b := estate.NewBuilder()
		if err := read(shipped(t), tree(c.files...), b); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		a := b.Finish()[0]
		var remarks []string
		for _, m := range a.Remarks {
			if m.Kind == estate.HomeUnseen {
				remarks = append(remarks, m.Text)
			}
		}
		if said := strings.Join(remarks, "; "); c.remark == "" && said != "" || !strings.Contains(said, c.remark) {
			t.Errorf("%s: remarked %q, want %q", name, said, c.remark)
		}
		for row := range a.Objects.Len() {
			if a.Objects.ClassOf(row) != estate.Account {
				continue
			}
			who, _, _ := strings.Cut(a.Objects.Name.At(row), "@")
			want := map[string]string{"ada": c.ada, "bo": c.bo}[who]
			flags := slices.DeleteFunc(a.Objects.FlagsOf(row).Names(), func(flag string) bool { return flag != far && flag != open })
			if got := strings.Join(flags, " "); got != want {
				t.Errorf("%s: %s is %q, want %q", name, who, got, want)
			}
		}
	}
}

// By which way synchronised accounts are checked: agents that only provision pass nothing through.
func TestWayOfSynchronisedAccounts(t *testing.T) {
	const agents = `{"@odata.context": "https://d/$metadata#onPremisesPublishingProfiles/agents", "value": [%s]}`
	agent := func(status, kind string) string {
		return fmt.Sprintf(`{"machineName": "m", "status": %q, "supportedPublishingTypes": [%q]}`, status, kind)
	}
	for _, c := range []struct {
		agents string
		want   estate.Way
	}{
		{"", estate.PasswordHash},
		{agent("active", "authentication"), estate.PassThrough},
		{agent("inactive", "authentication"), ""},
		{agent("active", "provisioning"), estate.PasswordHash},
		{agent("active", "provisioning") + "," + agent("inactive", "authentication"), ""},
		{agent("inactive", "authentication") + "," + agent("active", "authentication"), estate.PassThrough},
	} {
		b := estate.NewBuilder()
		all := tree("agents.json", fmt.Sprintf(agents, c.agents), "domains.json", `{"value": [{"id": "x.example", "isInitial": true, "authenticationType": "Managed"}]}`,
			"sync.json", `{"@odata.context": "https://d/$metadata#directory/onPremisesSynchronization", "value": [{"features": {"passwordSyncEnabled": true}}]}`)
		if err := read(shipped(t), all, b); err != nil {
			t.Fatal(err)
		}
		if got := b.Finish()[0].Sync; got != c.want {
			t.Errorf("agents %s: %q, want %q", c.agents, got, c.want)
		}
	}
}

// Where the list of a role's holders may go on, or names what may be a group, that is said.
func TestRolesNotKnownInFull(t *testing.T) {
	many := strings.TrimSuffix(strings.Repeat(`{"id": "1"},`, 20), ",")
	for name, members := range map[string]string{"a list of exactly the limit": many, "what may be a group": `{"id": "far"}`} {
		b := estate.NewBuilder()
		all := tree("domains.json", `{"value": [{"id": "x.example", "isInitial": true, "authenticationType": "Managed"}]}`,
			"users.json", `{"value": [{"id": "1", "userPrincipalName": "ada@x.example", "accountEnabled": true}]}`,
			"roles.json", `{"value": [{"displayName": "Tide Keeper", "roleTemplateId": "r", "members": [`+members+`]}]}`)
		if err := read(shipped(t), all, b); err != nil {
			t.Fatal(err)
		}
		if said := fmt.Sprint(b.Finish()[0].Remarks); !strings.Contains(said, "who holds the role r is not known in full") {
			t.Errorf("%s: %s", name, said)
		}
	}
}

// A role that a group holds is held by those in it, and by those in its groups.
func TestRolesThroughGroups(t *testing.T) {
	b := estate.NewBuilder()
	all := tree("domains.json", `{"value": [{"id": "x.example", "isInitial": true, "authenticationType": "Managed"}]}`,
		"users.json", `{"value": [{"id": "1", "userPrincipalName": "ada@x.example", "accountEnabled": true}, {"id": "2", "userPrincipalName": "bo@x.example", "accountEnabled": true},
  {"id": "3", "userPrincipalName": "cy@x.example", "accountEnabled": true}]}`,
		"groups.json", `{"@odata.context": "https://d/$metadata#groups(", "value": [{"id": "g", "displayName": "keepers", "securityEnabled": true, "members": [{"id": "1"}, {"id": "h"}]},
  {"id": "h", "displayName": "mates", "securityEnabled": true, "members": [{"id": "2"}, {"id": "g"}]}]}`,
		"roles.json", `{"value": [{"displayName": "Tide Keeper", "roleTemplateId": "r", "members": [{"id": "g"}, {"id": "a service"}]}]}`)
	if err := read(shipped(t), all, b); err != nil {
		t.Fatal(err)
	}
	a := b.Finish()[0]
	for row := range a.Objects.Len() {
		if a.Objects.ClassOf(row) != estate.Account {
			continue
		}
		name := a.Objects.Name.At(row)
		if len(a.Remarks) > 0 && strings.Contains(fmt.Sprint(a.Remarks), "not known in full") {
			t.Errorf("all is there: %v", a.Remarks)
		}
		if got, want := a.Objects.FlagsOf(row)&estate.Administrator != 0, name != "cy@x.example"; got != want {
			t.Errorf("%s administers: %t, want %t", name, got, want)
		}
	}
}
