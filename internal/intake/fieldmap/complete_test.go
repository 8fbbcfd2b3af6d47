package fieldmap

import (
	"encoding/json"
	"io/fs"
	"maps"
	"math/rand/v2"
	"path"
	"regexp"
	"slices"
	"strings"
	"testing"

	"sternledger/demo"
)

// of no matter are the places of an export where a member that no map knows changes nothing, and why.
var noMatter = []struct{ file, at, why string }{
	{"tide-realm/realm", "^$", "of a realm: each setting is a field, and a word of its policy that is not known only asks for more"},
	{"", "^$", "beside a list: about the reply, and not about what is in it"},
	{"ferry-pool/userPool", `^\.UserPool$`, "of the pool: its policies are an object of their own"},
	{"ferry-pool/users", `^\.Users$`, "of an account: what governs it stands in fields that the map names"},
	{"helm/groups", `^\.profile$`, "of a group: who is in it is a list of its own"},
	{"helm/members", `^\.(?:profile|credentials(?:\.provider)?)$`, "of a member: only who it is counts"},
	{"helm/users", `^\.(?:profile|credentials(?:\.provider)?)$`, "of an account: what governs it stands in fields that the map names"},
	{"office/conditionalAccess", `authenticationFlows$`, "of a condition that leaves the rule open already"},
	{"office/domains", `^\.value$`, "of a domain: each setting is a field, and the list is the service's own"},
	{"office/groupSettings", `^\.value(?:\.values)?$`, "rows of a name and a value: each is a setting by itself"},
	{"office/groups", `^\.value(?:\.members)?$`, "of a group and its members: only who they are counts"},
	{"office/onPremises", `^\.value(?:\.features)?$`, "switches: each is a setting by itself"},
	{"office/userRegistration", `^\.value$`, "of an account: registering asks nobody for anything"},
	{"office/users", `^\.value$`, "of an account: what governs it stands in fields that the map names"},
	{"papers/orgunits", `^\.organizationUnits$`, "of a unit: only its place counts"},
	{"papers/users", `^\.users$`, "of an account: what governs it stands in fields that the map names"},
	{"tide-realm/realm", `^\.users$`, "of an account: what governs it stands in fields that the map names"},
}

// A member that is not known, in any object of any export, leaves open what that object decides;
// or it stands at a place where it does not matter, with a reason.
func TestUnknownMembers(t *testing.T) {
	all := map[string]map[string]any{} // exports by folder and file
	if err := fs.WalkDir(demo.Files, "exports", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || path.Ext(name) != ".json" && path.Ext(name) != ".csv" {
			return err
		}
		data, err := fs.ReadFile(demo.Files, name)
		if err != nil {
			return err
		}
		dir := path.Dir(name)
		if all[dir] == nil {
			all[dir] = map[string]any{}
		}
		var v any = string(data)
		if path.Ext(name) == ".json" {
			if err := json.Unmarshal(data, &v); err != nil {
				return err
			}
		}
		all[dir][path.Base(name)] = v
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	used := make([]bool, len(noMatter))
	for dir, exports := range all {
		for file, v := range exports {
			if text, ok := v.(string); ok && !Format(shipped(t)).Claims("folder/"+file, reads(text)) {
				delete(exports, file)
			}
		}
		if path.Base(dir) == "papers" { // not all of which is exported: little can become open
			exports = suiteWorld(rand.New(rand.NewPCG(14, 6))).exports
		}
		before := answers(t, exports, nil)
		if len(before) == 0 {
			continue
		}
		for _, file := range slices.Sorted(maps.Keys(exports)) {
			for at, objects := range objectsOf(exports[file], "") {
				for _, o := range objects {
					o["tides"] = "high"
				}
				after := answers(t, exports, nil)
				for _, o := range objects {
					delete(o, "tides")
				}
				opens := !maps.EqualFunc(before, after, func(x, y map[string]string) bool { return maps.Equal(x, y) })
				row := slices.IndexFunc(noMatter, func(n struct{ file, at, why string }) bool {
					return strings.HasPrefix(path.Base(dir)+"/"+file, n.file) && regexp.MustCompile(n.at).MatchString(at)
				})
				switch {
				case row >= 0:
					used[row] = true
				case !opens:
					t.Errorf("%s/%s: a member that is not known changes nothing at %q", path.Base(dir), file, at)
				}
			}
		}
	}
	if i := slices.Index(used, false); i >= 0 {
		t.Errorf("nothing is at %s %s", noMatter[i].file, noMatter[i].at)
	}
}

// objectsOf are the objects of a document by their places, the numbers of lists left out.
func objectsOf(v any, at string) map[string][]obj {
	all := map[string][]obj{}
	var walk func(v any, at string)
	walk = func(v any, at string) {
		switch v := v.(type) {
		case obj:
			all[at] = append(all[at], v)
			for key, inner := range v {
				walk(inner, at+"."+key)
			}
		case list:
			for _, inner := range v {
				walk(inner, at)
			}
		}
	}
	walk(v, at)
	return all
}
