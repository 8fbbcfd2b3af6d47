package fieldmap

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"
)

// obj is a JSON object, list one of its lists.
type (
	obj  = map[string]any
	list = []any
)

// world is a tenant that was made up: its exports, and what a plain reading of
// the product's rules says of each account, a word for each of asked.
type world struct {
	exports map[string]any // by file
	want    map[string]map[string]string
}

// asked are the settings that are compared, and whether a second factor is asked for.
var asked = []setting.ID{"min-length", "max-age", "lockout-threshold", "history"}

const factor = "factor"

// answers are what the program says of each account; "?" is not known.
func answers(t *testing.T, exports map[string]any, mangle func(file string, text []byte) []byte) map[string]map[string]string {
	t.Helper()
	all := &intake.Tree{Name: "folder", Path: "folder"}
	for _, file := range slices.Sorted(maps.Keys(exports)) {
		text, ok := exports[file].(string)
		if !ok {
			data, err := json.MarshalIndent(exports[file], "", " ")
			if err != nil {
				t.Fatal(err)
			}
			text = string(data)
		}
		data := []byte(text)
		if mangle != nil {
			if data = mangle(file, data); data == nil || !Format(shipped(t)).Claims("folder/"+file, reads(string(data))) {
				continue
			}
		}
		all.Parts = append(all.Parts, &intake.Part{Name: file, Path: "folder/" + file, Stored: "folder/" + file, Data: data})
	}
	b := estate.NewBuilder()
	if len(all.Parts) > 0 {
		if err := read(shipped(t), all, b); err != nil {
			t.Fatal(err)
		}
	}
	said := map[string]map[string]string{}
	e := &estate.Estate{Authorities: b.Finish()}
	s := govern.NewSurvey(e, func(*estate.Authority) estate.Dialect { return "" }, nil)
	for i, a := range e.Authorities {
		for row := range a.Objects.Len() {
			if a.Objects.ClassOf(row) != estate.Account {
				continue
			}
			scope, _ := s.ScopeOf(i, row)
			settings := govern.WithFlags(scope.Settings, a, row)
			one := map[string]string{factor: "?"}
			for _, id := range asked {
				x := settings[id]
				switch {
				case x.Missing == govern.NoSuch:
				case x.Missing != govern.Present:
					one[string(id)] = "?"
				default:
					text, _ := x.Value.MarshalText()
					one[string(id)] = string(text)
				}
			}
			switch flags := a.Objects.FlagsOf(row); {
			case flags&estate.FactorRequired != 0:
				one[factor] = "yes"
			case flags&estate.FactorAtTimes != 0:
				one[factor] = "at times"
			case flags&estate.FactorOptional != 0:
				one[factor] = "no"
			}
			said[a.Objects.Name.At(row)] = one
		}
	}
	return said
}

// compare holds what is said against a world. With something left out an answer
// may be missing, and an account; never another.
func (w *world) compare(t *testing.T, what string, said map[string]map[string]string, whole bool) (wrong bool) {
	for name, want := range w.want {
		got, ok := said[name]
		if !ok && whole {
			t.Errorf("%s: %s is not there", what, name)
			wrong = true
		}
		for id, value := range want {
			if ok && got[id] != value && (whole || got[id] != "?") {
				t.Errorf("%s: %s of %s is %q, want %q", what, id, name, got[id], value)
				wrong = true
			}
		}
	}
	if whole && len(said) != len(w.want) {
		t.Errorf("%s: %d accounts, want %d: %v", what, len(said), len(w.want), slices.Sorted(maps.Keys(said)))
	}
	return wrong
}

// rounds is how many tenants of each product are made up.
func rounds() uint64 {
	if n, err := strconv.ParseUint(os.Getenv("STERNLEDGER_ROUNDS"), 10, 64); err == nil {
		return n
	}
	return 20
}

