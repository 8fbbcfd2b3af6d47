package cli_test

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// record is one entry of an export, its attributes in their order.
type record struct {
	dn    string
	names []string
	all   map[string][]string // by the name in lower case, without options
}

func parseRecords(export string) []*record {
	var all []*record
	for text := range strings.SplitSeq(strings.ReplaceAll(export, "\n ", ""), "\n\n") {
		r := &record{all: map[string][]string{}}
		for line := range strings.Lines(text) {
			name, value, ok := strings.Cut(strings.TrimSuffix(line, "\n"), ":")
			if !ok || strings.HasPrefix(line, "#") {
				continue
			}
			if coded, is := strings.CutPrefix(value, ": "); is {
				raw, _ := base64.StdEncoding.DecodeString(coded)
				value = string(raw)
			}
			r.set(name, strings.TrimPrefix(value, " "))
		}
		if r.dn != "" {
			all = append(all, r)
		}
	}
	return all
}

func (r *record) set(name, value string) {
	key, _, _ := strings.Cut(strings.ToLower(name), ";")
	if key == "dn" {
		r.dn = value
		return
	}
	if r.all[key] == nil {
		r.names = append(r.names, name)
	}
	r.all[key] = append(r.all[key], value)
}

func (r *record) one(name string) string {
	if v := r.all[strings.ToLower(name)]; len(v) > 0 {
		return v[0]
	}
	return ""
}

func (r *record) is(class string) bool { return slices.Contains(r.all["objectclass"], class) }

// kind tells what a record is, with or without objectClass.
func (r *record) kind() string {
	switch {
	case r.is("group"), r.one("groupType") != "":
		return "group"
	case r.is("computer"), strings.HasSuffix(r.one("sAMAccountName"), "$"):
		return "computer"
	case r.is("user"), r.one("userAccountControl") != "", r.one("primaryGroupID") != "":
		return "account"
	case r.is("msDS-PasswordSettings"), r.one("msDS-PasswordSettingsPrecedence") != "":
		return "policy"
	case strings.HasPrefix(r.dn, "CN=Password Settings Container,"):
		return "container"
	}
	return ""
}

// text writes records as an export.
func exportOf(records []*record) string {
	var b strings.Builder
	for _, r := range records {
		b.WriteString(dnLine("dn", r.dn))
		for _, name := range r.names {
			key, _, _ := strings.Cut(strings.ToLower(name), ";")
			for _, v := range r.all[key] {
				if strings.ContainsFunc(v, func(c rune) bool { return c > 126 || c < 32 }) || strings.HasPrefix(v, " ") || strings.HasSuffix(v, " ") {
					fmt.Fprintf(&b, "%s:: %s\n", name, base64.StdEncoding.EncodeToString([]byte(v)))
				} else {
					fmt.Fprintf(&b, "%s: %s\n", name, v)
				}
			}
		}
		b.WriteString("\n")
	}
	return b.String()
}

// without leaves attributes out of the records of a kind, or of all.
func without(kind string, attributes ...string) func([]*record, uint64) []*record {
	return func(all []*record, _ uint64) []*record {
		for _, r := range all {
			if kind == "" || r.kind() == kind {
				r.names = slices.DeleteFunc(r.names, func(name string) bool {
					key, _, _ := strings.Cut(strings.ToLower(name), ";")
					gone := slices.ContainsFunc(attributes, func(a string) bool { return strings.EqualFold(a, key) })
					if gone {
						delete(r.all, key)
					}
					return gone
				})
			}
		}
		return all
	}
}

// only leaves out the records that do not fit.
func only(fits func(r *record, rnd *rand.Rand) bool) func([]*record, uint64) []*record {
	return func(all []*record, seed uint64) []*record {
		rnd := rand.New(rand.NewPCG(seed, 99))
		return slices.DeleteFunc(all, func(r *record) bool { return !fits(r, rnd) })
	}
}

func first(steps ...func([]*record, uint64) []*record) func([]*record, uint64) []*record {
	return func(all []*record, seed uint64) []*record {
		for _, s := range steps {
			all = s(all, seed)
		}
		return all
	}
}

