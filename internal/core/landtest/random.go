package landtest

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
)

// Random makes a land of its own: a few places with what their kinds can have, in
// small numbers, so that edges are met often. The same seed makes the same land.
//
// Worlds write it as "random SEED", and those of one kind as "machines SEED", "realm SEED" or "forest SEED";
// where baselines are read, it brings two, which can be
// had alone as "baselines SEED". "random SEED
// SHAKE" is the same land a while later: some of it is gone, and some is set otherwise.
func Random(seed uint64) []string {
	r := &random{rand.New(rand.NewPCG(seed, 7)), nil}
	for n := range 1 + r.IntN(2) {
		r.place(n)
	}
	return r.lines
}

// RandomBaselines are two that ask for much of what lands hold.
func RandomBaselines(seed uint64) []string {
	r := &random{rand.New(rand.NewPCG(seed, 8)), nil}
	for _, id := range []string{"a", "b"} {
		r.say("baseline %s windows-domain windows-machine unix-machine ldap-directory cloud-directory", id)
		for _, s := range pool {
			if !r.often(4) {
				continue
			}
			asked := "setting: " + s.id + ", " + r.one(s.asks...)
			if s.id == "min-length" && r.often(6) { // longer alone, or less with something beside it
				other := pool[1+r.IntN(len(pool)-1)]
				asked = fmt.Sprintf("any-of: [[{setting: min-length, at-least: 15}], [{setting: min-length, at-least: %s}, {setting: %s, %s}]]",
					r.one("8", "10"), other.id, r.one(other.asks...))
			}
			r.say("demand {%s, severity: %s, ref: '%d', why: %s.}", asked, r.one("minor", "serious", "grave"), 1+r.IntN(9), s.id)
		}
	}
	return r.lines
}

// pool are the settings of lands: values, and what is asked of them.
var pool = []struct {
	id           string
	values, asks []string
}{
	{"min-length", []string{"0", "8", "10", "14", "15"}, []string{"at-least: 8", "at-least: 14", "at-least: 15"}},
	{"history", []string{"0", "1", "23", "24"}, []string{"at-least: 24", "at-least: 1"}},
	{"max-age", []string{"never", "42_days", "90_days", "1_day"}, []string{"at-most: 90 days, specials: {never: fails}",
		"at-most: 42 days, specials: {never: holds}", "between: [1 day, 60 days], specials: {never: fails}"}},
	{"min-age", []string{"at-once", "1_day"}, []string{"at-least: 1 day, specials: {at-once: fails}"}},
	{"complexity", []string{"on", "off"}, []string{"exactly: on", "exactly: off"}},
	{"reversible", []string{"off", "off", "on"}, []string{"exactly: off"}},
	{"lockout-threshold", []string{"never", "1", "5", "10", "11"}, []string{"between: [1, 10], specials: {never: fails}",
		"at-most: 5, specials: {never: fails}"}},
	{"lockout-window", []string{"15_minutes", "30_minutes", "1_minute"},
		[]string{"at-least: 15 minutes, specials: {never: holds, at-once: fails}"}},
	{"lockout-duration", []string{"15_minutes", "1_minute", "until-admin"}, []string{"at-least: 15 minutes, specials: {until-admin: holds}",
		"at-least: 30 minutes, specials: {until-admin: fails}"}},
}