// Random tenants are governed as a plain reading of their products' rules says;
// and with any one export left out, or its last page, every answer is the same or
// not known.
func TestRandomTenants(t *testing.T) {
	for name, make := range map[string]func(*rand.Rand) *world{"directory": directoryWorld, "provider": providerWorld,
		"suite": suiteWorld, "infrastructure": infraWorld} {
		t.Run(name, func(t *testing.T) {
			for n := range rounds() {
				w := make(rand.New(rand.NewPCG(14, n)))
				wrong := w.compare(t, fmt.Sprintf("%s %d", name, n), answers(t, w.exports, nil), true)
				wrong = w.compare(t, fmt.Sprintf("%s %d as a shell spells it", name, n), answers(t, w.exports, shelled(false)), true) || wrong
				wrong = w.compare(t, fmt.Sprintf("%s %d without envelopes", name, n), answers(t, w.exports, shelled(true)), false) || wrong
				wrong = w.compare(t, fmt.Sprintf("%s %d as a shell's CSV", name, n), answers(t, w.exports, asCSV), false) || wrong
				for i, of := range fieldsOf(w.exports) {
					if uint64(i)%4 == n%4 && !slices.Contains(leftOut, of.field) {
						wrong = w.compare(t, fmt.Sprintf("%s %d without %v", name, n, of), answers(t, w.exports, of.cut), false) || wrong
					}
				}
				for _, left := range slices.Sorted(maps.Keys(w.exports)) {
					if left == "inboundSsoAssignments.json" {
						continue // then it is a finding of its own, and what the suite sets stands
					}
					said := answers(t, w.exports, func(file string, text []byte) []byte {
						if file == left {
							return nil
						}
						return text
					})
					wrong = w.compare(t, fmt.Sprintf("%s %d without %s", name, n, left), said, false) || wrong
				}
				if wrong {
					text, _ := json.MarshalIndent(w.exports, "", " ")
					t.Logf("the tenant:\n%s", text)
				}
			}
		})
	}
}

// shelled writes JSON as vendors' shells do: fields begin with a capital, and, bare,
// a list has no envelope, nor its only element a list.
func shelled(bare bool) func(file string, text []byte) []byte {
	var capital func(v any) any
	capital = func(v any) any {
		switch v := v.(type) {
		case obj:
			all := obj{}
			for key, inner := range v {
				all[strings.ToUpper(key[:1])+key[1:]] = capital(inner)
			}
			return all
		case list:
			all := list{}
			for _, inner := range v {
				all = append(all, capital(inner))
			}
			return all
		}
		return v
	}
	return func(file string, text []byte) []byte {
		var v any
		if json.Unmarshal(text, &v) != nil {
			return text
		}
		v = capital(v)
		if reply, ok := v.(obj); ok && bare {
			if value, ok := reply["Value"].(list); ok {
				if v = value; len(value) == 1 {
					v = value[0]
				}
			}
		}
		out, err := json.MarshalIndent(v, "", " ")
		if err != nil {
			return text
		}
		return out
	}
}

// asCSV writes a list of objects as a shell does, where it is one: what a cell cannot
// hold is the name of its type.
func asCSV(file string, text []byte) []byte {
	rows, ok := decoded(shelled(true)(file, text)).(list)
	if !ok {
		rows = list{decoded(shelled(true)(file, text))}
	}
	columns := map[string]bool{}
	for _, row := range rows {
		fields, ok := row.(obj)
		if !ok {
			return text
		}
		for name := range fields {
			columns[name] = true
		}
	}
	if len(columns) == 0 {
		return text
	}
	var out strings.Builder
	out.WriteString("#TYPE Cloud.Models.Object\r\n")
	names := slices.Sorted(maps.Keys(columns))
	fmt.Fprintf(&out, "\"%s\"\r\n", strings.Join(names, `";"`))
	for _, row := range rows {
		for i, name := range names {
			cell := ""
			switch v := row.(obj)[name].(type) {
			case obj:
				cell = "Microsoft.Cloud.Models.Inner"
			case list:
				cell = "System.Object[]"
			case bool:
				cell = map[bool]string{true: "True", false: "False"}[v]
			case nil:
			default:
				cell = fmt.Sprint(v)
			}
			fmt.Fprintf(&out, `%s"%s"`, strings.Repeat(";", min(i, 1)), strings.ReplaceAll(cell, `"`, `""`))
		}
		out.WriteString("\r\n")
	}
	return []byte(out.String())
}

