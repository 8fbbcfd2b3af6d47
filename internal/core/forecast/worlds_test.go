package forecast

import (
	"cmp"
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"testing"

	"sternledger/internal/core/setting"
	"sternledger/internal/worldtest"
)

// TestWorlds plays testdata/worlds.txt: what settings come to on a platform, for 100 accounts.
//
//	on PLATFORM SETTING=VALUE|VALUE… …   each of the values with each of the others; "_" is a blank
func TestWorlds(t *testing.T) {
	worldtest.Play(t, "worlds.txt", func(t *testing.T, lines []string) (said []string) {
		for _, line := range lines {
			f := strings.Fields(line)
			for _, words := range each(f[2:]) {
				policy := map[setting.ID]setting.Value{}
				for _, w := range words {
					id, text, _ := strings.Cut(w, "=")
					v, err := setting.Get(setting.ID(id)).Parse(strings.ReplaceAll(text, "_", " "))
					if err != nil {
						t.Fatal(err)
					}
					policy[setting.ID(id)] = v
				}
				fc := Of(setting.Platform(f[1]), func(id setting.ID) setting.Value { return policy[id] }, Usual)
				said = append(said, f[1]+" "+strings.Join(words, " ")+": "+written(t, fc.Lockout))
				for _, g := range fc.Guesses {
					said = append(said, "  "+written(t, g))
				}
				scope := fc.For(100, Usual)
				fc.Guesses, fc.Lockout = nil, Lockout{}
				said = append(said, "  "+written(t, fc), "  "+written(t, scope))
			}
		}
		return said
	})
}

// each takes one of the values of each setting, in every way.
func each(words []string) [][]string {
	if len(words) == 0 {
		return [][]string{nil}
	}
	id, values, _ := strings.Cut(words[0], "=")
	var all [][]string
	for _, v := range strings.Split(values, "|") {
		for _, rest := range each(words[1:]) {
			all = append(all, append([]string{fmt.Sprintf("%s=%s", id, v)}, rest...))
		}
	}
	return all
}

// nothing is what a field without a value says.
var nothing = regexp.MustCompile(`[A-Za-z]+:(null|false)(,|$)|Seconds:\d+,|Lockout:`)

func written(t *testing.T, v any) string {
	t.Helper()
	data, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return cmp.Or(strings.TrimRight(nothing.ReplaceAllString(strings.NewReplacer(`"`, "", "{", "", "}", "").Replace(string(data)),
		""), ","), "-")
}