// RandomMachines is a domain whose templates act by groups of machines, of which the
// evidence holds more or less.
func RandomMachines(seed uint64) []string {
	r := &random{rand.New(rand.NewPCG(seed, 12)), nil}
	r.say("domain x.example S-1")
	r.say("head min-length=%s", r.one("8", "14"))
	machines := []string{"CN=m1,OU=Office,DC=x,DC=example", "CN=m2,OU=Office,DC=x,DC=example", "CN=m3,OU=Quays,DC=x,DC=example"}
	groups := []string{"", "", "", ""}
	for i := range groups {
		groups[i] = fmt.Sprintf("k%d", i) + r.one("", "", "", "!")
	}
	for i, g := range groups {
		members := append(r.some(2, machines), r.some(1, []string{"CN=m4,OU=Office,DC=x,DC=example", "ada", "CN=elsewhere,DC=y,DC=example"})...)
		members = append(members, r.some(2, groups[:i])...)
		r.say("group %s%s rid=%d %s", g, r.one("", "", " type=0x80000004"), 700+i, strings.Join(members, " "))
	}
	for i, m := range machines {
		if r.IntN(6) == 0 {
			continue
		}
		line := fmt.Sprintf("computer %s rid=%d", m, 900+i)
		if r.often(3) {
			line += fmt.Sprintf(" primary=%d", r.one700())
		}
		for _, g := range r.some(1, groups) {
			line += " in=" + g
		}
		r.say("%s", line+r.one("", "", " disabled"))
	}
	if r.often(5) {
		r.say("account ada rid=%d", 600+r.IntN(300))
	}
	for i, list := range []string{"allow=S-1-%d", "deny=S-1-%d allow=S-1-5-11"} {
		r.say("container {T%d} name=T%d whole "+list, i, i, r.one700())
		r.say("template {T%d} name=T%d min-length=%d", i, i, 10+i)
	}
	r.say("unit DC=x,DC=example root {T0}%s {T1}", r.one("", "", ":enforced"))
	r.say("unit OU=Office,DC=x,DC=example %s", r.one("", "", "blocked", "{T1}:enforced"))
	if r.often(7) {
		r.say("unit OU=Quays,DC=x,DC=example {T1}")
	}
	return r.lines
}

// RandomRealm is a realm whose classes of service name groups, of which the evidence holds
// more or less.
func RandomRealm(seed uint64) []string {
	r := &random{rand.New(rand.NewPCG(seed, 13)), nil}
	r.say("ldap R as=kerberos-realm")
	if r.often(8) {
		r.say("head min-length=8")
	}
	people, groups := []string{"ada", "bo", "cy", "di"}, []string{"crew", "fleet", "yard"}
	for i, name := range []string{"strict", "loose", "own2"} {
		if r.often(7) {
			r.say("policy %s %s min-length=%d %s", name, r.one("1", "1", "2", "-"), 10+i,
				strings.Join(r.some(2, append([]string{"ghosts"}, groups...)), " "))
		}
	}
	for i, g := range groups {
		if r.often(8) {
			r.say("group %s %s", g, strings.Join(append(r.some(2, people), r.some(1, groups[:i])...), " "))
		}
	}
	for _, a := range people {
		words := []string{a}
		for _, w := range []string{"no-preauthentication", "disabled", "->" + r.one("strict", "loose", "gone"), "in=" + r.one(groups...),
			"in=elsewhere"} {
			if r.IntN(4) == 0 {
				words = append(words, w)
			}
		}
		r.say("account %s", strings.Join(words, " "))
	}
	return r.lines
}

