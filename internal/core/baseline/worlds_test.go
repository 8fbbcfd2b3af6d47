package baseline_test

import (
	"fmt"
	"strings"
	"testing"

	"sternledger/internal/core/baseline"
	"sternledger/internal/core/landtest"
	"sternledger/internal/core/setting"
	"sternledger/internal/worldtest"
)

// TestWorlds plays testdata/worlds.txt: baselines (see landtest), laid together, and beside
// them
//
//	now SETTING=VALUE…                  which ways are taken from there
//	nows N                              the same for N places at random
//	met SETTING VALUE…                  whether values meet each demand on it
func TestWorlds(t *testing.T) {
	worldtest.Play(t, "worlds.txt", func(t *testing.T, lines []string) (said []string) {
		all, short := landtest.Against(t, lines)
		var rest []string
		for _, line := range short {
			n := 0
			if _, err := fmt.Sscanf(line, "nows %d", &n); err != nil {
				rest = append(rest, line)
			}
			for i := range n {
				rest = append(rest, "now "+strings.Join(landtest.Now(uint64(i)), " "))
			}
		}
		for _, r := range baseline.Reconcile(all) {
			line := fmt.Sprintf("%s %s: %s", r.Setting, r.Case, r.Text())
			for _, pair := range r.Exclude {
				line += fmt.Sprintf("; %s excludes %s", pair[0], pair[1])
			}
			said = append(said, line)
		}
		value := func(id, text string) setting.Value {
			v, err := setting.Get(setting.ID(id)).Parse(strings.ReplaceAll(text, "_", " "))
			if err != nil {
				t.Fatal(err)
			}
			return v
		}
		for _, line := range rest {
			words := strings.Fields(line)
			switch words[0] {
			case "now":
				now := map[setting.ID]setting.Value{}
				for _, w := range words[1:] {
					id, text, _ := strings.Cut(w, "=")
					now[setting.ID(id)] = value(id, text)
				}
				for _, r := range baseline.Reconcile(all) {
					taken := baseline.Take(r.Setting, r.Demands, func(id setting.ID) setting.Value { return now[id] })
					band, _ := baseline.Together(r.Setting, taken.Demands)
					text := fmt.Sprintf("%s: %s on %s: %s", line, r.Case, r.Setting, band.Text())
					for _, n := range taken.Beside {
						text += "; beside it " + string(n.Demand.Setting) + " " + n.Demand.Condition.Text()
					}
					if !band.Empty() {
						text += fmt.Sprintf("; nearest %s", setting.Get(r.Setting).Text(band.Nearest(now[r.Setting])))
					}
					said = append(said, text)
				}
			case "met":
				for _, b := range all {
					for i := range b.Demands {
						d := &b.Demands[i]
						if string(d.Setting) != words[1] || d.Ways != nil {
							continue
						}
						text := fmt.Sprintf("%s %s by", b.ID, d.Text())
						for _, w := range words[2:] {
							if d.Met(value(words[1], w)) {
								text += " " + w
							}
						}
						said = append(said, text)
					}
				}
			default:
				t.Fatal(line)
			}
		}
		return said
	})
}

// TestFiles plays testdata/files.txt: baselines as they are written, "---" between several of
// which later ones may extend the first; refused with an error, or told.
func TestFiles(t *testing.T) {
	worldtest.Play(t, "files.txt", func(t *testing.T, lines []string) (said []string) {
		texts := map[string]string{}
		for _, text := range strings.Split(strings.Join(lines, "\n")+"\n", "---\n") {
			id, _, _ := strings.Cut(strings.TrimPrefix(text, "id: "), "\n")
			texts[id] = text
			b, err := baseline.Resolve(id, func(id string) (*baseline.Baseline, error) {
				if text, ok := texts[id]; ok {
					return baseline.Parse("b.yaml", []byte(text))
				}
				return nil, fmt.Errorf("no baseline %q", id)
			})
			if err != nil {
				said = append(said, err.Error())
				continue
			}
			said = append(said, fmt.Sprintf("%s for %v %v, systems %v, sources %v", b, b.Platforms, b.Tiers, b.Systems, b.Sources))
			for i := range b.Demands {
				d := &b.Demands[i]
				said = append(said, fmt.Sprintf("  %s: %s (%s) ref %q on %v %v %s; from %q, was %q", d.Setting, d.Text(), d.Severity, d.Ref,
					d.Platforms, d.Tiers, d.Factor, d.From, d.Was))
			}
		}
		return said
	})
}