func notOf(kinds ...string) func([]*record, uint64) []*record {
	return only(func(r *record, _ *rand.Rand) bool { return !slices.Contains(kinds, r.kind()) })
}

// cripples are the ways in which exports come short.
var cripples = []struct {
	name string
	of   func([]*record, uint64) []*record
}{
	{"no groupType", without("group", "groupType", "sAMAccountType")},
	{"no member", without("group", "member")},
	{"no memberOf", without("", "memberOf")},
	{"no membership at all", without("", "member", "memberOf")},
	{"no primaryGroupID", without("", "primaryGroupID")},
	{"no SIDs", without("", "objectSid")},
	{"no server", without("", "oEMInformation", "operatingSystem")},
	{"no targets", without("policy", "msDS-PSOAppliesTo")},
	{"no targets, no pointers", without("", "msDS-PSOAppliesTo", "msDS-PSOApplied")},
	{"no precedence", without("policy", "msDS-PasswordSettingsPrecedence")},
	{"no GUIDs", without("policy", "objectGUID")},
	{"no classes", without("", "objectClass")},
	{"no account flags", without("account", "userAccountControl")},
	{"no policies", notOf("policy")},
	{"an ordinary user's view", first(notOf("policy", "container"), without("", "msDS-PSOApplied"))},
	{"an ordinary user's view, with pointers", notOf("policy", "container")},
	{"no groups", notOf("group")},
	{"no groups, no memberOf", first(notOf("group"), without("", "memberOf"))},
	{"every third group", only(func(r *record, rnd *rand.Rand) bool { return r.kind() != "group" || rnd.IntN(3) > 0 })},
	{"every third group, no memberOf", first(only(func(r *record, rnd *rand.Rand) bool { return r.kind() != "group" || rnd.IntN(3) > 0 }),
		without("", "memberOf"))},
	{"half of the records", only(func(r *record, rnd *rand.Rand) bool { return r.kind() == "" || r.kind() == "policy" || rnd.IntN(2) > 0 })},
	{"one unit", only(func(r *record, _ *rand.Rand) bool { return strings.Contains(r.dn, "OU=Quays") })},
	{"one unit, and the policies", only(func(r *record, _ *rand.Rand) bool {
		return strings.Contains(r.dn, "OU=Quays") || r.kind() == "policy" || r.kind() == ""
	})},
	{"all but one unit", only(func(r *record, _ *rand.Rand) bool { return !strings.Contains(r.dn, "OU=Quays") })},
	{"policies that point away", only(func(r *record, rnd *rand.Rand) bool { return r.kind() != "policy" || rnd.IntN(2) > 0 })},
	{"memberOf of accounts only", without("group", "memberOf")},
	{"first pieces of members", func(all []*record, seed uint64) []*record {
		rnd := rand.New(rand.NewPCG(seed, 5))
		for _, r := range without("", "memberOf")(all, seed) {
			if m := r.all["member"]; len(m) > 2 && rnd.IntN(3) == 0 {
				r.all["member"] = m[:2]
				r.names[slices.Index(r.names, "member")] = "member;range=0-1"
			}
		}
		return all
	}},
	// Each membership is left with one side that tells it: of one that neither
	// tells, nobody can know.
	{"sides that contradict", func(all []*record, seed uint64) []*record {
		rnd := rand.New(rand.NewPCG(seed, 6))
		byDN := map[string]*record{}
		for _, r := range all {
			byDN[r.dn] = r
		}
		for _, g := range all {
			g.all["member"] = slices.DeleteFunc(g.all["member"], func(dn string) bool {
				x := byDN[dn]
				if x == nil || rnd.IntN(12) > 0 {
					return false
				}
				if rnd.IntN(2) == 0 {
					return true
				}
				x.all["memberof"] = slices.DeleteFunc(x.all["memberof"], func(of string) bool { return of == g.dn })
				return false
			})
		}
		return all
	}},
}