// RandomForest are domains whose groups hold members of each other, and of one that is not
// in the evidence.
func RandomForest(seed uint64) []string {
	r := &random{rand.New(rand.NewPCG(seed, 14)), nil}
	all := []string{"x", "y"}
	for i, d := range all {
		base := ",DC=" + d + ",DC=example"
		r.say("domain %s.example%s", d, r.one(fmt.Sprintf(" S-1-5-21-%d", i+1), fmt.Sprintf(" S-1-5-21-%d", i+1), ""))
		r.say("head min-length=8")
		here := func(names ...string) (all []string) {
			for _, n := range names {
				all = append(all, "CN="+n+base)
			}
			return all
		}
		other := ",DC=" + all[1-i] + ",DC=example"
		far := []string{"CN=a0" + other, "CN=a0,OU=Elsewhere" + other,
			"CN=a1" + other, "CN=g0" + other, "CN=g1" + other, "CN=a9" + other, "CN=boss,DC=z,DC=example",
			fmt.Sprintf("CN=S-1-5-21-%d-1001,CN=ForeignSecurityPrincipals%s", 2-i, base),
			"CN=S-1-5-21-9-1001,CN=ForeignSecurityPrincipals" + base}
		groups := here("g0", "g1")
		for k, g := range groups {
			members := append(r.some(2, here("a0", "a1", "a2")), append(r.some(2, far), r.some(1, groups[:k])...)...)
			r.say("group %s%s rid=%d %s", g, r.one("", "", " type=0x80000004", " type=0x80000008"), 1100+k, strings.Join(members, " "))
		}
		if r.often(5) {
			r.say("group CN=Domain_Admins%s rid=512 %s", base,
				strings.Join(append(r.some(1, far), r.some(1, append(groups, here("a0")...))...), " "))
		}
		for k, a := range here("a0", "a1", "a2") {
			r.say("account %s rid=%d%s%s", a, 1000+k, r.one("", "", " admin-count"), r.one("", "", " primary=1100", " primary=1001"))
		}
		for k, p := range []string{"p0", "p1"} {
			if r.often(6) {
				r.say("policy CN=%s%s %s min-length=%d %s guid=%d", p, base, r.one("1", "2"), 12+k, r.one(append(groups, here("a1")...)...), k+1)
			}
		}
	}
	return r.lines
}

// one700 is the RID of one of those groups, or of a machine, or of nothing.
func (r *random) one700() int {
	return []int{700, 701, 702, 703, 703, 702, 900, 901, 799}[r.IntN(9)]
}

// Now is one of the values that lands have for each setting; some have none.
func Now(seed uint64) (settings []string) {
	r := &random{rand.New(rand.NewPCG(seed, 11)), nil}
	for _, s := range r.settings(6) {
		if id, text, _ := strings.Cut(s, "="); text != "?" {
			text, _, _ = strings.Cut(text, "~")
			settings = append(settings, id+"="+text)
		}
	}
	return settings
}

type random struct {
	*rand.Rand
	lines []string
}

func (r *random) say(format string, args ...any) {
	r.lines = append(r.lines, fmt.Sprintf(format, args...))
}

func (r *random) one(of ...string) string { return of[r.IntN(len(of))] }

// often is true so many times in ten.
func (r *random) often(tenths int) bool { return r.IntN(10) < tenths }

// settings are some of the pool, with values of which few cannot be read.
func (r *random) settings(least int) []string {
	var all []string
	for _, s := range pool {
		switch {
		case r.often(4) && len(all) >= least:
		case r.IntN(20) == 0:
			all = append(all, s.id+"=?")
		default:
			all = append(all, s.id+"="+r.one(s.values...)+r.one("", "", "", "", "", "", "", "~remark"))
		}
	}
	return all
}

// some picks up to so many of what there is.
func (r *random) some(most int, of []string) (all []string) {
	for range r.IntN(most + 1) {
		if len(of) > 0 {
			all = append(all, r.one(of...))
		}
	}
	return all
}

