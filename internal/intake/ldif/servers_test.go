package ldif

import (
	"io"
	"maps"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
)

// answers says of each account which policy governs it, with its length and lock.
func answers(t *testing.T, texts ...string) map[string]string {
	t.Helper()
	b := estate.NewBuilder()
	for _, text := range texts {
		b.StartFile(text[:min(len(text), 30)])
		if err := read(&intake.Source{Path: "x.ldif", In: strings.NewReader(text), Keep: io.Discard, Differs: func() {}}, b); err != nil {
			t.Fatal(err)
		}
	}
	s := govern.NewSurvey(&estate.Estate{Authorities: b.Finish()}, func(*estate.Authority) estate.Dialect { return "" }, nil)
	all := map[string]string{}
	for i, a := range s.Estate.Authorities {
		for row := range a.Objects.Len() {
			if a.Objects.ClassOf(row) != estate.Account {
				continue
			}
			scope, _ := s.ScopeOf(i, row)
			text := scope.PolicyName()
			if scope.Why != "" {
				text = "?"
			} else {
				for _, id := range []setting.ID{"min-length", "lockout-threshold"} {
					if e := scope.Settings[id]; e.Missing == govern.Present {
						text += " " + setting.Get(id).Text(e.Value)
					} else {
						text += " -"
					}
				}
			}
			all[a.Objects.Name.At(row)] = text
		}
	}
	return all
}

func same(t *testing.T, what string, got, want map[string]string) {
	t.Helper()
	if !maps.Equal(got, want) {
		t.Errorf("%s: %v, want %v", what, got, want)
	}
}

const (
	pilots = "dc=pilots,dc=example"
	config = "dn: cn=config\nobjectClass: nsslapdConfig\ncn: config\nnsslapd-port: 389\nnsslapd-rootpw: {X}y\nnsslapd-pwpolicy-local: on\n" +
		"nsslapd-pwpolicy-inherit-global: off\nnsslapd-defaultnamingcontext: " + pilots +
		"\npasswordCheckSyntax: on\npasswordMinLength: 12\npasswordLockout: on\npasswordMaxFailure: 5\n\n"
)

func person(name, under, more string) string {
	return "dn: uid=" + name + "," + under + pilots + "\nobjectClass: inetOrgPerson\nuid: " + name + "\nnsUniqueId: 1\n" + more + "\n"
}

func local(kind, of, under, more string) string {
	return "dn: cn=cn\\3DnsPwPolicyEntry_" + kind + "\\2C" + strings.NewReplacer("=", `\3D`, ",", `\2C`).Replace(of+pilots) +
		",cn=nsPwPolicyContainer," + under + pilots +
		"\nobjectClass: ldapsubentry\nobjectClass: passwordpolicy\ncn: x\n" + more + "\n"
}

// Which of a directory server's policies governs whom, and what is not decided.
func TestLocalPolicies(t *testing.T) {
	people := person("ada", "ou=a,", "") + person("bo", "ou=b,ou=a,", "") + person("cy", "", "")
	policies := local("subtree", "ou=a,", "ou=a,", "passwordCheckSyntax: on\npasswordMinLength: 15\n") +
		local("user", "uid=bo,ou=b,ou=a,", "ou=b,ou=a,", "passwordLockout: on\npasswordMaxFailure: 2\n")
	whole := map[string]string{"ada": "subtree a 15 characters never locks", "bo": "of bo 0 characters 2 failed attempts",
		"cy": "the server's own 12 characters 5 failed attempts"}
	same(t, "whole", answers(t, config, people, policies), whole)
	same(t, "in another order", answers(t, policies+people, config), whole)
	same(t, "inherited", answers(t, strings.Replace(config, "inherit-global: off", "inherit-global: on", 1), people, policies),
		map[string]string{"ada": whole["ada"], "bo": "of bo 12 characters 2 failed attempts", "cy": whole["cy"]})
	same(t, "not heeded", answers(t, strings.Replace(config, "local: on", "local: off", 1), people, policies),
		map[string]string{"ada": whole["cy"], "bo": whole["cy"], "cy": whole["cy"]})
	same(t, "no configuration", answers(t, people, policies), map[string]string{"ada": "?", "bo": "?", "cy": "?"})
	same(t, "no policies", answers(t, config, strings.Replace(people, "uid: bo\n", "uid: bo\npwdpolicysubentry: cn=gone\n", 1)),
		map[string]string{"ada": whole["cy"], "bo": "?", "cy": whole["cy"]})
	same(t, "nothing tells of policies", answers(t, config, strings.ReplaceAll(people, "nsUniqueId: 1\n", "")),
		map[string]string{"ada": "?", "bo": "?", "cy": "?"})
	same(t, "chosen attributes", answers(t, "dn: cn=config\nobjectClass: nsslapdConfig\nnsslapd-defaultnamingcontext: "+pilots+
		"\nnsslapd-pwpolicy-local: off\npasswordMinLength: 12\n\n", people), map[string]string{"ada": "the server's own - -",
		"bo": "the server's own - -", "cy": "the server's own - -"})
}

