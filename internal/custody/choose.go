package custody

import (
	"bytes"
	"fmt"
	"os"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"sternledger/internal/contract"
	"sternledger/internal/core/baseline"
	"sternledger/internal/core/check"
	"sternledger/internal/core/estate"
	"sternledger/internal/core/govern"
	"sternledger/internal/core/setting"
	"sternledger/internal/core/strictyaml"
)

// Fitting are the shipped baselines that fit the places of a platform.
type Fitting struct {
	Platform  setting.Platform
	Places    int
	Chosen    []string
	NotChosen []string
}

// Fitting finds the baselines that fit places, by platform, and the places that none covers which
// the engagement chooses for them.
func (e *Engagement) Fitting(places []*estate.Authority) (all []Fitting, unweighed []check.Unweighed, err error) {
	fitting, err := Covering()
	if err != nil {
		return nil, nil, err
	}
	read := map[string]*baseline.Baseline{}
	by := map[setting.Platform]int{}
	for _, a := range places {
		ids, under := map[string]bool{}, map[string]bool{}
		covered := false
		for _, tier := range []string{govern.Standard, govern.Privileged, govern.Service} {
			for _, id := range e.BaselinesFor(a.Place(), tier, WeighOptions{}) {
				if read[id] == nil {
					if read[id], err = e.Baselines().Get(id); err != nil {
						return nil, nil, err
					}
				}
				ids[id], under[read[id].Extends] = true, true
				covered = covered || Covers(read[id], a.Platform, tier)
			}
		}
		if !covered {
			unweighed = append(unweighed, check.Unweighed{Authority: a, Fitting: fitting(a)})
		}
		n, ok := by[a.Platform]
		if !ok {
			n = len(all)
			by[a.Platform], all = n, append(all, Fitting{Platform: a.Platform})
		}
		f := &all[n]
		f.Places++
		for _, id := range fitting(a) {
			switch {
			case !ids[id] && under[id]: // chosen with what extends it
			case ids[id] && !slices.Contains(f.Chosen, id):
				f.Chosen = append(f.Chosen, id)
				f.NotChosen = slices.DeleteFunc(f.NotChosen, func(x string) bool { return x == id })
			case !ids[id] && !slices.Contains(f.Chosen, id) && !slices.Contains(f.NotChosen, id):
				f.NotChosen = append(f.NotChosen, id)
			}
		}
	}
	return all, unweighed, nil
}

// Choose writes the baselines for every place without a choice of its own into engagement.yaml.
// Everything else in it stays as it is, comments too; nothing is written where it would not.
func (e *Engagement) Choose(ids []string) error {
	for _, id := range ids {
		if _, err := e.Baselines().Get(id); err != nil {
			return err
		}
	}
	file := e.Folder.Path(ConfigName)
	text, err := withBaselines(e.Config.Text, ids)
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	c, err := parseConfig(file, []byte(text))
	if err != nil {
		return err
	}
	if err := c.check(file, e.Baselines()); err != nil {
		return fmt.Errorf("%w; nothing was written", err)
	}
	info, err := e.Folder.Stat(ConfigName)
	if err != nil {
		return err
	}
	now, err := e.Folder.ReadFile(ConfigName, mostConfig)
	if err != nil {
		return err
	}
	if !bytes.Equal(now, []byte(e.Config.Text)) {
		return fmt.Errorf("%s: somebody changed it meanwhile; nothing was written, try again", file)
	}
	if err := e.Folder.Replace(ConfigName, []byte(text), info.Mode()&os.ModePerm); err != nil {
		return fmt.Errorf("%s: %w", file, Cause(err))
	}
	e.Config = c
	return nil
}

var (
	baselinesKey = regexp.MustCompile(`^baselines[ \t]*:`)
	belongsToKey = regexp.MustCompile(`^(?:[ \t]+\S|- |-$|[\]}])`)
	remark       = regexp.MustCompile(`(?:^|\s)(#.*)$`)
)

// withBaselines returns a configuration with other baselines. What was remarked within the list is
// kept above it.
func withBaselines(text string, ids []string) (string, error) {
	written := "baselines: [" + strings.Join(ids, ", ") + "]"
	lines := strings.SplitAfter(text, "\n")
	at := slices.IndexFunc(lines, func(line string) bool { return baselinesKey.MatchString(line) })
	if at < 0 {
		if text != "" && !strings.HasSuffix(text, "\n") {
			text += "\n"
		}
		text += written + "\n"
	} else {
		end := at + 1
		for end < len(lines) && belongsToKey.MatchString(lines[end]) {
			end++
		}
		ending := lines[at][len(strings.TrimRight(lines[at], "\r\n")):]
		var with strings.Builder
		for _, line := range lines[at:end] {
			if m := remark.FindStringSubmatch(strings.TrimRight(line, "\r\n")); m != nil {
				with.WriteString(m[1] + ending)
			}
		}
		text = strings.Join(lines[:at], "") + with.String() + written + ending + strings.Join(lines[end:], "")
	}
	return text, sameBut(lines, text, ids)
}

// sameBut reports whether a configuration says what another one does, but for its baselines.
func sameBut(before []string, after string, ids []string) error {
	var x, y map[string]any
	if err := yaml.Unmarshal([]byte(strings.Join(before, "")), &x); err != nil {
		return err
	}
	if err := yaml.Unmarshal([]byte(after), &y); err != nil {
		return fmt.Errorf("baselines: cannot be changed where it stands: %w; write [%s] there", err, strings.Join(ids, ", "))
	}
	delete(x, "baselines")
	delete(y, "baselines")
	if len(x)+len(y) > 0 && !reflect.DeepEqual(x, y) {
		return fmt.Errorf("baselines: cannot be changed without changing what stands beside it; write [%s] there", strings.Join(ids, ", "))
	}
	return nil
}

// Named are the baselines for every place without a choice of its own.
func (c *Config) Named() []string { return texts(c.Baselines) }

func texts(all []strictyaml.Text) (values []string) {
	for _, t := range all {
		values = append(values, t.Value)
	}
	return values
}

// Choosing is the document of what is chosen, and of what fits the places in evidence.
func (e *Engagement) Choosing(before []string) (*contract.ChoosingDocument, error) {
	facts, err := e.Estate()
	if err != nil {
		return nil, err
	}
	fits, _, err := e.Fitting(facts.Authorities)
	if err != nil {
		return nil, err
	}
	d := &contract.ChoosingDocument{Schema: "sternledger/baseline-choose/1", Chosen: append([]string{}, e.Config.Named()...),
		Before: append([]string{}, before...), Platforms: []contract.ChoosingRow{}}
	for _, f := range fits {
		d.Platforms = append(d.Platforms, contract.ChoosingRow{Platform: f.Platform, Places: f.Places, Chosen: append([]string{}, f.Chosen...),
			Fitting: append([]string{}, f.NotChosen...)})
	}
	return d, nil
}