func decoded(text []byte) (v any) {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	if d.Decode(&v) != nil {
		return nil
	}
	return v
}

// leftOut are fields that the products themselves leave out where nothing is set, or
// the auditor cannot miss (the way to a further page; guests have their home in their
// names).
var leftOut = []string{"harbour", "expression", "tides", "from", "complexity", "settings", "password", "inboundSsoAssignments", "@odata.nextLink", "nextPageToken", "userType",
	"passwordValidityPeriodInDays", "authenticationStrength", "includeUsers", "includeGroups", "includeRoles", "excludeUsers",
	"excludeGroups", "excludeRoles", "builtInControls",
	"include", "exclude", "users", "groups", "people", "network", "connection", "authProvider", "provider",
	"transferMethods", "authenticationFlows", "insiderRiskLevels", "times", "includedRanges", "unheardOf", "inner", "x", "clientApplications",
	"includeServicePrincipals", "locations", "excludeLocations", "includeLocations",
	"allowReuse", "minimumLength", "expirationDuration", "MaxPasswordAge", "MinimumPasswordLength", "PasswordReusePrevention"}

// fieldOf is a field of an export.
type fieldOf struct{ file, field string }

// fieldsOf are all fields in exports.
func fieldsOf(exports map[string]any) (all []fieldOf) {
	for _, file := range slices.Sorted(maps.Keys(exports)) {
		names := map[string]bool{}
		raw, err := json.Marshal(exports[file])
		if err == nil {
			walk(decoded(raw), func(fields obj) {
				for name := range fields {
					names[name] = true
				}
			})
		}
		for _, name := range slices.Sorted(maps.Keys(names)) {
			all = append(all, fieldOf{file, name})
		}
	}
	return all
}

// cut leaves the field out of all objects of its file.
func (of fieldOf) cut(file string, text []byte) []byte {
	v := decoded(text)
	if v == nil || file != of.file {
		return text
	}
	walk(v, func(fields obj) { delete(fields, of.field) })
	out, err := json.Marshal(v)
	if err != nil {
		return text
	}
	return out
}

func walk(v any, visit func(obj)) {
	switch v := v.(type) {
	case obj:
		visit(v)
		for _, inner := range v {
			walk(inner, visit)
		}
	case list:
		for _, inner := range v {
			walk(inner, visit)
		}
	}
}

func pick[T any](rnd *rand.Rand, of ...T) T { return of[rnd.IntN(len(of))] }

// some picks some of a list.
func some[T any](rnd *rand.Rand, of []T) list {
	all := list{}
	for _, v := range of {
		if rnd.IntN(3) == 0 {
			all = append(all, v)
		}
	}
	return all
}

func has(l list, v any) bool { return slices.Contains(l, v) }

func reply(context string, value list) obj {
	return obj{"@odata.context": "https://d.example/v1.0/$metadata#" + context, "value": value}
}

// paged parts a list into pages, each but the last of which names the next.
func paged(rnd *rand.Rand, exports map[string]any, file, context string, value list) {
	for n := 1; ; n++ {
		size := len(value)
		if rnd.IntN(2) == 0 {
			size = rnd.IntN(len(value) + 1)
		}
		page := reply(context, value[:size])
		value = value[size:]
		last := len(value) == 0 || size == 0
		if last {
			page = reply(context, append(page["value"].(list), value...))
		} else {
			page["@odata.nextLink"] = fmt.Sprintf("https://d.example/next/%d", n)
		}
		exports[fmt.Sprintf("%s%d.json", file, n)] = page
		if last {
			return
		}
	}
}