func (r *random) place(n int) {
	kind := r.one("domain", "domain", "domain", "machine", "ldap", "tenant")
	name := fmt.Sprintf("%s%d.example", kind, n)
	domain := kind == "domain"
	switch {
	case domain && r.often(7):
		r.say("domain %s S-%d", name, n+1)
	case kind == "machine" && r.often(5):
		r.say("machine %s as=unix-machine", name)
	case kind == "tenant" && r.often(7):
		r.say("tenant %s sync=%s", name, r.one("password-hash", "pass-through", "federation"))
	default:
		r.say("%s %s", kind, name)
	}
	if r.often(9) {
		r.say("head %s", strings.Join(r.settings(4), " "))
	}
	var accounts, groups []string
	for i := range 1 + r.IntN(5) {
		accounts = append(accounts, fmt.Sprintf("a%d%d", n, i))
	}
	for i := range r.IntN(4) {
		groups = append(groups, fmt.Sprintf("g%d%d", n, i)+r.one("", "", "", "!"))
	}
	base := "DC=" + strings.ReplaceAll(name, ".", ",DC=")
	everybody := append([]string{"nobody"}, append(accounts, groups...)...)
	policies := r.policies(n, kind, base, everybody)
	for i, g := range groups {
		r.say("group %s%s %s", g, r.one("", "", " type=0x80000004", " type=2"), strings.Join(append(r.some(3, everybody), groups[:i]...), " "))
	}
	for i, a := range accounts {
		source := ""
		if kind == "tenant" && r.often(6) { // the account of a domain, which may be there
			source = fmt.Sprintf(`from=%s\a0%d\S-%s`, r.one("domain0.example", "DOMAIN0", "lost.example"), i, r.one("1-1000", "1-500", "9-1001"))
		}
		r.account(a, i, policies, groups, source)
	}
	if domain {
		r.templates(n, name, base)
	}
	if kind == "ldap" && len(policies) > 0 && r.often(5) {
		r.say("default %s", r.one(policies...))
	}
	if kind == "ldap" && r.often(3) {
		r.say("local %s", r.one("on", "off", "inherit"))
	}
	r.surroundings(kind, accounts)
}

func (r *random) policies(n int, kind, base string, everybody []string) (names []string) {
	if kind == "machine" {
		return nil
	}
	for i := range r.IntN(4) {
		p := fmt.Sprintf("p%d%d", n, i)
		names = append(names, p)
		words := []string{p, r.one("1", "1", "2", "3", "-"), strings.Join(r.settings(2), ",")}
		words = append(words, r.some(3, everybody)...)
		if kind == "domain" {
			words = append(words, "guid="+strconv.Itoa(i+1))
		}
		if kind == "tenant" {
			words = append(words, "of="+r.one("native", "from-domain"))
		}
		if kind != "domain" && r.often(5) {
			words = append(words, "root="+base)
		}
		for _, rare := range []string{"except=" + r.one(everybody...), "open=why", "part"} {
			if r.IntN(8) == 0 {
				words = append(words, rare)
			}
		}
		r.say("policy %s", strings.Join(words, " "))
	}
	return names
}

// accountFlags are those that an account line may have.
var accountFlags = strings.Fields("never-expires password-not-required reversible smart-card disabled admin-count " +
	"synchronised empty-password " +
	"must-change service-name no-preauthentication never-override flags-not-in-evidence primary-group-not-in-evidence administrator guest")

func (r *random) account(name string, i int, policies, groups []string, source string) {
	words := []string{name}
	if source != "" {
		words = append(words, source)
	}
	for _, flag := range accountFlags {
		if r.IntN(9) == 0 {
			words = append(words, flag)
		}
	}
	if i == 0 && r.often(5) {
		words = append(words, "rid=500")
	} else {
		words = append(words, fmt.Sprintf("rid=%d", 1000+i))
	}
	if len(policies) > 0 && r.IntN(6) == 0 {
		words = append(words, "->"+r.one(policies...))
	}
	for _, g := range r.some(1, groups) {
		words = append(words, "in="+strings.TrimSuffix(g, "!"))
	}
	if r.often(3) {
		words = append(words, "primary="+r.one("512", "513", "101"))
	}
	if r.often(3) {
		words = append(words, fmt.Sprintf("set=%d", 19000+r.IntN(900)), fmt.Sprintf("seen=%d", 19000+r.IntN(900)))
	}
	r.say("account %s", strings.Join(words, " "))
}