const realmPolicies = "dn: cn=global_policy,cn=PILOTS.EXAMPLE,cn=kerberos," + pilots +
	"\nobjectClass: krbPwdPolicy\ncn: global_policy\nkrbPwdMinLength: 8\nkrbPwdMaxFailure: 6\n\n" +
	"dn: cn=admins,cn=PILOTS.EXAMPLE,cn=kerberos," + pilots + "\nobjectClass: krbPwdPolicy\ncn: admins\nkrbPwdMinLength: " +
	"16\nkrbPwdMaxFailure: 3\n\n" +
	"dn: cn=crew,cn=PILOTS.EXAMPLE,cn=kerberos," + pilots + "\nobjectClass: krbPwdPolicy\ncn: crew\nkrbPwdMinLength: 10\nkrbPwdMaxFailure: " +
	"0\n\n"

func service(group, priority string) string {
	return "dn: cn=\"cn=" + group + ",cn=groups,cn=accounts," + pilots + "\",cn=cosTemplates,cn=accounts," + pilots +
		"\nobjectClass: cosTemplate\ncosPriority: " + priority + "\nkrbPwdPolicyReference: cn=" + group + ",cn=PILOTS.EXAMPLE,cn=kerberos," +
		pilots + "\n\n"
}

func group(name string, members ...string) string {
	text := "dn: cn=" + name + ",cn=groups,cn=accounts," + pilots + "\nobjectClass: groupOfNames\ncn: " + name + "\n"
	for _, m := range members {
		text += "member: uid=" + m + "," + pilots + "\n"
	}
	return text + "\n"
}

// A realm: the policy that an account names, else that of the class of service with
// the lowest priority, else the one for everybody.
func TestRealmOfADirectory(t *testing.T) {
	classes := service("crew", "1") + service("admins", "5")
	people := person("ada", "", "objectClass: krbPrincipalAux\n") + person("bo", "", "") + person("cy", "", "krbTicketFlags: 0\n") +
		person("dee", "", "krbPwdPolicyReference: cn=admins,cn=PILOTS.EXAMPLE,cn=kerberos,"+pilots+"\n")
	groups := group("crew", "ada", "dee") + group("admins", "ada", "bo")
	whole := map[string]string{"ada": "crew 10 characters never locks", "bo": "admins 16 characters 3 failed attempts",
		"cy": "global_policy, without pre-authentication 8 characters never locks", "dee": "admins 16 characters 3 failed attempts"}
	same(t, "by members", answers(t, realmPolicies+classes, people+groups), whole)
	holds := func(name, text string) string {
		return strings.Replace(people, "uid: "+name+"\n", "uid: "+name+"\nmemberOf: cn="+text+",cn=groups,cn=accounts,"+pilots+"\n", 1)
	}
	same(t, "by what members say", answers(t, realmPolicies+classes, holds("bo", "admins")),
		map[string]string{"ada": "global_policy 8 characters 6 failed attempts", "bo": whole["bo"], "cy": whole["cy"], "dee": whole["dee"]})
	same(t, "without groups", answers(t, realmPolicies+classes, people), map[string]string{"ada": "?", "bo": "?", "cy": "?",
		"dee": whole["dee"]})
	same(t, "with the server's own", answers(t, config, realmPolicies+classes, people+groups), whole)
	same(t, "without the realm's own", answers(t, realmPolicies[strings.Index(realmPolicies, "dn: cn=admins"):], people),
		map[string]string{"ada": "?", "bo": "?", "cy": "?", "dee": whole["dee"]})
}