// directoryWorld is the directory tenant of a cloud.
func directoryWorld(rnd *rand.Rand) *world {
	w := &world{exports: map[string]any{}, want: map[string]map[string]string{}}
	threshold := "10" // the documented default
	rules := list{}
	switch rnd.IntN(4) {
	case 0:
		rules = append(rules, obj{"displayName": "Other", "templateId": "t0", "values": list{obj{"name": "AllowGuests", "value": "true"}}})
	case 1, 2:
		threshold = fmt.Sprint(1 + rnd.IntN(20))
		rules = append(rules, obj{"templateId": "t1", "values": list{obj{"name": "LockoutThreshold", "value": threshold},
			obj{"name": "LockoutDurationInSeconds", "value": "90"}}})
	}
	w.exports["groupSettings.json"] = reply("groupSettings", rules)
	age := map[string]string{}
	var domains list
	for i, name := range []string{"a.example", "b.example", "c.example"}[:1+rnd.IntN(3)] {
		kind, days := pick(rnd, "Managed", "Managed", "Managed", "Federated"), pick[any](rnd, nil, 2147483647, 90, 90, 30)
		if i == 0 {
			kind = "Managed"
		}
		domains = append(domains, obj{"id": name, "isInitial": i == 0, "authenticationType": kind, "passwordValidityPeriodInDays": days})
		switch {
		case kind == "Federated":
			age[name] = "elsewhere"
		case days == nil: // ninety days or never, by when the tenant was made
			age[name] = "?"
		case days == 2147483647:
			age[name] = "never"
		default:
			age[name] = fmt.Sprint(days.(int) * 86400)
		}
	}
	w.exports["domains.json"] = reply("domains", domains)
	var ids []string
	for i := range 3 + rnd.IntN(6) {
		ids = append(ids, fmt.Sprintf("u%d", i))
	}
	groups, inside := list{}, map[string]list{}
	for i := range rnd.IntN(4) {
		id := fmt.Sprintf("g%d", i)
		members := some(rnd, ids)
		if i > 0 && rnd.IntN(2) == 0 {
			members = append(members, fmt.Sprintf("g%d", rnd.IntN(i))) // a group in it
		}
		var listed list
		for _, m := range members {
			listed = append(listed, obj{"id": m})
			inside[id] = append(inside[id], m)
			if strings.HasPrefix(m.(string), "g") {
				inside[id] = append(inside[id], inside[m.(string)]...)
			}
		}
		groups = append(groups, obj{"id": id, "displayName": id, "securityEnabled": true, "members": append(list{}, listed...)})
	}
	w.exports["groups.json"] = reply("groups(id,displayName)", groups)
	held := map[string]list{}
	roles := list{}
	for _, id := range []string{globalAdministrator, "r1"} {
		held[id] = some(rnd, ids)
		members := list{}
		for _, m := range held[id] {
			members = append(members, obj{"id": m})
		}
		roles = append(roles, obj{"roleTemplateId": id, "displayName": "Keeper " + id, "members": members})
	}
	w.exports["roles.json"] = reply("directoryRoles", roles)
	defaults := rnd.IntN(4) == 0
	w.exports["securityDefaults.json"] = obj{"displayName": "Security Defaults", "isEnabled": defaults}
	type policy struct {
		on, open                                         bool
		all                                              bool
		users, groups, roles, noUsers, noGroups, noRoles list
	}
	var policies []policy
	written := list{}
	for i := range rnd.IntN(3) {
		p := policy{on: rnd.IntN(3) > 0, open: rnd.IntN(4) == 0, all: rnd.IntN(3) == 0, users: some(rnd, ids), noUsers: some(rnd, ids)}
		if len(groups) > 0 {
			p.groups, p.noGroups = some(rnd, []string{"g0"}), some(rnd, []string{"g0"})
		}
		p.roles, p.noRoles = some(rnd, []string{globalAdministrator, "r1"}), some(rnd, []string{globalAdministrator})
		include := slices.Clone(p.users)
		if p.all {
			include = list{"All"}
		}
		applications := list{"All"}
		conditions := obj{"clientAppTypes": list{"all"}, "locations": nil, "times": nil, "devices": nil, "userRiskLevels": list{}}
		if p.open { // whatever it is that limits a policy, known to the map or not
			switch rnd.IntN(7) {
			case 0:
				applications = list{"one-application"}
			case 1:
				conditions["authenticationFlows"] = obj{"transferMethods": "deviceCodeFlow"}
			case 2:
				conditions["insiderRiskLevels"] = "elevated"
			case 3:
				conditions["times"] = obj{"includedRanges": list{"all"}}
			case 4:
				conditions["unheardOf"] = obj{"inner": list{obj{"x": "y"}}}
			case 5:
				conditions["locations"] = obj{"includeLocations": list{"All"}, "excludeLocations": list{"AllTrusted"}}
			default:
				conditions["clientApplications"] = obj{"includeServicePrincipals": list{"s"}}
			}
		}
		grant := obj{"operator": "OR", "builtInControls": list{"mfa"}}
		if rnd.IntN(4) == 0 {
			grant = obj{"operator": "AND", "builtInControls": list{}, "authenticationStrength": obj{"id": "s", "requirementsSatisfied": "mfa"}}
		}
		written = append(written, obj{"displayName": fmt.Sprint("p", i), "state": map[bool]string{true: "enabled",
			false: pick(rnd, "disabled", "enabledForReportingButNotEnforced")}[p.on], "grantControls": grant,
			"conditions": with(conditions, obj{"applications": obj{"includeApplications": applications},
				"users": obj{"includeUsers": include, "excludeUsers": p.noUsers,
					"includeGroups": append(list{}, p.groups...), "excludeGroups": append(list{}, p.noGroups...), "includeRoles": p.roles,
					"excludeRoles": p.noRoles}})})
		policies = append(policies, p)
	}
	w.exports["conditionalAccess.json"] = reply("identity/conditionalAccess/policies", written)
	users := list{}
	for _, id := range ids {
		domain := pick(rnd, slices.Sorted(maps.Keys(age))...)
		name := id + "@" + domain
		u := obj{"id": id, "userPrincipalName": name, "accountEnabled": true, "userType": "Member", "passwordPolicies": nil,
			"onPremisesSyncEnabled": nil}
		want := map[string]string{"min-length": "8", "max-age": age[domain], "lockout-threshold": threshold}
		switch {
		case rnd.IntN(6) == 0:
			u["userType"] = "Guest"
			want = map[string]string{"min-length": "?", "max-age": "?", "lockout-threshold": "?"}
		case rnd.IntN(6) == 0:
			u["onPremisesSyncEnabled"] = true // its domain is not in the evidence
			want = map[string]string{"min-length": "?", "max-age": "?", "lockout-threshold": "?"}
		case age[domain] == "elsewhere":
			want = map[string]string{"min-length": "?", "max-age": "?", "lockout-threshold": "?"}
		case rnd.IntN(5) == 0:
			u["passwordPolicies"] = "DisablePasswordExpiration"
			want["max-age"] = "never"
		}
		asks := "no"
		if defaults { // others only where the service sees a reason
			asks = map[bool]string{true: "yes", false: "at times"}[has(held[globalAdministrator], id)]
		}
		for _, p := range policies {
			in := func(users, groups, roles list) bool {
				is := has(users, id)
				for _, g := range groups {
					is = is || has(inside[g.(string)], id)
				}
				for _, r := range roles {
					is = is || has(held[r.(string)], id)
				}
				return is
			}
			users := p.users
			if p.all {
				users = list{id}
			}
			switch {
			case !p.on || !in(users, p.groups, p.roles) || in(p.noUsers, p.noGroups, p.noRoles):
			case !p.open:
				asks = "yes"
			case asks != "yes":
				asks = "?"
			}
		}
		want[factor] = asks
		users, w.want[name] = append(users, u), want
	}
	paged(rnd, w.exports, "users", "users", users)
	return w
}