// judge gathers what is left of an export and holds each answer against the
// directory's own, and against a plain reading of what is left.
func judge(t *testing.T, left []*record, answers map[string]string) {
	dir := begin(t)
	file := write(t, filepath.Join(t.TempDir(), "left.ldif"), exportOf(left))
	must(t, dir, "gather", file)
	plain := newReading(left)
	known, unknown := 0, 0
	for _, row := range accountRows(t, dir) {
		name := row[1]
		want, decided := plain.of(name)
		if decided && want != answers[name] {
			t.Fatalf("%s: the plain reading says %s, the directory %s: the test is wrong", name, want, answers[name])
		}
		switch {
		case row[7] == "unknown":
			if unknown++; decided {
				t.Errorf("%s: we say unknown, what is left decides %s", name, want)
			}
		case row[6] != answers[name]:
			t.Errorf("%s: we say %s (%s via %s), the directory says %s; the plain reading: %s, %v", name, row[6], row[7], row[8],
				answers[name], want, decided)
		default:
			known++
		}
	}
	t.Logf("%d known, %d unknown", known, unknown)
}

// reading reads what is left of an export plainly and slowly: for each account
// and each policy, is it certain that the policy reaches the account, and could
// it? Written from the rules of precedence and of LDIF alone.
type reading struct {
	byDN                    map[string]*record
	records                 []*record
	policies                []*record
	hidden                  map[string][]string // policies that are pointed at and not there: by whom
	unproven                bool
	showsMember, showsOf    bool // of groups: member, memberOf
	showsOfAccounts         bool
	showsApplied, showsName bool
	samba                   bool
	byRID                   map[string]*record
	listedIn                map[string][]string // by member
	whole                   map[string]bool     // remembered answers
	allGroups               []string
	missing                 bool
}

func newReading(left []*record) *reading {
	w := &reading{byDN: map[string]*record{}, records: left, hidden: map[string][]string{}, unproven: true, byRID: map[string]*record{},
		listedIn: map[string][]string{}, whole: map[string]bool{}}
	for _, r := range left {
		w.byDN[r.dn] = r
		switch r.kind() {
		case "policy":
			w.policies, w.unproven = append(w.policies, r), false
			w.showsName = w.showsName || len(r.all["msds-psoappliesto"]) > 0
		case "container":
			w.unproven = false
		case "group":
			w.showsMember = w.showsMember || len(r.all["member"]) > 0
			w.showsOf = w.showsOf || len(r.all["memberof"]) > 0
			if sid := r.one("objectSid"); sid != "" && !strings.HasPrefix(sid, "S-1-5-32-") {
				w.byRID[sid[strings.LastIndexByte(sid, '-')+1:]] = r
			}
		case "account":
			w.showsOfAccounts = w.showsOfAccounts || len(r.all["memberof"]) > 0
		}
		w.showsApplied = w.showsApplied || len(r.all["msds-psoapplied"]) > 0
		w.samba = w.samba || strings.Contains(strings.ToLower(r.one("oEMInformation")+r.one("operatingSystem")), "samba")
	}
	w.allGroups = w.groups()
	w.missing = w.lacks()
	for _, r := range left {
		for _, dn := range r.all["member"] {
			w.listedIn[dn] = append(w.listedIn[dn], r.dn)
		}
		for _, dn := range r.all["msds-psoapplied"] {
			if w.byDN[dn] == nil {
				w.hidden[dn] = append(w.hidden[dn], r.dn)
			}
		}
	}
	return w
}

// carries: 0 no, 1 perhaps, 2 yes.
func (w *reading) carries(dn string) int {
	r := w.byDN[dn]
	if r == nil {
		return 1
	}
	if r.kind() != "group" {
		return 0
	}
	if r.one("groupType") == "" {
		return 1
	}
	n, _ := strconv.ParseInt(r.one("groupType"), 10, 64)
	bits := uint32(n)
	switch {
	case bits&0x80000000 == 0, bits&1 != 0:
		return 0
	case bits&2 != 0, w.samba:
		return 2
	}
	return 1
}

// remembered asks a question once.
func (w *reading) remembered(question, dn string, ask func(dn string) bool) bool {
	answer, ok := w.whole[question+dn]
	if !ok {
		answer = ask(dn)
		w.whole[question+dn] = answer
	}
	return answer
}

// membersWhole: everything that is directly in the group is told by its record.
func (w *reading) membersWhole(dn string) bool {
	return w.remembered("members ", dn, w.askMembers)
}

