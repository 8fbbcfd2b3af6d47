package estate

import (
	"fmt"
	random "math/rand/v2"
	"strings"
)

// randomly makes what a reader could hand to the Builder: a few objects, told by several
// files in pieces, and a later gather that may hold less. Worlds write it as "random SEED".
func randomly(seed uint64) (lines []string) {
	r := random.New(random.NewPCG(seed, 9))
	say := func(format string, args ...any) { lines = append(lines, fmt.Sprintf(format, args...)) }
	one := func(of ...string) string { return of[r.IntN(len(of))] }
	people := []string{"Ada", "Bo", "Cy", "CN=Dee,OU=Quay" + base, "CN=Eve,DC=y,DC=example"}
	groups := []string{"G", "H", "CN=Crew,OU=Quay" + base}
	policies := []string{"P", "Q", "R"}
	settings := []string{"min-length:8", "min-length:14", "history:24", "lockout-threshold:never", "lockout-threshold:5",
		"lockout-duration:15_minutes", "lockout-window:15_minutes", "max-age:42_days"}
	some := func(most int, of []string) (all []string) {
		for range r.IntN(most + 1) {
			all = append(all, one(of...))
		}
		return all
	}
	everybody := append(append([]string{"Nobody"}, people...), groups...)
	for gather := range 1 + r.IntN(2) {
		if gather > 0 {
			say("remember")
		}
		for file := range 1 + r.IntN(3) {
			if r.IntN(3) == 0 {
				say("older old%d.ldif %d", file, 1+r.IntN(2))
			} else {
				say("file new%d.ldif", file)
			}
			if r.IntN(3) == 0 {
				say("shows %s", one("members", "targets", "pointers"))
			}
			told := map[string]bool{}
			for range r.IntN(6) {
				words := []string{one("account", "account", "account", "other", "computer", "managed"), one(people...)}
				for _, w := range []string{"name=n", "rid=1105", "primary=513", "control=512", "set=7", "seen=9", "principal=p@x.example",
					"display=D", "source=s", "never-expires", "disabled", "flags-not-in-evidence", "primary-group-not-in-evidence", "cut-short",
					"unclassified", "resultant=" + one(policies...), "applied=" + one(policies...) + ";" + one(policies...), "in=" + one(groups...)} {
					if r.IntN(4) == 0 {
						words = append(words, w)
					}
				}
				say("%s", strings.Join(words, " "))
			}
			for _, g := range some(2, groups) {
				say("group %s type=%s rid=%d", g, one("0x80000002", "0x80000004", "2", "0x80000008"), 1200+r.IntN(3))
				told[g] = true
				if m := some(3, everybody); len(m) > 0 {
					say("member %s %s", g, strings.Join(m, " "))
				}
				if r.IntN(4) == 0 {
					say("range %s %d %d", g, r.IntN(2)*1500, 1499+r.IntN(2)*1500)
				}
				if r.IntN(3) == 0 {
					say("list %s %s", one("G", "H", "Crew"), strings.Join(append(some(2, people), "Ada"), " "))
				}
			}
			for _, p := range some(2, policies) {
				say("policy %s %s", p, strings.Join(append(some(3, settings), some(2, everybody)...), " "))
			}
			if r.IntN(2) == 0 {
				say("head %s", strings.Join(append(some(3, settings), settings[0]), " "))
			}
			if r.IntN(4) == 0 {
				say("unit OU=Quay%s {A} {B}", base)
			}
			if r.IntN(4) == 0 {
				say("container {A} %s %s", one("whole", "filtered", "name=T"), one("wmi=W", "no-security", "machine-off", "filtered"))
			}
		}
	}
	return lines
}