// globalAdministrator is the template of the role whose holders are always asked.
const globalAdministrator = "62e90394-69f5-4237-9190-012177145e10"

func with(a, b obj) obj {
	maps.Copy(a, b)
	return a
}

// providerWorld is an identity provider with prioritised policies.
func providerWorld(rnd *rand.Rand) *world {
	w := &world{exports: map[string]any{}, want: map[string]map[string]string{}}
	var ids []string
	kind := map[string]string{}
	users := list{}
	for i := range 3 + rnd.IntN(5) {
		id := fmt.Sprintf("u%d", i)
		ids = append(ids, id)
		kind[id] = pick(rnd, "OKTA", "OKTA", "OKTA", "OKTA", "IMPORT", "ACTIVE_DIRECTORY", "SOCIAL", "FEDERATION", "LDAP", "HARBOUR")
		users = append(users, obj{"id": id, "status": "ACTIVE", "profile": obj{"login": id + "@x.example"},
			"credentials": obj{"provider": obj{"type": kind[id], "name": "far.example"}}})
	}
	w.exports["users.json"] = users
	groups, members := list{obj{"id": "every", "type": "BUILT_IN", "objectClass": list{"g"}, "profile": obj{"name": "Everyone"}}},
		map[string]list{}
	for i := range 1 + rnd.IntN(3) {
		id := fmt.Sprintf("g%d", i)
		groups = append(groups, obj{"id": id, "type": "NATIVE", "objectClass": list{"g"}, "profile": obj{"name": id}})
		members[id] = some(rnd, ids)
		listed := list{}
		for _, m := range members[id] {
			listed = append(listed, obj{"id": m, "profile": obj{"login": m.(string) + "@x.example"}})
		}
		w.exports["members-"+id+".json"] = listed
	}
	w.exports["groups.json"] = groups
	type policy struct {
		groups, noGroups, noUsers list
		from                      string
		open                      bool
		length                    int
	}
	var policies []policy
	written := list{}
	all := slices.Sorted(maps.Keys(members))
	for i := range rnd.IntN(4) + 1 {
		p := policy{groups: some(rnd, all), noGroups: some(rnd, all), noUsers: some(rnd, ids),
			from: pick(rnd, "", "ANY", "OKTA", "OKTA", "ACTIVE_DIRECTORY", "LDAP"), open: rnd.IntN(6) == 0, length: 8 + i}
		last := rnd.IntN(4) == 0
		if last {
			p = policy{groups: list{"every"}, length: 8 + i}
		} else if len(p.groups) == 0 {
			p.groups = list{all[0]}
		}
		conditions := obj{"people": obj{"groups": obj{"include": p.groups, "exclude": append(list{}, p.noGroups...)},
			"users": obj{"include": list{}, "exclude": append(list{}, p.noUsers...)}}}
		if p.from != "" {
			conditions["authProvider"] = obj{"provider": p.from}
		}
		if p.open {
			conditions["network"] = obj{"connection": "ZONE"}
		}
		complexity := obj{"minLength": p.length, "excludeAttributes": list{"firstName"}}
		policy := obj{"type": "PASSWORD", "status": "ACTIVE", "name": fmt.Sprint("p", i), "priority": i + 1, "conditions": conditions,
			"description": "of the harbour", "settings": obj{"delegation": obj{"options": obj{"skipUnlock": true}},
				"password": obj{"complexity": complexity, "age": obj{"historyCount": i}, "lockout": obj{"maxAttempts": 5 + i}}}}
		if rnd.IntN(6) == 0 { // what no map knows
			p.open = true
			switch rnd.IntN(3) {
			case 0:
				complexity["expression"] = "password.length > 4"
			case 1:
				policy["tides"] = obj{"from": "high"}
			default:
				policy["settings"].(obj)["harbour"] = list{"on"}
			}
		}
		written = append(written, policy)
		policies = append(policies, p)
	}
	rnd.Shuffle(len(written), func(i, j int) { written[i], written[j] = written[j], written[i] })
	w.exports["policies.json"] = written
	for _, id := range ids {
		want := map[string]string{"min-length": "?", "lockout-threshold": "?", "history": "?"}
		if kind[id] == "OKTA" || kind[id] == "IMPORT" {
			for i, p := range policies {
				in, out := has(p.groups, "every"), has(p.noUsers, id)
				for _, g := range p.groups {
					in = in || has(members[g.(string)], id)
				}
				for _, g := range p.noGroups {
					out = out || has(members[g.(string)], id)
				}
				if !in || out || p.from == "ACTIVE_DIRECTORY" || p.from == "LDAP" {
					continue
				}
				if !p.open {
					want = map[string]string{"min-length": fmt.Sprint(p.length), "lockout-threshold": fmt.Sprint(5 + i), "history": fmt.Sprint(i)}
				}
				break
			}
		}
		w.want[id+"@x.example"] = want
	}
	return w
}