func (w *reading) askMembers(dn string) bool {
	r := w.byDN[dn]
	if r == nil || !w.showsMember || slices.ContainsFunc(r.names, func(n string) bool { return strings.HasPrefix(n, "member;range=") }) {
		return false
	}
	for _, m := range r.all["member"] {
		if w.byDN[m] == nil && !strings.Contains(m, ",CN=ForeignSecurityPrincipals,") {
			return false
		}
	}
	for _, x := range w.records { // a member that says so itself and is not listed
		if k := x.kind(); (k == "account" || k == "group") && slices.Contains(x.all["memberof"], dn) && !slices.Contains(r.all["member"], x.dn) {
			return false
		}
	}
	return true
}

// holdersWhole: every group that holds the object is told by its own record.
func (w *reading) holdersWhole(dn string) bool {
	return w.remembered("holders ", dn, w.askHolders)
}

func (w *reading) askHolders(dn string) bool {
	r := w.byDN[dn]
	switch {
	case r == nil, r.kind() == "group" && !w.showsOf, r.kind() == "account" && !w.showsOfAccounts:
		return false
	}
	for _, g := range w.listedIn[dn] {
		if !slices.Contains(r.all["memberof"], g) {
			return false
		}
	}
	return true
}

// above are the groups that hold an object directly: for certain, and perhaps.
func (w *reading) above(dn string) (certain, perhaps []string) {
	r := w.byDN[dn]
	certain = append(certain, w.listedIn[dn]...)
	groups := w.allGroups
	open := !w.holdersWhole(dn)
	if r != nil {
		certain = append(certain, r.all["memberof"]...)
		if r.kind() == "account" {
			primary := r.one("primaryGroupID")
			if g := w.byRID[primary]; g != nil {
				certain = append(certain, g.dn)
			} else {
				open = true
				for _, g := range groups {
					if primary == "" || w.byDN[g] == nil || w.byDN[g].one("objectSid") == "" {
						perhaps = append(perhaps, g)
					}
				}
			}
		}
	}
	if open {
		for _, g := range groups {
			if !w.membersWhole(g) {
				perhaps = append(perhaps, g)
			}
		}
	}
	return certain, perhaps
}

// groups are all that could be one.
func (w *reading) groups() []string {
	seen := map[string]bool{}
	for _, r := range w.records {
		if r.kind() == "group" {
			seen[r.dn] = true
		}
		for _, dn := range slices.Concat(r.all["memberof"], r.all["msds-psoappliesto"]) {
			if w.byDN[dn] == nil {
				seen[dn] = true
			}
		}
	}
	var all []string
	for dn := range seen {
		all = append(all, dn)
	}
	slices.Sort(all)
	return all
}

// reached is everything through which an account can be reached: 2 for
// certain, 1 perhaps; itself not among it. open says that there may be groups
// beyond all that the evidence names.
func (w *reading) reached(account string) (by map[string]int, open bool) {
	by = map[string]int{}
	type at struct {
		dn    string
		grade int
	}
	queue := []at{{account, 2}}
	for ; len(queue) > 0; queue = queue[1:] {
		x := queue[0]
		certain, perhaps := w.above(x.dn)
		step := func(dn string, grade int) {
			if grade = min(grade, x.grade, w.carries(dn)); grade > by[dn] {
				by[dn] = grade
				queue = append(queue, at{dn, grade})
			}
		}
		for _, dn := range certain {
			step(dn, 2)
		}
		for _, dn := range perhaps {
			step(dn, 1)
		}
		open = open || !w.holdersWhole(x.dn)
		if r := w.byDN[x.dn]; r != nil && r.kind() == "account" && w.byRID[r.one("primaryGroupID")] == nil {
			open = true
		}
	}
	return by, open
}

// lacks reports whether something is named that is not there.
func (w *reading) lacks() bool {
	return w.byDN["DC=marrowick,DC=example"] == nil || slices.ContainsFunc(w.records, func(x *record) bool {
		return slices.ContainsFunc(slices.Concat(x.all["member"], x.all["memberof"], x.all["msds-psoappliesto"]), func(dn string) bool {
			return w.byDN[dn] == nil && !strings.Contains(dn, ",CN=ForeignSecurityPrincipals,")
		})
	})
}