func (r *random) templates(n int, name, base string) {
	if !r.often(6) {
		return
	}
	var links []string
	for i := range 1 + r.IntN(3) {
		guid := fmt.Sprintf("{T%d%d}", n, i)
		links = append(links, guid+r.one("", "", ":disabled", ":enforced"))
		if r.often(8) {
			r.say("container %s name=T%d %s", guid, i, r.one("", "whole", "whole", "whole filtered", "whole wmi=W",
				"whole no-security", "whole machine-off", "whole filtered deny=S-1-5-9 allow=S-1-5-11", "whole allow=S-1-5-11", "whole allow=-515",
				"whole allow=-516", fmt.Sprintf("whole allow=S-%d-%d", n+1, 100+r.IntN(12)), "whole allow=S-1-5-21-7-8-9-513", "whole allow=-x"))
		}
		if r.often(8) {
			r.say("template %s name=T%d %s", guid, i, strings.Join(r.settings(2), " "))
		}
	}
	r.say("unit %s root %s", base, strings.Join(links, " "))
	for i, unit := range []string{"OU=Office", "OU=Quays", "OU=Domain_Controllers"} {
		if r.often(5) {
			continue
		}
		r.say("unit %s,%s %s%s", unit, base, r.one("", "", "blocked "), strings.Join(r.some(2, links), " "))
		r.say("computer CN=m%d%d,%s,%s %s", n, i, unit, base, r.one("", "disabled", "controller"))
		if r.often(5) {
			r.say("group machines%d%d CN=m%d%d,%s,%s", n, i, n, i, unit, base)
		}
	}
}

func (r *random) surroundings(kind string, accounts []string) {
	if r.IntN(8) == 0 {
		r.say("lost %s %d %d gone", r.one("accounts", "settings", "memberships", "fine-grained_policies"), 3+r.IntN(3), r.IntN(3))
	}
	if kind == "machine" && r.often(3) {
		r.say("remark %s %s", r.one("not-called", "not-obeyed", "doors-differ", "not-taken", "old-hash", "elsewhere"), r.one(accounts...))
	}
	if r.IntN(10) == 0 {
		r.say("cut")
	}
}

// shaken is a land a while later.
func shaken(lines []string, seed uint64) (all []string) {
	r := &random{rand.New(rand.NewPCG(seed, 10)), nil}
	for _, line := range lines {
		word, rest, _ := strings.Cut(line, " ")
		switch f := strings.Fields(rest); {
		case slices.Contains([]string{"domain", "machine", "ldap", "tenant", "baseline", "unit"}, word), r.often(7):
		case word == "head":
			line = "head " + strings.Join(r.settings(4), " ")
		case word == "policy" && r.often(7):
			f[2] = strings.Join(r.settings(2), ",")
			line = "policy " + strings.Join(f, " ")
		case word == "demand" && r.often(5):
			line = strings.NewReplacer("severity: grave", "severity: minor", "severity: minor", "severity: serious").Replace(line)
		default:
			continue
		}
		all = append(all, line)
	}
	return all
}

// special are lands of one kind, as worlds write them.
var special = map[string]func(seed uint64) []string{"machines": RandomMachines, "realm": RandomRealm, "forest": RandomForest}

// spread writes out what lines say in short.
func spread(lines []string, baselines bool) (all []string) {
	for _, line := range lines {
		var seed, shake uint64
		if n, _ := fmt.Sscanf(line, "baselines %d", &seed); n == 1 && baselines {
			all = append(all, RandomBaselines(seed)...)
			continue
		}
		if word, rest, _ := strings.Cut(line, " "); special[word] != nil {
			if n, _ := fmt.Sscanf(rest, "%d", &seed); n == 1 {
				all = append(all, special[word](seed)...)
				continue
			}
		}
		if n, _ := fmt.Sscanf(line, "random %d %d", &seed, &shake); n == 0 {
			all = append(all, line)
			continue
		}
		made := Random(seed)
		if baselines {
			made = append(RandomBaselines(seed), made...)
		}
		if shake > 0 {
			made = shaken(made, shake)
		}
		all = append(all, made...)
	}
	return all
}