// suiteWorld is a workplace suite with units.
func suiteWorld(rnd *rand.Rand) *world {
	w := &world{exports: map[string]any{}, want: map[string]map[string]string{}}
	paths := []string{"/", "/a", "/a/b", "/a/b/c", "/d"}
	units := list{}
	for i, p := range paths {
		units = append(units, obj{"orgUnitId": fmt.Sprintf("id:%d", i), "orgUnitPath": p})
	}
	w.exports["orgunits.json"] = obj{"organizationUnits": units}
	type own struct {
		length int
		reuse  any
	}
	set := map[string]map[string]own{} // by type and path
	open := false                      // for whom a policy is, is not said in words that are known
	written := list{}
	for _, kind := range []string{"SYSTEM", "ADMIN"} {
		set[kind] = map[string]own{}
		for i, p := range paths {
			if rnd.IntN(3) > 0 && !(kind == "SYSTEM" && p == "/") || kind == "SYSTEM" && p != "/" {
				continue
			}
			o := own{8 + rnd.IntN(20), pick[any](rnd, nil, true, false)}
			set[kind][p] = o
			value := obj{"minimumLength": o.length}
			if o.reuse != nil {
				value["allowReuse"] = o.reuse
			}
			query := obj{"orgUnit": fmt.Sprintf("orgUnits/%d", i), "sortOrder": i,
				"query": fmt.Sprintf("entity.org_units.exists(org_unit, org_unit.org_unit_id == orgUnitId('%d'))", i)}
			if rnd.IntN(25) == 0 {
				open = true
				query["query"] = fmt.Sprint(query["query"], " && entity.licenses.exists(license, license in ['/product/9/sku/9'])")
			}
			written = append(written, obj{"type": kind, "policyQuery": query,
				"setting": obj{"type": "settings/security.password", "value": value}})
		}
	}
	rnd.Shuffle(len(written), func(i, j int) { written[i], written[j] = written[j], written[i] })
	w.exports["policies.json"] = obj{"policies": written}
	away := map[string]bool{} // units, by path
	ofGroup := false
	if rnd.IntN(2) == 0 {
		assigned := list{}
		for i, p := range paths {
			if rnd.IntN(3) == 0 {
				mode := pick(rnd, "SSO_OFF", "SAML_SSO", "OIDC_SSO", "DOMAIN_WIDE_SAML_IF_ENABLED", "TIDE_SSO")
				away[p] = mode != "SSO_OFF"
				assigned = append(assigned, obj{"name": fmt.Sprint("a", i), "customer": "c", "ssoMode": mode, "targetOrgUnit": fmt.Sprintf("orgUnits/%d", i)})
			}
		}
		if ofGroup = rnd.IntN(5) == 0; ofGroup {
			assigned = append(assigned, obj{"name": "g", "ssoMode": "SAML_SSO", "targetGroup": "groups/7", "rank": 1})
		}
		w.exports["inboundSsoAssignments.json"] = obj{"inboundSsoAssignments": assigned}
	}
	users := list{}
	for i := range 3 + rnd.IntN(5) {
		unit, name := pick(rnd, paths...), fmt.Sprintf("u%d@x.example", i)
		enforced := rnd.IntN(2) == 0
		users = append(users, obj{"id": fmt.Sprint(i), "primaryEmail": name, "orgUnitPath": unit, "isEnrolledIn2Sv": true,
			"isEnforcedIn2Sv": enforced})
		want := map[string]string{"min-length": "8", "history": "1", "max-age": "never",
			factor: map[bool]string{true: "yes", false: "no"}[enforced]}
		for _, above := range paths { // from the root down
			if above != "/" && above != unit && !strings.HasPrefix(unit, above+"/") {
				continue
			}
			for _, kind := range []string{"SYSTEM", "ADMIN"} {
				if o, ok := set[kind][above]; ok {
					want["min-length"] = fmt.Sprint(o.length)
					if o.reuse != nil {
						want["history"] = map[any]string{true: "0", false: "1"}[o.reuse]
					}
				}
			}
		}
		elsewhere := false
		for _, above := range paths {
			if to, ok := away[above]; ok && (above == "/" || above == unit || strings.HasPrefix(unit, above+"/")) {
				elsewhere = to
			}
		}
		if open || ofGroup || elsewhere { // a group's assignment is one to another place
			want["min-length"], want["history"], want["max-age"] = "?", "?", "?"
		}
		w.want[name] = want
	}
	w.exports["users.json"] = obj{"users": users}
	return w
}