// of says which policy governs an account, "-" for the default, if what is left
// decides it.
func (w *reading) of(name string) (origin string, decided bool) {
	i := slices.IndexFunc(w.records, func(r *record) bool { return r.one("sAMAccountName") == name && r.kind() == "account" })
	r := w.records[i]
	if strings.HasSuffix(r.one("objectSid"), "-502") && !strings.HasPrefix(r.one("objectSid"), "S-1-5-32") {
		return "-", true
	}
	by, open := w.reached(r.dn)
	missing := w.missing
	type option struct {
		dn     string
		rank   string // smaller goes first; empty: not known, and perhaps the first
		direct int
		group  int
	}
	var options []option
	add := func(dn, rank string, named []string, whole bool) {
		o := option{dn: dn, rank: rank}
		mayName := func(x string) bool { return !whole && (w.byDN[x] == nil || !w.showsApplied) }
		if slices.Contains(named, r.dn) {
			o.direct = 2
		} else if mayName(r.dn) {
			o.direct = 1
		}
		for g, grade := range by {
			switch {
			case slices.Contains(named, g):
				o.group = max(o.group, grade)
			case mayName(g):
				o.group = max(o.group, 1)
			}
		}
		primaryLost := w.byRID[r.one("primaryGroupID")] == nil
		if !whole && open && (missing || primaryLost) {
			o.group = max(o.group, 1)
		}
		options = append(options, o)
	}
	for _, p := range w.policies {
		named := slices.Clone(p.all["msds-psoappliesto"])
		for _, x := range w.records {
			if slices.Contains(x.all["msds-psoapplied"], p.dn) {
				named = append(named, x.dn)
			}
		}
		rank := ""
		if n, err := strconv.Atoi(p.one("msDS-PasswordSettingsPrecedence")); err == nil {
			rank = fmt.Sprintf("%09d", n)
			if guid := p.one("objectGUID"); guid != "" {
				rank += storedHex(guid)
			}
		}
		add(p.dn, rank, named, len(p.all["msds-psoappliesto"]) > 0 || w.showsName)
	}
	for dn, by := range w.hidden {
		add(dn, "", by, false)
	}
	if w.unproven {
		add("hidden", "", nil, false)
	}
	// Every choice of the open ones that could be: the answer must not change.
	best := func(level func(o option) int, least int) (found []option) {
		for _, o := range options {
			if level(o) >= least {
				found = append(found, o)
			}
		}
		slices.SortFunc(found, func(x, y option) int { return strings.Compare(x.rank, y.rank) })
		return found
	}
	decide := func(level func(o option) int) (string, bool) {
		sure, may := best(level, 2), best(level, 1)
		switch {
		case len(may) == 0:
			return "", true
		case len(sure) == 0:
			return "", false
		case may[0].dn != sure[0].dn, len(may) > 1 && tied(may[0].rank, may[1].rank), may[0].rank == "":
			return "", false
		}
		return sure[0].dn, true
	}
	direct, ok := decide(func(o option) int { return o.direct })
	if !ok || direct != "" {
		return direct, ok && direct != "hidden" && w.byDN[direct] != nil
	}
	through, ok := decide(func(o option) int { return o.group })
	switch {
	case !ok, through != "" && w.byDN[through] == nil:
		return "", false
	case through == "":
		return "-", true
	}
	if r.one("userAccountControl") == "" && strings.HasSuffix(name, "$") {
		return "", false
	}
	return through, true
}

// tied reports whether two ranks cannot be put in order.
func tied(x, y string) bool {
	return x == y || x == "" || y == "" || len(x) != len(y) && x[:9] == y[:9]
}

// storedHex is a GUID in its stored byte order.
func storedHex(text string) string {
	raw, _ := hex.DecodeString(strings.ReplaceAll(text, "-", ""))
	for _, part := range [][]byte{raw[:4], raw[4:6], raw[6:8]} {
		slices.Reverse(part)
	}
	return hex.EncodeToString(bytes.Clone(raw))
}