// infraWorld is an account of an infrastructure cloud.
func infraWorld(rnd *rand.Rand) *world {
	w := &world{exports: map[string]any{}, want: map[string]map[string]string{}}
	want := map[string]string{"min-length": "8", "max-age": "never", "history": "0"}
	if rnd.IntN(3) == 0 {
		w.exports["policy.txt"] = "\nAn error occurred (NoSuchEntity) when calling the GetAccountPasswordPolicy operation: The " +
			"Password Policy with domain name 000000000009 cannot be found.\n"
	} else {
		length, expires := 6+rnd.IntN(20), rnd.IntN(2) == 0
		policy := obj{"MinimumPasswordLength": length, "RequireSymbols": true, "RequireNumbers": true, "ExpirePasswords": expires}
		want["min-length"] = fmt.Sprint(length)
		if expires {
			policy["MaxPasswordAge"], want["max-age"] = 90, fmt.Sprint(90*86400)
		}
		if rnd.IntN(2) == 0 {
			policy["PasswordReusePrevention"], want["history"] = 5, "5"
		}
		w.exports["policy.json"] = obj{"PasswordPolicy": policy}
	}
	text := "user,arn,password_enabled,mfa_active\n<root_account>,arn:aws:iam::000000000009:root,not_supported,true\n"
	w.want["<root_account>"] = map[string]string{"min-length": "8", "max-age": "never", "history": "0", factor: "yes"}
	for i := range 1 + rnd.IntN(4) {
		keysOnly, device := rnd.IntN(3) == 0, rnd.IntN(2) == 0
		text += fmt.Sprintf("u%d,arn:aws:iam::000000000009:user/u%d,%v,%v\n", i, i, !keysOnly, device)
		if !keysOnly {
			one := maps.Clone(want)
			one[factor] = map[bool]string{true: "yes", false: "no"}[device]
			w.want[fmt.Sprintf("u%d", i)] = one
		}
	}
	w.exports["credentials.csv"] = text
	return w
}
